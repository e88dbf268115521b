use tonemap_core::synth::{self, PluckedString};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, number};

/// A study of a string that is tuned up by 2 Hz a turn.
fn study() -> Bench {
    let bench = Bench::new();
    for turn in 0..5 {
        let string = PluckedString {
            frequency_hz: 200.0 + 2.0 * f64::from(turn),
            ..PluckedString::default()
        };
        let sound = synth::to_samples(&string.render(48_000.0, 1.0));
        bench.take(&format!("turn{turn}.wav"), 48_000, WavEncoding::Float, &[sound]);
    }
    assert_eq!(bench.run("study make .").status, 0);
    let add =
        "study add turn0.wav turn1.wav turn2.wav turn3.wav turn4.wav --pattern turn{turn}.wav";
    let added = bench.run(add);
    assert_eq!(added.status, 0, "{}", added.err);
    bench
}

#[test]
fn a_quantity_is_followed_over_a_condition() {
    let bench = study();
    let line = "trend --quantity partials[2].frequency_hz --over turn";
    let found = bench.json(&format!("{line} --format json"));
    let (slope, u) = (number(&found["result"]["slope"]), number(&found["result"]["slope_u"]));
    // Twice 2 Hz, and next to nothing more for stiffness.
    let truth = {
        let string = PluckedString::default();
        4.0 * (1.0 + 4.0 * string.inharmonicity).sqrt()
    };
    assert!((slope - truth).abs() < (3.0 * u).max(1e-5), "{slope} ± {u}, {truth}");
    assert_eq!(found["result"]["points"].as_array().map(Vec::len), Some(5));
    assert_eq!(found["result"]["distinguishable"], true);
    let text = bench.run(&format!("{line} --figure t.svg"));
    assert!(text.out.contains("straight line") && text.out.contains("0 to 1"), "{}", text.out);
    let svg = std::fs::read_to_string(bench.path("t.svg")).expect("written");
    roxmltree::Document::parse(&svg).expect("well-formed");
    let csv = bench.run(&format!("{line} --format csv"));
    assert!(csv.out.starts_with("take,condition,value,value_u"), "{}", csv.out);
    // It can be made again like any result.
    bench.run(&format!("{line} --format json --output t.json --quiet"));
    assert_eq!(bench.run("again t.json").status, 0);
}

#[test]
fn analyses_are_kept_until_a_take_changes() {
    let bench = study();
    let line = "trend --quantity pitch.notes[1].f0_hz --over turn --format csv";
    let first = bench.run(line).out;
    let kept = || {
        let folder = std::fs::read_dir(bench.path(".tonemap/results")).expect("a store");
        folder.map(|entry| entry.expect("an entry").path()).collect::<Vec<_>>()
    };
    assert_eq!(kept().len(), 5);
    // Nothing is measured twice.
    let times = || -> Vec<_> {
        let about = kept().into_iter().map(|file| std::fs::metadata(file).expect("there"));
        about.map(|about| about.modified().expect("a time")).collect()
    };
    let before = times();
    assert_eq!(bench.run(line).out, first);
    assert_eq!(times(), before, "kept results were written anew");
    // What was altered, cut, emptied or swapped is not believed, and is made anew.
    let files = kept();
    let text = std::fs::read_to_string(&files[0]).expect("read");
    std::fs::write(&files[0], text.replace("\"f0_hz\":2", "\"f0_hz\":3")).expect("written");
    std::fs::write(&files[1], &text[..text.len() / 2]).expect("written");
    std::fs::write(&files[2], "").expect("written");
    std::fs::copy(&files[4], &files[3]).expect("copied");
    let second = bench.run(line);
    assert_eq!((second.status, second.out.as_str()), (0, first.as_str()), "{}", second.err);
    let string = PluckedString { frequency_hz: 260.0, ..PluckedString::default() };
    let sound = synth::to_samples(&string.render(48_000.0, 1.0));
    bench.take("turn2.wav", 48_000, WavEncoding::Float, &[sound]);
    let third = bench.run(line).out;
    assert!(third.contains("turn2,2,260."), "{third}");
    assert_eq!(kept().len(), 6);
}

#[test]
fn saved_results_and_words_are_followed_too() {
    let bench = study();
    for turn in 0..3 {
        bench.run(&format!("partials turn{turn}.wav --format json --output p{turn}.json --quiet"));
    }
    let found = bench.json(
        "trend p0.json p1.json p2.json --quantity partials.f0_hz --over turn --fit monotone --format json",
    );
    assert_eq!(found["result"]["points"].as_array().map(Vec::len), Some(3));
    assert_eq!(found["result"]["course"].as_array().map(Vec::len), Some(3));
    bench.take("soft.wav", 48_000, WavEncoding::Float, &[crate::bench::sine(300.0)]);
    bench.take("hard.wav", 48_000, WavEncoding::Float, &[crate::bench::sine(310.0)]);
    bench.run("study add soft.wav --condition felt=soft");
    bench.run("study add hard.wav --condition felt=hard");
    let run = bench.run("trend --quantity pitch.notes[1].f0_hz --over felt --figure felt.png");
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.contains("soft to hard"), "{}", run.out);
}

#[test]
fn what_cannot_be_followed_is_told_once() {
    let bench = study();
    let none = bench.run("trend --quantity timbre.centroid_hx --over turn");
    assert_eq!(none.status, 1);
    assert!(none.err.contains("did you mean 'centroid_hz'?"), "{}", none.err);
    for (line, words) in [
        ("trend --quantity nothing.f0_hz --over turn", "Commands are inspect"),
        ("trend --quantity pitch.notes[1].f0_hz --over cut", "the study knows turn"),
        ("trend --quantity pitch.notes[1].f0_hz --over turn --with 'x", "a quote is not closed"),
    ] {
        let run = bench.run(line);
        assert_eq!(run.status, 2, "{line}: {}", run.err);
        assert!(run.err.contains(words), "{line}: {}", run.err);
    }
}
