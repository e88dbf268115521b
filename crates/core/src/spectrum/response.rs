//! Curves of level against frequency that are added to a spectrum or taken from it: pre-emphasis,
//! the response of a microphone.

use super::Spectrum;
use crate::error::Error;
use crate::finding::Finding;
use crate::units::amplitude_from_db;

/// A level in dB at each of some frequencies.
#[derive(Debug, Clone, PartialEq)]
pub struct ResponseCurve {
    /// Frequencies in Hz, rising, and levels in dB.
    points: Vec<(f64, f64)>,
}

impl ResponseCurve {
    /// From points of (frequency in Hz, level in dB) in any order.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] without points, for a frequency that is not above 0 or stands there
    /// twice, and for numbers that are not finite.
    pub fn new(mut points: Vec<(f64, f64)>) -> Result<Self, Error> {
        let refuse = |given: String, allowed: &str| {
            Err(Error::Setting { setting: "the curve", given, allowed: allowed.into() })
        };
        if points.is_empty() {
            return refuse("no points".into(), "at least one frequency with its level");
        }
        if let Some((hz, db)) = points
            .iter()
            .find(|(hz, db)| !(hz.is_finite() && *hz > 0.0 && db.is_finite() && db.abs() < 300.0))
        {
            return refuse(
                format!("{hz} Hz with {db} dB"),
                "frequencies above 0 Hz and levels within 300 dB",
            );
        }
        points.sort_by(|a, b| a.0.total_cmp(&b.0));
        match points.windows(2).find(|pair| pair[0].0 == pair[1].0) {
            Some(pair) => refuse(format!("{} Hz twice", pair[0].0), "each frequency once"),
            None => Ok(Self { points }),
        }
    }

    /// Level at a frequency: between points on a straight line over the logarithm of the frequency,
    /// beyond them that of the last.
    #[must_use]
    pub fn level_db(&self, frequency_hz: f64) -> f64 {
        let after = self.points.partition_point(|(hz, _)| *hz <= frequency_hz);
        match (after.checked_sub(1).map(|n| self.points[n]), self.points.get(after).copied()) {
            (Some((low, from)), Some((high, to))) => {
                from + (to - from) * (frequency_hz / low).ln() / (high / low).ln()
            }
            (Some((_, only)), None) | (None, Some((_, only))) => only,
            (None, None) => 0.0,
        }
    }

    /// Lowest and highest frequency in Hz.
    fn reach_hz(&self) -> (f64, f64) {
        (self.points[0].0, self.points[self.points.len() - 1].0)
    }

    /// The curve upside down: what takes it out again.
    #[must_use]
    pub fn inverse(&self) -> Self {
        Self { points: self.points.iter().map(|(hz, db)| (*hz, -db)).collect() }
    }
}

impl Spectrum {
    /// The spectrum with a curve added to all its levels, those of the tones too; phases stay. A
    /// range of interest that goes beyond the curve is reported.
    #[must_use]
    pub fn with_response(mut self, curve: &ResponseCurve) -> Self {
        let spacing = self.bin_spacing_hz;
        for (k, (power, floor)) in self.power.iter_mut().zip(&mut self.floor).enumerate() {
            let gain = amplitude_from_db(curve.level_db(k as f64 * spacing)).powi(2);
            *power *= gain;
            *floor *= gain;
        }
        for peak in &mut self.peaks {
            let db = curve.level_db(peak.frequency_hz);
            peak.level_db += db;
            peak.amplitude *= amplitude_from_db(db);
            peak.amplitude_u *= amplitude_from_db(db);
        }
        self.noise_floor_db = self.median_floor_db();
        let (first, last) = curve.reach_hz();
        if self.range_hz.0.max(spacing) < first || self.range_hz.1 > last {
            self.findings.push(Finding::note(
                "curve_ends",
                format!(
                    "The curve of levels goes from {first} Hz to {last} Hz; beyond, its last level \
                     is used."
                ),
            ));
        }
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn levels_lie_on_lines_over_the_logarithm_of_frequency() {
        let curve =
            ResponseCurve::new(vec![(1000.0, 0.0), (100.0, -6.0), (4000.0, 4.0)]).expect("a curve");
        assert_eq!(
            [50.0, 100.0, 1000.0, 9000.0].map(|hz| curve.level_db(hz)),
            [-6.0, -6.0, 0.0, 4.0]
        );
        assert!((curve.level_db(2000.0) - 2.0).abs() < 1e-12);
        assert!((curve.inverse().level_db(2000.0) + 2.0).abs() < 1e-12);
        for wrong in [vec![], vec![(0.0, 1.0)], vec![(1.0, 1.0), (1.0, 2.0)], vec![(5.0, f64::NAN)]]
        {
            assert!(ResponseCurve::new(wrong).is_err());
        }
    }
}
