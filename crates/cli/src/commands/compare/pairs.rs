//! Pairs of takes: one table each, or one for all.

use anyhow::{Context, Result};
use rayon::prelude::*;
use serde::Serialize;
use serde_json::Value;
use tonemap_core::compare::{
    BandDifference, CompareSettings, Comparison, QuantityDifference, QuantityKind, comparability,
    compare, difference_maps,
};
use tonemap_core::quantity::{self, Quantities};
use tonemap_core::significance::FALSE_RATE;
use tonemap_core::{Finding, Measured};
use tonemap_figures::{
    DifferenceFigure, Figure, MapsFigure, ReportPart, Words, difference_figure, maps_cells,
    maps_figure,
};

use super::{Compare, Loaded, TableKind, View, csv_of, named_rows};
use crate::advice;
use crate::args::Format;
use crate::json;
use crate::kept::Presented;
use crate::output;
use crate::status::{Status, Usage};
use crate::table::Table;
use crate::text;

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

#[derive(Serialize)]
struct CurveColumns {
    frequency_hz: Vec<f64>,
    a_db: Vec<Option<f64>>,
    b_db: Vec<Option<f64>>,
    difference_db: Vec<Option<f64>>,
    least_db: Vec<Option<f64>>,
}

/// What was found of one pair.
struct Pair<'t, 'a> {
    a: &'t Loaded<'a>,
    b: &'t Loaded<'a>,
    found: Comparison,
    findings: Vec<Finding>,
}

impl Compare {
    pub(super) fn compare_pairs(&self, loaded: &[Loaded<'_>]) -> Result<Presented> {
        if self.figure.figure.is_some() && loaded.len() > 2 {
            let reason = "a figure is of one pair; give two takes, or leave it out";
            return Err(Usage(reason.into()).into());
        }
        let settings = self.settings(loaded)?;
        let (first, others) = loaded.split_at(1);
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
            part: ReportPart::default(),
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

fn settings_line(found: &Comparison, settings: &CompareSettings) -> String {
    let matched = if settings.match_gain {
        format!("; spectra less {} dB of gain", text::number(found.matched_db, 2))
    } else {
        String::new()
    };
    format!(
        "1/{} octave, bins every {} Hz, {} window of {} ms, {} frames{matched}; significance {} % \
         for the comparison \
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
fn verdict(found: &BandDifference) -> String {
    let said = text::verdict(Some(found.is_real));
    match (found.is_masked && !found.is_real, found.is_level_real) {
        (true, true) if found.is_noise() => "noise differs".into(),
        (true, true) => "level differs: masked".into(),
        (true, false) => format!("{said}: masked"),
        (false, _) => said.into(),
    }
}

fn alignment_table(pair: &Pair<'_, '_>) -> String {
    let Some(found) = pair.found.alignment else {
        return text::sentence(
            "Not recordings of one sound: not aligned in time, compared by their long-term \
             averages.",
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
        said: verdict(found),
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
        .printed("band, Hz", |of: &&BandDifference| {
            text::hertz(of.band.nominal_hz(pair.found.fraction))
        })
        .number("", pair.a.part.title(), 1, |of| of.a_db)
        .number("", pair.b.part.title(), 1, |of| of.b_db)
        .signed("", "difference, dB", 2, |of| of.difference_db)
        .number("", "± u", 2, |of| of.difference_db_u)
        .rank(2)
        .number("", "least", 2, |of| of.least_db)
        .rank(1)
        .when(pair.found.alignment.is_some(), |table| {
            table
                .signed("", "in common, dB", 2, |of: &&BandDifference| of.transfer_db)
                .number("", "± u", 2, |of| of.transfer_db_u)
                .rank(1)
        })
        .words("", " ", |of| verdict(of))
        .text(&bands)
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
    let line = |loaded: &Loaded<'_>| {
        text::sentence(&format!("{}: {}", loaded.part.title(), loaded.part.span_line()))
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
