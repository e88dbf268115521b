//! Where the power of a sound lies: moments, roll-off, and how flat, peaked and steady its spectrum
//! is.

use std::collections::VecDeque;

use rustfft::num_complex::Complex;

use super::descriptors::{Descriptor, Descriptors};
use crate::fit::Line;
use crate::lanes::{dot, greatest, sum};
use crate::transform::{RealTransform, fast_length};
use crate::units::db_from_power;
use crate::window::WindowKind;

/// Power at frequencies: of partials as lines, of noise as narrow bands.
#[derive(Debug, Default)]
pub(super) struct PowerSpectrum {
    /// Lower edge, upper edge and power of each part; a line has no width.
    parts: Vec<(f64, f64, f64)>,
}

impl PowerSpectrum {
    /// Adds a line.
    pub(super) fn line(&mut self, hz: f64, power: f64) {
        self.band(hz, hz, power);
    }

    /// Adds power spread evenly over a band.
    pub(super) fn band(&mut self, low_hz: f64, high_hz: f64, power: f64) {
        if power > 0.0 {
            self.parts.push((low_hz, high_hz, power));
        }
    }

    pub(super) fn clear(&mut self) {
        self.parts.clear();
    }

    /// The parts within a range, cut to it, by their middles.
    fn within(&mut self, (low_hz, high_hz): (f64, f64)) {
        for (low, high, power) in &mut self.parts {
            let cut = (low.max(low_hz), high.min(high_hz));
            let share = match *high - *low {
                width if width > 0.0 => ((cut.1 - cut.0) / width).max(0.0),
                _ => f64::from(u8::from(cut.0 <= cut.1)),
            };
            (*low, *high, *power) = (cut.0, cut.1.max(cut.0), share * *power);
        }
        self.parts.retain(|(_, _, power)| *power > 0.0);
        self.parts.sort_by(|a, b| (a.0 + a.1).total_cmp(&(b.0 + b.1)));
    }

    /// Centroid, moments about it, and roll-off of what lies in a range.
    pub(super) fn describe(&mut self, range_hz: (f64, f64), found: &mut Descriptors) {
        /// A spectrum narrower than this share of its centroid has a width, but no shape worth a
        /// figure.
        const NARROWEST: f64 = 1e-3;
        let Some((total, centroid, [second, third, fourth])) = self.moments(range_hz) else {
            return;
        };
        let spread = second.sqrt();
        found.set(Descriptor::Centroid, centroid);
        found.set(Descriptor::Spread, spread);
        if spread > NARROWEST * centroid {
            found.set(Descriptor::Skewness, third / spread.powi(3));
            found.set(Descriptor::Kurtosis, fourth / spread.powi(4));
        }
        found.set(Descriptor::Rolloff85, self.rolloff(0.85 * total));
        found.set(Descriptor::Rolloff95, self.rolloff(0.95 * total));
    }

    /// Centroid and spread of the harmonics, where nothing else has been added.
    pub(super) fn describe_harmonics(&mut self, range_hz: (f64, f64), found: &mut Descriptors) {
        if let Some((_, centroid, [second, ..])) = self.moments(range_hz) {
            found.set(Descriptor::HarmonicCentroid, centroid);
            found.set(Descriptor::HarmonicSpread, second.sqrt());
        }
    }

    /// Power in a range, its centroid, and the second to fourth moment about it.
    fn moments(&mut self, range_hz: (f64, f64)) -> Option<(f64, f64, [f64; 3])> {
        self.within(range_hz);
        let total: f64 = self.parts.iter().map(|(_, _, power)| power).sum();
        if total <= 0.0 {
            return None;
        }
        let middle = |(low, high, _): &(f64, f64, f64)| f64::midpoint(*low, *high);
        let centroid = self.parts.iter().map(|part| part.2 * middle(part)).sum::<f64>() / total;
        let [mut second, mut third, mut fourth] = [0.0; 3];
        for part in &self.parts {
            let (away, share) = (middle(part) - centroid, part.2 / total);
            // A band about its middle has the moments 0, w²/12, 0 and w⁴/80.
            let square = (part.1 - part.0).powi(2);
            second += share * (away.powi(2) + square / 12.0);
            third += share * (away.powi(3) + away * square / 4.0);
            fourth += share * (away.powi(4) + away.powi(2) * square / 2.0 + square.powi(2) / 80.0);
        }
        Some((total, centroid, [second, third, fourth]))
    }

    /// The frequency below which a power lies.
    fn rolloff(&self, wanted: f64) -> f64 {
        let mut below = 0.0;
        for (low, high, power) in &self.parts {
            if below + power >= wanted {
                return low + (high - low) * (wanted - below) / power;
            }
            below += power;
        }
        self.parts.last().map_or(f64::NAN, |part| part.1)
    }
}

/// Slope of the straight line through levels over octaves, in dB per octave; `None` for fewer than
/// three.
pub(super) fn slope(levels: impl Iterator<Item = (f64, f64)>) -> Option<f64> {
    let points: Vec<(f64, f64)> = levels
        .filter(|(hz, power)| *hz > 0.0 && *power > 0.0)
        .map(|(hz, power)| (hz.log2(), db_from_power(power)))
        .collect();
    if points.len() < 3 {
        return None;
    }
    Line::of_equals(points.into_iter()).map(|line| line.slope)
}

/// Reads spectra of short frames; keeps its buffers.
pub(super) struct FrameSpectrum {
    window: Vec<f64>,
    transform: RealTransform,
    buffer: Vec<f64>,
    power: Vec<f64>,
    /// The magnitudes of frames that are still to be compared with, the newest last, and the roots
    /// of their powers.
    before: VecDeque<(Vec<f64>, f64)>,
    /// Frames between two that do not overlap.
    apart: usize,
    bins: std::ops::Range<usize>,
    bin_hz: f64,
    scale: f64,
}

impl FrameSpectrum {
    /// Frames of `length` samples, `hop` apart, of which the bins within a range count.
    pub(super) fn new(length: usize, hop: usize, rate_hz: f64, range_hz: (f64, f64)) -> Self {
        let window = WindowKind::Hann.samples(length);
        // One and a half of the frame: a parabola through three bins finds the maximum to within
        // 0.05 dB.
        let size = fast_length(length + length / 2);
        let bin_hz = rate_hz / size as f64;
        let first = (range_hz.0 / bin_hz).ceil().max(1.0) as usize;
        let last = ((range_hz.1 / bin_hz).floor() as usize).min(size / 2 - 1);
        let squares: f64 = window.iter().map(|w| w * w).sum();
        Self {
            window,
            transform: RealTransform::new(size),
            buffer: vec![0.0; size],
            power: Vec::new(),
            before: VecDeque::new(),
            apart: length.div_ceil(hop),
            bins: first..last.max(first) + 1,
            bin_hz,
            scale: 2.0 / (size as f64 * squares),
        }
    }

    /// Reads the frame around a sample.
    pub(super) fn read(&mut self, sound: &[f32], middle: f64) {
        let first = (middle - 0.5 * self.window.len() as f64).round() as i64;
        let silent = usize::try_from(-first).unwrap_or(0).min(self.window.len());
        let from = usize::try_from(first).unwrap_or(0).min(sound.len());
        self.buffer.fill(0.0);
        let under_window = self.buffer.iter_mut().zip(&self.window).skip(silent);
        for ((x, w), sample) in under_window.zip(&sound[from..]) {
            *x = w * f64::from(*sample);
        }
        let values = self.transform.forward(&mut self.buffer);
        self.power.clear();
        self.power.extend(values[self.bins.clone()].iter().map(Complex::norm_sqr));
    }

    /// Its bins as parts of a power spectrum.
    pub(super) fn parts(&self, spectrum: &mut PowerSpectrum) {
        for (k, power) in self.bins.clone().zip(&self.power) {
            let hz = k as f64 * self.bin_hz;
            spectrum.band(hz - 0.5 * self.bin_hz, hz + 0.5 * self.bin_hz, self.scale * power);
        }
    }

    /// Density in third-octave bands: middle, and the power of a bin, such that its logarithm is
    /// right in the mean of noise.
    pub(super) fn third_octaves(&self) -> Vec<(f64, f64)> {
        /// Fewer have no shape.
        const FEWEST_BINS: usize = 9;
        // Bins of noise that are independent under this window.
        let independent = self.window.len() as f64 / (1.5 * self.transform.length() as f64);
        let step = (1f64 / 6.0).exp2();
        let mut bands = Vec::new();
        let mut centre_hz = self.bins.start as f64 * self.bin_hz * step;
        while centre_hz * step <= self.bins.end as f64 * self.bin_hz {
            let place = |hz: f64| (hz / self.bin_hz).round() as usize - self.bins.start;
            let (from, to) = (place(centre_hz / step), place(centre_hz * step));
            let band = &self.power[from.min(self.power.len())..to.min(self.power.len())];
            if band.len() >= FEWEST_BINS {
                let count = independent * band.len() as f64;
                // The logarithm of a mean of so many lies low by ln K − ψ(K).
                let low_by = 0.5 / count + 1.0 / (12.0 * count.powi(2));
                let mean = band.iter().sum::<f64>() / band.len() as f64;
                bands.push((centre_hz, mean * low_by.exp()));
            }
            centre_hz *= step * step;
        }
        bands
    }

    /// Flatness, crest and flux.
    pub(super) fn describe(&mut self, found: &mut Descriptors) {
        /// The mean logarithm of an exponentially distributed power lies so far below that of its
        /// mean: Euler's constant.
        const OF_NOISE: f64 = 0.577_215_664_901_532_9;
        let count = self.power.len() as f64;
        let mean = sum(&self.power) / count;
        if mean <= 0.0 {
            self.before.clear();
            return;
        }
        let least = 1e-20 * mean;
        // A logarithm of products of eight is one of eight; shares of the mean keep within range.
        let share = |power: &f64| power.max(least) * (1.0 / mean);
        let logs: f64 =
            self.power.chunks(8).map(|eight| eight.iter().map(share).product::<f64>().ln()).sum();
        found.set(Descriptor::Flatness, (logs / count + OF_NOISE).exp().min(1.0));
        found.set(Descriptor::Crest, 10.0 * (self.greatest() / mean).log10());
        let magnitudes: Vec<f64> = self.power.iter().map(|power| power.sqrt()).collect();
        self.before.push_back((magnitudes, (mean * count).sqrt()));
        if self.before.len() > self.apart
            && let (Some((now, root)), Some((then, then_root))) =
                (self.before.get(self.apart), self.before.front())
        {
            found.set(Descriptor::Flux, 1.0 - dot(now, then) / (root * then_root));
            self.before.pop_front();
        }
    }

    /// The greatest power, between bins too: a parabola through the logarithms of three.
    fn greatest(&self) -> f64 {
        let of = |n: usize| self.power[n].max(1e-300).ln();
        let greatest = greatest(&self.power);
        let at = self.power.iter().position(|power| *power == greatest);
        match at {
            Some(n) if n > 0 && n + 1 < self.power.len() => {
                let (a, b, c) = (of(n - 1), of(n), of(n + 1));
                let bend = a - 2.0 * b + c;
                let above = if bend < 0.0 { -(a - c).powi(2) / (8.0 * bend) } else { 0.0 };
                (b + above).exp()
            }
            _ => greatest,
        }
    }
}
