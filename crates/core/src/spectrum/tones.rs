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
//! a white one. Where two steady tones explain it they are fitted in its place (module `pair`); else
//! it is reported so and keeps its windowed estimate.

use super::pair::Pair;
use crate::lanes::dot;
use crate::measured::Measured;
use crate::transform::complex_forward;
use realfft::num_complex::Complex;
use std::f64::consts::{PI, TAU};

type C = Complex<f64>;

/// Fewest and most blocks into which the span is cut.
const BLOCKS: std::ops::RangeInclusive<u64> = 64..=512;
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
/// With 15 and 110 degrees of freedom (64 blocks) chance exceeds 5 in 1 of 10⁷ cases.
const SLOW_RATIO: f64 = 5.0;
/// Change within the span, as RMS share of the amplitude, from which a tone is not steady.
const STEADY_CHANGE: f64 = 0.05;

/// What is left of a tone below this share of its power is how samples are rounded.
const ROUNDING: f64 = 1e-11;

/// What the fit over the whole span says about a tone.
#[derive(Debug, Clone)]
pub(crate) enum Verdict {
    /// It is steady.
    Steady(SteadyTone),
    /// It is two steady tones, the lower first, with the difference of their frequencies in Hz.
    Two(Box<([SteadyTone; 2], Measured)>),
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
    /// Frequencies and amplitudes of tones that are not fitted.
    unfitted: Vec<(f64, f64)>,
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
    /// `segment` samples gave the frequencies, beside others that are not fitted. `None` if the span
    /// is too short to cut.
    pub(crate) fn new(
        frequencies_hz: &[f64],
        unfitted: Vec<(f64, f64)>,
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
            unfitted: unfitted.into_iter().map(|(hz, a)| (TAU * hz / sample_rate_hz, a)).collect(),
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
    /// What is found where each tone was first seen.
    found: Vec<Found>,
}

/// One tone, or two, with current frequencies in radians per sample and complex amplitudes at the
/// middle.
#[derive(Clone)]
struct Found {
    tones: Vec<(f64, C)>,
}

impl<'a> JointFit<'a> {
    fn new(data: &'a ToneFit) -> Self {
        let tone = |omega: &f64| Found { tones: vec![(*omega, C::default())] };
        Self { data, found: data.omegas.iter().map(tone).collect() }
    }

    fn run(mut self) -> Vec<Verdict> {
        self.settle(0);
        if self.part_pairs() {
            self.settle(SEARCHES);
            if self.join_again() {
                self.settle(SEARCHES);
            }
        }
        (1..self.found.len()).map(|place| self.verdict(place)).collect()
    }

    /// Fits one after another until nothing moves, from a round on.
    fn settle(&mut self, from: usize) {
        let span = (self.data.block * self.data.blocks) as f64;
        for round in from..MOST_ROUNDS {
            let mut moved = 0.0f64;
            for place in 0..self.found.len() {
                let own = self.less_others(place);
                let before = self.found[place].clone();
                self.fit(place, &own, round < SEARCHES);
                for (was, is) in before.tones.iter().zip(&self.found[place].tones) {
                    let turned = (is.0 - was.0).abs() * span;
                    let changed = (is.1 - was.1).norm();
                    moved = moved.max(turned).max(changed / is.1.norm().max(1e-30));
                }
            }
            if moved < 1e-9 {
                break;
            }
        }
    }

    /// Puts two tones where one leaves more than noise and two do not; whether there is any.
    fn part_pairs(&mut self) -> bool {
        let mut any = false;
        for place in 1..self.found.len() {
            let (own, residual, slowness) = self.left_by_one(place);
            let energy = |sums: &[C]| sums.iter().map(C::norm_sqr).sum::<f64>();
            let is_rounding = energy(&residual) < ROUNDING * energy(&own);
            if is_rounding || !slowness.is_more_than_noise() {
                continue;
            }
            let count = own.len() as f64;
            // A bin of a frame, and a tone at its edge that leans on the other.
            let reach = (2.0 + self.data.reach * count / TAU).min(0.4 * count);
            let alone = self.as_sums(place, self.found[place].tones[0]);
            if let Some(pair) = Pair::find(&own, alone, reach) {
                self.found[place] = self.of_pair(place, &pair);
                any = true;
            }
        }
        any
    }

    /// Puts one tone, the stronger, back where two do not explain all; whether there is any such.
    fn join_again(&mut self) -> bool {
        let mut any = false;
        for place in 1..self.found.len() {
            let Some(start) = self.as_pair(place) else { continue };
            let own = self.less_others(place);
            let is_pair = Pair::refined(&own, start).is_some_and(|pair| pair.is_all(&own));
            if is_pair && !self.may_be_leaked(place) {
                continue;
            }
            let tones = &mut self.found[place].tones;
            tones.sort_by(|x, y| y.1.norm_sqr().total_cmp(&x.1.norm_sqr()));
            tones.truncate(1);
            any = true;
        }
        any
    }

    /// Whether what tones that are not fitted bring into the block sums at a place, at most
    /// A/(M·sin(Ω/2)), explains the weaker of the two there.
    fn may_be_leaked(&self, place: usize) -> bool {
        const MARGIN: f64 = 2.0;
        let here = self.data.omegas[place];
        let leaked = |(omega, amplitude): &(f64, f64)| {
            let gain = 1.0 / (0.5 * (omega - here)).sin().abs().max(1e-9);
            amplitude * (gain / self.data.block as f64).min(1.0)
        };
        let leaked: f64 = self.data.unfitted.iter().map(leaked).sum();
        self.found[place].tones.iter().any(|tone| tone.1.norm() < MARGIN * leaked)
    }

    /// Samples of half the span.
    fn half_span(&self) -> f64 {
        0.5 * (self.data.block * self.data.blocks) as f64
    }

    /// Two tones from their phase advances over half the span.
    fn of_pair(&self, place: usize, pair: &Pair) -> Found {
        let tone = |(advance, g): (f64, C)| {
            let offset = advance / self.half_span();
            (self.data.omegas[place] + offset, g * 2.0 / self.block_gain(offset))
        };
        let mut tones = pair.tones.map(tone).to_vec();
        tones.sort_by(|x, y| x.0.total_cmp(&y.0));
        Found { tones }
    }

    /// The pair at a place as phase advances and amplitudes of block sums.
    fn as_pair(&self, place: usize) -> Option<[(f64, C); 2]> {
        let [one, other] = self.found[place].tones[..] else { return None };
        Some([one, other].map(|tone| self.as_sums(place, tone)))
    }

    /// A tone at a place as its phase advance over half the span and the amplitude of its block
    /// sums.
    fn as_sums(&self, place: usize, (omega, amplitude): (f64, C)) -> (f64, C) {
        let offset = omega - self.data.omegas[place];
        (offset * self.half_span(), amplitude * 0.5 * self.block_gain(offset))
    }

    /// Block sums at a place less what all others, and the mirror images of its own, put there.
    fn less_others(&self, place: usize) -> Vec<C> {
        let mut own = self.data.sums(place).to_vec();
        let here = self.data.omegas[place];
        for (other, found) in self.found.iter().enumerate() {
            for (omega, amplitude) in &found.tones {
                if other == 0 {
                    // The mean has no mirror image; its amplitude is whole.
                    if place != 0 {
                        self.subtract(&mut own, *amplitude, -here);
                    }
                    continue;
                }
                if other != place {
                    self.subtract(&mut own, amplitude * 0.5, omega - here);
                }
                self.subtract(&mut own, amplitude.conj() * 0.5, -omega - here);
            }
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

    /// Fits frequency and amplitude of what is at a place to its own block sums.
    fn fit(&mut self, place: usize, own: &[C], search: bool) {
        let count = own.len() as f64;
        if place == 0 {
            let mean = own.iter().sum::<C>() / (count * self.data.block as f64);
            self.found[0].tones[0].1 = C::new(mean.re, 0.0);
            return;
        }
        if let Some(start) = self.as_pair(place) {
            if let Some(pair) = Pair::refined(own, start) {
                self.found[place] = self.of_pair(place, &pair);
            }
            return;
        }
        let per_block = self.data.block as f64;
        let mut offset = if search {
            strongest_offset(own, self.data.reach)
        } else {
            (self.found[place].tones[0].0 - self.data.omegas[place]) * per_block
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
        let amplitude = s * 2.0 / (count * self.block_gain(offset_omega));
        self.found[place].tones[0] = (self.data.omegas[place] + offset_omega, amplitude);
    }

    /// Block sums of one tone, what it leaves of them, and how slow that is.
    fn left_by_one(&self, place: usize) -> (Vec<C>, Vec<C>, Slowness) {
        let (omega, amplitude) = self.found[place].tones[0];
        let offset = omega - self.data.omegas[place];
        let own = self.less_others(place);
        let mut residual = own.clone();
        self.subtract(&mut residual, amplitude * 0.5, offset);
        // Frequencies are counted from the tone: without its offset nothing would be slow.
        let shift = offset * self.data.block as f64 * residual.len() as f64 / TAU;
        let slowness = Slowness::of(&residual, shift, 0.0, 3);
        (own, residual, slowness)
    }

    fn verdict(&self, place: usize) -> Verdict {
        let steady = match self.as_pair(place) {
            Some(pair) => self.two(place, pair),
            None => self.steady(place).map(Verdict::Steady),
        };
        steady.unwrap_or_else(|| {
            Verdict::Changing(self.less_others(place).iter().map(|sum| sum.norm()).collect())
        })
    }

    /// The tone with its uncertainties, if it is steady.
    fn steady(&self, place: usize) -> Option<SteadyTone> {
        let data = self.data;
        let (omega, amplitude) = self.found[place].tones[0];
        let magnitude = amplitude.norm();
        let offset = omega - data.omegas[place];
        if magnitude == 0.0 || (offset * data.block as f64).abs() > 0.9 * PI {
            return None;
        }
        let (_, residual, slowness) = self.left_by_one(place);
        let count = residual.len() as f64;
        let change = (slowness.slow / count).sqrt() / (magnitude * data.block as f64 / 2.0);
        if slowness.ratio() > SLOW_RATIO && change > STEADY_CHANGE {
            return None;
        }
        // 2/(√B·M) turns the noise of a block sum into that of the amplitude.
        let amplitude_u = 2.0 * (slowness.noise() / count).sqrt() / data.block as f64
            + self.rounding() * magnitude;
        let phase_u = amplitude_u / magnitude;
        let time_rms = data.block as f64 * ((count * count - 1.0) / 12.0).sqrt();
        let omega_u = phase_u / time_rms;
        Some(self.tone(
            (omega, omega_u),
            (amplitude, amplitude_u),
            phase_u.hypot(omega_u * data.middle()),
        ))
    }

    /// The two tones at a place with their uncertainties.
    fn two(&self, place: usize, start: [(f64, C); 2]) -> Option<Verdict> {
        let own = self.less_others(place);
        let pair = Pair::refined(&own, start).filter(|pair| pair.is_all(&own))?;
        let half_span = self.half_span();
        let tone = |n: usize| {
            let (advance, g) = pair.tones[n];
            let offset = advance / half_span;
            let gain = 2.0 / self.block_gain(offset);
            let (first, size) = (3 * n, g.norm());
            let variance_along = |along: [f64; 3]| -> f64 {
                let cell = |row: usize, column: usize| {
                    along[row] * along[column] * pair.covariance[first + row][first + column]
                };
                (0..9).map(|n| cell(n / 3, n % 3)).sum()
            };
            let u = |along: [f64; 3]| variance_along(along).max(0.0).sqrt();
            let rounding = self.rounding();
            let omega_u = u([1.0, 0.0, 0.0]) / half_span + rounding / half_span;
            let amplitude_u = gain.abs() * (u([0.0, g.re / size, g.im / size]) + rounding * size);
            // The phase turns back from the middle to the first sample.
            let back = self.data.middle() / half_span;
            let phase_u = u([-back, -g.im / (size * size), g.re / (size * size)]) + rounding;
            let omega = self.data.omegas[place] + offset;
            self.tone((omega, omega_u), (g * gain, amplitude_u), phase_u)
        };
        let mut tones = [tone(0), tone(1)];
        tones.sort_by(|x, y| x.frequency_hz.value.total_cmp(&y.frequency_hz.value));
        let hz = self.data.sample_rate_hz / TAU;
        let beat = Measured::new(
            tones[1].frequency_hz.value - tones[0].frequency_hz.value,
            hz * pair.beat_variance().max(0.0).sqrt() / half_span,
        );
        Some(Verdict::Two(Box::new((tones, beat))))
    }

    /// Rounding of the samples to f32, a floor under every uncertainty, as a share.
    fn rounding(&self) -> f64 {
        let samples = (self.data.blocks * self.data.block) as f64;
        f64::from(f32::EPSILON) / 12f64.sqrt() / samples.sqrt()
    }

    /// A tone from its frequency in radians per sample and its amplitude in the middle, each with
    /// its uncertainty, and the uncertainty of its phase at the first sample.
    fn tone(
        &self,
        (omega, omega_u): (f64, f64),
        (amplitude, u): (C, f64),
        phase_u: f64,
    ) -> SteadyTone {
        let hz = self.data.sample_rate_hz / TAU;
        let turns = amplitude.arg() / TAU - (omega / TAU * self.data.middle()).fract();
        SteadyTone {
            frequency_hz: Measured::new(omega * hz, omega_u * hz),
            amplitude: Measured::new(amplitude.norm(), u),
            phase_rad: Measured::new(TAU * (turns - turns.round()), phase_u),
        }
    }
}

/// How much of what is left of block sums changes slowly.
pub(super) struct Slowness {
    /// Energy at low frequencies about a tone.
    slow: f64,
    /// Variances of the real part of a block sum: of what is slow, of all else, of both, and the
    /// greatest at a single frequency.
    slow_noise: f64,
    other_noise: f64,
    pooled: f64,
    greatest: f64,
}

impl Slowness {
    /// Of a residual, about a tone `shift` cycles per span from its carrier, what is `more` cycles
    /// farther counting as slow; so many real unknowns were taken from it.
    pub(super) fn of(residual: &[C], shift: f64, more: f64, taken: usize) -> Self {
        let count = residual.len() as f64;
        let mut spectrum = residual.to_vec();
        complex_forward(&mut spectrum);
        let power = |q: isize| spectrum[q.rem_euclid(spectrum.len() as isize) as usize].norm_sqr();
        let (reach, shift) = (SLOW_CYCLES as isize + more.ceil() as isize, shift.round() as isize);
        let slow = (-reach..=reach).map(|q| power(q + shift)).sum::<f64>() / count;
        let all: f64 = spectrum.iter().map(C::norm_sqr).sum::<f64>() / count;
        // Degrees of freedom are real; what was taken is among the slow ones.
        let slow_freedom = 2.0 * (2.0 * reach as f64 + 1.0) - taken as f64;
        let other_freedom = 2.0 * count - taken as f64 - slow_freedom;
        let greatest = spectrum.iter().map(C::norm_sqr).fold(0.0, f64::max) / (2.0 * count);
        Self {
            slow,
            slow_noise: slow / slow_freedom,
            other_noise: (all - slow).max(0.0) / other_freedom,
            pooled: all / (2.0 * count - taken as f64),
            greatest,
        }
    }

    /// What is slow over all else.
    fn ratio(&self) -> f64 {
        if self.slow_noise > 0.0 { self.slow_noise / self.other_noise } else { 0.0 }
    }

    /// Whether what is slow, or a single frequency, is more than chance makes of noise.
    pub(super) fn is_more_than_noise(&self) -> bool {
        /// The power of noise at one frequency is distributed exponentially: once in 10⁶ it
        /// exceeds its mean so far.
        const BY_CHANCE: f64 = 14.0;
        self.ratio() > SLOW_RATIO || self.greatest > BY_CHANCE * self.other_noise
    }

    /// Variance of the real part of one block sum. Where slow changes stand out of the noise without
    /// spoiling the tone, they are the noise that matters to it.
    pub(super) fn noise(&self) -> f64 {
        if self.ratio() > SLOW_RATIO / 2.0 { self.slow_noise } else { self.pooled }
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
