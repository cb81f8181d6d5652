//! `./run bench hold`: by how much finals that hold the time end late, from the order to the last file closed, with the phases
//! that took it. A grid of sizes, budgets and what is delivered, alone on the machine and beside a process that takes a core.
//! A word picks rows: `SIZE=1920 BUDGET=20 ./run bench hold quick`.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;
use workshop::{BinItem, BinKind, DemoSize, FinalState, NewFinal, Policy, ShotChange, Values, Workshop};

fn values(list: &[(&str, serde_json::Value)]) -> Values {
    list.iter().map(|(k, v)| (k.to_string(), v.clone())).collect()
}

fn main() {
    let word = std::env::args().nth(1).unwrap_or_default();
    let asked = |name: &str| std::env::var(name).ok().and_then(|v| v.parse::<f64>().ok());
    let folder = tempfile::tempdir().expect("a folder");
    let workshop = Workshop::open(folder.path()).expect("a workshop");
    workshop.prepare_demo(DemoSize::Small, &mut |_| {}).expect("the demo");
    let kinds: Vec<(&str, Values)> = vec![
        ("plain", values(&[])),
        ("quick", values(&[("cleanup.denoise", "quick".into())])),
        (
            "all",
            values(&[
                ("cleanup.denoise", "quick".into()),
                ("delivery.parts_large", true.into()),
                ("delivery.mattes", true.into()),
                ("delivery.passes", "one_each".into()),
            ]),
        ),
        ("tiff", values(&[("delivery.display", "tiff_16".into()), ("delivery.linear", "tiff_float".into())])),
        ("piz", values(&[("delivery.packing", "piz".into()), ("delivery.linear", "exr_half".into())])),
        ("careful", values(&[("cleanup.denoise", "careful".into()), ("cleanup.stray", 0.5.into())])),
        ("colour", values(&[("cleanup.denoise", "colour".into())])),
    ];
    let shots = workshop.shots().expect("shots");
    println!(
        "{:<14} {:<10} {:<8} {:>7} {:>5} {:>8} {:>7} {:>6} {:>7} {:>7} {:>7} {:>7} {:>8}",
        "shot",
        "size",
        "kind",
        "budget",
        "busy",
        "wall s",
        "late s",
        "start",
        "sample",
        "saving",
        "clean",
        "write",
        "spp"
    );
    for (i, (w, h)) in [(480u32, 300u32), (1920, 1080), (4096, 2160)].into_iter().enumerate() {
        if asked("SIZE").is_some_and(|s| s != w as f64) {
            continue;
        }
        for budget in [10.0, 20.0, 60.0, 300.0, 3600.0] {
            if asked("BUDGET").map_or(budget > 60.0, |b| b != budget) {
                continue;
            }
            for (name, set) in kinds.iter().filter(|k| k.0.contains(&word)) {
                for busy in [false, true] {
                    if asked("BUSY").is_some_and(|b| (b > 0.0) != busy) {
                        continue;
                    }
                    let shot = &shots[(i + asked("SHOT").unwrap_or(0.0) as usize) % shots.len()];
                    let mut set = set.clone();
                    set.extend(
                        values(&[("frame.width", w.into()), ("frame.height", h.into()), ("frame.link", false.into())])
                            .into_iter()
                            .filter(|(k, _)| k != "frame.link"),
                    );
                    let all = values(&[
                        ("cleanup.denoise", "none".into()),
                        ("cleanup.stray", 0.0.into()),
                        ("delivery.parts_large", false.into()),
                        ("delivery.mattes", false.into()),
                        ("delivery.passes", "one_file".into()),
                        ("delivery.display", "png_16".into()),
                        ("delivery.linear", "exr_float".into()),
                        ("delivery.packing", "zip".into()),
                    ]);
                    let mut tuning = all;
                    tuning.extend(set);
                    let change = ShotChange { tuning, budget: Some(budget), ..ShotChange::default() };
                    workshop.change_shot(shot.id, &change).expect("a change");
                    let stop = Arc::new(AtomicBool::new(false));
                    let other = busy.then(|| {
                        let stop = stop.clone();
                        std::thread::spawn(move || {
                            let mut x = 1u64;
                            while !stop.load(Ordering::Relaxed) {
                                x = std::hint::black_box(x.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1));
                            }
                        })
                    });
                    let held = NewFinal { policy: Policy::Time, ..NewFinal::default() };
                    let check = workshop.check_final(shot.id, &held).expect("a check");
                    let warned = check.into_iter().find(|c| c.what == "budget").map_or(String::new(), |c| c.state);
                    let began = Instant::now();
                    let ordered = workshop.add_finals(shot.id, &held);
                    let row = format!(
                        "{:<14} {:<10} {:<8} {budget:>7} {:>5}",
                        shot.name,
                        format!("{w}×{h}"),
                        name,
                        if busy { "yes" } else { "" }
                    );
                    match ordered {
                        Err(f) => println!("{row} refused: {}", f.what),
                        Ok(ordered) => {
                            let id = ordered.finals[0].id;
                            let end = loop {
                                let f =
                                    workshop.finals().expect("finals").into_iter().find(|f| f.id == id).expect("it");
                                if !matches!(f.state, FinalState::Waiting | FinalState::Running) {
                                    break f;
                                }
                                std::thread::sleep(std::time::Duration::from_millis(10));
                            };
                            let wall = began.elapsed().as_secs_f64();
                            match &end.report {
                                Some(r) => println!(
                                    "{row} {wall:>8.2} {:>7.2} {:>6.2} {:>7.2} {:>7.2} {:>7.2} {:>7.2} {:>8.1}",
                                    wall - budget,
                                    r.start,
                                    r.sampling,
                                    r.saving,
                                    r.denoise,
                                    r.writing,
                                    r.render.samples_per_pixel
                                ),
                                None => println!(
                                    "{row} {wall:>8.2} {:?} {}; said before the start: {warned:?}",
                                    end.state,
                                    end.fault.map_or(String::new(), |f| f.what)
                                ),
                            }
                            // Its film is put away after that.
                            std::thread::sleep(std::time::Duration::from_secs_f64(3.0 * (w * h) as f64 / 2e6 + 0.5));
                            let _ = workshop
                                .delete(&[BinItem::new(BinKind::Final, id)])
                                .and_then(|()| workshop.empty_bin(&[]));
                        }
                    }
                    stop.store(true, Ordering::Relaxed);
                    other.map(std::thread::JoinHandle::join);
                }
            }
        }
    }
}
