//! `inspect`: what a recording is, and whether it can be trusted.

use std::borrow::Cow;
use std::path::PathBuf;

use anyhow::Result;
use clap::{Args, ValueEnum};
use rayon::prelude::*;
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::intake::{ChannelInspection, Envelope, Inspection, period};
use tonemap_core::quantity::{Label, Quantities, Quantity, Unit, pair};
use tonemap_figures::{
    AmplitudeScale, ChannelCourse, Figure, ReportPart, WaveformFigure, waveform_columns,
    waveform_figure,
};

use crate::args::{FigureArgs, OutputArgs, SourceArgs, SpanArgs};
use crate::limits::LimitArgs;
use crate::look::look_at;
use crate::measure::{self, Common, Measure, Parts};
use crate::table::Table;
use crate::take::Part;
use crate::text;

/// A period is looked for in spans up to this long, in seconds.
const LONGEST_WITH_PERIOD_S: f64 = 0.5;
/// Onsets and regions that are listed in text.
const MOST_LISTED: usize = 12;

/// Format, levels and noise of recordings, what sounds when, and what is wrong with them
///
/// Reads each take once, or a span of it: levels with the true peak between samples, DC, clipping
/// at and below full scale, noise floor, bandwidth and signs of a lossy coder, mains hum, clicks
/// and dropouts, sounding regions and onsets. RMS levels are referred to a full-scale sine: such a
/// sine reads 0 dBFS both as peak and as RMS. A span of at most 0.5 s is also given the period
/// between the rising zero crossings in it. --figure draws the waveform and the level over time,
/// with clips, regions and onsets marked.
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
    #[arg(help_heading = "Figure")]
    amplitude: Amplitude,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    output: OutputArgs,
}

#[derive(Clone, Copy, ValueEnum)]
enum Amplitude {
    Linear,
    Db,
}

/// What was found in a take.
pub(crate) struct Found {
    inspection: Inspection,
    /// Waveforms, if a figure was asked for.
    envelopes: Vec<Envelope>,
    /// Whether the span is so short that its period was looked for.
    is_short: bool,
}

type Made<'a> = measure::Made<'a, Found>;

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
    #[serde(flatten)]
    inspection: &'a Inspection,
}

impl Measure for Inspect {
    const KIND: &'static str = "inspect";
    const DRAWS: Option<&'static str> = Some("one take");
    type Found = Found;

    fn common(&self) -> Common<'_> {
        Common {
            takes: &self.takes,
            source: &self.source,
            parts: Parts::AllChannels(&self.span),
            limits: &self.limits,
            figure: &self.figure,
            output: Cow::Borrowed(&self.output),
        }
    }

    fn measure(&self, part: &Part<'_>, quiet: bool) -> Result<(Found, Vec<Finding>)> {
        let (take, rate) = (part.take(), part.rate_hz());
        let channels = take.info.channels;
        let mut envelopes = Vec::new();
        if self.figure.figure.is_some() {
            let envelope = Envelope::new(part.span.len(), waveform_columns(self.figure.size));
            envelopes.resize(channels, envelope);
        }
        let is_short = part.span.len() as f64 <= LONGEST_WITH_PERIOD_S * rate;
        let mut samples = vec![Vec::new(); if is_short { channels } else { 0 }];
        let (mut inspection, findings) = look_at(take, part.span, quiet, |block| {
            for (envelope, samples) in envelopes.iter_mut().zip(block.channels()) {
                envelope.push(samples);
            }
            for (kept, samples) in samples.iter_mut().zip(block.channels()) {
                kept.extend_from_slice(samples);
            }
        })?;
        let start_s = part.start_s();
        let periods: Vec<_> =
            samples.par_iter().map(|samples| period(samples, rate, start_s)).collect();
        for (channel, period) in inspection.channels.iter_mut().zip(periods) {
            channel.period = period;
        }
        Ok((Found { inspection, envelopes, is_short }, findings))
    }

    fn settings(&self, _made: &Made<'_>) -> impl Serialize {
        Settings {}
    }

    fn result(&self, made: &Made<'_>) -> impl Serialize {
        let take = made.part.take();
        InspectResult {
            container: take.info.container,
            codec: &take.info.codec,
            lossy_codec: take.info.lossy_codec,
            sample_rate_hz: take.info.sample_rate_hz,
            bits_per_sample: take.info.bits_per_sample,
            duration_s: take.duration_s(),
            inspection: &made.found.inspection,
        }
    }

    fn quantities(&self, made: &Made<'_>) -> Vec<Quantity> {
        const DURATION: Label = Label::new("duration_s", "duration", Unit::Second, 3);
        const RATE: Label = Label::new("sample_rate_hz", "sample rate", Unit::Hertz, 0);
        const BITS: Label = Label::new("bits_per_sample", "bits of a sample", Unit::One, 0);
        let take = made.part.take();
        let bits = take.info.bits_per_sample.map(f64::from);
        let mut all = vec![
            Quantity::top(&DURATION, pair(Some(take.duration_s()), None)),
            Quantity::top(&RATE, pair(Some(take.info.sample_rate_hz), None)),
            Quantity::top(&BITS, pair(bits, None)),
        ];
        all.extend(made.found.inspection.quantities());
        all
    }

    fn text(&self, made: &[Made<'_>]) -> String {
        measure::each(made, as_text)
    }

    fn csv(&self, made: &[Made<'_>]) -> Result<String> {
        let rows = made.iter().flat_map(|one| {
            one.found.inspection.channels.iter().map(move |channel| (one, channel))
        });
        csv_table().csv(rows)
    }

    fn section(&self, made: &Made<'_>) -> Result<ReportPart> {
        let take = made.part.take();
        let mut facts = vec![
            ("Format".into(), format!("{} {}", take.info.container, take.info.codec)),
            ("Length".into(), format!("{} s", text::number(take.duration_s(), 3))),
            ("Sample rate".into(), format!("{} Hz", text::rate(take.info.sample_rate_hz))),
        ];
        if let Some(first) = made.found.inspection.channels.first() {
            let (pressure, levels) = (&first.pressure, &first.levels);
            let known = [
                ("Level", pressure.rms_db.or(levels.rms_dbfs), "dB"),
                ("Peak", levels.peak_dbfs, "dBFS"),
                ("Noise floor", pressure.noise_floor_db.or(first.noise_floor_dbfs), "dB"),
            ];
            facts.extend(known.into_iter().filter_map(|(name, value, unit)| {
                Some((name.to_string(), format!("{} {unit}", text::number(value?, 1))))
            }));
        }
        Ok(ReportPart { facts, ..ReportPart::default() })
    }

    fn draw(&self, made: &[Made<'_>]) -> Result<Figure> {
        let Made { part, found, findings } = &made[0];
        let Found { inspection, envelopes, .. } = found;
        let channels = inspection.channels.iter().zip(envelopes);
        let courses: Vec<ChannelCourse<'_>> = channels
            .map(|(channel, envelope)| ChannelCourse {
                name: &channel.name,
                envelope,
                clips: &channel.levels.clips,
            })
            .collect();
        let figure = WaveformFigure {
            title: &part.take().name(),
            channels: &courses,
            amplitude: match self.amplitude {
                Amplitude::Linear => AmplitudeScale::Linear,
                Amplitude::Db => AmplitudeScale::Db,
            },
            regions: &inspection.course.regions,
            onsets_s: &inspection.course.onsets_s,
            span_s: part.span_s(),
            sample_rate_hz: part.rate_hz(),
            notes: &[part.span_line()],
            findings,
        };
        Ok(waveform_figure(&figure, self.figure.size)?)
    }
}

fn as_text(made: &Made<'_>) -> String {
    let (take, found) = (made.part.take(), &made.found);
    let channels = &found.inspection.channels;
    let count = match channels.len() {
        1 => "1 channel".into(),
        count => format!("{count} channels"),
    };
    let part = if made.part.span.len() == take.frames {
        String::new()
    } else {
        format!("  {}\n", made.part.span_line())
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
    let findings = match text::findings(&made.findings) {
        none if none.is_empty() => "\n  nothing wrong was found\n".into(),
        some => format!("\n{some}"),
    };
    let times = course_lines(&found.inspection)
        + &correlation_line(&found.inspection)
        + &period_lines(found);
    let gap = if times.is_empty() { "" } else { "\n" };
    let all: Vec<&ChannelInspection> = channels.iter().collect();
    let calibrated: Vec<&ChannelInspection> =
        channels.iter().filter(|channel| channel.pressure.full_scale_db.is_some()).collect();
    let pressure = if calibrated.is_empty() {
        String::new()
    } else {
        format!("\n{}", pressure_table().text(&calibrated))
    };
    head + &channel_table().text(&all) + &pressure + gap + &times + &findings
}

fn channel_table<'t>() -> Table<'t, &'t ChannelInspection> {
    Table::new()
        .printed("channel\n", |channel: &&ChannelInspection| channel.name.clone())
        .number("", "peak\ndBFS", 2, |channel| channel.levels.peak_dbfs)
        .number("", "true peak\ndBFS", 2, |channel| channel.levels.true_peak_dbfs)
        .rank(2)
        .number("", "RMS\ndBFS", 2, |channel| channel.levels.rms_dbfs)
        .number("", "crest\ndB", 1, |channel| channel.levels.crest_db)
        .rank(3)
        .number("", "noise\ndBFS", 1, |channel| channel.noise_floor_dbfs)
        .number("", "range\ndB", 1, |channel| channel.dynamic_range_db)
        .rank(4)
        .number("", "bandwidth\nkHz", 1, |channel| channel.bandwidth_hz.map(|hz| hz / 1000.0))
        .number("", "DC\nfull scale", 6, |channel| Some(channel.levels.dc_offset))
        .rank(1)
        .count("", "clipped\nsamples", |channel| channel.levels.clipped_samples)
}

/// Levels of the channels that are calibrated.
fn pressure_table<'t>() -> Table<'t, &'t ChannelInspection> {
    Table::new()
        .printed("channel\n", |channel: &&ChannelInspection| channel.name.clone())
        .number("", "RMS\ndB re 20 µPa", 2, |channel| channel.pressure.rms_db)
        .number("", "loudest 50 ms\ndB re 20 µPa", 2, |channel| channel.pressure.loudest_db)
        .number("", "noise\ndB re 20 µPa", 1, |channel| channel.pressure.noise_floor_db)
        .number("", "full scale\ndB re 20 µPa", 2, |channel| channel.pressure.full_scale_db)
}

fn csv_table<'t>() -> Table<'t, (&'t Made<'t>, &'t ChannelInspection)> {
    Table::new()
        .words("take", "", |row: &(&Made<'_>, &ChannelInspection)| row.0.part.take().exact_path())
        .words("channel", "", |row| row.1.name.clone())
        .words("container", "", |row| row.0.part.take().info.container.into())
        .words("codec", "", |row| row.0.part.take().info.codec.clone())
        .number("sample_rate_hz", "", 0, |row| Some(row.0.part.rate_hz()))
        .number("duration_s", "", 0, |row| Some(row.0.part.take().duration_s()))
        .number("peak_dbfs", "", 0, |row| row.1.levels.peak_dbfs)
        .number("true_peak_dbfs", "", 0, |row| row.1.levels.true_peak_dbfs)
        .number("rms_dbfs", "", 0, |row| row.1.levels.rms_dbfs)
        .number("rms_db", "", 0, |row| row.1.pressure.rms_db)
        .number("crest_db", "", 0, |row| row.1.levels.crest_db)
        // Samples near the largest that a float holds have no sum.
        .number("dc_offset", "", 0, |row| Some(row.1.levels.dc_offset))
        .number("noise_floor_dbfs", "", 0, |row| row.1.noise_floor_dbfs)
        .number("dynamic_range_db", "", 0, |row| row.1.dynamic_range_db)
        .number("bandwidth_hz", "", 0, |row| row.1.bandwidth_hz)
        .number("hum_dbfs", "", 0, |row| row.1.hum.as_ref().map(|hum| hum.level_dbfs))
        .count("clipped_samples", "", |row| row.1.levels.clipped_samples)
        .count("clicks", "", |row| row.1.faults.click_count)
        .count("dropouts", "", |row| row.1.faults.dropout_count)
        .count("regions", "", |row| row.0.found.inspection.course.regions.len() as u64)
        .count("onsets", "", |row| row.0.found.inspection.course.onsets_s.len() as u64)
        .words("findings", "", |row| {
            let codes: Vec<&str> =
                row.0.findings.iter().map(|finding| finding.code.as_ref()).collect();
            codes.join(" ")
        })
}

/// When something sounds, and when it begins.
fn course_lines(inspection: &Inspection) -> String {
    let course = &inspection.course;
    // In a span of a few periods the noise cannot be separated from the sound.
    if inspection.channels.iter().all(|channel| channel.noise_floor_dbfs.is_none()) {
        return String::new();
    }
    if course.regions.is_empty() {
        return "  nothing rises above the noise\n".into();
    }
    let regions = course
        .regions
        .iter()
        .map(|r| format!("{} to {} s", text::number(r.start_s, 3), text::number(r.end_s, 3)));
    let onsets = course.onsets_s.iter().map(|time_s| format!("{} s", text::number(*time_s, 3)));
    let end = match course.died_s {
        Some(time_s) => format!("  died into the noise at {} s\n", text::number(time_s, 3)),
        None => "  still sounding at the end\n".into(),
    };
    text::listed("sounding", regions, MOST_LISTED)
        + &text::listed("onsets", onsets, MOST_LISTED)
        + &end
}

fn correlation_line(inspection: &Inspection) -> String {
    let pairs = inspection.relations.iter().zip(inspection.channels.windows(2));
    let pairs: Vec<String> = pairs
        .map(|(relation, pair)| {
            format!(
                "{} and {}: {}",
                pair[0].name,
                pair[1].name,
                text::known(relation.correlation(), 3)
            )
        })
        .collect();
    if pairs.is_empty() {
        return String::new();
    }
    text::listed("correlation of channels", pairs.into_iter(), MOST_LISTED)
}

/// The period in a short span.
fn period_lines(found: &Found) -> String {
    let channels = &found.inspection.channels;
    let lines = channels.iter().filter(|_| found.is_short).map(|channel| {
        let period = channel.period;
        let channel = match channels.len() {
            1 => String::new(),
            _ => format!(" of channel {}", channel.name),
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
