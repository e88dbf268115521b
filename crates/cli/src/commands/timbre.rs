//! `timbre`: where the power of a note lies, how it begins, what it is made of, and how noisy it is.

use anyhow::Result;
use clap::{Args, ValueEnum};
use serde::Serialize;
use serde_json::Value;
use tonemap_core::timbre::{
    DESCRIPTORS, Descriptor, Descriptors, Harmonic, HarmonicContent, KeyedDescriptors,
    RegionSummary, RiseShape, Timbre as Found, TimbreSettings, timbre,
};
use tonemap_core::units::{Frequency, FrequencyRange, LevelReference, Note, Seconds};
use tonemap_core::{Finding, Measured};
use tonemap_figures::{ContentFigure, CourseFigure, Figure, Words, content_figure, course_figure};

use crate::args::{self, FigureArgs, Format, OutputArgs, TakesArgs};
use crate::fundamental::FundamentalArgs;
use crate::limits::LimitArgs;
use crate::output::{self, Status, Usage};
use crate::take::{self, NoteSamples, Part};
use crate::text;

/// Timbre of a note: spectrum, attack, harmonic content, noise
///
/// Descriptors over time, and their medians over the whole note, its attack and its sustained part, each instant weighted by its
/// power. The spectrum is taken as the partials that were followed and the noise between them, so that no window smears it;
/// without a fundamental, or with --free, as frames have it. Every descriptor is defined, with its source, in
/// docs/methods/timbre.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Timbre {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    fundamental: FundamentalArgs,
    #[command(flatten)]
    search: SearchArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    /// What is drawn: the descriptors over time, or the harmonics with the noise beside them
    #[arg(
        long,
        value_name = "VIEW",
        default_value = "course",
        requires = "figure",
        help_heading = "Figure"
    )]
    view: View,
    #[command(flatten)]
    output: OutputArgs,
    /// Give the descriptors over time: in JSON beside the rest, in CSV instead of it
    #[arg(long, help_heading = "Output", conflicts_with = "harmonics")]
    tracks: bool,
    /// In CSV, give the table of harmonics
    #[arg(long, help_heading = "Output")]
    harmonics: bool,
}

const EXAMPLES: &str = "Examples:
  tonemap timbre flute-a4.wav --figure flute.png --view harmonics
      its descriptors as a table, its harmonics drawn over the noise
  tonemap timbre harp-g3 harp-g3-other --format csv
      two strings, one row each
  tonemap timbre flute-a4.wav --tracks --format csv --output course.csv
      every descriptor over time
  tonemap timbre flute-a4.wav --require 'harmonic_to_noise_db>30'
      exit status 3 if it is noisier than that";

#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
struct SearchArgs {
    /// Range of the descriptors of the spectrum: 50Hz..8kHz [default: 20Hz..20kHz]
    #[arg(long, value_name = "LOW..HIGH")]
    range: Option<FrequencyRange>,
    /// Time between instants
    #[arg(long, value_name = "TIME", default_value = "10ms")]
    hop: Seconds,
    /// Frequency of A4 [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Frequency>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum View {
    Course,
    Harmonics,
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: &'static str,
    free: bool,
    fundamental_hz: Option<(f64, f64)>,
    range_hz: (f64, f64),
    hop_s: f64,
    frame_s: f64,
    noise_frame_s: Option<f64>,
}

/// `result` in JSON.
#[derive(Serialize)]
struct TimbreResult<'a> {
    f0_hz: Option<f64>,
    f0_hz_u: Option<f64>,
    inharmonicity: Option<f64>,
    inharmonicity_u: Option<f64>,
    level_db: f64,
    #[serde(flatten)]
    whole: Descriptors,
    #[serde(flatten)]
    whole_u: KeyedDescriptors,
    #[serde(flatten)]
    course: CourseFigures,
    regions: Regions,
    content: Option<&'a HarmonicContent>,
    #[serde(skip_serializing_if = "Option::is_none")]
    tracks: Option<Vec<Instant>>,
}

/// What the level over time says.
#[derive(Serialize)]
struct CourseFigures {
    attack_start_s: Option<f64>,
    attack_s: Option<f64>,
    attack_s_u: Option<f64>,
    log_attack_time: Option<f64>,
    attack_shape: Option<RiseShape>,
    attack_slope_db_per_s: Option<f64>,
    temporal_centroid_s: Option<f64>,
    effective_duration_s: Option<f64>,
    decay_t60_s: Option<f64>,
    decay_t60_s_u: Option<f64>,
    vibrato_rate_hz: Option<f64>,
    vibrato_depth_cents: Option<f64>,
    tremolo_rate_hz: Option<f64>,
    tremolo_depth_db: Option<f64>,
}

impl CourseFigures {
    fn of(found: &Found) -> Self {
        let value = |measured: Option<Measured>| measured.map(|m| m.value);
        let attack = found.rise.map(|rise| rise.duration_s);
        Self {
            attack_start_s: found.rise.map(|rise| rise.start_s),
            attack_s: value(attack),
            attack_s_u: attack.map(|m| m.u),
            log_attack_time: attack.map(|m| m.value.log10()),
            attack_shape: found.rise.map(|rise| rise.shape),
            attack_slope_db_per_s: found.rise.map(|rise| rise.slope_db_per_s),
            temporal_centroid_s: found.temporal_centroid_s,
            effective_duration_s: found.effective_duration_s,
            decay_t60_s: value(found.decay_t60_s),
            decay_t60_s_u: found.decay_t60_s.map(|m| m.u),
            vibrato_rate_hz: found.vibrato.vibrato_rate_hz,
            vibrato_depth_cents: found.vibrato.vibrato_depth_cents,
            tremolo_rate_hz: found.tremolo_rate_hz,
            tremolo_depth_db: found.tremolo_depth_db,
        }
    }
}

#[derive(Serialize)]
struct Regions {
    whole: Region,
    attack: Option<Region>,
    sustain: Region,
}

/// The descriptors over a stretch of time.
#[derive(Serialize)]
struct Region {
    start_s: f64,
    end_s: f64,
    median: Descriptors,
    median_u: Descriptors,
    spread: Descriptors,
}

impl From<RegionSummary> for Region {
    fn from(region: RegionSummary) -> Self {
        let RegionSummary { start_s, end_s, median, median_u, spread } = region;
        Self { start_s, end_s, median, median_u, spread }
    }
}

/// The descriptors at one time.
#[derive(Serialize)]
struct Instant {
    time_s: f64,
    level_db: f64,
    #[serde(flatten)]
    descriptors: Descriptors,
}

/// A row of CSV: one harmonic.
#[derive(Serialize)]
struct HarmonicRow<'a> {
    take: &'a str,
    channel: &'a str,
    number: usize,
    frequency_hz: f64,
    frequency_hz_u: f64,
    level_db: f64,
    level_re_first_db: Option<f64>,
    level_re_strongest_db: f64,
    cents_from_harmonic: Option<f64>,
    power_share: f64,
    cumulative_share: f64,
    noise_level_db: Option<f64>,
    level_reference: &'static str,
}

/// What was made of one channel of one take.
struct Made<'a> {
    part: Part<'a>,
    settings: TimbreSettings,
    found: Found,
    findings: Vec<Finding>,
}

impl Timbre {
    pub(crate) fn run(&self) -> Result<Status> {
        output::start_log(&self.output);
        output::check_outputs(&self.figure, &self.output)?;
        let (mut takes, mut status) = take::open_named(&self.takes)?;
        let parts = take::parts_of(&mut takes, &self.takes.part, &mut status)?;
        if parts.len() > 1 && self.figure.figure.is_some() {
            let reason = "a figure is of one channel of one take; give one, or leave it out";
            return Err(Usage(reason.into()).into());
        }
        let quiet = self.output.quiet;
        let made = take::each_part(parts, "timbre", quiet, &mut status, |part| self.measure(part))?;
        let [first, ..] = &made[..] else { return Ok(status) };
        for one in &made {
            output::print_notes(&self.output, &one.findings);
        }
        if let Some(file) = &self.figure.figure {
            let drawn = self.draw(first)?;
            output::write_figure(file, &drawn, self.output.force)?;
        }
        let content = match self.output.format {
            Format::Text => made.iter().map(as_text).collect::<Vec<_>>().join("\n"),
            Format::Json => made.iter().map(|one| self.as_json(one)).collect::<Result<String>>()?,
            Format::Csv if self.tracks => tracks_csv(&made)?,
            Format::Csv if self.harmonics => harmonics_csv(&made)?,
            Format::Csv => as_csv(&made)?,
        };
        output::write_result(&self.output, &content)?;
        let rows = made
            .iter()
            .map(|one| Ok((one.part.title(), serde_json::to_value(result_of(&one.found, None))?)));
        self.limits.check(&rows.collect::<Result<Vec<(String, Value)>>>()?, status)
    }

    fn measure<'a>(&self, part: Part<'a>) -> Result<Made<'a>> {
        let rate = part.take().info.sample_rate_hz;
        let usual_hz = part.take().reference_hz();
        let reference_hz = args::reference_hz(self.search.reference, usual_hz)?;
        let usual = TimbreSettings::default();
        let mut partials = self.fundamental.settings(&part, reference_hz)?;
        partials.most = usual.partials.most;
        let settings = TimbreSettings {
            partials,
            range_hz: match self.search.range {
                Some(range) => range.hz(reference_hz, rate)?,
                None => (usual.range_hz.0, usual.range_hz.1.min(rate / 2.0)),
            },
            hop_s: self.search.hop.0,
        };
        let NoteSamples { samples, mut findings } = part.note_samples()?;
        let start_s = part.span.start as f64 / rate;
        let mut found = timbre(&samples, rate, start_s, &settings)?;
        found.calibrate(part.reference.full_scale_db());
        findings.extend(found.findings.iter().cloned());
        Ok(Made { part, settings, found, findings })
    }

    fn draw(&self, made: &Made<'_>) -> Result<Figure> {
        let title = made.part.title();
        let level_unit = format!("dB {}", made.part.reference.words());
        let notes = [settings_line(made), made.part.take().span_line(made.part.span)];
        Ok(match (self.view, &made.found.content) {
            (View::Course, _) => course_figure(
                &CourseFigure {
                    found: &made.found,
                    level_unit: &level_unit,
                    words: Words { title: &title, notes: &notes, findings: &made.findings },
                },
                self.figure.size,
            )?,
            (View::Harmonics, Some(content)) => content_figure(
                &ContentFigure {
                    content,
                    level_unit: &level_unit,
                    words: Words { title: &title, notes: &notes, findings: &made.findings },
                },
                self.figure.size,
            )?,
            (View::Harmonics, None) => {
                anyhow::bail!(
                    "{title}: it has no harmonics to draw; draw its course with --view course"
                )
            }
        })
    }

    fn as_json(&self, made: &Made<'_>) -> Result<String> {
        let (settings, found) = (&made.settings, &made.found);
        let resolved = Settings {
            level_reference: made.part.reference.name(),
            free: settings.partials.free,
            fundamental_hz: (!settings.partials.free).then_some(settings.partials.pitch.range_hz),
            range_hz: settings.range_hz,
            hop_s: settings.hop_s,
            frame_s: found.frame_s,
            noise_frame_s: found.noise_frame_s,
        };
        let instants = || {
            let points = found.track.iter();
            points
                .map(|point| Instant {
                    time_s: point.time_s,
                    level_db: point.level_db,
                    descriptors: point.descriptors,
                })
                .collect()
        };
        let result = result_of(found, self.tracks.then(instants));
        let record = made.part.take().record(made.part.span, Some(made.part.channel_name()))?;
        output::json_line("timbre", record, resolved, result, &made.findings)
    }
}

fn result_of(found: &Found, tracks: Option<Vec<Instant>>) -> TimbreResult<'_> {
    TimbreResult {
        f0_hz: found.f0_hz.map(|f| f.value),
        f0_hz_u: found.f0_hz.map(|f| f.u),
        inharmonicity: found.inharmonicity.map(|b| b.value),
        inharmonicity_u: found.inharmonicity.map(|b| b.u),
        level_db: found.level_db,
        whole: found.whole.median,
        whole_u: found.whole.median_u.keyed("_u"),
        course: CourseFigures::of(found),
        regions: Regions {
            whole: found.whole.into(),
            attack: found.attack.map(Region::from),
            sustain: found.sustain.into(),
        },
        content: found.content.as_ref(),
        tracks,
    }
}

fn settings_line(made: &Made<'_>) -> String {
    let found = &made.found;
    let (low, high) = made.settings.range_hz;
    let source = match (found.f0_hz, found.noise_frame_s) {
        (Some(_), Some(noise_s)) => format!(
            "partials and the noise between them, told apart in frames of {} ms",
            text::number(1e3 * noise_s, 0)
        ),
        (Some(_), None) => "partials; too short to tell noise from them".into(),
        (None, _) => "no fundamental: frames as they are".into(),
    };
    format!(
        "{source}; {} Hz to {} Hz; flatness, crest and flux in frames of {} ms; medians weighted by power, every {} ms",
        text::number(low, 0),
        text::number(high, 0),
        text::number(1e3 * found.frame_s, 0),
        text::number(1e3 * made.settings.hop_s, 0),
    )
}

fn as_text(made: &Made<'_>) -> String {
    let (found, reference) = (&made.found, made.part.reference);
    let lines =
        |lines: Vec<String>| lines.iter().map(|line| text::sentence(line)).collect::<String>();
    let mut parts = vec![
        format!(
            "{}\n  {}\n{}",
            made.part.title(),
            made.part.take().span_line(made.part.span),
            text::sentence(&head_line(made, reference))
        ),
        descriptor_table(found),
        lines(course_lines(found)),
    ];
    if let Some(content) = &found.content {
        let table = harmonic_table(&content.harmonics, reference);
        parts.push(format!("{table}{}", lines(content_lines(content))));
        if !content.noise_bands.is_empty() {
            parts.push(noise_table(content, reference));
        }
    }
    parts.push(text::sentence(&settings_line(made)));
    let findings = text::findings(&made.findings);
    parts.extend(Some(findings).filter(|findings| !findings.is_empty()));
    parts.join("\n")
}

/// Note, fundamental, stiffness and level in words.
fn head_line(made: &Made<'_>, reference: LevelReference) -> String {
    let found = &made.found;
    let level = format!("level {} dB {}", text::number(found.level_db, 2), reference.words());
    let Some(f0) = found.f0_hz else { return level };
    let [hz, u] = text::measured(f0.value, f0.u, 4);
    let note = Note::nearest(f0.value, made.settings.partials.pitch.reference_hz);
    let note = note.map_or(String::new(), |(note, cents)| {
        format!("{note} {} cents, ", text::signed(text::number(cents, 1)))
    });
    let b = found.inharmonicity.filter(|b| b.value > 2.0 * b.u).map_or(String::new(), |b| {
        let [b, b_u] = text::measured(1e6 * b.value, 1e6 * b.u, 2);
        format!(", B ({b} ± {b_u})e-6")
    });
    format!("{note}f0 {hz} ± {u} Hz{b}; {level}")
}

fn descriptor_table(found: &Found) -> String {
    let has_attack = found.attack.is_some();
    let mut titles = vec!["descriptor", "unit", "whole", "± u", "spread", "sustain"];
    titles.extend(has_attack.then_some("attack"));
    let value = |summary: &Descriptors, descriptor, decimals| {
        text::known(summary.get(descriptor), decimals)
    };
    let rows = DESCRIPTORS.iter().map(|words| {
        let (descriptor, most) = (words.descriptor, words.decimals);
        let [whole, u] =
            match (found.whole.median.get(descriptor), found.whole.median_u.get(descriptor)) {
                (Some(value), Some(u)) => {
                    let [_, u] = text::measured(value, u, most);
                    [text::number(value, most), u]
                }
                (value, _) => [text::known(value, most), String::new()],
            };
        let mut row = vec![
            words.name.to_string(),
            words.unit.to_string(),
            whole,
            u,
            value(&found.whole.spread, descriptor, most),
            value(&found.sustain.median, descriptor, most),
        ];
        if let Some(attack) = &found.attack {
            row.push(value(&attack.median, descriptor, most));
        }
        row
    });
    text::table(&titles, &[0, 1], rows.collect())
}

/// The course of the level in words.
fn course_lines(found: &Found) -> Vec<String> {
    let mut lines = Vec::new();
    lines.push(match &found.rise {
        Some(rise) => {
            let [ms, u] = text::measured(1e3 * rise.duration_s.value, 1e3 * rise.duration_s.u, 2);
            let shape = match rise.shape {
                RiseShape::Linear => "even",
                RiseShape::RaisedCosine => "a raised cosine",
            };
            format!(
                "attack from {} s, {ms} ± {u} ms, {shape}; log attack time {}; {} dB/s from 10 to 90 %",
                text::number(rise.start_s, 3),
                text::number(rise.duration_s.value.log10(), 3),
                text::number(rise.slope_db_per_s, 0),
            )
        }
        None => "attack: not told".into(),
    });
    let mut parts = vec![
        format!("temporal centroid {} s", text::known(found.temporal_centroid_s, 3)),
        format!("above 40 % of the top for {} s", text::known(found.effective_duration_s, 3)),
    ];
    parts.push(match found.decay_t60_s {
        Some(t60) => {
            let [s, u] = text::measured(t60.value, t60.u, 3);
            format!("T60 of the whole {s} ± {u} s")
        }
        None => "no even decay".into(),
    });
    lines.push(parts.join("; "));
    let wavering =
        |what: &str, rate: Option<f64>, depth: Option<f64>, unit: &str, decimals| match rate
            .zip(depth)
        {
            Some((rate, depth)) => format!(
                "{what} of {} Hz, ± {} {unit}",
                text::number(rate, 2),
                text::number(depth, decimals)
            ),
            None => format!("no {what}"),
        };
    let vibrato = found.vibrato;
    lines.push(format!(
        "{}; {}",
        wavering("vibrato", vibrato.vibrato_rate_hz, vibrato.vibrato_depth_cents, "cents", 1),
        wavering("tremolo", found.tremolo_rate_hz, found.tremolo_depth_db, "dB", 2)
    ));
    lines
}

fn harmonic_table(harmonics: &[Harmonic], reference: LevelReference) -> String {
    let level_title = format!("dB {}", reference.words());
    let titles = [
        "no.",
        "frequency Hz",
        "± u",
        &level_title,
        "re first",
        "re strongest",
        "from harmonic ¢",
        "share %",
        "up to it %",
        "noise around dB",
    ];
    let rows = harmonics.iter().map(|harmonic| {
        let [hz, u] = text::measured(harmonic.frequency_hz, harmonic.frequency_hz_u, 4);
        vec![
            harmonic.number.to_string(),
            hz,
            u,
            text::number(harmonic.level_db, 2),
            text::known(harmonic.level_re_first_db, 2),
            text::number(harmonic.level_re_strongest_db, 2),
            harmonic
                .cents_from_harmonic
                .map_or("–".into(), |cents| text::signed(text::number(cents, 2))),
            text::number(100.0 * harmonic.power_share, 3),
            text::number(100.0 * harmonic.cumulative_share, 3),
            text::known(harmonic.noise_level_db, 1),
        ]
    });
    text::table(&titles, &[], rows.collect())
}

/// Distortion and the regions of the envelope in words.
fn content_lines(content: &HarmonicContent) -> Vec<String> {
    let mut lines = Vec::new();
    let percent = |value: f64| {
        let decimals = if value < 1.0 { 4 } else { 2 };
        text::number(value, decimals)
    };
    if let Some(with_noise) = content.distortion_and_noise_percent {
        let alone = content
            .distortion_percent
            .map_or("none stands out".into(), |d| format!("{} %", percent(d)));
        lines.push(format!(
            "harmonics from 2 on, over the first: {alone} (THD); all but the first, over all: {} % (THD+N)",
            percent(with_noise)
        ));
    }
    for region in &content.envelope_regions {
        lines.push(format!(
            "the envelope stands out at {} Hz, {} Hz wide at −3 dB, {} dB above its valleys; harmonic {} is its strongest",
            text::number(region.centre_hz, 0),
            text::number(region.bandwidth_hz, 0),
            text::number(region.prominence_db, 1),
            region.strongest_harmonic
        ));
    }
    lines
}

fn noise_table(content: &HarmonicContent, reference: LevelReference) -> String {
    let level_title = format!("noise, dB {}", reference.words());
    let titles = ["octave Hz", &level_title, "share of the power in it %"];
    let rows = content.noise_bands.iter().map(|band| {
        vec![
            nominal(band.center_hz),
            text::number(band.noise_level_db, 1),
            text::number(100.0 * band.noise_share, 3),
        ]
    });
    text::table(&titles, &[], rows.collect())
}

/// The name of an octave by its nominal middle frequency (IEC 61260-1).
fn nominal(center_hz: f64) -> String {
    match center_hz {
        hz if hz < 40.0 => "31.5".into(),
        hz if hz < 80.0 => "63".into(),
        hz => text::number(hz, 0),
    }
}

/// One row for each take: what JSON has under keys of its own.
fn as_csv(made: &[Made<'_>]) -> Result<String> {
    let flat = |one: &Made<'_>| -> Result<Vec<(String, String)>> {
        let value = serde_json::to_value(result_of(&one.found, None))?;
        let mut cells = vec![
            ("take".to_string(), one.part.take().name()),
            ("channel".to_string(), one.part.channel_name()),
        ];
        for (key, value) in value.as_object().into_iter().flatten() {
            match value {
                Value::Array(values) => {
                    let (stem, ending) = match key.strip_suffix("_u") {
                        Some(stem) => (stem, "_u"),
                        None => (key.as_str(), ""),
                    };
                    let named = values.iter().enumerate();
                    cells
                        .extend(named.map(|(n, v)| (format!("{stem}_{}{ending}", n + 1), cell(v))));
                }
                Value::Object(_) => {}
                _ if key == "content" => {}
                other => cells.push((key.clone(), cell(other))),
            }
        }
        cells.push(("level_reference".into(), one.part.reference.name().into()));
        Ok(cells)
    };
    let rows: Vec<Vec<(String, String)>> = made.iter().map(flat).collect::<Result<_>>()?;
    let head = rows.first().into_iter().flatten().map(|(key, _)| key.as_str());
    let cells: Vec<Vec<String>> =
        rows.iter().map(|row| row.iter().map(|(_, cell)| cell.clone()).collect()).collect();
    output::csv_lines(head, &cells)
}

/// A value of JSON as it stands in a cell.
fn cell(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

fn tracks_csv(made: &[Made<'_>]) -> Result<String> {
    let head = ["take", "channel", "time_s", "level_db"]
        .into_iter()
        .chain(DESCRIPTORS.iter().map(|words| words.key))
        .chain(["level_reference"]);
    let rows: Vec<Vec<String>> = (made.iter())
        .flat_map(|one| {
            let (take, channel) = (one.part.take().name(), one.part.channel_name());
            one.found.track.iter().map(move |point| {
                let mut row = vec![
                    take.clone(),
                    channel.clone(),
                    point.time_s.to_string(),
                    point.level_db.to_string(),
                ];
                let value = |descriptor: Descriptor| point.descriptors.get(descriptor);
                row.extend(DESCRIPTORS.iter().map(|words| {
                    value(words.descriptor).map_or(String::new(), |value| value.to_string())
                }));
                row.push(one.part.reference.name().into());
                row
            })
        })
        .collect();
    output::csv_lines(head, &rows)
}

fn harmonics_csv(made: &[Made<'_>]) -> Result<String> {
    let names: Vec<_> =
        made.iter().map(|one| (one.part.take().name(), one.part.channel_name())).collect();
    output::csv_table(made.iter().zip(&names).flat_map(|(one, (take, channel))| {
        let harmonics = one.found.content.iter().flat_map(|content| &content.harmonics);
        harmonics.map(move |harmonic| HarmonicRow {
            take,
            channel,
            number: harmonic.number,
            frequency_hz: harmonic.frequency_hz,
            frequency_hz_u: harmonic.frequency_hz_u,
            level_db: harmonic.level_db,
            level_re_first_db: harmonic.level_re_first_db,
            level_re_strongest_db: harmonic.level_re_strongest_db,
            cents_from_harmonic: harmonic.cents_from_harmonic,
            power_share: harmonic.power_share,
            cumulative_share: harmonic.cumulative_share,
            noise_level_db: harmonic.noise_level_db,
            level_reference: one.part.reference.name(),
        })
    }))
}
