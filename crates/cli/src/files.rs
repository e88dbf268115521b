//! Files: what a run reads and what it writes, kept apart.
//!
//! Everything that is written is claimed before the work ([`claim`]), written aside and then
//! renamed ([`Draft`]): it is there whole or not at all. What a run reads is noted
//! ([`note_input`]), and is never written over. `--force` replaces a regular file, and keeps its
//! mode; it replaces no input, no other output of the run, no recording with something else, and
//! nothing that a study needs.

use std::cell::RefCell;
use std::collections::{BTreeSet, HashSet};
use std::fs::{self, File};
use std::io::{self, ErrorKind, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard};

use anyhow::{Context, Result, bail};
use serde::Serialize;
use tempfile::NamedTempFile;
use tonemap_media::TakeReader;
use tonemap_study::{FILE_NAME, Study};

use crate::interrupt;
use crate::status::Usage;

/// What is about to be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Content {
    /// A table, figure, page or list of numbers.
    Result,
    /// The same, which may also go straight into a pipe or a device.
    Text,
    /// A recording.
    Sound,
}

/// Beginning and end of the name of what is written aside.
const DRAFT_PREFIX: &str = ".tonemap-";
const DRAFT_SUFFIX: &str = ".part";
/// Study files, curves, temperaments and recipes are not larger than this.
pub(crate) const MOST_TEXT_BYTES: u64 = 16 << 20;
/// Environment variable with the files that a run may read, one a line, if it may not read all.
pub(crate) const READS_ONLY: &str = "TONEMAP_READS_ONLY";

/// What a run reads and writes.
static LEDGER: Mutex<Ledger> = Mutex::new(Ledger {
    inputs: Places::new(),
    outputs: Places::new(),
    named: Vec::new(),
    is_of_many: false,
});

struct Ledger {
    inputs: Places,
    outputs: Places,
    named: Vec<ReadFile>,
    /// Whether so many are read that it is not kept which.
    is_of_many: bool,
}

fn ledger() -> MutexGuard<'static, Ledger> {
    LEDGER.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// A file, however it is called: by its path without links, and by its number on its disk.
#[derive(Debug, Clone)]
struct Place {
    path: PathBuf,
    number: Option<(u64, u64)>,
}

impl Place {
    fn of(file: &Path) -> Self {
        let whole = file.canonicalize().or_else(|_| {
            let folder = folder_of(file).canonicalize()?;
            Ok::<_, io::Error>(folder.join(file.file_name().unwrap_or_default()))
        });
        Self { path: whole.unwrap_or_else(|_| file.into()), number: number_of(file) }
    }
}

/// Many places.
struct Places {
    paths: BTreeSet<PathBuf>,
    numbers: BTreeSet<(u64, u64)>,
}

impl Places {
    const fn new() -> Self {
        Self { paths: BTreeSet::new(), numbers: BTreeSet::new() }
    }

    fn contains(&self, place: &Place) -> bool {
        self.paths.contains(&place.path)
            || place.number.is_some_and(|number| self.numbers.contains(&number))
    }

    fn insert(&mut self, place: Place) {
        self.paths.insert(place.path);
        self.numbers.extend(place.number);
    }
}

#[cfg(unix)]
fn number_of(file: &Path) -> Option<(u64, u64)> {
    use std::os::unix::fs::MetadataExt;
    fs::metadata(file).ok().map(|about| (about.dev(), about.ino()))
}

#[cfg(not(unix))]
fn number_of(_file: &Path) -> Option<(u64, u64)> {
    None
}

/// The folder that a file lies in.
pub(crate) fn folder_of(file: &Path) -> &Path {
    match file.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    }
}

/// The name of a file as it is printed: control characters are shown, not sent to the terminal.
pub(crate) fn shown(file: &Path) -> String {
    let name = file.display().to_string();
    if name.chars().any(char::is_control) { name.escape_debug().to_string() } else { name }
}

/// Whether this run only makes a result again: a sound is made, and not kept.
pub(crate) fn writes_nothing() -> bool {
    std::env::var_os(READS_ONLY).is_some()
}

/// Notes a file that is read. One that is to be written over is refused, and so is one that a run
/// which may read only some is not allowed.
pub(crate) fn note_input(file: &Path) -> Result<()> {
    let place = Place::of(file);
    if let Some(allowed) = std::env::var_os(READS_ONLY) {
        let allowed = allowed.to_string_lossy();
        if !allowed.lines().any(|one| Path::new(one) == place.path) {
            bail!("{}: the result does not name this file; it is not read", shown(file));
        }
    }
    let mut ledger = ledger();
    let is_output = ledger.outputs.contains(&place);
    if !ledger.is_of_many {
        ledger.inputs.insert(place);
    }
    if is_output { Err(refuse_input(file)) } else { Ok(()) }
}

/// From now on it is not kept which files were read: there are many, and what is written was claimed
/// before.
pub(crate) fn forget_inputs() {
    ledger().is_of_many = true;
}

fn refuse_input(file: &Path) -> anyhow::Error {
    let reason = "the result would replace what it is made from; write it to another file";
    Usage(format!("{}: {reason}", shown(file))).into()
}

fn read_limited(file: &Path, most_bytes: u64) -> Result<Vec<u8>> {
    let name = || shown(file);
    check_regular(file).with_context(name)?;
    let mut bytes = Vec::new();
    let opened = File::open(file).with_context(name)?;
    opened.take(most_bytes + 1).read_to_end(&mut bytes).with_context(name)?;
    if bytes.len() as u64 > most_bytes {
        bail!("{}: it is larger than {} MB, and is not read", name(), most_bytes >> 20);
    }
    Ok(bytes)
}

fn as_text(file: &Path, bytes: Vec<u8>) -> Result<String> {
    String::from_utf8(bytes)
        .map_err(|_| anyhow::anyhow!("{}: it is no text in UTF-8; name another file", shown(file)))
}

/// Reads a file of the program's own: a study.
pub(crate) fn read_own(file: &Path) -> Result<String> {
    as_text(file, read_limited(file, MOST_TEXT_BYTES)?)
}

/// A file that was read beside the takes, for the record of a result.
#[derive(Debug, Clone, Serialize)]
pub(crate) struct ReadFile {
    /// As it was named.
    path: String,
    blake3: String,
}

thread_local! {
    /// What analyses within this run have read, the innermost last.
    static RECORDED: RefCell<Vec<Vec<ReadFile>>> = const { RefCell::new(Vec::new()) };
}

/// Does one of several pieces of work of a run, of which each has a record of its own.
pub(crate) fn recording<T>(work: impl FnOnce() -> T) -> T {
    RECORDED.with_borrow_mut(|stack| stack.push(Vec::new()));
    let done = work();
    RECORDED.with_borrow_mut(Vec::pop);
    done
}

/// The files that [`read_named`] has read in this piece of work, or else in the run, in the order
/// of their names.
pub(crate) fn read_files() -> Vec<ReadFile> {
    let own = RECORDED.with_borrow(|stack| stack.last().cloned());
    let mut all = own.unwrap_or_else(|| ledger().named.clone());
    all.sort_by(|a, b| a.path.cmp(&b.path));
    all
}

/// Reads a file of text that an option or an argument names, of so many bytes at most, and notes it
/// for the record: the result depends on it.
pub(crate) fn read_named(file: &Path, most_bytes: u64) -> Result<String> {
    as_text(file, read_named_bytes(file, most_bytes)?)
}

/// The same of a file of any kind.
pub(crate) fn read_named_bytes(file: &Path, most_bytes: u64) -> Result<Vec<u8>> {
    note_input(file)?;
    let bytes = read_limited(file, most_bytes)?;
    let path = file.display().to_string();
    let blake3 = blake3::hash(&bytes).to_hex().to_string();
    let read = ReadFile { path, blake3 };
    let add = |list: &mut Vec<ReadFile>| {
        if list.iter().all(|known| known.path != read.path) {
            list.push(read.clone());
        }
    };
    add(&mut ledger().named);
    RECORDED.with_borrow_mut(|stack| stack.last_mut().into_iter().for_each(add));
    Ok(bytes)
}

/// Refuses what could be read for ever, or not at all.
pub(crate) fn check_regular(file: &Path) -> Result<()> {
    match fs::metadata(file) {
        Ok(about) if about.is_file() => Ok(()),
        Ok(about) if about.is_dir() => bail!("this is a folder; name a file in it"),
        Ok(_) => bail!("this is a pipe or a device, not a file; name a file"),
        Err(error) if error.kind() == ErrorKind::NotFound => {
            bail!("there is no such file; check the name and the folder")
        }
        Err(error) => Err(error.into()),
    }
}

/// BLAKE3 hash of a file.
pub(crate) fn hash_of(file: &Path) -> Result<String> {
    check_regular(file)?;
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(File::open(file)?)?;
    Ok(hasher.finalize().to_hex().to_string())
}

/// Refuses before the work what could not, or must not, be written at its end. Two outputs of one
/// run cannot share a file.
pub(crate) fn claim(file: &Path, content: Content, force: bool) -> Result<()> {
    check(file, content, force)?;
    let place = Place::of(file);
    let mut ledger = ledger();
    if ledger.outputs.contains(&place) {
        let reason = "two outputs would go into this one file; give each its own";
        return Err(Usage(format!("{}: {reason}", shown(file))).into());
    }
    ledger.outputs.insert(place);
    Ok(())
}

/// Whether standard output is meant.
pub(crate) fn is_standard_output(file: &Path) -> bool {
    let names = ["-", "/dev/stdout", "/dev/fd/1", "/proc/self/fd/1"];
    names.iter().any(|name| Path::new(name) == file)
}

/// Whether text can go straight into it: a pipe, or a device that takes characters.
pub(crate) fn takes_text(file: &Path) -> bool {
    #[cfg(unix)]
    {
        use std::os::unix::fs::FileTypeExt;
        let kind = fs::metadata(file).map(|about| about.file_type());
        kind.is_ok_and(|kind| kind.is_fifo() || kind.is_char_device())
    }
    #[cfg(not(unix))]
    {
        let _ = file;
        false
    }
}

fn check(file: &Path, content: Content, force: bool) -> Result<()> {
    if content == Content::Sound && writes_nothing() {
        return Ok(());
    }
    if content == Content::Text && (is_standard_output(file) || takes_text(file)) {
        return Ok(());
    }
    let name = shown(file);
    let folder = folder_of(file);
    if !folder.is_dir() {
        bail!("{}: there is no such folder; make it first", shown(folder));
    }
    if file.file_name().is_some_and(|name| name == FILE_NAME) {
        bail!("{name}: a study is kept under this name; choose another");
    }
    let about = match fs::metadata(file) {
        Ok(about) => about,
        Err(_) if file.is_symlink() => {
            bail!("{name}: this link leads to no file; remove it, or choose another name")
        }
        Err(_) => return Ok(()),
    };
    if about.is_dir() {
        bail!("{name}: this is a folder; name a file in it");
    }
    if !about.is_file() {
        bail!("{name}: this is a pipe or a device, not a file; choose another name");
    }
    if ledger().inputs.contains(&Place::of(file)) {
        return Err(refuse_input(file));
    }
    if is_take_of_study(file) {
        bail!("{name}: this is a take of the study, which is kept; choose another name");
    }
    if content != Content::Sound && TakeReader::open(file).is_ok() {
        bail!("{name}: this is a recording, which a result does not replace; choose another name");
    }
    if !force {
        bail!("{name}: this file exists already; choose another name, or replace it with --force");
    }
    Ok(())
}

/// Whether the study in the folder of a file, if there is one, lists it as a take.
fn is_take_of_study(file: &Path) -> bool {
    let folder = folder_of(file);
    let study = fs::read_to_string(folder.join(FILE_NAME)).ok();
    let study = study.and_then(|text| Study::read(&text).ok());
    let mut takes = Places::new();
    for take in study.iter().flat_map(|study| &study.takes) {
        takes.insert(Place::of(&folder.join(&take.file)));
    }
    takes.contains(&Place::of(file))
}

/// Writes a file whole.
pub(crate) fn write_whole(file: &Path, content: Content, bytes: &[u8], force: bool) -> Result<()> {
    write_by(file, content, force, |out| Ok(out.write_all(bytes)?))
}

/// The same for a file that is written piece by piece; it is not there if `write` fails.
pub(crate) fn write_by<T>(
    file: &Path,
    content: Content,
    force: bool,
    write: impl FnOnce(&mut File) -> Result<T>,
) -> Result<T> {
    if content == Content::Sound && writes_nothing() {
        return write(&mut tempfile::tempfile()?);
    }
    let draft = Draft::begin(file, content, force)?;
    let written = write(&mut draft.file()?).with_context(|| not_written(file))?;
    draft.finish()?;
    Ok(written)
}

/// Replaces a file of the program's own: a study, or what is kept beside it.
pub(crate) fn replace_own(file: &Path, bytes: &[u8]) -> Result<()> {
    let draft = Draft::aside(file, true)?;
    draft.file()?.write_all(bytes).with_context(|| not_written(file))?;
    draft.finish()
}

/// The same for one that must not be there yet.
pub(crate) fn create_own(file: &Path, bytes: &[u8]) -> Result<()> {
    if file.exists() || file.is_symlink() {
        bail!("{}: this file exists already; it is not replaced", shown(file));
    }
    let draft = Draft::aside(file, false)?;
    draft.file()?.write_all(bytes).with_context(|| not_written(file))?;
    draft.finish()
}

/// A file under another name, which goes away unless it is finished.
pub(crate) struct Draft {
    temporary: Temporary,
    /// As it was named, and where that leads.
    named: PathBuf,
    target: PathBuf,
    replaces: bool,
}

impl Draft {
    /// Begins what will be a file.
    pub(crate) fn begin(file: &Path, content: Content, force: bool) -> Result<Self> {
        check(file, content, force)?;
        Self::aside(file, force)
    }

    fn aside(file: &Path, replaces: bool) -> Result<Self> {
        // A link stays a link: what it leads to is replaced.
        let target = file.canonicalize().unwrap_or_else(|_| file.into());
        let temporary = Temporary::new_in(folder_of(&target)).with_context(|| not_written(file))?;
        Ok(Self { temporary, named: file.into(), target, replaces })
    }

    /// Where it is until it is finished.
    pub(crate) fn path(&self) -> &Path {
        self.temporary.path()
    }

    /// The file to write to.
    pub(crate) fn file(&self) -> Result<File> {
        Ok(self.temporary.held.as_file().try_clone()?)
    }

    /// Gives it its name, and the mode of what it replaces.
    pub(crate) fn finish(self) -> Result<()> {
        let failed = || not_written(&self.named);
        let out = self.temporary.held.as_file();
        if let Ok(about) = fs::metadata(&self.target) {
            out.set_permissions(about.permissions()).with_context(failed)?;
        }
        out.sync_all().with_context(failed)?;
        self.temporary.keep_as(&self.target, self.replaces).with_context(failed)
    }
}

/// What is said of a file that could not be written.
pub(crate) fn not_written(file: &Path) -> String {
    format!("{}: it could not be written, and nothing of it is there", shown(file))
}

/// A file that goes away with the value, with an interrupted run, or, if the run was killed, at the
/// start of the next one. A lock on it says that its run lives.
pub(crate) struct Temporary {
    held: NamedTempFile,
}

impl Temporary {
    /// A new file in a folder, from which what killed runs have left is swept first.
    pub(crate) fn new_in(folder: &Path) -> io::Result<Self> {
        sweep(folder);
        let mut builder = tempfile::Builder::new();
        builder.prefix(DRAFT_PREFIX).suffix(DRAFT_SUFFIX);
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            // A temporary file is private; a result is not.
            builder.permissions(fs::Permissions::from_mode(0o666));
        }
        let mut drafts = interrupt::drafts();
        loop {
            let held = builder.tempfile_in(folder).map_err(plain)?;
            // Where there are no locks, nothing is swept either.
            let _ = held.as_file().lock();
            // Another run may have swept it before it was locked.
            if held.path().exists() {
                drafts.insert(held.path().into());
                return Ok(Self { held });
            }
        }
    }

    /// A new file where the system keeps such.
    pub(crate) fn new() -> Result<Self> {
        let folder = std::env::temp_dir();
        Self::new_in(&folder).with_context(|| {
            format!("{}: there is no room here; set TMPDIR to a folder with room", shown(&folder))
        })
    }

    pub(crate) fn path(&self) -> &Path {
        self.held.path()
    }

    pub(crate) fn file_mut(&mut self) -> &mut File {
        self.held.as_file_mut()
    }

    fn keep_as(self, target: &Path, replaces: bool) -> io::Result<()> {
        let aside = self.held.path().to_path_buf();
        let kept = if replaces {
            self.held.persist(target).map_err(|error| error.error)
        } else {
            self.held.persist_noclobber(target).map_err(|error| error.error)
        };
        interrupt::drafts().remove(&aside);
        kept.map(|_| ()).map_err(plain)
    }
}

/// An error of the system without the name of the temporary file, which means nothing to anyone.
fn plain(error: io::Error) -> io::Error {
    let inner = error.get_ref().and_then(|inner| inner.source());
    let code = inner.and_then(|inner| inner.downcast_ref::<io::Error>()?.raw_os_error());
    code.map_or(error, io::Error::from_raw_os_error)
}

/// Removes what killed runs have left in a folder.
pub(crate) fn sweep(folder: &Path) {
    static SWEPT: Mutex<Option<HashSet<PathBuf>>> = Mutex::new(None);
    {
        let mut swept = SWEPT.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if !swept.get_or_insert_default().insert(folder.into()) {
            return;
        }
    }
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let name = name.to_string_lossy();
        if !(name.starts_with(DRAFT_PREFIX) && name.ends_with(DRAFT_SUFFIX)) {
            continue;
        }
        // The lock of a run that lives cannot be had.
        let is_left = File::open(entry.path()).is_ok_and(|left| left.try_lock().is_ok());
        if is_left {
            let _ = fs::remove_file(entry.path());
        }
    }
}
