//! Steady tones fitted jointly, by least squares, over the whole span.
//!
//! The span x\[t\], t from its middle, is modelled as
//!
//! x\[t\] = c₀ + Σ_k Re c_k·exp(jω_k t) + noise.
//!
//! One pass over the samples reduces them to what the fit needs. The span is cut into B blocks of
//! M samples; for each tone i, known well enough from the averaged spectrum (ω̂_i), the block sums
//!
//! a_i\[b\] = Σ_(t in b) x\[t\]·exp(−jω̂_i t)
//!
//! are kept. A tone at ω_k contributes ½c_k·exp(j(ω_k − ω̂_i)t_b)·D(ω_k − ω̂_i) and its mirror
//! image at −ω_k, with D(Ω) = sin(MΩ/2)/sin(Ω/2) and t_b the middle of the block: exact, whatever
//! the frequencies. Each tone is then fitted in turn to its block sums less the contributions of
//! all others, until nothing moves. For one tone in white noise this is the maximum-likelihood
//! estimate: its variance is the Cramér–Rao bound,
//!
//! var(ω) = 24σ²/(A²N³), var(A) = 2σ²/N, var(φ at the middle) = 2σ²/(A²N)
//!
//! (D. C. Rife and R. R. Boorstyn, IEEE Trans. Inf. Theory 20, 1974), but for 1/B² of the
//! information that block sums give away. σ² is taken from the residual in the tone's own band,
//! so that coloured noise counts where the tone is.
//!
//! A tone that is not steady leaves a residual that changes slowly from block to block, instead of
//! a white one; it is reported so and keeps its windowed estimate.

use crate::lanes::dot;
use crate::measured::Measured;
use crate::transform::complex_forward;
use realfft::num_complex::Complex;
use std::f64::consts::{PI, TAU};

type C = Complex<f64>;

/// Fewest and most blocks into which the span is cut.
const BLOCKS: std::ops::RangeInclusive<u64> = 32..=512;
/// Samples that are turned into sums at a time; even.
const TABLE: usize = 2048;
/// Rounds of the joint fit; a handful is enough unless tones nearly coincide.
const MOST_ROUNDS: usize = 40;
/// Rounds in which each tone is searched for anew: in the first ones a weak tone may still stand on
/// what is left of a strong neighbour.
const SEARCHES: usize = 4;
/// Lowest residual frequencies, in cycles per span to either side, that count as slow.
const SLOW_CYCLES: usize = 4;
/// Ratio of slow to other residual power per degree of freedom above which it is no chance.
/// With 15 and 46 degrees of freedom (32 blocks) chance exceeds 5 in 1 of 10⁵ cases.
const SLOW_RATIO: f64 = 5.0;
/// Change within the span, as RMS share of the amplitude, from which a tone is not steady.
const STEADY_CHANGE: f64 = 0.05;

/// What the fit over the whole span says about a tone.
#[derive(Debug, Clone)]
pub(crate) enum Verdict {
    /// It is steady.
    Steady(SteadyTone),
    /// It changes within the span: its amplitude in each block, on any scale.
    Changing(Vec<f64>),
}

/// A steady tone as the fit over the whole span gives it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SteadyTone {
    pub(crate) frequency_hz: Measured,
    pub(crate) amplitude: Measured,
    /// Phase at the first sample of the span, of a cosine, in radians.
    pub(crate) phase_rad: Measured,
}

/// Collects block sums of a span for a set of tones, then fits them.
pub(crate) struct ToneFit {
    sample_rate_hz: f64,
    block: usize,
    blocks: usize,
    /// Frequencies in radians per sample; the first is 0, for the mean of the samples.
    omegas: Vec<f64>,
    /// Block sums of the tones 0, 2, 4, … and of the tones 1, 3, 5, …
    halves: [BlockSums; 2],
    /// How far a tone may lie from where it was first seen: one bin of a frame, in radians per
    /// block.
    reach: f64,
}

/// Block sums of every second tone.
pub(crate) struct BlockSums {
    block: usize,
    blocks: usize,
    omegas: Vec<f64>,
    /// Cosines and sines of ω̂t at t = ½, 1½, … samples, of each tone.
    cosines: Vec<Vec<f64>>,
    sines: Vec<Vec<f64>>,
    sums: Vec<Vec<C>>,
    pending: Vec<f64>,
    /// Sums and differences of the pending samples at equal distance from their middle.
    even: Vec<f64>,
    odd: Vec<f64>,
    position: u64,
}

impl ToneFit {
    /// A fit of tones near `frequencies_hz` to `span_samples` samples, from which frames of
    /// `segment` samples gave the frequencies. `None` if the span is too short to cut.
    pub(crate) fn new(
        frequencies_hz: &[f64],
        sample_rate_hz: f64,
        span_samples: u64,
        segment: usize,
    ) -> Option<Self> {
        /// A block must hold a sum and a slope.
        const SHORTEST_BLOCK: u64 = 4;
        let blocks = (4 * span_samples / segment as u64).clamp(*BLOCKS.start(), *BLOCKS.end());
        let block = span_samples / blocks / 2 * 2;
        if block < SHORTEST_BLOCK || frequencies_hz.is_empty() {
            return None;
        }
        let omegas: Vec<f64> = std::iter::once(0.0)
            .chain(frequencies_hz.iter().map(|f| TAU * f / sample_rate_hz))
            .collect();
        let halves = [0, 1].map(|first| {
            let own = omegas.iter().skip(first).step_by(2).copied().collect();
            BlockSums::new(own, block as usize, blocks as usize)
        });
        Some(Self {
            sample_rate_hz,
            block: block as usize,
            blocks: blocks as usize,
            halves,
            reach: (TAU * block as f64 / segment as f64).min(PI),
            omegas,
        })
    }

    /// The two halves of the collecting, each of which takes all samples of the span.
    pub(crate) fn halves(&mut self) -> &mut [BlockSums; 2] {
        &mut self.halves
    }

    /// Block sums of a tone.
    fn sums(&self, tone: usize) -> &[C] {
        &self.halves[tone % 2].sums[tone / 2]
    }

    /// Time of the middle of the blocks, in samples from the start of the span.
    fn middle(&self) -> f64 {
        (self.block * self.blocks) as f64 / 2.0 - 0.5
    }

    /// Fits all tones and judges them.
    pub(crate) fn finish(self) -> Vec<Verdict> {
        JointFit::new(&self).run()
    }
}

impl BlockSums {
    fn new(omegas: Vec<f64>, block: usize, blocks: usize) -> Self {
        let table = |function: fn(f64) -> f64| -> Vec<Vec<f64>> {
            let of = |w: &f64| (0..TABLE / 2).map(|n| function(w * (n as f64 + 0.5))).collect();
            omegas.iter().map(of).collect()
        };
        Self {
            block,
            blocks,
            cosines: table(f64::cos),
            sines: table(f64::sin),
            sums: vec![vec![C::default(); blocks]; omegas.len()],
            pending: Vec::with_capacity(TABLE),
            even: Vec::with_capacity(TABLE / 2),
            odd: Vec::with_capacity(TABLE / 2),
            position: 0,
            omegas,
        }
    }

    /// Takes the next samples of the span.
    pub(crate) fn push(&mut self, mut samples: &[f32]) {
        while !samples.is_empty() {
            let within = (self.position % self.block as u64) as usize + self.pending.len();
            let room = (TABLE - self.pending.len()).min(self.block - within);
            let (now, later) = samples.split_at(samples.len().min(room));
            self.pending.extend(now.iter().map(|x| f64::from(*x)));
            samples = later;
            if now.len() == room {
                self.add_pending();
            }
        }
    }

    /// Adds the pending samples, an even number, to their block.
    ///
    /// About their middle, Σ x\[t\]·exp(−jωt) = Σ (x\[t\] + x\[−t\])·cos ωt − j Σ (x\[t\] −
    /// x\[−t\])·sin ωt over t = ½, 1½, …: folding, which all tones share, halves the work of each.
    fn add_pending(&mut self) {
        let block = (self.position / self.block as u64) as usize;
        if block < self.blocks {
            let (before, after) = self.pending.split_at(self.pending.len() / 2);
            let pairs = || after.iter().zip(before.iter().rev());
            self.even.clear();
            self.even.extend(pairs().map(|(after, before)| after + before));
            self.odd.clear();
            self.odd.extend(pairs().map(|(after, before)| after - before));
            let middle = self.position as f64 + self.pending.len() as f64 / 2.0 - 0.5;
            let from_middle = middle - ((self.block * self.blocks) as f64 / 2.0 - 0.5);
            for (tone, omega) in self.omegas.iter().enumerate() {
                let re = dot(&self.even, &self.cosines[tone]);
                let im = -dot(&self.odd, &self.sines[tone]);
                // The remainder keeps the angle small: exact to 1e-16 of a turn, not of its
                // multiple.
                let turns = (omega / TAU * from_middle).fract();
                self.sums[tone][block] += C::new(re, im) * C::cis(-TAU * turns);
            }
        }
        self.position += self.pending.len() as u64;
        self.pending.clear();
    }
}

/// The joint fit on the block sums.
struct JointFit<'a> {
    data: &'a ToneFit,
    /// Current frequencies in radians per sample, and complex amplitudes at the middle.
    omegas: Vec<f64>,
    amplitudes: Vec<C>,
}

impl<'a> JointFit<'a> {
    fn new(data: &'a ToneFit) -> Self {
        Self {
            data,
            omegas: data.omegas.clone(),
            amplitudes: vec![C::default(); data.omegas.len()],
        }
    }

    fn run(mut self) -> Vec<Verdict> {
        let span = (self.data.block * self.data.blocks) as f64;
        for round in 0..MOST_ROUNDS {
            let mut moved = 0.0f64;
            for tone in 0..self.omegas.len() {
                let own = self.less_others(tone);
                let before = (self.omegas[tone], self.amplitudes[tone]);
                self.fit_one(tone, &own, round < SEARCHES);
                let turned = (self.omegas[tone] - before.0).abs() * span;
                let changed = (self.amplitudes[tone] - before.1).norm();
                moved = moved.max(turned).max(changed / self.amplitudes[tone].norm().max(1e-30));
            }
            if moved < 1e-9 {
                break;
            }
        }
        (1..self.omegas.len())
            .map(|tone| match self.steady(tone) {
                Some(steady) => Verdict::Steady(steady),
                None => {
                    Verdict::Changing(self.less_others(tone).iter().map(|sum| sum.norm()).collect())
                }
            })
            .collect()
    }

    /// Block sums of one tone less what all other tones, and its own mirror image, put there.
    fn less_others(&self, tone: usize) -> Vec<C> {
        let mut own = self.data.sums(tone).to_vec();
        let here = self.data.omegas[tone];
        for (other, (omega, amplitude)) in self.omegas.iter().zip(&self.amplitudes).enumerate() {
            if other == 0 {
                // The mean has no mirror image; its amplitude is whole.
                if tone != 0 {
                    self.subtract(&mut own, *amplitude, -here);
                }
                continue;
            }
            if other != tone {
                self.subtract(&mut own, amplitude * 0.5, omega - here);
            }
            self.subtract(&mut own, amplitude.conj() * 0.5, -omega - here);
        }
        own
    }

    /// Subtracts the block sums of amplitude·exp(jΩt).
    fn subtract(&self, sums: &mut [C], amplitude: C, omega: f64) {
        let scale = amplitude * self.block_gain(omega);
        if scale == C::default() {
            return;
        }
        let step = omega * self.data.block as f64;
        let mut phasor = scale * C::cis(-step * (sums.len() as f64 - 1.0) / 2.0);
        let rotation = C::cis(step);
        for sum in sums {
            *sum -= phasor;
            phasor *= rotation;
        }
    }

    /// D(Ω) = sin(MΩ/2) / sin(Ω/2): the sum of exp(jΩt) over a block about its middle.
    fn block_gain(&self, omega: f64) -> f64 {
        let length = self.data.block as f64;
        let half = omega / 2.0;
        if half.sin().abs() < 1e-9 { length } else { (length * half).sin() / half.sin() }
    }

    /// Fits frequency and amplitude of one tone to its own block sums.
    fn fit_one(&mut self, tone: usize, own: &[C], search: bool) {
        let count = own.len() as f64;
        if tone == 0 {
            let mean = own.iter().sum::<C>() / (count * self.data.block as f64);
            self.amplitudes[0] = C::new(mean.re, 0.0);
            return;
        }
        let per_block = self.data.block as f64;
        let mut offset = if search {
            strongest_offset(own, self.data.reach)
        } else {
            (self.omegas[tone] - self.data.omegas[tone]) * per_block
        };
        // Newton's method on |S(δ)|², S = Σ own[b]·exp(−jδb), δ in radians per block.
        for _ in 0..8 {
            let (s, s1, s2) = moments(own, offset);
            let slope = 2.0 * (s.conj() * s1).re;
            let curvature = 2.0 * (s1.norm_sqr() + (s.conj() * s2).re);
            if curvature >= 0.0 {
                break;
            }
            let step = (-slope / curvature).clamp(-PI / count, PI / count);
            offset += step;
            if step.abs() < 1e-14 {
                break;
            }
        }
        let offset_omega = offset / per_block;
        let (s, ..) = moments(own, offset);
        self.omegas[tone] = self.data.omegas[tone] + offset_omega;
        self.amplitudes[tone] = s * 2.0 / (count * self.block_gain(offset_omega));
    }

    /// The tone with its uncertainties, if it is steady.
    fn steady(&self, tone: usize) -> Option<SteadyTone> {
        let data = self.data;
        let amplitude = self.amplitudes[tone];
        let magnitude = amplitude.norm();
        let offset_omega = self.omegas[tone] - data.omegas[tone];
        if magnitude == 0.0 || (offset_omega * data.block as f64).abs() > 0.9 * PI {
            return None;
        }
        let mut residual = self.less_others(tone);
        self.subtract(&mut residual, amplitude * 0.5, offset_omega);
        let count = residual.len() as f64;
        complex_forward(&mut residual);
        // Frequencies are counted from the tone: without its offset nothing would be slow.
        let shift = (offset_omega * data.block as f64 * count / TAU).round() as isize;
        let slow: f64 = (-(SLOW_CYCLES as isize)..=SLOW_CYCLES as isize)
            .map(|q| residual[(q + shift).rem_euclid(residual.len() as isize) as usize].norm_sqr())
            .sum::<f64>()
            / count;
        let all: f64 = residual.iter().map(C::norm_sqr).sum::<f64>() / count;
        // Degrees of freedom are real; the tone itself took three, all among the slow ones.
        let slow_freedom = 2.0 * (2.0 * SLOW_CYCLES as f64 + 1.0) - 3.0;
        let other_freedom = 2.0 * count - 3.0 - slow_freedom;
        let slow_noise = slow / slow_freedom;
        let other_noise = (all - slow).max(0.0) / other_freedom;
        let change = (slow / count).sqrt() / (magnitude * data.block as f64 / 2.0);
        if slow_noise > SLOW_RATIO * other_noise && change > STEADY_CHANGE {
            return None;
        }
        // Variance of the real part of one block sum. Where slow changes stand out of the noise
        // without spoiling the tone, they are the noise that matters to it.
        let pooled = all / (2.0 * count - 3.0);
        let noise = if slow_noise > SLOW_RATIO / 2.0 * other_noise { slow_noise } else { pooled };
        // 2/(√B·M) turns the noise of a block sum into that of the amplitude. Rounding of the
        // samples to f32 is a floor under every uncertainty.
        let rounding = f64::from(f32::EPSILON) / 12f64.sqrt() / (count * data.block as f64).sqrt();
        let amplitude_u = 2.0 * (noise / count).sqrt() / data.block as f64 + rounding * magnitude;
        let phase_u = amplitude_u / magnitude;
        let time_rms = data.block as f64 * ((count * count - 1.0) / 12.0).sqrt();
        let omega_u = phase_u / time_rms;
        let middle = data.middle();
        let turns = amplitude.arg() / TAU - (self.omegas[tone] / TAU * middle).fract();
        Some(SteadyTone {
            frequency_hz: Measured::new(
                self.omegas[tone] / TAU * data.sample_rate_hz,
                omega_u / TAU * data.sample_rate_hz,
            ),
            amplitude: Measured::new(magnitude, amplitude_u),
            phase_rad: Measured::new(
                TAU * (turns - turns.round()),
                phase_u.hypot(omega_u * middle),
            ),
        })
    }
}

/// S(δ) = Σ own\[b\]·exp(−jδb) with b from the middle, and its first two derivatives.
fn moments(own: &[C], offset: f64) -> (C, C, C) {
    let middle = (own.len() as f64 - 1.0) / 2.0;
    let mut phasor = C::cis(offset * middle);
    let rotation = C::cis(-offset);
    let (mut s, mut s1, mut s2) = (C::default(), C::default(), C::default());
    for (b, value) in own.iter().enumerate() {
        let t = b as f64 - middle;
        let turned = value * phasor;
        s += turned;
        s1 += turned * t;
        s2 += turned * (t * t);
        phasor *= rotation;
    }
    (s, s1 * C::new(0.0, -1.0), -s2)
}

/// Offset in radians per block, at most `reach`, at which the periodogram of the block sums is
/// greatest.
fn strongest_offset(own: &[C], reach: f64) -> f64 {
    /// A maximum is met within an eighth of a bin, where Newton's method holds.
    const PADDING: usize = 4;
    let mut padded = own.to_vec();
    padded.resize(PADDING * own.len(), C::default());
    complex_forward(&mut padded);
    let length = padded.len();
    let signed = |k: usize| if k > length / 2 { k as f64 - length as f64 } else { k as f64 };
    let mut best = (0.0, 0.0);
    for (k, bin) in padded.iter().enumerate() {
        let offset = TAU * signed(k) / length as f64;
        if bin.norm_sqr() > best.1 && offset.abs() <= reach {
            best = (offset, bin.norm_sqr());
        }
    }
    best.0
}
