//! Exponential decays above steady noise, fitted to the power of a band by maximum likelihood.
//!
//! The power of noise in a band over a time t is that of ν = B·t independent values, so that its
//! likelihood is that of a gamma distribution, −ln L = Σ ν·(ln M + E/M) of the powers E and the
//! model M = Σ a·e^(−k·t) + n. Its minimum is looked for in the logarithms of all a, k and n, by steps
//! of Fisher's scoring that are shortened until they help (Marquardt). Each block of time has the
//! model's mean over it.

use super::cells::Cells;
use crate::linear;

/// Blocks grow with time, by such a share of it, from one inverse width on.
const GROWTH: f64 = 0.02;
const STEPS: usize = 60;
/// Powers below this share of the highest one are not told from nothing.
const SMALLEST: f64 = 1e-20;
/// A second decay is believed if −2·ln L falls by so much: chance makes it so rarely that none of some
/// thousand bands has one by it.
const BELIEVED: f64 = 30.0;

/// A stretch of time with the mean power in it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Block {
    pub(super) from_s: f64,
    pub(super) length_s: f64,
    pub(super) power: f64,
    /// Independent values in it.
    pub(super) count: f64,
    /// Cells in it, from the first.
    pub(super) first: usize,
    pub(super) cells: usize,
}

/// Blocks of cells from one of them on, where the power may be the mean of several decays.
pub(super) fn blocks(cells: &Cells, from: usize, decays: f64) -> Vec<Block> {
    let mut blocks = Vec::new();
    let step_s = cells.step_s;
    let least = (1.0 / (cells.bandwidth_hz * step_s)).ceil().max(1.0);
    let mut at = from;
    while at < cells.power.len() {
        let grown = (GROWTH * (at - from) as f64).floor();
        let count = least.max(grown) as usize;
        let Some(of) = cells.power.get(at..at + count) else { break };
        let power = of.iter().sum::<f64>() / count as f64;
        let length_s = count as f64 * step_s;
        blocks.push(Block {
            from_s: at as f64 * step_s,
            length_s,
            power,
            count: decays * cells.bandwidth_hz * length_s,
            first: at,
            cells: count,
        });
        at += count;
    }
    blocks
}

/// Whether the power of cells scatters as that of steady noise does, or not much more.
pub(super) fn is_steady(cells: &Cells) -> bool {
    const MOST: f64 = 4.0;
    let blocks = blocks(cells, 0, 1.0);
    let count: f64 = blocks.iter().map(|block| block.count).sum();
    let mean = blocks.iter().map(|block| block.count * block.power).sum::<f64>() / count;
    let of = |block: &Block| block.count * (block.power / mean - 1.0).powi(2);
    blocks.len() < 3 || blocks.iter().map(of).sum::<f64>() < MOST * (blocks.len() - 1) as f64
}

/// An exponential decay of power: a·e^(−k·t).
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Decay {
    /// Power at time zero.
    pub(super) power: f64,
    /// k.
    pub(super) rate: f64,
}

impl Decay {
    pub(super) fn at(&self, t: f64) -> f64 {
        self.power * (-self.rate * t).exp()
    }

    /// Energy from a time on.
    pub(super) fn energy_from(&self, t: f64) -> f64 {
        self.at(t) / self.rate
    }
}

/// When a slower decay becomes the louder of two.
pub(super) fn overtakes_s(early: Decay, late: Decay) -> f64 {
    (early.power / late.power).ln() / (early.rate - late.rate)
}

/// Parameters of a model: ln a and ln k of one or two decays, then ln n. Those of a decay that is not
/// there are left alone.
pub(super) const PARAMETERS: usize = 5;
const NOISE: usize = PARAMETERS - 1;

/// What was fitted.
#[derive(Debug, Clone)]
pub(super) struct Model {
    /// The faster decay first.
    pub(super) decays: Vec<Decay>,
    /// Power of the noise.
    pub(super) noise: f64,
    /// Covariance of the parameters.
    pub(super) covariance: [[f64; PARAMETERS]; PARAMETERS],
    /// By how much blocks scatter more than noise does, as variance; 1 where they do not.
    pub(super) scatter: f64,
    minus_two_log: f64,
}

impl Model {
    /// The model's power over a stretch of time, with its derivatives by the parameters.
    pub(super) fn over(&self, from_s: f64, length_s: f64) -> (f64, [f64; PARAMETERS]) {
        let mut by = [0.0; PARAMETERS];
        let mut power = self.noise;
        for (n, decay) in self.decays.iter().enumerate() {
            let x = decay.rate * length_s;
            // Mean of e^(−x) over the stretch, and by how much it moves with ln x.
            let (mean, moves) = if x < 1e-4 {
                (1.0 - 0.5 * x, -0.5 * x)
            } else {
                let left = -(-x).exp_m1();
                (left / x, x * (-x).exp() / left - 1.0)
            };
            let of = decay.at(from_s) * mean;
            power += of;
            by[2 * n] = of;
            by[2 * n + 1] = of * (moves - decay.rate * from_s);
        }
        by[NOISE] = self.noise;
        (power, by)
    }

    /// Power of the decays alone.
    pub(super) fn decaying(&self, t: f64) -> f64 {
        self.decays.iter().map(|decay| decay.at(t)).sum()
    }

    /// Energy of the decays from a time on, with its derivatives.
    pub(super) fn energy_from(&self, t: f64) -> (f64, [f64; PARAMETERS]) {
        let mut by = [0.0; PARAMETERS];
        let mut energy = 0.0;
        for (n, decay) in self.decays.iter().enumerate() {
            let of = decay.energy_from(t);
            energy += of;
            by[2 * n] = of;
            by[2 * n + 1] = -of * (1.0 + decay.rate * t);
        }
        (energy, by)
    }

    fn moved(&self, by: &[f64; PARAMETERS]) -> Self {
        /// A step is no longer than this, in logarithms.
        const LONGEST: f64 = 2.0;
        let by = by.map(|step| step.clamp(-LONGEST, LONGEST));
        let mut moved = self.clone();
        for (n, decay) in moved.decays.iter_mut().enumerate() {
            decay.power *= by[2 * n].exp();
            decay.rate *= by[2 * n + 1].exp();
        }
        moved.noise *= by[NOISE].exp();
        moved
    }

    fn misfit(&self, blocks: &[Block]) -> f64 {
        let of = |block: &Block| {
            let (power, _) = self.over(block.from_s, block.length_s);
            2.0 * block.count * (power.ln() + block.power / power)
        };
        blocks.iter().map(of).sum()
    }

    /// Fitted from where it stands.
    fn fitted(mut self, blocks: &[Block], least: f64) -> Option<Self> {
        self.minus_two_log = self.misfit(blocks);
        let mut damping = 1e-3;
        for _ in 0..STEPS {
            let (slope, bend) = self.derivatives(blocks);
            let mut damped = bend;
            for (n, row) in damped.iter_mut().enumerate() {
                row[n] *= 1.0 + damping;
            }
            let step = linear::solve(damped, slope.map(|slope| [slope]))?.map(|[step]| step);
            let mut next = self.moved(&step);
            next.noise = next.noise.max(least);
            next.minus_two_log = next.misfit(blocks);
            let gained = self.minus_two_log - next.minus_two_log;
            if gained >= 0.0 {
                self = next;
                damping = (0.2 * damping).max(1e-9);
                if gained < 1e-6 {
                    break;
                }
            } else {
                damping *= 8.0;
                if damping > 1e9 {
                    break;
                }
            }
        }
        let is_fine = |x: f64| x.is_finite() && x > 0.0;
        let are_fine = self.decays.iter().all(|of| is_fine(of.power) && is_fine(of.rate));
        self.covariance = linear::inverse(self.derivatives(blocks).1)?;
        (are_fine && is_fine(self.noise)).then_some(self)
    }

    /// Down which way the misfit falls, and Fisher's information.
    fn derivatives(
        &self,
        blocks: &[Block],
    ) -> ([f64; PARAMETERS], [[f64; PARAMETERS]; PARAMETERS]) {
        let mut slope = [0.0; PARAMETERS];
        // What is not there, or not seen, has to stay where it is.
        let mut bend: [[f64; PARAMETERS]; PARAMETERS] =
            std::array::from_fn(|n| std::array::from_fn(|m| if n == m { 1e-9 } else { 0.0 }));
        let missing = 2 * self.decays.len()..NOISE;
        for (n, row) in bend.iter_mut().enumerate().filter(|(n, _)| missing.contains(n)) {
            row[n] = 1.0;
        }
        for block in blocks {
            let (power, by) = self.over(block.from_s, block.length_s);
            let by = by.map(|by| by / power);
            for n in 0..PARAMETERS {
                slope[n] += block.count * (block.power / power - 1.0) * by[n];
                for m in 0..PARAMETERS {
                    bend[n][m] += block.count * by[n] * by[m];
                }
            }
        }
        (slope, bend)
    }

    /// How the parameters move with the power of a block, as a share of it.
    pub(super) fn moves_with(&self, block: &Block) -> [f64; PARAMETERS] {
        let (power, by) = self.over(block.from_s, block.length_s);
        linear::times(&self.covariance, &by.map(|by| block.count * by / power))
    }

    fn with_scatter(mut self, blocks: &[Block]) -> Self {
        let of = |block: &Block| {
            let (power, _) = self.over(block.from_s, block.length_s);
            block.count * (block.power / power - 1.0).powi(2)
        };
        let free = blocks.len() as f64 - 2.0 * self.decays.len() as f64 - 1.0;
        let scatter = blocks.iter().map(of).sum::<f64>() / free.max(1.0);
        self.scatter = if free < 6.0 { 1.0 } else { scatter.max(1.0) };
        self
    }
}

/// Fits one decay or two above noise, whichever the blocks speak for; `None` where there is none.
pub(super) fn fit(blocks: &[Block]) -> Option<Model> {
    const FEWEST: usize = 5;
    let lasts_s = blocks.last().map(|last| last.from_s + last.length_s)?;
    let first = blocks.first()?;
    let most = blocks.iter().map(|block| block.power).fold(0.0, f64::max);
    if blocks.len() < FEWEST || most <= 0.0 {
        return None;
    }
    let least = SMALLEST * most;
    let tail = &blocks[blocks.len() - (blocks.len() / 8).max(1)..];
    let noise = tail.iter().map(|block| block.power).sum::<f64>() / tail.len() as f64;
    let start = |decays: Vec<Decay>| Model {
        decays,
        noise: noise.max(least),
        covariance: [[0.0; PARAMETERS]; PARAMETERS],
        scatter: 1.0,
        minus_two_log: 0.0,
    };
    let better = |a: Option<Model>, b: Option<Model>| match (a, b) {
        (Some(a), Some(b)) => Some(if b.minus_two_log < a.minus_two_log { b } else { a }),
        (a, b) => a.or(b),
    };
    // Reverberation times from a tenth of what there is to twice it.
    let spans_s = lasts_s - first.from_s;
    let head = blocks[..blocks.len().min(3)].iter().map(|block| block.power).sum::<f64>() / 3.0;
    let from = |rate: f64| Decay { power: head * (rate * first.from_s).min(50.0).exp(), rate };
    let one = [0.02, 0.06, 0.2, 0.6, 2.0]
        .into_iter()
        .map(|share| start(vec![from(13.8 / (share * spans_s))]).fitted(blocks, least))
        .fold(None, better)?;
    let single = one.decays[0];
    let two = [(0.15, 3.0), (0.05, 3.0), (0.01, 3.0), (0.003, 2.0), (0.3, 1.5)]
        .into_iter()
        .map(|(share, slower)| {
            let early = Decay { power: (1.0 - share) * single.power, rate: 1.3 * single.rate };
            let late = Decay { power: share * single.power, rate: single.rate / slower };
            let noise = Model { noise: one.noise, ..start(vec![early, late]) };
            noise.fitted(blocks, least)
        })
        .fold(None, better);
    let one = one.with_scatter(blocks);
    let two = two.map(|mut two| {
        if two.decays[0].rate < two.decays[1].rate {
            two.decays.swap(0, 1);
            two.covariance = swapped(two.covariance);
        }
        two.with_scatter(blocks)
    });
    match two {
        Some(two) if is_double(&one, &two, first.from_s) => Some(two),
        _ => Some(one),
    }
}

/// Whether two decays are more than chance, and both are seen.
fn is_double(one: &Model, two: &Model, from_s: f64) -> bool {
    /// How much faster the first one is at least.
    const FASTER: f64 = 1.15;
    /// So far above the noise the second one begins to be the louder.
    const OVER_NOISE: f64 = 3.0;
    let [early, late] = two.decays[..] else { return false };
    let gained = (one.minus_two_log - two.minus_two_log) / two.scatter;
    let crosses_s = overtakes_s(early, late);
    gained > BELIEVED
        && early.rate > FASTER * late.rate
        && crosses_s > from_s
        && late.at(crosses_s) > OVER_NOISE * two.noise
}

/// With the parameters of both decays in each other's place.
fn swapped(covariance: [[f64; PARAMETERS]; PARAMETERS]) -> [[f64; PARAMETERS]; PARAMETERS] {
    let from = [2, 3, 0, 1, NOISE];
    std::array::from_fn(|n| std::array::from_fn(|m| covariance[from[n]][from[m]]))
}
