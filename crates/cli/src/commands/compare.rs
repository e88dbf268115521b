//! `compare`: what differs between takes, by how much, and whether it is real.

use std::collections::HashMap;

use anyhow::{Context, Result};
use clap::{Args, ValueEnum};
use rayon::prelude::*;
use serde::Serialize;
use serde_json::Value;
use tonemap_core::compare::{
    BandDifference, CompareSettings, Comparison, GroupDifference, QuantityDifference, QuantityKind,
    Recorded, Sound, comparability, compare, compare_groups, difference_maps, profile,
};
use tonemap_core::intake::Inspector;
use tonemap_core::quantity::{self, Key, Label, Quantities, Quantity, Unit};
use tonemap_core::significance::{FALSE_RATE, judged};
use tonemap_core::units::FrequencyRange;
use tonemap_core::{Finding, Measured, SampleSpan};
use tonemap_figures::{
    ColourMap, DifferenceFigure, Figure, MapsFigure, Words, difference_figure, maps_cells,
    maps_figure,
};

use crate::advice;
use crate::args::{FigureArgs, Format, FrameArgs, OutputArgs, PartArgs, SourceArgs};
use crate::json;
use crate::kept::{Present, Presented};
use crate::limits::LimitArgs;
use crate::output;
use crate::parts::share_reference;
use crate::saved::{self, Saved};
use crate::sides::{OpenMember, Side};
use crate::status::{Status, Usage};
use crate::studies;
use crate::table::Table;
use crate::take::{NoteSamples, Part};
use crate::text;

/// What differs between takes, and whether it is real
///
/// The first is the reference; each other is compared with it. Recordings of one sound are aligned
/// in time first: delay between samples, drift of the clocks, polarity, gain. Then level, spectrum,
/// bands, partials, and descriptors of timbre. A difference that chance may have made is reported
/// as not distinguishable. A plus between takes makes them repeats, which are judged by their
/// spread. Saved results of one kind are compared number by number.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Compare {
    /// Takes, each perhaps with a part of it behind: take@0.5..1.2, take@left; repeats with a plus:
    /// a+b+c; or saved results, FILE.json. One take alone: its channels
    #[arg(value_name = "SIDE", required_unless_present = "conditions")]
    sides: Vec<String>,
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    part: PartArgs,
    #[command(flatten)]
    how: HowArgs,
    #[command(flatten)]
    frames: FrameArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    look: LookArgs,
    #[command(flatten)]
    output: OutputArgs,
    /// In CSV, which table: one row a pair, or its bands, spectrum, or partials and descriptors
    #[arg(long, value_name = "TABLE", default_value = "pairs", help_heading = "Output")]
    table: TableKind,
    /// Give the spectra and their difference bin by bin, in JSON
    #[arg(long, help_heading = "Output")]
    curve: bool,
}

const EXAMPLES: &str = "Examples:
  tonemap compare bell-cut0 bell-cut6 --figure cut.png
      before and after: level, bands, partials, timbre
  tonemap compare near.wav far.wav --figure maps.png --view spectrograms
      two microphones: delay, gain, what is left, where they differ
  tonemap compare harp-g3@0.5..1.5 harp-g3@3..4
      one note, early and late
  tonemap compare one+two+three four+five+six
      two groups of repeats: is the difference more than their spread?
  tonemap compare before.json after.json
      two saved results of one kind
  tonemap compare old new --match-gain --require 'spectrum_difference_rms_db<1'
      exit status 3 if they differ by more than 1 dB beside the gain";

#[derive(Args, Clone)]
#[command(next_help_heading = "Comparison")]
struct HowArgs {
    /// Frequencies compared: 50Hz..8kHz [default: 20Hz..20kHz]
    #[arg(long, value_name = "LOW..HIGH")]
    range: Option<FrequencyRange>,
    /// Band width as a fraction of an octave: 3 for third-octave bands
    #[arg(long, value_name = "NUMBER", default_value_t = 3)]
    fraction: u32,
    /// Do not time-align the recordings; compare their long-term averages
    #[arg(long)]
    apart: bool,
    /// Subtract the overall gain (or, for unaligned sounds, the level difference) from the spectral
    /// differences
    #[arg(long)]
    match_gain: bool,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Figure")]
struct LookArgs {
    /// What is drawn: the spectra and their difference, or the spectrograms and theirs
    #[arg(long, value_name = "VIEW", default_value = "spectrum", requires = "figure")]
    view: View,
    /// Colours of the spectrograms: ember, lagoon, or grey for print
    #[arg(long, value_name = "MAP", default_value = "ember")]
    colours: ColourMap,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum View {
    Spectrum,
    Spectrograms,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum TableKind {
    Pairs,
    Bands,
    Spectrum,
    Values,
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: &'static str,
    range_hz: (f64, f64),
    fraction: u32,
    align: bool,
    match_gain: bool,
    window: String,
    window_s: f64,
    resolution_hz: f64,
    averaged_frames: u64,
    false_rate: f64,
}

/// `result` in JSON.
#[derive(Serialize)]
struct CompareResult<'p> {
    reference: String,
    other: String,
    #[serde(flatten)]
    found: &'p Comparison,
    #[serde(skip_serializing_if = "Option::is_none")]
    curve: Option<CurveColumns>,
}

/// A number of two saved results.
#[derive(Serialize)]
struct ValueRow {
    key: String,
    name: String,
    unit: &'static str,
    a: Option<f64>,
    a_u: Option<f64>,
    b: Option<f64>,
    b_u: Option<f64>,
    difference: Option<f64>,
    difference_u: Option<f64>,
    distinguishable: Option<bool>,
}

#[derive(Serialize)]
struct CurveColumns {
    frequency_hz: Vec<f64>,
    a_db: Vec<Option<f64>>,
    b_db: Vec<Option<f64>>,
    difference_db: Vec<Option<f64>>,
    least_db: Vec<Option<f64>>,
}

/// `result` in JSON for two groups of repeats.
#[derive(Serialize)]
struct GroupsResult<'g> {
    reference: &'g str,
    other: &'g str,
    values: &'g [GroupDifference],
}

/// Two saved results in JSON.
#[derive(Serialize)]
struct SavedResult {
    reference: String,
    other: String,
    values: Vec<ValueRow>,
}

/// A part with what a comparison needs of it.
struct Taken<'a> {
    part: Part<'a>,
    samples: Vec<f32>,
    recorded: Recorded,
    findings: Vec<Finding>,
}

impl Taken<'_> {
    fn sound(&self) -> Sound<'_> {
        Sound {
            samples: &self.samples,
            rate_hz: self.recorded.rate_hz,
            full_scale_db: self.part.reference.full_scale_db(),
        }
    }
}

/// What was found of one pair.
struct Pair<'t, 'a> {
    a: &'t Taken<'a>,
    b: &'t Taken<'a>,
    found: Comparison,
    findings: Vec<Finding>,
}

impl Present for Compare {
    fn written(&self) -> (&OutputArgs, &LimitArgs) {
        (&self.output, &self.limits)
    }

    fn present(&self) -> Result<Presented> {
        output::check_outputs(&self.figure, &self.output)?;
        let sides = self.sides()?;
        let are_saved = |side: &&Side| saved::is_saved(side.words.as_ref());
        match sides.iter().filter(are_saved).count() {
            0 => {}
            count if count == sides.len() => return self.compare_saved(&sides),
            _ => {
                let reason = "a saved result is compared with saved results of its kind; measure the take and save the result with \
                              --format json --output FILE.json";
                return Err(Usage(reason.into()).into());
            }
        }
        let source = SourceArgs { conditions: Vec::new(), ..self.source.clone() };
        let mut opened: Vec<Vec<OpenMember>> =
            sides.iter().map(|side| side.open(&source)).collect::<Result<_>>()?;
        if let [members] = &mut opened[..]
            && let [one] = &mut members[..]
        {
            let taken = take_all(one.parts(&self.part)?)?;
            if taken.len() < 2 {
                let reason = "two sides are compared; name another take, or channels of this one with --channel 1,2";
                return Err(Usage(reason.into()).into());
            }
            return self.compare_pairs(&taken);
        }
        if opened.len() < 2 {
            let reason = "two groups of repeats are compared; name another group, or give its takes one by one";
            return Err(Usage(reason.into()).into());
        }
        let is_grouped = sides.iter().any(Side::is_group);
        let counts: Vec<usize> = opened.iter().map(Vec::len).collect();
        let members = opened.iter_mut().flatten();
        let parts = members.map(|member| member.part(&self.part)).collect::<Result<_>>()?;
        let taken = take_all(parts)?;
        if !is_grouped {
            return self.compare_pairs(&taken);
        }
        self.compare_repeats(&sides, &counts, &taken)
    }
}

impl Compare {
    fn sides(&self) -> Result<Vec<Side>> {
        let mut sides: Vec<Side> =
            self.sides.iter().map(|words| Side::read(words)).collect::<Result<_>>()?;
        if !self.source.conditions.is_empty() {
            for named in studies::find_takes(&[], &self.source)? {
                sides.push(Side::read(&named.path.to_string_lossy())?);
            }
        }
        Ok(sides)
    }

    fn settings(&self, taken: &[Taken<'_>]) -> Result<CompareSettings> {
        let first = &taken[0];
        let reference_hz = first.part.take().reference_hz();
        let usual = CompareSettings::default();
        let lowest_rate =
            taken.iter().map(|one| one.recorded.rate_hz).fold(f64::INFINITY, f64::min);
        Ok(CompareSettings {
            frames: self.frames.settings(reference_hz),
            range_hz: match self.how.range {
                Some(range) => range.hz(reference_hz, lowest_rate)?,
                None => usual.range_hz,
            },
            fraction: self.how.fraction,
            align: !self.how.apart,
            match_gain: self.how.match_gain,
            timbre: usual.timbre,
        })
    }

    fn compare_pairs(&self, taken: &[Taken<'_>]) -> Result<Presented> {
        if self.figure.figure.is_some() && taken.len() > 2 {
            let reason = "a figure is of one pair; give two takes, or leave it out";
            return Err(Usage(reason.into()).into());
        }
        let settings = self.settings(taken)?;
        let (first, others) = taken.split_at(1);
        let a = &first[0];
        let pairs: Vec<Pair<'_, '_>> = others
            .par_iter()
            .map(|b| {
                let found = compare(a.sound(), b.sound(), &settings)
                    .with_context(|| format!("{} and {}", a.part.title(), b.part.title()))?;
                let mut findings = a.part.named_findings(&a.findings, true);
                findings.extend(b.part.named_findings(&b.findings, true));
                findings.extend(advice::worded(comparability(&a.recorded, &b.recorded)));
                findings.extend(found.findings.iter().cloned());
                Ok(Pair { a, b, found, findings })
            })
            .collect::<Result<_>>()?;
        for pair in &pairs {
            output::print_notes(&self.output, &pair.findings);
        }
        if let Some(file) = &self.figure.figure {
            let drawn = self.draw(&pairs[0], &settings)?;
            output::write_figure(file, &drawn, self.output.force)?;
        }
        let content = match (self.output.format, &pairs[..]) {
            (Format::Text, [pair]) => pair_text(pair, &settings),
            (Format::Text, _) => many_text(&pairs, &settings),
            (Format::Json, _) => pairs
                .iter()
                .map(|pair| self.pair_json(pair, &settings))
                .collect::<Result<String>>()?,
            (Format::Csv, _) => self.pairs_csv(&pairs)?,
        };
        let judged = |pair: &Pair<'_, '_>| (pair.b.part.title(), pair.found.quantities());
        Ok(Presented {
            content,
            judged: pairs.iter().map(judged).collect(),
            findings: pairs.iter().flat_map(|pair| pair.findings.clone()).collect(),
            status: Status::Done,
        })
    }

    fn draw(&self, pair: &Pair<'_, '_>, settings: &CompareSettings) -> Result<Figure> {
        let names = [pair.a.part.title(), pair.b.part.title()];
        let title = format!("{} and {}", names[0], names[1]);
        let notes = [
            settings_line(&pair.found, settings),
            alignment_line(pair),
            format!("{}: {}", names[0], pair.a.part.span_line()),
            format!("{}: {}", names[1], pair.b.part.span_line()),
        ];
        let words = Words { title: &title, notes: &notes, findings: &pair.findings };
        let level_unit = pair.a.part.level_unit();
        let reference_hz = pair.a.part.take().reference_hz();
        Ok(match self.look.view {
            View::Spectrum => difference_figure(
                &DifferenceFigure {
                    found: &pair.found,
                    names: [&names[0], &names[1]],
                    level_unit: &level_unit,
                    reference_hz,
                    words,
                },
                self.figure.size,
            )?,
            View::Spectrograms => {
                let maps = difference_maps(
                    pair.a.sound(),
                    pair.b.sound(),
                    pair.found.alignment.as_ref(),
                    pair.found.matched_db,
                    settings.range_hz,
                    maps_cells(self.figure.size),
                )?;
                maps_figure(
                    &MapsFigure {
                        maps: &maps,
                        references: [pair.a.part.reference, pair.b.part.reference],
                        names: [&names[0], &names[1]],
                        colours: self.look.colours,
                        words,
                    },
                    self.figure.size,
                )?
            }
        })
    }

    fn pair_json(&self, pair: &Pair<'_, '_>, settings: &CompareSettings) -> Result<String> {
        let records = vec![pair.a.part.record()?, pair.b.part.record()?];
        let resolved = resolved(pair, settings);
        json::line_of_takes(
            "compare",
            records,
            resolved,
            result_of(pair, self.curve),
            &pair.findings,
        )
    }

    fn pairs_csv(&self, pairs: &[Pair<'_, '_>]) -> Result<String> {
        let results: Vec<CompareResult<'_>> =
            pairs.iter().map(|pair| result_of(pair, self.table == TableKind::Spectrum)).collect();
        let mut rows: Vec<Value> = Vec::new();
        for result in &results {
            let names = (result.reference.as_str(), result.other.as_str());
            match self.table {
                TableKind::Pairs => {
                    let mut row = serde_json::to_value(result)?;
                    if let Some(fields) = row.as_object_mut() {
                        fields.retain(|_, value| !value.is_array() && !value.is_object());
                    }
                    rows.push(row);
                }
                TableKind::Bands => rows.extend(named_rows(names, &result.found.bands)?),
                TableKind::Values => rows.extend(named_rows(names, &result.found.quantities)?),
                TableKind::Spectrum => {
                    let Some(curve) = &result.curve else { continue };
                    let bin = |k: usize| {
                        serde_json::json!({
                            "frequency_hz": curve.frequency_hz[k],
                            "a_db": curve.a_db[k],
                            "b_db": curve.b_db[k],
                            "difference_db": curve.difference_db[k],
                            "least_db": curve.least_db[k],
                        })
                    };
                    let bins: Vec<Value> = (0..curve.frequency_hz.len()).map(bin).collect();
                    rows.extend(named_rows(names, &bins)?);
                }
            }
        }
        csv_of(&rows)
    }

    /// Each other group against the first.
    fn compare_repeats(
        &self,
        sides: &[Side],
        counts: &[usize],
        taken: &[Taken<'_>],
    ) -> Result<Presented> {
        if self.figure.figure.is_some() {
            let reason = "groups of repeats are reported in a table; draw two of their takes";
            return Err(Usage(reason.into()).into());
        }
        if counts.iter().any(|count| *count < 2) {
            let reason =
                "a group needs two takes at least, so that their spread is known: a.wav+b.wav";
            return Err(Usage(reason.into()).into());
        }
        let settings = self.settings(taken)?;
        let profiles = taken
            .par_iter()
            .map(|one| Ok(profile(one.sound(), &settings)?))
            .collect::<Result<Vec<_>>>()?;
        let mut content = String::new();
        let (mut judged, mut table, mut all) = (Vec::new(), Vec::new(), Vec::new());
        let mut from = counts[0];
        for (side, count) in sides[1..].iter().zip(&counts[1..]) {
            let found = compare_groups(&profiles[..counts[0]], &profiles[from..from + count]);
            let members = taken[..counts[0]].iter().chain(&taken[from..from + count]);
            let mut findings = Vec::new();
            let mut records = Vec::new();
            for one in members {
                findings.extend(one.part.named_findings(&one.findings, true));
                records.push(one.part.record()?);
            }
            from += count;
            let values =
                GroupsResult { reference: &sides[0].words, other: &side.words, values: &found };
            let differences = found
                .iter()
                .map(|one| Quantity { value: Some(one.difference), ..one.quantity.clone() });
            judged.push((side.words.clone(), differences.collect()));
            content += &match self.output.format {
                Format::Text => groups_text((&sides[0].words, &side.words), &found, &findings),
                Format::Csv => {
                    table.extend(named_rows((&sides[0].words, &side.words), &found)?);
                    String::new()
                }
                Format::Json => {
                    let settings = serde_json::json!({
                        "level_reference": taken[0].part.reference.name(),
                        "range_hz": settings.range_hz,
                        "fraction": settings.fraction,
                        "false_rate": FALSE_RATE,
                    });
                    json::line_of_takes("compare", records, settings, values, &findings)?
                }
            };
            all.extend(findings);
        }
        if self.output.format == Format::Csv {
            content = csv_of(&table)?;
        }
        Ok(Presented { content, judged, findings: all, status: Status::Done })
    }

    fn compare_saved(&self, sides: &[Side]) -> Result<Presented> {
        if self.figure.figure.is_some() {
            let reason = "saved results are reported in a table; draw the takes they come from";
            return Err(Usage(reason.into()).into());
        }
        let mut results: Vec<(String, Saved)> = Vec::new();
        for side in sides {
            for result in saved::read(side.words.as_ref())? {
                results.push((format!("{} ({})", side.words, result.title()), result));
            }
        }
        let [(name, first), others @ ..] = &results[..] else {
            return Ok(Presented::nothing(Status::Done));
        };
        if others.is_empty() {
            let reason = "two results are compared, and the file holds one; name another";
            return Err(Usage(reason.into()).into());
        }
        let mut content = String::new();
        let (mut judged, mut table, mut all) = (Vec::new(), Vec::new(), Vec::new());
        for (other_name, other) in others {
            if other.kind() != first.kind() {
                return Err(Usage(format!(
                    "{name} comes from '{}', {other_name} from '{}'; only results of one command are compared",
                    first.kind(),
                    other.kind()
                ))
                .into());
            }
            let values = saved_rows(first, other);
            judged.push((other_name.clone(), values.iter().filter_map(saved_difference).collect()));
            let result = SavedResult { reference: name.clone(), other: other_name.clone(), values };
            let mut findings = first.findings();
            findings.extend(other.findings());
            findings.extend(levels_differ((name, first), (other_name, other)));
            output::print_notes(&self.output, &findings);
            content += &match self.output.format {
                Format::Text => saved_text(&result) + &text::findings_below(&findings),
                Format::Json => {
                    let takes = records_of(first).chain(records_of(other)).cloned().collect();
                    let settings = serde_json::json!({
                        "level_reference": first.value["settings"]["level_reference"],
                        "results_of": first.kind(),
                        "false_rate": FALSE_RATE,
                    });
                    json::line_of_records("compare", takes, settings, result, &findings)?
                }
                Format::Csv => {
                    table.extend(named_rows((name, other_name), &result.values)?);
                    String::new()
                }
            };
            all.extend(findings);
        }
        if self.output.format == Format::Csv {
            content = csv_of(&table)?;
        }
        Ok(Presented { content, judged, findings: all, status: Status::Done })
    }
}

/// The difference of a number of two saved results, for limits.
fn saved_difference(row: &ValueRow) -> Option<Quantity> {
    const SAVED: Label = Label::new("", "difference", Unit::One, 6);
    let key: Key = row.key.parse().ok()?;
    Some(Quantity::new(key, &SAVED, quantity::pair(row.difference, row.difference_u)))
}

/// What must be said of levels that do not refer to the same.
fn levels_differ(a: (&str, &Saved), b: (&str, &Saved)) -> Option<Finding> {
    let reference = |result: &Saved| {
        let name = result.value["settings"]["level_reference"].as_str();
        name.unwrap_or("full scale").to_string()
    };
    let (of_a, of_b) = (reference(a.1), reference(b.1));
    (of_a != of_b).then(|| {
        Finding::warning(
            "calibration_differs",
            format!(
                "Levels of {} are re {of_a}, those of {} re {of_b}: differences of levels mean nothing. \
                 Calibrate both, and measure again.",
                a.0, b.0
            ),
        )
    })
}

/// The takes that a saved result is about, as it has them.
fn records_of(result: &Saved) -> impl Iterator<Item = &Value> {
    let one = result.value.get("take").into_iter();
    one.chain(result.value["takes"].as_array().into_iter().flatten())
}

/// Rows of CSV, each with the two that it is about before it.
fn named_rows<R: Serialize>((a, b): (&str, &str), rows: &[R]) -> Result<Vec<Value>> {
    let named = |row: &R| {
        let mut named = serde_json::Map::new();
        named.insert("reference".into(), a.into());
        named.insert("other".into(), b.into());
        named.extend(serde_json::to_value(row)?.as_object().cloned().unwrap_or_default());
        Ok(Value::Object(named))
    };
    rows.iter().map(named).collect()
}

/// Reads all parts, side by side; their levels refer to the same.
fn take_all(mut parts: Vec<Part<'_>>) -> Result<Vec<Taken<'_>>> {
    // What pairs of calibrated and other takes lose is said of each pair.
    share_reference(&mut parts);
    parts.into_par_iter().map(take).collect()
}

/// Reads a part and looks at how it was recorded.
fn take(part: Part<'_>) -> Result<Taken<'_>> {
    let NoteSamples { samples, findings } = part.note_samples()?;
    let info = &part.take().info;
    let rate_hz = info.sample_rate_hz;
    let span = SampleSpan { start: 0, end: samples.len() as u64 };
    let mut inspector = Inspector::new(rate_hz, info.bits_per_sample, 1, span);
    let channels = [samples];
    let (levels, sound) = inspector.halves();
    levels.push(&channels);
    sound.push(&channels);
    let found = inspector.finish();
    let [samples] = channels;
    let channel = found.channels.first();
    let recorded = Recorded {
        name: part.title(),
        rate_hz,
        duration_s: samples.len() as f64 / rate_hz,
        is_calibrated: part.full_scale_db().is_some(),
        clipped_samples: channel.map_or(0, |channel| channel.levels.clipped_samples),
        band_edge_hz: channel
            .filter(|channel| channel.band_edge_db.is_some())
            .and_then(|channel| channel.bandwidth_hz),
        noise_floor_dbfs: channel.and_then(|channel| channel.noise_floor_dbfs),
    };
    Ok(Taken { part, samples, recorded, findings })
}

fn resolved(pair: &Pair<'_, '_>, settings: &CompareSettings) -> Settings {
    let found = &pair.found;
    Settings {
        level_reference: pair.a.part.reference.name(),
        range_hz: settings.range_hz,
        fraction: settings.fraction,
        align: settings.align,
        match_gain: settings.match_gain,
        window: settings.frames.window.to_string(),
        window_s: found.window_s,
        resolution_hz: found.resolution_hz,
        averaged_frames: found.averaged_frames,
        false_rate: FALSE_RATE,
    }
}

fn result_of<'p>(pair: &'p Pair<'_, '_>, with_curve: bool) -> CompareResult<'p> {
    let found = &pair.found;
    let column = |of: fn(&BandDifference) -> Option<f64>| found.curve.iter().map(of).collect();
    CompareResult {
        reference: pair.a.part.title(),
        other: pair.b.part.title(),
        found,
        curve: with_curve.then(|| CurveColumns {
            frequency_hz: found.curve.iter().map(|bin| bin.band.center_hz).collect(),
            a_db: column(|bin| bin.a_db),
            b_db: column(|bin| bin.b_db),
            difference_db: column(|bin| bin.difference_db),
            least_db: column(|bin| bin.least_db),
        }),
    }
}

/// The numbers of two saved results that both have, and their differences.
fn saved_rows(a: &Saved, b: &Saved) -> Vec<ValueRow> {
    let others = b.numbers();
    let others: HashMap<&str, Measured> =
        others.iter().map(|number| (number.key.as_str(), number.value)).collect();
    let known = |value: f64| Some(value).filter(|value| value.is_finite());
    let pairs: Vec<(String, Measured, Measured)> = a
        .numbers()
        .into_iter()
        .filter_map(|number| {
            let other = *others.get(number.key.as_str())?;
            Some((number.key, number.value, other))
        })
        .collect();
    let values: Vec<(Measured, Measured)> = pairs.iter().map(|(_, a, b)| (*a, *b)).collect();
    pairs
        .into_iter()
        .zip(judged(&values))
        .map(|((key, a, b), (difference, is_real))| ValueRow {
            name: key.clone(),
            key,
            unit: "",
            a: Some(a.value),
            a_u: known(a.u),
            b: Some(b.value),
            b_u: known(b.u),
            difference: Some(difference.value),
            difference_u: known(difference.u),
            distinguishable: is_real,
        })
        .collect()
}

fn csv_of(rows: &[Value]) -> Result<String> {
    let Some(first) = rows.first().and_then(Value::as_object) else { return Ok(String::new()) };
    let cell = |value: &Value| match value {
        Value::Null => String::new(),
        Value::String(words) => words.clone(),
        other => other.to_string(),
    };
    let lines: Vec<Vec<String>> = rows
        .iter()
        .map(|row| first.keys().map(|key| row.get(key).map_or(String::new(), cell)).collect())
        .collect();
    output::csv_lines(first.keys().map(String::as_str), &lines)
}

fn settings_line(found: &Comparison, settings: &CompareSettings) -> String {
    let matched = if settings.match_gain {
        format!("; spectra less {} dB of gain", text::number(found.matched_db, 2))
    } else {
        String::new()
    };
    format!(
        "1/{} octave, bins every {} Hz, {} window of {} ms, {} frames{matched}; significance {} % for the comparison \
         as a whole",
        settings.fraction,
        text::number(found.resolution_hz, 1),
        settings.frames.window,
        text::number(1e3 * found.window_s, 0),
        found.averaged_frames,
        text::number(100.0 * FALSE_RATE, 0),
    )
}

/// How the two are aligned, in one line.
fn alignment_line(pair: &Pair<'_, '_>) -> String {
    match pair.found.alignment {
        None => "not recordings of one sound: not aligned in time".into(),
        Some(found) => format!(
            "delay {} ms, {} polarity, gain {} dB, residual {} dB re {}",
            text::signed(text::number(1e3 * found.delay_s.value, 4)),
            if found.is_reversed { "reversed" } else { "same" },
            text::signed(text::number(found.gain_db.value, 2)),
            text::known(found.residual_re_b_db, 1),
            pair.b.part.title(),
        ),
    }
}

const SAME: &str = "not distinguishable";

/// What is said of a difference.
fn verdict(is_real: bool, is_masked: bool) -> String {
    let said = text::verdict(Some(is_real));
    if is_masked && !is_real { format!("{said}: masked") } else { said.into() }
}

fn alignment_table(pair: &Pair<'_, '_>) -> String {
    let Some(found) = pair.found.alignment else {
        return text::sentence(
            "Not recordings of one sound: not aligned in time, compared by their long-term averages.",
        );
    };
    let delay_ms = Measured::new(1e3 * found.delay_s.value, 1e3 * found.delay_s.u);
    let mut rows = vec![("delay", delay_ms, "ms".to_string(), 6)];
    if let Some(drift) = found.drift_ppm {
        let from_none = if found.is_drifting { "" } else { ", not distinguishable from none" };
        rows.push(("drift of the clock", drift, format!("ppm{from_none}"), 4));
    }
    rows.push(("gain", found.gain_db, "dB".into(), 4));
    let part = |of: usize| {
        move |row: &(&str, Measured, String, usize)| {
            text::measured(row.1.value, row.1.u, row.3)[of].clone()
        }
    };
    let table = Table::new()
        .words("", "aligned in time", |row: &(&str, Measured, String, usize)| row.0.into())
        .printed(" ", move |row| text::signed(part(0)(row)))
        .printed("± u", part(1))
        .words("", " ", |row| row.2.clone())
        .text(&rows);
    let residual = match found.residual_db {
        Some(db) => format!(
            "what is left after delay, drift and gain lies at {} {}, {} dB re {}",
            text::number(db, 1),
            pair.a.part.level_unit(),
            text::known(found.residual_re_b_db, 1),
            pair.b.part.title()
        ),
        None => "nothing is left after delay and gain".into(),
    };
    format!(
        "{table}{}",
        text::sentence(&format!(
            "{} polarity; {} % of the power in common over {} s; {residual}.",
            if found.is_reversed { "Reversed" } else { "Same" },
            text::number(100.0 * found.shared_share, 3),
            text::number(found.duration_s, 3),
        ))
    )
}

/// Levels, the greatest magnitudes among them.
fn level_table(pair: &Pair<'_, '_>) -> String {
    struct Level {
        name: &'static str,
        a_db: Option<f64>,
        b_db: Option<f64>,
        difference_db: Option<Measured>,
        said: String,
    }
    let found = &pair.found;
    let of = |name, found: &BandDifference| Level {
        name,
        a_db: found.a_db,
        b_db: found.b_db,
        difference_db: quantity::pair(found.difference_db, found.difference_db_u),
        said: verdict(found.is_real, found.is_masked),
    };
    let [a_db, b_db] = found.peak_db;
    let difference_db = quantity::pair(found.peak_difference_db(), None);
    let peak = Level { name: "peak", a_db, b_db, difference_db, said: String::new() };
    Table::new()
        .words("", format!("level, {}", pair.a.part.level_unit()), |level: &Level| {
            level.name.into()
        })
        .number("", pair.a.part.title(), 2, |level| level.a_db)
        .number("", pair.b.part.title(), 2, |level| level.b_db)
        .signed_measured("", "difference", 2, |level| level.difference_db)
        .words("", " ", |level| level.said.clone())
        .text(&[of("RMS", &found.level), of("A-weighted", &found.a_weighted), peak])
}

fn band_table(pair: &Pair<'_, '_>) -> String {
    let bands: Vec<&BandDifference> = pair.found.bands.iter().collect();
    Table::new()
        .printed("band, Hz", |of: &&BandDifference| hertz(of.band.nominal_hz()))
        .number("", pair.a.part.title(), 1, |of| of.a_db)
        .number("", pair.b.part.title(), 1, |of| of.b_db)
        .signed("", "difference, dB", 2, |of| of.difference_db)
        .number("", "± u", 2, |of| of.difference_db_u)
        .rank(2)
        .number("", "least", 2, |of| of.least_db)
        .rank(1)
        .words("", " ", |of| verdict(of.is_real, of.is_masked))
        .text(&bands)
}

/// A middle with a decimal where it has one that matters.
fn hertz(hz: f64) -> String {
    let is_whole = hz.fract() == 0.0 || hz > 100.0;
    text::number(hz, usize::from(!is_whole))
}

/// Quantities whose difference is real, and how many there are beside.
fn value_table(pair: &Pair<'_, '_>, kind: QuantityKind, title: &str) -> String {
    const MOST: usize = 24;
    let all = pair.found.of_kind(kind);
    let (real, others): (Vec<_>, Vec<_>) = all.partition(|q| q.is_real == Some(true));
    if real.is_empty() && others.is_empty() {
        return String::new();
    }
    let shown: Vec<&QuantityDifference> = match kind {
        QuantityKind::Descriptor => real.iter().chain(&others).take(MOST).copied().collect(),
        _ => real.iter().take(MOST).copied().collect(),
    };
    let value = |q: &QuantityDifference, value: Option<Measured>| {
        text::known(value.map(|m| m.value), q.quantity.decimals)
    };
    let difference = |q: &QuantityDifference| {
        let unknown = [text::UNKNOWN.to_string(), text::UNKNOWN.to_string()];
        q.difference.map_or(unknown, |d| text::measured(d.value, d.u, q.quantity.decimals))
    };
    let said = |q: &QuantityDifference| match q.is_real {
        None if q.difference.is_none() => "in one alone",
        is_real => text::verdict(is_real),
    };
    let table = Table::new()
        .words("", title, |q: &&QuantityDifference| q.quantity.title())
        .printed(pair.a.part.title(), |q| value(q, q.a))
        .printed(pair.b.part.title(), |q| value(q, q.b))
        .printed("difference", |q| text::signed(difference(q)[0].clone()))
        .printed("± u", |q| difference(q)[1].clone())
        .words("", " ", |q| said(q).into())
        .text(&shown);
    let same = others.iter().filter(|q| q.is_real == Some(false)).count();
    let alone = others.iter().filter(|q| q.difference.is_none()).count();
    if kind == QuantityKind::Descriptor {
        return table;
    }
    let table = if shown.is_empty() { String::new() } else { table };
    let more = real.len() - shown.len();
    let more = if more > 0 { format!("{more} more differ; ") } else { String::new() };
    table
        + &text::sentence(&format!(
            "{title}: {more}{same} {SAME}, {alone} in one alone; all of them with --format json."
        ))
}

fn pair_text(pair: &Pair<'_, '_>, settings: &CompareSettings) -> String {
    let line = |taken: &Taken<'_>| {
        text::sentence(&format!("{}: {}", taken.part.title(), taken.part.span_line()))
    };
    let found = &pair.found;
    let bands = found.distinguishable_bands();
    let rms = format!(
        "Bands differ by {} dB RMS, by chance it would be {} dB; {bands} of {} differ.",
        text::known(found.spectrum_difference_rms_db, 2),
        text::known(found.chance_rms_db, 2),
        found.bands.len()
    );
    let mut parts = vec![
        format!(
            "{} and {}\n{}{}",
            pair.a.part.title(),
            pair.b.part.title(),
            line(pair.a),
            line(pair.b)
        ),
        alignment_table(pair),
        level_table(pair),
        band_table(pair) + &text::sentence(&rms),
        value_table(pair, QuantityKind::Partial, "partials"),
        value_table(pair, QuantityKind::Descriptor, "timbre"),
        text::sentence(&settings_line(found, settings)),
        text::findings(&pair.findings),
    ];
    parts.retain(|part| !part.is_empty());
    parts.join("\n")
}

/// Many against one reference: a row each.
fn many_text(pairs: &[Pair<'_, '_>], settings: &CompareSettings) -> String {
    let Some(first) = pairs.first() else { return String::new() };
    let differing = |pair: &Pair<'_, '_>, kind: QuantityKind| {
        pair.found.of_kind(kind).filter(|q| q.is_real == Some(true)).count() as u64
    };
    let level = |found: &BandDifference| match found.difference_db {
        Some(_) if !found.is_real => "≈".into(),
        Some(db) => text::signed(text::number(db, 2)),
        None => text::UNKNOWN.to_string(),
    };
    let each: Vec<&Pair<'_, '_>> = pairs.iter().collect();
    let table = Table::new()
        .words("", format!("against {}", first.a.part.title()), |pair: &&Pair<'_, '_>| {
            pair.b.part.title()
        })
        .signed("", "delay, ms", 4, |pair| {
            pair.found.alignment.map(|found| 1e3 * found.delay_s.value)
        })
        .rank(2)
        .signed("", "gain, dB", 2, |pair| pair.found.alignment.map(|found| found.gain_db.value))
        .number("", "residual, dB", 1, |pair| {
            pair.found.alignment.and_then(|found| found.residual_re_b_db)
        })
        .rank(3)
        .printed("level, dB", |pair| level(&pair.found.level))
        .number("", "bands RMS, dB", 2, |pair| pair.found.spectrum_difference_rms_db)
        .rank(4)
        .printed("bands that differ", |pair| {
            format!("{} of {}", pair.found.distinguishable_bands(), pair.found.bands.len())
        })
        .count("", "partials", |pair| differing(pair, QuantityKind::Partial))
        .rank(1)
        .count("", "descriptors", |pair| differing(pair, QuantityKind::Descriptor))
        .rank(1)
        .text(&each);
    let findings: Vec<Finding> = pairs.iter().flat_map(|pair| pair.findings.clone()).collect();
    let legend = "≈ not distinguishable; – not one sound; counts are of significant differences.";
    let parts = [
        table + &text::sentence(legend),
        text::sentence(&settings_line(&first.found, settings)),
        text::findings(&findings),
    ];
    parts.iter().filter(|part| !part.is_empty()).cloned().collect::<Vec<_>>().join("\n")
}

fn groups_text((a, b): (&str, &str), found: &[GroupDifference], findings: &[Finding]) -> String {
    let (real, same): (Vec<_>, Vec<_>) = found.iter().partition(|one| one.is_real);
    let number = |one: &GroupDifference, value: f64| text::number(value, one.quantity.decimals);
    let difference = |one: &GroupDifference| {
        text::measured(one.difference.value, one.difference.u, one.quantity.decimals)
    };
    let table = if real.is_empty() {
        text::sentence("Nothing differs by more than the repeats do.")
    } else {
        Table::new()
            .words("", " ", |one: &&GroupDifference| one.quantity.title())
            .printed("mean of a", |one| number(one, one.a_mean))
            .printed("spread", |one| number(one, one.a_spread))
            .rank(1)
            .printed("mean of b", |one| number(one, one.b_mean))
            .printed("spread", |one| number(one, one.b_spread))
            .rank(1)
            .printed("difference", |one| text::signed(difference(one)[0].clone()))
            .printed("± u", |one| difference(one)[1].clone())
            .text(&real)
    };
    let count = found.first().map_or((0, 0), |one| (one.a_count, one.b_count));
    let mut parts = vec![
        format!(
            "a: {a}\nb: {b}\n{}",
            text::sentence(&format!("{} and {} repeats", count.0, count.1))
        ),
        table
            + &text::sentence(&format!(
                "{} of {} quantities differ by more than the spread of the repeats explains; {} are {SAME}.",
                real.len(),
                found.len(),
                same.len()
            )),
        text::findings(findings),
    ];
    parts.retain(|part| !part.is_empty());
    parts.join("\n")
}

fn saved_text(result: &SavedResult) -> String {
    let differ: Vec<&ValueRow> =
        result.values.iter().filter(|row| row.difference != Some(0.0)).collect();
    let table = Table::new()
        .words("", " ", |row: &&ValueRow| row.name.clone())
        .significant("", "a", |row| row.a)
        .significant("", "b", |row| row.b)
        .significant("", "difference", |row| row.difference)
        .significant("", "± u", |row| row.difference_u)
        .words("", " ", |row| text::verdict(row.distinguishable).into())
        .text(&differ);
    let equal = result.values.len() - differ.len();
    format!(
        "a: {}\nb: {}\n\n{}{}",
        result.reference,
        result.other,
        if differ.is_empty() { String::new() } else { table },
        text::sentence(&format!("{equal} of {} numbers are equal.", result.values.len()))
    )
}
