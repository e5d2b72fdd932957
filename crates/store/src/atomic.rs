//! The one way a file of the store, or of a project, gets its content.

use std::fs::{self, File};
use std::io::{self, Write as _};
use std::path::Path;
use std::sync::atomic::{AtomicU32, Ordering};

use crate::{StoreError, io_error};

/// Writes a file whole: beside its name, synced, then renamed.
///
/// After a crash at any moment the name holds either the old content or the new one. The file beside it is removed when
/// writing fails; only a kill or a crash in between leaves it (`.NAME.PID-N.new`), and it is never read.
///
/// # Errors
/// When the disk refuses; the old content is then untouched.
pub fn write(path: &Path, bytes: &[u8]) -> Result<(), StoreError> {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let number = NEXT.fetch_add(1, Ordering::Relaxed);
    let beside = path.with_file_name(format!(".{name}.{}-{number}.new", std::process::id()));
    let attempt = || -> io::Result<()> {
        let mut file = File::create_new(&beside)?;
        file.write_all(bytes)?;
        file.sync_all()?;
        fs::rename(&beside, path)
    };
    attempt().map_err(|error| {
        let _ = fs::remove_file(&beside);
        io_error("write", path)(error)
    })
}

/// Brings everything written to the filesystem of `path` to the disk.
pub(crate) fn sync_filesystem(path: &Path) -> Result<(), StoreError> {
    let dir = File::open(path).map_err(io_error("open", path))?;
    rustix::fs::syncfs(&dir).map_err(|error| io_error("sync", path)(error.into()))
}
