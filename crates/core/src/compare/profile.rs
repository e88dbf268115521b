//! What one sound is, in quantities that can be compared.

use serde::Serialize;

use super::Sound;
use crate::error::Error;
use crate::measured::Measured;
use crate::partials::{Partial, PartialTrack, Partials};
use crate::timbre::{DESCRIPTORS, Descriptor, Timbre, TimbreSettings, scatter_of_mean, timbre};
use crate::units::db_from_amplitude;

/// Kind of a quantity: those of a kind stand in one table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum QuantityKind {
    /// A level of the whole.
    Level,
    /// A level in a band of frequency.
    Band,
    /// Frequency, level or decay of a partial.
    Partial,
    /// A descriptor of timbre.
    Descriptor,
}

/// A quantity of one sound.
#[derive(Debug, Clone, PartialEq)]
pub struct Quantity {
    /// Its kind.
    pub kind: QuantityKind,
    /// Its key in JSON, with its unit.
    pub key: String,
    /// Its name.
    pub name: String,
    /// Its unit; empty for a pure number.
    pub unit: &'static str,
    /// Decimals that are worth printing.
    pub decimals: usize,
    /// Its value; the uncertainty may be unknown (NaN).
    pub value: Measured,
}

/// The harmonics of a note have at least so much more power than the noise.
const NOTE_OVER_NOISE_DB: f64 = 12.0;

/// Partials and descriptors of a sound. Where it holds no frame, or nothing can be said, there are none.
pub(super) fn note_quantities(
    sound: Sound<'_>,
    settings: &TimbreSettings,
) -> Result<Vec<Quantity>, Error> {
    let found = match timbre(sound.samples, sound.rate_hz, 0.0, settings) {
        Ok(found) => found,
        Err(Error::TooShort { .. }) => return Ok(Vec::new()),
        Err(other) => return Err(other),
    };
    // Noise with a resonance seems to have a fundamental, as uncertain as it is.
    let over_noise = found.whole.median.get(Descriptor::HarmonicToNoise);
    let is_note = found.partials.is_some() && over_noise.is_none_or(|db| db > NOTE_OVER_NOISE_DB);
    let mut quantities = Vec::new();
    if let Some(partials) = found.partials.as_ref().filter(|_| is_note) {
        quantities.extend(partial_quantities(partials, sound.full_scale_db));
    }
    quantities.extend(descriptor_quantities(&found, is_note));
    Ok(quantities)
}

fn partial_quantities(found: &Partials, full_scale_db: f64) -> Vec<Quantity> {
    let quantity = |key: String, name: String, unit, decimals, value: Measured| Quantity {
        kind: QuantityKind::Partial,
        key,
        name,
        unit,
        decimals,
        value,
    };
    let mut quantities = Vec::new();
    if let Some(f0) = found.f0_hz {
        quantities.push(quantity("f0_hz".into(), "fundamental".into(), "Hz", 4, f0));
    }
    if let Some(b) = found.inharmonicity {
        quantities.push(quantity("inharmonicity".into(), "inharmonicity".into(), "", 8, b));
    }
    for partial in &found.partials {
        let Partial { number, frequency_hz, frequency_hz_u, .. } = *partial;
        let key = |what: &str| format!("partials[{number}].{what}");
        let name = |what: &str| format!("partial {number}, {what}");
        let frequency = Measured::new(frequency_hz, frequency_hz_u);
        quantities.push(quantity(key("frequency_hz"), name("frequency"), "Hz", 4, frequency));
        let tracks = found.tracks.iter().filter(|track| track.number == number);
        let u = level_scatter(tracks, found.level_at_s, found.frame_s);
        let level = Measured::new(partial.level_db + full_scale_db, u);
        quantities.push(quantity(key("level_db"), name("level"), "dB", 2, level));
        if let (Some(decay_s), Some(u)) = (partial.decay_t60_s, partial.decay_t60_s_u) {
            let decay = Measured::new(decay_s, u);
            quantities.push(quantity(key("decay_t60_s"), name("decay"), "s", 3, decay));
        }
    }
    quantities
}

/// How far the level of a partial scatters from point to point in its loud beginning, in dB, an even rise or fall being none.
fn level_scatter<'a>(
    tracks: impl Iterator<Item = &'a PartialTrack>,
    level_at_s: f64,
    frame_s: f64,
) -> f64 {
    const FRAMES: usize = 12;
    let Some(track) = tracks.max_by_key(|track| track.points.len()) else { return f64::NAN };
    let apart = (frame_s / track.hop_s).ceil().max(1.0) as usize;
    let first = ((level_at_s - track.start_s) / track.hop_s).max(0.0) as usize;
    let levels: Vec<(f64, f64)> = (track.points.iter().skip(first).take(FRAMES * apart))
        .map(|point| (db_from_amplitude(point.amplitude.max(1e-12)), 1.0))
        .collect();
    let independent = (levels.len() as f64 / apart as f64).max(1.0);
    scatter_of_mean(&levels, apart).map_or(f64::NAN, |u| u * independent.sqrt())
}

/// Descriptors; those of harmonics and of a rise only of a note.
fn descriptor_quantities(found: &Timbre, is_note: bool) -> Vec<Quantity> {
    let mut quantities: Vec<Quantity> = DESCRIPTORS
        .iter()
        .filter_map(|words| {
            let value = found.whole.median.get(words.descriptor)?;
            let u = found.whole.median_u.get(words.descriptor).unwrap_or(f64::NAN);
            let of_noise_too = !matches!(
                words.descriptor,
                Descriptor::CentroidOverF0
                    | Descriptor::OddEven
                    | Descriptor::Tristimulus1
                    | Descriptor::Tristimulus2
                    | Descriptor::Tristimulus3
                    | Descriptor::Irregularity
                    | Descriptor::HarmonicToNoise
            );
            (is_note || of_noise_too).then(|| Quantity {
                kind: QuantityKind::Descriptor,
                key: words.key.into(),
                name: words.name.into(),
                unit: words.unit,
                decimals: words.decimals,
                value: Measured::new(value, u),
            })
        })
        .collect();
    if let Some(rise) = found.rise.filter(|_| is_note) {
        quantities.push(Quantity {
            kind: QuantityKind::Descriptor,
            key: "attack_s".into(),
            name: "attack".into(),
            unit: "s",
            decimals: 4,
            value: rise.duration_s,
        });
    }
    quantities
}
