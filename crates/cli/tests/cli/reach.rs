//! What is found reaches the reader: through `trend` and `report`, past a bad take, and in full.

use serde_json::Value;
use tonemap_core::synth::{self, PluckedString};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number, sine};

fn string(frequency_hz: f64) -> Vec<f32> {
    let string = PluckedString { frequency_hz, ..PluckedString::default() };
    synth::to_samples(&string.render(48_000.0, 1.0))
}

/// A study of three strings over a condition; the second is cut off after it was added.
fn study() -> Bench {
    let bench = Bench::new();
    for turn in 0..3 {
        let sound = string(200.0 + 2.0 * f64::from(turn));
        bench.take(&format!("turn{turn}.wav"), 48_000, WavEncoding::Float, &[sound]);
    }
    assert_eq!(bench.run("study make .").status, 0);
    let added = bench.run("study add turn0.wav turn1.wav turn2.wav --pattern turn{turn}.wav");
    assert_eq!(added.status, 0, "{}", added.err);
    let whole = std::fs::read(bench.path("turn1.wav")).expect("a take");
    bench.write("turn1.wav", &whole[..3 * whole.len() / 4]);
    bench
}

#[test]
fn a_trend_has_the_findings_of_its_takes() {
    let bench = study();
    let line = "trend --quantity partials.f0_hz --over turn";
    let found = bench.json(&format!("{line} --format json --quiet"));
    let findings = found["findings"].as_array().expect("findings");
    let of_turn1: Vec<&str> = findings
        .iter()
        .filter(|finding| finding["take"] == "turn1")
        .filter_map(|finding| finding["code"].as_str())
        .collect();
    assert!(of_turn1.contains(&"truncated") && of_turn1.contains(&"changed"), "{findings:?}");
    let text = bench.run(&format!("{line} --quiet")).out;
    assert!(text.contains("warning [truncated]\n    turn1: The file ends early"), "{text}");
    // And again from what was kept.
    assert_eq!(bench.run(&format!("{line} --quiet")).out, text);
}

#[test]
fn findings_that_say_the_same_stand_once_with_all_their_takes() {
    let bench = Bench::new();
    let hot: Vec<f32> = sine(440.0).iter().map(|x| (3.0 * x).clamp(-1.0, 1.0)).collect();
    for name in ["a.wav", "b.wav"] {
        bench.take(name, 48_000, WavEncoding::Integer(16), std::slice::from_ref(&hot));
    }
    let text = bench.run("tuning a.wav b.wav --quiet").out;
    assert_eq!(text.matches("serious [clipped]").count(), 1, "{text}");
    assert!(text.contains("a.wav; b.wav: Channel 1 is clipped"), "{text}");
    let found = bench.json("tuning a.wav b.wav --format json --quiet");
    let clipped: Vec<&Value> = (found["findings"].as_array().expect("findings").iter())
        .filter(|finding| finding["code"] == "clipped")
        .collect();
    assert_eq!(clipped.len(), 2, "each finding is there in full: {clipped:?}");
    assert_eq!((&clipped[0]["take"], &clipped[1]["take"]), (&"a.wav".into(), &"b.wav".into()));
}

#[test]
fn a_report_has_every_finding_and_not_one_of_each_kind() {
    let bench = Bench::new();
    let hot = |gain: f32| -> Vec<f32> {
        sine(440.0).iter().map(|x| (gain * x).clamp(-1.0, 1.0)).collect()
    };
    bench.take("hot.wav", 48_000, WavEncoding::Integer(16), &[hot(3.0), hot(5.0)]);
    assert_eq!(bench.run("report hot.wav --quiet").status, 0);
    let page = std::fs::read_to_string(bench.path("report.html")).expect("written");
    for channel in [1, 2] {
        assert!(page.contains(&format!("Channel {channel} is clipped")), "channel {channel}");
    }
    assert!(page.contains("1 take; 2 serious findings"), "all are counted");
}

#[test]
fn a_bad_take_is_named_and_does_not_stop_the_others() {
    let bench = Bench::new();
    bench.take("good.wav", 48_000, WavEncoding::Float, &[string(200.0)]);
    bench.take("short.wav", 48_000, WavEncoding::Float, &[vec![0.1; 5]]);
    bench.write("junk.wav", b"RIFF");
    for command in ["spectrum", "spectrogram", "pitch", "partials", "timbre", "inspect"] {
        let run = bench.run(&format!("{command} short.wav junk.wav good.wav --quiet"));
        assert_eq!(run.status, 1, "{command}: {}", run.err);
        assert!(run.out.contains("good.wav"), "{command}: {}", run.out);
        assert!(run.err.contains("tonemap: junk.wav: "), "{command}: {}", run.err);
        if !["inspect", "pitch"].contains(&command) {
            assert!(run.err.contains("tonemap: short.wav: "), "{command}: {}", run.err);
        }
        assert!(!run.err.contains("short.wav: short.wav"), "{command}: {}", run.err);
    }
    let table = bench.run("spectrogram short.wav good.wav --data all.npz --quiet");
    assert_eq!(table.status, 1, "{}", table.err);
    assert!(bench.path("all.npz").exists(), "the good one is written: {}", table.err);
}

#[test]
fn a_span_that_ends_too_late_is_a_finding() {
    let bench = Bench::new();
    bench.take("a.wav", 48_000, WavEncoding::Float, &[string(200.0)]);
    for command in [
        "inspect",
        "spectrum",
        "spectrogram",
        "pitch",
        "partials",
        "timbre",
        "tuning",
        "unison",
        "modulation",
        "bands",
        "loudness --method programme",
    ] {
        let late = bench.json(&format!("{command} a.wav --to 50 --format json --quiet"));
        assert!(codes(&late).contains(&"span_cut"), "{command}: {:?}", codes(&late));
        let right = bench.json(&format!("{command} a.wav --to 1 --format json --quiet"));
        assert!(!codes(&right).contains(&"span_cut"), "{command}");
    }
}

#[test]
fn a_kept_result_follows_the_files_that_options_name() {
    let bench = study();
    let curve = |db: f64| bench.write("mic.csv", format!("10, {db}\n20000, {db}\n").as_bytes());
    let line = [
        "trend",
        "--quantity",
        "spectrum.peaks[1].level_db",
        "--over",
        "turn",
        "--with",
        "--response mic.csv --peaks 1",
        "--format",
        "json",
        "--quiet",
    ];
    let level = || {
        let run = bench.run_words(&line);
        assert_eq!(run.status, 0, "{}", run.err);
        let found: Value = serde_json::from_str(&run.out).expect("JSON");
        number(&found["result"]["points"][0]["value"])
    };
    curve(0.0);
    let before = level();
    assert_eq!(level(), before);
    curve(10.0);
    let after = level();
    assert!((before - after - 10.0).abs() < 1e-6, "{before} {after}");
    // A temperament in a file, named by an option and by the study.
    let temperament = |fifth: f64| {
        let raised = |n: u8| 100.0 * f64::from(n) + if n == 7 { fifth } else { 0.0 };
        let cents: Vec<String> = (0..12).map(|n| format!("{:.1}", raised(n))).collect();
        let text = format!("name = \"own\"\ncents = [{}]\n", cents.join(", "));
        bench.write("own.toml", text.as_bytes());
    };
    let cents = |options: &str| {
        let words = ["trend", "--quantity", "tuning.notes[1].cents", "--over", "turn", "--with"];
        let words = [&words[..], &[options, "--format", "json", "--quiet"]].concat();
        let run = bench.run_words(&words);
        assert_eq!(run.status, 0, "{}", run.err);
        let found: Value = serde_json::from_str(&run.out).expect("JSON");
        number(&found["result"]["points"][0]["value"])
    };
    temperament(0.0);
    let before = cents("--temperament own.toml");
    temperament(7.0);
    let after = cents("--temperament own.toml");
    assert!((before - after - 7.0).abs() < 1e-6, "{before} {after}");
    let text = std::fs::read_to_string(bench.path("study.toml")).expect("a study");
    bench.write("study.toml", text.replace("\"equal\"", "\"own.toml\"").as_bytes());
    let of_study = cents("");
    assert!((of_study - after).abs() < 1e-6, "{of_study}");
    temperament(-5.0);
    assert!((cents("") - after - 12.0).abs() < 1e-6, "the study's temperament changed");
}

#[test]
fn saved_results_keep_to_limits_and_have_the_form_of_all_results() {
    let bench = Bench::new();
    bench.take("a.wav", 48_000, WavEncoding::Float, &[string(200.0)]);
    bench.take("b.wav", 48_000, WavEncoding::Float, &[string(201.0)]);
    bench.take("c.wav", 48_000, WavEncoding::Float, &[string(202.0)]);
    for name in ["a", "b", "c"] {
        bench.run(&format!("partials {name}.wav --format json --output {name}.json --quiet"));
    }
    for (limit, status) in [("f0_hz<2", 0), ("f0_hz<0.5", 3), ("nonsense<1", 2)] {
        let run = bench.run(&format!("compare a.json b.json --require {limit}"));
        assert_eq!(run.status, status, "{limit}: {}", run.err);
    }
    let of_partial = "compare a.json b.json --require partials[2].frequency_hz<1";
    assert_eq!(bench.run(of_partial).status, 3);
    let found = bench.json("compare a.json b.json --format json");
    assert_eq!((&found["kind"], &found["schema"]), (&"compare".into(), &1.into()));
    assert_eq!(found["takes"].as_array().map(Vec::len), Some(2));
    assert_eq!(found["files"].as_array().map(Vec::len), Some(2));
    assert!(found["findings"].is_array() && found["settings"]["results_of"] == "partials");
    bench.run("compare a.json b.json --format json --output ab.json --quiet");
    assert_eq!(bench.run("again ab.json").status, 0, "it can be made again");
    let table = bench.run("compare a.json b.json c.json --format csv").out;
    let heads = table.lines().filter(|line| line.starts_with("reference,other,key")).count();
    assert_eq!(heads, 1, "one table");
    assert!(table.contains(",b.json (b),") && table.contains(",c.json (c),"), "{table}");
}

#[test]
fn groups_are_two_at_least_and_one_table() {
    let bench = Bench::new();
    for (n, name) in ["a1", "a2", "b1", "b2", "c1", "c2"].iter().enumerate() {
        let noise = synth::to_samples(&synth::white_noise(n as u64, 0.1, 24_000));
        bench.take(&format!("{name}.wav"), 48_000, WavEncoding::Float, &[noise]);
    }
    let alone = bench.run("compare a1.wav+a2.wav");
    assert_eq!((alone.status, alone.out.as_str()), (2, ""), "{}", alone.err);
    let table = bench.run("compare a1.wav+a2.wav b1.wav+b2.wav c1.wav+c2.wav --format csv").out;
    let heads = table.lines().filter(|line| line.starts_with("reference,other,key")).count();
    assert_eq!(heads, 1, "{table}");
    for group in ["b1.wav+b2.wav", "c1.wav+c2.wav"] {
        assert!(table.contains(&format!("a1.wav+a2.wav,{group},level_db,")), "{group}: {table}");
    }
}

#[test]
fn no_number_that_is_none_is_printed() {
    let bench = Bench::new();
    bench.take("silent.wav", 48_000, WavEncoding::Float, &[vec![0.0; 48_000]]);
    bench.take("tone.wav", 48_000, WavEncoding::Float, &[sine(440.0)]);
    let loud: Vec<f32> = (0..4000).map(|n| if n % 7 == 0 { 3e38 } else { -3e38 }).collect();
    bench.take("loud.wav", 48_000, WavEncoding::Float, &[loud]);
    for line in [
        "compare silent.wav silent.wav",
        "compare tone.wav silent.wav",
        "compare silent.wav tone.wav tone.wav",
        "inspect silent.wav loud.wav",
        "inspect tone.wav --raw f32be,48kHz,1",
        "spectrum silent.wav",
        "spectrogram silent.wav",
        "timbre silent.wav",
        "partials silent.wav --free",
        "tuning tone.wav --reference fit",
    ] {
        for format in ["text", "json", "csv"] {
            let run = bench.run(&format!("{line} --format {format} --quiet"));
            let is_none = |word: &str| {
                let word = word.trim_matches(|c: char| !c.is_alphanumeric()).to_lowercase();
                ["nan", "inf", "infinity"].contains(&word.as_str())
            };
            let wrong = run.out.split([' ', ',', ':', '\n', '"']).find(|word| is_none(word));
            assert_eq!(wrong, None, "{line} --format {format}: {}", run.out);
        }
    }
    for (line, words) in [
        ("compare tone.wav tone.wav --range 1..1.0000001", "Hz wide, the resolution of the frames"),
        ("tuning tone.wav --reference 1e-300", "the reference pitch is 1e-300 Hz"),
    ] {
        let run = bench.run(line);
        assert_eq!((run.status, run.out.as_str()), (2, ""), "{line}");
        assert!(run.err.contains(words), "{line}: {}", run.err);
    }
}

#[test]
fn results_of_several_command_lines_are_each_made_again() {
    let bench = Bench::new();
    bench.take("a.wav", 48_000, WavEncoding::Float, &[string(200.0)]);
    bench.take("b.wav", 48_000, WavEncoding::Float, &[string(201.0)]);
    let one = bench.run("pitch a.wav b.wav --format json --quiet").out;
    let two = bench.run("spectrum a.wav --peaks 2 --format json --quiet").out;
    bench.write("both.json", format!("{one}{two}").as_bytes());
    let again = bench.run("again both.json");
    assert_eq!(again.status, 0, "{}{}", again.out, again.err);
    assert_eq!(again.out.matches("the same to the byte").count(), 2, "{}", again.out);
    // Spread over lines, as other programs write it.
    let spread: Value = serde_json::from_str(&two).expect("JSON");
    let spread = serde_json::to_string_pretty(&spread).expect("written");
    bench.write("spread.json", spread.as_bytes());
    let again = bench.run("again spread.json");
    assert_eq!(again.status, 0, "{}{}", again.out, again.err);
    assert!(again.out.contains("in another layout"), "{}", again.out);
}
