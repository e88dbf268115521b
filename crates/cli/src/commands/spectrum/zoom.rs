//! A zoom around a tone: its curve, and how far the tones there lie from what was expected.

use serde::Serialize;
use tonemap_core::spectrum::{Spectrum, Zoom};
use tonemap_core::units::{Note, cents_between, db_from_power};

use crate::table::{Row, Table};
use crate::text;

/// Half the width of a zoom, unless asked for, in cents.
pub(super) const USUAL_CENTS: f64 = 50.0;

/// Points of its curve.
pub(super) const NARROW_POINTS: usize = 1201;

/// A zoom around a tone, as asked for.
#[derive(Debug, Clone)]
pub(super) struct Look {
    pub(super) expected_hz: f64,
    pub(super) note: Option<Note>,
    pub(super) cents: f64,
    pub(super) zoom: Zoom,
}

/// The zoom in JSON.
#[derive(Serialize)]
pub(super) struct AroundResult {
    pub(super) expected_hz: f64,
    pub(super) reach_cents: f64,
    /// The tones there, the strongest first.
    pub(super) tones: Vec<AroundTone>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) curve: Option<AroundCurve>,
}

/// A tone by its distance from what was expected.
#[derive(Serialize)]
pub(super) struct AroundTone {
    pub(super) frequency_hz: f64,
    pub(super) frequency_hz_u: f64,
    pub(super) level_db: f64,
    pub(super) cents_from_expected: f64,
    pub(super) cents_from_expected_u: f64,
}

#[derive(Serialize)]
pub(super) struct AroundCurve {
    pub(super) frequency_hz: Vec<f64>,
    pub(super) cents_from_expected: Vec<f64>,
    pub(super) level_db: Vec<Option<f64>>,
}

impl Look {
    /// The tones within reach, the strongest first.
    pub(super) fn tones(&self, spectrum: &Spectrum) -> Vec<AroundTone> {
        let mut tones: Vec<AroundTone> = spectrum
            .peaks
            .iter()
            .map(|peak| AroundTone {
                frequency_hz: peak.frequency_hz,
                frequency_hz_u: peak.frequency_hz_u,
                level_db: peak.level_db,
                cents_from_expected: cents_between(self.expected_hz, peak.frequency_hz),
                cents_from_expected_u: peak.cents_u,
            })
            .collect();
        tones.sort_by(|a, b| b.level_db.total_cmp(&a.level_db));
        tones
    }

    pub(super) fn curve(&self, spectrum: &Spectrum) -> AroundCurve {
        let offset_db = spectrum.reference.full_scale_db();
        let Zoom { frequency_hz, power } = &self.zoom;
        let level = |power: &f64| Some(db_from_power(*power) + offset_db).filter(|l| l.is_finite());
        AroundCurve {
            cents_from_expected: frequency_hz
                .iter()
                .map(|hz| cents_between(self.expected_hz, *hz))
                .collect(),
            frequency_hz: frequency_hz.clone(),
            level_db: power.iter().map(level).collect(),
        }
    }
}

pub(super) fn around_csv<'t>() -> Table<'t, Row<'t, (&'t AroundCurve, usize)>> {
    Table::of_parts()
        .number("frequency_hz", "", 0, |row: &Row<'t, (&AroundCurve, usize)>| {
            Some(row.item.0.frequency_hz[row.item.1])
        })
        .number("cents_from_expected", "", 0, |row| {
            Some(row.item.0.cents_from_expected[row.item.1])
        })
        .number("level_db", "", 0, |row| row.item.0.level_db[row.item.1])
        .level_reference()
}

/// How far the strongest tone lies from what was expected.
pub(super) fn look_line(look: &Look, spectrum: &Spectrum) -> String {
    let expected = format!("{} Hz", text::number(look.expected_hz, 3));
    let expected = look.note.map_or(expected.clone(), |note| format!("{note}, {expected}"));
    let reach = text::number(look.cents, 0);
    match look.tones(spectrum).first() {
        None => format!(
            "  expected {expected}: no tone rises above the noise within {reach} cents of it\n"
        ),
        Some(tone) => {
            let [cents, u] =
                text::measured(tone.cents_from_expected, tone.cents_from_expected_u, 4);
            text::sentence(&format!(
                "expected {expected}; the strongest tone within {reach} cents lies {} ± {u} cents \
                 from \
                 it",
                text::signed(cents)
            ))
        }
    }
}
