//! GGX microfacets with height-correlated Smith masking (Heitz 2014), sampled by visible normals
//! (Dupuy and Benyoub, "Sampling Visible GGX Normals with Spherical Caps", 2023). Local frame, normal +Z; the widths along
//! X and Y may differ.

use glam::{Vec2, Vec3};
use std::f32::consts::{PI, TAU};

/// Density of microfacet normals; its projected area integrates to 1.
pub fn d(h: Vec3, alpha: Vec2) -> f32 {
    let (x, y) = (h.x / alpha.x, h.y / alpha.y);
    let k = x * x + y * y + h.z * h.z;
    1.0 / (PI * alpha.x * alpha.y * k * k)
}

fn lambda(w: Vec3, alpha: Vec2) -> f32 {
    let (x, y) = (w.x * alpha.x, w.y * alpha.y);
    let t = (x * x + y * y) / (w.z * w.z).max(1e-12);
    0.5 * ((1.0 + t).sqrt() - 1.0)
}

/// Share of the microfacets that `w` sees.
pub fn g1(w: Vec3, alpha: Vec2) -> f32 {
    1.0 / (1.0 + lambda(w, alpha))
}

/// Share seen by both, for directions on the same side.
pub fn g2(wo: Vec3, wi: Vec3, alpha: Vec2) -> f32 {
    1.0 / (1.0 + lambda(wo, alpha) + lambda(wi, alpha))
}

/// Share seen by both, for directions on opposite sides (Walter et al. 2007 with correlated heights by the beta function
/// replaced by the product, which is its usual bound).
pub fn g2_through(wo: Vec3, wi: Vec3, alpha: Vec2) -> f32 {
    g1(wo, alpha) * g1(wi, alpha)
}

/// A visible normal for `wo` in the upper half space.
pub fn sample_visible(wo: Vec3, alpha: Vec2, u: Vec2) -> Vec3 {
    let stretched = Vec3::new(wo.x * alpha.x, wo.y * alpha.y, wo.z).normalize();
    let (sin, cos) = (TAU * u.x).sin_cos();
    let z = (1.0 - u.y) * (1.0 + stretched.z) - stretched.z;
    let r = (1.0 - z * z).max(0.0).sqrt();
    let h = Vec3::new(r * cos, r * sin, z) + stretched;
    Vec3::new(h.x * alpha.x, h.y * alpha.y, h.z.max(0.0)).normalize_or(Vec3::Z)
}

/// Density of [`sample_visible`] over normals.
pub fn visible_pdf(wo: Vec3, h: Vec3, alpha: Vec2) -> f32 {
    g1(wo, alpha) * wo.dot(h).max(0.0) * d(h, alpha) / wo.z.max(1e-6)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f32::consts::FRAC_PI_2;

    /// ∫ D(h)(n·h) dh = 1 (Walter et al. 2007), and the visible normals' density integrates to 1.
    #[test]
    fn densities_integrate_to_one() {
        for alpha in [(0.05, 0.05), (0.2, 0.2), (0.6, 0.6), (1.0, 1.0), (0.1, 0.5)].map(Vec2::from) {
            let wo = Vec3::new(0.6, 0.0, 0.8);
            let (mut projected, mut visible) = (0.0f64, 0.0f64);
            let (n, m) = (4000, 128);
            for i in 0..n {
                let theta = (i as f32 + 0.5) / n as f32 * FRAC_PI_2;
                for j in 0..m {
                    let phi = (j as f32 + 0.5) / m as f32 * TAU;
                    let h = Vec3::new(theta.sin() * phi.cos(), theta.sin() * phi.sin(), theta.cos());
                    let solid = (theta.sin() * FRAC_PI_2 / n as f32 * TAU / m as f32) as f64;
                    projected += (d(h, alpha) * h.z) as f64 * solid;
                    visible += visible_pdf(wo, h, alpha) as f64 * solid;
                }
            }
            assert!((projected - 1.0).abs() < 2e-3, "α = {alpha}: {projected}");
            assert!((visible - 1.0).abs() < 2e-3, "α = {alpha}: {visible}");
        }
    }
}
