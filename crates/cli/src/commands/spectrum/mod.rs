//! `spectrum`: the averaged spectrum of a span and the tones in it.

mod words;
mod zoom;

use std::path::PathBuf;

use anyhow::Result;
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::frame::FrameFigures;
use tonemap_core::quantity::{Key, Label, Quantities, Quantity, Unit as QuantityUnit, pair};
use tonemap_core::spectrum::{
    Averaging, Cumulative, Curve, CurveSettings, Detrend, Difference, Method, Peak, Scaling,
    Spectrum as Measured, SpectrumSettings, thinned, zoom_segment,
};
use tonemap_core::units::{
    Cents, Decibels, Extent, Frequency, FrequencyRange, LevelReference, Octaves, cents_above,
};
use tonemap_figures::{
    ChartCurve, DrawnLook, DrawnSpectrum, Figure, LevelAxis, NarrowFigure, ReportPart,
    SpectrumFigure, narrow_figure, spectrum_chart, spectrum_figure,
};

use crate::args::{self, Axis, FigureArgs, Format, FrameArgs, OutputArgs, TakesArgs};
use crate::arrays::{self, Arrays};
use crate::level_curve;
use crate::limits::LimitArgs;
use crate::measure::{self, Common, Measure, SideFile, row_heads, rows};
use crate::parts::share_reference;
use crate::passes::spectrum_of;
use crate::status::Usage;
use crate::table::{Row, Table};
use crate::take::Part;
use crate::text;
use words::{
    average_line, beat_line, confidence_line, difference_table, family_line, power_line,
    window_line,
};
use zoom::{AroundResult, Look, NARROW_POINTS, USUAL_CENTS, around_csv, look_line};

/// Averaged spectrum of a span, and the tones in it with their uncertainty
///
/// Says what frames it uses: longer ones resolve closer tones. Tones are found against the local
/// noise floor, then fitted over the whole span. A tone that is steady is read 'from span', as
/// accurately as noise allows; one that decays, glides or beats is read 'from frames', and its
/// level is an average. Tones on one harmonic series are reported with its fundamental, so that the
/// strongest line is not mistaken for the pitch. Several takes or channels stand in one table and
/// one figure.
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
    limits: LimitArgs,
    #[command(flatten)]
    output: OutputArgs,
    /// Write the curve and the tones as arrays too: FILE.npz
    #[arg(long, value_name = "FILE", help_heading = "Files")]
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
    /// What is removed from each frame first
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
    /// Frequency of A4, from which notes and cents are counted [default: that of the study, or
    /// 440Hz]
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
#[command(next_help_heading = "Zoom")]
struct NarrowArgs {
    /// Zoom in around a frequency or note, and give the distance of the tones there from it
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
    /// Draw the cumulative power over frequency, too
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

/// Values of a curve on a page, in an octave: what is drawn is not lost, and what is read is true.
const REPORTED_PER_OCTAVE: u32 = 96;

/// What was measured of a part.
pub(crate) struct Found {
    settings: SpectrumSettings,
    spectrum: Measured,
    frames: FrameFigures,
    look: Option<Look>,
}

type Made<'a> = measure::Made<'a, Found>;

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

/// A value of a curve.
struct CurvePoint<'c> {
    curve: &'c Curve,
    place: usize,
}

impl Measure for Spectrum {
    const KIND: &'static str = "spectrum";
    const DRAWS: Option<&'static str> = None;
    type Found = Found;

    fn common(&self) -> Common<'_> {
        Common::of(&self.takes, &self.limits, &self.figure, &self.output)
    }

    fn check(&self) -> Result<()> {
        self.curve_settings(0).check()?;
        if self.result.curve && self.output.format == Format::Text {
            return Err(Usage(
                "--curve gives numbers for programs; add --format json or --format csv".into(),
            )
            .into());
        }
        match self.narrow.cents {
            Some(Cents(cents)) if !(1.0..=2400.0).contains(&cents) => {
                Err(tonemap_core::Error::Setting {
                    setting: "the reach of the zoom",
                    given: format!("{cents} cents"),
                    allowed: "1 to 2400 cents".into(),
                }
                .into())
            }
            _ => Ok(()),
        }
    }

    /// The unit asked for, else one that all parts share.
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

    fn measure(&self, part: &Part<'_>, quiet: bool) -> Result<(Found, Vec<Finding>)> {
        let curves = [
            self.average.emphasis.as_deref().map(level_curve::read).transpose()?,
            self.average
                .response
                .as_deref()
                .map(level_curve::read)
                .transpose()?
                .map(|c| c.inverse()),
        ];
        let settings = self.spectrum_settings(part)?;
        let expected_hz = self.narrow.around.map(|expected| expected.hz(settings.reference_hz));
        let points = if expected_hz.is_some() { NARROW_POINTS } else { 0 };
        let (mut spectrum, frames, zoom, mut findings) =
            spectrum_of(part, &settings, quiet, points)?;
        for curve in curves.iter().flatten() {
            spectrum = spectrum.with_response(curve);
        }
        spectrum = spectrum.calibrated(part.reference);
        findings.append(&mut spectrum.findings);
        let cut = self.result.range.and_then(|r| r.cut(settings.reference_hz, part.rate_hz()));
        findings.extend(cut);
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
        Ok((Found { settings, spectrum, frames, look }, findings))
    }

    fn settings(&self, made: &Made<'_>) -> impl Serialize {
        let Found { settings, spectrum, frames, .. } = &made.found;
        let name = |file: &Option<PathBuf>| file.as_ref().map(|file| file.display().to_string());
        Settings {
            level_reference: made.part.reference.name(),
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
        }
    }

    fn result(&self, made: &Made<'_>) -> impl Serialize {
        let Found { spectrum, look, .. } = &made.found;
        let scaling = self.scaling();
        SpectrumResult {
            measured: spectrum,
            scaling: format!(
                "{}, dB {} (full-scale sine = {} dB)",
                scaling.words(),
                scaling.level_words(spectrum.reference),
                spectrum.reference.full_scale_db()
            ),
            unit: spectrum.unit(scaling),
            phase_instant_s: made.part.start_s(),
            cumulative: spectrum.cumulative(),
            differences: spectrum.differences(self.result.differences),
            around: look.as_ref().map(|look| AroundResult {
                expected_hz: look.expected_hz,
                reach_cents: look.cents,
                tones: look.tones(spectrum),
                curve: self.result.curve.then(|| look.curve(spectrum)),
            }),
            curve: (self.result.curve && look.is_none())
                .then(|| spectrum.curve(&self.curve_settings(0))),
        }
    }

    fn quantities(&self, made: &Made<'_>) -> Vec<Quantity> {
        const FROM_EXPECTED: Label =
            Label::new("cents_from_expected", "distance from expected", QuantityUnit::Cent, 4)
                .with_u();
        let Found { spectrum, look, .. } = &made.found;
        let mut all = spectrum.quantities();
        let pairs = spectrum.differences(self.result.differences);
        for (n, pair) in (1..).zip(&pairs) {
            let key = Key::item("differences", n);
            all.extend(Quantity::of_item(&key, &format!("pair {n}"), &Difference::FIELDS, pair));
        }
        let tones = look.as_ref().map_or_else(Vec::new, |look| look.tones(spectrum));
        for (n, tone) in (1..).zip(&tones) {
            let key = Key::of("around").then_item("tones", n).then(FROM_EXPECTED.field);
            let cents = pair(Some(tone.cents_from_expected), Some(tone.cents_from_expected_u));
            all.push(Quantity::new(key, &FROM_EXPECTED, cents));
        }
        all
    }

    fn text(&self, made: &[Made<'_>]) -> String {
        let head =
            made.iter().map(|one| format!("{}\n  {}\n", one.part.title(), one.part.span_line()));
        let table = if made.iter().all(|one| one.found.spectrum.peaks.is_empty()) {
            "\n  no tone rises above the noise\n".into()
        } else {
            format!("\n{}", self.peak_table(made))
        };
        let tail = made.iter().map(|one| {
            let name = match made.len() {
                1 => "\n".into(),
                _ => format!("\n{}\n", one.part.title()),
            };
            let findings = text::findings_below(&one.findings);
            name + &self.about(one) + &self.settings_lines(&one.found) + &findings
        });
        head.chain([table]).chain(tail).collect()
    }

    fn csv(&self, made: &[Made<'_>]) -> Result<String> {
        let heads = row_heads(made);
        if !self.result.curve {
            return peak_csv().csv(rows(made, &heads, |found| found.spectrum.peaks.iter()));
        }
        let zipped = made.iter().zip(&heads);
        if self.narrow.around.is_some() {
            let curves = zipped.filter_map(|(one, part)| {
                let look = one.found.look.as_ref()?;
                Some((part, look.curve(&one.found.spectrum)))
            });
            let curves: Vec<_> = curves.collect();
            let places = curves.iter().flat_map(|(part, curve)| {
                (0..curve.frequency_hz.len()).map(move |place| (*part, (curve, place)))
            });
            let items: Vec<_> = places.collect();
            return around_csv().csv(items.iter().map(|(part, item)| Row { part, item }));
        }
        let curve_settings = self.curve_settings(0);
        let curves: Vec<_> =
            zipped.map(|(one, part)| (part, one.found.spectrum.curve(&curve_settings))).collect();
        let points: Vec<_> = (curves.iter())
            .flat_map(|(part, curve)| {
                let places = 0..curve.frequency_hz.len();
                places.map(move |place| (*part, CurvePoint { curve, place }))
            })
            .collect();
        curve_csv().csv(points.iter().map(|(part, item)| Row { part, item }))
    }

    fn draw(&self, made: &[Made<'_>]) -> Result<Figure> {
        let names: Vec<String> = made.iter().map(|one| one.part.title()).collect();
        let title = match names.as_slice() {
            few if few.len() <= 3 => few.join(", "),
            many => format!("{} spectra", many.len()),
        };
        let (mut notes, mut findings) = (Vec::new(), Vec::new());
        for one in made {
            let Found { spectrum, frames, .. } = &one.found;
            let settings = format!("{}, {}", window_line(spectrum), average_line(spectrum, frames));
            notes.push(match made.len() {
                1 => settings,
                _ => format!("{}: {settings}", one.part.title()),
            });
            findings.extend(one.named_findings(made.len() > 1));
        }
        if let [only] = made {
            notes.push(only.part.span_line());
        }
        let named = || made.iter().zip(&names);
        if let Some(Look { expected_hz, note, cents, .. }) = made[0].found.look {
            let looks: Vec<DrawnLook<'_>> = named()
                .filter_map(|(one, name)| {
                    let zoom = &one.found.look.as_ref()?.zoom;
                    Some(DrawnLook { name, spectrum: &one.found.spectrum, zoom })
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
        let curves: Vec<Curve> =
            made.iter().map(|one| one.found.spectrum.curve(&self.curve_settings(1))).collect();
        let spectra: Vec<DrawnSpectrum<'_>> = named()
            .zip(&curves)
            .map(|((one, name), curve)| DrawnSpectrum {
                name,
                spectrum: &one.found.spectrum,
                curve,
            })
            .collect();
        let figure = SpectrumFigure {
            spectra: &spectra,
            title: &title,
            notes: &notes,
            findings: &findings,
            reference_hz: made[0].found.settings.reference_hz,
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

    fn section(&self, made: &Made<'_>) -> Result<ReportPart> {
        let spectrum = &made.found.spectrum;
        let unit = made.part.level_unit();
        let curve = spectrum.curve(&self.curve_settings(0));
        let (x, y) = thinned(curve.levels(), REPORTED_PER_OCTAVE).unzip();
        let tones = ChartCurve {
            name: "tones".into(),
            x: spectrum.peaks.iter().map(|peak| peak.frequency_hz).collect(),
            y: spectrum.peaks.iter().map(|peak| peak.level_db).collect(),
        };
        let caption = format!(
            "Averaged spectrum, resolution {} Hz. Of each 1/{REPORTED_PER_OCTAVE} octave the \
             loudest \
             value is kept",
            text::number(spectrum.resolution_hz, 1)
        );
        let curves = [ChartCurve { name: "spectrum".into(), x, y }];
        let title = format!("Level, {unit}");
        let chart = spectrum_chart("spectrum", &caption, &curves, &tones, (&title, &unit));
        let peaks: Vec<&Peak> = spectrum.peaks.iter().collect();
        let table = Table::new()
            .measured("", "frequency, Hz", 6, |peak: &&Peak| {
                pair(Some(peak.frequency_hz), Some(peak.frequency_hz_u))
            })
            .measured("", format!("level, {unit}"), 3, |peak| {
                pair(Some(peak.level_db), Some(peak.level_db_u))
            })
            .words("", "note", |peak| peak.note.to_string())
            .signed("", "cents", 1, |peak| Some(peak.cents));
        let tables = vec![table.page("Tones of the averaged spectrum", &peaks)];
        Ok(ReportPart { charts: vec![chart], tables, ..ReportPart::default() })
    }

    fn files(&self) -> Vec<SideFile<'_, Found>> {
        let data = self.data.as_ref().map(|file| SideFile {
            file,
            endings: &["npz"],
            kind: arrays::KIND,
            is_of_one: false,
            content: Box::new(|made: &[Made<'_>]| arrays::npz(&self.arrays(made))),
        });
        data.into_iter().collect()
    }
}

impl Spectrum {
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

    fn spectrum_settings(&self, part: &Part<'_>) -> Result<SpectrumSettings> {
        let reference = part.reference;
        let rate = part.rate_hz();
        let usual_hz = part.take().reference_hz();
        // The reference itself may be typed as a note, which is then that of the usual A4.
        let reference_hz = args::reference_hz(self.result.reference, usual_hz)?;
        let mut frames = self.frames.settings(reference_hz);
        let range = match self.narrow.around {
            None => self.result.range.unwrap_or_default().hz(reference_hz, rate)?,
            Some(expected) => {
                let expected_hz = expected.hz(reference_hz);
                let ends =
                    [-self.cents(), self.cents()].map(|cents| cents_above(expected_hz, cents));
                if frames.segment.is_none() && frames.resolution_hz.is_none() {
                    let between = (ends[0], ends[1]);
                    let samples = zoom_segment(frames.window, rate, between, part.span.len())?;
                    frames.segment = Some(Extent::Samples(samples));
                }
                let [low, high] = ends.map(|hz| Some(Frequency::Hertz(hz)));
                FrequencyRange { low, high }.hz(reference_hz, rate)?
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

    /// The tones of all parts.
    fn peak_table(&self, made: &[Made<'_>]) -> String {
        struct Tone<'p> {
            peak: &'p Peak,
            /// Name of the part, before its first tone.
            title: String,
            per_full_scale: f64,
        }
        let families = made.iter().any(|one| !one.found.spectrum.families.is_empty());
        let has_values = self.result.scaling.is_some() && self.scaling() != Scaling::Density;
        let scaling = self.scaling();
        let value_title = format!("{} {}", scaling.words(), made[0].found.spectrum.unit(scaling));
        let mut tones = Vec::new();
        for one in made {
            let spectrum = &one.found.spectrum;
            for (n, peak) in spectrum.peaks.iter().enumerate() {
                let title = if n == 0 { one.part.title() } else { String::new() };
                let per_full_scale = spectrum.reference.per_full_scale();
                tones.push(Tone { peak, title, per_full_scale });
            }
        }
        let value = |tone: &Tone<'_>| scaling.of_tone(tone.peak.amplitude * tone.per_full_scale);
        let table = Table::new()
            .when(made.len() > 1, |table| {
                table.words("", "take", |tone: &Tone<'_>| tone.title.clone())
            })
            .measured("", "frequency Hz", 6, |tone: &Tone<'_>| {
                pair(Some(tone.peak.frequency_hz), Some(tone.peak.frequency_hz_u))
            })
            .measured("", "level dB", 4, |tone| {
                pair(Some(tone.peak.level_db), Some(tone.peak.level_db_u))
            })
            .when(has_values, |table| table.significant("", value_title, value))
            .measured("", "phase rad", 4, |tone| pair(tone.peak.phase_rad, tone.peak.phase_rad_u))
            .rank(3)
            .words("", "note", |tone| tone.peak.note.to_string())
            .signed_measured("", "cents", 4, |tone| {
                pair(Some(tone.peak.cents), Some(tone.peak.cents_u))
            })
            .when(families, |table| {
                table
                    .printed("harmonic", |tone: &Tone<'_>| {
                        tone.peak.harmonic.map_or(text::UNKNOWN.into(), |n| n.to_string())
                    })
                    .rank(1)
            })
            .words("", "from", |tone| match tone.peak.method {
                Method::Span => "span".into(),
                Method::Frames => "frames".into(),
            })
            .rank(2);
        table.text(&tones)
    }

    /// What is to be said of the tones of one part.
    fn about(&self, made: &Made<'_>) -> String {
        let Found { spectrum, look, .. } = &made.found;
        let weaker = match spectrum.weaker_peaks {
            0 => String::new(),
            count => format!("  {count} weaker peaks are not listed; ask for more with --peaks\n"),
        };
        let beats: String = spectrum.peaks.iter().filter_map(beat_line).collect();
        let families: String = spectrum.families.iter().map(family_line).collect();
        let power = match (look, spectrum.cumulative()) {
            (Some(look), _) => look_line(look, spectrum),
            (None, Some(marks)) => power_line(marks),
            (None, None) => String::new(),
        };
        let differences = match spectrum.differences(self.result.differences).as_slice() {
            [] => String::new(),
            pairs => {
                let pairs: Vec<&Difference> = pairs.iter().collect();
                format!("\n{}\n", difference_table().text(&pairs))
            }
        };
        weaker + &beats + &families + &power + &differences
    }

    fn settings_lines(&self, found: &Found) -> String {
        let Found { spectrum, frames, .. } = found;
        let (floor_db, per) = match self.scaling() {
            Scaling::Density => (spectrum.noise_density_db(), "per Hz"),
            _ => (spectrum.noise_floor_db, "in a bin"),
        };
        let floor = floor_db
            .map_or(String::new(), |db| format!(", noise floor {} dB {per}", text::number(db, 1)));
        format!(
            "  {}\n  {}{floor}\n{}{}",
            window_line(spectrum),
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

    /// The curves and tones as arrays; of several parts the names end in their number.
    fn arrays(&self, made: &[Made<'_>]) -> Arrays {
        let mut arrays = Arrays::new();
        for (n, one) in made.iter().enumerate() {
            let Found { spectrum, look, .. } = &one.found;
            let suffix = if made.len() > 1 { format!("_{}", n + 1) } else { String::new() };
            let mut add = |name: &str, values: Vec<f64>| {
                arrays.push((format!("{name}{suffix}"), values, None));
            };
            let known = |levels: Vec<Option<f64>>| -> Vec<f64> {
                levels.into_iter().map(|level| level.unwrap_or(f64::NAN)).collect()
            };
            if let Some(look) = look {
                let curve = look.curve(spectrum);
                add("frequency_hz", curve.frequency_hz);
                add("cents_from_expected", curve.cents_from_expected);
                add("level_db", known(curve.level_db));
            } else {
                let curve = spectrum.curve(&self.curve_settings(0));
                add("frequency_hz", curve.frequency_hz);
                add("level_db", known(curve.level_db));
                add("value", curve.value);
                add("low_db", known(curve.low_db));
                add("high_db", known(curve.high_db));
                add("cumulative_share", curve.cumulative_share);
            }
            let peaks = &spectrum.peaks;
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
}

fn peak_csv<'t>() -> Table<'t, Row<'t, Peak>> {
    Table::of_parts()
        .fields(&Peak::FIELDS[..4], &[], |peak| peak)
        .words("note", "", |row: &Row<'t, Peak>| row.item.note.to_string())
        .fields(&Peak::FIELDS[4..], &[], |peak| peak)
        .words("method", "", |row| match row.item.method {
            Method::Span => "span".into(),
            Method::Frames => "frames".into(),
        })
        .level_reference()
}

fn curve_csv<'t>() -> Table<'t, Row<'t, CurvePoint<'t>>> {
    Table::of_parts()
        .number("frequency_hz", "", 0, |row: &Row<'t, CurvePoint<'t>>| {
            Some(row.item.curve.frequency_hz[row.item.place])
        })
        .number("level_db", "", 0, |row| row.item.curve.level_db[row.item.place])
        .number("value", "", 0, |row| Some(row.item.curve.value[row.item.place]))
        .number("low_db", "", 0, |row| row.item.curve.low_db[row.item.place])
        .number("high_db", "", 0, |row| row.item.curve.high_db[row.item.place])
        .number("cumulative_share", "", 0, |row| {
            Some(row.item.curve.cumulative_share[row.item.place])
        })
        .level_reference()
}
