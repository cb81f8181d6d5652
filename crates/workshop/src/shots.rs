//! Shots: what is rendered, how, and how long it may take.

use crate::{
    Event, LightState, NewRegion, NewShot, RegionView, RevisionView, ShotChange, ShotView, Values, Workshop, json,
    lock, parse,
};
use fault::{Code, Fault};
use scene::{ImportReport, LightEdit, ShotEdits};
use serde::Serializer;
use std::collections::HashMap;
use std::sync::{Arc, LazyLock};
use store::{ShotChangeRow, ShotRow};
use tracer::{Description, Limits};
use tuning::{K, Tuning};

pub(crate) fn values(t: &Tuning) -> Values {
    t.to_map().into_iter().map(|(id, v)| (id.to_string(), serde_json::json!(v))).collect()
}

/// Writes the values that differ from the knobs' defaults.
pub(crate) fn beside_defaults<S: Serializer>(all: &Values, to: S) -> Result<S::Ok, S::Error> {
    static DEFAULTS: LazyLock<Values> = LazyLock::new(|| values(&Tuning::default()));
    to.collect_map(all.iter().filter(|(id, value)| DEFAULTS.get(*id) != Some(value)))
}

pub(crate) fn check_name(name: &str) -> Result<String, Fault> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 120 {
        return Err(Fault::new(
            Code::OutOfRange,
            "a name needs 1 to 120 characters",
            "name",
            "type a shorter or longer name",
        ));
    }
    Ok(name.to_string())
}

pub(crate) fn check_budget(budget: f64) -> Result<f64, Fault> {
    if !budget.is_finite() || !(1.0..=30.0 * 86400.0).contains(&budget) {
        return Err(Fault::new(
            Code::OutOfRange,
            "a budget is 1 s to 30 days of render time",
            "budget",
            "give seconds in that range",
        ));
    }
    Ok(budget)
}

impl Workshop {
    pub fn add_shot(&self, new: &NewShot) -> Result<i64, Fault> {
        self.add_shot_with(new, &Tuning::default(), &ShotEdits::default())
    }

    pub(crate) fn add_shot_with(&self, new: &NewShot, tuning: &Tuning, edits: &ShotEdits) -> Result<i64, Fault> {
        let id = self.0.store.add_shot(&self.new_shot(new, edits)?, &json(tuning)?)?;
        self.0.events.tell(Event::Shots);
        Ok(id)
    }

    /// The row of a shot that is to be, checked.
    pub(crate) fn new_shot(&self, new: &NewShot, edits: &ShotEdits) -> Result<ShotRow, Fault> {
        let report = self.import_report(&new.scene)?;
        let camera = new.camera.clone().or(report.cameras.first().cloned()).unwrap_or_default();
        if !report.cameras.contains(&camera) {
            return Err(no_camera(&camera, &report));
        }
        self.check_environment(new.environment.as_deref())?;
        Ok(ShotRow {
            id: 0,
            name: check_name(&new.name)?,
            scene: new.scene.clone(),
            environment: new.environment.clone(),
            camera,
            budget: check_budget(new.budget)?,
            revision: 1,
            edits: json(edits)?,
            archived: false,
            stamp: 0,
        })
    }

    /// A second shot like this one, with a history of its own.
    pub fn duplicate_shot(&self, id: i64) -> Result<i64, Fault> {
        let row = self.0.store.shot(id)?;
        let name: String = format!("{} (copy)", row.name).chars().take(120).collect();
        let copy = self.0.store.add_shot(&ShotRow { name, archived: false, ..row }, &json(&self.tuning(id)?)?)?;
        for r in self.0.store.regions(id)? {
            self.0.store.add_region(copy, &r.name, r.place)?;
        }
        self.0.events.tell(Event::Shots);
        Ok(copy)
    }

    fn check_environment(&self, hash: Option<&str>) -> Result<(), Fault> {
        match hash {
            Some(e) if self.0.store.environment(e)?.is_none() => {
                Err(Fault::new(Code::NotFound, "there is no such environment", "environment", "import it first"))
            }
            _ => Ok(()),
        }
    }

    pub fn shots(&self) -> Result<Vec<ShotView>, Fault> {
        let rows = self.0.store.shots()?;
        rows.into_iter().map(|r| self.shot_view(r)).collect()
    }

    pub fn shot(&self, id: i64) -> Result<ShotView, Fault> {
        self.shot_view(self.0.store.shot(id)?)
    }

    fn shot_view(&self, row: ShotRow) -> Result<ShotView, Fault> {
        let import = self.import_report(&row.scene)?;
        let (undo, redo) = self.0.store.neighbours(row.id)?;
        let tuning = self.tuning(row.id)?;
        let edits: ShotEdits = parse(&row.edits, "shot edits")?;
        let d = Description::new("", None, "", tuning.clone());
        let pixels = d.film_frame().0 as u64 * d.film_frame().1 as u64;
        Ok(ShotView {
            id: row.id,
            most_samples: (pixels as f64 * tuning.whole(K::SamplingMost) as f64 * tuning.real(K::SamplingEffort))
                .round() as u64,
            threshold: Limits::of(&self.in_force_tuning(row.id)?).threshold,
            lights: edits
                .lights
                .iter()
                .chain(edits.added.iter().map(|l| (&l.name, &l.edit)))
                .map(|(name, e)| (name.clone(), LightState { on: e.on, split: e.split }))
                .collect(),
            rendered: d.film_frame(),
            overlays: self.overlay_ids(row.id),
            in_force: self.in_force(row.id)?,
            preset: self.applied_preset(row.id),
            archived: row.archived,
            tuning: values(&tuning),
            cameras: import.cameras.clone(),
            thumbnail: self.0.store.showing(row.id)?,
            running: lock(&self.0.test).as_ref().filter(|t| t.shot == row.id && t.active()).map(|t| t.proof),
            name: row.name,
            scene: row.scene,
            environment: row.environment,
            camera: row.camera,
            budget: row.budget,
            revision: row.revision,
            undo,
            redo,
            refused: None,
            import,
        })
    }

    /// The tuning in force.
    pub(crate) fn tuning(&self, shot: i64) -> Result<Tuning, Fault> {
        let row = self.0.store.shot(shot)?;
        parse(&self.0.store.revision(shot, row.revision)?.tuning, "tuning")
    }

    /// Changes a shot, all or nothing; a change of the tuning becomes a revision. What somebody else has changed meanwhile stands:
    /// only what this change names is laid on top.
    pub fn change_shot(&self, id: i64, change: &ShotChange) -> Result<ShotView, Fault> {
        let mut told = None;
        while told.is_none() {
            told = self.try_change(id, change)?;
        }
        self.0.events.tell(told.unwrap_or(Event::Shot { shot: id }));
        let refused = change.test.as_ref().and_then(|test| self.start_test(id, test).err());
        if let Some(fault) = &refused {
            self.0.events.tell(Event::Refused { fault: fault.clone() });
        }
        Ok(ShotView { refused, ..self.shot(id)? })
    }

    /// Lays a change on the shot as it is read; none where somebody else was faster.
    fn try_change(&self, id: i64, change: &ShotChange) -> Result<Option<Event>, Fault> {
        let mut row = self.0.store.shot(id)?;
        if let Some(seen) = change.revision.filter(|seen| *seen != row.revision) {
            return Err(Fault::new(
                Code::Busy,
                format!("the shot has gone from revision {seen} to {} meanwhile", row.revision),
                format!("shot {id}"),
                "look at it again, then make the change once more",
            ));
        }
        let old = row.clone();
        let before: Tuning = parse(&self.0.store.revision(id, row.revision)?.tuning, "tuning")?;
        let after = before.changed(&change.tuning)?;
        if let Some(name) = &change.name {
            row.name = check_name(name)?;
        }
        if let Some(budget) = change.budget {
            row.budget = check_budget(budget)?;
        }
        if let Some(camera) = &change.camera {
            let report = self.import_report(&row.scene)?;
            if !report.cameras.contains(camera) {
                return Err(no_camera(camera, &report));
            }
            row.camera.clone_from(camera);
        }
        if let Some(environment) = &change.environment {
            let chosen = Some(environment.clone()).filter(|e| !e.is_empty());
            self.check_environment(chosen.as_deref())?;
            row.environment = chosen;
        }
        if let Some(archived) = change.archived {
            row.archived = archived;
        }
        let mut edits: ShotEdits = parse(&row.edits, "shot edits")?;
        let mut words: Vec<String> =
            before.differences(&after).iter().map(|d| format!("{} {} → {}", d.label, d.a, d.b)).collect();
        if !change.lights.is_empty() {
            for (name, to) in &change.lights {
                let edit = edits.light_mut(name);
                if let Some(on) = to.on.filter(|on| *on != edit.on) {
                    edit.on = on;
                    words.push(format!("light {name} {}", if on { "on" } else { "off" }));
                }
                if let Some(split) = to.split.filter(|s| *s != edit.split) {
                    words.push(format!("rays of {name} {} → {split}", edit.split));
                    edit.split = split;
                }
            }
            edits.lights.retain(|_, e| *e != LightEdit::default());
            let stage = self.stage(&(row.scene.clone(), row.environment.clone()), &mut |_| {})?;
            edits.check(&stage.scene)?;
            row.edits = json(&edits)?;
        }
        // A size that cannot be rendered must not become a revision that no test can start from.
        Description::new(&row.scene, None, &row.camera, after.clone()).check()?;
        if old.camera != row.camera {
            words.push(format!("camera {} → {}", old.camera, row.camera));
        }
        if old.budget != row.budget {
            words.push(format!("budget {:.1} → {:.1} min", old.budget / 60.0, row.budget / 60.0));
        }
        let (tuning, words) = (json(&after)?, words.join(", "));
        let revision = (!words.is_empty()).then_some((tuning.as_str(), words.as_str()));
        if !self.0.store.change_shot(&ShotChangeRow { row: &row, revision })? {
            return Ok(None);
        }
        Ok(Some(if old.archived == row.archived { Event::Shot { shot: id } } else { Event::Shots }))
    }

    /// Puts what `next` makes of the tuning in force as a revision, if it differs; true if it does. It is made anew where somebody
    /// else changes the shot meanwhile.
    pub(crate) fn revise(
        &self,
        shot: i64,
        change: &str,
        next: impl Fn(&Tuning) -> Result<Tuning, Fault>,
    ) -> Result<bool, Fault> {
        loop {
            let row = self.0.store.shot(shot)?;
            let before: Tuning = parse(&self.0.store.revision(shot, row.revision)?.tuning, "tuning")?;
            let after = next(&before)?;
            after.check()?;
            if after == before {
                return Ok(false);
            }
            let revision = Some((&*json(&after)?, change));
            if self.0.store.change_shot(&ShotChangeRow { row: &row, revision })? {
                self.0.events.tell(Event::Shot { shot });
                return Ok(true);
            }
        }
    }

    pub fn regions(&self, shot: i64) -> Result<Vec<RegionView>, Fault> {
        let rows = self.0.store.regions(shot)?;
        Ok(rows.into_iter().map(|r| RegionView { id: r.id, name: r.name, place: r.place }).collect())
    }

    /// Remembers a region by name, as shares of the frame as it is now.
    pub fn add_region(&self, shot: i64, new: &NewRegion) -> Result<Vec<RegionView>, Fault> {
        let name = check_name(&new.name)?;
        let (w, h) = self.description(shot, Some(new.region))?.frame();
        let r = new.region;
        let share = |v: u32, of: u32| v as f64 / of as f64;
        let place = [share(r.x, w), share(r.y, h), share(r.width, w), share(r.height, h)];
        self.0.store.add_region(shot, &name, place)?;
        self.0.events.tell(Event::Shot { shot });
        self.regions(shot)
    }

    pub fn delete_region(&self, shot: i64, id: i64) -> Result<(), Fault> {
        self.0.store.delete_region(shot, id)?;
        self.0.events.tell(Event::Shot { shot });
        Ok(())
    }

    pub fn name_revision(&self, shot: i64, number: i64, name: &str) -> Result<(), Fault> {
        let name = if name.trim().is_empty() { String::new() } else { check_name(name)? };
        self.0.store.name_revision(shot, number, &name)?;
        self.0.events.tell(Event::Shot { shot });
        Ok(())
    }

    /// Newest first.
    pub fn revisions(&self, shot: i64) -> Result<Vec<RevisionView>, Fault> {
        let current = self.0.store.shot(shot)?.revision;
        let rows = self.0.store.revisions(shot)?;
        let read = |text: &str| self.0.memory.read("tuning", text, |t| parse(t, "tuning").map(Arc::new));
        let tunings: HashMap<i64, Arc<Tuning>> =
            rows.iter().map(|r| Ok((r.number, read(&r.tuning)?))).collect::<Result<_, Fault>>()?;
        let changed = |r: &store::RevisionRow| match tunings.get(&r.parent) {
            Some(p) => p.differences(&tunings[&r.number]).into_iter().map(|d| d.id.to_string()).collect(),
            None => Vec::new(),
        };
        Ok(rows
            .into_iter()
            .map(|r| RevisionView {
                number: r.number,
                knobs: changed(&r),
                current: r.number == current,
                change: r.change,
                made: r.made,
                name: r.name,
            })
            .collect())
    }

    pub fn go_to_revision(&self, shot: i64, number: i64) -> Result<ShotView, Fault> {
        self.0.store.go_to_revision(shot, number)?;
        self.0.events.tell(Event::Shot { shot });
        self.shot(shot)
    }

    /// What a test or final of the shot would render now.
    pub(crate) fn description(&self, shot: i64, region: Option<picture::Region>) -> Result<Description, Fault> {
        let row = self.0.store.shot(shot)?;
        let plain = Description::new(&row.scene, row.environment.as_deref(), &row.camera, self.tuning(shot)?);
        let d = Description { region, edits: parse(&row.edits, "shot edits")?, ..plain };
        d.check()?;
        Ok(d)
    }
}

fn no_camera(name: &str, report: &ImportReport) -> Fault {
    Fault::new(
        Code::NotFound,
        format!("there is no camera \"{name}\""),
        "camera",
        format!("choose one of: {}", report.cameras.join(", ")),
    )
}
