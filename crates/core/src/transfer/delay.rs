//! When a response comes after its reference, between samples, and how their clocks drift.
//!
//! 1. Stretches about the loudest of the reference are correlated with the response over all delays
//!    that are looked for (generalized cross-correlation, C. H. Knapp and G. C. Carter, IEEE Trans.
//!    ASSP 24, 1976), as they are and with half-whitened spectra; the sharper of the two stands. Its
//!    peaks are the candidates.
//! 2. From there outwards, stretch by stretch, the delay is that which maximises Σ W·Re(G·e^{jωτ}),
//!    with G the averaged cross spectrum of short frames and the weight of maximum likelihood,
//!    W = γ²/((1 − γ²)·|G|), γ² being the coherence. Its variance is 1/(2·n·Σ ω²·γ²/(1 − γ²)).
//! 3. A straight line through them is delay and drift of the clock, if the drift is sure. Where the
//!    stretches scatter more, so much greater is the uncertainty.

use rustfft::num_complex::Complex64;

use crate::error::Error;
use crate::fit::{Line, median};
use crate::measured::Measured;
use crate::samples::{Reader, Samples};
use crate::significance::widened;
use crate::transform::{RealTransform, fast_length, inverse};
use crate::units::db_from_amplitude;
use crate::window::{Window, WindowKind};

/// Stretches that are correlated over all delays, and how long one is in seconds.
const BLOCKS: usize = 4;
const BLOCK_S: f64 = 5.5;
/// A stretch in which the delay is followed, its frames, and how many there are at most.
const STRETCH: usize = 1 << 16;
const LEAST_STRETCH: usize = 256;
const FRAME: usize = 1 << 13;
const MOST_STRETCHES: usize = 64;
/// What is in common stands so many times above what chance scatters by.
const LEAST_PEAK: f64 = 6.0;
/// Overlapping frames and neighbouring bins of a Hann window share what they know, and the weights come
/// from the same noise as what they weigh: measured on noise and music.
const SHARED: f64 = 2.8;
/// Where a bin and so many neighbours to either side have no more coherence than so many times what
/// chance makes, nothing is in common.
const BESIDE: usize = 4;
const SURE: f64 = 1.2;
/// The drift is taken into account if it is so many times its uncertainty.
const SURE_OF_DRIFT: f64 = 4.0;

/// A delay that the correlation speaks for.
#[derive(Debug, Clone, Copy, PartialEq, serde::Serialize)]
pub struct Candidate {
    /// The delay.
    pub delay_s: f64,
    /// Its peak re the highest.
    pub strength_db: f64,
}

/// How a response lies to its reference, in samples. What is at n of the reference is at n + delay +
/// drift·n in the response.
#[derive(Debug, Clone)]
pub(super) struct Found {
    pub(super) delay: Measured,
    pub(super) drift: Option<Measured>,
    /// The drift as it is taken into account.
    pub(super) slope: f64,
    pub(super) is_reversed: bool,
    pub(super) candidates: Vec<Candidate>,
}

impl Found {
    /// A delay that is stated.
    pub(super) fn stated(delay: f64, is_reversed: bool) -> Self {
        Self {
            delay: Measured::new(delay, 0.0),
            drift: None,
            slope: 0.0,
            is_reversed,
            candidates: Vec::new(),
        }
    }

    /// The delay at a sample of the reference.
    pub(super) fn at(&self, sample: f64) -> f64 {
        self.delay.value + self.slope * sample
    }
}

/// Looks for the delay up to so many samples either way; `None` where nothing speaks for any.
pub(super) fn delay(
    a: &dyn Samples,
    b: &dyn Samples,
    rate_hz: f64,
    most: usize,
) -> Result<Option<Found>, Error> {
    let Some(coarse) = coarse(a, b, rate_hz, most)? else { return Ok(None) };
    let stretches = followed(a, b, &coarse)?;
    let places = stretches.iter().map(|at| (at.middle, at.delay, 1.0 / at.variance));
    let weight: f64 = places.clone().map(|(.., weight)| weight).sum();
    if !(weight > 0.0 && weight.is_finite()) {
        return Ok(None);
    }
    let reversed: f64 = stretches.iter().map(|at| at.sign / at.variance).sum();
    let mean = places.clone().map(|(_, delay, weight)| delay * weight).sum::<f64>() / weight;
    let of_mean: f64 =
        places.clone().map(|(_, delay, weight)| weight * (delay - mean).powi(2)).sum();
    let count = stretches.len() as f64;
    // What scatters more than the bound is as uncertain as it scatters.
    let inflated = |left: f64, freedom: f64| {
        if freedom < 3.0 { 1.0 } else { widened(freedom) * (left / freedom).sqrt().max(0.7) }
    };
    let line = Line::through(places).filter(|_| stretches.len() >= 4);
    let drift = line.map(|line| {
        Measured::new(line.slope, inflated(line.left, count - 2.0) / line.square.sqrt())
    });
    let is_sure = |drift: &Measured| drift.value.abs() > SURE_OF_DRIFT * drift.u;
    let drifting = line.zip(drift.filter(is_sure));
    let (delay, slope) = match drifting {
        Some((line, drift)) => {
            let u = inflated(line.left, count - 2.0) * line.variance_at(0.0).sqrt();
            (Measured::new(line.at(0.0), u), drift.value)
        }
        None => (Measured::new(mean, inflated(of_mean, count - 1.0) / weight.sqrt()), 0.0),
    };
    Ok(Some(Found {
        delay,
        drift,
        slope,
        is_reversed: reversed < 0.0,
        candidates: coarse.candidates,
    }))
}

/// What the correlation over all delays shows.
struct Coarse {
    /// Sample of the reference about which it was made, and the delay there.
    at: f64,
    delay: f64,
    candidates: Vec<Candidate>,
}

fn coarse(
    a: &dyn Samples,
    b: &dyn Samples,
    rate_hz: f64,
    most: usize,
) -> Result<Option<Coarse>, Error> {
    let length = ((BLOCK_S * rate_hz) as usize).min(a.count());
    let Some(first) = loudest(a, length)? else { return Ok(None) };
    let size = fast_length(length + 2 * most);
    let mut transform = RealTransform::new(size);
    let mut sums =
        [vec![Complex64::default(); size / 2 + 1], vec![Complex64::default(); size / 2 + 1]];
    let (mut of_a, mut of_b) = (Reader::new(a), Reader::new(b));
    let mut spectrum = |samples: &[f32]| {
        let mut block: Vec<f64> = samples.iter().copied().map(f64::from).collect();
        block.resize(size, 0.0);
        transform.forward(&mut block).to_vec()
    };
    let (mut from, mut ends) = (first, first);
    for _ in 0..BLOCKS {
        if from + length > a.count() {
            break;
        }
        let a = spectrum(of_a.at(from as i64, length)?);
        let b = spectrum(of_b.at(from as i64 - most as i64, length + 2 * most)?);
        for (n, (a, b)) in a.iter().zip(&b).enumerate().skip(1) {
            let cross = a.conj() * b;
            let size = cross.norm();
            if size > 0.0 {
                sums[0][n] += cross;
                sums[1][n] += cross / size.sqrt();
            }
        }
        ends = from + length;
        from += length;
    }
    let correlations = sums.map(|sum| {
        let mut all = inverse(sum, size);
        all.truncate(2 * most + 1);
        let power = all.iter().map(|x| x * x).sum::<f64>() / all.len() as f64;
        let peak = all.iter().fold(0.0f64, |most, x| most.max(x.abs()));
        (all, peak, peak / power.sqrt())
    });
    let [plain, whitened] = &correlations;
    let (all, peak, sharpness) = if plain.2 > whitened.2 { plain } else { whitened };
    if sharpness.is_nan() || *sharpness <= LEAST_PEAK {
        return Ok(None);
    }
    let candidates = candidates(all, *peak, most, rate_hz);
    let delay = candidates.first().map_or(0.0, |first| first.delay_s * rate_hz);
    Ok(Some(Coarse { at: 0.5 * (first + ends) as f64, delay, candidates }))
}

/// Where the loudest stretch of such a length begins; `None` in silence.
fn loudest(a: &dyn Samples, length: usize) -> Result<Option<usize>, Error> {
    let mut block = vec![0.0; length];
    let mut best = (0.0, None);
    for from in (0..=a.count().saturating_sub(length)).step_by((length / 2).max(1)) {
        a.read(from, &mut block)?;
        let energy: f64 = block.iter().map(|x| f64::from(*x).powi(2)).sum();
        if energy > best.0 {
            best = (energy, Some(from));
        }
    }
    Ok(best.1)
}

/// The highest peaks of a correlation, no two of them near each other.
fn candidates(all: &[f64], peak: f64, most: usize, rate_hz: f64) -> Vec<Candidate> {
    const COUNT: usize = 5;
    const LEAST: f64 = 0.25;
    const APART_S: f64 = 0.000_4;
    let apart = ((APART_S * rate_hz) as usize).max(2);
    let mut places: Vec<usize> = (0..all.len()).filter(|n| all[*n].abs() >= LEAST * peak).collect();
    places.sort_by(|a, b| all[*b].abs().total_cmp(&all[*a].abs()));
    let mut kept: Vec<usize> = Vec::new();
    for place in places {
        if kept.len() == COUNT {
            break;
        }
        if kept.iter().all(|other| other.abs_diff(place) > apart) {
            kept.push(place);
        }
    }
    kept.iter()
        .map(|place| Candidate {
            delay_s: (*place as f64 - most as f64) / rate_hz,
            strength_db: db_from_amplitude(all[*place].abs() / peak),
        })
        .collect()
}

/// The delay in a stretch of the reference.
struct Stretch {
    middle: f64,
    delay: f64,
    variance: f64,
    /// −1 where the polarity is reversed.
    sign: f64,
}

/// Follows the delay from where it is known outwards.
fn followed(a: &dyn Samples, b: &dyn Samples, coarse: &Coarse) -> Result<Vec<Stretch>, Error> {
    // What both have.
    let first = (-coarse.delay).max(0.0) as usize;
    let ends = (b.count() as f64 - coarse.delay).clamp(0.0, a.count() as f64) as usize;
    let all = ends.saturating_sub(first);
    let length = STRETCH.min(all);
    if length < LEAST_STRETCH {
        return Ok(Vec::new());
    }
    let count = (all / length).clamp(1, MOST_STRETCHES);
    let step = (all - length) as f64 / (count.max(2) - 1) as f64;
    let starts: Vec<usize> = (0..count).map(|n| first + (n as f64 * step) as usize).collect();
    let middle = |start: usize| start as f64 + 0.5 * length as f64;
    let nearest = (0..count)
        .min_by(|m, n| {
            let away = |n: usize| (middle(starts[n]) - coarse.at).abs();
            away(*m).total_cmp(&away(*n))
        })
        .unwrap_or(0);
    let mut looking = Looking::new(length);
    let mut found: Vec<Stretch> = Vec::new();
    for outwards in [(nearest..count).collect::<Vec<_>>(), (0..nearest).rev().collect()] {
        let mut expected = coarse.delay;
        for n in outwards {
            let near = looking.delay(a, b, starts[n], expected)?;
            if let Some((delay, variance, sign)) = near {
                expected = delay;
                found.push(Stretch { middle: middle(starts[n]), delay, variance, sign });
            }
        }
    }
    // A stretch that lost its way says nothing.
    let Some(usual) = median(found.iter().map(|at| at.delay)) else { return Ok(found) };
    let line = Line::through(found.iter().map(|at| (at.middle, at.delay, 1.0)));
    let expected = |at: &Stretch| line.map_or(usual, |line| line.at(at.middle));
    let away: Vec<f64> = found.iter().map(|at| (at.delay - expected(at)).abs()).collect();
    let most = 8.0 * median(away.iter().copied()).unwrap_or(0.0) + 1e-3;
    let mut away = away.into_iter();
    found.retain(|_| away.next().is_some_and(|away| away <= most));
    Ok(found)
}

/// Frames in which the delay near an expected one is looked for.
struct Looking {
    length: usize,
    frame: usize,
    window: Vec<f64>,
    independent: f64,
    starts: Vec<usize>,
    transform: RealTransform,
}

impl Looking {
    fn new(length: usize) -> Self {
        let frame = FRAME.min(fast_length((length / 8).max(16)));
        let hop = (frame / 2).max(1);
        let window = Window::new(WindowKind::Hann, frame).ok();
        let starts: Vec<usize> = (0..=length.saturating_sub(frame)).step_by(hop).collect();
        let independent = window
            .as_ref()
            .map_or(1.0, |window| window.independent_frames(starts.len() as u64, hop));
        let window = window.map_or_else(|| vec![1.0; frame], |window| window.samples().to_vec());
        Self { length, frame, window, independent, starts, transform: RealTransform::new(frame) }
    }

    /// The delay, its variance and its sign, in samples.
    fn delay(
        &mut self,
        a: &dyn Samples,
        b: &dyn Samples,
        start: usize,
        expected: f64,
    ) -> Result<Option<(f64, f64, f64)>, Error> {
        let frame = self.frame;
        // Once to come near, and once from there.
        let mut whole = expected.round();
        let mut found = None;
        for _ in 0..2 {
            let Some((tau, variance, sign)) = self.near(a, b, start, whole as i64)? else {
                return Ok(None);
            };
            found = Some((whole + tau, variance, sign));
            if tau.abs() < 0.05 * frame as f64 && tau.abs() < 1.0 {
                break;
            }
            whole = (whole + tau).round();
        }
        Ok(found)
    }

    /// The same beyond a whole delay.
    fn near(
        &mut self,
        a: &dyn Samples,
        b: &dyn Samples,
        start: usize,
        whole: i64,
    ) -> Result<Option<(f64, f64, f64)>, Error> {
        let Self { length, frame, window, independent, starts, transform } = self;
        let (mut of_a, mut of_b) = (Reader::new(a), Reader::new(b));
        let bins = *frame / 2 + 1;
        let (mut aa, mut bb, mut ab) =
            (vec![0.0; bins], vec![0.0; bins], vec![Complex64::default(); bins]);
        // Most of it must be there.
        let (from, to) = (start as i64 + whole, start as i64 + whole + *length as i64);
        let there = to.min(b.count() as i64) - from.max(0);
        if there < 3 * *length as i64 / 4 {
            return Ok(None);
        }
        let a_sound = of_a.at(start as i64, *length)?;
        let b_sound = of_b.at(start as i64 + whole, *length)?;
        let mut spectrum = |sound: &[f32]| {
            let both = sound.iter().zip(&*window);
            let mut block: Vec<f64> = both.map(|(x, w)| f64::from(*x) * w).collect();
            transform.forward(&mut block).to_vec()
        };
        for from in &*starts {
            let a = spectrum(&a_sound[*from..from + *frame]);
            let b = spectrum(&b_sound[*from..from + *frame]);
            for (n, (a, b)) in a.iter().zip(&b).enumerate() {
                aa[n] += a.norm_sqr();
                bb[n] += b.norm_sqr();
                ab[n] += a.conj() * b;
            }
        }
        let n = *independent;
        let mut weighted = vec![Complex64::default(); bins];
        // By how much the coherence exceeds that of noise alone.
        let beyond: Vec<f64> = (0..bins)
            .map(|k| {
                let powers = aa[k] * bb[k];
                let biased = if powers > 0.0 { ab[k].norm_sqr() / powers } else { 0.0 };
                biased.min(1.0 - 1e-9) - 1.0 / n
            })
            .collect();
        let mut information = 0.0;
        for k in 1..bins - 1 {
            let around = &beyond[k.saturating_sub(BESIDE)..(k + BESIDE + 1).min(bins)];
            let mean = around.iter().sum::<f64>() / around.len() as f64;
            let coherence = (n * beyond[k] / (n - 1.0)).clamp(0.0, 1.0 - 1e-9);
            if mean < SURE / n || coherence <= 0.0 {
                continue;
            }
            let ratio = coherence / (1.0 - coherence);
            let turn = std::f64::consts::TAU * k as f64 / *frame as f64;
            weighted[k] = ab[k] * (ratio / ab[k].norm());
            information += 2.0 * n / SHARED * turn * turn * ratio;
        }
        let beyond: f64 = beyond[1..bins - 1].iter().sum();
        // Chance has a coherence of 1/n in each bin, and scatters by as much.
        let chance = (1.5 * bins as f64).sqrt() / n;
        if !(information > 0.0 && beyond > LEAST_PEAK * chance) {
            return Ok(None);
        }
        let correlation = inverse(weighted.clone(), *frame);
        let reach = *frame / 4;
        let places = (0..=reach).chain(*frame - reach..*frame);
        let best = places.max_by(|a, b| correlation[*a].abs().total_cmp(&correlation[*b].abs()));
        let Some(best) = best else { return Ok(None) };
        let sign = correlation[best].signum();
        let mut tau = if best > *frame / 2 { best as f64 - *frame as f64 } else { best as f64 };
        for _ in 0..8 {
            let (mut slope, mut bend) = (0.0, 0.0);
            for (k, value) in weighted.iter().enumerate() {
                let turn = std::f64::consts::TAU * k as f64 / *frame as f64;
                let at = value * Complex64::from_polar(1.0, turn * tau);
                slope -= sign * turn * at.im;
                bend -= sign * turn * turn * at.re;
            }
            if bend >= 0.0 {
                break;
            }
            let step = (-slope / bend).clamp(-0.5, 0.5);
            tau += step;
            if step.abs() < 1e-9 {
                break;
            }
        }
        Ok(Some((tau, 1.0 / information, sign)))
    }
}
