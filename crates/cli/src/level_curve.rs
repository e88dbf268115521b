//! Curves of levels over frequency from a file: a weighting, a response, a target.

use std::path::Path;

use anyhow::{Context, Result};
use tonemap_core::spectrum::ResponseCurve;

use crate::files;
use crate::status::Usage;

/// Reads a curve of levels: a frequency in Hz and a level in dB on each line, separated by a comma,
/// semicolon, tab or space; lines that begin with # and a first line of words are left out.
pub(crate) fn read(file: &Path) -> Result<ResponseCurve> {
    let text = files::read_named(file, files::MOST_TEXT_BYTES)?;
    let mut points = Vec::new();
    for (number, line) in (1..).zip(text.lines()) {
        let fields: Vec<&str> = line
            .split([',', ';', '\t', ' '])
            .map(str::trim)
            .filter(|field| !field.is_empty())
            .collect();
        let point = match fields.as_slice() {
            [] => continue,
            [first, ..] if first.starts_with('#') => continue,
            [hz, db, ..] => hz.parse().ok().zip(db.parse().ok()),
            _ => None,
        };
        match point {
            Some(point) => points.push(point),
            None if points.is_empty() && line.contains(char::is_alphabetic) => (),
            None => {
                return Err(Usage(format!(
                    "{}, line {number}: '{line}' is no frequency in Hz with a level in dB, as 1000, \
                     -0.5",
                    file.display()
                ))
                .into());
            }
        }
    }
    ResponseCurve::new(points).with_context(|| file.display().to_string())
}
