//! Tuning: notes against a temperament, across the compass.
//!
//! # What it computes
//!
//! **Cents.** c = 1200 lb(f0 / f_note), f_note being the tempered frequency of the note that is
//! expected, or else of the nearest. Its uncertainty is that of f0.
//!
//! **Reference pitch.** The frequency of A4 from which the notes deviate least: where enough notes
//! over a wide enough compass are there, that of a smooth curve through their cents at A4; else
//! from the mean of their cents.
//!
//! **Stretch.** The curve is a polynomial over the compass of the order that G. Schwarz's criterion
//! (Ann. Stat. 6, 1978) chooses, by least squares reweighted after J. W. Tukey; a note more than
//! four times the scatter from it, and a cent, is an outlier. The same is done for ln B: a string
//! of the wrong gauge is an outlier by a tenth.
//!
//! **Intervals.** The p-th partial of the lower and the q-th of the upper note of an interval near
//! p/q beat at the difference of their frequencies as measured, stiffness included.
//!
//! **Targets.** For bells and bars: the ratio of each partial to one, and its distance from the
//! ratio wanted.
//!
//! Temperaments after J. M. Barbour, "Tuning and Temperament" (1951); stretch: O. L. Railsback, J.
//! Acoust. Soc. Am. 9 (1938); stiffness: H. Fletcher, J. Acoust. Soc. Am. 36 (1964).

mod compass;
mod interval;
mod sounded;
mod temperament;

use rustfft::num_complex::Complex;
use serde::Serialize;

pub use compass::CurvePoint;
pub use interval::{BeatingPair, Interval};
pub use sounded::{MAP_ROWS, SoundedNotes, map_row_hz, sounded_in, sounded_notes, spectrum_column};
pub use temperament::{TEMPERAMENTS, Temperament};

use crate::finding::Finding;
use crate::measured::{Measured, flat};
use crate::partials::Partials;
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare, pair};
use crate::units::{Note, cents_between, cents_u};
use compass::{Compass, NoteValue};

/// A note that was measured.
#[derive(Debug, Clone, PartialEq)]
pub struct SoundedNote {
    /// Name of its take.
    pub take: String,
    /// When it begins, in seconds from the start of the take.
    pub start_s: f64,
    /// The note it is meant to be; `None` to recognise it.
    pub expected: Option<Note>,
    /// Its fundamental in Hz.
    pub f0_hz: Measured,
    /// Inharmonicity B, if it is a string.
    pub inharmonicity: Option<Measured>,
    /// Its partials by number, in Hz.
    pub partials: Vec<(usize, Measured)>,
}

/// What notes are measured against.
#[derive(Debug, Clone, PartialEq)]
pub struct TuningSettings {
    /// The temperament.
    pub temperament: Temperament,
    /// Frequency of A4 in Hz.
    pub reference_hz: f64,
    /// Whether cents are counted from the reference pitch that fits best, instead of the one given.
    pub fit_reference: bool,
}

/// A note against its temperament. Uncertainties are standard uncertainties (k = 1).
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct TunedNote {
    /// Name of its take.
    pub take: String,
    /// When it begins, in seconds from the start of the take.
    pub start_s: f64,
    /// The note.
    #[serde(serialize_with = "crate::units::note_text")]
    pub note: Note,
    /// Its MIDI number.
    pub midi: i32,
    /// Its fundamental in Hz.
    pub f0_hz: f64,
    /// See above.
    pub f0_hz_u: f64,
    /// How far it is from its tempered place, in cents.
    pub cents: f64,
    /// See above.
    pub cents_u: f64,
    /// How far it is from the curve of the stretch, in cents.
    pub cents_from_curve: Option<f64>,
    /// Whether it is an outlier of the curve.
    pub is_apart: bool,
    /// Inharmonicity B.
    pub inharmonicity: Option<f64>,
    /// See above.
    pub inharmonicity_u: Option<f64>,
    /// Whether its B is an outlier beside that of its neighbours.
    pub inharmonicity_is_apart: bool,
}

/// A curve across the compass.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct CompassCurve {
    /// Order of the polynomial; 0 for a mean.
    pub order: usize,
    /// How far notes scatter about it: in cents, or as a share of B.
    pub scatter: f64,
    /// The curve at each note.
    pub curve: Vec<CurvePoint>,
    /// Takes of the outlying notes.
    pub apart: Vec<String>,
}

impl TunedNote {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 5] = [
        Field::plain("start_s", "start", Unit::Second, 2, |note| Some(note.start_s)),
        Field::measured("f0_hz", "fundamental", Unit::Hertz, 4, |note| {
            Some(Measured::new(note.f0_hz, note.f0_hz_u))
        }),
        Field::measured("cents", "distance from its place", Unit::Cent, 2, |note| {
            Some(Measured::new(note.cents, note.cents_u))
        }),
        Field::plain("cents_from_curve", "distance from the curve", Unit::Cent, 2, |note| {
            note.cents_from_curve
        }),
        Field::measured("inharmonicity", "inharmonicity", Unit::One, 8, |note| {
            pair(note.inharmonicity, note.inharmonicity_u)
        }),
    ];
}

impl TargetReading {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 4] = [
        Field::plain("target_ratio", "ratio wanted", Unit::One, 4, |reading| {
            Some(reading.target_ratio)
        }),
        Field::plain("frequency_hz", "frequency", Unit::Hertz, 3, |reading| reading.frequency_hz),
        Field::plain("ratio", "ratio", Unit::One, 5, |reading| reading.ratio),
        Field::measured("cents", "distance from the ratio wanted", Unit::Cent, 2, |reading| {
            pair(reading.cents, reading.cents_u)
        }),
    ];
}

/// How an instrument is tuned.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Tuning {
    /// Frequency of A4 in Hz that cents refer to.
    pub reference_hz: f64,
    /// The one that fits best.
    #[serde(flatten, serialize_with = "flat::fitted_reference_hz")]
    pub fitted_reference_hz: Option<Measured>,
    /// Name of the temperament.
    pub temperament: String,
    /// The notes, in the order they were given.
    pub notes: Vec<TunedNote>,
    /// Their cents across the compass.
    pub stretch: Option<CompassCurve>,
    /// Their B across the compass.
    pub inharmonicity: Option<CompassCurve>,
    /// What must be known beside it.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

impl Quantities for Tuning {
    fn quantities(&self) -> Vec<Quantity> {
        const REFERENCE: Label = Label::new("reference_hz", "reference pitch", Unit::Hertz, 2);
        const FITTED: Label =
            Label::new("fitted_reference_hz", "fitted reference pitch", Unit::Hertz, 3).with_u();
        const CURVES: [[Label; 2]; 2] = [
            [
                Label::new("stretch.scatter", "scatter about the stretch", Unit::Cent, 2),
                Label::new("stretch.order", "order of the stretch", Unit::One, 0),
            ],
            [
                Label::new("inharmonicity.scatter", "scatter of B, as a share", Unit::One, 3),
                Label::new("inharmonicity.order", "order of the curve of B", Unit::One, 0),
            ],
        ];
        let mut all = vec![
            Quantity::top(&REFERENCE, bare(self.reference_hz)),
            Quantity::top(&FITTED, self.fitted_reference_hz),
        ];
        for (n, note) in (1..).zip(&self.notes) {
            let (key, name) = (Key::item("notes", n), format!("{} of {}", note.note, note.take));
            all.extend(Quantity::of_item(&key, &name, &TunedNote::FIELDS, note));
        }
        let curves = CURVES.iter().zip([&self.stretch, &self.inharmonicity]);
        for ([scatter, order], curve) in curves {
            let known = |of: fn(&CompassCurve) -> f64| pair(curve.as_ref().map(of), None);
            all.push(Quantity::top(scatter, known(|curve| curve.scatter)));
            all.push(Quantity::top(order, known(|curve| curve.order as f64)));
        }
        all
    }
}

/// Compares notes with a temperament.
#[must_use]
pub fn tuning(notes: &[SoundedNote], settings: &TuningSettings) -> Tuning {
    /// A note is an outlier from this many cents on, and its B from this share on.
    const APART_CENTS: f64 = 1.0;
    const APART_B: f64 = 0.1;
    let named = recognised(notes, settings);
    let cents_from = |reference_hz: f64| -> Vec<NoteValue> {
        let each = notes.iter().zip(&named);
        each.map(|(sounded, note)| NoteValue {
            note: *note,
            value: cents_between(
                settings.temperament.frequency_hz(*note, reference_hz),
                sounded.f0_hz.value,
            ),
            u: cents_u(&sounded.f0_hz),
        })
        .collect()
    };
    let given = cents_from(settings.reference_hz);
    let fitted_reference_hz = Compass::fit(&given).map(|compass| {
        let a4 = Note(69);
        let (cents, u) = if compass.order() > 0 && !compass.contains(a4) {
            let mean = given.iter().map(|v| compass.at(v.note)).sum::<f64>() / given.len() as f64;
            (mean, compass.scatter / (given.len() as f64).sqrt())
        } else {
            (compass.at(a4), compass.u_at(a4))
        };
        // A single note scatters about nothing: its own uncertainty is what there is.
        let own = given.iter().map(|v| v.u).sum::<f64>() / given.len() as f64;
        let u = u.hypot(own / (given.len() as f64).sqrt());
        let hz = settings.reference_hz * (cents / 1200.0).exp2();
        Measured::new(hz, hz * std::f64::consts::LN_2 / 1200.0 * u)
    });
    let reference_hz = match fitted_reference_hz {
        Some(fitted) if settings.fit_reference => fitted.value,
        _ => settings.reference_hz,
    };
    let values = cents_from(reference_hz);
    let compass = Compass::fit(&values).filter(|_| values.len() > 2);
    let of_b = |n: usize| {
        let b = notes[n].inharmonicity.filter(|b| b.value > 0.0 && b.u < 0.3 * b.value)?;
        Some(NoteValue { note: named[n], value: b.value.ln(), u: b.u / b.value })
    };
    let b_values: Vec<NoteValue> = (0..notes.len()).filter_map(of_b).collect();
    let b_compass = Compass::fit(&b_values).filter(|compass| compass.order() > 0);
    let tuned: Vec<TunedNote> = (notes.iter().enumerate())
        .map(|(n, sounded)| TunedNote {
            take: sounded.take.clone(),
            start_s: sounded.start_s,
            note: named[n],
            midi: named[n].0,
            f0_hz: sounded.f0_hz.value,
            f0_hz_u: sounded.f0_hz.u,
            cents: values[n].value,
            cents_u: values[n].u,
            cents_from_curve: compass.as_ref().map(|c| values[n].value - c.at(named[n])),
            is_apart: compass.as_ref().is_some_and(|c| c.is_apart(&values[n], APART_CENTS)),
            inharmonicity: sounded.inharmonicity.map(|b| b.value),
            inharmonicity_u: sounded.inharmonicity.map(|b| b.u),
            inharmonicity_is_apart: of_b(n)
                .zip(b_compass.as_ref())
                .is_some_and(|(value, compass)| compass.is_apart(&value, APART_B)),
        })
        .collect();
    let findings = findings(&tuned);
    let taken = |is: fn(&TunedNote) -> bool| {
        tuned.iter().filter(|note| is(note)).map(|note| note.take.clone()).collect()
    };
    let curve = |compass: &Compass, apart: Vec<String>, of: fn(f64) -> f64| CompassCurve {
        order: compass.order(),
        scatter: compass.scatter,
        curve: compass.curve(of),
        apart,
    };
    Tuning {
        temperament: settings.temperament.name.clone(),
        reference_hz,
        fitted_reference_hz,
        stretch: compass.map(|compass| curve(&compass, taken(|note| note.is_apart), |cents| cents)),
        inharmonicity: b_compass
            .map(|compass| curve(&compass, taken(|note| note.inharmonicity_is_apart), f64::exp)),
        notes: tuned,
        findings,
    }
}

/// The notes expected; those of which none is, from what they sound, the whole shifted to where it
/// fits best if the reference pitch is looked for.
fn recognised(notes: &[SoundedNote], settings: &TuningSettings) -> Vec<Note> {
    let reference_hz = if settings.fit_reference {
        // Cents within a semitone lie on a circle: their mean direction.
        let turns = |note: &SoundedNote| {
            let cents = cents_between(settings.reference_hz, note.f0_hz.value);
            Complex::cis(std::f64::consts::TAU * cents / 100.0)
        };
        let sum: Complex<f64> = notes.iter().map(turns).sum();
        let shift = 100.0 * sum.arg() / std::f64::consts::TAU;
        settings.reference_hz * (shift / 1200.0).exp2()
    } else {
        settings.reference_hz
    };
    let nearest = |hz: f64| settings.temperament.nearest(hz, reference_hz).unwrap_or(Note(69));
    notes.iter().map(|note| note.expected.unwrap_or_else(|| nearest(note.f0_hz.value))).collect()
}

/// A number with a true sign.
fn signed(value: f64, decimals: usize) -> String {
    format!("{value:+.decimals$}").replace('-', "−")
}

fn findings(notes: &[TunedNote]) -> Vec<Finding> {
    /// Half-way to the next note.
    const FAR_CENTS: f64 = 50.0;
    let mut findings = Vec::new();
    let list = |chosen: Vec<&TunedNote>, of: &dyn Fn(&TunedNote) -> String| {
        let each: Vec<String> = chosen
            .iter()
            .take(6)
            .map(|note| format!("{} ({}) {}", note.note, note.take, of(note)))
            .collect();
        let more = chosen.len().saturating_sub(6);
        let more = if more > 0 { format!(", and {more} more") } else { String::new() };
        each.join(", ") + &more
    };
    let chosen = |is: &dyn Fn(&TunedNote) -> bool| -> Vec<&TunedNote> {
        notes.iter().filter(|note| is(note)).collect()
    };
    let apart = chosen(&|note| note.is_apart);
    if !apart.is_empty() {
        let by = |note: &TunedNote| {
            format!("by {} cents", signed(note.cents_from_curve.unwrap_or(0.0), 1))
        };
        findings.push(Finding::warning(
            "stands_apart",
            format!(
                "Outliers from the tuning curve: {}. Check these first: retune them, or confirm \
                 which note each one is.",
                list(apart, &by)
            ),
        ));
    }
    let gauge = chosen(&|note| note.inharmonicity_is_apart);
    if !gauge.is_empty() {
        let b = |note: &TunedNote| format!("with B = {:.2e}", note.inharmonicity.unwrap_or(0.0));
        findings.push(Finding::warning(
            "other_string",
            format!(
                "Inharmonicity differs from that of the neighbours: {}. The string is of another \
                 gauge, material or length.",
                list(gauge, &b)
            ),
        ));
    }
    let far = chosen(&|note| note.cents.abs() > FAR_CENTS);
    if !far.is_empty() {
        let by = |note: &TunedNote| format!("by {} cents", signed(note.cents, 0));
        findings.push(Finding::warning(
            "far_from_note",
            format!(
                "More than a quarter tone off: {}. Another note sounds than is expected, or \
                 another octave.",
                list(far, &by)
            ),
        ));
    }
    findings
}

/// A partial against a ratio that is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct TargetReading {
    /// The ratio wanted.
    pub target_ratio: f64,
    /// Number of the partial nearest to it, and its frequency in Hz; `None` where none lies within
    /// three semitones.
    pub partial: Option<usize>,
    /// See above.
    pub frequency_hz: Option<f64>,
    /// Its ratio, and how far that is from the one wanted, in cents.
    pub ratio: Option<f64>,
    /// See above.
    pub cents: Option<f64>,
    /// Its standard uncertainty.
    pub cents_u: Option<f64>,
}

/// The partials nearest to ratios wanted, to the partial of a number. `None` where there is no such
/// partial.
#[must_use]
pub fn against_targets(
    found: &Partials,
    to: usize,
    targets: &[f64],
) -> Option<(Measured, Vec<TargetReading>)> {
    /// Pitch standards from 392 Hz to 466 Hz lie within three semitones.
    const FARTHEST_CENTS: f64 = 300.0;
    let measured = |n: usize| {
        let partial = &found.partials[n];
        Measured::new(partial.frequency_hz, partial.frequency_hz_u)
    };
    let base = found.partials.iter().position(|partial| partial.number == to)?;
    let base_hz = measured(base);
    let reading = |target: &f64| {
        let away = |n: &usize| cents_between(*target, measured(*n).value / base_hz.value);
        let nearest = (0..found.partials.len())
            .filter(|n| away(n).abs() < FARTHEST_CENTS)
            .min_by(|a, b| away(a).abs().total_cmp(&away(b).abs()));
        TargetReading {
            target_ratio: *target,
            partial: nearest.map(|n| found.partials[n].number),
            frequency_hz: nearest.map(|n| measured(n).value),
            ratio: nearest.map(|n| measured(n).value / base_hz.value),
            cents: nearest.map(|n| away(&n)),
            cents_u: nearest.map(|n| {
                let is_base = n == base;
                if is_base { 0.0 } else { cents_u(&measured(n)).hypot(cents_u(&base_hz)) }
            }),
        }
    };
    Some((base_hz, targets.iter().map(reading).collect()))
}

/// The interval between two notes.
#[must_use]
pub fn interval(one: &SoundedNote, other: &SoundedNote) -> Interval {
    interval::interval(one, other)
}
