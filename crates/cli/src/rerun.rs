//! The command line that a result comes from, and running it again.
//!
//! What only draws, or says where a result goes, is no part of it. Which options those are, the
//! arguments themselves say, by the heading that they stand under in the help.

use std::cell::RefCell;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use anyhow::{Context, Result, bail};

use crate::files;
use crate::interrupt;

/// Headings of the options that only draw, write files or talk.
const DIRECTING: [&str; 3] = ["Figure", "Files", "Messages"];
/// One that draws, and yet says how many cells a spectrogram has.
const SIZE: &str = "size";

/// What a command line may be run again for, and how its options are resolved.
static PROGRAM: OnceLock<Program> = OnceLock::new();

#[derive(Debug, Default)]
struct Program {
    /// Commands whose results can be made again.
    repeatable: Vec<&'static str>,
    /// For each command the options that are left out, and whether a value belongs to them.
    directing: HashMap<String, HashMap<String, bool>>,
}

/// Learns the options of all commands from their arguments, and which commands can be run again.
pub(crate) fn learn(program: &clap::Command, repeatable: Vec<&'static str>) {
    let directing = program.get_subcommands().map(|command| {
        let own = command.get_arguments().filter(|option| {
            let heading = option.get_help_heading().unwrap_or_default();
            DIRECTING.contains(&heading) && option.get_id() != SIZE
        });
        let names = own.flat_map(|option| {
            let has_value = option.get_action().takes_values();
            let long = option.get_long().map(|long| (format!("--{long}"), has_value));
            let short = option.get_short().map(|short| (format!("-{short}"), has_value));
            long.into_iter().chain(short)
        });
        (command.get_name().to_string(), names.collect())
    });
    let learned = Program { repeatable, directing: directing.collect() };
    // It is learned once, before any command runs.
    let _ = PROGRAM.set(learned);
}

fn program() -> &'static Program {
    PROGRAM.get_or_init(Program::default)
}

thread_local! {
    /// The command lines that are run within this one, the innermost last.
    static WITHIN: RefCell<Vec<Vec<String>>> = const { RefCell::new(Vec::new()) };
}

/// Runs a command line within this one: its results say that they come from it.
pub(crate) fn within<T>(arguments: &[String], work: impl FnOnce() -> T) -> T {
    WITHIN.with_borrow_mut(|stack| stack.push(arguments.to_vec()));
    let done = files::recording(work);
    WITHIN.with_borrow_mut(Vec::pop);
    done
}

/// What was typed after the name of the program, or is run within that, as far as it bears on the
/// result.
pub(crate) fn typed() -> Vec<String> {
    let inner = WITHIN.with_borrow(|stack| stack.last().cloned());
    bearing(inner.unwrap_or_else(|| {
        std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect()
    }))
}

fn bearing(words: Vec<String>) -> Vec<String> {
    let directing = words.first().and_then(|command| program().directing.get(command));
    let Some(directing) = directing else { return words };
    let mut kept = Vec::new();
    let mut is_value = false;
    for word in words {
        let name = word.split('=').next().unwrap_or(&word);
        match directing.get(name) {
            _ if is_value => is_value = false,
            Some(has_value) => is_value = *has_value && !word.contains('='),
            None => kept.push(word),
        }
    }
    kept
}

/// Runs a command line that measures in a folder, in a process of its own, and gives its JSON,
/// which is complete even where a limit is missed. It reads no take and no file but those given,
/// keeps nothing and writes nothing. What went wrong with it is said in its own words.
pub(crate) fn run_reading(arguments: &[String], folder: &Path, only: &[PathBuf]) -> Result<String> {
    let command = arguments.first().map_or("", String::as_str);
    if !program().repeatable.contains(&command) {
        bail!("'{command}' is no command whose result can be made again");
    }
    if arguments.iter().any(|word| word == "-") {
        bail!("it was made from standard input, which cannot be read again");
    }
    let mut words = bearing(arguments.to_vec());
    // Options stand before the takes: behind two dashes all are takes.
    words.insert(1, "--quiet".into());
    if !words.iter().any(|word| word == "--format" || word.starts_with("--format=")) {
        words.splice(1..1, ["--format".into(), "json".into()]);
    }
    let names: Vec<String> = only.iter().map(|file| file.display().to_string()).collect();
    let environment = [(files::READS_ONLY, names.join("\n"))];
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
    fn what_only_says_where_and_how_is_left_out() {
        crate::commands::learn();
        let kept = |typed: &str| bearing(typed.split_whitespace().map(String::from).collect());
        let typed =
            "timbre a.wav --figure a.png --view harmonics --tracks --format json --output=x -q";
        assert_eq!(kept(typed).join(" "), "timbre a.wav --tracks --format json");
        // The cells of a spectrogram are those of its picture.
        let of_cells = "spectrogram a.wav --size 800x600 --floor -80 --slice 1s --colours grey";
        assert_eq!(
            kept(of_cells).join(" "),
            "spectrogram a.wav --size 800x600 --floor -80 --slice 1s"
        );
        let elsewhere = run_reading(&["demo".into(), "x".into()], Path::new(""), &[]);
        assert!(elsewhere.is_err_and(|error| error.to_string().contains("'demo'")));
    }
}
