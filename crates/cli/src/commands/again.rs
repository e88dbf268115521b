//! `again`: a saved result made again, and held against what it was.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use clap::Args;

use crate::output::{self, Status};
use crate::recipe;
use crate::saved::{self, Saved};
use crate::take::hash_of;
use crate::text;

/// Make a saved result again and say whether it is the same
///
/// The command that a result says it comes from is run anew. The hash of every take is compared with the one in the result, the program's
/// version too, and then the result itself, byte for byte. The exit status is 0 if it is the same and 3 if it is not.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Again {
    /// Results as --format json wrote them
    #[arg(required = true, value_name = "RESULT")]
    results: Vec<PathBuf>,
}

const EXAMPLES: &str = "Examples:
  tonemap partials harp-g3.wav --format json --output harp-g3.json
  tonemap again harp-g3.json
      whether the take and the numbers are still the same";

/// Numbers that are told as changed at most.
const MOST_TOLD: usize = 8;

impl Again {
    pub(crate) fn run(&self) -> Result<Status> {
        let mut status = Status::Done;
        for path in &self.results {
            let told = again(path);
            match told {
                Ok((said, is_same)) => {
                    output::print(&format!("{}\n{said}", path.display()))?;
                    if !is_same && status == Status::Done {
                        status = Status::Missed;
                    }
                }
                Err(error) if self.results.len() > 1 => {
                    output::print_error(&error);
                    status = Status::CouldNot;
                }
                Err(error) => return Err(error),
            }
        }
        Ok(status)
    }
}

/// What is to be said of a file of results, and whether all is the same.
fn again(path: &Path) -> Result<(String, bool)> {
    let name = || path.display().to_string();
    let before = std::fs::read_to_string(path).with_context(name)?;
    let was = saved::results_of(&before).with_context(name)?;
    let mut said = String::new();
    let mut is_same = true;
    let folder = folder_of(&was, path);
    for one in &was {
        for (take, hash) in one.takes() {
            let now = hash_of(&folder.join(&take));
            let line = match now {
                Ok(now) if now == hash => continue,
                Ok(_) => format!("{}: the recording has changed since", take.display()),
                Err(error) => format!("{}: the recording cannot be read: {error}", take.display()),
            };
            is_same = false;
            if !said.contains(&line) {
                said += &text::sentence(&line);
            }
        }
    }
    let version = was[0].value["tonemap"].as_str().unwrap_or_default();
    if version != env!("CARGO_PKG_VERSION") {
        said += &text::sentence(&format!(
            "made by version {version}, repeated by version {}",
            env!("CARGO_PKG_VERSION")
        ));
    }
    let after = recipe::run(&was[0].arguments(), &folder).with_context(name)?;
    if after == before {
        said += &text::sentence("the same to the byte");
        return Ok((said, is_same));
    }
    is_same = false;
    let now = saved::results_of(&after).with_context(name)?;
    said += &changes(&was, &now);
    Ok((said, is_same))
}

/// The folder in which the paths of a result lead to its takes: the current one, or that of the result.
fn folder_of(was: &[Saved], path: &Path) -> PathBuf {
    let leads = |folder: &Path| {
        was.iter().flat_map(Saved::takes).all(|(take, _)| folder.join(take).is_file())
    };
    let beside = path.parent().unwrap_or(Path::new("")).to_path_buf();
    if !leads(Path::new("")) && leads(&beside) { beside } else { PathBuf::new() }
}

/// The numbers that are not what they were.
fn changes(was: &[Saved], now: &[Saved]) -> String {
    let mut changed = Vec::new();
    if was.len() != now.len() {
        changed.push(format!("{} results instead of {}", now.len(), was.len()));
    }
    for (was, now) in was.iter().zip(now) {
        let (before, after) = (was.numbers(), now.numbers());
        for number in &before {
            let value = after.iter().find(|other| other.key == number.key);
            let line = match value {
                Some(other) if other.value.value == number.value.value => continue,
                Some(other) => format!(
                    "{} was {} and is {}",
                    number.key, number.value.value, other.value.value
                ),
                None => format!("{} was {} and is not told", number.key, number.value.value),
            };
            changed.push(line);
        }
    }
    if changed.is_empty() {
        return text::sentence(
            "the numbers are the same; settings, findings or words beside them differ",
        );
    }
    let more = changed.len().saturating_sub(MOST_TOLD);
    changed.truncate(MOST_TOLD);
    let mut said: String = changed.iter().map(|line| text::sentence(line)).collect();
    if more > 0 {
        said += &text::sentence(&format!("and {more} numbers more"));
    }
    said
}
