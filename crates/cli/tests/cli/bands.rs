//! `bands`: levels in bands, weighted, over time, of several microphones.

use tonemap_core::synth::{to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number};

const RATE: u32 = 48_000;

fn tone(hz: f64, amplitude: f64, lasts_s: f64) -> Vec<f32> {
    let count = (lasts_s * f64::from(RATE)) as usize;
    tonemap_core::synth::sine(hz, amplitude, 0.3, f64::from(RATE), count)
}

fn noise(seed: u64, rms: f64, lasts_s: f64) -> Vec<f32> {
    to_samples(&white_noise(seed, rms, (lasts_s * f64::from(RATE)) as usize))
}

fn near(value: &serde_json::Value, wanted: f64, slack: f64) {
    let found = number(value);
    assert!((found - wanted).abs() < slack, "{found} and not {wanted}");
}

fn band(json: &serde_json::Value, hz: f64) -> serde_json::Value {
    let bands = json["result"]["bands"].as_array().expect("bands");
    let same = |band: &&serde_json::Value| band["center_hz"] == hz;
    bands.iter().find(same).unwrap_or_else(|| panic!("no band of {hz} Hz")).clone()
}

#[test]
fn a_calibrated_tone_has_its_level_in_its_band() {
    let bench = Bench::new();
    bench.take("tone.wav", RATE, WavEncoding::Float, &[tone(1000.0, 0.1, 8.0)]);
    let words = ["bands", "tone.wav", "--assume", "full-scale = 114dB", "--format", "json"];
    let json: serde_json::Value = serde_json::from_str(&bench.run_words(&words).out).expect("JSON");
    let result = &json["result"];
    for key in ["leq_db", "laeq_db", "lceq_db", "max_db", "min_db"] {
        near(&result[key], 94.0, 0.02);
    }
    near(&result["exposure_db"], 94.0 + 10.0 * 8f64.log10(), 0.02);
    // The pressure at its peak is 3 dB over the level of a sine.
    near(&result["lcpeak_db"], 97.01, 0.1);
    near(&result["percentiles"]["50"], 94.0, 0.05);
    near(&band(&json, 1000.0)["level_db"], 94.0, 0.01);
    near(&band(&json, 1000.0)["exact_center_hz"], 1000.0, 1e-9);
    assert!(number(&band(&json, 2000.0)["level_db"]) < 94.0 - 60.0);
    assert!(number(&band(&json, 31.5)["level_db"]) < 94.0 - 75.0);
    assert_eq!((&result["fraction"], &result["weighting"]), (&3.into(), &"Z".into()));
    assert_eq!(json["settings"]["level_reference"], "20 µPa");
    assert!(result.get("course").is_none_or(|course| course.as_array().is_some_and(Vec::is_empty)));
    let weighted = &result["weighted"][0];
    assert_eq!((&weighted["weighting"], &weighted["leq_db"]), (&"A".into(), &result["laeq_db"]));
}

#[test]
fn a_take_that_is_not_calibrated_is_re_full_scale() {
    let bench = Bench::new();
    bench.take("tone.wav", RATE, WavEncoding::Float, &[tone(1000.0, 0.5, 4.0)]);
    let json = bench.json("bands tone.wav --fraction 1 --range 125Hz..4kHz --format json");
    near(&json["result"]["leq_db"], -6.02, 0.02);
    assert_eq!(json["settings"]["level_reference"], "full scale");
    assert_eq!(json["result"].get("noise_rating"), None);
    let names: Vec<f64> = (json["result"]["bands"].as_array().expect("bands").iter())
        .map(|band| number(&band["center_hz"]))
        .collect();
    assert_eq!(names, [125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0]);
    let text = bench.run("bands tone.wav").out;
    assert!(text.contains("equivalent, dB re full scale"), "{text}");
}

#[test]
fn levels_over_time_are_given_in_steps() {
    let bench = Bench::new();
    let sound: Vec<f32> =
        [0.01, 0.1, 0.001].iter().flat_map(|amplitude| tone(1000.0, *amplitude, 4.0)).collect();
    bench.take("steps.wav", RATE, WavEncoding::Float, &[sound]);
    let json = bench.json("bands steps.wav --every 2s --course --fraction 1 --format json");
    let course = json["result"]["course"].as_array().expect("a course");
    let levels: Vec<f64> = course.iter().map(|at| number(&at["level_db"])).collect();
    let wanted = [-40.0, -40.0, -20.0, -20.0, -60.0, -60.0];
    let is_near = |(found, wanted): (&f64, &f64)| (found - wanted).abs() < 0.1;
    assert!(levels.len() == 6 && levels.iter().zip(&wanted).all(is_near), "{levels:?}");
    let times: Vec<f64> = course.iter().map(|at| number(&at["time_s"])).collect();
    assert_eq!(times, [1.0, 3.0, 5.0, 7.0, 9.0, 11.0]);
    let of_band = band(&json, 1000.0)["course_db"].as_array().expect("a course").clone();
    near(&of_band[2], -20.0, 0.1);
    let csv = bench.run("bands steps.wav --every 2s --course --fraction 1 --format csv").out;
    assert_eq!(csv.lines().count(), 7, "{csv}");
    assert!(csv.starts_with("take,channel,time_s,level_db,max_db,bands_16Hz_db,"), "{csv}");
}

#[test]
fn an_energy_mean_is_not_a_mean_of_waveforms() {
    let bench = Bench::new();
    let same = tone(1000.0, 0.1, 4.0);
    let reversed: Vec<f32> = same.iter().map(|x| -0.5 * x).collect();
    bench.take("two.wav", RATE, WavEncoding::Float, &[same, reversed]);
    let of = |channel: &str| {
        bench.json(&format!("bands two.wav --channel {channel} --format json"))["result"].clone()
    };
    near(&of("mean")["leq_db"], -32.04, 0.05);
    let wanted = -20.0 + 10.0 * (0.5f64 * 1.25).log10();
    near(&of("mean-energy:1,2")["leq_db"], wanted, 0.02);
    near(&of("mean-energy")["leq_db"], wanted, 0.02);
    let text = bench.run("bands two.wav --channel 1,mean-energy:1,2 --quiet").out;
    assert!(text.contains("channel mean energy of 1 and 2"), "{text}");
    let refused = bench.run("spectrum two.wav --channel mean-energy:1,2");
    assert_eq!(refused.status, 2);
    assert!(refused.err.contains("no waveform to analyse"), "{}", refused.err);
    assert_eq!(bench.run("bands two.wav --channel mean-energy:1,3").status, 2);
    // Each channel counts as it is calibrated.
    let study = "title = \"t\"\n[microphones.a]\nfull_scale_db = 114.0\n[microphones.b]\n\
                 full_scale_db = 120.02\n[[takes]]\nname = \"two\"\nfile = \"two.wav\"\n\
                 channels = [{ name = \"left\", microphone = \"a\" }, { name = \"right\", \
                 microphone = \"b\" }]\n";
    bench.write("study.toml", study.as_bytes());
    let json = bench.json("bands two --channel mean-energy:left,right --format json");
    near(&json["result"]["leq_db"], 94.0, 0.02);
}

#[test]
fn the_response_of_a_microphone_is_taken_away() {
    let bench = Bench::new();
    bench.take("tone.wav", RATE, WavEncoding::Float, &[tone(4000.0, 0.1, 4.0)]);
    let study = "title = \"t\"\n[microphones.a]\nfull_scale_db = 114.0\n\
                 response_db = [[1000, 0.0], [4000, 3.0]]\n[[takes]]\nname = \"tone\"\n\
                 file = \"tone.wav\"\nchannels = [{ name = \"one\", microphone = \"a\" }]\n";
    bench.write("study.toml", study.as_bytes());
    let json = bench.json("bands tone --format json");
    let of_band = band(&json, 4000.0);
    near(&of_band["level_db"], 91.0, 0.05);
    near(&of_band["response_db"], 3.0, 0.02);
    near(&json["result"]["leq_db"], 91.0, 0.05);
    let wrong = study.replace("[4000, 3.0]", "[0, 3.0]");
    bench.write("study.toml", wrong.as_bytes());
    let refused = bench.run("bands tone");
    assert!(refused.err.contains("response_db is 0"), "{}", refused.err);
}

#[test]
fn a_background_is_subtracted_where_it_is_far_enough() {
    let bench = Bench::new();
    bench.take("quiet.wav", RATE, WavEncoding::Float, &[noise(1, 0.001, 20.0)]);
    let mut loud = noise(2, 0.001, 20.0);
    for (x, tone) in loud.iter_mut().zip(tone(1000.0, 0.000_3, 20.0)) {
        *x += tone;
    }
    bench.take("loud.wav", RATE, WavEncoding::Float, &[loud]);
    let json = bench.json("bands loud.wav --background quiet.wav --format json");
    let of_tone = band(&json, 1000.0);
    assert_eq!(of_tone["correction"], "subtracted");
    near(&of_tone["corrected_db"], -70.46, 3.0 * number(&of_tone["corrected_db_u"]));
    let other = band(&json, 4000.0);
    assert_eq!(other["correction"], "limited");
    assert_eq!(other["corrected_db"], other["level_db"]);
    assert!(codes(&json).contains(&"background_near"), "{:?}", codes(&json));
    let text = bench.run("bands loud.wav --background quiet.wav").out;
    assert!(text.contains("without it") && text.contains("upper limit"), "{text}");
}

#[test]
fn what_is_left_out_is_said() {
    let bench = Bench::new();
    bench.take("short.wav", 16_000, WavEncoding::Float, &[noise(3, 0.1, 0.1)]);
    let json = bench.json("bands short.wav --format json");
    let said = json["findings"].to_string();
    assert!(said.contains("beyond half the sample rate, 8000 Hz"), "{said}");
    assert!(said.contains("too short for their filters"), "{said}");
    assert!(codes(&json).contains(&"short_for_time_weighting"));
    assert!(json["result"]["min_db"].is_null() && !json["result"]["max_db"].is_null());
    let bands = json["result"]["bands"].as_array().expect("bands");
    assert!(bands.iter().all(|band| number(&band["center_hz"]) >= 125.0), "{bands:?}");
    bench.take("silent.wav", RATE, WavEncoding::Float, &[vec![0.0; 96_000]]);
    let json = bench.json("bands silent.wav --format json");
    assert!(json["result"]["leq_db"].is_null() && json["result"]["percentiles"]["50"].is_null());
    assert_eq!(bench.run("bands silent.wav --figure silent.png").status, 0);
    // A level that falls by itself.
    let falling: Vec<f32> = (noise(4, 0.1, 10.0).iter().enumerate())
        .map(|(n, x)| x * (-(n as f32) / 48_000.0 / 4.0).exp())
        .collect();
    bench.take("falling.wav", RATE, WavEncoding::Float, &[falling]);
    assert!(codes(&bench.json("bands falling.wav --format json")).contains(&"level_drifts"));
}

#[test]
fn a_span_within_a_take_has_no_start() {
    let bench = Bench::new();
    bench.take("tone.wav", RATE, WavEncoding::Float, &[tone(1000.0, 0.5, 20.0)]);
    let json = bench.json("bands tone.wav --from 15 --to 16 --format json");
    let lowest = band(&json, 31.5);
    near(&lowest["averaged_s"], 1.0, 0.02);
    assert!(lowest["level_db"].is_null() || number(&lowest["level_db"]) < -110.0, "{lowest}");
    near(&json["result"]["min_db"], -6.02, 0.02);
}

#[test]
fn limits_and_several_takes() {
    let bench = Bench::new();
    bench.take("a.wav", RATE, WavEncoding::Float, &[noise(5, 0.1, 3.0)]);
    bench.take("b.wav", RATE, WavEncoding::Float, &[noise(6, 0.05, 3.0)]);
    let run = bench.run_words(&["bands", "a.wav", "--quiet", "--require", "laeq_db<-60"]);
    assert_eq!(run.status, 3, "{}", run.err);
    let limits = ["--require", "bands[1kHz].level_db>-200"];
    assert_eq!(bench.run_words(&[&["bands", "a.wav", "--quiet"][..], &limits].concat()).status, 2);
    let limits = ["--require", "bands[1000Hz].level_db>-200", "--require", "percentiles.90<0"];
    assert_eq!(bench.run_words(&[&["bands", "a.wav", "--quiet"][..], &limits].concat()).status, 0);
    let run = bench.run("bands a.wav b.wav --fraction 1 --figure both.png --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let head = run.out.lines().find(|line| line.contains("band, Hz")).expect("a table of bands");
    assert!(head.contains("a.wav") && head.contains("b.wav"), "{head}");
    for (wrong, said) in [
        ("--fraction 25", "1/1 to 1/24"),
        ("--range 8kHz..16Hz", "rising"),
        ("--every 1ms", "10 ms to a day"),
        ("--weighting B", "A, C or Z"),
        ("--time-weighting X", "F, S or I"),
    ] {
        let run = bench.run(&format!("bands a.wav {wrong}"));
        assert_eq!(run.status, 2, "{wrong}: {}", run.err);
        assert!(run.err.contains(said), "{wrong}: {}", run.err);
    }
}

#[test]
fn microphones_that_differ_are_not_averaged_as_one() {
    let bench = Bench::new();
    let sound = tone(4000.0, 0.1, 4.0);
    bench.take("pair.wav", RATE, WavEncoding::Float, &[sound.clone(), sound]);
    for (of_second, is_told) in [("3.0", false), ("1.0", true)] {
        let microphone = |name: &str, db: &str| {
            format!(
                "[microphones.{name}]\nfull_scale_db = 114.0\n\
                 response_db = [[1000, 0.0], [4000, {db}]]\n"
            )
        };
        let study = format!(
            "title = \"t\"\n{}{}[[takes]]\nname = \"pair\"\nfile = \"pair.wav\"\nchannels = [{}, {}]\n",
            microphone("a", "3.0"),
            microphone("b", of_second),
            "{ name = \"one\", microphone = \"a\" }",
            "{ name = \"two\", microphone = \"b\" }"
        );
        bench.write("study.toml", study.as_bytes());
        let json = bench.json("bands pair --channel mean --format json");
        assert_eq!(codes(&json).contains(&"responses_differ"), is_told, "{:?}", codes(&json));
        // What differs is not taken away; what both have is.
        near(&band(&json, 4000.0)["level_db"], if is_told { 94.0 } else { 91.0 }, 0.05);
    }
}
