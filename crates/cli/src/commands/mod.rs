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

use anyhow::Result;
use clap::Subcommand;

use crate::output::Status;

/// All commands. A new one is added here and has a file of its own.
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
            Self::Inspect(command) => command.run(),
            Self::Spectrum(command) => command.run(),
            Self::Spectrogram(command) => command.run(),
            Self::Pitch(command) => command.run(),
            Self::Partials(command) => command.run(),
            Self::Timbre(command) => command.run(),
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
