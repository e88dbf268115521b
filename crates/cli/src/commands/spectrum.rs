//! `spectrum`: the averaged spectrum of a span and the tones in it.

use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::frame::FrameFigures;
use tonemap_core::spectrum::{
    Averaging, Cumulative, Curve, CurveSettings, Detrend, Difference, Family, Method, Peak,
    ResponseCurve, Scaling, Spectrum as Measured, SpectrumPass, SpectrumSettings, Zoom, ZoomPass,
};
use tonemap_core::units::{
    Cents, Decibels, Extent, Frequency, FrequencyRange, LevelReference, Note, Octaves,
    cents_between, db_from_power,
};
use tonemap_core::window::Window;
use tonemap_figures::{
    DrawnLook, DrawnSpectrum, Figure, LevelAxis, NarrowFigure, SpectrumFigure, narrow_figure,
    spectrum_figure,
};

use crate::args::{self, Axis, FigureArgs, Format, FrameArgs, OutputArgs, TakesArgs};
use crate::arrays::{self, Arrays};
use crate::files::{self, Content};
use crate::output::{self, Status, Usage};
use crate::take::{self, Part, share_reference};
use crate::text;

/// Averaged spectrum of a span, and the tones in it with their uncertainty
///
/// Says what frames it uses: longer ones tell closer tones apart. Tones are found against the local
/// noise floor, then fitted over the whole span. A tone that is steady is read 'from span', as
/// accurately as noise allows; one that decays, glides or beats is read 'from frames', and its level
/// is an average. Tones on one harmonic series are told with its fundamental, so that the strongest
/// line is not mistaken for the pitch. Several takes or channels stand in one table and one figure.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Spectrum {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    frames: FrameArgs,
    #[command(flatten)]
    average: AverageArgs,
    #[command(flatten)]
    result: ResultArgs,
    #[command(flatten)]
    narrow: NarrowArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    look: LookArgs,
    #[command(flatten)]
    output: OutputArgs,
    /// Write the curve and the tones as arrays too: FILE.npz
    #[arg(long, value_name = "FILE", help_heading = "Output")]
    data: Option<PathBuf>,
}

const EXAMPLES: &str = "Examples:
  tonemap spectrum harp-g3.wav --from 0.1 --figure harp-g3.png
      the tones of a note without its attack, as a table and a picture
  tonemap spectrum harp-g3a.wav harp-g3b.wav --around G3 --cents 30 --figure pair.png
      how far two strings lie from G3, and from each other
  tonemap spectrum bell.wav --resolve 0.5Hz --range 510Hz..530Hz --axis linear --differences 2
      a close look at one partial, and how fast it beats
  tonemap spectrum fan.wav --average median --scaling density --smooth 1/12 --curve --format csv
      the noise of a fan, whatever knocks beside it, as numbers
  tonemap spectrum flute.wav --peaks 1 --format json
      the strongest tone, for a program";

#[derive(Args, Clone)]
#[command(next_help_heading = "Average")]
struct AverageArgs {
    /// How frames become one spectrum: mean, median (clicks do not move it), maximum, or
    /// exponential:TIME
    #[arg(long, value_name = "KIND", default_value_t = Averaging::Mean)]
    average: Averaging,
    /// What is taken from each frame first
    #[arg(long, value_enum, value_name = "WHAT", default_value_t = Trend::None)]
    detrend: Trend,
    /// Add the levels in a file to the spectrum, such as a pre-emphasis: lines of frequency in Hz,
    /// level in dB
    #[arg(long, value_name = "FILE")]
    emphasis: Option<PathBuf>,
    /// Take the levels in a file out of the spectrum: the response of a microphone
    #[arg(long, value_name = "FILE")]
    response: Option<PathBuf>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Trend {
    /// Nothing
    None,
    /// Its mean
    Mean,
    /// The straight line that fits it best
    Line,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Result")]
struct ResultArgs {
    /// Range of frequencies: 50Hz..8kHz, G3..C6, ..2kHz [default: all]
    #[arg(long, value_name = "LOW..HIGH")]
    range: Option<FrequencyRange>,
    /// Report at most this many peaks, the strongest
    #[arg(long, value_name = "NUMBER", default_value_t = 12)]
    peaks: usize,
    /// Leave out peaks below this level, beside those that noise explains
    #[arg(long, value_name = "LEVEL", allow_hyphen_values = true)]
    threshold: Option<Decibels>,
    /// Order of the peaks
    #[arg(long, value_enum, value_name = "BY", default_value_t = Order::Frequency)]
    sort: Order,
    /// Give the differences of this many of the strongest tones: how fast they may beat
    #[arg(long, value_name = "NUMBER", default_value_t = 0, hide_default_value = true)]
    differences: usize,
    /// What the values of the curve are; levels of tones stay those of their amplitudes
    #[arg(long, value_enum, value_name = "WHAT")]
    scaling: Option<Scale>,
    /// Unit of the signal [default: pascal if all channels are calibrated, else full-scale]
    #[arg(long, value_enum, value_name = "UNIT")]
    unit: Option<Unit>,
    /// Average the power of the curve over this part of an octave: 1/3, 1/12
    #[arg(long, value_name = "OCTAVES")]
    smooth: Option<Octaves>,
    /// Give the whole curve too (JSON), or instead of the peaks (CSV)
    #[arg(long)]
    curve: bool,
    /// Frequency of A4, from which notes and cents are counted [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Frequency>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Order {
    /// Lowest first
    Frequency,
    /// Strongest first
    Level,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Scale {
    /// Peak amplitude of a sine
    Amplitude,
    /// Its root mean square
    Rms,
    /// Its mean square
    Power,
    /// Mean square per hertz, for noise
    Density,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Unit {
    /// Re full scale
    FullScale,
    /// Sound pressure, by the calibration in the study
    Pascal,
    /// Voltage, by the full-scale voltage in the study
    Volt,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Narrow look")]
struct NarrowArgs {
    /// Look closely around a frequency or note, and say how far the tones there lie from it
    #[arg(long, value_name = "FREQUENCY", conflicts_with = "range")]
    around: Option<Frequency>,
    /// How far to either side [default: 50]
    #[arg(long, value_name = "CENTS", requires = "around")]
    cents: Option<Cents>,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Figure")]
struct LookArgs {
    /// Frequency scale of the figure
    #[arg(long, value_enum, value_name = "SCALE", default_value_t = Axis::Log)]
    axis: Axis,
    /// Level scale of the figure
    #[arg(long, value_enum, value_name = "SCALE", default_value_t = Amplitude::Db)]
    amplitude: Amplitude,
    /// Draw the power added up over frequency, too
    #[arg(long, requires = "figure")]
    cumulative: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Amplitude {
    /// Levels in dB
    Db,
    /// Values, from 0
    Linear,
}

/// Half the width of a narrow look, unless asked for, in cents.
const USUAL_CENTS: f64 = 50.0;
/// How many times finer than its range a narrow look resolves, unless asked for.
const NARROW_FINENESS: f64 = 40.0;
/// Its longest frame in samples, unless asked for.
const NARROW_SAMPLES: u64 = 1 << 19;
/// Points of its curve.
const NARROW_POINTS: usize = 1201;

/// What is measured in one channel of one take.
struct Reading<'a> {
    part: Part<'a>,
    settings: SpectrumSettings,
    spectrum: Measured,
    frames: FrameFigures,
    look: Option<Look>,
    findings: Vec<Finding>,
}

/// A narrow look, as asked for.
#[derive(Debug, Clone)]
struct Look {
    expected_hz: f64,
    note: Option<Note>,
    cents: f64,
    zoom: Zoom,
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: &'static str,
    #[serde(flatten)]
    frames: FrameFigures,
    average: Averaging,
    detrend: Detrend,
    emphasis: Option<String>,
    response: Option<String>,
    range_hz: (f64, f64),
    peaks: usize,
    threshold_db: Option<f64>,
    smoothing_octaves: Option<f64>,
    reference_hz: f64,
    false_alarm: f64,
}

/// `result` in JSON.
#[derive(Serialize)]
struct SpectrumResult<'a> {
    #[serde(flatten)]
    measured: &'a Measured,
    /// What the values of the curve are, and what levels refer to.
    scaling: String,
    /// Unit of the values.
    unit: String,
    /// Time in seconds from the start of the take to which phases refer.
    phase_instant_s: f64,
    #[serde(flatten)]
    cumulative: Option<Cumulative>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    differences: Vec<Difference>,
    #[serde(skip_serializing_if = "Option::is_none")]
    around: Option<AroundResult>,
    #[serde(skip_serializing_if = "Option::is_none")]
    curve: Option<Curve>,
}

/// The narrow look in JSON.
#[derive(Serialize)]
struct AroundResult {
    expected_hz: f64,
    reach_cents: f64,
    /// The tones there, the strongest first.
    tones: Vec<AroundTone>,
    #[serde(skip_serializing_if = "Option::is_none")]
    curve: Option<AroundCurve>,
}

/// A tone by its distance from what was expected.
#[derive(Serialize)]
struct AroundTone {
    frequency_hz: f64,
    frequency_hz_u: f64,
    level_db: f64,
    cents_from_expected: f64,
    cents_from_expected_u: f64,
}

#[derive(Serialize)]
struct AroundCurve {
    frequency_hz: Vec<f64>,
    cents_from_expected: Vec<f64>,
    level_db: Vec<Option<f64>>,
}

/// The first columns of every CSV table.
#[derive(Serialize, Clone)]
struct RowHead {
    take: String,
    channel: String,
}

/// The last column.
#[derive(Serialize, Clone)]
struct RowEnd {
    level_reference: &'static str,
}

/// A row of the curve in CSV.
#[derive(Serialize)]
struct CurveRow {
    frequency_hz: f64,
    level_db: Option<f64>,
    value: f64,
    low_db: Option<f64>,
    high_db: Option<f64>,
    cumulative_share: f64,
}

/// A row of the curve of a narrow look in CSV.
#[derive(Serialize)]
struct AroundRow {
    frequency_hz: f64,
    cents_from_expected: f64,
    level_db: Option<f64>,
}

impl Spectrum {
    pub(crate) fn run(&self) -> Result<Status> {
        output::start_log(&self.output);
        self.check()?;
        let (mut takes, mut status) = take::open_named(&self.takes)?;
        let mut parts = take::parts_of(&mut takes, &self.takes.part, &mut status)?;
        let mixed = self.refer(&mut parts)?;
        let curves = [
            self.average.emphasis.as_deref().map(read_curve).transpose()?,
            self.average.response.as_deref().map(read_curve).transpose()?.map(|c| c.inverse()),
        ];
        let quiet = self.output.quiet;
        let quiet_each = quiet || parts.len() > 1;
        let mut readings = take::each_part(parts, "spectrum", quiet, &mut status, |part| {
            self.reading(part, curves.iter().flatten(), quiet_each)
        })?;
        if readings.is_empty() {
            return Ok(status);
        }
        for reading in &mut readings {
            reading.findings.extend(mixed.clone());
        }
        let content = match self.output.format {
            Format::Text => self.as_text(&readings),
            Format::Json => {
                readings.iter().map(|reading| self.as_json(reading)).collect::<Result<String>>()?
            }
            Format::Csv => self.as_csv(&readings)?,
        };
        let several = readings.len() > 1;
        let named = |one: &Reading<'_>| one.part.named_findings(&one.findings, several);
        output::print_notes(&self.output, &readings.iter().flat_map(named).collect::<Vec<_>>());
        if let Some(file) = &self.data {
            arrays::write_npz(file, &self.arrays(&readings), self.output.force)?;
        }
        if let Some(file) = &self.figure.figure {
            output::write_figure(file, &self.draw(&readings)?, self.output.force)?;
        }
        output::write_result(&self.output, &content)?;
        Ok(status)
    }

    /// Finds out before the work what would stop it at the end.
    fn check(&self) -> Result<()> {
        output::check_outputs(&self.figure, &self.output)?;
        self.curve_settings(0).check()?;
        if let Some(file) = &self.data {
            arrays::check_name(file)?;
            files::claim(file, Content::Result, self.output.force)?;
        }
        if self.result.curve && self.output.format == Format::Text {
            return Err(Usage(
                "--curve gives numbers for programs; add --format json or --format csv".into(),
            )
            .into());
        }
        match self.narrow.cents {
            Some(Cents(cents)) if !(1.0..=2400.0).contains(&cents) => {
                Err(tonemap_core::Error::Setting {
                    setting: "the reach of the narrow look",
                    given: format!("{cents} cents"),
                    allowed: "1 to 2400 cents".into(),
                }
                .into())
            }
            _ => Ok(()),
        }
    }

    fn scaling(&self) -> Scaling {
        match self.result.scaling {
            None | Some(Scale::Amplitude) => Scaling::Amplitude,
            Some(Scale::Rms) => Scaling::Rms,
            Some(Scale::Power) => Scaling::Power,
            Some(Scale::Density) => Scaling::Density,
        }
    }

    fn curve_settings(&self, margin: usize) -> CurveSettings {
        CurveSettings {
            scaling: self.scaling(),
            smoothing_octaves: self.result.smooth.map(|octaves| octaves.0),
            margin,
        }
    }

    /// Lets the levels of all parts refer to the unit asked for, else to the same.
    fn refer(&self, parts: &mut [Part<'_>]) -> Result<Option<Finding>> {
        let refuse = |part: &Part<'_>, lacks: &str| -> anyhow::Error {
            Usage(format!(
                "{}: the channel has no {lacks}; set it with 'tonemap study calibrate', or leave \
                 --unit away",
                part.title()
            ))
            .into()
        };
        let Some(unit) = self.result.unit else { return Ok(share_reference(parts)) };
        for part in parts {
            part.reference = match unit {
                Unit::FullScale => LevelReference::FullScale,
                Unit::Pascal => {
                    let full_scale_db = part.full_scale_db();
                    let full_scale_db = full_scale_db.ok_or_else(|| refuse(part, "calibration"))?;
                    LevelReference::Pressure { full_scale_db }
                }
                Unit::Volt => {
                    let full_scale_v = part.full_scale_v();
                    let full_scale_v =
                        full_scale_v.ok_or_else(|| refuse(part, "full-scale voltage"))?;
                    LevelReference::Voltage { full_scale_v }
                }
            };
        }
        Ok(None)
    }

    fn settings(&self, part: &Part<'_>) -> Result<SpectrumSettings> {
        let reference = part.reference;
        let rate = part.take().info.sample_rate_hz;
        let usual_hz = part.take().reference_hz();
        // The reference itself may be typed as a note, which is then that of the usual A4.
        let reference_hz = args::reference_hz(self.result.reference, usual_hz)?;
        let mut frames = self.frames.settings(reference_hz);
        let range = match self.narrow.around {
            None => self.result.range.unwrap_or_default().hz(reference_hz, rate)?,
            Some(expected) => {
                let expected_hz = expected.hz(reference_hz);
                let reach = (self.cents() / 1200.0).exp2();
                let (low, high) = (expected_hz / reach, expected_hz * reach);
                let ends = [low, high].map(|hz| Some(Frequency::Hertz(hz)));
                let range =
                    FrequencyRange { low: ends[0], high: ends[1] }.hz(reference_hz, rate)?;
                if frames.segment.is_none() && frames.resolution_hz.is_none() {
                    let width = Window::new(frames.window, 4096)?.figures().width_6db_bins;
                    let wanted = width * rate * NARROW_FINENESS / (high - low);
                    let longest = NARROW_SAMPLES.min(part.span.len());
                    frames.segment = Some(Extent::Samples((wanted as usize).min(longest as usize)));
                }
                range
            }
        };
        Ok(SpectrumSettings {
            frames,
            range_hz: Some(range),
            peaks: self.result.peaks,
            reference_hz,
            threshold_db: self.result.threshold.map(|level| level.0 - reference.full_scale_db()),
            averaging: self.average.average,
            detrend: match self.average.detrend {
                Trend::None => Detrend::None,
                Trend::Mean => Detrend::Mean,
                Trend::Line => Detrend::Line,
            },
            ..SpectrumSettings::default()
        })
    }

    fn cents(&self) -> f64 {
        self.narrow.cents.map_or(USUAL_CENTS, |cents| cents.0)
    }

    fn reading<'a, 'c>(
        &self,
        part: Part<'a>,
        curves: impl Iterator<Item = &'c ResponseCurve>,
        quiet: bool,
    ) -> Result<Reading<'a>> {
        let settings = self.settings(&part)?;
        let expected_hz = self.narrow.around.map(|expected| expected.hz(settings.reference_hz));
        let points = if expected_hz.is_some() { NARROW_POINTS } else { 0 };
        let (mut spectrum, frames, zoom, mut findings) = measure(&part, &settings, quiet, points)?;
        for curve in curves {
            spectrum = spectrum.with_response(curve);
        }
        spectrum = spectrum.calibrated(part.reference);
        findings.append(&mut spectrum.findings);
        let rate = part.take().info.sample_rate_hz;
        findings.extend(self.result.range.and_then(|r| r.cut(settings.reference_hz, rate)));
        if self.result.sort == Order::Level {
            spectrum.peaks.sort_by(|a, b| b.level_db.total_cmp(&a.level_db));
        }
        let look = expected_hz.zip(zoom).map(|(expected_hz, zoom)| Look {
            expected_hz,
            note: match self.narrow.around {
                Some(Frequency::Note(note)) => Some(note),
                _ => None,
            },
            cents: self.cents(),
            zoom,
        });
        Ok(Reading { part, settings, spectrum, frames, look, findings })
    }

    fn as_text(&self, readings: &[Reading<'_>]) -> String {
        let head = readings.iter().map(|reading| {
            let span = reading.part.take().span_line(reading.part.span);
            format!("{}\n  {span}\n", reading.part.title())
        });
        let table = if readings.iter().all(|reading| reading.spectrum.peaks.is_empty()) {
            "\n  no tone stands out of the noise\n".into()
        } else {
            format!("\n{}", self.peak_table(readings))
        };
        let tail = readings.iter().map(|reading| {
            let name = match readings.len() {
                1 => "\n".into(),
                _ => format!("\n{}\n", reading.part.title()),
            };
            let findings = text::findings_below(&reading.findings);
            name + &self.about(reading) + &self.settings_lines(reading) + &findings
        });
        head.chain([table]).chain(tail).collect()
    }

    fn peak_table(&self, readings: &[Reading<'_>]) -> String {
        let several = readings.len() > 1;
        let families = readings.iter().any(|reading| !reading.spectrum.families.is_empty());
        let values = self.result.scaling.is_some() && self.scaling() != Scaling::Density;
        let unit = readings[0].spectrum.unit(self.scaling());
        let value_title = format!("{} {unit}", self.scaling().words());
        let mut titles = vec![
            "frequency Hz",
            "± u",
            "level dB",
            "± u",
            "phase rad",
            "± u",
            "note",
            "cents",
            "± u",
        ];
        let mut left = vec![6];
        if values {
            titles.insert(4, &value_title);
            left = vec![7];
        }
        if families {
            titles.push("harmonic");
        }
        titles.push("from");
        left.push(titles.len() - 1);
        if several {
            titles.insert(0, "take");
            left = left.iter().map(|column| column + 1).chain([0]).collect();
        }
        let mut rows = Vec::new();
        for reading in readings {
            for (n, peak) in reading.spectrum.peaks.iter().enumerate() {
                let mut row = peak_row(peak);
                if values {
                    let amplitude = peak.amplitude * reading.spectrum.reference.per_full_scale();
                    let value = self.scaling().of_tone(amplitude);
                    row.insert(4, value.map_or("–".into(), text::significant));
                }
                if families {
                    row.push(peak.harmonic.map_or("–".into(), |number| number.to_string()));
                }
                row.push(match peak.method {
                    Method::Span => "span".into(),
                    Method::Frames => "frames".into(),
                });
                if several {
                    row.insert(0, if n == 0 { reading.part.title() } else { String::new() });
                }
                rows.push(row);
            }
        }
        text::table(&titles, &left, rows)
    }

    /// What is to be said of the tones of one reading.
    fn about(&self, reading: &Reading<'_>) -> String {
        let spectrum = &reading.spectrum;
        let weaker = match spectrum.weaker_peaks {
            0 => String::new(),
            count => format!("  {count} weaker peaks are not listed; ask for more with --peaks\n"),
        };
        let families: String = spectrum.families.iter().map(family_line).collect();
        let power = match (&reading.look, spectrum.cumulative()) {
            (Some(look), _) => look_line(look, spectrum),
            (None, Some(marks)) => power_line(marks),
            (None, None) => String::new(),
        };
        let differences = match spectrum.differences(self.result.differences).as_slice() {
            [] => String::new(),
            pairs => format!("\n{}\n", difference_table(pairs)),
        };
        weaker + &families + &power + &differences
    }

    fn settings_lines(&self, reading: &Reading<'_>) -> String {
        let Reading { spectrum, frames, .. } = reading;
        let floor = match (spectrum.noise_floor_db, self.scaling()) {
            (Some(db), Scaling::Density) => {
                let density = db - db_from_power(spectrum.noise_bandwidth_hz);
                format!(", noise floor {} dB per Hz", text::number(density, 1))
            }
            (Some(db), _) => format!(", noise floor {} dB in a bin", text::number(db, 1)),
            (None, _) => String::new(),
        };
        format!(
            "  {}\n  {}{floor}\n{}{}",
            window_line(reading),
            average_line(spectrum, frames),
            confidence_line(spectrum),
            self.reference_line(spectrum)
        )
    }

    /// What levels and values refer to, if it is not the amplitude re full scale.
    fn reference_line(&self, spectrum: &Measured) -> String {
        let level = || text::number(spectrum.reference.full_scale_db(), 2);
        let levels = match spectrum.reference {
            LevelReference::FullScale => String::new(),
            LevelReference::Pressure { .. } => {
                format!("  levels in dB re 20 µPa; a full-scale sine has {} dB\n", level())
            }
            LevelReference::Voltage { full_scale_v } => format!(
                "  levels in dB re 1 V; full scale is {full_scale_v} V, its sine has {} dB\n",
                level()
            ),
        };
        let smoothed = self.result.smooth.map_or(String::new(), |octaves| {
            format!("  curve smoothed over {} octave\n", text::number(octaves.0, 3))
        });
        levels + &smoothed
    }

    fn as_json(&self, reading: &Reading<'_>) -> Result<String> {
        let Reading { part, settings, spectrum, frames, findings, .. } = reading;
        let take = part.take();
        let name = |file: &Option<PathBuf>| file.as_ref().map(|file| file.display().to_string());
        let record = take.record(part.span, Some(part.channel_name()))?;
        let scaling = self.scaling();
        let result = SpectrumResult {
            measured: spectrum,
            scaling: format!(
                "{}, dB {} (full-scale sine = {} dB)",
                scaling.words(),
                scaling.level_words(spectrum.reference),
                spectrum.reference.full_scale_db()
            ),
            unit: spectrum.unit(scaling),
            phase_instant_s: part.span.start as f64 / take.info.sample_rate_hz,
            cumulative: spectrum.cumulative(),
            differences: spectrum.differences(self.result.differences),
            around: reading.look.as_ref().map(|look| AroundResult {
                expected_hz: look.expected_hz,
                reach_cents: look.cents,
                tones: look.tones(spectrum),
                curve: self.result.curve.then(|| look.curve(spectrum)),
            }),
            curve: (self.result.curve && reading.look.is_none())
                .then(|| spectrum.curve(&self.curve_settings(0))),
        };
        let settings = Settings {
            level_reference: part.reference.name(),
            frames: frames.clone(),
            average: settings.averaging,
            detrend: settings.detrend,
            emphasis: name(&self.average.emphasis),
            response: name(&self.average.response),
            range_hz: spectrum.range_hz,
            peaks: settings.peaks,
            threshold_db: self.result.threshold.map(|level| level.0),
            smoothing_octaves: self.result.smooth.map(|octaves| octaves.0),
            reference_hz: settings.reference_hz,
            false_alarm: settings.false_alarm,
        };
        output::json_line("spectrum", record, settings, result, findings)
    }

    fn as_csv(&self, readings: &[Reading<'_>]) -> Result<String> {
        let head = |reading: &Reading<'_>| RowHead {
            take: reading.part.take().name(),
            channel: reading.part.channel_name(),
        };
        let end = |reading: &Reading<'_>| RowEnd { level_reference: reading.part.reference.name() };
        if !self.result.curve {
            return output::csv_table(readings.iter().flat_map(|reading| {
                reading.spectrum.peaks.iter().map(move |peak| (head(reading), peak, end(reading)))
            }));
        }
        if self.narrow.around.is_some() {
            return output::csv_table(readings.iter().flat_map(|reading| {
                let rows = reading.look.iter().flat_map(|look| {
                    let AroundCurve { frequency_hz, cents_from_expected, level_db } =
                        look.curve(&reading.spectrum);
                    frequency_hz.into_iter().zip(cents_from_expected).zip(level_db)
                });
                rows.map(move |((frequency_hz, cents_from_expected), level_db)| {
                    let row = AroundRow { frequency_hz, cents_from_expected, level_db };
                    (head(reading), row, end(reading))
                })
            }));
        }
        output::csv_table(readings.iter().flat_map(|reading| {
            let curve = reading.spectrum.curve(&self.curve_settings(0));
            (0..curve.frequency_hz.len()).map(move |k| {
                let row = CurveRow {
                    frequency_hz: curve.frequency_hz[k],
                    level_db: curve.level_db[k],
                    value: curve.value[k],
                    low_db: curve.low_db[k],
                    high_db: curve.high_db[k],
                    cumulative_share: curve.cumulative_share[k],
                };
                (head(reading), row, end(reading))
            })
        }))
    }

    /// The curves and tones as arrays; of several readings the names end in their number.
    fn arrays(&self, readings: &[Reading<'_>]) -> Arrays {
        let mut arrays = Arrays::new();
        for (n, reading) in readings.iter().enumerate() {
            let suffix = if readings.len() > 1 { format!("_{}", n + 1) } else { String::new() };
            let mut add = |name: &str, values: Vec<f64>| {
                arrays.push((format!("{name}{suffix}"), values, None));
            };
            let known = |levels: Vec<Option<f64>>| -> Vec<f64> {
                levels.into_iter().map(|level| level.unwrap_or(f64::NAN)).collect()
            };
            if let Some(look) = &reading.look {
                let curve = look.curve(&reading.spectrum);
                add("frequency_hz", curve.frequency_hz);
                add("cents_from_expected", curve.cents_from_expected);
                add("level_db", known(curve.level_db));
            } else {
                let curve = reading.spectrum.curve(&self.curve_settings(0));
                add("frequency_hz", curve.frequency_hz);
                add("level_db", known(curve.level_db));
                add("value", curve.value);
                add("low_db", known(curve.low_db));
                add("high_db", known(curve.high_db));
                add("cumulative_share", curve.cumulative_share);
            }
            let peaks = &reading.spectrum.peaks;
            let column = |of: fn(&Peak) -> f64| peaks.iter().map(of).collect::<Vec<f64>>();
            add("peak_frequency_hz", column(|peak| peak.frequency_hz));
            add("peak_frequency_hz_u", column(|peak| peak.frequency_hz_u));
            add("peak_level_db", column(|peak| peak.level_db));
            add("peak_level_db_u", column(|peak| peak.level_db_u));
            add("peak_amplitude", column(|peak| peak.amplitude));
            add("peak_phase_rad", column(|peak| peak.phase_rad.unwrap_or(f64::NAN)));
        }
        arrays
    }

    fn draw(&self, readings: &[Reading<'_>]) -> Result<Figure> {
        let names: Vec<String> = readings.iter().map(|reading| reading.part.title()).collect();
        let title = match names.as_slice() {
            [only] => only.clone(),
            few if few.len() <= 3 => few.join(", "),
            many => format!("{} spectra", many.len()),
        };
        let (mut notes, mut findings) = (Vec::new(), Vec::new());
        for reading in readings {
            let settings = format!(
                "{}, {}",
                window_line(reading),
                average_line(&reading.spectrum, &reading.frames)
            );
            notes.push(match readings.len() {
                1 => settings,
                _ => format!("{}: {settings}", reading.part.title()),
            });
            findings.extend(reading.part.named_findings(&reading.findings, readings.len() > 1));
        }
        if let [only] = readings {
            notes.push(only.part.take().span_line(only.part.span));
        }
        if let Some(Look { expected_hz, note, cents, .. }) = readings[0].look {
            let looks: Vec<DrawnLook<'_>> = readings
                .iter()
                .zip(&names)
                .filter_map(|(reading, name)| {
                    let zoom = &reading.look.as_ref()?.zoom;
                    Some(DrawnLook { name, spectrum: &reading.spectrum, zoom })
                })
                .collect();
            let figure = NarrowFigure {
                looks: &looks,
                expected_hz,
                expected_note: note,
                cents,
                title: &title,
                notes: &notes,
                findings: &findings,
            };
            return Ok(narrow_figure(&figure, self.figure.size)?);
        }
        let curves: Vec<Curve> = readings
            .iter()
            .map(|reading| reading.spectrum.curve(&self.curve_settings(1)))
            .collect();
        let spectra: Vec<DrawnSpectrum<'_>> = readings
            .iter()
            .zip(&names)
            .zip(&curves)
            .map(|((reading, name), curve)| DrawnSpectrum {
                name,
                spectrum: &reading.spectrum,
                curve,
            })
            .collect();
        let figure = SpectrumFigure {
            spectra: &spectra,
            title: &title,
            notes: &notes,
            findings: &findings,
            reference_hz: readings[0].settings.reference_hz,
            scale: self.look.axis.into(),
            scaling: self.scaling(),
            level_axis: match self.look.amplitude {
                Amplitude::Db => LevelAxis::Decibels,
                Amplitude::Linear => LevelAxis::Values,
            },
            tones_on_curve: self.scaling() == Scaling::Density || self.result.smooth.is_some(),
            cumulative: self.look.cumulative,
        };
        Ok(spectrum_figure(&figure, self.figure.size)?)
    }
}

impl Look {
    /// The tones within reach, the strongest first.
    fn tones(&self, spectrum: &Measured) -> Vec<AroundTone> {
        let mut tones: Vec<AroundTone> = spectrum
            .peaks
            .iter()
            .map(|peak| AroundTone {
                frequency_hz: peak.frequency_hz,
                frequency_hz_u: peak.frequency_hz_u,
                level_db: peak.level_db,
                cents_from_expected: cents_between(self.expected_hz, peak.frequency_hz),
                cents_from_expected_u: peak.cents_u,
            })
            .collect();
        tones.sort_by(|a, b| b.level_db.total_cmp(&a.level_db));
        tones
    }

    fn curve(&self, spectrum: &Measured) -> AroundCurve {
        let offset_db = spectrum.reference.full_scale_db();
        let Zoom { frequency_hz, power } = &self.zoom;
        let level = |power: &f64| Some(db_from_power(*power) + offset_db).filter(|l| l.is_finite());
        AroundCurve {
            cents_from_expected: frequency_hz
                .iter()
                .map(|hz| cents_between(self.expected_hz, *hz))
                .collect(),
            frequency_hz: frequency_hz.clone(),
            level_db: power.iter().map(level).collect(),
        }
    }
}

/// Measures the spectrum of a part re full scale, with a closer look at its range in `zoom_points`
/// points unless that is 0.
pub(super) fn measure(
    part: &Part<'_>,
    settings: &SpectrumSettings,
    quiet: bool,
    zoom_points: usize,
) -> Result<(Measured, FrameFigures, Option<Zoom>, Vec<Finding>)> {
    let rate = part.take().info.sample_rate_hz;
    let mut spectrum_pass = SpectrumPass::new(settings, rate, part.span.len())?;
    let frames = spectrum_pass.plan().figures(rate);
    let mut zoom = settings
        .range_hz
        .filter(|_| zoom_points > 0)
        .map(|range_hz| ZoomPass::new(spectrum_pass.plan(), rate, range_hz, zoom_points));
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
    if tone_pass.needs_samples() || zoom.is_some() {
        let [mut one_half, mut other_half] = tone_pass.halves();
        part.read_in_two(
            "tones",
            quiet,
            |samples| one_half.push(samples),
            |samples| {
                other_half.push(samples);
                if let Some(zoom) = &mut zoom {
                    zoom.push(samples);
                }
            },
        )?;
    }
    let measured = tone_pass.finish();
    findings.extend(meter.finish().findings(&part.channel_name()));
    Ok((measured, frames, zoom.map(ZoomPass::finish), findings))
}

/// Reads a curve of levels: a frequency in Hz and a level in dB on each line, parted by a comma,
/// semicolon, tab or space; lines that begin with # and a first line of words are left out.
fn read_curve(file: &Path) -> Result<ResponseCurve> {
    let text = files::read_named(file, files::MOST_TEXT_BYTES)?;
    let mut points = Vec::new();
    for (number, line) in (1..).zip(text.lines()) {
        let fields: Vec<&str> = line
            .split([',', ';', '\t', ' '])
            .map(str::trim)
            .filter(|field| !field.is_empty())
            .collect();
        let point = match fields.as_slice() {
            [] => continue,
            [first, ..] if first.starts_with('#') => continue,
            [hz, db, ..] => hz.parse().ok().zip(db.parse().ok()),
            _ => None,
        };
        match point {
            Some(point) => points.push(point),
            None if points.is_empty() && line.contains(char::is_alphabetic) => (),
            None => {
                return Err(Usage(format!(
                    "{}, line {number}: '{line}' is no frequency in Hz with a level in dB, as 1000, \
                     -0.5",
                    file.display()
                ))
                .into());
            }
        }
    }
    ResponseCurve::new(points).with_context(|| file.display().to_string())
}

/// The numbers of a peak, for the table.
fn peak_row(peak: &Peak) -> Vec<String> {
    let [frequency, frequency_u] = text::measured(peak.frequency_hz, peak.frequency_hz_u, 6);
    let [level, level_u] = text::measured(peak.level_db, peak.level_db_u, 4);
    let [cents, cents_u] = text::measured(peak.cents, peak.cents_u, 4);
    let [phase, phase_u] = match (peak.phase_rad, peak.phase_rad_u) {
        (Some(phase), Some(u)) => text::measured(phase, u, 4),
        _ => ["–".into(), "–".into()],
    };
    let note = peak.note.to_string();
    vec![frequency, frequency_u, level, level_u, phase, phase_u, note, text::signed(cents), cents_u]
}

/// What a family says about the pitch.
fn family_line(family: &Family) -> String {
    let [fundamental, u] = text::measured(family.fundamental_hz, family.fundamental_hz_u, 4);
    let stiff = family.inharmonicity_u.map_or(String::new(), |u| {
        let [b, u] = text::measured(1e6 * family.inharmonicity, 1e6 * u, 1);
        format!(", stretched by an inharmonicity B of ({b} ± {u})·10⁻⁶")
    });
    let missing = match (family.fundamental_present, family.strongest_number) {
        (false, number) => {
            format!("; the fundamental itself has no tone, the strongest is harmonic {number}")
        }
        (true, 1) => String::new(),
        (true, number) => format!("; the strongest is harmonic {number}"),
    };
    text::sentence(&format!(
        "{} tones are harmonics of {fundamental} ± {u} Hz ({} {} cents){stiff}{missing}",
        family.members.len(),
        family.note,
        text::signed(text::number(family.cents, 1)),
    ))
}

/// How far the strongest tone lies from what was expected.
fn look_line(look: &Look, spectrum: &Measured) -> String {
    let expected = format!("{} Hz", text::number(look.expected_hz, 3));
    let expected = look.note.map_or(expected.clone(), |note| format!("{note}, {expected}"));
    let reach = text::number(look.cents, 0);
    match look.tones(spectrum).first() {
        None => format!("  expected {expected}: no tone stands out within {reach} cents of it\n"),
        Some(tone) => {
            let [cents, u] =
                text::measured(tone.cents_from_expected, tone.cents_from_expected_u, 4);
            text::sentence(&format!(
                "expected {expected}; the strongest tone within {reach} cents lies {} ± {u} cents from \
                 it",
                text::signed(cents)
            ))
        }
    }
}

/// Where the power lies.
fn power_line(marks: Cumulative) -> String {
    format!(
        "  a tenth of the power lies below {} Hz, half below {} Hz, nine tenths below {} Hz\n",
        text::number(marks.power_10_hz, 0),
        text::number(marks.power_50_hz, 0),
        text::number(marks.power_90_hz, 0)
    )
}

fn difference_table(pairs: &[Difference]) -> String {
    let row = |pair: &Difference| {
        let [difference, difference_u] =
            text::measured(pair.difference_hz, pair.difference_hz_u, 6);
        let [period, period_u] = text::measured(pair.period_s, pair.period_s_u, 6);
        vec![
            format!("{} and {}", text::number(pair.low_hz, 2), text::number(pair.high_hz, 2)),
            difference,
            difference_u,
            period,
            period_u,
            text::number(pair.interval_cents, 1),
            text::number(-pair.level_difference_db, 1),
        ]
    };
    let titles =
        ["tones Hz", "difference Hz", "± u", "period s", "± u", "interval cents", "apart dB"];
    text::table(&titles, &[], pairs.iter().map(row).collect())
}

/// Which window, and what it can tell apart.
fn window_line(reading: &Reading<'_>) -> String {
    let spectrum = &reading.spectrum;
    format!(
        "{} window of {} ms, resolution {} Hz",
        spectrum.window,
        text::number(1000.0 * spectrum.window_s, 1),
        text::number(spectrum.resolution_hz, 2),
    )
}

/// How many frames, and how fine the curve is.
fn average_line(spectrum: &Measured, frames: &FrameFigures) -> String {
    let averaged = match spectrum.averaged_frames {
        1 => "1 frame".into(),
        count => {
            let kind = match spectrum.averaging {
                Averaging::Mean => "frames averaged".into(),
                Averaging::Median => "frames, their median".into(),
                Averaging::Maximum => "frames, their maximum".into(),
                Averaging::Exponential { time_s } => {
                    format!("frames averaged exponentially over {time_s} s")
                }
            };
            let overlap = text::number(100.0 * frames.overlap, 0);
            format!("{} {kind}, {overlap} % overlap", text::grouped(count))
        }
    };
    format!("{averaged}, bins of {} Hz", text::number(spectrum.bin_spacing_hz, 3))
}

/// How far the average of noise can be trusted.
fn confidence_line(spectrum: &Measured) -> String {
    spectrum.noise_interval_db().map_or(String::new(), |(low, high)| {
        format!(
            "  95 % interval of a bin of noise: {} to +{} dB; noise bandwidth {} Hz\n",
            text::number(low, 1),
            text::number(high, 1),
            text::number(spectrum.noise_bandwidth_hz, 2)
        )
    })
}
