//! Sound insulation between rooms, in bands and as a single number.
//!
//! From levels in bands at several positions (ISO 16283-1:2014 airborne, ISO 16283-2:2020 impact):
//!
//! - energy means L = 10 lg(1/n·Σ 10^{L_i/10}) over the positions of each room, L1 and L2;
//! - L2 without the background: as it is from 10 dB over it, the power subtracted from 6 dB to
//!   10 dB, and 1.3 dB taken off below 6 dB, where it is an upper limit;
//! - level difference D = L1 − L2; standardized D_nT = D + 10 lg(T/0.5 s) with the reverberation
//!   time T of the receiving room; apparent sound reduction R' = D + 10 lg(S·T/(0.16 s/m·V)) with
//!   the area S of the wall and the volume V of the receiving room;
//! - impact levels of a tapping machine L'_nT = L2 − 10 lg(T/0.5 s),
//!   L'_n = L2 + 10 lg(0.16 s/m·V/(T·10 m²));
//! - single numbers by ISO 717 ([`airborne`], [`impact`]).
//!
//! The uncertainty of a mean level comes from the scatter of its positions, pooled over five bands
//! and widened where that is few values, and is at least that of the levels themselves (after ISO
//! 12999-1). It leaves out the calibration, and what other positions or other rooms would give.
//! Where a background of 10 dB below is left in, what it adds counts as uncertainty; where the
//! level is an upper limit, none is stated.

mod rating;
mod result;

pub use rating::{Rating, WiderTerms, airborne, impact};
pub use result::{BandIsolation, Isolation, OverallIsolation};

use serde::Serialize;

use crate::bands::{Band, BandLevel, Correction, Levels, Rule};
use crate::error::Error;
use crate::finding::Finding;
use crate::measured::Measured;
use crate::significance::widened;
use crate::units::{DB_PER_POWER, db_from_power, power_from_db};

/// What of the background is subtracted (ISO 16283-1:2014, 9.2).
const OF_ROOMS: Rule = Rule { far: 10.0, near: 6.0, off: 1.3 };
/// Reverberation time and absorption area that results are referred to.
const REFERENCE_S: f64 = 0.5;
const REFERENCE_M2: f64 = 10.0;
/// W. C. Sabine's constant in s/m.
const SABINE: f64 = 0.16;

/// Reverberation time in seconds.
#[derive(Debug, Clone, PartialEq, Default, Serialize)]
#[serde(untagged)]
pub enum Decay {
    /// Not known.
    #[default]
    Unknown,
    /// The same in all bands.
    One(f64),
    /// Of each band by its middle in Hz.
    OfBands(Vec<(f64, f64)>),
}

/// The receiving room.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Room {
    /// Its reverberation time.
    pub decay: Decay,
    /// Volume in m³.
    pub volume_m3: Option<f64>,
    /// Area of the wall in m².
    pub area_m2: Option<f64>,
}

impl Decay {
    /// That of a band; `None` where it is not known.
    fn at(&self, hz: f64) -> Option<f64> {
        match self {
            Self::Unknown => None,
            Self::One(seconds) => Some(*seconds),
            Self::OfBands(all) => {
                all.iter().find(|(at, _)| (at / hz - 1.0).abs() < 0.06).map(|(_, s)| *s)
            }
        }
    }

    fn all(&self) -> Vec<f64> {
        match self {
            Self::Unknown => Vec::new(),
            Self::One(seconds) => vec![*seconds],
            Self::OfBands(all) => all.iter().map(|(_, seconds)| *seconds).collect(),
        }
    }
}

/// Levels at the positions in both rooms.
#[derive(Debug, Clone, Copy)]
pub struct Positions<'a> {
    /// In the source room; of a tapping machine none.
    pub source: &'a [Levels],
    /// In the receiving room.
    pub receiver: &'a [Levels],
    /// In the receiving room without the source.
    pub background: &'a [Levels],
}

/// Measures the insulation between two rooms, or the impact level below a tapping machine where
/// there are no positions in a source room.
///
/// # Errors
///
/// [`Error::Setting`] for a decay, volume or area that is not positive; [`Error::NoCommonBand`] where
/// no band has a level in both rooms.
pub fn isolation(positions: &Positions<'_>, room: &Room) -> Result<Isolation, Error> {
    check(room)?;
    let is_impact = positions.source.is_empty();
    let fraction = positions.receiver.first().map_or(3, |levels| levels.fraction);
    let receiver = Means::of(positions.receiver);
    let source = (!is_impact).then(|| Means::of(positions.source));
    let background = (!positions.background.is_empty()).then(|| Means::of(positions.background));
    let mut findings = Vec::new();
    let mut bands = Vec::new();
    let mut omitted = Vec::new();
    for (band, mean) in receiver.bands.iter().zip(&receiver.means) {
        let of_source = source.as_ref().map(|source| source.at(band));
        let (Some(receiver), false) = (*mean, of_source == Some(None)) else {
            omitted.push(*band);
            continue;
        };
        let of_background = background.as_ref().and_then(|background| background.at(band));
        bands.push(of_band(*band, fraction, of_source.flatten(), receiver, of_background, room));
    }
    if bands.is_empty() {
        return Err(Error::NoCommonBand);
    }
    findings.extend(crate::bands::omitted(&omitted, fraction, |names| {
        format!("{names}: omitted, since one of the rooms has no level there.")
    }));
    findings.extend(judged(&bands, positions, fraction));
    let sum = |of: fn(&BandIsolation) -> Option<f64>| {
        let all: Option<Vec<f64>> = bands.iter().map(of).collect();
        Some(db_from_power(all?.into_iter().map(power_from_db).sum()))
    };
    let source_db = sum(|band| band.source_db);
    let receiver_db = sum(|band| band.corrected_db.map(|level| level.value));
    let overall = OverallIsolation {
        source_db,
        receiver_db,
        difference_db: source_db.zip(receiver_db).map(|(a, b)| a - b),
    };
    let ratings = ratings(&bands, fraction, is_impact);
    Ok(Isolation {
        fraction,
        overall,
        rating: ratings.first().cloned(),
        ratings,
        bands,
        is_impact,
        findings,
    })
}

fn check(room: &Room) -> Result<(), Error> {
    let times = room.decay.all().into_iter().map(|s| ("the reverberation time", s, "s"));
    let mut values: Vec<(&'static str, f64, &str)> = times.collect();
    values.extend(room.volume_m3.map(|m3| ("the volume", m3, "m³")));
    values.extend(room.area_m2.map(|m2| ("the area", m2, "m²")));
    for (setting, value, unit) in values {
        if !(value > 0.0 && value < 1e7) {
            let given = format!("{value} {unit}");
            return Err(Error::Setting { setting, given, allowed: "positive".into() });
        }
    }
    Ok(())
}

/// Energy means over positions.
struct Means {
    bands: Vec<Band>,
    means: Vec<Option<Measured>>,
}

impl Means {
    /// A band that is silent or missing at one position is not known.
    fn of(positions: &[Levels]) -> Self {
        let first: &[BandLevel] = positions.first().map_or(&[], |levels| &levels.bands);
        let bands: Vec<Band> = first.iter().map(|band| band.band).collect();
        let known: Vec<Option<Vec<Measured>>> = bands
            .iter()
            .map(|band| {
                let level = |levels: &Levels| {
                    let same = |other: &&BandLevel| other.band.center_hz == band.center_hz;
                    levels.bands.iter().find(same)?.level_db
                };
                positions.iter().map(level).collect()
            })
            .collect();
        let means = (0..bands.len()).map(|n| mean_of(&known, n)).collect();
        Self { bands, means }
    }

    fn at(&self, band: &Band) -> Option<Measured> {
        let place = self.bands.iter().position(|own| own.center_hz == band.center_hz)?;
        self.means[place]
    }
}

/// The energy mean in the nth band, with its uncertainty.
fn mean_of(known: &[Option<Vec<Measured>>], n: usize) -> Option<Measured> {
    /// Positions scatter alike in bands so near.
    const NEAR: usize = 2;
    let levels = known[n].as_ref()?;
    let count = levels.len() as f64;
    let powers: Vec<f64> = levels.iter().map(|level| power_from_db(level.value)).collect();
    let mean = powers.iter().sum::<f64>() / count;
    let of_averaging = levels
        .iter()
        .zip(&powers)
        .map(|(level, power)| (power * level.u / DB_PER_POWER).powi(2))
        .filter(|square| square.is_finite())
        .sum::<f64>()
        .sqrt()
        / (count * mean);
    let near = &known[n.saturating_sub(NEAR)..known.len().min(n + NEAR + 1)];
    let (mut squares, mut freedom) = (0.0, 0.0);
    for levels in near.iter().flatten() {
        let powers: Vec<f64> = levels.iter().map(|level| power_from_db(level.value)).collect();
        let mean = powers.iter().sum::<f64>() / count;
        squares += powers.iter().map(|power| (power / mean - 1.0).powi(2)).sum::<f64>();
        freedom += count - 1.0;
    }
    let scatter =
        if freedom > 0.0 { widened(freedom) * (squares / freedom / count).sqrt() } else { 0.0 };
    Some(Measured::new(db_from_power(mean), DB_PER_POWER * of_averaging.max(scatter)))
}

fn of_band(
    band: Band,
    fraction: u32,
    source: Option<Measured>,
    receiver: Measured,
    background: Option<Measured>,
    room: &Room,
) -> BandIsolation {
    let (corrected, correction) = match background {
        Some(background) => {
            let (corrected, done) = OF_ROOMS.apply(receiver, background);
            let left_in = -db_from_power(1.0 - power_from_db(background.value - receiver.value));
            let u = match done {
                // What is known and left in counts in full (JCGM 100:2008, F.2.4.5).
                Correction::None => corrected.u.hypot(left_in),
                Correction::Subtracted => corrected.u,
                Correction::Limited => f64::NAN,
            };
            (Measured::new(corrected.value, u), Some(done))
        }
        None => (receiver, None),
    };
    let difference = source
        .map(|source| Measured::new(source.value - corrected.value, source.u.hypot(corrected.u)));
    let decay_s = room.decay.at(band.center_hz);
    let shifted = |by: f64| match difference {
        Some(difference) => Measured::new(difference.value + by, difference.u),
        None => Measured::new(corrected.value - by, corrected.u),
    };
    let standardized = decay_s.map(|decay_s| shifted(db_from_power(decay_s / REFERENCE_S)));
    let normalized = decay_s.zip(room.volume_m3).and_then(|(decay_s, volume_m3)| {
        let absorbing_m2 = SABINE * volume_m3 / decay_s;
        let area_m2 = if source.is_some() { room.area_m2? } else { REFERENCE_M2 };
        Some(shifted(db_from_power(area_m2 / absorbing_m2)))
    });
    BandIsolation {
        center_hz: band.nominal_hz(fraction),
        band,
        source_db: source.map(|level| level.value),
        receiver_db: receiver.value,
        background_db: background.map(|level| level.value),
        corrected_db: Some(corrected),
        correction,
        difference_db: difference,
        standardized_db: standardized,
        normalized_db: normalized,
        decay_s,
    }
}

/// All single numbers, that which says most first.
fn ratings(bands: &[BandIsolation], fraction: u32, is_impact: bool) -> Vec<Rating> {
    type Of = fn(&BandIsolation) -> Option<Measured>;
    let kinds: [(&'static str, &'static str, Of); 3] = [
        ("R'w", "L'n,w", |band| band.normalized_db),
        ("DnT,w", "L'nT,w", |band| band.standardized_db),
        ("Dw", "", |band| band.difference_db),
    ];
    let rate = |(of_air, of_impact, of): (&'static str, &'static str, Of)| {
        let values = |by: f64| -> Vec<(f64, f64)> {
            let value = |band: &BandIsolation| {
                let found = of(band)?;
                let u = if found.u.is_finite() { found.u } else { 0.0 };
                Some((band.band.center_hz, found.value + by * u))
            };
            bands.iter().filter_map(value).collect()
        };
        let rated = |by: f64| {
            let values = values(by);
            if is_impact {
                impact(of_impact, fraction, &values)
            } else {
                airborne(of_air, fraction, &values)
            }
        };
        let rating = rated(0.0)?;
        // Two of the uncertainties either way, so that whole decibels show them.
        let between = rated(2.0).zip(rated(-2.0)).map(|(a, b)| f64::from(a.value_db - b.value_db));
        // Whole decibels are uncertain by themselves.
        let value_db_u = between.map(|db| (db / 4.0).hypot(1.0 / 12f64.sqrt()));
        Some(Rating { value_db_u, ..rating })
    };
    kinds.into_iter().filter_map(rate).collect()
}

/// What must be known of the levels.
fn judged(bands: &[BandIsolation], positions: &Positions<'_>, fraction: u32) -> Vec<Finding> {
    let mut findings = Vec::new();
    let of = |is_so: &dyn Fn(usize) -> bool| -> Vec<Band> {
        (0..bands.len()).filter(|n| is_so(*n)).map(|n| bands[n].band).collect()
    };
    let near = of(&|n| bands[n].correction == Some(Correction::Limited));
    findings.extend(said(&near, fraction, "background_near", |names| {
        format!(
            "{names}: the background is less than 6 dB below the level in the receiving room: 1.3 dB \
             are taken off, and the insulation is at least what is given. A louder source helps."
        )
    }));
    findings.extend(uneven(bands, fraction));
    findings.extend(said(&of(&|n| is_dip(bands, n)), fraction, "insulation_dip", |names| {
        format!(
            "{names}: the insulation drops by 6 dB and more below its neighbours: a resonance, a \
             leak or a flanking path."
        )
    }));
    let negative = of(&|n| bands[n].difference_db.is_some_and(|d| d.value < 0.0));
    findings.extend(said(&negative, fraction, "difference_negative", |names| {
        format!(
            "{names}: it is louder in the receiving room than in the source room. Check that the \
             rooms are not exchanged, and that both are calibrated."
        )
    }));
    findings.extend(few_positions(positions));
    findings
}

/// A source should not be uneven: its level may change by 8 dB from a third to the next (ISO
/// 16283-1:2014, 7.2).
fn uneven(bands: &[BandIsolation], fraction: u32) -> Option<Finding> {
    const MOST_DB: f64 = 8.0;
    const FROM_HZ: f64 = 95.0;
    if fraction != 3 {
        return None;
    }
    let jumps = |pair: &[BandIsolation]| {
        let (a, b) = (pair[0].source_db?, pair[1].source_db?);
        let is_one = pair[0].center_hz > FROM_HZ && (a - b).abs() > MOST_DB;
        is_one.then_some(pair[1].band)
    };
    let found: Vec<Band> = bands.windows(2).filter_map(jumps).collect();
    said(&found, fraction, "source_uneven", |names| {
        format!(
            "{names}: the level of the source changes by more than 8 dB from the band below. The \
             standard allows 8 dB; feed it with a more even noise."
        )
    })
}

fn is_dip(bands: &[BandIsolation], n: usize) -> bool {
    const DEEP_DB: f64 = 6.0;
    let difference = |n: usize| bands.get(n)?.difference_db.map(|d| d.value);
    let neighbours = n.checked_sub(1).and_then(difference).zip(difference(n + 1));
    neighbours.zip(difference(n)).is_some_and(|((low, high), own)| low.min(high) - own >= DEEP_DB)
}

/// ISO 16283-1:2014, 7.3: five positions in each room.
fn few_positions(positions: &Positions<'_>) -> Option<Finding> {
    const ENOUGH: usize = 5;
    let rooms = [("source room", positions.source), ("receiving room", positions.receiver)];
    let few = rooms.iter().filter(|(_, levels)| !levels.is_empty() && levels.len() < ENOUGH);
    let named: Vec<String> = few
        .clone()
        .map(|(room, levels)| match levels.len() {
            1 => format!("one position in the {room}"),
            count => format!("{count} positions in the {room}"),
        })
        .collect();
    let text = format!(
        "There is {}; the standard asks for five. {}",
        named.join(" and "),
        if few.clone().any(|(_, levels)| levels.len() == 1) {
            "Of one position it is not known how the level scatters in the room: the uncertainty is \
             that of the averaging alone."
        } else {
            "The uncertainty is widened for it."
        }
    );
    let is_one = few.clone().any(|(_, levels)| levels.len() == 1);
    match (named.is_empty(), is_one) {
        (true, _) => None,
        (_, true) => Some(Finding::warning("few_positions", text)),
        _ => Some(Finding::note("few_positions", text)),
    }
}

/// A warning about bands, if there are any.
fn said(
    bands: &[Band],
    fraction: u32,
    code: &'static str,
    text: impl FnOnce(String) -> String,
) -> Option<Finding> {
    (!bands.is_empty()).then(|| Finding::warning(code, text(crate::bands::names(bands, fraction))))
}
