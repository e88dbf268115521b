//! The passes over a part that its spectrum takes: one for the average, one for the tones.

use anyhow::Result;
use tonemap_core::Finding;
use tonemap_core::frame::FrameFigures;
use tonemap_core::spectrum::{Spectrum, SpectrumPass, SpectrumSettings, Zoom, ZoomPass};

use crate::take::Part;

/// Measures the spectrum of a part re full scale, with a closer look at its range in `zoom_points`
/// points unless that is 0.
pub(crate) fn spectrum_of(
    part: &Part<'_>,
    settings: &SpectrumSettings,
    quiet: bool,
    zoom_points: usize,
) -> Result<(Spectrum, FrameFigures, Option<Zoom>, Vec<Finding>)> {
    let rate = part.rate_hz();
    let mut spectrum_pass = SpectrumPass::new(settings, rate, part.span.len())?;
    let frames = spectrum_pass.plan().figures(rate);
    let mut zoom = settings
        .range_hz
        .filter(|_| zoom_points > 0)
        .map(|range_hz| ZoomPass::new(spectrum_pass.plan(), rate, range_hz, zoom_points));
    let mut meter = part.take().level_meter(part.span);
    let mut findings = part.take().findings.clone();
    let [one_half, other_half] = spectrum_pass.halves();
    findings.extend(part.read_in_two(
        "spectrum",
        quiet,
        |samples| {
            meter.push(samples);
            one_half.push(samples);
        },
        |samples| other_half.push(samples),
    )?);
    let mut tone_pass = spectrum_pass.finish();
    if tone_pass.needs_samples() || zoom.is_some() {
        let [mut one_half, mut other_half] = tone_pass.halves();
        part.read_in_two(
            "tones",
            quiet,
            |samples| one_half.push(samples),
            |samples| {
                other_half.push(samples);
                if let Some(zoom) = &mut zoom {
                    zoom.push(samples);
                }
            },
        )?;
    }
    let measured = tone_pass.finish();
    findings.extend(meter.finish().findings(&part.channel_name()));
    Ok((measured, frames, zoom.map(ZoomPass::finish), findings))
}
