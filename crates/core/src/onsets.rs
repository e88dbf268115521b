//! When something begins to sound.

use std::collections::VecDeque;

use crate::units::amplitude_from_db;

/// Blocks over which a power is taken.
const BLOCKS: usize = 4;
/// What came before is forgotten so fast, in dB per second: slower than a note dies under the
/// finger, faster than a pause between repeated notes.
const FORGETTING_DB_PER_S: f64 = 120.0;
/// A rise by so much within so long is an onset.
const RISE_DB: f64 = 7.0;
pub(crate) const RISE_S: f64 = 0.02;
/// The onset is where the first part of the rise is done.
const BEGUN_DB: f64 = 2.0;
/// Another onset needs a fall by so much since the last one, and so much time.
pub(crate) const FALL_BETWEEN_DB: f64 = 3.0;
const BETWEEN_S: f64 = 0.03;
/// Below this there is nothing to hear, in dBFS.
pub(crate) const NOTHING_DB: f64 = -110.0;

/// Something that begins.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Onset {
    /// Number of the block in which it begins.
    pub(crate) block: u64,
    /// Largest power of the samples after it.
    pub(crate) power: f64,
}

/// Finds onsets in powers that arrive block by block: those of the samples, of their differences,
/// and of their second differences, which weigh high frequencies by 6 and 12 dB per octave.
///
/// In each of the three, over 10 ms and in dB, what came before is remembered as its maximum,
/// forgotten at 120 dB/s. Where a level rises above that by 7 dB within 20 ms, something begins, at
/// the place where it has risen by 2 dB. A vibrato, a tremolo and beats rise more slowly, or no
/// higher than what is remembered.
#[derive(Debug, Clone)]
pub(crate) struct OnsetFinder {
    /// Factors for the decibels above.
    forgetting: f64,
    rise: f64,
    begun: f64,
    fall: f64,
    least: f64,
    rise_blocks: usize,
    between_blocks: u64,
    /// The last blocks, over which powers are taken.
    recent: VecDeque<[f64; 3]>,
    /// What is remembered of each power.
    remembered: [f64; 3],
    /// The powers that a rise is looked for in, the oldest first.
    ahead: VecDeque<[f64; 3]>,
    /// Number of the oldest of them.
    block: u64,
    /// The largest powers since the last onset, and whether there was a fall since.
    largest: [f64; 3],
    has_fallen: bool,
    last: Option<u64>,
    found: Vec<Onset>,
}

impl OnsetFinder {
    /// For blocks of a length in seconds, 2.5 ms.
    pub(crate) fn new(block_s: f64) -> Self {
        let ratio = |db: f64| amplitude_from_db(db).powi(2);
        Self {
            forgetting: ratio(-FORGETTING_DB_PER_S * block_s),
            rise: ratio(RISE_DB),
            begun: ratio(BEGUN_DB),
            fall: ratio(-FALL_BETWEEN_DB),
            // Differences of quiet sounds are quieter still.
            least: ratio(NOTHING_DB - 20.0),
            rise_blocks: (RISE_S / block_s).round() as usize,
            between_blocks: (BETWEEN_S / block_s).round() as u64,
            recent: VecDeque::new(),
            remembered: [0.0; 3],
            ahead: VecDeque::new(),
            block: 0,
            largest: [0.0; 3],
            has_fallen: true,
            last: None,
            found: Vec::new(),
        }
    }

    /// Takes the mean squares of the next block.
    pub(crate) fn push(&mut self, mean_squares: [f64; 3]) {
        self.recent.push_back(mean_squares);
        if self.recent.len() > BLOCKS {
            self.recent.pop_front();
        }
        // As the squared amplitude of a sine.
        let per_block = 2.0 / self.recent.len() as f64;
        let power = |which: usize| self.recent.iter().map(|block| block[which]).sum::<f64>();
        self.ahead.push_back([0, 1, 2].map(|which| (per_block * power(which)).max(self.least)));
        if self.ahead.len() > self.rise_blocks {
            self.look();
        }
    }

    /// Looks at the oldest powers and what follows them.
    fn look(&mut self) {
        let Some(now) = self.ahead.pop_front() else { return };
        for (now, largest) in now.iter().zip(&mut self.largest) {
            self.has_fallen |= *now < self.fall * *largest;
            *largest = largest.max(*now);
        }
        let is_apart = self.last.is_none_or(|last| self.block >= last + self.between_blocks);
        if self.has_fallen && is_apart {
            self.find(now);
        }
        for (remembered, now) in self.remembered.iter_mut().zip(now) {
            *remembered = now.max(self.forgetting * *remembered);
        }
        self.block += 1;
    }

    fn find(&mut self, now: [f64; 3]) {
        // Mostly nothing rises so far.
        let usual = [0, 1, 2].map(|which| self.rise * self.remembered[which].max(now[which]));
        let rises = |powers: &[f64; 3]| (0..3).any(|which| powers[which] >= usual[which]);
        if !self.ahead.iter().any(rises) {
            return;
        }
        let mut highest = [0.0f64; 3];
        for powers in &self.ahead {
            for (highest, power) in highest.iter_mut().zip(powers) {
                *highest = highest.max(*power);
            }
        }
        let before: [f64; 3] = std::array::from_fn(|which| self.remembered[which].max(now[which]));
        let rise = |which: usize| highest[which] / before[which];
        let steepest =
            (1..3).fold(0, |most, next| if rise(next) > rise(most) { next } else { most });
        let enough = self.begun * before[steepest];
        let begun = self.ahead.iter().position(|powers| powers[steepest] > enough);
        let block = self.block + 1 + begun.unwrap_or(0) as u64;
        self.found.push(Onset { block, power: highest[0] });
        self.last = Some(block);
        self.has_fallen = false;
        self.largest = [0.0; 3];
    }

    /// What was found, in the order of time.
    pub(crate) fn finish(mut self) -> Vec<Onset> {
        while !self.ahead.is_empty() {
            self.look();
        }
        self.found
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
