//! Parcels: files that arrive together, such as a glTF scene with its textures. They are gathered in a folder of their own and
//! become a scene and environments when all are there; whatever fails leaves nothing behind.

use crate::{Event, Parcel, SceneView, Workshop, json, lock};
use fault::{Code, Fault};
use scene::{Environment, load};
use std::path::{Component, Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use store::{SceneRow, content};

/// A parcel into which nothing has come for so long is not waited for.
const FORGOTTEN: Duration = Duration::from_secs(3600);

static NEXT: AtomicU64 = AtomicU64::new(1);

fn ending(path: &Path) -> String {
    path.extension().and_then(|e| e.to_str()).unwrap_or("").to_ascii_lowercase()
}

impl Workshop {
    /// Opens a parcel; its number. Older ones that nobody took in go.
    pub fn open_parcel(&self) -> Result<u64, Fault> {
        self.drop_forgotten();
        let id = NEXT.fetch_add(1, Ordering::Relaxed);
        let folder = self.parcel_folder(id);
        std::fs::create_dir_all(&folder).map_err(|e| Fault::io(folder.display().to_string(), &e))?;
        Ok(id)
    }

    fn parcel_folder(&self, id: u64) -> PathBuf {
        self.0.store.incoming().join(id.to_string())
    }

    /// Where a file of a parcel belongs; `name` may hold folders, never ones that lead out.
    pub fn parcel_file(&self, id: u64, name: &str) -> Result<PathBuf, Fault> {
        let folder = self.parcel_folder(id);
        if !folder.is_dir() {
            return Err(Fault::new(Code::NotFound, "there is no such parcel", "parcel", "begin the import again"));
        }
        let relative = name.replace('\\', "/");
        let path = Path::new(&relative);
        let plain = path.components().all(|c| matches!(c, Component::Normal(_)));
        if !plain || relative.is_empty() || relative.contains('\0') || relative.len() > 400 {
            let shown: String = name.chars().filter(|c| !c.is_control()).take(80).collect();
            let remedy = "keep all files in the scene's folder";
            return Err(Fault::new(Code::OutOfRange, "the name leads out of the parcel", shown, remedy));
        }
        let file = folder.join(path);
        if let Some(parent) = file.parent() {
            std::fs::create_dir_all(parent).map_err(|e| Fault::io(name, &e))?;
        }
        Ok(file)
    }

    /// Removes parcels into which nothing has come for an hour.
    pub(crate) fn drop_forgotten(&self) {
        for entry in std::fs::read_dir(self.0.store.incoming()).into_iter().flatten().flatten() {
            let mut files = vec![entry.path()];
            list(&entry.path(), &mut files);
            let age = |f: &PathBuf| std::fs::metadata(f).and_then(|m| m.modified()).ok()?.elapsed().ok();
            if files.iter().filter_map(age).min().is_some_and(|youngest| youngest > FORGOTTEN) {
                let _ = std::fs::remove_dir_all(entry.path());
            }
        }
    }

    pub fn drop_parcel(&self, id: u64) {
        let _ = std::fs::remove_dir_all(self.parcel_folder(id));
    }

    /// Takes a parcel in: its scene, if it holds one, and its environments.
    pub fn take_parcel(&self, id: u64) -> Result<Parcel, Fault> {
        self.take_parcel_as(id, None)
    }

    /// The same with a name for the scene; that of its file without.
    pub(crate) fn take_parcel_as(&self, id: u64, title: Option<String>) -> Result<Parcel, Fault> {
        let _one_at_a_time = lock(&self.0.taking);
        let taken = self.unpack(id, title);
        self.drop_parcel(id);
        taken
    }

    fn unpack(&self, id: u64, title: Option<String>) -> Result<Parcel, Fault> {
        let folder = self.parcel_folder(id);
        let mut files = Vec::new();
        list(&folder, &mut files);
        files.sort();
        let mains: Vec<&PathBuf> =
            files.iter().filter(|f| matches!(ending(f).as_str(), "glb" | "gltf" | "obj")).collect();
        let name = |f: &Path| f.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        if mains.len() > 1 {
            let names: Vec<String> = mains.iter().map(|f| name(f)).collect();
            let what = format!("{} scenes came together: {}", mains.len(), names.join(", "));
            return Err(Fault::new(Code::Contradiction, what, "import", "give one scene with its own files at a time"));
        }
        let mut parcel = Parcel { scene: None, environments: Vec::new() };
        // Pictures beside a scene are its textures.
        let skies = files.iter().filter(|f| match ending(f).as_str() {
            "hdr" | "exr" => true,
            "png" | "jpg" | "jpeg" | "tif" | "tiff" => mains.is_empty(),
            _ => false,
        });
        for sky in skies {
            let bytes = std::fs::read(sky).map_err(|e| Fault::io(name(sky), &e))?;
            let e = Environment::read(&bytes, &name(sky))?;
            drop(bytes);
            // Beside a scene it stays among the scene's files too, where that names it.
            let copy = sky.with_extension("environment");
            std::fs::copy(sky, &copy).map_err(|e| Fault::io(name(sky), &e))?;
            let kept = self.keep_environment(&name(sky), e, &copy);
            let _ = std::fs::remove_file(&copy);
            parcel.environments.push(kept?);
        }
        if let Some(main) = mains.first() {
            let shown = name(main);
            // Messages name the file as it was given, not where it lies meanwhile.
            let plain = |f: Fault| {
                let prefix = format!("{}/", folder.display());
                Fault { place: f.place.replace(&prefix, ""), what: f.what.replace(&prefix, ""), ..f }
            };
            let scene = load(main).map_err(plain)?;
            let to = self.0.store.scene_folder(&scene.hash);
            let file = main.strip_prefix(&folder).unwrap_or(main).to_string_lossy().into_owned();
            let own = main.file_stem().map(|n| n.to_string_lossy().into_owned()).unwrap_or(shown);
            let title = title.unwrap_or(own);
            // The same scene may have come before under another name: its files stay as they are.
            let file = match self.scene_path(&scene.hash) {
                Ok(there) if there.is_file() => self.scene_row(&scene.hash)?.file,
                // What nothing refers to, or what is not whole, makes way.
                _ => {
                    let _ = std::fs::remove_dir_all(&to);
                    file
                }
            };
            let made = content::keep(&folder, &to)?;
            let row = SceneRow { hash: scene.hash.clone(), name: title.clone(), report: json(&scene.report)?, file };
            if let Err(f) = self.0.store.add_scene(&row) {
                // Nothing refers to what has just come; what was there is in use.
                if made {
                    let _ = std::fs::remove_dir_all(&to);
                }
                return Err(f);
            }
            parcel.scene = Some(SceneView { hash: scene.hash, name: title, report: scene.report });
        }
        if parcel.scene.is_none() && parcel.environments.is_empty() {
            return Err(Fault::new(
                Code::Unsupported,
                "neither a scene nor an environment is among the files",
                files.first().map(|f| name(f)).unwrap_or_else(|| "import".into()),
                "give .glb, .gltf with its files, .obj with its .mtl, .hdr or .exr",
            ));
        }
        self.0.events.tell(Event::Shots);
        Ok(parcel)
    }
}

/// All files below a folder.
pub(crate) fn list(folder: &Path, into: &mut Vec<PathBuf>) {
    for e in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        match e.file_type() {
            Ok(t) if t.is_dir() => list(&e.path(), into),
            Ok(t) if t.is_file() => into.push(e.path()),
            _ => {}
        }
    }
}
