//! `partials`: what a note is made of, how far from harmonic it is, and how each part dies away.

use std::path::PathBuf;

use anyhow::Result;
use clap::{Args, ValueEnum};
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::partials::{
    OtherTone, Partial, PartialComponent, PartialTrack, Partials as Measured, PartialsSettings,
    TrackColumns, TrackPoint as Point, partials,
};
use tonemap_core::quantity::{Field, Quantities, Quantity, pair};
use tonemap_core::units::{Frequency, FrequencyRange, Seconds, Separation, cents_between};
use tonemap_figures::{
    Arrangement, ChartCurve, ColourMap, DrawnTone, DrawnTrack, Figure, Marks, PartialsFigure,
    ReportPart, SpectrogramFigure, TrackPoint, Words, course_chart, partials_figure, pitch_cells,
    spectrogram_figure,
};

use crate::args::{self, FigureArgs, OutputArgs, TakesArgs};
use crate::arrays::{self, Arrays};
use crate::columns::{background, drawn};
use crate::fundamental::{FundamentalArgs, NoteArgs};
use crate::limits::LimitArgs;
use crate::measure::{self, Common, Measure, SideFile, row_heads, rows};
use crate::table::{Row, RowHead, Shown, Table};
use crate::take::{NoteSamples, Part};
use crate::text;
use crate::tracks::{self, Timed};

/// The partials of a note over time: inharmonicity, decay, beating
///
/// The fundamental says where the partials are; --free follows them without one, as bells, bars and
/// rooms need it. No frame reaches across the onset, so that an attack is not smeared. The complex
/// envelope of each partial is fitted by one damped sinusoid, or by two or three: two frequencies
/// beat, two decays make a knee.
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
    limits: LimitArgs,
    #[command(flatten)]
    output: OutputArgs,
    /// Give the tracks too: in JSON beside the table, in CSV instead of it
    #[arg(long, help_heading = "Output")]
    tracks: bool,
    /// List the components of partials that are two or three tones together, as of two or three
    /// strings; in CSV instead of the partials
    #[arg(long, help_heading = "Output", conflicts_with_all = ["tracks", "others"])]
    components: bool,
    /// Write the tracks as an open exchange file: FILE.sdif, harmonics as 1HRM, others as 1TRC
    #[arg(long, value_name = "FILE", help_heading = "Files")]
    sdif: Option<PathBuf>,
    /// Write the points of the tracks as arrays: FILE.npz
    #[arg(long, value_name = "FILE", help_heading = "Files")]
    data: Option<PathBuf>,
}

const EXAMPLES: &str = "Examples:
  tonemap partials harp-g3.wav --figure harp.png --view decay
      inharmonicity and decay of a string, drawn
  tonemap partials bell-cut0.wav --free --ratios-to 1 --target 1,3,5.4
      the tones of a bell against the ratios wanted, and how each pair beats
  tonemap partials harp-g3.wav --others
      what lasts beside the series: phantom partials, longitudinal modes, hum
  tonemap partials harp-pair.wav --components
      what beats: frequency, level and decay of each of the tones that make a partial
  tonemap partials flute-a4.wav --tracks --format csv --output flute.csv
      frequency, level and phase of every partial over time
  tonemap partials harp-g3.wav --sdif harp.sdif
      the same for other programs; any command takes such a file in place of a recording
  tonemap partials harp-g3.wav --require 'inharmonicity<2e-4'
      exit status 3 if the string is stiffer than that";

#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
struct SearchArgs {
    #[command(flatten)]
    fundamental: FundamentalArgs,
    #[command(flatten)]
    notes: NoteArgs,
    /// List the lasting tones off the series too: phantom partials, longitudinal modes, hum; in CSV
    /// instead of the partials
    #[arg(long, conflicts_with = "tracks", group = "tones")]
    others: bool,
    /// With --free or --others: the spacing at which two tones are resolved: 30Hz, or A3..A#3
    /// [default: 30Hz, 6Hz with --others]
    #[arg(long, value_name = "FREQUENCY", requires = "tones")]
    resolve: Option<Separation>,
    /// Keep partials in this range only: 100Hz..8kHz
    #[arg(long, value_name = "LOW..HIGH")]
    range: Option<FrequencyRange>,
    /// Partials at most
    #[arg(long, value_name = "NUMBER", default_value_t = 120)]
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
    /// Give the ratio of each partial to this one
    #[arg(long, value_name = "NUMBER")]
    ratios_to: Option<usize>,
    /// Ratios that are wanted: 1,2,2.4,3,4
    #[arg(long, value_name = "RATIO", value_delimiter = ',', requires = "ratios_to")]
    target: Vec<f64>,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Figure")]
struct LookArgs {
    /// What is drawn: the tracks over a spectrogram, or levels over time with the deviation from
    /// harmonic
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

/// Resolves phantom partials from the partials of all but the lowest strings.
const OTHERS_RESOLVE_HZ: f64 = 6.0;

/// What was measured of a part.
pub(crate) struct Found {
    settings: PartialsSettings,
    partials: Measured,
}

type Made<'a> = measure::Made<'a, Found>;

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
    #[serde(skip_serializing_if = "Option::is_none")]
    note: Option<usize>,
    ratios_to: Option<usize>,
    target: Vec<f64>,
}

/// `result` in JSON.
#[derive(Serialize)]
struct PartialsResult<'a> {
    #[serde(flatten)]
    partials: &'a Measured,
    #[serde(skip_serializing_if = "Option::is_none")]
    tracks: Option<Vec<TrackColumns>>,
}

/// A component with the number of its partial, and its own.
struct ComponentRow {
    partial: usize,
    number: usize,
    component: PartialComponent,
}

/// A point of a track.
struct TrackRow {
    number: usize,
    time_s: f64,
    level_db: f64,
    point: Point,
}

impl Measure for Partials {
    const KIND: &'static str = "partials";
    type Found = Found;

    fn common(&self) -> Common<'_> {
        Common::of(&self.takes, &self.limits, &self.figure, &self.output)
    }

    fn notes<'a>(&self, part: Part<'a>, quiet: bool) -> Result<Vec<Part<'a>>> {
        self.search.notes.of(part, &self.partials_settings(&part)?, quiet)
    }

    fn measure(&self, part: &Part<'_>, _quiet: bool) -> Result<(Found, Vec<Finding>)> {
        let settings = self.partials_settings(part)?;
        let NoteSamples { samples, start_s, mut findings } = part.note_samples()?;
        let mut partials = partials(&samples, part.rate_hz(), start_s, &settings)?;
        if let Some(to) = self.ratios.ratios_to {
            partials.relate(to, &self.ratios.target)?;
        }
        partials.calibrate(part.reference.full_scale_db());
        findings.extend(partials.findings.iter().cloned());
        Ok((Found { settings, partials }, findings))
    }

    fn settings(&self, made: &Made<'_>) -> impl Serialize {
        let Found { settings, partials } = &made.found;
        Settings {
            level_reference: made.part.reference.name(),
            free: settings.free,
            resolve_hz: partials.others_resolve_hz.or(settings.free.then_some(settings.resolve_hz)),
            fundamental_hz: (!settings.free).then_some(settings.pitch.range_hz),
            range_hz: (settings.range_hz.0, Some(settings.range_hz.1).filter(|hz| hz.is_finite())),
            most: settings.most,
            shortest_s: settings.shortest_s,
            frame_s: partials.frame_s,
            hop_s: partials.hop_s,
            note: made.part.note,
            ratios_to: self.ratios.ratios_to,
            target: self.ratios.target.clone(),
        }
    }

    fn result(&self, made: &Made<'_>) -> impl Serialize {
        let partials = &made.found.partials;
        PartialsResult { partials, tracks: self.tracks.then(|| partials.columns()) }
    }

    fn quantities(&self, made: &Made<'_>) -> Vec<Quantity> {
        made.found.partials.quantities()
    }

    fn text(&self, made: &[Made<'_>]) -> String {
        measure::each(made, |made| as_text(made, self.components))
    }

    fn csv(&self, made: &[Made<'_>]) -> Result<String> {
        let heads = row_heads(made);
        if self.search.others {
            let all = rows(made, &heads, |found| found.partials.other_tones.iter().flatten());
            return other_table("").csv(all);
        }
        if self.components {
            let all = own_rows(made, &heads, components_of);
            return component_table("").csv(all.iter().map(|(part, item)| Row { part, item }));
        }
        if self.tracks {
            let all = own_rows(made, &heads, points_of);
            return track_table().csv(all.iter().map(|(part, item)| Row { part, item }));
        }
        let all = rows(made, &heads, |found| found.partials.partials.iter());
        partial_table(None, "").csv(all)
    }

    fn draw(&self, made: &[Made<'_>]) -> Result<Figure> {
        match self.look.view {
            View::Tracks => self.draw_tracks(&made[0]),
            View::Decay => draw_decay(&made[0], &self.figure),
        }
    }

    fn section(&self, made: &Made<'_>) -> Result<ReportPart> {
        const MOST: usize = 16;
        let found = &made.found.partials;
        let unit = made.part.level_unit();
        let stiff = found.inharmonicity.filter(|b| b.value.abs() > 2.0 * b.u);
        let facts = text::fact("Inharmonicity B", stiff, 9, "").into_iter().collect();
        let first: Vec<&Partial> = found.partials.iter().take(MOST).collect();
        let table = Table::new()
            .count("", "partial", |partial: &&Partial| partial.number as u64)
            .measured("", "frequency, Hz", 5, |partial| {
                pair(Some(partial.frequency_hz), Some(partial.frequency_hz_u))
            })
            .signed("", "cents from harmonic", 2, |partial| partial.cents_from_harmonic)
            .number("", format!("level, {unit}"), 1, |partial| Some(partial.level_db))
            .measured("", "T60, s", 3, |partial| pair(partial.decay_t60_s, partial.decay_t60_s_u))
            .number("", "beat, Hz", 3, |partial| partial.beat_hz)
            .page(format!("Partials, the first {}", first.len()), &first);
        let curves = decay_curves(found);
        let title = format!("Level, {unit}");
        let chart = (!curves.is_empty()).then(|| {
            let caption = "Partials over time, the first eight";
            course_chart("partials", caption, &curves, (&title, "dB"))
        });
        let text = format!("Frequency of the first partial, {}", made.part.title());
        let headline = text::headline(found.f0_hz, 5, "Hz", text);
        let charts = chart.into_iter().collect();
        let others = found.other_tones.as_ref().filter(|others| !others.is_empty());
        let others = others.map(|others| {
            let first: Vec<&OtherTone> = others.iter().take(MOST).collect();
            let caption = format!("Tones off the series, the first {}", first.len());
            Table::new()
                .measured("", "frequency, Hz", 5, |tone: &&OtherTone| {
                    pair(Some(tone.frequency_hz), Some(tone.frequency_hz_u))
                })
                .number("", format!("level, {unit}"), 1, |tone| Some(tone.level_db))
                .words("", "sum of partials", |tone| sum_words(tone))
                .measured("", "T60, s", 3, |tone| pair(tone.decay_t60_s, tone.decay_t60_s_u))
                .page(caption, &first)
        });
        let tables = [table].into_iter().chain(others).collect();
        Ok(ReportPart { facts, charts, tables, headline })
    }

    fn files(&self) -> Vec<SideFile<'_, Found>> {
        let sdif = self.sdif.as_ref().map(|file| SideFile {
            file,
            endings: &["sdif"],
            kind: "tracks are written as an SDIF file; name it FILE.sdif",
            is_of_one: true,
            content: Box::new(|made: &[Made<'_>]| Ok(sdif_of(&made[0].found.partials))),
        });
        let data = self.data.as_ref().map(|file| SideFile {
            file,
            endings: &["npz"],
            kind: arrays::KIND,
            is_of_one: true,
            content: Box::new(|made: &[Made<'_>]| arrays::npz(&arrays_of(&made[0].found.partials))),
        });
        sdif.into_iter().chain(data).collect()
    }
}

impl Partials {
    fn partials_settings(&self, part: &Part<'_>) -> Result<PartialsSettings> {
        let rate = part.rate_hz();
        let usual_hz = part.take().reference_hz();
        let reference_hz = args::reference_hz(self.search.reference, usual_hz)?;
        let usual = self.search.fundamental.settings(part, reference_hz)?;
        let resolve_hz = self.search.resolve.map(|apart| apart.resolution_hz(reference_hz));
        let others_hz = resolve_hz.unwrap_or(OTHERS_RESOLVE_HZ);
        Ok(PartialsSettings {
            resolve_hz: resolve_hz.unwrap_or(usual.resolve_hz),
            others_resolve_hz: self.search.others.then_some(others_hz),
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

    /// The tracks over a spectrogram, the fainter the paler.
    fn draw_tracks(&self, made: &Made<'_>) -> Result<Figure> {
        let rate = made.part.rate_hz();
        let frequencies =
            || made.found.partials.partials.iter().map(|partial| partial.frequency_hz);
        let lowest = frequencies().fold(f64::INFINITY, f64::min).min(0.2 * rate);
        let highest = frequencies().fold(2.0 * lowest, f64::max);
        let range_hz = (0.7 * lowest, (1.25 * highest).min(rate / 2.0));
        let cells =
            background(&made.part, range_hz, pitch_cells(self.figure.size), self.output.quiet)?;
        let title = made.part.title();
        let tracks: Vec<DrawnTrack> = drawn_tracks(&made.found.partials);
        let drawn_tone = |tone: &OtherTone| DrawnTone {
            frequency_hz: tone.frequency_hz,
            from_s: tone.start_s,
            to_s: tone.end_s,
        };
        let others = made.found.partials.other_tones.iter().flatten();
        let marks = Marks {
            tracks: &tracks,
            tracks_name: "partials",
            tones: &others.map(drawn_tone).collect::<Vec<_>>(),
            tones_name: "off the series",
            ..Marks::default()
        };
        let (drawn, range_db) = drawn(&cells, &title, &made.part, marks);
        let notes = [settings_line(made), made.part.span_line()];
        let figure = SpectrogramFigure {
            spectrograms: &[drawn],
            arrangement: Arrangement::Stacked,
            slice_names: &[],
            range_db,
            colours: self.look.colours,
            title: &title,
            notes: &notes,
            findings: &made.findings,
            reference_hz: made.found.settings.pitch.reference_hz,
        };
        Ok(spectrogram_figure(&figure, self.figure.size)?)
    }
}

fn draw_decay(made: &Made<'_>, args: &FigureArgs) -> Result<Figure> {
    let title = made.part.title();
    let notes = [law_line(made).unwrap_or_else(|| settings_line(made)), made.part.span_line()];
    let figure = PartialsFigure {
        found: &made.found.partials,
        level_unit: &made.part.level_unit(),
        words: Words { title: &title, notes: &notes, findings: &made.findings },
    };
    Ok(partials_figure(&figure, args.size)?)
}

/// The tracks as an SDIF file.
fn sdif_of(found: &Measured) -> Vec<u8> {
    let tracks = found.heard_tracks();
    let timed = tracks.iter().map(|track| -> Timed<'_> {
        let points = track.points.iter().enumerate();
        let at = |(n, point): (usize, &Point)| (track.start_s + n as f64 * track.hop_s, *point);
        (track.number, Box::new(points.map(at)))
    });
    tracks::written(timed, found.f0_hz.is_some())
}

/// A row for each point, in the order of the tracks.
fn arrays_of(found: &Measured) -> Arrays {
    let tracks = found.heard_tracks();
    let column = |name: &str, of: &dyn Fn(&PartialTrack, usize) -> f64| {
        let values = tracks.iter().flat_map(|track| (0..track.points.len()).map(|n| of(track, n)));
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

/// Tracks whose paleness shows their level: full at the greatest, nothing 80 dB below.
fn drawn_tracks(found: &Measured) -> Vec<DrawnTrack> {
    const DEEPEST_DB: f64 = 80.0;
    let all = found.tracks.iter().flat_map(|track| &track.points);
    let greatest_db = all.map(Point::level_db).fold(f64::NEG_INFINITY, f64::max);
    let drawn = |track: &PartialTrack| {
        let point = |(n, point): (usize, &Point)| TrackPoint {
            time_s: track.start_s + n as f64 * track.hop_s,
            frequency_hz: point.frequency_hz,
            confidence: 1.0 + (point.level_db() - greatest_db) / DEEPEST_DB,
        };
        DrawnTrack { stretches: vec![track.points.iter().enumerate().map(point).collect()] }
    };
    found.heard_tracks().iter().map(drawn).collect()
}

fn settings_line(made: &Made<'_>) -> String {
    let Found { settings, partials: found } = &made.found;
    let guide = if settings.free {
        format!("no fundamental assumed, {} Hz resolved", text::number(settings.resolve_hz, 1))
    } else {
        "guided by the fundamental".into()
    };
    let rest = &found.rest;
    let sustain = rest.residual_sustain_db.map_or(String::new(), |db| {
        format!(", {} dB from 0.1 s on", text::signed(text::number(db, 1)))
    });
    let band = rest.residual_band_hz.zip(rest.residual_band_share);
    let place = band.zip(rest.residual_half_by_s).map_or(String::new(), |((hz, share), by_s)| {
        format!(
            "; of that {} % lie in the octave of {} Hz, and half within {} s of the onset",
            text::number(100.0 * share, 0),
            text::number(hz, 0),
            text::number(by_s, 2)
        )
    });
    let entry = found.entry.map_or(String::new(), |entry| {
        format!(
            "the partials enter between {} s and {} s; ",
            text::number(entry.from_s, 4),
            text::number(entry.to_s, 4)
        )
    });
    format!(
        "{guide}; frames of {} ms, points every {} ms; {entry}the tracks leave {} dB of the \
         sound{sustain}{place}",
        text::number(1e3 * found.frame_s, 1),
        text::number(1e3 * found.hop_s, 1),
        text::signed(text::number(rest.residual_db, 1)),
    )
}

/// f0, F and B in words, where there is a fundamental.
fn law_line(made: &Made<'_>) -> Option<String> {
    let found = &made.found.partials;
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
        format!(", partials scatter by {} cents about the stiff-string fit", text::number(cents, 3))
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

/// Rows that are made of what was measured, with what stands before and behind them.
fn own_rows<'r, T>(
    made: &[Made<'_>],
    heads: &'r [RowHead],
    of: impl Fn(&Measured) -> Vec<T>,
) -> Vec<(&'r RowHead, T)> {
    let all = made.iter().zip(heads);
    all.flat_map(|(one, head)| of(&one.found.partials).into_iter().map(move |row| (head, row)))
        .collect()
}

fn as_text(made: &Made<'_>, with_components: bool) -> String {
    let found = &made.found.partials;
    let head = made.row_head();
    let all: Vec<Row<'_, Partial>> =
        found.partials.iter().map(|item| Row { part: &head, item }).collect();
    let table = partial_table(Some(found), &made.part.level_unit()).text(&all);
    let law = law_line(made).map_or(String::new(), |law| text::sentence(&law));
    let components = if with_components { components_text(made) } else { String::new() };
    let others = others_text(made);
    format!(
        "{}\n  {}\n\n{table}\n{components}{others}{law}{}{}{}",
        made.part.title(),
        made.part.span_line(),
        text::sentence(&format!(
            "levels are those at {} s, where all partials together are loudest",
            text::number(found.level_at_s, 3)
        )),
        text::sentence(&settings_line(made)),
        text::findings_below(&made.findings),
    )
}

/// What makes the partials that are no single tone.
fn components_text(made: &Made<'_>) -> String {
    let all = components_of(&made.found.partials);
    if all.is_empty() {
        return "  No partial is known to be two or three tones together.\n\n".into();
    }
    let head = made.row_head();
    let all: Vec<Row<'_, ComponentRow>> =
        all.iter().map(|item| Row { part: &head, item }).collect();
    let table = component_table(&made.part.level_unit()).text(&all);
    format!("  Partials of two or three tones together\n\n{table}\n")
}

fn components_of(found: &Measured) -> Vec<ComponentRow> {
    let of = |partial: &Partial| {
        let number = partial.number;
        let row = move |(n, component): (usize, &PartialComponent)| ComponentRow {
            partial: number,
            number: n,
            component: *component,
        };
        (1..).zip(&partial.components).map(row).collect::<Vec<_>>()
    };
    found.partials.iter().flat_map(of).collect()
}

fn component_table<'t>(level_unit: &'t str) -> Table<'t, Row<'t, ComponentRow>> {
    let shown = [
        Shown::new("frequency_hz", "frequency Hz"),
        Shown::new("hz_from_strongest", "from strongest Hz").signed(),
        Shown::new("level_db", level_unit),
        Shown::new("decay_t60_s", "T60 s"),
    ];
    Table::of_parts()
        .count("partial", "partial", |row: &Row<'t, ComponentRow>| row.item.partial as u64)
        .count("number", "tone", |row| row.item.number as u64)
        .fields(&PartialComponent::FIELDS, &shown, |row| &row.component)
        .level_reference()
}

/// The tones off the series, where they were asked for.
fn others_text(made: &Made<'_>) -> String {
    let found = &made.found.partials;
    let Some((others, hz)) = found.other_tones.as_ref().zip(found.others_resolve_hz) else {
        return String::new();
    };
    let resolved = format!("resolved {} Hz from a partial and further", text::number(hz, 1));
    if others.is_empty() {
        return format!("  No lasting tone off the series, {resolved}.\n\n");
    }
    let head = made.row_head();
    let all: Vec<Row<'_, OtherTone>> =
        others.iter().map(|item| Row { part: &head, item }).collect();
    let table = other_table(&made.part.level_unit()).text(&all);
    format!("  Lasting tones off the series, {resolved}\n\n{table}\n")
}

/// The tones off the series.
fn other_table<'t>(level_unit: &'t str) -> Table<'t, Row<'t, OtherTone>> {
    let fields: &'static [Field<OtherTone>] = &OtherTone::FIELDS;
    let (tone, fields) = fields.split_at(2);
    let (from_partial, fields) = fields.split_at(1);
    let (from_sum, decay) = fields.split_at(1);
    let shown = [
        Shown::new("frequency_hz", "frequency Hz"),
        Shown::new("level_db", level_unit),
        Shown::new("hz_from_partial", "from it Hz").signed(),
        Shown::new("hz_from_sum", "from sum Hz").signed().rank(2),
        Shown::new("decay_t60_s", "T60 s"),
    ];
    let heard = |tone: &OtherTone| {
        format!("{}–{}", text::number(tone.start_s, 2), text::number(tone.end_s, 2))
    };
    Table::of_parts()
        .count("number", "no.", |row: &Row<'t, OtherTone>| row.item.number as u64)
        .fields(tone, &shown, |tone| tone)
        .count("nearest_partial", "near no.", |row| row.item.nearest_partial as u64)
        .fields(from_partial, &shown, |tone| tone)
        .words("sum_of", "sum of", |row| sum_words(row.item))
        .fields(from_sum, &shown, |tone| tone)
        .fields(decay, &shown, |tone| tone)
        .printed("heard s", move |row| heard(row.item))
        .rank(5)
        .level_reference()
}

/// The partials that add up to a tone.
fn sum_words(tone: &OtherTone) -> String {
    tone.sum_of.map_or(String::new(), |[low, high]| format!("{low} + {high}"))
}

/// The partials; in text the columns in which something stands.
fn partial_table<'t>(found: Option<&Measured>, level_unit: &'t str) -> Table<'t, Row<'t, Partial>> {
    let any = |is: fn(&Partial) -> bool| found.is_some_and(|found| found.partials.iter().any(is));
    let is_harmonic = found.is_some_and(|found| found.f0_hz.is_some());
    let mut shown =
        vec![Shown::new("frequency_hz", "frequency Hz"), Shown::new("level_db", level_unit)];
    if is_harmonic {
        shown.push(Shown::new("cents_from_harmonic", "from harmonic ¢").signed());
    }
    shown.push(Shown::new("ratio", "ratio"));
    shown.push(Shown::new("cents_from_target", "from target ¢").signed());
    shown.push(Shown::new("decay_t60_s", "T60 s"));
    shown.push(Shown::new("late_t60_s", "late T60 s").rank(3));
    shown.push(Shown::new("knee_s", "knee s").rank(4));
    shown.push(Shown::new("beat_hz", "beat Hz").rank(1));
    shown.push(Shown::new("beat_depth_db", "deep dB").rank(4));
    let is_empty = [
        ("ratio", !any(|partial| partial.ratio.is_some())),
        ("cents_from_target", !any(|partial| partial.target_ratio.is_some())),
        ("late_t60_s", !any(|partial| partial.late_t60_s.is_some())),
        ("knee_s", !any(|partial| partial.late_t60_s.is_some())),
        ("beat_hz", !any(|partial| partial.beat_hz.is_some())),
        ("beat_depth_db", !any(|partial| partial.beat_hz.is_some())),
    ];
    shown.retain(|column| !is_empty.contains(&(column.field(), true)));
    let heard = |partial: &Partial| {
        format!("{}–{}", text::number(partial.start_s, 2), text::number(partial.end_s, 2))
    };
    Table::of_parts()
        .count("number", "no.", |row: &Row<'t, Partial>| row.item.number as u64)
        .fields(&Partial::FIELDS, &shown, |partial| partial)
        .when(is_harmonic && any(|partial| !partial.on_law), |table| {
            let off = |row: &Row<'t, Partial>| if row.item.on_law { "" } else { "off" }.to_string();
            table.words("", "fit", off).rank(2)
        })
        .printed("heard s", move |row| heard(row.item))
        .rank(5)
        .flag("on_law", |row| row.item.on_law)
        .level_reference()
        .mark(move |row| is_harmonic && !row.item.on_law)
}

/// The levels of the first partials over time, for a page.
fn decay_curves(found: &Measured) -> Vec<ChartCurve> {
    const TRACKS: usize = 8;
    const POINTS: usize = 300;
    let curve = |track: &PartialTrack| {
        let step = track.points.len().div_ceil(POINTS).max(1);
        let points = track.points.iter().enumerate().step_by(step);
        let (x, y) = points
            .map(|(n, point)| (track.start_s + n as f64 * track.hop_s, found.level_db_at(point)))
            .unzip();
        ChartCurve { name: format!("partial {}", track.number), x, y }
    };
    found.heard_tracks().iter().take(TRACKS).map(curve).collect()
}

/// The points of all tracks.
fn points_of(found: &Measured) -> Vec<TrackRow> {
    let mut rows = Vec::new();
    for track in found.heard_tracks() {
        rows.extend(track.points.iter().enumerate().map(|(n, point)| TrackRow {
            number: track.number,
            time_s: track.start_s + n as f64 * track.hop_s,
            level_db: found.level_db_at(point),
            point: *point,
        }));
    }
    rows
}

fn track_table<'t>() -> Table<'t, Row<'t, TrackRow>> {
    Table::of_parts()
        .count("number", "", |row: &Row<'t, TrackRow>| row.item.number as u64)
        .number("time_s", "", 0, |row| Some(row.item.time_s))
        .number("frequency_hz", "", 0, |row| Some(row.item.point.frequency_hz))
        .number("level_db", "", 0, |row| Some(row.item.level_db))
        .number("phase_rad", "", 0, |row| Some(row.item.point.phase_rad))
        .level_reference()
}
