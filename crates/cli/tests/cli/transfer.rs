//! `transfer`: delay, magnitude, phase and coherence of known systems, and what cannot be measured.

use std::f64::consts::TAU;

use serde_json::Value;
use tonemap_core::synth::{to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number};

const RATE: u32 = 48_000;

fn noise(seed: u64) -> Vec<f64> {
    white_noise(seed, 0.1, 8 * RATE as usize)
}

/// A sound so many samples later, times a gain, with noise of its own 40 dB below.
fn response(sound: &[f64], late: usize, gain: f64) -> Vec<f32> {
    let own = white_noise(99, 0.001 * gain.abs(), sound.len());
    let at = |n: usize| n.checked_sub(late).map_or(0.0, |n| gain * sound[n]);
    to_samples(&own.iter().enumerate().map(|(n, own)| own + at(n)).collect::<Vec<_>>())
}

/// A reference, and a response 480 samples later, at half the amplitude, reversed.
fn bench() -> Bench {
    let bench = Bench::new();
    let sound = noise(1);
    bench.take("in.wav", RATE, WavEncoding::Float, &[to_samples(&sound)]);
    bench.take("out.wav", RATE, WavEncoding::Float, &[response(&sound, 480, -0.5)]);
    let both = [to_samples(&sound), response(&sound, 480, -0.5)];
    bench.take("both.wav", RATE, WavEncoding::Float, &both);
    bench
}

fn json(bench: &Bench, arguments: &str) -> Value {
    bench.json(&format!("transfer {arguments} --format json --quiet"))
}

#[test]
fn a_delay_a_gain_and_a_polarity_are_found() {
    let bench = bench();
    for line in ["in.wav out.wav", "both.wav --channel 1,2", "both.wav@1 both.wav@2"] {
        let found = json(&bench, line);
        let result = &found["result"];
        assert!((number(&result["delay_s"]) - 0.01).abs() < 1e-7, "{line}: {result}");
        assert_eq!(result["polarity"], "reversed", "{line}");
        assert!((number(&result["gain_db"]) + 6.02).abs() < 0.01, "{}", result["gain_db"]);
        assert!(number(&result["delay_s_u"]) < 1e-7 && number(&result["frames"]) > 30.0);
        let bands = result["bands"].as_array().expect("bands");
        assert!(bands.len() >= 29, "{}", bands.len());
        for band in bands {
            assert!((number(&band["magnitude_db"]) + 6.02).abs() < 0.2, "{band}");
            let phase = number(&band["phase_deg"]).abs();
            assert!((phase - 180.0).abs() < 2.0, "{band}");
            assert!(number(&band["coherence"]) > 0.99, "{band}");
        }
        assert!(codes(&found).is_empty(), "{line}: {:?}", codes(&found));
    }
    // The other way round the delay is negative, and both ends of a stated one are taken.
    let back = json(&bench, "out.wav in.wav");
    assert_eq!(codes(&back), ["response_first"]);
    assert!((number(&back["result"]["delay_s"]) + 0.01).abs() < 1e-7, "{}", back["result"]);
    let stated = json(&bench, "out.wav in.wav --delay -10ms");
    assert_eq!(number(&stated["result"]["delay_s"]), -0.01);
    assert!((number(&stated["result"]["gain_db"]) - 6.02).abs() < 0.05);
}

#[test]
fn the_curve_is_given_point_by_point_with_the_delay_or_without() {
    let bench = bench();
    let curve = |options: &str| json(&bench, &format!("in.wav out.wav --curve {options}"));
    let points = |found: &Value, key: &str| -> Vec<f64> {
        let curve = &found["result"]["curve"];
        curve[key].as_array().expect("points").iter().map(number).collect()
    };
    let (without, with) = (curve(""), curve("--with-delay"));
    let hz = points(&without, "frequency_hz");
    assert!(hz.len() > 1000 && hz.is_sorted());
    let turned = points(&with, "phase_deg");
    for (n, (hz, plain)) in hz.iter().zip(points(&without, "phase_deg")).enumerate().step_by(97) {
        let expected = plain - 360.0 * hz * 0.01;
        let off = (turned[n] - expected).rem_euclid(360.0);
        assert!(off.min(360.0 - off) < 0.1, "{hz} Hz: {}, {expected}", turned[n]);
    }
    let rows = bench.run("transfer in.wav out.wav --curve --format csv --quiet");
    assert_eq!(rows.out.lines().count(), hz.len() + 1, "{}", rows.err);
    let bands = bench.run("transfer in.wav out.wav --format csv --quiet").out;
    assert!(bands.starts_with("take,channel,center_hz,magnitude_db,magnitude_db_u"), "{bands}");
    // Smoothing takes the scatter out, not the level.
    let spread = |found: &Value| {
        let db = points(found, "magnitude_db");
        let mean = db.iter().sum::<f64>() / db.len() as f64;
        (db.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / db.len() as f64).sqrt()
    };
    for smoothing in ["power", "complex"] {
        let smoothed = curve(&format!("--smooth 1/6 --smoothing {smoothing}"));
        assert!(spread(&smoothed) < 0.3 * spread(&without), "{smoothing}: {}", spread(&smoothed));
    }
    let found = bench.run("transfer in.wav out.wav --quiet --require gain_db>-6");
    assert_eq!(found.status, 3, "{}", found.err);
    assert!(found.out.contains("polarity reversed"), "{}", found.out);
}

/// A reflection is listed, written with the impulse response, and left out by a gate.
#[test]
fn a_gate_leaves_reflections_out() {
    let bench = Bench::new();
    let sound = noise(2);
    let direct = response(&sound, 100, 0.5);
    let late = response(&sound, 100 + 960, 0.25);
    let both: Vec<f32> = direct.iter().zip(&late).map(|(a, b)| a + b).collect();
    bench.take("in.wav", RATE, WavEncoding::Float, &[to_samples(&sound)]);
    bench.take("room.wav", RATE, WavEncoding::Float, &[both]);
    let found = json(&bench, "in.wav room.wav --impulse impulse.wav");
    let reflections = found["result"]["reflections"].as_array().expect("reflections");
    let first = &reflections[0];
    assert!((number(&first["delay_s"]) - 0.02).abs() < 1e-4, "{reflections:?}");
    assert!((number(&first["level_db"]) + 6.02).abs() < 0.5, "{first}");
    assert!((number(&first["path_difference_m"]) - 6.86).abs() < 0.05, "{first}");
    let ripple = |found: &Value| {
        let curve = found["result"]["curve"]["magnitude_db"].as_array().expect("points");
        let db: Vec<f64> = curve.iter().filter_map(Value::as_f64).collect();
        db.iter().fold(f64::NEG_INFINITY, |a, b| a.max(*b))
            - db.iter().fold(f64::INFINITY, |a, b| a.min(*b))
    };
    let range = "--range 300Hz..15kHz --curve";
    let open = ripple(&json(&bench, &format!("in.wav room.wav {range}")));
    let gated = json(&bench, &format!("in.wav room.wav {range} --gate 10ms"));
    assert!(open > 8.0 && ripple(&gated) < 1.0, "{open} {}", ripple(&gated));
    assert_eq!(number(&gated["result"]["gate_from_hz"]), 100.0);
    // A source with gaps has no gate.
    let tones: Vec<f64> = (0..8 * RATE)
        .map(|n| {
            (1..30).map(|k| (TAU * 437.0 * f64::from(k * n) / f64::from(RATE)).sin()).sum::<f64>()
                * 0.01
        })
        .collect();
    let plucked: Vec<f64> = tones
        .iter()
        .enumerate()
        .map(|(n, x)| x * (-((n % 24_000) as f64) / 9000.0).exp())
        .collect();
    let own = white_noise(7, 1e-4, plucked.len());
    let mixed: Vec<f64> = plucked.iter().zip(own).map(|(x, y)| x + y).collect();
    bench.take("harp.wav", RATE, WavEncoding::Float, &[to_samples(&mixed)]);
    bench.take("seat.wav", RATE, WavEncoding::Float, &[response(&plucked, 300, 0.3)]);
    let sparse = json(&bench, "harp.wav seat.wav --gate 10ms");
    assert!(codes(&sparse).contains(&"gate_left_out"), "{:?}", codes(&sparse));
    assert!((number(&sparse["result"]["gain_db"]) + 10.46).abs() < 0.1, "{}", sparse["result"]);
    // The impulse response is a take like others.
    let impulse = bench.json("inspect impulse.wav --format json --quiet");
    assert!(
        (number(&impulse["result"]["channels"][0]["peak_dbfs"]) + 6.0).abs() < 0.5,
        "{impulse}"
    );
    let again = bench.run("transfer in.wav room.wav --impulse impulse.wav --quiet");
    assert_eq!(again.status, 1, "it is not written over: {}", again.err);
}

#[test]
fn what_cannot_be_measured_is_said() {
    let bench = bench();
    let other = to_samples(&noise(50));
    bench.take("other.wav", RATE, WavEncoding::Float, std::slice::from_ref(&other));
    let found = json(&bench, "in.wav other.wav");
    assert_eq!(codes(&found), ["no_delay"]);
    let result = &found["result"];
    assert!(result["delay_s"].is_null() && result["gain_db"].is_null(), "{result}");
    assert!(
        result["bands"]
            .as_array()
            .is_some_and(|bands| bands.iter().all(|band| band["magnitude_db"].is_null()))
    );
    bench.take("silent.wav", RATE, WavEncoding::Float, &[vec![0.0; 48_000]]);
    let silent = bench.run("transfer silent.wav out.wav");
    assert_eq!(silent.status, 1, "{}", silent.err);
    assert!(silent.err.contains("silent.wav is silent"), "{}", silent.err);
    assert_eq!(bench.run("transfer in.wav").status, 2);
    assert_eq!(bench.run("transfer in.wav out.wav --coherence 1.5").status, 2);
    assert_eq!(bench.run("transfer in.wav out.wav --gate 0.1ms").status, 2);
    // A steady tone fits at many delays; where its own is stated, its gain is known.
    let tone: Vec<f32> = (0..8 * RATE)
        .map(|n| (0.1 * (TAU * 500.0 * f64::from(n) / f64::from(RATE)).sin()) as f32)
        .collect();
    bench.take("tone.wav", RATE, WavEncoding::Float, &[tone.clone(), tone]);
    let found = json(&bench, "tone.wav --channel 1,2");
    assert_eq!(codes(&found), ["no_delay"]);
    let stated = json(&bench, "tone.wav --channel 1,2 --delay 0s");
    assert!(number(&stated["result"]["gain_db"]).abs() < 1e-6, "{}", stated["result"]);
    // Another sample rate is raised.
    let low: Vec<f32> = other.iter().step_by(2).copied().collect();
    bench.take("low.wav", RATE / 2, WavEncoding::Float, &[low]);
    let found = json(&bench, "low.wav other.wav");
    assert!(codes(&found).contains(&"rates_differ"), "{:?}", codes(&found));
    // A response that comes before what causes it: the two are swapped.
    let sound = noise(3);
    let mut ringing = sound.clone();
    for n in 1..ringing.len() {
        ringing[n] += 0.97 * ringing[n - 1];
    }
    let room: Vec<f64> = (0..ringing.len())
        .map(|n| ringing[n] + if n >= 2000 { 0.9 * ringing[n - 2000] } else { 0.0 })
        .collect();
    bench.take("room.wav", RATE, WavEncoding::Float, &[to_samples(&room)]);
    bench.take("dry.wav", RATE, WavEncoding::Float, &[to_samples(&sound)]);
    let right = json(&bench, "dry.wav room.wav");
    assert!(!codes(&right).contains(&"response_first"), "{:?}", codes(&right));
}

#[test]
fn octaves_are_resolved_alike_and_a_step_is_written() {
    let bench = bench();
    let found = json(&bench, "in.wav out.wav --per-octave 12 --curve --step step.wav");
    let curve = &found["result"]["curve"];
    let hz: Vec<f64> =
        curve["frequency_hz"].as_array().expect("points").iter().map(number).collect();
    assert!(hz.windows(2).all(|two| two[1] >= two[0]), "rising");
    assert!(hz[1] - hz[0] < 2.0 && hz[hz.len() - 1] - hz[hz.len() - 2] > 50.0);
    assert!(curve["excess_phase_deg"][40].is_null());
    // Half the amplitude, reversed, from the direct sound on.
    let (samples, start) = {
        let bytes = std::fs::read(bench.path("step.wav")).expect("written");
        let samples: Vec<f32> = bytes[bytes.len() % 4 + 56..]
            .chunks_exact(4)
            .map(|four| f32::from_le_bytes(four.try_into().expect("four")))
            .collect();
        let start = samples.len() / 5;
        (samples, start)
    };
    assert!(samples[start / 2].abs() < 0.05, "{}", samples[start / 2]);
    let late = samples[start + 2000];
    assert!((late + 0.5).abs() < 0.05, "{late}");
    let both = bench.run("transfer in.wav out.wav --per-octave 12 --gate 5ms");
    assert_eq!(both.status, 2, "{}", both.err);
    let whole = json(&bench, "in.wav out.wav --curve");
    let excess = number(&whole["result"]["curve"]["excess_phase_deg"][100]).abs();
    assert!((excess - 180.0).abs() < 2.0, "reversed: {excess}");
}

#[test]
fn positions_are_averaged_and_held_against_a_target() {
    let bench = Bench::new();
    let sound = noise(1);
    bench.take("in.wav", RATE, WavEncoding::Float, &[to_samples(&sound)]);
    bench.take("near.wav", RATE, WavEncoding::Float, &[response(&sound, 480, 1.0)]);
    bench.take("far.wav", RATE, WavEncoding::Float, &[response(&sound, 960, 0.5)]);
    bench.write("target.txt", b"# flat\n20, -2\n20000, -2\n");
    let level = |options: &str| {
        let found = json(&bench, &format!("in.wav near.wav far.wav {options}"));
        assert_eq!(found["result"]["positions"], 2);
        assert!(found["result"]["delay_s"].is_null(), "{}", found["result"]);
        let band = found["result"]["bands"][18].clone();
        (number(&band["magnitude_db"]), band)
    };
    // Mean of the power of 1 and 0.5, and of the two themselves.
    let (power_db, band) = level("--target target.txt");
    assert!((power_db - 10.0 * f64::log10(0.625)).abs() < 0.02, "{power_db}");
    assert!((number(&band["off_target_db"]) - power_db - 2.0).abs() < 1e-9, "{band}");
    // They scatter by much, and are few.
    assert!(number(&band["magnitude_db_u"]) > 1.0, "{band}");
    let (complex_db, band) = level("--mean complex");
    assert!((complex_db - 20.0 * f64::log10(0.75)).abs() < 0.02, "{complex_db}");
    assert!(band["target_db"].is_null(), "{band}");
    let text = bench.run("transfer in.wav near.wav far.wav --target target.txt").out;
    for words in ["mean of 2 positions", "off target, dB", "position", "near.wav"] {
        assert!(text.contains(words), "{words}: {text}");
    }
    let limit = "transfer in.wav near.wav --target target.txt --quiet --require bands[1000Hz].off_target_db<1";
    assert_eq!(bench.run(limit).status, 3);
    let impulse = bench.run("transfer in.wav near.wav far.wav --impulse ir.wav");
    assert!(impulse.status == 2 && impulse.err.contains("no impulse response"), "{}", impulse.err);
    bench.write("odd.txt", b"100, -1\nhigh, low\n");
    let odd = bench.run("transfer in.wav near.wav --target odd.txt");
    assert!(odd.status == 2 && odd.err.contains("odd.txt, line 2"), "{}", odd.err);
}

#[test]
fn saved_transfer_functions_are_drawn_over_each_other() {
    let bench = Bench::new();
    let sound = noise(1);
    bench.take("in.wav", RATE, WavEncoding::Float, &[to_samples(&sound)]);
    for (name, gain) in [("near", 1.0), ("far", 0.5)] {
        bench.take(&format!("{name}.wav"), RATE, WavEncoding::Float, &[response(&sound, 9, gain)]);
        for (kind, option) in [("bands", ""), ("curve", "--curve")] {
            let line = format!("transfer in.wav {name}.wav {option} --format json --quiet");
            bench.run(&format!("{line} --output {name}-{kind}.json"));
        }
    }
    let run = bench.run("compare near-curve.json far-curve.json --figure over.svg --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let svg = std::fs::read_to_string(bench.path("over.svg")).expect("drawn");
    for words in [
        "Magnitude, dB",
        "Difference, dB",
        "far-curve.json (in, far)",
        "differences re near-curve.json",
    ] {
        assert!(svg.contains(words), "{words}");
    }
    // Half of it is 6 dB less.
    let json = bench.json("compare near-curve.json far-curve.json --format json --quiet");
    let values = json["result"]["values"].as_array().expect("values");
    let level =
        values.iter().find(|row| row["key"] == "bands[1000Hz].magnitude_db").expect("1 kHz");
    assert!((number(&level["difference"]) + 6.02).abs() < 0.02, "{level}");
    let without = bench.run("compare near-bands.json far-bands.json --figure over2.svg");
    assert!(without.status != 0 && without.err.contains("--curve"), "{}", without.err);
}

#[test]
fn a_clock_that_runs_differently_is_followed_and_said() {
    let bench = Bench::new();
    let tones: Vec<(f64, f64)> =
        (1..400).map(|n| (37.0 * f64::from(n), f64::from(n * n % 61))).collect();
    let sound = |ppm: f64| -> Vec<f32> {
        let at = |n: usize| {
            let t = n as f64 * (1.0 + 1e-6 * ppm) / f64::from(RATE);
            tones.iter().map(|(hz, phase)| 2e-3 * (TAU * hz * t + phase).cos()).sum::<f64>()
        };
        let own = white_noise(ppm as u64 + 5, 1e-4, 6 * RATE as usize);
        to_samples(&own.iter().enumerate().map(|(n, own)| own + at(n)).collect::<Vec<_>>())
    };
    bench.take("in.wav", RATE, WavEncoding::Float, &[sound(0.0)]);
    for (ppm, is_told) in [(0.0, false), (80.0, true)] {
        bench.take("out.wav", RATE, WavEncoding::Float, &[sound(ppm)]);
        let found = json(&bench, "in.wav out.wav");
        assert_eq!(codes(&found).contains(&"clock_drifts"), is_told, "{:?}", codes(&found));
        let gain_db = number(&found["result"]["gain_db"]);
        assert!(gain_db.abs() < 0.05, "{ppm} ppm: {gain_db} dB");
    }
}
