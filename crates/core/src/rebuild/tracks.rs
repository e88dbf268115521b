//! The tracks of a note as they are changed, and their sound.

use std::collections::BTreeMap;
use std::f64::consts::TAU;

use super::edit::{Course, Edit, Shift};
use crate::measured::Measured;
use crate::partials::{Partial, PartialTrack, Partials, Sum, TrackPoint};
use crate::spectrum::ResponseCurve;
use crate::units::{amplitude_from_db, cents_above};

/// A track as it is made: when each of its points is heard, and the point.
#[derive(Debug, Clone, PartialEq)]
pub struct MadeTrack {
    /// Number of its partial.
    pub number: usize,
    /// Times in seconds from the start of what is made, with the points there.
    pub points: Vec<(f64, TrackPoint)>,
    /// Whether it was left out.
    pub is_removed: bool,
    /// Whether it ends as it did, rather than faded.
    is_as_it_was: bool,
}

impl MadeTrack {
    /// One from the times of its points, which rise, and the points.
    #[must_use]
    pub fn new(number: usize, points: Vec<(f64, TrackPoint)>) -> Self {
        Self { number, points, is_removed: false, is_as_it_was: true }
    }
}

/// What becomes of the tracks of a note.
pub(super) fn made(note: &Partials, edit: &Edit, attack: &Attack) -> Vec<MadeTrack> {
    let loudest = note.partials.iter().map(|of| of.level_db).fold(f64::NEG_INFINITY, f64::max);
    let step = |track: &PartialTrack, k: usize| {
        ((track.start_s - note.start_s) / note.hop_s).round() as usize + k
    };
    let envelopes = if edit.keep_envelope { envelopes(note, step) } else { Vec::new() };
    let of_track = |track: &PartialTrack| {
        let partial = note.partials.iter().find(|of| of.number == track.number);
        let changer = Changer { note, edit, partial, loudest, attack };
        let is_removed = changer.is_removed();
        let envelope = |k: usize| envelopes.get(step(track, k))?.as_ref();
        let points = changer.points(track, envelope);
        let is_as_it_was = edit.is_nothing();
        MadeTrack { number: track.number, points, is_removed, is_as_it_was }
    };
    note.tracks.iter().map(of_track).collect()
}

/// The level of a note over frequency at each of its steps.
fn envelopes(
    note: &Partials,
    step: impl Fn(&PartialTrack, usize) -> usize,
) -> Vec<Option<ResponseCurve>> {
    let mut all: Vec<Vec<(f64, f64)>> = Vec::new();
    for track in &note.tracks {
        for (k, point) in track.points.iter().enumerate() {
            let at = step(track, k);
            if all.len() <= at {
                all.resize(at + 1, Vec::new());
            }
            all[at].push((point.frequency_hz, point.level_db()));
        }
    }
    all.into_iter().map(|points| ResponseCurve::new(points).ok()).collect()
}

/// What happens to one track.
struct Changer<'a> {
    note: &'a Partials,
    edit: &'a Edit,
    partial: Option<&'a Partial>,
    /// Level of the loudest partial in dB.
    loudest: f64,
    attack: &'a Attack,
}

impl Changer<'_> {
    fn changes(&self) -> impl Iterator<Item = &super::Change> {
        let partial = self.partial;
        let (number, hz, db) = partial.map_or((0, 0.0, f64::NEG_INFINITY), |of| {
            (of.number, of.frequency_hz, of.level_db - self.loudest)
        });
        self.edit
            .changes
            .iter()
            .filter(move |of| partial.is_some() && of.which.means(number, hz, db))
    }

    fn is_removed(&self) -> bool {
        self.changes().any(|of| of.remove && of.from_s.is_none() && of.to_s.is_none())
    }

    /// Factor of the frequency that holds at all times.
    fn steady_factor(&self) -> f64 {
        let Some(partial) = self.partial else { return 1.0 };
        let n = partial.number as f64;
        let stretched = n.powf(self.edit.stretch);
        let of_string = self.note.stiff_f_hz.or(self.note.f0_hz).map(|f: Measured| f.value);
        match self.edit.inharmonicity.zip(of_string) {
            Some((b, f_hz)) => {
                stretched * n * f_hz * (1.0 + b * n * n).sqrt() / partial.frequency_hz
            }
            None => stretched,
        }
    }

    /// Frequency that a point of a frequency comes to at a time of the source.
    fn moved_hz(&self, hz: f64, steady: f64, t: f64) -> f64 {
        let pitch = self.edit.pitch_cents.as_ref().map_or(0.0, |course| course.at(t));
        let mut hz = cents_above(hz * steady, pitch);
        for change in self.changes() {
            let share = change.share(t);
            hz = match &change.shift {
                Some(Shift::Cents(course)) => cents_above(hz, share * course.at(t)),
                Some(Shift::Hertz(course)) => hz + share * course.at(t),
                None => hz,
            };
        }
        hz.max(1.0)
    }

    /// What a point is raised by at a time of the source, in dB; `None` where it is left out.
    fn raised_db(&self, t: f64) -> Option<f64> {
        let mut db = 0.0;
        for change in self.changes() {
            let share = change.share(t);
            if change.remove {
                // −200 dB is nothing.
                db += if share < 1.0 { 20.0 * (1.0 - share).max(1e-10).log10() } else { -200.0 };
            }
            db += change.gain_db.as_ref().map_or(0.0, |gain| share * gain.at(t));
            if let Some(by) = change.decay {
                db += share * (1.0 - 1.0 / by) * self.fallen_db(t);
            }
        }
        (db > -190.0).then_some(db)
    }

    /// How far the partial has fallen by itself since the note began, in dB.
    fn fallen_db(&self, t: f64) -> f64 {
        let Some(partial) = self.partial else { return 0.0 };
        let Some(early_s) = partial.decay_t60_s else { return 0.0 };
        let since_s = (t - self.note.start_s).max(0.0);
        match partial.late_t60_s.zip(partial.knee_s) {
            Some((late_s, knee_s)) => {
                let knee_s = knee_s - self.note.start_s;
                60.0 * since_s.min(knee_s) / early_s + 60.0 * (since_s - knee_s).max(0.0) / late_s
            }
            None => 60.0 * since_s / early_s,
        }
    }

    fn points<'e>(
        &self,
        track: &PartialTrack,
        envelope: impl Fn(usize) -> Option<&'e ResponseCurve>,
    ) -> Vec<(f64, TrackPoint)> {
        if self.edit.is_nothing() {
            let points = self.finer(track).into_iter();
            return points.map(|(_, t, point)| (t, point)).collect();
        }
        let steady = self.steady_factor();
        let mut made: Vec<(f64, TrackPoint)> = Vec::with_capacity(track.points.len());
        let mut before: Option<(f64, TrackPoint)> = None;
        for (k, t, point) in self.finer(track) {
            let hz = self.moved_hz(point.frequency_hz, steady, t);
            let mut db = self.raised_db(t).unwrap_or(-300.0);
            if let Some(envelope) = envelope(k).filter(|_| hz != point.frequency_hz) {
                db += envelope.level_db(hz) - envelope.level_db(point.frequency_hz);
            }
            let heard_s = self.edit.heard_s(t);
            let phase_rad = match (made.last(), before) {
                (Some((last_s, last)), Some((was_s, was))) => {
                    let ran = turned(&was, &point, t - was_s);
                    let faster = (last.frequency_hz + hz) / (was.frequency_hz + point.frequency_hz);
                    last.phase_rad + ran * faster * (heard_s - last_s) / (t - was_s)
                }
                _ => point.phase_rad,
            };
            let amplitude = point.amplitude * amplitude_from_db(db);
            made.push((heard_s, TrackPoint { frequency_hz: hz, amplitude, phase_rad }));
            before = Some((t, point));
        }
        made
    }

    /// The points of a track with the number of the step of each and its time, and finer ones where a
    /// change is faded and in the attack.
    fn finer(&self, track: &PartialTrack) -> Vec<(usize, f64, TrackPoint)> {
        const STEP_S: f64 = 0.001;
        let mut fades: Vec<(f64, f64)> = self.changes().flat_map(super::Change::fades_s).collect();
        fades.extend(self.attack.lasts_s());
        let steps = (track.hop_s / STEP_S).ceil().max(1.0) as usize;
        let mut all = Vec::with_capacity(track.points.len());
        for (k, point) in track.points.iter().enumerate() {
            let t = track.start_s + k as f64 * track.hop_s;
            all.push((k, t, *point));
            let is_faded = fades.iter().any(|(from, to)| t < *to && t + track.hop_s > *from);
            if let Some(next) = track.points.get(k + 1).filter(|_| is_faded) {
                let finer = (1..steps).map(|n| {
                    let share = n as f64 / steps as f64;
                    let between = Sum::between(track.hop_s, share, point, next);
                    (k, t + share * track.hop_s, between)
                });
                all.extend(finer);
            }
        }
        for (_, t, point) in &mut all {
            point.amplitude *= self.attack.at(*t);
        }
        all
    }
}

/// By how much the phase runs from a point to the next: the whole turns are those that both
/// frequencies speak for.
pub(super) fn turned(from: &TrackPoint, to: &TrackPoint, hop_s: f64) -> f64 {
    let expected = TAU * 0.5 * (from.frequency_hz + to.frequency_hz) * hop_s;
    let apart = to.phase_rad - from.phase_rad;
    apart + TAU * ((expected - apart) / TAU).round()
}

/// Steps that several tracks have in common, with their points at both ends.
type Steps = BTreeMap<(u64, u64), Vec<(TrackPoint, TrackPoint, f64)>>;

/// The steps of the tracks of a note, times a factor. Where a track was changed, and begins or ends
/// within the note, it is faded, as what it was cut off at may have become louder.
fn steps(tracks: &[MadeTrack], starts_s: f64, rate_hz: f64, factor: f64) -> Steps {
    const FADE_S: f64 = 0.01;
    const NEAR_S: f64 = 0.03;
    let mut steps = Steps::new();
    let is_heard = |point: &TrackPoint| (1.0..0.495 * rate_hz).contains(&point.frequency_hz);
    let mut piece = |(t0, from): &(f64, TrackPoint), (t1, to): &(f64, TrackPoint)| {
        if is_heard(from) && is_heard(to) && t1 > t0 {
            let step = steps.entry((t0.to_bits(), t1.to_bits())).or_default();
            step.push((*from, *to, factor));
        }
    };
    let beyond = |(t, point): &(f64, TrackPoint), by_s: f64| {
        let phase_rad = point.phase_rad + TAU * point.frequency_hz * by_s;
        (t + by_s, TrackPoint { amplitude: 1e-4 * point.amplitude, phase_rad, ..*point })
    };
    for track in tracks.iter().filter(|track| !track.is_removed) {
        track.points.windows(2).for_each(|pair| piece(&pair[0], &pair[1]));
        let (Some(first), Some(last)) = (track.points.first(), track.points.last()) else {
            continue;
        };
        if track.is_as_it_was {
            continue;
        }
        if first.0 > starts_s + NEAR_S {
            piece(&beyond(first, -FADE_S), first);
        }
        piece(last, &beyond(last, FADE_S));
    }
    steps
}

/// Adds the sound of the tracks of a note, times a factor, from when it begins on.
pub(super) fn add(
    tracks: &[MadeTrack],
    begins_s: f64,
    rate_hz: f64,
    factor: f64,
    sound: &mut [f32],
) {
    add_later(tracks, begins_s, 0.0, rate_hz, factor, sound);
}

/// The same to a sound that itself begins at a time.
pub(super) fn add_later(
    tracks: &[MadeTrack],
    begins_s: f64,
    sound_s: f64,
    rate_hz: f64,
    factor: f64,
    sound: &mut [f32],
) {
    let first = ((begins_s - sound_s) * rate_hz).ceil().max(0.0) as usize;
    for ((t0, t1), pieces) in steps(tracks, begins_s, rate_hz, factor) {
        let (t0, t1) = (f64::from_bits(t0), f64::from_bits(t1));
        let step_s = (t0 - sound_s, t1 - sound_s);
        if t0 >= begins_s {
            Sum::add_between(sound, rate_hz, step_s, &pieces);
            continue;
        }
        // What comes before the note begins stays as it is.
        let from = ((step_s.0 * rate_hz).max(0.0) as usize).min(first);
        let silent = from.min(sound.len())..first.min(sound.len());
        let before = sound[silent.clone()].to_vec();
        Sum::add_between(sound, rate_hz, step_s, &pieces);
        sound[silent].copy_from_slice(&before);
    }
}

/// How the tones of a note begin: from which time on, and by how much louder they are at first than the
/// damped sinusoids of their frames say, all alike. A note that swells in another way is known by this.
#[derive(Clone)]
pub(super) struct Attack {
    pub(super) begins_s: f64,
    gain: Option<Course>,
    ends_s: f64,
}

impl Attack {
    /// As the frames have it.
    pub(super) fn as_read(begins_s: f64) -> Self {
        Self { begins_s, gain: None, ends_s: begins_s }
    }

    /// The same so many seconds later.
    pub(super) fn later(&self, by_s: f64) -> Self {
        let gain = self.gain.as_ref().map(|gain| gain.later(by_s));
        Self { begins_s: self.begins_s + by_s, gain, ends_s: self.ends_s + by_s }
    }

    fn lasts_s(&self) -> Option<(f64, f64)> {
        self.gain.is_some().then_some((self.begins_s, self.ends_s))
    }

    fn at(&self, t: f64) -> f64 {
        let gain = self.gain.as_ref().filter(|_| t < self.ends_s);
        gain.map_or(1.0, |gain| gain.at(t))
    }

    /// The attack of a note that leaves least of a sound.
    pub(super) fn of(note: &Partials, rate_hz: f64, sound: &[f32]) -> Self {
        /// The tones begin at a sample within so long of the onset; an onset is known to some samples.
        const LONGEST_S: f64 = 0.005;
        /// So long a note may swell.
        const ATTACK_S: f64 = 0.08;
        /// The gain is known at such steps, and believed if it leaves so much less.
        const STEP_S: f64 = 0.001;
        const BETTER: f64 = 0.7;
        let tracks = made(note, &Edit::default(), &Self::as_read(note.start_s));
        let first = (note.start_s * rate_hz).ceil().max(0.0) as usize;
        let lasts_s = ATTACK_S.max(0.5 * note.frame_s).min(0.5 * (note.end_s - note.start_s));
        let end = (((note.start_s + lasts_s) * rate_hz) as usize).min(sound.len());
        if first >= end {
            return Self::as_read(note.start_s);
        }
        let mut tones = vec![0.0; end - first];
        let later_s = first as f64 / rate_hz;
        for ((t0, t1), pieces) in steps(&tracks, note.start_s, rate_hz, 1.0) {
            let (t0, t1) = (f64::from_bits(t0), f64::from_bits(t1));
            if t0 * rate_hz < end as f64 {
                let step_s = (t0 - later_s, t1 - later_s);
                Sum::add_between(&mut tones, rate_hz, step_s, &pieces);
            }
        }
        let pair = |n: usize| (f64::from(sound[n]), f64::from(tones[n - first]));
        let (mut gained, mut least, mut begins) = (0.0, 0.0, first);
        for n in first..end.min(first + (LONGEST_S * rate_hz) as usize) {
            let (x, y) = pair(n);
            gained += x * x - (x - y).powi(2);
            if gained < least {
                (least, begins) = (gained, n + 1);
            }
        }
        let begins_s = if begins == first { note.start_s } else { begins as f64 / rate_hz };
        // The gain of each step that leaves least of it, until it is one.
        let step = ((STEP_S * rate_hz) as usize).max(1);
        let mut points = Vec::new();
        let (mut left, mut left_then) = (0.0, 0.0);
        for from in (begins..end.saturating_sub(step)).step_by(step) {
            let [mut xy, mut yy] = [0.0, 0.0];
            for (x, y) in (from..from + step).map(pair) {
                xy += x * y;
                yy += y * y;
            }
            let gain = if yy > 0.0 { (xy / yy).clamp(0.0, 3.0) } else { 1.0 };
            for (x, y) in (from..from + step).map(pair) {
                left += (x - y).powi(2);
                left_then += (x - gain * y).powi(2);
            }
            points.push(((from as f64 + 0.5 * step as f64) / rate_hz, gain));
        }
        points.push((end as f64 / rate_hz, 1.0));
        let gain = Course::new(points).ok().filter(|_| left_then < BETTER * left);
        Self { begins_s, gain, ends_s: end as f64 / rate_hz }
    }
}
