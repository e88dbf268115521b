//! Analyses of the takes of a study that are run once and kept.

use std::path::PathBuf;

use anyhow::{Context, Result};
use tonemap_study::ResultStore;

use crate::recipe;
use crate::saved::{self, Saved};
use crate::studies::{Named, OpenStudy};
use crate::take::hash_of;

/// Runs analyses, or finds them where they were kept.
pub(crate) struct Analyses {
    /// Folder in which the takes are found.
    folder: PathBuf,
    /// Where results are kept; nowhere without a study.
    store: Option<ResultStore>,
    /// Hash of the program: another one may measure otherwise.
    program: String,
}

impl Analyses {
    pub(crate) fn new(study: Option<&OpenStudy>) -> Result<Self> {
        let program = std::env::current_exe().context("the program cannot find itself")?;
        Ok(Self {
            folder: study.map_or_else(PathBuf::new, |open| open.folder.clone()),
            store: study.map(|open| ResultStore::in_study(&open.folder)),
            program: hash_of(&program).context("the program cannot be read")?,
        })
    }

    /// The result of a command on a take: words before its name, and after.
    pub(crate) fn of(&self, named: &Named, command: &str, options: &[String]) -> Result<Saved> {
        let file = match &named.entry {
            Some(entry) => PathBuf::from(&entry.take.file),
            None => named.path.clone(),
        };
        let mut arguments = vec![command.to_string(), file.display().to_string()];
        arguments.extend(options.iter().cloned());
        let text = self.run(&arguments, &[named])?;
        let mut results = saved::results_of(&text)?;
        Ok(results.swap_remove(0))
    }

    /// The JSON of a command line about takes.
    pub(crate) fn run(&self, arguments: &[String], takes: &[&Named]) -> Result<String> {
        let name = || arguments.join(" ");
        let key = self.key(arguments, takes)?;
        if let Some(known) = self.store.as_ref().and_then(|store| store.get(&key)) {
            return Ok(known);
        }
        let result = recipe::run(arguments, &self.folder).with_context(name)?;
        if let Some(store) = &self.store {
            // A store that cannot be written to costs time, not results.
            if let Err(error) = store.put(&key, &result) {
                tracing::info!(%error, "a result could not be kept");
            }
        }
        Ok(result)
    }

    /// The same without looking for it or keeping it.
    pub(crate) fn run_anew(&self, arguments: &[String]) -> Result<String> {
        recipe::run(arguments, &self.folder).with_context(|| arguments.join(" "))
    }

    /// A hash of all that a result depends on: the program, what was asked, the sound, and what the study says of it.
    fn key(&self, arguments: &[String], takes: &[&Named]) -> Result<String> {
        let mut hasher = blake3::Hasher::new();
        let mut add = |part: &str| {
            hasher.update(part.as_bytes());
            hasher.update(b"\0");
        };
        add(&self.program);
        for word in arguments {
            add(word);
        }
        for take in takes {
            add(&hash_of(&take.path).with_context(|| take.path.display().to_string())?);
            add(&format!("{:?}", take.entry));
        }
        Ok(hasher.finalize().to_hex().to_string())
    }
}

/// A command and the rest of a quantity's name: `timbre.centroid_hz`, `partials[2].frequency_hz`.
pub(crate) fn command_of(quantity: &str) -> Option<(&str, &str)> {
    let end = quantity.find(['.', '['])?;
    let command = &quantity[..end];
    recipe::measures_takes(command).then(|| {
        let rest = &quantity[end..];
        // Where the command and its list have one name, it is the list that is meant.
        (command, if rest.starts_with('[') { quantity } else { &rest[1..] })
    })
}
