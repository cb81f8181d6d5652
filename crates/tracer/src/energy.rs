//! What rough surfaces reflect in total, tabulated, so that light lost between microfacets can be given back (Kulla and Conty
//! 2017, "Revisiting Physically Based Shading") and layers below get exactly the rest.
//!
//! Reading first: [`Layer`], a specular layer; [`Glass`]; [`sheen`]; [`coat_return`], the light that a coat sends back to what it
//! covers. Tables are made once for each program, or once for each index of rough glass.

use crate::{fresnel, ggx};
use glam::{Vec2, Vec3};
use rayon::prelude::*;
use std::f32::consts::{FRAC_PI_2, PI, TAU};
use std::sync::LazyLock;

/// Pairs of values over the unit cube of D coordinates, interpolated linearly. A look-up costs 2^D reads.
struct Table<const D: usize> {
    sizes: [usize; D],
    values: Vec<[f32; 2]>,
}

impl<const D: usize> Table<D> {
    fn new(sizes: [usize; D], value: impl Fn([f32; D]) -> [f32; 2] + Sync) -> Table<D> {
        let coordinates = |mut i: usize| {
            std::array::from_fn(|d| {
                let k = i % sizes[d];
                i /= sizes[d];
                k as f32 / (sizes[d] - 1) as f32
            })
        };
        let values = (0..sizes.iter().product()).into_par_iter().map(|i| value(coordinates(i))).collect();
        Table { sizes, values }
    }

    #[inline]
    fn at(&self, x: [f32; D]) -> [f32; 2] {
        let (mut first, mut step) = (0, 1);
        let (mut steps, mut shares) = ([0usize; D], [0.0f32; D]);
        for d in 0..D {
            let top = self.sizes[d] - 1;
            let at = x[d].clamp(0.0, 1.0) * top as f32;
            let k = (at as usize).min(top - 1);
            first += k * step;
            (steps[d], shares[d]) = (step, at - k as f32);
            step *= self.sizes[d];
        }
        let mut sum = [0.0; 2];
        for corner in 0..1 << D {
            let (mut i, mut weight) = (first, 1.0);
            for d in 0..D {
                let far = corner >> d & 1 == 1;
                i += if far { steps[d] } else { 0 };
                weight *= if far { shares[d] } else { 1.0 - shares[d] };
            }
            let v = self.values[i];
            sum = [sum[0] + weight * v[0], sum[1] + weight * v[1]];
        }
        sum
    }
}

/// Coordinate of a cosine in a table: grazing angles, where most happens, get most of the entries.
fn of_cosine(mu: f32) -> f32 {
    mu.max(0.0).sqrt()
}

/// The cosine of a coordinate; grazing itself is approached only.
fn cosine_of(x: f32) -> f32 {
    (x * x).max(1e-4)
}

fn direction(mu: f32, phi: f32) -> Vec3 {
    let sin = (1.0 - mu * mu).max(0.0).sqrt();
    Vec3::new(sin * phi.cos(), sin * phi.sin(), mu)
}

/// The mean over the hemisphere, weighted by the cosine, of a function of direction that is symmetric about X and Y.
fn hemispherical_mean(turns: usize, f: impl Fn(Vec3) -> [f32; 2]) -> [f32; 2] {
    let steps = 96;
    let mut sum = [0.0f64; 2];
    for k in 0..steps {
        let mu = (k as f32 + 0.5) / steps as f32;
        for j in 0..turns {
            let v = f(direction(mu, (j as f32 + 0.5) / turns as f32 * FRAC_PI_2));
            sum = [0, 1].map(|c| sum[c] + (2.0 * mu * v[c]) as f64);
        }
    }
    sum.map(|s| (s / (steps * turns) as f64) as f32)
}

/// Below this microfacet width a lobe is a perfect mirror or window.
pub const SMOOTH: f32 = 1e-3;

/// How the microfacets of a surface spread.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Spread {
    /// Perceptual roughness across the stretch.
    pub roughness: f32,
    /// 0 alike in all directions … 1 as wide as can be along X (KHR_materials_anisotropy).
    pub stretch: f32,
}

impl Spread {
    pub fn even(roughness: f32) -> Spread {
        Spread { roughness, stretch: 0.0 }
    }

    /// Widths of the distribution along X and Y. What is stretched is never a perfect mirror.
    pub fn alpha(&self) -> Vec2 {
        let across = self.roughness * self.roughness;
        let alpha = Vec2::new(across + (1.0 - across) * self.stretch * self.stretch, across);
        if self.stretch > 0.0 { alpha.max(Vec2::splat(2.0 * SMOOTH)) } else { alpha }
    }
}

type Stretched = (Table<4>, Table<2>);

/// Directional albedo of a single bounce between microfacets, by direction and spread, with its means over the hemisphere. The
/// tables of stretched surfaces are made when the first is met.
struct Albedo {
    even: Table<2>,
    mean: Table<1>,
    stretched: LazyLock<Stretched, Box<dyn FnOnce() -> Stretched + Send>>,
}

impl Albedo {
    /// `value` of a direction in the upper half space and the widths along X and Y, from n × n microfacets.
    fn new(
        [cosines, roughnesses]: [usize; 2],
        value: impl Fn(Vec3, Vec2, usize) -> [f32; 2] + Sync + Send + Copy + 'static,
    ) -> Albedo {
        let wide = |s: Spread| s.alpha().max(Vec2::splat(SMOOTH));
        let even =
            Table::new([cosines, roughnesses], |[x, r]| value(direction(cosine_of(x), 0.0), wide(Spread::even(r)), 32));
        let mean = Table::new([roughnesses], |[r]| hemispherical_mean(1, |w| even.at([of_cosine(w.z), r])));
        let stretched = move || {
            let of = |[x, turn, t, stretch]: [f32; 4]| {
                let roughness = t * t;
                value(direction(cosine_of(x), turn.sqrt().acos()), wide(Spread { roughness, stretch }), 20)
            };
            let table = Table::new([24, 5, 12, 9], of);
            let mean = Table::new([12, 9], |[t, s]| {
                hemispherical_mean(16, |w| table.at(Albedo::coordinates(w, Spread { roughness: t * t, stretch: s })))
            });
            (table, mean)
        };
        Albedo { even, mean, stretched: LazyLock::new(Box::new(stretched)) }
    }

    /// Cosine, squared cosine of the turn from the stretch, spread.
    fn coordinates(w: Vec3, s: Spread) -> [f32; 4] {
        let flat = w.x * w.x + w.y * w.y;
        let turn = if flat > 0.0 { w.x * w.x / flat } else { 0.5 };
        // Little spread changes most.
        [of_cosine(w.z.abs()), turn, s.roughness.sqrt(), s.stretch]
    }

    #[inline]
    fn at(&self, w: Vec3, s: Spread) -> [f32; 2] {
        if s.stretch > 0.0 {
            return self.stretched.0.at(Albedo::coordinates(w, s));
        }
        self.even.at([of_cosine(w.z.abs()), s.roughness])
    }

    #[inline]
    fn mean(&self, s: Spread) -> [f32; 2] {
        if s.stretch > 0.0 { self.stretched.1.at([s.roughness.sqrt(), s.stretch]) } else { self.mean.at([s.roughness]) }
    }
}

/// Albedo of a mirroring layer for F = F0·(1−w) + F90·w with Schlick's w: `[plain, grazing]`.
static LAYER: LazyLock<Albedo> = LazyLock::new(|| Albedo::new([32, 32], mirrored));

fn mirrored(wo: Vec3, alpha: Vec2, n: usize) -> [f32; 2] {
    let mut sum = [0.0f64; 2];
    for u in grid(n) {
        let h = ggx::sample_visible(wo, alpha, u);
        let wi = 2.0 * wo.dot(h) * h - wo;
        if wi.z > 0.0 {
            let weight = (ggx::g2(wo, wi, alpha) / ggx::g1(wo, alpha)) as f64;
            let w = ((1.0 - wo.dot(h)).clamp(0.0, 1.0) as f64).powi(5);
            sum = [sum[0] + weight * (1.0 - w), sum[1] + weight * w];
        }
    }
    sum.map(|s| (s / (n * n) as f64) as f32)
}

/// Middles of n × n cells of the unit square.
fn grid(n: usize) -> impl Iterator<Item = Vec2> {
    (0..n * n).map(move |i| Vec2::new(((i % n) as f32 + 0.5) / n as f32, ((i / n) as f32 + 0.5) / n as f32))
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
    spread: Spread,
    /// Colour of the light that bounces more than once, and the share of a white layer that does, over the hemisphere.
    multiple: Vec3,
    lost: f32,
    mean: Vec3,
}

impl Layer {
    pub fn new(f0: Vec3, f90: f32, spread: Spread) -> Layer {
        let m = LAYER.mean(spread);
        let white = (m[0] + m[1]).min(1.0);
        let lost = 1.0 - white;
        // Mean of Schlick's formula over the hemisphere.
        let fresnel = f0 + (Vec3::splat(f90) - f0) / 21.0;
        let multiple = fresnel * fresnel * white / (Vec3::ONE - fresnel * lost);
        let mean = f0 * m[0] + Vec3::splat(f90 * m[1]) + multiple * lost;
        Layer { f0, f90, spread, multiple, lost, mean }
    }

    /// A share of another layer of the same spread beside this one.
    pub fn beside(&self, other: &Layer, share: f32) -> Layer {
        Layer {
            f0: self.f0.lerp(other.f0, share),
            f90: self.f90 + (other.f90 - self.f90) * share,
            multiple: self.multiple.lerp(other.multiple, share),
            mean: self.mean.lerp(other.mean, share),
            ..*self
        }
    }

    /// Seen from a local direction of the upper half space.
    #[inline]
    pub fn look(&self, w: Vec3) -> Look {
        let v = LAYER.at(w, self.spread);
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

/// What rough glass of one index lets go with a single bounce between microfacets, reflected and transmitted together, seen
/// from outside and from inside. The rest is given back by lobes that are even over both half spaces, in the shares that
/// make them reciprocal (Kulla and Conty 2017, "Revisiting Physically Based Shading").
pub struct Glass {
    /// Outside, inside.
    sides: [Albedo; 2],
    /// Mean Fresnel transmittance from each side.
    passing: [f32; 2],
}

impl Glass {
    /// For an index of at least 1 relative to the outside.
    pub fn new(ior: f32) -> Glass {
        let passing = |eta: f32| {
            let steps = 512;
            let mu = |k: usize| (k as f32 + 0.5) / steps as f32;
            let mean = |k: usize| 2.0 * mu(k) * (1.0 - fresnel::dielectric(mu(k), eta)) / steps as f32;
            (0..steps).map(mean).sum::<f32>()
        };
        let side = |eta: f32| Albedo::new([40, 24], move |wo, alpha, n| [glass_albedo(wo, alpha, eta, n), 0.0]);
        Glass { sides: [side(ior), side(1.0 / ior)], passing: [passing(ior), passing(1.0 / ior)] }
    }

    /// What is missing of the light of a local direction on a side (0 outside, 1 inside).
    pub fn missing(&self, side: usize, w: Vec3, spread: Spread) -> f32 {
        (1.0 - self.sides[side].at(w, spread)[0]).max(0.0)
    }

    /// The mean of [`Glass::missing`] over a side.
    pub fn mean_missing(&self, side: usize, spread: Spread) -> f32 {
        (1.0 - self.sides[side].mean(spread)[0]).max(1e-4)
    }

    /// Share of the missing light that passes to the other side.
    pub fn share_passing(&self, side: usize, spread: Spread) -> f32 {
        let (own, other) = (self.mean_missing(side, spread), self.mean_missing(1 - side, spread));
        self.passing[side] * other / (own + other)
    }
}

/// Albedo of one bounce between microfacets.
fn glass_albedo(wo: Vec3, alpha: Vec2, eta: f32, n: usize) -> f32 {
    let mut sum = 0.0f64;
    for u in grid(n) {
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

/// Index of refraction and reflectance of a coat (KHR_materials_clearcoat): 1.5, 4 %.
pub const COAT_F0: f32 = 0.04;

/// Light that a coat sends back to a white mirroring layer below it, as a share of the light of a direction: what the layer
/// throws at the coat from below and the coat does not let out. By cosine, roughness of the layer and of the coat. Coat and
/// layer let through 1 − max(ρ(o), ρ(i)), which never gains light; this is what is missing.
static RETURNED: LazyLock<(Table<3>, Table<2>)> = LazyLock::new(|| {
    let table = Table::new([16, 16, 16], |[x, base, coat]| {
        let wo = direction(cosine_of(x), 0.0);
        let coat = Layer::new(Vec3::splat(COAT_F0), 1.0, Spread::even(coat));
        let layer = Layer::new(Vec3::ONE, 1.0, Spread::even(base));
        let alpha = Spread::even(base).alpha().max(Vec2::splat(SMOOTH));
        let own = coat.look(wo).albedo.x;
        let seen = layer.look(wo);
        let (mut narrow, mut broad) = ([0.0f64; 2], [0.0f64; 2]);
        for u in grid(24) {
            let h = ggx::sample_visible(wo, alpha, u);
            let wi = 2.0 * wo.dot(h) * h - wo;
            if wi.z > 0.0 {
                let weight = (ggx::g2(wo, wi, alpha) / ggx::g1(wo, alpha)) as f64;
                narrow[0] += weight;
                narrow[1] += weight * (coat.look(wi).albedo.x - own).max(0.0) as f64;
            }
            let wi = direction(u.x.sqrt(), 0.0);
            let weight = (1.0 - layer.look(wi).white) as f64;
            broad[0] += weight;
            broad[1] += weight * (coat.look(wi).albedo.x - own).max(0.0) as f64;
        }
        let mean = |s: [f64; 2]| if s[0] > 0.0 { (s[1] / s[0]) as f32 } else { 0.0 };
        [seen.white * mean(narrow) + (1.0 - seen.white) * mean(broad), 0.0]
    });
    let mean = Table::new([16, 16], |[base, coat]| hemispherical_mean(1, |w| table.at([of_cosine(w.z), base, coat])));
    (table, mean)
});

/// Share of the light of a direction that a coat of full strength sends back to a white layer.
pub fn coat_return(mu: f32, layer: f32, coat: f32) -> f32 {
    RETURNED.0.at([of_cosine(mu), layer, coat])[0]
}

/// The mean of [`coat_return`] over the hemisphere.
pub fn mean_coat_return(layer: f32, coat: f32) -> f32 {
    RETURNED.1.at([layer, coat])[0].max(1e-5)
}

/// The sheen lobe of white fibres without the cosine: "Charlie" density (Estevez and Kulla 2017) with the smooth masking of
/// Neubelt and Pettineo (2013), as KHR_materials_sheen gives it. It may reflect more than arrives at grazing angles.
fn fibres(wo: Vec3, wi: Vec3, roughness: f32) -> f32 {
    let h = (wo + wi).normalize_or(Vec3::Z);
    let inverse = 1.0 / roughness.max(LEAST_SHEEN).powi(2);
    let sin2 = (1.0 - h.z * h.z).clamp(0.0, 1.0);
    let density = (2.0 + inverse) * sin2.powf(0.5 * inverse) / TAU;
    density / (4.0 * (wi.z + wo.z - wi.z * wo.z)).max(1e-4)
}

/// Roughness of fibres below which they are not told apart.
pub const LEAST_SHEEN: f32 = 0.07;

fn of_sheen(mu: f32, roughness: f32) -> [f32; 2] {
    [of_cosine(mu), (roughness - LEAST_SHEEN) / (1.0 - LEAST_SHEEN)]
}

/// Total reflectance of white sheen by cosine and roughness: as the published lobe gives it, and as it is used.
static SHEEN: LazyLock<[Table<2>; 2]> = LazyLock::new(|| {
    let total = |f: &(dyn Fn(Vec3, Vec3, f32) -> f32 + Sync)| {
        Table::new([64, 24], |[x, r]| {
            let roughness = LEAST_SHEEN + (1.0 - LEAST_SHEEN) * r;
            let wo = direction(cosine_of(x), 0.0);
            let n = 64;
            // Most of it lies near the horizon: z = t² puts the directions there.
            let each = |u: Vec2| {
                let wi = direction(u.x * u.x, u.y * PI);
                f(wo, wi, roughness) * wi.z * 2.0 * u.x
            };
            [grid(n).map(each).sum::<f32>() * TAU / (n * n) as f32, 0.0]
        })
    };
    let published = total(&fibres);
    let most = |w: Vec3, r: f32| published.at(of_sheen(w.z, r))[0].max(1.0);
    let used = total(&|wo, wi, r| fibres(wo, wi, r) / most(wo, r).max(most(wi, r)));
    [published, used]
});

/// The sheen lobe of white fibres, without the cosine: the published one, scaled down in both directions alike where it would
/// reflect more light than arrives.
pub fn sheen(wo: Vec3, wi: Vec3, roughness: f32) -> f32 {
    let most = |w: Vec3| SHEEN[0].at(of_sheen(w.z, roughness))[0].max(1.0);
    fibres(wo, wi, roughness) / most(wo).max(most(wi))
}

/// Total reflectance of white sheen towards a direction.
pub fn sheen_albedo(mu: f32, roughness: f32) -> f32 {
    SHEEN[1].at(of_sheen(mu, roughness))[0].min(1.0)
}

/// Sorts of surfaces whose tables a scene needs.
#[derive(Debug, Clone, Copy, Default)]
pub struct Needed {
    pub stretched: bool,
    pub coats: bool,
    pub sheen: bool,
}

/// Makes the tables, so that no sample waits for them.
pub fn prepare(needed: Needed, glass: &[&Glass]) {
    LazyLock::force(&LAYER);
    if needed.stretched {
        LazyLock::force(&LAYER.stretched);
        glass.iter().flat_map(|g| &g.sides).for_each(|s| {
            LazyLock::force(&s.stretched);
        });
    }
    if needed.coats {
        LazyLock::force(&RETURNED);
    }
    if needed.sheen {
        LazyLock::force(&SHEEN);
    }
}
