//! What a rough specular layer reflects in total, tabulated, so that light lost between microfacets can be given back
//! (Kulla and Conty 2017) and a matte base below gets exactly the rest.

use crate::{fresnel, ggx};
use glam::{Vec2, Vec3};
use std::f32::consts::TAU;
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
    let alpha = Vec2::splat(alpha.max(1e-3));
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
    pub white: f32,
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

    /// A share of another layer of the same roughness beside this one.
    pub fn beside(&self, other: &Layer, share: f32) -> Layer {
        Layer {
            f0: self.f0.lerp(other.f0, share),
            f90: self.f90 + (other.f90 - self.f90) * share,
            multiple: self.multiple.lerp(other.multiple, share),
            mean: self.mean.lerp(other.mean, share),
            ..*self
        }
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

    /// [`Layer::multiple_lobe`] of a white layer.
    pub fn white_lobe(&self, o: &Look, i: &Look) -> f32 {
        (1.0 - o.white) * (1.0 - i.white) / self.lost.max(1e-4)
    }

    /// Share of the base's reflection that comes through the layer both ways, normalised so that a white matte base loses
    /// only what the layer reflects: (1−ρ(o))(1−ρ(i))/(1−ρ̄). Symmetric in both directions.
    pub fn through(&self, o: &Look, i: &Look) -> Vec3 {
        let rest = (Vec3::ONE - self.mean).max(Vec3::splat(1e-3));
        (Vec3::ONE - o.albedo).max(Vec3::ZERO) * (Vec3::ONE - i.albedo).max(Vec3::ZERO) / rest
    }

    /// The mean of [`Layer::look`]'s albedo over the hemisphere.
    pub fn mean(&self) -> Vec3 {
        self.mean
    }
}

/// A table over cosine and roughness with its cosine-weighted mean over the hemisphere.
struct Grid {
    size: usize,
    values: Vec<f32>,
    mean: Vec<f32>,
}

impl Grid {
    fn new(size: usize, value: impl Fn(f32, f32) -> f32) -> Grid {
        let at = |i: usize| i as f32 / (size - 1) as f32;
        let values = (0..size * size).map(|i| value(at(i % size).max(0.01), at(i / size))).collect();
        let mut grid = Grid { size, values, mean: Vec::new() };
        grid.mean = (0..size)
            .map(|r| {
                let steps = 128;
                let mu = |k: usize| (k as f32 + 0.5) / steps as f32;
                (0..steps).map(|k| 2.0 * mu(k) * grid.at(mu(k), at(r)) / steps as f32).sum()
            })
            .collect();
        grid
    }

    fn at(&self, mu: f32, roughness: f32) -> f32 {
        let top = (self.size - 1) as f32;
        let (x, y) = (mu.clamp(0.0, 1.0) * top, roughness.clamp(0.0, 1.0) * top);
        let (i, j) = ((x as usize).min(self.size - 2), (y as usize).min(self.size - 2));
        let row = |r: usize| {
            let (a, b) = (self.values[r * self.size + i], self.values[r * self.size + i + 1]);
            a + (b - a) * (x - i as f32)
        };
        row(j) + (row(j + 1) - row(j)) * (y - j as f32)
    }

    fn mean(&self, roughness: f32) -> f32 {
        let y = roughness.clamp(0.0, 1.0) * (self.size - 1) as f32;
        let j = (y as usize).min(self.size - 2);
        self.mean[j] + (self.mean[j + 1] - self.mean[j]) * (y - j as f32)
    }
}

/// What rough glass of one index lets go with a single bounce between microfacets, reflected and transmitted together, seen
/// from outside and from inside. The rest is given back by lobes that are even over both half spaces, in the shares that
/// make them reciprocal (Kulla and Conty 2017, "Revisiting Physically Based Shading").
pub struct Glass {
    /// Outside, inside.
    sides: [Grid; 2],
    /// Mean Fresnel transmittance from each side.
    passing: [f32; 2],
}

impl Glass {
    pub fn new(ior: f32) -> Glass {
        let passing = |eta: f32| {
            let steps = 512;
            let mu = |k: usize| (k as f32 + 0.5) / steps as f32;
            let mean = |k: usize| 2.0 * mu(k) * (1.0 - fresnel::dielectric(mu(k), eta)) / steps as f32;
            (0..steps).map(mean).sum::<f32>()
        };
        let side = |eta: f32| Grid::new(16, |mu, roughness| glass_albedo(mu, roughness * roughness, eta));
        Glass { sides: [side(ior), side(1.0 / ior)], passing: [passing(ior), passing(1.0 / ior)] }
    }

    /// What is missing of the light of a direction on a side (0 outside, 1 inside).
    pub fn missing(&self, side: usize, mu: f32, roughness: f32) -> f32 {
        (1.0 - self.sides[side].at(mu, roughness)).max(0.0)
    }

    /// The mean of [`Glass::missing`] over a side.
    pub fn mean_missing(&self, side: usize, roughness: f32) -> f32 {
        (1.0 - self.sides[side].mean(roughness)).max(1e-4)
    }

    /// Share of the missing light that passes to the other side.
    pub fn share_passing(&self, side: usize, roughness: f32) -> f32 {
        let (own, other) = (self.mean_missing(side, roughness), self.mean_missing(1 - side, roughness));
        self.passing[side] * other / (own + other)
    }
}

fn glass_albedo(mu: f32, alpha: f32, eta: f32) -> f32 {
    let alpha = Vec2::splat(alpha.max(1e-3));
    let wo = Vec3::new((1.0 - mu * mu).sqrt(), 0.0, mu);
    let n = 24;
    let mut sum = 0.0f64;
    for i in 0..n * n {
        let u = Vec2::new(((i % n) as f32 + 0.5) / n as f32, ((i / n) as f32 + 0.5) / n as f32);
        let h = ggx::sample_visible(wo, alpha, u);
        let f = fresnel::dielectric(wo.dot(h), eta);
        let reflected = 2.0 * wo.dot(h) * h - wo;
        if reflected.z > 0.0 {
            sum += (f * ggx::g2(wo, reflected, alpha) / ggx::g1(wo, alpha)) as f64;
        }
        if let Some(wi) = fresnel::refract(wo, h, eta).filter(|w| w.z < 0.0) {
            sum += ((1.0 - f) * ggx::g1(wi, alpha)) as f64;
        }
    }
    (sum / (n * n) as f64) as f32
}

/// Total reflectance of white sheen.
static SHEEN: LazyLock<Grid> = LazyLock::new(|| {
    Grid::new(SIZE, |mu, roughness| {
        let wo = Vec3::new((1.0 - mu * mu).sqrt(), 0.0, mu);
        let n = 48;
        let mut sum = 0.0;
        for i in 0..n * n {
            // Even over the hemisphere.
            let (z, phi) = (((i % n) as f32 + 0.5) / n as f32, ((i / n) as f32 + 0.5) / n as f32 * TAU);
            let r = (1.0 - z * z).sqrt();
            sum += sheen(wo, Vec3::new(r * phi.cos(), r * phi.sin(), z), roughness) * z;
        }
        (sum * TAU / (n * n) as f32).min(1.0)
    })
});

/// The sheen lobe of white fibres, without the cosine: "Charlie" density (Estevez and Kulla 2017) with the smooth masking of
/// Neubelt and Pettineo (2013), as KHR_materials_sheen gives it.
pub fn sheen(wo: Vec3, wi: Vec3, roughness: f32) -> f32 {
    let h = (wo + wi).normalize_or(Vec3::Z);
    let inverse = 1.0 / (roughness * roughness).max(0.005);
    let sin2 = (1.0 - h.z * h.z).clamp(0.0, 1.0);
    let density = (2.0 + inverse) * sin2.powf(0.5 * inverse) / TAU;
    density / (4.0 * (wi.z + wo.z - wi.z * wo.z)).max(1e-4)
}

/// Total reflectance of white sheen towards a direction.
pub fn sheen_albedo(mu: f32, roughness: f32) -> f32 {
    SHEEN.at(mu, roughness)
}

/// Fills the tables, so that no sample waits for them.
pub fn prepare() {
    LazyLock::force(&MEAN);
    LazyLock::force(&SHEEN);
}
