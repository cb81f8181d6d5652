//! Drawing directions of the environment by a 2D piecewise constant distribution of luminance at the chosen width. It is
//! built from the full-resolution map, widened by a texel so that it covers the footprint of the bilinear look-up: nothing
//! small is missed at any width.

use super::table::Tables;
use glam::Vec2;
use picture::luminance;
use scene::Environment;
use std::f32::consts::{PI, TAU};

pub struct Sky {
    rows: Tables,
    columns: Tables,
    width: usize,
    height: usize,
    /// Mean radiance over all directions, as luminance.
    pub mean: f32,
}

impl Sky {
    /// `width` cells around, half as many from top to bottom; at most those of the map.
    pub fn new(map: &Environment, width: usize) -> Sky {
        let (w, h) = (map.width, map.height);
        let y = |c: usize, r: usize| luminance(map.pixels[r * w + c]);
        let weight = |c: usize, r: usize| {
            let mut most = 0.0f32;
            for dr in [r.saturating_sub(1), r, (r + 1).min(h - 1)] {
                for dc in [c, (c + 1) % w, (c + w - 1) % w] {
                    most = most.max(y(dc, dr));
                }
            }
            let plain = y(c, r);
            // A share of the brightest neighbour is enough to cover the footprint.
            plain + 0.25 * (most - plain)
        };
        let sine = |r: usize, h: usize| ((r as f32 + 0.5) / h as f32 * PI).sin();
        let (cells, lines) = (width.min(w), (width / 2).max(1).min(h));
        let mut sums = vec![0.0f32; cells * lines];
        let (mut mean, mut solid) = (0.0f64, 0.0f64);
        for r in 0..h {
            let line = r * lines / h;
            for c in 0..w {
                sums[line * cells + c * cells / w] += weight(c, r) * sine(r, h);
                mean += (y(c, r) * sine(r, h)) as f64;
                solid += sine(r, h) as f64;
            }
        }
        let of_rows: Vec<f32> = sums.chunks_exact(cells).map(|row| row.iter().sum()).collect();
        Sky {
            rows: Tables::new(&of_rows, lines),
            columns: Tables::new(&sums, cells),
            width: cells,
            height: lines,
            mean: (mean / solid) as f32,
        }
    }

    #[inline]
    fn density_factor(&self, v: f32) -> f32 {
        (self.height * self.width) as f32 / (TAU * PI * (v * PI).sin().max(1e-6))
    }

    /// Picture coordinates and their density per solid angle.
    pub fn draw(&self, u: Vec2) -> ((f32, f32), f32) {
        let (r, fr, of_row) = self.rows.draw(0, u.y);
        let (c, fc, of_cell) = self.columns.draw(r, u.x);
        let v = (r as f32 + fr) / self.height as f32;
        (((c as f32 + fc) / self.width as f32, v), of_row * of_cell * self.density_factor(v))
    }

    /// The density of [`Sky::draw`] at picture coordinates.
    pub fn pdf(&self, (u, v): (f32, f32)) -> f32 {
        let r = ((v * self.height as f32) as usize).min(self.height - 1);
        let c = ((u * self.width as f32) as usize).min(self.width - 1);
        self.rows.share(0, r) * self.columns.share(r, c) * self.density_factor(v)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sampler::Sampler;

    /// The density integrates to 1, and drawing by it gives the integral of the radiance, at any width.
    #[test]
    fn sky_is_drawn_by_its_density() {
        let (w, h) = (32, 16);
        let mut map = Environment::uniform([0.2; 3]);
        (map.width, map.height) = (w, h);
        map.pixels = vec![[0.2; 3]; w * h];
        map.pixels[5 * w + 9] = [400.0, 300.0, 200.0];
        for width in [4, 16, 64] {
            let sky = Sky::new(&map, width);
            let n = 400;
            let (mut mass, mut light) = (0.0f64, 0.0f64);
            for i in 0..2 * n {
                for j in 0..n {
                    let (u, v) = ((i as f32 + 0.5) / (2 * n) as f32, (j as f32 + 0.5) / n as f32);
                    let solid = (TAU * PI * (v * PI).sin() / (2 * n * n) as f32) as f64;
                    mass += sky.pdf((u, v)) as f64 * solid;
                    light += map.at(u, v).x as f64 * solid;
                }
            }
            assert!((mass - 1.0).abs() < 0.01, "{mass}");
            let draws = 65536;
            let mut strays = 0;
            let drawn: f64 = (0..draws)
                .map(|i| {
                    let [x, y, ..] = Sampler::new(1, 0, 0, 0, i).set(0);
                    let ((u, v), pdf) = sky.draw(Vec2::new(x, y));
                    let d = Environment::direction(u, v);
                    strays += ((sky.pdf(Environment::uv(d)) / pdf - 1.0).abs() > 0.02) as u32;
                    (map.at(u, v).x / pdf) as f64
                })
                .sum::<f64>()
                / draws as f64;
            // Rounding puts a few directions on the other side of a texel's edge.
            assert!(strays < draws / 1000, "{strays}");
            assert!((drawn / light - 1.0).abs() < 0.02, "{drawn} {light}");
        }
    }
}
