//! What is found of sound insulation, and its numbers.

use serde::Serialize;

use super::rating::Rating;
use crate::bands::{Band, Correction};
use crate::finding::Finding;
use crate::measured::{Measured, flat};
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare, pair};

/// Insulation in a band.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct BandIsolation {
    /// Its name: the rounded middle, in Hz.
    pub center_hz: f64,
    /// The band.
    #[serde(skip)]
    pub band: Band,
    /// Energy mean in the source room.
    pub source_db: Option<f64>,
    /// Energy mean in the receiving room.
    pub receiver_db: f64,
    /// Energy mean of the background.
    pub background_db: Option<f64>,
    /// Level in the receiving room without the background.
    #[serde(flatten, serialize_with = "flat::corrected_db")]
    pub corrected_db: Option<Measured>,
    /// What was done about the background.
    pub correction: Option<Correction>,
    /// Level difference.
    #[serde(flatten, serialize_with = "flat::difference_db")]
    pub difference_db: Option<Measured>,
    /// Standardized level difference, or impact level, if the decay is known.
    #[serde(flatten, serialize_with = "flat::standardized_db")]
    pub standardized_db: Option<Measured>,
    /// Apparent sound reduction index, or normalized impact level, if the room is known.
    #[serde(flatten, serialize_with = "flat::normalized_db")]
    pub normalized_db: Option<Measured>,
    /// Reverberation time.
    pub decay_s: Option<f64>,
}

/// Levels over all bands.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct OverallIsolation {
    /// Sum of the bands in the source room.
    pub source_db: Option<f64>,
    /// In the receiving room, without the background.
    pub receiver_db: Option<f64>,
    /// Their difference.
    pub difference_db: Option<f64>,
}

/// What the wall between two rooms keeps back.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Isolation {
    /// Share of an octave that a band is.
    pub fraction: u32,
    /// The bands, from the lowest.
    pub bands: Vec<BandIsolation>,
    /// Over all bands.
    pub overall: OverallIsolation,
    /// The single number that says most: with the room, with the decay, or without.
    pub rating: Option<Rating>,
    /// All single numbers.
    pub ratings: Vec<Rating>,
    /// Whether these are impact levels.
    #[serde(skip)]
    pub is_impact: bool,
    /// What must be known.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

impl BandIsolation {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 9] = [
        Field::plain("center_hz", "middle", Unit::Hertz, 1, |band| Some(band.center_hz)),
        Field::plain("source_db", "source room", Unit::Level, 1, |band| band.source_db),
        Field::plain("receiver_db", "receiving room", Unit::Level, 1, |band| {
            Some(band.receiver_db)
        }),
        Field::plain("background_db", "background", Unit::Level, 1, |band| band.background_db),
        Field::measured("corrected_db", "without the background", Unit::Level, 2, |band| {
            band.corrected_db
        }),
        Field::measured("difference_db", "level difference", Unit::Decibel, 2, |band| {
            band.difference_db
        }),
        Field::measured("standardized_db", "standardized", Unit::Decibel, 2, |band| {
            band.standardized_db
        }),
        Field::measured("normalized_db", "with the room", Unit::Decibel, 2, |band| {
            band.normalized_db
        }),
        Field::plain("decay_s", "reverberation time", Unit::Second, 2, |band| band.decay_s),
    ];
}

impl Rating {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 13] = [
        Field::measured("value_db", "value", Unit::Decibel, 0, |rating| {
            pair(Some(f64::from(rating.value_db)), rating.value_db_u)
        }),
        Field::plain("c_db", "C", Unit::Decibel, 0, |rating| rating.c_db.map(f64::from)),
        Field::plain("ctr_db", "Ctr", Unit::Decibel, 0, |rating| rating.ctr_db.map(f64::from)),
        Field::plain("ci_db", "CI", Unit::Decibel, 0, |rating| rating.ci_db.map(f64::from)),
        Field::plain("unfavourable_db", "unfavourable deviations", Unit::Decibel, 1, |rating| {
            Some(rating.unfavourable_db)
        }),
        Field::plain("shift_db", "shift of the reference curve", Unit::Decibel, 0, |rating| {
            Some(f64::from(rating.shift_db))
        }),
        Field::plain("c_50_3150_db", "C, 50 Hz to 3150 Hz", Unit::Decibel, 0, |rating| {
            rating.wider.c_50_3150_db.map(f64::from)
        }),
        Field::plain("ctr_50_3150_db", "Ctr, 50 Hz to 3150 Hz", Unit::Decibel, 0, |rating| {
            rating.wider.ctr_50_3150_db.map(f64::from)
        }),
        Field::plain("c_50_5000_db", "C, 50 Hz to 5 kHz", Unit::Decibel, 0, |rating| {
            rating.wider.c_50_5000_db.map(f64::from)
        }),
        Field::plain("ctr_50_5000_db", "Ctr, 50 Hz to 5 kHz", Unit::Decibel, 0, |rating| {
            rating.wider.ctr_50_5000_db.map(f64::from)
        }),
        Field::plain("c_100_5000_db", "C, 100 Hz to 5 kHz", Unit::Decibel, 0, |rating| {
            rating.wider.c_100_5000_db.map(f64::from)
        }),
        Field::plain("ctr_100_5000_db", "Ctr, 100 Hz to 5 kHz", Unit::Decibel, 0, |rating| {
            rating.wider.ctr_100_5000_db.map(f64::from)
        }),
        Field::plain("ci_50_2500_db", "CI, 50 Hz to 2500 Hz", Unit::Decibel, 0, |rating| {
            rating.wider.ci_50_2500_db.map(f64::from)
        }),
    ];
}

const SOURCE: Label = Label::new("overall.source_db", "source room", Unit::Level, 1);
const RECEIVER: Label = Label::new("overall.receiver_db", "receiving room", Unit::Level, 1);
const DIFFERENCE: Label = Label::new("overall.difference_db", "level difference", Unit::Decibel, 1);
const FRACTION: Label = Label::new("fraction", "bands to the octave", Unit::One, 0);

impl Quantities for Isolation {
    fn quantities(&self) -> Vec<Quantity> {
        let mut all = Vec::new();
        if let Some(rating) = &self.rating {
            let key = Key::of("rating");
            all.extend(Quantity::of_item(&key, rating.quantity, &Rating::FIELDS, rating));
        }
        all.push(Quantity::top(&SOURCE, pair(self.overall.source_db, None)));
        all.push(Quantity::top(&RECEIVER, pair(self.overall.receiver_db, None)));
        all.push(Quantity::top(&DIFFERENCE, pair(self.overall.difference_db, None)));
        for band in &self.bands {
            let (key, name) = (band.band.key(self.fraction), band.band.name(self.fraction));
            all.extend(Quantity::of_item(&key, &name, &BandIsolation::FIELDS, band));
        }
        for (n, rating) in (1..).zip(&self.ratings) {
            let key = Key::item("ratings", n);
            all.extend(Quantity::of_item(&key, rating.quantity, &Rating::FIELDS, rating));
        }
        all.push(Quantity::top(&FRACTION, bare(f64::from(self.fraction))));
        all
    }
}
