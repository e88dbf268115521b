//! Two sounds over time and frequency, and their difference cell by cell.

use super::{Lie, Sound, raised};
use crate::error::Error;
use crate::spectrogram::{FrequencyAxis, Pooling, Spectrogram, SpectrogramSettings, spectrogram};
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
    /// The second less the first in dB, in the order of the cells; `None` where both are quieter than what is shown.
    pub difference_db: Vec<Option<f32>>,
    /// Lowest and highest level shown, in dB, for both alike.
    pub range_db: (f64, f64),
    /// The greatest difference shown, in dB: all but one in fifty cells are within it.
    pub reach_db: f64,
}

/// Makes the maps of two sounds, laid over each other where they are recordings of one; `matched_db` is taken from the difference.
///
/// # Errors
///
/// As [`SpectrogramPlan::new`](crate::spectrogram::SpectrogramPlan::new).
pub fn difference_maps(
    a: Sound<'_>,
    b: Sound<'_>,
    lie: Option<&Lie>,
    matched_db: f64,
    range_hz: (f64, f64),
    cells: (usize, usize),
) -> Result<DifferenceMaps, Error> {
    let rate_hz = a.rate_hz.max(b.rate_hz);
    let (raised_a, raised_b) = (raised(a, rate_hz), raised(b, rate_hz));
    let a_samples = raised_a.as_deref().unwrap_or(a.samples);
    let b_samples = raised_b.as_deref().unwrap_or(b.samples);
    let delay_s = lie.map_or(0.0, |lie| lie.delay_s.value);
    let start_s = [(-delay_s).max(0.0), delay_s.max(0.0)];
    let [from_a, from_b] = start_s.map(|start_s| (start_s * rate_hz).round() as usize);
    let a_samples = a_samples.get(from_a..).unwrap_or_default();
    let b_samples = b_samples.get(from_b..).unwrap_or_default();
    let count = a_samples.len().min(b_samples.len());
    let settings = SpectrogramSettings {
        axis: FrequencyAxis::Logarithmic,
        range_hz: Some((range_hz.0.max(20.0), range_hz.1.min(0.5 * rate_hz))),
        size: cells,
        pooling: Pooling::Power,
        ..SpectrogramSettings::default()
    };
    let a_map = spectrogram(&a_samples[..count], rate_hz, &settings)?;
    let b_map = spectrogram(&b_samples[..count], rate_hz, &settings)?;
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
    let mut sizes: Vec<f32> = difference_db.iter().flatten().map(|db| db.abs()).collect();
    sizes.sort_by(f32::total_cmp);
    let most = sizes.get(sizes.len() * 49 / 50).copied().unwrap_or(0.0);
    let reach_db = ((f64::from(most) / 3.0).ceil() * 3.0).max(3.0);
    Ok(DifferenceMaps { a: a_map, b: b_map, start_s, difference_db, range_db, reach_db })
}
