//! Scattering at a surface point: glTF metallic-roughness with its layers. From the top: a clear coat; sheen; a GGX layer;
//! below it a matte base, or glass, solid and refracting (rough dielectric of Walter et al. 2007) or an infinitely thin
//! sheet. All lobes are reciprocal, and layers let through exactly what they do not reflect.
//!
//! Lobes are grouped by kind (diffuse, reflection, transmission), which depth limits and splits count. A direction is
//! drawn within a kind; densities are per solid angle and belong to the mixture of the kind's lobes.
//!
//! Here is what is made once a hit; what is asked of a direction is in [`eval`], and drawing in [`draw`].

mod draw;
mod eval;

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
    fn lets_through(&self, other: f32) -> f32 {
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

    /// Share of that light that passes to the other side.
    fn share_passing(&self) -> f32 {
        match self.lost {
            Some(g) if self.solid => g.share_passing(self.side, self.spread),
            _ => 1.0 - self.thin_or_solid(((self.eta - 1.0) / (self.eta + 1.0)).powi(2) + 1.0 / 21.0),
        }
    }

    /// What coat and sheen leave of light that passes to the other side. A thin sheet wears them on both sides, where light has
    /// to get through the less willing one; a solid on its outside only.
    fn left_through(&self, wi: Vec3) -> f32 {
        let over = |cos: f32, f: &Fuzz| f.colour.max_element() * energy::sheen_albedo(cos, f.roughness);
        let mut left = 1.0;
        if let Some(c) = &self.coat {
            let other = if self.solid { 0.0 } else { c.layer.look(wi).albedo.x };
            left *= c.lets_through(other);
        }
        if let Some(f) = &self.fuzz {
            left *= 1.0 - if self.solid { f.taken } else { f.taken.max(over(-wi.z, f)) };
        }
        left
    }
}

#[cfg(test)]
mod tests;
