//! Sections of the page that are read from saved results: comparisons, trends, anything saved.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::Value;
use tonemap_core::collection::Distribution;
use tonemap_core::spectrum::thinned;
use tonemap_core::{Finding, Measured, Severity, merged, places_text};
use tonemap_figures::{
    Chart, ChartCurve, DrawnBand, ReportPart, ReportSection, ReportTable, bands_chart,
    course_chart, difference_chart, spread_chart, trend_chart,
};

use super::headlines::{group_name, trend_name};
use crate::files;
use crate::saved::Saved;
use crate::text;

/// Values of a spectrum in an octave.
const PER_OCTAVE: u32 = 96;

/// Numbers in a list; unknown ones are left out with their partner.
fn curve(x: &Value, y: &Value) -> impl Iterator<Item = (f64, f64)> {
    let lists = x.as_array().into_iter().flatten().zip(y.as_array().into_iter().flatten());
    lists.filter_map(|(x, y)| Some((x.as_f64()?, y.as_f64()?)))
}

pub(super) fn comparison_section(id: &str, result: &Saved) -> ReportSection {
    let found = &result.value["result"];
    let words = |key: &str| found[key].as_str().unwrap_or_default().to_string();
    let names = [words("reference"), words("other")].map(|name| group_name(&name));
    let number = |key: &str| found[key].as_f64();
    let is_pair = found["bands"].is_array();
    let level_unit = "dB";
    let bands: Vec<DrawnBand> = found["bands"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|band| {
            Some(DrawnBand {
                center_hz: band["center_hz"].as_f64()?,
                width_hz: band["high_hz"].as_f64()? - band["low_hz"].as_f64()?,
                difference_db: band["difference_db"].as_f64()?,
                least_db: band["least_db"].as_f64(),
                is_real: band["distinguishable"] == true,
            })
        })
        .collect();
    let curves = ["a_db", "b_db"].iter().zip(&names).map(|(key, name)| {
        let points = curve(&found["curve"]["frequency_hz"], &found["curve"][key]);
        let (x, y) = thinned(points, PER_OCTAVE).unzip();
        ChartCurve { name: name.clone(), x, y }
    });
    let curves: Vec<ChartCurve> = curves.collect();
    let caption = format!(
        "Spectra of {} and {}, and the difference in bands on its own scale",
        names[0], names[1]
    );
    let charts = if is_pair {
        vec![difference_chart("chart", &caption, &curves, &bands, level_unit)]
    } else {
        Vec::new()
    };
    let real = bands.iter().filter(|band| band.is_real).count();
    let text = match (is_pair, number("delay_s")) {
        (false, _) => "two groups of repeats, judged by their spread".into(),
        (true, Some(_)) => format!(
            "aligned in time; gain {} dB, residual {} dB; {real} of {} bands differ",
            text::known(number("gain_db"), 2),
            text::known(number("residual_re_other_db"), 1),
            bands.len()
        ),
        (true, None) => format!(
            "not recordings of one sound; level difference {} dB, bands differ by {} dB RMS, \
             {real} of {} significantly",
            text::known(number("level_difference_db"), 2),
            text::known(number("spectrum_difference_rms_db"), 2),
            bands.len()
        ),
    };
    let fact = |name: &str, key: &str, scale: f64, most: usize, unit: &str| {
        let value = number(key)?;
        let u = number(&format!("{key}_u")).unwrap_or(f64::NAN);
        text::fact(name, Some(Measured::new(scale * value, scale * u)), most, unit)
    };
    let facts = [
        fact("Delay", "delay_s", 1e3, 5, "ms"),
        fact("Drift of the clock", "drift_ppm", 1.0, 3, "ppm"),
        fact("Gain", "gain_db", 1.0, 3, "dB"),
        fact("Residual re the second", "residual_re_other_db", 1.0, 1, "dB"),
        fact("Level difference", "level_difference_db", 1.0, 2, "dB"),
        fact("A-weighted difference", "a_weighted_difference_db", 1.0, 2, "dB"),
    ];
    let title = format!("{} and {}", names[0], names[1]);
    let findings = sentences(&result.findings(), &title);
    ReportSection {
        id: id.into(),
        title,
        text,
        facts: facts.into_iter().flatten().collect(),
        charts,
        tables: difference_table(found, is_pair).into_iter().collect(),
        findings,
        sound: None,
    }
}

/// Partials, descriptors, or the quantities of groups, that differ; `None` where none was compared.
fn difference_table(found: &Value, is_pair: bool) -> Option<ReportTable> {
    const MOST: usize = 40;
    let keys: &[&str] = if is_pair { &["partials", "descriptors"] } else { &["values"] };
    let all: Vec<&Value> =
        keys.iter().flat_map(|key| found[key].as_array().into_iter().flatten()).collect();
    if all.is_empty() {
        return None;
    }
    let real: Vec<&&Value> = all.iter().filter(|row| row["distinguishable"] == true).collect();
    let (a, b) = if is_pair { ("a", "b") } else { ("a_mean", "b_mean") };
    let rows = real.iter().take(MOST).map(|row| {
        let number = |key: &str| row[key].as_f64().map_or("–".into(), text::significant);
        let name = row["name"].as_str().unwrap_or_default();
        let unit = row["unit"].as_str().unwrap_or_default();
        let name = with_unit(name, unit);
        let [difference, u] = text::measured(
            row["difference"].as_f64().unwrap_or(f64::NAN),
            row["difference_u"].as_f64().unwrap_or(f64::NAN),
            5,
        );
        vec![name, number(a), number(b), text::signed(difference), u]
    });
    let same = all.iter().filter(|row| row["distinguishable"] == false).count();
    let differ = match real.len() {
        1 => "1 quantity differs".to_string(),
        count if count > MOST => format!("{count} quantities differ, the first {MOST} are shown"),
        count => format!("{count} quantities differ"),
    };
    Some(ReportTable {
        caption: format!("{differ}; {same} not distinguishable"),
        head: ["quantity", "reference", "other", "difference", "± u"].map(String::from).to_vec(),
        rows: rows.collect(),
        ..ReportTable::default()
    })
}

/// A quantity as the title of an axis or a column.
fn with_unit(name: &str, unit: &str) -> String {
    if unit.is_empty() { name.into() } else { format!("{name}, {unit}") }
}

pub(super) fn trend_section(id: &str, result: &Saved) -> ReportSection {
    let (found, settings) = (&result.value["result"], &result.value["settings"]);
    let words = |key: &str| settings[key].as_str().unwrap_or_default().to_string();
    let (quantity, over, unit) = (trend_name(settings).to_string(), words("over"), words("unit"));
    let value_unit = words("value_unit");
    let points = found["points"].as_array().cloned().unwrap_or_default();
    let place = |n: usize, point: &Value| {
        let condition = &point["condition"];
        let of_words =
            || tonemap_study::Condition::read(condition.as_str()?).quantity().map(|q| q.0);
        condition.as_f64().or_else(of_words).unwrap_or(n as f64)
    };
    let values: Vec<(f64, Measured)> = points
        .iter()
        .enumerate()
        .filter_map(|(n, point)| {
            let u = point["value_u"].as_f64().unwrap_or(f64::NAN);
            Some((place(n, point), Measured::new(point["value"].as_f64()?, u)))
        })
        .collect();
    let course: Vec<tonemap_core::trend::CourseValue> = found["course"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|at| {
            let of = |key: &str| at[key].as_f64();
            Some(tonemap_core::trend::CourseValue {
                x: of("x")?,
                value: of("value")?,
                low: of("low")?,
                high: of("high")?,
            })
        })
        .collect();
    let per = if unit.is_empty() { &over } else { &unit };
    let text = match (found["slope"].as_f64(), found["slope_u"].as_f64()) {
        (Some(slope), Some(slope_u)) => {
            let [slope, u] = text::measured(slope, slope_u, 8);
            let said = if found["distinguishable"] == true {
                ""
            } else {
                ", not significantly different from zero"
            };
            let of_values =
                if value_unit.is_empty() { String::new() } else { format!(" {value_unit}") };
            format!("{} ± {u}{of_values} per {per}{said}", text::signed(slope))
        }
        _ => "no straight line through the values".into(),
    };
    let (condition_title, value_title) =
        (with_unit(&over, &unit), with_unit(&quantity, &value_unit));
    let caption = format!("{quantity} over {over}");
    let chart = trend_chart("chart", &caption, &values, &course, (&condition_title, &value_title));
    let rows = points.iter().map(|point| {
        let [value, u] = text::measured(
            point["value"].as_f64().unwrap_or(f64::NAN),
            point["value_u"].as_f64().unwrap_or(f64::NAN),
            6,
        );
        let condition =
            point["condition"].as_str().map_or(point["condition"].to_string(), String::from);
        vec![point["take"].as_str().unwrap_or_default().into(), condition, value, u]
    });
    ReportSection {
        id: id.into(),
        findings: sentences(&result.findings(), &caption),
        title: caption,
        text,
        charts: vec![chart],
        tables: vec![ReportTable {
            caption: "Values".into(),
            head: ["take", &condition_title, &value_title, "± u"].map(String::from).to_vec(),
            rows: rows.collect(),
            ..ReportTable::default()
        }],
        ..ReportSection::default()
    }
}

/// Quantities of a survey that have a chart.
const CHARTS: usize = 6;

/// A survey: how quantities are spread, and which takes stand out, with why.
fn survey_section(id: &str, result: &Saved) -> ReportSection {
    let found = &result.value["result"];
    let words = |of: &Value, key: &str| of[key].as_str().unwrap_or_default().to_string();
    let list = |of: &Value| of.as_array().cloned().unwrap_or_default();
    let number = |of: &Value, key: &str| of[key].as_f64().map_or("–".into(), text::significant);
    let quantities = list(&found["quantities"]);
    let spread = |of: &Value| serde_json::from_value::<Distribution>(of.clone()).ok();
    let by = words(&result.value["settings"], "by");
    let chart = |(n, one): (usize, &Value)| {
        let groups = list(&one["groups"]);
        let of_group = |group: &Value| Some((words(group, "group"), spread(group)?));
        let mut all: Vec<(String, Distribution)> = groups.iter().filter_map(of_group).collect();
        if all.is_empty() {
            all.push(("all".into(), spread(one)?));
        }
        let caption = format!("{}: median and 5 to 95 %", words(one, "name"));
        let title = with_unit(&words(one, "key"), &words(one, "unit"));
        Some(spread_chart(&format!("spread-{n}"), &caption, &all, (&by, &title)))
    };
    let spreads = quantities.iter().map(|one| {
        let numbers = ["count", "low", "median", "high"].map(|key| number(one, key));
        [words(one, "key"), words(one, "unit")].into_iter().chain(numbers).collect()
    });
    let unusual = list(&found["unusual"]);
    let reasons = unusual.iter().flat_map(|take| {
        let why = list(&take["why"]);
        let row = |one: &Value| {
            let numbers = ["value", "median", "times"].map(|key| number(one, key));
            let head = [words(take, "path"), words(one, "key"), words(one, "unit")];
            head.into_iter().chain(numbers).collect::<Vec<String>>()
        };
        why.iter().map(row).collect::<Vec<_>>()
    });
    let table = |caption: &str, head: &[&str], rows: Vec<Vec<String>>| ReportTable {
        caption: caption.into(),
        head: head.iter().map(ToString::to_string).collect(),
        rows,
        ..ReportTable::default()
    };
    let spread_head = ["quantity", "unit", "takes", "5 %", "median", "95 %"];
    let odd_head = ["take", "quantity", "unit", "value", "median of its group", "spreads off"];
    let count = |key: &str| found[key].as_u64().unwrap_or(0);
    ReportSection {
        id: id.into(),
        title: words(&result.value["settings"], "survey"),
        text: format!(
            "{}, measured by {}; {} could not be measured in full",
            text::takes(count("takes")),
            words(&found["run"], "measure"),
            text::grouped(count("failed"))
        ),
        charts: quantities.iter().take(CHARTS).enumerate().filter_map(chart).collect(),
        tables: vec![
            table("Takes that stand out", &odd_head, reasons.collect()),
            table("How quantities are spread", &spread_head, spreads.collect()),
        ],
        ..ReportSection::default()
    }
}

/// A measurement: as what its command says of it on a page.
pub(super) fn measured_section(id: &str, result: &Saved, part: ReportPart) -> ReportSection {
    match result.kind() {
        "compare" => comparison_section(id, result),
        "trend" => trend_section(id, result),
        kind => {
            let title = format!("{}: {}", capitalised(kind), names_of(result));
            let findings = sentences(&result.findings(), &result.title());
            let text = format!("tonemap {}", result.arguments().join(" "));
            let mut section =
                ReportSection { id: id.into(), title, text, findings, ..ReportSection::default() };
            section.add(part);
            section
        }
    }
}

/// The takes of a result by name, each once; of many, how many.
fn names_of(result: &Saved) -> String {
    /// Names that fit a line.
    const MOST: usize = 3;
    let mut names: Vec<String> = Vec::new();
    for name in result.title().split(", ") {
        if !names.iter().any(|known| known == name) {
            names.push(name.into());
        }
    }
    if names.len() > MOST { text::takes(names.len() as u64) } else { names.join(", ") }
}

fn capitalised(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

/// Charts of a saved result: of each list that runs over bands, frequencies or time.
fn saved_charts(result: &Saved) -> Vec<Chart> {
    /// Charts of a result.
    const MOST: usize = 4;
    let fields = result.value["result"].as_object();
    let lists =
        fields.into_iter().flatten().filter_map(|(key, value)| Some((key, value.as_array()?)));
    let mut charts = Vec::new();
    for (key, list) in lists {
        let over = ["center_hz", "frequency_hz", "time_s"];
        let runs_over =
            |axis: &&str| list.len() > 2 && list.iter().all(|one| one[*axis].is_number());
        let Some(axis) = over.into_iter().find(runs_over) else { continue };
        let units = [("_db", "dB"), ("_s", "s"), ("_hz", "Hz"), ("_sone", "sone")];
        for (ending, unit) in units {
            let curves = curves_of(list, axis, ending);
            if curves.is_empty() {
                continue;
            }
            let name = format!("{key}{ending}").replace('_', "-");
            let caption = format!("{}, {unit}", key.replace('_', " "));
            let titles = (unit, unit);
            charts.push(if axis == "time_s" {
                course_chart(&name, &caption, &curves, titles)
            } else {
                bands_chart(&name, &caption, &curves, titles)
            });
        }
    }
    charts.truncate(MOST);
    charts
}

/// The numbers with one unit in a list, each as a curve over what the list runs over.
fn curves_of(list: &[Value], axis: &str, ending: &str) -> Vec<ChartCurve> {
    let keys = list.iter().flat_map(|one| one.as_object().into_iter().flat_map(|of| of.keys()));
    let mut names: Vec<&String> = Vec::new();
    for key in keys.filter(|key| key.ends_with(ending) && !key.ends_with(axis)) {
        if !names.contains(&key)
            && !["low_hz", "high_hz", "width_hz", "exact_center_hz"].contains(&key.as_str())
        {
            names.push(key);
        }
    }
    let curve = |key: &&String| {
        let known =
            list.iter().filter_map(|one| Some((one[axis].as_f64()?, one[key.as_str()].as_f64()?)));
        let (x, y): (Vec<f64>, Vec<f64>) = known.unzip();
        (x.len() > 2).then(|| ChartCurve { name: key.replace('_', " "), x, y })
    };
    names.iter().filter_map(curve).collect()
}

/// A saved result: as what it is, or else number by number.
pub(super) fn saved_section(id: &str, file: &Path, result: &Saved) -> ReportSection {
    const MOST: usize = 60;
    let mut section = match result.kind() {
        "compare" => comparison_section(id, result),
        "trend" => trend_section(id, result),
        "survey" => survey_section(id, result),
        kind => {
            let numbers = result.numbers();
            let rows = numbers.iter().take(MOST).map(|number| {
                let u = Some(number.value.u).filter(|u| u.is_finite());
                vec![
                    number.key.clone(),
                    text::significant(number.value.value),
                    u.map_or("–".into(), text::significant),
                ]
            });
            ReportSection {
                id: id.into(),
                title: format!("{}: {}", capitalised(kind), names_of(result)),
                charts: saved_charts(result),
                tables: vec![ReportTable {
                    caption: format!("{} of {} numbers", numbers.len().min(MOST), numbers.len()),
                    head: ["quantity", "value", "± u"].map(String::from).to_vec(),
                    rows: rows.collect(),
                    ..ReportTable::default()
                }],
                ..ReportSection::default()
            }
        }
    };
    let from = format!("Read from {}.", files::shown(file));
    section.text = if section.text.is_empty() { from } else { format!("{}. {from}", section.text) };
    section
}

/// Settings of each command, and the hash of every file.
pub(super) fn methods(results: &[Saved]) -> Vec<ReportTable> {
    let mut kinds: Vec<&Saved> = Vec::new();
    let mut hashes: BTreeMap<String, String> = BTreeMap::new();
    for result in results {
        if !kinds.iter().any(|known| known.kind() == result.kind()) {
            kinds.push(result);
        }
        for (path, hash) in result.takes().into_iter().chain(result.files()) {
            hashes.insert(files::shown(&path), hash);
        }
    }
    let settings = kinds.iter().map(|result| {
        let fields = result.value["settings"].as_object().cloned().unwrap_or_default();
        let words: Vec<String> = fields
            .iter()
            .filter(|(_, value)| !value.is_null())
            .map(|(key, value)| match value {
                Value::String(words) => format!("{key} {words}"),
                other => format!("{key} {other}"),
            })
            .collect();
        vec![format!("tonemap {}", result.arguments().join(" ")), words.join("; ")]
    });
    let mut tables = vec![ReportTable {
        caption: "Commands, each with the settings of its first use".into(),
        head: vec!["command".into(), "settings".into()],
        rows: settings.collect(),
        ..ReportTable::default()
    }];
    if !hashes.is_empty() {
        tables.push(ReportTable {
            caption: "Files".into(),
            head: vec!["file".into(), "BLAKE3".into()],
            rows: hashes.into_iter().map(|(file, hash)| vec![file, hash]).collect(),
            ..ReportTable::default()
        });
    }
    tables
}

/// Findings as a section has them: each with what it concerns, if that is not the section itself.
pub(super) fn sentences(findings: &[Finding], section: &str) -> Vec<(Severity, String)> {
    let shown: Vec<Finding> =
        findings.iter().filter(|finding| finding.severity > Severity::Note).cloned().collect();
    let line = |(finding, places): (&Finding, Vec<String>)| {
        let places: Vec<String> = places.into_iter().filter(|place| place != section).collect();
        let place = places_text(&places);
        let text = &finding.text;
        (finding.severity, if place.is_empty() { text.clone() } else { format!("{place}: {text}") })
    };
    merged(&shown).into_iter().map(line).collect()
}
