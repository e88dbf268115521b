//! Surveys: many takes into one database, resumed, joined, exported and asked.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use rusqlite::Connection;
use rusqlite::types::Value;
use tonemap_core::synth::{PluckedString, mix, to_samples, white_noise};
use tonemap_media::WavEncoding;

use crate::bench::{Bench, codes};
use crate::kept::program;

/// A string plucked after 0.1 s in noise, of a frequency in Hz; no two seeds are the same sound.
fn note(seed: u64, frequency_hz: f64, lasts_s: f64) -> Vec<f32> {
    let mut sound = white_noise(seed, 1e-4, (48_000.0 * lasts_s) as usize);
    let string = PluckedString { frequency_hz, partials: 12, ..PluckedString::default() };
    mix(&mut sound[4800..], &string.render(48_000.0, lasts_s - 0.1));
    to_samples(&sound)
}

/// A folder of so many takes, in two groups.
fn takes(bench: &Bench, count: u64) {
    takes_of(bench, count, 0.7);
}

/// The same that last so long.
fn takes_of(bench: &Bench, count: u64, lasts_s: f64) {
    for group in ["harp", "bell"] {
        std::fs::create_dir_all(bench.path(&format!("hall/{group}"))).expect("made");
    }
    for n in 0..count {
        let (group, hz) = if n % 2 == 0 { ("harp", 220.0) } else { ("bell", 392.0) };
        let name = format!("hall/{group}/take-{n:03}.wav");
        let sound = note(n, hz + 0.01 * n as f64, lasts_s);
        bench.take(&name, 48_000, WavEncoding::Integer(24), &[sound]);
    }
}

fn open(file: &Path) -> Connection {
    Connection::open(file).expect("a database")
}

fn one<T: rusqlite::types::FromSql>(file: &Path, sql: &str) -> T {
    open(file).query_row(sql, [], |row| row.get(0)).unwrap_or_else(|error| panic!("{sql}: {error}"))
}

/// Every value of every table, by take, table, item and column: two surveys that hold the same are
/// equal, in whatever order it came.
fn content(file: &Path) -> BTreeMap<String, String> {
    let database = open(file);
    let mut all = BTreeMap::new();
    let mut tables = database
        .prepare("SELECT name FROM sqlite_schema WHERE type = 'table' AND name <> 'runs'")
        .expect("tables");
    let tables: Vec<String> = tables
        .query_map([], |row| row.get(0))
        .expect("names")
        .collect::<Result<_, _>>()
        .expect("names");
    for table in tables.iter().filter(|name| !name.starts_with("sqlite_")) {
        let mut rows = database.prepare(&format!("SELECT * FROM \"{table}\"")).expect("rows");
        let names: Vec<String> = rows.column_names().map(String::from).collect();
        let mut rows = rows.query([]).expect("rows");
        while let Some(row) = rows.next().expect("a row") {
            let value = |n: usize| row.get::<_, Value>(n).expect("a value");
            let is_place = |name: &str| {
                name == "take_id"
                    || name == "id"
                    || name.ends_with("number")
                    || name == "command"
                    || name == "center_hz"
                    || name == "hash"
                    || name.ends_with("_name")
                    || name == "name" && table == "conditions"
            };
            let place: Vec<String> = (0..names.len())
                .filter(|n| is_place(&names[*n]))
                .map(|n| format!("{:?}", value(n)))
                .collect();
            for (n, name) in names.iter().enumerate() {
                let key = format!("{table} {} {name}", place.join(" "));
                let said = format!("{:?}", value(n));
                if said != "Null" {
                    assert_eq!(all.insert(key.clone(), said), None, "{key}");
                }
            }
        }
    }
    all
}

const SURVEY: &str = "survey hall --measure pitch,inspect --into all.sqlite";

#[test]
fn every_take_has_a_row_with_its_numbers_units_and_findings() {
    let bench = Bench::new();
    takes(&bench, 6);
    bench.write("hall/notes.txt", b"no take");
    bench.write("hall/empty.wav", b"");
    bench.take("hall/loud.wav", 48_000, WavEncoding::Integer(16), &[vec![1.0; 48_000]]);
    let run = bench.run_words(&[
        "survey",
        "hall",
        "--measure",
        "pitch, timbre --from 0.05, inspect",
        "--names",
        "{group}/take-{take}.wav",
        "--into",
        "all.sqlite",
    ]);
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.starts_with("all.sqlite: 8 takes, "), "{}", run.out);
    let file = bench.path("all.sqlite");
    assert_eq!(one::<i64>(&file, "SELECT count(*) FROM takes"), 8);
    let reason: String = one(&file, "SELECT reason FROM takes WHERE path = 'hall/empty.wav'");
    assert!(!reason.is_empty() && !reason.contains("hall"), "{reason}");
    // The same number as the command's own, with its uncertainty.
    let of_command = bench.json("pitch hall/harp/take-002.wav --format json");
    let of_survey = |column: &str| -> f64 {
        one(
            &file,
            &format!(
                "SELECT {column} FROM pitch JOIN takes ON take_id = id \
                 WHERE path = 'hall/harp/take-002.wav'"
            ),
        )
    };
    for (key, column) in [("f0_hz", "notes_1_f0_hz"), ("f0_hz_u", "notes_1_f0_hz_u")] {
        assert_eq!(
            of_command["result"]["notes"][0][key].as_f64(),
            Some(of_survey(column)),
            "{key}"
        );
    }
    let long: f64 = one(
        &file,
        "SELECT f0_hz FROM pitch_notes JOIN takes ON take_id = id \
         WHERE path = 'hall/harp/take-002.wav' AND number = 1",
    );
    assert_eq!(long, of_survey("notes_1_f0_hz"));
    assert_eq!(
        one::<String>(&file, "SELECT unit FROM columns WHERE column_name = 'notes_1_f0_hz'"),
        "Hz"
    );
    let loud: i64 = one(
        &file,
        "SELECT count(*) FROM findings JOIN takes ON take_id = id \
         WHERE path = 'hall/loud.wav' AND command = 'inspect' AND severity <> 'note'",
    );
    assert!(loud > 0);
    assert_eq!(one::<i64>(&file, "SELECT count(*) FROM conditions WHERE value = 'harp'"), 3);
    assert_eq!(one::<String>(&file, "PRAGMA journal_mode"), "wal");
    let settings: String = one(&file, "SELECT json FROM settings WHERE command = 'pitch' LIMIT 1");
    assert!(settings.starts_with('{'), "{settings}");
    assert_eq!(bench.files(), ["all.sqlite", "hall"]);
}

#[test]
fn what_has_not_changed_is_not_measured_again() {
    let bench = Bench::new();
    takes(&bench, 8);
    let file = bench.path("all.sqlite");
    assert_eq!(bench.run(SURVEY).status, 0);
    let first = content(&file);
    let again = bench.run(SURVEY);
    assert!(again.err.contains("nothing was to be measured"), "{}", again.err);
    assert_eq!(content(&file), first);
    // Touched, but the same; changed; new; gone.
    let same = std::fs::read(bench.path("hall/harp/take-000.wav")).expect("read");
    std::thread::sleep(Duration::from_millis(20));
    bench.write("hall/harp/take-000.wav", &same);
    let sound = note(99, 330.0, 0.7);
    bench.take("hall/harp/take-002.wav", 48_000, WavEncoding::Integer(24), &[sound]);
    bench.take("hall/new.wav", 48_000, WavEncoding::Integer(24), &[note(98, 262.0, 0.7)]);
    std::fs::remove_file(bench.path("hall/bell/take-001.wav")).expect("removed");
    let third = bench.run(SURVEY);
    assert!(third.err.contains("measured 3 takes in "), "{}", third.err);
    assert!(third.err.contains("one take of the survey is no longer there"), "{}", third.err);
    let f0_hz = |path: &str| -> f64 {
        let sql = format!(
            "SELECT notes_1_f0_hz FROM pitch JOIN takes ON id = take_id WHERE path = '{path}'"
        );
        one(&file, &sql)
    };
    assert!((f0_hz("hall/harp/take-002.wav") - 330.0).abs() < 1.0);
    assert!((f0_hz("hall/new.wav") - 262.0).abs() < 1.0);
    assert_eq!(bench.run(&format!("{SURVEY} --drop-gone")).status, 0);
    assert_eq!(one::<i64>(&file, "SELECT count(*) FROM takes WHERE path LIKE '%bell%'"), 3);
    assert_eq!(one::<i64>(&file, "SELECT count(*) FROM pitch"), 8);
    // Other options are another run in the same file.
    let other = bench.run("survey hall --measure pitch --into all.sqlite");
    assert!(other.err.contains("measured 8 takes in "), "{}", other.err);
    assert_eq!(one::<i64>(&file, "SELECT count(*) FROM runs"), 2);
}

#[test]
fn a_run_that_is_killed_goes_on_where_it_was() {
    kill_runs(12);
}

#[test]
#[ignore = "takes minutes"]
fn two_hundred_kills_lose_nothing() {
    kill_runs(200);
}

/// Kills runs at instants all over their time; each is gone on with by the next, and what is there
/// in the end is what a run gives that nobody killed.
fn kill_runs(kills: u64) {
    let bench = Bench::new();
    takes(&bench, 40);
    assert_eq!(bench.run("survey hall --measure pitch,inspect --into whole.sqlite").status, 0);
    let whole = content(&bench.path("whole.sqlite"));
    let file = bench.path("all.sqlite");
    let (mut killed, mut begun) = (0, 0);
    while killed < kills {
        let mut words: Vec<&str> = SURVEY.split_whitespace().collect();
        words.push("--jobs=1");
        let mut run = program(bench.folder()).args(&words).spawn().expect("runs");
        std::thread::sleep(Duration::from_millis(5 + (begun * 37) % 400));
        begun += 1;
        if run.try_wait().expect("asked").is_some() {
            // All is measured: from the beginning again.
            assert_eq!(content(&file), whole);
            std::fs::remove_file(&file).expect("removed");
            continue;
        }
        run.kill().expect("killed");
        run.wait().expect("ended");
        killed += 1;
        if file.exists() && std::fs::metadata(&file).expect("there").len() > 0 {
            assert_eq!(one::<String>(&file, "PRAGMA integrity_check"), "ok");
        }
    }
    println!("{killed} kills of {begun} runs");
    let last = bench.run(SURVEY);
    assert_eq!(last.status, 0, "{}", last.err);
    assert_eq!(content(&file), whole);
}

#[test]
fn parts_that_are_joined_are_the_whole() {
    let bench = Bench::new();
    takes(&bench, 20);
    assert_eq!(bench.run("survey hall --measure pitch --into whole.sqlite").status, 0);
    for part in 1..=3 {
        let words =
            format!("survey hall --measure pitch --part {part}/3 --into part-{part}.sqlite");
        assert_eq!(bench.run(&words).status, 0);
    }
    let join = "survey join part-3.sqlite part-1.sqlite part-2.sqlite --into all.sqlite";
    for _ in 0..2 {
        let joined = bench.run(join);
        assert_eq!(joined.status, 0, "{}", joined.err);
        assert_eq!(joined.out, "all.sqlite: 20 takes of 3 parts\n");
        assert_eq!(content(&bench.path("all.sqlite")), content(&bench.path("whole.sqlite")));
    }
    let twice = bench.run("survey join part-1.sqlite part-1.sqlite part-2.sqlite --into b.sqlite");
    assert_eq!(twice.status, 1);
    assert!(twice.err.contains("a part is missing: 3 of 3"), "{}", twice.err);
    let some = bench.run("survey join part-1.sqlite part-2.sqlite --incomplete --into b.sqlite");
    assert_eq!(some.status, 0, "{}", some.err);
    // A part is not mixed with another, nor with a whole.
    let other = bench.run("survey hall --measure pitch --part 2/3 --into part-1.sqlite");
    assert_eq!(other.status, 1);
    assert!(other.err.contains("part 1/3"), "{}", other.err);
    let whole = bench.run("survey join part-1.sqlite whole.sqlite --into c.sqlite");
    assert!(whole.status == 1 && !bench.path("c.sqlite").exists(), "{}", whole.err);
    // What was joined can be gone on with.
    let more = bench.run("survey hall --measure pitch --into all.sqlite");
    assert!(more.err.contains("nothing was to be measured"), "{}", more.err);
}

#[test]
fn tables_are_exported_with_their_units() {
    let bench = Bench::new();
    takes(&bench, 6);
    assert_eq!(bench.run(SURVEY).status, 0);
    let run = bench.run("survey export all.sqlite --csv c --json j");
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.contains("j/pitch.jsonl: 6 rows"), "{}", run.out);
    let csv = std::fs::read_to_string(bench.path("c/pitch.csv")).expect("read");
    let head: Vec<&str> = csv.lines().next().expect("a head").split(',').collect();
    let f0 = head.iter().position(|name| *name == "notes_1_f0_hz").expect("a column");
    assert_eq!(head[f0 + 1], "notes_1_f0_hz_u");
    let lines = std::fs::read_to_string(bench.path("j/pitch.jsonl")).expect("read");
    for (csv, json) in csv.lines().skip(1).zip(lines.lines()) {
        let row: serde_json::Value = serde_json::from_str(json).expect("an object");
        let cell: f64 = csv.split(',').nth(f0).expect("a cell").parse().expect("a number");
        assert_eq!(row["notes_1_f0_hz"].as_f64(), Some(cell));
    }
    let again = bench.run("survey export all.sqlite --csv c");
    assert!(again.status == 1 && again.err.contains("exists already"), "{}", again.err);
}

/// What this build leaves out it says before anything is written.
#[cfg(not(feature = "parquet"))]
#[test]
fn parquet_is_left_out_with_a_word() {
    let bench = Bench::new();
    takes(&bench, 1);
    assert_eq!(bench.run(SURVEY).status, 0);
    let run = bench.run("survey export all.sqlite --csv c --parquet p");
    assert!(run.status == 1 && run.err.contains("--features parquet"), "{}", run.err);
    assert!(!bench.path("c").exists() && !bench.path("p").exists());
}

#[cfg(feature = "parquet")]
#[test]
fn parquet_is_read_elsewhere() {
    let bench = Bench::new();
    takes(&bench, 6);
    assert_eq!(bench.run(SURVEY).status, 0);
    let run = bench.run("survey export all.sqlite --parquet p");
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.contains("p/pitch.parquet: 6 rows"), "{}", run.out);
    let bytes = std::fs::read(bench.path("p/pitch.parquet")).expect("read");
    assert!(bytes.starts_with(b"PAR1") && bytes.ends_with(b"PAR1"));
    let text = String::from_utf8_lossy(&bytes);
    assert!(text.contains(r#""key":"notes[1].f0_hz","words":"note 1, fundamental","unit":"Hz""#));
    read_elsewhere(&bench);
}

/// Reads the Parquet files with the readers that people use, where they are installed.
#[cfg(feature = "parquet")]
fn read_elsewhere(bench: &Bench) {
    const READS: &str = "
import sys, sqlite3
want = sqlite3.connect('all.sqlite').execute(
    'SELECT take_id, notes_1_f0_hz FROM pitch ORDER BY take_id').fetchall()
def pandas():
    import pandas
    t = pandas.read_parquet('p/pitch.parquet')
    return list(zip(t.take_id, t.notes_1_f0_hz))
def polars():
    import polars
    return polars.read_parquet('p/pitch.parquet').select('take_id', 'notes_1_f0_hz').rows()
def duckdb():
    import duckdb
    return duckdb.sql(\"SELECT take_id, notes_1_f0_hz FROM 'p/pitch.parquet' ORDER BY 1\").fetchall()
for read in (pandas, polars, duckdb):
    try:
        got = [(int(a), float(b)) for a, b in read()]
    except ImportError as missing:
        print('not read with', read.__name__, ':', missing)
        continue
    assert got == want, (read.__name__, got, want)
    print('read with', read.__name__)
";
    let python = Command::new("python3").args(["-c", READS]).current_dir(bench.folder()).output();
    match python {
        Err(_) => println!("not read elsewhere: there is no python3"),
        Ok(done) => {
            let said = String::from_utf8_lossy(&done.stdout).into_owned();
            let wrong = String::from_utf8_lossy(&done.stderr).into_owned();
            // Without its own module for databases nothing can be compared.
            assert!(done.status.success() || wrong.contains("ModuleNotFoundError"), "{wrong}");
            println!("{said}");
        }
    }
}

#[test]
fn what_stands_out_is_said_with_why_and_copies_are_found() {
    let bench = Bench::new();
    takes_of(&bench, 24, 1.5);
    // One bell that is out of tune, within the range of all; a copy, and one turned down.
    bench.take("hall/bell/astray.wav", 48_000, WavEncoding::Integer(24), &[note(77, 301.0, 1.5)]);
    let copied = std::fs::read(bench.path("hall/harp/take-004.wav")).expect("read");
    bench.write("hall/copy.wav", &copied);
    let quieter: Vec<f32> = note(6, 220.06, 1.5).iter().map(|x| 0.4 * x).collect();
    bench.take("hall/harp/quieter.wav", 48_000, WavEncoding::Integer(24), &[quieter]);
    assert_eq!(bench.run(SURVEY).status, 0);
    let shown = bench.json("survey show all.sqlite --by folder --format json");
    // The copy is alone in its folder.
    let few = "One take is in groups of fewer than 8: that is too few";
    assert!(shown["findings"].to_string().contains(few), "{}", shown["findings"]);
    assert!(codes(&bench.json("survey show all.sqlite --format json")).is_empty());
    let unusual = shown["result"]["unusual"].as_array().expect("a list");
    let of_pitch = |one: &serde_json::Value| {
        one["why"].as_array().into_iter().flatten().any(|why| why["key"] == "pitch.notes[1].f0_hz")
    };
    let astray: Vec<&str> =
        unusual.iter().filter(|one| of_pitch(one)).filter_map(|one| one["path"].as_str()).collect();
    assert_eq!(astray, ["hall/bell/astray.wav"], "{unusual:?}");
    let copies = &shown["result"]["copies"];
    assert_eq!(copies.to_string(), r#"[["hall/copy.wav","hall/harp/take-004.wav"]]"#);
    let near = &shown["result"]["near_copies"];
    assert_eq!(near.as_array().map(Vec::len), Some(1), "{near}");
    assert_eq!(near[0][0]["path"], "hall/harp/quieter.wav");
    assert_eq!(near[0][1]["path"], "hall/harp/take-006.wav");
    let text = bench.run("survey show all.sqlite --by folder --figure all.svg");
    assert_eq!(text.status, 0, "{}", text.err);
    assert!(text.out.contains("hall/bell/astray.wav\n") && text.out.contains("spreads off"));
    let drawn = std::fs::read_to_string(bench.path("all.svg")).expect("drawn");
    let document = roxmltree::Document::parse(&drawn).expect("well-formed");
    let words: Vec<&str> = document.descendants().filter_map(|node| node.text()).collect();
    for name in ["astray.wav", "bell", "harp"] {
        assert!(words.iter().any(|word| word.trim() == name), "{name}: {words:?}");
    }
    // The same on a page, from its saved result.
    let save = "survey show all.sqlite --by folder --format json --output shown.json --quiet";
    assert_eq!(bench.run(save).status, 0);
    assert_eq!(bench.run("report shown.json --output page.html").status, 0);
    let page = std::fs::read_to_string(bench.path("page.html")).expect("a page");
    assert!(page.contains("hall/bell/astray.wav") && page.contains("Takes that stand out"));
    let few = bench.run_words(&[
        "survey",
        "show",
        "all.sqlite",
        "--where",
        "pitch.notes_1_f0_hz BETWEEN 300 AND 302",
    ]);
    assert!(few.out.contains("one take is looked at\n"), "{}", few.out);
    for wrong in ["pitch.f1 > 3", "1); DROP TABLE takes; --", "(", "id = id; SELECT 1"] {
        let run = bench.run_words(&["survey", "show", "all.sqlite", "--where", wrong]);
        assert!(run.status == 2 && run.err.contains("cannot be asked"), "{wrong}: {}", run.err);
    }
    assert_eq!(one::<i64>(&bench.path("all.sqlite"), "SELECT count(*) FROM takes"), 27);
}

#[test]
fn what_cannot_be_is_said_in_one_sentence() {
    let bench = Bench::new();
    takes(&bench, 2);
    bench.write("text.sqlite", b"this is no database, but it is long enough to look like one, or");
    open(&bench.path("other.sqlite")).execute_batch("CREATE TABLE t (x)").expect("made");
    let later = bench.path("later.sqlite");
    assert_eq!(bench.run("survey hall --measure pitch --into later.sqlite").status, 0);
    open(&later).pragma_update(None, "user_version", 99).expect("set");
    for (words, status, said) in [
        ("survey none --measure pitch --into a.sqlite", 1, "no such file or folder"),
        ("survey hall --measure pich --into a.sqlite", 2, "did you mean 'pitch'"),
        ("survey hall --measure pitch --into text.sqlite", 1, "no survey"),
        ("survey hall --measure pitch --into other.sqlite", 1, "no survey"),
        ("survey hall --measure pitch --into later.sqlite", 1, "form 99"),
        ("survey hall --measure pitch --part 4/3 --into a.sqlite", 2, "4/3"),
        ("survey hall --measure pitch --only [ --into a.sqlite", 2, "no pattern"),
        ("survey show none.sqlite", 1, "no such survey"),
        ("survey show text.sqlite", 1, "no survey"),
        ("survey export later.sqlite --csv x", 1, "form 99"),
        ("survey hall --measure pitch --into none/a.sqlite", 1, "none/a.sqlite"),
    ] {
        let run = bench.run(words);
        assert_eq!(run.status, status, "{words}: {}", run.err);
        assert!(run.err.contains(said), "{words}: {}", run.err);
        assert!(status == 2 || run.err.lines().count() == 1, "{words}: {}", run.err);
    }
    assert!(!bench.path("a.sqlite").exists(), "nothing is left of what could not be");
    assert!(!bench.files().iter().any(|name| name.contains(".lock")), "{:?}", bench.files());
}

#[test]
fn a_list_on_standard_input_is_followed() {
    let bench = Bench::new();
    takes(&bench, 4);
    let list = "hall/harp/take-000.wav\nhall/none.wav\n./hall/bell/take-001.wav\n";
    let run = bench.run_with_input("survey - --measure pitch --into a.sqlite", list.as_bytes());
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.err.contains("hall/none.wav"), "{}", run.err);
    let paths: String = one(&bench.path("a.sqlite"), "SELECT group_concat(path, ' ') FROM takes");
    assert_eq!(paths, "hall/bell/take-001.wav hall/harp/take-000.wav");
}

#[cfg(unix)]
#[test]
fn odd_names_and_takes_that_change_are_no_trouble() {
    use std::os::unix::ffi::OsStrExt;
    let bench = Bench::new();
    takes(&bench, 2);
    let odd = bench.folder().join(std::ffi::OsStr::from_bytes(b"hall/\xff\xfe it's \"odd\".wav"));
    std::fs::copy(bench.path("hall/harp/take-000.wav"), &odd).expect("copied");
    std::os::unix::fs::symlink(bench.path("hall"), bench.path("hall/round")).expect("linked");
    let run = bench.run(SURVEY);
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.err.contains("leads back"), "{}", run.err);
    let file = bench.path("all.sqlite");
    let path: String = one(&file, "SELECT path FROM takes WHERE path LIKE 'file:%'");
    assert_eq!(path, "file:hall/%FF%FE%20it%27s%20%22odd%22.wav");
    assert_eq!(one::<i64>(&file, "SELECT count(*) FROM pitch"), 3);
    // A take that grows all the time is left for the next run, with the reason.
    let grows = bench.path("hall/grows.wav");
    std::fs::copy(bench.path("hall/harp/take-000.wav"), &grows).expect("copied");
    let is_over = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            use std::io::Write;
            let file = std::fs::OpenOptions::new().append(true).open(&grows);
            let mut file = file.expect("opened");
            while !is_over.load(std::sync::atomic::Ordering::SeqCst) {
                file.write_all(&[0; 30]).expect("written");
                std::thread::sleep(Duration::from_millis(1));
            }
        });
        let run = bench.run(SURVEY);
        is_over.store(true, std::sync::atomic::Ordering::SeqCst);
        assert_eq!(run.status, 0, "{}", run.err);
    });
    let reason: String = one(&file, "SELECT reason FROM takes WHERE path = 'hall/grows.wav'");
    assert!(reason.contains("changed while it was read"), "{reason}");
    assert_eq!(bench.run(SURVEY).status, 0);
    let settled = "SELECT count(*) FROM takes WHERE reason IS NULL AND path = 'hall/grows.wav'";
    assert_eq!(one::<i64>(&file, settled), 1);
}

#[test]
fn two_runs_on_one_survey_wait_for_each_other() {
    let bench = Bench::new();
    takes(&bench, 12);
    let words: Vec<&str> = SURVEY.split_whitespace().collect();
    let runs: Vec<_> = (0..3)
        .map(|_| {
            let mut run = program(bench.folder());
            run.args(&words).stderr(Stdio::piped()).spawn().expect("runs")
        })
        .collect();
    let said: Vec<String> = runs
        .into_iter()
        .map(|run| String::from_utf8(run.wait_with_output().expect("ends").stderr).expect("text"))
        .collect();
    let measured = said.iter().filter(|err| err.contains("measured 12 takes")).count();
    let nothing = said.iter().filter(|err| err.contains("nothing was to be")).count();
    assert_eq!((measured, nothing), (1, 2), "{said:?}");
    assert_eq!(one::<i64>(&bench.path("all.sqlite"), "SELECT count(*) FROM takes"), 12);
}

#[test]
fn a_run_ends_when_it_was_to_and_the_next_goes_on() {
    let bench = Bench::new();
    takes(&bench, 60);
    let first = bench.run(&format!("{SURVEY} --jobs 1 --stop-after 0.3s"));
    assert_eq!(first.status, 0, "{}", first.err);
    assert!(first.out.contains("left for the next run"), "{}", first.out);
    let waiting = "SELECT count(*) FROM takes WHERE reason = 'not measured yet'";
    assert!(one::<i64>(&bench.path("all.sqlite"), waiting) > 0);
    assert_eq!(bench.run(SURVEY).status, 0);
    assert_eq!(one::<i64>(&bench.path("all.sqlite"), waiting), 0);
}

#[test]
fn a_folder_of_a_hundred_thousand_files_is_listed_at_once() {
    let bench = Bench::new();
    std::fs::create_dir(bench.path("hall")).expect("made");
    for n in 0..100_000 {
        std::fs::File::create(bench.path(&format!("hall/{n}.wav"))).expect("created");
    }
    let run = bench.run(&format!("{SURVEY} --stop-after 0.1s"));
    assert_eq!(run.status, 0, "{}", run.err);
    assert!(run.out.starts_with("all.sqlite: 100 000 takes, "), "{}", run.out);
    let first: String = one(&bench.path("all.sqlite"), "SELECT path FROM takes WHERE id = 2");
    assert_eq!(first, "hall/1.wav");
}

/// On a disk of its own, which only the administrator can make.
#[cfg(target_os = "linux")]
#[test]
fn a_full_disk_ends_the_run_and_loses_nothing() {
    let bench = Bench::new();
    takes(&bench, 60);
    let small = bench.path("small");
    std::fs::create_dir(&small).expect("made");
    let mount = |words: &[&str]| {
        let done = Command::new(words[0]).args(&words[1..]).arg(&small).status();
        done.is_ok_and(|status| status.success())
    };
    if !mount(&["mount", "-t", "tmpfs", "-o", "size=240k", "tmpfs"]) {
        println!("no disk could be made; not tried");
        return;
    }
    let run = bench.run("survey hall --measure pitch,inspect --into small/all.sqlite");
    let kept = bench.path("kept.sqlite");
    let copied = std::fs::copy(small.join("all.sqlite"), &kept);
    let log = std::fs::copy(small.join("all.sqlite-wal"), bench.path("kept.sqlite-wal"));
    assert!(mount(&["umount"]), "unmounted");
    assert_eq!(run.status, 1, "{}", run.err);
    assert!(run.err.contains("the disk is full"), "{}", run.err);
    assert_eq!(run.err.lines().count(), 1, "{}", run.err);
    copied.expect("it is there");
    println!("the log was there: {}", log.is_ok());
    assert_eq!(one::<String>(&kept, "PRAGMA integrity_check"), "ok");
    // With room it goes on.
    let more = bench.run("survey hall --measure pitch,inspect --into kept.sqlite");
    assert_eq!(more.status, 0, "{}", more.err);
    assert_eq!(bench.run(SURVEY).status, 0);
    assert_eq!(content(&kept), content(&bench.path("all.sqlite")));
}

/// What no command can measure of a plucked string, and says so, is a reason; all else has a table.
#[test]
fn every_command_on_takes_can_be_surveyed() {
    let bench = Bench::new();
    takes_of(&bench, 1, 1.2);
    let known = bench.run("survey hall --measure nothing --into all.sqlite").err;
    let list = known.split("There are ").nth(1).expect("a list").trim().trim_end_matches('.');
    assert!(list.split(", ").count() > 12, "{list}");
    let words = ["survey", "hall", "--measure", list, "--into", "all.sqlite"];
    let run = bench.run_words(&words);
    assert_eq!(run.status, 0, "{}", run.err);
    let file = bench.path("all.sqlite");
    let reason: String = one(&file, "SELECT coalesce(reason, '') FROM takes");
    for command in list.split(", ") {
        let is_failed = reason.contains(&format!("{command}: "));
        let made = format!("SELECT count(*) FROM sqlite_schema WHERE name = '{command}'");
        let tables: i64 = one(&file, &made);
        assert_eq!(tables, i64::from(!is_failed), "{command}: {reason}");
        if !is_failed {
            let rows = format!("SELECT count(*) FROM {command}");
            assert_eq!(one::<i64>(&file, &rows), 1, "{command}");
        }
    }
    println!("{reason}");
    let shown = bench.run("survey show all.sqlite");
    assert_eq!(shown.status, 0, "{}", shown.err);
    assert_eq!(bench.run("survey export all.sqlite --json j --quiet").status, 0);
}
