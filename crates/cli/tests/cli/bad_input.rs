use tonemap_media::WavEncoding;

use crate::bench::{Bench, Run, codes, sine};

/// The one sentence on standard error, with nothing on standard output.
fn refusal(run: &Run) -> &str {
    assert_eq!(run.out, "", "nothing is printed");
    let lines: Vec<&str> = run.err.lines().collect();
    assert_eq!(lines.len(), 1, "one sentence, not {:?}", run.err);
    assert!(lines[0].starts_with("tonemap: ") && lines[0].ends_with('.'), "{}", lines[0]);
    lines[0]
}

#[test]
fn files_that_are_no_takes_are_refused() {
    let bench = Bench::new();
    std::fs::create_dir(bench.path("folder")).expect("made");
    bench.write("empty.wav", b"");
    bench.write("letter.wav", b"Dear hall, the recording is in the post.");
    bench.write("picture.flac", &[0x89, b'P', b'N', b'G', 0, 1, 2, 3, 4, 5]);
    bench.write("header.wav", b"RIFF\x24\0\0\0WAVEfmt \x10\0\0\0");
    let mut no_channels = b"RIFF\x24\0\0\0WAVEfmt \x10\0\0\0\x01\0\0\0".to_vec();
    no_channels.extend_from_slice(&[0x80, 0xBB, 0, 0, 0, 0, 0, 0, 0, 0, 16, 0]);
    no_channels.extend_from_slice(b"data\0\0\0\0");
    bench.write("nochannels.wav", &no_channels);
    bench.take("nosamples.wav", 48_000, WavEncoding::Integer(16), &[vec![]]);
    for (name, wanted) in [
        ("none.wav", "there is no such file"),
        ("folder", "this is a folder"),
        ("empty.wav", "the file is empty"),
        ("letter.wav", "it is text that begins \"Dear hall"),
        ("picture.flac", "no format known here"),
        ("header.wav", "it ends inside its format chunk"),
        ("nochannels.wav", "states 0 channels"),
        ("nosamples.wav", "holds no samples"),
    ] {
        for command in ["inspect", "spectrum"] {
            let run = bench.run(&format!("{command} {name}"));
            assert_eq!(run.status, 1, "{command} {name}");
            let text = refusal(&run);
            assert!(text.contains(name) && text.contains(wanted), "{text}");
        }
    }
}

#[test]
fn truncated_and_lying_takes_are_read_with_a_finding() {
    let bench = Bench::new();
    bench.take("take.wav", 48_000, WavEncoding::Integer(24), &[sine(440.0)]);
    let whole = std::fs::read(bench.path("take.wav")).expect("a take");
    bench.write("cut.wav", &whole[..whole.len() / 2]);
    let data = whole.windows(4).position(|four| four == b"data").expect("a data chunk") + 4;
    let mut short = whole.clone();
    short[data..data + 4].copy_from_slice(&30_000u32.to_le_bytes());
    bench.write("short.wav", &short);
    let cut = bench.json("inspect cut.wav --format json");
    assert_eq!(codes(&cut), ["truncated"]);
    assert!(cut["result"]["duration_s"].as_f64().is_some_and(|s| s > 0.49 && s < 0.5));
    assert_eq!(codes(&bench.json("inspect short.wav --format json")), ["stray_bytes"]);
    let cut = bench.json("spectrum cut.wav --format json");
    assert_eq!(codes(&cut), ["truncated"]);
    assert!(
        cut["result"]["peaks"][0]["frequency_hz"]
            .as_f64()
            .is_some_and(|f| (f - 440.0).abs() < 1e-3)
    );
}

#[test]
fn samples_that_are_no_numbers_are_counted_and_silenced() {
    let bench = Bench::new();
    let mut samples = sine(440.0);
    (samples[100], samples[40_000]) = (f32::NAN, f32::INFINITY);
    bench.take("nan.wav", 48_000, WavEncoding::Float, &[samples]);
    let inspected = bench.json("inspect nan.wav --format json");
    assert_eq!(codes(&inspected), ["not_finite", "clicks"]);
    assert!(inspected["findings"][0]["text"].as_str().is_some_and(|t| t.starts_with("2 samples")));
    let spectrum = bench.json("spectrum nan.wav --format json");
    assert_eq!(codes(&spectrum)[0], "not_finite");
    let found = spectrum["result"]["peaks"].as_array().is_some_and(|peaks| {
        peaks.iter().any(|p| p["frequency_hz"].as_f64().is_some_and(|f| (f - 440.0).abs() < 0.01))
    });
    assert!(found);
}

#[test]
fn extreme_but_honest_takes_are_measured() {
    let bench = Bench::new();
    bench.take("one.wav", 48_000, WavEncoding::Integer(16), &[vec![0.25]]);
    let one = bench.json("inspect one.wav --format json");
    assert!(
        one["result"]["channels"][0]["peak_dbfs"]
            .as_f64()
            .is_some_and(|db| (db + 12.04).abs() < 0.01)
    );
    let run = bench.run("spectrum one.wav");
    assert_eq!(run.status, 1);
    assert!(refusal(&run).contains("at least 16 are needed"));

    let high = tonemap_core::synth::sine(150_000.0, 0.5, 0.0, 384_000.0, 384_000);
    bench.take("high.wav", 384_000, WavEncoding::Integer(24), &[high]);
    let json = bench.json("spectrum high.wav --format json");
    assert!(
        json["result"]["peaks"][0]["frequency_hz"]
            .as_f64()
            .is_some_and(|f| (f - 150_000.0).abs() < 1e-3)
    );

    let many: Vec<Vec<f32>> = (1..=32).map(|n| sine(f64::from(n) * 100.0)).collect();
    bench.take("many.wav", 48_000, WavEncoding::Integer(24), &many);
    let json = bench.json("inspect many.wav --format json");
    assert_eq!(json["result"]["channels"].as_array().map(Vec::len), Some(32));
    let json = bench.json("spectrum many.wav --channel 31 --peaks 1 --format json");
    assert!(
        json["result"]["peaks"][0]["frequency_hz"]
            .as_f64()
            .is_some_and(|f| (f - 3100.0).abs() < 0.01)
    );
}

#[test]
fn wrong_usage_ends_with_2_and_shows_the_accepted_forms() {
    let bench = Bench::new();
    bench.take("take.wav", 48_000, WavEncoding::Integer(16), &[sine(440.0)]);
    for (arguments, wanted) in [
        ("--resolve 5apples", "5Hz, or two tones to be resolved, A3..A#3"),
        ("--from yesterday", "1.5, 1.5s, 250ms or 1:02.5"),
        ("--range 100", "50Hz..8kHz"),
        ("--window bartlett", "blackman-harris"),
        ("--segment 0.5", "200ms"),
        ("--overlap 120%", "75%"),
        ("--size huge", "1280x800"),
        ("--channel 0", "1, 2, …, its name in the study, mean, mean-energy:1,2, or all"),
        ("--channel 2", "the take is mono"),
        ("--range 30kHz..40kHz", "half the sample rate"),
        ("--resolve 0Hz", "the resolution is 0 Hz"),
        ("--segment 8192 --transform-size 100", "the transform size is 100 samples"),
        ("--segment 100 --hop 101", "the hop is 101 samples"),
        ("--reference 0Hz", "the reference pitch is 0 Hz"),
        ("--resolve 5Hz --segment 100", "cannot be used with"),
        ("--figure picture.gif", "name it FILE.png or FILE.svg"),
        ("--curve", "--format json"),
    ] {
        let run = bench.run(&format!("spectrum take.wav {arguments}"));
        assert_eq!(run.status, 2, "{arguments}: {}", run.err);
        assert!(run.err.contains(wanted), "{arguments}: {}", run.err);
        assert_eq!(run.out, "");
    }
    for command in ["spectrum", "spectrogram", "pitch"] {
        let json = bench.json(&format!("{command} take.wav --range 100Hz..30kHz --format json"));
        assert!(json["findings"].to_string().contains("range_cut"), "{json}");
    }
    let run = bench.run("spectrum take.wav --from 2 --to 3");
    assert_eq!(run.status, 1);
    assert!(refusal(&run).contains("which lasts 1.000000 s"));
    assert_eq!(bench.run("").status, 2);
    assert_eq!(bench.run("sing").status, 2);
    assert_eq!(bench.files(), ["take.wav"], "nothing is left behind");
}

#[test]
fn outputs_that_cannot_be_written_are_refused_before_the_work() {
    let bench = Bench::new();
    bench.take("take.wav", 48_000, WavEncoding::Integer(16), &[sine(440.0)]);
    bench.write("old.txt", b"old");
    bench.write("old.png", b"old");
    std::fs::create_dir(bench.path("folder.svg")).expect("made");
    for (arguments, wanted) in [
        ("--output old.txt", "old.txt: this file exists already"),
        ("--figure old.png", "old.png: this file exists already"),
        ("--output nowhere/a.txt", "nowhere: there is no such folder"),
        ("--figure nowhere/a.png", "nowhere: there is no such folder"),
        ("--figure folder.svg", "folder.svg: this is a folder"),
        ("--figure new.png --output old.txt", "old.txt: this file exists already"),
    ] {
        let run = bench.run(&format!("spectrum take.wav {arguments}"));
        assert_eq!(run.status, 1, "{arguments}");
        assert!(refusal(&run).contains(wanted), "{}", run.err);
    }
    assert_eq!(bench.files(), ["folder.svg", "old.png", "old.txt", "take.wav"]);
    assert_eq!(std::fs::read(bench.path("old.txt")).expect("kept"), b"old");
    let run = bench.run("spectrum take.wav --output old.txt --force");
    assert_eq!((run.status, run.out.as_str()), (0, ""));
    assert!(std::fs::read_to_string(bench.path("old.txt")).expect("new").contains("frequency Hz"));
}

#[test]
fn a_closed_pipe_is_quiet() {
    use std::process::{Command, Stdio};
    let bench = Bench::new();
    bench.take("take.wav", 48_000, WavEncoding::Integer(16), &[sine(440.0)]);
    let mut child = Command::new(env!("CARGO_BIN_EXE_tonemap"))
        .current_dir(bench.path(""))
        .args("spectrum take.wav --quiet --curve --format csv --zero-pad 8".split_whitespace())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("runs");
    drop(child.stdout.take());
    let output = child.wait_with_output().expect("ends");
    assert_eq!(output.status.code(), Some(0));
    assert_eq!(String::from_utf8_lossy(&output.stderr), "");
}
