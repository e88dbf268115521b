//! Single numbers of sound insulation (ISO 717-1:2013 airborne, ISO 717-2:2013 impact).

use serde::Serialize;

use crate::units::{db_from_power, power_from_db};

/// Reference values of airborne sound insulation: thirds from 100 Hz to 3150 Hz, octaves from 125 Hz
/// to 2 kHz (ISO 717-1:2013, table 3).
const AIRBORNE_THIRDS: [f64; 16] = [
    33.0, 36.0, 39.0, 42.0, 45.0, 48.0, 51.0, 52.0, 53.0, 54.0, 55.0, 56.0, 56.0, 56.0, 56.0, 56.0,
];
const AIRBORNE_OCTAVES: [f64; 5] = [36.0, 45.0, 52.0, 55.0, 56.0];
/// The same of impact sound (ISO 717-2:2013, table 3).
const IMPACT_THIRDS: [f64; 16] = [
    62.0, 62.0, 62.0, 62.0, 62.0, 62.0, 61.0, 60.0, 59.0, 58.0, 57.0, 54.0, 51.0, 48.0, 45.0, 42.0,
];
const IMPACT_OCTAVES: [f64; 5] = [67.0, 67.0, 65.0, 62.0, 49.0];

/// Spectrum no. 1, pink noise weighted by A, and no. 2, traffic in a town, from 100 Hz to 3150 Hz
/// and from 125 Hz to 2 kHz (ISO 717-1:2013, table 4).
const PINK_THIRDS: [f64; 16] = [
    -29.0, -26.0, -23.0, -21.0, -19.0, -17.0, -15.0, -13.0, -12.0, -11.0, -10.0, -9.0, -9.0, -9.0,
    -9.0, -9.0,
];
const PINK_OCTAVES: [f64; 5] = [-21.0, -14.0, -8.0, -5.0, -4.0];
const TRAFFIC_THIRDS: [f64; 16] = [
    -20.0, -20.0, -18.0, -16.0, -15.0, -14.0, -13.0, -12.0, -11.0, -9.0, -8.0, -9.0, -10.0, -11.0,
    -13.0, -15.0,
];
const TRAFFIC_OCTAVES: [f64; 5] = [-14.0, -10.0, -7.0, -4.0, -6.0];
/// The same from 50 Hz to 3150 Hz, and from 50 Hz to 5 kHz, of which 100 Hz to 5 kHz is a part
/// (annex B); octaves from 63 Hz.
const PINK_FROM_50_THIRDS: [f64; 19] = [
    -40.0, -36.0, -33.0, -29.0, -26.0, -23.0, -21.0, -19.0, -17.0, -15.0, -13.0, -12.0, -11.0,
    -10.0, -9.0, -9.0, -9.0, -9.0, -9.0,
];
const PINK_TO_5000_THIRDS: [f64; 21] = [
    -41.0, -37.0, -34.0, -30.0, -27.0, -24.0, -22.0, -20.0, -18.0, -16.0, -14.0, -13.0, -12.0,
    -11.0, -10.0, -10.0, -10.0, -10.0, -10.0, -10.0, -10.0,
];
const TRAFFIC_TO_5000_THIRDS: [f64; 21] = [
    -25.0, -23.0, -21.0, -20.0, -20.0, -18.0, -16.0, -15.0, -14.0, -13.0, -12.0, -11.0, -9.0, -8.0,
    -9.0, -10.0, -11.0, -13.0, -15.0, -16.0, -18.0,
];
const PINK_FROM_63_OCTAVES: [f64; 6] = [-31.0, -21.0, -14.0, -8.0, -5.0, -4.0];
const PINK_TO_4000_OCTAVES: [f64; 7] = [-32.0, -22.0, -15.0, -9.0, -6.0, -5.0, -5.0];
const TRAFFIC_TO_4000_OCTAVES: [f64; 7] = [-18.0, -14.0, -10.0, -7.0, -4.0, -6.0, -11.0];

/// Most that the unfavourable deviations may add up to, in thirds and in octaves.
const MOST_THIRDS_DB: f64 = 32.0;
const MOST_OCTAVES_DB: f64 = 10.0;

/// A single number with its adaptation terms.
#[derive(Debug, Clone, PartialEq, Default, Serialize)]
pub struct Rating {
    /// What it is of, as the standard writes it: Dw, DnT,w, R'w, L'nT,w, L'n,w.
    pub quantity: &'static str,
    /// The value of the shifted reference curve at 500 Hz.
    pub value_db: i32,
    /// Its uncertainty, if those of the bands went all one way (ISO 12999-1, annex B).
    pub value_db_u: Option<f64>,
    /// Adaptation to pink noise, A-weighted; to traffic in a town. Airborne only.
    pub c_db: Option<i32>,
    /// See above.
    pub ctr_db: Option<i32>,
    /// Adaptation to impacts. Impact only.
    pub ci_db: Option<i32>,
    /// The same over wider ranges, where their bands were measured.
    #[serde(flatten)]
    pub wider: WiderTerms,
    /// Sum of the unfavourable deviations.
    pub unfavourable_db: f64,
    /// By how much the reference curve was shifted.
    pub shift_db: i32,
    /// The shifted curve: middle of the band in Hz, and value.
    #[serde(skip)]
    pub curve: Vec<(f64, f64)>,
}

/// Adaptation terms over wider ranges of frequency.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct WiderTerms {
    /// 50 Hz to 3150 Hz.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub c_50_3150_db: Option<i32>,
    /// See above.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ctr_50_3150_db: Option<i32>,
    /// 50 Hz to 5 kHz.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub c_50_5000_db: Option<i32>,
    /// See above.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ctr_50_5000_db: Option<i32>,
    /// 100 Hz to 5 kHz.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub c_100_5000_db: Option<i32>,
    /// See above.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ctr_100_5000_db: Option<i32>,
    /// Impacts, 50 Hz to 2500 Hz.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ci_50_2500_db: Option<i32>,
}

/// Values in bands by the nominal middles of these.
struct Values<'v>(&'v [(f64, f64)]);

impl Values<'_> {
    /// Those of so many bands from one on, of 1/`fraction` octave, rounded to a tenth of a decibel
    /// as the standards have it; `None` where one is missing.
    fn from(&self, first_hz: f64, fraction: u32, count: usize) -> Option<Vec<f64>> {
        let step = 10f64.powf(0.3 / f64::from(fraction));
        let middle = |n: usize| first_hz * step.powi(n as i32);
        let is_near = |hz: f64, wanted: f64| (hz / wanted - 1.0).abs() < 0.06;
        let value = |wanted: f64| {
            let of = self.0.iter().find(|(hz, _)| is_near(*hz, wanted));
            of.map(|(_, db)| (10.0 * db).round() / 10.0)
        };
        (0..count).map(|n| value(middle(n))).collect()
    }
}

/// The largest shift in whole decibels with which the deviations add up to no more than allowed:
/// `deviation` gives that of a shift, which grows with it.
fn shifted(most_db: f64, deviation: impl Fn(i32) -> f64) -> i32 {
    /// No wall isolates so much, nor so little.
    const FURTHEST_DB: i32 = 400;
    let (mut low, mut high) = (-FURTHEST_DB, FURTHEST_DB);
    while high - low > 1 {
        let middle = (low + high).div_euclid(2);
        // Sums of tenths are counted in tenths.
        if (10.0 * deviation(middle)).round() <= 10.0 * most_db {
            low = middle;
        } else {
            high = middle;
        }
    }
    low
}

/// Lower end of a range of rating, and reference values from there.
fn reference(fraction: u32, thirds: &'static [f64], octaves: &'static [f64]) -> Option<Curve> {
    match fraction {
        1 => Some(Curve { first_hz: 125.9, values: octaves, most_db: MOST_OCTAVES_DB, at_500: 2 }),
        3 => Some(Curve { first_hz: 100.0, values: thirds, most_db: MOST_THIRDS_DB, at_500: 7 }),
        _ => None,
    }
}

/// A reference curve.
struct Curve {
    first_hz: f64,
    values: &'static [f64],
    most_db: f64,
    /// Which value is that at 500 Hz.
    at_500: usize,
}

impl Curve {
    fn drawn(&self, fraction: u32, shift: i32) -> Vec<(f64, f64)> {
        let step = 10f64.powf(0.3 / f64::from(fraction));
        let place =
            |(n, db): (usize, &f64)| (self.first_hz * step.powi(n as i32), db + f64::from(shift));
        self.values.iter().enumerate().map(place).collect()
    }
}

/// −10 lg Σ 10^{(L_j − X_j)/10}, in whole decibels.
fn against(spectrum: &[f64], values: &[f64]) -> i32 {
    let powers = spectrum.iter().zip(values).map(|(level, x)| power_from_db(level - x));
    -db_from_power(powers.sum()).round() as i32
}

/// Rates airborne sound insulation in bands of 1/`fraction` octave, given as middle in Hz and value
/// in dB (ISO 717-1). `None` unless all bands from 100 Hz to 3150 Hz, or octaves from 125 Hz to 2
/// kHz, are there.
#[must_use]
pub fn airborne(quantity: &'static str, fraction: u32, bands: &[(f64, f64)]) -> Option<Rating> {
    let curve = reference(fraction, &AIRBORNE_THIRDS, &AIRBORNE_OCTAVES)?;
    let all = Values(bands);
    let values = all.from(curve.first_hz, fraction, curve.values.len())?;
    let deviation = |shift: i32| -> f64 {
        let pairs = curve.values.iter().zip(&values);
        pairs.map(|(wanted, x)| (wanted + f64::from(shift) - x).max(0.0)).sum()
    };
    let shift = shifted(curve.most_db, deviation);
    let value_db = (curve.values[curve.at_500] + f64::from(shift)) as i32;
    let (pink, traffic): (&[f64], &[f64]) = match fraction {
        1 => (&PINK_OCTAVES, &TRAFFIC_OCTAVES),
        _ => (&PINK_THIRDS, &TRAFFIC_THIRDS),
    };
    let term = |first_hz: f64, spectrum: &[f64]| {
        let values = all.from(first_hz, fraction, spectrum.len())?;
        Some(against(spectrum, &values) - value_db)
    };
    let wider = match fraction {
        1 => WiderTerms {
            c_50_3150_db: term(63.1, &PINK_FROM_63_OCTAVES),
            ctr_50_3150_db: term(63.1, &TRAFFIC_TO_4000_OCTAVES[..6]),
            c_50_5000_db: term(63.1, &PINK_TO_4000_OCTAVES),
            ctr_50_5000_db: term(63.1, &TRAFFIC_TO_4000_OCTAVES),
            c_100_5000_db: term(125.9, &PINK_TO_4000_OCTAVES[1..]),
            ctr_100_5000_db: term(125.9, &TRAFFIC_TO_4000_OCTAVES[1..]),
            ci_50_2500_db: None,
        },
        _ => WiderTerms {
            c_50_3150_db: term(50.1, &PINK_FROM_50_THIRDS),
            ctr_50_3150_db: term(50.1, &TRAFFIC_TO_5000_THIRDS[..19]),
            c_50_5000_db: term(50.1, &PINK_TO_5000_THIRDS),
            ctr_50_5000_db: term(50.1, &TRAFFIC_TO_5000_THIRDS),
            c_100_5000_db: term(100.0, &PINK_TO_5000_THIRDS[3..]),
            ctr_100_5000_db: term(100.0, &TRAFFIC_TO_5000_THIRDS[3..]),
            ci_50_2500_db: None,
        },
    };
    Some(Rating {
        quantity,
        value_db,
        value_db_u: None,
        c_db: term(curve.first_hz, pink),
        ctr_db: term(curve.first_hz, traffic),
        ci_db: None,
        wider,
        unfavourable_db: deviation(shift),
        shift_db: shift,
        curve: curve.drawn(fraction, shift),
    })
}

/// Rates impact sound in bands of 1/`fraction` octave (ISO 717-2). `None` unless all bands from
/// 100 Hz to 3150 Hz, or octaves from 125 Hz to 2 kHz, are there.
#[must_use]
pub fn impact(quantity: &'static str, fraction: u32, bands: &[(f64, f64)]) -> Option<Rating> {
    /// Octaves read so much higher than thirds, and what the sum of an even spectrum is over its
    /// rating.
    const OCTAVES_HIGHER_DB: f64 = 5.0;
    const SUM_HIGHER_DB: f64 = 15.0;
    let curve = reference(fraction, &IMPACT_THIRDS, &IMPACT_OCTAVES)?;
    let all = Values(bands);
    let values = all.from(curve.first_hz, fraction, curve.values.len())?;
    let deviation = |shift: i32| -> f64 {
        let pairs = curve.values.iter().zip(&values);
        pairs.map(|(wanted, x)| (x - wanted - f64::from(shift)).max(0.0)).sum()
    };
    // Here the deviations grow as the curve goes down.
    let shift = -shifted(curve.most_db, |down| deviation(-down));
    let higher = if fraction == 1 { OCTAVES_HIGHER_DB } else { 0.0 };
    let value_db = (curve.values[curve.at_500] + f64::from(shift) - higher) as i32;
    let term = |first_hz: f64, count: usize| {
        let values = all.from(first_hz, fraction, count)?;
        let sum = db_from_power(values.iter().map(|db| power_from_db(*db)).sum());
        Some((sum - SUM_HIGHER_DB).round() as i32 - value_db)
    };
    let (ci_db, ci_50_2500_db) = match fraction {
        1 => (term(125.9, 5), term(63.1, 6)),
        _ => (term(100.0, 15), term(50.1, 18)),
    };
    Some(Rating {
        quantity,
        value_db,
        value_db_u: None,
        c_db: None,
        ctr_db: None,
        ci_db,
        wider: WiderTerms { ci_50_2500_db, ..WiderTerms::default() },
        unfavourable_db: deviation(shift),
        shift_db: shift,
        curve: curve.drawn(fraction, shift),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bands::octave_bands;
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    fn thirds(from_hz: f64, values: &[f64]) -> Vec<(f64, f64)> {
        let bands = octave_bands(3, (from_hz, 20_000.0));
        bands.iter().zip(values).map(|(band, db)| (band.center_hz, *db)).collect()
    }

    /// ISO 717-1:2013, annex C.
    #[test]
    fn the_worked_example_of_airborne_insulation() {
        let bands = thirds(
            100.0,
            &[
                20.4, 16.3, 17.7, 22.6, 22.4, 22.7, 24.8, 26.6, 28.0, 30.5, 31.8, 32.5, 33.4, 33.0,
                31.0, 25.5,
            ],
        );
        let rating = airborne("R'w", 3, &bands).expect("a rating");
        assert_eq!((rating.value_db, rating.c_db, rating.ctr_db), (30, Some(-2), Some(-3)));
        assert!((rating.unfavourable_db - 31.8).abs() < 1e-9, "{}", rating.unfavourable_db);
        assert_eq!(rating.wider, WiderTerms::default());
        assert_eq!(airborne("R'w", 3, &bands[1..]), None);
    }

    /// The reference floor of ISO 717-2:2013, clause 5, has 78 dB and an adaptation term of -11 dB.
    #[test]
    fn the_reference_floor_of_impact_sound() {
        let bands = thirds(
            100.0,
            &[
                67.0, 67.5, 68.0, 68.5, 69.0, 69.5, 70.0, 70.5, 71.0, 71.5, 72.0, 72.0, 72.0, 72.0,
                72.0, 72.0,
            ],
        );
        let rating = impact("Ln,w", 3, &bands).expect("a rating");
        assert_eq!((rating.value_db, rating.ci_db), (78, Some(-11)));
    }

    #[test]
    fn a_curve_like_the_reference_has_its_own_value() {
        let raised: Vec<f64> = AIRBORNE_THIRDS.iter().map(|db| db + 5.0).collect();
        // Two decibels of deviation in each of sixteen bands are allowed.
        let rating = airborne("R'w", 3, &thirds(100.0, &raised)).expect("a rating");
        assert_eq!((rating.value_db, rating.unfavourable_db), (59, 32.0));
        let octaves: Vec<(f64, f64)> = octave_bands(1, (125.0, 2000.0))
            .iter()
            .zip(AIRBORNE_OCTAVES)
            .map(|(band, db)| (band.center_hz, db))
            .collect();
        assert_eq!(airborne("Dw", 1, &octaves).map(|rating| rating.value_db), Some(54));
        let octaves: Vec<(f64, f64)> = octave_bands(1, (125.0, 2000.0))
            .iter()
            .zip(IMPACT_OCTAVES)
            .map(|(band, db)| (band.center_hz, db))
            .collect();
        assert_eq!(impact("L'n,w", 1, &octaves).map(|rating| rating.value_db), Some(58));
    }

    /// Another way: the k bands that deviate most bound the shift, each k by its own line, so that
    /// it can be solved for.
    #[test]
    fn random_curves_agree_with_another_way() {
        let mut random = ChaCha8Rng::seed_from_u64(717);
        for _ in 0..2000 {
            let tilt = random.random_range(-1.0..3.0);
            let tenths: Vec<i64> = (0..16)
                .map(|n| {
                    let scatter = random.random_range(-8.0..8.0);
                    let value: f64 = 20.0 + tilt * f64::from(n) + scatter;
                    (10.0 * value).round() as i64
                })
                .collect();
            let values: Vec<f64> = tenths.iter().map(|t| *t as f64 / 10.0).collect();
            let bands = thirds(100.0, &values);
            let largest = |reference: &[f64; 16], sign: i64| -> i64 {
                // By how much each band lies above the reference, and below for impacts.
                let mut above: Vec<i64> = (tenths.iter().zip(reference))
                    .map(|(x, r)| sign * (x - (10.0 * r) as i64))
                    .collect();
                above.sort_unstable();
                // Of any k bands the deviations add up to k·shift − Σ at least.
                let solved = (1..=16usize)
                    .map(|k| (320 + above[..k].iter().sum::<i64>()).div_euclid(k as i64));
                solved.min().expect("sixteen").div_euclid(10)
            };
            let shift = largest(&AIRBORNE_THIRDS, 1);
            let found = airborne("Dw", 3, &bands).expect("a rating");
            assert_eq!(i64::from(found.value_db), 52 + shift, "{values:?}");
            let power = |spectrum: &[f64; 16]| -> f64 {
                spectrum.iter().zip(&values).map(|(l, x)| 10f64.powf((l - x) / 10.0)).sum()
            };
            let c = (-10.0 * power(&PINK_THIRDS).log10()).round() as i64 - 52 - shift;
            let ctr = (-10.0 * power(&TRAFFIC_THIRDS).log10()).round() as i64 - 52 - shift;
            assert_eq!(
                (found.c_db.map(i64::from), found.ctr_db.map(i64::from)),
                (Some(c), Some(ctr))
            );
            let down = largest(&IMPACT_THIRDS, -1);
            let found = impact("L'n,w", 3, &bands).expect("a rating");
            assert_eq!(i64::from(found.value_db), 60 - down, "{values:?}");
        }
    }
}
