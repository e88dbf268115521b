//! Decay and beating of each partial, from its envelope.

use super::assembly::{Assembly, Candidate, level_of};
use super::envelope::{Component, Course, Envelope, Several, envelope};
use super::{C, Partial, PartialComponent};
use crate::fit::{Line, median};
use crate::linear::inverse;
use crate::measured::Measured;

/// Components account for a level that they leave no more of than so many times what stages do,
/// or than this in dB.
const NO_MORE_OFF: f64 = 2.0;
const LEAST_OFF_DB: f64 = 0.3;
/// Of a beat that comes round less often it is not to be seen what it beats about.
const FEW_TURNS: f64 = 2.5;

impl Assembly<'_> {
    /// The envelopes of the partials, from the bin of each in frames a quarter apart: unlike a
    /// reading a bin adds up what two components put there.
    pub(super) fn envelopes(&mut self, candidates: &[Candidate], wavers: bool) -> Vec<Fitted> {
        let (length, rate_hz) = (self.reader.length() as f64, self.stretch.rate_hz);
        let start_s = length / 2.0 / rate_hz;
        if wavers {
            let other = |_: &Candidate| Fitted { envelope: Envelope::Other, start_s };
            return candidates.iter().map(other).collect();
        }
        let bins: Vec<i64> = candidates
            .iter()
            .map(|candidate| (candidate.mean().hz / self.reader.bin_hz()).round() as i64)
            .collect();
        let step = (length / 4.0).max(1.0);
        let count = ((self.stretch.to - self.stretch.from) as f64 - length) / step;
        let mut values = vec![Vec::new(); candidates.len()];
        let mut noise: Vec<Vec<f64>> = vec![Vec::new(); candidates.len()];
        for n in 0..=count as usize {
            let start = (n as f64 * step).round();
            self.reader.take(self.stretch.sound, self.stretch.from as i64 + start as i64);
            let at_s = (start + length / 2.0) / rate_hz;
            let nearest = (at_s / self.hop_s).round() as usize;
            let columns = values.iter_mut().zip(&mut noise);
            for (((values, noise), candidate), bin) in columns.zip(candidates).zip(&bins) {
                let is_alive = candidate.alive.get(nearest).copied().unwrap_or(false);
                values.push(is_alive.then(|| self.reader.envelope(*bin, start)));
                noise.push(candidate.noise.mean_at(nearest));
            }
        }
        let fitted = |((values, noise), bin): ((&Vec<Option<C>>, &Vec<f64>), &i64)| {
            let mut envelope = envelope(&Course {
                values,
                noise,
                step_s: step / rate_hz,
                frequency_hz: *bin as f64 * self.reader.bin_hz(),
                independent_s: self.reader.independent_samples() / rate_hz,
            });
            for component in envelope.components_mut() {
                let off_hz = component.frequency_hz.value - *bin as f64 * self.reader.bin_hz();
                component.amplitude /= self.reader.gain(component.decay_per_s.value, off_hz);
            }
            Fitted { envelope, start_s }
        };
        values.iter().zip(&noise).zip(&bins).map(fitted).collect()
    }

    /// What can be said of a partial, with its frequency.
    pub(super) fn figures(
        &self,
        candidate: &Candidate,
        fitted: &Fitted,
        level_at: usize,
    ) -> Option<(Partial, Measured)> {
        let first = candidate.alive.iter().position(|alive| *alive)?;
        let last = candidate.alive.iter().rposition(|alive| *alive)?;
        let mean = candidate.mean();
        let onset_s = self.onset_s();
        let time = |step: usize| onset_s + step as f64 * self.hop_s;
        let lasting_s = (last - first) as f64 * self.hop_s;
        let entered_s = onset_s + self.entry.map_or(0.0, |entry| entry.from_s);
        let since = |step: usize| step as f64 * self.hop_s - fitted.start_s;
        let mut partial = Partial {
            number: candidate.number,
            frequency_hz: mean.hz,
            frequency_hz_u: 0.0,
            level_db: level_of(candidate, level_at),
            cents_from_harmonic: None,
            cents_from_law: None,
            on_law: true,
            ratio: None,
            target_ratio: None,
            cents_from_target: None,
            decay_t60_s: None,
            decay_t60_s_u: None,
            late_t60_s: None,
            late_t60_s_u: None,
            knee_s: None,
            beat_hz: None,
            beat_hz_u: None,
            beat_depth_db: None,
            second_below_db: None,
            components: Vec::new(),
            start_s: time(first).max(entered_s).min(time(last)),
            end_s: time(last),
        };
        let course = self.course(candidate);
        let independent_s = self.reader.independent_samples() / self.stretch.rate_hz;
        let stages = Stages::of(&course, independent_s);
        // Where the level is another than the components make it, it is the level that is told.
        let accounts_for = |components: &[Component]| {
            // The level of one alone is a straight line.
            let straight = match components {
                [one] => Some(one.level_line()),
                _ => None,
            };
            let made = |seconds: f64| match straight {
                Some((start_db, db_per_s)) => start_db + db_per_s * seconds,
                None => 20.0 * components.iter().map(|c| c.wave(seconds)).sum::<C>().norm().log10(),
            };
            let off = |(time_s, db): &(f64, f64)| (db - made(time_s - fitted.start_s)).powi(2);
            let left = course.iter().map(off).sum::<f64>();
            let rms = (left / course.len().max(1) as f64).sqrt();
            stages.as_ref().is_none_or(|stages| rms < NO_MORE_OFF * stages.rms.max(LEAST_OFF_DB))
        };
        let of_mean = || {
            let count = (lasting_s / independent_s).max(1.0);
            let of_noise = mean.noise * self.reader.frequency_variance();
            Measured::new(mean.hz, (mean.spread.max(of_noise) / count).sqrt())
        };
        let frequency = match &fitted.envelope {
            Envelope::One(one) if accounts_for(&[*one]) => {
                partial.take_decay(one.t60_s(lasting_s));
                if candidate.alive[level_at.min(candidate.alive.len() - 1)] {
                    partial.level_db = 20.0 * one.at(since(level_at)).log10();
                }
                one.frequency_hz
            }
            Envelope::One(one) => {
                partial.take_stages(stages.as_ref(), onset_s);
                one.frequency_hz
            }
            Envelope::Several(several) if !is_swell(several, lasting_s) => {
                let (a, b) = several.beating(lasting_s).unwrap_or((0, 1));
                let is_straight = stages.as_ref().is_some_and(Stages::is_straight);
                let is_slow = several.apart(a, b).value * lasting_s < FEW_TURNS;
                let is_told = accounts_for(&several.all);
                let is_beat = !(is_slow && (is_straight || !is_told));
                if is_beat {
                    partial.take_several(several, lasting_s, onset_s + fitted.start_s);
                }
                if !is_told || !is_beat || (is_slow && partial.beat_hz.is_some()) {
                    partial.take_stages(stages.as_ref(), onset_s);
                }
                if is_beat && is_told {
                    partial.components = several.figures(since(level_at), lasting_s);
                }
                if is_beat { several.all[0].frequency_hz } else { several.one.frequency_hz }
            }
            Envelope::Several(_) | Envelope::Other => {
                partial.take_stages(stages.as_ref(), onset_s);
                of_mean()
            }
        };
        (partial.frequency_hz, partial.frequency_hz_u) = (frequency.value, frequency.u);
        Some((partial, frequency))
    }

    /// The level of a partial over time, in seconds after the onset and dB, from its loudest on.
    fn course(&self, candidate: &Candidate) -> Vec<(f64, f64)> {
        /// What is loudest later than that share of its life does not die away from there.
        const EARLY: f64 = 0.4;
        let mut course: Vec<(f64, f64)> = (candidate.points.iter().enumerate())
            .filter(|(step, _)| candidate.alive[*step] && candidate.after_s[*step].abs() < 1e-4)
            .filter_map(|(step, point)| {
                Some((step as f64 * self.hop_s, 20.0 * (*point)?.amplitude.log10()))
            })
            .collect();
        let top = (0..course.len()).max_by(|a, b| course[*a].1.total_cmp(&course[*b].1));
        let top = top.filter(|top| (*top as f64) < EARLY * course.len() as f64);
        course.drain(..top.unwrap_or(0));
        course
    }
}

/// A level as a straight line, or as two that meet in a knee.
struct Stages {
    /// In dB/s.
    early: Measured,
    /// The late stage, and when it takes over.
    late: Option<(Measured, f64)>,
    /// What they leave of the level, and a straight line alone, in dB.
    rms: f64,
    straight_rms: f64,
    lasting_s: f64,
}

/// Two lines that meet: level, slope and change of slope, and what they leave.
struct Knee {
    left: f64,
    at_s: f64,
    line: [f64; 3],
    covariance: [[f64; 3]; 3],
}

impl Stages {
    /// Of a level in dB over time, values of which as good as independent ones lie so far apart.
    fn of(course: &[(f64, f64)], independent_s: f64) -> Option<Self> {
        const KNEES: usize = 24;
        const FEWEST: usize = 12;
        /// Two lines are believed if they leave so much less, each value counted once.
        const MUCH_BETTER: f64 = 12.0;
        /// Of fewer points it is not to be seen how far they scatter.
        const FEWEST_OF_ALL: usize = 5;
        let (first_s, last_s) = (course.first()?.0, course.last()?.0);
        if course.len() < FEWEST_OF_ALL {
            return None;
        }
        let lasting_s = last_s - first_s;
        let straight = Line::of_equals(course.iter().copied())?;
        let count = course.len() as f64;
        let independent = (lasting_s / independent_s).clamp(3.0, count.max(3.0));
        let of_slope = |left: f64, square: f64, fitted: f64| {
            (left / square / (independent - fitted).max(1.0)).sqrt()
        };
        let straight_rms = (straight.left / count).sqrt();
        let one = Self {
            early: Measured::new(straight.slope, of_slope(straight.left, straight.square, 2.0)),
            late: None,
            rms: straight_rms,
            straight_rms,
            lasting_s,
        };
        if course.len() < FEWEST || straight_rms < LEAST_OFF_DB {
            return Some(one);
        }
        // y = a + b·t + c·max(t − knee, 0), for each knee by least squares.
        let mut best: Option<Knee> = None;
        for n in 1..KNEES {
            let knee_s = first_s + lasting_s * n as f64 / KNEES as f64;
            let row = |time_s: f64| [1.0, time_s - first_s, (time_s - knee_s).max(0.0)];
            let (mut normal, mut right) = ([[0.0; 3]; 3], [0.0; 3]);
            for (time_s, db) in course {
                let row = row(*time_s);
                for a in 0..3 {
                    right[a] += row[a] * db;
                    for b in 0..3 {
                        normal[a][b] += row[a] * row[b];
                    }
                }
            }
            let Some(covariance) = inverse(normal) else { continue };
            let line = covariance.map(|of| of.iter().zip(right).map(|(c, r)| c * r).sum::<f64>());
            let left = |(time_s, db): &(f64, f64)| {
                let made: f64 = row(*time_s).iter().zip(line).map(|(x, c)| x * c).sum();
                (db - made).powi(2)
            };
            let left: f64 = course.iter().map(left).sum();
            if best.as_ref().is_none_or(|knee| left < knee.left) {
                best = Some(Knee { left, at_s: knee_s, line, covariance });
            }
        }
        let Some(Knee { left, at_s: knee_s, line, covariance }) = best else { return Some(one) };
        let free = (independent - 4.0).max(1.0);
        let better = (straight.left - left) / 2.0 / (left / free).max(f64::MIN_POSITIVE);
        if better < MUCH_BETTER {
            return Some(one);
        }
        // As of a straight line: as many values count as are independent.
        let variance = left / free;
        let early = Measured::new(line[1], (variance * covariance[1][1]).sqrt());
        let of_late = covariance[1][1] + covariance[2][2] + 2.0 * covariance[1][2];
        let late = Measured::new(line[1] + line[2], (variance * of_late).max(0.0).sqrt());
        Some(Self { early, late: Some((late, knee_s)), rms: (left / count).sqrt(), ..one })
    }

    /// Whether nothing but an even fall is to be seen.
    fn is_straight(&self) -> bool {
        const WAVERS_DB: f64 = 0.7;
        self.straight_rms < WAVERS_DB
    }

    /// The time to fall by 60 dB at a slope, if it falls enough to be known.
    fn t60_s(&self, slope: Measured) -> Option<Measured> {
        const LEAST_FALL_DB: f64 = 2.6;
        let is_known =
            -slope.value > 4.0 * slope.u && -slope.value * self.lasting_s > LEAST_FALL_DB;
        is_known.then(|| Measured::new(-60.0 / slope.value, 60.0 * slope.u / slope.value.powi(2)))
    }
}

impl Partial {
    fn take_decay(&mut self, t60_s: Option<Measured>) {
        self.decay_t60_s = t60_s.map(|t| t.value);
        self.decay_t60_s_u = t60_s.map(|t| t.u);
    }

    /// Stages of the level alone, where components do not account for it.
    fn take_stages(&mut self, stages: Option<&Stages>, onset_s: f64) {
        let early = stages.and_then(|stages| stages.t60_s(stages.early));
        self.take_decay(early);
        let late = stages.and_then(|stages| {
            let (slope, knee_s) = stages.late.filter(|_| early.is_some())?;
            Some((stages.t60_s(slope)?, onset_s + knee_s))
        });
        self.late_t60_s = late.map(|(t60, _)| t60.value);
        self.late_t60_s_u = late.map(|(t60, _)| t60.u);
        self.knee_s = late.map(|(_, knee_s)| knee_s);
    }

    /// Components: two that differ in frequency beat, two that do not decay in stages.
    fn take_several(&mut self, several: &Several, lasting_s: f64, start_s: f64) {
        let amplitude = |n: usize| several.all[n].amplitude.norm();
        self.second_below_db = Some(-20.0 * (amplitude(1) / amplitude(0)).log10());
        let beating = several.beating(lasting_s);
        if let Some((a, b)) = beating {
            let apart = several.apart(a, b);
            self.beat_hz = Some(apart.value);
            self.beat_hz_u = Some(apart.u);
            let ratio = amplitude(b) / amplitude(a);
            let ratio = ratio.min(1.0 / ratio).min(0.999);
            self.beat_depth_db = Some(20.0 * ((1.0 + ratio) / (1.0 - ratio)).log10());
        }
        match several.pairs().find(|(a, b)| !several.beat(*a, *b, lasting_s)) {
            Some((a, b)) => {
                let pair = [&several.all[a], &several.all[b]];
                self.take_pair(pair, beating.is_some(), lasting_s, start_s);
            }
            None => self.take_turns(several, lasting_s, start_s),
        }
    }

    /// Components that all beat: the one that is loudest at first, and the one that is at last where
    /// it outlives that one by far.
    fn take_turns(&mut self, several: &Several, lasting_s: f64, start_s: f64) {
        /// Decays that are more alike make no knee that is to be seen.
        const BY_FAR: f64 = 1.5;
        let loudest = |at_s: f64| {
            let at = |n: &usize| several.all[*n].at(at_s);
            (0..several.all.len()).max_by(|a, b| at(a).total_cmp(&at(b))).unwrap_or(0)
        };
        let [early, late] = [0.0, lasting_s].map(|at_s| &several.all[loudest(at_s)]);
        let [early_t60_s, late_t60_s] = [early, late].map(|component| component.t60_s(lasting_s));
        let faster = early.decay_per_s.value - late.decay_per_s.value;
        let knee_s = (early.amplitude.norm() / late.amplitude.norm()).ln() / faster;
        let is_stage = |(early, late): &(Measured, Measured)| {
            late.value > BY_FAR * early.value && (0.0..lasting_s).contains(&knee_s)
        };
        match early_t60_s.zip(late_t60_s).filter(is_stage) {
            Some((early_t60_s, late_t60_s)) => {
                self.take_decay(Some(early_t60_s));
                self.late_t60_s = Some(late_t60_s.value);
                self.late_t60_s_u = Some(late_t60_s.u);
                self.knee_s = Some(start_s + knee_s);
            }
            None => self.take_decay(several.all[0].t60_s(lasting_s)),
        }
    }

    /// Two components of the same frequency, of which the first is the stronger: the stages of a
    /// decay.
    fn take_pair(
        &mut self,
        [strong, weak]: [&Component; 2],
        also_beats: bool,
        lasting_s: f64,
        start_s: f64,
    ) {
        // What dies away in opposite phase is an attack, not a stage.
        if (strong.amplitude * weak.amplitude.conj()).re < 0.0 {
            self.second_below_db = self.second_below_db.filter(|_| also_beats);
            self.take_decay(strong.t60_s(lasting_s));
            return;
        }
        let early_is_strong = strong.decay_per_s.value > weak.decay_per_s.value;
        let (early, late) = if early_is_strong { (strong, weak) } else { (weak, strong) };
        self.take_decay(early.t60_s(lasting_s));
        let late_t60_s = late.t60_s(lasting_s);
        if self.decay_t60_s.is_none() {
            self.take_decay(late_t60_s);
            self.second_below_db = self.second_below_db.filter(|_| also_beats);
            return;
        }
        self.late_t60_s = late_t60_s.map(|t| t.value);
        self.late_t60_s_u = late_t60_s.map(|t| t.u);
        let faster = early.decay_per_s.value - late.decay_per_s.value;
        let knee_s = (early.amplitude.norm() / late.amplitude.norm()).ln() / faster;
        if knee_s <= 0.0 && late_t60_s.is_some() {
            // What is never the louder one is no stage.
            self.take_decay(late_t60_s);
            (self.late_t60_s, self.late_t60_s_u) = (None, None);
        }
        self.knee_s = (knee_s > 0.0 && knee_s < lasting_s).then_some(start_s + knee_s);
    }
}

impl Several {
    /// What is given of each: its level is that at a time from the start of the envelope.
    fn figures(&self, at_s: f64, lasting_s: f64) -> Vec<PartialComponent> {
        let figures = |(n, component): (usize, &Component)| {
            let t60_s = component.t60_s(lasting_s);
            let from_strongest = (n > 0).then(|| self.above(n, 0));
            PartialComponent {
                frequency_hz: component.frequency_hz.value,
                frequency_hz_u: component.frequency_hz.u,
                hz_from_strongest: from_strongest.map(|hz| hz.value),
                hz_from_strongest_u: from_strongest.map(|hz| hz.u),
                level_db: 20.0 * component.at(at_s).log10(),
                decay_t60_s: t60_s.map(|t60| t60.value),
                decay_t60_s_u: t60_s.map(|t60| t60.u),
            }
        };
        self.all.iter().enumerate().map(figures).collect()
    }
}

/// The rate at which all partials beat, if it is the same.
pub(super) fn common_beat(partials: &[Partial]) -> Option<f64> {
    /// Beats of a unison grow with the number; four that are alike are no chance.
    const FEWEST: usize = 4;
    const ALIKE: f64 = 0.02;
    let rates_hz: Vec<f64> = partials.iter().filter_map(|partial| partial.beat_hz).collect();
    let middle_hz = median(rates_hz.iter().copied())?;
    let is_alike = |rate_hz: &&f64| (*rate_hz / middle_hz - 1.0).abs() < ALIKE;
    let alike = rates_hz.iter().filter(is_alike).count();
    (alike >= FEWEST && 4 * alike >= 3 * partials.len()).then_some(middle_hz)
}

/// Whether two components are but one that swells or fades other than exponentially: as strong as
/// each other, and together for less than it takes to hear them beat.
fn is_swell(several: &Several, lasting_s: f64) -> bool {
    const ALIKE: f64 = 0.8;
    /// Less than this has no second maximum to be seen.
    const TURNS_OF_A_BEAT: f64 = 0.75;
    several.pairs().any(|(a, b)| {
        let [of_a, of_b] = [a, b].map(|n| several.all[n].amplitude.norm());
        let is_alike = of_a.min(of_b) > ALIKE * of_a.max(of_b);
        is_alike && several.apart(a, b).value * lasting_s < TURNS_OF_A_BEAT
    })
}

/// The envelope of a partial.
pub(super) struct Fitted {
    envelope: Envelope,
    /// When its time begins, in seconds after the onset.
    start_s: f64,
}
