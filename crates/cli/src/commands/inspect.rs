//! `inspect`: what a recording is, and whether it can be trusted.

use std::path::PathBuf;

use anyhow::Result;
use clap::Args;
use serde::Serialize;
use tonemap_core::intake::{ChannelLevels, ChannelRelation, Envelope, LevelMeter};
use tonemap_core::{Finding, SampleSpan};
use tonemap_figures::{ChannelCourse, Figure, WaveformFigure, waveform_columns, waveform_figure};

use crate::args::{FigureArgs, Format, OutputArgs, SourceArgs, SpanArgs};
use crate::output::{self, Picture, Status, Usage};
use crate::take::Take;
use crate::text;

/// Format, levels, DC and clipping of recordings, and what is wrong with them
///
/// Reads each take from beginning to end, or a span of it. RMS levels are referred to a full-scale sine: such a sine
/// reads 0 dBFS both as peak and as RMS. Three or more samples in a row at full scale count as
/// clipped. --figure draws the waveform and the RMS level over time, clips marked.
#[derive(Args)]
pub(crate) struct Inspect {
    /// Recordings, or - for standard input
    #[arg(required = true, value_name = "TAKE")]
    takes: Vec<PathBuf>,
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    span: SpanArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    output: OutputArgs,
}

/// What is found in one take.
struct Inspected {
    take: Take,
    span: SampleSpan,
    /// Waveforms, if a figure was asked for.
    envelopes: Vec<Envelope>,
    channels: Vec<ChannelLevels>,
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
}

#[derive(Serialize)]
struct NamedChannel<'a> {
    name: String,
    #[serde(flatten)]
    levels: &'a ChannelLevels,
}

/// A row in CSV.
#[derive(Serialize)]
struct Row<'a> {
    take: String,
    channel: usize,
    container: &'a str,
    codec: &'a str,
    sample_rate_hz: f64,
    duration_s: f64,
    peak_dbfs: Option<f64>,
    rms_dbfs: Option<f64>,
    dc_offset: f64,
    clipped_samples: u64,
}

impl Inspect {
    pub(crate) fn run(&self) -> Result<Status> {
        output::start_log(&self.output);
        self.check_outputs()?;
        let mut status = Status::Done;
        let mut inspected = Vec::new();
        for path in &self.takes {
            // One bad take does not stop the others.
            match self.inspect(path) {
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

    /// Finds out before the work what would stop it at the end.
    fn check_outputs(&self) -> Result<()> {
        if let Some(file) = &self.figure.figure {
            Picture::of(file)?;
            output::check_writable(file, self.output.force)?;
            if self.takes.len() > 1 {
                let reason = "a figure shows one take; inspect the takes one by one for figures";
                return Err(Usage(reason.into()).into());
            }
        }
        if let Some(file) = &self.output.output {
            output::check_writable(file, self.output.force)?;
        }
        Ok(())
    }

    fn draw(&self, inspected: &Inspected) -> Result<Figure> {
        let Inspected { take, span, channels, findings, envelopes } = inspected;
        let rate = take.info.sample_rate_hz;
        let names: Vec<String> = (1..=channels.len()).map(|n| n.to_string()).collect();
        let courses: Vec<ChannelCourse<'_>> = channels
            .iter()
            .zip(envelopes)
            .zip(&names)
            .map(|((levels, envelope), name)| ChannelCourse {
                name,
                envelope,
                clips: &levels.clips,
            })
            .collect();
        let figure = WaveformFigure {
            title: &take.name(),
            channels: &courses,
            span_s: (span.start as f64 / rate, span.end as f64 / rate),
            sample_rate_hz: rate,
            notes: &[take.span_line(*span)],
            findings,
        };
        Ok(waveform_figure(&figure, self.figure.size)?)
    }

    fn inspect(&self, path: &std::path::Path) -> Result<Inspected> {
        let take = Take::open(path, &self.source)?;
        let mut findings = take.findings.clone();
        let span = take.span(self.span.span())?;
        let mut meters = vec![take.level_meter(span); take.info.channels];
        // Each channel is compared with the next: a pair of microphones lies side by side.
        let mut relations = vec![ChannelRelation::default(); take.info.channels - 1];
        let mut envelopes = Vec::new();
        if self.figure.figure.is_some() {
            let envelope = Envelope::new(span.len(), waveform_columns(self.figure.size));
            envelopes.resize(take.info.channels, envelope);
        }
        let on_the_way = take.read(span, "inspecting", self.output.quiet, |block| {
            for (relation, pair) in relations.iter_mut().zip(block.channels().windows(2)) {
                relation.push(&pair[0], &pair[1]);
            }
            for (meter, samples) in meters.iter_mut().zip(block.channels()) {
                meter.push(samples);
            }
            for (envelope, samples) in envelopes.iter_mut().zip(block.channels()) {
                envelope.push(samples);
            }
        })?;
        findings.extend(on_the_way);
        let channels: Vec<ChannelLevels> = meters.into_iter().map(LevelMeter::finish).collect();
        for (number, levels) in (1..).zip(&channels) {
            let number: usize = number;
            findings.extend(levels.findings(&number.to_string()));
        }
        for (number, relation) in (1..).zip(&relations) {
            let number: usize = number;
            findings.extend(relation.finding(&number.to_string(), &(number + 1).to_string()));
        }
        Ok(Inspected { take, span, envelopes, channels, findings })
    }
}

fn as_text(inspected: &Inspected) -> String {
    let Inspected { take, span, channels, findings, .. } = inspected;
    let count = match channels.len() {
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
    let rows = (1..)
        .zip(channels)
        .map(|(number, levels): (usize, _)| {
            vec![
                number.to_string(),
                text::known(levels.peak_dbfs, 2),
                text::known(levels.rms_dbfs, 2),
                text::number(levels.dc_offset, 6),
                text::grouped(levels.clipped_samples),
                levels.clips.len().to_string(),
            ]
        })
        .collect();
    let titles =
        ["channel", "peak dBFS", "RMS dBFS", "DC re full scale", "clipped samples", "in runs"];
    let table = text::table(&titles, &[], rows);
    let findings = match text::findings(findings) {
        none if none.is_empty() => "\n  nothing wrong was found\n".into(),
        some => format!("\n{some}"),
    };
    head + &table + &findings
}

fn as_json(inspected: &Inspected) -> Result<String> {
    let Inspected { take, span, channels, findings, .. } = inspected;
    let record = take.record(*span, None)?;
    let result = InspectResult {
        container: take.info.container,
        codec: &take.info.codec,
        lossy_codec: take.info.lossy_codec,
        sample_rate_hz: take.info.sample_rate_hz,
        bits_per_sample: take.info.bits_per_sample,
        duration_s: take.duration_s(),
        channels: (1..)
            .zip(channels)
            .map(|(number, levels): (usize, _)| NamedChannel { name: number.to_string(), levels })
            .collect(),
    };
    output::json_line("inspect", record, Settings {}, result, findings)
}

fn rows(inspected: &Inspected) -> impl Iterator<Item = Row<'_>> {
    let Inspected { take, channels, .. } = inspected;
    (1..).zip(channels).map(|(channel, levels)| Row {
        take: take.path(),
        channel,
        container: take.info.container,
        codec: &take.info.codec,
        sample_rate_hz: take.info.sample_rate_hz,
        duration_s: take.duration_s(),
        peak_dbfs: levels.peak_dbfs,
        rms_dbfs: levels.rms_dbfs,
        dc_offset: levels.dc_offset,
        clipped_samples: levels.clipped_samples,
    })
}
