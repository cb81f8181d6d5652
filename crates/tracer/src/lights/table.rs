//! Drawing from lists by weight.

use crate::memory::in_large_pages;

/// A guide for a few entries: looking on in the same line of the cache costs less than fetching another one.
const ENTRIES_PER_GUIDE: usize = 4;

/// Discrete distributions over lists of the same length, each drawn in O(1) on average: a guide table (Chen and Asau 1974)
/// says where to begin looking.
#[derive(Debug, Clone, Default)]
pub struct Tables {
    /// Entries of a list, at most 65 536.
    length: usize,
    /// For each list, the share of all entries before each; one longer than the entries.
    cumulative: Vec<f32>,
    /// For each list, the entries at u = k/guides.
    guide: Vec<u16>,
    guides: usize,
}

impl Tables {
    /// From the weights of all lists, one after the other.
    pub fn new(weights: &[f32], length: usize) -> Tables {
        let mut tables = Tables { length, guides: length.div_ceil(ENTRIES_PER_GUIDE), ..Tables::default() };
        let n = tables.guides;
        for list in weights.chunks_exact(length) {
            let total: f64 = list.iter().map(|w| *w as f64).sum();
            let mut sum = 0.0f64;
            let share = |i: usize, sum: f64| {
                if total > 0.0 { (sum / total) as f32 } else { i as f32 / length as f32 }
            };
            let first = tables.cumulative.len();
            tables.cumulative.push(0.0);
            for (i, w) in list.iter().enumerate() {
                sum += *w as f64;
                tables.cumulative.push(share(i + 1, sum));
            }
            let own = &tables.cumulative[first..];
            let mut at = 0;
            tables.guide.extend((0..n).map(|k| {
                while at + 1 < length && own[at + 1] <= k as f32 / n as f32 {
                    at += 1;
                }
                at as u16
            }));
        }
        tables.cumulative = in_large_pages(tables.cumulative);
        tables
    }

    /// The entry of a list at `u`, where in it `u` lies, and its share.
    #[inline]
    pub fn draw(&self, list: usize, u: f32) -> (usize, f32, f32) {
        let n = self.length;
        let own = &self.cumulative[list * (n + 1)..(list + 1) * (n + 1)];
        let guide = ((u * self.guides as f32) as usize).min(self.guides - 1);
        let mut i = self.guide[list * self.guides + guide] as usize;
        while i + 1 < n && own[i + 1] <= u {
            i += 1;
        }
        let share = own[i + 1] - own[i];
        let within = if share > 0.0 { (u - own[i]) / share } else { 0.5 };
        (i, within.clamp(0.0, 0.999_999_94), share)
    }

    #[inline]
    pub fn share(&self, list: usize, i: usize) -> f32 {
        let at = list * (self.length + 1) + i;
        self.cumulative[at + 1] - self.cumulative[at]
    }
}
