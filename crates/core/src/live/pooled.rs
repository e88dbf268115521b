//! The power in bins, in as many cells as a picture has.

use crate::units::db_from_power;

/// Levels in dB re full scale of cells between edges in Hz: of the strongest bin in each; between two
/// bins, where a cell holds none, on the straight line between their levels. Silence is −300 dB.
#[must_use]
pub fn pooled<P: Copy + Into<f64>>(power: &[P], spacing_hz: f64, edges_hz: &[f64]) -> Vec<f64> {
    const SILENCE: f64 = 1e-30;
    let level = |power: f64| db_from_power(power.max(SILENCE));
    let bin = |n: usize| power.get(n).map_or(0.0, |power| (*power).into());
    let cell = |edges: &[f64]| {
        let (low, high) = (edges[0] / spacing_hz, edges[1] / spacing_hz);
        let (first, last) = (low.ceil().max(0.0) as usize, high.floor().max(0.0) as usize);
        if first <= last {
            return level((first..=last).map(bin).fold(0.0, f64::max));
        }
        let middle = 0.5 * (low + high);
        let below = middle.max(0.0) as usize;
        let share = middle - below as f64;
        (1.0 - share) * level(bin(below)) + share * level(bin(below + 1))
    };
    edges_hz.windows(2).map(cell).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_show_their_strongest_bin_and_what_lies_between_bins() {
        let power = [0.0f32, 1.0, 0.01, 0.1, 0.0];
        let levels = pooled(&power, 10.0, &[5.0, 15.0, 17.0, 19.0, 35.0]);
        let wanted = [0.0, -12.0, -16.0, -10.0];
        for (level, wanted) in levels.iter().zip(wanted) {
            assert!((level - wanted).abs() < 1e-5, "{levels:?}");
        }
        assert_eq!(pooled(&power, 10.0, &[500.0, 600.0]), [-300.0]);
    }
}
