//! How the commands that follow partials look for the fundamental.

use anyhow::Result;
use clap::Args;
use tonemap_core::SampleSpan;
use tonemap_core::partials::{LONGEST_S, NoteChoice, PartialsSettings};
use tonemap_core::pitch::{DEFAULT_RANGE_HZ, Pitch, PitchNote, PitchSettings, PitchTracker};
use tonemap_core::units::FrequencyRange;

use crate::status::Usage;
use crate::take::{NotePlace, Part};

/// Which notes of a take are measured.
#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
pub(crate) struct NoteArgs {
    /// Which of several notes is measured, counted from 1 [default: the longest]
    #[arg(long, value_name = "NUMBER", conflicts_with = "each")]
    note: Option<usize>,
    /// Measure each note of a take, one row a note
    #[arg(long)]
    each: bool,
}

impl NoteArgs {
    /// The notes of a part that are measured. A part that is held in memory as a whole shows its
    /// longest note itself.
    pub(crate) fn of<'a>(
        &self,
        part: Part<'a>,
        settings: &PartialsSettings,
        quiet: bool,
    ) -> Result<Vec<Part<'a>>> {
        if settings.free && (self.each || self.note.is_some()) {
            let reason = "with --free there are no notes: leave out --note and --each";
            return Err(Usage(reason.into()).into());
        }
        let is_short = part.lasts_s() <= LONGEST_S;
        if settings.free || (is_short && !self.each) {
            return Ok(vec![part.of_note(self.note, None)]);
        }
        let notes = followed_pitch(&part, settings.pitch, quiet)?.notes;
        let place = |n: usize| place_of(&part, &notes, n);
        if self.each && !notes.is_empty() {
            let note = |n: usize| part.of_note(Some(n + 1), Some(place(n)));
            return Ok((0..notes.len()).map(note).collect());
        }
        if let Some(n) = self.note.and_then(|number| number.checked_sub(1)) {
            let place = (n < notes.len()).then(|| place(n));
            return Ok(vec![part.of_note(self.note, place)]);
        }
        Ok(vec![part.of_note(None, longest_of(&part, &notes))])
    }
}

/// The longest note of a part that is followed as a whole.
pub(crate) fn longest_note(part: &Part<'_>, quiet: bool) -> Result<Option<NotePlace>> {
    Ok(longest_of(part, &followed_pitch(part, PitchSettings::default(), quiet)?.notes))
}

fn longest_of(part: &Part<'_>, notes: &[PitchNote]) -> Option<NotePlace> {
    let lasts = |note: &PitchNote| note.end_s - note.start_s;
    let longest = (0..notes.len()).max_by(|a, b| lasts(&notes[*a]).total_cmp(&lasts(&notes[*b])));
    let longest_of = (notes.len() > 1).then_some(notes.len());
    longest.map(|n| NotePlace { longest_of, ..place_of(part, notes, n) })
}

/// The fundamental of a whole part, read block by block.
pub(crate) fn followed_pitch(
    part: &Part<'_>,
    settings: PitchSettings,
    quiet: bool,
) -> Result<Pitch> {
    let mut tracker = PitchTracker::new(settings, part.rate_hz(), part.start_s())?;
    part.read_in_two("notes", quiet, |samples| tracker.push(samples), |_| ())?;
    Ok(tracker.finish())
}

/// Where a note is, with enough before to see what it rises from and behind to see it end.
fn place_of(part: &Part<'_>, notes: &[PitchNote], n: usize) -> NotePlace {
    const BEFORE_S: f64 = 0.5;
    const BEHIND_S: f64 = 2.0;
    const OF_NEXT_S: f64 = 0.3;
    let (note, next) = (&notes[n], notes.get(n + 1));
    let before = n.checked_sub(1).map(|n| &notes[n]);
    let rate = part.rate_hz();
    let from_s = note.start_s - BEFORE_S;
    let from_s = before.map_or(from_s, |before| from_s.max(before.start_s));
    let to_s = note.end_s + BEHIND_S;
    let to_s = next.map_or(to_s, |next| to_s.min(next.start_s + OF_NEXT_S));
    let sample = |time_s: f64| ((time_s * rate) as u64).clamp(part.span.start, part.span.end);
    let span = SampleSpan { start: sample(from_s.max(0.0)), end: sample(to_s) };
    NotePlace { sounds_s: (note.start_s, note.end_s), span, longest_of: None }
}

/// Whether there is a fundamental, and where it is looked for.
#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
pub(crate) struct FundamentalArgs {
    /// Assume no fundamental
    #[arg(long, conflicts_with = "fundamental", group = "tones")]
    pub(crate) free: bool,
    #[command(flatten)]
    range: FundamentalRange,
}

/// Where the fundamental is looked for.
#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
pub(crate) struct FundamentalRange {
    /// Where the fundamental is looked for: G1..C7, 50Hz..1kHz [default: 25Hz..5kHz]
    #[arg(long, value_name = "LOW..HIGH")]
    fundamental: Option<FrequencyRange>,
}

impl FundamentalArgs {
    /// Settings for partials of a part, with A4 at `reference_hz` and the note that the study
    /// expects.
    pub(crate) fn settings(&self, part: &Part<'_>, reference_hz: f64) -> Result<PartialsSettings> {
        Ok(PartialsSettings { free: self.free, ..self.range.settings(part, reference_hz)? })
    }
}

impl FundamentalRange {
    /// The same where there is a fundamental.
    pub(crate) fn settings(&self, part: &Part<'_>, reference_hz: f64) -> Result<PartialsSettings> {
        let rate = part.rate_hz();
        let range_hz = match self.fundamental {
            Some(range) => range.hz(reference_hz, rate)?,
            None => DEFAULT_RANGE_HZ,
        };
        let expected = part.take().expected_note();
        Ok(PartialsSettings {
            free: false,
            pitch: PitchSettings {
                range_hz: (range_hz.0, range_hz.1.min(0.4 * rate)),
                expected_hz: expected.map(|note| note.frequency_hz(reference_hz)),
                reference_hz,
                ..PitchSettings::default()
            },
            note: match (part.place, part.note) {
                (Some(place), _) => NoteChoice::Between(place.sounds_s.0, place.sounds_s.1),
                (None, Some(number)) => NoteChoice::Number(number),
                (None, None) => NoteChoice::Longest,
            },
            ..PartialsSettings::default()
        })
    }
}
