//! Noise shaped in time and frequency as a sound is.
//!
//! Frames of white noise are given, band by band, the energy that the frame of the sound at that time
//! has there, and overlap again: what is heard has the sound's spectrum over time, not its waveform.
//! Bands are single bins where these are wide, and a sixth of an octave above. Above 350 Hz frames are
//! short, so that attacks stay; below they are long, as narrow bands of noise are known only over so
//! long, and where that makes noise before an attack it is lowered.

use std::ops::Range;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rustfft::num_complex::Complex64;

use crate::transform::{InverseTransform, RealTransform, fast_length};
use crate::window::WindowKind;

/// Length of a frame above and below where they share the sound, in seconds, and how often frames
/// overlap.
const SHORT_S: f64 = 0.021;
const LONG_S: f64 = 0.085;
const SHARED_HZ: f64 = 350.0;
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
    fn new(frame_s: f64, rate_hz: f64) -> Self {
        let length = fast_length((frame_s * rate_hz) as usize).next_multiple_of(OVERLAP);
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

/// What is made of a sound: how long it is, and which time of the sound is heard at a time.
pub(super) struct Made<T> {
    pub(super) samples: usize,
    pub(super) source_s: T,
}

/// Noise shaped as a sound is at the time of it that is heard then, times a gain for a frequency in Hz
/// and a time of the source.
pub(super) fn shaped_as<T: Fn(f64) -> f64>(
    sound: &[f32],
    rate_hz: f64,
    made: &Made<T>,
    gain: impl Fn(f64, f64) -> f64,
) -> Vec<f64> {
    // Both shares together have all the power, over an octave.
    let turn = |hz: f64| (hz / SHARED_HZ).max(1e-3).log2().clamp(-0.5, 0.5) + 0.5;
    let low = |hz: f64| (0.5 * std::f64::consts::PI * turn(hz)).cos();
    let high = |hz: f64| (0.5 * std::f64::consts::PI * turn(hz)).sin();
    let mut all = shaped(SHORT_S, sound, rate_hz, made, |hz, t| high(hz) * gain(hz, t));
    let mut below = shaped(LONG_S, sound, rate_hz, made, |hz, t| low(hz) * gain(hz, t));
    let source = filtered(sound, rate_hz, |hz, t| low(hz) * gain(hz, t));
    lower(&mut below, &source, rate_hz, made);
    all.iter_mut().zip(below).for_each(|(x, below)| *x += below);
    all
}

/// Lowers noise where its power over a short frame is more than twice that of what it was shaped as.
fn lower<T: Fn(f64) -> f64>(noise: &mut [f64], source: &[f64], rate_hz: f64, made: &Made<T>) {
    const MOST: f64 = 2.0;
    let step = (0.25 * SHORT_S * rate_hz) as usize;
    let half = 2 * step;
    let power = |of: &[f64], middle: usize| {
        let within = middle.saturating_sub(half).min(of.len())..(middle + half).min(of.len());
        of[within].iter().map(|x| x * x).sum::<f64>()
    };
    let gain = |middle: usize| {
        let at = ((made.source_s)(middle as f64 / rate_hz) * rate_hz).max(0.0) as usize;
        let (is, was) = (power(noise, middle), power(source, at));
        (MOST * was / is.max(f64::MIN_POSITIVE)).min(1.0).sqrt()
    };
    let gains: Vec<f64> = (0..=noise.len() / step + 1).map(|n| gain(n * step)).collect();
    for (n, x) in noise.iter_mut().enumerate() {
        let (at, share) = (n / step, (n % step) as f64 / step as f64);
        *x *= gains[at] + share * (gains[at + 1] - gains[at]);
    }
}

/// Noise shaped with frames of one length.
fn shaped<T: Fn(f64) -> f64>(
    frame_s: f64,
    sound: &[f32],
    rate_hz: f64,
    made: &Made<T>,
    gain: impl Fn(f64, f64) -> f64,
) -> Vec<f64> {
    /// Where the noise begins.
    const SEED: u64 = 20;
    let samples = made.samples;
    let mut frames = Frames::new(frame_s, rate_hz);
    let (length, hop) = (frames.window.len(), frames.hop);
    let bands = bands(length / 2 + 1);
    let mut random = ChaCha8Rng::seed_from_u64(SEED + length as u64);
    let white: Vec<f32> =
        (0..samples + 2 * length).map(|_| random.random_range(-1.0f32..1.0)).collect();
    let mut back = InverseTransform::new(length);
    let mut all = vec![0.0; samples];
    let of_sound = at(sound);
    let mut frame_at = -(length as i64) + hop as i64;
    while frame_at < samples as i64 {
        let middle_s = (frame_at + length as i64 / 2) as f64 / rate_hz;
        let at_s = (made.source_s)(middle_s);
        let source_at = (at_s * rate_hz).round() as i64 - length as i64 / 2;
        let wanted: Vec<f64> = {
            let spectrum = frames.spectrum(source_at, &of_sound);
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

/// A sample of a sound, silence outside.
fn at(sound: &[f32]) -> impl Fn(i64) -> f64 + '_ {
    |n| usize::try_from(n).ok().and_then(|n| sound.get(n)).map_or(0.0, |x| f64::from(*x))
}

/// A sound times a gain for a frequency in Hz and a time in seconds.
pub(super) fn filtered(sound: &[f32], rate_hz: f64, gain: impl Fn(f64, f64) -> f64) -> Vec<f64> {
    let mut frames = Frames::new(SHORT_S, rate_hz);
    let (length, hop) = (frames.window.len(), frames.hop);
    let value = at(sound);
    let mut back = InverseTransform::new(length);
    let mut all = vec![0.0; sound.len()];
    let mut from = -(length as i64) + hop as i64;
    while from < sound.len() as i64 {
        let middle_s = (from + length as i64 / 2) as f64 / rate_hz;
        let mut spectrum = frames.spectrum(from, &value).to_vec();
        for (k, x) in spectrum.iter_mut().enumerate() {
            *x *= gain(k as f64 * rate_hz / length as f64, middle_s);
        }
        frames.add(from, back.backward(&mut spectrum), &mut all);
        from += hop as i64;
    }
    all
}

fn energy(bins: &[Complex64]) -> f64 {
    bins.iter().map(Complex64::norm_sqr).sum()
}
