//! Fresnel reflectance of dielectrics and refraction by Snell's law.

use glam::Vec3;

/// Unpolarised reflectance at a boundary. `cos_i` ≥ 0 is the cosine on the side of the incoming direction,
/// `eta` = index on the other side ÷ index on this side.
#[inline]
pub fn dielectric(cos_i: f32, eta: f32) -> f32 {
    let cos_i = cos_i.clamp(0.0, 1.0);
    let sin2_t = (1.0 - cos_i * cos_i) / (eta * eta);
    if sin2_t >= 1.0 {
        return 1.0;
    }
    let cos_t = (1.0 - sin2_t).sqrt();
    let parallel = (eta * cos_i - cos_t) / (eta * cos_i + cos_t);
    let perpendicular = (cos_i - eta * cos_t) / (cos_i + eta * cos_t);
    0.5 * (parallel * parallel + perpendicular * perpendicular)
}

/// Schlick's approximation between normal and grazing reflectance.
#[inline]
pub fn schlick(f0: Vec3, f90: f32, cos: f32) -> Vec3 {
    let m = (1.0 - cos).clamp(0.0, 1.0);
    f0 + (Vec3::splat(f90) - f0) * (m * m * m * m * m)
}

/// The refracted direction of `w` (pointing away from the surface) at the normal `h` on its side; none at total reflection.
#[inline]
pub fn refract(w: Vec3, h: Vec3, eta: f32) -> Option<Vec3> {
    let cos_i = w.dot(h);
    let sin2_t = (1.0 - cos_i * cos_i).max(0.0) / (eta * eta);
    (sin2_t < 1.0).then(|| (-w / eta + h * (cos_i / eta - (1.0 - sin2_t).sqrt())).normalize())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Hecht, *Optics*: glass of index 1.5 reflects 4 % at normal incidence, has Brewster's angle at atan 1.5 = 56.31°
    /// and reflects totally from asin(1/1.5) = 41.81° inside.
    #[test]
    fn glass_reflects_as_the_textbook_says() {
        assert!((dielectric(1.0, 1.5) - 0.04).abs() < 1e-6);
        let brewster = 56.31f32.to_radians();
        let (c, t) = (brewster.cos(), (brewster.sin() / 1.5).asin().cos());
        let parallel = (1.5 * c - t) / (1.5 * c + t);
        assert!(parallel.abs() < 1e-4);
        assert!((dielectric(c, 1.5) - 0.5 * ((c - 1.5 * t) / (c + 1.5 * t)).powi(2)).abs() < 1e-6);
        assert_eq!(dielectric(41.82f32.to_radians().cos(), 1.0 / 1.5), 1.0);
        assert!(dielectric(41.80f32.to_radians().cos(), 1.0 / 1.5) < 1.0);
    }

    #[test]
    fn refraction_obeys_snell() {
        let w = Vec3::new(0.6, 0.0, 0.8);
        let t = refract(w, Vec3::Z, 1.5).unwrap();
        assert!((t.x.abs() - 0.6 / 1.5).abs() < 1e-6 && t.z < 0.0);
    }
}
