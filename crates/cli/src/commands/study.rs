//! `study`: takes, channels, calibration and conditions, kept together in a folder.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, anyhow, bail};
use clap::{Args, Subcommand};
use serde::Serialize;
use tonemap_core::spectrum::{Method, SpectrumSettings};
use tonemap_core::units::{Decibels, Frequency, Note, Sensitivity, Volts};
use tonemap_study::{Channel, Condition, FILE_NAME, Microphone, Pattern, Study as Content, Wanted};

use crate::args::{Format, OutputArgs, PartArgs, SourceArgs, SpanArgs};
use crate::files::{self, shown};
use crate::json;
use crate::look::look_at;
use crate::output;
use crate::passes::spectrum_of;
use crate::record::TakeRecord;
use crate::status::{self, Status, Usage};
use crate::studies::{self, Named, OpenStudy};
use crate::table::Table;
use crate::take::Take;
use crate::text;

/// Largest share by which the frequency of a calibrator tone may differ from what was stated.
const CALIBRATOR_TOLERANCE: f64 = 0.03;

/// Keep takes, channels, calibration and conditions together in a folder
///
/// A study is a folder with a file study.toml, which may be edited by hand: comments and order
/// stay. In its folder, or with --study FOLDER, all commands find takes by name, or by condition
/// with --where cut=3.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Study {
    #[command(subcommand)]
    action: Action,
}

const EXAMPLES: &str = "Examples:
  tonemap study make bell --title 'The bell on the lathe'
      a new folder with a study.toml
  tonemap study add bell-cut*.wav --pattern 'bell-cut{cut}.wav' --note C5 --channels rim:near
      many takes, with the cut read from the file name
  tonemap study calibrate near --tone calibrator.wav --level 94dB --frequency 1kHz
      levels of this microphone in dB re 20 µPa from now on
  tonemap spectrum --where cut=3
      the take made after the third cut";

#[derive(Subcommand)]
enum Action {
    Make(Make),
    Add(Add),
    List(List),
    Check(Check),
    Calibrate(Calibrate),
}

/// Make a new study
#[derive(Args)]
struct Make {
    /// Folder, made if it is not there
    folder: PathBuf,
    /// Heading
    #[arg(long, default_value = "")]
    title: String,
}

/// Add takes that lie in the folder of the study
#[derive(Args)]
struct Add {
    /// Recordings
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    /// Read conditions from the file names: bell-cut{cut}.wav; a place {note} gives the note
    /// expected
    #[arg(long)]
    pattern: Option<Pattern>,
    /// A condition of all these takes: strings=both, distance=1.2m
    #[arg(long = "condition", value_name = "NAME=VALUE")]
    conditions: Vec<Wanted>,
    /// The channels by name, from the first, with the microphone behind a colon: rim:near,air:far
    #[arg(long, value_name = "NAME[:MICROPHONE],…", value_delimiter = ',')]
    channels: Vec<String>,
    /// The note expected: C#4 or Bb3
    #[arg(long)]
    note: Option<Note>,
    /// A name for takes that belong together
    #[arg(long)]
    group: Option<String>,
    #[command(flatten)]
    place: Place,
}

/// List the takes with their conditions, and what is wrong with them
#[derive(Args)]
struct List {
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    output: OutputArgs,
}

/// Check that every file is present and unchanged, that no recording occurs twice, and that all
/// share one sample rate
#[derive(Args)]
struct Check {
    #[command(flatten)]
    place: Place,
}

/// Calibrate a microphone with its line, from a calibrator tone or from its data sheet
#[derive(Args)]
struct Calibrate {
    /// Name of the microphone in the study
    microphone: String,
    /// Recording of a calibrator, or its name in the study
    #[arg(long, value_name = "TAKE", requires = "level", required_unless_present = "sensitivity")]
    tone: Option<PathBuf>,
    /// Level of the calibrator: 94dB
    #[arg(long, requires = "tone")]
    level: Option<Decibels>,
    /// Frequency of the calibrator
    #[arg(long, requires = "tone", default_value = "1kHz")]
    frequency: Frequency,
    #[command(flatten)]
    part: PartArgs,
    /// Sensitivity of the microphone: 12.5mV/Pa
    #[arg(long, requires = "full_scale_voltage", conflicts_with = "tone")]
    sensitivity: Option<Sensitivity>,
    /// Peak voltage at full scale: 4V
    #[arg(long, value_name = "VOLTAGE", requires = "sensitivity")]
    full_scale_voltage: Option<Volts>,
    #[command(flatten)]
    source: SourceArgs,
}

#[derive(Args)]
struct Place {
    /// Folder of the study [default: the current folder]
    #[arg(long, value_name = "FOLDER")]
    study: Option<PathBuf>,
}

impl Place {
    fn folder(&self) -> &Path {
        self.study.as_deref().unwrap_or(Path::new(""))
    }
}

impl Study {
    pub(crate) fn run(&self) -> Result<Status> {
        match &self.action {
            Action::Make(make) => make.run(),
            Action::Add(add) => add.run(),
            Action::List(list) => list.run(),
            Action::Check(check) => check.run(),
            Action::Calibrate(calibrate) => calibrate.run(),
        }
    }
}

impl Make {
    fn run(&self) -> Result<Status> {
        let folder = shown(&self.folder);
        std::fs::create_dir_all(&self.folder)
            .with_context(|| format!("{folder}: the folder could not be made"))?;
        let file = self.folder.join(FILE_NAME);
        files::create_own(&file, Content::new_text(&self.title).as_bytes())?;
        output::print(&format!(
            "  {} is made; put recordings into the folder, and add them with 'tonemap study add'\n",
            file.display()
        ))?;
        Ok(Status::Done)
    }
}

impl Add {
    fn run(&self) -> Result<Status> {
        let (mut added, mut status) = (0, Status::Done);
        let file = studies::edit(self.place.folder(), |open| {
            for file in &self.files {
                // One bad take does not stop the others.
                match self.add(open, file).with_context(|| shown(file)) {
                    Ok(()) => added += 1,
                    Err(error) => {
                        status::print_error(&error);
                        status = Status::CouldNot;
                    }
                }
            }
            Ok(open.file())
        })?;
        let takes = if added == 1 { "take" } else { "takes" };
        output::print(&format!("  {added} {takes} added to {}\n", shown(&file)))?;
        Ok(status)
    }

    fn add(&self, open: &mut OpenStudy, file: &Path) -> Result<()> {
        let whole = file
            .canonicalize()
            .map_err(|_| anyhow!("there is no such file; check the name and the folder"))?;
        let folder = if open.folder.as_os_str().is_empty() { Path::new(".") } else { &open.folder };
        let inside = whole
            .strip_prefix(folder.canonicalize()?)
            .map_err(|_| tonemap_study::Error::Outside { file: file.display().to_string() })?;
        // In study.toml folders are separated by a slash; what is no text cannot stand there.
        let folders: Option<Vec<&str>> =
            inside.components().map(|part| part.as_os_str().to_str()).collect();
        let place = folders.map(|parts| parts.join("/"));
        let place = place.filter(|place| !place.contains(char::is_control)).ok_or_else(|| {
            anyhow!("its name holds what is no text in UTF-8, or control characters; rename it")
        })?;
        files::check_regular(&whole)?;
        let named = Named { path: file.into(), entry: None };
        let take = Take::open(named, &SourceArgs::default())?;
        let file_name = inside.file_name().unwrap_or_default().to_string_lossy();
        let stem = inside.file_stem().unwrap_or_default().to_string_lossy();
        let mut conditions: HashMap<String, Condition> = HashMap::new();
        if let Some(pattern) = &self.pattern {
            let Some(read) = pattern.read(&file_name) else {
                bail!("the name does not match the pattern; add it without --pattern");
            };
            conditions.extend(read);
        }
        // A place named note gives the note, as --note does for all.
        let note = match conditions.remove("note") {
            Some(given) => Some(
                given
                    .to_string()
                    .parse::<Note>()
                    .map_err(|_| anyhow!("'{given}' in its name is no note, as C#4 or Bb3 are"))?
                    .to_string(),
            ),
            None => self.note.map(|note| note.to_string()),
        };
        let given = self.conditions.iter().cloned();
        conditions.extend(given.map(|condition| (condition.name, condition.value)));
        let channels: Vec<Channel> = self.channels.iter().map(|text| channel(text)).collect();
        if channels.len() > take.info.channels {
            bail!(
                "{} channels were named, but the take has {}",
                channels.len(),
                take.info.channels
            );
        }
        // A microphone that is named for the first time is listed, to be calibrated later.
        for name in channels.iter().filter_map(|channel| channel.microphone.as_ref()) {
            if !open.study.microphones.contains_key(name) {
                open.study.set_microphone(name, &Microphone::default())?;
            }
        }
        open.study.add(tonemap_study::Take {
            name: stem.into_owned(),
            file: place,
            blake3: Some(take.blake3()?),
            channels,
            note,
            group: self.group.clone(),
            conditions: conditions.into_iter().collect(),
        })?;
        Ok(())
    }
}

/// A channel as typed: its name, and its microphone behind a colon.
fn channel(text: &str) -> Channel {
    match text.split_once(':') {
        Some((name, microphone)) => {
            Channel { name: name.into(), microphone: Some(microphone.into()) }
        }
        None => Channel { name: text.into(), microphone: None },
    }
}

#[derive(Serialize)]
struct Settings {}

/// `result` in JSON.
#[derive(Serialize)]
struct Listed<'a> {
    #[serde(flatten)]
    row: Row,
    conditions: &'a std::collections::BTreeMap<String, Condition>,
}

/// A take in CSV, but for the conditions.
#[derive(Serialize)]
struct Row {
    name: String,
    file: String,
    note: Option<String>,
    group: Option<String>,
    duration_s: f64,
    sample_rate_hz: f64,
    channels: String,
}

impl List {
    fn run(&self) -> Result<Status> {
        output::begin(&self.output);
        let folder = self.source.study.clone().unwrap_or_default();
        let open = OpenStudy::open(&folder)?;
        let meets = |take: &&tonemap_study::Take| {
            self.source.conditions.iter().all(|wanted| take.meets(wanted))
        };
        let takes: Vec<&tonemap_study::Take> = open.study.takes.iter().filter(meets).collect();
        let mut conditions: Vec<&str> =
            takes.iter().flat_map(|take| take.conditions.keys().map(String::as_str)).collect();
        conditions.sort_unstable();
        conditions.dedup();
        let mut status = Status::Done;
        let mut listed = Vec::new();
        for take in takes {
            match self.row(&open, take) {
                Ok(one) => listed.push(one),
                Err(error) => {
                    status::print_error(&error);
                    status = Status::CouldNot;
                }
            }
        }
        let content = match self.output.format {
            Format::Json => {
                let line = |one: OneTake<'_>| {
                    let result = Listed { row: one.row, conditions: &one.take.conditions };
                    json::line("study", one.record, Settings {}, result, &one.findings)
                };
                listed.into_iter().map(line).collect::<Result<String>>()?
            }
            Format::Csv => take_csv(&conditions).csv(listed)?,
            Format::Text => as_text(&open, &conditions, &listed),
        };
        output::write_result(&self.output, &content)?;
        Ok(status)
    }

    fn row<'s>(&self, open: &OpenStudy, take: &'s tonemap_study::Take) -> Result<OneTake<'s>> {
        let mut opened = Take::open(open.named(take), &self.source)?;
        let whole = opened.whole(&SpanArgs::default())?;
        let record = whole.record()?;
        let span = whole.span;
        let (_, findings) = look_at(&opened, span, self.output.quiet, |_| ())?;
        let row = Row {
            name: take.name.clone(),
            file: take.file.clone(),
            note: take.note.clone(),
            group: take.group.clone(),
            duration_s: opened.duration_s(),
            sample_rate_hz: opened.info.sample_rate_hz,
            channels: opened.channel_names().join(" "),
        };
        Ok(OneTake { take, row, findings, record })
    }
}

/// A take of the study, as it is listed.
struct OneTake<'s> {
    take: &'s tonemap_study::Take,
    row: Row,
    findings: Vec<tonemap_core::Finding>,
    record: TakeRecord,
}

impl OneTake<'_> {
    /// Codes of its findings above *note*.
    fn codes(&self) -> Vec<&str> {
        let shown = self.findings.iter().filter(|one| one.severity > tonemap_core::Severity::Note);
        shown.map(|finding| finding.code.as_ref()).collect()
    }

    fn condition(&self, name: &str) -> Option<String> {
        self.take.conditions.get(name).map(ToString::to_string)
    }
}

fn take_table<'t>(conditions: &[&'t str]) -> Table<'t, OneTake<'t>> {
    let dash = |text: &Option<String>| text.clone().unwrap_or(text::UNKNOWN.into());
    let table = Table::new()
        .words("", "take\n", |one: &OneTake<'_>| one.row.name.clone())
        .words("", "note\n", move |one| dash(&one.row.note))
        .words("", "group\n", move |one| dash(&one.row.group))
        .rank(1)
        .number("", "duration\ns", 3, |one| Some(one.row.duration_s))
        .printed("rate\nHz", |one| text::rate(one.row.sample_rate_hz))
        .rank(3)
        .words("", "channels\n", |one| one.row.channels.clone())
        .rank(2);
    let table = conditions.iter().fold(table, |table, name| {
        let name = *name;
        let of = move |one: &OneTake<'_>| one.condition(name).unwrap_or(text::UNKNOWN.into());
        table.printed(format!("{name}\n"), of)
    });
    table.words("", "findings\n", |one| match one.codes() {
        none if none.is_empty() => "none".into(),
        codes => codes.join(", "),
    })
}

fn take_csv<'t>(conditions: &[&'t str]) -> Table<'t, OneTake<'t>> {
    let table = Table::new()
        .words("name", "", |one: &OneTake<'_>| one.row.name.clone())
        .words("file", "", |one| one.row.file.clone())
        .words("note", "", |one| one.row.note.clone().unwrap_or_default())
        .words("group", "", |one| one.row.group.clone().unwrap_or_default())
        .number("duration_s", "", 0, |one| Some(one.row.duration_s))
        .number("sample_rate_hz", "", 0, |one| Some(one.row.sample_rate_hz))
        .words("channels", "", |one| one.row.channels.clone());
    let table = conditions.iter().fold(table, |table, name| {
        let name = *name;
        let of = move |one: &OneTake<'_>| one.condition(name).unwrap_or_default();
        table.words(name, "", of)
    });
    table.words("findings", "", |one| one.codes().join(" "))
}

fn as_text(open: &OpenStudy, conditions: &[&str], listed: &[OneTake<'_>]) -> String {
    let study = &open.study;
    let title = if study.title.is_empty() { "untitled" } else { &study.title };
    let pitch = study.reference_pitch_hz;
    let microphones = study.microphones.iter().map(|(name, microphone)| {
        let level = match microphone.full_scale_level_db() {
            Some(level) => format!("full scale is {} dB re 20 µPa", text::number(level, 2)),
            None => "not calibrated".into(),
        };
        format!("  microphone {name}: {level}\n")
    });
    let head = format!(
        "{title}\n  A4 = {pitch} Hz, {} temperament\n{}",
        study.temperament,
        microphones.collect::<String>()
    );
    if listed.is_empty() {
        return head + "\n  no takes\n";
    }
    format!("{head}\n{}", take_table(conditions).text(listed))
}

impl Check {
    fn run(&self) -> Result<Status> {
        let open = OpenStudy::open(self.place.folder())?;
        let mut problems: Vec<String> = open.temperament_problem().into_iter().collect();
        let mut first_with: HashMap<String, String> = HashMap::new();
        let mut rates: Vec<(f64, String)> = Vec::new();
        for take in &open.study.takes {
            let name = &take.name;
            let file = open.folder.join(&take.file);
            if !file.exists() {
                problems.push(format!("{name}: the file {} is missing", shown(&file)));
                continue;
            }
            let hash = match files::hash_of(&file) {
                Ok(hash) => hash,
                Err(error) => {
                    problems.push(format!("{name}: {} cannot be read: {error}", shown(&file)));
                    continue;
                }
            };
            if take.blake3.as_ref().is_some_and(|added| *added != hash) {
                problems.push(format!("{name}: the file has changed since it was added"));
            }
            if let Some(other) = first_with.insert(hash, name.clone()) {
                problems.push(format!("{name}: the same recording as {other}"));
            }
            match Take::open(open.named(take), &SourceArgs::default()) {
                Ok(opened) => {
                    rates.push((opened.info.sample_rate_hz, name.clone()));
                    let doubts = opened.doubts().into_iter();
                    problems.extend(doubts.map(|doubt| format!("{name}: {}", doubt.text)));
                }
                Err(error) => {
                    problems.push(format!("{name}: {}", status::causes(&error).join(": ")));
                }
            }
        }
        let status = if problems.is_empty() { Status::Done } else { Status::CouldNot };
        problems.extend(mixed_rates(&rates));
        let count = open.study.takes.len();
        let head = match (count, problems.is_empty()) {
            (1, true) => "  1 take: it is there and unchanged\n".into(),
            (_, true) => {
                format!(
                    "  {count} takes: all there, unchanged, different, and of one sample rate\n"
                )
            }
            _ => String::new(),
        };
        let lines: Vec<String> = problems.iter().map(|problem| format!("  {problem}\n")).collect();
        output::print(&(head + &lines.concat()))?;
        Ok(status)
    }
}

/// Told when takes differ in their sample rate.
fn mixed_rates(rates: &[(f64, String)]) -> Option<String> {
    let (first_hz, first) = rates.first()?;
    let (other_hz, other) = rates.iter().find(|(rate_hz, _)| rate_hz != first_hz)?;
    Some(format!(
        "mixed sample rates: {first} has {} Hz, {other} has {} Hz; takes that are compared sample \
         by \
         sample must share one",
        text::rate(*first_hz),
        text::rate(*other_hz)
    ))
}

impl Calibrate {
    fn run(&self) -> Result<Status> {
        let folder = self.source.study.clone().unwrap_or_default();
        let (known, said) = match (&self.tone, self.level) {
            (Some(tone), Some(Decibels(level_db))) => self.by_tone(tone, level_db)?,
            _ => self.by_data_sheet()?,
        };
        studies::edit(&folder, |open| Ok(open.study.set_microphone(&self.microphone, &known)?))?;
        output::print(&format!("  microphone {}: {said}\n", self.microphone))?;
        Ok(Status::Done)
    }

    fn by_data_sheet(&self) -> Result<(Microphone, String)> {
        let (Some(Sensitivity(sensitivity)), Some(Volts(volts))) =
            (self.sensitivity, self.full_scale_voltage)
        else {
            let reason = "give --tone with --level, or --sensitivity with --full-scale-voltage";
            return Err(Usage(reason.into()).into());
        };
        let known = Microphone {
            sensitivity_mv_per_pa: Some(sensitivity),
            full_scale_v: Some(volts),
            ..Microphone::default()
        };
        let level = known.full_scale_level_db();
        let known = Microphone {
            full_scale_db: level.map(four_decimals),
            calibrated: Some(format!("{sensitivity} mV/Pa, {volts} V peak at full scale")),
            ..known
        };
        let said = format!("a full-scale sine is {} dB re 20 µPa", text::known(level, 2));
        Ok((known, said))
    }

    fn by_tone(&self, tone: &PathBuf, level_db: f64) -> Result<(Microphone, String)> {
        let named = studies::find_take(Some(tone), &self.source)?;
        let mut take = Take::open(named, &self.source)?;
        let stated_hz = self.frequency.hz(take.reference_hz());
        let name = take.name();
        let part = take.part(&self.part)?;
        let (measured, _, _, findings) = spectrum_of(&part, &SpectrumSettings::default(), true, 0)?;
        if let Some(clipped) = findings.iter().find(|finding| finding.code == "clipped") {
            bail!("{name}: a calibrator tone must not clip. {}", clipped.text);
        }
        let is_near = |hz: f64| (hz / stated_hz - 1.0).abs() <= CALIBRATOR_TOLERANCE;
        let loudest = measured.peaks.iter().max_by(|a, b| a.level_db.total_cmp(&b.level_db));
        let Some(peak) = loudest else {
            bail!("{name}: there is no tone in it; record the calibrator again");
        };
        if !is_near(peak.frequency_hz) {
            bail!(
                "{name}: the loudest tone has {} Hz, not the stated {} Hz; state its frequency \
                 with \
                 --frequency, or record the calibrator alone",
                text::number(peak.frequency_hz, 1),
                text::number(stated_hz, 1)
            );
        }
        if peak.method != Method::Span {
            bail!(
                "{name}: the tone is not steady from beginning to end; take a span in which it is \
                 with --from and --to"
            );
        }
        let full_scale_db = four_decimals(level_db - peak.level_db);
        let place = part.channel_name();
        let known = Microphone {
            full_scale_db: Some(full_scale_db),
            calibrated: Some(format!("{level_db} dB at {stated_hz} Hz in {name}, channel {place}")),
            ..Microphone::default()
        };
        let [level, level_u] = text::measured(peak.level_db, peak.level_db_u, 4);
        let said = format!(
            "a full-scale sine is {} dB re 20 µPa\n  {name}, channel {place}: {} Hz at {level} ± \
             {level_u} dBFS is {} dB",
            text::number(full_scale_db, 3),
            text::number(peak.frequency_hz, 2),
            text::number(level_db, 2)
        );
        Ok((known, said))
    }
}

/// More decimals of a level mean nothing, and are no pleasure to read in a file.
fn four_decimals(db: f64) -> f64 {
    (db * 1e4).round() / 1e4
}
