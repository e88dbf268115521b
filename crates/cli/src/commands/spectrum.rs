//! `spectrum`: the averaged spectrum of a span and the tones in it.

use std::path::PathBuf;

use anyhow::Result;
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::frame::FrameFigures;
use tonemap_core::spectrum::{
    Curve, Method, Peak, Spectrum as Measured, SpectrumPass, SpectrumSettings,
};
use tonemap_core::units::{Frequency, FrequencyRange, LevelReference};
use tonemap_figures::{FrequencyScale, SpectrumFigure, spectrum_figure};

use crate::args::{FigureArgs, Format, FrameArgs, OutputArgs, PartArgs, SourceArgs};
use crate::output::{self, Status, Usage};
use crate::studies;
use crate::take::{Part, Take};
use crate::text;

/// Averaged spectrum of a span, and the tones in it with their uncertainty
///
/// Says what frames it uses: longer ones tell closer tones apart. Tones are found against the local
/// noise floor, then fitted over the whole span. A tone that is steady is read 'from span', as
/// accurately as noise allows; one that decays, glides or beats is read 'from frames', and its level
/// is an average.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Spectrum {
    /// Recording, its name in the study, or - for standard input
    #[arg(value_name = "TAKE", required_unless_present = "conditions")]
    take: Option<PathBuf>,
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    part: PartArgs,
    #[command(flatten)]
    frames: FrameArgs,
    #[command(flatten)]
    result: ResultArgs,
    #[command(flatten)]
    figure: FigureArgs,
    /// Frequency scale of the figure
    #[arg(long, value_enum, value_name = "SCALE", default_value_t = Axis::Log, help_heading = "Figure")]
    axis: Axis,
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap spectrum harp-g3.wav --from 0.1 --figure harp-g3.png
      the tones of a note without its attack, as a table and a picture
  tonemap spectrum bell.wav --resolve 0.5Hz --range 510Hz..530Hz --axis linear --figure pair.svg
      a close look at one partial
  tonemap spectrum flute.wav --peaks 1 --format json
      the strongest tone, for a program";

#[derive(Args, Clone)]
#[command(next_help_heading = "Result")]
struct ResultArgs {
    /// Range of frequencies: 50Hz..8kHz, G3..C6, ..2kHz [default: all]
    #[arg(long, value_name = "LOW..HIGH")]
    range: Option<FrequencyRange>,
    /// Report at most this many peaks, the strongest
    #[arg(long, value_name = "NUMBER", default_value_t = 12)]
    peaks: usize,
    /// Give the whole curve too (JSON), or instead of the peaks (CSV)
    #[arg(long)]
    curve: bool,
    /// Frequency of A4, from which notes and cents are counted [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Frequency>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Axis {
    /// Equal intervals take equal space
    Log,
    /// Equal differences take equal space
    Linear,
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    #[serde(flatten)]
    frames: FrameFigures,
    range_hz: (f64, f64),
    peaks: usize,
    reference_hz: f64,
    false_alarm: f64,
}

/// `result` in JSON.
#[derive(Serialize)]
struct SpectrumResult<'a> {
    #[serde(flatten)]
    measured: &'a Measured,
    /// Time in seconds from the start of the take to which phases refer.
    phase_instant_s: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    curve: Option<Curve>,
}

/// A row of the curve in CSV.
#[derive(Serialize)]
struct CurveRow {
    frequency_hz: f64,
    level_db: Option<f64>,
}

impl Spectrum {
    pub(crate) fn run(&self) -> Result<Status> {
        output::start_log(&self.output);
        self.check_outputs()?;
        let named = studies::find_take(self.take.as_ref(), &self.source)?;
        let mut take = Take::open(named, &self.source)?;
        let rate = take.info.sample_rate_hz;
        let settings = self.settings(rate, take.reference_hz())?;
        let part = take.part(&self.part)?;
        let (measured, frames, findings) = measure(&part, &settings, self.output.quiet, true)?;
        let content = match self.output.format {
            Format::Text => Self::as_text(&part, &measured, &frames, &findings),
            Format::Json => self.as_json(&part, &measured, frames.clone(), &settings, &findings)?,
            Format::Csv if self.result.curve => {
                let Curve { frequency_hz, level_db } = measured.curve();
                let rows = frequency_hz.into_iter().zip(level_db);
                output::csv_table(
                    rows.map(|(frequency_hz, level_db)| CurveRow { frequency_hz, level_db }),
                )?
            }
            Format::Csv => output::csv_table(&measured.peaks)?,
        };
        output::print_notes(&self.output, &findings);
        if let Some(file) = &self.figure.figure {
            let figure = SpectrumFigure {
                spectrum: &measured,
                title: &take_title(&part),
                notes: &[
                    format!("{}, {}", window_line(&measured), average_line(&measured, &frames)),
                    part.take().span_line(part.span),
                ],
                findings: &findings,
                reference_hz: settings.reference_hz,
                scale: match self.axis {
                    Axis::Log => FrequencyScale::Logarithmic,
                    Axis::Linear => FrequencyScale::Linear,
                },
            };
            let figure = spectrum_figure(&figure, self.figure.size)?;
            output::write_figure(file, &figure, self.output.force)?;
        }
        output::write_result(&self.output, &content)?;
        Ok(Status::Done)
    }

    /// Finds out before the work what would stop it at the end.
    fn check_outputs(&self) -> Result<()> {
        output::check_outputs(&self.figure, &self.output)?;
        if self.result.curve && self.output.format == Format::Text {
            return Err(Usage(
                "--curve gives numbers for programs; add --format json or --format csv".into(),
            )
            .into());
        }
        Ok(())
    }

    fn settings(&self, sample_rate_hz: f64, usual_hz: f64) -> Result<SpectrumSettings> {
        // The reference itself may be typed as a note, which is then that of the usual A4.
        let reference_hz = self.result.reference.map_or(usual_hz, |f| f.hz(usual_hz));
        let range = self.result.range.unwrap_or_default();
        Ok(SpectrumSettings {
            frames: self.frames.settings(reference_hz),
            range_hz: Some(range.hz(reference_hz, sample_rate_hz)?),
            peaks: self.result.peaks,
            reference_hz,
            ..SpectrumSettings::default()
        })
    }

    fn as_text(
        part: &Part<'_>,
        measured: &Measured,
        frames: &FrameFigures,
        findings: &[Finding],
    ) -> String {
        let head = format!("{}\n  {}\n\n", take_title(part), part.take().span_line(part.span));
        let table = if measured.peaks.is_empty() {
            "  no tone stands out of the noise\n".into()
        } else {
            peak_table(&measured.peaks)
        };
        let weaker = match measured.weaker_peaks {
            0 => String::new(),
            count => {
                format!("\n  {count} weaker peaks are not listed; ask for more with --peaks\n")
            }
        };
        let floor = measured.noise_floor_db.map_or(String::new(), |db| {
            format!(", noise floor {} dB in a bin", text::number(db, 1))
        });
        let settings = format!(
            "\n  {}\n  {}{floor}\n{}",
            window_line(measured),
            average_line(measured, frames),
            reference_line(measured)
        );
        let findings = match text::findings(findings) {
            none if none.is_empty() => none,
            some => format!("\n{some}"),
        };
        head + &table + &weaker + &settings + &findings
    }

    fn as_json(
        &self,
        part: &Part<'_>,
        measured: &Measured,
        frames: FrameFigures,
        settings: &SpectrumSettings,
        findings: &[Finding],
    ) -> Result<String> {
        let take = part.take();
        let settings = Settings {
            frames,
            range_hz: measured.range_hz,
            peaks: settings.peaks,
            reference_hz: settings.reference_hz,
            false_alarm: settings.false_alarm,
        };
        let result = SpectrumResult {
            measured,
            phase_instant_s: part.span.start as f64 / take.info.sample_rate_hz,
            curve: self.result.curve.then(|| measured.curve()),
        };
        let record = take.record(part.span, Some(part.channel_name()))?;
        output::json_line("spectrum", record, settings, result, findings)
    }
}

/// Measures the spectrum of a part; in dB re 20 µPa if it is calibrated and `in_pressure`.
pub(super) fn measure(
    part: &Part<'_>,
    settings: &SpectrumSettings,
    quiet: bool,
    in_pressure: bool,
) -> Result<(Measured, FrameFigures, Vec<Finding>)> {
    let rate = part.take().info.sample_rate_hz;
    let mut spectrum_pass = SpectrumPass::new(settings, rate, part.span.len())?;
    let frames = spectrum_pass.plan().figures(rate);
    let mut meter = part.take().level_meter(part.span);
    let mut findings = part.take().findings.clone();
    let [one_half, other_half] = spectrum_pass.halves();
    findings.extend(part.read_in_two(
        "spectrum",
        quiet,
        |samples| {
            meter.push(samples);
            one_half.push(samples);
        },
        |samples| other_half.push(samples),
    )?);
    let mut tone_pass = spectrum_pass.finish();
    if tone_pass.needs_samples() {
        part.read("tones", quiet, |samples| tone_pass.push(samples))?;
    }
    let measured = tone_pass.finish();
    let measured = match part.full_scale_db().filter(|_| in_pressure) {
        Some(level) => measured.calibrated(level),
        None => measured,
    };
    findings.extend(meter.finish().findings(&part.channel_name()));
    findings.extend(measured.findings.iter().cloned());
    Ok((measured, frames, findings))
}

fn peak_table(peaks: &[Peak]) -> String {
    let row = |peak: &Peak| {
        let [frequency, frequency_u] = text::measured(peak.frequency_hz, peak.frequency_hz_u, 6);
        let [level, level_u] = text::measured(peak.level_db, peak.level_db_u, 4);
        let [cents, cents_u] = text::measured(peak.cents, peak.cents_u, 4);
        let [phase, phase_u] = match (peak.phase_rad, peak.phase_rad_u) {
            (Some(phase), Some(u)) => text::measured(phase, u, 4),
            _ => ["–".into(), "–".into()],
        };
        let from = match peak.method {
            Method::Span => "span",
            Method::Frames => "frames",
        };
        let note = peak.note.to_string();
        let cents = if cents.starts_with('−') { cents } else { format!("+{cents}") };
        vec![
            frequency,
            frequency_u,
            level,
            level_u,
            phase,
            phase_u,
            note,
            cents,
            cents_u,
            from.into(),
        ]
    };
    let titles = [
        "frequency Hz",
        "± u",
        "level dB",
        "± u",
        "phase rad",
        "± u",
        "note",
        "cents",
        "± u",
        "from",
    ];
    text::table(&titles, &[6, 9], peaks.iter().map(row).collect())
}

/// Name of the take, and of the channel where there are several.
fn take_title(part: &Part<'_>) -> String {
    let take = part.take();
    match take.info.channels {
        1 => take.name(),
        _ => format!("{}, channel {}", take.name(), part.channel_name()),
    }
}

/// Which window, and what it can tell apart.
fn window_line(measured: &Measured) -> String {
    format!(
        "{} window of {} ms, resolution {} Hz",
        measured.window,
        text::number(1000.0 * measured.window_s, 1),
        text::number(measured.resolution_hz, 2),
    )
}

/// What levels refer to, if it is not full scale.
fn reference_line(measured: &Measured) -> String {
    match measured.reference {
        LevelReference::FullScale => String::new(),
        LevelReference::Pressure { full_scale_db } => {
            let level = text::number(full_scale_db, 2);
            format!("  levels in dB re 20 µPa; a full-scale sine has {level} dB\n")
        }
    }
}

/// How many frames, and how fine the curve is.
fn average_line(measured: &Measured, frames: &FrameFigures) -> String {
    let averaged = match measured.averaged_frames {
        1 => "1 frame".into(),
        count => {
            let overlap = text::number(100.0 * frames.overlap, 0);
            format!("{} frames averaged, {overlap} % overlap", text::grouped(count))
        }
    };
    format!("{averaged}, bins of {} Hz", text::number(measured.bin_spacing_hz, 3))
}
