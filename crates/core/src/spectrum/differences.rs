//! Differences between tones: candidates for what beats.

use serde::Serialize;

use super::{Peak, Spectrum};
use crate::measured::Measured;
use crate::quantity::{Field, Unit};
use crate::units::cents_between;

/// Two tones and what lies between them. Uncertainties are standard uncertainties (k = 1).
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Difference {
    /// The lower tone in Hz.
    pub low_hz: f64,
    /// The higher tone in Hz.
    pub high_hz: f64,
    /// Their difference in Hz: the rate at which they beat.
    pub difference_hz: f64,
    /// Its uncertainty in Hz.
    pub difference_hz_u: f64,
    /// Period of the beat in seconds.
    pub period_s: f64,
    /// Its uncertainty in seconds.
    pub period_s_u: f64,
    /// Interval in cents.
    pub interval_cents: f64,
    /// Level of the weaker tone re the stronger in dB: the beat's depth follows from it.
    pub level_difference_db: f64,
}

impl Difference {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 6] = [
        Field::plain("low_hz", "lower tone", Unit::Hertz, 2, |pair| Some(pair.low_hz)),
        Field::plain("high_hz", "higher tone", Unit::Hertz, 2, |pair| Some(pair.high_hz)),
        Field::measured("difference_hz", "difference", Unit::Hertz, 6, |pair| {
            Some(Measured::new(pair.difference_hz, pair.difference_hz_u))
        }),
        Field::measured("period_s", "period of the beat", Unit::Second, 6, |pair| {
            Some(Measured::new(pair.period_s, pair.period_s_u))
        }),
        Field::plain("interval_cents", "interval", Unit::Cent, 1, |pair| Some(pair.interval_cents)),
        Field::plain("level_difference_db", "level difference", Unit::Decibel, 1, |pair| {
            Some(pair.level_difference_db)
        }),
    ];
}

impl Spectrum {
    /// All pairs of the `strongest` tones, the slowest beat first.
    #[must_use]
    pub fn differences(&self, strongest: usize) -> Vec<Difference> {
        let mut by_level: Vec<&Peak> = self.peaks.iter().collect();
        by_level.sort_by(|a, b| b.level_db.total_cmp(&a.level_db));
        by_level.truncate(strongest);
        by_level.sort_by(|a, b| a.frequency_hz.total_cmp(&b.frequency_hz));
        let mut pairs: Vec<Difference> = by_level
            .iter()
            .enumerate()
            .flat_map(|(n, low)| by_level[n + 1..].iter().map(|high| difference(low, high)))
            .collect();
        pairs.sort_by(|a, b| a.difference_hz.total_cmp(&b.difference_hz));
        pairs
    }
}

fn difference(low: &Peak, high: &Peak) -> Difference {
    let difference_hz = high.frequency_hz - low.frequency_hz;
    let difference_hz_u = low.frequency_hz_u.hypot(high.frequency_hz_u);
    Difference {
        low_hz: low.frequency_hz,
        high_hz: high.frequency_hz,
        difference_hz,
        difference_hz_u,
        period_s: 1.0 / difference_hz,
        period_s_u: difference_hz_u / difference_hz.powi(2),
        interval_cents: cents_between(low.frequency_hz, high.frequency_hz),
        level_difference_db: -(high.level_db - low.level_db).abs(),
    }
}
