//! Measured loudness, and its numbers.

use serde::{Serialize, Serializer};

use super::pattern::{PER_BARK, POINTS, thirds_of};
use super::programme::Programme;
use super::statistics::Stretch;
use super::tables::{ENDS_BARK, THIRDS};
use super::thirds::middle_hz;
use super::weight::{Weight, weights};
use super::{Method, SoundField};
use crate::finding::Finding;
use crate::measured::{Measured, flat};
use crate::quantity::{Key, Label, Quantities, Quantity, Unit, pair};

/// Specific loudness at a place along the ear.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct SpecificLoudness {
    /// Critical-band rate.
    pub bark: f64,
    /// Frequency that belongs to it.
    pub frequency_hz: f64,
    /// Specific loudness.
    pub sone_per_bark: f64,
}

/// Loudness at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Moment {
    /// When, in seconds from the start of the take.
    pub time_s: f64,
    /// Loudness.
    pub loudness_sone: f64,
    /// Sharpness; null below 0.1 sone.
    pub sharpness_acum: Option<f64>,
}

/// What was measured.
#[derive(Debug, Clone, Serialize)]
pub struct Loudness {
    /// How.
    pub method: Method,
    /// The sound field that the microphone stood in.
    pub field: SoundField,
    /// Loudness: of a steady sound that of its mean powers, of one that varies N5.
    #[serde(flatten, serialize_with = "flat::loudness_sone")]
    pub loudness_sone: Option<Measured>,
    /// Its loudness level.
    #[serde(flatten, serialize_with = "flat::loudness_level_phon")]
    pub loudness_level_phon: Option<Measured>,
    /// Loudness that is exceeded during 5 % and 10 % of the time.
    pub n5_sone: Option<f64>,
    /// See above.
    pub n10_sone: Option<f64>,
    /// Largest loudness, and when.
    pub max_sone: Option<f64>,
    /// See above.
    pub max_at_s: Option<f64>,
    /// Sharpness; of a sound that varies its mean, each moment weighed by its loudness.
    #[serde(flatten, serialize_with = "flat::sharpness_acum")]
    pub sharpness_acum: Option<Measured>,
    /// Roughness and fluctuation strength.
    pub roughness_asper: Option<f64>,
    /// See above.
    pub fluctuation_strength_vacil: Option<f64>,
    /// Level of the bands from 25 Hz to 12.5 kHz together.
    pub level_db: Option<f64>,
    /// Programme loudness.
    #[serde(flatten)]
    pub programme: Programme,
    /// Specific loudness each tenth of a Bark; of a sound that varies its mean over time.
    pub specific: Vec<SpecificLoudness>,
    /// What each critical band weighs against the other of two sounds, the most first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub weighs_most: Vec<Weight>,
    /// Loudness every 2 ms, where it was kept.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub course: Vec<Moment>,
    /// Loudness and specific loudness over time, as it is drawn.
    #[serde(
        rename = "specific_course",
        serialize_with = "stretches",
        skip_serializing_if = "Vec::is_empty"
    )]
    pub stretches: Vec<Stretch>,
    /// Length of a stretch in seconds.
    #[serde(skip)]
    pub stretch_s: f64,
    /// Mean powers of the thirds re 20 µPa.
    #[serde(skip)]
    pub(super) powers: Option<[f64; THIRDS]>,
    /// What must be known.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

fn stretches<S: Serializer>(all: &[Stretch], serializer: S) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    struct Specific<'s> {
        time_s: f64,
        sone_per_bark: &'s [f32],
    }
    serializer.collect_seq(
        all.iter().map(|at| Specific { time_s: at.time_s, sone_per_bark: &at.specific }),
    )
}

impl Loudness {
    /// What is known before anything is measured.
    pub(super) fn new(method: Method, field: SoundField) -> Self {
        Self {
            method,
            field,
            loudness_sone: None,
            loudness_level_phon: None,
            n5_sone: None,
            n10_sone: None,
            max_sone: None,
            max_at_s: None,
            sharpness_acum: None,
            roughness_asper: None,
            fluctuation_strength_vacil: None,
            level_db: None,
            programme: Programme::default(),
            specific: Vec::new(),
            weighs_most: Vec::new(),
            course: Vec::new(),
            stretches: Vec::new(),
            stretch_s: 0.0,
            powers: None,
            findings: Vec::new(),
        }
    }

    /// Programme loudness alone.
    #[must_use]
    pub fn of_programme(programme: Programme, field: SoundField) -> Self {
        Self { programme, ..Self::new(Method::Programme, field) }
    }

    /// Finds out which critical bands carry the difference to another sound.
    ///
    /// Both are taken as their mean powers: what a band would save is the loudness of those, less
    /// that with the power the band has in the other.
    pub fn weigh_against(&mut self, other: &Self) {
        if let Some((own, other)) = self.powers.as_ref().zip(other.powers.as_ref()) {
            self.weighs_most = weights(&super::Ear::new(self.field), own, other);
        }
    }

    pub(super) fn set_specific(&mut self, specific: impl Iterator<Item = f64>) {
        self.specific = (1..=POINTS)
            .zip(specific)
            .map(|(n, sone_per_bark)| {
                let bark = n as f64 / PER_BARK;
                SpecificLoudness { bark, frequency_hz: frequency_hz(bark), sone_per_bark }
            })
            .collect();
    }
}

/// The frequency of a critical-band rate: at the ends of the critical bands that of the thirds there,
/// on a geometric line between them.
#[must_use]
pub fn frequency_hz(bark: f64) -> f64 {
    let band = ENDS_BARK.iter().position(|end| bark <= *end).unwrap_or(ENDS_BARK.len() - 1);
    let high = end_hz(band);
    let Some(below) = band.checked_sub(1) else { return high * bark / ENDS_BARK[0] };
    let share = (bark - ENDS_BARK[below]) / (ENDS_BARK[band] - ENDS_BARK[below]);
    end_hz(below) * (high / end_hz(below)).powf(share)
}

/// The critical-band rate of a frequency, the inverse of [`frequency_hz`].
#[must_use]
pub fn critical_band_rate(hz: f64) -> f64 {
    let band = (0..ENDS_BARK.len()).find(|band| hz <= end_hz(*band)).unwrap_or(ENDS_BARK.len() - 1);
    let Some(below) = band.checked_sub(1) else { return ENDS_BARK[0] * hz / end_hz(0) };
    let share = (hz / end_hz(below)).ln() / (end_hz(band) / end_hz(below)).ln();
    ENDS_BARK[below] + share * (ENDS_BARK[band] - ENDS_BARK[below])
}

/// Where a critical band ends in frequency.
fn end_hz(band: usize) -> f64 {
    /// What lies above the highest third.
    const TOP_HZ: f64 = 15_500.0;
    if band + 1 == ENDS_BARK.len() {
        return TOP_HZ;
    }
    middle_hz(thirds_of(band).end - 1) * 10f64.powf(0.05)
}

const LOUDNESS: Label = Label::new("loudness_sone", "loudness", Unit::Sone, 3).with_u();
const LEVEL: Label = Label::new("loudness_level_phon", "loudness level", Unit::Phon, 2).with_u();
const N5: Label = Label::new("n5_sone", "loudness exceeded 5 % of the time", Unit::Sone, 3);
const N10: Label = Label::new("n10_sone", "loudness exceeded 10 % of the time", Unit::Sone, 3);
const MAX: Label = Label::new("max_sone", "largest loudness", Unit::Sone, 3);
const MAX_AT: Label = Label::new("max_at_s", "time of the largest loudness", Unit::Second, 3);
const SHARPNESS: Label = Label::new("sharpness_acum", "sharpness", Unit::Acum, 3).with_u();
const ROUGHNESS: Label = Label::new("roughness_asper", "roughness", Unit::Asper, 3);
const FLUCTUATION: Label =
    Label::new("fluctuation_strength_vacil", "fluctuation strength", Unit::Vacil, 3);
const SOUND_LEVEL: Label = Label::new("level_db", "level, 25 Hz to 12.5 kHz", Unit::Level, 2);
const PROGRAMME: Label = Label::new("programme_lufs", "programme loudness", Unit::Lufs, 2);
const MOMENTARY: Label =
    Label::new("max_momentary_lufs", "largest momentary loudness", Unit::Lufs, 2);
const SHORT_TERM: Label =
    Label::new("max_short_term_lufs", "largest short-term loudness", Unit::Lufs, 2);
const RANGE: Label = Label::new("loudness_range_lu", "loudness range", Unit::LoudnessUnit, 2);
const PEAK: Label = Label::new("true_peak_dbfs", "true peak of all channels", Unit::FullScale, 2);

impl Quantities for Loudness {
    fn quantities(&self) -> Vec<Quantity> {
        let plain = |label, value| Quantity::top(label, pair(value, None));
        let programme = &self.programme;
        let mut all = vec![
            Quantity::top(&LOUDNESS, self.loudness_sone),
            Quantity::top(&LEVEL, self.loudness_level_phon),
            plain(&N5, self.n5_sone),
            plain(&N10, self.n10_sone),
            plain(&MAX, self.max_sone),
            plain(&MAX_AT, self.max_at_s),
            Quantity::top(&SHARPNESS, self.sharpness_acum),
            plain(&ROUGHNESS, self.roughness_asper),
            plain(&FLUCTUATION, self.fluctuation_strength_vacil),
            plain(&SOUND_LEVEL, self.level_db),
            plain(&PROGRAMME, programme.programme_lufs),
            plain(&MOMENTARY, programme.max_momentary_lufs),
            plain(&SHORT_TERM, programme.max_short_term_lufs),
            plain(&RANGE, programme.loudness_range_lu),
            plain(&PEAK, programme.true_peak_dbfs),
        ];
        for band in &self.weighs_most {
            let key = Key::band("weighs_most", (10.0 * band.frequency_hz).round() / 10.0);
            let name = format!("critical band at {:.0} Hz", band.frequency_hz);
            all.extend(Quantity::of_item(&key, &name, &Weight::FIELDS, band));
        }
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn critical_bands_end_where_thirds_do() {
        for (bark, hz) in
            [(0.9, 89.1), (2.8, 281.8), (8.5, 1000.0), (18.1, 4467.0), (24.0, 15_500.0)]
        {
            let found = frequency_hz(bark);
            assert!((found / hz - 1.0).abs() < 0.02, "{bark} Bark: {found} Hz");
        }
        let all: Vec<f64> = (1..=240).map(|n| frequency_hz(0.1 * f64::from(n))).collect();
        assert!(all.is_sorted());
        for (n, hz) in (1..=240).zip(all) {
            assert!((critical_band_rate(hz) - 0.1 * f64::from(n)).abs() < 1e-9, "{hz} Hz");
        }
    }
}
