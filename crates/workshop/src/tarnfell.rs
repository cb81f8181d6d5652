//! The demo: the Tarnfell Observatory leaflet with its shots, a few proofs and a finished final, all really rendered.

use crate::{NewRegion, NewShot, NewTest, ProofChange, Workshop};
use fault::Fault;
use picture::Region;
use tuning::{K, Tuning};

/// How much is rendered to prepare the demo.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DemoSize {
    /// As an artist sees it: one to two minutes on two cores.
    Full,
    /// Small frames and few samples, for tests of everything around the pictures.
    Small,
}

impl DemoSize {
    /// Width and height of a frame, and the divisor of the sample counts.
    fn frame(self) -> (u32, u32, u32) {
        match self {
            DemoSize::Full => (720, 450, 1),
            DemoSize::Small => (320, 200, 4),
        }
    }
}

struct Prepared {
    name: &'static str,
    file: &'static str,
    camera: &'static str,
    budget: f64,
    tuning: Tuning,
    region: Region,
    region_name: &'static str,
    note: &'static str,
}

fn shots(size: DemoSize) -> Vec<Prepared> {
    let (width, height, _) = size.frame();
    let base = |exposure: f64| {
        Tuning::default()
            .with(K::FrameWidth, width)
            .with(K::FrameHeight, height)
            .with(K::SamplingThreshold, 0.02)
            .with(K::CleanupDenoise, "quick")
            .with(K::ViewTransform, "shoulder")
            .with(K::ViewExposure, exposure)
    };
    // Regions in hundredths of the frame.
    let region = |x: u32, y: u32, w: u32, h: u32| Region {
        x: x * width / 100,
        y: y * height / 100,
        width: w * width / 100,
        height: h * height / 100,
    };
    vec![
        Prepared {
            name: "Lens cabinet",
            file: "lens-cabinet.glb",
            camera: "Front",
            budget: 180.0,
            tuning: base(1.0).with(K::DepthTotal, 20).with(K::DepthTransmission, 20),
            region: region(30, 36, 24, 26),
            region_name: "filters behind glass",
            note: "Filters keep their colour at 20 passages.",
        },
        Prepared {
            name: "Dome hall",
            file: "dome-hall.glb",
            camera: "From the stair",
            budget: 720.0,
            // A little dust in the air under the dome.
            tuning: base(4.3)
                .with(K::DepthDiffuse, 8)
                .with(K::DepthVolume, 1)
                .with(K::HazeDensity, 0.03)
                .with(K::HazeForward, 0.5),
            region: region(42, 36, 22, 28),
            region_name: "mount and railing",
            note: "Nearly all light is indirect here.",
        },
        Prepared {
            name: "Eyepiece desk",
            file: "eyepiece-desk.glb",
            camera: "Desk, close",
            budget: 420.0,
            // Sharp on the large lens and the eyepieces before it.
            tuning: base(3.0).with(K::FrameAperture, 16.0).with(K::FrameFocus, 0.85),
            region: region(58, 36, 24, 34),
            region_name: "lens foot",
            note: "Lamp sits too close to the wall.",
        },
    ]
}

impl Workshop {
    /// Builds scenes, shots, proofs and a final where the data folder has no shots yet; `say` hears what is done.
    pub fn prepare_demo(&self, size: DemoSize, say: &mut dyn FnMut(&str)) -> Result<(), Fault> {
        if !self.0.store.shots()?.is_empty() {
            return Ok(());
        }
        let (width, height, divisor) = size.frame();
        say("Preparing the Tarnfell demo, once: building scenes …");
        let sky = self.import_environment("tarnfell-dusk.hdr", &demo::tarnfell_dusk())?;
        for shot in shots(size) {
            let glb = match shot.file {
                "eyepiece-desk.glb" => demo::eyepiece_desk(),
                "dome-hall.glb" => demo::dome_hall(),
                _ => demo::lens_cabinet(),
            };
            let scene = self.import_scene(shot.file, &glb)?;
            let new = NewShot {
                name: shot.name.into(),
                scene: scene.hash,
                environment: Some(sky.hash.clone()),
                camera: Some(shot.camera.into()),
                budget: shot.budget,
            };
            let id = self.add_shot_with(&new, &shot.tuning, &Default::default())?;
            self.add_region(id, &NewRegion { name: shot.region_name.into(), region: shot.region })?;
            say(&format!("{}: rendering proofs …", shot.name));
            // A sketch of the whole, the same region at few samples and at more.
            self.demo_proof(
                id,
                &shot.tuning.clone().with(K::SamplingMost, 6 / divisor.min(3)).with(K::SamplingLeast, 2),
                None,
                "first sketch",
                "",
            )?;
            let few = shot.tuning.clone().with(K::SamplingMost, 12 / divisor).with(K::SamplingLeast, 2);
            self.demo_proof(id, &few, Some(shot.region), shot.region_name, "")?;
            let more = shot.tuning.clone().with(K::SamplingMost, 32 / divisor).with(K::SamplingLeast, 8);
            self.demo_proof(id, &more, Some(shot.region), shot.region_name, shot.note)?;
            self.revise_demo(id, &shot.tuning)?;
        }
        say("Lens cabinet: rendering a small final …");
        let first = self.0.store.shots()?.first().map(|s| s.id).unwrap_or(1);
        let own = self.tuning(first)?;
        let small = own
            .clone()
            .with(K::FrameWidth, width / 2)
            .with(K::FrameHeight, height / 2)
            .with(K::SamplingMost, 96 / divisor)
            .with(K::SamplingLeast, 8)
            .with(K::SamplingThreshold, 0.03);
        self.revise_demo(first, &small)?;
        self.add_final(first)?;
        self.wait_for_finals()?;
        self.revise_demo(first, &own)
    }

    fn revise_demo(&self, shot: i64, tuning: &Tuning) -> Result<(), Fault> {
        if self.tuning(shot)? != *tuning {
            self.change_shot(shot, &crate::ShotChange { tuning: crate::shots::values(tuning), ..Default::default() })?;
        }
        Ok(())
    }

    fn demo_proof(
        &self,
        shot: i64,
        tuning: &Tuning,
        region: Option<Region>,
        name: &str,
        note: &str,
    ) -> Result<(), Fault> {
        self.revise_demo(shot, tuning)?;
        let proof = self.start_test(shot, &NewTest { region, live: false })?;
        self.wait_for_test();
        let change = ProofChange { name: Some(name.into()), note: Some(note.into()), kept: Some(true), star: None };
        self.change_proof(proof, &change).map(|_| ())
    }
}
