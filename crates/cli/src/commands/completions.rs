//! `completions`: what a shell completes.

use anyhow::Result;
use clap::{Args, CommandFactory};
use clap_complete::Shell;

use super::Cli;
use crate::output;
use crate::status::Status;

/// Print completions of commands and options for a shell
///
/// Put them where the shell looks for them; docs/packages.md says where that is.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Completions {
    /// The shell
    #[arg(value_name = "SHELL")]
    shell: Shell,
}

const EXAMPLES: &str = "Examples:
  tonemap completions bash > ~/.local/share/bash-completion/completions/tonemap
  tonemap completions zsh > ~/.zfunc/_tonemap
  tonemap completions fish > ~/.config/fish/completions/tonemap.fish
  tonemap completions powershell >> $PROFILE";

impl Completions {
    pub(crate) fn run(&self) -> Result<Status> {
        let mut script = Vec::new();
        clap_complete::generate(self.shell, &mut Cli::command(), "tonemap", &mut script);
        output::print(&String::from_utf8_lossy(&script))?;
        Ok(Status::Done)
    }
}
