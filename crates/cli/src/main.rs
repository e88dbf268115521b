//! `tonemap`: what is in a sound, where exactly, and how sure.
//!
//! This crate ties the others together: arguments in, media → core → figures and text, files out.
//! Each command is one file in [`commands`]; those that measure takes one by one are run by
//! [`measure`].
//!
//! ```text
//! tonemap inspect harp-g3.wav
//! tonemap partials harp-g3.wav --figure partials.png --require 'inharmonicity<0.001'
//! ```

mod advice;
mod analyses;
mod args;
mod arrays;
mod band_file;
mod columns;
mod commands;
mod export;
mod files;
mod fundamental;
mod interrupt;
mod json;
mod kept;
mod level_curve;
mod levels;
mod limits;
mod look;
mod manual;
mod measure;
mod output;
mod parts;
mod passes;
mod progress;
mod record;
mod rerun;
mod saved;
mod sides;
mod sketch;
mod sound;
mod source;
mod spool;
mod status;
mod stream;
mod studies;
mod table;
mod take;
mod text;
mod tracks;

use std::path::Path;
use std::process::ExitCode;

use clap::Parser;

use commands::Cli;

fn main() -> ExitCode {
    let cli = Cli::parse();
    commands::learn();
    interrupt::watch();
    files::sweep(Path::new("."));
    files::sweep(&std::env::temp_dir());
    let status = cli.command.run();
    match status {
        Ok(status) => status.into(),
        Err(error) if status::is_broken_pipe(&error) => ExitCode::SUCCESS,
        Err(error) => {
            status::print_error(&error);
            status::Status::of(&error).into()
        }
    }
}
