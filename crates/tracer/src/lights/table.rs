//! Drawing from a list by weight.

/// A discrete distribution, drawn in O(1) on average: a guide table (Chen and Asau 1974) says where to begin looking.
#[derive(Debug, Clone, Default)]
pub struct Table {
    /// cumulative[i] = share of all entries before i; one longer than the entries.
    cumulative: Vec<f32>,
    /// guide[k] = the entry at u = k/n.
    guide: Vec<u32>,
}

impl Table {
    pub fn new(weights: impl IntoIterator<Item = f32>) -> Table {
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
    pub fn draw(&self, u: f32) -> (usize, f32) {
        let n = self.guide.len();
        let mut i = self.guide[((u * n as f32) as usize).min(n - 1)] as usize;
        while i + 1 < n && self.cumulative[i + 1] <= u {
            i += 1;
        }
        let share = self.share(i);
        let within = if share > 0.0 { (u - self.cumulative[i]) / share } else { 0.5 };
        (i, within.clamp(0.0, 0.999_999_94))
    }

    pub fn share(&self, i: usize) -> f32 {
        self.cumulative[i + 1] - self.cumulative[i]
    }
}
