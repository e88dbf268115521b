//! The averaged, windowed spectrum of a span and the tones in it.
//!
//! # What it computes
//!
//! The span is cut into overlapping frames of L samples ([`FramePlan`]). With the window w and
//! X_b\[k\] the transform of frame b, the spectrum is the mean power over n frames
//!
//! P\[k\] = (2/Σw)² · (1/n) Σ_b \|X_b\[k\]\|²  (factor 1 instead of 2 at 0 Hz and at the Nyquist
//! frequency),
//!
//! so that a sine of amplitude A in the middle of a bin reads A². Levels are 10 lg P: dB re full
//! scale, a full-scale sine reading 0. White noise of density S (full scale² per Hz, one-sided)
//! reads 2·S·noise bandwidth.
//!
//! # Tones
//!
//! 1. Maxima that stand above the local noise floor by more than chance explains, and above the
//!    side lobes of stronger tones, are peaks. Each is refined on the known shape of the window's
//!    main lobe.
//! 2. All peaks together are fitted to the samples of the whole span by least squares, without a
//!    window. A tone that is steady gets frequency, level and phase from this fit: the most
//!    accurate there can be (the Cramér–Rao bound). A peak that two steady tones explain, and no
//!    single one that changes, is reported as these two with their beat. One that is not steady (it
//!    decays, glides) keeps the estimate of step 1, and [`Peak::method`] says so.
//!
//! Tones on one harmonic series are reported with its fundamental ([`Family`]); a peak that is
//! wider than one tone is reported as perhaps merged.
//!
//! The two steps are two passes over the samples: [`SpectrumPass`] then [`TonePass`]; [`measure`]
//! runs both over a slice. Memory depends on the frame and on the number of tones, not on the span.
//!
//! ```
//! use tonemap_core::spectrum::{SpectrumSettings, measure};
//! use tonemap_core::synth;
//!
//! let sine = synth::sine(440.123, 0.5, 0.0, 48_000.0, 48_000);
//! let spectrum = measure(&sine, 48_000.0, &SpectrumSettings::default())?;
//! assert!((spectrum.peaks[0].frequency_hz - 440.123).abs() < 1e-6);
//! # Ok::<(), tonemap_core::Error>(())
//! ```

mod averaged;
mod curve;
mod differences;
mod drift;
mod families;
mod floor;
mod pair;
mod peaks;
mod response;
mod tones;
mod zoom;

pub use averaged::{Averaging, Detrend};
pub use curve::{Cumulative, Curve, CurveSettings, Scaling, thinned};
pub use differences::Difference;
pub use families::{Family, Member};
pub(crate) use floor::noise_floor;
pub use response::ResponseCurve;
pub use zoom::{Zoom, ZoomPass, zoom_segment};

use serde::Serialize;

use crate::error::Error;
use crate::finding::{Advice, Finding};
use crate::frame::{FramePlan, FrameSettings};
use crate::measured::Measured;
use crate::quantity::{Field, Key, Label, Quantities, Quantity, Unit, bare, pair};
use crate::samples::Samples;
use crate::units::{LevelReference, Note, cents_between, db_from_amplitude, db_from_power};
use averaged::{Averaged, Averager};
use drift::Drift;
use peaks::{PeakSearch, WindowedPeak};
use tones::{BlockSums, SteadyTone, ToneFit, Verdict};

/// Most tones fitted jointly; the strongest.
const MOST_TONES: usize = 40;
/// Decibels per relative change of an amplitude: 20 / ln 10.
const DB_PER_NEPER: f64 = 20.0 / std::f64::consts::LN_10;

/// What spectrum to measure.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SpectrumSettings {
    /// How frames are cut. Default: 5 Hz resolution, Blackman–Harris.
    pub frames: FrameSettings,
    /// Lowest and highest frequency of interest in Hz. Default: all.
    pub range_hz: Option<(f64, f64)>,
    /// Most peaks reported, the strongest. Default: 12.
    pub peaks: usize,
    /// Frequency of A4 in Hz. Default: 440.
    pub reference_hz: f64,
    /// Probability that noise alone puts one peak into the whole spectrum. Default: 0.01.
    pub false_alarm: f64,
    /// Least level of a peak in dB re full scale, beside that. Default: none.
    pub threshold_db: Option<f64>,
    /// How frames become one spectrum. Default: the mean of their power.
    pub averaging: Averaging,
    /// What is taken from each frame before it is windowed. Default: nothing.
    pub detrend: Detrend,
}

impl Default for SpectrumSettings {
    fn default() -> Self {
        Self {
            frames: FrameSettings::default(),
            range_hz: None,
            peaks: 12,
            reference_hz: 440.0,
            false_alarm: 0.01,
            threshold_db: None,
            averaging: Averaging::Mean,
            detrend: Detrend::None,
        }
    }
}

/// Where the numbers of a peak come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Method {
    /// Least squares over the whole span: the tone is steady.
    Span,
    /// The averaged spectrum: the tone changes within the span, or the span is too short to tell.
    Frames,
}

/// A tone in the spectrum. Uncertainties are standard uncertainties (k = 1).
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Peak {
    /// Frequency in Hz.
    pub frequency_hz: f64,
    /// Its uncertainty in Hz.
    pub frequency_hz_u: f64,
    /// Level of the amplitude in dB re full scale; for [`Method::Frames`] that of the root of the
    /// power averaged over the frames.
    pub level_db: f64,
    /// Its uncertainty in dB.
    pub level_db_u: f64,
    /// Amplitude re full scale.
    pub amplitude: f64,
    /// Its uncertainty.
    pub amplitude_u: f64,
    /// Phase at the first sample of the span, of a cosine, from −π to π; `None` for
    /// [`Method::Frames`].
    pub phase_rad: Option<f64>,
    /// Its uncertainty.
    pub phase_rad_u: Option<f64>,
    /// Nearest note.
    #[serde(serialize_with = "crate::units::note_text")]
    pub note: Note,
    /// Distance from that note in cents.
    pub cents: f64,
    /// Its uncertainty in cents.
    pub cents_u: f64,
    /// Height above the higher of the two valleys that part it from higher peaks, in dB.
    pub prominence_db: f64,
    /// Width at −6 dB in Hz, that of a single steady tone being the resolution; `None` where a
    /// neighbour or the noise comes in between.
    pub width_hz: Option<f64>,
    /// Number in the first harmonic series it lies on.
    pub harmonic: Option<u32>,
    /// Rate in Hz at which it beats with another that is nearer than frames resolve, if there is
    /// such: the difference of their frequencies.
    pub beat_hz: Option<f64>,
    /// Its uncertainty.
    pub beat_hz_u: Option<f64>,
    /// Frequency of that other in Hz.
    pub beats_with_hz: Option<f64>,
    /// Where the numbers come from.
    pub method: Method,
}

impl Peak {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 9] = [
        Field::measured("frequency_hz", "frequency", Unit::Hertz, 6, |peak| {
            Some(Measured::new(peak.frequency_hz, peak.frequency_hz_u))
        }),
        Field::measured("level_db", "level", Unit::Level, 4, |peak| {
            Some(Measured::new(peak.level_db, peak.level_db_u))
        }),
        Field::measured("amplitude", "amplitude", Unit::One, 6, |peak| {
            Some(Measured::new(peak.amplitude, peak.amplitude_u))
        }),
        Field::measured("phase_rad", "phase", Unit::Radian, 4, |peak| {
            pair(peak.phase_rad, peak.phase_rad_u)
        }),
        Field::measured("cents", "distance from the note", Unit::Cent, 4, |peak| {
            Some(Measured::new(peak.cents, peak.cents_u))
        }),
        Field::plain("prominence_db", "prominence", Unit::Decibel, 1, |peak| {
            Some(peak.prominence_db)
        }),
        Field::plain("width_hz", "width", Unit::Hertz, 2, |peak| peak.width_hz),
        Field::plain("harmonic", "harmonic", Unit::One, 0, |peak| peak.harmonic.map(f64::from)),
        Field::measured("beat_hz", "beat", Unit::Hertz, 4, |peak| {
            pair(peak.beat_hz, peak.beat_hz_u)
        }),
    ];
}

/// A measured spectrum.
#[derive(Debug, Clone, Serialize)]
pub struct Spectrum {
    /// Name of the window.
    pub window: crate::window::WindowKind,
    /// Length of a frame in seconds.
    pub window_s: f64,
    /// Transform length in samples.
    pub transform_size: usize,
    /// How frames became one spectrum.
    pub averaging: Averaging,
    /// Frames averaged.
    pub averaged_frames: u64,
    /// Distance between two values in Hz.
    pub bin_spacing_hz: f64,
    /// Spacing at which two equal tones are still resolved, in Hz.
    pub resolution_hz: f64,
    /// Noise bandwidth of the window in Hz.
    pub noise_bandwidth_hz: f64,
    /// Number of independent frames that the average is worth; `None` for a maximum.
    pub independent_frames: Option<f64>,
    /// What levels refer to.
    #[serde(skip)]
    pub reference: LevelReference,
    /// Level of the noise floor in one bin, in dB: the median over the range.
    pub noise_floor_db: Option<f64>,
    /// Tones found in the range beyond those reported.
    pub weaker_peaks: usize,
    /// The tones, lowest first.
    pub peaks: Vec<Peak>,
    /// The harmonic series that tones lie on, that with the most tones first; tones that are not
    /// reported take part.
    pub families: Vec<Family>,
    /// Square of the amplitude re full scale that a sine in each bin from 0 Hz would have.
    #[serde(skip)]
    pub power: Vec<f64>,
    /// Estimated noise floor in each bin, likewise.
    #[serde(skip)]
    pub floor: Vec<f64>,
    /// Bins that the mean of the samples reaches.
    #[serde(skip)]
    clear_of_dc_bins: usize,
    /// Lowest and highest frequency of interest in Hz.
    #[serde(skip)]
    pub range_hz: (f64, f64),
    /// What the engineer must know about this result.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

impl Quantities for Spectrum {
    fn quantities(&self) -> Vec<Quantity> {
        const SPACING: Label = Label::new("bin_spacing_hz", "bin spacing", Unit::Hertz, 3);
        const RESOLUTION: Label = Label::new("resolution_hz", "resolution", Unit::Hertz, 2);
        const NOISE_BANDWIDTH: Label =
            Label::new("noise_bandwidth_hz", "noise bandwidth", Unit::Hertz, 3);
        const WINDOW: Label = Label::new("window_s", "window", Unit::Second, 4);
        const FRAMES: Label = Label::new("independent_frames", "independent frames", Unit::One, 1);
        const FLOOR: Label = Label::new("noise_floor_db", "noise floor in a bin", Unit::Level, 1);
        const WEAKER: Label = Label::new("weaker_peaks", "weaker peaks", Unit::One, 0);
        const TENTH: Label = Label::new("power_10_hz", "10 % of the power below", Unit::Hertz, 0);
        const HALF: Label = Label::new("power_50_hz", "50 % of the power below", Unit::Hertz, 0);
        const NINE_TENTHS: Label =
            Label::new("power_90_hz", "90 % of the power below", Unit::Hertz, 0);
        let power = self.cumulative();
        let mut all = vec![
            Quantity::top(&SPACING, bare(self.bin_spacing_hz)),
            Quantity::top(&RESOLUTION, bare(self.resolution_hz)),
            Quantity::top(&NOISE_BANDWIDTH, bare(self.noise_bandwidth_hz)),
            Quantity::top(&WINDOW, bare(self.window_s)),
            Quantity::top(&FRAMES, pair(self.independent_frames, None)),
            Quantity::top(&FLOOR, pair(self.noise_floor_db, None)),
            Quantity::top(&WEAKER, bare(self.weaker_peaks as f64)),
            Quantity::top(&TENTH, pair(power.map(|power| power.power_10_hz), None)),
            Quantity::top(&HALF, pair(power.map(|power| power.power_50_hz), None)),
            Quantity::top(&NINE_TENTHS, pair(power.map(|power| power.power_90_hz), None)),
        ];
        for (n, peak) in (1..).zip(&self.peaks) {
            let key = Key::item("peaks", n);
            all.extend(Quantity::of_item(&key, &format!("tone {n}"), &Peak::FIELDS, peak));
        }
        for (n, family) in (1..).zip(&self.families) {
            let (key, name) = (Key::item("families", n), format!("series {n}"));
            all.extend(Quantity::of_item(&key, &name, &Family::FIELDS, family));
            for member in &family.members {
                let key = key.clone().then_item("members", member.number as usize);
                let name = format!("{name}, harmonic {}", member.number);
                all.extend(Quantity::of_item(&key, &name, &Member::FIELDS, member));
            }
        }
        all
    }
}

impl Spectrum {
    /// The same spectrum with its levels re another reference. Amplitudes stay re full scale.
    #[must_use]
    pub fn calibrated(mut self, reference: LevelReference) -> Self {
        let change_db = reference.full_scale_db() - self.reference.full_scale_db();
        for peak in &mut self.peaks {
            peak.level_db += change_db;
        }
        self.noise_floor_db = self.noise_floor_db.map(|db| db + change_db);
        self.reference = reference;
        self
    }

    /// Density of the noise floor, in dB per hertz.
    #[must_use]
    pub fn noise_density_db(&self) -> Option<f64> {
        self.noise_floor_db.map(|db| db - db_from_power(self.noise_bandwidth_hz))
    }

    /// Median of the noise floor over the range, as a level.
    fn median_floor_db(&self) -> Option<f64> {
        let mut floor: Vec<f64> = self.floor[self.bins()].to_vec();
        floor.sort_by(f64::total_cmp);
        let median_db = db_from_power(*floor.get(floor.len() / 2)?);
        (median_db > -300.0).then_some(median_db + self.reference.full_scale_db())
    }
}

/// Measures the spectrum of `samples`: both passes at once.
///
/// # Errors
///
/// As [`SpectrumPass::new`].
pub fn measure(
    samples: &[f32],
    sample_rate_hz: f64,
    settings: &SpectrumSettings,
) -> Result<Spectrum, Error> {
    let mut spectrum_pass = SpectrumPass::new(settings, sample_rate_hz, samples.len() as u64)?;
    spectrum_pass.push(samples);
    let mut tone_pass = spectrum_pass.finish();
    if tone_pass.needs_samples() {
        tone_pass.push(samples);
    }
    Ok(tone_pass.finish())
}

/// The averaged spectrum of a sound that is read stretch by stretch: the power in each bin, the floor
/// of noise under it, and the distance of bins in Hz.
pub(crate) fn averaged_power(
    samples: &dyn Samples,
    sample_rate_hz: f64,
    frames: &FrameSettings,
) -> Result<(Vec<f64>, Vec<f64>, f64), Error> {
    const BLOCK: usize = 1 << 16;
    let settings = SpectrumSettings { frames: *frames, ..SpectrumSettings::default() };
    let count = samples.count();
    let mut pass = SpectrumPass::new(&settings, sample_rate_hz, count as u64)?;
    let mut block = vec![0.0; BLOCK];
    for from in (0..count).step_by(BLOCK) {
        let part = &mut block[..BLOCK.min(count - from)];
        samples.read(from, part)?;
        pass.push(part);
    }
    let pass = pass.finish();
    let spacing_hz = pass.plan.bin_spacing_hz(sample_rate_hz);
    Ok((pass.averaged.mean, pass.floor, spacing_hz))
}

/// The first pass: the averaged spectrum.
#[derive(Clone)]
pub struct SpectrumPass {
    settings: SpectrumSettings,
    sample_rate_hz: f64,
    span_samples: u64,
    plan: FramePlan,
    halves: [HalfPass; 2],
}

/// Every second frame of a [`SpectrumPass`].
#[derive(Clone)]
pub struct HalfPass {
    averager: Averager,
}

impl HalfPass {
    /// Takes the next samples of the span.
    pub fn push(&mut self, samples: &[f32]) {
        self.averager.push(samples);
    }
}

impl SpectrumPass {
    /// Prepares for a span of exactly `span_samples` samples.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for settings that make no sense, [`Error::TooShort`] for fewer than 16
    /// samples.
    pub fn new(
        settings: &SpectrumSettings,
        sample_rate_hz: f64,
        span_samples: u64,
    ) -> Result<Self, Error> {
        if !(1.0..=1e5).contains(&settings.reference_hz) {
            return Err(Error::Setting {
                setting: "the reference pitch",
                given: format!("{} Hz", settings.reference_hz),
                allowed: "1 Hz to 100 000 Hz".into(),
            });
        }
        settings.averaging.check()?;
        let plan = FramePlan::new(&settings.frames, sample_rate_hz, span_samples)?;
        let frames = plan.frames(span_samples);
        let halves = [0, 1].map(|first| HalfPass {
            averager: Averager::new(
                &plan,
                settings.averaging,
                settings.detrend,
                sample_rate_hz,
                frames,
                first,
            ),
        });
        Ok(Self { settings: *settings, sample_rate_hz, span_samples, plan, halves })
    }

    /// How frames are cut.
    #[must_use]
    pub fn plan(&self) -> &FramePlan {
        &self.plan
    }

    /// Takes the next samples of the span.
    pub fn push(&mut self, samples: &[f32]) {
        for half in &mut self.halves {
            half.push(samples);
        }
    }

    /// The two halves of the work, which may be done on two threads: each takes all samples of the
    /// span. The result is the same, to the bit, as with [`push`](Self::push).
    pub fn halves(&mut self) -> &mut [HalfPass; 2] {
        &mut self.halves
    }

    /// Ends the pass with the averaged power in each bin alone, as [`Spectrum::power`] has it.
    #[must_use]
    pub fn power(self) -> Vec<f64> {
        let [even, odd] = self.halves.map(|half| half.averager);
        let averaged = even.finish(odd, &self.plan);
        averaged.asked.unwrap_or(averaged.mean)
    }

    /// Ends the first pass: finds the peaks and prepares to fit them.
    #[must_use]
    pub fn finish(self) -> TonePass {
        let [even, odd] = self.halves.map(|half| half.averager);
        let spacing_hz = self.plan.bin_spacing_hz(self.sample_rate_hz);
        let pad = self.plan.transform_size as f64 / self.plan.segment() as f64;
        let bandwidth = self.plan.window.figures().noise_bandwidth_bins * pad;
        let stretches = (even.stretches.clone(), odd.stretches.clone());
        let averaged = even.finish(odd, &self.plan);
        let floor = floor::noise_floor(&averaged.mean, bandwidth, averaged.independent_frames);
        let drift = stretches.0.drift(&stretches.1, &self.plan, spacing_hz, &averaged.mean, &floor);
        let mut peaks = PeakSearch {
            plan: &self.plan,
            sample_rate_hz: self.sample_rate_hz,
            power: &averaged.mean,
            floor: &floor,
            frames: averaged.frames,
            independent_frames: averaged.independent_frames,
            false_alarm: self.settings.false_alarm,
        }
        .run();
        let weaker = peaks.split_off(peaks.len().min(MOST_TONES));
        let frequencies: Vec<f64> = peaks.iter().map(|peak| peak.frequency_hz).collect();
        let unfitted = weaker.iter().map(|peak| (peak.frequency_hz, peak.amplitude)).collect();
        let fit = ToneFit::new(
            &frequencies,
            unfitted,
            self.sample_rate_hz,
            self.span_samples,
            self.plan.segment(),
        );
        TonePass {
            settings: self.settings,
            sample_rate_hz: self.sample_rate_hz,
            span_samples: self.span_samples,
            plan: self.plan,
            averaged,
            floor,
            drift,
            peaks,
            weaker,
            fit,
        }
    }
}

/// Two tones with a third line near them are no pair: they are lines of a tone that is modulated, or
/// beat with more than one another.
fn part_from_others(peaks: &mut [Peak], resolution_hz: f64) {
    /// So near, in resolutions, and no weaker than so much of the weaker of the two.
    const NEAR: f64 = 2.5;
    const WEAKEST: f64 = 0.3;
    let lines: Vec<(f64, f64)> =
        peaks.iter().map(|peak| (peak.frequency_hz, peak.amplitude)).collect();
    let has_a_third = |peak: &Peak| {
        let Some(other_hz) = peak.beats_with_hz else { return false };
        let other = lines.iter().find(|(hz, _)| *hz == other_hz);
        let weaker = other.map_or(peak.amplitude, |other| other.1.min(peak.amplitude));
        let mut others = lines.iter().filter(|(hz, _)| *hz != peak.frequency_hz && *hz != other_hz);
        others.any(|(hz, amplitude)| {
            let away_hz = (hz - peak.frequency_hz).abs().min((hz - other_hz).abs());
            *amplitude > WEAKEST * weaker && away_hz < NEAR * resolution_hz
        })
    };
    let crowded: Vec<bool> = peaks.iter().map(has_a_third).collect();
    for (peak, _) in peaks.iter_mut().zip(crowded).filter(|(_, is_crowded)| *is_crowded) {
        (peak.beat_hz, peak.beat_hz_u, peak.beats_with_hz) = (None, None, None);
    }
}

/// Whether the change of a band is the beat of a pair, the strongest that reaches into it.
fn is_beat(drift: &Drift, peaks: &[Peak], resolution_hz: f64) -> bool {
    let reached = drift.low_hz - resolution_hz..drift.high_hz + resolution_hz;
    let inside = |peak: &&Peak| reached.contains(&peak.frequency_hz);
    let strongest = peaks.iter().filter(inside).max_by(|a, b| a.amplitude.total_cmp(&b.amplitude));
    strongest.is_some_and(|peak| peak.beat_hz.is_some())
}

/// Every second tone of a [`TonePass`].
pub struct HalfTonePass<'a> {
    sums: Option<&'a mut BlockSums>,
}

impl HalfTonePass<'_> {
    /// Takes the next samples of the span.
    pub fn push(&mut self, samples: &[f32]) {
        if let Some(sums) = &mut self.sums {
            sums.push(samples);
        }
    }
}

/// The second pass: the tones, over the same samples again.
pub struct TonePass {
    settings: SpectrumSettings,
    sample_rate_hz: f64,
    span_samples: u64,
    plan: FramePlan,
    averaged: Averaged,
    floor: Vec<f64>,
    drift: Option<Drift>,
    /// The strongest peaks, which are fitted, and the rest.
    peaks: Vec<WindowedPeak>,
    weaker: Vec<WindowedPeak>,
    fit: Option<ToneFit>,
}

impl TonePass {
    /// Whether there is anything to fit; if not, the samples need not be read again.
    #[must_use]
    pub fn needs_samples(&self) -> bool {
        self.fit.is_some()
    }

    /// Takes the next samples of the span.
    pub fn push(&mut self, samples: &[f32]) {
        for mut half in self.halves() {
            half.push(samples);
        }
    }

    /// The two halves of the work, which may be done on two threads: each takes all samples of the
    /// span. The result is the same, to the bit, as with [`push`](Self::push).
    pub fn halves(&mut self) -> [HalfTonePass<'_>; 2] {
        match &mut self.fit {
            Some(fit) => fit.halves().each_mut().map(|sums| HalfTonePass { sums: Some(sums) }),
            None => [HalfTonePass { sums: None }, HalfTonePass { sums: None }],
        }
    }

    /// Ends the second pass.
    #[must_use]
    pub fn finish(mut self) -> Spectrum {
        let range_hz = self.settings.range_hz.unwrap_or((0.0, self.sample_rate_hz / 2.0));
        let fitted = self.fit.is_some();
        let resolution_hz = self.plan.resolution_hz(self.sample_rate_hz);
        let verdicts = self.fit.take().map(ToneFit::finish).unwrap_or_default();
        let verdicts = verdicts.into_iter().chain(std::iter::repeat(Verdict::Changing(Vec::new())));
        let mut peaks: Vec<Peak> = self
            .peaks
            .iter()
            .chain(&self.weaker)
            .zip(verdicts)
            .flat_map(|(windowed, verdict)| self.peaks_of(windowed, &verdict))
            // What is not even known to the resolution of the frames is no tone.
            .filter(|peak| peak.frequency_hz_u < resolution_hz)
            .filter(|peak| self.settings.threshold_db.is_none_or(|least| peak.level_db >= least))
            .collect();
        part_from_others(&mut peaks, resolution_hz);
        self.drift = self.drift.filter(|drift| !is_beat(drift, &peaks, resolution_hz));
        peaks.sort_by(|a, b| b.level_db.total_cmp(&a.level_db));
        // Series may begin below the range or go on above it.
        let strongest = &peaks[..peaks.len().min(MOST_TONES)];
        let families = families::families(strongest, self.settings.reference_hz);
        peaks.retain(|peak| (range_hz.0..=range_hz.1).contains(&peak.frequency_hz));
        let weaker_peaks = peaks.len().saturating_sub(self.settings.peaks);
        peaks.truncate(self.settings.peaks);
        peaks.sort_by(|a, b| a.frequency_hz.total_cmp(&b.frequency_hz));
        for peak in &mut peaks {
            let own = |member: &&Member| member.frequency_hz == peak.frequency_hz;
            peak.harmonic = families
                .first()
                .and_then(|first| first.members.iter().find(own))
                .map(|member| member.number);
        }
        let window = self.plan.window.figures();
        let mut spectrum = Spectrum {
            window: self.plan.window.kind(),
            window_s: self.plan.segment() as f64 / self.sample_rate_hz,
            transform_size: self.plan.transform_size,
            averaging: self.settings.averaging,
            averaged_frames: self.averaged.frames,
            bin_spacing_hz: self.plan.bin_spacing_hz(self.sample_rate_hz),
            resolution_hz,
            noise_bandwidth_hz: window.noise_bandwidth_bins * self.sample_rate_hz
                / self.plan.segment() as f64,
            independent_frames: self.averaged.asked_independent_frames,
            reference: LevelReference::FullScale,
            noise_floor_db: None,
            findings: self.findings(&peaks, fitted),
            weaker_peaks,
            peaks,
            families,
            power: self.averaged.asked.unwrap_or(self.averaged.mean),
            floor: self.floor,
            clear_of_dc_bins: (self.plan.window.kind().main_lobe_half_bins()
                * self.plan.transform_size as f64
                / self.plan.segment() as f64)
                .ceil() as usize,
            range_hz,
        };
        spectrum.noise_floor_db = spectrum.median_floor_db();
        spectrum
    }

    /// The tone, or the two, that a peak is.
    fn peaks_of(&self, windowed: &WindowedPeak, verdict: &Verdict) -> Vec<Peak> {
        let width_hz = self.plan.resolution_hz(self.sample_rate_hz);
        // A fit that strayed to another tone does not count.
        let is_near = |tone: &SteadyTone, widths: f64| {
            (tone.frequency_hz.value - windowed.frequency_hz).abs() < widths * width_hz
        };
        // Neither does one that hardly stands out of its own uncertainty: a steady tone that shows
        // in the frames is sure over the span, but one that dies away can be lost in what the others
        // leave there.
        let (in_frames, _) = windowed.measured(&[]);
        // Without noise both are known to the rounding of the samples.
        let in_frames_u = in_frames.u.max(1e-6 * width_hz);
        let is_same = |tone: &SteadyTone| {
            is_near(tone, 0.5)
                && (0.7..1.4).contains(&(tone.amplitude.value / windowed.amplitude))
                && tone.amplitude.u < 0.2 * tone.amplitude.value
                && tone.frequency_hz.u < 3.0 * in_frames_u
        };
        let are_same = |tones: &[SteadyTone; 2]| {
            // Of two that beat, the average over the frames depends on when they do.
            let power: f64 = tones.iter().map(|tone| tone.amplitude.value.powi(2)).sum();
            (0.5..2.0).contains(&(power.sqrt() / windowed.amplitude))
                && tones.iter().any(|tone| is_near(tone, 0.7))
                && tones.iter().all(|tone| is_near(tone, 2.5))
        };
        let steady = |tone: &SteadyTone| {
            let numbers = (tone.frequency_hz, tone.amplitude);
            self.peak(windowed, numbers, Some(tone.phase_rad))
        };
        let of_frames = |profile: &[f64]| self.peak(windowed, windowed.measured(profile), None);
        match verdict {
            Verdict::Steady(tone) if is_same(tone) => Vec::from_iter(steady(tone)),
            Verdict::Two(two) if are_same(&two.0) => {
                let ([lower, upper], beat) = &**two;
                let beating = |(tone, other): (&SteadyTone, &SteadyTone)| {
                    Some(Peak {
                        beat_hz: Some(beat.value),
                        beat_hz_u: Some(beat.u),
                        beats_with_hz: Some(other.frequency_hz.value),
                        width_hz: None,
                        ..steady(tone)?
                    })
                };
                [(lower, upper), (upper, lower)].into_iter().filter_map(beating).collect()
            }
            Verdict::Steady(_) | Verdict::Two(_) => Vec::from_iter(of_frames(&[])),
            Verdict::Changing(profile) => Vec::from_iter(of_frames(profile)),
        }
    }

    /// A tone of a peak; one with a phase is steady.
    fn peak(
        &self,
        windowed: &WindowedPeak,
        (frequency, amplitude): (Measured, Measured),
        phase: Option<Measured>,
    ) -> Option<Peak> {
        let (note, cents) = Note::nearest(frequency.value, self.settings.reference_hz)?;
        let cents_u = cents_between(1.0, 1.0 + frequency.u / frequency.value);
        let width_hz = self.plan.resolution_hz(self.sample_rate_hz);
        Some(Peak {
            frequency_hz: frequency.value,
            frequency_hz_u: frequency.u,
            level_db: db_from_amplitude(amplitude.value),
            level_db_u: DB_PER_NEPER * amplitude.u / amplitude.value,
            amplitude: amplitude.value,
            amplitude_u: amplitude.u,
            phase_rad: phase.map(|phase| phase.value),
            phase_rad_u: phase.map(|phase| phase.u),
            note,
            cents,
            cents_u,
            prominence_db: windowed.prominence_db,
            width_hz: windowed.width_ratio.map(|ratio| ratio * width_hz),
            harmonic: None,
            beat_hz: None,
            beat_hz_u: None,
            beats_with_hz: None,
            method: if phase.is_some() { Method::Span } else { Method::Frames },
        })
    }

    fn findings(&self, peaks: &[Peak], fitted: bool) -> Vec<Finding> {
        let mut findings = Vec::new();
        let asked =
            self.settings.frames.segment.is_some() || self.settings.frames.resolution_hz.is_some();
        if let (Some(wanted), true) = (self.plan.wanted_samples, asked) {
            findings.push(Finding::warning(
                "span_too_short",
                format!(
                    "The span of {:.4} s cannot hold the frame of {:.4} s that was asked for; the \
                     resolution is {:.2} Hz instead. Choose a span of {:.4} s or more, or a \
                     coarser resolution.",
                    self.span_samples as f64 / self.sample_rate_hz,
                    wanted as f64 / self.sample_rate_hz,
                    self.plan.resolution_hz(self.sample_rate_hz),
                    wanted as f64 / self.sample_rate_hz,
                ),
            ));
        }
        // What is heard to begin and to die away needs no word of it, and its peaks are wide for it.
        if !self.drift.is_some_and(|drift| drift.is_plain) {
            findings.extend(self.drift.map(|drift| self.drift_finding(drift)));
            findings.extend(self.merged_finding(peaks));
        }
        if self.averaged.group_frames > 1 {
            findings.push(Finding::note(
                "median_of_groups",
                format!(
                    "The median is that of groups of {} frames, since all of them do not fit into \
                     memory: a click spoils one group.",
                    self.averaged.group_frames
                ),
            ));
        }
        let unsteady = peaks.iter().filter(|peak| peak.method == Method::Frames).count();
        if unsteady > 0 && fitted && self.drift.is_none() {
            findings.push(Finding::note(
                "not_steady",
                format!(
                    "{unsteady} of {} peaks change within the span (they decay, glide or beat): \
                     their values come from the averaged frames, their levels are averages over \
                     the span, and no phase is given.",
                    peaks.len()
                ),
            ));
        }
        if peaks.is_empty() {
            findings.push(Finding::note(
                "no_peaks",
                "No tone rises above the noise in this range and span.",
            ));
        }
        findings
    }

    fn drift_finding(&self, drift: Drift) -> Finding {
        let length_s = self.span_samples as f64 / self.sample_rate_hz;
        Finding::warning(
            "drift",
            format!(
                "The sound does not stay as it is: between {:.0} Hz and {:.0} Hz its level differs by \
                 {:.1} dB from {:.2} s to {:.2} s after the start of the span, more than noise \
                 explains. The spectrum is an average over this change; a shorter span shows one \
                 state.",
                drift.low_hz,
                drift.high_hz,
                drift.change_db,
                length_s * drift.strongest_at.min(drift.weakest_at),
                length_s * drift.strongest_at.max(drift.weakest_at),
            ),
        )
    }

    /// Peaks that are too wide for one tone.
    fn merged_finding(&self, peaks: &[Peak]) -> Option<Finding> {
        /// Over the width of the window, which a steady tone has.
        const WIDEST: f64 = 1.2;
        let resolution_hz = self.plan.resolution_hz(self.sample_rate_hz);
        let wide = |peak: &&Peak| {
            peak.method == Method::Frames
                && peak.width_hz.is_some_and(|width| width > WIDEST * resolution_hz)
        };
        let mut wide: Vec<&Peak> = peaks.iter().filter(wide).collect();
        wide.sort_by(|a, b| b.level_db.total_cmp(&a.level_db));
        let first = wide.first()?;
        let others = match wide.len() {
            1 => String::new(),
            2 => ", and another is too wide as well".into(),
            count => format!(", and {} others are too wide as well", count - 1),
        };
        let width_bins = self.plan.window.figures().width_6db_bins;
        let finest_hz = width_bins * self.sample_rate_hz / self.span_samples as f64;
        let finer_hz = (finest_hz < 0.7 * resolution_hz)
            .then(|| (100.0 * finest_hz.max(resolution_hz / 3.0)).ceil() / 100.0);
        let too_short =
            if finer_hz.is_some() { "" } else { " The span is too short to resolve more." };
        let finding = Finding::warning(
            "merged_peak",
            format!(
                "The peak at {:.1} Hz is {:.1} Hz wide at −6 dB, where one steady tone is {:.1} \
                 Hz{others}: \
                 it may be two tones, or one that glides or decays within a frame.{too_short}",
                first.frequency_hz,
                first.width_hz.unwrap_or(resolution_hz),
                resolution_hz,
            ),
        );
        Some(match finer_hz {
            Some(hz) => finding.advising(Advice::Resolve(hz)),
            None => finding,
        })
    }
}
