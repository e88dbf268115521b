//! Tables of level over time and frequency, written row by row: as arrays, as CSV, or as a 16-bit
//! picture.

use std::fs::File;
use std::io::{self, BufWriter, Seek, SeekFrom, Write};
use std::mem::ManuallyDrop;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use serde::Serialize;
use zip::ZipWriter;

use crate::arrays;
use crate::files::{self, Content, Draft};
use crate::status::Usage;

/// The level that 0 of a picture stands for, below that of a full-scale sine, and the step from one
/// value to the next, in dB.
const PICTURE_DEEPEST_DB: f64 = -200.0;
const PICTURE_STEP_DB: f64 = 1.0 / 256.0;

/// The kinds of table, by the ending of the file's name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Npz,
    Csv,
    Png,
}

impl Kind {
    fn of(file: &Path) -> Result<Self> {
        let ending = file.extension().map(|ending| ending.to_string_lossy().to_ascii_lowercase());
        match ending.as_deref() {
            Some("npz") => Ok(Self::Npz),
            Some("csv") => Ok(Self::Csv),
            Some("png") => Ok(Self::Png),
            _ => Err(Usage(format!(
                "{}: levels are written as arrays, a table or a 16-bit picture; name it FILE.npz, \
                 FILE.csv \
                 or FILE.png",
                file.display()
            ))
            .into()),
        }
    }
}

/// Refuses early what could not be written at the end.
pub(crate) fn check(file: &Path, force: bool) -> Result<()> {
    if Kind::of(file)? == Kind::Png {
        files::claim(&side_file(file), Content::Result, force)?;
    }
    files::claim(file, Content::Result, force)
}

/// The file that says what the values of a picture mean.
fn side_file(file: &Path) -> PathBuf {
    file.with_extension("png.json")
}

/// What the rows and columns of a table are: a row for each time.
#[derive(Debug, Clone)]
pub(crate) struct Head {
    pub(crate) take: String,
    pub(crate) channel: String,
    /// Middles of the rows, in seconds from the start of the take.
    pub(crate) time_s: Vec<f64>,
    /// Middles of the columns in Hz.
    pub(crate) frequency_hz: Vec<f64>,
    /// Level of a full-scale sine in dB, and the words behind "dB".
    pub(crate) full_scale_db: f64,
    pub(crate) reference: &'static str,
    /// What comes with each level, by its key: a frequency or an angle of the phase.
    pub(crate) beside: Option<&'static str>,
}

/// A file of tables that is there whole or not at all.
pub(crate) struct Export {
    draft: Draft,
    file: PathBuf,
    form: Form,
    /// How many tables it will hold, and has begun.
    tables: usize,
    begun: usize,
    rows: usize,
}

enum Form {
    Npz {
        /// Never dropped unfinished: it would finish itself, and print what it thinks of a full
        /// disk.
        archive: ManuallyDrop<Box<ZipWriter<BufWriter<File>>>>,
        /// What comes beside the levels waits here: an archive takes one array after the other.
        waiting: BufWriter<File>,
    },
    Csv(Box<csv::Writer<BufWriter<File>>>),
    Png {
        pixels: Option<Box<png::StreamWriter<'static, BufWriter<File>>>>,
        lowest_db: f64,
        side: Draft,
    },
}

/// What the values of a picture mean.
#[derive(Serialize)]
struct PictureScale<'a> {
    tonemap: &'static str,
    kind: &'static str,
    take: &'a str,
    channel: &'a str,
    /// `level_db = lowest_level_db + step_db * value`; 0 is that level or less.
    lowest_level_db: f64,
    step_db: f64,
    reference: &'static str,
    /// Rows of the picture from the top.
    rows_time_s: &'a [f64],
    /// Columns of the picture from the left.
    columns_frequency_hz: &'a [f64],
}

impl Export {
    /// Begins a file of so many tables.
    pub(crate) fn begin(file: &Path, tables: usize, force: bool) -> Result<Self> {
        let kind = Kind::of(file)?;
        let draft = Draft::begin(file, Content::Result, force)?;
        let out = BufWriter::new(draft.file()?);
        let form = match kind {
            Kind::Npz => Form::Npz {
                archive: ManuallyDrop::new(Box::new(ZipWriter::new(out))),
                waiting: BufWriter::new(tempfile::tempfile()?),
            },
            Kind::Csv => Form::Csv(Box::new(csv::Writer::from_writer(out))),
            Kind::Png if tables > 1 => {
                return Err(Usage(format!(
                    "{}: a picture holds one channel of one take; write several as FILE.npz or \
                     FILE.csv",
                    file.display()
                ))
                .into());
            }
            Kind::Png => Form::Png {
                pixels: None,
                lowest_db: PICTURE_DEEPEST_DB,
                side: Draft::begin(&side_file(file), Content::Result, force)?,
            },
        };
        Ok(Self { draft, file: file.into(), form, tables, begun: 0, rows: 0 })
    }

    /// Begins the next table.
    pub(crate) fn table(&mut self, head: &Head) -> Result<()> {
        let begun = self.begin_table(head);
        begun.with_context(|| files::not_written(&self.file))
    }

    fn begin_table(&mut self, head: &Head) -> Result<()> {
        self.begun += 1;
        self.rows = 0;
        let (rows, columns) = (head.time_s.len(), head.frequency_hz.len());
        let name = |name: &str| self.name(name);
        let (time, frequency, level) = (name("time_s"), name("frequency_hz"), name("level_db"));
        match &mut self.form {
            Form::Npz { archive, .. } => {
                for (name, values) in [(time, &head.time_s), (frequency, &head.frequency_hz)] {
                    arrays::begin_array(archive, &name, "<f8", &[values.len()])?;
                    for value in values {
                        archive.write_all(&value.to_le_bytes())?;
                    }
                }
                arrays::begin_array(archive, &level, "<f4", &[rows, columns])
            }
            Form::Csv(table) if self.begun == 1 => csv_names(table, head),
            Form::Csv(_) => Ok(()),
            Form::Png { pixels, lowest_db, side } => {
                let size =
                    |length: usize| u32::try_from(length).context("the picture is too large");
                let out = BufWriter::new(self.draft.file()?);
                let mut encoder = png::Encoder::new(out, size(columns)?, size(rows)?);
                encoder.set_color(png::ColorType::Grayscale);
                encoder.set_depth(png::BitDepth::Sixteen);
                encoder.set_compression(png::Compression::Fast);
                *pixels = Some(Box::new(encoder.write_header()?.into_stream_writer()?));
                *lowest_db = PICTURE_DEEPEST_DB + head.full_scale_db;
                let scale = PictureScale {
                    tonemap: env!("CARGO_PKG_VERSION"),
                    kind: "spectrogram_picture",
                    take: &head.take,
                    channel: &head.channel,
                    lowest_level_db: *lowest_db,
                    step_db: PICTURE_STEP_DB,
                    reference: head.reference,
                    rows_time_s: &head.time_s,
                    columns_frequency_hz: &head.frequency_hz,
                };
                let mut out = BufWriter::new(side.file()?);
                serde_json::to_writer(&mut out, &scale)?;
                Ok(out.flush()?)
            }
        }
    }

    /// Writes the next row of the table: levels in dB, and what the head has beside them.
    pub(crate) fn row(
        &mut self,
        head: &Head,
        level_db: &[f32],
        beside: Option<&[f32]>,
    ) -> Result<()> {
        let written = self.write_row(head, level_db, beside);
        written.with_context(|| files::not_written(&self.file))
    }

    fn write_row(&mut self, head: &Head, level_db: &[f32], beside: Option<&[f32]>) -> Result<()> {
        let row = self.rows;
        self.rows += 1;
        match &mut self.form {
            Form::Npz { archive, waiting } => {
                archive.write_all(&little_endian(level_db))?;
                if let Some(beside) = beside {
                    waiting.write_all(&little_endian(beside))?;
                }
                Ok(())
            }
            Form::Csv(table) => csv_row(table, head, row, level_db, beside),
            Form::Png { pixels, lowest_db, .. } => {
                let value = |level: &f32| {
                    let steps = (f64::from(*level) - *lowest_db) / PICTURE_STEP_DB;
                    (steps.round().clamp(0.0, f64::from(u16::MAX)) as u16).to_be_bytes()
                };
                let bytes: Vec<u8> = level_db.iter().flat_map(value).collect();
                Ok(pixels.as_mut().context("a table was begun")?.write_all(&bytes)?)
            }
        }
    }

    /// Ends the table.
    pub(crate) fn end_table(&mut self, head: &Head) -> Result<()> {
        let ended = self.write_beside(head);
        ended.with_context(|| files::not_written(&self.file))
    }

    /// What comes beside the levels follows them in an archive.
    fn write_beside(&mut self, head: &Head) -> Result<()> {
        let Some(name) = head.beside.map(|key| self.name(key)) else { return Ok(()) };
        if let Form::Npz { archive, waiting } = &mut self.form {
            let shape = [head.time_s.len(), head.frequency_hz.len()];
            arrays::begin_array(archive, &name, "<f4", &shape)?;
            waiting.seek(SeekFrom::Start(0))?;
            io::copy(waiting.get_mut(), &mut **archive)?;
            waiting.get_mut().set_len(0)?;
            waiting.seek(SeekFrom::Start(0))?;
        }
        Ok(())
    }

    /// Ends the file.
    pub(crate) fn finish(self) -> Result<()> {
        let failed = || files::not_written(&self.file);
        match self.form {
            Form::Npz { archive, .. } => {
                let archive = ManuallyDrop::into_inner(archive);
                archive.finish().with_context(failed)?.flush().with_context(failed)?;
            }
            Form::Csv(mut table) => table.flush().with_context(failed)?,
            Form::Png { pixels, side, .. } => {
                if let Some(pixels) = pixels {
                    pixels.finish().with_context(failed)?;
                }
                side.finish()?;
            }
        }
        self.draft.finish()
    }

    /// The name of an array: of several tables, it ends in their number.
    fn name(&self, name: &str) -> String {
        if self.tables > 1 { format!("{name}_{}", self.begun) } else { name.into() }
    }
}

/// The same as CSV text.
pub(crate) fn csv_text(
    head: &Head,
    rows: impl Iterator<Item = (Vec<f32>, Option<Vec<f32>>)>,
    with_names: bool,
) -> Result<String> {
    let mut table = csv::Writer::from_writer(Vec::new());
    if with_names {
        csv_names(&mut table, head)?;
    }
    for (row, (level_db, beside)) in rows.enumerate() {
        csv_row(&mut table, head, row, &level_db, beside.as_deref())?;
    }
    Ok(String::from_utf8(table.into_inner()?)?)
}

/// The first line of CSV.
fn csv_names<W: Write>(table: &mut csv::Writer<W>, head: &Head) -> Result<()> {
    let names = ["take", "channel", "time_s", "frequency_hz", "level_db"];
    Ok(table.write_record(names.into_iter().chain(head.beside))?)
}

/// A row of a table as lines of CSV, one for each level.
fn csv_row<W: Write>(
    table: &mut csv::Writer<W>,
    head: &Head,
    row: usize,
    level_db: &[f32],
    beside: Option<&[f32]>,
) -> Result<()> {
    let known = |value: f32| if value.is_finite() { value.to_string() } else { String::new() };
    let time = head.time_s[row].to_string();
    for (n, level) in level_db.iter().enumerate() {
        for field in [&head.take, &head.channel, &time, &head.frequency_hz[n].to_string()] {
            table.write_field(field)?;
        }
        table.write_field(known(*level))?;
        if let Some(beside) = beside {
            table.write_field(known(beside[n]))?;
        }
        table.write_record(None::<&[u8]>)?;
    }
    Ok(())
}

fn little_endian(values: &[f32]) -> Vec<u8> {
    values.iter().flat_map(|value| value.to_le_bytes()).collect()
}
