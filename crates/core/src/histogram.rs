//! How often a value was how large, in steps of equal ratio: as much for an hour as for a minute.

/// Counts of positive values.
#[derive(Debug, Clone)]
pub(crate) struct Histogram {
    least: f64,
    /// Natural logarithm of a step.
    step: f64,
    counts: Vec<u32>,
    all: u64,
}

impl Histogram {
    /// Of values from the least that is more than nothing, in so many steps of a ratio.
    pub(crate) fn new(least: f64, ratio: f64, steps: usize) -> Self {
        Self { least, step: ratio.ln(), counts: vec![0; steps], all: 0 }
    }

    /// Where a value lies among the steps.
    fn place(&self, value: f64) -> f64 {
        let place = (value.max(self.least) / self.least).ln() / self.step;
        place.min((self.counts.len() - 1) as f64)
    }

    pub(crate) fn add(&mut self, value: f64) {
        let step = self.place(value) as usize;
        self.counts[step] += 1;
        self.all += 1;
    }

    /// Adds the counts of another with the same steps.
    pub(crate) fn add_all(&mut self, other: &Self) {
        for (count, more) in self.counts.iter_mut().zip(&other.counts) {
            *count += more;
        }
        self.all += other.all;
    }

    /// How many values were added.
    pub(crate) fn count(&self) -> u64 {
        self.all
    }

    /// The value that is exceeded by so many percent of them, 0 where that is nothing; `None` where
    /// none was added.
    pub(crate) fn exceeded(&self, percent: f64) -> Option<f64> {
        let wanted = 0.01 * percent * self.all as f64;
        let mut above = 0.0;
        for (step, count) in self.counts.iter().enumerate().rev().filter(|(_, n)| **n > 0) {
            let within = f64::from(*count);
            if above + within >= wanted {
                let share = ((wanted - above) / within).clamp(0.0, 1.0);
                let value = self.least * (self.step * (step as f64 + 1.0 - share)).exp();
                return Some(if step > 0 { value } else { 0.0 });
            }
            above += within;
        }
        None
    }

    /// The share of them that exceed a value.
    pub(crate) fn share_above(&self, value: f64) -> f64 {
        let place = self.place(value);
        let step = place as usize;
        let above: f64 = self.counts[step + 1..].iter().copied().map(f64::from).sum();
        let within = f64::from(self.counts[step]) * (1.0 - place.fract());
        (above + within) / self.all.max(1) as f64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_exceeded_is_found_again() {
        let mut histogram = Histogram::new(1e-3, 1.002, 8059);
        (1..=10_000).for_each(|n| histogram.add(f64::from(n) * 0.004));
        for percent in [1.0, 5.0, 10.0, 50.0, 90.0] {
            let found = histogram.exceeded(percent).expect("a value");
            let expected = 40.0 * (1.0 - 0.01 * percent);
            assert!((found / expected - 1.0).abs() < 0.001, "{percent} %: {found} {expected}");
            assert!((histogram.share_above(found) - 0.01 * percent).abs() < 1e-6);
        }
        let mut both = histogram.clone();
        both.add_all(&histogram);
        assert_eq!((both.count(), both.exceeded(5.0)), (20_000, histogram.exceeded(5.0)));
        assert_eq!(Histogram::new(1e-3, 1.002, 100).exceeded(5.0), None);
        let mut silent = Histogram::new(1e-3, 1.002, 100);
        silent.add(0.0);
        assert_eq!(silent.exceeded(5.0), Some(0.0));
    }
}
