//! How two channels of a take relate: the same, upside down, or independent.

use crate::finding::Finding;

/// Correlation from which two channels count as opposite although they are not exactly so.
const NEARLY_OPPOSITE: f64 = -0.95;

/// Compares two channels as their samples arrive.
///
/// The correlation is that of the samples about their means, Σ(a−ā)(b−b̄) / √(Σ(a−ā)²·Σ(b−b̄)²).
#[derive(Debug, Clone, PartialEq, Default)]
pub struct ChannelRelation {
    samples: u64,
    sums: [f64; 2],
    squares: [f64; 2],
    product: f64,
    /// Largest magnitudes of the difference and of the sum.
    difference: f32,
    sum: f32,
}

impl ChannelRelation {
    /// Takes the next samples of both channels, as many of each.
    pub fn push(&mut self, a: &[f32], b: &[f32]) {
        for (a, b) in a.iter().zip(b) {
            self.difference = self.difference.max((a - b).abs());
            self.sum = self.sum.max((a + b).abs());
            let (a, b) = (f64::from(*a), f64::from(*b));
            self.sums[0] += a;
            self.sums[1] += b;
            self.squares[0] += a * a;
            self.squares[1] += b * b;
            self.product += a * b;
        }
        self.samples += a.len().min(b.len()) as u64;
    }

    /// Correlation from −1 to 1; `None` if a channel is constant.
    #[must_use]
    pub fn correlation(&self) -> Option<f64> {
        let count = (self.samples as f64).max(1.0);
        let variance = |n: usize| self.squares[n] - self.sums[n] * self.sums[n] / count;
        let scale = (variance(0) * variance(1)).sqrt();
        let covariance = self.product - self.sums[0] * self.sums[1] / count;
        (scale > 0.0).then(|| (covariance / scale).clamp(-1.0, 1.0))
    }

    /// What this says about the recording; `a` and `b` are the names to print. Silent channels are
    /// reported elsewhere.
    #[must_use]
    pub fn finding(&self, a: &str, b: &str) -> Option<Finding> {
        let correlation = self.correlation()?;
        if self.difference == 0.0 {
            return Some(Finding::warning(
                "identical_channels",
                format!(
                    "Channels {a} and {b} are the same, sample by sample: the take is mono, \
                     written \
                     twice. Nothing about two microphones can be learned from it."
                ),
            ));
        }
        if self.sum == 0.0 || correlation < NEARLY_OPPOSITE {
            return Some(Finding::warning(
                "opposite_channels",
                format!(
                    "Channel {b} is channel {a} upside down (correlation {correlation:.3}): their \
                     mean \
                     cancels. Look for a line with swapped poles, and analyse one channel alone."
                ),
            ));
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::{to_samples, white_noise};

    fn related(a: &[f32], b: &[f32]) -> (Option<f64>, Option<String>) {
        let mut relation = ChannelRelation::default();
        a.chunks(100).zip(b.chunks(100)).for_each(|(a, b)| relation.push(a, b));
        let finding = relation.finding("1", "2");
        (relation.correlation(), finding.map(|finding| finding.code.into_owned()))
    }

    #[test]
    fn channels_are_told_apart() {
        let noise = |seed| to_samples(&white_noise(seed, 0.1, 100_000));
        let (one, other) = (noise(1), noise(2));
        assert_eq!(related(&one, &one).1.as_deref(), Some("identical_channels"));
        let opposite: Vec<f32> = one.iter().map(|x| -x).collect();
        assert_eq!(related(&one, &opposite).1.as_deref(), Some("opposite_channels"));
        // A fifth of the amplitude is something else: correlation −0.98.
        let nearly: Vec<f32> = one.iter().zip(&other).map(|(x, y)| 0.01 - x + 0.2 * y).collect();
        let (correlation, code) = related(&one, &nearly);
        assert!(correlation.is_some_and(|r| (r + 1.0 / 1.04f64.sqrt()).abs() < 0.001));
        assert_eq!(code.as_deref(), Some("opposite_channels"));
        let (correlation, code) = related(&one, &other);
        assert!(correlation.is_some_and(|r| r.abs() < 0.02));
        assert_eq!(code, None);
        assert_eq!(related(&one, &vec![0.0; 100_000]), (None, None));
    }
}
