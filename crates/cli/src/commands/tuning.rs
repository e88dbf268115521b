//! `tuning`: notes against a temperament, stretch and inharmonicity across the compass, beats of
//! intervals, bells against the ratios wanted.

use std::path::Path;
use std::str::FromStr;

use anyhow::{Context, Result};
use clap::{Args, ValueEnum};
use serde::{Deserialize, Serialize};
use tonemap_core::partials::{LONGEST_S, PartialsSettings, partials};
use tonemap_core::pitch::PitchSettings;
use tonemap_core::quantity::{Key, Quantities, Quantity, pair};
use tonemap_core::tuning::{
    BeatingPair, Interval, MAP_ROWS, SoundedNote, TEMPERAMENTS, TargetReading, Temperament,
    TunedNote, Tuning as Found, TuningSettings, against_targets, interval, map_row_hz, sounded_in,
    sounded_notes, spectrum_column, tuning,
};
use tonemap_core::units::{Frequency, Note};
use tonemap_core::{Error, Finding, Measured, SampleSpan};
use tonemap_figures::{
    ColourMap, CompassFigure, Figure, MapColumn, MapFigure, ReportPart, TargetSeries,
    TargetsFigure, Words, compass_figure, map_figure, targets_figure, trend_chart,
};

use crate::advice;
use crate::args::{self, FigureArgs, Format, OutputArgs, TakesArgs};
use crate::files;
use crate::fundamental::{FundamentalArgs, followed_pitch};
use crate::json;
use crate::kept::{Present, Presented};
use crate::limits::LimitArgs;
use crate::output;
use crate::parts::{self, share_reference};
use crate::record::TakeRecord;
use crate::status::{Status, Usage};
use crate::table::Table;
use crate::take::{NoteSamples, Part};
use crate::text;

/// Tuning of notes: cents, reference pitch, stretch, intervals
///
/// Each note against its tempered place; which note it is meant to be comes from the study, or is
/// recognised. For strings the inharmonicity across the compass, and the outliers. With --free,
/// bells and bars: their partials against the ratios wanted.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Tuning {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    fundamental: FundamentalArgs,
    #[command(flatten)]
    against: AgainstArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    look: LookArgs,
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap tuning --where group=compass --figure harp.png
      a harp, note by note, with its stretch and the stiffness of its strings
  tonemap tuning harp-*.wav --temperament werckmeister-iii --reference 415Hz
      against an old temperament
  tonemap tuning flute-scale.wav --reference fit
      a scale against the reference pitch that suits it best
  tonemap tuning harp-g3 harp-d4 --interval G3..D4
      a fifth: its cents, and how its partials beat
  tonemap tuning bell-cut*.wav --free --target 1,3
      a bell, cut after cut, against the ratio wanted
  tonemap tuning --where group=compass --require 'cents<3'
      exit status 3 if a string is further off than 3 cents";

#[derive(Args, Clone)]
#[command(next_help_heading = "Against what")]
struct AgainstArgs {
    /// Temperament: equal, pythagorean, just, quarter-comma-meantone, werckmeister-iii,
    /// kirnberger-iii, vallotti, young; or a file FILE.toml with name, root and twelve cents
    /// [default: that of the study, or equal]
    #[arg(long, value_name = "NAME")]
    temperament: Option<String>,
    /// The note that the temperament is built on
    #[arg(long, value_name = "NOTE", default_value = "C")]
    root: Root,
    /// Frequency of A4, or fit for the one that fits best [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Reference>,
    /// An interval between two of the notes, by their names or those of their takes: G3..D4
    #[arg(
        long = "interval",
        value_name = "LOW..HIGH",
        value_delimiter = ',',
        conflicts_with = "free"
    )]
    intervals: Vec<Pair>,
    /// With --free: ratios wanted of the partials: 1,2,2.4,3,4
    #[arg(long, value_name = "RATIO", value_delimiter = ',', requires = "free")]
    target: Vec<f64>,
    /// With --free: the partial that ratios refer to
    #[arg(long, value_name = "NUMBER", default_value_t = 1)]
    ratios_to: usize,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Figure")]
struct LookArgs {
    /// What is drawn: cents and inharmonicity across the compass, or the spectra of all notes
    /// beside each other
    #[arg(long, value_name = "VIEW", default_value = "compass", requires = "figure")]
    view: View,
    /// Colours of the spectra: ember, lagoon, or grey for print
    #[arg(long, value_name = "MAP", default_value = "ember")]
    colours: ColourMap,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum View {
    Compass,
    Spectra,
}

/// The root of a temperament, a note without its octave.
#[derive(Debug, Clone, Copy)]
struct Root(usize);

impl FromStr for Root {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let note = format!("{text}4").parse::<Note>();
        note.map(|note| Self(note.0.rem_euclid(12) as usize)).map_err(|_| Error::Unreadable {
            given: text.into(),
            wanted: "a note without its octave",
            forms: "C, F# or Bb",
        })
    }
}

/// A reference pitch as typed.
#[derive(Debug, Clone, Copy)]
enum Reference {
    Fit,
    Given(Frequency),
}

impl FromStr for Reference {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        match text {
            "fit" => Ok(Self::Fit),
            _ => text.parse().map(Self::Given),
        }
    }
}

/// Two notes as typed.
#[derive(Debug, Clone)]
struct Pair(String, String);

impl FromStr for Pair {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let both = text.split_once("..").map(|(a, b)| (a.trim(), b.trim()));
        match both {
            Some((a, b)) if !a.is_empty() && !b.is_empty() => Ok(Self(a.into(), b.into())),
            _ => Err(Error::Unreadable {
                given: text.into(),
                wanted: "an interval",
                forms: "G3..D4, or two takes, harp-g3..harp-d4",
            }),
        }
    }
}

/// A temperament of one's own, as a file has it.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct TemperamentFile {
    name: String,
    #[serde(default = "usual_root")]
    root: String,
    cents: Vec<f64>,
}

fn usual_root() -> String {
    "C".into()
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    free: bool,
    temperament: String,
    root: String,
    reference_hz: f64,
    fit_reference: bool,
    fundamental_hz: Option<(f64, f64)>,
    target: Vec<f64>,
    ratios_to: Option<usize>,
}

/// `result` in JSON for notes.
#[derive(Serialize)]
struct TuningResult<'a> {
    #[serde(flatten)]
    tuning: &'a Found,
    intervals: &'a [Interval],
}

/// `result` in JSON for bells and bars.
#[derive(Serialize)]
struct TargetsResult<'a> {
    ratios_to: usize,
    takes: &'a [&'a TakeTargets],
}

/// A bell against the ratios wanted.
#[derive(Serialize)]
struct TakeTargets {
    take: String,
    frequency_hz: f64,
    frequency_hz_u: f64,
    targets: Vec<TargetReading>,
}

/// What was made of one channel of one take.
struct Made<'a> {
    part: Part<'a>,
    notes: Vec<SoundedNote>,
    /// The spectrum of each note, if it is to be drawn.
    columns: Vec<Vec<f32>>,
    targets: Option<TakeTargets>,
    range_hz: (f64, f64),
    findings: Vec<Finding>,
}

impl Present for Tuning {
    fn written(&self) -> (&OutputArgs, &LimitArgs) {
        (&self.output, &self.limits)
    }

    fn present(&self) -> Result<Presented> {
        output::check_outputs(&self.figure, &self.output)?;
        if self.fundamental.free && self.against.target.is_empty() {
            let reason = "with --free partials are compared with the ratios wanted; give them \
                          with --target 1,2,3";
            return Err(Usage(reason.into()).into());
        }
        if let Some(wrong) = self.against.target.iter().find(|r| !(r.is_finite() && **r > 0.0)) {
            return Err(
                Usage(format!("a ratio wanted is {wrong}, but must be a positive number")).into()
            );
        }
        let (mut takes, mut status) = parts::open_named(&self.takes.takes, &self.takes.source)?;
        let of = |take| crate::take::Take::parts(take, &self.takes.part);
        let mut parts = parts::parts_of(&mut takes, of, &mut status)?;
        // The spectra of all notes share their colours.
        share_reference(&mut parts);
        let [first, ..] = &parts[..] else { return Ok(Presented::nothing(status)) };
        let settings = self.settings(first)?;
        let quiet = self.output.quiet;
        let made = parts::each_part(parts, "tuning", quiet, &mut status, |part| {
            self.measure(part, &settings)
        })?;
        if made.is_empty() {
            return Ok(Presented::nothing(status));
        }
        if self.fundamental.free {
            self.present_targets(&made, &settings, status)
        } else {
            self.present_notes(&made, &settings, status)
        }
    }
}

impl Tuning {
    /// What notes are measured against, the same for all takes: what the study of the first says
    /// unless it is given.
    fn settings(&self, first: &Part<'_>) -> Result<TuningSettings> {
        let usual_hz = first.take().reference_hz();
        let name = self.against.temperament.clone();
        let name = name.or_else(|| first.take().temperament()).unwrap_or_else(|| "equal".into());
        let is_file =
            Path::new(&name).extension().is_some_and(|ending| ending.eq_ignore_ascii_case("toml"));
        let temperament = if is_file {
            read_temperament(Path::new(&name))?
        } else {
            let named = Temperament::named(&name, self.against.root.0);
            let of_study = self.against.temperament.is_none();
            if of_study { named.context("the study")? } else { named? }
        };
        Ok(TuningSettings {
            temperament,
            reference_hz: match self.against.reference {
                Some(Reference::Given(frequency)) => args::reference_hz(Some(frequency), usual_hz)?,
                _ => usual_hz,
            },
            fit_reference: matches!(self.against.reference, Some(Reference::Fit)),
        })
    }

    fn measure<'a>(&self, part: Part<'a>, settings: &TuningSettings) -> Result<Made<'a>> {
        let rate = part.rate_hz();
        let partials_settings: PartialsSettings =
            self.fundamental.settings(&part, settings.reference_hz)?;
        let range_hz = partials_settings.pitch.range_hz;
        if part.lasts_s() > LONGEST_S && !self.fundamental.free {
            return self.measure_long(part, partials_settings.pitch);
        }
        let NoteSamples { samples, start_s, mut findings } = part.note_samples()?;
        if self.fundamental.free {
            let found = partials(&samples, rate, start_s, &partials_settings)?;
            findings.extend(advice::worded(found.findings.clone()));
            let to = self.against.ratios_to;
            let (base, targets) =
                against_targets(&found, to, &self.against.target).ok_or_else(|| {
                    Error::Setting {
                        setting: "the partial that ratios refer to",
                        given: to.to_string(),
                        allowed: "the number of one that was found".into(),
                    }
                })?;
            let targets = TakeTargets {
                take: part.title(),
                frequency_hz: base.value,
                frequency_hz_u: base.u,
                targets,
            };
            let columns = Vec::new();
            return Ok(Made {
                part,
                notes: Vec::new(),
                columns,
                targets: Some(targets),
                range_hz,
                findings,
            });
        }
        let expected = part.take().expected_note();
        let found =
            sounded_notes(&samples, rate, start_s, &partials_settings, &part.title(), expected)?;
        findings.extend(advice::worded(found.findings));
        let wants_map = self.figure.figure.is_some() && self.look.view == View::Spectra;
        let column = |note: &SoundedNote| spectrum_column(&samples, rate, note.start_s - start_s);
        let columns = if wants_map { found.notes.iter().map(column).collect() } else { Vec::new() };
        Ok(Made { part, notes: found.notes, columns, targets: None, range_hz, findings })
    }

    /// The notes of a part that is not held in memory as a whole, each by its fundamental.
    fn measure_long<'a>(&self, part: Part<'a>, pitch: PitchSettings) -> Result<Made<'a>> {
        /// A column of the map is made of no more.
        const COLUMN_S: f64 = 1.5;
        let (rate, range_hz) = (part.rate_hz(), pitch.range_hz);
        let mut findings = part.take().findings.clone();
        let followed = followed_pitch(&part, pitch, true)?;
        let expected = part.take().expected_note();
        let found = sounded_in(&followed, 0.0, &part.title(), expected)?;
        findings.extend(advice::worded(found.findings));
        let wants_map = self.figure.figure.is_some() && self.look.view == View::Spectra;
        let column = |note: &SoundedNote| {
            let start = (note.start_s * rate) as u64;
            let end = (start + (COLUMN_S * rate) as u64).min(part.span.end);
            let mut samples = Vec::new();
            part.read_near(SampleSpan { start, end }, &mut samples)?;
            Ok(spectrum_column(&samples, rate, 0.0))
        };
        let columns: Result<Vec<_>> =
            if wants_map { found.notes.iter().map(column).collect() } else { Ok(Vec::new()) };
        Ok(Made { part, notes: found.notes, columns: columns?, targets: None, range_hz, findings })
    }

    fn resolved(&self, made: &Made<'_>, settings: &TuningSettings, reference_hz: f64) -> Settings {
        let root = Note(60 + settings.temperament.root as i32).to_string();
        Settings {
            free: self.fundamental.free,
            temperament: settings.temperament.name.clone(),
            root: root.trim_end_matches(|c: char| c.is_ascii_digit()).into(),
            reference_hz,
            fit_reference: settings.fit_reference,
            fundamental_hz: (!self.fundamental.free).then_some(made.range_hz),
            target: self.against.target.clone(),
            ratios_to: self.fundamental.free.then_some(self.against.ratios_to),
        }
    }

    /// The result for notes, and the numbers that limits are compared with.
    fn present_notes(
        &self,
        made: &[Made<'_>],
        settings: &TuningSettings,
        status: Status,
    ) -> Result<Presented> {
        let mut notes: Vec<SoundedNote> =
            made.iter().flat_map(|one| one.notes.iter().cloned()).collect();
        // The notes of one take come as they are played, those of many from the lowest up.
        if made.len() > 1 {
            notes.sort_by(|a, b| a.f0_hz.value.total_cmp(&b.f0_hz.value));
        }
        let found = tuning(&notes, settings);
        let intervals: Vec<Interval> = self
            .against
            .intervals
            .iter()
            .map(|pair| interval_of(pair, &notes, &found))
            .collect::<Result<_>>()?;
        let mut findings = findings_of(made);
        findings.extend(found.findings.iter().cloned());
        output::print_notes(&self.output, &findings);
        if let Some(file) = &self.figure.figure {
            let drawn = match self.look.view {
                View::Compass => self.draw_compass(&found, settings, &findings)?,
                View::Spectra => self.draw_map(made, &found, &findings)?,
            };
            output::write_figure(file, &drawn, self.output.force)?;
        }
        let content = match self.output.format {
            Format::Text => notes_text(&found, &intervals, settings, &findings),
            Format::Json => {
                let result = TuningResult { tuning: &found, intervals: &intervals };
                let resolved = self.resolved(&made[0], settings, found.reference_hz);
                json::line_of_takes("tuning", records(made)?, resolved, result, &findings)?
            }
            Format::Csv => note_csv().csv(&found.notes)?,
        };
        // What is asked of a note is asked of every one, and the rest of the whole.
        let mut whole = found.quantities();
        whole.extend(intervals.quantities());
        let judged = |note: &TunedNote| {
            let own = TunedNote::FIELDS.iter().map(|field| {
                Quantity::new(Key::of(field.label.field), &field.label, field.value(note))
            });
            (format!("{} ({})", note.note, note.take), own.chain(whole.iter().cloned()).collect())
        };
        let judged = found.notes.iter().map(judged).collect();
        let part = section(&found, settings);
        Ok(Presented { content, judged, findings, part, status })
    }

    /// The same for bells and bars.
    fn present_targets(
        &self,
        made: &[Made<'_>],
        settings: &TuningSettings,
        status: Status,
    ) -> Result<Presented> {
        let takes: Vec<&TakeTargets> = made.iter().filter_map(|one| one.targets.as_ref()).collect();
        let findings = findings_of(made);
        output::print_notes(&self.output, &findings);
        if let Some(file) = &self.figure.figure {
            let drawn = self.draw_targets(&takes, &findings)?;
            output::write_figure(file, &drawn, self.output.force)?;
        }
        let content = match self.output.format {
            Format::Text => self.targets_text(&takes, &findings),
            Format::Json => {
                let result = TargetsResult { ratios_to: self.against.ratios_to, takes: &takes };
                let resolved = self.resolved(&made[0], settings, settings.reference_hz);
                json::line_of_takes("tuning", records(made)?, resolved, result, &findings)?
            }
            Format::Csv => {
                let rows = takes.iter().flat_map(|one| one.targets.iter().map(move |t| (*one, t)));
                target_csv().csv(rows)?
            }
        };
        let judged = |one: &TakeTargets, target: &TargetReading| {
            let own = TargetReading::FIELDS.iter().map(|field| {
                Quantity::new(Key::of(field.label.field), &field.label, field.value(target))
            });
            (format!("{}, ratio {}", one.take, target.target_ratio), own.collect())
        };
        let of_take = |one: &&TakeTargets| -> Vec<Judged> {
            one.targets.iter().map(|target| judged(one, target)).collect()
        };
        let judged = takes.iter().flat_map(of_take).collect();
        Ok(Presented { content, judged, findings, part: ReportPart::default(), status })
    }

    fn draw_compass(
        &self,
        found: &Found,
        settings: &TuningSettings,
        findings: &[Finding],
    ) -> Result<Figure> {
        let notes = [against_line(found, settings), stretch_line(found)];
        let words = Words { title: &title_of(found), notes: &notes, findings };
        let figure = CompassFigure { found, words };
        Ok(compass_figure(&figure, self.figure.size)?)
    }

    fn draw_map(&self, made: &[Made<'_>], found: &Found, findings: &[Finding]) -> Result<Figure> {
        let names = found.notes.iter().map(|note| (note.f0_hz, (note.midi, note.note.to_string())));
        let names: Vec<_> = names.collect();
        let named = |f0_hz: f64| {
            names.iter().find(|(known, _)| *known == f0_hz).map(|(_, name)| name.clone())
        };
        let mut columns = Vec::new();
        for one in made {
            let shift_db = one.part.reference.full_scale_db() as f32;
            for (note, column) in one.notes.iter().zip(&one.columns) {
                let (midi, name) = named(note.f0_hz.value).unwrap_or_default();
                let levels_db = column.iter().map(|db| db + shift_db).collect();
                columns.push(MapColumn { midi, name, f0_hz: note.f0_hz.value, levels_db });
            }
        }
        columns.sort_by(|a, b| a.f0_hz.total_cmp(&b.f0_hz));
        let notes =
            ["each column is a note: the mean power of 1.5 s from its onset, in frames of 370 ms"
                .to_string()];
        // Nothing of a note sounds far below the lowest.
        let lowest_hz = 0.6 * columns.first().map_or(20.0, |column| column.f0_hz);
        let first = (0..MAP_ROWS / 2).take_while(|row| map_row_hz(row + 1) < lowest_hz).count();
        for column in &mut columns {
            column.levels_db.drain(..first);
        }
        let figure = MapFigure {
            columns: &columns,
            row_hz: &(first..=MAP_ROWS).map(map_row_hz).collect::<Vec<_>>(),
            reference: made[0].part.reference,
            colours: self.look.colours,
            words: Words {
                title: &title_of(found).replacen("Tuning", "Spectra", 1),
                notes: &notes,
                findings,
            },
        };
        Ok(map_figure(&figure, self.figure.size)?)
    }

    fn draw_targets(&self, takes: &[&TakeTargets], findings: &[Finding]) -> Result<Figure> {
        let names: Vec<String> = takes.iter().map(|one| one.take.clone()).collect();
        let series: Vec<TargetSeries> = (0..self.against.target.len())
            .map(|n| TargetSeries {
                ratio: self.against.target[n],
                cents: takes
                    .iter()
                    .map(|one| one.targets[n].cents.zip(one.targets[n].cents_u))
                    .collect(),
            })
            .filter(|series| (series.ratio - 1.0).abs() > 1e-9)
            .collect();
        let notes = [format!(
            "ratios to partial {}; bars ± 2 u; a partial farther than three semitones from its \
             ratio is left out",
            self.against.ratios_to
        )];
        let figure = TargetsFigure {
            takes: &names,
            series: &series,
            words: Words { title: "Partials against the ratios wanted", notes: &notes, findings },
        };
        Ok(targets_figure(&figure, self.figure.size)?)
    }

    fn targets_text(&self, takes: &[&TakeTargets], findings: &[Finding]) -> String {
        let base = Table::new().words("", "take", |one: &&TakeTargets| one.take.clone()).measured(
            "",
            format!("partial {} Hz", self.against.ratios_to),
            4,
            |one| pair(Some(one.frequency_hz), Some(one.frequency_hz_u)),
        );
        // The ratio of the partial to itself says nothing.
        let wanted = self.against.target.iter().enumerate().filter(|(_, ratio)| **ratio != 1.0);
        let table = wanted.fold(base, |table, (n, ratio)| {
            table
                .number("", format!("ratio, {ratio} wanted"), 4, move |one: &&TakeTargets| {
                    one.targets[n].ratio
                })
                .signed_measured("", "off ¢", 2, move |one| {
                    pair(one.targets[n].cents, one.targets[n].cents_u)
                })
        });
        format!("{}{}", table.text(takes), text::findings_below(findings))
    }
}

/// A result with its name, to be compared with limits.
type Judged = (String, Vec<Quantity>);

fn note_csv<'t>() -> Table<'t, &'t TunedNote> {
    Table::new()
        .words("take", "", |note: &&TunedNote| note.take.clone())
        .number("start_s", "", 0, |note| Some(note.start_s))
        .words("note", "", |note| note.note.to_string())
        .whole("midi", |note| u64::try_from(note.midi).ok())
        .measured("f0_hz", "", 0, |note| pair(Some(note.f0_hz), Some(note.f0_hz_u)))
        .measured("cents", "", 0, |note| pair(Some(note.cents), Some(note.cents_u)))
        .number("cents_from_curve", "", 0, |note| note.cents_from_curve)
        .flag("is_apart", |note| note.is_apart)
        .measured("inharmonicity", "", 0, |note| pair(note.inharmonicity, note.inharmonicity_u))
        .flag("inharmonicity_is_apart", |note| note.inharmonicity_is_apart)
}

fn target_csv<'t>() -> Table<'t, (&'t TakeTargets, &'t TargetReading)> {
    Table::new()
        .words("take", "", |row: &(&TakeTargets, &TargetReading)| row.0.take.clone())
        .measured("base_frequency_hz", "", 0, |row| {
            pair(Some(row.0.frequency_hz), Some(row.0.frequency_hz_u))
        })
        .number("target_ratio", "", 0, |row| Some(row.1.target_ratio))
        .whole("partial", |row| row.1.partial.map(|number| number as u64))
        .number("frequency_hz", "", 0, |row| row.1.frequency_hz)
        .number("ratio", "", 0, |row| row.1.ratio)
        .measured("cents", "", 0, |row| pair(row.1.cents, row.1.cents_u))
}

fn read_temperament(file: &Path) -> Result<Temperament> {
    let name = || file.display().to_string();
    let text = files::read_named(file, files::MOST_TEXT_BYTES).with_context(|| {
        format!(
            "the temperament cannot be read; name one of {}, or a file that is there",
            TEMPERAMENTS.join(", ")
        )
    })?;
    let read: TemperamentFile = toml_edit::de::from_str(&text).map_err(|error| {
        Usage(format!(
            "{}: {}; a temperament has name = \"…\", root = \"C\" and cents = [0, …], twelve \
             numbers",
            name(),
            error.message()
        ))
    })?;
    let root: Root = read.root.parse().with_context(name)?;
    let count = read.cents.len();
    let cents: [f64; 12] = read.cents.try_into().map_err(|_| {
        Usage(format!(
            "{}: a temperament has twelve cents, from the root on, and here are {count}",
            name()
        ))
    })?;
    Temperament::of_cents(&read.name, root.0, cents).with_context(name)
}

fn records(made: &[Made<'_>]) -> Result<Vec<TakeRecord>> {
    made.iter().map(|one| one.part.record()).collect()
}

/// Findings of all takes, with the names of theirs where there are several; what each says of its
/// levels or length is a note beside the whole.
fn findings_of(made: &[Made<'_>]) -> Vec<Finding> {
    let several = made.len() > 1;
    made.iter().flat_map(|one| one.part.named_findings(&one.findings, several)).collect()
}

/// The interval between two notes named by their note or their take.
fn interval_of(pair: &Pair, notes: &[SoundedNote], found: &Found) -> Result<Interval> {
    let place = |name: &str| {
        let as_note = name.parse::<Note>().ok();
        let is_it = |n: &usize| notes[*n].take == name || Some(found.notes[*n].note) == as_note;
        let by_stem = |n: &usize| {
            Path::new(&notes[*n].take)
                .file_stem()
                .is_some_and(|stem| stem.to_string_lossy() == name)
        };
        let all = 0..notes.len();
        all.clone().find(is_it).or_else(|| all.clone().find(by_stem)).ok_or_else(|| {
            let known: Vec<String> = found.notes.iter().map(|note| note.note.to_string()).collect();
            Usage(format!("there is no note or take '{name}' here; there are {}", known.join(", ")))
        })
    };
    Ok(interval(&notes[place(&pair.0)?], &notes[place(&pair.1)?]))
}

fn title_of(found: &Found) -> String {
    match &found.notes[..] {
        [one] => format!("Tuning of {}", one.take),
        all if all.iter().all(|note| note.take == all[0].take) => {
            format!("Tuning of {}, {} notes", all[0].take, all.len())
        }
        all => format!("Tuning of {} takes", all.len()),
    }
}

/// What cents refer to, in words.
fn against_line(found: &Found, settings: &TuningSettings) -> String {
    let temperament = &settings.temperament;
    let root = Note(60 + temperament.root as i32).to_string();
    let on_root = match temperament.name.as_str() {
        "equal" => String::new(),
        _ => format!(" on {}", root.trim_end_matches(|c: char| c.is_ascii_digit())),
    };
    let reference = text::number(found.reference_hz, 3);
    let which = if settings.fit_reference { ", which fits best" } else { "" };
    let fitted = match found.fitted_reference_hz {
        Some(fitted) if !settings.fit_reference => {
            let [hz, u] = text::measured(fitted.value, fitted.u, 3);
            format!("; best fits A4 at {hz} ± {u} Hz")
        }
        Some(fitted) => format!(" (± {} Hz)", text::number(fitted.u, 3)),
        None => String::new(),
    };
    format!("{} temperament{on_root}, A4 at {reference} Hz{which}{fitted}", temperament.name)
}

/// The stretch and the stiffness across the compass, in words.
fn stretch_line(found: &Found) -> String {
    let Some(stretch) = &found.stretch else { return "too few notes for a curve".into() };
    let first = match stretch.order {
        0 => {
            format!("notes scatter by {} cents about their mean", text::number(stretch.scatter, 2))
        }
        order => format!(
            "stretch: a curve of order {order} from {} to {} cents at the ends; notes scatter by \
             {} cents about it",
            text::signed(text::number(stretch.curve.first().map_or(0.0, |p| p.value), 1)),
            text::signed(text::number(stretch.curve.last().map_or(0.0, |p| p.value), 1)),
            text::number(stretch.scatter, 2)
        ),
    };
    let second = found.inharmonicity.as_ref().map_or(String::new(), |b| {
        format!("; B scatters by {} % about its curve", text::number(100.0 * b.scatter, 1))
    });
    format!("{first}{second}")
}

/// What it has to say on a page.
fn section(found: &Found, settings: &TuningSettings) -> ReportPart {
    let points: Vec<(f64, Measured)> = found
        .notes
        .iter()
        .map(|note| (f64::from(note.midi), Measured::new(note.cents, note.cents_u)))
        .collect();
    let notes: Vec<&TunedNote> = found.notes.iter().collect();
    let titles = ("Note, as its MIDI number (A4 is 69)", "Cents from the tempered note");
    let chart = trend_chart("tuning", "How far each note is off", &points, &[], titles);
    let text = format!("A4 that fits {} best", text::count(notes.len(), "note", "notes"));
    ReportPart {
        facts: vec![("Tuning".into(), against_line(found, settings))],
        charts: vec![chart],
        tables: vec![note_table(found).page("Notes", &notes)],
        headline: text::headline(found.fitted_reference_hz, 3, "Hz", text),
    }
}

fn notes_text(
    found: &Found,
    intervals: &[Interval],
    settings: &TuningSettings,
    findings: &[Finding],
) -> String {
    let notes: Vec<&TunedNote> = found.notes.iter().collect();
    let table = note_table(found).text(&notes);
    let stretch = found.stretch.as_ref().map(|_| text::sentence(&stretch_line(found)));
    let against = text::sentence(&against_line(found, settings));
    let mut parts = vec![table, format!("{against}{}", stretch.unwrap_or_default())];
    parts.extend(intervals.iter().map(interval_text));
    parts.extend(Some(text::findings(findings)).filter(|findings| !findings.is_empty()));
    parts.join("\n")
}

fn note_table(found: &Found) -> Table<'_, &TunedNote> {
    let has_b = found.notes.iter().any(|note| note.inharmonicity.is_some());
    let several_in_one = found.notes.windows(2).any(|pair| pair[0].take == pair[1].take);
    let marks = |note: &TunedNote| {
        let apart = note.is_apart.then_some("outlier");
        let other = note.inharmonicity_is_apart.then_some("other string");
        apart.into_iter().chain(other).collect::<Vec<_>>().join(", ")
    };
    Table::new()
        .words("", "note", |note: &&TunedNote| note.note.to_string())
        .words("", "take", |note| note.take.clone())
        .when(several_in_one, |table| {
            table.number("", "from s", 2, |note: &&TunedNote| Some(note.start_s))
        })
        .measured("", "f0 Hz", 4, |note| pair(Some(note.f0_hz), Some(note.f0_hz_u)))
        .signed_measured("", "off ¢", 2, |note| pair(Some(note.cents), Some(note.cents_u)))
        .when(found.stretch.is_some(), |table| {
            table.signed("", "from curve ¢", 2, |note: &&TunedNote| note.cents_from_curve).rank(1)
        })
        .when(has_b, |table| {
            let b = |note: &&TunedNote| {
                pair(note.inharmonicity.map(|b| 1e6 * b), note.inharmonicity_u.map(|u| 1e6 * u))
            };
            table.measured("", "B e-6", 2, b).rank(2)
        })
        .words("", " ", move |note| marks(note))
        .mark(|note| note.is_apart || note.inharmonicity_is_apart)
}

fn interval_text(interval: &Interval) -> String {
    let [cents, u] = text::measured(interval.cents, interval.cents_u, 3);
    let pure = interval
        .ratio
        .zip(interval.from_pure_cents)
        .map_or("; no pure interval is near".to_string(), |((p, q), off)| {
            format!(", {} cents from {p}:{q}", text::signed(text::number(off, 2)))
        });
    let head = format!("{} to {}: {cents} ± {u} cents{pure}", interval.lower, interval.upper);
    let pairs: Vec<&BeatingPair> = interval.pairs.iter().collect();
    let table = if pairs.is_empty() { String::new() } else { pair_table().text(&pairs) };
    format!("{}{table}", text::sentence(&head))
}

fn pair_table<'t>() -> Table<'t, &'t BeatingPair> {
    Table::new()
        .count("", "partial of the lower", |found: &&BeatingPair| found.lower_partial as u64)
        .count("", "of the upper", |found| found.upper_partial as u64)
        .number("", "near Hz", 1, |found| Some(found.frequency_hz))
        .signed_measured("", "beat Hz", 4, |found| pair(Some(found.beat_hz), Some(found.beat_hz_u)))
}
