//! What a display file loses: light above white and below black, and steps that show as bands.

use crate::grain::BlockMap;
use crate::{Region, Rgb, View};
use serde::{Deserialize, Serialize};

/// Shares of the pixels of a display picture.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct DisplayLoss {
    /// At the top or the bottom of the range in some channel.
    pub high: f64,
    pub low: f64,
    /// On slopes so gentle and so free of grain that 8 bits show them as bands.
    pub bands: f64,
}

/// A pixel is clipped where the first or last of 255 steps is reached.
pub fn clipped(view: &View, c: Rgb) -> (bool, bool) {
    let d = view.display(c);
    (d.iter().any(|v| *v >= 254.5 / 255.0), d.iter().all(|v| *v <= 0.5 / 255.0))
}

/// Bands show where a picture changes by less than half a step of 255 from pixel to pixel, but does change, and where its grain
/// is below a third of a step, so that nothing blurs the edges of the steps (a rule of thumb: dither of a third of a step's
/// standard deviation hides them; common practice, no source).
pub fn display_loss(pixels: &[Rgb], region: Region, view: &View, grain: &BlockMap) -> DisplayLoss {
    const SLOPE: (f32, f32) = (0.02, 0.5);
    const GRAIN: f64 = 1.0 / 3.0;
    const REACH: usize = 4;
    let (w, h) = (region.width as usize, region.height as usize);
    let shown: Vec<f32> = pixels.iter().map(|c| 255.0 * view.display(*c)[1]).collect();
    let (mut high, mut low, mut bands) = (0usize, 0usize, 0usize);
    for y in 0..h {
        for x in 0..w {
            let i = y * w + x;
            let (above, below) = clipped(view, pixels[i]);
            high += above as usize;
            low += below as usize;
            if x + REACH < w && y + REACH < h && !above && !below {
                let slope = |j: usize| (shown[j] - shown[i]).abs() / REACH as f32;
                let steepest = slope(i + REACH).max(slope(i + REACH * w));
                let quiet = 255.0 * grain.at(region.x + x as u32, region.y + y as u32) < GRAIN;
                bands += (quiet && steepest > SLOPE.0 && steepest < SLOPE.1) as usize;
            }
        }
    }
    let of = |n: usize| n as f64 / (w * h).max(1) as f64;
    DisplayLoss { high: of(high), low: of(low), bands: of(bands) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_gentle_ramp_bands_and_grain_hides_it() {
        let (w, h) = (64u32, 64u32);
        let region = Region::whole(w, h);
        // From 100 to 106 of 255 over 64 pixels: six steps.
        let of = |x: u32| crate::srgb_decode((100.0 + 6.0 * x as f32 / 64.0) / 255.0);
        let ramp: Vec<Rgb> = (0..w * h).map(|i| [of(i % w); 3]).collect();
        let grain = |g: f32| BlockMap::from_differences(region, 8, (0..w * h).map(move |_| [g; 3]));
        let quiet = display_loss(&ramp, region, &View::PLAIN, &grain(0.0));
        assert!(quiet.bands > 0.8 && quiet.high == 0.0 && quiet.low == 0.0, "{quiet:?}");
        assert_eq!(display_loss(&ramp, region, &View::PLAIN, &grain(0.004)).bands, 0.0);
        let mut bright = ramp.clone();
        bright[..64].fill([3.0; 3]);
        bright[64..192].fill([0.0; 3]);
        let loss = display_loss(&bright, region, &View::PLAIN, &grain(0.0));
        assert!((loss.high - 1.0 / 64.0).abs() < 1e-9 && (loss.low - 2.0 / 64.0).abs() < 1e-9);
    }
}
