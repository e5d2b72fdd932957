//! Files from the web, by their SHA-256.
//!
//! ```text
//! blobs/SHA256         a whole file, proved before it got its name
//! blobs/partial/KEY    what has arrived so far of an address; locked while a command fetches it, kept when it is
//! interrupted blobs/index/KEY      the index of a depot on the web, as it was last seen
//! ```

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rustix::fs::FlockOperation;

use cavrith_core::digest::Sha256Digest;

use crate::{Store, StoreError, atomic, faults, io_error};

/// What has arrived so far of one address. Nobody else fetches it meanwhile.
#[derive(Debug)]
pub struct Partial {
    path: PathBuf,
    file: File,
}

impl Partial {
    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The file, to read and to write.
    pub fn file(&mut self) -> &mut File {
        &mut self.file
    }
}

impl Store {
    fn blob_dir(&self, name: &str) -> Result<PathBuf, StoreError> {
        let dir = self.root().join("blobs").join(name);
        fs::create_dir_all(&dir).map_err(io_error("make", &dir))?;
        Ok(dir)
    }

    /// Where the file with this digest lies, if it is there. It may have been damaged since it was put there.
    pub fn blob(&self, digest: &Sha256Digest) -> Option<PathBuf> {
        let path = self.root().join("blobs").join(digest.to_string());
        path.is_file().then_some(path)
    }

    /// Locks what has arrived of an address, which may be nothing. Waits while somebody else fetches it.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn partial(&self, address: &str) -> Result<Partial, StoreError> {
        let dir = self.blob_dir("partial")?;
        forget_old(&dir);
        let path = dir.join(Sha256Digest::of(address.as_bytes()).to_string());
        loop {
            let file = File::options().read(true).write(true).create(true).truncate(false).open(&path);
            let file = file.map_err(io_error("open", &path))?;
            rustix::fs::flock(&file, FlockOperation::LockExclusive)
                .map_err(|error| io_error("lock", &path)(error.into()))?;
            // The one who held it may have moved it to its place, so that this is another file than the name stands
            // for.
            if same_file(&file, &path) {
                return Ok(Partial { path, file });
            }
        }
    }

    /// Gives a whole and proved file its name.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn keep_blob(&self, partial: &Partial, digest: &Sha256Digest) -> Result<PathBuf, StoreError> {
        partial.file.sync_all().map_err(io_error("sync", &partial.path))?;
        let place = self.root().join("blobs").join(digest.to_string());
        let renamed = faults::before("rename").and_then(|()| fs::rename(&partial.path, &place));
        renamed.map_err(io_error("put in place", &place))?;
        Ok(place)
    }

    /// Puts bytes into the store that have this digest.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn put_blob(&self, bytes: &[u8], digest: &Sha256Digest) -> Result<(), StoreError> {
        let place = self.blob_dir("")?.join(digest.to_string());
        if place.is_file() { Ok(()) } else { atomic::write(&place, bytes) }
    }

    /// The index of a depot on the web, as it was last seen.
    pub fn seen_index(&self, address: &str) -> Option<Vec<u8>> {
        let name = Sha256Digest::of(address.as_bytes()).to_string();
        fs::read(self.root().join("blobs/index").join(name)).ok()
    }

    /// Remembers the index of a depot on the web.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn remember_index(&self, address: &str, text: &[u8]) -> Result<(), StoreError> {
        let name = Sha256Digest::of(address.as_bytes()).to_string();
        atomic::write(&self.blob_dir("index")?.join(name), text)
    }
}

/// How long what has arrived of a file is kept for carrying on.
const PATIENCE: Duration = Duration::from_secs(7 * 86_400);

/// Removes what has arrived of files that nobody went on with for a week.
fn forget_old(dir: &Path) {
    for entry in fs::read_dir(dir).into_iter().flatten().flatten() {
        let old = entry.metadata().and_then(|meta| meta.modified());
        if !old.is_ok_and(|modified| modified.elapsed().is_ok_and(|age| age > PATIENCE)) {
            continue;
        }
        // One that somebody fetches is locked.
        let free = File::open(entry.path())
            .is_ok_and(|file| rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive).is_ok());
        if free {
            let _ = fs::remove_file(entry.path());
        }
    }
}

fn same_file(file: &File, path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt as _;
    match (file.metadata(), fs::metadata(path)) {
        (Ok(a), Ok(b)) => (a.dev(), a.ino()) == (b.dev(), b.ino()),
        _ => false,
    }
}
