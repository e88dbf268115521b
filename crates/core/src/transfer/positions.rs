//! Several transfer functions: the mean over positions, what lies off a target, and differences.

use rustfft::num_complex::Complex64;

use super::curve::DB_PER_SHARE;
use super::{Smoothing, Transfer, TransferBand, TransferCurve};
use crate::error::Error;
use crate::measured::Measured;
use crate::significance::widened;
use crate::spectrum::ResponseCurve;
use crate::units::{amplitude_from_db, db_from_amplitude};

/// A point at one position: magnitude with its uncertainty, and phase in radians.
type At = (Measured, f64);

/// The mean of a point over positions; the uncertainty is that of the scatter over them by the root of
/// their number, widened by Student's factor, or what each is uncertain by, whichever is more.
fn mean_point(all: &[At], how: Smoothing) -> (Measured, Measured) {
    let count = all.len() as f64;
    let of = |(db, phase): &At| Complex64::from_polar(amplitude_from_db(db.value), *phase);
    let sum = all.iter().map(of).sum::<Complex64>() / count;
    let power = all.iter().map(|at| of(at).norm_sqr()).sum::<f64>() / count;
    let magnitude = match how {
        Smoothing::Power => power.sqrt(),
        Smoothing::Complex => sum.norm(),
    };
    let own = all.iter().map(|(db, _)| db.u.powi(2)).sum::<f64>().sqrt() / count / DB_PER_SHARE;
    let by_scatter = |off: &dyn Fn(Complex64) -> f64| {
        let squares: f64 = all.iter().map(|at| off(of(at)).powi(2)).sum();
        widened(count - 1.0) * (squares / (count - 1.0) / count).sqrt()
    };
    let of_magnitude = by_scatter(&|z| match how {
        Smoothing::Power => 0.5 * (z.norm_sqr() / power - 1.0),
        Smoothing::Complex => (z / sum).re - 1.0,
    });
    let of_phase = by_scatter(&|z| (z / sum).im);
    let level = Measured::new(db_from_amplitude(magnitude), DB_PER_SHARE * own.max(of_magnitude));
    let phase = Measured::new(sum.arg().to_degrees(), own.max(of_phase).to_degrees());
    (level, phase)
}

/// The mean of several positions: of their power, with the phase of the complex mean, or complex. The
/// delay of each is removed before, unless it was left in the phase. A point that is omitted at one
/// position is omitted in the mean.
///
/// # Errors
///
/// [`Error::Setting`] where the positions have different points, as of different sample rates.
pub fn mean_of(mut positions: Vec<Transfer>, how: Smoothing) -> Result<Option<Transfer>, Error> {
    if positions.len() < 2 {
        return Ok(positions.pop());
    }
    let curves: Vec<&TransferCurve> =
        positions.iter().filter_map(|one| one.curve.as_ref()).collect();
    let Some(first) = curves.first() else { return Ok(None) };
    if curves.iter().any(|curve| curve.frequency_hz != first.frequency_hz) {
        return Err(Error::Setting {
            setting: "the sample rates of the positions",
            given: "several".into(),
            allowed: "one, so that all have the same points".into(),
        });
    }
    let mut mean = TransferCurve { frequency_hz: first.frequency_hz.clone(), ..Default::default() };
    let share = |of: &dyn Fn(&TransferCurve) -> f64| {
        curves.iter().map(|curve| of(curve)).sum::<f64>() / curves.len() as f64
    };
    for k in 0..first.frequency_hz.len() {
        let at = |curve: &&TransferCurve| -> Option<At> {
            let level = Measured::new(curve.magnitude_db[k]?, curve.magnitude_db_u[k]?);
            Some((level, curve.phase_deg[k]?.to_radians()))
        };
        let all = curves.iter().map(at).collect::<Option<Vec<At>>>();
        let point = all.map(|all| mean_point(&all, how));
        mean.magnitude_db.push(point.map(|(level, _)| level.value));
        mean.magnitude_db_u.push(point.map(|(level, _)| level.u));
        mean.phase_deg.push(point.map(|(_, phase)| phase.value));
        mean.phase_deg_u.push(point.map(|(_, phase)| phase.u));
        mean.minimum_phase_deg.push(None);
        mean.excess_phase_deg.push(None);
        mean.group_delay_s.push(None);
        mean.coherence.push(share(&|curve| curve.coherence[k]));
    }
    let first = &positions[0];
    let bands = first.bands.iter().enumerate().map(|(n, band)| {
        let at = |one: &Transfer| -> Option<At> {
            let of = one.bands.get(n)?;
            Some((of.magnitude_db?, of.phase_deg?.to_radians()))
        };
        let all = positions.iter().map(at).collect::<Option<Vec<At>>>();
        let point = all.map(|all| mean_point(&all, how));
        let coherent = positions.iter().map(|one| one.bands.get(n)?.coherence);
        let coherent = coherent.collect::<Option<Vec<f64>>>();
        TransferBand {
            magnitude_db: point.map(|(level, _)| level),
            phase_deg: point.map(|(_, phase)| phase.value),
            coherence: coherent.map(|all| all.iter().sum::<f64>() / all.len() as f64),
            ..band.clone()
        }
    });
    let gains = positions.iter().map(|one| Some((one.gain_db?, 0.0)));
    let gains = gains.collect::<Option<Vec<At>>>();
    let known = mean.magnitude_db.iter().flatten().count() as f64;
    Ok(Some(Transfer {
        delay_s: None,
        drift_ppm: None,
        polarity: None,
        gain_db: gains.map(|all| mean_point(&all, Smoothing::Power).0),
        frames: positions.iter().map(|one| one.frames).sum(),
        independent_frames: positions.iter().map(|one| one.independent_frames).sum(),
        kept_share: known / mean.magnitude_db.len().max(1) as f64,
        positions: positions.len() as u64,
        candidates: Vec::new(),
        reflections: Vec::new(),
        bands: bands.collect(),
        curve: Some(mean),
        impulse: super::Impulse::default(),
        findings: Vec::new(),
        ..first.clone()
    }))
}

impl Transfer {
    /// With how far each band lies off a target.
    #[must_use]
    pub fn against(mut self, target: &ResponseCurve) -> Self {
        for band in &mut self.bands {
            let target_db = target.level_db(band.band.center_hz);
            band.target_db = Some(target_db);
            band.off_target_db =
                band.magnitude_db.map(|level| Measured::new(level.value - target_db, level.u));
        }
        self
    }
}

impl TransferCurve {
    /// By how much it differs from another one; `None` where they have different points.
    #[must_use]
    pub fn less(&self, other: &Self) -> Option<Self> {
        let both = |a: &[Option<f64>], b: &[Option<f64>], of: fn(f64, f64) -> f64| {
            let pairs = a.iter().zip(b);
            pairs.map(|(a, b)| Some(of((*a)?, (*b)?))).collect::<Vec<Option<f64>>>()
        };
        let turned = |a: f64, b: f64| (a - b + 180.0).rem_euclid(360.0) - 180.0;
        let count = self.frequency_hz.len();
        (self.frequency_hz == other.frequency_hz).then(|| Self {
            frequency_hz: self.frequency_hz.clone(),
            magnitude_db: both(&self.magnitude_db, &other.magnitude_db, |a, b| a - b),
            magnitude_db_u: both(&self.magnitude_db_u, &other.magnitude_db_u, f64::hypot),
            phase_deg: both(&self.phase_deg, &other.phase_deg, turned),
            phase_deg_u: both(&self.phase_deg_u, &other.phase_deg_u, f64::hypot),
            minimum_phase_deg: vec![None; count],
            excess_phase_deg: vec![None; count],
            group_delay_s: both(&self.group_delay_s, &other.group_delay_s, |a, b| a - b),
            coherence: self
                .coherence
                .iter()
                .zip(&other.coherence)
                .map(|(a, b)| a.min(*b))
                .collect(),
        })
    }
}
