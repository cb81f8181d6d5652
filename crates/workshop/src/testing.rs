//! Tests at work: started, stopped, taken further, put away.
//!
//! One test renders at a time. When it ends or is stopped it leaves the render pool at once, and is put away by its own
//! thread, at low priority, while the next one may already run. What it rendered stays in memory until it is on disk, so that
//! a full disk loses nothing.

use crate::circumstances::Watch;
use crate::saved::save_render;
use crate::{Circumstances, Event, NewTest, Workshop, json, lock, parse};
use fault::{Code, Fault, panic_text};
use picture::denoise::clean;
use picture::files::{PngForm, png, write_whole};
use picture::{Plate, Region, reduced};
use std::io::Write;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use store::{ProofKind, ProofRow, ProofState};
use tracer::{Description, Limits, Phase, PilotRun, Progress, Render, clean_up_of, lower_priority};
use tuning::K;

/// A test at work, as seen from other threads.
pub(crate) struct Running {
    pub shot: i64,
    pub proof: i64,
    pub kind: ProofKind,
    pub description: Description,
    /// Begun by a change of a knob in live mode.
    live: bool,
    stop: AtomicBool,
    /// It is being saved for the case that the program ends, and does not render meanwhile.
    saving: AtomicBool,
    /// It renders no more.
    ended: AtomicBool,
    pub progress: Mutex<Progress>,
    watch: Mutex<Watch>,
    pub told: Mutex<Instant>,
}

/// What a test begins with.
enum Beginning {
    New,
    /// Goes on from the proof's own film.
    Further,
    /// A pilot of so many seconds.
    Pilot(f64),
}

/// Under this name memory counts the film of a test.
const FILM: &str = "films of tests";

impl Running {
    pub fn active(&self) -> bool {
        !self.ended.load(Ordering::Acquire)
    }

    /// What listeners are told of it.
    pub fn event(&self, fault: Option<Fault>, stalled: Option<String>) -> Event {
        let limits = Limits::of(&self.description.tuning);
        Event::Test {
            shot: self.shot,
            proof: self.proof,
            kind: self.kind,
            most: (self.kind != ProofKind::Pilot).then_some(2 * limits.most),
            threshold: limits.threshold,
            progress: lock(&self.progress).clone(),
            fault,
            stalled,
        }
    }

    fn enter(&self, phase: Phase) {
        lock(&self.progress).phase = phase;
        lock(&self.watch).enter(phase);
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
        in_a_minute: None,
        history: Vec::new(),
    }
}

/// A test that could not be written; it stays in memory until it can be.
pub(crate) struct Unsaved {
    pub proof: i64,
    render: Render,
    circumstances: Circumstances,
    pub fault: Fault,
}

/// Time between two reports of progress.
const BEAT: Duration = Duration::from_millis(120);
/// Share of the budget that a pilot takes, and its most seconds.
const PILOT: f64 = 0.05;
const PILOT_MOST: f64 = 120.0;
/// Height of the small pictures.
const THUMBNAIL: usize = 180;
/// A test of live mode that the next change of its shot pushed out before it had sampled for so long leaves no proof.
const GLIMPSE: f64 = 2.0;

impl Workshop {
    /// Starts a test of the shot as it is now under its draft overlays, ending the one that runs; the proof that it becomes.
    pub fn start_test(&self, shot: i64, test: &NewTest) -> Result<i64, Fault> {
        let mut d = self.description(shot, test.region)?.under(&self.overlays_on(shot)?);
        if self.settings().new_seed {
            d.tuning = d.tuning.with(K::SamplingSeed, self.fresh_seed());
        }
        d.check()?;
        self.run_test(shot, ProofKind::Test, d, test.live)
    }

    /// Renders a description as a new proof of the shot.
    pub(crate) fn run_test(&self, shot: i64, kind: ProofKind, d: Description, live: bool) -> Result<i64, Fault> {
        let _changing = lock(&self.0.changing_test);
        self.begins()?;
        let stopped = self.stop_rendering();
        let row = self.0.store.begin_proof(shot, kind, &json(&d)?)?;
        self.tell_pushed_out(stopped, &row)?;
        let from = match kind {
            ProofKind::Pilot => Beginning::Pilot((PILOT * self.0.store.shot(shot)?.budget).min(PILOT_MOST)),
            _ => Beginning::New,
        };
        self.begin(&row, d, live, from)?;
        Ok(row.id)
    }

    /// Starts a pilot: superblocks all over the frame, at the shot's own tuning without its drafts.
    pub fn start_pilot(&self, shot: i64) -> Result<i64, Fault> {
        let d = self.description(shot, None)?;
        self.run_test(shot, ProofKind::Pilot, d, false)
    }

    /// Goes on with a proof under other limits, without rendering again what it holds.
    pub(crate) fn run_further(&self, row: &ProofRow, d: Description) -> Result<(), Fault> {
        let _changing = lock(&self.0.changing_test);
        self.begins()?;
        let stopped = self.stop_rendering();
        self.tell_pushed_out(stopped, row)?;
        self.wait_for_writing();
        self.0.store.reopen_proof(row.id, &json(&d)?)?;
        self.begin(row, d, false, Beginning::Further)
    }

    fn begin(&self, row: &ProofRow, description: Description, live: bool, from: Beginning) -> Result<(), Fault> {
        let running = Arc::new(Running {
            shot: row.shot,
            proof: row.id,
            kind: row.kind,
            description,
            live,
            stop: AtomicBool::new(false),
            saving: AtomicBool::new(false),
            ended: AtomicBool::new(false),
            progress: Mutex::new(idle(Phase::Loading)),
            watch: Mutex::new(Watch::start()),
            told: Mutex::new(Instant::now()),
        });
        *lock(&self.0.test) = Some(running.clone());
        self.brake_finals();
        lock(&self.0.writing).push(row.id);
        let (workshop, job) = (self.clone(), running.clone());
        std::thread::Builder::new()
            .name("test".into())
            .spawn(move || workshop.work_test(&job, from))
            .map_err(|e| Fault::io("thread", &e))?;
        let (workshop, job) = (self.clone(), running);
        std::thread::Builder::new()
            .name("watch".into())
            .spawn(move || workshop.watch_test(&job))
            .map_err(|e| Fault::io("thread", &e))?;
        self.0.events.tell(Event::Proofs { shot: row.shot });
        Ok(())
    }

    /// Tells the running test to stop, if there is one.
    pub(crate) fn stop_test_begun(&self) -> Option<Arc<Running>> {
        let running = lock(&self.0.test).clone().filter(|r| r.active())?;
        running.stop.store(true, Ordering::Release);
        Some(running)
    }

    /// Stops the running test, if there is one, and waits until it renders no more.
    fn stop_rendering(&self) -> Option<Arc<Running>> {
        let running = self.stop_test_begun()?;
        while running.active() {
            std::thread::sleep(Duration::from_millis(1));
        }
        Some(running)
    }

    fn tell_pushed_out(&self, stopped: Option<Arc<Running>>, by: &ProofRow) -> Result<(), Fault> {
        let Some(stopped) = stopped.filter(|s| s.proof != by.id) else { return Ok(()) };
        let name = |shot: i64| self.0.store.shot(shot).map(|s| s.name);
        let (shot_name, by_shot_name) = (name(stopped.shot)?, name(by.shot)?);
        self.0.events.tell(Event::PushedOut { proof: stopped.proof, shot_name, by: by.id, by_shot_name });
        Ok(())
    }

    /// Stops the running test and waits until it has been put away; true if there was one.
    pub fn stop_test(&self) -> bool {
        let was = self.stop_rendering().is_some();
        self.wait_for_writing();
        was
    }

    /// Stops the running test, which is put away on its own thread, whatever its size; true if there was one.
    pub fn stop_test_at_once(&self) -> bool {
        let Some(running) = self.stop_test_begun() else { return false };
        // While it is saved it does not render either.
        while running.active() && !running.saving.load(Ordering::Acquire) {
            std::thread::sleep(Duration::from_millis(1));
        }
        true
    }

    pub(crate) fn test_is_running(&self) -> bool {
        lock(&self.0.test).as_ref().is_some_and(|t| t.active())
    }

    /// Waits until tests that have ended are on disk; one that has begun meanwhile is not waited for.
    pub(crate) fn wait_for_writing(&self) {
        loop {
            let active = lock(&self.0.test).as_ref().filter(|t| t.active()).map(|t| t.proof);
            if lock(&self.0.writing).iter().all(|id| Some(*id) == active) {
                return;
            }
            std::thread::sleep(Duration::from_millis(2));
        }
    }

    /// Waits for the running test to end by itself and to be put away.
    pub fn wait_for_test(&self) {
        while self.test_is_running() {
            std::thread::sleep(Duration::from_millis(5));
        }
        self.wait_for_writing();
    }

    fn work_test(&self, job: &Running, from: Beginning) {
        let further = matches!(from, Beginning::Further);
        let pilot = matches!(from, Beginning::Pilot(_));
        let done = catch_unwind(AssertUnwindSafe(|| self.render_test(job, from)))
            .unwrap_or_else(|p| Err(Fault::internal(panic_text(&*p), "test")));
        // From here on pictures are those of its end.
        self.forget_plate(job.proof);
        job.ended.store(true, Ordering::Release);
        lock(&self.0.live_plate).take();
        self.wake();
        let done = done.and_then(|render| {
            lower_priority();
            catch_unwind(AssertUnwindSafe(|| self.put_away(job, render, pilot)))
                .unwrap_or_else(|p| Err(Fault::internal(panic_text(&*p), "keeping the test")))
        });
        lock(&self.0.films).remove(&job.proof);
        self.0.memory.hold_film((FILM, job.proof), 0);
        let fault = done.err();
        if fault.is_some() {
            lock(&job.progress).phase = Phase::Failed;
            // One that waits in memory stays as it is. One that went on holds on disk what it held before.
            let dropped = if self.unsaved(job.proof).is_some() {
                Ok(())
            } else if further {
                self.take_up_orphan(job.proof)
            } else {
                self.0.store.delete_proof(job.proof)
            };
            if let Err(f) = dropped {
                tracing::error!("{f}");
            }
        }
        lock(&self.0.writing).retain(|id| *id != job.proof);
        self.tell_test(job, fault, None);
        self.0.events.tell(Event::Proofs { shot: job.shot });
    }

    fn tell_test(&self, job: &Running, fault: Option<Fault>, stalled: Option<String>) {
        *lock(&job.told) = Instant::now();
        self.0.events.tell(job.event(fault, stalled));
    }

    /// Renders until the end or until it is stopped.
    fn render_test(&self, job: &Running, from: Beginning) -> Result<Render, Fault> {
        let d = &job.description;
        lock(&job.watch).enter(Phase::Loading);
        let stage = self.stage(&(d.scene.clone(), d.environment.clone()), &mut |phase| {
            job.enter(phase);
            self.tell_test(job, None, None);
        })?;
        job.enter(Phase::Lights);
        let folder = self.0.store.proof_folder(job.proof);
        self.0.memory.expect_film((FILM, job.proof), d);
        let mut render = match from {
            Beginning::New => Render::new(stage, d.clone(), self.pool(), true)?,
            Beginning::Pilot(_) => Render::new(stage, d.clone(), self.pool(), false)?,
            Beginning::Further => self.load_further(d, &folder)?,
        };
        let mut pilot = match from {
            Beginning::Pilot(seconds) => Some(PilotRun::new(&mut render, seconds)),
            _ => None,
        };
        self.0.memory.hold_film((FILM, job.proof), render.film_bytes());
        lock(&self.0.films).insert(job.proof, render.film());
        job.enter(Phase::FirstLook);
        let (mut told, mut saved, every) = (Instant::now() - BEAT, Instant::now(), self.patience().checkpoint);
        let (mut beat, mut pause) = (BEAT, every);
        loop {
            let more = match &mut pilot {
                Some(pilot) => pilot.step(&mut render, &job.stop),
                None => render.step(&job.stop),
            };
            let looking = render.is_looking();
            if looking || told.elapsed() >= beat {
                let began = Instant::now();
                let progress = pilot.as_ref().map_or_else(|| render.progress(), |p| p.progress(&render));
                if more {
                    lock(&job.watch).enter(progress.phase);
                }
                *lock(&job.progress) = progress;
                self.tell_test(job, None, None);
                // Telling of large frames takes a while itself.
                (told, beat) = (Instant::now(), BEAT.max(20 * began.elapsed()));
            }
            if !more || job.stop.load(Ordering::Acquire) {
                break;
            }
            // So that a test survives the end of the program. A full disk does not end it: the end of the test tells.
            if saved.elapsed() > pause && !render.has_gaps() {
                let began = Instant::now();
                job.saving.store(true, Ordering::Release);
                let _ = self.plate(job.proof).and_then(|plate| {
                    self.write_test(job.proof, &render, &plate, || self.circumstances(job), ProofState::Running)
                });
                job.saving.store(false, Ordering::Release);
                saved = Instant::now();
                pause = every.max(began.elapsed() * 30);
            }
        }
        let mut progress = render.progress();
        progress.phase = Phase::Writing;
        lock(&job.watch).enter(Phase::Writing);
        *lock(&job.progress) = progress;
        Ok(render)
    }

    fn put_away(&self, job: &Running, render: Render, pilot: bool) -> Result<(), Fault> {
        let end = |phase: Phase| lock(&job.progress).phase = phase;
        self.tell_test(job, None, None);
        let pushed_out =
            || lock(&self.0.test).as_ref().is_some_and(|t| t.proof != job.proof && t.live && t.shot == job.shot);
        let glimpse = job.live && !render.done() && lock(&job.progress).elapsed < GLIMPSE && pushed_out();
        // Without one sample a pixel there is nothing to keep.
        if (render.has_gaps() && !(pilot && render.round() > 0)) || glimpse {
            end(Phase::Stopped);
            self.forget_plate(job.proof);
            return self.0.store.delete_proof(job.proof);
        }
        // A pilot is over when its time is.
        let whole = render.done() || (pilot && !job.stop.load(Ordering::Acquire));
        let state = if whole { ProofState::Done } else { ProofState::Stopped };
        let written = self
            .plate(job.proof)
            .and_then(|plate| self.write_test(job.proof, &render, &plate, || self.circumstances(job), state));
        if let Err(fault) = written {
            let circumstances = self.circumstances(job);
            let waiting = Unsaved { proof: job.proof, render, circumstances, fault: fault.clone() };
            // There is memory for one: an older one that nobody saved goes.
            let older = lock(&self.0.unsaved).replace(waiting).filter(|u| u.proof != job.proof);
            if let Some(u) = older {
                self.0.store.delete_proof(u.proof)?;
            }
            return Err(Fault {
                remedy: format!("{}, then press Pull proof; it waits in memory", fault.remedy),
                ..fault
            });
        }
        end(if whole { Phase::Done } else { Phase::Stopped });
        // It is kept whatever becomes of older ones.
        if let Err(fault) = self.make_room(job.shot) {
            self.0.events.tell(Event::Refused { fault });
        }
        Ok(())
    }

    /// Writes raw sums, counts and a small picture into the proof's folder, and what was measured into its row.
    fn write_test(
        &self,
        proof: i64,
        render: &Render,
        plate: &Plate,
        circumstances: impl Fn() -> Circumstances,
        state: ProofState,
    ) -> Result<(), Fault> {
        let folder = self.0.store.proof_folder(proof);
        std::fs::create_dir_all(&folder).map_err(|e| Fault::io(folder.display().to_string(), &e))?;
        let d = render.description();
        save_render(render, d, &folder)?;
        let report = json(&render.report_of(Some(plate)))?;
        write_thumbnail(&folder.join("thumb.png"), plate, d)?;
        let bytes = folder_bytes(&folder);
        self.0.store.end_proof(proof, state, Some(&report), Some(&json(&circumstances())?), bytes)
    }

    fn circumstances(&self, job: &Running) -> Circumstances {
        lock(&job.watch).end(self.pool().current_num_threads())
    }

    /// Tries once more to write the test that found the disk full.
    pub(crate) fn save_unsaved(&self, proof: i64) -> Result<(), Fault> {
        let mut slot = lock(&self.0.unsaved);
        let Some(u) = slot.take_if(|u| u.proof == proof) else { return Ok(()) };
        let state = if u.render.done() { ProofState::Done } else { ProofState::Stopped };
        match self.write_test(proof, &u.render, &u.render.plate(), || u.circumstances.clone(), state) {
            Ok(()) => Ok(()),
            Err(fault) => {
                *slot = Some(Unsaved { fault: fault.clone(), ..u });
                Err(fault)
            }
        }
    }

    /// A test that ran when the program ended: kept as it was put away last, or dropped.
    pub(crate) fn take_up_orphan(&self, id: i64) -> Result<(), Fault> {
        let row = self.0.store.proof(id)?;
        match &row.report {
            Some(report) if crate::saved::load_counts(&self.0.store.proof_folder(id)).is_ok() => {
                let circumstances = row.circumstances.as_deref();
                self.0.store.end_proof(id, ProofState::Stopped, Some(report), circumstances, row.bytes)
            }
            _ => self.0.store.delete_proof(id),
        }
    }

    pub(crate) fn running_test(&self, proof: i64) -> Option<Arc<Running>> {
        lock(&self.0.test).clone().filter(|t| t.proof == proof && t.active())
    }

    /// Progress of the running test, for a page that comes back in the middle.
    pub fn test_progress(&self) -> Option<Event> {
        let t = lock(&self.0.test).clone().filter(|t| t.active())?;
        Some(t.event(None, None))
    }

    /// Takes a proof, or the running test, further: to at least `most` samples a pixel and to `threshold`; twice the samples
    /// where neither is given.
    pub fn go_on(&self, id: i64, most: Option<u32>, threshold: Option<f64>) -> Result<(), Fault> {
        let row = self.0.store.proof(id)?;
        if row.kind == ProofKind::Picture {
            return Err(Fault::new(
                Code::Unsupported,
                "a picture from elsewhere cannot be rendered further",
                format!("proof {}", row.number),
                "test the shot instead",
            ));
        }
        if self.running_test(id).is_some() {
            self.stop_test();
        }
        self.save_unsaved(id)?;
        let (d, ended) = self.measured(id)?;
        let own_most = d.tuning.whole(K::SamplingMost);
        let double = own_most.saturating_mul(2).min(65536);
        let most = most.unwrap_or(if threshold.is_some() { own_most } else { double });
        // Where blocks have settled, the threshold is what stops them, however far below it they are: half of the variance is
        // about twice the samples.
        let finer = ended.filter(|_| d.tuning.switch(K::SamplingAdaptive)).map(|r| (r.grain / 2f64.sqrt()).max(0.0005));
        let threshold = threshold
            .or(finer)
            .map_or(d.tuning.real(K::SamplingThreshold), |t| t.min(d.tuning.real(K::SamplingThreshold)));
        let mut next = d.clone();
        next.tuning.set("sampling.most", &serde_json::json!(most.max(own_most)))?;
        next.tuning.set("sampling.threshold", &serde_json::json!(threshold))?;
        next.check()?;
        self.run_further(&row, next)
    }

    /// Renders a proof's description once more, as a new proof: the same picture, bit for bit, on like processors.
    pub fn repeat_test(&self, id: i64) -> Result<i64, Fault> {
        let row = self.0.store.proof(id)?;
        let (d, _) = self.measured(id)?;
        self.run_test(row.shot, row.kind, d, false)
    }

    /// A long test of a region with another seed than the shot's, against which its proofs are measured: until the grain is a
    /// fifth of the threshold.
    pub fn make_reference(&self, shot: i64, region: Option<Region>) -> Result<i64, Fault> {
        let d = self.reference_description(shot, region)?;
        let id = self.run_test(shot, ProofKind::Reference, d, false)?;
        let row = self.0.store.proof(id)?;
        self.0.store.label_proof(id, "reference", &row.note, true, false)?;
        Ok(id)
    }

    pub(crate) fn reference_description(&self, shot: i64, region: Option<Region>) -> Result<Description, Fault> {
        let mut d = self.description(shot, region)?;
        let t = &mut d.tuning;
        let seed = t.whole(K::SamplingSeed);
        let threshold = (t.real(K::SamplingThreshold) / 5.0).max(0.0005);
        for (id, value) in [
            // Any seed but the shot's: shared samples would hide error.
            ("sampling.seed", serde_json::json!(seed.wrapping_add(0x5eed))),
            ("sampling.adaptive", serde_json::json!(true)),
            ("sampling.threshold", serde_json::json!(threshold)),
            ("sampling.most", serde_json::json!(65536)),
        ] {
            t.set(id, &value)?;
        }
        d.check()?;
        Ok(d)
    }

    fn fresh_seed(&self) -> u32 {
        let time = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(1, |d| d.subsec_nanos());
        time ^ (time >> 7) ^ std::process::id()
    }

    /// The plate of a proof that waits in memory.
    pub(crate) fn unsaved_plate(&self, id: i64) -> Result<Plate, Fault> {
        let slot = lock(&self.0.unsaved);
        slot.as_ref().filter(|u| u.proof == id).map(|u| u.render.plate()).ok_or_else(|| {
            Fault::new(Code::Busy, "the proof is just being written", format!("proof {id}"), "look again in a moment")
        })
    }

    /// Whether a proof waits in memory because the disk would not take it, and why.
    pub(crate) fn unsaved(&self, id: i64) -> Option<Fault> {
        lock(&self.0.unsaved).as_ref().filter(|u| u.proof == id).map(|u| u.fault.clone())
    }

    pub(crate) fn load_further(&self, d: &Description, folder: &Path) -> Result<Render, Fault> {
        let (stage, saved) = self.saved_render(d, folder)?;
        Render::go_on(stage, d.clone(), self.pool(), &saved)
    }

    /// A proof's description, and its report once it has ended.
    pub(crate) fn measured(&self, id: i64) -> Result<(Description, Option<tracer::RenderReport>), Fault> {
        let row = self.0.store.proof(id)?;
        let report = row.report.as_deref().map(|r| parse(r, "report")).transpose()?;
        Ok((parse(&row.description, "proof")?, report))
    }
}

/// Bytes of the files in a folder.
pub(crate) fn folder_bytes(folder: &Path) -> i64 {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    entries.filter_map(|e| e.metadata().ok()).map(|m| m.len() as i64).sum()
}

pub(crate) fn write_bytes(path: &Path, bytes: &[u8]) -> Result<(), Fault> {
    write_whole(path, |out| out.write_all(bytes).map_err(|e| Fault::io(path.display().to_string(), &e)))
}

/// A small picture of a plate for sheets and lists, reduced first and cleaned up then, which takes only a moment.
fn write_thumbnail(path: &Path, plate: &Plate, d: &Description) -> Result<(), Fault> {
    let (frame, region) = (plate.frame, plate.region);
    let scale = (THUMBNAIL as f64 / region.height as f64).min(1.0);
    let small = |n: u32| ((n as f64 * scale).round() as u32).max(1);
    let to = (small(frame.0), small(frame.1));
    let part = Region {
        x: small(region.x + 1) - 1,
        y: small(region.y + 1) - 1,
        width: small(region.width),
        height: small(region.height),
    };
    let inside = part.shared(Region::whole(to.0, to.1)).unwrap_or(Region::whole(1, 1));
    let mut plate = plate.without_layers();
    // Where a pilot has not looked lies the grey of the stage.
    let known = picture::rendered(&plate.samples);
    for half in [&mut plate.a, &mut plate.b] {
        half.iter_mut().enumerate().filter(|(i, _)| !known(*i)).for_each(|(_, c)| *c = [0.18; 3]);
    }
    drop(known);
    let plate = plate.on_frame(to, inside);
    write_small(path, &clean(&plate, &clean_up_of(&d.tuning)), (inside.width, inside.height), &d.view())
}

/// A small picture for sheets and lists.
pub(crate) fn write_small(
    path: &Path,
    pixels: &[picture::Rgb],
    (w, h): (u32, u32),
    view: &picture::View,
) -> Result<(), Fault> {
    let to = small_size((w, h));
    let small = reduced(pixels, (w as usize, h as usize), (to.0 as usize, to.1 as usize));
    write_whole(path, |out| png(out, &small, to, view, PngForm::PLAIN))
}

/// Size of the small picture of a frame.
pub(crate) fn small_size((w, h): (u32, u32)) -> (u32, u32) {
    let height = (THUMBNAIL as u32).min(h);
    ((w as f64 * height as f64 / h as f64).round().clamp(1.0, 640.0) as u32, height)
}
