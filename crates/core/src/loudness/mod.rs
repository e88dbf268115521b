//! Loudness: how loud a sound is to the ear, where in frequency, when, and how sharp.
//!
//! # What it computes
//!
//! **Loudness** after Zwicker (ISO 532-1:2017). The powers of 28 third-octave bands give the specific
//! loudness N′ over the critical-band rate z, with what masks what; the loudness is N = ∫ N′ dz in
//! sone, a tone of 1 kHz and 40 dB being 1 sone. Of a steady sound the powers are their means; of
//! one that varies they are smoothed, loudness falls more slowly than the sound, and is weighted over
//! time ([`Method`]). The filters are those of the standard at 48 kHz, to which other rates are
//! brought.
//!
//! **Sharpness** (DIN 45692:2009) says where along the ear the loudness lies, in acum.
//!
//! **Programme loudness** (ITU-R BS.1770, EBU R 128) is another quantity, in LUFS re full scale, for
//! which nothing need be calibrated.
//!
//! The uncertainty of a loudness is that of its scatter over the span; it says nothing of the
//! calibration, nor of how far a listener hears as the standard's ear does.

mod decay;
mod pattern;
mod programme;
mod resampling;
mod result;
mod statistics;
mod tables;
mod thirds;
mod weight;

pub use programme::{Programme, ProgrammeMeter, channel_weights};
pub use result::{Loudness, Moment, SpecificLoudness, critical_band_rate, frequency_hz};
pub use statistics::Stretch;
pub use weight::Weight;

use serde::Serialize;

use crate::bands::{Response, Stream};
use crate::error::Error;
use crate::finding::Finding;
use crate::measured::Measured;
use crate::units::{db_from_power, power_from_db};
use decay::{Decay, TimeWeighting};
use pattern::{Core, Ear, POINTS, sharpness_parts, spread};
use statistics::{Statistics, phon_of};
use tables::THIRDS;
use thirds::{TICK_S, Thirds, Tick, middle_hz};

/// Specific loudness each tenth of a Bark, from 0.1 Bark on.
type Specific = [f64; POINTS];

/// How loudness is measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Method {
    /// Over time: loudness, its statistics and its course.
    #[default]
    TimeVarying,
    /// Of the mean power: for steady sounds.
    Stationary,
    /// Programme loudness alone.
    Programme,
}

/// The sound field that the microphone stood in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum SoundField {
    /// Sound from ahead, as outdoors.
    #[default]
    Free,
    /// Sound from all sides, as in a reverberant room.
    Diffuse,
}

/// Settings of [`LoudnessMeter`].
#[derive(Debug, Clone, PartialEq, Default)]
pub struct LoudnessSettings {
    /// How loudness is measured.
    pub method: Method,
    /// The sound field.
    pub field: SoundField,
    /// Level of a full-scale sine in dB re 20 µPa, in the first channel.
    pub full_scale_db: f64,
    /// What the microphone reads too high.
    pub response: Response,
    /// Whether the loudness of every 2 ms is kept.
    pub keeps_course: bool,
}

/// Sound before a span from which the filters settle, in seconds.
pub const LEAD_S: f64 = 0.5;

/// Measures loudness, block by block.
#[derive(Debug, Clone)]
pub struct LoudnessMeter {
    settings: LoudnessSettings,
    rate_hz: f64,
    channels: Vec<Channel>,
    listener: Listener,
}

#[derive(Debug, Clone)]
struct Channel {
    /// By what its squares are multiplied to be powers re 20 µPa.
    weight: f64,
    thirds: Thirds,
    block: Vec<f64>,
    ticks: Vec<Tick>,
}

impl LoudnessMeter {
    /// A meter for a stream.
    ///
    /// # Errors
    ///
    /// [`Error::TooShort`] for less than 10 ms.
    pub fn new(settings: &LoudnessSettings, stream: &Stream) -> Result<Self, Error> {
        const SHORTEST_S: f64 = 0.01;
        let needed = (SHORTEST_S * stream.rate_hz).ceil() as u64;
        if stream.samples < needed {
            return Err(Error::TooShort { samples: stream.samples, needed });
        }
        // A full-scale sine has a mean square of a half.
        let gain = 2.0 * power_from_db(settings.full_scale_db);
        let channel = |weight: &f64| Channel {
            weight: gain * weight,
            thirds: Thirds::new(stream.rate_hz),
            block: Vec::new(),
            ticks: Vec::new(),
        };
        Ok(Self {
            settings: settings.clone(),
            rate_hz: stream.rate_hz,
            channels: stream.weights.iter().map(channel).collect(),
            listener: Listener::new(settings, stream),
        })
    }

    /// Takes the next samples of all channels.
    pub fn push(&mut self, channels: &[&[f32]]) {
        /// Samples that are filtered at once: what comes of them stays small.
        const BLOCK: usize = 4096;
        let count = channels.first().map_or(0, |samples| samples.len());
        for from in (0..count).step_by(BLOCK) {
            let to = count.min(from + BLOCK);
            for (channel, samples) in self.channels.iter_mut().zip(channels) {
                let Channel { thirds, block, ticks, .. } = channel;
                block.clear();
                block.extend(samples[from..to].iter().copied().map(f64::from));
                thirds.push(block, |tick| ticks.push(*tick));
            }
            self.listen();
        }
    }

    /// Adds up the channels, and hands them on.
    fn listen(&mut self) {
        let ready = self.channels.iter().map(|channel| channel.ticks.len()).min().unwrap_or(0);
        for n in 0..ready {
            let mut sum = Tick::default();
            for Channel { weight, ticks, .. } in &self.channels {
                for third in 0..THIRDS {
                    sum.mean[third] += weight * ticks[n].mean[third];
                    sum.smoothed[third] += weight * ticks[n].smoothed[third];
                }
            }
            self.listener.take(&sum);
        }
        for channel in &mut self.channels {
            channel.ticks.drain(..ready);
        }
    }

    /// Ends the stream.
    #[must_use]
    pub fn finish(mut self) -> Loudness {
        for Channel { thirds, ticks, .. } in &mut self.channels {
            thirds.finish(|tick| ticks.push(*tick));
        }
        self.listen();
        let mut found = self.listener.finish(&self.settings);
        found.findings.extend(missing(self.rate_hz));
        found
    }
}

/// What follows the powers of the thirds.
#[derive(Debug, Clone)]
struct Listener {
    ear: Ear,
    is_over_time: bool,
    /// What the microphone does not add.
    correction: [f64; THIRDS],
    statistics: Statistics,
    tick: u64,
    /// Specific loudness at the tick before, which is heard when the next is known.
    core: Option<Core>,
    decay: Decay,
    /// Loudness and specific loudness at the one before that.
    heard: Option<(f64, Specific)>,
    weighting: TimeWeighting,
}

impl Listener {
    fn new(settings: &LoudnessSettings, stream: &Stream) -> Self {
        /// So much of a short span may be left out until the filters have settled.
        const MOST_SHARE: f64 = 0.2;
        let ticks_of = |samples: u64| samples as f64 / stream.rate_hz / TICK_S;
        let (lead, all) = (ticks_of(stream.lead).round(), ticks_of(stream.samples).round());
        let left = (LEAD_S / TICK_S - lead).clamp(0.0, MOST_SHARE * all);
        let settled = (lead + left) as u64;
        Self {
            ear: Ear::new(settings.field),
            is_over_time: settings.method == Method::TimeVarying,
            correction: std::array::from_fn(|n| power_from_db(-settings.response.at(middle_hz(n)))),
            statistics: Statistics::new(
                stream.start_s,
                (lead as u64, settled),
                all as u64,
                settings.keeps_course,
            ),
            tick: 0,
            core: None,
            decay: Decay::new(),
            heard: None,
            weighting: TimeWeighting::new(),
        }
    }

    fn take(&mut self, powers: &Tick) {
        let corrected = |powers: &[f64; THIRDS]| -> [f64; THIRDS] {
            std::array::from_fn(|third| self.correction[third] * powers[third])
        };
        let mean = corrected(&powers.mean);
        let smoothed = corrected(&powers.smoothed);
        self.statistics.add_powers(self.tick, &mean);
        if self.is_over_time {
            let core = self.ear.core(&smoothed);
            if let Some(before) = self.core.replace(core) {
                self.advance(&before, &core);
            }
        }
        self.tick += 1;
    }

    /// Goes on from a tick to the next.
    fn advance(&mut self, before: &Core, core: &Core) {
        let decayed = self.decay.step(before, core);
        let at = self.tick - 1;
        let mut specific = [0.0; POINTS];
        let wanted = self.statistics.is_moment(at).then_some(&mut specific);
        let sone = spread(&decayed, wanted);
        if let Some((last, of_last)) = self.heard.replace((sone, specific)) {
            self.hear(at - 1, last, sone, &of_last);
        }
    }

    /// Weighs the loudness of a tick, the next one being known.
    fn hear(&mut self, tick: u64, sone: f64, next: f64, specific: &Specific) {
        let weighted = self.weighting.step(sone, next);
        if self.statistics.is_moment(tick) {
            self.statistics.add_moment(tick, weighted, specific);
        }
    }

    fn finish(mut self, settings: &LoudnessSettings) -> Loudness {
        // The last tick has silence behind it.
        if let Some(last) = self.core.take() {
            self.advance(&last, &[0.0; tables::CRITICAL]);
        }
        if let Some((last, specific)) = self.heard.take() {
            self.hear(self.tick.saturating_sub(1), last, last, &specific);
        }
        let Self { ear, mut statistics, .. } = self;
        let mut found = Loudness::new(settings.method, settings.field);
        let powers = statistics.powers();
        found.set_powers(&powers);
        let of = |powers: &[f64; THIRDS]| spread(&ear.core(powers), None);
        if settings.method == Method::TimeVarying {
            found.loudness_sone = statistics.exceeded(5.0);
            found.n5_sone = found.loudness_sone.map(|sone| sone.value);
            found.n10_sone = statistics.exceeded(10.0).map(|sone| sone.value);
            found.max_sone = Some(statistics.max_sone);
            found.max_at_s = Some(statistics.max_at_s);
            found.sharpness_acum = statistics.sharpness();
            (found.stretches, found.course, found.stretch_s) = statistics.finish();
            let n = found.stretches.len().max(1) as f64;
            let mean = |point: usize| -> f64 {
                found.stretches.iter().map(|at| f64::from(at.specific[point])).sum::<f64>() / n
            };
            let specific: Vec<f64> = (0..POINTS).map(mean).collect();
            found.set_specific(specific.into_iter());
        } else {
            found.loudness_sone = Some(statistics.of_powers(of));
            let sharpness = statistics.of_powers(|powers| sharpness(&ear, powers));
            found.sharpness_acum = Some(sharpness).filter(|acum| acum.value > 0.0);
            found.set_specific(specific_of(&ear, &powers).into_iter());
            let uneven = statistics.unsteadiness(of);
            found.findings.extend((uneven > UNSTEADY).then(|| unsteady(uneven)));
        }
        found.loudness_level_phon = found.loudness_sone.map(phon_of);
        found.findings.extend(beyond(&powers));
        found
    }
}

fn specific_of(ear: &Ear, powers: &[f64; THIRDS]) -> Specific {
    let mut specific = [0.0; POINTS];
    spread(&ear.core(powers), Some(&mut specific));
    specific
}

fn sharpness(ear: &Ear, powers: &[f64; THIRDS]) -> f64 {
    let (moment, area) = sharpness_parts(&specific_of(ear, powers));
    if area > 0.0 { moment / area } else { 0.0 }
}

impl Loudness {
    fn set_powers(&mut self, powers: &[f64; THIRDS]) {
        let sum: f64 = powers.iter().sum();
        self.level_db = (sum > 0.0).then(|| db_from_power(sum));
        self.powers = Some(*powers);
    }

    /// The loudness of a steady sound whose levels in third-octave bands are known, in dB re 20 µPa:
    /// at the middles of the bands, in Hz. Bands that are not given have no sound.
    ///
    /// The uncertainties of the bands are taken to be independent of each other.
    ///
    /// # Errors
    ///
    /// [`Error::Setting`] where no band from 25 Hz to 12.5 kHz is given, or one twice.
    pub fn of_levels(levels: &[(f64, Measured)], field: SoundField) -> Result<Self, Error> {
        let mut bands: [Option<Measured>; THIRDS] = [None; THIRDS];
        for (hz, level) in levels {
            let place = (10.0 * (hz / middle_hz(0)).log10()).round();
            if !(0.0..THIRDS as f64).contains(&place) {
                continue;
            }
            if bands[place as usize].replace(*level).is_some() {
                return Err(Error::Setting {
                    setting: "the number of levels of a band",
                    given: format!("2 at {hz} Hz"),
                    allowed: "1".into(),
                });
            }
        }
        if bands.iter().all(Option::is_none) {
            return Err(Error::Setting {
                setting: "the number of third-octave bands from 25 Hz to 12.5 kHz",
                given: "0".into(),
                allowed: "1 at least".into(),
            });
        }
        let ear = Ear::new(field);
        let power =
            |level: &Option<Measured>| level.map_or(0.0, |level| power_from_db(level.value));
        let powers = std::array::from_fn(|third| power(&bands[third]));
        let with_u = |of: &dyn Fn(&[f64; THIRDS]) -> f64| {
            let value = of(&powers);
            let by = |third: usize| -> f64 {
                let Some(level) = bands[third] else { return 0.0 };
                let mut moved = powers;
                moved[third] *= power_from_db(level.u);
                of(&moved) - value
            };
            let squares: f64 = (0..THIRDS).map(|third| by(third).powi(2)).sum();
            let is_known = bands.iter().flatten().all(|level| level.u.is_finite());
            Measured::new(value, if is_known { squares.sqrt() } else { f64::NAN })
        };
        let mut found = Self::new(Method::Stationary, field);
        found.set_powers(&powers);
        let sone = with_u(&|powers| spread(&ear.core(powers), None));
        found.loudness_sone = Some(sone);
        found.loudness_level_phon = Some(phon_of(sone));
        let acum = with_u(&|powers| sharpness(&ear, powers));
        found.sharpness_acum = Some(acum).filter(|acum| acum.value > 0.0);
        found.set_specific(specific_of(&ear, &powers).into_iter());
        found.findings.extend(beyond(&powers));
        Ok(found)
    }
}

/// Loudness that differs by more from part to part is not steady.
const UNSTEADY: f64 = 0.15;

fn unsteady(by: f64) -> Finding {
    Finding::warning(
        "loudness_not_steady",
        format!(
            "The loudness differs by {:.0} % from part to part of the span: the stationary method \
             is for steady sounds. Use the time-varying one.",
            100.0 * by
        ),
    )
}

fn beyond(powers: &[f64; THIRDS]) -> Option<Finding> {
    /// The standard's limit.
    const MOST_DB: f64 = 120.0;
    let most = powers.iter().copied().fold(0.0, f64::max);
    (most > power_from_db(MOST_DB)).then(|| {
        Finding::warning(
            "beyond_loudness_range",
            format!(
                "A third-octave band has {:.1} dB; ISO 532-1 holds up to {MOST_DB} dB. Check the \
                 calibration.",
                db_from_power(most)
            ),
        )
    })
}

fn missing(rate_hz: f64) -> Option<Finding> {
    let is_missing = |third: &usize| middle_hz(*third) * 10f64.powf(0.05) > 0.5 * rate_hz;
    let first = (0..THIRDS).find(is_missing)?;
    Some(Finding::note(
        "bands_omitted",
        format!(
            "What lies above {} Hz is not in the recording, whose sample rate is {rate_hz} Hz: the \
             loudness of sounds that reach higher is too low, and so is their sharpness.",
            (0.5 * rate_hz).min(middle_hz(first)).round()
        ),
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::{to_samples, white_noise};

    #[test]
    fn blocks_of_any_length_give_the_same() {
        let sound = to_samples(&white_noise(17, 0.05, 60_000));
        let (lead, rate_hz) = (10_000, 44_100.0);
        let stream =
            Stream { rate_hz, lead, samples: 60_000 - lead, start_s: 1.0, weights: vec![0.5, 0.5] };
        for method in [Method::TimeVarying, Method::Stationary] {
            let settings = LoudnessSettings {
                method,
                full_scale_db: 94.0,
                keeps_course: true,
                ..LoudnessSettings::default()
            };
            let of = |piece: usize| {
                let mut meter = LoudnessMeter::new(&settings, &stream).expect("settings");
                sound.chunks(piece).for_each(|part| meter.push(&[part, part]));
                serde_json::to_string(&meter.finish()).expect("JSON")
            };
            let whole = of(60_000);
            assert!(whole.contains("\"loudness_sone\""), "{whole}");
            for piece in [1, 777, 4096, 30_001] {
                assert!(of(piece) == whole, "{method:?} in pieces of {piece}");
            }
        }
    }
}
