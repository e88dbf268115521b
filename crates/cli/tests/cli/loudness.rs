//! `loudness`: sone and phon of known sounds, from takes and from levels, and what weighs most.

use std::f64::consts::TAU;

use serde_json::Value;
use tonemap_core::synth::{shaped_noise, to_samples};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number};

const RATE: u32 = 48_000;
const ASSUME: &str = "--assume full-scale=100dB";

/// A tone of so many dB re 20 µPa where a full-scale sine has 100 dB.
fn tone(hz: f64, level_db: f64, lasts_s: f64) -> Vec<f32> {
    let amplitude = 10f64.powf((level_db - 100.0) / 20.0);
    let count = (lasts_s * f64::from(RATE)) as usize;
    let at = |n: usize| amplitude * (TAU * hz * n as f64 / f64::from(RATE)).sin();
    (0..count).map(|n| at(n) as f32).collect()
}

fn bench_with(name: &str, channels: &[Vec<f32>]) -> Bench {
    let bench = Bench::new();
    bench.take(name, RATE, WavEncoding::Float, channels);
    bench
}

fn json(bench: &Bench, arguments: &str) -> Value {
    bench.json(&format!("loudness {arguments} --format json --quiet"))
}

/// The standard's levels of a machine (ISO 532-1:2017, annex B.2).
const MACHINE_DB: [f64; 28] = [
    -60.0, -60.0, 78.0, 79.0, 89.0, 72.0, 80.0, 89.0, 75.0, 87.0, 85.0, 79.0, 86.0, 80.0, 71.0,
    70.0, 72.0, 71.0, 72.0, 74.0, 69.0, 65.0, 67.0, 77.0, 68.0, 58.0, 45.0, 30.0,
];

/// Nominal middles of the bands.
const MIDDLES_HZ: [f64; 28] = [
    25.0, 31.5, 40.0, 50.0, 63.0, 80.0, 100.0, 125.0, 160.0, 200.0, 250.0, 315.0, 400.0, 500.0,
    630.0, 800.0, 1000.0, 1250.0, 1600.0, 2000.0, 2500.0, 3150.0, 4000.0, 5000.0, 6300.0, 8000.0,
    10_000.0, 12_500.0,
];

fn table(levels_db: &[f64; 28]) -> String {
    let rows = MIDDLES_HZ.iter().zip(levels_db).map(|(hz, db)| format!("{hz},{db}\n"));
    format!("center_hz,level_db\n{}", rows.collect::<String>())
}

#[test]
fn a_reference_tone_has_its_loudness() {
    let bench = bench_with("tone.wav", &[tone(1000.0, 60.0, 3.0)]);
    for method in ["time-varying", "stationary"] {
        let found = json(&bench, &format!("tone.wav {ASSUME} --method {method}"));
        let result = &found["result"];
        let sone = number(&result["loudness_sone"]);
        assert!((sone / 4.019 - 1.0).abs() < 0.01, "{method}: {sone}");
        assert!((number(&result["loudness_level_phon"]) - 60.0).abs() < 0.2, "{result}");
        assert!((number(&result["level_db"]) - 60.0).abs() < 0.1, "{}", result["level_db"]);
        assert_eq!(result["method"], method);
        assert_eq!(result["specific"].as_array().map(Vec::len), Some(240));
        assert_eq!(codes(&found), ["assumed_calibration"]);
        let over_time = ["n5_sone", "n10_sone", "max_sone"].map(|key| !result[key].is_null());
        assert_eq!(over_time, [method == "time-varying"; 3]);
    }
    let diffuse = json(&bench, &format!("tone.wav {ASSUME} --field diffuse"));
    let free = json(&bench, &format!("tone.wav {ASSUME}"));
    let sone = |found: &Value| number(&found["result"]["loudness_sone"]);
    assert!(sone(&diffuse) > 1.15 * sone(&free), "a diffuse field has 3 dB more at 1 kHz");
    // In the middle of the take there is no onset.
    let within = json(&bench, &format!("tone.wav {ASSUME} --from 1 --to 2 --course"));
    let course = within["result"]["course"].as_array().expect("a course");
    assert_eq!(course.len(), 500);
    let within = course.iter().map(|at| number(&at["loudness_sone"]));
    assert!(
        within.clone().all(|sone| (sone / 4.019 - 1.0).abs() < 0.012),
        "{:?}",
        within.min_by(f64::total_cmp)
    );
    assert_eq!(number(&course[0]["time_s"]), 1.0);
}

#[test]
fn what_is_not_calibrated_has_no_loudness_but_a_programme_loudness() {
    let stereo = vec![tone(1000.0, 77.0, 6.0); 2];
    let bench = bench_with("stereo.wav", &stereo);
    let run = bench.run("loudness stereo.wav");
    assert_eq!((run.status, run.out.as_str()), (1, ""));
    for words in ["is not calibrated", "study calibrate", "--assume", "--method programme"] {
        assert!(run.err.contains(words), "{}", run.err);
    }
    let found = json(&bench, "stereo.wav --method programme");
    let result = &found["result"];
    assert!((number(&result["programme_lufs"]) + 23.0).abs() < 0.05, "{result}");
    assert!((number(&result["max_momentary_lufs"]) + 23.0).abs() < 0.05, "{result}");
    assert!((number(&result["true_peak_dbfs"]) + 23.0).abs() < 0.05, "{result}");
    assert!(number(&result["loudness_range_lu"]).abs() < 0.05);
    assert!(result["loudness_sone"].is_null() && codes(&found).is_empty(), "{found}");
    // One channel has 3 dB less, and it is of all channels whatever is chosen.
    bench.take("mono.wav", RATE, WavEncoding::Float, &stereo[..1]);
    let mono = json(&bench, "mono.wav --method programme");
    assert!((number(&mono["result"]["programme_lufs"]) + 26.01).abs() < 0.05, "{mono}");
    let loud = json(&bench, &format!("stereo.wav --channel 2 {ASSUME}"));
    assert!((number(&loud["result"]["programme_lufs"]) + 23.0).abs() < 0.05);
    let text = bench.run("loudness stereo.wav mono.wav --method programme --quiet").out;
    assert!(text.contains("−23.0") && text.contains("−26.0"), "{text}");
    let figure = bench.run("loudness stereo.wav --method programme --figure a.png");
    assert_eq!(figure.status, 2, "{}", figure.err);
}

#[test]
fn levels_in_a_file_have_their_loudness() {
    let bench = Bench::new();
    bench.write("machine.csv", table(&MACHINE_DB).as_bytes());
    let found = json(&bench, "machine.csv");
    assert!((number(&found["result"]["loudness_sone"]) - 83.296).abs() < 0.01, "{found}");
    assert_eq!(found["files"].as_array().map(Vec::len), Some(1), "{}", found["files"]);
    // What is not known of the levels is not known of the loudness.
    assert!(found["result"]["loudness_sone_u"].is_null(), "{found}");
    let text = bench.run("loudness machine.csv --quiet --require loudness_sone<80");
    assert_eq!(text.status, 3, "{}", text.err);
    assert!(text.out.contains("83.296"), "{}", text.out);
    // What `bands` writes, as a table and as a saved result, is the same sound.
    let noise = shaped_noise(8, 3 * RATE as usize, f64::from(RATE), |hz| 1e-5 / hz.max(20.0));
    bench.take("noise.wav", RATE, WavEncoding::Float, &[to_samples(&noise)]);
    let of_take = json(&bench, &format!("noise.wav {ASSUME} --method stationary"));
    let wanted = number(&of_take["result"]["loudness_sone"]);
    for name in ["noise.csv", "noise.json"] {
        let format = &name[6..];
        let line = format!("bands noise.wav {ASSUME} --format {format} --output {name} --quiet");
        assert_eq!(bench.run(&line).status, 0);
        let found = json(&bench, name);
        let sone = number(&found["result"]["loudness_sone"]);
        println!("{name}: {sone:.3}, the take {wanted:.3} sone");
        assert!((sone / wanted - 1.0).abs() < 0.02, "{name}: {sone}, {wanted}");
        assert!(number(&found["result"]["loudness_sone_u"]) > 0.0, "{found}");
    }
    assert_eq!(bench.run("bands noise.wav --format csv --output bare.csv --quiet").status, 0);
    for (name, content, said) in [
        ("bare.csv", None, "are not re 20 µPa"),
        ("heads.csv", Some("hz,db\n100,3\n"), "has a column center_hz, and one of level_db"),
        ("empty.csv", Some("center_hz,level_db\n"), "there are no levels in third-octave bands"),
        ("twice.csv", Some("center_hz,level_db\n100,60\n100,61\n"), "2 at 100 Hz"),
        ("far.csv", Some("center_hz,level_db\n3,60\n"), "25 Hz to 12.5 kHz"),
        ("none.json", Some("{}"), "its result has no bands"),
    ] {
        if let Some(content) = content {
            bench.write(name, content.as_bytes());
        }
        let run = bench.run(&format!("loudness {name}"));
        assert_eq!(run.status, 1, "{name}: {}", run.err);
        assert!(run.err.contains(said) && run.err.lines().count() == 1, "{name}: {}", run.err);
    }
    for options in ["--course", "--method programme"] {
        assert_eq!(bench.run(&format!("loudness machine.csv {options}")).status, 2, "{options}");
    }
}

/// Two noises that differ in one band and a little in another.
#[test]
fn of_two_sounds_the_bands_that_differ_come_first() {
    let noise = |by: [f64; 2]| {
        let density = |hz: f64| {
            let more = match hz {
                hz if (1780.0..2239.0).contains(&hz) => by[0],
                hz if (355.0..447.0).contains(&hz) => by[1],
                _ => 1.0,
            };
            if hz > 30.0 { 1e-5 * more / hz } else { 0.0 }
        };
        to_samples(&shaped_noise(5, 3 * RATE as usize, f64::from(RATE), density))
    };
    let bench = bench_with("plain.wav", &[noise([1.0, 1.0])]);
    bench.take("fan.wav", RATE, WavEncoding::Float, &[noise([60.0, 20.0])]);
    let line = format!("loudness plain.wav fan.wav {ASSUME}");
    let run = bench.run(&format!("{line} --format json --quiet"));
    let both: Vec<Value> =
        run.out.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    let weights = |n: usize| both[n]["result"]["weighs_most"].as_array().expect("bands").clone();
    assert_eq!((weights(0).len(), weights(1).len()), (20, 20));
    let middle = |band: &Value| number(&band["frequency_hz"]).round();
    assert_eq!((middle(&weights(1)[0]), middle(&weights(1)[1])), (1995.0, 398.0));
    assert!(number(&weights(1)[0]["gain_sone"]) > 1.0 && number(&weights(1)[0]["sone"]) > 1.0);
    // Seen from the other it is the same the other way.
    assert_eq!(middle(&weights(0)[19]), 1995.0);
    let text = bench.run(&format!("{line} --quiet")).out;
    assert!(text.contains("bands of fan.wav that weigh most"), "{text}");
    let first = text.lines().skip_while(|line| !line.contains("saves")).nth(2).expect("a band");
    assert!(first.trim_start().starts_with("1995"), "{text}");
    let three = bench.run(&format!("{line} fan.wav --format json --quiet")).out;
    assert!(!three.contains("weighs_most"), "of two alone");
    // Limits and tables.
    let limit = "weighs_most[1995.3Hz].gain_sone<0.5";
    let words = ["loudness", "plain.wav", "fan.wav", "--assume", "full-scale=100dB", "--quiet"];
    let run = bench.run_words(&[&words[..], &["--require", limit]].concat());
    assert_eq!(run.status, 3, "{}", run.err);
    let rows = |option: &str| {
        let run = bench.run(&format!("{line} {option} --format csv --quiet"));
        assert_eq!(run.status, 0, "{}", run.err);
        run.out.lines().count() - 1
    };
    assert_eq!((rows(""), rows("--specific"), rows("--course")), (2, 480, 3000));
}

#[test]
fn calibration_and_comparison_go_with_the_study() {
    let bench = bench_with("a.wav", &[tone(1000.0, 60.0, 2.0)]);
    bench.take("b.wav", RATE, WavEncoding::Float, &[tone(1000.0, 70.0, 2.0)]);
    bench.take("cal.wav", RATE, WavEncoding::Float, &[tone(1000.0, 94.0, 2.0)]);
    let done = |line: &str| {
        let run = bench.run(line);
        assert_eq!(run.status, 0, "{line}: {}", run.err);
    };
    done("study make .");
    let noise = shaped_noise(7, 2 * RATE as usize, f64::from(RATE), |_| 1e-9);
    bench.take("c.wav", RATE, WavEncoding::Float, &[to_samples(&noise)]);
    done("study add a.wav b.wav c.wav --pattern {name}.wav --channels stage:mic");
    done("study calibrate mic --tone cal.wav --level 94dB --frequency 1kHz");
    let found = json(&bench, "a");
    assert!((number(&found["result"]["loudness_level_phon"]) - 60.0).abs() < 0.2, "{found}");
    let trend = "trend --quantity loudness.loudness_sone --over name --format json --quiet";
    let found = bench.json(trend);
    assert_eq!(found["result"]["points"].as_array().map(Vec::len), Some(3), "{found}");
    // A comparison has the loudness of calibrated takes alone.
    let compared = bench.run("compare a b --quiet").out;
    assert!(compared.contains("loudness, sone"), "{compared}");
    let bare = bench.run("compare ./a.wav ./b.wav --study . --quiet").out;
    assert!(bare.contains("loudness, sone"), "the same files: {bare}");
    let other = Bench::new();
    other.take("a.wav", RATE, WavEncoding::Float, &[tone(1000.0, 60.0, 2.0)]);
    other.take("b.wav", RATE, WavEncoding::Float, &[tone(1000.0, 70.0, 2.0)]);
    assert!(!other.run("compare a.wav b.wav --quiet").out.contains("loudness"));
    done("report --quiet");
    let page = std::fs::read_to_string(bench.path("report.html")).expect("a page");
    assert!(page.contains("Loudness over time") && page.contains("Specific loudness, mean"));
}

#[test]
fn doubtful_sounds_are_named_and_give_numbers_all_the_same() {
    let bench = bench_with("silence.wav", &[vec![0.0; 2 * RATE as usize]]);
    let found = json(&bench, &format!("silence.wav {ASSUME}"));
    let result = &found["result"];
    assert_eq!(number(&result["loudness_sone"]), 0.0);
    assert!(result["sharpness_acum"].is_null() && result["programme_lufs"].is_null(), "{result}");
    // A sound that comes and goes is not steady.
    let mut pulsing = tone(500.0, 70.0, 4.0);
    for (n, x) in pulsing.iter_mut().enumerate() {
        *x *= if (n / (RATE as usize / 2)).is_multiple_of(2) { 1.0 } else { 0.03 };
    }
    bench.take("pulsing.wav", RATE, WavEncoding::Float, &[pulsing]);
    let steady = json(&bench, &format!("pulsing.wav {ASSUME} --method stationary"));
    assert!(codes(&steady).contains(&"loudness_not_steady"), "{:?}", codes(&steady));
    let over_time = json(&bench, &format!("pulsing.wav {ASSUME}"));
    assert_eq!(codes(&over_time), ["assumed_calibration"]);
    // Louder than the standard goes, and a low sample rate.
    let loud = json(&bench, "pulsing.wav --assume full-scale=160dB");
    assert!(codes(&loud).contains(&"beyond_loudness_range"), "{:?}", codes(&loud));
    bench.take("low.wav", 16_000, WavEncoding::Float, &[tone(500.0, 70.0, 0.5)]);
    let low = json(&bench, &format!("low.wav {ASSUME}"));
    assert!(codes(&low).contains(&"bands_omitted"), "{:?}", codes(&low));
    bench.take("short.wav", RATE, WavEncoding::Float, &[tone(500.0, 70.0, 0.005)]);
    let short = bench.run(&format!("loudness short.wav {ASSUME}"));
    assert_eq!(short.status, 1, "{}", short.err);
}

/// Whatever the blocks are in which a take comes.
#[test]
fn a_stream_gives_what_the_file_does() {
    let bench = bench_with("tone.wav", &[tone(440.0, 65.0, 1.3), tone(880.0, 60.0, 1.3)]);
    let line = format!("--channel mean-energy:1,2 {ASSUME} --course");
    let of_file = json(&bench, &format!("tone.wav {line}"));
    let bytes = std::fs::read(bench.path("tone.wav")).expect("a take");
    let run = bench.run_with_input(&format!("loudness - {line} --format json --quiet"), &bytes);
    assert_eq!(run.status, 0, "{}", run.err);
    let of_stream: Value = serde_json::from_str(&run.out).expect("JSON");
    assert_eq!(of_stream["result"], of_file["result"]);
    assert!(of_file["result"]["roughness_asper"].is_null(), "an energy mean has no waveform");
}
