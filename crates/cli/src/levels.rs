//! Levels of a part, for the commands that measure them.

use anyhow::Result;
use tonemap_core::Finding;
use tonemap_core::bands::{BandMeter, BandSettings, Levels, Stream, TotalMeter, lead_s};

use crate::take::Part;

/// Measures the levels of a part; with what was found of it.
pub(crate) fn levels_of(
    part: &Part<'_>,
    settings: &BandSettings,
    quiet: bool,
) -> Result<(Levels, Vec<Finding>)> {
    let rate_hz = part.rate_hz();
    let lead = ((lead_s(settings) * rate_hz) as u64).min(part.span.start);
    let stream = Stream {
        rate_hz,
        lead,
        samples: part.span.len(),
        start_s: part.start_s(),
        weights: part.level_weights(),
    };
    let mut bands = BandMeter::new(settings, &stream)?;
    let mut totals = TotalMeter::new(settings, &stream)?;
    let mut findings =
        part.read_levels(lead, quiet, |all| bands.push(all), |all| totals.push(all))?;
    let levels = Levels::of(bands, totals, settings, &stream).calibrated(part.reference);
    findings.extend(levels.findings.iter().cloned());
    let (response, differs) = part.response();
    findings.extend(differs);
    let levels = if response.is_empty() { levels } else { levels.without_response(&response) };
    Ok((levels, findings))
}
