//! Arrays for programs: an NPZ file, the archive of named arrays that NumPy reads.

use std::io::Cursor;
use std::path::Path;

use anyhow::{Context, Result};
use ndarray::ArrayView1;
use ndarray_npy::NpzWriter;

use crate::output::{self, Usage};

/// Named columns of numbers.
pub(crate) type Arrays = Vec<(String, Vec<f64>)>;

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
    for (name, values) in arrays {
        archive
            .add_array(name.as_str(), &ArrayView1::from(values.as_slice()))
            .with_context(|| format!("{}: the array {name}", file.display()))?;
    }
    archive.finish().with_context(|| file.display().to_string())?;
    output::write_whole(file, content.get_ref(), force)
}
