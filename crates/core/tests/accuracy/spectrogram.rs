//! The spectrogram's cells against known truth.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::frame::FrameSettings;
use tonemap_core::spectrogram::{
    FrequencyAxis, Pooling, Spectrogram, SpectrogramSettings, phases, spectrogram,
};
use tonemap_core::synth;
use tonemap_core::units::Extent;
use tonemap_core::window::WindowKind;

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    tones_have_their_level_and_place_on_every_axis,
    sharpened_glides_are_lines,
    phases_go_on_and_break_where_a_tone_does,
];

const RATE_HZ: f64 = 48_000.0;

const AXES: [FrequencyAxis; 4] =
    [FrequencyAxis::Linear, FrequencyAxis::Logarithmic, FrequencyAxis::Bark, FrequencyAxis::Mel];

fn made(samples: &[f32], settings: &SpectrogramSettings) -> Spectrogram {
    spectrogram(samples, RATE_HZ, settings).expect("made")
}

fn level_db(power: f32) -> f64 {
    10.0 * f64::from(power).log10()
}

/// The greatest cell of the middle column: its level and the frequency of its row.
fn strongest(picture: &Spectrogram) -> (f64, f64) {
    let column = picture.column(picture.plan.columns / 2);
    let rows = picture.plan.row_hz();
    let best = (0..column.len()).max_by(|a, b| column[*a].total_cmp(&column[*b])).expect("rows");
    (level_db(column[best]), rows[best])
}

#[test]
pub(crate) fn tones_have_their_level_and_place_on_every_axis() {
    for axis in AXES {
        let errors = in_parallel(trials(20, 40), |seed| {
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let hz = 40.0 * 400f64.powf(random.random::<f64>());
            let level = random.random_range(-60.0..0.0);
            let tone = synth::sine(hz, 10f64.powf(level / 20.0), 0.3, RATE_HZ, 96_000);
            let window = [WindowKind::BlackmanHarris, WindowKind::Hann, WindowKind::FlatTop];
            let settings = SpectrogramSettings {
                axis,
                frames: FrameSettings {
                    window: window[seed as usize % 3],
                    resolution_hz: Some(random.random_range(5.0..12.0)),
                    ..FrameSettings::default()
                },
                size: (200, random.random_range(100..700)),
                ..SpectrogramSettings::default()
            };
            let picture = made(&tone, &settings);
            let (found, at) = strongest(&picture);
            let edges = &picture.plan.edges_hz;
            let row = edges.partition_point(|edge| *edge <= hz);
            let spacing = picture.plan.frames.bin_spacing_hz(RATE_HZ);
            let width = (edges[row.min(edges.len() - 1)] - edges[row - 1]).max(spacing);
            assert!((at - hz).abs() <= width, "{axis:?}: {at} Hz, not {hz} Hz");
            found - level
        });
        let name = format!("level of a tone in a spectrogram, {axis:?} axis");
        Accuracy::all_bare(name, "dB", errors).hold(0.0025);
    }
}

#[test]
fn low_notes_leave_no_holes_and_are_told_apart() {
    let mut sound = synth::sine(30.0, 0.1, 0.0, RATE_HZ, 96_000);
    let other = synth::sine(60.0, 0.05, 0.0, RATE_HZ, 96_000);
    sound.iter_mut().zip(&other).for_each(|(x, y)| *x += y);
    let settings = SpectrogramSettings {
        frames: FrameSettings { resolution_hz: Some(5.0), ..FrameSettings::default() },
        range_hz: Some((20.0, 24_000.0)),
        size: (100, 700),
        ..SpectrogramSettings::default()
    };
    let picture = made(&sound, &settings);
    let column = picture.column(picture.plan.columns / 2);
    assert!(column.iter().all(|power| *power > 0.0), "a hole");
    let rows = picture.plan.row_hz();
    for (hz, level) in [(30.0, -20.0), (60.0, -26.0206)] {
        let near = (0..rows.len()).filter(|row| (rows[*row] / hz).log2().abs() < 0.2);
        let found = near.map(|row| level_db(column[row])).fold(f64::MIN, f64::max);
        assert!((found - level).abs() < 0.05, "{hz} Hz: {found}");
    }
    let between = (0..rows.len()).find(|row| rows[*row] > 44.0).expect("a row");
    assert!(level_db(column[between]) < -60.0);
}

#[test]
fn a_click_is_seen_however_many_frames_share_a_column() {
    let mut sound = synth::to_samples(&synth::white_noise(1, 1e-4, 48_000 * 60));
    sound[1_000_003] = 0.9;
    let frames = FrameSettings {
        segment: Some(Extent::Samples(4096)),
        hop: Some(Extent::Samples(1024)),
        ..FrameSettings::default()
    };
    let settings = SpectrogramSettings { frames, size: (100, 200), ..Default::default() };
    let picture = made(&sound, &settings);
    let loudness: Vec<f32> =
        (0..picture.plan.columns).map(|n| picture.column(n).iter().sum()).collect();
    let loudest = (0..100).max_by(|a, b| loudness[*a].total_cmp(&loudness[*b])).expect("columns");
    assert!((picture.plan.time_s(loudest) - 1_000_003.0 / RATE_HZ).abs() < 0.4);
    // The range is that of the noise all the same.
    let (low, high) = picture.usual_range_db().expect("no silence");
    let noise = 10.0 * (4.0 * 1e-8 * 2.004_f64 / 4096.0).log10();
    assert!(high < noise + 25.0 && low < noise, "{low} {high} {noise}");
}

#[test]
fn mean_power_keeps_the_level_of_noise() {
    let sound = synth::to_samples(&synth::white_noise(1, 0.1, 48_000 * 20));
    let frames = FrameSettings { segment: Some(Extent::Samples(4096)), ..FrameSettings::default() };
    for axis in AXES {
        let settings = SpectrogramSettings {
            frames,
            axis,
            pooling: Pooling::Power,
            size: (50, 100),
            range_hz: Some((50.0, 20_000.0)),
            ..SpectrogramSettings::default()
        };
        let picture = made(&sound, &settings);
        let inner: Vec<f64> =
            (2..48).flat_map(|n| picture.column(n).to_vec()).map(f64::from).collect();
        let mean = inner.iter().sum::<f64>() / inner.len() as f64;
        // 4·σ²·noise bandwidth / L.
        let truth = 4.0 * 0.01 * 2.004_353 / 4096.0;
        assert!((10.0 * (mean / truth).log10()).abs() < 0.1, "{axis:?} {}", mean / truth);
    }
}

#[test]
fn a_frame_is_a_column_where_there_are_few() {
    let sound = synth::sine(1000.0, 0.5, 0.0, RATE_HZ, 4800);
    let frames = FrameSettings {
        segment: Some(Extent::Samples(1024)),
        hop: Some(Extent::Samples(256)),
        ..FrameSettings::default()
    };
    let settings = SpectrogramSettings { frames, ..SpectrogramSettings::default() };
    let picture = made(&sound, &settings);
    assert_eq!(picture.plan.columns, 20);
    assert!((picture.plan.time_s(7) - 7.0 * 256.0 / RATE_HZ).abs() < 1e-12);
    // Half of the first frame lies before the span.
    let (first, middle) = (picture.column(0), picture.column(10));
    let greatest = |column: &[f32]| column.iter().copied().fold(0.0, f32::max);
    assert!((level_db(greatest(first)) - level_db(greatest(middle)) + 6.02).abs() < 0.6);
    // 512 samples to either side of a frame's middle: frames 2 to 16 of 4800 samples.
    assert_eq!(picture.plan.whole_columns(), 2..17);
}

#[test]
fn pictures_that_cannot_be_are_refused() {
    let sound = vec![0.1; 4800];
    let refused = |settings: SpectrogramSettings| spectrogram(&sound, RATE_HZ, &settings).is_err();
    let usual = SpectrogramSettings::default();
    assert!(refused(SpectrogramSettings { size: (4, 100), ..usual }));
    assert!(refused(SpectrogramSettings { size: (100, 100_000), ..usual }));
    assert!(refused(SpectrogramSettings { range_hz: Some((100.0, 30_000.0)), ..usual }));
    assert!(refused(SpectrogramSettings { range_hz: Some((500.0, 400.0)), ..usual }));
    assert!(spectrogram(&[0.0; 10], RATE_HZ, &usual).is_err());
}

#[test]
fn blocks_of_any_length_give_the_same_picture() {
    use std::sync::Arc;
    use tonemap_core::spectrogram::{ColumnAnalyser, SpectrogramPass, SpectrogramPlan};
    let sound = synth::to_samples(&synth::white_noise(2, 0.1, 100_000));
    for size in [(40, 64), (4000, 64)] {
        let settings = SpectrogramSettings { size, ..SpectrogramSettings::default() };
        let whole = made(&sound, &settings);
        let plan = Arc::new(SpectrogramPlan::new(&settings, RATE_HZ, 100_000).expect("planned"));
        let mut pass = SpectrogramPass::new(plan.clone());
        let mut analyser = ColumnAnalyser::new(plan.clone());
        let mut power = vec![0.0; plan.columns * plan.rows()];
        for block in sound.chunks(7777) {
            pass.push(block);
            let ready = pass.ready();
            for column in ready.clone() {
                let cells = &mut power[column * 64..(column + 1) * 64];
                analyser.column(column, pass.samples(column), cells);
            }
            pass.let_go(ready.end);
        }
        assert!(pass.rest().is_empty());
        assert_eq!(power, whole.power);
    }
}

#[test]
fn resolution_and_time_are_traded_openly() {
    let sound = vec![0.0; 48_000];
    let by_time = SpectrogramSettings { time_s: Some(0.01), ..SpectrogramSettings::default() };
    let picture = made(&sound, &by_time);
    assert!((picture.plan.blur_s() / 0.01 - 1.0).abs() < 0.01 && picture.plan.findings.is_empty());
    let frames = FrameSettings { resolution_hz: Some(20.0), ..FrameSettings::default() };
    let picture = made(&sound, &SpectrogramSettings { frames, ..by_time });
    assert_eq!(picture.plan.findings[0].code, "time_not_reached");
    let both = SpectrogramSettings { frames, time_s: Some(0.1), ..by_time };
    assert!(made(&sound, &both).plan.findings.is_empty());
}

/// A glide of one octave a second at 40 dB SNR: the energy lies on its line.
#[test]
pub(crate) fn sharpened_glides_are_lines() {
    use std::sync::Arc;
    use tonemap_core::spectrogram::{SharpAnalyser, SpectrogramPlan};
    let glides = in_parallel(trials(8, 16), |seed| {
        let (mut hz_squares, mut s_squares, mut weights) = (0.0, 0.0, 0.0);
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let from = random.random_range(200.0..2000.0);
        let line = format!("tone frequency={from}Hz glide={}Hz level=-10dB", 4.0 * from);
        let noise = format!("noise level={}dB", -50.0);
        let voices = [line, noise]
            .map(|line| synth::Voice::from_line(&line, 440.0).expect("a voice"))
            .to_vec();
        let recipe = synth::Recipe { voices, sample_rate_hz: RATE_HZ, duration_s: 2.0, seed };
        let mut sound = vec![0.0; 96_000];
        recipe.player().expect("plays").play(&mut sound).expect("played");
        let sound = synth::to_samples(&sound);
        let frames = FrameSettings {
            segment: Some(Extent::Samples(2048)),
            hop: Some(Extent::Samples(512)),
            ..FrameSettings::default()
        };
        let settings = SpectrogramSettings { frames, size: (400, 400), ..Default::default() };
        let plan = Arc::new(SpectrogramPlan::new(&settings, RATE_HZ, 96_000).expect("planned"));
        let mut analyser = SharpAnalyser::new(plan.clone());
        for column in 10..plan.columns - 10 {
            let needed = plan.samples_of(column);
            let mut moved = Vec::new();
            analyser.column(column, &sound[needed.start as usize..needed.end as usize], &mut moved);
            for part in moved {
                let (t, hz, power) =
                    (f64::from(part.time_s), f64::from(part.frequency_hz), f64::from(part.power));
                let off_hz = hz - from * t.exp2();
                // The noise between is not the glide.
                if power < 1e-6 || off_hz.abs() > 60.0 {
                    continue;
                }
                let off_s = off_hz / (from * t.exp2() * std::f64::consts::LN_2);
                hz_squares += power * off_hz * off_hz;
                s_squares += power * off_s * off_s;
                weights += power;
            }
        }
        ((hz_squares / weights).sqrt(), 1e3 * (s_squares / weights).sqrt())
    });
    let (hz, ms): (Vec<f64>, Vec<f64>) = glides.into_iter().unzip();
    let name = "sharpened glide of an octave a second";
    Accuracy::all_bare(format!("{name}, frequency"), "Hz", hz).hold(0.076);
    Accuracy::all_bare(format!("{name}, time"), "ms", ms).hold(0.061);
}

#[test]
fn sharpened_tones_and_clicks_stand_where_they_are() {
    use tonemap_core::spectrogram::sharpened;
    let mut sound = synth::sine(1000.0, 0.1, 0.0, RATE_HZ, 48_000);
    sound[24_000] += 0.9;
    let settings = SpectrogramSettings {
        axis: FrequencyAxis::Linear,
        size: (500, 500),
        range_hz: Some((0.0, 10_000.0)),
        ..SpectrogramSettings::default()
    };
    let picture = sharpened(&sound, RATE_HZ, &settings).expect("made");
    let plan = &picture.plan;
    let rows = plan.row_hz();
    // The tone, away from the click, in one row with its level.
    let column = picture.column(100);
    let best = (0..500).max_by(|a, b| column[*a].total_cmp(&column[*b])).expect("rows");
    assert!((rows[best] - 1000.0).abs() <= 20.0, "{}", rows[best]);
    let around: f32 = column[best - 1..=best + 1].iter().sum();
    assert!((level_db(around) + 20.0).abs() < 0.1, "{}", level_db(around));
    // The click, at a frequency without a tone, in one column.
    let row = rows.iter().position(|hz| *hz > 5000.0).expect("a row");
    let at = (0..plan.columns)
        .max_by(|a, b| picture.column(*a)[row].total_cmp(&picture.column(*b)[row]));
    let at = plan.time_s(at.expect("columns"));
    assert!((at - 0.5).abs() < 0.003, "{at}");
}

/// A tone keeps the phase that its distance from the bin gives it; where it is cut and joined, what
/// it leaves that by adds up to the angle it was turned by, at the same level.
#[test]
pub(crate) fn phases_go_on_and_break_where_a_tone_does() {
    let wrapped = |degrees: f64| degrees - 360.0 * (degrees / 360.0).round();
    let errors = in_parallel(trials(40, 200), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(900 + seed);
        let hz = 60.0 * 200f64.powf(random.random::<f64>());
        let turned_deg = random.random_range(-150.0..150.0f64);
        let begin = random.random_range(0.0..6.0);
        let turned = begin + turned_deg.to_radians();
        let mut sound = synth::sine(hz, 0.3, begin, RATE_HZ, 96_000);
        let after = synth::sine(hz, 0.3, turned, RATE_HZ, 96_000);
        let cut = random.random_range(40_000..56_000);
        sound[cut..].copy_from_slice(&after[cut..]);
        let noise = synth::to_samples(&synth::white_noise(seed, 0.3e-3, 96_000));
        sound.iter_mut().zip(noise).for_each(|(x, noise)| *x += noise);
        // A column for each frame, a row for each bin.
        let frames = FrameSettings {
            segment: Some(Extent::Samples(2048)),
            hop: Some(Extent::Samples(random.random_range(96..512))),
            zero_pad: Some(1.0),
            ..FrameSettings::default()
        };
        let settings = SpectrogramSettings {
            frames,
            axis: FrequencyAxis::Linear,
            size: (2000, 4000),
            ..SpectrogramSettings::default()
        };
        let (plan, phases) = phases(&sound, RATE_HZ, &settings).expect("made");
        assert_eq!(plan.columns as u64, plan.frame_count);
        let (hop, bin_hz) = (plan.frames.hop as f64, RATE_HZ / 2048.0);
        let step_s = plan.phase_step_s().expect("phases");
        assert!((step_s * RATE_HZ / 256.0 - 1.0).abs() < 1.0, "{step_s}");
        let bin = (hz / bin_hz).round();
        let row = plan.row_hz().iter().position(|row| (row / bin_hz).round() == bin);
        let at = |column: usize| f64::from(phases[column * plan.rows() + row.expect("a row")]);
        assert!(at(0).is_nan(), "the first frame has none before it");
        let truth = wrapped(360.0 * (hz - bin * bin_hz) * step_s);
        let steady = wrapped(at(plan.column_at(0.3)) - truth);
        let across =
            (cut as f64 - 1100.0) / hop..(cut as f64 + 1100.0) / hop + 2.0 + step_s * RATE_HZ / hop;
        let across = across.start as usize..across.end as usize;
        let across = across.step_by((step_s * RATE_HZ / hop).round() as usize);
        let broken: f64 = across.map(|column| wrapped(at(column) - truth)).sum();
        (steady, wrapped(broken - turned_deg))
    });
    let of = |which: fn(&(f64, f64)) -> f64| errors.iter().map(which).collect::<Vec<_>>();
    Accuracy::all_bare("phase of a steady tone at 57 dB", "deg", of(|e| e.0)).hold(0.005);
    Accuracy::all_bare("angle at a cut, from the phases across it", "deg", of(|e| e.1)).hold(0.01);
}
