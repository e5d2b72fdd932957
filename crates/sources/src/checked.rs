//! A file from outside, proved before anything looks into it.

use std::fs::{self, File};
use std::io::{self, Read as _, Seek as _};
use std::path::Path;

use cavrith_core::digest::Sha256Digest;
use cavrith_store::hashing;

use crate::SourceError;

/// A file whose size and digest fit, as a private copy that nobody else can change any more.
#[derive(Debug)]
pub struct Checked {
    name: String,
    file: File,
    size: u64,
}

impl Checked {
    /// What to call it in messages.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Bytes of the file.
    pub fn size(&self) -> u64 {
        self.size
    }

    /// The file, from its beginning.
    ///
    /// # Errors
    /// When the copy cannot be read.
    pub fn open(&mut self) -> io::Result<&mut File> {
        self.file.rewind()?;
        Ok(&mut self.file)
    }

    /// The file alone, at some place in it.
    pub fn into_file(self) -> File {
        self.file
    }
}

/// Copies the file at `from` into `staging` (a name that nothing has yet), and proves the copy. The copy has no name
/// any more when this returns, so it goes when it is no longer needed, however the process ends.
///
/// # Errors
/// When the file cannot be read, or is not what it has to be.
pub fn check(from: &Path, expected_size: u64, expected: Sha256Digest, staging: &Path) -> Result<Checked, SourceError> {
    let unreadable = |source| SourceError::Unreadable { path: from.to_owned(), source };
    let original = open_regular(from).map_err(unreadable)?;
    let size = original.metadata().map_err(unreadable)?.len();
    if size != expected_size {
        return Err(SourceError::OtherSize { path: from.to_owned(), expected: expected_size, found: size });
    }
    let at_copy = |source| SourceError::Unreadable { path: staging.to_owned(), source };
    let mut copy = File::options().read(true).write(true).create_new(true).open(staging).map_err(at_copy)?;
    fs::remove_file(staging).map_err(at_copy)?;
    let (size, found) = hashing::sha256(&mut original.take(expected_size + 1), Some(&mut copy)).map_err(unreadable)?;
    if size != expected_size {
        return Err(SourceError::OtherSize { path: from.to_owned(), expected: expected_size, found: size });
    }
    if found != expected {
        return Err(SourceError::OtherDigest { path: from.to_owned(), expected, found });
    }
    let name = from.file_name().unwrap_or(from.as_os_str()).to_string_lossy().into_owned();
    Ok(Checked { name, file: copy, size })
}

/// Proves a file that nobody but ourselves writes, such as one in our own store, without copying it.
///
/// # Errors
/// When the file cannot be read, or is not what it has to be.
pub fn check_own(path: &Path, name: &str, expected_size: u64, expected: Sha256Digest) -> Result<Checked, SourceError> {
    let (size, found) = measure(path)?;
    if size != expected_size {
        return Err(SourceError::OtherSize { path: path.to_owned(), expected: expected_size, found: size });
    }
    if found != expected {
        return Err(SourceError::OtherDigest { path: path.to_owned(), expected, found });
    }
    let unreadable = |source| SourceError::Unreadable { path: path.to_owned(), source };
    Ok(Checked { name: name.to_owned(), file: open_regular(path).map_err(unreadable)?, size })
}

/// Size and SHA-256 of a file, for a lock that is being written.
///
/// # Errors
/// When it cannot be read.
pub fn measure(path: &Path) -> Result<(u64, Sha256Digest), SourceError> {
    let unreadable = |source| SourceError::Unreadable { path: path.to_owned(), source };
    hashing::sha256(&mut open_regular(path).map_err(unreadable)?, None).map_err(unreadable)
}

/// Opens a regular file; a pipe or a device could make reading hang or never end.
fn open_regular(path: &Path) -> io::Result<File> {
    if !fs::metadata(path)?.is_file() {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a regular file"));
    }
    cavrith_store::reading::open(path)
}
