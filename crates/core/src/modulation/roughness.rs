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

use super::sensation::{CHANNELS, Channels, Place};
use crate::transform::{RealTransform, fast_length};
use crate::units::db_from_power;

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
const VALUES: usize = 1024;

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
    channels: Channels,
    /// Of each bin.
    places: Vec<Place>,
    weights: [f64; CHANNELS],
    /// What each channel lets through of the rate of each bin, from the first.
    passes: Vec<Vec<f64>>,
    /// By how much each bin excites each channel, from the first that does.
    ratios: Vec<Vec<f64>>,
    /// First and last of those bins, and the power of the strongest.
    reached: Vec<(usize, usize, f64)>,
    excitation: Vec<C>,
    envelopes: Envelopes,
    plans: FftPlanner<f64>,
    scratch: Vec<C>,
}

impl Roughness {
    pub(super) fn new(rate_hz: f64, gain: f64) -> Self {
        let length = fast_length((LENGTH_S * rate_hz) as usize);
        let spacing_hz = rate_hz / length as f64;
        let places: Vec<Place> =
            (0..=length / 2).map(|n| Place::of(n as f64 * spacing_hz)).collect();
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
            channels: Channels::new(),
            places,
            ratios: vec![Vec::new(); CHANNELS],
            reached: vec![(usize::MAX, 0, 0.0); CHANNELS],
            excitation: Vec::new(),
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
        let bins = self.places.len();
        self.reached.fill((usize::MAX, 0, 0.0));
        self.ratios.iter_mut().for_each(Vec::clear);
        for n in 1..bins {
            let power = spectrum[n].norm_sqr();
            let level_db = db_from_power(power.max(1e-30));
            let (ratios, reached) = (&mut self.ratios, &mut self.reached);
            self.channels.excited(self.places[n], level_db, |channel, ratio| {
                let (first, _, most) = reached[channel];
                reached[channel] = (first.min(n), n, most.max(power * ratio * ratio));
                let ratios = &mut ratios[channel];
                ratios.resize(n + 1 - first.min(n), 0.0);
                ratios[n - first.min(n)] = ratio;
            });
        }
        let rates = self.passes[0].len();
        let mut passed: Vec<Option<Passed>> = Vec::with_capacity(CHANNELS);
        for (channel, pass) in self.passes.iter().enumerate() {
            let (first, last, most) = self.reached[channel];
            if first > last || most <= 0.0 {
                passed.push(None);
                continue;
            }
            let ratios = &self.ratios[channel];
            let counts =
                |n: &usize| spectrum[*n].norm_sqr() * ratios[n - first].powi(2) > WEAKEST * most;
            let low = (first..=last).find(counts).unwrap_or(first);
            let high = (first..=last).rev().find(counts).unwrap_or(last);
            // The envelope of a band has twice its width at most that matters.
            let count = ((high - low + 1) * 5 / 4).max(4 * rates).next_power_of_two();
            let excitation = &mut self.excitation;
            excitation.clear();
            excitation.extend((low..=high).map(|n| spectrum[n] * ratios[n - first]));
            excitation.resize(count, C::default());
            let plan = self.plans.plan_fft_inverse(count);
            let needed = plan.get_inplace_scratch_len();
            self.scratch.resize(self.scratch.len().max(needed), C::default());
            plan.process_with_scratch(excitation, &mut self.scratch[..needed]);
            passed.push(Some(self.envelopes.passed(excitation, pass)));
        }
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
    transform: RealTransform,
    block: Vec<f64>,
    /// Magnitudes of the values.
    sizes: Vec<f64>,
}

impl Envelopes {
    fn new() -> Self {
        let shape = (0..VALUES).map(|n| window((n as f64 + 0.5) / VALUES as f64)).collect();
        Self {
            shape,
            transform: RealTransform::new(VALUES),
            block: vec![0.0; VALUES],
            sizes: Vec::new(),
        }
    }

    /// What a band-pass leaves of the envelope of a channel.
    fn passed(&mut self, excitation: &[C], pass: &[f64]) -> Passed {
        self.sizes.clear();
        self.sizes.extend(excitation.iter().map(C::norm_sqr));
        self.sizes.iter_mut().for_each(|size| *size = size.sqrt());
        // Means of as many values as there are for one, or each value as often as it takes.
        let every = (excitation.len() / VALUES).max(1);
        let repeat = (VALUES / excitation.len()).max(1);
        let share = 1.0 / every as f64;
        let parts = self.block.chunks_exact_mut(repeat).zip(self.sizes.chunks_exact(every));
        for (values, sizes) in parts {
            values.fill(share * sizes.iter().sum::<f64>());
        }
        let squares: f64 = self.shape.iter().map(|w| w * w).sum();
        let mean = self.block.iter().zip(&self.shape).map(|(z, w)| w * z).sum::<f64>() / squares;
        // The envelope about its mean, under the square of the window: the window's own swell is
        // no modulation.
        for (z, w) in self.block.iter_mut().zip(&self.shape) {
            *z = w * *z - mean * w * w;
        }
        let bins = self.transform.forward(&mut self.block);
        let spectrum: Vec<C> = bins[1..].iter().zip(pass).map(|(bin, pass)| bin * pass).collect();
        let power: f64 = spectrum.iter().map(C::norm_sqr).sum();
        let fourths: f64 = self.shape.iter().map(|w| w.powi(4)).sum();
        let square = 2.0 * power / (VALUES as f64 * fourths);
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
