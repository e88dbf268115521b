//! `pitch`: the fundamental over time, its notes, and what speaks for them.

use std::path::PathBuf;
use std::str::FromStr;

use anyhow::Result;
use clap::Args;
use serde::Serialize;
use tonemap_core::pitch::{
    DEFAULT_RANGE_HZ, Pitch as Measured, PitchNote, PitchPoint, PitchSettings, PitchTracker,
    evidence,
};
use tonemap_core::quantity::{Quantities, Quantity, pair};
use tonemap_core::units::{Extent, Frequency, FrequencyRange, Note, Seconds, cents_between};
use tonemap_core::{Error, Finding, SampleSpan};
use tonemap_figures::{
    ChartCurve, ColourMap, DrawnTrack, EvidenceFigure, Figure, Marks, PitchFigure, ReportPart,
    TrackPoint, course_chart, evidence_figure, pitch_cells, pitch_figure,
};
use tonemap_media::{MidiNote, midi_file};

use crate::args::{self, FigureArgs, OutputArgs, TakesArgs};
use crate::columns::{background, drawn};
use crate::limits::LimitArgs;
use crate::measure::{self, Common, Measure, SideFile, row_heads, rows};
use crate::table::{Row, Table};
use crate::take::Part;
use crate::text;

/// Fundamental over time, notes, and the rejected alternatives
///
/// Each frame is read as a harmonic series, whichever partial is the strongest and whether or not
/// the first is there; the path through all frames then weighs continuity. Low notes get long
/// frames, high ones short. Each note lists the alternative pitches and their confidence;
/// --evidence shows one instant.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Pitch {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    search: SearchArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    look: LookArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    output: OutputArgs,
    /// Print only the longest note of each take: its name and cents, with their uncertainty
    #[arg(long, help_heading = "Output", conflicts_with = "format")]
    steady: bool,
    /// Write the notes as a MIDI file, with their course as pitch bend: FILE.mid
    #[arg(long, value_name = "FILE", help_heading = "Files")]
    midi: Option<PathBuf>,
}

const EXAMPLES: &str = "Examples:
  tonemap pitch flute-scale.wav --figure scale.png
      its notes, and their course over a spectrogram
  tonemap pitch harp-g3.wav --steady
      one line: how far the string is from its note
  tonemap pitch no-first.wav --evidence 1s --figure why.png
      why a tone without its first partial is heard where it is
  tonemap pitch flute-scale.wav --format csv --output scale.csv --midi scale.mid
      the track as a table, the notes for a sequencer";

#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
struct SearchArgs {
    /// Range of fundamentals: G1..C7, 50Hz..1kHz [default: 25Hz..5kHz]
    #[arg(long, value_name = "LOW..HIGH")]
    range: Option<FrequencyRange>,
    /// Distance between frames: 10ms, or 480 samples
    #[arg(long, value_name = "LENGTH", default_value = "10ms")]
    hop: Extent,
    /// The note expected, which wins where two readings are nearly even; none to leave out that of
    /// the study [default: that of the study]
    #[arg(long, value_name = "NOTE")]
    expect: Option<Expected>,
    /// Frequency of A4 [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Frequency>,
}

#[derive(Debug, Clone, Copy)]
enum Expected {
    Nothing,
    Frequency(Frequency),
}

impl FromStr for Expected {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        match text {
            "none" => Ok(Self::Nothing),
            _ => text.parse().map(Self::Frequency),
        }
    }
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Figure")]
struct LookArgs {
    /// Draw what speaks for the fundamental at one instant instead: 1.2s
    #[arg(long, value_name = "TIME", requires = "figure")]
    evidence: Option<Seconds>,
    /// Draw the track without the spectrogram behind it
    #[arg(long, requires = "figure")]
    alone: bool,
    /// Colours of the spectrogram: ember, lagoon, or grey for print
    #[arg(long, value_name = "MAP", default_value = "ember")]
    colours: ColourMap,
}

/// What was measured of a part.
pub(crate) struct Found {
    settings: PitchSettings,
    pitch: Measured,
}

type Made<'a> = measure::Made<'a, Found>;

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    range_hz: (f64, f64),
    hop_s: f64,
    expected_hz: Option<f64>,
    reference_hz: f64,
}

impl Measure for Pitch {
    const KIND: &'static str = "pitch";
    type Found = Found;

    fn common(&self) -> Common<'_> {
        Common::of(&self.takes, &self.limits, &self.figure, &self.output)
    }

    fn measure(&self, part: &Part<'_>, quiet: bool) -> Result<(Found, Vec<Finding>)> {
        let rate = part.rate_hz();
        let settings = self.pitch_settings(part)?;
        let mut tracker = PitchTracker::new(settings, rate, part.start_s())?;
        let mut meter = part.take().level_meter(part.span);
        let mut findings = part.take().findings.clone();
        findings.extend(part.read_in_two(
            "pitch",
            quiet,
            |samples| tracker.push(samples),
            |samples| meter.push(samples),
        )?);
        findings.extend(meter.finish().findings(&part.channel_name()));
        let pitch = tracker.finish();
        let cut = self.search.range.and_then(|range| range.cut(settings.reference_hz, rate));
        findings.extend(cut);
        findings.extend(pitch.findings());
        Ok((Found { settings, pitch }, findings))
    }

    fn settings(&self, made: &Made<'_>) -> impl Serialize {
        let Found { settings, pitch } = &made.found;
        Settings {
            range_hz: settings.range_hz,
            hop_s: pitch.hop_s,
            expected_hz: settings.expected_hz,
            reference_hz: settings.reference_hz,
        }
    }

    fn result(&self, made: &Made<'_>) -> impl Serialize {
        &made.found.pitch
    }

    fn quantities(&self, made: &Made<'_>) -> Vec<Quantity> {
        made.found.pitch.quantities()
    }

    fn text(&self, made: &[Made<'_>]) -> String {
        if self.steady {
            return made.iter().map(steady_line).collect();
        }
        measure::each(made, as_text)
    }

    fn csv(&self, made: &[Made<'_>]) -> Result<String> {
        let heads = row_heads(made);
        frame_table().csv(rows(made, &heads, |found| found.pitch.track.iter()))
    }

    fn draw(&self, made: &[Made<'_>]) -> Result<Figure> {
        match self.look.evidence {
            Some(time) => draw_evidence(&made[0], time.0, &self.figure),
            None => self.draw_track(&made[0]),
        }
    }

    fn section(&self, made: &Made<'_>) -> Result<ReportPart> {
        const MOST: usize = 1500;
        let voiced: Vec<(f64, f64)> = (made.found.pitch.track.iter())
            .filter_map(|point| Some((point.time_s, point.f0_hz?)))
            .collect();
        if voiced.len() < 3 {
            return Ok(ReportPart::default());
        }
        let step = voiced.len().div_ceil(MOST);
        let (x, y) = voiced.into_iter().step_by(step).unzip();
        let curves = [ChartCurve { name: "fundamental".into(), x, y }];
        let title = ("Fundamental, Hz", "Hz");
        let chart = course_chart("pitch", "Fundamental over time", &curves, title);
        Ok(ReportPart { charts: vec![chart], ..ReportPart::default() })
    }

    fn files(&self) -> Vec<SideFile<'_, Found>> {
        let midi = self.midi.as_ref().map(|file| SideFile {
            file,
            endings: &["mid", "midi"],
            kind: "notes are written as a MIDI file; name it FILE.mid",
            is_of_one: true,
            content: Box::new(|made: &[Made<'_>]| {
                let Found { settings, pitch } = &made[0].found;
                let notes = midi_notes(pitch, settings.reference_hz);
                Ok(midi_file(&notes, &made[0].part.title())?)
            }),
        });
        midi.into_iter().collect()
    }
}

impl Pitch {
    fn pitch_settings(&self, part: &Part<'_>) -> Result<PitchSettings> {
        let rate = part.rate_hz();
        let usual_hz = part.take().reference_hz();
        let reference_hz = args::reference_hz(self.search.reference, usual_hz)?;
        let (low, high) = match self.search.range {
            Some(range) => range.hz(reference_hz, rate)?,
            None => (DEFAULT_RANGE_HZ.0, DEFAULT_RANGE_HZ.1.min(0.4 * rate)),
        };
        Ok(PitchSettings {
            range_hz: (if low > 0.0 { low } else { DEFAULT_RANGE_HZ.0 }, high.min(0.4 * rate)),
            hop: self.search.hop,
            expected_hz: match self.search.expect {
                Some(Expected::Nothing) => None,
                Some(Expected::Frequency(frequency)) => Some(frequency.hz(reference_hz)),
                None => part.take().expected_note().map(|note| note.frequency_hz(reference_hz)),
            },
            reference_hz,
        })
    }

    /// The track over a spectrogram, or alone.
    fn draw_track(&self, made: &Made<'_>) -> Result<Figure> {
        let rate = made.part.rate_hz();
        let voiced = || made.found.pitch.track.iter().filter_map(|point| point.f0_hz);
        let (low, high) =
            voiced().fold((f64::INFINITY, 0.0f64), |(low, high), hz| (low.min(hz), high.max(hz)));
        let (low, high) = if high > 0.0 { (low, high) } else { (100.0, 1000.0) };
        let range_hz = if self.look.alone {
            // Two thirds of an octave at least.
            let reach = (high / low).sqrt().max(1.26) * 1.06;
            let middle = (low * high).sqrt();
            (middle / reach, middle * reach)
        } else {
            (0.7 * low, (8.0 * high).min(rate / 2.0))
        };
        let cells = if self.look.alone {
            None
        } else {
            Some(background(
                &made.part,
                range_hz,
                pitch_cells(self.figure.size),
                self.output.quiet,
            )?)
        };
        let title = made.part.title();
        let span_s = made.part.span_s();
        let background = cells.as_ref().map(|cells| {
            let (drawn, range_db) = drawn(cells, &title, &made.part, Marks::default());
            (drawn, range_db, self.look.colours)
        });
        let track = [drawn_track(&made.found.pitch)];
        let notes = [settings_line(made), made.part.span_line()];
        let figure = PitchFigure {
            background,
            marks: Marks {
                tracks: &track,
                tracks_name: "fundamental",
                on_paper: self.look.alone,
                ..Marks::default()
            },
            notes_found: &made.found.pitch.notes,
            span_s,
            range_hz,
            title: &title,
            notes: &notes,
            findings: &made.findings,
            reference_hz: made.found.settings.reference_hz,
        };
        Ok(pitch_figure(&figure, self.figure.size)?)
    }
}

/// What speaks for the fundamental at a time of the take.
fn draw_evidence(made: &Made<'_>, time_s: f64, args: &FigureArgs) -> Result<Figure> {
    const BESIDE_S: f64 = 0.5;
    let part = &made.part;
    let rate = part.rate_hz();
    let at = (time_s * rate).round() as u64;
    let beside = (BESIDE_S * rate) as u64;
    if !(part.span.start..part.span.end).contains(&at) {
        return Err(Error::Setting {
            setting: "the instant",
            given: format!("{time_s} s"),
            allowed: format!(
                "within the span, {:.3} s to {:.3} s",
                part.span_s().0,
                part.span_s().1
            ),
        }
        .into());
    }
    let near = SampleSpan {
        start: at.saturating_sub(beside).max(part.span.start),
        end: (at + beside).min(part.span.end),
    };
    let mut samples = Vec::new();
    part.read_near(near, &mut samples)?;
    let from_first = (at - near.start) as f64 / rate;
    let mut evidence = evidence(&samples, rate, from_first, &made.found.settings)?;
    evidence.calibrate(part.reference.full_scale_db());
    let title = format!("{} at {} s", part.title(), text::number(time_s, 3));
    let winner = evidence.readings.first().map_or("no fundamental".into(), |reading| {
        let [value, u] = text::measured(reading.f0_hz, reading.f0_hz_u, 4);
        format!("{value} ± {u} Hz")
    });
    let notes = [
        format!(
            "{winner}; a frame of {} ms under a Blackman window; of this instant alone, in a \
             track the frames \
             before and after count too",
            text::number(1e3 * evidence.frame_s, 1)
        ),
        part.span_line(),
    ];
    let figure = EvidenceFigure {
        evidence: &evidence,
        expected_hz: made.found.settings.expected_hz,
        level_unit: &part.level_unit(),
        title: &title,
        notes: &notes,
        reference_hz: made.found.settings.reference_hz,
    };
    Ok(evidence_figure(&figure, args.size)?)
}

/// The voiced stretches, frame by frame.
fn drawn_track(found: &Measured) -> DrawnTrack {
    let mut stretches: Vec<Vec<TrackPoint>> = Vec::new();
    let mut last: Option<f64> = None;
    for point in &found.track {
        let Some(f0_hz) = point.f0_hz else {
            last = None;
            continue;
        };
        // A leap is no line.
        let goes_on = last.is_some_and(|last| cents_between(last, f0_hz).abs() < 70.0);
        let drawn =
            TrackPoint { time_s: point.time_s, frequency_hz: f0_hz, confidence: point.confidence };
        match stretches.last_mut() {
            Some(stretch) if goes_on => stretch.push(drawn),
            _ => stretches.push(vec![drawn]),
        }
        last = Some(f0_hz);
    }
    DrawnTrack { stretches }
}

fn midi_notes(found: &Measured, reference_hz: f64) -> Vec<MidiNote> {
    let note = |note: &PitchNote| {
        let inside = |point: &&PitchPoint| (note.start_s..note.end_s).contains(&point.time_s);
        let in_tune = note.note.frequency_hz(reference_hz);
        let bend = |point: &PitchPoint| Some((point.time_s, cents_between(in_tune, point.f0_hz?)));
        MidiNote {
            start_s: note.start_s,
            end_s: note.end_s,
            number: note.midi.clamp(0, 127) as u8,
            velocity: 96,
            bends: found.track.iter().filter(inside).filter_map(bend).collect(),
        }
    };
    found.notes.iter().map(note).collect()
}

fn settings_line(made: &Made<'_>) -> String {
    let settings = &made.found.settings;
    let expected = settings.expected_hz.and_then(|hz| Note::nearest(hz, settings.reference_hz));
    let expected = expected.map_or(String::new(), |(note, _)| format!("; {note} expected"));
    let voiced = made.found.pitch.track.iter().filter(|point| point.voiced).count();
    format!(
        "fundamentals from {} Hz to {} Hz{expected}; {} frames every {} ms, {} voiced; A4 at {} Hz",
        text::number(settings.range_hz.0, 1),
        text::number(settings.range_hz.1, 0),
        text::grouped(made.found.pitch.track.len() as u64),
        text::number(1e3 * made.found.pitch.hop_s, 1),
        text::grouped(voiced as u64),
        text::number(settings.reference_hz, 1),
    )
}

/// Notes that are listed; JSON has them all.
const MOST_NOTES: usize = 60;

fn as_text(made: &Made<'_>) -> String {
    let notes = &made.found.pitch.notes;
    let head = made.row_head();
    let listed: Vec<Row<'_, PitchNote>> =
        notes.iter().take(MOST_NOTES).map(|item| Row { part: &head, item }).collect();
    let table = if listed.is_empty() { String::new() } else { note_table().text(&listed) };
    let more = match notes.len().saturating_sub(MOST_NOTES) {
        0 => String::new(),
        more => format!("  and {more} more notes; --format json has them all\n"),
    };
    format!(
        "{}\n  {}\n\n{table}{more}\n{}{}",
        made.part.title(),
        made.part.span_line(),
        text::sentence(&settings_line(made)),
        text::findings_below(&made.findings),
    )
}

fn note_table<'t>() -> Table<'t, Row<'t, PitchNote>> {
    let rivals = |note: &PitchNote| {
        let rivals = note.rivals.iter().filter(|rival| rival.confidence >= 0.005).map(|rival| {
            format!(
                "{} ({} %)",
                text::number(rival.f0_hz, 1),
                text::number(100.0 * rival.confidence, 0)
            )
        });
        rivals.collect::<Vec<_>>().join(", ")
    };
    let cents = |note: &PitchNote| pair(Some(note.cents), Some(note.cents_u));
    Table::new()
        .measured("", "start s", 3, |row: &Row<'t, PitchNote>| {
            pair(Some(row.item.start_s), row.item.start_s_u)
        })
        .number("", "end s", 2, |row| Some(row.item.end_s))
        .words("", "note", |row| row.item.note.to_string())
        .signed_measured("", "cents", 3, move |row| cents(row.item))
        .measured("", "f0 Hz", 4, |row| pair(Some(row.item.f0_hz), Some(row.item.f0_hz_u)))
        .signed("", "drift ¢/s", 1, |row| Some(row.item.drift_cents_per_s))
        .rank(3)
        .number("", "vibrato Hz", 2, |row| row.item.vibrato.vibrato_rate_hz)
        .rank(2)
        .number("", "± ¢", 1, |row| row.item.vibrato.vibrato_depth_cents)
        .rank(2)
        .number("", "jitter ¢", 2, |row| Some(row.item.jitter_cents))
        .rank(4)
        .number("", "confidence %", 0, |row| Some(100.0 * row.item.confidence))
        .words("", "alternatives Hz", move |row| rivals(row.item))
        .rank(1)
}

/// One line for one who tunes: the longest note.
fn steady_line(made: &Made<'_>) -> String {
    let length = |note: &&PitchNote| note.end_s - note.start_s;
    let longest = made.found.pitch.notes.iter().max_by(|a, b| length(a).total_cmp(&length(b)));
    let title = made.part.title();
    let Some(note) = longest else { return format!("{title}  no fundamental\n") };
    let [f0, f0_u] = text::measured(note.f0_hz, note.f0_hz_u, 4);
    let [cents, cents_u] = text::measured(note.cents, note.cents_u, 3);
    format!("{title}  {} {} ± {cents_u} cents  {f0} ± {f0_u} Hz\n", note.note, text::signed(cents))
}

fn frame_table<'t>() -> Table<'t, Row<'t, PitchPoint>> {
    Table::of_parts()
        .number("time_s", "", 0, |row: &Row<'t, PitchPoint>| Some(row.item.time_s))
        .measured("f0_hz", "", 0, |row| pair(row.item.f0_hz, row.item.f0_hz_u))
        .number("confidence", "", 0, |row| Some(row.item.confidence))
        .flag("voiced", |row| row.item.voiced)
}
