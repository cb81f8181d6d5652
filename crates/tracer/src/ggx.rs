//! GGX microfacets with height-correlated Smith masking (Heitz 2014), sampled by visible normals
//! (Dupuy and Benyoub, "Sampling Visible GGX Normals with Spherical Caps", 2023). Isotropic; local frame, normal +Z.

use glam::{Vec2, Vec3};

/// Density of microfacet normals; its projected area integrates to 1.
pub fn d(h: Vec3, alpha: f32) -> f32 {
    let a2 = alpha * alpha;
    let c2 = h.z * h.z;
    let k = c2 * (a2 - 1.0) + 1.0;
    a2 / (std::f32::consts::PI * k * k)
}

fn lambda(w: Vec3, alpha: f32) -> f32 {
    let c2 = w.z * w.z;
    let tan2 = (1.0 - c2).max(0.0) / c2.max(1e-12);
    0.5 * ((1.0 + alpha * alpha * tan2).sqrt() - 1.0)
}

/// Share of the microfacets that `w` sees.
pub fn g1(w: Vec3, alpha: f32) -> f32 {
    1.0 / (1.0 + lambda(w, alpha))
}

/// Share seen by both, for directions on the same side.
pub fn g2(wo: Vec3, wi: Vec3, alpha: f32) -> f32 {
    1.0 / (1.0 + lambda(wo, alpha) + lambda(wi, alpha))
}

/// Share seen by both, for directions on opposite sides (Walter et al. 2007 with correlated heights by the beta function
/// replaced by the product, which is its usual bound).
pub fn g2_through(wo: Vec3, wi: Vec3, alpha: f32) -> f32 {
    g1(wo, alpha) * g1(wi, alpha)
}

/// A visible normal for `wo` in the upper half space.
pub fn sample_visible(wo: Vec3, alpha: f32, u: Vec2) -> Vec3 {
    let stretched = Vec3::new(wo.x * alpha, wo.y * alpha, wo.z).normalize();
    let phi = std::f32::consts::TAU * u.x;
    let z = (1.0 - u.y) * (1.0 + stretched.z) - stretched.z;
    let r = (1.0 - z * z).max(0.0).sqrt();
    let h = Vec3::new(r * phi.cos(), r * phi.sin(), z) + stretched;
    Vec3::new(h.x * alpha, h.y * alpha, h.z.max(0.0)).normalize_or(Vec3::Z)
}

/// Density of [`sample_visible`] over normals.
pub fn visible_pdf(wo: Vec3, h: Vec3, alpha: f32) -> f32 {
    g1(wo, alpha) * wo.dot(h).max(0.0) * d(h, alpha) / wo.z.max(1e-6)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f32::consts::{FRAC_PI_2, TAU};

    /// ∫ D(h)(n·h) dh = 1 (Walter et al. 2007), and the visible normals' density integrates to 1.
    #[test]
    fn densities_integrate_to_one() {
        for alpha in [0.05f32, 0.2, 0.6, 1.0] {
            let wo = Vec3::new(0.6, 0.0, 0.8);
            let (mut projected, mut visible) = (0.0f64, 0.0f64);
            let (n, m) = (4000, 64);
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
