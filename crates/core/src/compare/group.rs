//! Groups of repeats: whether two groups differ by more than their members do.

use super::profile::{Quantity, QuantityKind, note_quantities};
use super::significance::Family;
use super::spectra::Spectra;
use super::{
    CompareSettings, Sound, a_weighting, bands_told, check_width, frames_for, peak_db, range,
};
use crate::error::Error;
use crate::frame::FramePlan;
use crate::measured::Measured;

/// What one sound is.
#[derive(Debug, Clone, PartialEq)]
pub struct Profile {
    /// Its quantities: levels, bands, partials, descriptors.
    pub quantities: Vec<Quantity>,
}

/// A quantity of two groups of sounds. Means with the spread of a member (standard deviation); the difference with the
/// standard uncertainty of the difference of the means.
#[derive(Debug, Clone, PartialEq)]
pub struct GroupDifference {
    /// The quantity; its value is the mean of the first group, its uncertainty the spread of a member.
    pub quantity: Quantity,
    /// Members of the first group that have it.
    pub a_count: usize,
    /// Mean and spread of the second group.
    pub b: Measured,
    /// Its members that have it.
    pub b_count: usize,
    /// The second less the first, with its standard uncertainty.
    pub difference: Measured,
    /// The least difference that would be real.
    pub least: f64,
    /// Whether the difference is real.
    pub is_real: bool,
}

/// Measures one sound by itself.
///
/// # Errors
///
/// As [`compare`](super::compare).
pub fn profile(sound: Sound<'_>, settings: &CompareSettings) -> Result<Profile, Error> {
    let Sound { samples, rate_hz, full_scale_db } = sound;
    let range_hz = range(settings, rate_hz)?;
    let frames = frames_for(settings, rate_hz, samples.len());
    let plan = FramePlan::new(&frames, rate_hz, samples.len() as u64)?;
    check_width(range_hz, plan.resolution_hz(rate_hz))?;
    let mut spectra = Spectra::apart(samples, samples, &plan, rate_hz);
    spectra.full_scale_db = [full_scale_db; 2];
    let mut family = Family::new(1.0);
    let level = |kind, key: String, name: String, db: Option<f64>| {
        let value = Measured::new(db?, f64::NAN);
        Some(Quantity { kind, key, name, unit: "dB", decimals: 2, value })
    };
    let rms = spectra.level(range_hz, &|_| 1.0, &mut family).a_db;
    let weighted = spectra.level(range_hz, &a_weighting, &mut family).a_db;
    let of_level = QuantityKind::Level;
    let mut quantities = Vec::new();
    quantities.extend(level(of_level, "level_db".into(), "level".into(), rms));
    let name = "level, A-weighted".into();
    quantities.extend(level(of_level, "a_weighted_db".into(), name, weighted));
    quantities.extend(level(of_level, "peak_db".into(), "peak".into(), peak_db(sound)));
    for band in bands_told(settings, range_hz, plan.resolution_hz(rate_hz), rate_hz) {
        let found = spectra.difference(band, &mut family).a_db;
        let key = format!("bands[{:.4}].level_db", band.center_hz);
        let hz = band.nominal_hz();
        let name = format!("{hz:.*} Hz", usize::from(hz.fract() != 0.0));
        quantities.extend(level(QuantityKind::Band, key, name, found));
    }
    if let Some(timbre) = &settings.timbre {
        quantities.extend(note_quantities(sound, timbre)?);
    }
    Ok(Profile { quantities })
}

/// Compares two groups, quantity by quantity; those that fewer than two members of either have are left out.
#[must_use]
pub fn compare_groups(a: &[Profile], b: &[Profile]) -> Vec<GroupDifference> {
    let mut known: Vec<&Quantity> = Vec::new();
    for quantity in a.iter().flat_map(|one| &one.quantities) {
        if !known.iter().any(|other| other.key == quantity.key) {
            known.push(quantity);
        }
    }
    known.sort_by_key(|quantity| quantity.kind);
    let values = |group: &[Profile], key: &str| -> Vec<f64> {
        let in_one =
            |one: &Profile| one.quantities.iter().find(|q| q.key == key).map(|q| q.value.value);
        group.iter().filter_map(in_one).collect()
    };
    let pairs: Vec<(&Quantity, Vec<f64>, Vec<f64>)> = known
        .into_iter()
        .map(|quantity| (quantity, values(a, &quantity.key), values(b, &quantity.key)))
        .filter(|(_, a, b)| a.len() > 1 && b.len() > 1)
        .collect();
    let of_kind = |kind| pairs.iter().filter(|(q, _, _)| q.kind == kind).count();
    pairs
        .iter()
        .map(|(quantity, a, b)| {
            let (mean_a, mean_b) = (mean_and_spread(a), mean_and_spread(b));
            let (a_variance, b_variance) =
                (mean_a.u.powi(2) / a.len() as f64, mean_b.u.powi(2) / b.len() as f64);
            let u = (a_variance + b_variance).sqrt();
            let freedom = (a_variance + b_variance).powi(2)
                / (a_variance.powi(2) / (a.len() - 1) as f64
                    + b_variance.powi(2) / (b.len() - 1) as f64);
            let freedom = if freedom.is_finite() { freedom } else { 1.0 };
            let family = Family::new(of_kind(quantity.kind) as f64);
            let difference = Measured::new(mean_b.value - mean_a.value, u);
            let least = family.over_u(freedom) * u;
            GroupDifference {
                quantity: Quantity { value: mean_a, ..(*quantity).clone() },
                a_count: a.len(),
                b: mean_b,
                b_count: b.len(),
                difference,
                least,
                is_real: difference.value.abs() > least,
            }
        })
        .collect()
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
        let quantity = |value: f64| Quantity {
            kind: QuantityKind::Level,
            key: "level_db".into(),
            name: "level".into(),
            unit: "dB",
            decimals: 2,
            value: Measured::new(value, f64::NAN),
        };
        values.iter().map(|value| Profile { quantities: vec![quantity(*value)] }).collect()
    }

    #[test]
    fn a_difference_is_judged_by_the_spread_of_the_repeats() {
        // Spreads 1, three members each: u = √(2/3), 4 degrees, of which 1 % on both sides lie beyond 4.604.
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
