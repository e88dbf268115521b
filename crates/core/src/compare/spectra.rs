//! Averaged powers of two sounds, how far chance moves them, and what the two have in common.

use rustfft::num_complex::Complex;
use serde::Serialize;

use crate::bands::Band;
use crate::error::Error;
use crate::frame::{FramePlan, Framer};
use crate::samples::{Reader, Samples};
use crate::significance::Family;
use crate::spectrum::noise_floor;
use crate::transform::RealTransform;
use crate::units::{DB_PER_POWER, db_from_power};

/// Where two takes share less of their power than this, one of the two stands less than 20 dB above
/// what is its own.
const SHARED_20_DB: f64 = 0.98;

/// The averaged power of a sound.
pub(super) struct Power {
    /// In each bin the square of the amplitude that a sine there would have.
    mean: Vec<f64>,
    /// Variance of the mean over its square.
    variance: Vec<f64>,
    /// What the side lobes of all else bring into each bin at most.
    leaked: Vec<f64>,
}

/// The averaged powers of one or two sounds over the same frames.
pub(super) struct Spectra {
    pub(super) bin_hz: f64,
    /// Noise bandwidth in bins.
    noise_bins: f64,
    /// Bins that chance moves together.
    bins_together: f64,
    pub(super) independent_frames: f64,
    pub(super) frames: u64,
    pub(super) a: Power,
    pub(super) b: Power,
    /// Share of the power in each bin that the two have in common, if they were averaged together.
    shared: Option<Vec<f64>>,
    /// Levels of a full-scale sine in the first and the second, in dB.
    pub(super) full_scale_db: [f64; 2],
}

/// The difference of one stretch of frequency between two sounds.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct BandDifference {
    /// The stretch.
    #[serde(flatten)]
    pub band: Band,
    /// Level in the first, RMS re that of a full-scale sine, in dB; `None` for silence.
    pub a_db: Option<f64>,
    /// The same in the second.
    pub b_db: Option<f64>,
    /// The second less the first in dB, less the gain where that is matched.
    pub difference_db: Option<f64>,
    /// Its standard uncertainty.
    pub difference_db_u: Option<f64>,
    /// The least difference that would be real, in dB.
    pub least_db: Option<f64>,
    /// Whether the difference is real, and one of the sound.
    #[serde(rename = "distinguishable")]
    pub is_real: bool,
    /// The second over the first in what both have in common, in dB; `None` where something hides
    /// it, or nothing is in common.
    pub transfer_db: Option<f64>,
    /// Its standard uncertainty.
    pub transfer_db_u: Option<f64>,
    /// The second less the first of all that is there, noise included, in dB.
    pub level_difference_db: Option<f64>,
    /// Its standard uncertainty.
    pub level_difference_db_u: Option<f64>,
    /// Whether that is real.
    #[serde(rename = "level_distinguishable")]
    pub is_level_real: bool,
    /// Share of its power that the one which has less has in common with the other, of two
    /// recordings of one sound.
    #[serde(skip)]
    pub shared_share: Option<f64>,
    /// Whether something hides it: what the two have in common is less than 20 dB above what each
    /// has of its own, so that a difference says nothing of what lies between them; or all there is
    /// are side lobes of what is louder elsewhere.
    #[serde(rename = "masked")]
    pub is_masked: bool,
}

impl BandDifference {
    /// Whether noise is more than half of what one of two recordings of one sound has there.
    #[must_use]
    pub fn is_noise(&self) -> bool {
        self.shared_share.is_some_and(|share| share < 0.5)
    }
}

/// Adds up the powers of frames.
struct Sums {
    sum: Vec<f64>,
    of_squares: Vec<f64>,
    /// Powers of the frames before, as many as two frames apart that do not overlap.
    before: Vec<Vec<f64>>,
    apart: usize,
    second_differences: Vec<f64>,
    differences: u64,
    frames: u64,
    /// Where those of the next are put.
    powers: Vec<f64>,
}

impl Sums {
    fn new(bins: usize, apart: usize) -> Self {
        Self {
            sum: vec![0.0; bins],
            of_squares: vec![0.0; bins],
            before: Vec::new(),
            apart,
            second_differences: vec![0.0; bins],
            differences: 0,
            frames: 0,
            powers: Vec::new(),
        }
    }

    fn add(&mut self, spectrum: &[Complex<f32>]) {
        let slot = (self.frames as usize) % (2 * self.apart);
        let mut powers = std::mem::take(&mut self.powers);
        powers.clear();
        powers.extend(spectrum.iter().map(|x| f64::from(x.norm_sqr())));
        for ((sum, of_squares), power) in self.sum.iter_mut().zip(&mut self.of_squares).zip(&powers)
        {
            *sum += power;
            *of_squares += power * power;
        }
        if self.before.len() == 2 * self.apart {
            let middle = &self.before[(slot + self.apart) % (2 * self.apart)];
            let sums = self.second_differences.iter_mut().zip(&powers);
            for ((sum, now), (middle, first)) in sums.zip(middle.iter().zip(&self.before[slot])) {
                *sum += (now - 2.0 * middle + first).powi(2) / 6.0;
            }
            self.differences += 1;
            self.powers = std::mem::replace(&mut self.before[slot], powers);
        } else {
            self.before.push(powers);
        }
        self.frames += 1;
    }

    /// The mean, scaled, and its variance. Noise has powers that scatter as much as they are large;
    /// a tone scatters less, which is believed where it also stands out of its neighbourhood.
    ///
    /// What two sounds share moves both alike: there chance is what each has of its own.
    fn power(&self, plan: &FramePlan, shared: Option<&[f64]>) -> Power {
        /// Once in 10¹³ does noise exceed its mean so far (e⁻³⁰).
        const STANDS_OUT: f64 = 30.0;
        /// Of what noise would scatter.
        const STEADY: f64 = 0.1;
        /// Bins to either side: 33 values give a mean to 17 %.
        const SMOOTHED: usize = 16;
        let frames = self.frames.max(1) as f64;
        let independent_frames = worth(plan, self.frames);
        let WindowSums { scale, noise_bins, bins_together } = WindowSums::new(plan);
        let mean: Vec<f64> = self.sum.iter().map(|sum| sum / frames * scale).collect();
        let bins = mean.len();
        // What the frames weigh: noise that comes in bursts is worth fewer of them.
        let uneven = |k: usize| {
            let near = k.saturating_sub(SMOOTHED)..(k + SMOOTHED + 1).min(bins);
            let ratios = near.filter(|k| self.sum[*k] > 0.0);
            let ratios = ratios.map(|k| 0.5 * self.of_squares[k] / self.sum[k].powi(2));
            let (sum, count) = ratios.fold((0.0, 0.0), |(sum, n), ratio| (sum + ratio, n + 1.0));
            if count > 0.0 { (sum / count * frames).max(1.0) } else { 1.0 }
        };
        let leaked = plan.leaked(&mean, noise_bins);
        if let Some(shared) = shared {
            // The signal times the noise of one of the two scatters so: twice this is the variance
            // of their ratio.
            let own = |k: usize| (1.0 - shared[k]).max(1e-12) * uneven(k) / independent_frames;
            let variance = (0..bins).map(own).collect();
            return Power { mean, variance, leaked };
        }
        let floor = noise_floor(&mean, bins_together, independent_frames);
        let steadiness = |k: usize| {
            let near = k.saturating_sub(2)..(k + 3).min(bins);
            let squares: f64 = near.clone().map(|k| self.sum[k].powi(2)).sum();
            let scatter: f64 = self.second_differences[near].iter().sum();
            scatter / self.differences as f64 / (squares / (frames * frames))
        };
        let variance = (0..bins)
            .map(|k| {
                let stands_out = self.differences > 0 && mean[k] > STANDS_OUT * floor[k];
                let steady = if stands_out { steadiness(k) } else { 1.0 };
                if steady < STEADY {
                    let noise = 2.0 * floor[k] / mean[k];
                    2.0 * steady.max(noise).min(0.5) / independent_frames
                } else {
                    uneven(k) / independent_frames
                }
            })
            .collect();
        Power { mean, variance, leaked }
    }
}

impl Spectra {
    /// Averages two sounds that do not lie over each other, each over its own length.
    pub(super) fn apart(
        a: &dyn Samples,
        b: &dyn Samples,
        plan: &FramePlan,
        rate_hz: f64,
    ) -> Result<Self, Error> {
        let sums = |sound: &dyn Samples| {
            let (mut sums, mut transform) = (plan_sums(plan), FrameTransform::new(plan));
            let mut reader = Reader::new(sound);
            for n in 0..plan.frames(sound.count() as u64) as usize {
                sums.add(transform.of(reader.at((n * plan.hop) as i64, plan.segment())?));
            }
            Ok(sums)
        };
        Ok(Self::new(plan, rate_hz, &sums(a)?, &sums(b)?, None))
    }

    fn new(plan: &FramePlan, rate_hz: f64, a: &Sums, b: &Sums, shared: Option<Vec<f64>>) -> Self {
        let WindowSums { noise_bins, bins_together, .. } = WindowSums::new(plan);
        let frames = a.frames.min(b.frames);
        Self {
            bin_hz: plan.bin_spacing_hz(rate_hz),
            noise_bins,
            bins_together,
            independent_frames: worth(plan, frames),
            frames,
            a: a.power(plan, shared.as_deref()),
            b: b.power(plan, shared.as_deref()),
            shared,
            full_scale_db: [0.0; 2],
        }
    }

    /// Share of its power that one of the two, that which has less of its own, has in common with
    /// the other.
    pub(super) fn shared_share(&self) -> Option<f64> {
        let all = Band { center_hz: 0.0, low_hz: 0.0, high_hz: f64::INFINITY };
        self.shared_in(&self.weights(&all)).map(|(a, b)| a.max(b))
    }

    /// How many bins that chance moves each by itself carry what the two have in common: few for
    /// tones, many for noise.
    pub(super) fn bins_in_common(&self) -> f64 {
        let Some(shared) = &self.shared else { return 0.0 };
        let powers = self.a.mean.iter().zip(&self.b.mean).zip(shared);
        let (sum, of_squares) = powers.fold((0.0, 0.0), |(sum, of_squares), ((a, b), shared)| {
            let power = shared * (a * b).sqrt();
            (sum + power, of_squares + power * power)
        });
        if of_squares > 0.0 { sum * sum / of_squares / self.bins_together } else { 0.0 }
    }

    /// Bins of a band, each with the share of it that lies inside.
    fn weights(&self, band: &Band) -> Vec<(usize, f64)> {
        let last = self.a.mean.len() - 1;
        let low = (band.low_hz / self.bin_hz).max(0.5);
        let high = (band.high_hz / self.bin_hz).min(last as f64 + 0.5);
        if high <= low {
            return Vec::new();
        }
        let (first, end) = ((low + 0.5).floor() as usize, (high + 0.5).floor() as usize);
        (first..=end.min(last))
            .map(|k| {
                let (from, to) = (k as f64 - 0.5, k as f64 + 0.5);
                (k, to.min(high) - from.max(low))
            })
            .filter(|(_, share)| *share > 0.0)
            .collect()
    }

    /// Share of the power of each in bins that it has in common with the other.
    fn shared_in(&self, bins: &[(usize, f64)]) -> Option<(f64, f64)> {
        let shared = self.shared.as_ref()?;
        let share = |power: &Power| {
            let (part, whole) = bins.iter().fold((0.0, 0.0), |(part, whole), (k, weight)| {
                let power = weight * power.mean[*k];
                (part + shared[*k] * power, whole + power)
            });
            if whole > 0.0 { part / whole } else { 0.0 }
        };
        Some((share(&self.a), share(&self.b)))
    }

    /// Power in a band, weighted over frequency, and the variance of it over its square.
    fn power_in(
        &self,
        power: &Power,
        bins: &[(usize, f64)],
        of: &impl Fn(f64) -> f64,
    ) -> (f64, f64) {
        let (mut sum, mut variance) = (0.0, 0.0);
        for (k, share) in bins {
            let here = share * of(*k as f64 * self.bin_hz) * power.mean[*k];
            sum += here;
            variance += here * here * power.variance[*k];
        }
        // Chance moves neighbours together, but no more of them than there are.
        let together = self.bins_together.min(bins.len() as f64);
        let relative = if sum > 0.0 { together * variance / (sum * sum) } else { f64::INFINITY };
        (sum / self.noise_bins, relative)
    }

    /// Level in dB of the power over all frequencies, each weighted, in the first and the second,
    /// and the difference.
    pub(super) fn level(
        &self,
        range_hz: (f64, f64),
        of: &impl Fn(f64) -> f64,
        family: &mut Family,
    ) -> BandDifference {
        let (low_hz, high_hz) = range_hz;
        self.weighted(Band { center_hz: low_hz.midpoint(high_hz), low_hz, high_hz }, of, family)
    }

    /// The difference in a band.
    pub(super) fn difference(&self, band: Band, family: &mut Family) -> BandDifference {
        self.weighted(band, &|_| 1.0, family)
    }

    /// The difference in each bin within a range.
    pub(super) fn bins(&self, (low_hz, high_hz): (f64, f64)) -> impl Iterator<Item = Band> + '_ {
        (1..self.a.mean.len())
            .map(|k| k as f64 * self.bin_hz)
            .filter(move |hz| (low_hz..=high_hz).contains(hz))
            .map(|hz| Band {
                center_hz: hz,
                low_hz: hz - 0.499 * self.bin_hz,
                high_hz: hz + 0.499 * self.bin_hz,
            })
    }

    /// Bins in a range that chance moves each by itself.
    pub(super) fn independent_bins(&self, (low_hz, high_hz): (f64, f64)) -> f64 {
        let high_hz = high_hz.min(self.bin_hz * self.a.mean.len() as f64);
        ((high_hz - low_hz) / self.bin_hz / self.bins_together).max(1.0)
    }

    fn weighted(
        &self,
        band: Band,
        of: &impl Fn(f64) -> f64,
        family: &mut Family,
    ) -> BandDifference {
        let bins = self.weights(&band);
        let (a, a_variance) = self.power_in(&self.a, &bins, of);
        let (b, b_variance) = self.power_in(&self.b, &bins, of);
        let level = |power: f64, side: usize| {
            (power > 0.0).then(|| db_from_power(power) + self.full_scale_db[side])
        };
        let mut found = BandDifference {
            band,
            a_db: level(a, 0),
            b_db: level(b, 1),
            ..BandDifference::default()
        };
        let (Some(a_db), Some(b_db)) = (found.a_db, found.b_db) else { return found };
        let difference_db = b_db - a_db;
        let u = DB_PER_POWER * (a_variance + b_variance).sqrt();
        let shared = self.shared_in(&bins);
        let least_db = match shared {
            Some(_) => u * family.over_u(self.independent_frames - 1.0),
            None => family.powers_db(1.0 / a_variance, 1.0 / b_variance),
        };
        let louder = if a > b { &self.a } else { &self.b };
        let is_leaked = is_leaked(louder, &bins);
        let is_hidden = shared.is_some_and(|(of_a, of_b)| of_a.min(of_b) < SHARED_20_DB);
        found.is_masked = is_leaked || is_hidden;
        found.shared_share = shared.map(|(of_a, of_b)| of_a.min(of_b));
        let u = Some(u).filter(|u| u.is_finite());
        (found.difference_db, found.difference_db_u) = (Some(difference_db), u);
        (found.level_difference_db, found.level_difference_db_u) = (Some(difference_db), u);
        found.least_db = Some(least_db).filter(|least| least.is_finite());
        let exceeds = difference_db.abs() > least_db;
        found.is_level_real = exceeds && !is_leaked;
        found.is_real = exceeds && !found.is_masked;
        if let Some((of_a, of_b)) = shared.filter(|_| !found.is_masked) {
            // Noise of the first alone would lower what is in common by its share, that of the
            // second alone raise it: the truth lies between.
            let (least, most) = (db_from_power(of_b), -db_from_power(of_a));
            let between = (most - least) / 12f64.sqrt();
            found.transfer_db = Some(difference_db + least.midpoint(most));
            found.transfer_db_u = u.map(|u| u.hypot(between));
        }
        found
    }
}

/// Sums over a window.
struct WindowSums {
    /// What makes of |X|² the square of the amplitude of a tone.
    scale: f64,
    noise_bins: f64,
    bins_together: f64,
}

impl WindowSums {
    fn new(plan: &FramePlan) -> Self {
        let w = plan.window.samples();
        let sum: f64 = w.iter().sum();
        let of_squares: f64 = w.iter().map(|w| w * w).sum();
        let of_fourths: f64 = w.iter().map(|w| w.powi(4)).sum();
        let size = plan.transform_size as f64;
        Self {
            scale: 4.0 / (sum * sum),
            noise_bins: size * of_squares / (sum * sum),
            bins_together: size * of_fourths / (of_squares * of_squares),
        }
    }
}

/// Independent frames that so many frames are worth.
fn worth(plan: &FramePlan, frames: u64) -> f64 {
    plan.window.independent_frames(frames, plan.hop).max(1.0)
}

/// Whether most of what bins hold may be side lobes.
fn is_leaked(power: &Power, bins: &[(usize, f64)]) -> bool {
    /// A tenth of leakage moves a level by 0.4 dB.
    const ABOVE_LEAKED: f64 = 10.0;
    let sum = |values: &[f64]| bins.iter().map(|(k, share)| share * values[*k]).sum::<f64>();
    sum(&power.mean) < ABOVE_LEAKED * sum(&power.leaked)
}

fn plan_sums(plan: &FramePlan) -> Sums {
    Sums::new(plan.transform_size / 2 + 1, plan.segment().div_ceil(plan.hop))
}

/// Averages two sounds that lie over each other, as they come.
pub(super) struct Together<'a> {
    plan: &'a FramePlan,
    of_a: Side,
    of_b: Side,
    cross: Vec<Complex<f64>>,
}

struct Side {
    framer: Framer,
    transform: FrameTransform,
    sums: Sums,
}

impl Side {
    fn new(plan: &FramePlan) -> Self {
        Self {
            framer: Framer::new(plan.segment(), plan.hop, 0),
            transform: FrameTransform::new(plan),
            sums: plan_sums(plan),
        }
    }

    fn push(&mut self, samples: &[f32]) {
        let Self { framer, transform, sums } = self;
        framer.push(samples, |frame| sums.add(transform.of(frame)));
    }
}

impl<'a> Together<'a> {
    pub(super) fn new(plan: &'a FramePlan) -> Self {
        let cross = vec![Complex::default(); plan.transform_size / 2 + 1];
        Self { plan, of_a: Side::new(plan), of_b: Side::new(plan), cross }
    }

    /// Takes the next samples of both, as many as frames are apart or fewer.
    pub(super) fn push(&mut self, a: &[f32], b: &[f32]) {
        let before = self.of_a.sums.frames;
        self.of_a.push(a);
        self.of_b.push(b);
        if self.of_a.sums.frames > before {
            let of_both = self.of_a.transform.spectrum().iter().zip(self.of_b.transform.spectrum());
            for (cross, (a, b)) in self.cross.iter_mut().zip(of_both) {
                let product = a.conj() * b;
                *cross += Complex::new(f64::from(product.re), f64::from(product.im));
            }
        }
    }

    pub(super) fn finish(self, rate_hz: f64) -> Spectra {
        let (of_a, of_b) = (self.of_a.sums, self.of_b.sums);
        let independent = self.plan.window.independent_frames(of_a.frames, self.plan.hop);
        let shared = self.cross.iter().zip(of_a.sum.iter().zip(&of_b.sum)).map(|(c, (a, b))| {
            let raw = if *a > 0.0 && *b > 0.0 { c.norm_sqr() / (a * b) } else { 0.0 };
            // Two noises without anything in common seem to share one part in as many as there are
            // frames.
            ((raw - 1.0 / independent) / (1.0 - 1.0 / independent).max(1e-3)).clamp(0.0, 1.0)
        });
        Spectra::new(self.plan, rate_hz, &of_a, &of_b, Some(shared.collect()))
    }
}

/// Transforms frame after frame in single precision: its rounding, spread over all bins, lies far
/// below the side lobes of any window.
struct FrameTransform {
    window: Vec<f32>,
    transform: RealTransform<f32>,
    input: Vec<f32>,
}

impl FrameTransform {
    fn new(plan: &FramePlan) -> Self {
        Self {
            window: plan.window.samples().iter().map(|w| *w as f32).collect(),
            transform: RealTransform::new(plan.transform_size),
            input: vec![0.0; plan.transform_size],
        }
    }

    fn of(&mut self, frame: &[f32]) -> &[Complex<f32>] {
        let (inside, rest) = self.input.split_at_mut(self.window.len());
        rest.fill(0.0);
        for ((value, x), w) in inside.iter_mut().zip(frame).zip(&self.window) {
            *value = x * w;
        }
        self.transform.forward(&mut self.input)
    }

    /// What the last frame gave.
    fn spectrum(&self) -> &[Complex<f32>] {
        self.transform.output()
    }
}
