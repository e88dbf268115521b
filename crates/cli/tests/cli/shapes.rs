//! The keys of every result, which programs rely on: one that is new, gone, renamed or of another type is a
//! difference from the shape that was reviewed.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;

use crate::bench::{Bench, Run};

/// The keys of JSON objects with the types of their values, one a line.
fn shape(text: &str) -> String {
    let mut keys = BTreeMap::new();
    for line in text.lines() {
        let value: Value = serde_json::from_str(line).expect("one object a line");
        gather("", &value, &mut keys);
    }
    let line = |(key, types): (&String, &BTreeSet<&str>)| {
        let types: Vec<&str> = types.iter().copied().collect();
        format!("{key}: {}", types.join(" or "))
    };
    keys.iter().map(line).collect::<Vec<_>>().join("\n")
}

fn gather(path: &str, value: &Value, keys: &mut BTreeMap<String, BTreeSet<&'static str>>) {
    let mut add = |kind| {
        keys.entry(path.to_string()).or_default().insert(kind);
    };
    match value {
        Value::Null => add("null"),
        Value::Bool(_) => add("true or false"),
        Value::Number(_) => add("number"),
        Value::String(_) => add("text"),
        Value::Array(items) => {
            if items.is_empty() {
                add("empty list");
            }
            for item in items {
                gather(&format!("{path}[]"), item, keys);
            }
        }
        Value::Object(fields) => {
            for (key, value) in fields {
                let path = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
                gather(&path, value, keys);
            }
        }
    }
}

/// The first lines of tables: their heads.
fn head(run: &Run) -> &str {
    run.out.lines().next().unwrap_or_default()
}

/// A study of a plucked string, a wavering tone, and the string struck anew, calibrated.
pub(crate) fn study() -> Bench {
    let bench = Bench::new();
    let done = |words: &[&str]| {
        let run = bench.run_words(words);
        assert_eq!(run.status, 0, "{words:?}: {}", run.err);
    };
    let string = "string frequency=196Hz level=-12dB inharmonicity=2e-4 decay=3s start=0.2s";
    let other = "string frequency=196.5Hz level=-16dB inharmonicity=2e-4 decay=2s start=0.2s";
    let tone = "harmonics frequency=440Hz level=-12dB vibrato-rate=5Hz vibrato-depth=20 fade=80ms";
    let noise = "noise level=-80dB";
    let made = [("cut0.wav", string), ("cut1.wav", other), ("cut2.wav", string)];
    for (name, voice) in made {
        done(&["signal", voice, noise, "--duration", "2s", "--output", name, "--quiet"]);
    }
    done(&["signal", tone, noise, "--duration", "2s", "--output", "tone.wav", "--quiet"]);
    done(&["study", "make", "."]);
    let takes = ["study", "add", "cut0.wav", "cut1.wav", "cut2.wav"];
    done(&[&takes[..], &["--pattern", "cut{cut}.wav", "--note", "G3"]].concat());
    bench
}

#[test]
fn keys_of_results_are_those_that_were_reviewed() {
    let bench = study();
    for (name, arguments) in [
        ("inspect", "inspect cut0.wav tone.wav"),
        ("inspect_short", "inspect tone.wav --from 1 --to 1.01"),
        ("spectrum", "spectrum cut0.wav tone.wav --curve --differences 2"),
        ("spectrogram", "spectrogram tone.wav --slice 0.5s --slice 440Hz"),
        ("pitch", "pitch tone.wav"),
        ("partials", "partials cut0.wav --tracks"),
        ("timbre", "timbre cut0.wav tone.wav --tracks"),
        ("tuning", "tuning cut0.wav tone.wav --interval G3..A4"),
        ("compare", "compare cut0.wav cut1.wav"),
        ("compare_groups", "compare cut0.wav+cut2.wav cut1.wav+tone.wav"),
        ("trend", "trend --quantity partials.f0_hz --over cut"),
        ("study_list", "study list"),
    ] {
        let run = bench.run(&format!("{arguments} --format json --quiet"));
        assert_eq!(run.status, 0, "{arguments}: {}", run.err);
        insta::assert_snapshot!(name, shape(&run.out));
    }
}

#[test]
fn heads_of_tables_are_those_that_were_reviewed() {
    let bench = study();
    let heads: Vec<String> = [
        "inspect cut0.wav",
        "spectrum cut0.wav",
        "spectrum cut0.wav --curve",
        "spectrogram tone.wav",
        "pitch tone.wav",
        "partials cut0.wav",
        "partials cut0.wav --tracks",
        "timbre cut0.wav",
        "timbre cut0.wav --tracks",
        "tuning cut0.wav cut1.wav",
        "compare cut0.wav cut1.wav",
        "compare cut0.wav+cut2.wav cut1.wav+tone.wav",
        "trend --quantity partials.f0_hz --over cut",
        "study list",
    ]
    .iter()
    .map(|arguments| {
        let run = bench.run(&format!("{arguments} --format csv --quiet"));
        assert_eq!(run.status, 0, "{arguments}: {}", run.err);
        format!("{arguments}\n    {}", head(&run))
    })
    .collect();
    insta::assert_snapshot!("heads", heads.join("\n"));
}
