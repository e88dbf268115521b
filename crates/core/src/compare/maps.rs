//! Two sounds over time and frequency, and their difference cell by cell.

use std::sync::Arc;

use super::{Alignment, Raised, Sound};
use crate::error::Error;
use crate::spectrogram::{
    FrequencyAxis, Pooling, Spectrogram, SpectrogramPlan, SpectrogramSettings,
};
use crate::units::db_from_power;

/// Spectrograms of two sounds over the same cells, and their difference.
#[derive(Debug, Clone)]
pub struct DifferenceMaps {
    /// The first.
    pub a: Spectrogram,
    /// The second.
    pub b: Spectrogram,
    /// Where in each of them the cells begin, in seconds from the first sample.
    pub start_s: [f64; 2],
    /// The second less the first in dB, in the order of the cells; `None` where both are quieter
    /// than what is shown.
    pub difference_db: Vec<Option<f32>>,
    /// Cells in which neither stands out of its noise, so that their difference is one of noises.
    pub is_noise: Vec<bool>,
    /// Lowest and highest level shown, in dB, for both alike.
    pub range_db: (f64, f64),
    /// The greatest difference shown, in dB: all but one in fifty of the cells that hold sound are
    /// within it.
    pub reach_db: f64,
}

/// Makes the maps of two sounds, aligned in time where they are recordings of one; `matched_db` is
/// taken from the difference.
///
/// # Errors
///
/// As [`SpectrogramPlan::new`](crate::spectrogram::SpectrogramPlan::new).
pub fn difference_maps(
    a: Sound<'_>,
    b: Sound<'_>,
    alignment: Option<&Alignment>,
    matched_db: f64,
    range_hz: (f64, f64),
    cells: (usize, usize),
) -> Result<DifferenceMaps, Error> {
    let rate_hz = a.rate_hz.max(b.rate_hz);
    let raised_a = Raised::new(a.samples, a.rate_hz / rate_hz);
    let raised_b = Raised::new(b.samples, b.rate_hz / rate_hz);
    let [a_samples, b_samples] = [&raised_a, &raised_b].map(Raised::samples);
    let delay_s = alignment.map_or(0.0, |found| found.delay_s.value);
    let start_s = [(-delay_s).max(0.0), delay_s.max(0.0)];
    let [from_a, from_b] = start_s.map(|start_s| (start_s * rate_hz).round() as usize);
    let count =
        a_samples.count().saturating_sub(from_a).min(b_samples.count().saturating_sub(from_b));
    let settings = SpectrogramSettings {
        axis: FrequencyAxis::Logarithmic,
        range_hz: Some((range_hz.0.max(20.0), range_hz.1.min(0.5 * rate_hz))),
        size: cells,
        pooling: Pooling::Power,
        ..SpectrogramSettings::default()
    };
    let plan = Arc::new(SpectrogramPlan::new(&settings, rate_hz, count as u64)?);
    let a_map = Spectrogram::read(a_samples, from_a, &plan)?;
    let b_map = Spectrogram::read(b_samples, from_b, &plan)?;
    let shift = |range: Option<(f64, f64)>, full_scale_db: f64| {
        range.map(|(low, high)| (low + full_scale_db, high + full_scale_db))
    };
    let ranges = [
        shift(a_map.usual_range_db(), a.full_scale_db),
        shift(b_map.usual_range_db(), b.full_scale_db),
    ];
    let known = ranges.iter().flatten();
    let range_db = known.fold((f64::INFINITY, f64::NEG_INFINITY), |all, (low, high)| {
        (all.0.min(*low), all.1.max(*high))
    });
    let range_db = if range_db.0.is_finite() { range_db } else { (-100.0, 0.0) };
    let level =
        |power: f32, full_scale_db: f64| db_from_power(f64::from(power).max(1e-37)) + full_scale_db;
    let difference_db: Vec<Option<f32>> = a_map
        .power
        .iter()
        .zip(&b_map.power)
        .map(|(in_a, in_b)| {
            let (in_a, in_b) = (level(*in_a, a.full_scale_db), level(*in_b, b.full_scale_db));
            let lowest = |db: f64| db.max(range_db.0);
            (in_a.max(in_b) > range_db.0)
                .then_some((lowest(in_b) - lowest(in_a) - matched_db) as f32)
        })
        .collect();
    let (of_a, of_b) = (at_noise(&a_map), at_noise(&b_map));
    let is_noise: Vec<bool> = of_a.zip(of_b).map(|(a, b)| a && b).collect();
    let sized = |with_noise: bool| {
        let cells = difference_db.iter().zip(&is_noise);
        let cells = cells.filter(|(_, is_noise)| with_noise || !**is_noise);
        cells.filter_map(|(db, _)| db.map(f32::abs)).collect::<Vec<f32>>()
    };
    // Two noises have nothing else to be scaled by.
    let mut sizes = sized(false);
    if sizes.is_empty() {
        sizes = sized(true);
    }
    sizes.sort_by(f32::total_cmp);
    let most = sizes.get(sizes.len() * 49 / 50).copied().unwrap_or(0.0);
    let reach_db = ((f64::from(most) / 3.0).ceil() * 3.0).max(3.0);
    Ok(DifferenceMaps { a: a_map, b: b_map, start_s, difference_db, is_noise, range_db, reach_db })
}

/// Whether each cell lies within what noise reaches by chance.
///
/// The noise of a row is read from the tenth of its cells that are quietest, or from that of the
/// quarter of the rows around it where that is less: a tone that lasts throughout is no noise. The
/// power of noise in a frame is distributed exponentially: a tenth of the values lies below 0.105
/// of the mean, and one in a thousand above 6.9 times the mean, 66 times as much.
fn at_noise(map: &Spectrogram) -> impl Iterator<Item = bool> {
    // See above.
    const QUIET_SHARE: f64 = 0.1;
    const BY_CHANCE: f32 = 66.0;
    let (rows, columns) = (map.plan.rows(), map.plan.columns);
    let ranked = |mut values: Vec<f32>, share: f64| {
        let rank = (share * (values.len().max(1) - 1) as f64) as usize;
        if values.is_empty() { 0.0 } else { *values.select_nth_unstable_by(rank, f32::total_cmp).1 }
    };
    let quiet: Vec<f32> = (0..rows)
        .map(|row| {
            let cells = (0..columns).map(|column| map.column(column)[row]);
            ranked(cells.collect(), QUIET_SHARE)
        })
        .collect();
    let reach = rows / 8;
    let most: Vec<f32> = (0..rows)
        .map(|row| {
            let around = row.saturating_sub(reach)..(row + reach + 1).min(rows);
            BY_CHANCE * quiet[row].min(ranked(quiet[around].to_vec(), 0.25))
        })
        .collect();
    let cells = (0..columns).flat_map(move |column| (0..rows).map(move |row| (column, row)));
    cells
        .map(move |(column, row)| map.column(column)[row] <= most[row])
        .collect::<Vec<_>>()
        .into_iter()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::samples::Samples;
    use crate::synth::{PluckedString, mix, sine, to_samples, white_noise};

    const RATE: f64 = 48_000.0;

    fn share_of_noise(a: &dyn Samples, b: &dyn Samples) -> f64 {
        let sound = |samples| Sound { samples, rate_hz: RATE, full_scale_db: 0.0, note: None };
        let maps = difference_maps(sound(a), sound(b), None, 0.0, (50.0, 16_000.0), (240, 160))
            .expect("maps");
        let noise = maps.is_noise.iter().filter(|is_noise| **is_noise).count();
        noise as f64 / maps.is_noise.len() as f64
    }

    #[test]
    fn noise_is_told_from_sound_cell_by_cell() {
        for seed in 0..6 {
            let noise = |seed| white_noise(seed, 1e-3, 96_000);
            let alone = |seed| to_samples(&noise(seed));
            let of_noises = share_of_noise(&alone(seed), &alone(seed + 100));
            // A tone from beginning to end is sound, and so is a note that dies away.
            let with = |seed, other: &[f64]| {
                let mut sound = noise(seed);
                mix(&mut sound, other);
                to_samples(&sound)
            };
            let tone: Vec<f64> =
                sine(1000.0, 0.1, 0.0, RATE, 96_000).iter().map(|x| f64::from(*x)).collect();
            let of_tones = share_of_noise(&with(seed, &tone), &with(seed + 100, &tone));
            let note = PluckedString::default().render(RATE, 2.0);
            let of_notes = share_of_noise(&with(seed, &note), &with(seed + 100, &note));
            println!(
                "cells of noise: {of_noises:.4}, beside a tone {of_tones:.4}, a note {of_notes:.4}"
            );
            assert!(of_noises > 0.995, "{of_noises}");
            assert!((0.9..0.99).contains(&of_tones), "{of_tones}");
            assert!((0.75..0.88).contains(&of_notes), "{of_notes}");
        }
    }
}
