//! Reading files whose names somebody else chose: regular ones only, and never more than is asked for.
//!
//! Opening a pipe waits for who writes into it, opening a device may do something, and neither ends where a file does.
//! So everything is opened without waiting, examined, and only then read.

use std::fs::File;
use std::io::{self, Read as _};
use std::path::Path;

use rustix::fs::{CWD, Mode, OFlags, ResolveFlags};

/// Opens a regular file for reading.
///
/// # Errors
/// When it cannot be opened, or is something else.
pub fn open(path: &Path) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    regular(File::from(rustix::fs::open(path, flags, Mode::empty())?))
}

/// As [`open`], by a path without links: one that has become a link since it was judged is not followed.
///
/// # Errors
/// As [`open`], and when something of the path is a link.
pub fn open_real(path: &Path) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    let resolve = ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    regular(File::from(rustix::fs::openat2(CWD, path, flags, Mode::empty(), resolve)?))
}

fn regular(file: File) -> io::Result<File> {
    match file.metadata()?.is_file() {
        true => Ok(file),
        false => Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a regular file")),
    }
}

/// Bytes that a file may have which is read as a whole: a lock, an index, a list of a layer with a million files.
pub const LONGEST: u64 = 512 << 20;

/// The content of a regular file.
///
/// # Errors
/// When it cannot be read, is something else, or is longer than [`LONGEST`].
pub fn bytes(path: &Path) -> io::Result<Vec<u8>> {
    bounded(path, LONGEST)
}

/// As [`bytes`], of a file that has to be UTF-8.
///
/// # Errors
/// As [`bytes`], or when it is not UTF-8.
pub fn text(path: &Path) -> io::Result<String> {
    let text = String::from_utf8(bytes(path)?);
    text.map_err(|_| io::Error::new(io::ErrorKind::InvalidData, "it is not written in UTF-8"))
}

/// The content of a regular file that may have `most` bytes.
///
/// # Errors
/// When it cannot be read, is something else, or is longer.
pub fn bounded(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    whole(open(path)?, most)
}

/// As [`bounded`], by a path without links: what somebody else may exchange meanwhile leads nowhere else.
///
/// # Errors
/// As [`bounded`], and when something of the path is a link.
pub fn bounded_real(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    whole(open_real(path)?, most)
}

fn whole(file: File, most: u64) -> io::Result<Vec<u8>> {
    // One more than it has, so that its end is seen at once.
    let mut bytes = Vec::with_capacity(file.metadata()?.len().min(most) as usize + 1);
    file.take(most.saturating_add(1)).read_to_end(&mut bytes)?;
    match bytes.len() as u64 > most {
        true => Err(io::Error::new(io::ErrorKind::FileTooLarge, format!("it is longer than {most} bytes"))),
        false => Ok(bytes),
    }
}
