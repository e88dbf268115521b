//! Envelope and frequency of a band, read from a sound of any length.

use rustfft::num_complex::Complex;

use super::analytic::{Analytic, Decimator};
use super::band::Band;
use super::follow::Follower;
use super::result::Outline;
use super::search::Noise;
use super::{ModulationSettings, Sound};
use crate::error::Error;
use crate::lanes;

/// Values of which the shortest stretch consists.
const FEWEST: usize = 16;

/// Envelope and frequency of a band, followed over time.
pub(super) struct Heard {
    pub(super) envelope: Follower,
    pub(super) frequency: Option<Follower>,
    /// Mean square of the envelope.
    pub(super) power: f64,
    /// Mean frequency weighed by power, where the frequency is followed.
    pub(super) mean_hz: f64,
    /// Standard deviation of its spectrum about that.
    pub(super) spread_hz: f64,
    /// Seconds from the first sample to the first value.
    pub(super) late_s: f64,
    /// Distance and length of stretches.
    pub(super) hop_s: f64,
    pub(super) length_s: f64,
    pub(super) outline: Outline,
    pub(super) rates_hz: (f64, f64),
    pub(super) width_hz: f64,
}

/// What the analytic signal is taken apart into, value by value.
#[derive(Default)]
struct Streams {
    envelope: Vec<f64>,
    /// Its square.
    power: Vec<f64>,
    /// The same times the frequency.
    turning: Vec<f64>,
}

impl Streams {
    fn clear(&mut self) {
        self.envelope.clear();
        self.power.clear();
        self.turning.clear();
    }
}

impl Heard {
    pub(super) fn of(
        sound: &Sound<'_>,
        band: &Band,
        settings: &ModulationSettings,
    ) -> Result<Self, Error> {
        let rates_hz = band.rates_hz(settings)?;
        let mut analytic = Analytic::new(band.hz, band.transition_hz, sound.sample_rate_hz);
        if band.is_tonal {
            analytic = analytic.with_changes();
        }
        let rate_hz = analytic.rate_hz();
        let every = ((rate_hz / (4.0 * rates_hz.1)) as usize).max(1);
        let kept_hz = rate_hz / every as f64;
        let decimators: [Decimator; 3] =
            std::array::from_fn(|_| Decimator::new(rates_hz.1, rate_hz, every));
        let count = sound.samples.count();
        let edge = (analytic.edge_s() * kept_hz).ceil() as usize + decimators[0].edge();
        let kept = (count.div_ceil(analytic.every)).div_ceil(every);
        let used = kept.saturating_sub(2 * edge);
        let wanted = (2.0 / settings.resolution_hz * kept_hz) as usize;
        let length = wanted.min(used);
        if length < FEWEST {
            return Err(Error::TooShort {
                samples: count as u64,
                needed: (FEWEST as f64 / kept_hz * sound.sample_rate_hz) as u64 + 1,
            });
        }
        // A short take has as many stretches as fit well beside each other.
        let hop = (length / 4).min(((used - length) / 8).max(length / 16)).max(1);
        let new = |noise| Follower::new(length, hop, used, kept_hz, rates_hz, noise);
        let mut listener = Listener {
            envelope: new(Noise::White),
            frequency: band.is_tonal.then(|| new(Noise::Rising)),
            rate_hz,
            decimators,
            raw: Streams::default(),
            kept: Streams::default(),
            skipped: edge,
            left: used,
            sums: [0.0; 3],
            count: 0,
            outline: Outline::new(sound)?,
        };
        analytic.run(sound.samples, 0..count, |values, changes| listener.push(values, changes))?;
        listener.finish();
        let [sum, turning, changing] = listener.sums;
        let power = sum.max(f64::MIN_POSITIVE);
        let away_hz = turning / power;
        Ok(Self {
            envelope: listener.envelope,
            frequency: listener.frequency,
            power: sum / listener.count.max(1) as f64,
            mean_hz: analytic.centre_hz + away_hz,
            spread_hz: (changing / power - away_hz * away_hz).max(0.0).sqrt(),
            late_s: edge as f64 / kept_hz,
            hop_s: hop as f64 / kept_hz,
            length_s: length as f64 / kept_hz,
            outline: listener.outline,
            rates_hz,
            width_hz: band.width_hz(),
        })
    }
}

/// Takes the analytic signal apart, and brings what it consists of down to the rates of interest.
struct Listener {
    envelope: Follower,
    frequency: Option<Follower>,
    /// Values of the analytic signal per second.
    rate_hz: f64,
    decimators: [Decimator; 3],
    raw: Streams,
    kept: Streams,
    /// Values to be left out at the beginning, and to be taken behind them.
    skipped: usize,
    left: usize,
    /// Sums of the power, of that times the frequency, and of the power of changes.
    sums: [f64; 3],
    count: usize,
    outline: Outline,
}

impl Listener {
    fn push(&mut self, values: &[Complex<f64>], changes: &[Complex<f64>]) {
        let Self { raw, kept, decimators, .. } = self;
        raw.clear();
        raw.power.extend(values.iter().map(Complex::norm_sqr));
        raw.envelope.extend(raw.power.iter().map(|power| power.sqrt()));
        decimators[0].push(raw.envelope.iter().copied(), &mut kept.envelope);
        if self.frequency.is_some() {
            let both = values.iter().zip(changes);
            raw.turning.extend(both.map(|(z, change)| (change * z.conj()).im));
            decimators[1].push(raw.power.iter().copied(), &mut kept.power);
            decimators[2].push(raw.turning.iter().copied(), &mut kept.turning);
        }
        self.sums[0] += lanes::sum(&raw.power);
        self.sums[1] += lanes::sum(&raw.turning);
        self.sums[2] += changes.iter().map(Complex::norm_sqr).sum::<f64>();
        self.outline.add(&raw.envelope, self.count, self.rate_hz);
        self.count += values.len();
        self.hand_over();
    }

    /// Ends the stream: what is still on its way.
    fn finish(&mut self) {
        let Self { kept, decimators: [first, second, third], .. } = self;
        first.finish(&mut kept.envelope);
        if self.frequency.is_some() {
            second.finish(&mut kept.power);
            third.finish(&mut kept.turning);
        }
        self.hand_over();
    }

    /// Hands over what has come, but for the ends.
    fn hand_over(&mut self) {
        let kept = &self.kept;
        let out = self.skipped.min(kept.envelope.len());
        self.skipped -= out;
        let to = (out + self.left).min(kept.envelope.len());
        self.left -= to - out;
        self.envelope.push(&kept.envelope[out..to], None);
        if let Some(frequency) = &mut self.frequency {
            let (turning, power) = (&kept.turning[out..to], &kept.power[out..to]);
            let share = |(turning, power): (&f64, &f64)| {
                if *power > 0.0 { turning / power } else { 0.0 }
            };
            let values: Vec<f64> = turning.iter().zip(power).map(share).collect();
            let weights: Vec<f64> = power.iter().map(|power| power.max(0.0)).collect();
            frequency.push(&values, Some(&weights));
        }
        self.kept.clear();
    }
}

impl Outline {
    const MOST: usize = 2400;

    fn new(sound: &Sound<'_>) -> Result<Self, Error> {
        let count = sound.samples.count();
        let step = count.div_ceil(Self::MOST).max(1);
        let (mut outline, mut from) = (Self::default(), 0);
        outline.step_s = step as f64 / sound.sample_rate_hz;
        let mut block = vec![0.0; step];
        while from < count {
            let part = &mut block[..step.min(count - from)];
            sound.samples.read(from, part)?;
            let ends = part.iter().fold((0.0f32, 0.0f32), |(a, b), x| (a.min(*x), b.max(*x)));
            outline.sound.push(ends);
            from += step;
        }
        outline.envelope = vec![0.0; outline.sound.len()];
        Ok(outline)
    }

    /// Takes values of the envelope from the `at`th on: the greatest of each stretch, or what lies on
    /// a straight line between two, where they are farther apart.
    fn add(&mut self, values: &[f64], at: usize, rate_hz: f64) {
        let per_stretch = rate_hz * self.step_s;
        for (n, value) in values.iter().enumerate() {
            let place = (at + n) as f64 / per_stretch;
            let before = n.checked_sub(1).map_or(*value, |before| values[before]);
            let first = ((place - 1.0 / per_stretch).max(0.0) as usize + 1).min(place as usize);
            for stretch in first..=place as usize {
                let back = ((place - stretch as f64) * per_stretch).clamp(0.0, 1.0);
                let between = value + back * (before - value);
                if let Some(most) = self.envelope.get_mut(stretch) {
                    *most = most.max(between.max(0.0) as f32);
                }
            }
        }
    }
}
