//! Arrays for programs: an NPZ file, the archive of named arrays that NumPy reads.

use std::io::Cursor;
use std::path::Path;

use anyhow::{Context, Result};
use ndarray::ArrayViewD;
use ndarray_npy::NpzWriter;

use crate::files::{self, Content};
use crate::output::Usage;

/// Named arrays of numbers: a column, or a table of rows of this many numbers.
pub(crate) type Arrays = Vec<(String, Vec<f64>, Option<usize>)>;

/// Refuses a file whose name does not end in .npz.
pub(crate) fn check_name(file: &Path) -> Result<()> {
    if file.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("npz")) {
        return Ok(());
    }
    let reason = "arrays are written as an NPZ file; name it FILE.npz";
    Err(Usage(format!("{}: {reason}", file.display())).into())
}

/// Writes the arrays as float64, uncompressed.
pub(crate) fn write_npz(file: &Path, arrays: &Arrays, force: bool) -> Result<()> {
    let mut content = Cursor::new(Vec::new());
    let mut archive = NpzWriter::new(&mut content);
    for (name, values, row) in arrays {
        let shape: Vec<usize> = match row {
            Some(row) => vec![values.len() / row.max(&1), *row],
            None => vec![values.len()],
        };
        let array = ArrayViewD::from_shape(shape, values)?;
        archive
            .add_array(name.as_str(), &array)
            .with_context(|| format!("{}: the array {name}", file.display()))?;
    }
    archive.finish().with_context(|| file.display().to_string())?;
    files::write_whole(file, Content::Result, content.get_ref(), force)
}
