use serde::Deserialize;
use tonemap_core::synth::{mix, sine as tone, to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, sine};

/// The result as programs rely on it; an unknown key is a fault.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(dead_code, reason = "they stand for the schema")]
struct SpectrogramResult {
    resolution_hz: f64,
    blur_s: f64,
    hop_s: f64,
    frames: u64,
    columns: usize,
    rows: usize,
    floor_db: f64,
    ceiling_db: f64,
    loudest_db: Option<f64>,
    loudest_at_s: Option<f64>,
    loudest_hz: Option<f64>,
    scaling: String,
}

fn made(bench: &Bench, arguments: &str) -> SpectrogramResult {
    let json = bench.json(&format!("spectrogram {arguments} --format json"));
    serde_json::from_value(json["result"].clone()).expect("the schema")
}

/// 1 kHz of 0.25 in the second half of a second, in little noise.
fn late_tone() -> Vec<f32> {
    let mut sound = white_noise(1, 1e-4, 48_000);
    let late: Vec<f64> =
        tone(1000.0, 0.25, 0.0, 48_000.0, 24_000).into_iter().map(f64::from).collect();
    mix(&mut sound[24_000..], &late);
    to_samples(&sound)
}

#[test]
fn a_tone_is_told_where_and_as_loud_as_it_is() {
    let bench = Bench::new();
    bench.take("late.wav", 48_000, WavEncoding::Float, &[late_tone()]);
    for axis in ["log", "linear", "bark", "mel"] {
        let result = made(&bench, &format!("late.wav --axis {axis}"));
        assert!((result.loudest_db.expect("sound") + 12.04).abs() < 0.05, "{axis}");
        assert!(result.loudest_at_s.is_some_and(|at| at > 0.55 && at < 0.97), "{axis}");
        assert!(result.loudest_hz.is_some_and(|hz| (hz / 1000.0 - 1.0).abs() < 0.05), "{axis}");
        assert!(result.floor_db < -60.0 && result.ceiling_db >= -12.0);
    }
    let close = made(&bench, "late.wav --time 5ms");
    assert!((close.blur_s - 0.005).abs() < 1e-4 && close.resolution_hz > 100.0);
    let sharp = made(&bench, "late.wav --sharpen --axis linear");
    // The energy of the frames around the beginning gathers where the tone begins.
    assert!((sharp.loudest_db.expect("sound") + 12.04).abs() < 3.0, "{:?}", sharp.loudest_db);
    assert!(
        sharp.loudest_hz.is_some_and(|hz| (hz - 1000.0).abs() < 45.0),
        "{:?}",
        sharp.loudest_hz
    );
    let by_hand = made(&bench, "late.wav --segment 4096 --hop 1024 --size 900x600");
    assert_eq!((by_hand.frames, by_hand.columns), (48, 48));
    let text = bench.run("spectrogram late.wav --resolve 10Hz --range 100Hz..4kHz");
    for wanted in
        ["resolution 10.00 Hz, blurs 9", "rows from 100 Hz to 4000 Hz", "loudest −12.0 dB"]
    {
        assert!(text.out.contains(wanted), "{wanted} in {}", text.out);
    }
}

#[test]
fn both_cannot_be_had_and_it_is_said() {
    let bench = Bench::new();
    bench.take("late.wav", 48_000, WavEncoding::Float, &[late_tone()]);
    let json = bench.json("spectrogram late.wav --resolve 20Hz --time 5ms --format json");
    assert_eq!(codes(&json), ["time_not_reached"]);
    let json = bench.json("spectrogram late.wav --resolve 0.5Hz --format json");
    assert_eq!(codes(&json), ["span_too_short"]);
}

#[test]
fn pictures_share_their_scales_and_say_what_they_show() {
    let bench = Bench::new();
    bench.take("pair.wav", 48_000, WavEncoding::Float, &[late_tone(), sine(440.0)]);
    let run = bench.run("spectrogram pair.wav --channel all --figure a.svg --colours grey");
    assert_eq!(run.status, 0, "{}", run.err);
    let svg = std::fs::read_to_string(bench.path("a.svg")).expect("drawn");
    let document = roxmltree::Document::parse(&svg).expect("well-formed");
    let pictures = document.descendants().filter(|node| node.has_tag_name("image")).count();
    assert_eq!(pictures, 3, "two spectrograms and one bar of colours");
    for wanted in ["pair.wav, channel 1", "pair.wav, channel 2", "Time, s", "Frequency, Hz", "C4"] {
        assert!(svg.contains(wanted), "{wanted}");
    }
    let colours = run.out.lines().filter(|line| line.contains("colours from")).collect::<Vec<_>>();
    let range = |line: &str| line[line.find("colours").expect("there")..].to_string();
    assert_eq!(range(colours[0]), range(colours[1]));
    let run =
        bench.run("spectrogram pair.wav --figure b.png --floor -80dB --ceiling -20dB --quiet");
    assert!(run.out.contains("colours from −80 to −20 dB"), "{}", run.out);
    let run = bench.run("spectrogram pair.wav --sketch --quiet");
    assert!(
        run.out.starts_with(' ') && run.out.lines().filter(|line| line.contains('▀')).count() == 30
    );
    let silent = Bench::new();
    silent.take("zero.wav", 48_000, WavEncoding::Integer(16), &[vec![0.0; 48_000]]);
    let run = silent.run("spectrogram zero.wav --figure a.png");
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.contains("silent"), "{}", run.out);
}

#[test]
fn the_cells_are_given_away() {
    let bench = Bench::new();
    bench.take("late.wav", 48_000, WavEncoding::Float, &[late_tone()]);
    let run = bench.run("spectrogram late.wav --data a.npz --size 640x480 --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let column = |name| bench.array("a.npz", name).1;
    let (time, frequency) = (column("time_s"), column("frequency_hz"));
    let (shape, level) = bench.array("a.npz", "level_db");
    assert_eq!(shape, [time.len(), frequency.len()]);
    let near_1_khz = |t: f64| {
        let column = time.iter().position(|time| *time >= t).expect("a column");
        let rows = frequency.iter().enumerate().filter(|(_, hz)| (**hz / 1000.0).ln().abs() < 0.03);
        rows.map(|(row, _)| level[column * shape[1] + row]).fold(f64::MIN, f64::max)
    };
    assert!((near_1_khz(0.75) + 12.04).abs() < 0.05, "{}", near_1_khz(0.75));
    assert!(near_1_khz(0.25) < -80.0);
    let table = bench.run("spectrogram late.wav --format csv --size 480x320").out;
    assert!(table.starts_with("take,channel,time_s,frequency_hz,level_db\nlate.wav,1,0"));
}

/// Every frame and bin, as arrays, as a table and as a picture: the same levels in each, and the
/// phase says where a tone is between the bins.
#[test]
fn every_frame_is_given_away() {
    let bench = Bench::new();
    let sound = tone(1003.3, 0.25, 0.3, 48_000.0, 24_000);
    bench.take("tone.wav", 48_000, WavEncoding::Float, &[sound]);
    let settings =
        "--every-frame --range 900Hz..1100Hz --segment 4096 --hop 1024 --zero-pad 1 --quiet";
    for file in ["a.npz", "a.csv", "a.png"] {
        let run = bench.run(&format!("spectrogram tone.wav --data {file} {settings}"));
        assert_eq!(run.status, 0, "{}", run.err);
    }
    let column = |name| bench.array("a.npz", name).1;
    let (time, frequency) = (column("time_s"), column("frequency_hz"));
    let (shape, level) = bench.array("a.npz", "level_db");
    let (phase_shape, phase) = bench.array("a.npz", "phase_hz");
    assert_eq!(shape, [time.len(), frequency.len()]);
    assert_eq!(phase_shape, shape);
    assert!((time[12] - 12.0 * 1024.0 / 48_000.0).abs() < 1e-12);
    let nearest = frequency.iter().position(|hz| (hz - 1003.3).abs() < 5.9).expect("a bin");
    for bin in nearest - 1..=nearest + 1 {
        let hz = phase[12 * shape[1] + bin];
        assert!((hz - 1003.3).abs() < 0.01, "{hz}");
    }

    let table = std::fs::read_to_string(bench.path("a.csv")).expect("written");
    let mut lines = table.lines();
    assert_eq!(lines.next(), Some("take,channel,time_s,frequency_hz,level_db,phase_hz"));
    let row = lines.nth(12 * frequency.len() + nearest).expect("a row");
    let in_table: f32 = row.split(',').nth(4).and_then(|x| x.parse().ok()).expect("a level");
    assert_eq!(in_table, level[12 * shape[1] + nearest] as f32);

    let side = std::fs::read_to_string(bench.path("a.png.json")).expect("written");
    let scale: serde_json::Value = serde_json::from_str(&side).expect("JSON");
    let number = |key: &str| scale[key].as_f64().expect("a number");
    assert_eq!(scale["rows_time_s"].as_array().map(Vec::len), Some(time.len()));
    let file = std::io::BufReader::new(std::fs::File::open(bench.path("a.png")).expect("written"));
    let mut reader = png::Decoder::new(file).read_info().expect("a PNG");
    assert_eq!(reader.info().size(), (frequency.len() as u32, time.len() as u32));
    let mut bytes = vec![0; reader.output_buffer_size().expect("known")];
    reader.next_frame(&mut bytes).expect("a picture");
    let at = 2 * (12 * frequency.len() + nearest);
    let value = f64::from(u16::from_be_bytes([bytes[at], bytes[at + 1]]));
    let in_picture = number("lowest_level_db") + number("step_db") * value;
    assert!((in_picture - f64::from(in_table)).abs() < 0.003, "{in_picture} {in_table}");
}

/// Cuts read the level of a tone; the onset stands where it begins; side by side and as a
/// waterfall.
#[test]
fn cuts_onsets_and_other_looks() {
    let bench = Bench::new();
    bench.take("late.wav", 48_000, WavEncoding::Float, &[late_tone()]);
    let run = bench.run(
        "spectrogram late.wav --from 0.2 --slice 0.75s --slice 1kHz --onsets --format json --figure a.svg",
    );
    assert_eq!(run.status, 0, "{}", run.err);
    let json: serde_json::Value = serde_json::from_str(&run.out).expect("JSON");
    let [at_time, at_frequency] = [0, 1].map(|n| json["result"]["slices"][n].clone());
    let best = |slice: &serde_json::Value, along: &str| {
        let levels = slice["level_db"].as_array().expect("levels");
        let level = |n: &usize| levels[*n].as_f64().unwrap_or(f64::MIN);
        let best = (0..levels.len()).max_by(|a, b| level(a).total_cmp(&level(b))).expect("some");
        (level(&best), slice[along][best].as_f64().expect("a place"))
    };
    let (level, hz) = best(&at_time, "frequency_hz");
    assert!((level + 12.04).abs() < 0.05 && (hz / 1000.0).ln().abs() < 0.01, "{level} {hz}");
    assert!((at_time["at_s"].as_f64().expect("a time") - 0.75).abs() < 1e-9);
    let (level, time) = best(&at_frequency, "time_s");
    assert!((level + 12.04).abs() < 0.1 && time > 0.5, "{level} {time}");
    let onsets = json["result"]["onsets_s"].as_array().expect("onsets");
    assert!(onsets.len() == 1 && (onsets[0].as_f64().expect("a time") - 0.5).abs() < 0.01);
    let svg = std::fs::read_to_string(bench.path("a.svg")).expect("drawn");
    assert!(["0.750 s", "1000.0 Hz", "onset", "Level, dB"].iter().all(|text| svg.contains(text)));

    let run = bench.run("spectrogram late.wav late.wav --beside --figure b.svg --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let svg = std::fs::read_to_string(bench.path("b.svg")).expect("drawn");
    assert_eq!(svg.matches("Time, s").count(), 2);
    assert_eq!(svg.matches("Frequency, Hz").count(), 1);
    let run = bench.run("spectrogram late.wav --waterfall --figure c.svg --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let svg = std::fs::read_to_string(bench.path("c.svg")).expect("drawn");
    assert!(svg.contains("Time, s") && svg.contains("Level, dB re full scale"));
    let run = bench.run("spectrogram late.wav late.wav --waterfall --figure d.svg");
    assert_eq!((run.status, bench.path("d.svg").exists()), (2, false), "{}", run.err);
}

/// Whatever the number of threads, the same bytes.
/// A tone cut and joined a third of a turn later: the level hardly shows it, the phase does, in the
/// numbers and in the picture.
#[test]
fn a_cut_shows_in_the_phase() {
    let bench = Bench::new();
    let mut sound = tonemap_core::synth::sine(1000.0, 0.25, 0.0, 48_000.0, 96_000);
    let joined = tonemap_core::synth::sine(1000.0, 0.25, 2.0, 48_000.0, 96_000);
    sound[48_000..].copy_from_slice(&joined[48_000..]);
    bench.take("cut.wav", 48_000, WavEncoding::Float, &[sound]);
    let made = bench.json(
        "spectrogram cut.wav --show phase --range 500Hz..2kHz --data a.npz --size 900x600 \
         --figure a.png --format json --quiet",
    );
    assert!(made["settings"]["phase_step_s"].as_f64().is_some_and(|step_s| step_s > 0.005));
    let column = |name| bench.array("a.npz", name).1;
    let (time, frequency) = (column("time_s"), column("frequency_hz"));
    let (shape, phase) = bench.array("a.npz", "phase_deg");
    assert_eq!(shape, [time.len(), frequency.len()]);
    let row = frequency.iter().position(|hz| *hz > 1000.0).expect("a row");
    let of = |from: f64, to: f64| -> Vec<f64> {
        let columns = (0..time.len()).filter(|n| (from..to).contains(&time[*n]));
        columns.map(|n| phase[n * shape[1] + row]).collect()
    };
    let spread = |values: &[f64]| {
        let (low, high) =
            values.iter().fold((360.0f64, -360.0f64), |(low, high), x| (low.min(*x), high.max(*x)));
        high - low
    };
    let (steady, cut) = (spread(&of(0.2, 0.8)), spread(&of(0.95, 1.05)));
    assert!(steady < 0.01 && cut > 8.0, "{steady} {cut}");
    let table = bench.run("spectrogram cut.wav --show phase --format csv --size 480x320").out;
    assert!(table.starts_with("take,channel,time_s,frequency_hz,level_db,phase_deg\n"));
}

#[test]
fn threads_change_nothing() {
    let bench = Bench::new();
    let sound = to_samples(&white_noise(9, 0.1, 480_000));
    bench.take("noise.wav", 48_000, WavEncoding::Integer(24), &[sound]);
    let drawn = |threads: &str, look: &[&str]| -> Vec<u8> {
        let name = format!("{threads}{}.png", look.len());
        let run = assert_cmd::Command::cargo_bin("tonemap")
            .expect("the program is built")
            .current_dir(bench.path("."))
            .env("RAYON_NUM_THREADS", threads)
            .args(["spectrogram", "noise.wav", "--figure", &name, "--quiet"])
            .args(look)
            .output()
            .expect("runs");
        assert!(run.status.success());
        std::fs::read(bench.path(&name)).expect("drawn")
    };
    for look in [&["--pool", "power"][..], &["--sharpen"][..], &["--show", "phase", "--beside"][..]]
    {
        let [one, two, eight] = ["1", "2", "8"].map(|threads| drawn(threads, look));
        assert!(one == two && two == eight, "{look:?}");
    }
}

#[test]
fn requests_that_make_no_sense_are_refused() {
    let bench = Bench::new();
    bench.take("late.wav", 48_000, WavEncoding::Float, &[late_tone()]);
    for (arguments, status, reason) in [
        ("--range 30kHz..40kHz", 2, "half the sample rate"),
        ("--from 0.5 --to 0.5", 1, "empty"),
        ("--size 100000x100000 --figure a.png", 2, "8000x8000"),
        ("--time 0s", 2, "10 us"),
        ("--floor 0dB --ceiling -20dB", 2, "two levels that rise"),
        ("--colours rainbow", 2, "ember, lagoon or grey"),
        ("--data a.txt", 2, "FILE.npz"),
        ("--every-frame", 2, "--data"),
        ("--slice 1.5", 2, "1.25s"),
        ("--show phase --slice 1s", 2, "--slice"),
        ("--slice 9s", 2, "within the span"),
        ("--slice 30kHz", 2, "within the picture"),
    ] {
        let run = bench.run(&format!("spectrogram late.wav {arguments}"));
        assert_eq!(run.status, status, "{arguments}: {}", run.err);
        assert!(run.err.contains(reason), "{arguments}: {}", run.err);
    }
    assert_eq!(bench.files(), ["late.wav"]);
}
