//! What a frame says about its fundamental: how well each harmonic series accounts for its tones,
//! and how periodic the sound is.

use pulp::{Arch, Simd, WithSimd};
use rustfft::num_complex::Complex;

use super::correlation::{Correlator, periodicity};
use super::levels::{Level, Levels, USED_SHARE};
use super::noise_floor::NoiseFloor;
use super::series_fit::{SeriesFit, Tone};
use crate::lanes::{dot, greatest, sum};
use crate::stiffness::stiff_ratio;
use crate::transform::RealTransform;

/// Terms of the window, a Blackman: side lobes lie below -58 dB.
const WINDOW: [f32; 3] = [0.42, 0.5, 0.08];
/// A tone stands out of the noise by this ratio of powers.
const LEAST_RATIO: f64 = 5.0;
/// What is looked for in many places is found by chance somewhere: so many nats of each tone are no
/// evidence.
const BY_CHANCE: f64 = 3.0;
/// Beyond this, standing out further is no further evidence, in nats.
const MOST_EVIDENCE: f64 = 30.0;
/// Tones weaker than the strongest by so much are not taken for tones: side lobes are; in dB.
const WEAKEST_DB: f32 = 52.0;
/// A tone counts in full down to so far below the strongest, in dB, and at least by this share.
const IN_FULL_DB: f64 = 12.0;
const LEAST_WEIGHT: f64 = 0.2;
/// Harmonics that are looked for.
const HIGHEST_NUMBER: usize = 20;
/// Numbers that a tone may have in the series it proposes: one of the three strongest, and a weaker
/// one.
const HIGHEST_PROPOSED: usize = 8;
const HIGHEST_OF_WEAKER: usize = 4;
/// Tones that propose series, the strongest.
const PROPOSERS: usize = 7;
/// A harmonic lies within so many bins of its place, or within this share of its frequency.
const REACH_BINS: f64 = 0.5;
const REACH_SHARE: f64 = 0.006;
/// What a missing harmonic takes away, as a share of the mean evidence of those that are there:
/// between others, and below the lowest.
const COST_BETWEEN: f64 = 0.25;
const COST_BELOW: f64 = 0.12;
/// A series whose tones are all multiples of the same number, but for this share of what speaks for
/// them, has a fundamental that nothing of its own speaks for: that share is taken away.
const OWN_SHARE: f64 = 0.15;
const COST_OF_NOTHING_OWN: f64 = 0.3;
/// What a tone takes away that the series leaves out, as a share of its own evidence.
const COST_LEFT_OUT: f64 = 0.5;
/// Tones below this share of a fundamental are not of its series or of one it is a multiple of.
const FAR_BELOW: f64 = 0.3;
/// By so many bins the side lobes of a tone as strong move the frequency of another.
const BENT_BINS: f64 = 0.003;
/// Correlation with itself one period later below which a sound is not periodic, and from which on
/// it is.
const NOT_PERIODIC: f64 = 0.1;
const PERIODIC: f64 = 0.4;
/// Of each level, so many candidates are checked for periodicity, if they have this share of the
/// best evidence of all.
const CHECKED: usize = 3;
const WORTH_CHECKING: f64 = 0.12;
/// Candidates that are kept of a frame.
pub(super) const KEPT: usize = 5;
/// Candidates nearer than this are one, as a share of their frequency: 40 cents.
const SAME_SHARE: f64 = 0.0234;
/// A shorter frame is taken for its reading if it brings this share of the evidence of a longer
/// one.
const ENOUGH: f64 = 0.4;
/// A frame so far below full scale holds nothing: power of a sample.
const SILENT: f64 = 1e-13;
/// Power that the filters leave of what lies above a level.
const FOLDED: f64 = 3e-8;

/// A reading of the fundamental of a frame.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Candidate {
    /// Frequency of the first partial in Hz, F·√(1 + B).
    pub f0_hz: f64,
    /// Its standard uncertainty in Hz.
    pub f0_hz_u: f64,
    /// Stiffness B of the series.
    pub inharmonicity: f64,
    /// Stiffness that the series was followed with, whether or not it stands out of its
    /// uncertainty.
    pub stretch: f64,
    /// What speaks for it, in nats.
    pub evidence: f64,
    /// Correlation of the sound with itself one period later, from −1 to 1.
    pub periodicity: f64,
    /// Share of the power of the tones that lies on the series.
    pub explained: f64,
    /// Share of what speaks for the tones that lies on the series: weak tones count nearly as
    /// strong ones.
    pub tones_explained: f64,
    /// Number of the strongest tone on the series.
    pub strongest: usize,
    /// Numbers of the tones on the series, one bit each: bit n − 1 for harmonic n.
    pub harmonics: u32,
    /// Power of the frame that it was read from.
    pub(super) power: f64,
    /// How long that lasts, in seconds.
    pub frame_s: f64,
}

impl Candidate {
    /// Where its harmonic of a number lies, in Hz.
    #[must_use]
    pub fn harmonic_hz(&self, number: usize) -> f64 {
        self.f0_hz * stiff_ratio(number, self.inharmonicity)
    }

    /// What lies on a share of the way to a reading of the same fundamental at another time.
    fn on_the_way_to(&self, other: &Self, share: f64) -> Self {
        let between = |a: f64, b: f64| a + share * (b - a);
        Self {
            f0_hz: between(self.f0_hz, other.f0_hz),
            f0_hz_u: between(self.f0_hz_u, other.f0_hz_u),
            inharmonicity: between(self.inharmonicity, other.inharmonicity),
            stretch: between(self.stretch, other.stretch),
            evidence: between(self.evidence, other.evidence),
            ..*self
        }
    }

    fn is_same(&self, other: &Self) -> bool {
        (self.f0_hz - other.f0_hz).abs() < SAME_SHARE * self.f0_hz.min(other.f0_hz)
    }
}

/// The tones of a frame at one level, found by bin.
#[derive(Debug, Clone, Default)]
struct Tones {
    /// In the order of their frequencies.
    all: Vec<Tone>,
    /// What speaks for the tones before each, added up, and the power of all.
    evidence_before: Vec<f64>,
    power: f64,
    /// For each bin the tone that is nearest, as far as one lies within two bins.
    near: Vec<Option<u16>>,
    bin_hz: f64,
}

/// A series of which a tone is the nth.
#[derive(Debug, Clone, Copy)]
struct Proposal {
    tone: Tone,
    number: usize,
    spacing_hz: f64,
}

/// What a level shows at two frames of a track, with those between them left out.
#[derive(Debug, Clone, Default)]
struct Stride {
    before: Vec<Candidate>,
    after: Option<Vec<Candidate>>,
}

impl Stride {
    /// What it shows on a share of the way: what is there at both ends moves from one to the other, and
    /// the rest is as at the nearer end.
    fn at(&self, share: f64) -> impl Iterator<Item = Candidate> {
        /// A fundamental moves by this share of itself at most: a tone.
        const MOVES: f64 = 0.12;
        let after = self.after.as_deref().unwrap_or_default();
        let is_late = share > 0.5;
        let (near, far) = if is_late { (after, &*self.before) } else { (&*self.before, after) };
        let to_far = if is_late { 1.0 - share } else { share };
        near.iter().map(move |candidate| {
            let away = |other: &&Candidate| (other.f0_hz / candidate.f0_hz - 1.0).abs();
            let nearest = far.iter().min_by(|a, b| away(a).total_cmp(&away(b)));
            let other = nearest.filter(|other| away(other) < MOVES);
            other.map_or(*candidate, |other| candidate.on_the_way_to(other, to_far))
        })
    }
}

/// The powers of the bins of a frame, and the noise between them.
struct Powers<'a> {
    x: &'a [Complex<f32>],
    power: &'a mut [f32],
    floor: &'a mut NoiseFloor,
}

impl WithSimd for Powers<'_> {
    /// The greatest.
    type Output = f32;

    #[inline(always)]
    fn with_simd<S: Simd>(self, _: S) -> f32 {
        for (x, power) in self.x.windows(5).zip(&mut self.power[2..]) {
            *power = windowed(x).norm_sqr();
        }
        // No fundamental lies so low in a frame: what is there is taken as its neighbour.
        let lowest = self.power[2];
        self.power[..2].fill(lowest);
        self.floor.set(self.power);
        greatest(self.power)
    }
}

/// Reads frames. Keeps its buffers.
pub(super) struct FrameReader {
    transform: RealTransform<f32>,
    frame: Vec<f32>,
    power: Vec<f32>,
    floor: NoiseFloor,
    correlators: Vec<Correlator>,
    tones: Tones,
    strongest: Vec<Tone>,
    proposals: Vec<Proposal>,
    /// Their spacings in Hz.
    proposed_hz: Vec<f64>,
    /// What was found in the levels, with the number of its level.
    found: Vec<(usize, Candidate)>,
    /// Of each level of a track.
    strides: Vec<Stride>,
}

impl FrameReader {
    pub(super) fn new(frame: usize) -> Self {
        Self {
            transform: RealTransform::new(frame),
            frame: vec![0.0; frame],
            power: vec![0.0; frame / 2 + 1],
            floor: NoiseFloor::new(used_bins(frame) + 1),
            correlators: Vec::new(),
            tones: Tones::default(),
            strongest: Vec::with_capacity(PROPOSERS),
            proposals: Vec::new(),
            proposed_hz: Vec::new(),
            found: Vec::new(),
            strides: Vec::new(),
        }
    }

    /// The best readings of the frames centred on a time, the best first.
    pub(super) fn read_at(&mut self, levels: &Levels, time_s: f64) -> Vec<Candidate> {
        self.found.clear();
        for n in 0..levels.all.len() {
            let of_level = self.read_level(levels, n, time_s);
            self.found.extend(of_level.into_iter().map(|candidate| (n, candidate)));
        }
        self.best(levels, time_s)
    }

    /// The best readings at a frame of a track, the best first; frames follow one another. What is
    /// long changes little from one to the next and is read seldom: what it shows in between lies
    /// between.
    pub(super) fn read_next(&mut self, levels: &Levels, number: u64, hop_s: f64) -> Vec<Candidate> {
        self.found.clear();
        self.strides.resize_with(levels.all.len(), Stride::default);
        let time_s = |number: u64| number as f64 * hop_s;
        for n in 0..levels.all.len() {
            let stride = levels.stride(n, hop_s);
            let done = number % stride;
            let mut ends = std::mem::take(&mut self.strides[n]);
            if done == 0 {
                let begun = ends.after.take();
                ends.before = begun.unwrap_or_else(|| self.read_level(levels, n, time_s(number)));
            } else if ends.after.is_none() {
                ends.after = Some(self.read_level(levels, n, time_s(number - done + stride)));
            }
            let of_level = ends.at(done as f64 / stride as f64);
            self.found.extend(of_level.map(|candidate| (n, candidate)));
            self.strides[n] = ends;
        }
        self.best(levels, time_s(number))
    }

    /// The best of what was found in the levels at a time, the best first.
    fn best(&mut self, levels: &Levels, time_s: f64) -> Vec<Candidate> {
        self.check_periodicity(levels, time_s);
        let mut best: Vec<Candidate> = self.found.iter().map(|(_, candidate)| *candidate).collect();
        best.sort_by(|a, b| b.evidence.total_cmp(&a.evidence));
        let mut kept: Vec<Candidate> = Vec::with_capacity(KEPT);
        for candidate in best {
            let is_same = |known: &&mut Candidate| known.is_same(&candidate);
            let has_room = candidate.evidence > 0.0 && kept.len() < KEPT;
            match kept.iter_mut().find(is_same) {
                // Long frames bring more evidence, the shortest follow what moves.
                Some(known) => {
                    let is_enough = candidate.evidence > ENOUGH * known.evidence;
                    if candidate.frame_s < known.frame_s && is_enough {
                        *known = Candidate { evidence: known.evidence, ..candidate };
                    }
                }
                None if has_room => kept.push(candidate),
                None => (),
            }
        }
        kept
    }

    /// The best series in the frame of a level, the best first, each in a place of its own.
    fn read_level(&mut self, levels: &Levels, number: usize, time_s: f64) -> Vec<Candidate> {
        let mut found: Vec<Candidate> = Vec::new();
        let level = &levels.all[number];
        let Some(range_hz) = level.range_hz else { return found };
        level.frame(time_s, &mut self.frame);
        subtract_mean(&mut self.frame);
        let power = f64::from(dot(&self.frame, &self.frame)) / self.frame.len() as f64;
        if power < SILENT {
            return found;
        }
        self.transform_frame(level.rate_hz);
        // Tones so far below the whole sound have been folded into the level by the filter.
        let strongest = self.tones.all.iter().fold(0.0, |most: f64, tone| most.max(tone.power));
        let whole = levels.all[0].power(time_s, levels.frame);
        if 0.5 * strongest < FOLDED * whole * self.full_scale() {
            return found;
        }
        self.propose(range_hz);
        for n in 0..self.proposals.len() {
            let least = found.get(CHECKED - 1).map_or(0.0, |last| last.evidence);
            let Some(candidate) = self.series(self.proposals[n], range_hz, power, least) else {
                continue;
            };
            match found.iter().position(|known| known.is_same(&candidate)) {
                Some(known) if found[known].evidence >= candidate.evidence => continue,
                Some(known) => drop(found.remove(known)),
                None => found.truncate(CHECKED - 1),
            }
            let place = found.partition_point(|known| known.evidence >= candidate.evidence);
            found.insert(place, candidate);
        }
        found
    }

    /// Lets what was found keep as much of its evidence as the sound is periodic. What falls too
    /// far behind is dropped unchecked: being checked can only weaken it.
    fn check_periodicity(&mut self, levels: &Levels, time_s: f64) {
        self.found.sort_by(|(_, a), (_, b)| b.evidence.total_cmp(&a.evidence));
        let (mut best, mut checked) = (0.0f64, 0);
        self.correlators.resize_with(levels.all.len(), Correlator::default);
        for correlator in &mut self.correlators {
            correlator.clear();
        }
        while let Some((number, candidate)) = self.found.get_mut(checked) {
            if candidate.evidence < WORTH_CHECKING * best {
                break;
            }
            let level = &levels.all[*number];
            let correlator = &mut self.correlators[*number];
            if correlator.is_empty() {
                level.frame(time_s, &mut self.frame);
                correlator.set(&self.frame);
            }
            candidate.periodicity = periodicity(correlator, level.rate_hz / candidate.f0_hz);
            let share = (candidate.periodicity - NOT_PERIODIC) / (PERIODIC - NOT_PERIODIC);
            candidate.evidence *= share.clamp(0.0, 1.0);
            best = best.max(candidate.evidence);
            checked += 1;
        }
        self.found.truncate(checked);
    }

    /// The power of the bins of a frame and of the noise in them, as far as a level is used.
    pub(super) fn spectrum(&mut self, level: &Level, time_s: f64) -> (Vec<f64>, Vec<f64>) {
        level.frame(time_s, &mut self.frame);
        self.transform_frame(level.rate_hz);
        let used = self.tones.near.len();
        let power = self.power[..used].iter().map(|power| f64::from(*power));
        (power.collect(), (0..used).map(|k| self.floor.at(k)).collect())
    }

    /// Power of the bin of a full-scale sine in its middle.
    pub(super) fn full_scale(&self) -> f64 {
        (0.5 * f64::from(WINDOW[0]) * self.frame.len() as f64).powi(2)
    }

    /// The windowed spectrum, its noise floor and its tones.
    fn transform_frame(&mut self, rate_hz: f64) {
        let used = used_bins(self.frame.len());
        let x = self.transform.forward(&mut self.frame);
        let (power, floor) = (&mut self.power, &mut self.floor);
        let strongest = Arch::new().dispatch(Powers { x, power: &mut power[..=used], floor });
        self.find_tones(rate_hz, used, strongest);
        self.add_up_tones();
    }

    fn find_tones(&mut self, rate_hz: f64, used: usize, strongest: f32) {
        let bin_hz = rate_hz / self.transform.length() as f64;
        let (power, tones) = (&self.power, &mut self.tones);
        tones.bin_hz = bin_hz;
        tones.all.clear();
        tones.near.clear();
        tones.near.resize(used + 1, None);
        let weakest = strongest * 10f32.powf(-WEAKEST_DB / 10.0);
        let mut last_bins = f64::NEG_INFINITY;
        for k in 3..used {
            let here = power[k];
            // Which of the three holds is hard to foretell: one branch for all.
            if here <= power[k - 1].max(power[k + 1]).max(weakest) {
                continue;
            }
            let here = f64::from(here);
            if here < LEAST_RATIO * self.floor.at_least(k) {
                continue;
            }
            let ratio = here / self.floor.at(k);
            if ratio < LEAST_RATIO {
                continue;
            }
            let around = &self.transform.output()[k - 2..k + 3];
            let shift = (sloped(around) * windowed(around).conj()).im / power[k];
            let shift_bins = f64::from(-shift).clamp(-1.0, 1.0);
            let below = f64::from(strongest) / here;
            let below_db = 10.0 * f64::from((below as f32).log10());
            let loud = (f64::from(WEAKEST_DB) - below_db) / (f64::from(WEAKEST_DB) - IN_FULL_DB);
            let weight = LEAST_WEIGHT + (1.0 - LEAST_WEIGHT) * loud.min(1.0);
            let number = tones.all.len() as u16;
            tones.all.push(Tone {
                frequency_hz: (k as f64 + shift_bins) * bin_hz,
                power: here,
                variance: tone_variance(ratio, bin_hz),
                of_others: (BENT_BINS * bin_hz).powi(2) * below,
                evidence: (ratio - BY_CHANCE).min(MOST_EVIDENCE) * weight,
            });
            // Tones are two bins apart at least: only the one before can be nearer to what is below.
            let halfway = 0.5 * (last_bins + k as f64);
            let first = (k - 2).max((halfway as usize + 1).min(k));
            tones.near[first..=(k + 2).min(used)].fill(Some(number));
            last_bins = k as f64 + shift_bins;
        }
    }

    /// Adds up what every series asks for.
    fn add_up_tones(&mut self) {
        let tones = &mut self.tones;
        tones.power = tones.all.iter().map(|tone| tone.power).sum();
        tones.evidence_before.clear();
        tones.evidence_before.push(0.0);
        let mut sum = 0.0;
        for tone in &tones.all {
            sum += tone.evidence;
            tones.evidence_before.push(sum);
        }
    }

    /// Fundamentals in the range that the strongest tones are harmonics of.
    fn propose(&mut self, range_hz: (f64, f64)) {
        self.proposals.clear();
        self.proposed_hz.clear();
        let mut strongest = std::mem::take(&mut self.strongest);
        strongest.clear();
        for tone in &self.tones.all {
            let rank = strongest.partition_point(|other: &Tone| other.power >= tone.power);
            if rank < PROPOSERS {
                strongest.truncate(PROPOSERS - 1);
                strongest.insert(rank, *tone);
            }
        }
        for (rank, tone) in strongest.iter().copied().enumerate() {
            let highest = if rank < 3 { HIGHEST_PROPOSED } else { HIGHEST_OF_WEAKER };
            for number in 1..=highest {
                if tone.frequency_hz / (number as f64) < range_hz.0 {
                    break;
                }
                self.propose_as(tone, number, range_hz);
            }
            // Under a formant the strongest harmonics have high numbers: their distance shows
            // which.
            if let Some(number) = self.number_by_distance(&tone).filter(|_| rank < 3) {
                self.propose_as(tone, number, range_hz);
            }
        }
        self.strongest = strongest;
    }

    /// Proposes the series of which a tone is the nth, unless it is proposed already or has next to
    /// no tones.
    fn propose_as(&mut self, tone: Tone, number: usize, range_hz: (f64, f64)) {
        let hz = tone.frequency_hz / number as f64;
        if !(range_hz.0..=range_hz.1).contains(&hz) {
            return;
        }
        // Without leaving early, which is hard to foretell.
        let reach_hz = 0.006 * hz;
        let is_near = |near: bool, known: &f64| near | ((known - hz).abs() < reach_hz);
        let is_known = self.proposed_hz.iter().fold(false, is_near);
        if !is_known && self.has_company(number, hz) {
            self.proposed_hz.push(hz);
            self.proposals.push(Proposal { tone, number, spacing_hz: hz });
        }
    }

    /// The number of a tone, higher than those proposed anyway, in a series as wide as its
    /// distances from the tones to either side, which must agree.
    fn number_by_distance(&self, tone: &Tone) -> Option<usize> {
        const AGREE: f64 = 0.1;
        let all = &self.tones.all;
        let place = all.partition_point(|other| other.frequency_hz < tone.frequency_hz);
        let (before, after) = (all.get(place.checked_sub(1)?)?, all.get(place + 1)?);
        let below_hz = tone.frequency_hz - before.frequency_hz;
        let above_hz = after.frequency_hz - tone.frequency_hz;
        let distance_hz = 0.5 * (below_hz + above_hz);
        let number = (tone.frequency_hz / distance_hz).round() as usize;
        let agree = (below_hz - above_hz).abs() < AGREE * distance_hz;
        (agree && (HIGHEST_PROPOSED + 1..=HIGHEST_NUMBER).contains(&number)).then_some(number)
    }

    /// Whether one of the four harmonics next to a high one is there: otherwise its series has more
    /// gaps than tones and is not worth following.
    fn has_company(&self, number: usize, spacing_hz: f64) -> bool {
        const LOWEST: usize = 3;
        /// A stiff string puts the next harmonic but one so far from its place.
        const REACH: f64 = 0.03;
        let near = |other: usize| {
            let place_hz = other as f64 * spacing_hz;
            let reach_hz = (REACH * place_hz).max(self.tones.bin_hz).min(0.4 * spacing_hz);
            let after = self.tones.all.partition_point(|t| t.frequency_hz < place_hz - reach_hz);
            self.tones.all.get(after).is_some_and(|t| t.frequency_hz < place_hz + reach_hz)
        };
        number < LOWEST || [number - 1, number + 1, number - 2, number + 2].into_iter().any(near)
    }

    /// Follows a series from its lowest harmonic up, learning F and B on the way; `None` where no
    /// more can speak for it than the least that is asked for.
    fn series(
        &self,
        proposal: Proposal,
        range_hz: (f64, f64),
        power: f64,
        least: f64,
    ) -> Option<Candidate> {
        const DIVISORS: [usize; 3] = [2, 3, 5];
        let tones = &self.tones;
        let bin_hz = tones.bin_hz;
        let highest_hz = tones.all.last()?.frequency_hz + bin_hz;
        let proposed_hz = proposal.spacing_hz;
        let per_bin = 1.0 / bin_hz;
        // What is far below is no part of a series that this would be a multiple of: rumble, a knock
        // of the case.
        let below = tones.all.partition_point(|t| t.frequency_hz < FAR_BELOW * proposed_hz);
        let far_below = tones.evidence_before[below];
        let of_all = tones.evidence_before[tones.all.len()] - far_below;
        let mut fit = SeriesFit::new(proposed_hz);
        fit.learn(proposal.number, &proposal.tone, bin_hz);
        fit.solve();
        let (mut evidence, mut matched, mut explained) = (0.0, 0usize, 0.0);
        let (mut lowest, mut highest, mut harmonics) = (0, 0, 0u32);
        let (mut strongest, mut strongest_power) = (0, 0.0);
        // What speaks for multiples of each of these.
        let mut of_multiples = [0.0; 3];
        for number in 1..=HIGHEST_NUMBER {
            let place_hz = fit.place_hz(number);
            if place_hz > highest_hz {
                break;
            }
            let near = tones.near.get((place_hz * per_bin + 0.5) as usize).copied().flatten();
            let Some(place) = near.map(usize::from) else { continue };
            let tone = &tones.all[place];
            let reach_hz = (REACH_BINS * bin_hz).max(REACH_SHARE * place_hz);
            if (tone.frequency_hz - place_hz).abs() > reach_hz {
                continue;
            }
            // What is left out below is lost, and counts against it.
            let lost = tones.evidence_before[place] - far_below - evidence;
            if of_all - (1.0 + COST_LEFT_OUT) * lost <= least {
                return None;
            }
            if number != proposal.number {
                fit.learn(number, tone, bin_hz);
            }
            evidence += tone.evidence;
            for (of_multiples, divisor) in of_multiples.iter_mut().zip(DIVISORS) {
                if number.is_multiple_of(divisor) {
                    *of_multiples += tone.evidence;
                }
            }
            matched += 1;
            // The more are known the less each changes.
            if matched < 5 || matched.is_multiple_of(3) {
                fit.solve();
            }
            explained += tone.power;
            harmonics |= 1 << (number - 1);
            lowest = if matched == 1 { number } else { lowest };
            highest = number;
            if tone.power > strongest_power {
                (strongest, strongest_power) = (number, tone.power);
            }
        }
        // A tone alone is no higher harmonic of anything.
        if matched == 0 || (matched == 1 && lowest > 1) {
            return None;
        }
        fit.solve();
        let (f0_hz, f0_hz_u, inharmonicity) = fit.fundamental(matched, proposed_hz / bin_hz);
        if !(range_hz.0..=range_hz.1).contains(&f0_hz) {
            return None;
        }
        let mean = evidence / matched as f64;
        let between = (highest - lowest + 1 - matched) as f64;
        let below = (lowest - 1) as f64;
        let reaches_hz = fit.place_hz(highest) + 0.5 * proposed_hz;
        let inside = tones.all.partition_point(|tone| tone.frequency_hz < reaches_hz);
        let left_out = (tones.evidence_before[inside] - far_below - evidence).max(0.0);
        // Higher harmonics than those looked for are not held against it.
        let known_to_hz = fit.place_hz(HIGHEST_NUMBER) + 0.5 * proposed_hz;
        let known = tones.all.partition_point(|tone| tone.frequency_hz < known_to_hz);
        let power_beyond: f64 = tones.all[known..].iter().map(|tone| tone.power).sum();
        let has_own = of_multiples.iter().all(|part| *part < (1.0 - OWN_SHARE) * evidence);
        let of_its_own = if has_own { 0.0 } else { COST_OF_NOTHING_OWN * evidence };
        let evidence_less_costs = evidence
            - of_its_own
            - mean * (COST_BETWEEN * between + COST_BELOW * below)
            - COST_LEFT_OUT * left_out;
        (evidence_less_costs > least).then(|| Candidate {
            f0_hz,
            f0_hz_u,
            inharmonicity,
            stretch: fit.slope / fit.square,
            evidence: evidence_less_costs,
            periodicity: 0.0,
            explained: (explained / (tones.power - power_beyond)).min(1.0),
            tones_explained: (evidence / tones.evidence_before[known]).min(1.0),
            strongest,
            harmonics,
            power,
            frame_s: 1.0 / bin_hz,
        })
    }
}

/// The middle one of five bins under the window: a cosine in it shifts the spectrum by a bin to
/// either side.
#[inline(always)]
fn windowed(x: &[Complex<f32>]) -> Complex<f32> {
    x[2] * WINDOW[0] - (x[1] + x[3]) * (0.5 * WINDOW[1]) + (x[0] + x[4]) * (0.5 * WINDOW[2])
}

/// The same under the derivative of the window, over 2π by the length of the frame.
fn sloped(x: &[Complex<f32>]) -> Complex<f32> {
    let turned = (x[1] - x[3]) * (0.5 * WINDOW[1]) - (x[0] - x[4]) * WINDOW[2];
    Complex::new(turned.im, -turned.re)
}

/// The last bin of a frame that is used.
fn used_bins(frame: usize) -> usize {
    (USED_SHARE * frame as f64) as usize + 1
}

fn subtract_mean(frame: &mut [f32]) {
    let mean = sum(frame) / frame.len() as f32;
    for x in frame {
        *x -= mean;
    }
}

/// Variance of the frequency of a tone in noise, in Hz²: with S its power over that of the noise in
/// its bin, Σw'²/(2·S·Σw²) in square radians a sample, w' being the derivative of the window.
fn tone_variance(ratio: f64, bin_hz: f64) -> f64 {
    // For a sum of cosines both sums are known: in bins, (a₁² + 4a₂²)/(2a₀² + a₁² + a₂²)/(2S).
    let [a0, a1, a2] = WINDOW.map(f64::from);
    let of_slope = a1 * a1 + 4.0 * a2 * a2;
    let of_window = 2.0 * a0 * a0 + a1 * a1 + a2 * a2;
    bin_hz * bin_hz * of_slope / of_window / (2.0 * ratio)
}
