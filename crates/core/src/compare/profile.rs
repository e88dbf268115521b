//! What one sound is, in quantities that can be compared.

use serde::Serialize;

use super::Sound;
use crate::error::Error;
use crate::measured::Measured;
use crate::partials::{Partial, PartialTrack, Partials};
use crate::timbre::{DESCRIPTORS, Descriptor, Timbre, TimbreSettings, scatter_of_mean, timbre};
use crate::units::{cents_between, db_from_amplitude};

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

/// The harmonics of a note have at least so much more power than the noise, in dB.
pub const NOTE_OVER_NOISE_DB: f64 = 12.0;

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

/// The quantities of a second sound with its partials numbered as the first has them: each after the nearest of the first, both
/// taken over the fundamental, within a semitone. One that has no such is told by its own number, marked.
pub(super) fn numbered_alike(a: &[Quantity], b: Vec<Quantity>) -> Vec<Quantity> {
    const NEAR_CENTS: f64 = 100.0;
    let frequencies = |all: &[Quantity]| -> Vec<(usize, f64)> {
        let of = |q: &Quantity| {
            let number = q.key.strip_prefix("partials[")?.strip_suffix("].frequency_hz")?;
            Some((number.parse().ok()?, q.value.value))
        };
        all.iter().filter_map(of).collect()
    };
    let f0 = |all: &[Quantity]| {
        all.iter().find(|q| q.key == "f0_hz").map_or(1.0, |quantity| quantity.value.value)
    };
    let scale = f0(a) / f0(&b);
    let (of_a, of_b) = (frequencies(a), frequencies(&b));
    let away = |a_hz: f64, b_hz: f64| cents_between(a_hz, scale * b_hz).abs();
    let nearest = |hz: f64, all: &[(usize, f64)], away: &dyn Fn(f64, f64) -> f64| {
        let found = all.iter().min_by(|x, y| away(hz, x.1).total_cmp(&away(hz, y.1)));
        found.filter(|other| away(hz, other.1) < NEAR_CENTS).map(|other| other.0)
    };
    // Each is the nearest of the other, so that none is taken twice.
    let partner = |(number, hz): &(usize, f64)| {
        let of_first = nearest(*hz, &of_a, &|b_hz, a_hz| away(a_hz, b_hz))?;
        let (_, a_hz) = of_a.iter().find(|(a_number, _)| *a_number == of_first)?;
        (nearest(*a_hz, &of_b, &away) == Some(*number)).then_some(of_first)
    };
    let partners: Vec<(usize, Option<usize>)> =
        of_b.iter().map(|one| (one.0, partner(one))).collect();
    let renumbered = |mut quantity: Quantity| {
        let number = quantity.key.strip_prefix("partials[").and_then(|rest| {
            let (number, _) = rest.split_once(']')?;
            number.parse::<usize>().ok()
        });
        let of_number = |number| partners.iter().find(|(own, _)| *own == number);
        if let Some((own, partner)) = number.and_then(of_number) {
            let wanted = partner.map_or(format!("{own} of the second"), |n| n.to_string());
            quantity.key =
                quantity.key.replace(&format!("partials[{own}]"), &format!("partials[{wanted}]"));
            quantity.name =
                quantity.name.replace(&format!("partial {own},"), &format!("partial {wanted},"));
        }
        quantity
    };
    b.into_iter().map(renumbered).collect()
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

#[cfg(test)]
mod tests {
    use super::*;

    fn of(f0_hz: f64, partials: &[(usize, f64)]) -> Vec<Quantity> {
        let quantity = |key: String, name: String, value: f64| Quantity {
            kind: QuantityKind::Partial,
            key,
            name,
            unit: "Hz",
            decimals: 4,
            value: Measured::new(value, 0.1),
        };
        let mut all = vec![quantity("f0_hz".into(), "fundamental".into(), f0_hz)];
        for (number, hz) in partials {
            let key = format!("partials[{number}].frequency_hz");
            all.push(quantity(key, format!("partial {number}, frequency"), *hz));
        }
        all
    }

    #[test]
    fn partials_are_numbered_by_where_they_lie() {
        let a = of(520.0, &[(1, 520.0), (3, 1593.0), (6, 2960.0), (10, 8320.0)]);
        let b = of(519.0, &[(1, 519.0), (3, 1558.0), (5, 2955.0), (10, 6180.0)]);
        let keys: Vec<String> = numbered_alike(&a, b).into_iter().map(|q| q.key).collect();
        let wanted = [
            "f0_hz",
            "partials[1].frequency_hz",
            "partials[3].frequency_hz",
            "partials[6].frequency_hz",
        ];
        assert_eq!(keys[..4], wanted);
        assert_eq!(keys[4], "partials[10 of the second].frequency_hz");
        // Another note: harmonic by harmonic.
        let higher = of(624.0, &[(1, 624.0), (3, 1911.0)]);
        assert_eq!(numbered_alike(&a, higher)[2].key, "partials[3].frequency_hz");
    }
}
