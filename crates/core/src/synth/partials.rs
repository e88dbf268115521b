//! Sums of sinusoids that decay and waver: flutes, bells, any tone from its partials.

use std::f64::consts::TAU;

use rustfft::num_complex::Complex64;

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
    let mut sound = vec![0.0; (duration_s * sample_rate_hz).round() as usize];
    let heard = partials.iter().filter(|partial| partial.frequency_hz < sample_rate_hz / 2.0);
    if vibrato.rate_hz > 0.0 {
        // Time as the wavering tone counts it: ∫ 2^(depth/1200·sin(2π·rate·t)) dt, to first order.
        let depth = vibrato.depth_cents / 1200.0 * std::f64::consts::LN_2;
        let wavering = |n: usize| {
            let t = n as f64 / sample_rate_hz;
            t + depth * (1.0 - (TAU * vibrato.rate_hz * t).cos()) / (TAU * vibrato.rate_hz)
        };
        let times: Vec<f64> = (0..sound.len()).map(wavering).collect();
        for partial in heard {
            let (rate, mut amplitude) = (partial.fall(sample_rate_hz).exp(), partial.amplitude);
            for (x, t) in sound.iter_mut().zip(&times) {
                let turns = (partial.frequency_hz * t).fract();
                *x += amplitude * (TAU * turns + partial.phase_rad).cos();
                amplitude *= rate;
            }
        }
    } else {
        heard.for_each(|partial| partial.add_to(&mut sound, sample_rate_hz));
    }
    sound
}

impl Partial {
    /// By how much the logarithm of its amplitude changes from a sample to the next: 60 dB are a
    /// factor of 1000.
    fn fall(&self, sample_rate_hz: f64) -> f64 {
        -1000f64.ln() / (self.t60_s * sample_rate_hz)
    }

    /// Adds it to a sound that begins with it, block by block: within each it turns and falls on
    /// from sample to sample.
    fn add_to(&self, sound: &mut [f64], sample_rate_hz: f64) {
        const BLOCK: usize = 256;
        /// So many samples turn on side by side, none waiting for the one before.
        const LANES: usize = 4;
        let turns = self.frequency_hz / sample_rate_hz;
        let step = Complex64::new(self.fall(sample_rate_hz), TAU * turns);
        let on = (step * LANES as f64).exp();
        for (n, block) in sound.chunks_mut(BLOCK).enumerate() {
            let first = (n * BLOCK) as f64;
            let phase = TAU * (turns * first).fract() + self.phase_rad;
            let begin = self.amplitude * Complex64::new(step.re * first, phase).exp();
            let lane = |lane: usize| begin * (step * lane as f64).exp();
            let mut waves: [Complex64; LANES] = std::array::from_fn(lane);
            for samples in block.chunks_mut(LANES) {
                for (x, wave) in samples.iter_mut().zip(&mut waves) {
                    *x += wave.re;
                    *wave *= on;
                }
            }
        }
    }
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
    fn what_turns_on_from_sample_to_sample_is_the_cosine() {
        const RATE_HZ: f64 = 44_100.0;
        let mut worst: f64 = 0.0;
        for (frequency_hz, phase_rad, t60_s) in
            [(27.5, 0.3, f64::INFINITY), (1234.567, -2.0, 0.3), (19_999.9, 1.1, 4.0)]
        {
            let partial = Partial { frequency_hz, amplitude: 0.7, phase_rad, t60_s };
            let sound = render(&[partial], Vibrato::default(), RATE_HZ, 1.234_567);
            assert_eq!(sound.len(), 54_444, "no whole number of blocks");
            for (n, x) in sound.iter().enumerate() {
                let t = n as f64 / RATE_HZ;
                let amplitude = 0.7 * 1000f64.powf(-t / t60_s);
                let angle = TAU * (frequency_hz * t).fract() + phase_rad;
                worst = worst.max((x - amplitude * angle.cos()).abs());
            }
        }
        println!("{worst:e}");
        assert!(worst < 1.5e-11, "{worst:e}");
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
