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
    assert!(run.out.contains("2 takes, 1 comparison, 0 trends"), "{}", run.out);
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
    let (before_scripts, _) = page.split_once("id=\"palette-map\"").expect("scripts");
    assert!(!page.contains("script-src 'unsafe"), "only what the page brings along is run");
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
        run.err.contains("broken.wav") && run.out.contains("1 take,"),
        "{}{}",
        run.out,
        run.err
    );
    assert!(!bench.files().iter().any(|name| name == "report.html" || name == "x.pdf"));
    assert_eq!(bench.run("report string.wav --output kept.html").status, 1, "not written over");
}

/// What a page says first: what differs, what was measured with its uncertainty, and what stands
/// out, each with a link to where it comes from.
#[test]
fn the_first_screen_answers() {
    let bench = bench();
    let quiet: Vec<f32> = sine(440.0).iter().map(|x| 0.25 * x).collect();
    let hot: Vec<f32> = sine(440.0).iter().map(|x| (3.0 * x).clamp(-1.0, 1.0)).collect();
    bench.take("loud.wav", 48_000, WavEncoding::Float, &[sine(440.0)]);
    bench.take("quiet.wav", 48_000, WavEncoding::Float, &[quiet]);
    bench.take("hot.wav", 48_000, WavEncoding::Integer(16), &[hot]);
    let run = bench.run_words(&[
        "report",
        "loud.wav",
        "quiet.wav",
        "hot.wav",
        "--pair",
        "loud.wav quiet.wav",
        "--with",
        "partials string.wav",
        "--title",
        "Fans <b> *1*",
        "--summary",
        "short.md",
        "--quiet",
    ]);
    assert_eq!(run.status, 0, "{}", run.err);
    let page = std::fs::read_to_string(bench.path("report.html")).expect("written");
    let (_, first) = page.split_once("<ul class=\"headlines\">").expect("results");
    let (first, _) = first.split_once("</ul>").expect("an end");
    let lines: Vec<&str> = first.split("<li").skip(1).collect();
    assert!((3..=6).contains(&lines.len()), "{first}");
    assert!(lines[0].contains("differs") && lines[0].contains("\u{2212}12.04"), "{}", lines[0]);
    assert!(lines.iter().any(|line| line.contains("stands out") && line.contains("hot")));
    let measured = lines.iter().find(|line| line.contains("first partial, string"));
    let measured = measured.expect("what was measured");
    assert!(measured.contains("<small>Hz</small>") && measured.contains("±"), "{measured}");
    for line in &lines {
        let (_, link) = line.split_once("href=\"#").expect("a link");
        let (target, _) = link.split_once('"').expect("an end");
        assert!(page.contains(&format!("id=\"{target}\"")), "{target}");
    }
    // The same in short, for mail.
    let short = std::fs::read_to_string(bench.path("short.md")).expect("written");
    assert!(short.contains("- differs: **\u{2212}12.04"), "{short}");
    assert!(
        short.contains("**serious** hot: ") || short.contains("**serious** hot.wav"),
        "{short}"
    );
    assert!(short.starts_with("# Fans \\<b\\> \\*1\\*\n"), "no sign of a name is a tag: {short}");
}

/// A measurement that is asked for has its section with its charts; what cannot be one is refused.
#[test]
fn measurements_are_added_by_their_command_line() {
    let bench = bench();
    let string = PluckedString::default();
    let delayed = synth::to_samples(&string.render(48_000.0, 1.5));
    let delayed: Vec<f32> = std::iter::repeat_n(0.0, 480).chain(delayed).collect();
    bench.take("later.wav", 48_000, WavEncoding::Integer(24), &[delayed]);
    let run = bench.run_words(&[
        "report",
        "string.wav",
        "--with",
        "transfer string.wav later.wav",
        "--with",
        "tuning string.wav later.wav",
        "--with",
        "bands string.wav noise.wav",
        "--with",
        "loudness string.wav noise.wav --assume 'full-scale = 94dB'",
        "--with",
        "unison string.wav",
        "--theme",
        "print",
        "--quiet",
    ]);
    assert_eq!(run.status, 0, "{}", run.err);
    let page = std::fs::read_to_string(bench.path("report.html")).expect("written");
    for words in [
        "id=\"measured-0-response\"",
        "id=\"measured-1-tuning\"",
        "id=\"measured-2-bands\"",
        "id=\"measured-3-bands\"",
        "id=\"measured-4-ear\"",
        "id=\"measured-4-difference\"",
        "Bands that weigh most",
        "id=\"measured-5-ear\"",
        "id=\"measured-6-unison\"",
        "Transfer: string, later",
        "data-form=\"print\"",
        "10.0000",
    ] {
        assert!(page.contains(words), "{words}");
    }
    for with in ["study list", "report string.wav", "unison 'string.wav", ""] {
        let run = bench.run_words(&["report", "string.wav", "--with", with, "--output", "x.html"]);
        assert_eq!(run.status, 2, "{with}: {}", run.err);
        assert!(run.err.contains("is no command that measures"), "{}", run.err);
    }
    let words = ["report", "string.wav", "--with", "unison nothing.wav", "--output", "y.html"];
    let run = bench.run_words(&words);
    assert_eq!(run.status, 1, "{}", run.err);
    assert!(run.err.contains("nothing.wav") && run.out.contains("1 take,"), "{}", run.err);
}

/// The page is handed to the browser of the desktop, and a desktop without one says so.
#[cfg(unix)]
#[test]
fn the_page_is_opened_where_there_is_a_browser() {
    use std::os::unix::fs::PermissionsExt;
    let bench = bench();
    bench.write("xdg-open", b"#!/bin/sh\necho \"$1\" > opened.txt\n");
    let file = bench.path("xdg-open");
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o755)).expect("made");
    let opened = |path: &str| {
        let mut command = crate::kept::program(bench.folder());
        let words = ["report", "string.wav", "--quiet", "--force", "--open"];
        command.stderr(std::process::Stdio::piped()).env("PATH", path).args(words);
        command.output().expect("it runs")
    };
    let path = format!("{}:/usr/bin:/bin", bench.folder().display());
    let done = opened(&path);
    assert!(done.status.success(), "{done:?}");
    let begun = std::time::Instant::now();
    while !bench.path("opened.txt").is_file() {
        assert!(begun.elapsed().as_secs() < 20, "it is not opened");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    let done = opened("/nowhere");
    let said = String::from_utf8_lossy(&done.stderr).into_owned();
    assert_eq!(done.status.code(), Some(1), "{said}");
    assert!(said.contains("open it by hand"), "{said}");
}

/// A machine at four speeds: noise has no fundamental to follow, and its maps do not pack.
#[test]
fn a_study_of_noise_is_followed_by_what_it_has_and_stays_light() {
    let bench = Bench::new();
    let takes: Vec<String> = (1..=4).map(|speed| format!("fan-{speed}.wav")).collect();
    for (n, take) in takes.iter().enumerate() {
        let sound =
            synth::to_samples(&synth::white_noise(n as u64, 0.02 * (n + 1) as f64, 288_000));
        bench.take(take, 48_000, WavEncoding::Integer(24), &[sound]);
    }
    assert_eq!(bench.run("study make .").status, 0);
    let add = format!("study add {} --pattern fan-{{speed}}.wav", takes.join(" "));
    assert_eq!(bench.run(&add).status, 0);
    let run = bench.run("report");
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.contains("4 takes, 1 comparison, 2 trends"), "{}{}", run.out, run.err);
    let page = std::fs::read_to_string(bench.path("report.html")).expect("written");
    let (_, drawing) = page.split_once("id=\"drawing\">").expect("what draws");
    let of_40 = drawing.len() + (page.len() - drawing.len()) * 40 / takes.len();
    println!("{} bytes of four takes of noise; of 40: {of_40}", page.len());
    assert!(of_40 < 6_000_000, "{of_40}");
}
