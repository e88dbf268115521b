//! Which takes there are: under folders, or in a list.

use std::fs::Metadata;
use std::io::BufRead;
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use ignore::WalkBuilder;
use ignore::overrides::{Override, OverrideBuilder};

use crate::error::Error;
use crate::part::Part;

/// Endings of the names of recordings.
pub const ENDINGS: [&str; 22] = [
    "wav", "wave", "rf64", "bw64", "bwf", "w64", "aif", "aiff", "aifc", "flac", "caf", "ogg",
    "oga", "mp1", "mp2", "mp3", "mp4", "m4a", "m4b", "aac", "adts", "sdif",
];

/// A take that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// Its file.
    pub path: PathBuf,
    /// What the file is like.
    pub about: About,
}

/// By what a file is known to be the same as before, without being read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct About {
    /// Its length.
    pub bytes: u64,
    /// When it was last changed, in nanoseconds since 1970.
    pub modified_ns: i64,
}

impl About {
    /// That of a file; links are followed.
    pub fn of(file: &Path) -> std::io::Result<Self> {
        std::fs::metadata(file).map(|about| Self::from(&about))
    }
}

impl From<&Metadata> for About {
    fn from(about: &Metadata) -> Self {
        let since = about.modified().ok().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
        let modified_ns = since.and_then(|time| i64::try_from(time.as_nanos()).ok()).unwrap_or(0);
        Self { bytes: about.len(), modified_ns }
    }
}

/// Which files under folders are takes.
#[derive(Debug, Clone, Default)]
pub struct Choice {
    /// Patterns of the names of takes; all recordings, by the ending of their name, if there is
    /// none.
    pub only: Vec<String>,
    /// Patterns of files and folders that are left out.
    pub without: Vec<String>,
    /// The share of the takes. Of the others nothing is asked but the name.
    pub part: Option<Part>,
}

impl Choice {
    /// The patterns as they hold below a folder.
    fn below(&self, folder: &Path) -> Result<Override, Error> {
        let mut all = OverrideBuilder::new(folder);
        let wrong = |pattern: &str, error: &ignore::Error| {
            let reason = match error {
                ignore::Error::Glob { err, .. } => err.clone(),
                other => other.to_string(),
            };
            Error::Pattern { pattern: pattern.into(), reason }
        };
        for pattern in &self.only {
            all.add(pattern).map_err(|error| wrong(pattern, &error))?;
        }
        for pattern in &self.without {
            all.add(&format!("!{pattern}")).map_err(|error| wrong(pattern, &error))?;
        }
        all.build().map_err(|error| wrong("", &error))
    }

    /// Whether a file is a take by its name.
    fn has(&self, file: &Path) -> bool {
        let ending = file.extension().and_then(|ending| ending.to_str());
        let known = |ending: &str| ENDINGS.iter().any(|one| ending.eq_ignore_ascii_case(one));
        !self.only.is_empty() || ending.is_some_and(known)
    }

    /// Whether a take is of the share.
    fn is_of_part(&self, file: &Path) -> bool {
        self.part.is_none_or(|part| part.holds(&text_of(&tidy(file))))
    }
}

/// Finds out whether folders can be read and patterns mean something, before there is anything to
/// write. A folder that is not there, or cannot be read, is an error: what it holds would be missed.
pub fn check(folders: &[PathBuf], choice: &Choice) -> Result<(), Error> {
    for folder in folders {
        let wrong = |error: std::io::Error| {
            Error::Folder(format!("{}: {}", folder.display(), plain(&error)))
        };
        if std::fs::metadata(folder).map_err(wrong)?.is_dir() {
            std::fs::read_dir(folder).map_err(wrong)?;
            choice.below(folder)?;
        }
    }
    Ok(())
}

/// Hands on every take under folders, in no order that means anything, and says what could not be
/// looked into. Links are followed, and where they lead back into a folder that they lie in, left.
/// Hidden files and folders are passed over, and what files named `.ignore` list.
pub fn walk(
    folders: &[PathBuf],
    choice: &Choice,
    mut take: impl FnMut(Found) -> Result<(), Error>,
) -> Result<Vec<String>, Error> {
    check(folders, choice)?;
    let mut problems = Vec::new();
    for folder in folders {
        let about = std::fs::metadata(folder)?;
        if about.is_file() {
            if !choice.is_of_part(folder) {
                continue;
            }
            take(Found { path: tidy(folder), about: (&about).into() })?;
            continue;
        }
        let mut builder = WalkBuilder::new(folder);
        builder.standard_filters(false).hidden(true).ignore(true).parents(true);
        builder.follow_links(true).overrides(choice.below(folder)?);
        for entry in builder.build() {
            let entry = match entry {
                Ok(entry) => entry,
                Err(error) => {
                    problems.extend(problem(&error));
                    continue;
                }
            };
            // A file whose name says nothing of a recording is passed over; so is what is no file.
            if !choice.has(entry.path()) || entry.file_type().is_none_or(|kind| !kind.is_file()) {
                continue;
            }
            if !choice.is_of_part(entry.path()) {
                continue;
            }
            match About::of(entry.path()) {
                Ok(about) => take(Found { path: tidy(entry.path()), about })?,
                Err(error) => {
                    problems.push(format!("{}: {}", entry.path().display(), plain(&error)));
                }
            }
        }
    }
    Ok(problems)
}

/// Hands on the takes of a list, a path a line, or each behind a zero byte.
pub fn list(
    mut lines: impl BufRead,
    choice: &Choice,
    mut take: impl FnMut(Found) -> Result<(), Error>,
) -> Result<Vec<String>, Error> {
    let mut problems = Vec::new();
    let is_by_zeros = lines.fill_buf()?.contains(&0);
    let end = if is_by_zeros { 0 } else { b'\n' };
    let mut line = Vec::new();
    while lines.read_until(end, &mut line)? > 0 {
        let name = line.strip_suffix(&[end]).unwrap_or(&line);
        let name = name.strip_suffix(b"\r").unwrap_or(name);
        let path = path_of_bytes(name);
        if !name.is_empty() && choice.is_of_part(&path) {
            match About::of(&path) {
                Ok(about) => take(Found { path: tidy(&path), about })?,
                Err(error) => problems.push(format!("{}: {}", path.display(), plain(&error))),
            }
        }
        line.clear();
    }
    Ok(problems)
}

#[cfg(unix)]
fn path_of_bytes(name: &[u8]) -> PathBuf {
    use std::os::unix::ffi::OsStrExt;
    std::ffi::OsStr::from_bytes(name).into()
}

#[cfg(not(unix))]
fn path_of_bytes(name: &[u8]) -> PathBuf {
    String::from_utf8_lossy(name).into_owned().into()
}

/// An error of the system in words, with what can be done about it.
#[must_use]
pub fn plain(error: &std::io::Error) -> String {
    match error.kind() {
        std::io::ErrorKind::NotFound => "there is no such file or folder".into(),
        std::io::ErrorKind::PermissionDenied => "it may not be read; ask for the right to".into(),
        _ => error.to_string(),
    }
}

/// What is said of a place that could not be looked into.
fn problem(error: &ignore::Error) -> Option<String> {
    match error {
        ignore::Error::WithPath { path, err } => {
            let inner = problem(err)?;
            let name = path.display().to_string();
            Some(if inner.contains(&name) { inner } else { format!("{name}: {inner}") })
        }
        ignore::Error::WithDepth { err, .. } | ignore::Error::WithLineNumber { err, .. } => {
            problem(err)
        }
        ignore::Error::Loop { child, .. } => {
            Some(format!("{}: the link leads back to a folder it lies in", child.display()))
        }
        ignore::Error::Io(error) => Some(plain(error)),
        other => Some(other.to_string()),
    }
}

/// The path without `.` and doubled slashes, so that one take has one name.
fn tidy(path: &Path) -> PathBuf {
    let tidied: PathBuf =
        path.components().filter(|part| *part != std::path::Component::CurDir).collect();
    if tidied.as_os_str().is_empty() { path.into() } else { tidied }
}

/// A path as text: as it is where it is UTF-8, else as a file URI (RFC 8089), from which every byte
/// of the name can be had again.
#[must_use]
pub fn text_of(path: &Path) -> String {
    if let Some(text) = path.to_str().filter(|text| !text.starts_with(URI)) {
        return text.into();
    }
    let coded = |byte: u8| {
        let is_plain = byte.is_ascii_alphanumeric() || b"/-._~".contains(&byte);
        if is_plain { char::from(byte).to_string() } else { format!("%{byte:02X}") }
    };
    std::iter::once(URI.to_string()).chain(bytes_of(path).into_iter().map(coded)).collect()
}

/// The path that a text stands for.
#[must_use]
pub fn path_of(text: &str) -> PathBuf {
    let Some(coded) = text.strip_prefix(URI) else { return text.into() };
    let mut bytes = Vec::new();
    let mut rest = coded.bytes();
    while let Some(byte) = rest.next() {
        let digit = |byte: Option<u8>| char::from(byte.unwrap_or(b'0')).to_digit(16).unwrap_or(0);
        bytes.push(match byte {
            b'%' => (16 * digit(rest.next()) + digit(rest.next())) as u8,
            other => other,
        });
    }
    path_of_bytes(&bytes)
}

const URI: &str = "file:";

#[cfg(unix)]
fn bytes_of(path: &Path) -> Vec<u8> {
    use std::os::unix::ffi::OsStrExt;
    path.as_os_str().as_bytes().to_vec()
}

#[cfg(not(unix))]
fn bytes_of(path: &Path) -> Vec<u8> {
    path.to_string_lossy().into_owned().into_bytes()
}

/// The folder that a take lies in, from its path as text.
#[must_use]
pub fn folder_of(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    fn names_in(folder: &Path, choice: &Choice) -> (Vec<String>, Vec<String>) {
        let mut names = Vec::new();
        let problems = walk(&[folder.into()], choice, |found| {
            let inner = found.path.strip_prefix(folder).expect("inside");
            names.push(text_of(inner));
            Ok(())
        })
        .expect("a folder");
        names.sort();
        (names, problems)
    }

    #[test]
    fn recordings_are_found_and_the_rest_is_passed_over() {
        let folder = tempfile::tempdir().expect("a folder");
        let root = folder.path();
        fs::create_dir_all(root.join("harp/soft")).expect("made");
        fs::create_dir_all(root.join(".tonemap")).expect("made");
        for name in [
            "a.wav",
            "b.FLAC",
            "notes.txt",
            "._a.wav",
            "harp/g3.wav",
            "harp/soft/g3.wav",
            "harp/soft/left out.wav",
            ".tonemap/x.wav",
        ] {
            fs::write(root.join(name), "x").expect("written");
        }
        fs::write(root.join("harp/.ignore"), "left*\n").expect("written");
        let (all, problems) = names_in(root, &Choice::default());
        assert_eq!(all, ["a.wav", "b.FLAC", "harp/g3.wav", "harp/soft/g3.wav"]);
        assert!(problems.is_empty());
        let only = Choice { only: vec!["*.txt".into()], ..Choice::default() };
        assert_eq!(names_in(root, &only).0, ["notes.txt"]);
        let without = Choice { without: vec!["soft/".into()], ..Choice::default() };
        assert_eq!(names_in(root, &without).0, ["a.wav", "b.FLAC", "harp/g3.wav"]);
        let wrong = Choice { only: vec!["[".into()], ..Choice::default() };
        assert!(walk(&[root.into()], &wrong, |_| Ok(())).is_err());
        assert!(walk(&[root.join("none")], &Choice::default(), |_| Ok(())).is_err());
    }

    #[cfg(unix)]
    #[test]
    fn links_are_followed_and_circles_left() {
        let folder = tempfile::tempdir().expect("a folder");
        let root = folder.path();
        fs::create_dir(root.join("in")).expect("made");
        fs::write(root.join("in/a.wav"), "x").expect("written");
        std::os::unix::fs::symlink(root, root.join("in/back")).expect("linked");
        std::os::unix::fs::symlink(root.join("in/a.wav"), root.join("b.wav")).expect("linked");
        std::os::unix::fs::symlink(root.join("gone"), root.join("c.wav")).expect("linked");
        let (names, problems) = names_in(root, &Choice::default());
        assert_eq!(names, ["b.wav", "in/a.wav"]);
        assert_eq!(problems.len(), 2, "{problems:?}");
    }

    #[cfg(unix)]
    #[test]
    fn names_that_are_no_text_come_back() {
        use std::os::unix::ffi::OsStrExt;
        let path = Path::new(std::ffi::OsStr::from_bytes(b"harp/\xff%2 ~\xc3.wav"));
        let text = text_of(path);
        assert_eq!(text, "file:harp/%FF%252%20~%C3.wav");
        assert_eq!(path_of(&text), path);
        assert_eq!(path_of(&text_of(Path::new("ä/%FF"))), Path::new("ä/%FF"));
    }

    #[test]
    fn a_list_may_have_lines_or_zeros() {
        let folder = tempfile::tempdir().expect("a folder");
        let root = folder.path();
        for name in ["a.wav", "b\nc.wav"] {
            fs::write(root.join(name), "x").expect("written");
        }
        let read = |text: String| {
            let mut names = Vec::new();
            let problems = list(text.as_bytes(), &Choice::default(), |found| {
                names.push(found.path.file_name().expect("a name").to_owned());
                Ok(())
            });
            (names, problems.expect("read").len())
        };
        let a = root.join("a.wav").display().to_string();
        let b = root.join("b\nc.wav").display().to_string();
        assert_eq!(read(format!("{a}\r\n\n{a}x\n")), (vec!["a.wav".into()], 1));
        assert_eq!(read(format!("{a}\0{b}\0")), (vec!["a.wav".into(), "b\nc.wav".into()], 0));
    }
}
