//! One look at a take: levels, noise, course, and what is wrong with it.

use anyhow::Result;
use tonemap_core::intake::{Inspection, Inspector};
use tonemap_core::{Finding, SampleSpan};
use tonemap_media::Block;

use crate::take::Take;

/// Inspects a span of a take, with all findings; `beside` sees the samples too.
pub(crate) fn look_at(
    take: &Take,
    span: SampleSpan,
    quiet: bool,
    mut beside: impl FnMut(&Block),
) -> Result<(Inspection, Vec<Finding>)> {
    let info = &take.info;
    let mut inspector =
        Inspector::new(info.sample_rate_hz, info.bits_per_sample, info.channels, span);
    let (levels, sound) = inspector.halves();
    let on_the_way = take.read_in_two(
        span,
        "inspecting",
        quiet,
        |block| {
            levels.push(block.channels());
            beside(block);
        },
        |block| sound.push(block.channels()),
    )?;
    let mut inspection = inspector.finish();
    inspection.name(&take.channel_names());
    for (n, channel) in inspection.channels.iter_mut().enumerate() {
        if let Some(full_scale_db) = take.full_scale_db(n) {
            channel.calibrate(full_scale_db);
        }
    }
    let mut findings = take.findings.clone();
    findings.extend(on_the_way);
    findings.extend(inspection.findings());
    Ok((inspection, findings))
}
