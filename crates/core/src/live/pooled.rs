//! The levels of bins, in as many cells as a picture has.

use crate::units::db_from_power;

/// What silence is shown as, in dB.
const SILENCE_DB: f32 = -300.0;

/// Levels in dB re full scale of the power in bins; of silence, −300 dB.
#[must_use]
pub fn levels_db(power: &[f64]) -> Vec<f32> {
    power.iter().map(|power| (db_from_power(*power) as f32).max(SILENCE_DB)).collect()
}

/// Levels in dB of cells between edges in Hz: of the strongest bin in each; between two bins, where a
/// cell holds none, on the straight line between their levels.
#[must_use]
pub fn pooled(levels_db: &[f32], spacing_hz: f64, edges_hz: &[f64]) -> Vec<f64> {
    let bin = |n: usize| levels_db.get(n).copied().unwrap_or(SILENCE_DB);
    let cell = |edges: &[f64]| {
        let (low, high) = (edges[0] / spacing_hz, edges[1] / spacing_hz);
        let (first, last) = (low.ceil().max(0.0) as usize, high.floor().max(0.0) as usize);
        if first <= last {
            let inside = levels_db.get(first..=last.min(levels_db.len().saturating_sub(1)));
            let strongest = inside.unwrap_or_default().iter().copied().fold(SILENCE_DB, f32::max);
            return f64::from(strongest);
        }
        let middle = 0.5 * (low + high);
        let below = middle.max(0.0) as usize;
        let share = middle - below as f64;
        (1.0 - share) * f64::from(bin(below)) + share * f64::from(bin(below + 1))
    };
    edges_hz.windows(2).map(cell).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_show_their_strongest_bin_and_what_lies_between_bins() {
        let levels = levels_db(&[0.0, 1.0, 0.01, 0.1, 0.0]);
        let cells = pooled(&levels, 10.0, &[5.0, 15.0, 17.0, 19.0, 35.0]);
        let wanted = [0.0, -12.0, -16.0, -10.0];
        for (level, wanted) in cells.iter().zip(wanted) {
            assert!((level - wanted).abs() < 1e-5, "{cells:?}");
        }
        assert_eq!(pooled(&levels, 10.0, &[500.0, 600.0]), [-300.0]);
    }
}
