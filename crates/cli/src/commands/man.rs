//! `man`: manual pages for a package.

use std::path::PathBuf;

use anyhow::{Context, Result};
use clap::{Args, CommandFactory};

use super::Cli;
use crate::files::{self, Content};
use crate::status::Status;

/// Write manual pages into a folder: one of the program, one of each command
///
/// For packages, and for those who install by hand: 'tonemap man ~/.local/share/man/man1', then
/// 'man tonemap-unison'.
#[derive(Args)]
pub(crate) struct Man {
    /// Folder, which is made if it is not there
    #[arg(value_name = "FOLDER")]
    folder: PathBuf,
    /// Replace files that exist already
    #[arg(long, help_heading = "Files")]
    force: bool,
}

impl Man {
    pub(crate) fn run(&self) -> Result<Status> {
        let mut program = Cli::command();
        program.build();
        let mut pages = vec![program.clone()];
        for command in program.get_subcommands() {
            pages.push(command.clone());
            pages.extend(command.get_subcommands().cloned());
        }
        std::fs::create_dir_all(&self.folder).with_context(|| {
            format!("{}: the folder cannot be made", files::shown(&self.folder))
        })?;
        for page in pages.into_iter().filter(|page| page.get_name() != "help") {
            // A command of a command is called by all its names.
            let name = page.get_display_name().unwrap_or(page.get_name()).to_string();
            let mut text = Vec::new();
            clap_mangen::Man::new(page).title(name.to_uppercase()).render(&mut text)?;
            let file = self.folder.join(format!("{name}.1"));
            files::write_whole(&file, Content::Result, &text, self.force)?;
        }
        Ok(Status::Done)
    }
}
