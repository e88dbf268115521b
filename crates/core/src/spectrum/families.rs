//! Tones that lie on one harmonic series, so that the strongest is not mistaken for the pitch.
//!
//! # What it computes
//!
//! A series has a common spacing F and a stiffness B: f_n = n·F·√(1 + B·n²) (H. Fletcher, J.
//! Acoust. Soc. Am. 36, 1964); B is 0 unless the tones show otherwise. Every tone, taken as the nth
//! of a series for n from 1 to 16, proposes one. A tone that lies within ±t of the nth place does
//! so by chance with the probability p = 2t/F; a series is believed if the product of these over
//! its tones, but for those that F and B were taken from, times the number of proposals, is below 1
//! in 50. Each place below the highest that has no tone counts against it, by a factor of 1.35. Of
//! several series the least probable wins: F/2 fits every tone that F does, but each twice as
//! easily.
//!
//! F and B are then fitted by least squares to f²/n² = F²·(1 + B·n²), each tone weighted by its own
//! uncertainty and by a scatter that all share, found so that χ² is as large as it should be.

use serde::Serialize;

use super::Peak;
use crate::measured::Measured;
use crate::quantity::{Field, Unit, pair};
use crate::units::{Note, cents_between};

/// Tones that lie on one harmonic series. Uncertainties are standard uncertainties (k = 1).
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Family {
    /// Frequency of the first harmonic in Hz, F·√(1 + B), whether or not there is a tone.
    pub fundamental_hz: f64,
    /// Its uncertainty in Hz.
    pub fundamental_hz_u: f64,
    /// Whether the first harmonic is among the tones.
    pub fundamental_present: bool,
    /// Spacing F in Hz.
    pub spacing_hz: f64,
    /// Inharmonicity B; 0 where the tones show none.
    pub inharmonicity: f64,
    /// Its uncertainty; `None` where B is not fitted.
    pub inharmonicity_u: Option<f64>,
    /// Note nearest to the fundamental.
    #[serde(serialize_with = "crate::units::note_text")]
    pub note: Note,
    /// Distance from that note in cents.
    pub cents: f64,
    /// Number of the strongest tone.
    pub strongest_number: u32,
    /// The tones, lowest first.
    pub members: Vec<Member>,
}

/// A tone of a harmonic series.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Member {
    /// Number in the series.
    pub number: u32,
    /// Frequency in Hz.
    pub frequency_hz: f64,
    /// Distance from n·F·√(1 + B·n²) in cents.
    pub cents: f64,
}

impl Family {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 5] = [
        Field::measured("fundamental_hz", "fundamental", Unit::Hertz, 4, |family| {
            Some(Measured::new(family.fundamental_hz, family.fundamental_hz_u))
        }),
        Field::plain("spacing_hz", "spacing", Unit::Hertz, 4, |family| Some(family.spacing_hz)),
        Field::measured("inharmonicity", "inharmonicity", Unit::One, 8, |family| {
            pair(Some(family.inharmonicity), family.inharmonicity_u)
        }),
        Field::plain("cents", "distance from the note", Unit::Cent, 1, |family| Some(family.cents)),
        Field::plain("strongest_number", "strongest harmonic", Unit::One, 0, |family| {
            Some(f64::from(family.strongest_number))
        }),
    ];
}

impl Member {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 2] = [
        Field::plain("frequency_hz", "frequency", Unit::Hertz, 4, |tone| Some(tone.frequency_hz)),
        Field::plain("cents", "distance from the series", Unit::Cent, 2, |tone| Some(tone.cents)),
    ];
}

/// Fewest tones of a series.
const FEWEST: usize = 3;
/// Number that a tone may have in the series it proposes, and in any.
const HIGHEST_PROPOSED: u32 = 16;
const HIGHEST_NUMBER: u32 = 80;
/// How far from its place a tone may lie, in cents: as of an electronic source, and as of
/// instruments.
const TOLERANCES_CENTS: [f64; 2] = [1.0, 12.0];
/// Lowest spacing in Hz.
const LOWEST_HZ: f64 = 12.0;
/// Greatest inharmonicity of a string.
const GREATEST_B: f64 = 5e-3;
/// Logarithm of how improbable a series must be as a chance.
const LEAST_EVIDENCE: f64 = 3.912;
/// What each place without a tone takes from it: a tone is missing about as often as not.
const COST_OF_A_GAP: f64 = 0.3;

/// F and B of a series.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Law {
    spacing_hz: f64,
    b: f64,
}

impl Law {
    fn place_hz(self, number: u32) -> f64 {
        let n = f64::from(number);
        n * self.spacing_hz * (1.0 + self.b * n * n).sqrt()
    }

    /// The number whose place is nearest.
    fn number(self, frequency_hz: f64) -> Option<u32> {
        let ratio = frequency_hz / self.spacing_hz;
        // n²·(1 + B·n²) = ratio², solved for n².
        let square = if self.b > 0.0 {
            ((1.0 + 4.0 * self.b * ratio * ratio).sqrt() - 1.0) / (2.0 * self.b)
        } else {
            ratio * ratio
        };
        let number = square.sqrt().round();
        (number >= 1.0 && number <= f64::from(HIGHEST_NUMBER)).then_some(number as u32)
    }
}

/// The tones on a law by index with their numbers, and how improbable they are by chance.
#[derive(Debug, Clone)]
struct Series {
    members: Vec<(usize, u32)>,
    evidence: f64,
}

/// The harmonic series among the tones, that with the most tones first.
pub(crate) fn families(peaks: &[Peak], reference_hz: f64) -> Vec<Family> {
    let mut free: Vec<usize> = (0..peaks.len()).collect();
    let mut families = Vec::new();
    while free.len() >= FEWEST {
        let Some(series) = best_series(peaks, &free) else { break };
        free.retain(|index| series.members.iter().all(|(member, _)| member != index));
        families.extend(family(peaks, &series, reference_hz));
    }
    families.sort_by_key(|family| std::cmp::Reverse(family.members.len()));
    families
}

fn best_series(peaks: &[Peak], free: &[usize]) -> Option<Series> {
    let mut best: Option<Series> = None;
    for &seed in free {
        for number in 1..=HIGHEST_PROPOSED {
            let spacing_hz = peaks[seed].frequency_hz / f64::from(number);
            if spacing_hz < LOWEST_HZ {
                break;
            }
            let proposals = (free.len() as f64 * f64::from(number) * 2.0).ln();
            for tolerance in TOLERANCES_CENTS {
                for stiff in [false, true] {
                    let mut series = grown(peaks, free, spacing_hz, number, tolerance, stiff);
                    series.evidence -= proposals;
                    if series.members.len() >= FEWEST
                        && series.evidence > LEAST_EVIDENCE
                        && best.as_ref().is_none_or(|best| series.evidence > best.evidence)
                    {
                        best = Some(series);
                    }
                }
            }
        }
    }
    best
}

/// The series that a tone proposes as its nth. Fitted to its first tones, it reaches further at
/// each round: those far up would fit any law by chance.
fn grown(
    peaks: &[Peak],
    free: &[usize],
    spacing_hz: f64,
    number: u32,
    tolerance_cents: f64,
    stiff: bool,
) -> Series {
    let mut law = Law { spacing_hz, b: 0.0 };
    let mut up_to = (2 * number + 4).min(HIGHEST_NUMBER);
    loop {
        let series = matched(peaks, free, law, tolerance_cents, up_to, stiff);
        match quick_fit(peaks, &series.members, stiff) {
            Some(better) => law = better,
            None => return series,
        }
        if up_to == HIGHEST_NUMBER {
            return matched(peaks, free, law, tolerance_cents, up_to, stiff);
        }
        up_to = (up_to * 3 / 2).min(HIGHEST_NUMBER);
    }
}

/// The tones near the places of a law: of those that share a number the nearest.
fn matched(
    peaks: &[Peak],
    free: &[usize],
    law: Law,
    tolerance_cents: f64,
    up_to: u32,
    stiff: bool,
) -> Series {
    let mut members: Vec<(usize, u32, f64, f64)> = Vec::new();
    for &index in free {
        let peak = &peaks[index];
        let Some(number) = law.number(peak.frequency_hz).filter(|n| *n <= up_to) else { continue };
        let place = law.place_hz(number);
        let reach = place * tolerance_cents / 1731.0 + 3.0 * peak.frequency_hz_u;
        let distance = (peak.frequency_hz - place).abs();
        if distance > reach {
            continue;
        }
        let gain = -(2.0 * reach / law.spacing_hz).min(1.0).ln();
        match members.iter_mut().find(|(_, known, ..)| *known == number) {
            Some(known) if known.2 <= distance => (),
            Some(known) => *known = (index, number, distance, gain),
            None => members.push((index, number, distance, gain)),
        }
    }
    // What the law was taken from proves nothing.
    let free_parameters = if stiff { 2 } else { 1 };
    members.sort_by_key(|(_, number, ..)| *number);
    let evidence_of_first = |count: usize| {
        let highest = members[count - 1].1;
        let mut gains: Vec<f64> = members[..count].iter().map(|(.., gain)| *gain).collect();
        gains.sort_by(f64::total_cmp);
        let gaps = f64::from(highest) - count as f64;
        gains.iter().rev().skip(free_parameters).sum::<f64>() - COST_OF_A_GAP * gaps
    };
    // A tone far above the others may cost more in gaps than it is worth.
    let mut best = (0, f64::NEG_INFINITY);
    for count in 1..=members.len() {
        let evidence = evidence_of_first(count);
        if evidence > best.1 {
            best = (count, evidence);
        }
    }
    let (count, evidence) = best;
    members.truncate(count);
    let members = members.into_iter().map(|(index, number, ..)| (index, number)).collect();
    Series { members, evidence }
}

/// Straight line through f²/n² over n², all tones alike.
fn quick_fit(peaks: &[Peak], members: &[(usize, u32)], stiff: bool) -> Option<Law> {
    let points: Vec<Point> =
        members.iter().map(|(index, number)| Point::new(&peaks[*index], *number, 1e-3)).collect();
    let line = Line::through(&points, stiff && members.len() > 3)?;
    Some(line.law())
}

/// One tone in the fit of a series.
struct Point {
    /// n².
    x: f64,
    /// f²/n².
    y: f64,
    variance: f64,
}

impl Point {
    fn new(peak: &Peak, number: u32, scatter: f64) -> Self {
        let x = f64::from(number).powi(2);
        let frequency_u = peak.frequency_hz_u.hypot(scatter * peak.frequency_hz);
        Self {
            x,
            y: peak.frequency_hz.powi(2) / x,
            variance: (2.0 * peak.frequency_hz / x * frequency_u).powi(2),
        }
    }
}

/// y = a + b·x with its variances.
struct Line {
    a: f64,
    b: f64,
    a_variance: f64,
    b_variance: f64,
    covariance: f64,
    chi_squared: f64,
}

impl Line {
    fn through(points: &[Point], sloping: bool) -> Option<Self> {
        let sum = |term: &dyn Fn(&Point) -> f64| {
            points.iter().map(|point| term(point) / point.variance).sum::<f64>()
        };
        let (w, wx, wxx) = (sum(&|_| 1.0), sum(&|p| p.x), sum(&|p| p.x * p.x));
        let (wy, wxy) = (sum(&|p| p.y), sum(&|p| p.x * p.y));
        let determinant = w * wxx - wx * wx;
        let mut line = if sloping && determinant > 1e-9 * w * wxx {
            Self {
                a: (wxx * wy - wx * wxy) / determinant,
                b: (w * wxy - wx * wy) / determinant,
                a_variance: wxx / determinant,
                b_variance: w / determinant,
                covariance: -wx / determinant,
                chi_squared: 0.0,
            }
        } else {
            Self {
                a: wy / w,
                b: 0.0,
                a_variance: 1.0 / w,
                b_variance: 0.0,
                covariance: 0.0,
                chi_squared: 0.0,
            }
        };
        if line.a.is_nan() || line.a <= 0.0 {
            return None;
        }
        // Strings have no negative stiffness, and none as great as that.
        if sloping && !(0.0..=GREATEST_B).contains(&(line.b / line.a)) {
            return Self::through(points, false);
        }
        line.chi_squared = sum(&|p| (p.y - line.a - line.b * p.x).powi(2));
        Some(line)
    }

    fn law(&self) -> Law {
        Law { spacing_hz: self.a.sqrt(), b: self.b / self.a }
    }
}

/// The family of a series: its law fitted with what the tones' uncertainties are worth.
fn family(peaks: &[Peak], series: &Series, reference_hz: f64) -> Option<Family> {
    let fit = |sloping: bool| -> Option<Line> {
        let freedom = series.members.len() as f64 - if sloping { 2.0 } else { 1.0 };
        let with_scatter = |scatter: f64| {
            let point =
                |(index, number): &(usize, u32)| Point::new(&peaks[*index], *number, scatter);
            Line::through(&series.members.iter().map(point).collect::<Vec<_>>(), sloping)
        };
        // Rounding of samples is a floor under every scatter.
        let (mut low, mut high) = (1e-9f64, 0.02f64);
        if with_scatter(low)?.chi_squared <= freedom {
            return with_scatter(low);
        }
        for _ in 0..60 {
            let middle = (low * high).sqrt();
            if with_scatter(middle)?.chi_squared > freedom {
                low = middle;
            } else {
                high = middle;
            }
        }
        with_scatter(high)
    };
    // Inharmonicity is reported only where the tones show it.
    let line = match series.members.len() {
        0..=3 => fit(false)?,
        _ => match fit(true)? {
            line if line.b > 3.0 * line.b_variance.sqrt() => line,
            _ => fit(false)?,
        },
    };
    let law = line.law();
    let fundamental_hz = law.place_hz(1);
    // The fundamental is √(a + b).
    let fundamental_variance = line.a_variance + line.b_variance + 2.0 * line.covariance;
    let (note, cents) = Note::nearest(fundamental_hz, reference_hz)?;
    let mut members: Vec<Member> = series
        .members
        .iter()
        .map(|(index, number)| {
            let frequency_hz = peaks[*index].frequency_hz;
            let cents = cents_between(law.place_hz(*number), frequency_hz);
            Member { number: *number, frequency_hz, cents }
        })
        .collect();
    members.sort_by_key(|member| member.number);
    let strongest =
        series.members.iter().max_by(|a, b| peaks[a.0].level_db.total_cmp(&peaks[b.0].level_db))?;
    Some(Family {
        fundamental_hz,
        fundamental_hz_u: fundamental_variance.sqrt() / (2.0 * fundamental_hz),
        fundamental_present: members.first().is_some_and(|member| member.number == 1),
        spacing_hz: law.spacing_hz,
        inharmonicity: law.b,
        inharmonicity_u: (line.b_variance > 0.0).then(|| line.b_variance.sqrt() / line.a),
        note,
        cents,
        strongest_number: strongest.1,
        members,
    })
}
