//! Tables for the view in the .cube text format (Cube LUT Specification 1.0): one curve a channel, or a cube of colours with
//! red running fastest, between `DOMAIN_MIN` and `DOMAIN_MAX`. In between it is interpolated linearly.
//!
//! A table is laid over sRGB display values: it is a look, given to what would be shown without it.

use crate::Rgb;
use fault::{Code, Fault};
use std::collections::BTreeMap;
use std::sync::RwLock;

/// Entries of a curve and along a side of a cube at the most, as the specification says.
const MOST_CURVE: usize = 65_536;
const MOST_SIDE: usize = 256;

#[derive(Debug, Clone, PartialEq)]
pub struct Cube {
    pub title: String,
    /// Entries along a side.
    size: usize,
    /// Of a curve for each channel; otherwise a cube.
    curve: bool,
    low: Rgb,
    high: Rgb,
    entries: Vec<Rgb>,
}

/// Tables in use, by their number. A table is never changed or given up.
static TABLES: RwLock<BTreeMap<u32, &'static Cube>> = RwLock::new(BTreeMap::new());

/// Makes a table known to views under a number that follows from its content; never 0.
pub fn keep(cube: Cube) -> u32 {
    let mut hash = 2_166_136_261u32;
    let numbers = [cube.low, cube.high].into_iter().chain(cube.entries.iter().copied()).flatten();
    for bits in numbers.map(f32::to_bits).chain([cube.size as u32, cube.curve as u32]) {
        // FNV-1a over the bytes.
        bits.to_le_bytes().iter().for_each(|b| hash = (hash ^ *b as u32).wrapping_mul(16_777_619));
    }
    // Knobs hold numbers below 2^31.
    let id = (hash >> 1).max(1);
    let mut all = TABLES.write().unwrap_or_else(|e| e.into_inner());
    all.entry(id).or_insert_with(|| Box::leak(Box::new(cube)));
    id
}

/// A table by its number.
pub fn kept(id: u32) -> Option<&'static Cube> {
    TABLES.read().unwrap_or_else(|e| e.into_inner()).get(&id).copied()
}

impl Cube {
    /// Reads the text of a file; `place` names it in messages.
    pub fn read(text: &str, place: &str) -> Result<Cube, Fault> {
        let refuse = |line: usize, what: &str| {
            let what = format!("line {}: {what}", line + 1);
            Err(Fault::new(Code::Damaged, what, place, "export the table again as .cube"))
        };
        let mut c =
            Cube { title: String::new(), size: 0, curve: false, low: [0.0; 3], high: [1.0; 3], entries: Vec::new() };
        for (i, line) in text.lines().enumerate() {
            let line = line.trim();
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let mut words = line.split_whitespace();
            let first = words.next().unwrap_or_default();
            let rest: Vec<&str> = words.collect();
            let three = |words: &[&str]| -> Option<Rgb> {
                let v: Vec<f32> = words.iter().map(|w| w.parse().ok()).collect::<Option<_>>()?;
                v.try_into().ok().filter(|v: &Rgb| v.iter().all(|x| x.is_finite()))
            };
            match first {
                "TITLE" => c.title = line[5..].trim().trim_matches('"').to_string(),
                "LUT_1D_SIZE" | "LUT_3D_SIZE" => {
                    c.curve = first == "LUT_1D_SIZE";
                    let most = if c.curve { MOST_CURVE } else { MOST_SIDE };
                    match rest.first().and_then(|w| w.parse().ok()).filter(|n| (2..=most).contains(n)) {
                        Some(n) if c.size == 0 => c.size = n,
                        _ => return refuse(i, "this is no size of a table"),
                    }
                }
                "DOMAIN_MIN" | "DOMAIN_MAX" => match three(&rest) {
                    Some(v) if first == "DOMAIN_MIN" => c.low = v,
                    Some(v) => c.high = v,
                    None => return refuse(i, "three numbers are wanted"),
                },
                _ if first.starts_with(|l: char| l.is_ascii_alphabetic()) => {}
                _ => {
                    let words: Vec<&str> = line.split_whitespace().collect();
                    match three(&words) {
                        Some(v) => c.entries.push(v),
                        None => return refuse(i, "three numbers are wanted"),
                    }
                }
            }
        }
        let wanted = if c.curve { c.size } else { c.size.pow(3) };
        if c.size == 0 || c.entries.len() != wanted {
            let what = format!("{} entries of {wanted} that its size asks for", c.entries.len());
            return Err(Fault::new(Code::Damaged, what, place, "export the table again as .cube"));
        }
        if c.low.iter().zip(c.high).any(|(l, h)| *l >= h) {
            return Err(Fault::new(Code::Damaged, "its domain is empty", place, "export the table again as .cube"));
        }
        Ok(c)
    }

    /// The table's value; what lies outside its domain is brought to its border.
    pub fn apply(&self, c: Rgb) -> Rgb {
        let last = (self.size - 1) as f32;
        let at: [(usize, f32); 3] = std::array::from_fn(|k| {
            let x = ((c[k] - self.low[k]) / (self.high[k] - self.low[k])).clamp(0.0, 1.0) * last;
            let i = (x as usize).min(self.size - 2);
            (i, x - i as f32)
        });
        if self.curve {
            return std::array::from_fn(|k| {
                let (i, u) = at[k];
                self.entries[i][k] * (1.0 - u) + self.entries[i + 1][k] * u
            });
        }
        let mut out = [0.0; 3];
        for corner in 0..8usize {
            let (mut place, mut weight, mut stride) = (0, 1.0, 1);
            for (k, (i, u)) in at.iter().enumerate() {
                let up = corner >> k & 1;
                place += (i + up) * stride;
                weight *= if up == 1 { *u } else { 1.0 - u };
                stride *= self.size;
            }
            (0..3).for_each(|k| out[k] += weight * self.entries[place][k]);
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Transform, View};

    #[test]
    fn red_runs_fastest_and_between_entries_it_is_linear() {
        // Each corner of the cube shows its own colour, red and blue changed over.
        let mut text = String::from("TITLE \"swap\"\nLUT_3D_SIZE 2\n# a comment\n");
        for i in 0..8 {
            text += &format!("{} {} {}\n", i >> 2 & 1, i >> 1 & 1, i & 1);
        }
        let c = Cube::read(&text, "swap.cube").unwrap();
        assert_eq!(c.title, "swap");
        let near = |a: Rgb, b: Rgb| a.iter().zip(b).all(|(a, b)| (a - b).abs() < 1e-6);
        assert!(near(c.apply([1.0, 0.0, 0.0]), [0.0, 0.0, 1.0]));
        assert!(near(c.apply([0.25, 0.5, 0.75]), [0.75, 0.5, 0.25]));
        assert!(near(c.apply([2.0, -1.0, 0.5]), [0.5, 0.0, 1.0]), "the border holds outside");
        let view = View { exposure: 0.0, transform: Transform::Table, table: keep(c) };
        let plain = View::PLAIN.display([0.2, 0.4, 0.6]);
        assert!(near(view.display([0.2, 0.4, 0.6]), [plain[2], plain[1], plain[0]]));
    }

    #[test]
    fn curves_have_a_domain_and_what_is_broken_is_named_by_line() {
        let curve = "LUT_1D_SIZE 3\nDOMAIN_MIN 0 0 0\nDOMAIN_MAX 2 2 2\n0 0 0\n0.5 0.6 0.7\n1 1 1\n";
        let c = Cube::read(curve, "c").unwrap();
        assert_eq!(c.apply([1.0; 3]), [0.5, 0.6, 0.7]);
        assert_eq!(c.apply([0.5; 3])[0], 0.25);
        let fault = |text: &str| Cube::read(text, "broken.cube").unwrap_err();
        assert!(fault("LUT_1D_SIZE 3\n0 0 0\n1 1\n").what.starts_with("line 3"));
        assert!(fault("LUT_3D_SIZE 4000\n").what.starts_with("line 1"));
        assert!(fault("LUT_1D_SIZE 3\n0 0 0\n1 1 1\n").what.contains("2 entries of 3"));
        assert!(fault("").place == "broken.cube");
    }
}
