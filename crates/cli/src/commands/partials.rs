//! `partials`: what a note is made of, how far from harmonic it is, and how each part dies away.

use std::collections::BTreeMap;
use std::path::PathBuf;

use anyhow::Result;
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::partials::{
    Partial, PartialTrack, Partials as Found, PartialsSettings, partials,
};
use tonemap_core::units::{Frequency, FrequencyRange, Seconds, Separation, cents_between};
use tonemap_figures::{
    Arrangement, ColourMap, DrawnSpectrogram, DrawnTrack, Figure, Marks, PartialsFigure,
    SpectrogramFigure, TrackPoint, Words, partials_figure, pitch_cells, spectrogram_figure,
};

use tonemap_media::{SdifFrame, SdifKind, SdifPartial, sdif_file};

use super::spectrogram::background;
use crate::args::{self, FigureArgs, Format, OutputArgs, TakesArgs};
use crate::arrays::{self, Arrays};
use crate::files::{self, Content};
use crate::fundamental::FundamentalArgs;
use crate::output::{self, Status, Usage};
use crate::take::{self, NoteSamples, Part};
use crate::text;

/// The partials of a note over time: inharmonicity, decay, beating
///
/// The fundamental tells where the partials are; --free follows them without one, as bells, bars and rooms
/// need it. No frame reaches across the onset, so that an attack is not smeared. The complex envelope of each
/// partial is fitted by one or two damped sinusoids: two frequencies beat, two decays make a knee.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Partials {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    search: SearchArgs,
    #[command(flatten)]
    ratios: RatioArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    look: LookArgs,
    #[command(flatten)]
    output: OutputArgs,
    /// Give the tracks too: in JSON beside the table, in CSV instead of it
    #[arg(long, help_heading = "Output")]
    tracks: bool,
    /// Write the tracks as an open exchange file: FILE.sdif, harmonics as 1HRM, others as 1TRC
    #[arg(long, value_name = "FILE", help_heading = "Output")]
    sdif: Option<PathBuf>,
    /// Write the points of the tracks as arrays: FILE.npz
    #[arg(long, value_name = "FILE", help_heading = "Output")]
    data: Option<PathBuf>,
}

const EXAMPLES: &str = "Examples:
  tonemap partials harp-g3.wav --figure harp.png --view decay
      inharmonicity and decay of a string, drawn
  tonemap partials bell-cut0.wav --free --ratios-to 1 --target 1,3,5.4
      the tones of a bell against the ratios wanted, and how each pair beats
  tonemap partials flute-a4.wav --tracks --format csv --output flute.csv
      frequency, level and phase of every partial over time
  tonemap partials harp-g3.wav --sdif harp.sdif
      the same for other programs; any command takes such a file in place of a recording";

#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
struct SearchArgs {
    #[command(flatten)]
    fundamental: FundamentalArgs,
    /// With --free: how far apart two partials are told apart: 30Hz, or A3..A#3 [default: 30Hz]
    #[arg(long, value_name = "FREQUENCY", requires = "free")]
    resolve: Option<Separation>,
    /// Keep partials in this range only: 100Hz..8kHz
    #[arg(long, value_name = "LOW..HIGH")]
    range: Option<FrequencyRange>,
    /// Partials at most
    #[arg(long, value_name = "NUMBER", default_value_t = 60)]
    most: usize,
    /// Leave out tracks that are shorter
    #[arg(long, value_name = "TIME", default_value = "30ms")]
    shortest: Seconds,
    /// Time between the points of a track [default: a quarter of a frame, a fifth with
    /// --free, 2 to 20 ms]
    #[arg(long, value_name = "TIME")]
    hop: Option<Seconds>,
    /// Frequency of A4 [default: that of the study, or 440Hz]
    #[arg(long, value_name = "FREQUENCY")]
    reference: Option<Frequency>,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Ratios")]
struct RatioArgs {
    /// Tell the ratio of each partial to this one
    #[arg(long, value_name = "NUMBER")]
    ratios_to: Option<usize>,
    /// Ratios that are wanted: 1,2,2.4,3,4
    #[arg(long, value_name = "RATIO", value_delimiter = ',', requires = "ratios_to")]
    target: Vec<f64>,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Figure")]
struct LookArgs {
    /// What is drawn: the tracks over a spectrogram, or levels over time with the deviation from harmonic
    #[arg(long, value_name = "VIEW", default_value = "tracks", requires = "figure")]
    view: View,
    /// Colours of the spectrogram: ember, lagoon, or grey for print
    #[arg(long, value_name = "MAP", default_value = "ember")]
    colours: ColourMap,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum View {
    Tracks,
    Decay,
}

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: &'static str,
    free: bool,
    resolve_hz: Option<f64>,
    fundamental_hz: Option<(f64, f64)>,
    range_hz: (f64, Option<f64>),
    most: usize,
    shortest_s: f64,
    frame_s: f64,
    hop_s: f64,
    ratios_to: Option<usize>,
    target: Vec<f64>,
}

/// `result` in JSON.
#[derive(Serialize)]
struct PartialsResult<'a> {
    start_s: f64,
    end_s: f64,
    f0_hz: Option<f64>,
    f0_hz_u: Option<f64>,
    stiff_f_hz: Option<f64>,
    stiff_f_hz_u: Option<f64>,
    inharmonicity: Option<f64>,
    inharmonicity_u: Option<f64>,
    law_scatter_cents: Option<f64>,
    level_at_s: f64,
    partials: &'a [Partial],
    residual_db: f64,
    residual_sustain_db: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    tracks: Option<Vec<TrackColumns>>,
}

/// A track in JSON, column by column.
#[derive(Serialize)]
struct TrackColumns {
    number: usize,
    start_s: f64,
    hop_s: f64,
    frequency_hz: Vec<f64>,
    level_db: Vec<f64>,
    phase_rad: Vec<f64>,
}

/// A row of CSV: one partial.
#[derive(Serialize)]
struct PartialRow<'a> {
    take: &'a str,
    channel: &'a str,
    number: usize,
    frequency_hz: f64,
    frequency_hz_u: f64,
    level_db: f64,
    cents_from_harmonic: Option<f64>,
    cents_from_law: Option<f64>,
    on_law: bool,
    ratio: Option<f64>,
    cents_from_target: Option<f64>,
    decay_t60_s: Option<f64>,
    decay_t60_s_u: Option<f64>,
    late_t60_s: Option<f64>,
    late_t60_s_u: Option<f64>,
    knee_s: Option<f64>,
    beat_hz: Option<f64>,
    beat_hz_u: Option<f64>,
    beat_depth_db: Option<f64>,
    start_s: f64,
    end_s: f64,
    level_reference: &'static str,
}

/// A row of CSV: one point of a track.
#[derive(Serialize)]
struct PointRow<'a> {
    take: &'a str,
    channel: &'a str,
    number: usize,
    time_s: f64,
    frequency_hz: f64,
    level_db: f64,
    phase_rad: f64,
    level_reference: &'static str,
}

/// What was made of one channel of one take.
struct Made<'a> {
    part: Part<'a>,
    settings: PartialsSettings,
    found: Found,
    findings: Vec<Finding>,
}

impl Partials {
    pub(crate) fn run(&self) -> Result<Status> {
        output::start_log(&self.output);
        output::check_outputs(&self.figure, &self.output)?;
        if let Some(file) = &self.sdif {
            let reason = "tracks are written as an SDIF file; name it FILE.sdif";
            output::check_ending(file, &["sdif"], reason)?;
            files::claim(file, Content::Result, self.output.force)?;
        }
        if let Some(file) = &self.data {
            arrays::check_name(file)?;
            files::claim(file, Content::Result, self.output.force)?;
        }
        let (mut takes, mut status) = take::open_named(&self.takes)?;
        let parts = take::parts_of(&mut takes, &self.takes.part, &mut status)?;
        let is_of_one = self.figure.figure.is_some() || self.sdif.is_some() || self.data.is_some();
        if parts.len() > 1 && is_of_one {
            let reason = "a figure, an SDIF file and arrays are of one channel of one take; give one, or leave \
                          them out";
            return Err(Usage(reason.into()).into());
        }
        let quiet = self.output.quiet;
        let made =
            take::each_part(parts, "partials", quiet, &mut status, |part| self.follow(part))?;
        let [first, ..] = &made[..] else { return Ok(status) };
        for one in &made {
            output::print_notes(&self.output, &one.findings);
        }
        if let Some(file) = &self.figure.figure {
            let drawn = match self.look.view {
                View::Tracks => self.draw_tracks(first)?,
                View::Decay => self.draw_decay(first)?,
            };
            output::write_figure(file, &drawn, self.output.force)?;
        }
        if let Some(file) = &self.sdif {
            files::write_whole(file, Content::Result, &sdif_of(&first.found), self.output.force)?;
        }
        if let Some(file) = &self.data {
            arrays::write_npz(file, &arrays_of(&first.found), self.output.force)?;
        }
        let content = match self.output.format {
            Format::Text => made.iter().map(as_text).collect::<Vec<_>>().join("\n"),
            Format::Json => made.iter().map(|one| self.as_json(one)).collect::<Result<String>>()?,
            Format::Csv if self.tracks => tracks_csv(&made)?,
            Format::Csv => as_csv(&made)?,
        };
        output::write_result(&self.output, &content)?;
        Ok(status)
    }

    fn settings(&self, part: &Part<'_>) -> Result<PartialsSettings> {
        let rate = part.take().info.sample_rate_hz;
        let usual_hz = part.take().reference_hz();
        let reference_hz = args::reference_hz(self.search.reference, usual_hz)?;
        let usual = self.search.fundamental.settings(part, reference_hz)?;
        Ok(PartialsSettings {
            resolve_hz: self
                .search
                .resolve
                .map_or(usual.resolve_hz, |apart| apart.resolution_hz(reference_hz)),
            hop_s: self.search.hop.map(|hop| hop.0),
            most: self.search.most,
            range_hz: match self.search.range {
                Some(range) => range.hz(reference_hz, rate)?,
                None => usual.range_hz,
            },
            shortest_s: self.search.shortest.0,
            ..usual
        })
    }

    fn follow<'a>(&self, part: Part<'a>) -> Result<Made<'a>> {
        let rate = part.take().info.sample_rate_hz;
        let settings = self.settings(&part)?;
        let NoteSamples { samples, mut findings } = part.note_samples()?;
        let mut found = partials(&samples, rate, part.span.start as f64 / rate, &settings)?;
        if let Some(to) = self.ratios.ratios_to {
            found.relate(to, &self.ratios.target)?;
        }
        found.calibrate(part.reference.full_scale_db());
        findings.extend(found.findings.iter().cloned());
        Ok(Made { part, settings, found, findings })
    }

    /// The tracks over a spectrogram, the fainter the paler.
    fn draw_tracks(&self, made: &Made<'_>) -> Result<Figure> {
        let reference = made.part.reference;
        let rate = made.part.take().info.sample_rate_hz;
        let span = made.part.span;
        let frequencies = || made.found.partials.iter().map(|partial| partial.frequency_hz);
        let lowest = frequencies().fold(f64::INFINITY, f64::min).min(0.2 * rate);
        let highest = frequencies().fold(2.0 * lowest, f64::max);
        let range_hz = (0.7 * lowest, (1.25 * highest).min(rate / 2.0));
        let cells =
            background(&made.part, range_hz, pitch_cells(self.figure.size), self.output.quiet)?;
        let title = made.part.title();
        let range_db = cells.usual_range_db().unwrap_or((-100.0, 0.0));
        let full_scale_db = reference.full_scale_db();
        let tracks: Vec<DrawnTrack> = drawn_tracks(&made.found);
        let drawn = [DrawnSpectrogram {
            name: &title,
            spectrogram: &cells,
            span_s: (span.start as f64 / rate, span.end as f64 / rate),
            reference,
            marks: Marks { tracks: &tracks, tracks_name: "partials", ..Marks::default() },
            slices: &[],
        }];
        let notes = [settings_line(made), made.part.take().span_line(span)];
        let figure = SpectrogramFigure {
            spectrograms: &drawn,
            arrangement: Arrangement::Stacked,
            slice_names: &[],
            range_db: (range_db.0 + full_scale_db, range_db.1 + full_scale_db),
            colours: self.look.colours,
            title: &title,
            notes: &notes,
            findings: &made.findings,
            reference_hz: made.settings.pitch.reference_hz,
        };
        Ok(spectrogram_figure(&figure, self.figure.size)?)
    }

    fn draw_decay(&self, made: &Made<'_>) -> Result<Figure> {
        let title = made.part.title();
        let notes = [
            law_line(made).unwrap_or_else(|| settings_line(made)),
            made.part.take().span_line(made.part.span),
        ];
        let figure = PartialsFigure {
            found: &made.found,
            level_unit: &format!("dB {}", made.part.reference.words()),
            words: Words { title: &title, notes: &notes, findings: &made.findings },
        };
        Ok(partials_figure(&figure, self.figure.size)?)
    }

    fn as_json(&self, made: &Made<'_>) -> Result<String> {
        let (settings, found) = (&made.settings, &made.found);
        let resolved = Settings {
            level_reference: made.part.reference.name(),
            free: settings.free,
            resolve_hz: settings.free.then_some(settings.resolve_hz),
            fundamental_hz: (!settings.free).then_some(settings.pitch.range_hz),
            range_hz: (settings.range_hz.0, Some(settings.range_hz.1).filter(|hz| hz.is_finite())),
            most: settings.most,
            shortest_s: settings.shortest_s,
            frame_s: found.frame_s,
            hop_s: found.hop_s,
            ratios_to: self.ratios.ratios_to,
            target: self.ratios.target.clone(),
        };
        let result = PartialsResult {
            start_s: found.start_s,
            end_s: found.end_s,
            f0_hz: found.f0_hz.map(|f| f.value),
            f0_hz_u: found.f0_hz.map(|f| f.u),
            stiff_f_hz: found.stiff_f_hz.map(|f| f.value),
            stiff_f_hz_u: found.stiff_f_hz.map(|f| f.u),
            inharmonicity: found.inharmonicity.map(|b| b.value),
            inharmonicity_u: found.inharmonicity.map(|b| b.u),
            law_scatter_cents: found.law_scatter_cents,
            level_at_s: found.level_at_s,
            partials: &found.partials,
            residual_db: found.residual_db,
            residual_sustain_db: found.residual_sustain_db,
            tracks: self
                .tracks
                .then(|| found.tracks.iter().map(|track| columns(found, track)).collect()),
        };
        let record = made.part.take().record(made.part.span, Some(made.part.channel_name()))?;
        output::json_line("partials", record, resolved, result, &made.findings)
    }
}

fn columns(found: &Found, track: &PartialTrack) -> TrackColumns {
    TrackColumns {
        number: track.number,
        start_s: track.start_s,
        hop_s: track.hop_s,
        frequency_hz: track.points.iter().map(|point| point.frequency_hz).collect(),
        level_db: track.points.iter().map(|point| found.level_db_at(point)).collect(),
        phase_rad: track.points.iter().map(|point| point.phase_rad).collect(),
    }
}

/// The tracks as an SDIF file: all on one grid of times.
fn sdif_of(found: &Found) -> Vec<u8> {
    let mut frames: BTreeMap<u64, SdifFrame> = BTreeMap::new();
    for track in &found.tracks {
        let first = ((track.start_s - found.start_s) / track.hop_s).round() as u64;
        for (step, point) in (first..).zip(&track.points) {
            let time_s = found.start_s + step as f64 * found.hop_s;
            let frame =
                frames.entry(step).or_insert_with(|| SdifFrame { time_s, partials: Vec::new() });
            frame.partials.push(SdifPartial {
                index: track.number as u32,
                frequency_hz: point.frequency_hz,
                amplitude: point.amplitude,
                phase_rad: point.phase_rad,
            });
        }
    }
    let kind = if found.f0_hz.is_some() { SdifKind::Harmonic } else { SdifKind::Free };
    sdif_file(kind, &frames.into_values().collect::<Vec<_>>())
}

/// A row for each point, in the order of the tracks.
fn arrays_of(found: &Found) -> Arrays {
    let column = |name: &str, of: &dyn Fn(&PartialTrack, usize) -> f64| {
        let tracks = found.tracks.iter();
        let values = tracks.flat_map(|track| (0..track.points.len()).map(|n| of(track, n)));
        (name.to_string(), values.collect(), None)
    };
    vec![
        column("number", &|track, _| track.number as f64),
        column("time_s", &|track, n| track.start_s + n as f64 * track.hop_s),
        column("frequency_hz", &|track, n| track.points[n].frequency_hz),
        column("level_db", &|track, n| found.level_db_at(&track.points[n])),
        column("phase_rad", &|track, n| track.points[n].phase_rad),
    ]
}

/// Tracks whose paleness tells their level: full at the greatest, nothing 80 dB below.
fn drawn_tracks(found: &Found) -> Vec<DrawnTrack> {
    const DEEPEST_DB: f64 = 80.0;
    let all = found.tracks.iter().flat_map(|track| &track.points);
    let greatest = all.map(|point| point.amplitude).fold(1e-12, f64::max);
    let drawn = |track: &PartialTrack| {
        let point = |(n, point): (usize, &tonemap_core::partials::TrackPoint)| TrackPoint {
            time_s: track.start_s + n as f64 * track.hop_s,
            frequency_hz: point.frequency_hz,
            confidence: 1.0 + 20.0 * (point.amplitude / greatest).log10() / DEEPEST_DB,
        };
        DrawnTrack { stretches: vec![track.points.iter().enumerate().map(point).collect()] }
    };
    found.tracks.iter().map(drawn).collect()
}

fn settings_line(made: &Made<'_>) -> String {
    let found = &made.found;
    let guide = if made.settings.free {
        format!(
            "no fundamental assumed, {} Hz told apart",
            text::number(made.settings.resolve_hz, 1)
        )
    } else {
        "guided by the fundamental".into()
    };
    let sustain = found.residual_sustain_db.map_or(String::new(), |db| {
        format!(", {} dB from 0.1 s on", text::signed(text::number(db, 1)))
    });
    format!(
        "{guide}; frames of {} ms, points every {} ms; the tracks leave {} dB of the sound{sustain}",
        text::number(1e3 * found.frame_s, 1),
        text::number(1e3 * found.hop_s, 1),
        text::signed(text::number(found.residual_db, 1)),
    )
}

/// f0, F and B in words, where there is a fundamental.
fn law_line(made: &Made<'_>) -> Option<String> {
    let found = &made.found;
    let f0 = found.f0_hz?;
    let [hz, u] = text::measured(f0.value, f0.u, 4);
    let stiff = match (found.stiff_f_hz, found.inharmonicity) {
        (Some(f), Some(b)) => {
            let [f, f_u] = text::measured(f.value, f.u, 4);
            let [b, b_u] = text::measured(1e6 * b.value, 1e6 * b.u, 2);
            format!("; F {f} ± {f_u} Hz, B ({b} ± {b_u})e-6")
        }
        _ => String::new(),
    };
    let scatter = found.law_scatter_cents.map_or(String::new(), |cents| {
        format!(", partials scatter by {} cents about the law", text::number(cents, 3))
    });
    let first = found.partials.iter().find(|partial| partial.number == 1).map(|partial| {
        let cents = cents_between(f0.value, partial.frequency_hz);
        format!(
            "; the first partial itself lies {} cents from it",
            text::signed(text::number(cents, 2))
        )
    });
    Some(format!("f0 {hz} ± {u} Hz{stiff}{scatter}{}", first.unwrap_or_default()))
}

fn as_text(made: &Made<'_>) -> String {
    let found = &made.found;
    let is_harmonic = found.f0_hz.is_some();
    let has_ratios = found.partials.iter().any(|partial| partial.ratio.is_some());
    let has_target = found.partials.iter().any(|partial| partial.target_ratio.is_some());
    let has_late = found.partials.iter().any(|partial| partial.late_t60_s.is_some());
    let has_beats = found.partials.iter().any(|partial| partial.beat_hz.is_some());
    let level_title = format!("dB {}", made.part.reference.words());
    let mut titles = vec!["no.", "frequency Hz", "± u", &level_title];
    titles.extend(is_harmonic.then_some("from harmonic ¢"));
    titles.extend(has_ratios.then_some("ratio"));
    titles.extend(has_target.then_some("from target ¢"));
    titles.extend(["T60 s", "± u"]);
    titles.extend(has_late.then_some(["late T60 s", "± u", "knee s"]).into_iter().flatten());
    titles.extend(has_beats.then_some(["beat Hz", "± u", "deep dB"]).into_iter().flatten());
    titles.extend(["heard s"]);
    let pair = |value: Option<f64>, u: Option<f64>, most: usize| match value.zip(u) {
        Some((value, u)) => text::measured(value, u, most),
        None => ["–".into(), String::new()],
    };
    let row = |partial: &Partial| {
        let [hz, hz_u] = text::measured(partial.frequency_hz, partial.frequency_hz_u, 4);
        let level = text::number(partial.level_db, 2);
        let mut row = vec![partial.number.to_string(), hz, hz_u, level];
        if is_harmonic {
            let cents = partial.cents_from_harmonic.unwrap_or(0.0);
            let mark = if partial.on_law { "" } else { " off" };
            row.push(format!("{}{mark}", text::signed(text::number(cents, 2))));
        }
        if has_ratios {
            row.push(text::known(partial.ratio, 4));
        }
        if has_target {
            let cents = partial.cents_from_target.unwrap_or(f64::NAN);
            row.push(text::signed(text::number(cents, 2)));
        }
        row.extend(pair(partial.decay_t60_s, partial.decay_t60_s_u, 3));
        if has_late {
            row.extend(pair(partial.late_t60_s, partial.late_t60_s_u, 3));
            row.push(text::known(partial.knee_s, 2));
        }
        if has_beats {
            row.extend(pair(partial.beat_hz, partial.beat_hz_u, 4));
            row.push(text::known(partial.beat_depth_db, 1));
        }
        row.push(format!(
            "{}–{}",
            text::number(partial.start_s, 2),
            text::number(partial.end_s, 2)
        ));
        row
    };
    let table = text::table(&titles, &[], found.partials.iter().map(row).collect());
    let law = law_line(made).map_or(String::new(), |law| text::sentence(&law));
    let findings = text::findings_below(&made.findings);
    format!(
        "{}\n  {}\n\n{table}\n{law}{}{}{findings}",
        made.part.title(),
        made.part.take().span_line(made.part.span),
        text::sentence(&format!(
            "levels are those at {} s, where all partials together are loudest",
            text::number(found.level_at_s, 3)
        )),
        text::sentence(&settings_line(made)),
    )
}

fn as_csv(made: &[Made<'_>]) -> Result<String> {
    let names: Vec<_> =
        made.iter().map(|one| (one.part.take().name(), one.part.channel_name())).collect();
    output::csv_table(made.iter().zip(&names).flat_map(|(one, (take, channel))| {
        one.found.partials.iter().map(move |partial| PartialRow {
            take,
            channel,
            number: partial.number,
            frequency_hz: partial.frequency_hz,
            frequency_hz_u: partial.frequency_hz_u,
            level_db: partial.level_db,
            cents_from_harmonic: partial.cents_from_harmonic,
            cents_from_law: partial.cents_from_law,
            on_law: partial.on_law,
            ratio: partial.ratio,
            cents_from_target: partial.cents_from_target,
            decay_t60_s: partial.decay_t60_s,
            decay_t60_s_u: partial.decay_t60_s_u,
            late_t60_s: partial.late_t60_s,
            late_t60_s_u: partial.late_t60_s_u,
            knee_s: partial.knee_s,
            beat_hz: partial.beat_hz,
            beat_hz_u: partial.beat_hz_u,
            beat_depth_db: partial.beat_depth_db,
            start_s: partial.start_s,
            end_s: partial.end_s,
            level_reference: one.part.reference.name(),
        })
    }))
}

fn tracks_csv(made: &[Made<'_>]) -> Result<String> {
    let names: Vec<_> =
        made.iter().map(|one| (one.part.take().name(), one.part.channel_name())).collect();
    output::csv_table(made.iter().zip(&names).flat_map(|(one, (take, channel))| {
        one.found.tracks.iter().flat_map(move |track| {
            track.points.iter().enumerate().map(move |(n, point)| PointRow {
                take,
                channel,
                number: track.number,
                time_s: track.start_s + n as f64 * track.hop_s,
                frequency_hz: point.frequency_hz,
                level_db: one.found.level_db_at(point),
                phase_rad: point.phase_rad,
                level_reference: one.part.reference.name(),
            })
        })
    }))
}
