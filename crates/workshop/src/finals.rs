//! Finals: a queue on a thread of its own. Whole frames only, at the shot's own tuning. A final yields while a test runs;
//! that time does not count. Its state is put away now and then, and it goes on from there after a restart.

use crate::forecasts::denoise_figure;
use crate::saved::{remove_render, save_render};
use crate::testing::{idle, write_small};
use crate::{Event, FileView, FinalReport, FinalState, FinalView, Workshop, json, lock, parse};
use fault::{Code, Fault, panic_text};
use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use store::FinalRow;
use tracer::deliver::{self, Delivered};
use tracer::{Description, Limits, Phase, Progress, Render, RenderReport, clean_up_of};

/// Least time between two checkpoints; they also keep below a thirtieth of the time.
const CHECKPOINT: Duration = Duration::from_secs(20);
const BEAT: Duration = Duration::from_millis(250);

/// What is known about the queue beyond its rows.
#[derive(Default)]
pub(crate) struct Desk {
    progress: Mutex<HashMap<i64, Progress>>,
    yielding: AtomicBool,
    /// Set for the final that is being rendered when it is to end.
    cancel: Mutex<Option<(i64, Arc<AtomicBool>)>>,
}

impl Workshop {
    /// Puts the whole frame of a shot into the queue, at its tuning as it is now.
    pub fn add_final(&self, shot: i64) -> Result<FinalView, Fault> {
        let row = self.0.store.shot(shot)?;
        let d = self.description(shot, None)?;
        let forecast = self.best_forecast(shot, &d.tuning)?;
        let brief = forecast.map(|(f, ..)| json(&f.brief())).transpose()?;
        let id = self.0.store.add_final(shot, row.budget, &json(&d)?, brief.as_deref())?;
        self.0.events.tell(Event::Finals);
        self.wake();
        self.final_view(self.0.store.one_final(id)?)
    }

    pub fn finals(&self) -> Result<Vec<FinalView>, Fault> {
        let rows = self.0.store.finals()?;
        rows.into_iter().map(|r| self.final_view(r)).collect()
    }

    /// Takes a final out of the queue; one that has ended is removed with its files.
    pub fn remove_final(&self, id: i64) -> Result<(), Fault> {
        let row = self.0.store.one_final(id)?;
        match row.state.as_str() {
            "waiting" => self.0.store.end_final(id, "cancelled", None, "[]", None)?,
            "running" => {
                if let Some((running, cancel)) = &*lock(&self.0.finals.cancel)
                    && *running == id
                {
                    cancel.store(true, Ordering::Release);
                }
            }
            _ => self.0.store.delete_final(id)?,
        }
        self.0.events.tell(Event::Finals);
        self.wake();
        Ok(())
    }

    fn final_view(&self, row: FinalRow) -> Result<FinalView, Fault> {
        let d: Description = parse(&row.description, "final")?;
        let state = match row.state.as_str() {
            "waiting" => FinalState::Waiting,
            "running" => FinalState::Running,
            "delivered" => FinalState::Delivered,
            "cancelled" => FinalState::Cancelled,
            _ => FinalState::Failed,
        };
        let running = state == FinalState::Running;
        Ok(FinalView {
            id: row.id,
            shot: row.shot,
            shot_name: self.0.store.shot(row.shot)?.name,
            camera: d.camera.clone(),
            frame: d.frame(),
            threshold: Limits::of(&d.tuning).threshold,
            state,
            budget: row.budget,
            forecast: row.forecast.as_deref().map(|t| parse(t, "forecast")).transpose()?,
            report: row.report.as_deref().map(|t| parse(t, "report")).transpose()?,
            files: parse(&row.files, "files")?,
            progress: running.then(|| lock(&self.0.finals.progress).get(&row.id).cloned()).flatten(),
            yielding: running && self.0.finals.yielding.load(Ordering::Relaxed),
            fault: row.fault.as_deref().map(|t| parse(t, "fault")).transpose()?,
            made: row.made,
            ended: row.ended,
        })
    }

    /// Path of a delivered file; only names that the final itself has written are known.
    pub fn final_file(&self, id: i64, name: &str) -> Result<PathBuf, Fault> {
        let files: Vec<FileView> = parse(&self.0.store.one_final(id)?.files, "files")?;
        let known = files.iter().any(|f| f.name == name) || name == "thumb.png";
        if !known {
            return Err(Fault::new(Code::NotFound, "this final has no such file", name, "choose one from its list"));
        }
        Ok(self.0.store.final_folder(id).join(name))
    }

    pub(crate) fn start_finals(&self) {
        let workshop = self.clone();
        // The thread lives as long as the program.
        let started = std::thread::Builder::new().name("finals".into()).spawn(move || workshop.work_finals());
        if let Err(e) = started {
            eprintln!("finals cannot run: {e}");
        }
    }

    fn work_finals(&self) {
        loop {
            let next = self.0.store.finals().ok().and_then(|rows| rows.into_iter().find(|r| r.state == "waiting"));
            match next {
                Some(row) => self.work_final(&row),
                None => {
                    let guard = lock(&self.0.wake.0);
                    // The time-out covers a wake-up between the look and the wait.
                    let _ = self.0.wake.1.wait_timeout(guard, Duration::from_millis(500));
                }
            }
        }
    }

    /// Waits until every waiting final has ended.
    pub fn wait_for_finals(&self) -> Result<(), Fault> {
        while self.0.store.finals()?.iter().any(|r| r.state == "waiting" || r.state == "running") {
            std::thread::sleep(Duration::from_millis(20));
        }
        Ok(())
    }

    fn work_final(&self, row: &FinalRow) {
        let cancel = Arc::new(AtomicBool::new(false));
        *lock(&self.0.finals.cancel) = Some((row.id, cancel.clone()));
        let _ = self.0.store.set_final_state(row.id, "running");
        self.0.events.tell(Event::Finals);
        let done = catch_unwind(AssertUnwindSafe(|| self.render_final(row, &cancel)))
            .unwrap_or_else(|p| Err(Fault::internal(panic_text(&*p), format!("final {}", row.id))));
        let stored = match done {
            Ok(Some((report, files))) => json(&report)
                .and_then(|report| self.0.store.end_final(row.id, "delivered", Some(&report), &json(&files)?, None)),
            Ok(None) => self.0.store.end_final(row.id, "cancelled", None, "[]", None),
            Err(f) => json(&f).and_then(|f| self.0.store.end_final(row.id, "failed", None, "[]", Some(&f))),
        };
        if let Err(f) = stored {
            eprintln!("{f}");
        }
        *lock(&self.0.finals.cancel) = None;
        lock(&self.0.finals.progress).remove(&row.id);
        self.0.events.tell(Event::Finals);
    }

    fn tell_final(&self, id: i64, progress: Progress) {
        lock(&self.0.finals.progress).insert(id, progress.clone());
        self.0.events.tell(Event::Final { id, progress });
    }

    /// Waits while a test runs; how long that was.
    fn give_way(&self, cancel: &AtomicBool) -> Duration {
        let start = Instant::now();
        if !self.test_is_running() {
            return Duration::ZERO;
        }
        self.0.finals.yielding.store(true, Ordering::Relaxed);
        self.0.events.tell(Event::Finals);
        while self.test_is_running() && !cancel.load(Ordering::Acquire) {
            let guard = lock(&self.0.wake.0);
            let _ = self.0.wake.1.wait_timeout(guard, Duration::from_millis(50));
        }
        self.0.finals.yielding.store(false, Ordering::Relaxed);
        self.0.events.tell(Event::Finals);
        start.elapsed()
    }

    /// None when it was cancelled.
    fn render_final(&self, row: &FinalRow, cancel: &AtomicBool) -> Result<Option<(FinalReport, Vec<FileView>)>, Fault> {
        let d: Description = parse(&row.description, "final")?;
        let folder = self.0.store.final_folder(row.id);
        std::fs::create_dir_all(&folder).map_err(|e| Fault::io(folder.display().to_string(), &e))?;
        self.give_way(cancel);
        let clock = Instant::now();
        let stage = self.stage(&(d.scene.clone(), d.environment.clone()), &mut |p| self.tell_final(row.id, idle(p)))?;
        let mut render = match self.load_render(&d, &folder) {
            Ok(render) => render,
            Err(_) => Render::new(stage, d.clone(), self.pool(), false)?,
        };
        let start = clock.elapsed().as_secs_f64();
        self.0.store.set_machine("start", start.max(0.05))?;
        let (mut told, mut saved, mut pause) = (Instant::now(), Instant::now(), CHECKPOINT);
        loop {
            self.give_way(cancel);
            if cancel.load(Ordering::Acquire) {
                return Ok(None);
            }
            let more = render.step(cancel);
            if told.elapsed() > BEAT {
                told = Instant::now();
                self.tell_final(row.id, render.progress());
            }
            if !more {
                break;
            }
            if saved.elapsed() > pause {
                let began = Instant::now();
                save_render(&render, &d, &folder)?;
                saved = Instant::now();
                pause = CHECKPOINT.max(began.elapsed() * 30);
            }
        }
        let report: RenderReport = render.report();
        let mut progress = render.progress();
        progress.phase = Phase::Denoise;
        self.tell_final(row.id, progress.clone());
        let pixels = d.area().area() as f64;
        let clock = Instant::now();
        let plate = render.plate();
        let delivered = self.0.screen.install(|| Delivered::of(&plate, &d));
        let denoise = clock.elapsed().as_secs_f64();
        if let Some(method) = clean_up_of(&d.tuning).denoises() {
            self.0.store.set_machine(&denoise_figure(method), denoise / pixels)?;
        }
        progress.phase = Phase::Writing;
        self.tell_final(row.id, progress);
        let clock = Instant::now();
        let base = file_base(&self.0.store.shot(row.shot)?.name, &d.camera, row.id);
        let mut files = Vec::new();
        for ending in ["png", "exr"] {
            let name = format!("{base}.{ending}");
            let path = folder.join(&name);
            deliver::write(&path, &plate, &delivered, &d)?;
            let bytes = std::fs::metadata(&path).map_err(|e| Fault::io(name.clone(), &e))?.len();
            files.push(FileView { name, bytes });
        }
        write_small(
            &folder.join("thumb.png"),
            &delivered.picture,
            (plate.region.width, plate.region.height),
            &d.view(),
        )?;
        let writing = clock.elapsed().as_secs_f64();
        self.0.store.set_machine("write_per_pixel", writing / pixels)?;
        remove_render(&folder);
        let sampling = report.seconds;
        let clean = report.worst_block <= Limits::of(&d.tuning).threshold;
        let total = start + sampling + denoise + writing;
        Ok(Some((FinalReport { start, sampling, denoise, writing, total, render: report, clean }, files)))
    }
}

/// `eyepiece-desk_desk-close_0007`: letters and digits only, so that it is a good file name everywhere.
fn file_base(shot: &str, camera: &str, id: i64) -> String {
    let slug = |s: &str| {
        let words: Vec<String> =
            s.split(|c: char| !c.is_alphanumeric()).filter(|w| !w.is_empty()).map(str::to_lowercase).collect();
        words.join("-")
    };
    format!("{}_{}_{id:04}", slug(shot), slug(camera))
}
