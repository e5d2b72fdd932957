//! What an entry that was just made is given: owner, rights, attributes, time; and the copying of its content.

use std::fs::{self, File, Permissions};
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use rustix::fs::{AtFlags, CWD, Timespec, Timestamps};

use cavrith_core::tree::Meta;

use crate::owners::{self, Owner, Ownership};
use crate::{StoreError, io_error, xattrs};

/// Owner, rights, attributes and time of entries.
#[derive(Debug, Clone, Copy)]
pub(crate) struct MetadataWriter {
    pub ownership: Ownership,
    pub creator: Owner,
    pub epoch: u64,
}

impl MetadataWriter {
    /// Owner first: changing it clears set-uid bits.
    pub(crate) fn apply_metadata(&self, at: &Path, meta: &Meta, handle: Handle<'_>) -> Result<(), StoreError> {
        let owner = (meta.uid, meta.gid);
        match (self.ownership, &handle) {
            (Ownership::Real, _) if owner != self.creator => {
                std::os::unix::fs::lchown(at, Some(meta.uid), Some(meta.gid))
                    .map_err(io_error("change the owner of", at))?;
            }
            // Links and pipes have their owners in the manifest only.
            (Ownership::Recorded, Handle::File(_) | Handle::Path) if owner != (0, 0) && !is_fifo(at) => {
                owners::write(at, owner).map_err(io_error("record the owner of", at))?;
            }
            _ => {}
        }
        let permissions = Permissions::from_mode(u32::from(meta.mode));
        match handle {
            Handle::File(file) => file.set_permissions(permissions),
            Handle::Path => fs::set_permissions(at, permissions),
            // A link has no rights of its own.
            Handle::Link => Ok(()),
        }
        .map_err(io_error("change the rights of", at))?;
        for (name, value) in &meta.xattrs {
            xattrs::write(at, name, value).map_err(io_error("set an attribute of", at))?;
        }
        set_time(at, self.epoch)
    }
}

fn is_fifo(at: &Path) -> bool {
    use std::os::unix::fs::FileTypeExt as _;
    at.symlink_metadata().is_ok_and(|meta| meta.file_type().is_fifo())
}

/// How an entry that was just made is reached.
pub(crate) enum Handle<'a> {
    File(&'a File),
    Path,
    Link,
}

/// Sets access and modification time of an entry, itself and not what it points to.
pub(crate) fn set_time(at: &Path, epoch: u64) -> Result<(), StoreError> {
    let time = Timespec { tv_sec: epoch as i64, tv_nsec: 0 };
    let times = Timestamps { last_access: time, last_modification: time };
    rustix::fs::utimensat(CWD, at, &times, AtFlags::SYMLINK_NOFOLLOW)
        .map_err(|error| io_error("set the time of", at)(error.into()))
}
