//! Sums of sinusoids that decay and waver: flutes, bells, any tone from its partials.

use std::f64::consts::TAU;

/// One partial of a synthetic tone.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Partial {
    /// Frequency in Hz.
    pub frequency_hz: f64,
    /// Amplitude at the start, re full scale.
    pub amplitude: f64,
    /// Phase of a cosine at the start, in radians.
    pub phase_rad: f64,
    /// Time in which its level falls by 60 dB, in seconds; infinite for a steady one.
    pub t60_s: f64,
}

/// A regular wavering of the frequency of all partials alike.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Vibrato {
    /// Rate in Hz.
    pub rate_hz: f64,
    /// Depth in cents, peak.
    pub depth_cents: f64,
}

/// The sum of `partials` over `duration_s` seconds. Partials at or above the Nyquist frequency are
/// left out.
#[must_use]
pub fn render(
    partials: &[Partial],
    vibrato: Vibrato,
    sample_rate_hz: f64,
    duration_s: f64,
) -> Vec<f64> {
    let samples = (duration_s * sample_rate_hz).round() as usize;
    // Time as the wavering tone counts it: ∫ 2^(depth/1200·sin(2π·rate·t)) dt, to first order.
    let depth = vibrato.depth_cents / 1200.0 * std::f64::consts::LN_2;
    let wavering: Vec<f64> = (0..samples)
        .map(|n| {
            let t = n as f64 / sample_rate_hz;
            if vibrato.rate_hz > 0.0 {
                let turns = vibrato.rate_hz * t;
                t + depth * (1.0 - (TAU * turns).cos()) / (TAU * vibrato.rate_hz)
            } else {
                t
            }
        })
        .collect();
    let mut sound = vec![0.0; samples];
    for partial in partials.iter().filter(|p| p.frequency_hz < sample_rate_hz / 2.0) {
        // 60 dB are a factor of 1000 in amplitude.
        let fall = 1000f64.powf(-1.0 / (partial.t60_s * sample_rate_hz));
        let mut amplitude = partial.amplitude;
        for (x, t) in sound.iter_mut().zip(&wavering) {
            let turns = (partial.frequency_hz * t).fract();
            *x += amplitude * (TAU * turns + partial.phase_rad).cos();
            amplitude *= fall;
        }
    }
    sound
}

/// Harmonics 1, 2, 3, … of a steady tone with the given amplitudes, each starting at zero (sine
/// phase).
#[must_use]
pub fn harmonics(f0_hz: f64, amplitudes: &[f64]) -> Vec<Partial> {
    (1..)
        .zip(amplitudes)
        .map(|(n, amplitude)| Partial {
            frequency_hz: f64::from(n) * f0_hz,
            amplitude: *amplitude,
            phase_rad: -TAU / 4.0,
            t60_s: f64::INFINITY,
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_partial_falls_by_60_db_in_its_t60() {
        let partial = Partial { frequency_hz: 1000.0, amplitude: 1.0, phase_rad: 0.0, t60_s: 0.5 };
        let sound = render(&[partial], Vibrato::default(), 48_000.0, 0.6);
        // Every 48th sample is a maximum.
        assert!((sound[0] - 1.0).abs() < 1e-12);
        assert!((sound[24_000] - 1e-3).abs() < 1e-9);
    }

    #[test]
    fn vibrato_has_the_stated_rate_and_depth() {
        let steady = &harmonics(440.0, &[1.0]);
        let sound = render(steady, Vibrato { rate_hz: 5.0, depth_cents: 50.0 }, 48_000.0, 1.0);
        // Periods between rising zero crossings, interpolated.
        let crossings: Vec<f64> = sound
            .windows(2)
            .enumerate()
            .filter(|(_, pair)| pair[0] < 0.0 && pair[1] >= 0.0)
            .map(|(n, pair)| n as f64 + pair[0] / (pair[0] - pair[1]))
            .collect();
        let cents: Vec<f64> = crossings
            .windows(2)
            .map(|pair| 1200.0 * (48_000.0 / (pair[1] - pair[0]) / 440.0).log2())
            .collect();
        let highest = cents.iter().copied().fold(f64::MIN, f64::max);
        let lowest = cents.iter().copied().fold(f64::MAX, f64::min);
        assert!((highest - 50.0).abs() < 1.5, "{highest}");
        assert!((lowest + 50.0).abs() < 1.5, "{lowest}");
    }

    #[test]
    fn partials_above_the_nyquist_frequency_are_left_out() {
        let sound = render(&harmonics(30_000.0, &[1.0]), Vibrato::default(), 48_000.0, 0.01);
        assert!(sound.iter().all(|x| *x == 0.0));
    }
}
