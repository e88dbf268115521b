//! Fingerprints: whether two takes are one recording, copied, cut or coded anew.
//!
//! # What it computes
//!
//! Every 1/32 s the levels L_m in 17 bands of equal ratio from 200 Hz to 6.4 kHz, of a Hann frame of
//! 1/4 s, give a word of 16 bits: bit m is set where D = L_m − L_{m+1} rises faster, or falls more
//! slowly, within the last 1/8 s than in the one before. (That the sign of a difference over time
//! and band distinguishes recordings: J. Haitsma and T. Kalker, ISMIR 2002. Here it is the second
//! difference, which is 0 where partials die away evenly, as in every strike of the same string.) A
//! gain, a filter that does not change and another sample rate leave the words as they are, nearly;
//! of two recordings, even of the same note, about half of the bits agree by chance.
//!
//! Two fingerprints are laid beside each other at every offset that leaves half of the shorter one
//! over the longer; the least share of differing bits says whether they are one recording
//! ([`alike`]). Which pairs of many are worth it is found by the words themselves
//! ([`Finder`]): the upper or the lower half of three words, 1/8 s apart, is a mark, and takes that
//! share a mark are compared.

use std::collections::VecDeque;
use std::f64::consts::PI;

use crate::transform::{RealTransform, fast_length};
use crate::units::db_from_power;

/// Words a second.
pub const WORDS_PER_S: f64 = 32.0;
/// Length of a frame in words.
const FRAME_WORDS: usize = 8;
/// Words over which a rise is looked at: so many that a fraction of one makes little difference.
const RISE_WORDS: usize = 4;
const BANDS: usize = 17;
const LOWEST_HZ: f64 = 200.0;
const HIGHEST_HZ: f64 = 6400.0;
/// Bits of a word.
const BITS: u32 = 16;
/// Share of bits that differ between what is one recording, at most.
pub const SAME_RECORDING: f64 = 0.25;
/// Words that must lie beside each other: half a second.
const LEAST_WORDS: usize = 16;
/// Marks that are held; of more takes fewer marks are looked at.
const MOST_MARKS: usize = 1 << 24;
/// A mark that more takes share says nothing of them.
const MOST_SHARING: usize = 64;

/// Takes the fingerprint of a stream of samples.
pub struct Printer {
    sample_rate_hz: f64,
    window: Vec<f32>,
    transform: RealTransform<f32>,
    input: Vec<f32>,
    /// First bin of each band, and the one behind the last.
    edges: Vec<usize>,
    held: Vec<f32>,
    /// Samples before those that are held.
    passed: u64,
    frames: u64,
    /// Levels of the bands in the frames before, the oldest first.
    before: VecDeque<[f64; BANDS]>,
    words: Vec<u16>,
}

impl Printer {
    /// A fingerprint of sound at a sample rate.
    #[must_use]
    pub fn new(sample_rate_hz: f64) -> Self {
        let length = ((FRAME_WORDS as f64 / WORDS_PER_S * sample_rate_hz) as usize).max(2);
        let size = fast_length(length);
        let at = |n: usize| 2.0 * PI * (n as f64 + 0.5) / length as f64;
        let edge = |m: usize| {
            let hz = LOWEST_HZ * (HIGHEST_HZ / LOWEST_HZ).powf(m as f64 / BANDS as f64);
            ((hz / sample_rate_hz * size as f64).round() as usize).min(size / 2)
        };
        Self {
            sample_rate_hz,
            window: (0..length).map(|n| (0.5 - 0.5 * at(n).cos()) as f32).collect(),
            transform: RealTransform::new(size),
            input: vec![0.0; size],
            edges: (0..=BANDS).map(edge).collect(),
            held: Vec::new(),
            passed: 0,
            frames: 0,
            before: VecDeque::new(),
            words: Vec::new(),
        }
    }

    /// Goes on with samples.
    pub fn push(&mut self, samples: &[f32]) {
        self.held.extend_from_slice(samples);
        loop {
            let start = (self.frames as f64 / WORDS_PER_S * self.sample_rate_hz).round() as u64;
            let from = start.saturating_sub(self.passed) as usize;
            if from + self.window.len() > self.held.len() {
                let over = from.min(self.held.len());
                self.held.drain(..over);
                self.passed += over as u64;
                return;
            }
            self.frame(from);
            self.frames += 1;
        }
    }

    fn frame(&mut self, from: usize) {
        let frame = &self.held[from..from + self.window.len()];
        self.input.fill(0.0);
        for (into, (x, w)) in self.input.iter_mut().zip(frame.iter().zip(&self.window)) {
            *into = x * w;
        }
        let bins = self.transform.forward(&mut self.input);
        let mut levels = [0.0; BANDS];
        for (level, edges) in levels.iter_mut().zip(self.edges.windows(2)) {
            let power: f64 = bins[edges[0]..edges[1]].iter().map(|x| f64::from(x.norm_sqr())).sum();
            *level = db_from_power(power + f64::from(f32::MIN_POSITIVE));
        }
        if self.before.len() == 2 * RISE_WORDS
            && let Some(middle) = self.before.get(RISE_WORDS).copied()
            && let Some(before) = self.before.pop_front()
        {
            let between = |of: &[f64; BANDS], m: usize| of[m] - of[m + 1];
            let rise =
                |m: usize| between(&levels, m) - 2.0 * between(&middle, m) + between(&before, m);
            let word = (0..BANDS - 1).fold(0, |word, m| word | u16::from(rise(m) > 0.0) << m);
            self.words.push(word);
        }
        self.before.push_back(levels);
    }

    /// The words; none of a take of less than half a second.
    #[must_use]
    pub fn finish(self) -> Vec<u16> {
        self.words
    }
}

/// How two fingerprints lie beside each other at their best.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Alike {
    /// When the second begins, in seconds after the first.
    pub offset_s: f64,
    /// Share of the bits that differ.
    pub differing: f64,
}

/// Whether two fingerprints are of one recording, and how they lie beside each other.
#[must_use]
pub fn alike(first: &[u16], second: &[u16]) -> Option<Alike> {
    let shorter = first.len().min(second.len());
    let least = shorter.div_ceil(2).max(LEAST_WORDS);
    let (first_len, second_len) = (first.len() as i64, second.len() as i64);
    let at = |offset: i64| {
        let from = offset.max(0);
        let to = first_len.min(offset + second_len);
        let shared = (to - from).max(0) as usize;
        if shared < least {
            return None;
        }
        let a = &first[from as usize..to as usize];
        let b = &second[(from - offset) as usize..(to - offset) as usize];
        let differing: u32 = a.iter().zip(b).map(|(a, b)| (a ^ b).count_ones()).sum();
        Some(Alike {
            offset_s: offset as f64 / WORDS_PER_S,
            differing: f64::from(differing) / (shared as f64 * f64::from(BITS)),
        })
    };
    let all = (-second_len..=first_len).filter_map(at);
    let best = all.min_by(|a, b| a.differing.total_cmp(&b.differing))?;
    (best.differing <= SAME_RECORDING).then_some(best)
}

/// Finds pairs of takes, of many, whose fingerprints share a mark.
#[derive(Debug, Default)]
pub struct Finder {
    /// Marks with their takes.
    marks: Vec<(u32, u32)>,
    takes: u32,
    /// Marks are looked at whose hash has so many zeros at its end.
    zeros: u32,
}

impl Finder {
    /// Adds a take; takes are counted from 0.
    pub fn push(&mut self, words: &[u16]) {
        let take = self.takes;
        self.takes += 1;
        let half = |word: u16, n: u32| u32::from(word >> (8 * n) & 0xff);
        let mark = |span: &[u16], n: u32| {
            let [a, b, c] = [0, RISE_WORDS, 2 * RISE_WORDS].map(|at| half(span[at], n));
            (a | b << 8 | c << 16, n)
        };
        let mut own: Vec<u32> = words
            .windows(2 * RISE_WORDS + 1)
            .flat_map(|span| [mark(span, 0), mark(span, 1)])
            // What is silent says nothing.
            .filter(|(bits, _)| *bits != 0)
            .map(|(bits, n)| bits | n << 24)
            .filter(|mark| is_looked_at(*mark, self.zeros))
            .collect();
        own.sort_unstable();
        own.dedup();
        self.marks.extend(own.into_iter().map(|mark| (mark, take)));
        while self.marks.len() > MOST_MARKS {
            self.zeros += 1;
            let zeros = self.zeros;
            self.marks.retain(|(mark, _)| is_looked_at(*mark, zeros));
        }
    }

    /// The pairs, each once, in order.
    #[must_use]
    pub fn pairs(mut self) -> Vec<(u32, u32)> {
        self.marks.sort_unstable();
        let mut pairs = Vec::new();
        for sharing in self.marks.chunk_by(|a, b| a.0 == b.0) {
            if sharing.len() > MOST_SHARING {
                continue;
            }
            for (n, (_, first)) in sharing.iter().enumerate() {
                pairs.extend(sharing[n + 1..].iter().map(|(_, second)| (*first, *second)));
            }
        }
        pairs.sort_unstable();
        pairs.dedup();
        pairs
    }
}

/// Which marks are looked at depends on the mark alone, so that takes that share it both have it.
fn is_looked_at(mark: u32, zeros: u32) -> bool {
    // Multiplication spreads the bits (D. E. Knuth, The Art of Computer Programming 3, 6.4).
    mark.wrapping_mul(2_654_435_769).swap_bytes().trailing_zeros() >= zeros
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words_of(samples: &[f32], rate_hz: f64, block: usize) -> Vec<u16> {
        let mut printer = Printer::new(rate_hz);
        samples.chunks(block).for_each(|samples| printer.push(samples));
        printer.finish()
    }

    #[test]
    fn a_fingerprint_does_not_depend_on_how_the_samples_come() {
        let samples: Vec<f32> =
            (0..96_000_u32).map(|n| (n.wrapping_mul(n) as f32 * 1e-5).sin()).collect();
        let whole = words_of(&samples, 48_000.0, 96_000);
        assert_eq!(whole.len(), 49);
        for block in [1, 100, 1500, 7777, 20_000] {
            assert_eq!(words_of(&samples, 48_000.0, block), whole, "{block}");
        }
        assert!(words_of(&samples[..10_000], 48_000.0, 512).is_empty());
        assert!(words_of(&vec![0.0; 96_000], 48_000.0, 512).iter().all(|word| *word == 0));
    }

    #[test]
    fn the_offset_is_that_of_the_cut() {
        let words: Vec<u16> = (0..100_u32).map(|n| (n * 40_503) as u16 ^ 0x5a5a).collect();
        let found = alike(&words, &words[10..60]).expect("one recording");
        assert_eq!((found.offset_s, found.differing), (10.0 / WORDS_PER_S, 0.0));
        assert_eq!(alike(&words, &[]), None);
        let mut finder = Finder::default();
        finder.push(&words);
        finder.push(&[1, 2, 3]);
        finder.push(&words[10..60]);
        assert_eq!(finder.pairs(), [(0, 2)]);
    }
}
