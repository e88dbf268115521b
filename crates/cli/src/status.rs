//! How a run ends, and what is said of it on standard error.

use std::io::{self, ErrorKind, Write};
use std::process::ExitCode;

use crate::advice;

/// How a run ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Status {
    /// Done.
    Done,
    /// Could not: said on standard error.
    CouldNot,
    /// Wrong usage: said on standard error.
    WrongUsage,
    /// Done, but a limit that the user set is not met: said on standard error.
    Missed,
}

impl Status {
    /// The status that an error ends in: a setting that makes no sense is wrong usage.
    pub(crate) fn of(error: &anyhow::Error) -> Self {
        let is_usage = error.chain().any(|cause| {
            matches!(
                cause.downcast_ref(),
                Some(tonemap_core::Error::Setting { .. } | tonemap_core::Error::Unreadable { .. })
            ) || cause.is::<Usage>()
        });
        if is_usage { Self::WrongUsage } else { Self::CouldNot }
    }
}

impl From<Status> for ExitCode {
    fn from(status: Status) -> Self {
        match status {
            Status::Done => Self::SUCCESS,
            Status::CouldNot => Self::from(1),
            Status::WrongUsage => Self::from(2),
            Status::Missed => Self::from(3),
        }
    }
}

/// Arguments that are each right but do not go together.
#[derive(Debug)]
pub(crate) struct Usage(pub(crate) String);

impl std::fmt::Display for Usage {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for Usage {}

/// Prints an error as one sentence: what it concerns, then why.
pub(crate) fn print_error(error: &anyhow::Error) {
    let causes = causes(error);
    // A standard error that cannot be written to leaves nothing to be done.
    let _ = writeln!(io::stderr(), "tonemap: {}.", causes.join(": ").trim_end_matches('.'));
}

/// Says something that is no error, in one sentence.
pub(crate) fn say(words: &str) {
    // A standard error that cannot be written to leaves nothing to be done.
    let _ = writeln!(io::stderr(), "tonemap: {}.", words.trim_end_matches('.'));
}

/// What an error says from the outermost cause in; what a cause repeats of the one before it is
/// left out, as the name of a file that both know.
pub(crate) fn causes(error: &anyhow::Error) -> Vec<String> {
    let mut causes: Vec<String> = Vec::new();
    for cause in error.chain().map(advice::of_error) {
        let last = causes.last().cloned().unwrap_or_default();
        let rest = cause.strip_prefix(&format!("{last}: ")).unwrap_or(&cause);
        if !last.ends_with(rest) {
            causes.push(rest.into());
        }
    }
    causes
}

/// Whether the reader of our output has gone, which is no error.
pub(crate) fn is_broken_pipe(error: &anyhow::Error) -> bool {
    error
        .chain()
        .filter_map(|cause| cause.downcast_ref::<io::Error>())
        .any(|cause| cause.kind() == ErrorKind::BrokenPipe)
}
