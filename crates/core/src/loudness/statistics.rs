//! What is kept of a sound while its loudness is measured: as much for an hour as for a minute, but
//! for what is drawn.

use super::pattern::{POINTS, phon, sharpness_parts};
use super::tables::THIRDS;
use super::thirds::TICK_S;
use super::{Moment, Specific};
use crate::histogram::Histogram;
use crate::measured::Measured;
use crate::significance::deviation_of_mean;

/// Ticks between moments: 2 ms.
const MOMENT_TICKS: u64 = 4;
/// Time between moments in seconds.
pub(super) const MOMENT_S: f64 = MOMENT_TICKS as f64 * TICK_S;
/// Parts of the span of which the scatter is looked at, at most and at least, and how long one is at
/// least.
const MOST_PARTS: f64 = 64.0;
const FEWEST_PARTS: usize = 8;
const SHORTEST_PART_S: f64 = 0.2;
/// Below so many sone a moment has no sharpness.
const LEAST_SHARP_SONE: f64 = 0.1;

/// A stretch of what is drawn: mean loudness and specific loudness.
#[derive(Debug, Clone, PartialEq)]
pub struct Stretch {
    /// Its middle in seconds from the start of the take.
    pub time_s: f64,
    /// Its loudness in sone.
    pub loudness_sone: f64,
    /// Its sharpness in acum, where there is anything to hear.
    pub sharpness_acum: Option<f64>,
    /// Its specific loudness in sone per Bark, each tenth of a Bark.
    pub specific: Vec<f32>,
}

/// What was kept.
#[derive(Debug, Clone)]
pub(super) struct Statistics {
    start_s: f64,
    /// Ticks before what counts: for the mean powers, and for loudness over time.
    settled: u64,
    lead: u64,
    /// Ticks of the span.
    ticks: u64,
    parts: Vec<Part>,
    pub(super) max_sone: f64,
    pub(super) max_at_s: f64,
    moments: Option<Vec<Moment>>,
    /// Moments of a stretch, and what was added up of the present one.
    per_stretch: u64,
    sums: Sums,
    stretches: Vec<Stretch>,
}

/// A part of the span.
#[derive(Debug, Clone)]
struct Part {
    powers: [f64; THIRDS],
    ticks: u64,
    loudness: Histogram,
    /// Sum of the loudness of its moments.
    sone: f64,
    /// Of sharpness and specific loudness.
    moment: f64,
    area: f64,
}

/// What was added up of moments.
#[derive(Debug, Clone)]
struct Sums {
    loudness: f64,
    moment: f64,
    area: f64,
    specific: [f64; POINTS],
    count: u64,
}

impl Default for Sums {
    fn default() -> Self {
        Self { loudness: 0.0, moment: 0.0, area: 0.0, specific: [0.0; POINTS], count: 0 }
    }
}

impl Statistics {
    /// Of a span of so many ticks, the first of which are those before the span and those until the
    /// filters have settled.
    pub(super) fn new(start_s: f64, (lead, settled): (u64, u64), ticks: u64, keeps: bool) -> Self {
        /// Stretches are as short as this where few are enough to draw.
        const STRETCHES_S: [f64; 7] = [0.5, 0.2, 0.1, 0.05, 0.02, 0.01, 0.004];
        const FEW: f64 = 200.0;
        let lasts_s = ticks as f64 * TICK_S;
        let count = (lasts_s / SHORTEST_PART_S).clamp(1.0, MOST_PARTS) as usize;
        let part = Part {
            powers: [0.0; THIRDS],
            ticks: 0,
            loudness: histogram(),
            sone: 0.0,
            moment: 0.0,
            area: 0.0,
        };
        let stretch_s = STRETCHES_S.into_iter().find(|s| lasts_s / s >= FEW).unwrap_or(MOMENT_S);
        Self {
            start_s,
            settled,
            lead,
            ticks,
            parts: vec![part; count],
            max_sone: 0.0,
            max_at_s: start_s,
            moments: keeps.then(Vec::new),
            per_stretch: (stretch_s / MOMENT_S).round() as u64,
            sums: Sums::default(),
            stretches: Vec::new(),
        }
    }

    /// The part that a tick of the stream lies in, if it counts.
    fn part(&mut self, tick: u64, from: u64) -> Option<&mut Part> {
        if tick < from || tick >= self.lead + self.ticks {
            return None;
        }
        let within = (tick - self.lead) as f64 / self.ticks as f64;
        let count = self.parts.len();
        self.parts.get_mut((within * count as f64) as usize)
    }

    /// Takes the mean powers of a tick.
    pub(super) fn add_powers(&mut self, tick: u64, of: &[f64; THIRDS]) {
        let from = self.settled;
        if let Some(part) = self.part(tick, from) {
            for (sum, power) in part.powers.iter_mut().zip(of) {
                *sum += power;
            }
            part.ticks += 1;
        }
    }

    /// Whether the tick is a moment of the span.
    pub(super) fn is_moment(&self, tick: u64) -> bool {
        tick >= self.lead && (tick - self.lead).is_multiple_of(MOMENT_TICKS)
    }

    /// Takes the loudness of a moment, and the specific loudness.
    pub(super) fn add_moment(&mut self, tick: u64, sone: f64, specific: &Specific) {
        let (moment, area) = sharpness_parts(specific);
        let from = self.lead;
        let Some(part) = self.part(tick, from) else { return };
        part.loudness.add(sone);
        part.sone += sone;
        part.moment += moment;
        part.area += area;
        let time_s = self.start_s + (tick - self.lead) as f64 * TICK_S;
        if sone > self.max_sone {
            (self.max_sone, self.max_at_s) = (sone, time_s);
        }
        if let Some(moments) = &mut self.moments {
            let sharpness_acum = (area > LEAST_SHARP_SONE).then(|| moment / area);
            moments.push(Moment { time_s, loudness_sone: sone, sharpness_acum });
        }
        self.sums.loudness += sone;
        self.sums.moment += moment;
        self.sums.area += area;
        for (sum, sone) in self.sums.specific.iter_mut().zip(specific) {
            *sum += sone;
        }
        self.sums.count += 1;
        if self.sums.count == self.per_stretch {
            self.end_stretch();
        }
    }

    fn end_stretch(&mut self) {
        let Sums { loudness, moment, area, specific, count } = std::mem::take(&mut self.sums);
        if count == 0 {
            return;
        }
        let n = count as f64;
        let from = self.stretches.len() as u64 * self.per_stretch;
        self.stretches.push(Stretch {
            time_s: self.start_s + (from as f64 + 0.5 * n) * MOMENT_S,
            loudness_sone: loudness / n,
            sharpness_acum: (area / n > LEAST_SHARP_SONE).then(|| moment / area),
            specific: specific.iter().map(|sum| (sum / n) as f32).collect(),
        });
    }

    /// Ends the stream: what is drawn, and all moments if they were kept.
    pub(super) fn finish(&mut self) -> (Vec<Stretch>, Vec<Moment>, f64) {
        self.end_stretch();
        let stretches = std::mem::take(&mut self.stretches);
        let stretch_s = self.per_stretch as f64 * MOMENT_S;
        (stretches, self.moments.take().unwrap_or_default(), stretch_s)
    }

    /// Mean power of each third over the span.
    pub(super) fn powers(&self) -> [f64; THIRDS] {
        mean_powers(&self.parts, None)
    }

    /// A number that the mean powers make, with the standard deviation that their scatter over the
    /// span gives it (the jackknife of J. W. Tukey, 1958).
    pub(super) fn of_powers(&self, of: impl Fn(&[f64; THIRDS]) -> f64) -> Measured {
        let whole = of(&self.powers());
        let values =
            (0..self.parts.len()).map(|left_out| of(&mean_powers(&self.parts, Some(left_out))));
        Measured::new(whole, jackknifed(whole, values))
    }

    /// By how much the loudness of the parts differs from part to part, over its mean.
    pub(super) fn unsteadiness(&self, of: impl Fn(&[f64; THIRDS]) -> f64) -> f64 {
        let known = self.parts.iter().filter(|part| part.ticks > 0);
        let values: Vec<f64> =
            known.map(|part| of(&part.powers.map(|sum| sum / part.ticks as f64))).collect();
        let n = values.len() as f64;
        let mean = values.iter().sum::<f64>() / n;
        let squares = values.iter().map(|x| (x - mean).powi(2)).sum::<f64>();
        if mean > 0.0 { (squares / n).sqrt() / mean } else { 0.0 }
    }

    /// The sharpness of what was heard, each moment weighed by its loudness.
    pub(super) fn sharpness(&self) -> Option<Measured> {
        let without = |left_out: Option<usize>| {
            let parts = self.parts.iter().enumerate().filter(|(n, _)| Some(*n) != left_out);
            let (moment, area) =
                parts.fold((0.0, 0.0), |(a, b), (_, part)| (a + part.moment, b + part.area));
            if area > 0.0 { moment / area } else { 0.0 }
        };
        let whole = without(None);
        let values = (0..self.parts.len()).map(|n| without(Some(n)));
        (whole > 0.0).then(|| Measured::new(whole, jackknifed(whole, values)))
    }

    /// The loudness that is exceeded during so many percent of the time.
    ///
    /// Its uncertainty is that of the share of time during which it is exceeded, over how steeply
    /// that share falls.
    pub(super) fn exceeded(&self, percent: f64) -> Option<Measured> {
        let all = self.parts.iter().fold(histogram(), |mut all, part| {
            all.add_all(&part.loudness);
            all
        });
        let value = all.exceeded(percent)?;
        // From well up in the tail, where moments are few and the share falls less steeply.
        let beside = 0.8 * percent;
        let (high, low) = (all.exceeded(percent - beside)?, all.exceeded(percent + beside)?);
        let per_share = (high - low) / (0.02 * beside);
        let of_parts = |parts: &[Part], of: &dyn Fn(&Part) -> f64| -> f64 {
            deviation_of_mean(&parts.iter().map(of).collect::<Vec<_>>())
        };
        let u = if self.parts.len() < FEWEST_PARTS {
            f64::NAN
        } else {
            let share = |part: &Part| part.loudness.share_above(value);
            let mean = |part: &Part| part.sone / part.loudness.count().max(1) as f64;
            // In a short span few moments lie so high: the mean is known better than they are. In
            // the first part the loudness may rise from silence.
            (of_parts(&self.parts, &share) * per_share).max(of_parts(&self.parts[1..], &mean))
        };
        Some(Measured::new(value, u))
    }
}

/// Of loudness in steps of 0.2 %, from a thousandth of a sone to 10 000 sone.
fn histogram() -> Histogram {
    Histogram::new(1e-3, 1.002, 8068)
}

/// Mean powers of all parts but one.
fn mean_powers(parts: &[Part], left_out: Option<usize>) -> [f64; THIRDS] {
    let kept = || parts.iter().enumerate().filter(|(n, _)| Some(*n) != left_out);
    let ticks: u64 = kept().map(|(_, part)| part.ticks).sum();
    std::array::from_fn(|third| {
        kept().map(|(_, part)| part.powers[third]).sum::<f64>() / ticks.max(1) as f64
    })
}

/// The standard deviation of a value from those without a part each; NaN of too few parts.
fn jackknifed(whole: f64, without: impl ExactSizeIterator<Item = f64>) -> f64 {
    let n = without.len();
    if n < FEWEST_PARTS {
        return f64::NAN;
    }
    let n = n as f64;
    let pseudo: Vec<f64> = without.map(|value| n * whole - (n - 1.0) * value).collect();
    deviation_of_mean(&pseudo)
}

/// The loudness level of a loudness with its uncertainty.
pub(super) fn phon_of(sone: Measured) -> Measured {
    let step = 1e-4 * sone.value.max(1e-3);
    let slope = (phon(sone.value + step) - phon(sone.value)) / step;
    Measured::new(phon(sone.value), slope * sone.u)
}
