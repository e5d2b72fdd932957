//! Attributes of mounts (mount_setattr(2)), for which rustix and nix have no wrapper.

use std::fs::File;
use std::io;
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};

/// Sets attributes of a mount, and of those in it when it is `recursive`; `ids` is the user namespace of an id map,
/// when one is set.
pub(crate) fn set(mount: &OwnedFd, attributes: u64, ids: Option<&File>, recursive: bool) -> io::Result<()> {
    let attributes = libc::mount_attr {
        attr_set: attributes,
        attr_clr: 0,
        propagation: 0,
        userns_fd: ids.map_or(0, |ids| ids.as_raw_fd() as u64),
    };
    let flags = libc::AT_EMPTY_PATH | if recursive { libc::AT_RECURSIVE } else { 0 };
    // SAFETY: mount_setattr reads a path (empty, as AT_EMPTY_PATH says) and one mount_attr of the size given; both live
    // until the call returns.
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

/// Makes a mount read-only, without touching what else holds for it.
pub(crate) fn read_only(mount: &OwnedFd) -> io::Result<()> {
    set(mount, libc::MOUNT_ATTR_RDONLY, None, false)
}
