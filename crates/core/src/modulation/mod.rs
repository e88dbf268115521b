//! Modulation: how fast and how deep a sound swells and fades, or moves in frequency.
//!
//! # What it computes
//!
//! **Envelope.** The analytic signal z(t) of a band has the amplitude of what sounds there as its
//! magnitude, and its frequency as the rate at which its phase turns (D. Gabor, J. IEE 93, 1946).
//! Where tones hold nine tenths of the power, the band is narrowed to them, so that noise that
//! lies elsewhere does not fill the gaps of the envelope.
//!
//! **Rate and depth.** In stretches of a length that resolves what is asked for, the strongest
//! line in the spectrum of the envelope about its mean is looked for, also one whose rate moves. A
//! wave exp(αu)·(c + Σ a_k·cos kθ + b_k·sin kθ), θ = 2π(ru + su²/2), is fitted to it by least squares:
//! r is the rate, (max − min)/(max + min) of its shape the depth. Where one wave fits all of the
//! sound, it stands for the whole.
//!
//! **AM, FM, beats.** The same is done with the frequency, each value weighed by its power. Of a
//! modulation that is in both, the lines beside the carrier decide: on one side only, it is two
//! tones that beat; else it is AM where the depth is larger than the deviation over the rate, in
//! radians, and FM where it is smaller: whichever has more power in its side bands.
//!
//! Uncertainties follow from the noise that the fit leaves about the rate.

mod analytic;
mod band;
mod fluctuation;
mod follow;
mod heard;
mod judge;
mod lines;
mod result;
mod roughness;
mod search;
mod sensation;
mod wave;

pub use result::{Beat, Kind, Modulation, Moment, Outline, Rate, RateDepth, RateMap};
pub use sensation::{Strength, strength};

use std::sync::Arc;

use crate::error::Error;
use crate::frame::FrameSettings;
use crate::samples::Samples;
use crate::spectrogram::{
    FrequencyAxis, Pooling, Spectrogram, SpectrogramPlan, SpectrogramSettings,
};
use crate::spectrum::{averaged_power, thinned};
use crate::units::db_from_power;
use band::Band;
use heard::Heard;

/// How modulation is measured.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ModulationSettings {
    /// Lowest and highest frequency of the band in Hz; `None` for all that is heard.
    pub range_hz: Option<(f64, f64)>,
    /// Slowest and fastest modulation that is looked for, in Hz.
    pub rates_hz: (f64, f64),
    /// Two rates so far apart are resolved, in Hz: the length of a stretch is twice its inverse.
    pub resolution_hz: f64,
    /// Columns and rows of a spectrogram of the sound, to be drawn beside; none by itself.
    pub cells: Option<(usize, usize)>,
    /// Level of a full-scale sine in dB re 20 µPa, which fluctuation strength and roughness need.
    pub full_scale_db: Option<f64>,
}

impl Default for ModulationSettings {
    fn default() -> Self {
        Self {
            range_hz: None,
            rates_hz: (0.1, 300.0),
            resolution_hz: 0.5,
            cells: None,
            full_scale_db: None,
        }
    }
}

/// Shortest sound in which a modulation is looked for, in seconds.
const SHORTEST_S: f64 = 0.1;

/// Measures the modulation of a sound whose first sample lies `start_s` seconds into its take.
///
/// # Errors
///
/// [`Error::TooShort`] for less than 0.1 s, [`Error::Setting`] for a band or rates that make no
/// sense, [`Error::Lost`] where samples can no longer be read.
pub fn modulation(
    samples: &dyn Samples,
    sample_rate_hz: f64,
    start_s: f64,
    settings: &ModulationSettings,
) -> Result<Modulation, Error> {
    let needed = (SHORTEST_S * sample_rate_hz).ceil();
    if (samples.count() as f64) < needed {
        return Err(Error::TooShort { samples: samples.count() as u64, needed: needed as u64 });
    }
    if !(settings.resolution_hz > 0.0 && settings.resolution_hz.is_finite()) {
        return Err(Error::Setting {
            setting: "the resolution",
            given: format!("{} Hz", settings.resolution_hz),
            allowed: "above 0 Hz".into(),
        });
    }
    let sound = Sound { samples, sample_rate_hz, start_s };
    let frames = FrameSettings::default();
    let averaged = averaged_power(samples, sample_rate_hz, &frames)?;
    let band = Band::of(&sound, &averaged, settings)?;
    let heard = Heard::of(&sound, &band, settings)?;
    let alone = || {
        let band = band.of_strongest(&averaged);
        band.map(|band| Heard::of(&sound, &band, settings)).transpose()
    };
    let mut result = heard.judged(&sound, &band, alone)?;
    result.say(&sound, settings);
    let (power, _, spacing_hz) = averaged;
    let levels = power
        .iter()
        .enumerate()
        .map(|(n, power)| (n as f64 * spacing_hz, db_from_power(power.max(1e-30))));
    result.sound = thinned(levels, 48).collect();
    if let Some(size) = settings.cells {
        let settings = SpectrogramSettings {
            size,
            axis: FrequencyAxis::Logarithmic,
            pooling: Pooling::Power,
            ..SpectrogramSettings::default()
        };
        let plan = SpectrogramPlan::new(&settings, sample_rate_hz, samples.count() as u64)?;
        result.spectrogram = Some(Spectrogram::read(samples, 0, &Arc::new(plan))?);
    }
    if let Some(full_scale_db) = settings.full_scale_db {
        result.full_scale_db = full_scale_db;
        result.level_db += full_scale_db;
        result.sound.iter_mut().for_each(|(_, db)| *db += full_scale_db);
        sensation::add(&sound, full_scale_db, &mut result)?;
    }
    Ok(result)
}

/// A sound that is measured.
struct Sound<'a> {
    samples: &'a dyn Samples,
    sample_rate_hz: f64,
    start_s: f64,
}

impl Sound<'_> {
    fn lasts_s(&self) -> f64 {
        self.samples.count() as f64 / self.sample_rate_hz
    }
}
