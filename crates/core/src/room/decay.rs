//! Reverberation times of a band: the decay curve, the lines through it, and how sure they are.

use super::cells::Cells;
use super::model::{self, Block, Model, PARAMETERS};
use crate::fit::Line;
use crate::measured::Measured;
use crate::units::{DB_PER_POWER, db_from_power, power_from_db};

/// Where the lines begin and end, in dB below the start (ISO 3382-1:2009, 3.3 to 3.5).
const EARLY: (f64, f64) = (0.0, -10.0);
const T20: (f64, f64) = (-5.0, -25.0);
const T30: (f64, f64) = (-5.0, -35.0);
/// What the noise spoils without compensation begins so far above it.
pub(super) const CLEAR_DB: f64 = 10.0;
/// A line may end so far below where the decay has sunk to the noise, which is removed.
const INTO_NOISE_DB: f64 = 3.0;
/// A time that is less certain than this share of it is none.
const LEAST_CERTAIN: f64 = 0.3;
/// A decay of 60 dB in nepers of power.
const SIXTY: f64 = 13.815_510_557_964_274;
/// Least product of bandwidth and reverberation time that filters run backwards allow.
const LEAST_PRODUCT: f64 = 4.0;

/// A line through a part of the decay curve.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DecayLine {
    /// Where it begins and ends, in seconds.
    pub from_s: f64,
    /// See above.
    pub to_s: f64,
    /// Its level at time zero, and how fast it falls.
    pub level_db: f64,
    /// See above; negative.
    pub slope_db_s: f64,
}

/// The decay curve of a band for a picture.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DecayCurve {
    /// Time from the direct sound, or from when the noise stops.
    pub time_s: Vec<f64>,
    /// Level of what is still to come re all of it; of interrupted noise, the level re the noise.
    pub level_db: Vec<f64>,
    /// The lines of T20 and T30.
    pub t20: Option<DecayLine>,
    /// See above.
    pub t30: Option<DecayLine>,
    /// The second slope.
    pub late: Option<DecayLine>,
    /// When the decay has sunk to the noise.
    pub noise_s: f64,
}

/// What the decay of a band says.
#[derive(Debug, Clone, Default)]
pub(super) struct BandDecay {
    pub(super) edt_s: Option<f64>,
    pub(super) t20_s: Option<Measured>,
    pub(super) t30_s: Option<Measured>,
    pub(super) inr_db: Option<f64>,
    /// 100·(T30/T20 − 1) with its uncertainty.
    pub(super) curvature: Option<Measured>,
    /// Reverberation time of the first of two slopes, of the second, and the level that this has.
    pub(super) first_s: Option<f64>,
    pub(super) late_s: Option<Measured>,
    pub(super) late_level_db: Option<f64>,
    /// Energy of the response without noise, and its first moment.
    pub(super) energy: f64,
    pub(super) moment: f64,
    /// Power of the noise.
    pub(super) noise: f64,
    /// The response ends before its decay does.
    pub(super) is_cut: bool,
    /// The filter rings too long for the decay.
    pub(super) rings: bool,
    pub(super) curve: DecayCurve,
}

/// What there is to be measured, of an impulse response.
pub(super) fn of_response(cells: &Cells) -> Option<BandDecay> {
    let from = late_from(cells)?;
    let blocks = model::blocks(cells, from, 1.0);
    let model = model::fit(&blocks)?;
    let integrated = Integrated::new(cells, &model, blocks);
    let energy = integrated.energy[0] + cells.before;
    if energy.is_nan() || energy <= 0.0 {
        return None;
    }
    let mut found = BandDecay { energy, noise: model.noise, ..BandDecay::default() };
    let step_s = cells.step_s;
    let moments = integrated.clear.iter().enumerate();
    let end_s = integrated.end as f64 * step_s;
    let beyond: f64 =
        model.decays.iter().map(|d| d.energy_from(end_s) * (end_s + 1.0 / d.rate)).sum();
    found.moment =
        moments.map(|(n, power)| (n as f64 + 0.5) * step_s * power * step_s).sum::<f64>()
            + beyond
            + cells.moment_before;
    found.is_cut = integrated.is_cut;
    let levels = integrated.levels(energy);
    // Where the noise hides the decay, nothing is read from it.
    let first_rate = model.decays.first()?.rate;
    let inr_db = db_from_power(energy * first_rate / integrated.floor);
    found.inr_db = inr_db.is_finite().then_some(inr_db);
    let line = |range: (f64, f64)| integrated.line(&levels, range);
    found.edt_s = line(EARLY).filter(|_| inr_db > -EARLY.1 + CLEAR_DB).map(|line| line.time_s());
    let known = |range: (f64, f64)| {
        let line = line(range).filter(|_| inr_db > -range.1 - INTO_NOISE_DB)?;
        let u = integrated.deviation(&model, &line.moves) / line.db_s.abs();
        (line.db_s < 0.0 && u < LEAST_CERTAIN).then_some((line, u))
    };
    let (t20, t30) = (known(T20), known(T30));
    let measured = |(line, u): &(Slope, f64)| {
        let time_s = line.time_s();
        // What scatters by a share u lies too long by u² in the mean.
        Measured::new(time_s * (1.0 - u * u), time_s * u)
    };
    found.t20_s = t20.as_ref().map(measured);
    found.t30_s = t30.as_ref().map(measured);
    found.curvature = t20.as_ref().zip(t30.as_ref()).map(|((short, _), (long, _))| {
        let ratio = short.db_s / long.db_s;
        let moves = short.moves.less(&long.moves, short.db_s, long.db_s);
        let u = integrated.deviation(&model, &moves);
        Measured::new(100.0 * (ratio - 1.0), 100.0 * ratio * u)
    });
    found.second(&model, energy);
    let product = cells.bandwidth_hz * SIXTY / first_rate;
    found.rings = product < LEAST_PRODUCT;
    if found.rings {
        (found.edt_s, found.t20_s, found.t30_s, found.curvature) = (None, None, None, None);
    }
    let drawn = |(line, _): &(Slope, f64)| line.drawn(step_s);
    found.curve = DecayCurve {
        t20: t20.as_ref().map(drawn),
        t30: t30.as_ref().map(drawn),
        noise_s: end_s,
        ..found.curve
    };
    found.draw(step_s, levels.iter().copied());
    Some(found)
}

/// The same of noise that stops at time zero, before which it had a level.
pub(super) fn of_interrupted(cells: &Cells, steady: f64, decays: f64) -> Option<BandDecay> {
    let all = model::blocks(cells, 0, decays);
    let below = steady * power_from_db(T20.0);
    let first = all.windows(2).position(|two| two.iter().all(|block| block.power < below))?;
    let model = model::fit(&model::blocks(cells, all[first].first, decays))?;
    let inr_db = db_from_power(steady / model.noise);
    let mut found = BandDecay { inr_db: Some(inr_db), ..BandDecay::default() };
    let is_known = |(line, u): &(DecayLine, f64)| *u < LEAST_CERTAIN * -line.slope_db_s;
    let known = |range: (f64, f64)| {
        let line = of_model(&model, steady, range);
        line.filter(|line| inr_db > -range.1 - INTO_NOISE_DB && is_known(line))
    };
    let (t20, t30) = (known(T20), known(T30));
    let measured = |line: &(DecayLine, f64), range: (f64, f64)| {
        let (line, u) = line;
        let time_s = -60.0 / line.slope_db_s;
        // One decay is read down to the noise, two within the range.
        let read_db = if model.decays.len() == 1 { inr_db + range.0 } else { range.0 - range.1 };
        let of_room = response_scatter(read_db / DB_PER_POWER, SIXTY / time_s, cells.bandwidth_hz);
        Measured::new(time_s, time_s * (u / line.slope_db_s).hypot(of_room))
    };
    found.t20_s = t20.as_ref().map(|line| measured(line, T20));
    found.t30_s = t30.as_ref().map(|line| measured(line, T30));
    found.curvature = found.t20_s.zip(found.t30_s).map(|(short, long)| {
        let ratio = long.value / short.value;
        let u = (short.u / short.value).hypot(long.u / long.value);
        Measured::new(100.0 * (ratio - 1.0), 100.0 * ratio * u)
    });
    found.second(&model, steady / model.decays.first()?.rate);
    found.rings = cells.bandwidth_hz * SIXTY / model.decays.first()?.rate < LEAST_PRODUCT;
    if found.rings {
        (found.t20_s, found.t30_s, found.curvature) = (None, None, None);
    }
    let lasts_s = cells.power.len() as f64 * cells.step_s;
    let end_s = crossing_s(&model, model.noise).min(lasts_s);
    found.is_cut = end_s >= lasts_s;
    found.curve.t20 = t20.map(|(line, _)| line);
    found.curve.t30 = t30.map(|(line, _)| line);
    found.curve.noise_s = end_s;
    found.curve.time_s = all.iter().map(|b| b.from_s + 0.5 * b.length_s).collect();
    found.curve.level_db = all.iter().map(|b| db_from_power(b.power / steady)).collect();
    Some(found)
}

/// Share by which the slope of a decay scatters since the room's response is one of many, whatever
/// number of decays is averaged: that of the line through the integrated response of noise over so
/// many nepers, at a rate of decay, in a band (J. L. Davy, J. Sound Vib. 66 (1979) 515; over 20 dB
/// 0.88/√(B·T), as ISO 3382-2:2008 has it).
fn response_scatter(nepers: f64, rate: f64, bandwidth_hz: f64) -> f64 {
    let c = 0.5 * nepers;
    let integral =
        2.0 * (2.0 * c.powi(3) / 3.0 + 1.0 - c * c - (c + 1.0).powi(2) * (-2.0 * c).exp());
    (0.5 * rate / bandwidth_hz * 144.0 / nepers.powi(6) * integral).sqrt()
}

/// When the decays of a model have sunk to a power.
fn crossing_s(model: &Model, power: f64) -> f64 {
    let (mut low, mut high) = (0.0, 1.0);
    while model.decaying(high) > power && high < 1e4 {
        high *= 2.0;
    }
    for _ in 0..50 {
        let middle = f64::midpoint(low, high);
        if model.decaying(middle) > power { low = middle } else { high = middle }
    }
    high
}

/// The line through the decays of a model within a range below a level, and the uncertainty of its
/// slope in dB/s.
fn of_model(model: &Model, steady: f64, range: (f64, f64)) -> Option<(DecayLine, f64)> {
    const POINTS: usize = 200;
    let at = |db: f64| crossing_s(model, steady * power_from_db(db));
    let (from_s, to_s) = (at(range.0), at(range.1));
    let step_s = (to_s - from_s) / POINTS as f64;
    let times = (0..=POINTS).map(|n| from_s + n as f64 * step_s);
    let line =
        Line::of_equals(times.clone().map(|t| (t, db_from_power(model.decaying(t) / steady))))?;
    // By how much the slope moves with the logarithms of the parameters.
    let mut by = [0.0; PARAMETERS];
    for t in times {
        let weight = DB_PER_POWER * (t - line.mean_x) / line.square;
        let all = model.decaying(t);
        for (n, decay) in model.decays.iter().enumerate() {
            let share = decay.at(t) / all;
            by[2 * n] += weight * share;
            by[2 * n + 1] -= weight * share * decay.rate * t;
        }
    }
    let variance = crate::linear::square_of(&model.covariance, &by) * model.scatter;
    let drawn = DecayLine { from_s, to_s, level_db: line.at(0.0), slope_db_s: line.slope };
    Some((drawn, variance.max(0.0).sqrt()))
}

/// The cell from which the decay curve lies 5 dB below its start, as it looks before anything is known
/// of the noise.
fn late_from(cells: &Cells) -> Option<usize> {
    const LEAST_CELLS: usize = 16;
    let count = cells.power.len();
    if count < LEAST_CELLS {
        return None;
    }
    let tail = &cells.power[count - count / 10..];
    let noise = tail.iter().sum::<f64>() / tail.len() as f64;
    let blocks = model::blocks(cells, 0, 1.0);
    let powers = blocks.iter().map(|block| block.power).enumerate();
    let (loudest, _) = powers.max_by(|a, b| a.1.total_cmp(&b.1))?;
    let sunk = blocks[loudest..].iter().find(|block| block.power < 2.0 * noise);
    let end = sunk.map_or(count, |block| block.first).max(1);
    let clear = |n: usize| cells.power[n] - noise;
    let all = cells.before / cells.step_s + (0..end).map(clear).sum::<f64>();
    let mut left = all;
    let below = all * power_from_db(T20.0);
    (0..end).find(|n| {
        left -= clear(*n);
        left < below
    })
}

/// The power integrated backwards.
struct Integrated<'a> {
    cells: &'a Cells,
    blocks: Vec<Block>,
    /// Power less that of the noise, up to where the decay has sunk into it.
    clear: Vec<f64>,
    /// Energy from the start of each of these cells on.
    energy: Vec<f64>,
    end: usize,
    is_cut: bool,
    noise: f64,
    /// Power that the decay has sunk to there.
    floor: f64,
    /// Energy that the model has from there on, with its derivatives.
    beyond: (f64, [f64; PARAMETERS]),
}

impl<'a> Integrated<'a> {
    fn new(cells: &'a Cells, model: &Model, blocks: Vec<Block>) -> Self {
        let count = cells.power.len();
        let sunk = (crossing_s(model, model.noise) / cells.step_s).ceil() as usize;
        let end = sunk.clamp(1, count);
        let end_s = end as f64 * cells.step_s;
        let clear: Vec<f64> = cells.power[..end].iter().map(|p| p - model.noise).collect();
        let beyond = model.energy_from(end_s);
        let mut energy = clear.clone();
        let mut left = beyond.0;
        for value in energy.iter_mut().rev() {
            left += *value * cells.step_s;
            *value = left;
        }
        Self {
            cells,
            blocks,
            clear,
            energy,
            end,
            is_cut: sunk > count,
            noise: model.noise,
            floor: model.noise.max(model.decaying(end_s)),
            beyond,
        }
    }

    /// The decay curve, re all of the energy.
    fn levels(&self, energy: f64) -> Vec<f64> {
        let db = |left: f64| db_from_power((left / energy).max(1e-30));
        self.energy.iter().copied().map(db).collect()
    }

    /// The line through the curve within a range of levels.
    fn line(&self, levels: &[f64], (from_db, to_db): (f64, f64)) -> Option<Slope> {
        let first = levels.iter().position(|db| *db <= from_db)?;
        let count = levels[first..].iter().position(|db| *db < to_db)?;
        let step_s = self.cells.step_s;
        let points = (first..first + count).map(|n| (n as f64 * step_s, levels[n]));
        let line = Line::of_equals(points.clone()).filter(|_| count >= 3)?;
        // By how much the slope moves with the power of each cell, and with the model.
        let mut cells = vec![0.0; self.end];
        let mut parameters = [0.0; PARAMETERS];
        let mut summed = 0.0;
        for (n, of_cell) in cells.iter_mut().enumerate() {
            if (first..first + count).contains(&n) {
                let weight =
                    (n as f64 * step_s - line.mean_x) / line.square * DB_PER_POWER / self.energy[n];
                summed += weight;
                for (of, beyond) in parameters.iter_mut().zip(self.beyond.1) {
                    *of += weight * beyond;
                }
                parameters[PARAMETERS - 1] -= weight * (self.end - n) as f64 * step_s * self.noise;
            }
            *of_cell = summed * step_s;
        }
        let moves = Moves { cells, parameters };
        Some(Slope { db_s: line.slope, at_zero: line.at(0.0), first, count, moves })
    }

    /// Standard deviation of what moves with the cells and with the model, which moves with them too.
    fn deviation(&self, model: &Model, moves: &Moves) -> f64 {
        let cells = self.cells;
        let step_s = cells.step_s;
        let mut all: Vec<f64> = moves.cells.clone();
        all.resize(cells.power.len(), 0.0);
        for (n, of_cell) in all.iter_mut().enumerate() {
            *of_cell *= model.over(n as f64 * step_s, step_s).0;
        }
        for block in &self.blocks {
            let with = model.moves_with(block);
            let of_block: f64 = moves.parameters.iter().zip(with).map(|(a, b)| a * b).sum();
            for of_cell in &mut all[block.first..block.first + block.cells] {
                *of_cell += of_block / block.cells as f64;
            }
        }
        let variance = all.iter().map(|x| x * x).sum::<f64>() / (cells.bandwidth_hz * step_s);
        (variance * model.scatter).sqrt()
    }
}

/// How a slope moves, in dB/s, with the power of each cell and with the parameters of the model.
struct Moves {
    cells: Vec<f64>,
    parameters: [f64; PARAMETERS],
}

impl Moves {
    /// The same of the logarithm of the ratio of two slopes.
    fn less(&self, other: &Self, slope: f64, of_other: f64) -> Self {
        let both = |(a, b): (&f64, &f64)| a / slope - b / of_other;
        Self {
            cells: self.cells.iter().zip(&other.cells).map(both).collect(),
            parameters: std::array::from_fn(|n| both((&self.parameters[n], &other.parameters[n]))),
        }
    }
}

/// A line through the curve.
struct Slope {
    db_s: f64,
    at_zero: f64,
    first: usize,
    count: usize,
    moves: Moves,
}

impl Slope {
    fn time_s(&self) -> f64 {
        -60.0 / self.db_s
    }

    fn drawn(&self, step_s: f64) -> DecayLine {
        DecayLine {
            from_s: self.first as f64 * step_s,
            to_s: (self.first + self.count) as f64 * step_s,
            level_db: self.at_zero,
            slope_db_s: self.db_s,
        }
    }
}

impl BandDecay {
    /// What a second decay says; levels are re an energy.
    fn second(&mut self, model: &Model, energy: f64) {
        /// Nearer to each other two slopes are the spread within a band.
        const FASTER: f64 = 1.5;
        let [early, late] = model.decays[..] else { return };
        if early.rate < FASTER * late.rate {
            return;
        }
        self.first_s = Some(SIXTY / early.rate);
        let share_u = (model.covariance[3][3] * model.scatter).sqrt();
        let time_s = SIXTY / late.rate;
        let level_db = db_from_power(late.energy_from(0.0) / energy);
        self.late_s = Some(Measured::new(time_s, time_s * share_u));
        self.late_level_db = Some(level_db);
        self.curve.late = Some(DecayLine {
            from_s: model::overtakes_s(early, late),
            to_s: crossing_s(model, model.noise),
            level_db,
            slope_db_s: -60.0 / time_s,
        });
    }

    /// Keeps as much of the curve as a picture shows.
    fn draw(&mut self, step_s: f64, levels: impl ExactSizeIterator<Item = f64>) {
        const POINTS: usize = 400;
        let every = (levels.len() / POINTS).max(1);
        for (n, db) in levels.enumerate().step_by(every) {
            self.curve.time_s.push(n as f64 * step_s);
            self.curve.level_db.push(db);
        }
    }
}
