//! The averaged, windowed spectrum of a span and the tones in it.
//!
//! # What it computes
//!
//! The span is cut into overlapping frames of L samples ([`FramePlan`]). With the window w and
//! X_b\[k\] the transform of frame b, the spectrum is the mean power over n frames
//!
//! P\[k\] = (2/Σw)² · (1/n) Σ_b \|X_b\[k\]\|²  (factor 1 instead of 2 at 0 Hz and at the Nyquist frequency),
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
//!    accurate there can be (the Cramér–Rao bound). One that is not (it decays, glides, beats)
//!    keeps the estimate of step 1, and [`Peak::method`] says so.
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
mod floor;
mod peaks;
mod tones;

use serde::{Serialize, Serializer};

use crate::error::Error;
use crate::finding::Finding;
use crate::frame::{FramePlan, FrameSettings};
use crate::measured::Measured;
use crate::units::{
    LevelReference, Note, amplitude_from_db, cents_between, db_from_amplitude, db_from_power,
};
use averaged::Averager;
use peaks::{PeakSearch, WindowedPeak};
use tones::{SteadyTone, ToneFit, Verdict};

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
}

impl Default for SpectrumSettings {
    fn default() -> Self {
        Self {
            frames: FrameSettings::default(),
            range_hz: None,
            peaks: 12,
            reference_hz: 440.0,
            false_alarm: 0.01,
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
    #[serde(serialize_with = "as_text")]
    pub note: Note,
    /// Distance from that note in cents.
    pub cents: f64,
    /// Its uncertainty in cents.
    pub cents_u: f64,
    /// Where the numbers come from.
    pub method: Method,
}

/// A reading from the averaged frames.
fn with_frames(
    (frequency, amplitude): (Measured, Measured),
) -> (Measured, Measured, Option<Measured>, Method) {
    (frequency, amplitude, None, Method::Frames)
}

// The serializer hands over a reference.
#[expect(clippy::trivially_copy_pass_by_ref)]
fn as_text<S: Serializer>(note: &Note, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(note)
}

/// Level against frequency.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Curve {
    /// Frequency of each value in Hz.
    pub frequency_hz: Vec<f64>,
    /// Level in dB re the reference of the spectrum; `None` where there is no power.
    pub level_db: Vec<Option<f64>>,
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
    /// Frames averaged.
    pub averaged_frames: u64,
    /// Distance between two values in Hz.
    pub bin_spacing_hz: f64,
    /// Spacing at which two equal tones are still told apart, in Hz.
    pub resolution_hz: f64,
    /// What a level means.
    pub scaling: String,
    /// What levels refer to.
    #[serde(skip)]
    pub reference: LevelReference,
    /// Level of the noise floor in one bin, in dB: the median over the range.
    pub noise_floor_db: Option<f64>,
    /// Tones found in the range beyond those reported.
    pub weaker_peaks: usize,
    /// The tones, lowest first.
    pub peaks: Vec<Peak>,
    /// Power in each bin from 0 Hz, a sine of amplitude A reading A².
    #[serde(skip)]
    pub power: Vec<f64>,
    /// Estimated noise floor in each bin, likewise.
    #[serde(skip)]
    pub floor: Vec<f64>,
    /// Lowest and highest frequency of interest in Hz.
    #[serde(skip)]
    pub range_hz: (f64, f64),
    /// What the engineer must know about this result.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

impl Spectrum {
    /// The same spectrum with its levels in dB re 20 µPa, where a full-scale sine has the level
    /// `full_scale_db`. Amplitudes stay re full scale.
    #[must_use]
    pub fn calibrated(mut self, full_scale_db: f64) -> Self {
        let factor = amplitude_from_db(full_scale_db).powi(2);
        for power in self.power.iter_mut().chain(&mut self.floor) {
            *power *= factor;
        }
        for peak in &mut self.peaks {
            peak.level_db += full_scale_db;
        }
        self.noise_floor_db = self.noise_floor_db.map(|db| db + full_scale_db);
        self.scaling = format!(
            "amplitude of a sine as its RMS pressure, dB re 20 µPa (full-scale sine = {full_scale_db} dB)"
        );
        self.reference = LevelReference::Pressure { full_scale_db };
        self
    }

    /// Level against frequency, within the range of interest.
    #[must_use]
    pub fn curve(&self) -> Curve {
        let (frequency_hz, level_db) = self
            .power
            .iter()
            .enumerate()
            .map(|(k, power)| (k as f64 * self.bin_spacing_hz, db_from_power(*power)))
            .filter(|(f, _)| (self.range_hz.0..=self.range_hz.1).contains(f))
            .map(|(f, level)| (f, level.is_finite().then_some(level)))
            .unzip();
        Curve { frequency_hz, level_db }
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

/// The first pass: the averaged spectrum.
pub struct SpectrumPass {
    settings: SpectrumSettings,
    sample_rate_hz: f64,
    span_samples: u64,
    plan: FramePlan,
    halves: [HalfPass; 2],
}

/// Every second frame of a [`SpectrumPass`].
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
        let plan = FramePlan::new(&settings.frames, sample_rate_hz, span_samples)?;
        let halves = [0, 1].map(|first| HalfPass { averager: Averager::new(&plan, first) });
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

    /// Ends the first pass: finds the peaks and prepares to fit them.
    #[must_use]
    pub fn finish(self) -> TonePass {
        let [even, odd] = self.halves;
        let (power, frames) = even.averager.finish(&odd.averager);
        let independent_frames = self.plan.window.independent_frames(frames, self.plan.hop);
        let pad = self.plan.transform_size as f64 / self.plan.segment() as f64;
        let bandwidth = self.plan.window.figures().noise_bandwidth_bins * pad;
        let floor = floor::noise_floor(&power, bandwidth, independent_frames);
        let mut peaks = PeakSearch {
            plan: &self.plan,
            sample_rate_hz: self.sample_rate_hz,
            power: &power,
            floor: &floor,
            frames,
            independent_frames,
            false_alarm: self.settings.false_alarm,
        }
        .run();
        let weaker = peaks.split_off(peaks.len().min(MOST_TONES));
        let frequencies: Vec<f64> = peaks.iter().map(|peak| peak.frequency_hz).collect();
        let fit =
            ToneFit::new(&frequencies, self.sample_rate_hz, self.span_samples, self.plan.segment());
        TonePass {
            settings: self.settings,
            sample_rate_hz: self.sample_rate_hz,
            span_samples: self.span_samples,
            plan: self.plan,
            power,
            floor,
            frames,
            peaks,
            weaker,
            fit,
        }
    }
}

/// The second pass: the tones, over the same samples again.
pub struct TonePass {
    settings: SpectrumSettings,
    sample_rate_hz: f64,
    span_samples: u64,
    plan: FramePlan,
    power: Vec<f64>,
    floor: Vec<f64>,
    frames: u64,
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
        if let Some(fit) = &mut self.fit {
            fit.push(samples);
        }
    }

    /// Ends the second pass.
    #[must_use]
    pub fn finish(mut self) -> Spectrum {
        let (low_hz, high_hz) = self.settings.range_hz.unwrap_or((0.0, self.sample_rate_hz / 2.0));
        let fitted = self.fit.is_some();
        let verdicts = self.fit.take().map(ToneFit::finish).unwrap_or_default();
        let verdicts = verdicts.into_iter().chain(std::iter::repeat(Verdict::Changing(Vec::new())));
        let mut peaks: Vec<Peak> = self
            .peaks
            .iter()
            .chain(&self.weaker)
            .zip(verdicts)
            .filter_map(|(windowed, verdict)| self.peak(windowed, &verdict))
            .filter(|peak| (low_hz..=high_hz).contains(&peak.frequency_hz))
            .collect();
        peaks.sort_by(|a, b| b.level_db.total_cmp(&a.level_db));
        let weaker_peaks = peaks.len().saturating_sub(self.settings.peaks);
        peaks.truncate(self.settings.peaks);
        peaks.sort_by(|a, b| a.frequency_hz.total_cmp(&b.frequency_hz));
        let spacing_hz = self.plan.bin_spacing_hz(self.sample_rate_hz);
        Spectrum {
            window: self.plan.window.kind(),
            window_s: self.plan.segment() as f64 / self.sample_rate_hz,
            transform_size: self.plan.transform_size,
            averaged_frames: self.frames,
            bin_spacing_hz: spacing_hz,
            resolution_hz: self.plan.resolution_hz(self.sample_rate_hz),
            scaling: "amplitude, dB re full scale (full-scale sine = 0 dB)".into(),
            reference: LevelReference::FullScale,
            noise_floor_db: self.noise_floor_db(low_hz, high_hz),
            findings: self.findings(&peaks, fitted),
            weaker_peaks,
            peaks,
            power: self.power,
            floor: self.floor,
            range_hz: (low_hz, high_hz),
        }
    }

    fn peak(&self, windowed: &WindowedPeak, verdict: &Verdict) -> Option<Peak> {
        let width_hz = self.plan.resolution_hz(self.sample_rate_hz);
        // A fit that strayed to another tone does not count. Neither does one that hardly stands out
        // of its own uncertainty: a steady tone that shows in the frames is sure over the span, but
        // one that dies away can be lost in what the others leave there.
        let (in_frames, _) = windowed.measured(&[]);
        let same = |tone: &SteadyTone| {
            (tone.frequency_hz.value - windowed.frequency_hz).abs() < 0.5 * width_hz
                && (0.7..1.4).contains(&(tone.amplitude.value / windowed.amplitude))
                && tone.amplitude.u < 0.2 * tone.amplitude.value
                && tone.frequency_hz.u < 3.0 * in_frames.u
        };
        let (frequency, amplitude, phase, method) = match verdict {
            Verdict::Steady(tone) if same(tone) => {
                (tone.frequency_hz, tone.amplitude, Some(tone.phase_rad), Method::Span)
            }
            Verdict::Steady(_) => with_frames(windowed.measured(&[])),
            Verdict::Changing(profile) => with_frames(windowed.measured(profile)),
        };
        let (note, cents) = Note::nearest(frequency.value, self.settings.reference_hz)?;
        let cents_u = cents_between(1.0, 1.0 + frequency.u / frequency.value);
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
            method,
        })
    }

    fn noise_floor_db(&self, low_hz: f64, high_hz: f64) -> Option<f64> {
        let spacing_hz = self.plan.bin_spacing_hz(self.sample_rate_hz);
        let mut floor: Vec<f64> = self
            .floor
            .iter()
            .enumerate()
            .filter(|(k, _)| (low_hz..=high_hz).contains(&(*k as f64 * spacing_hz)))
            .map(|(_, floor)| *floor)
            .collect();
        floor.sort_by(f64::total_cmp);
        let median_db = db_from_power(*floor.get(floor.len() / 2)?);
        (median_db > -300.0).then_some(median_db)
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
                     resolution is {:.2} Hz instead. Take a span of {:.4} s or more, or ask for less.",
                    self.span_samples as f64 / self.sample_rate_hz,
                    wanted as f64 / self.sample_rate_hz,
                    self.plan.resolution_hz(self.sample_rate_hz),
                    wanted as f64 / self.sample_rate_hz,
                ),
            ));
        }
        let unsteady = peaks.iter().filter(|peak| peak.method == Method::Frames).count();
        if unsteady > 0 && fitted {
            findings.push(Finding::note(
                "not_steady",
                format!(
                    "{unsteady} of {} peaks change within the span (they decay, glide or beat): their \
                     numbers come from the averaged frames, their levels are averages over the span, \
                     and they have no phase.",
                    peaks.len()
                ),
            ));
        }
        if peaks.is_empty() {
            findings.push(Finding::note(
                "no_peaks",
                "No tone stands out of the noise in this range and span.",
            ));
        }
        findings
    }
}
