//! Where a source passes, as far as the peaks of the spectrum over time say.
//!
//! All tones of a source shift alike. Under the right law the peaks of all frames, brought back to the
//! frequency at the source, fall into few narrow heaps; the law is looked for that makes the sum of
//! their squares largest.

use rustfft::num_complex::Complex64;

use super::law::Law;
use crate::error::Error;
use crate::fit::median;
use crate::lanes::dot;
use crate::samples::{Reader, Samples};
use crate::transform::{RealTransform, fast_length};
use crate::units::db_from_power;
use crate::window::{Window, WindowKind};

/// Frames in which peaks are looked for.
const FRAME_S: f64 = 0.085;
const HOPS: usize = 4;
/// Peaks of a frame, and how far they stand over the middle of what is about them.
const MOST_PEAKS: usize = 10;
const LEAST_DB: f64 = 12.0;
const LOWEST_HZ: f64 = 60.0;
/// Width of a heap in ln f.
const HEAP: f64 = 0.0015;
/// Peaks that the search takes into account: on the grid, and from there on.
const ON_GRID: usize = 500;
const THINNED: usize = 1000;

/// A peak of the spectrum at a time.
#[derive(Debug, Clone, Copy)]
pub(super) struct Peak {
    pub(super) t: f64,
    pub(super) hz: f64,
    ln_hz: f64,
    /// By how much it stands out, in dB, 40 dB at most.
    pub(super) weight: f64,
}

/// Peaks of the spectrum over time.
pub(super) fn peaks(sound: &dyn Samples, rate_hz: f64) -> Result<Vec<Peak>, Error> {
    const AROUND: usize = 40;
    let frame = fast_length((FRAME_S * rate_hz) as usize);
    let window = Window::new(WindowKind::Hann, frame)?;
    let mut transform = RealTransform::new(frame);
    let mut reader = Reader::new(sound);
    let mut all = Vec::new();
    let lowest = (LOWEST_HZ / rate_hz * frame as f64).ceil() as usize;
    for from in (0..sound.count().saturating_sub(frame)).step_by(frame / HOPS) {
        let block = reader.at(from as i64, frame)?;
        let mut windowed: Vec<f64> =
            block.iter().zip(window.samples()).map(|(x, w)| f64::from(*x) * w).collect();
        let powers: Vec<f64> =
            transform.forward(&mut windowed).iter().map(Complex64::norm_sqr).collect();
        // The floor in blocks of bins.
        let floors: Vec<f64> =
            powers.chunks(AROUND).map(|of| median(of.iter().copied()).unwrap_or(0.0)).collect();
        let t = (from as f64 + 0.5 * frame as f64) / rate_hz;
        let mut found: Vec<(f64, Peak)> = Vec::new();
        for k in lowest.max(2)..powers.len() - 2 {
            let [below, at, above] = [powers[k - 1], powers[k], powers[k + 1]];
            let db = db_from_power(at / floors[k / AROUND].max(1e-30));
            if at > below && at >= above && db > LEAST_DB {
                let [before, middle, behind] = [below, at, above].map(|p| p.max(1e-30).ln());
                let off = 0.5 * (before - behind) / (before - 2.0 * middle + behind);
                let hz = (k as f64 + off) * rate_hz / frame as f64;
                found.push((at, Peak { t, hz, ln_hz: hz.ln(), weight: db.min(40.0) }));
            }
        }
        // The strongest, which are no side lobes of others.
        found.sort_by(|a, b| b.0.total_cmp(&a.0));
        all.extend(found.into_iter().take(MOST_PEAKS).map(|(_, peak)| peak));
    }
    Ok(all)
}

/// Those that are not there from the beginning to the end at one frequency, as hum is.
pub(super) fn unsteady(peaks: &[Peak], lasts_s: f64) -> Vec<Peak> {
    /// In so many parts of the time, of which it is in all, and in so large a share of the frames.
    const PARTS: usize = 8;
    const OFTEN: f64 = 0.6;
    const NEAR: f64 = 0.0008;
    let frames = lasts_s / (FRAME_S / HOPS as f64);
    let place = |hz: f64| (hz.ln() / NEAR) as i64;
    let mut seen: std::collections::HashMap<i64, [u32; PARTS]> = std::collections::HashMap::new();
    for peak in peaks {
        let part = ((peak.t / lasts_s * PARTS as f64) as usize).min(PARTS - 1);
        for near in -1..=1 {
            seen.entry(place(peak.hz) + near).or_default()[part] += 1;
        }
    }
    let is_steady = |peak: &Peak| {
        let Some(parts) = seen.get(&place(peak.hz)) else { return false };
        let most = frames / PARTS as f64;
        parts.iter().all(|count| f64::from(*count) > OFTEN * most)
    };
    peaks.iter().filter(|peak| !is_steady(peak)).copied().collect()
}

/// Heaps of peaks at the source, under a law.
struct Heaps {
    /// Width of a heap in ln f, and where the lowest begins.
    width: f64,
    lowest: f64,
    /// When each frame is, and the first peak after its own.
    frames: Vec<(f64, usize)>,
    /// The heap that each peak is in where nothing shifts it, and its weight.
    peaks: Vec<(f64, f64)>,
    weights: Vec<f64>,
}

impl Heaps {
    fn new(peaks: &[Peak], width: f64) -> Self {
        let ends = peaks.iter().fold((f64::INFINITY, 0.0f64), |(low, high), peak| {
            (low.min(peak.hz), high.max(peak.hz))
        });
        // The shift moves them by less than an octave.
        let lowest = (0.5 * ends.0).ln();
        let count = ((2.0 * ends.1).ln() - lowest) / width;
        let mut end = 0;
        let frame = |of_frame: &[Peak]| {
            end += of_frame.len();
            (of_frame[0].t, end)
        };
        Self {
            width,
            lowest,
            frames: peaks.chunk_by(|a, b| a.t == b.t).map(frame).collect(),
            peaks: peaks.iter().map(|of| ((of.ln_hz - lowest) / width, of.weight)).collect(),
            weights: vec![0.0; count.max(1.0) as usize + 2],
        }
    }

    /// Heaps the peaks up under a shift over time, and gives the sum of the squares of the heaps.
    fn fill(&mut self, shift: impl Fn(f64) -> f64) -> f64 {
        self.weights.fill(0.0);
        let mut first = 0;
        for (t, end) in &self.frames {
            let moved = shift(*t).ln() / self.width;
            for (place, weight) in &self.peaks[first..*end] {
                let place = (place - moved).max(0.0);
                let at = place as usize;
                let beyond = (place - at as f64) * weight;
                if let Some([heap, next]) = self.weights.get_mut(at..at + 2) {
                    *heap += weight - beyond;
                    *next += beyond;
                }
            }
            first = *end;
        }
        dot(&self.weights, &self.weights)
    }
}

/// What the peaks speak for.
pub(super) struct Guess {
    pub(super) law: Law,
    /// Frequencies at the source, the strongest first.
    pub(super) tones_hz: Vec<f64>,
}

/// The law under which the peaks are most alike; `None` where none is better than no shift.
pub(super) fn search(peaks: &[Peak], lasts_s: f64, sound_m_s: f64) -> Option<Guess> {
    /// How much better than no shift a law has to be: the heaps of steady tones are no wider.
    const BETTER: f64 = 1.15;
    /// Speeds lie so far apart that what is heard before and behind moves by less than a wide heap.
    const SPEED_STEP_M_S: f64 = 1.4;
    const FASTEST_M_S: f64 = 95.0;
    const SHORTEST_TURN_S: f64 = 0.06;
    const LONGEST_TURN_S: f64 = 7.0;
    const WIDTHS: [f64; 4] = [8.0 * HEAP, 4.0 * HEAP, 2.0 * HEAP, HEAP];
    /// So many starts are followed to the end.
    const STARTS: usize = 16;
    let (on_grid, peaks) = (thinned(peaks, ON_GRID), thinned(peaks, THINNED));
    if peaks.len() < 20 {
        return None;
    }
    let mut heaps = Heaps::new(&on_grid, WIDTHS[0]);
    let mut starts: Vec<(f64, Law)> = Vec::new();
    let mut turn_s = SHORTEST_TURN_S;
    while turn_s < LONGEST_TURN_S {
        let step_s = f64::max(0.7 * turn_s, lasts_s / 400.0);
        for m in 0..=(lasts_s / step_s) as usize {
            let closest_s = m as f64 * step_s;
            let mut scored = |speed_m_s: f64| {
                let law = Law { speed_m_s, distance_m: turn_s * speed_m_s, closest_s, sound_m_s };
                (heaps.fill(|t| law.shift(t)), law)
            };
            // The best speed of each place and turn: of every other, and of those beside it.
            let mut best = scored(SPEED_STEP_M_S);
            for n in 1..(0.5 * FASTEST_M_S / SPEED_STEP_M_S) as usize {
                best = better(best, scored((2 * n + 1) as f64 * SPEED_STEP_M_S));
            }
            let middle_m_s = best.1.speed_m_s;
            for beside_m_s in [-SPEED_STEP_M_S, SPEED_STEP_M_S] {
                best = better(best, scored((middle_m_s + beside_m_s).max(0.5 * SPEED_STEP_M_S)));
            }
            starts.push(best);
        }
        turn_s *= 2.2;
    }
    starts.sort_by(|a, b| b.0.total_cmp(&a.0));
    starts.truncate(STARTS);
    let mut of_widths = WIDTHS.map(|width| Heaps::new(&peaks, width));
    let climbed_from = |start: (f64, Law)| {
        let heaps = of_widths.iter_mut().enumerate();
        heaps.fold(start, |(_, law), (n, heaps)| climbed(heaps, law, 0.2 * 0.6f64.powi(n as i32)))
    };
    let (score, law) = starts.into_iter().map(climbed_from).reduce(better)?;
    let [.., mut heaps] = of_widths;
    if score < BETTER * heaps.fill(|_| 1.0) {
        return None;
    }
    heaps.fill(|t| law.shift(t));
    Some(Guess { law, tones_hz: heaps.tones() })
}

/// All peaks of every so many frames, that about so many are left.
fn thinned(peaks: &[Peak], most: usize) -> Vec<Peak> {
    let every = peaks.len().div_ceil(most).max(1);
    peaks.chunk_by(|a, b| a.t == b.t).step_by(every).flatten().copied().collect()
}

/// Of two laws with their scores the one that is better, or the first.
fn better(one: (f64, Law), other: (f64, Law)) -> (f64, Law) {
    if other.0 > one.0 { other } else { one }
}

/// Whether a tone has left the frequency behind the closest point that it had as long before it. Two
/// steady tones look like one that passes, but both go on.
pub(super) fn is_passing(peaks: &[Peak], law: &Law, rest_hz: f64) -> bool {
    /// Peaks at the frequency of the other side, as a share of those where they should be.
    const MOST: f64 = 0.5;
    const NEAR: f64 = 2.0 * HEAP;
    let heard_s = law.closest_s + law.distance_m / law.sound_m_s;
    let is_near = |peak: &Peak, t: f64| (peak.ln_hz - (rest_hz * law.shift(t)).ln()).abs() < NEAR;
    let far = || peaks.iter().filter(|peak| (peak.t - heard_s).abs() > law.turn_s());
    let there = far().filter(|peak| is_near(peak, peak.t)).count() as f64;
    let elsewhere = far().filter(|peak| is_near(peak, 2.0 * heard_s - peak.t)).count() as f64;
    elsewhere <= MOST * there
}

/// Climbs from a law to one that no small step betters.
fn climbed(heaps: &mut Heaps, mut law: Law, mut step: f64) -> (f64, Law) {
    let mut score = heaps.fill(|t| law.shift(t));
    let least = 0.02 * step;
    while step > least {
        let mut best = (score, law);
        for n in 0..3 {
            for sign in [-1.0, 1.0] {
                let mut by = [0.0; 3];
                by[n] = sign * if n == 2 { step * law.turn_s() } else { step };
                let moved = law.moved(by);
                best = better(best, (heaps.fill(|t| moved.shift(t)), moved));
            }
        }
        if best.0 > score {
            (score, law) = best;
        } else {
            step *= 0.6;
        }
    }
    (score, law)
}

impl Heaps {
    /// The frequencies of the largest heaps.
    fn tones(&self) -> Vec<f64> {
        const MOST: usize = 6;
        /// Of the largest heap, and of all peaks.
        const LEAST: f64 = 0.25;
        const OF_ALL: f64 = 0.05;
        const APART: usize = 8;
        let sum = |n: usize| self.weights[n - 1..=n + 1].iter().sum::<f64>();
        let mut places: Vec<usize> = (1..self.weights.len() - 1).collect();
        places.sort_by(|a, b| sum(*b).total_cmp(&sum(*a)));
        let all: f64 = self.weights.iter().sum();
        let most = places.first().map_or(0.0, |n| sum(*n));
        let mut kept: Vec<usize> = Vec::new();
        for n in places {
            let is_apart = kept.iter().all(|other| other.abs_diff(n) > APART);
            if sum(n) < (LEAST * most).max(OF_ALL * all) || kept.len() == MOST {
                break;
            }
            if is_apart {
                kept.push(n);
            }
        }
        let middle = |n: &usize| {
            let around = *n - 1..=*n + 1;
            let moment: f64 = around.clone().map(|k| k as f64 * self.weights[k]).sum();
            (self.lowest + self.width * moment / sum(*n)).exp()
        };
        kept.iter().map(middle).collect()
    }
}
