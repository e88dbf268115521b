//! Results that are kept with a study, so that nothing is measured twice.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// A folder of results, each a file under the hash of all that it depends on.
#[derive(Debug, Clone)]
pub struct ResultStore {
    folder: PathBuf,
}

impl ResultStore {
    /// The store in the folder of a study, which is made when the first result is put in.
    #[must_use]
    pub fn in_study(folder: &Path) -> Self {
        Self { folder: folder.join(".tonemap").join("results") }
    }

    /// The result under a key, if there is one.
    #[must_use]
    pub fn get(&self, key: &str) -> Option<String> {
        fs::read_to_string(self.file(key)).ok()
    }

    /// Keeps a result.
    ///
    /// # Errors
    ///
    /// Those of the file system.
    pub fn put(&self, key: &str, result: &str) -> io::Result<()> {
        fs::create_dir_all(&self.folder)?;
        let mut draft = tempfile::NamedTempFile::new_in(&self.folder)?;
        io::Write::write_all(&mut draft, result.as_bytes())?;
        draft.persist(self.file(key))?;
        Ok(())
    }

    fn file(&self, key: &str) -> PathBuf {
        self.folder.join(format!("{key}.json"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_put_in_comes_out() {
        let folder = tempfile::tempdir().expect("a folder");
        let store = ResultStore::in_study(folder.path());
        assert_eq!(store.get("a"), None);
        store.put("a", "{}\n").expect("kept");
        store.put("a", "{1}\n").expect("kept anew");
        assert_eq!(store.get("a").as_deref(), Some("{1}\n"));
    }
}
