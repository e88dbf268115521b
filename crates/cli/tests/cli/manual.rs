//! The manual: the page of each command is made from the program, and what the others say holds.
//!
//! `MANUAL_UPDATE=1 cargo test --release --workspace --test cli -- the_demo_writes` writes the pages
//! of the commands anew.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};

use crate::bench::Bench;

fn docs() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs")
}

/// All pages: the manual, and what stands beside it.
fn pages() -> Vec<(PathBuf, String)> {
    let root = docs().parent().expect("the root").to_path_buf();
    let mut folders = vec![docs()];
    let mut files = ["README.md", "CONTRIBUTING.md"].map(|name| root.join(name)).to_vec();
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).expect("a folder") {
            let path = entry.expect("an entry").path();
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|ending| ending == "md") {
                files.push(path);
            }
        }
    }
    files.sort();
    files.into_iter().map(|file| (file.clone(), fs::read_to_string(file).expect("text"))).collect()
}

/// The names of all commands.
fn commands(bench: &Bench) -> Vec<String> {
    let overview = bench.run("help").out;
    let listed = overview.lines().skip_while(|line| *line != "Commands:").skip(1);
    let names = listed.take_while(|line| !line.is_empty()).filter_map(|line| {
        let name = line.strip_prefix("  ")?.split_whitespace().next()?;
        (!line.starts_with("   ")).then(|| name.to_string())
    });
    names.collect()
}

/// The options in a help text, long ones.
fn options(help: &str) -> BTreeSet<String> {
    let words = help.lines().filter_map(|line| {
        let line = line.trim_start();
        let line = line.split_once(", --").map_or(line, |(short, _)| {
            if short.len() == 2 && short.starts_with('-') { &line[4..] } else { line }
        });
        line.strip_prefix("--").map(|rest| {
            let name = rest.split([' ', '[', '=', ',']).next().unwrap_or_default();
            format!("--{name}")
        })
    });
    words.filter(|name| name.len() > 2).collect()
}

/// The help of a command and of those within it.
fn whole_help(bench: &Bench, command: &str) -> Vec<(String, String)> {
    let help = bench.run(&format!("{command} --help")).out;
    let inner = help.lines().skip_while(|line| *line != "Commands:").skip(1);
    let inner: Vec<String> = inner
        .take_while(|line| !line.is_empty())
        .filter(|line| !line.starts_with("   "))
        .filter_map(|line| line.split_whitespace().next().map(String::from))
        .collect();
    let mut all = vec![(command.to_string(), help)];
    for name in inner {
        let line = format!("{command} {name}");
        let help = bench.run(&format!("{line} --help")).out;
        all.push((line, help));
    }
    all
}

/// A step of the demo about a command: its text, command line, output and figure.
struct Step {
    text: String,
    command: String,
    output: String,
    figure: Option<String>,
}

fn steps(index: &str) -> Vec<Step> {
    let plain = |html: &str| {
        html.replace("&#39;", "'")
            .replace("&#34;", "\"")
            .replace("&#60;", "<")
            .replace("&#62;", ">")
            .replace("&#38;", "&")
    };
    let between = |of: &str, from: &str, to: &str| {
        let (_, rest) = of.split_once(from)?;
        Some(plain(rest.split_once(to)?.0))
    };
    let sections = index.split("<section id=\"step-").skip(1);
    sections
        .map(|section| Step {
            text: between(section, "<p>", "</p>").expect("a text"),
            command: between(section, "<pre class=\"command\">", "</pre>").expect("a command"),
            output: between(section, "<pre class=\"output\">", "</pre>").expect("an output"),
            figure: between(section, "<a href=\"", "\""),
        })
        .collect()
}

/// Lines of output on a page.
const MOST_LINES: usize = 40;

/// The picture of a step that is kept with the manual.
fn picture(step: &Step) -> Option<String> {
    const KEPT: [(&str, &str); 17] = [
        ("hall-night.png", "bands-night.png"),
        ("wall.png", "isolation-wall.png"),
        ("harp-seat.png", "compare-harp.png"),
        ("fan-loudness.png", "loudness-fans.png"),
        ("fan-worn.png", "modulation-fan.png"),
        ("bell-chord.png", "notate-bell.png"),
        ("harp-partials.png", "partials-harp.png"),
        ("flute-scale.png", "pitch-scale.png"),
        ("flute-hollow.png", "rebuild-flute.png"),
        ("hall-room.png", "room-hall.png"),
        ("harp-spectrogram.png", "spectrogram-harp.png"),
        ("harp-g3.png", "spectrum-harp.png"),
        ("plucks.png", "survey-plucks.png"),
        ("flute-harmonics.png", "timbre-flute.png"),
        ("harp-transfer.png", "transfer-harp.png"),
        ("harp-tuning.png", "tuning-harp.png"),
        ("harp-unison.png", "unison-harp.png"),
    ];
    let figure = step.figure.as_deref()?;
    KEPT.iter().find(|(of, _)| *of == figure).map(|(_, kept)| kept.to_string())
}

/// The example of a command: the step with a picture that is kept, or else the first.
fn example<'s>(steps: &'s [Step], command: &str) -> Option<&'s Step> {
    let of = |step: &&Step| step.command.split(' ').nth(1) == Some(command);
    let mut own = steps.iter().filter(of);
    let first = own.clone().next();
    own.find(|step| picture(step).is_some()).or(first)
}

/// The unit that the end of a key says.
fn unit(key: &str) -> &'static str {
    let base = key.strip_suffix("_u").unwrap_or(key).trim_end_matches("[]");
    let units = [
        ("_per_octave", "dB per octave"),
        ("_m_s", "m/s"),
        ("_hz", "Hz"),
        ("_dbfs", "dB re full scale"),
        ("_db", "dB"),
        ("_cents", "cents"),
        ("_deg", "°"),
        ("_rad", "rad"),
        ("_ppm", "ppm"),
        ("_percent", "%"),
        ("_sone", "sone"),
        ("_phon", "phon"),
        ("_acum", "acum"),
        ("_asper", "asper"),
        ("_vacil", "vacil"),
        ("_lufs", "LUFS"),
        ("_m", "m"),
        ("_s", "s"),
    ];
    units
        .iter()
        .find(|(ending, _)| base.ends_with(ending) || base.ends_with(&format!(".{}", &ending[1..])))
        .map_or("", |(_, unit)| *unit)
}

/// The keys of a command's JSON as they were reviewed.
fn keys(command: &str) -> Option<String> {
    let name = format!("tests/cli/snapshots/cli__shapes__{command}.snap");
    let text = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join(name)).ok()?;
    let mut table = "| key of `result` | unit |\n|---|---|\n".to_string();
    for line in text.lines().filter_map(|line| line.strip_prefix("result.")) {
        let key = line.split(": ").next().unwrap_or(line);
        // An uncertainty stands with its value, in the same unit.
        let has_value = |base: &str| text.contains(&format!("\nresult.{base}: "));
        if key.strip_suffix("_u").is_some_and(has_value) {
            continue;
        }
        let with_u = if text.contains(&format!("\nresult.{key}_u: ")) { ", `_u`" } else { "" };
        let _ = writeln!(table, "| `{key}`{with_u} | {} |", unit(key));
    }
    Some(table)
}

/// The page of a command.
fn page(bench: &Bench, steps: &[Step], command: &str) -> String {
    let mut page = format!("# tonemap {command}\n\n");
    if let Some(step) = example(steps, command) {
        let lines: Vec<&str> = step.output.lines().collect();
        let shown = lines.iter().take(MOST_LINES).copied().collect::<Vec<_>>().join("\n");
        let more = lines.len().saturating_sub(MOST_LINES);
        let more = if more > 0 { format!("\n… and {more} lines more") } else { String::new() };
        let _ =
            write!(page, "{}\n\n```console\n$ {}\n{shown}{more}\n```\n\n", step.text, step.command);
        if let Some(picture) = picture(step) {
            let _ =
                write!(page, "![{}](../screenshots/{picture})\n\n", step.text.replace('\n', " "));
        }
    }
    let method = docs().join(format!("methods/{command}.md"));
    if method.is_file() {
        let _ = write!(page, "How it is computed: [methods](../methods/{command}.md).\n\n");
    }
    page += "## Arguments and options\n\n";
    for (line, help) in whole_help(bench, command) {
        let help = help.lines().map(str::trim_end).collect::<Vec<_>>().join("\n");
        let _ = write!(page, "```text\n$ tonemap {line} --help\n{help}\n```\n\n");
    }
    if let Some(keys) = keys(command) {
        let _ = write!(
            page,
            "## Result in JSON\n\nWith `--format json`. Keys with `_u` have their standard uncertainty under the same key with \
             `_u` behind; `[]` is a list. What stands around the result: [results as JSON](../reference/json.md).\n\n{keys}\n"
        );
    }
    page.trim_end().to_string() + "\n"
}

/// Words and numbers of a text: numbers may differ in what lies below their last digits.
fn same(a: &str, b: &str) -> bool {
    let split = |text: &str| -> Vec<String> {
        let mut parts = vec![String::new()];
        for letter in text.chars() {
            let is_digit = |c: char| c.is_ascii_digit() || c == '.';
            let goes_on = parts
                .last()
                .and_then(|part| part.chars().last())
                .is_none_or(|last| is_digit(last) == is_digit(letter));
            if !goes_on {
                parts.push(String::new());
            }
            if let Some(last) = parts.last_mut() {
                // Columns move with the digits in them.
                if !(letter == ' ' && last.ends_with(' ')) {
                    last.push(letter);
                }
            }
        }
        parts
    };
    let (a, b) = (split(a), split(b));
    let near = |(a, b): (&String, &String)| match (a.parse::<f64>(), b.parse::<f64>()) {
        (Ok(x), Ok(y)) => (x - y).abs() <= 2e-2 * x.abs().max(y.abs()) + 2e-3,
        _ => a == b,
    };
    a.len() == b.len() && a.iter().zip(&b).all(near)
}

/// The pages of the commands are those that the program makes now, with the output of the demo.
pub(crate) fn pages_of_commands_are_current(index: &str) {
    let bench = Bench::new();
    let steps = steps(index);
    let is_update = std::env::var("MANUAL_UPDATE").is_ok();
    let names = commands(&bench);
    for name in &names {
        let (file, made) = (docs().join(format!("commands/{name}.md")), page(&bench, &steps, name));
        if is_update {
            fs::write(&file, &made).expect("written");
        }
        let kept = fs::read_to_string(&file).unwrap_or_default();
        let first = made.lines().zip(kept.lines()).find(|(made, kept)| !same(made, kept));
        assert!(
            first.is_none() && made.lines().count() == kept.lines().count(),
            "docs/commands/{name}.md is not what the program says now; MANUAL_UPDATE=1 writes it anew: {first:?}"
        );
    }
    let kept = fs::read_dir(docs().join("commands")).expect("a folder").count();
    assert_eq!(kept, names.len(), "a page for each command and no other");
}

/// Every command line of the tutorial runs on the demo.
pub(crate) fn the_tutorial_runs(bench: &Bench) {
    let mut ran = 0;
    for (file, text) in
        pages().iter().filter(|(file, _)| file.parent().is_some_and(|of| of.ends_with("tutorial")))
    {
        for line in console_lines(text) {
            // The demo itself, and a browser.
            if line.starts_with("demo") {
                continue;
            }
            let line = line.replace(" --open", "");
            let mut words = shlex_words(&line);
            let writes = ["--output", "--figure", "report"];
            if writes.iter().any(|writes| words.iter().any(|word| word == writes)) {
                words.insert(1, "--force".into());
            }
            words.insert(1, "--quiet".into());
            let run = Bench::run_in(&bench.path("hall"), &words);
            assert_eq!(run.status, 0, "{}: {line}: {}", file.display(), run.err);
            ran += 1;
        }
    }
    assert!(ran >= 15, "{ran}");
}

/// The command lines in a page, without the name of the program.
fn console_lines(text: &str) -> Vec<String> {
    let blocks = text.split("```console\n").skip(1).filter_map(|rest| rest.split("```").next());
    let mut lines = Vec::new();
    for block in blocks {
        let joined = block.replace("\\\n", " ");
        for line in joined.lines() {
            if let Some(line) = line.trim().strip_prefix("$ tonemap ") {
                lines.push(line.split("; ").next().unwrap_or(line).trim().to_string());
            }
        }
    }
    lines
}

fn shlex_words(line: &str) -> Vec<String> {
    let (mut words, mut word, mut quote) = (Vec::new(), String::new(), None);
    for letter in line.chars() {
        match (quote, letter) {
            (None, '\'' | '"') => quote = Some(letter),
            (Some(open), _) if letter == open => quote = None,
            (None, ' ') => {
                words.extend(Some(std::mem::take(&mut word)).filter(|word| !word.is_empty()));
            }
            _ => word.push(letter),
        }
    }
    words.extend(Some(word).filter(|word| !word.is_empty()));
    words
}

#[test]
fn links_lead_somewhere() {
    let anchor = |head: &str| {
        let kept = head.to_lowercase().replace(' ', "-");
        kept.chars().filter(|c| c.is_alphanumeric() || "-_".contains(*c)).collect::<String>()
    };
    let mut broken = Vec::new();
    let mut count = 0;
    for (file, text) in pages() {
        let mut rest = text.as_str();
        while let Some((_, behind)) = rest.split_once("](") {
            let Some((target, after)) = behind.split_once(')') else { break };
            rest = after;
            if target.starts_with("http") || target.contains(' ') || target.is_empty() {
                continue;
            }
            count += 1;
            let (path, place) = target.split_once('#').unwrap_or((target, ""));
            let folder = file.parent().expect("a folder");
            let to = if path.is_empty() { file.clone() } else { folder.join(path) };
            let heads = fs::read_to_string(&to).unwrap_or_default();
            let mut heads = heads.lines().filter_map(|line| line.strip_prefix('#'));
            let is_there = to.exists()
                && (place.is_empty()
                    || heads.any(|head| anchor(head.trim_start_matches('#').trim()) == place));
            if !is_there {
                broken.push(format!("{}: {target}", file.display()));
            }
        }
    }
    assert!(broken.is_empty(), "{}", broken.join("\n"));
    assert!(count > 100, "{count} links");
}

/// Every page of the book is in its contents, and what the contents name is there.
#[test]
fn the_contents_name_every_page() {
    let contents = fs::read_to_string(docs().join("SUMMARY.md")).expect("contents");
    for (file, _) in pages() {
        let Ok(name) = file.strip_prefix(docs()) else { continue };
        let name = name.to_string_lossy().replace('\\', "/");
        assert!(name == "SUMMARY.md" || contents.contains(&format!("({name})")), "{name}");
    }
}

/// Every option that the program has stands on the page of its command, and every option in an
/// example is one.
#[test]
fn options_are_those_of_the_program() {
    let bench = Bench::new();
    let mut known = std::collections::BTreeMap::new();
    for name in commands(&bench) {
        let page = fs::read_to_string(docs().join(format!("commands/{name}.md"))).expect("a page");
        let mut all = BTreeSet::new();
        for (line, help) in whole_help(&bench, &name) {
            let own = options(&help);
            assert!(!own.is_empty(), "{line}");
            let missing: Vec<&String> =
                own.iter().filter(|option| !page.contains(*option)).collect();
            assert!(missing.is_empty(), "docs/commands/{name}.md: {missing:?}");
            all.extend(own);
        }
        known.insert(name, all);
    }
    let (mut wrong, mut count) = (Vec::new(), 0);
    for (file, text) in pages() {
        for line in console_lines(&text) {
            let words = shlex_words(&line);
            let Some(all) = words.first().and_then(|name| known.get(name)) else {
                wrong.push(format!("{}: {line}", file.display()));
                continue;
            };
            count += 1;
            // What stands behind --with is for another command.
            let own = words.iter().zip(std::iter::once("").chain(words.iter().map(String::as_str)));
            let own = own.filter(|(_, before)| *before != "--with").map(|(word, _)| word);
            for word in own.filter(|word| word.starts_with("--") && word.len() > 2) {
                let option = word.split('=').next().unwrap_or(word).to_string();
                if !all.contains(&option) {
                    wrong.push(format!("{}: {line}: {option}", file.display()));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(count > 60, "{count} examples");
}

/// Every finding that the sources know is explained, and no other.
#[test]
fn every_finding_is_explained() {
    let text = fs::read_to_string(docs().join("findings.md")).expect("a page");
    let explained: BTreeSet<&str> =
        text.lines().filter_map(|line| line.strip_prefix("## ")).collect();
    let mut known = BTreeSet::new();
    for crate_name in ["core", "cli", "study", "survey", "view", "media"] {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../{crate_name}/src"));
        for (path, text) in crate::house::sources(&folder) {
            let text = text.split("\nmod tests").next().unwrap_or_default().to_string();
            // A finding is made in one of three ways, a diagnosis in one.
            for sign in ["Finding::note(", "Finding::warning(", "Finding::serious("] {
                for rest in text.split(sign).skip(1) {
                    known.extend(first_string(rest));
                }
            }
            if path.ends_with("unison/diagnosis.rs") {
                for rest in text.split("say(").skip(1) {
                    known.extend(first_string(rest));
                }
            }
            if path.ends_with("isolation/mod.rs") {
                for rest in text.split("fraction, \"").skip(1) {
                    known.extend(rest.split('"').next().map(String::from));
                }
            }
        }
    }
    let known: BTreeSet<&str> = known.iter().map(String::as_str).collect();
    assert!(known.len() > 90, "{known:?}");
    assert_eq!(
        known.difference(&explained).collect::<Vec<_>>(),
        Vec::<&&str>::new(),
        "not explained"
    );
    assert_eq!(
        explained.difference(&known).collect::<Vec<_>>(),
        Vec::<&&str>::new(),
        "found by nothing"
    );
}

/// The text in quotes that a call begins with, if it does.
fn first_string(rest: &str) -> Option<String> {
    let rest = rest.trim_start().strip_prefix('"')?;
    Some(rest.split('"').next()?.to_string())
}

#[test]
fn topics_and_findings_are_explained() {
    let bench = Bench::new();
    let overview = bench.run("help").out;
    let topics = overview.lines().skip_while(|line| !line.starts_with("Topics")).skip(1);
    let topics: Vec<&str> = topics.filter_map(|line| line.split_whitespace().next()).collect();
    assert!(topics.len() > 8, "{overview}");
    for topic in topics {
        let run = bench.run(&format!("help {topic}"));
        assert_eq!(run.status, 0, "{}", run.err);
        assert!(run.out.lines().count() > 5, "{topic}: {}", run.out);
    }
    assert!(bench.run("help clipped").out.contains("Record again at a lower gain"));
    assert!(bench.run("help unison").out.contains("--against"));
    assert!(bench.run("help study add").out.contains("--pattern"));
    let run = bench.run("help cliped");
    assert_eq!(run.status, 2);
    assert!(run.err.contains("did you mean 'clipped'?"), "{}", run.err);
}

/// Completions name every command and its options; a shell that is there reads them.
#[test]
fn completions_and_man_pages_are_those_of_the_program() {
    let bench = Bench::new();
    for shell in ["bash", "zsh", "fish", "powershell"] {
        let run = bench.run(&format!("completions {shell}"));
        assert_eq!(run.status, 0, "{}", run.err);
        for word in ["unison", "against", "isolation", "receiver"] {
            assert!(run.out.contains(word), "{shell}: {word}");
        }
        bench.write(&format!("completions.{shell}"), run.out.as_bytes());
    }
    assert_eq!(bench.run("completions tcsh").status, 2);
    let completed = "source ./completions.bash; COMP_WORDS=(tonemap uni); COMP_CWORD=1; \
                     _tonemap tonemap uni tonemap; echo ${COMPREPLY[@]}";
    let bash = std::process::Command::new("bash")
        .current_dir(bench.folder())
        .args(["-c", completed])
        .output();
    if let Ok(done) = bash {
        let said = String::from_utf8_lossy(&done.stdout).trim().to_string();
        assert_eq!(said, "unison", "{}", String::from_utf8_lossy(&done.stderr));
    }
    assert_eq!(bench.run("man pages").status, 0);
    for name in commands(&bench).into_iter().filter(|name| name != "help") {
        let page =
            fs::read_to_string(bench.path(&format!("pages/tonemap-{name}.1"))).expect("a page");
        assert!(page.contains(".TH") && page.contains(".SH NAME"), "{name}");
    }
    assert!(
        bench.path("pages/tonemap.1").is_file()
            && bench.path("pages/tonemap-study-add.1").is_file()
    );
    assert_eq!(bench.run("man pages").status, 1, "not written over");
    assert_eq!(bench.run("man pages --force").status, 0);
}
