//! Arguments that commands share.

use std::num::NonZeroU32;
use std::path::PathBuf;
use std::str::FromStr;

use clap::{Args, ValueEnum};
use tonemap_core::frame::FrameSettings;
use tonemap_core::units::{Decibels, Extent, Frequency, Seconds, Separation, Share};
use tonemap_core::window::WindowKind;
use tonemap_core::{Error, Span};
use tonemap_figures::{FrequencyScale, Size};
use tonemap_media::RawFormat;
use tonemap_study::Wanted;

/// How takes are found and read.
#[derive(Args, Clone, Default)]
#[command(next_help_heading = "Part of the take")]
pub(crate) struct SourceArgs {
    /// The take has no header: coding, rate and channels, as s24le,48kHz,2. Codings: u8, and s16,
    /// s24, s32, f32, f64 with le or be
    #[arg(long, value_name = "CODING,RATE,CHANNELS", value_parser = raw_format)]
    pub(crate) raw: Option<RawFormat>,
    /// Folder of the study in which takes are found by name [default: the current folder, if it has
    /// a study.toml]
    #[arg(long, value_name = "FOLDER")]
    pub(crate) study: Option<PathBuf>,
    /// Takes of the study that were made under a condition: cut=3, strings=both, group=bell. Given
    /// more than once, all must hold
    #[arg(long = "where", value_name = "CONDITION")]
    pub(crate) conditions: Vec<Wanted>,
    /// What is not known of the takes: 'full-scale = 94dB', the level of a full-scale sine re
    /// 20 µPa, in place of a calibration
    #[arg(long, value_name = "WHAT")]
    pub(crate) assume: Option<Assumed>,
}

/// What the user states of the takes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) enum Assumed {
    /// Level of a full-scale sine in dB re 20 µPa.
    FullScale(Decibels),
}

impl std::fmt::Display for Assumed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Self::FullScale(level) = self;
        write!(f, "full-scale = {}dB", level.0)
    }
}

impl FromStr for Assumed {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let level = |text: &str| text.trim().parse::<Decibels>().ok();
        match text.split_once('=') {
            Some((name, value)) if name.trim() == "full-scale" => level(value),
            _ => None,
        }
        .filter(|level| (0.0..=250.0).contains(&level.0))
        .map(Self::FullScale)
        .ok_or_else(|| Error::Unreadable {
            given: text.into(),
            wanted: "something to assume",
            forms: "'full-scale = 94dB'",
        })
    }
}

pub(crate) fn raw_format(text: &str) -> Result<RawFormat, Error> {
    let read = || {
        let mut parts = text.split(',').map(str::trim);
        let (coding, big_endian) = RawFormat::coding_named(parts.next()?)?;
        let rate: Frequency = parts.next()?.parse().ok()?;
        let channels = parts.next()?.parse().ok()?;
        let rate_hz = rate.hz(440.0);
        let whole = rate_hz.fract() == 0.0 && rate_hz <= f64::from(u32::MAX);
        let sample_rate_hz = NonZeroU32::new(rate_hz as u32).filter(|_| whole)?;
        parts.next().is_none().then_some(RawFormat { coding, big_endian, sample_rate_hz, channels })
    };
    read().ok_or_else(|| Error::Unreadable {
        given: text.into(),
        wanted: "a coding, rate and number of channels",
        forms: "s24le,48kHz,2 or f32be,44100,1",
    })
}

/// Takes, and the channels and the span of each that a command is about.
#[derive(Args, Clone)]
pub(crate) struct TakesArgs {
    /// Recordings, their names in the study, or - for standard input
    #[arg(value_name = "TAKE", required_unless_present = "conditions")]
    pub(crate) takes: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) source: SourceArgs,
    #[command(flatten)]
    pub(crate) part: PartArgs,
}

/// Which stretch of a take to analyse.
#[derive(Args, Clone, Debug, Default)]
#[command(next_help_heading = "Part of the take")]
pub(crate) struct SpanArgs {
    /// Start of the span: 1.5, 1.5s, 250ms or 1:02.5
    #[arg(long, value_name = "TIME")]
    from: Option<Seconds>,
    /// End of the span
    #[arg(long, value_name = "TIME")]
    to: Option<Seconds>,
}

impl SpanArgs {
    /// A span as it stands behind the name of a take: 0.5..1.2, and either end may be left out.
    pub(crate) fn between(text: &str) -> Result<Self, Error> {
        let end = |text: &str| match text.trim() {
            "" => Ok(None),
            time => time.parse().map(Some),
        };
        match text.split_once("..") {
            Some((from, to)) if text.trim() != ".." => Ok(Self { from: end(from)?, to: end(to)? }),
            _ => Err(Error::Unreadable {
                given: text.into(),
                wanted: "a span",
                forms: "0.5..1.2, 0.5.. or ..1.2",
            }),
        }
    }

    /// From the start to a time in seconds, if one is given.
    pub(crate) fn until(to_s: Option<f64>) -> Self {
        Self { from: None, to: to_s.map(Seconds) }
    }

    pub(crate) fn span(&self) -> Span {
        Span { from_s: self.from.map(|t| t.0), to_s: self.to.map(|t| t.0) }
    }
}

/// Which stretch and channels of a take to analyse.
#[derive(Args, Clone)]
#[command(next_help_heading = "Part of the take")]
pub(crate) struct PartArgs {
    #[command(flatten)]
    pub(crate) span: SpanArgs,
    /// Channels: numbers from 1, names in the study, 'mean' for the mean of all, or 'all'; several
    /// with commas. Where levels are measured, 'mean-energy:1,2' is the energy mean of channels
    #[arg(long = "channel", value_name = "CHANNEL")]
    pub(crate) channels: Vec<ChannelList>,
}

/// Channels as typed, with commas between them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct ChannelList(pub(crate) Vec<Channel>);

impl FromStr for ChannelList {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        // What follows an energy mean belongs to it.
        let place = text.find(MEAN_ENERGY).unwrap_or(text.len());
        let (single, mean) = text.split_at(place);
        let single = single.strip_suffix(',').unwrap_or(single);
        let singles = single.split(',').filter(|_| !single.is_empty() || mean.is_empty());
        let mut all: Vec<Channel> = singles.map(str::parse).collect::<Result<_, _>>()?;
        if let Some(of) = mean.strip_prefix(MEAN_ENERGY) {
            let of = match of.strip_prefix(':') {
                Some(list) => list.split(',').map(str::parse).collect::<Result<_, _>>()?,
                None if of.is_empty() => vec![Channel::All],
                None => return Err(not_a_channel(text)),
            };
            all.push(Channel::MeanEnergy(of));
        }
        Ok(Self(all))
    }
}

/// The word for an energy mean of channels.
const MEAN_ENERGY: &str = "mean-energy";

/// The frequency of A4 in Hz: that asked for, else the usual one, of which a note that was typed is
/// counted.
pub(crate) fn reference_hz(asked: Option<Frequency>, usual_hz: f64) -> Result<f64, Error> {
    let reference_hz = asked.map_or(usual_hz, |frequency| frequency.hz(usual_hz));
    if (100.0..=2000.0).contains(&reference_hz) {
        return Ok(reference_hz);
    }
    Err(Error::Setting {
        setting: "the reference pitch",
        given: format!("{reference_hz} Hz"),
        allowed: "100 Hz to 2000 Hz".into(),
    })
}

/// A channel as typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Channel {
    /// Counted from 1.
    Number(usize),
    /// The mean of all channels.
    Mean,
    /// Every channel by itself.
    All,
    /// A name in the study.
    Name(String),
    /// The energy mean of channels.
    MeanEnergy(Vec<Self>),
}

impl FromStr for Channel {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        match text.parse() {
            Ok(number) if number > 0 => Ok(Self::Number(number)),
            Err(_) if text == "mean" => Ok(Self::Mean),
            Err(_) if text == "all" => Ok(Self::All),
            Err(_) if text == MEAN_ENERGY => Ok(Self::MeanEnergy(vec![Self::All])),
            Err(_) if text.starts_with(char::is_alphabetic) => Ok(Self::Name(text.into())),
            _ => Err(not_a_channel(text)),
        }
    }
}

fn not_a_channel(text: &str) -> Error {
    Error::Unreadable {
        given: text.into(),
        wanted: "a channel",
        forms: "1, 2, …, its name in the study, mean, mean-energy:1,2, or all",
    }
}

/// How frames are cut, by intention or by hand.
#[derive(Args, Clone)]
#[command(next_help_heading = "Frames")]
pub(crate) struct FrameArgs {
    /// Resolve equal tones with this spacing, 5Hz, or these two, A3..A#3 [default: 5Hz]
    #[arg(long, value_name = "WHAT", conflicts_with = "segment")]
    resolve: Option<Separation>,
    /// Window: rectangular, hann, hamming, blackman-harris, flat-top, kaiser or kaiser:BETA
    #[arg(long, value_name = "NAME", default_value_t = WindowKind::BlackmanHarris)]
    window: WindowKind,
    /// Length of a frame by hand: 200ms, or 8192 samples
    #[arg(long, value_name = "LENGTH")]
    segment: Option<Extent>,
    /// Share by which frames overlap: 75% [default: what suits the window]
    #[arg(long, value_name = "SHARE", conflicts_with = "hop")]
    overlap: Option<Share>,
    /// Distance between the starts of frames by hand: 10ms, or 1024 samples
    #[arg(long, value_name = "LENGTH")]
    hop: Option<Extent>,
    /// Transform this many times the frame: a smoother curve, not a finer resolution
    #[arg(long, value_name = "FACTOR", conflicts_with = "transform_size")]
    zero_pad: Option<f64>,
    /// Transform length in samples by hand; alone, that of a frame as well
    #[arg(long, value_name = "SAMPLES")]
    transform_size: Option<usize>,
}

impl FrameArgs {
    pub(crate) fn settings(&self, reference_hz: f64) -> FrameSettings {
        FrameSettings {
            window: self.window,
            resolution_hz: self.resolve.map(|wanted| wanted.resolution_hz(reference_hz)),
            segment: self.segment.or_else(|| {
                let alone = self.transform_size.filter(|_| self.resolve.is_none());
                alone.map(Extent::Samples)
            }),
            transform_size: self.transform_size,
            zero_pad: self.zero_pad,
            hop: self.hop,
            overlap: self.overlap.map(|share| share.0),
        }
    }
}

/// Form of the result.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// Tables to read
    Text,
    /// One object a take, for programs
    Json,
    /// One flat table
    Csv,
}

/// Where results go.
#[derive(Args, Clone)]
#[command(next_help_heading = "Output")]
pub(crate) struct OutputArgs {
    /// Form of the result
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
    /// Write the result to a file instead of standard output
    #[arg(long, value_name = "FILE", help_heading = "Files")]
    pub(crate) output: Option<PathBuf>,
    /// Replace files that exist already
    #[arg(long, help_heading = "Files")]
    pub(crate) force: bool,
    /// Print nothing but the result
    #[arg(long, short, conflicts_with = "verbose", help_heading = "Messages")]
    pub(crate) quiet: bool,
    /// Say what is being done, on standard error
    #[arg(long, short, help_heading = "Messages")]
    pub(crate) verbose: bool,
}

/// How frequencies are spread in a figure.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Axis {
    /// Equal intervals take equal space
    Log,
    /// Equal differences take equal space
    Linear,
}

impl From<Axis> for FrequencyScale {
    fn from(axis: Axis) -> Self {
        match axis {
            Axis::Log => Self::Logarithmic,
            Axis::Linear => Self::Linear,
        }
    }
}

/// A figure beside the result.
#[derive(Args, Clone)]
#[command(next_help_heading = "Figure")]
pub(crate) struct FigureArgs {
    /// Draw the result: FILE.png or FILE.svg
    #[arg(long, value_name = "FILE")]
    pub(crate) figure: Option<PathBuf>,
    /// Size of the figure in pixels
    #[arg(long, value_name = "WIDTHxHEIGHT", default_value = "1280x800")]
    pub(crate) size: Size,
}
