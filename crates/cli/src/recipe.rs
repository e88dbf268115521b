//! The command line that a result comes from, and running it again.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};

use crate::files;
use crate::interrupt;

/// Options that say where a result goes and how it looks, not what it is: with a value, and without. The size of a figure does not belong here: a
/// spectrogram has as many cells as it has pixels.
const WITH_VALUE: [&str; 9] = [
    "--output",
    "--figure",
    "--view",
    "--colours",
    "--amplitude",
    "--evidence",
    "--sdif",
    "--data",
    "--midi",
];
const ALONE: [&str; 7] = ["--force", "--quiet", "-q", "--verbose", "-v", "--cumulative", "--alone"];
/// Commands whose results can be made again.
const MEASURE: [&str; 9] = [
    "inspect",
    "spectrum",
    "spectrogram",
    "pitch",
    "partials",
    "timbre",
    "tuning",
    "compare",
    "trend",
];

/// Whether a command measures a take, so that its numbers can be followed from take to take.
pub(crate) fn measures_takes(command: &str) -> bool {
    MEASURE.contains(&command) && !["compare", "trend"].contains(&command)
}

/// The commands that do, for messages.
pub(crate) fn measuring() -> String {
    let commands = MEASURE.into_iter().filter(|command| measures_takes(command));
    commands.collect::<Vec<_>>().join(", ")
}

/// What was typed after the name of the program, as far as it bears on the result.
pub(crate) fn typed() -> Vec<String> {
    let words = std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned());
    bearing(words)
}

fn bearing(words: impl Iterator<Item = String>) -> Vec<String> {
    let mut kept = Vec::new();
    let mut is_value = false;
    for word in words {
        let name = word.split('=').next().unwrap_or(&word);
        if is_value {
            is_value = false;
        } else if WITH_VALUE.contains(&name) {
            is_value = !word.contains('=');
        } else if !ALONE.contains(&name) {
            kept.push(word);
        }
    }
    kept
}

/// Runs a command line that measures in a folder and gives its JSON, which is complete even where a limit is missed. What went wrong with it
/// is told in its own words.
pub(crate) fn run(arguments: &[String], folder: &Path) -> Result<String> {
    run_reading(arguments, folder, None)
}

/// The same; if files are given, it reads no take and no file but these, keeps nothing and writes
/// nothing.
pub(crate) fn run_reading(
    arguments: &[String],
    folder: &Path,
    only: Option<&[PathBuf]>,
) -> Result<String> {
    let command = arguments.first().map_or("", String::as_str);
    if !MEASURE.contains(&command) {
        bail!("'{command}' is no command whose result can be made again");
    }
    if arguments.iter().any(|word| word == "-") {
        bail!("it was made from standard input, which cannot be read again");
    }
    let mut words = bearing(arguments.iter().cloned());
    // Options stand before the takes: behind two dashes all are takes.
    words.insert(1, "--quiet".into());
    if !words.iter().any(|word| word == "--format" || word.starts_with("--format=")) {
        words.splice(1..1, ["--format".into(), "json".into()]);
    }
    let only = only.map(|files| {
        let names: Vec<String> = files.iter().map(|file| file.display().to_string()).collect();
        (files::READS_ONLY, names.join("\n"))
    });
    let environment: Vec<(&str, String)> = only.into_iter().collect();
    let done = interrupt::run_self(&words, folder, &environment)
        .context("the program could not be started")?;
    let out = String::from_utf8_lossy(&done.stdout).into_owned();
    if out.is_empty() {
        let said = String::from_utf8_lossy(&done.stderr);
        let said = said.lines().next().unwrap_or("it gave no result");
        bail!("{}", said.trim_start_matches("tonemap: ").trim_end_matches('.'));
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn options_that_are_left_out_take_a_value_or_none_as_listed() {
        use clap::CommandFactory;
        let program = crate::Cli::command();
        for command in program.get_subcommands().filter(|c| MEASURE.contains(&c.get_name())) {
            for option in command.get_arguments() {
                let Some(long) = option.get_long().map(|long| format!("--{long}")) else {
                    continue;
                };
                let takes_value = option.get_action().takes_values();
                let place = format!("{} {long}", command.get_name());
                assert!(takes_value || !WITH_VALUE.contains(&long.as_str()), "{place}");
                assert!(!takes_value || !ALONE.contains(&long.as_str()), "{place}");
            }
        }
    }

    #[test]
    fn what_only_says_where_and_how_is_left_out() {
        let typed =
            "timbre a.wav --figure a.png --view harmonics --tracks --format json --output=x -q";
        let kept = bearing(typed.split_whitespace().map(String::from));
        assert_eq!(kept, ["timbre", "a.wav", "--tracks", "--format", "json"]);
        let elsewhere = run(&["demo".into(), "x".into()], Path::new(""));
        assert!(elsewhere.is_err_and(|error| error.to_string().contains("'demo'")));
    }
}
