//! Transfer functions between two sounds.

use std::f64::consts::{PI, TAU};

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::frame::FrameSettings;
use tonemap_core::synth::{shaped_noise, to_samples, white_noise};
use tonemap_core::transfer::{
    Estimator, Polarity, Side, Smoothing, Transfer, TransferSettings, mean_of, transfer,
};
use tonemap_core::units::Extent;

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    delays_are_known_between_samples,
    clocks_that_drift_are_followed,
    filters_have_their_magnitude_phase_and_coherence,
    octaves_are_resolved_alike,
    minimum_phase_is_that_of_the_filter,
    coherence_is_the_share_of_the_reference,
    reflections_are_where_they_are,
    means_over_positions_are_those_of_the_room,
];

const RATE_HZ: f64 = 48_000.0;

fn measured(a: &[f64], b: &[f64], settings: &TransferSettings) -> Transfer {
    let (a, b) = (to_samples(a), to_samples(b));
    let side = |samples| Side { samples, rate_hz: RATE_HZ, full_scale_db: 0.0 };
    transfer(side(&a), side(&b), settings).expect("a transfer function")
}

/// A kind of source: white, pink, tones that come and go as in music, or a few bands.
fn source(kind: u64, seed: u64, count: usize) -> Vec<f64> {
    match kind % 4 {
        0 => white_noise(seed, 0.1, count),
        1 => shaped_noise(seed, count, RATE_HZ, |hz| 1e-3 / hz.max(20.0)),
        2 => {
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let mut sound = white_noise(seed + 1, 1e-3, count);
            for _ in 0..count / 6000 {
                let hz: f64 = 80.0 * 60f64.powf(random.random_range(0.0..1.0));
                let start = random.random_range(0..count);
                let decay_s: f64 = random.random_range(0.05..0.6);
                for (n, x) in sound[start..].iter_mut().enumerate().take(48_000) {
                    let t = n as f64 / RATE_HZ;
                    let partials =
                        (1..=6).map(|k| (TAU * hz * f64::from(k) * t).sin() / f64::from(k));
                    *x += 0.05 * (-t / decay_s).exp() * partials.sum::<f64>();
                }
            }
            sound
        }
        _ => shaped_noise(seed, count, RATE_HZ, |hz| {
            let is_in =
                [400.0, 1700.0, 6000.0].iter().any(|middle| (hz / middle - 1.0f64).abs() < 0.08);
            if is_in { 1e-5 } else { 1e-13 }
        }),
    }
}

/// A sound delayed by so many samples between samples, by a turn of its spectrum, with what is there
/// before and behind it silent.
fn delayed(sound: &[f64], by: f64) -> Vec<f64> {
    use rustfft::FftPlanner;
    use rustfft::num_complex::Complex64;
    // Silence behind it makes the length a quick one.
    let size = (1..24).map(|n| 1 << n).find(|size| *size >= sound.len()).expect("a length");
    let mut planner = FftPlanner::new();
    let mut all: Vec<Complex64> = sound.iter().map(|x| Complex64::new(*x, 0.0)).collect();
    all.resize(size, Complex64::default());
    planner.plan_fft_forward(size).process(&mut all);
    for (k, value) in all.iter_mut().enumerate() {
        let bin = if k > size / 2 { k as f64 - size as f64 } else { k as f64 };
        *value *= Complex64::from_polar(1.0 / size as f64, -TAU * bin * by / size as f64);
    }
    planner.plan_fft_inverse(size).process(&mut all);
    all.into_iter().take(sound.len()).map(|value| value.re).collect()
}

/// A stretch of a longer sound as the reference, and another of it, later or earlier, as the response.
fn pair(kind: u64, seed: u64, lasts_s: f64, delay: f64) -> (Vec<f64>, Vec<f64>) {
    let (count, margin) = ((lasts_s * RATE_HZ) as usize, 110_000);
    let whole = source(kind, seed, count + 2 * margin);
    let rounded = delay.round();
    let moved = delayed(&whole, delay - rounded);
    let from = (margin as f64 - rounded) as usize;
    (whole[margin..margin + count].to_vec(), moved[from..from + count].to_vec())
}

fn power(sound: &[f64]) -> f64 {
    sound.iter().map(|x| x * x).sum::<f64>() / sound.len() as f64
}

fn add_noise(sound: &mut [f64], seed: u64, snr_db: f64) {
    let rms = (power(sound) * 10f64.powf(-snr_db / 10.0)).sqrt();
    let noise = white_noise(seed, rms, sound.len());
    for (x, noise) in sound.iter_mut().zip(noise) {
        *x += noise;
    }
}

#[test]
fn delays_are_known_between_samples() {
    for (snr_db, most) in [(40.0, 1.2e-4), (0.0, 1.2e-2)] {
        let errors = in_parallel(trials(104, 400), |seed| {
            let mut random = ChaCha8Rng::seed_from_u64(seed + 4400);
            let delay: f64 = random.random_range(-96_000.0..96_000.0);
            let lasts_s = random.random_range(3.0..5.0);
            let (a, mut b) = pair(seed, 7000 + 10 * seed, lasts_s, delay);
            let is_reversed = random.random();
            if is_reversed {
                for x in &mut b {
                    *x = -*x;
                }
            }
            add_noise(&mut b, 990_000 + seed, snr_db);
            let settings = TransferSettings { most_delay_s: 2.5, ..TransferSettings::default() };
            let found = measured(&a, &b, &settings);
            let polarity = if is_reversed { Polarity::Reversed } else { Polarity::Same };
            assert_eq!(found.polarity, Some(polarity), "{seed}");
            let found = found.delay_s.expect("a delay");
            (RATE_HZ * found.value - delay, RATE_HZ * found.u)
        });
        Accuracy::all(format!("transfer, {snr_db} dB SNR: delay"), "samples", errors).hold(most);
    }
}

#[test]
fn clocks_that_drift_are_followed() {
    let errors = in_parallel(trials(100, 300), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 5400);
        let ppm: f64 = random.random_range(20.0..150.0) * if random.random() { 1.0 } else { -1.0 };
        let count = 8 * 48_000;
        let whole = source(seed % 2, 31 * seed, count + 4000);
        // Read between samples by a long sinc.
        let at = |place: f64| -> f64 {
            let middle = place.floor() as i64;
            let beyond = place - middle as f64;
            // The sine of each tap is that of the middle, its sign turning from tap to tap.
            let sine = (PI * beyond).sin();
            (-24..=24)
                .filter_map(|k: i64| {
                    let x = beyond - k as f64;
                    let window = 0.5 + 0.5 * (PI * x / 25.0).cos();
                    let sign = if k % 2 == 0 { 1.0 } else { -1.0 };
                    let sinc = if x.abs() < 1e-9 { 1.0 } else { sign * sine / (PI * x) };
                    Some(whole.get(usize::try_from(middle + k).ok()?)? * sinc * window)
                })
                .sum()
        };
        let b: Vec<f64> = (0..count).map(|n| at(1000.0 + n as f64 * (1.0 - 1e-6 * ppm))).collect();
        let mut b = b;
        add_noise(&mut b, 77_000 + seed, 40.0);
        let found = measured(&whole[1000..1000 + count], &b, &TransferSettings::default());
        let drift = found.drift_ppm.expect("a drift");
        (drift.value - ppm, drift.u)
    });
    Accuracy::all("transfer: drift of the clock", "ppm", errors).hold(0.25);
}

/// A second-order resonance as a filter, and its response.
struct Resonance {
    b: [f64; 3],
    a: [f64; 2],
}

impl Resonance {
    fn random(random: &mut ChaCha8Rng) -> Self {
        let hz: f64 = 200.0 * 30f64.powf(random.random_range(0.0..1.0));
        let gain: f64 = 10f64.powf(random.random_range(-12.0..12.0) / 40.0);
        let quality: f64 = random.random_range(0.5..3.0);
        let turn = TAU * hz / RATE_HZ;
        let alpha = turn.sin() / (2.0 * quality);
        let a0 = 1.0 + alpha / gain;
        Self {
            b: [(1.0 + alpha * gain) / a0, -2.0 * turn.cos() / a0, (1.0 - alpha * gain) / a0],
            a: [-2.0 * turn.cos() / a0, (1.0 - alpha / gain) / a0],
        }
    }

    fn run(&self, sound: &[f64]) -> Vec<f64> {
        let mut state = [0.0; 2];
        let of = |x: &f64| {
            let y = self.b[0] * x + state[0];
            state[0] = self.b[1] * x - self.a[0] * y + state[1];
            state[1] = self.b[2] * x - self.a[1] * y;
            y
        };
        sound.iter().map(of).collect()
    }

    /// Magnitude in dB and phase in degrees.
    fn at(&self, hz: f64) -> (f64, f64) {
        use rustfft::num_complex::Complex64;
        let z = Complex64::from_polar(1.0, -TAU * hz / RATE_HZ);
        let top = self.b[0] + (self.b[1] + self.b[2] * z) * z;
        let h = top / (1.0 + (self.a[0] + self.a[1] * z) * z);
        (20.0 * h.norm().log10(), h.arg().to_degrees())
    }
}

/// Phase differences within half a turn.
fn wrapped(degrees: f64) -> f64 {
    degrees - 360.0 * (degrees / 360.0).round()
}

#[test]
fn filters_have_their_magnitude_phase_and_coherence() {
    let found = in_parallel(trials(12, 60), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 6400);
        let filter = Resonance::random(&mut random);
        let delay: f64 = random.random_range(-2000.0f64..4000.0).round();
        let lasts_s = random.random_range(20.0..40.0);
        let (a, b) = pair(seed, 500 + seed, lasts_s, delay);
        let mut b = filter.run(&b);
        let snr_db = random.random_range(10.0..40.0);
        add_noise(&mut b, 55_000 + seed, snr_db);
        // The delay is known, so that the phase is that of the filter.
        let settings = TransferSettings {
            delay_s: Some(delay / RATE_HZ),
            range_hz: (50.0, 15_000.0),
            ..TransferSettings::default()
        };
        let found = measured(&a, &b, &settings);
        let curve = found.curve.expect("a curve");
        let mut points = Vec::new();
        // Points that do not know of each other.
        for k in (3..curve.frequency_hz.len()).step_by(97) {
            let Some(db) = curve.magnitude_db[k] else { continue };
            let (wanted_db, wanted_deg) = filter.at(curve.frequency_hz[k]);
            let off_deg = wrapped(curve.phase_deg[k].expect("a phase") - wanted_deg);
            let (u_db, u_deg) =
                (curve.magnitude_db_u[k].expect("u"), curve.phase_deg_u[k].expect("u"));
            points.push((db - wanted_db, u_db, off_deg, u_deg, curve.coherence[k]));
        }
        let bands: Vec<(f64, f64)> = found
            .bands
            .iter()
            .filter(|band| band.coherence.is_some_and(|coherence| coherence >= 0.9))
            .filter_map(|band| {
                let level = band.magnitude_db?;
                // Bands in which the filter is flat enough to have one value.
                let (low, high) = (filter.at(band.band.low_hz).0, filter.at(band.band.high_hz).0);
                let wanted = filter.at(band.band.center_hz).0;
                let is_flat = (low - high).abs() < 0.3 && (low - wanted).abs() < 0.2;
                (is_flat && band.center_hz > 200.0).then_some((level.value - wanted, level.u))
            })
            .collect();
        (points, bands)
    });
    let points = || found.iter().flat_map(|(points, _)| points);
    let magnitude = points().map(|(off, u, ..)| (*off, *u));
    Accuracy::all("transfer, points: magnitude", "dB", magnitude).hold(0.3);
    let phase = points().map(|(_, _, off, u, _)| (*off, *u));
    Accuracy::all("transfer, points: phase", "degrees", phase).hold(2.0);
    let bands = found.iter().flat_map(|(_, bands)| bands).map(|(off, _)| *off);
    Accuracy::all_bare("transfer, bands of coherence 0.9: magnitude", "dB", bands).hold(0.025);
}

/// A resonance in white noise, with frames that get shorter from octave to octave.
#[test]
fn octaves_are_resolved_alike() {
    let found = in_parallel(trials(8, 40), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 6600);
        let filter = Resonance::random(&mut random);
        let (a, b) = pair(0, 2500 + 3 * seed, 24.0, 300.0);
        let mut b = filter.run(&b);
        add_noise(&mut b, 57_000 + seed, random.random_range(15.0..35.0));
        let settings = TransferSettings {
            delay_s: Some(300.0 / RATE_HZ),
            range_hz: (60.0, 15_000.0),
            per_octave: Some(12),
            ..TransferSettings::default()
        };
        let curve = measured(&a, &b, &settings).curve.expect("a curve");
        let spacing = |hz: f64| {
            let at = curve.frequency_hz.iter().position(|of| *of > hz).expect("a point");
            curve.frequency_hz[at + 1] - curve.frequency_hz[at]
        };
        assert!(spacing(10_000.0) > 30.0 * spacing(100.0), "{seed}");
        let points = (5..curve.frequency_hz.len()).step_by(23).filter_map(|k| {
            let (wanted_db, wanted_deg) = filter.at(curve.frequency_hz[k]);
            let off_deg = wrapped(curve.phase_deg[k]? - wanted_deg);
            let off_db = curve.magnitude_db[k]? - wanted_db;
            Some((off_db, curve.magnitude_db_u[k]?, off_deg, curve.phase_deg_u[k]?))
        });
        points.collect::<Vec<_>>()
    });
    let points = || found.iter().flatten();
    let magnitude = points().map(|(off, u, ..)| (*off, *u));
    Accuracy::all("transfer, 1/12 octave: magnitude", "dB", magnitude).hold(0.07);
    let phase = points().map(|(.., off, u)| (*off, *u));
    Accuracy::all("transfer, 1/12 octave: phase", "degrees", phase).hold(0.45);
}

/// The phase of a resonance is the least that its magnitude allows.
#[test]
fn minimum_phase_is_that_of_the_filter() {
    let errors = in_parallel(trials(8, 40), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 6700);
        let filter = Resonance::random(&mut random);
        let (a, b) = pair(0, 2700 + 3 * seed, 20.0, 100.0);
        let mut b = filter.run(&b);
        add_noise(&mut b, 58_000 + seed, 60.0);
        let settings =
            TransferSettings { delay_s: Some(100.0 / RATE_HZ), ..TransferSettings::default() };
        let curve = measured(&a, &b, &settings).curve.expect("a curve");
        let within = (0..curve.frequency_hz.len()).step_by(31);
        let within = within.filter(|k| (50.0..15_000.0).contains(&curve.frequency_hz[*k]));
        let off = |k: usize| {
            let (_, wanted_deg) = filter.at(curve.frequency_hz[k]);
            let least = wrapped(curve.minimum_phase_deg[k]? - wanted_deg);
            Some([least, curve.excess_phase_deg[k]?])
        };
        within.filter_map(off).collect::<Vec<_>>()
    });
    let of = |n: usize| errors.iter().flatten().map(move |off| off[n]);
    Accuracy::all_bare("transfer: minimum phase", "degrees", of(0)).hold(0.012);
    Accuracy::all_bare("transfer: excess phase of a resonance", "degrees", of(1)).hold(0.02);
}

/// White noise in white noise: the coherence is SNR/(1 + SNR).
#[test]
fn coherence_is_the_share_of_the_reference() {
    let errors = in_parallel(trials(24, 100), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 7400);
        let snr: f64 = 10f64.powf(random.random_range(-0.5..2.0));
        let lasts_s = random.random_range(10.0..40.0);
        let (a, mut b) = pair(0, 800 + seed, lasts_s, 100.0);
        add_noise(&mut b, 66_000 + seed, 10.0 * snr.log10());
        let settings = TransferSettings {
            least_coherence: 0.0,
            estimator: if seed % 2 == 0 { Estimator::H1 } else { Estimator::Hv },
            ..TransferSettings::default()
        };
        let curve = measured(&a, &b, &settings).curve.expect("a curve");
        let mean = curve.coherence.iter().sum::<f64>() / curve.coherence.len() as f64;
        mean - snr / (1.0 + snr)
    });
    Accuracy::all_bare("transfer, noise in noise: coherence", "", errors).hold_worst(0.008);
}

/// Two reflections in noise: when, how strong, and how far.
#[test]
fn reflections_are_where_they_are() {
    let found = in_parallel(trials(12, 60), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 8400);
        let (a, direct) = pair(seed % 2, 1200 + seed, 20.0, random.random_range(-3000.0..3000.0));
        let late = [random.random_range(60..600), random.random_range(700..3000)];
        let level: [f64; 2] = std::array::from_fn(|_| random.random_range(0.15..0.7));
        let mut b = direct.clone();
        for (late, level) in late.iter().zip(level) {
            for n in *late..b.len() {
                b[n] += level * direct[n - late];
            }
        }
        add_noise(&mut b, 88_000 + seed, 30.0);
        let settings = TransferSettings {
            frames: FrameSettings {
                segment: Some(Extent::Samples(32_768)),
                ..FrameSettings::default()
            },
            ..TransferSettings::default()
        };
        let found = measured(&a, &b, &settings);
        late.iter()
            .zip(level)
            .map(|(late, level)| {
                let expected_s = *late as f64 / RATE_HZ;
                let nearest = found
                    .reflections
                    .iter()
                    .min_by(|a, b| {
                        let away = |of: f64| (of - expected_s).abs();
                        away(a.delay_s).total_cmp(&away(b.delay_s))
                    })
                    .expect("a reflection");
                (RATE_HZ * (nearest.delay_s - expected_s), nearest.level_db - 20.0 * level.log10())
            })
            .collect::<Vec<_>>()
    });
    let most = found.iter().flatten().map(|(samples, _)| samples.abs()).fold(0.0, f64::max);
    println!("reflections are {most:.1} samples off at most");
    assert!(most <= 1.0, "{most}");
    let levels = found.iter().flatten().map(|(_, db)| *db);
    Accuracy::all_bare("transfer, reflections: level", "dB", levels).hold(0.04);
}

/// Positions whose gains scatter about one: the mean of a few holds that of all.
#[test]
fn means_over_positions_are_those_of_the_room() {
    const SCATTER: f64 = 0.1;
    let found = in_parallel(trials(120, 400), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 7700);
        let (a, b) = pair(0, 91_000 + 5 * seed, 1.5, 20.0);
        let settings =
            TransferSettings { delay_s: Some(20.0 / RATE_HZ), ..TransferSettings::default() };
        let count = random.random_range(3..9);
        let position = |n: u64, random: &mut ChaCha8Rng| {
            // Normal by the sum of twelve that are even.
            let normal: f64 = (0..12).map(|_| random.random_range(-0.5..0.5)).sum();
            let mut b: Vec<f64> = b.iter().map(|x| x * (1.0 + SCATTER * normal)).collect();
            add_noise(&mut b, 95_000 + 20 * seed + n, 40.0);
            measured(&a, &b, &settings)
        };
        let all: Vec<Transfer> = (0..count).map(|n| position(n, &mut random)).collect();
        let level = |how: Smoothing| {
            let mean = mean_of(all.clone(), how).expect("one rate").expect("a mean");
            let band = mean.bands.into_iter().find(|band| band.center_hz == 1000.0);
            band.and_then(|band| band.magnitude_db).expect("1 kHz")
        };
        let power = level(Smoothing::Power);
        let complex = level(Smoothing::Complex);
        let of_power = 10.0 * (1.0 + SCATTER * SCATTER).log10();
        [(power.value - of_power, power.u), (complex.value, complex.u)]
    });
    for (n, name) in ["power", "complex"].into_iter().enumerate() {
        let errors = found.iter().map(|both| both[n]);
        Accuracy::all(format!("transfer, mean of positions: {name}"), "dB", errors).hold(0.7);
    }
}
