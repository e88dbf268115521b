//! `notate`: phrases and chords as scores and as MIDI, and what cannot be written.

use midly::{MidiMessage, Smf, TrackEventKind};
use roxmltree::{Document, ParsingOptions};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number};

/// A phrase of three notes in phrase.wav, a chord of partials that decay in bell.wav.
fn bench() -> Bench {
    let bench = Bench::new();
    let note = |hz: f64, start: f64, level: f64| {
        format!("harmonics frequency={hz}Hz level={level}dB start={start}s length=0.5s fade=20ms")
    };
    let phrase = [note(440.0, 0.2, -20.0), note(495.5, 0.8, -26.0), note(130.9, 1.4, -20.0)];
    make(&bench, "phrase.wav", &phrase);
    let bell: Vec<String> = BELL
        .iter()
        .map(|(hz, db)| format!("tone frequency={hz}Hz level={db}dB decay=4s"))
        .collect();
    make(&bench, "bell.wav", &bell);
    bench
}

const BELL: [(f64, f64); 5] =
    [(261.9, -20.0), (523.0, -24.0), (637.3, -26.0), (1051.0, -30.0), (2790.4, -34.0)];

fn make(bench: &Bench, file: &str, voices: &[String]) {
    let mut words = vec!["signal"];
    words.extend(voices.iter().map(String::as_str));
    let rest = ["noise level=-90dB", "--duration", "2.2s", "--bits", "24", "--output", file];
    words.extend(rest);
    let run = bench.run_words(&words);
    assert_eq!(run.status, 0, "{}", run.err);
}

fn text_of(bench: &Bench, file: &str, names: &[&str]) -> Vec<String> {
    let score = std::fs::read_to_string(bench.path(file)).expect("written");
    let options = ParsingOptions { allow_dtd: true, ..ParsingOptions::default() };
    let document = Document::parse_with_options(&score, options).expect("well-formed");
    let all = document.descendants().filter(|node| names.contains(&node.tag_name().name()));
    all.filter_map(|node| node.text().map(str::to_string)).collect()
}

#[test]
fn a_phrase_is_written_with_its_cents_and_dynamics() {
    let bench = bench();
    let run = bench.run("notate phrase.wav --format json --output phrase.musicxml --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let json: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    let notes = json["result"]["notes"].as_array().expect("notes");
    for (note, (midi, name, cents)) in
        notes.iter().zip([(69, "A4", 0.0), (71, "B4", 5.66), (48, "C3", 1.21)])
    {
        assert_eq!((&note["midi"], &note["note"]), (&midi.into(), &name.into()));
        let off = number(&note["cents"]) - cents;
        println!("{name} is {off:+.3} cents off");
        assert!(off.abs() < 0.1, "{note}");
    }
    let dynamics: Vec<&str> = notes.iter().filter_map(|note| note["dynamics"].as_str()).collect();
    assert_eq!(dynamics, ["f", "mf", "f"]);
    for (note, velocity) in notes.iter().zip([96.0, 68.0, 96.0]) {
        assert!((number(&note["velocity"]) - velocity).abs() <= 1.0, "{note}");
    }
    assert_eq!(text_of(&bench, "phrase.musicxml", &["step"]), ["A", "B", "C"]);
    assert_eq!(text_of(&bench, "phrase.musicxml", &["sign"]), ["G", "F"]);
    let words = text_of(&bench, "phrase.musicxml", &["words"]);
    assert!(words.iter().any(|word| word == "+6"), "{words:?}");
    assert!(words.iter().any(|word| word.starts_with("0.20") && word.ends_with(" s")), "{words:?}");
    // Half a second at 120 quarters a minute is a quarter note, every 0.6 s nearly so.
    let run = bench.run("notate phrase.wav --tempo 100 --output bars.musicxml --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let heads = text_of(&bench, "bars.musicxml", &["beats", "beat-type", "per-minute"]);
    assert_eq!(heads, ["4", "4", "100"]);
    // A result in any other file is the table.
    bench.run("notate phrase.wav --format csv --output notes.csv");
    let table = std::fs::read_to_string(bench.path("notes.csv")).expect("written");
    assert_eq!(table.lines().count(), 4, "{table}");
}

/// The tones that a MIDI file asks for, and what they sound like.
#[test]
fn midi_played_back_has_the_frequencies_of_the_sound() {
    let bench = bench();
    let run = bench.run("notate bell.wav --chord-at 0.5s --output bell.mid --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let bytes = std::fs::read(bench.path("bell.mid")).expect("written");
    let file = Smf::parse(&bytes).expect("MIDI");
    let (mut reach, mut bends) = (None, [0.0; 16]);
    let mut played = Vec::new();
    for event in file.tracks.iter().flatten() {
        let TrackEventKind::Midi { channel, message } = event.kind else { continue };
        let channel = usize::from(channel.as_int());
        match message {
            MidiMessage::Controller { controller, value } if controller == 6 => {
                reach = Some(f64::from(value.as_int()));
            }
            MidiMessage::PitchBend { bend } => bends[channel] = bend.as_f64(),
            MidiMessage::NoteOn { key, .. } => {
                let semitones = f64::from(key.as_int()) + reach.expect("set") * bends[channel];
                let hz = 440.0 * ((semitones - 69.0) / 12.0).exp2();
                played.push(format!("tone frequency={hz}Hz level=-30dB"));
            }
            _ => (),
        }
    }
    assert_eq!(played.len(), BELL.len());
    make(&bench, "played.wav", &played);
    let heard = bench.json("spectrum played.wav --format json --quiet");
    let peaks = heard["result"]["peaks"].as_array().expect("peaks");
    for ((hz, _), peak) in BELL.iter().zip(peaks) {
        let cents = 1200.0 * (number(&peak["frequency_hz"]) / hz).log2();
        println!("{hz} Hz is played {cents:+.3} cents off");
        assert!(cents.abs() < 0.2, "{hz}: {cents}");
    }
}

#[test]
fn a_chord_is_written_in_the_steps_asked_for_and_without_what_is_masked() {
    let bench = bench();
    let quarters = bench.json("notate bell.wav --chord-at 0.5s --steps quarter --format json");
    let names: Vec<&str> = (quarters["result"]["notes"].as_array().expect("notes").iter())
        .filter_map(|note| note["note"].as_str())
        .collect();
    assert_eq!(names, ["C4", "C5", "D#5+50", "C6", "F7"]);
    let few = bench.json("notate bell.wav --chord-at 0.5s --most 2 --format json");
    assert_eq!(
        (&few["result"]["notes"][1]["note"], &few["result"]["weaker"]),
        (&"C5".into(), &3.into())
    );
    make(
        &bench,
        "masked.wav",
        &["tone frequency=1000Hz level=-10dB".into(), "tone frequency=1090Hz level=-50dB".into()],
    );
    let all = bench.json("notate masked.wav --chord-at 1s --format json");
    let heard = bench.json("notate masked.wav --chord-at 1s --audible --format json");
    let count = |json: &serde_json::Value| json["result"]["notes"].as_array().expect("notes").len();
    assert_eq!((count(&all), count(&heard), &heard["result"]["masked"]), (2, 1, &1.into()));
}

#[test]
fn partials_are_written_over_time() {
    let bench = bench();
    let run =
        bench.run("notate bell.wav --partials --free --format json --output p.musicxml --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let json: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    assert_eq!(json["result"]["of"], "partials");
    assert_eq!(json["result"]["notes"].as_array().expect("notes").len(), BELL.len());
    assert_eq!(text_of(&bench, "p.musicxml", &["octave"]).len(), BELL.len());
}

#[test]
fn what_cannot_be_written_is_said_in_one_sentence() {
    let bench = bench();
    bench.take("silent.wav", 48_000, WavEncoding::Float, &[vec![0.0; 48_000]]);
    for (arguments, status, said) in [
        ("silent.wav", 1, "nothing in this span has a fundamental"),
        ("silent.wav --chord-at 0.2s", 1, "stands out as a tone"),
        ("phrase.wav --chord-at 9s", 2, "within the span"),
        ("phrase.wav --most 0", 2, "at least 1"),
        ("phrase.wav --most 3", 2, "--chord-at"),
        ("bell.wav --chord-at 0.5s --most 0", 2, "at least 1"),
        ("phrase.wav --audible", 2, "--chord-at"),
        ("phrase.wav --free", 2, "--partials"),
        ("phrase.wav --tempo 100 --smallest 3/16", 2, "no note value"),
        ("phrase.wav --tempo 100 --smallest 1/12", 2, "the smallest value"),
        ("phrase.wav --tempo 100 --metre x", 2, "4/4, 6/8 or 1/16"),
        ("phrase.wav --tempo 9000", 2, "10 to 600"),
        ("phrase.wav bell.wav --output both.mid", 2, "name one"),
    ] {
        let run = bench.run(&format!("notate {arguments}"));
        assert_eq!(run.status, status, "{arguments}: {}", run.err);
        assert!(run.err.contains(said), "{arguments}: {}", run.err);
        assert!(!run.err.contains("panicked"), "{}", run.err);
    }
    bench.run("notate phrase.wav --output twice.mid");
    assert_ne!(bench.run("notate phrase.wav --output twice.mid").status, 0, "nothing is replaced");
    let coarse = bench.json("notate phrase.wav --tempo 40 --smallest 1/4 --format json");
    assert!(codes(&coarse).contains(&"grid_too_coarse"), "{coarse}");
}
