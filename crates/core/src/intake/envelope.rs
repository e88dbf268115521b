//! The course of a waveform, reduced to as many columns as a picture has.

/// Extremes and power of one column.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Column {
    /// Smallest sample.
    pub lowest: f32,
    /// Largest sample.
    pub highest: f32,
    /// Sum of squared samples.
    energy: f64,
    /// Number of samples.
    samples: u64,
}

impl Default for Column {
    fn default() -> Self {
        Self { lowest: f32::INFINITY, highest: f32::NEG_INFINITY, energy: 0.0, samples: 0 }
    }
}

/// Reduces a span to columns of equal length. Every sample is in one column: a click of one sample
/// is seen however long the span.
#[derive(Debug, Clone)]
pub struct Envelope {
    span_samples: u64,
    columns: Vec<Column>,
    position: u64,
}

impl Envelope {
    /// For a span of `span_samples` samples, at least 1, in at most `columns` columns; in a span of
    /// fewer samples, each has a column of its own.
    #[must_use]
    pub fn new(span_samples: u64, columns: usize) -> Self {
        let count = span_samples.clamp(1, columns.max(1) as u64);
        Self { span_samples, columns: vec![Column::default(); count as usize], position: 0 }
    }

    /// First sample of a column.
    fn start_of(&self, column: usize) -> u64 {
        let share = u128::from(self.span_samples) * column as u128 / self.columns.len() as u128;
        u64::try_from(share).unwrap_or(self.span_samples)
    }

    /// Takes the next samples. What exceeds the span is left out.
    pub fn push(&mut self, mut samples: &[f32]) {
        while !samples.is_empty() && self.position < self.span_samples {
            // The column whose stretch holds the position: rounding can be one off.
            let guess = u128::from(self.position) * self.columns.len() as u128
                / u128::from(self.span_samples);
            let mut index = (guess as usize).min(self.columns.len() - 1);
            if index + 1 < self.columns.len() && self.start_of(index + 1) <= self.position {
                index += 1;
            }
            let room = (self.start_of(index + 1) - self.position) as usize;
            let (now, later) = samples.split_at(samples.len().min(room));
            let column = &mut self.columns[index];
            for x in now {
                column.lowest = column.lowest.min(*x);
                column.highest = column.highest.max(*x);
                column.energy += f64::from(*x) * f64::from(*x);
            }
            column.samples += now.len() as u64;
            self.position += now.len() as u64;
            samples = later;
        }
    }

    /// The columns from left to right.
    #[must_use]
    pub fn columns(&self) -> &[Column] {
        &self.columns
    }

    /// Whether each column is a single sample.
    #[must_use]
    pub fn is_single_samples(&self) -> bool {
        self.columns.len() as u64 == self.span_samples
    }

    /// RMS level over time: the place of each value in the span, from 0 to 1, and its level in dBFS
    /// (a full-scale sine reads 0). Columns are put together so that each value covers
    /// `least_samples` samples or more; digital silence has no level.
    #[must_use]
    pub fn levels(&self, least_samples: u64) -> Vec<(f64, Option<f64>)> {
        let per_column = (self.span_samples / self.columns.len() as u64).max(1);
        let group = least_samples.div_ceil(per_column).max(1) as usize;
        let count = self.columns.len() as f64;
        self.columns
            .chunks(group)
            .enumerate()
            .map(|(n, columns)| {
                let energy: f64 = columns.iter().map(|column| column.energy).sum();
                let samples: u64 = columns.iter().map(|column| column.samples).sum();
                let middle = ((n * group) as f64 + columns.len() as f64 / 2.0) / count;
                let level = crate::units::db_from_power(2.0 * energy / samples.max(1) as f64);
                (middle, level.is_finite().then_some(level))
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_single_click_is_seen_whatever_the_blocks() {
        for (span, columns) in [(100_003u64, 1176usize), (5000, 1176), (1177, 1176), (3, 1176)] {
            let mut samples = vec![0.0f32; span as usize];
            let place = span as usize * 2 / 3;
            samples[place] = -0.5;
            for block in [1, 97, 4096] {
                let mut envelope = Envelope::new(span, columns);
                samples.chunks(block).for_each(|block| envelope.push(block));
                let seen: Vec<usize> = (0..envelope.columns().len())
                    .filter(|n| envelope.columns()[*n].lowest < -0.4)
                    .collect();
                assert_eq!(seen.len(), 1);
                let column = place * envelope.columns().len() / span as usize;
                assert!(seen[0].abs_diff(column) <= 1, "{seen:?} {column}");
                assert!(envelope.columns().iter().all(|column| column.samples > 0));
            }
        }
        assert!(Envelope::new(3, 1176).is_single_samples());
    }

    #[test]
    fn levels_are_those_of_a_sine() {
        let sine = crate::synth::sine(1000.0, 0.1, 0.0, 48_000.0, 48_000);
        let mut envelope = Envelope::new(48_000, 1000);
        envelope.push(&sine);
        let levels = envelope.levels(960);
        assert_eq!(levels.len(), 50);
        for (place, level) in levels {
            assert!((0.0..1.0).contains(&place));
            assert!(level.is_some_and(|db| (db + 20.0).abs() < 0.01), "{level:?}");
        }
        assert_eq!(Envelope::new(10, 10).levels(1)[0].1, None);
    }
}
