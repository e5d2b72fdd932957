//! Folders whose owner outside is not the account's number.
//!
//! For an ordinary user the map of ids already makes the account them. Root has no such map: there, a folder is mounted
//! with its owner mapped to the account (mount_setattr(2), `MOUNT_ATTR_IDMAP`), so that what is made inside belongs to the
//! folder's owner outside.

use std::fs::{self, File};
use std::io;
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

use cavrith_core::account::ACCOUNT_ID;
use rustix::fs::CWD;
use rustix::mount::{OpenTreeFlags, open_tree};

use crate::raw::Raw;
use crate::{Identity, SandboxError, outside};

/// A mount of `folder` in which its owner is the account; `None` when it needs none.
///
/// # Errors
/// When this kernel or the folder's filesystem cannot do it.
pub(crate) fn mapped(folder: &Path, identity: Identity) -> Result<Option<OwnedFd>, SandboxError> {
    let meta = fs::metadata(folder).map_err(outside(format!("look at the folder {}", folder.display())))?;
    if identity != Identity::Root || (meta.uid(), meta.gid()) == (ACCOUNT_ID, ACCOUNT_ID) {
        return Ok(None);
    }
    let namespace = id_namespace(meta.uid(), meta.gid())?;
    let doing = || format!("mount the folder {} with its owner as the account", folder.display());
    let whole = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC;
    // With what is mounted in it where that can be mapped too, else alone.
    for flags in [whole | OpenTreeFlags::AT_RECURSIVE, whole] {
        let mount = open_tree(CWD, folder, flags).map_err(|error| outside(doing())(error.into()))?;
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
    let attributes = libc::mount_attr {
        attr_set: libc::MOUNT_ATTR_IDMAP,
        attr_clr: 0,
        propagation: 0,
        userns_fd: namespace.as_raw_fd() as u64,
    };
    let flags = libc::AT_EMPTY_PATH | if recursive { libc::AT_RECURSIVE } else { 0 };
    // SAFETY: mount_setattr reads a path (empty, as AT_EMPTY_PATH says) and one mount_attr of the size given; both live
    // until the call returns. rustix and nix have no wrapper for it.
    let done = unsafe {
        libc::syscall(
            libc::SYS_mount_setattr,
            mount.as_fd().as_raw_fd(),
            c"".as_ptr(),
            flags,
            &attributes,
            size_of::<libc::mount_attr>(),
        )
    };
    if done < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}
