//! How a partial dies away and beats: its complex envelope as one damped sinusoid, or as two or three.

use std::f64::consts::TAU;

use super::C;
use super::poles::{Fit, Pole, Weighted};
use crate::fit::median;
use crate::measured::Measured;
use crate::transform::complex_forward;
use crate::units::DB_PER_POWER;

/// Nats of 60 dB.
const SIXTY_DB: f64 = 6.907_755_278_982_137;
/// The envelope is averaged into at most so many points.
const MOST_POINTS: usize = 160;
const FEWEST_POINTS: usize = 5;
/// Fewest points for two components, and for three.
const FEWEST_FOR: [usize; 2] = [14, 28];
/// More components are fitted only if what fewer leave is more than this share of the amplitude, and
/// if they fit so much better: the ratio of variances.
const ENOUGH: f64 = 4e-4;
const MUCH_BETTER: f64 = 15.0;
/// Beyond this share damped sinusoids are no account of an envelope.
const NO_ACCOUNT: f64 = 0.25;

/// A component: A·exp((−α + jδ)t), t from the start of the envelope.
#[derive(Debug, Clone, Copy)]
pub(super) struct Component {
    pub(super) frequency_hz: Measured,
    /// α in 1/s.
    pub(super) decay_per_s: Measured,
    pub(super) amplitude: C,
}

impl Component {
    pub(super) fn at(&self, seconds: f64) -> f64 {
        self.amplitude.norm() * (-self.decay_per_s.value * seconds).exp()
    }

    /// Its level at the start in dB, and how fast it rises in dB/s.
    pub(super) fn level_line(&self) -> (f64, f64) {
        let start_db = 20.0 * self.amplitude.norm().log10();
        (start_db, -2.0 * DB_PER_POWER * self.decay_per_s.value)
    }

    /// The complex amplitude, its turn included.
    pub(super) fn wave(&self, seconds: f64) -> C {
        let turned = TAU * self.frequency_hz.value * seconds;
        self.amplitude * C::from_polar((-self.decay_per_s.value * seconds).exp(), turned)
    }

    /// Mean power from one time to another.
    fn power(&self, from_s: f64, lasting_s: f64) -> f64 {
        let fall = 2.0 * self.decay_per_s.value * lasting_s;
        let share = if fall.abs() < 1e-6 { 1.0 } else { (1.0 - (-fall).exp()) / fall };
        self.at(from_s).powi(2) * share
    }

    /// The time to fall by 60 dB, if it falls enough to be known.
    pub(super) fn t60_s(&self, lasting_s: f64) -> Option<Measured> {
        /// In nats: 2.6 dB.
        const LEAST_FALL: f64 = 0.3;
        let decay = self.decay_per_s;
        let is_known = decay.value > 4.0 * decay.u && decay.value * lasting_s > LEAST_FALL;
        let t60_s = SIXTY_DB / decay.value;
        is_known.then(|| Measured::new(t60_s, t60_s * decay.u / decay.value))
    }
}

/// What an envelope is made of.
#[derive(Debug, Clone)]
pub(super) enum Envelope {
    /// One damped sinusoid.
    One(Component),
    /// Two or three.
    Several(Several),
    /// Neither: the frequency wavers, or the level does.
    Other,
}

/// Components that sound together.
#[derive(Debug, Clone)]
pub(super) struct Several {
    /// The one with the most energy first.
    pub(super) all: Vec<Component>,
    /// Covariance of their frequencies in Hz².
    covariance: Vec<Vec<f64>>,
    /// The single one that comes nearest to all.
    pub(super) one: Component,
}

impl Several {
    /// How far one lies above another in Hz.
    pub(super) fn above(&self, a: usize, b: usize) -> Measured {
        let of = |n: usize, m: usize| self.covariance[n][m];
        let variance = of(a, a) + of(b, b) - 2.0 * of(a, b);
        let hz = self.all[a].frequency_hz.value - self.all[b].frequency_hz.value;
        Measured::new(hz, variance.max(0.0).sqrt())
    }

    /// How far two are apart in Hz.
    pub(super) fn apart(&self, a: usize, b: usize) -> Measured {
        let above = self.above(a, b);
        Measured::new(above.value.abs(), above.u)
    }

    /// All pairs, those of the stronger first.
    pub(super) fn pairs(&self) -> impl Iterator<Item = (usize, usize)> + use<> {
        let count = self.all.len();
        (0..count).flat_map(move |a| (a + 1..count).map(move |b| (a, b)))
    }

    /// The strongest pair that beats.
    pub(super) fn beating(&self, lasting_s: f64) -> Option<(usize, usize)> {
        self.pairs().find(|(a, b)| self.beat(*a, *b, lasting_s))
    }

    /// Whether the weaker two of three stand to either side of the strongest as what a tremolo makes
    /// does, or a swell, or a vibrato.
    fn is_modulation(&self) -> bool {
        const AS_FAR: f64 = 0.03;
        const AS_FAR_U: f64 = 4.0;
        const AS_STRONG: f64 = 0.5;
        let [_, a, b] = self.all[..] else { return false };
        let away = [self.above(1, 0), self.above(2, 0)];
        let strong = [a, b].map(|c| c.amplitude.norm());
        let apart_hz = away[0].value.abs().max(away[1].value.abs());
        let u = away[0].u.hypot(away[1].u);
        (away[0].value + away[1].value).abs() < AS_FAR * apart_hz + AS_FAR_U * u
            && strong[0].min(strong[1]) > AS_STRONG * strong[0].max(strong[1])
    }

    /// Whether two beat so often in a time that they are known to have frequencies of their own.
    pub(super) fn beat(&self, a: usize, b: usize, lasting_s: f64) -> bool {
        /// Four uncertainties are exceeded by chance once in 16 000.
        const APART_U: f64 = 4.0;
        const LEAST_TURNS: f64 = 0.35;
        let apart = self.apart(a, b);
        apart.value > APART_U * apart.u && apart.value * lasting_s > LEAST_TURNS
    }
}

impl Envelope {
    pub(super) fn components_mut(&mut self) -> impl Iterator<Item = &mut Component> {
        let (one, several): (_, &mut [Component]) = match self {
            Self::One(one) => (Some(one), &mut []),
            Self::Several(several) => (Some(&mut several.one), &mut several.all),
            Self::Other => (None, &mut []),
        };
        one.into_iter().chain(several)
    }
}

/// A complex envelope: amplitudes at equal steps; `None` where it is too weak to be read.
pub(super) struct Course<'a> {
    pub(super) values: &'a [Option<C>],
    /// Power of the noise of each, re any.
    pub(super) noise: &'a [f64],
    pub(super) step_s: f64,
    /// Frequency that its phases run at.
    pub(super) frequency_hz: f64,
    /// Time between values whose noise is as good as independent.
    pub(super) independent_s: f64,
}

/// Fits one damped sinusoid, or as many more as it takes. Each point counts by the noise there
/// where that makes what is left likelier, with no more components: what a beat leaves in its
/// troughs looks like noise too, and so does an attack.
pub(super) fn envelope(course: &Course) -> Envelope {
    let Some(points) = Points::new(course) else { return Envelope::Other };
    let (even, likelihood) = points.envelope(true);
    let Some(points) = points.weighted() else { return even };
    let (weighted, of_weighted) = points.envelope(!matches!(even, Envelope::One(_)));
    if of_weighted > likelihood { weighted } else { even }
}

/// The envelope with the mean frequency taken out, averaged in blocks.
struct Points {
    /// Time of each from the start, with its value.
    values: Vec<(f64, C)>,
    /// Power of the noise of each, and what it counts.
    noise: Vec<f64>,
    weights: Vec<f64>,
    /// The weighted values, and their energy.
    weighted: Weighted,
    energy: f64,
    frequency_hz: f64,
    step_s: f64,
    block: usize,
    correlated: f64,
    lasting_s: f64,
}

impl Points {
    /// What fits the points, one component or perhaps more, and the logarithm of the likelihood of
    /// what it leaves.
    fn envelope(&self, perhaps_more: bool) -> (Envelope, f64) {
        let of_weights: f64 = self.weights.iter().map(|weight| 2.0 * weight.ln()).sum();
        let count = self.values.len() as f64;
        let likelihood = |misfit: f64| of_weights - count * misfit.max(f64::MIN_POSITIVE).ln();
        let Some(one) = self.weighted.fit([self.start()], self.correlated) else {
            return (Envelope::Other, f64::NEG_INFINITY);
        };
        let two = Some(&one).filter(|_| perhaps_more).and_then(|one| {
            let two = self.better_than(one, |other| self.starts_of_two(&one.poles[0], other))?;
            (two.misfit < NO_ACCOUNT * self.energy).then_some(two)
        });
        if let Some(two) = two {
            let three = self.better_than(&two, |other| self.starts_of_three(&two.poles, other));
            let three = three.map(|three| (three.misfit, self.several(&three, &one)));
            // Strings die away; and three decays of one frequency are one decay that is not even.
            let is_known = |(_, several): &(f64, Several)| {
                let dies_away = |part: &Component| part.t60_s(self.lasting_s).is_some();
                let beats = several.beating(self.lasting_s).is_some();
                let are_strings = beats && several.all.iter().all(dies_away);
                are_strings && self.are_distinct(several) && !several.is_modulation()
            };
            return match three.filter(is_known) {
                Some((misfit, several)) => (Envelope::Several(several), likelihood(misfit)),
                None => (Envelope::Several(self.several(&two, &one)), likelihood(two.misfit)),
            };
        }
        let envelope = if one.misfit > NO_ACCOUNT * self.energy {
            Envelope::Other
        } else {
            Envelope::One(self.component(&one, 0))
        };
        (envelope, likelihood(one.misfit))
    }

    /// The best fit of one pole more, with starts for it by the frequency that stands out of what is
    /// left; `None` where that is noise, or not much less is left then.
    fn better_than<const P: usize, const Q: usize, const S: usize>(
        &self,
        fewer: &Fit<P>,
        starts: impl Fn(C) -> [[C; Q]; S],
    ) -> Option<Fit<Q>> {
        let count = self.values.len();
        if fewer.misfit <= ENOUGH.powi(2) * self.energy || count < FEWEST_FOR[P - 1] {
            return None;
        }
        let other = self.stands_out(&fewer.poles)?;
        let more = self.weighted.best_of(starts(other), self.correlated)?;
        let free = (2.0 * count as f64 / self.correlated - 4.0 * Q as f64).max(2.0);
        let better =
            (fewer.misfit - more.misfit) / 4.0 / (more.misfit / free).max(f64::MIN_POSITIVE);
        (better > MUCH_BETTER).then_some(more)
    }

    /// Whether each of three differs from the others: in frequency, or by its decay.
    fn are_distinct(&self, several: &Several) -> bool {
        const DECAYS_U: f64 = 4.0;
        let differ = |a: usize, b: usize| {
            let [of_a, of_b] = [a, b].map(|n| several.all[n].decay_per_s);
            let decays = (of_a.value - of_b.value).abs() > DECAYS_U * of_a.u.hypot(of_b.u);
            decays || several.beat(a, b, self.lasting_s)
        };
        several.pairs().all(|(a, b)| differ(a, b))
    }

    /// The same points, each counting by the noise there; `None` if it is the same for all.
    fn weighted(mut self) -> Option<Self> {
        self.weights = weights_in(&self.noise);
        self.weigh();
        self.weights.iter().any(|weight| *weight != 1.0).then_some(self)
    }

    fn weigh(&mut self) {
        self.weighted = Weighted::new(&self.values, &self.weights, self.block as f64 * self.step_s);
        let weighted = self.values.iter().zip(&self.weights);
        self.energy = weighted.map(|((_, z), weight)| weight * weight * z.norm_sqr()).sum();
    }

    fn new(course: &Course) -> Option<Self> {
        let first = course.values.iter().position(Option::is_some)?;
        let last = course.values.iter().rposition(Option::is_some)?;
        let values = &course.values[first..=last];
        let pairs = values.windows(2).filter_map(|pair| Some((pair[0]?, pair[1]?)));
        let turned: C = pairs.map(|(a, b)| b * a.conj()).sum();
        let offset = turned.arg() / course.step_s;
        let block = values.len().div_ceil(MOST_POINTS);
        let blocks = values.chunks(block).zip(course.noise[first..=last].chunks(block));
        let turn = C::cis(-offset * course.step_s);
        let mean = |(n, (block_values, noise)): (usize, (&[Option<C>], &[f64]))| {
            // A block that is not whole would lie beside its middle.
            if block_values.len() < block || block_values.iter().any(Option::is_none) {
                return None;
            }
            // Σ z[m]·turn^m by Horner's rule: one cosine a block.
            let sum =
                block_values.iter().rev().flatten().fold(C::default(), |sum, z| sum * turn + z)
                    * C::cis(-offset * (n * block) as f64 * course.step_s);
            let middle = (n * block) as f64 + (block as f64 - 1.0) / 2.0;
            let value = ((first as f64 + middle) * course.step_s, sum / block as f64);
            Some((value, noise.iter().sum::<f64>() / block as f64))
        };
        let (values, noise): (Vec<(f64, C)>, Vec<f64>) =
            blocks.enumerate().filter_map(mean).unzip();
        // The times are from the start of the course, the turn from that of its first value.
        let back = C::cis(-offset * first as f64 * course.step_s);
        let values: Vec<(f64, C)> = values.into_iter().map(|(t, z)| (t, z * back)).collect();
        let (from, to) = (values.first()?.0, values.last()?.0);
        if values.len() < FEWEST_POINTS {
            return None;
        }
        let mut points = Self {
            correlated: (course.independent_s / (block as f64 * course.step_s)).max(1.0),
            frequency_hz: course.frequency_hz + offset / TAU,
            weights: vec![1.0; values.len()],
            noise,
            values,
            weighted: Weighted::default(),
            energy: 0.0,
            step_s: course.step_s,
            block,
            lasting_s: to - from,
        };
        points.weigh();
        Some(points)
    }

    /// A single pole by the ratio of neighbours.
    fn start(&self) -> C {
        let (mut products, mut squares) = (C::default(), 0.0);
        let mut step_s = self.step_s;
        for pair in self.values.windows(2) {
            products += pair[1].1 * pair[0].1.conj();
            squares += pair[0].1.norm_sqr();
            step_s = pair[1].0 - pair[0].0;
        }
        (products / squares).ln() / step_s
    }

    /// The rate of what stands out of what poles leave; `None` if that is noise.
    fn stands_out(&self, poles: &[Pole]) -> Option<C> {
        /// What is no more than noise has a spectrum whose greatest lies so little above its mean.
        const OF_NOISE: f64 = 5.0;
        let step_s = self.lasting_s / (self.values.len() - 1) as f64;
        let mut left: Vec<C> = (self.values.iter().zip(&self.weights))
            .map(|((t, z), weight)| (z - poles.iter().map(|pole| pole.at(*t)).sum::<C>()) * weight)
            .collect();
        left.resize(4 * left.len(), C::default());
        let length = left.len();
        complex_forward(&mut left);
        let top = (0..length).max_by(|a, b| left[*a].norm_sqr().total_cmp(&left[*b].norm_sqr()));
        let top = top.unwrap_or(0);
        let mean = left.iter().map(C::norm_sqr).sum::<f64>() / length as f64;
        if left[top].norm_sqr() < OF_NOISE * self.correlated * mean {
            return None;
        }
        let top = top as f64;
        let signed = if top > length as f64 / 2.0 { top - length as f64 } else { top };
        Some(C::new(poles[0].rate.re, TAU * signed / (length as f64 * step_s)))
    }

    /// Pairs of poles to begin with: what one leaves is another frequency, or another decay, or
    /// both lie close on either side.
    fn starts_of_two(&self, one: &Pole, other: C) -> [[C; 2]; 3] {
        let step_s = self.lasting_s / (self.values.len() - 1) as f64;
        let slope = |part: &[(f64, C)]| {
            let half = part.len() / 2;
            let level = |part: &[(f64, C)]| {
                0.5 * (part.iter().map(|(_, z)| z.norm_sqr()).sum::<f64>() / part.len() as f64).ln()
            };
            (level(&part[half..]) - level(&part[..half])) / (half as f64 * step_s)
        };
        let count = self.values.len();
        let early = slope(&self.values[..(count / 8).max(6)]).min(1.3 * one.rate.re);
        let late = slope(&self.values[count / 2..]).max(0.7 * one.rate.re);
        let aside = self.aside();
        [
            [one.rate, other],
            [C::new(early, one.rate.im), C::new(late, one.rate.im)],
            [one.rate + aside, one.rate - aside],
        ]
    }

    /// The same of three: what two leave is another frequency, or either is two.
    fn starts_of_three(&self, two: &[Pole; 2], other: C) -> [[C; 3]; 5] {
        /// By so much decays of what dies away in two stages differ from that of one.
        const STAGES: f64 = 1.8;
        let [a, b] = two.map(|pole| pole.rate);
        let aside = self.aside();
        let stages = |rate: C| [STAGES, 1.0 / STAGES].map(|by| C::new(rate.re * by, rate.im));
        let (of_a, of_b) = (stages(a), stages(b));
        [
            [a, b, other],
            [a + aside, a - aside, b],
            [a, b + aside, b - aside],
            [of_a[0], of_a[1], b],
            [a, of_b[0], of_b[1]],
        ]
    }

    /// How far to either side of one pole two begin.
    fn aside(&self) -> C {
        C::new(0.0, TAU * 0.4 / self.lasting_s)
    }

    fn component<const P: usize>(&self, fit: &Fit<P>, n: usize) -> Component {
        let pole = fit.poles[n];
        // Averaging a block weakens what turns within it.
        let step = pole.rate * self.step_s;
        let block = self.block as f64;
        let gain = match (step / 2.0).sinh() {
            small if small.norm() < 1e-9 => C::new(1.0, 0.0),
            one => (step * block / 2.0).sinh() / (block * one),
        };
        Component {
            frequency_hz: Measured::new(
                self.frequency_hz + pole.rate.im / TAU,
                fit.of_turn[n][n].max(0.0).sqrt() / TAU,
            ),
            decay_per_s: Measured::new(-pole.rate.re, fit.of_decay[n].sqrt()),
            amplitude: pole.amplitude / gain,
        }
    }

    fn several<const P: usize>(&self, fit: &Fit<P>, of_one: &Fit<1>) -> Several {
        let found: [Component; P] = std::array::from_fn(|n| self.component(fit, n));
        // A component that is over at once may be huge before the first point, where nothing is
        // known of it.
        let power = |n: usize| found[n].power(self.values[0].0, self.lasting_s);
        let mut order: [usize; P] = std::array::from_fn(|n| n);
        order.sort_by(|a, b| power(*b).total_cmp(&power(*a)));
        let shared = |n: &usize| order.iter().map(|m| fit.of_turn[*n][*m] / (TAU * TAU)).collect();
        Several {
            all: order.iter().map(|n| found[*n]).collect(),
            covariance: order.iter().map(shared).collect(),
            one: self.component(of_one, 0),
        }
    }
}

/// What values count in least squares of amplitudes, in noise of such powers: 1 in the middle one,
/// and in what may be another by chance alone.
pub(super) fn weights_in(noise: &[f64]) -> Vec<f64> {
    const BY_CHANCE: f64 = 4.0;
    /// Further from the middle none counts as more, or less.
    const LEAST: f64 = 1e-3;
    const MOST: f64 = 1e6;
    let middle = median(noise.iter().copied()).filter(|middle| *middle > 0.0);
    let weight = |noise: &f64| {
        let ratio = middle.map_or(1.0, |middle| noise / middle);
        let is_other = ratio.max(1.0 / ratio) > BY_CHANCE;
        if is_other { ratio.clamp(LEAST, MOST).sqrt().recip() } else { 1.0 }
    };
    noise.iter().map(weight).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn course(parts: &[(f64, f64, f64)]) -> Vec<Option<C>> {
        (0..400)
            .map(|n| {
                let t = 0.01 * f64::from(n);
                let part = |(a, hz, decay): &(f64, f64, f64)| {
                    C::new(-decay * t, TAU * hz * t + 0.4).exp() * *a
                };
                let noise = C::new((f64::from(n) * 12.9898).sin(), (f64::from(n) * 78.233).sin());
                Some(parts.iter().map(part).sum::<C>() + 1e-5 * noise)
            })
            .collect()
    }

    fn fitted(parts: &[(f64, f64, f64)]) -> Envelope {
        envelope(&Course {
            values: &course(parts),
            noise: &[1.0; 400],
            step_s: 0.01,
            frequency_hz: 100.0,
            independent_s: 0.01,
        })
    }

    #[test]
    fn one_component_is_one() {
        let Envelope::One(one) = fitted(&[(0.3, 0.7, 2.0)]) else { panic!("one component") };
        assert!((one.frequency_hz.value - 100.7).abs() < 1e-4, "{one:?}");
        assert!((one.decay_per_s.value - 2.0).abs() < 1e-3, "{one:?}");
        assert!((one.amplitude.norm() - 0.3).abs() < 1e-4, "{one:?}");
    }

    #[test]
    fn two_frequencies_and_two_decays_are_told_apart() {
        let two = fitted(&[(0.3, 0.7, 1.0), (0.1, 1.1, 1.4)]);
        let Envelope::Several(several) = two else { panic!("two components") };
        let [strong, weak] = several.all[..] else { panic!("two components") };
        let apart = several.apart(0, 1);
        assert!((apart.value - 0.4).abs() < 1e-3, "{apart:?}");
        assert!((strong.decay_per_s.value - 1.0).abs() < 0.01, "{strong:?}");
        assert!((weak.amplitude.norm() - 0.1).abs() < 1e-3, "{weak:?}");
        let two = fitted(&[(0.3, 0.0, 5.0), (0.05, 0.0, 0.8)]);
        let Envelope::Several(several) = two else { panic!("two decays") };
        let mut decays: Vec<f64> = several.all.iter().map(|c| c.decay_per_s.value).collect();
        decays.sort_by(f64::total_cmp);
        assert!((decays[0] - 0.8).abs() < 0.01 && (decays[1] - 5.0).abs() < 0.05, "{decays:?}");
    }

    #[test]
    fn three_components_are_three_and_what_wavers_is_not() {
        let three = fitted(&[(0.3, 0.7, 1.0), (0.1, 1.3, 1.4), (0.05, -0.2, 0.5)]);
        let Envelope::Several(several) = three else { panic!("three components") };
        assert_eq!(several.all.len(), 3, "{several:?}");
        for (found, (amplitude, hz, decay)) in
            several.all.iter().zip([(0.3, 0.7, 1.0), (0.1, 1.3, 1.4), (0.05, -0.2, 0.5)])
        {
            assert!((found.frequency_hz.value - 100.0 - hz).abs() < 2e-3, "{found:?}");
            assert!((found.decay_per_s.value - decay).abs() < 0.01, "{found:?}");
            assert!((found.amplitude.norm() / amplitude - 1.0).abs() < 0.01, "{found:?}");
        }
        assert!((several.above(1, 0).value - 0.6).abs() < 3e-3);
        // A tremolo, and a vibrato: two as strong, as far above as below.
        for phases in [[0.0, 0.0], [0.0, 0.5]] {
            let values: Vec<Option<C>> = (course(&[(0.3, 0.7, 1.0)]).into_iter().enumerate())
                .map(|(n, value)| {
                    let turned = TAU * 1.5 * 0.01 * n as f64;
                    let sides = [turned, -turned].into_iter().zip(phases);
                    let sides: C = sides.map(|(at, by)| C::cis(at + TAU * by) * 0.1).sum();
                    value.map(|value| value * (1.0 + sides))
                })
                .collect();
            let wavering = Course {
                values: &values,
                noise: &[1.0; 400],
                step_s: 0.01,
                frequency_hz: 100.0,
                independent_s: 0.01,
            };
            if let Envelope::Several(several) = envelope(&wavering) {
                assert!(several.all.len() < 3, "{several:?}");
            }
        }
    }
}
