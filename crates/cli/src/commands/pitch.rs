//! `pitch`: the fundamental over time, its notes, and what speaks for them.

use std::path::PathBuf;
use std::str::FromStr;

use anyhow::Result;
use clap::Args;
use serde::Serialize;
use tonemap_core::pitch::{
    DEFAULT_RANGE_HZ, Pitch as Found, PitchNote, PitchPoint, PitchSettings, PitchTracker, evidence,
};
use tonemap_core::spectrogram::Spectrogram as Cells;
use tonemap_core::units::{Extent, Frequency, FrequencyRange, Note, Seconds, cents_between};
use tonemap_core::{Error, Finding, SampleSpan};
use tonemap_figures::{
    ColourMap, DrawnSpectrogram, DrawnTrack, EvidenceFigure, Figure, Marks, PitchFigure,
    TrackPoint, evidence_figure, pitch_cells, pitch_figure,
};
use tonemap_media::{MidiNote, midi_file};

use super::spectrogram::background;
use crate::args::{self, FigureArgs, Format, OutputArgs, TakesArgs};
use crate::files::{self, Content};
use crate::output::{self, Status, Usage};
use crate::take::{self, Part};
use crate::text;

/// The fundamental over time, its notes, and the readings they beat
///
/// Each frame is read as a harmonic series, whichever partial is the strongest and whether or not the
/// first is there; the path through all frames then weighs continuity. Low notes get long frames, high
/// ones short. What was beaten, and by how much, stands beside each note; --evidence shows one instant.
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
    output: OutputArgs,
    /// Print only the longest note of each take: its name and cents, with their uncertainty
    #[arg(long, help_heading = "Output", conflicts_with = "format")]
    steady: bool,
    /// Write the notes as a MIDI file, with their course as pitch bend: FILE.mid
    #[arg(long, value_name = "FILE", help_heading = "Output")]
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
    /// The note expected, which wins where two readings are nearly even; none to leave out that of the
    /// study [default: that of the study]
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

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    range_hz: (f64, f64),
    hop_s: f64,
    expected_hz: Option<f64>,
    reference_hz: f64,
}

/// `result` in JSON.
#[derive(Serialize)]
struct PitchResult<'a> {
    hop_s: f64,
    notes: &'a [PitchNote],
    track: &'a [PitchPoint],
}

/// A row of CSV: one frame.
#[derive(Serialize)]
struct FrameRow<'a> {
    take: &'a str,
    channel: &'a str,
    time_s: f64,
    f0_hz: Option<f64>,
    f0_hz_u: Option<f64>,
    confidence: f64,
    voiced: bool,
}

/// What was made of one channel of one take.
struct Made<'a> {
    part: Part<'a>,
    settings: PitchSettings,
    found: Found,
    findings: Vec<Finding>,
}

impl Pitch {
    pub(crate) fn run(&self) -> Result<Status> {
        output::start_log(&self.output);
        output::check_outputs(&self.figure, &self.output)?;
        if let Some(file) = &self.midi {
            let reason = "notes are written as a MIDI file; name it FILE.mid";
            output::check_ending(file, &["mid", "midi"], reason)?;
            files::claim(file, Content::Result, self.output.force)?;
        }
        let (mut takes, mut status) = take::open_named(&self.takes)?;
        let parts = take::parts_of(&mut takes, &self.takes.part, &mut status)?;
        if parts.len() > 1 && (self.figure.figure.is_some() || self.midi.is_some()) {
            let reason = "a figure and a MIDI file show one channel of one take; give one, or leave them out";
            return Err(Usage(reason.into()).into());
        }
        let quiet = self.output.quiet;
        let quiet_each = quiet || parts.len() > 1;
        let made = take::each_part(parts, "pitch", quiet, &mut status, |part| {
            self.follow(part, quiet_each)
        })?;
        let [first, ..] = &made[..] else { return Ok(status) };
        for one in &made {
            output::print_notes(&self.output, &one.findings);
        }
        if let Some(file) = &self.figure.figure {
            let drawn = match self.look.evidence {
                Some(time) => draw_evidence(first, time.0, &self.figure)?,
                None => self.draw(first)?,
            };
            output::write_figure(file, &drawn, self.output.force)?;
        }
        if let Some(file) = &self.midi {
            let bytes = midi_file(
                &midi_notes(&first.found, first.settings.reference_hz),
                &first.part.title(),
            )?;
            files::write_whole(file, Content::Result, &bytes, self.output.force)?;
        }
        let content = match self.output.format {
            _ if self.steady => made.iter().map(steady_line).collect(),
            Format::Text => made.iter().map(as_text).collect::<Vec<_>>().join("\n"),
            Format::Json => made.iter().map(as_json).collect::<Result<String>>()?,
            Format::Csv => as_csv(&made)?,
        };
        output::write_result(&self.output, &content)?;
        Ok(status)
    }

    fn settings(&self, part: &Part<'_>) -> Result<PitchSettings> {
        let rate = part.take().info.sample_rate_hz;
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

    fn follow<'a>(&self, part: Part<'a>, quiet: bool) -> Result<Made<'a>> {
        let rate = part.take().info.sample_rate_hz;
        let settings = self.settings(&part)?;
        let start_s = part.span.start as f64 / rate;
        let mut tracker = PitchTracker::new(settings, rate, start_s)?;
        let mut meter = part.take().level_meter(part.span);
        let mut findings = part.take().findings.clone();
        findings.extend(part.read_in_two(
            "pitch",
            quiet,
            |samples| tracker.push(samples),
            |samples| meter.push(samples),
        )?);
        findings.extend(meter.finish().findings(&part.channel_name()));
        let found = tracker.finish();
        let cut = self.search.range.and_then(|range| range.cut(settings.reference_hz, rate));
        findings.extend(cut);
        findings.extend(found.findings());
        Ok(Made { part, settings, found, findings })
    }

    /// The track over a spectrogram, or alone.
    fn draw(&self, made: &Made<'_>) -> Result<Figure> {
        let reference = made.part.reference;
        let rate = made.part.take().info.sample_rate_hz;
        let span = made.part.span;
        let voiced = || made.found.track.iter().filter_map(|point| point.f0_hz);
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
        let span_s = (span.start as f64 / rate, span.end as f64 / rate);
        let range_db = cells.as_ref().and_then(Cells::usual_range_db).unwrap_or((-100.0, 0.0));
        let full_scale_db = reference.full_scale_db();
        let marks = Marks::default();
        let background = cells.as_ref().map(|cells| {
            let drawn = DrawnSpectrogram {
                name: &title,
                spectrogram: cells,
                span_s,
                reference,
                marks,
                slices: &[],
            };
            (drawn, (range_db.0 + full_scale_db, range_db.1 + full_scale_db), self.look.colours)
        });
        let track = [drawn_track(&made.found)];
        let notes = [settings_line(made), made.part.take().span_line(span)];
        let figure = PitchFigure {
            background,
            marks: Marks {
                tracks: &track,
                tracks_name: "fundamental",
                on_paper: self.look.alone,
                ..Marks::default()
            },
            notes_found: &made.found.notes,
            span_s,
            range_hz,
            title: &title,
            notes: &notes,
            findings: &made.findings,
            reference_hz: made.settings.reference_hz,
        };
        Ok(pitch_figure(&figure, self.figure.size)?)
    }
}

/// What speaks for the fundamental at a time of the take.
fn draw_evidence(made: &Made<'_>, time_s: f64, args: &FigureArgs) -> Result<Figure> {
    const BESIDE_S: f64 = 0.5;
    let part = &made.part;
    let rate = part.take().info.sample_rate_hz;
    let at = (time_s * rate).round() as u64;
    let beside = (BESIDE_S * rate) as u64;
    if !(part.span.start..part.span.end).contains(&at) {
        return Err(Error::Setting {
            setting: "the instant",
            given: format!("{time_s} s"),
            allowed: format!(
                "within the span, {:.3} s to {:.3} s",
                part.span.start as f64 / rate,
                part.span.end as f64 / rate
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
    let mut evidence = evidence(&samples, rate, from_first, &made.settings)?;
    evidence.calibrate(part.reference.full_scale_db());
    let title = format!("{} at {} s", part.title(), text::number(time_s, 3));
    let winner = evidence.readings.first().map_or("no fundamental".into(), |reading| {
        let [value, u] = text::measured(reading.f0_hz, reading.f0_hz_u, 4);
        format!("{value} ± {u} Hz")
    });
    let notes = [
        format!(
            "{winner}; a frame of {} ms under a Blackman window; of this instant alone, in a track the frames \
             before and after count too",
            text::number(1e3 * evidence.frame_s, 1)
        ),
        part.take().span_line(part.span),
    ];
    let figure = EvidenceFigure {
        evidence: &evidence,
        expected_hz: made.settings.expected_hz,
        level_unit: &format!("dB {}", part.reference.words()),
        title: &title,
        notes: &notes,
        reference_hz: made.settings.reference_hz,
    };
    Ok(evidence_figure(&figure, args.size)?)
}

/// The voiced stretches, frame by frame.
fn drawn_track(found: &Found) -> DrawnTrack {
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

fn midi_notes(found: &Found, reference_hz: f64) -> Vec<MidiNote> {
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
    let settings = &made.settings;
    let expected = settings.expected_hz.and_then(|hz| Note::nearest(hz, settings.reference_hz));
    let expected = expected.map_or(String::new(), |(note, _)| format!("; {note} expected"));
    let voiced = made.found.track.iter().filter(|point| point.voiced).count();
    format!(
        "fundamentals from {} Hz to {} Hz{expected}; {} frames every {} ms, {} voiced; A4 at {} Hz",
        text::number(settings.range_hz.0, 1),
        text::number(settings.range_hz.1, 0),
        text::grouped(made.found.track.len() as u64),
        text::number(1e3 * made.found.hop_s, 1),
        text::grouped(voiced as u64),
        text::number(settings.reference_hz, 1),
    )
}

/// Notes that are listed; JSON has them all.
const MOST_NOTES: usize = 60;

fn as_text(made: &Made<'_>) -> String {
    let notes = &made.found.notes;
    let table = if notes.is_empty() {
        "\n".into()
    } else {
        let titles = [
            "start s",
            "end s",
            "note",
            "cents",
            "± u",
            "f0 Hz",
            "± u",
            "drift ¢/s",
            "vibrato Hz",
            "± ¢",
            "jitter ¢",
            "sure %",
            "rivals Hz",
        ];
        let rows = notes.iter().take(MOST_NOTES).map(note_row).collect();
        format!("\n{}", text::table(&titles, &[2, 12], rows))
    };
    let more = match notes.len().saturating_sub(MOST_NOTES) {
        0 => String::new(),
        more => format!("  and {more} more notes; --format json has them all\n"),
    };
    let findings = match text::findings(&made.findings) {
        none if none.is_empty() => none,
        some => format!("\n{some}"),
    };
    format!(
        "{}\n  {}\n{table}{more}\n{}{findings}",
        made.part.title(),
        made.part.take().span_line(made.part.span),
        text::sentence(&settings_line(made)),
    )
}

fn note_row(note: &PitchNote) -> Vec<String> {
    let [f0, f0_u] = text::measured(note.f0_hz, note.f0_hz_u, 4);
    let [cents, cents_u] = text::measured(note.cents, note.cents_u, 3);
    let rivals = note.rivals.iter().filter(|rival| rival.confidence >= 0.005).map(|rival| {
        format!(
            "{} ({} %)",
            text::number(rival.f0_hz, 1),
            text::number(100.0 * rival.confidence, 0)
        )
    });
    vec![
        text::number(note.start_s, 2),
        text::number(note.end_s, 2),
        note.note.to_string(),
        text::signed(cents),
        cents_u,
        f0,
        f0_u,
        text::signed(text::number(note.drift_cents_per_s, 1)),
        text::known(note.vibrato.vibrato_rate_hz, 2),
        text::known(note.vibrato.vibrato_depth_cents, 1),
        text::number(note.jitter_cents, 2),
        text::number(100.0 * note.confidence, 0),
        rivals.collect::<Vec<_>>().join(", "),
    ]
}

/// One line for one who tunes: the longest note.
fn steady_line(made: &Made<'_>) -> String {
    let length = |note: &&PitchNote| note.end_s - note.start_s;
    let longest = made.found.notes.iter().max_by(|a, b| length(a).total_cmp(&length(b)));
    let title = made.part.title();
    let Some(note) = longest else { return format!("{title}  no fundamental\n") };
    let [f0, f0_u] = text::measured(note.f0_hz, note.f0_hz_u, 4);
    let [cents, cents_u] = text::measured(note.cents, note.cents_u, 3);
    format!("{title}  {} {} ± {cents_u} cents  {f0} ± {f0_u} Hz\n", note.note, text::signed(cents))
}

fn as_json(made: &Made<'_>) -> Result<String> {
    let settings = Settings {
        range_hz: made.settings.range_hz,
        hop_s: made.found.hop_s,
        expected_hz: made.settings.expected_hz,
        reference_hz: made.settings.reference_hz,
    };
    let result =
        PitchResult { hop_s: made.found.hop_s, notes: &made.found.notes, track: &made.found.track };
    let record = made.part.take().record(made.part.span, Some(made.part.channel_name()))?;
    output::json_line("pitch", record, settings, result, &made.findings)
}

fn as_csv(made: &[Made<'_>]) -> Result<String> {
    let names: Vec<_> =
        made.iter().map(|one| (one.part.take().name(), one.part.channel_name())).collect();
    output::csv_table(made.iter().zip(&names).flat_map(|(one, (take, channel))| {
        one.found.track.iter().map(move |point| FrameRow {
            take,
            channel,
            time_s: point.time_s,
            f0_hz: point.f0_hz,
            f0_hz_u: point.f0_hz_u,
            confidence: point.confidence,
            voiced: point.voiced,
        })
    }))
}
