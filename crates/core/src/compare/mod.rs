//! Two sounds: how they lie to each other, how they differ, and which differences are real.
//!
//! # What it computes
//!
//! **Alignment** (module `align`): the delay of the second behind the first between samples, the drift between their clocks, polarity and gain,
//! by generalized cross-correlation, stretch by stretch. Two sounds are taken as recordings of one
//! if they have half of their power in common, or nine tenths if it is that of a few tones: in each bin γ² = \|Σ A*B\|² / (Σ\|A\|²·Σ\|B\|²) over the frames (G. C. Carter, Proc. IEEE 75,
//! 1987), less what chance makes of it.
//!
//! **Null test.** What is left of the second after delay, drift and gain: b − g·a, as a level, and re the second.
//!
//! **Spectra.** Powers averaged over frames (P. D. Welch, 1967), in bins and in bands of 1/N octave (IEC 61260-1), dB = 10 lg(P_b / P_a).
//!
//! **Which differences are real.** Two recordings of one sound: what is in both moves both alike, and the variance of ln(P_b/P_a) is
//! 2(1 − γ²)/n over n independent frames; Student's t tells the limit. Where one of them stands less than 20 dB above what it has of its own, its
//! level is not that of the sound, and no difference is told; nor where there are only side lobes of the window. Two sounds apart: a bin of noise has a variance of 1/n, a tone less, which is
//! seen in how its power scatters from frame to frame; the ratio follows an F distribution. All other quantities: a difference over the root
//! of the sum of both variances. The limits are set so that in [`FALSE_RATE`] of all comparisons of equals some difference is told
//! by chance (C. E. Bonferroni).
//!
//! **Groups** of repeats: means, and B. L. Welch's t (Biometrika 34, 1947) of the spread among the repeats.

mod align;
mod group;
mod maps;
mod profile;
mod recorded;
mod significance;
mod spectra;

pub use group::{GroupDifference, Profile, compare_groups, profile};
pub use maps::{DifferenceMaps, difference_maps};
pub use profile::{NOTE_OVER_NOISE_DB, Quantity, QuantityKind};
pub use recorded::{Recorded, comparability};
pub use significance::{FALSE_RATE, limit_over_u};
pub use spectra::{Band, BandDifference, octave_bands};

use crate::between::Interpolator;
use crate::error::Error;
use crate::finding::Finding;
use crate::frame::{FramePlan, FrameSettings};
use crate::measured::Measured;
use crate::timbre::TimbreSettings;
use crate::units::{db_from_amplitude, db_from_power};
use align::{Alignment, align};
use profile::{note_quantities, numbered_alike};
use significance::Family;
use spectra::Spectra;

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
    /// Whether differences of spectra are told less the gain.
    pub match_gain: bool,
    /// How partials and descriptors are measured, which takes most of the time; `None` leaves them out.
    pub timbre: Option<TimbreSettings>,
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
        }
    }
}

/// A sound to be compared.
#[derive(Debug, Clone, Copy)]
pub struct Sound<'a> {
    /// Its samples.
    pub samples: &'a [f32],
    /// Its sample rate in Hz.
    pub rate_hz: f64,
    /// Level of a full-scale sine in dB: 0 for levels re full scale.
    pub full_scale_db: f64,
}

/// How the second sound lies to the first.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Lie {
    /// What is at a time t of the first is at t + delay + drift·t in the second, in seconds from their first samples.
    pub delay_s: Measured,
    /// How much faster time runs in the second, in parts per million; `None` below a second.
    pub drift_ppm: Option<Measured>,
    /// Whether the drift is sure, and taken out.
    pub is_drifting: bool,
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
    /// Level of what is left after delay, drift and gain, RMS re that of a full-scale sine, in dB; `None` for nothing at all.
    pub residual_db: Option<f64>,
    /// The same re the second.
    pub residual_re_b_db: Option<f64>,
}

/// A quantity of both sounds and its difference.
#[derive(Debug, Clone, PartialEq)]
pub struct QuantityDifference {
    /// The quantity, with its value in the first; NaN if the first has none.
    pub quantity: Quantity,
    /// Its value in the second.
    pub b: Option<Measured>,
    /// The second less the first; `None` where one has none.
    pub difference: Option<Measured>,
    /// Whether it is real; `None` where the uncertainties are not known.
    pub is_real: Option<bool>,
}

impl QuantityDifference {
    /// Its value in the first.
    #[must_use]
    pub fn a(&self) -> Option<Measured> {
        Some(self.quantity.value).filter(|value| value.value.is_finite())
    }
}

/// How two sounds differ.
#[derive(Debug, Clone, PartialEq)]
pub struct Comparison {
    /// How they lie to each other, if they are recordings of one sound.
    pub lie: Option<Lie>,
    /// Gain in dB that was taken from the differences of spectra.
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

/// Frames beside each other at least.
const FEWEST_FRAMES: f64 = 6.0;
/// Two sounds that share less of their power are not recordings of one: by chance two instruments have a tone in common, but not noise.
const LEAST_SHARED: f64 = 0.5;
const LEAST_SHARED_TONES: f64 = 0.9;
/// Up to so many bins are tones.
const TONES: f64 = 12.0;

/// Compares a sound `b` with a reference `a`.
///
/// # Errors
///
/// [`Error::TooShort`] for a sound that holds no frame, [`Error::Setting`] for settings that make no sense.
pub fn compare(
    a: Sound<'_>,
    b: Sound<'_>,
    settings: &CompareSettings,
) -> Result<Comparison, Error> {
    let mut findings = Vec::new();
    let range_hz = range(settings, a.rate_hz.min(b.rate_hz))?;
    let rate_hz = a.rate_hz.max(b.rate_hz);
    let (raised_a, raised_b) = (raised(a, rate_hz)?, raised(b, rate_hz)?);
    let sounds = [raised_a.as_deref(), raised_b.as_deref()];
    let [a_samples, b_samples] = [sounds[0].unwrap_or(a.samples), sounds[1].unwrap_or(b.samples)];
    let shorter = a_samples.len().min(b_samples.len());
    let frames = frames_for(settings, rate_hz, shorter);
    let plan = FramePlan::new(&frames, rate_hz, shorter as u64)?;
    check_width(range_hz, plan.resolution_hz(rate_hz))?;
    let aligned = settings.align.then(|| align(a_samples, b_samples, rate_hz)).flatten();
    let rival_s = aligned.as_ref().and_then(|found| found.rival_s);
    let together = aligned.and_then(|found| over_each_other(a_samples, found, &frames, rate_hz));
    let (mut spectra, lie) = match together {
        Some((spectra, lie)) => (spectra, Some(lie)),
        None => (Spectra::apart(a_samples, b_samples, &plan, rate_hz), None),
    };
    spectra.full_scale_db = [a.full_scale_db, b.full_scale_db];
    if let (Some(rival_s), Some(lie)) = (rival_s, &lie) {
        findings.push(Finding::warning(
            "delay_may_be_another",
            format!(
                "The two are as much alike, but for chance, at a delay of {:.4} ms as at the {:.4} ms told: a steady tone looks the same a \
                 period later. Compare a span in which something begins.",
                1e3 * rival_s,
                1e3 * lie.delay_s.value
            )
            .replace('-', "−"),
        ));
    }
    if settings.align && lie.is_none() {
        findings.push(Finding::note(
            "not_one_sound",
            "The two have too little in common to be recordings of one sound: they are not laid over each other, and are compared by \
             their averages.",
        ));
    }
    let quantities = |sound| match &settings.timbre {
        Some(timbre) => note_quantities(sound, timbre),
        None => Ok(Vec::new()),
    };
    let of_a = quantities(a)?;
    let of_b = numbered_alike(&of_a, quantities(b)?);
    let gain_db = lie.map_or(0.0, |lie| lie.gain_db.value);
    let mut two_levels = Family::new(2.0);
    let level = spectra.level(range_hz, &|_| 1.0, &mut two_levels);
    // Without a common sound, levels are matched.
    let gain_db = if lie.is_some() { gain_db } else { level.difference_db.unwrap_or(0.0) };
    let matched_db = if settings.match_gain { gain_db } else { 0.0 };
    let bands = bands_told(settings, range_hz, plan.resolution_hz(rate_hz), rate_hz);
    let mut family = Family::new(bands.len() as f64);
    let bands: Vec<BandDifference> = bands
        .into_iter()
        .map(|band| matched(spectra.difference(band, &mut family), matched_db))
        .collect();
    let mut family = Family::new(spectra.independent_bins(range_hz));
    let bins = spectra.bins(range_hz);
    let curve = bins.map(|bin| matched(spectra.difference(bin, &mut family), matched_db)).collect();
    let rms = |of: &dyn Fn(&BandDifference) -> Option<f64>| {
        let known: Vec<f64> = bands.iter().filter_map(of).collect();
        let squares: f64 = known.iter().map(|x| x * x).sum();
        (!known.is_empty()).then(|| (squares / known.len() as f64).sqrt())
    };
    Ok(Comparison {
        lie,
        matched_db,
        level,
        a_weighted: spectra.level(range_hz, &a_weighting, &mut two_levels),
        peak_db: [peak_db(a), peak_db(b)],
        spectrum_difference_rms_db: rms(&|band| band.difference_db),
        chance_rms_db: rms(&|band| band.difference_db_u),
        bands,
        curve,
        quantities: differences(of_a, &of_b),
        resolution_hz: plan.resolution_hz(rate_hz),
        window_s: plan.segment() as f64 / rate_hz,
        averaged_frames: spectra.frames,
        findings,
    })
}

/// The two averaged over each other, if they are recordings of one sound.
fn over_each_other(
    a: &[f32],
    found: Alignment,
    frames: &FrameSettings,
    rate_hz: f64,
) -> Option<(Spectra, Lie)> {
    let Alignment { delay_s, drift_ppm, is_drifting, gain, correlation, shifted, start, .. } =
        found;
    let a = &a[start..start + shifted.len()];
    let plan = FramePlan::new(frames, rate_hz, a.len() as u64).ok()?;
    let spectra = Spectra::together(a, &shifted, &plan, rate_hz);
    // Too few frames tell nothing of what is in common but the waveform itself.
    let few = spectra.independent_frames < FEWEST_FRAMES / 2.0;
    let by_waveform = correlation * correlation;
    let shared_share = if few { by_waveform } else { spectra.shared_share().unwrap_or(0.0) };
    let are_tones = few || spectra.bins_in_common() < TONES;
    if shared_share < if are_tones { LEAST_SHARED_TONES } else { LEAST_SHARED } {
        return None;
    }
    let (mut left, mut whole) = (0.0, 0.0);
    for (a, b) in a.iter().zip(&shifted) {
        let (a, b) = (f64::from(*a), f64::from(*b));
        left += (b - gain.value * a).powi(2);
        whole += b * b;
    }
    let db = |power: f64| (power > 0.0).then(|| db_from_power(power));
    let neper_db = 20.0 / std::f64::consts::LN_10;
    let lie = Lie {
        delay_s,
        drift_ppm,
        is_drifting,
        is_reversed: gain.value < 0.0,
        gain_db: Measured::new(
            db_from_amplitude(gain.value.abs()),
            neper_db * gain.u / gain.value.abs(),
        ),
        correlation,
        shared_share,
        start_s: start as f64 / rate_hz,
        duration_s: a.len() as f64 / rate_hz,
        residual_db: db(2.0 * left / a.len() as f64),
        residual_re_b_db: db(left / whole),
    };
    Some((spectra, lie))
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

/// The sound at a higher rate; `None` where it has that rate.
fn raised(sound: Sound<'_>, rate_hz: f64) -> Result<Option<Vec<f32>>, Error> {
    /// Two minutes at 768 kHz.
    const MOST_SAMPLES: f64 = 1e8;
    if sound.rate_hz >= rate_hz {
        return Ok(None);
    }
    let step = sound.rate_hz / rate_hz;
    let count = (sound.samples.len() as f64 / step).floor();
    if count > MOST_SAMPLES {
        return Err(Error::Setting {
            setting: "the sample rate of one sound",
            given: format!("{rate_hz} Hz, that of the other {} Hz", sound.rate_hz),
            allowed: "nearer to it for a sound so long; compare a shorter span, or resample one"
                .into(),
        });
    }
    let between = Interpolator::wide();
    let samples = (0..count as usize).map(|n| between.at(sound.samples, n as f64 * step) as f32);
    Ok(Some(samples.collect()))
}

fn peak_db(sound: Sound<'_>) -> Option<f64> {
    let peak = sound.samples.iter().fold(0.0f32, |peak, x| peak.max(x.abs()));
    (peak > 0.0).then(|| db_from_amplitude(f64::from(peak)) + sound.full_scale_db)
}

/// Bands that are as wide as what frames tell apart, and end below half the sample rate.
fn bands_told(
    settings: &CompareSettings,
    range_hz: (f64, f64),
    resolution_hz: f64,
    rate_hz: f64,
) -> Vec<Band> {
    let told =
        |band: &Band| band.high_hz - band.low_hz >= resolution_hz && band.high_hz <= rate_hz / 2.0;
    octave_bands(settings.fraction, range_hz).into_iter().filter(told).collect()
}

fn matched(mut difference: BandDifference, gain_db: f64) -> BandDifference {
    if let (Some(db), true) = (&mut difference.difference_db, gain_db != 0.0) {
        *db -= gain_db;
        let exceeds = difference.least_db.is_some_and(|least| db.abs() > least);
        difference.is_real = exceeds && !difference.is_masked;
    }
    difference
}

/// Frequency weighting A as a ratio of powers, 1 at 1 kHz (IEC 61672-1:2013, annex E).
fn a_weighting(hz: f64) -> f64 {
    let response = |hz: f64| {
        let f2 = hz * hz;
        let [low, mid_low, mid_high, high] =
            [20.598_997, 107.652_65, 737.862_23, 12_194.217].map(|pole: f64| pole * pole);
        high * f2 * f2 / ((f2 + low) * ((f2 + mid_low) * (f2 + mid_high)).sqrt() * (f2 + high))
    };
    (response(hz) / response(1000.0)).powi(2)
}

/// Quantities of both, in the order of the first; those of the second alone after them.
fn differences(a: Vec<Quantity>, b: &[Quantity]) -> Vec<QuantityDifference> {
    let mut all = a;
    for quantity in b {
        if !all.iter().any(|known| known.key == quantity.key) {
            let value = Measured::new(f64::NAN, f64::NAN);
            all.push(Quantity { value, ..quantity.clone() });
        }
    }
    all.sort_by_key(|quantity| quantity.kind);
    let in_b = |key: &str| b.iter().find(|other| other.key == key).map(|other| other.value);
    let judged = |kind: QuantityKind| {
        let known = all.iter().filter(|q| q.kind == kind && q.value.value.is_finite());
        known.filter(|q| in_b(&q.key).is_some()).count()
    };
    let over_u = |kind| limit_over_u(judged(kind));
    let (of_partials, of_descriptors) =
        (over_u(QuantityKind::Partial), over_u(QuantityKind::Descriptor));
    all.into_iter()
        .map(|quantity| {
            let b = in_b(&quantity.key);
            let limit = match quantity.kind {
                QuantityKind::Descriptor => of_descriptors,
                _ => of_partials,
            };
            let difference = b.filter(|_| quantity.value.value.is_finite()).map(|b| {
                Measured::new(b.value - quantity.value.value, b.u.hypot(quantity.value.u))
            });
            let judge = |d: Measured| d.u.is_finite().then(|| d.value.abs() > limit * d.u);
            QuantityDifference { b, is_real: difference.and_then(judge), difference, quantity }
        })
        .collect()
}
