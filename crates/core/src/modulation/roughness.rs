//! Roughness: how strongly modulations between some 20 Hz and 300 Hz are heard.
//!
//! After P. Daniel, R. Weber, Acustica 83, 1997: in stretches of 0.2 s, each channel i of the ear
//! has an envelope, of which a band-pass H_i, widest at 1 kHz and above and with its top at 70 Hz there,
//! leaves h_i. The depth m_i = rms(h_i)/mean, at most 1, counts as far as neighbours two channels
//! away move together, k being the correlation of both:
//!
//! R = c·Σ g_i·(m_i·k_(i−2)·k_i)^p
//!
//! c makes a tone of 1 kHz and 60 dB, modulated at 70 Hz with a depth of 1, have 1 asper. H_i is
//! written here as exp(−(ln(r/r_i))²/2s²), r_i its top; g_i weighs channels as published there.

use std::f64::consts::TAU;

use rustfft::FftPlanner;
use rustfft::num_complex::Complex;

use super::sensation::{CHANNELS, Excitation};
use crate::lanes;
use crate::transform::{RealTransform, fast_length};

type C = Complex<f64>;

/// Length of a stretch in seconds.
const LENGTH_S: f64 = 0.2;
/// No modulation is heard as roughness that is faster, in Hz.
const FASTEST_HZ: f64 = 640.0;
/// Asper for a sum of 1.
const ASPER: f64 = 0.341;
const POWER: f64 = 1.6;
/// Components of a channel that are weaker than its strongest by so much, as a ratio of powers, are
/// left out.
const WEAKEST: f64 = 1e-4;
/// Values of an envelope whose spectrum is taken.
const VALUES: usize = 512;

/// Weight of a channel by its critical-band rate, with straight lines between.
const WEIGHTS: [(f64, f64); 14] = [
    (0.0, 0.0),
    (1.0, 0.35),
    (2.5, 0.7),
    (4.9, 0.7),
    (6.5, 1.1),
    (8.0, 1.25),
    (9.0, 1.26),
    (10.0, 1.18),
    (11.0, 1.08),
    (11.5, 1.0),
    (13.0, 0.66),
    (17.5, 0.46),
    (21.0, 0.38),
    (24.0, 0.3),
];

/// The rate in Hz that is heard best, by critical-band rate.
const BEST: [(f64, f64); 5] = [(0.0, 28.0), (1.5, 32.0), (3.0, 50.0), (6.0, 62.0), (8.5, 72.0)];
/// Widths of the band-pass below and above its best rate, in nepers.
const NARROW: f64 = 0.85;
const WIDE: f64 = 1.0;

fn between(table: &[(f64, f64)], at: f64) -> f64 {
    let above = table.partition_point(|(x, _)| *x < at);
    match (above.checked_sub(1).and_then(|n| table.get(n)), table.get(above)) {
        (Some((x, y)), Some((next_x, next_y))) => y + (next_y - y) * (at - x) / (next_x - x),
        (Some((_, y)), None) | (None, Some((_, y))) => *y,
        (None, None) => 0.0,
    }
}

/// Roughness of stretches of a sound.
pub(super) struct Roughness {
    gain: f64,
    length: usize,
    window: Vec<f64>,
    transform: RealTransform,
    block: Vec<f64>,
    excitation: Excitation,
    weights: [f64; CHANNELS],
    /// What each channel lets through of the rate of each bin, from the first.
    passes: Vec<Vec<f64>>,
    /// The components of a channel.
    band: Vec<C>,
    envelopes: Envelopes,
    plans: FftPlanner<f64>,
    scratch: Vec<C>,
}

impl Roughness {
    pub(super) fn new(rate_hz: f64, gain: f64) -> Self {
        let length = fast_length((LENGTH_S * rate_hz) as usize);
        let spacing_hz = rate_hz / length as f64;
        let barks: [f64; CHANNELS] = std::array::from_fn(|n| 0.5 * (n + 1) as f64);
        let rates = (FASTEST_HZ / spacing_hz) as usize;
        let pass = |bark: f64| -> Vec<f64> {
            let best_hz = between(&BEST, bark);
            (1..=rates)
                .map(|n| {
                    let away = (n as f64 * spacing_hz / best_hz).ln();
                    let width = if away < 0.0 { NARROW } else { WIDE };
                    (-0.5 * (away / width).powi(2)).exp()
                })
                .collect()
        };
        Self {
            gain,
            length,
            window: (0..length).map(|n| window((n as f64 + 0.5) / length as f64)).collect(),
            transform: RealTransform::new(length),
            block: vec![0.0; length],
            // Without 0 Hz.
            excitation: Excitation::new((1..=length / 2).map(|n| n as f64 * spacing_hz)),
            band: Vec::new(),
            envelopes: Envelopes::new(),
            scratch: Vec::new(),
            weights: barks.map(|bark| between(&WEIGHTS, bark)),
            passes: barks.map(pass).to_vec(),
            plans: FftPlanner::new(),
        }
    }

    /// Samples of a stretch.
    pub(super) fn length(&self) -> usize {
        self.length
    }

    /// Roughness of a stretch.
    pub(super) fn frame(&mut self, samples: &[f32]) -> f64 {
        let squares: f64 = self.window.iter().map(|w| w * w).sum();
        let scale = 2.0 * self.gain / (squares * self.length as f64).sqrt();
        for ((value, x), w) in self.block.iter_mut().zip(samples).zip(&self.window) {
            *value = scale * w * f64::from(*x);
        }
        let spectrum = self.transform.forward(&mut self.block);
        let components = &spectrum[1..];
        let (band, plans, scratch) = (&mut self.band, &mut self.plans, &mut self.scratch);
        let (envelopes, passes) = (&mut self.envelopes, &self.passes);
        let mut passed: Vec<Option<Passed>> = Vec::with_capacity(CHANNELS);
        self.excitation.set(components.iter().map(C::norm_sqr));
        self.excitation.each(|channel, first, powers, ratios| {
            let excited = |n: usize| powers[n] * ratios[n] * ratios[n];
            let most = (0..powers.len()).map(excited).fold(0.0, f64::max);
            let mut counting = (0..powers.len()).filter(|n| excited(*n) > WEAKEST * most);
            let Some(low) = counting.next() else { return passed.push(None) };
            let high = counting.next_back().unwrap_or(low);
            // The envelope of a band has twice its width at most that matters.
            let count = ((high - low + 1) * 5 / 4).next_multiple_of(VALUES);
            let parts = components[first + low..=first + high].iter().zip(&ratios[low..=high]);
            band.clear();
            band.extend(parts.map(|(component, ratio)| component * ratio));
            band.resize(count, C::default());
            let plan = plans.plan_fft_inverse(count);
            let needed = plan.get_inplace_scratch_len();
            scratch.resize(scratch.len().max(needed), C::default());
            plan.process_with_scratch(band, &mut scratch[..needed]);
            passed.push(Some(envelopes.passed(band, &passes[channel])));
        });
        let alike = |n: usize| -> f64 {
            match (passed.get(n), passed.get(n + 2)) {
                (Some(Some(a)), Some(Some(b))) => a.correlation(b),
                _ => 0.0,
            }
        };
        let parts = passed.iter().enumerate().filter_map(|(n, channel)| {
            let channel = channel.as_ref()?;
            let before = if n < 2 { 1.0 } else { alike(n - 2) };
            let after = if n + 2 < CHANNELS { alike(n) } else { 1.0 };
            let alike = (before * after).max(0.0);
            Some(self.weights[n] * (channel.depth * alike).powf(POWER))
        });
        ASPER * parts.sum::<f64>()
    }
}

fn window(place: f64) -> f64 {
    0.42 - 0.5 * (TAU * place).cos() + 0.08 * (2.0 * TAU * place).cos()
}

/// Takes the envelopes of channels apart.
struct Envelopes {
    /// The window at the middle of each value.
    shape: Vec<f64>,
    /// Sums of its squares and fourth powers.
    squares: f64,
    fourths: f64,
    transform: RealTransform,
    block: Vec<f64>,
}

impl Envelopes {
    fn new() -> Self {
        let shape: Vec<f64> =
            (0..VALUES).map(|n| window((n as f64 + 0.5) / VALUES as f64)).collect();
        Self {
            squares: shape.iter().map(|w| w.powi(2)).sum(),
            fourths: shape.iter().map(|w| w.powi(4)).sum(),
            shape,
            transform: RealTransform::new(VALUES),
            block: vec![0.0; VALUES],
        }
    }

    /// What a band-pass leaves of the envelope of a channel.
    fn passed(&mut self, band: &[C], pass: &[f64]) -> Passed {
        // The mean power of as many values as there are for one.
        let every = band.len() / VALUES;
        let share = 1.0 / every as f64;
        for (value, part) in self.block.iter_mut().zip(band.chunks_exact(every)) {
            *value = (share * part.iter().map(C::norm_sqr).sum::<f64>()).sqrt();
        }
        let mean = lanes::dot(&self.block, &self.shape) / self.squares;
        // The envelope about its mean, under the square of the window: the window's own swell is
        // no modulation.
        for (z, w) in self.block.iter_mut().zip(&self.shape) {
            *z = w * *z - mean * w * w;
        }
        let bins = self.transform.forward(&mut self.block);
        let spectrum: Vec<C> = bins[1..].iter().zip(pass).map(|(bin, pass)| bin * pass).collect();
        let power: f64 = spectrum.iter().map(C::norm_sqr).sum();
        let square = 2.0 * power / (VALUES as f64 * self.fourths);
        Passed { depth: (square.sqrt() / mean).min(1.0), spectrum, power }
    }
}

/// What the band-pass leaves of the envelope of a channel.
struct Passed {
    depth: f64,
    /// Its spectrum, at the rates that are heard.
    spectrum: Vec<C>,
    power: f64,
}

impl Passed {
    /// How far two channels move together.
    fn correlation(&self, other: &Self) -> f64 {
        let both = self.spectrum.iter().zip(&other.spectrum);
        let shared: f64 = both.map(|(a, b)| (a * b.conj()).re).sum();
        let size = (self.power * other.power).sqrt();
        if size > 0.0 { shared / size } else { 0.0 }
    }
}
