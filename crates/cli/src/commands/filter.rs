//! `filter`: bands kept in a take, or removed from it.

use std::path::PathBuf;

use anyhow::Result;
use clap::{ArgGroup, Args};
use serde::Serialize;
use tonemap_core::filter::{BandFilter, Bands, FilterSettings, STOP_BAND_DB};
use tonemap_core::spectrum::{CurveSettings, Scaling, SpectrumSettings};
use tonemap_core::units::{Frequency, FrequencyRange};
use tonemap_core::{Finding, SampleSpan};
use tonemap_figures::{DrawnSpectrum, Figure, LevelAxis, SpectrumFigure, spectrum_figure};
use tonemap_media::Block;

use crate::args::{Axis, Channel, ChannelList, FigureArgs, Format, PartArgs, SourceArgs, SpanArgs};
use crate::files::{self, Content};
use crate::json;
use crate::output;
use crate::passes::spectrum_of;
use crate::record::TakeRecord;
use crate::sound::{self, Levels, SoundArgs};
use crate::status::Status;
use crate::studies;
use crate::table::Table;
use crate::take::Take;
use crate::text;

/// Keep bands of a take, or remove them: linear phase, no delay
///
/// Writes the span of the take, all its channels, with nothing left outside the bands (--keep) or
/// inside them (--remove): 110 dB down beyond the transitions, and flat to 0.0001 dB where it
/// passes. Half of each transition lies to either side of a band's edge, which is at -6 dB.
/// --figure shows the spectrum before and after.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
#[command(group(ArgGroup::new("bands").args(["keep", "remove"]).required(true)))]
pub(crate) struct Filter {
    /// Recording, its name in the study, or - for standard input
    #[arg(value_name = "TAKE", required_unless_present = "conditions")]
    take: Option<PathBuf>,
    #[command(flatten)]
    source: SourceArgs,
    #[command(flatten)]
    span: SpanArgs,
    /// Keep these bands, with commas between them: 200Hz..2kHz,3kHz..4kHz
    #[arg(long, value_name = "LOW..HIGH", value_delimiter = ',')]
    keep: Vec<FrequencyRange>,
    /// Remove these bands: ..40Hz,49Hz..51Hz
    #[arg(long, value_name = "LOW..HIGH", value_delimiter = ',')]
    remove: Vec<FrequencyRange>,
    /// Width of each transition [default: a tenth of the lowest edge, less where bands are narrow]
    #[arg(long, value_name = "FREQUENCY")]
    transition: Option<Frequency>,
    #[command(flatten)]
    figure: FigureArgs,
    /// Frequency scale of the figure
    #[arg(long, value_enum, value_name = "SCALE", default_value_t = Axis::Log, help_heading = "Figure")]
    axis: Axis,
    #[command(flatten)]
    sound: SoundArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap filter harp-copy.wav --remove 49Hz..51Hz,99Hz..101Hz --output clean.wav
      a take without its hum
  tonemap filter bell.wav --keep 510Hz..530Hz --transition 5Hz --output partial.wav --figure \
  before-after.png
      one partial alone, to hear it beat";

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    keep_hz: Vec<(f64, f64)>,
    remove_hz: Vec<(f64, f64)>,
    transition_hz: f64,
    stop_band_db: f64,
    taps: usize,
    bits: String,
    dither: bool,
}

/// `result` in JSON, and the row in CSV.
#[derive(Serialize)]
struct FilterResult {
    output: String,
    samples: u64,
    #[serde(flatten)]
    levels: Levels,
}

/// What was written, and how.
struct Filtered {
    settings: FilterSettings,
    taps: usize,
    transition_hz: f64,
    levels: Levels,
    findings: Vec<Finding>,
}

impl Filter {
    pub(crate) fn run(&self) -> Result<Status> {
        output::check_figure(&self.figure, self.sound.force)?;
        files::claim(&self.sound.output, Content::Sound, self.sound.force)?;
        let named = studies::find_take(self.take.as_ref(), &self.source)?;
        let mut take = Take::open(named, &self.source)?;
        let whole = take.whole(&self.span)?;
        let (span, record) = (whole.span, whole.record()?);
        let filtered = self.filter(&take, span)?;
        if let Some(file) = &self.figure.figure {
            let figure = self.draw(&mut take, &filtered)?;
            output::write_figure(file, &figure, self.sound.force)?;
        }
        output::print(&self.account(&take, span, record, filtered)?)?;
        Ok(Status::Done)
    }

    /// Writes the filtered span.
    fn filter(&self, take: &Take, span: SampleSpan) -> Result<Filtered> {
        let (rate, channels) = (take.info.sample_rate_hz, take.info.channels);
        let settings = self.settings(rate, take.reference_hz())?;
        let mut filters: Vec<BandFilter> =
            (0..channels).map(|_| BandFilter::new(&settings, rate)).collect::<Result<_, _>>()?;
        let (taps, transition_hz) = (filters[0].taps(), filters[0].transition_hz());
        let mut findings = take.findings.clone();
        let args = &self.sound;
        let levels = sound::write_sound(args, rate, channels, span.len(), |sound| {
            let mut out: Vec<Vec<f64>> = vec![Vec::new(); channels];
            let mut interleaved = Vec::new();
            let mut written = Ok(());
            let mut write = |out: &mut [Vec<f64>]| {
                // All channels are as far.
                interleaved.clear();
                for frame in 0..out[0].len() {
                    interleaved.extend(out.iter().map(|channel| channel[frame]));
                }
                for channel in out {
                    channel.clear();
                }
                if written.is_ok() {
                    written = sound.write(&interleaved);
                }
            };
            let pass = |block: &Block| {
                let channels = filters.iter_mut().zip(block.channels()).zip(&mut out);
                for ((filter, samples), out) in channels {
                    filter.push(samples, |y| out.extend_from_slice(y));
                }
                write(&mut out);
            };
            findings.extend(take.read_in_two(span, "filter", self.sound.quiet, pass, |_| ())?);
            for (filter, out) in filters.drain(..).zip(&mut out) {
                filter.finish(|y| out.extend_from_slice(y));
            }
            write(&mut out);
            written
        })?;
        Ok(Filtered { settings, taps, transition_hz, levels, findings })
    }

    /// What is said of it.
    fn account(
        &self,
        take: &Take,
        span: SampleSpan,
        record: TakeRecord,
        filtered: Filtered,
    ) -> Result<String> {
        let Filtered { settings, taps, transition_hz, levels, findings } = filtered;
        let output = self.sound.output.display().to_string();
        let result = FilterResult { output, samples: span.len(), levels };
        match self.sound.format {
            Format::Text => Ok(format!(
                "{}\n  {}\n  {}\n  transitions of {} Hz, {taps} taps, no delay; beyond them {} dB \
                 down\n  {}: peak {} dBFS, RMS {} dBFS\n{}",
                take.name(),
                take.span_line(span),
                bands_line(&settings),
                text::number(transition_hz, 2),
                STOP_BAND_DB,
                result.output,
                text::known(result.levels.peak_dbfs, 2),
                text::known(result.levels.rms_dbfs, 2),
                text::findings(&findings)
            )),
            Format::Json => {
                let (keep_hz, remove_hz) = match settings.action {
                    Bands::Keep => (settings.bands_hz, Vec::new()),
                    Bands::Remove => (Vec::new(), settings.bands_hz),
                };
                let settings = Settings {
                    keep_hz,
                    remove_hz,
                    transition_hz,
                    stop_band_db: STOP_BAND_DB,
                    taps,
                    bits: self.sound.bits.words(),
                    dither: self.sound.dither,
                };
                json::line("filter", record, settings, result, &findings)
            }
            Format::Csv => Table::new()
                .words("output", "", |result: &FilterResult| result.output.clone())
                .count("samples", "", |result| result.samples)
                .number("peak_dbfs", "", 0, |result| result.levels.peak_dbfs)
                .number("rms_dbfs", "", 0, |result| result.levels.rms_dbfs)
                .csv([result]),
        }
    }

    fn settings(&self, sample_rate_hz: f64, reference_hz: f64) -> Result<FilterSettings> {
        let (ranges, action) = if self.keep.is_empty() {
            (&self.remove, Bands::Remove)
        } else {
            (&self.keep, Bands::Keep)
        };
        let band = |range: &FrequencyRange| range.hz(reference_hz, sample_rate_hz);
        Ok(FilterSettings {
            bands_hz: ranges.iter().map(band).collect::<Result<_, _>>()?,
            action,
            transition_hz: self.transition.map(|width| width.hz(reference_hz)),
        })
    }

    /// The spectrum of the first channel before and after.
    fn draw(&self, take: &mut Take, filtered: &Filtered) -> Result<Figure> {
        let note = format!(
            "transitions of {} Hz, {} taps; stop band below −{STOP_BAND_DB} dB",
            text::number(filtered.transition_hz, 2),
            filtered.taps
        );
        let mut written = Take::open_written(&self.sound.output)?;
        let whole = SpanArgs::default();
        let channel = |span: SpanArgs| PartArgs {
            span,
            channels: vec![ChannelList(vec![Channel::Number(1)])],
        };
        let settings = SpectrumSettings { peaks: 0, ..SpectrumSettings::default() };
        let reference_hz = take.reference_hz();
        let (title, span_line) = (take.name(), take.span_line(take.span(self.span.span())?));
        let part = take.part(&channel(self.span.clone()))?;
        // What is written is a part of the take, and as loud as it was.
        let reference = part.reference;
        let before = spectrum_of(&part, &settings, self.sound.quiet, 0)?.0.calibrated(reference);
        let part = written.part(&channel(whole))?;
        let after = spectrum_of(&part, &settings, self.sound.quiet, 0)?.0.calibrated(reference);
        let settings = CurveSettings { margin: 1, ..CurveSettings::default() };
        let curves = [before.curve(&settings), after.curve(&settings)];
        let figure = SpectrumFigure {
            spectra: &[
                DrawnSpectrum { name: "before", spectrum: &before, curve: &curves[0] },
                DrawnSpectrum { name: "after", spectrum: &after, curve: &curves[1] },
            ],
            title: &title,
            notes: &[note, span_line],
            findings: &filtered.findings,
            reference_hz,
            scale: self.axis.into(),
            scaling: Scaling::Amplitude,
            level_axis: LevelAxis::Decibels,
            tones_on_curve: false,
            cumulative: false,
        };
        Ok(spectrum_figure(&figure, self.figure.size)?)
    }
}

/// The bands in words.
fn bands_line(settings: &FilterSettings) -> String {
    let bands: Vec<String> = settings
        .bands_hz
        .iter()
        .map(|(low, high)| format!("{} to {} Hz", text::number(*low, 1), text::number(*high, 1)))
        .collect();
    let verb = match settings.action {
        Bands::Keep => "kept",
        Bands::Remove => "removed",
    };
    format!("{verb}: {}", bands.join(", "))
}
