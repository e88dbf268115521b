//! The course of a take: when something sounds, and when something begins.

use std::collections::VecDeque;

use serde::Serialize;

use super::grain::{Totals, grain_length};
use crate::onsets::{NOTHING_DB, OnsetFinder};
use crate::units::{amplitude_from_db, db_from_power};

/// Blocks over which an energy is taken for a region.
const REGION_BLOCKS: usize = 2;
/// A region begins where the level stands so far out of the noise, and ends where it no longer
/// does.
const SOUNDING_DB: f64 = 6.0;
const OVER_DB: f64 = 3.0;
/// Shorter gaps do not end a region, and shorter regions are clicks; in seconds.
const SHORTEST_GAP_S: f64 = 0.05;
const SHORTEST_REGION_S: f64 = 0.015;
/// A step of the stored levels, and the lowest of them, in dB.
const STORED_STEP_DB: f64 = 0.5;
const STORED_LOWEST_DB: f64 = -127.0;
/// By how much an onset must stand out of the noise.
const ONSET_OVER_NOISE_DB: f64 = 8.0;
/// And by how much it must grow, in nats.
const LEAST_GROWTH: f32 = 1.0;
/// An onset lies so near to the start of its region, and a second rise of the same needs a fall by
/// so much before it.
const RISE_S: f64 = 0.02;
const FALL_BETWEEN_DB: f64 = 3.0;

/// A stretch of time in which something sounds.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Region {
    /// Its start in seconds from the start of the take.
    pub start_s: f64,
    /// Its end in seconds; the end of the span if it sounds to the last.
    pub end_s: f64,
}

/// The course of a take, as far as it can be said.
#[derive(Debug, Clone, PartialEq, Default, Serialize)]
pub struct Course {
    /// Where something sounds.
    pub regions: Vec<Region>,
    /// When something begins to sound, in seconds from the start of the take.
    pub onsets_s: Vec<f64>,
    /// When the last sound has died into the noise, in seconds from the start of the take; `None`
    /// if the span ends before.
    pub died_s: Option<f64>,
}

/// Follows the energy of a take, all channels together.
///
/// **Regions.** The energy of the samples less their mean, in grains of 2.5 ms and summed over the
/// channels, is compared over 5 ms with the noise floor: something sounds from
/// where it exceeds it by 6 dB to where it stays below 3 dB for 50 ms.
///
/// **Onsets.** Where something begins in all channels mixed, see [`OnsetFinder`].
///
/// Only a byte for each 5 ms is kept: 0.7 MB an hour.
#[derive(Clone)]
pub(super) struct CourseMeter {
    sample_rate_hz: f64,
    first_sample: u64,
    block: usize,
    channels: usize,
    energy: f64,
    blocks: u64,
    /// Powers of the samples in the last blocks.
    recent: VecDeque<f64>,
    stored: Vec<u8>,
    onsets: OnsetFinder,
}

impl CourseMeter {
    /// A meter for a take of `channels` channels, from `first_sample` on.
    pub(super) fn new(sample_rate_hz: f64, channels: usize, first_sample: u64) -> Self {
        let block = grain_length(sample_rate_hz);
        Self {
            sample_rate_hz,
            first_sample,
            block,
            channels,
            energy: 0.0,
            blocks: 0,
            recent: VecDeque::new(),
            stored: Vec::new(),
            onsets: OnsetFinder::new(sample_rate_hz),
        }
    }

    /// Takes the next samples of all channels.
    pub(super) fn hear<S: AsRef<[f32]>>(&mut self, channels: &[S]) {
        // Weights that differ: no two channels cancel each other.
        const GOLDEN: f32 = 0.618;
        let Some(first) = channels.first() else { return };
        let mut mixed = first.as_ref().to_vec();
        for (n, channel) in channels.iter().enumerate().skip(1) {
            let weight = 0.5 + 0.5 * (n as f32 * GOLDEN).fract();
            for (sum, x) in mixed.iter_mut().zip(channel.as_ref()) {
                *sum += weight * x;
            }
        }
        self.onsets.push(&mixed);
    }

    /// Takes the totals of the next grain of a channel; all channels in turn.
    pub(super) fn take(&mut self, channel: usize, totals: &Totals) {
        // What is constant over the block is rumble or DC.
        self.energy += totals.alternating;
        if channel + 1 == self.channels {
            self.end_block();
        }
    }

    fn end_block(&mut self) {
        self.recent.push_back(self.energy / self.block as f64);
        if self.recent.len() > REGION_BLOCKS {
            self.recent.pop_front();
        }
        self.blocks += 1;
        if self.blocks.is_multiple_of(REGION_BLOCKS as u64) {
            let mean = self.recent.iter().sum::<f64>() / self.recent.len() as f64;
            self.stored.push(code(db_from_power(2.0 * mean)));
        }
        self.energy = 0.0;
    }

    /// The course of the samples so far, `samples` in all; `noise_dbfs` is the noise floor,
    /// power-summed over the channels.
    pub(super) fn finish(self, samples: u64, noise_dbfs: Option<f64>) -> Course {
        let block_s = self.block as f64 / self.sample_rate_hz;
        let start_s = self.first_sample as f64 / self.sample_rate_hz;
        let noise_db = noise_dbfs.unwrap_or(NOTHING_DB).max(NOTHING_DB);
        let step_s = block_s * REGION_BLOCKS as f64;
        let mut regions = regions(&self.stored, noise_db, step_s);
        // The last incomplete block belongs to what sounds before it.
        let end_s = samples as f64 / self.sample_rate_hz;
        let whole_s = self.stored.len() as f64 * step_s;
        let is_cut_off = regions.last().is_some_and(|region| region.end_s >= whole_s);
        if let Some(last) = regions.last_mut().filter(|_| is_cut_off) {
            last.end_s = end_s;
        }
        let found = self.onsets.finish();
        let least = amplitude_from_db(noise_db + ONSET_OVER_NOISE_DB).powi(2);
        let loud = found.iter().filter(|onset| {
            // What is cut off begins nothing.
            onset.is_certain() && onset.growth > LEAST_GROWTH && onset.power > least
        });
        // What begins just before the end is the cut.
        let found_s: Vec<f64> =
            loud.map(|onset| onset.time_s).filter(|time_s| *time_s < end_s - RISE_S).collect();
        let onsets_s = onsets_in(&regions, &found_s, &self.stored, step_s, noise_db);
        for region in &mut regions {
            region.start_s += start_s;
            region.end_s += start_s;
        }
        let onsets_s = onsets_s.into_iter().map(|time_s| start_s + time_s).collect();
        let died_s = regions.last().filter(|_| !is_cut_off).map(|region| region.end_s);
        Course { regions, onsets_s, died_s }
    }
}

/// A level as it is stored.
fn code(level_db: f64) -> u8 {
    ((level_db - STORED_LOWEST_DB) / STORED_STEP_DB).round() as u8
}

/// Where stored levels stand out of the noise, in seconds from the first.
fn regions(stored: &[u8], noise_db: f64, step_s: f64) -> Vec<Region> {
    let (begin, over) = (code(noise_db + SOUNDING_DB), code(noise_db + OVER_DB));
    let gap = (SHORTEST_GAP_S / step_s).round() as usize;
    let mut regions: Vec<(usize, usize)> = Vec::new();
    // Where it began, and the end of what was last above the lower limit.
    let mut current: Option<(usize, usize)> = None;
    for (n, level) in stored.iter().enumerate() {
        match &mut current {
            Some((_, end)) if *level > over => *end = n + 1,
            Some((start, end)) if n - *end >= gap => {
                regions.push((*start, *end));
                current = None;
            }
            None if *level > begin => current = Some((n, n + 1)),
            _ => {}
        }
    }
    regions.extend(current);
    regions
        .into_iter()
        .map(|(start, end)| Region { start_s: start as f64 * step_s, end_s: end as f64 * step_s })
        .filter(|region| region.end_s - region.start_s >= SHORTEST_REGION_S)
        .collect()
}

/// A region begins with an onset, and those found within it follow, but for those that belong to
/// the same slow rise. All times are in seconds from the first stored level.
fn onsets_in(
    regions: &[Region],
    found_s: &[f64],
    stored: &[u8],
    step_s: f64,
    noise_db: f64,
) -> Vec<f64> {
    let block_at = |time_s: f64| (time_s / step_s).round() as usize;
    let fall = (FALL_BETWEEN_DB / STORED_STEP_DB) as u8;
    let loud = code(noise_db + ONSET_OVER_NOISE_DB);
    let mut onsets_s = Vec::new();
    for region in regions {
        let first = block_at(region.start_s);
        let is_in = |time_s: &&f64| **time_s >= region.start_s - RISE_S && **time_s < region.end_s;
        let mut within: Vec<f64> = found_s.iter().filter(is_in).copied().collect();
        // Before the first fall it is one rise.
        let mut largest = 0;
        let rises = |level: &&u8| {
            largest = largest.max(**level);
            level.saturating_add(fall) > largest
        };
        let risen = first + stored[first..].iter().take_while(rises).count();
        let has_early = within.first().is_some_and(|time_s| *time_s < region.start_s + RISE_S);
        let early_s = has_early.then(|| within.remove(0));
        if early_s.is_some() || stored[first..risen].iter().any(|level| *level > loud) {
            let begin_s = begin_of(stored, first) as f64 * step_s;
            // A sudden onset is placed more exactly by its rise.
            onsets_s.push(
                early_s.filter(|early_s| early_s - begin_s < 2.0 * step_s).unwrap_or(begin_s),
            );
        }
        onsets_s.extend(within.into_iter().filter(|time_s| block_at(*time_s) > risen));
    }
    onsets_s
}

/// Where the rise to block `first` began: the first of the blocks before it that all stand out of
/// the tenth of a second before them.
fn begin_of(stored: &[u8], first: usize) -> usize {
    let before = &stored[first.saturating_sub(40)..first.saturating_sub(20)];
    let Some(floor) = before.iter().max().filter(|_| before.len() > 10) else { return first };
    let rising = stored[..first].iter().rev().take(20).take_while(|level| *level > floor);
    first - rising.count()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::intake::grain::Grains;
    use crate::synth::{
        PluckedString, Vibrato, coloured_noise, fade, harmonics, mix, render, to_samples,
        white_noise,
    };
    use rand_chacha::ChaCha8Rng;
    use rand_chacha::rand_core::SeedableRng;
    use rand_distr::{Distribution, Uniform};

    const RATE: f64 = 48_000.0;

    fn course_of(sound: &[f64], noise_rms: f64) -> Course {
        let samples = to_samples(sound);
        let mut meter = CourseMeter::new(RATE, 1, 0);
        let mut grains = Grains::new(RATE, 1);
        samples.chunks(4001).for_each(|block| {
            meter.hear(&[block]);
            grains.push(&[block], |n, grain| meter.take(n, &grain.totals));
        });
        meter.finish(samples.len() as u64, Some(db_from_power(2.0 * noise_rms * noise_rms)))
    }

    struct Chance(ChaCha8Rng);

    impl Chance {
        fn pick(&mut self, low: f64, high: f64) -> f64 {
            Uniform::new(low, high).expect("a range").sample(&mut self.0)
        }
    }

    fn tone(chance: &mut Chance, vibrato: Vibrato, seconds: f64) -> Vec<f64> {
        let f0_hz = chance.pick(100f64.log2(), 1500f64.log2()).exp2();
        let slope = chance.pick(1.0, 2.0);
        let amplitudes: Vec<f64> = (1..16).map(|n| 0.2 / f64::from(n).powf(slope)).collect();
        render(&harmonics(f0_hz, &amplitudes), vibrato, RATE, seconds)
    }

    #[test]
    fn bursts_are_regions_and_begin_with_onsets() {
        let (mut worst_edge, mut worst_onset) = (0.0f64, 0.0f64);
        for seed in 0..60 {
            let mut chance = Chance(ChaCha8Rng::seed_from_u64(seed));
            let noise_rms = amplitude_from_db(chance.pick(-95.0, -55.0));
            let mut sound = white_noise(seed, noise_rms, (6.0 * RATE) as usize);
            let mut truth = vec![];
            let mut start_s = chance.pick(0.1, 0.5);
            while start_s < 4.5 {
                let length_s = chance.pick(0.1, 1.2);
                let mut burst = if seed % 3 == 0 {
                    coloured_noise(
                        seed,
                        0.05,
                        chance.pick(300.0, 6000.0),
                        1.0,
                        RATE,
                        (length_s * RATE) as usize,
                    )
                } else {
                    tone(&mut chance, Vibrato::default(), length_s)
                };
                fade(&mut burst, chance.pick(0.001, 0.03), RATE);
                mix(&mut sound[(start_s * RATE) as usize..], &burst);
                truth.push((start_s, start_s + length_s));
                start_s += length_s + chance.pick(0.1, 0.5);
            }
            let course = course_of(&sound, noise_rms);
            assert_eq!(course.regions.len(), truth.len(), "seed {seed}: {course:?} {truth:?}");
            for (region, (start_s, end_s)) in course.regions.iter().zip(&truth) {
                let edge = (region.start_s - start_s).abs().max((region.end_s - end_s).abs());
                worst_edge = worst_edge.max(edge);
            }
            assert_eq!(course.onsets_s.len(), truth.len(), "seed {seed}: {course:?} {truth:?}");
            for (onset_s, (start_s, _)) in course.onsets_s.iter().zip(&truth) {
                worst_onset = worst_onset.max((onset_s - start_s).abs());
            }
            assert!(course.died_s.is_some());
        }
        println!(
            "worst edge of a region {:.1} ms, worst onset {:.1} ms",
            1e3 * worst_edge,
            1e3 * worst_onset
        );
        assert!(worst_edge < 0.02 && worst_onset < 0.01);
    }

    #[test]
    fn plucked_notes_begin_once_each_while_others_sound() {
        plucked_notes_begin_once_each(0..10);
    }

    #[test]
    #[ignore = "takes a minute"]
    fn all_plucked_notes_begin_once_each_while_others_sound() {
        plucked_notes_begin_once_each(0..80);
    }

    fn plucked_notes_begin_once_each(seeds: std::ops::Range<u64>) {
        let (mut missed, mut false_ones, mut all, mut worst) = (0, 0, 0, 0.0f64);
        for seed in seeds {
            let mut chance = Chance(ChaCha8Rng::seed_from_u64(100 + seed));
            let noise_rms = amplitude_from_db(chance.pick(-95.0, -70.0));
            let mut sound = white_noise(seed, noise_rms, (8.0 * RATE) as usize);
            let mut truth = vec![];
            let mut start_s = chance.pick(0.05, 0.5);
            while start_s < 7.0 {
                let string = PluckedString {
                    frequency_hz: chance.pick(80f64.log2(), 900f64.log2()).exp2(),
                    t60_s: chance.pick(1.0, 6.0),
                    amplitude: chance.pick(0.05, 0.2),
                    ..PluckedString::default()
                };
                let start = (start_s * RATE) as usize;
                mix(&mut sound[start..], &string.render(RATE, 8.1 - start_s));
                truth.push(start_s);
                start_s += chance.pick(0.12, 1.0);
            }
            let found = course_of(&sound, noise_rms).onsets_s;
            let near = |list: &[f64], time: f64| {
                list.iter().map(|other| (other - time).abs()).fold(f64::INFINITY, f64::min)
            };
            for time in &truth {
                let error = near(&found, *time);
                if error < 0.01 { worst = worst.max(error) } else { missed += 1 }
            }
            false_ones += found.iter().filter(|time| near(&truth, **time) >= 0.01).count();
            all += truth.len();
        }
        println!(
            "plucked notes: {missed} of {all} missed, {false_ones} false, worst {:.1} ms",
            1e3 * worst
        );
        // Missed are soft notes under louder ones that still sound.
        assert!(missed * 12 <= all && false_ones * 100 <= all);
    }

    #[test]
    fn a_sustained_tone_begins_once_whatever_its_vibrato() {
        // Of 20 tones that beat almost to nothing.
        let mut more_than_one = 0;
        for seed in 0..80 {
            let mut chance = Chance(ChaCha8Rng::seed_from_u64(200 + seed));
            let noise_rms = amplitude_from_db(chance.pick(-95.0, -60.0));
            let mut sound = white_noise(seed, noise_rms, (5.0 * RATE) as usize);
            let vibrato =
                Vibrato { rate_hz: chance.pick(3.0, 9.0), depth_cents: chance.pick(5.0, 120.0) };
            let mut held = tone(&mut chance, vibrato, 4.0);
            // The level wavers with the pitch, nearly to nothing: beats.
            let depth = if seed % 4 == 3 { 0.9 } else { chance.pick(0.0, 0.5) };
            let rate_hz = if seed % 4 == 3 { chance.pick(0.2, 6.0) } else { vibrato.rate_hz };
            for (n, x) in held.iter_mut().enumerate() {
                let turn = std::f64::consts::PI * rate_hz * n as f64 / RATE;
                *x *= 1.0 - depth + depth * turn.cos().abs();
            }
            fade(&mut held, chance.pick(0.005, 0.1), RATE);
            let breath =
                coloured_noise(seed, amplitude_from_db(-50.0), 1500.0, 0.7, RATE, held.len());
            mix(&mut held, &breath);
            mix(&mut sound[24_000..], &held);
            let course = course_of(&sound, noise_rms);
            if seed % 4 == 3 {
                more_than_one += usize::from(course.onsets_s.len() > 1);
            } else {
                assert_eq!(course.onsets_s.len(), 1, "seed {seed}: {course:?}");
            }
            assert!((course.onsets_s[0] - 0.5).abs() < 0.01, "seed {seed}: {course:?}");
        }
        println!("beats taken for onsets in {more_than_one} of 20 tones");
        assert!(more_than_one <= 1);
    }

    #[test]
    fn noise_has_no_course_and_silence_neither() {
        let noise = white_noise(1, 1e-3, 200_000);
        let course = course_of(&noise, 1e-3);
        assert!(course.regions.is_empty() && course.onsets_s.is_empty(), "{course:?}");
        assert_eq!(course_of(&vec![0.0; 48_000], 0.0), Course::default());
        let whole = course_of(&vec![0.1; 48_000], 1e-6);
        assert_eq!(whole.onsets_s, [0.0; 0], "a constant is no sound");
        let mut tone = render(&harmonics(300.0, &[0.1]), Vibrato::default(), RATE, 1.0);
        mix(&mut tone, &white_noise(2, 1e-5, 48_000));
        tone[47_990] += 0.05;
        let course = course_of(&tone, 1e-5);
        assert_eq!(course.regions, [Region { start_s: 0.0, end_s: 1.0 }]);
        assert!(course.died_s.is_none() && course.onsets_s == [0.0], "{course:?}");
    }
}
