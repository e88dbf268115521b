//! What the page says of each take: its pictures, its facts, and what its kind calls for.

use std::sync::Mutex;

use anyhow::Result;
use rayon::prelude::*;
use tonemap_core::quantity::Key;
use tonemap_core::spectrogram::{FrequencyAxis, Pooling, SpectrogramSettings, spectrogram};
use tonemap_core::units::{LevelReference, Note};
use tonemap_core::{Finding, Measured, Severity};
use tonemap_figures::{
    Chart, Headline, PreviewPictures, ReportPreview, ReportSection, ReportTable, map_chart,
};
use tonemap_media::{WavEncoding, flac_file, write_wav};

use super::Report;
use super::sections::sentences;
use crate::analyses::Analyses;
use crate::args::{PartArgs, SourceArgs, SpanArgs};
use crate::kept::Kept;
use crate::progress::TakesProgress;
use crate::saved::Saved;
use crate::status::{self, Status};
use crate::studies::Named;
use crate::table::Table;
use crate::take::{NoteSamples, Take};
use crate::text;

/// Longest stretch that is drawn over time, in seconds.
const DRAWN_S: f64 = 120.0;

/// What the page shows of a take.
pub(super) struct TakeSection {
    pub(super) section: ReportSection,
    pub(super) preview: ReportPreview,
    pub(super) row: TakeRow,
    pub(super) findings: Vec<Finding>,
    pub(super) results: Vec<Saved>,
}

/// The level of a take's first channel, of sound pressure if it is calibrated.
#[derive(Clone, Copy)]
struct Level {
    db: f64,
    quantity: &'static str,
}

/// A take at a glance.
pub(super) struct TakeRow {
    name: String,
    reference_hz: f64,
    duration_s: Option<f64>,
    sample_rate_hz: Option<f64>,
    level: Option<Level>,
    f0_hz: Option<Measured>,
    centroid_hz: Option<f64>,
    findings: usize,
}

impl TakeRow {
    /// Quantities that can be followed over a condition: what it is, then what it sounds like.
    pub(super) fn followed(&self) -> [Option<&'static str>; 2] {
        let level = self.level.map(|level| level.quantity);
        let what = self.f0_hz.map(|_| "partials.f0_hz").or(level);
        [what, self.centroid_hz.map(|_| "timbre.centroid_hz")]
    }

    pub(super) fn is_of(&self, named: &Named) -> bool {
        self.name == named.name()
    }

    fn nearest(&self) -> Option<(Note, f64)> {
        Note::nearest(self.f0_hz?.value, self.reference_hz)
    }

    /// The take in a line.
    pub(super) fn headline(&self) -> Option<Headline> {
        let line = match self.nearest() {
            Some((note, cents)) => {
                let cents = text::signed(text::number(cents, 1));
                format!("Fundamental of {}, {note} {cents} cents", self.name)
            }
            None => format!("Level of {}", self.name),
        };
        let level = self.level.map(|level| Measured::new(level.db, f64::NAN));
        let f0 = self.f0_hz.and_then(|f0| text::headline(Some(f0), 5, "Hz", line.clone()));
        f0.or_else(|| text::headline(level, 1, "dB", line))
    }
}

/// The takes at a glance.
pub(super) fn take_table(rows: &[TakeRow]) -> ReportTable {
    Table::new()
        .words("", "take", |row: &TakeRow| row.name.clone())
        .words("", "note", |row| {
            row.nearest().map_or(text::UNKNOWN.into(), |(note, _)| note.to_string())
        })
        .number("", "seconds", 2, |row| row.duration_s)
        .number("", "Hz", 0, |row| row.sample_rate_hz)
        .number("", "level, dB", 1, |row| row.level.map(|level| level.db))
        .measured("", "f0, Hz", 5, |row| row.f0_hz)
        .signed("", "cents", 1, |row| row.nearest().map(|(_, cents)| cents))
        .number("", "centroid, Hz", 1, |row| row.centroid_hz)
        .count("", "findings", |row| row.findings as u64)
        .page("", rows)
}

/// The first channel drawn, and its sound if it is wanted.
struct Drawn {
    map: Chart,
    pictures: PreviewPictures,
    sound: Option<(&'static str, Vec<u8>)>,
    is_calibrated: bool,
}

impl Report {
    /// The sections of all takes, in their order. One that cannot be measured is named and does not
    /// stop the others.
    pub(super) fn take_sections(
        &self,
        analyses: &Analyses,
        named: &[Named],
        status: &mut Status,
    ) -> Vec<TakeSection> {
        let progress = TakesProgress::new("report", named.len(), self.written.quiet);
        let failed = Mutex::new(false);
        let made: Vec<Option<TakeSection>> = named
            .par_iter()
            .enumerate()
            .map(|(n, named)| {
                let section = self.take_section(analyses, n, named);
                progress.advance();
                match section {
                    Ok(section) => Some(section),
                    Err(error) => {
                        status::print_error(&error);
                        if let Ok(mut failed) = failed.lock() {
                            *failed = true;
                        }
                        None
                    }
                }
            })
            .collect();
        drop(progress);
        if failed.into_inner().unwrap_or(true) {
            *status = Status::CouldNot;
        }
        made.into_iter().flatten().collect()
    }

    fn take_section(&self, analyses: &Analyses, n: usize, named: &Named) -> Result<TakeSection> {
        let options = |words: &[&str]| words.iter().map(ToString::to_string).collect::<Vec<_>>();
        let name = named.name();
        let inspect = analyses.of(named, "inspect", &[])?;
        let spectrum = analyses.of(named, "spectrum", &options(&["--peaks", "12"]))?;
        // Not every sound has a timbre; that is no fault of the report.
        let timbre = analyses.of(named, "timbre", &[]).ok();
        // Facts of a note are those that it has of one alone.
        let is_note = timbre.as_ref().is_some_and(|timbre| !timbre.part.facts.is_empty());
        let of_note = |command: &str| {
            if is_note { analyses.of(named, command, &[]).ok() } else { None }
        };
        let (partials, pitch) = (of_note("partials"), of_note("pitch"));
        // What is no note is asked how loud it is, also to the ear where it is calibrated.
        let of_sound = |command: &str| {
            if is_note { None } else { analyses.of(named, command, &[]).ok() }
        };
        let (levels, loudness) = (of_sound("bands"), of_sound("loudness"));
        let drawn = self.drawn(named)?;
        let mut section = ReportSection {
            id: format!("take-{n}"),
            title: name.clone(),
            text: conditions_of(named),
            sound: drawn.sound,
            ..ReportSection::default()
        };
        let row = TakeRow {
            name: name.clone(),
            reference_hz: named.entry.as_ref().map_or(440.0, |entry| entry.reference_hz),
            duration_s: value(inspect.top("duration_s")),
            sample_rate_hz: value(inspect.top("sample_rate_hz")),
            level: level_of(&inspect),
            f0_hz: timbre.as_ref().filter(|_| is_note).and_then(|timbre| timbre.top("f0_hz")),
            centroid_hz: value(timbre.as_ref().and_then(|timbre| timbre.top("centroid_hz"))),
            findings: 0,
        };
        let mut results = Vec::new();
        let mut findings: Vec<Finding> = Vec::new();
        let all = [Some(inspect), Some(spectrum), levels, loudness, pitch, timbre, partials];
        for (place, mut kept) in all.into_iter().flatten().enumerate() {
            results.extend(kept.saved()?);
            section.add(std::mem::take(&mut kept.part));
            if place == 1 {
                section.charts.push(drawn.map.clone());
            }
            for finding in kept.findings.into_iter().filter(|one| one.severity > Severity::Note) {
                let finding = Finding { take: Some(name.clone()), ..finding };
                // Several analyses find the same of one take.
                let is_same =
                    |other: &Finding| other.code == finding.code && other.text == finding.text;
                if !findings.iter().any(is_same) {
                    findings.push(finding);
                }
            }
        }
        section.findings = sentences(&findings, &name);
        let row = TakeRow { findings: findings.len(), ..row };
        let preview = ReportPreview {
            section: section.id.clone(),
            name,
            note: row.nearest().map_or(String::new(), |(note, cents)| {
                format!("{note} {}", text::signed(text::number(cents, 0)))
            }),
            level: row.level.map_or(String::new(), |level| {
                let unit = if drawn.is_calibrated { "dB" } else { "dBFS" };
                format!("{} {unit}", text::number(level.db, 0))
            }),
            mark: findings.iter().map(|finding| finding.severity).max(),
            pictures: drawn.pictures,
        };
        Ok(TakeSection { section, preview, row, findings, results })
    }

    fn drawn(&self, named: &Named) -> Result<Drawn> {
        let source = SourceArgs { conditions: Vec::new(), ..self.source.clone() };
        let mut take = Take::open(named.clone(), &source)?;
        let until = (take.duration_s() > DRAWN_S).then_some(DRAWN_S);
        let span = SpanArgs::until(until);
        let part = take.parts(&PartArgs { span, channels: Vec::new() })?.remove(0);
        let rate_hz = part.rate_hz();
        let NoteSamples { samples, .. } = part.note_samples()?;
        let settings = SpectrogramSettings {
            axis: FrequencyAxis::Logarithmic,
            size: (560, 256),
            pooling: Pooling::Maximum,
            ..SpectrogramSettings::default()
        };
        let made = spectrogram(&samples, rate_hz, &settings)?;
        let resolution = text::number(made.plan.resolution_hz(), 0);
        let cut = until.map_or(String::new(), |s| format!(", the first {s} s"));
        let caption = format!("Level over time and frequency{cut}; resolution {resolution} Hz");
        let (full_scale_db, unit) = (part.reference.full_scale_db(), part.level_unit());
        let map = map_chart("map", &caption, &made, full_scale_db, self.colours, &unit)?;
        let pictures = PreviewPictures::new(&samples, &made);
        let sound = if self.sound { Some(sound_of(rate_hz as u32, samples)?) } else { None };
        let is_calibrated = part.reference != LevelReference::FullScale;
        Ok(Drawn { map, pictures, sound, is_calibrated })
    }
}

/// A sound in 16 bits, with its media type: without loss in as little space as it takes.
fn sound_of(rate_hz: u32, samples: Vec<f32>) -> Result<(&'static str, Vec<u8>)> {
    let packed = flac_file(rate_hz, &samples);
    let mut file = std::io::Cursor::new(Vec::new());
    write_wav(&mut file, rate_hz, &[samples], WavEncoding::Integer(16))?;
    let plain = file.into_inner();
    Ok(match packed {
        Some(packed) if packed.len() < plain.len() => ("audio/flac", packed),
        _ => ("audio/wav", plain),
    })
}

/// The conditions of a take in a sentence.
fn conditions_of(named: &Named) -> String {
    let Some(entry) = &named.entry else { return String::new() };
    let mut parts: Vec<String> =
        entry.take.conditions.iter().map(|(name, value)| format!("{name} {value}")).collect();
    parts.extend(entry.take.group.as_ref().map(|group| format!("group {group}")));
    parts.extend(entry.take.note.as_ref().map(|note| format!("expected {note}")));
    parts.join(", ")
}

fn value(measured: Option<Measured>) -> Option<f64> {
    measured.map(|measured| measured.value)
}

fn level_of(inspect: &Kept) -> Option<Level> {
    let of = |field, quantity| {
        let db = value(inspect.number(&Key::item("channels", 1).then(field)))?;
        Some(Level { db, quantity })
    };
    let calibrated = of("rms_db", "inspect.channels[1].rms_db");
    calibrated.or_else(|| of("rms_dbfs", "inspect.channels[1].rms_dbfs"))
}
