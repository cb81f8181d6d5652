//! Finals without a browser: killed at any moment, held to a time, as a series.

use picture::files::{Loaded, read_picture};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

fn place() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("cabinet.glb"), demo::lens_cabinet()).unwrap();
    std::fs::write(folder.path().join("sky.hdr"), demo::tarnfell_dusk()).unwrap();
    let shot = json!({
        "form": 1, "name": "Lens cabinet", "scene": "cabinet.glb", "environment": "sky.hdr", "camera": "Front",
        "budget": 30.0, "edits": {},
        "tuning": {
            "frame.width": 128, "frame.height": 80, "sampling.least": 8, "sampling.most": 96,
            "sampling.threshold": 0.03, "view.exposure": 1.0, "cleanup.denoise": "quick"
        }
    });
    std::fs::write(folder.path().join("shot.json"), shot.to_string()).unwrap();
    folder
}

fn command(folder: &Path, line: &str) -> Command {
    let mut c = Command::new(env!("CARGO_BIN_EXE_mellow-grain"));
    c.current_dir(folder)
        .args(line.split_whitespace().map(|w| w.replace('~', " ")))
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    c
}

fn fine(folder: &Path, line: &str) {
    let o = command(folder, line).stderr(Stdio::piped()).output().unwrap();
    assert!(o.status.success(), "{line}: {}", String::from_utf8_lossy(&o.stderr));
}

fn files(out: &Path, ending: &str) -> Vec<PathBuf> {
    let mut all: Vec<PathBuf> = std::fs::read_dir(out).unwrap().map(|e| e.unwrap().path()).collect();
    all.retain(|p| p.extension().is_some_and(|e| e == ending));
    all.sort();
    all
}

fn report(out: &Path, id: u32) -> Value {
    let text = std::fs::read_to_string(out.join(format!(".mellow-grain/finals/{id}/report.json"))).unwrap();
    serde_json::from_str(&text).unwrap()
}

fn picture(out: &Path) -> Loaded {
    read_picture(&files(out, "exr")[0]).unwrap()
}

#[test]
fn killed_twenty_times_it_ends_like_an_undisturbed_one() {
    let folder = place();
    // With mattes, whose names stand in the file's header.
    fine(folder.path(), "final shot.json --out calm --set delivery.mattes=true");
    let undisturbed = report(&folder.path().join("calm"), 1)["render"]["seconds"].as_f64().unwrap();
    // Moments that no two runs share, some of them while a checkpoint is being written.
    let mut state = 0x9e37_79b9u32;
    let mut kills = 0;
    let begun = Instant::now();
    loop {
        let mut run = command(folder.path(), "final shot.json --out torn --checkpoint 0.1 --set delivery.mattes=true")
            .spawn()
            .unwrap();
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        // Long enough to get somewhere, short enough for twenty of them.
        let wait = Duration::from_secs_f64(0.25 + undisturbed / 8.0 * (state >> 8) as f64 / (1u32 << 24) as f64);
        let until = Instant::now() + if kills < 20 { wait } else { Duration::from_secs(600) };
        let ended = loop {
            if let Some(status) = run.try_wait().unwrap() {
                break Some(status);
            }
            if Instant::now() >= until {
                break None;
            }
            std::thread::sleep(Duration::from_millis(3));
        };
        match ended {
            Some(status) => {
                assert!(status.success());
                break;
            }
            // SIGKILL on Unix.
            None => run.kill().and_then(|()| run.wait().map(|_| kills += 1)).unwrap(),
        }
        assert!(begun.elapsed() < Duration::from_secs(1200), "it does not get on");
    }
    assert!(kills >= 20, "it was over after {kills} kills");
    let (calm, torn) = (folder.path().join("calm"), folder.path().join("torn"));
    for ending in ["exr", "png"] {
        let of = |out: &Path| std::fs::read(&files(out, ending)[0]).unwrap();
        assert!(of(&calm) == of(&torn), "the {ending} files differ");
    }
    // Once more: nothing is rendered and nothing is written twice.
    fine(folder.path(), "final shot.json --out torn --set delivery.mattes=true");
    assert_eq!(files(&torn, "exr").len(), 1);
    // Another shot or other options in the same folder are refused, instead of the old final being given for the new one.
    let refused = |line: &str, what: &str| {
        let o = command(folder.path(), line).stderr(Stdio::piped()).output().unwrap();
        let text = String::from_utf8_lossy(&o.stderr);
        assert!(!o.status.success() && text.contains(what) && text.contains("--out"), "{line}: {text}");
    };
    refused("final shot.json --out torn", "begun with --set delivery.mattes=true");
    refused("final shot.json --out torn --set delivery.mattes=true --hold time", "would go on like that");
    let shot = std::fs::read_to_string(folder.path().join("shot.json")).unwrap();
    std::fs::write(folder.path().join("other.json"), shot.replace("Lens cabinet", "Another")).unwrap();
    refused("final other.json --out torn --set delivery.mattes=true", "another shot than other.json");
}

#[test]
fn held_time_is_kept_with_clean_up_and_files() {
    let folder = place();
    // The first one finds out how long denoising and writing take here. A busy machine takes seconds to get the scene ready.
    fine(folder.path(), "final shot.json --out held --minutes 0.3 --hold time");
    let out = folder.path().join("held");
    let r = report(&out, 1);
    let total = r["total"].as_f64().unwrap();
    // The promise is one second; other tests take their share of the processors meanwhile.
    assert!(total <= 18.0 + 2.0 && total > 9.0, "{total} s of 18 s");
    assert!(r["plan"].as_array().unwrap().len() > 1);
    assert_eq!(picture(&out).width, 128);
    // Its plan gives the same file again, whatever time that takes, and under any name.
    let plan = files(&out, "json").into_iter().find(|p| p.to_string_lossy().ends_with(".plan.json")).unwrap();
    fine(folder.path(), &format!("final shot.json --out again --name again_{{final:2}} --plan {}", plan.display()));
    let again = files(&folder.path().join("again"), "exr");
    assert!(again[0].ends_with("again_01.exr"), "{again:?}");
    assert!(std::fs::read(&again[0]).unwrap() == std::fs::read(&files(&out, "exr")[0]).unwrap());
}

#[test]
fn a_series_is_numbered_denoised_frame_by_frame_and_skips_what_is_whole() {
    let folder = place();
    let line = "final shot.json --out row --set sampling.most=8 --camera Front --camera Prisms,~close --frames 0-4/5:2";
    fine(folder.path(), line);
    let out = folder.path().join("row");
    let names: Vec<String> =
        files(&out, "exr").iter().map(|p| p.file_name().unwrap().to_string_lossy().into_owned()).collect();
    assert_eq!(names, ["lens-cabinet_0000.exr", "lens-cabinet_0002.exr", "lens-cabinet_0004.exr"]);
    let all: Vec<Loaded> = files(&out, "exr").iter().map(|f| read_picture(f).unwrap()).collect();
    assert!(all[0].pixels != all[1].pixels && all[1].pixels != all[2].pixels, "the camera moves");
    (1..=3).for_each(|id| assert!(report(&out, id)["denoise"].as_f64().unwrap() > 0.0, "frame {id}"));
    // One frame is lost: only that one is rendered again.
    let second = out.join(".mellow-grain/finals/2/lens-cabinet_0002.exr");
    std::fs::write(&second, b"half").unwrap();
    fine(folder.path(), line);
    assert!(out.join(".mellow-grain/finals/4/lens-cabinet_0002.exr").exists(), "under its own name");
    assert!(!out.join(".mellow-grain/finals/5").exists());
    assert_eq!(files(&out, "exr").len(), 3);
}
