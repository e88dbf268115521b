//! The commands, one file each: its arguments, then resolve settings → run → present.

mod again;
mod compare;
mod demo;
mod filter;
mod inspect;
mod partials;
mod pitch;
mod report;
mod signal;
mod spectrogram;
mod spectrum;
mod study;
mod timbre;
mod trend;
mod tuning;

use anyhow::{Result, bail};
use clap::{CommandFactory, Parser, Subcommand};

use crate::kept::Kept;
use crate::measure::{drive, on};
use crate::rerun;
use crate::status::{Status, Usage};
use crate::studies::Named;

/// Measures what is in a sound: spectra and their tones, with the uncertainty of every number.
///
/// Levels are in dB re full scale: a full-scale sine reads 0 dB. Uncertainties (± u) are standard
/// uncertainties: the true value lies within ± 2 u in about 95 of 100 cases.
#[derive(Parser)]
#[command(name = "tonemap", version, propagate_version = true, max_term_width = 100)]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// All commands. A new one has a file of its own, a line here, one in [`Command::run`], and one in [`RESULTS`]
/// if it measures.
#[derive(Subcommand)]
pub(crate) enum Command {
    Inspect(inspect::Inspect),
    Spectrum(Box<spectrum::Spectrum>),
    Spectrogram(Box<spectrogram::Spectrogram>),
    Pitch(Box<pitch::Pitch>),
    Partials(Box<partials::Partials>),
    Timbre(Box<timbre::Timbre>),
    Tuning(Box<tuning::Tuning>),
    Compare(Box<compare::Compare>),
    Trend(Box<trend::Trend>),
    Report(report::Report),
    Filter(Box<filter::Filter>),
    Signal(signal::Signal),
    Study(study::Study),
    Again(again::Again),
    Demo(demo::Demo),
}

impl Command {
    pub(crate) fn run(&self) -> Result<Status> {
        match self {
            Self::Inspect(command) => drive(command),
            Self::Spectrum(command) => drive(&**command),
            Self::Spectrogram(command) => command.run(),
            Self::Pitch(command) => drive(&**command),
            Self::Partials(command) => drive(&**command),
            Self::Timbre(command) => drive(&**command),
            Self::Tuning(command) => command.run(),
            Self::Compare(command) => command.run(),
            Self::Trend(command) => command.run(),
            Self::Report(command) => command.run(),
            Self::Filter(command) => command.run(),
            Self::Signal(command) => command.run(),
            Self::Study(command) => command.run(),
            Self::Again(command) => command.run(),
            Self::Demo(command) => command.run(),
        }
    }
}

/// What a command that measures is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum About {
    /// A take: its numbers can be followed from take to take.
    Take,
    /// Several takes together, or a study.
    Several,
}

/// The commands that measure: their results can be saved, compared, made again and reported.
pub(crate) const RESULTS: [(&str, About); 9] = [
    ("inspect", About::Take),
    ("spectrum", About::Take),
    ("spectrogram", About::Take),
    ("pitch", About::Take),
    ("partials", About::Take),
    ("timbre", About::Take),
    ("tuning", About::Take),
    ("compare", About::Several),
    ("trend", About::Several),
];

/// Teaches what runs command lines again which there are.
pub(crate) fn learn() {
    rerun::learn(&Cli::command(), RESULTS.map(|(name, _)| name).to_vec());
}

/// Runs a command line that measures within this one, on a take that is found already or on those that it names.
pub(crate) fn within(arguments: &[String], of: Option<&Named>) -> Result<Kept> {
    let mut words = vec!["tonemap".to_string()];
    words.extend(arguments.iter().cloned());
    words.splice(2..2, ["--quiet".into(), "--format".into(), "json".into()]);
    let cli = Cli::try_parse_from(words).map_err(|error| {
        let said = error.to_string();
        let first = said.lines().next().unwrap_or_default();
        Usage(first.trim_start_matches("error: ").into())
    })?;
    rerun::within(arguments, || match (&cli.command, of) {
        (Command::Inspect(command), Some(named)) => on(command, named),
        (Command::Spectrum(command), Some(named)) => on(&**command, named),
        (Command::Pitch(command), Some(named)) => on(&**command, named),
        (Command::Partials(command), Some(named)) => on(&**command, named),
        (Command::Timbre(command), Some(named)) => on(&**command, named),
        (Command::Spectrogram(command), _) => command.present()?.kept(),
        (Command::Tuning(command), _) => command.present()?.kept(),
        (Command::Compare(command), _) => command.present()?.kept(),
        (Command::Trend(command), _) => command.present()?.kept(),
        _ => bail!("this command measures no take"),
    })
}

/// The commands that measure a take.
pub(crate) fn of_takes() -> impl Iterator<Item = &'static str> {
    RESULTS.into_iter().filter(|(_, about)| *about == About::Take).map(|(name, _)| name)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What measures can be limited, and what can be limited measures.
    #[test]
    fn the_list_of_what_measures_is_that_of_what_can_be_limited() {
        let program = Cli::command();
        let limited = program.get_subcommands().filter(|command| {
            command.get_arguments().any(|option| option.get_long() == Some("require"))
        });
        let limited: Vec<&str> = limited.map(clap::Command::get_name).collect();
        assert_eq!(limited, RESULTS.map(|(name, _)| name));
    }
}
