//! The samples of a channel, kept where they can be read again: in memory, or in a temporary file
//! where there are many.

use std::fs::File;
use std::io::{BufWriter, Read, Seek, SeekFrom, Write};
use std::sync::{Mutex, PoisonError};

use anyhow::{Context, Result};
use tonemap_core::{Error, Samples};

use crate::files::{self, Temporary};

/// So many samples are kept in memory: 64 MB.
const MOST_IN_MEMORY: usize = 16 << 20;

/// Samples as they come.
pub(crate) enum Spooling {
    Memory(Vec<f32>),
    File { count: usize, writer: BufWriter<File>, file: Temporary, lost: Option<std::io::Error> },
}

/// The same when all have come.
pub(crate) enum Spooled {
    Memory(Vec<f32>),
    File { count: usize, reader: Mutex<File>, _file: Temporary },
}

impl Spooling {
    /// For so many samples.
    pub(crate) fn new(count: usize) -> Result<Self> {
        if count <= MOST_IN_MEMORY {
            return Ok(Self::Memory(Vec::with_capacity(count)));
        }
        let mut file = Temporary::new()?;
        let writer = BufWriter::with_capacity(1 << 20, file.file_mut().try_clone()?);
        Ok(Self::File { count: 0, writer, file, lost: None })
    }

    pub(crate) fn push(&mut self, samples: &[f32]) {
        match self {
            Self::Memory(all) => all.extend_from_slice(samples),
            Self::File { count, writer, lost, .. } => {
                *count += samples.len();
                if lost.is_none() {
                    *lost = writer.write_all(bytemuck::cast_slice(samples)).err();
                }
            }
        }
    }

    pub(crate) fn finish(self) -> Result<Spooled> {
        match self {
            Self::Memory(all) => Ok(Spooled::Memory(all)),
            Self::File { count, mut writer, file, lost } => {
                let done = lost.map_or_else(|| writer.flush(), Err);
                done.with_context(|| {
                    format!(
                        "{}: {} MB of samples could not be kept here while they are measured; set \
                         TMPDIR to a folder with room",
                        files::shown(&std::env::temp_dir()),
                        (4 * count) >> 20
                    )
                })?;
                let reader = Mutex::new(File::open(file.path())?);
                Ok(Spooled::File { count, reader, _file: file })
            }
        }
    }
}

impl Samples for Spooled {
    fn count(&self) -> usize {
        match self {
            Self::Memory(all) => all.count(),
            Self::File { count, .. } => *count,
        }
    }

    fn read(&self, start: usize, into: &mut [f32]) -> Result<(), Error> {
        let reader = match self {
            Self::Memory(all) => return all.read(start, into),
            Self::File { reader, .. } => reader,
        };
        let mut file = reader.lock().unwrap_or_else(PoisonError::into_inner);
        let read = file
            .seek(SeekFrom::Start(4 * start as u64))
            .and_then(|_| file.read_exact(bytemuck::cast_slice_mut(into)));
        read.map_err(|error| Error::Lost { reason: error.to_string() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_in_a_file_is_read_as_it_was() {
        let all: Vec<f32> = (0..MOST_IN_MEMORY + 1000).map(|n| n as f32).collect();
        let mut spooling = Spooling::new(all.len()).expect("room");
        all.chunks(100_001).for_each(|part| spooling.push(part));
        let spooled = spooling.finish().expect("kept");
        assert!(matches!(spooled, Spooled::File { .. }));
        assert_eq!(spooled.count(), all.len());
        for start in [0, 77, MOST_IN_MEMORY - 10] {
            let mut part = vec![0.0; 500];
            spooled.read(start, &mut part).expect("read");
            assert_eq!(part, all[start..start + 500]);
        }
        assert!(spooled.read(all.len() - 1, &mut [0.0; 2]).is_err());
    }
}
