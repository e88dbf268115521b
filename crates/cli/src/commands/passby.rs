//! `passby`: speed and closest distance of a source that passes by.

use anyhow::Result;
use clap::Args;
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::passby::{Passby as Measured, PassbySettings, PassingTone, passby};
use tonemap_core::quantity::{Quantities, Quantity};
use tonemap_core::units::Celsius;
use tonemap_figures::{
    ChartCurve, ColourMap, DrawnTrack, Figure, Marks, PitchFigure, ReportPart, TrackPoint,
    course_chart, pitch_cells, pitch_figure,
};

use crate::args::{FigureArgs, OutputArgs, TakesArgs};
use crate::columns::{background, drawn};
use crate::limits::LimitArgs;
use crate::measure::{self, Common, Measure, row_heads, rows};
use crate::table::Table;
use crate::take::Part;
use crate::text;

/// Speed and closest distance of a source that passes by, from how its tones shift
///
/// All tones of a source that moves along a straight line shift alike: one curve is fitted to
/// all of them. Steady tones are refused. How it is computed stands in
/// docs/methods/passby.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Passby {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    air: AirArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    look: LookArgs,
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap passby wagon.wav --figure wagon.png
      how fast, how near, and when; the fitted curves over the spectrogram
  tonemap passby road.wav --from 12s --to 20s --temperature 5C
      one of several that pass, on a cold day
  tonemap passby train.wav --format json --require 'speed_m_s<14'
      exit status 3 if it is faster";

#[derive(Args, Clone)]
#[command(next_help_heading = "Air")]
struct AirArgs {
    /// Temperature of the air, for the speed of sound
    #[arg(long, value_name = "TEMPERATURE", default_value = "20C", allow_hyphen_values = true)]
    temperature: Celsius,
}

#[derive(Args, Clone)]
#[command(next_help_heading = "Figure")]
struct LookArgs {
    /// Colours of the spectrogram: ember, lagoon, or grey for print
    #[arg(long, value_name = "MAP", default_value = "ember")]
    colours: ColourMap,
}

/// What was measured of a part.
pub(crate) struct Found {
    settings: PassbySettings,
    passby: Measured,
}

type Made<'a> = measure::Made<'a, Found>;

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    temperature_c: f64,
}

impl Measure for Passby {
    const KIND: &'static str = "passby";
    type Found = Found;

    fn common(&self) -> Common<'_> {
        Common::of(&self.takes, &self.limits, &self.figure, &self.output)
    }

    fn measure(&self, part: &Part<'_>, quiet: bool) -> Result<(Found, Vec<Finding>)> {
        let settings = PassbySettings { temperature_c: self.air.temperature.0 };
        let (samples, meter, mut findings) = part.spooled(quiet, |_| ())?;
        findings.extend(meter.finish().findings(&part.channel_name()));
        let found = passby(&samples, part.rate_hz(), part.start_s(), &settings)?;
        findings.extend(found.findings.iter().cloned());
        Ok((Found { settings, passby: found }, findings))
    }

    fn settings(&self, made: &Made<'_>) -> impl Serialize {
        Settings { temperature_c: made.found.settings.temperature_c }
    }

    fn result(&self, made: &Made<'_>) -> impl Serialize {
        &made.found.passby
    }

    fn quantities(&self, made: &Made<'_>) -> Vec<Quantity> {
        made.found.passby.quantities()
    }

    fn text(&self, made: &[Made<'_>]) -> String {
        measure::each(made, as_text)
    }

    fn csv(&self, made: &[Made<'_>]) -> Result<String> {
        let heads = row_heads(made);
        Table::of_parts().fields(&Measured::FIELDS, &[], |of: &Measured| of).csv(rows(
            made,
            &heads,
            |found| std::iter::once(&found.passby),
        ))
    }

    fn draw(&self, made: &[Made<'_>]) -> Result<Figure> {
        self.draw_pass(&made[0])
    }

    fn section(&self, made: &Made<'_>) -> Result<ReportPart> {
        let curves: Vec<ChartCurve> = made
            .found
            .passby
            .tones
            .iter()
            .map(|tone| {
                let (x, y) = tone.heard.iter().copied().unzip();
                ChartCurve { name: tone_name(tone), x, y }
            })
            .collect();
        let chart =
            course_chart("passby", "Tones as they are heard", &curves, ("Frequency, Hz", "Hz"));
        let found = &made.found.passby;
        let facts = [
            text::fact("Speed", found.speed_m_s, 3, "m/s"),
            text::fact("Closest distance", found.distance_m, 3, "m"),
            text::fact("Frequency at rest", found.rest_frequency_hz, 4, "Hz"),
            text::fact("Closest, as it is heard", found.closest_s, 3, "s"),
        ];
        let text = format!("Speed of the source, {}", made.part.title());
        Ok(ReportPart {
            facts: facts.into_iter().flatten().collect(),
            charts: vec![chart],
            tables: Vec::new(),
            headline: text::headline(found.speed_m_s, 3, "m/s", text),
        })
    }
}

fn tone_name(tone: &PassingTone) -> String {
    tone.rest_frequency_hz.map_or(String::new(), |hz| format!("{} Hz", text::number(hz.value, 1)))
}

impl Passby {
    /// The fitted curves over the spectrogram.
    fn draw_pass(&self, made: &Made<'_>) -> Result<Figure> {
        let found = &made.found.passby;
        let heard = || found.tones.iter().flat_map(|tone| &tone.heard).map(|(_, hz)| *hz);
        let low = heard().fold(f64::INFINITY, f64::min);
        let high = heard().fold(0.0, f64::max);
        let range_hz = (0.7 * low, (1.4 * high).min(made.part.rate_hz() / 2.0));
        let cells =
            background(&made.part, range_hz, pitch_cells(self.figure.size), self.output.quiet)?;
        let title = made.part.title();
        let span_s = made.part.span_s();
        let (drawn, range_db) = drawn(&cells, &title, &made.part, Marks::default());
        let tracks: Vec<DrawnTrack> =
            found.tones.iter().map(|tone| fitted_curve(found, tone, span_s)).collect();
        let notes = [speed_line(found), air_line(made), made.part.span_line()];
        let figure = PitchFigure {
            background: Some((drawn, range_db, self.look.colours)),
            marks: Marks { tracks: &tracks, tracks_name: "fitted curve", ..Marks::default() },
            notes_found: &[],
            span_s,
            range_hz,
            title: &title,
            notes: &notes,
            findings: &made.findings,
            reference_hz: made.part.take().reference_hz(),
        };
        Ok(pitch_figure(&figure, self.figure.size)?)
    }
}

/// A tone as the fit has it, over the span.
fn fitted_curve(found: &Measured, tone: &PassingTone, (from_s, to_s): (f64, f64)) -> DrawnTrack {
    const POINTS: usize = 600;
    let points = (0..=POINTS).filter_map(|n| {
        let time_s = from_s + (to_s - from_s) * n as f64 / POINTS as f64;
        let frequency_hz = found.heard_hz(tone, time_s)?;
        Some(TrackPoint { time_s, frequency_hz, confidence: 1.0 })
    });
    DrawnTrack { stretches: vec![points.collect()] }
}

fn speed_line(found: &Measured) -> String {
    const PER_HOUR: f64 = 3.6;
    let with_u = |value: Option<tonemap_core::Measured>, unit: &str, most: usize| match value {
        Some(value) => {
            let [value, u] = text::measured(value.value, value.u, most);
            format!("{value} ± {u} {unit}")
        }
        None => "not known".into(),
    };
    let speed = with_u(found.speed_m_s, "m/s", 3);
    let per_hour = found.speed_m_s.map_or(String::new(), |speed| {
        format!(" ({} km/h)", text::number(PER_HOUR * speed.value, 1))
    });
    let when = match found.closest_s {
        Some(_) => format!(", heard at {}", with_u(found.closest_s, "s", 4)),
        None => String::new(),
    };
    let distance = with_u(found.distance_m, "m", 3);
    format!("speed {speed}{per_hour}, closest distance {distance}{when}")
}

fn air_line(made: &Made<'_>) -> String {
    let found = &made.found.passby;
    let hz = |value: Option<tonemap_core::Measured>| {
        value.map_or("–".into(), |hz| {
            let [value, u] = text::measured(hz.value, hz.u, 3);
            format!("{value} ± {u} Hz")
        })
    };
    format!(
        "at rest {}, in approach {}, in recession {}; speed of sound {} m/s at {} °C",
        hz(found.rest_frequency_hz),
        hz(found.approach_hz),
        hz(found.recede_hz),
        text::number(found.sound_m_s, 1),
        text::number(made.found.settings.temperature_c, 1)
    )
}

fn as_text(made: &Made<'_>) -> String {
    let found = &made.found.passby;
    let head = format!("{}\n  {}\n", made.part.title(), made.part.span_line());
    let mut parts =
        vec![head, text::sentence(&speed_line(found)) + &text::sentence(&air_line(made))];
    let tones: Vec<&PassingTone> = found.tones.iter().collect();
    let table = Table::new()
        .measured("", "tone at rest, Hz", 3, |tone: &&PassingTone| tone.rest_frequency_hz)
        .number("", "highest level, dBFS", 1, |tone| Some(tone.level_dbfs))
        .number("", "first heard, s", 2, |tone| tone.heard.first().map(|(t, _)| *t))
        .number("", "last heard, s", 2, |tone| tone.heard.last().map(|(t, _)| *t));
    parts.push(table.text(&tones));
    let findings = text::findings(&made.findings);
    parts.extend(Some(findings).filter(|findings| !findings.is_empty()));
    parts.join("\n")
}
