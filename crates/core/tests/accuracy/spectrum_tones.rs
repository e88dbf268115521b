//! The spectrum's tones against known truth, in noise of known level.

use std::f64::consts::{PI, TAU};

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::frame::FrameSettings;
use tonemap_core::spectrum::{Method, Peak, SpectrumSettings, measure};
use tonemap_core::synth::{self, Partial, Vibrato, white_noise};
use tonemap_core::units::{Extent, cents_between, db_from_amplitude};
use tonemap_core::window::WindowKind;

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    steady_tones_reach_the_cramer_rao_bound_and_their_uncertainty_covers,
    without_noise_there_is_no_bias,
    decaying_tones_keep_the_windowed_estimate_and_its_uncertainty_covers,
    one_frame_stays_near_its_windows_own_bound,
    a_weak_tone_beside_a_strong_one_is_right,
    partials_of_plucked_strings_are_read_from_frames_and_covered,
];

const RATE_HZ: f64 = 48_000.0;

/// Errors of one trial with their stated uncertainties; that of the frequency also over its bound.
struct Outcome {
    snr_db: f64,
    over_bound: f64,
    frequency: (f64, f64),
    level: (f64, f64),
    phase: (f64, f64),
}

fn nearest(peaks: &[Peak], frequency_hz: f64) -> Option<&Peak> {
    peaks.iter().min_by(|a, b| {
        let distance = |peak: &Peak| (peak.frequency_hz - frequency_hz).abs();
        distance(a).total_cmp(&distance(b))
    })
}

/// A small distance from a frequency, in cents.
fn cents_of(hz: f64, at_hz: f64) -> f64 {
    1200.0 / std::f64::consts::LN_2 * hz / at_hz
}

fn wrapped(phase: f64) -> f64 {
    phase - TAU * (phase / TAU).round()
}

fn noisy_sine(seed: u64, snrs_db: &[f64]) -> Outcome {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let snr_db = snrs_db[seed as usize % snrs_db.len()];
    let samples = random.random_range(24_000..72_000usize);
    let frequency_hz = 40.0 * 500f64.powf(random.random::<f64>());
    let amplitude = 0.9 * 10f64.powf(-2.0 * random.random::<f64>());
    let phase = random.random_range(-PI..PI);
    // SNR is the power of the tone over that of the noise in the whole band.
    let sigma = amplitude / 2f64.sqrt() * 10f64.powf(-snr_db / 20.0);
    let tone = Partial { frequency_hz, amplitude, phase_rad: phase, t60_s: f64::INFINITY };
    let mut sound = synth::render(&[tone], Vibrato::default(), RATE_HZ, samples as f64 / RATE_HZ);
    synth::mix(&mut sound, &white_noise(seed + 1_000_000, sigma, samples));
    let spectrum =
        measure(&synth::to_samples(&sound), RATE_HZ, &SpectrumSettings::default()).expect("valid");
    let peak = nearest(&spectrum.peaks, frequency_hz).expect("the tone is found");
    assert_eq!(peak.method, Method::Span, "seed {seed}, {snr_db} dB");
    let n = samples as f64;
    let bound_hz =
        (24.0 * sigma * sigma / (amplitude * amplitude * n.powi(3))).sqrt() * RATE_HZ / TAU;
    let error_hz = peak.frequency_hz - frequency_hz;
    let phase_error = wrapped(peak.phase_rad.unwrap_or(f64::NAN) - phase);
    Outcome {
        snr_db,
        over_bound: error_hz / bound_hz,
        frequency: (error_hz, peak.frequency_hz_u),
        level: (peak.level_db - db_from_amplitude(amplitude), peak.level_db_u),
        phase: (phase_error, peak.phase_rad_u.unwrap_or(f64::NAN)),
    }
}

#[test]
pub(crate) fn steady_tones_reach_the_cramer_rao_bound_and_their_uncertainty_covers() {
    let snrs_db: Vec<f64> = (1..=8).map(|step| f64::from(step) * 10.0).collect();
    let outcomes = in_parallel(trials(1000, 2000), |seed| noisy_sine(seed, &snrs_db));
    for snr_db in &snrs_db {
        let of = outcomes.iter().filter(|outcome| outcome.snr_db == *snr_db);
        let over_bound = of.map(|outcome| outcome.over_bound);
        let name = format!("frequency of a steady tone at {snr_db} dB, over its bound");
        Accuracy::all_bare(name, "1", over_bound).hold(1.3);
    }
    let over_bound = outcomes.iter().map(|outcome| outcome.over_bound);
    Accuracy::all_bare("frequency of a steady tone, over its bound", "1", over_bound).hold(1.1);
    let all = |name, unit, of: fn(&Outcome) -> (f64, f64)| {
        Accuracy::all(name, unit, outcomes.iter().map(of))
    };
    all("frequency of a steady tone at 10 to 80 dB", "Hz", |o| o.frequency).hold(8.4e-4);
    all("level of a steady tone at 10 to 80 dB", "dB", |o| o.level).hold(0.0093);
    all("phase of a steady tone at 10 to 80 dB", "rad", |o| o.phase).hold(0.0023);
}

#[test]
pub(crate) fn without_noise_there_is_no_bias() {
    let worst = in_parallel(trials(400, 800), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(90_000 + seed);
        let frequency_hz = 30.0 * 700f64.powf(random.random::<f64>());
        let phase = random.random_range(-PI..PI);
        let sine = synth::sine(frequency_hz, 0.7, phase, RATE_HZ, 48_000);
        let found = measure(&sine, RATE_HZ, &SpectrumSettings::default()).expect("valid");
        let peak = nearest(&found.peaks, frequency_hz).expect("the tone is found");
        assert_eq!(found.peaks.len(), 1, "{frequency_hz} Hz: no side lobe is a tone");
        (
            cents_between(frequency_hz, peak.frequency_hz).abs(),
            (peak.level_db - db_from_amplitude(0.7)).abs(),
        )
    });
    let (cents, level): (Vec<f64>, Vec<f64>) = worst.into_iter().unzip();
    Accuracy::all_bare("frequency of a tone without noise", "cents", cents).hold_worst(1e-8);
    Accuracy::all_bare("level of a tone without noise", "dB", level).hold_worst(1e-8);
}

/// The averaged frames alone, forced by a tone that decays too much to be steady.
#[test]
pub(crate) fn decaying_tones_keep_the_windowed_estimate_and_its_uncertainty_covers() {
    let outcomes = in_parallel(trials(400, 800), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(500_000 + seed);
        let tone = Partial {
            frequency_hz: 60.0 * 100f64.powf(random.random::<f64>()),
            amplitude: 0.5,
            phase_rad: random.random_range(-PI..PI),
            t60_s: random.random_range(1.0..8.0),
        };
        let mut sound = synth::render(&[tone], Vibrato::default(), RATE_HZ, 2.0);
        let sigma = 10f64.powf(-random.random_range(1.5..4.0));
        synth::mix(&mut sound, &white_noise(600_000 + seed, sigma, 96_000));
        let found = measure(&synth::to_samples(&sound), RATE_HZ, &SpectrumSettings::default())
            .expect("valid");
        let peak = nearest(&found.peaks, tone.frequency_hz).expect("the tone is found");
        let cents = cents_between(tone.frequency_hz, peak.frequency_hz);
        let u = cents_of(peak.frequency_hz_u, tone.frequency_hz);
        (peak.method, cents, u)
    });
    let unsteady = outcomes.iter().filter(|(method, ..)| *method == Method::Frames).count();
    assert!(unsteady * 8 > outcomes.len() * 7, "{unsteady} of {}", outcomes.len());
    let errors = outcomes.into_iter().map(|(_, cents, u)| (cents, u));
    Accuracy::all("frequency of a decaying tone", "cents", errors).hold(0.032);
}

#[test]
pub(crate) fn one_frame_stays_near_its_windows_own_bound() {
    for window in [
        WindowKind::Rectangular,
        WindowKind::Hann,
        WindowKind::Hamming,
        WindowKind::BlackmanHarris,
        WindowKind::FlatTop,
        WindowKind::Kaiser { beta: 14.0 },
    ] {
        const SAMPLES: usize = 16_384;
        let frames = FrameSettings {
            window,
            segment: Some(Extent::Samples(SAMPLES)),
            ..FrameSettings::default()
        };
        let settings = SpectrumSettings { frames, ..SpectrumSettings::default() };
        let errors = in_parallel(trials(100, 200), |seed| {
            let mut random = ChaCha8Rng::seed_from_u64(700_000 + seed);
            let frequency_hz = 100.0 * 150f64.powf(random.random::<f64>());
            let sigma = 0.5 / 2f64.sqrt() * 0.01;
            let mut sound: Vec<f64> =
                synth::sine(frequency_hz, 0.5, random.random_range(-PI..PI), RATE_HZ, SAMPLES)
                    .into_iter()
                    .map(f64::from)
                    .collect();
            synth::mix(&mut sound, &white_noise(800_000 + seed, sigma, SAMPLES));
            let found = measure(&synth::to_samples(&sound), RATE_HZ, &settings).expect("valid");
            assert_eq!(found.averaged_frames, 1);
            let peak = nearest(&found.peaks, frequency_hz).expect("the tone is found");
            let bound =
                (24.0 * (sigma / 0.5).powi(2) / (SAMPLES as f64).powi(3)).sqrt() * RATE_HZ / TAU;
            (peak.frequency_hz - frequency_hz) / bound
        });
        let name = format!("frequency in one {window} frame, over the bound");
        Accuracy::all_bare(name, "1", errors).hold(1.15);
    }
}

#[test]
pub(crate) fn a_weak_tone_beside_a_strong_one_is_right() {
    let worst = in_parallel(trials(200, 400), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(300_000 + seed);
        let strong_hz = random.random_range(300.0..5000.0);
        let settings = SpectrumSettings::default();
        let mut sound = vec![0.0; 48_000];
        // The default frame has 25 600 samples.
        let weak_hz = strong_hz + 8.0 * RATE_HZ / 25_600.0;
        for (frequency_hz, amplitude) in [(strong_hz, 0.8), (weak_hz, 0.0008)] {
            let partial = Partial {
                frequency_hz,
                amplitude,
                phase_rad: random.random_range(-PI..PI),
                t60_s: f64::INFINITY,
            };
            let tone = synth::render(&[partial], Vibrato::default(), RATE_HZ, 1.0);
            synth::mix(&mut sound, &tone);
        }
        let found = measure(&synth::to_samples(&sound), RATE_HZ, &settings).expect("valid");
        assert_eq!(found.peaks.len(), 2, "{strong_hz} Hz");
        let weak = &found.peaks[1];
        (
            cents_between(weak_hz, weak.frequency_hz).abs(),
            (weak.level_db - db_from_amplitude(0.0008)).abs(),
        )
    });
    let (cents, level): (Vec<f64>, Vec<f64>) = worst.into_iter().unzip();
    let place = "a tone 60 dB below, 8 bins beside";
    Accuracy::all_bare(format!("frequency of {place}"), "cents", cents).hold_worst(1.3e-6);
    Accuracy::all_bare(format!("level of {place}"), "dB", level).hold_worst(6e-6);
}

#[test]
fn noise_alone_has_no_tones_beyond_the_stated_chance() {
    let false_tones = |window: WindowKind, trials: u64| -> usize {
        let frames = FrameSettings { window, ..FrameSettings::default() };
        let settings = SpectrumSettings { frames, ..SpectrumSettings::default() };
        let found = in_parallel(trials, |seed| {
            let noise = synth::to_samples(&white_noise(seed, 0.1, 96_000));
            measure(&noise, RATE_HZ, &settings).expect("valid").peaks.len()
        });
        found.into_iter().sum()
    };
    let found = false_tones(WindowKind::BlackmanHarris, 500);
    println!("500 takes of white noise: {found} false tones at a stated false-alarm rate of 1 %");
    // Five are allowed; more than 11 would be a chance of 1 in 200.
    assert!(found <= 11, "{found}");
    for window in [WindowKind::Rectangular, WindowKind::Hann, WindowKind::FlatTop] {
        let found = false_tones(window, 200);
        println!("{window}: {found} false tones in 200 takes");
        assert!(found <= 6, "{window} {found}");
    }
}

#[test]
fn results_do_not_depend_on_how_samples_arrive() {
    use tonemap_core::spectrum::SpectrumPass;
    let sine = synth::sine(1234.5, 0.3, 1.0, RATE_HZ, 100_000);
    let settings = SpectrumSettings::default();
    let whole = measure(&sine, RATE_HZ, &settings).expect("valid");
    for block in [1, 333, 4096] {
        let mut first = SpectrumPass::new(&settings, RATE_HZ, 100_000).expect("valid");
        // The halves, one after the other, stand for two threads.
        for half in first.halves() {
            sine.chunks(block).for_each(|block| half.push(block));
        }
        let mut second = first.finish();
        sine.chunks(block).for_each(|block| second.push(block));
        let found = second.finish();
        assert_eq!((found.peaks, found.power), (whole.peaks.clone(), whole.power.clone()));
    }
}

/// Independent of the frames' loss: no window may show one tone as several.
#[test]
fn a_single_tone_has_no_side_lobes_at_any_window() {
    for window in ["rectangular", "hann", "hamming", "blackman-harris", "flat-top", "kaiser"] {
        let window: WindowKind = window.parse().expect("a window");
        let counts = in_parallel(trials(40, 80), |seed| {
            let mut random = ChaCha8Rng::seed_from_u64(910_000 + seed);
            let zero_pad = Some(random.random_range(1.0..4.0));
            let settings = SpectrumSettings {
                frames: FrameSettings { window, zero_pad, ..FrameSettings::default() },
                ..SpectrumSettings::default()
            };
            let frequency_hz = 100.0 * 200f64.powf(random.random::<f64>());
            let tone = Partial {
                frequency_hz,
                amplitude: 0.7,
                phase_rad: random.random_range(-PI..PI),
                t60_s: f64::INFINITY,
            };
            let mut sound = synth::render(&[tone], Vibrato::default(), RATE_HZ, 4.0);
            let sigma = 0.7 / 2f64.sqrt() * 1e-5;
            synth::mix(&mut sound, &white_noise(920_000 + seed, sigma, 192_000));
            // An offset is a tone at 0 Hz, and has side lobes like any.
            let offset = random.random_range(-0.2..0.2);
            for x in &mut sound {
                *x += offset;
            }
            let found = measure(&synth::to_samples(&sound), RATE_HZ, &settings).expect("valid");
            found.peaks.len() + found.weaker_peaks
        });
        let extra = counts.iter().filter(|count| **count != 1).count();
        println!("{window}: {extra} of 40 single tones at 100 dB SNR with a false companion");
        // One percent of noise alone gives a tone: one in 40 is chance.
        assert!(extra <= 2, "{window}: {counts:?}");
    }
}

/// Fifteen partials that die away side by side: what one leaves in the band of another must not be
/// taken for a steady tone, nor spoil the uncertainty.
#[test]
pub(crate) fn partials_of_plucked_strings_are_read_from_frames_and_covered() {
    let errors = in_parallel(trials(80, 160), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(930_000 + seed);
        let string = synth::PluckedString {
            frequency_hz: 60.0 * 13f64.powf(random.random::<f64>()),
            inharmonicity: 10f64.powf(random.random_range(-5.0..-3.0)),
            pluck_position: random.random_range(0.1..0.45),
            t60_s: random.random_range(2.0..10.0),
            partials: 15,
            ..synth::PluckedString::default()
        };
        let mut sound = string.render(RATE_HZ, random.random_range(2.0..5.0));
        let samples = sound.len();
        let sigma = 10f64.powf(-random.random_range(2.5..5.0));
        synth::mix(&mut sound, &white_noise(940_000 + seed, sigma, samples));
        let settings = SpectrumSettings { peaks: 40, ..SpectrumSettings::default() };
        let found = measure(&synth::to_samples(&sound), RATE_HZ, &settings).expect("valid");
        string
            .truth()
            .iter()
            .filter_map(|truth| {
                let peak = nearest(&found.peaks, truth.frequency_hz)?;
                let error = peak.frequency_hz - truth.frequency_hz;
                // A partial in a node, or lost in the noise, is not there to be found.
                (error.abs() < 2.0).then_some((peak.method, error, peak.frequency_hz_u))
            })
            .collect::<Vec<_>>()
    });
    let errors: Vec<(Method, f64, f64)> = errors.into_iter().flatten().collect();
    let from_span = errors.iter().filter(|(method, ..)| *method == Method::Span).count();
    assert!(errors.len() > 900, "{}", errors.len());
    assert!(from_span <= errors.len() / 100, "{from_span}");
    let errors = errors.into_iter().map(|(_, error, u)| (error, u));
    Accuracy::all("frequency of a string's partials by frames", "Hz", errors).hold(0.05);
}
