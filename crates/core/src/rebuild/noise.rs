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
    block: Vec<f64>,
    spectrum: Vec<Complex64>,
}

impl Frames {
    fn new(frame_s: f64, rate_hz: f64) -> Self {
        let length = fast_length((frame_s * rate_hz) as usize).next_multiple_of(OVERLAP);
        let window = WindowKind::Hann.samples(length).iter().map(|w| w.max(0.0).sqrt()).collect();
        let transform = RealTransform::new(length);
        let spectrum = vec![Complex64::default(); length / 2 + 1];
        Self { window, hop: length / OVERLAP, transform, block: vec![0.0; length], spectrum }
    }

    /// The spectrum of the frame that begins at a sample, which may lie outside.
    fn spectrum(&mut self, at: i64, sound: &[f32]) -> &mut [Complex64] {
        let length = self.window.len() as i64;
        let inside = at.clamp(0, sound.len() as i64)..(at + length).clamp(0, sound.len() as i64);
        self.block.fill(0.0);
        let first = (inside.start - at).clamp(0, length) as usize;
        let heard = &sound[inside.start as usize..inside.end as usize];
        for ((x, w), heard) in self.block[first..].iter_mut().zip(&self.window[first..]).zip(heard)
        {
            *x = w * f64::from(*heard);
        }
        self.spectrum.copy_from_slice(self.transform.forward(&mut self.block));
        &mut self.spectrum
    }
}

impl Frames {
    /// Adds what was transformed back to what begins at a sample.
    fn add(&self, at: i64, values: &[f64], all: &mut [f64]) {
        // Squares of the window add up to half of the frames that overlap.
        let scale = 2.0 / (OVERLAP * self.window.len()) as f64;
        let first = usize::try_from(-at).unwrap_or(0).min(values.len());
        let from = (at.max(0) as usize).min(all.len());
        let sums = all[from..].iter_mut();
        for ((sum, x), w) in sums.zip(&values[first..]).zip(&self.window[first..]) {
            *sum += scale * x * w;
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
    let mut all = shaped(SHORT_S, sound, rate_hz, made, high, &gain);
    let mut below = shaped(LONG_S, sound, rate_hz, made, low, &gain);
    let source = filtered(sound, rate_hz, low, &gain);
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

/// Noise shaped with frames of one length, which have their share of each frequency.
fn shaped<T: Fn(f64) -> f64>(
    frame_s: f64,
    sound: &[f32],
    rate_hz: f64,
    made: &Made<T>,
    share: impl Fn(f64) -> f64,
    gain: impl Fn(f64, f64) -> f64,
) -> Vec<f64> {
    /// Where the noise begins.
    const SEED: u64 = 20;
    let samples = made.samples;
    let mut frames = Frames::new(frame_s, rate_hz);
    let (length, hop) = (frames.window.len(), frames.hop);
    let of_band = |bins: Range<usize>| {
        let middle_hz = 0.5 * (bins.start + bins.end - 1) as f64 * rate_hz / length as f64;
        (bins, middle_hz, share(middle_hz))
    };
    let bands: Vec<(Range<usize>, f64, f64)> =
        bands(length / 2 + 1).into_iter().map(of_band).collect();
    let mut random = ChaCha8Rng::seed_from_u64(SEED + length as u64);
    let white: Vec<f32> =
        (0..samples + 2 * length).map(|_| random.random_range(-1.0f32..1.0)).collect();
    let mut back = InverseTransform::new(length);
    let mut all = vec![0.0; samples];
    let mut wanted = vec![0.0; bands.len()];
    let mut frame_at = -(length as i64) + hop as i64;
    while frame_at < samples as i64 {
        let middle_s = (frame_at + length as i64 / 2) as f64 / rate_hz;
        let at_s = (made.source_s)(middle_s);
        let source_at = (at_s * rate_hz).round() as i64 - length as i64 / 2;
        let spectrum = frames.spectrum(source_at, sound);
        for (wanted, (bins, ..)) in wanted.iter_mut().zip(&bands) {
            *wanted = energy(&spectrum[bins.clone()]);
        }
        let spectrum = frames.spectrum(frame_at + length as i64, &white);
        for ((bins, middle_hz, share), wanted) in bands.iter().zip(&wanted) {
            let has = energy(&spectrum[bins.clone()]).max(f64::MIN_POSITIVE);
            let factor = share * gain(*middle_hz, at_s) * (wanted / has).sqrt();
            spectrum[bins.clone()].iter_mut().for_each(|x| *x *= factor);
        }
        let values = back.backward(spectrum);
        frames.add(frame_at, values, &mut all);
        frame_at += hop as i64;
    }
    all
}

/// A sound times a share of each frequency in Hz, and a gain for it and a time in seconds.
pub(super) fn filtered(
    sound: &[f32],
    rate_hz: f64,
    share: impl Fn(f64) -> f64,
    gain: impl Fn(f64, f64) -> f64,
) -> Vec<f64> {
    const NOTHING: f64 = 1e-9;
    let mut frames = Frames::new(SHORT_S, rate_hz);
    let (length, hop) = (frames.window.len(), frames.hop);
    let hz = |k: usize| k as f64 * rate_hz / length as f64;
    let shares: Vec<f64> = (0..=length / 2).map(|k| share(hz(k))).collect();
    let mut back = InverseTransform::new(length);
    let mut all = vec![0.0; sound.len()];
    let mut from = -(length as i64) + hop as i64;
    while from < sound.len() as i64 {
        let middle_s = (from + length as i64 / 2) as f64 / rate_hz;
        let spectrum = frames.spectrum(from, sound);
        for (k, (x, share)) in spectrum.iter_mut().zip(&shares).enumerate() {
            *x *= if *share < NOTHING { 0.0 } else { share * gain(hz(k), middle_s) };
        }
        let values = back.backward(spectrum);
        frames.add(from, values, &mut all);
        from += hop as i64;
    }
    all
}

fn energy(bins: &[Complex64]) -> f64 {
    bins.iter().map(Complex64::norm_sqr).sum()
}
