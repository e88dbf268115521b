//! Arrays for programs: an NPZ file, the archive of named arrays that NumPy reads.
//!
//! It is a ZIP archive that holds each array as a file of the NPY format.

use std::io::{Cursor, Seek, Write};

use anyhow::{Context, Result};
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

/// Named arrays of numbers: a column, or a table of rows of this many numbers.
pub(crate) type Arrays = Vec<(String, Vec<f64>, Option<usize>)>;

/// What is said of a file whose name does not end in .npz.
pub(crate) const KIND: &str = "arrays are written as an NPZ file; name it FILE.npz";

/// The arrays as float64, uncompressed.
pub(crate) fn npz(arrays: &Arrays) -> Result<Vec<u8>> {
    let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, values, row) in arrays {
        let rows_of = |row: usize| vec![values.len() / row.max(1), row];
        let shape = row.map_or_else(|| vec![values.len()], rows_of);
        let bytes: Vec<u8> = values.iter().flat_map(|value| value.to_le_bytes()).collect();
        begin_array(&mut archive, name, "<f8", &shape)
            .and_then(|()| Ok(archive.write_all(&bytes)?))
            .with_context(|| format!("the array {name}"))?;
    }
    Ok(archive.finish()?.into_inner())
}

/// Begins an array of an archive (the NPY format, version 1.0, as NumPy documents it), whose values
/// follow row by row.
pub(crate) fn begin_array(
    archive: &mut ZipWriter<impl Write + Seek>,
    name: &str,
    kind: &str,
    shape: &[usize],
) -> Result<()> {
    let options = SimpleFileOptions::default()
        .compression_method(zip::CompressionMethod::Stored)
        .large_file(true);
    archive.start_file(format!("{name}.npy"), options)?;
    let lengths: Vec<String> = shape.iter().map(ToString::to_string).collect();
    let lengths = lengths.join(", ");
    let dictionary =
        format!("{{'descr': '{kind}', 'fortran_order': False, 'shape': ({lengths},), }}");
    // Magic bytes, version and length take ten bytes; all is filled up to a multiple of 64.
    let length = (dictionary.len() + 11).next_multiple_of(64) - 10;
    archive.write_all(b"\x93NUMPY\x01\x00")?;
    archive.write_all(&(length as u16).to_le_bytes())?;
    Ok(writeln!(archive, "{dictionary:<width$}", width = length - 1)?)
}
