//! Intervals between two notes: cents, the pure ratio meant, and how their partials beat.

use serde::Serialize;

use super::SoundedNote;
use crate::measured::Measured;
use crate::quantity::{Field, Key, Quantities, Quantity, Unit};
use crate::stiffness::stiff_ratio;
use crate::units::{cents_between, cents_u};

/// Pure intervals are looked for up to this number.
const HIGHEST: usize = 10;
/// And are meant if they lie so near, in cents.
const NEAR_CENTS: f64 = 60.0;
/// Pairs of partials reported at most.
const PAIRS: usize = 3;

/// Two partials that would coincide if the interval were pure.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct BeatingPair {
    /// Numbers of the partials of the lower and of the upper note.
    pub lower_partial: usize,
    /// See above.
    pub upper_partial: usize,
    /// Where they lie, in Hz.
    pub frequency_hz: f64,
    /// How often they beat, in Hz: positive where the interval is wide.
    pub beat_hz: f64,
    /// Its standard uncertainty.
    pub beat_hz_u: f64,
}

/// An interval between two notes.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Interval {
    /// Names of the takes of the lower and of the upper note.
    pub lower: String,
    /// See above.
    pub upper: String,
    /// Its size in cents, from fundamental to fundamental.
    pub cents: f64,
    /// Its standard uncertainty.
    pub cents_u: f64,
    /// The pure ratio that is meant, upper and lower number; `None` where none is near.
    pub ratio: Option<(usize, usize)>,
    /// How far it is from that, in cents.
    pub from_pure_cents: Option<f64>,
    /// Its pairs of partials, the lowest first.
    pub pairs: Vec<BeatingPair>,
}

impl Quantities for [Interval] {
    fn quantities(&self) -> Vec<Quantity> {
        const CENTS: [Field<Interval>; 2] = [
            Field::measured("cents", "size", Unit::Cent, 2, |interval| {
                Some(Measured::new(interval.cents, interval.cents_u))
            }),
            Field::plain("from_pure_cents", "distance from pure", Unit::Cent, 2, |interval| {
                interval.from_pure_cents
            }),
        ];
        const PAIR: [Field<BeatingPair>; 2] = [
            Field::plain("frequency_hz", "frequency", Unit::Hertz, 1, |pair| {
                Some(pair.frequency_hz)
            }),
            Field::measured("beat_hz", "beat", Unit::Hertz, 3, |pair| {
                Some(Measured::new(pair.beat_hz, pair.beat_hz_u))
            }),
        ];
        let mut all = Vec::new();
        for (n, interval) in (1..).zip(self) {
            let key = Key::item("intervals", n);
            let name = format!("{} to {}", interval.lower, interval.upper);
            all.extend(Quantity::of_item(&key, &name, &CENTS, interval));
            for (k, pair) in (1..).zip(&interval.pairs) {
                let name =
                    format!("{name}, partials {} and {}", pair.lower_partial, pair.upper_partial);
                all.extend(Quantity::of_item(
                    &key.clone().then_item("pairs", k),
                    &name,
                    &PAIR,
                    pair,
                ));
            }
        }
        all
    }
}

/// The interval between two notes, whichever is the lower.
pub(super) fn interval(one: &SoundedNote, other: &SoundedNote) -> Interval {
    let (lower, upper) =
        if one.f0_hz.value <= other.f0_hz.value { (one, other) } else { (other, one) };
    let cents = cents_between(lower.f0_hz.value, upper.f0_hz.value);
    let ratio = pure_ratio(cents);
    let pairs = ratio.map_or_else(Vec::new, |(p, q)| {
        let pair = |times: usize| {
            let (low, high) = (lower.partial(times * p)?, upper.partial(times * q)?);
            Some(BeatingPair {
                lower_partial: times * p,
                upper_partial: times * q,
                frequency_hz: f64::midpoint(low.value, high.value),
                beat_hz: high.value - low.value,
                beat_hz_u: low.u.hypot(high.u),
            })
        };
        (1..=2 * PAIRS).filter_map(pair).take(PAIRS).collect()
    });
    Interval {
        lower: lower.take.clone(),
        upper: upper.take.clone(),
        cents,
        cents_u: cents_u(&lower.f0_hz).hypot(cents_u(&upper.f0_hz)),
        ratio,
        from_pure_cents: ratio.map(|(p, q)| cents - 1200.0 * (p as f64 / q as f64).log2()),
        pairs,
    }
}

/// The simplest pure ratio near an interval: distance and size of the numbers both count.
fn pure_ratio(cents: f64) -> Option<(usize, usize)> {
    let octaves = (cents / 1200.0).round().max(0.0);
    let within = |p: usize, q: usize| (cents - 1200.0 * (p as f64 / q as f64).log2()).abs();
    let cost = |(p, q): (usize, usize)| within(p, q) + 4.0 * ((p * q) as f64).ln();
    // Beyond the compass of small numbers an octave or two may be added to the upper.
    let highest = HIGHEST.max(1 << (octaves as usize).min(6));
    let all = (1..=HIGHEST).flat_map(|q| (q..=highest).map(move |p| (p, q)));
    all.filter(|(p, q)| gcd(*p, *q) == 1 && within(*p, *q) < NEAR_CENTS)
        .min_by(|a, b| cost(*a).total_cmp(&cost(*b)))
}

fn gcd(a: usize, b: usize) -> usize {
    if b == 0 { a } else { gcd(b, a % b) }
}

impl SoundedNote {
    /// Frequency of a partial: as measured, else as the law of the string has it.
    fn partial(&self, number: usize) -> Option<Measured> {
        let found = self.partials.iter().find(|(known, _)| *known == number);
        found.map(|(_, hz)| *hz).or_else(|| {
            let b = self.inharmonicity?;
            let hz = |b: f64| self.f0_hz.value * stiff_ratio(number, b);
            let of_b = hz(b.value + b.u) - hz(b.value);
            Some(Measured::new(hz(b.value), of_b.hypot(number as f64 * self.f0_hz.u)))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_interval_meant_is_told() {
        let tempered: [(f64, Option<(usize, usize)>); 10] = [
            (300.0, Some((6, 5))),
            (400.0, Some((5, 4))),
            (500.0, Some((4, 3))),
            (700.0, Some((3, 2))),
            (800.0, Some((8, 5))),
            (900.0, Some((5, 3))),
            (1200.0, Some((2, 1))),
            (1900.0, Some((3, 1))),
            (2400.0, Some((4, 1))),
            (100.0, None),
        ];
        for (cents, ratio) in tempered {
            assert_eq!(pure_ratio(cents), ratio, "{cents}");
        }
        assert_eq!(pure_ratio(3.0), Some((1, 1)));
    }
}
