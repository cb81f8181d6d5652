//! Choosing a light and a point on it: environment, punctual lights and emissive triangles.
//!
//! First a group is chosen, half by its power and half evenly, then a light in the group by power, then a point.
//! The environment follows a 2D piecewise constant distribution of luminance over the whole map, widened by a texel so
//! that it covers the footprint of the bilinear look-up. Densities are per solid angle.

use glam::{Vec2, Vec3};
use picture::luminance;
use scene::{Environment, Light, LightKind, Scene};
use std::f32::consts::{PI, TAU};

/// A discrete distribution, drawn in O(1) on average: a guide table (Chen and Asau 1974) says where to begin looking.
#[derive(Debug, Clone, Default)]
struct Table {
    /// cumulative[i] = share of all entries before i; one longer than the entries.
    cumulative: Vec<f32>,
    /// guide[k] = the entry at u = k/n.
    guide: Vec<u32>,
}

impl Table {
    fn new(weights: impl IntoIterator<Item = f32>) -> Table {
        let mut sum = 0.0f64;
        let mut cumulative = vec![0.0f64];
        for w in weights {
            sum += w as f64;
            cumulative.push(sum);
        }
        let n = cumulative.len() - 1;
        let cumulative: Vec<f32> = (0..=n)
            .map(|i| if sum > 0.0 { (cumulative[i] / sum) as f32 } else { i as f32 / n.max(1) as f32 })
            .collect();
        let mut at = 0;
        let guide = (0..n)
            .map(|k| {
                while at + 1 < n && cumulative[at + 1] <= k as f32 / n as f32 {
                    at += 1;
                }
                at as u32
            })
            .collect();
        Table { cumulative, guide }
    }

    /// The entry at `u`, and where in it `u` lies.
    fn draw(&self, u: f32) -> (usize, f32) {
        let n = self.guide.len();
        let mut i = self.guide[((u * n as f32) as usize).min(n - 1)] as usize;
        while i + 1 < n && self.cumulative[i + 1] <= u {
            i += 1;
        }
        let share = self.share(i);
        let within = if share > 0.0 { (u - self.cumulative[i]) / share } else { 0.5 };
        (i, within.clamp(0.0, 0.999_999_94))
    }

    fn share(&self, i: usize) -> f32 {
        self.cumulative[i + 1] - self.cumulative[i]
    }
}

struct Sky {
    rows: Table,
    columns: Vec<Table>,
}

impl Sky {
    fn new(map: &Environment) -> (Sky, f32) {
        let (w, h) = (map.width, map.height);
        let y = |c: usize, r: usize| luminance(map.pixels[r * w + c]);
        let weight = |c: usize, r: usize| {
            let mut most = 0.0f32;
            for dr in [h.min(r + 1) - 1, r.saturating_sub(1), (r + 1).min(h - 1)] {
                for dc in [c, (c + 1) % w, (c + w - 1) % w] {
                    most = most.max(y(dc, dr));
                }
            }
            let plain = y(c, r);
            // A share of the brightest neighbour is enough to cover the footprint.
            (plain + 0.25 * (most - plain)) * ((r as f32 + 0.5) / h as f32 * PI).sin()
        };
        let columns: Vec<Table> = (0..h).map(|r| Table::new((0..w).map(|c| weight(c, r)))).collect();
        let rows: Vec<f32> = (0..h).map(|r| (0..w).map(|c| weight(c, r)).sum()).collect();
        let mean = rows.iter().sum::<f32>() / (w * h) as f32 * (PI / 2.0);
        (Sky { rows: Table::new(rows), columns }, mean)
    }

    fn density_factor(&self, v: f32) -> f32 {
        self.columns.len() as f32 / (TAU * PI * (v * PI).sin().max(1e-6))
    }

    fn draw(&self, u: Vec2) -> (Vec3, f32) {
        let (r, fr) = self.rows.draw(u.y);
        let row = &self.columns[r];
        let (c, fc) = row.draw(u.x);
        let width = row.cumulative.len() - 1;
        let v = (r as f32 + fr) / self.columns.len() as f32;
        let direction = Environment::direction((c as f32 + fc) / width as f32, v);
        let pdf = self.rows.share(r) * row.share(c) * width as f32 * self.density_factor(v);
        (direction, pdf)
    }

    fn pdf(&self, direction: Vec3) -> f32 {
        let (u, v) = Environment::uv(direction);
        let r = ((v * self.columns.len() as f32) as usize).min(self.columns.len() - 1);
        let row = &self.columns[r];
        let width = row.cumulative.len() - 1;
        let c = ((u * width as f32) as usize).min(width - 1);
        self.rows.share(r) * row.share(c) * width as f32 * self.density_factor(v)
    }
}

struct Emitter {
    triangle: u32,
    corners: [Vec3; 3],
    /// Twice the area along the face normal.
    normal: Vec3,
    area: f32,
    both_sides: bool,
}

const SKY: usize = 0;
const PUNCTUAL: usize = 1;
const MESH: usize = 2;

pub struct Lights {
    groups: Table,
    sky: Option<Sky>,
    punctual: Vec<Light>,
    punctual_table: Table,
    emitters: Vec<Emitter>,
    emitter_table: Table,
    /// Emitter number of each triangle, or MAX.
    emitter_of: Vec<u32>,
}

/// A chosen point of a light as seen from a surface point.
pub struct LightSample {
    pub direction: Vec3,
    /// To the light; infinite for sky and directional lights.
    pub distance: f32,
    /// For emitters: triangle and barycentric weights of its second and third corner.
    pub emitter: Option<(u32, f32, f32)>,
    /// Radiance ÷ density, except for emitters, whose radiance the caller looks up.
    pub light: Vec3,
    /// Density for multiple importance sampling; none for lights that a ray cannot hit.
    pub pdf: Option<f32>,
}

impl Lights {
    pub fn new(scene: &Scene, environment: Option<&Environment>) -> Lights {
        let (lo, hi) = scene.bounds();
        let radius = (0.5 * (hi - lo).length()).max(1e-3);
        let lum = |c: Vec3| luminance(c.to_array());
        let (sky, sky_power) = match environment {
            Some(map) => {
                let (sky, mean) = Sky::new(map);
                (Some(sky), mean * PI * PI * radius * radius)
            }
            None => (None, 0.0),
        };
        let power = |l: &Light| {
            lum(l.intensity)
                * match l.kind {
                    LightKind::Point => 4.0 * PI,
                    LightKind::Spot { cos_outer, .. } => TAU * (1.0 - cos_outer),
                    LightKind::Directional => PI * radius * radius,
                }
        };
        let punctual: Vec<Light> = scene.lights.iter().filter(|l| power(l) > 0.0).cloned().collect();
        let mut emitter_of = vec![u32::MAX; scene.triangles.len()];
        let (mut emitters, mut powers) = (Vec::new(), Vec::new());
        for (i, t) in scene.triangles.iter().enumerate() {
            let m = &scene.materials[t.material as usize];
            if !m.emits() {
                continue;
            }
            let corners = scene.corner_positions(t);
            let normal = (corners[1] - corners[0]).cross(corners[2] - corners[0]);
            let area = 0.5 * normal.length();
            if area <= 0.0 {
                continue;
            }
            let textured = m.emissive_texture.map_or(1.0, |tex| mean_over(scene, t, &tex));
            emitter_of[i] = emitters.len() as u32;
            powers.push((lum(m.emission) * textured * area * PI).max(1e-12));
            emitters.push(Emitter {
                triangle: i as u32,
                corners,
                normal: normal.normalize(),
                area,
                both_sides: m.double_sided,
            });
        }
        let group_powers = [sky_power, punctual.iter().map(power).sum(), powers.iter().sum()];
        let total: f32 = group_powers.iter().sum();
        let live = group_powers.iter().filter(|p| **p > 0.0).count().max(1) as f32;
        let groups = Table::new(group_powers.map(|p| if p > 0.0 { 0.5 * p / total + 0.5 / live } else { 0.0 }));
        Lights {
            groups,
            sky: sky.filter(|_| sky_power > 0.0),
            punctual_table: Table::new(punctual.iter().map(power)),
            punctual,
            emitter_table: Table::new(powers),
            emitters,
            emitter_of,
        }
    }

    pub fn is_empty(&self) -> bool {
        self.sky.is_none() && self.punctual.is_empty() && self.emitters.is_empty()
    }

    /// Draws a light for the surface point `from`.
    pub fn sample(&self, from: Vec3, choice: f32, u: Vec2, environment: Option<&Environment>) -> Option<LightSample> {
        if self.is_empty() {
            return None;
        }
        let (group, within) = self.groups.draw(choice);
        let share = self.groups.share(group);
        match group {
            SKY => {
                let (direction, pdf) = self.sky.as_ref()?.draw(u);
                let pdf = pdf * share;
                let radiance = environment?.radiance(direction);
                (pdf > 0.0).then(|| LightSample {
                    direction,
                    distance: f32::INFINITY,
                    emitter: None,
                    light: radiance / pdf,
                    pdf: Some(pdf),
                })
            }
            PUNCTUAL => {
                let (i, _) = self.punctual_table.draw(within);
                let l = &self.punctual[i];
                let chance = share * self.punctual_table.share(i);
                let (direction, distance, falloff) = match l.kind {
                    LightKind::Directional => (-l.direction, f32::INFINITY, 1.0),
                    _ => {
                        let to = l.position - from;
                        let d2 = to.length_squared();
                        (to / d2.sqrt(), d2.sqrt(), l.cone(-to / d2.sqrt()) / d2)
                    }
                };
                (falloff > 0.0 && falloff.is_finite()).then(|| LightSample {
                    direction,
                    distance,
                    emitter: None,
                    light: l.intensity * (falloff / chance),
                    pdf: None,
                })
            }
            _ => {
                let (i, _) = self.emitter_table.draw(within);
                let e = &self.emitters[i];
                // Uniform over the triangle (Heitz 2019).
                let (mut b0, mut b1) = (0.5 * u.x, u.y - 0.5 * u.x);
                if u.y <= u.x {
                    (b0, b1) = (u.x - 0.5 * u.y, 0.5 * u.y);
                }
                let point = e.corners[0] * (1.0 - b0 - b1) + e.corners[1] * b0 + e.corners[2] * b1;
                let to = point - from;
                let distance = to.length();
                let direction = to / distance;
                let pdf = self.emitter_pdf(e.triangle, direction, distance);
                (pdf > 0.0 && pdf.is_finite()).then(|| LightSample {
                    direction,
                    distance,
                    emitter: Some((e.triangle, b0, b1)),
                    light: Vec3::splat(1.0 / pdf),
                    pdf: Some(pdf),
                })
            }
        }
    }

    /// Density with which [`Lights::sample`] draws this point of an emitting triangle.
    pub fn emitter_pdf(&self, triangle: u32, direction: Vec3, distance: f32) -> f32 {
        let i = self.emitter_of[triangle as usize];
        if i == u32::MAX {
            return 0.0;
        }
        let e = &self.emitters[i as usize];
        let cos = -e.normal.dot(direction);
        let cos = if e.both_sides { cos.abs() } else { cos };
        if cos <= 0.0 {
            return 0.0;
        }
        self.groups.share(MESH) * self.emitter_table.share(i as usize) * distance * distance / (e.area * cos)
    }

    /// Density with which [`Lights::sample`] draws this direction of the sky.
    pub fn sky_pdf(&self, direction: Vec3) -> f32 {
        self.sky.as_ref().map_or(0.0, |s| self.groups.share(SKY) * s.pdf(direction))
    }
}

/// Mean luminance of an emission texture over a triangle, from a grid of points inside it.
fn mean_over(scene: &Scene, t: &scene::Triangle, tex: &scene::TexRef) -> f32 {
    let uv = t.vertices.map(|v| scene.uvs[v as usize]);
    let n = 12;
    let (mut sum, mut count) = (0.0, 0);
    for i in 0..n {
        for j in 0..n - i {
            let (a, b) = ((i as f32 + 1.0 / 3.0) / n as f32, (j as f32 + 1.0 / 3.0) / n as f32);
            let c = tex.colour(&scene.textures, uv[0] * (1.0 - a - b) + uv[1] * a + uv[2] * b);
            sum += luminance(c.to_array());
            count += 1;
        }
    }
    sum / count as f32
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sampler::Sampler;

    /// The sky's density integrates to 1, and drawing by it gives the integral of the radiance.
    #[test]
    fn sky_is_drawn_by_its_density() {
        let (w, h) = (32, 16);
        let mut map = Environment::uniform([0.2; 3]);
        (map.width, map.height) = (w, h);
        map.pixels = vec![[0.2; 3]; w * h];
        map.pixels[5 * w + 9] = [400.0, 300.0, 200.0];
        let (sky, _) = Sky::new(&map);
        let n = 400;
        let (mut mass, mut light) = (0.0f64, 0.0f64);
        for i in 0..2 * n {
            for j in 0..n {
                let (u, v) = ((i as f32 + 0.5) / (2 * n) as f32, (j as f32 + 0.5) / n as f32);
                let solid = (TAU * PI * (v * PI).sin() / (2 * n * n) as f32) as f64;
                let d = Environment::direction(u, v);
                mass += sky.pdf(d) as f64 * solid;
                light += map.radiance(d).x as f64 * solid;
            }
        }
        assert!((mass - 1.0).abs() < 0.01, "{mass}");
        let draws = 65536;
        let mut strays = 0;
        let drawn: f64 = (0..draws)
            .map(|i| {
                let [x, y, ..] = Sampler::new(1, 0, 0, 0, i).set(0);
                let (d, pdf) = sky.draw(Vec2::new(x, y));
                strays += ((sky.pdf(d) / pdf - 1.0).abs() > 0.02) as u32;
                (map.radiance(d).x / pdf) as f64
            })
            .sum::<f64>()
            / draws as f64;
        // Rounding puts a few directions on the other side of a texel's edge.
        assert!(strays < draws / 1000, "{strays}");
        assert!((drawn / light - 1.0).abs() < 0.01, "{drawn} {light}");
    }
}
