//! The descriptors that have a value at every instant, and their summaries over a stretch of time.

use serde::ser::{Serialize, SerializeMap, Serializer};

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

/// What stands beside the values of a descriptor.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DescriptorWords {
    /// The descriptor.
    pub descriptor: Descriptor,
    /// Its key in JSON and CSV, with its unit.
    pub key: &'static str,
    /// Its name.
    pub name: &'static str,
    /// Its unit; empty for a pure number.
    pub unit: &'static str,
    /// Decimals that are worth printing.
    pub decimals: usize,
}

/// Number of descriptors.
pub const DESCRIPTOR_COUNT: usize = 17;

/// All descriptors, in the order of [`Descriptors`].
pub const DESCRIPTORS: [DescriptorWords; DESCRIPTOR_COUNT] = {
    const fn words(
        descriptor: Descriptor,
        key: &'static str,
        name: &'static str,
        unit: &'static str,
        decimals: usize,
    ) -> DescriptorWords {
        DescriptorWords { descriptor, key, name, unit, decimals }
    }
    [
        words(Descriptor::Centroid, "centroid_hz", "centroid", "Hz", 1),
        words(Descriptor::CentroidOverF0, "centroid_over_f0", "centroid over f0", "", 3),
        words(Descriptor::Spread, "spread_hz", "spread", "Hz", 1),
        words(Descriptor::Skewness, "skewness", "skewness", "", 3),
        words(Descriptor::Kurtosis, "kurtosis", "kurtosis", "", 2),
        words(Descriptor::Slope, "slope_db_per_octave", "slope", "dB/octave", 2),
        words(Descriptor::Rolloff85, "rolloff85_hz", "roll-off 85 %", "Hz", 1),
        words(Descriptor::Rolloff95, "rolloff95_hz", "roll-off 95 %", "Hz", 1),
        words(Descriptor::Flatness, "flatness", "flatness", "", 5),
        words(Descriptor::Crest, "crest_db", "crest", "dB", 2),
        words(Descriptor::Flux, "flux", "flux", "", 5),
        words(Descriptor::OddEven, "odd_even_db", "odd over even", "dB", 2),
        words(Descriptor::Tristimulus1, "tristimulus_1", "tristimulus 1", "", 4),
        words(Descriptor::Tristimulus2, "tristimulus_2", "tristimulus 2", "", 4),
        words(Descriptor::Tristimulus3, "tristimulus_3", "tristimulus 3", "", 4),
        words(Descriptor::Irregularity, "irregularity", "irregularity", "", 4),
        words(Descriptor::HarmonicToNoise, "harmonic_to_noise_db", "harmonics over noise", "dB", 2),
    ]
};

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
        for words in DESCRIPTORS {
            match words.descriptor {
                Descriptor::Tristimulus1 => {
                    let from = Descriptor::Tristimulus1 as usize;
                    let key = format!("tristimulus{}", self.ending);
                    map.serialize_entry(&key, &values[from..from + 3])?;
                }
                Descriptor::Tristimulus2 | Descriptor::Tristimulus3 => {}
                other => {
                    let key = format!("{}{}", words.key, self.ending);
                    map.serialize_entry(&key, &values[other as usize])?;
                }
            }
        }
        map.end()
    }
}

/// The descriptors at one instant.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TimbrePoint {
    /// Time in seconds from the start of the take.
    pub time_s: f64,
    /// Level of the sound, RMS re that of a full-scale sine, in dB.
    pub level_db: f64,
    /// The descriptors.
    pub descriptors: Descriptors,
}

/// The descriptors over a stretch of time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RegionSummary {
    /// When it begins and ends, in seconds from the start of the take.
    pub start_s: f64,
    /// See above.
    pub end_s: f64,
    /// The medians, each instant weighted by its power.
    pub median: Descriptors,
    /// How far the values spread about it: the half of them, by power, that lies nearest spans 1.35 times this, as in
    /// a normal distribution.
    pub spread: Descriptors,
    /// Standard uncertainty of the median, from how much frames scatter that do not overlap.
    pub median_u: Descriptors,
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
    for descriptor in DESCRIPTORS.map(|words| words.descriptor) {
        let valued = points.iter().filter_map(|point| {
            Some((point.descriptors.get(descriptor)?, 10f64.powf(point.level_db / 10.0)))
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

/// Standard deviation of the weighted mean of values of which only those `apart` are independent, from second
/// differences of such (after J. von Neumann, Ann. Math. Stat. 12, 1941): an even change is no scatter.
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
        for (n, words) in DESCRIPTORS.iter().enumerate() {
            assert_eq!(words.descriptor as usize, n);
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
