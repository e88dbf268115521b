//! What speaks for the fundamental at one instant, laid open.

use super::candidates::{Candidate, FrameReader};
use super::correlation::Correlator;
use super::levels::Levels;
use super::{PitchSettings, prefer};
use crate::error::Error;

/// The frame from which the fundamental at an instant is read.
#[derive(Debug, Clone, PartialEq)]
pub struct Evidence {
    /// Its middle, in seconds from the first sample.
    pub time_s: f64,
    /// How long it is, in seconds.
    pub frame_s: f64,
    /// Frequencies of its bins in Hz.
    pub frequency_hz: Vec<f64>,
    /// Level of a tone in each bin in dB re full scale, or re 20 µPa after [`Evidence::calibrate`].
    pub level_db: Vec<f64>,
    /// Level of the noise floor in each bin, likewise.
    pub floor_db: Vec<f64>,
    /// Lags in seconds.
    pub lag_s: Vec<f64>,
    /// Correlation of the frame with itself a lag later, from −1 to 1.
    pub correlation: Vec<f64>,
    /// The readings, the likeliest first. In a track the frames before and after count too.
    pub readings: Vec<Candidate>,
}

impl Evidence {
    /// Refers all levels to sound pressure: a full-scale sine has so many dB re 20 µPa.
    pub fn calibrate(&mut self, full_scale_db: f64) {
        for level_db in self.level_db.iter_mut().chain(&mut self.floor_db) {
            *level_db += full_scale_db;
        }
    }
}

/// Lays open what speaks for the fundamental at a time in seconds from the first sample; half a
/// second of sound on either side is enough.
///
/// # Errors
///
/// As [`super::PitchTracker::new`].
pub fn evidence(
    samples: &[f32],
    sample_rate_hz: f64,
    time_s: f64,
    settings: &PitchSettings,
) -> Result<Evidence, Error> {
    settings.check(sample_rate_hz)?;
    let mut levels = Levels::new(sample_rate_hz, settings.range_hz);
    levels.push(samples);
    levels.end();
    let mut reader = FrameReader::new(levels.frame);
    let mut readings = reader.read_at(&levels, time_s);
    if let Some(expected_hz) = settings.expected_hz {
        prefer(&mut readings, expected_hz);
    }
    let of_reading = readings.first().map(|reading| reading.frame_s);
    let frame_s = |rate_hz: f64| levels.frame as f64 / rate_hz;
    let mut used = levels.all.iter().filter(|level| level.range_hz.is_some());
    let level = used
        .find(|level| of_reading.is_none_or(|s| (frame_s(level.rate_hz) / s - 1.0).abs() < 1e-9))
        .unwrap_or(&levels.all[0]);
    let (power, floor) = reader.spectrum(level, time_s);
    let full = reader.full_scale();
    let level_db = |power: &f64| 10.0 * (power / full).max(1e-30).log10();
    let mut frame = vec![0.0; levels.frame];
    level.frame(time_s, &mut frame);
    let mut correlator = Correlator::default();
    correlator.set(&frame);
    let lags = 1..2 * frame.len() / 3;
    Ok(Evidence {
        time_s,
        frame_s: frame_s(level.rate_hz),
        frequency_hz: (0..power.len()).map(|k| k as f64 / frame_s(level.rate_hz)).collect(),
        level_db: power.iter().map(level_db).collect(),
        floor_db: floor.iter().map(level_db).collect(),
        lag_s: lags.clone().map(|lag| lag as f64 / level.rate_hz).collect(),
        correlation: lags.map(|lag| correlator.at(lag)).collect(),
        readings,
    })
}
