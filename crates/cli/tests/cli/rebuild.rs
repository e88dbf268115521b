//! `rebuild`: sounds made again, changed as typed or as a file says, and what cannot be done.

use serde_json::Value;
use tonemap_core::synth::{PluckedString, to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes, number};

const RATE: u32 = 48_000;

/// A string from 0.1 s on, with a little noise.
fn string() -> Vec<f32> {
    let string = PluckedString { frequency_hz: 220.0, ..PluckedString::default() };
    let mut sound = white_noise(3, 1e-5, 4800 + 2 * RATE as usize);
    let heard = string.render(f64::from(RATE), 2.0);
    sound[4800..].iter_mut().zip(heard).for_each(|(x, heard)| *x += heard);
    to_samples(&sound)
}

fn bench() -> Bench {
    let bench = Bench::new();
    bench.take("a.wav", RATE, WavEncoding::Float, &[string()]);
    bench
}

fn json(bench: &Bench, arguments: &str) -> Value {
    bench.json(&format!("rebuild {arguments} --format json --quiet"))
}

/// Level of a partial as `partials` reads it.
fn level(bench: &Bench, take: &str, number_of: usize) -> f64 {
    let found = bench.json(&format!("partials {take} --format json --quiet"));
    let partials = found["result"]["partials"].as_array().expect("partials");
    let is_it = |of: &&Value| of["number"] == number_of;
    number(&partials.iter().find(is_it).expect("the partial")["level_db"])
}

/// The number of channels and the samples of a file in 32-bit floating point.
fn read(bench: &Bench, name: &str) -> (u16, Vec<f32>) {
    let bytes = std::fs::read(bench.path(name)).expect("written");
    let data = bytes.windows(4).position(|four| four == b"data").expect("samples") + 8;
    let value = |four: &[u8]| f32::from_le_bytes(four.try_into().expect("four bytes"));
    let channels = u16::from_le_bytes([bytes[22], bytes[23]]);
    (channels, bytes[data..].chunks_exact(4).map(value).collect())
}

fn samples(bench: &Bench, name: &str) -> Vec<f32> {
    read(bench, name).1
}

#[test]
fn parts_are_the_whole_and_changes_are_heard() {
    let bench = bench();
    let files = "--tones tones.wav --noise noise.wav --left left.wav";
    let found = json(&bench, &format!("a.wav --rest exact --output same.wav {files}"));
    let result = &found["result"];
    assert_eq!(result["notes"], 1);
    assert!(number(&result["residual_db"]) < -60.0, "{result}");
    assert_eq!(number(&result["normalised_db"]), 0.0);
    let (whole, same) = (samples(&bench, "a.wav"), samples(&bench, "same.wav"));
    let (tones, left) = (samples(&bench, "tones.wav"), samples(&bench, "left.wav"));
    for n in 0..whole.len() {
        assert!((whole[n] - same[n]).abs() < 1e-6, "{n}");
        assert!((whole[n] - tones[n] - left[n]).abs() < 1e-6, "{n}");
    }
    let found = json(&bench, "a.wav --gain even=+6dB --remove 3 --output b.wav");
    assert_eq!(found["result"]["changes"][0]["partials"], "even");
    assert!(number(&found["result"]["changes"][1]["meant"]) == 1.0, "{found}");
    for (partial, by) in [(1, 0.0), (2, 6.0), (4, 6.0), (5, 0.0)] {
        let moved = level(&bench, "b.wav", partial) - level(&bench, "a.wav", partial);
        assert!((moved - by).abs() < 0.05, "{partial}: {moved}");
    }
    let slow = json(&bench, "a.wav --time 2 --output slow.wav");
    assert!((number(&slow["result"]["duration_s"]) - 4.2).abs() < 1e-3, "{slow}");
    let pitch = bench.run("rebuild a.wav --pitch +1200ct --output up.wav --figure up.svg");
    assert_eq!(pitch.status, 0, "{}", pitch.err);
    let f0 = bench.json("partials up.wav --format json --quiet");
    assert!((number(&f0["result"]["f0_hz"]) - 440.0).abs() < 0.1, "{}", f0["result"]["f0_hz"]);
    let svg = std::fs::read_to_string(bench.path("up.svg")).expect("drawn");
    assert!(svg.contains("Highest level") && svg.contains("before, left"), "{svg:.300}");
}

#[test]
fn an_edit_file_says_what_is_typed() {
    let bench = bench();
    bench.write(
        "edit.toml",
        b"stretch = 0.01\nnoise = \"-6dB\"\n[[change]]\npartials = \"odd\"\ngain = \"0s: 0dB, 1s: -12dB\"\n",
    );
    let typed = "--stretch 0.01 --noise-gain -6dB";
    json(&bench, "a.wav --edit edit.toml --output file.wav");
    let line = ["rebuild", "a.wav", "--gain", "odd=0s: 0dB, 1s: -12dB", "--output", "typed.wav"];
    let line: Vec<&str> = line.into_iter().chain(typed.split(' ')).collect();
    assert_eq!(bench.run_words(&line).status, 0);
    let bytes = |name: &str| std::fs::read(bench.path(name)).expect("written");
    assert!(bytes("file.wav") == bytes("typed.wav"), "the same to the byte");
    bench.write(
        "add.toml",
        b"[[add]]\nfrequency = \"0s: 1kHz, 1s: 1kHz\"\nlevel = \"0s: -20dB, 1s: -20dB\"\n\
          [[noise-band]]\nrange = \"2kHz..\"\ngain = \"-20dB\"\n",
    );
    json(&bench, "a.wav --edit add.toml --rest none --remove all --output tone.wav");
    let tone = samples(&bench, "tone.wav");
    let mean: f32 = tone[9600..38_400].iter().map(|x| x * x).sum::<f32>() / 28_800.0;
    assert!((mean / 0.005 - 1.0).abs() < 0.01, "{mean}");
}

#[test]
fn what_makes_no_sense_is_refused_or_said() {
    let bench = bench();
    let refused = |arguments: &[&str], words: &str| {
        let fixed = ["rebuild", "a.wav", "--output", "x.wav"];
        let line: Vec<&str> = fixed.iter().chain(arguments).copied().collect();
        let run = bench.run_words(&line);
        assert!(run.status == 2 && run.err.contains(words), "{arguments:?}: {}", run.err);
        assert!(!bench.path("x.wav").exists(), "{arguments:?}");
    };
    bench.write("key.toml", b"[[change]]\npartals = \"even\"\n");
    bench.write("value.toml", b"envelope = \"hold\"\n");
    refused(&["--edit", "key.toml"], "did you mean 'partials'");
    refused(&["--edit", "value.toml"], "keep or move");
    refused(&["--pitch", "1s: 0ct, 0.5s: 3ct"], "times that rise");
    refused(&["--pitch", "+9000ct"], "four octaves");
    refused(&["--time", "0s: 0s, 1s: 2s, 2s: 1s"], "rise on both sides");
    refused(&["--time", "2", "--rest", "exact"], "which can be stretched");
    refused(&["--gain", "even"], "even=+15dB");
    refused(&["--remove", "evens"], "a choice of partials");
    let none = json(&bench, "a.wav --gain 200..=3dB --output none.wav");
    assert_eq!(codes(&none), ["none_meant"]);
    // Louder than full scale: lowered, and said.
    let loud = json(&bench, "a.wav --gain all=+30dB --output loud.wav --bits 16");
    assert!(number(&loud["result"]["normalised_db"]) < -10.0, "{loud}");
    assert!(number(&loud["result"]["peak_dbfs"]) <= 0.0, "{loud}");
    bench.take("noise.wav", RATE, WavEncoding::Float, &[to_samples(&white_noise(5, 0.1, 96_000))]);
    let noise = json(&bench, "noise.wav --output n.wav");
    assert_eq!(codes(&noise), ["no_tones"]);
    assert!(noise["result"]["residual_db"].is_null());
    bench.take("silent.wav", RATE, WavEncoding::Float, &[vec![0.0; 48_000]]);
    let silent = bench.run("rebuild silent.wav --output s.wav");
    assert!(silent.status == 1 && silent.err.contains("silent"), "{}", silent.err);
    // Channels stay what they are.
    bench.take("two.wav", RATE, WavEncoding::Float, &[string(), string()]);
    json(&bench, "two.wav --output both.wav");
    assert_eq!(read(&bench, "both.wav").0, 2);
}

#[test]
fn two_takes_are_blended() {
    let bench = bench();
    let other = PluckedString { frequency_hz: 300.0, ..PluckedString::default() };
    let mut sound = vec![0.0; 4800];
    sound.extend(other.render(f64::from(RATE), 2.0));
    bench.take("b.wav", RATE, WavEncoding::Float, &[to_samples(&sound)]);
    bench.take("slow.wav", 24_000, WavEncoding::Float, &[to_samples(&sound)]);
    let first = |take: &str| {
        let found = bench.json(&format!("partials {take} --format json --quiet"));
        number(&found["result"]["partials"][0]["frequency_hz"])
    };
    for (share, hz) in [("0", 220.0), ("0.25", 240.0), ("1", 300.0)] {
        let found =
            json(&bench, &format!("a.wav --blend b.wav --share {share} --output c.wav --force"));
        assert_eq!(found["settings"]["level_share"], share);
        let off = first("c.wav") - hz;
        println!("a share of {share} is {off:+.4} Hz off");
        assert!(off.abs() < 0.04, "{share}: {off}");
    }
    // The pitch of the one with the levels of the other.
    json(&bench, "a.wav --blend b.wav --frequency-share 0 --level-share 1 --output d.wav");
    let hz_off = first("d.wav") - 220.0;
    let db_off = level(&bench, "d.wav", 3) - level(&bench, "b.wav", 3);
    println!("of each one half: {hz_off:+.4} Hz, {db_off:+.3} dB off");
    assert!(hz_off.abs() < 0.03 && db_off.abs() < 0.002, "{hz_off} {db_off}");
    for (arguments, said) in [
        ("a.wav --blend slow.wav --output x.wav", "sample rate"),
        ("a.wav --blend b.wav --share 1.5 --output x.wav", "0.3, from 0 to 1"),
        ("a.wav --share 0.5 --output x.wav", "--blend"),
    ] {
        let run = bench.run(&format!("rebuild {arguments}"));
        assert!(run.status != 0 && run.err.contains(said), "{arguments}: {}", run.err);
        assert!(!bench.path("x.wav").exists());
    }
}

/// The record of a sound names all that it depends on, and makes it again without writing it.
#[test]
fn a_sound_is_made_again_to_the_byte() {
    let bench = bench();
    bench.take("b.wav", RATE, WavEncoding::Float, &[string()]);
    bench.write("edit.toml", b"stretch = 0.01\n[[change]]\npartials = 'even'\ngain = '-6dB'\n");
    let line = "rebuild a.wav --blend b.wav --share 0.3 --edit edit.toml --bits 16 --dither \
                --output c.wav --format json --quiet --force";
    let made = bench.run(line);
    assert_eq!(made.status, 0, "{}", made.err);
    bench.write("made.json", made.out.as_bytes());
    let before = std::fs::read(bench.path("c.wav")).expect("written");
    std::fs::remove_file(bench.path("c.wav")).expect("removed");
    let again = bench.run("again made.json");
    assert_eq!(again.status, 0, "{}{}", again.out, again.err);
    assert!(again.out.contains("the same to the byte"), "{}", again.out);
    assert!(!bench.path("c.wav").exists(), "nothing is written");
    bench.run(line);
    assert!(std::fs::read(bench.path("c.wav")).expect("written") == before);
    bench.write("edit.toml", b"stretch = 0.02\n");
    let again = bench.run("again made.json");
    assert_eq!(again.status, 3, "{}{}", again.out, again.err);
    assert!(again.out.contains("edit.toml: it has changed since"), "{}", again.out);
}

#[test]
fn it_is_written_at_another_rate() {
    let bench = bench();
    json(&bench, "a.wav --output a44.wav --rate 44.1kHz --bits 16 --tones t44.wav");
    for take in ["a44.wav", "t44.wav"] {
        let found = bench.json(&format!("partials {take} --format json --quiet"));
        assert_eq!(found["take"]["sample_rate_hz"], 44_100.0);
        let was = bench.json("partials a.wav --format json --quiet");
        let hz = |of: &Value| number(&of["result"]["f0_hz"]);
        let off = hz(&found) - hz(&was);
        println!("{take}: f0 is {off:+.5} Hz off");
        assert!(off.abs() < 3e-5, "{off}");
    }
    let run = bench.run("rebuild a.wav --output x.wav --rate 10Hz");
    assert!(run.status == 2 && run.err.contains("whole number of hertz"), "{}", run.err);
}

#[test]
fn tracks_go_out_and_come_back() {
    let bench = bench();
    json(&bench, "a.wav --gain 2=+6dB --rest none --sdif t.sdif --output one.wav");
    json(&bench, "a.wav --rest none --tracks t.sdif --output two.wav");
    let (one, two) = (samples(&bench, "one.wav"), samples(&bench, "two.wav"));
    let power = |x: f32| f64::from(x).powi(2);
    let apart: f64 = one.iter().zip(&two).map(|(a, b)| power(a - b)).sum();
    let whole: f64 = one.iter().map(|x| power(*x)).sum();
    let db = 10.0 * (apart / whole).log10();
    println!("what came back is {db:.1} dB from what went out");
    assert!(db < -102.0, "{db}");
    // Those that `partials` writes come back too.
    assert_eq!(bench.run("partials a.wav --sdif p.sdif --quiet").status, 0);
    json(&bench, "a.wav --rest none --tracks p.sdif --output three.wav");
    let off = level(&bench, "three.wav", 2) - level(&bench, "a.wav", 2);
    println!("a partial that came back is {off:+.4} dB off");
    assert!(off.abs() < 3e-4, "{off}");
    // They are played to their end, and as they are.
    bench.take("short.wav", RATE, WavEncoding::Float, &[string()[..RATE as usize].to_vec()]);
    let longer = json(&bench, "short.wav --rest none --tracks t.sdif --output four.wav");
    assert!(number(&longer["result"]["duration_s"]) > 1.5, "{longer}");
    let run = bench.run("rebuild a.wav --tracks t.sdif --gain even=+3dB --output x.wav");
    assert!(run.status == 2 && run.err.contains("as they are"), "{}", run.err);
    bench.write("no.sdif", b"RIFF");
    let run = bench.run("rebuild a.wav --tracks no.sdif --output x.wav");
    assert!(run.status == 1 && run.err.contains("no.sdif"), "{}", run.err);
}
