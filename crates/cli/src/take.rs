//! A take as a command sees it: a file, a channel, a span, and what is wrong with them.

use std::io::{BufWriter, Read};
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use rayon::prelude::*;
use serde::Serialize;
use tonemap_core::intake::LevelMeter;
use tonemap_core::partials::{LONGEST_S, Moment, TrackPoint, sound_of};
use tonemap_core::units::{LevelReference, Note};
use tonemap_core::{Error, Finding, SampleSpan, Span};
use tonemap_media::{
    Block, RawFormat, SdifFrame, SdifPartial, TakeInfo, TakeReader, WavEncoding, read_sdif,
    write_wav,
};

use crate::args::{Channel, PartArgs, SourceArgs, TakesArgs};
use crate::files::{self, Temporary};
use crate::output::{self, Status, Usage};
use crate::progress::{Progress, TakesProgress};
use crate::stream;
use crate::studies::{self, Entry, Named};
use crate::text;

/// An opened take.
pub(crate) struct Take {
    source: Source,
    /// What the study knows of it.
    entry: Option<Entry>,
    pub(crate) info: TakeInfo,
    /// Frames in the file.
    pub(crate) frames: u64,
    /// What the header gives away.
    pub(crate) findings: Vec<Finding>,
}

/// Where the samples of a take come from.
struct Source {
    /// As the user named it.
    path: PathBuf,
    raw: Option<RawFormat>,
    /// What came by standard input or a pipe, kept because it is read more than once.
    spool: Option<Temporary>,
    /// The sound of a file of partial tracks.
    played: Option<Temporary>,
}

/// One channel over one span of a take.
pub(crate) struct Part<'a> {
    take: &'a Take,
    /// Counted from 1; `None` is the mean of all.
    channel: Option<usize>,
    pub(crate) span: SampleSpan,
    /// What its levels refer to: sound pressure where the channel is calibrated, else full scale,
    /// unless parts that stand side by side share another.
    pub(crate) reference: LevelReference,
}

/// The samples of a part, and what was found of them.
pub(crate) struct NoteSamples {
    pub(crate) samples: Vec<f32>,
    pub(crate) findings: Vec<Finding>,
}

/// What a result says about the take it comes from.
#[derive(Serialize)]
pub(crate) struct TakeRecord {
    path: String,
    blake3: String,
    sample_rate_hz: f64,
    channels: usize,
    duration_s: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    channel: Option<String>,
    span: SpanRecord,
}

#[derive(Serialize)]
struct SpanRecord {
    from_s: f64,
    to_s: f64,
}

impl Take {
    /// Opens a take and reads its header. `-` is standard input. A take whose header does not state
    /// its length is read through once.
    pub(crate) fn open(named: Named, args: &SourceArgs) -> Result<Self> {
        let Named { path, entry } = named;
        if path.as_os_str() != "-" {
            files::note_input(&path)?;
        }
        Self::of_source(Source::new(&path, args.raw)?, entry)
    }

    /// Opens a take that this run has written.
    pub(crate) fn open_written(path: &Path) -> Result<Self> {
        Self::of_source(Source::new(path, None)?, None)
    }

    fn of_source(source: Source, entry: Option<Entry>) -> Result<Self> {
        let mut reader = source.reader()?;
        let mut info = reader.info().clone();
        let frames = match info.frames {
            Some(frames) => frames,
            None => {
                let mut block = Block::default();
                while reader.read(&mut block).with_context(|| source.name())? {}
                reader.position()
            }
        };
        if source.played.is_some() {
            info = TakeInfo { container: "SDIF", codec: "partial tracks, played".into(), ..info };
        }
        let mut findings = Vec::new();
        if info.missing_frames > 0 {
            findings.push(truncated(&info, info.missing_frames, frames));
        }
        if info.stray_bytes > 0 {
            findings.push(Finding::warning(
                "stray_bytes",
                format!(
                    "{} bytes follow the sound that belong to no part of the file: its header may \
                     state too short a length. Compare the duration with what was recorded.",
                    info.stray_bytes
                ),
            ));
        }
        if info.lossy_codec {
            findings.push(Finding::warning(
                "lossy_codec",
                format!(
                    "The sound is coded as {}, which leaves out what is thought not to be heard: weak \
                     partials beside strong ones, and the highest frequencies. Levels there are those \
                     of the coder; use the original recording.",
                    info.codec
                ),
            ));
        }
        let mut take = Self { source, entry, info, frames, findings };
        take.findings.extend(take.doubts());
        if let Some(entry) = take.entry.as_ref().filter(|entry| entry.take.blake3.is_some()) {
            take.findings.extend(entry.changed(&take.blake3()?));
        }
        Ok(take)
    }

    /// What the study says of it and cannot be.
    pub(crate) fn doubts(&self) -> Vec<Finding> {
        self.entry.as_ref().map_or_else(Vec::new, |entry| entry.doubts(&self.info))
    }

    /// Hash of the whole file.
    pub(crate) fn blake3(&self) -> Result<String> {
        files::hash_of(self.source.file()).with_context(|| self.path())
    }

    /// Names of all channels: those in the study, else their numbers.
    pub(crate) fn channel_names(&self) -> Vec<String> {
        let known = self.entry.as_ref().map(|entry| entry.take.channels.as_slice());
        let known = known.unwrap_or_default();
        let name = |n: usize| known.get(n).map_or((n + 1).to_string(), |c| c.name.clone());
        (0..self.info.channels).map(name).collect()
    }

    /// Frequency of A4: that of the study, else 440 Hz.
    pub(crate) fn reference_hz(&self) -> f64 {
        self.entry.as_ref().map_or(440.0, |entry| entry.reference_hz)
    }

    /// The temperament of the study.
    pub(crate) fn temperament(&self) -> Option<String> {
        self.entry.as_ref().map(|entry| entry.temperament.clone())
    }

    /// The note that the study expects of it.
    pub(crate) fn expected_note(&self) -> Option<Note> {
        self.entry.as_ref()?.take.note.as_deref()?.parse().ok()
    }

    /// Level of a full-scale sine in a channel, counted from 0, in dB re 20 µPa; `None` if it is not
    /// calibrated.
    pub(crate) fn full_scale_db(&self, channel: usize) -> Option<f64> {
        self.entry.as_ref().and_then(|entry| entry.full_scale_db.get(channel).copied().flatten())
    }

    /// The path as the user gave it, for messages.
    pub(crate) fn path(&self) -> String {
        self.source.name()
    }

    /// The same for programs, with every character that it has.
    pub(crate) fn exact_path(&self) -> String {
        if self.source.path.as_os_str() == "-" {
            return self.path();
        }
        self.source.path.display().to_string()
    }

    /// The name in the study, else that of the file without its folders.
    pub(crate) fn name(&self) -> String {
        if let Some(entry) = &self.entry {
            return entry.take.name.clone();
        }
        let name = self.source.path.file_name().filter(|_| self.source.spool.is_none());
        name.map_or_else(|| self.path(), |name| files::shown(name.as_ref()))
    }

    pub(crate) fn duration_s(&self) -> f64 {
        self.frames as f64 / self.info.sample_rate_hz
    }

    /// The span asked for in each of the channels asked for. A take of several channels is read in
    /// its first unless others are asked for, and a finding says so.
    pub(crate) fn parts(&mut self, args: &PartArgs) -> Result<Vec<Part<'_>>> {
        let names = self.channel_names();
        let mut channels = Vec::new();
        for asked in &args.channels {
            match asked {
                Channel::Number(number) if *number > names.len() => {
                    return Err(self.no_channel(number.to_string()));
                }
                Channel::Number(number) => channels.push(Some(*number)),
                Channel::Name(name) => match names.iter().position(|known| known == name) {
                    Some(n) => channels.push(Some(n + 1)),
                    None => return Err(self.no_channel(name.clone())),
                },
                Channel::Mean => channels.push(None),
                Channel::All => channels.extend((1..=names.len()).map(Some)),
            }
        }
        if channels.is_empty() {
            if let [first, second, ..] = names.as_slice() {
                self.findings.push(Finding::note(
                    "first_channel",
                    format!(
                        "The take has {} channels; channel {first} is analysed. Choose with \
                         --channel {second}, --channel mean or --channel all.",
                        names.len()
                    ),
                ));
            }
            channels.push(Some(1));
        }
        let span = self.cut_span(args.span.span())?;
        let take = &*self;
        let part = |channel| {
            let part = Part { take, channel, span, reference: LevelReference::FullScale };
            Part { reference: part.own_reference(), ..part }
        };
        Ok(channels.into_iter().map(part).collect())
    }

    /// The span asked for in the one channel asked for.
    pub(crate) fn part(&mut self, args: &PartArgs) -> Result<Part<'_>> {
        let mut parts = self.parts(args)?;
        match (parts.pop(), parts.is_empty()) {
            (Some(part), true) => Ok(part),
            _ => Err(Usage("one channel is wanted here; name it with --channel".into()).into()),
        }
    }

    fn no_channel(&self, given: String) -> anyhow::Error {
        let allowed = match self.info.channels {
            1 => "1: the take is mono".into(),
            _ => format!("{}, mean, or all", self.channel_names().join(", ")),
        };
        let error = Error::Setting { setting: "the channel", given, allowed };
        anyhow::Error::from(error).context(self.path())
    }

    /// The same; a finding says so where it was to end later than the recording does.
    pub(crate) fn cut_span(&mut self, span: Span) -> Result<SampleSpan> {
        let cut = span.cut(self.info.sample_rate_hz, self.frames);
        self.findings.extend(cut);
        self.span(span)
    }

    /// A span in samples.
    pub(crate) fn span(&self, span: Span) -> Result<SampleSpan> {
        if self.frames == 0 {
            anyhow::bail!("{}: the recording holds no samples; record it again", self.path());
        }
        span.samples(self.info.sample_rate_hz, self.frames).with_context(|| self.path())
    }

    /// Hands blocks of all channels over a span to two pieces of work, on two threads, and returns
    /// what was found on the way.
    pub(crate) fn read_in_two(
        &self,
        span: SampleSpan,
        what: &'static str,
        quiet: bool,
        mut first: impl FnMut(&Block),
        second: impl FnMut(&Block) + Send,
    ) -> Result<Vec<Finding>> {
        let mut reader = self.source.reader()?;
        let mut progress = Progress::new(what, span.len(), quiet);
        let started = std::time::Instant::now();
        let mut frames = 0;
        reader
            .for_span_in_two(
                span.start,
                span.end,
                |block| {
                    first(block);
                    frames += block.frames() as u64;
                    progress.advance(block.frames() as u64);
                },
                second,
            )
            .with_context(|| self.path())?;
        tracing::info!(what, frames, seconds = started.elapsed().as_secs_f64(), "read");
        let mut findings = Vec::new();
        let missing = span.len() - frames;
        if missing > 0 {
            findings.push(truncated(&self.info, missing, span.start + frames));
        }
        if reader.not_finite() > 0 {
            findings.push(Finding::serious(
                "not_finite",
                format!(
                    "{} samples are infinite or not a number; they are taken as silence. Find the \
                     program that wrote them, and export again.",
                    reader.not_finite()
                ),
            ));
        }
        Ok(findings)
    }

    /// A span of this take in words, for tables and figures.
    pub(crate) fn span_line(&self, span: SampleSpan) -> String {
        let rate = self.info.sample_rate_hz;
        format!(
            "{} s to {} s of {} s, {} {}, {} Hz",
            text::number(span.start as f64 / rate, 3),
            text::number(span.end as f64 / rate, 3),
            text::number(self.duration_s(), 3),
            self.info.container,
            self.info.codec,
            text::rate(rate),
        )
    }

    /// A meter for the levels of one channel over a span.
    pub(crate) fn level_meter(&self, span: SampleSpan) -> LevelMeter {
        LevelMeter::new(self.info.sample_rate_hz, self.info.bits_per_sample).starting_at(span.start)
    }

    /// What a result keeps of its take. Reads the whole file to hash it.
    pub(crate) fn record(&self, span: SampleSpan, channel: Option<String>) -> Result<TakeRecord> {
        let rate = self.info.sample_rate_hz;
        Ok(TakeRecord {
            path: self.exact_path(),
            blake3: self.blake3()?,
            sample_rate_hz: rate,
            channels: self.info.channels,
            duration_s: self.duration_s(),
            channel,
            span: SpanRecord { from_s: span.start as f64 / rate, to_s: span.end as f64 / rate },
        })
    }
}

impl<'a> Part<'a> {
    pub(crate) fn take(&self) -> &'a Take {
        self.take
    }

    /// Name of the channel.
    pub(crate) fn channel_name(&self) -> String {
        match self.channel {
            Some(number) => self.take.channel_names()[number - 1].clone(),
            None => "mean".into(),
        }
    }

    /// Level of a full-scale sine in dB re 20 µPa; for the mean, if all channels have the same.
    pub(crate) fn full_scale_db(&self) -> Option<f64> {
        self.shared(|channel| self.take.full_scale_db(channel))
    }

    fn own_reference(&self) -> LevelReference {
        match self.full_scale_db() {
            Some(full_scale_db) => LevelReference::Pressure { full_scale_db },
            None => LevelReference::FullScale,
        }
    }

    /// Peak voltage at full scale; for the mean, if all channels have the same.
    pub(crate) fn full_scale_v(&self) -> Option<f64> {
        let known = self.take.entry.as_ref().map(|entry| entry.full_scale_v.as_slice())?;
        self.shared(|channel| known.get(channel).copied().flatten())
    }

    /// What all channels of the part have alike.
    fn shared(&self, of: impl Fn(usize) -> Option<f64>) -> Option<f64> {
        let channels = match self.channel {
            Some(number) => number - 1..number,
            None => 0..self.take.info.channels,
        };
        let mut values = channels.map(of);
        let first = values.next().flatten()?;
        values.all(|value| value == Some(first)).then_some(first)
    }

    /// Findings as they stand beside those of other parts, if there are several: each with the take
    /// and channel that it concerns.
    pub(crate) fn named_findings(&self, findings: &[Finding], several: bool) -> Vec<Finding> {
        if !several {
            return findings.to_vec();
        }
        let channel = (self.take.info.channels > 1).then(|| self.channel_name());
        let named = |finding: &Finding| Finding {
            take: Some(self.take.name()),
            channel: channel.clone(),
            ..finding.clone()
        };
        findings.iter().map(named).collect()
    }

    /// Name of the take, and of the channel where there are several.
    pub(crate) fn title(&self) -> String {
        match self.take.info.channels {
            1 => self.take.name(),
            _ => format!("{}, channel {}", self.take.name(), self.channel_name()),
        }
    }

    /// Hands the samples, block by block, to two pieces of work on two threads.
    pub(crate) fn read_in_two(
        &self,
        what: &'static str,
        quiet: bool,
        first: impl FnMut(&[f32]),
        second: impl FnMut(&[f32]) + Send,
    ) -> Result<Vec<Finding>> {
        let (first, second) = (self.on_channel(first), self.on_channel(second));
        self.take.read_in_two(self.span, what, quiet, first, second)
    }

    /// All samples of the part, for analyses that hold a note in memory, with what was found of the take and its levels.
    pub(crate) fn note_samples(&self) -> Result<NoteSamples> {
        let rate = self.take.info.sample_rate_hz;
        let lasts_s = self.span.len() as f64 / rate;
        if lasts_s > LONGEST_S {
            return Err(Usage(format!(
                "{}: the span lasts {} s, but partials are followed over {LONGEST_S} s at most; choose one with \
                 --from and --to",
                self.title(),
                text::number(lasts_s, 1)
            ))
            .into());
        }
        let mut samples = Vec::with_capacity(self.span.len() as usize);
        let mut meter = self.take.level_meter(self.span);
        let mut findings = self.take.findings.clone();
        // At most two minutes are read: that is soon done.
        findings.extend(self.read_in_two(
            "samples",
            true,
            |block| samples.extend_from_slice(block),
            |block| meter.push(block),
        )?);
        findings.extend(meter.finish().findings(&self.channel_name()));
        Ok(NoteSamples { samples, findings })
    }

    /// Reads the samples of a stretch within its take.
    pub(crate) fn read_near(&self, span: SampleSpan, samples: &mut Vec<f32>) -> Result<()> {
        let keep = self.on_channel(|block| samples.extend_from_slice(block));
        self.take.read_in_two(span, "stretch", true, keep, |_| ())?;
        Ok(())
    }

    /// Work on blocks of all channels from work on samples of the one.
    fn on_channel(&self, mut work: impl FnMut(&[f32])) -> impl FnMut(&Block) {
        let number = self.channel;
        let mut mean = Vec::new();
        move |block| match number {
            Some(number) => work(block.channel(number - 1)),
            None => {
                block.mean_into(&mut mean);
                work(&mean);
            }
        }
    }
}

/// Finds the takes of a command in files or the study, and opens them. One that cannot be opened is told and does not
/// stop the others; the status says so.
pub(crate) fn open_named(args: &TakesArgs) -> Result<(Vec<Take>, Status)> {
    let named = studies::find_takes(&args.takes, &args.source)?;
    let mut status = Status::Done;
    let mut takes = Vec::new();
    for named in named {
        match Take::open(named, &args.source) {
            Ok(take) => takes.push(take),
            Err(error) => {
                output::print_error(&error);
                status = Status::CouldNot;
            }
        }
    }
    Ok((takes, status))
}

/// The parts asked for of all takes. A take that has no such span is told and does not stop the others.
pub(crate) fn parts_of<'a>(
    takes: &'a mut [Take],
    args: &PartArgs,
    status: &mut Status,
) -> Result<Vec<Part<'a>>> {
    let several = takes.len() > 1;
    let mut parts = Vec::new();
    for take in takes {
        match take.parts(args) {
            Ok(of_take) => parts.extend(of_take),
            Err(error) if several && Status::of(&error) == Status::CouldNot => {
                output::print_error(&error);
                *status = Status::CouldNot;
            }
            Err(error) => return Err(error),
        }
    }
    Ok(parts)
}

/// Works on parts side by side; what comes back is in the order of the parts. One that fails is told and does not stop the
/// others, unless it is the only one or the usage is wrong.
pub(crate) fn each_part<'a, T: Send>(
    parts: Vec<Part<'a>>,
    what: &'static str,
    quiet: bool,
    status: &mut Status,
    work: impl Fn(Part<'a>) -> Result<T> + Sync,
) -> Result<Vec<T>> {
    let several = parts.len() > 1;
    let progress = TakesProgress::new(what, parts.len(), quiet || !several);
    let results: Vec<Result<T>> = parts
        .into_par_iter()
        .map(|part| {
            let title = part.title();
            let file = part.take().path();
            // What is wrong with a file names it already.
            let result = work(part).map_err(|error| {
                let words = format!("{error:#}");
                let is_named = words.contains(&title) || words.contains(&file);
                if several && !is_named { error.context(title) } else { error }
            });
            progress.advance();
            result
        })
        .collect();
    drop(progress);
    let mut done = Vec::new();
    for result in results {
        match result {
            Ok(one) => done.push(one),
            Err(error) if several && Status::of(&error) == Status::CouldNot => {
                output::print_error(&error);
                *status = Status::CouldNot;
            }
            Err(error) => return Err(error),
        }
    }
    Ok(done)
}

/// Lets the levels of parts that stand side by side refer to the same: sound pressure if all are
/// calibrated, else full scale, which a finding says.
pub(crate) fn share_reference<'p, 'a: 'p>(
    parts: impl IntoIterator<Item = &'p mut Part<'a>>,
) -> Option<Finding> {
    let (mut full_scale, mut pressure): (Vec<&mut Part<'_>>, Vec<_>) =
        parts.into_iter().partition(|part| part.reference == LevelReference::FullScale);
    let (other, known) = (full_scale.first_mut()?, pressure.first_mut()?);
    let finding = Finding::note(
        "mixed_calibration",
        format!(
            "{} is calibrated and {} is not: all levels are re full scale. For dB re 20 µPa \
             calibrate both, or measure them one by one.",
            known.title(),
            other.title()
        ),
    );
    for part in pressure {
        part.reference = LevelReference::FullScale;
    }
    Some(finding)
}

fn truncated(info: &TakeInfo, missing: u64, frames: u64) -> Finding {
    Finding::warning(
        "truncated",
        format!(
            "The file ends early: its header states {:.3} s more than the {:.3} s it holds. The end \
             of the recording is lost; copy it again if the original is longer.",
            missing as f64 / info.sample_rate_hz,
            frames as f64 / info.sample_rate_hz,
        ),
    )
}

impl Source {
    fn new(path: &Path, raw: Option<RawFormat>) -> Result<Self> {
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
    fn file(&self) -> &Path {
        self.spool.as_ref().map_or(&self.path, Temporary::path)
    }

    fn name(&self) -> String {
        if self.path.as_os_str() == "-" {
            "standard input".into()
        } else {
            files::shown(&self.path)
        }
    }

    fn reader(&self) -> Result<TakeReader> {
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
            "it could not be kept in {}, where it must be read from; set TMPDIR to a folder with room",
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
        partials: (frame.partials.iter())
            .map(|partial| {
                let SdifPartial { index, frequency_hz, amplitude, phase_rad } = *partial;
                (index, TrackPoint { frequency_hz, amplitude, phase_rad })
            })
            .collect(),
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
