//! Comparisons against known truth: delay, polarity, drift, gain, filters, and how often chance is taken for a difference.

use std::f64::consts::TAU;

use rand::{Rng, RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::compare::{CompareSettings, Comparison, Sound, compare};
use tonemap_core::synth::{low_passed, to_samples, white_noise};

const RATE: f64 = 48_000.0;

fn compared(a: &[f64], b: &[f64]) -> Comparison {
    compared_by(a, b, &CompareSettings::default())
}

/// The same without partials and descriptors, which are another matter.
fn aligned(a: &[f64], b: &[f64]) -> Comparison {
    compared_by(a, b, &CompareSettings { timbre: None, ..CompareSettings::default() })
}

fn compared_by(a: &[f64], b: &[f64], settings: &CompareSettings) -> Comparison {
    let (a, b) = (to_samples(a), to_samples(b));
    let sound = |samples| Sound { samples, rate_hz: RATE, full_scale_db: 0.0 };
    compare(sound(&a), sound(&b), settings).expect("comparable")
}

/// A sound as a function of time, so that it can be read at any.
struct Source {
    tones: Vec<(f64, f64, f64, f64)>,
    start_s: f64,
}

impl Source {
    /// A dense cluster of tones to 18 kHz: noise that is known between its samples.
    fn noise(rng: &mut impl Rng, start_s: f64, highest_hz: f64) -> Self {
        let tone = |_| {
            let hz = rng.random_range(30.0..highest_hz);
            (hz, rng.random_range(0.5..1.0), rng.random_range(0.0..TAU), 0.0)
        };
        Self { tones: (0..120).map(tone).collect(), start_s }
    }

    /// A pluck: harmonics that begin together and die away.
    fn pluck(rng: &mut impl Rng, start_s: f64) -> Self {
        let f0_hz = rng.random_range(60.0..900.0);
        let tone = |n: usize| {
            let n = n as f64;
            let (phase, decay) = (rng.random_range(0.0..TAU), 2.0 + 0.5 * n);
            (n * f0_hz * (1.0 + 2e-4 * n * n).sqrt(), 1.0 / n, phase, decay)
        };
        let tones: Vec<_> = (1..30).map(tone).filter(|tone| tone.0 < 18_000.0).collect();
        Self { tones, start_s }
    }

    fn at(&self, time_s: f64) -> f64 {
        let t = time_s - self.start_s;
        if t < 0.0 {
            return 0.0;
        }
        let tone = |(hz, a, phase, decay): &(f64, f64, f64, f64)| {
            a * (-decay * t).exp() * (TAU * hz * t + phase).cos()
        };
        // Plucks begin within half a millisecond, as sounds that a microphone hears do.
        self.tones.iter().map(tone).sum::<f64>() * (1.0 - (-t / 2e-4).exp())
    }

    /// Samples of the sound as a recorder hears it that is late, and whose clock runs fast by a share.
    fn samples(&self, count: usize, delay_s: f64, drift: f64, gain: f64) -> Vec<f64> {
        let time_s = |n: usize| (n as f64 / RATE - delay_s) / (1.0 + drift);
        (0..count).map(|n| gain * self.at(time_s(n))).collect()
    }
}

fn rms(x: &[f64]) -> f64 {
    (x.iter().map(|x| x * x).sum::<f64>() / x.len() as f64).sqrt()
}

fn with_noise(mut x: Vec<f64>, rms: f64, seed: u64) -> Vec<f64> {
    let noise = white_noise(seed, rms, x.len());
    x.iter_mut().zip(noise).for_each(|(x, noise)| *x += noise);
    x
}

#[test]
fn delay_polarity_and_gain_are_found_in_noise() {
    let mut rng = ChaCha8Rng::seed_from_u64(91);
    let (mut squares, mut covered, mut worst_gain, mut gain_covered) = (0.0, 0, 0.0f64, 0);
    let cases = 200;
    for case in 0..cases {
        let start_s = rng.random_range(0.0..0.1);
        let source = match case % 4 {
            0 => Source::noise(&mut rng, -1.0, 18_000.0),
            1 => Source::noise(&mut rng, -1.0, 2000.0),
            _ => Source::pluck(&mut rng, start_s),
        };
        let duration_s: f64 = rng.random_range(0.3..1.2);
        let count = (duration_s * RATE) as usize;
        let delay = rng.random_range(-3000.0..3000.0f64);
        let sign = if rng.random_bool(0.5) { -1.0 } else { 1.0 };
        let gain = sign * 10f64.powf(rng.random_range(-20.0..6.0) / 20.0);
        let a = source.samples(count, 0.0, 0.0, 0.02);
        let b = source.samples(count, delay / RATE, 0.0, 0.02 * gain);
        let noise = |x: &[f64]| rms(x) / 100.0;
        let (in_a, in_b) = (noise(&a), noise(&b));
        let found = aligned(&with_noise(a, in_a, 2 * case), &with_noise(b, in_b, 2 * case + 1));
        let lie = found.lie.expect("one sound");
        let error = (lie.delay_s.value - delay / RATE) * RATE;
        squares += error * error;
        covered += usize::from(error.abs() < 2.0 * lie.delay_s.u * RATE);
        assert_eq!(lie.is_reversed, gain < 0.0, "case {case}");
        let gain_error = lie.gain_db.value - 20.0 * gain.abs().log10();
        worst_gain = worst_gain.max(gain_error.abs());
        gain_covered += usize::from(gain_error.abs() < 2.0 * lie.gain_db.u);
    }
    let rms = (squares / f64::from(cases as u32)).sqrt();
    println!(
        "delay {rms:.5} samples RMS, 2u covers {covered} of {cases}; gain {worst_gain:.5} dB worst, 2u covers {gain_covered}"
    );
    assert!(rms < 0.01 && worst_gain < 0.01);
    assert!(covered >= 180 && gain_covered >= 180);
}

#[test]
fn the_drift_between_two_clocks_is_found() {
    let mut rng = ChaCha8Rng::seed_from_u64(92);
    let (mut worst, mut covered) = (0.0f64, 0);
    let drifts = [20.0, -20.0, 3.0, 150.0, 0.0];
    for (case, drift) in drifts.into_iter().enumerate() {
        let mut source = Source::noise(&mut rng, -1.0, 6000.0);
        source.tones.truncate(40);
        let delay_s = rng.random_range(-0.1..0.1);
        let count = 30 * RATE as usize;
        let a = source.samples(count, 0.0, 0.0, 0.02);
        let b = source.samples(count, delay_s, 1e-6 * drift, 0.02);
        let noise = rms(&a) / 100.0;
        let seed = 10 * case as u64;
        let found = aligned(&with_noise(a, noise, seed), &with_noise(b, noise, seed + 1));
        let lie = found.lie.expect("one sound");
        let told = lie.drift_ppm.expect("long enough");
        let delay_error = (lie.delay_s.value - delay_s) * RATE;
        println!(
            "{drift} ppm: told {:.5} (u {:.5}), delay {delay_error:.5} samples off (u {:.5}), residual {:.1} dB",
            told.value,
            told.u,
            lie.delay_s.u * RATE,
            lie.residual_re_b_db.unwrap_or(f64::NAN)
        );
        worst = worst.max((told.value - drift).abs());
        covered += usize::from((told.value - drift).abs() < 2.0 * told.u);
        assert_eq!(lie.is_drifting, drift != 0.0);
        assert!(delay_error.abs() < 0.01);
        assert!(lie.residual_re_b_db.is_some_and(|db| db < -36.0), "both are noisy by −40 dB");
    }
    println!("drift {worst:.5} ppm worst, 2u covers {covered} of {}", drifts.len());
    assert!(worst < 0.0006);
}

#[test]
fn a_filter_is_told_where_both_stand_out_of_their_noise_and_nowhere_else() {
    const SECONDS: usize = 20;
    let (mut worst, mut told, mut refused) = (0.0f64, 0, 0);
    for seed in 0..6u64 {
        let count = SECONDS * RATE as usize;
        // Coloured noise whose level falls; a filter of one pole on top; noise that is as loud everywhere.
        let cut_hz = 300.0 * 1.7f64.powi(seed as i32);
        let a = one_pole(&white_noise(500 + seed, 0.1, count), 500.0);
        let b = one_pole(&a, cut_hz);
        let noise = [3e-4, 1e-4, 1e-5, 3e-4, 1e-4, 3e-5][seed as usize];
        let found = aligned(
            &with_noise(a.clone(), noise, 600 + seed),
            &with_noise(b.clone(), noise, 700 + seed),
        );
        let truth = aligned(&a, &b);
        let floor = aligned(&white_noise(800, noise, count), &white_noise(801, noise, count));
        assert!(found.lie.is_some() && truth.lie.is_some(), "{seed}");
        for ((found, truth), floor) in found.bands.iter().zip(&truth.bands).zip(&floor.bands) {
            let over_noise = |db: Option<f64>, noise: Option<f64>| {
                db.expect("a level") - noise.expect("a level")
            };
            let snr = over_noise(truth.a_db, floor.a_db).min(over_noise(truth.b_db, floor.b_db));
            let (here, really) =
                (found.difference_db.expect("a level"), truth.difference_db.expect("a level"));
            if snr > 20.0 {
                worst = worst.max((here - really).abs());
                // Near the cut the difference is small; beyond it, it must be told.
                if really.abs() > 0.2 {
                    assert!(found.is_real, "{} Hz: {really} dB", truth.band.center_hz);
                    told += 1;
                }
            } else if snr < 17.0 {
                assert!(
                    !found.is_real && found.is_masked,
                    "{} Hz at {snr} dB",
                    truth.band.center_hz
                );
                refused += 1;
            }
        }
    }
    println!(
        "a filter: {worst:.4} dB worst at 20 dB over noise, {told} bands told, {refused} refused"
    );
    assert!(worst < 0.1 && told > 40 && refused > 10);
}

#[test]
fn what_is_the_same_does_not_differ() {
    let mut rng = ChaCha8Rng::seed_from_u64(93);
    let pluck = with_noise(Source::pluck(&mut rng, 0.02).samples(72_000, 0.0, 0.0, 0.05), 1e-4, 1);
    let noise = white_noise(4, 0.1, 96_000);
    for sound in [pluck, noise] {
        let found = compared(&sound, &sound);
        let lie = found.lie.expect("one sound");
        assert_eq!((lie.delay_s.value, lie.is_reversed, lie.residual_db), (0.0, false, None));
        assert_eq!(real_differences(&found), 0);
    }
}

/// Differences that are told as real.
fn real_differences(found: &Comparison) -> usize {
    let of_spectra =
        found.bands.iter().chain(&found.curve).chain([&found.level, &found.a_weighted]);
    of_spectra.filter(|difference| difference.is_real).count()
        + found.quantities.iter().filter(|quantity| quantity.is_real == Some(true)).count()
}

#[test]
fn chance_is_not_taken_for_a_difference() {
    let trials = 200;
    let (mut false_tables, mut false_comparisons) = ([0; 4], 0);
    for trial in 0..trials {
        let samples = [48_000, 96_000, 240_000][trial as usize % 3];
        let take = |seed| {
            let noise = white_noise(seed, 0.1, samples);
            // White, falling, and with a resonance 20 dB high.
            match trial % 4 {
                0 | 1 => noise,
                2 => low_passed(&noise, 400.0, RATE),
                _ => resonant(&noise, 700.0, 0.998),
            }
        };
        let found = compared(&take(10_000 + 2 * trial), &take(10_001 + 2 * trial));
        false_comparisons += usize::from(real_differences(&found) > 0);
        let any = |list: &[tonemap_core::compare::BandDifference]| list.iter().any(|d| d.is_real);
        let tables = [
            found.level.is_real || found.a_weighted.is_real,
            any(&found.bands),
            any(&found.curve),
            found.quantities.iter().any(|quantity| quantity.is_real == Some(true)),
        ];
        for (count, told) in false_tables.iter_mut().zip(tables) {
            *count += usize::from(told);
        }
    }
    println!(
        "{false_comparisons} of {trials} pairs of noise differ falsely: levels, bands, curve, descriptors {false_tables:?}"
    );
    assert!(false_comparisons <= trials as usize / 20);
}

/// A sound through a pole: it falls by 6 dB per octave above a frequency.
fn one_pole(x: &[f64], cut_hz: f64) -> Vec<f64> {
    let share = 1.0 - (-TAU * cut_hz / RATE).exp();
    let mut y = 0.0;
    x.iter()
        .map(|x| {
            y += share * (x - y);
            y
        })
        .collect()
}

/// Noise through a pair of poles at a frequency, `radius` from the middle.
fn resonant(noise: &[f64], hz: f64, radius: f64) -> Vec<f64> {
    let feedback = 2.0 * radius * (TAU * hz / RATE).cos();
    let (mut last, mut before) = (0.0, 0.0);
    noise
        .iter()
        .map(|x| {
            let y = x + feedback * last - radius * radius * before;
            (before, last) = (last, y);
            0.05 * y
        })
        .collect()
}
