//! Groups of repeats: whether two groups differ by more than their members do.

use serde::Serialize;

use super::profile::{Kinded, QuantityKind, loudness_quantities, note_quantities};
use super::spectra::Spectra;
use super::{CompareSettings, Sound, bands_told, check_width, frames_for, peak_db, range};
use crate::bands::Weighting;
use crate::error::Error;
use crate::frame::FramePlan;
use crate::measured::{Measured, flat};
use crate::quantity::{Key, Label, Quantity, Unit, pair};
use crate::significance::Family;

/// What one sound is.
#[derive(Debug, Clone, PartialEq)]
pub struct Profile {
    /// Its quantities: levels, bands, partials, descriptors.
    pub quantities: Vec<(QuantityKind, Quantity)>,
}

/// A quantity of two groups of sounds. Means with the spread of a member (standard deviation); the
/// difference with the standard uncertainty of the difference of the means.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct GroupDifference {
    /// Its kind.
    #[serde(skip)]
    pub kind: QuantityKind,
    /// The quantity; its value is the mean of the first group.
    #[serde(flatten, serialize_with = "Quantity::identity")]
    pub quantity: Quantity,
    /// Mean of the first group.
    pub a_mean: f64,
    /// Spread of its members.
    pub a_spread: f64,
    /// Its members that have the quantity.
    pub a_count: usize,
    /// Mean of the second group.
    pub b_mean: f64,
    /// Spread of its members.
    pub b_spread: f64,
    /// Its members that have the quantity.
    pub b_count: usize,
    /// The second less the first, with its standard uncertainty.
    #[serde(flatten, serialize_with = "sure_difference")]
    pub difference: Measured,
    /// The least difference that would be significant.
    pub least: f64,
    /// Whether the difference is significant.
    #[serde(rename = "distinguishable")]
    pub is_real: bool,
}

/// Measures one sound by itself.
///
/// # Errors
///
/// As [`compare`](super::compare).
pub fn profile(sound: Sound<'_>, settings: &CompareSettings) -> Result<Profile, Error> {
    let Sound { samples, rate_hz, full_scale_db, .. } = sound;
    let range_hz = range(settings, rate_hz)?;
    let frames = frames_for(settings, rate_hz, samples.count());
    let plan = FramePlan::new(&frames, rate_hz, samples.count() as u64)?;
    check_width(range_hz, plan.resolution_hz(rate_hz))?;
    let mut spectra = Spectra::apart(samples, samples, &plan, rate_hz)?;
    spectra.full_scale_db = [full_scale_db; 2];
    let mut family = Family::new(1.0);
    let rms = spectra.level(range_hz, &|_| 1.0, &mut family).a_db;
    let weighted = spectra.level(range_hz, &|hz| Weighting::A.power(hz), &mut family).a_db;
    let levels = [(LEVEL, rms), (A_WEIGHTED, weighted), (PEAK, peak_db(sound)?)];
    let known =
        |(label, db): (Label, Option<f64>)| Some(Quantity::top(&label, pair(Some(db?), None)));
    let mut quantities: Vec<Kinded> =
        levels.into_iter().filter_map(known).map(|level| (QuantityKind::Level, level)).collect();
    for band in bands_told(settings, range_hz, plan.resolution_hz(rate_hz), rate_hz) {
        let Some(db) = spectra.difference(band, &mut family).a_db else { continue };
        let key = band.key(settings.fraction).then(LEVEL.field);
        let name = band.name(settings.fraction);
        let level = Quantity::new(key, &LEVEL, pair(Some(db), None));
        quantities.push((QuantityKind::Band, Quantity { name: name.into(), ..level }));
    }
    if let Some(timbre) = &settings.timbre {
        quantities.extend(note_quantities(sound, timbre)?);
    }
    if let Some(field) = settings.loudness {
        quantities.extend(loudness_quantities(sound, field)?);
    }
    Ok(Profile { quantities })
}

const LEVEL: Label = Label::new("level_db", "level", Unit::Level, 2);
const A_WEIGHTED: Label = Label::new("a_weighted_db", "level, A-weighted", Unit::Level, 2);
const PEAK: Label = Label::new("peak_db", "peak", Unit::Level, 2);

/// Compares two groups, quantity by quantity; those that fewer than two members of either have are
/// left out.
#[must_use]
pub fn compare_groups(a: &[Profile], b: &[Profile]) -> Vec<GroupDifference> {
    let mut known: Vec<&Kinded> = Vec::new();
    for quantity in a.iter().flat_map(|one| &one.quantities) {
        if !known.iter().any(|(_, other)| other.key == quantity.1.key) {
            known.push(quantity);
        }
    }
    known.sort_by_key(|(kind, _)| *kind);
    let values = |group: &[Profile], key: &Key| -> Vec<f64> {
        let in_one = |one: &Profile| {
            let found = one.quantities.iter().find(|(_, quantity)| quantity.key == *key);
            found.and_then(|(_, quantity)| quantity.value).map(|value| value.value)
        };
        group.iter().filter_map(in_one).collect()
    };
    let pairs: Vec<(&Kinded, Vec<f64>, Vec<f64>)> = known
        .into_iter()
        .map(|known| (known, values(a, &known.1.key), values(b, &known.1.key)))
        .filter(|(_, a, b)| a.len() > 1 && b.len() > 1)
        .collect();
    let of_kind = |wanted| pairs.iter().filter(|((kind, _), _, _)| *kind == wanted).count();
    pairs
        .iter()
        .map(|((kind, quantity), a, b)| {
            let (mean_a, mean_b) = (mean_and_spread(a), mean_and_spread(b));
            let (a_variance, b_variance) =
                (mean_a.u.powi(2) / a.len() as f64, mean_b.u.powi(2) / b.len() as f64);
            let u = (a_variance + b_variance).sqrt();
            let freedom = (a_variance + b_variance).powi(2)
                / (a_variance.powi(2) / (a.len() - 1) as f64
                    + b_variance.powi(2) / (b.len() - 1) as f64);
            let freedom = if freedom.is_finite() { freedom } else { 1.0 };
            let difference = Measured::new(mean_b.value - mean_a.value, u);
            let least = Family::new(of_kind(*kind) as f64).over_u(freedom) * u;
            GroupDifference {
                kind: *kind,
                quantity: Quantity { value: Some(mean_a), ..quantity.clone() },
                a_mean: mean_a.value,
                a_spread: mean_a.u,
                a_count: a.len(),
                b_mean: mean_b.value,
                b_spread: mean_b.u,
                b_count: b.len(),
                difference,
                least,
                is_real: difference.value.abs() > least,
            }
        })
        .collect()
}

fn sure_difference<S: serde::Serializer>(
    difference: &Measured,
    serializer: S,
) -> Result<S::Ok, S::Error> {
    flat::difference(&Some(*difference), serializer)
}

fn mean_and_spread(values: &[f64]) -> Measured {
    let count = values.len() as f64;
    let mean = values.iter().sum::<f64>() / count;
    let squares: f64 = values.iter().map(|x| (x - mean).powi(2)).sum();
    Measured::new(mean, (squares / (count - 1.0)).sqrt())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(values: &[f64]) -> Vec<Profile> {
        let level = |value: f64| {
            let quantity = Quantity::top(&LEVEL, pair(Some(value), None));
            Profile { quantities: vec![(QuantityKind::Level, quantity)] }
        };
        values.iter().map(|value| level(*value)).collect()
    }

    #[test]
    fn a_difference_is_judged_by_the_spread_of_the_repeats() {
        // Spreads 1, three members each: u = √(2/3), 4 degrees, of which 1 % on both sides lie
        // beyond 4.604.
        let judged = |shift: f64| {
            let (a, b) = (of(&[1.0, 2.0, 3.0]), of(&[1.0, 2.0, 3.0].map(|x| x + shift)));
            compare_groups(&a, &b).remove(0)
        };
        let near = judged(2.0);
        assert!((near.difference.u - (2.0f64 / 3.0).sqrt()).abs() < 1e-12);
        assert!((near.least / near.difference.u - 4.604).abs() < 1e-3);
        assert!(!near.is_real && judged(3.8).is_real);
        assert!(compare_groups(&of(&[1.0]), &of(&[2.0, 3.0])).is_empty());
    }
}
