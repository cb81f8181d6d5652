//! Partial tunings: chosen knobs with their values, under a name.
//!
//! A *draft overlay* lies over a shot's tuning for tests only; any number may lie there, and where two touch the same knob the
//! one put on last wins. A *preset* is applied to a shot and leaves every knob that it does not name untouched. Both are
//! shared as JSON: `{"format": "mellow-grain-preset", "version": 1, "name": …, "note": …, "values": {knob id: value}}`, with
//! `mellow-grain-overlay` for overlays. Reading lists what it does not know or accept and keeps the rest.

use crate::{Group, K, KNOBS, Knob, Tuning, Value};
use fault::{Code, Fault};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use ts_rs::TS;

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, TS)]
#[serde(rename_all = "snake_case")]
pub enum PartialKind {
    Overlay,
    Preset,
}

impl PartialKind {
    fn format(self) -> &'static str {
        match self {
            PartialKind::Overlay => "mellow-grain-overlay",
            PartialKind::Preset => "mellow-grain-preset",
        }
    }
}

/// Version of the file format that is written; newer files are read as far as they are understood.
pub const PARTIAL_VERSION: u32 = 1;

/// Values of some knobs by id.
pub type Chosen = BTreeMap<&'static str, Value>;

/// A named set of values. JSON of the values: one flat object from knob id to value.
#[derive(Debug, Clone, PartialEq)]
pub struct Partial {
    pub kind: PartialKind,
    pub name: String,
    pub note: String,
    pub values: Chosen,
}

/// An entry of a file that was not taken, and why.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct Untaken {
    pub id: String,
    /// As it stood in the file.
    pub value: String,
    pub why: String,
}

/// Sorts values by JSON into those that are understood and the rest.
pub fn understood(values: &BTreeMap<String, serde_json::Value>) -> (Chosen, Vec<Untaken>) {
    let (mut taken, mut rest) = (Chosen::new(), Vec::new());
    for (id, json) in values {
        match Knob::by_id(id).and_then(|(_, knob)| Ok((knob.id, knob.accept(json)?))) {
            Ok((id, value)) => {
                taken.insert(id, value);
            }
            Err(f) => {
                rest.push(Untaken { id: id.clone(), value: json.to_string(), why: format!("{}; {}", f.what, f.remedy) })
            }
        }
    }
    (taken, rest)
}

#[derive(Serialize, Deserialize)]
struct FileForm {
    format: String,
    version: u32,
    name: String,
    #[serde(default)]
    note: String,
    values: BTreeMap<String, serde_json::Value>,
}

impl Partial {
    /// Values that must all be right, e.g. from a page.
    pub fn strict(
        kind: PartialKind,
        name: &str,
        note: &str,
        values: &BTreeMap<String, serde_json::Value>,
    ) -> Result<Partial, Fault> {
        let mut taken = Chosen::new();
        for (id, json) in values {
            let (_, knob) = Knob::by_id(id)?;
            taken.insert(knob.id, knob.accept(json)?);
        }
        Ok(Partial { kind, name: name.into(), note: note.into(), values: taken })
    }

    /// Reads a shared file; the second part lists entries that were not understood.
    pub fn read(text: &str, kind: PartialKind, file: &str) -> Result<(Partial, Vec<Untaken>), Fault> {
        let form: FileForm = serde_json::from_str(text).map_err(|e| {
            let remedy = "give a JSON file with format, version, name and values, as the program writes them";
            Fault::new(Code::WrongType, format!("not a shared partial tuning: {e}"), file, remedy)
        })?;
        if form.format != kind.format() {
            return Err(Fault::new(
                Code::WrongType,
                format!("the file says it is \"{}\", not \"{}\"", form.format, kind.format()),
                file,
                "import presets among presets and overlays among overlays",
            ));
        }
        let (values, mut rest) = understood(&form.values);
        if form.version > PARTIAL_VERSION {
            rest.insert(
                0,
                Untaken {
                    id: "version".into(),
                    value: form.version.to_string(),
                    why: format!("written by a newer version; this one knows version {PARTIAL_VERSION}"),
                },
            );
        }
        Ok((Partial { kind, name: form.name, note: form.note, values }, rest))
    }

    /// The file to share.
    pub fn to_file(&self) -> String {
        let form = FileForm {
            format: self.kind.format().into(),
            version: PARTIAL_VERSION,
            name: self.name.clone(),
            note: self.note.clone(),
            values: self.values.iter().map(|(id, v)| (id.to_string(), serde_json::json!(v))).collect(),
        };
        serde_json::to_string_pretty(&form).unwrap_or_default()
    }

    /// Overlays and presets that come with the program.
    pub fn shipped() -> Vec<Partial> {
        SHIPPED
            .iter()
            .map(|(kind, name, note, values)| {
                let json = serde_json::from_str(values).expect("shipped values are JSON");
                Partial::strict(*kind, name, note, &json).expect("shipped values are in range")
            })
            .collect()
    }
}

use PartialKind::{Overlay, Preset};

const SHIPPED: &[(PartialKind, &str, &str, &str)] = &[
    (Overlay, "Half size", "A quarter of the pixels, enlarged to the frame.", r#"{"frame.oversize": 0.5}"#),
    (
        Overlay,
        "Few samples",
        "At most 16 samples a pixel: enough to judge light and framing.",
        r#"{"sampling.least": 4, "sampling.most": 16}"#,
    ),
    (
        Overlay,
        "Short paths",
        "Light that bounces often is left out: corners and glass get darker.",
        r#"{"depth.total": 6, "depth.diffuse": 2, "depth.reflection": 3, "depth.transmission": 6, "depth.volume": 0}"#,
    ),
    (
        Overlay,
        "Clear and sharp",
        "Without haze and without blur of the lens.",
        r#"{"haze.density": 0, "frame.aperture": 0}"#,
    ),
    (
        Overlay,
        "Clean-up",
        "The quick denoiser at full strength.",
        r#"{"cleanup.denoise": "quick", "cleanup.blend": 1}"#,
    ),
    (
        Preset,
        "1 Sketch",
        "Framing and light, seconds.",
        r#"{"sampling.adaptive": true, "sampling.least": 4, "sampling.most": 16, "sampling.threshold": 0.08,
            "depth.total": 6, "cleanup.denoise": "quick", "cleanup.blend": 1}"#,
    ),
    (
        Preset,
        "2 Study",
        "Materials and shadows can be judged.",
        r#"{"sampling.adaptive": true, "sampling.least": 8, "sampling.most": 64, "sampling.threshold": 0.04,
            "depth.total": 10, "cleanup.denoise": "quick", "cleanup.blend": 1}"#,
    ),
    (
        Preset,
        "3 Review",
        "To show to others on a screen.",
        r#"{"sampling.adaptive": true, "sampling.least": 16, "sampling.most": 256, "sampling.threshold": 0.02,
            "depth.total": 14, "cleanup.denoise": "quick", "cleanup.blend": 1}"#,
    ),
    (
        Preset,
        "4 Delivery",
        "Clean on a screen at full size.",
        r#"{"sampling.adaptive": true, "sampling.least": 16, "sampling.most": 1024, "sampling.threshold": 0.01,
            "depth.total": 20, "cleanup.denoise": "quick", "cleanup.blend": 0.9}"#,
    ),
    (
        Preset,
        "5 Print",
        "Clean on paper, looked at closely.",
        r#"{"sampling.adaptive": true, "sampling.least": 32, "sampling.most": 4096, "sampling.threshold": 0.005,
            "depth.total": 24, "cleanup.denoise": "quick", "cleanup.blend": 0.8}"#,
    ),
];

impl Tuning {
    /// This tuning with chosen values; *least* samples follow a *most* that was chosen below them.
    pub fn applying(&self, values: &Chosen) -> Tuning {
        let mut next = self.clone();
        for (id, value) in values {
            if let Some(i) = KNOBS.iter().position(|k| k.id == *id) {
                next.values[i] = value.clone();
            }
        }
        let (least, most) = (next.whole(K::SamplingLeast), next.whole(K::SamplingMost));
        if least > most {
            // Whichever of the two was chosen stands; the other follows.
            let chosen = |k: K| values.contains_key(KNOBS[k as usize].id);
            let (k, n) = if chosen(K::SamplingLeast) && !chosen(K::SamplingMost) {
                (K::SamplingMost, least)
            } else {
                (K::SamplingLeast, most)
            };
            next.values[k as usize] = Value::Whole(n);
        }
        next
    }

    /// The tuning under overlays, the one put on last last; and for each knob that they change the index of the one in force.
    pub fn under<'a>(&self, overlays: impl IntoIterator<Item = &'a Chosen>) -> (Tuning, BTreeMap<&'static str, usize>) {
        let (mut now, mut whose) = (self.clone(), BTreeMap::new());
        for (i, values) in overlays.into_iter().enumerate() {
            let next = now.applying(values);
            whose.extend(values.keys().map(|id| (*id, i)));
            whose.extend(now.differences(&next).into_iter().map(|d| (d.id, i)));
            now = next;
        }
        (now, whose)
    }

    /// The values of some knobs.
    pub fn chosen(&self, ids: &[String]) -> Result<Chosen, Fault> {
        ids.iter().map(|id| Knob::by_id(id).map(|(i, k)| (k.id, self.values[i].clone()))).collect()
    }

    /// The values of all knobs of some groups.
    pub fn of_groups(&self, groups: &[Group]) -> Chosen {
        let inside = |k: &&Knob| groups.contains(&k.group);
        KNOBS.iter().zip(&self.values).filter(|(k, _)| inside(k)).map(|(k, v)| (k.id, v.clone())).collect()
    }
}
