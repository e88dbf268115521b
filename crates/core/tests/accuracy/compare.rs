//! Comparisons against known truth: delay, polarity, drift, gain, filters, and how often chance is
//! taken for a difference.

use std::f64::consts::{PI, TAU};

use rand::{Rng, RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use realfft::num_complex::Complex;
use tonemap_core::compare::{CompareSettings, Comparison, Sound, compare};
use tonemap_core::synth::{low_passed, to_samples, white_noise};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    delay_polarity_and_gain_are_found_in_noise,
    a_steady_tone_is_not_a_period_off,
    the_drift_between_two_clocks_is_found,
    an_uneven_clock_is_followed,
    a_filter_is_told_where_both_stand_out_of_their_noise_and_nowhere_else,
    chance_is_not_taken_for_a_difference,
];

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
    let sound = |samples| Sound { samples, rate_hz: RATE, full_scale_db: 0.0, note: None };
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

    /// Samples of the sound as a recorder hears it that is late, and whose clock runs fast by a
    /// share.
    fn samples(&self, count: usize, delay_s: f64, drift: f64, gain: f64) -> Vec<f64> {
        let step_s = 1.0 / (RATE * (1.0 + drift));
        let first_s = -delay_s / (1.0 + drift) - self.start_s;
        let begins = (-first_s / step_s).ceil().clamp(0.0, count as f64) as usize;
        let mut sound = vec![0.0; count];
        for (hz, a, phase, decay) in &self.tones {
            // Each sample is the one before, turned and shrunk.
            let at = |t: f64| Complex::from_polar((-decay * t).exp(), TAU * hz * t);
            let turn = at(step_s);
            let mut z =
                at(first_s + begins as f64 * step_s) * Complex::from_polar(gain * a, *phase);
            for x in &mut sound[begins..] {
                *x += z.re;
                z *= turn;
            }
        }
        // Plucks begin within half a millisecond, as sounds that a microphone hears do.
        for (n, x) in sound.iter_mut().enumerate().skip(begins) {
            *x *= 1.0 - (-(first_s + n as f64 * step_s) / 2e-4).exp();
        }
        sound
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
pub(crate) fn delay_polarity_and_gain_are_found_in_noise() {
    let errors = in_parallel(trials(100, 200), |case| {
        let mut rng = ChaCha8Rng::seed_from_u64(91_0000 + case);
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
        let aligned = found.alignment.expect("one sound");
        assert_eq!(aligned.is_reversed, gain < 0.0, "case {case}");
        let delay = (aligned.delay_s.value * RATE - delay, aligned.delay_s.u * RATE);
        (delay, (aligned.gain_db.value - 20.0 * gain.abs().log10(), aligned.gain_db.u))
    });
    let (delay, gain): (Vec<_>, Vec<_>) = errors.into_iter().unzip();
    Accuracy::all("delay between two recordings at 40 dB", "samples", delay).hold(0.0017);
    Accuracy::all("gain between two recordings at 40 dB", "dB", gain).hold(0.0014);
}

/// A steady tone looks the same a period later but for its fades.
#[test]
pub(crate) fn a_steady_tone_is_not_a_period_off() {
    let errors = in_parallel(trials(100, 400), |case| {
        let mut rng = ChaCha8Rng::seed_from_u64(97_0000 + case);
        let f0_hz = 80.0 * 18f64.powf(rng.random_range(0.0..1.0));
        let (lasts_s, fade_s) = (rng.random_range(1.0..3.0), rng.random_range(0.01..0.06));
        let (delay_s, fall) = (rng.random_range(-0.3..0.3), rng.random_range(0.5..1.5f64));
        let below_db: f64 = rng.random_range(30.0..60.0);
        let harmonic =
            |n: usize| (n as f64 * f0_hz, (n as f64).powf(-fall), rng.random_range(0.0..TAU), 0.0);
        let mut source = Source { tones: (1..20).map(harmonic).collect(), start_s: 0.5 };
        source.tones.retain(|tone| tone.0 < 0.45 * RATE);
        let tone = |late_s: f64, seed: u64| {
            let count = ((lasts_s + 1.0) * RATE) as usize;
            let mut sound = source.samples(count, late_s, 0.0, 0.05);
            for (n, x) in sound.iter_mut().enumerate() {
                let t = n as f64 / RATE - source.start_s - late_s;
                let fade = (t / fade_s).min((lasts_s - t) / fade_s).clamp(0.0, 1.0);
                *x *= 0.5 - 0.5 * (PI * fade).cos();
            }
            let noise = rms(&sound) * 10f64.powf(-below_db / 20.0);
            with_noise(sound, noise, seed)
        };
        let found = aligned(&tone(0.0, 30_000 + 2 * case), &tone(delay_s, 30_001 + 2 * case));
        let delay = found.alignment.expect("one sound").delay_s;
        let off = delay.value - delay_s;
        assert!(off.abs() < 0.3 / f0_hz, "case {case}: {:.2} periods off", off * f0_hz);
        (1e9 * off, 1e9 * delay.u)
    });
    Accuracy::all("delay of a steady tone between fades", "ns", errors).hold(24.0);
}

#[test]
pub(crate) fn the_drift_between_two_clocks_is_found() {
    let errors = in_parallel(trials(100, 200), |case| {
        let mut rng = ChaCha8Rng::seed_from_u64(92_0000 + case);
        let mut source = Source::noise(&mut rng, -1.0, 6000.0);
        source.tones.truncate(40);
        let drift = match case % 5 {
            0 => 0.0,
            1 => 150.0,
            _ => rng.random_range(-30.0..30.0),
        };
        let delay_s = rng.random_range(-0.1..0.1);
        let count = (rng.random_range(3.0..4.0) * RATE) as usize;
        let a = source.samples(count, 0.0, 0.0, 0.02);
        let b = source.samples(count, delay_s, 1e-6 * drift, 0.02);
        let noise = rms(&a) / 100.0;
        let seed = 10 * case;
        let found = aligned(&with_noise(a, noise, seed), &with_noise(b, noise, seed + 1));
        let aligned = found.alignment.expect("one sound");
        let of = aligned.drift_ppm.expect("long enough");
        assert!(aligned.residual_re_b_db.is_some_and(|db| db < -36.0), "both are noisy by −40 dB");
        let delay = (aligned.delay_s.value - delay_s) * RATE;
        ((of.value - drift, of.u), (delay, aligned.delay_s.u * RATE))
    });
    let (drift, delay): (Vec<_>, Vec<_>) = errors.into_iter().unzip();
    Accuracy::all("drift between two clocks over 3 to 4 s at 40 dB", "ppm", drift).hold(0.08);
    Accuracy::all("delay between two clocks that drift", "samples", delay).hold(0.0075);
}

/// Turntables and tapes: the speed goes up and down by up to 0.1 % once or so a second.
#[test]
pub(crate) fn an_uneven_clock_is_followed() {
    let found = in_parallel(trials(8, 40), |case| {
        let mut rng = ChaCha8Rng::seed_from_u64(94_0000 + case);
        let mut source = Source::noise(&mut rng, -1.0, 9000.0);
        // As loud as music is at high frequencies.
        source.tones.iter_mut().for_each(|tone| tone.1 *= 300.0 / tone.0.max(300.0));
        let (rate, depth) = (rng.random_range(0.4..0.8f64), rng.random_range(2e-4..1e-3));
        let reach_s = depth / (TAU * rate);
        let (turn, delay_s) = (rng.random_range(0.0..TAU), rng.random_range(-0.1..0.1));
        let count = 14 * RATE as usize;
        let at = |late_s: f64, reach_s: f64| -> Vec<f64> {
            let sound = |n: usize| {
                let t = n as f64 / RATE;
                let t = t - late_s - reach_s * (TAU * rate * t + turn).sin() - source.start_s;
                let tone =
                    |(hz, a, phase, _): &(f64, f64, f64, f64)| a * (TAU * hz * t + phase).cos();
                0.02 * source.tones.iter().map(tone).sum::<f64>()
            };
            (0..count).map(sound).collect()
        };
        let (a, b) = (at(0.0, 0.0), at(delay_s, reach_s));
        let noise = rms(&a) / 100.0;
        let found = aligned(&with_noise(a, noise, 20 * case), &with_noise(b, noise, 20 * case + 1));
        let aligned = found.alignment.expect("one sound");
        let wander_s = aligned.wander_s.expect("an uneven clock");
        let left_db = aligned.residual_re_b_db.expect("noise");
        println!("{case}: {:.3} ms, left {left_db:.1} dB", 1e3 * reach_s);
        (wander_s / (reach_s / 2f64.sqrt()) - 1.0, left_db)
    });
    let (wander, left): (Vec<f64>, Vec<f64>) = found.into_iter().unzip();
    let percent = wander.iter().map(|share| 100.0 * share);
    Accuracy::all_bare("wander of an uneven clock at 40 dB", "%", percent).hold(1.5);
    // Both are noisy by −40 dB: no less than −37 dB can be left.
    assert!(left.iter().all(|db| (-37.2..-36.5).contains(db)), "{left:?}");
}

#[test]
pub(crate) fn a_filter_is_told_where_both_stand_out_of_their_noise_and_nowhere_else() {
    const SECONDS: usize = 10;
    let seeds = in_parallel(trials(6, 12), |seed| {
        let count = SECONDS * RATE as usize;
        // Coloured noise whose level falls; a filter of one pole on top; noise that is as loud
        // everywhere.
        let cut_hz = 300.0 * 1.7f64.powi((seed % 6) as i32);
        let a = one_pole(&white_noise(500 + seed, 0.1, count), 500.0);
        let b = one_pole(&a, cut_hz);
        let noise = [3e-4, 1e-4, 1e-5, 3e-4, 1e-4, 3e-5][seed as usize % 6];
        let found = aligned(
            &with_noise(a.clone(), noise, 600 + seed),
            &with_noise(b.clone(), noise, 700 + seed),
        );
        let truth = aligned(&a, &b);
        let floor = aligned(&white_noise(800, noise, count), &white_noise(801, noise, count));
        assert!(found.alignment.is_some() && truth.alignment.is_some(), "{seed}");
        let (mut errors, mut real, mut masked) = (Vec::new(), 0, 0);
        for ((found, truth), floor) in found.bands.iter().zip(&truth.bands).zip(&floor.bands) {
            let over_noise = |db: Option<f64>, noise: Option<f64>| {
                db.expect("a level") - noise.expect("a level")
            };
            let snr = over_noise(truth.a_db, floor.a_db).min(over_noise(truth.b_db, floor.b_db));
            let (here, really) =
                (found.difference_db.expect("a level"), truth.difference_db.expect("a level"));
            if snr > 20.0 {
                errors.push(here - really);
                // Near the cut the difference is small; beyond it, it must be told.
                if really.abs() > 0.2 {
                    assert!(found.is_real, "{} Hz: {really} dB", truth.band.center_hz);
                    real += 1;
                }
            } else if snr < 17.0 {
                let centre_hz = truth.band.center_hz;
                assert!(!found.is_real && found.is_masked, "{centre_hz} Hz at {snr} dB");
                masked += 1;
            }
        }
        (errors, real, masked)
    });
    let (real, masked) = seeds.iter().fold((0, 0), |sum, of| (sum.0 + of.1, sum.1 + of.2));
    assert!(real > 6 * seeds.len() && masked > seeds.len(), "{real} {masked}");
    let errors = seeds.into_iter().flat_map(|of| of.0);
    Accuracy::all_bare("a filter in bands 20 dB over noise", "dB", errors).hold(0.01);
}

#[test]
fn what_is_the_same_does_not_differ() {
    let mut rng = ChaCha8Rng::seed_from_u64(93);
    let pluck = with_noise(Source::pluck(&mut rng, 0.02).samples(72_000, 0.0, 0.0, 0.05), 1e-4, 1);
    let noise = white_noise(4, 0.1, 96_000);
    for sound in [pluck, noise] {
        let found = compared(&sound, &sound);
        let aligned = found.alignment.expect("one sound");
        assert_eq!(
            (aligned.delay_s.value, aligned.is_reversed, aligned.residual_db),
            (0.0, false, None)
        );
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
pub(crate) fn chance_is_not_taken_for_a_difference() {
    let pairs = in_parallel(trials(60, 120), |trial| {
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
        let any = |list: &[tonemap_core::compare::BandDifference]| list.iter().any(|d| d.is_real);
        let tables = [
            found.level.is_real || found.a_weighted.is_real,
            any(&found.bands),
            any(&found.curve),
            found.quantities.iter().any(|quantity| quantity.is_real == Some(true)),
        ];
        (real_differences(&found) > 0, tables)
    });
    let differ = pairs.iter().filter(|pair| pair.0).count();
    let of_tables = [0, 1, 2, 3].map(|table| pairs.iter().filter(|pair| pair.1[table]).count());
    println!(
        "{differ} of {} pairs of noise differ falsely: levels, bands, curve, descriptors {of_tables:?}",
        pairs.len()
    );
    assert!(differ <= pairs.len() / 20, "{differ} {of_tables:?}");
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
