//! Noise shaped in time and frequency as a sound is.
//!
//! Frames of white noise are given, band by band, the energy that the frame of the sound at that time
//! has there, and overlap again: what is heard has the sound's spectrum over time, not its waveform.
//! Bands are single bins where these are wide, and a sixth of an octave above.

use std::ops::Range;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rustfft::num_complex::Complex64;

use crate::transform::{InverseTransform, RealTransform, fast_length};
use crate::window::WindowKind;

/// Length of a frame, in seconds, and how often frames overlap.
const FRAME_S: f64 = 0.021;
const OVERLAP: usize = 4;
/// Width of a band in octaves.
const BAND_OCTAVES: f64 = 1.0 / 6.0;

/// Frames under the root of a Hann window, so that what was transformed there and back overlaps to
/// what it was.
struct Frames {
    window: Vec<f64>,
    hop: usize,
    transform: RealTransform,
}

impl Frames {
    fn new(rate_hz: f64) -> Self {
        let length = fast_length((FRAME_S * rate_hz) as usize).next_multiple_of(OVERLAP);
        let window = WindowKind::Hann.samples(length).iter().map(|w| w.max(0.0).sqrt()).collect();
        Self { window, hop: length / OVERLAP, transform: RealTransform::new(length) }
    }

    /// The spectrum of the frame that begins at a sample, which may lie outside.
    fn spectrum(&mut self, at: i64, value: impl Fn(i64) -> f64) -> &[Complex64] {
        let mut block: Vec<f64> =
            self.window.iter().enumerate().map(|(n, w)| w * value(at + n as i64)).collect();
        self.transform.forward(&mut block)
    }
}

impl Frames {
    /// Adds what was transformed back to what begins at a sample.
    fn add(&self, at: i64, values: &[f64], all: &mut [f64]) {
        // Squares of the window add up to half of the frames that overlap.
        let scale = 2.0 / (OVERLAP * self.window.len()) as f64;
        for (n, (x, w)) in values.iter().zip(&self.window).enumerate() {
            if let Some(sum) = usize::try_from(at + n as i64).ok().and_then(|n| all.get_mut(n)) {
                *sum += scale * x * w;
            }
        }
    }
}

/// Bins of each band, from the lowest bin to half the sample rate.
fn bands(bins: usize) -> Vec<Range<usize>> {
    let mut all = Vec::new();
    let mut from = 0;
    while from < bins {
        let to = ((from as f64 * BAND_OCTAVES.exp2()).round() as usize).max(from + 1).min(bins);
        all.push(from..to);
        from = to;
    }
    all
}

/// Noise as long as asked for, shaped as a sound is at the time of it that is heard then, times a gain
/// for a frequency in Hz and a time of the source.
pub(super) fn shaped_as(
    sound: &[f32],
    rate_hz: f64,
    samples: usize,
    source_s: impl Fn(f64) -> f64,
    gain: impl Fn(f64, f64) -> f64,
) -> Vec<f64> {
    /// Where the noise begins.
    const SEED: u64 = 20;
    let mut frames = Frames::new(rate_hz);
    let (length, hop) = (frames.window.len(), frames.hop);
    let bands = bands(length / 2 + 1);
    let mut random = ChaCha8Rng::seed_from_u64(SEED);
    let white: Vec<f32> =
        (0..samples + 2 * length).map(|_| random.random_range(-1.0f32..1.0)).collect();
    let mut back = InverseTransform::new(length);
    let mut all = vec![0.0; samples];
    let of_sound =
        |n: i64| usize::try_from(n).ok().and_then(|n| sound.get(n)).map_or(0.0, |x| f64::from(*x));
    let mut frame_at = -(length as i64) + hop as i64;
    while frame_at < samples as i64 {
        let middle_s = (frame_at + length as i64 / 2) as f64 / rate_hz;
        let at_s = source_s(middle_s);
        let source_at = (at_s * rate_hz).round() as i64 - length as i64 / 2;
        let wanted: Vec<f64> = {
            let spectrum = frames.spectrum(source_at, of_sound);
            bands.iter().map(|bins| energy(&spectrum[bins.clone()])).collect()
        };
        let mut spectrum =
            frames.spectrum(frame_at, |n| f64::from(white[(n + length as i64) as usize])).to_vec();
        for (bins, wanted) in bands.iter().zip(wanted) {
            let middle_hz = 0.5 * (bins.start + bins.end - 1) as f64 * rate_hz / length as f64;
            let has = energy(&spectrum[bins.clone()]).max(f64::MIN_POSITIVE);
            let factor = gain(middle_hz, at_s) * (wanted / has).sqrt();
            spectrum[bins.clone()].iter_mut().for_each(|x| *x *= factor);
        }
        frames.add(frame_at, back.backward(&mut spectrum), &mut all);
        frame_at += hop as i64;
    }
    all
}

/// A sound times a gain for a frequency in Hz and a time in seconds.
pub(super) fn filtered(sound: &[f32], rate_hz: f64, gain: impl Fn(f64, f64) -> f64) -> Vec<f64> {
    let mut frames = Frames::new(rate_hz);
    let (length, hop) = (frames.window.len(), frames.hop);
    let value =
        |n: i64| usize::try_from(n).ok().and_then(|n| sound.get(n)).map_or(0.0, |x| f64::from(*x));
    let mut back = InverseTransform::new(length);
    let mut all = vec![0.0; sound.len()];
    let mut at = -(length as i64) + hop as i64;
    while at < sound.len() as i64 {
        let middle_s = (at + length as i64 / 2) as f64 / rate_hz;
        let mut spectrum = frames.spectrum(at, value).to_vec();
        for (k, x) in spectrum.iter_mut().enumerate() {
            *x *= gain(k as f64 * rate_hz / length as f64, middle_s);
        }
        frames.add(at, back.backward(&mut spectrum), &mut all);
        at += hop as i64;
    }
    all
}

fn energy(bins: &[Complex64]) -> f64 {
    bins.iter().map(Complex64::norm_sqr).sum()
}
