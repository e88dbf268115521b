//! The law of a passing source fitted to its tones.
//!
//! Each tone is turned back by the phase that the law so far gives it, 2π·f·te(t), so that it stands
//! nearly still; frame by frame the frequency that is left is read, with its variance from the noise
//! beside it. What is left of all tones together moves the law (Gauss and Newton), until nothing is.
//! Frames are short while the source turns from approach to recession, and longer beyond.

use std::f64::consts::{PI, TAU};

use rustfft::num_complex::Complex64;

use super::law::Law;
use crate::error::Error;
use crate::fit::median;
use crate::linear;
use crate::measured::Measured;
use crate::samples::{Reader, Samples};
use crate::significance::widened;

/// A frame, as long as the time to the closest point allows.
#[derive(Debug, Clone, Copy)]
struct Frame {
    middle_s: f64,
    length_s: f64,
}

/// A tone in a frame.
#[derive(Debug, Clone, Copy)]
pub(super) struct Reading {
    pub(super) t: f64,
    /// Which tone.
    pub(super) tone: usize,
    /// Logarithm of the frequency heard re what the law says, and its variance.
    left: f64,
    variance: f64,
    /// By how much that moves with ln v, ln d and t0.
    slopes: [f64; 3],
    /// Length of its frame, and how many tones were read in it.
    length_s: f64,
    together: f64,
    /// Amplitude.
    pub(super) amplitude: f64,
    /// Frequency heard.
    pub(super) hz: f64,
}

/// What was fitted.
pub(super) struct Fitted {
    pub(super) law: Law,
    /// Covariance of ln v, ln d and t0.
    pub(super) covariance: [[f64; 3]; 3],
    /// Frequencies at the source.
    pub(super) tones: Vec<Measured>,
    pub(super) readings: Vec<Reading>,
}

impl Fitted {
    /// Whether the law accounts for more of the readings than steady tones would.
    pub(super) fn moves(&self) -> bool {
        let (mut by_law, mut steady) = (0.0, 0.0);
        for tone in 0..self.tones.len() {
            let of_tone = || self.readings.iter().filter(move |of| of.tone == tone);
            let sum = |of: &dyn Fn(&Reading) -> f64| -> f64 {
                of_tone().map(|reading| of(reading) / reading.variance).sum()
            };
            let middle = sum(&|of| of.hz.ln()) / sum(&|_| 1.0);
            steady += sum(&|of| (of.hz.ln() - middle).powi(2));
            by_law += sum(&|of| of.left.powi(2));
        }
        by_law < steady
    }
}

/// Fits a law to tones from where the search left it.
pub(super) fn fit(
    sound: &dyn Samples,
    rate_hz: f64,
    mut law: Law,
    tones_hz: &[f64],
) -> Result<Option<Fitted>, Error> {
    const ROUNDS: usize = 14;
    const PRUNED_AT: usize = 3;
    /// A step is no longer than this: shares of v and d, and of the time of the turn.
    const LONGEST: f64 = 0.3;
    let lasts_s = sound.count() as f64 / rate_hz;
    let mut tones = tones_hz.to_vec();
    let mut step = None;
    for round in 0..ROUNDS {
        let frames = frames(&law, &tones, lasts_s);
        let readings = readings(sound, rate_hz, &law, &tones, &frames)?;
        if round == PRUNED_AT {
            let kept = often_read(&readings, &law, &tones);
            if kept.len() < tones.len() && !kept.is_empty() {
                tones = kept;
                continue;
            }
        }
        let Some(found) = Step::of(&readings, tones.len()) else { return Ok(None) };
        let limits = [LONGEST, LONGEST, LONGEST * law.turn_s()];
        let by: [f64; 3] = std::array::from_fn(|n| found.by[n].clamp(-limits[n], limits[n]));
        let small = (0..3).all(|n| by[n].abs() < 0.02 * found.covariance[n][n].max(0.0).sqrt());
        let is_last = (small && round > PRUNED_AT) || round + 1 == ROUNDS;
        if is_last {
            step = Some((found, readings));
            break;
        }
        law = law.moved(by);
        for (hz, by) in tones.iter_mut().zip(&found.of_tones) {
            *hz *= by.value.clamp(-0.02, 0.02).exp();
        }
    }
    let Some((found, readings)) = step else { return Ok(None) };
    let tones = tones.iter().zip(&found.of_tones);
    let tones = tones.map(|(hz, by)| Measured::new(*hz, hz * by.u)).collect();
    Ok(Some(Fitted { law, covariance: found.covariance, tones, readings }))
}

/// The tones that are read not much less often than the most read one, before the closest point as well
/// as behind it: others belong to something else.
fn often_read(readings: &[Reading], law: &Law, tones: &[f64]) -> Vec<f64> {
    const OFTEN: f64 = 0.3;
    let heard_s = law.closest_s + law.distance_m / law.sound_m_s;
    let count = |tone: usize| {
        let of = readings.iter().filter(|of| of.tone == tone);
        let before = of.clone().filter(|of| of.t < heard_s).count();
        [before as f64, (of.count() - before) as f64]
    };
    let counts: Vec<[f64; 2]> = (0..tones.len()).map(count).collect();
    let most = [0, 1].map(|n| counts.iter().map(|of| of[n]).fold(0.0, f64::max));
    let is_often = |of: &[f64; 2]| of.iter().zip(most).all(|(count, most)| *count >= OFTEN * most);
    tones.iter().zip(&counts).filter(|(_, of)| is_often(of)).map(|(hz, _)| *hz).collect()
}

/// Frames that grow from the closest point outwards, half overlapping, in the order of time.
fn frames(law: &Law, tones: &[f64], lasts_s: f64) -> Vec<Frame> {
    const SHARE: f64 = 0.4;
    const LONGEST_S: f64 = 0.4;
    /// Periods of the lowest distance between tones.
    const PERIODS: f64 = 5.0;
    let mut sorted = tones.to_vec();
    sorted.sort_by(f64::total_cmp);
    let apart = sorted.windows(2).map(|two| two[1] - two[0]).fold(sorted[0], f64::min);
    let shortest_s = (PERIODS / apart.max(1.0)).clamp(0.015, LONGEST_S);
    let heard_s = law.closest_s + law.distance_m / law.sound_m_s;
    let length = |t: f64| (SHARE * law.turn_s().hypot(t - heard_s)).clamp(shortest_s, LONGEST_S);
    let mut frames = Vec::new();
    for sign in [1.0, -1.0] {
        let mut middle_s = heard_s;
        if sign < 0.0 {
            middle_s -= 0.5 * length(middle_s);
        }
        // From a place outside the take the way back into it may be long.
        if middle_s < 0.0 && sign > 0.0 {
            middle_s = 0.0;
        }
        if middle_s > lasts_s && sign < 0.0 {
            middle_s = lasts_s;
        }
        while (0.0..=lasts_s).contains(&middle_s) {
            let length_s = length(middle_s);
            if middle_s >= 0.5 * length_s && middle_s + 0.5 * length_s <= lasts_s {
                frames.push(Frame { middle_s, length_s });
            }
            middle_s += sign * 0.5 * length_s;
        }
    }
    frames.sort_by(|a, b| a.middle_s.total_cmp(&b.middle_s));
    frames
}

/// Reads all tones in all frames.
fn readings(
    sound: &dyn Samples,
    rate_hz: f64,
    law: &Law,
    tones: &[f64],
    frames: &[Frame],
) -> Result<Vec<Reading>, Error> {
    /// Where the noise is read, in inverse lengths of the frame.
    const BESIDE: [f64; 6] = [-9.0, -7.0, -5.0, 5.0, 7.0, 9.0];
    const PIECES: usize = 64;
    /// A tone counts that stands so far out of it, and whose halves of the frame differ by no more than
    /// this: of one that comes or goes within the frame its edge is read, not its frequency.
    const LEAST: f64 = 6.0;
    const EVEN: f64 = 2.0;
    let mut reader = Reader::new(sound);
    let mut all: Vec<Vec<Option<Reading>>> = Vec::with_capacity(frames.len());
    for frame in frames {
        // Pieces in which a phase runs evenly and a window stays where it is.
        let piece = ((frame.length_s * rate_hz) as usize / PIECES).max(1);
        let first = ((frame.middle_s - 0.5 * frame.length_s) * rate_hz).round();
        let block = reader.at(first as i64, piece * PIECES)?;
        let length_s = (piece * PIECES) as f64 / rate_hz;
        let time = |k: f64| (first + (k * piece as f64) - 0.5) / rate_hz;
        let emitted: [f64; PIECES + 1] = std::array::from_fn(|k| law.emitted_s(time(k as f64)));
        let turn = |k: usize| TAU * (k as f64 + 0.5) / PIECES as f64;
        let window: [f64; PIECES] = std::array::from_fn(|k| 0.5 - 0.5 * turn(k).cos());
        let slope: [f64; PIECES] = std::array::from_fn(|k| PI / length_s * turn(k).sin());
        let (of_window, of_slope) = (square(&window), square(&slope));
        // What a reading weighs of the law within its frame.
        let mut slopes = [0.0; 3];
        let (mut shift, mut sum) = (0.0, 0.0);
        for (k, window) in window.iter().enumerate().step_by(2) {
            let t = time(k as f64 + 0.5);
            let weight = (window / law.distance_at(t)).powi(2);
            for (of, by) in slopes.iter_mut().zip(law.slopes(t)) {
                *of += weight * by;
            }
            shift += weight * law.shift(t);
            sum += weight;
        }
        let (slopes, shift) = (slopes.map(|slope| slope / sum), shift / sum);
        let of_tone = |tone: usize| {
            let hz = tones[tone];
            let mut halves = [Complex64::default(); 2];
            let mut moving = Complex64::default();
            let mut beside = [Complex64::default(); BESIDE.len()];
            for (k, samples) in block.chunks_exact(piece).enumerate() {
                let turned = turned(samples, hz * emitted[k], hz * emitted[k + 1]);
                halves[2 * k / PIECES] += window[k] * turned;
                moving += slope[k] * turned;
                for (sum, away) in beside.iter_mut().zip(BESIDE) {
                    *sum += window[k] * turned * Complex64::from_polar(1.0, -turn(k) * away);
                }
            }
            let [early, late] = halves.map(Complex64::norm);
            if early.max(late) > EVEN * early.min(late) {
                return None;
            }
            let still = halves[0] + halves[1];
            let noise = median(beside.iter().map(Complex64::norm_sqr))?;
            // The median of powers of noise is ln 2 of their mean.
            let noise = (noise / std::f64::consts::LN_2).max(1e-30);
            let power = still.norm_sqr();
            if power < LEAST * noise {
                return None;
            }
            let left_hz = -(moving / still).im / TAU;
            let deviation_hz = (0.5 * noise / power * of_slope / of_window).sqrt() / TAU;
            let heard_hz = hz * shift;
            Some(Reading {
                t: frame.middle_s,
                tone,
                left: left_hz / heard_hz,
                variance: (deviation_hz / heard_hz).powi(2),
                slopes,
                length_s,
                together: 1.0,
                amplitude: 2.0 * power.sqrt() / (piece as f64 * window.iter().sum::<f64>()),
                hz: heard_hz + left_hz,
            })
        };
        all.push((0..tones.len()).map(of_tone).collect());
    }
    let is_read = |n: usize, tone: usize| all.get(n).is_some_and(|of| of[tone].is_some());
    // Noise passes for a tone now and then, seldom twice running.
    let mut kept: Vec<Reading> = Vec::new();
    for (n, of_frame) in all.iter().enumerate() {
        let lasts = |of: &&Reading| is_read(n + 1, of.tone) || (n > 0 && is_read(n - 1, of.tone));
        let before = kept.len();
        kept.extend(of_frame.iter().flatten().filter(lasts));
        let together = (kept.len() - before) as f64;
        kept[before..].iter_mut().for_each(|of| of.together = together);
    }
    Ok(kept)
}

/// The sum of samples turned back by a phase that runs evenly between two values in turns.
fn turned(samples: &[f32], from: f64, to: f64) -> Complex64 {
    /// So many turn on side by side, none waiting for the one before.
    const LANES: usize = 4;
    let step_turns = (to - from) / samples.len() as f64;
    let first = Complex64::from_polar(1.0, -TAU * (from + 0.5 * step_turns).fract());
    let step = Complex64::from_polar(1.0, -TAU * step_turns);
    let mut at: [Complex64; LANES] = std::array::from_fn(|lane| first * step.powu(lane as u32));
    let on = step.powu(LANES as u32);
    let mut sums = [Complex64::default(); LANES];
    let (parts, rest) = samples.as_chunks::<LANES>();
    for part in parts {
        for lane in 0..LANES {
            sums[lane] += f64::from(part[lane]) * at[lane];
            at[lane] *= on;
        }
    }
    let rest: Complex64 = rest.iter().zip(at).map(|(x, at)| f64::from(*x) * at).sum();
    rest + sums.iter().sum::<Complex64>()
}

fn square(values: &[f64]) -> f64 {
    values.iter().map(|x| x * x).sum()
}

/// By how much the law and the tones have to move.
struct Step {
    by: [f64; 3],
    covariance: [[f64; 3]; 3],
    /// Of the logarithm of each tone.
    of_tones: Vec<Measured>,
    /// How each tone moves with the law in the mean.
    middles: Vec<[f64; 3]>,
}

impl Step {
    fn of(readings: &[Reading], tones: usize) -> Option<Self> {
        /// Neighbours overlap by half, so that what is the source's own is worth so many independent
        /// readings; errors of noise go out of one into the next, and are worth more.
        const OWN: f64 = 0.55;
        const OF_NOISE: f64 = 3.0;
        /// A reading that is off by more deviations counts less.
        const FAR: f64 = 3.0;
        const FEWEST: usize = 8;
        if readings.len() < FEWEST {
            return None;
        }
        let mut weights: Vec<f64> = readings.iter().map(|of| 1.0 / of.variance).collect();
        let mut found = None;
        let mut own = vec![0.0; readings.len()];
        for _ in 0..4 {
            let step = Self::weighted(readings, &weights, tones)?;
            own = own_scatter(readings, |of| step.left(of));
            for ((weight, of), own) in weights.iter_mut().zip(readings).zip(&own) {
                let away = step.left(of).abs() / (of.variance + own).sqrt();
                // All tones of a frame waver with the source.
                let variance = of.variance + own * of.together;
                *weight = if away > FAR { FAR / away } else { 1.0 } / variance;
            }
            found = Some(step);
        }
        let step = found?;
        let (mut squares, mut noise, mut sum) = (0.0, 0.0, 0.0);
        for ((of, own), weight) in readings.iter().zip(&own).zip(&weights) {
            let variance = of.variance + own;
            squares += weight * (step.left(of).powi(2) / variance).min(FAR * FAR);
            noise += weight * of.variance / variance;
            sum += weight;
        }
        let (squares, noise) = (squares / sum, noise / sum);
        let free = (OWN * readings.len() as f64 - 3.0 - tones as f64).max(1.0);
        let shared = noise / OF_NOISE + (1.0 - noise) / OWN;
        let scatter = squares.max(1.0) * shared * widened(free).powi(2);
        let mut covariance = step.covariance.map(|row| row.map(|x| x * scatter));
        let wavering = step.wavering(readings, &weights);
        // What neighbours have in common is seen in how they waver together.
        let wider: [f64; 3] =
            std::array::from_fn(|n| (wavering[n] / covariance[n][n]).max(1.0).sqrt());
        for (row, a) in covariance.iter_mut().zip(wider) {
            for (x, b) in row.iter_mut().zip(wider) {
                *x *= a * b;
            }
        }
        // Errors of noise all but cancel in the mean of a tone.
        let of_mean = noise / (4.0 * OF_NOISE) + (1.0 - noise) / OWN;
        let mut of_tones = step.of_tones.clone();
        for (tone, of) in of_tones.iter_mut().enumerate() {
            let weighed = readings.iter().zip(&weights).filter(|(of, _)| of.tone == tone);
            let sum: f64 = weighed.map(|(_, weight)| weight).sum();
            let by_law = linear::square_of(&covariance, &step.middles[tone]).max(0.0);
            of.u = (of_mean / sum.max(1e-300) + by_law).sqrt();
        }
        Some(Self { covariance, of_tones, ..step })
    }

    /// What it leaves of a reading.
    fn left(&self, of: &Reading) -> f64 {
        let moved: f64 = of.slopes.iter().zip(&self.by).map(|(a, b)| a * b).sum();
        of.left - moved - self.of_tones[of.tone].value
    }

    /// Variance of each parameter by what the readings leave, neighbours in time together (W. K. Newey
    /// and K. D. West, Econometrica 55 (1987) 703), widened for as few as there are.
    fn wavering(&self, readings: &[Reading], weights: &[f64]) -> [f64; 3] {
        const LAGS: usize = 8;
        let mut order: Vec<usize> = (0..readings.len()).collect();
        order.sort_by(|a, b| readings[*a].t.total_cmp(&readings[*b].t));
        let mut pulls: Vec<(f64, [f64; 3])> = Vec::new();
        for n in order {
            let of = &readings[n];
            let pull = weights[n] * self.left(of);
            let own: [f64; 3] =
                std::array::from_fn(|k| pull * (of.slopes[k] - self.middles[of.tone][k]));
            let own = linear::times(&self.covariance, &own);
            match pulls.last_mut() {
                Some((t, sum)) if *t == of.t => sum.iter_mut().zip(own).for_each(|(a, b)| *a += b),
                _ => pulls.push((of.t, own)),
            }
        }
        std::array::from_fn(|k| {
            let lagged = |lag: usize| -> f64 {
                pulls.iter().zip(&pulls[lag.min(pulls.len())..]).map(|(a, b)| a.1[k] * b.1[k]).sum()
            };
            let beside =
                (1..=LAGS).map(|lag| 2.0 * (1.0 - lag as f64 / (LAGS + 1) as f64) * lagged(lag));
            let variance = lagged(0) + beside.sum::<f64>();
            let fourth: f64 = pulls.iter().map(|(_, pull)| pull[k].powi(4)).sum();
            let count = lagged(0).powi(2) / fourth.max(1e-300);
            variance * widened((0.5 * count).max(4.0)).powi(2)
        })
    }

    /// Least squares, each tone with a frequency of its own.
    fn weighted(readings: &[Reading], weights: &[f64], tones: usize) -> Option<Self> {
        let mut sums = vec![(0.0, [0.0; 3], 0.0); tones];
        for (of, weight) in readings.iter().zip(weights) {
            let (sum, slopes, left) = &mut sums[of.tone];
            *sum += weight;
            *left += weight * of.left;
            for (a, b) in slopes.iter_mut().zip(of.slopes) {
                *a += weight * b;
            }
        }
        let means: Vec<([f64; 3], f64)> = sums
            .iter()
            .map(|(sum, slopes, left)| {
                (slopes.map(|x| x / sum.max(1e-300)), left / sum.max(1e-300))
            })
            .collect();
        let (mut bend, mut slope) = ([[0.0; 3]; 3], [[0.0; 1]; 3]);
        for (of, weight) in readings.iter().zip(weights) {
            let (middle, left) = means[of.tone];
            for n in 0..3 {
                let own = of.slopes[n] - middle[n];
                slope[n][0] += weight * own * (of.left - left);
                for m in 0..3 {
                    bend[n][m] += weight * own * (of.slopes[m] - middle[m]);
                }
            }
        }
        let covariance = linear::inverse(bend)?;
        let by = linear::solve(bend, slope)?.map(|[x]| x);
        let of_tones = sums.iter().zip(&means).map(|((sum, ..), (slopes, left))| {
            let moved: f64 = slopes.iter().zip(&by).map(|(a, b)| a * b).sum();
            let variance = 1.0 / sum.max(1e-300) + linear::square_of(&covariance, slopes);
            Measured::new(left - moved, variance.max(0.0).sqrt())
        });
        let of_tones = of_tones.collect();
        Some(Self {
            by,
            covariance,
            of_tones,
            middles: means.into_iter().map(|(of, _)| of).collect(),
        })
    }
}

/// Variance of each reading beyond that of the noise: no real source is steady, and the shorter a frame
/// the less its wavering averages out. Of readings in frames of about the same length.
fn own_scatter(readings: &[Reading], left: impl Fn(&Reading) -> f64) -> Vec<f64> {
    const ALIKE: usize = 24;
    /// A middle of magnitudes over the standard deviation.
    const OF_MIDDLE: f64 = 1.4826;
    let mut order: Vec<usize> = (0..readings.len()).collect();
    order.sort_by(|a, b| readings[*a].length_s.total_cmp(&readings[*b].length_s));
    let mut own = vec![0.0; readings.len()];
    for alike in order.chunks(ALIKE) {
        let middle = |of: fn(&Reading, f64) -> f64| {
            median(alike.iter().map(|n| of(&readings[*n], left(&readings[*n])))).unwrap_or(0.0)
        };
        let usual = OF_MIDDLE * middle(|_, left| left.abs());
        let beyond = (usual * usual - middle(|of, _| of.variance)).max(0.0);
        for n in alike {
            own[*n] = beyond;
        }
    }
    own
}
