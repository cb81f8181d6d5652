//! `mellow-grain final`: finals of an exported shot, without a browser. The working state lies beside the files, so that the
//! same command goes on where it was broken off, and frames that are whole are skipped.

use crate::ending;
use clap::{Args, ValueEnum};
use fault::{Code, Fault};
use std::path::{Path, PathBuf};
use std::time::Duration;
use workshop::{Event, FinalState, FinalView, NewFinal, Patience, Policy, Series, ShotChange, Workshop};

#[derive(Clone, Copy, ValueEnum)]
enum Hold {
    /// Goes on to the threshold.
    Cleanness,
    /// Ends within the budget.
    Time,
}

#[derive(Args)]
pub struct Options {
    /// The shot: an exported archive (.zip), or its shot.json beside the scene.
    shot: PathBuf,
    /// Folder for the files; working state lies in it too while the final is not whole.
    #[arg(long)]
    out: PathBuf,
    /// What is held when both cannot be.
    #[arg(long, value_enum, default_value = "cleanness")]
    hold: Hold,
    /// Minutes of render time; the shot's own budget without.
    #[arg(long)]
    minutes: Option<f64>,
    /// One knob, e.g. sampling.most=64.
    #[arg(long = "set", value_name = "ID=VALUE")]
    set: Vec<String>,
    /// Camera by name; may be given more than once. With --frames they are the stations of a move.
    #[arg(long)]
    camera: Vec<String>,
    /// A numbered series: FIRST-LAST of LENGTH, e.g. 0-47/48; every n-th with 0-47/48:n.
    #[arg(long)]
    frames: Option<String>,
    /// Pattern of the file names, e.g. {shot}_{camera}_{final:3}; see the guide for its tokens.
    #[arg(long)]
    name: Option<String>,
    /// A plan.json that was written beside a final's files: gives that picture again, bit for bit.
    #[arg(long)]
    plan: Option<PathBuf>,
    /// Seconds between two checkpoints at least.
    #[arg(long, default_value_t = 20.0)]
    checkpoint: f64,
}

/// `0-47/48:2`: first, last, length and step.
fn series(text: &str) -> Result<Series, Fault> {
    let numbers = |text: &str| {
        let (range, rest) = text.split_once('/')?;
        let (first, last) = range.split_once('-')?;
        let (length, step) = rest.split_once(':').unwrap_or((rest, "1"));
        let number = |t: &str| t.trim().parse().ok();
        Some(Series {
            first: number(first)?,
            last: number(last)?,
            frames: number(length)?,
            step: number(step)?,
            padding: 4,
        })
    };
    numbers(text).ok_or_else(|| {
        Fault::new(
            Code::NotANumber,
            format!("\"{text}\" cannot be read"),
            "--frames",
            "write it like 0-47/48 or 0-47/48:2",
        )
    })
}

/// What a folder was begun with: the shot, and how it is rendered. Series may be ordered in parts.
struct Order {
    shot: String,
    way: Option<String>,
}

impl Order {
    const KEYS: [&str; 2] = ["final.shot", "final.way"];

    fn of(o: &Options, series: bool) -> Result<Order, Fault> {
        let bytes = std::fs::read(&o.shot).map_err(|e| Fault::io(o.shot.display().to_string(), &e))?;
        let mut way: Vec<String> = o.set.iter().map(|s| format!("--set {s}")).collect();
        way.extend(o.camera.iter().map(|c| format!("--camera {c}")));
        way.extend(o.minutes.map(|m| format!("--minutes {m}")));
        way.extend(o.name.iter().map(|n| format!("--name {n}")));
        way.extend(o.plan.iter().map(|p| format!("--plan {}", p.display())));
        way.push(format!("--hold {}", if matches!(o.hold, Hold::Time) { "time" } else { "cleanness" }));
        Ok(Order { shot: blake3::hash(&bytes).to_hex().to_string(), way: (!series).then(|| way.join(" ")) })
    }

    /// Refuses to go on with another shot or in another way: what was begun would be rendered, not what is asked for.
    fn check(&self, o: &Options, workshop: &Workshop) -> Result<(), Fault> {
        let other = |what: String, remedy: &str| {
            Err(Fault::new(Code::Contradiction, what, o.out.display().to_string(), remedy))
        };
        let [shot, way] = Order::KEYS.map(|key| workshop.note(key));
        if shot.is_some_and(|shot| shot != self.shot) {
            let what = format!("finals of another shot than {} were begun in this folder", o.shot.display());
            return other(what, "choose another folder with --out");
        }
        match (way, &self.way) {
            (Some(begun), Some(asked)) if begun != *asked => other(
                format!("this final was begun with {begun}, and would go on like that"),
                "give the same options, or choose another folder with --out",
            ),
            _ => Ok(()),
        }
    }

    fn note(&self, workshop: &Workshop) -> Result<(), Fault> {
        workshop.set_note(Order::KEYS[0], &self.shot)?;
        self.way.as_ref().map_or(Ok(()), |way| workshop.set_note(Order::KEYS[1], way))
    }
}

pub fn run(o: &Options) -> Result<(), Fault> {
    let series = o.frames.as_deref().map(series).transpose()?;
    let data = o.out.join(".mellow-grain");
    std::fs::create_dir_all(&data).map_err(|e| Fault::io(data.display().to_string(), &e))?;
    let workshop = Workshop::open_with(
        &data,
        Patience { checkpoint: Duration::from_secs_f64(o.checkpoint.clamp(0.05, 86400.0)), ..Patience::default() },
    )?;
    let begun = !workshop.finals()?.is_empty();
    let order = Order::of(o, series.is_some())?;
    order.check(o, &workshop)?;
    let shot = match workshop.shots()?.first() {
        Some(shot) => shot.id,
        None => workshop.import_shot(&o.shot)?,
    };
    if !begun || series.is_some() {
        let mut values = workshop::Values::new();
        for assignment in &o.set {
            let mut t = tuning::Tuning::default();
            t.set_text(assignment).map_err(|f| f.within("--set"))?;
            let id = assignment.split('=').next().unwrap_or_default().trim();
            if let Some(v) = t.to_map().get(id) {
                values.insert(id.to_string(), serde_json::json!(v));
            }
        }
        workshop.change_shot(
            shot,
            &ShotChange { tuning: values, budget: o.minutes.map(|m| 60.0 * m), ..ShotChange::default() },
        )?;
        let waiting = workshop.finals()?.iter().any(|f| matches!(f.state, FinalState::Waiting | FinalState::Running));
        if !waiting {
            let policy = match o.hold {
                Hold::Cleanness => Policy::Cleanness,
                Hold::Time => Policy::Time,
            };
            let plan = o.plan.as_deref().map(workshop::read_plan).transpose()?;
            let new = NewFinal { plan, policy, cameras: o.camera.clone(), series, naming: o.name.clone() };
            let ordered = workshop.add_finals(shot, &new)?;
            order.note(&workshop)?;
            if !ordered.skipped.is_empty() {
                eprintln!("{} frames are whole already", ordered.skipped.len());
            }
        }
    }
    workshop.listen(|e| {
        if let Event::Final { progress, times, .. } = e {
            let ends = times.ends_after.map_or(String::new(), |s| format!(", ends after {s:.0} s"));
            eprint!("\r{:?} {:.0} %, {:.0} s{ends}    ", progress.phase, 100.0 * progress.share, times.spent);
        }
    });
    let (waiting, out) = (workshop.clone(), o.out.clone());
    let done = ending::work_until_asked(&workshop, move || {
        waiting.wait_for_finals()?;
        eprintln!();
        let mut failed = None;
        for f in waiting.finals()? {
            match f.state {
                FinalState::Delivered => hand_out(&waiting, &f, &out)?,
                FinalState::Failed => failed = f.fault.clone().or(failed),
                _ => {}
            }
        }
        failed.map_or(Ok(()), Err)
    })?;
    if !done {
        let place = o.out.display().to_string();
        return Err(Fault::new(Code::Busy, "ended before all was delivered", place, "the same command goes on"));
    }
    Ok(())
}

/// Copies the files of a final out; what lies there under another content keeps its name.
fn hand_out(workshop: &Workshop, f: &FinalView, out: &Path) -> Result<(), Fault> {
    let mut first = None;
    for file in &f.files {
        let from = workshop.final_file(f.id, &file.name)?;
        let bytes = std::fs::read(&from).map_err(|e| Fault::io(from.display().to_string(), &e))?;
        // A frame that was damaged has been rendered again.
        if bytes.len() as u64 != file.bytes {
            continue;
        }
        let (stem, ending) = file.name.rsplit_once('.').unwrap_or((&file.name, ""));
        let mut names =
            (1..).map(|i| out.join(if i == 1 { file.name.clone() } else { format!("{stem}-{i}.{ending}") }));
        let free = names.find(|to| std::fs::read(to).map_or(true, |there| there == bytes));
        let to = free.expect("there are more names than files");
        if !to.exists() {
            picture::files::write_whole(&to, |w| {
                use std::io::Write;
                w.write_all(&bytes).map_err(|e| Fault::io(to.display().to_string(), &e))
            })?;
            println!("{}", to.display());
        }
        first.get_or_insert(to);
    }
    // The plan goes with the file whose name it bears.
    if let Some(first) = first {
        let (from, to) = (workshop.final_file(f.id, "plan.json")?, first.with_extension("plan.json"));
        if !to.exists() {
            std::fs::copy(&from, &to).map_err(|e| Fault::io(to.display().to_string(), &e))?;
        }
    }
    if let Some(r) = &f.report {
        let number = f.number.map_or(String::new(), |n| format!("frame {n}: "));
        eprintln!(
            "{number}{:.1} s, grain {:.2} %, {}",
            r.total,
            100.0 * r.grain,
            r.verdict.as_ref().map_or("not judged".into(), ToString::to_string)
        );
    }
    Ok(())
}
