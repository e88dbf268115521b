//! `inspect`: what a recording is, and whether it can be trusted.

use std::path::PathBuf;

use anyhow::Result;
use clap::Args;
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::intake::{ChannelLevels, LevelMeter};

use crate::args::{Format, OutputArgs, SourceArgs};
use crate::output::{self, Status};
use crate::take::{Take, TakeRecord};
use crate::text;

/// Format, levels, DC and clipping of recordings, and what is wrong with them
///
/// Reads each take from beginning to end. RMS levels are referred to a full-scale sine: such a sine
/// reads 0 dBFS both as peak and as RMS. Three or more samples in a row at full scale count as
/// clipped.
#[derive(Args)]
pub(crate) struct Inspect {
    /// Recordings, or - for standard input
    #[arg(required = true, value_name = "TAKE")]
    takes: Vec<PathBuf>,
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    output: OutputArgs,
}

/// What is found in one take.
struct Inspected {
    take: Take,
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
        if let Some(file) = &self.output.output {
            output::check_writable(file, self.output.force)?;
        }
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
        }
        let content = match self.output.format {
            Format::Text => inspected.iter().map(as_text).collect::<Vec<_>>().join("\n"),
            Format::Json => inspected.iter().map(as_json).collect::<Result<String>>()?,
            Format::Csv => output::csv_table(inspected.iter().flat_map(rows))?,
        };
        output::write_result(&self.output, &content)?;
        Ok(status)
    }

    fn inspect(&self, path: &std::path::Path) -> Result<Inspected> {
        let take = Take::open(path, &self.source)?;
        let mut findings = take.findings.clone();
        let mut meters = vec![take.level_meter(); take.info.channels];
        let all = take.span(tonemap_core::Span::default())?;
        let on_the_way = take.read(all, "inspecting", self.output.quiet, |block| {
            for (meter, samples) in meters.iter_mut().zip(block.channels()) {
                meter.push(samples);
            }
        })?;
        findings.extend(on_the_way);
        let channels: Vec<ChannelLevels> = meters.into_iter().map(LevelMeter::finish).collect();
        for (number, levels) in (1..).zip(&channels) {
            let number: usize = number;
            findings.extend(levels.findings(&number.to_string()));
        }
        Ok(Inspected { take, channels, findings })
    }
}

fn as_text(inspected: &Inspected) -> String {
    let Inspected { take, channels, findings } = inspected;
    let count = match channels.len() {
        1 => "1 channel".into(),
        count => format!("{count} channels"),
    };
    let head = format!(
        "{}\n  {}, {}, {} Hz, {count}, {} s ({} samples)\n\n",
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
    let Inspected { take, channels, findings } = inspected;
    let record: TakeRecord = take.record(take.span(tonemap_core::Span::default())?, None)?;
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
