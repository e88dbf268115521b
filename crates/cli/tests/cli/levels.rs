//! A level means the same in every command and every form: dB re 20 µPa where the channel is
//! calibrated, dB re full scale where it is not.

use serde_json::Value;
use tonemap_core::synth::PluckedString;
use tonemap_media::WavEncoding;

use crate::bench::{Bench, number, sine};

/// Level of a full-scale sine, in dB re 20 µPa.
const FULL_SCALE_DB: f64 = 108.24;
/// Level of the tone of [`sine`], half of full scale: 20 lg 0.5.
const HALF_DB: f64 = -6.020_599_913_279_624;
/// As every command must give it.
const TONE_DB: f64 = FULL_SCALE_DB + HALF_DB;

/// A study of one calibrated tone and a take without calibration.
fn study() -> Bench {
    let bench = Bench::new();
    assert_eq!(bench.run("study make .").status, 0);
    for name in ["tone.wav", "other.wav", "plain.wav"] {
        bench.take(name, 48_000, WavEncoding::Float, &[sine(440.0)]);
    }
    let added = bench.run("study add tone.wav other.wav --channels rim:near --condition cut=1");
    assert_eq!(added.status, 0, "{}", added.err);
    let text = std::fs::read_to_string(bench.path("study.toml")).expect("a study");
    let calibrated = format!("[microphones.near]\nfull_scale_db = {FULL_SCALE_DB}\n");
    let text = text.replace("[microphones.near]\n", &calibrated).replacen("cut = 1", "cut = 0", 1);
    bench.write("study.toml", text.as_bytes());
    bench
}

fn is_near(level: &Value, wanted: f64, within_db: f64, what: &str) {
    let off_db = number(level) - wanted;
    println!("{what}: {off_db:.1e} dB off, {within_db:.1e} allowed");
    assert!(off_db.abs() < within_db, "{what}: {off_db} dB off {wanted}");
}

/// The value under a head in CSV, in its first row.
fn in_csv(table: &str, head: &str) -> f64 {
    let mut lines = table.lines();
    let place = lines.next().expect("a head").split(',').position(|name| name == head);
    let row = lines.next().expect("a row");
    let cell = row.split(',').nth(place.unwrap_or_else(|| panic!("{head} in {table}")));
    cell.and_then(|cell| cell.parse().ok()).unwrap_or_else(|| panic!("{head} in {row}"))
}

#[test]
fn a_calibrated_tone_has_one_level_everywhere() {
    let bench = study();
    let reference = |result: &Value| result["settings"]["level_reference"].clone();
    for (command, path, within_db) in [
        ("spectrum tone --peaks 1", "/result/peaks/0/level_db", 1.8e-8),
        ("partials tone", "/result/partials/0/level_db", 1.7e-6),
        ("partials tone --tracks", "/result/tracks/0/level_db/20", 1.4e-3),
        ("timbre tone", "/result/level_db", 1.5e-3),
        ("timbre tone --tracks", "/result/tracks/30/level_db", 1.6e-5),
        ("timbre tone", "/result/content/harmonics/0/level_db", 0.028),
        ("compare tone other", "/result/level_a_db", 4e-7),
        ("compare tone other", "/result/level_b_db", 7e-6),
        ("spectrogram tone", "/result/loudest_db", 4e-5),
    ] {
        let found = bench.json(&format!("{command} --format json --quiet"));
        let level = found.pointer(path).unwrap_or_else(|| panic!("{command}: {path}"));
        is_near(level, TONE_DB, within_db, command);
        assert_eq!(reference(&found), "20 µPa", "{command}");
        // The same sound without calibration.
        let plain = command.replace("tone", "plain.wav").replace("other", "plain.wav");
        let found = bench.json(&format!("{plain} --format json --quiet"));
        is_near(found.pointer(path).expect("the same"), HALF_DB, within_db, &plain);
        assert_eq!(reference(&found), "full scale", "{plain}");
    }
    let inspected = bench.json("inspect tone --format json");
    is_near(&inspected["result"]["channels"][0]["rms_db"], TONE_DB, 1.8e-7, "inspect");
    for (quantity, within_db) in [
        ("timbre.level_db", 1.5e-3),
        ("partials[1].level_db", 1.7e-6),
        ("spectrum.peaks[1].level_db", 1.8e-8),
    ] {
        let trend =
            bench.json(&format!("trend --quantity {quantity} --over cut --format json --quiet"));
        is_near(&trend["result"]["points"][0]["value"], TONE_DB, within_db, quantity);
    }
    for (command, head) in [
        ("spectrum tone --peaks 1", "level_db"),
        ("partials tone", "level_db"),
        ("timbre tone", "level_db"),
        ("timbre tone --harmonics", "level_db"),
        ("compare tone other", "level_a_db"),
    ] {
        let table = bench.run(&format!("{command} --format csv --quiet")).out;
        let level = in_csv(&table, head);
        assert!((level - TONE_DB).abs() < 0.01, "{command}: {level}");
        assert!(command.starts_with("compare") || table.contains(",20 µPa\n"), "{table}");
    }
    for command in ["spectrum tone --peaks 1", "partials tone", "timbre tone"] {
        let text = bench.run(command).out;
        assert!(text.contains("102.2"), "{text}");
    }
    for (command, limit, status) in [
        ("timbre tone", "level_db>100", 0),
        ("timbre tone", "level_db>103", 3),
        ("compare tone other", "level_a_db>100", 0),
        ("compare tone other", "level_b_db<102", 3),
        ("timbre plain.wav", "level_db<-6", 0),
    ] {
        let run = bench.run(&format!("{command} --require {limit} --quiet"));
        assert_eq!(run.status, status, "{command} {limit}: {}", run.err);
    }
}

#[test]
fn figures_have_the_levels_of_the_tables() {
    let bench = study();
    for command in [
        "spectrum tone",
        "partials tone --view decay",
        "timbre tone",
        "compare tone other",
        "pitch tone --evidence 0.5",
        "filter tone --keep 100Hz..1kHz --output kept.wav",
        "spectrogram tone",
    ] {
        assert_eq!(bench.run(&format!("{command} --figure f.svg --force --quiet")).status, 0);
        let svg = std::fs::read_to_string(bench.path("f.svg")).expect("drawn");
        let document = roxmltree::Document::parse(&svg).expect("well-formed");
        let texts: Vec<&str> = document
            .descendants()
            .filter(|node| node.has_tag_name("text"))
            .filter_map(|node| node.text().map(str::trim))
            .collect();
        assert!(texts.iter().any(|text| text.contains("re 20 µPa")), "{command}: {texts:?}");
        // The scale of levels reaches what the tone has, and so it does not where it is re full
        // scale.
        assert!(texts.contains(&"100"), "{command}: {texts:?}");
    }
}

#[test]
fn takes_side_by_side_share_a_reference_and_say_so() {
    let bench = study();
    let string = PluckedString::default().render(48_000.0, 1.0);
    let string = tonemap_core::synth::to_samples(&string);
    bench.take("string.wav", 48_000, WavEncoding::Float, &[string]);
    let run = bench.run("spectrum tone plain.wav --peaks 1 --format json");
    assert_eq!(run.status, 0, "{}", run.err);
    for line in run.out.lines() {
        let found: Value = serde_json::from_str(line).expect("JSON");
        is_near(&found["result"]["peaks"][0]["level_db"], HALF_DB, 1.8e-8, "side by side");
        assert_eq!(found["settings"]["level_reference"], "full scale");
    }
    assert_eq!(run.out.matches("\"mixed_calibration\"").count(), 2, "{}", run.out);
    // One by one each keeps its own.
    let run = bench.run("timbre tone plain.wav --format json --quiet");
    let references: Vec<Value> = run
        .out
        .lines()
        .map(|line| serde_json::from_str::<Value>(line).expect("JSON"))
        .map(|found| found["settings"]["level_reference"].clone())
        .collect();
    assert_eq!(references, ["20 µPa", "full scale"]);
    // Saved levels that refer to different things are not compared in silence.
    for (name, take) in [("a", "tone"), ("b", "plain.wav")] {
        bench.run(&format!("timbre {take} --format json --output {name}.json --quiet"));
    }
    let compared = bench.run("compare a.json b.json --quiet");
    assert!(compared.out.contains("[calibration_differs]"), "{}", compared.out);
}
