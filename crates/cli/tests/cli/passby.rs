//! `passby`: a wagon whose speed is known, and what is none.

use serde_json::Value;
use tonemap_core::synth::{alder_hall, sine, to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number};

const RATE: u32 = 48_000;

fn take(bench: &Bench, name: &str, sound: &[f32]) {
    bench.take(name, RATE, WavEncoding::Float, &[sound.to_vec()]);
}

fn json(bench: &Bench, arguments: &str) -> Value {
    bench.json(&format!("passby {arguments} --format json --quiet"))
}

#[test]
fn a_wagon_has_its_speed_its_distance_and_its_chord() {
    let bench = Bench::new();
    let (speed, distance, closest_s) = alder_hall::WAGON;
    take(&bench, "wagon.wav", &to_samples(&alder_hall::passing_wagon(48_000.0, 9.0)));
    let found = json(&bench, "wagon.wav");
    let result = &found["result"];
    let near = |key: &str, wanted: f64, most: f64| {
        let off = (number(&result[key]) - wanted).abs();
        assert!(off < most, "{key}: {} for {wanted}", result[key]);
        assert!(off < 4.0 * number(&result[format!("{key}_u")]) + 1e-6, "{key}: {result}");
    };
    near("speed_m_s", speed, 0.005);
    near("distance_m", distance, 0.01);
    near("closest_s", closest_s + distance / 343.214, 0.001);
    let rest = number(&result["rest_frequency_hz"]);
    near("approach_hz", rest / (1.0 - speed / 343.214), 0.02);
    near("recede_hz", rest / (1.0 + speed / 343.214), 0.02);
    assert!((number(&result["loudest_s"]) - closest_s).abs() < 0.5);
    let tones = result["tones"].as_array().expect("tones");
    assert!(tones.len() >= 4, "{tones:?}");
    for tone in tones {
        let hz = number(&tone["rest_frequency_hz"]);
        let harmonic = |pipe: &f64| (1..=3).any(|n| (hz / pipe / f64::from(n) - 1.0).abs() < 1e-4);
        assert!(alder_hall::WAGON_CHORD_HZ.iter().any(harmonic), "{hz}");
    }
    assert!(codes(&found).is_empty(), "{:?}", codes(&found));
    // In colder air sound is slower, and so is the wagon that shifts as much.
    let cold = json(&bench, "wagon.wav --temperature -10C");
    let ratio = number(&cold["result"]["speed_m_s"]) / number(&result["speed_m_s"]);
    assert!((ratio - (263.15f64 / 293.15).sqrt()).abs() < 1e-4, "{ratio}");
    // Times are those of the take.
    let part = json(&bench, "wagon.wav --from 1.5 --to 8");
    let off = number(&part["result"]["closest_s"]) - number(&result["closest_s"]);
    assert!(off.abs() < 0.002, "{off}");
    assert_eq!(bench.run("passby wagon.wav --quiet --require speed_m_s<8").status, 3);
    let text = bench.run("passby wagon.wav").out;
    assert!(text.contains("speed 8.4") && text.contains("km/h"), "{text}");
    let rows = bench.run("passby wagon.wav --format csv --quiet").out;
    assert!(rows.lines().count() == 2 && rows.contains("speed_m_s"), "{rows}");
}

#[test]
fn what_does_not_pass_is_refused() {
    let bench = Bench::new();
    take(&bench, "steady.wav", &sine(700.0, 0.1, 0.0, 48_000.0, 4 * 48_000));
    take(&bench, "noise.wav", &to_samples(&white_noise(3, 0.1, 4 * 48_000)));
    for (name, words) in [("steady.wav", "shifts"), ("noise.wav", "tone"), ("short.wav", "samples")]
    {
        if name == "short.wav" {
            take(&bench, name, &vec![0.1; 4800]);
        }
        let run = bench.run(&format!("passby {name}"));
        assert_eq!(run.status, 1, "{name}: {}", run.err);
        assert!(run.err.contains(words), "{name}: {}", run.err);
    }
    assert_eq!(bench.run("passby steady.wav --temperature hot").status, 2);
    assert_eq!(bench.run("passby steady.wav --temperature 300C").status, 2);
    // An hour in which it passes is measured where it is loudest.
    let wagon = to_samples(&alder_hall::passing_wagon(48_000.0, 9.0));
    let mut long = to_samples(&white_noise(4, 1e-4, 70 * 48_000));
    long[40 * 48_000..49 * 48_000].copy_from_slice(&wagon);
    take(&bench, "long.wav", &long);
    let found = json(&bench, "long.wav");
    assert_eq!(codes(&found), ["loudest_part"]);
    let speed = number(&found["result"]["speed_m_s"]);
    assert!((speed - alder_hall::WAGON.0).abs() < 0.02, "{speed}");
    let closest_s = number(&found["result"]["closest_s"]);
    assert!((closest_s - 44.22).abs() < 0.01, "{closest_s}");
}
