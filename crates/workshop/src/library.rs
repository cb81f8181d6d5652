//! Scenes and environments: taken in with a report, made ready for rays, kept while they are in use.

use crate::memory::Key;
use crate::testing::write_bytes;
use crate::{EnvironmentView, Event, SceneView, Workshop, parse};
use fault::{Code, Fault};
use scene::{Environment, ImportReport, load, read_glb};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use store::{EnvironmentRow, SceneRow, content};
use tracer::{Phase, Stage};

/// Hashes of scene and environment.
pub(crate) type StageKey = (String, Option<String>);

pub(crate) fn environment_view(r: EnvironmentRow) -> EnvironmentView {
    EnvironmentView { hash: r.hash, name: r.name, eight_bit: r.eight_bit }
}

impl Workshop {
    /// Takes a GLB in; nothing is left behind if it cannot be read.
    pub fn import_scene(&self, name: &str, bytes: &[u8]) -> Result<SceneView, Fault> {
        read_glb(bytes, name)?;
        let parcel = self.open_parcel()?;
        write_bytes(&self.parcel_file(parcel, "scene.glb")?, bytes)?;
        let named = name.trim_end_matches(".glb").to_string();
        let taken = self.take_parcel_as(parcel, Some(named))?;
        taken.scene.ok_or_else(|| Fault::internal("the scene is gone", name))
    }

    pub fn import_environment(&self, name: &str, bytes: &[u8]) -> Result<EnvironmentView, Fault> {
        let e = Environment::read(bytes, name)?;
        let parcel = self.open_parcel()?;
        let file = self.parcel_file(parcel, "environment")?;
        let kept = write_bytes(&file, bytes).and_then(|()| self.keep_environment(name, e, &file));
        self.drop_parcel(parcel);
        self.0.events.tell(Event::Shots);
        kept
    }

    /// Moves the file of an environment into its place.
    pub(crate) fn keep_environment(&self, name: &str, e: Environment, file: &Path) -> Result<EnvironmentView, Fault> {
        content::keep(file, &self.0.store.environment_file(&e.hash))?;
        let row = EnvironmentRow { hash: e.hash, name: name.into(), eight_bit: e.eight_bit };
        self.0.store.add_environment(&row)?;
        Ok(environment_view(row))
    }

    pub fn scenes(&self) -> Result<Vec<SceneView>, Fault> {
        let rows = self.0.store.scenes()?;
        rows.into_iter()
            .map(|r| Ok(SceneView { report: parse::<ImportReport>(&r.report, "scene")?, hash: r.hash, name: r.name }))
            .collect()
    }

    pub fn environments(&self) -> Result<Vec<EnvironmentView>, Fault> {
        let rows = self.0.store.environments()?;
        Ok(rows.into_iter().map(environment_view).collect())
    }

    /// The main file of a scene.
    pub(crate) fn scene_path(&self, hash: &str) -> Result<PathBuf, Fault> {
        let row = self.scene_row(hash)?;
        let folder = self.0.store.scene_folder(hash);
        // Data folders of the first version keep a GLB beside the folders.
        Ok(if row.file.is_empty() { folder.with_extension("glb") } else { folder.join(row.file) })
    }

    pub(crate) fn scene_row(&self, hash: &str) -> Result<SceneRow, Fault> {
        let row = self.0.store.scene(hash)?;
        row.ok_or_else(|| Fault::new(Code::NotFound, "there is no such scene", "scene", "import it first"))
    }

    pub(crate) fn import_report(&self, hash: &str) -> Result<ImportReport, Fault> {
        parse(&self.scene_row(hash)?.report, "scene")
    }

    /// The stage of a scene with its environment, from memory or made ready now; `tell` hears the phases.
    pub(crate) fn stage(&self, key: &StageKey, tell: &mut dyn FnMut(Phase)) -> Result<Arc<Stage>, Fault> {
        self.0.memory.get(&Key::Stage(key.0.clone(), key.1.clone()), || self.make_stage(key, tell))
    }

    fn make_stage(&self, key: &StageKey, tell: &mut dyn FnMut(Phase)) -> Result<Stage, Fault> {
        tell(Phase::Loading);
        let scene = Arc::new(load(&self.scene_path(&key.0)?)?);
        let environment = match &key.1 {
            Some(hash) => {
                let file = self.0.store.environment_file(hash);
                let place = format!("environment {hash}");
                let bytes = std::fs::read(&file).map_err(|e| Fault::io(place.clone(), &e))?;
                Some(Arc::new(Environment::read(&bytes, &place)?))
            }
            None => None,
        };
        tell(Phase::Structure);
        Ok(self.0.screen.install(|| Stage::new(scene, environment)))
    }
}
