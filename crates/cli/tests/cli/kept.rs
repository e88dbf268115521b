//! What is the user's stays the user's: inputs, recordings, studies, devices; changes made at once;
//! names that are no plain words; results that come from elsewhere.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use serde_json::json;
use tonemap_core::synth;
use tonemap_media::WavEncoding;

use crate::bench::{Bench, sine};

/// The program as a command of its own, to be run beside others.
pub(crate) fn program(folder: &Path) -> Command {
    let mut command = Command::new(assert_cmd::cargo::cargo_bin!("tonemap"));
    command.current_dir(folder).stdin(Stdio::null());
    command.stdout(Stdio::null()).stderr(Stdio::null());
    command
}

fn tone(bench: &Bench, name: &str) -> Vec<u8> {
    bench.take(name, 48_000, WavEncoding::Float, &[sine(440.0)]);
    std::fs::read(bench.path(name)).expect("written")
}

#[test]
fn no_output_replaces_an_input_or_a_recording() {
    let bench = Bench::new();
    let take = tone(&bench, "in.wav");
    let other = tone(&bench, "other.wav");
    bench.write("curve.csv", b"10, 0\n20000, 0\n");
    bench.run("spectrum in.wav --format json --output saved.json --quiet");
    let saved = std::fs::read(bench.path("saved.json")).expect("saved");
    for line in [
        "inspect in.wav --output in.wav --force",
        "inspect in.wav --output ./in.wav --force",
        "inspect in.wav --format json --output other.wav --force",
        "spectrum in.wav --response curve.csv --output curve.csv --force",
        "compare saved.json saved.json --format json --output saved.json --force",
        "filter in.wav --keep 100Hz..1kHz --output in.wav --force",
        "report saved.json --output saved.json --force",
    ] {
        let run = bench.run(line);
        assert!(run.status == 1 || run.status == 2, "{line}: {} {}", run.status, run.err);
        assert_eq!(run.out, "", "{line}");
        assert!(!run.err.contains("--force"), "what would destroy is no advice: {}", run.err);
    }
    #[cfg(unix)]
    {
        std::fs::hard_link(bench.path("in.wav"), bench.path("twin.txt")).expect("linked");
        std::os::unix::fs::symlink("in.wav", bench.path("link.txt")).expect("linked");
        for name in ["twin.txt", "link.txt"] {
            assert_eq!(bench.run(&format!("inspect in.wav --output {name} --force")).status, 1);
        }
    }
    assert_eq!(std::fs::read(bench.path("in.wav")).expect("there"), take);
    assert_eq!(std::fs::read(bench.path("other.wav")).expect("there"), other);
    assert_eq!(std::fs::read(bench.path("saved.json")).expect("there"), saved);
    // A sound may take the place of a sound that is no input.
    let line = "filter in.wav --keep 100Hz..1kHz --output other.wav --quiet";
    assert_eq!(bench.run(line).status, 1);
    assert_eq!(bench.run(&format!("{line} --force")).status, 0);
}

#[test]
fn two_outputs_of_a_run_need_two_names() {
    let bench = Bench::new();
    tone(&bench, "in.wav");
    let voices = ["sweep from=20Hz to=2kHz", "--output", "s.wav", "--inverse", "s.wav", "--force"];
    let sweep = bench.run_words(&[&["signal"], &voices[..]].concat());
    assert_eq!((sweep.status, sweep.out.as_str()), (2, ""), "{}", sweep.err);
    for line in [
        "inspect in.wav --figure b.svg --output b.svg --force",
        "inspect in.wav --figure b.svg --output ./b.svg",
        "spectrogram in.wav --figure a.png --data a.png --force",
        "partials in.wav --figure p.svg --output p.svg",
    ] {
        let run = bench.run(line);
        assert_eq!((run.status, run.out.as_str()), (2, ""), "{line}: {}", run.err);
    }
    assert_eq!(bench.files(), ["in.wav"]);
}

#[test]
fn a_study_and_its_takes_are_replaced_by_nothing() {
    let bench = Bench::new();
    tone(&bench, "one.wav");
    tone(&bench, "two.wav");
    bench.run_words(&["study", "make", ".", "--title", "MINE"]);
    assert_eq!(bench.run("study add one.wav two.wav").status, 0);
    let study = std::fs::read(bench.path("study.toml")).expect("a study");
    for line in [
        "inspect one.wav --output study.toml --force",
        "filter one.wav --keep 100Hz..1kHz --output two.wav --force",
        "study make .",
        "demo . --force",
    ] {
        let run = bench.run(line);
        assert_eq!((run.status, run.out.as_str()), (1, ""), "{line}: {}", run.err);
        assert!(!run.err.contains("--force"), "{line}: {}", run.err);
    }
    let signal = ["signal", "tone frequency=1kHz", "--output", "two.wav", "--force"];
    assert_eq!(bench.run_words(&signal).status, 1);
    assert_eq!(std::fs::read(bench.path("study.toml")).expect("there"), study);
    // A folder with anything in it that the demo has not made.
    std::fs::create_dir(bench.path("mine")).expect("made");
    let harp = bench.write("mine/harp-g3.wav", b"my own recording");
    assert_eq!(bench.run("demo mine --force").status, 1);
    assert_eq!(std::fs::read(harp).expect("there"), b"my own recording");
}

#[cfg(unix)]
#[test]
fn links_modes_and_devices_stay_what_they_are() {
    use std::os::unix::fs::{PermissionsExt, symlink};
    let bench = Bench::new();
    tone(&bench, "in.wav");
    for mode in [0o600, 0o444, 0o664] {
        let file = bench.write("result.txt", b"old");
        std::fs::set_permissions(&file, PermissionsExt::from_mode(mode)).expect("set");
        assert_eq!(bench.run("inspect in.wav --output result.txt --force").status, 0);
        let about = std::fs::metadata(&file).expect("there");
        assert_eq!(about.permissions().mode() & 0o777, mode);
        assert!(std::fs::read(&file).expect("there").starts_with(b"in.wav"));
        std::fs::remove_file(file).expect("removed");
    }
    bench.write("target.txt", b"old");
    symlink("target.txt", bench.path("link.txt")).expect("linked");
    assert_eq!(bench.run("inspect in.wav --output link.txt --force").status, 0);
    assert!(bench.path("link.txt").is_symlink(), "a link stays a link");
    assert!(std::fs::read(bench.path("target.txt")).expect("there").starts_with(b"in.wav"));
    symlink("nowhere", bench.path("dead.txt")).expect("linked");
    assert_eq!(bench.run("inspect in.wav --output dead.txt --force").status, 1);
    assert!(bench.path("dead.txt").is_symlink() && !bench.path("nowhere").exists());
    // Text goes into a device or a pipe; nothing else does, and neither is replaced.
    assert_eq!(bench.run("inspect in.wav --output /dev/null --force").status, 0);
    let about = std::fs::metadata("/dev/null").expect("there");
    assert!(!about.is_file(), "/dev/null is a device");
    let said = bench.run("inspect in.wav --output /dev/stdout");
    assert!(said.status == 0 && said.out.starts_with("in.wav\n"), "{}", said.err);
    assert_eq!(bench.run("inspect in.wav --output -").out, said.out);
    symlink("/dev/null", bench.path("f.svg")).expect("linked");
    assert_eq!(bench.run("inspect in.wav --figure f.svg --force --quiet").status, 1);
    // A study that is a link is changed where it leads.
    std::fs::create_dir(bench.path("real")).expect("made");
    bench.run("study make real");
    symlink("real/study.toml", bench.path("study.toml")).expect("linked");
    assert_eq!(bench.run("study add in.wav").status, 0);
    assert!(bench.path("study.toml").is_symlink());
    let text = std::fs::read_to_string(bench.path("real/study.toml")).expect("there");
    assert!(text.contains("in.wav"), "{text}");
}

#[test]
fn changes_of_a_study_at_once_are_all_kept() {
    const EACH: usize = 12;
    let bench = Bench::new();
    bench.run("study make .");
    for n in 0..2 * EACH {
        let sound = sine(300.0 + n as f64)[..4800].to_vec();
        bench.take(&format!("t{n}.wav"), 48_000, WavEncoding::Float, &[sound]);
    }
    for n in 0..EACH {
        let start = |n: usize| {
            let mut add = program(&bench.path("."));
            add.args(["study", "add", &format!("t{n}.wav")]).spawn().expect("started")
        };
        let calibrate = || {
            let mut command = program(&bench.path("."));
            let line = "--sensitivity 12.5mV/Pa --full-scale-voltage 4V";
            command.args(["study", "calibrate", &format!("m{n}")]).args(line.split(' '));
            command.spawn().expect("started")
        };
        for mut child in [start(2 * n), start(2 * n + 1), calibrate()] {
            assert!(child.wait().expect("ended").success());
        }
    }
    let text = std::fs::read_to_string(bench.path("study.toml")).expect("a study");
    let missing = (0..2 * EACH).filter(|n| !text.contains(&format!("\"t{n}\""))).count();
    let uncalibrated = (0..EACH).filter(|n| !text.contains(&format!("microphones.m{n}]"))).count();
    assert_eq!((missing, uncalibrated), (0, 0), "{text}");
}

#[cfg(unix)]
#[test]
fn odd_names_are_read_or_refused_and_never_lost() {
    use std::os::unix::ffi::OsStrExt;
    let bench = Bench::new();
    bench.run("study make .");
    let content = tone(&bench, "plain.wav");
    let names: [(&[u8], bool); 6] = [
        (b"back\\slash.wav", true),
        ("\u{e9}t\u{e9} \u{266d}.wav".as_bytes(), true),
        (b"-dash.wav", true),
        (b"non\xffutf.wav", false),
        (b"two\nlines.wav", false),
        (b"esc\x1b[31mred.wav", false),
    ];
    for (name, is_added) in names {
        let name = std::ffi::OsStr::from_bytes(name);
        std::fs::write(bench.path("").join(name), &content).expect("written");
        let mut add = program(&bench.path("."));
        let added = add.args(["study", "add", "--"]).arg(name).stderr(Stdio::piped());
        let added = added.output().expect("ran");
        assert_eq!(added.status.success(), is_added, "{name:?}");
        let said = String::from_utf8_lossy(&added.stderr);
        assert!(is_added || said.contains("rename it"), "{said}");
        assert!(!said.trim_end().contains(['\u{1b}', '\n']), "{said:?}");
        // Bare, all are measured, and drawn.
        let mut draw = program(&bench.path("."));
        draw.args(["spectrum", "--quiet", "--force", "--figure", "f.png", "--"]).arg(name);
        assert!(draw.status().expect("ran").success(), "{name:?}");
    }
    // What was added is found again, by name too.
    let check = bench.run("study check");
    let problems = check.out.lines().filter(|line| line.contains("missing")).count();
    assert_eq!(problems, 0, "{}", check.out);
    for name in ["back\\slash", "\u{e9}t\u{e9} \u{266d}"] {
        assert_eq!(bench.run_words(&["inspect", name, "--quiet"]).status, 0, "{name}");
    }
    // No name sends its escapes to the terminal.
    let table = bench.run_words(&["inspect", "esc\u{1b}[31mred.wav", "two\nlines.wav"]);
    assert!(!table.out.contains('\u{1b}') && table.out.contains("esc\\u{1b}"), "{}", table.out);
}

#[test]
fn what_a_study_says_is_checked() {
    let bench = Bench::new();
    bench.run("study make .");
    tone(&bench, "a.wav");
    for (options, status) in [
        ("--note nonsense", 2),
        ("--note H9", 2),
        ("--channels all", 1),
        ("--channels 2", 1),
        ("--channels x,y", 1),
        ("--note C#4 --channels near:mic", 0),
    ] {
        let run = bench.run(&format!("study add a.wav {options}"));
        assert_eq!(run.status, status, "{options}: {}", run.err);
    }
    let text = std::fs::read_to_string(bench.path("study.toml")).expect("a study");
    let check = |from: &str, to: &str| {
        assert!(text.contains(from), "{from} in {text}");
        bench.write("study.toml", text.replace(from, to).as_bytes());
        let run = bench.run("study check");
        assert_eq!(run.status, 1, "{to}: {}{}", run.out, run.err);
        run.out + &run.err
    };
    assert!(check("\"C#4\"", "\"H9\"").contains("'H9', which is none"));
    let doubtful = bench.run("tuning a --quiet");
    assert!(doubtful.out.contains("[note_unknown]"), "{}{}", doubtful.out, doubtful.err);
    assert!(check("\"equal\"", "\"nonsense\"").contains("nonsense"));
    let tuning = bench.run("tuning a --quiet");
    assert!(tuning.err.contains("the study: "), "{}", tuning.err);
    assert!(check("440.0", "1e300").contains("study.toml: the study: reference_pitch_hz is 1"));
    let two = "[{ name = \"near\" }, { name = \"far\" }]";
    assert!(check("[{ name = \"near\", microphone = \"mic\" }]", two).contains("names 2 channels"));
    let wrong = "note = \"C#4\"\nconditions = { cut = nan }";
    assert!(check("note = \"C#4\"", wrong).contains("a finite number"));
}

#[test]
fn results_from_elsewhere_read_nothing_else_and_write_nothing() {
    let bench = Bench::new();
    tone(&bench, "a.wav");
    let secret = bench.write("secret.txt", b"root:x:0:0:the secret");
    let result = |arguments: serde_json::Value, takes: &[&str]| {
        let takes: Vec<_> = takes.iter().map(|t| json!({"path": t, "blake3": "00"})).collect();
        json!({"tonemap": "0.1.0", "kind": "x", "schema": 1, "arguments": arguments,
            "takes": takes, "result": {}, "findings": []})
        .to_string()
    };
    for arguments in [
        json!(["inspect", "secret.txt"]),
        json!(["inspect", secret.display().to_string()]),
        json!(["spectrum", "a.wav", "--response", "secret.txt"]),
        json!(["tuning", "a.wav", "--temperament=secret.toml"]),
    ] {
        bench.write("sly.json", result(arguments.clone(), &["a.wav"]).as_bytes());
        let run = bench.run("again sly.json");
        assert_eq!(run.status, 1, "{arguments}");
        assert!(!(run.out + &run.err).contains("root:"), "{arguments}");
    }
    // A trend of a study keeps nothing there.
    bench.run("study make elsewhere");
    tone(&bench, "elsewhere/t.wav");
    bench.run("study add elsewhere/t.wav --study elsewhere --condition cut=1");
    bench.run("study add elsewhere/t.wav --study elsewhere --condition cut=1");
    let files = || {
        let entries = std::fs::read_dir(bench.path("elsewhere/.tonemap")).expect("there");
        entries.map(|e| e.expect("an entry").file_name()).collect::<Vec<_>>()
    };
    let before = files();
    let line = json!([
        "trend",
        "--study",
        "elsewhere",
        "--quantity",
        "pitch.notes[1].f0_hz",
        "--over",
        "cut"
    ]);
    bench.write("trend.json", result(line, &["elsewhere/t.wav"]).as_bytes());
    let run = bench.run("again trend.json");
    assert!(
        run.out.contains("no longer there") || run.out.contains("differ"),
        "{}{}",
        run.out,
        run.err
    );
    assert_eq!(files(), before, "nothing is kept");
}

#[test]
fn what_never_ends_is_refused() {
    let bench = Bench::new();
    tone(&bench, "a.wav");
    bench.run("spectrum a.wav --format json --output a.json --quiet");
    let text = std::fs::read_to_string(bench.path("a.json")).expect("saved");
    bench.write("endless.json", text.replace("a.wav", "/dev/zero").as_bytes());
    bench.run("study make .");
    bench.run("study add a.wav");
    let study = std::fs::read_to_string(bench.path("study.toml")).expect("a study");
    // Headers that state rates of no converter.
    let take = std::fs::read(bench.path("a.wav")).expect("a take");
    for (name, rate) in [("rate1g.wav", 1_000_000_000u32), ("rate4g.wav", u32::MAX)] {
        let mut lying = take.clone();
        lying[24..28].copy_from_slice(&rate.to_le_bytes());
        bench.write(name, &lying);
    }
    let lines = [
        "pitch rate4g.wav",
        "compare a.wav rate1g.wav",
        "inspect rate1g.wav",
        "tuning rate4g.wav --quiet",
        "report /dev/zero",
        "again /dev/zero",
        "again endless.json",
        "inspect /dev/zero",
        "spectrum a.wav --emphasis /dev/zero",
        "spectrum a.wav --response /dev/zero",
        "compare a.wav /dev/zero",
        "spectrum a.wav --zero-pad 1e15",
        "spectrogram a.wav --zero-pad inf",
        "compare a.wav a.wav --zero-pad 1e300",
        "inspect a.wav --raw u8,4294967295,1",
        "pitch a.wav --raw u8,4294967295,1",
    ];
    for line in lines {
        let run = bench.run(line);
        assert!(run.status == 1 || run.status == 2, "{line}: {}{}", run.out, run.err);
        assert_eq!(run.err.lines().count(), 1, "{line}: {}", run.err);
    }
    #[cfg(unix)]
    {
        let made = Command::new("mkfifo").arg(bench.path("pipe.wav")).status().expect("ran");
        assert!(made.success());
        bench.write("study.toml", study.replace("\"a.wav\"", "\"pipe.wav\"").as_bytes());
        for line in ["study list", "study check", "report", "inspect a", "again pipe.wav"] {
            let run = bench.run(line);
            assert_eq!(run.status, 1, "{line}: {}{}", run.out, run.err);
        }
    }
}

#[test]
fn many_numbers_take_no_longer_than_their_number() {
    let bench = Bench::new();
    let numbers: Vec<f64> = (0..100).map(f64::from).collect();
    let lists: Vec<Vec<Vec<f64>>> = vec![vec![numbers; 100]; 30];
    let result = json!({"tonemap": "0.1.0", "kind": "x", "schema": 1, "arguments": ["inspect", "a"],
        "takes": [], "result": {"lists": lists}, "findings": []});
    bench.write("many.json", result.to_string().as_bytes());
    let run = bench.run("compare many.json many.json");
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.contains("300000 of 300000 numbers are equal"), "{}", run.out);
    let file = std::fs::File::create(bench.path("large.json")).expect("made");
    file.set_len(250 << 20).expect("long");
    for line in ["compare large.json large.json", "again large.json", "report large.json"] {
        let run = bench.run(line);
        assert_eq!(run.status, 1, "{line}");
        assert!(run.err.contains("it is larger than 64 MB"), "{line}: {}", run.err);
    }
}

#[cfg(unix)]
#[test]
fn pipes_are_read_as_streams() {
    let bench = Bench::new();
    let content = tone(&bench, "a.wav");
    assert!(Command::new("mkfifo").arg(bench.path("pipe")).status().expect("ran").success());
    let (path, whole) = (bench.path("pipe"), content.clone());
    let writer = std::thread::spawn(move || {
        std::thread::sleep(Duration::from_millis(300));
        std::fs::write(path, whole)
    });
    let run = bench.run("inspect pipe --quiet");
    writer.join().expect("joined").expect("written");
    assert_eq!(run.status, 0, "{}", run.err);
    let direct = bench.run("inspect a.wav --quiet").out;
    assert_eq!(run.out.replace("pipe\n", "a.wav\n"), direct);
    let shell = |line: &str| {
        let program = assert_cmd::cargo::cargo_bin!("tonemap").display().to_string();
        let line = line.replace("tonemap", &program);
        let mut shell = Command::new("bash");
        let done = shell.args(["-c", &line]).current_dir(bench.path(".")).output().expect("ran");
        (done.status.code(), String::from_utf8(done.stdout).expect("text"))
    };
    let (status, out) = shell("tonemap inspect <(cat a.wav) --quiet");
    assert!(status == Some(0) && out.contains("0.500") || out.contains("1.000 s"), "{out}");
    let (status, out) = shell("cat a.wav | tonemap inspect /dev/stdin --quiet");
    assert!(status == Some(0) && out.contains("1.000 s"), "{out}");
    let alone = bench.run("inspect pipe");
    assert_eq!((alone.status, alone.out.as_str()), (1, ""));
    assert!(alone.err.contains("nothing writes into this pipe"), "{}", alone.err);
}

#[test]
fn a_report_is_of_what_was_named() {
    let bench = Bench::new();
    std::fs::create_dir(bench.path("study")).expect("made");
    let string = |hz: f64| {
        let string = synth::PluckedString { frequency_hz: hz, ..synth::PluckedString::default() };
        synth::to_samples(&string.render(48_000.0, 1.0))
    };
    for (n, name) in ["x0", "x1", "x2", "-dash"].iter().enumerate() {
        let sound = string(200.0 + n as f64);
        bench.take(&format!("study/{name}.wav"), 48_000, WavEncoding::Float, &[sound]);
    }
    bench.take("outside.wav", 48_000, WavEncoding::Float, &[string(210.0)]);
    bench.run("study make study");
    for n in 0..3 {
        let add = format!("study add study/x{n}.wav --study study --condition cut={n}");
        assert_eq!(bench.run(&add).status, 0);
    }
    assert_eq!(bench.run("study add --study study --condition cut=3 -- study/-dash.wav").status, 0);
    let text = std::fs::read_to_string(bench.path("study/study.toml")).expect("a study");
    bench.write("study/study.toml", text.replace("440.0", "442.0").as_bytes());
    let report = |words: &[&str]| {
        let run = bench.run_words(&[&["report", "--force"], words].concat());
        let page = std::fs::read_to_string(bench.path("report.html")).unwrap_or_default();
        (run.status, run.out + &run.err, page)
    };
    // Trends are over the takes that were named, and the cursor counts from the study's pitch.
    let trend = ["--trend", "pitch.notes[1].f0_hz over cut"];
    let words = [&["--study", "study", "x0", "x1"], &trend[..]].concat();
    let (status, said, page) = report(&words);
    assert_eq!(status, 0, "{said}");
    assert!(page.contains("data-a4=\"442\""));
    let values = page.split("<caption>Values</caption>").nth(1).expect("a table of values");
    let values = values.split("</table>").next().expect("its end");
    assert!(values.contains(">x0<") && values.contains(">x1<") && !values.contains(">x2<"));
    // Files outside the study, and takes whose names begin with a dash.
    let (status, said, page) = report(&["--study", "study", "outside.wav"]);
    assert!(status == 0 && page.contains("outside.wav"), "{said}");
    let pairs = ["--pair", "outside.wav@..0.5 study/-dash.wav", "--pair", "x0+x1 x2+outside.wav"];
    let words = [&["--study", "study", "x0"], &pairs[..]].concat();
    let (status, said, page) = report(&words);
    assert!(status == 0 && said.contains("2 comparisons"), "{said}");
    assert!(page.contains("outside.wav and -dash"), "{said}");
    let (status, said, _) = report(&["--study", "study", "--where", "cut=3"]);
    assert_eq!(status, 0, "{said}");
    let words = [&["--study", "study", "--where", "cut=3"], &trend[..]].concat();
    let (status, said, _) = report(&words);
    assert_eq!(status, 0, "{said}");
    // One bad take, one bad comparison, one bad result: the page is made without them.
    bench.write("study/x2.wav", b"RIFF");
    bench.write("bad.json", b"{");
    let words = ["--study", "study", "x0", "x2", "bad.json", "--pair", "x0 x2", "--pair", "x0 x1"];
    let (status, said, page) = report(&words);
    assert_eq!(status, 1, "{said}");
    assert!(said.contains("1 take, 1 comparison,") && said.contains("bad.json"), "{said}");
    assert!(page.contains("id=\"take-0-spectrum\"") && page.contains("x0 and x1"), "{said}");
    // Samples without a header.
    let raw: Vec<u8> = string(200.0).iter().flat_map(|x| x.to_le_bytes()).collect();
    bench.write("t.bin", &raw);
    let (status, said, page) = report(&["t.bin", "--raw", "f32le,48kHz,1"]);
    assert!(status == 0 && page.contains("t.bin"), "{said}");
    // Nothing may come from outside, whatever stands in the page.
    assert!(page.contains("Content-Security-Policy") && page.contains("default-src 'none'"));
}
