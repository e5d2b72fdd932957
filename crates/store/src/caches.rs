//! Folders in which programs keep what they would otherwise have to make again: those of build steps, never part of a
//! layer, since a step has to come out the same without them; and those that a member's workspaces share.
//!
//! `caches/KEY/content` is the folder; `caches/KEY/lock` is locked by whoever works with it. A step has its cache
//! alone, since programs do not expect that somebody else's step is in it at the same time; workspaces share theirs,
//! whose programs take care of each other as they do in one home.

use std::fs::{self, File};
use std::path::{Path, PathBuf};

use cavrith_core::encode::{percent_decoded, percent_encoded};
use rustix::fs::FlockOperation;

use crate::{Store, StoreError, io_error};

/// How the folders of caches begin that belong to homes.
const OF_HOMES: &str = "home-";

/// A cache that is worked with, as long as this lives.
#[derive(Debug)]
pub struct Cache {
    /// The folder.
    pub path: PathBuf,
    /// Nobody has used it yet.
    pub is_new: bool,
    _lock: File,
}

impl Store {
    pub(crate) fn caches_dir(&self) -> PathBuf {
        self.root().join("caches")
    }

    /// The cache of a key, which has to be a plain name; nothing while somebody else works with it.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn cache(&self, key: &str) -> Result<Option<Cache>, StoreError> {
        // Nobody collects it between making and locking it.
        let _here = self.lock_shared()?;
        let dir = self.caches_dir().join(key);
        let path = dir.join("content");
        fs::create_dir_all(&dir).map_err(io_error("make", &dir))?;
        let lock = open_lock(&dir).map_err(io_error("open the lock of", &dir))?;
        if rustix::fs::flock(&lock, FlockOperation::NonBlockingLockExclusive).is_err() {
            return Ok(None);
        }
        // How long it was not used is seen from the time of this file.
        lock.set_modified(std::time::SystemTime::now()).map_err(io_error("write", &dir))?;
        let is_new = match fs::create_dir(&path) {
            Ok(()) => true,
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => false,
            Err(error) => return Err(io_error("make", &path)(error)),
        };
        Ok(Some(Cache { path, is_new, _lock: lock }))
    }

    /// A cache that several may work with at once: that of a path in homes.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn shared_cache(&self, path: &str) -> Result<Cache, StoreError> {
        let _here = self.lock_shared()?;
        let dir = self.caches_dir().join(format!("{OF_HOMES}{}", percent_encoded(path, "")));
        let content = dir.join("content");
        fs::create_dir_all(&content).map_err(io_error("make", &content))?;
        let lock = open_lock(&dir).map_err(io_error("open the lock of", &dir))?;
        rustix::fs::flock(&lock, FlockOperation::LockShared).map_err(|error| io_error("lock", &dir)(error.into()))?;
        lock.set_modified(std::time::SystemTime::now()).map_err(io_error("write", &dir))?;
        // As long as nothing is in it, nobody knows whom it was given to.
        let is_new = fs::read_dir(&content).map_err(io_error("look into", &content))?.next().is_none();
        Ok(Cache { path: content, is_new, _lock: lock })
    }

    /// The folders of all caches.
    pub(crate) fn caches(&self) -> Result<Vec<PathBuf>, StoreError> {
        let dir = self.caches_dir();
        match fs::read_dir(&dir) {
            Ok(entries) => Ok(entries.flatten().map(|entry| entry.path()).collect()),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(io_error("look into", &dir)(error)),
        }
    }
}

/// What a cache is, by its folder.
pub(crate) fn described(dir: &Path) -> String {
    let name = dir.file_name().unwrap_or_default().to_string_lossy();
    match name.strip_prefix(OF_HOMES).and_then(percent_decoded) {
        Some(path) => format!("a cache of homes, ~/{path}"),
        None => "a cache of build steps".to_owned(),
    }
}

/// The file that says who works with a cache, and when somebody did last.
pub(crate) fn lock_path(dir: &Path) -> PathBuf {
    dir.join("lock")
}

fn open_lock(dir: &Path) -> std::io::Result<File> {
    File::options().read(true).write(true).create(true).truncate(false).open(lock_path(dir))
}

/// Bytes of the files in a directory, as far as it can be read.
pub(crate) fn bytes_in(dir: &Path) -> u64 {
    let (mut bytes, mut open) = (0, vec![dir.to_owned()]);
    while let Some(dir) = open.pop() {
        for entry in fs::read_dir(&dir).into_iter().flatten().flatten() {
            match entry.metadata() {
                Ok(meta) if meta.is_dir() => open.push(entry.path()),
                Ok(meta) if meta.is_file() => bytes += meta.len(),
                _ => {}
            }
        }
    }
    bytes
}
