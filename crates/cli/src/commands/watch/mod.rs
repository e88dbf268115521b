//! `watch`: a live view of a sound that goes on.

mod feed;
mod keep;
#[cfg(feature = "microphone")]
mod microphone;
mod screen;
mod viewing;

use std::io::{IsTerminal, Write};
use std::path::PathBuf;
use std::time::Duration;

use anyhow::{Context, Result, bail};
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::bands::{TimeWeighting, Weighting};
use tonemap_core::frame::FrameSettings;
use tonemap_core::live::{Heard, Listener, LiveSettings, Moment, PITCH_S};
use tonemap_core::pitch::PitchSettings;
use tonemap_core::spectrum::SpectrumSettings;
use tonemap_core::synth::{Recipe, Simulated, Voice};
use tonemap_core::units::{Frequency, FrequencyRange, LevelReference, Seconds, Separation};
use tonemap_core::window::WindowKind;
use tonemap_view::Pane;

use crate::args::{self, Assumed, Channel, SourceArgs};
use crate::interrupt;
use crate::json;
use crate::output;
use crate::record::{SpanRecord, StreamRecord};
use crate::status::{Status, Usage};
use crate::studies::{self, OpenStudy};
use crate::take::Take;
use crate::text;
use feed::{Came, Feed};
use keep::Keeper;
use viewing::Viewing;

/// Live view: waveform, spectrum, spectrogram, levels, pitch, partials
///
/// What comes by standard input, a take at its own speed, or a simulated instrument is drawn in the
/// terminal 25 times a second. Every number is the one that the command of its name gives for the
/// same samples. Keys freeze it, move cursors, save what was heard, and record; ? lists them.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Watch {
    /// - for standard input (WAV, or as --raw states), a recording, or its name in the study
    #[cfg_attr(
        not(feature = "microphone"),
        arg(value_name = "TAKE", required_unless_present = "simulate")
    )]
    #[cfg_attr(
        feature = "microphone",
        arg(value_name = "TAKE", required_unless_present_any = ["simulate", "input"])
    )]
    take: Option<PathBuf>,
    #[command(flatten)]
    simulated: SimulatedArgs,
    /// An input of this computer by its name; alone, the one that the system uses by itself
    #[cfg(feature = "microphone")]
    #[arg(long, value_name = "NAME", num_args = 0..=1, default_missing_value = microphone::USUAL,
          conflicts_with_all = ["take", "simulate"])]
    input: Option<String>,
    #[command(flatten)]
    source: SourceArgs,
    /// Channel of which spectrum, pitch and partials are shown: a number from 1, or mean
    #[arg(long, value_name = "CHANNEL", default_value = "1", help_heading = "Part of the take")]
    channel: Channel,
    /// Microphone of the study, for levels re 20 µPa
    #[arg(long, value_name = "NAME", help_heading = "Part of the take", conflicts_with = "assume")]
    microphone: Option<String>,
    /// Play a take, or what is simulated, so many times as fast
    #[arg(long, value_name = "FACTOR", default_value_t = 1.0, help_heading = "Part of the take")]
    speed: f64,
    #[command(flatten)]
    measuring: MeasuringArgs,
    #[command(flatten)]
    keeping: KeepingArgs,
    /// Print one line of JSON for every 100 ms in place of the view
    #[arg(long, help_heading = "Output", conflicts_with_all = ["through", "view"])]
    json: bool,
    /// Pass on to standard output what comes by standard input, unchanged, while the view is drawn
    #[arg(long, help_heading = "Output", conflicts_with = "simulate")]
    through: bool,
    /// End after so long
    #[arg(long = "for", value_name = "TIME", help_heading = "Output")]
    lasts: Option<Seconds>,
    /// End when something begins to sound; exit status 1 if nothing does
    #[arg(long, help_heading = "Output")]
    until_onset: bool,
    /// What is shown first
    #[arg(long, value_enum, value_name = "VIEW", help_heading = "Output",
          default_value_t = ViewName::All)]
    view: ViewName,
}

/// What `--simulate` plays by itself.
const HARP: &str = "harp";

const EXAMPLES: &str = "Examples:
  tonemap watch --simulate
      the harp of Alder Hall, without a microphone
  arecord -f S24_3LE -r 48000 -c 2 | tonemap watch -
      what an input of this computer hears; arecord writes WAV
  ssh hall cat /run/microphone | tonemap watch - --raw s24le,48kHz,2 --assume 'full-scale = 108dB'
      samples without a header from a recorder elsewhere, with levels re 20 µPa
  arecord -f S16_LE -r 48000 -c 1 | tonemap watch - --through | aplay
      listen at the same time: the samples go on to a player
  tonemap watch - --raw s16le,48kHz,1 --json --until-onset
      wait until something sounds, for a script";

/// What stands for a microphone.
#[derive(Args)]
struct SimulatedArgs {
    /// A simulated instrument in place of a microphone: harp, the harp of Alder Hall near by and
    /// from the seats; or voices as of 'tonemap signal', each in quotes
    #[arg(long, value_name = "VOICE", num_args = 0..=1, default_missing_value = HARP,
          conflicts_with = "take")]
    simulate: Vec<String>,
    /// Let the voices of --simulate sound in Alder Hall, as from its seats
    #[arg(long, conflicts_with = "take")]
    in_hall: bool,
}

/// How it is measured.
#[derive(Args)]
#[command(next_help_heading = "Measuring")]
struct MeasuringArgs {
    /// Resolution of the spectrum: two equal tones with this spacing, or these two, A3..A#3
    #[arg(long, value_name = "WHAT", default_value = "10Hz")]
    resolve: Separation,
    /// Window: rectangular, hann, hamming, blackman-harris, flat-top, kaiser or kaiser:BETA
    #[arg(long, value_name = "NAME", default_value_t = WindowKind::BlackmanHarris)]
    window: WindowKind,
    /// Stretch that the spectrum is averaged over: 0s for one frame
    #[arg(long, value_name = "TIME", default_value = "500ms")]
    average: Seconds,
    /// Range of fundamentals: G1..C7, 50Hz..1kHz [default: 25Hz..5kHz]
    #[arg(long, value_name = "LOW..HIGH")]
    range: Option<FrequencyRange>,
    /// Frequency of A4 [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Frequency>,
    /// Frequency weighting of the level: A, C or Z [default: A where it is calibrated, else Z]
    #[arg(long, value_name = "WEIGHTING")]
    weighting: Option<Weighting>,
    /// Time weighting of the level: F, S or I
    #[arg(long, value_name = "WEIGHTING", default_value = "F")]
    time_weighting: TimeWeighting,
}

/// What is kept.
#[derive(Args)]
#[command(next_help_heading = "Files")]
struct KeepingArgs {
    /// So much of what was heard last can be saved, and looked at when frozen
    #[arg(long, value_name = "TIME", default_value = "30s")]
    keep: Seconds,
    /// A recording begins so long before its key is pressed
    #[arg(long, value_name = "TIME", default_value = "1s")]
    pre_roll: Seconds,
    /// Folder for what is saved [default: that of the study, or the current one]
    #[arg(long, value_name = "FOLDER")]
    into: Option<PathBuf>,
    /// What is saved is called NAME-1, NAME-2, …
    #[arg(long, value_name = "NAME", default_value = "watch")]
    name: String,
}

/// A pane, as typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum ViewName {
    All,
    Waveform,
    Spectrum,
    Spectrogram,
    Pitch,
    Partials,
}

impl From<ViewName> for Pane {
    fn from(name: ViewName) -> Self {
        match name {
            ViewName::All => Self::Overview,
            ViewName::Waveform => Self::Waveform,
            ViewName::Spectrum => Self::Spectrum,
            ViewName::Spectrogram => Self::Spectrogram,
            ViewName::Pitch => Self::Pitch,
            ViewName::Partials => Self::Partials,
        }
    }
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    window: WindowKind,
    resolution_hz: Option<f64>,
    average_s: f64,
    pitch_stretch_s: f64,
    range_hz: (f64, f64),
    reference_hz: f64,
    weighting: Weighting,
    time_weighting: TimeWeighting,
    level_reference: &'static str,
}

/// How a watch came to its end.
#[derive(Debug, Clone, Copy, PartialEq)]
enum End {
    /// It was left, or its time was over.
    Left,
    /// The samples ended.
    Ended,
    /// Something began, at a time.
    Onset(f64),
    /// The program was asked to end.
    Asked,
}

/// Lines of JSON are so far apart, in seconds.
const LINE_S: f64 = 0.1;

impl Watch {
    pub(crate) fn run(&self) -> Result<Status> {
        if !(self.speed > 0.0 && self.speed <= 1000.0) {
            return Err(Usage("--speed takes a factor up to 1000, as 2 or 0.5".into()).into());
        }
        if self.through && self.take.as_ref().is_none_or(|take| take.as_os_str() != "-") {
            let reason = "--through passes on what comes by standard input: name - as the take";
            return Err(Usage(reason.into()).into());
        }
        let study = OpenStudy::of(&self.source)?;
        let (feed, known) = self.feed()?;
        let settings = self.settings(&feed, study.as_ref(), known.as_ref())?;
        let listener = Listener::new(feed.format, settings, feed.channels.clone())?;
        let end = if self.json {
            self.print_lines(feed, listener)?
        } else {
            let microphone = |name: &String| tonemap_study::Channel {
                name: name.clone(),
                microphone: self.microphone.clone(),
            };
            let channels = match &self.microphone {
                Some(_) => feed.channels.iter().map(microphone).collect(),
                None => Vec::new(),
            };
            let folder = self.keeping.into.as_deref();
            let keeper =
                Keeper::new(study.as_ref(), folder, &self.keeping.name, feed.format, channels);
            Viewing::new(self, feed, listener, keeper)?.run()?
        };
        match end {
            End::Onset(at_s) => {
                if !self.json {
                    let said = format!("something begins at {} s\n", text::number(at_s, 3));
                    self.say(&said)?;
                }
                Ok(Status::Done)
            }
            _ if self.until_onset => bail!("nothing began to sound"),
            End::Asked => {
                interrupt::end_by_signal();
                Ok(Status::CouldNot)
            }
            _ => Ok(Status::Done),
        }
    }

    /// Says something when all is done, where samples do not go.
    fn say(&self, said: &str) -> Result<()> {
        if self.through {
            return Ok(std::io::stderr().write_all(said.as_bytes())?);
        }
        output::print(said)
    }

    /// Where the samples come from, and the take they are of, if it is one.
    fn feed(&self) -> Result<(Feed, Option<Take>)> {
        /// A day and a night.
        const LASTS_S: f64 = 86_400.0;
        const RATE_HZ: f64 = 48_000.0;
        if let Some(take) = &self.take {
            if take.as_os_str() == "-" {
                if std::io::stdin().is_terminal() {
                    let reason = "standard input is the keyboard: pipe samples into it, as \
                                  'capture | tonemap watch -', or try --simulate";
                    return Err(Usage(reason.into()).into());
                }
                return Ok((Feed::standard_input(self.source.raw, self.through)?, None));
            }
            let named = studies::find_take(Some(take), &self.source)?;
            let take = Take::open(named, &self.source)?;
            let feed = Feed::take(&take, self.speed)?;
            return Ok((feed, Some(take)));
        }
        #[cfg(feature = "microphone")]
        if let Some(name) = &self.input {
            return Ok((microphone::listen(name)?, None));
        }
        if let [name] = self.simulated.simulate.as_slice()
            && name == HARP
        {
            let name = "harp in Alder Hall (simulated)".to_string();
            return Ok((Feed::simulated(Simulated::harp(RATE_HZ), name, self.speed), None));
        }
        let voices = self.simulated.simulate.iter().map(|line| Voice::from_line(line, 440.0));
        let voices = voices.collect::<Result<Vec<Voice>, _>>()?;
        if voices.iter().any(|voice| voice.recorded().is_some()) {
            let reason = "a take is watched by its name, not within --simulate";
            return Err(Usage(reason.into()).into());
        }
        let duration_s = self.lasts.map_or(LASTS_S, |lasts| lasts.0);
        let recipe = Recipe { voices, sample_rate_hz: RATE_HZ, duration_s, seed: 1 };
        let sound = Simulated::voices(&recipe, self.simulated.in_hall)?;
        let name = if self.simulated.in_hall { "simulated in Alder Hall" } else { "simulated" };
        Ok((Feed::simulated(sound, name.into(), self.speed), None))
    }

    fn settings(
        &self,
        feed: &Feed,
        study: Option<&OpenStudy>,
        take: Option<&Take>,
    ) -> Result<LiveSettings> {
        let channels = feed.format.channels;
        let heard = match &self.channel {
            Channel::Mean => Heard::Mean,
            Channel::Number(n) if *n <= channels => Heard::Channel(n - 1),
            Channel::Name(name) if feed.channels.contains(name) => {
                Heard::Channel(feed.channels.iter().position(|one| one == name).unwrap_or(0))
            }
            _ => {
                let named = feed.channels.join(", ");
                let reason = format!("--channel: there are {channels} ({named}), and mean");
                return Err(Usage(reason).into());
            }
        };
        let usual_hz = match (take, study) {
            (Some(take), _) => take.reference_hz(),
            (None, Some(open)) => open.study.reference_pitch_hz,
            (None, None) => 440.0,
        };
        let asked = &self.measuring;
        let reference_hz = args::reference_hz(asked.reference, usual_hz)?;
        let full_scale_db = self.full_scale_db(study, take, heard)?;
        let reference = full_scale_db.map_or(LevelReference::FullScale, |full_scale_db| {
            LevelReference::Pressure { full_scale_db }
        });
        let is_calibrated = full_scale_db.is_some();
        let mut pitch = PitchSettings { reference_hz, ..PitchSettings::default() };
        let rate_hz = feed.format.sample_rate_hz;
        if let Some(range) = asked.range {
            pitch.range_hz = range.hz(reference_hz, rate_hz)?;
        } else {
            pitch.range_hz.1 = pitch.range_hz.1.min(0.199 * rate_hz);
        }
        let frames = FrameSettings {
            window: asked.window,
            resolution_hz: Some(asked.resolve.resolution_hz(reference_hz)),
            ..FrameSettings::default()
        };
        Ok(LiveSettings {
            heard,
            spectrum: SpectrumSettings { frames, reference_hz, ..SpectrumSettings::default() },
            average_s: asked.average.0,
            pitch,
            weighting: asked.weighting.unwrap_or(if is_calibrated {
                Weighting::A
            } else {
                Weighting::Z
            }),
            time_weighting: asked.time_weighting,
            reference,
            kept_s: self.keeping.keep.0.max(self.keeping.pre_roll.0),
        })
    }

    /// Level of a full-scale sine in dB re 20 µPa: as stated, of the microphone, or of the take.
    fn full_scale_db(
        &self,
        study: Option<&OpenStudy>,
        take: Option<&Take>,
        heard: Heard,
    ) -> Result<Option<f64>> {
        if let Some(Assumed::FullScale(level)) = self.source.assume {
            return Ok(Some(level.0));
        }
        let Some(name) = &self.microphone else {
            let channel = match heard {
                Heard::Channel(n) => n,
                Heard::Mean => 0,
            };
            return Ok(take.and_then(|take| take.full_scale_db(channel)));
        };
        let open = study.context("--microphone names one of a study, and there is none here")?;
        let known = open.study.microphones.get(name);
        let Some(known) = known else {
            bail!("there is no microphone '{name}' in the study; study.toml lists them");
        };
        let level = known.full_scale_level_db();
        level.map(Some).with_context(|| {
            format!("the microphone '{name}' is not calibrated; see 'tonemap study calibrate'")
        })
    }

    /// One line for each 100 ms, as other programs read it.
    fn print_lines(&self, mut feed: Feed, mut listener: Listener) -> Result<End> {
        const PATIENCE: Duration = Duration::from_secs(3);
        let rate_hz = feed.format.sample_rate_hz;
        let sample = |tick: u64| (tick as f64 * LINE_S * rate_hz).round() as u64;
        let last = self.lasts.map(|lasts| (lasts.0 * rate_hz).round() as u64);
        let mut tick = 1;
        let mut is_said = false;
        loop {
            let samples = match feed.next(PATIENCE)? {
                Came::Samples(samples) => samples,
                Came::Nothing => {
                    if !is_said {
                        let said = "no samples come; they are waited for";
                        writeln!(std::io::stderr(), "tonemap: {}: {said}", feed.name)?;
                    }
                    is_said = true;
                    continue;
                }
                Came::End => return Ok(End::Ended),
            };
            let mut rest: Vec<&[f32]> = samples.iter().map(Vec::as_slice).collect();
            while !rest[0].is_empty() {
                let at = listener.history().end();
                let room = sample(tick).min(last.unwrap_or(u64::MAX)) - at;
                let count = rest[0].len().min(room as usize);
                let now: Vec<&[f32]> = rest.iter().map(|samples| &samples[..count]).collect();
                listener.push(&now);
                for samples in &mut rest {
                    *samples = &samples[count..];
                }
                let at = listener.history().end();
                if at == sample(tick) {
                    tick += 1;
                    let moment = listener.moment();
                    output::print(&self.line(&feed.name, &listener, &moment)?)?;
                    if let (true, Some(at_s)) = (self.until_onset, moment.onsets_s.first()) {
                        return Ok(End::Onset(*at_s));
                    }
                }
                if last.is_some_and(|last| at >= last) {
                    return Ok(End::Left);
                }
            }
        }
    }

    /// A moment as one line of JSON.
    fn line(&self, source: &str, listener: &Listener, moment: &Moment) -> Result<String> {
        let asked = listener.settings();
        let settings = Settings {
            window: asked.spectrum.frames.window,
            resolution_hz: asked.spectrum.frames.resolution_hz,
            average_s: asked.average_s,
            pitch_stretch_s: PITCH_S,
            range_hz: asked.pitch.range_hz,
            reference_hz: asked.pitch.reference_hz,
            weighting: asked.weighting,
            time_weighting: asked.time_weighting,
            level_reference: asked.reference.name(),
        };
        let format = listener.format();
        let rate_hz = format.sample_rate_hz;
        let from_s = ((moment.time_s - LINE_S).max(0.0) * rate_hz).round() / rate_hz;
        let take = StreamRecord {
            path: match &self.take {
                Some(take) => take.display().to_string(),
                None => source.into(),
            },
            sample_rate_hz: format.sample_rate_hz,
            channels: format.channels,
            channel: match asked.heard {
                Heard::Channel(n) => (n + 1).to_string(),
                Heard::Mean => "mean".into(),
            },
            span: SpanRecord { from_s, to_s: moment.time_s },
        };
        json::line_of_stream("watch", take, settings, moment, &listener.findings())
    }
}
