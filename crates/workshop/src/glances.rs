//! Small rendered pictures of a scene's cameras, so that nobody renders from the wrong one. Made once and kept.

use crate::{Workshop, lock};
use fault::Fault;
use picture::View;
use picture::denoise::{CleanUp, Method, clean};
use picture::files::{PngForm, png, write_whole};
use std::sync::atomic::AtomicBool;
use tracer::{Description, Render, view_of};
use tuning::{K, Tuning};

const SIZE: (u32, u32) = (160, 100);
const SAMPLES: u32 = 8;

impl Workshop {
    /// A PNG of what a camera of a shot's scene sees, in the shot's own view and light.
    pub fn glance(&self, shot: i64, camera: &str) -> Result<Vec<u8>, Fault> {
        let row = self.0.store.shot(shot)?;
        let tuning = small(&self.tuning(shot)?);
        let view = view_of(&tuning);
        let d = Description::new(&row.scene, row.environment.as_deref(), camera, tuning);
        // Everything that the picture depends on is in its name.
        let text = crate::json(&d)?;
        let path = self.0.store.glance_file(&format!("{:016x}.png", hash(&text)));
        if let Ok(bytes) = std::fs::read(&path) {
            return Ok(bytes);
        }
        let _one_at_a_time = lock(&self.0.glancing);
        if let Ok(bytes) = std::fs::read(&path) {
            return Ok(bytes);
        }
        let stage = self.stage(&(d.scene.clone(), d.environment.clone()), &mut |_| {})?;
        let mut render = Render::new(stage, d, self.pool(), false)?;
        while render.step(&AtomicBool::new(false)) {}
        let plate = render.plate();
        let pixels = self.pool().install(|| clean(&plate, &CleanUp::with(Method::Quick, 1.0)));
        write_whole(&path, |out| png(out, &pixels, SIZE, &view, PngForm::PLAIN))?;
        std::fs::read(&path).map_err(|e| Fault::io(path.display().to_string(), &e))
    }
}

/// The shot's tuning at the size and the samples of a glance.
fn small(own: &Tuning) -> Tuning {
    let View { exposure, .. } = view_of(own);
    // Exposure changes while it is tuned: the nearest step will do.
    let exposure = exposure.round().clamp(-20.0, 20.0);
    Tuning::default()
        .with(K::FrameWidth, SIZE.0)
        .with(K::FrameHeight, SIZE.1)
        .with(K::SamplingAdaptive, false)
        .with(K::SamplingLeast, 2)
        .with(K::SamplingMost, SAMPLES)
        .with(K::DeliveryParts, false)
        .with(K::DepthTransmission, own.whole(K::DepthTransmission))
        .with(K::ViewExposure, exposure)
        .with(K::ViewTransform, own.name(K::ViewTransform))
        .with(K::ViewTable, own.whole(K::ViewTable))
        .with(K::EnvironmentStrength, own.real(K::EnvironmentStrength))
        .with(K::EnvironmentRotation, own.real(K::EnvironmentRotation))
}

/// FNV-1a, 64 bits: names files, keeps no secrets.
fn hash(text: &str) -> u64 {
    text.bytes().fold(0xcbf2_9ce4_8422_2325, |h, b| (h ^ b as u64).wrapping_mul(0x100_0000_01b3))
}
