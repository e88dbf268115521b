//! Harmonics and noise separated: the power between the harmonics is noise, and so is as much under
//! each.
//!
//! A frame holds sixteen periods of the fundamental, so that a harmonic keeps to nine of sixteen
//! bins. Where the fundamental moves, the frame is first read at a pace that holds it still: time
//! is counted in periods.

use crate::between::Interpolator;
use crate::fit::{Line, median};
use crate::samples::padded;
use crate::transform::{RealTransform, fast_length};
use crate::units::cents_between;
use crate::window::WindowKind;

/// Periods in a frame, and the fewest in one of a short note.
pub(super) const PERIODS: f64 = 16.0;
const FEWEST_PERIODS: f64 = 11.0;
/// A harmonic reaches so many bins to either side: the main lobe and a little more.
const REACH_BINS: f64 = 4.5;

/// What to look at: a sound, its fundamental over time, and where its harmonics are.
pub(super) struct Voiced<'a> {
    pub(super) sound: &'a [f32],
    pub(super) rate_hz: f64,
    /// Time in seconds from the first sample, and the fundamental.
    pub(super) f0_hz: &'a [(f64, f64)],
    /// Frequencies of harmonics 1, 2, … over the fundamental, rising, all below half the sample
    /// rate.
    pub(super) ratios: &'a [f64],
}

/// Powers of harmonics and of what lies between them, as mean squares.
pub(super) struct NoiseFrame {
    /// Time of its middle in seconds from the first sample.
    pub(super) time_s: f64,
    /// The fundamental there.
    pub(super) f0_hz: f64,
    /// Power of each harmonic, without the noise under it; by chance a little below zero.
    pub(super) harmonics: Vec<f64>,
    /// Noise from each harmonic to the next: the first from 0 Hz, the last to half the sample rate.
    pub(super) gaps: Vec<f64>,
    /// Variance of the sum of the gaps over its square.
    relative_variance: f64,
}

/// All frames of a stretch.
pub(super) struct NoiseCourse {
    pub(super) frames: Vec<NoiseFrame>,
    pub(super) frame_s: f64,
}

/// Powers of a stretch, averaged.
pub(super) struct MeanPowers {
    pub(super) harmonics: Vec<f64>,
    pub(super) gaps: Vec<f64>,
    pub(super) f0_hz: f64,
    relative_variance: f64,
}

impl MeanPowers {
    /// 10 lg(harmonics / noise) and its standard uncertainty; `None` without noise or without
    /// harmonics.
    pub(super) fn harmonic_to_noise_db(&self) -> Option<(f64, f64)> {
        let harmonics: f64 = self.harmonics.iter().sum();
        let noise: f64 = self.gaps.iter().sum();
        let ratio = harmonics / noise;
        let u =
            10.0 / std::f64::consts::LN_10 * self.relative_variance.sqrt() * (1.0 + 1.0 / ratio);
        (ratio > 0.0 && ratio.is_finite()).then(|| (10.0 * ratio.log10(), u))
    }

    /// Noise within one spacing around harmonic n.
    pub(super) fn noise_around(&self, number: usize) -> f64 {
        0.5 * (self.gaps[number - 1] + self.gaps[number])
    }
}

impl NoiseFrame {
    /// 10 lg(harmonics / noise).
    pub(super) fn harmonic_to_noise_db(&self) -> f64 {
        10.0 * (self.harmonics.iter().sum::<f64>() / self.gaps.iter().sum::<f64>()).log10()
    }
}

impl NoiseCourse {
    /// Reads the frames that lie wholly between two times. None fit into a note of few periods.
    pub(super) fn new(voiced: &Voiced<'_>, (start_s, end_s): (f64, f64)) -> Self {
        let lowest = voiced.f0_hz.iter().map(|(_, hz)| *hz).fold(f64::INFINITY, f64::min);
        let lasts_s = end_s - start_s;
        let periods = PERIODS.min(0.9 * lasts_s * lowest);
        let frame_s = periods.max(FEWEST_PERIODS) / lowest;
        let length = (frame_s * voiced.rate_hz).ceil() as usize;
        let mut frames = Vec::new();
        if periods >= FEWEST_PERIODS && !voiced.ratios.is_empty() {
            let mut reader = Reader::new(length, voiced.rate_hz);
            // Half-overlapping frames, the first at the beginning and the last at the end.
            let free_s = lasts_s - frame_s;
            let steps = (free_s / (0.5 * frame_s)).ceil().max(1.0);
            frames.extend((0..=steps as usize).map(|n| {
                let middle_s = start_s + 0.5 * frame_s + free_s * n as f64 / steps;
                reader.frame(voiced, middle_s)
            }));
        }
        Self { frames, frame_s }
    }

    /// The frame nearest to a time.
    pub(super) fn near(&self, time_s: f64) -> Option<&NoiseFrame> {
        let after = self.frames.partition_point(|frame| frame.time_s < time_s);
        let around = self.frames[after.saturating_sub(1)..self.frames.len().min(after + 1)].iter();
        let away = |frame: &&NoiseFrame| (frame.time_s - time_s).abs();
        around.min_by(|a, b| away(a).total_cmp(&away(b)))
    }

    /// The mean of all frames whose middle lies between two times, or of the nearest.
    pub(super) fn mean(&self, (from_s, to_s): (f64, f64)) -> Option<MeanPowers> {
        let inside = |frame: &&NoiseFrame| (from_s..=to_s).contains(&frame.time_s);
        let mut chosen: Vec<&NoiseFrame> = self.frames.iter().filter(inside).collect();
        if chosen.is_empty() {
            chosen.extend(self.near(f64::midpoint(from_s, to_s)));
        }
        let first = chosen.first()?;
        let count = chosen.len() as f64;
        let mut mean = MeanPowers {
            harmonics: vec![0.0; first.harmonics.len()],
            gaps: vec![0.0; first.gaps.len()],
            f0_hz: chosen.iter().map(|frame| frame.f0_hz).sum::<f64>() / count,
            relative_variance: 0.0,
        };
        let (mut variance, mut noise) = (0.0, 0.0);
        for frame in &chosen {
            let of_frame: f64 = frame.gaps.iter().sum();
            variance += frame.relative_variance * of_frame.powi(2);
            noise += of_frame;
            let sums = mean.harmonics.iter_mut().chain(&mut mean.gaps);
            for (sum, power) in sums.zip(frame.harmonics.iter().chain(&frame.gaps)) {
                *sum += power / count;
            }
        }
        // Half-overlapping frames of this window hold nearly independent noise.
        mean.relative_variance = if noise > 0.0 { variance / noise.powi(2) } else { 0.0 };
        Some(mean)
    }
}

/// Reads frames; keeps its buffers.
struct Reader {
    window: Vec<f64>,
    /// The samples of a frame, and those of the sound that they are read between.
    samples: Vec<f32>,
    around: Vec<f32>,
    transform: RealTransform,
    buffer: Vec<f64>,
    power: Vec<f64>,
    between: Interpolator,
    bin_hz: f64,
    /// What makes the power of a bin a mean square.
    scale: f64,
}

impl Reader {
    fn new(length: usize, rate_hz: f64) -> Self {
        let window = WindowKind::BlackmanHarris.samples(length);
        let size = fast_length(length);
        let squares: f64 = window.iter().map(|w| w * w).sum();
        Self {
            window,
            samples: vec![0.0; length],
            around: Vec::new(),
            transform: RealTransform::new(size),
            buffer: vec![0.0; size],
            power: vec![0.0; size / 2 + 1],
            between: Interpolator::quick(),
            bin_hz: rate_hz / size as f64,
            scale: 2.0 / (size as f64 * squares),
        }
    }

    fn frame(&mut self, voiced: &Voiced<'_>, middle_s: f64) -> NoiseFrame {
        let length = self.window.len();
        let middle = middle_s * voiced.rate_hz;
        let first = (middle - 0.5 * length as f64).round();
        let half_s = 0.5 * length as f64 / voiced.rate_hz;
        let pace = Pace::new(voiced.f0_hz, (middle_s - half_s, middle_s + half_s));
        padded(voiced.sound, first as i64, length, &mut self.samples);
        self.transform_samples(0);
        if let Some(times_s) = pace.times_s(length, voiced.rate_hz) {
            let centre = first + 0.5 * length as f64;
            let places: Vec<f64> =
                times_s.iter().map(|time_s| centre + time_s * voiced.rate_hz).collect();
            self.read_between(voiced.sound, &places);
            // The interpolation loses the highest frequencies: there the sound as it is stands.
            let passed = (2.0 * self.between.passes() * self.power.len() as f64) as usize;
            self.transform_samples(self.power.len() - passed);
        }
        self.split(voiced, middle_s, pace.f0_hz)
    }

    /// Reads a sound between its samples, from each place to the next in [`STRIDE`] steps.
    fn read_between(&mut self, sound: &[f32], places: &[f64]) {
        let [first, .., last] = places else { return };
        let (before, behind) = self.between.needs(0, 1.0);
        let from = first.floor() as i64 - before as i64;
        let to = last.ceil() as i64 + behind as i64;
        padded(sound, from, (to - from) as usize, &mut self.around);
        for (samples, ends) in self.samples.chunks_mut(STRIDE).zip(places.windows(2)) {
            let step = (ends[1] - ends[0]) / STRIDE as f64;
            self.between.along(&self.around, ends[0] - from as f64, step, samples);
        }
    }

    /// Powers of the samples under the window, but for so many of the highest.
    fn transform_samples(&mut self, but: usize) {
        self.buffer.fill(0.0);
        for ((x, sample), w) in self.buffer.iter_mut().zip(&self.samples).zip(&self.window) {
            *x = w * f64::from(*sample);
        }
        let count = self.power.len() - but;
        let values = self.transform.forward(&mut self.buffer);
        for (power, value) in self.power[..count].iter_mut().zip(values) {
            *power = self.scale * value.norm_sqr();
        }
    }

    /// Power of each harmonic and of the noise between.
    fn split(&self, voiced: &Voiced<'_>, time_s: f64, f0_hz: f64) -> NoiseFrame {
        // The frame is longer than its samples where the transform has a faster length.
        let reach = REACH_BINS * self.transform.length() as f64 / self.window.len() as f64;
        let nyquist = self.power.len() as f64 - 1.0;
        let centres: Vec<f64> =
            voiced.ratios.iter().map(|ratio| ratio * f0_hz / self.bin_hz).collect();
        let within = |from: f64, to: f64| {
            let from = (from.ceil().max(0.0) as usize).min(self.power.len());
            let to = (to.floor().max(-1.0) + 1.0) as usize;
            &self.power[from..to.clamp(from, self.power.len())]
        };
        let edges = |k: usize| {
            let low = if k == 0 { 0.0 } else { centres[k - 1] };
            (low, centres.get(k).copied().unwrap_or(nyquist))
        };
        let independent = 2.0 * self.transform.length() as f64 / self.window.len() as f64;
        let (mut densities, mut gaps) = (Vec::new(), Vec::new());
        let (mut variance, mut noise) = (0.0, 0.0);
        for k in 0..=centres.len() {
            let (low, high) = edges(k);
            let end = if k == centres.len() { high } else { high - reach };
            let free = within(low + reach, end);
            // A gap that is too narrow, below half the sample rate, is taken to be as the one
            // before.
            let density = match free.len() {
                0 => densities.last().copied().unwrap_or(0.0),
                count => free.iter().sum::<f64>() / count as f64,
            };
            let power = density * (high - low).max(0.0);
            variance += power.powi(2) * independent / (free.len().max(1) as f64);
            noise += power;
            densities.push(density);
            gaps.push(power);
        }
        let harmonics = (centres.iter().enumerate())
            .map(|(k, centre)| {
                let zone = within(centre - reach, centre + reach);
                let density = 0.5 * (densities[k] + densities[k + 1]);
                zone.iter().sum::<f64>() - density * zone.len() as f64
            })
            .collect();
        let relative_variance = if noise > 0.0 { variance / noise.powi(2) } else { 0.0 };
        NoiseFrame { time_s, f0_hz, harmonics, gaps, relative_variance }
    }
}

/// Samples between which time at the pace of the fundamental runs straight.
const STRIDE: usize = 64;

/// How the fundamental moves through a frame.
struct Pace {
    /// The fundamental in the middle.
    f0_hz: f64,
    /// Time from the middle and the fundamental; empty where it stands still.
    course: Vec<(f64, f64)>,
}

impl Pace {
    /// Where the readings scatter about a straight line no more than they do from one to the next,
    /// that line is their course; else they are taken as they are.
    fn new(track: &[(f64, f64)], (from_s, to_s): (f64, f64)) -> Self {
        let from = track.partition_point(|(t, _)| *t < from_s).saturating_sub(1);
        let to = track.partition_point(|(t, _)| *t <= to_s).saturating_add(1).min(track.len());
        let middle_s = f64::midpoint(from_s, to_s);
        let readings = &track[from.min(to)..to];
        let count = readings.len() as f64;
        let f0_hz = median(readings.iter().map(|(_, hz)| *hz)).unwrap_or(f64::NAN);
        let cents: Vec<(f64, f64)> =
            readings.iter().map(|(t, hz)| (t - middle_s, cents_between(f0_hz, *hz))).collect();
        let line = Line::of_equals(cents.iter().copied()).filter(|_| cents.len() >= 3);
        let Some(line) = line else { return Self { f0_hz, course: Vec::new() } };
        let rest = (line.left / count).sqrt();
        // Fourth differences of independent readings have seventy times their variance, and next to
        // nothing of a vibrato.
        let fourth = |w: &[(f64, f64)]| w[0].1 - 4.0 * (w[1].1 + w[3].1) + 6.0 * w[2].1 + w[4].1;
        let bends: f64 = cents.windows(5).map(|w| fourth(w).powi(2)).sum();
        let scatter = (bends / (70.0 * (count - 4.0).max(1.0))).sqrt();
        let hz = |cents: f64| f0_hz * (cents / 1200.0).exp2();
        let half_s = 0.5 * (to_s - from_s);
        let is_straight = rest < 3.0 * scatter + 0.1;
        let middle_hz =
            if is_straight { hz(line.at(0.0)) } else { at(&cents, 0.0).map_or(f0_hz, hz) };
        let moves = line.slope.abs() > 3.0 * rest / line.square.sqrt() + 0.1;
        let course = match (is_straight, moves) {
            (true, false) => Vec::new(),
            (true, true) => [-half_s, half_s].map(|t| (t, hz(line.at(t)))).to_vec(),
            (false, _) => cents.iter().map(|(t, c)| (*t, hz(*c))).collect(),
        };
        Self { f0_hz: middle_hz, course }
    }

    /// Times from the middle of the frame, one every [`STRIDE`] samples, at which a sound whose
    /// fundamental stood still would be as far as this one; `None` where that is as time runs
    /// anyway.
    fn times_s(&self, length: usize, rate_hz: f64) -> Option<Vec<f64>> {
        /// 0.7° of phase at a tenth of the sample rate.
        const STILL_SAMPLES: f64 = 0.02;
        if self.course.is_empty() {
            return None;
        }
        let step_s = STRIDE as f64 / rate_hz;
        let pace = |time_s: f64| self.f0_hz / at(&self.course, time_s).unwrap_or(self.f0_hz);
        let places = length / STRIDE + 2;
        let middle = 0.5 * length as f64 / STRIDE as f64;
        // From the middle outwards, by the midpoint rule.
        let mut times_s = vec![0.0; places];
        let first = middle.floor();
        let walk =
            |from_s: f64, by_s: f64| from_s + by_s * pace(from_s + 0.5 * by_s * pace(from_s));
        times_s[first as usize] = walk(0.0, (first - middle) * step_s);
        for n in first as usize + 1..places {
            times_s[n] = walk(times_s[n - 1], step_s);
        }
        for n in (0..first as usize).rev() {
            times_s[n] = walk(times_s[n + 1], -step_s);
        }
        let still = |(n, time_s): (usize, &f64)| {
            (time_s - (n as f64 - middle) * step_s).abs() * rate_hz < STILL_SAMPLES
        };
        (!times_s.iter().enumerate().all(still)).then_some(times_s)
    }
}

/// The value of a course of pairs at a time, straight between them and level beyond.
pub(super) fn at(course: &[(f64, f64)], time_s: f64) -> Option<f64> {
    let after = course.partition_point(|(t, _)| *t < time_s);
    match (after.checked_sub(1).and_then(|n| course.get(n)), course.get(after)) {
        (Some((t0, a)), Some((t1, b))) => Some(a + (b - a) * (time_s - t0) / (t1 - t0)),
        (Some((_, value)), None) | (None, Some((_, value))) => Some(*value),
        (None, None) => None,
    }
}
