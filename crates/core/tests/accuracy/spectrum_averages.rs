//! Averages, scalings and what is said about them, against known truth.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::frame::FrameSettings;
use tonemap_core::spectrum::{
    Averaging, CurveSettings, Detrend, Scaling, Spectrum, SpectrumSettings, ZoomPass, measure,
};
use tonemap_core::synth::{self, PluckedString, mix, white_noise};
use tonemap_core::units::{Extent, LevelReference};
use tonemap_core::window::WindowKind;

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] =
    &[the_density_of_white_noise_is_right_at_every_window_and_average, confidence_intervals_cover];

const RATE_HZ: f64 = 48_000.0;

const WINDOWS: [WindowKind; 6] = [
    WindowKind::Rectangular,
    WindowKind::Hann,
    WindowKind::Hamming,
    WindowKind::BlackmanHarris,
    WindowKind::FlatTop,
    WindowKind::Kaiser { beta: 9.0 },
];

fn noise(seed: u64, rms: f64, samples: usize) -> Vec<f32> {
    synth::to_samples(&white_noise(seed, rms, samples))
}

fn averaged(samples: &[f32], averaging: Averaging) -> Spectrum {
    let settings = SpectrumSettings {
        averaging,
        // Bins of 15 Hz.
        frames: FrameSettings { segment: Some(Extent::Samples(3200)), ..FrameSettings::default() },
        ..SpectrumSettings::default()
    };
    measure(samples, RATE_HZ, &settings).expect("measured")
}

fn has(spectrum: &Spectrum, code: &str) -> bool {
    spectrum.findings.iter().any(|finding| finding.code == code)
}

#[test]
fn power_is_kept_to_the_last_digits() {
    let mut worst = 0.0f64;
    for window in WINDOWS {
        for (length, size) in [(1000, 1000), (1001, 1001), (777, 2048), (4096, 4096)] {
            let mut sound = noise(length as u64, 0.2, length);
            for x in &mut sound {
                *x += 0.3;
            }
            let frames = FrameSettings {
                window,
                segment: Some(Extent::Samples(length)),
                transform_size: Some(size),
                ..FrameSettings::default()
            };
            let settings = SpectrumSettings { frames, ..SpectrumSettings::default() };
            let spectrum = measure(&sound, RATE_HZ, &settings).expect("measured");
            let weights = window.samples(length);
            let windowed: f64 =
                sound.iter().zip(&weights).map(|(x, w)| (f64::from(*x) * w).powi(2)).sum();
            let truth = windowed / weights.iter().map(|w| w * w).sum::<f64>();
            worst = worst.max((spectrum.mean_square() / truth - 1.0).abs());
            // The density adds up to the same, at 0 Hz and at the Nyquist frequency too.
            let curve =
                spectrum.curve(&CurveSettings { scaling: Scaling::Density, ..Default::default() });
            let sum = curve.value.iter().sum::<f64>() * spectrum.bin_spacing_hz;
            worst = worst.max((sum / truth - 1.0).abs());
        }
    }
    println!("Parseval: worst relative difference {worst:.1e}");
    assert!(worst < 1e-12);
}

#[test]
fn scalings_agree_with_what_a_sine_is() {
    // Amplitude 0.5 in the middle of a bin, DC of 0.25, and the Nyquist frequency at 0.125.
    let sound: Vec<f32> = synth::sine(480.0, 0.5, 0.3, RATE_HZ, 4000)
        .iter()
        .enumerate()
        .map(|(n, x)| x + 0.25 + if n % 2 == 0 { 0.125 } else { -0.125 })
        .collect();
    let frames = FrameSettings {
        window: WindowKind::Hann,
        segment: Some(Extent::Samples(4000)),
        ..FrameSettings::default()
    };
    let settings = SpectrumSettings { frames, ..SpectrumSettings::default() };
    let spectrum = measure(&sound, RATE_HZ, &settings).expect("measured");
    let at = |spectrum: &Spectrum, scaling: Scaling| {
        let curve = spectrum.curve(&CurveSettings { scaling, ..Default::default() });
        let level = |k: usize| curve.level_db[k].expect("power");
        ([0, 40, 2000].map(|k| curve.value[k]), [0, 40, 2000].map(level))
    };
    let near = |(found, levels): ([f64; 3], [f64; 3]), values: [f64; 3], db: [f64; 3]| {
        for n in 0..3 {
            assert!((found[n] / values[n] - 1.0).abs() < 1e-6, "{found:?} {values:?}");
            assert!((levels[n] - db[n]).abs() < 1e-3, "{levels:?} {db:?}");
        }
    };
    let rms = [0.25, 0.5 / 2f64.sqrt(), 0.125];
    near(at(&spectrum, Scaling::Amplitude), [0.25, 0.5, 0.125], [-12.041, -6.0206, -18.0618]);
    near(at(&spectrum, Scaling::Rms), rms, [-9.0309, -6.0206, -15.0515]);
    near(at(&spectrum, Scaling::Power), rms.map(|x| x * x), [-9.0309, -6.0206, -15.0515]);
    let bandwidth_hz = 1.5 * 12.0;
    let density = rms.map(|x| x * x / bandwidth_hz);
    near(at(&spectrum, Scaling::Density), density, [-21.584, -18.573, -27.604]);
    // A full-scale sine of 94 dB is 1 Pa RMS; one of 2 V peak has 3.01 dB re 1 V.
    let pressure = spectrum.clone().calibrated(LevelReference::Pressure { full_scale_db: 93.9794 });
    near(
        at(&pressure, Scaling::Rms),
        rms.map(|x| x * 2f64.sqrt()),
        [-9.0309, -6.0206, -15.0515].map(|db| db + 93.9794),
    );
    let voltage = spectrum.calibrated(LevelReference::Voltage { full_scale_v: 2.0 });
    near(
        at(&voltage, Scaling::Amplitude),
        [0.5, 1.0, 0.25],
        [-12.041, -6.0206, -18.0618].map(|db| db + 3.0103),
    );
}

#[test]
pub(crate) fn the_density_of_white_noise_is_right_at_every_window_and_average() {
    let truth_db = 10.0 * (2.0 * 0.01f64 / 24_000.0).log10();
    for averaging in [Averaging::Mean, Averaging::Median, Averaging::Exponential { time_s: 2.0 }] {
        let errors = in_parallel(trials(6, 12), |seed| {
            let settings = SpectrumSettings {
                averaging,
                frames: FrameSettings {
                    window: WINDOWS[seed as usize % WINDOWS.len()],
                    resolution_hz: Some(20.0),
                    ..FrameSettings::default()
                },
                ..SpectrumSettings::default()
            };
            let sound = noise(seed, 0.1, 480_000);
            let spectrum = measure(&sound, RATE_HZ, &settings).expect("measured");
            let curve =
                spectrum.curve(&CurveSettings { scaling: Scaling::Density, ..Default::default() });
            let inner = &curve.value[20..curve.value.len() - 20];
            10.0 * (2.0 * inner.iter().sum::<f64>() / inner.len() as f64).log10() - truth_db
        });
        let name = format!("density of white noise, {averaging:?}");
        Accuracy::all_bare(name, "dB", errors).hold(0.025);
    }
}

#[test]
fn the_median_of_few_frames_is_right_on_average() {
    let truth_db = 10.0 * (2.0 * 0.01f64 / 24_000.0).log10();
    for (seed, samples) in [(1, 48_000), (2, 60_000), (3, 80_000), (4, 120_000)] {
        let settings =
            SpectrumSettings { averaging: Averaging::Median, ..SpectrumSettings::default() };
        let spectrum = measure(&noise(seed, 0.1, samples), RATE_HZ, &settings).expect("measured");
        let curve =
            spectrum.curve(&CurveSettings { scaling: Scaling::Density, ..Default::default() });
        let inner = &curve.value[20..curve.value.len() - 20];
        let mean_db = 10.0 * (2.0 * inner.iter().sum::<f64>() / inner.len() as f64).log10();
        println!("median of {} frames: {:+.3} dB", spectrum.averaged_frames, mean_db - truth_db);
        assert!((mean_db - truth_db).abs() < 0.15);
    }
}

/// Noise and, in one bin, a steady tone: the interval holds the power that an endless average would
/// show.
#[test]
pub(crate) fn confidence_intervals_cover() {
    for averaging in [Averaging::Mean, Averaging::Median, Averaging::Exponential { time_s: 1.0 }] {
        let inside = in_parallel(trials(160, 320), |seed| {
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let length = random.random_range(30_000..400_000);
            let mut sound = white_noise(seed, 0.05, length);
            let amplitude = 10f64.powf(random.random_range(-2.0..-1.0));
            let tone = synth::sine(3000.0, amplitude, 1.0, RATE_HZ, length);
            sound.iter_mut().zip(&tone).for_each(|(x, y)| *x += f64::from(*y));
            let spectrum = averaged(&synth::to_samples(&sound), averaging);
            let curve = spectrum.curve(&CurveSettings::default());
            let noise_power = 2.0 * 0.0025 / 24_000.0 * spectrum.noise_bandwidth_hz;
            let tone_bin = (3000.0 / spectrum.bin_spacing_hz).round() as usize;
            let mut inside = [Vec::new(), Vec::new()];
            for k in (8..curve.frequency_hz.len() - 10).step_by(4) {
                if k.abs_diff(tone_bin) < 8 && k != tone_bin {
                    continue;
                }
                let is_tone = k == tone_bin;
                let tone_power = if is_tone { amplitude * amplitude } else { 0.0 };
                let truth = 10.0 * (noise_power + tone_power).log10();
                let (low, high) =
                    (curve.low_db[k].expect("known"), curve.high_db[k].expect("known"));
                inside[usize::from(is_tone)].push((low..=high).contains(&truth));
            }
            inside
        });
        for (n, of) in ["noise", "a tone in noise"].into_iter().enumerate() {
            let all: Vec<bool> = inside.iter().flat_map(|inside| inside[n].clone()).collect();
            let share =
                100.0 * all.iter().filter(|inside| **inside).count() as f64 / all.len() as f64;
            println!("{averaging:?}: the interval of {of} holds {share:.1} % of {}", all.len());
            assert!((90.0..=99.0).contains(&share), "{averaging:?}, {of}: {share}");
        }
    }
}

#[test]
fn a_median_is_robust_to_clicks_and_a_maximum_shows_them() {
    let mut sound = noise(1, 0.001, 480_000);
    let tone = synth::sine(990.0, 0.1, 0.0, RATE_HZ, sound.len());
    sound.iter_mut().zip(&tone).for_each(|(x, y)| *x += y);
    let quiet = averaged(&sound, Averaging::Mean).noise_floor_db.expect("noise");
    for n in 0..12 {
        sound[20_000 + n * 38_000] = 0.9;
    }
    let floor = |averaging| averaged(&sound, averaging).noise_floor_db.expect("noise");
    assert!(floor(Averaging::Mean) > quiet + 10.0, "{quiet}");
    assert!((floor(Averaging::Median) - quiet).abs() < 0.7, "{}", floor(Averaging::Median));
    // The line of the tone reads its amplitude all the same.
    let k = |spectrum: &Spectrum| (990.0 / spectrum.bin_spacing_hz).round() as usize;
    for averaging in [Averaging::Mean, Averaging::Median, Averaging::Exponential { time_s: 1.0 }] {
        let spectrum = averaged(&sound, averaging);
        let level = 10.0 * spectrum.power[k(&spectrum)].log10();
        assert!((level + 20.0).abs() < 0.1, "{averaging:?} {level}");
        assert!((spectrum.peaks[0].frequency_hz - 990.0).abs() < 0.02, "{averaging:?}");
    }
}

#[test]
fn maximum_and_exponential_averages_follow_what_changes() {
    // First half at 1 kHz, second half at 3 kHz.
    let mut sound = synth::sine(990.0, 0.1, 0.0, RATE_HZ, 480_000);
    sound[240_000..].copy_from_slice(&synth::sine(3000.0, 0.1, 0.0, RATE_HZ, 240_000));
    let level = |averaging, hz: f64| {
        let spectrum = averaged(&sound, averaging);
        10.0 * spectrum.power[(hz / spectrum.bin_spacing_hz).round() as usize].log10()
    };
    for hz in [990.0, 3000.0] {
        assert!((level(Averaging::Maximum, hz) + 20.0).abs() < 0.01);
        assert!((level(Averaging::Mean, hz) + 23.0).abs() < 0.2);
    }
    // exp(−5 s / 1 s) of the power is left, −21.7 dB.
    let fading = Averaging::Exponential { time_s: 1.0 };
    assert!((level(fading, 990.0) + 41.7).abs() < 0.5, "{}", level(fading, 990.0));
    assert!((level(fading, 3000.0) + 20.0).abs() < 0.1);
    assert!(has(&averaged(&sound, Averaging::Mean), "drift"));
}

#[test]
fn drift_is_told_where_there_is_some_and_nowhere_else() {
    let alarms = in_parallel(300, |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let length = random.random_range(20_000..300_000);
        let mut sound = white_noise(seed, 0.01, length);
        if seed % 3 == 1 {
            let brown = synth::coloured_noise(seed, 0.05, 300.0, 0.8, RATE_HZ, length);
            mix(&mut sound, &brown);
        }
        if seed % 3 == 2 {
            for hz in [220.0, 441.3, 4000.0] {
                let tone = synth::sine(hz, 0.2, 0.0, RATE_HZ, length);
                sound.iter_mut().zip(&tone).for_each(|(x, y)| *x += f64::from(*y));
            }
        }
        let spectrum =
            measure(&synth::to_samples(&sound), RATE_HZ, &SpectrumSettings::default()).expect("ok");
        has(&spectrum, "drift")
    });
    let false_alarms = alarms.into_iter().filter(|alarm| *alarm).count();
    println!("drift: {false_alarms} false alarms of 300 steady sounds");
    assert!(false_alarms <= 2);
    let mut found = 0;
    for seed in 0..50 {
        let mut sound = white_noise(seed, 0.01, 480_000);
        sound[240_000..].iter_mut().for_each(|x| *x *= 1.2);
        found += usize::from(has(&averaged(&synth::to_samples(&sound), Averaging::Mean), "drift"));
    }
    println!("drift: {found} of 50 changes by 1.6 dB found");
    assert!(found >= 48);
    // That a string dies away is heard.
    let string = PluckedString::default().render(RATE_HZ, 3.0);
    assert!(!has(&averaged(&synth::to_samples(&string), Averaging::Mean), "drift"));
}

#[test]
fn trends_are_taken_out_of_each_frame() {
    let mut sound = synth::sine(30.0, 0.01, 0.0, RATE_HZ, 96_000);
    sound.iter_mut().enumerate().for_each(|(n, x)| *x += 0.5 - n as f32 / 96_000.0);
    let level = |detrend: Detrend| {
        let settings = SpectrumSettings { detrend, ..SpectrumSettings::default() };
        let spectrum = measure(&sound, RATE_HZ, &settings).expect("measured");
        10.0 * spectrum.power[0].log10()
    };
    assert!(level(Detrend::None) > -15.0);
    assert!(level(Detrend::Line) < -60.0, "{}", level(Detrend::Line));
    assert!(level(Detrend::Mean) < level(Detrend::None));
}

#[test]
fn half_the_power_lies_where_it_should() {
    let sound = noise(5, 0.1, 480_000);
    let settings = SpectrumSettings { range_hz: Some((100.0, 10_100.0)), ..Default::default() };
    let spectrum = measure(&sound, RATE_HZ, &settings).expect("measured");
    let marks = spectrum.cumulative().expect("power");
    for (found, truth) in
        [(marks.power_10_hz, 1100.0), (marks.power_50_hz, 5100.0), (marks.power_90_hz, 9100.0)]
    {
        assert!((found - truth).abs() < 60.0, "{found}");
    }
    let curve = spectrum.curve(&CurveSettings::default());
    assert!((curve.cumulative_share.last().expect("values") - 1.0).abs() < 1e-12);
    assert!(curve.cumulative_share.is_sorted());
}

#[test]
fn a_narrow_look_shows_the_lobe_between_the_bins() {
    let sound = synth::sine(220.123, 0.5, 0.0, RATE_HZ, 96_000);
    let settings = SpectrumSettings::default();
    let pass = tonemap_core::spectrum::SpectrumPass::new(&settings, RATE_HZ, 96_000).expect("ok");
    let mut zoom = ZoomPass::new(pass.plan(), RATE_HZ, (215.0, 225.0), 2001);
    zoom.push(&sound);
    let zoom = zoom.finish();
    let top = (0..2001).max_by(|a, b| zoom.power[*a].total_cmp(&zoom.power[*b])).expect("values");
    assert!((zoom.frequency_hz[top] - 220.123).abs() < 0.005, "{}", zoom.frequency_hz[top]);
    assert!((10.0 * zoom.power[top].log10() + 6.0206).abs() < 1e-3);
    // Down by 6 dB half a resolution away.
    let down = zoom.power[top + (2.5 / 0.005) as usize] / zoom.power[top];
    assert!((10.0 * down.log10() + 6.02).abs() < 0.1, "{down}");
}
