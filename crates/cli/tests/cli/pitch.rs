//! `pitch`: the fundamental over time.

use tonemap_core::synth::{Partial, Vibrato, harmonics, mix, render, to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number, sine};

const RATE_HZ: f64 = 48_000.0;

/// Three notes with rests between, the second of which has its third partial strongest.
fn three_notes() -> Vec<f32> {
    let mut sound = vec![0.0; 4800];
    for (f0_hz, amplitudes) in [
        (196.0, [0.2, 0.1, 0.05, 0.03]),
        (246.94, [0.02, 0.03, 0.3, 0.02]),
        (293.0, [0.2, 0.1, 0.08, 0.02]),
    ] {
        let partials = harmonics(f0_hz, &amplitudes);
        sound.extend(render(&partials, Vibrato::default(), RATE_HZ, 0.4));
        sound.extend(vec![0.0; 9600]);
    }
    let count = sound.len();
    mix(&mut sound, &white_noise(5, 1e-4, count));
    to_samples(&sound)
}

#[test]
fn notes_are_told_with_what_they_beat() {
    let bench = Bench::new();
    bench.take("three.wav", 48_000, WavEncoding::Integer(24), &[three_notes()]);
    let json = bench.json("pitch three.wav --format json");
    let result = &json["result"];
    let notes = result["notes"].as_array().expect("notes");
    let names: Vec<&str> = notes.iter().filter_map(|note| note["note"].as_str()).collect();
    assert_eq!(names, ["G3", "B3", "D4"], "{notes:?}");
    for (note, (f0_hz, start_s)) in notes.iter().zip([(196.0, 0.1), (246.94, 0.7), (293.0, 1.3)]) {
        assert!((number(&note["f0_hz"]) - f0_hz).abs() < 0.05, "{note}");
        assert!((number(&note["start_s"]) - start_s).abs() < 0.025, "{note}");
        assert!((number(&note["end_s"]) - start_s - 0.4).abs() < 0.025, "{note}");
        assert!(number(&note["confidence"]) > 0.8 && note["vibrato_rate_hz"].is_null());
    }
    assert_eq!(number(&notes[1]["strongest_harmonic"]), 3.0);
    let track = result["track"].as_array().expect("a track");
    assert!((number(&track[12]["time_s"]) - 0.12).abs() < 1e-9);
    assert!(track[3]["f0_hz"].is_null() && track[3]["voiced"] == false, "{}", track[3]);

    let text = bench.run("pitch three.wav").out;
    assert!(text.contains("B3") && text.contains("alternatives Hz"), "{text}");
    let line = bench.run("pitch three.wav --from 0.05 --to 0.55 --steady").out;
    assert!(line.starts_with("three.wav  G3 ") && line.contains(" cents  19"), "{line}");
    assert_eq!(line.lines().count(), 1);
    let table = bench.run("pitch three.wav --format csv").out;
    assert!(
        table.starts_with("take,channel,time_s,f0_hz,f0_hz_u,confidence,voiced\nthree.wav,1,0")
    );
    assert_eq!(table.lines().count(), 1 + track.len());
}

#[test]
fn figures_and_midi_show_the_notes() {
    let bench = Bench::new();
    bench.take("three.wav", 48_000, WavEncoding::Integer(24), &[three_notes()]);
    let run = bench.run("pitch three.wav --figure a.svg --midi a.mid --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let svg = std::fs::read_to_string(bench.path("a.svg")).expect("drawn");
    for wanted in ["fundamental", "G3 ", "B3 ", "dB re full scale", "Frequency, Hz"] {
        assert!(svg.contains(wanted), "{wanted}");
    }
    let midi = std::fs::read(bench.path("a.mid")).expect("written");
    assert!(midi.starts_with(b"MThd") && midi.windows(4).any(|four| four == b"MTrk"));
    let run = bench.run("pitch three.wav --figure b.svg --alone --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let svg = std::fs::read_to_string(bench.path("b.svg")).expect("drawn");
    assert!(!svg.contains("<image") && svg.contains("D4 "));
    let run = bench.run("pitch three.wav --evidence 0.9s --figure c.svg --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let svg = std::fs::read_to_string(bench.path("c.svg")).expect("drawn");
    for wanted in ["Correlation", "found 4.0", "246.9", "nats", "Lag, ms"] {
        assert!(svg.contains(wanted), "{wanted}");
    }
}

/// Several notes at once, a bell and noise are not answered with nonsense.
#[test]
fn what_is_no_single_note_is_told() {
    let bench = Bench::new();
    let mut chord = vec![0.0; 48_000];
    for f0_hz in [220.0, 277.18, 329.63] {
        let partials = harmonics(f0_hz, &[0.1, 0.06, 0.04, 0.03]);
        mix(&mut chord, &render(&partials, Vibrato::default(), RATE_HZ, 1.0));
    }
    let bell = [(520.0, 0.2), (1195.0, 0.2), (1593.0, 0.2), (2946.0, 0.1)]
        .map(|(hz, amplitude)| Partial { frequency_hz: hz, amplitude, phase_rad: 0.3, t60_s: 4.0 });
    let bell = render(&bell, Vibrato::default(), RATE_HZ, 1.0);
    // The strike note of a chime has no partial of its own.
    let chime = [(538.6, 0.2), (804.0, 0.2), (1123.0, 0.15), (1495.0, 0.1)]
        .map(|(hz, amplitude)| Partial { frequency_hz: hz, amplitude, phase_rad: 0.3, t60_s: 5.0 });
    let chime = render(&chime, Vibrato::default(), RATE_HZ, 2.0);
    for (name, sound, code) in [
        ("chord.wav", chord, "off_series"),
        ("chime.wav", chime, "implied_fundamental"),
        ("bell.wav", bell, "off_series"),
        ("noise.wav", white_noise(4, 0.1, 48_000), "no_fundamental"),
    ] {
        bench.take(name, 48_000, WavEncoding::Float, &[to_samples(&sound)]);
        let json = bench.json(&format!("pitch {name} --format json"));
        assert!(codes(&json).contains(&code), "{name}: {}", json["findings"]);
    }
}

/// A low note has more harmonics than are looked for: they are its own all the same.
#[test]
fn a_rich_low_note_is_one_note() {
    let bench = Bench::new();
    let amplitudes: Vec<f64> = (1..=60).map(|n| 0.1 / f64::from(n).sqrt()).collect();
    let low = render(&harmonics(36.7, &amplitudes), Vibrato::default(), RATE_HZ, 1.5);
    bench.take("low.wav", 48_000, WavEncoding::Float, &[to_samples(&low)]);
    let json = bench.json("pitch low.wav --format json");
    assert!(!codes(&json).contains(&"off_series"), "{}", json["findings"]);
    assert!((number(&json["result"]["notes"][0]["f0_hz"]) - 36.7).abs() < 0.01);
}

/// Two strings that beat are one note, between them.
#[test]
fn strings_that_beat_are_one_note() {
    let bench = Bench::new();
    for (name, apart_hz) in [("slow.wav", 0.3), ("quick.wav", 1.6)] {
        let mut pair = vec![0.0; 3 * 48_000];
        for hz in [196.0, 196.0 + apart_hz] {
            let mut partials = harmonics(hz, &[0.1, 0.12, 0.06, 0.05, 0.03, 0.02]);
            for (n, partial) in partials.iter_mut().enumerate() {
                (partial.t60_s, partial.phase_rad) = (4.0, n as f64 * hz);
            }
            mix(&mut pair, &render(&partials, Vibrato::default(), RATE_HZ, 3.0));
        }
        bench.take(name, 48_000, WavEncoding::Float, &[to_samples(&pair)]);
        let json = bench.json(&format!("pitch {name} --format json"));
        let notes = json["result"]["notes"].as_array().expect("notes");
        assert_eq!(notes.len(), 1, "{name}: {notes:?}");
        let f0_hz = number(&notes[0]["f0_hz"]);
        assert!((195.9..196.1 + apart_hz).contains(&f0_hz), "{name}: {f0_hz}");
    }
}

#[test]
fn requests_that_make_no_sense_are_refused() {
    let bench = Bench::new();
    bench.take("tone.wav", 48_000, WavEncoding::Integer(16), &[sine(440.0)]);
    for (arguments, status, wanted) in [
        ("--range 15kHz..20kHz", 2, "begin below a fifth of the sample rate"),
        ("--range C4..A3", 2, "frequency range"),
        ("--hop 2s", 2, "0.5 ms to 1 s"),
        ("--expect nothing", 2, "A4"),
        ("--evidence 0.5s", 2, "--figure"),
        ("--evidence 9s --figure a.png", 2, "within the span"),
        ("--midi a.txt", 2, "FILE.mid"),
        ("tone.wav --figure a.png", 2, "one channel of one take"),
    ] {
        let run = bench.run(&format!("pitch tone.wav {arguments}"));
        assert_eq!(run.status, status, "{arguments}: {}", run.err);
        assert!(run.err.contains(wanted), "{arguments}: {}", run.err);
    }
    let json = bench.json("pitch tone.wav --expect A4 --range 100Hz..1kHz --format json");
    assert_eq!(number(&json["settings"]["expected_hz"]), 440.0);
    assert_eq!(json["result"]["notes"][0]["note"], "A4");
}
