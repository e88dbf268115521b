//! A weighted level that is followed while the sound goes on.

use super::short_time::{Smoothing, TimeWeighting, bare_level, settled_power};
use super::weighting::{Weighting, WeightingFilters};
use super::{BLOCK, add_squares};

/// Follows the level of one channel, weighted in frequency and time, in memory that does not grow.
///
/// The filters and the time weighting are those of [`TotalMeter`](super::TotalMeter); what it
/// remembers of the sound so far is in them alone.
#[derive(Debug, Clone)]
pub struct RunningLevel {
    weighting: Weighting,
    filters: WeightingFilters,
    smoothing: Smoothing,
    squares: Vec<f64>,
    highest: f64,
    sum: f64,
    count: u64,
}

/// What a level was since it was last read, in dB re full scale; `None` in silence.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LevelSince {
    /// The time-weighted level now.
    pub now_db: Option<f64>,
    /// The highest time-weighted level since.
    pub highest_db: Option<f64>,
    /// The equivalent level since.
    pub equivalent_db: Option<f64>,
}

impl RunningLevel {
    /// A level of samples that are still to come.
    #[must_use]
    pub fn new(weighting: Weighting, time_weighting: TimeWeighting, sample_rate_hz: f64) -> Self {
        Self {
            weighting,
            filters: WeightingFilters::new(sample_rate_hz),
            smoothing: Smoothing::new(time_weighting, sample_rate_hz),
            squares: Vec::new(),
            highest: 0.0,
            sum: 0.0,
            count: 0,
        }
    }

    /// Takes the next samples.
    pub fn push(&mut self, samples: &[f32]) {
        let lane = Weighting::ALL.iter().position(|one| *one == self.weighting).unwrap_or(0);
        let mut weighted = <[Vec<f64>; 3]>::default();
        for block in samples.chunks(BLOCK) {
            let block: Vec<f64> = block.iter().map(|x| f64::from(*x)).collect();
            self.filters.run(&block, &mut weighted);
            add_squares(&mut self.squares, &weighted[lane], 1.0, true);
            self.highest = self.highest.max(self.smoothing.run(&self.squares));
            self.sum += self.squares.iter().sum::<f64>();
            self.count += block.len() as u64;
        }
    }

    /// Reads the level, and begins a new stretch for the next reading.
    pub fn read(&mut self) -> LevelSince {
        let level = |power: f64| settled_power(power).map(bare_level);
        let since = LevelSince {
            now_db: level(self.smoothing.settled_level()),
            highest_db: level(self.highest),
            equivalent_db: level(self.sum / self.count.max(1) as f64),
        };
        (self.highest, self.sum, self.count) = (0.0, 0.0, 0);
        since
    }
}
