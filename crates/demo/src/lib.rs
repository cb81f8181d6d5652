//! The Tarnfell Observatory: made-up scenes for trying the bench, built here and stored as GLB, with a sky as HDR.

mod cabinet;
mod desk;
mod dome;
mod glb;
mod mesh;
mod paint;
mod sky;
mod trials;

pub use cabinet::lens_cabinet;
pub use desk::eyepiece_desk;
pub use dome::dome_hall;
pub use sky::tarnfell_dusk;
pub use trials::denoiser_trials;

#[cfg(test)]
mod tests {
    /// The generator's files go through the same import as anybody's and lose nothing on the way.
    #[test]
    fn every_scene_is_read_without_loss() {
        for (name, glb) in
            [("desk", super::eyepiece_desk()), ("dome", super::dome_hall()), ("cabinet", super::lens_cabinet())]
        {
            let scene = scene::read_glb(&glb, name).unwrap();
            assert!(scene.report.entries.iter().all(|e| e.handling == scene::Handling::Read), "{:?}", scene.report);
            assert!(scene.triangles_seen() > 5_000 && scene.cameras.len() >= 2);
        }
        let sky = scene::Environment::read(&super::tarnfell_dusk(), "sky").unwrap();
        assert!(!sky.eight_bit && sky.pixels.iter().any(|p| p[0] > 50.0));
    }
}
