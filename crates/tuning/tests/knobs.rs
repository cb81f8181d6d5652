//! The knob table, values as files and command lines bring them, and what is refused.

use std::collections::{BTreeMap, HashSet};
use tuning::{K, KNOBS, Kind, Tuning, Value};

/// Ids are promised to scripts outside this project.
#[test]
fn the_table_is_consistent_and_keeps_its_promised_ids() {
    let ids: HashSet<&str> = KNOBS.iter().map(|k| k.id).collect();
    assert_eq!(ids.len(), KNOBS.len());
    for id in
        "frame.width frame.height frame.filter frame.filter_radius sampling.adaptive sampling.least sampling.most \
               sampling.threshold sampling.block sampling.seed depth.total depth.diffuse depth.reflection \
               depth.transmission depth.roulette_from cleanup.denoise cleanup.blend view.exposure view.transform"
            .split_whitespace()
    {
        assert!(ids.contains(id), "{id}");
    }
    for k in KNOBS {
        assert!(k.help.ends_with('.') && !k.label.is_empty());
        let json = serde_json::to_value(&k.default).unwrap();
        assert_eq!(k.accept(&json).unwrap(), k.default, "{}: the default is inside the range", k.id);
        assert_eq!(k.parse(&k.default.to_string()).unwrap(), k.default, "{}: text comes back", k.id);
        if let Kind::Whole { least, most } = k.kind {
            assert!(k.accept(&serde_json::json!(most as f64 + 1.0)).is_err());
            assert!(k.accept(&serde_json::json!(least as f64 - 1.0)).is_err());
        }
    }
}

#[test]
fn a_tuning_comes_back_from_its_own_json_and_differences_are_found() {
    let a = Tuning::default().with(K::SamplingMost, 64).with(K::CleanupDenoise, "quick");
    let text = serde_json::to_string(&a).unwrap();
    assert_eq!(Tuning::from_json(&text, "t.json").unwrap(), a);
    let found: Vec<_> = Tuning::default().differences(&a).iter().map(|d| (d.id, d.b.clone())).collect();
    assert_eq!(found, [("sampling.most", Value::Whole(64)), ("cleanup.denoise", Value::Name("quick".into()))]);
}

#[test]
fn what_is_refused_says_where_and_what_helps() {
    let t = Tuning::default();
    let change = |id: &str, v: serde_json::Value| {
        t.changed(&BTreeMap::from([(id.to_string(), v)])).expect_err("refused").to_string()
    };
    let set = |text: &str| t.clone().set_text(text).expect_err("refused").to_string();
    insta::assert_snapshot!(
        [
            change("sampling.threshold", 0.into()),
            change("sampling.least", 512.into()),
            change("sampling.most", 12.5.into()),
            change("frame.width", 0.into()),
            change("frame.width", 1e12.into()),
            change("view.exposure", "NaN".into()),
            change("cleanup.denoise", "magic".into()),
            change("sampling.adaptive", 1.into()),
            change("no.such", 1.into()),
            set("view.exposure=NaN"),
            set("view.exposure=inf"),
            set("sampling.most"),
            Tuning::from_json("[1, 2]", "bad.json").expect_err("refused").to_string(),
            Tuning::from_json("{\"depth.total\": -1}", "bad.json").expect_err("refused").to_string(),
        ]
        .join("\n")
    );
}

mod partials {
    use serde_json::json;
    use std::collections::BTreeMap;
    use tuning::{Group, K, Partial, PartialKind, Tuning, Value};

    fn values(json: serde_json::Value) -> BTreeMap<String, serde_json::Value> {
        serde_json::from_value(json).unwrap()
    }

    #[test]
    fn the_overlay_put_on_last_wins_and_says_so() {
        let overlay = |v| Partial::strict(PartialKind::Overlay, "x", "", &values(v)).unwrap().values;
        let first = overlay(json!({ "sampling.most": 32, "depth.total": 3 }));
        let second = overlay(json!({ "sampling.most": 8 }));
        let own = Tuning::default();
        let (force, whose) = own.under([&first, &second]);
        assert_eq!((force.whole(K::SamplingMost), force.whole(K::DepthTotal)), (8, 3));
        // Least (16 by default) cannot stay above most: it follows, and the overlay that forced it is named.
        assert_eq!(force.whole(K::SamplingLeast), 8);
        assert_eq!(whose, BTreeMap::from([("depth.total", 0), ("sampling.least", 1), ("sampling.most", 1)]));
        let (other, _) = own.under([&second, &first]);
        assert_eq!(other.whole(K::SamplingMost), 32);
        assert_eq!(own.under([]).0, own);
        // A chosen least lifts the most.
        assert_eq!(own.applying(&overlay(json!({ "sampling.least": 512 }))).whole(K::SamplingMost), 512);
    }

    #[test]
    fn a_shared_file_comes_back_and_says_what_it_cannot_take() {
        let preset = &Partial::shipped()[6];
        assert_eq!(preset.kind, PartialKind::Preset);
        let (back, rest) = Partial::read(&preset.to_file(), PartialKind::Preset, "a.json").unwrap();
        assert_eq!((&back, rest.len()), (preset, 0));
        assert!(Partial::read(&preset.to_file(), PartialKind::Overlay, "a.json").is_err());
        let newer = json!({ "format": "mellow-grain-preset", "version": 2, "name": "later", "colour": "blue",
            "values": { "depth.total": 5, "sampling.most": 1e9, "depth.dreams": 3, "cleanup.denoise": "magic" } });
        let (read, rest) = Partial::read(&newer.to_string(), PartialKind::Preset, "b.json").unwrap();
        assert_eq!(read.values, BTreeMap::from([("depth.total", Value::Whole(5))]));
        let ids: Vec<&str> = rest.iter().map(|u| u.id.as_str()).collect();
        assert_eq!(ids, ["version", "cleanup.denoise", "depth.dreams", "sampling.most"]);
        assert!(rest[3].why.contains("65536"), "{rest:?}");
    }

    #[test]
    fn applying_leaves_the_rest_untouched() {
        let own = Tuning::default().with(K::ViewExposure, 2.0).with(K::DepthTotal, 9);
        for p in Partial::shipped() {
            let next = own.applying(&p.values);
            next.check().unwrap();
            for d in own.differences(&next) {
                assert!(p.values.contains_key(d.id) || d.id.starts_with("sampling."), "{}: {}", p.name, d.id);
            }
        }
        let paths = own.of_groups(&[Group::Paths]);
        assert!(paths.keys().all(|id| !id.starts_with("view")) && paths["depth.total"] == Value::Whole(9));
    }
}
