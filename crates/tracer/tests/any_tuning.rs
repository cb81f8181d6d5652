//! Whatever the knobs say: pictures are finite, bits are the same by another way, shares sum to one.

mod common;

use common::*;
use picture::Region;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use tracer::*;
use tuning::{K, Tuning};

#[test]
fn any_tuning_renders_a_sound_picture_and_the_same_by_another_way() {
    let mut set = room();
    set.scene.objects = vec!["everything".into()];
    let stage = set.stage();
    let mut dice = Dice(1);
    // A row of pixels that is enlarged one way alone, and one so narrow in the film that no delivered pixel has its centre there.
    let odd = [((1, 22), 1.5), ((43, 17), 3.0)].map(|((w, h), oversize)| {
        let t = tuning((w, h), 6).with(K::SamplingAdaptive, true).with(K::FrameOversize, oversize);
        t.with(K::CleanupStray, 0.5).with(K::DeliveryParts, true)
    });
    let random = (0..60).map(|_| dice.tuning()).collect::<Vec<_>>();
    let mut rendered = 0;
    for (round, t) in odd.into_iter().chain(random).enumerate() {
        let whole = describe(t.clone(), None);
        if t.name(K::ViewTransform) == "table" {
            assert_eq!(whole.check().unwrap_err().place, "view.table");
            continue;
        }
        rendered += 1;
        let turned: Vec<String> =
            Tuning::default().differences(&t).iter().map(|d| format!("{}={}", d.id, d.b)).collect();
        let what = format!("{round}: {}", turned.join(" "));
        println!("{what}");
        let render = run(&stage, whole.clone(), 2);
        let (plate, report, limits) = (render.plate(), render.report(), Limits::of(&t));
        assert_eq!(report.broken, 0, "{what}");
        let finite = |v: &f32| v.is_finite();
        let colours = plate.a.iter().chain(&plate.b).chain(&plate.albedo).chain(&plate.normal);
        assert!(colours.flatten().all(finite) && plate.depth.iter().all(|d| !d.is_nan()), "{what}");
        assert!(plate.layers.iter().all(|(_, layer)| layer.iter().all(|v| !v.is_nan())), "{what}");
        let delivered = deliver::Delivered::of(&plate, &whole);
        assert!(delivered.picture.iter().flatten().all(finite), "{what}");
        assert!(delivered.grain.grain.iter().all(|g| *g >= 0.0), "{what}");
        let view = whole.view();
        let shown = |c: [f32; 3]| view.display(c).into_iter().all(|v| (0.0..=1.0).contains(&v));
        assert!(plate.mean().into_iter().all(shown), "{what}");
        assert!(report.settled >= 0.0 && report.settled + report.capped < 1.0 + 1e-9, "{what}");
        assert!(report.samples_per_pixel >= limits.least.min(limits.most) as f64, "{what}");

        // Who takes the time, and who makes the grain: all of it.
        let sum = |all: &mut dyn Iterator<Item = f64>| all.sum::<f64>();
        near(sum(&mut report.rays.iter().map(|r| r.share)), 1.0, 1e-6, &what);
        // Of few signed samples that cancel each other nobody knows whose they were.
        let signed = ["mitchell_netravali", "lanczos"].contains(&t.name(K::FrameFilter));
        if let Some(noise) = report.noise.filter(|n| n.per_sample > 1e-12 && !signed) {
            near(sum(&mut noise.parts.iter().map(|r| r.share)), 1.0, 1e-3, &what);
            // What fills the tail is no light's.
            let tail = noise.parts.iter().filter(|r| r.name == "tail");
            near(sum(&mut noise.lights.iter().chain(tail).map(|r| r.share)), 1.0, 1e-3, &what);
        }

        // A part of it, by one thread, stopped and gone on with: the same bits.
        let (w, h) = whole.frame();
        let (x, y) = (dice.whole(0, w - 1), dice.whole(0, h - 1));
        let region = Region { x, y, width: dice.whole(1, w - x), height: dice.whole(1, h - y) };
        let part = describe(t, Some(region));
        let pool = Arc::new(own_pool(1).unwrap());
        let mut again = Render::new(stage.clone(), part.clone(), pool.clone(), false).unwrap();
        for _ in 0..3 {
            again.step(&AtomicBool::new(false));
        }
        let mut again = Render::resume(stage.clone(), part, pool, &again.save()).unwrap();
        while again.step(&AtomicBool::new(false)) {}
        assert_same(&again.plate(), &plate.crop(region));
    }
    assert!(rendered > 50, "{rendered}");
}
