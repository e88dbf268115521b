use serde_json::Value;
use tonemap_media::{Block, TakeReader};

use crate::bench::Bench;

fn samples(bench: &Bench, name: &str) -> Vec<Vec<f32>> {
    let mut reader = TakeReader::open(&bench.path(name)).expect("opens");
    let mut channels = vec![Vec::new(); reader.info().channels];
    let mut block = Block::default();
    while reader.read(&mut block).expect("reads") {
        for (channel, samples) in channels.iter_mut().zip(block.channels()) {
            channel.extend_from_slice(samples);
        }
    }
    channels
}

/// What the recipe says is what the spectrum reads.
#[test]
fn a_reading_can_be_proved_by_a_recipe() {
    let bench = Bench::new();
    let run = bench.run_words(&[
        "signal",
        "tone frequency=440.123Hz level=-6dB phase=30deg",
        "tone frequency=A#5 level=-40dB",
        "noise level=-60dB",
        "--output",
        "a.wav",
        "--duration",
        "2s",
        "--bits",
        "24",
        "--dither",
    ]);
    assert_eq!((run.status, run.err.as_str()), (0, ""));
    assert!(run.out.contains("2.000 s, 48 000 Hz, 24 bits; peak −5.7"), "{}", run.out);
    let json = bench.json("spectrum a.wav --format json");
    let peaks = json["result"]["peaks"].as_array().expect("peaks");
    let number = |n: usize, key: &str| peaks[n][key].as_f64().expect("a number");
    for (n, key, truth) in [
        (0, "frequency_hz", 440.123),
        (0, "level_db", -6.0),
        (0, "phase_rad", 30f64.to_radians()),
        (1, "frequency_hz", 932.327_523),
        (1, "level_db", -40.0),
    ] {
        let (found, u) = (number(n, key), number(n, &format!("{key}_u")));
        assert!((found - truth).abs() < 4.0 * u, "{key}: {found} ± {u}, not {truth}");
    }
}

#[test]
fn a_recipe_in_a_file_gives_the_same_as_one_on_the_command_line() {
    let bench = Bench::new();
    bench.write(
        "recipe.toml",
        b"rate = 44100\nduration = \"250ms\"\nseed = 7\n\n[[voices]]\nkind = \"string\"\n\
          frequency = \"G3\"\ninharmonicity = 2e-4\n\n[[voices]]\nkind = \"noise\"\ncolour = \"pink\"\n\
          level = \"-50dB\"\n",
    );
    let run = bench.run("signal --recipe recipe.toml --output a.wav --format json");
    assert_eq!(run.status, 0, "{}", run.err);
    let json: Value = serde_json::from_str(&run.out).expect("JSON");
    assert_eq!(json["result"]["samples"], 11_025);
    let first = &json["result"]["voices"][0][0];
    let truth = 195.997_717_990_87 * (1.0f64 + 2e-4).sqrt();
    assert!((first["frequency_hz"].as_f64().expect("a number") - truth).abs() < 1e-6);
    let run = bench.run_words(&[
        "signal",
        "string frequency=G3 inharmonicity=2e-4",
        "noise colour=pink level=-50dB",
        "--rate",
        "44.1kHz",
        "--duration",
        "0.25",
        "--seed",
        "7",
        "--output",
        "b.wav",
    ]);
    assert_eq!(run.status, 0, "{}", run.err);
    assert_eq!(samples(&bench, "a.wav"), samples(&bench, "b.wav"));
    let other = bench.run("signal --recipe recipe.toml --seed 8 --output c.wav");
    assert_eq!(other.status, 0);
    assert_ne!(samples(&bench, "a.wav"), samples(&bench, "c.wav"));
}

#[test]
fn the_inverse_of_a_sweep_is_written_beside_it() {
    let bench = Bench::new();
    let run = bench.run_words(&[
        "signal",
        "sweep from=100Hz to=10kHz length=400ms",
        "--duration",
        "500ms",
        "--output",
        "sweep.wav",
        "--inverse",
        "inverse.wav",
    ]);
    assert_eq!(run.status, 0, "{}", run.err);
    let (sweep, inverse) = (samples(&bench, "sweep.wav"), samples(&bench, "inverse.wav"));
    assert_eq!((sweep[0].len(), inverse[0].len()), (24_000, 19_200));
    let at_end: f64 = sweep[0]
        .iter()
        .zip(inverse[0].iter().rev())
        .map(|(a, b)| f64::from(*a) * f64::from(*b))
        .sum();
    assert!((at_end - 1.0).abs() < 1e-4, "{at_end}");
}

#[test]
fn recipes_that_make_no_sense_leave_nothing_behind() {
    let bench = Bench::new();
    bench.write("wrong.toml", b"speed = 3\nvoices = []\n");
    for (arguments, status, reason) in [
        (
            &["signal", "tone level=1dB", "--output", "a.wav", "--bits", "16"][..],
            1,
            "lower its levels",
        ),
        (&["signal", "tone level=loud", "--output", "a.wav"], 2, "94dB"),
        (&["signal", "drum", "--output", "a.wav"], 2, "must be tone"),
        (&["signal", "tone frequency=30kHz", "--output", "a.wav"], 2, "half the sample rate"),
        (&["signal", "tone", "--output", "a.wav", "--inverse", "b.wav"], 2, "one sweep"),
        (&["signal", "tone", "--output", "a.wav", "--duration", "0"], 2, "duration"),
        (&["signal", "--recipe", "wrong.toml", "--output", "a.wav"], 2, "speed"),
        (&["signal", "--recipe", "none.toml", "--output", "a.wav"], 1, "none.toml"),
        (&["signal", "tone", "--output", "none/a.wav"], 1, "no such folder"),
    ] {
        let run = bench.run_words(arguments);
        assert_eq!(run.status, status, "{arguments:?}: {}", run.err);
        assert!(run.err.contains(reason), "{arguments:?}: {}", run.err);
    }
    assert_eq!(bench.files(), ["wrong.toml"]);
}

#[test]
fn bands_are_kept_and_removed_in_every_channel_without_delay() {
    let bench = Bench::new();
    let two = |low: &str, high: &str, name: &str| {
        let voices = [format!("tone frequency={low}"), format!("tone frequency={high}")];
        let run = bench.run_words(&["signal", &voices[0], &voices[1], "--output", name]);
        assert_eq!(run.status, 0, "{}", run.err);
        samples(&bench, name).remove(0)
    };
    let channels = [two("100Hz", "1kHz", "a.wav"), two("200Hz", "3kHz", "b.wav")];
    bench.take("pair.wav", 48_000, tonemap_media::WavEncoding::Float, &channels);
    let run = bench.run("filter pair.wav --remove ..150Hz,900Hz..1100Hz --output out.wav");
    assert_eq!((run.status, run.err.as_str()), (0, ""));
    assert!(run.out.contains("removed: 0.0 to 150.0 Hz, 900.0 to 1100.0 Hz"), "{}", run.out);
    let out = samples(&bench, "out.wav");
    assert_eq!((out.len(), out[0].len()), (2, 48_000));
    // Away from the ends, where a filter sees the sound begin, only what was to stay is left.
    let inside = 16_000..32_000;
    assert!(out[0][inside.clone()].iter().all(|x| x.abs() < 1e-6));
    let differences = out[1][inside.clone()].iter().zip(&channels[1][inside]);
    assert!(differences.map(|(a, b)| (a - b).abs()).fold(0.0, f32::max) < 1e-6);
    let json = bench.json(
        "filter pair.wav --keep 2kHz..4kHz --transition 50Hz --output kept.wav --format json",
    );
    assert_eq!(json["settings"]["keep_hz"][0][0], 2000.0);
    assert!(json["settings"]["stop_band_db"].as_f64().is_some_and(|db| db >= 100.0));
    let run = bench
        .run("filter pair.wav --keep 1kHz.. --output f.wav --figure f.svg --from 0.2 --to 0.9");
    assert_eq!(run.status, 0, "{}", run.err);
    let svg = std::fs::read_to_string(bench.path("f.svg")).expect("drawn");
    assert!(svg.contains("before") && svg.contains("after"));
    assert_eq!(samples(&bench, "f.wav")[1].len(), 33_600);
}

#[test]
fn filters_that_make_no_sense_are_refused() {
    let bench = Bench::new();
    bench.take("a.wav", 48_000, tonemap_media::WavEncoding::Float, &[vec![0.1; 4800]]);
    for (arguments, reason) in [
        ("filter a.wav --output b.wav", "--keep"),
        ("filter a.wav --keep 1kHz..2kHz --remove 3kHz.. --output b.wav", "cannot be used with"),
        ("filter a.wav --keep .. --output b.wav", "a part of the spectrum"),
        ("filter a.wav --keep 100Hz..110Hz --transition 30Hz --output b.wav", "at most"),
        ("filter a.wav --keep 100 --output b.wav", "50Hz..8kHz"),
        ("filter a.wav --keep 1kHz.. --output b.wav --figure b.txt", "FILE.png"),
    ] {
        let run = bench.run(arguments);
        assert_eq!(run.status, 2, "{arguments}: {}", run.err);
        assert!(run.err.contains(reason), "{arguments}: {}", run.err);
    }
    assert_eq!(bench.files(), ["a.wav"]);
}
