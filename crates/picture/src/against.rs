//! A picture against a reference: how much of the error is grain, which goes away with samples, and how much is a change of the
//! look, which never does.
//!
//! With independent halves a and b of the picture x and likewise of the reference r, mean((x − r)²) is the squared look change
//! plus the variances of both means, and the variance of a mean is mean((a − b)²) / 4. Pooled first, clamped at 0 once.
//! A denoised picture takes its variance from both halves denoised alike.

use crate::{Rgb, View, luminance};
use serde::Serialize;
use ts_rs::TS;

/// Two independent halves of one picture, linear.
#[derive(Debug, Clone, Copy)]
pub struct Halves<'a> {
    pub a: &'a [Rgb],
    pub b: &'a [Rgb],
}

impl Halves<'_> {
    fn mean(&self, i: usize) -> Rgb {
        std::array::from_fn(|c| 0.5 * (self.a[i][c] + self.b[i][c]))
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct Against {
    /// Root mean squares of linear values: grain of the picture, grain of the reference, and the look change between them.
    pub grain: f64,
    pub reference_grain: f64,
    pub look: f64,
    /// Share of the squared error beyond the reference's own grain that more samples would not remove.
    pub look_share: f64,
    /// Mean luminance as a ratio to the reference less 1, and its standard error.
    pub brighter: f64,
    pub brighter_error: f64,
    /// Mean red, green and blue, each as a ratio to the reference less 1 and less `brighter`.
    pub tint: Rgb,
    /// The change in words, e.g. "2.1 % darker, a little bluer".
    pub words: String,
}

/// Splits the error of x against r, pictures of a width.
pub fn against(x: Halves, r: Halves, width: usize) -> Against {
    let n = x.a.len();
    let (mut total, mut vx, mut vr) = (0.0f64, 0.0f64, 0.0f64);
    let (mut mean_x, mut mean_r) = ([0.0f64; 3], [0.0f64; 3]);
    let quarter = |a: Rgb, b: Rgb| (0..3).map(|c| 0.25 * ((a[c] - b[c]) as f64).powi(2)).sum::<f64>();
    for i in 0..n {
        let (m, k) = (x.mean(i), r.mean(i));
        for c in 0..3 {
            total += ((m[c] - k[c]) as f64).powi(2);
            mean_x[c] += m[c] as f64;
            mean_r[c] += k[c] as f64;
        }
        vx += quarter(x.a[i], x.b[i]);
        vr += quarter(r.a[i], r.b[i]);
    }
    let errors = [x, r].map(|h| errors_of_sum(h, width));
    let error = |c: usize| errors[0][c].hypot(errors[1][c]);
    let each = 1.0 / (3 * n.max(1)) as f64;
    let look2 = ((total - vx - vr) * each).max(0.0);
    let y = |m: [f64; 3]| 0.2126 * m[0] + 0.7152 * m[1] + 0.0722 * m[2];
    let base = y(mean_r).max(1e-12);
    let brighter = y(mean_x) / base - 1.0;
    let brighter_error = error(3) / base;
    let tint: Rgb = std::array::from_fn(|c| (mean_x[c] / mean_r[c].max(1e-12) - 1.0 - brighter) as f32);
    let tint_error = std::array::from_fn(|c| (error(c) / mean_r[c].max(1e-12)).hypot(brighter_error));
    let own = look2 + vx * each;
    Against {
        grain: (vx * each).sqrt(),
        reference_grain: (vr * each).sqrt(),
        look: look2.sqrt(),
        look_share: if own > 0.0 { look2 / own } else { 0.0 },
        brighter,
        brighter_error,
        tint,
        words: words(brighter, brighter_error, tint, tint_error),
    }
}

/// Sides of the squares whose sums are taken as independent, in pixels: wider than any filter's reach that matters, or the widest
/// of which there are enough.
const SQUARES: [usize; 4] = [8, 16, 32, 64];
/// Fewer squares tell nothing of a variance.
const ENOUGH: usize = 12;

/// Standard errors of the sums over all pixels of red, green, blue and luminance of a picture, from half the difference of its
/// halves.
fn errors_of_sum(h: Halves, width: usize) -> [f64; 4] {
    by_squares(h.a.len(), width, |i| std::array::from_fn(|c| 0.5 * (h.a[i][c] - h.b[i][c])), [0.0; 4])
}

/// Standard errors of the sums over all pixels of a field and of its luminance, whose mean is known. After a filter neighbouring
/// pixels are not independent: the field is summed over squares first, and the largest of what squares of several sizes tell is
/// taken (batch means, Conway 1963; here in two dimensions).
fn by_squares(n: usize, width: usize, field: impl Fn(usize) -> Rgb, mean: [f64; 4]) -> [f64; 4] {
    let (width, height) = (width.max(1), n / width.max(1));
    let of = |side: usize| -> ([f64; 4], usize) {
        let (columns, rows) = (width.div_ceil(side), height.div_ceil(side));
        let mut sums = vec![[0.0f64; 4]; columns * rows];
        for i in 0..width * height {
            let d = field(i);
            let s = &mut sums[(i / width / side) * columns + (i % width) / side];
            (0..3).for_each(|c| s[c] += d[c] as f64 - mean[c]);
            s[3] += luminance(d) as f64 - mean[3];
        }
        let squares = sums.iter().fold([0.0; 4], |all, s| std::array::from_fn(|c| all[c] + s[c] * s[c]));
        (squares.map(f64::sqrt), sums.len())
    };
    let mut most = of(1).0;
    for side in SQUARES {
        let (errors, squares) = of(side);
        if squares < ENOUGH {
            break;
        }
        // A standard deviation from so many squares is itself uncertain by this much.
        let unsure = 1.0 + (0.5 / squares as f64).sqrt();
        (0..4).for_each(|c| most[c] = most[c].max(unsure * errors[c]));
    }
    most
}

/// How much brighter one picture is than another, where nothing is known of their halves.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Brightness {
    /// Mean luminance as a ratio to the reference less 1, and its standard error.
    pub brighter: f64,
    pub brighter_error: f64,
    /// In words, with the change of colour.
    pub words: String,
}

/// Compares the mean light of two pictures of one size. The error is that of the mean of their difference, from how much it varies
/// from place to place: a change that is not the same everywhere counts as uncertain.
pub fn brightness(x: &[Rgb], r: &[Rgb], width: usize) -> Brightness {
    let n = x.len().max(1) as f64;
    let sum = |v: &[Rgb]| -> [f64; 4] {
        v.iter().fold([0.0; 4], |s, p| {
            [s[0] + p[0] as f64, s[1] + p[1] as f64, s[2] + p[2] as f64, s[3] + luminance(*p) as f64]
        })
    };
    let (mean_x, mean_r) = (sum(x), sum(r));
    let field = |i: usize| -> Rgb { std::array::from_fn(|c| x[i][c] - r[i][c]) };
    let errors = by_squares(x.len(), width, field, std::array::from_fn(|c| (mean_x[c] - mean_r[c]) / n));
    let base = mean_r[3].max(1e-12);
    let (brighter, error) = (mean_x[3] / base - 1.0, errors[3] / base);
    let tint: Rgb = std::array::from_fn(|c| (mean_x[c] / mean_r[c].max(1e-12) - 1.0 - brighter) as f32);
    let tint_error = std::array::from_fn(|c| (errors[c] / mean_r[c].max(1e-12)).hypot(error));
    Brightness { brighter, brighter_error: error, words: words(brighter, error, tint, tint_error) }
}

fn words(brighter: f64, error: f64, tint: Rgb, tint_error: [f64; 3]) -> String {
    let mut out = if brighter.abs() < (2.0 * error).max(5e-4) {
        format!("as bright, within {:.1} %", 200.0 * error.max(2.5e-4))
    } else {
        format!("{:.1} % {}", 100.0 * brighter.abs(), if brighter < 0.0 { "darker" } else { "brighter" })
    };
    // The channel that strays furthest names the colour.
    let far = (0..3).max_by(|a, b| tint[*a].abs().total_cmp(&tint[*b].abs())).unwrap_or(0);
    let size = tint[far].abs() as f64;
    // Four standard errors, since the furthest of three is taken.
    if size > (4.0 * tint_error[far]).max(0.002) {
        let more = tint[far] > 0.0;
        let name = [["less red", "redder"], ["less green", "greener"], ["less blue", "bluer"]][far][more as usize];
        out += &format!(", {:.1} % {name}", 100.0 * size);
    }
    out
}

/// Where the look changed: for each pixel the signed display difference between the mean light of its block here and there,
/// less what grain explains at two standard errors; a share of the display range. Means are taken of light, since the display
/// values of noisy pixels are darker than the display value of their mean.
pub fn look_map(x: Halves, r: Halves, width: usize, block: usize, view: &View) -> Vec<f64> {
    let n = x.a.len();
    let height = n / width.max(1);
    let (columns, rows) = (width.div_ceil(block), height.div_ceil(block));
    // Light of x and of r, variance of their difference, pixels.
    let mut sums = vec![(0.0f64, 0.0f64, 0.0f64, 0u32); columns * rows];
    let at = |i: usize| (i / width / block) * columns + (i % width) / block;
    for i in 0..n {
        let y = [x.a[i], x.b[i], r.a[i], r.b[i]].map(|p| luminance(p) as f64);
        let s = &mut sums[at(i)];
        s.0 += 0.5 * (y[0] + y[1]);
        s.1 += 0.5 * (y[2] + y[3]);
        s.2 += 0.25 * ((y[0] - y[1]).powi(2) + (y[2] - y[3]).powi(2));
        s.3 += 1;
    }
    let shown = |light: f64| view.display([light as f32; 3])[1] as f64;
    (0..n)
        .map(|i| {
            let (a, b, variance, count) = sums[at(i)];
            let k = count.max(1) as f64;
            let (a, b, error) = (a / k, b / k, variance.sqrt() / k);
            let beyond = ((a - b).abs() - 2.0 * error).max(0.0);
            let moved = if a < b { b - beyond } else { b + beyond };
            shown(moved) - shown(b)
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::mean;

    fn noise(i: u32) -> f32 {
        crate::mixed(i) as f32 / u32::MAX as f32 * 2.0 - 1.0
    }

    fn half(n: u32, salt: u32, level: f32, strength: f32) -> Vec<Rgb> {
        (0..n).map(|i| [0, 1, 2].map(|c| level + strength * noise((i * 3 + c) * 8 + salt))).collect()
    }

    /// Known parts: uniform noise ±s has variance s²/3, the mean of two halves half of that; a level lowered by 8 % is a look
    /// change of just that.
    #[test]
    fn grain_and_look_come_apart() {
        let n = 64 * 64;
        let (xa, xb) = (half(n, 0, 0.46, 0.2), half(n, 1, 0.46, 0.2));
        let (ra, rb) = (half(n, 2, 0.5, 0.02), half(n, 3, 0.5, 0.02));
        let (x, r) = (Halves { a: &xa, b: &xb }, Halves { a: &ra, b: &rb });
        let s = against(x, r, 64);
        assert!((s.grain - (0.04f64 / 6.0).sqrt()).abs() < 0.02 * s.grain, "{s:?}");
        assert!((s.look - 0.04).abs() < 0.004, "{s:?}");
        assert!((s.brighter + 0.08).abs() < 3.0 * s.brighter_error && s.brighter_error < 0.005, "{s:?}");
        assert!(s.words.ends_with("% darker"), "{}", s.words);
        // The same light with much noise is no look change.
        let (ya, yb) = (half(n, 4, 0.5, 0.2), half(n, 5, 0.5, 0.2));
        let same = against(Halves { a: &ya, b: &yb }, r, 64);
        assert!(same.look < 0.3 * same.grain && same.words.starts_with("as bright"), "{same:?}");
        let map = look_map(Halves { a: &ya, b: &yb }, r, 64, 8, &View::PLAIN);
        assert!(map.iter().filter(|v| **v == 0.0).count() > 56 * 64, "noise is not shown as change");
        let darker = look_map(x, r, 64, 8, &View::PLAIN);
        assert!(darker.iter().filter(|v| **v < -0.005).count() > 56 * 64, "a change is shown");
        let tinted: Vec<Rgb> = ra.iter().map(|p| [p[0] * 1.05, p[1], p[2]]).collect();
        let red = against(Halves { a: &tinted, b: &tinted }, r, 64);
        assert!(red.words.contains("redder"), "{}", red.words);
    }

    /// Pairs of pictures of the same light that a filter has smoothed over several pixels: in 95 of 100 they are told to be as bright,
    /// with the same colour.
    #[test]
    fn smoothed_pictures_of_equal_light_are_told_equal() {
        let (w, h) = (160usize, 120usize);
        let smoothed = |salt: u32, reach: usize, strength: f32| -> Vec<Rgb> {
            let raw: Vec<Rgb> =
                (0..w * h).map(|i| [0, 1, 2].map(|c| 0.4 + strength * noise((i as u32 * 3 + c) * 64 + salt))).collect();
            // A box over columns, then over rows.
            let pass = |v: &[Rgb], step: usize, len: usize, at: &dyn Fn(usize) -> usize| -> Vec<Rgb> {
                (0..v.len())
                    .map(|i| {
                        let k = at(i);
                        let (from, to) = (k.saturating_sub(reach), (k + reach).min(len - 1));
                        let mut sum = [0.0f32; 3];
                        for j in from..=to {
                            let p = v[i + j * step - k * step];
                            (0..3).for_each(|c| sum[c] += p[c]);
                        }
                        sum.map(|s| s / (to - from + 1) as f32)
                    })
                    .collect()
            };
            let across = pass(&raw, 1, w, &|i| i % w);
            pass(&across, w, h, &|i| i / w)
        };
        for reach in [0usize, 2, 6] {
            let (mut equal, mut without) = (0, 0);
            let pairs = 100;
            for pair in 0..pairs {
                let of = |k: u32| smoothed(pair * 7919 + k * 131, reach, 0.4);
                let (xa, xb, ra, rb) = (of(0), of(1), of(2), of(3));
                let s = against(Halves { a: &xa, b: &xb }, Halves { a: &ra, b: &rb }, w);
                // "as bright, within 0.3 %", and no colour after it.
                equal += (s.words.starts_with("as bright") && s.words.matches(", ").count() == 1) as u32;
                let plain = brightness(&mean(&xa, &xb), &mean(&ra, &rb), w);
                without += (plain.words.starts_with("as bright") && plain.words.matches(", ").count() == 1) as u32;
            }
            assert!(equal >= 95 && without >= 95, "reach {reach}: {equal} and {without} of {pairs}");
        }
    }
}
