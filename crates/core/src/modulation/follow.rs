//! A modulation followed from stretch to stretch, and over all of a sound that is steady.

use super::search::{Line, Noise, Search};
use super::wave::{MOST, Near, Series, Wave};

/// A wave is fitted to all of a sound that is no longer, in seconds: the values of more are not
/// kept.
const LONGEST_WHOLE_S: f64 = 120.0;

/// A stretch in which something is modulated.
#[derive(Debug, Clone)]
pub(super) struct Stretch {
    /// Its middle, in seconds from the first value.
    pub(super) time_s: f64,
    pub(super) wave: Wave,
    over_noise: f64,
}

/// Stretches of a stream of values, with what is modulated in each.
pub(super) struct Follower {
    search: Search,
    noise: Noise,
    rates_hz: (f64, f64),
    rate_hz: f64,
    length: usize,
    hop: usize,
    values: Vec<f64>,
    weights: Vec<f64>,
    /// Values that are gone.
    gone: usize,
    keeps_all: bool,
    /// Of each stretch, whether anything is modulated or not: its middle.
    pub(super) times_s: Vec<f64>,
    pub(super) found: Vec<Option<Stretch>>,
    /// Power spectra of all stretches added up, and how many.
    pub(super) spectrum: Vec<f64>,
    pub(super) spectra: usize,
    /// The same of each stretch, as far as rates go.
    pub(super) rows: Vec<Vec<f32>>,
    /// Where the next stretch starts, from the first value that is held.
    next: usize,
}

impl Follower {
    /// For stretches of `length` values, one every `hop`, of a stream of so many.
    pub(super) fn new(
        length: usize,
        hop: usize,
        count: usize,
        rate_hz: f64,
        rates_hz: (f64, f64),
        noise: Noise,
    ) -> Self {
        Self {
            search: Search::new(length, rate_hz, noise),
            noise,
            rates_hz,
            rate_hz,
            length,
            hop,
            values: Vec::new(),
            weights: Vec::new(),
            gone: 0,
            keeps_all: count as f64 <= LONGEST_WHOLE_S * rate_hz,
            times_s: Vec::new(),
            found: Vec::new(),
            spectrum: Vec::new(),
            spectra: 0,
            rows: Vec::new(),
            next: 0,
        }
    }

    /// Takes the next values, with what each is worth if they are not all alike.
    pub(super) fn push(&mut self, values: &[f64], weights: Option<&[f64]>) {
        self.values.extend_from_slice(values);
        self.weights.extend_from_slice(weights.unwrap_or_default());
        while self.next + self.length <= self.values.len() {
            self.stretch();
            self.next += self.hop;
        }
        if !self.keeps_all {
            let done = self.next.min(self.values.len());
            self.values.drain(..done);
            self.weights.drain(..done.min(self.weights.len()));
            self.gone += done;
            self.next -= done;
        }
    }

    fn stretch(&mut self) {
        let (from, to) = (self.next, self.next + self.length);
        let middle = (self.gone + from) as f64 + 0.5 * (self.length - 1) as f64;
        let time_s = middle / self.rate_hz;
        self.times_s.push(time_s);
        let is_weighted = !self.weights.is_empty();
        let held = if is_weighted { self.weighted(from, to) } else { Vec::new() };
        let values = if is_weighted { &held } else { &self.values[from..to] };
        let bin_hz = self.rate_hz / self.search.size() as f64;
        let power = self.search.spectrum(values);
        let bins = ((self.rates_hz.1 / bin_hz) as usize + 1).min(power.len());
        // Bins of half the inverse of the length are twice as many as there are.
        let row: Vec<f32> = power[..bins].iter().step_by(2).map(|power| *power as f32).collect();
        if row.iter().all(|power| power.is_finite()) {
            self.spectrum.resize(row.len(), 0.0);
            self.spectrum.iter_mut().zip(&row).for_each(|(sum, power)| *sum += f64::from(*power));
            self.spectra += 1;
        }
        self.rows.push(row);
        let line = self.search.strongest(values, self.rates_hz, true);
        let all = self.all();
        let found = line.and_then(|line| {
            let wave = fitted(all.part(from, to), near(line), self.rates_hz.1)?;
            is_sure(&wave, self.length as f64 / self.rate_hz).then_some(Stretch {
                time_s,
                wave,
                over_noise: line.over_noise,
            })
        });
        self.found.push(found);
    }

    /// Values of a stretch about their mean, each as strong as it is worth.
    fn weighted(&self, from: usize, to: usize) -> Vec<f64> {
        let (values, weights) = (&self.values[from..to], &self.weights[from..to]);
        let sum: f64 = weights.iter().sum();
        let mean = values.iter().zip(weights).map(|(x, w)| x * w).sum::<f64>() / sum;
        let scale = values.len() as f64 / sum;
        // The spectrum is that about a mean of 1.
        values.iter().zip(weights).map(|(x, w)| 1.0 + (x - mean) * w * scale).collect()
    }

    fn all(&self) -> Series<'_> {
        let weights = (!self.weights.is_empty()).then_some(&self.weights[..]);
        Series { values: &self.values, weights, rate_hz: self.rate_hz, mean_of: 1 }
    }

    /// The wave over all values where one fits them all: the steadiest stretch, grown step by step
    /// to both sides.
    pub(super) fn whole(&self) -> Option<Wave> {
        if !self.keeps_all {
            return None;
        }
        let found: Vec<&Stretch> = self.found.iter().flatten().collect();
        // What is modulated here and there has no one wave.
        if 4 * found.len() < 3 * self.found.len() {
            return None;
        }
        let surest = |a: &&&Stretch, b: &&&Stretch| a.over_noise.total_cmp(&b.over_noise);
        let best = found.iter().max_by(surest)?;
        let mean = |of: fn(&Wave) -> f64| {
            found.iter().map(|stretch| of(&stretch.wave)).sum::<f64>() / found.len() as f64
        };
        let size = mean(|wave| wave.amplitude() / wave.mean().abs());
        let all = self.all();
        let middle = (best.time_s * self.rate_hz) as usize;
        let mut reach = self.length;
        let mut wave = best.wave.clone();
        let mut at_s = best.time_s;
        let mut is_last = self.values.len() <= self.length;
        while !is_last {
            reach = reach * 3 / 2;
            let (from, to) =
                (middle.saturating_sub(reach), (middle + reach).min(self.values.len()));
            is_last = to - from == self.values.len();
            let here_s = 0.5 * (from + to - 1) as f64 / self.rate_hz;
            // A slope that is no more than noise leads astray.
            let slope = Some(wave.slope()).filter(|s| s.value.abs() > 3.0 * s.u);
            let slope = slope.map_or(0.0, |slope| slope.value);
            let rate_hz = wave.rate_hz().value + slope * (here_s - at_s);
            let near = Near { rate_hz, slope, growth: wave.growth() };
            wave = fitted(all.part(from, to), near, self.rates_hz.1)?;
            at_s = here_s;
        }
        // A wave that loses its step is smaller than its stretches.
        let is_in_step = wave.amplitude() / wave.mean().abs() > 0.85 * size;
        (is_in_step && is_sure(&wave, all.lasts_s())).then_some(wave)
    }

    /// A wave over all values, and those that go on besides it, each fitted to what the others leave:
    /// no multiples of one another's rates, nor sums and differences.
    pub(super) fn together(&self, first: Wave, most: usize) -> Vec<Wave> {
        /// Lines that are looked at, and rounds in which all are fitted to what the others leave.
        const TRIED: usize = 8;
        const ROUNDS: usize = 3;
        let all = self.all();
        let mean = first.mean();
        let mut search = Search::new(self.values.len(), self.rate_hz, self.noise);
        let apart_hz = 2.0 / all.lasts_s();
        // What is left of the values when each wave is removed but for the mean.
        let mut left: Vec<f64> = first.left(all).iter().map(|left| left + mean).collect();
        // Waves that are made of others are removed from the values, but not given.
        let mut waves = vec![(first, true)];
        for _ in 0..TRIED {
            let Some(line) = search.strongest(&left, self.rates_hz, false) else { break };
            let is_known =
                |(wave, _): &(Wave, bool)| (wave.rate_hz().value - line.rate_hz).abs() < apart_hz;
            if waves.iter().any(is_known) {
                break;
            }
            let values = Series { values: &left, ..all };
            let Some(wave) = fitted(values, near(line), self.rates_hz.1) else { break };
            left = wave.left(values).iter().map(|left| left + mean).collect();
            let given: Vec<&Wave> = waves.iter().filter(|(_, is)| *is).map(|(w, _)| w).collect();
            let is_own = is_sure(&wave, all.lasts_s())
                && given.len() < most
                && !is_made_of(&wave, &given, apart_hz);
            waves.push((wave, is_own));
        }
        let rounds = if waves.len() > 1 { ROUNDS } else { 0 };
        for n in (0..waves.len()).cycle().take(rounds * waves.len()) {
            let without = waves[n].0.left(Series { values: &left, ..all });
            let put_back = left.iter().zip(&without);
            let values: Vec<f64> = put_back.map(|(left, own)| 2.0 * left - own - mean).collect();
            let values = Series { values: &values, ..all };
            let wave = &waves[n].0;
            let near = Near {
                rate_hz: wave.rate_hz().value,
                slope: wave.slope().value,
                growth: wave.growth(),
            };
            let Some(wave) = fitted(values, near, self.rates_hz.1) else { continue };
            left = wave.left(values).iter().map(|left| left + mean).collect();
            waves[n].0 = wave;
        }
        waves.into_iter().filter(|(_, is_own)| *is_own).map(|(wave, _)| wave).collect()
    }
}

/// Whether the rate of a wave is a multiple of that of another, or a sum or difference of two.
fn is_made_of(wave: &Wave, others: &[&Wave], apart_hz: f64) -> bool {
    const MOST_TIMES: i32 = 2;
    let rate = wave.rate_hz().value;
    let rates: Vec<f64> = others.iter().map(|other| other.rate_hz().value).collect();
    let is_multiple = |other: &f64| {
        let times = (rate / other).round().clamp(1.0, f64::from(2 * MOST_TIMES));
        (rate - times * other).abs() < apart_hz
    };
    let is_sum = |a: f64, b: f64| {
        (1..=MOST_TIMES).any(|m| {
            (-MOST_TIMES..=MOST_TIMES)
                .any(|n| (rate - (f64::from(m) * a + f64::from(n) * b).abs()).abs() < apart_hz)
        })
    };
    let pairs =
        rates.iter().enumerate().flat_map(|(n, a)| rates[..n].iter().map(move |b| (*a, *b)));
    rates.iter().any(is_multiple) || pairs.into_iter().any(|(a, b)| is_sum(a, b))
}

fn near(line: Line) -> Near {
    Near { rate_hz: line.rate_hz, slope: line.slope, growth: line.growth }
}

/// A wave near a rate; of slow ones as many values as they need.
fn fitted(of: Series<'_>, near: Near, highest_hz: f64) -> Option<Wave> {
    /// Values for each period of the fastest harmonic.
    const ENOUGH: f64 = 5.0;
    let every = (of.rate_hz / (ENOUGH * MOST as f64 * near.rate_hz)) as usize;
    if every < 2 {
        return Wave::fit(of, near, highest_hz);
    }
    let mean = |values: &[f64]| -> Vec<f64> {
        let parts = values.chunks_exact(every);
        parts.map(|part| part.iter().sum::<f64>() / every as f64).collect()
    };
    let weights = of.weights.map(mean);
    let values = match (of.weights, &weights) {
        (Some(each), Some(means)) => {
            let products: Vec<f64> = of.values.iter().zip(each).map(|(x, w)| x * w).collect();
            mean(&products).iter().zip(means).map(|(sum, weight)| sum / weight).collect()
        }
        _ => mean(of.values),
    };
    let rate_hz = of.rate_hz / every as f64;
    let of = Series { values: &values, weights: weights.as_deref(), rate_hz, mean_of: every };
    Wave::fit(of, near, highest_hz)
}

/// Whether a wave is more than noise, its rate known, and that so fast that it comes back.
fn is_sure(wave: &Wave, lasts_s: f64) -> bool {
    /// Periods of a wave that is none of the ways in which a sound comes or goes.
    const FEWEST: f64 = 1.8;
    let (rate, size) = (wave.rate_hz(), wave.deviation());
    rate.u < 0.1 * rate.value && size.value > 4.0 * size.u && rate.value * lasts_s > FEWEST
}
