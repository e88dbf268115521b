//! The likeliest course of the fundamental through the candidates of all frames.

use std::collections::VecDeque;

use super::candidates::{Candidate, KEPT};

/// What must speak for a fundamental before a frame counts as voiced, in nats.
const VOICED_EVIDENCE: f64 = 10.0;
/// Frames overlap: each brings only so much of its evidence as its own, per second of its hop, and
/// no more than all of it; more evidence than the most counts as that.
const OWN_SHARE_PER_S: f64 = 25.0;
const MOST_EVIDENCE: f64 = 240.0;
/// What it costs to begin or to end, to move by a cent up to a limit, and to leap.
const COST_OF_TURN: f64 = 6.0;
/// What it costs more to begin or to leap where nothing is new: a note that goes on keeps its
/// fundamental, whatever its partials do.
const COST_OF_NOTHING_NEW: (f64, f64) = (50.0, 80.0);
const COST_PER_CENT: f64 = 0.02;
const GLIDE_CENTS: f64 = 120.0;
const COST_OF_LEAP: f64 = 15.0;
const COST_OF_OCTAVE: f64 = 5.0;
/// Frames are settled when so much time and so many frames have followed.
const SETTLED_AFTER_S: f64 = 1.5;
const SETTLED_AFTER: usize = 30;

/// A frame with what it might be: each candidate, and last no fundamental at all.
#[derive(Debug, Clone)]
struct Column {
    candidates: Vec<Candidate>,
    /// Cost of the best way to each, and where it comes from.
    costs: [f64; KEPT + 1],
    from: [u8; KEPT + 1],
}

/// Finds the path by dynamic programming, a stretch at a time; what it settles does not depend on
/// how the frames arrive.
#[derive(Debug, Clone)]
pub(super) struct PathFinder {
    columns: VecDeque<Column>,
    own_share: f64,
    settled_after: usize,
}

/// What was settled of a frame.
#[derive(Debug, Clone)]
pub(super) struct Settled {
    pub(super) candidates: Vec<Candidate>,
    /// The candidate that was chosen; `None` for no fundamental.
    pub(super) chosen: Option<usize>,
}

impl PathFinder {
    pub(super) fn new(hop_s: f64) -> Self {
        Self {
            columns: VecDeque::new(),
            own_share: (OWN_SHARE_PER_S * hop_s).min(1.0),
            settled_after: ((SETTLED_AFTER_S / hop_s) as usize).max(SETTLED_AFTER),
        }
    }

    /// Takes the candidates of the next frame; hands over frames that are settled.
    ///
    /// `is_new` says whether something may begin or be slurred near it.
    pub(super) fn push(
        &mut self,
        candidates: Vec<Candidate>,
        is_new: bool,
        settled: &mut Vec<Settled>,
    ) {
        let count = candidates.len();
        let mut column =
            Column { candidates, costs: [f64::INFINITY; KEPT + 1], from: [0; KEPT + 1] };
        for state in 0..=count {
            let own = match column.candidates.get(state) {
                Some(candidate) => -self.own_share * candidate.evidence.min(MOST_EVIDENCE),
                None => -self.own_share * VOICED_EVIDENCE,
            };
            let (cost, from) = match self.columns.back() {
                None => (0.0, 0),
                Some(before) => (0..=before.candidates.len())
                    .map(|n| {
                        let to = column.candidates.get(state);
                        let step = cost_between(before.candidates.get(n), to, is_new);
                        (before.costs[n] + step, n as u8)
                    })
                    .min_by(|a, b| a.0.total_cmp(&b.0))
                    .unwrap_or((0.0, 0)),
            };
            column.costs[state] = cost + own;
            column.from[state] = from;
        }
        // Costs are kept small.
        let least = column.costs.iter().copied().fold(f64::INFINITY, f64::min);
        for cost in &mut column.costs {
            *cost -= least;
        }
        self.columns.push_back(column);
        let at_once = 2 * self.settled_after / 3;
        if self.columns.len() >= self.settled_after + at_once {
            self.settle(at_once, settled);
        }
    }

    /// Settles all that is left.
    pub(super) fn finish(&mut self, settled: &mut Vec<Settled>) {
        self.settle(self.columns.len(), settled);
    }

    fn settle(&mut self, count: usize, settled: &mut Vec<Settled>) {
        let Some(last) = self.columns.back() else { return };
        let best = |column: &Column| {
            (0..=column.candidates.len())
                .min_by(|a, b| column.costs[*a].total_cmp(&column.costs[*b]))
                .unwrap_or(0)
        };
        let mut state = best(last);
        let mut states = Vec::with_capacity(self.columns.len());
        for column in self.columns.iter().rev() {
            states.push(state);
            state = usize::from(column.from[state]);
        }
        states.reverse();
        for (column, state) in self.columns.drain(..count).zip(states) {
            let chosen = (state < column.candidates.len()).then_some(state);
            settled.push(Settled { candidates: column.candidates, chosen });
        }
    }
}

fn cost_between(from: Option<&Candidate>, to: Option<&Candidate>, is_new: bool) -> f64 {
    let (to_begin, to_leap) = if is_new { (0.0, 0.0) } else { COST_OF_NOTHING_NEW };
    match (from, to) {
        (None, None) => 0.0,
        (None, Some(_)) => COST_OF_TURN + to_begin,
        (Some(_), None) => COST_OF_TURN,
        (Some(from), Some(to)) => {
            let octaves = (to.f0_hz / from.f0_hz).log2().abs();
            let cents = 1200.0 * octaves;
            let leap = cents > GLIDE_CENTS;
            let nearest = octaves.round();
            let is_octave = nearest >= 1.0 && (octaves - nearest).abs() < 0.06;
            COST_PER_CENT * cents.min(GLIDE_CENTS)
                + if leap { COST_OF_LEAP + to_leap } else { 0.0 }
                + if is_octave { COST_OF_OCTAVE } else { 0.0 }
        }
    }
}
