//! How a partial dies away and beats: its complex envelope as one or two damped sinusoids.

use std::f64::consts::TAU;

use rustfft::num_complex::Complex;

use crate::linear::{inverse, solve};
use crate::measured::Measured;
use crate::transform::complex_forward;

type C = Complex<f64>;

/// Nats of 60 dB.
const SIXTY_DB: f64 = 6.907_755_278_982_137;
/// The envelope is averaged into at most so many points.
const MOST_POINTS: usize = 160;
const FEWEST_POINTS: usize = 5;
const FEWEST_FOR_TWO: usize = 14;
/// Two components are fitted for good only if one misfits by this share, and two fit so much
/// better: the ratio of variances.
const ONE_IS_ENOUGH: f64 = 4e-4;
const MUCH_BETTER: f64 = 15.0;
/// Beyond this share one or two damped sinusoids are no account of an envelope.
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
    /// Two, the one with more energy first, and how far apart they are in Hz; with the one that
    /// comes nearest to both.
    Two { both: [Component; 2], apart: Measured, one: Component },
    /// Neither: the frequency wavers, or the level does.
    Other,
}

impl Envelope {
    pub(super) fn components_mut(&mut self) -> impl Iterator<Item = &mut Component> {
        let (one, both) = match self {
            Self::One(one) => (Some(one), None),
            Self::Two { both, one, .. } => (Some(one), Some(both)),
            Self::Other => (None, None),
        };
        one.into_iter().chain(both.into_iter().flatten())
    }
}

/// A complex envelope: amplitudes at equal steps; `None` where it is too weak to be read.
pub(super) struct Course<'a> {
    pub(super) values: &'a [Option<C>],
    pub(super) step_s: f64,
    /// Frequency that its phases run at.
    pub(super) frequency_hz: f64,
    /// Time between values whose noise is as good as independent.
    pub(super) independent_s: f64,
}

/// Fits one damped sinusoid, or two where one does not do.
pub(super) fn envelope(course: &Course) -> Envelope {
    let Some(points) = Points::new(course) else { return Envelope::Other };
    let Some(one) = points.fit([points.start()]) else { return Envelope::Other };
    let misfit = one.misfit / points.energy;
    let count = points.values.len() as f64;
    if misfit > ONE_IS_ENOUGH.powi(2)
        && points.values.len() >= FEWEST_FOR_TWO
        && let Some(two) = points.best_two(&one.poles[0])
    {
        let free = (2.0 * count / points.correlated - 8.0).max(2.0);
        let better = (one.misfit - two.misfit) / 4.0 / (two.misfit / free).max(f64::MIN_POSITIVE);
        if better > MUCH_BETTER && two.misfit < NO_ACCOUNT * points.energy {
            return points.two(&two, &one);
        }
    }
    if misfit > NO_ACCOUNT { Envelope::Other } else { Envelope::One(points.component(&one, 0)) }
}

/// A pole: −α + jδ in 1/s, with the amplitude at the start.
#[derive(Debug, Clone, Copy)]
struct Pole {
    rate: C,
    amplitude: C,
}

struct Fit<const P: usize> {
    poles: [Pole; P],
    /// Sum of squares that is left.
    misfit: f64,
    /// Variances of α and of δ of each, and of their differences in δ from the first.
    variances: [(f64, f64); P],
    apart_variance: f64,
}

/// The envelope with the mean frequency taken out, averaged in blocks.
struct Points {
    /// Time of each from the start, with its value.
    values: Vec<(f64, C)>,
    energy: f64,
    frequency_hz: f64,
    step_s: f64,
    block: usize,
    correlated: f64,
    lasting_s: f64,
}

impl Points {
    fn new(course: &Course) -> Option<Self> {
        let first = course.values.iter().position(Option::is_some)?;
        let last = course.values.iter().rposition(Option::is_some)?;
        let values = &course.values[first..=last];
        let pairs = values.windows(2).filter_map(|pair| Some((pair[0]?, pair[1]?)));
        let turned: C = pairs.map(|(a, b)| b * a.conj()).sum();
        let offset = turned.arg() / course.step_s;
        let block = values.len().div_ceil(MOST_POINTS);
        let mean = |(n, block_values): (usize, &[Option<C>])| {
            // A block that is not whole would lie beside its middle.
            if block_values.len() < block || block_values.iter().any(Option::is_none) {
                return None;
            }
            let sum: C = (block_values.iter().flatten().enumerate())
                .map(|(m, value)| value * C::cis(-offset * (n * block + m) as f64 * course.step_s))
                .sum();
            let middle = (n * block) as f64 + (block as f64 - 1.0) / 2.0;
            Some(((first as f64 + middle) * course.step_s, sum / block as f64))
        };
        let values: Vec<(f64, C)> = values.chunks(block).enumerate().filter_map(mean).collect();
        // The times are from the start of the course, the turn from that of its first value.
        let back = C::cis(-offset * first as f64 * course.step_s);
        let values: Vec<(f64, C)> = values.into_iter().map(|(t, z)| (t, z * back)).collect();
        let energy = values.iter().map(|(_, z)| z.norm_sqr()).sum();
        let (from, to) = (values.first()?.0, values.last()?.0);
        (values.len() >= FEWEST_POINTS).then(|| Self {
            correlated: (course.independent_s / (block as f64 * course.step_s)).max(1.0),
            frequency_hz: course.frequency_hz + offset / TAU,
            values,
            energy,
            step_s: course.step_s,
            block,
            lasting_s: to - from,
        })
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

    fn best_two(&self, one: &Pole) -> Option<Fit<2>> {
        let fits = self.starts_of_two(one)?.into_iter().filter_map(|start| self.fit(start));
        fits.min_by(|a, b| a.misfit.total_cmp(&b.misfit))
    }

    /// Pairs of poles to begin with: what one leaves is another frequency, or another decay, or
    /// both lie close on either side. `None` if what it leaves is noise.
    fn starts_of_two(&self, one: &Pole) -> Option<[[C; 2]; 3]> {
        /// What is no more than noise has a spectrum whose greatest lies so little above its mean.
        const OF_NOISE: f64 = 5.0;
        let step_s = self.lasting_s / (self.values.len() - 1) as f64;
        let mut left: Vec<C> =
            (self.values.iter()).map(|(t, z)| z - one.amplitude * (one.rate * *t).exp()).collect();
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
        let other = C::new(one.rate.re, TAU * signed / (length as f64 * step_s));
        let aside = C::new(0.0, TAU * 0.4 / self.lasting_s);
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
        Some([
            [one.rate, other],
            [C::new(early, one.rate.im), C::new(late, one.rate.im)],
            [one.rate + aside, one.rate - aside],
        ])
    }

    /// Least squares of the amplitudes for poles.
    fn amplitudes<const P: usize>(&self, rates: &[C; P]) -> Option<[Pole; P]> {
        // For one or two poles the normal equations are solved by hand.
        let mut gram = [[C::default(); P]; P];
        let mut right = [C::default(); P];
        self.each(*rates, |_, z, waves| {
            for n in 0..P {
                right[n] += waves[n].conj() * z;
                for m in 0..P {
                    gram[n][m] += waves[n].conj() * waves[m];
                }
            }
        });
        let amplitudes: [C; P] = if P == 1 {
            std::array::from_fn(|_| right[0] / gram[0][0])
        } else {
            let determinant = gram[0][0] * gram[1][1] - gram[0][1] * gram[1][0];
            if determinant.norm() < 1e-12 * (gram[0][0] * gram[1][1]).norm() {
                return None;
            }
            let first = (right[0] * gram[1][1] - gram[0][1] * right[1]) / determinant;
            let second = (gram[0][0] * right[1] - gram[1][0] * right[0]) / determinant;
            std::array::from_fn(|n| if n == 0 { first } else { second })
        };
        let finite = amplitudes.iter().all(|a| a.is_finite());
        finite.then(|| std::array::from_fn(|n| Pole { rate: rates[n], amplitude: amplitudes[n] }))
    }

    fn misfit<const P: usize>(&self, poles: &[Pole; P]) -> f64 {
        let mut sum = 0.0;
        self.each(poles.map(|pole| pole.rate), |_, z, waves| {
            let whole: C = poles.iter().zip(waves).map(|(pole, wave)| pole.amplitude * wave).sum();
            sum += (z - whole).norm_sqr();
        });
        sum
    }

    /// Time, value and exp(rate·t) at each point: from one to the next the waves go on by turning.
    fn each<const P: usize>(&self, rates: [C; P], mut work: impl FnMut(f64, C, [C; P])) {
        let step_s = self.block as f64 * self.step_s;
        let turns = rates.map(|rate| (rate * step_s).exp());
        let mut waves = [C::default(); P];
        let mut before_s = f64::NEG_INFINITY;
        for (t, z) in &self.values {
            let follows = (t - before_s - step_s).abs() < 1e-6 * step_s;
            for (n, wave) in waves.iter_mut().enumerate() {
                *wave = if follows { *wave * turns[n] } else { (rates[n] * *t).exp() };
            }
            before_s = *t;
            work(*t, *z, waves);
        }
    }

    /// Least squares by K. Levenberg's and D. Marquardt's method; the amplitudes follow the poles.
    fn fit<const P: usize>(&self, rates: [C; P]) -> Option<Fit<P>> {
        /// What has not converged by then is given up.
        const ROUNDS: usize = 40;
        /// Of the noise that is left; it moves a pole by a hundredth of its uncertainty.
        const LEAST_GAIN: f64 = 1e-6;
        let mut poles = self.amplitudes(&rates)?;
        let mut misfit = self.misfit(&poles);
        let mut damping = 1e-3;
        for _ in 0..ROUNDS {
            let (normal, slope) = self.normal_equations(&poles);
            let mut damped = normal;
            for (n, row) in damped.iter_mut().enumerate() {
                row[n] *= 1.0 + damping;
            }
            let step = solve(damped, slope.map(|x| [x]))?;
            let mut moved = poles.map(|pole| pole.rate);
            for (n, rate) in moved.iter_mut().enumerate() {
                *rate += C::new(step[4 * n + 2][0], step[4 * n + 3][0]);
            }
            let Some(tried) = self.amplitudes(&moved) else { break };
            let left = self.misfit(&tried);
            if left < misfit {
                let gain = (misfit - left) / misfit.max(f64::MIN_POSITIVE);
                (poles, misfit) = (tried, left);
                damping = (damping / 5.0).max(1e-12);
                if gain < LEAST_GAIN {
                    break;
                }
            } else {
                damping *= 8.0;
                if damping > 1e6 {
                    break;
                }
            }
        }
        let (normal, _) = self.normal_equations(&poles);
        let covariance = inverse(normal)?;
        let free = (2.0 * self.values.len() as f64 - 4.0 * P as f64).max(1.0);
        let noise = misfit / free * self.correlated;
        let of = |n: usize| noise * covariance[n][n].max(0.0);
        let last = 4 * P - 1;
        let shared = if P == 2 { covariance[3][last] } else { 0.0 };
        Some(Fit {
            poles,
            misfit,
            variances: std::array::from_fn(|n| (of(4 * n + 2), of(4 * n + 3))),
            apart_variance: (of(3) + of(last) - 2.0 * noise * shared).max(0.0),
        })
    }

    /// JᵀJ and Jᵀr over the real and imaginary part of each amplitude, −α and δ, in blocks of four
    /// for a pole.
    ///
    /// The columns are the wave w, its value z·t and i times either: all products are parts of
    /// those of w and z·t.
    fn normal_equations<const P: usize>(&self, poles: &[Pole; P]) -> ([[f64; 8]; 8], [f64; 8]) {
        let (mut products, mut with_left) = ([[C::default(); 4]; 4], [C::default(); 4]);
        let used = 2 * P;
        self.each(poles.map(|pole| pole.rate), |t, z, waves| {
            let mut basis = [C::default(); 4];
            let mut left = z;
            for (n, (pole, wave)) in poles.iter().zip(waves).enumerate() {
                let whole = pole.amplitude * wave;
                left -= whole;
                basis[2 * n] = wave;
                basis[2 * n + 1] = whole * t;
            }
            for n in 0..used {
                let conjugate = basis[n].conj();
                with_left[n] += conjugate * left;
                for m in 0..=n {
                    products[n][m] += conjugate * basis[m];
                }
            }
        });
        let (mut normal, mut slope) = ([[0.0; 8]; 8], [0.0; 8]);
        for n in 0..used {
            slope[2 * n] = with_left[n].re;
            slope[2 * n + 1] = with_left[n].im;
            for m in 0..used {
                let product = if m <= n { products[n][m] } else { products[m][n].conj() };
                normal[2 * n][2 * m] = product.re;
                normal[2 * n][2 * m + 1] = -product.im;
                normal[2 * n + 1][2 * m] = product.im;
                normal[2 * n + 1][2 * m + 1] = product.re;
            }
        }
        // What is not used stays put.
        for (n, row) in normal.iter_mut().enumerate().skip(2 * used) {
            row[n] = 1.0;
        }
        (normal, slope)
    }

    fn component<const P: usize>(&self, fit: &Fit<P>, n: usize) -> Component {
        let pole = fit.poles[n];
        let (of_decay, of_frequency) = fit.variances[n];
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
                of_frequency.sqrt() / TAU,
            ),
            decay_per_s: Measured::new(-pole.rate.re, of_decay.sqrt()),
            amplitude: pole.amplitude / gain,
        }
    }

    fn two(&self, fit: &Fit<2>, of_one: &Fit<1>) -> Envelope {
        let mut both = [self.component(fit, 0), self.component(fit, 1)];
        // A component that is over at once may be huge before the first point, where nothing is
        // known of it.
        let power = |component: &Component| component.power(self.values[0].0, self.lasting_s);
        if power(&both[1]) > power(&both[0]) {
            both.swap(0, 1);
        }
        let apart = (both[0].frequency_hz.value - both[1].frequency_hz.value).abs();
        let apart = Measured::new(apart, fit.apart_variance.sqrt() / TAU);
        Envelope::Two { both, apart, one: self.component(of_one, 0) }
    }
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
        let Envelope::Two { both: [strong, weak], apart, .. } =
            fitted(&[(0.3, 0.7, 1.0), (0.1, 1.1, 1.4)])
        else {
            panic!("two components")
        };
        assert!((apart.value - 0.4).abs() < 1e-3, "{apart:?}");
        assert!((strong.decay_per_s.value - 1.0).abs() < 0.01, "{strong:?}");
        assert!((weak.amplitude.norm() - 0.1).abs() < 1e-3, "{weak:?}");
        let Envelope::Two { both, .. } = fitted(&[(0.3, 0.0, 5.0), (0.05, 0.0, 0.8)]) else {
            panic!("two decays")
        };
        let mut decays = both.map(|part| part.decay_per_s.value);
        decays.sort_by(f64::total_cmp);
        assert!((decays[0] - 0.8).abs() < 0.01 && (decays[1] - 5.0).abs() < 0.05, "{decays:?}");
    }
}
