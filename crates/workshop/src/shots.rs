//! Shots: what is rendered, how, and how long it may take.

use crate::{Event, NewShot, RevisionView, ShotChange, ShotView, Values, Workshop, json, lock, parse};
use fault::{Code, Fault};
use scene::ImportReport;
use store::ShotRow;
use tracer::{Description, VERSION};
use tuning::Tuning;

pub(crate) fn values(t: &Tuning) -> Values {
    t.to_map().into_iter().map(|(id, v)| (id.to_string(), serde_json::json!(v))).collect()
}

fn check_name(name: &str) -> Result<String, Fault> {
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

fn check_budget(budget: f64) -> Result<f64, Fault> {
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
        self.add_shot_with(new, &Tuning::default())
    }

    pub(crate) fn add_shot_with(&self, new: &NewShot, tuning: &Tuning) -> Result<i64, Fault> {
        let report = self.import_report(&new.scene)?;
        let camera = new.camera.clone().or(report.cameras.first().cloned()).unwrap_or_default();
        if !report.cameras.contains(&camera) {
            return Err(no_camera(&camera, &report));
        }
        if let Some(e) = &new.environment
            && !self.0.store.environments()?.iter().any(|r| r.hash == *e)
        {
            return Err(Fault::new(Code::NotFound, "there is no such environment", "environment", "import it first"));
        }
        let row = ShotRow {
            id: 0,
            name: check_name(&new.name)?,
            scene: new.scene.clone(),
            environment: new.environment.clone(),
            camera,
            budget: check_budget(new.budget)?,
            revision: 1,
        };
        let id = self.0.store.add_shot(&row, &json(tuning)?)?;
        self.0.events.tell(Event::Shots);
        Ok(id)
    }

    fn import_report(&self, scene: &str) -> Result<ImportReport, Fault> {
        let rows = self.0.store.scenes()?;
        let row = rows
            .iter()
            .find(|r| r.hash == scene)
            .ok_or_else(|| Fault::new(Code::NotFound, "there is no such scene", "scene", "import it first"))?;
        parse(&row.report, "scene")
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
        let proofs = self.0.store.proofs(row.id)?;
        let ended = || proofs.iter().filter(|p| p.state != "running");
        let whole = ended().find(|p| parse::<Description>(&p.description, "proof").is_ok_and(|d| d.region.is_none()));
        Ok(ShotView {
            id: row.id,
            tuning: values(&self.tuning(row.id)?),
            cameras: import.cameras.clone(),
            thumbnail: whole.or_else(|| ended().next()).map(|p| p.id),
            running: lock(&self.0.test).as_ref().filter(|t| t.shot == row.id && t.active()).map(|t| t.proof),
            name: row.name,
            scene: row.scene,
            environment: row.environment,
            camera: row.camera,
            budget: row.budget,
            revision: row.revision,
            undo,
            redo,
            import,
        })
    }

    /// The tuning in force.
    pub(crate) fn tuning(&self, shot: i64) -> Result<Tuning, Fault> {
        let row = self.0.store.shot(shot)?;
        parse(&self.0.store.revision(shot, row.revision)?.tuning, "tuning")
    }

    /// Changes a shot, all or nothing; a change of the tuning becomes a revision.
    pub fn change_shot(&self, id: i64, change: &ShotChange) -> Result<ShotView, Fault> {
        let mut row = self.0.store.shot(id)?;
        let before = self.tuning(id)?;
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
        // A size that cannot be rendered must not become a revision that no test can start from.
        Description {
            scene: row.scene.clone(),
            environment: None,
            camera: row.camera.clone(),
            region: None,
            tuning: after.clone(),
            edits: Default::default(),
            version: VERSION.into(),
        }
        .check()?;
        self.0.store.update_shot(&row)?;
        let differences = before.differences(&after);
        if !differences.is_empty() {
            let words: Vec<String> = differences.iter().map(|d| format!("{} {} → {}", d.label, d.a, d.b)).collect();
            self.0.store.revise(id, &json(&after)?, &words.join(", "))?;
        }
        self.0.events.tell(Event::Shot { shot: id });
        self.shot(id)
    }

    /// Newest first.
    pub fn revisions(&self, shot: i64) -> Result<Vec<RevisionView>, Fault> {
        let current = self.0.store.shot(shot)?.revision;
        let rows = self.0.store.revisions(shot)?;
        Ok(rows
            .into_iter()
            .map(|r| RevisionView { number: r.number, change: r.change, made: r.made, current: r.number == current })
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
        let d = Description {
            scene: row.scene,
            environment: row.environment,
            camera: row.camera,
            region,
            tuning: self.tuning(shot)?,
            edits: Default::default(),
            version: VERSION.into(),
        };
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
