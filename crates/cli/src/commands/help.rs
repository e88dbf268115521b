//! `help`: commands, topics and findings, explained.

use anyhow::Result;
use clap::{Args, CommandFactory};

use super::Cli;
use crate::manual::{TOPICS, finding, finding_codes};
use crate::output;
use crate::status::{Status, Usage};
use crate::text;

/// Explain a command, a topic or a finding
///
/// Topics are the short form of the manual in docs: what can be typed, levels, frames, uncertainty,
/// files, names of numbers. A finding is named by its code, as it stands in JSON.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Help {
    /// A command, a topic, or the code of a finding; a list of all if nothing is named
    #[arg(value_name = "TOPIC")]
    words: Vec<String>,
}

const EXAMPLES: &str = "Examples:
  tonemap help unison
  tonemap help units
  tonemap help clipped
      what the finding means, and what to do
  tonemap help findings
      the codes of all findings";

/// What stands below the commands.
pub(crate) fn topics() -> String {
    let mut out = "Topics, with 'tonemap help TOPIC':\n".to_string();
    for topic in &TOPICS {
        out += &format_row(topic.name, topic.about);
    }
    out + &format_row("findings", "the codes of all findings; 'tonemap help CODE' explains one")
}

fn format_row(name: &str, about: &str) -> String {
    format!("  {name:<12} {about}\n")
}

impl Help {
    pub(crate) fn run(&self) -> Result<Status> {
        let mut program = Cli::command().after_help(topics());
        program.build();
        let Some(first) = self.words.first() else {
            return printed(&program.render_help().to_string());
        };
        let mut command = Some(&program);
        for word in &self.words {
            command = command.and_then(|of| of.find_subcommand(word));
        }
        if let Some(command) = command {
            return printed(&command.clone().render_long_help().to_string());
        }
        if let ([_], Some(topic)) = (&self.words[..], TOPICS.iter().find(|one| one.name == first)) {
            return printed(&topic.text());
        }
        if first == "findings" {
            let codes: Vec<&str> = finding_codes().collect();
            return printed(&format!("{}\n", codes.join("\n")));
        }
        if let Some(text) = finding(first) {
            return printed(&text);
        }
        let asked = self.words.join(" ");
        let commands = program.get_subcommands().map(|one| one.get_name().to_string());
        let known = commands
            .chain(TOPICS.iter().map(|one| one.name.to_string()))
            .chain(finding_codes().map(String::from));
        let meant = text::meant(&asked, known);
        let reason = "is no command, topic or finding; 'tonemap help' lists them";
        Err(Usage(format!("'{asked}' {reason}{meant}")).into())
    }
}

fn printed(text: &str) -> Result<Status> {
    output::print(text)?;
    Ok(Status::Done)
}
