//! What matters most on the page, in three to six lines.

use serde_json::Value;
use tonemap_core::bands::Band;
use tonemap_core::{Measured, Severity};
use tonemap_figures::{Headline, Report};

use crate::saved::Saved;
use crate::text;

/// Lines that are looked at.
const MOST: usize = 6;

/// What a result has to say in a line.
pub(super) fn headline_of(result: &Saved) -> Option<Headline> {
    let found = &result.value["result"];
    match result.kind() {
        "compare" if found["bands"].is_array() => of_comparison(&result.value["settings"], found),
        "compare" => of_groups(found),
        "trend" => of_trend(&result.value["settings"], found),
        _ => None,
    }
}

fn measured(found: &Value, key: &str) -> Option<Measured> {
    let u = found[format!("{key}_u")].as_f64().unwrap_or(f64::NAN);
    Some(Measured::new(found[key].as_f64()?, u))
}

/// How much louder the second of two takes is, and where they differ most.
fn of_comparison(settings: &Value, found: &Value) -> Option<Headline> {
    let words = |key: &str| found[key].as_str().unwrap_or_default();
    let (a, b) = (words("reference"), words("other"));
    let level = measured(found, "gain_db").or_else(|| measured(found, "level_difference_db"))?;
    let bands = found["bands"].as_array()?;
    let real: Vec<&Value> = bands.iter().filter(|band| band["distinguishable"] == true).collect();
    let size = |band: &&&Value| band["difference_db"].as_f64().map_or(0.0, f64::abs);
    let most = real.iter().max_by(|x, y| size(x).total_cmp(&size(y)));
    let most = most.map_or("no band differs significantly".into(), |band| {
        let db = text::number(band["difference_db"].as_f64().unwrap_or(0.0), 1);
        let edge = |key: &str| band[key].as_f64().unwrap_or(f64::NAN);
        let of =
            Band { center_hz: edge("center_hz"), low_hz: edge("low_hz"), high_hz: edge("high_hz") };
        let fraction = settings["fraction"].as_u64().unwrap_or(3) as u32;
        let hz = text::hertz(of.nominal_hz(fraction));
        format!(
            "{} of {} bands differ, most by {} dB at {hz} Hz",
            real.len(),
            bands.len(),
            text::signed(db)
        )
    });
    let line = format!("{b} re {a}: {most}");
    let headline = text::headline(Some(level), 3, "dB", line)?;
    let value = text::signed(headline.value);
    let kind = if real.is_empty() { "does not differ" } else { "differs" };
    Some(Headline { kind: kind.into(), value, ..headline })
}

/// The quantity by which two groups of repeats differ most beside its uncertainty.
fn of_groups(found: &Value) -> Option<Headline> {
    let values = found["values"].as_array()?;
    let real: Vec<&Value> = values.iter().filter(|one| one["distinguishable"] == true).collect();
    let names =
        ["reference", "other"].map(|key| group_name(found[key].as_str().unwrap_or_default()));
    let sure = |one: &&&Value| {
        measured(one, "difference").map_or(0.0, |d| d.value.abs() / d.u.max(1e-9 * d.value.abs()))
    };
    let most = real.iter().max_by(|x, y| sure(x).total_cmp(&sure(y)))?;
    let words = |key: &str| most[key].as_str().unwrap_or_default();
    let line = format!(
        "{}, {} re {}; {} of {} quantities differ",
        words("name"),
        names[1],
        names[0],
        real.len(),
        values.len()
    );
    let headline = text::headline(measured(most, "difference"), 5, words("unit"), line)?;
    let value = text::signed(headline.value);
    Some(Headline { kind: "differs".into(), value, ..headline })
}

/// A group of repeats by its first.
pub(super) fn group_name(names: &str) -> String {
    match names.split_once('+') {
        Some((first, others)) => format!("{first} and {} more", others.split('+').count()),
        None => names.into(),
    }
}

/// What a trend follows, in words where it is known.
pub(super) fn trend_name(settings: &Value) -> &str {
    let words = |key: &str| settings[key].as_str().filter(|words| !words.is_empty());
    words("name").or_else(|| words("quantity")).unwrap_or_default()
}

fn of_trend(settings: &Value, found: &Value) -> Option<Headline> {
    let words = |key: &str| settings[key].as_str().unwrap_or_default();
    let slope = measured(found, "slope")?;
    let per = if words("unit").is_empty() { words("over") } else { words("unit") };
    let unit = format!("{} per {per}", words("value_unit"));
    let is_real = found["distinguishable"] == true;
    let what = trend_name(settings);
    let verdict = if is_real { "" } else { ": not significantly different from zero" };
    let line = format!("{what} over {}{verdict}", words("over"));
    let headline = text::headline(Some(slope), 8, unit.trim(), line)?;
    let value = text::signed(headline.value);
    let kind = if is_real { "trend" } else { "no trend" };
    Some(Headline { kind: kind.into(), value, ..headline })
}

/// Serious findings: what stands out.
fn standing_out(page: &Report) -> Vec<Headline> {
    let serious = page.findings.iter().filter(|one| one.severity == Severity::Serious);
    let line = serious.filter_map(|finding| {
        let (name, section) = finding.about.first()?;
        let more = finding.about.len() - 1;
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        Some(Headline {
            kind: "stands out".into(),
            value: format!("{name}{more}"),
            text: first_sentence(&finding.text),
            section: section.clone(),
            ..Headline::default()
        })
    });
    line.collect()
}

fn first_sentence(text: &str) -> String {
    let end = text.find(". ").map_or(text.len(), |at| at + 1);
    text[..end].to_string()
}

/// Of what the sections have to say, what the first screen says: some of each kind, comparisons
/// and trends before what stands out and what else was measured.
pub(super) fn chosen(page: &Report, said: &[Headline], of_takes: Vec<Headline>) -> Vec<Headline> {
    let of = |kind: &str| said.iter().filter(|one| one.kind == kind).cloned().collect::<Vec<_>>();
    let kinds = [of("differs"), of("trend"), standing_out(page), of("measured")];
    let mut chosen: Vec<Headline> = Vec::new();
    let longest = kinds.iter().map(Vec::len).max().unwrap_or(0);
    for n in 0..longest {
        chosen.extend(kinds.iter().filter_map(|kind| kind.get(n)).cloned());
    }
    chosen.truncate(MOST);
    // Where there is little to say of several takes, what is known of each is said, and what does
    // not differ.
    let rest = [of("does not differ"), of("no trend"), of_takes].concat();
    let missing = MOST.saturating_sub(chosen.len());
    chosen.extend(rest.into_iter().take(missing));
    let order = ["differs", "trend", "stands out", "measured"];
    let place = |one: &Headline| order.iter().position(|kind| *kind == one.kind);
    chosen.sort_by_key(|one| place(one).unwrap_or(order.len()));
    chosen
}
