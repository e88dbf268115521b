//! `timbre`: descriptors, attack, harmonic content, noise.

use tonemap_core::synth::{Vibrato, harmonics, mix, render, to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number, sine};

const RATE_HZ: f64 = 48_000.0;

/// A tone of harmonics 1/n at A3 that rises over 40 ms, 40 dB over white noise.
fn tone() -> Vec<f32> {
    let amplitudes: Vec<f64> = (1..=8).map(|n| 0.2 / f64::from(n)).collect();
    let mut note = render(&harmonics(220.0, &amplitudes), Vibrato::default(), RATE_HZ, 1.5);
    let power = note.iter().map(|x| x * x).sum::<f64>() / note.len() as f64;
    for (n, x) in note.iter_mut().enumerate() {
        *x *= (n as f64 / (0.04 * RATE_HZ)).min(1.0);
    }
    let mut sound = white_noise(3, power.sqrt() * 1e-2, 9600 + note.len());
    mix(&mut sound[9600..], &note);
    to_samples(&sound)
}

fn bench() -> Bench {
    let bench = Bench::new();
    bench.take("tone.wav", 48_000, WavEncoding::Float, &[tone()]);
    let noise = to_samples(&white_noise(4, 0.1, 48_000));
    bench.take("noise.wav", 48_000, WavEncoding::Float, &[noise]);
    bench
}

#[test]
fn a_tone_has_its_closed_forms_in_json() {
    let json = bench().json("timbre tone.wav --format json --tracks");
    assert_eq!(json["kind"], "timbre");
    let result = &json["result"];
    let value = |key: &str| number(&result[key]);
    let sum = |of: fn(f64) -> f64| (1..=8).map(|n| of(f64::from(n))).sum::<f64>();
    let centroid = 220.0 * sum(|n| 1.0 / n) / sum(|n| 1.0 / (n * n));
    assert!((value("f0_hz") - 220.0).abs() < 0.001);
    // Noise at −40 dB up to 20 kHz moves it by a little.
    assert!((value("centroid_hz") / centroid - 1.0).abs() < 0.01 + 1e-4 * 10_000.0 / centroid);
    assert!(value("centroid_hz_u") < 2.0);
    assert!((value("centroid_over_f0") - value("centroid_hz") / 220.0).abs() < 1e-3);
    assert!((value("slope_db_per_octave") + 6.02).abs() < 0.1);
    assert!((number(&result["tristimulus"][0]) * sum(|n| 1.0 / n) - 1.0).abs() < 0.01);
    assert!((value("harmonic_to_noise_db") - 40.0).abs() < 0.5);
    assert!((value("attack_s") / 0.04 - 1.0).abs() < 0.02);
    assert!((value("log_attack_time") - 0.04f64.log10()).abs() < 0.01);
    assert_eq!(result["attack_shape"], "linear");
    assert!((value("attack_start_s") - 0.2).abs() < 0.001);
    assert!(result["vibrato_rate_hz"].is_null() && result["decay_t60_s"].is_null());
    let harmonics = result["content"]["harmonics"].as_array().expect("harmonics");
    assert_eq!(harmonics.len(), 8);
    for (n, harmonic) in harmonics.iter().enumerate() {
        let truth = -20.0 * ((n + 1) as f64).log10();
        assert!((number(&harmonic["level_re_first_db"]) - truth).abs() < 0.1, "{harmonic}");
    }
    let shares: f64 = harmonics.iter().map(|h| number(&h["power_share"])).sum();
    assert!((shares - 1.0).abs() < 2e-4);
    let sustain = &result["regions"]["sustain"];
    assert!((number(&sustain["start_s"]) - 0.24).abs() < 0.002, "{sustain}");
    assert!(number(&sustain["median"]["centroid_hz"]) > 0.0);
    let tracks = result["tracks"].as_array().expect("tracks");
    assert!(tracks.len() > 140 && number(&tracks[50]["centroid_hz"]) > 300.0);
}

#[test]
fn what_is_not_defined_is_null_and_said() {
    let bench = bench();
    let json = bench.json("timbre noise.wav --format json");
    let result = &json["result"];
    for key in ["f0_hz", "centroid_over_f0", "odd_even_db", "harmonic_to_noise_db", "content"] {
        assert!(result[key].is_null(), "{key}: {}", result[key]);
    }
    assert!((number(&result["flatness"]) - 1.0).abs() < 0.05);
    assert!(codes(&json).contains(&"no_fundamental") && codes(&json).contains(&"no_attack"));
    let free = bench.json("timbre tone.wav --free --format json");
    assert!(free["result"]["f0_hz"].is_null() && free["result"]["content"].is_null());
    assert!(number(&free["result"]["centroid_hz"]) > 300.0);
    let text = bench.run("timbre noise.wav").out;
    assert!(text.contains("attack: not available") && text.contains("no vibrato"), "{text}");
    assert!(!text.contains("re strongest"), "no table of harmonics: {text}");
}

#[test]
fn tables_have_a_row_for_each_take_and_one_that_fails_does_not_stop_the_others() {
    let bench = bench();
    bench.write("broken.wav", b"RIFF");
    bench.take("tiny.wav", 48_000, WavEncoding::Float, &[vec![0.1; 100]]);
    let run = bench.run("timbre noise.wav broken.wav tiny.wav tone.wav --format csv");
    assert_eq!(run.status, 1);
    assert!(run.err.contains("broken.wav") && run.err.contains("tiny.wav"), "{}", run.err);
    let lines: Vec<&str> = run.out.lines().collect();
    assert_eq!(lines.len(), 3, "{}", run.out);
    assert!(lines[0].starts_with("take,channel,f0_hz,f0_hz_u,inharmonicity,"), "{}", lines[0]);
    assert!(lines[0].contains(",tristimulus_2,") && lines[0].contains(",tristimulus_2_u,"));
    assert!(lines[1].starts_with("noise.wav,1,") && lines[2].starts_with("tone.wav,1,"));
    let alone = bench.run("timbre tiny.wav");
    assert_eq!(alone.status, 1);
    assert!(alone.err.contains("100 samples") && alone.err.lines().count() == 1, "{}", alone.err);
    let harmonics = bench.run("timbre tone.wav --format csv --harmonics").out;
    assert_eq!(harmonics.lines().count(), 9, "{harmonics}");
    let course = bench.run("timbre tone.wav --format csv --tracks --hop 20ms").out;
    assert!((60..100).contains(&course.lines().count()), "{}", course.lines().count());
    let text = bench.run("timbre tone.wav").out;
    for wanted in
        ["harmonics over noise", "dB/octave", "± u", "log attack time", "(THD+N)", "octave Hz"]
    {
        assert!(text.contains(wanted), "{wanted}: {text}");
    }
}

#[test]
fn limits_end_in_status_3() {
    let bench = bench();
    let fine = bench.run("timbre tone.wav --quiet --require harmonic_to_noise_db>30");
    assert_eq!((fine.status, fine.err.as_str()), (0, ""));
    let missed =
        bench.run("timbre tone.wav --quiet --require harmonic_to_noise_db>60 --require flux<0.5");
    assert_eq!(missed.status, 3);
    assert!(missed.err.contains("harmonic_to_noise_db>60 is required"), "{}", missed.err);
    assert!(!missed.out.is_empty(), "the result is given all the same");
    let nested = bench.run("timbre tone.wav --quiet --require regions.sustain.median.flatness>1");
    assert_eq!(nested.status, 3);
    let unknown = bench.run("timbre tone.wav --quiet --require brightness>1");
    assert_eq!(unknown.status, 2);
    assert!(unknown.err.contains("did you mean '"), "{}", unknown.err);
    assert_eq!(bench.run("timbre tone.wav --require flux").status, 2);
}

#[test]
fn both_views_are_drawn() {
    let bench = bench();
    for view in ["course", "harmonics"] {
        let run = bench.run(&format!("timbre tone.wav --figure {view}.svg --view {view}"));
        assert_eq!(run.status, 0, "{}", run.err);
        let svg = std::fs::read_to_string(bench.path(&format!("{view}.svg"))).expect("written");
        roxmltree::Document::parse(&svg).expect("well-formed");
    }
    let none = bench.run("timbre noise.wav --figure none.png --view harmonics");
    assert_eq!(none.status, 1);
    assert!(none.err.contains("no harmonics") && !bench.path("none.png").exists());
    bench.take("sine.wav", 48_000, WavEncoding::Float, &[sine(440.0)]);
    assert_eq!(bench.run("timbre sine.wav --figure sine.png").status, 0);
    let several = bench.run("timbre tone.wav sine.wav --figure two.png");
    assert_eq!(several.status, 2);
}

#[test]
fn a_note_too_short_to_tell_noise_from_harmonics_is_said_to_be() {
    let bench = Bench::new();
    for (lasts_s, is_told) in [(0.5, false), (0.05, true)] {
        let note =
            render(&harmonics(196.0, &[0.2, 0.1, 0.07]), Vibrato::default(), RATE_HZ, lasts_s);
        let mut sound = vec![0.0; 48_000];
        mix(&mut sound[4800..], &note);
        bench.take("note.wav", 48_000, WavEncoding::Float, &[to_samples(&sound)]);
        let json = bench.json("timbre note.wav --format json");
        let is_short = codes(&json).contains(&"too_short_for_noise");
        assert_eq!(is_short, is_told, "{lasts_s} s: {:?}", codes(&json));
        assert_eq!(json["result"]["harmonic_to_noise_db"].is_null(), is_told, "{lasts_s} s");
    }
}
