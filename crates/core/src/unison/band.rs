//! A partial alone: what a narrow band about it holds, with its own turn taken out.

use std::f64::consts::TAU;

use super::C;
use super::fit::Pole;
use crate::partials::{FrameReader, NotePlaces};

/// A band is wide enough for strings so far apart, as a share of its frequency (30 cents) and in
/// Hz, but no wider than this share of the fundamental.
const REACH: f64 = 0.0175;
const LEAST_REACH_HZ: f64 = 3.0;
const MOST_REACH: f64 = 0.3;
/// Values that are kept of a band at most.
const MOST_VALUES: usize = 600;
const FEWEST_VALUES: usize = 24;
/// The strokes of hammer and finger are over by then, in seconds.
const ATTACK_S: f64 = 0.15;

/// What a narrow band about a partial holds over time: A·exp((−α + j2πδ)t) of each string, δ from
/// the frequency of the band, and noise.
#[derive(Debug)]
pub(super) struct Band {
    pub(super) number: usize,
    /// Frequency whose turn is taken out.
    pub(super) centre_hz: f64,
    /// Time of the first value, in seconds after the onset.
    pub(super) start_s: f64,
    pub(super) step_s: f64,
    pub(super) values: Vec<C>,
    /// Σ|z|² of the values.
    pub(super) energy: f64,
    /// So many values have the noise of one that is independent.
    pub(super) correlated: f64,
    /// What a component of the frequency of the band shows of its amplitude.
    pub(super) gain: f64,
    /// Offset from the middle of the band within which strings are looked for, in Hz.
    pub(super) reach_hz: f64,
}

impl Band {
    pub(super) fn lasting_s(&self) -> f64 {
        (self.values.len().saturating_sub(1)) as f64 * self.step_s
    }

    /// Removes a component.
    pub(super) fn remove(&mut self, pole: &Pole) {
        self.values = self.left(std::slice::from_ref(pole));
        self.energy = energy(&self.values);
    }

    /// Offset from the middle of the band beyond which nothing is seen, in Hz.
    pub(super) fn farthest_hz(&self) -> f64 {
        0.45 / self.step_s
    }
}

/// The bands of the partials of a note, from where its attack is over.
pub(super) fn bands(sound: &[f32], rate_hz: f64, note: &mut NotePlaces) -> Vec<Band> {
    let length = note.reader.length();
    let bin_hz = note.reader.bin_hz();
    let hop = length as f64 / 4.0;
    let count = ((note.to - note.from - length) as f64 / hop) as usize + 1;
    let bins: Vec<i64> =
        note.partials.iter().map(|(_, hz)| ((hz / bin_hz).round() as i64).max(1)).collect();
    let mut courses = vec![Vec::with_capacity(count); bins.len()];
    for n in 0..count {
        let at = n as f64 * hop;
        let start = at.round();
        note.reader.take(sound, note.from as i64 + start as i64);
        for ((course, bin), (_, hz)) in courses.iter_mut().zip(&bins).zip(&note.partials) {
            // Frames begin with a sample; values stand at even steps.
            let off_hz = hz - *bin as f64 * bin_hz;
            let turned = C::cis(TAU * off_hz * (at - start) / rate_hz);
            course.push(note.reader.envelope(*bin, start) * turned);
        }
    }
    let first = attack_is_over(&courses, hop / rate_hz);
    let f0_hz = note.partials.first().map_or(0.0, |(number, hz)| hz / *number as f64);
    let course =
        Steps { first, step_s: hop / rate_hz, half_frame_s: length as f64 / 2.0 / rate_hz };
    let of = |((course_values, bin), (number, hz)): ((Vec<C>, &i64), &(usize, f64))| {
        let from_hz = *bin as f64 * bin_hz;
        let reach_hz = (REACH * hz).max(LEAST_REACH_HZ).min(MOST_REACH * f0_hz);
        band(*number, &course_values, &course, from_hz, *hz, reach_hz, &note.reader)
    };
    courses.into_iter().zip(&bins).zip(&note.partials).filter_map(of).collect()
}

/// The frame at which all partials together are loudest early on.
fn attack_is_over(courses: &[Vec<C>], step_s: f64) -> usize {
    let power = |n: usize| courses.iter().map(|course| course[n].norm_sqr()).sum::<f64>();
    let count = courses.first().map_or(0, Vec::len);
    let early = ((ATTACK_S / step_s) as usize + 1).min(count);
    (0..early).max_by(|a, b| power(*a).total_cmp(&power(*b))).unwrap_or(0)
}

/// When the values of a course stand.
struct Steps {
    /// The first that counts.
    first: usize,
    step_s: f64,
    half_frame_s: f64,
}

/// The band of a partial from the values of its bin: those of a block are averaged, as long as
/// what lies within reach is not.
fn band(
    number: usize,
    values: &[C],
    steps: &Steps,
    from_hz: f64,
    centre_hz: f64,
    reach_hz: f64,
    reader: &FrameReader,
) -> Option<Band> {
    let values = values.get(steps.first..)?;
    let values = &values[..life(values)];
    let narrow = (1.0 / (5.0 * reach_hz * steps.step_s)) as usize;
    let block = narrow.min(values.len() / (4 * FEWEST_VALUES)).max(1);
    let block = block.max(values.len().div_ceil(MOST_VALUES));
    let turn = C::cis(-TAU * (centre_hz - from_hz) * steps.step_s);
    let mut turned = C::cis(-TAU * (centre_hz - from_hz) * steps.first as f64 * steps.step_s);
    let mut averaged = Vec::with_capacity(values.len() / block);
    for of_block in values.chunks_exact(block) {
        let mut sum = C::default();
        for value in of_block {
            sum += value * turned;
            turned *= turn;
        }
        averaged.push(sum / block as f64);
    }
    if averaged.len() < FEWEST_VALUES {
        return None;
    }
    let step_s = block as f64 * steps.step_s;
    let middle = steps.first as f64 + (block as f64 - 1.0) / 2.0;
    Some(Band {
        number,
        centre_hz,
        start_s: steps.half_frame_s + middle * steps.step_s,
        step_s,
        correlated: FrameReader::correlated(block),
        gain: reader.gain(0.0, centre_hz - from_hz).norm(),
        reach_hz: reach_hz.min(0.45 / step_s),
        energy: energy(&averaged),
        values: averaged,
    })
}

fn energy(values: &[C]) -> f64 {
    values.iter().map(C::norm_sqr).sum()
}

/// Values until the sound has died away into the noise, with some of the noise.
fn life(values: &[C]) -> usize {
    const PARTS: usize = 64;
    /// Noise alone is seldom that much stronger in one part than in the weakest.
    const OVER_NOISE: f64 = 4.0;
    const COHERENT: f64 = 0.5;
    /// Parts of noise alone that are kept, from which it is known, as a share of the life.
    const NOISE: f64 = 0.25;
    let length = values.len().div_ceil(PARTS).max(8);
    let power = |part: &[C]| part.iter().map(C::norm_sqr).sum::<f64>() / part.len() as f64;
    let powers: Vec<f64> = values.chunks(length).map(power).collect();
    let floor = powers.iter().copied().fold(f64::INFINITY, f64::min);
    let last = powers.iter().rposition(|power| *power > OVER_NOISE * floor).unwrap_or(0) + 1;
    // What has not fallen by so much since is a tone all the same if its turn goes on from frame
    // to frame; those four apart share no sample.
    let tail = &values[(last * length).min(values.len())..];
    let turned: C = tail.iter().zip(tail.iter().skip(4)).map(|(a, b)| b * a.conj()).sum();
    if turned.norm() > COHERENT * tail.iter().map(C::norm_sqr).sum::<f64>() {
        return values.len();
    }
    let kept = last + (NOISE * last as f64).ceil() as usize + 1;
    (kept * length).min(values.len())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tone_that_hardly_falls_is_kept_whole_and_noise_is_cut() {
        let noise = |n: usize| {
            let x = n as f64;
            C::new((x * 12.9898).sin(), (x * 78.233).sin()) * 1e-3
        };
        let tone = |n: usize, fall: f64| C::from_polar((-fall * n as f64).exp(), 0.3 * n as f64);
        // 3 dB over its whole length; it ends before any noise is to be seen.
        let slow: Vec<C> = (0..1000).map(|n| tone(n, 3.5e-4) + noise(n)).collect();
        assert_eq!(life(&slow), 1000);
        // Gone after a fifth.
        let fast: Vec<C> = (0..2000).map(|n| tone(n, 0.017) + noise(n)).collect();
        assert!((400..800).contains(&life(&fast)), "{}", life(&fast));
    }
}
