use serde::Deserialize;
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, sine};

/// The result as programs rely on it; an unknown key is a fault.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct InspectResult {
    container: String,
    codec: String,
    lossy_codec: bool,
    sample_rate_hz: f64,
    bits_per_sample: Option<u32>,
    duration_s: f64,
    channels: Vec<Channel>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Channel {
    name: String,
    peak_dbfs: Option<f64>,
    rms_dbfs: Option<f64>,
    dc_offset: f64,
    clipped_samples: u64,
    clips: Vec<Clip>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Clip {
    start_s: f64,
    end_s: f64,
    samples: u64,
}

fn clipped_stereo() -> [Vec<f32>; 2] {
    let mut left = sine(440.0);
    left[1000..1005].fill(1.0);
    left[30_000..30_003].fill(-1.0);
    [left, vec![0.0; 48_000]]
}

#[test]
fn json_tells_format_levels_and_clips() {
    let bench = Bench::new();
    bench.take("take.wav", 48_000, WavEncoding::Integer(24), &clipped_stereo());
    let json = bench.json("inspect take.wav --format json");
    assert_eq!((json["kind"].as_str(), json["schema"].as_u64()), (Some("inspect"), Some(1)));
    assert_eq!(json["take"]["blake3"].as_str().map(str::len), Some(64));
    let result: InspectResult = serde_json::from_value(json["result"].clone()).expect("the schema");
    assert_eq!((result.container.as_str(), result.codec.as_str()), ("WAV", "PCM 24-bit"));
    assert_eq!((result.sample_rate_hz, result.duration_s), (48_000.0, 1.0));
    assert_eq!((result.lossy_codec, result.bits_per_sample), (false, Some(24)));
    let [left, right] = &result.channels[..] else { panic!("two channels") };
    assert_eq!((left.name.as_str(), right.name.as_str()), ("1", "2"));
    assert!(left.peak_dbfs.is_some_and(|peak| peak.abs() < 1e-5));
    // A sine of half full scale, but for the eight samples.
    assert!(left.rms_dbfs.is_some_and(|rms| (rms + 6.02).abs() < 0.01));
    assert!(left.dc_offset.abs() < 1e-4);
    assert_eq!(left.clipped_samples, 8);
    assert_eq!((left.clips.len(), left.clips[0].samples), (2, 5));
    assert!((left.clips[0].start_s - 1000.0 / 48_000.0).abs() < 1e-12);
    assert!((left.clips[1].end_s - 30_003.0 / 48_000.0).abs() < 1e-12);
    assert_eq!((right.peak_dbfs, right.rms_dbfs), (None, None), "silence has no level");
    assert_eq!(codes(&json), ["clipped", "silent"]);
}

#[test]
fn text_is_a_table_with_findings_last() {
    let bench = Bench::new();
    bench.take("take.wav", 48_000, WavEncoding::Integer(24), &clipped_stereo());
    bench.take("good.wav", 44_100, WavEncoding::Float, &[sine(440.0)]);
    let run = bench.run("inspect take.wav good.wav");
    assert_eq!((run.status, run.err.as_str()), (0, ""));
    for wanted in [
        "take.wav\n  WAV, PCM 24-bit, 48 000 Hz, 2 channels, 1.000 s (48 000 samples)",
        "channel  peak dBFS  RMS dBFS",
        "serious [clipped]",
        "good.wav\n  WAV, float 32-bit, 44 100 Hz, 1 channel, 1.088 s",
        "nothing wrong was found",
    ] {
        assert!(run.out.contains(wanted), "{wanted} in\n{}", run.out);
    }
}

#[test]
fn several_takes_give_json_lines_and_one_csv_table() {
    let bench = Bench::new();
    bench.take("a.wav", 48_000, WavEncoding::Integer(16), &clipped_stereo());
    bench.take("b.wav", 48_000, WavEncoding::Integer(16), &[sine(440.0)]);
    let lines = bench.run("inspect a.wav b.wav --format json").out;
    assert_eq!(lines.lines().count(), 2);
    let table = bench.run("inspect a.wav b.wav --format csv").out;
    let mut rows = table.lines();
    assert!(rows.next().is_some_and(|head| head.starts_with("take,channel,container,codec")));
    assert_eq!(rows.count(), 3, "one row a channel");
}

#[test]
fn one_bad_take_does_not_stop_the_others() {
    let bench = Bench::new();
    bench.take("good.wav", 48_000, WavEncoding::Integer(16), &[sine(440.0)]);
    let run = bench.run("inspect none.wav good.wav");
    assert_eq!(run.status, 1);
    assert!(run.out.starts_with("good.wav"));
    assert!(run.err.contains("none.wav: there is no such file"), "{}", run.err);
}

#[test]
fn a_span_is_inspected_alone_and_its_clips_keep_the_time_of_the_take() {
    let bench = Bench::new();
    bench.take("take.wav", 48_000, WavEncoding::Integer(24), &clipped_stereo());
    let json = bench.json("inspect take.wav --from 0.5 --format json");
    assert_eq!(json["take"]["span"]["from_s"].as_f64(), Some(0.5));
    let clips = &json["result"]["channels"][0]["clips"];
    assert_eq!(clips.as_array().map(Vec::len), Some(1));
    assert_eq!(clips[0]["start_s"].as_f64(), Some(0.625));
    let run = bench.run("inspect take.wav --from 0.5 --to 600ms");
    assert!(run.out.contains("0.500 s to 0.600 s of 1.000 s"), "{}", run.out);
    assert!(!run.out.contains("clipped]"), "{}", run.out);
}

#[test]
fn the_figure_shows_each_channel_its_level_and_its_clips() {
    let bench = Bench::new();
    bench.take("take.wav", 48_000, WavEncoding::Integer(24), &clipped_stereo());
    let texts = |figure: &str| -> Vec<String> {
        let svg = std::fs::read_to_string(bench.path(figure)).expect("drawn");
        let document = roxmltree::Document::parse(&svg).expect("well-formed");
        let nodes = document.descendants().filter(|node| node.has_tag_name("text"));
        nodes.filter_map(|node| node.text().map(|text| text.trim().to_string())).collect()
    };
    assert_eq!(bench.run("inspect take.wav --figure all.svg").status, 0);
    let all = texts("all.svg");
    for wanted in ["take.wav", "Time, s", "RMS, dBFS", "clipped", "channel 1", "channel 2", "0.5"] {
        assert!(all.iter().any(|text| text == wanted), "{wanted} in {all:?}");
    }
    assert!(all.iter().any(|text| text.starts_with("serious: Channel 1 is clipped")));
    // Single periods have no level over time.
    assert_eq!(bench.run("inspect take.wav --from 0.1 --to 0.11 --figure some.svg").status, 0);
    let some = texts("some.svg");
    assert!(some.iter().any(|text| text == "0.105"), "{some:?}");
    assert!(!some.iter().any(|text| text == "RMS, dBFS"), "{some:?}");
    let run = bench.run("inspect take.wav take.wav --figure two.png");
    assert_eq!(run.status, 2);
    assert!(run.err.contains("a figure shows one take"), "{}", run.err);
    assert_eq!(bench.files(), ["all.svg", "some.svg", "take.wav"]);
}

#[test]
fn channels_that_are_one_or_upside_down_are_told() {
    let bench = Bench::new();
    let opposite: Vec<f32> = sine(440.0).iter().map(|x| -x).collect();
    let channels = [sine(440.0), sine(440.0), opposite, sine(700.0)];
    bench.take("take.wav", 48_000, WavEncoding::Integer(24), &channels);
    let json = bench.json("inspect take.wav --format json");
    assert_eq!(codes(&json), ["identical_channels", "opposite_channels"]);
    let text = json["findings"][1]["text"].as_str().expect("a text");
    assert!(text.starts_with("Channel 3 is channel 2 upside down"), "{text}");
}
