//! Findings that are earned: a take that has what is said, and one beside it that does not.

use std::f64::consts::TAU;

use tonemap_core::synth::{alder_hall, to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes};

const RATE: u32 = 48_000;

/// Takes by recipes: name, duration, voices.
const RECIPES: [(&str, &str, &[&str]); 16] = [
    ("struck.wav", "2s", &["harmonics frequency=110Hz start=0.3s decay=2s", "noise level=-90dB"]),
    (
        "blown.wav",
        "2s",
        &["harmonics frequency=110Hz start=0.3s length=1.5s fade=80ms", "noise level=-90dB"],
    ),
    ("tone.wav", "4s", &["tone frequency=440Hz level=-12dB", "noise level=-80dB"]),
    ("softer.wav", "4s", &["tone frequency=440Hz level=-18dB phase=40deg", "noise level=-79dB"]),
    ("noise.wav", "4s", &["noise level=-40dB"]),
    ("other.wav", "4s", &["noise level=-90dB", "noise level=-40dB"]),
    (
        "off.wav",
        "2s",
        &[
            "harmonics frequency=200Hz level=-12dB numbers=1,2,4,5,6,7",
            "tone frequency=606Hz level=-20dB",
            "noise level=-90dB",
        ],
    ),
    ("series.wav", "2s", &["harmonics frequency=200Hz level=-12dB", "noise level=-90dB"]),
    (
        "third.wav",
        "2s",
        &[
            "harmonics frequency=220Hz level=-12dB",
            "harmonics frequency=277.18Hz level=-12dB",
            "noise level=-80dB",
        ],
    ),
    (
        "faint-third.wav",
        "2s",
        &[
            "harmonics frequency=220Hz level=-12dB",
            "harmonics frequency=277.18Hz level=-60dB",
            "noise level=-80dB",
        ],
    ),
    ("hall.wav", "6s", &["noise level=-20dB"]),
    ("hall-uneven.wav", "6s", &["noise level=-20dB", "tone frequency=1kHz level=-10dB"]),
    ("green.wav", "6s", &["noise level=-90dB", "noise level=-60dB"]),
    ("green-leak.wav", "6s", &["noise level=-60dB", "tone frequency=1kHz level=-40dB"]),
    ("sweep.wav", "5s", &["sweep from=50Hz to=8kHz level=-6dB length=4s", "noise level=-90dB"]),
    ("hot.wav", "1s", &["tone frequency=12kHz level=2.9dB phase=45deg"]),
];

fn bench() -> Bench {
    let bench = Bench::new();
    for (name, duration, voices) in RECIPES {
        let rest = ["--duration", duration, "--output", name, "--quiet"];
        let run = bench.run_words(&[&["signal"], voices, &rest].concat());
        assert_eq!(run.status, 0, "{name}: {}", run.err);
    }
    // A line that was dead, and one that was not.
    let noise = |seed: u64, rms: f64| to_samples(&white_noise(seed, rms, 2 * RATE as usize));
    let two = |name: &str, rms: f64| {
        bench.take(name, RATE, WavEncoding::Float, &[noise(1, 0.1), noise(2, rms)]);
    };
    two("dead.wav", 1e-5);
    two("pair.wav", 0.05);
    bench
}

/// The findings of a command line; words in quotes are one.
fn found(bench: &Bench, line: &str) -> Vec<String> {
    let words = line.split('\'').enumerate().flat_map(|(n, part)| match n % 2 {
        0 => part.split_whitespace().collect::<Vec<_>>(),
        _ => vec![part],
    });
    let words: Vec<&str> = words.chain(["--format", "json", "--quiet"]).collect();
    let run = bench.run_words(&words);
    assert_eq!(run.status, 0, "{line}: {}", run.err);
    let value: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    codes(&value).into_iter().map(String::from).collect()
}

/// Sees that a command line has a finding, or has it not.
fn expect(bench: &Bench, line: &str, code: &str, is_said: bool) {
    let said = found(bench, line);
    assert_eq!(said.iter().any(|one| one == code), is_said, "{line}: {said:?}");
}

#[test]
fn findings_are_said_where_they_are_so_and_nowhere_else() {
    const ROOMS: &str = "--assume 'full-scale = 120dB'";
    let bench = bench();
    for (code, with, without) in [
        ("attack_hidden", "timbre struck.wav", "timbre blown.wav"),
        ("dead_channel", "inspect dead.wav", "inspect pair.wav"),
        ("first_channel", "spectrum pair.wav", "spectrum pair.wav --channel 2"),
        ("over_between_samples", "inspect hot.wav", "inspect tone.wav"),
        ("no_peaks", "spectrum noise.wav", "spectrum tone.wav"),
        ("off_law", "partials off.wav", "partials series.wav"),
        ("nearly_even", "pitch third.wav", "pitch faint-third.wav"),
        ("delay_may_be_another", "compare tone.wav softer.wav", "compare noise.wav noise.wav"),
        (
            "little_coherence",
            "transfer noise.wav other.wav --delay 0s",
            "transfer noise.wav noise.wav --delay 0s",
        ),
        (
            "source_uneven",
            "isolation --source hall-uneven.wav --receiver green.wav",
            "isolation --source hall.wav --receiver green.wav",
        ),
        (
            "insulation_dip",
            "isolation --source hall.wav --receiver green-leak.wav",
            "isolation --source hall.wav --receiver green.wav",
        ),
    ] {
        let rooms = if with.starts_with("isolation") { ROOMS } else { "" };
        let [with, without] = [with, without].map(|line| format!("{line} {rooms}"));
        expect(&bench, &with, code, true);
        expect(&bench, &without, code, false);
    }
}

#[test]
fn an_overdriven_sweep_is_said() {
    let bench = bench();
    let mut reader = tonemap_media::TakeReader::open(&bench.path("sweep.wav")).expect("opens");
    let mut block = tonemap_media::Block::default();
    let mut sweep: Vec<f64> = Vec::new();
    while reader.read(&mut block).expect("reads") {
        sweep.extend(block.channel(0).iter().map(|x| f64::from(*x)));
    }
    // A few reflections, then a loudspeaker that is driven far too hard, or not.
    let echoed = |n: usize| {
        let late = |by: usize, gain: f64| n.checked_sub(by).map_or(0.0, |n| gain * sweep[n]);
        sweep[n] + late(3_000, 0.2) + late(9_000, 0.1) + late(20_000, 0.03)
    };
    for (name, drive, is_said) in [("hard.wav", 3.0, true), ("soft.wav", 0.01, false)] {
        let driven: Vec<f64> =
            (0..sweep.len()).map(|n| (drive * echoed(n)).tanh() / drive / 3.0).collect();
        bench.take(name, RATE, WavEncoding::Float, &[to_samples(&driven)]);
        let said = found(
            &bench,
            &format!("room {name} --sweep 'sweep from=50Hz to=8kHz level=-6dB length=4s'"),
        );
        assert_eq!(said.iter().any(|one| one == "much_distortion"), is_said, "{name}: {said:?}");
    }
}

#[test]
fn a_clock_that_runs_unevenly_is_said() {
    let bench = Bench::new();
    // Tones whose time wanders to and fro once in two seconds, in noise of their own.
    let wandering = |by_s: f64, seed: u64| -> Vec<f32> {
        let mut sound = white_noise(seed, 1e-4, 6 * RATE as usize);
        for (n, x) in sound.iter_mut().enumerate() {
            let t = n as f64 / f64::from(RATE);
            let t = t + by_s * (TAU * t / 2.0).sin();
            let tone = |k: u32| 4e-3 * (TAU * f64::from(151 * k) * t + f64::from(k * k % 61)).cos();
            *x += (1..100).map(tone).sum::<f64>();
        }
        to_samples(&sound)
    };
    bench.take("in.wav", RATE, WavEncoding::Float, &[wandering(0.0, 1)]);
    for (by_s, is_said) in [(0.0, false), (1e-4, true)] {
        bench.take("out.wav", RATE, WavEncoding::Float, &[wandering(by_s, 2)]);
        expect(&bench, "compare in.wav out.wav", "clock_wanders", is_said);
    }
}

#[test]
fn a_source_that_swells_by_itself_is_said() {
    let bench = Bench::new();
    let wagon = alder_hall::passing_wagon(f64::from(RATE), 9.0);
    let hiss = white_noise(5, 1e-5, wagon.len());
    for (swell, is_said) in [(0.0, false), (2.0, true)] {
        let at = |n: usize| {
            let after_s = n as f64 / f64::from(RATE) - 7.5;
            wagon[n] * (0.1 + swell * (-(after_s / 0.7).powi(2)).exp()) + hiss[n]
        };
        let sound: Vec<f64> = (0..wagon.len()).map(at).collect();
        bench.take("wagon.wav", RATE, WavEncoding::Float, &[to_samples(&sound)]);
        expect(&bench, "passby wagon.wav", "loudest_elsewhere", is_said);
    }
}

#[test]
fn a_distance_that_nothing_shows_is_not_given() {
    const SOUND_M_S: f64 = 343.2;
    let bench = Bench::new();
    for (hidden_s, is_said) in [(0.0, false), (3.0, true)] {
        let mut sound = white_noise(9, 0.4, 10 * RATE as usize);
        for (n, x) in sound.iter_mut().enumerate() {
            let t = n as f64 / f64::from(RATE) - 5.0;
            // 30 m/s, half a metre away: it turns within 17 ms.
            let away_m = |emitted_s: f64| f64::hypot(0.5, 30.0 * emitted_s);
            let emitted_s = (0..18).fold(t, |emitted_s, _| t - away_m(emitted_s) / SOUND_M_S);
            let tones = [210.0, 480.0, 770.0, 1130.0].map(|hz| (TAU * hz * emitted_s).sin());
            if t.abs() >= 0.5 * hidden_s {
                *x += tones.iter().sum::<f64>() * (30.0 / away_m(emitted_s)).min(1.0);
            }
            *x *= 0.1;
        }
        bench.take("close.wav", RATE, WavEncoding::Float, &[to_samples(&sound)]);
        expect(&bench, "passby close.wav", "distance_unknown", is_said);
    }
}

#[test]
fn a_decay_that_is_too_short_for_its_band_is_said() {
    let bench = Bench::new();
    for (t60_s, is_said) in [(0.25, true), (1.2, false)] {
        let (count, start) = (2 * RATE as usize, RATE as usize / 10);
        let (excited, mut sound) = (white_noise(7, 0.1, count), white_noise(8, 1e-4, count));
        for (n, x) in sound.iter_mut().skip(start).enumerate() {
            *x += excited[n] * 10f64.powf(-3.0 * n as f64 / f64::from(RATE) / t60_s);
        }
        bench.take("room.wav", RATE, WavEncoding::Float, &[to_samples(&sound)]);
        expect(&bench, "room room.wav", "decay_uncertain", is_said);
    }
}

#[test]
fn a_median_of_groups_is_said() {
    let bench = Bench::new();
    for (minutes, is_said) in [(1, false), (6, true)] {
        let words = format!("--duration {minutes}min");
        let words: Vec<&str> = words.split(' ').collect();
        let voice = ["signal", "noise level=-20dB", "--output", "noise.wav", "--force", "--quiet"];
        let run = bench.run_words(&[&voice[..], &words].concat());
        assert_eq!(run.status, 0, "{}", run.err);
        expect(&bench, "spectrum noise.wav --average median", "median_of_groups", is_said);
    }
}

#[test]
fn a_study_that_does_not_fit_its_takes_is_said() {
    let bench = bench();
    let done = |line: &str| assert_eq!(bench.run(line).status, 0, "{line}");
    done("study make .");
    done("study add tone.wav");
    let study = std::fs::read_to_string(bench.path("study.toml")).expect("a study");
    assert!(!found(&bench, "spectrum tone").iter().any(|one| one == "channels_named"));
    let named = study.replace(
        "file = \"tone.wav\"",
        "file = \"tone.wav\"\nchannels = [{ name = \"left\" }, { name = \"right\" }]",
    );
    bench.write("study.toml", named.as_bytes());
    let said = found(&bench, "spectrum tone");
    assert!(said.iter().any(|one| one == "channels_named"), "{said:?} {named}");
}

#[test]
fn values_off_their_line_are_said() {
    for (off, is_said) in [(3.0, true), (0.0, false)] {
        let bench = Bench::new();
        for (turn, sign) in [(0, 0.0), (1, 1.0), (2, -1.0), (3, 1.0), (4, -1.0), (5, 0.0)] {
            let hz = 440.0 + 2.0 * f64::from(turn) + off * sign;
            let voice = format!("harmonics frequency={hz}Hz level=-12dB");
            let file = format!("turn{turn}.wav");
            // Noise of its own for each.
            let noise = format!("noise level=-{}dB", 40 + turn);
            let words =
                ["signal", &voice, &noise, "--duration", "1s", "--output", &file, "--quiet"];
            assert_eq!(bench.run_words(&words).status, 0);
        }
        assert_eq!(bench.run("study make .").status, 0);
        let takes: Vec<String> = (0..6).map(|turn| format!("turn{turn}.wav")).collect();
        let add = format!("study add {} --pattern turn{{turn}}.wav", takes.join(" "));
        assert_eq!(bench.run(&add).status, 0);
        expect(
            &bench,
            "trend --quantity pitch.notes[1].f0_hz --over turn",
            "more_scatter_than_uncertainty",
            is_said,
        );
    }
}
