//! When something begins to sound.
//!
//! A note that sounds is a sum of decaying sinusoids, which beat. In a band so narrow that it holds
//! few of them the next value follows from the last two, x̂(t) = c₁·x(t − 1) + c₂·x(t − 2), whatever
//! they do to each other; noise and hum leave as much that does not follow as they left before. What
//! is struck, plucked or tongued anew does not follow from anything: it is **new energy**, and in
//! many bands at once.
//!
//! **Frames.** A Hann window of 21 ms every 5 ms; every second bin, above 5 kHz every fourth, up to
//! 16 kHz.
//!
//! **Prediction.** c₁ and c₂ of each bin by least squares over what came before, forgotten with a
//! time constant of 60 ms (the covariance method of linear prediction: J. Makhoul, Proc. IEEE 63,
//! 1975).
//!
//! **Novelty.** e = |x − x̂|² over what it was of late, ln(e/ē); where x has less power than x̂ it is
//! no new energy and counts as 0 at most. Its mean over the bins of each of four bands, in nats: 0
//! for what goes on, 2 to 20 where something begins.
//!
//! **Persistence.** A knock passes and leaves what sounds as it was. So x̂ is carried on from 15 ms
//! before to 45 ms after, and what it misses by is compared with what as long a prediction missed by
//! before anything was new: ln of the two, again per band.

use std::collections::VecDeque;

use pulp::{Arch, Simd, WithSimd};

use crate::lanes::dot;
use crate::transform::RealTransform;
use crate::units::amplitude_from_db;
use crate::window::WindowKind;

/// Below this there is nothing to hear, in dBFS.
pub(crate) const NOTHING_DB: f64 = -110.0;

/// A frame lasts about so long, and another follows after so long, in seconds.
const FRAME_S: f64 = 0.0213;
const HOP_S: f64 = 0.005;
/// Edges of the bands in Hz: of each the bins are averaged, so that none outweighs the others.
const BANDS_HZ: [f64; BANDS + 1] = [60.0, 400.0, 1600.0, 5000.0, 16_000.0];
pub(crate) const BANDS: usize = 4;
/// A window smears a bin over its neighbours: every second one holds all there is, and the highest
/// band has more than it needs.
const BIN_STEPS: [usize; BANDS] = [2, 2, 2, 4];
/// Time constants of what is learnt of the sound, and of what it did not foretell, in seconds: a
/// few periods of the bass, and half the time between two fast repetitions.
const SOUND_MEMORY_S: f64 = 0.06;
const MISFIT_MEMORY_S: f64 = 0.05;
/// Noise is known from longer, unless it has just been louder by e^½.
const NOISE_MEMORY_S: f64 = 0.3;
const BURST_SHARE: f32 = 0.6;
/// The geometric mean of noise powers is e^−0.577 of their mean.
const NOISE_SHARE: f32 = 0.56;
/// A louder moment moves the noise by four times its value at most.
const NOISE_STEP: f32 = 4.0;
/// Frames overlap: what is learnt stays so many frames behind.
const BEHIND: usize = 2;
/// What is so far below the loudest of late is not heard beside it, in dB; that is forgotten at
/// 40 dB/s.
const UNHEARD_DB: f64 = -75.0;
const FORGETTING_DB_PER_S: f64 = 40.0;
/// Regularisation of the normal equations, as a share of their trace.
const RIDGE: f32 = 5e-4;
/// Frames from which a prediction is carried on before a moment, and how far past it.
const CARRIED_BEFORE: usize = 3;
const CARRIED_PAST: usize = 9;
const CARRIED: usize = CARRIED_BEFORE + CARRIED_PAST;
/// Its last frames are compared.
const COMPARED: usize = 4;
/// A moment is the greatest within so many frames to either side.
const APART: usize = 6;
/// The lowest band has few bins, which scatter more.
const WEIGHTS: [f32; BANDS] = [0.7, 1.0, 1.0, 1.0];
/// Moments of less novelty than this, in nats, are not kept: noise reaches it ten times a second.
const LEAST_NOVELTY: f32 = 0.6;

/// A moment at which something may begin.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Onset {
    /// Seconds from the first sample, and their standard uncertainty.
    pub(crate) time_s: f64,
    pub(crate) time_s_u: f64,
    /// Power of the samples after it over that of those before, the greatest of what is weighed.
    pub(crate) rise: f64,
    /// New energy, in nats: the greatest of the bands.
    pub(crate) novelty: f32,
    /// The second greatest of the bands.
    pub(crate) breadth: f32,
    /// How much of what was foretold is other than that for good, in nats: the sum over the bands.
    pub(crate) persistence: f32,
    /// The same where there is more than was foretold.
    pub(crate) growth: f32,
    /// Largest power of the samples after it, as the squared amplitude of a sine.
    pub(crate) power: f64,
}

impl Onset {
    /// Whether it is an onset on its own evidence: beats, breath, hum and rumble reach less; what
    /// is softer than the note that still sounds is new in few bands, but stays.
    pub(crate) fn is_certain(&self) -> bool {
        // A knock is new by much more than stays of it.
        let stays = self.persistence > (0.8 * self.novelty).max(2.4);
        (self.novelty > 1.7 && self.breadth > 0.3 && stays)
            || (self.novelty > 1.5 && self.growth > 6.0)
    }

    /// Whether it is seen in the samples, and not only in spectra.
    pub(crate) fn is_sharp(&self) -> bool {
        self.rise > 4.0
    }

    /// Whether it is one, if the fundamental is another than before a silence.
    pub(crate) fn is_likely(&self) -> bool {
        self.novelty > 1.2 && self.growth > 2.0
    }

    /// Whether it can be a slur, if the fundamental changes too: new partials come in softly.
    pub(crate) fn is_slur(&self) -> bool {
        self.novelty > LEAST_NOVELTY && self.growth > 1.2
    }
}

/// Bins that are worked on side by side.
type Lanes = [f32; 8];

/// The bins of a frame, real and imaginary parts apart.
#[derive(Debug, Clone, Default)]
struct Bins {
    re: Vec<Lanes>,
    im: Vec<Lanes>,
}

impl Bins {
    fn zeros(count: usize) -> Self {
        Self { re: vec![Lanes::default(); count], im: vec![Lanes::default(); count] }
    }

    fn at(&self, k: usize) -> (f32, f32) {
        (self.re[k / 8][k % 8], self.im[k / 8][k % 8])
    }
}

/// A frame, how its bins go on, and what of it was not foretold.
#[derive(Debug, Clone)]
struct Frame {
    bins: Bins,
    first: Bins,
    second: Bins,
    misfit: Vec<Lanes>,
    novelty: [f32; BANDS],
    number: u64,
}

/// Sums over what came before: Σ|x₁|², Σ|x₂|², Σx₁*x₂, Σx₁*x₀, Σx₂*x₀.
#[derive(Debug, Clone)]
struct Sums {
    one: Vec<Lanes>,
    two: Vec<Lanes>,
    cross: Bins,
    to_one: Bins,
    to_two: Bins,
}

/// Finds when something begins in samples that arrive block by block.
#[derive(Clone)]
pub(crate) struct OnsetFinder {
    rate_hz: f64,
    hop: usize,
    hop_s: f64,
    window: Vec<f32>,
    transform: RealTransform<f32>,
    work: Vec<f32>,
    /// Samples from the start of the next frame on, after some that are done with.
    samples: Vec<f32>,
    done: usize,
    /// Numbers of the bins used; each band is filled up to whole lanes with what does not count.
    used: Vec<[usize; 8]>,
    /// 1 for bins used, 0 for others.
    counts: Vec<Lanes>,
    /// The bands as ranges of lanes, and how many bins they have.
    bands: [(std::ops::Range<usize>, usize); BANDS],
    sums: Sums,
    /// What was not foretold of late, and for longer.
    misfit: Vec<Lanes>,
    noise: Vec<Lanes>,
    loudest: f64,
    frames: VecDeque<Frame>,
    next: u64,
    fine: FineCourse,
    found: Vec<Onset>,
}

impl OnsetFinder {
    /// For samples of a rate.
    pub(crate) fn new(rate_hz: f64) -> Self {
        let length = ((FRAME_S * rate_hz).log2().round().exp2() as usize).max(32);
        let hop = ((HOP_S * rate_hz).round() as usize).max(1);
        let bin_hz = rate_hz / length as f64;
        let highest_hz = 0.48 * rate_hz;
        let (mut used, mut counts) = (Vec::new(), Vec::new());
        let bands = std::array::from_fn(|n| {
            let start = used.len();
            let hz = |bin: &usize| *bin as f64 * bin_hz;
            let of_band = (1..).map(|k| k * BIN_STEPS[n]).skip_while(|bin| hz(bin) < BANDS_HZ[n]);
            let of_band = of_band.take_while(|bin| hz(bin) < BANDS_HZ[n + 1].min(highest_hz));
            let of_band: Vec<usize> = of_band.collect();
            for bins in of_band.chunks(8) {
                used.push(std::array::from_fn(|lane| bins.get(lane).copied().unwrap_or(0)));
                counts.push(std::array::from_fn(|lane| f32::from(lane < bins.len())));
            }
            (start..used.len(), of_band.len())
        });
        let count = used.len();
        let window = WindowKind::Hann.samples(length);
        // A full-scale sine has the power 1 in its bin.
        let scale = 2.0 / window.iter().sum::<f64>();
        Self {
            rate_hz,
            hop,
            hop_s: hop as f64 / rate_hz,
            window: window.into_iter().map(|w| (scale * w) as f32).collect(),
            transform: RealTransform::new(length),
            work: vec![0.0; length],
            samples: Vec::new(),
            done: 0,
            used,
            counts,
            bands,
            sums: Sums {
                one: vec![Lanes::default(); count],
                two: vec![Lanes::default(); count],
                cross: Bins::zeros(count),
                to_one: Bins::zeros(count),
                to_two: Bins::zeros(count),
            },
            misfit: Vec::new(),
            noise: Vec::new(),
            loudest: amplitude_from_db(NOTHING_DB).powi(2),
            frames: VecDeque::new(),
            next: 0,
            fine: FineCourse::new(rate_hz),
            found: Vec::new(),
        }
    }

    /// Takes the next samples.
    pub(crate) fn push(&mut self, samples: &[f32]) {
        // The fine course is kept for a quarter of a second: a moment must be looked at before.
        for block in samples.chunks(self.window.len()) {
            self.push_block(block);
        }
    }

    fn push_block(&mut self, samples: &[f32]) {
        self.fine.push(samples);
        self.samples.extend_from_slice(samples);
        let length = self.window.len();
        while self.samples.len() >= self.done + length {
            let held = &self.samples[self.done..self.done + length];
            for ((work, x), w) in self.work.iter_mut().zip(held).zip(&self.window) {
                *work = x * w;
            }
            self.done += self.hop;
            self.read_frame();
        }
        // Samples are moved seldom.
        if self.done > 16 * length {
            self.samples.drain(..self.done);
            self.done = 0;
        }
    }

    /// What was found so far, in the order of time.
    pub(crate) fn found(&self) -> &[Onset] {
        &self.found
    }

    /// What was found since it was last asked, in the order of time.
    pub(crate) fn drain(&mut self) -> std::vec::Drain<'_, Onset> {
        self.found.drain(..)
    }

    /// What was found, in the order of time.
    pub(crate) fn finish(self) -> Vec<Onset> {
        self.found
    }

    fn read_frame(&mut self) {
        let count = self.used.len();
        let most = 2 * CARRIED + APART + 2;
        let mut frame = match self.frames.len() {
            full if full >= most => self.frames.pop_front(),
            _ => None,
        }
        .unwrap_or_else(|| Frame {
            bins: Bins::zeros(count),
            first: Bins::zeros(count),
            second: Bins::zeros(count),
            misfit: vec![Lanes::default(); count],
            novelty: [0.0; BANDS],
            number: 0,
        });
        let x = self.transform.forward(&mut self.work);
        let mut power = 0.0f32;
        let parts = frame.bins.re.iter_mut().zip(&mut frame.bins.im);
        for ((re, im), (used, counts)) in parts.zip(self.used.iter().zip(&self.counts)) {
            for lane in 0..8 {
                let bin = x[used[lane]];
                (re[lane], im[lane]) = (bin.re, bin.im);
                power += counts[lane] * bin.norm_sqr();
            }
        }
        let forgetting = amplitude_from_db(-FORGETTING_DB_PER_S * self.hop_s).powi(2);
        self.loudest = (self.loudest * forgetting).max(power.into());
        frame.number = self.next;
        self.next += 1;
        Arch::new().dispatch(Foretelling(self, &mut frame));
        self.frames.push_back(frame);
        Arch::new().dispatch(Learning(self));
        self.look();
    }

    /// What was to be expected of a frame, and how much of it is new.
    #[inline(always)]
    fn foretell(&self, frame: &mut Frame) {
        let unheard = (self.loudest * amplitude_from_db(UNHEARD_DB).powi(2)) as f32;
        let least = unheard.max(1e-14);
        frame.novelty = [0.0; BANDS];
        let held = self.frames.len();
        if held <= BEHIND + 1 {
            for values in [&mut frame.first, &mut frame.second] {
                values.re.fill(Lanes::default());
                values.im.fill(Lanes::default());
            }
            frame.misfit.fill([least; 8]);
            return;
        }
        let (one, two) = (&self.frames[held - 1].bins, &self.frames[held - 2].bins);
        let sums = &self.sums;
        for ((band, count), novelty) in self.bands.iter().zip(&mut frame.novelty) {
            // The product of ratios is the exponential of the sum of their logarithms.
            let mut products = [1.0f64; 8];
            for k in band.clone() {
                let (s_one, s_two) = (sums.one[k], sums.two[k]);
                let (s_cr, s_ci) = (sums.cross.re[k], sums.cross.im[k]);
                let (s_pr, s_pi) = (sums.to_one.re[k], sums.to_one.im[k]);
                let (s_qr, s_qi) = (sums.to_two.re[k], sums.to_two.im[k]);
                let (x_re, x_im) = (frame.bins.re[k], frame.bins.im[k]);
                let (a_re, a_im) = (one.re[k], one.im[k]);
                let (b_re, b_im) = (two.re[k], two.im[k]);
                let (of_late, noise, counts) = (self.misfit[k], self.noise[k], self.counts[k]);
                let (mut first_re, mut first_im) = (Lanes::default(), Lanes::default());
                let (mut second_re, mut second_im) = (Lanes::default(), Lanes::default());
                let (mut misfits, mut news) = (Lanes::default(), Lanes::default());
                for lane in 0..8 {
                    let ridge = RIDGE * (s_one[lane] + s_two[lane]) + least;
                    let (a, d) = (s_one[lane] + ridge, s_two[lane] + ridge);
                    let (cr, ci) = (s_cr[lane], s_ci[lane]);
                    let (pr, pi) = (s_pr[lane], s_pi[lane]);
                    let (qr, qi) = (s_qr[lane], s_qi[lane]);
                    let per = 1.0 / (a * d - (cr * cr + ci * ci));
                    let fr = (d * pr - (cr * qr - ci * qi)) * per;
                    let fi = (d * pi - (cr * qi + ci * qr)) * per;
                    let sr = (a * qr - (cr * pr + ci * pi)) * per;
                    let si = (a * qi - (cr * pi - ci * pr)) * per;
                    let (ar, ai, br, bi) = (a_re[lane], a_im[lane], b_re[lane], b_im[lane]);
                    let er = ar * fr - ai * fi + br * sr - bi * si;
                    let ei = ar * fi + ai * fr + br * si + bi * sr;
                    let (re, im) = (x_re[lane], x_im[lane]);
                    let misfit = (re - er) * (re - er) + (im - ei) * (im - ei) + least;
                    let late = BURST_SHARE * (of_late[lane] + least);
                    let usual = late.max(NOISE_SHARE * noise[lane]);
                    let ratio = (misfit / usual).clamp(1e-6, 1e12);
                    let has_more = re * re + im * im > er * er + ei * ei;
                    let new = if has_more { ratio } else { ratio.min(1.0) };
                    news[lane] = 1.0 + counts[lane] * (new - 1.0);
                    first_re[lane] = fr;
                    first_im[lane] = fi;
                    second_re[lane] = sr;
                    second_im[lane] = si;
                    misfits[lane] = misfit;
                }
                for (product, new) in products.iter_mut().zip(news) {
                    *product *= f64::from(new);
                }
                (frame.first.re[k], frame.first.im[k]) = (first_re, first_im);
                (frame.second.re[k], frame.second.im[k]) = (second_re, second_im);
                frame.misfit[k] = misfits;
            }
            let logs: f64 = products.iter().map(|product| product.ln()).sum();
            *novelty = (logs / (*count).max(1) as f64) as f32;
        }
    }

    /// Learns from the frame that is far enough behind.
    #[inline(always)]
    fn learn(&mut self) {
        let held = self.frames.len();
        let ago = |n: usize| held.checked_sub(n + 1).map(|n| &self.frames[n]);
        if let Some(frame) = ago(BEHIND) {
            let known = frame.number as f64 + 1.0;
            let share =
                |memory_s: f64| (1.0 - (-self.hop_s / memory_s).exp()).max(1.0 / known) as f32;
            let (of_misfit, of_noise) = (share(MISFIT_MEMORY_S), share(NOISE_MEMORY_S));
            if self.noise.is_empty() {
                self.misfit.clone_from(&frame.misfit);
                self.noise.clone_from(&frame.misfit);
            }
            let of_late = self.misfit.iter_mut().zip(&mut self.noise);
            for ((misfit, noise), new) in of_late.zip(&frame.misfit) {
                for lane in 0..8 {
                    misfit[lane] += of_misfit * (new[lane] - misfit[lane]);
                    let less = new[lane].min(NOISE_STEP * noise[lane]);
                    noise[lane] += of_noise * (less - noise[lane]);
                }
            }
        }
        let Some((x2, (x1, x0))) = ago(BEHIND + 1).zip(ago(BEHIND).zip(ago(BEHIND - 1))) else {
            return;
        };
        let (x0, x1, x2) = (&x0.bins, &x1.bins, &x2.bins);
        let keep = (-self.hop_s / SOUND_MEMORY_S).exp() as f32;
        let sums = &mut self.sums;
        for k in 0..sums.one.len() {
            // Copies, which nothing else can change: only so are they worked on side by side.
            let (a_re, a_im, b_re, b_im) = (x0.re[k], x0.im[k], x1.re[k], x1.im[k]);
            let (c_re, c_im) = (x2.re[k], x2.im[k]);
            let (mut one, mut two) = (sums.one[k], sums.two[k]);
            let (mut cross_re, mut cross_im) = (sums.cross.re[k], sums.cross.im[k]);
            let (mut one_re, mut one_im) = (sums.to_one.re[k], sums.to_one.im[k]);
            let (mut two_re, mut two_im) = (sums.to_two.re[k], sums.to_two.im[k]);
            for lane in 0..8 {
                let (ar, ai, br, bi) = (a_re[lane], a_im[lane], b_re[lane], b_im[lane]);
                let (cr, ci) = (c_re[lane], c_im[lane]);
                one[lane] = keep * one[lane] + (br * br + bi * bi);
                two[lane] = keep * two[lane] + (cr * cr + ci * ci);
                cross_re[lane] = keep * cross_re[lane] + (br * cr + bi * ci);
                cross_im[lane] = keep * cross_im[lane] + (br * ci - bi * cr);
                one_re[lane] = keep * one_re[lane] + (br * ar + bi * ai);
                one_im[lane] = keep * one_im[lane] + (br * ai - bi * ar);
                two_re[lane] = keep * two_re[lane] + (cr * ar + ci * ai);
                two_im[lane] = keep * two_im[lane] + (cr * ai - ci * ar);
            }
            (sums.one[k], sums.two[k]) = (one, two);
            (sums.cross.re[k], sums.cross.im[k]) = (cross_re, cross_im);
            (sums.to_one.re[k], sums.to_one.im[k]) = (one_re, one_im);
            (sums.to_two.re[k], sums.to_two.im[k]) = (two_re, two_im);
        }
    }

    /// Keeps the frame before the last ones if more is new in it than in those around.
    fn look(&mut self) {
        let held = self.frames.len();
        let Some(place) = held.checked_sub(CARRIED_PAST + COMPARED + 1) else { return };
        // The greatest of the bands and the second.
        let greatest = |n: usize| {
            let bands = self.frames[n].novelty.iter().zip(WEIGHTS);
            bands
                .map(|(novelty, weight)| weight * novelty)
                .fold((0.0f32, 0.0f32), |(a, b), x| if x > a { (x, a) } else { (a, b.max(x)) })
        };
        let novelty = |n: usize| greatest(n).0;
        let (here, breadth) = greatest(place);
        let around = place.saturating_sub(APART)..(place + APART + 1).min(held);
        let is_greatest =
            around.clone().all(|n| novelty(n) < here || (n >= place && novelty(n) <= here));
        if here < LEAST_NOVELTY || !is_greatest {
            return;
        }
        let half = 0.5 * self.window.len() as f64 / self.rate_hz;
        let frame_s = self.frames[place].number as f64 * self.hop_s + half;
        let Beginning { time_s, time_s_u, rise, power } = self.fine.begin(frame_s);
        let (persistence, growth) = self.persistence(place);
        let novelty = here;
        self.found.push(Onset {
            time_s,
            time_s_u,
            rise,
            novelty,
            breadth,
            persistence,
            growth,
            power,
        });
    }

    /// How much further off a long prediction is past a frame than before it, summed over bands; and
    /// where only bins count that have more power than foretold.
    fn persistence(&self, place: usize) -> (f32, f32) {
        let Some(begin) = place.checked_sub(CARRIED_BEFORE) else { return (0.0, 0.0) };
        let Some(before) = begin.checked_sub(CARRIED).filter(|n| *n > 0) else { return (0.0, 0.0) };
        let (after, usual) = (self.carried(begin), self.carried(before));
        let (mut persistence, mut growth) = (0.0, 0.0);
        for (band, count) in &self.bands {
            let bins = 8 * band.start..8 * band.start + count;
            let (mut all, mut more) = (0.0, 0.0);
            for ((misfit, has_more), (usual, _)) in after[bins.clone()].iter().zip(&usual[bins]) {
                let ratio = (misfit / usual).ln();
                all += ratio;
                more += if *has_more { ratio } else { ratio.min(0.0) };
            }
            let count = (*count).max(1) as f32;
            persistence += (all / count).max(0.0);
            growth += (more / count).max(0.0);
        }
        (persistence, growth)
    }

    /// Misfit of the last frames of a prediction carried on from a frame, and whether there is more
    /// than it foretold.
    fn carried(&self, begin: usize) -> Vec<(f32, bool)> {
        let (from, before) = (&self.frames[begin], &self.frames[begin - 1]);
        (0..8 * self.used.len())
            .map(|k| {
                let (mut a, mut b) = (from.bins.at(k), before.bins.at(k));
                let (c1, c2) = (from.first.at(k), from.second.at(k));
                // What grows without end foretells nothing.
                let limit = 16.0 * (a.0 * a.0 + a.1 * a.1);
                let (mut misfit, mut more) = (1e-13, 0.0);
                for step in 1..=CARRIED {
                    let mut next = (
                        a.0 * c1.0 - a.1 * c1.1 + b.0 * c2.0 - b.1 * c2.1,
                        a.0 * c1.1 + a.1 * c1.0 + b.0 * c2.1 + b.1 * c2.0,
                    );
                    let power = next.0 * next.0 + next.1 * next.1;
                    if power > limit {
                        let less = (limit / power).sqrt();
                        next = (next.0 * less, next.1 * less);
                    }
                    (a, b) = (next, a);
                    if step > CARRIED - COMPARED {
                        let (re, im) = self.frames[begin + step].bins.at(k);
                        misfit += (re - a.0).powi(2) + (im - a.1).powi(2);
                        more += re * re + im * im - (a.0 * a.0 + a.1 * a.1);
                    }
                }
                (misfit, more > 0.0)
            })
            .collect()
    }
}

struct Foretelling<'a>(&'a OnsetFinder, &'a mut Frame);

impl WithSimd for Foretelling<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) {
        self.0.foretell(self.1);
    }
}

struct Learning<'a>(&'a mut OnsetFinder);

impl WithSimd for Learning<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) {
        self.0.learn();
    }
}

/// Where a sound begins.
struct Beginning {
    time_s: f64,
    time_s_u: f64,
    /// Power after it over that before.
    rise: f64,
    /// Largest power of the samples soon after.
    power: f64,
}

/// The powers of the last samples, of their differences and of their second differences, in short
/// blocks: these weigh high frequencies by 6 and 12 dB per octave.
#[derive(Debug, Clone)]
struct FineCourse {
    block: usize,
    block_s: f64,
    /// The last two samples of the block before, and those of the block that is being filled.
    values: Vec<f32>,
    powers: VecDeque<[f64; 3]>,
    /// Number of the first of them.
    first: u64,
}

impl FineCourse {
    /// Length of a block in seconds, and how long they are kept.
    const BLOCK_S: f64 = 0.00125;
    const KEPT_S: f64 = 0.25;

    fn new(rate_hz: f64) -> Self {
        let block = ((Self::BLOCK_S * rate_hz).round() as usize).max(1);
        Self {
            block,
            block_s: block as f64 / rate_hz,
            values: vec![0.0; 2],
            powers: VecDeque::new(),
            first: 0,
        }
    }

    fn push(&mut self, samples: &[f32]) {
        let mut rest = samples;
        while !rest.is_empty() {
            let missing = self.block + 2 - self.values.len();
            let (now, later) = rest.split_at(rest.len().min(missing));
            rest = later;
            self.values.extend_from_slice(now);
            if self.values.len() == self.block + 2 {
                self.add_block();
            }
        }
    }

    /// Adds a block that is full: as a whole, so that it is the same however its samples came.
    fn add_block(&mut self) {
        let values = &mut self.values;
        let last = [values[self.block], values[self.block + 1]];
        let mut sums = [dot(&values[2..], &values[2..]); 3];
        for (order, sum) in (1..).zip(&mut sums[1..]) {
            for n in 0..values.len() - 1 {
                values[n] = values[n + 1] - values[n];
            }
            values.pop();
            let new = &values[2 - order..];
            *sum = dot(new, new);
        }
        values.clear();
        values.extend_from_slice(&last);
        self.powers.push_back(sums.map(|sum| 2.0 * f64::from(sum) / self.block as f64));
        if self.powers.len() as f64 * self.block_s > Self::KEPT_S {
            self.powers.pop_front();
            self.first += 1;
        }
    }

    /// Where one of the powers rises most near a time. It is known to a block, and to what noise hides
    /// of the time in which it rises to half of what it reaches: an amplitude that begins as the
    /// square of the time is hidden for the fourth root of noise over power.
    fn begin(&self, near_s: f64) -> Beginning {
        /// Where it is looked for, before and after.
        const BEFORE_S: f64 = 0.015;
        const AFTER_S: f64 = 0.0125;
        /// What is compared: so many blocks before with so many after.
        const QUIET: usize = 8;
        const LOUD: usize = 4;
        const SOON: usize = 16;
        /// Share of the power after it that the first block of a rise has.
        const BEGUN: f64 = 0.1;
        /// A rise is over after so many blocks; what is not known of its beginning, in blocks, as a
        /// share of what is hidden of it, and where none is seen, in seconds.
        const RISES: usize = 40;
        const OF_BLOCK: f64 = 0.6;
        const OF_RISE: f64 = 0.7;
        const UNSEEN_S: f64 = 0.01;
        /// A steep rise is followed back to where it left what was before, as ratios of powers.
        const STEEP: f64 = 10.0;
        const LEAVES: f64 = 4.0;
        let place = |time_s: f64| {
            let block = (time_s / self.block_s).round().max(0.0) as u64;
            (block.saturating_sub(self.first) as usize).min(self.powers.len())
        };
        let mean = |which: usize, range: std::ops::Range<usize>| {
            let count = range.len().max(1) as f64;
            self.powers.range(range).map(|powers| powers[which]).sum::<f64>() / count + 1e-16
        };
        let largest = |from: usize| {
            let soon = from..(from + SOON).min(self.powers.len());
            self.powers.range(soon).map(|powers| powers[0]).fold(0.0, f64::max)
        };
        let (from, to) = (place(near_s - BEFORE_S), place(near_s + AFTER_S));
        // The rise, where, in which power, and the power after it.
        let mut best = (0.0, None);
        for n in from.max(QUIET)..to.min(self.powers.len().saturating_sub(LOUD)) {
            for which in 0..3 {
                let after = mean(which, n..n + LOUD);
                let rise = after / mean(which, n - QUIET..n);
                if rise > best.0 {
                    best = (rise, Some((n, which, after)));
                }
            }
        }
        match best {
            (rise, Some((n, which, after))) if rise > 1.5 => {
                // A short burst is anywhere in what is compared: it begins with its first block.
                let is_quiet = |n: &usize| self.powers[*n][which] < BEGUN * after;
                let begin = (n..n + LOUD).find(|n| !is_quiet(n)).unwrap_or(n);
                // A low note rises over a period: it begins where it leaves what was before.
                let quiet = mean(which, n.saturating_sub(2 * QUIET)..n - QUIET);
                let rises = |n: &usize| self.powers[*n][which] > LEAVES * quiet;
                let rising = (n - QUIET..begin).rev().take_while(rises).count();
                let begin = if rise > STEEP { begin - rising } else { begin };
                let ahead = begin..(begin + RISES).min(self.powers.len());
                let course = || self.powers.range(ahead.clone()).map(|powers| powers[which]);
                let most = course().fold(0.0, f64::max);
                let risen = course().take_while(|power| *power < 0.5 * most).count() as f64;
                Beginning {
                    time_s: (self.first + begin as u64) as f64 * self.block_s,
                    time_s_u: (self.block_s * OF_BLOCK.hypot(OF_RISE * risen * rise.powf(-0.25)))
                        .hypot(UNSEEN_S / rise),
                    rise,
                    power: largest(begin),
                }
            }
            (rise, _) => Beginning {
                time_s: near_s,
                time_s_u: UNSEEN_S,
                rise,
                power: largest(place(near_s)),
            },
        }
    }
}

/// The first sample between two that stands out of what is before, and is more than a trace of what
/// comes.
pub(crate) fn note_onset(sound: &[f32], rate_hz: f64, from: usize, to: usize) -> usize {
    const BLOCK_S: f64 = 0.005;
    const PEAK_WITHIN_S: f64 = 0.5;
    const TRACE: f32 = 0.004;
    const STANDS_OUT: f32 = 6.0;
    let block = ((BLOCK_S * rate_hz) as usize).max(1);
    let rms = |block: &[f32]| {
        (block.iter().map(|x| x * x).sum::<f32>() / block.len().max(1) as f32).sqrt()
    };
    let quietest = sound[from..to].chunks_exact(block).map(rms).fold(f32::INFINITY, f32::min);
    let within = (from + (PEAK_WITHIN_S * rate_hz) as usize).min(to);
    let peak = sound[from..to].iter().map(|x| x.abs()).fold(0.0, f32::max);
    let near_peak = sound[from..within].iter().map(|x| x.abs()).fold(0.0, f32::max);
    let peak = if near_peak > 0.1 * peak { near_peak } else { peak };
    // A sound that is there from the beginning has no quiet before it.
    let begins_at_once = rms(&sound[from..(from + block).min(to)]) > 0.1 * peak;
    let noise = if begins_at_once { 0.0 } else { quietest };
    let least = (STANDS_OUT * noise).max(TRACE * peak);
    let first = sound[from..to].iter().position(|x| x.abs() > least).unwrap_or(0);
    // Back to where it left the noise.
    let quiet = |n: &usize| sound[*n].abs() <= (2.0 * noise).max(0.1 * least);
    let reach = (from + first).saturating_sub(block).max(from)..from + first;
    reach.clone().rev().find(quiet).unwrap_or(reach.end)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::{
        PluckedString, StruckUnison, Vibrato, harmonics, mix, render, room, to_samples, white_noise,
    };
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    fn certain(sound: &[f64], rate_hz: f64) -> Vec<Onset> {
        let mut finder = OnsetFinder::new(rate_hz);
        to_samples(sound).chunks(4001).for_each(|block| finder.push(block));
        finder.finish().into_iter().filter(Onset::is_certain).collect()
    }

    #[test]
    fn a_pluck_is_placed_within_milliseconds_at_any_rate() {
        let mut worst = 0.0f64;
        for case in 0..24 {
            let mut random = ChaCha8Rng::seed_from_u64(case);
            let rate_hz = [44_100.0, 48_000.0, 96_000.0][case as usize % 3];
            let frequency_hz = 80.0 * random.random_range(0.0..2.2f64).exp2();
            let onset_s = random.random_range(0.3..0.6);
            let mut sound = white_noise(case, 1e-4, (1.5 * rate_hz) as usize);
            let string = PluckedString { frequency_hz, ..PluckedString::default() };
            let start = (onset_s * rate_hz) as usize;
            mix(&mut sound[start..], &string.render(rate_hz, 1.3 - onset_s));
            let found = certain(&sound, rate_hz);
            // The end of the sound, cut off, is none that grows.
            let grown: Vec<&Onset> = found.iter().filter(|onset| onset.growth > 1.0).collect();
            assert_eq!(grown.len(), 1, "{case}: {frequency_hz} Hz at {rate_hz} Hz: {found:?}");
            let error_s = grown[0].time_s - onset_s;
            if error_s.abs() > 0.002 {
                println!("{frequency_hz:.0} Hz at {rate_hz} Hz: {:.1} ms", 1e3 * error_s);
            }
            worst = worst.max(error_s.abs());
        }
        println!("onsets of 24 plucks: worst {:.1} ms", 1e3 * worst);
        assert!(worst < 0.003);
    }

    /// Beats of a unison, a vibrato, hum and rumble under a tail, and a knock on a string that
    /// sounds begin nothing.
    #[test]
    fn what_goes_on_begins_nothing() {
        let rate_hz = 48_000.0;
        for case in 0..24 {
            let mut random = ChaCha8Rng::seed_from_u64(100 + case);
            let frequency_hz = 60.0 * random.random_range(0.0..4.0f64).exp2();
            let mut sound = room(case, 1e-5, 15.0, 5.0, rate_hz, 4 * 48_000);
            if case % 2 == 0 {
                let string = PluckedString { frequency_hz, t60_s: 3.0, ..PluckedString::default() };
                let unison = StruckUnison {
                    string,
                    strings: 3,
                    spread_cents: random.random_range(0.5..5.0),
                    aftersound_db: -15.0,
                    aftersound_lasts: 3.0,
                    rise_s: 0.002,
                    knock_db: -60.0,
                    knock_hz: 300.0,
                };
                mix(&mut sound[9600..], &unison.render(case, rate_hz, 3.8));
            } else {
                let vibrato = Vibrato { rate_hz: random.random_range(3.0..8.0), depth_cents: 40.0 };
                let tone = harmonics(frequency_hz, &[0.2, 0.1, 0.05, 0.03]);
                let mut tone = render(&tone, vibrato, rate_hz, 3.8);
                crate::synth::fade(&mut tone, 0.02, rate_hz);
                mix(&mut sound[9600..], &tone);
            }
            // A knock, which leaves what sounds as it was.
            sound[96_000] += 0.4;
            let found = certain(&sound, rate_hz);
            let later: Vec<&Onset> =
                found.iter().filter(|o| (0.3..3.9).contains(&o.time_s)).collect();
            assert!(later.is_empty(), "{case}: {frequency_hz} Hz: {later:?}");
            assert!(found.iter().any(|onset| (onset.time_s - 0.2).abs() < 0.01), "{case}");
        }
    }
}
