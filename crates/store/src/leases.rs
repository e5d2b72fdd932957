//! Who uses which layers now.
//!
//! A command that relies on layers writes their names into `staging/RUN/uses`. It does so while it holds the file
//! `collecting` locked together with others; [`crate::collecting`] holds it alone while it decides what may go. So
//! between finding a layer and writing that it is used, nobody takes it away.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io::Write as _;
use std::path::PathBuf;
use std::sync::Mutex;
use std::time::{Duration, SystemTime};

use rustix::fs::FlockOperation;

use cavrith_core::digest::TreeDigest;

use crate::staging::Staging;
use crate::{Store, StoreError, io_error};

/// The file in a command's staging.
const USES: &str = "uses";
/// How old the mark of the last use may become before it is set again.
const FRESH: Duration = Duration::from_secs(600);

/// What one command uses.
#[derive(Debug)]
pub struct Lease {
    path: PathBuf,
    written: Mutex<BTreeSet<TreeDigest>>,
}

impl Store {
    /// From now on what this store finds or keeps is marked as used, as long as the command of `staging` lives.
    pub fn lease(&mut self, staging: &Staging) {
        let path = staging.dir().join(USES);
        self.lease = Some(std::sync::Arc::new(Lease { path, written: Mutex::default() }));
    }

    fn collecting(&self) -> Result<File, StoreError> {
        let path = self.root().join("collecting");
        File::options().write(true).create(true).truncate(false).open(&path).map_err(io_error("open", &path))
    }

    /// Keeps collectors away as long as the result lives. Nothing when this store has no lease: then nothing is relied
    /// on for long.
    pub(crate) fn lock_shared(&self) -> Result<Option<File>, StoreError> {
        if self.lease.is_none() {
            return Ok(None);
        }
        let file = self.collecting()?;
        rustix::fs::flock(&file, FlockOperation::LockShared)
            .map_err(|error| io_error("lock", self.root())(error.into()))?;
        Ok(Some(file))
    }

    /// Keeps everybody else away from finding layers as long as the result lives.
    pub(crate) fn lock_exclusive(&self) -> Result<File, StoreError> {
        let file = self.collecting()?;
        rustix::fs::flock(&file, FlockOperation::LockExclusive)
            .map_err(|error| io_error("lock", self.root())(error.into()))?;
        Ok(file)
    }

    /// Marks a layer as used, now and by this command. Collectors are held off by the caller.
    pub(crate) fn use_layer(&self, layer: &TreeDigest) -> Result<(), StoreError> {
        let dir = self.layer_dir(layer);
        let stale = |used: SystemTime| used.elapsed().map_or(true, |age| age > FRESH);
        if fs::metadata(&dir).and_then(|meta| meta.modified()).is_ok_and(stale) {
            // A store that cannot be written is not collected either.
            let _ = File::open(&dir).and_then(|dir| dir.set_modified(SystemTime::now()));
        }
        let Some(lease) = &self.lease else { return Ok(()) };
        let mut written = lease.written.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if written.insert(*layer) {
            let file = File::options().append(true).create(true).open(&lease.path);
            let mut file = file.map_err(io_error("open", &lease.path))?;
            writeln!(file, "{layer}").map_err(io_error("write", &lease.path))?;
        }
        Ok(())
    }

    /// Layers that living commands use.
    pub(crate) fn used_layers(&self) -> BTreeSet<TreeDigest> {
        let runs = fs::read_dir(self.root().join("staging")).into_iter().flatten().flatten();
        let texts = runs.filter_map(|run| fs::read_to_string(run.path().join(USES)).ok());
        texts.flat_map(|text| text.lines().filter_map(|line| line.parse().ok()).collect::<Vec<_>>()).collect()
    }
}
