//! Draft overlays and presets: made, shared, put over tests, applied to shots.

use crate::shots::check_name;
use crate::{Event, Imported, InForce, NewPartial, PartialChange, PartialView, Preview, Rung, Workshop, json, parse};
use fault::{Code, Fault};
use std::collections::BTreeMap;
use store::{BinKind, PartialRow};
use tuning::{Chosen, Knob, Partial, PartialKind, Tuning, understood};

fn kind_of(row: &PartialRow) -> PartialKind {
    if row.kind == "overlay" { PartialKind::Overlay } else { PartialKind::Preset }
}

fn word(kind: PartialKind) -> &'static str {
    match kind {
        PartialKind::Overlay => "overlay",
        PartialKind::Preset => "preset",
    }
}

impl Workshop {
    /// Puts the overlays and presets that come with the program into a new data folder.
    pub(crate) fn add_shipped(&self) -> Result<(), Fault> {
        if self.0.store.partials()?.iter().any(|p| p.shipped) {
            return Ok(());
        }
        for p in Partial::shipped() {
            self.0.store.add_partial(&row_of(&p, true)?)?;
        }
        Ok(())
    }

    pub fn partials(&self) -> Result<Vec<PartialView>, Fault> {
        self.0.store.partials()?.iter().map(view).collect()
    }

    fn partial(&self, id: i64) -> Result<Partial, Fault> {
        let row = self.0.store.partial(id)?;
        let (values, _) = understood(&parse(&row.chosen, "values")?);
        Ok(Partial { kind: kind_of(&row), name: row.name, note: row.note, values })
    }

    /// Makes one from given values, or from some knobs of a shot as they are now.
    pub fn add_partial(&self, new: &NewPartial) -> Result<PartialView, Fault> {
        let name = check_name(&new.name)?;
        let mut p = Partial::strict(new.kind, &name, new.note.as_deref().unwrap_or(""), &new.values)?;
        if let Some(shot) = new.shot {
            p.values.extend(self.tuning(shot)?.chosen(&new.knobs)?);
        }
        if p.values.is_empty() {
            let what = format!("the {} names no knob", word(new.kind));
            return Err(Fault::new(Code::OutOfRange, what, "knobs", "choose at least one knob or group"));
        }
        let id = self.0.store.add_partial(&row_of(&p, false)?)?;
        self.0.events.tell(Event::Partials);
        view(&self.0.store.partial(id)?)
    }

    pub fn change_partial(&self, id: i64, change: &PartialChange) -> Result<PartialView, Fault> {
        let mut row = self.0.store.partial(id)?;
        if let Some(name) = &change.name {
            row.name = check_name(name)?;
        }
        if let Some(note) = &change.note {
            row.note.clone_from(note);
        }
        if let Some(values) = &change.values {
            let p = Partial::strict(kind_of(&row), &row.name, &row.note, values)?;
            if p.values.is_empty() {
                return Err(Fault::new(Code::OutOfRange, "no knob is left", "values", "delete it instead"));
            }
            row.chosen = json(&p.values)?;
        }
        self.0.store.update_partial(&row)?;
        self.told_partials()?;
        view(&row)
    }

    /// An overlay may lie over any shot.
    pub(crate) fn told_partials(&self) -> Result<(), Fault> {
        self.0.events.tell(Event::Partials);
        for s in self.0.store.shots()? {
            self.0.events.tell(Event::Shot { shot: s.id });
        }
        Ok(())
    }

    /// The file to share: its name and its text.
    pub fn partial_file(&self, id: i64) -> Result<(String, String), Fault> {
        let p = self.partial(id)?;
        let plain: String =
            p.name.chars().map(|c| if c.is_alphanumeric() { c.to_ascii_lowercase() } else { '-' }).collect();
        Ok((format!("{}.{}.json", plain.trim_matches('-'), word(p.kind)), p.to_file()))
    }

    /// Reads a shared file; it is kept only if everything in it was understood or `take` asks for the rest.
    pub fn import_partial(&self, kind: PartialKind, text: &str, file: &str, take: bool) -> Result<Imported, Fault> {
        let (p, untaken) = Partial::read(text, kind, file)?;
        if p.values.is_empty() {
            let list: Vec<String> = untaken.iter().map(|u| format!("{}: {}", u.id, u.why)).collect();
            let what = format!("nothing in it is understood ({})", list.join("; "));
            return Err(Fault::new(Code::Unsupported, what, file, "use the version of the program that wrote it"));
        }
        let mut kept = None;
        if untaken.is_empty() || take {
            let named = Partial { name: check_name(&p.name)?, ..p.clone() };
            let id = self.0.store.add_partial(&row_of(&named, false)?)?;
            kept = Some(view(&self.0.store.partial(id)?)?);
            self.0.events.tell(Event::Partials);
        }
        Ok(Imported { name: p.name.clone(), understood: p.values.len(), untaken, kept })
    }

    /// What applying a preset would change, and the forecast after it.
    pub fn preview(&self, shot: i64, id: i64) -> Result<Preview, Fault> {
        let (now, p) = (self.tuning(shot)?, self.partial(id)?);
        let next = now.applying(&p.values);
        let forecast = self.best_forecast(shot, &next)?.map(|best| best.forecast.brief());
        Ok(Preview { changes: now.differences(&next), forecast })
    }

    /// Applies a preset to a shot, as a revision; knobs that it does not name stay as they are.
    pub fn apply_preset(&self, shot: i64, id: i64) -> Result<(), Fault> {
        let p = self.partial(id)?;
        self.revise(shot, &format!("preset {}", p.name), |now| Ok(now.applying(&p.values)))?;
        self.0.store.set_setting(&format!("preset {shot}"), &id.to_string())?;
        self.0.events.tell(Event::Shot { shot });
        Ok(())
    }

    pub(crate) fn applied_preset(&self, shot: i64) -> Option<i64> {
        let id = self.0.store.setting(&format!("preset {shot}"))?.parse().ok()?;
        self.has_partial(id).then_some(id)
    }

    /// All presets with the forecast that this shot's final would have.
    pub fn ladder(&self, shot: i64) -> Result<Vec<Rung>, Fault> {
        let now = self.tuning(shot)?;
        let mut out = Vec::new();
        for row in self.0.store.partials()?.into_iter().filter(|r| r.kind == "preset") {
            let next = now.applying(&self.partial(row.id)?.values);
            let forecast = self.best_forecast(shot, &next)?.map(|best| best.forecast);
            let needs_test = forecast.as_ref().is_some_and(|f| !f.needs_test.is_empty());
            out.push(Rung { preset: row.id, forecast: forecast.map(|f| f.brief()), needs_test });
        }
        Ok(out)
    }

    /// Switches draft overlays of a shot: all that lie over it, the one put on last last.
    pub fn set_overlays(&self, shot: i64, ids: &[i64]) -> Result<(), Fault> {
        self.0.store.shot(shot)?;
        for id in ids {
            if kind_of(&self.0.store.partial(*id)?) != PartialKind::Overlay {
                return Err(Fault::new(
                    Code::Contradiction,
                    "a preset does not lie over tests",
                    "overlays",
                    "apply it",
                ));
            }
        }
        self.0.store.set_setting(&format!("overlays {shot}"), &json(&ids)?)?;
        self.0.events.tell(Event::Shot { shot });
        Ok(())
    }

    pub(crate) fn overlay_ids(&self, shot: i64) -> Vec<i64> {
        let text = self.0.store.setting(&format!("overlays {shot}")).unwrap_or_default();
        let ids: Vec<i64> = serde_json::from_str(&text).unwrap_or_default();
        ids.into_iter().filter(|id| self.has_partial(*id)).collect()
    }

    /// It is there, and not in the bin.
    fn has_partial(&self, id: i64) -> bool {
        let deleted = self.0.store.is_in_bin(BinKind::Partial, &id.to_string());
        self.0.store.partial(id).is_ok() && deleted.is_ok_and(|deleted| !deleted)
    }

    pub(crate) fn overlays_on(&self, shot: i64) -> Result<Vec<(String, Chosen)>, Fault> {
        let on = self.overlay_ids(shot).into_iter().map(|id| self.partial(id).map(|p| (p.name, p.values)));
        on.collect()
    }

    /// The tuning in force for tests.
    pub(crate) fn in_force_tuning(&self, shot: i64) -> Result<Tuning, Fault> {
        let on = self.overlays_on(shot)?;
        Ok(self.tuning(shot)?.under(on.iter().map(|(_, v)| v)).0)
    }

    /// Knobs that overlays change for tests, with whose the value is.
    pub(crate) fn in_force(&self, shot: i64) -> Result<Vec<InForce>, Fault> {
        let own = self.tuning(shot)?;
        let on = self.overlays_on(shot)?;
        let (force, whose) = own.under(on.iter().map(|(_, v)| v));
        let values = force.to_map();
        Ok(whose
            .into_iter()
            .map(|(id, i)| InForce { id: id.into(), value: values[id].clone(), whose: on[i].0.clone() })
            .collect())
    }
}

pub(crate) fn row_of(p: &Partial, shipped: bool) -> Result<PartialRow, Fault> {
    let (name, note) = (p.name.clone(), p.note.clone());
    Ok(PartialRow { id: 0, kind: word(p.kind).into(), name, note, chosen: json(&p.values)?, shipped })
}

fn view(row: &PartialRow) -> Result<PartialView, Fault> {
    let values: BTreeMap<String, serde_json::Value> = parse(&row.chosen, "values")?;
    // Knobs that this version does not have any more are left out.
    let values = values.into_iter().filter(|(id, _)| Knob::by_id(id).is_ok()).collect();
    Ok(PartialView {
        id: row.id,
        kind: kind_of(row),
        name: row.name.clone(),
        note: row.note.clone(),
        values,
        shipped: row.shipped,
    })
}
