//! `survey`: many takes measured into one database file.

mod asked;
mod export;
mod lock;
mod run;
mod script;
mod show;

use std::path::PathBuf;

use anyhow::{Context, Result};
use clap::{Args, Subcommand};
use tonemap_core::units::Seconds;
use tonemap_media::RawFormat;
use tonemap_study::Pattern;
use tonemap_survey::Part;

use crate::args::{self, Assumed};
use crate::status::Status;
use run::Run;

/// Measure many takes at once, into one database file that can be resumed and asked
///
/// Every recording under the folders is measured with each command named, one row a take: an SQLite
/// file with a table for each command, its columns named by key and unit, uncertainties beside them.
/// Takes that have not changed are not measured again. The work may be broken off at any time, and
/// goes on where it was; a take that cannot be measured is a row with its reason.
#[derive(Args)]
#[command(
    after_long_help = EXAMPLES,
    args_conflicts_with_subcommands = true,
    subcommand_negates_reqs = true
)]
pub(crate) struct Survey {
    #[command(subcommand)]
    action: Option<Action>,
    #[command(flatten)]
    what: Option<What>,
    #[command(flatten)]
    which: Which,
    #[command(flatten)]
    reading: Reading,
    #[command(flatten)]
    work: Work,
}

const EXAMPLES: &str = "Examples:
  tonemap survey archive --measure 'pitch, timbre, inspect' --into archive.sqlite
      every recording under a folder; again after more were added, only those
  find archive -newer list.txt | tonemap survey - --measure pitch --into new.sqlite
      the takes of a list
  tonemap survey archive --measure 'bands --fraction 1' --names '{bell}/cut{cut}.wav' --into b.sqlite
      options behind the command; conditions from the names of folders and files
  tonemap survey archive --measure pitch --part 3/16 --into part-3.sqlite
      the third of sixteen shares, for one of several machines
  tonemap survey show archive.sqlite --by folder --figure archive.png
      how quantities are spread, and which takes stand out
  tonemap survey export archive.sqlite --parquet tables
      a file a table for query engines";

#[derive(Subcommand)]
enum Action {
    Show(show::Show),
    Export(export::Export),
    Join(export::Join),
    Script(Box<script::Script>),
}

/// What is measured, of which takes, into what.
#[derive(Args)]
struct What {
    /// Folders with recordings, single recordings, or - for a list of them on standard input
    #[arg(value_name = "FOLDER", required = true)]
    folders: Vec<PathBuf>,
    /// Commands on takes, with their options: 'pitch, timbre --resolve 2Hz, inspect'
    #[arg(long, value_name = "COMMANDS")]
    measure: String,
    /// The survey: an SQLite file, made if it is not there
    #[arg(long, value_name = "FILE")]
    into: PathBuf,
}

/// Which takes.
#[derive(Args)]
#[command(next_help_heading = "Which takes")]
struct Which {
    /// Only files whose name matches: '*.flac', 'harp/**'. Given more than once, any may match
    /// [default: by the endings of recordings]
    #[arg(long, value_name = "PATTERN")]
    only: Vec<String>,
    /// Leave out files and folders whose name matches: 'rehearsals/'. So does a line of a file
    /// named .ignore
    #[arg(long, value_name = "PATTERN")]
    without: Vec<String>,
    /// A share of the takes, by their paths: 3/16. Each share has a file of its own
    #[arg(long, value_name = "NUMBER/OF")]
    part: Option<Part>,
    /// Measure again what could not be measured
    #[arg(long)]
    again: bool,
    /// Take out takes that are no longer there
    #[arg(long)]
    drop_gone: bool,
}

/// How takes are read.
#[derive(Args)]
#[command(next_help_heading = "Reading the takes")]
struct Reading {
    /// Conditions from the end of the path: '{instrument}/{note}-{strike}.wav'
    #[arg(long, value_name = "PATTERN")]
    names: Option<Pattern>,
    /// Folder of the study whose takes, calibration and conditions are used [default: the current
    /// folder, if it has a study.toml]
    #[arg(long, value_name = "FOLDER")]
    study: Option<PathBuf>,
    /// The takes have no header: coding, rate and channels, as s24le,48kHz,2
    #[arg(long, value_name = "CODING,RATE,CHANNELS", value_parser = args::raw_format)]
    raw: Option<RawFormat>,
    /// What is not known of the takes: 'full-scale = 94dB', the level of a full-scale sine re
    /// 20 µPa, in place of a calibration
    #[arg(long, value_name = "WHAT")]
    assume: Option<Assumed>,
}

/// How the work is done.
#[derive(Args)]
#[command(next_help_heading = "Work")]
struct Work {
    /// Takes that are measured at once [default: as many as there are cores]
    #[arg(long, value_name = "NUMBER")]
    jobs: Option<std::num::NonZeroUsize>,
    /// Begin no take after this time: 30m, 1h, 1h30m. The rest is measured by the next run
    #[arg(long, value_name = "TIME", value_parser = run::long_time)]
    stop_after: Option<Seconds>,
    /// Print nothing but what failed
    #[arg(long, short, conflicts_with = "verbose", help_heading = "Messages")]
    quiet: bool,
    /// Say what is being done, on standard error
    #[arg(long, short, help_heading = "Messages")]
    verbose: bool,
}

impl Survey {
    pub(crate) fn run(&self) -> Result<Status> {
        match &self.action {
            Some(Action::Show(show)) => show.run(),
            Some(Action::Export(export)) => export.run(),
            Some(Action::Join(join)) => join.run(),
            Some(Action::Script(script)) => script.run(),
            None => {
                let Self { what, which, reading, work, .. } = self;
                let what = what.as_ref().context("the arguments ask for one of them")?;
                Run { what, which, reading, work }.run()
            }
        }
    }
}
