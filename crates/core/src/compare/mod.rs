//! Two sounds: how they are aligned in time, how they differ, and which differences are real.
//!
//! # What it computes
//!
//! **Alignment** (module `align`): the delay of the second behind the first between samples, the
//! drift between their clocks, polarity and gain, by generalized cross-correlation, stretch by
//! stretch. Two sounds are taken as recordings of one if they have half of their power in common,
//! or nine tenths if it is that of a few tones: in each bin γ² = \|Σ A*B\|² / (Σ\|A\|²·Σ\|B\|²)
//! over the frames (G. C. Carter, Proc. IEEE 75, 1987), less what chance makes of it.
//!
//! **Null test.** What is left of the second after delay, drift and gain: b − g·a, as a level, and
//! re the second.
//!
//! **Spectra.** Powers averaged over frames (P. D. Welch, 1967), in bins and in bands of 1/N octave
//! (IEC 61260-1), dB = 10 lg(P_b / P_a).
//!
//! **Which differences are real.** Two recordings of one sound: what is in both moves both alike,
//! and the variance of ln(P_b/P_a) is 2(1 − γ²)/n over n independent frames; Student's t gives the
//! limit. Where one of them stands less than 20 dB above what it has of its own, its level is not
//! that of the sound, and no difference is reported; nor where there are only side lobes of the
//! window. Two sounds apart: a bin of noise has a variance of 1/n, a tone less, which is seen in
//! how its power scatters from frame to frame; the ratio follows an F distribution. All other
//! quantities: a difference over the root of the sum of both variances. The limits are set so that
//! in [`FALSE_RATE`](crate::significance::FALSE_RATE) of all comparisons of equals some difference
//! is reported by chance (C. E. Bonferroni).
//!
//! **Groups** of repeats: means, and B. L. Welch's t (Biometrika 34, 1947) of the spread among the
//! repeats.

mod align;
mod follow;
mod group;
mod maps;
mod overlay;
mod profile;
mod recorded;
mod search;
mod spectra;
mod uneven;

pub use group::{GroupDifference, Profile, compare_groups, profile};
pub use maps::{DifferenceMaps, difference_maps};
pub use profile::QuantityKind;
pub use recorded::{Recorded, comparability};
pub use spectra::BandDifference;

use serde::ser::{Serialize, SerializeMap, Serializer};

use crate::bands::{Band, Weighting, octave_bands};
use crate::between::Raised;
use crate::error::Error;
use crate::finding::Finding;
use crate::frame::{FramePlan, FrameSettings};
use crate::loudness::SoundField;
use crate::measured::{Measured, flat};
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, pair};
use crate::samples::{Reader, Samples};
use crate::significance::{Family, limit_over_u};
use crate::timbre::TimbreSettings;
use crate::units::{db_from_amplitude, db_from_power};
use align::{Placed, Shifted, align};
use overlay::Overlay;
use profile::{Kinded, loudness_quantities, note_quantities, numbered_alike};
use spectra::{Spectra, Together};

/// How two sounds are compared.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CompareSettings {
    /// How frames are cut. Default: 5 Hz resolution, but at least six frames beside each other.
    pub frames: FrameSettings,
    /// Lowest and highest frequency compared, in Hz; cut to half the lower sample rate.
    pub range_hz: (f64, f64),
    /// Bands of one over this many octaves.
    pub fraction: u32,
    /// Whether one is looked for in the other.
    pub align: bool,
    /// Whether differences of spectra are given less the gain.
    pub match_gain: bool,
    /// How partials and descriptors are measured, which takes most of the time and holds all samples
    /// in memory; `None` leaves them out.
    pub timbre: Option<TimbreSettings>,
    /// The sound field in which loudness is compared, where the levels of both are re 20 µPa.
    pub loudness: Option<SoundField>,
}

impl Default for CompareSettings {
    fn default() -> Self {
        Self {
            frames: FrameSettings::default(),
            range_hz: (20.0, 20_000.0),
            fraction: 3,
            align: true,
            match_gain: false,
            timbre: Some(TimbreSettings::default()),
            loudness: None,
        }
    }
}

/// A sound to be compared. It is read several times, block by block.
#[derive(Clone, Copy)]
pub struct Sound<'a> {
    /// Its samples.
    pub samples: &'a dyn Samples,
    /// Its sample rate in Hz.
    pub rate_hz: f64,
    /// Level of a full-scale sine in dB: 0 for levels re full scale.
    pub full_scale_db: f64,
    /// The samples of the note of which partials and descriptors are measured; `None` for all. In
    /// the second of two recordings of one sound it is where the first has it.
    pub note: Option<(usize, usize)>,
}

/// How the second sound is aligned with the first.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Alignment {
    /// What is at a time t of the first is at t + delay + drift·t in the second, in seconds from
    /// their first samples.
    pub delay_s: Measured,
    /// How much faster time runs in the second, in parts per million; `None` below a second.
    pub drift_ppm: Option<Measured>,
    /// Whether the drift is sure, and taken out.
    pub is_drifting: bool,
    /// How far the delay wanders about a straight line over time, RMS in seconds, where the clock of
    /// one of the two runs unevenly; taken out as well.
    pub wander_s: Option<f64>,
    /// Whether the polarity is reversed.
    pub is_reversed: bool,
    /// Gain of the second re the first, in dB.
    pub gain_db: Measured,
    /// Correlation of the two as they lie over each other, from 0 to 1.
    pub correlation: f64,
    /// Share of their power that the two have in common.
    pub shared_share: f64,
    /// When the stretch that both have begins in the first, and how long it is, in seconds.
    pub start_s: f64,
    /// See above.
    pub duration_s: f64,
    /// RMS level of what is left after delay, drift and gain, in dB re what the levels of the first
    /// refer to; `None` for nothing at all.
    pub residual_db: Option<f64>,
    /// The same re the second.
    pub residual_re_b_db: Option<f64>,
}

/// A quantity of both sounds and its difference.
#[derive(Debug, Clone, PartialEq, serde::Serialize)]
pub struct QuantityDifference {
    /// Its kind.
    #[serde(skip)]
    pub kind: QuantityKind,
    /// The quantity, with its value in the first, if it has one.
    #[serde(flatten, serialize_with = "Quantity::identity")]
    pub quantity: Quantity,
    /// Its value in the first.
    #[serde(flatten, serialize_with = "flat::a")]
    pub a: Option<Measured>,
    /// Its value in the second.
    #[serde(flatten, serialize_with = "flat::b")]
    pub b: Option<Measured>,
    /// The second less the first; `None` where one has none.
    #[serde(flatten, serialize_with = "flat::difference")]
    pub difference: Option<Measured>,
    /// Whether it is significant; `None` where the uncertainties are not known.
    #[serde(rename = "distinguishable")]
    pub is_real: Option<bool>,
}

/// How two sounds differ.
#[derive(Debug, Clone, PartialEq)]
pub struct Comparison {
    /// How they are aligned, if they are recordings of one sound.
    pub alignment: Option<Alignment>,
    /// Bands of one over so many octaves.
    pub fraction: u32,
    /// Gain in dB that was subtracted from the differences of spectra.
    pub matched_db: f64,
    /// Level over the range: RMS, and with the frequency weighting A (IEC 61672-1).
    pub level: BandDifference,
    /// See above.
    pub a_weighted: BandDifference,
    /// Greatest magnitude of a sample in dB in the first and the second; `None` for silence.
    pub peak_db: [Option<f64>; 2],
    /// Differences in bands.
    pub bands: Vec<BandDifference>,
    /// The difference of the spectra, bin by bin.
    pub curve: Vec<BandDifference>,
    /// RMS of the differences in bands, in dB, and what it would be by chance.
    pub spectrum_difference_rms_db: Option<f64>,
    /// See above.
    pub chance_rms_db: Option<f64>,
    /// Partials and descriptors.
    pub quantities: Vec<QuantityDifference>,
    /// The frames.
    pub resolution_hz: f64,
    /// See above.
    pub window_s: f64,
    /// See above.
    pub averaged_frames: u64,
    /// What must be known beside it.
    pub findings: Vec<Finding>,
}

impl Comparison {
    /// What is in the same table of quantities.
    pub fn of_kind(&self, kind: QuantityKind) -> impl Iterator<Item = &QuantityDifference> {
        self.quantities.iter().filter(move |quantity| quantity.kind == kind)
    }

    /// Bands whose difference is significant.
    #[must_use]
    pub fn distinguishable_bands(&self) -> usize {
        self.bands.iter().filter(|band| band.is_real).count()
    }

    /// The second less the first, of the greatest magnitudes, in dB.
    #[must_use]
    pub fn peak_difference_db(&self) -> Option<f64> {
        let [a, b] = self.peak_db;
        a.zip(b).map(|(a, b)| b - a)
    }
}

impl Serialize for Comparison {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let found = self.alignment;
        let of = |measured: Option<Measured>| (measured.map(|m| m.value), measured.map(|m| m.u));
        let (delay_s, delay_s_u) = of(found.map(|found| found.delay_s));
        let (drift_ppm, drift_ppm_u) = of(found.and_then(|found| found.drift_ppm));
        let (gain_db, gain_db_u) = of(found.map(|found| found.gain_db));
        let polarity = found.map(|found| if found.is_reversed { "reversed" } else { "same" });
        let kind = |kind| self.of_kind(kind).collect::<Vec<_>>();
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("delay_s", &delay_s)?;
        map.serialize_entry("delay_s_u", &delay_s_u)?;
        map.serialize_entry("drift_ppm", &drift_ppm)?;
        map.serialize_entry("drift_ppm_u", &drift_ppm_u)?;
        map.serialize_entry("is_drifting", &found.map(|found| found.is_drifting))?;
        map.serialize_entry("wander_s", &found.and_then(|found| found.wander_s))?;
        map.serialize_entry("polarity", &polarity)?;
        map.serialize_entry("gain_db", &gain_db)?;
        map.serialize_entry("gain_db_u", &gain_db_u)?;
        map.serialize_entry("correlation", &found.map(|found| found.correlation))?;
        map.serialize_entry("shared_share", &found.map(|found| found.shared_share))?;
        map.serialize_entry("overlap_from_s", &found.map(|found| found.start_s))?;
        map.serialize_entry("overlap_s", &found.map(|found| found.duration_s))?;
        map.serialize_entry("residual_db", &found.and_then(|found| found.residual_db))?;
        map.serialize_entry("residual_re_other_db", &found.and_then(|f| f.residual_re_b_db))?;
        map.serialize_entry("level_a_db", &self.level.a_db)?;
        map.serialize_entry("level_b_db", &self.level.b_db)?;
        map.serialize_entry("level_difference_db", &self.level.difference_db)?;
        map.serialize_entry("level_difference_db_u", &self.level.difference_db_u)?;
        map.serialize_entry("level_distinguishable", &self.level.is_real)?;
        map.serialize_entry("a_weighted_difference_db", &self.a_weighted.difference_db)?;
        map.serialize_entry("a_weighted_difference_db_u", &self.a_weighted.difference_db_u)?;
        map.serialize_entry("peak_difference_db", &self.peak_difference_db())?;
        map.serialize_entry("matched_db", &self.matched_db)?;
        map.serialize_entry("spectrum_difference_rms_db", &self.spectrum_difference_rms_db)?;
        map.serialize_entry("spectrum_difference_by_chance_db", &self.chance_rms_db)?;
        map.serialize_entry("distinguishable_bands", &self.distinguishable_bands())?;
        map.serialize_entry("bands", &self.bands)?;
        map.serialize_entry("partials", &kind(QuantityKind::Partial))?;
        map.serialize_entry("descriptors", &kind(QuantityKind::Descriptor))?;
        map.end()
    }
}

impl Quantities for Comparison {
    fn quantities(&self) -> Vec<Quantity> {
        const ALIGNED: [Field<Alignment>; 10] = [
            Field::measured("delay_s", "delay", Unit::Second, 7, |found| Some(found.delay_s)),
            Field::measured("drift_ppm", "drift of the clock", Unit::PartPerMillion, 4, |found| {
                found.drift_ppm
            }),
            Field::plain("wander_s", "wander of the delay", Unit::Second, 7, |found| {
                found.wander_s
            }),
            Field::measured("gain_db", "gain", Unit::Decibel, 4, |found| Some(found.gain_db)),
            Field::plain("correlation", "correlation", Unit::One, 5, |found| {
                Some(found.correlation)
            }),
            Field::plain("shared_share", "share in common", Unit::One, 5, |found| {
                Some(found.shared_share)
            }),
            Field::plain("overlap_from_s", "start of the overlap", Unit::Second, 3, |found| {
                Some(found.start_s)
            }),
            Field::plain("overlap_s", "overlap", Unit::Second, 3, |found| Some(found.duration_s)),
            Field::plain("residual_db", "residual", Unit::Level, 1, |found| found.residual_db),
            Field::plain(
                "residual_re_other_db",
                "residual re the second",
                Unit::Decibel,
                1,
                |found| found.residual_re_b_db,
            ),
        ];
        const WHOLE: [Field<Comparison>; 9] = [
            Field::plain("level_a_db", "level of the first", Unit::Level, 2, |found| {
                found.level.a_db
            }),
            Field::plain("level_b_db", "level of the second", Unit::Level, 2, |found| {
                found.level.b_db
            }),
            Field::measured("level_difference_db", "level difference", Unit::Decibel, 2, |found| {
                pair(found.level.difference_db, found.level.difference_db_u)
            }),
            Field::measured(
                "a_weighted_difference_db",
                "A-weighted difference",
                Unit::Decibel,
                2,
                |found| pair(found.a_weighted.difference_db, found.a_weighted.difference_db_u),
            ),
            Field::plain("peak_difference_db", "peak difference", Unit::Decibel, 2, |found| {
                found.peak_difference_db()
            }),
            Field::plain("matched_db", "gain subtracted", Unit::Decibel, 2, |found| {
                Some(found.matched_db)
            }),
            Field::plain(
                "spectrum_difference_rms_db",
                "RMS difference of the bands",
                Unit::Decibel,
                2,
                |found| found.spectrum_difference_rms_db,
            ),
            Field::plain(
                "spectrum_difference_by_chance_db",
                "the same by chance",
                Unit::Decibel,
                2,
                |found| found.chance_rms_db,
            ),
            Field::plain("distinguishable_bands", "bands that differ", Unit::One, 0, |found| {
                Some(found.distinguishable_bands() as f64)
            }),
        ];
        const OF_BAND: Label =
            Label::new("difference_db", "difference in the band", Unit::Decibel, 2).with_u();
        let aligned = self.alignment.as_ref();
        let mut all: Vec<Quantity> = (ALIGNED.iter())
            .map(|field| Quantity::top(&field.label, aligned.and_then(|found| field.value(found))))
            .collect();
        all.extend(WHOLE.iter().map(|field| Quantity::top(&field.label, field.value(self))));
        all.extend(self.bands.iter().map(|band| {
            let key = band.band.key(self.fraction).then(OF_BAND.field);
            Quantity::new(key, &OF_BAND, pair(band.difference_db, band.difference_db_u))
        }));
        all.extend(self.quantities.iter().map(|found| Quantity {
            key: found.quantity.key.clone().under("difference"),
            name: format!("difference of {}", found.quantity.name).into(),
            unit: found.quantity.unit.of_difference(),
            value: found.difference,
            ..found.quantity.clone()
        }));
        all
    }
}

/// Frames beside each other at least.
const FEWEST_FRAMES: f64 = 6.0;
/// Two sounds that share less of their power are not recordings of one: by chance two instruments
/// have a tone in common, but not noise.
const LEAST_SHARED: f64 = 0.5;
const LEAST_SHARED_TONES: f64 = 0.9;
/// Up to so many bins are tones.
const TONES: f64 = 12.0;

/// Compares a sound `b` with a reference `a`.
///
/// # Errors
///
/// [`Error::TooShort`] for a sound that holds no frame, [`Error::Setting`] for settings that make
/// no sense.
pub fn compare(
    a: Sound<'_>,
    b: Sound<'_>,
    settings: &CompareSettings,
) -> Result<Comparison, Error> {
    let range_hz = range(settings, a.rate_hz.min(b.rate_hz))?;
    let rate_hz = a.rate_hz.max(b.rate_hz);
    let raised_a = Raised::new(a.samples, a.rate_hz / rate_hz);
    let raised_b = Raised::new(b.samples, b.rate_hz / rate_hz);
    let [a_samples, b_samples] = [&raised_a, &raised_b].map(Raised::samples);
    let shorter = a_samples.count().min(b_samples.count());
    let frames = frames_for(settings, rate_hz, shorter);
    let plan = FramePlan::new(&frames, rate_hz, shorter as u64)?;
    check_width(range_hz, plan.resolution_hz(rate_hz))?;
    let aligned = if settings.align { align(a_samples, b_samples, rate_hz)? } else { None };
    let together = match &aligned {
        Some(placed) => over_each_other(a_samples, b_samples, placed, &frames, rate_hz)?,
        None => None,
    };
    let rival_s = aligned.as_ref().and_then(|placed| placed.rival).map(|rival| rival / rate_hz);
    let (mut spectra, mut alignment) = match together {
        Some((spectra, alignment)) => (spectra, Some(alignment)),
        None => (Spectra::apart(a_samples, b_samples, &plan, rate_hz)?, None),
    };
    spectra.full_scale_db = [a.full_scale_db, b.full_scale_db];
    let mut findings = alignment_findings(alignment.as_ref(), rival_s, settings.align);
    let quantities = |sound| -> Result<Vec<Kinded>, Error> {
        let mut all = match &settings.timbre {
            Some(timbre) => note_quantities(sound, timbre)?,
            None => Vec::new(),
        };
        if let Some(field) = settings.loudness {
            all.extend(loudness_quantities(sound, field)?);
        }
        Ok(all)
    };
    let of_a = quantities(a)?;
    let there = |sample: usize| {
        let placed = aligned.as_ref().filter(|_| alignment.is_some())?;
        let place = placed.place(sample) * b.rate_hz / rate_hz;
        Some((place.round().max(0.0) as usize).min(b.samples.count()))
    };
    let note = |(from, to): (usize, usize)| {
        let raised = |sample: usize| (sample as f64 * rate_hz / a.rate_hz) as usize;
        there(raised(from)).zip(there(raised(to))).filter(|(from, to)| from < to)
    };
    let b_note = a.note.and_then(note).or(b.note);
    let of_b = numbered_alike(&of_a, quantities(Sound { note: b_note, ..b })?);
    let gain_db = alignment.map_or(0.0, |alignment| alignment.gain_db.value);
    let mut two_levels = Family::new(2.0);
    let level = spectra.level(range_hz, &|_| 1.0, &mut two_levels);
    // Without a common sound, levels are matched.
    let gain_db = if alignment.is_some() { gain_db } else { level.difference_db.unwrap_or(0.0) };
    let matched_db = if settings.match_gain { gain_db } else { 0.0 };
    let bands = bands_told(settings, range_hz, plan.resolution_hz(rate_hz), rate_hz);
    let mut family = Family::new(bands.len() as f64);
    let bands: Vec<BandDifference> = bands
        .into_iter()
        .map(|band| matched(spectra.difference(band, &mut family), matched_db))
        .collect();
    if alignment.is_some() {
        findings.extend(noise_findings(&bands, &spectra));
    }
    let mut family = Family::new(spectra.independent_bins(range_hz));
    let bins = spectra.bins(range_hz);
    let curve = bins.map(|bin| matched(spectra.difference(bin, &mut family), matched_db)).collect();
    let rms = |of: &dyn Fn(&BandDifference) -> Option<f64>| {
        let known: Vec<f64> = bands.iter().filter_map(of).collect();
        let squares: f64 = known.iter().map(|x| x * x).sum();
        (!known.is_empty()).then(|| (squares / known.len() as f64).sqrt())
    };
    if let Some(residual_db) = alignment.as_mut().and_then(|found| found.residual_db.as_mut()) {
        *residual_db += a.full_scale_db;
    }
    Ok(Comparison {
        alignment,
        fraction: settings.fraction,
        matched_db,
        level,
        a_weighted: spectra.level(range_hz, &|hz| Weighting::A.power(hz), &mut two_levels),
        peak_db: [peak_db(a)?, peak_db(b)?],
        spectrum_difference_rms_db: rms(&|band| band.difference_db),
        chance_rms_db: rms(&|band| band.difference_db_u),
        bands,
        curve,
        quantities: differences(&of_a, &of_b),
        resolution_hz: plan.resolution_hz(rate_hz),
        window_s: plan.segment() as f64 / rate_hz,
        averaged_frames: spectra.frames,
        findings,
    })
}

/// What must be known of how two sounds are aligned, where that was asked for.
fn alignment_findings(
    alignment: Option<&Alignment>,
    rival_s: Option<f64>,
    is_asked: bool,
) -> Vec<Finding> {
    let mut findings = Vec::new();
    if let Some(wander_s) = alignment.and_then(|found| found.wander_s) {
        findings.push(Finding::note(
            "clock_wanders",
            format!(
                "The clock of one of the two runs unevenly, as that of a turntable or a tape does: \
                 the delay wanders by {:.3} ms RMS about its straight line. That is followed and \
                 taken out.",
                1e3 * wander_s
            ),
        ));
    }
    if let (Some(rival_s), Some(alignment)) = (rival_s, alignment) {
        findings.push(Finding::warning(
            "delay_may_be_another",
            format!(
                "A delay of {:.4} ms fits almost as well as the {:.4} ms reported, because a \
                 steady tone repeats every period. \
                 Choose a span that contains an onset.",
                1e3 * rival_s,
                1e3 * alignment.delay_s.value
            )
            .replace('-', "−"),
        ));
    }
    if is_asked && alignment.is_none() {
        findings.push(Finding::note(
            "not_one_sound",
            "The two have too little in common to be recordings of one sound: they are not \
             aligned in time, and are \
             compared by their long-term averages.",
        ));
    }
    findings
}

/// The two averaged over each other, if they are recordings of one sound.
fn over_each_other(
    a: &dyn Samples,
    b: &dyn Samples,
    placed: &Placed,
    frames: &FrameSettings,
    rate_hz: f64,
) -> Result<Option<(Spectra, Alignment)>, Error> {
    let overlap = placed.overlap(a.count(), b.count());
    let Ok(plan) = FramePlan::new(frames, rate_hz, overlap.len() as u64) else { return Ok(None) };
    let mut together = Together::new(&plan);
    let mut overlay = Overlay::new(placed);
    let (mut reader, mut shifted) = (Reader::new(a), Shifted::new(placed, b));
    for from in overlap.clone().step_by(plan.hop) {
        let count = plan.hop.min(overlap.end - from);
        let a = reader.at(from as i64, count)?;
        let (b, own_energy) = shifted.at(from, count)?;
        together.push(a, b);
        overlay.push(a, b, own_energy);
    }
    let Some(overlay) = overlay.finish() else { return Ok(None) };
    let spectra = together.finish(rate_hz);
    // Too few frames show nothing of what is in common but the waveform itself.
    let few = spectra.independent_frames < FEWEST_FRAMES / 2.0;
    let by_waveform = overlay.correlation * overlay.correlation;
    let shared_share = if few { by_waveform } else { spectra.shared_share().unwrap_or(0.0) };
    let are_tones = few || spectra.bins_in_common() < TONES;
    if shared_share < if are_tones { LEAST_SHARED_TONES } else { LEAST_SHARED } {
        return Ok(None);
    }
    let db = |power: f64| (power > 0.0).then(|| db_from_power(power));
    let neper_db = 20.0 / std::f64::consts::LN_10;
    let (gain, scaled) = (overlay.gain, |value: Measured, unit: f64| {
        Measured::new(unit * value.value, unit * value.u)
    });
    let alignment = Alignment {
        delay_s: scaled(placed.delay, 1.0 / rate_hz),
        drift_ppm: placed.drift.map(|drift| scaled(drift, 1e6)),
        is_drifting: placed.is_drifting,
        wander_s: placed.course.rms().map(|wander| wander / rate_hz),
        is_reversed: gain.value < 0.0,
        gain_db: Measured::new(
            db_from_amplitude(gain.value.abs()),
            neper_db * gain.u / gain.value.abs(),
        ),
        correlation: overlay.correlation,
        shared_share,
        start_s: overlap.start as f64 / rate_hz,
        duration_s: overlap.len() as f64 / rate_hz,
        residual_db: db(2.0 * overlay.left / overlap.len() as f64),
        residual_re_b_db: db(overlay.left / overlay.energy_b),
    };
    Ok(Some((spectra, alignment)))
}

fn range(settings: &CompareSettings, lower_rate_hz: f64) -> Result<(f64, f64), Error> {
    const FRACTIONS: std::ops::RangeInclusive<u32> = 1..=48;
    let (low, high) = (settings.range_hz.0, settings.range_hz.1.min(lower_rate_hz / 2.0));
    if !(low >= 0.0 && low < high) {
        return Err(Error::Setting {
            setting: "the range compared",
            given: format!("{low} Hz to {high} Hz"),
            allowed: "rising, and begin below half the lower sample rate".into(),
        });
    }
    if !FRACTIONS.contains(&settings.fraction) {
        return Err(Error::Setting {
            setting: "the fraction of an octave",
            given: settings.fraction.to_string(),
            allowed: "1 to 48".into(),
        });
    }
    Ok((low, high))
}

/// Frames as asked for; else shorter ones where a sound is too short for enough of them.
fn frames_for(settings: &CompareSettings, rate_hz: f64, samples: usize) -> FrameSettings {
    let asked = settings.frames;
    let by_hand = asked.segment.is_some() || asked.resolution_hz.is_some();
    let usual = FramePlan::new(&asked, rate_hz, u64::MAX).map(|plan| plan.segment());
    let most = (samples as f64 / FEWEST_FRAMES) as usize;
    match usual {
        Ok(usual) if !by_hand && usual > most => {
            FrameSettings { segment: Some(crate::units::Extent::Samples(most.max(16))), ..asked }
        }
        _ => asked,
    }
}

/// Refuses a range that the frames do not resolve: it may lie between two values of the spectrum.
fn check_width((low, high): (f64, f64), resolution_hz: f64) -> Result<(), Error> {
    if high - low >= resolution_hz {
        return Ok(());
    }
    Err(Error::Setting {
        setting: "the range compared",
        given: format!("{low} Hz to {high} Hz"),
        allowed: format!("at least {resolution_hz:.2} Hz wide, the resolution of the frames"),
    })
}

fn peak_db(sound: Sound<'_>) -> Result<Option<f64>, Error> {
    const BLOCK: usize = 1 << 17;
    let mut reader = Reader::new(sound.samples);
    let mut peak = 0.0f32;
    for from in (0..sound.samples.count()).step_by(BLOCK) {
        let block = reader.at(from as i64, BLOCK)?;
        peak = block.iter().fold(peak, |peak, x| peak.max(x.abs()));
    }
    Ok((peak > 0.0).then(|| db_from_amplitude(f64::from(peak)) + sound.full_scale_db))
}

/// Bands that are as wide as what frames resolve, and end below half the sample rate.
fn bands_told(
    settings: &CompareSettings,
    range_hz: (f64, f64),
    resolution_hz: f64,
    rate_hz: f64,
) -> Vec<Band> {
    let resolved =
        |band: &Band| band.high_hz - band.low_hz >= resolution_hz && band.high_hz <= rate_hz / 2.0;
    octave_bands(settings.fraction, range_hz).into_iter().filter(resolved).collect()
}

/// Where noise hides what two recordings of one sound have in common, and its own level differs.
fn noise_findings(bands: &[BandDifference], spectra: &Spectra) -> Vec<Finding> {
    /// Less is not worth a word, in dB.
    const LEAST: f64 = 1.0;
    let rise_db = |band: &BandDifference| {
        let is_noise = band.is_level_real && band.is_noise();
        band.level_difference_db.filter(|db| is_noise && db.abs() > LEAST)
    };
    let is_alike = |a: &BandDifference, b: &BandDifference| {
        rise_db(a).zip(rise_db(b)).is_some_and(|(a, b)| a * b > 0.0)
    };
    let told = |group: &[BandDifference]| {
        let (first, last) = (group.first()?.band, group.last()?.band);
        rise_db(&group[0])?;
        let range_hz = (first.low_hz, last.high_hz);
        let whole = spectra.level(range_hz, &|_| 1.0, &mut Family::new(1.0));
        let rise = pair(whole.level_difference_db, whole.level_difference_db_u)?;
        Some(Finding::note(
            "noise_changed",
            format!(
                "From {:.2} kHz to {:.2} kHz noise hides what the two have in common; the level \
                 there is {:.2} ± {:.2} dB {} in the second.",
                1e-3 * range_hz.0,
                1e-3 * range_hz.1,
                rise.value.abs(),
                rise.u.max(0.01),
                if rise.value > 0.0 { "higher" } else { "lower" },
            ),
        ))
    };
    bands.chunk_by(is_alike).filter_map(told).collect()
}

fn matched(mut difference: BandDifference, gain_db: f64) -> BandDifference {
    if let (Some(db), true) = (&mut difference.difference_db, gain_db != 0.0) {
        *db -= gain_db;
        let exceeds = difference.least_db.is_some_and(|least| db.abs() > least);
        difference.is_real = exceeds && !difference.is_masked;
    }
    difference
}

/// Quantities of both, in the order of the first; those of the second alone after them.
fn differences(of_a: &[Kinded], of_b: &[Kinded]) -> Vec<QuantityDifference> {
    let in_list = |list: &[Kinded], key: &Key| {
        list.iter().find(|(_, other)| other.key == *key).and_then(|(_, other)| other.value)
    };
    let is_new = |(_, quantity): &&Kinded| of_a.iter().all(|(_, other)| other.key != quantity.key);
    let mut all: Vec<&Kinded> = of_a.iter().chain(of_b.iter().filter(is_new)).collect();
    all.sort_by_key(|(kind, _)| *kind);
    let values = |quantity: &Quantity| (in_list(of_a, &quantity.key), in_list(of_b, &quantity.key));
    let limit = |wanted: QuantityKind| {
        let of_kind = all.iter().filter(|(kind, _)| *kind == wanted);
        limit_over_u(of_kind.filter(|(_, q)| matches!(values(q), (Some(_), Some(_)))).count())
    };
    let limits = [QuantityKind::Partial, QuantityKind::Descriptor].map(|kind| (kind, limit(kind)));
    let differ = |(kind, quantity): &Kinded| {
        let (a, b) = values(quantity);
        let over_u =
            limits.iter().find(|(of, _)| of == kind).map_or(f64::INFINITY, |(_, limit)| *limit);
        let difference = a.zip(b).map(|(a, b)| Measured::new(b.value - a.value, b.u.hypot(a.u)));
        let judge = |d: Measured| d.u.is_finite().then(|| d.value.abs() > over_u * d.u);
        QuantityDifference {
            kind: *kind,
            quantity: Quantity { value: a, ..quantity.clone() },
            a,
            b,
            difference,
            is_real: difference.and_then(judge),
        }
    };
    all.into_iter().map(differ).collect()
}
