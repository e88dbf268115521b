//! The transfer function from a reference to a response: magnitude, phase, coherence, delay, and the
//! impulse response.
//!
//! # What it computes
//!
//! **Delay** between samples, with the drift of the clocks, by correlation and then by the phase of
//! the cross spectrum with the weight of maximum likelihood (module `delay`). It is removed before
//! anything is averaged, so that sound that comes seconds late is compared with what it comes from.
//!
//! **Transfer.** With the windowed spectra A and B of frames, G_aa = Σ|A|², G_bb = Σ|B|², G_ab =
//! Σ A*·B, the transfer function is H1 = G_ab/G_aa, H2 = G_bb/G_ba, or Hv, their geometric mean. The
//! coherence γ² = |G_ab|²/(G_aa·G_bb) is the share of the response that comes from the reference.
//! With n independent frames, noise alone has 1/n of it, which is subtracted, and the standard
//! uncertainty of magnitude (as a share) and phase (in radians) is √((1 − γ²)/(2·n·γ²)) (J. S. Bendat
//! and A. G. Piersol, Random Data, 4th ed. 2010, 9.1). Points of little coherence, and those where
//! the reference has nothing but side lobes, are omitted.
//!
//! **Impulse response**, the inverse transform, with what the frames see of late sound put right; its
//! reflections; and the transfer function of what a gate leaves of it.

mod averaged;
mod curve;
mod delay;
mod impulse;
mod positions;

pub use averaged::Averaging;
pub use curve::{TransferBand, TransferCurve};
pub use delay::Candidate;
pub use impulse::{Impulse, Reflection};
pub use positions::mean_of;

use serde::Serialize;

use crate::bands::{Band, octave_bands};
use crate::between::Raised;
use crate::error::Error;
use crate::finding::Finding;
use crate::frame::{FramePlan, FrameSettings};
use crate::measured::{Measured, flat};
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare};
use crate::samples::Samples;
use crate::units::sound_speed_m_s;
use delay::Found;

/// Which estimate of the transfer function.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
pub enum Estimator {
    /// Right where the response has noise of its own, and the reference has none.
    #[default]
    H1,
    /// Right where the reference has noise of its own, and the response has none.
    H2,
    /// Between the two: right where both have as much, in relation.
    Hv,
}

/// What is averaged where the transfer function is smoothed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Smoothing {
    /// Power, with the phase of the complex mean: what arrives at other times counts.
    #[default]
    Power,
    /// The complex transfer: what arrives at other times cancels.
    Complex,
}

/// Polarity of the response.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Polarity {
    /// That of the reference.
    Same,
    /// The other.
    Reversed,
}

/// How a transfer function is measured.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TransferSettings {
    /// Frames.
    pub frames: FrameSettings,
    /// Which estimate.
    pub estimator: Estimator,
    /// How frames count.
    pub averaging: Averaging,
    /// Coherence below which a point is omitted.
    pub least_coherence: f64,
    /// Lowest and highest frequency.
    pub range_hz: (f64, f64),
    /// Bands of one over so many octaves.
    pub fraction: u32,
    /// Steps of an octave that frames resolve, long ones in the bass and short ones in the treble; one
    /// length for all by itself.
    pub per_octave: Option<u32>,
    /// Width over which the curve is smoothed in octaves; as it is by itself.
    pub smooth_octaves: Option<f64>,
    /// What is averaged then.
    pub smoothing: Smoothing,
    /// A delay that is known, in seconds; looked for by itself.
    pub delay_s: Option<f64>,
    /// It is looked for up to so many seconds either way.
    pub most_delay_s: f64,
    /// Whether the delay is given back to the phase.
    pub with_delay: bool,
    /// Length of a gate about the direct sound in seconds; none by itself.
    pub gate_s: Option<f64>,
    /// Speed of sound.
    pub speed_m_s: f64,
}

impl Default for TransferSettings {
    fn default() -> Self {
        Self {
            frames: FrameSettings::default(),
            estimator: Estimator::default(),
            averaging: Averaging::Linear,
            least_coherence: 0.6,
            range_hz: (20.0, 20_000.0),
            fraction: 3,
            per_octave: None,
            smooth_octaves: None,
            smoothing: Smoothing::default(),
            delay_s: None,
            most_delay_s: 5.0,
            with_delay: false,
            gate_s: None,
            speed_m_s: sound_speed_m_s(20.0),
        }
    }
}

/// A sound of a transfer measurement.
#[derive(Clone, Copy)]
pub struct Side<'a> {
    /// Its samples.
    pub samples: &'a dyn Samples,
    /// Its sample rate in Hz.
    pub rate_hz: f64,
    /// Level of a full-scale sine in dB.
    pub full_scale_db: f64,
}

/// What was measured.
#[derive(Debug, Clone, Serialize)]
pub struct Transfer {
    /// By how much the response comes later, at the first sample of the reference.
    #[serde(flatten, serialize_with = "flat::delay_s")]
    pub delay_s: Option<Measured>,
    /// How much faster time runs in the response, in parts per million.
    #[serde(flatten, serialize_with = "flat::drift_ppm")]
    pub drift_ppm: Option<Measured>,
    /// Polarity of the response.
    pub polarity: Option<Polarity>,
    /// Gain of what comes from the reference, over all points together.
    #[serde(flatten, serialize_with = "flat::gain_db")]
    pub gain_db: Option<Measured>,
    /// The estimate.
    pub estimator: Estimator,
    /// Frames that were averaged, and how many independent ones they are worth.
    pub frames: u64,
    /// See above.
    pub independent_frames: f64,
    /// Distance between points, and the resolution of the window.
    pub bin_spacing_hz: f64,
    /// See above.
    pub resolution_hz: f64,
    /// Length of a frame.
    pub window_s: f64,
    /// Below that a gate leaves nothing to be seen.
    pub gate_from_hz: Option<f64>,
    /// Share of the points within the range that are kept.
    pub kept_share: f64,
    /// Positions of the response that were averaged.
    pub positions: u64,
    /// Delays that the correlation speaks for, the strongest first.
    pub candidates: Vec<Candidate>,
    /// The strongest reflections.
    pub reflections: Vec<Reflection>,
    /// Bands.
    pub bands: Vec<TransferBand>,
    /// The curve.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub curve: Option<TransferCurve>,
    /// The impulse response about the direct sound.
    #[serde(skip)]
    pub impulse: Impulse,
    /// Share of an octave that a band is.
    #[serde(skip)]
    pub fraction: u32,
    /// What must be known.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

/// Measures the transfer function from a reference to a response.
///
/// # Errors
///
/// [`Error::TooShort`] where the two have no frame in common, [`Error::Setting`] for settings that make
/// no sense, [`Error::Lost`] where samples can no longer be read.
pub fn transfer(
    reference: Side<'_>,
    response: Side<'_>,
    settings: &TransferSettings,
) -> Result<Transfer, Error> {
    settings.check()?;
    let rate_hz = reference.rate_hz.max(response.rate_hz);
    let a = Raised::new(reference.samples, reference.rate_hz / rate_hz);
    let b = Raised::new(response.samples, response.rate_hz / rate_hz);
    let (a, b) = (a.samples(), b.samples());
    let shorter = a.count().min(b.count());
    let frames = settings.frames_for(rate_hz, shorter);
    let plan = FramePlan::new(&frames, rate_hz, shorter as u64)?;
    let mut findings = Vec::new();
    let most = ((settings.most_delay_s * rate_hz) as usize).min(a.count().max(b.count()));
    let found = delay::delay(a, b, rate_hz, most)?;
    let used = match settings.delay_s {
        Some(seconds) => {
            let is_reversed = found.as_ref().is_some_and(|found| found.is_reversed);
            Found::stated(seconds * rate_hz, is_reversed)
        }
        None => found.clone().unwrap_or_else(|| Found::stated(0.0, false)),
    };
    let sums = averaged::averaged(a, b, rate_hz, &plan, &used, settings.averaging)?;
    let together = together(&plan);
    let leaked = plan.leaked(&sums.aa, together);
    let all = curve::points(&sums, &leaked, settings);
    let size = plan.transform_size;
    let impulse = impulse::impulse(&all, size, rate_hz, seen_late(&plan));
    let bin_hz = plan.bin_spacing_hz(rate_hz);
    let (all, too_wide) = match settings.gate_s {
        Some(gate_s) => gated(all, size, rate_hz, gate_s),
        None => (all, None),
    };
    // The lowest frequency that the gate leaves: one period within it.
    let gate_from_hz = settings.gate_s.filter(|_| too_wide.is_none()).map(|gate_s| 1.0 / gate_s);
    findings.extend(too_wide);
    let by_db = response.full_scale_db - reference.full_scale_db;
    let gain = |mut measured: Measured| {
        measured.value += by_db;
        measured
    };
    let highest_hz = settings.range_hz.1.min(0.5 * reference.rate_hz.min(response.rate_hz));
    let range_hz = (settings.range_hz.0.max(gate_from_hz.unwrap_or(0.0)), highest_hz);
    let kept_points: Vec<curve::Point> = (0..all.len())
        .filter(|k| (range_hz.0..=range_hz.1).contains(&(*k as f64 * bin_hz)))
        .map(|k| all[k])
        .collect();
    let pieces = match settings.per_octave {
        None => {
            let minimum_rad = Some(impulse::minimum_phase(&all, size));
            vec![Piece { range_hz, bin_hz, together, points: all, minimum_rad }]
        }
        Some(steps) => pieces((a, b), rate_hz, &used, settings, (range_hz, steps))?,
    };
    let bands = bands_of(&pieces, settings.fraction, range_hz, rate_hz)
        .into_iter()
        .map(|band| TransferBand { magnitude_db: band.magnitude_db.map(gain), ..band })
        .collect();
    let given_back_s = if settings.with_delay { used.delay.value / rate_hz } else { 0.0 };
    let mut curve = curve_of(&pieces, settings, given_back_s);
    for db in curve.magnitude_db.iter_mut().flatten() {
        *db += by_db;
    }
    let kept = curve.magnitude_db.iter().flatten().count() as f64;
    let kept_share = kept / curve.magnitude_db.len().max(1) as f64;
    let scaled = |measured: Measured, by: f64| Measured::new(by * measured.value, by * measured.u);
    let is_stated = settings.delay_s.is_some();
    findings.extend(said(found.as_ref(), rate_hz, kept_share, is_stated));
    findings.extend(rates_differ(reference.rate_hz, response.rate_hz));
    let known = found.is_some() || is_stated;
    let polarity = if used.is_reversed { Polarity::Reversed } else { Polarity::Same };
    Ok(Transfer {
        delay_s: known.then(|| scaled(used.delay, 1.0 / rate_hz)),
        drift_ppm: used.drift.map(|drift| scaled(drift, 1e6)),
        polarity: known.then_some(polarity),
        gain_db: curve::gain(&kept_points, together).map(gain),
        estimator: settings.estimator,
        frames: sums.frames,
        independent_frames: sums.independent,
        bin_spacing_hz: bin_hz,
        resolution_hz: plan.resolution_hz(rate_hz),
        window_s: plan.segment() as f64 / rate_hz,
        gate_from_hz,
        kept_share,
        positions: 1,
        candidates: found.map_or_else(Vec::new, |found| found.candidates),
        reflections: if kept_share >= LEAST_WHOLE {
            impulse.reflections(rate_hz, settings.speed_m_s)
        } else {
            Vec::new()
        },
        bands,
        curve: Some(curve),
        impulse,
        fraction: settings.fraction,
        findings,
    })
}

/// An impulse response of which fewer points are known rings, and shows reflections that are none.
const LEAST_WHOLE: f64 = 0.6;

/// A stretch of frequency that is seen with frames of one length.
struct Piece {
    range_hz: (f64, f64),
    bin_hz: f64,
    /// Points that chance moves together.
    together: f64,
    points: Vec<curve::Point>,
    /// Phase that a system of these magnitudes has at least, in radians; of frames of one length.
    minimum_rad: Option<Vec<f64>>,
}

impl Piece {
    fn has(&self, hz: f64) -> bool {
        (self.range_hz.0..self.range_hz.1).contains(&hz)
    }
}

/// The bands of a range, each from the piece that has its middle.
fn bands_of(
    pieces: &[Piece],
    fraction: u32,
    range_hz: (f64, f64),
    rate_hz: f64,
) -> Vec<TransferBand> {
    let of_band = |band: Band| {
        let piece = pieces.iter().find(|piece| piece.has(band.center_hz))?;
        let is_resolved = band.low_hz >= piece.bin_hz && band.high_hz <= 0.5 * rate_hz;
        let Piece { points, bin_hz, together, .. } = piece;
        is_resolved.then(|| curve::of_band(points, *bin_hz, band, fraction, *together))
    };
    octave_bands(fraction, range_hz).into_iter().filter_map(of_band).collect()
}

/// The curve of all pieces, smoothed if it is asked for.
fn curve_of(pieces: &[Piece], settings: &TransferSettings, given_back_s: f64) -> TransferCurve {
    let mut all = TransferCurve::default();
    for piece in pieces {
        let drawn = match settings.smooth_octaves {
            Some(octaves) => {
                curve::smoothed(&piece.points, octaves, settings.smoothing, piece.together)
            }
            None => piece.points.clone(),
        };
        let minimum = piece.minimum_rad.as_deref();
        all.extend(curve::curve(&drawn, piece.bin_hz, piece.range_hz, given_back_s, minimum));
    }
    all
}

/// Octave by octave from the highest down, frames that resolve a share of an octave: each has the
/// resolution of its lower end.
fn pieces(
    (a, b): (&dyn Samples, &dyn Samples),
    rate_hz: f64,
    used: &Found,
    settings: &TransferSettings,
    ((low_hz, high_hz), steps): ((f64, f64), u32),
) -> Result<Vec<Piece>, Error> {
    /// Frames there are at least.
    const FEWEST: f64 = 8.0;
    let shorter = a.count().min(b.count());
    let mut all = Vec::new();
    let mut to_hz = high_hz;
    while to_hz > low_hz * 1.001 {
        let from_hz = (0.5 * to_hz).max(low_hz);
        let width_hz = from_hz * (f64::from(steps).recip().exp2() - 1.0);
        let frames =
            FrameSettings { resolution_hz: Some(width_hz), segment: None, ..settings.frames };
        let mut plan = FramePlan::new(&frames, rate_hz, shorter as u64);
        // What is too short for as fine a resolution is seen as finely as it allows.
        let most = (shorter as f64 / FEWEST) as usize;
        if plan.as_ref().map_or(true, |plan| plan.segment() > most) {
            let segment = Some(crate::units::Extent::Samples(most.max(16)));
            let frames = FrameSettings { resolution_hz: None, segment, ..settings.frames };
            plan = FramePlan::new(&frames, rate_hz, shorter as u64);
        }
        let plan = plan?;
        let sums = averaged::averaged(a, b, rate_hz, &plan, used, settings.averaging)?;
        let together = together(&plan);
        all.push(Piece {
            range_hz: (from_hz, to_hz),
            bin_hz: plan.bin_spacing_hz(rate_hz),
            together,
            points: curve::points(&sums, &plan.leaked(&sums.aa, together), settings),
            minimum_rad: None,
        });
        to_hz = from_hz;
    }
    all.reverse();
    Ok(all)
}

/// So many neighbouring points chance moves together: the noise bandwidth of the window in bins.
fn together(plan: &FramePlan) -> f64 {
    let (sum, squares) =
        plan.window.samples().iter().fold((0.0, 0.0), |(s, q), w| (s + w, q + w * w));
    plan.transform_size as f64 * squares / (sum * sum)
}

/// What a gate leaves of points; as they are, with a finding, where they have gaps that are wider than
/// what it resolves.
fn gated(
    points: Vec<curve::Point>,
    size: usize,
    rate_hz: f64,
    gate_s: f64,
) -> (Vec<curve::Point>, Option<Finding>) {
    let gap_hz = impulse::filled(&points).1 as f64 * rate_hz / size as f64;
    if gap_hz * gate_s <= 1.0 {
        return (impulse::gated(&points, size, rate_hz, gate_s), None);
    }
    let finding = Finding::warning(
        "gate_left_out",
        format!(
            "The gate is left out: between points with enough coherence there is a gap of {gap_hz:.0} \
             Hz, and a gate of {:.1} ms resolves {:.0} Hz. Use a source without gaps, or a shorter \
             gate.",
            1e3 * gate_s,
            1.0 / gate_s
        ),
    );
    (points, Some(finding))
}

/// What frames see of sound that comes so many samples late: their window with itself, moved; at some
/// places, and on lines between them.
fn seen_late(plan: &FramePlan) -> impl Fn(usize) -> f64 {
    const POINTS: usize = 256;
    let window = plan.window.samples();
    let step = (window.len() / POINTS).max(1);
    let product = |late: usize| -> f64 {
        let later = window.get(late..).unwrap_or_default();
        later.iter().zip(window).map(|(a, b)| a * b).sum()
    };
    let all = product(0);
    let known: Vec<f64> = (0..=window.len() / step + 1).map(|n| product(n * step) / all).collect();
    move |late| {
        let (at, share) = (late / step, (late % step) as f64 / step as f64);
        let of = |n: usize| known.get(n).copied().unwrap_or(0.0);
        of(at) + share * (of(at + 1) - of(at))
    }
}

fn rates_differ(reference_hz: f64, response_hz: f64) -> Option<Finding> {
    let text = format!(
        "The sample rates differ, {reference_hz} Hz and {response_hz} Hz: the lower one was raised, and \
         what lies above its half is left out."
    );
    (reference_hz != response_hz).then(|| Finding::note("rates_differ", text))
}

/// What must be known of a delay.
fn said(found: Option<&Found>, rate_hz: f64, kept_share: f64, is_stated: bool) -> Vec<Finding> {
    /// What comes sooner than this is no rounding of converters.
    const SOONER_S: f64 = 0.000_1;
    /// A second delay that may be the one.
    const RIVAL_DB: f64 = -0.5;
    const LEAST_KEPT: f64 = 0.02;
    let mut findings = Vec::new();
    if kept_share < LEAST_KEPT && (found.is_some() || is_stated) {
        findings.push(Finding::warning(
            "little_coherence",
            "Hardly any point has the coherence that is asked for: the response is mostly noise, or \
             later than a frame shows. Play louder, measure longer, or use longer frames.",
        ));
    }
    if is_stated {
        return findings;
    }
    let Some(found) = found else {
        findings.push(Finding::serious(
            "no_delay",
            "No delay stands out: the two have nothing in common above chance, or are steady tones, \
             which fit at many delays. Check which channels were recorded, choose a span with noise \
             or onsets, or state the delay.",
        ));
        return findings;
    };
    let sooner_s = -found.delay.value / rate_hz;
    if sooner_s > SOONER_S + 4.0 * found.delay.u / rate_hz {
        findings.push(Finding::note(
            "response_first",
            format!(
                "The response comes {:.3} ms before the reference: the two are swapped, unless their \
                 recorders were started apart.",
                1e3 * sooner_s
            ),
        ));
    }
    let rival = found.candidates.get(1).filter(|other| other.strength_db > RIVAL_DB);
    if let Some(other) = rival {
        findings.push(Finding::warning(
            "delay_may_be_another",
            format!(
                "A delay of {:.3} ms fits nearly as well, as in sound that repeats itself. Choose a \
                 span with noise or onsets, or state the delay.",
                1e3 * other.delay_s
            )
            .replace('-', "−"),
        ));
    }
    if found.slope != 0.0 {
        findings.push(Finding::note(
            "clock_drifts",
            format!(
                "The clock of the response runs {:.2} ppm differently: that is followed and \
                 removed.",
                1e6 * found.slope
            )
            .replace('-', "−"),
        ));
    }
    findings
}

impl TransferSettings {
    fn check(&self) -> Result<(), Error> {
        let refuse = |setting, given: String, allowed: &str| {
            Err(Error::Setting { setting, given, allowed: allowed.into() })
        };
        if !(0.0..1.0).contains(&self.least_coherence) {
            let given = self.least_coherence.to_string();
            return refuse("the least coherence", given, "from 0 to below 1");
        }
        if !(self.range_hz.0 >= 0.0 && self.range_hz.0 < self.range_hz.1) {
            let given = format!("{} Hz to {} Hz", self.range_hz.0, self.range_hz.1);
            return refuse("the range", given, "rising");
        }
        if !(1..=48).contains(&self.fraction) {
            let given = format!("1/{}", self.fraction);
            return refuse("the fraction of an octave", given, "1/1 to 1/48");
        }
        if self.gate_s.is_some_and(|s| !(s > 0.0005 && s < 5.0)) {
            let given = format!("{} s", self.gate_s.unwrap_or(0.0));
            return refuse("the gate", given, "0.5 ms to 5 s");
        }
        if let Some(steps) = self.per_octave {
            let given = format!("{steps} an octave");
            if !(1..=200).contains(&steps) {
                return refuse("the resolution", given, "1 to 200 an octave");
            }
            if self.gate_s.is_some() {
                return refuse("the resolution with a gate", given, "that of the frames");
            }
        }
        if let Averaging::Exponential(s) = self.averaging
            && !(s > 0.0 && s.is_finite())
        {
            return refuse("the averaging time", format!("{s} s"), "above 0 s");
        }
        Ok(())
    }

    /// Frames as asked for; else shorter ones where the sound is too short for enough of them.
    fn frames_for(&self, rate_hz: f64, samples: usize) -> FrameSettings {
        const FEWEST: f64 = 8.0;
        let asked = self.frames;
        let by_hand = asked.segment.is_some() || asked.resolution_hz.is_some();
        let usual = FramePlan::new(&asked, rate_hz, u64::MAX).map(|plan| plan.segment());
        let most = (samples as f64 / FEWEST) as usize;
        match usual {
            Ok(usual) if !by_hand && usual > most => FrameSettings {
                segment: Some(crate::units::Extent::Samples(most.max(16))),
                ..asked
            },
            _ => asked,
        }
    }
}

const DELAY: Label = Label::new("delay_s", "delay", Unit::Second, 8).with_u();
const DRIFT: Label =
    Label::new("drift_ppm", "drift of the clock", Unit::PartPerMillion, 4).with_u();
const GAIN: Label = Label::new("gain_db", "gain", Unit::Decibel, 3).with_u();
const GATE: Label = Label::new("gate_from_hz", "lowest frequency of the gate", Unit::Hertz, 1);

impl Quantities for Transfer {
    fn quantities(&self) -> Vec<Quantity> {
        const WHOLE: [Field<Transfer>; 7] = [
            Field::plain("positions", "positions", Unit::One, 0, |of| Some(of.positions as f64)),
            Field::plain("frames", "frames", Unit::One, 0, |of| Some(of.frames as f64)),
            Field::plain("independent_frames", "independent frames", Unit::One, 1, |of| {
                Some(of.independent_frames)
            }),
            Field::plain("bin_spacing_hz", "distance between points", Unit::Hertz, 4, |of| {
                Some(of.bin_spacing_hz)
            }),
            Field::plain("resolution_hz", "resolution", Unit::Hertz, 3, |of| {
                Some(of.resolution_hz)
            }),
            Field::plain("window_s", "length of a frame", Unit::Second, 4, |of| Some(of.window_s)),
            Field::plain("kept_share", "share of the points kept", Unit::One, 3, |of| {
                Some(of.kept_share)
            }),
        ];
        const CANDIDATE: [Field<Candidate>; 2] = [
            Field::plain("delay_s", "delay", Unit::Second, 6, |of| Some(of.delay_s)),
            Field::plain("strength_db", "strength re the strongest", Unit::Decibel, 2, |of| {
                Some(of.strength_db)
            }),
        ];
        let mut all = vec![
            Quantity::top(&DELAY, self.delay_s),
            Quantity::top(&DRIFT, self.drift_ppm),
            Quantity::top(&GAIN, self.gain_db),
            Quantity::top(&GATE, self.gate_from_hz.and_then(bare)),
        ];
        all.extend(WHOLE.iter().map(|field| Quantity::top(&field.label, field.value(self))));
        for (n, of) in (1..).zip(&self.candidates) {
            let (key, name) = (Key::item("candidates", n), format!("candidate {n}"));
            all.extend(Quantity::of_item(&key, &name, &CANDIDATE, of));
        }
        for (n, of) in (1..).zip(&self.reflections) {
            let (key, name) = (Key::item("reflections", n), format!("reflection {n}"));
            all.extend(Quantity::of_item(&key, &name, &Reflection::FIELDS, of));
        }
        for band in &self.bands {
            let (key, name) = (band.band.key(self.fraction), band.band.name(self.fraction));
            all.extend(Quantity::of_item(&key, &name, &TransferBand::FIELDS, band));
        }
        all
    }
}
