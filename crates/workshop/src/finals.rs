//! Finals: a queue on a thread of its own. Whole frames only, at the shot's own tuning. A final yields while a test runs;
//! that time does not count. Its state is put away now and then, and it goes on from there after a restart.

mod checks;
mod naming;
mod reserve;
mod series;
mod verdict;
mod work;

pub use checks::Check;
pub(crate) use checks::free_disk;
pub use series::Series;
pub use verdict::{Cleanness, Verdict, Way};
pub use work::read_plan;
pub(crate) use work::there;

use crate::testing::{small_size, write_bytes};
use crate::{Event, FileView, FinalReport, FinalTimes, FinalView, FinalsView, Workshop, json, lock, parse};
use fault::{Code, Fault};
use picture::files::{PngForm, png};
use picture::{Region, View};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use store::{FinalRow, FinalState, NewFinalRow, Policy};
use tracer::{Description, Film, Ledgers, Limits, Plan, Progress};
use ts_rs::TS;

/// Between two looks at what has been left lying.
const TEND: Duration = Duration::from_secs(600);

/// A full disk is tried again once so many bytes more are free.
const ROOM: f64 = 64e6;

/// Seconds by which a final may be past its budget and still has kept it.
fn slack(policy: Policy, budget: f64) -> f64 {
    match policy {
        Policy::Cleanness => 0.0,
        Policy::Time => (0.01 * budget).max(0.5),
    }
}

/// What is ordered: the shot's camera, a set of cameras, or a series.
#[derive(Debug, Clone, Default, Deserialize, TS)]
#[ts(optional_fields)]
pub struct NewFinal {
    #[serde(default)]
    #[ts(as = "Option<Policy>", optional)]
    pub policy: Policy,
    /// By name; the shot's own without.
    #[serde(default)]
    #[ts(type = "string[]", optional)]
    pub cameras: Vec<String>,
    /// The cameras are stations of a move.
    pub series: Option<Series>,
    /// Pattern of the file names, kept for the next order; that of the last one without.
    pub naming: Option<String>,
    /// The plan of a final of this shot, as it lies beside its files: gives its picture again.
    pub plan: Option<Plan>,
}

/// More samples for a spot of a frame that has been delivered.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, TS)]
#[ts(optional_fields)]
pub struct TopUp {
    pub region: Region,
    /// Grain to go on to.
    pub threshold: Option<f64>,
    /// Or seconds to go on for.
    pub seconds: Option<f64>,
}

/// What a final is beyond its description.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Task {
    /// Number of the frame in a series.
    #[serde(default)]
    pub number: Option<u32>,
    #[serde(default)]
    pub padding: u32,
    /// Names of its files without what passes and endings add; none in finals of older versions.
    #[serde(default)]
    pub base: Option<String>,
    /// It follows the plan in its folder instead of judging.
    #[serde(default)]
    pub planned: bool,
    #[serde(default)]
    pub top_up: Option<TopUp>,
    /// Tells one top-up from the next.
    #[serde(default)]
    pub turn: u32,
}

/// What is to become of the final that is being rendered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Wish {
    Go,
    Cancel,
    Pause,
    /// The program ends: it goes on at the next start.
    Leave,
}

/// The final that is being rendered.
pub(crate) struct AtWork {
    id: i64,
    wish: Mutex<Wish>,
    /// Ends the present step.
    brake: AtomicBool,
    film: Mutex<Option<(Arc<Film>, View)>>,
}

impl AtWork {
    fn wish(&self) -> Wish {
        *lock(&self.wish)
    }
}

/// What is known about the queue beyond its rows.
#[derive(Default)]
pub(crate) struct Desk {
    progress: Mutex<HashMap<i64, (Progress, FinalTimes)>>,
    yielding: AtomicBool,
    at_work: Mutex<Option<Arc<AtWork>>>,
    thread: Mutex<Option<std::thread::JoinHandle<()>>>,
    /// Bytes that were free when the disk was found full.
    full: Mutex<Option<f64>>,
    /// Held while an order takes its numbers and names.
    ordering: Mutex<()>,
    /// When finals were ordered that have not begun, and when the last one was delivered: the time of the next begins at the later
    /// of the two, while the film of the last may still be put away.
    ordered: Mutex<HashMap<i64, Instant>>,
    free_since: Mutex<Option<Instant>>,
}

/// Where a final goes in the queue.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum Turn {
    First,
    Sooner,
    Later,
}

/// What came of an order.
#[derive(Debug, Clone, Serialize, TS)]
pub struct Ordered {
    pub finals: Vec<FinalView>,
    /// Frames that are whole already, by number.
    pub skipped: Vec<u32>,
}

fn full_report(text: &str) -> Result<FinalReport, Fault> {
    parse(text, "report")
}

/// A report without the ledgers and the places that are not clean.
fn short_report(text: &str) -> Result<FinalReport, Fault> {
    let mut report = full_report(text)?;
    if let Some(verdict) = &mut report.verdict {
        verdict.places.clear();
    }
    (report.render.ledgers, report.render.noise) = (Ledgers::default(), None);
    Ok(report)
}

impl Workshop {
    /// Puts whole frames of a shot into the queue, at its tuning as it is now.
    pub fn add_finals(&self, shot: i64, new: &NewFinal) -> Result<Ordered, Fault> {
        self.begins()?;
        let pressed = Instant::now();
        let row = self.0.store.shot(shot)?;
        let own = self.description(shot, None)?;
        let frames = series::frames(&own, new)?;
        let scene = self.import_report(&own.scene)?;
        for (d, _) in &frames {
            d.check()?;
            if let Some(missing) = d.cameras().find(|name| !scene.cameras.iter().any(|c| c == name)) {
                return Err(Fault::new(
                    Code::NotFound,
                    format!("there is no camera \"{missing}\""),
                    "cameras",
                    format!("choose among: {}", scene.cameras.join("; ")),
                ));
            }
        }
        let (mut wanted, mut skipped) = (Vec::new(), Vec::new());
        for (d, task) in frames {
            match task.number {
                Some(number) if self.is_whole(shot, &d)? => skipped.push(number),
                _ => wanted.push((d, task)),
            }
        }
        let forecasts = self.frame_forecasts(shot, &wanted)?;
        let ordering = lock(&self.0.finals.ordering);
        let next = self.0.store.next_final()?;
        let names = self.names(shot, new, &wanted, next)?;
        if let Some(plan) = &new.plan {
            self.lay_plan(next, &wanted, plan)?;
        }
        self.keep_naming(new)?;
        let mut texts = Vec::new();
        for (((d, task), base), forecast) in wanted.into_iter().zip(names.bases).zip(forecasts) {
            let task = Task { base: Some(base), planned: new.plan.is_some(), ..task };
            texts.push((json(&d)?, json(&task)?, forecast.map(|f| json(&f)).transpose()?));
        }
        let (budget, policy) = (row.budget, new.policy);
        let rows: Vec<NewFinalRow> = texts
            .iter()
            .map(|(description, task, forecast)| NewFinalRow {
                shot,
                budget,
                policy,
                description,
                forecast: forecast.as_deref(),
                task,
            })
            .collect();
        // Held until it is known when they were ordered: the queue may begin with the first at once.
        let mut ordered = lock(&self.0.finals.ordered);
        let ids = self.0.store.add_finals(&rows)?;
        ordered.extend(ids.iter().map(|id| (*id, pressed)));
        drop((ordering, ordered));
        self.0.events.tell(Event::Finals);
        self.wake();
        let view = |id| self.final_view(self.0.store.one_final(id)?);
        Ok(Ordered { finals: ids.into_iter().map(view).collect::<Result<_, _>>()?, skipped })
    }

    /// Lays a plan into the folder of the final that comes next.
    fn lay_plan(&self, id: i64, frames: &[(Description, Task)], plan: &Plan) -> Result<(), Fault> {
        if frames.len() != 1 {
            return Err(Fault::new(Code::Unsupported, "a plan is for one frame", "plan", "order that frame alone"));
        }
        let folder = self.0.store.final_folder(id);
        std::fs::create_dir_all(&folder).map_err(|e| Fault::io(folder.display().to_string(), &e))?;
        write_bytes(&folder.join(work::PLAN), json(plan)?.as_bytes())
    }

    /// Renders a delivered final once more from its plan: every block gets the samples that it had, and the picture is the same,
    /// bit for bit.
    pub fn render_again(&self, id: i64) -> Result<FinalView, Fault> {
        let row = self.0.store.one_final(id)?;
        let d: Description = parse(&row.description, "final")?;
        let plan: Plan = read_plan(&self.0.store.final_folder(id).join(work::PLAN))?;
        let before: Task = parse(&row.task, "task")?;
        let ordering = lock(&self.0.finals.ordering);
        let base = self.free_name(self.base_of(&row)?)?;
        let task = Task { base: Some(base), planned: true, top_up: None, turn: 0, ..before };
        let frames = [(d, task)];
        self.lay_plan(self.0.store.next_final()?, &frames, &plan)?;
        let added = self.0.store.add_finals(&[NewFinalRow {
            shot: row.shot,
            budget: row.budget,
            policy: row.policy,
            description: &row.description,
            forecast: None,
            task: &json(&frames[0].1)?,
        }])?[0];
        drop(ordering);
        self.0.events.tell(Event::Finals);
        self.wake();
        self.final_view(self.0.store.one_final(added)?)
    }

    /// The whole frame of the shot's camera, held to its cleanness.
    pub fn add_final(&self, shot: i64) -> Result<FinalView, Fault> {
        let mut ordered = self.add_finals(shot, &NewFinal::default())?;
        ordered.finals.pop().ok_or_else(|| Fault::internal("nothing was ordered", "finals"))
    }

    /// A final of this description has been delivered, and its files are there as they were written.
    fn is_whole(&self, shot: i64, d: &Description) -> Result<bool, Fault> {
        for row in self.0.store.delivered_finals(shot, &json(d)?)? {
            if self.has_its_files(&row)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Its files are there as they were written.
    fn has_its_files(&self, row: &FinalRow) -> Result<bool, Fault> {
        let files: Vec<FileView> = parse(&row.files, "files")?;
        let folder = self.0.store.final_folder(row.id);
        let there = |f: &FileView| std::fs::metadata(folder.join(&f.name)).is_ok_and(|m| m.len() == f.bytes);
        Ok(!files.is_empty() && files.iter().all(there))
    }

    /// All of them in the order of the queue.
    pub fn finals(&self) -> Result<Vec<FinalView>, Fault> {
        let rows = self.0.store.finals()?;
        self.final_views(rows, full_report)
    }

    /// A page of those in the queue, in its order, or of those that have ended, the latest first. Their reports lack the ledgers
    /// and the places that are not clean, which are long: [`Workshop::one_final`] tells them.
    pub fn finals_page(&self, ended: bool, skip: u32, most: u32) -> Result<FinalsView, Fault> {
        let store = &self.0.store;
        let rows = if ended { store.ended_finals(skip, most) } else { store.open_finals(skip, most) }?;
        let [open, due, over] = store.count_finals()?;
        let short = |text: &str| self.0.memory.read("short final report", text, short_report);
        Ok(FinalsView { list: self.final_views(rows, short)?, open, due, ended: over })
    }

    /// The small picture of a final as it stands, as PNG; none before it has samples, and when it renders no more.
    pub fn final_now(&self, id: i64) -> Result<Vec<u8>, Fault> {
        let film =
            lock(&self.0.finals.at_work).as_ref().filter(|job| job.id == id).and_then(|job| lock(&job.film).clone());
        let Some((film, view)) = film.filter(|(film, _)| film.samples() > 0) else {
            return Err(Fault::new(
                Code::NotFound,
                "it has no picture yet",
                format!("final {id}"),
                "wait for its first samples",
            ));
        };
        // Many pages may watch it.
        self.shared(&format!("final {id} at {}", film.samples()), || {
            let size = small_size((film.area.width, film.area.height));
            let mut out = Vec::new();
            let small = self.0.screen.install(|| film.small(size));
            png(&mut out, &small, size, &view, PngForm::PLAIN)?;
            Ok(out)
        })
    }

    pub fn one_final(&self, id: i64) -> Result<FinalView, Fault> {
        self.final_view(self.0.store.one_final(id)?)
    }

    /// Takes a final out of the queue; what it has rendered is kept, and it can be resumed. One that has ended stays as it is.
    pub fn cancel_final(&self, id: i64) -> Result<(), Fault> {
        let row = self.0.store.one_final(id)?;
        match row.state {
            FinalState::Waiting | FinalState::Paused => {
                self.give_up(&row, None)?;
                // The queue may have taken it up in the same moment.
                self.ask_of_final(id, Wish::Cancel);
            }
            FinalState::Running => self.ask_of_final(id, Wish::Cancel),
            _ => return Err(not_in_queue(id)),
        }
        self.0.events.tell(Event::Finals);
        self.wake();
        Ok(())
    }

    /// Names of a final's files without what passes and endings add.
    pub(crate) fn base_of(&self, row: &FinalRow) -> Result<String, Fault> {
        let task: Task = parse(&row.task, "task")?;
        Ok(task.base.unwrap_or_else(|| format!("final_{:04}", row.id)))
    }

    /// Ends a final that comes to nothing, with the fault that it met or because it was cancelled. What was delivered before a
    /// top-up stands.
    fn give_up(&self, row: &FinalRow, fault: Option<&Fault>) -> Result<(), Fault> {
        let fault = fault.map(json).transpose()?;
        if row.files != "[]" {
            return self.0.store.keep_final(row.id, fault.as_deref());
        }
        // What it has rendered waits for another try.
        let state = if fault.is_some() { FinalState::Failed } else { FinalState::Cancelled };
        self.0.store.end_final(row.id, state, None, "[]", fault.as_deref())
    }

    /// Lets a final wait until it is resumed; what it has rendered is kept.
    pub fn pause_final(&self, id: i64) -> Result<(), Fault> {
        match self.0.store.one_final(id)?.state {
            FinalState::Waiting => {
                self.0.store.set_final_state(id, FinalState::Paused)?;
                self.ask_of_final(id, Wish::Pause);
            }
            FinalState::Running => self.ask_of_final(id, Wish::Pause),
            _ => return Err(not_in_queue(id)),
        }
        self.0.events.tell(Event::Finals);
        Ok(())
    }

    /// Goes on with a final that was paused or cancelled, or tries one again that failed.
    pub fn resume_final(&self, id: i64) -> Result<(), Fault> {
        self.try_disk_again();
        let row = self.0.store.one_final(id)?;
        match row.state {
            FinalState::Waiting => {}
            FinalState::Running | FinalState::Delivered => return Err(not_in_queue(id)),
            FinalState::Cancelled => {
                // Its name was free, and another may bear it by now.
                let _ordering = lock(&self.0.finals.ordering);
                let task: Task = parse(&row.task, "task")?;
                let base = Some(self.free_name(self.base_of(&row)?)?);
                self.0.store.resume_final(id, &json(&Task { base, ..task })?)?;
            }
            _ => self.0.store.resume_final(id, &row.task)?,
        }
        self.0.events.tell(Event::Finals);
        self.wake();
        Ok(())
    }

    /// Changes the order of the queue. The final that is being rendered makes way for one that is put first.
    pub fn move_final(&self, id: i64, turn: Turn) -> Result<(), Fault> {
        let row = self.0.store.one_final(id)?;
        if !row.state.is_open() {
            return Err(not_in_queue(id));
        }
        let [before, after] = self.0.store.places_beside(&row)?;
        let to = match (turn, before.as_slice(), after.as_slice()) {
            (Turn::First, ..) => self.0.store.first_place()?.unwrap_or(row.place) - 1.0,
            (Turn::Sooner, [one, two], _) => 0.5 * (one + two),
            (Turn::Sooner, [one], _) => one - 1.0,
            (Turn::Later, _, [one, two]) => 0.5 * (one + two),
            (Turn::Later, _, [one]) => one + 1.0,
            // It is there already.
            _ => return Ok(()),
        };
        self.0.store.set_final_place(id, to)?;
        self.0.events.tell(Event::Finals);
        self.brake_finals();
        Ok(())
    }

    /// More samples for a spot of a delivered frame; its files are written anew.
    pub fn top_up(&self, id: i64, top_up: &TopUp) -> Result<FinalView, Fault> {
        let row = self.0.store.one_final(id)?;
        let d: Description = parse(&row.description, "final")?;
        top_up.region.check(d.frame())?;
        let place = format!("final {id}");
        if row.state != FinalState::Delivered || !self.keeps_samples(id) {
            return Err(Fault::new(
                Code::Unsupported,
                "the samples of this final are not kept any more",
                place,
                "render it again: samples of the last five finals are kept",
            ));
        }
        let fine = |x: Option<f64>, least: f64, most: f64| x.is_none_or(|x| (least..=most).contains(&x));
        if top_up.threshold.is_some() == top_up.seconds.is_some()
            || !fine(top_up.threshold, 1e-4, 1.0)
            || !fine(top_up.seconds, 1.0, 1e6)
        {
            return Err(Fault::new(
                Code::OutOfRange,
                "a top-up goes on to a threshold or for some time",
                "top up",
                "give a threshold of 0.01 to 100 % or at least one second",
            ));
        }
        let before: Task = parse(&row.task, "task")?;
        let task = Task { top_up: Some(*top_up), turn: before.turn + 1, ..before };
        self.0.store.reopen_final(id, &json(&task)?)?;
        self.0.events.tell(Event::Finals);
        self.wake();
        self.final_view(self.0.store.one_final(id)?)
    }

    /// The samples of a final are kept, or are being put away just now.
    fn keeps_samples(&self, id: i64) -> bool {
        let at_work = lock(&self.0.finals.at_work).as_ref().is_some_and(|job| job.id == id);
        at_work || work::has_film(&self.0.store.final_folder(id))
    }

    /// Ends the work on finals after the present step.
    pub(crate) fn leave_finals(&self) {
        if let Some(job) = lock(&self.0.finals.at_work).as_ref() {
            let mut wish = lock(&job.wish);
            // What somebody has asked for is done before.
            if *wish == Wish::Go {
                *wish = Wish::Leave;
            }
            job.brake.store(true, Ordering::Release);
        }
    }

    /// Whether the thread of the finals still does something.
    pub(crate) fn finals_work(&self) -> bool {
        lock(&self.0.finals.thread).as_ref().is_some_and(|t| !t.is_finished())
    }

    fn ask_of_final(&self, id: i64, wish: Wish) {
        if let Some(job) = lock(&self.0.finals.at_work).as_ref().filter(|j| j.id == id) {
            *lock(&job.wish) = wish;
            job.brake.store(true, Ordering::Release);
        }
    }

    /// Ends the present step of the final at work, so that it looks about itself.
    pub(crate) fn brake_finals(&self) {
        if let Some(job) = lock(&self.0.finals.at_work).as_ref() {
            job.brake.store(true, Ordering::Release);
        }
    }

    fn final_view(&self, row: FinalRow) -> Result<FinalView, Fault> {
        self.view_of(row, &self.0.store.shot_names()?, full_report)
    }

    fn final_views(
        &self,
        rows: Vec<FinalRow>,
        report: impl Fn(&str) -> Result<FinalReport, Fault>,
    ) -> Result<Vec<FinalView>, Fault> {
        let names = self.0.store.shot_names()?;
        rows.into_iter().map(|r| self.view_of(r, &names, &report)).collect()
    }

    fn view_of(
        &self,
        row: FinalRow,
        shots: &HashMap<i64, String>,
        report: impl Fn(&str) -> Result<FinalReport, Fault>,
    ) -> Result<FinalView, Fault> {
        let memory = &self.0.memory;
        let d: Arc<Description> = memory.read("description", &row.description, |t| parse(t, "final").map(Arc::new))?;
        let task: Task = parse(&row.task, "task")?;
        let state = row.state;
        let running = state == FinalState::Running;
        let (progress, times) = running.then(|| lock(&self.0.finals.progress).get(&row.id).cloned()).flatten().unzip();
        Ok(FinalView {
            id: row.id,
            shot: row.shot,
            shot_name: shots.get(&row.shot).cloned().unwrap_or_default(),
            camera: d.camera.clone(),
            frame: d.frame(),
            threshold: Limits::of(&d.tuning).threshold,
            state,
            policy: row.policy,
            slack: slack(row.policy, row.budget),
            number: task.number,
            planned: task.planned,
            top_up: task.top_up.filter(|_| state != FinalState::Delivered),
            can_top_up: state == FinalState::Delivered && self.keeps_samples(row.id),
            can_repeat: state == FinalState::Delivered && work::has_plan(&self.0.store.final_folder(row.id)),
            budget: row.budget,
            forecast: row.forecast.as_deref().and_then(|t| parse(t, "forecast").ok()),
            report: row.report.as_deref().and_then(|t| report(t).ok()),
            files: parse(&row.files, "files")?,
            progress,
            times,
            yielding: running && self.0.finals.yielding.load(Ordering::Relaxed),
            fault: row.fault.as_deref().map(|t| parse(t, "fault")).transpose()?,
            made: row.made,
            ended: row.ended,
        })
    }

    /// Path of a delivered file; only names that the final itself has written are known.
    pub fn final_file(&self, id: i64, name: &str) -> Result<PathBuf, Fault> {
        let files: Vec<FileView> = parse(&self.0.store.one_final(id)?.files, "files")?;
        let known = files.iter().any(|f| f.name == name) || ["thumb.png", work::REPORT, work::PLAN].contains(&name);
        if !known {
            return Err(Fault::new(Code::NotFound, "this final has no such file", name, "choose one from its list"));
        }
        Ok(self.0.store.final_folder(id).join(name))
    }

    pub(crate) fn start_finals(&self) {
        let workshop = self.clone();
        let started = std::thread::Builder::new().name("finals".into()).spawn(move || workshop.work_finals());
        match started {
            Ok(thread) => *lock(&self.0.finals.thread) = Some(thread),
            Err(e) => tracing::error!("finals cannot run: {e}"),
        }
    }

    fn work_finals(&self) {
        let mut tended = Instant::now();
        while !self.0.closing.load(Ordering::Acquire) {
            if self.waits_for_room() {
                let guard = lock(&self.0.wake.0);
                let _ = self.0.wake.1.wait_timeout(guard, Duration::from_secs(1));
                continue;
            }
            // One that runs, with nobody at work on it, could not be put back because the disk was full.
            match self.0.store.next_in_queue().unwrap_or(None) {
                Some(row) => self.work_final(&row),
                None => {
                    if tended.elapsed() > TEND {
                        tended = Instant::now();
                        self.tend();
                    }
                    let guard = lock(&self.0.wake.0);
                    // The time-out covers a wake-up between the look and the wait.
                    let _ = self.0.wake.1.wait_timeout(guard, Duration::from_millis(500));
                }
            }
        }
    }

    /// Lets go of what has been left lying for long enough.
    fn tend(&self) {
        self.drop_forgotten();
        if let Err(f) = self.forget_old() {
            tracing::error!("{f}");
        }
    }

    fn free_disk(&self) -> f64 {
        free_disk(self.0.store.root()).unwrap_or(0.0)
    }

    /// Whether the disk was found full and has no more room since.
    fn waits_for_room(&self) -> bool {
        let mut full = lock(&self.0.finals.full);
        let waits = full.is_some_and(|then| self.free_disk() < then + ROOM);
        if !waits {
            *full = None;
        }
        waits
    }

    /// Tries the disk again that was found full, as when somebody resumes a final.
    fn try_disk_again(&self) {
        *lock(&self.0.finals.full) = None;
    }

    /// Waits until every waiting final has ended.
    pub fn wait_for_finals(&self) -> Result<(), Fault> {
        // The samples of the last one are put away after it has been delivered.
        let busy = || lock(&self.0.finals.at_work).is_some();
        while busy() || self.0.store.next_in_queue()?.is_some() {
            std::thread::sleep(Duration::from_millis(20));
        }
        Ok(())
    }
}

fn not_in_queue(id: i64) -> Fault {
    Fault::new(Code::Unsupported, "this final does not wait in the queue", format!("final {id}"), "reload the page")
}
