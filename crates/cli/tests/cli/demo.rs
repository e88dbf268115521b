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
