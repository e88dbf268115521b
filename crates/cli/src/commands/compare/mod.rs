//! `compare`: what differs between takes, by how much, and whether it is significant.

mod pairs;
mod repeats;
mod saved_results;

use anyhow::Result;
use clap::{Args, ValueEnum};
use rayon::prelude::*;
use serde::Serialize;
use serde_json::Value;
use tonemap_core::compare::{CompareSettings, Recorded, Sound};
use tonemap_core::intake::NoiseMeter;
use tonemap_core::loudness::SoundField;
use tonemap_core::partials::LONGEST_S;
use tonemap_core::units::{FrequencyRange, LevelReference};
use tonemap_core::{Finding, Samples};
use tonemap_figures::ColourMap;

use crate::args::{FigureArgs, FrameArgs, OutputArgs, PartArgs, SourceArgs};
use crate::fundamental::longest_note;
use crate::kept::{Present, Presented};
use crate::limits::LimitArgs;
use crate::output;
use crate::parts::share_reference;
use crate::saved;
use crate::sides::{OpenMember, Side};
use crate::spool::Spooled;
use crate::status::Usage;
use crate::studies;
use crate::take::{NotePlace, Part};

/// What differs between takes, and whether it is significant
///
/// The first is the reference; each other is compared with it. Recordings of one sound are aligned
/// in time first: delay between samples, drift of the clocks, polarity, gain. Then level, spectrum,
/// bands, partials, and descriptors of timbre. A difference that chance may have made is reported
/// as not distinguishable. A plus between takes makes them repeats, which are judged by their
/// spread. Saved results of one kind are compared number by number.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Compare {
    /// Takes, each perhaps with a part of it behind: take@0.5..1.2, take@left; repeats with a plus:
    /// a+b+c; or saved results, FILE.json. One take alone: its channels
    #[arg(value_name = "SIDE", required_unless_present = "conditions")]
    sides: Vec<String>,
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    part: PartArgs,
    #[command(flatten)]
    how: HowArgs,
    #[command(flatten)]
    frames: FrameArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    look: LookArgs,
    #[command(flatten)]
    output: OutputArgs,
    /// In CSV, which table: one row a pair, or its bands, spectrum, or partials and descriptors
    #[arg(long, value_name = "TABLE", default_value = "pairs", help_heading = "Output")]
    table: TableKind,
    /// Give the spectra and their difference bin by bin, in JSON
    #[arg(long, help_heading = "Output")]
    curve: bool,
}

const EXAMPLES: &str = "Examples:
  tonemap compare bell-cut0 bell-cut6 --figure cut.png
      before and after: level, bands, partials, timbre
  tonemap compare near.wav far.wav --figure maps.png --view spectrograms
      two microphones: delay, gain, what is left, where they differ
  tonemap compare harp-g3@0.5..1.5 harp-g3@3..4
      one note, early and late
  tonemap compare one+two+three four+five+six
      two groups of repeats: is the difference more than their spread?
  tonemap compare before.json after.json
      two saved results of one kind
  tonemap compare old new --match-gain --require 'spectrum_difference_rms_db<1'
      exit status 3 if they differ by more than 1 dB beside the gain";

#[derive(Args, Clone)]
#[command(next_help_heading = "Comparison")]
struct HowArgs {
    /// Frequencies compared: 50Hz..8kHz [default: 20Hz..20kHz]
    #[arg(long, value_name = "LOW..HIGH")]
    range: Option<FrequencyRange>,
    /// Band width as a fraction of an octave: 3 for third-octave bands
    #[arg(long, value_name = "NUMBER", default_value_t = 3)]
    fraction: u32,
    /// Do not time-align the recordings; compare their long-term averages
    #[arg(long)]
    apart: bool,
    /// Subtract the overall gain (or, for unaligned sounds, the level difference) from the spectral
    /// differences
    #[arg(long)]
    match_gain: bool,
    /// Compare partials and descriptors of takes of more than 120 s too: those of the longest note
    #[arg(long)]
    partials: bool,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Figure")]
struct LookArgs {
    /// What is drawn: the spectra and their difference, or the spectrograms and theirs
    #[arg(long, value_name = "VIEW", default_value = "spectrum", requires = "figure")]
    view: View,
    /// Colours of the spectrograms: ember, lagoon, or grey for print
    #[arg(long, value_name = "MAP", default_value = "ember")]
    colours: ColourMap,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum View {
    Spectrum,
    Spectrograms,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum TableKind {
    Pairs,
    Bands,
    Spectrum,
    Values,
}

/// A part with what a comparison needs of it.
struct Loaded<'a> {
    part: Part<'a>,
    samples: Spooled,
    /// The note of which partials are compared, if the whole is too long for them.
    note: Option<NotePlace>,
    recorded: Recorded,
    findings: Vec<Finding>,
}

impl Loaded<'_> {
    fn sound(&self) -> Sound<'_> {
        Sound {
            samples: &self.samples,
            rate_hz: self.recorded.rate_hz,
            full_scale_db: self.part.reference.full_scale_db(),
            note: self.note.map(|note| {
                let within = |sample: u64| (sample - self.part.span.start) as usize;
                (within(note.span.start), within(note.span.end))
            }),
        }
    }
}

impl Present for Compare {
    fn written(&self) -> (&OutputArgs, &LimitArgs) {
        (&self.output, &self.limits)
    }

    fn present(&self) -> Result<Presented> {
        output::check_outputs(&self.figure, &self.output)?;
        let sides = self.sides()?;
        let are_saved = |side: &&Side| saved::is_saved(side.words.as_ref());
        match sides.iter().filter(are_saved).count() {
            0 => {}
            count if count == sides.len() => return self.compare_saved(&sides),
            _ => {
                let reason = "a saved result is compared with saved results of its kind; measure \
                              the take and save the result with \
                              --format json --output FILE.json";
                return Err(Usage(reason.into()).into());
            }
        }
        let source = SourceArgs { conditions: Vec::new(), ..self.source.clone() };
        let mut opened: Vec<Vec<OpenMember>> =
            sides.iter().map(|side| side.open(&source)).collect::<Result<_>>()?;
        if let [members] = &mut opened[..]
            && let [one] = &mut members[..]
        {
            let loaded = self.load_all(one.parts(&self.part)?)?;
            if loaded.len() < 2 {
                let reason = "two sides are compared; name another take, or channels of this one \
                              with --channel 1,2";
                return Err(Usage(reason.into()).into());
            }
            return self.compare_pairs(&loaded);
        }
        if opened.len() < 2 {
            let reason = "two groups of repeats are compared; name another group, or give its \
                          takes one by one";
            return Err(Usage(reason.into()).into());
        }
        let is_grouped = sides.iter().any(Side::is_group);
        let counts: Vec<usize> = opened.iter().map(Vec::len).collect();
        let members = opened.iter_mut().flatten();
        let parts = members.map(|member| member.part(&self.part)).collect::<Result<_>>()?;
        let loaded = self.load_all(parts)?;
        if !is_grouped {
            return self.compare_pairs(&loaded);
        }
        self.compare_repeats(&sides, &counts, &loaded)
    }
}

impl Compare {
    fn sides(&self) -> Result<Vec<Side>> {
        let mut sides = Side::read_all(&self.sides)?;
        if !self.source.conditions.is_empty() {
            for named in studies::find_takes(&[], &self.source)? {
                sides.push(Side::read(&named.path.to_string_lossy())?);
            }
        }
        Ok(sides)
    }

    fn settings(&self, loaded: &[Loaded<'_>]) -> Result<CompareSettings> {
        let first = &loaded[0];
        let reference_hz = first.part.take().reference_hz();
        let usual = CompareSettings::default();
        let lowest_rate =
            loaded.iter().map(|one| one.recorded.rate_hz).fold(f64::INFINITY, f64::min);
        let is_short = |one: &Loaded<'_>| one.recorded.duration_s <= LONGEST_S;
        // Where levels are known at the ear, it hears the difference.
        let is_heard =
            |one: &Loaded<'_>| is_short(one) && one.part.reference != LevelReference::FullScale;
        Ok(CompareSettings {
            frames: self.frames.settings(reference_hz),
            range_hz: match self.how.range {
                Some(range) => range.hz(reference_hz, lowest_rate)?,
                None => usual.range_hz,
            },
            fraction: self.how.fraction,
            align: !self.how.apart,
            match_gain: self.how.match_gain,
            timbre: (usual.timbre)
                .filter(|_| loaded.iter().all(|one| is_short(one) || one.note.is_some())),
            loudness: loaded.iter().all(is_heard).then(SoundField::default),
        })
    }

    /// Reads all parts, side by side; their levels refer to the same.
    fn load_all<'a>(&self, mut parts: Vec<Part<'a>>) -> Result<Vec<Loaded<'a>>> {
        // What pairs of calibrated and other takes lose is said of each pair.
        share_reference(&mut parts);
        parts.into_par_iter().map(|part| self.load(part)).collect()
    }

    /// Reads a part and looks at how it was recorded.
    fn load<'a>(&self, part: Part<'a>) -> Result<Loaded<'a>> {
        let (rate_hz, span) = (part.rate_hz(), part.span);
        let mut noise = NoiseMeter::new(rate_hz, span.len());
        let (samples, meter, mut findings) =
            part.spooled(self.output.quiet, |block| noise.push(block))?;
        let noise = noise.finish(meter.coding_step());
        let levels = meter.finish();
        findings.extend(levels.findings(&part.channel_name()));
        let is_long = part.lasts_s() > LONGEST_S;
        let note = if is_long && self.how.partials {
            let is_held = |note: &NotePlace| note.span.len() as f64 <= LONGEST_S * rate_hz;
            longest_note(&part, self.output.quiet)?.filter(is_held)
        } else {
            None
        };
        if is_long {
            findings.push(long(self.how.partials, note.as_ref()));
        }
        let recorded = Recorded {
            name: part.title(),
            rate_hz,
            duration_s: samples.count() as f64 / rate_hz,
            is_calibrated: part.full_scale_db().is_some(),
            clipped_samples: levels.clipped_samples,
            band_edge_hz: noise.edge_db.and(noise.bandwidth_hz),
            noise_floor_dbfs: noise.floor_dbfs,
        };
        Ok(Loaded { part, samples, note, recorded, findings })
    }
}

/// What is compared of the partials of a long take.
fn long(are_asked: bool, note: Option<&NotePlace>) -> Finding {
    let said = match note {
        Some(NotePlace { sounds_s: (from_s, to_s), .. }) => format!(
            "Partials and descriptors are those of its longest note, {from_s:.2} s to {to_s:.2} s."
        ),
        None if are_asked => {
            format!("It has no note of {LONGEST_S} s or less whose partials could be compared.")
        }
        None => format!(
            "Partials and descriptors are left out of takes of more than {LONGEST_S} s; \
             --partials compares those of the longest note, --from and --to choose another."
        ),
    };
    Finding::note("long", said)
}

/// Rows of CSV, each with the two that it is about before it.
fn named_rows<R: Serialize>((a, b): (&str, &str), rows: &[R]) -> Result<Vec<Value>> {
    let named = |row: &R| {
        let mut named = serde_json::Map::new();
        named.insert("reference".into(), a.into());
        named.insert("other".into(), b.into());
        named.extend(serde_json::to_value(row)?.as_object().cloned().unwrap_or_default());
        Ok(Value::Object(named))
    };
    rows.iter().map(named).collect()
}

fn csv_of(rows: &[Value]) -> Result<String> {
    let Some(first) = rows.first().and_then(Value::as_object) else { return Ok(String::new()) };
    let cell = |value: &Value| match value {
        Value::Null => String::new(),
        Value::String(words) => words.clone(),
        other => other.to_string(),
    };
    let lines: Vec<Vec<String>> = rows
        .iter()
        .map(|row| first.keys().map(|key| row.get(key).map_or(String::new(), cell)).collect())
        .collect();
    output::csv_lines(first.keys().map(String::as_str), &lines)
}
