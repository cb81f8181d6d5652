//! Scattering at a surface point: a matte base under a GGX layer (glTF metallic-roughness), or glass, solid and
//! refracting (rough dielectric of Walter et al. 2007) or an infinitely thin sheet. Densities are per solid angle and
//! belong to the whole mixture of the lobes that are still allowed.

use crate::energy::{Layer, Look};
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

/// Kinds that have not reached their depth limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Allowed {
    pub diffuse: bool,
    pub reflection: bool,
    pub transmission: bool,
}

impl Allowed {
    #[cfg(test)]
    pub const ALL: Allowed = Allowed { diffuse: true, reflection: true, transmission: true };
}

/// A drawn direction.
#[derive(Debug, Clone, Copy)]
pub struct Scatter {
    /// World space, unit length.
    pub direction: Vec3,
    /// f·|cos| ÷ density.
    pub weight: Vec3,
    /// Density of the mixture; none for a perfect mirror or window.
    pub pdf: Option<f32>,
    pub kind: Kind,
}

/// Everything about a surface point that scattering needs. The local frame's Z lies on the side of `wo`.
#[derive(Debug, Clone, Copy)]
pub struct Bsdf {
    frame: Mat3,
    wo: Vec3,
    /// Geometric normal on the side of `wo`, local.
    geometric: Vec3,
    /// Reflectance of the matte base, without the transmitted share.
    diffuse: Vec3,
    f0: Vec3,
    f90: f32,
    layer: Layer,
    look: Look,
    /// Chance of the layer's broad lobe within the layer.
    broad: f32,
    alpha: f32,
    /// Share of the surface that is glass.
    glass: f32,
    solid: bool,
    /// Index on the far side ÷ index on the side of `wo`.
    eta: f32,
    tint: Vec3,
    choose_layer: f32,
    choose_diffuse: f32,
    choose_glass: f32,
}

/// Inputs of [`Bsdf::new`].
#[derive(Debug, Clone, Copy)]
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
}

/// A direction of the upper half space with density cos/π.
fn cosine_weighted(u: Vec2) -> Vec3 {
    let (r, phi) = (u.x.sqrt(), TAU * u.y);
    Vec3::new(r * phi.cos(), r * phi.sin(), (1.0 - u.x).max(0.0).sqrt())
}

fn grey(c: Vec3) -> f32 {
    c.dot(Vec3::splat(1.0 / 3.0))
}

impl Bsdf {
    /// `normal` and `geometric` are world space and on the side of `wo`.
    pub fn new(s: &Surface, wo: Vec3, normal: Vec3, geometric: Vec3, allowed: Allowed) -> Bsdf {
        let (t, b) = normal.any_orthonormal_pair();
        let frame = Mat3::from_cols(t, b, normal);
        let local = frame.transpose();
        let wo_local = local * wo;
        let alpha = s.roughness * s.roughness;
        let r0 = ((s.ior - 1.0) / (s.ior + 1.0)).powi(2);
        let f0_dielectric = (s.specular_colour * r0).min(Vec3::ONE) * s.specular;
        let f0 = f0_dielectric.lerp(s.base, s.metallic);
        let f90 = s.specular + (1.0 - s.specular) * s.metallic;
        let layer = Layer::new(f0, f90, s.roughness);
        let look = layer.look(wo_local.z);
        let layer_albedo = look.albedo;
        let broad = if alpha < SMOOTH { 0.0 } else { layer.multiple_share(&look) };
        let glass = s.transmission * (1.0 - s.metallic);
        let diffuse = s.base * ((1.0 - s.metallic) * (1.0 - s.transmission));
        let opaque = 1.0 - glass;
        let mut weights = [
            if allowed.reflection { grey(layer_albedo) * opaque } else { 0.0 },
            if allowed.diffuse { grey(diffuse * (Vec3::ONE - layer_albedo).max(Vec3::ZERO)) } else { 0.0 },
            if allowed.reflection || allowed.transmission { glass } else { 0.0 },
        ];
        let total: f32 = weights.iter().sum();
        if total > 0.0 {
            weights = weights.map(|w| w / total);
        }
        Bsdf {
            frame,
            wo: wo_local,
            geometric: local * geometric,
            diffuse,
            f0,
            f90,
            layer,
            look,
            broad,
            alpha,
            glass,
            solid: s.solid,
            eta: if s.outside || !s.solid { s.ior } else { 1.0 / s.ior },
            tint: s.base,
            choose_layer: weights[0],
            choose_diffuse: weights[1],
            choose_glass: weights[2],
        }
    }

    fn smooth(&self) -> bool {
        self.alpha < SMOOTH
    }

    /// Nothing can be evaluated for a given direction: only perfect mirrors and windows, or nothing at all.
    pub fn only_singular(&self) -> bool {
        self.choose_diffuse == 0.0 && self.smooth()
    }

    /// First-hit reflectance for the guides.
    pub fn guide_albedo(&self) -> Vec3 {
        let opaque = self.diffuse + self.look.albedo * (1.0 - self.glass);
        (opaque + Vec3::splat(self.glass)).clamp(Vec3::ZERO, Vec3::ONE)
    }

    /// Reflectance of glass at a microfacet, and the chance with which reflection is drawn.
    fn glass_split(&self, cos: f32, allowed: Allowed) -> (f32, f32) {
        let f = fresnel::dielectric(cos, self.eta);
        // Light reflected back and forth inside a thin sheet adds up to 2F/(1+F).
        let f = if self.solid { f } else { 2.0 * f / (1.0 + f) };
        let chance = match (allowed.reflection, allowed.transmission) {
            (true, true) => f,
            (true, false) => 1.0,
            _ => 0.0,
        };
        (f, chance)
    }

    /// f·|cos| and density for a world direction.
    pub fn eval(&self, direction: Vec3, allowed: Allowed) -> (Vec3, f32) {
        let wi = self.frame.transpose() * direction;
        let above = wi.dot(self.geometric) > 0.0;
        if wi.z > 0.0 && above {
            self.eval_above(wi, allowed)
        } else if wi.z < 0.0 && !above && allowed.transmission && self.choose_glass > 0.0 && !self.smooth() {
            self.eval_below(wi, allowed)
        } else {
            (Vec3::ZERO, 0.0)
        }
    }

    fn eval_above(&self, wi: Vec3, allowed: Allowed) -> (Vec3, f32) {
        let (mut f, mut pdf) = (Vec3::ZERO, 0.0);
        if self.choose_diffuse > 0.0 {
            f += self.diffuse * self.layer.through(&self.look, &self.layer.look(wi.z)) * (wi.z * FRAC_1_PI);
            pdf += self.choose_diffuse * wi.z * FRAC_1_PI;
        }
        if allowed.reflection && !self.smooth() && self.choose_layer + self.choose_glass > 0.0 {
            let h = (self.wo + wi).normalize_or(Vec3::Z);
            let cos = self.wo.dot(h).max(0.0);
            let shape = ggx::d(h, self.alpha) * ggx::g2(self.wo, wi, self.alpha) / (4.0 * self.wo.z.max(1e-6));
            let drawn = ggx::visible_pdf(self.wo, h, self.alpha) / (4.0 * cos.max(1e-6));
            let mut layer = fresnel::schlick(self.f0, self.f90, cos) * shape;
            if self.broad > 0.0 {
                layer += self.layer.multiple_lobe(&self.look, &self.layer.look(wi.z)) * (wi.z * FRAC_1_PI);
            }
            f += layer * (1.0 - self.glass);
            pdf += self.choose_layer * ((1.0 - self.broad) * drawn + self.broad * wi.z * FRAC_1_PI);
            if self.choose_glass > 0.0 {
                let (fresnel, chance) = self.glass_split(cos, allowed);
                f += Vec3::splat(self.glass * fresnel * shape);
                pdf += self.choose_glass * chance * drawn;
            }
        }
        (f, pdf)
    }

    fn eval_below(&self, wi: Vec3, allowed: Allowed) -> (Vec3, f32) {
        if !self.solid {
            let mirrored = Vec3::new(wi.x, wi.y, -wi.z);
            let h = (self.wo + mirrored).normalize_or(Vec3::Z);
            let cos = self.wo.dot(h).max(0.0);
            let (fresnel, chance) = self.glass_split(cos, allowed);
            let shape = ggx::d(h, self.alpha) * ggx::g2(self.wo, mirrored, self.alpha) / (4.0 * self.wo.z.max(1e-6));
            let drawn = ggx::visible_pdf(self.wo, h, self.alpha) / (4.0 * cos.max(1e-6));
            let f = self.tint * (self.glass * (1.0 - fresnel) * shape);
            return (f, self.choose_glass * (1.0 - chance) * drawn);
        }
        let mut h = (self.wo + wi * self.eta).normalize_or(Vec3::Z);
        if h.z < 0.0 {
            h = -h;
        }
        let (o, i) = (self.wo.dot(h), wi.dot(h));
        if o <= 0.0 || i >= 0.0 {
            return (Vec3::ZERO, 0.0);
        }
        let (fresnel, chance) = self.glass_split(o, allowed);
        let jacobian = -i / (i + o / self.eta).powi(2).max(1e-12);
        let shape = ggx::d(h, self.alpha) * ggx::g2_through(self.wo, wi, self.alpha) * o / self.wo.z.max(1e-6);
        // Radiance changes by the square of the relative index when it passes the boundary.
        let f = self.tint * (self.glass * (1.0 - fresnel) * shape * jacobian / (self.eta * self.eta));
        let pdf = self.choose_glass * (1.0 - chance) * ggx::visible_pdf(self.wo, h, self.alpha) * jacobian;
        (f, pdf)
    }

    /// Draws a direction; none when the path ends here.
    pub fn sample(&self, choice: f32, u: Vec2, allowed: Allowed) -> Option<Scatter> {
        if choice < self.choose_diffuse {
            return self.finish(cosine_weighted(u), Kind::Diffuse, allowed);
        }
        let choice = choice - self.choose_diffuse;
        if choice < self.choose_layer * self.broad {
            return self.finish(cosine_weighted(u), Kind::Reflection, allowed);
        }
        let layer = choice < self.choose_layer;
        let total = self.choose_layer + self.choose_glass;
        if total <= 0.0 {
            return None;
        }
        let h = if self.smooth() { Vec3::Z } else { ggx::sample_visible(self.wo, self.alpha, u) };
        let cos = self.wo.dot(h);
        if cos <= 0.0 {
            return None;
        }
        let reflected = 2.0 * cos * h - self.wo;
        if layer {
            if self.smooth() {
                let f = fresnel::schlick(self.f0, self.f90, cos) * (1.0 - self.glass);
                return self.singular(reflected, f / self.choose_layer, Kind::Reflection);
            }
            return self.finish(reflected, Kind::Reflection, allowed);
        }
        let (fresnel, chance) = self.glass_split(cos, allowed);
        let lot = (choice - self.choose_layer) / self.choose_glass;
        if lot < chance {
            if self.smooth() {
                let f = Vec3::splat(self.glass * fresnel / (self.choose_glass * chance));
                return self.singular(reflected, f, Kind::Reflection);
            }
            return self.finish(reflected, Kind::Reflection, allowed);
        }
        if !allowed.transmission {
            return None;
        }
        let wi = if self.solid {
            fresnel::refract(self.wo, h, self.eta)?
        } else {
            Vec3::new(reflected.x, reflected.y, -reflected.z)
        };
        if self.smooth() {
            let scale = if self.solid { 1.0 / (self.eta * self.eta) } else { 1.0 };
            let f = self.tint * (self.glass * (1.0 - fresnel) * scale / (self.choose_glass * (1.0 - chance)));
            return self.singular(wi, f, Kind::Transmission);
        }
        self.finish(wi, Kind::Transmission, allowed)
    }

    fn on_right_side(&self, wi: Vec3, kind: Kind) -> bool {
        let above = wi.dot(self.geometric) > 0.0;
        if kind == Kind::Transmission { wi.z < 0.0 && !above } else { wi.z > 0.0 && above }
    }

    fn singular(&self, wi: Vec3, weight: Vec3, kind: Kind) -> Option<Scatter> {
        self.on_right_side(wi, kind).then(|| Scatter {
            direction: (self.frame * wi).normalize(),
            weight,
            pdf: None,
            kind,
        })
    }

    fn finish(&self, wi: Vec3, kind: Kind, allowed: Allowed) -> Option<Scatter> {
        if !self.on_right_side(wi, kind) {
            return None;
        }
        let direction = (self.frame * wi).normalize();
        let (f, pdf) = self.eval(direction, allowed);
        (pdf > 1e-12).then(|| Scatter { direction, weight: f / pdf, pdf: Some(pdf), kind })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sampler::Sampler;

    fn surface(base: f32, metallic: f32, roughness: f32, transmission: f32) -> Surface {
        Surface {
            base: Vec3::splat(base),
            metallic,
            roughness,
            ior: 1.5,
            specular: 1.0,
            specular_colour: Vec3::ONE,
            transmission,
            solid: true,
            outside: true,
        }
    }

    fn mean_weight(s: &Surface, cos: f32, n: u32) -> f64 {
        let wo = Vec3::new((1.0 - cos * cos).sqrt(), 0.0, cos);
        let b = Bsdf::new(s, wo, Vec3::Z, Vec3::Z, Allowed::ALL);
        (0..n)
            .filter_map(|i| {
                let [c, x, y, _] = Sampler::new(3, 0, 0, 0, i).set(0);
                b.sample(c, Vec2::new(x, y), Allowed::ALL).map(|s| {
                    let radiance_scale = if s.kind == Kind::Transmission { b.eta * b.eta } else { 1.0 };
                    (s.weight.x * radiance_scale) as f64
                })
            })
            .sum::<f64>()
            / n as f64
    }

    /// White furnace: a white metal reflects everything at any roughness; white plastic and smooth glass lose nothing.
    #[test]
    fn white_surfaces_give_back_all_light() {
        for roughness in [0.0, 0.2, 0.5, 0.8, 1.0] {
            for cos in [0.2, 0.6, 1.0] {
                let metal = mean_weight(&surface(1.0, 1.0, roughness, 0.0), cos, 16384);
                assert!((metal - 1.0).abs() < 0.01, "metal, roughness {roughness}, cos {cos}: {metal}");
                let plastic = mean_weight(&surface(1.0, 0.0, roughness, 0.0), cos, 16384);
                assert!((plastic - 1.0).abs() < 0.015, "plastic, roughness {roughness}, cos {cos}: {plastic}");
            }
        }
        for cos in [0.1, 0.5, 1.0] {
            let glass = mean_weight(&surface(1.0, 0.0, 0.0, 1.0), cos, 4096);
            assert!((glass - 1.0).abs() < 1e-3, "glass, cos {cos}: {glass}");
        }
    }

    /// Helmholtz reciprocity of the reflecting lobes: f(o, i) = f(i, o).
    #[test]
    fn reflection_is_reciprocal() {
        let a = Vec3::new(0.3, 0.2, 0.9).normalize();
        let b = Vec3::new(-0.7, 0.1, 0.4).normalize();
        for (metallic, roughness) in [(0.0, 0.3), (1.0, 0.5), (0.5, 0.8)] {
            let s = surface(0.6, metallic, roughness, 0.0);
            let f = |o: Vec3, i: Vec3| Bsdf::new(&s, o, Vec3::Z, Vec3::Z, Allowed::ALL).eval(i, Allowed::ALL).0.x / i.z;
            let (ab, ba) = (f(a, b), f(b, a));
            assert!((ab - ba).abs() < 1e-4 * ab, "{ab} {ba}");
        }
    }

    /// The density belongs to the draws: the mean of 1/pdf over drawn directions is the solid angle they can reach.
    #[test]
    fn density_matches_the_draws() {
        let s = surface(0.5, 0.0, 0.6, 0.0);
        let wo = Vec3::new(0.5, 0.0, 0.866).normalize();
        let b = Bsdf::new(&s, wo, Vec3::Z, Vec3::Z, Allowed::ALL);
        let n = 65536;
        let sum: f64 = (0..n)
            .filter_map(|i| {
                let [c, x, y, _] = Sampler::new(5, 0, 0, 0, i).set(0);
                b.sample(c, Vec2::new(x, y), Allowed::ALL).and_then(|s| s.pdf).map(|p| 1.0 / p as f64)
            })
            .sum::<f64>()
            / n as f64;
        assert!((sum / (2.0 * std::f64::consts::PI) - 1.0).abs() < 0.03, "{sum}");
    }
}
