//! Who files belong to, where there is only one owner to give.
//!
//! A user without subordinate ids owns everything that they make. The owner that a file has in its image is then
//! written beside it: in the attribute `user.cavrith.owner`, as `UID:GID`, on files and directories whose owner is not
//! root. overlayfs copies the attribute up with the file, a rename takes it along, and it goes with the file, so that
//! it is right wherever an owner would be. Links and pipes can have no such attribute; anyone who reads a layer knows
//! their owners from elsewhere.

use std::fmt;
use std::io;
use std::path::Path;

use cavrith_core::account::{OWNER_RECORD, owner_record, parse_owner_record};
use cavrith_core::path::RootPath;
use rustix::io::Errno;

use crate::xattrs;

/// User and group number.
pub type Owner = (u32, u32);

/// Where the owners of files on disk are.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Ownership {
    /// They are the files' own.
    #[default]
    Real,
    /// They are written beside; on disk everything belongs to the one user there is.
    Recorded,
}

/// How owners are read from disk.
#[derive(Clone, Copy)]
pub enum Owners<'a> {
    /// They are the files' own.
    Real,
    /// They are written beside.
    Recorded {
        /// Whose a file is that has no record and was not copied up from a lower layer.
        new: Owner,
        /// The owner of a link or pipe.
        known: &'a dyn Fn(&RootPath) -> Option<Owner>,
    },
}

impl fmt::Debug for Owners<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Real => f.write_str("Real"),
            Self::Recorded { new, .. } => write!(f, "Recorded {{ new: {new:?} }}"),
        }
    }
}

/// The owner that is written beside a file.
///
/// # Errors
/// When attributes cannot be read, or the record is none.
pub fn read(path: &Path) -> io::Result<Option<Owner>> {
    let mut value = [0; 32];
    match rustix::fs::lgetxattr(path, OWNER_RECORD, &mut value[..]) {
        Ok(length) => parse_owner_record(&value[..length])
            .map(Some)
            .ok_or_else(|| io::Error::other("its recorded owner is damaged")),
        Err(Errno::NODATA | Errno::NOTSUP) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

/// Writes the owner of a file or directory beside it. Root needs no record; an earlier one goes.
///
/// # Errors
/// When the disk refuses.
pub fn write(path: &Path, owner: Owner) -> io::Result<()> {
    if owner == (0, 0) {
        return match rustix::fs::lremovexattr(path, OWNER_RECORD) {
            Ok(()) | Err(Errno::NODATA | Errno::NOTSUP) => Ok(()),
            Err(error) => Err(error.into()),
        };
    }
    write_always(path, owner)
}

/// As [`write()`], of root, too: where a file without a record would be taken for one that the account made.
pub(crate) fn write_always(path: &Path, owner: Owner) -> io::Result<()> {
    xattrs::write(path, OWNER_RECORD.as_bytes(), owner_record(owner).as_bytes())
}
