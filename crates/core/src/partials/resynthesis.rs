//! The sound of partial tracks: a sum of sinusoids.

use std::f64::consts::TAU;

use rustfft::num_complex::Complex;

type C = Complex<f64>;

/// A point of a partial: its frequency, and its amplitude with its phase.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TrackPoint {
    /// Frequency in Hz.
    pub frequency_hz: f64,
    /// Amplitude re full scale.
    pub amplitude: f64,
    /// Phase of a cosine in radians.
    pub phase_rad: f64,
}

impl TrackPoint {
    /// Level of its amplitude in dB re full scale.
    #[must_use]
    pub fn level_db(&self) -> f64 {
        20.0 * self.amplitude.log10()
    }
}

/// Adds a partial to a sound: between its points the level is straight in dB and the phase a cubic that keeps
/// phases and frequencies at both ends, of those the smoothest (R. J. McAulay and T. F. Quatieri, IEEE Trans.
/// Acoust. Speech Signal Process. 34, 1986).
///
/// The first point lies `start` samples into the sound, the others `hop` samples apart; neither need be whole.
/// It ends with its last point.
pub fn add_track(
    sound: &mut [f64],
    points: &[TrackPoint],
    start: f64,
    hop: f64,
    sample_rate_hz: f64,
) {
    for (n, pair) in points.windows(2).enumerate() {
        // Both ends by one formula, so that no sample falls between two stretches or into both.
        let place = |n: usize| start + n as f64 * hop;
        let from = place(n);
        let first = from.ceil().max(0.0);
        let last = (place(n + 1).ceil().max(0.0) as usize).min(sound.len());
        if (first as usize) < last {
            let piece = Piece::new(&pair[0], &pair[1], hop, sample_rate_hz);
            piece.add(&mut sound[first as usize..last], first - from);
        }
    }
}

/// A stretch between two points: ln A and the phase as polynomials of samples.
struct Piece {
    level: [f64; 2],
    phase: [f64; 4],
}

impl Piece {
    fn new(a: &TrackPoint, b: &TrackPoint, hop: f64, sample_rate_hz: f64) -> Self {
        let faintest = 1e-15;
        let level = [a.amplitude.max(faintest).ln(), b.amplitude.max(faintest).ln()];
        let [w0, w1] = [a, b].map(|point| TAU * point.frequency_hz / sample_rate_hz);
        // As many whole turns as make the phase smoothest.
        let apart = b.phase_rad - a.phase_rad;
        let turns = ((w0 + w1) * hop / 2.0 - apart) / TAU;
        let rest = apart + TAU * turns.round() - w0 * hop;
        let bend = (w1 - w0) * hop;
        let square = (3.0 * rest - bend) / (hop * hop);
        let cube = (bend - 2.0 * rest) / (hop * hop * hop);
        Self {
            level: [level[0], (level[1] - level[0]) / hop],
            phase: [a.phase_rad, w0, square, cube],
        }
    }

    /// Adds it to samples, the first a share of a sample after its beginning. A cubic phase and a straight level
    /// are three rotations, each turning the one before.
    fn add(&self, sound: &mut [f64], at: f64) {
        let [p0, p1, p2, p3] = self.phase;
        let value = |t: f64| p0 + t * (p1 + t * (p2 + t * p3));
        let exponent = |t: f64| C::new(self.level[0] + self.level[1] * t, value(t));
        let (y0, y1, y2, y3) =
            (exponent(at), exponent(at + 1.0), exponent(at + 2.0), exponent(at + 3.0));
        let mut wave = y0.exp();
        let mut first = (y1 - y0).exp();
        let mut second = (y2 - 2.0 * y1 + y0).exp();
        let third = (y3 - 3.0 * y2 + 3.0 * y1 - y0).exp();
        for x in sound {
            *x += wave.re;
            wave *= first;
            first *= second;
            second *= third;
        }
    }
}
