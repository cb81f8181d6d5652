//! Whether a delivered picture is as clean as the artist wants it, and what would help where it is not.
//!
//! The aim is the noise that may be left in a block, in steps of 255 as displayed, seen from 3.2
//! picture heights away: the design viewing distance of 1080 rows, at which a pixel is a minute of arc, which is what a good eye
//! tells apart (ITU-R BT.2022, from memory). Of more pixels the eye takes the mean, whose noise falls with the root of their number.
//! That one step cannot be seen is common practice, no source: rounding to 8 bits alone makes an error of 0.29.

use advice::Machine;
use picture::denoise::Method;
use picture::grain::BlockMap;
use picture::{Plate, Region, luminance};
use serde::{Deserialize, Serialize};
use tracer::deliver::Delivered;
use tracer::{Description, RenderReport, clean_up_of};
use ts_rs::TS;
use tuning::K;

/// Blocks count as clean up to this much above the aim: 64 pixels tell their noise to about a tenth.
const TOLERANCE: f64 = 1.1;
/// Share of the blocks that may be above it in a picture that is nearly clean.
const FEW: f64 = 0.02;
/// Blocks that are listed as not clean.
const LISTED: usize = 400;
/// A top-up that takes so many times the budget is told, but not offered.
const FAR: f64 = 4.0;
/// Pixels a degree that a good eye tells apart, and picture heights to the eye.
const EYE: f64 = 60.0;
const HEIGHTS: f64 = 3.2;
/// A single pixel that holds more than this share of its block's squared noise is a firefly.
const FIREFLY: f64 = 0.5;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Cleanness {
    Clean,
    Nearly,
    Noisy,
}

/// What would make a picture cleaner.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
#[serde(tag = "way", rename_all = "snake_case")]
pub enum Way {
    /// Going on there, to a noise threshold.
    TopUp {
        region: Region,
        threshold: f64,
        seconds: f64,
        /// It takes so many times the budget that no press should begin it.
        #[serde(default)]
        far: bool,
    },
    /// Ordering it once more with the quick denoiser: its samples are used again.
    Denoise { seconds: f64 },
    /// Bringing down single bright pixels, which make so many of the blocks noisy.
    Fireflies { blocks: u32 },
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, TS)]
pub struct Verdict {
    pub cleanness: Cleanness,
    /// Steps of 255 that the shot allows, and the noise of a block that this is in a frame of its size, as a share of the display range.
    pub aim: f64,
    pub limit: f64,
    /// Root mean square noise of the delivered picture, and that of its worst block, as shares of the display range.
    pub noise: f64,
    pub worst: f64,
    /// Share of the blocks that are above the limit, and where the worst of them lie.
    pub above: f64,
    pub places: Vec<Region>,
    /// What would help, the cheapest first.
    pub ways: Vec<Way>,
}

/// Noise that an aim allows in each pixel of a frame so many pixels high.
pub(crate) fn limit(aim: f64, height: u32) -> f64 {
    let degrees = 2.0 * (0.5 / HEIGHTS).atan().to_degrees();
    let each = height as f64 / degrees;
    aim / 255.0 * (each / EYE).max(1.0)
}

/// What is looked at of a plate before it is given away.
pub(crate) struct Looked {
    frame: (u32, u32),
    region: Region,
    /// Of each block its samples, and the largest share that one pixel has of its squared noise.
    blocks: Vec<(u64, f64)>,
}

impl Looked {
    /// Of blocks of so many pixels; one pass, for it counts as time of the final.
    pub fn of(plate: &Plate, block: u32) -> Looked {
        let r = plate.region;
        let grid = BlockMap::grid(r, block);
        let mut sums = vec![(0u64, 0.0f64, 0.0f64); grid.grain.len()];
        for (i, n) in plate.samples.iter().enumerate() {
            let k = grid.block_at(r.x + i as u32 % r.width, r.y + i as u32 / r.width);
            let apart = (luminance(plate.a[i]) - luminance(plate.b[i])) as f64;
            let (samples, all, most) = &mut sums[k];
            *samples += *n as u64;
            *all += apart * apart;
            *most = most.max(apart * apart);
        }
        let blocks = sums.into_iter().map(|(samples, all, most)| (samples, most / all.max(1e-300))).collect();
        Looked { frame: plate.frame, region: r, blocks }
    }
}

impl std::fmt::Display for Verdict {
    fn fmt(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
        let steps = |noise: f64| 255.0 * noise;
        let most = format!("{:.1} steps of 255 at most, {:.1} allowed", steps(self.worst), steps(self.limit));
        match self.cleanness {
            Cleanness::Clean => write!(f, "clean: {most}"),
            Cleanness::Nearly => write!(f, "nearly clean: {:.1} % of the blocks above, {most}", 100.0 * self.above),
            Cleanness::Noisy => write!(f, "noisy: {:.0} % of the blocks above, {most}", 100.0 * self.above),
        }
    }
}

impl Verdict {
    pub(super) fn of(
        delivered: &Delivered,
        d: &Description,
        looked: &Looked,
        report: &RenderReport,
        machine: &Machine,
        budget: f64,
    ) -> Verdict {
        let aim = d.tuning.real(K::DeliveryAim);
        let limit = limit(aim, looked.frame.1);
        let (map, judged) = (&delivered.left, &delivered.grain);
        // Blocks of which no pixel has a sample show their neighbours.
        let samples = |k: usize| looked.blocks[k].0;
        let mut bad: Vec<usize> =
            (0..map.grain.len()).filter(|k| map.grain[*k] > TOLERANCE * limit || samples(*k) == 0).collect();
        bad.sort_by(|a, b| map.grain[*b].total_cmp(&map.grain[*a]));
        let above = bad.len() as f64 / map.grain.len().max(1) as f64;
        let places: Vec<Region> = bad.iter().filter_map(|k| map.place(*k).shared(d.area())).collect();
        let (noise, worst) = map.summary();
        let cleanness = match above {
            0.0 => Cleanness::Clean,
            few if few <= FEW => Cleanness::Nearly,
            _ => Cleanness::Noisy,
        };
        let mut ways = Vec::new();
        if cleanness != Cleanness::Clean {
            let each = report.seconds / report.samples.max(1) as f64;
            // The threshold at which the worst of them would be as clean as is wanted: noise is judged before the clean-up, or after it.
            let wanted =
                bad.iter().map(|k| judged.grain[*k] * limit / map.grain[*k].max(1e-9)).fold(f64::INFINITY, f64::min);
            let threshold = if wanted.is_finite() { wanted.clamp(1e-4, 1.0) } else { limit };
            let around = places.iter().copied().reduce(Region::around).unwrap_or(d.area());
            let inside = |k: &usize| map.place(*k).shared(around).is_some();
            let more = |k: usize| ((judged.grain[k] / threshold).powi(2) - 1.0).max(0.0) * samples(k) as f64;
            let seconds = each * (0..map.grain.len()).filter(inside).map(more).sum::<f64>();
            ways.push((seconds, Way::TopUp { region: around, threshold, seconds, far: seconds > FAR * budget }));
            if clean_up_of(&d.tuning).denoises().is_none() {
                let pixels = looked.region.area() as f64;
                let seconds =
                    machine.denoise_per_pixel[Method::Quick as usize] * pixels + machine.writing(&d.tuning, pixels);
                ways.push((seconds, Way::Denoise { seconds }));
            }
            let struck = bad.iter().filter(|k| looked.blocks[**k].1 > FIREFLY).count();
            // Where it is they that make most of the blocks noisy.
            if 2 * struck >= bad.len() && d.tuning.real(K::CleanupStray) == 0.0 {
                ways.push((0.0, Way::Fireflies { blocks: struck as u32 }));
            }
            ways.sort_by(|a, b| a.0.total_cmp(&b.0));
        }
        let ways = ways.into_iter().map(|(_, way)| way).collect();
        let places = places.into_iter().take(LISTED).collect();
        Verdict { cleanness, aim, limit, noise, worst, above, places, ways }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// At 1080 rows a pixel is about a minute of arc: the aim is what the eye sees. At 2160 two by two pixels are one.
    #[test]
    fn larger_frames_may_have_more_noise_a_pixel() {
        assert_eq!(limit(1.0, 300), 1.0 / 255.0);
        assert!((limit(1.0, 1080) * 255.0 - 1.0).abs() < 0.02);
        let uhd = limit(1.0, 2160) * 255.0;
        assert!((uhd - 2.0).abs() < 0.04, "{uhd}");
        assert!((limit(2.0, 4320) / limit(1.0, 2160) - 4.0).abs() < 1e-9);
    }
}
