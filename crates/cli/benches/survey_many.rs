//! A survey of many short takes, as whole processes: takes a second on one core and on all, memory,
//! a second run, and the export of many rows.
//!
//! `cargo bench -p tonemap --bench survey_many` makes 10 000 takes of one to three seconds in a
//! temporary folder (2 GB) and prints the figures; `-- 1000` makes fewer.

#[path = "support/process.rs"]
mod process;

use std::fs::{self, File};
use std::io::BufWriter;
use std::path::{Path, PathBuf};
use std::time::Instant;

use tonemap_core::Measured;
use tonemap_core::quantity::{Key, Label, Quantity, Unit};
use tonemap_core::synth::{PluckedString, mix, to_samples, white_noise};
use tonemap_media::{WavEncoding, write_wav};
use tonemap_survey::walk::{About, Found};
use tonemap_survey::{CommandResult, Identity, MeasuredTake, Outcome, Part, Reader, Survey};

const RATE: u32 = 48_000;

/// Plucked strings of one to three seconds in noise, no two the same; returns how long they last.
fn takes(folder: &Path, count: u64) -> f64 {
    let rate_hz = f64::from(RATE);
    let render = |n: u64| {
        let frequency_hz = 65.0 * (n as f64 / 12.0).exp2();
        let string = PluckedString { frequency_hz, partials: 24, ..PluckedString::default() };
        string.render(rate_hz, 3.0)
    };
    let strings: Vec<Vec<f64>> = (0..48).map(render).collect();
    let mut lasts_s = 0.0;
    for n in 0..count {
        let length = (rate_hz * (1.0 + 2.0 * (0.618_034 * n as f64).fract())) as usize;
        let mut sound = white_noise(n, 1e-4, length);
        let gain = 1.0 - 0.9 * (0.414_214 * n as f64).fract();
        let string = &strings[n as usize % strings.len()];
        let note: Vec<f64> = string[..length - 4800].iter().map(|x| gain * x).collect();
        mix(&mut sound[4800..], &note);
        let within = folder.join(format!("box-{:03}", n / 100));
        fs::create_dir_all(&within).expect("made");
        let file = File::create(within.join(format!("take-{n:05}.wav"))).expect("created");
        let coding = WavEncoding::Integer(16);
        write_wav(BufWriter::new(file), RATE, &[to_samples(&sound)], coding).expect("written");
        lasts_s += length as f64 / rate_hz;
    }
    lasts_s
}

fn identity(part: Option<Part>) -> Identity {
    let words = |text: &str| text.to_string();
    Identity {
        measure: words("pitch"),
        reading: words(""),
        tonemap: words("0"),
        program: words("0"),
        part,
    }
}

/// A survey of made-up results: takes with so many notes each.
fn made_up(file: &Path, takes: u64, notes: usize, part: Option<Part>) {
    const LABELS: [Label; 4] = [
        Label::new("f0_hz", "fundamental", Unit::Hertz, 3).with_u(),
        Label::new("cents", "cents", Unit::Cent, 2).with_u(),
        Label::new("start_s", "start", Unit::Second, 3),
        Label::new("end_s", "end", Unit::Second, 3),
    ];
    let mut survey = Survey::open(file).expect("opened");
    let run = survey.run(&identity(part), "now").expect("a run");
    let about = About { bytes: 1, modified_ns: 1 };
    let found = |n: u64| Found { path: PathBuf::from(format!("archive/{n:08}.wav")), about };
    survey
        .list(run, false, |take| (0..takes).try_for_each(|n| take(found(n))).map(|()| vec![]))
        .expect("listed");
    let reader = Reader::open(file).expect("opened");
    let mut behind = 0;
    loop {
        let waiting = reader.waiting(run, behind, 2000).expect("asked");
        let Some(last) = waiting.last() else { break };
        behind = last.id;
        let outcomes: Vec<Outcome> = waiting
            .iter()
            .map(|take| {
                let value = |n: usize| Measured::new(take.id as f64 + 0.1 * n as f64, 0.01);
                let quantities = (1..=notes).flat_map(|n| {
                    let key = Key::item("notes", n);
                    LABELS.map(|label| {
                        Quantity::new(key.clone().then(label.field), &label, Some(value(n)))
                    })
                });
                let result = CommandResult {
                    command: "pitch",
                    settings: "{}".into(),
                    quantities: quantities.collect(),
                    findings: Vec::new(),
                };
                let blake3 = Some(format!("{:064x}", take.id));
                let results = vec![result];
                let measured = MeasuredTake { blake3, results, ..MeasuredTake::default() };
                Outcome { id: take.id, about: None, measured: Some(measured) }
            })
            .collect();
        survey.store(&outcomes).expect("stored");
    }
    drop(reader);
    survey.close().expect("closed");
}

fn main() {
    let asked = std::env::args().find_map(|word| word.parse().ok());
    let count = asked.unwrap_or(10_000);
    let folder = tempfile::tempdir().expect("a temporary folder");
    let all = folder.path().join("takes");
    let lasts_s = takes(&all, count);
    println!("{count} takes, {:.0} s each in the mean", lasts_s / count as f64);
    println!(
        "{:>40} {:>10} {:>12} {:>12} {:>10}",
        "what", "seconds", "takes/s", "x real time", "peak MB"
    );
    let survey = |what: &str, measure: &str, jobs: &str, of: &Path, share: f64| {
        let into = folder.path().join(format!("{}.sqlite", what.replace([' ', ','], "-")));
        let into = into.display().to_string();
        let words = ["survey", "--measure", measure, "--into", &into, "--jobs", jobs, "--quiet"];
        let (time, peak) = process::run(&words, of);
        let seconds = time.as_secs_f64();
        println!(
            "{what:>40} {seconds:>10.2} {:>12.1} {:>12.1} {:>10.1}",
            share * count as f64 / seconds,
            share * lasts_s / seconds,
            peak as f64 / 1024.0
        );
        into
    };
    let cores = std::thread::available_parallelism().map_or(1, usize::from).to_string();
    // The boxes are alike: one of a hundred takes stands for all.
    let one_box = all.join("box-000");
    let share = 100.0 / count as f64;
    for measure in ["inspect", "pitch", "timbre", "partials", "pitch, inspect"] {
        survey(&format!("{measure}, one core"), measure, "1", &one_box, share);
    }
    let into = survey("pitch, inspect, all cores", "pitch, inspect", &cores, &all, 1.0);
    survey("pitch, inspect, all cores", "pitch, inspect", &cores, &all, 1.0);
    let bytes = fs::metadata(&into).map_or(0, |about| about.len());
    println!("the last is the second run; {:.0} bytes a take", bytes as f64 / count as f64);

    let rows = folder.path().join("rows.sqlite");
    made_up(&rows, 250_000, 4, None);
    let parquet = cfg!(feature = "parquet").then_some("--parquet");
    for form in parquet.into_iter().chain(["--csv", "--json"]) {
        let into = folder.path().join(&form[2..]);
        let words = ["survey", "export", form, &into.display().to_string()];
        let (time, peak) = process::run(&words, &rows);
        let files = fs::read_dir(&into).expect("written").flatten();
        let bytes: u64 =
            files.filter_map(|file| file.metadata().ok()).map(|about| about.len()).sum();
        println!(
            "{:>40} {:>10.2} s, {:.0} MB, peak {:.0} MB",
            format!("export of 10^6 rows of notes, {form}"),
            time.as_secs_f64(),
            bytes as f64 / 1e6,
            peak as f64 / 1024.0
        );
    }
    let parts: Vec<String> = (1..=4)
        .map(|number| {
            let part = folder.path().join(format!("part-{number}.sqlite"));
            made_up(&part, 100_000, 4, Some(Part { number, of: 4 }));
            part.display().to_string()
        })
        .collect();
    let joined = folder.path().join("joined.sqlite").display().to_string();
    let mut words = vec!["survey", "join", "--into", &joined];
    words.extend(parts[1..].iter().map(String::as_str));
    let begun = Instant::now();
    let (_, peak) = process::run(&words, Path::new(&parts[0]));
    println!(
        "{:>40} {:>10.2} s, peak {:.0} MB",
        "join of 100 000 takes in 4 parts",
        begun.elapsed().as_secs_f64(),
        peak as f64 / 1024.0
    );
}
