//! A value with its standard uncertainty.

use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A measured value and its standard uncertainty (k = 1), in the same unit.
///
/// `u` is one standard deviation of the error to be expected (JCGM 100:2008, the GUM): the true
/// value lies within ±2 u in about 95 of 100 cases.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Measured {
    /// The best estimate.
    pub value: f64,
    /// Its standard uncertainty; NaN where it is not known, which is `null` in JSON.
    #[serde(deserialize_with = "or_unknown")]
    pub u: f64,
}

fn or_unknown<'de, D: Deserializer<'de>>(deserializer: D) -> Result<f64, D::Error> {
    Ok(Option::deserialize(deserializer)?.unwrap_or(f64::NAN))
}

/// Ways to serialise a field `x` that may be unknown as two keys, `x` and `x_u`, both null where it
/// is: `#[serde(flatten, serialize_with = "flat::x")]`.
pub(crate) mod flat {
    use super::{Measured, SerializeMap, Serializer};

    macro_rules! flat {
        ($($key:ident)*) => {
            $(pub(crate) fn $key<S: Serializer>(
                value: &Option<Measured>,
                serializer: S,
            ) -> Result<S::Ok, S::Error> {
                let mut map = serializer.serialize_map(Some(2))?;
                map.serialize_entry(stringify!($key), &value.map(|value| value.value))?;
                map.serialize_entry(concat!(stringify!($key), "_u"), &value.map(|value| value.u))?;
                map.end()
            })*
        };
    }

    flat! { a approach_hz b cents closest_s corrected_db decay_t60_s depth difference difference_db distance_m f0_hz fitted_reference_hz
    delay_s drift_ppm frequency_deviation_hz frequency_rate_hz gain_db grade grade_change inharmonicity
    inharmonicity_difference intercept laeq_db late_s lceq_db leq_db level_db loudness_level_phon
    loudness_sone magnitude_db mid_s mistuning_cents
    mistuning_change_cents moved_cents normalized_db off_target_db other_cents rate_hz recede_hz rest_frequency_hz sharpness_acum slope speed_m_s
    standardized_db stiff_f_hz t20_s t30_s unsteadiness }
}

impl Measured {
    /// Pairs a value with its standard uncertainty.
    #[must_use]
    pub fn new(value: f64, u: f64) -> Self {
        Self { value, u }
    }

    /// The same in a unit that is smaller by a factor.
    #[must_use]
    pub fn scaled(self, by: f64) -> Self {
        Self { value: by * self.value, u: by * self.u }
    }

    /// Decimals that show the uncertainty with two digits, at most `most`.
    ///
    /// An unknown or zero uncertainty gives `most`.
    #[must_use]
    pub fn decimals(&self, most: usize) -> usize {
        if !(self.u.is_finite() && self.u > 0.0) {
            return most;
        }
        let decimals = 1.0 - self.u.log10().floor();
        (decimals.max(0.0) as usize).min(most)
    }

    /// The value and its uncertainty as text, rounded to the digits that mean something.
    ///
    /// # Example
    ///
    /// ```
    /// use tonemap_core::Measured;
    /// let (value, u) = Measured::new(440.123_456, 0.0123).text(6);
    /// assert_eq!((value.as_str(), u.as_str()), ("440.123", "0.012"));
    /// ```
    #[must_use]
    pub fn text(&self, most: usize) -> (String, String) {
        let decimals = self.decimals(most);
        (format!("{:.decimals$}", self.value), self.u_text(decimals))
    }

    /// The uncertainty alone; below the last decimal shown it is said to be so.
    fn u_text(&self, decimals: usize) -> String {
        let last = 10f64.powi(-(decimals as i32));
        if !self.u.is_finite() {
            "–".into()
        } else if self.u < last {
            format!("<{last:.decimals$}")
        } else {
            format!("{:.decimals$}", self.u)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digits_follow_the_uncertainty() {
        assert_eq!(Measured::new(440.0, 12.0).text(6).0, "440");
        assert_eq!(Measured::new(440.126, 0.5).text(6).0, "440.13");
        assert_eq!(Measured::new(440.1, 0.000_002_5).text(6).0, "440.100000");
        assert_eq!(Measured::new(440.1, 1e-12).text(6), ("440.100000".into(), "<0.000001".into()));
        assert_eq!(Measured::new(1.0, f64::NAN).text(2), ("1.00".into(), "–".into()));
    }
}
