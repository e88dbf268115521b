//! The order of the house, as its sources have it: imports without circles, no formula outside
//! core, no option of the command line within it.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// All sources below a folder, without their tests: path and text.
pub(crate) fn sources(folder: &Path) -> Vec<(PathBuf, String)> {
    let mut found = Vec::new();
    let entries = fs::read_dir(folder).expect("a folder of sources");
    let mut paths: Vec<PathBuf> = entries.map(|entry| entry.expect("an entry").path()).collect();
    paths.sort();
    for path in paths {
        if path.is_dir() {
            found.extend(sources(&path));
        } else if path.extension().is_some_and(|ending| ending == "rs") {
            let text = fs::read_to_string(&path).expect("text");
            let code = text.split("#[cfg(test)]").next().unwrap_or_default().to_string();
            found.push((path, code));
        }
    }
    found
}

/// The modules right under a crate, each with those that it uses.
fn imports(crate_name: &str) -> BTreeMap<String, BTreeSet<String>> {
    let root = crates().join(crate_name).join("src");
    let mut graph: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for (path, text) in sources(&root) {
        let inner = path.strip_prefix(&root).expect("inside");
        let first = inner.components().next().expect("a name").as_os_str().to_string_lossy();
        let module = first.trim_end_matches(".rs").to_string();
        let used = graph.entry(module.clone()).or_default();
        for (at, _) in text.match_indices("crate::") {
            let rest = &text[at + 7..];
            let names = match rest.strip_prefix('{') {
                Some(list) => list.split('}').next().unwrap_or_default().split(',').collect(),
                None => vec![rest],
            };
            for name in names {
                let is_name = |c: char| c.is_alphanumeric() || c == '_';
                let name: String = name.trim().chars().take_while(|c| is_name(*c)).collect();
                if name != module {
                    used.insert(name);
                }
            }
        }
    }
    graph.remove("lib");
    graph.remove("main");
    graph
}

/// A circle from a module back to itself, if there is one.
fn circle(
    graph: &BTreeMap<String, BTreeSet<String>>,
    path: &mut Vec<String>,
    done: &mut BTreeSet<String>,
) -> bool {
    let here = path.last().cloned().unwrap_or_default();
    for next in graph.get(&here).into_iter().flatten().filter(|next| graph.contains_key(*next)) {
        let closes = path.contains(next);
        path.push(next.clone());
        if closes || (!done.contains(next) && circle(graph, path, done)) {
            return true;
        }
        path.pop();
    }
    done.insert(here);
    false
}

#[test]
fn imports_run_in_no_circle() {
    for name in ["core", "media", "figures", "study", "survey", "view", "cli"] {
        let graph = imports(name);
        assert!(graph.len() > 2, "{name}: {graph:?}");
        let mut done = BTreeSet::new();
        for module in graph.keys() {
            let mut path = vec![module.clone()];
            assert!(!circle(&graph, &mut path, &mut done), "{name}: {}", path.join(" → "));
        }
    }
    // What would be found.
    let ring = |pairs: &[(&str, &str)]| {
        let mut graph: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for (from, to) in pairs {
            graph.entry((*from).into()).or_default().insert((*to).into());
        }
        circle(&graph, &mut vec!["a".into()], &mut BTreeSet::new())
    };
    assert!(ring(&[("a", "b"), ("b", "c"), ("c", "a")]) && !ring(&[("a", "b"), ("b", "c")]));
}

#[test]
fn commands_use_no_other_command() {
    let folder = crates().join("cli/src/commands");
    let name_of = |path: &Path| {
        let inner = path.strip_prefix(&folder).expect("inside");
        let first = inner.components().next().expect("a name").as_os_str().to_string_lossy();
        first.trim_end_matches(".rs").to_string()
    };
    let all = sources(&folder);
    let names: BTreeSet<String> = all.iter().map(|(path, _)| name_of(path)).collect();
    assert!(names.len() > 10, "{names:?}");
    for (path, text) in &all {
        let own = name_of(path);
        for other in names.iter().filter(|other| **other != own && own != "mod") {
            for used in [format!("super::{other}::"), format!("commands::{other}::")] {
                assert!(!text.contains(&used), "{} uses {other}", path.display());
            }
        }
    }
}

/// Lines of code, without comments, in which one of these stands.
fn lines_with(folder: &str, signs: &[&str]) -> Vec<String> {
    let mut found = Vec::new();
    for (path, text) in sources(&crates().join(folder)) {
        let name = path.file_name().expect("a name").to_string_lossy().into_owned();
        for line in text.lines().filter(|line| !line.trim_start().starts_with("//")) {
            if signs.iter().any(|sign| line.contains(sign)) {
                found.push(format!("{name}: {}", line.trim()));
            }
        }
    }
    found
}

#[test]
fn nothing_is_computed_outside_core() {
    // Digits of numbers, scales of axes and colours are matters of looks.
    let looks = [
        "text.rs: let magnitude",
        "pitch.rs: let reach",
        "pitch.rs: let middle",
        "timbre.rs: let least",
        "timbre.rs: let middle",
        "charts.rs: let digits",
        "charts.rs: let scale",
        "preview.rs: let x",
        "charts.rs: upwards:",
        "colours.rs:",
        "panel.rs:",
        "ticks.rs:",
    ];
    let signs = [
        ".log10()", ".log2()", ".ln()", ".exp2()", ".exp()", ".powf(", ".powi(", ".sqrt()",
        ".sin()", ".cos()",
    ];
    let found: Vec<String> = ["cli/src", "figures/src", "view/src"]
        .iter()
        .flat_map(|folder| lines_with(folder, &signs))
        .filter(|line| !looks.iter().any(|look| line.starts_with(look)))
        .collect();
    assert!(found.is_empty(), "formulas belong into core:\n{}", found.join("\n"));
}

#[test]
fn core_knows_no_options() {
    let found: Vec<String> = lines_with("core/src", &["--"])
        .into_iter()
        .filter(|line| {
            let mut after = line.match_indices("--").map(|(at, _)| &line[at + 2..]);
            after.any(|rest| rest.starts_with(|c: char| c.is_ascii_lowercase()))
        })
        .collect();
    assert!(found.is_empty(), "options belong into cli::advice:\n{}", found.join("\n"));
}
