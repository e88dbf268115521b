//! `tonemap`: what is in a sound, where exactly, and how sure.
//!
//! This crate ties the others together: arguments in, media → core → figures and text, files out.
//! Each command is one file in [`commands`]; nothing is computed here.

mod analyses;
mod args;
mod arrays;
mod commands;
mod export;
mod files;
mod fundamental;
mod interrupt;
mod limits;
mod output;
mod progress;
mod recipe;
mod saved;
mod sides;
mod sketch;
mod sound;
mod stream;
mod studies;
mod take;
mod text;

use std::path::Path;
use std::process::ExitCode;

use clap::Parser;

/// Measures what is in a sound: spectra and their tones, with the uncertainty of every number.
///
/// Levels are in dB re full scale: a full-scale sine reads 0 dB. Uncertainties (± u) are standard
/// uncertainties: the true value lies within ± 2 u in about 95 of 100 cases.
#[derive(Parser)]
#[command(name = "tonemap", version, propagate_version = true, max_term_width = 100)]
struct Cli {
    #[command(subcommand)]
    command: commands::Command,
}

fn main() -> ExitCode {
    let cli = Cli::parse();
    interrupt::watch();
    files::sweep(Path::new("."));
    files::sweep(&std::env::temp_dir());
    let status = cli.command.run();
    match status {
        Ok(status) => status.into(),
        Err(error) if output::is_broken_pipe(&error) => ExitCode::SUCCESS,
        Err(error) => {
            output::print_error(&error);
            output::Status::of(&error).into()
        }
    }
}
