//! The course of the level: how a sound rises, where it sounds, how it dies away and wavers.
//!
//! The level is the RMS over one period of the fundamental, which for a steady note does not waver.
//! What that does to a rise is known: a ramp is fitted *through* the same averaging, and the one
//! reported crosses 10, 20, … 90 % of the top when the sound does. A short rise lasts but a few
//! periods, and a period brings its power in bursts. There the sound that comes after the rise,
//! some whole periods later, shows what the waveform is: the ramp is sought that makes of it, by
//! least squares, what was heard.

use std::f64::consts::PI;
use std::ops::Range;

use serde::Serialize;

use crate::between::Interpolator;
use crate::fit::{Line, median};
use crate::measured::Measured;
use crate::samples::padded;
use crate::wavering::wavering;

/// The RMS of a sound over time.
pub(super) struct Level {
    /// Mean squares, each over `box_s` around its time.
    squares: Vec<f64>,
    /// Time of the first and between them, in seconds from the first sample of the sound.
    first_s: f64,
    step_s: f64,
    /// Length of the averaging.
    pub(super) box_s: f64,
}

/// A shape of a rise.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum RiseShape {
    /// The amplitude rises evenly.
    Linear,
    /// The amplitude rises as (1 − cos πx)/2.
    RaisedCosine,
}

/// How a sound begins.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Rise {
    /// When it begins to rise, in seconds from the first sample.
    pub start_s: f64,
    /// How long it takes from nothing to the top.
    pub duration_s: Measured,
    /// Which shape fits better.
    pub shape: RiseShape,
    /// Mean slope between 10 and 90 % of the top, in dB per second.
    pub slope_db_per_s: f64,
    /// Whether it is faster than the sound lets see, so that only a bound is known.
    pub is_hidden: bool,
}

/// A rise as keys of their own, all null where there is none.
pub(super) fn flat<S: serde::Serializer>(
    rise: &Option<Rise>,
    serializer: S,
) -> Result<S::Ok, S::Error> {
    #[derive(serde::Serialize)]
    struct Flat {
        attack_start_s: Option<f64>,
        attack_s: Option<f64>,
        attack_s_u: Option<f64>,
        log_attack_time: Option<f64>,
        attack_shape: Option<RiseShape>,
        attack_slope_db_per_s: Option<f64>,
    }
    let duration = rise.map(|rise| rise.duration_s);
    serde::Serialize::serialize(
        &Flat {
            attack_start_s: rise.map(|rise| rise.start_s),
            attack_s: duration.map(|s| s.value),
            attack_s_u: duration.map(|s| s.u),
            log_attack_time: rise.as_ref().map(Rise::log_duration),
            attack_shape: rise.map(|rise| rise.shape),
            attack_slope_db_per_s: rise.map(|rise| rise.slope_db_per_s),
        },
        serializer,
    )
}

impl Rise {
    /// Logarithm to base ten of how long it takes, in seconds: the log attack time.
    #[must_use]
    pub fn log_duration(&self) -> f64 {
        self.duration_s.value.log10()
    }

    fn new(shape: RiseShape, start_s: f64, duration_s: Measured) -> Self {
        let between = (shape.share_at(0.9) - shape.share_at(0.1)) * duration_s.value;
        let slope_db_per_s = 20.0 * 9f64.log10() / between;
        Self { start_s, duration_s, shape, slope_db_per_s, is_hidden: false }
    }
}

/// A sound that repeats itself.
pub(super) struct Waveform<'a> {
    pub(super) sound: &'a [f32],
    pub(super) rate_hz: f64,
    pub(super) period_s: f64,
}

/// The level of a whole sound, in figures.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) struct LevelFigures {
    pub(super) temporal_centroid_s: Option<f64>,
    pub(super) effective_duration_s: Option<f64>,
    pub(super) decay_t60_s: Option<Measured>,
    pub(super) tremolo_rate_hz: Option<f64>,
    pub(super) tremolo_depth_db: Option<f64>,
}

impl Level {
    /// The RMS of a stretch of samples over `box_s` around each time, sixteen in each box.
    pub(super) fn new(sound: &[f32], stretch: Range<usize>, rate_hz: f64, box_s: f64) -> Self {
        const STEPS: f64 = 16.0;
        let length = box_s * rate_hz;
        let step = (length / STEPS).floor().max(1.0) as usize;
        let first_s = (stretch.start as f64 + 0.5) / rate_hz;
        let sound = &sound[stretch];
        // Squares added up, so that a stretch that ends between samples is known too.
        let mut sums = Vec::with_capacity(sound.len() + 1);
        sums.push(0.0);
        let mut sum = 0.0;
        for x in sound {
            sum += f64::from(*x).powi(2);
            sums.push(sum);
        }
        let until = |place: f64| {
            let place = place.clamp(0.0, sound.len() as f64);
            let whole = place as usize;
            let next = sums[(whole + 1).min(sound.len())];
            sums[whole] + place.fract() * (next - sums[whole])
        };
        let squares = (0..sound.len())
            .step_by(step)
            .map(|n| {
                let middle = n as f64 + 0.5;
                (until(middle + length / 2.0) - until(middle - length / 2.0)) / length
            })
            .collect();
        Self { squares, first_s, step_s: step as f64 / rate_hz, box_s }
    }

    fn time_s(&self, place: f64) -> f64 {
        self.first_s + place * self.step_s
    }

    fn rms(&self, n: usize) -> f64 {
        self.squares[n].max(0.0).sqrt()
    }

    /// Level in dB at a time, RMS re that of a full-scale sine.
    pub(super) fn db_at(&self, time_s: f64) -> f64 {
        let place = ((time_s - self.first_s) / self.step_s).round().max(0.0) as usize;
        let square = self.squares.get(place.min(self.squares.len().saturating_sub(1)));
        10.0 * (2.0 * square.copied().unwrap_or(0.0)).max(1e-30).log10()
    }

    /// From when to when something sounds: from the first time to the last at which the level
    /// stands 60 dB below the greatest or higher, and clearly above what is there all the time.
    pub(super) fn sounding_s(&self) -> (f64, f64) {
        const DEEPEST: f64 = 1e-6;
        const ABOVE_FLOOR: f64 = 10.0;
        let greatest = self.squares.iter().copied().fold(0.0, f64::max);
        let mut sorted = self.squares.clone();
        let place = sorted.len() / 20;
        let floor = match sorted.len() {
            0 => 0.0,
            _ => *sorted.select_nth_unstable_by(place, f64::total_cmp).1,
        };
        let floor = if floor < 1e-2 * greatest { floor } else { 0.0 };
        let least = (DEEPEST * greatest).max(ABOVE_FLOOR * floor);
        let is_heard = |square: &f64| *square >= least && *square > 0.0;
        let first = self.squares.iter().position(is_heard).unwrap_or(0);
        let last = self.squares.iter().rposition(is_heard).unwrap_or(0);
        (self.time_s(first as f64), self.time_s(last as f64))
    }

    /// A faster rise cannot be distinguished from a period that begins at once.
    pub(super) fn shortest_s(&self) -> f64 {
        const SHARE: f64 = 0.3;
        const SHORTEST_S: f64 = 5e-4;
        (SHARE * self.box_s).max(SHORTEST_S)
    }

    /// The rise from the beginning of the sound, which is found at about `begin_s`, to where it has
    /// the level that it keeps; `to_s` is its end. `None` if it is there from the start.
    ///
    /// It is read backwards from where 90 % of the top are reached, noise being taken off: a knock
    /// before the tone is no part of its rise. A rise faster than the averaging lets see is given as
    /// half of what it lies below.
    pub(super) fn rise(
        &self,
        begin_s: f64,
        to_s: f64,
        waveform: Option<&Waveform<'_>>,
    ) -> Option<Rise> {
        /// Rough and exact rises that differ by more are not of the same thing; of a rise within so
        /// many periods a rough one is no more than a bound.
        const AGREE: f64 = 1.6;
        const BLURRED: f64 = 2.0;
        let heard = self.without_noise(begin_s);
        let begin = heard.place(begin_s);
        let top = heard.top(begin, heard.place(to_s))?;
        let shares: Vec<f64> = (1..=9).map(|n| f64::from(n) / 10.0).collect();
        let risen = (begin..heard.squares.len()).find(|n| heard.rms(*n) >= 0.9 * top)?;
        let times_s: Vec<f64> = (shares.iter())
            .map(|share| heard.crossed_s(share * top, risen))
            .collect::<Option<_>>()?;
        let fits = RiseShape::ALL.map(|shape| heard.fitted(shape, &shares, &times_s));
        let rough = fits.into_iter().min_by(|a, b| a.rest_s.total_cmp(&b.rest_s))?;
        let is_alike = |rise: &Rise| {
            let (exact_s, least_s) = (rise.duration_s.value, BLURRED * self.box_s);
            let is_blurred = exact_s < least_s && rough.duration_s < least_s;
            let ratio = exact_s / rough.duration_s;
            is_blurred || (1.0 / AGREE..AGREE).contains(&ratio)
        };
        let exact = waveform.and_then(|waveform| waveform.rise(&rough)).filter(is_alike);
        let (shape, start_s, duration_s, least_s) = match exact {
            Some(exact) => (exact.shape, exact.start_s, exact.duration_s, self.shortest_s()),
            None => {
                // Nine crossings and two unknowns; a sound that falls while it rises is no ramp; and
                // a period brings its power in bursts, wherever in it the waveform begins.
                let of_fit = rough.rest_s * (9f64 / 7.0).sqrt();
                let of_period = self.box_s / 12f64.sqrt();
                let u = of_fit.hypot(of_period).hypot(0.02 * rough.duration_s);
                let duration_s = Measured::new(rough.duration_s, u);
                (rough.shape, rough.start_s, duration_s, BLURRED * self.box_s)
            }
        };
        if duration_s.value > least_s {
            return Some(Rise::new(shape, start_s, duration_s));
        }
        // Anything from nothing to the least that is seen is as likely.
        let hidden = Measured::new(0.5 * least_s, least_s / 12f64.sqrt());
        Some(Rise { is_hidden: true, ..Rise::new(shape, start_s, hidden) })
    }

    /// The level less that of the noise before a time.
    fn without_noise(&self, begin_s: f64) -> Self {
        /// So near to the beginning there may be more than noise; and so much shows what it is.
        const CLEAR_S: f64 = 0.03;
        const LEAST_S: f64 = 0.05;
        let end = self.place(begin_s - CLEAR_S);
        let is_known = end as f64 * self.step_s > LEAST_S;
        let noise = if is_known { median(self.squares[..end].iter().copied()) } else { None };
        let less = |square: &f64| (square - noise.unwrap_or(0.0)).max(0.0);
        Self { squares: self.squares.iter().map(less).collect(), ..*self }
    }

    fn place(&self, time_s: f64) -> usize {
        (((time_s - self.first_s) / self.step_s).max(0.0) as usize).min(self.squares.len())
    }

    /// The last time before a place at which the RMS is less than `least`; of a sound that starts
    /// in its rise, the first time of all.
    fn crossed_s(&self, least: f64, before: usize) -> Option<f64> {
        let Some(n) = (0..before).rfind(|n| self.rms(*n) < least) else {
            let starts_rising = self.rms(0) < 0.5 * self.rms(before);
            return starts_rising.then_some(self.first_s);
        };
        let (below, above) = (self.rms(n), self.rms(n + 1));
        Some(self.time_s(n as f64 + (least - below) / (above - below).max(f64::MIN_POSITIVE)))
    }

    /// The level that a rise leads to: the greatest within half a second, or the usual level of the
    /// sound where that is greater, since it swells. Where the last of it takes as long as three
    /// times its share, the level where that begins.
    fn top(&self, begin: usize, end: usize) -> Option<f64> {
        const WITHIN_S: f64 = 0.5;
        const SLOWER: f64 = 3.0;
        /// Steps from a tenth to the top, and the first that may be too slow: at 70 %.
        const STEPS: usize = 18;
        const FIRST: usize = 12;
        let within = (begin + (WITHIN_S / self.step_s) as usize).min(end);
        let early = (begin..within).map(|n| self.rms(n)).fold(0.0, f64::max);
        let usual = median((begin..end).map(|n| self.rms(n))).unwrap_or(0.0);
        let greatest = early.max(usual);
        let share = |n: usize| 0.1 + 0.9 * n as f64 / STEPS as f64;
        let risen = (begin..self.squares.len()).find(|n| self.rms(*n) >= greatest)?;
        let times_s: Option<Vec<f64>> =
            (0..STEPS).map(|n| self.crossed_s(share(n) * greatest, risen)).collect();
        let Some(times_s) = times_s else { return Some(greatest) };
        let efforts: Vec<f64> = times_s.windows(2).map(|pair| pair[1] - pair[0]).collect();
        // A period may bring more than the next: no slowing down is shorter than one.
        let pace = median(efforts.iter().copied()).unwrap_or(0.0).max(self.box_s / SLOWER);
        let slow = (FIRST..efforts.len()).find(|n| efforts[*n] > SLOWER * pace);
        Some(slow.map_or(greatest, |n| share(n) * greatest))
    }

    /// The ramp of a shape whose crossings, averaged as the sound is, lie nearest to those found.
    fn fitted(&self, shape: RiseShape, shares: &[f64], times_s: &[f64]) -> FittedRise {
        let count = shares.len() as f64;
        let fit = |duration_s: f64| {
            let model: Vec<f64> = shares
                .iter()
                .map(|share| shape.reaches_s(*share, duration_s, self.box_s))
                .collect();
            let start_s = times_s.iter().zip(&model).map(|(t, m)| t - m).sum::<f64>() / count;
            let squares = times_s.iter().zip(&model).map(|(t, m)| (t - m - start_s).powi(2));
            FittedRise { shape, start_s, duration_s, rest_s: (squares.sum::<f64>() / count).sqrt() }
        };
        // The rest has one minimum: golden section over the logarithm of the duration.
        let longest_s = 4.0 * (times_s[times_s.len() - 1] - times_s[0]).max(self.box_s);
        let (mut a, mut b) = ((0.02 * self.box_s).ln(), longest_s.ln());
        for _ in 0..24 {
            let (c, d) = (b - 0.618_034 * (b - a), a + 0.618_034 * (b - a));
            if fit(c.exp()).rest_s < fit(d.exp()).rest_s { b = d } else { a = c }
        }
        fit(f64::midpoint(a, b).exp())
    }

    /// Figures of the level from `start_s` to `end_s`; the decay and the tremolo from `sustain_s`
    /// on.
    pub(super) fn figures(
        &self,
        (start_s, end_s): (f64, f64),
        sustain_s: (f64, f64),
    ) -> LevelFigures {
        const EFFECTIVE: f64 = 0.4;
        let inside = |n: &usize| (start_s..=end_s).contains(&self.time_s(*n as f64));
        let places: Vec<usize> = (0..self.squares.len()).filter(inside).collect();
        let total: f64 = places.iter().map(|n| self.squares[*n]).sum();
        if total <= 0.0 {
            return LevelFigures::default();
        }
        let moment: f64 =
            places.iter().map(|n| self.squares[*n] * (self.time_s(*n as f64) - start_s)).sum();
        let greatest = places.iter().map(|n| self.rms(*n)).fold(0.0, f64::max);
        let heard = places.iter().filter(|n| self.rms(**n) >= EFFECTIVE * greatest).count();
        let (tremolo_rate_hz, tremolo_depth_db) = self.tremolo(sustain_s).unzip();
        LevelFigures {
            temporal_centroid_s: Some(moment / total),
            effective_duration_s: Some(heard as f64 * self.step_s),
            decay_t60_s: self.decay(&places, greatest),
            tremolo_rate_hz,
            tremolo_depth_db,
        }
    }

    /// Time in which the level falls by 60 dB, of a straight line from 1 dB below the greatest to
    /// 35 dB below it or to 12 dB above what is left at the end. `None` for a sound that does not
    /// fall by 6 dB, or not evenly.
    fn decay(&self, places: &[usize], greatest: f64) -> Option<Measured> {
        let db = |n: usize| 20.0 * (self.rms(n) / greatest).max(1e-15).log10();
        let top = places.iter().copied().find(|n| self.rms(*n) >= greatest)?;
        let all = self.squares.len();
        let tail = &self.squares[all - (all / 20).max(1)..];
        let left = tail.iter().sum::<f64>() / tail.len() as f64;
        let floor_db = 10.0 * (left / greatest.powi(2)).max(1e-30).log10() + 12.0;
        let falling = places.iter().copied().filter(|n| *n >= top);
        let line: Vec<(f64, f64)> = falling
            .map(|n| (self.time_s(n as f64), db(n)))
            .skip_while(|(_, db)| *db > -1.0)
            .take_while(|(_, db)| *db > floor_db.max(-35.0))
            .collect();
        if line.len() < 16 {
            return None;
        }
        let Line { slope, mean_y, square, left, .. } = Line::of_equals(line.iter().copied())?;
        let about_mean: f64 = line.iter().map(|(_, db)| (db - mean_y).powi(2)).sum();
        let lasts_s = line[line.len() - 1].0 - line[0].0;
        let is_even = left < 0.1 * about_mean;
        // A release is over within a few periods: that is no decay.
        if !(slope * lasts_s < -4.0 && is_even && lasts_s > 6.0 * self.box_s) {
            return None;
        }
        // The rest wavers slowly: no more than some ten of its values are independent.
        let u = (left / square).sqrt() / 10f64.sqrt();
        Some(Measured::new(-60.0 / slope, 60.0 * u / slope.powi(2)))
    }

    /// Rate and depth of a regular wavering of the level: half of what lies between its greatest
    /// and its least, in dB.
    fn tremolo(&self, (from_s, to_s): (f64, f64)) -> Option<(f64, f64)> {
        const HOP_S: f64 = 0.01;
        const LEAST_DB: f64 = 0.1;
        let steps = ((to_s - from_s) / HOP_S) as usize;
        let course: Vec<f64> = (0..steps).map(|n| self.db_at(from_s + n as f64 * HOP_S)).collect();
        let of_db = wavering(&course, HOP_S);
        if !of_db.is_regular() {
            return None;
        }
        // In decibels a deep tremolo is no sine: the line is removed, and the rest is given as
        // amplitude.
        let middle = 0.5 * (steps as f64 - 1.0);
        let amplitudes: Vec<f64> = (course.iter().enumerate())
            .map(|(n, db)| {
                let line = of_db.centre + of_db.drift * (n as f64 - middle) * HOP_S;
                10f64.powf((db - line) / 20.0)
            })
            .collect();
        let wave = wavering(&amplitudes, HOP_S);
        if !wave.is_regular() || wave.centre <= 0.0 {
            return None;
        }
        // Averaging over the box takes a little of the depth.
        let x = PI * wave.rate_hz * self.box_s;
        let index = (wave.depth / wave.centre * x / x.sin()).clamp(0.0, 0.999);
        let depth_db = 10.0 * ((1.0 + index) / (1.0 - index)).log10();
        (depth_db > LEAST_DB).then_some((wave.rate_hz, depth_db))
    }
}

struct FittedRise {
    shape: RiseShape,
    start_s: f64,
    duration_s: f64,
    /// RMS of what the crossings lie beside it.
    rest_s: f64,
}

/// What a ramp leaves of each sample, its gain being free.
fn rests(heard: &[(f64, f64, f64)], shape: RiseShape, middle_s: f64, duration_s: f64) -> Vec<f64> {
    let made = |(time_s, _, later): &(f64, f64, f64)| {
        later * shape.gain((time_s - middle_s) / duration_s + 0.5)
    };
    let both: f64 = heard.iter().map(|sample| sample.1 * made(sample)).sum();
    let of_ramp: f64 = heard.iter().map(|sample| made(sample).powi(2)).sum();
    let gain = if of_ramp > 0.0 { both / of_ramp } else { 0.0 };
    heard.iter().map(|sample| sample.1 - gain * made(sample)).collect()
}

/// Over how many samples a rest is alike: 1 + 2·Σ ρ_k·(1 − k/K), ρ_k its correlation with itself k
/// samples later, K the number of `most` samples (M. S. Bartlett, Nature 161, 1948).
fn alike_over(rest: &[f64], most: usize) -> f64 {
    let product = |lag: usize| rest.iter().zip(&rest[lag..]).map(|(a, b)| a * b).sum::<f64>();
    let square = product(0).max(f64::MIN_POSITIVE);
    let lags = 1..most.min(rest.len());
    let sum: f64 = lags.map(|lag| product(lag) / square * (1.0 - lag as f64 / most as f64)).sum();
    (1.0 + 2.0 * sum).max(1.0)
}

impl Waveform<'_> {
    /// The rise that makes what is heard of what is heard some periods later, sought around a rough
    /// one; `None` where none does, as where the parts of a sound rise each at its own pace.
    fn rise(&self, rough: &FittedRise) -> Option<Rise> {
        const LONGEST_PERIODS: f64 = 60.0;
        const LONGEST_S: f64 = 0.15;
        const LEFT: f64 = 0.05;
        const STEPS: i32 = 8;
        const SHORTEST: f64 = 0.26;
        const ROUGH_SAMPLES: usize = 250;
        const FINE_SAMPLES: usize = 1000;
        let about_s = rough.duration_s.max(0.5 * self.period_s);
        if about_s > (LONGEST_PERIODS * self.period_s).min(LONGEST_S) {
            return None;
        }
        let later_s = ((1.6 * about_s + self.period_s) / self.period_s).ceil() * self.period_s;
        let middle_s = rough.start_s + 0.5 * rough.duration_s;
        let reach_s = about_s + 1.5 * self.period_s;
        let place = |time_s: f64| (time_s * self.rate_hz).max(0.0) as usize;
        let (from, to) = (place(middle_s - reach_s), place(middle_s + reach_s));
        if to + place(later_s) + 32 > self.sound.len() {
            return None;
        }
        let between = Interpolator::quick();
        let (before, behind) = between.needs(to - from, 1.0);
        let later = from as f64 + later_s * self.rate_hz;
        let first = before as f64 + later.fract();
        let mut around = Vec::new();
        padded(self.sound, later as i64 - before as i64, before + behind, &mut around);
        // The rough search needs few samples, the end of it some more.
        let sampled = |most: usize| -> Vec<(f64, f64, f64)> {
            let every = ((to - from) / most).max(1);
            let mut later = vec![0.0; (to - from).div_ceil(every)];
            between.along(&around, first, every as f64, &mut later);
            let sample = |(n, later): (usize, f32)| {
                ((n as f64 + 0.5) / self.rate_hz, f64::from(self.sound[n]), f64::from(later))
            };
            (from..to).step_by(every).zip(later).map(sample).collect()
        };
        let (few, heard) = (sampled(ROUGH_SAMPLES), sampled(FINE_SAMPLES));
        // What a ramp leaves of the power, its gain being free.
        let left = |heard: &[(f64, f64, f64)], shape: RiseShape, middle_s: f64, duration_s: f64| {
            let (mut power, mut both, mut of_ramp) = (0.0, 0.0, 0.0);
            let per_s = 1.0 / duration_s;
            for (time_s, x, later) in heard {
                let made = later * shape.gain((time_s - middle_s) * per_s + 0.5);
                power += x * x;
                both += x * made;
                of_ramp += made * made;
            }
            if of_ramp > 0.0 { power - both * both / of_ramp } else { power }
        };
        let power: f64 = heard.iter().map(|(_, x, _)| x * x).sum();
        let sought = |shape: RiseShape| {
            let mut best = (f64::INFINITY, middle_s, about_s);
            for stretch in -STEPS..=STEPS {
                let duration_s = about_s * (f64::from(stretch) / 4.0).exp2();
                for shift in -STEPS..=STEPS {
                    let at_s = middle_s + reach_s * 0.6 * f64::from(shift) / f64::from(STEPS);
                    let rest = left(&few, shape, at_s, duration_s);
                    if rest < best.0 {
                        best = (rest, at_s, duration_s);
                    }
                }
            }
            let (_, mut at_s, mut duration_s) = best;
            let mut rest = left(&heard, shape, at_s, duration_s);
            let (mut move_s, mut factor) = (0.05 * reach_s, 1.12);
            // One that shrinks to nothing has no duration to be found.
            while factor > 1.0005 && duration_s > SHORTEST * about_s {
                let steps = [
                    (at_s + move_s, duration_s),
                    (at_s - move_s, duration_s),
                    (at_s, duration_s * factor),
                    (at_s, duration_s / factor),
                ];
                let better =
                    steps.into_iter().map(|(at, long)| (left(&heard, shape, at, long), at, long));
                match better.min_by(|a, b| a.0.total_cmp(&b.0)) {
                    Some(found) if found.0 < rest => (rest, at_s, duration_s) = found,
                    _ => (move_s, factor) = (0.5 * move_s, factor.sqrt()),
                }
            }
            (rest, shape, at_s, duration_s)
        };
        let both = RiseShape::ALL.map(sought);
        let (rest, shape, at_s, duration_s) =
            both.into_iter().min_by(|a, b| a.0.total_cmp(&b.0))?;
        let is_at_edge = duration_s > 3.9 * about_s || duration_s < SHORTEST * about_s;
        if rest > LEFT * power || is_at_edge {
            return None;
        }
        // How fast the rest grows beside its least shows how sure the duration is, and how far it
        // is alike from sample to sample how many of them count: noise has none, what a ramp does
        // not follow has up to a quarter of a period.
        let aside = 0.05 * duration_s;
        let grows = left(&heard, shape, at_s, duration_s + aside)
            + left(&heard, shape, at_s, duration_s - aside)
            - 2.0 * rest;
        let quarter = (0.25 * self.period_s / (2.0 * reach_s) * heard.len() as f64).max(1.0);
        let alike = alike_over(&rests(&heard, shape, at_s, duration_s), quarter as usize);
        let variance = 2.0 * rest / heard.len() as f64 * alike * aside.powi(2) / grows;
        let u = if variance > 0.0 { variance.sqrt() } else { 0.0 };
        let start_s = at_s - 0.5 * duration_s;
        Some(Rise::new(shape, start_s, Measured::new(duration_s, u.max(1e-4 * duration_s))))
    }
}

impl RiseShape {
    const ALL: [Self; 2] = [Self::Linear, Self::RaisedCosine];

    /// The amplitude at a share of the duration.
    fn gain(self, x: f64) -> f64 {
        let x = x.clamp(0.0, 1.0);
        match self {
            Self::Linear => x,
            Self::RaisedCosine => {
                // sin²(πx/2), the sine by its series, to a part in ten million.
                let a = 0.5 * PI * x;
                let square = a * a;
                let terms = [1.0 / 110.0, 1.0 / 72.0, 1.0 / 42.0, 1.0 / 20.0, 1.0 / 6.0];
                let sine = a * terms.iter().fold(1.0, |sum, term| 1.0 - square * term * sum);
                sine * sine
            }
        }
    }

    /// Share of its duration after which the amplitude reaches a share of the top.
    fn share_at(self, share: f64) -> f64 {
        match self {
            Self::Linear => share,
            Self::RaisedCosine => (1.0 - 2.0 * share).acos() / PI,
        }
    }

    /// ∫ a² over the time x from the beginning on, in durations.
    fn squares_until(self, x: f64) -> f64 {
        let within = x.clamp(0.0, 1.0);
        let rising = match self {
            Self::Linear => within.powi(3) / 3.0,
            Self::RaisedCosine => {
                3.0 * within / 8.0 - (PI * within).sin() / (2.0 * PI)
                    + (2.0 * PI * within).sin() / (16.0 * PI)
            }
        };
        rising + (x - 1.0).max(0.0)
    }

    /// Time after its beginning at which a rise of `duration_s`, averaged over `box_s`, reaches a
    /// share of the top.
    fn reaches_s(self, share: f64, duration_s: f64, box_s: f64) -> f64 {
        let half = 0.5 * box_s / duration_s;
        let square =
            |x: f64| (self.squares_until(x + half) - self.squares_until(x - half)) / (2.0 * half);
        let (mut low, mut high) = (-half, 1.0 + half);
        for _ in 0..30 {
            let middle = f64::midpoint(low, high);
            if square(middle) < share * share { low = middle } else { high = middle }
        }
        duration_s * f64::midpoint(low, high)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth;

    #[test]
    fn ramps_of_both_shapes_are_told_through_the_averaging() {
        let rate_hz = 48_000.0;
        for shape in [RiseShape::Linear, RiseShape::RaisedCosine] {
            for duration_s in [0.004, 0.03, 0.2] {
                let mut sound = vec![0.0; 4800];
                let tone = synth::sine(500.0, 0.4, 0.3, rate_hz, 48_000);
                sound.extend(tone.iter().enumerate().map(|(n, x)| {
                    let x_of = (n as f64 / rate_hz / duration_s).min(1.0);
                    let gain = match shape {
                        RiseShape::Linear => x_of,
                        RiseShape::RaisedCosine => 0.5 - 0.5 * (PI * x_of).cos(),
                    };
                    x * gain as f32
                }));
                let level = Level::new(&sound, 0..sound.len(), rate_hz, 0.002);
                let waveform = Waveform { sound: &sound, rate_hz, period_s: 0.002 };
                // A rise of two periods is known from the waveform alone.
                let ways = [(Some(&waveform), 0.002), (None, 0.03)];
                for (waveform, most) in ways.into_iter().skip(usize::from(duration_s > 0.1)) {
                    if waveform.is_none() && duration_s < 0.01 {
                        continue;
                    }
                    let rise = level.rise(0.1, 1.0, waveform).expect("a rise");
                    let error = rise.duration_s.value / duration_s - 1.0;
                    assert!(error.abs() < most, "{shape:?} {duration_s} {rise:?}");
                    assert_eq!(rise.shape, shape, "{duration_s}");
                    assert!((rise.start_s - 0.1).abs() < 0.0005, "{rise:?}");
                }
            }
        }
    }

    #[test]
    fn an_even_decay_has_its_closed_forms() {
        let rate_hz = 48_000.0;
        let tau = 2.0 / (3.0 * std::f64::consts::LN_10);
        let sound: Vec<f32> = synth::sine(400.0, 0.5, 0.0, rate_hz, 240_000)
            .iter()
            .enumerate()
            .map(|(n, x)| x * (-(n as f64) / rate_hz / tau).exp() as f32)
            .collect();
        let level = Level::new(&sound, 0..sound.len(), rate_hz, 1.0 / 400.0);
        let figures = level.figures((0.0, 5.0), (0.0, 5.0));
        let near = |value: Option<f64>, truth: f64| {
            let value = value.expect("defined");
            assert!((value / truth - 1.0).abs() < 0.01, "{value} {truth}");
        };
        near(figures.temporal_centroid_s, tau / 2.0);
        near(figures.effective_duration_s, tau * 2.5f64.ln());
        near(figures.decay_t60_s.map(|t60| t60.value), 2.0);
    }
}
