//! The descriptors that have a value at every instant, and their summaries over a stretch of time.

use serde::ser::{Serialize, SerializeMap, Serializer};

use crate::measured::Measured;
use crate::quantity::{Key, Label, Quantity, Unit, bare, pair};
use crate::units::power_from_db;

/// A descriptor that has a value at every instant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(usize)]
pub enum Descriptor {
    /// Middle of the power spectrum, Σ f·P / Σ P.
    Centroid,
    /// The same over the fundamental.
    CentroidOverF0,
    /// Standard deviation of the power spectrum about its centroid.
    Spread,
    /// Middle of the power of the harmonics alone, which noise beside them does not move.
    HarmonicCentroid,
    /// Standard deviation of the power of the harmonics alone.
    HarmonicSpread,
    /// Third standardised moment: positive for a tail towards high frequencies.
    Skewness,
    /// Fourth standardised moment; 3 for a bell curve.
    Kurtosis,
    /// Slope of the straight line through the levels of the partials over octaves.
    Slope,
    /// Frequency below which 85 % of the power lie.
    Rolloff85,
    /// The same for 95 %.
    Rolloff95,
    /// Geometric over arithmetic mean of the power spectrum: 1 for white noise, 0 for a tone.
    Flatness,
    /// Greatest over mean power of the spectrum.
    Crest,
    /// How little neighbouring spectra resemble each other, from 0 to 1.
    Flux,
    /// Power of the odd harmonics over that of the even.
    OddEven,
    /// Share of the first harmonic in the sum of amplitudes.
    Tristimulus1,
    /// Share of harmonics 2 to 4.
    Tristimulus2,
    /// Share of harmonics from 5 on.
    Tristimulus3,
    /// How much the amplitudes of neighbouring harmonics differ.
    Irregularity,
    /// Power of the harmonics over that of the noise.
    HarmonicToNoise,
}

/// Number of descriptors.
pub const DESCRIPTOR_COUNT: usize = 19;

/// All descriptors with what they are called, in the order of [`Descriptors`].
pub const DESCRIPTORS: [(Descriptor, Label); DESCRIPTOR_COUNT] = [
    (Descriptor::Centroid, Label::new("centroid_hz", "centroid", Unit::Hertz, 1).with_u()),
    (
        Descriptor::CentroidOverF0,
        Label::new("centroid_over_f0", "centroid over f0", Unit::One, 3).with_u(),
    ),
    (Descriptor::Spread, Label::new("spread_hz", "spread", Unit::Hertz, 1).with_u()),
    (
        Descriptor::HarmonicCentroid,
        Label::new("harmonic_centroid_hz", "centroid of the harmonics", Unit::Hertz, 1).with_u(),
    ),
    (
        Descriptor::HarmonicSpread,
        Label::new("harmonic_spread_hz", "spread of the harmonics", Unit::Hertz, 1).with_u(),
    ),
    (Descriptor::Skewness, Label::new("skewness", "skewness", Unit::One, 3).with_u()),
    (Descriptor::Kurtosis, Label::new("kurtosis", "kurtosis", Unit::One, 2).with_u()),
    (
        Descriptor::Slope,
        Label::new("slope_db_per_octave", "slope", Unit::DecibelPerOctave, 2).with_u(),
    ),
    (Descriptor::Rolloff85, Label::new("rolloff85_hz", "roll-off 85 %", Unit::Hertz, 1).with_u()),
    (Descriptor::Rolloff95, Label::new("rolloff95_hz", "roll-off 95 %", Unit::Hertz, 1).with_u()),
    (Descriptor::Flatness, Label::new("flatness", "flatness", Unit::One, 5).with_u()),
    (Descriptor::Crest, Label::new("crest_db", "crest", Unit::Decibel, 2).with_u()),
    (Descriptor::Flux, Label::new("flux", "flux", Unit::One, 5).with_u()),
    (Descriptor::OddEven, Label::new("odd_even_db", "odd over even", Unit::Decibel, 2).with_u()),
    (Descriptor::Tristimulus1, Label::new("tristimulus_1", "tristimulus 1", Unit::One, 4).with_u()),
    (Descriptor::Tristimulus2, Label::new("tristimulus_2", "tristimulus 2", Unit::One, 4).with_u()),
    (Descriptor::Tristimulus3, Label::new("tristimulus_3", "tristimulus 3", Unit::One, 4).with_u()),
    (Descriptor::Irregularity, Label::new("irregularity", "irregularity", Unit::One, 4).with_u()),
    (Descriptor::HarmonicToNoise, HARMONIC_TO_NOISE),
];

const HARMONIC_TO_NOISE: Label =
    Label::new("harmonic_to_noise_db", "harmonics over noise", Unit::Decibel, 2).with_u();

impl Descriptor {
    /// Where it stands in a result, under a key or right under the result.
    #[must_use]
    pub fn key(self, under: Option<Key>) -> Key {
        let number = match self {
            Self::Tristimulus1 => 1,
            Self::Tristimulus2 => 2,
            Self::Tristimulus3 => 3,
            other => {
                let field = DESCRIPTORS[other as usize].1.field;
                return under.map_or_else(|| Key::of(field), |key| key.then(field));
            }
        };
        under.map_or_else(
            || Key::item("tristimulus", number),
            |key| key.then_item("tristimulus", number),
        )
    }
}

/// A value for each descriptor; `None` where it is not defined.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Descriptors([Option<f64>; DESCRIPTOR_COUNT]);

impl Descriptors {
    /// The value of a descriptor.
    #[must_use]
    pub fn get(&self, descriptor: Descriptor) -> Option<f64> {
        self.0[descriptor as usize]
    }

    /// Sets a value; one that is not finite is none.
    pub(super) fn set(&mut self, descriptor: Descriptor, value: f64) {
        self.0[descriptor as usize] = Some(value).filter(|value| value.is_finite());
    }
}

/// Values under their keys with an ending, `_u` for uncertainties.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct KeyedDescriptors {
    descriptors: Descriptors,
    ending: &'static str,
}

impl Descriptors {
    /// The values as they are serialised, with an ending behind each key.
    #[must_use]
    pub fn keyed(self, ending: &'static str) -> KeyedDescriptors {
        KeyedDescriptors { descriptors: self, ending }
    }
}

impl Serialize for Descriptors {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.keyed("").serialize(serializer)
    }
}

impl Serialize for KeyedDescriptors {
    /// As a map by key; the three of the tristimulus stand together in a list.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        let values = &self.descriptors.0;
        for (descriptor, label) in &DESCRIPTORS {
            match *descriptor {
                Descriptor::Tristimulus1 => {
                    let from = Descriptor::Tristimulus1 as usize;
                    let key = format!("tristimulus{}", self.ending);
                    map.serialize_entry(&key, &values[from..from + 3])?;
                }
                Descriptor::Tristimulus2 | Descriptor::Tristimulus3 => {}
                other => {
                    let key = format!("{}{}", label.field, self.ending);
                    map.serialize_entry(&key, &values[other as usize])?;
                }
            }
        }
        map.end()
    }
}

/// The descriptors at one instant.
#[derive(Debug, Clone, Copy, PartialEq, serde::Serialize)]
pub struct TimbrePoint {
    /// Time in seconds from the start of the take.
    pub time_s: f64,
    /// Level of the sound, RMS re that of a full-scale sine, in dB.
    pub level_db: f64,
    /// The descriptors.
    #[serde(flatten)]
    pub descriptors: Descriptors,
}

/// The descriptors over a stretch of time.
#[derive(Debug, Clone, Copy, PartialEq, serde::Serialize)]
pub struct RegionSummary {
    /// When it begins and ends, in seconds from the start of the take.
    pub start_s: f64,
    /// See above.
    pub end_s: f64,
    /// The medians, each instant weighted by its power.
    pub median: Descriptors,
    /// How far the values spread about it: the half of them, by power, that lies nearest spans 1.35
    /// times this, as in a normal distribution.
    pub spread: Descriptors,
    /// Standard uncertainty of the median, from how much frames scatter that do not overlap.
    pub median_u: Descriptors,
}

impl RegionSummary {
    /// The median of a descriptor with its uncertainty.
    #[must_use]
    pub fn measured(&self, descriptor: Descriptor) -> Option<Measured> {
        let u = self.median_u.get(descriptor).unwrap_or(f64::NAN);
        self.median.get(descriptor).map(|value| Measured::new(value, u))
    }

    /// Its medians, under a key or right under the result.
    pub(super) fn medians(&self, under: Option<&Key>) -> impl Iterator<Item = Quantity> {
        DESCRIPTORS.iter().map(move |(descriptor, label)| {
            Quantity::new(descriptor.key(under.cloned()), label, self.measured(*descriptor))
        })
    }
}

impl RegionSummary {
    /// Its ends, medians and spreads, under a key.
    fn quantities(&self, under: &Key) -> Vec<Quantity> {
        const START: Label = Label::new("start_s", "start", Unit::Second, 3);
        const END: Label = Label::new("end_s", "end", Unit::Second, 3);
        let ends = [(START, self.start_s), (END, self.end_s)];
        let ends = ends.into_iter().map(|(label, time_s)| {
            Quantity::new(under.clone().then(label.field), &label, bare(time_s))
        });
        let spread = under.clone().then("spread");
        let spreads = DESCRIPTORS.iter().map(|(descriptor, label)| {
            let value = pair(self.spread.get(*descriptor), None);
            let quantity = Quantity::new(descriptor.key(Some(spread.clone())), label, value);
            Quantity { name: format!("spread of {}", label.name).into(), ..quantity }
        });
        ends.chain(self.medians(Some(&under.clone().then("median")))).chain(spreads).collect()
    }
}

/// The stretches that a note is summarised over.
#[derive(Debug, Clone, Copy, PartialEq, serde::Serialize)]
pub struct Regions {
    /// The whole note.
    pub whole: RegionSummary,
    /// Its rise; `None` where there is none.
    pub attack: Option<RegionSummary>,
    /// Its sustained part.
    pub sustain: RegionSummary,
}

impl Regions {
    /// What each region has.
    pub(super) fn quantities(&self) -> Vec<Quantity> {
        let each =
            [("whole", Some(self.whole)), ("attack", self.attack), ("sustain", Some(self.sustain))];
        let each = each.into_iter().filter_map(|(name, region)| Some((name, region?)));
        each.flat_map(|(name, region)| region.quantities(&Key::of("regions").then(name))).collect()
    }

    /// The medians of the whole with their uncertainties as keys of their own, then all regions.
    pub(super) fn flat<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        #[derive(serde::Serialize)]
        struct Flat<'a> {
            #[serde(flatten)]
            median: Descriptors,
            #[serde(flatten)]
            median_u: KeyedDescriptors,
            regions: &'a Regions,
        }
        let whole = self.whole;
        let median_u = whole.median_u.keyed("_u");
        Flat { median: whole.median, median_u, regions: self }.serialize(serializer)
    }
}

/// Summarises points from one time to another; the nearest point where none lies between.
pub(super) fn summary(
    track: &[TimbrePoint],
    (start_s, end_s): (f64, f64),
    frame_s: f64,
) -> RegionSummary {
    let inside = |point: &&TimbrePoint| (start_s..=end_s).contains(&point.time_s);
    let mut points: Vec<&TimbrePoint> = track.iter().filter(inside).collect();
    if points.is_empty() {
        let middle_s = f64::midpoint(start_s, end_s);
        let away = |point: &&TimbrePoint| (point.time_s - middle_s).abs();
        points.extend(track.iter().min_by(|a, b| away(a).total_cmp(&away(b))));
    }
    let hop_s = points.windows(2).map(|pair| pair[1].time_s - pair[0].time_s).next();
    let apart = hop_s.map_or(1, |hop_s| (frame_s / hop_s).ceil().max(1.0) as usize);
    let mut region = RegionSummary {
        start_s,
        end_s,
        median: Descriptors::default(),
        spread: Descriptors::default(),
        median_u: Descriptors::default(),
    };
    for descriptor in DESCRIPTORS.iter().map(|(descriptor, _)| *descriptor) {
        let valued = points.iter().filter_map(|point| {
            Some((point.descriptors.get(descriptor)?, power_from_db(point.level_db)))
        });
        let course: Vec<(f64, f64)> = valued.collect();
        let mut sorted = course.clone();
        sorted.sort_by(|a, b| a.0.total_cmp(&b.0));
        let Some(median) = weighted_quantile(&sorted, 0.5) else { continue };
        region.median.set(descriptor, median);
        let quarters = [0.25, 0.75].map(|share| weighted_quantile(&sorted, share));
        if let [Some(low), Some(high)] = quarters {
            region.spread.set(descriptor, (high - low) / 1.349);
        }
        if let Some(u) = scatter_of_mean(&course, apart) {
            // 1.25: a median scatters by so much more than a mean.
            region.median_u.set(descriptor, 1.25 * u);
        }
    }
    region
}

/// The value below which a share of the weight lies, of pairs of value and weight sorted by value.
fn weighted_quantile(sorted: &[(f64, f64)], share: f64) -> Option<f64> {
    let total: f64 = sorted.iter().map(|(_, weight)| weight).sum();
    let wanted = share * total;
    let (mut below, mut last) = (0.0, None::<(f64, f64)>);
    for (value, weight) in sorted {
        // Each value stands in the middle of its weight.
        let here = below + 0.5 * weight;
        if here >= wanted {
            return Some(match last {
                Some((before, at)) if here > at => {
                    before + (value - before) * (wanted - at) / (here - at)
                }
                _ => *value,
            });
        }
        last = Some((*value, here));
        below += weight;
    }
    last.map(|(value, _)| value)
}

/// Standard deviation of the weighted mean of values of which only those `apart` are independent,
/// from second differences of such (after J. von Neumann, Ann. Math. Stat. 12, 1941): an even
/// change is no scatter.
pub(crate) fn scatter_of_mean(course: &[(f64, f64)], apart: usize) -> Option<f64> {
    if course.len() < 2 * apart + 1 {
        return None;
    }
    let (mut squares, mut weights) = (0.0, 0.0);
    for n in apart..course.len() - apart {
        let [(a, weight_a), (b, weight_b), (c, weight_c)] =
            [n - apart, n, n + apart].map(|n| course[n]);
        let weight = weight_a.min(weight_b).min(weight_c);
        // Independent values have second differences of six times their variance.
        squares += weight * (a - 2.0 * b + c).powi(2) / 6.0;
        weights += weight;
    }
    let total: f64 = course.iter().map(|(_, weight)| weight).sum();
    let of_squares: f64 = course.iter().map(|(_, weight)| weight * weight).sum();
    let independent = (total * total / of_squares / apart as f64).max(1.0);
    (weights > 0.0).then(|| (squares / weights / independent).sqrt())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_descriptor_stands_in_its_place() {
        for (n, (descriptor, _)) in DESCRIPTORS.iter().enumerate() {
            assert_eq!(*descriptor as usize, n);
        }
    }

    #[test]
    fn the_median_follows_the_weight() {
        let sorted = [(1.0, 1.0), (2.0, 1.0), (3.0, 100.0)];
        let median = weighted_quantile(&sorted, 0.5).expect("values");
        assert!((2.9..=3.0).contains(&median), "{median}");
        assert_eq!(weighted_quantile(&[(5.0, 2.0)], 0.25), Some(5.0));
        assert_eq!(weighted_quantile(&[], 0.5), None);
    }

    #[test]
    fn scatter_is_told_without_slow_change() {
        let drift: Vec<(f64, f64)> = (0..1000).map(|n| (f64::from(n) * 1e-3, 1.0)).collect();
        let wavering: Vec<(f64, f64)> =
            (0..1000).map(|n| (f64::from(n) * 1e-3 + f64::from(n % 2), 1.0)).collect();
        let of = |course: &[(f64, f64)]| scatter_of_mean(course, 1).expect("long enough");
        // Values that alternate by ±½ have second differences of 2.
        let alternating = (4.0 / 6.0f64).sqrt() / 1000f64.sqrt();
        assert!(of(&drift) < 1e-12 && (of(&wavering) / alternating - 1.0).abs() < 0.01);
    }
}
