//! Decay and beating of each partial, from its envelope.

use super::assembly::{Assembly, Candidate, level_of};
use super::envelope::{Component, Course, Envelope, envelope};
use super::{C, Partial};
use crate::fit::{Line, median};
use crate::measured::Measured;

impl Assembly<'_> {
    /// The envelopes of the partials, from the bin of each in frames a quarter apart: unlike a
    /// reading a bin adds up what two components put there.
    pub(super) fn envelopes(&mut self, candidates: &[Candidate], wavers: bool) -> Vec<Fitted> {
        let (length, rate_hz) = (self.reader.length() as f64, self.stretch.rate_hz);
        let bins: Vec<i64> = candidates
            .iter()
            .map(|candidate| (candidate.mean_hz() / self.reader.bin_hz()).round() as i64)
            .collect();
        let step = (length / 4.0).max(1.0);
        let count = ((self.stretch.to - self.stretch.from) as f64 - length) / step;
        let mut values = vec![Vec::new(); candidates.len()];
        for n in 0..=count as usize {
            let start = (n as f64 * step).round();
            self.reader.take(self.stretch.sound, self.stretch.from as i64 + start as i64);
            let at_s = (start + length / 2.0) / rate_hz;
            let nearest = (at_s / self.hop_s).round() as usize;
            for ((values, candidate), bin) in values.iter_mut().zip(candidates).zip(&bins) {
                let is_alive = candidate.alive.get(nearest).copied().unwrap_or(false);
                values.push(is_alive.then(|| self.reader.envelope(*bin, start)));
            }
        }
        let start_s = length / 2.0 / rate_hz;
        if wavers {
            let other = |_: &Candidate| Fitted { envelope: Envelope::Other, start_s };
            return candidates.iter().map(other).collect();
        }
        let fitted = |(values, bin): (&Vec<Option<C>>, &i64)| {
            let mut envelope = envelope(&Course {
                values,
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
        values.iter().zip(&bins).map(fitted).collect()
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
        let alive = || candidate.points.iter().zip(&candidate.alive).filter(|(_, alive)| **alive);
        let weight: f64 = alive().flat_map(|(p, _)| p).map(|p| p.amplitude.powi(2)).sum();
        let mean_hz = candidate.mean_hz();
        let onset_s = self.onset_s();
        let time = |step: usize| onset_s + step as f64 * self.hop_s;
        let lasting_s = (last - first) as f64 * self.hop_s;
        let since = |step: usize| step as f64 * self.hop_s - fitted.start_s;
        let mut partial = Partial {
            number: candidate.number,
            frequency_hz: mean_hz,
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
            start_s: time(first),
            end_s: time(last),
        };
        let frequency = match &fitted.envelope {
            Envelope::One(one) => {
                partial.take_decay(one.t60_s(lasting_s));
                if candidate.alive[level_at.min(candidate.alive.len() - 1)] {
                    partial.level_db = 20.0 * one.at(since(level_at)).log10();
                }
                one.frequency_hz
            }
            Envelope::Two(both, apart) if !is_swell(both, *apart, lasting_s) => {
                partial.take_two(both, *apart, lasting_s, onset_s + fitted.start_s);
                both[0].frequency_hz
            }
            Envelope::Two(..) | Envelope::Other => {
                partial.take_decay(self.decay_of_level(candidate));
                let spread: f64 = alive()
                    .flat_map(|(p, _)| p)
                    .map(|p| (p.frequency_hz - mean_hz).powi(2) * p.amplitude.powi(2))
                    .sum::<f64>()
                    / weight;
                let independent = self.reader.independent_samples() / self.stretch.rate_hz;
                let count = (lasting_s / independent).max(1.0);
                Measured::new(mean_hz, (spread / count).sqrt())
            }
        };
        (partial.frequency_hz, partial.frequency_hz_u) = (frequency.value, frequency.u);
        Some((partial, frequency))
    }

    /// Decay of the level alone, where the phase says nothing: a straight line through ln A,
    /// weighted by power.
    fn decay_of_level(&self, candidate: &Candidate) -> Option<Measured> {
        let points: Vec<(f64, f64, f64)> = (candidate.points.iter().enumerate())
            .filter(|(step, _)| candidate.alive[*step] && candidate.after_s[*step].abs() < 1e-4)
            .filter_map(|(step, point)| {
                let a = (*point)?.amplitude;
                Some((step as f64 * self.hop_s, a.ln(), a * a))
            })
            .collect();
        let (first, last) = (points.first()?.0, points.last()?.0);
        let line = Line::through(points.iter().copied())?;
        let independent = self.reader.independent_samples() / self.stretch.rate_hz;
        let count = ((last - first) / independent).max(3.0);
        let slope_u = (line.left / line.square / (count - 2.0)).sqrt();
        let one = Component {
            frequency_hz: Measured::new(0.0, 0.0),
            decay_per_s: Measured::new(-line.slope, slope_u),
            amplitude: C::new(1.0, 0.0),
        };
        one.t60_s(last - first)
    }
}

impl Partial {
    fn take_decay(&mut self, t60_s: Option<Measured>) {
        self.decay_t60_s = t60_s.map(|t| t.value);
        self.decay_t60_s_u = t60_s.map(|t| t.u);
    }

    /// Two components: they beat where their frequencies are apart, and else decay in two stages.
    fn take_two(&mut self, both: &[Component; 2], apart: Measured, lasting_s: f64, start_s: f64) {
        /// Four uncertainties are exceeded by chance once in 16 000.
        const APART_U: f64 = 4.0;
        const LEAST_TURNS: f64 = 0.35;
        let [strong, weak] = both;
        let ratio = weak.amplitude.norm() / strong.amplitude.norm();
        self.second_below_db = Some(-20.0 * ratio.log10());
        if apart.value > APART_U * apart.u && apart.value * lasting_s > LEAST_TURNS {
            self.beat_hz = Some(apart.value);
            self.beat_hz_u = Some(apart.u);
            let ratio = ratio.min(1.0 / ratio).min(0.999);
            self.beat_depth_db = Some(20.0 * ((1.0 + ratio) / (1.0 - ratio)).log10());
            self.take_decay(strong.t60_s(lasting_s));
            return;
        }
        // What dies away in opposite phase is an attack, not a stage.
        if (strong.amplitude * weak.amplitude.conj()).re < 0.0 {
            self.second_below_db = None;
            self.take_decay(strong.t60_s(lasting_s));
            return;
        }
        let early_is_strong = strong.decay_per_s.value > weak.decay_per_s.value;
        let (early, late) = if early_is_strong { (strong, weak) } else { (weak, strong) };
        self.take_decay(early.t60_s(lasting_s));
        let late_t60_s = late.t60_s(lasting_s);
        if self.decay_t60_s.is_none() {
            self.take_decay(late_t60_s);
            self.second_below_db = None;
            return;
        }
        if late_t60_s.is_none() {
            // What is over at once, and neither beats nor is a stage, is no second component.
            self.second_below_db = None;
        }
        self.late_t60_s = late_t60_s.map(|t| t.value);
        self.late_t60_s_u = late_t60_s.map(|t| t.u);
        let faster = early.decay_per_s.value - late.decay_per_s.value;
        let knee_s = (early.amplitude.norm() / late.amplitude.norm()).ln() / faster;
        self.knee_s = (knee_s > 0.0 && knee_s < lasting_s).then_some(start_s + knee_s);
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
fn is_swell(both: &[Component; 2], apart: Measured, lasting_s: f64) -> bool {
    const ALIKE: f64 = 0.8;
    /// Less than this has no second maximum to be seen.
    const TURNS_OF_A_BEAT: f64 = 0.75;
    let [a, b] = both.each_ref().map(|component| component.amplitude.norm());
    a.min(b) > ALIKE * a.max(b) && apart.value * lasting_s < TURNS_OF_A_BEAT
}

/// The envelope of a partial.
pub(super) struct Fitted {
    envelope: Envelope,
    /// When its time begins, in seconds after the onset.
    start_s: f64,
}
