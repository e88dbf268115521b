//! Texts that users read: help, and what is said of wrong usage and bad input.

use tonemap_media::WavEncoding;

use crate::bench::{Bench, sine};

#[test]
fn help_is_that_which_was_reviewed() {
    let bench = Bench::new();
    let overview = bench.run("help");
    insta::assert_snapshot!("help", overview.out);
    let commands = overview.out.lines().skip_while(|line| *line != "Commands:").skip(1);
    let names = commands.take_while(|line| !line.is_empty()).filter_map(|line| {
        let name = line.strip_prefix("  ")?.split_whitespace().next()?;
        (!line.starts_with("   ") && name != "help").then(|| name.to_string())
    });
    let names: Vec<String> = names.collect();
    assert!(names.len() >= 15, "{names:?}");
    for name in names {
        let run = bench.run(&format!("{name} --help"));
        assert_eq!(run.status, 0, "{}", run.err);
        insta::assert_snapshot!(format!("help_{name}"), run.out);
    }
}

#[test]
fn errors_are_said_as_reviewed() {
    let bench = Bench::new();
    bench.take("sine.wav", 48_000, WavEncoding::Float, &[sine(440.0)]);
    bench.take("silence.wav", 48_000, WavEncoding::Float, &[vec![0.0; 48_000]]);
    bench.take("short.wav", 48_000, WavEncoding::Float, &[vec![0.1; 20]]);
    bench.take("empty.wav", 48_000, WavEncoding::Float, &[vec![]]);
    bench.write("text.wav", b"this is no sound");
    bench.write("result.json", b"{\"tonemap\": 1}");
    bench.write("bad.toml", b"title = ");
    let said: Vec<String> = [
        "inspect",
        "inspect nothing.wav",
        "inspect text.wav",
        "inspect empty.wav",
        "inspect sine.wav --from 2",
        "inspect sine.wav --from 0.5 --to 0.2",
        "inspect sine.wav --from x",
        "inspect sine.wav --channel 3",
        "inspect sine.wav --channel left",
        "inspect sine.wav --format xml",
        "inspect sine.wav --figure wave.jpg",
        "inspect sine.wav --figure wave.png --size 10x10",
        "inspect sine.wav --require rms>1",
        "inspect sine.wav --raw s24",
        "spectrum sine.wav --window sine",
        "spectrum sine.wav --resolve 0.001Hz",
        "spectrum sine.wav --range 5kHz..1kHz",
        "spectrum sine.wav --zero-pad 1e15",
        "spectrum sine.wav --response nothing.csv",
        "spectrum sine.wav --require nothing>1",
        "spectrogram sine.wav --colours rainbow",
        "pitch sine.wav --resolve 9kHz",
        "partials silence.wav",
        "partials sine.wav --free --resolve 0Hz",
        "timbre short.wav",
        "tuning silence.wav",
        "tuning sine.wav --temperament nothing",
        "tuning sine.wav --reference 1e-300",
        "compare sine.wav",
        "compare sine.wav nothing.wav",
        "compare result.json sine.wav",
        "trend --quantity partials.f0_hz --over cut",
        "report",
        "report result.json",
        "filter sine.wav",
        "filter sine.wav --keep 100Hz..200Hz",
        "signal",
        "signal tone --output sine.wav",
        "signal nonsense --output new.wav",
        "signal --recipe bad.toml --output new.wav",
        "study list",
        "study add nothing.wav",
        "again result.json",
        "again",
        "nonsense",
    ]
    .iter()
    .map(|arguments| {
        let run = bench.run(arguments);
        assert_ne!(run.status, 0, "{arguments}: {}", run.out);
        format!("$ tonemap {arguments}\n[{}] {}", run.status, run.err)
    })
    .collect();
    insta::assert_snapshot!("errors", said.join("\n"));
}
