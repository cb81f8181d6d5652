//! The demo: the Tarnfell Observatory leaflet with its shots, a few proofs and a finished final, all really rendered.

use crate::{NewShot, NewTest, ProofChange, Workshop};
use fault::Fault;
use picture::Region;
use tuning::{K, Tuning};

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

fn shots() -> Vec<Prepared> {
    let base = |exposure: f64| {
        Tuning::default()
            .with(K::FrameWidth, 960)
            .with(K::FrameHeight, 600)
            .with(K::SamplingLeast, 16)
            .with(K::SamplingMost, 256)
            .with(K::SamplingThreshold, 0.02)
            .with(K::CleanupDenoise, "quick")
            .with(K::ViewTransform, "shoulder")
            .with(K::ViewExposure, exposure)
    };
    vec![
        Prepared {
            name: "Lens cabinet",
            file: "lens-cabinet.glb",
            camera: "Front",
            budget: 360.0,
            tuning: base(0.5).with(K::DepthTotal, 20).with(K::DepthTransmission, 20),
            region: Region { x: 304, y: 240, width: 224, height: 144 },
            region_name: "filters behind glass",
            note: "Filters keep their colour at 20 passages.",
        },
        Prepared {
            name: "Dome hall",
            file: "dome-hall.glb",
            camera: "From the stair",
            budget: 600.0,
            tuning: base(3.5).with(K::DepthDiffuse, 8),
            region: Region { x: 400, y: 224, width: 224, height: 160 },
            region_name: "mount and railing",
            note: "Nearly all light is indirect here.",
        },
        Prepared {
            name: "Eyepiece desk",
            file: "eyepiece-desk.glb",
            camera: "Desk, close",
            budget: 480.0,
            tuning: base(2.5),
            region: Region { x: 560, y: 224, width: 224, height: 192 },
            region_name: "lens foot",
            note: "Lamp sits too close to the wall.",
        },
    ]
}

impl Workshop {
    /// Builds scenes, shots, proofs and a final where the data folder has no shots yet; `say` hears what is done.
    pub fn prepare_demo(&self, say: &mut dyn FnMut(&str)) -> Result<(), Fault> {
        if !self.0.store.shots()?.is_empty() {
            return Ok(());
        }
        say("Preparing the Tarnfell demo, once: building scenes …");
        let sky = self.import_environment("tarnfell-dusk.hdr", &demo::tarnfell_dusk())?;
        for shot in shots() {
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
            let id = self.add_shot_with(&new, &shot.tuning)?;
            say(&format!("{}: rendering proofs …", shot.name));
            // A sketch of the whole, the same region at few samples and at more.
            self.demo_proof(id, &shot.tuning.clone().with(K::SamplingMost, 16), None, "first sketch", "")?;
            let few = shot.tuning.clone().with(K::SamplingMost, 16);
            self.demo_proof(id, &few, Some(shot.region), shot.region_name, "")?;
            let more = shot.tuning.clone().with(K::SamplingMost, 96);
            self.demo_proof(id, &more, Some(shot.region), shot.region_name, shot.note)?;
            self.revise_demo(id, &shot.tuning)?;
        }
        say("Lens cabinet: rendering a small final …");
        let first = self.0.store.shots()?.first().map(|s| s.id).unwrap_or(1);
        let own = self.tuning(first)?;
        let small = own
            .clone()
            .with(K::FrameWidth, 480)
            .with(K::FrameHeight, 300)
            .with(K::SamplingMost, 96)
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

    fn demo_proof(&self, shot: i64, tuning: &Tuning, region: Option<Region>, name: &str, note: &str) -> Result<(), Fault> {
        self.revise_demo(shot, tuning)?;
        let proof = self.start_test(shot, &NewTest { region })?;
        self.wait_for_test();
        let change = ProofChange { name: Some(name.into()), note: Some(note.into()), kept: Some(true) };
        self.change_proof(proof.id, &change).map(|_| ())
    }
}
