//! What excites the room in a take, and where its response begins.

use serde::Serialize;

use crate::error::Error;
use crate::samples::{Samples, held};
use crate::units::power_from_db;

/// What excites the room.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Excitation {
    /// An impulse response, or a burst: a pistol, a balloon, a clap.
    Impulse,
    /// Noise that stops.
    InterruptedNoise,
    /// A sweep that is known.
    Sweep,
}

/// A response is followed for so long.
pub(super) const LONGEST_S: f64 = 60.0;
/// And from so long before it is heard.
pub(super) const BEFORE_S: f64 = 0.002;
/// Frames of the power over time.
const FRAME_S: f64 = 0.005;
/// Sound is steady that stays so long within so much of its middle.
const STEADY_S: f64 = 0.4;
const STEADY_DB: f64 = 6.0;
/// What falls by less from one half of it to the other does not decay.
const LEVEL_DB: f64 = 1.2;

/// The direct sound may be so much weaker than the peak (ISO 3382-1:2009, 5.3.4), and come so much
/// sooner.
pub(super) const DIRECT: f64 = 0.1;
const LONGEST_RISE_S: f64 = 2.0;

/// Where a response begins whose peak is known: the first sample within 20 dB of it from which on there
/// is no gap of 50 ms.
pub(super) fn direct(value: impl Fn(i64) -> f64, peak_at: i64, peak: f64, rate_hz: f64) -> i64 {
    const GAP_S: f64 = 0.05;
    let gap = (GAP_S * rate_hz) as i64;
    let earliest = peak_at - (LONGEST_RISE_S * rate_hz) as i64;
    let mut first = peak_at;
    let mut n = peak_at;
    while n > earliest && first - n <= gap {
        n -= 1;
        if value(n).abs() >= DIRECT * peak {
            first = n;
        }
    }
    first
}

/// The power of a take over time.
pub(super) struct Powers {
    frames: Vec<f64>,
    frame: usize,
    rate_hz: f64,
}

/// A stretch of samples and the sample of it that is time zero.
pub(super) struct Cut {
    pub(super) samples: Vec<f64>,
    /// The same stretch of a microphone with a figure-of-eight pattern.
    pub(super) lateral: Option<Vec<f64>>,
    pub(super) zero: usize,
    /// Sample of the take that time zero is.
    pub(super) at: usize,
    /// Bursts that are as loud, within 10 dB, and not measured.
    pub(super) others: usize,
}

impl Powers {
    pub(super) fn new(take: &dyn Samples, rate_hz: f64) -> Result<Self, Error> {
        const BLOCK_FRAMES: usize = 2048;
        let frame = ((FRAME_S * rate_hz) as usize).max(1);
        let mut frames = Vec::with_capacity(take.count() / frame);
        let mut block = vec![0.0; frame * BLOCK_FRAMES];
        for from in (0..take.count()).step_by(block.len()) {
            let block = &mut block[..(frame * BLOCK_FRAMES).min(take.count() - from)];
            take.read(from, block)?;
            let power = |of: &[f32]| of.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>();
            frames.extend(block.chunks_exact(frame).map(|of| power(of) / frame as f64));
        }
        Ok(Self { frames, frame, rate_hz })
    }

    /// Stretches of steady noise that stop: the frames in which each begins and stops.
    pub(super) fn stops(&self) -> Vec<(usize, usize)> {
        const SMOOTH: usize = 20;
        /// The sound falls so far behind it, within so long.
        const FALLS_DB: f64 = -15.0;
        let mean = |n: usize| {
            let of = &self.frames[n..(n + SMOOTH).min(self.frames.len())];
            of.iter().sum::<f64>() / of.len().max(1) as f64
        };
        let smooth: Vec<f64> = (0..self.frames.len()).map(mean).collect();
        let most = smooth.iter().copied().fold(0.0, f64::max);
        let loud = most * power_from_db(-STEADY_DB);
        let least = (STEADY_S / FRAME_S) as usize;
        let mut found = Vec::new();
        let mut n = 0;
        while n < smooth.len() {
            if smooth[n] < loud {
                n += 1;
                continue;
            }
            let from = n;
            while n < smooth.len() && smooth[n] >= loud {
                n += 1;
            }
            // The frames of a mean are behind it, and its last ones have sound that falls already.
            let Some(steady) = self.frames.get(from + SMOOTH..n.saturating_sub(SMOOTH / 2)) else {
                continue;
            };
            if steady.len() < least {
                continue;
            }
            let half = |of: &[f64]| of.iter().sum::<f64>() / of.len() as f64;
            let (early, late) = steady.split_at(steady.len() / 2);
            let (early, late) = (half(early), half(late));
            let falls = early > late * power_from_db(LEVEL_DB) && steady.len() < 4 * least;
            let behind = smooth[n..].iter().take(4000).copied().fold(f64::INFINITY, f64::min);
            if !falls && behind < late * power_from_db(FALLS_DB) {
                found.push((from + SMOOTH, n));
            }
        }
        found
    }

    /// The response to the loudest burst.
    pub(super) fn impulse(
        &self,
        take: &dyn Samples,
        lateral: Option<&dyn Samples>,
    ) -> Result<Option<Cut>, Error> {
        let loudest = self.frames.iter().enumerate().max_by(|a, b| a.1.total_cmp(b.1));
        let Some((loudest, power)) = loudest.filter(|(_, power)| **power > 0.0) else {
            return Ok(None);
        };
        let others = self.bursts(*power).into_iter();
        let others: Vec<usize> = others.filter(|n| n.abs_diff(loudest) > 40).collect();
        let next = others.iter().find(|n| **n > loudest).map_or(self.frames.len(), |n| n - 4);
        let from = (loudest * self.frame).saturating_sub((LONGEST_RISE_S * self.rate_hz) as usize);
        let near = held(take, from, (loudest + 1) * self.frame - from)?;
        let value = |n: i64| usize::try_from(n).map_or(0.0, |n| f64::from(near[n]));
        let within = near.len() - self.frame.min(near.len())..near.len();
        let highest = within.max_by(|a, b| near[*a].abs().total_cmp(&near[*b].abs())).unwrap_or(0);
        let peak = f64::from(near[highest].abs());
        let at = from + direct(value, highest as i64, peak, self.rate_hz).max(0) as usize;
        let first = at.saturating_sub((BEFORE_S * self.rate_hz) as usize);
        let longest = (LONGEST_S * self.rate_hz) as usize;
        let end = if next == self.frames.len() { take.count() } else { next * self.frame };
        let samples = held(take, first, end.saturating_sub(first).min(longest))?;
        let samples: Vec<f64> = samples.into_iter().map(f64::from).collect();
        let samples = without_silence(samples);
        let others = others.len();
        let cut = |of: &dyn Samples| -> Result<Vec<f64>, Error> {
            Ok(held(of, first, samples.len())?.into_iter().map(f64::from).collect())
        };
        let lateral = lateral.map(cut).transpose()?;
        let zero = at - first;
        Ok((samples.len() > zero).then_some(Cut { samples, lateral, zero, at, others }))
    }

    /// Frames in which the sound rises out of what was there, to within 10 dB of the loudest.
    fn bursts(&self, loudest: f64) -> Vec<usize> {
        const RISES: f64 = 30.0;
        const BEFORE: usize = 12;
        let mut found: Vec<usize> = Vec::new();
        for n in BEFORE..self.frames.len() {
            let before = self.frames[n - BEFORE..n - 1].iter().copied().fold(0.0, f64::max);
            let is_new = found.last().is_none_or(|last| n - last > BEFORE);
            if is_new && self.frames[n] > 0.1 * loudest && self.frames[n] > RISES * before {
                found.push(n);
            }
        }
        found
    }

    /// The sound about where noise stops: a second before it, and until it begins again.
    pub(super) fn interrupted(
        &self,
        take: &dyn Samples,
        stops: &[(usize, usize)],
        number: usize,
    ) -> Result<Cut, Error> {
        const EARLIER_S: f64 = 1.5;
        let (from, stop) = stops[number];
        let at = stop * self.frame;
        let earliest =
            (from * self.frame).max(at.saturating_sub((EARLIER_S * self.rate_hz) as usize));
        // Noise begins a smoothed frame before it is steady.
        let ends = stops.get(number + 1).map_or(take.count(), |next| (next.0 - 45) * self.frame);
        let longest = (LONGEST_S * self.rate_hz) as usize;
        let samples = held(take, earliest, (ends.max(at) - earliest).min(longest))?;
        let samples = without_silence(samples.into_iter().map(f64::from).collect());
        Ok(Cut {
            zero: (at - earliest).min(samples.len().saturating_sub(1)),
            samples,
            lateral: None,
            at,
            others: 0,
        })
    }
}

/// Without the zeros that end a file which was faded out or padded.
fn without_silence(mut samples: Vec<f64>) -> Vec<f64> {
    let sounds = samples.iter().rposition(|x| *x != 0.0).map_or(0, |last| last + 1);
    samples.truncate(sounds);
    samples
}
