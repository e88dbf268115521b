//! Which bands carry the difference in loudness of two sounds.

use serde::Serialize;

use super::pattern::{Core, Ear, POINTS, SPACING_BARK, spread, thirds_of};
use super::tables::{CRITICAL, ENDS_BARK, THIRDS};
use super::thirds::middle_hz;
use crate::quantity::{Field as Number, Unit};

/// What a critical band adds to the difference.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Weight {
    /// Its middle in Hz.
    pub frequency_hz: f64,
    /// Its middle in Bark.
    pub bark: f64,
    /// Loudness that lies in the band beyond that of the other sound.
    pub sone: f64,
    /// By how much the whole would be quieter if the band had the level that it has in the other
    /// sound: what it masks higher up goes with it.
    pub gain_sone: f64,
}

impl Weight {
    /// Its numbers.
    pub const FIELDS: [Number<Self>; 4] = [
        Number::plain("frequency_hz", "middle", Unit::Hertz, 1, |of| Some(of.frequency_hz)),
        Number::plain("bark", "critical-band rate", Unit::Bark, 2, |of| Some(of.bark)),
        Number::plain("sone", "loudness beyond the other", Unit::Sone, 2, |of| Some(of.sone)),
        Number::plain(
            "gain_sone",
            "loudness that its level of the other would save",
            Unit::Sone,
            2,
            |of| Some(of.gain_sone),
        ),
    ];
}

/// The critical bands of a sound, what each weighs against another; the most first.
pub(super) fn weights(ear: &Ear, own: &[f64; THIRDS], other: &[f64; THIRDS]) -> Vec<Weight> {
    let along = |core: &Core| {
        let mut specific = [0.0; POINTS];
        (spread(core, Some(&mut specific)), specific)
    };
    let (whole, of_own) = along(&ear.core(own));
    let (_, of_other) = along(&ear.core(other));
    let of_band = |band: usize| {
        let thirds = thirds_of(band);
        let mut brought = *own;
        brought[thirds.clone()].copy_from_slice(&other[thirds.clone()]);
        let low = band.checked_sub(1).map_or(0.0, |below| ENDS_BARK[below]);
        let high = ENDS_BARK[band];
        let point = |bark: f64| (bark / SPACING_BARK + 1e-6) as usize;
        let within = point(low)..point(high);
        let more: f64 =
            of_own[within.clone()].iter().zip(&of_other[within]).map(|(a, b)| a - b).sum();
        Weight {
            frequency_hz: (middle_hz(thirds.start) * middle_hz(thirds.end - 1)).sqrt(),
            bark: 0.5 * (low + high),
            sone: SPACING_BARK * more,
            gain_sone: whole - spread(&ear.core(&brought), None),
        }
    };
    let mut all: Vec<Weight> = (0..CRITICAL - 1).map(of_band).collect();
    all.sort_by(|a, b| b.gain_sone.total_cmp(&a.gain_sone));
    all
}
