//! What is kept of a sound that goes on: the last seconds, a recording, a picture, each beside the
//! numbers of its moment.

use std::fs::File;
use std::io::BufWriter;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use tonemap_core::live::{Heard, History, LiveFormat};
use tonemap_media::{WavEncoding, WavSink};

use super::feed::Samples;
use crate::files::{self, Content, Draft};
use crate::studies::{self, OpenStudy};

/// Where it goes.
pub(super) struct Keeper {
    folder: PathBuf,
    /// What files are called, before their number.
    name: String,
    /// Whether the folder is a study, which lists its takes.
    is_study: bool,
    encoding: WavEncoding,
    format: LiveFormat,
    /// Name of each channel, and the microphone behind it.
    channels: Vec<tonemap_study::Channel>,
}

/// A take that is being recorded.
pub(super) struct Recording {
    draft: Draft,
    sink: WavSink<BufWriter<File>>,
    path: PathBuf,
    frames: u64,
    format: LiveFormat,
    most_frames: u64,
    row: Vec<f64>,
}

impl Keeper {
    pub(super) fn new(
        study: Option<&OpenStudy>,
        folder: Option<&Path>,
        name: &str,
        format: LiveFormat,
        channels: Vec<tonemap_study::Channel>,
    ) -> Self {
        let is_study = study.is_some() && folder.is_none();
        let of_study = study.map(|open| open.folder.clone());
        Self {
            folder: folder.map(Path::to_path_buf).or(of_study).unwrap_or_default(),
            name: name.into(),
            is_study,
            // As it came: no sample is changed.
            encoding: match format.bits {
                Some(8) => WavEncoding::Integer(8),
                Some(9..=16) => WavEncoding::Integer(16),
                Some(17..=24) => WavEncoding::Integer(24),
                _ => WavEncoding::Float,
            },
            format,
            channels,
        }
    }

    /// The first name of which there is no file yet.
    fn free(&self, endings: &[&str]) -> PathBuf {
        let name = |n: u32| self.folder.join(format!("{}-{n}", self.name));
        let is_free =
            |stem: &PathBuf| endings.iter().all(|ending| !stem.with_extension(ending).exists());
        (1..u32::MAX).map(name).find(is_free).unwrap_or_else(|| name(0))
    }

    /// Saves the last seconds that are kept, and beside them the numbers of the moment.
    pub(super) fn save(&self, history: &History, kept_s: f64, numbers: &str) -> Result<String> {
        let stem = self.free(&["wav", "json"]);
        let path = stem.with_extension("wav");
        let count = (kept_s * self.format.sample_rate_hz).round() as usize;
        let channels: Samples =
            (0..self.format.channels).map(|n| history.last(Heard::Channel(n), count)).collect();
        let mut recording = Recording::begin(&path, self)?;
        recording.write(&channels)?;
        let frames = recording.finish()?;
        let beside = stem.with_extension("json");
        files::write_whole(&beside, Content::Result, numbers.as_bytes(), false)?;
        self.list(&path)?;
        Ok(format!(
            "{} with the last {:.1} s, and {} with their numbers",
            files::shown(&path),
            frames as f64 / self.format.sample_rate_hz,
            beside.file_name().unwrap_or_default().to_string_lossy()
        ))
    }

    /// Saves a picture.
    pub(super) fn picture(&self, file: &[u8]) -> Result<String> {
        let path = self.free(&["png"]).with_extension("png");
        files::write_whole(&path, Content::Result, file, false)?;
        Ok(files::shown(&path))
    }

    /// Begins a recording with the last seconds before.
    pub(super) fn record(&self, history: &History, before_s: f64) -> Result<Recording> {
        let path = self.free(&["wav", "json"]).with_extension("wav");
        let mut recording = Recording::begin(&path, self)?;
        let count = (before_s * self.format.sample_rate_hz).round() as usize;
        let before: Samples =
            (0..self.format.channels).map(|n| history.last(Heard::Channel(n), count)).collect();
        recording.write(&before)?;
        Ok(recording)
    }

    /// Ends a recording.
    pub(super) fn end(&self, recording: Recording) -> Result<String> {
        let path = recording.path.clone();
        let frames = recording.finish()?;
        self.list(&path)?;
        let lasts_s = frames as f64 / self.format.sample_rate_hz;
        Ok(format!("{} with {lasts_s:.1} s", files::shown(&path)))
    }

    /// Adds a take to the study.
    fn list(&self, path: &Path) -> Result<()> {
        if !self.is_study {
            return Ok(());
        }
        let text = |part: Option<&std::ffi::OsStr>| {
            part.unwrap_or_default().to_string_lossy().into_owned()
        };
        let take = tonemap_study::Take {
            name: text(path.file_stem()),
            file: text(path.file_name()),
            blake3: Some(files::hash_of(path)?),
            channels: self.channels.clone(),
            ..tonemap_study::Take::default()
        };
        studies::edit(&self.folder, |open| Ok(open.study.add(take)?))
    }
}

impl Recording {
    fn begin(path: &Path, keeper: &Keeper) -> Result<Self> {
        const MOST_BYTES: u64 = u32::MAX as u64 - 4096;
        let draft = Draft::begin(path, Content::Sound, false)?;
        let out = BufWriter::with_capacity(1 << 16, draft.file()?);
        let rate = keeper.format.sample_rate_hz as u32;
        let channels = keeper.format.channels;
        let sink = WavSink::new(out, rate, channels, keeper.encoding)
            .with_context(|| files::not_written(path))?;
        Ok(Self {
            draft,
            sink,
            path: path.into(),
            frames: 0,
            format: keeper.format,
            most_frames: MOST_BYTES / (4 * channels as u64),
            row: Vec::new(),
        })
    }

    /// Appends samples; `false` if a WAV file cannot hold more.
    pub(super) fn write(&mut self, channels: &Samples) -> Result<bool> {
        let frames = channels.first().map_or(0, Vec::len);
        if self.frames + frames as u64 > self.most_frames {
            return Ok(false);
        }
        self.row.clear();
        for frame in 0..frames {
            self.row.extend(channels.iter().map(|samples| f64::from(samples[frame])));
        }
        self.sink.write(&self.row).with_context(|| files::not_written(&self.path))?;
        self.frames += frames as u64;
        Ok(true)
    }

    /// How long it lasts, in seconds.
    pub(super) fn lasts_s(&self) -> f64 {
        self.frames as f64 / self.format.sample_rate_hz
    }

    fn finish(self) -> Result<u64> {
        let path = self.path;
        self.sink.finish().with_context(|| files::not_written(&path))?;
        self.draft.finish()?;
        Ok(self.frames)
    }
}
