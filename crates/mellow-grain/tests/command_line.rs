//! The command line as scripts use it.

use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use tempfile::TempDir;

struct Place {
    folder: TempDir,
}

impl Place {
    fn new() -> Place {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("cabinet.glb"), demo::lens_cabinet()).unwrap();
        std::fs::write(folder.path().join("sky.hdr"), demo::tarnfell_dusk()).unwrap();
        Place { folder }
    }

    fn file(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn run(&self, line: &str) -> Output {
        Command::new(env!("CARGO_BIN_EXE_mellow-grain"))
            .current_dir(self.folder.path())
            .args(line.split_whitespace())
            .output()
            .unwrap()
    }

    fn fine(&self, line: &str) -> String {
        let o = self.run(line);
        assert!(o.status.success(), "{line}: {}", String::from_utf8_lossy(&o.stderr));
        String::from_utf8(o.stdout).unwrap()
    }

    fn refused(&self, line: &str) -> String {
        let o = self.run(line);
        assert!(!o.status.success(), "{line} must fail");
        String::from_utf8(o.stderr).unwrap()
    }
}

const SMALL: &str = "render cabinet.glb --environment sky.hdr --size 120x80 --set sampling.least=4 --set sampling.most=16 \
                     --set sampling.threshold=0.05 --set view.exposure=1";

fn pixels(file: &Path) -> picture::files::Loaded {
    picture::files::read_picture(file).unwrap()
}

#[test]
fn a_region_file_is_the_crop_and_the_report_is_complete() {
    let p = Place::new();
    p.fine(&format!("{SMALL} --out whole.exr --report whole.json"));
    p.fine(&format!("{SMALL} --region 33,21,50,40 --threads 1 --out part.exr"));
    let (whole, part) = (pixels(&p.file("whole.exr")), pixels(&p.file("part.exr")));
    for y in 0..40 {
        for x in 0..50 {
            assert_eq!(part.pixels[y * 50 + x], whole.pixels[(y + 21) * 120 + x + 33], "pixel {x}, {y}");
        }
    }
    let report: Value = serde_json::from_slice(&std::fs::read(p.file("whole.json")).unwrap()).unwrap();
    let phases: Vec<&str> = report["phases"].as_array().unwrap().iter().map(|x| x["phase"].as_str().unwrap()).collect();
    assert_eq!(phases, ["loading", "structure", "lights", "sampling", "denoise", "writing"]);
    assert_eq!(report["tuning"]["sampling.most"], 16);
    assert_eq!(report["tuning"].as_object().unwrap().len(), tuning::KNOBS.len(), "the tuning in full");
    let per_pixel = report["samples"].as_f64().unwrap() / (120.0 * 80.0);
    assert!((report["samples_per_pixel"].as_f64().unwrap() - per_pixel).abs() < 1e-9);
    assert!(
        report["rays"].as_array().unwrap().iter().any(|k| k["kind"] == "transmission" && k["rays"].as_u64() > Some(0))
    );
    let same: Value = serde_json::from_str(&p.fine("compare whole.exr whole.exr --json")).unwrap();
    assert_eq!((same["rmse"].as_f64(), same["psnr"].is_null()), (Some(0.0), true));
}

/// Shot edits and a picked focus reach the render; OBJ is taken as glTF is. The focus is the distance along the view to the
/// plane that is seen.
#[test]
fn edits_focus_and_other_formats_are_taken() {
    let p = Place::new();
    std::fs::write(p.file("wall.mtl"), "newmtl white\nKd 0.5 0.5 0.5\n").unwrap();
    let wall = "mtllib wall.mtl\nusemtl white\nv -5 -5 0\nv 5 -5 0\nv 5 5 0\nv -5 5 0\nf 1 2 3 4\n";
    std::fs::write(p.file("wall.obj"), wall).unwrap();
    let lamp = r#"{ "added": [{ "name": "lamp", "shape": { "kind": "sphere", "radius": 0.5 }, "position": [0, 0, 2],
        "radiance": [30, 30, 30] }] }"#;
    std::fs::write(p.file("lamp.json"), lamp).unwrap();
    let line = "render wall.obj --size 32x32 --set sampling.most=16 --set frame.aperture=50 --focus-at 16,16";
    let o = p.run(&format!("{line} --edits lamp.json --out lit.exr --report lit.json"));
    let told = String::from_utf8(o.stderr).unwrap();
    assert!(o.status.success(), "{told}");
    let report: Value = serde_json::from_slice(&std::fs::read(p.file("lit.json")).unwrap()).unwrap();
    let focus = report["tuning"]["frame.focus"].as_f64().unwrap();
    // The framing camera looks at the wall from the front and above: the distance is that of the middle of the wall.
    assert!(focus > 5.0 && told.contains(&format!("focus at {focus:.3} m")), "{told}");
    p.fine(&format!("{line} --out dark.exr"));
    let mean = |name: &str| pixels(&p.file(name)).pixels.iter().map(|c| c[1]).sum::<f32>() / 1024.0;
    assert!(mean("lit.exr") > 0.05 && mean("dark.exr") == 0.0, "{} {}", mean("lit.exr"), mean("dark.exr"));
    std::fs::write(p.file("odd.json"), r#"{ "lights": { "sun": { "strength": 2 } } }"#).unwrap();
    assert!(p.refused(&format!("{line} --edits odd.json")).contains("odd.json"));
    assert!(p.refused("render wall.obj --size 64x16 --focus-at 0,0").contains("nothing is seen"));
}

#[test]
fn knobs_are_listed_for_people_and_for_programs() {
    let p = Place::new();
    let list: Value = serde_json::from_str(&p.fine("knobs --json")).unwrap();
    assert_eq!(list.as_array().unwrap().len(), tuning::KNOBS.len());
    assert!(p.fine("knobs").contains("sampling.threshold"));
}

#[test]
fn what_cannot_be_done_fails_with_place_and_remedy_and_leaves_no_file() {
    let p = Place::new();
    // A whole header, and less than it promises.
    let header: Vec<u8> = [0x4654_6c67u32, 2, 4096].iter().flat_map(|n| n.to_le_bytes()).collect();
    std::fs::write(p.file("cut.glb"), [header, vec![b' '; 100]].concat()).unwrap();
    std::fs::write(p.file("bad.json"), "{\"sampling.most\": \"many\"}").unwrap();
    let told: Vec<String> = [
        "render cut.glb --out x.exr",
        "render missing.glb",
        "render sky.hdr",
        "render cabinet.glb --environment cabinet.glb",
        "render cabinet.glb --camera Nobody",
        "render cabinet.glb --size 0x80",
        "render cabinet.glb --size 12by8",
        "render cabinet.glb --region 900,0,100,10 --out x.exr",
        "render cabinet.glb --set sampling.threshold=0",
        "render cabinet.glb --set sampling.least=512",
        "render cabinet.glb --set view.exposure=NaN",
        "render cabinet.glb --tuning bad.json",
        "render cabinet.glb --threads 0",
        "render cabinet.glb --out picture.bmp",
        "compare sky.hdr cabinet.glb",
    ]
    .map(|line| format!("{line}\n{}", p.refused(line)))
    .into();
    insta::assert_snapshot!(told.join("\n"));
    assert!(!p.file("x.exr").exists());
    // A folder that cannot be written to is an error too, and no half file stays.
    assert!(p.refused(&format!("{SMALL} --region 0,0,8,8 --out none/x.png")).contains("none/x.png"));
}

/// Runs a script of these tests beside the files with the reference libraries. `./run test` installs them and names their
/// interpreter; without it there is nothing to compare with.
fn by_reference(p: &Place, script: &str, arguments: &[&str]) {
    let Ok(python) = std::env::var("MELLOW_GRAIN_REFERENCE_PYTHON") else {
        eprintln!("skipped: MELLOW_GRAIN_REFERENCE_PYTHON is not set; ./run test sets it");
        return;
    };
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests").join(script);
    let o = Command::new(python).arg(script).args(arguments).current_dir(p.folder.path()).output().unwrap();
    assert!(o.status.success(), "{}{}", String::from_utf8_lossy(&o.stdout), String::from_utf8_lossy(&o.stderr));
}

/// EXR by the OpenEXR reference library, PNG by Pillow, SSIM and PSNR by scikit-image: versions in `reference.py`.
#[test]
fn reference_libraries_open_the_files_and_agree() {
    let p = Place::new();
    p.fine(&format!("{SMALL} --region 33,21,50,40 --set frame.transparent=true --out a.exr --out a.png"));
    p.fine(&format!("{SMALL} --region 33,21,50,40 --set sampling.seed=2 --out b.exr --out b.png"));
    let more =
        "--set delivery.linear=exr_half --set delivery.mattes=true --set delivery.dpi=254 --out c.exr --out c.tif";
    p.fine(&format!("{SMALL} --region 33,21,50,40 --set sampling.seed=2 {more}"));
    std::fs::write(p.file("compare.json"), p.fine("compare b.exr a.exr --json")).unwrap();
    by_reference(&p, "reference.py", &[]);
}

/// Whatever the knobs say, the files have the region's size, open elsewhere, and hold numbers.
#[test]
fn reference_libraries_open_the_files_of_any_tuning() {
    by_reference(&Place::new(), "any_tuning.py", &[env!("CARGO_BIN_EXE_mellow-grain"), "cabinet.glb", "sky.hdr"]);
}
