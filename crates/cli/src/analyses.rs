//! Analyses of takes that are run once and kept with their study.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use tonemap_media::RawFormat;
use tonemap_study::ResultStore;

use crate::files;
use crate::kept::Kept;
use crate::studies::{Named, OpenStudy};

/// What runs a command line within this one, about a take or about those that it names.
pub(crate) type Runner = fn(&[String], Option<&Named>) -> Result<Kept>;

/// Runs analyses, or finds them where they were kept.
pub(crate) struct Analyses {
    runner: Runner,
    /// Folder of the study; the current one without.
    folder: PathBuf,
    /// How takes without a header are read.
    raw: Option<RawFormat>,
    /// Where results are kept; nowhere without a study.
    store: Option<ResultStore>,
    /// Hash of the program: another one may measure otherwise.
    program: String,
}

impl Analyses {
    pub(crate) fn new(
        runner: Runner,
        study: Option<&OpenStudy>,
        raw: Option<RawFormat>,
    ) -> Result<Self> {
        let program = std::env::current_exe().context("the program cannot find itself")?;
        // A result that is made again leaves no trace.
        let may_keep = !files::writes_nothing();
        let store = study.filter(|_| may_keep).map(|open| ResultStore::in_study(&open.folder));
        if let Some(store) = &store {
            files::sweep(store.folder());
        }
        Ok(Self {
            runner,
            folder: study.map_or_else(PathBuf::new, |open| open.folder.clone()),
            raw,
            store,
            program: files::hash_of(&program).context("the program cannot be read")?,
        })
    }

    /// The result of a command on a take: its name, and options.
    pub(crate) fn of(&self, named: &Named, command: &str, options: &[String]) -> Result<Kept> {
        let mut arguments = vec![command.to_string(), word_of(named)];
        arguments.extend(options.iter().map(|word| self.in_study(word)));
        self.run(&arguments, &[named], Some(named))
    }

    /// The result of a command line about several takes.
    pub(crate) fn about(&self, arguments: &[String], takes: &[&Named]) -> Result<Kept> {
        self.run(arguments, takes, None)
    }

    /// The same without looking for it or keeping it.
    pub(crate) fn anew(&self, arguments: &[String]) -> Result<Kept> {
        let arguments = self.whole(arguments, None);
        (self.runner)(&arguments, None).with_context(|| arguments.join(" "))
    }

    fn run(&self, arguments: &[String], takes: &[&Named], of: Option<&Named>) -> Result<Kept> {
        let key = self.key(arguments, takes)?;
        let kept = self.store.as_ref().and_then(|store| store.get(&key));
        if let Some(known) = kept.and_then(|text| serde_json::from_str(&text).ok()) {
            return Ok(known);
        }
        let whole = self.whole(arguments, of);
        let made = (self.runner)(&whole, of).with_context(|| arguments.join(" "))?;
        if let Some(store) = &self.store {
            let kept = std::fs::create_dir_all(store.folder())
                .map_err(anyhow::Error::from)
                .and_then(|()| Ok(serde_json::to_string(&made)?))
                .and_then(|text| files::replace_own(&store.file(&key), &store.sealed(&key, &text)));
            // A store that cannot be written to costs time, not results.
            if let Err(error) = kept {
                tracing::info!(%error, "a result could not be kept");
            }
        }
        Ok(made)
    }

    /// A command line that names its takes, with how they are read, and where the study is.
    pub(crate) fn line(&self, arguments: &[String]) -> Vec<String> {
        let mut words: Vec<String> = arguments.iter().take(1).cloned().collect();
        words.extend(arguments.iter().skip(1).map(|word| self.in_study(word)));
        self.whole(&words, None)
    }

    /// A command line with how takes are read, and where the study is if takes are named in it.
    fn whole(&self, arguments: &[String], of: Option<&Named>) -> Vec<String> {
        let mut words = arguments.to_vec();
        if let Some(raw) = self.raw {
            words.splice(1..1, ["--raw".into(), raw.to_string()]);
        }
        if of.is_none() && !self.folder.as_os_str().is_empty() {
            words.splice(1..1, ["--study".into(), self.folder.display().to_string()]);
        }
        words
    }

    /// A word of an option: a file in the folder of the study as it is found from here.
    fn in_study(&self, word: &str) -> String {
        let file = self.folder.join(word);
        let is_file = !self.folder.as_os_str().is_empty() && !word.is_empty() && file.is_file();
        if is_file { file.display().to_string() } else { word.into() }
    }

    /// A hash of all that a result depends on: the program, what was asked, every file that is
    /// named, the sound, and what the study says of it.
    fn key(&self, arguments: &[String], takes: &[&Named]) -> Result<String> {
        let mut hasher = blake3::Hasher::new();
        let mut add = |part: &str| {
            hasher.update(part.as_bytes());
            hasher.update(b"\0");
        };
        add(&self.program);
        add(&self.raw.map(|raw| raw.to_string()).unwrap_or_default());
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

/// A take as a word of a command line that is taken for no option.
pub(crate) fn word_of(named: &Named) -> String {
    let path = || named.path.display().to_string();
    match &named.entry {
        Some(entry) if !entry.take.name.starts_with('-') => entry.take.name.clone(),
        _ if path().starts_with('-') => format!("./{}", path()),
        _ => path(),
    }
}

/// A command, one of those given, and the rest of a quantity's name: `timbre.centroid_hz`,
/// `partials[2].frequency_hz`.
pub(crate) fn command_of(
    quantity: &str,
    mut commands: impl Iterator<Item = &'static str>,
) -> Option<(&str, &str)> {
    let end = quantity.find(['.', '['])?;
    let command = &quantity[..end];
    commands.any(|known| known == command).then(|| {
        let rest = &quantity[end..];
        // Where the command and its list have one name, it is the list that is meant.
        (command, if rest.starts_with('[') { quantity } else { &rest[1..] })
    })
}
