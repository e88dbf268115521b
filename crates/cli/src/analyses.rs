//! Analyses of takes that are run once and kept with their study.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use tonemap_media::RawFormat;
use tonemap_study::ResultStore;

use crate::files;
use crate::rerun;
use crate::saved::{self, Saved};
use crate::studies::{Named, OpenStudy};

/// Runs analyses, or finds them where they were kept.
pub(crate) struct Analyses {
    /// Folder in which the takes are found.
    folder: PathBuf,
    /// How takes without a header are read.
    raw: Option<RawFormat>,
    /// Where results are kept; nowhere without a study.
    store: Option<ResultStore>,
    /// Hash of the program: another one may measure otherwise.
    program: String,
}

impl Analyses {
    pub(crate) fn new(study: Option<&OpenStudy>, raw: Option<RawFormat>) -> Result<Self> {
        let program = std::env::current_exe().context("the program cannot find itself")?;
        // A result that is made again leaves no trace.
        let may_keep = std::env::var_os(files::READS_ONLY).is_none();
        let store = study.filter(|_| may_keep).map(|open| ResultStore::in_study(&open.folder));
        if let Some(store) = &store {
            files::sweep(store.folder());
        }
        Ok(Self {
            folder: study.map_or_else(PathBuf::new, |open| open.folder.clone()),
            raw,
            store,
            program: files::hash_of(&program).context("the program cannot be read")?,
        })
    }

    /// A take as it is named in a command line: its file, seen from the folder in which it runs.
    pub(crate) fn word_of(&self, named: &Named) -> Result<String> {
        let file = match &named.entry {
            Some(entry) => PathBuf::from(&entry.take.file),
            None if self.folder.as_os_str().is_empty() => named.path.clone(),
            None => std::path::absolute(&named.path)?,
        };
        Ok(as_path_word(&file))
    }

    /// The result of a command on a take: words before its name, and after.
    pub(crate) fn of(&self, named: &Named, command: &str, options: &[String]) -> Result<Saved> {
        let mut arguments = vec![command.to_string(), self.word_of(named)?];
        arguments.extend(options.iter().cloned());
        let text = self.run(&arguments, &[named])?;
        let mut results = saved::results_of(&text)?;
        Ok(results.swap_remove(0))
    }

    /// The JSON of a command line about takes.
    pub(crate) fn run(&self, arguments: &[String], takes: &[&Named]) -> Result<String> {
        let arguments = self.whole(arguments);
        let name = || arguments.join(" ");
        let key = self.key(&arguments, takes)?;
        if let Some(known) = self.store.as_ref().and_then(|store| store.get(&key)) {
            return Ok(known);
        }
        let result = rerun::run(&arguments, &self.folder).with_context(name)?;
        if let Some(store) = &self.store {
            let kept = std::fs::create_dir_all(store.folder())
                .map_err(anyhow::Error::from)
                .and_then(|()| files::replace_own(&store.file(&key), &store.sealed(&key, &result)));
            // A store that cannot be written to costs time, not results.
            if let Err(error) = kept {
                tracing::info!(%error, "a result could not be kept");
            }
        }
        Ok(result)
    }

    /// The same without looking for it or keeping it.
    pub(crate) fn run_anew(&self, arguments: &[String]) -> Result<String> {
        let arguments = self.whole(arguments);
        rerun::run(&arguments, &self.folder).with_context(|| arguments.join(" "))
    }

    /// A command line with how takes are read.
    fn whole(&self, arguments: &[String]) -> Vec<String> {
        let mut words = arguments.to_vec();
        if let Some(raw) = self.raw {
            words.splice(1..1, ["--raw".into(), raw.to_string()]);
        }
        words
    }

    /// A hash of all that a result depends on: the program, what was asked, every file that is named,
    /// the sound, and what the study says of it.
    fn key(&self, arguments: &[String], takes: &[&Named]) -> Result<String> {
        let mut hasher = blake3::Hasher::new();
        let mut add = |part: &str| {
            hasher.update(part.as_bytes());
            hasher.update(b"\0");
        };
        add(&self.program);
        for word in arguments {
            add(word);
            // Words may name files: curves, temperaments; behind an option with an equals sign too.
            for name in [Some(word.as_str()), word.split_once('=').map(|(_, value)| value)] {
                add(&name.and_then(|name| self.content_of(name)).unwrap_or_default());
            }
        }
        for take in takes {
            add(&files::hash_of(&take.path).with_context(|| files::shown(&take.path))?);
            add(&format!("{:?}", take.entry));
            // The temperament of a study may be a file, too.
            let temperament = take.entry.as_ref().map(|entry| Path::new(&entry.temperament));
            add(&temperament.and_then(|file| files::hash_of(file).ok()).unwrap_or_default());
        }
        Ok(hasher.finalize().to_hex().to_string())
    }

    /// The hash of the file that a word names, if it names one.
    fn content_of(&self, word: &str) -> Option<String> {
        let file = self.folder.join(word);
        if word.is_empty() || !file.is_file() { None } else { files::hash_of(&file).ok() }
    }
}

/// A path as a word of a command line that is taken for no option.
fn as_path_word(file: &Path) -> String {
    let word = file.display().to_string();
    if word.starts_with('-') { format!("./{word}") } else { word }
}

/// A command, one of those given, and the rest of a quantity's name: `timbre.centroid_hz`,
/// `partials[2].frequency_hz`.
pub(crate) fn command_of<'q>(
    quantity: &'q str,
    mut commands: impl Iterator<Item = &'static str>,
) -> Option<(&'q str, &'q str)> {
    let end = quantity.find(['.', '['])?;
    let command = &quantity[..end];
    commands.any(|known| known == command).then(|| {
        let rest = &quantity[end..];
        // Where the command and its list have one name, it is the list that is meant.
        (command, if rest.starts_with('[') { quantity } else { &rest[1..] })
    })
}
