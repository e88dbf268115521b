//! A sound while it goes on: what commands measure in a take, measured in what was heard last.
//!
//! # What it computes
//!
//! A [`Listener`] is given samples as they come and keeps the newest of them. When it is asked it
//! measures the stretch that ends now, with the same code as a command measures a span: its numbers
//! are those that the command gives for that span of a recording of the same samples.
//!
//! | what | stretch that ends now | as in |
//! |---|---|---|
//! | peak, RMS | since it was last read | [`intake`](crate::intake) |
//! | weighted level | all: F, S or I forget it | [`bands`](crate::bands) |
//! | spectrum and its tones | [`LiveSettings::average_s`], at least one frame | [`spectrum`](crate::spectrum) |
//! | fundamental | [`PITCH_S`] | [`pitch`](crate::pitch) |
//! | partials | [`PARTIALS_S`] | [`partials`](crate::partials) |
//! | onsets | all | [`intake`](crate::intake) |
//!
//! Memory does not grow with the sound.

mod gauge;
mod history;
mod pooled;
mod standing;

pub use gauge::ChannelNow;
pub use history::{Heard, History};
pub use pooled::{levels_db, pooled};
pub use standing::{Standing, trace};

use std::collections::VecDeque;

use serde::Serialize;

use crate::bands::{TimeWeighting, Weighting};
use crate::error::Error;
use crate::finding::Finding;
use crate::frame::FramePlan;
use crate::onsets::{NOTHING_DB, Onset, OnsetFinder};
use crate::partials::{Partials, PartialsSettings, partials};
use crate::pitch::{PitchNote, PitchSettings, PitchTracker};
use crate::spectrum::{Peak, Spectrum, SpectrumPass, SpectrumSettings};
use crate::units::{LevelReference, Note, db_from_power, power_from_db};
use gauge::Gauge;

/// Stretch in which the fundamental is looked for, in seconds: 10 periods of the lowest.
pub const PITCH_S: f64 = 0.4;
/// Stretch in which partials are followed, in seconds.
pub const PARTIALS_S: f64 = 1.0;
/// A note that ended so long ago still sounds: frames lose it a little early.
const STILL_S: f64 = 0.1;
/// An onset stands out of the quietest of so many of the last seconds, by so much.
const QUIETEST_OF: usize = 10;
const OVER_QUIETEST_DB: f64 = 8.0;
/// And so much of it is new and stays, as in a recording.
const LEAST_GROWTH: f32 = 1.0;

/// How a sound is listened to.
#[derive(Debug, Clone, PartialEq)]
pub struct LiveSettings {
    /// The channel of which spectrum, pitch and partials are measured.
    pub heard: Heard,
    /// How the spectrum is measured.
    pub spectrum: SpectrumSettings,
    /// Stretch that the spectrum is averaged over, in seconds.
    pub average_s: f64,
    /// How the fundamental is looked for.
    pub pitch: PitchSettings,
    /// How the level is weighted in frequency.
    pub weighting: Weighting,
    /// How the level is weighted in time.
    pub time_weighting: TimeWeighting,
    /// What levels refer to.
    pub reference: LevelReference,
    /// So much is kept, in seconds.
    pub kept_s: f64,
}

impl Default for LiveSettings {
    fn default() -> Self {
        let mut spectrum = SpectrumSettings::default();
        spectrum.frames.resolution_hz = Some(10.0);
        Self {
            heard: Heard::Channel(0),
            spectrum,
            average_s: 0.5,
            pitch: PitchSettings::default(),
            weighting: Weighting::Z,
            time_weighting: TimeWeighting::Fast,
            reference: LevelReference::FullScale,
            kept_s: 30.0,
        }
    }
}

/// What the samples are.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LiveFormat {
    /// Sample rate.
    pub sample_rate_hz: f64,
    /// Number of channels.
    pub channels: usize,
    /// Bits of a sample; `None` of floating-point ones.
    pub bits: Option<u32>,
}

/// A stretch of the sound, in seconds from its beginning.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Stretch {
    /// Where it begins.
    pub from_s: f64,
    /// Where it ends.
    pub to_s: f64,
}

/// The fundamental that sounds now: the last note of the stretch.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct PitchNow {
    /// Where it was looked for.
    pub stretch: Stretch,
    /// The fundamental in Hz.
    pub f0_hz: f64,
    /// Its standard uncertainty in Hz.
    pub f0_hz_u: f64,
    /// Nearest note.
    #[serde(serialize_with = "crate::units::note_text")]
    pub note: Note,
    /// Distance from that note in cents.
    pub cents: f64,
    /// Its standard uncertainty.
    pub cents_u: f64,
    /// How surely it is this fundamental, from 0 to 1.
    pub confidence: f64,
}

impl PitchNow {
    fn of(note: &PitchNote, stretch: Stretch) -> Self {
        let PitchNote { f0_hz, f0_hz_u, note, cents, cents_u, confidence, .. } = *note;
        Self { stretch, f0_hz, f0_hz_u, note, cents, cents_u, confidence }
    }
}

/// The spectrum of the stretch that ends now.
#[derive(Debug, Clone, PartialEq)]
pub struct PowerNow {
    /// What it was measured of.
    pub stretch: Stretch,
    /// Square of the amplitude re full scale that a sine in each bin from 0 Hz would have.
    pub power: Vec<f64>,
    /// Distance of two bins in Hz.
    pub bin_spacing_hz: f64,
    /// Spacing at which two equal tones are resolved, in Hz.
    pub resolution_hz: f64,
}

/// All that is measured at a moment.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Moment {
    /// When, in seconds from the beginning of the sound.
    pub time_s: f64,
    /// Each channel since the moment before.
    pub channels: Vec<ChannelNow>,
    /// The fundamental; `None` where there is none.
    pub pitch: Option<PitchNow>,
    /// What the tones were measured in; `None` before there is enough.
    pub spectrum: Option<Stretch>,
    /// The tones, lowest first.
    pub peaks: Vec<Peak>,
    /// When something began since the moment before.
    pub onsets_s: Vec<f64>,
}

/// Listens to a sound that goes on.
pub struct Listener {
    format: LiveFormat,
    settings: LiveSettings,
    names: Vec<String>,
    history: History,
    gauges: Vec<Gauge>,
    onsets: OnsetFinder,
    /// Least mean squares of the last seconds, and of the one that goes on.
    quietest: VecDeque<f64>,
    second: (f64, u64),
    spectrum: Prepared,
}

impl Listener {
    /// A listener to a sound that is still to begin.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for settings that make no sense with this sample rate.
    pub fn new(
        format: LiveFormat,
        settings: LiveSettings,
        names: Vec<String>,
    ) -> Result<Self, Error> {
        let rate_hz = format.sample_rate_hz;
        let spectrum = Prepared::new(&settings.spectrum, settings.average_s, rate_hz)?;
        PitchTracker::new(settings.pitch, rate_hz, 0.0)?;
        let least_s = (spectrum.samples as f64 / rate_hz).max(PARTIALS_S);
        let capacity = (settings.kept_s.max(least_s) * rate_hz).ceil() as usize;
        let weighting = (settings.weighting, settings.time_weighting);
        Ok(Self {
            history: History::new(format.channels, capacity),
            gauges: vec![Gauge::new(weighting, rate_hz, format.bits); format.channels],
            onsets: OnsetFinder::new(rate_hz),
            quietest: VecDeque::new(),
            second: (0.0, 0),
            format,
            settings,
            names,
            spectrum,
        })
    }

    /// How it listens.
    #[must_use]
    pub fn settings(&self) -> &LiveSettings {
        &self.settings
    }

    /// Listens in another way from now on. What was heard stays; weighted levels begin anew.
    ///
    /// # Errors
    ///
    /// As [`Listener::new`]; it goes on as before then.
    pub fn set(&mut self, settings: LiveSettings) -> Result<(), Error> {
        let rate_hz = self.format.sample_rate_hz;
        let spectrum = Prepared::new(&settings.spectrum, settings.average_s, rate_hz)?;
        PitchTracker::new(settings.pitch, rate_hz, 0.0)?;
        let weighting = (settings.weighting, settings.time_weighting);
        if weighting != (self.settings.weighting, self.settings.time_weighting) {
            self.gauges.fill(Gauge::new(weighting, rate_hz, self.format.bits));
        }
        if settings.heard != self.settings.heard {
            self.onsets = OnsetFinder::new(rate_hz);
        }
        (self.spectrum, self.settings) = (spectrum, settings);
        Ok(())
    }

    /// What the samples are.
    #[must_use]
    pub fn format(&self) -> LiveFormat {
        self.format
    }

    /// The last seconds.
    #[must_use]
    pub fn history(&self) -> &History {
        &self.history
    }

    /// How long it has listened, in seconds.
    #[must_use]
    pub fn time_s(&self) -> f64 {
        self.history.end() as f64 / self.format.sample_rate_hz
    }

    /// Takes the next samples of all channels.
    pub fn push<C: AsRef<[f32]>>(&mut self, channels: &[C]) {
        self.history.push(channels);
        for (gauge, samples) in self.gauges.iter_mut().zip(channels) {
            gauge.push(samples.as_ref());
        }
        let count = channels.first().map_or(0, |samples| samples.as_ref().len());
        let heard = self.history.last(self.settings.heard, count);
        self.onsets.push(&heard);
        let (squares, so_far) = &mut self.second;
        *squares += heard.iter().map(|x| f64::from(*x) * f64::from(*x)).sum::<f64>();
        *so_far += count as u64;
        if *so_far as f64 >= self.format.sample_rate_hz {
            self.quietest.push_back(*squares / *so_far as f64);
            self.second = (0.0, 0);
            if self.quietest.len() > QUIETEST_OF {
                self.quietest.pop_front();
            }
        }
    }

    /// The channels since they were last read.
    pub fn channels(&mut self) -> Vec<ChannelNow> {
        let to_reference_db = self.settings.reference.full_scale_db();
        let read = |(gauge, name): (&mut Gauge, &String)| {
            let mut now = gauge.read(name.clone());
            for db in [&mut now.level_db, &mut now.max_db, &mut now.leq_db] {
                *db = db.map(|db| db + to_reference_db);
            }
            now
        };
        self.gauges.iter_mut().zip(&self.names).map(read).collect()
    }

    /// When something began since this was last asked. A tenth of a second passes before it is known.
    pub fn onsets_s(&mut self) -> Vec<f64> {
        let quietest = self.quietest.iter().copied().fold(f64::INFINITY, f64::min);
        let quietest = if quietest.is_finite() { 2.0 * quietest } else { 0.0 };
        let least = (quietest * power_from_db(OVER_QUIETEST_DB)).max(power_from_db(NOTHING_DB));
        let begins = |onset: &Onset| {
            onset.is_certain() && onset.growth > LEAST_GROWTH && onset.power > least
        };
        self.onsets.drain().filter(begins).map(|onset| onset.time_s).collect()
    }

    /// The last samples of the channel that is listened to, so many seconds, and their stretch.
    #[must_use]
    pub fn last(&self, duration_s: f64) -> (Vec<f32>, Stretch) {
        let count = (duration_s * self.format.sample_rate_hz).round() as usize;
        let samples = self.history.last(self.settings.heard, count);
        let stretch = self.stretch_of(samples.len());
        (samples, stretch)
    }

    fn stretch_of(&self, count: usize) -> Stretch {
        let rate_hz = self.format.sample_rate_hz;
        let end = self.history.end();
        Stretch { from_s: (end - count as u64) as f64 / rate_hz, to_s: end as f64 / rate_hz }
    }

    fn samples_for(&self, prepared: &Prepared) -> Option<(Vec<f32>, Stretch)> {
        let samples = self.history.last(self.settings.heard, prepared.samples);
        let stretch = self.stretch_of(samples.len());
        (samples.len() == prepared.samples).then_some((samples, stretch))
    }

    /// The power in each bin of the spectrum; `None` before there is enough.
    #[must_use]
    pub fn power(&self) -> Option<PowerNow> {
        self.power_of(&self.spectrum)
    }

    /// The same of another spectrum.
    #[must_use]
    pub fn power_of(&self, prepared: &Prepared) -> Option<PowerNow> {
        let (samples, stretch) = self.samples_for(prepared)?;
        let mut pass = prepared.pass.clone();
        let rate_hz = self.format.sample_rate_hz;
        let bin_spacing_hz = pass.plan().bin_spacing_hz(rate_hz);
        let resolution_hz = pass.plan().resolution_hz(rate_hz);
        pass.push(&samples);
        Some(PowerNow { stretch, power: pass.power(), bin_spacing_hz, resolution_hz })
    }

    /// The spectrum with its tones; `None` before there is enough.
    #[must_use]
    pub fn spectrum(&self) -> Option<(Spectrum, Stretch)> {
        let (samples, stretch) = self.samples_for(&self.spectrum)?;
        Some((self.spectrum.measure(&samples).calibrated(self.settings.reference), stretch))
    }

    /// The same as work that can be done elsewhere: joint fits of many tones take their time.
    #[must_use]
    pub fn spectrum_later(&self) -> Option<impl FnOnce() -> Spectrum + Send + 'static> {
        let (samples, _) = self.samples_for(&self.spectrum)?;
        let (prepared, reference) = (self.spectrum.clone(), self.settings.reference);
        Some(move || prepared.measure(&samples).calibrated(reference))
    }

    /// The fundamental that sounds now.
    #[must_use]
    pub fn pitch(&self) -> Option<PitchNow> {
        let (samples, stretch) = self.last(PITCH_S);
        let rate_hz = self.format.sample_rate_hz;
        let mut tracker = PitchTracker::new(self.settings.pitch, rate_hz, stretch.from_s).ok()?;
        tracker.push(&samples);
        let last = tracker.finish().notes.pop()?;
        (last.end_s > stretch.to_s - STILL_S).then(|| PitchNow::of(&last, stretch))
    }

    /// The partials of what sounds now.
    ///
    /// # Errors
    ///
    /// As [`partials`].
    pub fn partials(&self, settings: &PartialsSettings) -> Result<Partials, Error> {
        let (samples, stretch) = self.last(PARTIALS_S);
        let mut found = partials(&samples, self.format.sample_rate_hz, stretch.from_s, settings)?;
        found.calibrate(self.settings.reference.full_scale_db());
        Ok(found)
    }

    /// What must be known of the last seconds: that nothing comes, or that it is no sound.
    #[must_use]
    pub fn findings(&self) -> Vec<Finding> {
        const LOOKED_AT_S: f64 = 2.0;
        /// Samples that are read in the wrong way are spread over all codes, of which the RMS is
        /// −1.8 dB, and know nothing of one another.
        const NOISE_LEAST_DB: f64 = -6.0;
        const UNLIKE: f64 = 0.3;
        let (samples, stretch) = self.last(LOOKED_AT_S);
        let Some(first) = samples.first().filter(|_| stretch.to_s - stretch.from_s >= 1.0) else {
            return Vec::new();
        };
        if samples.iter().all(|x| x == first) {
            let text = "All samples of the last seconds are the same: nothing comes from the \
                        microphone. Check its cable, its power and the channel.";
            return vec![Finding::serious("nothing_changes", text)];
        }
        let square = |x: &f32| f64::from(*x) * f64::from(*x);
        let squares: f64 = samples.iter().map(square).sum();
        let products = samples.windows(2).map(|two| f64::from(two[0]) * f64::from(two[1]));
        let alike = products.sum::<f64>() / squares;
        let rms_db = db_from_power(2.0 * squares / samples.len() as f64);
        if rms_db > NOISE_LEAST_DB && alike.abs() < UNLIKE {
            let text = format!(
                "The samples are noise at full scale (RMS {rms_db:.1} dBFS, and none knows of the \
                 next): they are probably not coded as was stated. Check coding, byte order and \
                 number of channels."
            );
            return vec![Finding::serious("looks_misread", text)];
        }
        Vec::new()
    }

    /// All at once.
    pub fn moment(&mut self) -> Moment {
        let spectrum = self.spectrum();
        Moment {
            time_s: self.time_s(),
            channels: self.channels(),
            pitch: self.pitch(),
            spectrum: spectrum.as_ref().map(|(_, stretch)| *stretch),
            peaks: spectrum.map_or_else(Vec::new, |(spectrum, _)| spectrum.peaks),
            onsets_s: self.onsets_s(),
        }
    }
}

/// RMS of a stretch of samples around a place, in dB re full scale; `None` in silence.
#[must_use]
pub fn level_around(samples: &[f32], place: f64, reach: f64) -> Option<f64> {
    let end = |place: f64| (place.round().max(0.0) as usize).min(samples.len());
    let near = &samples[end(place - reach)..end(place + reach)];
    let squares: f64 = near.iter().map(|x| f64::from(*x) * f64::from(*x)).sum();
    Some(db_from_power(2.0 * squares / near.len().max(1) as f64)).filter(|db| db.is_finite())
}

/// A spectrum of stretches of one length, planned once.
#[derive(Clone)]
pub struct Prepared {
    pass: SpectrumPass,
    samples: usize,
}

impl Prepared {
    /// Of stretches of so many seconds, of one frame at least.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] for settings that make no sense with this sample rate.
    pub fn new(
        settings: &SpectrumSettings,
        average_s: f64,
        sample_rate_hz: f64,
    ) -> Result<Self, Error> {
        /// An average over more is no view of what sounds now.
        const LONGEST_S: f64 = 60.0;
        if !(0.0..=LONGEST_S).contains(&average_s) {
            return Err(Error::Setting {
                setting: "the averaging time",
                given: format!("{average_s} s"),
                allowed: format!("up to {LONGEST_S} s"),
            });
        }
        let asked = (average_s * sample_rate_hz).round() as usize;
        let frame = FramePlan::new(&settings.frames, sample_rate_hz, u64::MAX)?.segment();
        let samples = asked.max(frame);
        Ok(Self { pass: SpectrumPass::new(settings, sample_rate_hz, samples as u64)?, samples })
    }

    /// The spectrum with its tones.
    fn measure(&self, samples: &[f32]) -> Spectrum {
        let mut pass = self.pass.clone();
        pass.push(samples);
        let mut tones = pass.finish();
        if tones.needs_samples() {
            tones.push(samples);
        }
        tones.finish()
    }
}
