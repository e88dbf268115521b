//! A temporary folder with takes, and the program run in it.

use std::path::{Path, PathBuf};
use std::time::Duration;

use assert_cmd::Command;
use serde_json::Value;
use tonemap_media::{WavEncoding, write_wav};

/// A run that takes longer does not end: it is killed, and its status is -1.
const LONGEST: Duration = Duration::from_secs(900);

/// A temporary folder; gone with the value.
pub(crate) struct Bench {
    folder: tempfile::TempDir,
}

/// What a run left.
pub(crate) struct Run {
    pub(crate) status: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl Bench {
    pub(crate) fn new() -> Self {
        Self { folder: tempfile::tempdir().expect("a folder") }
    }

    pub(crate) fn folder(&self) -> &Path {
        self.folder.path()
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, content: &[u8]) -> PathBuf {
        let path = self.path(name);
        std::fs::write(&path, content).expect("written");
        path
    }

    /// Writes a take.
    pub(crate) fn take(&self, name: &str, rate: u32, encoding: WavEncoding, channels: &[Vec<f32>]) {
        let file = std::fs::File::create(self.path(name)).expect("created");
        write_wav(file, rate, channels, encoding).expect("written");
    }

    /// Runs the program in the folder with arguments that may hold spaces.
    pub(crate) fn run_words(&self, arguments: &[&str]) -> Run {
        self.run_on(arguments, b"")
    }

    /// Runs the program in the folder.
    pub(crate) fn run(&self, arguments: &str) -> Run {
        self.run_with_input(arguments, b"")
    }

    /// Runs the program with something on its standard input.
    pub(crate) fn run_with_input(&self, arguments: &str, input: &[u8]) -> Run {
        let words: Vec<&str> = arguments.split_whitespace().collect();
        self.run_on(&words, input)
    }

    /// Runs the program in another folder.
    pub(crate) fn run_in(folder: &Path, arguments: &[String]) -> Run {
        let words: Vec<&str> = arguments.iter().map(String::as_str).collect();
        Self::run_there(folder, &words, b"")
    }

    fn run_on(&self, arguments: &[&str], input: &[u8]) -> Run {
        Self::run_there(self.folder.path(), arguments, input)
    }

    fn run_there(folder: &Path, arguments: &[&str], input: &[u8]) -> Run {
        let output = Command::cargo_bin("tonemap")
            .expect("the program is built")
            .current_dir(folder)
            .args(arguments)
            .write_stdin(input)
            .timeout(LONGEST)
            .output()
            .expect("the program runs");
        Run {
            status: output.status.code().unwrap_or(-1),
            out: String::from_utf8(output.stdout).expect("text"),
            err: String::from_utf8(output.stderr).expect("text"),
        }
    }

    /// Runs the program, which must succeed, and reads its one JSON object.
    pub(crate) fn json(&self, arguments: &str) -> Value {
        let run = self.run(arguments);
        assert_eq!(run.status, 0, "{}", run.err);
        serde_json::from_str(&run.out).expect("one JSON object")
    }

    /// An array of an NPZ file, float32 or float64: its shape and its values, row by row.
    pub(crate) fn array(&self, file: &str, name: &str) -> (Vec<usize>, Vec<f64>) {
        let file = std::fs::File::open(self.path(file)).expect("written");
        let mut archive = zip::ZipArchive::new(file).expect("an archive");
        let mut bytes = Vec::new();
        let mut entry = archive.by_name(&format!("{name}.npy")).expect("the array");
        std::io::Read::read_to_end(&mut entry, &mut bytes).expect("readable");
        assert_eq!(bytes[..8], *b"\x93NUMPY\x01\x00");
        let begins = 10 + usize::from(u16::from_le_bytes([bytes[8], bytes[9]]));
        assert_eq!(begins % 64, 0);
        let header = std::str::from_utf8(&bytes[10..begins]).expect("text");
        let (_, shape) = header.split_once("'shape': (").expect("a shape");
        let lengths = shape.split_once(')').expect("closed").0.split(',').map(str::trim);
        let shape: Vec<usize> = lengths
            .filter(|word| !word.is_empty())
            .map(|word| word.parse().expect("a length"))
            .collect();
        let values: Vec<f64> = if header.contains("'<f4'") {
            bytes[begins..]
                .as_chunks()
                .0
                .iter()
                .map(|x| f64::from(f32::from_le_bytes(*x)))
                .collect()
        } else {
            bytes[begins..].as_chunks().0.iter().map(|x| f64::from_le_bytes(*x)).collect()
        };
        assert_eq!(values.len(), shape.iter().product::<usize>());
        (shape, values)
    }

    /// Names of the files in the folder, sorted.
    pub(crate) fn files(&self) -> Vec<String> {
        let mut names: Vec<String> = std::fs::read_dir(self.folder.path())
            .expect("readable")
            .map(|entry| entry.expect("an entry").file_name().to_string_lossy().into_owned())
            .collect();
        names.sort();
        names
    }
}

/// One second of a sine of half full scale at 48 kHz.
pub(crate) fn sine(frequency_hz: f64) -> Vec<f32> {
    tonemap_core::synth::sine(frequency_hz, 0.5, 0.3, 48_000.0, 48_000)
}

/// A number in JSON.
pub(crate) fn number(value: &Value) -> f64 {
    value.as_f64().unwrap_or_else(|| panic!("a number, not {value}"))
}

/// Codes of the findings in a JSON result.
pub(crate) fn codes(result: &Value) -> Vec<&str> {
    result["findings"]
        .as_array()
        .map(|list| list.iter().filter_map(|finding| finding["code"].as_str()).collect())
        .unwrap_or_default()
}
