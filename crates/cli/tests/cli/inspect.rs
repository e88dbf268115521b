use serde::Deserialize;
use tonemap_core::synth;
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
    correlations: Vec<Option<f64>>,
    regions: Vec<Region>,
    onsets_s: Vec<f64>,
    died_s: Option<f64>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Region {
    start_s: f64,
    end_s: f64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Channel {
    name: String,
    peak_dbfs: Option<f64>,
    true_peak_dbfs: Option<f64>,
    rms_dbfs: Option<f64>,
    crest_db: Option<f64>,
    loudest_dbfs: Option<f64>,
    dc_offset: f64,
    bits_used: Option<u32>,
    clipped_samples: u64,
    flat_top_dbfs: Option<f64>,
    clips: Vec<Clip>,
    noise_floor_dbfs: Option<f64>,
    dynamic_range_db: Option<f64>,
    bandwidth_hz: Option<f64>,
    band_edge_db: Option<f64>,
    hum: Option<Hum>,
    click_count: u64,
    clicks_s: Vec<f64>,
    dropout_count: u64,
    dropouts: Vec<Region>,
    period: Option<Period>,
    full_scale_db: Option<f64>,
    rms_db: Option<f64>,
    loudest_db: Option<f64>,
    noise_floor_db: Option<f64>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Hum {
    mains_hz: f64,
    level_dbfs: f64,
    lines_hz: Vec<f64>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
#[expect(dead_code, clippy::struct_field_names, reason = "the keys are what is tested")]
struct Period {
    from_s: f64,
    to_s: f64,
    periods: u32,
    period_s: f64,
    period_s_u: f64,
    frequency_hz: f64,
    frequency_hz_u: f64,
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
    assert_eq!((left.clipped_samples, left.flat_top_dbfs, left.bits_used), (8, None, Some(24)));
    assert!(left.crest_db.is_some_and(|crest| (crest - 9.03).abs() < 0.01));
    assert!(left.true_peak_dbfs >= left.peak_dbfs && left.loudest_dbfs >= left.rms_dbfs);
    assert_eq!((left.full_scale_db, left.rms_db, left.noise_floor_db), (None, None, None));
    assert_eq!((left.loudest_db, left.period.is_none(), left.hum.is_none()), (None, true, true));
    assert_eq!((left.clips.len(), left.clips[0].samples), (2, 5));
    assert!((left.clips[0].start_s - 1000.0 / 48_000.0).abs() < 1e-12);
    assert!((left.clips[1].end_s - 30_003.0 / 48_000.0).abs() < 1e-12);
    assert_eq!((right.peak_dbfs, right.rms_dbfs), (None, None), "silence has no level");
    assert_eq!(right.noise_floor_dbfs.or(right.bandwidth_hz).or(right.dynamic_range_db), None);
    assert_eq!((result.correlations.as_slice(), result.died_s), (&[None][..], None));
    assert_eq!(result.onsets_s.first(), Some(&0.0));
    assert!(codes(&json).starts_with(&["clipped"]) && codes(&json).contains(&"silent"));
}

/// A string of the harp from 0.5 s to where it is cut off at 4 s, and noise to 5 s.
fn string_in_noise(noise_rms: f64) -> Vec<f64> {
    let mut sound = synth::white_noise(5, noise_rms, 240_000);
    let mut string = synth::PluckedString::default().render(48_000.0, 3.5);
    synth::fade(&mut string, 0.002, 48_000.0);
    synth::mix(&mut sound[24_000..], &string);
    sound
}

fn inspected(bench: &Bench, name: &str, sound: &[f64]) -> (InspectResult, serde_json::Value) {
    bench.take(name, 48_000, WavEncoding::Integer(24), &[synth::to_samples(sound)]);
    let json = bench.json(&format!("inspect {name} --format json --quiet"));
    (serde_json::from_value(json["result"].clone()).expect("the schema"), json)
}

#[test]
fn the_noise_the_sound_and_its_beginning_are_found() {
    let bench = Bench::new();
    let (result, json) = inspected(&bench, "string.wav", &string_in_noise(1e-4));
    let channel = &result.channels[0];
    // 1e-4 RMS is −76.99 dBFS.
    assert!(channel.noise_floor_dbfs.is_some_and(|db| (db + 76.99).abs() < 1.0));
    assert!(channel.band_edge_db.is_none() && channel.hum.is_none());
    assert!(channel.dynamic_range_db.is_some_and(|db| db > 50.0));
    let [Region { start_s, end_s }] = result.regions[..] else { panic!("one region") };
    assert!((start_s - 0.5).abs() < 0.02 && (end_s - 4.0).abs() < 0.02, "{start_s} {end_s}");
    assert_eq!(result.died_s, Some(end_s));
    assert!(matches!(result.onsets_s[..], [onset_s] if (onset_s - 0.5).abs() < 0.01));
    assert_eq!(codes(&json), [""; 0]);
    let text = bench.run("inspect string.wav").out;
    for wanted in ["sounding 0.500 to", "onsets 0.50", "died into the noise at 4.0"] {
        assert!(text.contains(wanted), "{wanted} in\n{text}");
    }
}

#[test]
fn hum_clicks_and_dropouts_are_told_with_what_to_do() {
    let bench = Bench::new();
    let mut sound = string_in_noise(1e-5);
    let hum = synth::harmonics(50.02, &[2.5e-4, 0.0, 2e-4]);
    synth::mix(&mut sound, &synth::render(&hum, synth::Vibrato::default(), 48_000.0, 5.0));
    sound[100_000] += 0.2;
    sound[60_000..60_500].fill(0.0);
    let (result, json) = inspected(&bench, "poor.wav", &sound);
    let channel = &result.channels[0];
    let hum = channel.hum.as_ref().expect("hum");
    assert!((hum.level_dbfs + 69.9).abs() < 1.0 && (hum.mains_hz - 50.02).abs() < 0.05);
    assert!(!hum.lines_hz.is_empty());
    assert_eq!(
        (channel.click_count, channel.clicks_s.as_slice()),
        (1, &[100_000.0 / 48_000.0][..])
    );
    assert_eq!(channel.dropout_count, 1);
    let dropout = &channel.dropouts[0];
    assert_eq!((dropout.start_s, dropout.end_s), (1.25, 60_500.0 / 48_000.0));
    assert_eq!(codes(&json), ["hum", "clicks", "dropouts"]);
    let table = bench.run("inspect poor.wav --format csv").out;
    assert!(table.trim_end().ends_with(",0,1,1,1,1,hum clicks dropouts"), "{table}");
}

#[test]
fn a_copy_that_lost_its_treble_is_found_out() {
    let bench = Bench::new();
    let sound = synth::low_passed(&string_in_noise(3e-5), 16_000.0, 48_000.0);
    let (result, json) = inspected(&bench, "copy.wav", &sound);
    let bandwidth_hz = result.channels[0].bandwidth_hz.expect("a bandwidth");
    assert!((bandwidth_hz - 16_000.0).abs() < 300.0, "{bandwidth_hz}");
    assert_eq!(codes(&json), ["lossy_like"]);
}

#[test]
fn a_short_span_tells_the_period() {
    let bench = Bench::new();
    bench.take("a.wav", 48_000, WavEncoding::Integer(24), &[sine(440.0)]);
    let json = bench.json("inspect a.wav --from 0.2 --to 0.21 --format json");
    let period = &json["result"]["channels"][0]["period"];
    assert!((period["frequency_hz"].as_f64().expect("a period") - 440.0).abs() < 0.01);
    assert_eq!(period["periods"].as_u64(), Some(3));
    let text = bench.run("inspect a.wav --from 0.2 --to 0.21").out;
    assert!(text.contains("3 periods between the rising zero crossings at"), "{text}");
    let text = bench.run("inspect a.wav --from 0.2 --to 0.202").out;
    assert!(text.contains("no period: the span needs 1.4 periods"), "{text}");
}

#[test]
fn more_than_four_gigabytes_are_read_in_the_memory_of_a_few() {
    use std::io::{Seek, Write};
    let bench = Bench::new();
    // RF64 with a sparse data chunk: 24-bit mono, 5 GiB of silence with one sample at the end.
    let bytes: u64 = 5 << 30;
    let frames = bytes / 3;
    let mut head = b"RF64\xFF\xFF\xFF\xFFWAVEds64\x1c\0\0\0".to_vec();
    for number in [bytes + 72, frames * 3, frames] {
        head.extend(number.to_le_bytes());
    }
    head.extend(0u32.to_le_bytes());
    head.extend(b"fmt \x10\0\0\0\x01\0\x01\0");
    head.extend(48_000u32.to_le_bytes());
    head.extend(144_000u32.to_le_bytes());
    head.extend(b"\x03\0\x18\0data\xFF\xFF\xFF\xFF");
    let mut file = std::fs::File::create(bench.path("long.wav")).expect("created");
    file.write_all(&head).expect("written");
    file.seek(std::io::SeekFrom::Current((frames * 3 - 3) as i64)).expect("sparse");
    file.write_all(&[0, 0, 0x40]).expect("written");
    // The last minute: the sample is where it should be.
    let from_s = frames as f64 / 48_000.0 - 60.0;
    let json = bench.json(&format!("inspect long.wav --from {from_s} --quiet --format json"));
    assert_eq!(json["result"]["container"].as_str(), Some("RF64"));
    let duration_s = json["result"]["duration_s"].as_f64().expect("a duration");
    assert!((duration_s - frames as f64 / 48_000.0).abs() < 1e-9);
    let peak = json["result"]["channels"][0]["peak_dbfs"].as_f64().expect("a peak");
    assert!((peak + 6.02).abs() < 0.01, "{peak}");
}

#[test]
fn text_is_a_table_with_findings_last() {
    let bench = Bench::new();
    bench.take("take.wav", 48_000, WavEncoding::Integer(24), &clipped_stereo());
    bench.take("good.wav", 44_100, WavEncoding::Float, &[sine(440.0)]);
    let run = bench.run("inspect take.wav good.wav --quiet");
    assert_eq!((run.status, run.err.as_str()), (0, ""));
    for wanted in [
        "take.wav\n  WAV, PCM 24-bit, 48 000 Hz, 2 channels, 1.000 s (48 000 samples)",
        "noise  range  bandwidth",
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
    assert!(run.err.contains("a figure is of one take"), "{}", run.err);
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
