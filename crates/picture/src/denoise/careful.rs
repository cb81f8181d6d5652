//! *Careful*: first-order regression on albedo, normal and depth with non-local weights (Bitterli, Rousselle, Moon,
//! Iglesias-Guitián, Adler, Mitchell, Jarosz and Novák 2016).
//!
//! Around every second pixel of every second row a plane over the guides is fitted to the light of a window, weighted by how
//! alike the patches of two pixels are (Rousselle, Knaus and Zwicker 2012), and every pixel of the window takes a share of
//! that plane (collaborative aggregation). Each half is weighted by patches of the other one, so that noise does not choose
//! its own company. Two bandwidths compete; the other half tells which of them errs less. O(pixels / 4 × window × guides).

use super::group::Group;
use super::stray;
use super::wide::{fading, wide};
use crate::{Plate, Rgb};
use rayon::prelude::*;

/// Reach of a window and of a patch, pixels to each side.
const WINDOW: usize = 9;
const PATCH: usize = 3;
/// Candidates accept patches as far as noise explains, or half as far.
const CANDIDATES: usize = 2;
/// Side of the squares that are worked on at once.
const TILE: usize = 32;
const SIDE: usize = 2 * WINDOW + 1;
/// Offsets in a window.
const OFFSETS: usize = SIDE * SIDE;
/// Planes of a fit: a constant and the guides.
const FIT: usize = 8;
/// Spreads above the median of its neighbourhood at which a pixel of one half alone is stray, and how far its light goes.
const STRAY: f32 = 8.0;
const WIDER: usize = 10;
/// Reach of the squares in which candidates are compared.
const LOOK: usize = 4;
/// Weight of what a pixel is itself, so that one that is like no other stays what it is.
const OWN: f32 = 0.05;
/// Keeps a fit flat along guides that hardly vary, as a share of the weights.
const RIDGE: f32 = 0.1;

/// Filters the halves of a group of parts; results have the halves' order.
///
/// Light of stray pixels, which would stain a whole window, is spread wider than windows reach: nothing of it is lost.
pub(super) fn filtered(plate: &Plate, group: &Group) -> [Vec<Rgb>; 2] {
    let (w, h) = (plate.region.width as usize, plate.region.height as usize);
    let mut halves = group.halves.clone();
    let mut excess = [0, 1].map(|_| vec![[0.0f32; 3]; w * h]);
    for (i, by) in stray::found([&group.halves[0], &group.halves[1]], w, STRAY) {
        for half in 0..2 {
            let own = halves[half][i];
            halves[half][i] = own.map(|c| c * by[half]);
            excess[half][i] = own.map(|c| c * (1.0 - by[half]));
        }
    }
    let mut done = regressed(plate, &Group::plain(halves), w, h);
    for (done, excess) in done.iter_mut().zip(&excess) {
        let spread = blurred(&blurred(excess, w, h, WIDER), w, h, WIDER);
        done.iter_mut().zip(&spread).for_each(|(d, e)| (0..3).for_each(|c| d[c] += e[c]));
    }
    done
}

fn regressed(plate: &Plate, group: &Group, w: usize, h: usize) -> [Vec<Rgb>; 2] {
    let variance = pooled_variance(group, w, h);
    let guides: Vec<[f32; FIT]> = guides(plate);
    let candidates = candidates(group, &variance, &guides, w, h);
    chosen(group, &variance, candidates, w, h)
}

/// Planes of the fits, without the constant's place: it is 1.
fn guides(plate: &Plate) -> Vec<[f32; FIT]> {
    (0..plate.region.area())
        .into_par_iter()
        .map(|i| {
            let (a, n) = (plate.albedo[i], plate.normal[i]);
            [1.0, 4.0 * a[0], 4.0 * a[1], 4.0 * a[2], 2.0 * n[0], 2.0 * n[1], 2.0 * n[2], plate.depth[i]]
        })
        .collect()
}

/// Variance of a half by channel, pooled over 7×7 pixels: one difference has one degree of freedom.
fn pooled_variance(group: &Group, w: usize, h: usize) -> Vec<Rgb> {
    let squares: Vec<Rgb> = group.halves[0]
        .par_iter()
        .zip(&group.halves[1])
        .map(|(a, b)| std::array::from_fn(|c| 0.5 * (a[c] - b[c]).powi(2)))
        .collect();
    blurred(&squares, w, h, 3)
}

/// Mean over (2r + 1)² pixels, fewer at the borders.
fn blurred(from: &[Rgb], w: usize, h: usize, r: usize) -> Vec<Rgb> {
    let pass = |from: &[Rgb], along: usize, across: usize, by: usize, step: usize| -> Vec<Rgb> {
        let mut out = vec![[0.0f32; 3]; from.len()];
        let lines: Vec<Vec<Rgb>> = (0..across)
            .into_par_iter()
            .map(|k| {
                let at = |i: usize| from[k * by + i * step];
                (0..along)
                    .map(|i| {
                        let range = i.saturating_sub(r)..(i + r + 1).min(along);
                        let n = range.len() as f32;
                        let mut sum = [0.0f32; 3];
                        range.for_each(|j| (0..3).for_each(|c| sum[c] += at(j)[c]));
                        sum.map(|s| s / n)
                    })
                    .collect()
            })
            .collect();
        for (k, line) in lines.iter().enumerate() {
            line.iter().enumerate().for_each(|(i, v)| out[k * by + i * step] = *v);
        }
        out
    };
    let rows = pass(from, w, h, w, 1);
    pass(&rows, h, w, 1, w)
}

/// Light of both halves with the weights of its shares.
type Sums = [f32; 8];

/// Every candidate's result for both halves.
fn candidates(
    group: &Group,
    variance: &[Rgb],
    guides: &[[f32; FIT]],
    w: usize,
    h: usize,
) -> [[Vec<Rgb>; 2]; CANDIDATES] {
    let mut sums = [0; CANDIDATES].map(|_| vec![[0.0f32; 8]; w * h]);
    for ty in (0..h).step_by(TILE) {
        let tiles: Vec<Tile> = (0..w.div_ceil(TILE))
            .into_par_iter()
            .filter_map(|k| Tile::new(group, variance, guides, (w, h), (k * TILE, ty)).map(Tile::fitted))
            .collect();
        // Added in order, so that the result does not depend on who was first.
        for t in tiles {
            t.hand_over(&mut sums, w, h);
        }
    }
    sums.map(|sums| {
        [0, 1].map(|half| {
            let of = |(i, s): (usize, &Sums)| {
                let weight = s[4 * half + 3];
                let own = group.halves[half][i];
                std::array::from_fn(|c| (s[4 * half + c] + OWN * own[c]) / (weight + OWN))
            };
            sums.par_iter().enumerate().map(of).collect()
        })
    })
}

/// Pixels around a tile that its windows and patches reach.
const MARGIN: usize = WINDOW + PATCH;
const WIDE: usize = TILE + 2 * MARGIN;
/// Fitted pixels a row, and pixels a row that windows reach.
const CENTRES: usize = TILE / 2;
const REACHED: usize = TILE + 2 * WINDOW;

struct Tile {
    /// Of the tile's first pixel.
    at: (usize, usize),
    /// Light of each half and channel, and its variance, in planes of the tile with its margin.
    light: [[Vec<f32>; 3]; 2],
    variance: [Vec<f32>; 3],
    guides: Vec<[f32; FIT]>,
    /// Of each candidate, over the pixels that windows reach.
    sums: [Vec<Sums>; CANDIDATES],
}

impl Tile {
    /// None where the group is dark or knows no noise.
    fn new(
        group: &Group,
        variance: &[Rgb],
        guides: &[[f32; FIT]],
        (w, h): (usize, usize),
        at: (usize, usize),
    ) -> Option<Tile> {
        let place = |i: usize| {
            let x = (at.0 + i % WIDE).saturating_sub(MARGIN).min(w - 1);
            let y = (at.1 + i / WIDE).saturating_sub(MARGIN).min(h - 1);
            y * w + x
        };
        let places: Vec<usize> = (0..WIDE * WIDE).map(place).collect();
        if places.iter().all(|i| variance[*i].iter().all(|v| *v < 1e-12)) {
            return None;
        }
        let plane = |of: &[Rgb], c: usize| places.iter().map(|i| of[*i][c]).collect::<Vec<f32>>();
        let mut guides: Vec<[f32; FIT]> = places.iter().map(|i| guides[*i]).collect();
        // Guides about their mean in the tile; depth in units of its own spread.
        let n = guides.len() as f32;
        for j in 1..FIT {
            let mean = guides.iter().map(|g| g[j]).sum::<f32>() / n;
            guides.iter_mut().for_each(|g| g[j] -= mean);
        }
        let spread = (guides.iter().map(|g| g[FIT - 1].powi(2)).sum::<f32>() / n).sqrt().max(1e-6);
        guides.iter_mut().for_each(|g| g[FIT - 1] /= spread);
        Some(Tile {
            at,
            light: [0, 1].map(|k| [0, 1, 2].map(|c| plane(&group.halves[k], c))),
            variance: [0, 1, 2].map(|c| plane(variance, c)),
            guides,
            sums: [0; CANDIDATES].map(|_| vec![[0.0; 8]; REACHED * REACHED]),
        })
    }

    fn fitted(mut self) -> Tile {
        for half in 0..2 {
            // Weights by patches of the other half.
            let mut weights = vec![0.0f32; CENTRES * CENTRES * OFFSETS];
            weigh(&self.light[1 - half], &self.variance, &mut weights);
            for candidate in 0..CANDIDATES {
                if candidate > 0 {
                    // Half the distance: e^(−4 d²).
                    weights.iter_mut().for_each(|k| *k = (*k * *k) * (*k * *k));
                }
                let mut shares = vec![[0.0f32; 4 * FIT]; REACHED * REACHED];
                for centre in 0..CENTRES * CENTRES {
                    let at = (2 * (centre % CENTRES), 2 * (centre / CENTRES));
                    let own = &weights[centre * OFFSETS..][..OFFSETS];
                    let fit = self.fit(half, at, own);
                    hand_out(own, &fit, at, &mut shares);
                }
                for (i, share) in shares.iter().enumerate() {
                    let (x, y) = (i % REACHED + PATCH, i / REACHED + PATCH);
                    let guides = &self.guides[y * WIDE + x];
                    let sums = &mut self.sums[candidate][i][4 * half..][..4];
                    for c in 0..3 {
                        let fit = &share[c * FIT..][..FIT];
                        sums[c] = fit.iter().zip(guides).map(|(f, g)| f * g).sum();
                    }
                    sums[3] = share[3 * FIT];
                }
            }
        }
        self
    }

    /// The plane over the guides that fits a window best: three channels of a constant and slopes, then 1 for the weight.
    /// Bounded by a ridge, so that a window of few alike pixels keeps to their mean.
    fn fit(&self, half: usize, (x, y): (usize, usize), weights: &[f32]) -> [f32; 4 * FIT] {
        let first = (y + PATCH) * WIDE + x + PATCH;
        let centre = self.guides[first + WINDOW * WIDE + WINDOW];
        let (mut a, b) = gathered(&self.light[half], &self.guides, weights, first, &centre);
        let total = a[0][0];
        (1..FIT).for_each(|j| a[j][j] += RIDGE * total);
        let lower = cholesky(a);
        let mut out = [0.0; 4 * FIT];
        for (c, b) in b.into_iter().enumerate() {
            let mut s = solved(&lower, b);
            // From guides about the centre to guides about the tile's mean.
            (1..FIT).for_each(|j| s[0] -= s[j] * centre[j]);
            out[c * FIT..][..FIT].copy_from_slice(&s);
        }
        out[3 * FIT] = 1.0;
        out
    }

    /// Adds what windows reached to the picture's sums.
    fn hand_over(&self, sums: &mut [Vec<Sums>; CANDIDATES], w: usize, h: usize) {
        for (own, sums) in self.sums.iter().zip(sums) {
            for (i, from) in own.iter().enumerate() {
                let (x, y) = (self.at.0 + i % REACHED, self.at.1 + i / REACHED);
                let inside = x >= WINDOW && y >= WINDOW && x - WINDOW < w && y - WINDOW < h;
                if inside {
                    let to = &mut sums[(y - WINDOW) * w + x - WINDOW];
                    to.iter_mut().zip(from).for_each(|(t, f)| *t += f);
                }
            }
        }
    }
}

/// Pixels a row whose patches are compared.
const BAND: usize = TILE + 2 * PATCH;

wide! {
    /// Weights of every window by patches of one half: centre by centre, offset by offset.
    fn weigh(light: &[Vec<f32>; 3], variance: &[Vec<f32>; 3], out: &mut [f32]) {
        const SLACK: f32 = 1e-8;
        let mut distance = vec![0.0f32; BAND * BAND];
        let mut rows = [0.0f32; BAND];
        for offset in 0..OFFSETS {
            let (dx, dy) = (offset % SIDE, offset / SIDE);
            for y in 0..BAND {
                let (p, q) = ((y + WINDOW) * WIDE + WINDOW, (y + dy) * WIDE + dx);
                let to = &mut distance[y * BAND..][..BAND];
                to.fill(0.0);
                for c in 0..3 {
                    let (u, v) = (&light[c], &variance[c]);
                    let (up, uq) = (&u[p..p + BAND], &u[q..q + BAND]);
                    let (vp, vq) = (&v[p..p + BAND], &v[q..q + BAND]);
                    for x in 0..BAND {
                        let d = up[x] - uq[x];
                        let noise = vp[x] + vp[x].min(vq[x]);
                        to[x] += (d * d - noise) / (SLACK + vp[x] + vq[x]);
                    }
                }
            }
            for cy in 0..CENTRES {
                rows.copy_from_slice(&distance[2 * cy * BAND..][..BAND]);
                for dy in 1..=2 * PATCH {
                    let next = &distance[(2 * cy + dy) * BAND..][..BAND];
                    for x in 0..BAND {
                        rows[x] += next[x];
                    }
                }
                let patch = 1.0 / (3 * (2 * PATCH + 1) * (2 * PATCH + 1)) as f32;
                for cx in 0..CENTRES {
                    let d = rows[2 * cx..][..2 * PATCH + 1].iter().sum::<f32>() * patch;
                    out[(cy * CENTRES + cx) * OFFSETS + offset] = fading(d.max(0.0));
                }
            }
        }
    }
}

/// A square of sums over guides, and one of light times guides by channel.
type Squares = ([[f32; FIT]; FIT], [[f32; FIT]; 3]);

wide! {
    fn gathered(light: &[Vec<f32>; 3], guides: &[[f32; FIT]], weights: &[f32], first: usize, centre: &[f32; FIT]) -> Squares {
        let (mut a, mut b) = ([[0.0f32; FIT]; FIT], [[0.0f32; FIT]; 3]);
        for dy in 0..SIDE {
            let at = first + dy * WIDE;
            let weights = &weights[dy * SIDE..][..SIDE];
            let guides = &guides[at..at + SIDE];
            let [red, green, blue] = [&light[0][at..at + SIDE], &light[1][at..at + SIDE], &light[2][at..at + SIDE]];
            for dx in 0..SIDE {
                let k = weights[dx];
                let mut z = [0.0f32; FIT];
                for j in 0..FIT {
                    z[j] = guides[dx][j] - centre[j];
                }
                z[0] = 1.0;
                let mut kz = [0.0f32; FIT];
                for j in 0..FIT {
                    kz[j] = k * z[j];
                }
                for i in 0..FIT {
                    for j in 0..FIT {
                        a[i][j] += z[i] * kz[j];
                    }
                }
                for j in 0..FIT {
                    b[0][j] += kz[j] * red[dx];
                    b[1][j] += kz[j] * green[dx];
                    b[2][j] += kz[j] * blue[dx];
                }
            }
        }
        (a, b)
    }
}

wide! {
    /// Gives every pixel of a window its share of a fit.
    fn hand_out(weights: &[f32], fit: &[f32; 4 * FIT], at: (usize, usize), shares: &mut [[f32; 4 * FIT]]) {
        for dy in 0..SIDE {
            let row = &mut shares[(at.1 + dy) * REACHED + at.0..][..SIDE];
            for (share, k) in row.iter_mut().zip(&weights[dy * SIDE..][..SIDE]) {
                for j in 0..3 * FIT {
                    share[j] += k * fit[j];
                }
                share[3 * FIT] += k;
            }
        }
    }
}

/// Lower triangle of a positive matrix.
fn cholesky(a: [[f32; FIT]; FIT]) -> [[f32; FIT]; FIT] {
    let mut l = [[0.0f32; FIT]; FIT];
    for i in 0..FIT {
        for j in 0..=i {
            let sum = a[i][j] - (0..j).map(|k| l[i][k] * l[j][k]).sum::<f32>();
            l[i][j] = if i == j { sum.max(1e-12).sqrt() } else { sum / l[j][j] };
        }
    }
    l
}

fn solved(l: &[[f32; FIT]; FIT], mut b: [f32; FIT]) -> [f32; FIT] {
    for i in 0..FIT {
        b[i] = (b[i] - (0..i).map(|k| l[i][k] * b[k]).sum::<f32>()) / l[i][i];
    }
    for i in (0..FIT).rev() {
        b[i] = (b[i] - (i + 1..FIT).map(|k| l[k][i] * b[k]).sum::<f32>()) / l[i][i];
    }
    b
}

/// Of the candidates and the noisy halves at each place what errs least as far as the other half can tell, blended smoothly.
fn chosen(
    group: &Group,
    variance: &[Rgb],
    candidates: [[Vec<Rgb>; 2]; CANDIDATES],
    w: usize,
    h: usize,
) -> [Vec<Rgb>; 2] {
    let [a, b] = &group.halves;
    // A half that is filtered misses the other one by its own error and the other one's noise.
    let errors = candidates.each_ref().map(|of| {
        let miss = |i: usize| -> Rgb {
            let own = |c: usize| 0.5 * ((of[0][i][c] - b[i][c]).powi(2) + (of[1][i][c] - a[i][c]).powi(2));
            std::array::from_fn(|c| own(c) - variance[i][c])
        };
        let all: Vec<Rgb> = (0..w * h).into_par_iter().map(miss).collect();
        blurred(&all, w, h, LOOK)
    });
    let choice: Vec<Rgb> = (0..w * h)
        .map(|i| {
            let sum = |e: &Rgb| e.iter().sum::<f32>();
            // The mean of two noisy halves errs by half of their variance.
            let all = [sum(&errors[0][i]), sum(&errors[1][i]), 0.5 * sum(&variance[i])];
            let best = (0..3).min_by(|x, y| all[*x].total_cmp(&all[*y])).unwrap_or(2);
            std::array::from_fn(|k| (k == best) as u8 as f32)
        })
        .collect();
    let shares = blurred(&choice, w, h, 2);
    [0, 1].map(|half| {
        let all = [&candidates[0][half], &candidates[1][half], &group.halves[half]];
        (0..w * h).map(|i| std::array::from_fn(|c| (0..3).map(|k| shares[i][k] * all[k][i][c]).sum())).collect()
    })
}
