//! What the ear makes of components beside each other: critical-band rate, threshold in quiet, masking.
//!
//! A component of level L at z Bark excites places below it by 27 dB less for each Bark, and places above
//! it by 24 + 230 Hz/f − 0.2·L dB less for each (E. Terhardt, Hearing Research 1, 1979).

use crate::units::{amplitude_from_db, db_from_power, power_from_db};

/// How steeply the excitation of a component falls towards low frequencies.
pub(crate) const LOWER_DB_PER_BARK: f64 = 27.0;

/// How steeply it falls towards high ones, for a component of no level.
pub(crate) fn upper_of_none_db_per_bark(hz: f64) -> f64 {
    24.0 + 230.0 / hz.max(1.0)
}

/// The same of one of a level in dB; it never rises.
pub(crate) fn upper_db_per_bark(of_none: f64, level_db: f64) -> f64 {
    (of_none - 0.2 * level_db).max(0.0)
}

/// Critical-band rate of a frequency in Bark (E. Zwicker, E. Terhardt, JASA 68, 1980).
pub(crate) fn bark(hz: f64) -> f64 {
    13.0 * (0.76e-3 * hz).atan() + 3.5 * (hz / 7500.0).powi(2).atan()
}

/// Threshold in quiet: 3.64·f^−0.8 − 6.5·exp(−0.6·(f − 3.3)²) + 10^−3·f^4 dB, f in kHz (E. Terhardt,
/// Hearing Research 1, 1979).
pub(crate) fn threshold_db(hz: f64) -> f64 {
    let khz = hz.max(20.0) / 1e3;
    let dip = 6.5 * (-0.6 * (khz - 3.3).powi(2)).exp();
    3.64 * khz.powf(-0.8) - dip + 1e-3 * khz.powi(4)
}

/// How far each tone, given by its frequency in Hz and its level in dB re 20 µPa, stands over what the
/// others and the threshold in quiet mask, in dB: L − 10 lg((Σ 10^(E/20))² + 10^(threshold/10)), E being
/// what each of the others excites where it is (E. Terhardt, G. Stoll, M. Seewann, JASA 71, 1982).
pub(crate) fn excess_db(tones: &[(f64, f64)]) -> Vec<f64> {
    let excited_db = |at: f64, (hz, db): &(f64, f64)| {
        let away = bark(at) - bark(*hz);
        let slope = if away < 0.0 {
            -LOWER_DB_PER_BARK
        } else {
            upper_db_per_bark(upper_of_none_db_per_bark(*hz), *db)
        };
        db - slope * away
    };
    let excess = |(n, (hz, db)): (usize, &(f64, f64))| {
        let others = tones.iter().enumerate().filter(|(k, _)| *k != n);
        let sum: f64 = others.map(|(_, other)| amplitude_from_db(excited_db(*hz, other))).sum();
        db - db_from_power(sum * sum + power_from_db(threshold_db(*hz)))
    };
    tones.iter().enumerate().map(excess).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tone_masks_more_upwards_than_downwards_and_more_so_when_loud() {
        let beside = |db: f64, hz: f64| excess_db(&[(1000.0, db), (hz, db - 25.0)])[1];
        // A critical band apart, the higher one is hidden and the lower one heard.
        assert!(beside(80.0, 1160.0) < 0.0 && beside(80.0, 770.0) > 0.0);
        assert!(beside(40.0, 1500.0) > beside(80.0, 1500.0));
        // Alone, a tone is heard as far as it is over the threshold in quiet.
        let alone = excess_db(&[(1000.0, 30.0)])[0];
        assert!((alone - 30.0 + threshold_db(1000.0)).abs() < 1e-9, "{alone}");
        assert!(excess_db(&[(50.0, 20.0)])[0] < 0.0);
        // However loud it is, it masks no more far above than near.
        let masked = |hz: f64| 100.0 - excess_db(&[(1000.0, 150.0), (hz, 100.0)])[1];
        assert!(masked(8000.0) <= masked(1500.0) + 1e-9, "{} {}", masked(8000.0), masked(1500.0));
    }
}
