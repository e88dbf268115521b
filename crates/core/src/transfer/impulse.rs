//! The impulse response, its reflections, and what a gate leaves of it.

use rustfft::num_complex::Complex64;
use serde::Serialize;

use super::curve::Point;
use crate::quantity::{Field, Unit};
use crate::transform::{complex_forward, inverse};
use crate::units::db_from_power;

/// Reflections that are listed, how far below the direct sound and how far apart they are, and after
/// which time they begin.
const MOST: usize = 8;
const LOWEST_DB: f64 = -30.0;
const APART_S: f64 = 0.000_5;
/// They stand so far above what lies before the direct sound.
const ABOVE_NOISE_DB: f64 = 10.0;

/// A reflection.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Reflection {
    /// How much later than the direct sound it comes.
    pub delay_s: f64,
    /// Its level re the direct sound.
    pub level_db: f64,
    /// By how much its path is longer.
    pub path_difference_m: f64,
}

impl Reflection {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 3] = [
        Field::plain("delay_s", "delay", Unit::Second, 6, |of| Some(of.delay_s)),
        Field::plain("level_db", "level re the direct sound", Unit::Decibel, 1, |of| {
            Some(of.level_db)
        }),
        Field::plain("path_difference_m", "path difference", Unit::Metre, 3, |of| {
            Some(of.path_difference_m)
        }),
    ];
}

/// An impulse response about the direct sound.
#[derive(Debug, Clone, Default)]
pub struct Impulse {
    /// Time of its first sample re the direct sound, in seconds; before that by as much as a quarter
    /// of what is after.
    pub start_s: f64,
    /// Its samples, at the rate of the takes.
    pub samples: Vec<f64>,
    /// Level of its envelope re that of the direct sound, at the same times.
    pub envelope_db: Vec<f64>,
}

/// The impulse response of points whose transform had so many samples, at a rate, where a frame shows
/// the share `seen` of what comes so many samples late.
pub(super) fn impulse(
    points: &[Point],
    size: usize,
    rate_hz: f64,
    seen: impl Fn(usize) -> f64,
) -> Impulse {
    /// What is seen less well is left out.
    const LEAST_SEEN: f64 = 0.3;
    let (spectrum, _) = filled(points);
    let reach = (1..size / 2).find(|late| seen(*late) < LEAST_SEEN).unwrap_or(size / 2);
    let before = reach / 4;
    let response = response(&spectrum, size);
    // The envelope is the magnitude of the analytic signal, whose spectrum ends at half the rate.
    let mut analytic = vec![Complex64::default(); size];
    for (value, bin) in analytic.iter_mut().zip(&spectrum) {
        *value = 2.0 * bin.conj() / size as f64;
    }
    complex_forward(&mut analytic);
    let place = |n: usize| if n < before { size - before + n } else { n - before };
    let late = |n: usize| n.abs_diff(before);
    let samples = (0..before + reach).map(|n| response[place(n)] / seen(late(n)));
    let power = (0..before + reach).map(|n| analytic[place(n)].norm_sqr() / seen(late(n)).powi(2));
    let power: Vec<f64> = power.collect();
    let about = (0.001 * rate_hz) as usize;
    let direct = power[before.saturating_sub(about)..(before + about).min(power.len())]
        .iter()
        .copied()
        .fold(f64::MIN_POSITIVE, f64::max);
    Impulse {
        start_s: -(before as f64) / rate_hz,
        samples: samples.collect(),
        envelope_db: power.iter().map(|p| db_from_power((p / direct).max(1e-20))).collect(),
    }
}

/// The transfer of points, on straight lines between those that are kept, nothing beyond them; and
/// the widest gap in bins.
pub(super) fn filled(points: &[Point]) -> (Vec<Complex64>, usize) {
    let mut spectrum = vec![Complex64::default(); points.len()];
    let mut before: Option<usize> = None;
    let mut widest = 0;
    for (k, point) in points.iter().enumerate().filter(|(_, point)| !point.is_omitted) {
        spectrum[k] = point.transfer;
        if let Some(from) = before {
            widest = widest.max(k - from);
            for n in from + 1..k {
                let share = (n - from) as f64 / (k - from) as f64;
                spectrum[n] = spectrum[from] + share * (point.transfer - points[from].transfer);
            }
        }
        before = Some(k);
    }
    (spectrum, widest)
}

fn response(spectrum: &[Complex64], size: usize) -> Vec<f64> {
    let mut spectrum = spectrum.to_vec();
    // A real signal has real ends of its spectrum.
    if let Some(first) = spectrum.first_mut() {
        first.im = 0.0;
    }
    if size.is_multiple_of(2)
        && let Some(last) = spectrum.last_mut()
    {
        last.im = 0.0;
    }
    inverse(spectrum, size)
}

/// The phase of each point that a system of these magnitudes has at least, in radians: the Hilbert
/// transform of their logarithm, by folding its cepstrum (A. V. Oppenheim and R. W. Schafer, Discrete-Time
/// Signal Processing, 3rd ed. 2010, 13.5). Beyond the points that are kept the magnitude is held.
pub(super) fn minimum_phase(points: &[Point], size: usize) -> Vec<f64> {
    let (spectrum, _) = filled(points);
    let Some(first) = points.iter().position(|point| !point.is_omitted) else {
        return vec![0.0; points.len()];
    };
    let last = points.iter().rposition(|point| !point.is_omitted).unwrap_or(first);
    let logarithm = |k: usize| {
        let held = spectrum[k.clamp(first, last)];
        Complex64::new(held.norm().max(f64::MIN_POSITIVE).ln(), 0.0)
    };
    let mut cepstrum = inverse((0..points.len()).map(logarithm).collect(), size);
    for (n, value) in cepstrum.iter_mut().enumerate() {
        *value *= match n {
            0 => 1.0,
            _ if 2 * n == size => 1.0,
            _ if 2 * n < size => 2.0,
            _ => 0.0,
        };
    }
    let mut transform = crate::transform::RealTransform::new(size);
    transform.forward(&mut cepstrum).iter().map(|bin| bin.im).collect()
}

impl Impulse {
    /// The response to a step: the sum of the impulse response up to each sample.
    #[must_use]
    pub fn step(&self) -> Vec<f64> {
        let mut sum = 0.0;
        let sums = self.samples.iter().map(|x| {
            sum += x;
            sum
        });
        sums.collect()
    }

    /// Level of what lies before the direct sound, where nothing should be: the median of the
    /// envelope.
    fn noise_db(&self, rate_hz: f64) -> f64 {
        let before = (-self.start_s * rate_hz) as usize;
        let clear = before.saturating_sub((0.002 * rate_hz) as usize);
        crate::fit::median(self.envelope_db[..clear].iter().copied()).unwrap_or(f64::NEG_INFINITY)
    }

    /// The strongest reflections, in the order in which they come.
    pub(super) fn reflections(&self, rate_hz: f64, speed_m_s: f64) -> Vec<Reflection> {
        let apart = ((APART_S * rate_hz) as usize).max(1);
        let zero = (-self.start_s * rate_hz).round() as usize;
        let least = LOWEST_DB.max(self.noise_db(rate_hz) + ABOVE_NOISE_DB);
        let all = &self.envelope_db;
        let is_peak = |n: &usize| {
            let around = &all[n - apart..(*n + apart + 1).min(all.len())];
            all[*n] >= least && around.iter().all(|db| *db <= all[*n])
        };
        let mut found: Vec<usize> = (zero + apart..all.len()).filter(is_peak).collect();
        found.sort_by(|a, b| all[*b].total_cmp(&all[*a]));
        found.truncate(MOST);
        found.sort_unstable();
        let of = |n: usize| {
            let delay_s = (n - zero) as f64 / rate_hz;
            Reflection { delay_s, level_db: all[n], path_difference_m: speed_m_s * delay_s }
        };
        found.into_iter().map(of).collect()
    }
}

/// What a gate about the direct sound leaves of points: from a quarter of it before, 2 ms at most, to
/// its end, the last quarter faded. Noise is reduced as the gate is shorter than the transform.
pub(super) fn gated(points: &[Point], size: usize, rate_hz: f64, gate_s: f64) -> Vec<Point> {
    const BEFORE_S: f64 = 0.002;
    let (spectrum, _) = filled(points);
    let mut response = response(&spectrum, size);
    let (gate, before) = (gate_s * rate_hz, (0.25 * gate_s).min(BEFORE_S) * rate_hz);
    let fade = |share: f64| 0.5 + 0.5 * (std::f64::consts::PI * share.clamp(0.0, 1.0)).cos();
    let mut kept = 0.0;
    for (n, value) in response.iter_mut().enumerate() {
        let at = if n > size / 2 { n as f64 - size as f64 } else { n as f64 };
        let share = if at < 0.0 { 2.0 * (-at / before) - 1.0 } else { 4.0 * at / gate - 3.0 };
        let weight = fade(share);
        kept += weight * weight;
        *value *= weight;
    }
    let mut transform = crate::transform::RealTransform::new(size);
    let gated = transform.forward(&mut response).to_vec();
    let less = (kept / size as f64).sqrt();
    let of = |(point, transfer): (&Point, Complex64)| {
        let u = point.u * point.transfer.norm() * less / transfer.norm().max(f64::MIN_POSITIVE);
        Point { transfer, u, ..*point }
    };
    points.iter().zip(gated).map(of).collect()
}
