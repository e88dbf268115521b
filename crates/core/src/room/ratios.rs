//! Sound strength and early lateral fraction: energies of a response against those of another one.
//!
//! Strength is the energy of a response over what the same source has at 10 m in a free field,
//! G = 10 lg(∫p²dt/∫p₁₀²dt); a free field at a distance d has d²/(10 m)² of that. The early lateral
//! fraction is the energy that a microphone with a figure-of-eight pattern, its null towards the source,
//! receives from 5 to 80 ms over what an omnidirectional one beside it receives from 0 to 80 ms
//! (ISO 3382-1:2009, A.2.1 and A.2.4).

use super::cells::Filters;
use super::excitation::{Cut, Powers};
use super::{RoomSettings, sweep, with_whole};
use crate::error::Error;
use crate::samples::Samples;
use crate::units::{db_from_amplitude, db_from_power};

/// Early lateral sound begins and ends so long after the direct sound.
const LATERAL_S: (f64, f64) = (0.005, 0.08);
/// A free field has nothing behind the direct sound but what the source itself rings.
const DIRECT_S: f64 = 0.05;
/// Strength refers to this distance.
const REFERENCE_M: f64 = 10.0;

/// What a source has in a free field.
#[derive(Debug, Clone, PartialEq)]
pub struct FreeField {
    /// Middle of each band in Hz, and the energy in it.
    energies: Vec<(f64, f64)>,
    /// Distance of the microphone.
    distance_m: f64,
    /// Level of a full-scale sine of the take measured less that of the free field's.
    gain_db: f64,
}

impl FreeField {
    /// Measures the direct sound of a source; `None` where there is none.
    ///
    /// # Errors
    ///
    /// As of [`super::room`]; [`Error::Setting`] for a distance that makes no sense.
    pub fn measure(
        take: &dyn Samples,
        rate_hz: f64,
        settings: &RoomSettings,
        distance_m: f64,
    ) -> Result<Option<Self>, Error> {
        settings.check()?;
        if !(0.1..=100.0).contains(&distance_m) {
            return Err(Error::Setting {
                setting: "the distance in the free field",
                given: format!("{distance_m} m"),
                allowed: "0.1 m to 100 m".into(),
            });
        }
        let cut = match &settings.sweep {
            Some(played) => sweep::deconvolved(take, None, played, rate_hz)?.map(|found| found.cut),
            None => Powers::new(take, rate_hz)?.impulse(take, None)?,
        };
        let Some(cut) = cut else { return Ok(None) };
        let bands = with_whole(&settings.bands(rate_hz));
        let filters = Filters::new(&bands, rate_hz);
        let end = (cut.zero + (DIRECT_S * rate_hz) as usize).min(cut.samples.len());
        let noise = filters.noise(&cut.samples[end..]);
        let direct = filters.cells(&cut.samples[..end], cut.zero);
        let lasts_s = end as f64 / rate_hz;
        let energies = bands.iter().zip(direct).zip(noise);
        let energies = energies
            .map(|((band, cells), noise)| (band.center_hz, cells.whole - noise * lasts_s))
            .collect();
        Ok(Some(Self { energies, distance_m, gain_db: 0.0 }))
    }

    /// With the level of a full-scale sine of the take measured less that of this one.
    #[must_use]
    pub fn with_gain_db(&self, gain_db: f64) -> Self {
        Self { gain_db, ..self.clone() }
    }

    /// Strength of a response that has an energy in a band, in dB.
    pub(super) fn strength_db(&self, center_hz: f64, energy: f64) -> Option<f64> {
        let near = |(of, _): &&(f64, f64)| (of / center_hz - 1.0).abs() < 1e-6;
        let (_, direct) = self.energies.iter().find(near).filter(|(_, direct)| *direct > 0.0)?;
        let further_db = db_from_amplitude(REFERENCE_M / self.distance_m);
        Some(db_from_power(energy / direct) + further_db + self.gain_db)
    }
}

/// Energy of the early lateral sound in each band, less the noise.
pub(super) fn lateral_energies(filters: &Filters, cut: &Cut, rate_hz: f64) -> Option<Vec<f64>> {
    let lateral = cut.lateral.as_ref()?;
    let place = |s: f64| (cut.zero + (s * rate_hz) as usize).min(lateral.len());
    let (from, to) = (place(LATERAL_S.0), place(LATERAL_S.1));
    let noise = filters.noise(&lateral[to..]);
    let early = filters.cells(&lateral[from..to], 0);
    let lasts_s = (to - from) as f64 / rate_hz;
    Some(early.iter().zip(noise).map(|(cells, noise)| cells.whole - noise * lasts_s).collect())
}
