//! Folders whose owner outside is not the account's number.
//!
//! For an ordinary user the map of ids already makes the account them. Root has no such map: there, a folder is mounted
//! with its owner mapped to the account (mount_setattr(2), `MOUNT_ATTR_IDMAP`), so that what is made inside belongs to
//! the folder's owner outside. A map is one to one, so what others inside make, root among them, belongs outside to
//! numbers of a range that no account of the machine has, as it does to numbers of their range for an ordinary user.

use std::fs::{self, File};
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

use cavrith_core::account::ACCOUNT_ID;
use rustix::fs::{CWD, Mode, OFlags, ResolveFlags};
use rustix::mount::{OpenTreeFlags, open_tree};

use crate::parent::process::SandboxProcess;
use crate::{Identity, SandboxError, outside};

/// A mount of `folder` in which its owner is the account; `None` when it needs none.
///
/// # Errors
/// When this kernel or the folder's filesystem cannot do it.
pub(crate) fn mapped(folder: &Path, identity: Identity) -> Result<Option<OwnedFd>, SandboxError> {
    let emulation = || format!("look at the folder {}", folder.display());
    // The path has no links: what it led to when it was allowed is what it leads to now.
    let resolve = ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    let itself =
        rustix::fs::openat2(CWD, folder, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty(), resolve);
    let itself = File::from(itself.map_err(|error| outside(emulation())(error.into()))?);
    let meta = itself.metadata().map_err(outside(emulation()))?;
    if identity != Identity::Root {
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

/// The first number outside of those who are not the account inside: above what systemd gives to containers (its
/// documentation, "Users, Groups, UIDs and GIDs on systemd Systems").
const OTHERS: u32 = 0x7000_0000;
/// How many numbers there are inside.
const NUMBERS: u32 = 65_536;

/// A map for a folder whose owner is `own`: number outside, number inside, how many (user_namespaces(7)).
fn map_of(own: u32) -> String {
    let after = ACCOUNT_ID + 1;
    format!("{own} {ACCOUNT_ID} 1\n{OTHERS} 0 {ACCOUNT_ID}\n{} {after} {}\n", OTHERS + after, NUMBERS - after)
}

/// A user namespace in which the folder's owner is the account; it only carries the map.
fn id_namespace(uid: u32, gid: u32) -> Result<File, SandboxError> {
    let held = SandboxProcess::hold_ids()?;
    let pid = held.pid();
    for (file, own) in [("uid_map", uid), ("gid_map", gid)] {
        fs::write(format!("/proc/{pid}/{file}"), map_of(own)).map_err(outside("map a folder's owner"))?;
    }
    File::open(format!("/proc/{pid}/ns/user")).map_err(outside("open a map of ids"))
}

fn map_owner(mount: &OwnedFd, namespace: &File, recursive: bool) -> io::Result<()> {
    crate::host::attributes::set(mount, libc::MOUNT_ATTR_IDMAP, Some(namespace), recursive)
}
