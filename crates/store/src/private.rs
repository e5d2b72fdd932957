//! Directories that nobody but their owner can enter.
//!
//! A store, a scratch and a kept folder hold programs with set-uid bits and files that were made for nobody else's
//! eyes. The rights of those count inside only as long as nobody comes to them from outside; so the directories above
//! them are closed, whatever the process's umask is, and closed again when somebody opened them.

use std::fs::{self, DirBuilder};
use std::os::unix::fs::{DirBuilderExt as _, PermissionsExt as _};
use std::path::Path;

use crate::{StoreError, io_error};

/// Makes a directory, with those above it, when it is not there, and sees to it that only its owner can enter it.
///
/// # Errors
/// When the disk refuses, or it belongs to somebody else who lets others in.
pub fn directory(path: &Path) -> Result<(), StoreError> {
    let made = DirBuilder::new().recursive(true).mode(0o700).create(path);
    made.map_err(io_error("make", path))?;
    let mode = fs::metadata(path).map_err(io_error("look at", path))?.permissions().mode();
    if mode & 0o077 != 0 {
        let closed = fs::set_permissions(path, fs::Permissions::from_mode(mode & 0o700));
        closed.map_err(io_error("keep others out of", path))?;
    }
    // A list that the directory above gives to all that is made in it would let others in, and show in every layer.
    crate::xattrs::drop_default_list(path).map_err(io_error("keep others out of", path))
}
