//! A plucked, stiff string.

use super::partials::{Partial, Vibrato, render};

/// A plucked string with stiffness and losses.
///
/// Partial n has the frequency f_n = n·F·√(1 + B·n²) (H. Fletcher, J. Acoust. Soc. Am. 36, 1964).
/// Plucked at the share p of its length and heard as the velocity at the bridge, its amplitude goes
/// as sin(nπp)/n. It falls by 60 dB in T₁ / (1 + (n − 1)·damping).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PluckedString {
    /// Frequency F in Hz that the first partial would have without stiffness. Default: 196 (G3).
    pub frequency_hz: f64,
    /// Inharmonicity B. Default: 1e-4.
    pub inharmonicity: f64,
    /// Where it is plucked, as a share of its length. Default: 0.37.
    pub pluck_position: f64,
    /// Time in which the first partial falls by 60 dB, in seconds. Default: 6.
    pub t60_s: f64,
    /// How much faster each higher partial dies away. Default: 0.35.
    pub damping: f64,
    /// Amplitude of the first partial at the start. Default: 0.25.
    pub amplitude: f64,
    /// Partials made at most. Default: 40.
    pub partials: u32,
}

impl Default for PluckedString {
    fn default() -> Self {
        Self {
            frequency_hz: 196.0,
            inharmonicity: 1e-4,
            pluck_position: 0.37,
            t60_s: 6.0,
            damping: 0.35,
            amplitude: 0.25,
            partials: 40,
        }
    }
}

impl PluckedString {
    /// Its partials: the truth about the sound.
    #[must_use]
    pub fn truth(&self) -> Vec<Partial> {
        let position = std::f64::consts::PI * self.pluck_position;
        (1..=self.partials)
            .map(|n| {
                let n = f64::from(n);
                Partial {
                    frequency_hz: n * self.frequency_hz * (1.0 + self.inharmonicity * n * n).sqrt(),
                    amplitude: self.amplitude * (n * position).sin() / (n * position.sin()),
                    phase_rad: -std::f64::consts::FRAC_PI_2,
                    t60_s: self.t60_s / (1.0 + (n - 1.0) * self.damping),
                }
            })
            .collect()
    }

    /// The sound from the pluck on.
    #[must_use]
    pub fn render(&self, sample_rate_hz: f64, duration_s: f64) -> Vec<f64> {
        render(&self.truth(), Vibrato::default(), sample_rate_hz, duration_s)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn partials_follow_the_law() {
        let string = PluckedString { inharmonicity: 4e-4, ..PluckedString::default() };
        let truth = string.truth();
        assert_eq!(truth.len(), 40);
        assert!((truth[0].frequency_hz - 196.0 * (1.0f64 + 4e-4).sqrt()).abs() < 1e-9);
        assert!((truth[9].frequency_hz - 1960.0 * (1.0f64 + 4e-2).sqrt()).abs() < 1e-9);
        assert!((truth[0].amplitude - 0.25).abs() < 1e-12);
        assert!(truth[4].t60_s < truth[0].t60_s);
        let nodes = PluckedString { pluck_position: 0.5, ..string }.truth();
        assert!(nodes[1].amplitude.abs() < 1e-12, "plucked in the middle: no even partials");
    }
}
