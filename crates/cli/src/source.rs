//! Where the samples of a take come from: a file, standard input, a pipe, or partial tracks that
//! are played.

use std::io::{BufWriter, Read};
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use tonemap_core::partials::{Moment, sound_of};
use tonemap_media::{RawFormat, SdifFrame, TakeReader, WavEncoding, read_sdif, write_wav};

use crate::files::{self, Temporary};
use crate::stream;
use crate::tracks;

/// Where the samples of a take come from.
pub(crate) struct Source {
    /// As the user named it.
    pub(crate) path: PathBuf,
    raw: Option<RawFormat>,
    /// What came by standard input or a pipe, kept because it is read more than once.
    pub(crate) spool: Option<Temporary>,
    /// The sound of a file of partial tracks.
    pub(crate) played: Option<Temporary>,
}

impl Source {
    pub(crate) fn new(path: &Path, raw: Option<RawFormat>) -> Result<Self> {
        let spool = if path.as_os_str() == "-" {
            Some(spooled(&mut std::io::stdin().lock()).context("standard input")?)
        } else {
            let stream = stream::open(path).with_context(|| files::shown(path))?;
            let spool = stream.map(|mut stream| spooled(&mut stream)).transpose();
            spool.with_context(|| files::shown(path))?
        };
        let mut source = Self { path: path.into(), raw, spool, played: None };
        if raw.is_none() && is_tracks(source.file()) {
            source.played = Some(play_tracks(source.file()).with_context(|| source.name())?);
        }
        Ok(source)
    }

    /// The file as it was given.
    pub(crate) fn file(&self) -> &Path {
        self.spool.as_ref().map_or(&self.path, Temporary::path)
    }

    pub(crate) fn name(&self) -> String {
        if self.path.as_os_str() == "-" {
            "standard input".into()
        } else {
            files::shown(&self.path)
        }
    }

    pub(crate) fn reader(&self) -> Result<TakeReader> {
        match self.raw {
            Some(format) => TakeReader::open_raw(self.file(), format),
            None => TakeReader::open(self.played.as_ref().map_or(self.file(), Temporary::path)),
        }
        .with_context(|| self.name())
    }
}

/// All that a stream gives, in a file that can be read more than once.
fn spooled(stream: &mut impl Read) -> Result<Temporary> {
    let mut spool = Temporary::new()?;
    std::io::copy(stream, spool.file_mut()).with_context(|| {
        let folder = std::env::temp_dir();
        format!(
            "it could not be kept in {}, where it must be read from; set TMPDIR to a folder with \
             room",
            files::shown(&folder)
        )
    })?;
    Ok(spool)
}

/// Whether a file holds partial tracks instead of samples.
fn is_tracks(file: &Path) -> bool {
    let mut start = [0; 4];
    let read = std::fs::File::open(file).and_then(|mut file| file.read_exact(&mut start));
    read.is_ok() && &start == b"SDIF"
}

/// Plays the partials of a file into a temporary one, so that they can be measured like any sound.
fn play_tracks(file: &Path) -> Result<Temporary> {
    const RATES_HZ: [u32; 3] = [48_000, 96_000, 192_000];
    const MOST_BYTES: u64 = 1 << 30;
    if std::fs::metadata(file)?.len() > MOST_BYTES {
        anyhow::bail!("a file of partial tracks is read up to {} MB", MOST_BYTES >> 20);
    }
    let (_, frames) = read_sdif(&std::fs::read(file)?)?;
    let moment = |frame: SdifFrame| Moment {
        time_s: frame.time_s,
        partials: (frame.partials.iter()).map(tracks::point).collect(),
    };
    let moments: Vec<Moment> = frames.into_iter().map(moment).collect();
    let all = moments.iter().flat_map(|moment| &moment.partials);
    let highest_hz = all.map(|(_, point)| point.frequency_hz).fold(0.0, f64::max);
    let holds = |rate_hz: &&u32| 0.45 * f64::from(**rate_hz) > highest_hz;
    let rate_hz = *RATES_HZ.iter().find(holds).unwrap_or(&RATES_HZ[2]);
    let sound = sound_of(&moments, rate_hz.into())?;
    let mut played = Temporary::new()?;
    write_wav(BufWriter::new(played.file_mut()), rate_hz, &[sound], WavEncoding::Float)?;
    Ok(played)
}
