//! Studies on the command line: finding one, and finding takes in it.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use tonemap_core::Finding;
use tonemap_core::bands::Response;
use tonemap_core::tuning::Temperament;
use tonemap_core::units::Note;
use tonemap_media::TakeInfo;
use tonemap_study::{FILE_NAME, OWN_FOLDER, Study};

use crate::args::SourceArgs;
use crate::files;
use crate::status::Usage;

/// A study and the folder it is in.
pub(crate) struct OpenStudy {
    pub(crate) folder: PathBuf,
    pub(crate) study: Study,
}

/// A take as the user asked for it.
#[derive(Clone)]
pub(crate) struct Named {
    /// Its file.
    pub(crate) path: PathBuf,
    /// What the study knows of it.
    pub(crate) entry: Option<Entry>,
}

/// A take in a study, as far as it concerns a measurement.
#[derive(Debug, Clone)]
pub(crate) struct Entry {
    pub(crate) take: tonemap_study::Take,
    /// Frequency of A4 in Hz.
    pub(crate) reference_hz: f64,
    /// Name of the temperament.
    pub(crate) temperament: String,
    /// Level of a full-scale sine in dB re 20 µPa, for the channels whose microphone is calibrated.
    pub(crate) full_scale_db: Vec<Option<f64>>,
    /// What the microphone of each channel reads too high, at frequencies.
    pub(crate) response: Vec<Response>,
    /// Peak voltage at full scale, for the channels whose microphone has one.
    pub(crate) full_scale_v: Vec<Option<f64>>,
}

impl Named {
    /// Its name in the study, else that of the file.
    pub(crate) fn name(&self) -> String {
        let file = || self.path.file_name().map(|name| name.to_string_lossy().into_owned());
        match &self.entry {
            Some(entry) => entry.take.name.clone(),
            None => file().unwrap_or_else(|| self.path.display().to_string()),
        }
    }
}

impl OpenStudy {
    /// Opens the study in a folder.
    pub(crate) fn open(folder: &Path) -> Result<Self> {
        let file = folder.join(FILE_NAME);
        if !file.exists() {
            bail!(
                "{}: there is no study here; make one with 'tonemap study make'",
                files::shown(&file)
            );
        }
        let text = files::read_own(&file)?;
        let study = Study::read(&text).with_context(|| files::shown(&file))?;
        Ok(Self { folder: folder.into(), study })
    }

    /// The study that was asked for, or the one in the current folder if it has one.
    pub(crate) fn of(args: &SourceArgs) -> Result<Option<Self>> {
        match &args.study {
            Some(folder) => Self::open(folder).map(Some),
            None if Path::new(FILE_NAME).is_file() => Self::open(Path::new("")).map(Some),
            None => Ok(None),
        }
    }

    /// The file of the study.
    pub(crate) fn file(&self) -> PathBuf {
        self.folder.join(FILE_NAME)
    }

    pub(crate) fn named(&self, take: &tonemap_study::Take) -> Named {
        let microphone = |channel: &tonemap_study::Channel| {
            self.study.microphones.get(channel.microphone.as_ref()?)
        };
        let microphones = || take.channels.iter().map(microphone);
        let level = |known: Option<&tonemap_study::Microphone>| known?.full_scale_level_db();
        let response = |known: Option<&tonemap_study::Microphone>| {
            Response::new(known.map_or_else(Vec::new, |known| known.response_db.clone()))
        };
        Named {
            path: self.folder.join(&take.file),
            entry: Some(Entry {
                take: take.clone(),
                reference_hz: self.study.reference_pitch_hz,
                temperament: self.temperament(),
                full_scale_db: microphones().map(level).collect(),
                response: microphones().map(response).collect(),
                full_scale_v: microphones().map(|known| known?.full_scale_v).collect(),
            }),
        }
    }

    /// The temperament: a name, or the path of a file in the folder.
    fn temperament(&self) -> String {
        let name = &self.study.temperament;
        let is_file = Path::new(name).extension().is_some_and(|e| e.eq_ignore_ascii_case("toml"));
        if is_file { self.folder.join(name).display().to_string() } else { name.clone() }
    }

    /// What is wrong with the temperament, if anything is.
    pub(crate) fn temperament_problem(&self) -> Option<String> {
        let name = self.temperament();
        if name != self.study.temperament {
            let wrong = files::check_regular(Path::new(&name)).err()?;
            return Some(format!("temperament: {}: {wrong}", self.study.temperament));
        }
        Temperament::named(&name, 0).err().map(|wrong| wrong.to_string())
    }

    /// The take with a name, or the one whose file is `path`.
    pub(crate) fn find(&self, path: &Path) -> Option<&tonemap_study::Take> {
        let by_name = path.to_str().and_then(|name| self.study.take(name));
        by_name.or_else(|| {
            let wanted = path.canonicalize().ok()?;
            let is_it = |take: &&tonemap_study::Take| {
                self.folder.join(&take.file).canonicalize().is_ok_and(|file| file == wanted)
            };
            self.study.takes.iter().find(is_it)
        })
    }
}

/// Changes the study in a folder. Changes at the same time wait for each other, so that none is
/// lost.
pub(crate) fn edit<T>(
    folder: &Path,
    change: impl FnOnce(&mut OpenStudy) -> Result<T>,
) -> Result<T> {
    OpenStudy::open(folder)?;
    let own = folder.join(OWN_FOLDER);
    let file = own.join("lock");
    let name = || format!("{}: the study could not be locked", files::shown(&file));
    std::fs::create_dir_all(&own).with_context(name)?;
    let lock = std::fs::File::create(&file).with_context(name)?;
    lock.lock().with_context(name)?;
    let mut open = OpenStudy::open(folder)?;
    let before = open.study.text();
    let done = change(&mut open)?;
    let after = open.study.text();
    if after != before {
        files::replace_own(&open.file(), after.as_bytes())?;
    }
    Ok(done)
}

/// The takes asked for: files, takes of the study by name, and those that meet all conditions.
pub(crate) fn find_takes(paths: &[PathBuf], args: &SourceArgs) -> Result<Vec<Named>> {
    let study = OpenStudy::of(args)?;
    let mut found: Vec<Named> = Vec::new();
    for path in paths {
        found.push(
            match study.as_ref().and_then(|open| open.find(path).map(|take| open.named(take))) {
                Some(named) => named,
                None => Named { path: other_file(path, study.as_ref())?, entry: None },
            },
        );
    }
    if args.conditions.is_empty() {
        return Ok(found);
    }
    let Some(open) = study else {
        let reason = "--where asks for takes of a study, and there is none here; name its folder \
                      with --study";
        return Err(Usage(reason.into()).into());
    };
    let wanted: Vec<String> = args.conditions.iter().map(ToString::to_string).collect();
    let meets = |take: &&tonemap_study::Take| args.conditions.iter().all(|one| take.meets(one));
    let takes: Vec<Named> =
        open.study.takes.iter().filter(meets).map(|take| open.named(take)).collect();
    if takes.is_empty() {
        bail!(
            "{}: no take was made under {}; 'tonemap study list' shows the conditions",
            open.file().display(),
            wanted.join(" and ")
        );
    }
    found.extend(takes);
    Ok(found)
}

/// The one take asked for.
pub(crate) fn find_take(path: Option<&PathBuf>, args: &SourceArgs) -> Result<Named> {
    let mut found = find_takes(path.map(std::slice::from_ref).unwrap_or_default(), args)?;
    let names: Vec<String> = found.iter().map(|named| named.path.display().to_string()).collect();
    match (found.pop(), found.is_empty()) {
        (Some(named), true) => Ok(named),
        _ => Err(Usage(format!(
            "one take is analysed at a time, and {} were asked for: {}; add a condition, or name \
             one",
            names.len(),
            names.join(", ")
        ))
        .into()),
    }
}

/// A file outside the study; a name that is no file is refused with what was meant.
fn other_file(path: &Path, study: Option<&OpenStudy>) -> Result<PathBuf> {
    if let Some(open) = study.filter(|_| path.as_os_str() != "-" && !path.exists()) {
        let name = files::shown(path);
        let meant = match open.study.nearest_take(&name) {
            Some(nearest) => format!("; did you mean '{nearest}'?"),
            None => "; 'tonemap study list' shows its takes".into(),
        };
        bail!("{name}: there is no such file, nor a take of that name in the study{meant}");
    }
    Ok(path.into())
}

impl Entry {
    /// What the study says of the take and cannot be.
    pub(crate) fn doubts(&self, info: &TakeInfo) -> Vec<Finding> {
        let mut doubts = Vec::new();
        if let Some(note) = self.take.note.as_ref().filter(|note| note.parse::<Note>().is_err()) {
            doubts.push(Finding::warning(
                "note_unknown",
                format!(
                    "The study expects the note '{note}', which is none: it is written as C#4 or \
                     Bb3. Any \
                     note was looked for; correct it in study.toml."
                ),
            ));
        }
        if self.take.channels.len() > info.channels {
            doubts.push(Finding::warning(
                "channels_named",
                format!(
                    "The study names {} channels, and the take has {}: a name may stand for \
                     another \
                     channel than was meant. Correct it in study.toml.",
                    self.take.channels.len(),
                    info.channels
                ),
            ));
        }
        doubts
    }

    /// Told when the file is no longer what was added.
    pub(crate) fn changed(&self, blake3: &str) -> Option<Finding> {
        let added = self.take.blake3.as_ref().filter(|added| *added != blake3)?;
        Some(Finding::warning(
            "changed",
            format!(
                "The file is not the one that was added to the study (it was {}…, and is {}…). If \
                 the change is meant, remove the take from study.toml and add it again.",
                added.chars().take(8).collect::<String>(),
                &blake3[..8.min(blake3.len())]
            ),
        ))
    }
}
