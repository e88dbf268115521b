//! `transfer`: what lies between a reference and a response.

use std::io::Cursor;
use std::path::{Path, PathBuf};
use std::str::FromStr;

use anyhow::{Context, Result};
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::frame::FrameSettings;
use tonemap_core::quantity::Quantities;
use tonemap_core::spectrum::ResponseCurve;
use tonemap_core::transfer::{
    Averaging, Candidate, Estimator, Reflection, Side as Sound, Smoothing, Transfer as Found,
    TransferBand, TransferCurve, TransferSettings, mean_of, transfer,
};
use tonemap_core::units::{FrequencyRange, LevelReference, Octaves, Seconds};
use tonemap_core::window::WindowKind;
use tonemap_core::{Error, Finding, Measured};
use tonemap_figures::{Figure, ReportPart, TransferFigure, Words, response_chart, transfer_figure};
use tonemap_media::{WavEncoding, write_wav};

use crate::advice;
use crate::args::{FigureArgs, Format, FrameArgs, OutputArgs, PartArgs, SourceArgs};
use crate::files::{self, Content};
use crate::json;
use crate::kept::{Present, Presented};
use crate::level_curve;
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
    /// take with --channel 1,2. Several responses are positions and are averaged
    #[arg(value_name = "SIDE", required = true)]
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
  tonemap transfer stage.wav seat-1.wav seat-2.wav seat-3.wav --smooth 1/3 --figure seats.png
      the mean of three seats
  tonemap transfer line.wav loudspeaker.wav --target flat.txt --require 'bands[1000Hz].off_target_db<3'
      how far a band lies off a curve
  tonemap transfer in.wav out.wav --require 'bands[1000Hz].magnitude_db>-1'
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
    /// What is averaged over several positions
    #[arg(long, value_enum, default_value_t = SmoothingArg::Power)]
    mean: SmoothingArg,
    /// Compare with this curve: a text file with a frequency in Hz and a level in dB on each line
    #[arg(long, value_name = "FILE")]
    target: Option<PathBuf>,
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

impl From<SmoothingArg> for Smoothing {
    fn from(arg: SmoothingArg) -> Self {
        match arg {
            SmoothingArg::Power => Self::Power,
            SmoothingArg::Complex => Self::Complex,
        }
    }
}

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
struct Settings<'a> {
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
    mean: Option<Smoothing>,
    target: Option<&'a Path>,
}

/// A response that was measured.
struct Position<'a> {
    part: Part<'a>,
    found: Found,
}

/// What was measured, of which parts.
struct Made<'a> {
    reference: Part<'a>,
    positions: Vec<Position<'a>>,
    /// The mean of several positions.
    found: Found,
    target: Option<ResponseCurve>,
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
        let mut parts = parts.into_iter();
        let Some(reference) = parts.next().filter(|_| parts.len() > 0) else {
            let reason = "a reference and a response are wanted: two takes, or two channels of one \
                          with --channel 1,2";
            return Err(Usage(reason.into()).into());
        };
        let is_one = parts.len() == 1;
        if !is_one && (self.impulse.is_some() || self.step.is_some()) {
            let reason = "the mean of several positions has no impulse response; name one response";
            return Err(Usage(reason.into()).into());
        }
        let made = self.measure(reference, parts.collect())?;
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
        let part = section(&made);
        Ok(Presented { content, judged, findings: made.findings, part, status: Status::Done })
    }
}

impl Transfer {
    fn write_response(&self, file: &Path, made: &Made<'_>, samples: &[f64]) -> Result<()> {
        let rate_hz = made.parts().map(Part::rate_hz).fold(0.0, f64::max);
        let samples = samples.iter().map(|x| *x as f32).collect();
        let mut sound = Cursor::new(Vec::new());
        write_wav(&mut sound, rate_hz as u32, &[samples], WavEncoding::Float)?;
        files::write_whole(file, Content::Result, sound.get_ref(), self.output.force)
    }

    fn settings(&self, reference: &Part<'_>, responses: &[Part<'_>]) -> Result<TransferSettings> {
        let reference_hz = reference.take().reference_hz();
        let rate_hz = responses.iter().map(Part::rate_hz).fold(reference.rate_hz(), f64::min);
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
            smoothing: how.smoothing.into(),
            delay_s: how.delay.map(|delay| delay.0),
            most_delay_s: how.most_delay.0,
            with_delay: how.with_delay,
            gate_s: how.gate.map(|gate| gate.0),
            ..TransferSettings::default()
        })
    }

    fn measure<'a>(&self, reference: Part<'a>, responses: Vec<Part<'a>>) -> Result<Made<'a>> {
        let settings = self.settings(&reference, &responses)?;
        let target = self.how.target.as_deref().map(level_curve::read).transpose()?;
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
        // A ratio of levels, where all are known in one unit.
        let is_known = |part: &Part<'_>| part.reference != LevelReference::FullScale;
        let are_known = is_known(&reference) && responses.iter().all(is_known);
        let level = |part: &Part<'_>| if are_known { part.reference.full_scale_db() } else { 0.0 };
        let several = responses.len() > 1;
        let (first, others) = responses.split_first().context("there is no response")?;
        let (a, b) = rayon::join(|| spool(&reference), || spool(first));
        let ((a, mut findings), b) = (a?, b?);
        let mut of_first = Some(b);
        let mut all = Vec::new();
        for part in std::iter::once(first).chain(others) {
            let (b, of_b) = of_first.take().map_or_else(|| spool(part), Ok)?;
            let found = transfer(
                Sound {
                    samples: &a,
                    rate_hz: reference.rate_hz(),
                    full_scale_db: level(&reference),
                },
                Sound { samples: &b, rate_hz: part.rate_hz(), full_scale_db: level(part) },
                &settings,
            )
            .map_err(|error| match error {
                Error::TooShort { .. } => anyhow::Error::from(error)
                    .context("reference and response have too little time in common"),
                other => other.into(),
            })?;
            findings.extend(of_b);
            let said = advice::worded(found.findings.clone());
            findings.extend(if several { part.named_findings(&said, true) } else { said });
            all.push(found);
        }
        findings.retain(|finding| finding.code != "first_channel");
        let mean = mean_of(all.clone(), self.how.mean.into())?.context("there is no response")?;
        let found = target.iter().fold(mean, Found::against);
        let positions = responses.into_iter().zip(all);
        let positions = positions.map(|(part, found)| Position { part, found }).collect();
        Ok(Made { reference, positions, found, target, settings, findings })
    }

    fn json(&self, made: &Made<'_>) -> Result<String> {
        let TransferSettings { estimator, averaging, range_hz, fraction, .. } = made.settings;
        let settings = Settings {
            level_reference: [&made.reference, &made.positions[0].part]
                .map(|part| part.reference.name()),
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
            mean: (made.positions.len() > 1).then(|| self.how.mean.into()),
            target: self.how.target.as_deref(),
        };
        let records = made.parts().map(Part::record).collect::<Result<Vec<_>>>()?;
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
            channel: match &made.positions[..] {
                [one] => one.part.channel_name(),
                _ => String::new(),
            },
            level_reference: made.reference.reference.name(),
        };
        let rows = made.found.bands.iter().map(|item| Row { part: &head, item });
        let shown: [Shown<'_>; 0] = [];
        Table::of_parts().fields(&TransferBand::FIELDS, &shown, |band| band).csv(rows)
    }

    fn draw(&self, made: &Made<'_>) -> Result<Figure> {
        /// Takes that are named under a figure.
        const MOST_NAMED: usize = 3;
        let title = title(made);
        let notes: Vec<String> = [delay_line(made), settings_line(made)]
            .into_iter()
            .chain(made.spans().take(MOST_NAMED))
            .collect();
        let several = if made.positions.len() > 1 { &made.positions[..] } else { &[] };
        let positions: Vec<&TransferCurve> =
            several.iter().filter_map(|one| one.found.curve.as_ref()).collect();
        let figure = TransferFigure {
            found: &made.found,
            positions: &positions,
            target: made.target.as_ref(),
            least_coherence: made.settings.least_coherence,
            words: Words { title: &title, notes: &notes, findings: &made.findings },
        };
        Ok(transfer_figure(&figure, self.figure.size)?)
    }
}

impl<'a> Made<'a> {
    fn parts(&self) -> impl Iterator<Item = &Part<'a>> {
        std::iter::once(&self.reference).chain(self.positions.iter().map(|one| &one.part))
    }

    /// Which span of each take was measured.
    fn spans(&self) -> impl Iterator<Item = String> {
        self.parts().map(|part| format!("{}: {}", part.title(), part.span_line()))
    }
}

/// What it has to say on a page.
fn section(made: &Made<'_>) -> ReportPart {
    let found = &made.found;
    let facts = [
        text::fact("Delay", found.delay_s.map(|s| s.scaled(1e3)), 4, "ms"),
        text::fact("Gain", found.gain_db, 3, "dB"),
        text::fact("Drift of the clock", found.drift_ppm, 3, "ppm"),
    ];
    let chart = found.curve.as_ref().map(|curve| {
        let shown = drawn_points(&curve.frequency_hz);
        let of = |values: &[Option<f64>]| shown.iter().map(|n| values[*n]).collect::<Vec<_>>();
        let coherence: Vec<Option<f64>> = curve.coherence.iter().copied().map(Some).collect();
        let hz: Vec<f64> = shown.iter().map(|n| curve.frequency_hz[*n]).collect();
        let values = [of(&curve.magnitude_db), of(&curve.phase_deg), of(&coherence)];
        let caption = "Magnitude, phase without the delay, and coherence; omitted where the \
                       coherence is too low";
        response_chart("response", caption, &hz, [&values[0], &values[1], &values[2]])
    });
    let bands: Vec<&TransferBand> = found.bands.iter().collect();
    let text = format!("Delay of the response, {}", title(made));
    ReportPart {
        facts: facts.into_iter().flatten().collect(),
        charts: chart.into_iter().collect(),
        tables: vec![band_table(made).page("Transfer function in bands", &bands)],
        headline: text::headline(found.delay_s.map(|s| s.scaled(1e3)), 4, "ms", text),
    }
}

/// Points that are far enough from each other to be seen on a page.
fn drawn_points(frequency_hz: &[f64]) -> Vec<usize> {
    const PER_OCTAVE: f64 = 96.0;
    let mut last_hz = 0.0;
    let far = |(n, hz): (usize, &f64)| {
        let is_far = *hz > last_hz * (1.0 + std::f64::consts::LN_2 / PER_OCTAVE);
        is_far.then(|| last_hz = *hz).map(|()| n)
    };
    frequency_hz.iter().enumerate().filter_map(far).collect()
}

fn title(made: &Made<'_>) -> String {
    let reference = made.reference.title();
    match &made.positions[..] {
        [one] => format!("{reference} to {}", one.part.title()),
        several => format!("{reference} to the mean of {} positions", several.len()),
    }
}

fn delay_line(made: &Made<'_>) -> String {
    let found = &made.found;
    let gain = found.gain_db.map_or(String::new(), |gain| {
        let [db, u] = text::measured(gain.value, gain.u, 3);
        format!(", gain {db} ± {u} dB")
    });
    if made.positions.len() > 1 {
        return format!("mean of {} positions{gain}", made.positions.len());
    }
    let Some(delay) = found.delay_s else { return "the delay is not known".into() };
    let scaled = |value: Measured| {
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
    let spans: Vec<String> = made.spans().map(|line| format!("  {line}")).collect();
    let mut parts =
        vec![format!("{}\n{}\n", title(made), spans.join("\n")), text::sentence(&delay_line(made))];
    if made.positions.len() > 1 {
        let table = Table::new()
            .words("", "position", |of: &&Position<'_>| of.part.title())
            .measured("", "delay, ms", 6, |of| {
                of.found.delay_s.map(|s| Measured::new(1e3 * s.value, 1e3 * s.u))
            })
            .measured("", "gain, dB", 3, |of| of.found.gain_db)
            .number("", "points kept, %", 0, |of| Some(100.0 * of.found.kept_share));
        parts.push(table.text(&made.positions.iter().collect::<Vec<_>>()));
    }
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
        parts.push(band_table(made).text(&bands));
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

fn band_table<'t>(made: &Made<'_>) -> Table<'t, &'t TransferBand> {
    Table::new()
        .printed("band, Hz", |band: &&TransferBand| text::hertz(band.center_hz))
        .measured("", "magnitude, dB", 2, |band| band.magnitude_db)
        .number("", "phase, °", 1, |band| band.phase_deg)
        .number("", "coherence", 3, |band| band.coherence)
        .when(made.target.is_some(), |table| {
            table.measured("", "off target, dB", 2, |band: &&TransferBand| band.off_target_db)
        })
}
