//! The lines to either side of a carrier: what modulates it, or what it beats with.

use std::f64::consts::TAU;

use rustfft::num_complex::Complex;

use super::analytic::Analytic;
use crate::error::Error;
use crate::linear;
use crate::measured::Measured;
use crate::samples::Samples;
use crate::transform::{complex_forward, fast_length};

type C = Complex<f64>;

/// Lines to either side.
const SIDE: usize = 2;
const COUNT: usize = 2 * SIDE + 1;

/// A carrier and the lines beside it, each a rate from the next.
pub(super) struct Lines {
    pub(super) carrier_hz: f64,
    /// Amplitudes, the carrier's in the middle.
    amplitudes: [f64; COUNT],
    /// Standard deviation of each.
    u: f64,
    /// Share of the power that they hold.
    pub(super) share: f64,
}

/// Two tones that beat: their frequencies, and the ratio of the weaker to the stronger.
#[derive(Debug, Clone, Copy)]
pub(super) struct Pair {
    pub(super) tones_hz: (f64, f64),
    pub(super) ratio: Measured,
}

impl Lines {
    /// The lines about the strongest one of a band, in a stretch of a sound that grows by such a share
    /// per second.
    pub(super) fn of(
        samples: &dyn Samples,
        sample_rate_hz: f64,
        (from, to): (usize, usize),
        band_hz: (f64, f64),
        (apart_hz, growth): (f64, f64),
    ) -> Result<Option<Self>, Error> {
        let lasts_s = (to - from) as f64 / sample_rate_hz;
        let transition_hz = (0.2 * (band_hz.1 - band_hz.0)).min(band_hz.0).max(2.0 / lasts_s);
        let mut analytic = Analytic::new(band_hz, transition_hz, sample_rate_hz);
        let mut z = Vec::new();
        analytic.run(samples, from..to, |values, _| z.extend_from_slice(values))?;
        let rate_hz = analytic.rate_hz();
        let middle = 0.5 * (z.len() - 1) as f64;
        for (n, z) in z.iter_mut().enumerate() {
            *z *= (-growth * (n as f64 - middle) / rate_hz).exp();
        }
        let window: Vec<f64> = (0..z.len())
            .map(|n| 0.5 - 0.5 * (TAU * (n as f64 + 0.5) / z.len() as f64).cos())
            .collect();
        let windowed: Vec<C> = z.iter().zip(&window).map(|(z, w)| z * w).collect();
        let Some(carrier) = strongest(&windowed, rate_hz) else { return Ok(None) };
        let sum: f64 = window.iter().sum();
        let turn = |hz: f64, n: usize| {
            let turns = hz * (n as f64 - middle) / rate_hz;
            C::cis(-TAU * turns.fract())
        };
        let line_hz = |k: usize| carrier + (k as f64 - SIDE as f64) * apart_hz;
        // What each line leaks into the others.
        let leak = |k: usize| -> f64 {
            let hz = k as f64 * apart_hz;
            window.iter().enumerate().map(|(n, w)| w * turn(hz, n).re).sum::<f64>() / sum
        };
        let leaks: [f64; COUNT] = std::array::from_fn(leak);
        let left: [[f64; COUNT]; COUNT] =
            std::array::from_fn(|i| std::array::from_fn(|j| leaks[i.abs_diff(j)]));
        let right: [[f64; 2]; COUNT] = std::array::from_fn(|k| {
            let hz = line_hz(k);
            let value: C =
                windowed.iter().enumerate().map(|(n, z)| z * turn(hz, n)).sum::<C>() / sum;
            [value.re, value.im]
        });
        let Some(found) = linear::solve(left, right) else { return Ok(None) };
        let lines = found.map(|[re, im]| C::new(re, im));
        let (mut power, mut left_over) = (0.0, 0.0);
        for (n, (z, w)) in z.iter().zip(&window).enumerate() {
            let model: C =
                lines.iter().enumerate().map(|(k, c)| c * turn(line_hz(k), n).conj()).sum();
            power += w * w * z.norm_sqr();
            left_over += w * w * (z - model).norm_sqr();
        }
        // What is left, as noise across the band, within the width of a line.
        let band = ((band_hz.1 - band_hz.0) / rate_hz).min(1.0);
        let u = (left_over / band / 2.0).sqrt() / sum;
        Ok(Some(Self {
            carrier_hz: analytic.centre_hz + carrier,
            amplitudes: lines.map(C::norm),
            u,
            share: 1.0 - left_over / power,
        }))
    }

    /// The two tones, if the carrier has a line on one side only.
    pub(super) fn pair(&self, apart_hz: f64) -> Option<Pair> {
        /// What modulates makes lines of nearly equal strength on both sides.
        const ONE_SIDED: f64 = 0.4;
        /// Two tones hold so much of what all lines do.
        const TWO: f64 = 0.85;
        let [_, below, carrier, above, _] = self.amplitudes;
        let (weak, strong) = (below.min(above), below.max(above));
        let all: f64 = self.amplitudes.iter().map(|line| line * line).sum();
        let is_two = carrier * carrier + strong * strong > TWO * all;
        if !is_two || weak > ONE_SIDED * strong || strong < 4.0 * self.u {
            return None;
        }
        let other_hz = self.carrier_hz + if above > below { apart_hz } else { -apart_hz };
        let (low, high) = (self.carrier_hz.min(other_hz), self.carrier_hz.max(other_hz));
        let ratio = (strong / carrier).min(1.0);
        let u = self.u / carrier * (1.0 + ratio * ratio).sqrt();
        Some(Pair { tones_hz: (low, high), ratio: Measured::new(ratio, u) })
    }
}

/// Frequency of the strongest line, from −half the rate to half of it.
fn strongest(windowed: &[C], rate_hz: f64) -> Option<f64> {
    const ROUNDS: usize = 2;
    let size = fast_length(4 * windowed.len());
    let mut block = windowed.to_vec();
    block.resize(size, C::default());
    complex_forward(&mut block);
    let root = |bin: usize| block[bin % size].norm();
    let bin = (0..size).max_by(|a, b| root(*a).total_cmp(&root(*b)))?;
    let (before, here, after) = (root(bin + size - 1), root(bin), root(bin + 1));
    let bend = before - 2.0 * here + after;
    let beside = if bend < 0.0 { 0.5 * (before - after) / bend } else { 0.0 };
    let turns = (bin as f64 + beside) / size as f64;
    let mut turns = if turns > 0.5 { turns - 1.0 } else { turns };
    // A parabola through three values of the transform itself, nearer and nearer.
    let power = |turns: f64| -> f64 {
        let each = windowed.iter().enumerate();
        each.map(|(n, z)| z * C::cis(-TAU * (turns * n as f64).fract())).sum::<C>().norm_sqr()
    };
    let mut step = 0.25 / size as f64;
    for _ in 0..ROUNDS {
        let (before, here, after) = (power(turns - step), power(turns), power(turns + step));
        let bend = before - 2.0 * here + after;
        if bend < 0.0 {
            turns += step * (0.5 * (before - after) / bend).clamp(-1.0, 1.0);
        }
        step *= 0.2;
    }
    Some(rate_hz * turns)
}
