//! `room`: reverberation times of rooms that are known, from each kind of excitation, and what cannot
//! be measured.

use serde_json::Value;
use tonemap_core::synth::{alder_hall, alder_rooms, to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number};

const RATE: u32 = 48_000;
const RATE_HZ: f64 = 48_000.0;

/// Noise that dies away by 60 dB in a time.
fn decay(seed: u64, t60_s: f64, lasts_s: f64) -> Vec<f64> {
    let fall = -3.0 * std::f64::consts::LN_10 / (t60_s * RATE_HZ);
    let noise = white_noise(seed, 0.1, (lasts_s * RATE_HZ) as usize);
    noise.iter().enumerate().map(|(n, x)| x * (fall * n as f64).exp()).collect()
}

/// An impulse response from 0.1 s on in noise 60 dB below it.
fn response(seed: u64, t60_s: f64, lasts_s: f64) -> Vec<f32> {
    let mut sound = white_noise(seed + 1, 1e-4, 4800 + (lasts_s * RATE_HZ) as usize);
    sound[4800..].iter_mut().zip(decay(seed, t60_s, lasts_s)).for_each(|(x, decay)| *x += decay);
    to_samples(&sound)
}

fn take(bench: &Bench, name: &str, sound: &[f32]) {
    bench.take(name, RATE, WavEncoding::Float, &[sound.to_vec()]);
}

fn json(bench: &Bench, arguments: &str) -> Value {
    bench.json(&format!("room {arguments} --format json --quiet"))
}

/// Bands whose time is more than 3 u from what is wanted in octaves.
fn far_off(found: &Value, key: &str, wanted_s: impl Fn(f64) -> f64) -> Vec<String> {
    let bands = found["result"]["bands"].as_array().expect("bands");
    let known: Vec<&Value> = bands.iter().filter(|band| !band[key].is_null()).collect();
    assert!(known.len() >= 6, "{found}");
    let is_off = |band: &&Value| -> bool {
        let off = number(&band[key]) - wanted_s(number(&band["center_hz"]));
        off.abs() > 3.0 * number(&band[format!("{key}_u")])
    };
    known.into_iter().filter(is_off).map(Value::to_string).collect()
}

#[test]
fn an_impulse_response_says_how_long_a_room_reverberates() {
    let bench = Bench::new();
    take(&bench, "room.wav", &response(3, 1.2, 2.0));
    let found = json(&bench, "room.wav");
    let result = &found["result"];
    assert_eq!(result["excitation"], "impulse");
    assert!((number(&result["starts_s"]) - 0.1).abs() < 1e-3, "{}", result["starts_s"]);
    for key in ["t20_s", "t30_s"] {
        assert_eq!(far_off(&found, key, |_| 1.2), Vec::<String>::new(), "{key}");
    }
    assert!((number(&result["mid_s"]) - 1.2).abs() < 0.1, "{}", result["mid_s"]);
    let last = result["bands"].as_array().and_then(|bands| bands.last()).expect("a band");
    assert!((number(&last["inr_db"]) - 60.0).abs() < 1.0, "{last}");
    // 10 lg(exp(13.8·0.08/1.2) − 1) = 1.8 dB.
    assert!((number(&last["c80_db"]) - 1.8).abs() < 0.8, "{last}");
    assert!((number(&last["d50"]) - 0.44).abs() < 0.06 && number(&last["ts_s"]) > 0.05, "{last}");
    assert!(codes(&found).is_empty(), "{:?}", codes(&found));
    let rows = bench.run("room room.wav --format csv --quiet").out;
    assert_eq!(rows.lines().count(), 9, "{rows}");
    let limit = bench.run("room room.wav --quiet --require mid_s<1");
    assert_eq!(limit.status, 3, "{}", limit.err);
    let text = bench.run("room room.wav");
    assert!(text.out.contains("Tmid (500 Hz and 1 kHz) 1.2"), "{}", text.out);
}

#[test]
fn positions_are_averaged_and_their_spread_is_given() {
    let bench = Bench::new();
    for (n, t60_s) in [(1, 0.9), (2, 1.0), (3, 1.1)] {
        take(&bench, &format!("seat{n}.wav"), &response(10 * n, t60_s, 1.8));
    }
    let found = json(&bench, "seat1.wav seat2.wav seat3.wav");
    let result = &found["result"];
    assert_eq!(number(&result["positions"]), 3.0);
    let band = &result["bands"][6];
    assert!((number(&band["t30_s"]) - 1.0).abs() < 0.03, "{band}");
    assert!((number(&band["t30_spread_s"]) - 0.1).abs() < 0.03, "{band}");
    // Three of a spread of 0.1 s.
    assert!((0.05..0.16).contains(&number(&band["t30_s_u"])), "{band}");
    assert!(result["starts_s"].is_null());
    // The times of bands are those that sound insulation takes.
    bench.run("room seat1.wav seat2.wav --format json --output room.json --quiet");
    let insulation = "isolation --source seat1.wav --receiver seat2.wav --range 125Hz..4kHz \
                      --fraction 1 --decay room.json --quiet --format json";
    let found = bench.json(insulation);
    let band = &found["result"]["bands"][3];
    let by = number(&band["standardized_db"]) - number(&band["difference_db"]);
    // 10 lg(0.95 s/0.5 s).
    assert!((by - 2.8).abs() < 0.3, "{band}");
}

#[test]
fn a_sweep_and_its_recording_give_the_response() {
    let bench = Bench::new();
    let seat = alder_rooms::hall_sweep(0, RATE_HZ).expect("a sweep");
    take(&bench, "seat.wav", &to_samples(&seat));
    let recipe = "from=30Hz to=20kHz length=6s fade=10ms level=-9dB";
    let made = format!("sweep {recipe}");
    let words = ["signal", &made, "--duration", "6s", "--bits", "float", "--output", "sweep.wav"];
    assert_eq!(bench.run_words(&words).status, 0);
    let of_recipe = {
        let words = ["room", "seat.wav", "--sweep", recipe, "--format", "json", "--quiet"];
        let run = bench.run_words(&words);
        assert_eq!(run.status, 0, "{}", run.err);
        serde_json::from_str::<Value>(&run.out).expect("JSON")
    };
    let of_file = json(&bench, "seat.wav --sweep sweep.wav");
    for found in [&of_recipe, &of_file] {
        let result = &found["result"];
        assert_eq!(result["excitation"], "sweep");
        let hall = |hz: f64| {
            let near = alder_hall::HALL_T60_S.iter();
            near.min_by(|a, b| (a.0 - hz).abs().total_cmp(&(b.0 - hz).abs())).expect("a band").1
        };
        // The octave of 8 kHz has something of the one below, which lasts longer.
        let off = far_off(found, "t20_s", hall);
        assert!(off.len() <= 1, "{off:?}");
        let db = number(&result["distortion_db"]);
        assert!((-60.0..-45.0).contains(&db), "{db}");
    }
    let t20 = |found: &Value| number(&found["result"]["bands"][4]["t20_s"]);
    assert!((t20(&of_recipe) / t20(&of_file) - 1.0).abs() < 1e-3);
    // Another sweep, one without a length, and a recording that ends too soon.
    let run = |sweep: &str, more: &[&str]| {
        let words = ["room", "seat.wav", "--sweep", sweep, "--format", "json", "--quiet"];
        bench.run_words(&[&words[..], more].concat())
    };
    let other = run("from=30Hz to=20kHz length=5s", &[]);
    let found: Value = serde_json::from_str(&other.out).expect("JSON");
    assert_eq!(codes(&found), ["sweep_not_found"]);
    assert!(found["result"]["bands"].as_array().is_some_and(Vec::is_empty), "{found}");
    let short = run(recipe, &["--to", "5s"]);
    let found: Value = serde_json::from_str(&short.out).expect("JSON");
    assert_eq!(codes(&found), ["sweep_not_found"]);
    let without = run("from=30Hz to=20kHz", &[]);
    assert_eq!(without.status, 2, "{}", without.err);
    assert!(without.err.contains("a sweep has a length"), "{}", without.err);
    let missing = run("nothing.wav", &[]);
    assert_eq!(missing.status, 1, "{}", missing.err);
    // Without its name a sweep is not measured.
    assert_eq!(codes(&json(&bench, "seat.wav")), ["not_steady"]);
}

#[test]
fn noise_that_stops_is_followed_as_often_as_it_does() {
    let bench = Bench::new();
    let seconds = |s: f64| (s * RATE_HZ) as usize;
    // A room whose response is one exponential: noise of a steady level, and its decay.
    let fall = -3.0 * std::f64::consts::LN_10 / (0.8 * RATE_HZ);
    let envelope = |n: usize| {
        let into = n % seconds(3.5);
        if into < seconds(0.5) {
            0.0
        } else if into < seconds(2.0) {
            1.0
        } else {
            (fall * (into - seconds(2.0)) as f64).exp()
        }
    };
    let noise = white_noise(5, 0.1, seconds(7.0));
    let own = white_noise(6, 1e-4, noise.len());
    let sound: Vec<f64> =
        noise.iter().zip(own).enumerate().map(|(n, (x, own))| x * envelope(n) + own).collect();
    take(&bench, "noise.wav", &to_samples(&sound));
    let found = json(&bench, "noise.wav");
    let result = &found["result"];
    assert_eq!(result["excitation"], "interrupted_noise");
    assert_eq!(number(&result["decays"]), 2.0);
    assert_eq!(far_off(&found, "t20_s", |_| 0.8), Vec::<String>::new());
    let band = &result["bands"][4];
    assert!(band["edt_s"].is_null() && band["c80_db"].is_null(), "{band}");
    assert!((number(&band["inr_db"]) - 60.0).abs() < 1.0, "{band}");
    let one = json(&bench, "noise.wav --to 3.5s");
    assert_eq!(number(&one["result"]["decays"]), 1.0);
    assert!(number(&one["result"]["bands"][4]["t20_s_u"]) > number(&band["t20_s_u"]));
}

#[test]
fn what_spoils_a_decay_is_said() {
    let bench = Bench::new();
    take(&bench, "whole.wav", &response(21, 1.5, 2.5));
    // It ends after 24 dB.
    let cut: Vec<f32> = to_samples(&decay(22, 1.5, 0.6));
    take(&bench, "cut.wav", &cut);
    assert!(codes(&json(&bench, "cut.wav")).contains(&"decay_cut"));
    // Noise 20 dB below, and 40 dB below.
    for (below, code) in [(0.01, "decay_hidden"), (0.0013, "noise_near")] {
        let mut sound = decay(23, 1.0, 2.0);
        let noise = white_noise(24, below, sound.len());
        sound.iter_mut().zip(noise).for_each(|(x, noise)| *x += noise);
        take(&bench, "noisy.wav", &to_samples(&sound));
        let found = json(&bench, "noisy.wav");
        assert_eq!(codes(&found), [code], "{below}");
        let is_hidden = code == "decay_hidden";
        assert_eq!(found["result"]["bands"][5]["t20_s"].is_null(), is_hidden, "{found}");
    }
    // Two slopes: 0.4 s, and 1.6 s from 15 dB below.
    let mut sound = decay(25, 0.4, 2.5);
    let late = decay(26, 1.6, 2.5);
    sound.iter_mut().zip(late).for_each(|(x, late)| *x += 0.09 * late);
    let own = white_noise(27, 3e-5, sound.len());
    sound.iter_mut().zip(own).for_each(|(x, own)| *x += own);
    take(&bench, "coupled.wav", &to_samples(&sound));
    let found = json(&bench, "coupled.wav");
    assert!(codes(&found).contains(&"two_slopes"), "{:?}", codes(&found));
    let late_s = number(&found["result"]["bands"][6]["late_s"]);
    assert!((late_s - 1.6).abs() < 0.15, "{late_s}");
    // A decay faster than a narrow filter.
    take(&bench, "dry.wav", &response(28, 0.06, 0.5));
    let narrow = json(&bench, "dry.wav --fraction 3 --range 63Hz..125Hz");
    assert!(codes(&narrow).contains(&"filter_rings"), "{:?}", codes(&narrow));
    // Two bursts, silence, and what is too short.
    let mut twice = response(29, 0.5, 1.0);
    twice.extend(response(30, 0.5, 1.0));
    take(&bench, "twice.wav", &twice);
    assert_eq!(codes(&json(&bench, "twice.wav")), ["several_bursts"]);
    take(&bench, "silent.wav", &vec![0.0; 48_000]);
    assert!(codes(&json(&bench, "silent.wav")).contains(&"no_decay"));
    let short = bench.run("room whole.wav --from 0s --to 10ms");
    assert_eq!(short.status, 1, "{}", short.err);
    assert_eq!(bench.run("room whole.wav --fraction 9").status, 2);
    let both = bench.run("room whole.wav --sweep a.wav --excitation noise");
    assert_eq!(both.status, 2, "{}", both.err);
    // Said to be noise, a burst has none that stops.
    let noise = json(&bench, "whole.wav --excitation noise");
    assert_eq!(codes(&noise), ["no_decay"]);
}

#[test]
fn strength_and_the_early_lateral_fraction_need_a_second_response() {
    let bench = Bench::new();
    let omni = response(3, 1.2, 2.0);
    // From 5 ms after the direct sound on, half of what the other one hears.
    let late = |(n, x): (usize, &f32)| if n < 4800 + 240 { 0.0 } else { 0.5 * x };
    let lateral: Vec<f32> = omni.iter().enumerate().map(late).collect();
    let mut free = to_samples(&white_noise(91, 1e-6, 48_000));
    free[4800] += 1.0;
    bench.take("seat.wav", RATE, WavEncoding::Float, &[omni.clone(), lateral]);
    take(&bench, "yard.wav", &free);
    let arguments = "seat.wav --lateral 2 --free-field yard.wav --free-field-distance 5m";
    let found = json(&bench, arguments);
    let energy = |from: usize, to: usize| -> f64 {
        omni[from..to].iter().map(|x| f64::from(*x).powi(2)).sum()
    };
    let strength_db = 10.0 * energy(4800, omni.len()).log10() + 20.0 * f64::log10(10.0 / 5.0);
    let fraction = 0.25 * energy(4800 + 240, 4800 + 3840) / energy(4800, 4800 + 3840);
    let of = |key: &str| number(&found["result"]["broadband"][key]);
    assert!((of("strength_db") - strength_db).abs() < 0.3, "{strength_db} {found}");
    assert!((of("lateral_fraction") - fraction).abs() < 0.02, "{fraction} {found}");
    assert!((number(&found["result"]["strength_db"]) - strength_db).abs() < 1.0, "{found}");
    assert!(codes(&found).is_empty(), "{:?}", codes(&found));
    let text = bench.run(&format!("room {arguments}")).out;
    assert!(text.contains("G, dB") && text.contains("JLF"), "{text}");
    let alone = json(&bench, "seat.wav --channel 1");
    assert!(alone["result"]["strength_db"].is_null(), "{alone}");
    let refused = bench.run("room seat.wav --free-field yard.wav");
    assert!(refused.status == 2 && refused.err.contains("free-field-distance"), "{}", refused.err);
}
