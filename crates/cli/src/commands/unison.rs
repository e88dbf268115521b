//! `unison`: strings that sound as one: how far apart, what beats, how clean.

use std::path::PathBuf;

use anyhow::{Context, Result};
use clap::Args;
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::quantity::{Quantities, Quantity, pair};
use tonemap_core::unison::{
    Alone, Since, Unison as Measured, UnisonPartial, UnisonSettings, UnisonString, unison,
};
use tonemap_core::units::{Frequency, Note};
use tonemap_figures::{
    ChartCurve, Figure, ReportPart, UnisonFigure, Words, rows_chart, unison_figure,
};

use crate::args::{self, FigureArgs, OutputArgs, PartArgs, SpanArgs, TakesArgs};
use crate::files;
use crate::fundamental::{FundamentalRange, NoteArgs};
use crate::limits::LimitArgs;
use crate::measure::{self, Common, Measure, row_heads, rows};
use crate::studies;
use crate::table::{Row, Shown, Table};
use crate::take::{NoteSamples, Part, Take};
use crate::text;

/// Strings sounding together: mistuning, beats of each partial, a grade
///
/// Each partial is fitted by the strings that all partials have in common: how far they are apart
/// in cents, and how much they differ in inharmonicity, which no tuning removes. The grade is 100
/// where the level of the note is as steady as that of a single string, and falls with the depth
/// and the rate of the beats that are heard. The attack does not count. What noise hides is not
/// judged. How it is computed stands in docs/methods/unison.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Unison {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    fundamental: FundamentalRange,
    #[command(flatten)]
    notes: NoteArgs,
    #[command(flatten)]
    search: SearchArgs,
    #[command(flatten)]
    beside: BesideArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap unison harp-pair --figure pair.png
      how far the strings are apart, partial by partial
  tonemap unison harp-pair --against harp-g3
      which of them is the one recorded alone, and which way the other is off
  tonemap unison harp-pair-later --before harp-pair
      what became of it in a week
  tonemap unison harp-pair --require 'grade>90'
      exit status 3 if it is not as clean as that";

#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
struct SearchArgs {
    /// Strings at most: 1, 2 or 3
    #[arg(long, value_name = "NUMBER", default_value_t = 3, value_parser = clap::value_parser!(u8).range(1..=3))]
    strings: u8,
    /// Partials at most, from the first
    #[arg(long, value_name = "NUMBER", default_value_t = 8, value_parser = clap::value_parser!(u8).range(1..=32))]
    partials: u8,
    /// Frequency of A4 [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Frequency>,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Beside another take")]
struct BesideArgs {
    /// One of the strings recorded alone
    #[arg(long, value_name = "TAKE")]
    against: Option<PathBuf>,
    /// The same strings at an earlier time
    #[arg(long, value_name = "TAKE", conflicts_with = "against")]
    before: Option<PathBuf>,
}

/// What was measured of a part.
pub(crate) struct Found {
    settings: UnisonSettings,
    unison: Measured,
    beside: Option<Beside>,
}

/// Another take of the note.
struct Beside {
    name: String,
    unison: Measured,
}

type Made<'a> = measure::Made<'a, Found>;

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: &'static str,
    fundamental_hz: (f64, f64),
    strings: usize,
    partials: usize,
    #[serde(skip_serializing_if = "Option::is_none")]
    note: Option<usize>,
    against: Option<String>,
    before: Option<String>,
}

/// `result` in JSON.
#[derive(Serialize)]
struct UnisonResult<'a> {
    #[serde(flatten)]
    unison: &'a Measured,
    #[serde(skip_serializing_if = "Option::is_none")]
    against: Option<Alone>,
    #[serde(skip_serializing_if = "Option::is_none")]
    before: Option<Since>,
}

impl Unison {
    fn of(part: &Part<'_>, settings: &UnisonSettings) -> Result<(Measured, Vec<Finding>)> {
        let NoteSamples { samples, start_s, mut findings } = part.note_samples()?;
        let mut found = unison(&samples, part.rate_hz(), start_s, settings)?;
        found.calibrate(part.reference.full_scale_db());
        findings.extend(found.findings.iter().cloned());
        Ok((found, findings))
    }

    fn settings_of(&self, part: &Part<'_>) -> Result<UnisonSettings> {
        let reference_hz = args::reference_hz(self.search.reference, part.take().reference_hz())?;
        let partials = self.fundamental.settings(part, reference_hz)?;
        Ok(UnisonSettings {
            pitch: partials.pitch,
            note: partials.note,
            most: usize::from(self.search.partials),
            strings: usize::from(self.search.strings),
        })
    }

    /// The take beside, measured as the first.
    fn beside(&self) -> Result<Option<Beside>> {
        let Some(path) = self.beside.against.as_ref().or(self.beside.before.as_ref()) else {
            return Ok(None);
        };
        let named = studies::find_take(Some(path), &self.takes.source)?;
        let mut take = Take::open(named, &self.takes.source)?;
        let (span, channels) = (SpanArgs::default(), self.takes.part.channels.clone());
        let part = take.part(&PartArgs { span, channels })?;
        let settings = self.settings_of(&part)?;
        let name = part.title();
        let (unison, _) = Self::of(&part, &settings).with_context(|| name.clone())?;
        Ok(Some(Beside { name, unison }))
    }

    fn against(&self, found: &Found) -> Option<Alone> {
        let beside = found.beside.as_ref().filter(|_| self.beside.against.is_some())?;
        found.unison.beside_alone(&beside.unison)
    }

    fn since(&self, found: &Found) -> Option<Since> {
        let beside = found.beside.as_ref().filter(|_| self.beside.before.is_some())?;
        Some(found.unison.since(&beside.unison))
    }

    fn beside_text(&self, found: &Found) -> Option<String> {
        let name = &found.beside.as_ref()?.name;
        let of_alone = self.against(found).map(|alone| alone_text(&alone, name));
        of_alone.or_else(|| self.since(found).map(|since| since_text(&since, name)))
    }
}

impl Measure for Unison {
    const KIND: &'static str = "unison";
    type Found = Found;

    fn common(&self) -> Common<'_> {
        Common::of(&self.takes, &self.limits, &self.figure, &self.output)
    }

    fn notes<'a>(&self, part: Part<'a>, quiet: bool) -> Result<Vec<Part<'a>>> {
        let reference_hz = args::reference_hz(self.search.reference, part.take().reference_hz())?;
        self.notes.of(part, &self.fundamental.settings(&part, reference_hz)?, quiet)
    }

    fn measure(&self, part: &Part<'_>, _quiet: bool) -> Result<(Found, Vec<Finding>)> {
        let settings = self.settings_of(part)?;
        let (unison, findings) = Self::of(part, &settings)?;
        Ok((Found { settings, unison, beside: self.beside()? }, findings))
    }

    fn settings(&self, made: &Made<'_>) -> impl Serialize {
        let settings = &made.found.settings;
        let named = |path: &Option<PathBuf>| path.as_deref().map(files::shown);
        Settings {
            level_reference: made.part.reference.name(),
            fundamental_hz: settings.pitch.range_hz,
            strings: settings.strings,
            partials: settings.most,
            note: made.part.note,
            against: named(&self.beside.against),
            before: named(&self.beside.before),
        }
    }

    fn result(&self, made: &Made<'_>) -> impl Serialize {
        UnisonResult {
            unison: &made.found.unison,
            against: self.against(&made.found),
            before: self.since(&made.found),
        }
    }

    fn quantities(&self, made: &Made<'_>) -> Vec<Quantity> {
        let found = &made.found;
        let mut all = found.unison.quantities();
        all.extend(self.against(found).iter().flat_map(Quantities::quantities));
        all.extend(self.since(found).iter().flat_map(Quantities::quantities));
        all
    }

    fn text(&self, made: &[Made<'_>]) -> String {
        measure::each(made, |one| self.as_text(one))
    }

    fn csv(&self, made: &[Made<'_>]) -> Result<String> {
        let heads = row_heads(made);
        let partials = rows(made, &heads, |found| found.unison.partials.iter());
        partial_table(&made[0].found.unison, "").csv(partials)
    }

    fn draw(&self, made: &[Made<'_>]) -> Result<Figure> {
        let made = &made[0];
        let title = made.part.title();
        let head = format!("{}; {}", head_line(made), grade_line(&made.found.unison));
        let notes = [head, settings_line(made), made.part.span_line()];
        let beside = made.found.beside.as_ref();
        let figure = UnisonFigure {
            found: &made.found.unison,
            beside: beside.map(|beside| (beside.name.as_str(), &beside.unison)),
            words: Words { title: &title, notes: &notes, findings: &made.findings },
        };
        Ok(unison_figure(&figure, self.figure.size)?)
    }

    fn section(&self, made: &Made<'_>) -> Result<ReportPart> {
        let found = &made.found.unison;
        let mut facts: Vec<(String, String)> = [
            text::fact("Grade of the unison", found.grade, 1, "of 100"),
            text::fact("Mistuning", found.mistuning_cents, 3, "cents"),
        ]
        .into_iter()
        .flatten()
        .collect();
        let said = found.diagnosis.iter().map(|one| one.text.clone());
        facts.extend(said.map(|text| ("Unison".to_string(), text)));
        let curves: Vec<ChartCurve> = (found.courses.iter())
            .map(|course| ChartCurve {
                name: format!("partial {}", course.number),
                x: course.time_s.clone(),
                y: course.level_db.clone(),
            })
            .collect();
        let caption = "Partials with their decay removed: what is left is beating";
        let title = ("Level with the decay removed, dB", "dB");
        let charts = vec![rows_chart("unison", caption, &curves, title)];
        let head = made.row_head();
        let partials: Vec<Row<'_, UnisonPartial>> =
            found.partials.iter().map(|item| Row { part: &head, item }).collect();
        let tables = vec![partial_table(found, &made.part.level_unit()).page("Unison", &partials)];
        let text = format!("Grade of the unison, {}", made.part.title());
        let headline = text::headline(found.grade, 1, "of 100", text);
        Ok(ReportPart { facts, charts, tables, headline })
    }
}

impl Unison {
    fn as_text(&self, made: &Made<'_>) -> String {
        let found = &made.found.unison;
        let level_unit = made.part.level_unit();
        let head = made.row_head();
        let mut parts = vec![format!(
            "{}\n  {}\n{}{}",
            made.part.title(),
            made.part.span_line(),
            text::sentence(&head_line(made)),
            text::sentence(&grade_line(found)),
        )];
        if found.strings.len() > 1 {
            let strings: Vec<(usize, UnisonString)> = (1..).zip(found.strings.clone()).collect();
            parts.push(string_table(&level_unit).text(&strings.iter().collect::<Vec<_>>()));
        }
        let partials: Vec<Row<'_, UnisonPartial>> =
            found.partials.iter().map(|item| Row { part: &head, item }).collect();
        parts.push(partial_table(found, &level_unit).text(&partials));
        let said: String = (found.diagnosis.iter())
            .map(|one| text::sentence(&format!("{} ({})", one.text, one.evidence)))
            .collect();
        parts.push(said);
        parts.extend(self.beside_text(&made.found));
        parts.push(text::sentence(&settings_line(made)));
        let findings = text::findings(&made.findings);
        parts.extend(Some(findings).filter(|findings| !findings.is_empty()));
        parts.retain(|part| !part.is_empty());
        parts.join("\n")
    }
}

fn string_table<'t>(level_unit: &str) -> Table<'t, &'t (usize, UnisonString)> {
    Table::new()
        .count("", "string", |row: &&(usize, UnisonString)| row.0 as u64)
        .signed_measured("", "from the strongest ¢", 3, |row| {
            // The strongest is where it is.
            let is_other = row.0 > 1;
            pair(is_other.then_some(row.1.cents), Some(row.1.cents_u))
        })
        .number("", format!("level {level_unit}"), 1, |row| Some(row.1.level_db))
}

/// The partials; columns that nothing is known for do not stand in text.
fn partial_table<'t>(found: &Measured, level_unit: &str) -> Table<'t, Row<'t, UnisonPartial>> {
    let is_known = |field: &str| {
        let mut fields = UnisonPartial::FIELDS.iter();
        let field = fields.find(|known| known.label.field == field);
        field.is_some_and(|field| found.partials.iter().any(|p| field.value(p).is_some()))
    };
    let mut shown = vec![
        Shown::new("frequency_hz", "frequency Hz"),
        Shown::new("level_db", format!("level {level_unit}")).rank(2),
        Shown::new("spacing_cents", "apart ¢").signed(),
        Shown::new("beat_hz", "beat Hz"),
        Shown::new("depth_db", "depth dB"),
        Shown::new("beats", "beats").rank(1),
        Shown::new("unsteadiness", "unsteadiness").rank(3),
    ];
    shown.retain(|shown| is_known(shown.field()));
    Table::of_parts()
        .count("number", "n", |row: &Row<'_, UnisonPartial>| row.item.number as u64)
        .fields(&UnisonPartial::FIELDS, &shown, |partial| partial)
        .flag("hidden", |row| row.item.hidden)
        .flag("wavers", |row| row.item.wavers)
        .words("", " ", |row| match (row.item.slower_than_hz, row.item.hidden, row.item.wavers) {
            (Some(hz), ..) => format!("no beat faster than {} Hz", text::number(hz, 3)),
            (_, true, _) => "hidden by noise".into(),
            (.., true) => "wavers".into(),
            _ => String::new(),
        })
        .level_reference()
}

/// Note, fundamental and stiffness in words.
fn head_line(made: &Made<'_>) -> String {
    let Found { settings, unison: found, .. } = &made.found;
    let Some(f0) = found.f0_hz else { return "no partial that can be judged".into() };
    let [hz, u] = text::measured(f0.value, f0.u, 4);
    let note = Note::nearest(f0.value, settings.pitch.reference_hz);
    let note = note.map_or(String::new(), |(note, cents)| {
        format!("{note} {} cents, ", text::signed(text::number(cents, 1)))
    });
    let b = found.inharmonicity.filter(|b| b.value > 2.0 * b.u).map_or(String::new(), |b| {
        let [b, b_u] = text::measured(1e6 * b.value, 1e6 * b.u, 2);
        format!(", B ({b} ± {b_u})e-6")
    });
    let of = if found.strings.len() > 1 { " of the strongest string" } else { "" };
    format!("{note}f0 {hz} ± {u} Hz{b}{of}")
}

fn grade_line(found: &Measured) -> String {
    let Some(grade) = found.grade else { return "no grade".into() };
    let [value, u] = text::measured(grade.value, grade.u, 1);
    format!("grade {value} ± {u} (100: as steady as a single string)")
}

fn settings_line(made: &Made<'_>) -> String {
    let found = &made.found.unison;
    let starts = found.courses.iter().filter_map(|course| course.time_s.first());
    let Some(start_s) = starts.copied().min_by(f64::total_cmp) else {
        return "nothing is fitted".into();
    };
    format!(
        "{} partials fitted together from {} s, where the attack is over",
        found.courses.len(),
        text::number(start_s, 3)
    )
}

fn alone_text(alone: &Alone, name: &str) -> String {
    let which = match alone.string {
        1 => "the strongest string".to_string(),
        number => format!("string {number}"),
    };
    let moved = alone.moved_cents.map_or(String::new(), |moved| {
        let [cents, u] = text::measured(moved.value, moved.u, 3);
        format!(", here {} ± {u} cents from where it was alone", text::signed(cents))
    });
    let other =
        alone.other_cents.map_or("no other string is heard apart from it".into(), |other| {
            let [cents, u] = text::measured(other.value.abs(), other.u, 3);
            let side = if other.value > 0.0 { "higher" } else { "lower" };
            format!("the other string is {cents} ± {u} cents {side}")
        });
    let beats = match alone.beats_alone.len() {
        0 => "alone it does not beat".to_string(),
        _ => format!("alone it beats in partials {}", numbers(&alone.beats_alone)),
    };
    let grade = alone.grade.map_or(String::new(), |grade| {
        let [value, u] = text::measured(grade.value, grade.u, 1);
        format!(" (grade {value} ± {u})")
    });
    text::sentence(&format!("{name} is {which}{moved}; {other}; {beats}{grade}."))
}

fn since_text(since: &Since, name: &str) -> String {
    let Some(change) = since.grade_change else {
        return text::sentence(&format!("Beside {name} no grade can be compared."));
    };
    let [value, u] = text::measured(change.value, change.u, 1);
    let mistuning = since.mistuning_change_cents.map_or(String::new(), |cents| {
        let [value, u] = text::measured(cents.value, cents.u, 3);
        format!("; mistuning {} ± {u} cents", text::signed(value))
    });
    let moved = |what: &str, which: &[usize]| match which.len() {
        0 => String::new(),
        _ => format!("; {what}: partials {}", numbers(which)),
    };
    text::sentence(&format!(
        "Since {name}: grade {} ± {u}, {}{mistuning}{}{}.",
        text::signed(value),
        text::verdict(since.distinguishable),
        moved("less steady", &since.worse),
        moved("steadier", &since.better),
    ))
}

fn numbers(of: &[usize]) -> String {
    of.iter().map(usize::to_string).collect::<Vec<_>>().join(", ")
}
