//! Sounds made again from their partials and their noise.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tonemap_core::partials::{Partials, PartialsSettings, TrackPoint, partials};
use tonemap_core::rebuild::{
    Beside, Blend, Change, Course, Edit, Rebuilt, RestKind, TimeMap, Which, read_cents, rebuild,
};
use tonemap_core::synth::{
    Partial, PluckedString, Vibrato, harmonics, render, shaped_noise, to_samples, white_noise,
};

use crate::support::{Accuracy, in_parallel, trials};

pub(crate) const MEASURES: &[fn()] = &[
    what_is_not_changed_is_what_it_was,
    partials_change_as_was_asked,
    pitch_and_time_follow_their_courses,
    formants_stay_where_they_are,
    noise_keeps_its_spectrum_over_time,
    edges_of_changes_do_not_click,
    blends_lie_between_their_sounds,
];

const RATE_HZ: f64 = 48_000.0;

fn string(random: &mut ChaCha8Rng) -> PluckedString {
    PluckedString {
        frequency_hz: 80.0 * 7f64.powf(random.random_range(0.0..1.0)),
        inharmonicity: 10f64.powf(random.random_range(-5.0..-3.5)),
        pluck_position: random.random_range(0.1..0.45),
        t60_s: random.random_range(2.0..8.0),
        ..PluckedString::default()
    }
}

/// A sound from 0.1 s on, in noise of an amplitude.
fn in_noise(sound: &[f64], rms: f64, seed: u64) -> Vec<f32> {
    let mut all = white_noise(seed, rms, sound.len() + 4800);
    all[4800..].iter_mut().zip(sound).for_each(|(x, sound)| *x += sound);
    to_samples(&all)
}

fn made(sound: &[f32], edit: &Edit, rest: RestKind) -> Rebuilt {
    let settings = PartialsSettings::default();
    rebuild(sound, RATE_HZ, &settings, edit, rest, Beside::default()).expect("made")
}

fn read(sound: &[f32]) -> Partials {
    partials(sound, RATE_HZ, 0.0, &PartialsSettings::default()).expect("partials")
}

fn db_of(part: impl Iterator<Item = f64>, whole: &[f32]) -> f64 {
    let all: f64 = whole.iter().map(|x| f64::from(*x).powi(2)).sum();
    10.0 * (part.map(|x| x * x).sum::<f64>() / all).max(1e-30).log10()
}

/// Strings, tones with vibrato, and bells whose partials come in pairs, in very little noise.
#[test]
fn what_is_not_changed_is_what_it_was() {
    let found = in_parallel(trials(24, 120), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 10_000);
        let mut settings = PartialsSettings::default();
        let sound = match seed % 3 {
            0 => string(&mut random).render(RATE_HZ, 2.5),
            1 => {
                let hz = 200.0 * 5f64.powf(random.random_range(0.0..1.0));
                let vibrato = Vibrato {
                    rate_hz: random.random_range(4.5..6.5),
                    depth_cents: random.random_range(0.0..25.0),
                };
                let amplitudes = [0.3, 0.15, 0.08, 0.04, 0.02, 0.01];
                let mut tone = render(&harmonics(hz, &amplitudes), vibrato, RATE_HZ, 2.5);
                tonemap_core::synth::fade(&mut tone, 0.05, RATE_HZ);
                tone
            }
            _ => {
                settings.free = true;
                let lowest = random.random_range(200.0..600.0);
                let pairs =
                    [1.0, 2.31, 3.62, 5.47].into_iter().enumerate().flat_map(|(n, ratio)| {
                        let t60_s = 6.0 / (n + 1) as f64;
                        let beat_hz = random.random_range(0.3..2.0);
                        let of = |hz: f64, share: f64| Partial {
                            frequency_hz: hz,
                            amplitude: 0.2 * share / (n + 1) as f64,
                            phase_rad: share,
                            t60_s,
                        };
                        let hz = lowest * ratio;
                        [of(hz, 1.0), of(hz + beat_hz, 0.6)]
                    });
                render(&pairs.collect::<Vec<_>>(), Vibrato::default(), RATE_HZ, 2.5)
            }
        };
        let sound = in_noise(&sound, 1e-6, 40 * seed + 1);
        let beside = Beside::default();
        let same = rebuild(&sound, RATE_HZ, &settings, &Edit::default(), RestKind::Exact, beside);
        let same = same.expect("made");
        let sum = same.sound();
        let off = sum.iter().zip(&sound).map(|(a, b)| f64::from(a - b));
        (seed % 3, same.residual_db.expect("tones"), db_of(off, &sound))
    });
    let kinds = [("strings", -52.0), ("tones with vibrato", -46.0), ("bells", -68.0)];
    for (kind, (name, most)) in kinds.into_iter().enumerate() {
        let of_kind = found.iter().filter(|(of, ..)| *of == kind as u64);
        let mut left: Vec<f64> = of_kind.map(|(_, db, _)| *db).collect();
        left.sort_by(f64::total_cmp);
        let (middle, worst) = (left[left.len() / 2], left[left.len() - 1]);
        println!("rebuild: {name}: the tones leave {middle:.1} dB, {worst:.1} dB at most");
        assert!(middle < -60.0 && worst < most, "{name}: {middle} {worst}");
    }
    let worst = found.iter().map(|(.., off)| *off).fold(f64::NEG_INFINITY, f64::max);
    println!("rebuild: tones and exact rest are {worst:.1} dB off at most");
    assert!(worst < -120.0, "{worst}");
}

/// What of each partial was, and is: by number.
fn pairs(before: &Partials, after: &Partials) -> Vec<(usize, f64, f64, Option<f64>)> {
    let of = |a: &tonemap_core::partials::Partial| {
        let b = after.partials.iter().find(|b| b.number == a.number)?;
        // Of decays that are known to 1 %.
        let is_known =
            |of: &tonemap_core::partials::Partial| Some(of.decay_t60_s_u? < 0.01 * of.decay_t60_s?);
        let decay = (is_known(a)? && is_known(b)?).then_some(b.decay_t60_s? / a.decay_t60_s?);
        let cents = 1200.0 * (b.frequency_hz / a.frequency_hz).log2();
        Some((a.number, b.level_db - a.level_db, cents, decay))
    };
    // Those that stand well out of the noise.
    let loudest = before.partials.iter().map(|of| of.level_db).fold(-200.0, f64::max);
    before.partials.iter().filter(|of| of.level_db > loudest - 30.0).filter_map(of).collect()
}

#[test]
fn partials_change_as_was_asked() {
    let found = in_parallel(trials(12, 60), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 10_100);
        let sound = in_noise(&string(&mut random).render(RATE_HZ, 3.0), 2e-6, 50 * seed + 2);
        let before = read(&sound);
        let of = |edit: &Edit| pairs(&before, &read(&made(&sound, edit, RestKind::Noise).sound()));
        let one = |which: Which| Change::of(which);
        let gain = random.random_range(-10.0..15.0);
        let raised = Change { gain_db: Some(Course::steady(gain)), ..one(Which::Even) };
        let raised = of(&Edit { changes: vec![raised], ..Edit::default() });
        let mut levels: Vec<f64> = Vec::new();
        for (n, db, ..) in raised {
            levels.push(if n % 2 == 0 { db - gain } else { db });
        }
        let cents = random.random_range(-80.0..80.0);
        let shift = Some(format!("{cents}ct").parse().expect("a shift"));
        let shifted = Change { shift, ..one(Which::All) };
        let shifted = of(&Edit { changes: vec![shifted], ..Edit::default() });
        let mut moved: Vec<f64> = shifted.iter().map(|(_, _, ct, _)| ct - cents).collect();
        let stretch = random.random_range(0.0..0.02);
        let stretched = of(&Edit { stretch, ..Edit::default() });
        let wanted = |n: usize| 1200.0 * stretch * (n as f64).log2();
        moved.extend(stretched.iter().map(|(n, _, ct, _)| ct - wanted(*n)));
        let by = random.random_range(0.5..2.5);
        let slower = Change { decay: Some(by), ..one(Which::All) };
        let slower = of(&Edit { changes: vec![slower], ..Edit::default() });
        let decays: Vec<f64> =
            slower.iter().filter_map(|(.., d)| Some(100.0 * ((*d)? / by - 1.0))).collect();
        let harmonic = Edit { inharmonicity: Some(0.0), ..Edit::default() };
        let harmonic = read(&made(&sound, &harmonic, RestKind::Noise).sound());
        let off = harmonic.partials.iter().filter(|of| of.number < 12);
        let off: Vec<f64> = off.filter_map(|of| of.cents_from_harmonic).collect();
        [levels, moved, decays, off]
    });
    let of = |n: usize| found.iter().flat_map(move |errors| &errors[n]).copied();
    Accuracy::all_bare("rebuild: gain of even partials", "dB", of(0)).hold_worst(0.015);
    Accuracy::all_bare("rebuild: shift and stretch", "cents", of(1)).hold_worst(0.0009);
    Accuracy::all_bare("rebuild: decay", "%", of(2)).hold_worst(2.0);
    Accuracy::all_bare("rebuild: harmonic partials", "cents", of(3)).hold_worst(0.01);
}

/// A tone that glides as told, and whose middle comes when told.
#[test]
fn pitch_and_time_follow_their_courses() {
    let found = in_parallel(trials(12, 60), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 10_200);
        let hz = random.random_range(150.0..600.0);
        let amplitudes = [0.2, 0.1, 0.06, 0.03];
        let mut tone = render(&harmonics(hz, &amplitudes), Vibrato::default(), RATE_HZ, 3.0);
        tonemap_core::synth::fade(&mut tone, 0.02, RATE_HZ);
        // A dip at a time that is found again.
        let dip_s = random.random_range(1.0..2.0);
        for (n, x) in tone.iter_mut().enumerate() {
            let away = (n as f64 / RATE_HZ - dip_s) / 0.05;
            *x *= 1.0 - 0.6 * (-away * away).exp();
        }
        let sound = in_noise(&tone, 1e-5, 60 * seed + 3);
        let cents = random.random_range(-600.0..600.0);
        let course = format!("0.5s: 0ct, 2.5s: {cents}ct");
        let pitch_cents = Some(Course::read(&course, read_cents).expect("a course"));
        let glides =
            read(&made(&sound, &Edit { pitch_cents, ..Edit::default() }, RestKind::None).sound());
        let mut off = Vec::new();
        let track = glides.tracks.iter().find(|track| track.number == 1).expect("the first");
        for (k, point) in track.points.iter().enumerate() {
            let t = track.start_s + k as f64 * track.hop_s;
            if (0.3..2.8).contains(&t)
                && [0.5, 2.5, 0.1 + dip_s].iter().all(|at| (t - at).abs() > 0.15)
            {
                let wanted = cents * ((t - 0.5) / 2.0).clamp(0.0, 1.0);
                off.push(1200.0 * (point.frequency_hz / hz).log2() - wanted);
            }
        }
        let factor: f64 = random.random_range(0.5..2.5);
        let map = format!("0s: 0s, 0.8s: 0.8s, 2.5s: {}s", 0.8 + 1.7 * factor);
        let time: TimeMap = map.parse().expect("a map");
        let wanted_s = time.heard_s(0.1 + dip_s);
        let slow = made(&sound, &Edit { time: Some(time), ..Edit::default() }, RestKind::None);
        let slow = read(&slow.sound());
        let track = slow.tracks.iter().find(|track| track.number == 1).expect("the first");
        // The middle of what lies below two thirds of the usual level.
        let usual = 0.2;
        let low = track.points.iter().enumerate().filter(|(_, of)| of.amplitude < 0.75 * usual);
        let near = |t: &f64| (t - wanted_s).abs() < 0.3 * factor.max(1.0);
        let (mut sum, mut weight) = (0.0, 0.0);
        for (k, point) in low {
            let t = track.start_s + k as f64 * track.hop_s;
            if near(&t) {
                sum += t * (usual - point.amplitude);
                weight += usual - point.amplitude;
            }
        }
        (off, 1e3 * (sum / weight - wanted_s))
    });
    let cents = found.iter().flat_map(|(off, _)| off).copied();
    Accuracy::all_bare("rebuild: course of the pitch", "cents", cents).hold_worst(0.2);
    let times = found.iter().map(|(_, off)| *off);
    Accuracy::all_bare("rebuild: time map", "ms", times).hold_worst(2.0);
}

/// A voice with one formant, moved with its envelope kept: the formant is where it was.
#[test]
fn formants_stay_where_they_are() {
    let found = in_parallel(trials(12, 60), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 10_300);
        let hz = random.random_range(90.0..160.0);
        let formant_hz: f64 = random.random_range(700.0..1800.0);
        let width_hz = random.random_range(150.0..300.0);
        let gain = |f: f64| 0.05 / (1.0 + ((f - formant_hz) / width_hz).powi(2));
        let amplitudes: Vec<f64> = (1..=28).map(|n| gain(hz * f64::from(n))).collect();
        let mut tone = render(&harmonics(hz, &amplitudes), Vibrato::default(), RATE_HZ, 1.5);
        tonemap_core::synth::fade(&mut tone, 0.03, RATE_HZ);
        let sound = in_noise(&tone, 1e-6, 70 * seed + 4);
        let cents = random.random_range(-400.0..400.0);
        let pitch_cents = Some(Course::steady(cents));
        let edit = Edit { pitch_cents, keep_envelope: true, ..Edit::default() };
        let found = read(&made(&sound, &edit, RestKind::None).sound());
        // Where it is: the middle of the resonance fitted to the inverse powers about its peak.
        let loudest = found.partials.iter().max_by(|a, b| a.level_db.total_cmp(&b.level_db));
        let peak_hz = loudest.expect("partials").frequency_hz;
        let near = found.partials.iter().filter(|of| (of.frequency_hz - peak_hz).abs() < 600.0);
        let points: Vec<(f64, f64)> =
            near.map(|of| (of.frequency_hz, 10f64.powf(-of.level_db / 20.0))).collect();
        100.0 * (vertex(&points) / formant_hz - 1.0)
    });
    Accuracy::all_bare("rebuild: formant kept", "%", found).hold_worst(0.8);
}

/// Where a parabola through points is lowest, weighted by their inverse squares.
fn vertex(points: &[(f64, f64)]) -> f64 {
    let scale = points.iter().map(|(x, _)| x).sum::<f64>() / points.len() as f64;
    let mut rows = [[0.0f64; 4]; 3];
    for (x, y) in points {
        let (x, weight) = ((x - scale) / scale, 1.0 / (y * y));
        let powers = [1.0, x, x * x];
        for n in 0..3 {
            for m in 0..3 {
                rows[n][m] += weight * powers[n] * powers[m];
            }
            rows[n][3] += weight * powers[n] * y;
        }
    }
    for n in 0..3 {
        for m in 0..3 {
            if n != m {
                let factor = rows[m][n] / rows[n][n];
                let pivot = rows[n];
                rows[m].iter_mut().zip(pivot).for_each(|(x, by)| *x -= factor * by);
            }
        }
    }
    let [_, b, c] = [0, 1, 2].map(|n| rows[n][3] / rows[n][n]);
    scale * (1.0 - b / (2.0 * c))
}

/// Noise whose level and colour change, with a tone in it.
#[test]
fn noise_keeps_its_spectrum_over_time() {
    let found = in_parallel(trials(6, 30), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 10_400);
        let count = 2 * 48_000;
        let middle = random.random_range(500.0..4000.0);
        let low = shaped_noise(80 * seed + 5, count, RATE_HZ, |hz| 1e-6 / (1.0 + hz / 300.0));
        let high = shaped_noise(80 * seed + 6, count, RATE_HZ, |hz| {
            1e-8 / (1.0 + ((hz - middle) / 400.0).powi(2))
        });
        let hz = random.random_range(200.0..500.0);
        let mut tone = render(&harmonics(hz, &[0.1, 0.05, 0.02]), Vibrato::default(), RATE_HZ, 2.0);
        tonemap_core::synth::fade(&mut tone, 0.02, RATE_HZ);
        let swell = |n: usize| 0.6 + 0.4 * (TAU * 1.5 * n as f64 / RATE_HZ).sin();
        let all = tone.iter().zip(low).zip(high).enumerate();
        let all: Vec<f64> =
            all.map(|(n, ((tone, low), high))| tone + low + swell(n) * high).collect();
        let sound = to_samples(&all);
        let again = made(&sound, &Edit::default(), RestKind::Noise).sound();
        let (a, b) = (thirds(&sound), thirds(&again));
        let mut off: Vec<f64> = a.iter().zip(&b).map(|(a, b)| (a - b).abs()).collect();
        off.sort_by(f64::total_cmp);
        off[off.len() / 2]
    });
    Accuracy::all_bare("rebuild: third octaves of 100 ms, median", "dB", found).hold_worst(0.9);
}

/// Levels of a sound in thirds of an octave from 100 Hz to 10 kHz in frames of 100 ms.
fn thirds(sound: &[f32]) -> Vec<f64> {
    use rustfft::FftPlanner;
    use rustfft::num_complex::Complex64;
    const FRAME: usize = 4800;
    let fft = FftPlanner::new().plan_fft_forward(FRAME);
    let mut levels = Vec::new();
    for frame in sound.chunks_exact(FRAME) {
        let turn = |n: usize| TAU * n as f64 / FRAME as f64;
        let mut values: Vec<Complex64> = (frame.iter().enumerate())
            .map(|(n, x)| Complex64::new(f64::from(*x) * (0.5 - 0.5 * turn(n).cos()), 0.0))
            .collect();
        fft.process(&mut values);
        for k in -10..=10 {
            let bin = |half: f64| {
                (1000.0 * 10f64.powf((f64::from(k) + half) / 10.0) / 10.0).round() as usize
            };
            let power: f64 = values[bin(-0.5)..bin(0.5)].iter().map(Complex64::norm_sqr).sum();
            levels.push(10.0 * power.max(1e-20).log10());
        }
    }
    levels
}

/// Partials that are removed for a time, and raised for a time: above them there is no more noise at
/// the edges than elsewhere.
#[test]
fn edges_of_changes_do_not_click() {
    let found = in_parallel(trials(8, 40), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 10_500);
        let hz = random.random_range(150.0..400.0);
        let mut tone =
            render(&harmonics(hz, &[0.2, 0.1, 0.1, 0.05]), Vibrato::default(), RATE_HZ, 3.0);
        tonemap_core::synth::fade(&mut tone, 0.02, RATE_HZ);
        let sound = in_noise(&tone, 3e-5, 90 * seed + 7);
        let (from, to) = (random.random_range(0.8..1.2), random.random_range(1.8..2.2));
        let within = |change: Change| Change { from_s: Some(from), to_s: Some(to), ..change };
        let removed = within(Change { remove: true, ..Change::of(Which::Odd) });
        let raised = Change { gain_db: Some(Course::steady(12.0)), ..Change::of(Which::Even) };
        let edit = Edit { changes: vec![removed, within(raised)], ..Edit::default() };
        let sound = made(&sound, &edit, RestKind::Noise).sound();
        let level = |at_s: f64| {
            let at = (at_s * RATE_HZ) as usize;
            high_level_db(&sound[at - 480..at + 480])
        };
        let elsewhere: f64 = (0..8).map(|n| level(1.3 + 0.05 * f64::from(n))).sum::<f64>() / 8.0;
        [from, to].map(|edge| {
            let near = [-0.01, 0.0, 0.01, 0.02].map(|by: f64| level(edge + by));
            near.into_iter().fold(f64::NEG_INFINITY, f64::max) - elsewhere
        })
    });
    let edges: Vec<f64> = found.into_iter().flatten().collect();
    let worst = edges.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    println!("rebuild: at edges {worst:.2} dB above what is about them at most, above 6 kHz");
    assert!(worst < 2.0, "{worst}");
}

/// Level above 6 kHz.
fn high_level_db(sound: &[f32]) -> f64 {
    use rustfft::FftPlanner;
    use rustfft::num_complex::Complex64;
    let count = sound.len();
    let mut values: Vec<Complex64> = (sound.iter().enumerate())
        .map(|(n, x)| {
            let turn = TAU * n as f64 / count as f64;
            let window = 0.42 - 0.5 * turn.cos() + 0.08 * (2.0 * turn).cos();
            Complex64::new(f64::from(*x) * window, 0.0)
        })
        .collect();
    FftPlanner::new().plan_fft_forward(count).process(&mut values);
    let from = (6000.0 / RATE_HZ * count as f64) as usize;
    10.0 * values[from..count / 2].iter().map(Complex64::norm_sqr).sum::<f64>().log10()
}

/// Strings blended with others: at either end they are one of them, between them lies the mean.
#[test]
fn blends_lie_between_their_sounds() {
    const SHARES: [f64; 3] = [0.0, 1.0, 0.4];
    /// When levels are compared.
    const AT_S: f64 = 0.4;
    let found = in_parallel(trials(12, 60), |seed| {
        let mut random = ChaCha8Rng::seed_from_u64(seed + 17_000);
        let [one, two] = [0, 1].map(|n| {
            let sound = string(&mut random).render(RATE_HZ, 2.0);
            in_noise(&sound, 1e-6, 2 * seed + n + 600)
        });
        let blended = SHARES.map(|share| {
            let share = Course::steady(share);
            let (frequency, level, noise) = (share.clone(), share.clone(), share);
            let blend = Some(Blend { sound: &two, frequency, level, noise });
            let beside = Beside { blend, ..Beside::default() };
            let settings = PartialsSettings::default();
            rebuild(&one, RATE_HZ, &settings, &Edit::default(), RestKind::Exact, beside)
                .expect("made")
                .sound()
        });
        // The other one may begin a few samples aside.
        let [left, right] = [(&one, &blended[0]), (&two, &blended[1])].map(|(was, is)| {
            let apart = |by: i64| {
                let shifted = (500..was.len() - 500)
                    .map(|n| f64::from(was[n]) - f64::from(is[(n as i64 + by) as usize]));
                db_of(shifted, was)
            };
            (-240..=240).map(apart).fold(0.0, f64::min)
        });
        let [a, b, c] = [&one, &two, &blended[2]].map(|sound| read(sound));
        let mut means = Vec::new();
        for partial in &c.partials {
            let of = |from: &Partials| {
                let same = from.partials.iter().find(|of| of.number == partial.number)?;
                let track = from.tracks.iter().find(|track| track.number == partial.number)?;
                let at = (AT_S - track.start_s) / track.hop_s;
                let (n, share) = (at.floor() as usize, at.fract());
                let ends = [track.points.get(n)?, track.points.get(n + 1)?];
                let [x, y] = ends.map(TrackPoint::level_db);
                Some((same.frequency_hz, x + share * (y - x)))
            };
            if let (Some((f0, db0)), Some((f1, db1)), Some((_, db))) = (of(&a), of(&b), of(&c)) {
                let mean = |a: f64, b: f64| a + SHARES[2] * (b - a);
                let cents = 1200.0 * (partial.frequency_hz / mean(f0, f1)).log2();
                means.push((partial.number, cents, db - mean(db0, db1)));
            }
        }
        (left, right, means)
    });
    let left = found.iter().map(|of| of.0).fold(f64::NEG_INFINITY, f64::max);
    let right = found.iter().map(|of| of.1).fold(f64::NEG_INFINITY, f64::max);
    println!(
        "a blend with none of the other is {left:.1} dB from the sound, one with all {right:.1} dB"
    );
    assert!(left < -112.0, "{left}");
    assert!(right < -112.0, "{right}");
    let means = || found.iter().flat_map(|of| &of.2).filter(|(number, ..)| *number <= 12);
    assert!(means().count() > 100);
    let cents = means().map(|of| of.1);
    Accuracy::all_bare("rebuild: frequencies of blends", "cents", cents).hold(1e-4);
    let levels = means().map(|of| of.2);
    Accuracy::all_bare("rebuild: levels of blends", "dB", levels).hold(0.1);
}
