use tonemap_core::synth;
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, sine};

/// A folder with a study, three bells and a harp.
fn study() -> Bench {
    let bench = Bench::new();
    assert_eq!(bench.run_words(&["study", "make", ".", "--title", "Bell"]).status, 0);
    for (cut, frequency_hz) in [(0, 519.8), (1, 518.1), (2, 516.0)] {
        let name = format!("bell-cut{cut}.wav");
        bench.take(&name, 48_000, WavEncoding::Integer(24), &[sine(frequency_hz)]);
    }
    bench.take("harp.wav", 48_000, WavEncoding::Integer(24), &[sine(196.0), sine(392.0)]);
    let added = bench.run(
        "study add bell-cut0.wav bell-cut1.wav bell-cut2.wav --pattern bell-cut{cut}.wav \
         --channels rim:near --group bell --note C5",
    );
    assert_eq!((added.status, added.out.as_str()), (0, "  3 takes added to study.toml\n"));
    let condition = "study add harp.wav --channels near:near,far --condition strings=both";
    assert_eq!(bench.run(condition).status, 0);
    bench
}

#[test]
fn takes_are_found_by_name_and_by_condition() {
    let bench = study();
    let frequency = |arguments: &str| {
        let json = bench.json(&format!("spectrum {arguments} --format json --quiet"));
        json["result"]["peaks"][0]["frequency_hz"].as_f64().expect("a tone")
    };
    assert!((frequency("bell-cut1 --peaks 1") - 518.1).abs() < 1e-3);
    assert!((frequency("--where cut=2 --where group=bell --peaks 1") - 516.0).abs() < 1e-3);
    assert!((frequency("harp --channel far --peaks 1") - 392.0).abs() < 1e-3);
    let lines = bench.run("inspect --where group=bell --format csv --quiet").out;
    assert_eq!(lines.lines().count(), 4);
    let lines = bench.run("spectrum --where group=bell --peaks 1 --format csv").out;
    assert_eq!(lines.lines().count(), 1 + 3);
    // From another folder.
    std::fs::create_dir(bench.path("elsewhere")).expect("made");
    assert!(bench.run("inspect bell-cut0 --study . --quiet").out.starts_with("bell-cut0\n"));
    for (arguments, status, reason) in [
        ("spectrum bell-cut4", 1, "did you mean 'bell-cut"),
        ("inspect --where cut=7", 1, "no take was made under cut=7"),
        ("inspect --where cut", 2, "write it like cut=3 or strings=both"),
        ("spectrum harp --channel middle", 2, "must be near, far, mean, or all"),
        ("inspect harp.wav --study elsewhere", 1, "there is no study here"),
    ] {
        let run = bench.run(arguments);
        assert_eq!(run.status, status, "{arguments}: {}", run.err);
        assert!(run.err.contains(reason), "{arguments}: {}", run.err);
    }
}

#[test]
fn the_list_shows_conditions_and_findings() {
    let bench = study();
    let run = bench.run("study list --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    for wanted in [
        "Bell\n  A4 = 440 Hz, equal temperament",
        "microphone near: not calibrated",
        "cut  strings",
    ] {
        assert!(run.out.contains(wanted), "{wanted} in\n{}", run.out);
    }
    let table = bench.run("study list --format csv --where cut=1 --quiet").out;
    assert_eq!(
        table,
        "name,file,note,group,duration_s,sample_rate_hz,channels,cut,findings\n\
         bell-cut1,bell-cut1.wav,C5,bell,1.0,48000.0,rim,1,\n"
    );
    let lines = bench.run("study list --format json --quiet").out;
    let harp: serde_json::Value =
        serde_json::from_str(lines.lines().last().expect("a line")).expect("JSON");
    assert_eq!(harp["result"]["conditions"]["strings"].as_str(), Some("both"));
    std::fs::remove_file(bench.path("bell-cut0.wav")).expect("removed");
    let run = bench.run("study list --quiet");
    assert_eq!(run.status, 1);
    assert!(run.out.contains("bell-cut2") && run.err.contains("bell-cut0.wav"), "{}", run.err);
}

#[test]
fn a_check_finds_what_is_missing_changed_double_or_of_another_rate() {
    let bench = study();
    let run = bench.run("study check");
    assert_eq!((run.status, run.out.contains("4 takes: all there")), (0, true), "{}", run.out);
    bench.take("slow.wav", 44_100, WavEncoding::Integer(16), &[sine(300.0)]);
    std::fs::copy(bench.path("slow.wav"), bench.path("copy.wav")).expect("copied");
    assert_eq!(bench.run("study add slow.wav copy.wav").status, 0);
    bench.take("bell-cut1.wav", 48_000, WavEncoding::Integer(24), &[sine(500.0)]);
    std::fs::remove_file(bench.path("bell-cut0.wav")).expect("removed");
    let run = bench.run("study check");
    assert_eq!(run.status, 1);
    for wanted in [
        "bell-cut0: the file bell-cut0.wav is missing",
        "bell-cut1: the file has changed since it was added",
        "copy: the same recording as slow",
        "mixed sample rates: bell-cut1 has 48 000 Hz, slow has 44 100 Hz",
    ] {
        assert!(run.out.contains(wanted), "{wanted} in\n{}", run.out);
    }
    let json = bench.json("inspect bell-cut1 --format json --quiet");
    assert!(codes(&json).contains(&"changed"), "{:?}", codes(&json));
}

#[test]
fn a_calibrator_gives_levels_in_pressure() {
    let bench = study();
    // A calibrator of 94.0 dB; full scale is then 94 + 26.02 dB. Four decimals are kept.
    for (seed, amplitude) in [(1, 0.05), (2, 0.0123), (3, 0.7)] {
        let mut tone = synth::white_noise(seed, 1e-5, 240_000);
        let sine = synth::harmonics(1000.3, &[amplitude, amplitude / 200.0]);
        synth::mix(&mut tone, &synth::render(&sine, synth::Vibrato::default(), 48_000.0, 5.0));
        bench.take("calibrator.wav", 48_000, WavEncoding::Integer(24), &[synth::to_samples(&tone)]);
        let run = bench.run("study calibrate near --tone calibrator.wav --level 94dB");
        assert_eq!(run.status, 0, "{}", run.err);
        // A tone of half full scale in another take.
        let expected = 94.0 + 20.0 * (0.5f64 / amplitude).log10();
        let json = bench.json("spectrum bell-cut0 --peaks 1 --format json --quiet");
        let level = json["result"]["peaks"][0]["level_db"].as_f64().expect("a level");
        assert!((level - expected).abs() < 0.05, "{level} {expected}");
        assert!(json["result"]["scaling"].as_str().is_some_and(|text| text.contains("re 20 µPa")));
        let json = bench.json("inspect bell-cut0 --format json --quiet");
        let level = json["result"]["channels"][0]["rms_db"].as_f64().expect("a level");
        assert!((level - expected).abs() < 0.05, "{level} {expected}");
        let text = bench.run("spectrum bell-cut0 --quiet").out;
        assert!(text.contains("levels in dB re 20 µPa"), "{text}");
    }
    // The far channel of the harp has no microphone.
    let json = bench.json("inspect harp --format json --quiet");
    assert!(json["result"]["channels"][1]["rms_db"].is_null());
    let sheet = "study calibrate far --sensitivity 10mV/Pa --full-scale-voltage 1.41421356V";
    assert!(bench.run(sheet).out.contains("133.98 dB re 20 µPa"));
}

#[test]
fn a_calibration_that_cannot_be_right_is_refused() {
    let bench = study();
    let write = |name: &str, sound: &[f64]| {
        bench.take(name, 48_000, WavEncoding::Integer(24), &[synth::to_samples(sound)]);
    };
    let tone = |amplitude: f64, seconds: f64| -> Vec<f64> {
        let sine = synth::harmonics(1000.0, &[amplitude]);
        synth::render(&sine, synth::Vibrato::default(), 48_000.0, seconds)
    };
    write("noise.wav", &synth::white_noise(1, 0.01, 96_000));
    write("clipped.wav", &tone(1.4, 2.0).iter().map(|x| x.clamp(-1.0, 1.0)).collect::<Vec<_>>());
    let mut half = synth::white_noise(2, 1e-5, 192_000);
    synth::mix(&mut half[96_000..], &tone(0.1, 2.0));
    write("half.wav", &half);
    let before = std::fs::read_to_string(bench.path("study.toml")).expect("a study");
    for (take, reason) in [
        ("noise.wav", "there is no tone in it"),
        ("clipped.wav", "must not clip"),
        ("bell-cut0", "the loudest tone has 519.8 Hz, not the stated 1000.0 Hz"),
        ("half.wav", "not steady from beginning to end"),
        ("none.wav", "there is no such file"),
    ] {
        let run = bench.run(&format!("study calibrate near --tone {take} --level 94dB"));
        assert_eq!((run.status, run.out.as_str()), (1, ""), "{take}");
        assert!(run.err.contains(reason), "{take}: {}", run.err);
    }
    let run = bench.run("study calibrate near --tone half.wav --level 94dB --from 2.2 --to 3.8");
    assert_eq!(run.status, 0, "{}", run.err);
    assert_eq!(bench.run("study calibrate near").status, 2);
    assert_eq!(bench.run("study calibrate near --sensitivity 10").status, 2);
    let after = std::fs::read_to_string(bench.path("study.toml")).expect("a study");
    assert!(before != after && after.contains("# A study of Tone Map."), "{after}");
}

#[test]
fn what_does_not_belong_is_refused_and_the_rest_is_added() {
    let bench = study();
    let outside = Bench::new();
    outside.take("far.wav", 48_000, WavEncoding::Integer(16), &[sine(300.0)]);
    bench.take("other.wav", 48_000, WavEncoding::Integer(16), &[sine(300.0)]);
    bench.write("broken.wav", b"RIFF");
    let far = outside.path("far.wav");
    let run = bench.run(&format!("study add {} broken.wav bell-cut0.wav other.wav", far.display()));
    assert_eq!(
        (run.status, run.out.as_str()),
        (1, "  1 take added to study.toml\n"),
        "{}",
        run.err
    );
    for wanted in ["lies outside the folder", "broken.wav", "two takes with the name 'bell-cut0'"] {
        assert!(run.err.contains(wanted), "{wanted} in {}", run.err);
    }
    let run = bench.run("study add harp.wav --pattern bell-cut{cut}.wav");
    assert!(run.status == 1 && run.err.contains("does not match the pattern"), "{}", run.err);
    assert_eq!(bench.run("study add harp.wav --pattern bell.wav").status, 2);
    let again = bench.run("study make .");
    assert!(again.status == 1 && again.err.contains("exists already"), "{}", again.err);
    let text = std::fs::read_to_string(bench.path("study.toml")).expect("a study");
    bench.write("study.toml", text.replace("temperament", "tempermant").as_bytes());
    let run = bench.run("study list");
    assert_eq!(run.status, 1);
    assert!(run.err.contains("did you mean 'temperament'?"), "{}", run.err);
}
