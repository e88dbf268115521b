use tonemap_core::synth::{self, PluckedString};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, sine};

fn bench() -> Bench {
    let bench = Bench::new();
    let string = PluckedString::default().render(48_000.0, 1.5);
    bench.take("string.wav", 48_000, WavEncoding::Integer(24), &[synth::to_samples(&string)]);
    let noise = synth::white_noise(1, 0.1, 48_000);
    bench.take("noise.wav", 48_000, WavEncoding::Integer(24), &[synth::to_samples(&noise)]);
    bench
}

#[test]
fn a_report_holds_takes_comparisons_and_saved_results() {
    let bench = bench();
    bench.run("partials string.wav --format json --output p.json --quiet");
    bench.run("compare string.wav noise.wav --curve --format json --output c.json --quiet");
    let run = bench.run_words(&[
        "report",
        "string.wav",
        "noise.wav",
        "p.json",
        "c.json",
        "--pair",
        "string.wav noise.wav",
        "--title",
        "Alder <b>Hall</b>",
    ]);
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.contains("2 takes, 1 comparisons"), "{}", run.out);
    let page = std::fs::read_to_string(bench.path("report.html")).expect("written");
    assert!(page.contains("Alder &#60;b&#62;Hall&#60;/b&#62;"), "text is escaped");
    for words in [
        "id=\"take-0-spectrum\"",
        "id=\"take-0-partials\"",
        "id=\"take-1-map\"",
        "id=\"saved-",
        "BLAKE3",
    ] {
        assert!(page.contains(words), "{words}");
    }
    assert!(!page.contains("id=\"take-1-partials\""), "noise has no partials");
    // Nothing is fetched from elsewhere.
    let (before_scripts, _) = page.split_once("id=\"palette\"").expect("scripts");
    let outside =
        before_scripts.split("src=\"").skip(1).filter(|rest| !rest.starts_with("data:")).count();
    assert_eq!(outside, 0);
    // Byte for byte the same again.
    bench.run_words(&[
        "report",
        "string.wav",
        "noise.wav",
        "p.json",
        "c.json",
        "--pair",
        "string.wav noise.wav",
        "--title",
        "Alder <b>Hall</b>",
        "--output",
        "other.html",
    ]);
    assert_eq!(std::fs::read_to_string(bench.path("other.html")).expect("written"), page);
}

#[test]
fn findings_stand_first() {
    let bench = bench();
    let hot: Vec<f32> = sine(440.0).iter().map(|x| (3.0 * x).clamp(-1.0, 1.0)).collect();
    bench.take("hot.wav", 48_000, WavEncoding::Integer(16), &[hot]);
    assert_eq!(bench.run("report string.wav hot.wav --quiet").status, 0);
    let page = std::fs::read_to_string(bench.path("report.html")).expect("written");
    let place = |words: &str| page.find(words).unwrap_or_else(|| panic!("{words}"));
    assert!(place("class=\"findings\"") < place("<h2 id=\"takes\""));
    assert!(page.contains("hot.wav"));
}

#[test]
fn what_cannot_be_reported_is_told_and_nothing_is_left() {
    let bench = bench();
    for (words, status) in [
        (vec!["report"], 2),
        (vec!["report", "string.wav", "--output", "x.pdf"], 2),
        (vec!["report", "string.wav", "--pair", "string.wav"], 2),
        (vec!["report", "string.wav", "--trend", "timbre.centroid_hz"], 2),
        (vec!["report", "nothing.wav"], 1),
    ] {
        let run = bench.run_words(&words);
        assert_eq!((run.status, run.out.as_str()), (status, ""), "{words:?}: {}", run.err);
    }
    bench.write("broken.wav", b"RIFF");
    let run = bench.run("report broken.wav string.wav --output kept.html");
    assert_eq!(run.status, 1, "{}", run.err);
    assert!(
        run.err.contains("broken.wav") && run.out.contains("1 takes"),
        "{}{}",
        run.out,
        run.err
    );
    assert!(!bench.files().iter().any(|name| name == "report.html" || name == "x.pdf"));
    assert_eq!(bench.run("report string.wav --output kept.html").status, 1, "not written over");
}
