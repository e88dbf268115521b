//! `inspect`: what a recording is, and whether it can be trusted.

use std::path::PathBuf;

use anyhow::Result;
use clap::{Args, ValueEnum};
use rayon::prelude::*;
use serde::Serialize;
use tonemap_core::intake::{
    ChannelInspection, ChannelRelation, Envelope, Inspection, Inspector, Period, Region, period,
};
use tonemap_core::{Finding, SampleSpan};
use tonemap_figures::{
    AmplitudeScale, ChannelCourse, Figure, WaveformFigure, waveform_columns, waveform_figure,
};
use tonemap_media::Block;

use crate::args::{FigureArgs, Format, OutputArgs, SourceArgs, SpanArgs};
use crate::output::{self, Status, Usage};
use crate::studies::{self, Named};
use crate::take::Take;
use crate::text;

/// A period is looked for in spans up to this long, in seconds.
const LONGEST_WITH_PERIOD_S: f64 = 0.5;
/// Onsets and regions that are listed in text.
const MOST_LISTED: usize = 12;

/// Format, levels and noise of recordings, what sounds when, and what is wrong with them
///
/// Reads each take once, or a span of it: levels with the true peak between samples, DC, clipping at
/// and below full scale, noise floor, bandwidth and signs of a lossy coder, mains hum, clicks and
/// dropouts, sounding regions and onsets. RMS levels are referred to a full-scale sine: such a sine
/// reads 0 dBFS both as peak and as RMS. A span of at most 0.5 s is also given the period between the
/// rising zero crossings in it. --figure draws the waveform and the level over time, with clips,
/// regions and onsets marked.
#[derive(Args)]
pub(crate) struct Inspect {
    /// Recordings, their names in the study, or - for standard input
    #[arg(value_name = "TAKE", required_unless_present = "conditions")]
    takes: Vec<PathBuf>,
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    span: SpanArgs,
    #[command(flatten)]
    figure: FigureArgs,
    /// Scale of the waveform in the figure
    #[arg(long, value_name = "SCALE", default_value = "linear", requires = "figure")]
    #[arg(help_heading = "Output")]
    amplitude: Amplitude,
    #[command(flatten)]
    output: OutputArgs,
}

#[derive(Clone, Copy, ValueEnum)]
enum Amplitude {
    Linear,
    Db,
}

/// What is found in one take.
struct Inspected {
    take: Take,
    span: SampleSpan,
    /// Waveforms, if a figure was asked for.
    envelopes: Vec<Envelope>,
    /// Periods, if the span is short; one a channel.
    periods: Vec<Option<Period>>,
    names: Vec<String>,
    inspection: Inspection,
    findings: Vec<Finding>,
}

#[derive(Serialize)]
struct Settings {}

/// `result` in JSON.
#[derive(Serialize)]
struct InspectResult<'a> {
    container: &'a str,
    codec: &'a str,
    lossy_codec: bool,
    sample_rate_hz: f64,
    bits_per_sample: Option<u32>,
    duration_s: f64,
    channels: Vec<NamedChannel<'a>>,
    /// Each channel with the next.
    correlations: Vec<Option<f64>>,
    regions: &'a [Region],
    onsets_s: &'a [f64],
    /// When the last sound has died into the noise; unknown if the span ends before.
    died_s: Option<f64>,
}

#[derive(Serialize)]
struct NamedChannel<'a> {
    name: &'a str,
    #[serde(flatten)]
    found: &'a ChannelInspection,
    period: Option<Period>,
    #[serde(flatten)]
    pressure: PressureLevels,
}

/// Levels in dB re 20 µPa; unknown without calibration.
#[derive(Serialize)]
#[expect(clippy::struct_field_names, reason = "they are keys, with their unit last")]
struct PressureLevels {
    /// Of a full-scale sine.
    full_scale_db: Option<f64>,
    rms_db: Option<f64>,
    loudest_db: Option<f64>,
    noise_floor_db: Option<f64>,
}

impl PressureLevels {
    fn of(full_scale_db: Option<f64>, found: &ChannelInspection) -> Self {
        let level = |dbfs: Option<f64>| dbfs.zip(full_scale_db).map(|(dbfs, full)| dbfs + full);
        Self {
            full_scale_db,
            rms_db: level(found.levels.rms_dbfs),
            loudest_db: level(found.levels.loudest_dbfs),
            noise_floor_db: level(found.noise_floor_dbfs),
        }
    }
}

/// A row in CSV.
#[derive(Serialize)]
struct Row<'a> {
    take: String,
    channel: &'a str,
    container: &'a str,
    codec: &'a str,
    sample_rate_hz: f64,
    duration_s: f64,
    peak_dbfs: Option<f64>,
    true_peak_dbfs: Option<f64>,
    rms_dbfs: Option<f64>,
    rms_db: Option<f64>,
    crest_db: Option<f64>,
    dc_offset: Option<f64>,
    noise_floor_dbfs: Option<f64>,
    dynamic_range_db: Option<f64>,
    bandwidth_hz: Option<f64>,
    hum_dbfs: Option<f64>,
    clipped_samples: u64,
    clicks: u64,
    dropouts: u64,
    regions: usize,
    onsets: usize,
    findings: String,
}

impl Inspect {
    pub(crate) fn run(&self) -> Result<Status> {
        output::start_log(&self.output);
        output::check_outputs(&self.figure, &self.output)?;
        let mut status = Status::Done;
        let mut inspected = Vec::new();
        let takes = studies::find_takes(&self.takes, &self.source)?;
        if takes.len() > 1 && self.figure.figure.is_some() {
            let reason = "a figure shows one take; inspect the takes one by one for figures";
            return Err(Usage(reason.into()).into());
        }
        for named in takes {
            // One bad take does not stop the others.
            match self.inspect(named) {
                Ok(take) => inspected.push(take),
                Err(error) => {
                    output::print_error(&error);
                    status = Status::CouldNot;
                }
            }
        }
        if inspected.is_empty() {
            return Ok(status);
        }
        for take in &inspected {
            output::print_notes(&self.output, &take.findings);
            if let Some(file) = &self.figure.figure {
                let figure = self.draw(take)?;
                output::write_figure(file, &figure, self.output.force)?;
            }
        }
        let content = match self.output.format {
            Format::Text => inspected.iter().map(as_text).collect::<Vec<_>>().join("\n"),
            Format::Json => inspected.iter().map(as_json).collect::<Result<String>>()?,
            Format::Csv => output::csv_table(inspected.iter().flat_map(rows))?,
        };
        output::write_result(&self.output, &content)?;
        Ok(status)
    }

    fn draw(&self, inspected: &Inspected) -> Result<Figure> {
        let Inspected { take, span, inspection, findings, envelopes, names, .. } = inspected;
        let rate = take.info.sample_rate_hz;
        let courses: Vec<ChannelCourse<'_>> = inspection
            .channels
            .iter()
            .zip(envelopes)
            .zip(names)
            .map(|((found, envelope), name)| ChannelCourse {
                name,
                envelope,
                clips: &found.levels.clips,
            })
            .collect();
        let figure = WaveformFigure {
            title: &take.name(),
            channels: &courses,
            amplitude: match self.amplitude {
                Amplitude::Linear => AmplitudeScale::Linear,
                Amplitude::Db => AmplitudeScale::Db,
            },
            regions: &inspection.course.regions,
            onsets_s: &inspection.course.onsets_s,
            span_s: (span.start as f64 / rate, span.end as f64 / rate),
            sample_rate_hz: rate,
            notes: &[take.span_line(*span)],
            findings,
        };
        Ok(waveform_figure(&figure, self.figure.size)?)
    }

    fn inspect(&self, named: Named) -> Result<Inspected> {
        let mut take = Take::open(named, &self.source)?;
        let span = take.cut_span(self.span.span())?;
        let (rate, channels) = (take.info.sample_rate_hz, take.info.channels);
        let mut envelopes = Vec::new();
        if self.figure.figure.is_some() {
            let envelope = Envelope::new(span.len(), waveform_columns(self.figure.size));
            envelopes.resize(channels, envelope);
        }
        let is_short = span.len() as f64 <= LONGEST_WITH_PERIOD_S * rate;
        let mut samples = vec![Vec::new(); if is_short { channels } else { 0 }];
        let (inspection, findings) = look_at(&take, span, self.output.quiet, |block| {
            for (envelope, samples) in envelopes.iter_mut().zip(block.channels()) {
                envelope.push(samples);
            }
            for (kept, samples) in samples.iter_mut().zip(block.channels()) {
                kept.extend_from_slice(samples);
            }
        })?;
        let start_s = span.start as f64 / rate;
        let periods = samples.par_iter().map(|samples| period(samples, rate, start_s)).collect();
        let names = take.channel_names();
        Ok(Inspected { take, span, envelopes, periods, names, inspection, findings })
    }
}

/// Inspects a span of a take, with all findings; `beside` sees the samples too.
pub(super) fn look_at(
    take: &Take,
    span: SampleSpan,
    quiet: bool,
    mut beside: impl FnMut(&Block),
) -> Result<(Inspection, Vec<Finding>)> {
    let info = &take.info;
    let mut inspector =
        Inspector::new(info.sample_rate_hz, info.bits_per_sample, info.channels, span);
    let (levels, sound) = inspector.halves();
    let on_the_way = take.read_in_two(
        span,
        "inspecting",
        quiet,
        |block| {
            levels.push(block.channels());
            beside(block);
        },
        |block| sound.push(block.channels()),
    )?;
    let inspection = inspector.finish();
    let mut findings = take.findings.clone();
    findings.extend(on_the_way);
    findings.extend(inspection.findings(&take.channel_names()));
    Ok((inspection, findings))
}

fn as_text(inspected: &Inspected) -> String {
    let Inspected { take, span, inspection, findings, .. } = inspected;
    let count = match inspection.channels.len() {
        1 => "1 channel".into(),
        count => format!("{count} channels"),
    };
    let part = if span.len() == take.frames {
        String::new()
    } else {
        format!("  {}\n", take.span_line(*span))
    };
    let head = format!(
        "{}\n  {}, {}, {} Hz, {count}, {} s ({} samples)\n{part}\n",
        take.name(),
        take.info.container,
        take.info.codec,
        text::rate(take.info.sample_rate_hz),
        text::number(take.duration_s(), 3),
        text::grouped(take.frames),
    );
    let findings = match text::findings(findings) {
        none if none.is_empty() => "\n  nothing wrong was found\n".into(),
        some => format!("\n{some}"),
    };
    let times = course_lines(inspected) + &correlation_line(inspected) + &period_lines(inspected);
    let gap = if times.is_empty() { "" } else { "\n" };
    head + &channel_table(inspected) + &pressure_table(inspected) + gap + &times + &findings
}

fn channel_table(inspected: &Inspected) -> String {
    let row = |(name, channel): (&String, &ChannelInspection)| {
        let levels = &channel.levels;
        vec![
            name.clone(),
            text::known(levels.peak_dbfs, 2),
            text::known(levels.true_peak_dbfs, 2),
            text::known(levels.rms_dbfs, 2),
            text::known(levels.crest_db, 1),
            text::known(channel.noise_floor_dbfs, 1),
            text::known(channel.dynamic_range_db, 1),
            text::known(channel.bandwidth_hz.map(|hz| hz / 1000.0), 1),
            text::number(levels.dc_offset, 6),
            text::grouped(levels.clipped_samples),
        ]
    };
    let titles = [
        "channel\n",
        "peak\ndBFS",
        "true peak\ndBFS",
        "RMS\ndBFS",
        "crest\ndB",
        "noise\ndBFS",
        "range\ndB",
        "bandwidth\nkHz",
        "DC\nfull scale",
        "clipped\nsamples",
    ];
    let rows = inspected.names.iter().zip(&inspected.inspection.channels).map(row);
    text::table(&titles, &[], rows.collect())
}

/// Levels of the channels that are calibrated.
fn pressure_table(inspected: &Inspected) -> String {
    let Inspected { take, names, inspection, .. } = inspected;
    let channels = names.iter().zip(&inspection.channels).enumerate();
    let rows: Vec<Vec<String>> = channels
        .filter_map(|(n, (name, found))| {
            let full_scale_db = take.full_scale_db(n)?;
            let levels = PressureLevels::of(Some(full_scale_db), found);
            Some(vec![
                name.clone(),
                text::known(levels.rms_db, 2),
                text::known(levels.loudest_db, 2),
                text::known(levels.noise_floor_db, 1),
                text::number(full_scale_db, 2),
            ])
        })
        .collect();
    if rows.is_empty() {
        return String::new();
    }
    let titles = [
        "channel\n",
        "RMS\ndB re 20 µPa",
        "loudest 50 ms\ndB re 20 µPa",
        "noise\ndB re 20 µPa",
        "full scale\ndB re 20 µPa",
    ];
    format!("\n{}", text::table(&titles, &[], rows))
}

/// When something sounds, and when it begins.
fn course_lines(inspected: &Inspected) -> String {
    let course = &inspected.inspection.course;
    // In a span of a few periods the noise cannot be told from the sound.
    if inspected.inspection.channels.iter().all(|channel| channel.noise_floor_dbfs.is_none()) {
        return String::new();
    }
    if course.regions.is_empty() {
        return "  nothing stands out of the noise\n".into();
    }
    let regions = course
        .regions
        .iter()
        .map(|r| format!("{} to {} s", text::number(r.start_s, 3), text::number(r.end_s, 3)));
    let onsets = course.onsets_s.iter().map(|time_s| format!("{} s", text::number(*time_s, 3)));
    let end = match inspected.died_s() {
        Some(time_s) => format!("  died into the noise at {} s\n", text::number(time_s, 3)),
        None => "  still sounding at the end\n".into(),
    };
    text::listed("sounding", regions, MOST_LISTED)
        + &text::listed("onsets", onsets, MOST_LISTED)
        + &end
}

fn correlation_line(inspected: &Inspected) -> String {
    let pairs = inspected.inspection.relations.iter().zip(inspected.names.windows(2));
    let pairs: Vec<String> = pairs
        .map(|(relation, names)| {
            format!("{} and {}: {}", names[0], names[1], text::known(relation.correlation(), 3))
        })
        .collect();
    if pairs.is_empty() {
        return String::new();
    }
    text::listed("correlation of channels", pairs.into_iter(), MOST_LISTED)
}

/// The period in a short span.
fn period_lines(inspected: &Inspected) -> String {
    let lines = inspected.names.iter().zip(&inspected.periods).map(|(name, period)| {
        let channel = match inspected.names.len() {
            1 => String::new(),
            _ => format!(" of channel {name}"),
        };
        let Some(found) = period else {
            return format!("  no period{channel}: the span needs 1.4 periods of a steady tone\n");
        };
        let [ms, ms_u] = text::measured(1000.0 * found.period_s, 1000.0 * found.period_s_u, 6);
        let [hz, hz_u] = text::measured(found.frequency_hz, found.frequency_hz_u, 6);
        let count = match found.periods {
            1 => "1 period".into(),
            count => format!("{count} periods"),
        };
        format!(
            "  period{channel} {ms} ± {ms_u} ms, {hz} ± {hz_u} Hz:\n    {count} between the rising \
             zero crossings at {} s and {} s\n",
            text::number(found.from_s, 6),
            text::number(found.to_s, 6),
        )
    });
    lines.collect()
}

impl Inspected {
    /// When the last sound has died into the noise, if the span reaches so far.
    fn died_s(&self) -> Option<f64> {
        let course = &self.inspection.course;
        course.regions.last().filter(|_| !course.is_cut_off).map(|region| region.end_s)
    }
}

fn as_json(inspected: &Inspected) -> Result<String> {
    let Inspected { take, span, inspection, findings, names, periods, .. } = inspected;
    let record = take.record(*span, None)?;
    let channels = names.iter().zip(&inspection.channels).enumerate();
    let result = InspectResult {
        container: take.info.container,
        codec: &take.info.codec,
        lossy_codec: take.info.lossy_codec,
        sample_rate_hz: take.info.sample_rate_hz,
        bits_per_sample: take.info.bits_per_sample,
        duration_s: take.duration_s(),
        channels: channels
            .map(|(n, (name, found))| NamedChannel {
                name,
                found,
                period: periods.get(n).copied().flatten(),
                pressure: PressureLevels::of(take.full_scale_db(n), found),
            })
            .collect(),
        correlations: inspection.relations.iter().map(ChannelRelation::correlation).collect(),
        regions: &inspection.course.regions,
        onsets_s: &inspection.course.onsets_s,
        died_s: inspected.died_s(),
    };
    output::json_line("inspect", record, Settings {}, result, findings)
}

fn rows(inspected: &Inspected) -> impl Iterator<Item = Row<'_>> {
    let Inspected { take, inspection, names, findings, .. } = inspected;
    let codes: Vec<&str> = findings.iter().map(|finding| finding.code.as_ref()).collect();
    let codes = codes.join(" ");
    let channels = names.iter().zip(&inspection.channels).enumerate();
    channels.map(move |(n, (channel, found))| Row {
        take: take.exact_path(),
        channel,
        container: take.info.container,
        codec: &take.info.codec,
        sample_rate_hz: take.info.sample_rate_hz,
        duration_s: take.duration_s(),
        peak_dbfs: found.levels.peak_dbfs,
        true_peak_dbfs: found.levels.true_peak_dbfs,
        rms_dbfs: found.levels.rms_dbfs,
        rms_db: PressureLevels::of(take.full_scale_db(n), found).rms_db,
        crest_db: found.levels.crest_db,
        // Samples near the largest that a float holds have no sum.
        dc_offset: Some(found.levels.dc_offset).filter(|dc| dc.is_finite()),
        noise_floor_dbfs: found.noise_floor_dbfs,
        dynamic_range_db: found.dynamic_range_db,
        bandwidth_hz: found.bandwidth_hz,
        hum_dbfs: found.hum.as_ref().map(|hum| hum.level_dbfs),
        clipped_samples: found.levels.clipped_samples,
        clicks: found.faults.click_count,
        dropouts: found.faults.dropout_count,
        regions: inspection.course.regions.len(),
        onsets: inspection.course.onsets_s.len(),
        findings: codes.clone(),
    })
}
