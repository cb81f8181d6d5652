//! Import of glTF 2.0 (.glb, .gltf) and Wavefront OBJ with MTL. Hostile files get a typed error: every offset is checked,
//! the node graph is walked with a limit, sizes are limited before anything is allocated, and files beside a scene are
//! read only from its own folder.

mod attributes;
mod builder;
mod gltf;
mod gltf_material;
mod obj;
mod pictures;

use crate::Scene;
use fault::{Code, Fault};
use std::path::{Path, PathBuf};

pub const MOST_FILE_BYTES: u64 = 1 << 30;
pub const MOST_TRIANGLES: usize = 20_000_000;
/// Bytes of all decoded textures together.
pub const MOST_TEXTURE_BYTES: u64 = 4 << 30;

/// Reads a .glb, .gltf or .obj file with what it refers to.
pub fn load(path: &Path) -> Result<Scene, Fault> {
    let place = path.display().to_string();
    let bytes = read_file(path)?;
    let mut beside =
        Beside { folder: path.parent().unwrap_or(Path::new(".")).to_path_buf(), read: blake3::Hasher::new() };
    beside.read.update(&bytes);
    let ending = path.extension().and_then(|e| e.to_str()).map(str::to_ascii_lowercase);
    let mut scene = match ending.as_deref() {
        Some("obj") => guarded(&place, || obj::read(&bytes, &place, &mut beside))?,
        Some("glb" | "gltf") => guarded(&place, || gltf::read(&bytes, &place, Some(&mut beside)))?,
        _ => {
            let what = "this kind of scene is not read";
            return Err(Fault::new(Code::Unsupported, what, place, "give a .glb, .gltf or .obj file"));
        }
    };
    scene.hash = beside.read.finalize().to_hex().to_string();
    Ok(scene)
}

/// Reads a GLB from memory; `file` is its name for messages.
pub fn read_glb(bytes: &[u8], file: &str) -> Result<Scene, Fault> {
    let mut scene = guarded(file, || gltf::read(bytes, file, None))?;
    scene.hash = blake3::hash(bytes).to_hex().to_string();
    Ok(scene)
}

/// The glTF library checks most of a description before it is used; what it trusts and should not ends here.
fn guarded(file: &str, read: impl FnOnce() -> Result<Scene, Fault>) -> Result<Scene, Fault> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(read)).unwrap_or_else(|p| {
        Err(Fault::new(
            Code::Damaged,
            format!("the description of the scene contradicts itself: {}", fault::panic_text(&*p)),
            file,
            "export the scene again",
        ))
    })
}

fn read_file(path: &Path) -> Result<Vec<u8>, Fault> {
    let place = path.display().to_string();
    let io = |e: std::io::Error| Fault::io(place.clone(), &e);
    let length = std::fs::metadata(path).map_err(io)?.len();
    if length > MOST_FILE_BYTES {
        return Err(Fault::new(
            Code::TooLarge,
            format!("the file has {length} bytes"),
            place,
            format!("give a file of at most {MOST_FILE_BYTES} bytes"),
        ));
    }
    std::fs::read(path).map_err(io)
}

/// The files beside a scene.
struct Beside {
    folder: PathBuf,
    /// Hash of everything read so far.
    read: blake3::Hasher,
}

impl Beside {
    /// Reads a file by the relative address that a scene gives; one that leads out of the scene's folder is refused.
    fn get(&mut self, uri: &str) -> Result<Vec<u8>, Fault> {
        let shown: String = uri.chars().take(80).collect();
        let refuse =
            |what: &str| Err(Fault::new(Code::OutOfRange, what, shown.clone(), "keep all files in the scene's folder"));
        let relative = percent_decoded(uri).replace('\\', "/");
        let path = Path::new(&relative);
        let plain = |c| matches!(c, std::path::Component::Normal(_) | std::path::Component::CurDir);
        if relative.contains(':') || relative.contains('\0') || !path.components().all(plain) {
            return refuse("the address leads out of the scene's folder");
        }
        let file = self.folder.join(path);
        let inside = |p: &Path| p.canonicalize().map_err(|e| Fault::io(shown.clone(), &e));
        if !inside(&file)?.starts_with(inside(if self.folder.as_os_str().is_empty() {
            Path::new(".")
        } else {
            &self.folder
        })?) {
            return refuse("the address leads out of the scene's folder by a link");
        }
        let bytes = read_file(&file)?;
        self.read.update(&bytes);
        Ok(bytes)
    }
}

fn percent_decoded(uri: &str) -> String {
    let bytes = uri.as_bytes();
    let mut out = Vec::with_capacity(bytes.len());
    let mut i = 0;
    while i < bytes.len() {
        let hex = (bytes[i] == b'%').then(|| uri.get(i + 1..i + 3)).flatten();
        match hex.and_then(|h| u8::from_str_radix(h, 16).ok()) {
            Some(b) => {
                out.push(b);
                i += 3;
            }
            None => {
                out.push(bytes[i]);
                i += 1;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}

/// The bytes of an address that holds its data itself; none for other addresses.
fn data_uri(uri: &str) -> Option<Result<Vec<u8>, Fault>> {
    let rest = uri.strip_prefix("data:")?;
    let damaged = |what: String| Fault::new(Code::Damaged, what, "data address", "export the scene again");
    let Some((head, body)) = rest.split_once(',') else {
        return Some(Err(damaged("a data address without data".into())));
    };
    if !head.ends_with(";base64") {
        return Some(Ok(percent_decoded(body).into_bytes()));
    }
    use base64::Engine;
    let engine = base64::engine::general_purpose::STANDARD;
    Some(engine.decode(body.trim()).map_err(|e| damaged(format!("a data address cannot be decoded: {e}"))))
}
