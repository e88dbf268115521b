//! `room`: reverberation times, clarity and definition of a room.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::quantity::Quantities;
use tonemap_core::room::{
    Excitation, FreeField, RoomAcoustics, RoomBand, RoomSettings, RoomValues, mean_of, room,
};
use tonemap_core::synth::{Recipe, Voice};
use tonemap_core::units::{Frequency, FrequencyRange, Metres};
use tonemap_core::{Finding, Samples};
use tonemap_figures::{
    ChartCurve, Figure, ReportPart, RoomFigure, Words, bands_chart, course_chart, room_figure,
};

use crate::advice;
use crate::args::{
    Channel, ChannelList, FigureArgs, Format, OutputArgs, PartArgs, SourceArgs, SpanArgs,
};
use crate::json;
use crate::kept::{Present, Presented};
use crate::limits::LimitArgs;
use crate::output;
use crate::parts::{each_part, share_reference};
use crate::sides::{Side, open_all};
use crate::status::{Status, Usage};
use crate::studies;
use crate::table::{Row, RowHead, Table};
use crate::take::{Part, Take};
use crate::text;

/// Reverberation times, clarity, definition and centre time of a room, per band
///
/// From an impulse response, a burst, a recorded sweep (with --sweep) or noise that stops; which it is
/// is found by itself. Several takes, or channels with --channel, are positions in one room and are
/// averaged. Background noise is estimated and subtracted; how it is computed stands in docs/methods/room.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Room {
    /// Positions in the room: takes, each perhaps with a part of it behind: take@1, take@0.5..8
    #[arg(value_name = "TAKE", required = true)]
    takes: Vec<String>,
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    part: PartArgs,
    #[command(flatten)]
    how: HowArgs,
    #[command(flatten)]
    ratios: RatioArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap room balloon.wav --figure room.png
      a burst, or an impulse response
  tonemap room seat-1.wav seat-2.wav seat-3.wav --sweep 'from=20Hz to=20kHz length=10s'
      the sweep of a recipe, recorded at three seats; their mean and spread
  tonemap room seat.wav --sweep sweep.wav --fraction 3 --range 50Hz..5kHz
      the sweep as it was played, in thirds of an octave
  tonemap room green-room.wav --format json > green-room.json
  tonemap isolation --source wall@1,2 --receiver wall@3,4 --decay green-room.json
      reverberation times for sound insulation
  tonemap room seat.wav --sweep sweep.wav --lateral 2 --free-field yard.wav --free-field-distance 3m
      early lateral fraction from a figure-of-eight on channel 2, and strength
  tonemap room seat.wav --require 'mid_s<1.4'
      exit status 3 if the hall reverberates for longer";

#[derive(Args, Clone)]
#[command(next_help_heading = "Room")]
struct HowArgs {
    /// The sweep that was played: its file, or a recipe as `signal` has it, 'from=20Hz to=20kHz
    /// length=10s'
    #[arg(long, value_name = "FILE|RECIPE")]
    sweep: Option<String>,
    /// What excites the room, where it is not found by itself
    #[arg(long, value_enum, conflicts_with = "sweep")]
    excitation: Option<ExcitationArg>,
    /// Bands of 1/N octave
    #[arg(long, value_name = "N", default_value_t = 1)]
    fraction: u32,
    /// Lowest and highest band by their names
    #[arg(long, value_name = "LOW..HIGH", default_value = "63Hz..8kHz")]
    range: FrequencyRange,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Strength and lateral sound")]
struct RatioArgs {
    /// Channel of a microphone with a figure-of-eight pattern, its null towards the source: gives the
    /// early lateral fraction
    #[arg(long, value_name = "CHANNEL")]
    lateral: Option<String>,
    /// Take of the same source in a free field, at the same gain or calibrated: gives the strength G
    #[arg(long, value_name = "TAKE", requires = "free_field_distance")]
    free_field: Option<String>,
    /// Distance from source to microphone there: 3m
    #[arg(long, value_name = "DISTANCE", requires = "free_field")]
    free_field_distance: Option<Metres>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum ExcitationArg {
    /// An impulse response or a burst
    Impulse,
    /// Noise that stops
    Noise,
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings<'a> {
    sweep: Option<&'a str>,
    fraction: u32,
    range_hz: (f64, f64),
    lateral: Option<&'a str>,
    free_field: Option<&'a str>,
    free_field_distance_m: Option<f64>,
}

/// What is measured: positions, what was heard of the sides beside each, and the source alone.
#[derive(Default)]
struct Heard<'a> {
    parts: Vec<Part<'a>>,
    lateral: Vec<Part<'a>>,
    free_field: Vec<Part<'a>>,
}

/// A position that was measured.
struct Position<'a> {
    part: Part<'a>,
    found: RoomAcoustics,
    findings: Vec<Finding>,
}

/// All positions and their mean.
struct Made<'a> {
    positions: Vec<Position<'a>>,
    found: RoomAcoustics,
    range_hz: (f64, f64),
    findings: Vec<Finding>,
}

impl Present for Room {
    fn written(&self) -> (&OutputArgs, &LimitArgs) {
        (&self.output, &self.limits)
    }

    fn present(&self) -> Result<Presented> {
        output::check_outputs(&self.figure, &self.output)?;
        let mut members = open_all(&Side::read_all(&self.takes)?, &self.source)?;
        let mut heard = Heard::default();
        for member in &mut members {
            match &self.ratios.lateral {
                Some(channel) => {
                    let (part, lateral) = member.part_beside(&self.part, &channel.parse()?)?;
                    heard.parts.push(part);
                    heard.lateral.push(lateral);
                }
                None => heard.parts.extend(member.parts(&self.part)?),
            }
        }
        let free_field = Side::read_all(self.ratios.free_field.as_slice())?;
        let mut free_field = open_all(&free_field, &self.source)?;
        let of = PartArgs { span: SpanArgs::default(), channels: self.part.channels.clone() };
        for member in &mut free_field {
            heard.free_field.push(member.part(&of)?);
        }
        let mut status = Status::Done;
        let made = self.measure(heard, &mut status)?;
        output::print_notes(&self.output, &made.findings);
        let content = match self.output.format {
            Format::Text => as_text(&made),
            Format::Json => self.json(&made)?,
            Format::Csv => as_csv(&made)?,
        };
        if let Some(file) = &self.figure.figure {
            output::write_figure(file, &self.draw(&made)?, self.output.force)?;
        }
        let judged = vec![(title(&made), made.found.quantities())];
        let part = section(&made);
        Ok(Presented { content, judged, findings: made.findings, part, status })
    }
}

impl Room {
    fn measure<'a>(&self, mut heard: Heard<'a>, status: &mut Status) -> Result<Made<'a>> {
        let mixed = share_reference(heard.parts.iter_mut().chain(&mut heard.free_field));
        let free_field = match &heard.free_field[..] {
            [part, ..] => Some((self.free_field(part)?, part.reference.full_scale_db())),
            [] => None,
        };
        let (parts, lateral) = (heard.parts, heard.lateral);
        let wanted = parts.len();
        let quiet = self.output.quiet;
        let positions = each_part(parts, "room", quiet, status, |part| {
            let free_field = free_field.as_ref().map(|(free_field, full_scale_db)| {
                free_field.with_gain_db(part.reference.full_scale_db() - full_scale_db)
            });
            let settings = RoomSettings { free_field, ..self.settings(part.rate_hz())? };
            let (samples, meter, mut findings) = part.spooled(quiet, |_| ())?;
            findings.extend(meter.finish().findings(&part.channel_name()));
            let is_beside =
                |of: &&Part<'_>| (of.take().path(), of.span) == (part.take().path(), part.span);
            let lateral = lateral.iter().find(is_beside).map(|of| of.spooled(quiet, |_| ()));
            let lateral = lateral.transpose()?.map(|(samples, ..)| samples);
            let lateral = lateral.as_ref().map(|of| of as &dyn Samples);
            let found = room(&samples, lateral, part.rate_hz(), &settings)?;
            findings.extend(found.findings.iter().cloned());
            let findings = part.named_findings(&advice::worded(findings), wanted > 1);
            Ok(Position { part, found, findings })
        })?;
        if positions.len() < wanted {
            bail!("a position could not be measured, and the mean would not be what was asked for");
        }
        let found = mean_of(positions.iter().map(|one| one.found.clone()).collect());
        let found = found.context("no take is named")?;
        let findings = positions.iter().flat_map(|one| &one.findings).cloned();
        let findings = mixed.into_iter().chain(findings).collect();
        Ok(Made { positions, found, range_hz: self.range_hz(), findings })
    }

    fn range_hz(&self) -> (f64, f64) {
        let hz = |end: Option<Frequency>, usual: f64| end.map_or(usual, |hz| hz.hz(440.0));
        (hz(self.how.range.low, 63.0), hz(self.how.range.high, 8000.0))
    }

    fn settings(&self, rate_hz: f64) -> Result<RoomSettings> {
        Ok(RoomSettings {
            fraction: self.how.fraction,
            range_hz: self.range_hz(),
            excitation: self.how.excitation.map(|arg| match arg {
                ExcitationArg::Impulse => Excitation::Impulse,
                ExcitationArg::Noise => Excitation::InterruptedNoise,
            }),
            sweep: self.how.sweep.as_deref().map(|of| sweep(of, rate_hz)).transpose()?,
            free_field: None,
        })
    }

    /// What the source has in a free field.
    fn free_field(&self, part: &Part<'_>) -> Result<FreeField> {
        let settings = self.settings(part.rate_hz())?;
        let distance_m = self.ratios.free_field_distance.map_or(0.0, |m| m.0);
        let (samples, ..) = part.spooled(self.output.quiet, |_| ())?;
        let found = FreeField::measure(&samples, part.rate_hz(), &settings, distance_m)?;
        found.with_context(|| format!("{}: no direct sound of the source", part.title()))
    }

    fn json(&self, made: &Made<'_>) -> Result<String> {
        let settings = Settings {
            sweep: self.how.sweep.as_deref(),
            fraction: self.how.fraction,
            range_hz: made.range_hz,
            lateral: self.ratios.lateral.as_deref(),
            free_field: self.ratios.free_field.as_deref(),
            free_field_distance_m: self.ratios.free_field_distance.map(|m| m.0),
        };
        let records = made.positions.iter().map(|one| one.part.record());
        let records = records.collect::<Result<Vec<_>>>()?;
        json::line_of_takes("room", records, settings, &made.found, &made.findings)
    }

    fn draw(&self, made: &Made<'_>) -> Result<Figure> {
        let title = title(made);
        let notes = [what_line(made), mid_line(&made.found)];
        let positions: Vec<&RoomAcoustics> = made.positions.iter().map(|one| &one.found).collect();
        let figure = RoomFigure {
            found: &made.found,
            positions: &positions,
            words: Words { title: &title, notes: &notes, findings: &made.findings },
        };
        Ok(room_figure(&figure, self.figure.size)?)
    }
}

/// The samples of a sweep at a sample rate: those of its file, or of a recipe.
fn sweep(of: &str, rate_hz: f64) -> Result<Vec<f64>> {
    /// Of A4; a sweep between notes is none of a tuning.
    const REFERENCE_HZ: f64 = 440.0;
    const MOST_S: f64 = 600.0;
    if !of.contains('=') {
        return sweep_of_file(Path::new(of), rate_hz);
    }
    let line = if of.starts_with("sweep ") { of.to_string() } else { format!("sweep {of}") };
    let length = line.split_whitespace().find_map(|word| word.strip_prefix("length="));
    let Some(length) = length else {
        let reason = "a sweep has a length: --sweep 'from=20Hz to=20kHz length=10s'";
        return Err(Usage(reason.into()).into());
    };
    let duration_s = length.parse::<tonemap_core::units::Seconds>()?.0.min(MOST_S);
    let voice = Voice::from_line(&line, REFERENCE_HZ)?;
    let recipe = Recipe { voices: vec![voice], sample_rate_hz: rate_hz, duration_s, seed: 1 };
    let mut samples = vec![0.0; recipe.samples() as usize];
    let mut player = recipe.player()?;
    player.play(&mut samples)?;
    Ok(samples)
}

fn sweep_of_file(file: &Path, rate_hz: f64) -> Result<Vec<f64>> {
    let source = SourceArgs::default();
    let path = PathBuf::from(file);
    let mut take = Take::open(studies::find_take(Some(&path), &source)?, &source)?;
    let channels = vec![ChannelList(vec![Channel::Number(1)])];
    let part = take.part(&PartArgs { span: SpanArgs::default(), channels })?;
    if part.rate_hz() != rate_hz {
        bail!(
            "{}: the sweep has {} samples per second and its recording {}; export one of them again",
            file.display(),
            text::rate(part.rate_hz()),
            text::rate(rate_hz)
        );
    }
    let (samples, ..) = part.spooled(true, |_| ())?;
    let mut all = vec![0.0; tonemap_core::Samples::count(&samples)];
    tonemap_core::Samples::read(&samples, 0, &mut all)?;
    Ok(all.into_iter().map(f64::from).collect())
}

fn title(made: &Made<'_>) -> String {
    match &made.positions[..] {
        [one] => one.part.title(),
        several => format!("Mean of {} positions", several.len()),
    }
}

/// What was measured, in words.
fn what_line(made: &Made<'_>) -> String {
    let found = &made.found;
    let s = |s: f64| text::number(s, 3);
    let lasts =
        found.lasts_s.map_or(String::new(), |lasts_s| format!(", followed for {} s", s(lasts_s)));
    let starts = found.starts_s.map_or(String::new(), |at_s| format!(" at {} s", s(at_s)));
    let what = match (found.excitation, found.decays) {
        (_, 0) => "nothing to measure".into(),
        (Excitation::Impulse, _) => format!("impulse response{starts}{lasts}"),
        (Excitation::Sweep, _) => {
            let distortion = found
                .distortion_db
                .map_or(String::new(), |db| format!(", harmonics {} dB", text::number(db, 0)));
            format!("impulse response from a sweep{lasts}{distortion}")
        }
        (Excitation::InterruptedNoise, 1) => format!("noise that stops{starts}{lasts}"),
        (Excitation::InterruptedNoise, count) => format!("noise that stops, {count} decays{lasts}"),
    };
    let bands = match found.fraction {
        1 => "octave bands".into(),
        3 => "third-octave bands".into(),
        n => format!("bands of 1/{n} octave"),
    };
    format!("{what}; {bands}")
}

/// The means over octaves, in words.
fn mid_line(found: &RoomAcoustics) -> String {
    let mut words = match found.mid_s {
        Some(mid) => {
            let [value, u] = text::measured(mid.value, mid.u, 3);
            format!("Tmid (500 Hz and 1 kHz) {value} ± {u} s")
        }
        None => "Tmid (500 Hz and 1 kHz) is not known".into(),
    };
    if let Some(db) = found.strength_db {
        let _ = write!(words, "; G (500 Hz and 1 kHz) {} dB", text::signed(text::number(db, 1)));
    }
    if let Some(share) = found.lateral_fraction {
        let _ = write!(words, "; JLF (125 Hz to 1 kHz) {}", text::number(share, 2));
    }
    words
}

fn as_text(made: &Made<'_>) -> String {
    let found = &made.found;
    let mut head = format!("{}\n", title(made));
    if made.positions.len() > 1 {
        let named: Vec<String> = made.positions.iter().map(|one| one.part.title()).collect();
        head.push_str(&text::sentence(&named.join("; ")));
    }
    let mut parts =
        vec![head + &text::sentence(&what_line(made)), text::sentence(&mid_line(found))];
    if found.decays > 0 {
        let rows = named_values(found);
        parts.push(table(&rows).text(&rows));
    }
    let findings = text::findings(&made.findings);
    parts.extend(Some(findings).filter(|findings| !findings.is_empty()));
    parts.join("\n")
}

type Named<'v> = (String, &'v RoomValues);

/// The bands by their names, and all together.
fn named_values(found: &RoomAcoustics) -> Vec<Named<'_>> {
    let bands = found.bands.iter();
    let mut rows: Vec<Named<'_>> = bands
        .map(|band| (text::hertz(band.band.nominal_hz(found.fraction)), &band.values))
        .collect();
    if found.excitation != Excitation::InterruptedNoise {
        rows.push(("all".into(), &found.broadband));
    }
    rows
}

fn table<'t>(rows: &[Named<'_>]) -> Table<'t, Named<'t>> {
    let has = |of: fn(&RoomValues) -> bool| rows.iter().any(|(_, values)| of(values));
    Table::new()
        .words("", "band, Hz", |(name, _): &Named<'_>| name.clone())
        .when(has(|of| of.edt_s.is_some()), |table| {
            table.number("", "EDT, s", 2, |(_, of): &Named<'_>| of.edt_s)
        })
        .measured("", "T20, s", 3, |(_, of)| of.t20_s)
        .measured("", "T30, s", 3, |(_, of)| of.t30_s)
        .when(has(|of| of.t30_spread_s.is_some()), |table| {
            table.number("", "spread", 3, |(_, of): &Named<'_>| of.t30_spread_s)
        })
        .when(has(|of| of.late_s.is_some()), |table| {
            table.measured("", "second slope, s", 2, |(_, of): &Named<'_>| of.late_s).number(
                "",
                "from, dB",
                0,
                |(_, of)| of.late_level_db,
            )
        })
        .when(has(|of| of.c80_db.is_some()), |table| {
            table
                .signed("", "C50, dB", 1, |(_, of): &Named<'_>| of.c50_db)
                .signed("", "C80, dB", 1, |(_, of)| of.c80_db)
                .number("", "D50", 2, |(_, of)| of.d50)
                .number("", "Ts, ms", 0, |(_, of)| of.ts_s.map(|s| 1e3 * s))
        })
        .when(has(|of| of.strength_db.is_some()), |table| {
            table.signed("", "G, dB", 1, |(_, of): &Named<'_>| of.strength_db)
        })
        .when(has(|of| of.lateral_fraction.is_some()), |table| {
            table.number("", "JLF", 2, |(_, of): &Named<'_>| of.lateral_fraction)
        })
        .number("", "INR, dB", 0, |(_, of)| of.inr_db)
}

/// What it has to say on a page.
fn section(made: &Made<'_>) -> ReportPart {
    let found = &made.found;
    let rows = named_values(found);
    let bands = |name: &str, of: fn(&RoomValues) -> Option<f64>| {
        let known = found.bands.iter().filter_map(|band| Some((band.center_hz, of(&band.values)?)));
        let (x, y) = known.unzip();
        ChartCurve { name: name.into(), x, y }
    };
    let times = [
        bands("EDT", |of| of.edt_s),
        bands("T20", |of| of.t20_s.map(|t| t.value)),
        bands("T30", |of| of.t30_s.map(|t| t.value)),
    ];
    let times: Vec<ChartCurve> = times.into_iter().filter(|curve| !curve.x.is_empty()).collect();
    let decays = found.bands.iter().map(|band| {
        let points = band.curve.time_s.iter().zip(&band.curve.level_db);
        let points: Vec<(&f64, &f64)> = points.take_while(|(_, db)| **db > -70.0).collect();
        let (x, y) = points.iter().step_by(points.len().div_ceil(200).max(1)).copied().unzip();
        let name = format!("{} Hz", text::hertz(band.center_hz));
        ChartCurve { name, x, y }
    });
    let decays: Vec<ChartCurve> = decays.filter(|curve| curve.x.len() > 2).collect();
    let seconds = ("Reverberation time, s", "s");
    let mut charts = vec![bands_chart("times", "Reverberation times in bands", &times, seconds)];
    if !decays.is_empty() {
        let caption = "Decay of each band: the level of what is still to come";
        charts.push(course_chart("decays", caption, &decays, ("Level, dB", "dB")));
    }
    let mut facts = vec![("Measured from".to_string(), what_line(made))];
    facts.extend(text::fact("Tmid, 500 Hz and 1 kHz", found.mid_s, 3, "s"));
    ReportPart {
        facts,
        charts: if times.is_empty() { Vec::new() } else { charts },
        tables: vec![table(&rows).page("Room acoustics in bands", &rows)],
        headline: text::headline(
            found.mid_s,
            3,
            "s",
            format!("Reverberation time at 500 Hz and 1 kHz, {}", title(made)),
        ),
    }
}

fn as_csv(made: &Made<'_>) -> Result<String> {
    let head = RowHead {
        take: title(made),
        channel: match &made.positions[..] {
            [one] => one.part.channel_name(),
            _ => String::new(),
        },
        level_reference: "",
    };
    let rows = made.found.bands.iter().map(|item| Row { part: &head, item });
    Table::of_parts()
        .fields(&RoomBand::FIELDS, &[], |band: &RoomBand| band)
        .fields(&RoomValues::FIELDS, &[], |band: &RoomBand| &band.values)
        .csv(rows)
}
