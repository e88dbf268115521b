//! Damped sinusoids read from one frame.

use std::f64::consts::TAU;

use rustfft::num_complex::Complex;

use crate::transform::RealTransform;

type C = Complex<f64>;

/// Terms of the window, whose first derivative has no step: side lobes lie below −93 dB and fall by
/// 18 dB an octave (A. H. Nuttall, IEEE Trans. Acoust. Speech Signal Process. 29, 1981).
const TERMS: [f64; 4] = [0.355_768, 0.487_396, 0.144_232, 0.012_604];
/// Bins to either side that the window adds to one.
const REACH: i64 = TERMS.len() as i64 - 1;
/// Places within a bin for which it is known what leaks into it.
pub(super) const LEAKAGE_STEPS: f64 = 32.0;
/// Growth or decay over half a frame that is still believed, in nats.
const MOST_DECAY: f64 = 3.0;

/// A sinusoid as a frame shows it: A·exp((−α + jω)(t − t₀)) with t₀ in the middle of the frame.
#[derive(Debug, Clone, Copy)]
pub(super) struct Reading {
    pub(super) frequency_hz: f64,
    /// α in 1/s.
    pub(super) decay_per_s: f64,
    /// A at the middle of the frame: its amplitude and phase, re full scale.
    pub(super) amplitude: C,
}

impl Reading {
    /// Its amplitude and phase a time after the middle of the frame.
    pub(super) fn after(&self, seconds: f64) -> C {
        let turned = TAU * (self.frequency_hz * seconds).fract();
        self.amplitude * C::new(-self.decay_per_s * seconds, turned).exp()
    }
}

/// Reads frames of a fixed length. Keeps its buffers.
#[derive(Clone)]
pub(crate) struct FrameReader {
    transform: RealTransform,
    frame: Vec<f64>,
    rate_hz: f64,
}

impl FrameReader {
    /// For frames of so many samples, an even number.
    pub(crate) fn new(length: usize, rate_hz: f64) -> Self {
        Self { transform: RealTransform::new(length), frame: vec![0.0; length], rate_hz }
    }

    pub(crate) fn length(&self) -> usize {
        self.frame.len()
    }

    pub(crate) fn bin_hz(&self) -> f64 {
        self.rate_hz / self.length() as f64
    }

    /// Variance of either part of the amplitude of a sinusoid for noise of power 1 in a bin.
    pub(super) fn amplitude_variance(&self) -> f64 {
        2.0 / (TERMS[0] * self.length() as f64).powi(2)
    }

    /// Variance of the frequency of a sinusoid of amplitude 1 in Hz², for noise of power 1 in a bin:
    /// that of the imaginary part of X'/X.
    pub(super) fn frequency_variance(&self) -> f64 {
        let squares = TERMS[1..].iter().map(|term| 0.5 * term * term);
        let slopes = (1..).zip(squares.clone()).map(|(m, square)| square * f64::from(m * m));
        let ratio = slopes.sum::<f64>() / (TERMS[0] * TERMS[0] + squares.sum::<f64>());
        self.amplitude_variance() * ratio * self.bin_hz().powi(2)
    }

    /// Power that a steady sinusoid of amplitude 1 brings into bins further and further from its
    /// place, [`LEAKAGE_STEPS`] to a bin, as far as the main lobe of the window reaches.
    pub(super) fn leakage(&self) -> Vec<f64> {
        let length = self.length() as f64;
        let power = |step: usize| {
            let off = (step as f64 + 0.5) / LEAKAGE_STEPS;
            0.25 * window_transform(C::new(0.0, TAU * off / length), length).norm_sqr()
        };
        (0..(TERMS.len() as f64 * LEAKAGE_STEPS) as usize).map(power).collect()
    }

    /// Samples between frames whose noise is as good as independent.
    pub(crate) fn independent_samples(&self) -> f64 {
        // The length over the width of the window's noise band in bins, 2.02.
        self.length() as f64 / 2.02
    }

    /// How many times as much noise means of so many frames, each a quarter after the one before,
    /// have about a frequency as if each had noise of its own.
    pub(crate) fn correlated(block: usize) -> f64 {
        const POINTS: usize = 512;
        let window = |n: usize| {
            let turn = TAU * (n as f64 + 0.5) / POINTS as f64;
            let term = |(m, term): (usize, &f64)| term * (m as f64 * turn).cos();
            let signed = [1.0, -1.0, 1.0, -1.0];
            TERMS.iter().enumerate().map(term).zip(signed).map(|(x, sign)| x * sign).sum::<f64>()
        };
        let shared = |quarters: usize| -> f64 {
            let shift = quarters * POINTS / 4;
            (0..POINTS - shift).map(|n| window(n) * window(n + shift)).sum()
        };
        let shares: Vec<f64> = (1..4).map(|quarters| shared(quarters) / shared(0)).collect();
        let within =
            |(n, share): (usize, &f64)| share * (1.0 - (n + 1) as f64 / block as f64).max(0.0);
        let of_means: f64 = shares.iter().enumerate().map(within).sum();
        (1.0 + 2.0 * shares.iter().sum::<f64>()) / (1.0 + 2.0 * of_means)
    }

    /// Takes the frame that begins at a sample; what lies outside the sound is silent.
    pub(crate) fn take(&mut self, sound: &[f32], start: i64) {
        let length = self.frame.len();
        let silent = usize::try_from(-start).unwrap_or(0).min(length);
        let from = usize::try_from(start).unwrap_or(0).min(sound.len());
        let held = &sound[from..sound.len().min(from + length - silent)];
        self.frame[..silent].fill(0.0);
        self.frame[silent + held.len()..].fill(0.0);
        for (x, sample) in self.frame[silent..].iter_mut().zip(held) {
            *x = f64::from(*sample);
        }
        self.transform.forward(&mut self.frame);
    }

    fn spectrum(&self) -> &[C] {
        self.transform.output()
    }

    fn bin(&self, k: i64) -> C {
        let spectrum = self.spectrum();
        let last = spectrum.len() as i64 - 1;
        match k {
            k if k < 0 => spectrum[(-k).min(last) as usize].conj(),
            k if k > last => spectrum[(2 * last - k).max(0) as usize].conj(),
            k => spectrum[k as usize],
        }
    }

    /// A bin under the window: the window, being a sum of cosines, adds its neighbours.
    pub(super) fn windowed(&self, k: i64) -> C {
        let first = usize::try_from(k - REACH).ok();
        match first.and_then(|first| self.spectrum().get(first..)?.first_chunk()) {
            Some(around) => windowed(around),
            None => windowed(&std::array::from_fn(|n| self.bin(k - REACH + n as i64))),
        }
    }

    /// A bin under the derivative of the window, per sample.
    fn sloped(&self, k: i64) -> C {
        let mut sum = C::default();
        let mut sign = 1.0;
        for (m, term) in (1..).zip(&TERMS[1..]) {
            sign = -sign;
            let step = TAU * m as f64 / self.length() as f64;
            let turned = (self.bin(k - m) - self.bin(k + m)) * C::new(0.0, -0.5);
            sum -= sign * term * step * turned;
        }
        sum
    }

    /// Power of a bin under the window.
    pub(super) fn power(&self, k: i64) -> f64 {
        self.windowed(k).norm_sqr()
    }

    /// What a bin holds of the frame that begins so many samples into a sound, with the turn of the
    /// bin itself taken out from the beginning of the sound on: of A·exp((−α + jω)t), A at the
    /// middle of the frame times [`FrameReader::gain`].
    pub(crate) fn envelope(&self, k: i64, start: f64) -> C {
        let middle = start + self.length() as f64 / 2.0;
        let sign = if k % 2 == 0 { 2.0 } else { -2.0 };
        let quarters = 4.0 * (k as f64 * middle / self.length() as f64).fract();
        let value = self.windowed(k) * (sign / (TERMS[0] * self.length() as f64));
        // Frames a quarter apart turn by quarters.
        match quarters {
            0.0 => value,
            1.0 => C::new(value.im, -value.re),
            2.0 => -value,
            3.0 => C::new(-value.im, value.re),
            _ => value * C::cis(-0.25 * TAU * quarters),
        }
    }

    /// What is left in a bin of a damped sinusoid that lies so far from it: complex, 1 for a steady
    /// one in its middle.
    pub(crate) fn gain(&self, decay_per_s: f64, off_hz: f64) -> C {
        let rate = C::new(-decay_per_s, TAU * off_hz) / self.rate_hz;
        window_transform(rate, self.length() as f64) / (TERMS[0] * self.length() as f64)
    }

    /// Amplitude and phase, at the middle of the frame, of a steady sinusoid of a frequency.
    pub(crate) fn amplitude_at(&self, frequency_hz: f64) -> C {
        let place = frequency_hz / self.bin_hz();
        let k = place.round();
        let sign = if k as i64 % 2 == 0 { 2.0 } else { -2.0 };
        let off = C::new(0.0, TAU * (place - k) / self.length() as f64);
        sign * self.windowed(k as i64) / window_transform(off, self.length() as f64)
    }

    /// The squared amplitude of the strongest sinusoid of all.
    pub(super) fn greatest_power(&self) -> f64 {
        let bins = 1..self.spectrum().len() as i64 - 1;
        let top = bins.max_by(|a, b| self.power(*a).total_cmp(&self.power(*b)));
        top.and_then(|top| self.at(top)).map_or(0.0, |reading| reading.amplitude.norm_sqr())
    }

    /// The strongest sinusoid within so many bins of a frequency; `None` where no bin there stands
    /// above its neighbours.
    pub(super) fn near(&self, frequency_hz: f64, reach_bins: f64) -> Option<Reading> {
        let place = frequency_hz / self.bin_hz();
        let first = ((place - reach_bins + 0.5) as i64).max(1);
        let last = ((place + reach_bins + 0.5) as i64).min(self.spectrum().len() as i64 - 2);
        let mut top: Option<(i64, f64)> = None;
        let (mut before, mut here) = (self.power(first - 1), self.power(first));
        for k in first..=last {
            let after = self.power(k + 1);
            if here > before && here >= after && top.is_none_or(|(_, power)| here >= power) {
                top = Some((k, here));
            }
            (before, here) = (here, after);
        }
        self.at(top?.0)
    }

    /// The sinusoid that makes a bin what it is. With X under the window w and X' under its
    /// derivative, −X'/X = −α + j(ω − Ω) in each sample, Ω being the frequency of the bin: exact
    /// for a single damped sinusoid, since w is nothing at the ends of the frame. The amplitude
    /// follows from the transform of w·exp(−αt) at ω − Ω.
    pub(super) fn at(&self, k: i64) -> Option<Reading> {
        let x = self.windowed(k);
        if x.norm_sqr() == 0.0 {
            return None;
        }
        let half = self.length() as f64 / 2.0;
        let rate = -self.sloped(k) / x;
        let rate = C::new(
            rate.re.clamp(-MOST_DECAY / half, MOST_DECAY / half),
            rate.im.clamp(-1.5 * TAU / (2.0 * half), 1.5 * TAU / (2.0 * half)),
        );
        // The frame begins half its length before its middle.
        let sign = if k % 2 == 0 { 2.0 } else { -2.0 };
        Some(Reading {
            frequency_hz: (k as f64 + rate.im * half / (0.5 * TAU)) * self.bin_hz(),
            decay_per_s: -rate.re * self.rate_hz,
            amplitude: sign * x / window_transform(rate, 2.0 * half),
        })
    }
}

/// The middle one of bins under the window.
fn windowed(x: &[C; 2 * REACH as usize + 1]) -> C {
    x[3] * TERMS[0] - (x[2] + x[4]) * (0.5 * TERMS[1]) + (x[1] + x[5]) * (0.5 * TERMS[2])
        - (x[0] + x[6]) * (0.5 * TERMS[3])
}

/// ∫ w(u)·exp(p·u) du over a frame of a length, u from its middle, in closed form.
fn window_transform(p: C, length: f64) -> C {
    let whole = p * length;
    let square = whole * whole;
    if square.norm_sqr() < 1e-16 {
        return C::new(TERMS[0] * length, 0.0);
    }
    // Σ ±a/(p² + β²) over one denominator: one division instead of four.
    let (mut above, mut below) = (C::default(), C::new(1.0, 0.0));
    let mut sign = 1.0;
    for (m, term) in TERMS.iter().enumerate() {
        let of_term = square + (TAU * m as f64).powi(2);
        above = above * of_term + below * (sign * term);
        below *= of_term;
        sign = -sign;
    }
    (whole / 2.0).sinh() * whole * (above / below) * (2.0 * length)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_damped_sinusoid_is_read_exactly() {
        let rate_hz = 48_000.0;
        let mut reader = FrameReader::new(1200, rate_hz);
        for (hz, decay, phase) in [(991.3, 0.0, 0.3), (1207.7, 60.0, -2.0), (5000.0, 9.0, 1.0)] {
            let sound: Vec<f32> = (0..3000)
                .map(|n| {
                    let t = f64::from(n) / rate_hz;
                    (0.4 * (-decay * t).exp() * (TAU * hz * t + phase).cos()) as f32
                })
                .collect();
            reader.take(&sound, 700);
            let found = reader.near(hz + 20.0, 1.5).expect("a tone");
            assert!((found.frequency_hz - hz).abs() < 1e-3, "{found:?}");
            assert!((found.decay_per_s - decay).abs() < 0.01, "{found:?}");
            let at_start = found.after(-1300.0 / rate_hz);
            let expected = C::from_polar(0.4, phase);
            assert!((at_start - expected).norm() < 1e-4, "{at_start} {expected}");
        }
    }

    #[test]
    fn the_envelope_of_a_steady_sinusoid_turns_by_its_offset_wherever_a_frame_begins() {
        let (rate_hz, length, k, hz) = (48_000.0, 1200, 25, 1003.0);
        let mut reader = FrameReader::new(length, rate_hz);
        let sound: Vec<f32> = (0..6000)
            .map(|n| (0.4 * (TAU * hz * f64::from(n) / rate_hz + 0.3).cos()) as f32)
            .collect();
        let off_hz = hz - k as f64 * reader.bin_hz();
        // By quarters of a frame, where each turn is whole quarters, and beside them.
        for start in [0, 300, 600, 900, 1200, 1500, 1, 299, 700, 2222] {
            reader.take(&sound, start);
            let middle_s = (start as f64 + 600.0) / rate_hz;
            let expected =
                C::from_polar(0.4, 0.3 + TAU * off_hz * middle_s) * reader.gain(0.0, off_hz);
            let found = reader.envelope(k, start as f64);
            assert!((found - expected).norm() < 1e-6, "{start}: {found} {expected}");
        }
    }
}
