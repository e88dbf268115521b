//! Fluctuation strength: how strongly modulations slower than some 20 Hz are heard.
//!
//! The course over the rate is that of H. Fastl, E. Zwicker, Psychoacoustics (3rd ed. 2007,
//! chapter 10): F ∝ 1/(r/4 Hz + 4 Hz/r), with its top at 4 Hz. The depth enters channel by channel
//! with the power p = 1.7, as far as neighbours move together (R. García, A. Osses, A. Kohlrausch,
//! Proc. Meetings on Acoustics 28, 2016): in stretches of 2 s,
//!
//! F = c·Σ (m_i·k_(i−2)·k_i)^p
//!
//! m_i being the depth of what a band-pass of that course leaves of the excitation of channel i, as
//! an amplitude. c makes a tone of 1 kHz and 60 dB, modulated at 4 Hz with a depth of 1, have
//! 1 vacil.

use std::f64::consts::TAU;

use rustfft::num_complex::Complex;

use super::sensation::{CHANNELS, Excitation};
use crate::hearing::bark;
use crate::transform::{RealTransform, fast_length};

type C = Complex<f64>;

/// Length of a frame and distance between frames in seconds.
const FRAME_S: f64 = 0.032;
const HOP_S: f64 = 0.0125;
/// Frames of a stretch, and between stretches.
const STRETCH: usize = 160;
const STEP: usize = 40;
/// Fastest rate that is heard as fluctuation, in Hz.
const FASTEST_HZ: f64 = 39.0;
const POWER: f64 = 1.7;
/// Vacil for a sum of 1.
const VACIL: f64 = 0.1879;

/// Fluctuation strength of a sound, frame by frame.
pub(super) struct Fluctuation {
    gain: f64,
    length: usize,
    hop: usize,
    hop_s: f64,
    window: Vec<f64>,
    transform: RealTransform,
    block: Vec<f64>,
    excitation: Excitation,
    /// Half-Bark band of each bin.
    bands: Vec<usize>,
    pass: Vec<f64>,
    /// Power of each band in the frames of the stretch.
    held: Vec<[f64; BANDS]>,
}

/// Half-Bark bands.
const BANDS: usize = CHANNELS + 2;

impl Fluctuation {
    pub(super) fn new(rate_hz: f64, gain: f64) -> Self {
        let length = fast_length((FRAME_S * rate_hz) as usize);
        let hop = (HOP_S * rate_hz).round() as usize;
        let hop_s = hop as f64 / rate_hz;
        let spacing_hz = rate_hz / length as f64;
        let hz = |n: usize| n as f64 * spacing_hz;
        let band = |n: usize| ((2.0 * bark(hz(n))).round() as usize).min(BANDS - 1);
        let bands: Vec<usize> = (0..=length / 2).map(band).collect();
        // Beyond half the sample rate there is none.
        let middles_hz = bands.chunk_by(|a, b| a == b).scan(0, |from, bins| {
            let middle = *from as f64 + 0.5 * (bins.len() - 1) as f64;
            *from += bins.len();
            Some((middle * spacing_hz).max(20.0))
        });
        let place = |n: usize| TAU * (n as f64 + 0.5) / length as f64;
        let window: Vec<f64> = (0..length).map(|n| 0.5 - 0.5 * place(n).cos()).collect();
        // What a frame leaves of a change of the power within it.
        let kept = |rate: f64| {
            let middle = 0.5 * (length - 1) as f64;
            let turn = |n: usize| (TAU * rate * (n as f64 - middle) / rate_hz).cos();
            let squares = window.iter().map(|w| w * w);
            squares.clone().enumerate().map(|(n, w)| w * turn(n)).sum::<f64>()
                / squares.sum::<f64>()
        };
        let bin_hz = 1.0 / (STRETCH as f64 * hop_s);
        let pass = (1..=(FASTEST_HZ / bin_hz) as usize)
            .map(|n| {
                let rate = n as f64 * bin_hz;
                (2.0 / (rate / 4.0 + 4.0 / rate)).powf(1.0 / POWER) / kept(rate)
            })
            .collect();
        Self {
            gain,
            length,
            hop,
            hop_s,
            window,
            transform: RealTransform::new(length),
            block: vec![0.0; length],
            excitation: Excitation::new(middles_hz),
            bands,
            pass,
            held: Vec::with_capacity(STRETCH),
        }
    }

    /// Samples of a frame.
    pub(super) fn length(&self) -> usize {
        self.length
    }

    /// Samples between frames.
    pub(super) fn hop(&self) -> usize {
        self.hop
    }

    /// Takes the next frame. Where it ends a stretch: the strength of that, and by how many seconds
    /// its middle lies before that of the frame.
    pub(super) fn frame(&mut self, samples: &[f32]) -> Option<(f64, f64)> {
        let squares: f64 = self.window.iter().map(|w| w * w).sum();
        let scale = 2.0 * self.gain / (squares * self.length as f64).sqrt();
        for ((value, x), w) in self.block.iter_mut().zip(samples).zip(&self.window) {
            *value = scale * w * f64::from(*x);
        }
        let spectrum = self.transform.forward(&mut self.block);
        let mut powers = [0.0; BANDS];
        for (bin, band) in spectrum.iter().zip(&self.bands) {
            powers[*band] += bin.norm_sqr();
        }
        self.held.push(powers);
        if self.held.len() < STRETCH {
            return None;
        }
        let strength = self.strength();
        self.held.drain(..STEP);
        Some((0.5 * (STRETCH - 1) as f64 * self.hop_s, strength))
    }

    /// By how much each band excites each channel, at its mean level over the stretch.
    fn ratios(&mut self) -> Vec<[f64; BANDS]> {
        let mut ratios = vec![[0.0; BANDS]; CHANNELS];
        let held = &self.held;
        let mean = |band: usize| held.iter().map(|powers| powers[band]).sum::<f64>();
        self.excitation.set((0..BANDS).map(|band| mean(band) / STRETCH as f64));
        self.excitation.each(|channel, first, _, all| {
            for (square, ratio) in ratios[channel][first..].iter_mut().zip(all) {
                *square = ratio * ratio;
            }
        });
        ratios
    }

    fn strength(&mut self) -> f64 {
        let window: [f64; STRETCH] =
            std::array::from_fn(|n| 0.5 - 0.5 * (TAU * (n as f64 + 0.5) / STRETCH as f64).cos());
        let squares: f64 = window.iter().map(|w| w * w).sum();
        let sum: f64 = window.iter().sum();
        let mut transform = RealTransform::new(STRETCH);
        let ratios = self.ratios();
        let mut channel = |n: usize| -> Option<(f64, Vec<C>, f64)> {
            let excitation = |powers: &[f64; BANDS]| -> f64 {
                powers.iter().zip(&ratios[n]).map(|(power, ratio)| power * ratio).sum()
            };
            let envelope: Vec<f64> =
                self.held.iter().map(|powers| excitation(powers).sqrt()).collect();
            let mean = envelope.iter().zip(&window).map(|(x, w)| x * w).sum::<f64>() / sum;
            if mean <= 0.0 {
                return None;
            }
            let mut block: Vec<f64> =
                envelope.iter().zip(&window).map(|(x, w)| w * (x - mean)).collect();
            let bins = transform.forward(&mut block);
            let passed: Vec<C> = bins[1..].iter().zip(&self.pass).map(|(x, h)| x * h).collect();
            let power: f64 = passed.iter().map(C::norm_sqr).sum();
            let depth = (2.0 * power / (STRETCH as f64 * squares)).sqrt() / mean;
            Some((depth.min(1.0), passed, power))
        };
        let all: Vec<Option<(f64, Vec<C>, f64)>> = (0..CHANNELS).map(&mut channel).collect();
        let alike = |n: usize| -> f64 {
            let (Some(Some(a)), Some(Some(b))) = (all.get(n), all.get(n + 2)) else { return 0.0 };
            let shared: f64 = a.1.iter().zip(&b.1).map(|(a, b)| (a * b.conj()).re).sum();
            let size = (a.2 * b.2).sqrt();
            if size > 0.0 { (shared / size).max(0.0) } else { 0.0 }
        };
        let parts = all.iter().enumerate().filter_map(|(n, channel)| {
            let (depth, ..) = channel.as_ref()?;
            let before = if n < 2 { 1.0 } else { alike(n - 2) };
            let after = if n + 2 < CHANNELS { alike(n) } else { 1.0 };
            Some((depth * before * after).powf(POWER))
        });
        VACIL * parts.sum::<f64>()
    }
}
