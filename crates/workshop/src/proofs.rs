//! The proof sheet: kept tests, references, pictures from elsewhere, and the last tests that keep themselves for a while.

use crate::shots::values;
use crate::testing::write_small;
use crate::{
    Circumstances, Event, ProofChange, ProofKind, ProofState, ProofView, ProofsView, TakeBack, Workshop, json, lock,
    parse,
};
use fault::{Code, Fault};
use picture::files::{Loaded, LoadedGuides, read_picture};
use picture::{Plate, Region, View};
use serde::{Deserialize, Serialize};
use std::path::Path;
use std::sync::Arc;
use store::{BinKind, ProofRow, ProofState as Stored};
use tracer::{Description, Ledgers, RenderReport};
use tuning::{K, Tuning};

/// What is known of a picture from elsewhere; it stands in the place of a description.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Elsewhere {
    /// File name inside the proof's folder, and as it was given.
    pub file: String,
    pub given: String,
    pub width: u32,
    pub height: u32,
    /// Stored as linear light; otherwise brought back from display values.
    pub linear: bool,
    pub eight_bit: bool,
}

/// A report without the ledgers, which have an address of their own.
fn short_report(text: &str) -> Result<RenderReport, Fault> {
    Ok(RenderReport { ledgers: Ledgers::default(), noise: None, ..parse(text, "report")? })
}

/// What the row alone says.
fn bare(row: &ProofRow, state: ProofState) -> ProofView {
    ProofView {
        id: row.id,
        shot: row.shot,
        number: row.number,
        name: row.name.clone(),
        note: row.note.clone(),
        kept: row.kept,
        star: row.star,
        kind: row.kind,
        state,
        made: row.made,
        bytes: row.bytes,
        camera: None,
        frame: (0, 0),
        region: None,
        tuning: Default::default(),
        overlays: Vec::new(),
        oversize: 1.0,
        version: String::new(),
        report: None,
        circumstances: None,
        marks: Vec::new(),
        differs: 0,
    }
}

fn unreadable(row: ProofRow, fault: &Fault) -> ProofView {
    ProofView { marks: vec![format!("this proof cannot be read: {}", fault.what)], ..bare(&row, ProofState::Stopped) }
}

impl Workshop {
    /// Newest first.
    pub fn proofs(&self, shot: i64) -> Result<Vec<ProofView>, Fault> {
        Ok(self.proofs_before(shot, i64::MAX, u32::MAX)?.list)
    }

    /// A page of them: those older than one, so many at the most.
    pub fn proofs_before(&self, shot: i64, id: i64, most: u32) -> Result<ProofsView, Fault> {
        let rows = self.0.store.proofs_before(shot, id, most)?;
        let now = self.tuning(shot)?;
        // One that cannot be read does not hide the others.
        let view = |r: ProofRow| self.proof_view(r.clone(), &now).unwrap_or_else(|f| unreadable(r, &f));
        let all = self.0.store.count_proofs(shot)?;
        Ok(ProofsView { list: rows.into_iter().map(view).collect(), all })
    }

    pub fn proof(&self, id: i64) -> Result<ProofView, Fault> {
        let row = self.0.store.proof(id)?;
        let now = self.tuning(row.shot)?;
        self.proof_view(row, &now)
    }

    fn proof_view(&self, row: ProofRow, now: &Tuning) -> Result<ProofView, Fault> {
        let state = match row.state {
            Stored::Running if self.unsaved(row.id).is_some() => ProofState::Unsaved,
            Stored::Running => ProofState::Running,
            Stored::Done => ProofState::Done,
            Stored::Stopped => ProofState::Stopped,
        };
        let mut view = bare(&row, state);
        let memory = &self.0.memory;
        view.report = row.report.as_deref().map(|t| memory.read("short report", t, short_report)).transpose()?;
        if row.kind == ProofKind::Picture {
            let e: Elsewhere = parse(&row.description, "proof")?;
            view.frame = (e.width, e.height);
            view.marks.push(format!("from {}: tuning, time, grain and samples are unknown", e.given));
            if !e.linear {
                view.marks.push("display values: light above white is unknown".into());
            }
            return Ok(view);
        }
        let d: Arc<Description> = memory.read("description", &row.description, |t| parse(t, "proof").map(Arc::new))?;
        if row.kind == ProofKind::Pilot {
            view.marks.push("a pilot: squares all over the frame, the rest is not rendered".into());
        }
        view.circumstances = row.circumstances.as_deref().map(|c| parse::<Circumstances>(c, "proof")).transpose()?;
        view.marks = view.circumstances.iter().flat_map(Circumstances::marks).collect();
        view.camera = Some(d.camera.clone());
        view.frame = d.frame();
        view.region = d.region;
        view.tuning = values(&d.tuning);
        view.overlays = d.overlays.iter().map(|o| o.name.clone()).collect();
        view.oversize = d.tuning.real(K::FrameOversize);
        view.version = d.version.clone();
        view.differs = d.tuning.differences(now).len();
        Ok(view)
    }

    /// Pulls a proof (keeps it), stars it, names it, notes something on it.
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
        let star = change.star.unwrap_or(row.star);
        let kept = change.kept.unwrap_or(row.kept || change.star == Some(true));
        if kept {
            self.save_unsaved(id)?;
        }
        self.0.store.label_proof(id, name, note, kept, star)?;
        self.0.events.tell(Event::Proofs { shot: row.shot });
        self.proof(id)
    }

    fn remove_proof(&self, id: i64) -> Result<(), Fault> {
        self.forget_plate(id);
        // One that waits in memory for room on the disk goes as well.
        drop(lock(&self.0.unsaved).take_if(|u| u.proof == id));
        self.0.store.delete_proof(id)
    }

    /// Pushes out tests that nobody kept: those beyond the count that a shot may have, and the oldest of all while the proofs
    /// take more room than is allowed.
    pub(crate) fn make_room(&self, shot: i64) -> Result<(), Fault> {
        let settings = self.settings();
        for id in self.0.store.surplus_proofs(shot, settings.spare as usize)? {
            self.remove_proof(id)?;
        }
        let most = (settings.room_gb * 1e9) as i64;
        if self.0.store.proof_bytes()? <= most {
            return Ok(());
        }
        self.forget(|r| r.kind == BinKind::Proof)?;
        // The newest test is what the artist looks at.
        let mut unkept = self.0.store.unkept_proofs()?;
        unkept.pop();
        for p in unkept {
            if self.0.store.proof_bytes()? <= most {
                break;
            }
            self.remove_proof(p.id)?;
            self.0.events.tell(Event::Proofs { shot: p.shot });
        }
        Ok(())
    }

    /// Takes a proof's tuning back into its shot as a revision: as the shot had it, without the drafts of the test; all of it,
    /// or some groups.
    pub fn take_tuning(&self, id: i64, take: &TakeBack) -> Result<(), Fault> {
        let row = self.0.store.proof(id)?;
        if row.kind == ProofKind::Picture {
            let what = "the tuning of a picture from elsewhere is unknown";
            return Err(Fault::new(
                Code::NotFound,
                what,
                format!("proof {}", row.number),
                "choose a test of this shot",
            ));
        }
        let d: Description = parse(&row.description, "proof")?;
        let own = d.own_tuning();
        let names = take.groups.iter().flatten().map(|g| format!("{g:?}")).collect::<Vec<_>>().join(", ");
        let part = if take.groups.is_some() { format!(" ({names})") } else { String::new() };
        let next = |now: &Tuning| {
            Ok(take.groups.as_ref().map_or_else(|| own.clone(), |groups| now.applying(&own.of_groups(groups))))
        };
        self.revise(row.shot, &format!("tuning of proof {}{part}", row.number), next).map(drop)
    }

    /// Lays a picture from elsewhere into the sheet.
    pub fn add_picture(&self, shot: i64, given: &str, file: &Path) -> Result<ProofView, Fault> {
        let loaded = read_picture(file).map_err(|f| Fault { place: given.to_string(), ..f })?;
        let size = (loaded.width as u32, loaded.height as u32);
        let ending = Path::new(given).extension().and_then(|e| e.to_str()).unwrap_or("picture").to_ascii_lowercase();
        let e = Elsewhere {
            file: format!("picture.{ending}"),
            given: given.into(),
            width: size.0,
            height: size.1,
            linear: loaded.linear,
            eight_bit: loaded.eight_bit,
        };
        let row = self.0.store.begin_proof(shot, ProofKind::Picture, &json(&e)?)?;
        let folder = self.0.store.proof_folder(row.id);
        let stored = (|| {
            std::fs::create_dir_all(&folder).map_err(|e| Fault::io(folder.display().to_string(), &e))?;
            std::fs::copy(file, folder.join(&e.file)).map_err(|e| Fault::io(given, &e))?;
            let view = self.picture_view(shot, &e)?;
            write_small(&folder.join("thumb.png"), &loaded.pixels, size, &view)?;
            self.0.store.end_proof(row.id, Stored::Done, None, None, crate::testing::folder_bytes(&folder))?;
            self.0.store.label_proof(row.id, given, "", true, false)
        })();
        if let Err(f) = stored {
            self.remove_proof(row.id)?;
            return Err(f);
        }
        self.0.events.tell(Event::Proofs { shot });
        self.proof(row.id)
    }

    /// A linear picture is seen in the shot's view; display values are shown as they are.
    pub(crate) fn picture_view(&self, shot: i64, e: &Elsewhere) -> Result<View, Fault> {
        Ok(if e.linear { tracer::view_of(&self.tuning(shot)?) } else { View::PLAIN })
    }

    /// What a proof is of: none for a picture from elsewhere.
    pub(crate) fn description_of(&self, row: &ProofRow) -> Result<Option<Description>, Fault> {
        if row.kind == ProofKind::Picture { Ok(None) } else { parse(&row.description, "proof").map(Some) }
    }

    pub(crate) fn elsewhere(&self, row: &ProofRow) -> Result<Elsewhere, Fault> {
        parse(&row.description, "proof")
    }

    /// A picture from elsewhere as a plate of one half.
    pub(crate) fn load_picture(&self, row: &ProofRow) -> Result<Plate, Fault> {
        let e = self.elsewhere(row)?;
        let Loaded { width, height, pixels, guides, .. } =
            read_picture(&self.0.store.proof_folder(row.id).join(&e.file))?;
        let n = pixels.len();
        let dark = || vec![[0.0; 3]; n];
        let guides = guides.unwrap_or_else(|| LoadedGuides { albedo: dark(), normal: dark(), depth: vec![0.0; n] });
        Ok(Plate {
            frame: (width as u32, height as u32),
            region: Region::whole(width as u32, height as u32),
            a: pixels.clone(),
            b: pixels,
            samples: vec![0; n],
            coverage: vec![1.0; n],
            albedo: guides.albedo,
            normal: guides.normal,
            depth: guides.depth,
            split: None,
            layers: Vec::new(),
        })
    }

    /// Bytes that all proofs take.
    pub(crate) fn proof_bytes(&self) -> i64 {
        self.0.store.proof_bytes().unwrap_or(0)
    }
}
