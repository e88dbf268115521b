//! The transfer function bin by bin, smoothed, and in bands.

use rustfft::num_complex::Complex64;
use serde::{Deserialize, Serialize};

use super::averaged::Averaged;
use super::{Estimator, Smoothing, TransferSettings};
use crate::bands::Band;
use crate::measured::Measured;
use crate::quantity::{Field, Unit};
use crate::units::db_from_amplitude;

/// dB for each share of an amplitude, and degrees for each radian.
pub(super) const DB_PER_SHARE: f64 = 20.0 / std::f64::consts::LN_10;
const DEGREES: f64 = 180.0 / std::f64::consts::PI;

/// A point of the transfer function.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Point {
    pub(super) transfer: Complex64,
    /// Share of the power of the response that comes from the reference.
    pub(super) coherence: f64,
    /// Standard deviation of the transfer over its magnitude; of the phase in radians as well.
    pub(super) u: f64,
    /// Power of the reference.
    pub(super) weight: f64,
    /// Whether it is left out: too little coherence, or nothing in the reference.
    pub(super) is_omitted: bool,
}

/// What stands in a curve, over frequency; what is omitted is null.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct TransferCurve {
    /// Frequencies.
    pub frequency_hz: Vec<f64>,
    /// Magnitude.
    pub magnitude_db: Vec<Option<f64>>,
    /// Its standard uncertainty.
    pub magnitude_db_u: Vec<Option<f64>>,
    /// Phase, without the delay unless it was given back.
    pub phase_deg: Vec<Option<f64>>,
    /// Its standard uncertainty.
    pub phase_deg_u: Vec<Option<f64>>,
    /// Phase that a system of these magnitudes has at least, and how much more there is beyond the
    /// delay, in degrees; where frames have one length.
    pub minimum_phase_deg: Vec<Option<f64>>,
    /// See above.
    pub excess_phase_deg: Vec<Option<f64>>,
    /// Group delay beyond the delay.
    pub group_delay_s: Vec<Option<f64>>,
    /// Coherence, its bias removed.
    pub coherence: Vec<f64>,
}

impl TransferCurve {
    /// With another one behind it.
    pub(super) fn extend(&mut self, other: Self) {
        self.frequency_hz.extend(other.frequency_hz);
        self.magnitude_db.extend(other.magnitude_db);
        self.magnitude_db_u.extend(other.magnitude_db_u);
        self.phase_deg.extend(other.phase_deg);
        self.phase_deg_u.extend(other.phase_deg_u);
        self.minimum_phase_deg.extend(other.minimum_phase_deg);
        self.excess_phase_deg.extend(other.excess_phase_deg);
        self.group_delay_s.extend(other.group_delay_s);
        self.coherence.extend(other.coherence);
    }
}

/// A band of the transfer function.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct TransferBand {
    /// Its name: the rounded middle, in Hz.
    pub center_hz: f64,
    /// Its edges.
    #[serde(skip)]
    pub band: Band,
    /// Magnitude of the power that comes from the reference.
    #[serde(flatten, serialize_with = "crate::measured::flat::magnitude_db")]
    pub magnitude_db: Option<Measured>,
    /// Phase of the mean over the band.
    pub phase_deg: Option<f64>,
    /// Share of the power of the response that comes from the reference.
    pub coherence: Option<f64>,
    /// Level of a target.
    pub target_db: Option<f64>,
    /// Magnitude less that.
    #[serde(flatten, serialize_with = "crate::measured::flat::off_target_db")]
    pub off_target_db: Option<Measured>,
}

impl TransferBand {
    /// Its numbers.
    pub const FIELDS: [Field<Self>; 6] = [
        Field::plain("center_hz", "middle", Unit::Hertz, 1, |band| Some(band.center_hz)),
        Field::measured("magnitude_db", "magnitude", Unit::Decibel, 2, |band| band.magnitude_db),
        Field::plain("phase_deg", "phase", Unit::Degree, 1, |band| band.phase_deg),
        Field::plain("coherence", "coherence", Unit::One, 3, |band| band.coherence),
        Field::plain("target_db", "target", Unit::Decibel, 2, |band| band.target_db),
        Field::measured("off_target_db", "off the target", Unit::Decibel, 2, |band| {
            band.off_target_db
        }),
    ];
}

/// The points of averaged spectra.
///
/// H1 = G_ab/G_aa errs where the reference has noise of its own, H2 = G_bb/G_ba where the response
/// has, and Hv, their geometric mean, where one has more than the other. With n independent frames
/// the coherence of noise alone is 1/n, which is subtracted: (n·γ² − 1)/(n − 1). The variance of the
/// transfer is (1 − γ²)/(2·n·γ²) of its square (J. S. Bendat and A. G. Piersol, Random Data, 9.1).
pub(super) fn points(sums: &Averaged, leaked: &[f64], settings: &TransferSettings) -> Vec<Point> {
    /// What lies nearer to side lobes of what is louder elsewhere is none of its own.
    const ABOVE_LEAKED: f64 = 10.0;
    let n = sums.independent;
    let of_bin = |k: usize| {
        let (aa, bb, ab) = (sums.aa[k], sums.bb[k], sums.ab[k]);
        let cross = ab.norm();
        let is_known = aa > 0.0 && bb > 0.0 && cross > 0.0;
        let biased = if is_known { (cross * cross / (aa * bb)).min(1.0) } else { 0.0 };
        // One frame shows nothing of what is in common.
        let coherence =
            if n > 1.0 { ((n * biased - 1.0) / (n - 1.0)).clamp(0.0, 1.0) } else { 0.0 };
        let transfer = match settings.estimator {
            _ if !is_known => Complex64::default(),
            Estimator::H1 => ab / aa,
            Estimator::H2 => bb / ab.conj(),
            Estimator::Hv => ab / cross * (bb / aa).sqrt(),
        };
        let u = ((1.0 - coherence) / (2.0 * n * coherence.max(1e-9))).sqrt();
        let is_omitted =
            !is_known || coherence < settings.least_coherence || aa < ABOVE_LEAKED * leaked[k];
        Point { transfer, coherence, u, weight: aa, is_omitted }
    };
    (0..sums.aa.len()).map(of_bin).collect()
}

/// A mean over neighbouring points, so many of which chance moves together.
fn mean(points: &[Point], smoothing: Smoothing, together: f64) -> Option<Point> {
    let kept = || points.iter().filter(|point| !point.is_omitted);
    let weight: f64 = kept().map(|point| point.weight).sum();
    if weight <= 0.0 {
        return None;
    }
    let sum: Complex64 = kept().map(|point| point.transfer * point.weight).sum();
    let power: f64 = kept().map(|point| point.transfer.norm_sqr() * point.weight).sum();
    let variance: f64 =
        kept().map(|point| (point.weight * point.transfer.norm() * point.u).powi(2)).sum();
    let magnitude = match smoothing {
        Smoothing::Complex => sum.norm() / weight,
        Smoothing::Power => (power / weight).sqrt(),
    };
    let coherence = kept().map(|point| point.coherence * point.weight).sum::<f64>() / weight;
    Some(Point {
        transfer: Complex64::from_polar(magnitude, sum.arg()),
        coherence,
        u: (variance * together.min(kept().count() as f64)).sqrt()
            / (weight * magnitude).max(f64::MIN_POSITIVE),
        weight,
        is_omitted: false,
    })
}

/// Points smoothed over so many octaves about each.
pub(super) fn smoothed(
    points: &[Point],
    octaves: f64,
    smoothing: Smoothing,
    together: f64,
) -> Vec<Point> {
    let half = (0.5 * octaves).exp2();
    (0..points.len())
        .map(|k| {
            let own = points[k];
            if own.is_omitted || k == 0 {
                return own;
            }
            let (low, high) = (k as f64 / half, k as f64 * half);
            let range = (low.ceil() as usize)..((high.floor() as usize + 1).min(points.len()));
            let mean = mean(&points[range], smoothing, together);
            mean.map_or(own, |mean| Point { weight: own.weight, ..mean })
        })
        .collect()
}

/// What all points together make of the reference.
pub(super) fn gain(points: &[Point], together: f64) -> Option<Measured> {
    let found = mean(points, Smoothing::Power, together)?;
    let db = db_from_amplitude(found.transfer.norm());
    Some(Measured::new(db, DB_PER_SHARE * found.u))
}

/// The points within a range as a curve; the delay given back turns the phase by so many seconds.
pub(super) fn curve(
    points: &[Point],
    bin_hz: f64,
    (low, high): (f64, f64),
    given_back_s: f64,
    minimum_rad: Option<&[f64]>,
) -> TransferCurve {
    let mut made = TransferCurve::default();
    for (k, point) in points.iter().enumerate() {
        let hz = k as f64 * bin_hz;
        if hz < low || hz > high {
            continue;
        }
        let kept = Some(point).filter(|point| !point.is_omitted);
        let phase = |point: &Point| {
            let turned = point.transfer.arg() - std::f64::consts::TAU * hz * given_back_s;
            let phase = Complex64::from_polar(1.0, turned).arg();
            DEGREES * phase
        };
        made.frequency_hz.push(hz);
        made.magnitude_db.push(kept.map(|point| db_from_amplitude(point.transfer.norm())));
        made.magnitude_db_u.push(kept.map(|point| DB_PER_SHARE * point.u));
        made.phase_deg.push(kept.map(phase));
        made.phase_deg_u.push(kept.map(|point| DEGREES * point.u));
        let minimum = minimum_rad.and_then(|all| Some((kept?, *all.get(k)?)));
        let wrapped = |rad: f64| DEGREES * Complex64::from_polar(1.0, rad).arg();
        made.minimum_phase_deg.push(minimum.map(|(_, rad)| wrapped(rad)));
        let excess = |(point, rad): (&Point, f64)| wrapped(point.transfer.arg() - rad);
        made.excess_phase_deg.push(minimum.map(excess));
        made.group_delay_s.push(group_delay(points, k, bin_hz));
        made.coherence.push(point.coherence);
    }
    made
}

/// How much the phase falls from the bin before to the bin behind, over the turns between.
fn group_delay(points: &[Point], k: usize, bin_hz: f64) -> Option<f64> {
    let neighbours = points.get(k.checked_sub(1)?..=k + 1)?;
    let are_known = neighbours.iter().all(|point| !point.is_omitted);
    let [before, _, behind] = neighbours else { return None };
    let turned = (behind.transfer * before.transfer.conj()).arg();
    are_known.then(|| -turned / (std::f64::consts::TAU * 2.0 * bin_hz))
}

/// A band of the transfer function; nothing where it holds no point.
pub(super) fn of_band(
    points: &[Point],
    bin_hz: f64,
    band: Band,
    fraction: u32,
    together: f64,
) -> TransferBand {
    let from = ((band.low_hz / bin_hz).ceil() as usize).min(points.len());
    let to = ((band.high_hz / bin_hz).ceil() as usize).clamp(from, points.len());
    let all = &points[from..to];
    let found = mean(all, Smoothing::Power, together);
    let magnitude = |point: &Point| {
        Measured::new(db_from_amplitude(point.transfer.norm()), DB_PER_SHARE * point.u)
    };
    TransferBand {
        center_hz: band.nominal_hz(fraction),
        band,
        magnitude_db: found.as_ref().map(magnitude),
        phase_deg: found.map(|point| DEGREES * point.transfer.arg()),
        coherence: found.map(|point| point.coherence),
        target_db: None,
        off_target_db: None,
    }
}
