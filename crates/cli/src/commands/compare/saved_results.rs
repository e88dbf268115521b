//! Saved results of one kind, number by number.

use std::collections::HashMap;

use anyhow::{Result, bail};
use serde::Serialize;
use serde_json::Value;
use tonemap_core::quantity::{self, Key, Label, Quantity, Unit};
use tonemap_core::significance::{FALSE_RATE, judged};
use tonemap_core::transfer::TransferCurve;
use tonemap_core::{Finding, Measured};
use tonemap_figures::{Figure, ReportPart, Size, TransferOverlay, Words, transfer_overlay_figure};

use super::{Compare, csv_of, named_rows};
use crate::args::Format;
use crate::json;
use crate::kept::Presented;
use crate::output;
use crate::saved::{self, Saved};
use crate::sides::Side;
use crate::status::{Status, Usage};
use crate::table::Table;
use crate::text;

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

/// Two saved results in JSON.
#[derive(Serialize)]
struct SavedResult {
    reference: String,
    other: String,
    values: Vec<ValueRow>,
}

impl Compare {
    pub(super) fn compare_saved(&self, sides: &[Side]) -> Result<Presented> {
        let mut results: Vec<(String, Saved)> = Vec::new();
        for side in sides {
            for result in saved::read(side.words.as_ref())? {
                results.push((format!("{} ({})", side.words, result.title()), result));
            }
        }
        let [(name, first), others @ ..] = &results[..] else {
            return Ok(Presented::nothing(Status::Done));
        };
        if self.figure.figure.is_some() && first.kind() != "transfer" {
            let reason = "of saved results only those of transfer are drawn; others are reported in a \
                          table: draw the takes they come from";
            return Err(Usage(reason.into()).into());
        }
        if others.is_empty() {
            let reason = "two results are compared, and the file holds one; name another";
            return Err(Usage(reason.into()).into());
        }
        let mut content = String::new();
        let (mut judged, mut table, mut all) = (Vec::new(), Vec::new(), Vec::new());
        for (other_name, other) in others {
            if other.kind() != first.kind() {
                return Err(Usage(format!(
                    "{name} comes from '{}', {other_name} from '{}'; only results of one command \
                     are compared",
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
        if let Some(file) = &self.figure.figure {
            let figure = draw_transfers(&results, &all, self.figure.size)?;
            output::write_figure(file, &figure, self.output.force)?;
        }
        Ok(Presented {
            content,
            judged,
            findings: all,
            part: ReportPart::default(),
            status: Status::Done,
        })
    }
}

/// Transfer functions over each other, with what the others have more than the first.
fn draw_transfers(results: &[(String, Saved)], findings: &[Finding], size: Size) -> Result<Figure> {
    let curve = |(name, result): &(String, Saved)| -> Result<TransferCurve> {
        let curve = &result.value["result"]["curve"];
        if curve.is_null() {
            bail!("{name} has no curve to be drawn; save it with --curve");
        }
        Ok(serde_json::from_value(curve.clone())?)
    };
    let curves = results.iter().map(curve).collect::<Result<Vec<_>>>()?;
    let less = |other: &TransferCurve| other.less(&curves[0]);
    let Some(differences) = curves[1..].iter().map(less).collect::<Option<Vec<_>>>() else {
        bail!(
            "the curves have different points: measure both at one sample rate, with equal frames"
        );
    };
    let titles: Vec<String> = results.iter().map(|(name, _)| name.clone()).collect();
    let named: Vec<(&str, &TransferCurve)> =
        titles.iter().map(String::as_str).zip(&curves).collect();
    let [first, ..] = &titles[..] else { bail!("there is nothing to draw") };
    let title = format!("{} transfer functions", titles.len());
    let notes = [format!("differences re {first}")];
    let words = Words { title: &title, notes: &notes, findings };
    let overlay = TransferOverlay { curves: &named, differences: &differences, words };
    Ok(transfer_overlay_figure(&overlay, size)?)
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
                "Levels of {} are re {of_a}, those of {} re {of_b}: differences of levels mean \
                 nothing. \
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
