//! Frequency axes: where the rows of a spectrogram begin and end.

use serde::Serialize;

/// How frequencies are spread over the rows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum FrequencyAxis {
    /// Equal differences take equal space.
    Linear,
    /// Equal intervals take equal space.
    #[default]
    Logarithmic,
    /// Critical bands: z = 26.81·f/(1960 + f) − 0.53 bark (H. Traunmüller, J. Acoust. Soc. Am. 88,
    /// 1990).
    Bark,
    /// Steps of pitch: m = 2595·lg(1 + f/700) mel (D. O'Shaughnessy, Speech Communication, 1987).
    Mel,
}

impl FrequencyAxis {
    /// Position of a frequency in Hz, in a unit of the axis's own.
    #[must_use]
    pub fn position(self, hz: f64) -> f64 {
        match self {
            Self::Linear => hz,
            Self::Logarithmic => hz.log2(),
            Self::Bark => 26.81 * hz / (1960.0 + hz) - 0.53,
            Self::Mel => 2595.0 * (1.0 + hz / 700.0).log10(),
        }
    }

    /// The frequency in Hz at a position.
    #[must_use]
    pub fn hz(self, position: f64) -> f64 {
        match self {
            Self::Linear => position,
            Self::Logarithmic => position.exp2(),
            Self::Bark => 1960.0 * (position + 0.53) / (26.28 - position),
            Self::Mel => 700.0 * (10f64.powf(position / 2595.0) - 1.0),
        }
    }

    /// Edges in Hz of `rows` rows that share the axis from `low_hz` to `high_hz`, lowest first.
    #[must_use]
    pub fn edges_hz(self, low_hz: f64, high_hz: f64, rows: usize) -> Vec<f64> {
        let (low, high) = (self.position(low_hz), self.position(high_hz));
        (0..=rows).map(|row| self.hz(low + (high - low) * row as f64 / rows as f64)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn positions_lead_back_to_their_frequencies() {
        for axis in [
            FrequencyAxis::Linear,
            FrequencyAxis::Logarithmic,
            FrequencyAxis::Bark,
            FrequencyAxis::Mel,
        ] {
            for hz in [20.0, 440.0, 1000.0, 15_000.0] {
                assert!((axis.hz(axis.position(hz)) / hz - 1.0).abs() < 1e-9, "{axis:?} {hz}");
            }
            let edges = axis.edges_hz(30.0, 12_000.0, 300);
            assert!((edges[0] - 30.0).abs() < 1e-9 && (edges[300] - 12_000.0).abs() < 1e-6);
            assert!(edges.is_sorted());
        }
        // 1000 Hz lies at 8.53 bark, and at 1000 mel.
        assert!((FrequencyAxis::Bark.position(1000.0) - 8.527).abs() < 0.001);
        assert!((FrequencyAxis::Mel.position(1000.0) - 1000.0).abs() < 0.1);
    }
}
