//! `isolation`: the level difference of two rooms, and its single numbers.

use serde_json::Value;
use tonemap_core::isolation::airborne;
use tonemap_core::synth::{to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number};

const RATE: u32 = 16_000;

fn noise(seed: u64, rms: f64) -> Vec<f32> {
    to_samples(&white_noise(seed, rms, 8 * RATE as usize))
}

/// Five positions in each room, 40 dB apart, and a background 8 dB below.
fn rooms() -> Bench {
    let bench = Bench::new();
    let all = |first: u64, rms: f64| -> Vec<Vec<f32>> {
        (first..first + 5).map(|seed| noise(seed, rms)).collect()
    };
    bench.take("hall.wav", RATE, WavEncoding::Float, &all(10, 0.1));
    bench.take("green.wav", RATE, WavEncoding::Float, &all(20, 0.001));
    bench.take("quiet.wav", RATE, WavEncoding::Float, &all(30, 0.001 * 10f64.powf(-0.4)));
    bench
}

fn json(bench: &Bench, arguments: &str) -> Value {
    let mut words: Vec<&str> = vec!["isolation", "--assume", "full-scale = 120dB"];
    words.extend(arguments.split(' '));
    words.extend(["--format", "json", "--quiet"]);
    let run = bench.run_words(&words);
    assert_eq!(run.status, 0, "{arguments}: {}", run.err);
    serde_json::from_str(&run.out).expect("JSON")
}

#[test]
fn a_known_difference_is_found_and_rated() {
    let bench = rooms();
    let found = json(&bench, "--source hall.wav --receiver green.wav");
    let bands = found["result"]["bands"].as_array().expect("bands");
    assert_eq!(bands.len(), 21);
    for band in bands {
        let (db, u) = (number(&band["difference_db"]), number(&band["difference_db_u"]));
        assert!((db - 40.0).abs() < 4.0 * u + 0.05 && u < 0.6, "{band}");
    }
    assert!((number(&found["result"]["overall"]["difference_db"]) - 40.0).abs() < 0.1);
    let values: Vec<(f64, f64)> = bands
        .iter()
        .map(|band| (number(&band["center_hz"]), number(&band["difference_db"])))
        .collect();
    let wanted = airborne("Dw", 3, &values).expect("a rating");
    let rating = &found["result"]["rating"];
    assert_eq!(rating["quantity"], "Dw");
    assert_eq!(rating["value_db"], wanted.value_db);
    assert_eq!((&rating["c_db"], &rating["ctr_db"]), (&wanted.c_db.into(), &wanted.ctr_db.into()));
    assert_eq!(found["findings"].as_array().map(Vec::len), Some(1), "{}", found["findings"]);
    assert_eq!(codes(&found), ["assumed_calibration"]);
}

#[test]
fn the_background_and_the_receiving_room_count() {
    let bench = rooms();
    let mut mixed: Vec<Vec<f32>> = (20..25).map(|seed| noise(seed, 0.001)).collect();
    for (seed, channel) in (50..).zip(&mut mixed) {
        let background = noise(seed, 0.001 * 10f64.powf(-0.4));
        channel.iter_mut().zip(background).for_each(|(x, y)| *x += y);
    }
    bench.take("green.wav", RATE, WavEncoding::Float, &mixed);
    let line = "--source hall.wav --receiver green.wav --background quiet.wav --decay 0.8s \
                --volume 40m3 --area 10m2";
    let found = json(&bench, line);
    let rating = &found["result"]["rating"];
    assert_eq!(rating["quantity"], "R'w");
    for band in found["result"]["bands"].as_array().expect("bands") {
        let difference = number(&band["difference_db"]);
        assert!((difference - 40.0).abs() < 4.0 * number(&band["difference_db_u"]), "{band}");
        assert_eq!(band["correction"], "subtracted");
        let standardized = difference + 10.0 * (0.8f64 / 0.5).log10();
        assert!((number(&band["standardized_db"]) - standardized).abs() < 1e-9);
        let reduction = difference + 10.0 * (10.0 * 0.8f64 / (0.16 * 40.0)).log10();
        assert!((number(&band["normalized_db"]) - reduction).abs() < 1e-9);
    }
    // The same from a table, where a band that it lacks has no value.
    bench.write("decay.csv", b"center_hz,t20_s,t30_s\n100,0.9,0.8\n125,0.8,\n");
    let found = json(&bench, "--source hall.wav --receiver green.wav --decay decay.csv");
    let of = |hz: f64| {
        let bands = found["result"]["bands"].as_array().expect("bands");
        bands.iter().find(|band| band["center_hz"] == hz).expect("a band")["decay_s"].clone()
    };
    assert_eq!((of(100.0), of(125.0), of(160.0)), (0.8.into(), 0.8.into(), Value::Null));
    let saved = br#"{"result": {"bands": [{"center_hz": 100, "t30_s": 0.7}, {"center_hz": 200}]}}"#;
    bench.write("decay.json", saved);
    let found = json(&bench, "--source hall.wav --receiver green.wav --decay decay.json");
    let known = found["result"]["bands"].as_array().expect("bands").iter();
    let known: Vec<&Value> = known.map(|band| &band["decay_s"]).filter(|s| !s.is_null()).collect();
    assert_eq!(known, [&Value::from(0.7)]);
    bench.write("wrong.csv", b"hz,s\n1,2\n");
    let run = bench.run("isolation --source hall.wav --receiver green.wav --decay wrong.csv");
    assert_eq!(run.status, 1);
    assert!(run.err.contains("has a column center_hz"), "{}", run.err);
}

#[test]
fn positions_are_named_by_channel() {
    let bench = rooms();
    let channels: Vec<Vec<f32>> =
        (0..4).map(|n| noise(60 + n, if n < 2 { 0.1 } else { 0.01 })).collect();
    bench.take("wall.wav", RATE, WavEncoding::Float, &channels);
    for line in [
        "--source wall.wav@1,wall.wav@2 --receiver wall.wav@3,wall.wav@4",
        "--source wall.wav@1,2 --receiver wall.wav@3,4",
        "--source wall.wav@1+wall.wav@2 --receiver wall.wav@3 --receiver wall.wav@4",
    ] {
        let found = json(&bench, line);
        assert_eq!(found["settings"]["source"].as_array().map(Vec::len), Some(2), "{line}");
        assert_eq!(found["settings"]["receiver"][1], "wall.wav, channel 4");
        assert!((number(&found["result"]["overall"]["difference_db"]) - 20.0).abs() < 0.1);
        assert!(codes(&found).contains(&"few_positions"));
    }
    let one = json(&bench, "--source wall.wav@1 --receiver wall.wav@3");
    let few = one["findings"].as_array().expect("findings").iter();
    let few = few.filter(|finding| finding["code"] == "few_positions").collect::<Vec<_>>();
    assert_eq!(few[0]["severity"], "warning");
}

#[test]
fn doubtful_rooms_are_found() {
    let bench = rooms();
    let reversed = json(&bench, "--source green.wav --receiver hall.wav");
    assert!(codes(&reversed).contains(&"difference_negative"));
    let near = json(&bench, "--source hall.wav --receiver quiet.wav --background green.wav");
    assert!(codes(&near).contains(&"background_near"));
    let band = &near["result"]["bands"][3];
    assert!(band["difference_db_u"].is_null() && band["correction"] == "limited", "{band}");
    let plain = bench.json("isolation --source hall.wav --receiver green.wav --format json");
    assert!(codes(&plain).contains(&"not_calibrated"));
    bench.take("silent.wav", RATE, WavEncoding::Float, &[vec![0.0; 80_000]]);
    let run = bench.run("isolation --source hall.wav --receiver silent.wav --quiet");
    assert_eq!(run.status, 1, "{}", run.err);
    assert!(run.err.contains("one of them is silent"), "{}", run.err);
    for (wrong, said) in [
        ("--receiver green.wav", "--source"),
        ("--impact --source hall.wav --receiver green.wav", "cannot be used with"),
        ("--source hall.wav --receiver green.wav --fraction 6", "3 for thirds or 1 for octaves"),
        ("--source hall.wav --receiver green.wav --volume 32m3", "--decay"),
        ("--source hall.wav --receiver green.wav --decay 0s", "the reverberation time is 0 s"),
        ("--source hall.wav@9 --receiver green.wav", "the channel is 9"),
    ] {
        let run = bench.run(&format!("isolation {wrong}"));
        assert_eq!(run.status, 2, "{wrong}: {}", run.err);
        assert!(run.err.contains(said), "{wrong}: {}", run.err);
    }
}

#[test]
fn impact_levels_limits_tables_and_figures() {
    let bench = rooms();
    let line = "--impact --receiver green.wav --decay 0.5s --volume 50m3 --fraction 1";
    let found = json(&bench, line);
    assert_eq!(found["result"]["rating"]["quantity"], "L'n,w");
    assert_eq!(found["result"]["ratings"][1]["quantity"], "L'nT,w");
    let band = &found["result"]["bands"][3];
    let wanted = number(&band["receiver_db"]) + 10.0 * (0.16f64 * 50.0 / (0.5 * 10.0)).log10();
    assert!((number(&band["normalized_db"]) - wanted).abs() < 1e-9, "{band}");
    assert!(band["source_db"].is_null() && band["difference_db"].is_null());
    let limit = ["--require", "rating.value_db>=60"];
    let words = ["isolation", "--source", "hall.wav", "--receiver", "green.wav", "--quiet"];
    let run = bench.run_words(&[&words[..], &limit].concat());
    assert_eq!(run.status, 3, "{}", run.err);
    assert!(run.out.contains("Dw (C; Ctr) = "), "{}", run.out);
    let csv = bench.run("isolation --source hall.wav --receiver green.wav --format csv").out;
    assert!(
        csv.starts_with("center_hz,source_db,receiver_db,background_db,corrected_db,"),
        "{csv}"
    );
    assert_eq!(csv.lines().count(), 22);
    for line in [
        "isolation --source hall.wav --receiver green.wav --figure a.png",
        "isolation --impact --receiver green.wav --decay 0.5s --figure b.svg",
    ] {
        assert_eq!(bench.run(&format!("{line} --quiet")).status, 0);
    }
}
