//! Scattering at a surface point: glTF metallic-roughness with its layers. From the top: a clear coat; sheen; a GGX layer;
//! below it a matte base, or glass, solid and refracting (rough dielectric of Walter et al. 2007) or an infinitely thin
//! sheet. All lobes are reciprocal, and layers let through exactly what they do not reflect.
//!
//! Lobes are grouped by kind (diffuse, reflection, transmission), which depth limits and splits count. A direction is
//! drawn within a kind; densities are per solid angle and belong to the mixture of the kind's lobes.

use crate::energy::{self, Glass, Layer, Look};
use crate::{fresnel, ggx};
use glam::{Mat3, Vec2, Vec3};
use std::f32::consts::{FRAC_1_PI, TAU};

/// Below this microfacet width a lobe is a perfect mirror or window.
const SMOOTH: f32 = 1e-3;

/// The kinds of scattering that depth limits count.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    Diffuse,
    Reflection,
    Transmission,
}

pub const SURFACE_KINDS: [Kind; 3] = [Kind::Diffuse, Kind::Reflection, Kind::Transmission];

/// Kinds that have not reached their depth limit, in the order of [`Kind`].
pub type Allowed = [bool; 3];

/// A drawn direction.
#[derive(Debug, Clone, Copy)]
pub struct Scatter {
    /// World space, unit length.
    pub direction: Vec3,
    /// f·|cos| ÷ chance within the kind, for a perfect mirror or window; others are evaluated.
    pub singular: Option<Vec3>,
}

/// Value and density by kind for one direction.
#[derive(Debug, Clone, Copy, Default)]
pub struct Eval {
    /// f·|cos|.
    pub f: [Vec3; 3],
    /// Density within the kind.
    pub pdf: [f32; 3],
}

/// The layer of clear coat, in its own frame.
struct Coating {
    frame: Mat3,
    wo: Vec3,
    strength: f32,
    alpha: f32,
    layer: Layer,
    look: Look,
}

struct Fuzz {
    colour: Vec3,
    roughness: f32,
    /// Largest share of the light that it takes from what lies below, seen from `wo`.
    taken: f32,
}

/// Chances of the lobes within reflection.
#[derive(Default)]
struct Reflecting {
    coat: f32,
    layer: f32,
    /// Of the layer and of glass: light that bounced more than once between microfacets.
    broad: f32,
    glass: f32,
}

/// Everything about a surface point that scattering needs. The local frame's Z lies on the side of `wo`.
pub struct Bsdf<'a> {
    frame: Mat3,
    wo: Vec3,
    /// Geometric normal on the side of `wo`, local.
    geometric: Vec3,
    /// Reflectance of the matte base, without the transmitted share.
    diffuse: Vec3,
    f0: Vec3,
    f90: f32,
    roughness: f32,
    layer: Layer,
    look: Look,
    /// The part of the layer that lies over the matte base.
    over_base: Layer,
    look_base: Look,
    mixed: bool,
    alpha: Vec2,
    /// Share of the surface that is glass.
    glass: f32,
    solid: bool,
    /// Index on the far side ÷ index on the side of `wo`.
    eta: f32,
    /// 0 outside, 1 inside.
    side: usize,
    lost: Option<&'a Glass>,
    tint: Vec3,
    coat: Option<Coating>,
    fuzz: Option<Fuzz>,
    allowed: Allowed,
    reflecting: Reflecting,
    /// Chance of the broad lobe within transmission.
    broad_through: f32,
    /// Reflectance by kind for `wo`, for choosing between them; 0 where not allowed.
    pub weights: [f32; 3],
}

/// Inputs of [`Bsdf::new`].
#[derive(Debug, Clone)]
pub struct Surface {
    pub base: Vec3,
    pub metallic: f32,
    pub roughness: f32,
    pub ior: f32,
    pub specular: f32,
    pub specular_colour: Vec3,
    pub transmission: f32,
    pub solid: bool,
    /// The ray comes from outside a solid.
    pub outside: bool,
    /// Direction of the wider highlight in the plane of the surface, with its strength; zero for none.
    pub stretch: Vec3,
    /// Strength, roughness and normal of a clear coat.
    pub coat: Option<(f32, f32, Vec3)>,
    /// Colour and roughness of sheen.
    pub sheen: Option<(Vec3, f32)>,
}

/// A direction of the upper half space with density cos/π.
pub fn cosine_weighted(u: Vec2) -> Vec3 {
    let (r, phi) = (u.x.sqrt(), TAU * u.y);
    let (sin, cos) = phi.sin_cos();
    Vec3::new(r * cos, r * sin, (1.0 - u.x).max(0.0).sqrt())
}

fn grey(c: Vec3) -> f32 {
    c.dot(Vec3::splat(1.0 / 3.0))
}

fn frame_of(normal: Vec3) -> Mat3 {
    let (t, b) = normal.any_orthonormal_pair();
    Mat3::from_cols(t, b, normal)
}

impl<'a> Bsdf<'a> {
    /// `normal` and `geometric` are world space and on the side of `wo`; `lost` is the table of rough glass.
    pub fn new(
        s: &Surface,
        lost: Option<&'a Glass>,
        wo: Vec3,
        normal: Vec3,
        geometric: Vec3,
        allowed: Allowed,
    ) -> Bsdf<'a> {
        let mut alpha = Vec2::splat(s.roughness * s.roughness);
        let strength = s.stretch.length();
        let along = (s.stretch - normal * normal.dot(s.stretch)).normalize_or_zero();
        let frame = if strength > 0.0 && along != Vec3::ZERO {
            alpha.x += (1.0 - alpha.x) * (strength * strength).min(1.0);
            alpha = alpha.max(Vec2::splat(2.0 * SMOOTH));
            Mat3::from_cols(along, normal.cross(along), normal)
        } else {
            frame_of(normal)
        };
        let local = frame.transpose();
        let wo_local = local * wo;
        let r0 = ((s.ior - 1.0) / (s.ior + 1.0)).powi(2);
        let f0_dielectric = (s.specular_colour * r0).min(Vec3::ONE) * s.specular;
        let f0 = f0_dielectric.lerp(s.base, s.metallic);
        let f90 = s.specular + (1.0 - s.specular) * s.metallic;
        let roughness = (alpha.x * alpha.y).sqrt().sqrt();
        // glTF 2.0, appendix B: metal and dielectric lie side by side, and only the dielectric has a matte base.
        let over_base = Layer::new(f0_dielectric, s.specular, roughness);
        let layer = match s.metallic {
            0.0 => over_base,
            1.0 => Layer::new(s.base, 1.0, roughness),
            share => over_base.beside(&Layer::new(s.base, 1.0, roughness), share),
        };
        let look = layer.look(wo_local.z);
        let look_base = if s.metallic > 0.0 { over_base.look(wo_local.z) } else { look };
        let glass = s.transmission * (1.0 - s.metallic);
        let mut b = Bsdf {
            frame,
            wo: wo_local,
            geometric: local * geometric,
            diffuse: s.base * ((1.0 - s.metallic) * (1.0 - s.transmission)),
            f0,
            f90,
            roughness,
            layer,
            look,
            over_base,
            look_base,
            mixed: s.metallic > 0.0,
            alpha,
            glass,
            solid: s.solid,
            eta: if s.outside || !s.solid { s.ior } else { 1.0 / s.ior },
            side: (s.solid && !s.outside) as usize,
            lost,
            tint: s.base,
            coat: None,
            fuzz: None,
            allowed,
            reflecting: Reflecting::default(),
            broad_through: 0.0,
            weights: [0.0; 3],
        };
        // What the upper layers leave for the lower ones.
        let mut left = 1.0;
        let mut of_coat = 0.0;
        if let Some((strength, roughness, n)) = s.coat.filter(|c| c.0 > 0.0) {
            let frame = frame_of(n);
            let wo = frame.transpose() * wo;
            if wo.z > 0.0 {
                let layer = Layer::new(Vec3::splat(0.04), 1.0, roughness);
                let look = layer.look(wo.z);
                of_coat = strength * look.albedo.x;
                left -= of_coat;
                b.coat = Some(Coating { frame, wo, strength, alpha: roughness * roughness, layer, look });
            }
        }
        let mut of_fuzz = 0.0;
        if let Some((colour, roughness)) = s.sheen.filter(|f| f.0.max_element() > 0.0) {
            let albedo = energy::sheen_albedo(wo_local.z, roughness);
            let taken = colour.max_element() * albedo;
            of_fuzz = grey(colour) * albedo * left;
            left *= 1.0 - taken;
            b.fuzz = Some(Fuzz { colour, roughness, taken });
        }
        let opaque = 1.0 - glass;
        let of_layer = grey(look.albedo) * opaque * left;
        let of_diffuse = grey(b.diffuse * (Vec3::ONE - look_base.albedo).max(Vec3::ZERO)) * left;
        let mirrored = if glass > 0.0 { b.fresnel(wo_local.z.max(0.05)) } else { 1.0 };
        // Microfacets of rough glass lean, so that some of them mirror and some let through at any angle.
        let mirrored = if b.smooth() { mirrored } else { mirrored.clamp(0.1, 0.9) };
        let of_glass = glass * mirrored * left;
        let through = glass * (1.0 - mirrored) * left * grey(b.tint).max(0.05);
        if allowed[0] {
            b.weights[0] = of_diffuse + of_fuzz;
        }
        if allowed[1] {
            b.weights[1] = of_coat + of_layer + of_glass;
            let total = b.weights[1];
            if total > 0.0 {
                let rough = !b.smooth();
                let of_broad =
                    if rough { of_layer * layer.multiple_share(&look) + glass * b.glass_missing() * left } else { 0.0 };
                b.reflecting = Reflecting { coat: of_coat, layer: of_layer, broad: of_broad, glass: of_glass };
                let sum = of_coat + of_layer + of_broad + of_glass;
                let r = &mut b.reflecting;
                (r.coat, r.layer, r.broad, r.glass) = (r.coat / sum, r.layer / sum, r.broad / sum, r.glass / sum);
            }
        }
        if allowed[2] && glass > 0.0 {
            b.weights[2] = through;
            b.broad_through = if b.smooth() { 0.0 } else { b.glass_missing() };
        }
        b
    }

    fn smooth(&self) -> bool {
        self.alpha.x < SMOOTH
    }

    /// Light reflected back and forth inside a thin sheet adds up to 2F/(1+F).
    fn thin_or_solid(&self, f: f32) -> f32 {
        if self.solid { f } else { 2.0 * f / (1.0 + f) }
    }

    fn fresnel(&self, cos: f32) -> f32 {
        self.thin_or_solid(fresnel::dielectric(cos, self.eta))
    }

    /// Light of `wo` that glass loses between microfacets.
    fn glass_missing(&self) -> f32 {
        match self.lost {
            Some(g) if self.solid => g.missing(self.side, self.wo.z, self.roughness),
            _ => 1.0 - self.look.white,
        }
    }

    /// Nothing can be evaluated for a given direction: only perfect mirrors and windows, or nothing at all.
    pub fn only_singular(&self) -> bool {
        let coat = self.coat.as_ref().is_none_or(|c| c.alpha < SMOOTH) || !self.allowed[1];
        self.weights[0] == 0.0 && coat && (self.smooth() || (self.weights[1] == 0.0 && self.weights[2] == 0.0))
    }

    /// First-hit reflectance for the guides.
    pub fn guide_albedo(&self) -> Vec3 {
        let opaque = self.diffuse + self.look.albedo * (1.0 - self.glass);
        let fuzz = self.fuzz.as_ref().map_or(Vec3::ZERO, |f| f.colour * 0.5);
        (opaque + fuzz + Vec3::splat(self.glass)).clamp(Vec3::ZERO, Vec3::ONE)
    }

    /// f·|cos| and density for a world direction, by kind.
    pub fn eval(&self, direction: Vec3) -> Eval {
        let wi = self.frame.transpose() * direction;
        let above = wi.dot(self.geometric) > 0.0;
        let mut e = Eval::default();
        if wi.z > 0.0 && above {
            self.eval_above(wi, direction, &mut e);
        } else if wi.z < 0.0 && !above && self.weights[2] > 0.0 && !self.smooth() {
            self.eval_below(wi, &mut e);
        }
        e
    }

    fn eval_above(&self, wi: Vec3, direction: Vec3, e: &mut Eval) {
        let even = wi.z * FRAC_1_PI;
        // What coat and sheen leave of the light for the layers below, for matte and for other lobes.
        let (mut matte, mut left) = (Vec3::ONE, Vec3::ONE);
        if let Some(c) = &self.coat {
            let wi_c = c.frame.transpose() * direction;
            if wi_c.z > 0.0 {
                let look = c.layer.look(wi_c.z);
                let both = (1.0 - c.strength * c.look.albedo.x) * (1.0 - c.strength * look.albedo.x);
                left *= both;
                matte *= both / (1.0 - c.strength * c.layer.mean().x);
                if self.allowed[1] && c.alpha >= SMOOTH {
                    let (f, drawn) = glossy(c.wo, wi_c, Vec2::splat(c.alpha));
                    let cos = c.wo.dot((c.wo + wi_c).normalize_or(Vec3::Z)).max(0.0);
                    e.f[1] += c.strength * (fresnel::schlick(Vec3::splat(0.04), 1.0, cos) * f);
                    e.f[1] += c.strength * c.layer.multiple_lobe(&c.look, &look) * (wi_c.z * FRAC_1_PI);
                    e.pdf[1] += self.reflecting.coat * drawn;
                }
            }
        }
        if let Some(f) = &self.fuzz {
            if self.allowed[0] {
                e.f[0] += f.colour * left * (energy::sheen(self.wo, wi, f.roughness) * wi.z);
            }
            let other = f.colour.max_element() * energy::sheen_albedo(wi.z, f.roughness);
            let rest = 1.0 - f.taken.max(other);
            left *= rest;
            matte *= rest;
        }
        let look = self.layer.look(wi.z);
        if self.weights[0] > 0.0 {
            let look_base = if self.mixed { self.over_base.look(wi.z) } else { look };
            e.f[0] += self.diffuse * self.over_base.through(&self.look_base, &look_base) * matte * even;
            e.pdf[0] = even;
        }
        if self.allowed[1] && !self.smooth() && self.reflecting.layer + self.reflecting.glass > 0.0 {
            let (shape, drawn) = glossy(self.wo, wi, self.alpha);
            let cos = self.wo.dot((self.wo + wi).normalize_or(Vec3::Z)).max(0.0);
            let layer =
                fresnel::schlick(self.f0, self.f90, cos) * shape + self.layer.multiple_lobe(&self.look, &look) * even;
            e.f[1] += layer * left * (1.0 - self.glass);
            e.pdf[1] += (self.reflecting.layer + self.reflecting.glass) * drawn + self.reflecting.broad * even;
            if self.glass > 0.0 {
                let back = self.fresnel(cos) * shape + self.glass_broad(wi, false) * even;
                e.f[1] += left * (self.glass * back);
            }
        }
    }

    /// π times the lobe of glass for light that bounced more than once, before the change of radiance at the boundary.
    fn glass_broad(&self, wi: Vec3, through: bool) -> f32 {
        match self.lost {
            Some(g) if self.solid => {
                let r = self.roughness;
                let passing = g.share_passing(self.side, r);
                let (to, share) = if through { (1 - self.side, passing) } else { (self.side, 1.0 - passing) };
                share * g.missing(self.side, self.wo.z, r) * g.missing(to, wi.z.abs(), r) / g.mean_missing(to, r)
            }
            _ => {
                // A thin sheet passes light as it reflects it, mirrored to the other side.
                let f = self.thin_or_solid(((self.eta - 1.0) / (self.eta + 1.0)).powi(2) + 1.0 / 21.0);
                let lobe = self.layer.white_lobe(&self.look, &self.layer.look(wi.z.abs()));
                lobe * if through { 1.0 - f } else { f }
            }
        }
    }

    fn eval_below(&self, wi: Vec3, e: &mut Eval) {
        let even = wi.z.abs() * FRAC_1_PI;
        // Upper layers are met on this side only.
        let mut left = 1.0;
        if let Some(c) = &self.coat {
            left -= c.strength * c.look.albedo.x;
        }
        if let Some(f) = &self.fuzz {
            left *= 1.0 - f.taken;
        }
        let narrow = 1.0 - self.broad_through;
        let mut f = self.glass_broad(wi, true) * even;
        let mut pdf = self.broad_through * even;
        if self.solid {
            let mut h = (self.wo + wi * self.eta).normalize_or(Vec3::Z);
            if h.z < 0.0 {
                h = -h;
            }
            let (o, i) = (self.wo.dot(h), wi.dot(h));
            if o > 0.0 && i < 0.0 {
                let jacobian = -i / (i + o / self.eta).powi(2).max(1e-12);
                let shape = ggx::d(h, self.alpha) * ggx::g2_through(self.wo, wi, self.alpha) * o / self.wo.z.max(1e-6);
                f += (1.0 - self.fresnel(o)) * shape * jacobian;
                pdf += narrow * ggx::visible_pdf(self.wo, h, self.alpha) * jacobian;
            }
            // Radiance changes by the square of the relative index when it passes the boundary.
            f /= self.eta * self.eta;
        } else {
            let mirrored = Vec3::new(wi.x, wi.y, -wi.z);
            let (shape, drawn) = glossy(self.wo, mirrored, self.alpha);
            let cos = self.wo.dot((self.wo + mirrored).normalize_or(Vec3::Z)).max(0.0);
            f += (1.0 - self.fresnel(cos)) * shape;
            pdf += narrow * drawn;
        }
        e.f[2] = self.tint * (self.glass * left * f);
        e.pdf[2] = pdf;
    }

    /// Draws a direction of a kind; none when it leads nowhere.
    pub fn sample(&self, kind: Kind, choice: f32, u: Vec2) -> Option<Scatter> {
        match kind {
            Kind::Diffuse => self.finish(cosine_weighted(u), true),
            Kind::Reflection => self.reflect(choice, u),
            Kind::Transmission => self.pass(choice, u),
        }
    }

    fn reflect(&self, choice: f32, u: Vec2) -> Option<Scatter> {
        let r = &self.reflecting;
        if choice < r.coat {
            let c = self.coat.as_ref()?;
            let smooth = c.alpha < SMOOTH;
            let h = if smooth { Vec3::Z } else { ggx::sample_visible(c.wo, Vec2::splat(c.alpha), u) };
            let cos = c.wo.dot(h);
            let direction = c.frame * (2.0 * cos * h - c.wo);
            let wi = self.frame.transpose() * direction;
            if smooth {
                let f = fresnel::schlick(Vec3::splat(0.04), 1.0, cos) * (c.strength / r.coat);
                return self.singular(wi, f, true);
            }
            return self.finish(wi, true);
        }
        let choice = choice - r.coat;
        if choice < r.broad {
            return self.finish(cosine_weighted(u), true);
        }
        let choice = choice - r.broad;
        let smooth = self.smooth();
        let h = if smooth { Vec3::Z } else { ggx::sample_visible(self.wo, self.alpha, u) };
        let cos = self.wo.dot(h);
        if cos <= 0.0 {
            return None;
        }
        let wi = 2.0 * cos * h - self.wo;
        if !smooth {
            return self.finish(wi, true);
        }
        let left = self.left_both(wi);
        if choice < r.layer {
            let f = fresnel::schlick(self.f0, self.f90, cos) * (left * (1.0 - self.glass) / r.layer);
            return self.singular(wi, f, true);
        }
        (r.glass > 0.0).then_some(())?;
        self.singular(wi, Vec3::splat(left * self.glass * self.fresnel(cos) / r.glass), true)
    }

    /// What coat and sheen leave of light that a perfect mirror below them reflects.
    fn left_both(&self, wi: Vec3) -> f32 {
        let mut left = 1.0;
        if let Some(c) = &self.coat {
            let other = c.layer.look((c.frame.transpose() * (self.frame * wi)).z.max(0.0));
            left *= (1.0 - c.strength * c.look.albedo.x) * (1.0 - c.strength * other.albedo.x);
        }
        if let Some(f) = &self.fuzz {
            left *= 1.0 - f.taken.max(f.colour.max_element() * energy::sheen_albedo(wi.z, f.roughness));
        }
        left
    }

    fn pass(&self, choice: f32, u: Vec2) -> Option<Scatter> {
        if choice < self.broad_through {
            let w = cosine_weighted(u);
            return self.finish(Vec3::new(w.x, w.y, -w.z), false);
        }
        let smooth = self.smooth();
        let h = if smooth { Vec3::Z } else { ggx::sample_visible(self.wo, self.alpha, u) };
        let cos = self.wo.dot(h);
        if cos <= 0.0 {
            return None;
        }
        let wi = if self.solid {
            fresnel::refract(self.wo, h, self.eta)?
        } else {
            let r = 2.0 * cos * h - self.wo;
            Vec3::new(r.x, r.y, -r.z)
        };
        if !smooth {
            return self.finish(wi, false);
        }
        let scale = if self.solid { 1.0 / (self.eta * self.eta) } else { 1.0 };
        let mut left = 1.0;
        if let Some(c) = &self.coat {
            left -= c.strength * c.look.albedo.x;
        }
        if let Some(f) = &self.fuzz {
            left *= 1.0 - f.taken;
        }
        self.singular(wi, self.tint * (left * self.glass * (1.0 - self.fresnel(cos)) * scale), false)
    }

    fn on_right_side(&self, wi: Vec3, above: bool) -> bool {
        let geometric = wi.dot(self.geometric) > 0.0;
        if above { wi.z > 0.0 && geometric } else { wi.z < 0.0 && !geometric }
    }

    fn singular(&self, wi: Vec3, weight: Vec3, above: bool) -> Option<Scatter> {
        self.on_right_side(wi, above)
            .then(|| Scatter { direction: (self.frame * wi).normalize(), singular: Some(weight) })
    }

    fn finish(&self, wi: Vec3, above: bool) -> Option<Scatter> {
        self.on_right_side(wi, above).then(|| Scatter { direction: (self.frame * wi).normalize(), singular: None })
    }
}

/// D·G/(4 cos o) of a pair of directions on the same side, which is f·cos i without Fresnel, and the density of drawing it.
fn glossy(wo: Vec3, wi: Vec3, alpha: Vec2) -> (f32, f32) {
    let h = (wo + wi).normalize_or(Vec3::Z);
    let cos = wo.dot(h).max(0.0);
    let shape = ggx::d(h, alpha) * ggx::g2(wo, wi, alpha) / (4.0 * wo.z.max(1e-6));
    (shape, ggx::visible_pdf(wo, h, alpha) / (4.0 * cos.max(1e-6)))
}

#[cfg(test)]
mod tests;
