//! Groups of repeats, judged by their spread.

use anyhow::Result;
use rayon::prelude::*;
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::compare::{GroupDifference, compare_groups, profile};
use tonemap_core::quantity::Quantity;
use tonemap_core::significance::FALSE_RATE;
use tonemap_figures::ReportPart;

use super::{Compare, Loaded, csv_of, named_rows};
use crate::args::Format;
use crate::json;
use crate::kept::Presented;
use crate::sides::Side;
use crate::status::{Status, Usage};
use crate::table::Table;
use crate::text;

/// `result` in JSON for two groups of repeats.
#[derive(Serialize)]
struct GroupsResult<'g> {
    reference: &'g str,
    other: &'g str,
    values: &'g [GroupDifference],
}

impl Compare {
    /// Each other group against the first.
    pub(super) fn compare_repeats(
        &self,
        sides: &[Side],
        counts: &[usize],
        loaded: &[Loaded<'_>],
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
        let settings = self.settings(loaded)?;
        let profiles = loaded
            .par_iter()
            .map(|one| Ok(profile(one.sound(), &settings)?))
            .collect::<Result<Vec<_>>>()?;
        let mut content = String::new();
        let (mut judged, mut table, mut all) = (Vec::new(), Vec::new(), Vec::new());
        let mut from = counts[0];
        for (side, count) in sides[1..].iter().zip(&counts[1..]) {
            let found = compare_groups(&profiles[..counts[0]], &profiles[from..from + count]);
            let members = loaded[..counts[0]].iter().chain(&loaded[from..from + count]);
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
                        "level_reference": loaded[0].part.reference.name(),
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
        Ok(Presented {
            content,
            judged,
            findings: all,
            part: ReportPart::default(),
            status: Status::Done,
        })
    }
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
                "{} of {} quantities differ by more than the spread of the repeats explains; {} \
                 are not distinguishable.",
                real.len(),
                found.len(),
                same.len()
            )),
        text::findings(findings),
    ];
    parts.retain(|part| !part.is_empty());
    parts.join("\n")
}
