//! What one sound is, in quantities that can be compared.

use serde::Serialize;

use super::Sound;
use crate::bands::Stream;
use crate::error::Error;
use crate::loudness::{LoudnessMeter, LoudnessSettings, Method, SoundField};
use crate::measured::Measured;
use crate::partials::{F0, INHARMONICITY, Partial, PartialTrack, Partials};
use crate::quantity::{Key, Quantities, Quantity};
use crate::samples::held;
use crate::timbre::{
    ATTACK, DESCRIPTORS, Descriptor, Timbre, TimbreSettings, scatter_of_mean, timbre,
};
use crate::units::{cents_between, db_from_amplitude};

/// Kind of a quantity: those of a kind stand in one table, and share its limit.
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

/// A quantity with its kind.
pub(super) type Kinded = (QuantityKind, Quantity);

/// Partials and descriptors of a sound. Where it holds no frame, or nothing can be said, there are
/// none.
pub(super) fn note_quantities(
    sound: Sound<'_>,
    settings: &TimbreSettings,
) -> Result<Vec<Kinded>, Error> {
    let (from, to) = sound.note.unwrap_or((0, sound.samples.count()));
    let samples = held(sound.samples, from, to - from)?;
    let found = match timbre(&samples, sound.rate_hz, 0.0, settings) {
        Ok(found) => found,
        Err(Error::TooShort { .. }) => return Ok(Vec::new()),
        Err(other) => return Err(other),
    };
    let is_note = found.is_note();
    let mut quantities = Vec::new();
    if let Some(partials) = found.partials.as_ref().filter(|_| is_note) {
        quantities.extend(partial_quantities(partials, sound.full_scale_db));
    }
    quantities.extend(descriptor_quantities(&found, is_note));
    Ok(quantities)
}

/// Loudness and sharpness of a sound whose levels are re 20 µPa, as of a steady one. Where it is too
/// short there are none.
pub(super) fn loudness_quantities(
    sound: Sound<'_>,
    field: SoundField,
) -> Result<Vec<Kinded>, Error> {
    const BLOCK: usize = 1 << 16;
    let settings = LoudnessSettings {
        method: Method::Stationary,
        field,
        full_scale_db: sound.full_scale_db,
        ..LoudnessSettings::default()
    };
    let count = sound.samples.count();
    let stream = Stream {
        rate_hz: sound.rate_hz,
        lead: 0,
        samples: count as u64,
        start_s: 0.0,
        weights: vec![1.0],
    };
    let mut meter = match LoudnessMeter::new(&settings, &stream) {
        Ok(meter) => meter,
        Err(Error::TooShort { .. }) => return Ok(Vec::new()),
        Err(other) => return Err(other),
    };
    let mut block = vec![0.0; BLOCK];
    for from in (0..count).step_by(BLOCK) {
        let part = &mut block[..BLOCK.min(count - from)];
        sound.samples.read(from, part)?;
        meter.push(&[part]);
    }
    let is_compared = |quantity: &Quantity| {
        ["loudness_sone", "loudness_level_phon", "sharpness_acum"].contains(&quantity.key.field())
    };
    let numbers = meter.finish().quantities().into_iter().filter(is_compared);
    Ok(numbers.map(|quantity| (QuantityKind::Descriptor, quantity)).collect())
}

/// The quantities of a second sound with its partials numbered as the first has them: each after
/// the nearest of the first, both taken over the fundamental, within a semitone. One that has no
/// such keeps its own number, under `other`.
pub(super) fn numbered_alike(a: &[Kinded], b: Vec<Kinded>) -> Vec<Kinded> {
    /// A semitone.
    const NEAR_CENTS: f64 = 100.0;
    let value = |quantity: &Quantity| quantity.value.map(|value| value.value);
    let frequencies = |all: &[Kinded]| -> Vec<(usize, f64)> {
        let of = |(_, quantity): &Kinded| {
            let number = quantity.key.number_in("partials")?;
            let is_frequency = quantity.key.field() == "frequency_hz";
            value(quantity).filter(|_| is_frequency).map(|hz| (number, hz))
        };
        all.iter().filter_map(of).collect()
    };
    let f0 = |all: &[Kinded]| {
        let known = all.iter().find(|(_, quantity)| quantity.key == Key::of(F0.field));
        known.and_then(|(_, quantity)| value(quantity)).unwrap_or(1.0)
    };
    let scale = f0(a) / f0(&b);
    let (of_a, of_b) = (frequencies(a), frequencies(&b));
    let away = |a_hz: f64, b_hz: f64| cents_between(a_hz, scale * b_hz).abs();
    let nearest = |hz: f64, all: &[(usize, f64)], away: &dyn Fn(f64, f64) -> f64| {
        let found = all.iter().min_by(|x, y| away(hz, x.1).total_cmp(&away(hz, y.1)));
        found.filter(|other| away(hz, other.1) < NEAR_CENTS).map(|other| other.0)
    };
    // Each is the nearest of the other, so that none has two partners.
    let partner = |(number, hz): &(usize, f64)| {
        let of_first = nearest(*hz, &of_a, &|b_hz, a_hz| away(a_hz, b_hz))?;
        let (_, a_hz) = of_a.iter().find(|(a_number, _)| *a_number == of_first)?;
        (nearest(*a_hz, &of_b, &away) == Some(*number)).then_some(of_first)
    };
    let partners: Vec<(usize, Option<usize>)> =
        of_b.iter().map(|one| (one.0, partner(one))).collect();
    let renumbered = |(kind, quantity): Kinded| {
        let number = quantity.key.number_in("partials");
        let of_number = |number| partners.iter().find(|(own, _)| *own == number);
        let Some((own, partner)) = number.and_then(of_number) else { return (kind, quantity) };
        let what = quantity.name.split_once(", ").map_or(String::new(), |(_, what)| what.into());
        let (key, name) = match partner {
            Some(partner) => {
                (quantity.key.with_number(*partner), format!("partial {partner}, {what}"))
            }
            None => (quantity.key.under("other"), format!("partial {own} of the other, {what}")),
        };
        (kind, Quantity { key, name: name.into(), ..quantity })
    };
    b.into_iter().map(renumbered).collect()
}

fn partial_quantities(found: &Partials, full_scale_db: f64) -> Vec<Kinded> {
    const COMPARED: [&str; 3] = ["frequency_hz", "level_db", "decay_t60_s"];
    let mut quantities = Vec::new();
    for (label, value) in [(F0, found.f0_hz), (INHARMONICITY, found.inharmonicity)] {
        quantities.extend(value.map(|value| Quantity::top(&label, Some(value))));
    }
    for partial in &found.partials {
        let key = Key::item("partials", partial.number);
        let name = format!("partial {}", partial.number);
        let all = Quantity::of_item(&key, &name, &Partial::FIELDS, partial);
        let compared = all.filter(|q| q.value.is_some() && COMPARED.contains(&q.key.field()));
        quantities.extend(compared.map(|quantity| {
            if quantity.key.field() != "level_db" {
                return quantity;
            }
            let tracks = found.tracks.iter().filter(|track| track.number == partial.number);
            let u = level_scatter(tracks, found.level_at_s, found.frame_s);
            let level = Measured::new(partial.level_db + full_scale_db, u);
            Quantity { value: Some(level), ..quantity }
        }));
    }
    quantities.into_iter().map(|quantity| (QuantityKind::Partial, quantity)).collect()
}

/// How far the level of a partial scatters from point to point in its loud beginning, in dB, an
/// even rise or fall being none.
fn level_scatter<'a>(
    tracks: impl Iterator<Item = &'a PartialTrack>,
    level_at_s: f64,
    frame_s: f64,
) -> f64 {
    /// Enough for a scatter known to a quarter (1/√(2·11)), short beside a decay.
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
fn descriptor_quantities(found: &Timbre, is_note: bool) -> Vec<Kinded> {
    let of_noise_too = |descriptor: Descriptor| {
        !matches!(
            descriptor,
            Descriptor::CentroidOverF0
                | Descriptor::HarmonicCentroid
                | Descriptor::HarmonicSpread
                | Descriptor::OddEven
                | Descriptor::Tristimulus1
                | Descriptor::Tristimulus2
                | Descriptor::Tristimulus3
                | Descriptor::Irregularity
                | Descriptor::HarmonicToNoise
        )
    };
    let whole = &found.regions.whole;
    let of_spectrum = DESCRIPTORS
        .iter()
        .filter(|(descriptor, _)| is_note || of_noise_too(*descriptor))
        .filter_map(|(descriptor, label)| {
            let value = whole.measured(*descriptor)?;
            Some(Quantity::new(descriptor.key(None), label, Some(value)))
        });
    let rise = found.rise.filter(|_| is_note);
    let attack = rise.map(|rise| Quantity::top(&ATTACK, Some(rise.duration_s)));
    of_spectrum.chain(attack).map(|quantity| (QuantityKind::Descriptor, quantity)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::{Label, Unit};

    fn of(f0_hz: f64, partials: &[(usize, f64)]) -> Vec<Kinded> {
        const FREQUENCY: Label = Label::new("frequency_hz", "partial, frequency", Unit::Hertz, 4);
        let known = |hz: f64| Some(Measured::new(hz, 0.1));
        let mut all = vec![Quantity::top(&F0, known(f0_hz))];
        for (number, hz) in partials {
            let key = Key::item("partials", *number).then(FREQUENCY.field);
            all.push(Quantity::new(key, &FREQUENCY, known(*hz)));
        }
        all.into_iter().map(|quantity| (QuantityKind::Partial, quantity)).collect()
    }

    #[test]
    fn partials_are_numbered_by_where_they_lie() {
        let a = of(520.0, &[(1, 520.0), (3, 1593.0), (6, 2960.0), (10, 8320.0)]);
        let b = of(519.0, &[(1, 519.0), (3, 1558.0), (5, 2955.0), (10, 6180.0)]);
        let alike = numbered_alike(&a, b);
        let keys: Vec<String> = alike.iter().map(|(_, q)| q.key.to_string()).collect();
        let wanted = [
            "f0_hz",
            "partials[1].frequency_hz",
            "partials[3].frequency_hz",
            "partials[6].frequency_hz",
            "other.partials[10].frequency_hz",
        ];
        assert_eq!(keys, wanted);
        assert_eq!(alike[3].1.name, "partial 6, frequency");
        // Another note: harmonic by harmonic.
        let higher = of(624.0, &[(1, 624.0), (3, 1911.0)]);
        assert_eq!(numbered_alike(&a, higher)[2].1.key.to_string(), "partials[3].frequency_hz");
    }
}
