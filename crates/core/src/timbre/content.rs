//! What a note is made of: its harmonics, their shares, its distortion, and the regions that stand
//! out.

use serde::Serialize;

use super::noise::MeanPowers;
use crate::bands::{Band, octave_bands};
use crate::measured::Measured;
use crate::partials::Partials;
use crate::quantity::{Field, Key, Label, Quantity, Unit, pair};
use crate::units::power_from_db;

/// One harmonic of a note, over its sustained part.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Harmonic {
    /// Its number.
    pub number: usize,
    /// Frequency in Hz, with its standard uncertainty.
    pub frequency_hz: f64,
    /// See above.
    pub frequency_hz_u: f64,
    /// Level of its mean power, as that of a steady sinusoid, in dB.
    pub level_db: f64,
    /// The same re the first harmonic, and re the strongest; the first may be missing.
    pub level_re_first_db: Option<f64>,
    /// See above.
    pub level_re_strongest_db: f64,
    /// Distance from n times the fundamental in cents.
    pub cents_from_harmonic: Option<f64>,
    /// Its share of all power, noise included, and that of all harmonics up to it.
    pub power_share: f64,
    /// See above.
    pub cumulative_share: f64,
    /// Level of the noise within one spacing of harmonics around it; `None` for a note too short to
    /// know.
    pub noise_level_db: Option<f64>,
}

impl Harmonic {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 8] = [
        Field::measured("frequency_hz", "frequency", Unit::Hertz, 4, |harmonic| {
            Some(Measured::new(harmonic.frequency_hz, harmonic.frequency_hz_u))
        }),
        Field::plain("level_db", "level", Unit::Level, 2, |harmonic| Some(harmonic.level_db)),
        Field::plain("level_re_first_db", "level re the first", Unit::Decibel, 2, |harmonic| {
            harmonic.level_re_first_db
        }),
        Field::plain(
            "level_re_strongest_db",
            "level re the strongest",
            Unit::Decibel,
            2,
            |harmonic| Some(harmonic.level_re_strongest_db),
        ),
        Field::plain("cents_from_harmonic", "distance from harmonic", Unit::Cent, 2, |harmonic| {
            harmonic.cents_from_harmonic
        }),
        Field::plain("power_share", "share of the power", Unit::One, 5, |harmonic| {
            Some(harmonic.power_share)
        }),
        Field::plain("cumulative_share", "cumulative share", Unit::One, 5, |harmonic| {
            Some(harmonic.cumulative_share)
        }),
        Field::plain("noise_level_db", "noise around", Unit::Level, 1, |harmonic| {
            harmonic.noise_level_db
        }),
    ];
}

/// A stretch of the spectral envelope that stands out, as a formant does.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct EnvelopeRegion {
    /// Its middle in Hz.
    pub centre_hz: f64,
    /// Its width 3 dB below the top, in Hz.
    pub bandwidth_hz: f64,
    /// Its strongest harmonic.
    pub strongest_harmonic: usize,
    /// How far it stands above the higher of the valleys beside it, in dB.
    pub prominence_db: f64,
}

/// Noise in an octave band.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct NoiseBand {
    /// The band.
    #[serde(flatten)]
    pub band: Band,
    /// Level of the noise in it, RMS re that of a full-scale sine, in dB.
    pub noise_level_db: f64,
    /// Its share of the power in the band.
    pub noise_share: f64,
}

/// What a note is made of.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct HarmonicContent {
    /// Its harmonics as far as they stand out of the noise.
    pub harmonics: Vec<Harmonic>,
    /// RMS of harmonics from 2 on over that of the first, in per cent; `None` where either is
    /// missing.
    pub distortion_percent: Option<f64>,
    /// RMS of all but the first harmonic over that of all, in per cent.
    pub distortion_and_noise_percent: Option<f64>,
    /// Regions of the envelope that stand out.
    pub envelope_regions: Vec<EnvelopeRegion>,
    /// Noise by octave bands.
    pub noise_bands: Vec<NoiseBand>,
}

impl HarmonicContent {
    pub(super) fn quantities(&self) -> Vec<Quantity> {
        const OTHERS: Label = Label::new(
            "content.distortion_percent",
            "harmonics over the first (THD)",
            Unit::Percent,
            3,
        );
        const ALL_OTHERS: Label = Label::new(
            "content.distortion_and_noise_percent",
            "all but the first (THD+N)",
            Unit::Percent,
            3,
        );
        const REGION: [Field<EnvelopeRegion>; 3] = [
            Field::plain("centre_hz", "middle", Unit::Hertz, 0, |region| Some(region.centre_hz)),
            Field::plain("bandwidth_hz", "width", Unit::Hertz, 0, |region| {
                Some(region.bandwidth_hz)
            }),
            Field::plain("prominence_db", "prominence", Unit::Decibel, 1, |region| {
                Some(region.prominence_db)
            }),
        ];
        const NOISE: [Field<NoiseBand>; 2] = [
            Field::plain("noise_level_db", "level", Unit::Level, 1, |band| {
                Some(band.noise_level_db)
            }),
            Field::plain("noise_share", "share of the power", Unit::One, 5, |band| {
                Some(band.noise_share)
            }),
        ];
        let mut all = vec![
            Quantity::top(&OTHERS, pair(self.distortion_percent, None)),
            Quantity::top(&ALL_OTHERS, pair(self.distortion_and_noise_percent, None)),
        ];
        for harmonic in &self.harmonics {
            let key = Key::of("content").then_item("harmonics", harmonic.number);
            let name = format!("harmonic {}", harmonic.number);
            all.extend(Quantity::of_item(&key, &name, &Harmonic::FIELDS, harmonic));
        }
        for (n, region) in (1..).zip(&self.envelope_regions) {
            let key = Key::of("content").then_item("envelope_regions", n);
            all.extend(Quantity::of_item(&key, &format!("envelope region {n}"), &REGION, region));
        }
        for (n, band) in (1..).zip(&self.noise_bands) {
            let key = Key::of("content").then_item("noise_bands", n);
            let name = format!("noise at {} Hz", band.band.nominal_hz(1));
            all.extend(Quantity::of_item(&key, &name, &NOISE, band));
        }
        all
    }

    /// Refers all levels to another level of a full-scale sine, by so many dB.
    pub(super) fn shift_levels(&mut self, change_db: f64) {
        for harmonic in &mut self.harmonics {
            harmonic.level_db += change_db;
            if let Some(noise_db) = &mut harmonic.noise_level_db {
                *noise_db += change_db;
            }
        }
        for band in &mut self.noise_bands {
            band.noise_level_db += change_db;
        }
    }
}

/// The content of a note between two times in seconds from the start of the take.
pub(super) fn content(
    found: &Partials,
    powers: Option<&MeanPowers>,
    (from_s, to_s): (f64, f64),
    rate_hz: f64,
) -> Option<HarmonicContent> {
    let mean_power = |number: usize| {
        let tracks = found.tracks.iter().filter(|track| track.number == number);
        let points = tracks.flat_map(|track| {
            track.points.iter().enumerate().filter(|(n, _)| {
                (from_s..=to_s).contains(&(track.start_s + *n as f64 * track.hop_s))
            })
        });
        let sum: f64 = points.map(|(_, point)| point.amplitude.powi(2) / 2.0).sum();
        sum / ((to_s - from_s) / found.hop_s).max(1.0)
    };
    let heard: Vec<_> = (found.partials.iter())
        .map(|partial| (partial, mean_power(partial.number)))
        .filter(|(_, power)| *power > 0.0)
        .collect();
    let harmonic: f64 = heard.iter().map(|(_, power)| power).sum();
    let noise: f64 = powers.map_or(0.0, |powers| powers.gaps.iter().sum());
    let total = harmonic + noise;
    let strongest = heard.iter().map(|(_, power)| *power).fold(0.0, f64::max);
    if strongest <= 0.0 {
        return None;
    }
    let first = heard.iter().find(|(partial, _)| partial.number == 1).map(|(_, power)| *power);
    let db = |power: f64| 10.0 * power.log10();
    let mut cumulative = 0.0;
    let harmonics: Vec<Harmonic> = (heard.iter())
        .map(|(partial, power)| {
            cumulative += power / total;
            let around = powers
                .filter(|powers| partial.number < powers.gaps.len())
                .map(|powers| powers.noise_around(partial.number));
            Harmonic {
                number: partial.number,
                frequency_hz: partial.frequency_hz,
                frequency_hz_u: partial.frequency_hz_u,
                level_db: db(2.0 * power),
                level_re_first_db: first.map(|first| db(power / first)),
                level_re_strongest_db: db(power / strongest),
                cents_from_harmonic: partial.cents_from_harmonic,
                power_share: power / total,
                cumulative_share: cumulative,
                noise_level_db: around.map(|noise| db(2.0 * noise)).filter(|db| db.is_finite()),
            }
        })
        .collect();
    let above = harmonic - first.unwrap_or(0.0);
    let percent = |ratio: f64| 100.0 * ratio.max(0.0).sqrt();
    Some(HarmonicContent {
        distortion_percent: first.filter(|_| above > 0.0).map(|first| percent(above / first)),
        distortion_and_noise_percent: first.map(|first| percent((total - first) / total)),
        envelope_regions: envelope_regions(&harmonics),
        noise_bands: powers.map_or_else(Vec::new, |powers| {
            noise_bands(
                powers,
                &heard.iter().map(|(p, w)| (p.frequency_hz, *w)).collect::<Vec<_>>(),
                rate_hz,
            )
        }),
        harmonics,
    })
}

/// The noise of each octave band, and its share beside lines of given frequency and power.
fn noise_bands(powers: &MeanPowers, lines: &[(f64, f64)], rate_hz: f64) -> Vec<NoiseBand> {
    /// The octave bands of the audio range (IEC 61260-1).
    const RANGE_HZ: (f64, f64) = (31.5, 16_000.0);
    let mut edges_hz: Vec<f64> = vec![0.0];
    edges_hz.extend((1..powers.gaps.len()).map(|n| n as f64 * powers.f0_hz));
    edges_hz.push(rate_hz / 2.0);
    octave_bands(1, RANGE_HZ)
        .into_iter()
        .filter_map(|band| {
            let (low, high) = (band.low_hz, band.high_hz);
            let of_gap = |(gap, edges): (&f64, &[f64])| {
                let width = (edges[1] - edges[0]).max(1e-9);
                gap * ((edges[1].min(high) - edges[0].max(low)) / width).clamp(0.0, 1.0)
            };
            let noise: f64 = powers.gaps.iter().zip(edges_hz.windows(2)).map(of_gap).sum();
            let inside = lines.iter().filter(|(hz, _)| (low..high).contains(hz));
            let tonal: f64 = inside.map(|(_, power)| power).sum();
            (noise > 0.0 && low < rate_hz / 2.0).then(|| NoiseBand {
                band,
                noise_level_db: 10.0 * (2.0 * noise).log10(),
                noise_share: noise / (noise + tonal),
            })
        })
        .collect()
}

/// Maxima of the levels of the harmonics that stand 6 dB above the valleys to either side; a dip of
/// one harmonic, as where a string is plucked, is no valley.
fn envelope_regions(harmonics: &[Harmonic]) -> Vec<EnvelopeRegion> {
    // See above.
    const LEAST_PROMINENCE_DB: f64 = 6.0;
    let levels: Vec<f64> = harmonics.iter().map(|harmonic| harmonic.level_db).collect();
    let count = levels.len();
    let around = |of: &[f64], n: usize| of[n.saturating_sub(1)..(n + 2).min(count)].to_vec();
    let widest: Vec<f64> = (0..count)
        .map(|n| around(&levels, n).into_iter().fold(f64::NEG_INFINITY, f64::max))
        .collect();
    let closed: Vec<f64> = (0..count)
        .map(|n| around(&widest, n).into_iter().fold(f64::INFINITY, f64::min).max(levels[n]))
        .collect();
    let valley = |side: &mut dyn Iterator<Item = usize>, top: f64| {
        side.map(|n| closed[n]).take_while(|db| *db <= top).fold(f64::INFINITY, f64::min)
    };
    (1..count.saturating_sub(1))
        .filter(|n| levels[*n] > closed[n - 1] && levels[*n] >= closed[n + 1])
        .filter_map(|n| {
            let left = valley(&mut (0..n).rev(), levels[n]);
            let right = valley(&mut (n + 1..count), levels[n]);
            let prominence_db = levels[n] - left.max(right);
            if prominence_db < LEAST_PROMINENCE_DB {
                return None;
            }
            let (centre_hz, bandwidth_hz) = resonance(&harmonics[n - 1..=n + 1])?;
            Some(EnvelopeRegion {
                centre_hz,
                bandwidth_hz,
                strongest_harmonic: harmonics[n].number,
                prominence_db,
            })
        })
        .collect()
}

/// Middle and width of the resonance through three harmonics: the inverse of its power is a
/// parabola over frequency.
fn resonance(three: &[Harmonic]) -> Option<(f64, f64)> {
    let [a, b, c] = three else { return None };
    let inverse = |harmonic: &Harmonic| power_from_db(b.level_db - harmonic.level_db);
    let (x0, x1, x2) = (a.frequency_hz, b.frequency_hz, c.frequency_hz);
    let (y0, y1, y2) = (inverse(a), inverse(b), inverse(c));
    let (first, second) = ((y1 - y0) / (x1 - x0), (y2 - y1) / (x2 - x1));
    let bend = (second - first) / (x2 - x0);
    let centre_hz = f64::midpoint(x0, x1) - first / (2.0 * bend);
    let least = y1 - bend * (x1 - centre_hz).powi(2);
    // Three that belong to no one resonance have no such parabola.
    let is_one = bend > 0.0 && (x0..=x2).contains(&centre_hz) && least > 0.0;
    is_one.then(|| (centre_hz, 2.0 * (least / bend).sqrt()))
}
