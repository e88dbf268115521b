//! Sounds made from numbers, so that the truth about them is known.
//!
//! Everything is computed in `f64` and depends only on its arguments: noise comes from a generator
//! (ChaCha) that gives the same values on every machine. [`to_samples`] narrows to `f32` at the
//! end.

pub mod alder_hall;
pub mod alder_rooms;
mod partials;
mod player;
mod recipe;
mod simulated;
mod string;
mod sweep;
mod unison;

pub use partials::{Partial, Vibrato, harmonics, render};
pub use player::Player;
pub use recipe::{Recipe, RecordedVoice, Voice};
pub use simulated::Simulated;
pub use string::PluckedString;
pub use sweep::Sweep;
pub use unison::{StruckUnison, room};

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::SeedableRng;
use rand_distr::{Distribution, StandardNormal};
use rustfft::num_complex::Complex;
use std::f64::consts::TAU;

use crate::transform::{fast_length, inverse};

/// Narrows samples to what recordings hold.
#[must_use]
pub fn to_samples(sound: &[f64]) -> Vec<f32> {
    sound.iter().map(|x| *x as f32).collect()
}

/// `samples` samples of A·cos(2πft + φ), t from the first sample.
#[must_use]
pub fn sine(
    frequency_hz: f64,
    amplitude: f64,
    phase_rad: f64,
    sample_rate_hz: f64,
    samples: usize,
) -> Vec<f32> {
    (0..samples)
        .map(|n| {
            let turns = (frequency_hz / sample_rate_hz * n as f64).fract();
            (amplitude * (TAU * turns + phase_rad).cos()) as f32
        })
        .collect()
}

/// White Gaussian noise of standard deviation `rms`.
#[must_use]
pub fn white_noise(seed: u64, rms: f64, samples: usize) -> Vec<f64> {
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    (0..samples)
        .map(|_| {
            let value: f64 = StandardNormal.sample(&mut generator);
            rms * value
        })
        .collect()
}

/// Noise band-passed around `centre_hz` by a second-order resonator of quality `q`: the breath in
/// a flute, the air in a room. Its RMS is `rms`.
#[must_use]
pub fn coloured_noise(
    seed: u64,
    rms: f64,
    centre_hz: f64,
    q: f64,
    sample_rate_hz: f64,
    samples: usize,
) -> Vec<f64> {
    let omega = TAU * centre_hz / sample_rate_hz;
    let alpha = omega.sin() / (2.0 * q);
    let (a1, a2) = (-2.0 * omega.cos() / (1.0 + alpha), (1.0 - alpha) / (1.0 + alpha));
    let (mut x1, mut x2, mut y1, mut y2) = (0.0, 0.0, 0.0, 0.0);
    let mut noise: Vec<f64> = white_noise(seed, 1.0, samples)
        .into_iter()
        .map(|x| {
            let y = alpha / (1.0 + alpha) * (x - x2) - a1 * y1 - a2 * y2;
            (x2, x1, y2, y1) = (x1, x, y1, y);
            y
        })
        .collect();
    let power = noise.iter().map(|y| y * y).sum::<f64>() / samples.max(1) as f64;
    let scale = if power > 0.0 { rms / power.sqrt() } else { 0.0 };
    for y in &mut noise {
        *y *= scale;
    }
    noise
}

/// Gaussian noise of a given spectrum: `density` is its power per Hz, of which a sine of amplitude
/// 1 has ½.
#[must_use]
pub fn shaped_noise(
    seed: u64,
    samples: usize,
    sample_rate_hz: f64,
    density: impl Fn(f64) -> f64,
) -> Vec<f64> {
    let length = fast_length(samples.max(2));
    let spacing_hz = sample_rate_hz / length as f64;
    let mut generator = ChaCha8Rng::seed_from_u64(seed);
    let spectrum = (0..=length / 2).map(|k| {
        let (re, im) =
            (StandardNormal.sample(&mut generator), StandardNormal.sample(&mut generator));
        let power = density(k as f64 * spacing_hz) * sample_rate_hz * length as f64 / 2.0;
        let is_end = k == 0 || 2 * k == length;
        Complex::new(re, im) * if is_end { 0.0 } else { (0.5 * power).sqrt() }
    });
    let mut noise = inverse(spectrum.collect(), length);
    noise.truncate(samples);
    noise
}

/// `sound` without what lies above `cut_hz`, as lossy coders and converters to a lower sample rate
/// leave it: a sinc of 8 ms under a Hann window, which falls within some 500 Hz.
#[must_use]
pub fn low_passed(sound: &[f64], cut_hz: f64, sample_rate_hz: f64) -> Vec<f64> {
    low_passed_by(sound, cut_hz, sample_rate_hz, (0.008 * sample_rate_hz) as usize)
}

/// The same by a sinc of `taps` taps.
pub(crate) fn low_passed_by(
    sound: &[f64],
    cut_hz: f64,
    sample_rate_hz: f64,
    taps: usize,
) -> Vec<f64> {
    let half = taps as f64 / 2.0;
    let omega = TAU * cut_hz / sample_rate_hz;
    let kernel: Vec<f64> = (0..=taps)
        .map(|n| {
            let x = n as f64 - half;
            let sinc = if x == 0.0 { omega } else { (omega * x).sin() / x };
            sinc / std::f64::consts::PI * (std::f64::consts::PI * x / taps as f64).cos().powi(2)
        })
        .collect();
    (0..sound.len())
        .map(|n| kernel.iter().take(n + 1).enumerate().map(|(k, h)| h * sound[n - k]).sum())
        .collect()
}

/// Adds `other` to `sound`, sample by sample, as far as both go.
pub fn mix(sound: &mut [f64], other: &[f64]) {
    sound.iter_mut().zip(other).for_each(|(x, y)| *x += y);
}

/// Fades in and out over `fade_s` seconds with a raised cosine.
pub fn fade(sound: &mut [f64], fade_s: f64, sample_rate_hz: f64) {
    let length = ((fade_s * sample_rate_hz) as usize).min(sound.len() / 2);
    let count = sound.len();
    for n in 0..length {
        let gain = 0.5 - 0.5 * (std::f64::consts::PI * (n as f64 + 0.5) / length as f64).cos();
        sound[n] *= gain;
        sound[count - 1 - n] *= gain;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn noise_is_the_same_every_time_and_has_its_level() {
        assert_eq!(white_noise(7, 1.0, 100), white_noise(7, 1.0, 100));
        assert_ne!(white_noise(7, 1.0, 100), white_noise(8, 1.0, 100));
        let power = white_noise(1, 0.1, 100_000).iter().map(|x| x * x).sum::<f64>() / 1e5;
        assert!((power.sqrt() - 0.1).abs() < 0.001);
        let coloured = coloured_noise(1, 0.1, 2000.0, 1.0, 48_000.0, 48_000);
        let power = coloured.iter().map(|x| x * x).sum::<f64>() / 48_000.0;
        assert!((power.sqrt() - 0.1).abs() < 1e-12);
    }

    #[test]
    fn fades_reach_silence_at_both_ends_and_leave_the_middle() {
        let mut sound = vec![1.0; 1000];
        fade(&mut sound, 0.1, 1000.0);
        assert!(sound[0] < 0.001 && sound[999] < 0.001);
        assert!((sound[500] - 1.0).abs() < 1e-12);
    }
}
