use tonemap_media::WavEncoding;

use crate::bench::{Bench, sine};

#[test]
fn a_result_is_made_again_to_the_byte() {
    let bench = Bench::new();
    bench.take("a.wav", 48_000, WavEncoding::Float, &[sine(440.0)]);
    bench.take("b.wav", 48_000, WavEncoding::Float, &[sine(441.0)]);
    for line in [
        "inspect a.wav",
        "spectrum a.wav --from 0.1 --peaks 2 --figure s.png",
        "spectrogram a.wav",
        "pitch a.wav b.wav",
        "partials a.wav --tracks --figure p.png --view decay",
        "timbre a.wav b.wav --figure-less",
        "tuning a.wav",
        "compare a.wav b.wav --figure c.png --view spectrograms",
    ] {
        let line = line.replace(" --figure-less", "");
        let made = bench.run(&format!("{line} --format json --output made.json --force --quiet"));
        assert_eq!(made.status, 0, "{line}: {}", made.err);
        let again = bench.run("again made.json");
        assert_eq!(again.status, 0, "{line}: {}{}", again.out, again.err);
        assert!(again.out.contains("the same to the byte"), "{line}: {}", again.out);
    }
}

#[test]
fn what_changed_is_named() {
    let bench = Bench::new();
    bench.take("a.wav", 48_000, WavEncoding::Float, &[sine(440.0)]);
    bench.run("spectrum a.wav --format json --output a.json --quiet");
    bench.take("a.wav", 48_000, WavEncoding::Float, &[sine(450.0)]);
    let again = bench.run("again a.json");
    assert_eq!(again.status, 3, "{}", again.err);
    assert!(again.out.contains("a.wav: it has changed since"), "{}", again.out);
    assert!(again.out.contains("peaks[1].frequency_hz was"), "{}", again.out);
    std::fs::remove_file(bench.path("a.wav")).expect("removed");
    let gone = bench.run("again a.json");
    assert_eq!(gone.status, 1);
    assert!(gone.err.contains("a.wav"), "{}", gone.err);
}

#[test]
fn only_results_are_made_again() {
    let bench = Bench::new();
    for (name, content) in [
        ("empty.json", ""),
        ("other.json", "{\"a\": 1}"),
        ("broken.json", "{\"tonemap\":"),
        (
            "sly.json",
            "{\"tonemap\":\"0\",\"kind\":\"x\",\"arguments\":[\"demo\",\"x\"],\"result\":{}}",
        ),
        (
            "piped.json",
            "{\"tonemap\":\"0\",\"kind\":\"x\",\"arguments\":[\"pitch\",\"-\"],\"result\":{}}",
        ),
    ] {
        bench.write(name, content.as_bytes());
        let run = bench.run(&format!("again {name}"));
        assert_eq!((run.status, run.out.as_str()), (1, ""), "{name}: {}", run.err);
        assert!(run.err.contains(name) && run.err.lines().count() == 1, "{}", run.err);
    }
    assert!(!bench.path("x").exists());
}
