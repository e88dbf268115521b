//! `transfer`: what lies between a reference and a response.

use std::io::Cursor;
use std::path::{Path, PathBuf};
use std::str::FromStr;

use anyhow::{Context, Result};
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::frame::FrameSettings;
use tonemap_core::quantity::Quantities;
use tonemap_core::transfer::{
    Averaging, Candidate, Estimator, Reflection, Side as Sound, Smoothing, Transfer as Found,
    TransferBand, TransferSettings, transfer,
};
use tonemap_core::units::{FrequencyRange, LevelReference, Octaves, Seconds};
use tonemap_core::window::WindowKind;
use tonemap_core::{Error, Finding};
use tonemap_figures::{Figure, TransferFigure, Words, transfer_figure};
use tonemap_media::{WavEncoding, write_wav};

use crate::advice;
use crate::args::{FigureArgs, Format, FrameArgs, OutputArgs, PartArgs, SourceArgs};
use crate::files::{self, Content};
use crate::json;
use crate::kept::{Present, Presented};
use crate::limits::LimitArgs;
use crate::output;
use crate::sides::{Side, open_all};
use crate::status::{Status, Usage};
use crate::table::{Row, RowHead, Shown, Table};
use crate::take::Part;
use crate::text;

/// Magnitude, phase, coherence and delay from a reference to a response; impulse response
///
/// The delay is found between samples and removed, with the drift of the clocks. Music, noise or a
/// sweep will do as the source: where the reference has no energy, or the response has little in
/// common with it, points are omitted. How it is computed stands in docs/methods/transfer.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Transfer {
    /// Reference and response, each perhaps with a part of it behind: take@1, take@0.5..8; or one
    /// take with --channel 1,2
    #[arg(value_name = "SIDE", required = true, num_args = 1..=2)]
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
    output: OutputArgs,
    /// Give the curve point by point, in JSON and CSV
    #[arg(long, help_heading = "Output")]
    curve: bool,
    /// Write the impulse response about the direct sound: FILE.wav
    #[arg(long, value_name = "FILE", help_heading = "Files")]
    impulse: Option<PathBuf>,
    /// Write the response to a step: FILE.wav
    #[arg(long, value_name = "FILE", help_heading = "Files")]
    step: Option<PathBuf>,
}

const EXAMPLES: &str = "Examples:
  tonemap transfer stage.wav seat.wav --figure seat.png
      what the hall does to the music, from the stage to a seat
  tonemap transfer hall.wav --channel 1,2 --smooth 1/12 --curve --format csv
      two channels of one take; the curve smoothed
  tonemap transfer stage.wav seat.wav --per-octave 24 --figure seat.png
      long frames for the bass, short ones for the treble
  tonemap transfer line.wav loudspeaker.wav --gate 5ms --figure anechoic.png
      without the reflections of the room, from 200 Hz up
  tonemap transfer stage.wav seat.wav --segment 2s --impulse seat-impulse.wav
      long frames for a long impulse response
  tonemap transfer in.wav out.wav --require 'bands[1kHz].magnitude_db>-1'
      exit status 3 if the level at 1 kHz falls by more";

#[derive(Args, Clone)]
#[command(next_help_heading = "Transfer function")]
struct HowArgs {
    /// Estimate: h1 if noise is in the response, h2 if in the reference, hv if in both
    #[arg(long, value_enum, default_value_t = EstimatorArg::H1)]
    estimator: EstimatorArg,
    /// Let frames before the end count less, by a factor of e in this time
    #[arg(long, value_name = "TIME")]
    forget: Option<Seconds>,
    /// Omit points of less coherence
    #[arg(long, value_name = "SHARE", default_value_t = 0.6)]
    coherence: f64,
    /// Frequencies
    #[arg(long, value_name = "LOW..HIGH", default_value = "20Hz..20kHz")]
    range: FrequencyRange,
    /// Bands of 1/N octave
    #[arg(long, value_name = "N", default_value_t = 3)]
    fraction: u32,
    /// Resolve so many steps an octave, with long frames in the bass and short ones in the treble: 24
    #[arg(long, value_name = "STEPS",
          conflicts_with_all = ["gate", "resolve", "segment", "hop", "transform_size"])]
    per_octave: Option<u32>,
    /// Smooth the curve over this share of an octave: 1/12
    #[arg(long, value_name = "OCTAVES")]
    smooth: Option<Octaves>,
    /// What is averaged then
    #[arg(long, value_enum, default_value_t = SmoothingArg::Power, requires = "smooth")]
    smoothing: SmoothingArg,
    /// The delay, if it is known: 12.3ms, -2ms
    #[arg(long, value_name = "TIME", allow_hyphen_values = true)]
    delay: Option<SignedSeconds>,
    /// Look for the delay up to so much either way
    #[arg(long, value_name = "TIME", default_value = "5s")]
    most_delay: Seconds,
    /// Leave the delay in the phase
    #[arg(long)]
    with_delay: bool,
    /// Leave out what comes later than this after the direct sound: 5ms
    #[arg(long, value_name = "TIME")]
    gate: Option<Seconds>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum EstimatorArg {
    H1,
    H2,
    Hv,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum SmoothingArg {
    /// Power, with the phase of the complex mean
    Power,
    /// The complex transfer
    Complex,
}

/// A time that may be negative.
#[derive(Debug, Clone, Copy)]
struct SignedSeconds(f64);

impl FromStr for SignedSeconds {
    type Err = Error;

    fn from_str(text: &str) -> Result<Self, Error> {
        let negative = text.strip_prefix(['-', '−']);
        let seconds: Seconds = negative.unwrap_or(text).parse()?;
        Ok(Self(if negative.is_some() { -seconds.0 } else { seconds.0 }))
    }
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: [&'static str; 2],
    estimator: Estimator,
    forget_s: Option<f64>,
    least_coherence: f64,
    range_hz: (f64, f64),
    fraction: u32,
    per_octave: Option<u32>,
    smooth_octaves: Option<f64>,
    smoothing: Smoothing,
    stated_delay_s: Option<f64>,
    with_delay: bool,
    gate_s: Option<f64>,
    window: WindowKind,
}

/// What was measured, of which parts.
struct Made<'a> {
    sides: [Part<'a>; 2],
    found: Found,
    settings: TransferSettings,
    findings: Vec<Finding>,
}

impl Present for Transfer {
    fn written(&self) -> (&OutputArgs, &LimitArgs) {
        (&self.output, &self.limits)
    }

    fn present(&self) -> Result<Presented> {
        output::check_outputs(&self.figure, &self.output)?;
        for (file, what) in
            [(&self.impulse, "an impulse response"), (&self.step, "a step response")]
        {
            if let Some(file) = file {
                output::check_ending(file, &["wav"], what)?;
                files::claim(file, Content::Result, self.output.force)?;
            }
        }
        let mut members = open_all(&Side::read_all(&self.sides)?, &self.source)?;
        let parts: Vec<Part<'_>> = match members.as_mut_slice() {
            [one] => one.parts(&self.part)?,
            several => {
                several.iter_mut().map(|member| member.part(&self.part)).collect::<Result<_>>()?
            }
        };
        let Ok(sides) = <[Part<'_>; 2]>::try_from(parts) else {
            let reason = "a reference and a response are wanted: two takes, or two channels of one \
                          with --channel 1,2";
            return Err(Usage(reason.into()).into());
        };
        let made = self.measure(sides)?;
        output::print_notes(&self.output, &made.findings);
        let content = match self.output.format {
            Format::Text => as_text(&made),
            Format::Json => self.json(&made)?,
            Format::Csv => self.csv(&made)?,
        };
        if let Some(file) = &self.figure.figure {
            output::write_figure(file, &self.draw(&made)?, self.output.force)?;
        }
        if let Some(file) = &self.impulse {
            self.write_response(file, &made, &made.found.impulse.samples)?;
        }
        if let Some(file) = &self.step {
            self.write_response(file, &made, &made.found.impulse.step())?;
        }
        let judged = vec![(title(&made), made.found.quantities())];
        Ok(Presented { content, judged, findings: made.findings, status: Status::Done })
    }
}

impl Transfer {
    fn write_response(&self, file: &Path, made: &Made<'_>, samples: &[f64]) -> Result<()> {
        let rate_hz = made.sides.iter().map(Part::rate_hz).fold(0.0, f64::max);
        let samples = samples.iter().map(|x| *x as f32).collect();
        let mut sound = Cursor::new(Vec::new());
        write_wav(&mut sound, rate_hz as u32, &[samples], WavEncoding::Float)?;
        files::write_whole(file, Content::Result, sound.get_ref(), self.output.force)
    }

    fn settings(&self, sides: &[Part<'_>; 2]) -> Result<TransferSettings> {
        let reference_hz = sides[0].take().reference_hz();
        let rate_hz = sides.iter().map(Part::rate_hz).fold(f64::INFINITY, f64::min);
        let how = &self.how;
        let frames: FrameSettings = self.frames.settings(reference_hz);
        Ok(TransferSettings {
            frames,
            estimator: match how.estimator {
                EstimatorArg::H1 => Estimator::H1,
                EstimatorArg::H2 => Estimator::H2,
                EstimatorArg::Hv => Estimator::Hv,
            },
            averaging: how.forget.map_or(Averaging::Linear, |time| Averaging::Exponential(time.0)),
            least_coherence: how.coherence,
            range_hz: how.range.hz(reference_hz, rate_hz)?,
            fraction: how.fraction,
            per_octave: how.per_octave,
            smooth_octaves: how.smooth.map(|octaves| octaves.0),
            smoothing: match how.smoothing {
                SmoothingArg::Power => Smoothing::Power,
                SmoothingArg::Complex => Smoothing::Complex,
            },
            delay_s: how.delay.map(|delay| delay.0),
            most_delay_s: how.most_delay.0,
            with_delay: how.with_delay,
            gate_s: how.gate.map(|gate| gate.0),
            ..TransferSettings::default()
        })
    }

    fn measure<'a>(&self, sides: [Part<'a>; 2]) -> Result<Made<'a>> {
        let settings = self.settings(&sides)?;
        let quiet = self.output.quiet;
        let spool = |part: &Part<'_>| -> Result<_> {
            let (samples, meter, mut findings) = part.spooled(quiet, |_| ())?;
            let levels = meter.finish();
            if levels.rms_dbfs.is_none() {
                anyhow::bail!("{} is silent: there is nothing to compare", part.title());
            }
            findings.extend(levels.findings(&part.channel_name()));
            Ok((samples, part.named_findings(&advice::worded(findings), true)))
        };
        let [reference, response] = &sides;
        let (a, b) = rayon::join(|| spool(reference), || spool(response));
        let ((a, of_a), (b, of_b)) = (a?, b?);
        // A ratio of levels, where both are known in one unit.
        let are_known = sides.iter().all(|part| part.reference != LevelReference::FullScale);
        let level = |part: &Part<'_>| if are_known { part.reference.full_scale_db() } else { 0.0 };
        let found = transfer(
            Sound { samples: &a, rate_hz: reference.rate_hz(), full_scale_db: level(reference) },
            Sound { samples: &b, rate_hz: response.rate_hz(), full_scale_db: level(response) },
            &settings,
        )
        .map_err(|error| match error {
            Error::TooShort { .. } => anyhow::Error::from(error)
                .context("reference and response have too little time in common"),
            other => other.into(),
        })?;
        let mut findings = [of_a, of_b].concat();
        findings.retain(|finding| finding.code != "first_channel");
        findings.extend(advice::worded(found.findings.clone()));
        Ok(Made { sides, found, settings, findings })
    }

    fn json(&self, made: &Made<'_>) -> Result<String> {
        let TransferSettings { estimator, averaging, range_hz, fraction, .. } = made.settings;
        let settings = Settings {
            level_reference: made.sides.each_ref().map(|part| part.reference.name()),
            estimator,
            forget_s: match averaging {
                Averaging::Exponential(s) => Some(s),
                Averaging::Linear => None,
            },
            least_coherence: made.settings.least_coherence,
            range_hz,
            fraction,
            per_octave: made.settings.per_octave,
            smooth_octaves: made.settings.smooth_octaves,
            smoothing: made.settings.smoothing,
            stated_delay_s: made.settings.delay_s,
            with_delay: made.settings.with_delay,
            gate_s: made.settings.gate_s,
            window: made.settings.frames.window,
        };
        let records = made.sides.iter().map(Part::record).collect::<Result<Vec<_>>>()?;
        let mut found = made.found.clone();
        found.curve = found.curve.filter(|_| self.curve);
        json::line_of_takes("transfer", records, settings, found, &made.findings)
    }

    fn csv(&self, made: &Made<'_>) -> Result<String> {
        if self.curve {
            let curve = made.found.curve.as_ref().context("there is no curve")?;
            let points: Vec<usize> = (0..curve.frequency_hz.len()).collect();
            let table = Table::new()
                .number("frequency_hz", "", 4, |k: &usize| Some(curve.frequency_hz[*k]))
                .number("magnitude_db", "", 4, |k| curve.magnitude_db[*k])
                .number("magnitude_db_u", "", 4, |k| curve.magnitude_db_u[*k])
                .number("phase_deg", "", 3, |k| curve.phase_deg[*k])
                .number("phase_deg_u", "", 3, |k| curve.phase_deg_u[*k])
                .number("minimum_phase_deg", "", 3, |k| curve.minimum_phase_deg[*k])
                .number("excess_phase_deg", "", 3, |k| curve.excess_phase_deg[*k])
                .number("group_delay_s", "", 8, |k| curve.group_delay_s[*k])
                .number("coherence", "", 4, |k| Some(curve.coherence[*k]));
            return table.csv(points);
        }
        let head = RowHead {
            take: title(made),
            channel: made.sides[1].channel_name(),
            level_reference: made.sides[1].reference.name(),
        };
        let rows = made.found.bands.iter().map(|item| Row { part: &head, item });
        let shown: [Shown<'_>; 0] = [];
        Table::of_parts().fields(&TransferBand::FIELDS, &shown, |band| band).csv(rows)
    }

    fn draw(&self, made: &Made<'_>) -> Result<Figure> {
        let title = title(made);
        let notes: Vec<String> = [delay_line(made), settings_line(made)]
            .into_iter()
            .chain(made.sides.iter().map(|part| format!("{}: {}", part.title(), part.span_line())))
            .collect();
        let figure = TransferFigure {
            found: &made.found,
            least_coherence: made.settings.least_coherence,
            words: Words { title: &title, notes: &notes, findings: &made.findings },
        };
        Ok(transfer_figure(&figure, self.figure.size)?)
    }
}

fn title(made: &Made<'_>) -> String {
    let [reference, response] = made.sides.each_ref().map(Part::title);
    format!("{reference} to {response}")
}

fn delay_line(made: &Made<'_>) -> String {
    let found = &made.found;
    let Some(delay) = found.delay_s else { return "the delay is not known".into() };
    let scaled = |value: tonemap_core::Measured| {
        let [ms, u] = text::measured(1e3 * value.value, 1e3 * value.u, 6);
        format!("{ms} ± {u} ms")
    };
    let said = if made.settings.delay_s.is_some() {
        format!("delay {} ms, stated", text::number(1e3 * delay.value, 4))
    } else {
        format!("delay {}", scaled(delay))
    };
    let polarity = match found.polarity {
        Some(tonemap_core::transfer::Polarity::Reversed) => "polarity reversed",
        _ => "polarity the same",
    };
    let gain = found.gain_db.map_or(String::new(), |gain| {
        let [db, u] = text::measured(gain.value, gain.u, 3);
        format!(", gain {db} ± {u} dB")
    });
    format!("{said}, {polarity}{gain}")
}

fn settings_line(made: &Made<'_>) -> String {
    let (found, settings) = (&made.found, &made.settings);
    let smoothed = settings.smooth_octaves.map_or(String::new(), |octaves| {
        format!(", smoothed over {} octave", text::number(octaves, 3))
    });
    let applied = settings.gate_s.zip(found.gate_from_hz);
    let gate = applied.map_or(String::new(), |(gate_s, from_hz)| {
        format!(
            ", gate {} ms: from {} Hz up",
            text::number(1e3 * gate_s, 1),
            text::number(from_hz, 0)
        )
    });
    let phase = if settings.with_delay { "with" } else { "without" };
    if let Some(steps) = settings.per_octave {
        return format!(
            "{:?}, resolution 1/{steps} octave; coherence from {} on, {} % of the points; phase \
             {phase} the delay{smoothed}",
            found.estimator,
            text::number(settings.least_coherence, 2),
            text::number(100.0 * found.kept_share, 0),
        );
    }
    format!(
        "{:?}, {} frames of {} ms, resolution {} Hz; coherence from {} on, {} % of the points; phase \
         {phase} the delay{smoothed}{gate}",
        found.estimator,
        text::grouped(found.frames),
        text::number(1e3 * found.window_s, 0),
        text::number(found.resolution_hz, 2),
        text::number(settings.least_coherence, 2),
        text::number(100.0 * found.kept_share, 0),
    )
}

fn as_text(made: &Made<'_>) -> String {
    let found = &made.found;
    let spans = made.sides.iter().map(|part| format!("  {}: {}", part.title(), part.span_line()));
    let spans: Vec<String> = spans.collect();
    let mut parts =
        vec![format!("{}\n{}\n", title(made), spans.join("\n")), text::sentence(&delay_line(made))];
    if let Some(drift) = found.drift_ppm {
        let [ppm, u] = text::measured(drift.value, drift.u, 4);
        parts.push(text::sentence(&format!("drift of the clock {ppm} ± {u} ppm")));
    }
    if found.candidates.len() > 1 {
        let candidates: Vec<&Candidate> = found.candidates.iter().collect();
        let table = Table::new()
            .signed("", "delays, ms", 3, |of: &&Candidate| Some(1e3 * of.delay_s))
            .number("", "strength, dB", 1, |of| Some(of.strength_db));
        parts.push(table.text(&candidates));
    }
    let bands: Vec<&TransferBand> = found.bands.iter().collect();
    if bands.iter().any(|band| band.magnitude_db.is_some()) {
        let table = Table::new()
            .printed("band, Hz", |band: &&TransferBand| text::hertz(band.center_hz))
            .measured("", "magnitude, dB", 2, |band| band.magnitude_db)
            .number("", "phase, °", 1, |band| band.phase_deg)
            .number("", "coherence", 3, |band| band.coherence);
        parts.push(table.text(&bands));
    }
    if !found.reflections.is_empty() {
        let reflections: Vec<&Reflection> = found.reflections.iter().collect();
        let table = Table::new()
            .number("", "reflections, ms", 3, |of: &&Reflection| Some(1e3 * of.delay_s))
            .number("", "level, dB", 1, |of| Some(of.level_db))
            .number("", "path, m", 2, |of| Some(of.path_difference_m));
        parts.push(table.text(&reflections));
    }
    parts.push(text::sentence(&settings_line(made)));
    let findings = text::findings(&made.findings);
    parts.extend(Some(findings).filter(|findings| !findings.is_empty()));
    parts.join("\n")
}
