//! `partials`: what a note is made of, how it dies away, and how it beats.

use serde_json::Value;
use tonemap_core::synth::{
    Partial, PluckedString, Vibrato, harmonics, mix, render, to_samples, white_noise,
};
use tonemap_media::{SdifKind, WavEncoding, read_sdif};

use crate::bench::{Bench, codes, number};

const RATE_HZ: f64 = 48_000.0;

fn harp() -> PluckedString {
    PluckedString {
        frequency_hz: 196.0,
        inharmonicity: 2e-4,
        t60_s: 4.0,
        ..PluckedString::default()
    }
}

/// A bench with a harp note from 0.2 s on, in noise.
fn with_harp() -> Bench {
    let bench = Bench::new();
    let mut sound = white_noise(5, 1e-5, 96_000);
    mix(&mut sound[9600..], &harp().render(RATE_HZ, 1.8));
    bench.take("harp.wav", 48_000, WavEncoding::Float, &[to_samples(&sound)]);
    bench
}

fn partials(json: &Value) -> &Vec<Value> {
    json["result"]["partials"].as_array().expect("partials")
}

#[test]
fn a_string_is_told_with_its_law_and_decays() {
    let bench = with_harp();
    let json = bench.json("partials harp.wav --tracks --format json");
    let result = &json["result"];
    assert_eq!(json["kind"], "partials");
    let f0_hz = 196.0 * (1.0f64 + 2e-4).sqrt();
    assert!((number(&result["f0_hz"]) - f0_hz).abs() < 0.001, "{}", result["f0_hz"]);
    assert!((number(&result["inharmonicity"]) / 2e-4 - 1.0).abs() < 0.002);
    let truth = harp().truth();
    let found = partials(&json);
    assert!(found.len() > 30, "{}", found.len());
    for partial in &found[..20] {
        let true_one = &truth[number(&partial["number"]) as usize - 1];
        let hz = number(&partial["frequency_hz"]);
        assert!((hz - true_one.frequency_hz).abs() < 0.02, "{partial}");
        let t60_s = number(&partial["decay_t60_s"]);
        assert!((t60_s / true_one.t60_s - 1.0).abs() < 0.02, "{partial}");
        let level_db = 20.0 * true_one.amplitude.abs().log10();
        assert!((number(&partial["level_db"]) - level_db).abs() < 0.1, "{partial}");
    }
    let tracks = result["tracks"].as_array().expect("tracks");
    let first = &tracks[0];
    assert_eq!(first["number"], 1);
    assert!((number(&first["start_s"]) - 0.2).abs() < 5e-4, "{}", first["start_s"]);
    let columns = ["frequency_hz", "level_db", "phase_rad"]
        .map(|key| first[key].as_array().expect("a column").len());
    assert!(columns[0] > 100 && columns.iter().all(|count| *count == columns[0]));
    assert!(number(&result["residual_db"]) < -50.0);
}

/// A string of 82 Hz whose partials 10 and 11 also sound as their sum, and hum.
fn string_with_others() -> Bench {
    let string = PluckedString {
        frequency_hz: 82.0,
        inharmonicity: 5e-4,
        t60_s: 5.0,
        partials: 24,
        ..PluckedString::default()
    };
    let mut all = string.truth();
    let sum_hz = all[9].frequency_hz + all[10].frequency_hz;
    let tone =
        |frequency_hz, amplitude, t60_s| Partial { frequency_hz, amplitude, phase_rad: 0.4, t60_s };
    all.extend([tone(sum_hz, 0.002, 2.0), tone(50.0, 0.001, f64::INFINITY)]);
    let bench = Bench::new();
    let mut sound = render(&all, Vibrato::default(), RATE_HZ, 2.5);
    mix(&mut sound, &white_noise(8, 1e-5, 120_000));
    bench.take("string.wav", 48_000, WavEncoding::Float, &[to_samples(&sound)]);
    bench
}

#[test]
fn tones_off_the_series_are_listed_beside_the_partials() {
    let bench = string_with_others();
    let json = bench.json("partials string.wav --others --format json");
    let others = json["result"]["other_tones"].as_array().expect("other tones");
    assert_eq!(json["settings"]["resolve_hz"], 6.0);
    let [hum, phantom] = &others[..] else { panic!("{others:#?}") };
    assert!((number(&hum["frequency_hz"]) - 50.0).abs() < 0.02, "{hum}");
    assert_eq!((&hum["sum_of"], &hum["nearest_partial"]), (&Value::Null, &1.into()));
    assert!((number(&hum["level_db"]) + 60.0).abs() < 0.3, "{hum}");
    assert_eq!(phantom["sum_of"], serde_json::json!([10, 11]));
    assert!(number(&phantom["hz_from_sum"]).abs() < 0.02, "{phantom}");
    assert!((number(&phantom["decay_t60_s"]) - 2.0).abs() < 0.05, "{phantom}");
    // The partials are as without them, and nobody who does not ask is told.
    let alone = bench.json("partials string.wav --format json");
    assert_eq!(json["result"]["partials"], alone["result"]["partials"]);
    assert!(alone["result"]["other_tones"].is_null());
    let text = bench.run("partials string.wav --others --quiet").out;
    assert!(text.contains("Lasting tones off the series") && text.contains("10 + 11"), "{text}");
    let csv = bench.run("partials string.wav --others --format csv --quiet").out;
    assert_eq!(csv.lines().count(), 3, "{csv}");
    assert!(csv.contains(",sum_of,") && csv.contains(",10 + 11,"), "{csv}");
    let limit = "other_tones[2].level_db<-60";
    assert_eq!(bench.run(&format!("partials string.wav --others --require {limit}")).status, 3);
    let none = bench.run("partials string.wav --others --range 2kHz.. --quiet").out;
    assert!(none.contains("No lasting tone off the series"), "{none}");
    for wrong in ["--others --free", "--others --tracks", "--resolve 5Hz"] {
        let refused = bench.run(&format!("partials string.wav {wrong}"));
        assert_eq!(refused.status, 2, "{wrong}: {}", refused.err);
    }
}

#[test]
fn the_tones_that_make_a_partial_are_listed() {
    // Of three strings, the first loudest and soonest over; and one of a single string.
    let three = |n: f64| {
        [(0.0, 0.2, 2.0), (0.7, 0.1, 4.0), (-1.1, 0.05, 7.0)].map(|(hz, amplitude, t60_s)| {
            Partial { frequency_hz: 220.0 * n + hz, amplitude: amplitude / n, phase_rad: n, t60_s }
        })
    };
    let strings: Vec<Partial> = [1.0, 2.0, 3.0].into_iter().flat_map(three).collect();
    let bench = Bench::new();
    for (name, all) in [("three.wav", &strings[..]), ("one.wav", &strings[..1])] {
        let mut sound = white_noise(3, 1e-4, 4 * 48_000);
        mix(&mut sound, &render(all, Vibrato::default(), RATE_HZ, 4.0));
        bench.take(name, 48_000, WavEncoding::Float, &[to_samples(&sound)]);
    }
    let json = bench.json("partials three.wav --format json");
    for (partial, truth) in partials(&json).iter().zip(strings.chunks(3)) {
        let found = partial["components"].as_array().expect("components");
        assert_eq!(found.len(), 3, "{partial:#}");
        assert!(found[0]["hz_from_strongest"].is_null());
        for component in found {
            let hz = number(&component["frequency_hz"]);
            let near = truth
                .iter()
                .min_by(|a, b| (a.frequency_hz - hz).abs().total_cmp(&(b.frequency_hz - hz).abs()));
            let near = near.expect("three");
            assert!((near.frequency_hz - hz).abs() < 0.005, "{component}");
            let t60_s = number(&component["decay_t60_s"]);
            assert!((t60_s / near.t60_s - 1.0).abs() < 0.02, "{component}");
        }
    }
    let text = bench.run("partials three.wav --components --quiet").out;
    assert!(text.contains("Partials of two or three tones together"), "{text}");
    let csv = bench.run("partials three.wav --components --format csv --quiet").out;
    assert!(csv.starts_with("take,channel,partial,number,frequency_hz,"), "{csv}");
    assert_eq!(csv.lines().count(), 10, "{csv}");
    let limit = "partials[2].components[3].hz_from_strongest<-2";
    assert_eq!(bench.run(&format!("partials three.wav --require {limit}")).status, 3);
    let none = bench.run("partials one.wav --components --quiet").out;
    assert!(none.contains("No partial is known to be two or three tones together"), "{none}");
    for wrong in ["--components --tracks", "--components --others"] {
        let refused = bench.run(&format!("partials three.wav {wrong}"));
        assert_eq!(refused.status, 2, "{wrong}: {}", refused.err);
    }
}

#[test]
fn tables_say_what_is_there_and_no_more() {
    let bench = with_harp();
    let run = bench.run("partials harp.wav");
    assert_eq!(run.status, 0, "{}", run.err);
    for wanted in ["from harmonic ¢", "T60 s", "B (200.", "e-6", "guided by the fundamental"] {
        assert!(run.out.contains(wanted), "{wanted}: {}", run.out);
    }
    assert!(!run.out.contains("beat Hz") && !run.out.contains("ratio"));
    let csv = bench.run("partials harp.wav --format csv --range ..1kHz").out;
    assert_eq!(csv.lines().count(), 6, "{csv}");
    let csv = bench.run("partials harp.wav --format csv --tracks --most 3 --hop 10ms").out;
    let mut lines = csv.lines();
    let head = "take,channel,number,time_s,frequency_hz,level_db,phase_rad,level_reference";
    assert_eq!(lines.next(), Some(head));
    assert!(lines.all(|line| line.starts_with("harp.wav,1,")) && csv.lines().count() > 300);
}

#[test]
fn tracks_are_written_as_sdif() {
    let bench = with_harp();
    let json = bench.json("partials harp.wav --tracks --sdif harp.sdif --format json");
    let bytes = std::fs::read(bench.path("harp.sdif")).expect("written");
    let (kind, frames) = read_sdif(&bytes).expect("read");
    assert_eq!(kind, SdifKind::Harmonic);
    let tracks = json["result"]["tracks"].as_array().expect("tracks");
    let mut points = 0;
    for track in tracks {
        let hz = track["frequency_hz"].as_array().expect("a column");
        let start_s = number(&track["start_s"]);
        let first = (frames.iter())
            .position(|frame| (frame.time_s - start_s).abs() < 1e-6)
            .expect("a frame at the beginning of a track");
        for (frame, hz) in frames[first..].iter().zip(hz) {
            let index = number(&track["number"]) as u32;
            let partial = frame.partials.iter().find(|partial| partial.index == index);
            // JSON may be read back a bit off.
            let ratio = partial.expect("the partial").frequency_hz / number(hz);
            assert!((ratio - 1.0).abs() < 1e-14, "{ratio}");
            points += 1;
        }
    }
    assert_eq!(points, frames.iter().map(|frame| frame.partials.len()).sum::<usize>());
    let run = bench.run("partials harp.wav --sdif harp.sdif");
    assert!(run.status != 0 && run.err.contains("--force"), "{}", run.err);
}

/// The tracks alone, in place of the take, are measured to be what the take was.
#[test]
fn tracks_are_taken_in_place_of_a_take() {
    let bench = with_harp();
    let of_take = bench.json("partials harp.wav --sdif harp.sdif --data harp.npz --format json");
    let of_tracks = bench.json("partials harp.sdif --format json");
    for key in ["f0_hz", "inharmonicity"] {
        let ratio = number(&of_tracks["result"][key]) / number(&of_take["result"][key]);
        assert!((ratio - 1.0).abs() < 1e-3, "{key}: {ratio}");
    }
    for (a, b) in partials(&of_take).iter().zip(partials(&of_tracks)).take(12) {
        assert!((number(&a["frequency_hz"]) - number(&b["frequency_hz"])).abs() < 0.1, "{a} {b}");
        assert!((number(&a["level_db"]) - number(&b["level_db"])).abs() < 0.3, "{a} {b}");
    }
    let line = bench.run("pitch harp.sdif --steady").out;
    assert!(line.starts_with("harp.sdif  G3 "), "{line}");
    let inspected = bench.json("inspect harp.sdif --format json");
    assert_eq!(inspected["result"]["container"], "SDIF");
    let arrays = std::fs::read(bench.path("harp.npz")).expect("written");
    assert!(arrays.windows(16).any(|name| name == b"frequency_hz.npy"));
    std::fs::write(bench.path("broken.sdif"), b"SDIF\0\0").expect("written");
    let run = bench.run("pitch broken.sdif");
    assert!(run.status == 1 && run.err.contains("SDIF"), "{}", run.err);
}

/// Pairs that no frame resolves, and no fundamental where there is none.
#[test]
fn a_bell_is_told_against_its_target() {
    let bench = Bench::new();
    let modes = [(520.0, 0.6), (1577.0, 1.1), (2790.0, 0.0)];
    let partials_of = |(hz, apart): (f64, f64)| {
        [(hz, 0.15), (hz + apart, 0.08)].map(|(frequency_hz, amplitude)| Partial {
            frequency_hz,
            amplitude,
            phase_rad: 0.4,
            t60_s: 4.0,
        })
    };
    let bell: Vec<Partial> = modes.into_iter().flat_map(partials_of).collect();
    let sound = render(&bell, Vibrato::default(), RATE_HZ, 4.0);
    bench.take("bell.wav", 48_000, WavEncoding::Float, &[to_samples(&sound)]);
    let json = bench.json("partials bell.wav --free --ratios-to 1 --target 1,3,5.4 --format json");
    assert!(json["result"]["f0_hz"].is_null() && json["result"]["inharmonicity"].is_null());
    let found = partials(&json);
    assert_eq!(found.len(), 3);
    for (partial, (hz, apart)) in found.iter().zip(modes) {
        assert!((number(&partial["frequency_hz"]) - hz).abs() < 0.01, "{partial}");
        match apart {
            0.0 => assert!(partial["beat_hz"].is_null(), "{partial}"),
            _ => assert!((number(&partial["beat_hz"]) / apart - 1.0).abs() < 0.01, "{partial}"),
        }
    }
    let cents = number(&found[1]["cents_from_target"]);
    assert!((cents - 1200.0 * (1577.0f64 / 520.0 / 3.0).log2()).abs() < 0.05, "{cents}");
    let run = bench.run("partials bell.wav --free --figure bell.svg --view decay --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let svg = std::fs::read_to_string(bench.path("bell.svg")).expect("drawn");
    assert!(svg.contains("Time, s") && !svg.contains("From harmonic"));
}

#[test]
fn figures_show_tracks_and_decays() {
    let bench = with_harp();
    for (arguments, wanted) in [
        ("--view decay", ["From harmonic, cents", "curve: B = 200.", "Number of the partial"]),
        ("--colours grey", ["partials", "Frequency, Hz", "dB re full scale"]),
    ] {
        let run =
            bench.run(&format!("partials harp.wav --figure a.svg --force --quiet {arguments}"));
        assert_eq!(run.status, 0, "{}", run.err);
        let svg = std::fs::read_to_string(bench.path("a.svg")).expect("drawn");
        for words in wanted {
            assert!(svg.contains(words), "{words}");
        }
    }
}

/// Beyond what is held in memory the notes are found block by block, and read one by one.
#[test]
fn a_long_phrase_is_followed_note_by_note() {
    const RATE: u32 = 8000;
    let bench = Bench::new();
    let mut phrase = white_noise(7, 1e-4, 130 * RATE as usize);
    let onsets = [(2, 330.0, 1.0), (70, 440.0, 2.0), (126, 294.0, 1.5)];
    for (onset_s, f0_hz, lasts_s) in onsets {
        let note = harmonics(f0_hz, &[0.2, 0.1, 0.05]);
        let note = render(&note, Vibrato::default(), RATE.into(), lasts_s);
        mix(&mut phrase[onset_s * RATE as usize..], &note);
    }
    bench.take("long.wav", RATE, WavEncoding::Integer(24), &[to_samples(&phrase)]);
    let json = bench.json("partials long.wav --format json");
    assert!(codes(&json).contains(&"several_notes"), "{}", json["findings"]);
    assert!((number(&json["result"]["f0_hz"]) - 440.0).abs() < 0.02);
    assert!((number(&json["result"]["start_s"]) - 70.0).abs() < 0.01);
    let second = bench.json("partials long.wav --note 3 --format json");
    assert!((number(&second["result"]["f0_hz"]) - 294.0).abs() < 0.02);
    let run = bench.run("timbre long.wav --each --format json --quiet");
    assert_eq!(run.out.lines().count(), onsets.len(), "{}", run.err);
    let tuned = bench.json("tuning long.wav --format json");
    let notes = tuned["result"]["notes"].as_array().expect("notes");
    for (note, (onset_s, f0_hz, _)) in notes.iter().zip(onsets) {
        assert!((number(&note["start_s"]) - onset_s as f64).abs() < 0.03, "{note}");
        assert!((number(&note["f0_hz"]) - f0_hz).abs() < 0.05, "{note}");
    }
    assert_eq!(notes.len(), onsets.len());
    let free = bench.json("partials long.wav --free --format json");
    assert!(codes(&free).contains(&"cut"), "{}", free["findings"]);
}

#[test]
fn what_cannot_be_followed_is_refused_or_told() {
    let bench = Bench::new();
    let tone = render(&harmonics(440.0, &[0.2, 0.1]), Vibrato::default(), RATE_HZ, 1.0);
    bench.take("tone.wav", 48_000, WavEncoding::Integer(16), &[to_samples(&tone)]);
    let noise = to_samples(&white_noise(4, 0.1, 48_000));
    bench.take("noise.wav", 48_000, WavEncoding::Integer(16), &[noise]);
    for (arguments, status, wanted) in [
        ("noise.wav", 1, "--free"),
        ("tone.wav --from 0.5 --to 0.505 --free", 1, "longer span"),
        ("tone.wav --resolve 5Hz", 2, "--free"),
        ("tone.wav --free --resolve 9kHz", 2, "0.5 Hz to 2 kHz"),
        ("tone.wav --hop 2s", 2, "0.2 ms to 0.5 s"),
        ("tone.wav --ratios-to 9", 2, "one that was found"),
        ("tone.wav --ratios-to 1 --target 1,-3", 2, "a positive number"),
        ("tone.wav --sdif a.txt", 2, "FILE.sdif"),
        ("tone.wav --data a.csv", 2, "FILE.npz"),
        ("tone.wav noise.wav --figure a.png", 2, "one channel of one take"),
    ] {
        let run = bench.run(&format!("partials {arguments}"));
        assert_eq!(run.status, status, "{arguments}: {}", run.err);
        assert!(run.err.contains(wanted), "{arguments}: {}", run.err);
    }
    bench.take("silent.wav", 48_000, WavEncoding::Integer(16), &[vec![0.0; 48_000]]);
    let json = bench.json("partials silent.wav --free --format json");
    assert!(codes(&json).contains(&"no_partials"), "{}", json["findings"]);
    let mut two = render(&harmonics(220.0, &[0.2, 0.1]), Vibrato::default(), RATE_HZ, 0.8);
    two.extend(tone);
    bench.take("two.wav", 48_000, WavEncoding::Integer(24), &[to_samples(&two)]);
    let json = bench.json("partials two.wav --format json");
    assert!(codes(&json).contains(&"several_notes"), "{}", json["findings"]);
    assert!((number(&json["result"]["f0_hz"]) - 440.0).abs() < 0.01);
}

#[test]
fn a_take_without_a_note_does_not_stop_the_others() {
    let bench = with_harp();
    bench.take("silent.wav", 48_000, WavEncoding::Float, &[vec![0.0; 48_000]]);
    let run = bench.run("partials silent.wav harp.wav --format csv --quiet");
    assert_eq!(run.status, 1);
    assert!(run.err.contains("silent.wav") && run.err.lines().count() == 1, "{}", run.err);
    assert!(run.out.lines().count() > 20 && run.out.contains("harp.wav,1,1,"), "{}", run.out);
}
