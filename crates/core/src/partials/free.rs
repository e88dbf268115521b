//! Partials linked from frame to frame, with no fundamental assumed.

use super::PartialsSettings;
use super::harmonic::{Followed, Place, Stretch};
use super::reading::{FrameReader, Reading};

/// A tone of a frame stands out of the bins around by this ratio of powers.
const STANDS_OUT: f64 = 20.0;
/// Tones so far below the strongest of all are side lobes, as a ratio of powers.
const WEAKEST: f64 = 1e-9;
/// How far a tone may lie from where its track predicts it: in bins, and in cents.
const REACH_BINS: f64 = 0.35;
const REACH_CENTS: f64 = 12.0;
/// A tone so near to a silent track takes it up, in bins.
const TAKEN_UP_BINS: f64 = 0.8;
/// A leap of so many dB costs as much as the whole reach in frequency.
const REACH_DB: f64 = 14.0;
/// A track is held open over so many frames without a tone, as a share of a frame.
const GAP_FRAMES: f64 = 1.5;

/// A track while it grows.
struct Thread {
    readings: Vec<Option<(Reading, f64)>>,
    /// Frequency at its last tone and how it moves per step, smoothed.
    frequency_hz: f64,
    slope_hz: f64,
    level: f64,
    last: usize,
    /// Summed power of its tones, and their frequencies weighted by it.
    sums: (f64, f64),
}

impl Thread {
    /// Mean frequency by power.
    fn middle_hz(&self) -> f64 {
        self.sums.1 / self.sums.0
    }

    fn predicted_hz(&self, step: usize) -> f64 {
        self.frequency_hz + self.slope_hz * (step - self.last) as f64
    }

    /// Goes on with a tone; where another track crosses, whose tone bends this one, only its
    /// reading is taken.
    fn take(&mut self, step: usize, reading: Reading, after_s: f64, is_crossed: bool) {
        /// Share that a step takes in the running slope.
        const NEW: f64 = 0.2;
        let steps = (step - self.last).max(1) as f64;
        let moved = (reading.frequency_hz - self.frequency_hz) / steps;
        let power = reading.amplitude.norm_sqr();
        self.sums.0 += power;
        self.sums.1 += power * reading.frequency_hz;
        self.readings.resize(step, None);
        self.readings.push(Some((reading, after_s)));
        if is_crossed {
            self.frequency_hz += self.slope_hz * steps;
        } else {
            if self.readings.len() > 1 {
                self.slope_hz += NEW * (moved - self.slope_hz);
            }
            self.frequency_hz = reading.frequency_hz;
            self.level = 20.0 * reading.amplitude.norm().log10();
        }
        self.last = step;
    }

    /// Whether another track is about to cross, or has just done so.
    fn is_crossed_by(&self, other: &Self, step: usize, bin_hz: f64) -> bool {
        /// Main lobes of the window meet at this distance.
        const NEAR_BINS: f64 = 4.5;
        /// Steps in which their distance changes by a bin, at most.
        const SOON: f64 = 60.0;
        let apart = (self.predicted_hz(step) - other.predicted_hz(step)).abs();
        let closing = (self.slope_hz - other.slope_hz).abs();
        apart < NEAR_BINS * bin_hz && SOON * closing > bin_hz
    }

    /// What it costs to go on with a tone; more than 1 is too much.
    fn cost(&self, step: usize, reading: &Reading, bin_hz: f64) -> f64 {
        let reach_hz = REACH_BINS * bin_hz + REACH_CENTS / 1731.0 * self.frequency_hz;
        let off = (reading.frequency_hz - self.predicted_hz(step)) / reach_hz;
        let level = 20.0 * reading.amplitude.norm().log10() - self.level;
        off.hypot(level / REACH_DB)
    }
}

/// Follows the tones of all frames.
pub(super) fn follow(
    stretch: &Stretch,
    reader: &mut FrameReader,
    hop_s: f64,
    settings: &PartialsSettings,
) -> Vec<Followed> {
    let steps = stretch.steps(hop_s);
    let frame_s = reader.length() as f64 / stretch.rate_hz;
    let gap = (GAP_FRAMES * frame_s / hop_s) as usize + 1;
    let mut threads: Vec<Thread> = Vec::new();
    let (mut tones, mut held) = (Vec::new(), None);
    let mut strongest = 0.0f64;
    for step in 0..steps {
        let (start, after_s) = stretch.frame(step as f64 * hop_s, reader.length());
        if held != Some(start) {
            reader.take(stretch.sound, start);
            held = Some(start);
            tones = tones_of(reader, settings.range_hz, &mut strongest);
        }
        link(&mut threads, step, gap, &tones, after_s, reader.bin_hz());
    }
    for thread in &mut threads {
        thread.readings.resize(steps, None);
    }
    let least = ((settings.shortest_s.max(frame_s)) / hop_s) as usize;
    threads.retain(|thread| thread.readings.iter().flatten().count() >= least);
    threads.sort_by(|a, b| b.sums.0.total_cmp(&a.sums.0));
    threads.truncate(settings.most);
    threads.sort_by(|a, b| a.middle_hz().total_cmp(&b.middle_hz()));
    (1..)
        .zip(threads)
        .map(|(number, thread)| Followed {
            place: Place { number, ratio: f64::NAN },
            readings: thread.readings,
        })
        .collect()
}

/// The tones of a frame: local maxima that stand out of the bins around.
fn tones_of(reader: &FrameReader, range_hz: (f64, f64), strongest: &mut f64) -> Vec<Reading> {
    /// Bins to either side: wide beside a main lobe, narrow beside a slope of noise.
    const AROUND: usize = 24;
    let last = reader.length() / 2;
    let powers: Vec<f64> = (0..=last as i64).map(|k| reader.power(k)).collect();
    let greatest = powers[2..].iter().copied().fold(0.0, f64::max);
    *strongest = strongest.max(greatest);
    let mut around = Vec::with_capacity(2 * AROUND + 1);
    let mut tones = Vec::new();
    for k in 2..last.saturating_sub(1) {
        let here = powers[k];
        let frequency_hz = k as f64 * reader.bin_hz();
        let is_top = here > powers[k - 1] && here >= powers[k + 1];
        let is_loud = here > WEAKEST * *strongest;
        if !is_top || !is_loud || !(range_hz.0..=range_hz.1).contains(&frequency_hz) {
            continue;
        }
        around.clear();
        around.extend_from_slice(&powers[k.saturating_sub(AROUND)..=(k + AROUND).min(last)]);
        let quarter = around.len() / 4;
        // Of noise, a quarter lies below 0.288 of its mean.
        let floor = *around.select_nth_unstable_by(quarter, f64::total_cmp).1 / 0.288;
        if here > STANDS_OUT * floor {
            tones.extend(reader.at(k as i64));
        }
    }
    tones
}

/// Gives each tone of a step to the track it costs least to go on with, all together costing least;
/// what is left begins a track, or takes up one that is silent at that frequency: at a beat's least
/// level a tone leaps.
fn link(
    threads: &mut Vec<Thread>,
    step: usize,
    gap: usize,
    tones: &[Reading],
    after_s: f64,
    bin_hz: f64,
) {
    let open: Vec<usize> = (0..threads.len()).filter(|n| step - threads[*n].last <= gap).collect();
    let cost = |thread: usize, tone: usize| threads[thread].cost(step, &tones[tone], bin_hz);
    let mut pairs: Vec<(f64, usize, usize)> = Vec::new();
    for thread in &open {
        let all = (0..tones.len()).map(|tone| (cost(*thread, tone), *thread, tone));
        pairs.extend(all.filter(|(cost, ..)| *cost < 1.0));
    }
    pairs.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut chosen: Vec<(usize, usize)> = Vec::new();
    for (_, thread, tone) in pairs {
        if chosen.iter().all(|(a, b)| *a != thread && *b != tone) {
            chosen.push((thread, tone));
        }
    }
    // The cheapest first is not the cheapest together: two change places while that helps.
    let mut is_better = true;
    while is_better {
        is_better = false;
        for a in 0..chosen.len() {
            for b in a + 1..chosen.len() {
                let ((t, i), (u, j)) = (chosen[a], chosen[b]);
                let (crossed, straight) = (cost(t, j).max(cost(u, i)), cost(t, i) + cost(u, j));
                if crossed < 1.0 && cost(t, j) + cost(u, i) < straight - 1e-12 {
                    (chosen[a], chosen[b]) = ((t, j), (u, i));
                    is_better = true;
                }
            }
        }
    }
    let mut is_taken = vec![false; tones.len()];
    let is_crossed: Vec<bool> = chosen
        .iter()
        .map(|(thread, _)| {
            let others = open.iter().filter(|other| *other != thread);
            let one = &threads[*thread];
            others.clone().any(|other| one.is_crossed_by(&threads[*other], step, bin_hz))
        })
        .collect();
    for ((thread, tone), is_crossed) in chosen.iter().zip(is_crossed) {
        threads[*thread].take(step, tones[*tone], after_s, is_crossed);
        is_taken[*tone] = true;
    }
    for (tone, _) in tones.iter().zip(&is_taken).filter(|(_, taken)| !**taken) {
        let ended = threads.iter_mut().find(|thread| {
            let off = (thread.middle_hz() - tone.frequency_hz).abs();
            thread.last < step && off < TAKEN_UP_BINS * bin_hz
        });
        if let Some(ended) = ended {
            ended.slope_hz = 0.0;
            ended.take(step, *tone, after_s, false);
            continue;
        }
        let mut thread = Thread {
            readings: Vec::new(),
            frequency_hz: tone.frequency_hz,
            slope_hz: 0.0,
            level: 0.0,
            last: step,
            sums: (0.0, 0.0),
        };
        thread.take(step, *tone, after_s, false);
        threads.push(thread);
    }
}
