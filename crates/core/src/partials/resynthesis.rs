//! The sound of partial tracks: a sum of sinusoids.

use std::f64::consts::TAU;

use rustfft::num_complex::Complex;
use wide::f64x4;

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

/// A sum of sinusoids is made a step at a time, all of them between two of their points: the level is straight in
/// dB, and the phase a cubic that keeps phases and frequencies at both ends, of those the smoothest (R. J. McAulay
/// and T. F. Quatieri, IEEE Trans. Acoust. Speech Signal Process. 34, 1986).
pub(super) struct Sum {
    /// Where step 0 begins, in samples of the sound; need not be whole.
    pub(super) start: f64,
    /// Samples of a step; need not be whole.
    pub(super) hop: f64,
    pub(super) rate_hz: f64,
}

impl Sum {
    /// Adds to a sound what lies between points at one step and points at the next, times a factor each.
    pub(super) fn add(
        &self,
        sound: &mut [f32],
        step: usize,
        pieces: &[(TrackPoint, TrackPoint, f64)],
    ) {
        // Both ends by one formula, so that no sample falls between two steps or into both.
        let place = |n: usize| self.start + n as f64 * self.hop;
        let from = place(step);
        let first = from.ceil().max(0.0);
        let last = (place(step + 1).ceil().max(0.0) as usize).min(sound.len());
        if first as usize >= last {
            return;
        }
        let sound = &mut sound[first as usize..last];
        for four in pieces.chunks(4) {
            let mut lanes = Lanes::default();
            for (lane, (a, b, factor)) in four.iter().enumerate() {
                lanes.set(lane, &self.piece(a, b), first - from, *factor);
            }
            lanes.add(sound);
        }
    }

    fn piece(&self, a: &TrackPoint, b: &TrackPoint) -> Piece {
        const FAINTEST: f64 = 1e-15;
        let hop = self.hop;
        let level = [a.amplitude.max(FAINTEST).ln(), b.amplitude.max(FAINTEST).ln()];
        let [w0, w1] = [a, b].map(|point| TAU * point.frequency_hz / self.rate_hz);
        // As many whole turns as make the phase smoothest.
        let apart = b.phase_rad - a.phase_rad;
        let turns = ((w0 + w1) * hop / 2.0 - apart) / TAU;
        let rest = apart + TAU * turns.round() - w0 * hop;
        let bend = (w1 - w0) * hop;
        let square = (3.0 * rest - bend) / (hop * hop);
        let cube = (bend - 2.0 * rest) / (hop * hop * hop);
        Piece {
            level: [level[0], (level[1] - level[0]) / hop],
            phase: [a.phase_rad, w0, square, cube],
        }
    }
}

/// What lies between two points: ln A and the phase as polynomials of samples.
struct Piece {
    level: [f64; 2],
    phase: [f64; 4],
}

/// Four sinusoids side by side. A cubic phase and a straight level are three rotations, each turning the one
/// before.
#[derive(Default)]
struct Lanes {
    wave: [[f64; 4]; 2],
    first: [[f64; 4]; 2],
    second: [[f64; 4]; 2],
    third: [[f64; 4]; 2],
}

impl Lanes {
    /// The first sample lies a share of a sample after the point where the piece begins.
    fn set(&mut self, lane: usize, piece: &Piece, at: f64, factor: f64) {
        let [p0, p1, p2, p3] = piece.phase;
        let value = |t: f64| p0 + t * (p1 + t * (p2 + t * p3));
        let exponent = |t: f64| C::new(piece.level[0] + piece.level[1] * t, value(t));
        let (y0, y1, y2, y3) =
            (exponent(at), exponent(at + 1.0), exponent(at + 2.0), exponent(at + 3.0));
        let values = [
            (&mut self.wave, y0.exp() * factor),
            (&mut self.first, (y1 - y0).exp()),
            (&mut self.second, (y2 - 2.0 * y1 + y0).exp()),
            (&mut self.third, (y3 - 3.0 * y2 + 3.0 * y1 - y0).exp()),
        ];
        for (place, value) in values {
            place[0][lane] = value.re;
            place[1][lane] = value.im;
        }
    }

    fn add(&self, sound: &mut [f32]) {
        let complex = |parts: [[f64; 4]; 2]| parts.map(f64x4::from);
        let (mut wave, mut first) = (complex(self.wave), complex(self.first));
        let (mut second, third) = (complex(self.second), complex(self.third));
        for x in sound {
            *x += wave[0].reduce_add() as f32;
            wave = times(wave, first);
            first = times(first, second);
            second = times(second, third);
        }
    }
}

/// A product of complex numbers as real and imaginary parts.
fn times([a, b]: [f64x4; 2], [c, d]: [f64x4; 2]) -> [f64x4; 2] {
    [a * c - b * d, a * d + b * c]
}
