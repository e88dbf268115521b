//! The impulse response from a sweep and its recording, by linear deconvolution.
//!
//! With the spectra X of the sweep and Y of the recording, both padded so that nothing wraps, the
//! response is the inverse transform of Y/X within the frequencies that the sweep runs through. What
//! an exponential sweep of length T from f1 to f2 makes of harmonic n comes by T·ln n/ln(f2/f1) earlier
//! than the response (A. Farina, 108th Convention of the Audio Engineering Society, 2000, preprint
//! 5093), so that distortion is separated from it.

use rustfft::num_complex::Complex64;

use super::excitation::{self, BEFORE_S, Cut, DIRECT, LONGEST_S};
use crate::error::Error;
use crate::samples::{Samples, held};
use crate::transform::{RealTransform, fast_length, inverse};
use crate::units::{db_from_power, power_from_db};

/// A recording is looked through in stretches of this length beside the sweep and its decay.
const STRETCH_S: f64 = 40.0;
const DECAY_S: f64 = 30.0;

/// What a sweep and its recording give.
pub(super) struct Deconvolved {
    pub(super) cut: Cut,
    /// Frequencies that the sweep runs through.
    pub(super) range_hz: (f64, f64),
    /// Energy of what an exponential sweep's harmonics add, re that of the response.
    pub(super) distortion_db: Option<f64>,
    /// How much more energy lies behind the direct sound than before it.
    pub(super) stands_out_db: f64,
}

/// Looks for a sweep in a recording, and divides by it; `None` where one of them is silent, or the
/// recording ends before the sweep does.
pub(super) fn deconvolved(
    recording: &dyn Samples,
    lateral: Option<&dyn Samples>,
    sweep: &[f64],
    rate_hz: f64,
) -> Result<Option<Deconvolved>, Error> {
    let samples = |s: f64| (s * rate_hz) as usize;
    let hop = samples(STRETCH_S);
    let length = (hop + sweep.len() + samples(DECAY_S)).min(recording.count());
    let size = fast_length(length + sweep.len());
    let Some(divisor) = Divisor::new(sweep, size, rate_hz) else { return Ok(None) };
    let mut transform = RealTransform::new(size);
    let mut divided = |of: &dyn Samples, from: usize| -> Result<(Vec<f64>, usize), Error> {
        let block = held(of, from, length)?;
        let mut padded: Vec<f64> = block.iter().copied().map(f64::from).collect();
        padded.resize(size, 0.0);
        let divided = transform.forward(&mut padded).iter().zip(&divisor.inverse);
        Ok((inverse(divided.map(|(y, x)| y * x).collect(), size), block.len()))
    };
    let mut best: Option<Found> = None;
    for from in (0..recording.count().saturating_sub(sweep.len())).step_by(hop) {
        let (response, held) = divided(recording, from)?;
        // As far as all of the sweep has been recorded.
        let known = held.saturating_sub(sweep.len());
        let places = response[..known.min(hop)].iter().enumerate();
        let peak = places.max_by(|a, b| a.1.abs().total_cmp(&b.1.abs()));
        let Some((at, peak)) = peak.map(|(at, x)| (at, x.abs())) else { continue };
        if best.as_ref().is_none_or(|best| peak > best.peak) {
            best = Some(Found { response, known, from, at, peak });
        }
    }
    let Some(best) = best.filter(|best| best.peak > 0.0) else { return Ok(None) };
    let lateral = lateral.map(|of| divided(of, best.from)).transpose()?;
    Ok(Some(best.cut_out(lateral.map(|(response, _)| response), &divisor, rate_hz)))
}

/// Where the response was found.
struct Found {
    response: Vec<f64>,
    /// Samples of it that are known.
    known: usize,
    /// Sample of the recording at which it begins, and where its highest value is.
    from: usize,
    at: usize,
    peak: f64,
}

impl Found {
    fn cut_out(self, lateral: Option<Vec<f64>>, divisor: &Divisor, rate_hz: f64) -> Deconvolved {
        const ABOUT_S: f64 = 0.25;
        /// What rings before the direct sound, as the spectrum ends.
        const RINGS_S: f64 = 0.01;
        let samples = |s: f64| (s * rate_hz) as usize;
        let size = self.response.len();
        // Before time zero it goes on from the end.
        let place = |n: i64| n.rem_euclid(size as i64) as usize;
        let value = |n: i64| self.response[place(n)];
        let zero = excitation::direct(value, self.at as i64, self.peak, rate_hz);
        let energy = |from: i64, to: i64| (from..to).map(|n| value(n).powi(2)).sum::<f64>();
        let rate = divisor.rate_s.map(|s| s * rate_hz);
        let about = rate.map_or(ABOUT_S * rate_hz, |rate| (0.5 * rate).min(ABOUT_S * rate_hz));
        let (about, rings) = (about as i64, samples(RINGS_S) as i64);
        let ahead = energy(zero - about, zero - rings) / (about - rings).max(1) as f64;
        let behind = energy(zero, zero + about) / about.max(1) as f64;
        // A second sweep begins with its harmonics.
        let another = (self.at + samples(1.0)..self.known)
            .find(|n| self.response[*n].abs() > DIRECT * 3.0 * self.peak)
            .map(|n| {
                n.saturating_sub(rate.map_or(0, |rate| (2.0 * rate) as usize) + samples(0.02))
            });
        let end = another.unwrap_or(self.known).max(self.at) as i64;
        let first = zero - samples(BEFORE_S) as i64;
        let end = end.min(first + samples(LONGEST_S) as i64);
        let of_harmonic = |number: f64, rate: f64| zero - (rate * f64::ln(number)) as i64;
        let distortion_db = rate.and_then(|rate| {
            let energy_of = |from: f64, to: f64| {
                let (from, to) = (of_harmonic(from, rate), of_harmonic(to, rate));
                (energy(from, to), (to - from) as f64)
            };
            // The second to the sixth, and what there is before them.
            let (harmonics, lasts) = energy_of(6.5, 1.5);
            let (noise, quiet) = energy_of(9.0, 7.0);
            let harmonics = harmonics - 1.5 * noise * lasts / quiet.max(1.0);
            let ratio = harmonics / energy(zero, end);
            (ratio > 0.0).then(|| db_from_power(ratio))
        });
        Deconvolved {
            cut: Cut {
                samples: (first..end).map(value).collect(),
                lateral: lateral.map(|of| (first..end).map(|n| of[place(n)]).collect()),
                zero: (zero - first) as usize,
                at: self.from + zero.max(0) as usize,
                others: 0,
            },
            range_hz: divisor.range_hz,
            distortion_db,
            stands_out_db: db_from_power(behind / ahead.max(f64::MIN_POSITIVE)),
        }
    }
}

/// One over the spectrum of a sweep, within the frequencies that it runs through.
struct Divisor {
    inverse: Vec<Complex64>,
    range_hz: (f64, f64),
    /// By how much later an exponential sweep is at e times the frequency, in seconds.
    rate_s: Option<f64>,
}

impl Divisor {
    fn new(sweep: &[f64], size: usize, rate_hz: f64) -> Option<Self> {
        /// Steps in which the spectrum is looked at, of an octave.
        const STEPS: f64 = 12.0;
        const LOWEST_HZ: f64 = 5.0;
        /// Of power times the root of frequency, which exponential and linear sweeps have within
        /// 15 dB, what is so far below the most is beyond the sweep.
        const BEYOND_DB: f64 = -25.0;
        /// The ends of the spectrum fade over so many octaves.
        const FADE: f64 = 1.0 / 6.0;
        let mut padded = sweep.to_vec();
        padded.resize(size, 0.0);
        let mut transform = RealTransform::new(size);
        let spectrum = transform.forward(&mut padded).to_vec();
        let bin_hz = rate_hz / size as f64;
        let count = ((0.5 * rate_hz / LOWEST_HZ).log2() * STEPS) as usize;
        let hz = |n: usize| LOWEST_HZ * (n as f64 / STEPS).exp2();
        let bins = |n: usize| {
            let from = (hz(n) / bin_hz) as usize;
            from..((hz(n + 1) / bin_hz) as usize).max(from + 1).min(spectrum.len())
        };
        let densities: Vec<f64> = (0..count)
            .map(|n| {
                let of = &spectrum[bins(n)];
                hz(n).sqrt() * of.iter().map(Complex64::norm_sqr).sum::<f64>() / of.len() as f64
            })
            .collect();
        let most = densities.iter().copied().fold(0.0, f64::max);
        let least = most * power_from_db(BEYOND_DB);
        let low = densities.iter().position(|density| *density > least)?;
        let high = densities.iter().rposition(|density| *density > least)?;
        let (low_hz, high_hz) = (hz(low), hz(high + 1));
        let fade = |octaves: f64| {
            let share = (octaves / FADE).clamp(0.0, 1.0);
            0.5 - 0.5 * (std::f64::consts::PI * share).cos()
        };
        let divided = spectrum.iter().enumerate().map(|(k, x)| {
            let hz = (k as f64 * bin_hz).max(1e-3);
            let weight = fade((hz / low_hz).log2()) * fade((high_hz / hz).log2());
            if weight > 0.0 {
                weight * x.conj() / x.norm_sqr().max(1e-2 * least / hz.sqrt())
            } else {
                Complex64::default()
            }
        });
        // When the sweep is at a frequency: the slope of the phase.
        let when_s = |n: usize| {
            let turn: Complex64 =
                bins(n).skip(1).map(|k| spectrum[k] * spectrum[k - 1].conj()).sum();
            (-turn.arg()).rem_euclid(std::f64::consts::TAU) / std::f64::consts::TAU * size as f64
                / rate_hz
        };
        let places =
            [low + 2 * (high - low) / 8, usize::midpoint(low, high), low + 6 * (high - low) / 8];
        let times = places.map(when_s);
        let of = |a: usize, b: usize| {
            STEPS / std::f64::consts::LN_2 * (times[b] - times[a]) / (places[b] - places[a]) as f64
        };
        let (first, second) = (of(0, 1), of(1, 2));
        let is_exponential = first > 0.0 && (second / first - 1.0).abs() < 0.05;
        Some(Self {
            inverse: divided.collect(),
            range_hz: (low_hz, high_hz),
            rate_s: is_exponential.then(|| f64::midpoint(first, second)),
        })
    }
}
