//! Sweeps and their inverse filters.

use std::f64::consts::TAU;

/// A sweep of one amplitude.
///
/// The exponential one has the phase 2π·f₁·L·(exp(t/L) − 1) with L = T/ln(f₂/f₁), the linear one
/// 2π·(f₁t + (f₂ − f₁)t²/2T).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sweep {
    /// Frequency at the beginning in Hz.
    pub from_hz: f64,
    /// Frequency at the end in Hz.
    pub to_hz: f64,
    /// Whether equal times pass equal intervals, or equal differences.
    pub exponential: bool,
    /// Amplitude re full scale.
    pub amplitude: f64,
}

impl Sweep {
    /// Turns of the phase at the time t of a sweep that lasts `length_s`.
    pub(super) fn turns(&self, t: f64, length_s: f64) -> f64 {
        if self.exponential {
            let growth = (self.to_hz / self.from_hz).ln() / length_s;
            self.from_hz * (growth * t).exp_m1() / growth
        } else {
            self.from_hz * t + 0.5 * (self.to_hz - self.from_hz) / length_s * t * t
        }
    }

    /// The inverse filter of a sweep of `samples` samples: convolved with the sweep it gives an
    /// impulse of height 1 at sample `samples` − 1. The sweep backwards; for an exponential one its
    /// level rises with the frequency by 6 dB an octave more than the sweep stays there shorter
    /// (A. Farina, 108th AES Convention, 2000).
    #[must_use]
    pub fn inverse(&self, samples: usize, sample_rate_hz: f64) -> Vec<f64> {
        let length_s = samples as f64 / sample_rate_hz;
        let growth = (self.to_hz / self.from_hz).ln() / length_s;
        let sweep: Vec<f64> = (0..samples)
            .map(|n| (TAU * self.turns(n as f64 / sample_rate_hz, length_s).fract()).sin())
            .collect();
        let mut inverse: Vec<f64> = sweep
            .iter()
            .enumerate()
            .map(|(n, x)| {
                let envelope =
                    if self.exponential { (growth * n as f64 / sample_rate_hz).exp() } else { 1.0 };
                x * envelope
            })
            .collect();
        let height: f64 =
            self.amplitude * sweep.iter().zip(&inverse).map(|(a, b)| a * b).sum::<f64>();
        for x in &mut inverse {
            *x /= height;
        }
        inverse.reverse();
        inverse
    }
}
