//! What is kept of a result: its JSON, its numbers, what was found, and its part of a page.

use anyhow::{Result, bail};
use serde::{Deserialize, Serialize};
use tonemap_core::quantity::{Key, Quantity};
use tonemap_core::{Finding, Measured};
use tonemap_figures::ReportPart;

use crate::args::OutputArgs;
use crate::limits::LimitArgs;
use crate::output;
use crate::saved::{self, Saved};
use crate::status::Status;

/// A result that was made for another command.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Kept {
    /// As the command prints it.
    pub(crate) json: String,
    /// Its numbers.
    pub(crate) quantities: Vec<Quantity>,
    /// Its findings, each with the take and channel that it concerns, where there are several.
    pub(crate) findings: Vec<Finding>,
    /// What it has to say on a page.
    pub(crate) part: ReportPart,
}

impl Kept {
    /// The number under a key, if it is known.
    pub(crate) fn number(&self, key: &Key) -> Option<Measured> {
        self.quantities.iter().find(|quantity| quantity.key == *key)?.value
    }

    /// The same of a number right under the result.
    pub(crate) fn top(&self, key: &'static str) -> Option<Measured> {
        self.number(&Key::of(key))
    }

    /// The results in its JSON, as if they had been saved.
    pub(crate) fn saved(&self) -> Result<Vec<Saved>> {
        saved::results_of(&self.json)
    }
}

/// A command that measures takes together.
pub(crate) trait Present {
    /// Where its result goes, and how it is judged.
    fn written(&self) -> (&OutputArgs, &LimitArgs);

    /// Makes all but the result itself, and gives that.
    fn present(&self) -> Result<Presented>;
}

/// Runs such a command.
pub(crate) fn presented<P: Present>(command: &P) -> Result<Status> {
    let (output, limits) = command.written();
    output::begin(output);
    command.present()?.finish(output, limits)
}

/// What a command presents, before it is written.
pub(crate) struct Presented {
    pub(crate) content: String,
    /// Results with their names, to be compared with limits.
    pub(crate) judged: Vec<(String, Vec<Quantity>)>,
    pub(crate) findings: Vec<Finding>,
    /// What it has to say on a page.
    pub(crate) part: ReportPart,
    pub(crate) status: Status,
}

impl Presented {
    /// Where there was nothing to measure.
    pub(crate) fn nothing(status: Status) -> Self {
        Self {
            content: String::new(),
            judged: Vec::new(),
            findings: Vec::new(),
            part: ReportPart::default(),
            status,
        }
    }

    /// Writes it, and judges it.
    pub(crate) fn finish(self, output: &OutputArgs, limits: &LimitArgs) -> Result<Status> {
        if self.judged.is_empty() && self.content.is_empty() {
            return Ok(self.status);
        }
        output::write_result(output, &self.content)?;
        limits.check(|| self.judged, self.status)
    }

    /// The same for another command: its JSON, and the numbers of its first result.
    pub(crate) fn kept(self) -> Result<Kept> {
        if self.content.is_empty() {
            bail!("it gave no result");
        }
        let quantities = self.judged.into_iter().next().map_or_else(Vec::new, |(_, all)| all);
        Ok(Kept { json: self.content, quantities, findings: self.findings, part: self.part })
    }
}
