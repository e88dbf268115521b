//! When something begins to sound.
//!
//! A note that sounds is a sum of decaying sinusoids, which beat. In a band so narrow that it holds
//! few of them the next value follows from the last two, x̂(t) = c₁·x(t − 1) + c₂·x(t − 2), whatever
//! they do to each other; noise and hum leave as much that does not follow as they left before. What
//! is struck, plucked or tongued anew does not follow from anything: it is **new energy**, and in
//! many bands at once.
//!
//! **Frames.** A Hann window of 21 ms every 5 ms; every second bin, up to 16 kHz.
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
//! before to 60 ms after, and what it misses by is compared with what as long a prediction missed by
//! before anything was new: ln of the two, again per band.

use std::collections::VecDeque;

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
/// A window smears a bin over its neighbours: every second one holds all there is.
const BIN_STEP: usize = 2;
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
    /// Seconds from the first sample.
    pub(crate) time_s: f64,
    /// New energy, in nats: the greatest of the bands.
    pub(crate) novelty: f32,
    /// How much of it stays, in nats: the sum over the bands.
    pub(crate) persistence: f32,
    /// Largest power of the samples after it, as the squared amplitude of a sine.
    pub(crate) power: f64,
}

impl Onset {
    /// Whether it is an onset on its own evidence. Of recorded single notes, beats, breath, hum,
    /// rumble and crossfades reach less once in ten minutes; what is softer than the note that
    /// still sounds is new in few bands, but stays.
    pub(crate) fn is_certain(&self) -> bool {
        (self.novelty > 1.7 && self.persistence > 3.0)
            || (self.novelty > 1.4 && self.persistence > 8.0)
    }

    /// Whether it can be a slur, if the fundamental changes too: new partials come in softly.
    pub(crate) fn is_slur(&self) -> bool {
        self.novelty > LEAST_NOVELTY && self.persistence > 1.2
    }
}

/// The bins of a frame, real and imaginary parts apart so that they are worked on side by side.
#[derive(Debug, Clone, Default)]
struct Bins {
    re: Vec<f32>,
    im: Vec<f32>,
}

impl Bins {
    fn zeros(count: usize) -> Self {
        Self { re: vec![0.0; count], im: vec![0.0; count] }
    }
}

/// A frame, how its bins go on, and what of it was not foretold.
#[derive(Debug, Clone, Default)]
struct Frame {
    bins: Bins,
    first: Bins,
    second: Bins,
    misfit: Vec<f32>,
    novelty: [f32; BANDS],
    number: u64,
}

/// Sums over what came before: Σ|x₁|², Σ|x₂|², Σx₁*x₂, Σx₁*x₀, Σx₂*x₀.
#[derive(Debug, Clone)]
struct Sums {
    one: Vec<f32>,
    two: Vec<f32>,
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
    window: Vec<f64>,
    transform: RealTransform,
    work: Vec<f64>,
    /// Samples from the start of the next frame on.
    samples: VecDeque<f32>,
    /// Numbers of bins used, and the bands as ranges of them.
    used: Vec<usize>,
    bands: [std::ops::Range<usize>; BANDS],
    sums: Sums,
    /// What was not foretold of late, and for longer.
    misfit: Vec<f32>,
    noise: Vec<f32>,
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
        let highest = BANDS_HZ[BANDS].min(0.48 * rate_hz);
        let used: Vec<usize> = (1..)
            .map(|n| n * BIN_STEP)
            .take_while(|bin| (*bin as f64) * bin_hz < highest)
            .collect();
        let place = |hz: f64| used.partition_point(|bin| (*bin as f64) * bin_hz < hz);
        let bands = std::array::from_fn(|n| place(BANDS_HZ[n])..place(BANDS_HZ[n + 1]));
        let count = used.len();
        let window = WindowKind::Hann.samples(length);
        // A full-scale sine has the power 1 in its bin.
        let scale = 2.0 / window.iter().sum::<f64>();
        Self {
            rate_hz,
            hop,
            hop_s: hop as f64 / rate_hz,
            window: window.into_iter().map(|w| scale * w).collect(),
            transform: RealTransform::new(length),
            work: vec![0.0; length],
            samples: VecDeque::new(),
            used,
            bands,
            sums: Sums {
                one: vec![0.0; count],
                two: vec![0.0; count],
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
        self.fine.push(samples);
        self.samples.extend(samples);
        let length = self.window.len();
        while self.samples.len() >= length {
            let (front, back) = self.samples.as_slices();
            let held = front.iter().chain(back);
            for ((work, x), w) in self.work.iter_mut().zip(held).zip(&self.window) {
                *work = f64::from(*x) * w;
            }
            self.samples.drain(..self.hop);
            self.read_frame();
        }
    }

    /// What was found so far, in the order of time.
    pub(crate) fn found(&self) -> &[Onset] {
        &self.found
    }

    /// What was found, in the order of time.
    pub(crate) fn finish(self) -> Vec<Onset> {
        self.found
    }

    fn read_frame(&mut self) {
        let most = 2 * CARRIED + APART + 2;
        let mut frame = match self.frames.len() {
            full if full >= most => self.frames.pop_front().unwrap_or_default(),
            _ => Frame::default(),
        };
        let x = self.transform.forward(&mut self.work);
        let mut power = 0.0;
        frame.bins.re.clear();
        frame.bins.im.clear();
        for bin in &self.used {
            power += x[*bin].norm_sqr();
            frame.bins.re.push(x[*bin].re as f32);
            frame.bins.im.push(x[*bin].im as f32);
        }
        let forgetting = amplitude_from_db(-FORGETTING_DB_PER_S * self.hop_s).powi(2);
        self.loudest = (self.loudest * forgetting).max(power);
        frame.number = self.next;
        self.next += 1;
        self.foretell(&mut frame);
        self.frames.push_back(frame);
        self.learn();
        self.look();
    }

    /// What was to be expected of a frame, and how much of it is new.
    fn foretell(&self, frame: &mut Frame) {
        let count = self.used.len();
        let unheard = (self.loudest * amplitude_from_db(UNHEARD_DB).powi(2)) as f32;
        let least = unheard.max(1e-14);
        for values in [&mut frame.misfit, &mut frame.first.re, &mut frame.first.im] {
            values.resize(count, 0.0);
        }
        for values in [&mut frame.second.re, &mut frame.second.im] {
            values.resize(count, 0.0);
        }
        frame.novelty = [0.0; BANDS];
        let held = self.frames.len();
        if held < 2 {
            frame.misfit.fill(least);
            return;
        }
        let (one, two) = (&self.frames[held - 1].bins, &self.frames[held - 2].bins);
        let sums = &self.sums;
        let knows_noise = !self.noise.is_empty();
        let mut ratios = vec![1.0f32; count];
        for k in 0..count {
            let ridge = RIDGE * (sums.one[k] + sums.two[k]) + least;
            let (a, d) = (sums.one[k] + ridge, sums.two[k] + ridge);
            let (cr, ci) = (sums.cross.re[k], sums.cross.im[k]);
            let (pr, pi) = (sums.to_one.re[k], sums.to_one.im[k]);
            let (qr, qi) = (sums.to_two.re[k], sums.to_two.im[k]);
            let per = 1.0 / (a * d - (cr * cr + ci * ci));
            let first =
                ((d * pr - (cr * qr - ci * qi)) * per, (d * pi - (cr * qi + ci * qr)) * per);
            let second =
                ((a * qr - (cr * pr + ci * pi)) * per, (a * qi - (cr * pi - ci * pr)) * per);
            (frame.first.re[k], frame.first.im[k]) = first;
            (frame.second.re[k], frame.second.im[k]) = second;
            let expected = (
                one.re[k] * first.0 - one.im[k] * first.1 + two.re[k] * second.0
                    - two.im[k] * second.1,
                one.re[k] * first.1 + one.im[k] * first.0 + two.re[k] * second.1
                    + two.im[k] * second.0,
            );
            let (re, im) = (frame.bins.re[k], frame.bins.im[k]);
            let misfit = (re - expected.0).powi(2) + (im - expected.1).powi(2) + least;
            frame.misfit[k] = misfit;
            let has_more =
                re * re + im * im > expected.0 * expected.0 + expected.1 * expected.1;
            let usual = if knows_noise {
                (BURST_SHARE * (self.misfit[k] + least)).max(NOISE_SHARE * self.noise[k])
            } else {
                misfit
            };
            let ratio = misfit / usual;
            ratios[k] = if has_more { ratio } else { ratio.min(1.0) };
        }
        for (band, novelty) in self.bands.iter().zip(&mut frame.novelty) {
            let logs: f32 = ratios[band.clone()].iter().map(|ratio| ratio.ln()).sum();
            *novelty = if band.is_empty() { 0.0 } else { logs / band.len() as f32 };
        }
    }

    /// Learns from the frame that is far enough behind.
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
            for ((misfit, noise), new) in
                self.misfit.iter_mut().zip(&mut self.noise).zip(&frame.misfit)
            {
                *misfit += of_misfit * (new - *misfit);
                *noise += of_noise * (new.min(NOISE_STEP * *noise) - *noise);
            }
        }
        let Some((x2, (x1, x0))) = ago(BEHIND + 1).zip(ago(BEHIND).zip(ago(BEHIND - 1))) else {
            return;
        };
        let (x0, x1, x2) = (&x0.bins, &x1.bins, &x2.bins);
        let keep = (-self.hop_s / SOUND_MEMORY_S).exp() as f32;
        let sums = &mut self.sums;
        for k in 0..self.used.len() {
            let [a, b, c] = [x0, x1, x2].map(|x| (x.re[k], x.im[k]));
            sums.one[k] = keep * sums.one[k] + b.0 * b.0 + b.1 * b.1;
            sums.two[k] = keep * sums.two[k] + c.0 * c.0 + c.1 * c.1;
            sums.cross.re[k] = keep * sums.cross.re[k] + b.0 * c.0 + b.1 * c.1;
            sums.cross.im[k] = keep * sums.cross.im[k] + b.0 * c.1 - b.1 * c.0;
            sums.to_one.re[k] = keep * sums.to_one.re[k] + b.0 * a.0 + b.1 * a.1;
            sums.to_one.im[k] = keep * sums.to_one.im[k] + b.0 * a.1 - b.1 * a.0;
            sums.to_two.re[k] = keep * sums.to_two.re[k] + c.0 * a.0 + c.1 * a.1;
            sums.to_two.im[k] = keep * sums.to_two.im[k] + c.0 * a.1 - c.1 * a.0;
        }
    }

    /// Keeps the frame before the last ones if more is new in it than in those around.
    fn look(&mut self) {
        let held = self.frames.len();
        let Some(place) = held.checked_sub(CARRIED_PAST + COMPARED + 1) else { return };
        let novelty = |n: usize| {
            let bands = self.frames[n].novelty.iter().zip(WEIGHTS);
            bands.map(|(novelty, weight)| weight * novelty).fold(0.0, f32::max)
        };
        let here = novelty(place);
        let around = place.saturating_sub(APART)..(place + APART + 1).min(held);
        let is_greatest =
            around.clone().all(|n| novelty(n) < here || (n >= place && novelty(n) <= here));
        if here < LEAST_NOVELTY || !is_greatest {
            return;
        }
        let half = 0.5 * self.window.len() as f64 / self.rate_hz;
        let frame_s = self.frames[place].number as f64 * self.hop_s + half;
        let (time_s, power) = self.fine.begin(frame_s);
        let persistence = self.persistence(place);
        self.found.push(Onset { time_s, novelty: here, persistence, power });
    }

    /// How much further off a long prediction is past a frame than before it, summed over bands.
    fn persistence(&self, place: usize) -> f32 {
        let Some(begin) = place.checked_sub(CARRIED_BEFORE) else { return 0.0 };
        let Some(before) = begin.checked_sub(CARRIED).filter(|n| *n > 0) else { return 0.0 };
        let (after, usual) = (self.carried(begin), self.carried(before));
        let ratio = |((misfit, has_more), (usual, _)): (&(f32, bool), &(f32, bool))| {
            let ratio = (misfit / usual).ln();
            if *has_more { ratio } else { ratio.min(0.0) }
        };
        let ratios: Vec<f32> = after.iter().zip(&usual).map(ratio).collect();
        let of_band = |band: &std::ops::Range<usize>| {
            let sum: f32 = ratios[band.clone()].iter().sum();
            if band.is_empty() { 0.0 } else { (sum / band.len() as f32).max(0.0) }
        };
        self.bands.iter().map(of_band).sum()
    }

    /// Misfit of the last frames of a prediction carried on from a frame, and whether there is more
    /// than it foretold.
    fn carried(&self, begin: usize) -> Vec<(f32, bool)> {
        let (from, before) = (&self.frames[begin], &self.frames[begin - 1]);
        (0..self.used.len())
            .map(|k| {
                let (mut a, mut b) =
                    ((from.bins.re[k], from.bins.im[k]), (before.bins.re[k], before.bins.im[k]));
                let (c1, c2) =
                    ((from.first.re[k], from.first.im[k]), (from.second.re[k], from.second.im[k]));
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
                        let bins = &self.frames[begin + step].bins;
                        let (re, im) = (bins.re[k], bins.im[k]);
                        misfit += (re - a.0).powi(2) + (im - a.1).powi(2);
                        more += re * re + im * im - (a.0 * a.0 + a.1 * a.1);
                    }
                }
                (misfit, more > 0.0)
            })
            .collect()
    }
}

/// The powers of the last samples, of their differences and of their second differences, in short
/// blocks: these weigh high frequencies by 6 and 12 dB per octave.
#[derive(Debug, Clone)]
struct FineCourse {
    block: usize,
    block_s: f64,
    sums: [f64; 3],
    filled: usize,
    last: [f32; 2],
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
            sums: [0.0; 3],
            filled: 0,
            last: [0.0; 2],
            powers: VecDeque::new(),
            first: 0,
        }
    }

    fn push(&mut self, samples: &[f32]) {
        for x in samples {
            let first = x - self.last[0];
            let second = first - self.last[1];
            self.last = [*x, first];
            for (sum, value) in self.sums.iter_mut().zip([*x, first, second]) {
                *sum += f64::from(value * value);
            }
            self.filled += 1;
            if self.filled == self.block {
                self.powers.push_back(self.sums.map(|sum| 2.0 * sum / self.block as f64));
                (self.sums, self.filled) = ([0.0; 3], 0);
                if self.powers.len() as f64 * self.block_s > Self::KEPT_S {
                    self.powers.pop_front();
                    self.first += 1;
                }
            }
        }
    }

    /// Where one of the powers rises most near a time, and the largest power of the samples soon
    /// after that.
    fn begin(&self, near_s: f64) -> (f64, f64) {
        /// Where it is looked for, before and after.
        const BEFORE_S: f64 = 0.015;
        const AFTER_S: f64 = 0.0125;
        /// What is compared: so many blocks before with so many after.
        const QUIET: usize = 8;
        const LOUD: usize = 4;
        const SOON: usize = 16;
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
        let mut best = (0.0, None);
        for n in from.max(QUIET)..to.min(self.powers.len().saturating_sub(LOUD)) {
            for which in 0..3 {
                let rise = mean(which, n..n + LOUD) / mean(which, n - QUIET..n);
                if rise > best.0 {
                    best = (rise, Some(n));
                }
            }
        }
        match best {
            (rise, Some(n)) if rise > 1.5 => {
                ((self.first + n as u64) as f64 * self.block_s, largest(n))
            }
            _ => (near_s, largest(place(near_s))),
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
