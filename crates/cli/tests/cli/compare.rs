use std::f64::consts::TAU;

use serde_json::Value;
use tonemap_core::synth::{self, PluckedString, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number, sine};

const SECONDS: f64 = 2.0;

/// A string, the same late, reversed and 6 dB quieter with noise, and another string.
fn bench() -> Bench {
    let bench = Bench::new();
    let string = |hz: f64| PluckedString { frequency_hz: hz, ..PluckedString::default() };
    let sound = string(220.0).render(48_000.0, SECONDS);
    let mut late = white_noise(3, 1e-5, sound.len());
    late[480..].iter_mut().zip(&sound).for_each(|(x, y)| *x -= 0.5 * y);
    let other = string(247.0).render(48_000.0, SECONDS);
    for (name, sound) in [("a.wav", &sound), ("late.wav", &late), ("other.wav", &other)] {
        bench.take(name, 48_000, WavEncoding::Float, &[synth::to_samples(sound)]);
    }
    bench
}

#[test]
fn one_sound_is_laid_over_itself() {
    let bench = bench();
    let found = bench.json("compare a.wav late.wav --format json");
    let result = &found["result"];
    assert!((number(&result["delay_s"]) - 0.01).abs() < 1e-7, "{}", result["delay_s"]);
    assert!((number(&result["gain_db"]) + 6.0206).abs() < 0.01, "{}", result["gain_db"]);
    assert_eq!(result["polarity"], "reversed");
    assert!(number(&result["residual_re_other_db"]) < -50.0);
    assert!((number(&result["level_difference_db"]) + 6.02).abs() < 0.1);
    let band = result["bands"]
        .as_array()
        .expect("bands")
        .iter()
        .find(|band| band["distinguishable"] == true);
    assert!((number(&band.expect("one that differs")["difference_db"]) + 6.02).abs() < 0.2);
    assert_eq!(found["takes"].as_array().map(Vec::len), Some(2));
    let text = bench.run("compare a.wav late.wav");
    assert_eq!(text.status, 0, "{}", text.err);
    for words in ["Reversed polarity", "different", "not distinguishable", "partials", "timbre"] {
        assert!(text.out.contains(words), "{words}: {}", text.out);
    }
}

#[test]
fn what_is_equal_does_not_differ() {
    let bench = bench();
    let result = bench.json("compare a.wav a.wav --format json --curve")["result"].take();
    assert_eq!(number(&result["delay_s"]), 0.0);
    assert_eq!(result["residual_db"], Value::Null);
    for key in ["bands", "partials", "descriptors"] {
        let rows = result[key].as_array().expect("rows");
        assert!(!rows.is_empty() && rows.iter().all(|row| row["distinguishable"] != true), "{key}");
    }
    let differences = result["curve"]["difference_db"].as_array().expect("a curve");
    assert!(differences.iter().all(|db| db.as_f64().is_none_or(|db| db == 0.0)));
}

#[test]
fn parts_channels_and_many_takes_are_compared() {
    let bench = bench();
    let parts = bench.json("compare a.wav@0.1..0.9 a.wav@1..1.8 --format json");
    assert_eq!(number(&parts["takes"][1]["span"]["from_s"]), 1.0);
    let both = [sine(440.0), sine(440.0).iter().map(|x| 0.5 * x).collect()];
    bench.take("stereo.wav", 48_000, WavEncoding::Float, &both);
    let channels = bench.json("compare stereo.wav --channel 1,2 --format json");
    assert!((number(&channels["result"]["gain_db"]) + 6.0206).abs() < 0.001);
    let behind = bench.json("compare stereo.wav@1 stereo.wav@2 --format json");
    assert_eq!(channels["result"]["gain_db"], behind["result"]["gain_db"]);
    let many = bench.run("compare a.wav late.wav other.wav");
    assert!(many.out.contains("against a.wav") && many.out.contains("late.wav"), "{}", many.out);
    let rows = bench.run("compare a.wav late.wav other.wav --format csv --table bands");
    assert!(rows.out.lines().count() > 40, "{}", rows.out);
    assert!(rows.out.starts_with("reference,other,center_hz"), "{}", rows.out);
}

#[test]
fn repeats_are_judged_by_their_spread() {
    let bench = Bench::new();
    for (name, level, seed) in [
        ("q1", 0.1, 1),
        ("q2", 0.101, 2),
        ("q3", 0.099, 3),
        ("l1", 0.2, 4),
        ("l2", 0.202, 5),
        ("l3", 0.199, 6),
    ] {
        let noise = synth::to_samples(&white_noise(seed, level, 48_000));
        bench.take(&format!("{name}.wav"), 48_000, WavEncoding::Float, &[noise]);
    }
    let sides = "q1.wav+q2.wav+q3.wav l1.wav+l2.wav+l3.wav";
    let found = bench.json(&format!("compare {sides} --format json"));
    let values = found["result"]["values"].as_array().expect("values");
    let level = values.iter().find(|row| row["key"] == "level_db").expect("the level");
    assert!((number(&level["difference"]) - 6.02).abs() < 0.1 && level["distinguishable"] == true);
    assert_eq!(found["takes"].as_array().map(Vec::len), Some(6));
    let text = bench.run(&format!("compare {sides} --require level_db<3"));
    assert_eq!(text.status, 3, "{}", text.err);
    assert!(text.out.contains("3 and 3 repeats"), "{}", text.out);
    assert_eq!(bench.run("compare q1.wav+q2.wav l1.wav").status, 2);
}

#[test]
fn figures_are_drawn_of_spectra_and_of_spectrograms() {
    let bench = bench();
    for view in ["spectrum", "spectrograms"] {
        let run = bench.run(&format!("compare a.wav late.wav --figure {view}.svg --view {view}"));
        assert_eq!(run.status, 0, "{}", run.err);
        let svg = std::fs::read_to_string(bench.path(&format!("{view}.svg"))).expect("written");
        roxmltree::Document::parse(&svg).expect("well-formed");
        assert!(svg.contains("late.wav"));
    }
    let spectra = std::fs::read_to_string(bench.path("spectrum.svg")).expect("written");
    assert!(spectra.contains("this scale spans"), "the difference states its own range");
    assert_eq!(bench.run("compare a.wav late.wav other.wav --figure x.png").status, 2);
}

#[test]
fn what_stands_against_a_comparison_is_told() {
    let bench = bench();
    let hot: Vec<f32> = sine(440.0).iter().map(|x| (3.0 * x).clamp(-1.0, 1.0)).collect();
    bench.take("hot.wav", 44_100, WavEncoding::Integer(16), &[hot]);
    let found = bench.json("compare a.wav hot.wav --format json --quiet");
    let codes = codes(&found);
    for code in ["rates_differ", "clipping_compared", "not_one_sound"] {
        assert!(codes.contains(&code), "{code}: {codes:?}");
    }
    for wrong in
        ["compare a.wav", "compare a.wav+", "compare a.wav b.json", "compare a.wav@x..y a.wav"]
    {
        let run = bench.run(wrong);
        assert_eq!((run.status, run.out.as_str()), (2, ""), "{wrong}: {}", run.err);
        assert_eq!(run.err.lines().count(), 1, "{wrong}: {}", run.err);
    }
    assert_eq!(bench.run("compare a.wav nothing.wav").status, 1);
}

/// Plucks below 4 kHz for longer than is held in memory, and the same later, on a faster clock, 2 dB
/// quieter, with four times the noise.
#[test]
fn long_recordings_are_compared_block_by_block() {
    const SECONDS: usize = 400;
    const RATE: f64 = 44_100.0;
    let bench = Bench::new();
    let count = SECONDS * RATE as usize;
    let pluck = |t: f64, hz: f64| -> f64 {
        let wave: f64 = (1..=6).map(|n| (f64::from(n) * hz * t * TAU).sin() / f64::from(n)).sum();
        wave * (-14.0 * t).exp() * (1.0 - (-t / 5e-3).exp()).powi(2)
    };
    let sound_at = |t: f64| -> f64 {
        let beat = (t / 0.7).floor();
        let hz = 110.0 * 2f64.powf((beat * 7.3 + 0.11 * beat * beat).rem_euclid(24.0) / 12.0);
        if t > 0.0 { 0.1 * pluck(t - 0.7 * beat, hz) } else { 0.0 }
    };
    let take = |seed: u64, noise: f64, late_s: f64, drift: f64, gain: f64| -> Vec<f32> {
        let mut sound = white_noise(seed, noise, count);
        for (n, x) in sound.iter_mut().enumerate() {
            *x += gain * sound_at((n as f64 / RATE - late_s) / (1.0 + drift));
        }
        synth::to_samples(&sound)
    };
    let gain = 10f64.powf(-0.1);
    bench.take("side.wav", 44_100, WavEncoding::Integer(24), &[take(1, 1e-4, 0.0, 0.0, 1.0)]);
    bench.take("worn.wav", 44_100, WavEncoding::Integer(24), &[take(2, 4e-4, 0.25, 2e-5, gain)]);
    let found = bench.json("compare side.wav worn.wav --format json --quiet");
    let result = &found["result"];
    let near = |key: &str, wanted: f64, tolerance: f64| {
        let value = number(&result[key]);
        assert!((value - wanted).abs() < tolerance, "{key}: {value}");
    };
    near("delay_s", 0.25, 1e-6);
    near("drift_ppm", 20.0, 0.01);
    near("gain_db", -2.0, 0.01);
    let bands = result["bands"].as_array().expect("bands");
    let band = |hz: f64| {
        let is_near = |band: &&Value| (number(&band["center_hz"]) / hz - 1.0).abs() < 0.02;
        bands.iter().find(is_near).expect("the band")
    };
    // What both have in common, and what is there beside.
    assert!((number(&band(250.0)["transfer_db"]) + 2.0).abs() < 0.02);
    let noisy = band(12_500.0);
    assert_eq!((&noisy["masked"], &noisy["transfer_db"]), (&Value::Bool(true), &Value::Null));
    assert_eq!(noisy["level_distinguishable"], true);
    assert!((number(&noisy["level_difference_db"]) - 12.04).abs() < 0.05, "{noisy}");
    assert!(codes(&found).contains(&"noise_changed") && codes(&found).contains(&"long"));
    assert!(result["partials"].as_array().is_some_and(Vec::is_empty));
    let asked = bench.json("compare side.wav worn.wav --partials --format json --quiet");
    assert!(asked["result"]["partials"].as_array().is_some_and(|rows| rows.len() > 3));
}

#[test]
fn saved_results_are_compared_number_by_number() {
    let bench = bench();
    for name in ["a", "other"] {
        let line = format!("partials {name}.wav --format json --output {name}.json --quiet");
        assert_eq!(bench.run(&line).status, 0);
    }
    let run = bench.run("compare a.json other.json");
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.contains("f0_hz") && run.out.contains("different"), "{}", run.out);
    let same = bench.run("compare a.json a.json");
    assert!(same.out.contains("numbers are equal"), "{}", same.out);
    bench.run("timbre a.wav --format json --output timbre.json --quiet");
    let run = bench.run("compare a.json timbre.json");
    assert_eq!(run.status, 2);
    assert!(run.err.contains("'partials'") && run.err.contains("'timbre'"), "{}", run.err);
    bench.write("odd.json", b"{\"x\": 1}");
    assert!(bench.run("compare a.json odd.json").err.contains("no result of Tone Map"));
}
