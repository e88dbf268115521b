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
    // Every measurement of the demo can be made again to the byte.
    let hall = bench.path("hall");
    let mut repeated = 0;
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
        let name = format!("result-{repeated}.json");
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
        repeated += 1;
    }
    assert!(repeated > 30, "{repeated}");
    assert!(page.contains("report.html") && hall.join("report.html").is_file());
    // It repeats to the byte, and does not write over what is there unless told to.
    let again = bench.run("demo hall");
    assert_eq!(again.status, 1);
    assert!(again.err.contains("holds files already"), "{}", again.err);
    let other = bench.run("demo hall --force --quiet");
    assert_eq!(other.status, 0, "{}", other.err);
    assert_eq!(other.out.lines().count(), 1);
    assert_eq!(
        std::fs::read_to_string(bench.path("hall/index.html"))
            .expect("a page")
            .replace(" --force", ""),
        page
    );
    bench.write("file", b"");
    assert!(bench.run("demo file").err.contains("this is a file"));
}
