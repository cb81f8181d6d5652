//! What a description adds to a stage: lights with their edits, media and haze.

use crate::description::Settings;
use crate::gather::{EMISSION, ENVIRONMENT, PARTS};
use crate::layout::Keep;
use crate::lights::Lights;
use crate::medium::{Haze, Medium};
use crate::stage::Stage;
use fault::Fault;
use glam::Vec3;
use scene::{Material, ShotEdits};

pub struct Arrangement {
    pub lights: Lights,
    /// Inside of each material, if there is a medium.
    pub media: Vec<Option<Medium>>,
    pub haze: Option<Haze>,
    pub keep: Keep,
}

impl Arrangement {
    pub fn new(stage: &Stage, settings: &Settings, edits: &ShotEdits) -> Result<Arrangement, Fault> {
        let scene = &stage.scene;
        edits.check(scene)?;
        let environment = stage.environment.as_ref().map(|e| (e, &stage.skies));
        let lights = Lights::new(scene, environment, settings.environment, edits, settings.shadow);
        let media: Vec<Option<Medium>> = scene
            .materials
            .iter()
            .map(|m| {
                let edit = edits.media.get(&m.name);
                let scattering = edit.map_or(Vec3::ZERO, |e| Vec3::from_array(e.scattering));
                let more = edit.map_or(Vec3::ZERO, |e| Vec3::from_array(e.absorption));
                Medium::new(scattering, absorption(m) + more, edit.map_or(0.0, |e| e.forward))
            })
            .collect();
        let (lo, hi) = scene.bounds();
        // Cameras stand in the haze too.
        let centre = 0.5 * (lo + hi);
        let far = |p: Vec3| (p - centre).length();
        let cameras = scene.cameras.iter().map(|c| far(c.to_world.w_axis.truncate()));
        let radius = cameras.fold(far(hi), f32::max) * 1.01;
        let haze = settings.haze.map(|medium| Haze { medium, centre, radius });
        let scatters = |m: &Option<Medium>| m.as_ref().is_some_and(Medium::scatters);
        let occurs = [
            true,
            true,
            scene.materials.iter().any(|m| m.transmission > 0.0),
            haze.as_ref().is_some_and(|h| h.medium.scatters()) || media.iter().any(scatters),
        ];
        let parts = (0..PARTS).filter(|p| match *p {
            EMISSION => true,
            ENVIRONMENT => lights.environment().is_some(),
            p => occurs[(p - 2) / 2],
        });
        let keep = Keep { parts: parts.collect(), groups: lights.groups.clone() };
        Ok(Arrangement { lights, media, haze, keep })
    }
}

/// Absorption per metre by the law of Beer and Lambert, from the colour that is left after the given distance.
fn absorption(m: &Material) -> Vec3 {
    if !m.solid || !m.attenuation_distance.is_finite() || m.attenuation_distance <= 0.0 {
        return Vec3::ZERO;
    }
    let left = m.attenuation_colour.clamp(Vec3::splat(1e-6), Vec3::ONE);
    Vec3::new(-left.x.ln(), -left.y.ln(), -left.z.ln()) / m.attenuation_distance
}
