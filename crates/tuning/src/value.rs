//! Values of knobs, the complete set of them, and differences between two sets.

use crate::{K, KNOBS, Kind, Knob};
use fault::{Code, Fault};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use std::borrow::Cow;
use std::collections::BTreeMap;
use ts_rs::TS;

/// The value of one knob. JSON: a number, a boolean or a name.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
#[serde(untagged)]
pub enum Value {
    Switch(bool),
    Whole(u32),
    Real(f64),
    Name(Cow<'static, str>),
}

impl std::fmt::Display for Value {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Value::Switch(b) => write!(f, "{b}"),
            Value::Whole(n) => write!(f, "{n}"),
            Value::Real(x) => write!(f, "{x}"),
            Value::Name(s) => write!(f, "{s}"),
        }
    }
}

impl Knob {
    /// The row with this id.
    pub fn by_id(id: &str) -> Result<(usize, &'static Knob), Fault> {
        KNOBS.iter().enumerate().find(|(_, k)| k.id == id).ok_or_else(|| {
            Fault::new(Code::NotFound, format!("there is no knob \"{id}\""), id, "`mellow-grain knobs` lists them all")
        })
    }

    /// The range in words, for messages and help.
    pub fn range(&self) -> String {
        match self.kind {
            Kind::Whole { least, most } => format!("a whole number from {least} to {most}"),
            Kind::Real { least, most } => format!("a number from {least} to {most}"),
            Kind::Switch => "true or false".into(),
            Kind::Choice { names } => format!("one of {}", names.join(", ")),
        }
    }

    /// Checks a JSON value against the row and brings it into the knob's own type.
    pub fn accept(&self, json: &serde_json::Value) -> Result<Value, Fault> {
        let wrong = |code, what: String| Fault::new(code, what, self.id, format!("give {}", self.range()));
        let number = |j: &serde_json::Value| j.as_f64().filter(|x| x.is_finite());
        match self.kind {
            Kind::Switch => json
                .as_bool()
                .map(Value::Switch)
                .ok_or_else(|| wrong(Code::OutOfRange, format!("{json} is neither true nor false"))),
            Kind::Choice { names } => {
                let given = match json {
                    serde_json::Value::String(s) => s.clone(),
                    other => other.to_string(),
                };
                names
                    .iter()
                    .find(|n| **n == given)
                    .map(|n| Value::Name(Cow::Borrowed(n)))
                    .ok_or_else(|| wrong(Code::OutOfRange, format!("\"{given}\" is not a choice")))
            }
            Kind::Whole { least, most } => {
                let x = number(json).ok_or_else(|| wrong(Code::NotANumber, format!("{json} is not a number")))?;
                if x.fract() != 0.0 {
                    return Err(wrong(Code::OutOfRange, format!("{x} is not whole")));
                }
                if x < least as f64 || x > most as f64 {
                    return Err(wrong(Code::OutOfRange, format!("{x} is outside the range")));
                }
                Ok(Value::Whole(x as u32))
            }
            Kind::Real { least, most } => {
                let x = number(json).ok_or_else(|| wrong(Code::NotANumber, format!("{json} is not a number")))?;
                if x < least || x > most {
                    return Err(wrong(Code::OutOfRange, format!("{x} is outside the range")));
                }
                Ok(Value::Real(x))
            }
        }
    }

    /// Reads a value as typed on a command line: `12`, `0.5`, `true`, `quick`.
    pub fn parse(&self, text: &str) -> Result<Value, Fault> {
        let json = match self.kind {
            Kind::Switch => serde_json::from_str(text).unwrap_or(serde_json::Value::String(text.into())),
            Kind::Choice { .. } => serde_json::Value::String(text.into()),
            _ => match text.parse::<f64>() {
                Ok(x) if x.is_finite() => serde_json::json!(x),
                _ => serde_json::Value::String(text.into()),
            },
        };
        self.accept(&json)
    }
}

/// The complete set of knob values of a shot. JSON: one flat object from knob id to value;
/// knobs that are left out have their default.
#[derive(Debug, Clone, PartialEq)]
pub struct Tuning {
    pub(crate) values: Vec<Value>,
}

impl Default for Tuning {
    fn default() -> Self {
        Tuning { values: KNOBS.iter().map(|k| k.default.clone()).collect() }
    }
}

/// One knob whose value differs between two tunings.
#[derive(Debug, Clone, PartialEq, Serialize, TS)]
pub struct Difference {
    pub id: &'static str,
    pub label: &'static str,
    pub a: Value,
    pub b: Value,
}

impl Tuning {
    pub fn value(&self, k: K) -> &Value {
        &self.values[k as usize]
    }

    pub fn whole(&self, k: K) -> u32 {
        match self.value(k) {
            Value::Whole(n) => *n,
            other => unreachable!("{:?} holds {other:?}", k),
        }
    }

    pub fn real(&self, k: K) -> f64 {
        match self.value(k) {
            Value::Real(x) => *x,
            other => unreachable!("{:?} holds {other:?}", k),
        }
    }

    pub fn switch(&self, k: K) -> bool {
        matches!(self.value(k), Value::Switch(true))
    }

    pub fn name(&self, k: K) -> &str {
        match self.value(k) {
            Value::Name(s) => s,
            other => unreachable!("{:?} holds {other:?}", k),
        }
    }

    /// Sets a knob by id from JSON; the tuning is unchanged if the value is refused.
    pub fn set(&mut self, id: &str, json: &serde_json::Value) -> Result<(), Fault> {
        let (index, knob) = Knob::by_id(id)?;
        self.values[index] = knob.accept(json)?;
        Ok(())
    }

    /// Sets a knob from `ID=VALUE` as on a command line.
    pub fn set_text(&mut self, assignment: &str) -> Result<(), Fault> {
        let (id, text) = assignment.split_once('=').ok_or_else(|| {
            Fault::new(
                Code::WrongType,
                "a setting needs an equals sign",
                assignment,
                "write ID=VALUE, e.g. sampling.most=64",
            )
        })?;
        let (index, knob) = Knob::by_id(id.trim())?;
        self.values[index] = knob.parse(text.trim())?;
        Ok(())
    }

    /// A tuning with this knob set; for values that are known to be valid.
    pub fn with(mut self, k: K, value: impl Into<serde_json::Value>) -> Self {
        self.set(KNOBS[k as usize].id, &value.into()).expect("a value inside the knob's range");
        self
    }

    /// A tuning with the values that some knobs have in another one.
    pub fn taking(mut self, knobs: &[K], from: &Tuning) -> Self {
        knobs.iter().for_each(|k| self.values[*k as usize] = from.values[*k as usize].clone());
        self
    }

    /// Takes `changes` (id → JSON) over, all or none, and checks what spans several knobs.
    pub fn changed(&self, changes: &BTreeMap<String, serde_json::Value>) -> Result<Self, Fault> {
        let mut next = self.clone();
        for (id, json) in changes {
            next.set(id, json)?;
        }
        next.check()?;
        Ok(next)
    }

    /// Rules that span several knobs.
    pub fn check(&self) -> Result<(), Fault> {
        let (least, most) = (self.whole(K::SamplingLeast), self.whole(K::SamplingMost));
        if least > most {
            return Err(Fault::new(
                Code::Contradiction,
                format!("least samples {least} are more than most samples {most}"),
                "sampling.least",
                "lower sampling.least or raise sampling.most",
            ));
        }
        Ok(())
    }

    /// Knobs in which `other` differs from `self`, in the order of the table.
    pub fn differences(&self, other: &Tuning) -> Vec<Difference> {
        KNOBS
            .iter()
            .zip(self.values.iter().zip(&other.values))
            .filter(|(_, (a, b))| a != b)
            .map(|(k, (a, b))| Difference { id: k.id, label: k.label, a: a.clone(), b: b.clone() })
            .collect()
    }

    /// All values by id.
    pub fn to_map(&self) -> BTreeMap<&'static str, &Value> {
        KNOBS.iter().map(|k| k.id).zip(&self.values).collect()
    }

    /// Reads a tuning from JSON text, with the name of the file for messages.
    pub fn from_json(text: &str, file: &str) -> Result<Self, Fault> {
        let map: BTreeMap<String, serde_json::Value> = serde_json::from_str(text).map_err(|e| {
            Fault::new(Code::WrongType, e.to_string(), file, "a tuning is one JSON object from knob id to value")
        })?;
        Tuning::default().changed(&map).map_err(|f| f.within(file))
    }
}

impl Serialize for Tuning {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        self.to_map().serialize(s)
    }
}

impl<'de> Deserialize<'de> for Tuning {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        let map = BTreeMap::<String, serde_json::Value>::deserialize(d)?;
        Tuning::default().changed(&map).map_err(de::Error::custom)
    }
}
