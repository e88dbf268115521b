//! How the commands that follow partials look for the fundamental.

use anyhow::Result;
use clap::Args;
use tonemap_core::partials::PartialsSettings;
use tonemap_core::pitch::{DEFAULT_RANGE_HZ, PitchSettings, pitch};
use tonemap_core::units::FrequencyRange;

use crate::take::Part;

/// Which notes of a take are measured.
#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
pub(crate) struct NoteArgs {
    /// Which of several notes is measured, counted from 1 [default: the longest]
    #[arg(long, value_name = "NUMBER", conflicts_with_all = ["free", "each"])]
    note: Option<usize>,
    /// Measure each note of a take, one row a note
    #[arg(long, conflicts_with = "free")]
    each: bool,
}

impl NoteArgs {
    /// The numbers of the notes of a part that are measured; `None` for the longest.
    pub(crate) fn of(
        &self,
        part: &Part<'_>,
        settings: &PartialsSettings,
    ) -> Result<Vec<Option<usize>>> {
        if !self.each {
            return Ok(vec![self.note]);
        }
        let found = pitch(&part.note_samples()?.samples, part.rate_hz(), &settings.pitch)?;
        let numbers: Vec<Option<usize>> = (1..=found.notes.len()).map(Some).collect();
        Ok(if numbers.is_empty() { vec![None] } else { numbers })
    }
}

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
            note: part.note,
            ..PartialsSettings::default()
        })
    }
}
