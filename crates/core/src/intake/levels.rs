//! Peak, RMS, DC and clipping of one channel.

use serde::Serialize;

use crate::finding::Finding;
use crate::units::{db_from_amplitude, db_from_power};

/// Samples in a row at full scale that make a clip. A sine that just touches full scale has one
/// or two.
const FEWEST_CLIPPED: u64 = 3;
/// Clips that are listed one by one; those after them are still counted.
const MOST_CLIPS_LISTED: usize = 10_000;
/// DC offset that gets a finding, re full scale: −60 dB.
const NOTABLE_DC: f64 = 1e-3;
/// Share of the RMS that the DC must also reach, so that it matters to a loud take.
const NOTABLE_DC_SHARE: f64 = 1e-2;

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
/// | RMS | 10 lg (2 Σx² / N), so that a full-scale sine reads 0 dB (AES17-2020) | dBFS |
/// | DC offset | Σx / N | full scale |
/// | clipped | runs of three or more samples in a row at or beyond the largest code | samples |
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct ChannelLevels {
    /// Largest magnitude in dBFS; `None` for digital silence.
    pub peak_dbfs: Option<f64>,
    /// RMS level in dBFS, a full-scale sine reading 0; `None` for digital silence.
    pub rms_dbfs: Option<f64>,
    /// Mean, re full scale.
    pub dc_offset: f64,
    /// Samples in clipped runs.
    pub clipped_samples: u64,
    /// The clipped runs; at most 10 000 are listed.
    pub clips: Vec<Clip>,
}

/// Measures levels from samples that arrive in blocks.
#[derive(Debug, Clone)]
pub struct LevelMeter {
    sample_rate_hz: f64,
    full_scale: f32,
    /// Place of the first sample in the take.
    first_sample: u64,
    samples: u64,
    peak: f32,
    sum: f64,
    sum_of_squares: f64,
    run: u64,
    clipped_samples: u64,
    clips: Vec<Clip>,
}

impl LevelMeter {
    /// A meter for samples of `bits` bits; `None` for floating point, where full scale is 1.
    #[must_use]
    pub fn new(sample_rate_hz: f64, bits: Option<u32>) -> Self {
        // The largest positive code; beyond 24 bits it is 1 to the precision of f32.
        let full_scale = bits.map_or(1.0, |bits| 1.0 - 0.5f64.powi(bits as i32 - 1)) as f32;
        Self {
            sample_rate_hz,
            full_scale,
            first_sample: 0,
            samples: 0,
            peak: 0.0,
            sum: 0.0,
            sum_of_squares: 0.0,
            run: 0,
            clipped_samples: 0,
            clips: Vec::new(),
        }
    }

    /// The same meter for samples that begin at `first_sample` of the take, so that clips are told
    /// in its time.
    #[must_use]
    pub fn starting_at(self, first_sample: u64) -> Self {
        Self { first_sample, ..self }
    }

    /// Takes the next samples of the channel.
    pub fn push(&mut self, samples: &[f32]) {
        // Short chunks keep the common case, no clipping, in one loop that vectorises.
        for chunk in samples.chunks(256) {
            let (peak, sum, squares) = totals(chunk);
            self.sum += sum;
            self.sum_of_squares += squares;
            self.peak = self.peak.max(peak);
            if peak >= self.full_scale || self.run > 0 {
                self.follow_clips(chunk);
            }
            self.samples += chunk.len() as u64;
        }
    }

    fn follow_clips(&mut self, chunk: &[f32]) {
        for (n, x) in chunk.iter().enumerate() {
            if x.abs() >= self.full_scale {
                self.run += 1;
            } else {
                self.end_run(self.samples + n as u64);
            }
        }
    }

    fn end_run(&mut self, end: u64) {
        if self.run >= FEWEST_CLIPPED {
            self.clipped_samples += self.run;
            if self.clips.len() < MOST_CLIPS_LISTED {
                let end = self.first_sample + end;
                self.clips.push(Clip {
                    start_s: (end - self.run) as f64 / self.sample_rate_hz,
                    end_s: end as f64 / self.sample_rate_hz,
                    samples: self.run,
                });
            }
        }
        self.run = 0;
    }

    /// The levels of all samples so far.
    #[must_use]
    pub fn finish(mut self) -> ChannelLevels {
        self.end_run(self.samples);
        let count = (self.samples as f64).max(1.0);
        let finite = |db: f64| db.is_finite().then_some(db);
        ChannelLevels {
            peak_dbfs: finite(db_from_amplitude(f64::from(self.peak))),
            rms_dbfs: finite(db_from_power(2.0 * self.sum_of_squares / count)),
            dc_offset: self.sum / count,
            clipped_samples: self.clipped_samples,
            clips: self.clips,
        }
    }
}

/// Largest magnitude, sum and sum of squares, in eight running totals each: the compiler turns them
/// into vector instructions, which is three times as fast as one total.
fn totals(samples: &[f32]) -> (f32, f64, f64) {
    let (mut peaks, mut sums, mut squares) = ([0.0f32; 8], [0.0f64; 8], [0.0f64; 8]);
    let (eights, rest) = samples.as_chunks::<8>();
    let mut add = |lane: usize, x: f32| {
        let wide = f64::from(x);
        peaks[lane] = peaks[lane].max(x.abs());
        sums[lane] += wide;
        squares[lane] += wide * wide;
    };
    for eight in eights {
        for (lane, x) in eight.iter().enumerate() {
            add(lane, *x);
        }
    }
    for x in rest {
        add(0, *x);
    }
    (peaks.into_iter().fold(0.0, f32::max), sums.iter().sum(), squares.iter().sum())
}

impl ChannelLevels {
    /// What these levels say about the recording; `channel` is the name to print.
    #[must_use]
    pub fn findings(&self, channel: &str) -> Vec<Finding> {
        let mut findings = Vec::new();
        let Some(rms_dbfs) = self.rms_dbfs else {
            findings.push(Finding::warning(
                "silent",
                format!("Channel {channel} is digital silence: every sample is zero."),
            ));
            return findings;
        };
        if let Some(first) = self.clips.first() {
            let clips = self.clips.len();
            let runs = if clips == 1 { "1 run".into() } else { format!("{clips} runs") };
            findings.push(Finding::serious(
                "clipped",
                format!(
                    "Channel {channel} is clipped: {} samples at full scale in {runs}, the first at \
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
        findings
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
        assert!(found.dc_offset.abs() < 1e-9);
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
        assert_eq!(
            levels(&samples, None, 700).clipped_samples,
            5,
            "only −1 is full scale in float"
        );
    }

    #[test]
    fn dc_and_silence_are_findings() {
        let codes = |samples: &[f32]| -> Vec<&'static str> {
            levels(samples, Some(24), 64).findings("1").iter().map(|f| f.code).collect()
        };
        assert_eq!(codes(&[0.0; 100]), ["silent"]);
        assert_eq!(codes(&[0.01; 100]), ["dc_offset"]);
        assert_eq!(levels(&[0.01; 100], None, 64).dc_offset, f64::from(0.01f32));
    }
}
