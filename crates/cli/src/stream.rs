//! Takes that are no files: pipes are read as streams, devices are refused.

use std::fs;
use std::io::Read;
use std::path::Path;

use anyhow::{Result, bail};

/// What is not a regular file, opened as a stream; `None` for a file, or for what is not there.
///
/// A pipe into which nothing writes yet is waited for a moment: what writes may only be starting.
pub(crate) fn open(path: &Path) -> Result<Option<Box<dyn Read>>> {
    let Ok(about) = fs::metadata(path) else { return Ok(None) };
    if about.is_file() || about.is_dir() {
        return Ok(None);
    }
    #[cfg(unix)]
    if std::os::unix::fs::FileTypeExt::is_fifo(&about.file_type()) {
        return open_pipe(path).map(Some);
    }
    bail!("this is a device, not a recording; record from it into a file, and measure that")
}

#[cfg(unix)]
fn open_pipe(path: &Path) -> Result<Box<dyn Read>> {
    use std::io::{Cursor, ErrorKind};
    use std::os::unix::fs::OpenOptionsExt;
    use std::time::{Duration, Instant};

    use rustix::fs::{OFlags, fcntl_getfl, fcntl_setfl};

    const PATIENCE: Duration = Duration::from_secs(2);
    if crate::files::writes_nothing() {
        bail!("this is a pipe; what came through it cannot be read again");
    }
    let started = Instant::now();
    // Opened so, a pipe does not wait for its other end.
    let at_once = OFlags::NONBLOCK.bits().cast_signed();
    let mut pipe = fs::OpenOptions::new().read(true).custom_flags(at_once).open(path)?;
    let mut first = vec![0; 1 << 12];
    loop {
        match pipe.read(&mut first) {
            Ok(0) if started.elapsed() < PATIENCE => std::thread::sleep(Duration::from_millis(20)),
            Ok(0) => bail!("nothing writes into this pipe; start what writes, or name a file"),
            Ok(count) => {
                first.truncate(count);
                break;
            }
            Err(error) if error.kind() == ErrorKind::WouldBlock => {
                first.clear();
                break;
            }
            Err(error) => return Err(error.into()),
        }
    }
    // Something writes: from now on what it writes is waited for.
    fcntl_setfl(&pipe, fcntl_getfl(&pipe)? - OFlags::NONBLOCK)?;
    Ok(Box::new(Cursor::new(first).chain(pipe)))
}
