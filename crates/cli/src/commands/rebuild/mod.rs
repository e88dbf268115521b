//! `rebuild`: a sound made again from its partials and its noise, changed as asked.

mod edit_file;

use std::io::Cursor;
use std::ops::RangeInclusive;
use std::path::{Path, PathBuf};

use anyhow::Result;
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::intake::LevelMeter;
use tonemap_core::rebuild::{
    Beside, Blend, Change, Course, Edit, Rebuilt, RestKind, Which, read_gain, read_share, rebuild,
};
use tonemap_core::resample::resampled;
use tonemap_core::units::{Frequency, db_from_amplitude};
use tonemap_core::{Finding, Samples};
use tonemap_figures::{Figure, RebuildFigure, Words, rebuild_figure};
use tonemap_media::{WavEncoding, write_wav};

use crate::advice;
use crate::args::{Channel, ChannelList, FigureArgs, Format, PartArgs, SourceArgs, SpanArgs};
use crate::files::{self, Content};
use crate::fundamental::FundamentalArgs;
use crate::json;
use crate::output;
use crate::record::TakeRecord;
use crate::sound::{self, Levels, SoundArgs};
use crate::status::{Status, Usage};
use crate::studies;
use crate::table::Table;
use crate::take::{Part, Take};
use crate::text;
use crate::tracks::{self, Timed};

/// Make a sound again from its partials and its noise, with changes
///
/// The partials of every note are followed and made again, sinusoid by sinusoid; what they leave is
/// made again as noise with its spectrum over time, or kept as it is. Changes are typed, or stand in
/// an edit file (docs/edit-file.md). How it is computed stands in docs/methods/rebuild.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Rebuild {
    /// Recording, its name in the study, or - for standard input
    #[arg(value_name = "TAKE", required_unless_present = "conditions")]
    take: Option<PathBuf>,
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    part: PartArgs,
    #[command(flatten)]
    changes: ChangeArgs,
    #[command(flatten)]
    blend: BlendArgs,
    #[command(flatten)]
    search: FundamentalArgs,
    #[command(flatten)]
    parts: PartFiles,
    #[command(flatten)]
    figure: FigureArgs,
    /// Sample rate of what is written [default: that of the take]
    #[arg(long, value_name = "RATE", help_heading = "Output")]
    rate: Option<Frequency>,
    #[command(flatten)]
    sound: SoundArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap rebuild flute-a4.wav --remove even --output hollow.wav
      without its even partials
  tonemap rebuild harp-g3.wav --stretch 0.06 --decay 1.5 --output harp-bell.wav --figure bell.png
      a string that sounds like a bell
  tonemap rebuild harp-g3.wav --time 2 --output slow.wav
      half the speed, at the same pitch
  tonemap rebuild voice.wav --pitch '0s: 0ct, 1s: +300ct' --keep-envelope --output up.wav
      a glide of a minor third, with its formants where they are
  tonemap rebuild flute-a4.wav --rest none --left breath.wav --output tone.wav
      the tone alone, and the breath alone
  tonemap rebuild harp-g3.wav --blend bell-cut0.wav --share '0s: 0, 3s: 1' --output turn.wav
      a harp that turns into a bell
  tonemap rebuild harp-g3.wav --edit harp.toml --output harp.wav
      what an edit file says";

#[derive(Args, Clone)]
#[command(next_help_heading = "Blend")]
struct BlendArgs {
    /// Blend it with another take: notes aligned by their onsets, partials by their numbers
    #[arg(long, value_name = "TAKE")]
    blend: Option<PathBuf>,
    /// Share of the other take, from 0 to 1: 0.3, or '0s: 0, 2s: 1'
    #[arg(long, value_name = "SHARE", default_value = "0.5", requires = "blend")]
    share: String,
    /// Its share of the frequencies [default: --share]
    #[arg(long, value_name = "SHARE", requires = "blend")]
    frequency_share: Option<String>,
    /// Its share of the levels [default: --share]
    #[arg(long, value_name = "SHARE", requires = "blend")]
    level_share: Option<String>,
    /// Its share of the noise [default: --share]
    #[arg(long, value_name = "SHARE", requires = "blend")]
    noise_share: Option<String>,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Changes")]
struct ChangeArgs {
    /// Read changes from an edit file: FILE.toml
    #[arg(long, value_name = "FILE")]
    edit: Option<PathBuf>,
    /// Raise partials: even=+15dB, 3..5=-6dB, all='0s: 0dB, 2s: -20dB'
    #[arg(long, value_name = "PARTIALS=GAIN", allow_hyphen_values = true)]
    gain: Vec<String>,
    /// Leave partials out: even, odd, 3, 3..5, 200Hz..2kHz, 'below -40dB'
    #[arg(long, value_name = "PARTIALS")]
    remove: Vec<Which>,
    /// Move partials: all=+50ct, 2=-3Hz
    #[arg(long, value_name = "PARTIALS=SHIFT")]
    shift: Vec<String>,
    /// Let partials decay this many times as slowly: 2, or 5..=0.5
    #[arg(long, value_name = "[PARTIALS=]FACTOR")]
    decay: Vec<String>,
    /// Move partial n to n^S times its frequency: 0.02
    #[arg(long, value_name = "S", allow_hyphen_values = true)]
    stretch: Option<String>,
    /// Give the partials this inharmonicity B; 0 makes them harmonic
    #[arg(long, value_name = "B")]
    inharmonicity: Option<String>,
    /// Move all partials: +300ct, or '0s: 0ct, 1s: +300ct'
    #[arg(long, value_name = "PITCH", allow_hyphen_values = true)]
    pitch: Option<String>,
    /// Make it last longer: 2, or which time is heard when, '0s: 0s, 3s: 6s'
    #[arg(long, value_name = "TIME")]
    time: Option<String>,
    /// Let partials that are moved take the level that the spectrum has where they come to
    #[arg(long)]
    keep_envelope: bool,
    /// Raise the noise: -6dB, or '0s: 0dB, 2s: -20dB'
    #[arg(long, value_name = "GAIN", allow_hyphen_values = true)]
    noise_gain: Option<String>,
    /// What becomes of what the tones leave
    #[arg(long, value_enum, default_value_t = RestArg::Noise)]
    rest: RestArg,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum RestArg {
    /// Noise that has its spectrum over time
    Noise,
    /// As it is, sample by sample
    Exact,
    /// Left out
    None,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Files")]
struct PartFiles {
    /// Write the tones alone, as they were changed: FILE.wav
    #[arg(long, value_name = "FILE")]
    tones: Option<PathBuf>,
    /// Write the noise alone, as it was changed: FILE.wav
    #[arg(long, value_name = "FILE")]
    noise: Option<PathBuf>,
    /// Write what the tones as they were leave of the take: FILE.wav
    #[arg(long, value_name = "FILE")]
    left: Option<PathBuf>,
    /// Write the tracks as they were changed: FILE.sdif
    #[arg(long, value_name = "FILE")]
    sdif: Option<PathBuf>,
    /// Play these tracks in place of those found, as they are: FILE.sdif, as written by partials or here
    #[arg(long, value_name = "FILE", conflicts_with = "blend")]
    tracks: Option<PathBuf>,
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings<'a> {
    edit: Option<&'a Path>,
    rest: RestKind,
    free: bool,
    stretch: f64,
    inharmonicity: Option<f64>,
    pitch_cents: Option<&'a Course>,
    time: Option<&'a tonemap_core::rebuild::TimeMap>,
    keep_envelope: bool,
    blend: Option<&'a Path>,
    frequency_share: Option<&'a str>,
    level_share: Option<&'a str>,
    noise_share: Option<&'a str>,
    tracks: Option<&'a Path>,
    bits: String,
    dither: bool,
}

/// `result` in JSON, and the row in CSV.
#[derive(Serialize)]
struct RebuildResult {
    output: String,
    duration_s: f64,
    notes: usize,
    residual_db: Option<f64>,
    normalised_db: f64,
    #[serde(flatten)]
    levels: Levels,
    changes: Vec<Said>,
}

/// A change, and how many partials it means.
#[derive(Debug, Clone, Serialize)]
struct Said {
    partials: String,
    meant: usize,
}

/// What was made of the channels of a take.
struct Made<'a> {
    parts: Vec<Part<'a>>,
    rebuilt: Vec<Rebuilt>,
    /// Factor that keeps it from clipping.
    factor: f32,
    findings: Vec<Finding>,
}

/// The take that it is blended with.
struct Other {
    record: TakeRecord,
    channels: Vec<Vec<f32>>,
}

impl Rebuild {
    pub(crate) fn run(&self) -> Result<Status> {
        output::check_figure(&self.figure, self.sound.force)?;
        files::claim(&self.sound.output, Content::Sound, self.sound.force)?;
        if let Some(file) = &self.parts.sdif {
            output::check_ending(
                file,
                &["sdif"],
                "tracks are written as an SDIF file; name it FILE.sdif",
            )?;
            files::claim(file, Content::Result, self.sound.force)?;
        }
        for file in self.parts.all() {
            output::check_ending(file, &["wav"], "a part of the sound")?;
            files::claim(file, Content::Sound, self.sound.force)?;
        }
        let edit = self.edit()?;
        let named = studies::find_take(self.take.as_ref(), &self.source)?;
        let mut take = Take::open(named, &self.source)?;
        let all = vec![ChannelList(vec![Channel::All])];
        let channels = if self.part.channels.is_empty() { all } else { self.part.channels.clone() };
        let parts = take.parts(&PartArgs { channels, ..self.part.clone() })?;
        let other = self.other(&parts)?;
        let mut made = self.make(parts, &edit, other.as_ref())?;
        let rate = self.rate_of(&made.parts[0])?;
        let at_rate = |sound: &[f32]| resampled(sound, made.parts[0].rate_hz() as u32, rate);
        let sounds: Vec<Vec<f32>> = made.rebuilt.iter().map(|one| at_rate(&one.sound())).collect();
        let peak = sounds.iter().flatten().fold(0.0f32, |peak, x| peak.max(x.abs()));
        // A little below full scale.
        made.factor = if peak > 1.0 { 0.99 / peak } else { 1.0 };
        let levels = self.write(&made, &sounds, rate)?;
        self.write_parts(&made, rate)?;
        if let Some(file) = &self.figure.figure {
            output::write_figure(file, &self.draw(&made)?, self.sound.force)?;
        }
        output::print(&self.account(&made, &edit, levels, other)?)?;
        Ok(Status::Done)
    }

    /// What is typed, behind what the edit file says.
    fn edit(&self) -> Result<Edit> {
        let of = &self.changes;
        let mut edit = Edit::default();
        if let Some(file) = &of.edit {
            edit_file::read(file, &mut edit)?;
        }
        for words in &of.gain {
            let (which, gain) = choice(words, "even=+15dB")?;
            let gain_db = Some(Course::read(gain, read_gain)?);
            edit.changes.push(Change { gain_db, ..Change::of(which) });
        }
        for which in &of.remove {
            edit.changes.push(Change { remove: true, ..Change::of(which.clone()) });
        }
        for words in &of.shift {
            let (which, shift) = choice(words, "all=+50ct")?;
            edit.changes.push(Change { shift: Some(shift.parse()?), ..Change::of(which) });
        }
        for words in &of.decay {
            let (which, factor) = if words.contains('=') {
                choice(words, "5..=0.5")?
            } else {
                (Which::All, words.as_str())
            };
            let decay = factor.trim().parse().map_err(|_| {
                Usage(format!("'{words}' is no factor of the decay; write 2, or even=0.5"))
            })?;
            edit.changes.push(Change { decay: Some(decay), ..Change::of(which) });
        }
        let whole = [
            ("stretch", &of.stretch),
            ("inharmonicity", &of.inharmonicity),
            ("pitch", &of.pitch),
            ("time", &of.time),
            ("noise", &of.noise_gain),
        ];
        for (key, words) in whole {
            if let Some(words) = words {
                edit_file::set(&mut edit, key, words)?;
            }
        }
        edit.keep_envelope |= of.keep_envelope;
        edit.check()?;
        let of_noise = Edit { noise: edit.noise.clone(), ..Edit::default() };
        if self.parts.tracks.is_some() && edit != of_noise {
            let reason = "the tracks of --tracks are played as they are: only the noise can be changed \
                          beside them; leave the other changes out";
            return Err(Usage(reason.into()).into());
        }
        Ok(edit)
    }

    fn rest(&self) -> RestKind {
        match self.changes.rest {
            RestArg::Noise => RestKind::Noise,
            RestArg::Exact => RestKind::Exact,
            RestArg::None => RestKind::None,
        }
    }

    /// The channels of the take that it is blended with.
    fn other(&self, parts: &[Part<'_>]) -> Result<Option<Other>> {
        let Some(file) = &self.blend.blend else { return Ok(None) };
        let named = studies::find_take(Some(file), &self.source)?;
        let mut take = Take::open(named, &self.source)?;
        let channels = vec![ChannelList(vec![Channel::All])];
        let all = take.parts(&PartArgs { channels, span: SpanArgs::default() })?;
        let rate = parts[0].rate_hz();
        if all[0].rate_hz() != rate {
            let reason = format!(
                "{}: its sample rate is {}, that of the take {}; takes of one rate can be blended",
                file.display(),
                text::rate(all[0].rate_hz()),
                text::rate(rate)
            );
            return Err(Usage(reason).into());
        }
        let channel = |part| held(part, self.sound.quiet).map(|(samples, ..)| samples);
        let channels = all.iter().map(channel).collect::<Result<_>>()?;
        Ok(Some(Other { record: all[0].record()?, channels }))
    }

    /// What a channel is made from beside itself.
    fn beside<'s>(&self, number: usize, other: Option<&'s Other>) -> Result<Beside<'s>> {
        let of = &self.blend;
        let channels = other.map_or(&[][..], |other| &other.channels);
        let sound = channels.get(number).or(channels.last());
        let share = |own: &Option<String>| -> Result<Course> {
            Ok(Course::read(of.share_of(own).unwrap_or("0"), read_share)?)
        };
        let blend = sound.map(|sound| -> Result<Blend<'s>> {
            Ok(Blend {
                sound,
                frequency: share(&of.frequency_share)?,
                level: share(&of.level_share)?,
                noise: share(&of.noise_share)?,
            })
        });
        let tracks = self.parts.tracks.as_deref().map(tracks::read);
        Ok(Beside { blend: blend.transpose()?, tracks: tracks.transpose()? })
    }

    fn make<'a>(
        &self,
        parts: Vec<Part<'a>>,
        edit: &Edit,
        other: Option<&Other>,
    ) -> Result<Made<'a>> {
        let mut findings = Vec::new();
        let mut rebuilt = Vec::new();
        for (number, part) in parts.iter().enumerate() {
            let beside = self.beside(number, other)?;
            let settings = self.search.settings(part, part.take().reference_hz())?;
            let (samples, meter, of_take) = held(part, self.sound.quiet)?;
            let levels = meter.finish();
            if levels.rms_dbfs.is_none() {
                anyhow::bail!("{} is silent: there is nothing to make again", part.title());
            }
            let rate = part.rate_hz();
            let made = rebuild(&samples, rate, &settings, edit, self.rest(), beside)?;
            let of_levels = levels.findings(&part.channel_name());
            let said = [of_take, of_levels, advice::worded(made.findings.clone())].concat();
            findings.extend(part.named_findings(&said, parts.len() > 1));
            rebuilt.push(made);
        }
        findings.retain(|finding| finding.code != "first_channel");
        Ok(Made { parts, rebuilt, factor: 1.0, findings })
    }

    /// The sample rate of what is written.
    fn rate_of(&self, part: &Part<'_>) -> Result<u32> {
        const RATES_HZ: RangeInclusive<f64> = 1000.0..=768_000.0;
        let hz = self.rate.map_or(part.rate_hz(), |rate| rate.hz(part.take().reference_hz()));
        if hz.fract() == 0.0 && RATES_HZ.contains(&hz) {
            return Ok(hz as u32);
        }
        let reason =
            format!("--rate is a whole number of hertz from 1 kHz to 768 kHz, not {hz} Hz");
        Err(Usage(reason).into())
    }

    fn write(&self, made: &Made<'_>, sounds: &[Vec<f32>], rate: u32) -> Result<Levels> {
        const BLOCK: usize = 1 << 14;
        let rate = f64::from(rate);
        let frames = sounds.iter().map(Vec::len).max().unwrap_or(0);
        sound::write_sound(&self.sound, rate, sounds.len(), frames as u64, |sound| {
            for from in (0..frames).step_by(BLOCK) {
                let block = (from..(from + BLOCK).min(frames)).flat_map(|n| {
                    sounds.iter().map(move |channel| channel.get(n).copied().unwrap_or(0.0))
                });
                let block: Vec<f64> = block.map(|x| f64::from(x * made.factor)).collect();
                sound.write(&block)?;
            }
            Ok(())
        })
    }

    /// The parts alone, in 32-bit floating point, as loud as they are in the whole.
    fn write_parts(&self, made: &Made<'_>, rate: u32) -> Result<()> {
        let of = |part: fn(&Rebuilt) -> &Vec<f32>, factor: f32| -> Vec<Vec<f32>> {
            let scaled = |one: &Rebuilt| {
                let scaled: Vec<f32> = part(one).iter().map(|x| x * factor).collect();
                resampled(&scaled, made.parts[0].rate_hz() as u32, rate)
            };
            made.rebuilt.iter().map(scaled).collect()
        };
        let parts = [
            (&self.parts.tones, of(|one| &one.tones, made.factor)),
            (&self.parts.noise, of(|one| &one.noise, made.factor)),
            (&self.parts.left, of(|one| &one.left, 1.0)),
        ];
        for (file, channels) in parts {
            let Some(file) = file else { continue };
            let mut bytes = Cursor::new(Vec::new());
            write_wav(&mut bytes, rate, &channels, WavEncoding::Float)?;
            files::write_whole(file, Content::Sound, bytes.get_ref(), self.sound.force)?;
        }
        match &self.parts.sdif {
            Some(file) => {
                let kept = made.rebuilt[0].after.iter().filter(|track| !track.is_removed);
                let timed = kept.map(|track| -> Timed<'_> {
                    (track.number, Box::new(track.points.iter().copied()))
                });
                let bytes = tracks::written(timed, !self.search.free);
                files::write_whole(file, Content::Result, &bytes, self.sound.force)
            }
            None => Ok(()),
        }
    }

    fn account(
        &self,
        made: &Made<'_>,
        edit: &Edit,
        levels: Levels,
        other: Option<Other>,
    ) -> Result<String> {
        let first = &made.rebuilt[0];
        let part = &made.parts[0];
        let said = |(change, meant): (&Change, &usize)| Said {
            partials: change.which.words(),
            meant: *meant,
        };
        let result = RebuildResult {
            output: self.sound.output.display().to_string(),
            duration_s: first.tones.len() as f64 / part.rate_hz(),
            notes: first.notes,
            residual_db: first.residual_db,
            normalised_db: db_from_amplitude(f64::from(made.factor)),
            levels,
            changes: edit.changes.iter().zip(&first.meant).map(said).collect(),
        };
        match self.sound.format {
            Format::Text => Ok(as_text(made, &result)),
            Format::Json => {
                let settings = Settings {
                    edit: self.changes.edit.as_deref(),
                    rest: self.rest(),
                    free: self.search.free,
                    stretch: edit.stretch,
                    inharmonicity: edit.inharmonicity,
                    pitch_cents: edit.pitch_cents.as_ref(),
                    time: edit.time.as_ref(),
                    keep_envelope: edit.keep_envelope,
                    blend: self.blend.blend.as_deref(),
                    frequency_share: self.blend.share_of(&self.blend.frequency_share),
                    level_share: self.blend.share_of(&self.blend.level_share),
                    noise_share: self.blend.share_of(&self.blend.noise_share),
                    tracks: self.parts.tracks.as_deref(),
                    bits: self.sound.bits.words(),
                    dither: self.sound.dither,
                };
                let other = other.map(|other| other.record);
                let takes = std::iter::once(part.record()?).chain(other).collect();
                json::line_of_takes("rebuild", takes, settings, result, &made.findings)
            }
            Format::Csv => Table::new()
                .words("output", "", |of: &RebuildResult| of.output.clone())
                .number("duration_s", "", 3, |of| Some(of.duration_s))
                .count("notes", "", |of| of.notes as u64)
                .number("residual_db", "", 2, |of| of.residual_db)
                .number("normalised_db", "", 2, |of| Some(of.normalised_db))
                .csv([result]),
        }
    }

    fn draw(&self, made: &Made<'_>) -> Result<Figure> {
        let (part, rebuilt) = (&made.parts[0], &made.rebuilt[0]);
        let title = part.title();
        let notes = [residual_line(rebuilt), part.span_line()];
        let figure = RebuildFigure {
            before: &rebuilt.before,
            after: &rebuilt.after,
            words: Words { title: &title, notes: &notes, findings: &made.findings },
        };
        Ok(rebuild_figure(&figure, self.figure.size)?)
    }
}

impl BlendArgs {
    /// A share as it was typed, where there is something to blend with.
    fn share_of<'a>(&'a self, own: &'a Option<String>) -> Option<&'a str> {
        self.blend.as_ref().map(|_| own.as_ref().unwrap_or(&self.share).as_str())
    }
}

impl PartFiles {
    fn all(&self) -> impl Iterator<Item = &PathBuf> {
        [&self.tones, &self.noise, &self.left].into_iter().flatten()
    }
}

/// The samples of a part, with a meter that has seen them and what was found on the way.
fn held(part: &Part<'_>, quiet: bool) -> Result<(Vec<f32>, LevelMeter, Vec<Finding>)> {
    let (samples, meter, findings) = part.spooled(quiet, |_| ())?;
    let mut held = vec![0.0; Samples::count(&samples)];
    samples.read(0, &mut held)?;
    Ok((held, meter, findings))
}

/// Partials and what is asked for them.
fn choice<'w>(words: &'w str, example: &str) -> Result<(Which, &'w str)> {
    let Some((which, value)) = words.split_once('=') else {
        return Err(Usage(format!("'{words}' does not say which partials; write {example}")).into());
    };
    Ok((which.parse()?, value.trim()))
}

/// A number with what it counts.
fn counted(number: usize, what: &str) -> String {
    if number == 1 { format!("1 {what}") } else { format!("{number} {what}s") }
}

fn residual_line(rebuilt: &Rebuilt) -> String {
    let notes = counted(rebuilt.notes, "note");
    match rebuilt.residual_db {
        Some(db) => format!("{notes}; the tones leave {} dB of the take", text::number(db, 1)),
        None => format!("{notes}: noise alone"),
    }
}

fn as_text(made: &Made<'_>, result: &RebuildResult) -> String {
    let part = &made.parts[0];
    let mut out = format!(
        "{}\n  {}\n\n{}",
        part.title(),
        part.span_line(),
        text::sentence(&residual_line(&made.rebuilt[0]))
    );
    for change in &result.changes {
        let partials = counted(change.meant, "partial");
        out += &text::sentence(&format!("{}: {partials} changed", change.partials));
    }
    let lowered = if result.normalised_db < 0.0 {
        format!(
            ", lowered by {} dB so that it does not clip",
            text::number(-result.normalised_db, 2)
        )
    } else {
        String::new()
    };
    out += &text::sentence(&format!(
        "{}: {} s, peak {} dBFS, RMS {} dBFS{lowered}",
        result.output,
        text::number(result.duration_s, 3),
        text::known(result.levels.peak_dbfs, 2),
        text::known(result.levels.rms_dbfs, 2)
    ));
    out + &text::findings_below(&made.findings)
}
