//! The commands, one file each: its arguments, then resolve settings → run → present.

mod again;
mod bands;
mod compare;
mod completions;
mod demo;
mod filter;
mod help;
mod inspect;
mod isolation;
mod loudness;
mod man;
mod modulation;
mod notate;
mod partials;
mod passby;
mod pitch;
mod rebuild;
mod report;
mod room;
mod signal;
mod spectrogram;
mod spectrum;
mod study;
mod survey;
mod timbre;
mod transfer;
mod trend;
mod tuning;
mod unison;
mod watch;

use anyhow::{Context, Result, bail};
use clap::{CommandFactory, Parser, Subcommand};

use crate::analyses::word_of;
use crate::args::SourceArgs;
use crate::kept::{Kept, Present, presented};
use crate::measure::{Measure, Wants, drive, on, on_all};
use crate::rerun;
use crate::status::{Status, Usage};
use crate::studies::Named;

/// Measures what is in a sound: spectra and their tones, with the uncertainty of every number.
///
/// Levels are in dB re full scale: a full-scale sine reads 0 dB. Uncertainties (± u) are standard
/// uncertainties: the true value lies within ± 2 u in about 95 of 100 cases.
#[derive(Parser)]
#[command(
    name = "tonemap",
    version,
    propagate_version = true,
    max_term_width = 100,
    disable_help_subcommand = true,
    after_help = "'tonemap help' lists topics, 'tonemap help TOPIC' explains one."
)]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// All commands. A new one has a file of its own, a line here, one in [`Command::ways`], and one
/// in [`RESULTS`] if it measures.
#[derive(Subcommand)]
pub(crate) enum Command {
    Inspect(inspect::Inspect),
    Spectrum(Box<spectrum::Spectrum>),
    Bands(Box<bands::Bands>),
    Spectrogram(Box<spectrogram::Spectrogram>),
    Pitch(Box<pitch::Pitch>),
    Partials(Box<partials::Partials>),
    Timbre(Box<timbre::Timbre>),
    Tuning(Box<tuning::Tuning>),
    Unison(Box<unison::Unison>),
    Modulation(Box<modulation::Modulation>),
    Loudness(Box<loudness::Loudness>),
    Transfer(Box<transfer::Transfer>),
    Passby(Box<passby::Passby>),
    Room(Box<room::Room>),
    Isolation(Box<isolation::Isolation>),
    Compare(Box<compare::Compare>),
    Trend(Box<trend::Trend>),
    Report(report::Report),
    Rebuild(Box<rebuild::Rebuild>),
    Notate(Box<notate::Notate>),
    Filter(Box<filter::Filter>),
    Signal(signal::Signal),
    Watch(Box<watch::Watch>),
    Survey(Box<survey::Survey>),
    Study(study::Study),
    Again(again::Again),
    Demo(demo::Demo),
    Completions(completions::Completions),
    Man(man::Man),
    Help(help::Help),
}

impl Command {
    pub(crate) fn run(&self) -> Result<Status> {
        (self.ways().alone)()
    }

    fn ways(&self) -> Ways<'_> {
        match self {
            Self::Inspect(command) => measures(command),
            Self::Spectrum(command) => measures(&**command),
            Self::Bands(command) => measures(&**command),
            Self::Spectrogram(command) => presents(&**command),
            Self::Pitch(command) => measures(&**command),
            Self::Partials(command) => measures(&**command),
            Self::Timbre(command) => measures(&**command),
            Self::Tuning(command) => presents(&**command),
            Self::Unison(command) => measures(&**command),
            Self::Modulation(command) => measures(&**command),
            Self::Loudness(command) if command.is_of_levels() => presents(&**command),
            Self::Loudness(command) => measures(&**command),
            Self::Transfer(command) => presents(&**command),
            Self::Passby(command) => measures(&**command),
            Self::Room(command) => presents(&**command),
            Self::Isolation(command) => presents(&**command),
            Self::Compare(command) => presents(&**command),
            Self::Trend(command) => presents(&**command),
            Self::Report(command) => acts(|| command.run()),
            Self::Rebuild(command) => acts(|| command.run()),
            Self::Notate(command) => measures(&**command),
            Self::Filter(command) => acts(|| command.run()),
            Self::Signal(command) => acts(|| command.run()),
            Self::Watch(command) => acts(|| command.run()),
            Self::Survey(command) => acts(|| command.run()),
            Self::Study(command) => acts(|| command.run()),
            Self::Again(command) => acts(|| command.run()),
            Self::Demo(command) => acts(|| command.run()),
            Self::Completions(command) => acts(|| command.run()),
            Self::Man(command) => acts(|| command.run()),
            Self::Help(command) => acts(|| command.run()),
        }
    }
}

/// How a command is run: alone, and within another on a take that is found already or on those that
/// it names.
struct Ways<'c> {
    alone: Box<dyn FnOnce() -> Result<Status> + 'c>,
    within: Box<Within<'c>>,
    /// On each of the takes that it names, or on all of them together.
    all: Box<dyn FnOnce() -> Result<Vec<Kept>> + 'c>,
    /// Whether its command line must name the takes, also within another.
    names_takes: bool,
}

type Within<'c> = dyn FnOnce(Option<&Named>, Wants) -> Result<Kept> + 'c;

/// One that measures takes one by one.
fn measures<M: Measure>(command: &M) -> Ways<'_> {
    Ways {
        alone: Box::new(|| drive(command)),
        within: Box::new(|of, wants| on(command, of.context("no take is named")?, wants)),
        all: Box::new(|| on_all(command)),
        names_takes: false,
    }
}

/// One that measures takes together.
fn presents<P: Present>(command: &P) -> Ways<'_> {
    Ways {
        alone: Box::new(|| presented(command)),
        within: Box::new(|_, _| command.present()?.kept()),
        all: Box::new(|| Ok(vec![command.present()?.kept()?])),
        names_takes: true,
    }
}

/// One that measures nothing.
fn acts<'c>(run: impl FnOnce() -> Result<Status> + 'c) -> Ways<'c> {
    Ways {
        alone: Box::new(run),
        within: Box::new(|_, _| bail!("this command measures no take")),
        all: Box::new(|| bail!("this command measures no take")),
        names_takes: true,
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
pub(crate) const RESULTS: [(&str, About); 18] = [
    ("inspect", About::Take),
    ("spectrum", About::Take),
    ("bands", About::Take),
    ("spectrogram", About::Take),
    ("pitch", About::Take),
    ("partials", About::Take),
    ("timbre", About::Take),
    ("tuning", About::Take),
    ("unison", About::Take),
    ("modulation", About::Take),
    ("loudness", About::Take),
    ("transfer", About::Several),
    ("passby", About::Take),
    ("room", About::Take),
    ("isolation", About::Several),
    ("compare", About::Several),
    ("trend", About::Several),
    ("notate", About::Take),
];

/// Teaches what runs command lines again which there are.
pub(crate) fn learn() {
    let made_again = RESULTS.map(|(name, _)| name).into_iter().chain(["rebuild"]);
    rerun::learn(&Cli::command(), made_again.collect());
}

/// Runs a command line that measures within this one, on a take that is found already or on those
/// that it names.
pub(crate) fn within(arguments: &[String], of: Option<&Named>) -> Result<Kept> {
    let cli = read(arguments)?;
    rerun::within(arguments, || (cli.command.ways().within)(of, Wants::Page))
}

/// The same of a command line that names its takes: on each of them, or on all together.
pub(crate) fn all_within(arguments: &[String]) -> Result<Vec<Kept>> {
    let cli = read(arguments)?;
    rerun::within(arguments, || (cli.command.ways().all)())
}

fn read(arguments: &[String]) -> Result<Cli> {
    let mut words = vec!["tonemap".to_string()];
    words.extend(arguments.iter().cloned());
    words.splice(2..2, ["--quiet".into(), "--format".into(), "json".into()]);
    Cli::try_parse_from(words).map_err(|error| {
        let said = error.to_string();
        let first = said.lines().next().unwrap_or_default();
        Usage(first.trim_start_matches("error: ").into()).into()
    })
}

/// A command with its options that measures many takes, one after the other.
pub(crate) struct ForMany {
    /// The command and its options.
    words: Vec<String>,
    cli: Cli,
}

impl ForMany {
    pub(crate) fn new(words: Vec<String>) -> Result<Self> {
        let line = with_take(&words, "take");
        let cli = read(&line)?;
        let whole = std::iter::once("tonemap").chain(line.iter().map(String::as_str));
        let matches = Cli::command().try_get_matches_from(whole)?;
        let own = matches.subcommand().map(|(_, own)| own);
        let takes = own.and_then(|own| own.try_get_raw("takes").ok().flatten());
        if takes.is_some_and(|takes| takes.len() > 1) {
            let reason = "a take is named behind a command that is given many";
            return Err(Usage(format!("{}: {reason}; leave it out", words.join(" "))).into());
        }
        Ok(Self { words, cli })
    }

    /// The same with how takes are read.
    pub(crate) fn reading(&self, source: &SourceArgs) -> Result<Self> {
        let mut how = Vec::new();
        how.extend(source.raw.map(|raw| format!("--raw={raw}")));
        how.extend(source.assume.map(|assumed| format!("--assume={assumed}")));
        how.extend(source.study.as_ref().map(|folder| format!("--study={}", folder.display())));
        let mut words = self.words.clone();
        words.splice(1..1, how);
        Self::new(words)
    }

    /// The numbers of a take.
    pub(crate) fn numbers(&self, of: &Named) -> Result<Kept> {
        if !self.cli.command.ways().names_takes {
            return rerun::within(&self.words, || {
                (self.cli.command.ways().within)(Some(of), Wants::Numbers)
            });
        }
        let words = with_take(&self.words, &word_of(of));
        let cli = read(&words)?;
        rerun::within(&words, || (cli.command.ways().within)(Some(of), Wants::Numbers))
    }
}

/// A command line with the take behind the command.
fn with_take(words: &[String], take: &str) -> Vec<String> {
    let mut words = words.to_vec();
    words.insert(1.min(words.len()), take.into());
    words
}

/// The commands that measure a take.
pub(crate) fn of_takes() -> impl Iterator<Item = &'static str> {
    RESULTS.into_iter().filter(|(_, about)| *about == About::Take).map(|(name, _)| name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_option_has_a_name_of_its_own() {
        let mut program = Cli::command();
        program.build();
        for command in program.get_subcommands() {
            let mut names: Vec<&str> =
                command.get_arguments().filter_map(clap::Arg::get_long).collect();
            names.sort_unstable();
            let twice = names.windows(2).find(|two| two[0] == two[1]);
            assert_eq!(twice, None, "{}", command.get_name());
        }
    }

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
