//! The description of a render: everything the picture depends on. Proofs, pilots, references and finals store it whole.

use crate::lights::EnvironmentUse;
use crate::medium::Medium;
use crate::view_rays::Lens;
use fault::{Code, Fault};
use glam::Vec3;
use picture::denoise::{CleanUp, Method};
use picture::grain::{Judging, Measure};
use picture::{Region, Transform, View, filter::Filter, footprint};
use scene::{Shadow, ShotEdits};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use tuning::{Chosen, Denoiser, Group, Judge, K, PixelFilter, Shadows, Tuning, ViewBy};

/// Version of the program that rendered.
pub const VERSION: &str = env!("CARGO_PKG_VERSION");

/// Side of the squares within which decisions about sampling are made; fixed to the frame's grid.
pub const SUPERBLOCK: u32 = 32;

/// Largest frame that is accepted: the film would take about 9 GB.
pub const MOST_FRAME_PIXELS: u64 = 100_000_000;

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Description {
    /// Content hash of the scene file.
    pub scene: String,
    /// Content hash of the environment file.
    pub environment: Option<String>,
    /// Name of the camera.
    pub camera: String,
    /// Part of the frame; none for all of it.
    pub region: Option<Region>,
    /// All knobs in force, among them size, seed and judging view.
    pub tuning: Tuning,
    /// Draft overlays that lay over the shot's tuning, the one put on last last; a final has none.
    #[serde(default)]
    pub overlays: Vec<Overlay>,
    /// The shot's own tuning, where overlays lay over it.
    #[serde(default)]
    pub own: Option<Tuning>,
    /// Changes to lights, media and camera.
    #[serde(default)]
    pub edits: ShotEdits,
    pub version: String,
}

/// A draft overlay as it was when it was used.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Overlay {
    pub name: String,
    pub values: BTreeMap<String, serde_json::Value>,
}

/// Knobs that say how many samples are taken, and how they are shown meanwhile: what a sample is depends on none of them.
pub const LIMITS: &[K] = &[
    K::SamplingAdaptive,
    K::SamplingLeast,
    K::SamplingMost,
    K::SamplingThreshold,
    K::SamplingEffort,
    K::SamplingFirstPass,
    K::CleanupLive,
];

/// Size of the frame that is rendered at a tuning: the delivered one times oversize.
pub fn film_frame_of(t: &Tuning) -> (u32, u32) {
    let times = t.real(K::FrameOversize);
    [K::FrameWidth, K::FrameHeight].map(|k| ((t.whole(k) as f64 * times).round() as u32).max(1)).into()
}

impl Description {
    /// The whole frame of a scene, without overlays and edits.
    pub fn new(scene: &str, environment: Option<&str>, camera: &str, tuning: Tuning) -> Description {
        Description {
            scene: scene.into(),
            environment: environment.map(str::to_string),
            camera: camera.into(),
            region: None,
            tuning,
            overlays: Vec::new(),
            own: None,
            edits: ShotEdits::default(),
            version: VERSION.into(),
        }
    }

    /// Lays overlays over the tuning.
    pub fn under(mut self, overlays: &[(String, Chosen)]) -> Description {
        if overlays.is_empty() {
            return self;
        }
        let (force, _) = self.tuning.under(overlays.iter().map(|(_, v)| v));
        let shown = |v: &Chosen| v.iter().map(|(id, v)| (id.to_string(), serde_json::json!(v))).collect();
        self.overlays = overlays.iter().map(|(name, v)| Overlay { name: name.clone(), values: shown(v) }).collect();
        self.own = Some(std::mem::replace(&mut self.tuning, force));
        self
    }

    /// Whether the samples of both renders are the same, pixel by pixel and number by number, as far as they go: they differ in
    /// region, in limits, and in what is done with samples once they are there, such as view and clean-up, at most, and keep the
    /// same of them. A sample depends on nothing else.
    pub fn same_samples(&self, other: &Description) -> bool {
        let apart = |id: &str| {
            let knob = tuning::KNOBS.iter().position(|k| k.id == id);
            knob.is_some_and(|i| tuning::KNOBS[i].group == Group::Delivery || LIMITS.iter().any(|k| *k as usize == i))
        };
        (&self.scene, &self.environment, &self.camera, &self.edits, &self.version)
            == (&other.scene, &other.environment, &other.camera, &other.edits, &other.version)
            && self.keeps_parts() == other.keeps_parts()
            && self.judged_as(&other.tuning).tuning.differences(&other.tuning).iter().all(|d| apart(d.id))
    }

    /// Whether both show the very same picture, but for its seed, and deliver it in the same way.
    pub fn same_picture(&self, other: &Description) -> bool {
        let apart = [K::SamplingSeed, K::DeliveryAim, K::DeliveryDpi].map(|k| tuning::KNOBS[k as usize].id);
        (&self.scene, &self.environment, &self.camera, &self.region, &self.edits, &self.version)
            == (&other.scene, &other.environment, &other.camera, &other.region, &other.edits, &other.version)
            && self.tuning.differences(&other.tuning).iter().all(|d| apart.contains(&d.id))
    }

    /// Parts and lights are kept for themselves: films with and without cannot be joined.
    pub fn keeps_parts(&self) -> bool {
        self.tuning.switch(K::DeliveryParts)
            && (self.tuning.switch(K::DeliveryPartsLarge) || self.film_area().area() <= MOST_PARTS_PIXELS)
    }

    /// The shot's own tuning.
    pub fn own_tuning(&self) -> &Tuning {
        self.own.as_ref().unwrap_or(&self.tuning)
    }

    /// The camera, and the one that it moves to.
    pub fn cameras(&self) -> impl Iterator<Item = &str> {
        std::iter::once(self.camera.as_str()).chain(self.edits.camera_move.as_ref().map(|m| m.to.as_str()))
    }

    /// Size of the delivered frame.
    pub fn frame(&self) -> (u32, u32) {
        (self.tuning.whole(K::FrameWidth), self.tuning.whole(K::FrameHeight))
    }

    /// The region, or the whole frame.
    pub fn area(&self) -> Region {
        let (w, h) = self.frame();
        self.region.unwrap_or(Region::whole(w, h))
    }

    /// Size of the frame that is rendered: the delivered one times oversize.
    pub fn film_frame(&self) -> (u32, u32) {
        film_frame_of(&self.tuning)
    }

    /// The part of the rendered frame that is needed: with the reach of the reduction around a region.
    pub fn film_area(&self) -> Region {
        footprint(self.area(), self.frame(), self.film_frame())
    }

    pub fn view(&self) -> View {
        view_of(&self.tuning)
    }

    /// The same render with its grain judged, and its picture cleaned up, as under another tuning; blocks stay.
    pub fn judged_as(&self, tuning: &Tuning) -> Description {
        const JUDGING: &[K] = &[
            K::SamplingJudge,
            K::CleanupDenoise,
            K::CleanupBlend,
            K::CleanupDiffuse,
            K::CleanupSpecular,
            K::CleanupRest,
            K::CleanupStray,
            K::ViewExposure,
            K::ViewTransform,
            K::ViewTable,
        ];
        Description { tuning: self.tuning.clone().taking(JUDGING, tuning), ..self.clone() }
    }

    /// How grain is judged.
    pub fn judging(&self) -> Judging {
        let t = &self.tuning;
        Judging {
            view: self.view(),
            measure: match t.choice() {
                Judge::Displayed => Measure::Displayed,
                Judge::Delivered => Measure::Delivered,
                Judge::Relative => Measure::Relative,
            },
            clean: clean_up_of(t),
            block: t.number(K::SamplingBlock),
        }
    }

    /// Refuses what cannot be rendered, before anything is allocated.
    pub fn check(&self) -> Result<(), Fault> {
        self.tuning.check()?;
        let (w, h) = self.film_frame();
        let pixels = w as u64 * h as u64;
        if pixels > MOST_FRAME_PIXELS {
            return Err(Fault::new(
                Code::TooLarge,
                format!("a frame of {w}×{h} rendered has {:.1} million pixels", pixels as f64 / 1e6),
                "frame.width",
                format!("keep it below {} million pixels", MOST_FRAME_PIXELS / 1_000_000),
            ));
        }
        let view = self.view();
        if view.transform == Transform::Table && picture::cube::kept(view.table).is_none() {
            let remedy = "load its .cube file, or choose another view transform";
            return Err(Fault::new(Code::NotFound, "the view's table is not here", "view.table", remedy));
        }
        self.area().check(self.frame())
    }
}

/// What a tuning says about the clean-up of a picture.
pub fn clean_up_of(t: &Tuning) -> CleanUp {
    CleanUp {
        method: match t.choice() {
            Denoiser::None => None,
            Denoiser::Quick => Some(Method::Quick),
            Denoiser::Careful => Some(Method::Careful),
            Denoiser::Colour => Some(Method::Colour),
        },
        blend: t.real(K::CleanupBlend) as f32,
        groups: [K::CleanupDiffuse, K::CleanupSpecular, K::CleanupRest].map(|k| t.switch(k)),
        stray: t.real(K::CleanupStray) as f32,
    }
}

/// The formula of a pixel filter.
pub fn filter_of(filter: PixelFilter) -> Filter {
    match filter {
        PixelFilter::Box => Filter::Box,
        PixelFilter::Triangle => Filter::Triangle,
        PixelFilter::Gaussian => Filter::Gaussian,
        PixelFilter::BlackmanHarris => Filter::BlackmanHarris,
        PixelFilter::MitchellNetravali => Filter::MitchellNetravali,
        PixelFilter::Lanczos => Filter::Lanczos,
    }
}

/// Exposure and view transform of a tuning.
pub fn view_of(t: &Tuning) -> View {
    View {
        exposure: t.real(K::ViewExposure),
        transform: match t.choice() {
            ViewBy::Srgb => Transform::Srgb,
            ViewBy::Shoulder => Transform::Shoulder,
            ViewBy::Table => Transform::Table,
        },
        table: t.whole(K::ViewTable),
    }
}

/// Above so many rendered pixels parts and lights are kept only if that is asked for by itself: they would take gigabytes.
pub const MOST_PARTS_PIXELS: usize = 6_000_000;

/// Limits of sampling with the effort worked in.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Limits {
    pub adaptive: bool,
    /// Samples per half. Both halves get the same number, so an odd count is rounded up.
    pub least: u32,
    pub most: u32,
    /// Grain at which a block counts as clean, as a share.
    pub threshold: f64,
}

impl Limits {
    pub fn of(t: &Tuning) -> Limits {
        let effort = t.real(K::SamplingEffort);
        let per_half = |k| ((t.whole(k) as f64 * effort / 2.0).ceil() as u32).max(1);
        Limits {
            adaptive: t.switch(K::SamplingAdaptive),
            least: per_half(K::SamplingLeast),
            most: per_half(K::SamplingMost),
            threshold: t.real(K::SamplingThreshold) / effort.sqrt(),
        }
    }
}

/// Strategies that bring the light of lights that both can bring.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Strategy {
    /// Joined by multiple importance sampling.
    Both,
    LightRays,
    Scattering,
}

/// The tuning in the types that the inner loops use.
#[derive(Debug, Clone)]
pub struct Settings {
    /// How light rays and scattered rays share the light: both joined but in checks.
    pub strategy: Strategy,
    /// The rendered frame, and the part of it that is wanted.
    pub frame: (u32, u32),
    pub area: Region,
    /// The delivered frame and the part of it that is wanted.
    pub delivered: ((u32, u32), Region),
    pub transparent: bool,
    pub filter: Filter,
    pub filter_radius: f64,
    pub lens: Lens,
    /// When the shutter opens and for how long, in frames.
    pub shutter: (f32, f32),
    pub limits: Limits,
    pub block: u32,
    pub judging: Judging,
    /// Side of the squares of the first look.
    pub first_pass: u32,
    pub seed: u32,
    /// Rays at the first hit: towards lights, and by surface kind.
    pub split_direct: u32,
    pub split: [u32; 3],
    pub depth: u32,
    /// Limits by kind: diffuse, reflection, transmission, volume.
    pub depths: [u32; 4],
    pub depth_transparent: u32,
    pub roulette_from: u32,
    pub caustics: [bool; 2],
    pub soften: f32,
    pub fill: bool,
    /// Limits of a sample's direct light and of its bounced light by kind; infinite without one.
    pub clamp_direct: f32,
    pub clamp: [f32; 4],
    pub environment: EnvironmentUse,
    pub shadow: (Shadow, f32),
    pub haze: Option<Medium>,
    pub parts: bool,
    pub view: View,
}

impl Settings {
    /// Clamps hold light of some part.
    pub fn clamps(&self) -> bool {
        self.clamp_direct.is_finite() || self.clamp.iter().any(|c| c.is_finite())
    }

    pub fn of(d: &Description) -> Result<Settings, Fault> {
        d.check()?;
        let t = &d.tuning;
        let limits = Limits::of(t);
        let judging = d.judging();
        let real = |k| t.real(k) as f32;
        let limit = |k| match t.real(k) {
            0.0 => f32::INFINITY,
            x => x as f32,
        };
        let haze = real(K::HazeDensity);
        let bright = real(K::HazeBrightness);
        Ok(Settings {
            strategy: Strategy::Both,
            frame: d.film_frame(),
            area: d.film_area(),
            delivered: (d.frame(), d.area()),
            transparent: t.switch(K::FrameTransparent),
            filter: filter_of(t.choice()),
            filter_radius: t.real(K::FrameFilterRadius),
            lens: Lens { aperture: real(K::FrameAperture) * 1e-3, focus: real(K::FrameFocus) },
            shutter: (real(K::FrameShutterStart), real(K::FrameShutter)),
            limits,
            block: judging.block,
            judging,
            first_pass: t.number(K::SamplingFirstPass),
            seed: t.whole(K::SamplingSeed),
            split_direct: t.whole(K::SplitDirect),
            split: [K::SplitDiffuse, K::SplitReflection, K::SplitTransmission].map(|k| t.whole(k)),
            depth: t.whole(K::DepthTotal),
            depths: [K::DepthDiffuse, K::DepthReflection, K::DepthTransmission, K::DepthVolume].map(|k| t.whole(k)),
            depth_transparent: t.whole(K::DepthTransparent),
            roulette_from: t.whole(K::RouletteFrom),
            caustics: [t.switch(K::CausticsReflected), t.switch(K::CausticsRefracted)],
            soften: real(K::PathsSoften),
            fill: t.switch(K::PathsFill),
            clamp_direct: limit(K::ClampDirect),
            clamp: [K::ClampDiffuse, K::ClampReflection, K::ClampTransmission, K::ClampVolume].map(limit),
            environment: EnvironmentUse {
                strength: real(K::EnvironmentStrength),
                rotation: real(K::EnvironmentRotation),
                width: t.number(K::EnvironmentWidth) as usize,
                light: t.switch(K::EnvironmentLight),
                reflection: t.switch(K::EnvironmentReflection),
                camera: t.switch(K::EnvironmentCamera),
            },
            shadow: (
                match t.choice() {
                    Shadows::Soft => Shadow::Soft,
                    Shadows::Hard => Shadow::Hard,
                    Shadows::None => Shadow::None,
                },
                real(K::LightsShadowStrength),
            ),
            haze: Medium::new(Vec3::splat(haze * bright), Vec3::splat(haze * (1.0 - bright)), real(K::HazeForward)),
            parts: d.keeps_parts(),
            view: d.view(),
        })
    }
}
