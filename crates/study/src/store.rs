//! Results that are kept with a study, so that nothing is measured twice.

use std::fs;
use std::path::{Path, PathBuf};

/// What the program keeps in the folder of a study, beside its file.
pub const OWN_FOLDER: &str = ".tonemap";

/// A folder of results, each a file under the hash of all that it depends on.
///
/// The first line of a file is a checksum of its key and of what follows: one that is empty, cut,
/// altered or under another's key is not there.
#[derive(Debug, Clone)]
pub struct ResultStore {
    folder: PathBuf,
}

/// A result is not larger than this.
const MOST_BYTES: u64 = 1 << 30;

impl ResultStore {
    /// The store in the folder of a study; its folder may have to be made before a result is put
    /// in.
    #[must_use]
    pub fn in_study(folder: &Path) -> Self {
        Self { folder: folder.join(OWN_FOLDER).join("results") }
    }

    /// The folder of the results.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The file of the result under a key.
    #[must_use]
    pub fn file(&self, key: &str) -> PathBuf {
        self.folder.join(format!("{key}.jsonl"))
    }

    /// The result under a key, if there is one and it is as it was put in.
    #[must_use]
    pub fn get(&self, key: &str) -> Option<String> {
        let file = self.file(key);
        let about = fs::metadata(&file).ok()?;
        if !about.is_file() || about.len() > MOST_BYTES {
            return None;
        }
        let text = fs::read_to_string(file).ok()?;
        let (_, result) = text.split_once('\n')?;
        (text.as_bytes() == self.sealed(key, result)).then(|| result.to_string())
    }

    /// What is written into the file of a key to keep a result.
    #[must_use]
    pub fn sealed(&self, key: &str, result: &str) -> Vec<u8> {
        let mut hasher = blake3::Hasher::new();
        hasher.update(key.as_bytes());
        hasher.update(result.as_bytes());
        format!("{{\"blake3\":\"{}\"}}\n{result}", hasher.finalize().to_hex()).into_bytes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_was_put_in_comes_out() {
        let folder = tempfile::tempdir().expect("a folder");
        let store = ResultStore::in_study(folder.path());
        assert_eq!(store.get("a"), None);
        fs::create_dir_all(store.folder()).expect("made");
        let whole = store.sealed("a", "{}\n{1}\n");
        fs::write(store.file("a"), &whole).expect("kept");
        assert_eq!(store.get("a").as_deref(), Some("{}\n{1}\n"));
        // Cut anywhere, changed anywhere, or under another key.
        for length in 0..whole.len() {
            fs::write(store.file("a"), &whole[..length]).expect("cut");
            assert_eq!(store.get("a"), None, "{length}");
            let mut altered = whole.clone();
            altered[length] ^= 1;
            fs::write(store.file("a"), &altered).expect("altered");
            assert_eq!(store.get("a"), None, "{length}");
        }
        fs::write(store.file("b"), &whole).expect("copied");
        assert_eq!(store.get("b"), None);
    }
}
