//! Clicks and dropouts: what a cable, a full disk or a bad edit leaves.

use std::collections::VecDeque;

use serde::Serialize;

use super::grain::{BEFORE, Grain, grain_length};
use crate::finding::Finding;

/// Grains on each side that a click is compared with: 50 ms; and those next to it that it may
/// reach.
const AROUND: usize = 20;
const BESIDE: usize = 1;
/// How many times the second difference of a click exceeds all around it.
const CLICK_RATIO: f32 = 5.0;
/// Largest ratio of the powers before and after a click; more is a beginning or an end.
const LEVEL_RATIO: f64 = 4.0;
/// Smallest click, re full scale, and in steps of the coding.
const SMALLEST_CLICK: f32 = 3e-5;
const SMALLEST_STEPS: f32 = 8.0;
/// Shortest and longest dropout in seconds.
const DROPOUT_S: [f64; 2] = [0.001, 0.25];
/// Grains before and after a dropout in which there must be sound, 5 ms, and how much: so many
/// steps of the coding.
const BESIDE_DROPOUT: usize = 2;
const SOUND_STEPS: f64 = 12.0;
/// Samples from one to the next that is looked at for a zero.
const PROBE: usize = BEFORE;
/// Share of the RMS beside it by which the waveform must jump into or out of a dropout.
const JUMP: f32 = 0.15;
/// Faults that are listed one by one.
const MOST_LISTED: usize = 1000;

/// A stretch of zeros in the middle of sound.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Dropout {
    /// Time of its first sample in seconds from the start of the take.
    pub start_s: f64,
    /// Time after its last sample in seconds.
    pub end_s: f64,
}

/// Clicks and dropouts of one channel.
#[derive(Debug, Clone, PartialEq, Default, Serialize)]
pub struct Faults {
    /// Number of clicks.
    pub click_count: u64,
    /// Their times in seconds from the start of the take; at most 1000.
    pub clicks_s: Vec<f64>,
    /// Number of dropouts.
    pub dropout_count: u64,
    /// The dropouts; at most 1000.
    pub dropouts: Vec<Dropout>,
}

/// Looks for clicks and dropouts in one channel.
///
/// A **click** is a place where the largest second difference in a grain of 2.5 ms is more than
/// five times that of the 50 ms before and after, and the sound is as loud after it as before
/// (within 6 dB): so a beginning is no click, nor are the pulses of a low tone.
///
/// A **dropout** is a run of exact zeros of 1 to 250 ms with sound in the 5 ms before and after,
/// into or out of which the waveform jumps.
#[derive(Debug, Clone)]
pub(super) struct FaultMeter {
    sample_rate_hz: f64,
    position: u64,
    grain: usize,
    /// A step of the coding re full scale.
    step: f32,
    /// The grains around the one that is judged, which stands in the middle.
    chunks: VecDeque<Chunk>,
    /// The run of zeros that goes on, and those that have ended and wait for what follows.
    run: Option<Run>,
    ended: VecDeque<Run>,
    faults: Faults,
}

#[derive(Debug, Clone, Copy, Default)]
struct Chunk {
    /// Largest second difference, and the sample it is at.
    largest: f32,
    at: u64,
    energy: f64,
}

/// A run of zeros that may be a dropout, from sample `start` to before `end`.
#[derive(Debug, Clone, Copy)]
struct Run {
    start: u64,
    end: u64,
    /// Mean square before it.
    power: f64,
    /// Larger of the samples beside it.
    jump: f32,
}

impl FaultMeter {
    /// A meter for samples from `first_sample` of a take on; `step` is a step of their coding re
    /// full scale, 0 if there is none.
    pub(super) fn new(sample_rate_hz: f64, first_sample: u64, step: f32) -> Self {
        Self {
            sample_rate_hz,
            position: first_sample,
            grain: grain_length(sample_rate_hz),
            step,
            chunks: VecDeque::new(),
            run: None,
            ended: VecDeque::new(),
            faults: Faults::default(),
        }
    }

    /// Takes the next grain.
    pub(super) fn take(&mut self, grain: Grain<'_>) {
        let (window, largest) = (&grain.window[BEFORE - 2..], grain.totals.bend);
        // Where it is matters only if it may be a click.
        let earlier = self.chunks.iter().rev().nth(BESIDE);
        let stands_out = earlier.is_none_or(|earlier| largest > CLICK_RATIO * earlier.largest);
        let is_it = |w: &[f32]| ((w[2] - w[1]) - (w[1] - w[0])).abs() == largest;
        let place = if stands_out { window.windows(3).position(is_it) } else { None };
        // The middle of a second difference is the sample before its last.
        let at = (self.position + place.unwrap_or(0) as u64).saturating_sub(1);
        self.chunks.push_back(Chunk { largest, at, energy: grain.totals.squares });
        if self.chunks.len() > 2 * AROUND + 1 {
            self.chunks.pop_front();
        }
        if let Some(middle) = self.chunks.len().checked_sub(AROUND + 1) {
            self.judge(middle);
        }
        self.find_zeros(grain);
        self.position += self.grain as u64;
    }

    /// Judges whether the chunk at `middle` holds a click.
    fn judge(&mut self, middle: usize) {
        let Chunk { largest, at, .. } = self.chunks[middle];
        let smallest = (SMALLEST_STEPS * self.step).max(SMALLEST_CLICK);
        // Most grains end here.
        let near = [middle.checked_sub(BESIDE + 1), Some(middle + BESIDE + 1)];
        let near = near.into_iter().flatten().filter_map(|n| self.chunks.get(n));
        if largest < smallest || near.into_iter().any(|c| c.largest * CLICK_RATIO > largest) {
            return;
        }
        let before = self.chunks.iter().take(middle.saturating_sub(BESIDE));
        let after = self.chunks.iter().skip(middle + BESIDE + 1);
        let most = before.clone().chain(after.clone()).map(|c| c.largest).fold(0.0, f32::max);
        // A click may lie across two chunks: the larger half speaks.
        let (start, end) = (middle.saturating_sub(BESIDE), middle + BESIDE);
        let is_largest = (start..=end).all(|n| {
            n == middle
                || self
                    .chunks
                    .get(n)
                    .is_none_or(|c| c.largest < largest || (c.largest == largest && n > middle))
        });
        let mean = |energy: f64, count: usize| energy / (count.max(1) * self.grain) as f64;
        let power_before = mean(before.clone().map(|c| c.energy).sum(), before.count());
        let power_after = mean(after.clone().map(|c| c.energy).sum(), after.count());
        // Beside a click in silence any level is the same.
        let little = f64::from(largest / 50.0).powi(2);
        let ratio = (power_before + little) / (power_after + little);
        let is_even = (1.0 / LEVEL_RATIO..LEVEL_RATIO).contains(&ratio);
        if most * CLICK_RATIO < largest && is_largest && is_even {
            self.faults.click_count += 1;
            if self.faults.clicks_s.len() < MOST_LISTED {
                self.faults.clicks_s.push(at as f64 / self.sample_rate_hz);
            }
        }
    }

    /// Follows runs of zeros through a grain.
    fn find_zeros(&mut self, grain: Grain<'_>) {
        let power = |chunks: &VecDeque<Chunk>, newest: usize| {
            let last = chunks.iter().rev().skip(newest).take(BESIDE_DROPOUT);
            let (sum, count) = last.fold((0.0, 0), |(sum, count), c| (sum + c.energy, count + 1));
            sum / (f64::from(count.max(1)) * self.grain as f64)
        };
        // What follows a run is known when so many grains have passed.
        let passed = (BESIDE_DROPOUT - 1) * self.grain;
        let passed = self.position.saturating_sub(passed as u64);
        while let Some(run) = self.ended.front().filter(|run| run.end <= passed).copied() {
            self.ended.pop_front();
            let after = power(&self.chunks, 0);
            let least = (SOUND_STEPS * f64::from(self.step)).powi(2).max(1e-10);
            let rms = run.power.max(after).sqrt() as f32;
            let length_s = (run.end - run.start) as f64 / self.sample_rate_hz;
            if run.power.min(after) > least
                && run.jump > JUMP * rms
                && (DROPOUT_S[0]..=DROPOUT_S[1]).contains(&length_s)
            {
                self.faults.dropout_count += 1;
                if self.faults.dropouts.len() < MOST_LISTED {
                    let start_s = run.start as f64 / self.sample_rate_hz;
                    let end_s = run.end as f64 / self.sample_rate_hz;
                    self.faults.dropouts.push(Dropout { start_s, end_s });
                }
            }
        }
        // A run that is long enough passes one of these.
        let mut probes = grain.samples().iter().step_by(PROBE);
        if self.run.is_some() || probes.any(|x| *x == 0.0) {
            // It may have begun before the grain.
            let before = if self.run.is_some() { 0 } else { BEFORE as u64 - 1 };
            let window = &grain.window[BEFORE - 1 - before as usize..];
            for (n, pair) in (self.position.saturating_sub(before)..).zip(window.windows(2)) {
                let x = pair[1];
                match &mut self.run {
                    None if x == 0.0 => {
                        let (power, jump) = (power(&self.chunks, 1), pair[0].abs());
                        self.run = Some(Run { start: n, end: n, power, jump });
                    }
                    Some(run) if x != 0.0 => {
                        let run = Run { end: n, jump: run.jump.max(x.abs()), ..*run };
                        if (run.end - run.start) as f64 >= DROPOUT_S[0] * self.sample_rate_hz {
                            self.ended.push_back(run);
                        }
                        self.run = None;
                    }
                    _ => {}
                }
            }
        }
    }

    /// The faults in the samples so far.
    pub(super) fn finish(mut self) -> Faults {
        // Silence follows the last sample, so that the last 50 ms are judged too.
        let silent = self.chunks.len().min(AROUND);
        for middle in self.chunks.len() - silent..self.chunks.len() {
            self.judge(middle);
        }
        // The ends of a dropout are no clicks of their own.
        let beside_s = self.grain as f64 / self.sample_rate_hz;
        let Faults { clicks_s, dropouts, click_count, .. } = &mut self.faults;
        let listed = clicks_s.len();
        clicks_s.retain(|time_s| {
            !dropouts.iter().any(|dropout| {
                [dropout.start_s, dropout.end_s]
                    .iter()
                    .any(|end_s| (end_s - time_s).abs() < beside_s)
            })
        });
        *click_count -= (listed - clicks_s.len()) as u64;
        self.faults
    }
}

impl Faults {
    /// What these say about the recording; `channel` is the name to print.
    #[must_use]
    pub fn findings(&self, channel: &str) -> Vec<Finding> {
        let mut findings = Vec::new();
        if let Some(first_s) = self.clicks_s.first() {
            let count = count_of(self.click_count, "click");
            findings.push(Finding::warning(
                "clicks",
                format!(
                    "Channel {channel} has {count} at {first_s:.4} s. A click fills the \
                     whole spectrum and looks like an onset; check the cable and the clock, and \
                     analyse a span without it."
                ),
            ));
        }
        if let Some(first) = self.dropouts.first() {
            let count = count_of(self.dropout_count, "dropout");
            findings.push(Finding::serious(
                "dropouts",
                format!(
                    "Channel {channel} has {count} at {:.4} s, for {:.1} ms. Partials are \
                     interrupted there and levels read too low; record again, or analyse a span \
                     without it.",
                    first.start_s,
                    1000.0 * (first.end_s - first.start_s)
                ),
            ));
        }
        findings
    }
}

fn count_of(count: u64, what: &str) -> String {
    if count == 1 { format!("a {what}") } else { format!("{count} {what}s, the first") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::intake::grain::Grains;
    use crate::synth::{
        PluckedString, Vibrato, alder_hall, coloured_noise, fade, harmonics, mix, render, sine,
        to_samples, white_noise,
    };
    use rand_chacha::ChaCha8Rng;
    use rand_chacha::rand_core::SeedableRng;
    use rand_distr::{Distribution, Uniform};

    const RATE: f64 = 48_000.0;
    const STEP: f32 = 1.0 / 8_388_608.0;

    fn faults_of(samples: &[f32]) -> Faults {
        let mut meter = FaultMeter::new(RATE, 0, STEP);
        let mut grains = Grains::new(RATE, 1);
        samples.chunks(1000).for_each(|block| grains.push(&[block], |_, grain| meter.take(grain)));
        meter.finish()
    }

    /// Sounds without faults.
    fn clean(seed: u64) -> Vec<f32> {
        let mut generator = ChaCha8Rng::seed_from_u64(seed);
        let mut pick =
            |low: f64, high: f64| Uniform::new(low, high).expect("a range").sample(&mut generator);
        let mut sound = white_noise(seed, 10f64.powf(pick(-95.0, -60.0) / 20.0), 192_000);
        match seed % 5 {
            0 => {
                let amplitudes: Vec<f64> = (1..40).map(|n| 0.2 / f64::from(n)).collect();
                let f0_hz = pick(30f64.log2(), 900f64.log2()).exp2();
                mix(
                    &mut sound,
                    &render(&harmonics(f0_hz, &amplitudes), Vibrato::default(), RATE, 4.0),
                );
            }
            1 => {
                let string = PluckedString {
                    frequency_hz: pick(5.0, 9.0).exp2(),
                    ..PluckedString::default()
                };
                let start = pick(0.1, 0.5);
                mix(&mut sound[(start * RATE) as usize..], &string.render(RATE, 5.0));
            }
            2 => mix(&mut sound, &alder_hall::bell_note(RATE, 4.0)),
            3 => {
                mix(
                    &mut sound,
                    &coloured_noise(seed, 0.1, pick(100.0, 8000.0), 2.0, RATE, 192_000),
                );
            }
            _ => {
                let mut flute = alder_hall::flute_tone(RATE, 2.0);
                fade(&mut flute, pick(0.001, 0.1), RATE);
                mix(&mut sound[48_000..], &flute);
            }
        }
        to_samples(&sound)
    }

    #[test]
    fn clicks_and_dropouts_are_found_at_their_place() {
        let (mut found, mut all) = (0, 0);
        for seed in 0..50u64 {
            let whole = clean(seed);
            assert_eq!(faults_of(&whole), Faults::default(), "seed {seed}");
            let mut generator = ChaCha8Rng::seed_from_u64(1000 + seed);
            let mut place =
                || Uniform::new(60_000, 180_000).expect("a range").sample(&mut generator);
            let mut clicked = whole.clone();
            let at: usize = place();
            // Four times the steepest bend of the sound.
            let bend = |w: &[f32]| (w[0] - 2.0 * w[1] + w[2]).abs();
            clicked[at] += 4.0 * whole.windows(3).map(bend).fold(0.01, f32::max);
            let faults = faults_of(&clicked);
            assert_eq!(faults.click_count, 1, "seed {seed}");
            assert!(
                (faults.clicks_s[0] - at as f64 / RATE).abs() < 1e-9,
                "seed {seed}: {faults:?} {at}"
            );
            let mut dropped = whole;
            let (start, count) = (place(), 60 + 150 * seed as usize);
            // Where there is sound enough.
            if seed % 5 == 1 {
                continue;
            }
            dropped[start..start + count].fill(0.0);
            let faults = faults_of(&dropped);
            all += 1;
            if let [Dropout { start_s, end_s }] = faults.dropouts[..] {
                let end = (start + count) as f64 / RATE;
                assert_eq!((start_s, end_s), (start as f64 / RATE, end));
                found += 1;
            }
        }
        // One that begins and ends where the waveform crosses zero looks like a pause.
        println!("{found} of {all} dropouts found");
        assert!(found * 100 >= 85 * all);
    }

    #[test]
    fn pulses_and_pauses_are_no_faults() {
        // One half of each wave only, a square wave, and notes with digital silence between.
        let half: Vec<f32> =
            sine(200.0, 0.5, 0.0, RATE, 96_000).iter().map(|x| x.max(0.0)).collect();
        assert_eq!(faults_of(&half), Faults::default());
        let square: Vec<f32> = half.iter().map(|x| if *x > 0.0 { 0.4 } else { -0.4 }).collect();
        assert_eq!(faults_of(&square), Faults::default());
        let mut notes = vec![0.0f32; 192_000];
        for start in [10_000, 60_000, 110_000] {
            let mut note = PluckedString::default().render(RATE, 0.9);
            fade(&mut note, 0.01, RATE);
            for (x, y) in notes[start..].iter_mut().zip(to_samples(&note)) {
                *x = y;
            }
        }
        assert_eq!(faults_of(&notes), Faults::default());
        assert_eq!(faults_of(&vec![0.0; 48_000]), Faults::default());
        assert_eq!(faults_of(&[0.5; 10]), Faults::default());
    }
}
