//! A shot as one file: a ZIP archive with `shot.json`, the scene's files, the environment, the presets and the kept proofs with
//! their samples. `shot.json` alone, beside its scene, does as well.

use crate::finals::free_disk;
use crate::parcels::list;
use crate::saved::has_samples;
use crate::shots::{check_budget, check_name};
use crate::testing::folder_bytes;
use crate::{Circumstances, Event, NewShot, Values, Workshop, json, parse};
use fault::{Code, Fault};
use scene::ShotEdits;
use serde::{Deserialize, Serialize};
use std::io::{Read, Seek, Write};
use std::path::{Component, Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use store::{NewProofRow, PartialRow, ProofKind, ProofState};
use tracer::{Description, RenderReport};
use tuning::{K, PartialKind, Tuning, ViewBy, understood};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipArchive, ZipWriter};

/// Form of `shot.json`; another number is refused.
const FORM: u32 = 1;
/// Bytes that an archive may unpack to.
const MOST_BYTES: u64 = 64 << 30;
const MAIN: &str = "shot.json";

/// `shot.json`. Paths are relative to it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct ShotExport {
    pub form: u32,
    pub name: String,
    /// Main file of the scene.
    pub scene: String,
    #[serde(default)]
    pub environment: Option<String>,
    /// Table of the view.
    #[serde(default)]
    pub table: Option<String>,
    pub camera: String,
    /// Seconds of render time.
    pub budget: f64,
    /// Knobs by id; those that are missing have their default.
    pub tuning: Values,
    #[serde(default)]
    pub edits: ShotEdits,
    #[serde(default)]
    pub presets: Vec<PresetExport>,
    #[serde(default)]
    pub proofs: Vec<ProofExport>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct PresetExport {
    pub name: String,
    pub note: String,
    pub values: Values,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct ProofExport {
    /// Folder with its film and small picture.
    pub folder: String,
    pub name: String,
    pub note: String,
    pub kind: ProofKind,
    pub state: ProofState,
    pub star: bool,
    pub description: Description,
    pub report: Option<RenderReport>,
    pub circumstances: Option<Circumstances>,
}

fn damaged(what: impl Into<String>, place: &str) -> Fault {
    Fault::new(Code::Damaged, what, place, "export the shot again, or choose another file")
}

fn zipped(e: zip::result::ZipError, place: &str) -> Fault {
    damaged(format!("the archive cannot be read or written: {e}"), place)
}

impl Workshop {
    /// Writes a shot with everything that belongs to it.
    pub fn export_shot(&self, shot: i64, out: impl Write + Seek) -> Result<(), Fault> {
        let row = self.0.store.shot(shot)?;
        let mut zip = ZipWriter::new(out);
        // Films hardly shrink.
        let plain = SimpleFileOptions::default().compression_method(CompressionMethod::Stored).large_file(true);
        let mut put = |name: &str, from: &Path| -> Result<(), Fault> {
            zip.start_file(name, plain).map_err(|e| zipped(e, name))?;
            let mut file = std::fs::File::open(from).map_err(|e| Fault::io(name, &e))?;
            std::io::copy(&mut file, &mut zip).map_err(|e| Fault::io(name, &e))?;
            Ok(())
        };
        let main = self.scene_path(&row.scene)?;
        let folder = self.0.store.scene_folder(&row.scene);
        let mut files = Vec::new();
        if folder.is_dir() {
            list(&folder, &mut files)
        } else {
            files.push(main.clone())
        }
        files.sort();
        let inside = |f: &Path| {
            let relative = f.strip_prefix(&folder).unwrap_or_else(|_| Path::new(f.file_name().unwrap_or_default()));
            format!("scene/{}", relative.to_string_lossy().replace('\\', "/"))
        };
        for f in &files {
            put(&inside(f), f)?;
        }
        let environment = match &row.environment {
            Some(hash) => {
                let name = self.0.store.environment(hash)?.map(|e| e.name);
                let path =
                    format!("environment/{}", name.unwrap_or_else(|| "environment.hdr".into()).replace('/', "-"));
                put(&path, &self.0.store.environment_file(hash))?;
                Some(path)
            }
            None => None,
        };
        let own = self.tuning(shot)?;
        let table = match own.choice() {
            ViewBy::Table => {
                let path = "view.cube".to_string();
                put(&path, &self.table_file(own.whole(K::ViewTable)))?;
                Some(path)
            }
            ViewBy::Srgb | ViewBy::Shoulder => None,
        };
        let mut proofs = Vec::new();
        for p in self.0.store.proofs(shot)?.into_iter().rev().filter(|p| p.kept && p.kind != ProofKind::Picture) {
            let folder = format!("proofs/{:04}", p.number);
            let mut files = Vec::new();
            list(&self.0.store.proof_folder(p.id), &mut files);
            files.retain(|f| is_whole(f));
            for f in &files {
                put(&format!("{folder}/{}", f.file_name().unwrap_or_default().to_string_lossy()), f)?;
            }
            proofs.push(ProofExport {
                folder,
                description: parse(&p.description, "proof")?,
                report: p.report.as_deref().map(|t| parse(t, "proof")).transpose()?,
                circumstances: p.circumstances.as_deref().map(|t| parse(t, "proof")).transpose()?,
                name: p.name,
                note: p.note,
                kind: p.kind,
                state: p.state,
                star: p.star,
            });
        }
        let made = |p: &PartialRow| p.kind == "preset" && !p.shipped;
        let presets = self
            .0
            .store
            .partials()?
            .into_iter()
            .filter(made)
            .map(|p| Ok(PresetExport { values: parse(&p.chosen, "preset")?, name: p.name, note: p.note }));
        let export = ShotExport {
            form: FORM,
            name: row.name,
            scene: inside(&main),
            environment,
            table,
            camera: row.camera,
            budget: row.budget,
            tuning: crate::shots::values(&own),
            edits: parse(&row.edits, "shot edits")?,
            presets: presets.collect::<Result<_, Fault>>()?,
            proofs,
        };
        zip.start_file(MAIN, plain).map_err(|e| zipped(e, MAIN))?;
        let text = serde_json::to_vec_pretty(&export).map_err(|e| Fault::internal(e.to_string(), MAIN))?;
        zip.write_all(&text).map_err(|e| Fault::io(MAIN, &e))?;
        zip.finish().map_err(|e| zipped(e, MAIN))?;
        Ok(())
    }

    /// A file without a name, gone when it is closed.
    pub fn working_file(&self) -> Result<std::fs::File, Fault> {
        static NEXT: AtomicU64 = AtomicU64::new(1);
        let path = self.0.store.incoming().join(format!("export-{}", NEXT.fetch_add(1, Ordering::Relaxed)));
        let open = || {
            let file = std::fs::File::options().read(true).write(true).create(true).truncate(true).open(&path)?;
            std::fs::remove_file(&path)?;
            Ok(file)
        };
        open().map_err(|e: std::io::Error| Fault::io(path.display().to_string(), &e))
    }

    /// Takes in an archive, or a `shot.json` that lies beside its scene; the new shot.
    pub fn import_shot(&self, file: &Path) -> Result<i64, Fault> {
        let place = file.display().to_string();
        let is_json = file.extension().is_some_and(|e| e.eq_ignore_ascii_case("json"));
        if is_json {
            let folder = file.parent().unwrap_or(Path::new(".")).to_path_buf();
            let text = std::fs::read_to_string(file).map_err(|e| Fault::io(place.clone(), &e))?;
            return self.take_shot(&text, &folder, &place);
        }
        let parcel = self.open_parcel()?;
        let folder = self.parcel_file(parcel, MAIN)?.parent().unwrap_or(Path::new(".")).to_path_buf();
        let taken = unpack(file, &folder, &place).and_then(|()| {
            let text = std::fs::read_to_string(folder.join(MAIN))
                .map_err(|_| damaged("the archive has no shot.json", &place))?;
            self.take_shot(&text, &folder, &place)
        });
        self.drop_parcel(parcel);
        taken
    }

    fn take_shot(&self, text: &str, folder: &Path, place: &str) -> Result<i64, Fault> {
        let export: ShotExport =
            serde_json::from_str(text).map_err(|e| damaged(format!("this is no shot: {e}"), place))?;
        if export.form != FORM {
            let what = format!("the shot has form {}, this version reads form {FORM}", export.form);
            return Err(Fault::new(Code::Unsupported, what, place, "use the version of the program that wrote it"));
        }
        let scene_file = below(folder, &export.scene, place)?;
        // All of it is looked at before any of it is taken in.
        let tuning = Tuning::default().changed(&export.tuning).map_err(|f| f.within(place))?;
        check_name(&export.name)?;
        check_budget(export.budget)?;
        let paths = export.environment.iter().chain(&export.table);
        for path in paths.map(|p| below(folder, p, place)).chain([Ok(scene_file.clone())]) {
            let path = path?;
            if !path.is_file() {
                return Err(damaged(
                    format!("{} is missing", path.strip_prefix(folder).unwrap_or(&path).display()),
                    place,
                ));
            }
        }
        for p in &export.proofs {
            check_proof(p, folder, place)?;
        }
        let parcel = self.open_parcel()?;
        let beside = scene_file.parent().unwrap_or(folder);
        let copied = (|| {
            let mut files = Vec::new();
            // A single GLB stands for itself; other scenes come with what lies beside them.
            if scene_file.extension().is_some_and(|e| e.eq_ignore_ascii_case("glb")) {
                files.push(scene_file.clone());
            } else {
                list(beside, &mut files);
            }
            for f in &files {
                let name = f.strip_prefix(beside).unwrap_or(f).to_string_lossy().into_owned();
                let to = self.parcel_file(parcel, &name)?;
                std::fs::copy(f, to).map_err(|e| Fault::io(f.display().to_string(), &e))?;
            }
            self.take_parcel(parcel)
        })();
        self.drop_parcel(parcel);
        let scene = copied?.scene.ok_or_else(|| damaged("the scene cannot be found", &export.scene))?;
        let environment = match &export.environment {
            Some(name) => {
                let path = below(folder, name, place)?;
                let bytes = std::fs::read(&path).map_err(|e| Fault::io(path.display().to_string(), &e))?;
                let title = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
                Some(self.import_environment(&title, &bytes)?.hash)
            }
            None => None,
        };
        if let Some(name) = &export.table {
            let path = below(folder, name, place)?;
            let bytes = std::fs::read(&path).map_err(|e| Fault::io(path.display().to_string(), &e))?;
            self.add_table(name, &bytes)?;
        }
        let row = self.new_shot(
            &NewShot {
                name: export.name.clone(),
                scene: scene.hash,
                environment,
                camera: Some(export.camera.clone()),
                budget: export.budget,
            },
            &export.edits,
        )?;
        let text = |p: &ProofExport| -> Result<[Option<String>; 3], Fault> {
            let (report, circumstances) = (p.report.as_ref().map(json), p.circumstances.as_ref().map(json));
            Ok([Some(json(&p.description)?), report.transpose()?, circumstances.transpose()?])
        };
        let texts: Vec<[Option<String>; 3]> = export.proofs.iter().map(text).collect::<Result<_, _>>()?;
        let folders: Vec<PathBuf> =
            export.proofs.iter().map(|p| below(folder, &p.folder, place)).collect::<Result<_, _>>()?;
        let proofs: Vec<NewProofRow> = export
            .proofs
            .iter()
            .zip(texts)
            .zip(&folders)
            .map(|((p, [description, report, circumstances]), folder)| NewProofRow {
                kind: p.kind,
                state: p.state,
                description: description.unwrap_or_default(),
                report,
                circumstances,
                bytes: folder_bytes(folder),
                name: p.name.clone(),
                note: p.note.clone(),
                star: p.star,
            })
            .collect();
        // Rows and files come together or not at all.
        let shot = self.0.store.add_shot_whole(&row, &json(&tuning)?, &proofs, |k, to| copy_files(&folders[k], to))?;
        let known = self.0.store.partials()?;
        for p in &export.presets {
            if known.iter().any(|k| k.name == p.name && k.kind == "preset") {
                continue;
            }
            let (values, _) = understood(&p.values);
            let partial =
                tuning::Partial { kind: PartialKind::Preset, name: p.name.clone(), note: p.note.clone(), values };
            self.0.store.add_partial(&crate::partials::row_of(&partial, false)?)?;
        }
        self.0.events.tell(Event::Shots);
        self.0.events.tell(Event::Partials);
        Ok(shot)
    }
}

/// Whether a file is one that was written to its end.
fn is_whole(f: &Path) -> bool {
    f.extension().is_none_or(|e| e != "part")
}

/// Refuses a proof that could not be shown: pictures from elsewhere name files of their own.
fn check_proof(p: &ProofExport, folder: &Path, place: &str) -> Result<(), Fault> {
    let wrong = |what: String| Err(damaged(format!("the proof \"{}\" {what}", p.folder), place));
    if p.kind == ProofKind::Picture || p.state == ProofState::Running {
        return wrong(format!("is a {} that is {}", p.kind.word(), p.state.word()));
    }
    if let Err(f) = p.description.check() {
        return wrong(format!("has a description that cannot be: {}", f.what));
    }
    let files = below(folder, &p.folder, place)?;
    if !has_samples(&files) || p.report.is_none() {
        return wrong("has no samples".into());
    }
    Ok(())
}

fn copy_files(from: &Path, to: &Path) -> Result<(), Fault> {
    std::fs::create_dir_all(to).map_err(|e| Fault::io(to.display().to_string(), &e))?;
    let mut files = Vec::new();
    list(from, &mut files);
    for f in files.iter().filter(|f| is_whole(f)) {
        let name = f.file_name().unwrap_or_default();
        std::fs::copy(f, to.join(name)).map_err(|e| Fault::io(f.display().to_string(), &e))?;
    }
    Ok(())
}

/// A path inside a folder; never one that leads out.
fn below(folder: &Path, name: &str, place: &str) -> Result<PathBuf, Fault> {
    let path = Path::new(name);
    if name.is_empty() || !path.components().all(|c| matches!(c, Component::Normal(_))) {
        return Err(damaged(format!("\"{name}\" leads out of the archive"), place));
    }
    Ok(folder.join(path))
}

fn unpack(file: &Path, folder: &Path, place: &str) -> Result<(), Fault> {
    let archive = std::fs::File::open(file).map_err(|e| Fault::io(place, &e))?;
    let mut zip = ZipArchive::new(archive).map_err(|e| zipped(e, place))?;
    let mut left = MOST_BYTES;
    let sizes = (0..zip.len()).map(|i| zip.by_index_raw(i).map(|e| e.size()));
    let size = sizes.sum::<Result<u64, _>>().map_err(|e| zipped(e, place))?;
    if free_disk(folder).is_some_and(|free| size as f64 > free) {
        let what = format!("the archive needs {:.1} GB, and there is less room", size as f64 * 1e-9);
        return Err(Fault::new(Code::TooLarge, what, place, "free some space on the disk, then try again"));
    }
    for i in 0..zip.len() {
        let mut entry = zip.by_index(i).map_err(|e| zipped(e, place))?;
        if !entry.is_file() {
            continue;
        }
        let name = entry.name().to_string();
        let inside =
            entry.enclosed_name().ok_or_else(|| damaged(format!("\"{name}\" leads out of the archive"), place))?;
        let to = folder.join(inside);
        if let Some(parent) = to.parent() {
            std::fs::create_dir_all(parent).map_err(|e| Fault::io(name.clone(), &e))?;
        }
        let mut out = std::fs::File::create(&to).map_err(|e| Fault::io(name.clone(), &e))?;
        let written = std::io::copy(&mut entry.by_ref().take(left), &mut out)
            .map_err(|e| damaged(format!("{name} is damaged: {e}"), place))?;
        left -= written;
        if left == 0 {
            return Err(Fault::new(
                Code::TooLarge,
                "the archive unpacks to more than 64 GB",
                place,
                "export fewer proofs",
            ));
        }
    }
    Ok(())
}
