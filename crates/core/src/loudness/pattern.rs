//! From the powers of third-octave bands to the loudness along the ear (ISO 532-1:2017, 5 and 6).
//!
//! The eleven lowest bands are weighed by equal loudness and added up to three critical bands; the
//! others are one each. With the level L of a band beyond what the ear attenuates, the threshold T
//! and s = 0.25 its specific loudness is
//!
//! N' = 0.0635·10^(0.025·T)·((1 − s + s·10^((L − T)/10))^0.25 − 1) sone per Bark.
//!
//! From the upper end of each band it falls along slopes that become less steep the less is left.
//! The loudness is the area below. All of this is computed from powers, without logarithms.

use super::tables::{
    ATTENUATION_DB, CRITICAL, DIFFUSE_DB, ENDS_BARK, LOW_DB, RANGES_DB, SLOPES, STEPS, THIRDS,
    THRESHOLD_DB, WIDTH_DB,
};
use super::{SoundField, Specific};
use crate::units::power_from_db;

/// Points of the specific loudness, 0.1 Bark apart, the first at 0.1 Bark.
pub(super) const POINTS: usize = 240;
/// Points to a Bark, and the distance between them.
pub(super) const PER_BARK: f64 = 10.0;
pub(super) const SPACING_BARK: f64 = 1.0 / PER_BARK;
/// Low third-octave bands that are weighed by equal loudness.
const LOW: usize = 11;
/// Critical bands that they make.
const LOW_CRITICAL: usize = 3;

/// The third-octave bands of a critical band.
pub(super) fn thirds_of(critical: usize) -> std::ops::Range<usize> {
    match critical {
        0 => 0..6,
        1 => 6..9,
        2 => 9..11,
        n => n + 8..n + 9,
    }
}

/// The specific loudness of bands as they are, without what they mask.
pub(super) type Core = [f64; CRITICAL];

/// What the ear makes of powers re 20 µPa, in a sound field.
#[derive(Debug, Clone)]
pub(super) struct Ear {
    /// Powers up to which the rows of the table hold, and what they count, for each low band.
    low: [[(f64, f64); 8]; LOW],
    /// 10^((L − T)/10) over the power of a band: to be heard at all, and beyond that.
    audible: [f64; CRITICAL - 1],
    excited: [f64; CRITICAL - 1],
    /// 0.0635·10^(0.025·T).
    scale: [f64; CRITICAL - 1],
}

impl Ear {
    pub(super) fn new(field: SoundField) -> Self {
        let diffuse = |n: usize| match field {
            SoundField::Free => 0.0,
            SoundField::Diffuse => DIFFUSE_DB[n],
        };
        let over_db = |n: usize| diffuse(n) - ATTENUATION_DB[n] - THRESHOLD_DB[n];
        Self {
            low: std::array::from_fn(|band| {
                std::array::from_fn(|row| {
                    let by_db = LOW_DB[row][band];
                    (power_from_db(RANGES_DB[row] - by_db), power_from_db(by_db))
                })
            }),
            audible: std::array::from_fn(|n| power_from_db(over_db(n))),
            excited: std::array::from_fn(|n| power_from_db(over_db(n) - WIDTH_DB[n])),
            scale: std::array::from_fn(|n| 0.0635 * 10f64.powf(0.025 * THRESHOLD_DB[n])),
        }
    }

    /// The specific loudness of the critical bands.
    pub(super) fn core(&self, thirds: &[f64; THIRDS]) -> Core {
        const SHARE: f64 = 0.25;
        let weighed = |band: usize| {
            let (rows, power) = (&self.low[band], thirds[band]);
            let row = rows.iter().find(|(most, _)| power <= *most).or(rows.last());
            power * row.map_or(0.0, |(_, counts)| *counts)
        };
        let mut core: Core = [0.0; CRITICAL];
        for (n, loudness) in core.iter_mut().enumerate().take(CRITICAL - 1) {
            let power = if n < LOW_CRITICAL {
                thirds_of(n).map(weighed).sum()
            } else {
                thirds[n + LOW - LOW_CRITICAL]
            };
            if power * self.audible[n] > 1.0 {
                let excited = 1.0 - SHARE + SHARE * power * self.excited[n];
                *loudness = (self.scale[n] * (excited.sqrt().sqrt() - 1.0)).max(0.0);
            }
        }
        // The threshold rises within the lowest critical band.
        core[0] *= (0.4 + 0.32 * core[0].powf(0.2)).min(1.0);
        core
    }
}

/// Spreads the specific loudness upwards along its slopes; its area in sone. What stands along the
/// ear is written to `specific` if it is wanted.
pub(super) fn spread(core: &Core, mut specific: Option<&mut Specific>) -> f64 {
    /// Both ends of a band belong to it.
    const SLACK: f64 = 1e-4;
    let bark = |point: usize| SPACING_BARK * (point + 1) as f64;
    let (mut area, mut point) = (0.0, 0);
    // Where it is, how much is left, and which slope that has.
    let (mut at, mut left, mut step) = (0.0, 0.0, STEPS.len() - 1);
    for (band, (own, end)) in core.iter().zip(ENDS_BARK).enumerate() {
        let end = end + SLACK;
        while at < end {
            let (next, then, slope);
            if left <= *own {
                if left < *own {
                    step = STEPS.iter().position(|least| least <= own).unwrap_or(step);
                }
                (next, then, slope) = (end, *own, 0.0);
                area += own * (next - at);
            } else {
                slope = SLOPES[step][band.saturating_sub(1).min(7)];
                let down_to = STEPS[step].max(*own);
                let reached = at + (left - down_to) / slope;
                (next, then) = if reached > end {
                    (end, left - (end - at) * slope)
                } else {
                    (reached, down_to)
                };
                area += 0.5 * (next - at) * (left + then);
            }
            if let Some(specific) = &mut specific {
                let from = if slope == 0.0 { *own } else { left };
                while point < POINTS && bark(point) <= next {
                    specific[point] = from - slope * (bark(point) - at);
                    point += 1;
                }
            }
            while step + 1 < STEPS.len() && then <= STEPS[step] {
                step += 1;
            }
            (at, left) = (next, then);
        }
    }
    area
}

/// The loudness level of a loudness: 40 phon for 1 sone, 10 phon more for twice as much.
pub(super) fn phon(sone: f64) -> f64 {
    if sone >= 1.0 {
        40.0 + 10.0 * sone.log2()
    } else {
        (40.0 * (sone + 0.0005).powf(0.35)).max(3.0)
    }
}

/// Sharpness (DIN 45692:2009): what the specific loudness weighs high up, over its area.
///
/// S = k·∫ N'·g·z dz / ∫ N' dz, g = 1 up to 15.8 Bark and 0.15·exp(0.42·(z − 15.8)) + 0.85 from there
/// on. k, for which the standard leaves 0.105 to 0.115, makes noise of one critical band at 1 kHz and
/// 60 dB have 1 acum. Both integrals are returned, the first with k.
pub(super) fn sharpness_parts(specific: &Specific) -> (f64, f64) {
    const K: f64 = 0.108;
    let weight = |z: f64| {
        if z <= 15.8 { 1.0 } else { 0.15 * (0.42 * (z - 15.8)).exp() + 0.85 }
    };
    let (mut moment, mut area) = (0.0, 0.0);
    for (point, sone) in specific.iter().enumerate() {
        let z = SPACING_BARK * (point + 1) as f64;
        moment += sone * weight(z) * z;
        area += sone;
    }
    (K * SPACING_BARK * moment, SPACING_BARK * area)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// By the standard's own steps in decibels.
    fn in_decibels(levels_db: &[f64; THIRDS], field: SoundField) -> Core {
        let row = |band: usize| {
            let level = levels_db[band];
            (0..7).find(|row| level <= RANGES_DB[*row] - LOW_DB[*row][band]).unwrap_or(7)
        };
        let weighed = |band: usize| power_from_db(levels_db[band] + LOW_DB[row(band)][band]);
        let mut core = [0.0; CRITICAL];
        for n in 0..20 {
            let mut level = if n < 3 {
                10.0 * thirds_of(n).map(weighed).sum::<f64>().log10()
            } else {
                levels_db[n + 8]
            };
            level +=
                if field == SoundField::Diffuse { DIFFUSE_DB[n] } else { 0.0 } - ATTENUATION_DB[n];
            if level > THRESHOLD_DB[n] {
                level -= WIDTH_DB[n];
                let over = 0.75 + 0.25 * power_from_db(level - THRESHOLD_DB[n]);
                core[n] = (0.0635 * 10f64.powf(0.025 * THRESHOLD_DB[n]) * (over.powf(0.25) - 1.0))
                    .max(0.0);
            }
        }
        core[0] *= (0.4 + 0.32 * core[0].powf(0.2)).min(1.0);
        core
    }

    fn loudness(levels_db: &[f64; THIRDS], field: SoundField) -> f64 {
        spread(&Ear::new(field).core(&levels_db.map(power_from_db)), None)
    }

    #[test]
    fn powers_give_what_decibels_do() {
        use rand::{RngExt, SeedableRng};
        let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(8);
        for _ in 0..2000 {
            let field = if random.random() { SoundField::Free } else { SoundField::Diffuse };
            let levels: [f64; THIRDS] = std::array::from_fn(|_| random.random_range(-20.0..119.0));
            let found = Ear::new(field).core(&levels.map(power_from_db));
            for (a, b) in found.iter().zip(in_decibels(&levels, field)) {
                assert!((a - b).abs() < 1e-9 * (1.0 + b), "{a} {b}");
            }
        }
    }

    /// The standard's levels of a machine, annex B.2.
    #[test]
    fn the_levels_of_the_standard_have_its_loudness() {
        let levels = [
            -60.0, -60.0, 78.0, 79.0, 89.0, 72.0, 80.0, 89.0, 75.0, 87.0, 85.0, 79.0, 86.0, 80.0,
            71.0, 70.0, 72.0, 71.0, 72.0, 74.0, 69.0, 65.0, 67.0, 77.0, 68.0, 58.0, 45.0, 30.0,
        ];
        let sone = loudness(&levels, SoundField::Free);
        println!("{sone:.4} sone; the standard has 83.296");
        assert!((sone - 83.296).abs() < 0.001, "{sone}");
    }

    #[test]
    fn the_area_is_that_below_the_points() {
        use rand::{RngExt, SeedableRng};
        let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(9);
        let ear = Ear::new(SoundField::Free);
        for _ in 0..200 {
            let levels: [f64; THIRDS] = std::array::from_fn(|_| random.random_range(20.0..100.0));
            let core = ear.core(&levels.map(power_from_db));
            let mut specific = [0.0; POINTS];
            let area = spread(&core, Some(&mut specific));
            let points: f64 = SPACING_BARK * specific.iter().sum::<f64>();
            assert!((points / area - 1.0).abs() < 0.03, "{points} {area}");
            // Nothing lies below what its own band has.
            let mut from = 0;
            for (own, end) in core.iter().zip(ENDS_BARK) {
                let to = ((end + 1e-6) / SPACING_BARK) as usize;
                assert!(specific[from..to].iter().all(|sone| *sone >= own - 1e-12));
                from = to;
            }
        }
        assert_eq!(spread(&[0.0; CRITICAL], None), 0.0);
    }

    #[test]
    fn phon_and_sone_go_together() {
        assert_eq!((phon(1.0), phon(2.0), phon(16.0)), (40.0, 50.0, 80.0));
        assert!((phon(0.999) - 40.0).abs() < 0.05 && phon(0.0) >= 2.7);
    }
}
