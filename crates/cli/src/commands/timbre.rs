//! `timbre`: where the power of a note lies, how it begins, what it is made of, and how noisy it
//! is.

use anyhow::Result;
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::quantity::{Label, Quantities, Quantity};
use tonemap_core::timbre::{
    DESCRIPTORS, Descriptor, Descriptors, Harmonic, HarmonicContent, NoiseBand, RiseShape,
    Timbre as Measured, TimbrePoint, TimbreSettings, timbre,
};
use tonemap_core::units::{Frequency, FrequencyRange, Note, Seconds};
use tonemap_figures::{
    ContentFigure, CourseFigure, Figure, ReportPart, Words, content_figure, course_figure,
};

use crate::args::{self, FigureArgs, OutputArgs, TakesArgs};
use crate::fundamental::{FundamentalArgs, NoteArgs};
use crate::limits::LimitArgs;
use crate::measure::{self, Common, Measure, row_heads, rows};
use crate::table::{Row, Shown, Table};
use crate::take::{NoteSamples, Part};
use crate::text;

/// Timbre of a note: spectrum, attack, harmonic content, noise
///
/// Descriptors over time, and their medians over the whole note, its attack and its sustained part,
/// each instant weighted by its power. The spectrum consists of the partials that were followed and
/// the noise between them, so that no window smears it; without a fundamental, or with --free, as
/// frames have it. Every descriptor is defined, with its source, in docs/methods/timbre.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Timbre {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    fundamental: FundamentalArgs,
    #[command(flatten)]
    notes: NoteArgs,
    #[command(flatten)]
    search: SearchArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    /// What is drawn: the descriptors over time, or the harmonics with the noise beside them
    #[arg(
        long,
        value_name = "VIEW",
        default_value = "course",
        requires = "figure",
        help_heading = "Figure"
    )]
    view: View,
    #[command(flatten)]
    output: OutputArgs,
    /// Give the descriptors over time: in JSON beside the rest, in CSV instead of it
    #[arg(long, help_heading = "Output", conflicts_with = "harmonics")]
    tracks: bool,
    /// In CSV, give the table of harmonics
    #[arg(long, help_heading = "Output")]
    harmonics: bool,
}

const EXAMPLES: &str = "Examples:
  tonemap timbre flute-a4.wav --figure flute.png --view harmonics
      its descriptors as a table, its harmonics drawn over the noise
  tonemap timbre harp-g3 harp-g3-other --format csv
      two strings, one row each
  tonemap timbre flute-a4.wav --tracks --format csv --output course.csv
      every descriptor over time
  tonemap timbre flute-a4.wav --require 'harmonic_to_noise_db>30'
      exit status 3 if it is noisier than that";

#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
struct SearchArgs {
    /// Range of the descriptors of the spectrum: 50Hz..8kHz [default: 20Hz..20kHz]
    #[arg(long, value_name = "LOW..HIGH")]
    range: Option<FrequencyRange>,
    /// Time between instants
    #[arg(long, value_name = "TIME", default_value = "10ms")]
    hop: Seconds,
    /// Frequency of A4 [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Frequency>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum View {
    Course,
    Harmonics,
}

/// What was measured of a part.
pub(crate) struct Found {
    settings: TimbreSettings,
    timbre: Measured,
}

type Made<'a> = measure::Made<'a, Found>;

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: &'static str,
    free: bool,
    fundamental_hz: Option<(f64, f64)>,
    range_hz: (f64, f64),
    hop_s: f64,
    frame_s: f64,
    noise_frame_s: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    note: Option<usize>,
}

/// `result` in JSON.
#[derive(Serialize)]
struct TimbreResult<'a> {
    #[serde(flatten)]
    timbre: &'a Measured,
    #[serde(skip_serializing_if = "Option::is_none")]
    tracks: Option<&'a [TimbrePoint]>,
}

impl Measure for Timbre {
    const KIND: &'static str = "timbre";
    type Found = Found;

    fn common(&self) -> Common<'_> {
        Common::of(&self.takes, &self.limits, &self.figure, &self.output)
    }

    fn notes<'a>(&self, part: Part<'a>, quiet: bool) -> Result<Vec<Part<'a>>> {
        let reference_hz = args::reference_hz(self.search.reference, part.take().reference_hz())?;
        self.notes.of(part, &self.fundamental.settings(&part, reference_hz)?, quiet)
    }

    fn measure(&self, part: &Part<'_>, _quiet: bool) -> Result<(Found, Vec<Finding>)> {
        let rate = part.rate_hz();
        let reference_hz = args::reference_hz(self.search.reference, part.take().reference_hz())?;
        let usual = TimbreSettings::default();
        let mut partials = self.fundamental.settings(part, reference_hz)?;
        partials.most = usual.partials.most;
        let settings = TimbreSettings {
            partials,
            range_hz: match self.search.range {
                Some(range) => range.hz(reference_hz, rate)?,
                None => (usual.range_hz.0, usual.range_hz.1.min(rate / 2.0)),
            },
            hop_s: self.search.hop.0,
        };
        let NoteSamples { samples, start_s, mut findings } = part.note_samples()?;
        let mut timbre = timbre(&samples, rate, start_s, &settings)?;
        timbre.calibrate(part.reference.full_scale_db());
        findings.extend(timbre.findings.iter().cloned());
        Ok((Found { settings, timbre }, findings))
    }

    fn settings(&self, made: &Made<'_>) -> impl Serialize {
        let Found { settings, timbre } = &made.found;
        Settings {
            level_reference: made.part.reference.name(),
            free: settings.partials.free,
            fundamental_hz: (!settings.partials.free).then_some(settings.partials.pitch.range_hz),
            range_hz: settings.range_hz,
            hop_s: settings.hop_s,
            frame_s: timbre.frame_s,
            noise_frame_s: timbre.noise_frame_s,
            note: made.part.note,
        }
    }

    fn result(&self, made: &Made<'_>) -> impl Serialize {
        let timbre = &made.found.timbre;
        TimbreResult { timbre, tracks: self.tracks.then_some(&timbre.track) }
    }

    fn quantities(&self, made: &Made<'_>) -> Vec<Quantity> {
        made.found.timbre.quantities()
    }

    fn text(&self, made: &[Made<'_>]) -> String {
        measure::each(made, as_text)
    }

    fn csv(&self, made: &[Made<'_>]) -> Result<String> {
        let heads = row_heads(made);
        if self.tracks {
            let points = rows(made, &heads, |found| found.timbre.track.iter());
            return course_table().csv(points);
        }
        if self.harmonics {
            let harmonics = rows(made, &heads, |found| {
                found.timbre.content.iter().flat_map(|content| content.harmonics.iter())
            });
            return harmonic_table("").csv(harmonics);
        }
        let all: Vec<Vec<Quantity>> = made.iter().map(|one| self.quantities(one)).collect();
        let shapes = made.iter().map(|one| one.found.timbre.rise.map(|rise| rise.shape));
        let items: Vec<(Vec<Quantity>, Option<RiseShape>)> = all.into_iter().zip(shapes).collect();
        let each = items.iter().zip(&heads).map(|(item, part)| Row { part, item });
        whole_table(&items).csv(each)
    }

    fn section(&self, made: &Made<'_>) -> Result<ReportPart> {
        let found = &made.found.timbre;
        let whole = &found.regions.whole;
        let facts = if found.is_note() {
            let over_noise = whole.measured(Descriptor::HarmonicToNoise);
            let attack = found.rise.map(|rise| rise.duration_s);
            [
                text::fact("Fundamental", found.f0_hz, 5, "Hz"),
                text::fact("Attack", attack, 5, "s"),
                text::fact("Harmonics over noise", over_noise, 2, "dB"),
                text::fact("Decay of the whole, T60", found.decay_t60_s, 3, "s"),
            ]
            .into_iter()
            .flatten()
            .collect()
        } else {
            Vec::new()
        };
        let known = |row: &&(Descriptor, Label)| whole.measured(row.0).is_some();
        let descriptors: Vec<&(Descriptor, Label)> = DESCRIPTORS.iter().filter(known).collect();
        let measured = |row: &(Descriptor, Label), of: usize| {
            whole.measured(row.0).map_or(String::new(), |value| {
                text::measured(value.value, value.u, row.1.decimals)[of].clone()
            })
        };
        let table = Table::new()
            .words("", "descriptor", |row: &&(Descriptor, Label)| row.1.name.into())
            .printed("value", move |row| measured(row, 0))
            .printed("± u", move |row| measured(row, 1))
            .words("", "unit", |row| row.1.unit.symbol().into());
        let caption = "Timbre: medians over the note, weighted by power";
        let tables = vec![table.page(caption, &descriptors)];
        Ok(ReportPart { facts, tables, ..ReportPart::default() })
    }

    fn draw(&self, made: &[Made<'_>]) -> Result<Figure> {
        let made = &made[0];
        let (title, level_unit) = (made.part.title(), made.part.level_unit());
        let notes = [settings_line(made), made.part.span_line()];
        let words = Words { title: &title, notes: &notes, findings: &made.findings };
        let found = &made.found.timbre;
        Ok(match (self.view, &found.content) {
            (View::Course, _) => course_figure(
                &CourseFigure { found, level_unit: &level_unit, words },
                self.figure.size,
            )?,
            (View::Harmonics, Some(content)) => content_figure(
                &ContentFigure { content, level_unit: &level_unit, words },
                self.figure.size,
            )?,
            (View::Harmonics, None) => {
                anyhow::bail!(
                    "{title}: it has no harmonics to draw; draw its course with --view course"
                )
            }
        })
    }
}

fn settings_line(made: &Made<'_>) -> String {
    let Found { settings, timbre: found } = &made.found;
    let (low, high) = settings.range_hz;
    let source = match (found.f0_hz, found.noise_frame_s) {
        (Some(_), Some(noise_s)) => format!(
            "partials and the noise between them, separated in frames of {} ms",
            text::number(1e3 * noise_s, 0)
        ),
        (Some(_), None) => "partials; too short to separate noise from them".into(),
        (None, _) => "no fundamental: frames as they are".into(),
    };
    format!(
        "{source}; {} Hz to {} Hz; flatness, crest and flux in frames of {} ms; medians weighted \
         by power, every {} ms",
        text::number(low, 0),
        text::number(high, 0),
        text::number(1e3 * found.frame_s, 0),
        text::number(1e3 * settings.hop_s, 0),
    )
}

fn as_text(made: &Made<'_>) -> String {
    let found = &made.found.timbre;
    let level_unit = made.part.level_unit();
    let head = made.row_head();
    let row = |item| Row { part: &head, item };
    let lines =
        |lines: Vec<String>| lines.iter().map(|line| text::sentence(line)).collect::<String>();
    let mut parts = vec![
        format!(
            "{}\n  {}\n{}",
            made.part.title(),
            made.part.span_line(),
            text::sentence(&head_line(made))
        ),
        descriptor_table(found).text(&DESCRIPTORS.each_ref()),
        lines(course_lines(found)),
    ];
    if let Some(content) = &found.content {
        let harmonics: Vec<_> = content.harmonics.iter().map(row).collect();
        let table = harmonic_table(&level_unit).text(&harmonics);
        parts.push(format!("{table}{}", lines(content_lines(content))));
        if !content.noise_bands.is_empty() {
            let bands: Vec<&NoiseBand> = content.noise_bands.iter().collect();
            parts.push(noise_table(&level_unit).text(&bands));
        }
    }
    parts.push(text::sentence(&settings_line(made)));
    let findings = text::findings(&made.findings);
    parts.extend(Some(findings).filter(|findings| !findings.is_empty()));
    parts.join("\n")
}

/// Note, fundamental, stiffness and level in words.
fn head_line(made: &Made<'_>) -> String {
    let Found { settings, timbre: found } = &made.found;
    let level = format!("level {} {}", text::number(found.level_db, 2), made.part.level_unit());
    let Some(f0) = found.f0_hz else { return level };
    let [hz, u] = text::measured(f0.value, f0.u, 4);
    let note = Note::nearest(f0.value, settings.partials.pitch.reference_hz);
    let note = note.map_or(String::new(), |(note, cents)| {
        format!("{note} {} cents, ", text::signed(text::number(cents, 1)))
    });
    let b = found.inharmonicity.filter(|b| b.value > 2.0 * b.u).map_or(String::new(), |b| {
        let [b, b_u] = text::measured(1e6 * b.value, 1e6 * b.u, 2);
        format!(", B ({b} ± {b_u})e-6")
    });
    format!("{note}f0 {hz} ± {u} Hz{b}; {level}")
}

/// The medians of the descriptors, and how far they spread.
fn descriptor_table(found: &Measured) -> Table<'_, &(Descriptor, Label)> {
    let regions = &found.regions;
    let value = |of: &Descriptors, (descriptor, label): &(Descriptor, Label)| {
        text::known(of.get(*descriptor), label.decimals)
    };
    let whole = |(descriptor, label): &(Descriptor, Label)| {
        let known = regions.whole.measured(*descriptor);
        let [_, u] =
            known.map_or(Default::default(), |m| text::measured(m.value, m.u, label.decimals));
        (text::known(known.map(|m| m.value), label.decimals), u)
    };
    Table::new()
        .words("", "descriptor", |row: &&(Descriptor, Label)| row.1.name.into())
        .words("", "unit", |row| row.1.unit.symbol().into())
        .printed("whole", move |row| whole(row).0)
        .printed("± u", move |row| whole(row).1)
        .printed("spread", move |row| value(&regions.whole.spread, row))
        .rank(2)
        .printed("sustain", move |row| value(&regions.sustain.median, row))
        .rank(1)
        .when(regions.attack.is_some(), |table| {
            let attack = move |row: &&(Descriptor, Label)| {
                regions.attack.map_or(String::new(), |attack| value(&attack.median, row))
            };
            table.printed("attack", attack).rank(1)
        })
}

/// The course of the level in words.
fn course_lines(found: &Measured) -> Vec<String> {
    let mut lines = Vec::new();
    lines.push(match &found.rise {
        // Of a time between 0 and a bound the middle is stated.
        Some(rise) if rise.is_hidden => format!(
            "attack from {} s, within {} ms: a period shows no more",
            text::number(rise.start_s, 3),
            text::number(2e3 * rise.duration_s.value, 1),
        ),
        Some(rise) => {
            let [ms, u] = text::measured(1e3 * rise.duration_s.value, 1e3 * rise.duration_s.u, 2);
            let shape = match rise.shape {
                RiseShape::Linear => "even",
                RiseShape::RaisedCosine => "a raised cosine",
            };
            format!(
                "attack from {} s, {ms} ± {u} ms, {shape}; log attack time {}; {} dB/s from 10 to \
                 90 %",
                text::number(rise.start_s, 3),
                text::number(rise.log_duration(), 3),
                text::number(rise.slope_db_per_s, 0),
            )
        }
        None => "attack: not available".into(),
    });
    let mut parts = vec![
        format!("temporal centroid {} s", text::known(found.temporal_centroid_s, 3)),
        format!("above 40 % of the top for {} s", text::known(found.effective_duration_s, 3)),
    ];
    parts.push(match found.decay_t60_s {
        Some(t60) => {
            let [s, u] = text::measured(t60.value, t60.u, 3);
            format!("T60 of the whole {s} ± {u} s")
        }
        None => "no even decay".into(),
    });
    lines.push(parts.join("; "));
    let wavering =
        |what: &str, rate: Option<f64>, depth: Option<f64>, unit: &str, decimals| match rate
            .zip(depth)
        {
            Some((rate, depth)) => format!(
                "{what} of {} Hz, ± {} {unit}",
                text::number(rate, 2),
                text::number(depth, decimals)
            ),
            None => format!("no {what}"),
        };
    let vibrato = found.vibrato;
    lines.push(format!(
        "{}; {}",
        wavering("vibrato", vibrato.vibrato_rate_hz, vibrato.vibrato_depth_cents, "cents", 1),
        wavering("tremolo", found.tremolo_rate_hz, found.tremolo_depth_db, "dB", 2)
    ));
    lines
}

fn harmonic_table<'t>(level_unit: &'t str) -> Table<'t, Row<'t, Harmonic>> {
    let shown = [
        Shown::new("frequency_hz", "frequency Hz"),
        Shown::new("level_db", level_unit),
        Shown::new("level_re_first_db", "re first").rank(2),
        Shown::new("level_re_strongest_db", "re strongest").rank(3),
        Shown::new("cents_from_harmonic", "from harmonic ¢").signed().rank(1),
        Shown::new("noise_level_db", "noise around dB").rank(3),
    ];
    let share = |of: fn(&Harmonic) -> f64| {
        move |row: &Row<'t, Harmonic>| text::number(100.0 * of(row.item), 3)
    };
    Table::of_parts()
        .count("number", "no.", |row: &Row<'t, Harmonic>| row.item.number as u64)
        .fields(&Harmonic::FIELDS, &shown, |harmonic| harmonic)
        .printed("share %", share(|harmonic| harmonic.power_share))
        .printed("up to it %", share(|harmonic| harmonic.cumulative_share))
        .rank(4)
        .level_reference()
}

/// Distortion and the regions of the envelope in words.
fn content_lines(content: &HarmonicContent) -> Vec<String> {
    let mut lines = Vec::new();
    let percent = |value: f64| {
        let decimals = if value < 1.0 { 4 } else { 2 };
        text::number(value, decimals)
    };
    if let Some(with_noise) = content.distortion_and_noise_percent {
        let alone = content
            .distortion_percent
            .map_or("none above the noise".into(), |d| format!("{} %", percent(d)));
        lines.push(format!(
            "harmonics from 2 on, over the first: {alone} (THD); all but the first, over all: {} \
             % (THD+N)",
            percent(with_noise)
        ));
    }
    for region in &content.envelope_regions {
        lines.push(format!(
            "the envelope has a maximum at {} Hz, {} Hz wide at −3 dB, {} dB above its valleys; \
             harmonic {} is its strongest",
            text::number(region.centre_hz, 0),
            text::number(region.bandwidth_hz, 0),
            text::number(region.prominence_db, 1),
            region.strongest_harmonic
        ));
    }
    lines
}

/// The noise by octaves.
fn noise_table(level_unit: &str) -> Table<'static, &NoiseBand> {
    Table::new()
        .printed("octave Hz", |band: &&NoiseBand| {
            let hz = band.band.nominal_hz(1);
            text::number(hz, usize::from(hz.fract() > 0.0))
        })
        .number("", format!("noise, {level_unit}"), 1, |band| Some(band.noise_level_db))
        .number("", "share of the power in it %", 3, |band| Some(100.0 * band.noise_share))
}

/// The descriptors over time.
fn course_table<'t>() -> Table<'t, Row<'t, TimbrePoint>> {
    let table = Table::of_parts()
        .number("time_s", "", 0, |row: &Row<'t, TimbrePoint>| Some(row.item.time_s))
        .number("level_db", "", 0, |row| Some(row.item.level_db));
    let each = DESCRIPTORS.iter().fold(table, |table, (descriptor, label)| {
        table.number(label.field, "", 0, |row| row.item.descriptors.get(*descriptor))
    });
    each.level_reference()
}

/// One row for each take: what JSON has under keys of its own.
fn whole_table<'t>(
    items: &[(Vec<Quantity>, Option<RiseShape>)],
) -> Table<'t, Row<'t, (Vec<Quantity>, Option<RiseShape>)>> {
    let first = items.first().into_iter().flat_map(|(all, _)| all.iter().enumerate());
    let own = first.filter(|(_, quantity)| quantity.key.depth() == 0);
    let table = own.fold(Table::of_parts(), |table, (n, quantity)| {
        let value = move |row: &Row<'t, (Vec<Quantity>, Option<RiseShape>)>| row.item.0[n].value;
        let key = quantity.key.column();
        if quantity.has_u {
            table.measured(key, "", 0, value)
        } else {
            table.number(key, "", 0, move |row| value(row).map(|value| value.value))
        }
    });
    let shape = |row: &Row<'t, (Vec<Quantity>, Option<RiseShape>)>| match row.item.1 {
        Some(RiseShape::Linear) => "linear".into(),
        Some(RiseShape::RaisedCosine) => "raised_cosine".into(),
        None => String::new(),
    };
    table.words("attack_shape", "", shape).level_reference()
}
