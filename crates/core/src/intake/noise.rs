//! The noise floor of a channel, and the frequency up to which it holds anything.

use crate::transform::RealTransform;
use crate::units::db_from_power;
use crate::window::{Window, WindowKind};

/// Length of a frame in seconds: short enough for a pause, long enough to see between the partials
/// of all but the lowest notes.
const FRAME_S: f64 = 0.17;
/// Frames looked at in one take; in a long one they lie apart.
const MOST_FRAMES: u64 = 1000;
/// Shortest frame.
const SHORTEST_FRAME: usize = 512;
/// Side lobes below −130 dB: loud tones must not fill the gaps between them.
const WINDOW: WindowKind = WindowKind::Kaiser { beta: 18.0 };
/// Bins in a group.
const GROUP: usize = 32;
/// Rank of the bin of a group that is taken for noise, from 1: a quarter of the bins lie below it.
const RANK: usize = 8;
/// Share of the frames that count as quiet.
const QUIET_SHARE: f64 = 0.05;
/// Groups in which the noise is the sum of all bins, unless they hold so many times more than it.
const STEEP_GROUPS: usize = 2;
const HOLDS_TONE: f64 = 10.0;
/// Sound stands out of the noise from here.
const STANDING_OUT: f64 = 4.0;
/// Groups to either side over which the noise is levelled before something is said to stand out of
/// it: in a short span a single group of the quietest frame reads up to 8 dB too low by chance.
const LEVELLED: usize = 4;
/// Levels are compared over this many groups below and above an edge, and so far from it.
const BESIDE_EDGE: usize = 4;
const EDGE_HALF_WIDTH: usize = 2;
/// Fall of an edge that no instrument and no room makes.
const ABRUPT_DB: f64 = 8.0;
/// What the noise floor must fall by at such an edge.
const FLOOR_FALL_DB: f64 = 5.0;
/// Fall of an edge in a channel whose noise is that of the coding, so that it cannot fall.
const ABRUPT_OVER_CODING_DB: f64 = 24.0;
/// What lies beyond such an edge is no louder than so many times the noise of the coding, or of 16
/// bits: what was added after the cut.
const BEYOND: f64 = 4.0;
const SIXTEEN_BITS: f64 = 1.0 / 32_768.0;
/// Unless the fall is so deep that no instrument comes near it, in dB.
const DEEP_DB: f64 = 30.0;
/// A fall begins and ends where the level, averaged over [`BESIDE_EDGE`] groups, changes by less
/// than this from group to group, in dB; and after so many groups.
const FLAT_DB: f64 = 0.6;
const LONGEST_SKIRT: usize = 48;
/// Edges nearer than this to half the sample rate are those of the converter.
const CONVERTER_SHARE: f64 = 0.93;
/// Lowest edge that is looked for, in Hz: below, instruments may well end.
const LOWEST_EDGE_HZ: f64 = 10_000.0;
/// What stands for digital silence in the dB of a group.
const NOTHING_DB: f64 = -250.0;

/// Finds the noise floor and the bandwidth of one channel.
///
/// Frames of about 0.17 s (Kaiser window, β = 18) are transformed, at most 1000 a take, evenly
/// spread. Bins are taken in groups of 32. In a group, the noise is read from the bin of rank 8
/// from below, which partials do not reach: of independent bins with an exponential distribution of
/// mean 1, its mean is Σ 1/i over i = 25…32. The frames in which this noise, in dB and over all
/// groups, is least (5 %) are taken for pauses, and their mean is the noise floor: where there is
/// no pause, it is the noise between the partials. In the two lowest groups, where rumble slopes
/// steeply, all bins count unless a tone stands among them.
///
/// The bandwidth is the highest frequency at which the channel stands 6 dB out of that noise and
/// out of its median over nine groups, unless the channel ends in an edge. An edge is a fall of the
/// mean noise-like spectrum by 8 dB or more within four groups (0.75 kHz at 48 kHz), above which
/// nothing follows; the bandwidth is then where it has fallen by 6 dB. Where the partials of an
/// instrument end, the noise of the recording goes on; so the noise floor must fall by 5 dB as
/// well, to within 6 dB of the noise of the coding or of 16 bits unless the whole falls by 30 dB,
/// or, where it is that of the coding already, the whole by 24 dB.
#[derive(Clone)]
pub struct NoiseMeter {
    sample_rate_hz: f64,
    hop: u64,
    window: Window,
    transform: RealTransform,
    /// Samples from `position` on, as far as they are needed.
    held: Vec<f32>,
    position: u64,
    next_frame: u64,
    quiet_frames: usize,
    buffer: Vec<f64>,
    powers: Vec<f64>,
    frames: u64,
    /// Mean square in each group, summed over frames: all of it, and the noise alone.
    totals: Vec<f64>,
    noise: Vec<f64>,
    /// Level of that noise in each group, summed over frames: one click does not change it much.
    noise_levels: Vec<f64>,
    /// Noise of the quietest frames so far, with the sum of its levels.
    quiet: Vec<(f64, Vec<f64>)>,
}

/// What [`NoiseMeter`] finds.
#[derive(Debug, Clone, PartialEq)]
pub struct Noise {
    /// RMS level of the noise in dBFS, a full-scale sine reading 0; `None` if the span is too short
    /// or holds no noise at all.
    pub floor_dbfs: Option<f64>,
    /// Highest frequency at which the channel holds anything, in Hz.
    pub bandwidth_hz: Option<f64>,
    /// By how many dB the spectrum falls at that frequency, if it does so abruptly, well below half
    /// the sample rate.
    pub edge_db: Option<f64>,
}

impl NoiseMeter {
    /// A meter for a span of `span_samples` samples.
    ///
    /// # Panics
    ///
    /// Never: its window has a legal shape.
    #[must_use]
    pub fn new(sample_rate_hz: f64, span_samples: u64) -> Self {
        let wanted = ((FRAME_S * sample_rate_hz).log2().round() as u32).min(20);
        let room = span_samples.max(1).ilog2();
        let length = (1usize << wanted.min(room)).max(SHORTEST_FRAME);
        let frames = span_samples.saturating_sub(length as u64) / (length as u64 / 2) + 1;
        let hop = match frames {
            few if few <= MOST_FRAMES => length as u64 / 2,
            _ => (span_samples - length as u64) / (MOST_FRAMES - 1),
        };
        let groups = length / 2 / GROUP;
        let quiet_frames = (QUIET_SHARE * frames.min(MOST_FRAMES) as f64).ceil() as usize;
        let window = Window::new(WINDOW, length).expect("the shape is a legal one");
        Self {
            sample_rate_hz,
            hop,
            transform: RealTransform::new(length),
            held: Vec::new(),
            position: 0,
            next_frame: 0,
            quiet_frames,
            buffer: vec![0.0; length],
            powers: vec![0.0; groups * GROUP],
            frames: 0,
            totals: vec![0.0; groups],
            noise: vec![0.0; groups],
            noise_levels: vec![0.0; groups],
            quiet: Vec::new(),
            window,
        }
    }

    /// Takes the next samples.
    pub fn push(&mut self, samples: &[f32]) {
        let length = self.buffer.len() as u64;
        let end = self.position + self.held.len() as u64 + samples.len() as u64;
        // Between frames that lie apart nothing is held.
        if self.next_frame >= end {
            self.position = end;
            self.held.clear();
            return;
        }
        self.held.extend_from_slice(samples);
        while self.next_frame + length <= end {
            let start = (self.next_frame - self.position) as usize;
            self.take_frame(start);
            self.next_frame += self.hop;
        }
        let done = (self.next_frame.min(end) - self.position) as usize;
        self.held.drain(..done);
        self.position += done as u64;
    }

    fn take_frame(&mut self, start: usize) {
        let frame = &self.held[start..start + self.buffer.len()];
        for ((y, x), w) in self.buffer.iter_mut().zip(frame).zip(self.window.samples()) {
            *y = f64::from(*x) * w;
        }
        let length = self.buffer.len() as f64;
        let squares: f64 = self.window.samples().iter().map(|w| w * w).sum();
        // So that the powers of a frame of noise sum to its mean square.
        let scale = 2.0 / (length * squares);
        let bins = self.transform.forward(&mut self.buffer);
        for (power, bin) in self.powers.iter_mut().zip(bins) {
            *power = scale * bin.norm_sqr();
        }
        let total: f64 = self.powers.iter().sum();
        if total == 0.0 {
            return;
        }
        self.frames += 1;
        let below_mean: f64 = (GROUP - RANK + 1..=GROUP).map(|i| 1.0 / i as f64).sum();
        let mut noise = Vec::with_capacity(self.noise.len());
        let groups = self.powers.as_chunks_mut::<GROUP>().0;
        for (n, (group, total)) in groups.iter_mut().zip(&mut self.totals).enumerate() {
            let all: f64 = group.iter().sum();
            *total += all;
            let (_, power, _) = group.select_nth_unstable_by(RANK - 1, f64::total_cmp);
            let ranked = *power * GROUP as f64 / below_mean;
            noise.push(if n < STEEP_GROUPS && all < HOLDS_TONE * ranked { all } else { ranked });
        }
        for (sum, noise) in self.noise.iter_mut().zip(&noise) {
            *sum += noise;
        }
        // In the mean of the decibels no single band decides.
        let mut quietness = 0.0;
        for (sum, power) in self.noise_levels.iter_mut().zip(&noise) {
            let level = in_db(*power);
            *sum += level;
            quietness += level;
        }
        self.quiet.push((quietness, noise));
        if self.quiet.len() >= 2 * self.quiet_frames {
            self.keep_quietest();
        }
    }

    fn keep_quietest(&mut self) {
        self.quiet.sort_by(|a, b| a.0.total_cmp(&b.0));
        self.quiet.truncate(self.quiet_frames);
    }

    /// What the samples so far say; `coding_step` is the step of their coding re full scale, 0 if
    /// there is none.
    #[must_use]
    pub fn finish(mut self, coding_step: f64) -> Noise {
        if self.frames == 0 {
            return Noise { floor_dbfs: None, bandwidth_hz: None, edge_db: None };
        }
        self.keep_quietest();
        let count = self.quiet.len() as f64;
        let floors: Vec<f64> = (0..self.noise.len())
            .map(|group| self.quiet.iter().map(|(_, noise)| noise[group]).sum::<f64>() / count)
            .collect();
        let floor_db = db_from_power(2.0 * floors.iter().sum::<f64>());
        let group_hz = GROUP as f64 * self.sample_rate_hz / self.buffer.len() as f64;
        // Rounding makes noise of step²/12, evenly spread.
        let rounding = |step: f64| step * step / 12.0 / self.noise.len() as f64;
        let coding = rounding(coding_step);
        let beyond = BEYOND * coding.max(rounding(SIXTEEN_BITS));
        let (bandwidth_hz, edge_db) = match self.edge(&floors, coding, beyond) {
            Some((groups, fall_db)) => {
                let hz = groups * group_hz;
                (hz, (hz < CONVERTER_SHARE * self.sample_rate_hz / 2.0).then_some(fall_db))
            }
            None => (self.highest_sound(&floors) * group_hz, None),
        };
        Noise {
            floor_dbfs: floor_db.is_finite().then_some(floor_db),
            bandwidth_hz: Some(bandwidth_hz),
            edge_db,
        }
    }

    /// The end of the highest group that stands out of the noise, in groups; the whole band if none
    /// does.
    fn highest_sound(&self, floors: &[f64]) -> f64 {
        let frames = self.frames as f64;
        let groups = floors.len();
        let levelled = |group: usize| {
            let near = group.saturating_sub(LEVELLED)..(group + LEVELLED + 1).min(groups);
            let mut near = floors[near].to_vec();
            let middle = near.len() / 2;
            *near.select_nth_unstable_by(middle, f64::total_cmp).1
        };
        let stands_out = |group: &usize| {
            let floor = floors[*group].max(levelled(*group));
            self.totals[*group] / frames > STANDING_OUT * floor
        };
        (0..groups).rev().find(stands_out).map_or(groups, |group| group + 1) as f64
    }

    /// Where the noise-like spectrum ends abruptly, in groups, and by how many dB it falls there.
    /// Both the mean power, in which loud moments show what quiet ones cannot, and the mean level,
    /// which a click does not fill, are looked at.
    fn edge(&self, floors: &[f64], coding: f64, most_beyond: f64) -> Option<(f64, f64)> {
        let frames = self.frames as f64;
        let powers: Vec<f64> = self.noise.iter().map(|sum| in_db(sum / frames)).collect();
        let levels: Vec<f64> = self.noise_levels.iter().map(|sum| sum / frames).collect();
        self.edge_in(&powers, floors, coding, most_beyond)
            .or_else(|| self.edge_in(&levels, floors, coding, most_beyond))
    }

    fn edge_in(
        &self,
        levels: &[f64],
        floors: &[f64],
        coding: f64,
        most_beyond: f64,
    ) -> Option<(f64, f64)> {
        let floor_levels: Vec<f64> = floors.iter().map(|power| in_db(*power)).collect();
        let lowest = LOWEST_EDGE_HZ * self.buffer.len() as f64 / self.sample_rate_hz / GROUP as f64;
        let lowest = (lowest.ceil() as usize).max(EDGE_HALF_WIDTH + BESIDE_EDGE);
        let last = levels.len().saturating_sub(EDGE_HALF_WIDTH);
        let edge = (lowest..last)
            .filter(|at| fall_at(levels, *at) >= ABRUPT_DB)
            .max_by(|a, b| fall_at(levels, *a).total_cmp(&fall_at(levels, *b)))?;
        let (start, end) = (foot(levels, edge, -1), foot(levels, edge, 1));
        let fall_db = level_below(levels, start) - level_above(levels, end);
        let most = level_below(levels, start) - ABRUPT_DB;
        let beyond = &floors[end + EDGE_HALF_WIDTH..];
        let is_quiet = beyond.iter().all(|floor| *floor <= most_beyond);
        if levels[end + EDGE_HALF_WIDTH..].iter().any(|db| *db > most)
            || !(is_quiet || fall_db >= DEEP_DB)
        {
            return None;
        }
        let floor_start = foot(&floor_levels, edge, -1);
        let floor_fall_db = level_below(&floor_levels, floor_start)
            - level_above(&floor_levels, foot(&floor_levels, edge, 1));
        let of_coding = beyond.iter().all(|floor| *floor < 2.0 * coding);
        let place = if floor_fall_db >= FLOOR_FALL_DB {
            fallen(&floor_levels, floor_start, floor_fall_db)?
        } else if of_coding && fall_db >= ABRUPT_OVER_CODING_DB {
            fallen(levels, start, fall_db)?
        } else {
            return None;
        };
        Some((place, fall_db))
    }
}

/// Where the fall around an edge begins (`step` −1) or ends (1): from there on the level changes by
/// less than [`FLAT_DB`] over two groups.
fn foot(levels: &[f64], edge: usize, step: isize) -> usize {
    let (least, most) = (EDGE_HALF_WIDTH + BESIDE_EDGE, levels.len() - EDGE_HALF_WIDTH - 1);
    let mut at = edge.clamp(least, most);
    for _ in 0..LONGEST_SKIRT {
        let next = at.saturating_add_signed(step).clamp(least, most);
        let falls = match step {
            -1 => level_below(levels, next) - level_below(levels, at),
            _ => level_above(levels, at) - level_above(levels, next),
        };
        if falls < FLAT_DB {
            break;
        }
        at = next;
    }
    at
}

/// Where the level has fallen by 6 dB from below `start`, or by half where it falls by less than
/// 12, from middle to middle of the groups.
fn fallen(levels: &[f64], start: usize, fall_db: f64) -> Option<f64> {
    let wanted = level_below(levels, start) - (fall_db / 2.0).min(6.0);
    let first = start - EDGE_HALF_WIDTH;
    let next = (first..levels.len()).find(|group| levels[*group] < wanted)?;
    let (high, low) = (levels[next - 1].max(wanted), levels[next]);
    let share = if high > low { (high - wanted) / (high - low) } else { 0.0 };
    Some(next as f64 - 0.5 + share)
}

fn in_db(power: f64) -> f64 {
    db_from_power(power).max(NOTHING_DB)
}

/// Mean level of the groups below an edge.
fn level_below(levels: &[f64], edge: usize) -> f64 {
    mean(&levels[edge - EDGE_HALF_WIDTH - BESIDE_EDGE..edge - EDGE_HALF_WIDTH])
}

/// Mean level of the groups above an edge.
fn level_above(levels: &[f64], edge: usize) -> f64 {
    let start = edge + EDGE_HALF_WIDTH;
    mean(&levels[start..(start + BESIDE_EDGE).min(levels.len())])
}

/// How many dB lower the groups above an edge are than those below it.
fn fall_at(levels: &[f64], edge: usize) -> f64 {
    level_below(levels, edge) - level_above(levels, edge)
}

fn mean(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len() as f64
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::synth::{
        PluckedString, Vibrato, alder_hall, coloured_noise, fade, harmonics, low_passed_by, mix,
        render, sine, to_samples, white_noise,
    };
    use rand_chacha::ChaCha8Rng;
    use rand_chacha::rand_core::SeedableRng;
    use rand_distr::{Distribution, Uniform};

    const RATE: f64 = 48_000.0;

    fn noise_of(sound: &[f64], rate: f64) -> Noise {
        noise_in(sound, rate, 0)
    }

    fn noise_in(sound: &[f64], rate: f64, bits: i32) -> Noise {
        let samples = to_samples(sound);
        let mut meter = NoiseMeter::new(rate, samples.len() as u64);
        samples.chunks(3001).for_each(|block| meter.push(block));
        meter.finish(if bits > 0 { 0.5f64.powi(bits - 1) } else { 0.0 })
    }

    fn error_db(sound: &[f64], rms: f64) -> f64 {
        let truth = db_from_power(2.0 * rms * rms);
        noise_of(sound, RATE).floor_dbfs.map_or(f64::NAN, |db| db - truth)
    }

    fn quantised(sound: &[f64], bits: i32) -> Vec<f64> {
        let scale = 2f64.powi(bits - 1);
        sound.iter().map(|x| (x * scale).round() / scale).collect()
    }

    #[test]
    fn the_floor_is_right_in_noise_alone_and_under_music() {
        let mut generator = ChaCha8Rng::seed_from_u64(20);
        let level = Uniform::new(-100.0, -45.0).expect("a range");
        let pitch = Uniform::new(5.0f64, 10.0).expect("a range");
        let mut worst = 0.0f64;
        for seed in 0..60 {
            let rms = 10f64.powf(level.sample(&mut generator) / 20.0);
            let f0_hz = pitch.sample(&mut generator).exp2();
            let seconds = 1.0 + (seed % 5) as f64;
            let mut sound = white_noise(seed, rms, (seconds * RATE) as usize);
            let amplitudes: Vec<f64> = (1..20).map(|n| 0.3 / f64::from(n).powf(1.5)).collect();
            match seed % 4 {
                0 => {}
                1 => mix(
                    &mut sound,
                    &render(
                        &harmonics(f0_hz.max(90.0), &amplitudes),
                        Vibrato::default(),
                        RATE,
                        seconds,
                    ),
                ),
                2 => {
                    let vibrato = Vibrato { rate_hz: 5.5, depth_cents: 30.0 };
                    let f0_hz = f0_hz.max(150.0);
                    let mut tone =
                        render(&harmonics(f0_hz, &amplitudes), vibrato, RATE, 0.6 * seconds);
                    fade(&mut tone, 0.03, RATE);
                    mix(&mut sound[(0.2 * RATE) as usize..], &tone);
                }
                _ => {
                    let string =
                        PluckedString { frequency_hz: f0_hz.max(60.0), ..PluckedString::default() };
                    mix(&mut sound[(0.4 * RATE) as usize..], &string.render(RATE, seconds));
                }
            }
            let error = error_db(&sound, rms);
            println!(
                "case {seed}: floor {:.1} dBFS, error {error:.2} dB",
                db_from_power(2.0 * rms * rms)
            );
            worst = worst.max(error.abs());
        }
        println!("worst error of the noise floor: {worst:.2} dB");
        assert!(worst < 1.0, "{worst}");
        for centre_hz in [100.0, 300.0, 1000.0, 5000.0] {
            let rumble = coloured_noise(3, 0.001, centre_hz, 0.5, RATE, 200_000);
            let error = error_db(&rumble, 0.001);
            println!("noise around {centre_hz} Hz: error {error:.2} dB");
            assert!(error.abs() < 1.0);
        }
        assert_eq!(noise_of(&vec![0.0; 48_000], RATE).floor_dbfs, None);
        assert_eq!(noise_of(&[0.1; 400], RATE).floor_dbfs, None, "too short");
    }

    #[test]
    fn a_low_passed_copy_is_found_out_and_a_dull_instrument_is_not() {
        let string = PluckedString { frequency_hz: 220.0, ..PluckedString::default() };
        for (seed, rate, cut_hz) in [
            (1, 48_000.0, 16_000.0),
            (2, 44_100.0, 16_000.0),
            (3, 48_000.0, 11_025.0),
            (4, 96_000.0, 20_000.0),
        ] {
            let mut sound = white_noise(seed, 3e-5, (3.0 * rate) as usize);
            mix(&mut sound[(0.2 * rate) as usize..], &string.render(rate, 2.8));
            let whole = noise_of(&sound, rate);
            assert!(whole.edge_db.is_none(), "{whole:?}");
            for (taps, bits) in [(400, 24), (150, 24), (400, 16)] {
                let cut = quantised(&low_passed_by(&sound, cut_hz, rate, taps), bits);
                let found = noise_in(&cut, rate, bits);
                println!("{rate} Hz, cut at {cut_hz} Hz with {taps} taps, {bits} bits: {found:?}");
                let bandwidth_hz = found.bandwidth_hz.expect("a bandwidth");
                assert!((bandwidth_hz - cut_hz).abs() < 300.0, "{bandwidth_hz}");
                assert!(found.edge_db.is_some());
            }
        }
        for seed in 0..20 {
            let breath_hz = 600.0 + 150.0 * f64::from(seed);
            let f0_hz = 262.0 * 1.06f64.powi(seed);
            let mut flute = coloured_noise(seed as u64, 0.003, breath_hz, 0.7, RATE, 144_000);
            let amplitudes: Vec<f64> = (1..100)
                .take_while(|n| f64::from(*n) * f0_hz < 8000.0)
                .map(|n| 0.3 * 0.5f64.powi(n))
                .collect();
            mix(&mut flute, &render(&harmonics(f0_hz, &amplitudes), Vibrato::default(), RATE, 3.0));
            fade(&mut flute, 0.05, RATE);
            mix(&mut flute, &white_noise(100, 1e-5 * 1.5f64.powi(seed), 144_000));
            for (bits, sound) in [(16, quantised(&flute, 16)), (0, flute)] {
                let found = noise_in(&sound, RATE, bits);
                println!("flute {f0_hz:.0} Hz: {found:?}");
                assert!(found.edge_db.is_none());
            }
        }
        for sound in [alder_hall::flute_tone(RATE, 3.0), alder_hall::bell_note(RATE, 5.0)] {
            let found = noise_of(&sound, RATE);
            println!("{found:?}");
            assert!(found.edge_db.is_none());
        }
        let white = noise_of(&white_noise(1, 0.01, 100_000), RATE);
        assert_eq!(white.bandwidth_hz, Some(24_000.0), "noise that fills the band");
        let tone: Vec<f64> =
            sine(5000.0, 0.1, 0.0, RATE, 48_000).iter().map(|x| f64::from(*x)).collect();
        let mut tone_in_noise = white_noise(1, 1e-4, 48_000);
        mix(&mut tone_in_noise, &tone);
        let highest = noise_of(&tone_in_noise, RATE).bandwidth_hz.expect("a bandwidth");
        assert!((highest - 5000.0).abs() < 300.0, "{highest}");
    }

    #[test]
    fn the_bandwidth_of_a_tone_in_noise_is_that_of_the_tone() {
        let (mut wrong, mut worst_hz, mut all) = (0, 0.0f64, 0);
        for seed in 0..240u64 {
            let rate = [44_100.0, 48_000.0, 96_000.0][(seed % 3) as usize];
            let tone_hz = 200.0 * 1.37f64.powi((seed % 11) as i32);
            let seconds = [0.5, 1.0, 3.0][(seed / 3 % 3) as usize];
            let noise = 10f64.powf(-(40.0 + 2.0 * (seed % 20) as f64) / 20.0) * 0.1;
            let count = (seconds * rate) as usize;
            let mut sound = white_noise(seed, noise, count);
            let tone: Vec<f64> =
                sine(tone_hz, 0.1, 0.0, rate, count).iter().map(|x| f64::from(*x)).collect();
            mix(&mut sound, &tone);
            let found = noise_of(&sound, rate).bandwidth_hz.expect("a bandwidth");
            // The window spreads a tone over two groups to either side.
            let group_hz = GROUP as f64 / FRAME_S;
            let off_hz = (found - tone_hz).abs();
            worst_hz = worst_hz.max(off_hz);
            wrong += usize::from(off_hz > 3.0 * group_hz);
            all += 1;
        }
        println!(
            "bandwidth of a tone in noise: {wrong} of {all} wrong, worst {worst_hz:.0} Hz off"
        );
        assert_eq!(wrong, 0);
    }
}
