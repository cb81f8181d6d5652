//! A final being rendered: from what there is already to the delivered files.
//!
//! The working state is a film with its counts, and the course: how much time was spent before, what was taken over, and the
//! plan under *hold the time*. Both are written whole or not at all, the course first: it only ever adds to what the film says.

use super::reserve::{Reserve, Stopwatch, too_long};
use super::verdict::{Looked, Verdict};
use super::{AtWork, Task, Wish};
use crate::forecasts::denoise_figure;
use crate::saved::{COUNTS, load_counts, remove_render, save_render};
use crate::testing::{idle, write_bytes, write_small};
use crate::{Event, FileView, FinalReport, FinalTimes, Version, Workshop, json, lock, parse};
use fault::{Code, Fault, panic_text};
use picture::{Region, footprint};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use store::{FinalRow, FinalState, Policy, ProofKind, ProofState};
use tracer::{
    BlockCount, Description, Hold, Limits, Phase, Plan, Progress, Render, RenderReport, Scope, UNLIMITED, VERSION,
    clean_up_of, superblocks,
};
use tuning::K;

/// Checkpoints keep below a thirtieth of the time.
const CHECKPOINTS: u32 = 30;
const BEAT: Duration = Duration::from_millis(250);
/// Tests and earlier finals whose samples are looked at.
const SOURCES: usize = 8;
/// Finals whose samples are kept for a top-up.
const KEPT: usize = 5;
/// Ended finals among which those are looked for whose samples are kept no longer.
const RECENT: u32 = 50;
/// Under *hold the time* a checkpoint may take this share of the time that is left.
const CHECKPOINT_SHARE: f64 = 0.05;
/// Bytes a second at which a film is written, where none has been written yet.
const USUAL_DISK: f64 = 2e8;
/// Under this name memory counts the film of a final.
const FILM: &str = "films of finals";

/// File of the report.
pub(crate) const REPORT: &str = "report.json";
const COURSE: &str = "course.json";
/// File of the counts of all blocks, from which the picture can be rendered again.
pub(crate) const PLAN: &str = "plan.json";

/// How the work on a final goes.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
struct Course {
    /// Seconds of sampling that came with samples of tests and other finals, and those samples.
    before: f64,
    reused: u64,
    /// Seconds that starts and checkpoints have taken.
    start: f64,
    saving: f64,
    /// Seconds by the clock in all, before the present start; without those given to tests.
    #[serde(default)]
    used: f64,
    hold: Option<Hold>,
    /// The top-up that has begun.
    #[serde(default)]
    turn: u32,
}

pub(super) fn remove_working_state(folder: &Path) {
    remove_render(folder);
    let _ = std::fs::remove_file(folder.join(COURSE));
}

/// Reads the plan of a final.
pub fn read_plan(path: &Path) -> Result<Plan, Fault> {
    let place = path.display().to_string();
    let bytes = std::fs::read(path).map_err(|e| Fault::io(place.clone(), &e))?;
    serde_json::from_slice(&bytes).map_err(|e| {
        let remedy = "give the plan.json of a final, or order the final anew";
        Fault::new(Code::Damaged, format!("the plan cannot be read: {e}"), place, remedy)
    })
}

pub(super) fn has_plan(folder: &Path) -> bool {
    folder.join(PLAN).exists()
}

pub(super) fn has_film(folder: &Path) -> bool {
    folder.join(COUNTS).exists()
}

/// Samples that are there already.
pub(crate) struct Source {
    /// Of what, in words.
    pub name: String,
    from: Description,
    folder: PathBuf,
    samples: u64,
    /// Of every superblock its corner, its samples, and its processor time in nanoseconds.
    squares: Vec<((u32, u32), u64, u64)>,
}

/// Names of the sources that have more of some superblock than those before them, and the seconds of sampling on so many threads
/// that they save: of every superblock one counts.
pub(crate) fn there(sources: &[Source], threads: usize) -> (Vec<&str>, f64) {
    let mut best: HashMap<(u32, u32), (u64, u64)> = HashMap::new();
    let mut names = Vec::new();
    for s in sources {
        let mut counts = false;
        for (corner, samples, spent) in &s.squares {
            let had = best.entry(*corner).or_default();
            if *samples > had.0 {
                *had = (*samples, *spent);
                counts = true;
            }
        }
        if counts {
            names.push(s.name.as_str());
        }
    }
    (names, best.values().map(|(_, spent)| *spent as f64 * 1e-9).sum::<f64>() / threads as f64)
}

/// What is put away once a final has been delivered: it may be topped up later.
struct Rest {
    render: Render,
    description: Description,
    course: Course,
}

enum End {
    Delivered(Box<FinalReport>, Vec<FileView>, Box<Rest>),
    /// Before it was done, with what it has put away.
    Stopped,
}

impl Workshop {
    pub(super) fn work_final(&self, row: &FinalRow) {
        let job = Arc::new(AtWork {
            id: row.id,
            wish: Mutex::new(Wish::Go),
            brake: AtomicBool::new(false),
            film: Mutex::new(None),
        });
        *lock(&self.0.finals.at_work) = Some(job.clone());
        if self.begins().is_err() {
            *lock(&job.wish) = Wish::Leave;
        }
        if let Err(f) = self.0.store.set_final_state(row.id, FinalState::Running) {
            *lock(&self.0.finals.at_work) = None;
            // Somebody has paused or removed it since it was chosen; or the database cannot be written to.
            if matches!(f.code, Code::DiskFull | Code::Io) {
                tracing::error!("{f}");
                *lock(&self.0.finals.full) = Some(self.free_disk());
            }
            return;
        }
        self.0.events.tell(Event::Finals);
        let done = catch_unwind(AssertUnwindSafe(|| self.render_final(row, &job)))
            .unwrap_or_else(|p| Err(Fault::internal(panic_text(&*p), format!("final {}", row.id))));
        let stored = match done {
            // Cancelled while it was cleaned up and written: nobody wants the files. What stood before a top-up does.
            Ok(End::Delivered(_, files, _)) if job.wish() == Wish::Cancel && row.files == "[]" => {
                let folder = self.0.store.final_folder(row.id);
                let own = ["thumb.png", REPORT, PLAN].map(str::to_string);
                for name in files.into_iter().map(|f| f.name).chain(own) {
                    let _ = std::fs::remove_file(folder.join(name));
                }
                self.give_up(row, None)
            }
            Ok(End::Delivered(report, files, rest)) => {
                let stored = json(&report).and_then(|report| {
                    self.0.store.end_final(row.id, FinalState::Delivered, Some(&report), &json(&files)?, None)
                });
                // Its time has ended with the last file.
                self.0.events.tell(Event::Finals);
                let folder = self.0.store.final_folder(row.id);
                *lock(&self.0.finals.free_since) = Some(Instant::now());
                let kept = match job.wish() {
                    // Nobody wants it any more.
                    Wish::Cancel => Ok(()),
                    _ => self.checkpoint(&rest.render, &rest.description, &rest.course, &folder),
                };
                stored.and(kept).and_then(|()| self.forget_old_films(row.id))
            }
            // What it has rendered cannot be kept: so be it.
            Ok(End::Stopped) | Err(_) if job.wish() == Wish::Cancel => self.give_up(row, None),
            // Something else may have been put first: then it waits without being paused.
            Ok(End::Stopped) if job.wish() == Wish::Pause => self.0.store.set_final_state(row.id, FinalState::Paused),
            Ok(End::Stopped) => self.0.store.set_final_state(row.id, FinalState::Waiting),
            // The next one would find it full as well: the queue waits until there is room, and goes on with this one.
            Err(f) if f.code == Code::DiskFull => {
                *lock(&self.0.finals.full) = Some(self.free_disk());
                json(&f).and_then(|fault| self.0.store.hold_final(row.id, &fault))
            }
            Err(f) => self.give_up(row, Some(&f)),
        };
        self.0.memory.hold_film((FILM, row.id), 0);
        if let Err(f) = stored {
            tracing::error!("{f}");
        }
        *lock(&self.0.finals.at_work) = None;
        lock(&self.0.finals.progress).remove(&row.id);
        self.0.events.tell(Event::Finals);
    }

    fn tell_final(&self, id: i64, progress: Progress, times: FinalTimes) {
        lock(&self.0.finals.progress).insert(id, (progress.clone(), times));
        self.0.events.tell(Event::Final { id, progress, times });
    }

    /// Waits while a test runs, and stops the watch meanwhile.
    fn give_way(&self, job: &AtWork, watch: &mut Stopwatch) {
        if !self.test_is_running() {
            return;
        }
        let began = Instant::now();
        self.0.finals.yielding.store(true, Ordering::Relaxed);
        self.0.events.tell(Event::Finals);
        while self.test_is_running() && job.wish() == Wish::Go {
            let guard = lock(&self.0.wake.0);
            let _ = self.0.wake.1.wait_timeout(guard, Duration::from_millis(50));
        }
        self.0.finals.yielding.store(false, Ordering::Relaxed);
        self.0.events.tell(Event::Finals);
        watch.given += began.elapsed();
    }

    /// Another final has been put before this one.
    fn is_overtaken(&self, id: i64) -> bool {
        self.0.store.next_in_queue().is_ok_and(|next| next.is_some_and(|r| r.id != id))
    }

    /// Tests, pilots and finals of a shot whose samples are those of a description too, those with the most first; finals but
    /// one, where that is given.
    pub(crate) fn sources(&self, shot: i64, d: &Description, but: Option<i64>) -> Result<Vec<Source>, Fault> {
        let mut all = Vec::new();
        for p in self.0.store.each_proof(shot) {
            let p = p?;
            let of_samples = p.state != ProofState::Running && p.kind != ProofKind::Picture;
            if of_samples && has_film(&self.0.store.proof_folder(p.id)) {
                let from: Description = parse(&p.description, "proof")?;
                all.push((format!("proof {}", p.number), from, self.0.store.proof_folder(p.id)));
            }
        }
        for id in self.0.store.finals_of(shot)?.into_iter().filter(|id| Some(*id) != but) {
            if !has_film(&self.0.store.final_folder(id)) {
                continue;
            }
            let f = self.0.store.one_final(id)?;
            let name = format!("the final {}", self.base_of(&f)?);
            all.push((name, parse(&f.description, "final")?, self.0.store.final_folder(f.id)));
        }
        let mut known: Vec<Source> = all
            .into_iter()
            .filter(|(_, from, _)| d.same_samples(from))
            .filter_map(|(name, from, folder)| {
                let counts = load_counts(&folder).ok()?;
                let bounds = superblocks(from.film_area(), from.film_frame());
                let square = |(r, (spent, blocks)): (Region, &(u64, Vec<BlockCount>))| {
                    ((r.x, r.y), blocks.iter().map(|b| b.n as u64).sum::<u64>(), *spent)
                };
                let squares: Vec<_> = bounds.zip(&counts.tiles).map(square).collect();
                let samples = squares.iter().map(|(_, samples, _)| samples).sum();
                Some(Source { name, from, folder, samples, squares })
            })
            .collect();
        known.sort_by_key(|s| std::cmp::Reverse(s.samples));
        known.truncate(SOURCES);
        Ok(known)
    }

    /// Takes samples over that are there already; their number.
    fn take_in(&self, render: &mut Render, row: &FinalRow) -> Result<u64, Fault> {
        let mut taken = 0;
        for s in self.sources(row.shot, &render.description().clone(), Some(row.id))? {
            // What cannot be read, or has no room beside the final, is rendered again.
            let saved = self.saved_render(&s.from, &s.folder);
            taken += saved.and_then(|(_, saved)| render.take_in(&s.from, &saved)).unwrap_or(0);
        }
        Ok(taken)
    }

    fn render_final(&self, row: &FinalRow, job: &AtWork) -> Result<End, Fault> {
        let began = self.since_ordered(row.id);
        let mut watch = Stopwatch { earlier: 0.0, began, given: Duration::ZERO };
        let d = self.description_for_now(row)?;
        let task: Task = parse(&row.task, "task")?;
        let policy = row.policy;
        let folder = self.0.store.final_folder(row.id);
        std::fs::create_dir_all(&folder).map_err(|e| Fault::io(folder.display().to_string(), &e))?;
        self.give_way(job, &mut watch);
        let clock = Instant::now();
        let tell = &mut |p| self.tell_final(row.id, idle(p), FinalTimes::default());
        let stage = self.stage(&(d.scene.clone(), d.environment.clone()), tell)?;
        self.0.memory.expect_film((FILM, row.id), &d);
        let (mut render, mut course) = match self.load_render(&d, &folder) {
            Ok(render) => {
                let text = std::fs::read_to_string(folder.join(COURSE)).unwrap_or_default();
                (render, serde_json::from_str::<Course>(&text).unwrap_or_default())
            }
            // What was rendered waits until there is room for it.
            Err(e) if e.code == Code::TooLarge => return Err(e),
            Err(_) => {
                let mut render = Render::new(stage, d.clone(), self.pool(), false)?;
                // A plan says which samples there are.
                let reused = if task.planned { 0 } else { self.take_in(&mut render, row)? };
                let before = render.seconds();
                (render, Course { reused, before, ..Course::default() })
            }
        };
        self.0.memory.hold_film((FILM, row.id), render.film_bytes());
        *lock(&job.film) = Some((render.film(), d.view()));
        let limits = Limits::of(&d.tuning);
        let start = clock.elapsed().as_secs_f64();
        course.start += start;
        self.0.store.set_machine("start", start.max(0.05))?;
        let planned = task.planned && task.top_up.is_none();
        if planned {
            render.follow(read_plan(&folder.join(PLAN))?)?;
        }
        if let Some(t) = &task.top_up {
            if std::mem::replace(&mut course.turn, task.turn) != task.turn {
                (course.hold, course.before) = (None, render.seconds());
                (course.start, course.saving, course.used) = (0.0, 0.0, 0.0);
            }
            render.set_limits(Limits {
                adaptive: true,
                threshold: t.threshold.unwrap_or(limits.threshold),
                most: UNLIMITED,
                ..limits
            });
            render.only(Scope::Region(footprint(t.region, d.frame(), d.film_frame())));
        }
        watch.earlier = course.used;
        let time = match &task.top_up {
            Some(t) => t.seconds,
            None => (policy == Policy::Time && !planned).then_some(row.budget),
        };
        if time.is_some() {
            match &mut course.hold {
                Some(hold) => hold.again(&mut render),
                none => *none = Some(Hold::new(&mut render)),
            }
        }
        // A top-up is asked for by its own time.
        let rehearsed = time.filter(|_| task.top_up.is_none());
        let mut reserve = Reserve::new(rehearsed, rehearsed.map_or(0.0, |_| self.usual_reserve(&d)));
        let mut writes = (render.bytes_per_pixel() * d.film_area().area()) as f64 / USUAL_DISK;

        let least = self.patience().checkpoint;
        let (mut told, mut saved, mut pause, mut beat) = (None, Instant::now(), least, BEAT);
        loop {
            self.give_way(job, &mut watch);
            match job.wish() {
                Wish::Go if !(job.brake.swap(false, Ordering::AcqRel) && self.is_overtaken(row.id)) => {}
                _ => {
                    course.used = watch.seconds();
                    self.checkpoint(&render, &d, &course, &folder)?;
                    return Ok(End::Stopped);
                }
            }
            if reserve.is_due(watch.seconds(), render.knows_grain())
                && !reserve.try_out(watch.seconds(), render.slowdown(), d.area(), |trial| {
                    self.rehearse(&render, &d, &folder, trial)
                })?
            {
                return Err(too_long(row, course.start, &reserve));
            }
            let more = match (&mut course.hold, time) {
                (Some(hold), Some(time)) => {
                    hold.step(&mut render, time - reserve.seconds() - watch.seconds(), &job.brake)
                }
                _ => render.step(&job.brake),
            };
            if told.is_none_or(|told: Instant| told.elapsed() > beat) {
                let began = Instant::now();
                let p = render.progress();
                let spent = watch.seconds();
                let ends_after = match time {
                    Some(time) => Some(time),
                    None => p.remaining.map(|r| spent + r + self.usual_reserve(&d)),
                };
                self.tell_final(row.id, p, FinalTimes { spent, ends_after });
                // Telling of large frames takes a while itself.
                beat = BEAT.max(20 * began.elapsed());
                told = Some(Instant::now());
            }
            if !more {
                break;
            }
            let left = time.map_or(f64::INFINITY, |time| time - reserve.seconds() - watch.seconds());
            if saved.elapsed() > pause && writes <= CHECKPOINT_SHARE * left {
                let began = Instant::now();
                course.used = watch.seconds();
                self.checkpoint(&render, &d, &course, &folder)?;
                writes = began.elapsed().as_secs_f64();
                course.saving += writes;
                saved = Instant::now();
                pause = least.max(began.elapsed() * CHECKPOINTS);
            }
        }
        if render.film().samples() == 0 {
            return Err(too_long(row, course.start, &reserve));
        }
        self.deliver_final(row, Rest { render, description: d, course }, &watch, &folder)
    }

    /// When the time of a final begins: when it was ordered, or when the queue was free for it after that.
    fn since_ordered(&self, id: i64) -> Instant {
        let ordered = lock(&self.0.finals.ordered).remove(&id);
        let free = *lock(&self.0.finals.free_since);
        ordered.max(free.filter(|_| ordered.is_some())).unwrap_or_else(Instant::now)
    }

    /// The description of a final as this version of the program renders it. Samples of another version are others: what it
    /// had rendered of a frame that is not delivered is rendered again.
    fn description_for_now(&self, row: &FinalRow) -> Result<Description, Fault> {
        let mut d: Description = parse(&row.description, "final")?;
        if d.version == VERSION {
            return Ok(d);
        }
        // A plan is followed bit for bit, and what was delivered goes on from its own samples.
        if row.files != "[]" || parse::<Task>(&row.task, "task")?.planned {
            return Err(Fault::new(
                Code::Unsupported,
                format!("its samples are those of version {} of the program, this is {VERSION}", d.version),
                format!("final {}", row.id),
                "order the final again",
            ));
        }
        remove_working_state(&self.0.store.final_folder(row.id));
        d.version = VERSION.into();
        self.0.store.set_final_description(row.id, &json(&d)?)?;
        Ok(d)
    }

    fn checkpoint(&self, render: &Render, d: &Description, course: &Course, folder: &Path) -> Result<(), Fault> {
        write_bytes(&folder.join(COURSE), json(course)?.as_bytes())?;
        save_render(render, d, folder)
    }

    /// What of a final was delivered before the present delivery, the first one first.
    fn versions_before(&self, row: &FinalRow) -> Result<Vec<Version>, Fault> {
        let Some(before) = row.report.as_ref().filter(|_| row.files != "[]") else { return Ok(Vec::new()) };
        let before: FinalReport = parse(before, "report")?;
        let files: Vec<FileView> = parse(&row.files, "files")?;
        let known: Vec<&String> = before.earlier.iter().flat_map(|v| &v.files).collect();
        let own = files.into_iter().map(|f| f.name).filter(|name| !known.contains(&name)).collect();
        let last = Version { total: before.total, verdict: before.verdict, files: own };
        Ok(before.earlier.into_iter().chain([last]).collect())
    }

    /// Names of the files of the present delivery: the second one of a final ends in `_v2`.
    fn version_base(&self, row: &FinalRow) -> Result<String, Fault> {
        let base = self.base_of(row)?;
        match self.versions_before(row)?.len() {
            0 => Ok(base),
            n => self.free_name(format!("{base}_v{}", n + 1)),
        }
    }

    /// Denoises, writes and reports.
    fn deliver_final(&self, row: &FinalRow, rest: Rest, watch: &Stopwatch, folder: &Path) -> Result<End, Fault> {
        let Rest { render, description: d, course } = &rest;
        let task: Task = parse(&row.task, "task")?;
        let pixels = d.area().area() as f64;
        let sampled = watch.seconds();
        let mut progress = render.progress();
        let times = lock(&self.0.finals.progress).get(&row.id).map(|p| p.1).unwrap_or_default();
        progress.phase = if clean_up_of(&d.tuning).acts() { Phase::Denoise } else { Phase::Writing };
        self.tell_final(row.id, progress, times);
        let mut plate = render.plate();
        let report: RenderReport = render.report_of(Some(&plate));
        let gaps = self.0.screen.install(|| plate.fill_gaps());
        let looked = Looked::of(&plate, d.judging().block);
        let size = (plate.region.width, plate.region.height);
        // Each delivery has files of its own: what was handed over before stays.
        let older: Vec<FileView> = parse(&row.files, "files")?;
        let base = self.version_base(row)?;
        let (delivered, mut files, [denoise, mattes]) = self.write_delivery(render, d, plate, folder, &base)?;
        if let Some(method) = clean_up_of(&d.tuning).denoises() {
            self.0.store.set_machine(&denoise_figure(method), denoise / pixels)?;
        }
        self.learn_sizes(&files, d, pixels)?;
        write_small(&folder.join("thumb.png"), &delivered.picture, size, &d.view())?;
        write_bytes(&folder.join(PLAN), json(&render.plan())?.as_bytes())?;
        let total = watch.seconds();
        let writing = total - sampled - denoise;
        if mattes > 0.0 {
            self.0.store.set_machine("mattes_per_pixel", mattes / pixels)?;
        }
        let each = (writing - mattes) / pixels / advice::channels_written(&d.tuning, pixels).max(1.0);
        self.0.store.set_machine("write_per_channel", each)?;

        let verdict = Verdict::of(&delivered, d, &looked, &report, &self.machine(), row.budget);
        let earlier = self.versions_before(row)?;
        let (grain, worst_block) = delivered.grain.summary();
        let final_report = FinalReport {
            start: course.start,
            sampling: sampled - course.start - course.saving,
            saving: course.saving,
            denoise,
            writing,
            total,
            gaps,
            before: course.before,
            reused: course.reused,
            plan: course.hold.as_ref().map(|h| h.decisions.clone()).unwrap_or_default(),
            grain,
            worst_block,
            verdict: Some(verdict),
            spent: total + earlier.iter().map(|v: &Version| v.total).sum::<f64>(),
            earlier,
            to_threshold: row.policy == Policy::Cleanness && task.top_up.is_none() && !task.planned,
            render: report,
        };
        write_bytes(&folder.join(REPORT), &serde_json::to_vec_pretty(&final_report).unwrap_or_default())?;
        files.extend(older.into_iter().filter(|f| !files.iter().any(|n| n.name == f.name)).collect::<Vec<_>>());
        Ok(End::Delivered(Box::new(final_report), files, Box::new(rest)))
    }

    /// Bytes a pixel of each kind of file, for forecasts: kinds that hold passes by the channel.
    fn learn_sizes(&self, files: &[FileView], d: &Description, pixels: f64) -> Result<(), Fault> {
        for (k, (_, knob)) in [K::DeliveryDisplay, K::DeliveryLinear].iter().map(|k| (k, d.tuning.name(*k))).enumerate()
        {
            let mine = |f: &&FileView| (k == 0) != (f.name.ends_with(".exr") || f.name.ends_with("_linear.tif"));
            let bytes: u64 = files.iter().filter(mine).map(|f| f.bytes).sum();
            if knob != "none" && bytes > 0 {
                let each = bytes as f64 / pixels / advice::channels(&d.tuning, knob, pixels);
                self.0.store.set_machine(&format!("bytes.{knob}"), each)?;
            }
        }
        Ok(())
    }

    /// Samples of finals take much room: those of the latest few are kept.
    fn forget_old_films(&self, latest: i64) -> Result<(), Fault> {
        let others = |r: &FinalRow| r.state == FinalState::Delivered && r.id != latest;
        for r in self.0.store.ended_finals(0, RECENT)?.into_iter().filter(others).skip(KEPT - 1) {
            remove_working_state(&self.0.store.final_folder(r.id));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_every_superblock_the_source_with_the_most_samples_counts_once() {
        let source = |name: &str, squares: &[((u32, u32), u64, u64)]| Source {
            name: name.into(),
            from: Description::new("", None, "Front", tuning::Tuning::default()),
            folder: PathBuf::new(),
            samples: 0,
            squares: squares.to_vec(),
        };
        let (a, b, second) = ((0, 0), (32, 0), 1_000_000_000);
        let pilot = source("pilot", &[(a, 64, 4 * second), (b, 8, second)]);
        // As many samples that took longer take nobody's place.
        let covered = source("covered", &[(a, 32, 3 * second), (b, 8, 9 * second)]);
        let region = source("region", &[(b, 16, 2 * second), ((64, 0), 0, 0)]);
        assert_eq!(there(&[pilot, covered, region], 2), (vec!["pilot", "region"], 3.0));
        assert_eq!(there(&[], 2), (vec![], 0.0));
    }
}
