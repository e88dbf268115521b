//! `modulation`: what is modulated, how it is heard, and what is said where nothing is.

use crate::bench::{Bench, codes, number};

/// A bench with a take of some voices.
fn sounding(voices: &[&str], lasts: &str) -> Bench {
    let bench = Bench::new();
    let mut words = vec!["signal"];
    words.extend(voices);
    words.extend(["--duration", lasts, "--output", "a.wav", "--quiet"]);
    assert_eq!(bench.run_words(&words).status, 0);
    bench
}

const NOISE: &str = "noise level=-60dB";

#[test]
fn a_tremolo_is_given_by_rate_and_depth() {
    let tone = "tone frequency=1kHz level=-20dB tremolo-rate=4.2Hz tremolo-depth=0.4";
    let bench = sounding(&[tone, NOISE], "8s");
    let json = bench.json("modulation a.wav --format json");
    let result = &json["result"];
    assert_eq!((&json["kind"], &result["kind"]), (&"modulation".into(), &"am".into()));
    for (key, truth, least) in [("rate_hz", 4.2, 1e-4), ("depth", 0.4, 2e-4)] {
        let (value, u) = (number(&result[key]), number(&result[&format!("{key}_u")]));
        assert!((value - truth).abs() < 4.0 * u && u < least, "{key} {value} {u}");
    }
    assert!((number(&result["carrier_hz"]) - 1000.0).abs() < 0.05);
    assert!((number(&result["depth_db"]) - 20.0 * (1.4f64 / 0.6).log10()).abs() < 0.01);
    assert!(result["frequency_deviation_hz"].is_null() && result["roughness_asper"].is_null());
    let strongest = (result["spectrum"].as_array().expect("a spectrum").iter())
        .max_by(|a, b| number(&a["depth"]).total_cmp(&number(&b["depth"])))
        .expect("lines");
    assert!((number(&strongest["rate_hz"]) - 4.2).abs() < 0.2);
    assert!(codes(&json).is_empty(), "{:?}", codes(&json));
    let text = bench.run("modulation a.wav").out;
    assert!(text.contains("amplitude modulation of a tone of 1000.00 Hz: 4.2000"), "{text}");
    assert!(text.contains("the channel is not calibrated"), "{text}");
    let csv = bench.run("modulation a.wav --format csv").out;
    assert!(csv.lines().count() > 8, "{csv}");
}

#[test]
fn what_is_heard_needs_a_level_that_may_be_assumed() {
    let tone = "tone frequency=1kHz level=-35.76dB tremolo-rate=70Hz tremolo-depth=1";
    let bench = sounding(&[tone], "4s");
    let words =
        ["modulation", "a.wav", "--assume", "full-scale = 94dB", "--format", "json", "--quiet"];
    let run = bench.run_words(&words);
    let json: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    let result = &json["result"];
    assert_eq!(json["settings"]["level_reference"], "20 µPa");
    assert!((number(&result["level_db"]) - 60.0).abs() < 0.05, "{}", result["level_db"]);
    assert!((number(&result["roughness_asper"]) - 1.0).abs() < 0.05);
    assert!(number(&result["fluctuation_strength_vacil"]) < 0.1);
    assert!(codes(&json).contains(&"assumed_calibration"));
    // It holds for every command.
    let words = ["spectrum", "a.wav", "--assume", "full-scale=94dB", "--format", "json", "--quiet"];
    let spectrum: serde_json::Value =
        serde_json::from_str(&bench.run_words(&words).out).expect("JSON");
    let highest = spectrum["result"]["peaks"].as_array().expect("peaks").iter();
    let highest = highest.map(|peak| number(&peak["level_db"])).fold(0.0, f64::max);
    assert!((highest - (94.0 - 35.76)).abs() < 0.05, "{highest}");
    let wrong = bench.run_words(&["modulation", "a.wav", "--assume", "gain=3"]);
    assert!(wrong.status == 2 && wrong.err.contains("full-scale = 94dB"), "{}", wrong.err);
    let limit = ["modulation", "a.wav", "--quiet", "--require", "depth<0.5"];
    assert_eq!(bench.run_words(&limit).status, 3);
}

#[test]
fn vibrato_is_fm_and_two_tones_beat() {
    let tone = "tone frequency=440Hz level=-20dB vibrato-rate=5.5Hz vibrato-depth=30";
    let bench = sounding(&[tone, NOISE], "6s");
    let fm = bench.json("modulation a.wav --format json --quiet");
    assert_eq!(fm["result"]["kind"], "fm");
    let deviation = 440.0 * ((30.0f64 / 1200.0).exp2() - (-30.0f64 / 1200.0).exp2()) / 2.0;
    let result = &fm["result"];
    assert!((number(&result["frequency_deviation_hz"]) / deviation - 1.0).abs() < 2e-3, "{result}");
    assert!((number(&result["frequency_rate_hz"]) - 5.5).abs() < 1e-3);
    let bench = sounding(
        &["tone frequency=500Hz level=-20dB", "tone frequency=503Hz level=-26.0206dB", NOISE],
        "6s",
    );
    let beat = bench.json("modulation a.wav --format json --quiet");
    let found = &beat["result"]["beats"][0];
    assert_eq!(beat["result"]["kind"], "beat");
    assert!((number(&found["tones_hz"][0]) - 500.0).abs() < 0.01, "{found}");
    assert!((number(&found["tones_hz"][1]) - 503.0).abs() < 0.01, "{found}");
    assert!((number(&found["depth"]) - 0.5).abs() < 1e-3, "{found}");
    // The same in a band of its own, and none where the second tone is not.
    let half = bench.json("modulation a.wav --range 480Hz..520Hz --format json --quiet");
    assert_eq!(half["result"]["kind"], "beat");
}

#[test]
fn what_is_steady_has_no_modulation_and_what_cannot_be_is_said() {
    let bench = sounding(&["noise level=-30dB"], "5s");
    let json = bench.json("modulation a.wav --format json --quiet");
    assert_eq!(json["result"]["kind"], "none");
    assert!(json["result"]["rate_hz"].is_null() && json["result"]["depth"].is_null());
    assert!((0.001..0.1).contains(&number(&json["result"]["depth_limit"])));
    let text = bench.run("modulation a.wav").out;
    assert!(text.contains("no modulation is more than noise"), "{text}");
    for (arguments, said) in [
        ("--to 0.05", "at least 4800 are needed"),
        ("--range 400Hz..300Hz", "rising"),
        ("--rates 100Hz..50Hz", "rising"),
        ("--resolve 0Hz", "the resolution"),
    ] {
        let run = bench.run(&format!("modulation a.wav {arguments}"));
        assert!(run.status != 0 && run.err.contains(said), "{arguments}: {}", run.err);
    }
    let narrow =
        bench.json("modulation a.wav --range 400Hz..450Hz --rates ..200Hz --format json --quiet");
    assert!(codes(&narrow).contains(&"narrow_band"));
    let short = bench.json("modulation a.wav --to 1 --format json --quiet");
    assert!(codes(&short).contains(&"coarse_rates"));
    let silent = sounding(&["tone level=-400dB"], "3s");
    let run = silent.run("modulation a.wav --format json --quiet");
    assert!(run.out.contains("\"kind\":\"none\"") || run.status == 1, "{} {}", run.out, run.err);
}

#[test]
fn a_siren_that_slows_down_is_followed() {
    let bench = sounding(
        &[
            "tone frequency=600Hz level=-20dB",
            "tone frequency=612Hz level=-24dB glide=603Hz",
            NOISE,
        ],
        "12s",
    );
    let json = bench.json("modulation a.wav --format json --quiet");
    let result = &json["result"];
    assert!(number(&result["slowest_hz"]) < 6.0 && number(&result["fastest_hz"]) > 9.0, "{result}");
    assert!(codes(&json).contains(&"rate_moves"));
    let glide = |t: f64| 612.0 * (603.0f64 / 612.0).powf(t / 12.0) - 600.0;
    for at in result["course"].as_array().expect("a course") {
        let (rate, truth) = (number(&at["rate_hz"]), glide(number(&at["time_s"])));
        assert!((rate / truth - 1.0).abs() < 0.02, "{rate} {truth}");
    }
}

#[test]
fn takes_are_voices_of_a_sound() {
    let bench = sounding(&["tone frequency=500Hz level=-20dB", NOISE], "2s");
    let other =
        ["signal", "tone frequency=504Hz level=-20dB", "--duration", "2s", "--output", "b.wav"];
    assert_eq!(bench.run_words(&other).status, 0);
    let words =
        ["signal", "take file=a.wav", "take file=b.wav gain=-6.0206dB", "--output", "c.wav"];
    let run = bench.run_words(&words);
    assert_eq!(run.status, 0, "{}", run.err);
    let json = bench.json("modulation c.wav --format json --quiet");
    assert!((number(&json["result"]["rate_hz"]) - 4.0).abs() < 1e-3);
    assert!((number(&json["result"]["depth"]) - 0.5).abs() < 2e-3);
    // Both last as long as the takes do, at their rate.
    assert!((number(&json["take"]["duration_s"]) - 2.0).abs() < 1e-9);
    let slow = ["signal", "take file=a.wav", "--rate", "44.1kHz", "--output", "d.wav"];
    let run = bench.run_words(&slow);
    assert!(run.status == 1 && run.err.contains("state one --rate"), "{}", run.err);
    assert!(!bench.path("d.wav").exists());
    let lost = ["signal", "take file=none.wav", "--output", "d.wav"];
    assert_eq!(bench.run_words(&lost).status, 1);
    assert!(!bench.path("d.wav").exists());
}
