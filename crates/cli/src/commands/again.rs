//! `again`: a saved result made again, and held against what it was.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use clap::Args;

use crate::files;
use crate::output;
use crate::rerun;
use crate::saved::{self, Saved};
use crate::status::{self, Status};
use crate::text;

/// Make a saved result again and say whether it is the same
///
/// The command that a result says it comes from is run anew. The hash of every take is compared
/// with the one in the result, the program's version too, and then the result itself, byte for
/// byte. The exit status is 0 if it is the same and 3 if it is not.
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

/// Numbers that are listed as changed at most.
const MOST_TOLD: usize = 8;

impl Again {
    pub(crate) fn run(&self) -> Result<Status> {
        let mut status = Status::Done;
        for path in &self.results {
            let compared = again(path);
            match compared {
                Ok((said, is_same)) => {
                    output::print(&format!("{}\n{said}", files::shown(path)))?;
                    if !is_same && status == Status::Done {
                        status = Status::Missed;
                    }
                }
                Err(error) if self.results.len() > 1 => {
                    status::print_error(&error);
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
    let results = saved::read(path)?;
    let folder = folder_of(&results, path);
    let mut said = String::new();
    let mut is_same = true;
    // Results that come from one command line are made again together.
    for group in results.chunk_by(|a, b| a.value["arguments"] == b.value["arguments"]) {
        let (of_group, same) = group_again(group, &folder).with_context(|| files::shown(path))?;
        if results.len() > group.len() {
            said += &text::sentence(&format!("tonemap {}", group[0].arguments().join(" ")));
        }
        said += &of_group;
        is_same &= same;
    }
    Ok((said, is_same))
}

/// The same of the results of one command line.
fn group_again(group: &[Saved], folder: &Path) -> Result<(String, bool)> {
    let mut said = String::new();
    let mut is_same = true;
    let mut read = Vec::new();
    for (file, hash) in group.iter().flat_map(|one| one.takes().into_iter().chain(one.files())) {
        let whole = folder.join(&file);
        if read.contains(&whole) {
            continue;
        }
        let line = match files::hash_of(&whole) {
            Ok(now) if now == hash => None,
            Ok(_) => Some(format!("{}: it has changed since", files::shown(&file))),
            Err(error) => Some(format!("{}: it cannot be read: {error}", files::shown(&file))),
        };
        read.push(whole);
        is_same &= line.is_none();
        said += &line.map_or(String::new(), |line| text::sentence(&line));
    }
    let version = group[0].value["tonemap"].as_str().unwrap_or_default();
    if version != env!("CARGO_PKG_VERSION") {
        said += &text::sentence(&format!(
            "made by version {version}, repeated by version {}",
            env!("CARGO_PKG_VERSION")
        ));
    }
    let allowed: Vec<PathBuf> = read.iter().filter_map(|file| file.canonicalize().ok()).collect();
    let after = rerun::run_reading(&group[0].arguments(), folder, &allowed)?;
    let now = saved::results_of(&after)?;
    if now.iter().map(|one| &one.text).eq(group.iter().map(|one| &one.text)) {
        said += &text::sentence("the same to the byte");
        return Ok((said, is_same));
    }
    if now.iter().map(|one| &one.value).eq(group.iter().map(|one| &one.value)) {
        said += &text::sentence("the same, in another layout");
        return Ok((said, is_same));
    }
    said += &changes(group, &now);
    Ok((said, false))
}

/// The folder in which the paths of a result lead to its takes: the current one, or that of the
/// result.
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
        let after: HashMap<&str, f64> =
            after.iter().map(|number| (number.key.as_str(), number.value.value)).collect();
        for number in &before {
            let (key, value) = (&number.key, number.value.value);
            let line = match after.get(key.as_str()) {
                Some(other) if *other == value => continue,
                Some(other) => format!("{key} was {value} and is {other}"),
                None => format!("{key} was {value} and is no longer there"),
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
