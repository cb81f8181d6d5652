//! The clock of a final, and what *hold the time* keeps of it for what comes after sampling: clean-up, mattes and files.
//!
//! How long these take depends on the machine, on what else it does, and on what the frame shows. So they are tried out: on strips
//! of the frame after the first samples, and on one strip again as the end comes near, since other work may have come.

use crate::{FileView, Workshop};
use fault::{Code, Fault};
use picture::{Plate, Region};
use std::borrow::Cow;
use std::path::Path;
use std::time::{Duration, Instant};
use store::FinalRow;
use tracer::deliver::{Delivered, Delivery};
use tracer::{Description, Render, clean_up_of};
use tuning::K;

/// So many strips of so many rows at the least, and of as many as may take this share of the budget. Small frames are tried out whole.
/// Packed files are made of blocks of up to 32 rows, one a thread: fewer rows would tell nothing of how threads share the work.
const STRIPS: u32 = 3;
const STRIP_ROWS: u32 = 64;
const TRYING: f64 = 0.02;
const SMALL_FRAME: usize = 300_000;
/// Side of the square that tells what files cost however small they are. At least this share of a strip's time goes with its size.
const TINY: u32 = 8;
const LEAST_GROWING: f64 = 0.1;
/// A denoiser that is tried out before there are samples finds little to do: it is taken to need this share of what it usually does.
const LEAST_DENOISING: f64 = 0.5;
/// When it is tried out, in shares of the time for sampling.
const WHEN: [f64; 4] = [0.0, 0.4, 0.7, 0.9];
/// What takes so much longer than at the first try is tried once more, and the mean counts: it may have been a moment's hiccup.
const HICCUP: f64 = 1.3;
/// One strip alone tells that there is no room, where in proportion the frame takes so many times the budget.
const HOPELESS: f64 = 3.0;
/// Kept beyond what was tried out: a share, and seconds. At 1920×1080 the whole frame takes up to a quarter more than its strips say, for
/// it is larger than the caches.
const MORE: (f64, f64) = (0.3, 0.2);
/// And this share of what sampling takes longer by the clock than on a processor: where other programs share the processors, the
/// system lets short trials through before them, but not the long work of the end.
const BESIDE: f64 = 0.8;

/// Time by the clock since the work on a final began, without what was given to tests.
pub(super) struct Stopwatch {
    pub earlier: f64,
    pub began: Instant,
    pub given: Duration,
}

impl Stopwatch {
    pub fn seconds(&self) -> f64 {
        self.earlier + self.began.elapsed().saturating_sub(self.given).as_secs_f64()
    }
}

/// Seconds that are kept for the end of a final, as far as it has been tried out.
pub(super) struct Reserve {
    /// Seconds of the whole final; none where it does not hold the time.
    budget: Option<f64>,
    seconds: f64,
    /// Seconds that trying it out has taken.
    trying: f64,
    tried: usize,
    first: Option<First>,
}

/// What trying it out first has told: seconds of the whole frame and of the strip that is tried out again, both beyond what a few
/// pixels take as well.
struct First {
    growing: f64,
    strip: f64,
    /// By how much longer the strip took when it was tried out last.
    last: f64,
}

/// What can be tried out: the figures of the whole frame, which the report tells, or clean-up and files of a part of it.
#[derive(Debug, Clone, Copy)]
pub(super) enum Trial {
    Figures,
    Files(Region),
}

/// What a trial has told.
pub(super) struct Rehearsal {
    seconds: f64,
    /// What a denoiser takes at least for the whole frame.
    denoising: f64,
}

impl Reserve {
    pub fn new(budget: Option<f64>, usual: f64) -> Reserve {
        Reserve { budget, seconds: usual, trying: 0.0, tried: 0, first: None }
    }

    pub fn seconds(&self) -> f64 {
        self.seconds
    }

    /// Whether it is time to try it out; before the first samples only where there is no time to wait for them.
    pub fn is_due(&self, spent: f64, has_samples: bool) -> bool {
        self.budget.is_some_and(|budget| {
            let sampling = budget - self.seconds;
            self.tried < WHEN.len() && spent >= WHEN[self.tried] * sampling && (has_samples || spent > 0.3 * sampling)
        })
    }

    /// Tries it out: `run` does what is done at the end, with the whole frame or a part; sampling takes `slowdown` times as
    /// long as with the processors alone. False where the first try tells that there is no room for it at all.
    pub fn try_out(
        &mut self,
        spent: f64,
        slowdown: f64,
        area: Region,
        run: impl Fn(Trial) -> Result<Rehearsal, Fault>,
    ) -> Result<bool, Fault> {
        let Some(budget) = self.budget else { return Ok(true) };
        let (first, began) = (self.first.is_none(), Instant::now());
        self.seconds = self.measure(budget, area, run)? * (1.0 + MORE.0 + BESIDE * (slowdown - 1.0)) + MORE.1;
        self.trying += began.elapsed().as_secs_f64();
        // What began late needs no more than one.
        let sampling = (budget - self.seconds).max(spent);
        self.tried = WHEN.iter().filter(|share| spent >= *share * sampling).count();
        Ok(!first || spent + self.seconds < budget)
    }

    /// Seconds that the whole frame is expected to take.
    fn measure(
        &mut self,
        budget: f64,
        area: Region,
        run: impl Fn(Trial) -> Result<Rehearsal, Fault>,
    ) -> Result<f64, Fault> {
        let lowest = strips(area, STRIP_ROWS)[0];
        let tiny = Region { width: TINY.min(area.width), height: TINY.min(area.height), ..lowest };
        let files = |part: Region| run(Trial::Files(part));
        // What each file costs however small it is counts once for the frame, not once for each strip.
        let fixed = || Ok(files(tiny)?.seconds.min(files(tiny)?.seconds));
        let figures = || Ok(run(Trial::Figures)?.seconds);
        let beyond = |seconds: f64, fixed: f64| (seconds - fixed).max(LEAST_GROWING * seconds);
        if let Some(first) = &mut self.first {
            // Other work may have come, and more samples are more to pack. That it has become quicker counts once two tries say so.
            let fixed = fixed()?;
            let mut strip = beyond(files(lowest)?.seconds, fixed);
            if strip > HICCUP * first.strip {
                strip = 0.5 * (strip + beyond(files(lowest)?.seconds, fixed));
            }
            let times = strip / first.strip;
            return Ok(figures()? + fixed + first.growing * times.max(std::mem::replace(&mut first.last, times)));
        }
        let (small, strip) = (area.area() <= SMALL_FRAME, files(lowest)?);
        let in_proportion = strip.seconds * area.area() as f64 / lowest.area() as f64;
        if in_proportion > HOPELESS * budget {
            // More strips would only put off the answer.
            return Ok(in_proportion);
        }
        let fixed = fixed()?;
        let (growing, denoising) = if small {
            let whole = files(area)?;
            (beyond(whole.seconds, fixed), whole.denoising)
        } else {
            let times = TRYING * budget / (STRIPS as f64 * strip.seconds);
            let rows = (STRIP_ROWS as f64 * times.clamp(1.0, 1e3)) as u32;
            let (mut growing, mut pixels) = (0.0, 0);
            for part in strips(area, rows.min((area.height / STRIPS).max(1))) {
                growing += beyond(if part == lowest { strip.seconds } else { files(part)?.seconds }, fixed);
                pixels += part.area() - tiny.area();
            }
            (growing * (area.area() - tiny.area()) as f64 / pixels as f64, strip.denoising)
        };
        let growing = growing.max(LEAST_DENOISING * denoising);
        self.first = Some(First { growing, strip: beyond(strip.seconds, fixed), last: 1.0 });
        Ok(figures()? + fixed + growing)
    }
}

/// Strips of a frame from top to bottom, one near the middle first.
fn strips(area: Region, rows: u32) -> Vec<Region> {
    let height = rows.min(area.height);
    let strip = |k: u32| Region { y: area.y + (k * (area.height - height)) / (STRIPS - 1), height, ..area };
    [1, 0, 2].map(strip).to_vec()
}

/// A budget in which rendering has no room beside what comes before and after it, both in seconds.
pub(super) fn too_long(row: &FinalRow, start: f64, reserve: &Reserve) -> Fault {
    let [start, trying, after, budget] = [start, reserve.trying, reserve.seconds, row.budget].map(advice::spoken);
    Fault::new(
        Code::OutOfRange,
        format!(
            "getting the scene ready took {start}, trying out clean-up, mattes and files took {trying}, and {after} must be \
             kept for these, which leaves nothing of the budget of {budget} for rendering"
        ),
        format!("final {}", row.id),
        "give more minutes, or leave out what takes long: the careful denoiser, mattes, parts of large frames",
    )
}

/// A folder for trial files that goes when it is no longer needed, whatever happens.
struct Scratch<'a>(&'a Path);

impl Drop for Scratch<'_> {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(self.0);
    }
}

impl Workshop {
    /// Seconds of clean-up and files by what they took before on this machine.
    pub(super) fn usual_reserve(&self, d: &Description) -> f64 {
        self.machine().after_sampling(&d.tuning, d.area().area() as f64)
    }

    /// Does what is done with a final at its end.
    pub(super) fn rehearse(
        &self,
        render: &Render,
        d: &Description,
        folder: &Path,
        trial: Trial,
    ) -> Result<Rehearsal, Fault> {
        let began = Instant::now();
        let Trial::Files(part) = trial else {
            let _ = render.report_of(None);
            return Ok(Rehearsal { seconds: began.elapsed().as_secs_f64(), denoising: 0.0 });
        };
        let folder = folder.join(".rehearsal");
        std::fs::create_dir_all(&folder).map_err(|e| Fault::io(folder.display().to_string(), &e))?;
        let scratch = Scratch(&folder);
        let mut plate = render.film().plate_of(part);
        self.0.screen.install(|| plate.fill_gaps());
        let _ = render.noise_of(&plate);
        self.write_delivery(render, d, plate, scratch.0, "rehearsal")?;
        let denoise = clean_up_of(&d.tuning).denoises().map_or(0.0, |m| self.machine().denoise_per_pixel[m as usize]);
        Ok(Rehearsal { seconds: began.elapsed().as_secs_f64(), denoising: denoise * d.area().area() as f64 })
    }

    /// Cleans a plate up and writes all of its files: what is delivered, the files, and the seconds of cleaning and of mattes.
    pub(super) fn write_delivery(
        &self,
        render: &Render,
        d: &Description,
        plate: Plate,
        folder: &Path,
        base: &str,
    ) -> Result<(Delivered, Vec<FileView>, [f64; 2]), Fault> {
        let clock = Instant::now();
        let delivered = self.0.screen.install(|| Delivered::of(&plate, d));
        let cleaning = clock.elapsed().as_secs_f64();
        let clock = Instant::now();
        let mattes = d.tuning.switch(K::DeliveryMattes).then(|| render.mattes_of(plate.region));
        let matting = if mattes.is_some() { clock.elapsed().as_secs_f64() } else { 0.0 };
        let delivery = Delivery { plate: Cow::Owned(plate), delivered: &delivered, description: d, mattes };
        let files = delivery
            .write_all(folder, base)?
            .into_iter()
            .map(|w| FileView { name: w.name, bytes: w.bytes, notes: w.notes })
            .collect();
        Ok((delivered, files, [cleaning, matting]))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A machine on which everything costs a little, then a pixel its share: told within the reserve, tried out again on a strip
    /// alone, and longer once other work has come.
    #[test]
    fn the_end_is_told_by_strips() {
        for (width, height) in [(480, 300), (1920, 1080), (4096, 2160), (3000, 10)] {
            let area = Region { x: 0, y: 0, width, height };
            let cost = |part: Region| 0.1 + part.area() as f64 * 1e-6;
            let (load, seen) = (std::cell::Cell::new(1.0), std::cell::Cell::new(0));
            let run = |trial: Trial| {
                let Trial::Files(part) = trial else {
                    return Ok(Rehearsal { seconds: 0.1 * load.get(), denoising: 0.0 });
                };
                assert!(part.shared(area) == Some(part), "{part:?}");
                seen.set(seen.get() + part.area());
                Ok(Rehearsal { seconds: load.get() * cost(part), denoising: 0.0 })
            };
            let mut reserve = Reserve::new(Some(60.0), 5.0);
            assert!(!reserve.is_due(1.0, false) && reserve.is_due(1.0, true) && reserve.is_due(20.0, false));
            assert!(!Reserve::new(Some(cost(area)), 0.0).try_out(1.0, 1.0, area, run).unwrap());
            seen.set(0);
            assert!(!Reserve::new(Some(cost(area) / 100.0), 0.0).try_out(1.0, 1.0, area, run).unwrap());
            assert_eq!(seen.replace(0), (STRIP_ROWS.min(height) * width) as usize, "one strip is enough to know");
            assert!(reserve.try_out(1.0, 1.0, area, run).unwrap());
            let near = |got: f64, load: f64, margin: f64| {
                let expected = load * (0.1 + cost(area)) * (1.0 + margin) + MORE.1;
                assert!((got / expected - 1.0).abs() < 0.03, "{got} for {expected}");
            };
            near(reserve.seconds(), 1.0, MORE.0);
            assert!(!reserve.is_due(10.0, true) && reserve.is_due(24.0, true));
            let first = seen.replace(0);
            load.set(2.0);
            reserve.try_out(24.0, 1.0, area, run).unwrap();
            assert!(seen.get() <= first && seen.get() <= (2 * STRIP_ROWS * width + 2 * TINY * TINY) as usize);
            near(reserve.seconds(), 2.0, MORE.0);
            // Slower sampling keeps more for the end.
            reserve.try_out(24.0, 1.5, area, run).unwrap();
            near(reserve.seconds(), 2.0, MORE.0 + 0.5 * BESIDE);
            // The other work has gone.
            load.set(1.0);
            reserve.try_out(24.0, 1.0, area, run).unwrap();
            near(reserve.seconds(), (2.0 * cost(area)) / (0.1 + cost(area)), MORE.0);
            reserve.try_out(24.0, 1.0, area, run).unwrap();
            near(reserve.seconds(), 1.0, MORE.0);
            let next = 0.7 * (60.0 - reserve.seconds());
            assert!(!reserve.is_due(next - 0.1, true) && reserve.is_due(next + 0.1, true));
        }
        assert!(!Reserve::new(None, 3.0).is_due(1e9, true));
    }
}
