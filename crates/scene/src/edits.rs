//! Shot edits: changes to lights, media and camera that belong to a shot and never to the scene file. JSON.

use fault::{Code, Fault};
use glam::Vec3;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// How a light's shadow is drawn.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Shadow {
    /// As the light's size makes it.
    #[default]
    Soft,
    /// With the sharp edge of a light without size, whatever its size.
    Hard,
    /// None: the light shines through everything.
    None,
}

/// Changes to one light of the scene.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct LightEdit {
    pub on: bool,
    /// Factor of the intensity.
    pub strength: f32,
    /// Radius in metres of a point or spot light, which makes its shadow soft.
    pub radius: f32,
    /// Angle in degrees over which a directional light is spread; the sun's is 0.53.
    pub angle: f32,
    pub shadow: Option<Shadow>,
    /// 0 no shadow … 1 full shadow.
    pub shadow_strength: Option<f32>,
    /// Light group; the light's own name without one.
    pub group: Option<String>,
    /// Light rays of its own at the first hit.
    pub split: u32,
}

impl Default for LightEdit {
    fn default() -> Self {
        LightEdit {
            on: true,
            strength: 1.0,
            radius: 0.0,
            angle: 0.0,
            shadow: None,
            shadow_strength: None,
            group: None,
            split: 0,
        }
    }
}

/// Shapes of lights that a shot adds; lengths in metres.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Shape {
    Sphere { radius: f32 },
    Disc { radius: f32 },
    Rectangle { width: f32, height: f32 },
}

/// A light that a shot adds. Discs and rectangles shine to their front only.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AddedLight {
    pub name: String,
    pub shape: Shape,
    pub position: [f32; 3],
    /// The point that the front faces.
    #[serde(default)]
    pub towards: [f32; 3],
    /// Radiance in cd/m².
    pub radiance: [f32; 3],
    /// Whether the camera sees it directly; mirrors always do.
    #[serde(default)]
    pub seen: bool,
    #[serde(default)]
    pub edit: LightEdit,
}

/// A homogeneous medium.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Medium {
    /// Scattering and absorption per metre.
    pub scattering: [f32; 3],
    #[serde(default)]
    pub absorption: [f32; 3],
    /// Mean cosine of the scattering angle, −1 backwards … 1 forwards.
    #[serde(default)]
    pub forward: f32,
}

/// The camera moves from its own place to another camera's.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CameraMove {
    pub to: String,
    /// Frames that the whole move takes.
    pub frames: f32,
    /// The frame that is rendered, 0 … frames; its shutter opens then.
    #[serde(default)]
    pub frame: f32,
}

#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct ShotEdits {
    /// By the light's name.
    pub lights: BTreeMap<String, LightEdit>,
    pub added: Vec<AddedLight>,
    /// Media inside closed meshes, by the name of their material, which must be solid and transmit.
    pub media: BTreeMap<String, Medium>,
    pub camera_move: Option<CameraMove>,
}

impl ShotEdits {
    /// Reads edits from JSON text, with the name of the file for messages.
    pub fn from_json(text: &str, file: &str) -> Result<ShotEdits, Fault> {
        serde_json::from_str(text)
            .map_err(|e| Fault::new(Code::WrongType, e.to_string(), file, "see the guide for the form of shot edits"))
    }

    /// What is edited about a light, by its name: one of the scene's or one that the shot adds.
    pub fn light(&self, name: &str) -> Option<&LightEdit> {
        self.added.iter().find(|l| l.name == name).map(|l| &l.edit).or_else(|| self.lights.get(name))
    }

    /// The same, to change it.
    pub fn light_mut(&mut self, name: &str) -> &mut LightEdit {
        match self.added.iter().position(|l| l.name == name) {
            Some(i) => &mut self.added[i].edit,
            None => self.lights.entry(name.into()).or_default(),
        }
    }

    /// Refuses what no scene could honour, and names that this scene does not have.
    pub fn check(&self, scene: &crate::Scene) -> Result<(), Fault> {
        let refuse = |code, place: &str, what: String, remedy: &str| Err(Fault::new(code, what, place, remedy));
        let unknown = |kind: &str, name: &str, have: Vec<&str>| {
            refuse(
                Code::NotFound,
                "shot edits",
                format!("there is no {kind} \"{name}\""),
                &format!("choose one of: {}", have.into_iter().take(40).collect::<Vec<_>>().join(", ")),
            )
        };
        let lights: Vec<&str> = scene.lights.iter().map(|l| l.name.as_str()).collect();
        for (name, e) in &self.lights {
            if name != "environment" && !lights.contains(&name.as_str()) {
                return unknown("light", name, lights);
            }
            e.check(name)?;
        }
        for (i, l) in self.added.iter().enumerate() {
            let taken = l.name == "environment" || lights.contains(&l.name.as_str());
            if l.name.is_empty() || taken || self.added[..i].iter().any(|other| other.name == l.name) {
                let what = if l.name.is_empty() { "an added light without a name" } else { "two lights of one name" };
                let remedy = "give each added light a name that no other light of the scene has";
                return refuse(Code::Contradiction, &format!("added light \"{}\"", l.name), what.into(), remedy);
            }
            l.edit.check(&l.name)?;
            let sizes = match l.shape {
                Shape::Sphere { radius } | Shape::Disc { radius } => [radius, radius],
                Shape::Rectangle { width, height } => [width, height],
            };
            let numbers = [l.position, l.towards, l.radiance].concat();
            if sizes.iter().any(|s| !(s.is_finite() && *s > 0.0))
                || numbers.iter().any(|x| !x.is_finite())
                || l.radiance.iter().any(|x| *x < 0.0)
            {
                let remedy = "give finite numbers, sizes above 0 and radiance of 0 or more";
                return refuse(Code::OutOfRange, &l.name, "an impossible light".into(), remedy);
            }
            if !matches!(l.shape, Shape::Sphere { .. }) && l.towards == l.position {
                let remedy = "give a point in front of the light as \"towards\"";
                return refuse(Code::OutOfRange, &l.name, "the light faces its own position".into(), remedy);
            }
        }
        for (name, m) in &self.media {
            let Some(material) = scene.materials.iter().find(|m| m.name == *name) else {
                return unknown("material", name, scene.materials.iter().map(|m| m.name.as_str()).collect());
            };
            if !material.solid || material.transmission <= 0.0 {
                let remedy = "give it transmission and a thickness in the scene file";
                return refuse(Code::Contradiction, name, "a medium needs a solid that transmits".into(), remedy);
            }
            let numbers = [m.scattering, m.absorption].concat();
            if numbers.iter().any(|x| !x.is_finite() || *x < 0.0) || m.forward.is_nan() || m.forward.abs() >= 1.0 {
                let remedy = "give densities of 0 or more, and \"forward\" between -1 and 1";
                return refuse(Code::OutOfRange, name, "an impossible medium".into(), remedy);
            }
        }
        if let Some(m) = &self.camera_move {
            scene.camera(Some(&m.to)).map_err(|f| f.within("camera_move"))?;
            if !(m.frames.is_finite() && m.frames > 0.0 && m.frame.is_finite() && m.frame >= 0.0) {
                let remedy = "give frames above 0 and a frame of 0 or more";
                return refuse(Code::OutOfRange, "camera_move", "an impossible move".into(), remedy);
            }
        }
        Ok(())
    }
}

impl LightEdit {
    fn check(&self, name: &str) -> Result<(), Fault> {
        let share = self.shadow_strength.unwrap_or(1.0);
        let fine = [self.strength, self.radius].iter().all(|x| x.is_finite() && *x >= 0.0)
            && (0.0..=180.0).contains(&self.angle)
            && (0.0..=1.0).contains(&share)
            && self.split <= 64;
        if fine {
            return Ok(());
        }
        Err(Fault::new(
            Code::OutOfRange,
            "an edit outside its range",
            name,
            "strength and radius are 0 or more, angle is 0 to 180°, shadow_strength 0 to 1, split at most 64",
        ))
    }
}

impl AddedLight {
    pub fn place(&self) -> Vec3 {
        Vec3::from_array(self.position)
    }

    /// Unit vector to the front.
    pub fn facing(&self) -> Vec3 {
        (Vec3::from_array(self.towards) - self.place()).normalize_or(Vec3::NEG_Y)
    }
}
