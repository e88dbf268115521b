use serde::Deserialize;
use serde_json::Value;
use tonemap_core::synth::{self, mix, to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, sine};

/// The result as programs rely on it; an unknown key is a fault.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct SpectrumResult {
    window: String,
    window_s: f64,
    transform_size: usize,
    averaging: String,
    averaged_frames: u64,
    bin_spacing_hz: f64,
    resolution_hz: f64,
    noise_bandwidth_hz: f64,
    independent_frames: Option<f64>,
    scaling: String,
    unit: String,
    noise_floor_db: Option<f64>,
    weaker_peaks: usize,
    peaks: Vec<Peak>,
    families: Vec<Family>,
    power_10_hz: f64,
    power_50_hz: f64,
    power_90_hz: f64,
    phase_instant_s: f64,
    #[serde(default)]
    differences: Vec<Value>,
    around: Option<Value>,
    curve: Option<Curve>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(dead_code, reason = "they stand for the schema")]
struct Family {
    fundamental_hz: f64,
    fundamental_hz_u: f64,
    fundamental_present: bool,
    spacing_hz: f64,
    inharmonicity: f64,
    inharmonicity_u: Option<f64>,
    note: String,
    cents: f64,
    strongest_number: u32,
    members: Vec<Value>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Peak {
    frequency_hz: f64,
    frequency_hz_u: f64,
    level_db: f64,
    level_db_u: f64,
    amplitude: f64,
    amplitude_u: f64,
    phase_rad: Option<f64>,
    phase_rad_u: Option<f64>,
    note: String,
    cents: f64,
    cents_u: f64,
    prominence_db: f64,
    width_hz: Option<f64>,
    harmonic: Option<u32>,
    beat_hz: Option<f64>,
    beat_hz_u: Option<f64>,
    beats_with_hz: Option<f64>,
    method: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Curve {
    frequency_hz: Vec<f64>,
    level_db: Vec<Option<f64>>,
    value: Vec<f64>,
    low_db: Vec<Option<f64>>,
    high_db: Vec<Option<f64>>,
    cumulative_share: Vec<f64>,
}

fn spectrum(bench: &Bench, arguments: &str) -> SpectrumResult {
    let json = bench.json(&format!("spectrum {arguments} --format json"));
    serde_json::from_value(json["result"].clone()).expect("the schema")
}

/// A sine of 440.123 Hz at 40 dB SNR, one second.
fn noisy_sine() -> Vec<f32> {
    let mut sound: Vec<f64> = sine(440.123).into_iter().map(f64::from).collect();
    mix(&mut sound, &white_noise(5, 0.5 / 2f64.sqrt() / 100.0, 48_000));
    to_samples(&sound)
}

#[test]
fn a_noisy_sine_comes_back_within_its_uncertainty() {
    let bench = Bench::new();
    bench.take("sine.wav", 48_000, WavEncoding::Float, &[noisy_sine()]);
    let result = spectrum(&bench, "sine.wav");
    let [peak] = &result.peaks[..] else { panic!("one tone, not {}", result.peaks.len()) };
    // The bound for this noise is 2.5e-5 Hz.
    assert!((peak.frequency_hz - 440.123).abs() < 3.0 * peak.frequency_hz_u);
    assert!(peak.frequency_hz_u > 1.5e-5 && peak.frequency_hz_u < 4e-5, "{}", peak.frequency_hz_u);
    assert!((peak.level_db + 6.0206).abs() < 3.0 * peak.level_db_u && peak.level_db_u < 0.001);
    assert!((peak.amplitude - 0.5).abs() < 3.0 * peak.amplitude_u);
    let (phase, phase_u) = (peak.phase_rad.expect("steady"), peak.phase_rad_u.expect("steady"));
    assert!((phase - 0.3).abs() < 3.0 * phase_u && phase_u < 0.001);
    assert_eq!((peak.note.as_str(), peak.method.as_str()), ("A4", "span"));
    assert!((peak.cents - 0.4839).abs() < 0.001 && peak.cents_u < 0.001);
    assert_eq!((result.window.as_str(), result.transform_size), ("blackman-harris", 25_600));
    assert!(result.resolution_hz < 5.0 && result.resolution_hz > 4.9);
    assert!((result.window_s * result.bin_spacing_hz - 1.0).abs() < 1e-9);
    let scaling = "peak amplitude, dB re full scale (full-scale sine = 0 dB)";
    assert_eq!((result.scaling.as_str(), result.unit.as_str()), (scaling, "FS"));
    assert_eq!(result.averaging, "mean");
    assert!((result.noise_bandwidth_hz - 3.758).abs() < 0.001);
    assert!(result.independent_frames.is_some_and(|frames| frames > 2.0 && frames < 3.0));
    assert!(result.power_10_hz < result.power_50_hz && result.power_50_hz < result.power_90_hz);
    assert!((result.power_50_hz - 440.1).abs() < 1.5, "{}", result.power_50_hz);
    assert!(peak.prominence_db > 40.0 && peak.harmonic.is_none() && result.families.is_empty());
    assert!(peak.width_hz.is_some_and(|width| (width / result.resolution_hz - 1.0).abs() < 0.05));
    assert!(result.differences.is_empty() && result.around.is_none());
    assert_eq!((result.averaged_frames, result.weaker_peaks, result.phase_instant_s), (3, 0, 0.0));
    // Noise of density S reads 2·S·bandwidth: S = σ²/24 kHz, bandwidth 3.758 Hz.
    let floor = 10.0 * (2.0 * 0.003_535f64.powi(2) / 24_000.0 * 3.758).log10();
    assert!(result.noise_floor_db.is_some_and(|db| (db - floor).abs() < 0.5), "{floor}");
}

#[test]
fn spans_channels_and_references_are_obeyed() {
    let bench = Bench::new();
    let mut left = sine(300.0);
    left[24_000..].copy_from_slice(&sine(700.0)[24_000..]);
    let opposite: Vec<f32> = sine(440.0).iter().map(|x| -x).collect();
    bench.take("take.wav", 48_000, WavEncoding::Integer(24), &[left, sine(440.0), opposite]);
    let first = |arguments: &str| spectrum(&bench, arguments).peaks[0].frequency_hz;
    assert!((first("take.wav --to 500ms") - 300.0).abs() < 0.01);
    assert!((first("take.wav --from 0.5") - 700.0).abs() < 0.01);
    assert!((first("take.wav --channel 2") - 440.0).abs() < 0.01);
    assert!((first("take.wav --channel mean --from 0:00.5") - 700.0).abs() < 0.01);
    let peak = &spectrum(&bench, "take.wav --channel 2 --reference 442Hz").peaks[0];
    assert!((peak.cents + 7.851).abs() < 0.01, "{}", peak.cents);
    let notes = bench.run("spectrum take.wav").err;
    assert!(notes.contains("3 channels; channel 1 is analysed"), "{notes}");
    assert_eq!(bench.run("spectrum take.wav --quiet").err, "");
}

#[test]
fn frames_follow_the_intention_or_the_hand() {
    let bench = Bench::new();
    bench.take("sine.wav", 48_000, WavEncoding::Integer(24), &[noisy_sine()]);
    let fine = spectrum(&bench, "sine.wav --resolve 4Hz --window hann");
    assert!(fine.resolution_hz <= 4.0 && fine.resolution_hz > 3.9);
    let by_hand = spectrum(
        &bench,
        "sine.wav --segment 100ms --hop 480 --transform-size 9600 --window kaiser:8",
    );
    assert_eq!((by_hand.transform_size, by_hand.averaged_frames), (9600, 91));
    let padded = spectrum(&bench, "sine.wav --segment 4800 --zero-pad 3 --overlap 50%");
    assert_eq!((padded.transform_size, padded.averaged_frames), (14_400, 19));
    let json = bench.json("spectrum sine.wav --resolve 1Hz --format json");
    assert_eq!(codes(&json), ["span_too_short"]);
    let text = json["findings"][0]["text"].as_str().expect("a text");
    assert!(text.contains("Choose a span of 2.6"), "{text}");
}

#[test]
fn ranges_and_counts_limit_what_is_reported() {
    let bench = Bench::new();
    let mut sound = sine(200.0);
    for frequency in [900.0, 1500.0, 2500.0] {
        sound.iter_mut().zip(sine(frequency)).for_each(|(x, y)| *x += y * 0.1);
    }
    bench.take("chord.wav", 48_000, WavEncoding::Integer(24), &[sound]);
    let all = spectrum(&bench, "chord.wav --curve");
    assert_eq!(all.peaks.len(), 4);
    assert!(all.peaks.windows(2).all(|pair| pair[0].frequency_hz < pair[1].frequency_hz));
    let curve = all.curve.expect("asked for");
    assert_eq!((curve.frequency_hz.len(), curve.level_db.len()), (12_801, 12_801));
    assert_eq!((curve.low_db.len(), curve.high_db.len()), (12_801, 12_801));
    assert!(curve.value.iter().all(|value| *value >= 0.0) && curve.cumulative_share.is_sorted());
    assert!(spectrum(&bench, "chord.wav").curve.is_none());
    let some = spectrum(&bench, "chord.wav --range 500Hz..2kHz --peaks 1");
    assert_eq!((some.peaks.len(), some.weaker_peaks), (1, 1));
    let table = bench.run("spectrum chord.wav --format csv").out;
    let head = "take,channel,frequency_hz,frequency_hz_u,level_db,level_db_u,amplitude";
    assert!(table.starts_with(head), "{table}");
    assert_eq!(table.lines().count(), 5);
    let curve = bench.run("spectrum chord.wav --curve --format csv --range 1kHz..1010Hz").out;
    let head =
        "take,channel,frequency_hz,level_db,value,low_db,high_db,cumulative_share,level_reference";
    assert_eq!(curve.lines().next(), Some(head));
    // Bins 534 to 538 of 1.875 Hz.
    assert_eq!(curve.lines().count(), 1 + 5);
}

#[test]
fn text_is_for_reading() {
    let bench = Bench::new();
    bench.take("sine.wav", 48_000, WavEncoding::Float, &[noisy_sine()]);
    let run = bench.run("spectrum sine.wav");
    assert_eq!((run.status, run.err.as_str()), (0, ""));
    for wanted in [
        "sine.wav\n  0.000 s to 1.000 s of 1.000 s, WAV float 32-bit, 48 000 Hz\n",
        "frequency Hz",
        "± u",
        "A4",
        "blackman-harris window of 533.3 ms, resolution 5.00 Hz",
        "3 frames averaged, 67 % overlap, bins of 1.875 Hz, noise floor −",
    ] {
        assert!(run.out.contains(wanted), "{wanted} in\n{}", run.out);
    }
    let silent = Bench::new();
    silent.take("zero.wav", 48_000, WavEncoding::Integer(16), &[vec![0.0; 48_000]]);
    let run = silent.run("spectrum zero.wav");
    assert_eq!(run.status, 0);
    assert!(run.out.contains("no tone rises above the noise"), "{}", run.out);
    assert!(run.out.contains("digital silence"), "{}", run.out);
}

#[test]
fn figures_have_axes_labels_and_the_size_asked_for() {
    let bench = Bench::new();
    bench.take("sine.wav", 48_000, WavEncoding::Float, &[noisy_sine()]);
    let run = bench.run("spectrum sine.wav --figure a.svg --size 900x600 --axis linear");
    assert_eq!(run.status, 0, "{}", run.err);
    let svg = std::fs::read_to_string(bench.path("a.svg")).expect("drawn");
    let document = roxmltree::Document::parse(&svg).expect("well-formed");
    let root = document.root_element();
    assert_eq!((root.attribute("width"), root.attribute("height")), (Some("900"), Some("600")));
    let texts: Vec<&str> = document
        .descendants()
        .filter(|node| node.has_tag_name("text"))
        .filter_map(|node| node.text().map(str::trim))
        .collect();
    for wanted in [
        "Frequency, Hz",
        "Level, dB re full scale",
        "sine.wav",
        "440.12 Hz",
        "A4 +0.5¢",
        "10\u{202f}000",
    ] {
        assert!(texts.contains(&wanted), "{wanted} in {texts:?}");
    }
    bench.run("spectrum sine.wav --figure a.png");
    let png = std::fs::read(bench.path("a.png")).expect("drawn");
    assert_eq!(png[..8], *b"\x89PNG\r\n\x1a\n");
    let side = |at: usize| u32::from_be_bytes([png[at], png[at + 1], png[at + 2], png[at + 3]]);
    assert_eq!((side(16), side(20)), (1280, 800));
}

#[test]
fn the_same_input_gives_the_same_bytes() {
    let bench = Bench::new();
    bench.take("sine.wav", 48_000, WavEncoding::Float, &[noisy_sine()]);
    for (figure, output) in [("a.png", "a.json"), ("b.png", "b.json")] {
        let run = bench.run(&format!(
            "spectrum sine.wav --curve --format json --output {output} --figure {figure}"
        ));
        assert_eq!((run.status, run.out.as_str()), (0, ""));
    }
    let same =
        |a: &str, b: &str| std::fs::read(bench.path(a)).ok() == std::fs::read(bench.path(b)).ok();
    assert!(same("a.png", "b.png") && same("a.json", "b.json"));
}

#[test]
fn clipping_and_dc_are_told_beside_the_spectrum() {
    let bench = Bench::new();
    let loud: Vec<f32> = sine(440.0).iter().map(|x| 4.0 * x + 0.05).collect();
    bench.take("loud.wav", 48_000, WavEncoding::Integer(16), &[loud]);
    let json = bench.json("spectrum loud.wav --format json");
    assert!(codes(&json).starts_with(&["clipped", "dc_offset"]), "{:?}", codes(&json));
    let run = bench.run("spectrum loud.wav --figure loud.svg");
    assert!(run.out.contains("serious [clipped]"));
    let svg = std::fs::read_to_string(bench.path("loud.svg")).expect("drawn");
    assert!(svg.contains("serious: Channel 1 is clipped"));
}

/// Harmonics 2, 3 and 4 of 110 Hz, and a tone that beats with the strongest.
fn chord() -> Vec<f32> {
    let mut sound = to_samples(&white_noise(3, 1e-4, 48_000));
    for (frequency, gain) in [(220.0, 0.2), (330.0, 0.5), (440.0, 0.1), (338.5, 0.05)] {
        sound.iter_mut().zip(sine(frequency)).for_each(|(x, y)| *x += gain * y);
    }
    sound
}

#[test]
fn the_implied_fundamental_and_the_beats_are_told() {
    let bench = Bench::new();
    bench.take("chord.wav", 48_000, WavEncoding::Float, &[chord()]);
    let result = spectrum(&bench, "chord.wav --differences 2 --sort level");
    assert!((result.families[0].fundamental_hz - 110.0).abs() < 0.01);
    let numbers: Vec<Option<u32>> = result.peaks.iter().map(|peak| peak.harmonic).collect();
    assert_eq!(numbers, [Some(3), Some(2), Some(4), None]);
    assert!(
        (result.differences[0]["difference_hz"].as_f64().expect("a number") - 110.0).abs() < 0.01
    );
    let text = bench.run("spectrum chord.wav --differences 4 --peaks 4").out;
    for wanted in [
        "3 tones are harmonics of 110.000",
        "(A2 +0.0 cents); the fundamental itself has no",
        "the strongest is harmonic 3",
        "330.00 and 338.50",
        "half below 33",
    ] {
        assert!(text.contains(wanted), "{wanted} in\n{text}");
    }
    let few = spectrum(&bench, "chord.wav --threshold -25dB");
    assert_eq!(few.peaks.len(), 2);
}

/// A string and another 1.5 Hz beside it, which frames of half a second do not resolve.
#[test]
fn two_tones_that_beat_are_resolved() {
    let bench = Bench::new();
    let mut sound: Vec<f64> = white_noise(7, 1e-3, 96_000);
    for (hz, level, phase) in [(440.0, 0.2, 0.3), (441.5, 0.1, 2.0)] {
        let tone = synth::sine(hz, level, phase, 48_000.0, 96_000);
        sound.iter_mut().zip(&tone).for_each(|(x, y)| *x += f64::from(*y));
    }
    bench.take("pair.wav", 48_000, WavEncoding::Float, &[to_samples(&sound)]);
    let peaks = spectrum(&bench, "pair.wav").peaks;
    assert_eq!(peaks.len(), 2);
    for (peak, other) in [(&peaks[0], &peaks[1]), (&peaks[1], &peaks[0])] {
        assert_eq!((peak.method.as_str(), peak.beats_with_hz), ("span", Some(other.frequency_hz)));
        let beat = peak.beat_hz.zip(peak.beat_hz_u).expect("a beat");
        assert!((beat.0 - 1.5).abs() < 4.0 * beat.1 && beat.1 < 1e-4, "{beat:?}");
    }
    let run = bench.run("spectrum pair.wav");
    assert!(run.out.contains("440.00 Hz and 441.50 Hz beat at 1.500"), "{}", run.out);
    assert!(!run.out.contains("drift") && !run.err.contains("drift"), "{}", run.err);
}

#[test]
fn a_narrow_look_tells_the_distance_from_what_was_expected() {
    let bench = Bench::new();
    bench.take("sine.wav", 48_000, WavEncoding::Float, &[noisy_sine()]);
    let result = spectrum(&bench, "sine.wav --around A4 --cents 30 --curve");
    let around = result.around.expect("asked for");
    let tone = &around["tones"][0];
    assert!((tone["cents_from_expected"].as_f64().expect("a number") - 0.4839).abs() < 0.001);
    assert_eq!(around["expected_hz"], 440.0);
    let cents = around["curve"]["cents_from_expected"].as_array().expect("a curve");
    assert!((cents[0].as_f64().expect("a number") + 30.0).abs() < 1e-9);
    assert!(result.resolution_hz < 2.7, "the whole second is one frame");
    let run = bench.run("spectrum sine.wav --around A4 --figure a.svg");
    assert!(
        run.out.contains("expected A4, 440.000 Hz; the strongest tone within 50 cents lies +0.48")
    );
    let svg = std::fs::read_to_string(bench.path("a.svg")).expect("drawn");
    assert!(svg.contains("Cents from A4, 440.000 Hz") && svg.contains("expected A4"));
    let none = bench.run("spectrum sine.wav --around A5");
    assert!(none.out.contains("no tone rises above the noise within 50 cents"), "{}", none.out);
    let table = bench.run("spectrum sine.wav --around A4 --curve --format csv").out;
    let head = "take,channel,frequency_hz,cents_from_expected,level_db,level_reference\n";
    assert!(table.starts_with(head), "{table}");
}

#[test]
fn takes_and_channels_share_a_table_and_a_figure() {
    let bench = Bench::new();
    bench.take("pair.wav", 48_000, WavEncoding::Float, &[sine(300.0), sine(301.0)]);
    bench.take("one.wav", 44_100, WavEncoding::Float, &[sine(440.0)]);
    let run = bench.run("spectrum pair.wav one.wav --channel 1 --figure a.svg");
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.contains("  take ") && run.out.contains("pair.wav, channel 1"), "{}", run.out);
    let svg = std::fs::read_to_string(bench.path("a.svg")).expect("drawn");
    assert!(svg.contains("pair.wav, channel 1, one.wav"), "the title names both");
    let lines = bench.run("spectrum pair.wav --channel all --format json").out;
    let frequencies: Vec<f64> = lines
        .lines()
        .map(|line| serde_json::from_str::<Value>(line).expect("JSON"))
        .map(|one| one["result"]["peaks"][0]["frequency_hz"].as_f64().expect("a number"))
        .collect();
    assert!((frequencies[0] - 300.0).abs() < 0.01 && (frequencies[1] - 301.0).abs() < 0.01);
    let table = bench.run("spectrum pair.wav one.wav --channel 1,mean --format csv").out;
    let places: Vec<&str> = table.lines().skip(1).map(|line| &line[..12]).collect();
    assert!(places.contains(&"pair.wav,mea"), "{places:?}");
    // One that cannot be read does not stop the others.
    let run = bench.run("spectrum one.wav none.wav");
    assert_eq!(run.status, 1);
    assert!(run.out.contains("G#4") && run.err.contains("none.wav"), "{} {}", run.out, run.err);
}

#[test]
fn curves_are_scaled_smoothed_and_corrected_as_asked() {
    let bench = Bench::new();
    bench.take("sine.wav", 48_000, WavEncoding::Float, &[noisy_sine()]);
    bench.write("mic.csv", b"frequency_hz,level_db\n# a quiet one\n100; -6\n10000 -6\n");
    let level =
        |arguments: &str| spectrum(&bench, &format!("sine.wav {arguments}")).peaks[0].level_db;
    assert!((level("--response mic.csv") - level("") - 6.0).abs() < 1e-9);
    assert!((level("--emphasis mic.csv") - level("") + 6.0).abs() < 1e-9);
    // What lies beyond the curve is told, unless it is not asked for.
    for (range, is_told) in [("20Hz..20kHz", true), ("200Hz..9kHz", false)] {
        let json = bench
            .json(&format!("spectrum sine.wav --response mic.csv --range {range} --format json"));
        assert_eq!(codes(&json).contains(&"curve_ends"), is_told, "{range}: {:?}", codes(&json));
    }
    let density = spectrum(&bench, "sine.wav --scaling density --curve --average median");
    assert_eq!((density.unit.as_str(), density.averaging.as_str()), ("FS²/Hz", "median"));
    assert!(density.scaling.starts_with("power density, dB re full-scale sine, per Hz"));
    let smooth = spectrum(&bench, "sine.wav --smooth 1/3 --curve --range 5kHz..20kHz");
    let levels: Vec<f64> =
        smooth.curve.expect("asked for").level_db.into_iter().flatten().collect();
    let spread = levels.iter().fold(f64::MIN, |a, b| a.max(*b))
        - levels.iter().fold(f64::MAX, |a, b| a.min(*b));
    assert!(spread < 1.0, "{spread}");
    let fading = spectrum(&bench, "sine.wav --average exponential:200ms --detrend line");
    assert_eq!(fading.averaging, "exponential:0.2s");
    let held = spectrum(&bench, "sine.wav --average maximum --curve");
    assert!(held.curve.expect("asked for").low_db.iter().all(Option::is_none));
    let text = bench.run("spectrum sine.wav --scaling rms").out;
    assert!(text.contains("RMS FS") && text.contains("0.3535"), "{text}");
    for wrong in [
        "--smooth 9",
        "--average sum",
        "--average exponential:0s",
        "--response none.csv",
        "--response sine.wav",
        "--unit pascal",
        "--cents 20",
        "--around A4 --cents 0",
        "--resolve A4",
        "--data curve.txt",
    ] {
        let run = bench.run(&format!("spectrum sine.wav {wrong}"));
        assert!(run.status != 0 && run.out.is_empty(), "{wrong}: {} {}", run.status, run.out);
    }
    let fine = spectrum(&bench, "sine.wav --resolve A4..A#4");
    assert!((fine.resolution_hz / (26.16 / 1.5) - 1.0).abs() < 0.05, "{}", fine.resolution_hz);
}

#[test]
fn arrays_hold_the_curve_and_the_tones() {
    let bench = Bench::new();
    bench.take("sine.wav", 48_000, WavEncoding::Float, &[noisy_sine()]);
    let run = bench.run("spectrum sine.wav --data a.npz --quiet");
    assert_eq!(run.status, 0, "{}", run.err);
    let column = |name| bench.array("a.npz", name).1;
    let (frequency, level) = (column("frequency_hz"), column("level_db"));
    assert_eq!((frequency.len(), level.len()), (12_801, 12_801));
    assert!((column("peak_frequency_hz")[0] - 440.123).abs() < 0.001);
    let strongest = (0..12_801).max_by(|a, b| level[*a].total_cmp(&level[*b])).expect("values");
    assert!((frequency[strongest] - 440.1).abs() < 1.0);
    assert_eq!(bench.run("spectrum sine.wav --data a.npz").status, 1, "it exists already");
}
