//! One run at a time writes into a survey: others wait for it.

use std::fs::{File, OpenOptions};
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};

use crate::files;

/// Held while a run writes into a survey. The system lets go of it when the process ends, however
/// that is.
pub(super) struct Lock {
    file: PathBuf,
    _held: File,
}

impl Lock {
    /// Waits until no other run writes into a survey; `waits` is called once if there is one.
    pub(super) fn of(survey: &Path, waits: impl FnOnce()) -> Result<Self> {
        let mut name = survey.as_os_str().to_owned();
        name.push(".lock");
        let file = PathBuf::from(name);
        let mut waits = Some(waits);
        loop {
            let open = OpenOptions::new().create(true).truncate(false).write(true).open(&file);
            let held = open.with_context(|| files::not_written(survey))?;
            if held.try_lock().is_err() {
                if let Some(waits) = waits.take() {
                    waits();
                }
                held.lock().with_context(|| files::shown(&file))?;
            }
            // The run before may have removed the file that was waited for.
            if is_same(&held, &file) {
                return Ok(Self { file, _held: held });
            }
        }
    }
}

impl Drop for Lock {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.file);
    }
}

#[cfg(unix)]
fn is_same(held: &File, file: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    match (held.metadata(), std::fs::metadata(file)) {
        (Ok(held), Ok(there)) => held.ino() == there.ino() && held.dev() == there.dev(),
        _ => false,
    }
}

#[cfg(not(unix))]
fn is_same(_held: &File, file: &Path) -> bool {
    file.exists()
}
