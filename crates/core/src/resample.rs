//! A sound at another sample rate.

use rustfft::num_complex::Complex64;

use crate::transform::{InverseTransform, RealTransform, fast_length};

/// Share of the lower of the two bands over which the band ends: a raised cosine.
const EDGE: f64 = 0.02;
/// Silence that keeps the end of the sound from its beginning, in seconds.
const APART_S: f64 = 0.1;

/// The sound at another sample rate, band-limited: its spectrum cut or lengthened to the new band. Both
/// rates are in Hz, and not 0.
///
/// What lies below 0.98 of half the lower rate stays as it is, to −140 dB; what lies above half of it is
/// gone.
#[must_use]
pub fn resampled(sound: &[f32], from_hz: u32, to_hz: u32) -> Vec<f32> {
    if from_hz == to_hz || sound.is_empty() {
        return sound.to_vec();
    }
    let common = divisor(from_hz, to_hz);
    let (down, up) = ((from_hz / common) as usize, (to_hz / common) as usize);
    let apart = (APART_S * f64::from(from_hz)) as usize;
    // Even, so that both have a bin at half the rate.
    let blocks = 2 * fast_length((sound.len() + apart).div_ceil(2 * down));
    let (before, after) = (blocks * down, blocks * up);
    let mut values: Vec<f64> = sound.iter().map(|x| f64::from(*x)).collect();
    values.resize(before, 0.0);
    let mut transform = RealTransform::new(before);
    let spectrum = transform.forward(&mut values);
    let kept = before.min(after) / 2;
    let gain = |k: usize| {
        let inside = (1.0 - k as f64 / kept as f64) / EDGE;
        let turn = std::f64::consts::FRAC_PI_2 * inside.clamp(0.0, 1.0);
        turn.sin().powi(2) / before as f64
    };
    let mut made = vec![Complex64::default(); after / 2 + 1];
    for (k, (made, bin)) in made.iter_mut().zip(&spectrum[..=kept]).enumerate() {
        *made = bin * gain(k);
    }
    let mut back = InverseTransform::new(after);
    let count = (sound.len() * up).div_ceil(down);
    back.backward(&mut made)[..count].iter().map(|x| *x as f32).collect()
}

fn divisor(a: u32, b: u32) -> u32 {
    if b == 0 { a } else { divisor(b, a % b) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    #[test]
    fn a_tone_is_the_same_tone_at_another_rate() {
        let tone = |hz: f64, rate_hz: u32, count: usize| -> Vec<f32> {
            let at = |n: usize| {
                let t = n as f64 / f64::from(rate_hz);
                // It swells and fades, so that its ends are no steps.
                let swell = (std::f64::consts::PI * t / 0.5).sin().max(0.0).powi(4);
                (0.5 * swell * (TAU * hz * t + 0.3).cos()) as f32
            };
            (0..count).map(at).collect()
        };
        let mut worst_of_all = 0.0f32;
        for (from, to) in [(48_000, 44_100), (44_100, 48_000), (48_000, 96_000), (96_000, 32_000)] {
            for hz in [55.0, 1234.5, 15_000.0] {
                let made = resampled(&tone(hz, from, from as usize / 2), from, to);
                let truth = tone(hz, to, made.len());
                assert_eq!(made.len(), (to / 2) as usize);
                let worst = made.iter().zip(&truth).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
                worst_of_all = worst_of_all.max(worst);
            }
        }
        println!("a tone of amplitude 0.5 is off by {worst_of_all:.1e} at most");
        assert!(worst_of_all < 9e-8, "{worst_of_all}");
        // What the lower rate cannot hold is gone.
        let gone = resampled(&tone(20_000.0, 96_000, 48_000), 96_000, 32_000);
        let left = gone.iter().fold(0.0f32, |most, x| most.max(x.abs()));
        println!("of one that it cannot hold {left:.1e} is left at most");
        assert!(left < 4e-8, "{left}");
        assert_eq!(resampled(&[0.5, 0.25], 48_000, 48_000), [0.5, 0.25]);
    }
}
