//! The level of one channel while it comes in.

use serde::Serialize;

use crate::bands::{RunningLevel, TimeWeighting, Weighting};
use crate::units::{db_from_amplitude, db_from_power};

/// Samples in a row at full scale that make a clip: a sine that just touches full scale has one or
/// two.
const FEWEST_CLIPPED: u64 = 3;

/// A channel since it was last read. Levels are in dB re full scale, `None` in silence.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct ChannelNow {
    /// Its name.
    pub name: String,
    /// Greatest sample since.
    pub peak_dbfs: Option<f64>,
    /// RMS since, re that of a full-scale sine.
    pub rms_dbfs: Option<f64>,
    /// The level now, weighted in frequency and time.
    pub level_db: Option<f64>,
    /// The highest weighted level since.
    pub max_db: Option<f64>,
    /// The equivalent level since, weighted in frequency.
    pub leq_db: Option<f64>,
    /// Samples at full scale, three or more in a row, from the beginning of the sound.
    pub clipped_samples: u64,
    /// Those of them since.
    #[serde(skip)]
    pub newly_clipped: u64,
}

/// Follows the level of one channel.
#[derive(Debug, Clone)]
pub(super) struct Gauge {
    running: RunningLevel,
    /// The least value that is full scale.
    full_scale: f32,
    peak: f32,
    squares: f64,
    count: u64,
    run: u64,
    clipped: u64,
    reported: u64,
}

impl Gauge {
    /// Of samples of so many bits; of floating-point ones where none are given.
    pub(super) fn new(
        weighting: (Weighting, TimeWeighting),
        sample_rate_hz: f64,
        bits: Option<u32>,
    ) -> Self {
        let step = bits.map_or(0.0, |bits| (1.0 - bits as f32).exp2());
        Self {
            running: RunningLevel::new(weighting.0, weighting.1, sample_rate_hz),
            full_scale: 1.0 - step,
            peak: 0.0,
            squares: 0.0,
            count: 0,
            run: 0,
            clipped: 0,
            reported: 0,
        }
    }

    pub(super) fn push(&mut self, samples: &[f32]) {
        self.running.push(samples);
        let peak = samples.iter().fold(0.0f32, |peak, x| peak.max(x.abs()));
        self.peak = self.peak.max(peak);
        self.squares += samples.iter().map(|x| f64::from(*x) * f64::from(*x)).sum::<f64>();
        self.count += samples.len() as u64;
        if peak < self.full_scale {
            self.run = 0;
            return;
        }
        for x in samples {
            self.run = if x.abs() >= self.full_scale { self.run + 1 } else { 0 };
            // A run counts from its third sample on, with those before it.
            self.clipped += match self.run {
                FEWEST_CLIPPED => FEWEST_CLIPPED,
                run => u64::from(run > FEWEST_CLIPPED),
            };
        }
    }

    pub(super) fn read(&mut self, name: String) -> ChannelNow {
        let known = |db: f64| Some(db).filter(|db| db.is_finite());
        let weighted = self.running.read();
        let now = ChannelNow {
            name,
            peak_dbfs: known(db_from_amplitude(f64::from(self.peak))),
            rms_dbfs: known(db_from_power(2.0 * self.squares / self.count.max(1) as f64)),
            level_db: weighted.now_db,
            max_db: weighted.highest_db,
            leq_db: weighted.equivalent_db,
            clipped_samples: self.clipped,
            newly_clipped: self.clipped - self.reported,
        };
        (self.peak, self.squares, self.count) = (0.0, 0.0, 0);
        self.reported = self.clipped;
        now
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::sine;

    #[test]
    fn a_sine_reads_its_levels_and_clips_are_runs() {
        for (seed, amplitude) in [0.5, 0.1, 0.003].into_iter().enumerate() {
            let sound = sine(1000.0, amplitude, 0.3, 48_000.0, 48_000);
            let mut gauge = Gauge::new((Weighting::A, TimeWeighting::Fast), 48_000.0, Some(24));
            sound.chunks(1234 + seed).for_each(|block| gauge.push(block));
            let now = gauge.read("1".into());
            let wanted = 20.0 * amplitude.log10();
            for (name, read) in [
                ("peak", now.peak_dbfs),
                ("rms", now.rms_dbfs),
                ("level", now.level_db),
                ("highest", now.max_db),
            ] {
                let off = read.expect("a level") - wanted;
                println!("{name} of a sine at {wanted:.1} dB: off by {off:.5} dB");
                assert!(off.abs() < 0.02, "{name}: {off}");
            }
            assert_eq!(now.clipped_samples, 0);
            assert_eq!(gauge.read("1".into()).peak_dbfs, None);
        }
        let mut gauge = Gauge::new((Weighting::Z, TimeWeighting::Slow), 48_000.0, Some(16));
        let top = 32_767.0 / 32_768.0;
        for block in [&[0.1, top, top, 0.2][..], &[top, -1.0], &[top, top, 0.0]] {
            gauge.push(block);
        }
        let now = gauge.read("1".into());
        assert_eq!((now.clipped_samples, now.newly_clipped), (4, 4));
        assert_eq!(gauge.read("1".into()).newly_clipped, 0);
    }
}
