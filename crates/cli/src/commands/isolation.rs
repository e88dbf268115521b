//! `isolation`: sound insulation between two rooms.

use std::path::{Path, PathBuf};
use std::str::FromStr;

use anyhow::{Context, Result};
use clap::Args;
use serde::Serialize;
use tonemap_core::bands::{BandSettings, Correction, Levels};
use tonemap_core::isolation::{
    BandIsolation, Decay, Isolation as Found, Positions, Rating, Room, isolation,
};
use tonemap_core::quantity::Quantities;
use tonemap_core::units::{
    CubicMetres, Frequency, FrequencyRange, LevelReference, Seconds, SquareMetres,
};
use tonemap_core::{Error, Finding};
use tonemap_figures::{
    ChartCurve, IsolationFigure, ReportPart, Words, bands_chart, isolation_figure,
};

use crate::advice;
use crate::args::{
    Channel, ChannelList, FigureArgs, Format, OutputArgs, PartArgs, SourceArgs, SpanArgs,
};
use crate::band_file;
use crate::json;
use crate::kept::{Present, Presented};
use crate::levels::levels_of;
use crate::limits::LimitArgs;
use crate::output;
use crate::parts::{each_part, share_reference};
use crate::sides::{Side, open_all};
use crate::status::{Status, Usage};
use crate::table::{Row, RowHead, Table};
use crate::take::Part;
use crate::text;

/// Sound insulation between rooms: levels per band, their difference, single-number rating
///
/// Levels at several positions in both rooms are averaged by energy; the background is subtracted
/// as ISO 16283-1 has it. With the reverberation time of the receiving room, and its volume and the
/// area of the wall, come the standardized level difference and the apparent sound reduction index;
/// the single numbers are those of ISO 717. How it is computed stands in docs/methods/levels.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Isolation {
    #[command(flatten)]
    rooms: RoomArgs,
    #[command(flatten)]
    receiving: ReceivingArgs,
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    span: SpanArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap isolation --source wall@hall-1,wall@hall-2 --receiver wall@green-1,wall@green-2
      level difference and its rating, from two positions in each room
  tonemap isolation --source wall@1,2 --receiver wall@3,4 --background wall-quiet@3,4 \\
      --decay 0.6s --volume 32m3 --area 11m2 --figure wall.png
      with the background and the receiving room: R'w (C; Ctr)
  tonemap isolation --impact --receiver tapping.wav --decay 0.6s --volume 32m3
      impact level of a tapping machine on the floor above
  tonemap isolation --source wall@1,2 --receiver wall@3,4 --require 'rating.value_db>=50'
      exit status 3 if the wall keeps back less than 50 dB";

/// Where was measured.
#[derive(Args, Clone)]
#[command(next_help_heading = "Rooms")]
struct RoomArgs {
    /// Positions in the source room: takes, or channels of takes, TAKE@1,TAKE@2 or TAKE@1,2; of a
    /// take without a channel all
    #[arg(
        long,
        value_name = "TAKE@CHANNEL",
        required_unless_present = "impact",
        conflicts_with = "impact"
    )]
    source: Vec<String>,
    /// Positions in the receiving room
    #[arg(long, value_name = "TAKE@CHANNEL", required = true)]
    receiver: Vec<String>,
    /// Positions in the receiving room while the source is silent
    #[arg(long, value_name = "TAKE@CHANNEL")]
    background: Vec<String>,
    /// The source is a tapping machine on the floor above: impact levels
    #[arg(long)]
    impact: bool,
}

/// The receiving room, and bands.
#[derive(Args, Clone)]
#[command(next_help_heading = "Receiving room and bands")]
struct ReceivingArgs {
    /// Reverberation time of the receiving room: 0.5s, or FILE.csv with the columns center_hz and
    /// t30_s, t20_s or decay_s, or a saved result whose bands have them, FILE.json
    #[arg(long, value_name = "TIME|FILE")]
    decay: Option<DecayArg>,
    /// Volume of the receiving room: 32m3
    #[arg(long, value_name = "VOLUME", requires = "decay")]
    volume: Option<CubicMetres>,
    /// Area of the wall between the rooms: 11m2
    #[arg(long, value_name = "AREA", requires = "volume", conflicts_with = "impact")]
    area: Option<SquareMetres>,
    /// Bands: 3 for thirds of an octave, 1 for octaves
    #[arg(long, value_name = "N", default_value = "3", value_parser = one_or_three)]
    fraction: u32,
    /// Lowest and highest band by their names
    #[arg(long, value_name = "RANGE", default_value = "50Hz..5kHz")]
    range: FrequencyRange,
}

fn one_or_three(text: &str) -> Result<u32, Error> {
    text.parse().ok().filter(|n| [1, 3].contains(n)).ok_or_else(|| Error::Unreadable {
        given: text.into(),
        wanted: "a share of an octave that insulation is rated in",
        forms: "3 for thirds or 1 for octaves",
    })
}

/// A reverberation time as typed.
#[derive(Debug, Clone)]
enum DecayArg {
    Time(f64),
    File(PathBuf),
}

impl FromStr for DecayArg {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        match text.parse::<Seconds>() {
            Ok(time) => Ok(Self::Time(time.0)),
            Err(_) if Path::new(text).extension().is_some() => Ok(Self::File(text.into())),
            Err(_) => Err(Error::Unreadable {
                given: text.into(),
                wanted: "a reverberation time or a file of them",
                forms: "0.5s, decay.csv or decay.json",
            }),
        }
    }
}

/// Positions as typed, each as the side of a comparison is: a take, its channel, a span.
fn positions(typed: &[String]) -> Result<Vec<Side>> {
    let mut words: Vec<String> = Vec::new();
    for typed in typed {
        if Path::new(typed).exists() {
            words.push(typed.clone());
            continue;
        }
        for piece in typed.split(',').map(str::trim) {
            let take = words.last().and_then(|last| Some(last.rsplit_once('@')?.0.to_string()));
            match (take, words.last_mut()) {
                // What follows a channel may be the span of it, or another channel.
                (Some(_), Some(last)) if piece.contains("..") && !piece.contains('@') => {
                    last.push(',');
                    last.push_str(piece);
                }
                (Some(take), _) if piece.parse::<usize>().is_ok() => {
                    words.push(format!("{take}@{piece}"));
                }
                _ => words.push(piece.into()),
            }
        }
    }
    words.iter().map(|words| Side::read(words)).collect()
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: &'static str,
    fraction: u32,
    range_hz: (f64, f64),
    impact: bool,
    source: Vec<String>,
    receiver: Vec<String>,
    background: Vec<String>,
    decay_s: Decay,
    volume_m3: Option<f64>,
    area_m2: Option<f64>,
}

/// A part with its levels.
struct Measured<'a> {
    part: Part<'a>,
    levels: Levels,
    findings: Vec<Finding>,
}

/// All that was measured.
struct Made<'a> {
    rooms: [Vec<Measured<'a>>; 3],
    found: Found,
    room: Room,
    range_hz: (f64, f64),
    reference: LevelReference,
    findings: Vec<Finding>,
}

impl Present for Isolation {
    fn written(&self) -> (&OutputArgs, &LimitArgs) {
        (&self.output, &self.limits)
    }

    fn present(&self) -> Result<Presented> {
        output::check_outputs(&self.figure, &self.output)?;
        if !self.source.conditions.is_empty() {
            let reason = "--where does not say in which room a take was made; name the positions \
                          with --source, --receiver and --background";
            return Err(Usage(reason.into()).into());
        }
        let room = self.room()?;
        let typed = [&self.rooms.source, &self.rooms.receiver, &self.rooms.background];
        let opened = |typed: &Vec<String>| open_all(&positions(typed)?, &self.source);
        let mut members = typed.into_iter().map(opened).collect::<Result<Vec<_>>>()?;
        let all =
            PartArgs { span: self.span.clone(), channels: vec![ChannelList(vec![Channel::All])] };
        let mut rooms: Vec<Vec<Part<'_>>> = Vec::new();
        for members in &mut members {
            let parts = members.iter_mut().map(|member| member.level_parts(&all));
            rooms.push(parts.collect::<Result<Vec<_>>>()?.into_iter().flatten().collect());
        }
        let made = self.measure(rooms, room)?;
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
        Ok(Presented { content, judged, findings: made.findings, part, status: Status::Done })
    }
}

impl Isolation {
    /// The receiving room as it is stated.
    fn room(&self) -> Result<Room> {
        let ReceivingArgs { decay, volume, area, .. } = &self.receiving;
        let decay = match decay {
            Some(DecayArg::Time(seconds)) => Decay::One(*seconds),
            Some(DecayArg::File(file)) => Decay::OfBands(read_decay(file)?),
            None => Decay::Unknown,
        };
        let (volume_m3, area_m2) = (volume.map(|v| v.0), area.map(|a| a.0));
        Ok(Room { decay, volume_m3, area_m2 })
    }

    fn measure<'a>(&self, mut rooms: Vec<Vec<Part<'a>>>, room: Room) -> Result<Made<'a>> {
        const MOST_TEXT: &str = "the source room and the receiving room must be calibrated alike";
        let hz = |end: Option<Frequency>, usual: f64| end.map_or(usual, |hz| hz.hz(440.0));
        let range = self.receiving.range;
        let range_hz = (hz(range.low, 50.0), hz(range.high, 5000.0));
        let settings =
            BandSettings { fraction: self.receiving.fraction, range_hz, ..BandSettings::default() };
        if let Some(mixed) = share_reference(rooms.iter_mut().flatten()) {
            return Err(Usage(format!("{MOST_TEXT}: {}", mixed.text)).into());
        }
        let counts: Vec<usize> = rooms.iter().map(Vec::len).collect();
        let parts: Vec<Part<'_>> = rooms.into_iter().flatten().collect();
        let reference = parts.first().context("no take is named")?.reference;
        let mut status = Status::Done;
        let wanted = parts.len();
        let measured = each_part(parts, "isolation", self.output.quiet, &mut status, |part| {
            let (levels, findings) = levels_of(&part, &settings, true)?;
            let findings = advice::worded(findings);
            Ok(Measured { findings: part.named_findings(&findings, true), part, levels })
        })?;
        if measured.len() < wanted {
            anyhow::bail!(
                "a position could not be measured, and the mean would not be what was asked for"
            );
        }
        let mut measured = measured.into_iter();
        let mut next =
            |n: usize| -> Vec<Measured<'a>> { measured.by_ref().take(counts[n]).collect() };
        let rooms = [next(0), next(1), next(2)];
        let levels = |n: usize| -> Vec<Levels> {
            rooms[n].iter().map(|one: &Measured<'_>| one.levels.clone()).collect()
        };
        let (source, receiver, background) = (levels(0), levels(1), levels(2));
        let positions = Positions { source: &source, receiver: &receiver, background: &background };
        let found = isolation(&positions, &room)?;
        // A level that drifts, or a band that one position lacks, is in the result of all.
        let is_of_take = |finding: &&Finding| {
            !["level_drifts", "bands_omitted", "short_for_time_weighting"].contains(&&*finding.code)
        };
        let mut findings: Vec<Finding> = rooms
            .iter()
            .flatten()
            .flat_map(|one| &one.findings)
            .filter(is_of_take)
            .cloned()
            .collect();
        // What is stated for all is said once.
        let mut is_said = false;
        findings.retain_mut(|finding| {
            let is_stated = finding.code == "assumed_calibration";
            if is_stated {
                (finding.take, finding.channel) = (None, None);
            }
            !is_stated || !std::mem::replace(&mut is_said, true)
        });
        if reference == LevelReference::FullScale {
            findings.push(Finding::warning(
                "not_calibrated",
                "The levels are re full scale: a difference of rooms is right only if all \
                 microphones and lines are equally sensitive. Calibrate them, or state it with \
                 --assume.",
            ));
        }
        findings.extend(advice::worded(found.findings.clone()));
        Ok(Made { rooms, found, room, range_hz, reference, findings })
    }

    fn json(&self, made: &Made<'_>) -> Result<String> {
        let titles = |n: usize| made.rooms[n].iter().map(|one| one.part.title()).collect();
        let settings = Settings {
            level_reference: made.reference.name(),
            fraction: self.receiving.fraction,
            range_hz: made.range_hz,
            impact: self.rooms.impact,
            source: titles(0),
            receiver: titles(1),
            background: titles(2),
            decay_s: made.room.decay.clone(),
            volume_m3: made.room.volume_m3,
            area_m2: made.room.area_m2,
        };
        let records = made.rooms.iter().flatten().map(|one| one.part.record());
        let records = records.collect::<Result<Vec<_>>>()?;
        json::line_of_takes("isolation", records, settings, &made.found, &made.findings)
    }

    fn draw(&self, made: &Made<'_>) -> Result<tonemap_figures::Figure> {
        let title = match &made.found.rating {
            Some(rating) => format!("{}: {}", title(made), rating_words(rating)),
            None => title(made),
        };
        let notes = [positions_line(made), settings_line(made)];
        let figure = IsolationFigure {
            found: &made.found,
            reference: made.reference,
            words: Words { title: &title, notes: &notes, findings: &made.findings },
        };
        Ok(isolation_figure(&figure, self.figure.size)?)
    }
}

/// Names of reverberation times, the best first.
const TIMES: [&str; 3] = ["t30_s", "t20_s", "decay_s"];

/// Reverberation times over frequency from a table, or from the bands of a saved result.
fn read_decay(file: &Path) -> Result<Vec<(f64, f64)>> {
    let bands = band_file::read(file, &TIMES, "reverberation times")?.values;
    Ok(bands.into_iter().map(|(hz, seconds)| (hz, seconds.value)).collect())
}

fn title(made: &Made<'_>) -> String {
    if made.found.is_impact { "Impact sound".into() } else { "Sound insulation".into() }
}

/// What it has to say on a page.
fn section(made: &Made<'_>) -> ReportPart {
    let found = &made.found;
    let curve = |name: &str, of: &dyn Fn(&BandIsolation) -> Option<f64>| {
        let known = found.bands.iter().filter_map(|band| Some((band.center_hz, of(band)?)));
        let (x, y) = known.unzip();
        ChartCurve { name: name.into(), x, y }
    };
    let rated = |band: &BandIsolation| {
        let rated = band.normalized_db.or(band.standardized_db).or(band.difference_db);
        rated.map(|level| level.value)
    };
    let mut result =
        vec![curve(if found.is_impact { "impact level" } else { "insulation" }, &rated)];
    if let Some(rating) = &found.rating {
        let (x, y) = rating.curve.iter().copied().unzip();
        result.push(ChartCurve { name: "reference curve, shifted".into(), x, y });
    }
    let levels = [
        curve("source room", &|band| band.source_db),
        curve("receiving room", &|band| Some(band.receiver_db)),
        curve("background", &|band| band.background_db),
    ];
    let levels: Vec<ChartCurve> = levels.into_iter().filter(|c| !c.x.is_empty()).collect();
    let charts = vec![
        bands_chart("insulation", "What is rated, in bands", &result, ("Difference, dB", "dB")),
        bands_chart("levels", "Mean levels in both rooms", &levels, ("Level, dB", "dB")),
    ];
    let facts = found.rating.iter().map(|rating| ("Rating".to_string(), rating_words(rating)));
    let bands: Vec<&BandIsolation> = found.bands.iter().collect();
    let headline = found.rating.as_ref().and_then(|rating| {
        let u = rating.value_db_u.unwrap_or(f64::NAN);
        let value = tonemap_core::Measured::new(f64::from(rating.value_db), u);
        let text = format!("{}, {}", title(made), rating_words(rating));
        text::headline(Some(value), 1, "dB", text)
    });
    ReportPart {
        facts: facts.collect(),
        charts,
        tables: vec![band_table(made).page("Levels in bands, dB", &bands)],
        headline,
    }
}

/// A rating as the standards write it: R'w (C; Ctr) = 52 (−1; −5) dB.
fn rating_words(rating: &Rating) -> String {
    let signed = |db: i32| text::number(f64::from(db), 0);
    let terms: Vec<(&str, i32)> =
        [("C", rating.c_db), ("Ctr", rating.ctr_db), ("CI", rating.ci_db)]
            .into_iter()
            .filter_map(|(name, db)| Some((name, db?)))
            .collect();
    let names: Vec<&str> = terms.iter().map(|(name, _)| *name).collect();
    let values: Vec<String> = terms.iter().map(|(_, db)| signed(*db)).collect();
    format!(
        "{} ({}) = {} ({}) dB",
        rating.quantity,
        names.join("; "),
        rating.value_db,
        values.join("; ")
    )
}

/// What a rating rests on, in words.
fn rating_line(rating: &Rating) -> String {
    let u = rating.value_db_u.map_or(String::new(), |u| format!(", u {} dB", text::number(u, 1)));
    let deviations = text::number(rating.unfavourable_db, 1);
    format!("{}{u}; unfavourable deviations {deviations} dB", rating_words(rating))
}

/// The adaptation terms of a rating over wider ranges, in words.
fn wider_line(rating: &Rating) -> Option<String> {
    let wider = rating.wider;
    let known: Vec<String> = [
        ("C 50–3150", wider.c_50_3150_db),
        ("Ctr 50–3150", wider.ctr_50_3150_db),
        ("C 50–5000", wider.c_50_5000_db),
        ("Ctr 50–5000", wider.ctr_50_5000_db),
        ("C 100–5000", wider.c_100_5000_db),
        ("Ctr 100–5000", wider.ctr_100_5000_db),
        ("CI 50–2500", wider.ci_50_2500_db),
    ]
    .into_iter()
    .filter_map(|(name, db)| Some(format!("{name} {}", text::number(f64::from(db?), 0))))
    .collect();
    (!known.is_empty()).then(|| format!("{}: {}, in dB", rating.quantity, known.join(", ")))
}

/// The positions of each room, those of a take together.
fn positions_line(made: &Made<'_>) -> String {
    let of = |n: usize, room: &str| {
        let mut takes: Vec<(String, Vec<String>)> = Vec::new();
        for one in &made.rooms[n] {
            let (take, channel) = (one.part.take().name(), one.part.channel_name());
            match takes.last_mut().filter(|(last, _)| *last == take) {
                Some((_, channels)) => channels.push(channel),
                None => takes.push((take, vec![channel])),
            }
        }
        let named = takes.into_iter().map(|(take, channels)| match channels.len() {
            1 => format!("{take}, channel {}", channels[0]),
            _ => format!("{take}, channels {}", channels.join(", ")),
        });
        let named: Vec<String> = named.collect();
        (!named.is_empty()).then(|| format!("{room}: {}", named.join("; ")))
    };
    let rooms = [of(0, "source"), of(1, "receiver"), of(2, "background")];
    rooms.into_iter().flatten().collect::<Vec<_>>().join(" · ")
}

fn settings_line(made: &Made<'_>) -> String {
    let bands = if made.found.fraction == 1 { "octave bands" } else { "third-octave bands" };
    let mut parts = vec![format!("{bands}, levels in dB {}", made.reference.words())];
    parts.extend(match &made.room.decay {
        Decay::Unknown => None,
        Decay::One(seconds) => Some(format!("reverberation time {} s", text::number(*seconds, 2))),
        Decay::OfBands(_) => Some("reverberation time of each band".into()),
    });
    parts.extend(made.room.volume_m3.map(|m3| format!("volume {} m³", text::number(m3, 1))));
    parts.extend(made.room.area_m2.map(|m2| format!("area {} m²", text::number(m2, 1))));
    parts.join("; ")
}

fn as_text(made: &Made<'_>) -> String {
    let found = &made.found;
    let mut parts = vec![format!("{}\n", title(made)) + &text::sentence(&positions_line(made))];
    if found.ratings.is_empty() {
        let words = "no single number: it takes all bands from 100 Hz to 3150 Hz, or octaves from \
                     125 Hz to 2000 Hz";
        parts.push(text::sentence(words));
    } else {
        let lines = found.ratings.iter().map(|rating| text::sentence(&rating_line(rating)));
        let wider = found.ratings.first().and_then(wider_line);
        parts.push(lines.chain(wider.map(|line| text::sentence(&line))).collect());
    }
    let db = |db: Option<f64>| text::known(db, 1);
    let overall = &found.overall;
    let words = match overall.source_db {
        Some(_) => format!(
            "all bands together: source {}, receiver {}, difference {} dB",
            db(overall.source_db),
            db(overall.receiver_db),
            db(overall.difference_db)
        ),
        None => format!("all bands together: {} dB", db(overall.receiver_db)),
    };
    parts.push(text::sentence(&words));
    let rows: Vec<&BandIsolation> = found.bands.iter().collect();
    parts.push(band_table(made).text(&rows));
    parts.push(text::sentence(&settings_line(made)));
    let findings = text::findings(&made.findings);
    parts.extend(Some(findings).filter(|findings| !findings.is_empty()));
    parts.join("\n")
}

fn said_of(correction: Option<Correction>) -> &'static str {
    match correction {
        Some(Correction::Subtracted) => "subtracted",
        Some(Correction::Limited) => "limit",
        Some(Correction::None) | None => "",
    }
}

fn band_table<'t>(made: &Made<'_>) -> Table<'t, &'t BandIsolation> {
    let found = &made.found;
    let is_impact = found.is_impact;
    let has = |of: fn(&BandIsolation) -> bool| found.bands.iter().any(of);
    let (standardized, normalized) = if is_impact { ("L'nT", "L'n") } else { ("DnT", "R'") };
    Table::new()
        .printed("band, Hz", |band: &&BandIsolation| text::hertz(band.center_hz))
        .when(!is_impact, |table| {
            table.number("", "source", 1, |band: &&BandIsolation| band.source_db)
        })
        .number("", "receiver", 1, |band| Some(band.receiver_db))
        .when(has(|band| band.background_db.is_some()), |table| {
            table
                .number("", "background", 1, |band: &&BandIsolation| band.background_db)
                .number("", "without it", 1, |band| band.corrected_db.map(|level| level.value))
                .words("", " ", |band| said_of(band.correction).into())
        })
        .when(!is_impact, |table| {
            table.measured("", "difference", 1, |band: &&BandIsolation| band.difference_db)
        })
        .when(has(|band| band.standardized_db.is_some()), |table| {
            table.measured("", standardized, 1, |band: &&BandIsolation| band.standardized_db)
        })
        .when(has(|band| band.normalized_db.is_some()), |table| {
            table.measured("", normalized, 1, |band: &&BandIsolation| band.normalized_db)
        })
}

fn as_csv(made: &Made<'_>) -> Result<String> {
    let head = RowHead {
        take: title(made),
        channel: String::new(),
        level_reference: made.reference.name(),
    };
    let rows = made.found.bands.iter().map(|item| Row { part: &head, item });
    Table::new()
        .fields(&BandIsolation::FIELDS, &[], |band| band)
        .words("correction", "", |row: &Row<'_, BandIsolation>| match row.item.correction {
            Some(correction) => format!("{correction:?}").to_lowercase(),
            None => String::new(),
        })
        .level_reference()
        .csv(rows)
}
