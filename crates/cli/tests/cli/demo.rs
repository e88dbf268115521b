use crate::bench::Bench;

#[test]
fn the_demo_writes_its_takes_figures_and_page() {
    let bench = Bench::new();
    let run = bench.run("demo hall");
    assert_eq!(run.status, 0, "{}", run.err);
    let page = std::fs::read_to_string(bench.path("hall/index.html")).expect("a page");
    for file in ["harp-g3.wav", "flute-a4.wav", "bell-cut0.wav", "damaged.wav"] {
        assert!(bench.path("hall").join(file).is_file(), "{file}");
    }
    for file in [
        "harp-wave.png",
        "damaged-wave.png",
        "flute-a4.png",
        "harp-g3.png",
        "bell-cut0.png",
        "bell-pair.png",
        "damaged.svg",
        "flute-a4.csv",
    ] {
        assert!(bench.path("hall").join(file).is_file(), "{file}");
        assert!(page.contains(file), "{file} is on the page");
    }
    // Every command line is shown, on the terminal and on the page.
    for command in ["tonemap inspect harp-g3.wav", "tonemap spectrum bell-cut0.wav"] {
        assert!(run.out.contains(&format!("$ {command}")), "{}", run.out);
        assert!(page.contains(command));
    }
    assert!(run.out.contains("441.270"), "the flute's pitch is found");
    assert!(page.contains("report.html") && bench.path("hall/report.html").is_file());
    let repeated = made_again(&bench, &page, true);
    assert_eq!(repeated, 9, "a measurement of every command");
    crate::manual::pages_of_commands_are_current(&page);
    crate::manual::the_tutorial_runs(&bench);
    // It does not write over what is there unless told to.
    let again = bench.run("demo hall");
    assert_eq!(again.status, 1);
    assert!(again.err.contains("the demo was written here already"), "{}", again.err);
    bench.write("file", b"");
    assert!(bench.run("demo file").err.contains("this is a file"));
}

/// `cargo test --release -p tonemap --test cli -- --ignored demo`.
#[test]
#[ignore = "takes a minute"]
fn the_demo_repeats_to_the_byte() {
    let bench = Bench::new();
    assert_eq!(bench.run("demo hall --quiet").status, 0);
    let page = std::fs::read_to_string(bench.path("hall/index.html")).expect("a page");
    let other = bench.run("demo hall --force --quiet");
    assert_eq!(other.status, 0, "{}", other.err);
    assert_eq!(other.out.lines().count(), 1);
    assert_eq!(
        std::fs::read_to_string(bench.path("hall/index.html"))
            .expect("a page")
            .replace(" --force", ""),
        page
    );
}

#[test]
#[ignore = "takes some minutes"]
fn every_measurement_of_the_demo_can_be_made_again() {
    let bench = Bench::new();
    assert_eq!(bench.run("demo hall --quiet").status, 0);
    let page = std::fs::read_to_string(bench.path("hall/index.html")).expect("a page");
    let repeated = made_again(&bench, &page, false);
    assert!(repeated > 30, "{repeated}");
}

/// Measurements of the demo, made and made again to the byte: all, or the first of each command.
fn made_again(bench: &Bench, page: &str, one_each: bool) -> usize {
    let hall = bench.path("hall");
    let mut done: Vec<String> = Vec::new();
    for step in page.split("<pre class=\"command\">").skip(1) {
        let line = step.split("</pre>").next().expect("a command").replace("&#39;", "'");
        let command = line.strip_prefix("tonemap ").expect("a command line");
        let first = command.split(' ').next().unwrap_or_default();
        let measures = [
            "inspect",
            "spectrum",
            "spectrogram",
            "pitch",
            "partials",
            "timbre",
            "tuning",
            "compare",
            "trend",
        ];
        if !measures.contains(&first)
            || command.contains("--format")
            || command.contains("--steady")
        {
            continue;
        }
        if one_each && done.iter().any(|known| known == first) {
            continue;
        }
        let name = format!("result-{}.json", done.len());
        let mut words = shlex::split(command).expect("words");
        words.retain(|word| word != "--quiet");
        words.extend(
            ["--format", "json", "--output", &name, "--force", "--quiet"].map(String::from),
        );
        let made = Bench::run_in(&hall, &words);
        assert_eq!(made.status, 0, "{command}: {}", made.err);
        let again = Bench::run_in(&hall, &["again".into(), name]);
        assert!(
            again.status == 0 && again.out.contains("the same to the byte"),
            "{command}: {}{}",
            again.out,
            again.err
        );
        done.push(first.into());
    }
    done.len()
}
