//! `unison`: strings together, beside one alone and beside an earlier take; what is said of what is
//! no unison.

use tonemap_core::synth::{PluckedString, coloured_noise, mix, to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number};

const RATE_HZ: f64 = 48_000.0;

/// Strings around 196 Hz, each with its cents and the share by which it is stiffer.
fn strings(of: &[(f64, f64)], seed: u64) -> Vec<f64> {
    let mut sound = white_noise(seed, 2e-5, 5 * 48_000);
    for (n, (cents, stiffer)) in of.iter().enumerate() {
        let string = PluckedString {
            frequency_hz: 196.0 * (cents / 1200.0f64).exp2(),
            inharmonicity: 1e-4 * (1.0 + stiffer),
            pluck_position: 0.37 - 0.03 * n as f64,
            t60_s: 6.0 - 0.5 * n as f64,
            amplitude: 0.25 - 0.04 * n as f64,
            ..PluckedString::default()
        };
        mix(&mut sound[9600..], &string.render(RATE_HZ, 4.8));
    }
    sound
}

fn bench(takes: &[(&str, Vec<f64>)]) -> Bench {
    let bench = Bench::new();
    for (name, sound) in takes {
        bench.take(name, 48_000, WavEncoding::Float, &[to_samples(sound)]);
    }
    bench
}

fn diagnosed(result: &serde_json::Value) -> Vec<&str> {
    let all = result["diagnosis"].as_array().expect("a diagnosis");
    all.iter().filter_map(|one| one["code"].as_str()).collect()
}

#[test]
fn a_pair_is_told_by_its_mistuning_and_stiffness() {
    let bench = bench(&[("pair.wav", strings(&[(0.0, 0.0), (1.4, -0.05)], 1))]);
    let json = bench.json("unison pair.wav --format json");
    assert_eq!(json["kind"], "unison");
    let result = &json["result"];
    assert_eq!(result["strings"].as_array().map(Vec::len), Some(2));
    let off = |key: &str, truth: f64| (number(&result[key]) - truth).abs();
    let u = |key: &str| number(&result[&format!("{key}_u")]);
    assert!(off("mistuning_cents", 1.4) < 3.0 * u("mistuning_cents"), "{result}");
    assert!(u("mistuning_cents") < 0.001, "{result}");
    assert!(off("inharmonicity_difference", -5e-6) < 3.0 * u("inharmonicity_difference"));
    assert!(u("inharmonicity_difference") < 2e-8, "{result}");
    assert_eq!(diagnosed(result), ["mistuned", "stiffness_differs"]);
    // Each partial beats with what its two tones are apart.
    for partial in result["partials"].as_array().expect("partials") {
        let n = number(&partial["number"]);
        let hz = |f: f64, b: f64| n * f * (1.0 + b * n * n).sqrt();
        let truth = hz(196.0 * (1.4 / 1200.0f64).exp2(), 0.95e-4) - hz(196.0, 1e-4);
        let beat = number(&partial["beat_hz"]);
        assert!((beat - truth).abs() < 4.0 * number(&partial["beat_hz_u"]) + 1e-6, "{partial}");
        assert_eq!(partial["hidden"], false);
    }
    let text = bench.run("unison pair.wav").out;
    assert!(text.contains("The weaker string is 1.400"), "{text}");
    assert!(text.contains("cents higher than the stronger"), "{text}");
    let csv = bench.run("unison pair.wav --format csv").out;
    assert_eq!(csv.lines().count(), 9, "{csv}");
}

#[test]
fn a_string_alone_tells_which_way_the_other_is_off() {
    let bench = bench(&[
        ("pair.wav", strings(&[(0.0, 0.0), (-0.8, 0.0)], 1)),
        ("first.wav", strings(&[(0.0, 0.0)], 2)),
        ("second.wav", strings(&[(-0.8, 0.0)], 3)),
    ]);
    let of = |name: &str| {
        let json = bench.json(&format!("unison pair.wav --against {name} --format json"));
        json["result"]["against"].clone()
    };
    let first = of("first.wav");
    assert_eq!(first["string"], 1);
    assert!((number(&first["other_cents"]) + 0.8).abs() < 0.005, "{first}");
    assert!(number(&first["moved_cents"]).abs() < 0.005, "{first}");
    assert!(number(&first["grade"]) > 99.5 && first["beats_alone"] == serde_json::json!([]));
    let second = of("second.wav");
    assert_eq!(second["string"], 2);
    assert!((number(&second["other_cents"]) - 0.8).abs() < 0.005, "{second}");
    let text = bench.run("unison pair.wav --against first.wav").out;
    let words: Vec<&str> = text.split_whitespace().collect();
    let text = words.join(" ");
    assert!(text.contains("the other string is 0.80"), "{text}");
    assert!(text.contains("cents lower; alone it does not beat"), "{text}");
}

#[test]
fn what_became_of_a_unison_is_told_with_its_limits() {
    let bench = bench(&[
        ("before.wav", strings(&[(0.0, 0.0), (0.3, 0.0)], 1)),
        ("again.wav", strings(&[(0.0, 0.0), (0.3, 0.0)], 2)),
        ("after.wav", strings(&[(0.0, 0.0), (1.2, 0.0)], 3)),
    ]);
    let since = |name: &str| {
        let json = bench.json(&format!("unison {name} --before before.wav --format json"));
        json["result"]["before"].clone()
    };
    let worse = since("after.wav");
    assert!(number(&worse["grade_change"]) < -3.0 && worse["distinguishable"] == true, "{worse}");
    assert!((number(&worse["mistuning_change_cents"]) - 0.9).abs() < 0.01, "{worse}");
    assert!(worse["worse"].as_array().is_some_and(|all| all.len() >= 5), "{worse}");
    let same = since("again.wav");
    assert!(same["distinguishable"] == false && same["worse"] == serde_json::json!([]), "{same}");
    let limited = bench.run("unison after.wav --require grade>95 --quiet");
    assert_eq!(limited.status, 3, "{}", limited.err);
    assert!(limited.err.contains("grade is"), "{}", limited.err);
    assert_eq!(bench.run("unison before.wav --require grade>95 --quiet").status, 0);
    let line = "unison after.wav --before before.wav --require before.grade_change>-3 --quiet";
    assert_eq!(bench.run(line).status, 3);
}

#[test]
fn noise_hides_and_is_not_judged() {
    let mut sound = strings(&[(0.0, 0.0), (1.0, 0.0)], 1);
    let samples = sound.len();
    mix(&mut sound, &coloured_noise(5, 0.03, 1372.0, 40.0, RATE_HZ, samples));
    let bench = bench(&[("fan.wav", sound)]);
    let result = bench.json("unison fan.wav --format json")["result"].clone();
    let seventh = &result["partials"][6];
    assert!(seventh["hidden"] == true && seventh["beat_hz"].is_null(), "{seventh}");
    assert!(diagnosed(&result).contains(&"hidden"), "{:?}", diagnosed(&result));
    let (cents, u) = (number(&result["mistuning_cents"]), number(&result["mistuning_cents_u"]));
    assert!((cents - 1.0).abs() < 3.0 * u && u < 0.02, "{cents} ± {u}");
}

#[test]
fn one_string_is_no_mistuned_pair() {
    let bench = bench(&[("one.wav", strings(&[(0.0, 0.0)], 1))]);
    let result = bench.json("unison one.wav --format json")["result"].clone();
    assert!(result["mistuning_cents"].is_null() && number(&result["grade"]) > 99.5, "{result}");
    assert_eq!(diagnosed(&result), ["in_tune"]);
    let nearer = number(&result["nearer_than_cents"]);
    assert!(nearer > 0.0 && nearer < 0.2, "{nearer}");
    let text = bench.run("unison one.wav").out;
    assert!(text.contains("No beat is heard: a single string, or strings within"), "{text}");
}

#[test]
fn all_partials_alike_are_tremolo() {
    let mut sound = strings(&[(0.0, 0.0)], 1);
    for (n, x) in sound.iter_mut().enumerate() {
        *x *= 1.0 + 0.3 * (std::f64::consts::TAU * 3.0 * n as f64 / RATE_HZ).sin();
    }
    let bench = bench(&[("tremolo.wav", sound)]);
    let result = bench.json("unison tremolo.wav --format json")["result"].clone();
    assert_eq!(diagnosed(&result), ["same_beat"]);
    assert!(result["mistuning_cents"].is_null(), "{result}");
}

#[test]
fn two_notes_are_no_unison() {
    let mut sound = strings(&[(0.0, 0.0)], 1);
    mix(&mut sound, &strings(&[(60.0, 0.0)], 2));
    let bench = bench(&[("two.wav", sound)]);
    let result = bench.json("unison two.wav --format json")["result"].clone();
    assert_eq!(diagnosed(&result), ["no_string"]);
    assert!(result["mistuning_cents"].is_null() && result["grade"].is_null(), "{result}");
}

#[test]
fn what_is_no_note_is_refused_or_not_judged() {
    let silence = vec![0.0; 96_000];
    let noise = white_noise(3, 0.05, 96_000);
    let mut short = strings(&[(0.0, 0.0), (1.0, 0.0)], 1);
    short.truncate(9600 + 480);
    let clipped: Vec<f64> =
        strings(&[(0.0, 0.0), (1.0, 0.0)], 1).iter().map(|x| (4.0 * x).clamp(-0.3, 0.3)).collect();
    let bench = bench(&[
        ("silence.wav", silence),
        ("noise.wav", noise),
        ("short.wav", short),
        ("clipped.wav", clipped),
    ]);
    for name in ["silence.wav", "noise.wav", "short.wav"] {
        let run = bench.run(&format!("unison {name}"));
        assert_eq!(run.status, 1, "{name}: {}", run.out);
        assert!(run.err.starts_with("tonemap: ") && run.err.lines().count() == 1, "{}", run.err);
    }
    let clipped = bench.json("unison clipped.wav --format json");
    assert!(
        codes(&clipped).contains(&"flat_top") || codes(&clipped).contains(&"clipped"),
        "{:?}",
        codes(&clipped)
    );
    let wrong = bench.run("unison clipped.wav --strings 4");
    assert_eq!(wrong.status, 2, "{}", wrong.err);
    let missing = bench.run("unison clipped.wav --against none.wav");
    assert_eq!(missing.status, 1, "{}", missing.err);
    assert!(missing.err.contains("none.wav"), "{}", missing.err);
}
