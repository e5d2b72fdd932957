//! The one way a file of the store, or of a project, gets its content.

use std::fs::{self, File};
use std::io::{self, Write as _};
use std::os::fd::AsRawFd as _;
use std::path::Path;
use std::sync::atomic::{AtomicU32, Ordering};

use rustix::fs::{AtFlags, CWD, Mode, OFlags};

use crate::{StoreError, io_error};

/// Writes a file whole: without a name, synced, then named beside its place, then renamed.
///
/// After a crash at any moment the name holds either the old content or the new one. As long as it is being written the
/// new content has no name, so that a kill leaves nothing; only between the two last system calls is there a file beside
/// (`.NAME.PID-N.new`), which is never read.
///
/// # Errors
/// When the disk refuses; the old content is then untouched.
pub fn write(path: &Path, bytes: &[u8]) -> Result<(), StoreError> {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let number = NEXT.fetch_add(1, Ordering::Relaxed);
    let beside = path.with_file_name(format!(".{name}.{}-{number}.new", std::process::id()));
    let attempt = || -> io::Result<()> {
        let mut file = match nameless(path) {
            Ok(file) => file,
            // Not every filesystem has files without a name.
            Err(_) => File::create_new(&beside)?,
        };
        file.write_all(bytes)?;
        file.sync_all()?;
        if !beside.exists() {
            let by_descriptor = format!("/proc/self/fd/{}", file.as_raw_fd());
            rustix::fs::linkat(CWD, by_descriptor.as_str(), CWD, &beside, AtFlags::SYMLINK_FOLLOW)?;
        }
        fs::rename(&beside, path)
    };
    attempt().map_err(|error| {
        let _ = fs::remove_file(&beside);
        io_error("write", path)(error)
    })
}

fn nameless(path: &Path) -> io::Result<File> {
    let parent = path.parent().filter(|parent| *parent != Path::new("")).unwrap_or(Path::new("."));
    let flags = OFlags::TMPFILE | OFlags::WRONLY | OFlags::CLOEXEC;
    Ok(rustix::fs::open(parent, flags, Mode::from_raw_mode(0o666))?.into())
}

/// Brings everything written to the filesystem of `path` to the disk.
pub(crate) fn sync_filesystem(path: &Path) -> Result<(), StoreError> {
    let dir = File::open(path).map_err(io_error("open", path))?;
    rustix::fs::syncfs(&dir).map_err(|error| io_error("sync", path)(error.into()))
}
