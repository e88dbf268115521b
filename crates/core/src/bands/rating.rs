//! Ratings of the noise in a room from its octave bands: NR and NC.

use serde::Serialize;

use crate::units::{db_from_power, power_from_db};

/// Middles of the octaves that ratings are made of, from the lowest.
const OCTAVES_HZ: [f64; 9] = [31.5, 63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0];

/// NR curves: L = a + b·NR in each octave (ISO/R 1996:1971, annex).
const NR: [(f64, f64); 9] = [
    (55.4, 0.681),
    (35.5, 0.790),
    (22.0, 0.870),
    (12.0, 0.930),
    (4.8, 0.974),
    (0.0, 1.000),
    (-3.5, 1.015),
    (-6.1, 1.025),
    (-8.0, 1.030),
];

/// NC curves from NC-15 in steps of five, octaves from 63 Hz to 8 kHz (ANSI/ASA S12.2-2008, table
/// 1).
const NC: [[f64; 8]; 12] = [
    [47.0, 36.0, 29.0, 22.0, 17.0, 14.0, 12.0, 11.0],
    [51.0, 40.0, 33.0, 26.0, 22.0, 19.0, 17.0, 16.0],
    [54.0, 44.0, 37.0, 31.0, 27.0, 24.0, 22.0, 21.0],
    [57.0, 48.0, 41.0, 35.0, 31.0, 29.0, 28.0, 27.0],
    [60.0, 52.0, 45.0, 40.0, 36.0, 34.0, 33.0, 32.0],
    [64.0, 56.0, 50.0, 45.0, 41.0, 39.0, 38.0, 37.0],
    [67.0, 60.0, 54.0, 49.0, 46.0, 44.0, 43.0, 42.0],
    [71.0, 64.0, 58.0, 54.0, 51.0, 49.0, 48.0, 47.0],
    [74.0, 67.0, 62.0, 58.0, 56.0, 54.0, 53.0, 52.0],
    [77.0, 71.0, 67.0, 63.0, 61.0, 59.0, 58.0, 57.0],
    [80.0, 75.0, 71.0, 68.0, 66.0, 64.0, 63.0, 62.0],
    [83.0, 79.0, 75.0, 72.0, 71.0, 70.0, 69.0, 68.0],
];
const NC_LOWEST: f64 = 15.0;
const NC_STEP: f64 = 5.0;

/// Ratings of the noise of a room: the highest curve that any octave reaches.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct NoiseRating {
    /// Noise rating by ISO/R 1996.
    pub nr: Option<f64>,
    /// The octave that decides it, in Hz.
    pub nr_at_hz: Option<f64>,
    /// Noise criterion by ANSI/ASA S12.2; null below NC-15 and above NC-70.
    pub nc: Option<f64>,
    /// The octave that decides it, in Hz.
    pub nc_at_hz: Option<f64>,
}

impl NoiseRating {
    /// From levels of octaves, or of thirds of octaves that make them up, in dB re 20 µPa, each with
    /// its middle in Hz. `None` where one of the octaves from 125 Hz to 4 kHz is not known.
    pub(super) fn of(fraction: u32, bands: &[(f64, f64)]) -> Option<Self> {
        let octaves = octaves(fraction, bands)?;
        if octaves[2..8].iter().any(Option::is_none) {
            return None;
        }
        let of_nr = |(n, db): (usize, f64)| (OCTAVES_HZ[n], (db - NR[n].0) / NR[n].1);
        let of_nc = |(n, db): (usize, f64)| Some((OCTAVES_HZ[n], nc_of(n.checked_sub(1)?, db)));
        let known = || octaves.iter().enumerate().filter_map(|(n, db)| Some((n, (*db)?)));
        let highest = |a: &(f64, f64), b: &(f64, f64)| a.1.total_cmp(&b.1);
        let nr = known().map(of_nr).max_by(highest);
        let nc = known().filter_map(of_nc).max_by(highest);
        let nc = nc.filter(|(_, nc)| (NC_LOWEST..=NC_LOWEST + 11.0 * NC_STEP).contains(nc));
        Some(Self {
            nr: nr.map(|(_, nr)| nr),
            nr_at_hz: nr.map(|(hz, _)| hz),
            nc: nc.map(|(_, nc)| nc),
            nc_at_hz: nc.map(|(hz, _)| hz),
        })
    }
}

/// The curve that a level reaches in the nth octave from 63 Hz, on the line between two; below the
/// lowest and above the highest the line goes on.
fn nc_of(n: usize, db: f64) -> f64 {
    let above = NC.iter().position(|curve| curve[n] > db).unwrap_or(NC.len() - 1).max(1);
    let (low, high) = (NC[above - 1][n], NC[above][n]);
    NC_LOWEST + NC_STEP * ((above - 1) as f64 + (db - low) / (high - low))
}

/// Levels of the octaves that are known: their own, or the sum of their three thirds.
fn octaves(fraction: u32, bands: &[(f64, f64)]) -> Option<[Option<f64>; OCTAVES_HZ.len()]> {
    let is_near = |a: f64, b: f64| (a / b - 1.0).abs() < 0.05;
    let third = 10f64.powf(0.1);
    let wanted: &[f64] = match fraction {
        1 => &[1.0],
        3 => &[1.0 / third, 1.0, third],
        _ => return None,
    };
    let level = |hz: f64| bands.iter().find(|(center_hz, _)| is_near(*center_hz, hz));
    Some(OCTAVES_HZ.map(|hz| {
        let parts: Option<Vec<f64>> = wanted
            .iter()
            .map(|ratio| level(hz * ratio).map(|(_, db)| power_from_db(*db)))
            .collect();
        parts.map(|powers| db_from_power(powers.iter().sum()))
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_curve_has_its_own_rating() {
        for curve in [20.0, 35.0, 42.0, 60.0] {
            let levels: Vec<(f64, f64)> =
                OCTAVES_HZ.iter().zip(NR).map(|(hz, (a, b))| (*hz, a + b * curve)).collect();
            let found = NoiseRating::of(1, &levels).and_then(|rating| rating.nr).expect("a rating");
            assert!((found - curve).abs() < 1e-9, "{found}");
        }
        let of_nc = |add: f64| {
            let levels: Vec<(f64, f64)> =
                OCTAVES_HZ[1..].iter().zip(NC[4]).map(|(hz, db)| (*hz, db + add)).collect();
            NoiseRating::of(1, &levels).expect("a rating")
        };
        assert_eq!(of_nc(0.0).nc, Some(35.0));
        let between = of_nc(2.0);
        assert!((between.nc.expect("a rating") - 37.5).abs() < 0.51, "{between:?}");
        // A hum in the octave of 125 Hz decides.
        let mut levels: Vec<(f64, f64)> = OCTAVES_HZ[1..].iter().map(|hz| (*hz, 10.0)).collect();
        levels[1].1 = 56.0;
        let found = NoiseRating::of(1, &levels).expect("a rating");
        assert!((found.nc.expect("a rating") - 40.0).abs() < 1e-9, "{found:?}");
        assert_eq!((found.nc_at_hz, found.nr_at_hz), (Some(125.0), Some(125.0)));
        assert_eq!(NoiseRating::of(1, &levels[4..]), None);
        assert_eq!(NoiseRating::of(6, &levels), None);
    }

    #[test]
    fn thirds_make_up_octaves() {
        let octaves: Vec<(f64, f64)> = OCTAVES_HZ.iter().map(|hz| (*hz, 40.0)).collect();
        let thirds: Vec<(f64, f64)> = super::super::octave_bands(3, (25.0, 10_000.0))
            .iter()
            .map(|band| (band.center_hz, 40.0 - db_from_power(3.0)))
            .collect();
        let (a, b) = (NoiseRating::of(1, &octaves), NoiseRating::of(3, &thirds));
        let nr = |of: Option<NoiseRating>| of.and_then(|rating| rating.nr).expect("a rating");
        assert!((nr(a) - nr(b)).abs() < 1e-9);
    }
}
