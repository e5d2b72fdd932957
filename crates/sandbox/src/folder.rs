//! Folders whose owner outside is not the account's number.
//!
//! For an ordinary user the map of ids already makes the account them. Root has no such map: there, a folder is mounted
//! with its owner mapped to the account (mount_setattr(2), `MOUNT_ATTR_IDMAP`), so that what is made inside belongs to
//! the folder's owner outside.

use std::fs::{self, File};
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

use cavrith_core::account::ACCOUNT_ID;
use rustix::fs::{CWD, Mode, OFlags, ResolveFlags};
use rustix::mount::{OpenTreeFlags, open_tree};

use crate::raw::Raw;
use crate::{Identity, SandboxError, outside};

/// A mount of `folder` in which its owner is the account; `None` when it needs none.
///
/// # Errors
/// When this kernel or the folder's filesystem cannot do it.
pub(crate) fn mapped(folder: &Path, identity: Identity) -> Result<Option<OwnedFd>, SandboxError> {
    let looking = || format!("look at the folder {}", folder.display());
    // The path has no links: what it led to when it was allowed is what it leads to now.
    let resolve = ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    let itself =
        rustix::fs::openat2(CWD, folder, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty(), resolve);
    let itself = File::from(itself.map_err(|error| outside(looking())(error.into()))?);
    let meta = itself.metadata().map_err(outside(looking()))?;
    if identity != Identity::Root || (meta.uid(), meta.gid()) == (ACCOUNT_ID, ACCOUNT_ID) {
        return Ok(None);
    }
    let namespace = id_namespace(meta.uid(), meta.gid())?;
    let doing = || format!("mount the folder {} with its owner as the account", folder.display());
    let whole = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC | OpenTreeFlags::AT_EMPTY_PATH;
    // With what is mounted in it where that can be mapped too, else alone.
    for flags in [whole | OpenTreeFlags::AT_RECURSIVE, whole] {
        let mount = open_tree(&itself, "", flags).map_err(|error| outside(doing())(error.into()))?;
        match map_owner(&mount, &namespace, flags.contains(OpenTreeFlags::AT_RECURSIVE)) {
            Ok(()) => return Ok(Some(mount)),
            Err(error) if !flags.contains(OpenTreeFlags::AT_RECURSIVE) => {
                return Err(outside(doing())(error));
            }
            Err(_) => {}
        }
    }
    Ok(None)
}

/// A user namespace in which the folder's owner is the account; it only carries the map.
fn id_namespace(uid: u32, gid: u32) -> Result<File, SandboxError> {
    let held = Raw::hold_ids()?;
    let pid = held.pid();
    for (file, own) in [("uid_map", uid), ("gid_map", gid)] {
        fs::write(format!("/proc/{pid}/{file}"), format!("{own} {ACCOUNT_ID} 1\n"))
            .map_err(outside("map a folder's owner"))?;
    }
    File::open(format!("/proc/{pid}/ns/user")).map_err(outside("open a map of ids"))
}

fn map_owner(mount: &OwnedFd, namespace: &File, recursive: bool) -> io::Result<()> {
    crate::attributes::set(mount, libc::MOUNT_ATTR_IDMAP, Some(namespace), recursive)
}
