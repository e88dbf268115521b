//! `signal`: test sounds from a recipe.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use clap::Args;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use tonemap_core::Samples;
use tonemap_core::synth::{Recipe, Voice};
use tonemap_core::units::{Frequency, Seconds, db_from_amplitude};
use tonemap_media::WavEncoding;

use crate::args::{Channel, ChannelList, Format, PartArgs, SourceArgs, SpanArgs};
use crate::files::{self, Content};
use crate::json;
use crate::output;
use crate::sound::{self, Bits, Levels, SoundArgs};
use crate::spool::Spooled;
use crate::status::{Status, Usage};
use crate::studies;
use crate::take::Take;
use crate::text;

/// Make a test sound from a recipe: tones, series, strings, sweeps, noises, bursts, takes
///
/// What is in the sound is known exactly, so that any reading of it can be proved. A recipe is one
/// or more voices that sound together, each in quotes: its kind, then name=value for its settings.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Signal {
    /// Voice, in quotes: 'tone frequency=440Hz level=-6dB'
    #[arg(value_name = "VOICE", required_unless_present = "recipe")]
    voices: Vec<String>,
    /// Read the recipe from a TOML file: rate, duration, seed, and a table of voices, each with its
    /// kind and settings
    #[arg(long, value_name = "FILE")]
    recipe: Option<PathBuf>,
    /// Length of the sound [default: to the end of the last take, or 1s]
    #[arg(long, value_name = "TIME")]
    duration: Option<Seconds>,
    /// Samples per second [default: those of the first take, or 48kHz]
    #[arg(long, value_name = "FREQUENCY")]
    rate: Option<Frequency>,
    /// Where the noises begin; another number gives other noise [default: 1]
    #[arg(long, value_name = "NUMBER")]
    seed: Option<u64>,
    /// Write the inverse filter of the sweep too
    #[arg(long, value_name = "FILE", help_heading = "Output")]
    inverse: Option<PathBuf>,
    #[command(flatten)]
    sound: SoundArgs,
}

const EXAMPLES: &str = "Voices, with what their settings are unless given:
  tone       frequency=440Hz level=-20dB phase=0deg
  harmonics  frequency=220Hz level=-20dB partials=10 slope=-6dB numbers=all (or odd, or 2,3,5)
  string     frequency=196Hz level=-12dB inharmonicity=1e-4 decay=6s pluck=0.37 partials=40
  sweep      from=20Hz to=20kHz law=exponential (or linear) level=-6dB
  noise      colour=white (or pink) level=-40dB
  take       file=a.wav gain=0dB channel=1
  tone and harmonics, too: decay=2s glide=880Hz vibrato-rate=5Hz vibrato-depth=30
             tremolo-rate=4Hz tremolo-depth=0.3
  all, too:  start=0s length=500ms fade=10ms on=20ms every=200ms (bursts)

Levels of tones are peak amplitudes re full scale, of series and strings that of partial 1; the \
level
of noise is its RMS re a full-scale sine.

Examples:
  tonemap signal 'tone frequency=440.123Hz level=-6dB' 'noise level=-46dB' --output test.wav
      a tone at 40 dB signal to noise; then: tonemap spectrum test.wav
  tonemap signal 'harmonics frequency=A2 numbers=2,3,4,5' --duration 3s --output missing.wav
      a tone without its fundamental
  tonemap signal 'sweep from=20Hz to=20kHz fade=10ms' --duration 10s --output sweep.wav --inverse \
  inv.wav
      a sweep to measure a room with, and what turns its recording into an impulse response
  tonemap signal 'take file=harp-g3.wav' 'take file=harp-g3-other.wav gain=-3dB start=20ms' \
  --output pair.wav
      two strings that were recorded alone, sounding together";

/// A recipe as a file.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RecipeFile {
    rate: Option<Value>,
    duration: Option<Value>,
    seed: Option<u64>,
    voices: Vec<BTreeMap<String, Value>>,
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    voices: Vec<String>,
    duration_s: f64,
    bits: String,
    dither: bool,
    seed: u64,
}

/// `result` in JSON.
#[derive(Serialize)]
struct SignalResult {
    samples: u64,
    #[serde(flatten)]
    levels: Levels,
    /// The partials of each voice at its beginning: the truth about it.
    voices: Vec<Vec<Truth>>,
}

#[derive(Serialize)]
struct Truth {
    frequency_hz: f64,
    level_db: Option<f64>,
    phase_rad: f64,
    decay_t60_s: Option<f64>,
}

/// What of a recipe is stated, and not as it usually is.
#[derive(Debug, Clone, Copy)]
struct Stated {
    rate: bool,
    duration: bool,
}

/// Frequency of A4 in Hz.
const REFERENCE_HZ: f64 = 440.0;

impl Signal {
    pub(crate) fn run(&self) -> Result<Status> {
        files::claim(&self.sound.output, Content::Sound, self.sound.force)?;
        if let Some(file) = &self.inverse {
            files::claim(file, Content::Sound, self.sound.force)?;
        }
        let (mut recipe, lines, is_stated) = self.read()?;
        let takes = self.takes(&mut recipe, is_stated)?;
        let takes: Vec<Option<&dyn Samples>> =
            takes.iter().map(|take| take.as_ref().map(|take| take as &dyn Samples)).collect();
        let mut player = recipe.player_with(&takes)?;
        if recipe.sample_rate_hz.fract() != 0.0 {
            return Err(
                Usage("a WAV file needs a whole number of samples per second".into()).into()
            );
        }
        if let Some(file) = &self.inverse {
            self.write_inverse(file, &recipe)?;
        }
        let rate = recipe.sample_rate_hz;
        let levels = sound::write_sound(&self.sound, rate, 1, recipe.samples(), |sound| {
            let mut block = vec![0.0; 1 << 15];
            loop {
                match player.play(&mut block)? {
                    0 => return Ok(()),
                    count => sound.write(&block[..count])?,
                }
            }
        })?;
        let content = match self.sound.format {
            Format::Text => self.as_text(&recipe, &lines, &levels),
            Format::Json => self.as_json(&recipe, lines, levels)?,
            Format::Csv => output::csv_table(recipe.voices.iter().flat_map(truth))?,
        };
        output::print(&content)?;
        Ok(Status::Done)
    }

    /// The samples of each voice that is a take. What is not stated of rate and duration is theirs.
    fn takes(&self, recipe: &mut Recipe, is_stated: Stated) -> Result<Vec<Option<Spooled>>> {
        let mut takes = Vec::new();
        let mut end_s = 0.0f64;
        let mut rate_hz = None;
        for voice in &recipe.voices {
            let Some(recorded) = voice.recorded() else {
                takes.push(None);
                continue;
            };
            let channel = match &recorded.channel {
                Some(channel) => channel.parse()?,
                None => Channel::Number(1),
            };
            let channels = vec![ChannelList(vec![channel])];
            let path = PathBuf::from(&recorded.file);
            let source = SourceArgs::default();
            let mut take = Take::open(studies::find_take(Some(&path), &source)?, &source)?;
            let part = take.part(&PartArgs { span: SpanArgs::default(), channels })?;
            let wanted = rate_hz.get_or_insert(part.rate_hz());
            if is_stated.rate {
                *wanted = recipe.sample_rate_hz;
            }
            if part.rate_hz() != *wanted {
                bail!(
                    "{}: the take has {} samples per second and the sound {}; state one --rate that \
                     all takes have, or export the take again",
                    recorded.file,
                    text::rate(part.rate_hz()),
                    text::rate(*wanted)
                );
            }
            end_s = end_s.max(voice.start_s() + part.lasts_s());
            takes.push(Some(part.spooled(self.sound.quiet, |_| ())?.0));
        }
        recipe.sample_rate_hz = rate_hz.unwrap_or(recipe.sample_rate_hz);
        if !is_stated.duration && end_s > 0.0 {
            recipe.duration_s = end_s;
        }
        Ok(takes)
    }

    /// The recipe, its voices in words, and what is stated of it.
    fn read(&self) -> Result<(Recipe, Vec<String>, Stated)> {
        let mut recipe =
            Recipe { voices: Vec::new(), sample_rate_hz: 48_000.0, duration_s: 1.0, seed: 1 };
        let mut lines = Vec::new();
        let mut is_stated = Stated { rate: self.rate.is_some(), duration: self.duration.is_some() };
        if let Some(file) = &self.recipe {
            let text = files::read_named(file, files::MOST_TEXT_BYTES)?;
            let read: RecipeFile = toml_edit::de::from_str(&text).map_err(|error| {
                Usage(format!("{}: {}", file.display(), error.to_string().trim_end()))
            })?;
            is_stated.rate |= read.rate.is_some();
            is_stated.duration |= read.duration.is_some();
            if let Some(rate) = &read.rate {
                recipe.sample_rate_hz = in_words(rate).parse::<Frequency>()?.hz(REFERENCE_HZ);
            }
            if let Some(duration) = &read.duration {
                recipe.duration_s = in_words(duration).parse::<Seconds>()?.0;
            }
            recipe.seed = read.seed.unwrap_or(recipe.seed);
            for table in &read.voices {
                let (kind, words) = voice_words(table);
                let line: Vec<String> =
                    words.iter().map(|(key, value)| format!("{key}={value}")).collect();
                lines.push(format!("{kind} {}", line.join(" ")));
                let voice = Voice::from_words(&kind, words, REFERENCE_HZ);
                recipe.voices.push(voice.with_context(|| file.display().to_string())?);
            }
        }
        for line in &self.voices {
            lines.push(line.clone());
            recipe.voices.push(Voice::from_line(line, REFERENCE_HZ)?);
        }
        if let Some(rate) = self.rate {
            recipe.sample_rate_hz = rate.hz(REFERENCE_HZ);
        }
        recipe.duration_s = self.duration.map_or(recipe.duration_s, |time| time.0);
        recipe.seed = self.seed.unwrap_or(recipe.seed);
        Ok((recipe, lines, is_stated))
    }

    fn write_inverse(&self, file: &Path, recipe: &Recipe) -> Result<()> {
        let Some(inverse) = recipe.inverse() else {
            let reason = "--inverse needs a recipe with one sweep in it";
            return Err(Usage(reason.into()).into());
        };
        let args =
            SoundArgs { output: file.into(), bits: Bits(WavEncoding::Float), ..self.sound.clone() };
        let samples = inverse.len() as u64;
        sound::write_sound(&args, recipe.sample_rate_hz, 1, samples, |sound| {
            sound.write(&inverse)
        })?;
        Ok(())
    }

    fn as_text(&self, recipe: &Recipe, lines: &[String], levels: &Levels) -> String {
        let head = format!(
            "{}\n  {} s, {} Hz, {}; peak {} dBFS, RMS {} dBFS\n\n",
            self.sound.output.display(),
            text::number(recipe.duration_s, 3),
            text::rate(recipe.sample_rate_hz),
            self.sound.bits.words(),
            text::known(levels.peak_dbfs, 2),
            text::known(levels.rms_dbfs, 2),
        );
        let voices = lines.iter().map(|line| format!("  {line}\n"));
        let inverse = self.inverse.as_ref().map(|file| {
            format!("\n  its inverse filter, 32-bit float, is in {}\n", file.display())
        });
        std::iter::once(head).chain(voices).chain(inverse).collect()
    }

    fn as_json(&self, recipe: &Recipe, voices: Vec<String>, levels: Levels) -> Result<String> {
        let settings = Settings {
            voices,
            duration_s: recipe.duration_s,
            bits: self.sound.bits.words(),
            dither: self.sound.dither,
            seed: recipe.seed,
        };
        let result = SignalResult {
            samples: recipe.samples(),
            levels,
            voices: recipe.voices.iter().map(|voice| truth(voice).collect()).collect(),
        };
        let mut take = Take::open_written(&self.sound.output)?;
        let record = take.whole(&SpanArgs::default())?.record()?;
        json::line("signal", record, settings, result, &[])
    }
}

fn truth(voice: &Voice) -> impl Iterator<Item = Truth> {
    voice.partials().iter().map(|partial| Truth {
        frequency_hz: partial.frequency_hz,
        level_db: Some(db_from_amplitude(partial.amplitude.abs())).filter(|db| db.is_finite()),
        phase_rad: partial.phase_rad,
        decay_t60_s: Some(partial.t60_s).filter(|t60| t60.is_finite()),
    })
}

/// A value as it would be typed.
fn in_words(value: &Value) -> String {
    match value.as_str() {
        Some(text) => text.into(),
        None => value.to_string(),
    }
}

/// Kind and settings of a voice in a file.
fn voice_words(table: &BTreeMap<String, Value>) -> (String, Vec<(String, String)>) {
    let mut kind = String::new();
    let mut words = Vec::new();
    for (key, value) in table {
        if key == "kind" {
            kind = in_words(value);
        } else {
            words.push((key.clone(), in_words(value)));
        }
    }
    (kind, words)
}
