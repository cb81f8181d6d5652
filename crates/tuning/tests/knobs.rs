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
