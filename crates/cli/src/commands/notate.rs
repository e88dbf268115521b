//! `notate`: notes of a phrase, or partials of a sound, as notation and MIDI.

use std::borrow::Cow;
use std::path::{Path, PathBuf};
use std::str::FromStr;

use anyhow::Result;
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::notate::{
    CHORD_AFTER_S, CHORD_BEFORE_S, Content, NotateSettings, Notation, Staff, Steps, Timing,
    WrittenNote, notate_chord, notate_partials, notate_phrase,
};
use tonemap_core::partials::{LONGEST_S, partials};
use tonemap_core::pitch::PitchTracker;
use tonemap_core::quantity::{Quantities, Quantity};
use tonemap_core::units::{Frequency, LevelReference, Seconds};
use tonemap_core::{Error, Finding, SampleSpan};
use tonemap_figures::{DRAWN_NOTES, Figure, NotateFigure, ReportPart, Words, notate_figure};
use tonemap_media::{MidiNote, Score, ScoreNote, ScoreStaff, midi_file, musicxml_file};

use crate::args::{self, FigureArgs, OutputArgs, TakesArgs};
use crate::fundamental::{FundamentalArgs, longest_note};
use crate::limits::LimitArgs;
use crate::measure::{self, Common, Measure, SideFile, row_heads, rows};
use crate::status::Usage;
use crate::table::{Row, Table};
use crate::take::Part;
use crate::text;

/// Write the notes of a phrase, or the partials of a sound, as notation or MIDI
///
/// Each is written in semitones, quarter or eighth tones, with the cents left beside it. A score
/// (MusicXML 4.0) has staves by range, and durations as they are or on the grid of a metre; MIDI gives
/// each note its own pitch bend. How it is computed stands in docs/methods/notate.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Notate {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    what: WhatArgs,
    #[command(flatten)]
    search: FundamentalArgs,
    #[command(flatten)]
    how: HowArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    /// The score is a file beside the result.
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap notate flute-scale.wav --output scale.musicxml --tempo 92
      a phrase as a score, in bars of 4/4
  tonemap notate bell-cut0.wav --chord-at 0.5s --steps quarter --figure bell.png
      the chord that a bell is made of, in quarter tones, beside its spectrum
  tonemap notate bell-cut0.wav --chord-at 0.5s --audible --output bell.musicxml
      without the tones that louder ones mask
  tonemap notate harp-g3.wav --partials --output harp.mid
      its partials over time, each with its own pitch bend";

#[derive(Args, Clone)]
#[command(next_help_heading = "What is written")]
struct WhatArgs {
    /// Write what sounds at an instant: 0.5s
    #[arg(long, value_name = "TIME", conflicts_with_all = ["partials", "free", "fundamental"])]
    chord_at: Option<Seconds>,
    /// Write the partials over time, of the longest note or, with --free, of all there is
    #[arg(long)]
    partials: bool,
    /// Partials at most, the strongest [default: 12]
    #[arg(long, value_name = "COUNT")]
    most: Option<usize>,
    /// Leave out partials that louder ones mask
    #[arg(long)]
    audible: bool,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Notation")]
struct HowArgs {
    /// The steps that pitches are written in
    #[arg(long, value_enum, default_value_t = StepsArg::Semitone)]
    steps: StepsArg,
    /// Frequency of A4 [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Frequency>,
    /// Write durations in a metre, at so many quarter notes a minute [default: as they are]
    #[arg(long, value_name = "QUARTERS")]
    tempo: Option<f64>,
    /// The metre
    #[arg(long, value_name = "METRE", default_value = "4/4", requires = "tempo")]
    metre: Fraction,
    /// The smallest value
    #[arg(long, value_name = "VALUE", default_value = "1/16", requires = "tempo")]
    smallest: Fraction,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum StepsArg {
    /// 100 cents
    Semitone,
    /// 50 cents
    Quarter,
    /// 25 cents
    Eighth,
}

impl From<StepsArg> for Steps {
    fn from(steps: StepsArg) -> Self {
        match steps {
            StepsArg::Semitone => Self::Semitone,
            StepsArg::Quarter => Self::Quarter,
            StepsArg::Eighth => Self::Eighth,
        }
    }
}

/// A metre or a note value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Fraction(u32, u32);

impl FromStr for Fraction {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let read = |text: &str| {
            let (over, under) = text.split_once('/')?;
            Some(Self(over.trim().parse().ok()?, under.trim().parse().ok()?))
        };
        read(text).ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "a metre or a note value",
            forms: "4/4, 6/8 or 1/16",
        })
    }
}

/// What was measured of a part.
pub(crate) struct Found {
    settings: NotateSettings,
    chord_at_s: Option<f64>,
    notation: Notation,
}

type Made<'a> = measure::Made<'a, Found>;

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    steps_cents: f64,
    reference_hz: f64,
    chord_at_s: Option<f64>,
    most: usize,
    audible_only: bool,
    tempo_bpm: Option<f64>,
    metre: Option<String>,
    smallest: Option<String>,
}

impl Measure for Notate {
    const KIND: &'static str = "notate";
    type Found = Found;

    fn common(&self) -> Common<'_> {
        let common = Common::of(&self.takes, &self.limits, &self.figure, &self.output);
        if self.score_file().is_none() {
            return common;
        }
        // The score is written beside the result, which is printed.
        let printed = OutputArgs { output: None, ..self.output.clone() };
        Common { output: Cow::Owned(printed), ..common }
    }

    fn check(&self) -> Result<()> {
        if self.what.most == Some(0) {
            return Err(Usage("--most is at least 1".into()).into());
        }
        let is_phrase = self.what.chord_at.is_none() && !self.what.partials;
        if is_phrase && (self.what.audible || self.what.most.is_some()) {
            let reason = "--audible and --most choose among what sounds together; add --chord-at or \
                          --partials";
            return Err(Usage(reason.into()).into());
        }
        if self.search.free && !self.what.partials {
            let reason = "--free is for partials over time; add --partials, or write a chord with --chord-at";
            return Err(Usage(reason.into()).into());
        }
        Ok(self.timing()?.check()?)
    }

    fn notes<'a>(&self, part: Part<'a>, quiet: bool) -> Result<Vec<Part<'a>>> {
        let is_short = part.lasts_s() <= LONGEST_S;
        if !self.what.partials || self.search.free || is_short {
            return Ok(vec![part]);
        }
        Ok(vec![part.of_note(None, longest_note(&part, quiet)?)])
    }

    fn measure(&self, part: &Part<'_>, quiet: bool) -> Result<(Found, Vec<Finding>)> {
        let settings = self.notate_settings(part)?;
        let (mut notation, mut findings) = match self.what.chord_at {
            Some(at) => chord(part, at.0, &settings)?,
            None if self.what.partials => self.partials(part, &settings)?,
            None => self.phrase(part, &settings, quiet)?,
        };
        findings.append(&mut notation.findings);
        let (_, moved) = self.timing()?.places(&times(&notation), notation.of == Content::Phrase);
        if moved > 0 {
            findings.push(too_coarse(moved));
        }
        let chord_at_s = self.what.chord_at.map(|at| at.0);
        Ok((Found { settings, chord_at_s, notation }, findings))
    }

    fn settings(&self, made: &Made<'_>) -> impl Serialize {
        let settings = &made.found.settings;
        let in_bars = |of: Fraction| self.how.tempo.map(|_| format!("{}/{}", of.0, of.1));
        Settings {
            steps_cents: settings.steps.cents(),
            reference_hz: settings.reference_hz,
            chord_at_s: made.found.chord_at_s,
            most: settings.most,
            audible_only: settings.audible_only,
            tempo_bpm: self.how.tempo,
            metre: in_bars(self.how.metre),
            smallest: in_bars(self.how.smallest),
        }
    }

    fn result(&self, made: &Made<'_>) -> impl Serialize {
        &made.found.notation
    }

    fn quantities(&self, made: &Made<'_>) -> Vec<Quantity> {
        made.found.notation.quantities()
    }

    fn text(&self, made: &[Made<'_>]) -> String {
        measure::each(made, as_text)
    }

    fn csv(&self, made: &[Made<'_>]) -> Result<String> {
        let heads = row_heads(made);
        Table::of_parts()
            .words("note", "", |row: &Row<'_, WrittenNote>| row.item.pitch.to_string())
            .fields(&WrittenNote::FIELDS, &[], |of: &WrittenNote| of)
            .words("dynamics", "", |row| row.item.dynamics.word().into())
            .level_reference()
            .csv(rows(made, &heads, |found| found.notation.notes.iter()))
    }

    fn draw(&self, made: &[Made<'_>]) -> Result<Figure> {
        let one = &made[0];
        let at = one.found.chord_at_s.map(|at_s| format!(" at {} s", text::number(at_s, 3)));
        let title = one.part.title() + &at.unwrap_or_default();
        let mut notes = vec![settings_line(&one.found), one.part.span_line()];
        if one.found.notation.of == Content::Phrase && one.found.notation.notes.len() > DRAWN_NOTES
        {
            notes.push(format!("the first {DRAWN_NOTES} notes; --from and --to choose others"));
        }
        let figure = NotateFigure {
            notation: &one.found.notation,
            reference_hz: one.found.settings.reference_hz,
            level_unit: &one.part.level_unit(),
            words: Words { title: &title, notes: &notes, findings: &one.findings },
        };
        Ok(notate_figure(&figure, self.figure.size)?)
    }

    fn section(&self, made: &Made<'_>) -> Result<ReportPart> {
        let head = made.row_head();
        let listed = listed(made, &head);
        let table =
            note_table(&made.part.level_unit(), &made.found.notation).page("Notes", &listed);
        Ok(ReportPart { tables: vec![table], ..ReportPart::default() })
    }

    fn files(&self) -> Vec<SideFile<'_, Found>> {
        let score = self.score_file().map(|(file, kind)| SideFile {
            file,
            endings: kind.endings(),
            kind: "a score is a MusicXML or a MIDI file; name it FILE.musicxml or FILE.mid",
            is_of_one: true,
            content: Box::new(move |made: &[Made<'_>]| match kind {
                ScoreKind::MusicXml => Ok(musicxml_file(&self.score(&made[0])?)?),
                ScoreKind::Midi => {
                    let notes = &made[0].found.notation.notes;
                    let notes: Vec<MidiNote> = notes.iter().map(midi_note).collect();
                    Ok(midi_file(&notes, &made[0].part.title())?)
                }
            }),
        });
        score.into_iter().collect()
    }
}

/// The kinds of score.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum ScoreKind {
    MusicXml,
    Midi,
}

impl ScoreKind {
    fn endings(self) -> &'static [&'static str] {
        match self {
            Self::MusicXml => &["musicxml", "xml"],
            Self::Midi => &["mid", "midi"],
        }
    }
}

impl Notate {
    /// The file that is a score by its name, and which kind.
    fn score_file(&self) -> Option<(&Path, ScoreKind)> {
        let file: &PathBuf = self.output.output.as_ref()?;
        let ending = file.extension()?.to_string_lossy().to_ascii_lowercase();
        let kind = [ScoreKind::MusicXml, ScoreKind::Midi]
            .into_iter()
            .find(|kind| kind.endings().contains(&ending.as_str()))?;
        Some((file, kind))
    }

    fn timing(&self) -> Result<Timing> {
        let Some(tempo_bpm) = self.how.tempo else { return Ok(Timing::Free) };
        let (Fraction(beats, beat), Fraction(one, smallest)) = (self.how.metre, self.how.smallest);
        if one != 1 {
            return Err(Usage(format!("'{one}/{smallest}' is no note value; write 1/16")).into());
        }
        Ok(Timing::Metre { tempo_bpm, smallest, beats, beat })
    }

    fn notate_settings(&self, part: &Part<'_>) -> Result<NotateSettings> {
        let usual_hz = part.take().reference_hz();
        Ok(NotateSettings {
            steps: self.how.steps.into(),
            reference_hz: args::reference_hz(self.how.reference, usual_hz)?,
            most: self.what.most.unwrap_or(NotateSettings::default().most),
            audible_only: self.what.audible,
            full_scale_db: part.reference.full_scale_db(),
            is_calibrated: matches!(part.reference, LevelReference::Pressure { .. }),
        })
    }

    fn phrase(
        &self,
        part: &Part<'_>,
        settings: &NotateSettings,
        quiet: bool,
    ) -> Result<(Notation, Vec<Finding>)> {
        let search = self.search.settings(part, settings.reference_hz)?.pitch;
        let mut tracker = PitchTracker::new(search, part.rate_hz(), part.start_s())?;
        let (samples, meter, mut findings) = part.spooled(quiet, |block| tracker.push(block))?;
        findings.extend(meter.finish().findings(&part.channel_name()));
        let pitch = tracker.finish();
        findings.extend(pitch.findings());
        let (rate, start_s) = (part.rate_hz(), part.start_s());
        Ok((notate_phrase(&pitch, &samples, rate, start_s, settings)?, findings))
    }

    fn partials(
        &self,
        part: &Part<'_>,
        settings: &NotateSettings,
    ) -> Result<(Notation, Vec<Finding>)> {
        let search = self.search.settings(part, settings.reference_hz)?;
        let held = part.note_samples()?;
        let mut found = partials(&held.samples, part.rate_hz(), held.start_s, &search)?;
        found.calibrate(settings.full_scale_db);
        Ok((notate_partials(&found, settings)?, held.findings))
    }

    fn score(&self, made: &Made<'_>) -> Result<Score> {
        let notation = &made.found.notation;
        let timing = self.timing()?;
        let (places, _) = timing.places(&times(notation), notation.of == Content::Phrase);
        let of = |note: &WrittenNote| note.pitch.staff();
        let used = |staff: &Staff| notation.notes.iter().any(|note| of(note) == *staff);
        let staves: Vec<Staff> = Staff::ALL.into_iter().filter(used).collect();
        let notes = notation.notes.iter().zip(places).map(|(note, placed)| {
            let spelling = note.pitch.spelling();
            ScoreNote {
                start: placed.start,
                length: placed.length,
                staff: staves.iter().position(|staff| *staff == of(note)).unwrap_or(0),
                letter: spelling.letter,
                alter: spelling.accidental.alter(),
                octave: spelling.octave,
                above: note
                    .cents
                    .map_or(String::new(), |cents| text::signed(text::number(cents.value, 0))),
                below: match timing {
                    Timing::Free => format!("{} s", text::number(note.start_s, 3)),
                    Timing::Metre { .. } => String::new(),
                },
                dynamics: note.dynamics.word(),
                velocity: note.velocity,
            }
        });
        let eighths = made.found.settings.steps == Steps::Eighth;
        Ok(Score {
            title: made.part.title(),
            software: format!("Tone Map {}", env!("CARGO_PKG_VERSION")),
            divisions: timing.divisions(),
            tempo_bpm: timing.tempo_bpm(),
            metre: self.how.tempo.map(|_| (self.how.metre.0, self.how.metre.1)),
            staves: staves
                .iter()
                .map(|staff| ScoreStaff { clef: staff.clef(), octaves: staff.octaves() })
                .collect(),
            remark: eighths.then(|| "arrows: an eighth tone".into()),
            notes: notes.collect(),
        })
    }
}

/// What sounds at a time of the take.
fn chord(
    part: &Part<'_>,
    time_s: f64,
    settings: &NotateSettings,
) -> Result<(Notation, Vec<Finding>)> {
    let rate = part.rate_hz();
    let (from_s, to_s) = part.span_s();
    if !(from_s..to_s).contains(&time_s) {
        return Err(Error::Setting {
            setting: "the instant",
            given: format!("{time_s} s"),
            allowed: format!("within the span, {from_s:.3} s to {to_s:.3} s"),
        }
        .into());
    }
    let sample = |time_s: f64| (time_s * rate).round() as u64;
    let near = SampleSpan {
        start: sample((time_s - CHORD_BEFORE_S).max(from_s)),
        end: sample((time_s + CHORD_AFTER_S).min(to_s)).min(part.span.end),
    };
    let mut samples = Vec::new();
    part.read_near(near, &mut samples)?;
    let start_s = near.start as f64 / rate;
    Ok((notate_chord(&samples, rate, start_s, settings)?, part.take().findings.clone()))
}

fn times(notation: &Notation) -> Vec<(f64, f64)> {
    notation.notes.iter().map(|note| (note.start_s, note.end_s)).collect()
}

fn too_coarse(moved: usize) -> Finding {
    let notes = if moved == 1 { "1 note".into() } else { format!("{moved} notes") };
    Finding::warning(
        "grid_too_coarse",
        format!(
            "{notes} fell onto the place of the one before and moved to the next; choose a smaller \
             value with --smallest, or a slower --tempo."
        ),
    )
}

fn midi_note(note: &WrittenNote) -> MidiNote {
    MidiNote {
        start_s: note.start_s,
        end_s: note.end_s,
        number: note.key(),
        velocity: note.velocity,
        bends: note.bends(),
    }
}

fn settings_line(found: &Found) -> String {
    let Found { settings, notation, .. } = found;
    let count = notation.notes.len();
    let what = match notation.of {
        Content::Phrase if count == 1 => "1 note".into(),
        Content::Phrase => format!("{count} notes"),
        Content::Partials => format!("{count} partials over time"),
        Content::Chord => {
            let at_s = found.chord_at_s.unwrap_or(0.0);
            format!("{count} tones together at {} s", text::number(at_s, 3))
        }
    };
    let masked = match notation.masked {
        0 => String::new(),
        masked => format!("; {masked} left out that others mask"),
    };
    let weaker = match notation.weaker {
        0 => String::new(),
        weaker => format!("; the strongest, {weaker} weaker ones left out"),
    };
    let steps = match settings.steps {
        Steps::Semitone => "semitones",
        Steps::Quarter => "quarter tones",
        Steps::Eighth => "eighth tones",
    };
    format!(
        "{what}{masked}{weaker}; in {steps}, A4 at {} Hz",
        text::number(settings.reference_hz, 1)
    )
}

/// Notes that are listed; JSON has them all.
const MOST_NOTES: usize = 60;

fn listed<'r>(made: &'r Made<'_>, head: &'r crate::table::RowHead) -> Vec<Row<'r, WrittenNote>> {
    let notes = made.found.notation.notes.iter().take(MOST_NOTES);
    notes.map(|item| Row { part: head, item }).collect()
}

fn as_text(made: &Made<'_>) -> String {
    let notation = &made.found.notation;
    let head = made.row_head();
    let table = note_table(&made.part.level_unit(), notation).text(&listed(made, &head));
    let more = match notation.notes.len().saturating_sub(MOST_NOTES) {
        0 => String::new(),
        more => format!("  and {more} more notes; --format json has them all\n"),
    };
    format!(
        "{}\n  {}\n\n{table}{more}\n{}{}",
        made.part.title(),
        made.part.span_line(),
        text::sentence(&settings_line(&made.found)),
        text::findings_below(&made.findings),
    )
}

fn note_table<'t>(level_unit: &str, notation: &Notation) -> Table<'t, Row<'t, WrittenNote>> {
    let has_numbers = notation.notes.iter().any(|note| note.partial.is_some());
    let of = notation.of;
    Table::new()
        .when(has_numbers, |table| {
            table.words("", "partial", |row: &Row<'t, WrittenNote>| {
                row.item.partial.map_or("–".into(), |n| n.to_string())
            })
        })
        .when(of != Content::Chord, |table| {
            table.number("", "start s", 3, |row| Some(row.item.start_s)).number(
                "",
                "end s",
                3,
                |row| Some(row.item.end_s),
            )
        })
        .words("", "note", |row| row.item.pitch.to_string())
        .signed_measured("", "cents", 2, |row| row.item.cents)
        .measured("", "f0 Hz", 3, |row| row.item.f0_hz)
        .number("", format!("level {level_unit}"), 1, |row| Some(row.item.level_db))
        .words("", "dynamics", |row| row.item.dynamics.word().into())
        .number("", "velocity", 0, |row| Some(f64::from(row.item.velocity)))
}
