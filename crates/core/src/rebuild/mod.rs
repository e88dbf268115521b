//! A sound made again from its partials and its noise, changed as asked.
//!
//! # What it computes
//!
//! **Tones.** The partials of each note ([`crate::partials`]) are made again, sinusoid by sinusoid:
//! between two points of a track the level is straight in dB and the phase a cubic (R. J. McAulay and
//! T. F. Quatieri, IEEE Trans. Acoust. Speech Signal Process. 34 (1986) 744). What they leave of the
//! sound, sample by sample, is the rest, by which the points are corrected first (module `refine`); both together are the sound again, exactly.
//!
//! **Noise.** The rest is kept as it is, or made again as noise that has its spectrum over time (X. Serra
//! and J. O. Smith, Comput. Music J. 14 (1990) 12; module `noise`).
//!
//! **Changes.** Frequencies, levels and times of the points are changed (module `tracks`); the phase runs
//! on from the first point of a track with the frequency that it has then, so that nothing jumps.

mod blend;
mod edit;
mod noise;
mod refine;
mod tracks;

use serde::Serialize;

pub use blend::Blend;
pub use edit::{
    Added, Change, Course, Edit, Shift, TimeMap, Which, read_cents, read_gain, read_share,
};
use tracks::Attack;
pub use tracks::MadeTrack;

use crate::error::Error;
use crate::finding::Finding;
use crate::lanes::product;
use crate::partials::{
    PartialTrack, Partials, PartialsSettings, Sum, TrackPoint, partials_of_notes,
};
use crate::units::{amplitude_from_db, db_from_power};

/// What becomes of what the tones leave.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum RestKind {
    /// Noise that has its spectrum over time.
    #[default]
    Noise,
    /// As it is, sample by sample.
    Exact,
    /// Left out.
    None,
}

/// A sound that was made again.
#[derive(Debug, Clone)]
pub struct Rebuilt {
    /// The tones as they were changed.
    pub tones: Vec<f32>,
    /// The rest as it was changed.
    pub noise: Vec<f32>,
    /// What the tones as they were left of the sound.
    pub left: Vec<f32>,
    /// Power of that re the sound.
    pub residual_db: Option<f64>,
    /// Notes whose partials were followed.
    pub notes: usize,
    /// Partials of each change that it means, over all notes.
    pub meant: Vec<usize>,
    /// Tracks as they were, and as they were made.
    pub before: Vec<PartialTrack>,
    /// See above.
    pub after: Vec<MadeTrack>,
    /// What must be known.
    pub findings: Vec<Finding>,
}

impl Rebuilt {
    /// Tones and rest together.
    #[must_use]
    pub fn sound(&self) -> Vec<f32> {
        self.tones.iter().zip(&self.noise).map(|(a, b)| a + b).collect()
    }
}

/// What a sound is made from beside itself.
#[derive(Debug, Clone, Default)]
pub struct Beside<'s> {
    /// A sound that it is blended with.
    pub blend: Option<Blend<'s>>,
    /// Tracks that are played in place of its own, as they are.
    pub tracks: Option<Vec<MadeTrack>>,
}

/// Longest sound that is made again, in seconds: all of it is held at once.
pub const LONGEST_S: f64 = 600.0;

/// Makes a sound again, whose first sample lies at the start of its take.
///
/// # Errors
///
/// [`Error::Setting`] for changes that make no sense, for an inharmonicity without a fundamental, or for
/// a sound that is too long; [`Error::TooShort`] for one that holds no frame.
pub fn rebuild(
    sound: &[f32],
    rate_hz: f64,
    settings: &PartialsSettings,
    edit: &Edit,
    rest: RestKind,
    beside: Beside<'_>,
) -> Result<Rebuilt, Error> {
    edit.check()?;
    let lengths = std::iter::once(sound.len()).chain(beside.blend.iter().map(|of| of.sound.len()));
    let longest_s = lengths.max().unwrap_or(0) as f64 / rate_hz;
    if longest_s > LONGEST_S {
        return Err(Error::Setting {
            setting: "the span",
            given: format!("{longest_s:.1} s long"),
            allowed: format!("at most {LONGEST_S:.0} s"),
        });
    }
    if rest == RestKind::Exact && edit.time.is_some() {
        return Err(Error::Setting {
            setting: "the rest",
            given: "exact, with other times".into(),
            allowed: "noise, which can be stretched".into(),
        });
    }
    let of_sound = Source::of(sound, rate_hz, settings)?;
    let notes: Vec<&Partials> = of_sound.notes.iter().map(|(note, _)| note).collect();
    let is_string = |note: &&Partials| note.f0_hz.is_some();
    if edit.inharmonicity.is_some() && !notes.is_empty() && !notes.iter().any(is_string) {
        return Err(Error::Setting {
            setting: "the inharmonicity",
            given: "a sound without a fundamental".into(),
            allowed: "one whose partials are counted by it".into(),
        });
    }
    let meant: Vec<usize> = edit.changes.iter().map(|change| meant(change, &notes)).collect();
    let findings = findings(edit, &meant, notes.is_empty());
    let before = notes.iter().flat_map(|note| note.tracks.iter().cloned()).collect();
    let (made, left) = match &beside.blend {
        Some(blend) => {
            let other = Source::of(blend.sound, rate_hz, settings)?;
            let later_s = other.later_s(&of_sound);
            let later = (later_s * rate_hz).round() as i64;
            let left = blend.rest(&of_sound.left, &other.left, later, rate_hz);
            (blended(&of_sound, &other, blend, edit), left)
        }
        None => (of_sound.made(edit), of_sound.left.clone()),
    };
    let is_given = beside.tracks.is_some();
    let made = match beside.tracks {
        Some(tracks) => vec![(0.0, tracks)],
        None => made,
    };
    let lasts_s = left.len() as f64 / rate_hz;
    let ends_s = made.iter().flat_map(|(_, tracks)| tracks).filter_map(|of| of.points.last());
    // Tracks that were lengthened elsewhere are played to their end.
    let played_s = ends_s.map(|(t, _)| *t).fold(0.0, f64::max).min(LONGEST_S);
    let given_s = if is_given { played_s } else { 0.0 };
    let made_s = edit.heard_s(lasts_s.max(edit.added_to_s())).max(given_s);
    let samples = (made_s * rate_hz).round() as usize;
    let mut tones = vec![0.0; samples];
    let mut after = Vec::new();
    for (begins_s, tracks) in made {
        tracks::add(&tracks, begins_s, rate_hz, 1.0, &mut tones);
        after.extend(tracks);
    }
    add_partials(edit, rate_hz, &mut tones);
    let noise = rest_of(&left, rate_hz, samples, edit, rest);
    let Source { notes, left, residual_db } = of_sound;
    Ok(Rebuilt {
        tones,
        noise,
        left,
        residual_db,
        notes: notes.len(),
        meant,
        before,
        after,
        findings,
    })
}

/// What a sound was found to be made of.
struct Source {
    /// Its notes with their attacks.
    notes: Vec<(Partials, Attack)>,
    /// What their tones leave, and its power re the sound.
    left: Vec<f32>,
    residual_db: Option<f64>,
}

/// Tracks that are made, and when they begin.
type MadeNote = (f64, Vec<MadeTrack>);

impl Source {
    fn of(sound: &[f32], rate_hz: f64, settings: &PartialsSettings) -> Result<Self, Error> {
        let mut left = sound.to_vec();
        let mut notes = Vec::new();
        for note in followed(sound, rate_hz, settings)? {
            let note = refine::refined(note, rate_hz, sound);
            let attack = Attack::of(&note, rate_hz, sound);
            let as_it_was = tracks::made(&note, &Edit::default(), &attack);
            tracks::add(&as_it_was, attack.begins_s, rate_hz, -1.0, &mut left);
            notes.push((note, attack));
        }
        let residual_db = Some(db_from_power(product(&left, &left) / product(sound, sound)))
            .filter(|db| db.is_finite() && !notes.is_empty());
        Ok(Self { notes, left, residual_db })
    }

    /// The tracks of its notes as they are changed.
    fn made(&self, edit: &Edit) -> Vec<MadeNote> {
        let of = |(note, attack): &(Partials, Attack)| {
            (edit.heard_s(attack.begins_s), tracks::made(note, edit, attack))
        };
        self.notes.iter().map(of).collect()
    }

    /// How much later it would have to be for its first note to begin with that of another.
    fn later_s(&self, other: &Self) -> f64 {
        let first = |of: &Self| of.notes.first().map(|(_, attack)| attack.begins_s);
        first(other).zip(first(self)).map_or(0.0, |(other, own)| other - own)
    }
}

/// The notes of two sounds, blended.
fn blended(one: &Source, two: &Source, blend: &Blend<'_>, edit: &Edit) -> Vec<MadeNote> {
    let source_s = |t: f64| edit.time.as_ref().map_or(t, |map: &TimeMap| map.source_s(t));
    let whole_s = two.later_s(one);
    let pair = |n: usize| {
        let made = |(note, attack): &(Partials, Attack)| tracks::made(note, edit, attack);
        let one = one.notes.get(n);
        let two = two.notes.get(n).map(|(note, attack)| {
            let later_s = one.map_or(whole_s, |(_, own)| own.begins_s - attack.begins_s);
            (blend::later(note, later_s), attack.later(later_s))
        });
        let begins_s = [one.map(|of| of.1.begins_s), two.as_ref().map(|of| of.1.begins_s)];
        let begins_s = begins_s.into_iter().flatten().fold(f64::INFINITY, f64::min);
        let tracks_of = |of: Option<&(Partials, Attack)>| of.map(made).unwrap_or_default();
        let tracks = blend.tracks(&tracks_of(one), &tracks_of(two.as_ref()), source_s);
        (edit.heard_s(begins_s), tracks)
    };
    (0..one.notes.len().max(two.notes.len())).map(pair).collect()
}

/// What must be known of a sound and of what was asked for.
fn findings(edit: &Edit, meant: &[usize], is_noise: bool) -> Vec<Finding> {
    if is_noise {
        return vec![Finding::warning(
            "no_tones",
            "No note with a fundamental was found: the sound is made again from noise alone. Bells and \
             bars need their partials followed without a fundamental.",
        )];
    }
    let of_none = edit.changes.iter().zip(meant).filter(|(_, count)| **count == 0);
    let finding = |(change, _): (&Change, &usize)| {
        let which = change.which.words();
        let text = format!("There is no partial '{which}': that change does nothing.");
        Finding::warning("none_meant", text)
    };
    of_none.map(finding).collect()
}

/// The partials of all notes; none where nothing has a fundamental. Without one they are followed twice:
/// frames are then as short as the distance between the partials allows, so that an attack is known
/// better.
fn followed(
    sound: &[f32],
    rate_hz: f64,
    settings: &PartialsSettings,
) -> Result<Vec<Partials>, Error> {
    /// Two partials are this share of their distance apart.
    const SHARE: f64 = 0.5;
    const WIDEST_HZ: f64 = 200.0;
    let notes = match partials_of_notes(sound, rate_hz, settings) {
        Ok(notes) => notes,
        Err(Error::NoFundamental) => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    let [note] = &notes[..] else { return Ok(notes) };
    let mut all: Vec<f64> = note.partials.iter().map(|partial| partial.frequency_hz).collect();
    all.sort_by(f64::total_cmp);
    // The lowest has its own image below zero.
    let lowest = all.first().map_or(0.0, |hz| 2.0 * hz);
    let least_hz = all.windows(2).map(|pair| pair[1] - pair[0]).fold(lowest, f64::min);
    let resolve_hz = (SHARE * least_hz).min(WIDEST_HZ);
    if !settings.free || resolve_hz < 1.2 * settings.resolve_hz {
        return Ok(notes);
    }
    let again = partials_of_notes(sound, rate_hz, &PartialsSettings { resolve_hz, ..*settings })?;
    let left_db = |notes: &[Partials]| notes.first().map_or(0.0, |note| note.rest.residual_db);
    Ok(if left_db(&again) < left_db(&notes) { again } else { notes })
}

/// Partials of all notes that a change means.
fn meant(change: &Change, notes: &[&Partials]) -> usize {
    let of_note = |note: &&Partials| {
        let loudest = note.partials.iter().map(|of| of.level_db).fold(f64::NEG_INFINITY, f64::max);
        let means = |number, hz, db| change.which.means(number, hz, db);
        let partials = note.partials.iter();
        partials.filter(|of| means(of.number, of.frequency_hz, of.level_db - loudest)).count()
    };
    notes.iter().map(of_note).sum()
}

/// Adds the partials that were not there, a point every 5 ms, faded over 10 ms at both ends.
fn add_partials(edit: &Edit, rate_hz: f64, tones: &mut [f32]) {
    const STEP_S: f64 = 0.005;
    const FADE_S: f64 = 0.01;
    for added in &edit.added {
        let steps = ((added.to_s - added.from_s) / STEP_S).ceil() as usize;
        let step_s = (added.to_s - added.from_s) / steps as f64;
        let mut before: Option<(f64, TrackPoint)> = None;
        for k in 0..=steps {
            let t = added.from_s + k as f64 * step_s;
            let inside_s = (t - added.from_s).min(added.to_s - t);
            let share = (inside_s / FADE_S).clamp(1e-4, 1.0);
            let (heard_s, frequency_hz) = (edit.heard_s(t), added.frequency_hz.at(t));
            let amplitude = share * amplitude_from_db(added.level_db.at(t));
            let phase_rad = before.map_or(0.0, |(before_s, of)| {
                let mean_hz = 0.5 * (of.frequency_hz + frequency_hz);
                of.phase_rad + std::f64::consts::TAU * mean_hz * (heard_s - before_s)
            });
            let point = TrackPoint { frequency_hz, amplitude, phase_rad };
            if let Some((before_s, from)) = before.filter(|_| frequency_hz < 0.495 * rate_hz) {
                Sum::add_between(tones, rate_hz, (before_s, heard_s), &[(from, point, 1.0)]);
            }
            before = Some((heard_s, point));
        }
    }
}

/// The rest as it is heard.
fn rest_of(left: &[f32], rate_hz: f64, samples: usize, edit: &Edit, rest: RestKind) -> Vec<f32> {
    let gain = |hz: f64, t: f64| {
        if edit.noise.is_empty() {
            return 1.0;
        }
        let of = edit
            .noise
            .iter()
            .filter(|(range, _)| range.is_none_or(|range| Which::Range(range).means(1, hz, 0.0)));
        amplitude_from_db(of.map(|(_, gain)| gain.at(t)).sum())
    };
    match rest {
        RestKind::None => vec![0.0; samples],
        RestKind::Exact if edit.noise.is_empty() => {
            let mut noise = left.to_vec();
            noise.resize(samples, 0.0);
            noise
        }
        RestKind::Exact => {
            noise::filtered(left, rate_hz, |_| 1.0, gain).into_iter().map(|x| x as f32).collect()
        }
        RestKind::Noise => {
            let source_s = |t: f64| edit.time.as_ref().map_or(t, |map: &TimeMap| map.source_s(t));
            let noise = noise::shaped_as(left, rate_hz, &noise::Made { samples, source_s }, gain);
            noise.into_iter().map(|x| x as f32).collect()
        }
    }
}
