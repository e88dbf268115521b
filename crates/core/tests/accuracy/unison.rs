//! Strings sounding together: how many, how far apart, how clean.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::synth::{
    Partial, Vibrato, coloured_noise, mix, render, room, to_samples, white_noise,
};
use tonemap_core::unison::{Unison, UnisonSettings, unison};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    two_strings_are_told_by_mistuning_and_stiffness,
    three_strings_are_three,
    a_single_string_is_steady,
    the_grade_falls_with_the_mistuning,
    the_grade_is_as_repeatable_as_it_says,
];

const RATE_HZ: f64 = 48_000.0;
/// Power of the noise under that of the note at its start.
const NOISE_DB: f64 = -45.0;
/// Partials of each string.
const PARTIALS: usize = 16;
const BEFORE_S: f64 = 0.2;

/// A string that sounds with another: its F in cents from it, its stiffness as a share more, and
/// its level in dB.
#[derive(Debug, Clone, Copy)]
struct Other {
    cents: f64,
    stiffer: f64,
    level_db: f64,
}

/// A note of one to three strings; phases, levels and decays of their partials are drawn by chance.
#[derive(Debug, Clone)]
struct Note {
    f_hz: f64,
    b: f64,
    t60_s: f64,
    /// How much faster each higher partial dies away.
    damping: f64,
    /// Fall of the amplitudes with the number, as a power.
    slope: f64,
    others: Vec<Other>,
}

impl Note {
    fn random(random: &mut ChaCha8Rng, others: usize) -> Self {
        let other = |random: &mut ChaCha8Rng| Other {
            cents: 0.1
                * 50f64.powf(random.random_range(0.0..1.0))
                * random.random_range(-1.0..1.0f64).signum(),
            stiffer: random.random_range(-0.06..0.06),
            level_db: random.random_range(-12.0..-1.0),
        };
        Self {
            f_hz: 55.0 * random.random_range(0.0..4.0f64).exp2(),
            b: 5e-5 * random.random_range(0.0..4.0f64).exp2(),
            t60_s: 15f64.powf(random.random_range(0.0..1.0)),
            damping: random.random_range(0.02..0.3),
            slope: random.random_range(0.5..1.5),
            others: (0..others).map(|_| other(random)).collect(),
        }
    }

    fn lasting_s(&self) -> f64 {
        (0.75 * self.t60_s).max(1.0)
    }

    fn partial_hz(&self, other: Option<usize>, n: usize) -> f64 {
        let (cents, stiffer) = other
            .map_or((0.0, 0.0), |other| (self.others[other].cents, self.others[other].stiffer));
        let n = n as f64;
        let b = self.b * (1.0 + stiffer);
        n * self.f_hz * (cents / 1200.0).exp2() * (1.0 + b * n * n).sqrt()
    }

    /// The most turns of a beat that any two strings make in any partial up to a number before it
    /// has died away, of the two for which they are fewest.
    fn fewest_turns(&self, last: usize) -> f64 {
        let falls_db = -NOISE_DB - 10.0;
        let strings: Vec<Option<usize>> =
            std::iter::once(None).chain((0..self.others.len()).map(Some)).collect();
        let turns = |a: Option<usize>, b: Option<usize>| {
            let of = |n: usize| {
                let t60_s = self.t60_s / (1.0 + self.damping * (n - 1) as f64);
                let heard_s = (t60_s * falls_db / 60.0).min(self.lasting_s());
                (self.partial_hz(a, n) - self.partial_hz(b, n)).abs() * heard_s
            };
            (1..=last).map(of).fold(0.0, f64::max)
        };
        let mut fewest = f64::INFINITY;
        for (n, a) in strings.iter().enumerate() {
            for b in &strings[n + 1..] {
                fewest = fewest.min(turns(*a, *b));
            }
        }
        fewest
    }

    fn sound(&self, random: &mut ChaCha8Rng, seed: u64) -> Vec<f64> {
        let mut partials = Vec::new();
        for string in std::iter::once(None).chain((0..self.others.len()).map(Some)) {
            let level_db = string.map_or(0.0, |other| self.others[other].level_db);
            for n in 1..=PARTIALS {
                let frequency_hz = self.partial_hz(string, n);
                let level_db = level_db + random.random_range(-3.0..3.0);
                let t60_s = self.t60_s / (1.0 + self.damping * (n - 1) as f64);
                let partial = Partial {
                    frequency_hz,
                    amplitude: 0.1 * 10f64.powf(level_db / 20.0) / (n as f64).powf(self.slope),
                    phase_rad: random.random_range(-3.0..3.0),
                    t60_s: t60_s * random.random_range(0.8..1.25),
                };
                partials.extend(Some(partial).filter(|p| p.frequency_hz < 0.45 * RATE_HZ));
            }
        }
        let power: f64 = partials.iter().map(|partial| partial.amplitude.powi(2) / 2.0).sum();
        let note = render(&partials, Vibrato::default(), RATE_HZ, self.lasting_s());
        let before = (BEFORE_S * RATE_HZ) as usize;
        let rms = power.sqrt() * 10f64.powf(NOISE_DB / 20.0);
        let mut sound = white_noise(seed, rms, note.len() + before);
        mix(&mut sound[before..], &note);
        sound
    }
}

fn found(sound: &[f64]) -> Unison {
    unison(&to_samples(sound), RATE_HZ, 0.0, &UnisonSettings::default()).expect("a note")
}

/// The number of the last partial that was judged.
fn last_judged(found: &Unison) -> usize {
    let judged = found.partials.iter().filter(|partial| partial.unsteadiness.is_some());
    judged.map(|partial| partial.number).max().unwrap_or(1)
}

/// Of those whose strings beat at least once in some partial, how many have the right number.
fn share_right(trials: &[(Note, Unison)]) -> (usize, usize) {
    let beating = |(note, found): &&(Note, Unison)| note.fewest_turns(last_judged(found)) > 1.0;
    let is_right = |(note, found): &&(Note, Unison)| found.strings.len() == note.others.len() + 1;
    let of: Vec<&(Note, Unison)> = trials.iter().filter(beating).collect();
    (of.iter().copied().filter(is_right).count(), of.len())
}

fn notes(others: usize, seed: u64, count: u64) -> Vec<(Note, Unison)> {
    in_parallel(count, |case| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + case);
        let note = Note::random(&mut random, others);
        let sound = note.sound(&mut random, 31 * seed + case);
        (note, found(&sound))
    })
}

/// Mistuning and difference of inharmonicity of pairs 0.1 to 5 cents apart come apart, each as far
/// off as it says.
#[test]
pub(crate) fn two_strings_are_told_by_mistuning_and_stiffness() {
    let trials = notes(1, 0x4100, trials(200, 400));
    let (right, beating) = share_right(&trials);
    println!("two strings: the number is right in {right} of {beating} that beat");
    assert!(100 * right >= 95 * beating, "{right} of {beating}");
    let mut mistuning = Accuracy::new("unison, mistuning of two strings, over u", "u");
    let mut stiffer = Accuracy::new("unison, difference of inharmonicity, over u", "u");
    let mut known = Accuracy::new("unison, mistuning, where u is below 0.01 cent", "cents");
    let mut alike = Accuracy::new("unison, difference of B, where u is below 0.5 %", "% of B");
    for (note, found) in trials.iter().filter(|(_, found)| found.strings.len() == 2) {
        let (truth, measured) = (note.others[0], found.mistuning_cents.expect("two strings"));
        let difference = found.inharmonicity_difference;
        // Which of two strings has more energy is left to chance: seen from the other, both change
        // their signs.
        let off = |sign: f64| {
            let cents = measured.value - sign * truth.cents;
            let b = difference.map(|b| (b.value - sign * truth.stiffer * note.b, b.u));
            (cents, b)
        };
        let far = |sign: f64| {
            let (cents, b) = off(sign);
            (cents / measured.u).powi(2) + b.map_or(0.0, |(b, u)| (b / u).powi(2))
        };
        let (cents, b) = off(if far(1.0) < far(-1.0) { 1.0 } else { -1.0 });
        mistuning.add(cents / measured.u, 1.0);
        if measured.u < 0.01 {
            known.add(cents, measured.u);
        }
        let Some((b, u)) = b else { continue };
        stiffer.add(b / u, 1.0);
        if u < 0.005 * note.b {
            alike.add(100.0 * b / note.b, 100.0 * u / note.b);
        }
    }
    mistuning.hold(2.2);
    stiffer.hold(2.2);
    known.hold(0.006);
    alike.hold(0.25);
}

/// Three strings are three wherever each two of them beat once.
#[test]
pub(crate) fn three_strings_are_three() {
    let trials = notes(2, 0x4200, trials(100, 300));
    let (right, beating) = share_right(&trials);
    println!("three strings: the number is right in {right} of {beating} that beat");
    assert!(beating > 20 && 100 * right >= 95 * beating, "{right} of {beating}");
}

/// One string is never two, whatever hums and blows beside it.
#[test]
pub(crate) fn a_single_string_is_steady() {
    let grades = in_parallel(trials(60, 200), |case| {
        let mut random = ChaCha8Rng::seed_from_u64(0x4300 + case);
        let note = Note::random(&mut random, 0);
        let mut sound = note.sound(&mut random, case);
        let rms = 0.1 * 10f64.powf(random.random_range(-65.0..-45.0f64) / 20.0);
        let hum_db = random.random_range(-10.0..20.0);
        let samples = sound.len();
        mix(&mut sound, &room(case, rms, 10.0, hum_db, RATE_HZ, samples));
        if case % 2 == 0 {
            let hz = random.random_range(80.0..1000.0);
            mix(&mut sound, &coloured_noise(case + 7, 10.0 * rms, hz, 3.0, RATE_HZ, samples));
        }
        let found = found(&sound);
        let codes: Vec<&str> = found.diagnosis.iter().map(|one| one.code).collect();
        let grade = found.grade.map_or(f64::NAN, |grade| grade.value);
        assert!(found.strings.len() < 2, "{case}: {note:?} {codes:?} {:?}", found.strings);
        assert!(grade >= 99.0, "{case}: {note:?} {codes:?} {grade}");
        grade
    });
    let least = grades.iter().copied().fold(100.0, f64::min);
    println!("single strings: the least grade of {} is {least:.2}", grades.len());
}

/// A pair without a difference in stiffness, to be mistuned.
fn pair(case: u64) -> (Note, u64) {
    let mut random = ChaCha8Rng::seed_from_u64(0x4400 + case);
    let mut note = Note::random(&mut random, 1);
    (note.t60_s, note.others[0].stiffer) = (random.random_range(3.0..12.0), 0.0);
    (note, 0x4500 + case)
}

/// The farther apart two strings are, the lower is the grade.
#[test]
pub(crate) fn the_grade_falls_with_the_mistuning() {
    const STEPS: usize = 25;
    let correlations = in_parallel(trials(6, 24), |case| {
        let (mut note, seed) = pair(case);
        let grades: Vec<f64> = (0..STEPS)
            .map(|step| {
                note.others[0].cents = 0.05 * 100f64.powf(step as f64 / (STEPS - 1) as f64);
                // The same strings, other noise.
                let mut random = ChaCha8Rng::seed_from_u64(seed);
                let sound = note.sound(&mut random, seed + 1000 * step as u64);
                -found(&sound).grade.expect("a grade").value
            })
            .collect();
        spearman(&grades)
    });
    println!("grade over mistuning: Spearman {correlations:.4?}");
    // In notes of three seconds the nearest strings are not seen apart, and their grades are alike.
    let mean = correlations.iter().sum::<f64>() / correlations.len() as f64;
    assert!(mean >= 0.995 && correlations.iter().all(|r| *r >= 0.975), "{correlations:?}");
}

/// C. Spearman's correlation of values with their places; equal ones share theirs.
fn spearman(values: &[f64]) -> f64 {
    let rank = |value: f64| {
        let below = values.iter().filter(|other| **other < value).count() as f64;
        let equal = values.iter().filter(|other| **other == value).count() as f64;
        below + (equal - 1.0) / 2.0
    };
    let ranks: Vec<f64> = values.iter().map(|value| rank(*value)).collect();
    let middle = (values.len() as f64 - 1.0) / 2.0;
    let (mut both, mut of_rank, mut of_place) = (0.0, 0.0, 0.0);
    for (n, rank) in ranks.iter().enumerate() {
        let (a, b) = (rank - middle, n as f64 - middle);
        both += a * b;
        of_rank += a * a;
        of_place += b * b;
    }
    both / (of_rank * of_place).sqrt()
}

/// The same strings in other noise have the same grade, within its uncertainty.
#[test]
pub(crate) fn the_grade_is_as_repeatable_as_it_says() {
    const REPEATS: u64 = 6;
    let pairs = in_parallel(trials(24, 80), |case| {
        let (mut note, seed) = pair(100 + case);
        note.others[0].cents = note.others[0].cents.abs().max(0.5);
        let graded = |noise: u64| {
            let mut random = ChaCha8Rng::seed_from_u64(seed);
            let sound = note.sound(&mut random, seed + 1000 * noise);
            let found = found(&sound);
            (found.strings.len() == 2).then_some(found.grade).flatten()
        };
        let grades: Vec<_> = (1..=REPEATS).filter_map(graded).collect();
        let mean = grades.iter().map(|g| g.value).sum::<f64>() / grades.len().max(1) as f64;
        // What one is off the mean of all is a little less than off the truth.
        let count = grades.len() as f64;
        let less = ((count - 1.0) / count).sqrt();
        let off = |g: &tonemap_core::Measured| ((g.value - mean) / less / g.u, 1.0);
        if grades.len() < 3 { Vec::new() } else { grades.iter().map(off).collect() }
    });
    Accuracy::all("unison, repeated grades, over u", "u", pairs.into_iter().flatten()).hold(2.0);
}
