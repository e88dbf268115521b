//! The sound of partial tracks: a sum of sinusoids.

use std::collections::HashMap;
use std::f64::consts::TAU;

use pulp::{Simd, WithSimd};

use crate::error::Error;
use crate::fit::median;

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

/// The partials that sound at one time.
#[derive(Debug, Clone, PartialEq)]
pub struct Moment {
    /// Time in seconds.
    pub time_s: f64,
    /// What distinguishes each from the others, the same at all times, with its point.
    pub partials: Vec<(u32, TrackPoint)>,
}

/// The sound of partials from the time 0 to the last of moments: what sounds at one and at the next
/// is joined, unless four usual steps lie between. Partials at or above half the sample rate are
/// left out.
///
/// # Errors
///
/// [`Error::Setting`] for times that do not rise from 0 on to an hour at most, or to what so few
/// moments can fill.
pub fn sound_of(moments: &[Moment], sample_rate_hz: f64) -> Result<Vec<f32>, Error> {
    // See above.
    const LONGEST_S: f64 = 3600.0;
    const USUAL_STEPS: f64 = 4.0;
    /// A few points at a late time are no reason to make an hour of silence.
    const FREE_S: f64 = 60.0;
    const OF_A_MOMENT_S: f64 = 10.0;
    let latest_s = LONGEST_S.min(FREE_S + OF_A_MOMENT_S * moments.len() as f64);
    let is_wrong = |n: &usize| {
        let time_s = moments[*n].time_s;
        let falls = *n > 0 && time_s <= moments[n - 1].time_s;
        falls || !(0.0..=latest_s).contains(&time_s)
    };
    if let Some(wrong) = (0..moments.len()).find(is_wrong) {
        return Err(Error::Setting {
            setting: "the times of partials",
            given: format!("{} s", moments[wrong].time_s),
            allowed: format!("rising, from 0 s to {latest_s} s for {} moments", moments.len()),
        });
    }
    let steps_s = moments.windows(2).map(|pair| pair[1].time_s - pair[0].time_s);
    let longest_s = median(steps_s).map_or(0.0, |usual| USUAL_STEPS * usual);
    let last_s = moments.last().map_or(0.0, |moment| moment.time_s);
    let mut sound = vec![0.0; (last_s * sample_rate_hz).ceil() as usize];
    let is_heard = |point: &TrackPoint| (0.0..0.5 * sample_rate_hz).contains(&point.frequency_hz);
    let mut before: HashMap<u32, TrackPoint> = HashMap::new();
    for pair in moments.windows(2) {
        let hop_s = pair[1].time_s - pair[0].time_s;
        if hop_s > longest_s {
            continue;
        }
        before.clear();
        before.extend(pair[0].partials.iter().copied());
        let pieces: Vec<(TrackPoint, TrackPoint, f64)> = (pair[1].partials.iter())
            .filter_map(|(index, to)| Some((*before.get(index)?, *to, 1.0)))
            .filter(|(from, to, _)| is_heard(from) && is_heard(to))
            .collect();
        let start = pair[0].time_s * sample_rate_hz;
        let sum = Sum { start, hop: hop_s * sample_rate_hz, rate_hz: sample_rate_hz };
        sum.add(&mut sound, 0, &pieces);
    }
    Ok(sound)
}

/// A sum of sinusoids is made a step at a time, all of them between two of their points: the level
/// is straight in dB, and the phase a cubic that keeps phases and frequencies at both ends, of
/// those the smoothest (R. J. McAulay and T. F. Quatieri, IEEE Trans. Acoust. Speech Signal
/// Process. 34, 1986).
pub(crate) struct Sum {
    /// Where step 0 begins, in samples of the sound; need not be whole.
    pub(crate) start: f64,
    /// Samples of a step; need not be whole.
    pub(crate) hop: f64,
    pub(crate) rate_hz: f64,
}

impl Sum {
    /// Adds to a sound what lies between points at one step and points at the next, times a factor
    /// each.
    pub(crate) fn add(
        &self,
        sound: &mut [f32],
        step: usize,
        pieces: &[(TrackPoint, TrackPoint, f64)],
    ) {
        // Both ends by one formula, so that no sample falls between two steps or into both.
        let place = |n: usize| self.start + n as f64 * self.hop;
        self.add_within(sound, (place(step), place(step + 1)), pieces);
    }

    /// The same of a step between two places in samples, which are those of the steps beside it.
    fn add_within(
        &self,
        sound: &mut [f32],
        (from, to): (f64, f64),
        pieces: &[(TrackPoint, TrackPoint, f64)],
    ) {
        let first = from.ceil().max(0.0);
        let last = (to.ceil().max(0.0) as usize).min(sound.len());
        if first as usize >= last || pieces.is_empty() {
            return;
        }
        let sound = &mut sound[first as usize..last];
        pulp::Arch::new().dispatch(AddPieces { sum: self, sound, pieces, at: first - from });
    }

    /// Adds what lies between points at one time and points at another, in seconds.
    pub(crate) fn add_between(
        sound: &mut [f32],
        rate_hz: f64,
        (from_s, to_s): (f64, f64),
        pieces: &[(TrackPoint, TrackPoint, f64)],
    ) {
        let (from, to) = (from_s * rate_hz, to_s * rate_hz);
        let sum = Self { start: from, hop: to - from, rate_hz };
        sum.add_within(sound, (from, to), pieces);
    }

    /// The point that lies a share of the way from one point to another.
    pub(crate) fn between(hop_s: f64, share: f64, a: &TrackPoint, b: &TrackPoint) -> TrackPoint {
        // In samples of a second each.
        let piece = Self { start: 0.0, hop: hop_s, rate_hz: 1.0 }.piece(a, b);
        let t = share * hop_s;
        let [p0, p1, p2, p3] = piece.phase;
        TrackPoint {
            frequency_hz: (p1 + t * (2.0 * p2 + 3.0 * t * p3)) / TAU,
            amplitude: (piece.level[0] + piece.level[1] * t).exp(),
            phase_rad: p0 + t * (p1 + t * (p2 + t * p3)),
        }
    }

    fn piece(&self, a: &TrackPoint, b: &TrackPoint) -> Piece {
        /// −300 dB: nothing, but with a logarithm.
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

/// More registers of a processor do not hold side by side.
const MOST_LANES: usize = 8;

/// Sinusoids side by side, as real and imaginary parts. A cubic phase and a straight level are
/// three rotations, each turning the one before.
#[derive(Default)]
struct Lanes {
    wave: [[f64; MOST_LANES]; 2],
    first: [[f64; MOST_LANES]; 2],
    second: [[f64; MOST_LANES]; 2],
    third: [[f64; MOST_LANES]; 2],
}

impl Lanes {
    /// The first sample lies a share of a sample after the point where the piece begins.
    fn set(&mut self, lane: usize, piece: &Piece, at: f64, factor: f64) {
        let [p0, p1, p2, p3] = piece.phase;
        let value = |t: f64| p0 + t * (p1 + t * (p2 + t * p3));
        // Differences of the exponent from one sample to the next, of these, and of these: in
        // closed form, since the last are far smaller than what they would be the differences of.
        let slope = p1 + p2 * (2.0 * at + 1.0) + p3 * (3.0 * at * at + 3.0 * at + 1.0);
        let curve = 2.0 * p2 + 6.0 * p3 * (at + 1.0);
        let values = [
            (&mut self.wave, (piece.level[0] + piece.level[1] * at).exp() * factor, value(at)),
            (&mut self.first, piece.level[1].exp(), slope),
            (&mut self.second, 1.0, curve),
            (&mut self.third, 1.0, 6.0 * p3),
        ];
        for (place, size, turned) in values {
            let (sin, cos) = sin_cos(turned);
            place[0][lane] = size * cos;
            place[1][lane] = size * sin;
        }
    }
}

/// Both, to the last digit; most angles here are tiny.
fn sin_cos(x: f64) -> (f64, f64) {
    let square = x * x;
    if square < 1e-6 {
        (x * (1.0 - square / 6.0), 1.0 - square / 2.0 * (1.0 - square / 12.0))
    } else {
        x.sin_cos()
    }
}

/// Adds pieces to a sound, as many side by side as the processor has room for, twice: what one half
/// waits for is done while the other half is.
struct AddPieces<'a> {
    sum: &'a Sum,
    sound: &'a mut [f32],
    pieces: &'a [(TrackPoint, TrackPoint, f64)],
    /// The first sample lies a share of a sample after the points where the pieces begin.
    at: f64,
}

impl AddPieces<'_> {
    fn lanes(&self, group: &[(TrackPoint, TrackPoint, f64)]) -> Lanes {
        let mut lanes = Lanes::default();
        for (lane, (a, b, factor)) in group.iter().enumerate() {
            lanes.set(lane, &self.sum.piece(a, b), self.at, *factor);
        }
        lanes
    }
}

impl WithSimd for AddPieces<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) {
        let load = |x: &[[f64; MOST_LANES]; 2]| {
            x.each_ref().map(|x| simd.partial_load_f64s(&x[..S::F64_LANES]))
        };
        let times = |[a, b]: [S::f64s; 2], [c, d]: [S::f64s; 2]| {
            let (ac, bc) = (simd.mul_f64s(a, c), simd.mul_f64s(b, c));
            [simd.negate_mul_add_f64s(b, d, ac), simd.mul_add_f64s(a, d, bc)]
        };
        // Of each sample the sums of all that stand in the same place.
        let mut sums = vec![simd.splat_f64s(0.0); self.sound.len()];
        for pair in self.pieces.chunks(2 * S::F64_LANES) {
            let (one, other) = pair.split_at(pair.len().min(S::F64_LANES));
            let lanes = [self.lanes(one), self.lanes(other)];
            let mut wave = lanes.each_ref().map(|lanes| load(&lanes.wave));
            let mut first = lanes.each_ref().map(|lanes| load(&lanes.first));
            let mut second = lanes.each_ref().map(|lanes| load(&lanes.second));
            let third = lanes.each_ref().map(|lanes| load(&lanes.third));
            for sum in &mut sums {
                *sum = simd.add_f64s(*sum, simd.add_f64s(wave[0][0], wave[1][0]));
                for half in 0..2 {
                    wave[half] = times(wave[half], first[half]);
                    first[half] = times(first[half], second[half]);
                    second[half] = times(second[half], third[half]);
                }
            }
        }
        for (x, sum) in self.sound.iter_mut().zip(sums) {
            *x += simd.reduce_sum_f64s(sum) as f32;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn moment(time_s: f64) -> Moment {
        let point = TrackPoint { frequency_hz: 440.0, amplitude: 0.5, phase_rad: 0.0 };
        Moment { time_s, partials: vec![(1, point)] }
    }

    #[test]
    fn a_few_points_make_no_hour_of_silence() {
        let late = sound_of(&[moment(0.0), moment(3000.0)], 48_000.0);
        assert!(late.expect_err("too late").to_string().contains("80 s for 2 moments"));
        assert!(sound_of(&[moment(0.0), moment(70.0)], 8000.0).is_ok());
        assert!(sound_of(&[moment(1.0), moment(1.0)], 8000.0).is_err(), "times do not rise");
    }

    #[test]
    fn two_points_make_the_sinusoid_between_them() {
        // 100 whole turns lie between.
        let sound = sound_of(&[moment(0.0), moment(100.0 / 440.0)], 44_000.0).expect("made");
        for (n, x) in sound.iter().enumerate().step_by(7) {
            let truth = 0.5 * (std::f64::consts::TAU * n as f64 / 100.0).cos();
            assert!((f64::from(*x) - truth).abs() < 1e-5, "{n} {x} {truth}");
        }
    }
}
