//! A take as a command sees it: a file, a channel, a span, and what is wrong with them.

use std::path::Path;

use anyhow::{Context, Result};
use tonemap_core::bands::Response;
use tonemap_core::intake::LevelMeter;
use tonemap_core::partials::LONGEST_S;
use tonemap_core::units::{LevelReference, Note, power_from_db};
use tonemap_core::{Error, Finding, SampleSpan, Span};
use tonemap_media::{Block, TakeInfo};

use crate::args::{Assumed, Channel, PartArgs, SourceArgs, SpanArgs};
use crate::files;
use crate::progress::Progress;
use crate::record::{SpanRecord, TakeRecord};
use crate::source::Source;
use crate::spool::{Spooled, Spooling};
use crate::status::Usage;
use crate::studies::{Entry, Named};
use crate::text;

/// An opened take.
pub(crate) struct Take {
    source: Source,
    /// What the study knows of it.
    entry: Option<Entry>,
    pub(crate) info: TakeInfo,
    /// Level of a full-scale sine that the user states, in dB re 20 µPa.
    assumed_db: Option<f64>,
    /// Frames in the file.
    pub(crate) frames: u64,
    /// What the header gives away.
    pub(crate) findings: Vec<Finding>,
}

/// One channel over one span of a take, the mean of all, or all of them.
#[derive(Clone, Copy)]
pub(crate) struct Part<'a> {
    take: &'a Take,
    channels: Channels,
    pub(crate) span: SampleSpan,
    /// What its levels refer to: sound pressure where the channel is calibrated, else full scale,
    /// unless parts that stand side by side share another.
    pub(crate) reference: LevelReference,
    /// Which of its notes is measured, counted from 1, if it is not for the command to choose.
    pub(crate) note: Option<usize>,
    /// Where that is, if it was looked for.
    pub(crate) place: Option<NotePlace>,
}

/// Where a note of a part is.
#[derive(Clone, Copy)]
pub(crate) struct NotePlace {
    /// When it sounds, in seconds from the start of the take.
    pub(crate) sounds_s: (f64, f64),
    /// The samples that show it, with what is before and behind.
    pub(crate) span: SampleSpan,
    /// How many notes it was chosen from, if that was for the command to do.
    pub(crate) longest_of: Option<usize>,
}

/// Which channels of a take a part is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Channels {
    /// Counted from 1.
    One(usize),
    /// The mean of all.
    Mean,
    /// All, each by itself.
    All,
    /// The energy mean of some: a bit for each, the first channel lowest.
    MeanEnergy(u64),
}

impl Channels {
    /// Which of so many channels, counted from 0.
    fn numbers(self, count: usize) -> Vec<usize> {
        match self {
            Self::One(number) => vec![number - 1],
            Self::Mean | Self::All => (0..count).collect(),
            Self::MeanEnergy(bits) => (0..count.min(64)).filter(|n| bits >> n & 1 == 1).collect(),
        }
    }
}

/// The samples of a part, when they begin, and what was found of them.
pub(crate) struct NoteSamples {
    pub(crate) samples: Vec<f32>,
    pub(crate) start_s: f64,
    pub(crate) findings: Vec<Finding>,
}

impl Take {
    /// Opens a take and reads its header. `-` is standard input. A take whose header does not state
    /// its length is read through once.
    pub(crate) fn open(named: Named, args: &SourceArgs) -> Result<Self> {
        let Named { path, entry } = named;
        if path.as_os_str() != "-" {
            files::note_input(&path)?;
        }
        let assumed_db = args.assume.map(|Assumed::FullScale(level)| level.0);
        Self::of_source(Source::new(&path, args.raw)?, entry, assumed_db)
    }

    /// Reads it from its beginning.
    pub(crate) fn reader(&self) -> Result<tonemap_media::TakeReader> {
        self.source.reader()
    }

    /// Opens a take that this run has written.
    pub(crate) fn open_written(path: &Path) -> Result<Self> {
        Self::of_source(Source::new(path, None)?, None, None)
    }

    fn of_source(source: Source, entry: Option<Entry>, assumed_db: Option<f64>) -> Result<Self> {
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
                    "The sound is coded as {}, which leaves out what is thought not to be heard: \
                     weak \
                     partials beside strong ones, and the highest frequencies. Levels there are \
                     those \
                     of the coder; use the original recording.",
                    info.codec
                ),
            ));
        }
        findings.extend(assumed_db.map(assumed));
        let mut take = Self { source, entry, info, assumed_db, frames, findings };
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

    /// Level of a full-scale sine in a channel, counted from 0, in dB re 20 µPa; `None` if it is
    /// not calibrated.
    pub(crate) fn full_scale_db(&self, channel: usize) -> Option<f64> {
        let known = || self.entry.as_ref()?.full_scale_db.get(channel).copied().flatten();
        self.assumed_db.or_else(known)
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
        let is_of_energy = |one: &Channel| matches!(one, Channel::MeanEnergy(_));
        if args.channels.iter().flat_map(|list| &list.0).any(is_of_energy) {
            let reason = "a mean of energies has no waveform to analyse; it is for levels: see \
                          bands. --channel mean is the mean of the waveforms";
            return Err(Usage(reason.into()).into());
        }
        self.level_parts(args)
    }

    /// The same where energy means of channels are allowed.
    pub(crate) fn level_parts(&mut self, args: &PartArgs) -> Result<Vec<Part<'_>>> {
        let names = self.channel_names();
        let mut channels = Vec::new();
        for asked in args.channels.iter().flat_map(|list| &list.0) {
            match asked {
                Channel::MeanEnergy(of) => channels.push(self.mean_energy(of)?),
                one => channels.extend(self.channels_of(one)?),
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
            channels.push(Channels::One(1));
        }
        let span = self.cut_span(args.span.span())?;
        let take = &*self;
        let part = |channels| {
            let reference = LevelReference::FullScale;
            let part = Part { take, channels, span, reference, note: None, place: None };
            Part { reference: part.own_reference(), ..part }
        };
        Ok(channels.into_iter().map(part).collect())
    }

    /// The channels that are meant.
    fn channels_of(&self, asked: &Channel) -> Result<Vec<Channels>> {
        let names = self.channel_names();
        match asked {
            Channel::Number(number) if *number > names.len() => {
                Err(self.no_channel(number.to_string()))
            }
            Channel::Number(number) => Ok(vec![Channels::One(*number)]),
            Channel::Name(name) => match names.iter().position(|known| known == name) {
                Some(n) => Ok(vec![Channels::One(n + 1)]),
                None => Err(self.no_channel(name.clone())),
            },
            Channel::Mean => Ok(vec![Channels::Mean]),
            Channel::All => Ok((1..=names.len()).map(Channels::One).collect()),
            Channel::MeanEnergy(of) => Ok(vec![self.mean_energy(of)?]),
        }
    }

    fn mean_energy(&self, of: &[Channel]) -> Result<Channels> {
        let mut bits = 0;
        for one in of {
            for channels in self.channels_of(one)? {
                match channels {
                    Channels::One(number @ 1..=64) => bits |= 1 << (number - 1),
                    _ => {
                        let reason =
                            "an energy mean is of channels up to the 64th: mean-energy:1,2";
                        return Err(Usage(reason.into()).into());
                    }
                }
            }
        }
        Ok(Channels::MeanEnergy(bits))
    }

    /// The span asked for in all channels together.
    pub(crate) fn whole(&mut self, args: &SpanArgs) -> Result<Part<'_>> {
        let span = self.cut_span(args.span())?;
        let reference = LevelReference::FullScale;
        Ok(Part { take: self, channels: Channels::All, span, reference, note: None, place: None })
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
                    "{} samples are infinite or not a number; they are treated as silence. Find \
                     the \
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
}

impl<'a> Part<'a> {
    pub(crate) fn take(&self) -> &'a Take {
        self.take
    }

    /// The same span of all channels together.
    pub(crate) fn of_all_channels(self) -> Self {
        Self { channels: Channels::All, reference: LevelReference::FullScale, ..self }
    }

    /// What a result keeps of its take. Reads the whole file to hash it.
    pub(crate) fn record(&self) -> Result<TakeRecord> {
        let (take, rate) = (self.take, self.take.info.sample_rate_hz);
        Ok(TakeRecord {
            path: take.exact_path(),
            blake3: take.blake3()?,
            sample_rate_hz: rate,
            channels: take.info.channels,
            duration_s: take.duration_s(),
            channel: (self.channels != Channels::All).then(|| self.channel_name()),
            span: SpanRecord { from_s: self.start_s(), to_s: self.span.end as f64 / rate },
        })
    }

    /// When it begins, in seconds from the start of its take.
    pub(crate) fn start_s(&self) -> f64 {
        self.span.start as f64 / self.take.info.sample_rate_hz
    }

    /// When it begins and ends.
    pub(crate) fn span_s(&self) -> (f64, f64) {
        (self.start_s(), self.span.end as f64 / self.take.info.sample_rate_hz)
    }

    /// Its sample rate in Hz.
    pub(crate) fn rate_hz(&self) -> f64 {
        self.take.info.sample_rate_hz
    }

    /// The span in words, for tables and figures.
    pub(crate) fn span_line(&self) -> String {
        self.take.span_line(self.span)
    }

    /// What its levels are in: dB, and re what.
    pub(crate) fn level_unit(&self) -> String {
        format!("dB {}", self.reference.words())
    }

    /// Name of the channel.
    pub(crate) fn channel_name(&self) -> String {
        match self.channels {
            Channels::One(number) => self.take.channel_names()[number - 1].clone(),
            Channels::Mean => "mean".into(),
            Channels::All => "all".into(),
            Channels::MeanEnergy(_) => {
                let names = self.take.channel_names();
                let of = self.channels.numbers(names.len());
                let of: Vec<&str> = of.iter().map(|n| names[*n].as_str()).collect();
                format!("mean energy of {}", of.join(" and "))
            }
        }
    }

    /// Level of a full-scale sine in dB re 20 µPa; for the mean, if all channels have the same.
    pub(crate) fn full_scale_db(&self) -> Option<f64> {
        self.shared(|channel| self.take.full_scale_db(channel))
    }

    fn own_reference(&self) -> LevelReference {
        let level_db = |n: usize| self.take.full_scale_db(n);
        let levels_db = || self.level_channels().into_iter().map(level_db);
        let is_mean = matches!(self.channels, Channels::MeanEnergy(_));
        // An energy mean weighs each channel by its own calibration, so that of the first counts.
        let of_mean = || levels_db().collect::<Option<Vec<f64>>>()?.first().copied();
        match if is_mean { of_mean() } else { self.full_scale_db() } {
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
        let mut values = self.channels.numbers(self.take.info.channels).into_iter().map(of);
        let first = values.next().flatten()?;
        values.all(|value| value == Some(first)).then_some(first)
    }

    /// Findings as they stand beside those of other parts, if there are several: each with the take
    /// and channel that it concerns.
    pub(crate) fn named_findings(&self, findings: &[Finding], several: bool) -> Vec<Finding> {
        if !several {
            return findings.to_vec();
        }
        let is_one_of_many = self.take.info.channels > 1 && self.channels != Channels::All;
        let channel = is_one_of_many.then(|| self.channel_name());
        let named = |finding: &Finding| Finding {
            take: Some(self.take.name()),
            channel: channel.clone(),
            ..finding.clone()
        };
        findings.iter().map(named).collect()
    }

    /// The same for one of its notes.
    pub(crate) fn of_note(self, note: Option<usize>, place: Option<NotePlace>) -> Self {
        Self { note, place, ..self }
    }

    /// How long it is, in seconds.
    pub(crate) fn lasts_s(&self) -> f64 {
        self.span.len() as f64 / self.rate_hz()
    }

    /// Name of the take, and of the channel where there are several, and the note if it is one of
    /// several.
    pub(crate) fn title(&self) -> String {
        let is_one_of_several = self.take.info.channels > 1 && self.channels != Channels::All;
        let channel = is_one_of_several.then(|| format!("channel {}", self.channel_name()));
        let note = self.note.map(|number| format!("note {number}"));
        let words = [Some(self.take.name()), channel, note];
        words.into_iter().flatten().collect::<Vec<_>>().join(", ")
    }

    /// Name of the take in a row that has its channel beside it.
    pub(crate) fn row_name(&self) -> String {
        match self.note {
            Some(number) => format!("{} note {number}", self.take.name()),
            None => self.take.name(),
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

    /// All samples, kept where they can be read again, with a meter that has seen them, and what was
    /// found on the way. `also` sees them too.
    pub(crate) fn spooled(
        &self,
        quiet: bool,
        mut also: impl FnMut(&[f32]),
    ) -> Result<(Spooled, LevelMeter, Vec<Finding>)> {
        let mut spooling = Spooling::new(self.span.len() as usize)?;
        let mut meter = self.take.level_meter(self.span);
        let first = |block: &[f32]| {
            spooling.push(block);
            also(block);
        };
        let mut findings = self.take.findings.clone();
        findings.extend(self.read_in_two("samples", quiet, first, |block| meter.push(block))?);
        Ok((spooling.finish()?, meter, findings))
    }

    /// The samples of the note that is measured, or of the whole part, for analyses that hold a note
    /// in memory, with what was found of the take and its levels. What is longer than such an
    /// analysis takes is cut, and that is said.
    pub(crate) fn note_samples(&self) -> Result<NoteSamples> {
        let rate = self.take.info.sample_rate_hz;
        let mut findings = self.take.findings.clone();
        let mut span = self.place.map_or(self.span, |place| place.span);
        if let Some((count, place)) = self.place.and_then(|p| p.longest_of.zip(Some(p))) {
            findings.push(several_notes(count, place.sounds_s));
        }
        if span.len() as f64 > LONGEST_S * rate {
            let lasts_s = span.len() as f64 / rate;
            span.end = span.start + (LONGEST_S * rate) as u64;
            findings.push(cut(lasts_s));
        }
        let mut samples = Vec::with_capacity(span.len() as usize);
        let mut meter = self.take.level_meter(span);
        let keep = self.on_channel(|block| samples.extend_from_slice(block));
        let measure = self.on_channel(|block| meter.push(block));
        findings.extend(self.take.read_in_two(span, "samples", true, keep, measure)?);
        findings.extend(meter.finish().findings(&self.channel_name()));
        Ok(NoteSamples { samples, start_s: span.start as f64 / rate, findings })
    }

    /// Reads the samples of a stretch within its take.
    pub(crate) fn read_near(&self, span: SampleSpan, samples: &mut Vec<f32>) -> Result<()> {
        let keep = self.on_channel(|block| samples.extend_from_slice(block));
        self.take.read_in_two(span, "stretch", true, keep, |_| ())?;
        Ok(())
    }

    /// The channels of which it is the energy mean, or its one, counted from 0; of the mean of
    /// waveforms all.
    fn level_channels(&self) -> Vec<usize> {
        self.channels.numbers(self.take.info.channels)
    }

    /// How a level is averaged over its channels: what the power of each counts, and the frequency
    /// response of the microphones, if all have the same.
    pub(crate) fn level_weights(&self) -> Vec<f64> {
        if self.channels == Channels::Mean {
            return vec![1.0];
        }
        let channels = self.level_channels();
        let share = 1.0 / channels.len() as f64;
        let LevelReference::Pressure { full_scale_db } = self.reference else {
            return vec![share; channels.len()];
        };
        let over_first = |n: &usize| self.take.full_scale_db(*n).map(|db| db - full_scale_db);
        channels.iter().map(|n| share * power_from_db(over_first(n).unwrap_or(0.0))).collect()
    }

    /// What the microphones of its channels read too high, in dB at frequencies in Hz; a finding
    /// where they differ.
    pub(crate) fn response(&self) -> (Response, Option<Finding>) {
        let known = self.take.entry.as_ref().map(|entry| entry.response.as_slice());
        let known = known.unwrap_or_default();
        let of = |n: &usize| known.get(*n).cloned().unwrap_or_default();
        let mut all = self.level_channels().iter().map(of).collect::<Vec<Response>>();
        all.dedup();
        match <[Response; 1]>::try_from(all) {
            Ok([one]) => (one, None),
            Err(_) => (
                Response::default(),
                Some(Finding::warning(
                    "responses_differ",
                    "The microphones of these channels have different frequency responses: none \
                     is taken away. Measure the channels one by one.",
                )),
            ),
        }
    }

    /// Hands the samples of its channels, from `lead` samples before it on, to two pieces of work on
    /// two threads; with what was found of the take and of its levels.
    pub(crate) fn read_levels(
        &self,
        lead: u64,
        quiet: bool,
        first: impl FnMut(&[&[f32]]),
        mut second: impl FnMut(&[&[f32]]) + Send,
    ) -> Result<Vec<Finding>> {
        let span = SampleSpan { start: self.span.start - lead, end: self.span.end };
        let channels = self.level_weights().len();
        let mut meters = vec![self.take.level_meter(self.span); channels];
        let mut left = lead as usize;
        let measured = |samples: &[&[f32]]| {
            let before = left.min(samples.first().map_or(0, |of| of.len()));
            left -= before;
            for (meter, samples) in meters.iter_mut().zip(samples) {
                meter.push(&samples[before..]);
            }
            second(samples);
        };
        let mut findings = self.take.findings.clone();
        let (first, measured) = (self.on_channels(first), self.on_channels(measured));
        findings.extend(self.take.read_in_two(span, "samples", quiet, first, measured)?);
        let names = self.take.channel_names();
        let name = |n: usize| match self.channels {
            Channels::MeanEnergy(_) => names[self.level_channels()[n]].clone(),
            _ => self.channel_name(),
        };
        for (n, meter) in meters.into_iter().enumerate() {
            findings.extend(meter.finish().findings(&name(n)));
        }
        Ok(findings)
    }

    /// Work on blocks of all channels from work on samples of those that it is of.
    fn on_channels(&self, mut work: impl FnMut(&[&[f32]])) -> impl FnMut(&Block) {
        let numbers = self.level_channels();
        let is_mean = self.channels == Channels::Mean;
        let mut mean = Vec::new();
        move |block| {
            if is_mean {
                block.mean_into(&mut mean);
                return work(&[&mean]);
            }
            let samples: Vec<&[f32]> = numbers.iter().map(|n| block.channel(*n)).collect();
            work(&samples);
        }
    }

    /// Work on blocks of all channels from work on samples of the one.
    fn on_channel(&self, mut work: impl FnMut(&[f32])) -> impl FnMut(&Block) {
        let channels = self.channels;
        let mut mean = Vec::new();
        move |block| match channels {
            Channels::One(number) => work(block.channel(number - 1)),
            Channels::Mean | Channels::All | Channels::MeanEnergy(_) => {
                block.mean_into(&mut mean);
                work(&mean);
            }
        }
    }
}

fn several_notes(count: usize, (from_s, to_s): (f64, f64)) -> Finding {
    Finding::warning(
        "several_notes",
        format!(
            "The span contains {count} notes; the longest is analysed, {from_s:.2} s to \
             {to_s:.2} s. Take another with --note, or each with --each."
        ),
    )
}

fn cut(lasts_s: f64) -> Finding {
    Finding::warning(
        "cut",
        format!(
            "The first {LONGEST_S} s of {lasts_s:.1} s are analysed, since all samples of a note are \
             held in memory; choose another span with --from and --to."
        ),
    )
}

fn assumed(full_scale_db: f64) -> Finding {
    Finding::note(
        "assumed_calibration",
        format!(
            "A full-scale sine is taken to be {full_scale_db} dB re 20 µPa, as --assume states; \
             levels are as good as that."
        ),
    )
}

fn truncated(info: &TakeInfo, missing: u64, frames: u64) -> Finding {
    Finding::warning(
        "truncated",
        format!(
            "The file ends early: its header states {:.3} s more than the {:.3} s it holds. The \
             end \
             of the recording is lost; copy it again if the original is longer.",
            missing as f64 / info.sample_rate_hz,
            frames as f64 / info.sample_rate_hz,
        ),
    )
}
