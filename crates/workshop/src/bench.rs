//! Tests and their proofs.

use crate::saved::save_render;
use crate::shots::values;
use crate::{
    Comparison, Event, NewTest, ProofChange, ProofState, ProofView, SPARE_TESTS, Workshop, json, lock, parse, pictures,
};
use fault::{Code, Fault, panic_text};
use picture::files::{PngDepth, png, write_whole};
use picture::{Region, metrics, reduced};
use std::io::Write;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use store::ProofRow;
use tracer::{Description, Film, Phase, Progress, Render, RenderReport, deliver};
use tuning::Tuning;

/// A test at work, as seen from other threads.
pub(crate) struct Running {
    pub shot: i64,
    pub proof: i64,
    pub description: Description,
    stop: AtomicBool,
    ended: AtomicBool,
    pub film: Mutex<Option<Arc<Film>>>,
    pub progress: Mutex<Progress>,
}

impl Running {
    pub fn active(&self) -> bool {
        !self.ended.load(Ordering::Acquire)
    }
}

pub(crate) fn idle(phase: Phase) -> Progress {
    Progress {
        phase,
        share: 0.0,
        samples: 0,
        samples_per_pixel: 0.0,
        elapsed: 0.0,
        remaining: None,
        grain: None,
        worst_block: None,
        settled: 0.0,
        capped: 0.0,
    }
}

/// Time between two reports of progress.
const BEAT: Duration = Duration::from_millis(120);
/// Height of the small pictures.
const THUMBNAIL: usize = 180;

impl Workshop {
    /// Starts a test of the shot as it is now, ending the one that runs; the proof that it becomes.
    pub fn start_test(&self, shot: i64, test: &NewTest) -> Result<ProofView, Fault> {
        let description = self.description(shot, test.region)?;
        let _changing = lock(&self.0.changing_test);
        self.stop_test();
        let row = self.0.store.begin_proof(shot, &json(&description)?)?;
        let running = Arc::new(Running {
            shot,
            proof: row.id,
            description,
            stop: AtomicBool::new(false),
            ended: AtomicBool::new(false),
            film: Mutex::new(None),
            progress: Mutex::new(idle(Phase::Loading)),
        });
        *lock(&self.0.test) = Some(running.clone());
        let (workshop, job) = (self.clone(), running.clone());
        std::thread::Builder::new()
            .name("test".into())
            .spawn(move || workshop.work_test(&job))
            .map_err(|e| Fault::io("thread", &e))?;
        self.0.events.tell(Event::Proofs { shot });
        self.proof_view(row)
    }

    /// Stops the running test and waits until it has been put away; true if there was one.
    pub fn stop_test(&self) -> bool {
        let running = lock(&self.0.test).clone();
        let Some(r) = running.filter(|r| r.active()) else { return false };
        r.stop.store(true, Ordering::Release);
        while r.active() {
            std::thread::sleep(Duration::from_millis(2));
        }
        true
    }

    pub(crate) fn test_is_running(&self) -> bool {
        lock(&self.0.test).as_ref().is_some_and(|t| t.active())
    }

    /// Waits for the running test to end by itself.
    pub fn wait_for_test(&self) {
        while self.test_is_running() {
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    fn work_test(&self, job: &Running) {
        let done = catch_unwind(AssertUnwindSafe(|| self.render_test(job)))
            .unwrap_or_else(|p| Err(Fault::internal(panic_text(&*p), "test")));
        let fault = done.err();
        if fault.is_some() {
            lock(&job.progress).phase = Phase::Failed;
            let _ = self.0.store.delete_proof(job.proof);
        }
        *lock(&job.film) = None;
        job.ended.store(true, Ordering::Release);
        self.tell_test(job, fault);
        self.0.events.tell(Event::Proofs { shot: job.shot });
        self.wake();
    }

    fn tell_test(&self, job: &Running, fault: Option<Fault>) {
        let progress = *lock(&job.progress);
        self.0.events.tell(Event::Test { shot: job.shot, proof: job.proof, progress, fault });
    }

    fn render_test(&self, job: &Running) -> Result<(), Fault> {
        let d = &job.description;
        let stage = self.stage(&(d.scene.clone(), d.environment.clone()), &mut |phase| {
            lock(&job.progress).phase = phase;
            self.tell_test(job, None);
        })?;
        let mut render = Render::new(stage, d.clone(), self.0.pool.clone(), true)?;
        *lock(&job.film) = Some(render.film());
        let mut told = Instant::now() - BEAT;
        while render.step(&job.stop) && !job.stop.load(Ordering::Acquire) {
            if told.elapsed() >= BEAT {
                told = Instant::now();
                *lock(&job.progress) = render.progress();
                self.tell_test(job, None);
            }
        }
        let mut progress = render.progress();
        progress.phase = Phase::Writing;
        *lock(&job.progress) = progress;
        self.tell_test(job, None);
        // Without one sample a pixel there is nothing to keep.
        if render.plate().samples.contains(&0) {
            self.0.store.delete_proof(job.proof)?;
            lock(&job.progress).phase = Phase::Stopped;
            return Ok(());
        }
        self.put_away(job, &render)?;
        let whole = render.done();
        lock(&job.progress).phase = if whole { Phase::Done } else { Phase::Stopped };
        let report = json(&render.report())?;
        self.0.store.end_proof(job.proof, if whole { "done" } else { "stopped" }, &report)?;
        for id in self.0.store.surplus_proofs(job.shot, SPARE_TESTS)? {
            self.forget_plate(id);
            self.0.store.delete_proof(id)?;
        }
        Ok(())
    }

    /// Writes raw sums, counts and a small picture into the proof's folder.
    fn put_away(&self, job: &Running, render: &Render) -> Result<(), Fault> {
        let folder = self.0.store.proof_folder(job.proof);
        std::fs::create_dir_all(&folder).map_err(|e| Fault::io(folder.display().to_string(), &e))?;
        let d = &job.description;
        save_render(render, d, &folder)?;
        let plate = Arc::new(render.plate());
        let picture = self.0.screen.install(|| deliver::delivered(&plate, d));
        write_thumbnail(&folder.join("thumb.png"), &picture, plate.region, d)?;
        self.remember_plate(job.proof, plate);
        Ok(())
    }

    pub(crate) fn running_test(&self, proof: i64) -> Option<Arc<Running>> {
        lock(&self.0.test).clone().filter(|t| t.proof == proof && t.active())
    }

    /// Progress of the running test, for a page that comes back in the middle.
    pub fn test_progress(&self) -> Option<Event> {
        let t = lock(&self.0.test).clone().filter(|t| t.active())?;
        let progress = *lock(&t.progress);
        Some(Event::Test { shot: t.shot, proof: t.proof, progress, fault: None })
    }

    pub fn proofs(&self, shot: i64) -> Result<Vec<ProofView>, Fault> {
        let rows = self.0.store.proofs(shot)?;
        rows.into_iter().map(|r| self.proof_view(r)).collect()
    }

    fn proof_view(&self, row: ProofRow) -> Result<ProofView, Fault> {
        let d: Description = parse(&row.description, "proof")?;
        let now = self.tuning(row.shot).unwrap_or_else(|_| Tuning::default());
        Ok(ProofView {
            id: row.id,
            shot: row.shot,
            number: row.number,
            name: row.name,
            note: row.note,
            kept: row.kept,
            state: match row.state.as_str() {
                "running" => ProofState::Running,
                "done" => ProofState::Done,
                _ => ProofState::Stopped,
            },
            made: row.made,
            camera: d.camera.clone(),
            frame: d.frame(),
            region: d.region,
            differs: d.tuning.differences(&now).len(),
            tuning: values(&d.tuning),
            report: row.report.as_deref().map(|r| parse(r, "report")).transpose()?,
        })
    }

    /// Pulls a proof (keeps it), names it, notes something on it.
    pub fn change_proof(&self, id: i64, change: &ProofChange) -> Result<ProofView, Fault> {
        let row = self.0.store.proof(id)?;
        let limit = |s: &str, most: usize, what: &str| {
            if s.chars().count() > most {
                return Err(Fault::new(Code::OutOfRange, format!("more than {most} characters"), what, "shorten it"));
            }
            Ok(())
        };
        let name = change.name.as_deref().unwrap_or(&row.name);
        let note = change.note.as_deref().unwrap_or(&row.note);
        limit(name, 120, "name")?;
        limit(note, 4000, "note")?;
        self.0.store.label_proof(id, name, note, change.kept.unwrap_or(row.kept))?;
        self.0.events.tell(Event::Proofs { shot: row.shot });
        self.proof_view(self.0.store.proof(id)?)
    }

    pub fn delete_proof(&self, id: i64) -> Result<(), Fault> {
        let row = self.0.store.proof(id)?;
        if self.running_test(id).is_some() {
            self.stop_test();
        }
        self.forget_plate(id);
        self.0.store.delete_proof(id)?;
        self.0.events.tell(Event::Proofs { shot: row.shot });
        Ok(())
    }

    /// Takes a proof's tuning back into its shot, as a revision.
    pub fn take_tuning(&self, id: i64) -> Result<(), Fault> {
        let row = self.0.store.proof(id)?;
        let d: Description = parse(&row.description, "proof")?;
        if d.tuning != self.tuning(row.shot)? {
            self.0.store.revise(row.shot, &json(&d.tuning)?, &format!("tuning of proof {}", row.number))?;
            self.0.events.tell(Event::Shot { shot: row.shot });
        }
        Ok(())
    }

    pub fn compare(&self, a: i64, b: i64) -> Result<Comparison, Fault> {
        let (da, ra) = self.measured(a)?;
        let (db, rb) = self.measured(b)?;
        let ratio = |f: fn(&RenderReport) -> f64| match (&ra, &rb) {
            (Some(x), Some(y)) if f(y) > 0.0 => Some(f(x) / f(y)),
            _ => None,
        };
        let shared = if da.frame() == db.frame() { intersection(da.area(), db.area()) } else { None };
        let compared = match shared {
            Some(r) => {
                let cut = |id: i64, d: &Description| -> Result<Vec<picture::Rgb>, Fault> {
                    let look = pictures::Look::of(d);
                    Ok(crop(&self.delivered(id, &look)?, d.area(), r))
                };
                let size = (r.width as usize, r.height as usize);
                Some(metrics::compare(&cut(a, &da)?, &cut(b, &db)?, size, &db.view())?)
            }
            None => None,
        };
        Ok(Comparison {
            differences: da.tuning.differences(&db.tuning),
            time_ratio: ratio(|r| r.seconds),
            grain_ratio: ratio(|r| r.grain),
            metrics: compared,
            shared,
        })
    }

    /// A proof's description, and its report once it has ended.
    pub(crate) fn measured(&self, id: i64) -> Result<(Description, Option<RenderReport>), Fault> {
        let row = self.0.store.proof(id)?;
        let report = row.report.as_deref().map(|r| parse(r, "report")).transpose()?;
        Ok((parse(&row.description, "proof")?, report))
    }
}

fn intersection(a: Region, b: Region) -> Option<Region> {
    let (x, y) = (a.x.max(b.x), a.y.max(b.y));
    let (right, bottom) = (a.right().min(b.right()), a.bottom().min(b.bottom()));
    (right > x && bottom > y).then(|| Region { x, y, width: right - x, height: bottom - y })
}

fn crop(pixels: &[picture::Rgb], from: Region, to: Region) -> Vec<picture::Rgb> {
    (to.y..to.bottom())
        .flat_map(|y| {
            let start = ((y - from.y) * from.width + (to.x - from.x)) as usize;
            pixels[start..start + to.width as usize].iter().copied()
        })
        .collect()
}

pub(crate) fn write_bytes(path: &std::path::Path, bytes: &[u8]) -> Result<(), Fault> {
    write_whole(path, |out| out.write_all(bytes).map_err(|e| Fault::io(path.display().to_string(), &e)))
}

/// A small picture for sheets and lists.
pub(crate) fn write_thumbnail(
    path: &std::path::Path,
    pixels: &[picture::Rgb],
    r: Region,
    d: &Description,
) -> Result<(), Fault> {
    let (w, h) = (r.width as usize, r.height as usize);
    let height = THUMBNAIL.min(h);
    let width = ((w * height) as f64 / h as f64).round().clamp(1.0, 640.0) as usize;
    let small = reduced(pixels, (w, h), (width, height));
    let size = (width as u32, height as u32);
    write_whole(path, |out| png(out, &small, size, None, &d.view(), PngDepth::Eight))
}
