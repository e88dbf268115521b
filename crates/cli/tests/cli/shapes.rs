//! The keys of every result, which programs rely on: one that is new, gone, renamed or of another
//! type is a difference from the shape that was reviewed.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;
use tonemap_core::synth::{alder_hall, alder_rooms, to_samples};
use tonemap_media::WavEncoding;

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
    done(&["signal", string, other, noise, "--duration", "3s", "--output", "pair.wav", "--quiet"]);
    let others = ["tone frequency=1767.7Hz level=-45dB", "tone frequency=50Hz level=-50dB"];
    let lasting = ["--duration", "2s", "--output", "others.wav", "--quiet"];
    done(&[&["signal", string, others[0], others[1], noise], &lasting[..]].concat());
    let two = ["tone frequency=500Hz level=-20dB", "tone frequency=504Hz level=-26dB"];
    done(&["signal", two[0], two[1], "--duration", "3s", "--output", "beat.wav", "--quiet"]);
    done(&["study", "make", "."]);
    let takes = ["study", "add", "cut0.wav", "cut1.wav", "cut2.wav"];
    done(&[&takes[..], &["--pattern", "cut{cut}.wav", "--note", "G3"]].concat());
    let sounds = [
        ("pass.wav", alder_hall::passing_wagon(48_000.0, 6.5)),
        ("burst.wav", alder_rooms::green_room_burst(48_000.0, 1.6)),
    ];
    for (name, sound) in sounds {
        bench.take(name, 48_000, WavEncoding::Float, &[to_samples(&sound)]);
    }
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
        ("partials_others", "partials others.wav --others"),
        ("timbre", "timbre cut0.wav tone.wav --tracks"),
        ("tuning", "tuning cut0.wav tone.wav --interval G3..A4"),
        ("modulation", "modulation tone.wav beat.wav"),
        ("bands", "bands cut0.wav tone.wav --course --fraction 1 --range 125Hz..4kHz"),
        ("loudness", "loudness tone.wav beat.wav --course --assume full-scale=94dB"),
        ("transfer", "transfer cut0.wav cut1.wav --curve"),
        ("room", "room burst.wav"),
        ("passby", "passby pass.wav"),
        ("notate", "notate tone.wav"),
        ("notate_chord", "notate cut0.wav --chord-at 0.5s"),
        ("isolation", "isolation --source cut0.wav --receiver cut1.wav --decay 0.5s"),
        ("unison", "unison cut0.wav --against cut1.wav"),
        ("unison_before", "unison cut0.wav --before cut2.wav"),
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
        "partials others.wav --others",
        "partials pair.wav --components",
        "timbre cut0.wav",
        "timbre cut0.wav --tracks",
        "tuning cut0.wav cut1.wav",
        "unison cut0.wav",
        "modulation tone.wav",
        "bands tone.wav",
        "bands tone.wav --course --fraction 1",
        "loudness tone.wav --assume full-scale=94dB",
        "loudness tone.wav --assume full-scale=94dB --specific",
        "loudness tone.wav --assume full-scale=94dB --course",
        "transfer cut0.wav cut1.wav",
        "transfer cut0.wav cut1.wav --curve",
        "room burst.wav",
        "passby pass.wav",
        "notate cut0.wav --partials",
        "isolation --source cut0.wav --receiver cut1.wav",
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

/// Keys of numbers that say which thing it is or how it was made, and those of lists that are
/// curves.
const NO_QUANTITIES: [&str; 22] = [
    "number",
    "midi",
    "partial",
    "target_ratio",
    "lower_partial",
    "upper_partial",
    "ratio",
    "size",
    "transform_size",
    "averaged_frames",
    "hop_s",
    "frames",
    "columns",
    "rows",
    "phase_instant_s",
    "expected_hz",
    "reach_cents",
    "strongest_harmonic",
    "from_s",
    "to_s",
    "center_hz",
    "members",
];

/// The keys of all numbers of a result, as `--require` has them.
fn numbers(path: &str, value: &Value, keys: &mut Vec<String>) {
    match value {
        Value::Object(fields) => {
            for (key, inner) in fields {
                let is_u = key.strip_suffix("_u").is_some_and(|base| fields.contains_key(base));
                let is_curve = [
                    "track", "tracks", "curve", "course", "clips", "slices", "bands", "clicks_s",
                    "dropouts", "lines_hz", "members", "values", "points", "spectrum", "specific",
                ];
                // A band is known by its middle.
                let is_edge =
                    matches!(&**key, "low_hz" | "high_hz") && fields.contains_key("center_hz");
                if is_u
                    || is_edge
                    || NO_QUANTITIES.contains(&key.as_str())
                    || is_curve.contains(&key.as_str())
                {
                    continue;
                }
                let here = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
                numbers(&here, inner, keys);
            }
        }
        Value::Array(items) => {
            for (n, item) in items.iter().enumerate() {
                let number = item["number"].as_u64().unwrap_or(n as u64 + 1);
                numbers(&format!("{path}[{number}]"), item, keys);
            }
        }
        Value::Number(_) => keys.push(path.into()),
        _ => {}
    }
}

/// Whatever number a result has can be limited, followed over a condition and compared: none is
/// forgotten in the list of its quantities.
#[test]
fn every_number_of_a_result_is_a_quantity() {
    let bench = study();
    for line in [
        "inspect cut0.wav --from 0.3 --to 0.5",
        "spectrum cut0.wav --from 0.4 --differences 3",
        "spectrogram tone.wav --onsets",
        "pitch tone.wav",
        "partials cut0.wav --ratios-to 1 --target 1,2,3",
        "timbre tone.wav",
        "tuning cut0 cut1 cut2 --interval cut0..cut1",
        "unison pair.wav",
        "modulation tone.wav",
        "modulation beat.wav",
        "bands tone.wav",
        "loudness tone.wav --assume full-scale=94dB",
        "transfer cut0.wav cut1.wav --gate 10ms",
        "room burst.wav",
        "passby pass.wav",
        "notate cut0.wav --chord-at 0.5s",
        "isolation --source cut0.wav --receiver cut1.wav --decay 0.5s",
        "compare cut0 cut1",
    ] {
        let run = bench.run(&format!("{line} --format json --quiet"));
        let json: Value = serde_json::from_str(&run.out).expect("JSON");
        let mut keys = Vec::new();
        numbers("", &json["result"], &mut keys);
        // Partials and descriptors of a comparison are found by their own keys.
        keys.retain(|key| !line.starts_with("compare") || !key.contains('['));
        assert!(keys.len() > 5, "{line}: {keys:?}");
        for some in keys.chunks(40) {
            let mut words: Vec<&str> = line.split(' ').chain(["--quiet"]).collect();
            let limits: Vec<String> = some.iter().map(|key| format!("{key}>=-1e300")).collect();
            words.extend(limits.iter().flat_map(|limit| ["--require", limit]));
            let run = bench.run_words(&words);
            assert_eq!(run.status, 0, "{line}: {}", run.err);
        }
    }
    let limit = "difference.partials[2].frequency_hz<2";
    let run = bench.run_words(&["compare", "cut0", "cut1", "--quiet", "--require", limit]);
    assert_eq!(run.status, 0, "{}", run.err);
}
