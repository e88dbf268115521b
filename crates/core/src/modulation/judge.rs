//! What is modulated: rate and depth over all, AM, FM or two tones that beat.

use super::Sound;
use super::band::Band;
use super::follow::{Follower, Stretch};
use super::heard::Heard;
use super::lines::{Lines, Pair};
use super::result::{Beat, Kind, Modulation, Moment, Rate, RateDepth, RateMap};
use super::wave::Wave;
use crate::error::Error;
use crate::measured::Measured;
use crate::units::db_from_power;

/// Modulations at once that are listed.
const MOST: usize = 5;
/// A depth of which so much is uncertain is none.
const UNSTEADY: f64 = 0.2;

/// What is found of the envelope, and of the frequency, over all of a sound.
#[derive(Debug, Clone, Copy, Default)]
struct Overall {
    rate_hz: Option<Measured>,
    /// Depth of an envelope, deviation of a frequency.
    size: Option<Measured>,
    /// Lowest and highest rate, where it moves.
    moves_hz: Option<(f64, f64)>,
}

impl Heard {
    /// The modulation of a sound of which this was heard.
    ///
    /// Where it is of several tones, the frequency is that of the strongest, heard alone.
    pub(super) fn judged(
        self,
        sound: &Sound<'_>,
        band: &Band,
        alone: impl FnOnce() -> Result<Option<Self>, Error>,
    ) -> Result<Modulation, Error> {
        let waves = self.envelope.whole().map(|wave| self.envelope.together(wave, MOST));
        let found: Vec<&Stretch> = self.envelope.found.iter().flatten().collect();
        let first = waves.as_ref().and_then(|waves| waves.first());
        let mut envelope = overall(first, &found, self.envelope.found.len(), Wave::depth);
        let pair = match envelope.rate_hz {
            Some(rate) if band.is_tonal => self.pair(sound, band, rate.value, &found)?,
            _ => None,
        };
        // Tones that move have no one frequency.
        let still = pair.filter(|_| envelope.moves_hz.is_none());
        envelope.size = still.map(|pair| pair.ratio).or(envelope.size);
        let beats = still.zip(envelope.rate_hz).map(|(pair, rate)| Beat::of(pair, rate));
        // Two tones that beat move the mean of their frequencies too.
        let is_beat = pair.is_some();
        let mut frequency = self.frequency_of_one(envelope).filter(|_| !is_beat);
        let mut of = &self;
        let alone = if frequency.is_none() && !is_beat && band.is_tonal { alone()? } else { None };
        if let Some(alone) = &alone {
            let found: Vec<&Stretch> = alone.envelope.found.iter().flatten().collect();
            let own = overall(None, &found, alone.envelope.found.len(), Wave::depth);
            frequency = alone.frequency_of_one(own);
            of = alone;
        }
        let moving = of.frequency.as_ref().filter(|_| frequency.is_some());
        let carrier_hz = frequency.map(|_| of.mean_hz);
        let kind = kind(is_beat, envelope, frequency.unwrap_or_default());
        let rates = Self::rates(envelope, waves.as_deref().unwrap_or_default());
        let spacing_hz = 1.0 / self.length_s;
        let spectra = self.envelope.spectra.max(1) as f64;
        let spectrum: Vec<RateDepth> = (self.envelope.spectrum.iter().enumerate().skip(1))
            .map(|(n, sum)| RateDepth {
                rate_hz: n as f64 * spacing_hz,
                depth: (sum / spectra).sqrt(),
            })
            .collect();
        let of_frequency = frequency.unwrap_or_default();
        let start_s = sound.start_s + self.late_s;
        Ok(Modulation {
            band_hz: band.hz,
            level_db: db_from_power(self.power),
            resolution_hz: 2.0 / self.length_s,
            rates_hz: self.rates_hz,
            kind,
            rate_hz: envelope.rate_hz,
            depth: envelope.size,
            depth_db: envelope.size.and_then(in_db),
            depth_limit: limit(&spectrum),
            slowest_hz: envelope.moves_hz.map(|(slowest, _)| slowest),
            fastest_hz: envelope.moves_hz.map(|(_, fastest)| fastest),
            carrier_hz: carrier_hz.filter(|_| kind != Kind::None),
            frequency_deviation_hz: of_frequency.size,
            frequency_rate_hz: of_frequency.rate_hz,
            fluctuation_strength_vacil: None,
            roughness_asper: None,
            rates,
            beats: beats.into_iter().collect(),
            spectrum,
            course: self.course(moving, start_s),
            map: RateMap {
                start_s: start_s + 0.5 * self.length_s,
                hop_s: self.hop_s,
                spacing_hz,
                rows: self.envelope.rows,
            },
            outline: self.outline,
            sound: Vec::new(),
            spectrogram: None,
            full_scale_db: 0.0,
            findings: Vec::new(),
        })
    }

    /// The modulation of the frequency, if what sounds is one tone.
    fn frequency_of_one(&self, envelope: Overall) -> Option<Overall> {
        let follower = self.frequency.as_ref()?;
        let found: Vec<&Stretch> = follower.found.iter().flatten().collect();
        let whole = follower.whole();
        let of = overall(whole.as_ref(), &found, follower.found.len(), Wave::deviation);
        // Beyond its band it would not be heard: it is several tones that take turns.
        if of.size.is_some_and(|deviation| deviation.value > 0.5 * self.width_hz) {
            return None;
        }
        self.is_one_tone(envelope.rate_hz.zip(envelope.size), of.size).then_some(of)
    }

    /// All modulations of the envelope, the deepest first.
    fn rates(envelope: Overall, waves: &[Wave]) -> Vec<Rate> {
        let first = envelope.rate_hz.zip(envelope.size);
        let mut rates: Vec<Rate> =
            first.map(|(rate, depth)| Rate::of(rate, depth)).into_iter().collect();
        let others = waves.iter().skip(1);
        let others = others.map(|wave| Rate::of(wave.rate_hz(), wave.depth()));
        rates.extend(others.filter(|rate| rate.depth_u < UNSTEADY * rate.depth));
        rates.sort_by(|a, b| b.depth.total_cmp(&a.depth));
        rates
    }

    /// Whether what is modulated is one tone: its modulation accounts for the width of its spectrum.
    fn is_one_tone(
        &self,
        envelope: Option<(Measured, Measured)>,
        deviation: Option<Measured>,
    ) -> bool {
        /// The share that it accounts for at least, and what noise adds to the width, as a share of
        /// that of the band: 30 dB below.
        const SHARE: f64 = 0.4;
        const NOISE: f64 = 1e-3;
        let of_envelope = envelope.map_or(0.0, |(rate, depth)| (rate.value * depth.value).powi(2));
        let of_frequency = deviation.map_or(0.0, |hz| hz.value.powi(2));
        let noise = NOISE * self.width_hz.powi(2) / 12.0;
        // Half of a square is the mean of that of a sine.
        0.5 * (of_envelope + of_frequency) + noise > SHARE * self.spread_hz.powi(2)
    }

    fn course(&self, moving: Option<&Follower>, start_s: f64) -> Vec<Moment> {
        // Of a band of its own, stretches lie at other times.
        let frequency = |at_s: f64| {
            let follower = moving?;
            let from_s = at_s - 0.5 * self.hop_s;
            let near = follower.times_s.partition_point(|time_s| *time_s < from_s);
            follower.found.get(near)?.as_ref()
        };
        let each = self.envelope.times_s.iter().zip(&self.envelope.found);
        each.map(|(at_s, found)| {
            let wave = found.as_ref().map(|stretch| &stretch.wave);
            let (rate, depth) = (wave.map(Wave::rate_hz), wave.map(Wave::depth));
            let moving = frequency(*at_s).map(|stretch| &stretch.wave);
            Moment {
                time_s: start_s + at_s,
                rate_hz: rate.map(|rate| rate.value),
                rate_hz_u: rate.map(|rate| rate.u),
                depth: depth.map(|depth| depth.value),
                depth_u: depth.map(|depth| depth.u),
                frequency_deviation_hz: moving.map(|wave| wave.deviation().value),
                frequency_rate_hz: moving.map(|wave| wave.rate_hz().value),
                ..Moment::default()
            }
        })
        .collect()
    }

    /// The two tones, if what beats is two.
    fn pair(
        &self,
        sound: &Sound<'_>,
        band: &Band,
        rate_hz: f64,
        found: &[&Stretch],
    ) -> Result<Option<Pair>, Error> {
        /// Periods that part the lines well, and longest stretch in seconds.
        const PERIODS: f64 = 24.0;
        const LONGEST_S: f64 = 8.0;
        /// What grows or dies away by more has no lines.
        const MOST_GROWTH: f64 = 3.0;
        /// A carrier and its lines hold so much of the power, else there is none.
        const SHARE: f64 = 0.5;
        let Some(deepest) =
            found.iter().max_by(|a, b| a.wave.amplitude().total_cmp(&b.wave.amplitude()))
        else {
            return Ok(None);
        };
        let growth = deepest.wave.growth();
        let longest_s = LONGEST_S.min(0.9 * sound.lasts_s()).min(MOST_GROWTH / growth.abs());
        let half_s = 0.5 * (PERIODS / rate_hz).clamp(0.25f64.min(longest_s), longest_s);
        let middle_s = (self.late_s + deepest.time_s).clamp(half_s, sound.lasts_s() - half_s);
        let sample = |s: f64| (s * sound.sample_rate_hz).max(0.0) as usize;
        let stretch = (sample(middle_s - half_s), sample(middle_s + half_s));
        // Over a rate that moves by a wave, the rate there.
        let near = (found.iter())
            .min_by(|a, b| {
                let away = |s: &Stretch| (self.late_s + s.time_s - middle_s).abs();
                away(a).total_cmp(&away(b))
            })
            .map_or(rate_hz, |s| s.wave.rate_hz().value);
        let lines =
            Lines::of(sound.samples, sound.sample_rate_hz, stretch, band.hz, (near, growth))?;
        Ok(lines.filter(|lines| lines.share > SHARE).and_then(|lines| lines.pair(near)))
    }
}

fn kind(is_beat: bool, envelope: Overall, frequency: Overall) -> Kind {
    let index = frequency.size.zip(frequency.rate_hz).map(|(hz, rate)| hz.value / rate.value);
    match (envelope.size, index) {
        _ if is_beat => Kind::Beat,
        (Some(depth), Some(index)) if index > depth.value => Kind::Fm,
        (Some(_), _) => Kind::Am,
        (None, Some(_)) => Kind::Fm,
        (None, None) => Kind::None,
    }
}

/// A depth as decibels between the most and the least, unless that may be nothing.
fn in_db(depth: Measured) -> Option<f64> {
    const LEAST_U: f64 = 1e-3;
    let least = 1.0 - depth.value;
    (least > 2.0 * depth.u.max(LEAST_U)).then(|| 2.0 * db_from_power((1.0 + depth.value) / least))
}

impl Beat {
    fn of(pair: Pair, rate: Measured) -> Self {
        Self {
            tones_hz: pair.tones_hz,
            rate_hz: rate.value,
            rate_hz_u: rate.u,
            depth: pair.ratio.value,
            depth_u: pair.ratio.u,
        }
    }
}

impl Rate {
    fn of(rate: Measured, depth: Measured) -> Self {
        Self { rate_hz: rate.value, rate_hz_u: rate.u, depth: depth.value, depth_u: depth.u }
    }
}

/// A depth that the spectrum of the envelope would show: three times the noise in a bin.
fn limit(spectrum: &[RateDepth]) -> Option<f64> {
    let mut depths: Vec<f64> = spectrum.iter().map(|line| line.depth).collect();
    depths.sort_by(f64::total_cmp);
    depths.get(depths.len() / 2).map(|median| 3.0 * median)
}

/// Rate and size of a wave over all of a sound, and how far the rate moves.
fn overall(
    whole: Option<&Wave>,
    found: &[&Stretch],
    of: usize,
    size: fn(&Wave) -> Measured,
) -> Overall {
    let rates = || found.iter().map(|stretch| stretch.wave.rate_hz());
    let ends = rates().fold((f64::INFINITY, 0.0f64), |(low, high), rate| {
        (low.min(rate.value), high.max(rate.value))
    });
    let moves = |u: f64| {
        (found.len() > 1 && ends.1 - ends.0 > (6.0 * u).max(0.05 * ends.1)).then_some(ends)
    };
    if let Some(wave) = whole {
        let slope = wave.slope();
        let is_moving = slope.value.abs() > 5.0 * slope.u;
        let u = wave.rate_hz().u;
        return Overall {
            rate_hz: Some(wave.rate_hz()),
            size: Some(size(wave)),
            moves_hz: moves(u).filter(|_| is_moving),
        };
    }
    // Now and then is not all the time, and what jumps about is chance.
    if 2 * found.len() < of || found.is_empty() || !is_continuous(found) {
        return Overall::default();
    }
    let mean = |of: &dyn Fn(&Wave) -> Measured| {
        let count = found.len() as f64;
        let value = found.iter().map(|s| of(&s.wave).value).sum::<f64>() / count;
        let variance = found.iter().map(|s| (of(&s.wave).value - value).powi(2)).sum::<f64>();
        let noise = found.iter().map(|s| of(&s.wave).u.powi(2)).sum::<f64>() / count;
        // Stretches overlap by three quarters.
        let independent = (count / 4.0).max(1.0);
        let scatter = variance / (count - 1.0).max(1.0);
        Measured::new(value, (scatter.max(noise) / independent).sqrt())
    };
    let (rate, of_size) = (mean(&Wave::rate_hz), mean(&size));
    // What is now deep and now shallow has no one depth.
    if of_size.u > UNSTEADY * of_size.value {
        return Overall::default();
    }
    Overall { rate_hz: Some(rate), size: Some(of_size), moves_hz: moves(rate.u) }
}

/// Whether the rate goes on from stretch to stretch: most of its steps are small.
fn is_continuous(found: &[&Stretch]) -> bool {
    /// Ratio of a rate to the one before.
    const SMALL: f64 = 1.15;
    let steps = found.windows(2).map(|pair| {
        let [a, b] = [0, 1].map(|n| pair[n].wave.rate_hz().value);
        (a / b).max(b / a)
    });
    let small = steps.filter(|ratio| *ratio < SMALL).count();
    4 * small >= 3 * (found.len() - 1)
}
