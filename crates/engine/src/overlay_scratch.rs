//! Directories that a sandbox works in: the upper directory of an overlay, what overlayfs needs beside it, and the
//! lower directories of an image.

use std::fs::{self, Permissions};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use cavrith_core::digest::TreeDigest;
use cavrith_core::path::RootPath;
use cavrith_core::tree::Tree;
use cavrith_store::owners::{self, Ownership};
use cavrith_store::staging::Staging;

use crate::context::BuildContext;
use crate::error::{EngineError, file_error};

/// A directory in staging as the sandbox wants it: an empty upper directory with the rights of the merged root, and
/// what overlayfs needs beside it.
///
/// # Errors
/// When the disk refuses.
pub fn new(staging: &Staging, merged: Option<&Tree>, ownership: Ownership) -> Result<PathBuf, EngineError> {
    let overlay_scratch = staging.new_dir()?;
    prepare(&overlay_scratch, merged, ownership)?;
    Ok(overlay_scratch)
}

/// As [`new`], in a directory that is there.
///
/// # Errors
/// When the disk refuses.
pub fn prepare(overlay_scratch: &Path, merged: Option<&Tree>, ownership: Ownership) -> Result<(), EngineError> {
    for name in ["root", "work", "merged"] {
        let path = overlay_scratch.join(name);
        fs::create_dir(&path).map_err(file_error("make", &path))?;
    }
    let upper = overlay_scratch.join("root");
    let meta = merged.and_then(|tree| tree.get(&RootPath::root())).map(|root| root.meta.clone());
    let time = meta.as_ref().map(|meta| meta.time);
    let (mode, uid, gid) = meta.map_or((0o755, 0, 0), |meta| (meta.mode, meta.uid, meta.gid));
    match ownership {
        Ownership::Real => std::os::unix::fs::chown(&upper, Some(uid), Some(gid)),
        Ownership::Recorded => owners::write(&upper, (uid, gid)),
    }
    .map_err(file_error("change the owner of", &upper))?;
    fs::set_permissions(&upper, Permissions::from_mode(mode.into()))
        .map_err(file_error("change the rights of", &upper))?;
    // Whether somebody writes into the root itself shows in its time stamp.
    let Some(time) = time.map(|seconds| SystemTime::UNIX_EPOCH + Duration::from_secs(seconds)) else { return Ok(()) };
    let set = fs::File::open(&upper).and_then(|root| root.set_modified(time));
    set.map_err(file_error("set the time of", &upper))
}

/// Moves what lies in a directory into an upper directory in which nothing lies yet, and leaves the time of that as it
/// was.
///
/// # Errors
/// When the disk refuses.
pub(crate) fn put_in(overlay_scratch: &Path, from: &Path, merged: &Tree) -> Result<(), EngineError> {
    let upper = overlay_scratch.join("root");
    for entry in fs::read_dir(from).map_err(file_error("look into", from))?.flatten() {
        fs::rename(entry.path(), upper.join(entry.file_name())).map_err(file_error("move", entry.path()))?;
    }
    let time = merged.get(&RootPath::root()).map_or(0, |root| root.meta.time);
    let set =
        fs::File::open(&upper).and_then(|root| root.set_modified(SystemTime::UNIX_EPOCH + Duration::from_secs(time)));
    set.map_err(file_error("set the time of", &upper))
}

/// Directories of layers, for a sandbox of this command.
pub(crate) fn layer_roots<'a>(
    context: BuildContext<'_>,
    layers: impl IntoIterator<Item = &'a TreeDigest>,
) -> Result<Vec<PathBuf>, EngineError> {
    Ok(context.store.lower_directories(layers, &context.staging.dir().join("bundles"))?)
}
