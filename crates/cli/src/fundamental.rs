//! How the commands that follow partials look for the fundamental.

use anyhow::Result;
use clap::Args;
use tonemap_core::partials::PartialsSettings;
use tonemap_core::pitch::{DEFAULT_RANGE_HZ, PitchSettings};
use tonemap_core::units::FrequencyRange;

use crate::take::Part;

/// Whether there is a fundamental, and where it is looked for.
#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
pub(crate) struct FundamentalArgs {
    /// Assume no fundamental
    #[arg(long)]
    pub(crate) free: bool,
    /// Where the fundamental is looked for: G1..C7, 50Hz..1kHz [default: 25Hz..5kHz]
    #[arg(long, value_name = "LOW..HIGH", conflicts_with = "free")]
    fundamental: Option<FrequencyRange>,
}

impl FundamentalArgs {
    /// Settings for partials of a part, with A4 at `reference_hz` and the note that the study
    /// expects.
    pub(crate) fn settings(&self, part: &Part<'_>, reference_hz: f64) -> Result<PartialsSettings> {
        let rate = part.rate_hz();
        let range_hz = match self.fundamental {
            Some(range) => range.hz(reference_hz, rate)?,
            None => DEFAULT_RANGE_HZ,
        };
        let expected = part.take().expected_note();
        Ok(PartialsSettings {
            free: self.free,
            pitch: PitchSettings {
                range_hz: (range_hz.0, range_hz.1.min(0.4 * rate)),
                expected_hz: expected.map(|note| note.frequency_hz(reference_hz)),
                reference_hz,
                ..PitchSettings::default()
            },
            ..PartialsSettings::default()
        })
    }
}
