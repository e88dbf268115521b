//! `modulation`: how fast and how deep a sound swells and fades, or moves in frequency.

use anyhow::Result;
use clap::Args;
use serde::Serialize;
use tonemap_core::Finding;
use tonemap_core::modulation::{
    Beat, Kind, Modulation as Measured, ModulationSettings, Moment, Rate, modulation,
};
use tonemap_core::quantity::{Quantities, Quantity};
use tonemap_core::units::{Frequency, FrequencyRange, LevelReference};
use tonemap_figures::{
    ChartCurve, Figure, ModulationFigure, ReportPart, Words, course_chart, modulation_cells,
    modulation_figure,
};

use crate::args::{FigureArgs, OutputArgs, TakesArgs};
use crate::limits::LimitArgs;
use crate::measure::{self, Common, Measure, row_heads, rows};
use crate::table::{Row, Shown, Table};
use crate::take::Part;
use crate::text;

/// Envelope, rate and depth of modulation; AM, FM and beats; fluctuation strength, roughness
///
/// The envelope is that of the analytic signal of a band: where tones stand out of the noise, the
/// band that they fill. A wave is fitted to it stretch by stretch, and to all of the take where one
/// fits. Where the channel is calibrated, fluctuation strength and roughness say how strongly it is
/// heard. How it is computed stands in docs/methods/modulation.md.
#[derive(Args)]
#[command(after_long_help = EXAMPLES)]
pub(crate) struct Modulation {
    #[command(flatten)]
    takes: TakesArgs,
    #[command(flatten)]
    search: SearchArgs,
    #[command(flatten)]
    limits: LimitArgs,
    #[command(flatten)]
    figure: FigureArgs,
    #[command(flatten)]
    output: OutputArgs,
}

const EXAMPLES: &str = "Examples:
  tonemap modulation fan-worn --figure fan.png
      how fast and how deep the fan pulses, and how strongly that is heard
  tonemap modulation bell-cut0 --range 1550Hz..1640Hz --from 0.3
      the beat of its second partial, and the two tones that make it
  tonemap modulation siren.wav --resolve 4Hz --format csv
      rate, depth and frequency deviation over time, every 0.125 s
  tonemap modulation fan.wav --assume 'full-scale = 94dB' --require 'roughness_asper<0.2'
      exit status 3 if it is rougher; a full-scale sine is taken to be 94 dB";

#[derive(Args, Clone)]
#[command(next_help_heading = "Search")]
struct SearchArgs {
    /// Band of which the envelope is: 400Hz..600Hz [default: what tones fill, or all]
    #[arg(long, value_name = "RANGE")]
    range: Option<FrequencyRange>,
    /// Rates that are looked for, slowest to fastest
    #[arg(long, value_name = "RANGE", default_value = "0.1Hz..300Hz")]
    rates: FrequencyRange,
    /// Resolve two rates this far apart: a stretch lasts twice the inverse, one every quarter of it
    #[arg(long, value_name = "FREQUENCY", default_value = "0.5Hz")]
    resolve: Frequency,
}

/// What was measured of a part.
pub(crate) struct Found {
    settings: ModulationSettings,
    modulation: Measured,
}

type Made<'a> = measure::Made<'a, Found>;

/// `settings` in JSON.
#[derive(Serialize)]
struct Settings {
    level_reference: &'static str,
    range_hz: Option<(f64, f64)>,
    rates_hz: (f64, f64),
    resolution_hz: f64,
}

impl Modulation {
    fn settings_of(&self, part: &Part<'_>) -> Result<ModulationSettings> {
        let (reference_hz, rate_hz) = (part.take().reference_hz(), part.rate_hz());
        let range = self.search.range.map(|range| range.hz(reference_hz, rate_hz)).transpose()?;
        let full_scale_db = match part.reference {
            LevelReference::Pressure { full_scale_db } => Some(full_scale_db),
            _ => None,
        };
        Ok(ModulationSettings {
            range_hz: range,
            rates_hz: self.search.rates.hz(reference_hz, rate_hz)?,
            resolution_hz: self.search.resolve.hz(reference_hz),
            cells: self.figure.figure.as_ref().map(|_| modulation_cells(self.figure.size)),
            full_scale_db,
        })
    }
}

impl Measure for Modulation {
    const KIND: &'static str = "modulation";
    type Found = Found;

    fn common(&self) -> Common<'_> {
        Common::of(&self.takes, &self.limits, &self.figure, &self.output)
    }

    fn measure(&self, part: &Part<'_>, quiet: bool) -> Result<(Found, Vec<Finding>)> {
        let settings = self.settings_of(part)?;
        let (samples, meter, mut findings) = part.spooled(quiet, |_| ())?;
        findings.extend(meter.finish().findings(&part.channel_name()));
        let found = modulation(&samples, part.rate_hz(), part.start_s(), &settings)?;
        findings.extend(found.findings.iter().cloned());
        Ok((Found { settings, modulation: found }, findings))
    }

    fn settings(&self, made: &Made<'_>) -> impl Serialize {
        let settings = &made.found.settings;
        Settings {
            level_reference: made.part.reference.name(),
            range_hz: settings.range_hz,
            rates_hz: settings.rates_hz,
            resolution_hz: settings.resolution_hz,
        }
    }

    fn result(&self, made: &Made<'_>) -> impl Serialize {
        made.found.modulation.clone()
    }

    fn quantities(&self, made: &Made<'_>) -> Vec<Quantity> {
        made.found.modulation.quantities()
    }

    fn text(&self, made: &[Made<'_>]) -> String {
        measure::each(made, as_text)
    }

    fn csv(&self, made: &[Made<'_>]) -> Result<String> {
        let heads = row_heads(made);
        course_table().csv(rows(made, &heads, |found| found.modulation.course.iter()))
    }

    fn draw(&self, made: &[Made<'_>]) -> Result<Figure> {
        let made = &made[0];
        let title = made.part.title();
        let found = &made.found.modulation;
        let strength = strength_line(found);
        let notes = [head_line(found), strength, settings_line(found), made.part.span_line()];
        let figure = ModulationFigure {
            found,
            span_s: made.part.span_s(),
            reference: made.part.reference,
            words: Words { title: &title, notes: &notes, findings: &made.findings },
        };
        Ok(modulation_figure(&figure, self.figure.size)?)
    }

    fn section(&self, made: &Made<'_>) -> Result<ReportPart> {
        let found = &made.found.modulation;
        let percent = found.depth.map(|depth| depth.scaled(100.0));
        let facts = [
            text::fact("Modulation rate", found.rate_hz, 4, "Hz"),
            text::fact("Modulation depth", percent, 2, "%"),
            text::fact("Frequency deviation", found.frequency_deviation_hz, 3, "Hz"),
            Some(("Modulation".to_string(), text::sentence(&head_line(found)).trim().to_string())),
            Some(("How it is heard".into(), text::sentence(&strength_line(found)).trim().into())),
        ];
        let known = |of: fn(&Moment) -> Option<f64>| -> ChartCurve {
            let moments = found.course.iter().filter_map(|at| Some((at.time_s, of(at)?)));
            let (x, y) = moments.unzip();
            ChartCurve { name: "depth".into(), x, y }
        };
        let depth = known(|at| at.depth.map(|depth| 100.0 * depth));
        let caption = "Depth of the modulation over time";
        let charts = vec![course_chart("modulation", caption, &[depth], ("Depth, %", "%"))];
        let rates: Vec<(usize, Rate)> = (1..).zip(found.rates.iter().copied()).collect();
        let listed: Vec<&(usize, Rate)> = rates.iter().collect();
        let tables = vec![rate_table().page("Modulations of the envelope", &listed)];
        let headline =
            text::headline(found.rate_hz, 4, "Hz", format!("Modulation, {}", made.part.title()));
        let facts = facts.into_iter().flatten().collect();
        Ok(ReportPart { facts, charts, tables, headline })
    }
}

fn as_text(made: &Made<'_>) -> String {
    let found = &made.found.modulation;
    let mut parts = vec![format!(
        "{}\n  {}\n{}{}",
        made.part.title(),
        made.part.span_line(),
        text::sentence(&head_line(found)),
        text::sentence(&strength_line(found)),
    )];
    if found.rates.len() > 1 {
        let rates: Vec<(usize, Rate)> = (1..).zip(found.rates.iter().copied()).collect();
        parts.push(rate_table().text(&rates.iter().collect::<Vec<_>>()));
    }
    if let Some((low, high)) = found.slowest_hz.zip(found.fastest_hz) {
        parts.push(text::sentence(&format!(
            "the rate moves between {} Hz and {} Hz; --format csv gives it over time",
            text::number(low, 2),
            text::number(high, 2)
        )));
    }
    parts.push(text::sentence(&settings_line(found)));
    let findings = text::findings(&made.findings);
    parts.extend(Some(findings).filter(|findings| !findings.is_empty()));
    parts.join("\n")
}

fn rate_table<'t>() -> Table<'t, &'t (usize, Rate)> {
    Table::new()
        .count("", "of the envelope", |row: &&(usize, Rate)| row.0 as u64)
        .measured("", "rate Hz", 4, |row| {
            Some(tonemap_core::Measured::new(row.1.rate_hz, row.1.rate_hz_u))
        })
        .measured("", "depth %", 3, |row| {
            Some(tonemap_core::Measured::new(100.0 * row.1.depth, 100.0 * row.1.depth_u))
        })
}

fn course_table<'t>() -> Table<'t, Row<'t, Moment>> {
    let shown = [
        Shown::new("time_s", "time s"),
        Shown::new("rate_hz", "rate Hz"),
        Shown::new("depth", "depth"),
        Shown::new("frequency_deviation_hz", "frequency deviation Hz"),
        Shown::new("frequency_rate_hz", "its rate Hz"),
        Shown::new("fluctuation_strength_vacil", "fluctuation strength vacil"),
        Shown::new("roughness_asper", "roughness asper"),
    ];
    Table::of_parts().fields(&Moment::FIELDS, &shown, |moment| moment).level_reference()
}

/// What is modulated most, in words.
fn head_line(found: &Measured) -> String {
    let of_envelope = found.rate_hz.zip(found.depth).map(|(rate, depth)| {
        let [hz, hz_u] = text::measured(rate.value, rate.u, 4);
        let [percent, percent_u] = text::measured(100.0 * depth.value, 100.0 * depth.u, 3);
        let db = found.depth_db.filter(|db| *db > 0.05).map_or(String::new(), |db| {
            format!(", {} dB between most and least", text::number(db, 1))
        });
        format!("{hz} ± {hz_u} Hz, depth {percent} ± {percent_u} %{db}")
    });
    let of_frequency =
        found.frequency_rate_hz.zip(found.frequency_deviation_hz).map(|(rate, by)| {
            let [hz, hz_u] = text::measured(rate.value, rate.u, 4);
            let [deviation, u] = text::measured(by.value, by.u, 3);
            format!("{hz} ± {hz_u} Hz, by {deviation} ± {u} Hz to either side")
        });
    let carrier = found
        .carrier_hz
        .map_or(String::new(), |hz| format!(" of a tone of {} Hz", text::number(hz, 2)));
    match (found.kind, of_envelope, of_frequency) {
        (Kind::Beat, Some(envelope), _) => {
            let of = found.beats.first().map_or(String::new(), |beat: &Beat| {
                format!(
                    " of {} Hz and {} Hz",
                    text::number(beat.tones_hz.0, 3),
                    text::number(beat.tones_hz.1, 3)
                )
            });
            format!("beat{of}: {envelope}")
        }
        (Kind::Am, Some(envelope), None) => format!("amplitude modulation{carrier}: {envelope}"),
        (Kind::Am, Some(envelope), Some(frequency)) => {
            format!("amplitude modulation{carrier}: {envelope}; its frequency moves at {frequency}")
        }
        (Kind::Fm, None, Some(frequency)) => {
            format!("frequency modulation{carrier}: {frequency}")
        }
        (Kind::Fm, Some(envelope), Some(frequency)) => {
            format!("frequency modulation{carrier}: {frequency}; its amplitude moves at {envelope}")
        }
        _ => {
            let limit = found.depth_limit.map_or(String::new(), |limit| {
                format!("; one of {} % would be found", text::number(100.0 * limit, 2))
            });
            format!("no modulation is more than noise{limit}")
        }
    }
}

/// How strongly it is heard, in words.
fn strength_line(found: &Measured) -> String {
    let known = found.roughness_asper.map(|roughness| {
        let level = text::number(found.level_db, 1);
        let roughness = format!("roughness {} asper", text::number(roughness, 3));
        let fluctuation = match found.fluctuation_strength_vacil {
            Some(vacil) => format!("fluctuation strength {} vacil", text::number(vacil, 3)),
            None => "fluctuation strength is omitted: it takes 2 s".into(),
        };
        format!("{fluctuation}; {roughness}, at {level} dB re 20 µPa")
    });
    known.unwrap_or_else(|| {
        "fluctuation strength and roughness are omitted: the channel is not calibrated; state its level \
         with --assume 'full-scale = 94dB'"
            .into()
    })
}

fn settings_line(found: &Measured) -> String {
    format!(
        "envelope of {} Hz to {} Hz, rates {} Hz apart resolved",
        text::number(found.band_hz.0, 0),
        text::number(found.band_hz.1, 0),
        text::number(found.resolution_hz, 2),
    )
}
