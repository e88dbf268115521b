//! `tuning`: notes against temperaments, intervals, bells against targets, limits.

use tonemap_core::synth::{Partial, PluckedString, alder_hall, mix, to_samples, white_noise};
use tonemap_core::units::Note;
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number};

const RATE_HZ: f64 = 48_000.0;

/// A string at a frequency, with noise.
fn string(f0_hz: f64, inharmonicity: f64) -> Vec<f32> {
    let string = PluckedString {
        frequency_hz: f0_hz / (1.0 + inharmonicity).sqrt(),
        inharmonicity,
        t60_s: 4.0,
        ..PluckedString::default()
    };
    let mut sound = white_noise(f0_hz as u64, 1e-5, 72_000);
    mix(&mut sound[4800..], &string.render(RATE_HZ, 1.4));
    to_samples(&sound)
}

fn add(bench: &Bench, name: &str, f0_hz: f64, inharmonicity: f64) {
    bench.take(name, 48_000, WavEncoding::Float, &[string(f0_hz, inharmonicity)]);
}

/// C4, E4, G4 and A4 around A4 at 442 Hz, by so many cents.
fn chord(bench: &Bench, cents: [f64; 4]) {
    let notes = [("c.wav", 60), ("e.wav", 64), ("g.wav", 67), ("a.wav", 69)];
    for ((name, midi), cents) in notes.into_iter().zip(cents) {
        add(bench, name, Note(midi).frequency_hz(442.0) * (cents / 1200.0f64).exp2(), 1e-4);
    }
}

#[test]
fn notes_are_told_against_the_reference_given_or_fitted() {
    let bench = Bench::new();
    chord(&bench, [1.0, -1.0, 2.0, 0.5]);
    let json = bench.json("tuning a.wav c.wav e.wav g.wav --reference 442Hz --format json");
    assert_eq!(json["kind"], "tuning");
    let result = &json["result"];
    assert_eq!(json["takes"].as_array().map(Vec::len), Some(4));
    assert_eq!(result["temperament"], "equal");
    let notes = result["notes"].as_array().expect("notes");
    let named: Vec<&str> = notes.iter().filter_map(|note| note["note"].as_str()).collect();
    assert_eq!(named, ["C4", "E4", "G4", "A4"], "from the lowest up");
    for (note, truth) in notes.iter().zip([1.0, -1.0, 2.0, 0.5]) {
        assert!((number(&note["cents"]) - truth).abs() < 0.05, "{note}");
        assert!((number(&note["inharmonicity"]) / 1e-4 - 1.0).abs() < 0.02, "{note}");
        assert!(number(&note["cents_u"]) < 0.05);
    }
    let fitted = bench.json("tuning a.wav c.wav e.wav g.wav --reference fit --format json");
    let reference_hz = number(&fitted["result"]["reference_hz"]);
    let mean = (1.0 - 1.0 + 2.0 + 0.5) / 4.0;
    assert!((1200.0 * (reference_hz / 442.0).log2() - mean).abs() < 0.3, "{reference_hz}");
    assert!(number(&fitted["result"]["fitted_reference_hz_u"]) > 0.0);
    let one = bench.json("tuning a.wav --format json");
    assert_eq!(one["take"]["path"], "a.wav");
    let text = bench.run("tuning a.wav c.wav e.wav g.wav --reference fit").out;
    for wanted in ["off ¢", "B e-6", "which fits best", "scatter by"] {
        assert!(text.contains(wanted), "{wanted}: {text}");
    }
}

#[test]
fn temperaments_are_known_or_read_from_a_file() {
    let bench = Bench::new();
    // A just chord on C with A4 at 440 Hz.
    let c_hz = 440.0 * 3.0 / 5.0;
    for (name, ratio) in [("c.wav", 1.0), ("e.wav", 1.25), ("g.wav", 1.5), ("a.wav", 5.0 / 3.0)] {
        add(&bench, name, ratio * c_hz, 5e-5);
    }
    let takes = "c.wav e.wav g.wav a.wav";
    let cents = |arguments: &str| -> Vec<f64> {
        let json = bench.json(&format!("tuning {takes} {arguments} --format json"));
        let notes = json["result"]["notes"].as_array().expect("notes").clone();
        notes.iter().map(|note| number(&note["cents"])).collect()
    };
    assert!(cents("--temperament just").iter().all(|cents| cents.abs() < 0.05));
    assert!((cents("")[1] + 13.69 - 15.64).abs() < 0.05, "an equal third above C that is sharp");
    bench.write(
        "own.toml",
        b"name = \"own\"\ncents = [0, 100, 204, 300, 386.314, 498, 600, 701.955, 800, 884.359, 1000, 1088]\n",
    );
    assert!(cents("--temperament own.toml").iter().all(|cents| cents.abs() < 0.05));
    let wrong = bench.run(&format!("tuning {takes} --temperament well"));
    assert_eq!(wrong.status, 2);
    assert!(wrong.err.contains("werckmeister-iii"), "{}", wrong.err);
    bench.write("short.toml", b"name = \"short\"\ncents = [0, 100]\n");
    let short = bench.run(&format!("tuning {takes} --temperament short.toml"));
    assert_eq!(short.status, 2);
    assert!(short.err.contains("twelve cents"), "{}", short.err);
    bench.write("odd.toml", b"cents = 3");
    assert_eq!(bench.run(&format!("tuning {takes} --temperament odd.toml")).status, 2);
    assert_eq!(bench.run(&format!("tuning {takes} --temperament none.toml")).status, 1);
    assert_eq!(bench.run(&format!("tuning {takes} --root H")).status, 2);
}

#[test]
fn an_interval_is_told_with_the_beats_of_its_partials() {
    let bench = Bench::new();
    add(&bench, "low.wav", 196.0, 2e-4);
    add(&bench, "high.wav", 196.0 * 1.4983, 3e-4);
    let json = bench.json("tuning high.wav low.wav --interval low..high --format json");
    let interval = &json["result"]["intervals"][0];
    let place = |f0: f64, b: f64, n: f64| n * f0 * ((1.0 + b * n * n) / (1.0 + b)).sqrt();
    assert_eq!(interval["lower"], "low.wav");
    assert_eq!(interval["ratio"][0], 3);
    for (n, pair) in interval["pairs"].as_array().expect("pairs").iter().enumerate() {
        let times = (n + 1) as f64;
        let truth = place(196.0 * 1.4983, 3e-4, 2.0 * times) - place(196.0, 2e-4, 3.0 * times);
        assert!((number(&pair["beat_hz"]) - truth).abs() < 0.02, "{pair} {truth}");
    }
    let by_note = bench.run("tuning high.wav low.wav --interval G3..D4");
    assert_eq!(by_note.status, 0, "{}", by_note.err);
    assert!(by_note.out.contains("from 3:2") && by_note.out.contains("beat Hz"), "{}", by_note.out);
    let wrong = bench.run("tuning high.wav low.wav --interval G3..C9");
    assert_eq!(wrong.status, 2);
    assert!(wrong.err.contains("no note or take 'C9'"), "{}", wrong.err);
    assert_eq!(bench.run("tuning high.wav low.wav --interval G3").status, 2);
}

#[test]
fn the_notes_of_a_scale_are_told_one_by_one() {
    let bench = Bench::new();
    let scale = to_samples(&alder_hall::flute_scale(RATE_HZ));
    bench.take("scale.wav", 48_000, WavEncoding::Float, &[scale]);
    let json = bench.json("tuning scale.wav --format json");
    let notes = json["result"]["notes"].as_array().expect("notes");
    assert_eq!(notes.len(), alder_hall::FLUTE_SCALE.len());
    for (note, (midi, cents)) in notes.iter().zip(alder_hall::FLUTE_SCALE) {
        assert_eq!(note["midi"], midi);
        assert!((number(&note["cents"]) - cents).abs() < 0.3, "{note}");
    }
    assert!(bench.run("tuning scale.wav").out.contains("from s"));
}

#[test]
fn a_bell_is_told_against_the_ratios_wanted() {
    let bench = Bench::new();
    for cut in [0, 6] {
        let bell = to_samples(&alder_hall::bell_note_after(cut, RATE_HZ, 4.0));
        bench.take(&format!("bell{cut}.wav"), 48_000, WavEncoding::Float, &[bell]);
    }
    let json = bench.json("tuning bell0.wav bell6.wav --free --target 1,3,9 --format json");
    let takes = json["result"]["takes"].as_array().expect("takes");
    let truth = |cut| {
        let partials: Vec<Partial> = alder_hall::bell_after(cut);
        1200.0 * (partials[2].frequency_hz / partials[0].frequency_hz / 3.0).log2()
    };
    for (take, cut) in takes.iter().zip([0, 6]) {
        let third = &take["targets"][1];
        assert!((number(&third["cents"]) - truth(cut)).abs() < 0.5, "{third} {}", truth(cut));
        assert!(number(&third["cents_u"]) > 0.0);
    }
    assert_eq!(bench.run("tuning bell0.wav bell6.wav --free").status, 2);
    let csv = bench.run("tuning bell0.wav bell6.wav --free --target 1,3 --format csv").out;
    assert_eq!(csv.lines().count(), 5, "{csv}");
    let figure = bench.run("tuning bell0.wav bell6.wav --free --target 1,3 --figure cuts.png");
    assert_eq!(figure.status, 0, "{}", figure.err);
    assert!(figure.out.contains("3 wanted"), "{}", figure.out);
    let missed =
        bench.run("tuning bell0.wav bell6.wav --free --target 3 --require cents<5 --quiet");
    assert_eq!(missed.status, 3);
    assert!(
        missed.err.contains("bell0.wav") && !missed.err.contains("bell6.wav"),
        "{}",
        missed.err
    );
    assert_eq!(bench.run("tuning bell0.wav --free --target 0").status, 2);
}

#[test]
fn a_workshop_can_accept_or_refuse_and_a_bad_take_does_not_stop_it() {
    let bench = Bench::new();
    chord(&bench, [1.0, -4.5, 2.0, 0.5]);
    bench.take("silent.wav", 48_000, WavEncoding::Float, &[vec![0.0; 48_000]]);
    let takes = "c.wav e.wav g.wav a.wav --reference 442Hz --quiet";
    assert_eq!(bench.run(&format!("tuning {takes} --require cents<5")).status, 0);
    let missed = bench.run(&format!("tuning {takes} --require cents<3"));
    assert_eq!(missed.status, 3);
    assert!(missed.err.contains("E4 (e.wav): cents is −4.") && missed.err.lines().count() == 1);
    let with_bad = bench.run(&format!("tuning silent.wav {takes} --format csv"));
    assert_eq!(with_bad.status, 1);
    assert!(with_bad.err.contains("silent.wav") && with_bad.err.contains("fundamental"));
    assert_eq!(with_bad.out.lines().count(), 5, "{}", with_bad.out);
}

#[test]
fn a_study_says_which_notes_are_expected() {
    let bench = Bench::new();
    // A string that has slipped by most of a semitone is still taken for what it should be.
    add(&bench, "string-c4.wav", Note(60).frequency_hz(440.0) * (-70.0f64 / 1200.0).exp2(), 1e-4);
    add(&bench, "string-d4.wav", Note(62).frequency_hz(440.0), 1e-4);
    assert_eq!(bench.run("study make .").status, 0);
    let added =
        bench.run("study add string-c4.wav string-d4.wav --pattern string-{note}.wav --group all");
    assert_eq!(added.status, 0, "{}", added.err);
    let json = bench.json("tuning --where group=all --format json");
    let notes = json["result"]["notes"].as_array().expect("notes");
    assert_eq!(notes[0]["note"], "C4");
    assert!((number(&notes[0]["cents"]) + 70.0).abs() < 0.1, "{}", notes[0]);
    assert!(codes(&json).contains(&"far_from_note"));
    for view in ["compass", "spectra"] {
        let run = bench.run(&format!("tuning --where group=all --figure {view}.png --view {view}"));
        assert_eq!(run.status, 0, "{}", run.err);
        assert!(bench.path(&format!("{view}.png")).exists());
    }
}

#[test]
fn a_string_of_another_gauge_stands_apart() {
    let bench = Bench::new();
    for gauge in [1.0, 2.0] {
        for midi in (48..=84).step_by(2) {
            let inharmonicity = 1e-4 * (f64::from(midi - 48) / 18.0).exp2();
            let inharmonicity = inharmonicity * if midi == 66 { gauge } else { 1.0 };
            add(&bench, &format!("{midi}.wav"), Note(midi).frequency_hz(440.0), inharmonicity);
        }
        let takes: Vec<String> = (48..=84).step_by(2).map(|midi| format!("{midi}.wav")).collect();
        let found = bench.json(&format!("tuning {} --format json --quiet", takes.join(" ")));
        let is_told = codes(&found).contains(&"other_string");
        assert_eq!(is_told, gauge > 1.0, "{gauge}: {:?}", codes(&found));
        if is_told {
            let text = bench.run(&format!("tuning {}", takes.join(" "))).out;
            let said = text.split("[other_string]").nth(1).expect("the finding");
            assert!(said.contains("F#4 (66.wav) with B ="), "{said}");
        }
    }
}
