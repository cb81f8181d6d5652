//! What a rough specular layer reflects in total, tabulated, so that light lost between microfacets can be given back
//! (Kulla and Conty 2017) and a matte base below gets exactly the rest.

use crate::ggx;
use glam::{Vec2, Vec3};
use std::sync::LazyLock;

const SIZE: usize = 32;

/// Directional albedo of the layer for F = F0·(1−w) + F90·w with Schlick's w: `[plain, grazing]` by cosine and roughness.
static TABLE: LazyLock<Vec<[f32; 2]>> = LazyLock::new(|| {
    (0..SIZE * SIZE).map(|i| integrate(cosine(i % SIZE), ((i / SIZE) as f32 / (SIZE - 1) as f32).powi(2))).collect()
});

/// Hemispherical mean of the table, cosine-weighted, by roughness.
static MEAN: LazyLock<Vec<[f32; 2]>> = LazyLock::new(|| {
    (0..SIZE)
        .map(|r| {
            let steps = 256;
            (0..steps).fold([0.0; 2], |sum, k| {
                let mu = (k as f32 + 0.5) / steps as f32;
                let v = lookup(mu, r as f32 / (SIZE - 1) as f32);
                [0, 1].map(|c| sum[c] + 2.0 * mu * v[c] / steps as f32)
            })
        })
        .collect()
});

fn cosine(i: usize) -> f32 {
    (i as f32 / (SIZE - 1) as f32).max(0.01)
}

fn integrate(mu: f32, alpha: f32) -> [f32; 2] {
    let alpha = alpha.max(1e-3);
    let wo = Vec3::new((1.0 - mu * mu).sqrt(), 0.0, mu);
    let n = 32;
    let mut sum = [0.0f64; 2];
    for i in 0..n * n {
        let u = Vec2::new(((i % n) as f32 + 0.5) / n as f32, ((i / n) as f32 + 0.5) / n as f32);
        let h = ggx::sample_visible(wo, alpha, u);
        let wi = 2.0 * wo.dot(h) * h - wo;
        if wi.z > 0.0 {
            let weight = (ggx::g2(wo, wi, alpha) / ggx::g1(wo, alpha)) as f64;
            let w = ((1.0 - wo.dot(h)).clamp(0.0, 1.0) as f64).powi(5);
            sum[0] += weight * (1.0 - w);
            sum[1] += weight * w;
        }
    }
    sum.map(|s| (s / (n * n) as f64) as f32)
}

fn blend(a: [f32; 2], b: [f32; 2], t: f32) -> [f32; 2] {
    [0, 1].map(|c| a[c] + (b[c] - a[c]) * t)
}

fn lookup(mu: f32, roughness: f32) -> [f32; 2] {
    let grid = (SIZE - 1) as f32;
    let (x, y) = (mu.clamp(0.0, 1.0) * grid, roughness.clamp(0.0, 1.0) * grid);
    let (i, j) = ((x as usize).min(SIZE - 2), (y as usize).min(SIZE - 2));
    let row = |r: usize| blend(TABLE[r * SIZE + i], TABLE[r * SIZE + i + 1], x - i as f32);
    blend(row(j), row(j + 1), y - j as f32)
}

/// What the layer does with light of one direction.
#[derive(Debug, Clone, Copy)]
pub struct Look {
    /// Total reflectance.
    pub albedo: Vec3,
    /// Share that a white layer reflects with a single bounce between microfacets.
    white: f32,
}

/// The layer for one surface point.
#[derive(Debug, Clone, Copy)]
pub struct Layer {
    f0: Vec3,
    f90: f32,
    roughness: f32,
    /// Colour of the light that bounces more than once, and the share of a white layer that does, over the hemisphere.
    multiple: Vec3,
    lost: f32,
    mean: Vec3,
}

impl Layer {
    pub fn new(f0: Vec3, f90: f32, roughness: f32) -> Layer {
        let grid = (SIZE - 1) as f32;
        let y = roughness.clamp(0.0, 1.0) * grid;
        let j = (y as usize).min(SIZE - 2);
        let m = blend(MEAN[j], MEAN[j + 1], y - j as f32);
        let white = (m[0] + m[1]).min(1.0);
        let lost = 1.0 - white;
        // Mean of Schlick's formula over the hemisphere.
        let fresnel = f0 + (Vec3::splat(f90) - f0) / 21.0;
        let multiple = fresnel * fresnel * white / (Vec3::ONE - fresnel * lost);
        let mean = f0 * m[0] + Vec3::splat(f90 * m[1]) + multiple * lost;
        Layer { f0, f90, roughness, multiple, lost, mean }
    }

    pub fn look(&self, cos: f32) -> Look {
        let v = lookup(cos, self.roughness);
        let white = (v[0] + v[1]).min(1.0);
        Look { albedo: self.f0 * v[0] + Vec3::splat(self.f90 * v[1]) + self.multiple * (1.0 - white), white }
    }

    /// Share of the layer's reflection that bounces more than once.
    pub fn multiple_share(&self, o: &Look) -> f32 {
        let total = o.albedo.element_sum();
        if total > 0.0 { (self.multiple * (1.0 - o.white)).element_sum() / total } else { 0.0 }
    }

    /// π times the lobe of light that bounces more than once: (1−E(o))(1−E(i))/(1−Ē). Symmetric in both directions.
    pub fn multiple_lobe(&self, o: &Look, i: &Look) -> Vec3 {
        self.multiple * ((1.0 - o.white) * (1.0 - i.white) / self.lost.max(1e-4))
    }

    /// Share of the base's reflection that comes through the layer both ways, normalised so that a white base loses only
    /// what the layer reflects: (1−ρ(o))(1−ρ(i))/(1−ρ̄). Symmetric in both directions.
    pub fn through(&self, o: &Look, i: &Look) -> Vec3 {
        let rest = (Vec3::ONE - self.mean).max(Vec3::splat(1e-3));
        (Vec3::ONE - o.albedo).max(Vec3::ZERO) * (Vec3::ONE - i.albedo).max(Vec3::ZERO) / rest
    }
}
