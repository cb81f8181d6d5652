//! Scattering at a surface point: glTF metallic-roughness with its layers. From the top: a clear coat; sheen; a GGX layer;
//! below it a matte base, or glass, solid and refracting (rough dielectric of Walter et al. 2007) or an infinitely thin
//! sheet. All lobes are reciprocal, and layers let through exactly what they do not reflect.
//!
//! Lobes are grouped by kind (diffuse, reflection, transmission), which depth limits and splits count. A direction is
//! drawn within a kind; densities are per solid angle and belong to the mixture of the kind's lobes.

use crate::energy::{self, COAT_F0, Glass, Layer, Look, SMOOTH, Spread};
use crate::{fresnel, ggx};
use glam::{Mat3, Vec2, Vec3};
use std::f32::consts::{FRAC_1_PI, TAU};

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
    /// Density within the kind: of [`Bsdf::sample`].
    pub pdf: [f32; 3],
    /// Density among all kinds: of [`Bsdf::sample_any`].
    pub any: f32,
}

/// The layer of clear coat, in its own frame.
struct Coating {
    frame: Mat3,
    wo: Vec3,
    strength: f32,
    roughness: f32,
    alpha: f32,
    layer: Layer,
    look: Look,
    /// Share of a white layer's light that comes back from the coat, and its mean over the hemisphere.
    returned: f32,
    mean_returned: f32,
}

impl Coating {
    /// What the coat lets through of light that a lobe below it, narrow or broad, sends from one direction to the other. At
    /// most what is left of either.
    fn through(&self, other: f32) -> f32 {
        1.0 - self.strength * self.look.albedo.x.max(other)
    }
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

/// Chances of the lobes where one direction is drawn for all kinds. Microfacets of glass are drawn before it is decided, by
/// their own Fresnel reflectance, whether they mirror or let through: so that no direction counts for much more than another.
#[derive(Default)]
struct Mixture {
    diffuse: f32,
    /// Coat, layer and broad reflection.
    reflecting: f32,
    broad_through: f32,
    glass: f32,
    /// Share of the first bounces between microfacets of glass that do not get out: they bounce on, and leave in any direction. 0
    /// where lobes are drawn apart.
    bouncing_on: f32,
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
    spread: Spread,
    /// Colour of light that the layer has sent to a coat and got back.
    twice: Vec3,
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
    /// 0 on the side of the lower index, 1 on that of the higher one.
    side: usize,
    lost: Option<&'a Glass>,
    tint: Vec3,
    coat: Option<Coating>,
    fuzz: Option<Fuzz>,
    allowed: Allowed,
    reflecting: Reflecting,
    mixture: Mixture,
    /// Chance of the broad lobe within transmission.
    broad_through: f32,
    /// Share of the light that bounces more than once in glass and passes to the other side.
    passing: f32,
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
    /// Index of refraction on the far side ÷ that on the near side; the index itself for a thin sheet.
    pub eta: f32,
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

/// A ratio of indices at which microfacets can be told from their refracted directions: equal matter is nearly so.
fn apart(eta: f32) -> f32 {
    const LEAST: f32 = 1e-3;
    if (eta - 1.0).abs() >= LEAST {
        eta
    } else if eta < 1.0 {
        1.0 - LEAST
    } else {
        1.0 + LEAST
    }
}

/// A direction of the upper half space for light that bounced more than once between microfacets: half by the cosine, half
/// evenly, since more of it than of the cosine leaves at grazing angles. Drawn by the cosine alone, weights of up to three
/// would multiply over the bounces inside a solid.
fn broad(u: Vec2) -> Vec3 {
    if u.x < 0.5 {
        return cosine_weighted(Vec2::new(2.0 * u.x, u.y));
    }
    let z = 2.0 * u.x - 1.0;
    let (sin, cos) = (TAU * u.y).sin_cos();
    let r = (1.0 - z * z).max(0.0).sqrt();
    Vec3::new(r * cos, r * sin, z)
}

/// Density of [`broad`].
fn broad_density(z: f32) -> f32 {
    (2.0 * z + 1.0) * (0.25 * FRAC_1_PI)
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
        let strength = s.stretch.length();
        let along = (s.stretch - normal * normal.dot(s.stretch)).normalize_or_zero();
        let (spread, frame) = if strength > 0.0 && along != Vec3::ZERO {
            let spread = Spread { roughness: s.roughness, stretch: strength.min(1.0) };
            (spread, Mat3::from_cols(along, normal.cross(along), normal))
        } else {
            (Spread::even(s.roughness), frame_of(normal))
        };
        let alpha = spread.alpha();
        let local = frame.transpose();
        let wo_local = local * wo;
        let r0 = ((s.ior - 1.0) / (s.ior + 1.0)).powi(2);
        let f0_dielectric = (s.specular_colour * r0).min(Vec3::ONE) * s.specular;
        let f0 = f0_dielectric.lerp(s.base, s.metallic);
        let f90 = s.specular + (1.0 - s.specular) * s.metallic;
        // glTF 2.0, appendix B: metal and dielectric lie side by side, and only the dielectric has a matte base.
        let over_base = Layer::new(f0_dielectric, s.specular, spread);
        let layer = match s.metallic {
            0.0 => over_base,
            1.0 => Layer::new(s.base, 1.0, spread),
            share => over_base.beside(&Layer::new(s.base, 1.0, spread), share),
        };
        let look = layer.look(wo_local);
        let look_base = if s.metallic > 0.0 { over_base.look(wo_local) } else { look };
        let glass = s.transmission * (1.0 - s.metallic);
        let mut b = Bsdf {
            frame,
            wo: wo_local,
            geometric: local * geometric,
            diffuse: s.base * ((1.0 - s.metallic) * (1.0 - s.transmission)),
            f0,
            f90,
            spread,
            twice: Vec3::ZERO,
            layer,
            look,
            over_base,
            look_base,
            mixed: s.metallic > 0.0,
            alpha,
            glass,
            solid: s.solid,
            eta: apart(s.eta),
            side: (s.solid && s.eta < 1.0) as usize,
            lost,
            tint: s.base,
            coat: None,
            fuzz: None,
            allowed,
            reflecting: Reflecting::default(),
            mixture: Mixture::default(),
            broad_through: 0.0,
            passing: 0.0,
            weights: [0.0; 3],
        };
        // What the upper layers leave for the lower ones.
        let mut left = 1.0;
        let mut of_coat = 0.0;
        if let Some((strength, roughness, n)) = s.coat.filter(|c| c.0 > 0.0) {
            let frame = frame_of(n);
            let wo = frame.transpose() * wo;
            if wo.z > 0.0 {
                let layer = Layer::new(Vec3::splat(COAT_F0), 1.0, Spread::even(roughness));
                let look = layer.look(wo);
                of_coat = strength * look.albedo.x;
                left -= of_coat;
                let even = (b.alpha.x * b.alpha.y).sqrt().sqrt();
                let (returned, mean_returned) = if b.smooth() {
                    (0.0, 1.0)
                } else {
                    (energy::coat_return(wo.z, even, roughness), energy::mean_coat_return(even, roughness))
                };
                let mean = f0 + (Vec3::splat(f90) - f0) / 21.0;
                b.twice = mean * mean;
                let alpha = roughness * roughness;
                b.coat = Some(Coating { frame, wo, strength, roughness, alpha, layer, look, returned, mean_returned });
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
        let rough = !b.smooth();
        let missing = if rough && glass > 0.0 { b.glass_missing() } else { 0.0 };
        let passing = if missing > 0.0 { b.share_passing() } else { 0.0 };
        b.passing = passing;
        let mut m = Mixture::default();
        let bounces_on = missing > 0.0 && allowed[1] && allowed[2];
        if allowed[0] {
            m.diffuse = b.weights[0];
        }
        if allowed[1] {
            b.weights[1] = of_coat + of_layer + of_glass;
            if b.weights[1] > 0.0 {
                let returned = b.coat.as_ref().map_or(0.0, |c| c.strength * c.returned * grey(b.twice) * opaque);
                let own = if rough { of_layer * layer.multiple_share(&look) + returned } else { 0.0 };
                let of_broad = own + glass * missing * (1.0 - passing) * left;
                let sum = of_coat + of_layer + of_broad + of_glass;
                m.reflecting = of_coat + of_layer + if bounces_on { own } else { of_broad };
                let share = |of: f32| of / sum;
                b.reflecting = Reflecting {
                    coat: share(of_coat),
                    layer: share(of_layer),
                    broad: share(of_broad),
                    glass: share(of_glass),
                };
            }
        }
        if allowed[2] && glass > 0.0 {
            b.weights[2] = through;
            b.broad_through = missing;
            if !bounces_on {
                m.broad_through = glass * missing * passing * left * grey(b.tint).max(0.05);
            }
        }
        if glass > 0.0 && (allowed[1] || allowed[2]) {
            m.glass = of_glass + through;
            if bounces_on {
                m.bouncing_on = missing;
            } else {
                m.glass *= 1.0 - missing;
            }
        }
        let sum = m.diffuse + m.reflecting + m.broad_through + m.glass;
        if sum > 0.0 {
            for share in [&mut m.diffuse, &mut m.reflecting, &mut m.broad_through, &mut m.glass] {
                *share /= sum;
            }
        }
        b.mixture = m;
        b
    }

    /// The chance with which a microfacet of glass that `wo` meets at a cosine mirrors, where both is allowed.
    fn mirrors(&self, cos: f32) -> f32 {
        match (self.allowed[1], self.allowed[2]) {
            (true, false) => 1.0,
            (false, _) => 0.0,
            (true, true) => self.fresnel(cos),
        }
    }

    /// Chance with which a drawn bounce counts that a share of the microfacets lets out: all do where lobes are drawn apart, and
    /// carry the share as a weight.
    fn gets_out(&self, share: f32) -> f32 {
        if self.mixture.bouncing_on > 0.0 { share.min(1.0) } else { 1.0 }
    }

    /// Density among the reflecting lobes but glass, in the mixture, of a density within reflection.
    fn among_reflecting(&self, within: f32) -> f32 {
        within * self.mixture.reflecting / (1.0 - self.reflecting.glass).max(1e-12)
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
            Some(g) if self.solid => g.missing(self.side, self.wo, self.spread),
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
        let (mut matte, mut left, mut returned) = (Vec3::ONE, Vec3::ONE, 0.0);
        if let Some(c) = &self.coat {
            let wi_c = c.frame.transpose() * direction;
            if wi_c.z > 0.0 {
                let look = c.layer.look(wi_c);
                let both = (1.0 - c.strength * c.look.albedo.x) * (1.0 - c.strength * look.albedo.x);
                left *= c.through(look.albedo.x);
                matte *= both / (1.0 - c.strength * c.layer.mean().x);
                if c.returned > 0.0 {
                    let even = (self.alpha.x * self.alpha.y).sqrt().sqrt();
                    let other = energy::coat_return(wi_c.z, even, c.roughness);
                    returned = c.strength * c.returned * other / c.mean_returned;
                }
                if self.allowed[1] && c.alpha >= SMOOTH {
                    let (f, drawn) = glossy(c.wo, wi_c, Vec2::splat(c.alpha));
                    let cos = c.wo.dot((c.wo + wi_c).normalize_or(Vec3::Z)).max(0.0);
                    e.f[1] += c.strength * (fresnel::schlick(Vec3::splat(COAT_F0), 1.0, cos) * f);
                    e.f[1] += c.strength * c.layer.multiple_lobe(&c.look, &look) * (wi_c.z * FRAC_1_PI);
                    e.pdf[1] += self.reflecting.coat * drawn;
                    e.any += self.among_reflecting(self.reflecting.coat * drawn);
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
            returned *= rest;
            matte *= rest;
        }
        let look = self.layer.look(wi);
        if self.weights[0] > 0.0 {
            let look_base = if self.mixed { self.over_base.look(wi) } else { look };
            e.f[0] += self.diffuse * self.over_base.through(&self.look_base, &look_base) * matte * even;
            e.pdf[0] = even;
            e.any += self.mixture.diffuse * even;
        }
        if self.allowed[1] && !self.smooth() && self.reflecting.layer + self.reflecting.glass > 0.0 {
            let (shape, drawn) = glossy(self.wo, wi, self.alpha);
            let cos = self.wo.dot((self.wo + wi).normalize_or(Vec3::Z)).max(0.0);
            let layer =
                fresnel::schlick(self.f0, self.f90, cos) * shape + self.layer.multiple_lobe(&self.look, &look) * even;
            e.f[1] += (layer * left + self.twice * (returned * even)) * (1.0 - self.glass);
            let r = &self.reflecting;
            let broad = r.broad * broad_density(wi.z);
            e.pdf[1] += (r.layer + r.glass) * drawn + broad;
            e.any += self.among_reflecting(r.layer * drawn + broad);
            if self.mixture.glass > 0.0 {
                let onwards = self.mixture.bouncing_on * (1.0 - self.passing) * broad_density(wi.z);
                let gets_out = self.gets_out(ggx::g2(self.wo, wi, self.alpha) / ggx::g1(self.wo, self.alpha));
                e.any += self.mixture.glass * (self.mirrors(cos) * gets_out * drawn + onwards);
            }
            if self.glass > 0.0 {
                let back = self.fresnel(cos) * shape + self.glass_broad(wi, false) * even;
                e.f[1] += left * (self.glass * back);
            }
        }
    }

    /// Share of that light that passes to the other side.
    fn share_passing(&self) -> f32 {
        match self.lost {
            Some(g) if self.solid => g.share_passing(self.side, self.spread),
            _ => 1.0 - self.thin_or_solid(((self.eta - 1.0) / (self.eta + 1.0)).powi(2) + 1.0 / 21.0),
        }
    }

    /// π times the lobe of glass for light that bounced more than once, before the change of radiance at the boundary.
    fn glass_broad(&self, wi: Vec3, through: bool) -> f32 {
        match self.lost {
            Some(g) if self.solid => {
                let r = self.spread;
                let passing = self.passing;
                let (to, share) = if through { (1 - self.side, passing) } else { (self.side, 1.0 - passing) };
                share * g.missing(self.side, self.wo, r) * g.missing(to, wi, r) / g.mean_missing(to, r)
            }
            _ => {
                // A thin sheet passes light as it reflects it, mirrored to the other side.
                let f = 1.0 - self.passing;
                let lobe = self.layer.white_lobe(&self.look, &self.layer.look(wi));
                lobe * if through { 1.0 - f } else { f }
            }
        }
    }

    fn eval_below(&self, wi: Vec3, e: &mut Eval) {
        let even = wi.z.abs() * FRAC_1_PI;
        let left = self.left_through(wi);
        let narrow = 1.0 - self.broad_through;
        let mut f = self.glass_broad(wi, true) * even;
        let broad = broad_density(-wi.z);
        let mut pdf = self.broad_through * broad;
        e.any += (self.mixture.broad_through + self.mixture.glass * self.mixture.bouncing_on * self.passing) * broad;
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
                let drawn = ggx::visible_pdf(self.wo, h, self.alpha) * jacobian;
                pdf += narrow * drawn;
                let gets_out = self.gets_out(ggx::g1(wi, self.alpha));
                e.any += self.mixture.glass * (1.0 - self.mirrors(o)) * gets_out * drawn;
            }
            // Radiance changes by the square of the relative index when it passes the boundary.
            f /= self.eta * self.eta;
        } else {
            let mirrored = Vec3::new(wi.x, wi.y, -wi.z);
            let (shape, drawn) = glossy(self.wo, mirrored, self.alpha);
            let cos = self.wo.dot((self.wo + mirrored).normalize_or(Vec3::Z)).max(0.0);
            f += (1.0 - self.fresnel(cos)) * shape;
            pdf += narrow * drawn;
            let gets_out = self.gets_out(ggx::g2(self.wo, mirrored, self.alpha) / ggx::g1(self.wo, self.alpha));
            e.any += self.mixture.glass * (1.0 - self.mirrors(cos)) * gets_out * drawn;
        }
        e.f[2] = self.tint * (self.glass * left * f);
        e.pdf[2] = pdf;
    }

    /// Draws one direction for all kinds; none when it leads nowhere. For a perfect mirror or window its weight is over the chance
    /// among all kinds.
    pub fn sample_any(&self, choice: f32, turn: f32, u: Vec2) -> Option<(Kind, Scatter)> {
        let m = &self.mixture;
        if choice < m.diffuse {
            return Some((Kind::Diffuse, self.finish(cosine_weighted(u), true)?));
        }
        let choice = choice - m.diffuse;
        if choice < m.reflecting {
            let others = 1.0 - self.reflecting.glass;
            let s = self.reflect(choice / m.reflecting * others, u)?;
            let singular = s.singular.map(|f| f * (others / m.reflecting));
            return Some((Kind::Reflection, Scatter { singular, ..s }));
        }
        let choice = choice - m.reflecting;
        if choice < m.broad_through {
            return Some((Kind::Transmission, self.pass(0.0, u)?));
        }
        if m.glass <= 0.0 {
            return None;
        }
        let h = self.microfacet(u);
        let cos = self.wo.dot(h);
        let mirrors = self.mirrors(cos);
        if m.bouncing_on > 0.0 {
            let mirrored = turn < mirrors;
            let wi = if mirrored {
                Some(2.0 * cos * h - self.wo).filter(|w| w.z > 0.0)
            } else {
                self.through(h, cos).filter(|w| w.z < 0.0)
            };
            let share = match wi {
                Some(w) if mirrored => ggx::g2(self.wo, w, self.alpha) / ggx::g1(self.wo, self.alpha),
                Some(w) if self.solid => ggx::g1(w, self.alpha),
                Some(w) => ggx::g2(self.wo, Vec3::new(w.x, w.y, -w.z), self.alpha) / ggx::g1(self.wo, self.alpha),
                None => 0.0,
            };
            // What is left of numbers that were used for a decision is even again.
            let rest = (choice - m.broad_through) / m.glass;
            if rest >= share {
                let rest = (rest - share) / (1.0 - share).max(1e-6);
                let first = if mirrored { turn / mirrors } else { (turn - mirrors) / (1.0 - mirrors) };
                let passes = rest < self.passing;
                let second = if passes { rest / self.passing } else { (rest - self.passing) / (1.0 - self.passing) };
                let w = broad(Vec2::new(first, second.clamp(0.0, 1.0)));
                return Some(if passes {
                    (Kind::Transmission, self.finish(Vec3::new(w.x, w.y, -w.z), false)?)
                } else {
                    (Kind::Reflection, self.finish(w, true)?)
                });
            }
        }
        let (kind, s, own, chance) = if turn < mirrors {
            // Glass is the last lobe of reflection.
            (Kind::Reflection, self.reflect(1.0, u)?, self.reflecting.glass, mirrors)
        } else {
            (Kind::Transmission, self.pass(1.0, u)?, 1.0, 1.0 - mirrors)
        };
        let singular = s.singular.map(|f| f * (own / (m.glass * chance)));
        Some((kind, Scatter { singular, ..s }))
    }

    /// Where light goes that a microfacet of glass lets through; none at total reflection.
    fn through(&self, h: Vec3, cos: f32) -> Option<Vec3> {
        if self.solid {
            return fresnel::refract(self.wo, h, self.eta);
        }
        let r = 2.0 * cos * h - self.wo;
        Some(Vec3::new(r.x, r.y, -r.z))
    }

    /// A normal of the layer's and of glass's microfacets that `wo` sees.
    fn microfacet(&self, u: Vec2) -> Vec3 {
        if self.smooth() { Vec3::Z } else { ggx::sample_visible(self.wo, self.alpha, u) }
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
                let f = fresnel::schlick(Vec3::splat(COAT_F0), 1.0, cos) * (c.strength / r.coat);
                return self.singular(wi, f, true);
            }
            return self.finish(wi, true);
        }
        let choice = choice - r.coat;
        if choice < r.broad {
            return self.finish(broad(u), true);
        }
        let choice = choice - r.broad;
        let smooth = self.smooth();
        let h = self.microfacet(u);
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
            let other = c.layer.look(c.frame.transpose() * (self.frame * wi));
            left *= c.through(other.albedo.x);
        }
        if let Some(f) = &self.fuzz {
            left *= 1.0 - f.taken.max(f.colour.max_element() * energy::sheen_albedo(wi.z, f.roughness));
        }
        left
    }

    /// What coat and sheen leave of light that passes to the other side. A thin sheet wears them on both sides, where light has
    /// to get through the less willing one; a solid on its outside only.
    fn left_through(&self, wi: Vec3) -> f32 {
        let over = |cos: f32, f: &Fuzz| f.colour.max_element() * energy::sheen_albedo(cos, f.roughness);
        let mut left = 1.0;
        if let Some(c) = &self.coat {
            let other = if self.solid { 0.0 } else { c.layer.look(wi).albedo.x };
            left *= c.through(other);
        }
        if let Some(f) = &self.fuzz {
            left *= 1.0 - if self.solid { f.taken } else { f.taken.max(over(-wi.z, f)) };
        }
        left
    }

    fn pass(&self, choice: f32, u: Vec2) -> Option<Scatter> {
        if choice < self.broad_through {
            let w = broad(u);
            return self.finish(Vec3::new(w.x, w.y, -w.z), false);
        }
        let smooth = self.smooth();
        let h = self.microfacet(u);
        let cos = self.wo.dot(h);
        if cos <= 0.0 {
            return None;
        }
        let wi = self.through(h, cos)?;
        if !smooth {
            return self.finish(wi, false);
        }
        let scale = if self.solid { 1.0 / (self.eta * self.eta) } else { 1.0 };
        let left = self.left_through(wi);
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
