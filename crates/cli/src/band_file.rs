//! Values in bands from a file: a table, or a saved result that has bands.

use std::path::Path;

use anyhow::{Context, Result, bail};
use serde_json::Value;
use tonemap_core::Measured;

use crate::files;

/// What a file says of its bands.
pub(crate) struct BandValues {
    /// The middle of each band in Hz, and its value.
    pub(crate) values: Vec<(f64, Measured)>,
    /// What its levels refer to, if it says so.
    pub(crate) level_reference: Option<String>,
}

/// Reads the values of bands: a CSV with a column `center_hz` and one of `names`, or a saved result
/// whose bands have those keys; the first name that is there counts. Uncertainties stand under the
/// name with `_u` behind it.
pub(crate) fn read(file: &Path, names: &[&str], what: &str) -> Result<BandValues> {
    const MOST_BYTES: u64 = 1 << 20;
    let text = files::read_named(file, MOST_BYTES)?;
    let is_saved = file.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("json"));
    let read = if is_saved { of_result(&text, names) } else { of_table(&text, names, what) };
    let read = read.with_context(|| files::shown(file))?;
    if read.values.is_empty() {
        bail!("{}: there are no {what} in it", files::shown(file));
    }
    Ok(read)
}

fn of_result(text: &str, names: &[&str]) -> Result<BandValues> {
    let first = text.lines().next().unwrap_or_default();
    let saved: Value = serde_json::from_str(first).context("it is no saved result")?;
    let bands = saved["result"]["bands"].as_array().context("its result has no bands")?;
    let of = |band: &Value| {
        let name = names.iter().find(|name| band[**name].is_number())?;
        let u = band[format!("{name}_u")].as_f64().unwrap_or(f64::NAN);
        Some((band["center_hz"].as_f64()?, Measured::new(band[*name].as_f64()?, u)))
    };
    Ok(BandValues {
        values: bands.iter().filter_map(of).collect(),
        level_reference: saved["settings"]["level_reference"].as_str().map(String::from),
    })
}

fn of_table(text: &str, names: &[&str], what: &str) -> Result<BandValues> {
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let heads = reader.headers()?.clone();
    let column = |name: &str| heads.iter().position(|head| head.trim() == name);
    let columns: Vec<(usize, Option<usize>)> = names
        .iter()
        .filter_map(|name| Some((column(name)?, column(&format!("{name}_u")))))
        .collect();
    let (Some(hz), false) = (column("center_hz"), columns.is_empty()) else {
        bail!("a table of {what} has a column center_hz, and one of {}", names.join(", "));
    };
    let mut read = BandValues { values: Vec::new(), level_reference: None };
    for row in reader.records() {
        let row = row?;
        let number = |column: usize| row.get(column)?.trim().parse::<f64>().ok();
        let known = columns.iter().find_map(|(value, u)| Some((number(*value)?, *u)));
        if let Some((hz, (value, u))) = number(hz).zip(known) {
            let u = u.and_then(number).unwrap_or(f64::NAN);
            read.values.push((hz, Measured::new(value, u)));
        }
        let reference = column("level_reference").and_then(|n| row.get(n));
        read.level_reference = read.level_reference.or(reference.map(|words| words.trim().into()));
    }
    Ok(read)
}
