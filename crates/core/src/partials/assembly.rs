//! From what was followed to partials: their tracks, as far as they stand above the noise.

use super::decay::common_beat;
use super::entry::Entry;
use super::envelope::weights_in;
use super::harmonic::{Followed, Guide, Stretch};
use super::law::{StringLaw, string_law};
use super::reading::{self, FrameReader, LEAKAGE_STEPS};
use super::rest::Rest;
use super::resynthesis::Sum;
use super::{Partial, PartialTrack, Partials, PartialsSettings, TrackPoint};
use crate::finding::{Advice, Finding};
use crate::fit::Line;
use crate::measured::Measured;
use crate::units::cents_between;

/// Partials that scatter so far about the law of a string belong to none, in cents.
const NO_STRING_CENTS: f64 = 25.0;

/// Makes tracks and figures of what was followed.
pub(super) struct Assembly<'a> {
    pub(super) stretch: Stretch<'a>,
    pub(super) start_s: f64,
    pub(super) hop_s: f64,
    pub(super) reader: FrameReader,
    pub(super) settings: &'a PartialsSettings,
    /// When levels are given, in seconds from the start of the take; `None` for where all together are
    /// loudest.
    pub(super) level_at_s: Option<f64>,
    pub(super) findings: Vec<Finding>,
    /// The stretch without the sound of the partials that were taken out of it.
    pub(super) left: Vec<f32>,
    /// How the partials enter, in seconds after the onset.
    pub(super) entry: Option<Entry>,
}

/// A partial with its points over the whole stretch, those that stand out of the noise being
/// marked.
pub(super) struct Candidate {
    pub(super) number: usize,
    pub(super) points: Vec<Option<TrackPoint>>,
    /// How long after the middle of its frame each point is given.
    pub(super) after_s: Vec<f64>,
    pub(super) alive: Vec<bool>,
    /// Whether its sound between a point and the next was taken out of the stretch.
    pub(super) taken: Vec<bool>,
    /// As it was last looked for.
    pub(super) noise: NoiseFloor,
}

impl Assembly<'_> {
    pub(super) fn onset_s(&self) -> f64 {
        self.start_s + self.stretch.from as f64 / self.stretch.rate_hz
    }

    pub(super) fn assemble(mut self, followed: &[Followed], guide: Option<&Guide>) -> Partials {
        let mut candidates: Vec<Candidate> = followed.iter().map(candidate).collect();
        // What is read where nothing sounds takes noise away. Most of it is known at once and never
        // taken out; the rest is put back after the first look at what is left.
        for noise in [Noise::OfTheWhole, Noise::OfTheRest, Noise::OfTheRest] {
            self.mark_alive(&mut candidates, noise);
            self.take_out(&mut candidates);
        }
        candidates.retain(|candidate| candidate.alive.iter().any(|alive| *alive));
        self.entry = self.put_back_before_entry();
        let level_at = match self.level_at_s {
            Some(level_at_s) => ((level_at_s - self.onset_s()) / self.hop_s).round() as usize,
            None => self.loudest(&candidates),
        };
        let wavers = guide.is_some_and(|guide| guide.has_vibrato);
        let fitted = self.envelopes(&candidates, wavers);
        let mut measured: Vec<(Partial, Measured)> = (candidates.iter().zip(&fitted))
            .filter_map(|(candidate, fitted)| self.figures(candidate, fitted, level_at))
            .collect();
        let law = Some(&measured).filter(|_| guide.is_some()).and_then(|measured| {
            let all: Vec<(usize, Measured)> =
                measured.iter().map(|(partial, hz)| (partial.number, *hz)).collect();
            let law = string_law(&all)?;
            if law.scatter_cents < NO_STRING_CENTS {
                return Some(law);
            }
            self.findings.push(Finding::warning(
                "no_string",
                format!(
                    "The partials scatter by {:.0} cents about the stiff-string fit: this is no \
                     string, but a bar, a bell, or several \
                     notes. f0 is the frequency of the first partial found, divided by its number.",
                    law.scatter_cents
                ),
            ).advising(Advice::NoFundamental));
            string_law(&all[..1])
        });
        for (partial, _) in &mut measured {
            if let Some(law) = &law {
                let n = partial.number as f64;
                let cents = |place_hz| cents_between(place_hz, partial.frequency_hz);
                partial.cents_from_harmonic = Some(cents(n * law.f0_hz.value));
                partial.cents_from_law = Some(cents(law.place_hz(partial.number)));
                partial.on_law = !law.is_off(partial.number, partial.frequency_hz);
            }
        }
        let tracks: Vec<PartialTrack> = candidates.iter().flat_map(|c| self.tracks(c)).collect();
        self.result(law, measured, tracks, level_at)
    }

    fn result(
        mut self,
        law: Option<StringLaw>,
        measured: Vec<(Partial, Measured)>,
        tracks: Vec<PartialTrack>,
        level_at: usize,
    ) -> Partials {
        /// Partials up to this number that are off the law are worth a word.
        const LOW_NUMBER: usize = 4;
        let rate_hz = self.stretch.rate_hz;
        let partials: Vec<Partial> = measured.into_iter().map(|(partial, _)| partial).collect();
        if partials.is_empty() {
            self.findings.push(
                Finding::warning(
                    "no_partials",
                    "No partial in this span rises above the noise for long enough: the span is \
                 silent, or noise.",
                )
                .advising(Advice::ShorterTracks),
            );
        }
        let off: Vec<usize> = partials.iter().filter(|p| !p.on_law).map(|p| p.number).collect();
        // One of many, far up, is told by its row alone.
        let matters =
            off.len() > partials.len() / 10 || off.first().is_some_and(|n| *n <= LOW_NUMBER);
        if matters && !self.findings.iter().any(|finding| finding.code == "no_string") {
            let numbers: Vec<String> = off.iter().map(usize::to_string).collect();
            let one = off.len() == 1;
            let subject = if one { "Partial" } else { "Partials" };
            let (verb, counts) = if one { ("lies", "counts") } else { ("lie", "count") };
            self.findings.push(Finding::note(
                "off_law",
                format!(
                    "{subject} {} {verb} off the stiff-string fit of the others, and {counts} \
                     neither in F nor in B: what holds the string shifts single partials, and a \
                     longitudinal mode or hum may be mistaken for one.",
                    numbers.join(", ")
                ),
            ));
        }
        let is_string = |law: &StringLaw| partials.len() > 2 && law.inharmonicity.u.is_finite();
        let of_string = law.filter(is_string);
        if let Some(rate_hz) = common_beat(&partials) {
            self.findings.push(Finding::note(
                "same_beat",
                format!(
                    "All partials fluctuate at the same {rate_hz:.2} Hz: this is tremolo of one \
                     sound. Beats between two strings get \
                     faster with the partial number.",
                ),
            ));
        }
        let sound = &self.stretch.sound[self.stretch.from..self.stretch.to];
        Partials {
            start_s: self.onset_s(),
            end_s: self.start_s + self.stretch.to as f64 / rate_hz,
            f0_hz: law.map(|law| law.f0_hz),
            stiff_f_hz: law.map(|law| law.stiff_f_hz),
            inharmonicity: of_string.map(|law| law.inharmonicity),
            law_scatter_cents: of_string.map(|law| law.scatter_cents),
            level_at_s: self.onset_s() + level_at as f64 * self.hop_s,
            partials,
            other_tones: None,
            others_resolve_hz: None,
            tracks,
            full_scale_db: 0.0,
            entry: self.entry.map(|entry| entry.later(self.onset_s())),
            rest: Rest::of(sound, &self.left, rate_hz),
            frame_s: self.reader.length() as f64 / rate_hz,
            hop_s: self.hop_s,
            findings: self.findings,
        }
    }

    /// Takes the sound of all that is alive out of the stretch, and puts back what was taken but is
    /// not alive any more.
    fn take_out(&mut self, candidates: &mut [Candidate]) {
        let rate_hz = self.stretch.rate_hz;
        let sum = Sum { start: 0.0, hop: self.hop_s * rate_hz, rate_hz };
        let mut pieces = Vec::with_capacity(candidates.len());
        for step in 1..self.stretch.steps(self.hop_s) {
            pieces.clear();
            for candidate in &mut *candidates {
                let sounds = candidate.alive[step - 1] && candidate.alive[step];
                let ends = (candidate.points[step - 1], candidate.points[step]);
                let (true, (Some(from), Some(to))) = (candidate.taken[step] != sounds, ends) else {
                    continue;
                };
                candidate.taken[step] = sounds;
                pieces.push((from, to, if sounds { -1.0 } else { 1.0 }));
            }
            sum.add(&mut self.left, step - 1, &pieces);
        }
    }

    /// Finds how the partials enter, and puts back what was taken out of the stretch before they
    /// sound in full.
    fn put_back_before_entry(&mut self) -> Option<Entry> {
        /// Half a frame, which is read from the first whole one, and at least so long.
        const LEAST_S: f64 = 0.01;
        let rate_hz = self.stretch.rate_hz;
        let lasts = (LEAST_S * rate_hz).max(0.5 * self.reader.length() as f64) as usize;
        let sound = &self.stretch.sound[self.stretch.from..self.stretch.to];
        let sound = &sound[..lasts.min(sound.len() / 2)];
        let taken: Vec<f32> = sound.iter().zip(&self.left).map(|(all, left)| all - left).collect();
        let entry = Entry::of(sound, &taken, rate_hz)?;
        for (n, (left, taken)) in self.left.iter_mut().zip(taken).enumerate() {
            *left += (1.0 - entry.gain(n as f64 / rate_hz)) as f32 * taken;
        }
        Some(entry)
    }

    /// The step at which all partials together are loudest.
    fn loudest(&self, candidates: &[Candidate]) -> usize {
        let steps = candidates.iter().map(|c| c.points.len()).max().unwrap_or(0);
        let power = |step: usize| {
            let of = |c: &Candidate| {
                c.points[step].filter(|_| c.alive[step]).map_or(0.0, |p| p.amplitude.powi(2))
            };
            let gain = self.entry.map_or(1.0, |entry| entry.gain(step as f64 * self.hop_s));
            gain * gain * candidates.iter().map(of).sum::<f64>()
        };
        (0..steps)
            .map(|step| (step, power(step)))
            .fold((0, 0.0), |best, one| if one.1 > best.1 * 1.0001 { one } else { best })
            .0
    }

    /// Noise beside each partial over time, as the power of a bin: what is left when the sound of
    /// partials is taken away, in the bins to either side, by a running quarter: where a vibrato
    /// sweeps through a frame more is left than noise, but not at its turns.
    fn noise_floors(&mut self, candidates: &[Candidate], noise: Noise) -> Vec<NoiseFloor> {
        /// Slots as long as a frame are independent; of nine the lower quarter is the third.
        const SLOT_S: f64 = 0.02;
        const LEAST_SLOTS: usize = 9;
        const OVER_S: f64 = 0.25;
        /// Slots to either side of one for a mean.
        const NEAR: usize = 2;
        /// A quarter of such means of noise lies below this share of what is usual.
        const QUARTER: f64 = 0.63;
        // A knock falls faster than a quarter over so long shows: of the mean some is noise for sure.
        let (aside, of_mean): (&[i64], f64) = match noise {
            Noise::OfTheWhole => (&[-2, 2], 0.0),
            Noise::OfTheRest => (&[-3, -2, 2, 3], 0.25),
        };
        let stretch = &self.stretch;
        let count = stretch.to - stretch.from;
        let hop = self.hop_s * stretch.rate_hz;
        let slot = (self.reader.length() / 2).max((SLOT_S * stretch.rate_hz) as usize);
        let slots = (count.saturating_sub(self.reader.length()) / slot).max(1);
        let half_frame = 0.5 * self.reader.length() as f64 / hop;
        let mut floors: Vec<Vec<f64>> = vec![Vec::with_capacity(slots); candidates.len()];
        let leakage = self.reader.leakage();
        // Of each partial the bin that it is in, and its power as far as it has not been taken out.
        let mut here: Vec<Option<(f64, f64)>> = Vec::with_capacity(candidates.len());
        for n in 0..slots {
            self.reader.take(&self.left, (n * slot) as i64);
            let step = ((n * slot) as f64 / hop + half_frame) as usize;
            here.clear();
            here.extend(candidates.iter().map(|candidate| {
                let point = nearest(&candidate.points, step)?;
                let is_in_it = matches!(noise, Noise::OfTheWhole);
                let power = if is_in_it { point.amplitude.powi(2) } else { 0.0 };
                Some((point.frequency_hz / self.reader.bin_hz(), power))
            }));
            for (n, floor) in floors.iter_mut().enumerate() {
                let Some((place, _)) = here[n] else {
                    floor.push(0.0);
                    continue;
                };
                // What itself and those beside it bring into a bin is no noise.
                let near = &here[n.saturating_sub(1)..(n + 2).min(here.len())];
                let of_noise = |aside: &i64| {
                    let k = place.round() as i64 + aside;
                    let known = near.iter().flatten().map(|(place, power)| {
                        let away = (place - k as f64).abs() * LEAKAGE_STEPS;
                        power * leakage.get(away as usize).copied().unwrap_or(0.0)
                    });
                    (self.reader.power(k) - known.sum::<f64>()).max(0.0)
                };
                floor.push(aside.iter().map(of_noise).sum::<f64>() / aside.len() as f64);
            }
        }
        let smooth = |floor: Vec<f64>| {
            let slots = (OVER_S * stretch.rate_hz / slot as f64) as usize;
            let quarters = running_quarters(&floor, slots.max(LEAST_SLOTS) / 2);
            let mean = |n: usize| {
                let near = &floor[n.saturating_sub(NEAR)..(n + NEAR + 1).min(floor.len())];
                near.iter().sum::<f64>() / near.len() as f64
            };
            let means: Vec<f64> = (0..floor.len()).map(mean).collect();
            let surely = |(quarter, mean): (f64, &f64)| (quarter / QUARTER).max(of_mean * mean);
            NoiseFloor {
                powers: quarters.into_iter().zip(&means).map(surely).collect(),
                means,
                slot_steps: slot as f64 / hop,
                first_step: half_frame,
            }
        };
        floors.into_iter().map(smooth).collect()
    }

    /// Marks where partials stand out of the noise.
    fn mark_alive(&mut self, candidates: &mut [Candidate], noise: Noise) {
        let floors = self.noise_floors(candidates, noise);
        for (candidate, floor) in candidates.iter_mut().zip(floors) {
            self.mark_one_alive(candidate, &floor, noise);
            candidate.noise = floor;
        }
    }

    /// Marks where a partial stands out of the noise, with hysteresis; gaps of a beat are bridged,
    /// and what is shorter than a track may be is left out.
    fn mark_one_alive(&self, candidate: &mut Candidate, floor: &NoiseFloor, noise: Noise) {
        const BEGINS: f64 = 12.0;
        /// What comes back after it has died away is seldom more than noise.
        const BEGINS_AGAIN: f64 = 30.0;
        const GOES_ON: f64 = 5.0;
        const GAP_FRAMES: f64 = 2.0;
        let full = 1.0 / self.reader.amplitude_variance() / 2.0;
        let frame_s = self.reader.length() as f64 / self.stretch.rate_hz;
        let around = ((0.25 * frame_s / self.hop_s).round() as usize).max(1);
        let ratios: Vec<f64> = (candidate.points.iter().enumerate())
            .map(|(step, point)| {
                let power = point.map_or(0.0, |p| p.amplitude * p.amplitude * full);
                power / floor.at(step).max(1e-300)
            })
            .collect();
        let mut sums = vec![0.0];
        for ratio in &ratios {
            sums.push(sums[sums.len() - 1] + ratio.min(1e12));
        }
        let mean = |step: usize| {
            let (from, to) = (step.saturating_sub(around), (step + around + 1).min(ratios.len()));
            (sums[to] - sums[from]) / (to - from) as f64
        };
        let mut alive: Vec<bool> = Vec::with_capacity(ratios.len());
        let (first, again) = match noise {
            // Where partials themselves are taken for noise none is lost.
            Noise::OfTheWhole => (GOES_ON, GOES_ON),
            Noise::OfTheRest => (BEGINS, BEGINS_AGAIN),
        };
        let (mut is_on, mut begins) = (false, first);
        for (step, point) in candidate.points.iter().enumerate() {
            is_on = point.is_some() && mean(step) > if is_on { GOES_ON } else { begins };
            begins = if is_on { again } else { begins };
            alive.push(is_on);
        }
        // Backwards as well: it began before it stood out clearly.
        is_on = false;
        for step in (0..alive.len()).rev() {
            let goes_on = candidate.points[step].is_some() && mean(step) > GOES_ON;
            is_on = alive[step] || (is_on && goes_on);
            alive[step] = is_on;
        }
        let gap = (GAP_FRAMES * frame_s / self.hop_s) as usize;
        let dead: Vec<(usize, usize)> = runs(alive.iter().map(|alive| !alive)).collect();
        for (from, to) in dead {
            let is_inside = from > 0 && to < alive.len();
            let is_whole = candidate.points[from..to].iter().all(Option::is_some);
            if is_inside && is_whole && to - from <= gap {
                alive[from..to].fill(true);
            }
        }
        let least = (self.settings.shortest_s.max(frame_s) / self.hop_s) as usize;
        let short: Vec<(usize, usize)> =
            runs(alive.iter().copied()).filter(|(from, to)| to - from < least).collect();
        for (from, to) in short {
            alive[from..to].fill(false);
        }
        candidate.alive = alive;
    }

    fn tracks(&self, candidate: &Candidate) -> Vec<PartialTrack> {
        let track = |(from, to): (usize, usize)| PartialTrack {
            number: candidate.number,
            start_s: self.onset_s() + from as f64 * self.hop_s,
            hop_s: self.hop_s,
            points: candidate.points[from..to].iter().flatten().copied().collect(),
        };
        runs(candidate.alive.iter().copied()).map(track).collect()
    }
}

impl Candidate {
    /// Its frequency where it is heard, each reading counting by its power over the noise there.
    pub(super) fn mean(&self) -> Mean {
        let heard: Vec<(TrackPoint, f64)> = (self.points.iter().zip(&self.alive).enumerate())
            .filter(|(_, (_, alive))| **alive)
            .filter_map(|(step, (point, _))| Some(((*point)?, self.noise.mean_at(step))))
            .collect();
        let noise: Vec<f64> = heard.iter().map(|(_, noise)| *noise).collect();
        let weights: Vec<f64> = (heard.iter().zip(weights_in(&noise)))
            .map(|((point, _), weight)| (weight * point.amplitude).powi(2))
            .collect();
        let sum: f64 = weights.iter().sum();
        let mean = |of: &dyn Fn(&TrackPoint, f64) -> f64| {
            let values = heard.iter().zip(&weights);
            values.map(|((point, noise), weight)| weight * of(point, *noise)).sum::<f64>() / sum
        };
        let hz = mean(&|point, _| point.frequency_hz);
        Mean {
            hz,
            spread: mean(&|point, _| (point.frequency_hz - hz).powi(2)),
            noise: mean(&|point, noise| noise / point.amplitude.powi(2)),
        }
    }
}

/// Of the readings of a partial: the mean frequency in Hz, its variance in Hz², and the mean noise
/// as the power of a bin over their squared amplitude.
pub(super) struct Mean {
    pub(super) hz: f64,
    pub(super) spread: f64,
    pub(super) noise: f64,
}

/// Where noise is looked for: in the sound with all its partials, between which there is little
/// room, or in what they leave. The first shows where nothing sounds for sure, which saves taking
/// it out, and the second where something does.
#[derive(Clone, Copy)]
enum Noise {
    OfTheWhole,
    OfTheRest,
}

/// The noise beside a partial, as the power of a bin, over time.
#[derive(Default)]
pub(super) struct NoiseFloor {
    /// What is there for sure: the running quarter of what is left beside it.
    powers: Vec<f64>,
    /// The running mean, over less time.
    means: Vec<f64>,
    slot_steps: f64,
    /// The step in the middle of the first frame.
    first_step: f64,
}

impl NoiseFloor {
    fn at(&self, step: usize) -> f64 {
        self.powers[self.slot(step)]
    }

    /// Its mean about a step.
    pub(super) fn mean_at(&self, step: usize) -> f64 {
        self.means[self.slot(step)]
    }

    fn slot(&self, step: usize) -> usize {
        // The nearest; rounding by name is no single instruction on every processor.
        let slot = ((step as f64 - self.first_step) / self.slot_steps + 0.5).max(0.0) as usize;
        slot.min(self.powers.len() - 1)
    }
}

fn candidate(followed: &Followed) -> Candidate {
    let point = |(reading, after): &(reading::Reading, f64)| {
        let amplitude = reading.after(*after);
        TrackPoint {
            frequency_hz: reading.frequency_hz,
            // Far from the limits of numbers, and quicker than guarding against them.
            amplitude: amplitude.norm_sqr().sqrt(),
            phase_rad: amplitude.arg(),
        }
    };
    let readings = &followed.readings;
    Candidate {
        number: followed.place.number,
        points: readings.iter().map(|reading| reading.as_ref().map(point)).collect(),
        after_s: readings.iter().map(|r| r.map_or(f64::INFINITY, |(_, after)| after)).collect(),
        alive: vec![false; readings.len()],
        taken: vec![false; readings.len()],
        noise: NoiseFloor::default(),
    }
}

/// Level of a partial at a step in dB, by a straight line through the nearest points that are
/// heard; where none is near, at the first or last that is.
pub(super) fn level_of(candidate: &Candidate, step: usize) -> f64 {
    /// Two to either side: a line through them takes out an even fall.
    const NEAREST: usize = 5;
    let points = &candidate.points;
    let level_db = |n: usize| {
        let point = points.get(n).copied().flatten().filter(|_| candidate.alive[n])?;
        Some((n as f64 - step as f64, point.level_db()))
    };
    let outwards = (0..=step.max(points.len())).flat_map(|away| {
        let after = (away > 0).then_some(step + away);
        [step.checked_sub(away), after].into_iter().flatten()
    });
    let heard: Vec<(f64, f64)> = outwards.filter_map(level_db).take(NEAREST).collect();
    let (place, alone) = heard.first().copied().unwrap_or((0.0, f64::NAN));
    Line::of_equals(heard.iter().copied()).map_or(alone, |line| line.at(place))
}

/// Of each value and those within a reach of it the one that a quarter lies below.
fn running_quarters(values: &[f64], reach: usize) -> Vec<f64> {
    let place = |sorted: &[f64], value: f64| sorted.partition_point(|other| *other < value);
    let mut sorted: Vec<f64> = Vec::with_capacity(2 * reach + 2);
    let take_in = |sorted: &mut Vec<f64>, value: f64| sorted.insert(place(sorted, value), value);
    values.iter().take(reach).for_each(|value| take_in(&mut sorted, *value));
    let quarter = |n: usize| {
        if let Some(value) = values.get(n + reach) {
            take_in(&mut sorted, *value);
        }
        if let Some(before) = n.checked_sub(reach + 1) {
            sorted.remove(place(&sorted, values[before]));
        }
        sorted[sorted.len() / 4]
    };
    (0..values.len()).map(quarter).collect()
}

fn nearest(points: &[Option<TrackPoint>], step: usize) -> Option<TrackPoint> {
    let step = step.min(points.len().checked_sub(1)?);
    (0..points.len()).find_map(|away| {
        let before = step.checked_sub(away).and_then(|n| points[n]);
        before.or_else(|| points.get(step + away).copied().flatten())
    })
}

/// Runs of true: first place, and the one after the last.
fn runs(values: impl Iterator<Item = bool>) -> impl Iterator<Item = (usize, usize)> {
    let mut runs = Vec::new();
    let mut start = None;
    let mut count = 0;
    for (n, value) in values.enumerate() {
        count = n + 1;
        match (value, start) {
            (true, None) => start = Some(n),
            (false, Some(from)) => {
                runs.push((from, n));
                start = None;
            }
            _ => (),
        }
    }
    runs.extend(start.map(|from| (from, count)));
    runs.into_iter()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn levels_are_those_of_the_nearest_points_that_are_heard() {
        // A decibel less from each point to the next.
        let fall = |n: usize| TrackPoint {
            frequency_hz: 100.0,
            amplitude: 10f64.powf(-(n as f64) / 20.0),
            phase_rad: 0.0,
        };
        let heard_at = |heard: &dyn Fn(usize) -> bool| Candidate {
            number: 1,
            points: (0..20).map(|n| (n != 7).then(|| fall(n))).collect(),
            after_s: vec![0.0; 20],
            alive: (0..20).map(heard).collect(),
            taken: vec![false; 20],
            noise: NoiseFloor::default(),
        };
        let every_third = heard_at(&|n| n % 3 == 1);
        for (step, nearest) in [(0, 1), (4, 4), (8, 10), (19, 19), (40, 19)] {
            let level_db = level_of(&every_third, step);
            assert!((level_db + f64::from(nearest)).abs() < 1e-9, "{step}: {level_db}");
        }
        // What is far does not bend the line: only the five nearest are looked at.
        let mut bent = heard_at(&|_| true);
        bent.points[..10].fill(Some(fall(60)));
        assert!((level_of(&bent, 15) + 15.0).abs() < 1e-9);
        assert!((level_of(&heard_at(&|n| n == 3), 11) + 3.0).abs() < 1e-9);
        assert!(level_of(&heard_at(&|_| false), 11).is_nan());
    }

    #[test]
    fn running_quarters_are_those_of_what_is_around() {
        let values: Vec<f64> = (0..200).map(|n| f64::from((n * n * 31 + 7) % 97)).collect();
        for (count, reach) in [(200, 4), (200, 12), (9, 4), (3, 12), (1, 4), (0, 4)] {
            let values = &values[..count];
            let found = running_quarters(values, reach);
            assert_eq!(found.len(), count);
            for (n, quarter) in found.iter().enumerate() {
                let mut around =
                    values[n.saturating_sub(reach)..(n + reach + 1).min(count)].to_vec();
                around.sort_by(f64::total_cmp);
                assert_eq!(*quarter, around[around.len() / 4], "{n} of {count}, {reach}");
            }
        }
    }
}
