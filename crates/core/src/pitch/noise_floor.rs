//! The noise between the tones of a frame.

/// The mean power of the noise over the bins, from the lower quarter of the bins around, of which
/// in noise a quarter lies below 0.288 of its mean. Between its anchors it is straight on a scale
/// of ratios, both ways.
#[derive(Debug, Clone)]
pub(super) struct NoiseFloor {
    anchors: Vec<Anchor>,
    /// Power at each anchor, and its ln.
    powers: Vec<f64>,
    logs: Vec<f32>,
    /// For each bin the anchor before it, and the share of the way to the next.
    bins: Vec<(usize, f32)>,
}

/// The bins that show the noise at one place.
#[derive(Debug, Clone, Copy)]
struct Anchor {
    from: usize,
    to: usize,
    step: usize,
}

impl NoiseFloor {
    /// For so many bins.
    pub(super) fn new(count: usize) -> Self {
        const FIRST: f64 = 6.0;
        const RATIO: f64 = 1.5;
        let last = count - 1;
        let (mut anchors, mut places) = (Vec::new(), Vec::new());
        let mut at = FIRST;
        while anchors.len() < 2 || at < RATIO * last as f64 {
            let reach = (0.4 * at).max(5.0);
            let to = ((at + reach) as usize).min(last);
            let from = ((at - reach) as usize).max(1).min(to.saturating_sub(6));
            anchors.push(Anchor { from, to, step: (to - from + 1).div_ceil(KEYS) });
            places.push(at.ln());
            at *= RATIO;
        }
        let share = |bin: usize| {
            let log = (bin.max(1) as f64).ln();
            let after = places.partition_point(|place| *place < log).clamp(1, places.len() - 1);
            let (before, next) = (places[after - 1], places[after]);
            (after - 1, ((log - before) / (next - before)) as f32)
        };
        let bins = (0..count).map(share).collect();
        let count = anchors.len();
        Self { powers: vec![0.0; count], logs: vec![0.0; count], anchors, bins }
    }

    #[inline(always)]
    pub(super) fn set(&mut self, power: &[f32]) {
        const QUARTER: f64 = 0.287_68;
        let values = self.powers.iter_mut().zip(&mut self.logs);
        for (anchor, (of_noise, log)) in self.anchors.iter().zip(values) {
            let around = power[anchor.from..=anchor.to].iter().step_by(anchor.step);
            let mut keys = [i32::MAX; KEYS];
            let mut count = 0;
            for (key, power) in keys.iter_mut().zip(around) {
                *key = power.to_bits() as i32;
                count += 1;
            }
            let key = of_rank(&keys, count / 4);
            let quarter = f64::from(f32::from_bits(key as u32));
            *of_noise = (quarter / QUARTER).max(f32::MIN_POSITIVE.into());
            *log = (*of_noise as f32).ln();
        }
    }

    /// A power that the noise in a bin does not lie below, at once, but for bins beyond the
    /// anchors.
    pub(super) fn at_least(&self, bin: usize) -> f64 {
        let (before, share) = self.bins[bin];
        let (a, b) = (self.powers[before], self.powers[before + 1]);
        if !(0.0..=1.0).contains(&share) {
            0.0
        } else if a < b {
            a
        } else {
            b
        }
    }

    /// The mean power of the noise in a bin.
    pub(super) fn at(&self, bin: usize) -> f64 {
        let (before, share) = self.bins[bin];
        let (a, b) = (self.logs[before], self.logs[before + 1]);
        (a + (b - a) * share).exp().into()
    }
}

/// Bins around an anchor that are looked at, at most. Their powers are compared by their bits, which
/// are in the same order, as what is not negative.
const KEYS: usize = 32;

/// The value that so many others lie below: counting is quicker than sorting, since eight are
/// compared at once.
#[inline(always)]
fn of_rank(keys: &[i32; KEYS], rank: i32) -> i32 {
    for key in keys {
        let (mut below, mut up_to) = (0, 0);
        for other in keys {
            below += i32::from(other < key);
            up_to += i32::from(other <= key);
        }
        if below <= rank && up_to > rank {
            return *key;
        }
    }
    0
}
