//! Levels as a sound level meter gives them: in bands of 1/N octave, weighted in frequency and
//! time, their statistics and their course.
//!
//! With the squared, filtered samples s_n of a channel, or their mean over several channels (an
//! energy mean, not one of waveforms), the equivalent level is L_eq = 10 lg(2·mean s) re full
//! scale; the time-weighted level is that of an exponential mean of s with 125 ms (F) or 1 s (S),
//! or of one with 35 ms that falls by 2.9 dB/s (I); L_E = L_eq + 10 lg(T/1 s); L_N is exceeded
//! during N % of the time, from the time-weighted level every 10 ms. All of it is computed in time.
//!
//! - Bands: [`octave_bands`] (IEC 61260-1:2014, exact middles in base ten); filters of class 1,
//!   Butterworth of tenth order whose width is that of the ideal band, lower bands at lower sample
//!   rates. What the start of the sound excites in a filter is not averaged: samples before the span
//!   are used where there are some, else the first part of the span is left out of that band.
//! - Weightings A, C and Z (IEC 61672-1:2013), right up to half the sample rate. Z is flat
//!   from 10 Hz up. DC, the mean of the first stretch, is taken away from all.
//! - The uncertainty of a mean level is that of its scatter over time: the standard deviation of
//!   the mean of up to 64 parts, with what neighbours have in common. Of a band whose
//!   time-bandwidth product B·T is too small for parts, it is that of noise, 4.34 dB/√(B·T). It
//!   says nothing of the calibration.
//! - The peak is that of the C-weighted waveform, between the samples too.

mod bank;
mod corrections;
mod octave;
mod rating;
mod result;
mod running;
mod short_time;
mod weighting;

pub(crate) use bank::Bank;
pub(crate) use corrections::Rule;
pub use corrections::{Correction, Response};
pub(crate) use octave::names;
pub use octave::{Band, octave_bands};
pub use rating::NoiseRating;
pub(crate) use result::omitted;
pub use result::{BandLevel, Levels, Moment, Percentiles, Weighted};
pub use running::{LevelSince, RunningLevel};
pub use short_time::{EXCEEDED_PERCENT, TimeWeighting};
pub use weighting::Weighting;

use std::ops::Range;

use bank::Place;
use short_time::{ShortTime, TICK_S, Timing};
use weighting::WeightingFilters;

use crate::error::Error;
use crate::intake::TruePeak;

/// Settings of [`BandMeter`] and [`TotalMeter`].
#[derive(Debug, Clone, PartialEq)]
pub struct BandSettings {
    /// Share of an octave that a band is: 1/1 to 1/24.
    pub fraction: u32,
    /// Middles of the lowest and the highest band, in Hz.
    pub range_hz: (f64, f64),
    /// Frequency weighting of the level whose statistics stand at the top of the result.
    pub weighting: Weighting,
    /// Time weighting of maxima, minima and percentiles.
    pub time_weighting: TimeWeighting,
    /// Length of a step of the course in seconds; by itself, 1 s, or less in short takes.
    pub every_s: Option<f64>,
    /// Whether the course of each band is kept.
    pub keeps_course: bool,
}

impl Default for BandSettings {
    fn default() -> Self {
        Self {
            fraction: 3,
            range_hz: (16.0, 20_000.0),
            weighting: Weighting::default(),
            time_weighting: TimeWeighting::default(),
            every_s: None,
            keeps_course: false,
        }
    }
}

/// The samples that meters are to be given.
#[derive(Debug, Clone, PartialEq)]
pub struct Stream {
    /// Sample rate.
    pub rate_hz: f64,
    /// Samples before the span, from which filters settle; see [`lead_s`].
    pub lead: u64,
    /// Samples of the span.
    pub samples: u64,
    /// When the span begins, in seconds from the start of the take.
    pub start_s: f64,
    /// What the power of each channel counts: 1 for one channel, 1/n each for the energy mean of n,
    /// more where a channel is less sensitive than the first.
    pub weights: Vec<f64>,
}

impl Stream {
    fn lead_s(&self) -> f64 {
        self.lead as f64 / self.rate_hz
    }

    fn lasts_s(&self) -> f64 {
        self.samples as f64 / self.rate_hz
    }
}

/// So many seconds before a span let all filters and the time weighting settle.
#[must_use]
pub fn lead_s(settings: &BandSettings) -> f64 {
    /// Of the widest filters that a take before the span is read for.
    const LONGEST_S: f64 = 20.0;
    let lowest = octave_bands(settings.fraction, settings.range_hz).first().copied();
    let filter_s = lowest.map_or(0.0, |band| 8.0 / (band.high_hz - band.low_hz));
    (filter_s + settings.time_weighting.settles_s()).min(LONGEST_S)
}

/// Steps of the course that a short take is cut into by itself, at least.
const USUAL_STEPS: f64 = 20.0;

impl BandSettings {
    /// Checks the settings for a stream.
    fn check(&self, stream: &Stream) -> Result<(), Error> {
        let refuse = |setting, given: String, allowed: &str| {
            Err(Error::Setting { setting, given, allowed: allowed.into() })
        };
        if !(1..=24).contains(&self.fraction) {
            let given = format!("1/{}", self.fraction);
            return refuse("the fraction of an octave", given, "1/1 to 1/24");
        }
        let (low, high) = self.range_hz;
        if !(low >= 0.5 && low <= high) {
            let given = format!("{low} Hz to {high} Hz");
            return refuse("the range of bands", given, "rising, from 0.5 Hz up");
        }
        if let Some(every_s) = self.every_s.filter(|s| !(TICK_S..=86_400.0).contains(s)) {
            return refuse("the step", format!("{every_s} s"), "10 ms to a day");
        }
        if stream.samples == 0 {
            return Err(Error::TooShort { samples: 0, needed: 1 });
        }
        Ok(())
    }

    /// Length of a step of the course in seconds, how many ticks it has, and how long they are.
    fn steps(&self, stream: &Stream) -> (f64, u64, f64) {
        let lasts_s = stream.lasts_s();
        let usual = || {
            let rough: f64 = (lasts_s / USUAL_STEPS).min(1.0);
            [1.0, 0.5, 0.25, 0.125, 0.05, 0.02].into_iter().find(|s| *s <= rough).unwrap_or(TICK_S)
        };
        let every_s = self.every_s.unwrap_or_else(usual);
        let ticks = (every_s / TICK_S).ceil().max(1.0);
        (every_s, ticks as u64, every_s / ticks)
    }

    fn timing(&self, stream: &Stream) -> Timing {
        let (_, ticks_per_step, tick_s) = self.steps(stream);
        let from_s = (stream.lead_s() / tick_s).round() * tick_s;
        Timing {
            rate_hz: stream.rate_hz,
            tick_s,
            ticks_per_step,
            from_s,
            lasts_s: stream.lasts_s(),
            settled_s: self.time_weighting.settles_s(),
            course_from_s: from_s,
            time_weighting: self.time_weighting,
            width_hz: None,
            keeps_course: true,
        }
    }
}

/// The samples of each channel less the mean of its first stretch, a block at a time.
#[derive(Debug, Clone, Default)]
struct Inputs {
    means: Vec<f64>,
    block: Vec<f64>,
}

/// Samples that go through a filter together: they stay in the nearest memory.
const BLOCK: usize = 4096;

impl Inputs {
    /// Where the blocks of new samples begin and end.
    fn blocks(&mut self, channels: &[&[f32]]) -> impl Iterator<Item = Range<usize>> + use<> {
        let count = channels.first().map_or(0, |samples| samples.len());
        if self.means.is_empty() && count > 0 {
            let sum = |samples: &&[f32]| samples.iter().map(|x| f64::from(*x)).sum::<f64>();
            self.means = channels.iter().map(|of| sum(of) / count as f64).collect();
        }
        (0..count).step_by(BLOCK).map(move |start| start..count.min(start + BLOCK))
    }

    /// A block of the nth channel.
    fn block(&mut self, n: usize, samples: &[f32]) -> &mut Vec<f64> {
        let mean = self.means[n];
        self.block.clear();
        self.block.extend(samples.iter().map(|x| f64::from(*x) - mean));
        &mut self.block
    }
}

/// Adds squares of a channel, or begins with them.
fn add_squares(sums: &mut Vec<f64>, samples: &[f64], weight: f64, is_first: bool) {
    if is_first {
        sums.clear();
        sums.extend(samples.iter().map(|x| weight * x * x));
    } else {
        for (sum, x) in sums.iter_mut().zip(samples) {
            *sum += weight * x * x;
        }
    }
}

/// Measures the levels in bands, block by block.
#[derive(Debug, Clone)]
pub struct BandMeter {
    weights: Vec<f64>,
    inputs: Inputs,
    banks: Vec<Bank>,
    squares: Vec<Vec<f64>>,
    bands: Vec<(Band, ShortTime)>,
    /// Bands that end above half the sample rate, and those whose filters take too long.
    above: Vec<Band>,
    too_slow: Vec<Band>,
}

impl BandMeter {
    /// A meter for a stream.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for a fraction beyond 1/24, a range that does not rise, or a step beyond
    /// 10 ms to a day; [`Error::TooShort`] for no samples.
    pub fn new(settings: &BandSettings, stream: &Stream) -> Result<Self, Error> {
        /// Time-bandwidth product below which a level would be a guess.
        const LEAST_PRODUCT: f64 = 4.0;
        settings.check(stream)?;
        let all = octave_bands(settings.fraction, settings.range_hz);
        // Where the tangent of the transform still has digits.
        let is_within = |band: &Band| band.high_hz < 0.4995 * stream.rate_hz;
        let (within, above): (Vec<Band>, Vec<Band>) = all.into_iter().partition(is_within);
        let timing = settings.timing(stream);
        let ends_s = timing.from_s + timing.lasts_s;
        let (_, places) = Bank::new(&within, stream.rate_hz);
        let is_slow = |(band, place): &(Band, Place)| {
            let left_s = ends_s - timing.from_s.max(place.settles_s);
            left_s * (band.high_hz - band.low_hz) < LEAST_PRODUCT
        };
        let (slow, kept): (Vec<_>, Vec<_>) = within.into_iter().zip(places).partition(is_slow);
        let kept: Vec<Band> = kept.into_iter().map(|(band, _)| band).collect();
        let (bank, places) = Bank::new(&kept, stream.rate_hz);
        let bands = kept.iter().zip(places).map(|(band, place)| {
            let from_s = timing.from_s.max(place.settles_s);
            let of_band = Timing {
                rate_hz: place.rate_hz,
                from_s,
                lasts_s: ends_s - from_s,
                settled_s: place.settles_s + timing.settled_s,
                width_hz: Some(band.high_hz - band.low_hz),
                keeps_course: settings.keeps_course,
                ..timing
            };
            (*band, ShortTime::new(of_band))
        });
        Ok(Self {
            weights: stream.weights.clone(),
            inputs: Inputs::default(),
            banks: vec![bank; stream.weights.len()],
            squares: vec![Vec::new(); kept.len()],
            bands: bands.collect(),
            above,
            too_slow: slow.into_iter().map(|(band, _)| band).collect(),
        })
    }

    /// Takes the next samples of all channels.
    pub fn push(&mut self, channels: &[&[f32]]) {
        let Self { weights, inputs, banks, squares, bands, .. } = self;
        for at in inputs.blocks(channels) {
            for (n, samples) in channels.iter().enumerate() {
                banks[n].run(inputs.block(n, &samples[at.clone()]), |band, out| {
                    add_squares(&mut squares[band], out, weights[n], n == 0);
                });
            }
            for ((_, level), squares) in bands.iter_mut().zip(&*squares) {
                level.push(squares);
            }
        }
    }
}

/// Measures weighted levels over all frequencies, block by block.
#[derive(Debug, Clone)]
pub struct TotalMeter {
    weights: Vec<f64>,
    inputs: Inputs,
    /// Of each channel.
    filters: Vec<WeightingFilters>,
    levels: [ShortTime; 3],
    squares: [Vec<f64>; 3],
    peaks: Vec<TruePeak>,
    /// Samples before the span that are still to come.
    lead: u64,
}

impl TotalMeter {
    /// A meter for a stream.
    ///
    /// # Errors
    ///
    /// As [`BandMeter::new`].
    pub fn new(settings: &BandSettings, stream: &Stream) -> Result<Self, Error> {
        settings.check(stream)?;
        let timing = settings.timing(stream);
        let channels = stream.weights.len();
        Ok(Self {
            weights: stream.weights.clone(),
            inputs: Inputs::default(),
            filters: vec![WeightingFilters::new(stream.rate_hz); channels],
            levels: Weighting::ALL.map(|_| ShortTime::new(timing)),
            squares: Default::default(),
            peaks: vec![TruePeak::new(stream.rate_hz); channels],
            lead: stream.lead,
        })
    }

    /// Takes the next samples of all channels.
    pub fn push(&mut self, channels: &[&[f32]]) {
        /// Where C stands among the weightings.
        const C: usize = 1;
        let Self { weights, inputs, filters, levels, squares, peaks, lead } = self;
        let (mut weighted, mut waveform) = (<[Vec<f64>; 3]>::default(), Vec::new());
        for at in inputs.blocks(channels) {
            let before = at.len().min(*lead as usize);
            for (n, samples) in channels.iter().enumerate() {
                let block = inputs.block(n, &samples[at.clone()]);
                filters[n].run(block, &mut weighted);
                for (squares, weighted) in squares.iter_mut().zip(&weighted) {
                    add_squares(squares, weighted, weights[n], n == 0);
                }
                waveform.clear();
                waveform.extend(weighted[C][before..].iter().map(|x| *x as f32));
                peaks[n].push(&waveform);
            }
            *lead -= before as u64;
            for (level, squares) in levels.iter_mut().zip(&*squares) {
                level.push(squares);
            }
        }
    }
}
