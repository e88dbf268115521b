//! The third-octave bands of ISO 532-1 at 48 kHz, and how their power is smoothed.
//!
//! A band is three second-order sections; what it lets through is squared and, for loudness over
//! time, smoothed by three low passes of first order, each with the time constant 2/(3·f_m), f_m
//! being the middle of the band, at most 1 kHz. Samples are held to ticks of 0.5 ms.

use pulp::{Arch, Simd, WithSimd};

use super::resampling::Resampler;
use super::tables::{BELOW, GAINS, NUMERATORS, THIRDS};

/// Sample rate of the filters.
const RATE_HZ: u32 = 48_000;
/// Samples of a tick.
const TICK: usize = 24;
/// Length of a tick in seconds.
pub(super) const TICK_S: f64 = TICK as f64 / RATE_HZ as f64;
/// Ticks after which small states are set to nothing, where the processor would become slow for them.
const SETTLED_TICKS: u64 = 64;

/// The middle of a third-octave band in Hz.
pub(super) fn middle_hz(third: usize) -> f64 {
    1000.0 * 10f64.powf((third as f64 - 16.0) / 10.0)
}

/// What the bands let through in a tick.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(super) struct Tick {
    /// Mean square.
    pub(super) mean: [f64; THIRDS],
    /// Smoothed square at its first sample.
    pub(super) smoothed: [f64; THIRDS],
}

/// The bands of one channel.
#[derive(Debug, Clone)]
pub(super) struct Thirds {
    arch: Arch,
    resampler: Resampler,
    state: State,
    /// Samples that do not fill a tick yet.
    held: Vec<f64>,
    ticks: u64,
}

#[derive(Debug, Clone)]
struct State {
    a: [[[f64; THIRDS]; 2]; 3],
    /// What a low pass takes of its input.
    smoothing: [f64; THIRDS],
    /// In transposed direct form.
    sections: [[[f64; THIRDS]; 2]; 3],
    smoothed: [[f64; THIRDS]; 3],
}

impl Thirds {
    /// For samples at a rate, rounded to whole Hz.
    pub(super) fn new(rate_hz: f64) -> Self {
        let a = std::array::from_fn(|section| {
            let of = |n: usize, about: f64| -> [f64; THIRDS] {
                std::array::from_fn(|third| about - BELOW[third][section][n])
            };
            [of(0, -2.0), of(1, 1.0)]
        });
        let smoothing = std::array::from_fn(|third| {
            let time_s = 2.0 / (3.0 * middle_hz(third).min(1000.0));
            1.0 - (-1.0 / (f64::from(RATE_HZ) * time_s)).exp()
        });
        let (sections, smoothed) = ([[[0.0; THIRDS]; 2]; 3], [[0.0; THIRDS]; 3]);
        Self {
            arch: Arch::new(),
            resampler: Resampler::new(rate_hz.round() as u64, u64::from(RATE_HZ)),
            state: State { a, smoothing, sections, smoothed },
            held: Vec::new(),
            ticks: 0,
        }
    }

    /// Takes the next samples, and hands over the ticks that are full.
    pub(super) fn push(&mut self, samples: &[f64], work: impl FnMut(&Tick)) {
        self.resampler.push(samples, &mut self.held);
        self.hand_over(work);
    }

    /// Ends the stream.
    pub(super) fn finish(&mut self, work: impl FnMut(&Tick)) {
        self.resampler.finish(&mut self.held);
        self.hand_over(work);
    }

    fn hand_over(&mut self, mut work: impl FnMut(&Tick)) {
        let Self { arch, state, held, ticks, .. } = self;
        let mut tick = Tick::default();
        let full = held.len() / TICK * TICK;
        for samples in held[..full].chunks_exact(TICK) {
            arch.dispatch(Filtering { state, samples, tick: &mut tick });
            *ticks += 1;
            if ticks.is_multiple_of(SETTLED_TICKS) {
                state.settle();
            }
            work(&tick);
        }
        held.drain(..full);
    }
}

impl State {
    fn settle(&mut self) {
        const NOTHING: f64 = 1e-60;
        let states = self.sections.as_flattened_mut().as_flattened_mut().iter_mut();
        for value in states.chain(self.smoothed.as_flattened_mut()) {
            *value = if value.abs() < NOTHING { 0.0 } else { *value };
        }
    }
}

/// The filters over the samples of a tick.
struct Filtering<'a> {
    state: &'a mut State,
    samples: &'a [f64],
    tick: &'a mut Tick,
}

impl WithSimd for Filtering<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) {
        let Self { state, samples, tick } = self;
        let mut sums = [0.0; THIRDS];
        for (n, x) in samples.iter().enumerate() {
            let mut value: [f64; THIRDS] = std::array::from_fn(|k| GAINS[k] * x);
            let sections = state.a.iter().zip(&mut state.sections).zip(NUMERATORS);
            for (([a1, a2], [s1, s2]), [b0, b1, b2]) in sections {
                for k in 0..THIRDS {
                    let out = b0 * value[k] + s1[k];
                    s1[k] = b1 * value[k] - a1[k] * out + s2[k];
                    s2[k] = b2 * value[k] - a2[k] * out;
                    value[k] = out;
                }
            }
            for k in 0..THIRDS {
                value[k] *= value[k];
                sums[k] += value[k];
            }
            for smoothed in &mut state.smoothed {
                for k in 0..THIRDS {
                    smoothed[k] += state.smoothing[k] * (value[k] - smoothed[k]);
                }
                value = *smoothed;
            }
            if n == 0 {
                tick.smoothed = value;
            }
        }
        tick.mean = sums.map(|sum| sum / TICK as f64);
    }
}

#[cfg(test)]
mod tests {
    use rustfft::num_complex::Complex64;

    use super::*;
    use crate::units::db_from_amplitude;

    /// Response of a band to a tone, from its coefficients.
    fn response_db(third: usize, hz: f64) -> f64 {
        let back = Complex64::from_polar(1.0, -std::f64::consts::TAU * hz / f64::from(RATE_HZ));
        let section = |n: usize| {
            let ([b0, b1, b2], [a1, a2]) = (NUMERATORS[n], BELOW[third][n]);
            (b0 + (b1 + b2 * back) * back) / (1.0 + (-2.0 - a1 + (1.0 - a2) * back) * back)
        };
        db_from_amplitude((0..3).map(section).product::<Complex64>().norm() * GAINS[third])
    }

    /// A digit of the table that is wrong would show: each filter passes its middle as it is, and its
    /// poles are those of a band pass made from a low pass of third order, one pair in the middle and
    /// two to either side: 2σ_0 = 2σ_1 + 2σ_2 and w_0² = w_1·w_2.
    #[test]
    fn the_filters_are_what_they_should_be() {
        let mut worst = [0.0f64; 3];
        for (third, below) in BELOW.iter().enumerate() {
            let middle = middle_hz(third);
            let poles = below.map(|[a1, a2]| {
                let (a1, a2) = (-2.0 - a1, 1.0 - a2);
                let of_square = 1.0 - a1 + a2;
                (2.0 * (1.0 - a2) / of_square, ((1.0 + a1 + a2) / of_square).sqrt())
            });
            // In the highest filter the pair in the middle stands elsewhere.
            let off = [[0, 1, 2], [1, 0, 2], [2, 0, 1]].map(|[a, b, c]| {
                let of_width = poles[a].0 / (poles[b].0 + poles[c].0) - 1.0;
                let of_middle = poles[a].1 / (poles[b].1 * poles[c].1).sqrt() - 1.0;
                of_width.abs().max(of_middle.abs())
            });
            let off = off.into_iter().fold(f64::INFINITY, f64::min);
            let tops =
                (-100..=100).map(|n| response_db(third, middle * (f64::from(n) / 2000.0).exp()));
            let top = tops.fold(f64::NEG_INFINITY, f64::max);
            for (worst, value) in worst.iter_mut().zip([off, top, response_db(third, middle)]) {
                *worst = worst.max(value.abs());
            }
        }
        println!(
            "poles within {:.1e}, top within {:.4} dB, middle {:.4} dB",
            worst[0], worst[1], worst[2]
        );
        assert!(worst[0] < 1e-4 && worst[1] < 0.005 && worst[2] < 0.015, "{worst:?}");
    }

    #[test]
    fn pieces_of_any_length_give_the_same() {
        let sound = crate::synth::white_noise(3, 0.1, 20_000);
        let of = |piece: usize| {
            let (mut thirds, mut all) = (Thirds::new(44_100.0), Vec::new());
            sound.chunks(piece).for_each(|part| thirds.push(part, |tick| all.push(*tick)));
            thirds.finish(|tick| all.push(*tick));
            all
        };
        assert_eq!(of(20_000), of(1));
        assert_eq!(of(20_000), of(4097));
    }
}
