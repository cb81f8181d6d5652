//! Files that are damaged at random, as uploads and inside archives: each is taken in whole or refused in words, nothing of it is
//! left behind, and the program stays up. A few in the suite; `./run bench damage 3600` goes on for an hour.

mod common;

use common::*;
use std::io::{Cursor, Read, Write};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::time::{Duration, Instant};
use workshop::*;
use zip::write::SimpleFileOptions;
use zip::{ZipArchive, ZipWriter};

/// Damaged files that the suite tries; by hand it goes on for so many seconds.
const FEW: u64 = 400;
/// A file that keeps the program busy for longer is one that stops it.
const LONGEST: Duration = Duration::from_secs(600);

struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u64 {
        // SplitMix64.
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let z = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    fn below(&mut self, n: usize) -> usize {
        (self.next() % n.max(1) as u64) as usize
    }
}

/// Does one to four kinds of harm to a file: bits, numbers that mean something to readers, holes, repeats, ends cut off. Half of it
/// strikes the first kilobytes, where heads are.
fn damage(bytes: &mut Vec<u8>, dice: &mut Dice) {
    const SPITEFUL: [u32; 8] = [0, 1, 0x7fff_ffff, 0x8000_0000, 0xffff_ffff, 0x7fc0_0000, 0x7f80_0000, 0x0001_0000];
    for _ in 0..1 + dice.below(4) {
        let n = bytes.len();
        if n < 8 {
            return;
        }
        let reach = if dice.below(2) == 0 { n.min(4096) } else { n };
        let at = dice.below(reach - 4);
        match dice.below(8) {
            0 | 1 => bytes[at] ^= 1 << dice.below(8),
            2 | 3 => bytes[at..at + 4].copy_from_slice(&SPITEFUL[dice.below(8)].to_le_bytes()),
            4 => {
                let end = (at + dice.below(64)).min(n);
                bytes[at..end].fill(if dice.below(2) == 0 { 0 } else { 255 });
            }
            5 => bytes.truncate(at),
            6 => {
                let end = (at + 1 + dice.below(256)).min(n);
                let piece = bytes[at..end].to_vec();
                bytes.splice(at..at, piece);
            }
            _ => {
                // A digit of a text, or any byte.
                let digit = bytes[at..].iter().position(u8::is_ascii_digit).map_or(at, |k| at + k);
                let other = *b"0123456789-.eE".get(dice.below(14)).unwrap_or(&b'9');
                bytes[digit] = other;
            }
        }
    }
}

/// An archive of which one entry was damaged before it was packed, so that its check sum is right.
fn damaged_inside(archive: &[u8], dice: &mut Dice) -> Vec<u8> {
    let mut from = ZipArchive::new(Cursor::new(archive)).unwrap();
    let victim = dice.below(from.len());
    let mut to = ZipWriter::new(Cursor::new(Vec::new()));
    for i in 0..from.len() {
        let mut entry = from.by_index(i).unwrap();
        let (name, mut bytes) = (entry.name().to_string(), Vec::new());
        entry.read_to_end(&mut bytes).unwrap();
        // Half of all harm is done to what describes the rest.
        if i == victim || (name == "shot.json" && dice.below(2) == 0) {
            damage(&mut bytes, dice);
        }
        to.start_file(name, SimpleFileOptions::default()).unwrap();
        to.write_all(&bytes).unwrap();
    }
    to.finish().unwrap().into_inner()
}

struct Bench {
    w: Workshop,
    shot: i64,
    files: Vec<(&'static str, Vec<u8>)>,
}

impl Bench {
    fn take(&self, name: &str, bytes: &[u8]) -> Result<(), fault::Fault> {
        let w = &self.w;
        let into_parcel = || -> Result<(u64, std::path::PathBuf), fault::Fault> {
            let parcel = w.open_parcel()?;
            let file = w.parcel_file(parcel, name)?;
            std::fs::write(&file, bytes).unwrap();
            Ok((parcel, file))
        };
        match name.rsplit('.').next().unwrap() {
            "cube" => w.add_table(name, bytes).map(drop),
            "json" => {
                let text = String::from_utf8_lossy(bytes);
                let kind = serde_json::from_str("\"preset\"").unwrap();
                w.import_partial(kind, &text, name, true).map(drop)
            }
            "zip" => {
                let (parcel, file) = into_parcel()?;
                let taken = w.import_shot(&file);
                w.drop_parcel(parcel);
                taken.map(drop)
            }
            "png" | "tif" => {
                let (parcel, file) = into_parcel()?;
                let taken = w.add_picture(self.shot, name, &file);
                w.drop_parcel(parcel);
                taken.map(drop)
            }
            _ => into_parcel().and_then(|(parcel, _)| w.take_parcel(parcel)).map(drop),
        }
    }

    /// Everything that can be seen of the library and of the shot's sheet.
    fn seen(&self) -> Vec<String> {
        let w = &self.w;
        let mut all: Vec<String> = w.shots().unwrap().iter().map(|s| format!("shot {} {}", s.id, s.name)).collect();
        all.extend(w.scenes().unwrap().into_iter().map(|s| format!("scene {}", s.hash)));
        all.extend(w.environments().unwrap().into_iter().map(|e| format!("environment {}", e.hash)));
        all.extend(w.tables().into_iter().map(|t| format!("table {}", t.id)));
        all.extend(w.partials().unwrap().into_iter().map(|p| format!("partial {}", p.id)));
        all.extend(w.proofs(self.shot).unwrap().into_iter().map(|p| format!("proof {}", p.id)));
        all
    }

    /// Removes what was taken in, so that each file meets the same bench.
    fn clear(&self, before: &[String]) {
        let kinds = [
            ("shot", BinKind::Shot),
            ("proof", BinKind::Proof),
            ("scene", BinKind::Scene),
            ("environment", BinKind::Environment),
            ("table", BinKind::Table),
            ("partial", BinKind::Partial),
        ];
        for (word, kind) in kinds {
            let new = self.seen().into_iter().filter(|s| s.starts_with(word) && !before.contains(s));
            let items: Vec<BinItem> = new.map(|s| BinItem::new(kind, s.split(' ').nth(1).unwrap())).collect();
            self.w.delete(&items).unwrap();
        }
        self.w.empty_bin(&[]).unwrap();
    }
}

#[test]
fn damaged_files_are_taken_whole_or_refused_in_words() {
    let (data, w, shot) = workshop();
    tune(
        &w,
        shot,
        serde_json::json!({ "frame.width": 48, "frame.height": 32, "sampling.most": 4, "sampling.least": 2 }),
    );
    let kept = test(&w, shot);
    w.change_proof(kept, &ProofChange { kept: Some(true), ..Default::default() }).unwrap();
    tune(&w, shot, serde_json::json!({ "delivery.display": "tiff_16" }));
    w.add_final(shot).unwrap();
    w.wait_for_finals().unwrap();
    let mut archive = Cursor::new(Vec::new());
    w.export_shot(shot, &mut archive).unwrap();
    let delivered = |ending: &str| {
        let f = &w.finals().unwrap()[0];
        let file = f.files.iter().find(|x| x.name.ends_with(ending)).unwrap_or_else(|| panic!("{ending}")).name.clone();
        std::fs::read(data.path().join(format!("finals/{}/{file}", f.id))).unwrap()
    };
    let mut cube = String::from("TITLE \"look\"\nLUT_3D_SIZE 4\nDOMAIN_MIN 0 0 0\nDOMAIN_MAX 1 1 1\n");
    (0..64).for_each(|k| cube += &format!("{:.3} {:.3} {:.3}\n", (k % 4) as f32 / 3.0, (k / 4 % 4) as f32 / 3.0, 0.5));
    let preset = w.partials().unwrap()[0].id;
    let files = vec![
        ("room.glb", demo::lens_cabinet()),
        ("sky.hdr", demo::tarnfell_dusk()),
        ("sky.exr", delivered(".exr")),
        ("picture.tif", delivered(".tif")),
        ("picture.png", std::fs::read(data.path().join(format!("proofs/{kept}/thumb.png"))).unwrap()),
        ("look.cube", cube.into_bytes()),
        ("preset.json", w.partial_file(preset).unwrap().1.into_bytes()),
        ("shot.zip", archive.into_inner()),
    ];
    let bench = Bench { w, shot, files };
    let before = bench.seen();
    let hours = std::env::var("DAMAGE").ok().and_then(|s| s.parse().ok()).map(Duration::from_secs);
    let first = std::env::var("DAMAGE_FROM").ok().and_then(|s| s.parse().ok()).unwrap_or(0);
    let began = Instant::now();
    let (mut taken, mut refused) = (0, 0);
    let mut wrong = Vec::new();
    for seed in first.. {
        let over = hours.map_or(seed - first >= FEW, |h| began.elapsed() > h);
        if over || wrong.len() > 20 {
            break;
        }
        if hours.is_some() {
            // A crash leaves the seed behind.
            std::fs::write(std::env::temp_dir().join("damage.seed"), seed.to_string()).unwrap();
        }
        let mut dice = Dice(seed);
        let (name, whole) = &bench.files[dice.below(bench.files.len())];
        let bytes = if name.ends_with(".zip") && dice.below(4) > 0 {
            damaged_inside(whole, &mut dice)
        } else {
            let mut bytes = whole.clone();
            damage(&mut bytes, &mut dice);
            bytes
        };
        let clock = Instant::now();
        let done = catch_unwind(AssertUnwindSafe(|| bench.take(name, &bytes)));
        let took = clock.elapsed();
        match &done {
            Err(_) => wrong.push(format!("seed {seed}, {name}: it panics")),
            Ok(Ok(())) => taken += 1,
            Ok(Err(f)) => {
                refused += 1;
                if f.what.is_empty() || f.remedy.is_empty() || f.code == fault::Code::Internal {
                    wrong.push(format!("seed {seed}, {name}: {f:?}"));
                }
                let now = bench.seen();
                // An archive may leave its scene, environment and presets in the library; the shot is there as a whole or not at all.
                let left = now.iter().filter(|s| !before.contains(s));
                if left.clone().any(|s| !name.ends_with(".zip") || s.starts_with("shot")) {
                    wrong.push(format!(
                        "seed {seed}, {name}: refused ({}), and there is {:?}",
                        f.what,
                        left.collect::<Vec<_>>()
                    ));
                }
            }
        }
        if took > LONGEST {
            wrong.push(format!("seed {seed}, {name}: {took:?}"));
        }
        let incoming = std::fs::read_dir(data.path().join("incoming")).unwrap().count();
        if incoming > 0 {
            wrong.push(format!("seed {seed}, {name}: {incoming} things are left in incoming"));
            std::fs::remove_dir_all(data.path().join("incoming")).unwrap();
            std::fs::create_dir(data.path().join("incoming")).unwrap();
        }
        bench.clear(&before);
    }
    println!("{taken} taken, {refused} refused, {} wrong in {:.0} s", wrong.len(), began.elapsed().as_secs_f64());
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(taken > 0 && refused > 0 && bench.seen() == before);
}
