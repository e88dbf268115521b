//! Peak, RMS, DC and clipping of one channel.

use serde::Serialize;

use super::grain::{Grain, Grains};
use crate::finding::Finding;
use crate::units::{db_from_amplitude, db_from_power};

/// Samples in a row at full scale, or on a flat top, that make a clip. A sine that just touches
/// full scale has one or two.
const FEWEST_CLIPPED: u64 = 3;
/// Clips that are listed one by one; those after them are still counted.
const MOST_CLIPS_LISTED: usize = 10_000;
/// Step onto and off a flat top, in steps of the coding, from which it was cut. The rounded crest
/// of a whole wave is left by one or two steps.
const STEEP_STEPS: f32 = 3.0;
/// Time over which the loudest moment is averaged, in seconds.
const MOMENT_S: f64 = 0.05;
/// DC offset that gets a finding, re full scale: −60 dB.
const NOTABLE_DC: f64 = 1e-3;
/// Share of the RMS that the DC must also reach, so that it matters to a loud take.
const NOTABLE_DC_SHARE: f64 = 1e-2;
/// Bits that are reported as missing only if there are at least so many.
const NOTABLE_UNUSED_BITS: u32 = 2;

/// A run of clipped samples.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Clip {
    /// Time of its first sample in seconds from the start of the take.
    pub start_s: f64,
    /// Time after its last sample in seconds.
    pub end_s: f64,
    /// Its length in samples.
    pub samples: u64,
}

/// Levels of one channel.
///
/// With N samples x, full scale being 1:
///
/// | quantity | equation | unit |
/// |---|---|---|
/// | peak | 20 lg max \|x\| | dBFS |
/// | true peak | the same of the waveform between the samples (ITU-R BS.1770-5, annex 2) | dBFS |
/// | RMS | 10 lg (2 Σx² / N), so that a full-scale sine reads 0 dB (AES17-2020) | dBFS |
/// | crest | 20 lg (max \|x\| / √(Σx²/N)); 3.01 for a sine | dB |
/// | loudest | RMS of the loudest 50 ms | dBFS |
/// | DC offset | Σx / N | full scale |
/// | clipped | runs of three or more samples in a row at or beyond the largest code, or flat tops below it | samples |
///
/// A flat top is a run of equal samples at the largest, or the smallest, value of the channel,
/// where the waveform comes and goes in a step that is steeper than the coding explains: the sound
/// was cut before it was attenuated and stored.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct ChannelLevels {
    /// Largest magnitude in dBFS; `None` for digital silence.
    pub peak_dbfs: Option<f64>,
    /// Largest magnitude of the waveform between the samples in dBFS; `None` for digital silence,
    /// or where it was not looked for.
    pub true_peak_dbfs: Option<f64>,
    /// RMS level in dBFS, a full-scale sine reading 0; `None` for digital silence.
    pub rms_dbfs: Option<f64>,
    /// Peak over RMS in dB; `None` for digital silence.
    pub crest_db: Option<f64>,
    /// RMS level of the loudest 50 ms in dBFS; `None` for digital silence.
    pub loudest_dbfs: Option<f64>,
    /// Mean, re full scale.
    pub dc_offset: f64,
    /// Bits in which the samples are stored.
    #[serde(skip)]
    stated_bits: Option<u32>,
    /// Bits that the samples use, from the sign down; `None` for floating point and lossy codecs.
    pub bits_used: Option<u32>,
    /// Samples in clipped runs.
    pub clipped_samples: u64,
    /// Level of the flat tops in dBFS, if they lie below full scale.
    pub flat_top_dbfs: Option<f64>,
    /// The clipped runs; at most 10 000 are listed.
    pub clips: Vec<Clip>,
}

/// Clipped runs, counted all and listed as far as the list goes.
#[derive(Debug, Clone, Default)]
struct Clips {
    samples: u64,
    runs: u64,
    listed: Vec<(u64, u64)>,
}

impl Clips {
    fn add(&mut self, start: u64, samples: u64) {
        self.samples += samples;
        self.runs += 1;
        if self.listed.len() < MOST_CLIPS_LISTED {
            self.listed.push((start, samples));
        }
    }
}

/// Runs at the largest value that a channel has reached so far.
#[derive(Debug, Clone, Default)]
struct FlatTops {
    /// That value.
    top: f32,
    /// Samples of the run that goes on, and the step onto it.
    run: u64,
    step_on: f32,
    /// The last sample before now.
    last: f32,
    clips: Clips,
    /// Runs that were steep on one side at least.
    steep: u64,
}

impl FlatTops {
    /// Whether samples up to `highest` concern a top.
    fn concerns(&self, highest: f32) -> bool {
        self.run > 0 || (highest > 0.0 && highest >= self.top)
    }

    /// Follows `samples`, the first of which is number `position`; `lsb` is a step of the coding.
    fn follow(&mut self, samples: impl Iterator<Item = f32>, position: u64, lsb: f32) {
        for (n, x) in (position..).zip(samples) {
            // How the waveform came to the first sample is not known.
            let last = if n == 0 { x } else { self.last };
            if x > self.top {
                *self = Self { top: x, run: 1, step_on: x - last, ..Self::default() };
            } else if x == self.top && self.top > 0.0 {
                if self.run == 0 {
                    self.step_on = x - last;
                }
                self.run += 1;
            } else if self.run > 0 {
                self.end_run(n, self.top - x, lsb);
            }
            self.last = x;
        }
    }

    /// Ends a run before sample `end`, with a step off it.
    fn end_run(&mut self, end: u64, step_off: f32, lsb: f32) {
        if self.run >= FEWEST_CLIPPED {
            self.steep += u64::from(self.step_on.max(step_off) >= STEEP_STEPS * lsb);
            self.clips.add(end - self.run, self.run);
        }
        self.run = 0;
    }

    /// The runs up to sample `end`, if they are flat tops below `full_scale`: most are steep.
    fn finish(mut self, end: u64, full_scale: f32, lsb: f32) -> Option<(f32, Clips)> {
        self.end_run(end, 0.0, lsb);
        let is_cut = self.top < full_scale && 2 * self.steep > self.clips.runs;
        is_cut.then_some((self.top, self.clips))
    }
}

/// Measures levels of one channel, but for the true peak, from samples that arrive in blocks.
#[derive(Debug, Clone)]
pub struct LevelMeter {
    grains: Grains,
    gauge: LevelGauge,
}

impl LevelMeter {
    /// A meter for samples of `bits` bits; `None` for floating point, where full scale is 1.
    #[must_use]
    pub fn new(sample_rate_hz: f64, bits: Option<u32>) -> Self {
        Self {
            grains: Grains::new(sample_rate_hz, 1),
            gauge: LevelGauge::new(sample_rate_hz, bits, 0),
        }
    }

    /// The same meter for samples that begin at `first_sample` of the take, so that clips are timed
    /// in its time.
    #[must_use]
    pub fn starting_at(mut self, first_sample: u64) -> Self {
        self.gauge.first_sample = first_sample;
        self
    }

    /// Takes the next samples of the channel.
    pub fn push(&mut self, samples: &[f32]) {
        self.grains.push(&[samples], |_, grain| self.gauge.take(grain));
    }

    /// A step of the coding re full scale, as the samples so far show it; 0 for floating point.
    #[must_use]
    pub fn coding_step(&self) -> f64 {
        f64::from(self.gauge.coding_step())
    }

    /// The levels of all samples so far.
    #[must_use]
    pub fn finish(mut self) -> ChannelLevels {
        self.grains.finish(|_, grain| self.gauge.take(grain));
        self.gauge.finish(None)
    }
}

/// Measures levels from grains.
#[derive(Debug, Clone)]
pub(super) struct LevelGauge {
    sample_rate_hz: f64,
    bits: Option<u32>,
    full_scale: f32,
    /// Place of the first sample in the take.
    first_sample: u64,
    samples: u64,
    peak: f32,
    sum: f64,
    sum_of_squares: f64,
    /// Mean square of the loudest moment, and the sum and number of samples of the current one.
    loudest: f64,
    moment: (f64, usize),
    /// Bits found in use so far.
    bits_used: u32,
    run: u64,
    clips: Clips,
    /// Flat tops above, and below with the sign turned.
    tops: [FlatTops; 2],
}

impl LevelGauge {
    pub(super) fn new(sample_rate_hz: f64, bits: Option<u32>, first_sample: u64) -> Self {
        // The largest positive code; beyond 24 bits it is 1 to the precision of f32.
        let full_scale = bits.map_or(1.0, |bits| 1.0 - 0.5f64.powi(bits as i32 - 1)) as f32;
        Self {
            sample_rate_hz,
            bits,
            full_scale,
            first_sample,
            samples: 0,
            peak: 0.0,
            sum: 0.0,
            sum_of_squares: 0.0,
            loudest: 0.0,
            moment: (0.0, 0),
            bits_used: 1,
            run: 0,
            clips: Clips::default(),
            tops: [FlatTops::default(), FlatTops::default()],
        }
    }

    pub(super) fn take(&mut self, grain: Grain<'_>) {
        let (samples, totals) = (grain.samples(), grain.totals);
        self.sum += totals.sum;
        self.sum_of_squares += totals.squares;
        self.moment = (self.moment.0 + totals.squares, self.moment.1 + samples.len());
        if self.moment.1 as f64 >= MOMENT_S * self.sample_rate_hz {
            self.end_moment();
        }
        let peak = totals.peak();
        self.peak = self.peak.max(peak);
        self.count_bits(samples);
        if peak >= self.full_scale || self.run > 0 {
            self.follow_clips(samples);
        }
        let lsb = self.step(peak);
        let [above, below] = &mut self.tops;
        if above.concerns(totals.highest) {
            above.follow(samples.iter().copied(), self.samples, lsb);
        }
        if below.concerns(-totals.lowest) {
            below.follow(samples.iter().map(|x| -x), self.samples, lsb);
        }
        if let Some(last) = samples.last() {
            (above.last, below.last) = (*last, -*last);
        }
        self.samples += samples.len() as u64;
    }

    fn end_moment(&mut self) {
        let (squares, samples) = std::mem::take(&mut self.moment);
        self.loudest = self.loudest.max(squares / samples.max(1) as f64);
    }

    /// A step of the coding as the samples so far show it, for samples up to `peak`.
    fn step(&self, peak: f32) -> f32 {
        match self.bits {
            Some(_) => 0.5f32.powi(self.bits_used as i32 - 1),
            None => peak * f32::EPSILON,
        }
    }

    /// A step of the coding re full scale, as the samples so far show it; 0 for floating point.
    pub(super) fn coding_step(&self) -> f32 {
        self.bits.map_or(0.0, |_| self.step(self.peak))
    }

    /// Finds the finest bit in use.
    fn count_bits(&mut self, samples: &[f32]) {
        // Below 2^22 adding and taking away this number rounds to whole numbers.
        const ROUNDER: f32 = 12_582_912.0;
        let most = self.bits.unwrap_or(0).min(24);
        while self.bits_used < most {
            let scale = 2f32.powi(self.bits_used as i32 - 1);
            let whole = samples.iter().all(|x| (x * scale + ROUNDER) - ROUNDER == x * scale);
            if whole && self.bits_used < 23 {
                return;
            }
            self.bits_used += 1;
        }
    }

    fn follow_clips(&mut self, samples: &[f32]) {
        for (n, x) in samples.iter().enumerate() {
            if x.abs() >= self.full_scale {
                self.run += 1;
            } else {
                self.end_run(self.samples + n as u64);
            }
        }
    }

    fn end_run(&mut self, end: u64) {
        if self.run >= FEWEST_CLIPPED {
            self.clips.add(end - self.run, self.run);
        }
        self.run = 0;
    }

    /// The levels of all samples so far; the true peak is measured elsewhere.
    pub(super) fn finish(mut self, true_peak: Option<f32>) -> ChannelLevels {
        self.end_run(self.samples);
        // A take shorter than a moment is one.
        if self.loudest == 0.0 {
            self.end_moment();
        }
        let (end, full_scale, lsb) = (self.samples, self.full_scale, self.step(self.peak));
        let finish = |tops: FlatTops| tops.finish(end, full_scale, lsb);
        let tops: Vec<(f32, Clips)> = self.tops.into_iter().filter_map(finish).collect();
        let flat_top = tops.iter().map(|(top, _)| *top).reduce(f32::max);
        let all = std::iter::once(self.clips).chain(tops.into_iter().map(|(_, clips)| clips));
        let (mut clipped_samples, mut runs) = (0, Vec::new());
        for clips in all {
            clipped_samples += clips.samples;
            runs.extend(clips.listed);
        }
        runs.sort_unstable();
        runs.truncate(MOST_CLIPS_LISTED);
        let time_s = |sample: u64| (self.first_sample + sample) as f64 / self.sample_rate_hz;
        let clip = |(start, samples): (u64, u64)| Clip {
            start_s: time_s(start),
            end_s: time_s(start + samples),
            samples,
        };
        let count = (self.samples as f64).max(1.0);
        let rms = (self.sum_of_squares / count).sqrt();
        let peak = f64::from(self.peak);
        let finite = |db: f64| db.is_finite().then_some(db);
        ChannelLevels {
            peak_dbfs: finite(db_from_amplitude(peak)),
            true_peak_dbfs: true_peak.and_then(|peak| finite(db_from_amplitude(f64::from(peak)))),
            rms_dbfs: finite(db_from_power(2.0 * rms * rms)),
            crest_db: finite(db_from_amplitude(peak / rms)),
            loudest_dbfs: finite(db_from_power(2.0 * self.loudest)),
            dc_offset: self.sum / count,
            stated_bits: self.bits,
            bits_used: self.bits.filter(|_| self.peak > 0.0).map(|_| self.bits_used),
            clipped_samples,
            flat_top_dbfs: flat_top.map(|top| db_from_amplitude(f64::from(top))),
            clips: runs.into_iter().map(clip).collect(),
        }
    }
}

impl ChannelLevels {
    /// What these levels say about the recording; `channel` is the name to print.
    #[must_use]
    pub fn findings(&self, channel: &str) -> Vec<Finding> {
        let mut findings = Vec::new();
        let Some(rms_dbfs) = self.rms_dbfs else {
            findings.push(Finding::warning(
                "silent",
                format!(
                    "Channel {channel} is digital silence: every sample is zero. Nothing was \
                     connected to it, or it was muted; leave it out."
                ),
            ));
            return findings;
        };
        if let Some(first) = self.clips.first() {
            let clips = self.clips.len();
            let runs = if clips == 1 { "1 run".into() } else { format!("{clips} runs") };
            let place = match self.flat_top_dbfs {
                None => "at full scale".into(),
                Some(db) => format!("on flat tops (largest {db:.2} dBFS)").replace('-', "−"),
            };
            findings.push(Finding::serious(
                "clipped",
                format!(
                    "Channel {channel} is clipped: {} samples {place} in {runs}, the first at \
                     {:.4} s. Levels read too low there and harmonics appear that the instrument \
                     does not make; record again at a lower gain, or analyse a span without clips.",
                    self.clipped_samples, first.start_s
                ),
            ));
        }
        let dc_share = self.dc_offset.abs() / 10f64.powf(rms_dbfs / 20.0);
        if self.dc_offset.abs() > NOTABLE_DC && dc_share > NOTABLE_DC_SHARE {
            findings.push(Finding::warning(
                "dc_offset",
                format!(
                    "Channel {channel} has a DC offset of {:.4} of full scale. It adds to RMS and \
                     peak and hides tones near 0 Hz; look for a faulty input stage.",
                    self.dc_offset
                ),
            ));
        }
        findings.extend(self.unused_bits(channel));
        findings.extend(self.over_between_samples(channel));
        findings
    }

    fn over_between_samples(&self, channel: &str) -> Option<Finding> {
        let over = self.true_peak_dbfs.filter(|db| *db > 0.0 && self.clips.is_empty())?;
        Some(Finding::note(
            "over_between_samples",
            format!(
                "Channel {channel} passes full scale between its samples (true peak {over:+.2} \
                 dBFS): \
                 converters and coders may clip it. Lower the level by as much before it is played \
                 or coded."
            ),
        ))
    }

    fn unused_bits(&self, channel: &str) -> Option<Finding> {
        let (bits, used) = (self.stated_bits?, self.bits_used?);
        (bits.min(24) >= used + NOTABLE_UNUSED_BITS).then(|| {
            Finding::note(
                "unused_bits",
                format!(
                    "Channel {channel} is stored in {bits} bits but uses {used}: it was recorded \
                     or \
                     edited with fewer, and its noise is that of {used} bits."
                ),
            )
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn levels(samples: &[f32], bits: Option<u32>, block: usize) -> ChannelLevels {
        let mut meter = LevelMeter::new(1000.0, bits);
        samples.chunks(block).for_each(|block| meter.push(block));
        meter.finish()
    }

    #[test]
    fn a_full_scale_sine_reads_zero_db_and_is_not_clipped() {
        let sine: Vec<f32> = (0..1000)
            .map(|n| (std::f64::consts::TAU * f64::from(n) / 100.0).sin() as f32)
            .collect();
        let found = levels(&sine, None, 1000);
        assert!(found.peak_dbfs.is_some_and(|peak| peak.abs() < 1e-6));
        assert!(found.rms_dbfs.is_some_and(|rms| rms.abs() < 1e-6));
        assert!(found.dc_offset.abs() < 1e-8);
        assert_eq!(found.clipped_samples, 0);
        assert!(found.findings("1").is_empty());
    }

    #[test]
    fn clips_are_found_exactly_whatever_the_blocks() {
        let top = 32_767.0 / 32_768.0;
        let mut samples = vec![0.25f32; 700];
        samples[100..103].fill(top);
        samples[254..259].fill(-1.0);
        samples[400..402].fill(top);
        samples[690..].fill(top);
        for block in [1, 7, 256, 700] {
            let found = levels(&samples, Some(16), block);
            let runs: Vec<_> =
                found.clips.iter().map(|clip| (clip.start_s, clip.samples)).collect();
            assert_eq!(runs, [(0.1, 3), (0.254, 5), (0.69, 10)], "blocks of {block}");
            assert_eq!(found.clipped_samples, 18);
        }
        let mut later = LevelMeter::new(1000.0, Some(16)).starting_at(5000);
        later.push(&samples);
        assert_eq!(later.finish().clips[0].start_s, 5.1);
        // In float only −1 is full scale; the rest are flat tops just below it.
        let found = levels(&samples, None, 700);
        assert_eq!(found.clipped_samples, 18);
        assert!(found.flat_top_dbfs.is_some_and(|db| (db + 0.00027).abs() < 1e-4));
    }

    #[test]
    fn flat_tops_are_found_exactly_and_whole_crests_are_none() {
        use crate::synth::sine;
        let quantised = |samples: &[f32], bits: i32| -> Vec<f32> {
            let scale = 2f32.powi(bits - 1);
            samples.iter().map(|x| (x * scale).round() / scale).collect()
        };
        for (n, frequency_hz) in [31.0, 220.7, 441.3, 1999.0, 4321.0].into_iter().enumerate() {
            let whole = sine(frequency_hz, 0.7, 0.4, 48_000.0, 48_000);
            let limit = 0.3 + 0.08 * n as f32;
            let cut: Vec<f32> = whole.iter().map(|x| x.clamp(-limit, limit)).collect();
            for (bits, stated) in [(0, None), (16, Some(16)), (16, Some(24)), (20, Some(24))] {
                let store = |samples: &[f32]| {
                    if bits == 0 { samples.to_vec() } else { quantised(samples, bits) }
                };
                let whole = levels(&store(&whole), stated, 1000);
                assert_eq!(whole.clipped_samples, 0, "{frequency_hz} Hz, {bits} bits");
                let cut = store(&cut);
                let top = cut.iter().fold(0.0f32, |most, x| most.max(x.abs()));
                let mut runs = vec![];
                for (n, x) in cut.iter().enumerate().filter(|(_, x)| x.abs() == top) {
                    match runs.last_mut() {
                        Some((start, count, value)) if *start + *count == n && value == x => {
                            *count += 1;
                        }
                        _ => runs.push((n, 1, *x)),
                    }
                }
                runs.retain(|(_, count, _)| *count >= 3);
                let found = levels(&cut, stated, 1000);
                let expected: Vec<(usize, u64)> =
                    runs.iter().map(|(start, count, _)| (*start, *count as u64)).collect();
                let clips: Vec<(usize, u64)> = found
                    .clips
                    .iter()
                    .map(|clip| ((clip.start_s * 1000.0).round() as usize, clip.samples))
                    .collect();
                assert_eq!(clips, expected, "{frequency_hz} Hz, {bits} bits");
                assert_eq!(found.bits_used, stated.map(|_| bits as u32));
            }
        }
        // A rounded crest of a slow wave stays at its largest value for a while.
        let slow = quantised(&sine(20.0, 0.25, 0.0, 48_000.0, 48_000), 16);
        assert_eq!(levels(&slow, Some(24), 512).clipped_samples, 0);
        assert_eq!(levels(&slow, Some(24), 512).findings("1")[0].code, "unused_bits");
    }

    #[test]
    fn dc_and_silence_are_findings() {
        let codes = |samples: &[f32]| -> Vec<String> {
            let found = levels(samples, Some(24), 64).findings("1");
            found.into_iter().map(|finding| finding.code.into_owned()).collect()
        };
        assert_eq!(codes(&[0.0; 100]), ["silent"]);
        assert_eq!(codes(&[0.01; 100]), ["dc_offset"], "a constant is no flat top");
        assert_eq!(levels(&[0.01; 100], None, 64).dc_offset, f64::from(0.01f32));
    }
}
