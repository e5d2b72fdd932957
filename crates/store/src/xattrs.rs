//! Extended attributes of files on disk.

use std::collections::BTreeMap;
use std::io;
use std::path::Path;

use rustix::fs::XattrFlags;
use rustix::io::Errno;

/// What overlayfs keeps for itself in the upper directory; never part of a tree.
const OVERLAY: &[u8] = b"user.overlay.";
/// The mark of an opaque directory (kernel documentation, filesystems/overlayfs, with the mount option userxattr).
pub(crate) const OPAQUE: &[u8] = b"user.overlay.opaque";

/// What Cavrith keeps for itself beside files; see [`crate::owners`].
const OWN: &[u8] = b"user.cavrith.";
/// The mark of an empty file that stands for a deletion, where the filesystem takes no device that would.
const GONE: &[u8] = b"user.cavrith.gone";

/// Whether an empty file stands for a deletion.
pub(crate) fn is_gone(path: &Path) -> io::Result<bool> {
    match rustix::fs::lgetxattr(path, GONE, &mut [0; 4][..]) {
        Ok(_) => Ok(true),
        Err(Errno::NODATA | Errno::NOTSUP) => Ok(false),
        Err(error) => Err(error.into()),
    }
}

/// Makes an empty file that stands for a deletion.
pub(crate) fn make_gone(path: &Path) -> io::Result<()> {
    std::fs::File::create_new(path)?;
    write(path, GONE, b"y")
}

/// The mark of a file that was copied up from a lower layer.
const ORIGIN: &[u8] = b"user.overlay.origin";

/// Whether a file of an upper directory was copied up from a lower layer.
pub(crate) fn is_copied_up(path: &Path) -> io::Result<bool> {
    match rustix::fs::lgetxattr(path, ORIGIN, &mut [0; 0][..]) {
        Ok(_) | Err(Errno::RANGE) => Ok(true),
        Err(Errno::NODATA | Errno::NOTSUP) => Ok(false),
        Err(error) => Err(error.into()),
    }
}

/// Whether a name may be carried by a layer: what programs set for themselves, and capabilities of files.
pub(crate) fn is_kept(name: &[u8]) -> bool {
    let ours = name.starts_with(OVERLAY) || name.starts_with(OWN);
    (name.starts_with(b"user.") && !ours) || name == b"security.capability"
}

/// Access control lists (acl(5)). No image has them: their numbers mean something only where all owners are.
const ACCESS_LISTS: &[u8] = b"system.posix_acl_";

/// Whether a file of a layer that has this attribute is another file for anyone who sees it: everything but what the
/// system itself puts on files (security modules), and the record of owners where there is one.
pub(crate) fn is_shown(name: &[u8], recorded: bool) -> bool {
    let record = recorded && name == cavrith_core::account::OWNER_RECORD.as_bytes();
    (name.starts_with(b"user.") || name.starts_with(ACCESS_LISTS) || name == CAPABILITY) && !record
}

/// The attributes of a file that `is_wanted`, without following a link.
pub(crate) fn read(path: &Path, is_wanted: impl Fn(&[u8]) -> bool) -> io::Result<BTreeMap<Vec<u8>, Vec<u8>>> {
    let mut found = BTreeMap::new();
    for name in names(path)? {
        if is_wanted(&name) {
            let mut value = vec![0; 64 * 1024];
            let length = rustix::fs::lgetxattr(path, name.as_slice(), &mut value[..])?;
            value.truncate(length);
            if name == CAPABILITY {
                value = plain_capability(value);
            }
            found.insert(name, value);
        }
    }
    Ok(found)
}

/// Capabilities of a file.
const CAPABILITY: &[u8] = b"security.capability";

/// Capabilities in the form that names no user namespace. One that was set in a namespace also says whose root it is
/// for (linux/capability.h: `struct vfs_ns_cap_data`, revision 3), which is another number for every user; the layer's
/// own root is meant by all of them.
fn plain_capability(mut value: Vec<u8>) -> Vec<u8> {
    if value.len() == 24 && value[3] == 3 {
        value.truncate(20);
        value[3] = 2;
    }
    value
}

fn names(path: &Path) -> io::Result<Vec<Vec<u8>>> {
    let mut list = vec![0; 64 * 1024];
    let length = match rustix::fs::llistxattr(path, &mut list[..]) {
        Ok(length) => length,
        Err(Errno::NOTSUP) => return Ok(Vec::new()),
        Err(error) => return Err(error.into()),
    };
    list.truncate(length);
    Ok(list.split(|byte| *byte == 0).filter(|name| !name.is_empty()).map(<[u8]>::to_vec).collect())
}

pub(crate) fn write(path: &Path, name: &[u8], value: &[u8]) -> io::Result<()> {
    Ok(rustix::fs::lsetxattr(path, name, value, XattrFlags::empty())?)
}

/// Gives a directory the attributes of another one, and removes what that one lacks. One that is opaque stays so.
pub(crate) fn copy(from: &Path, to: &Path) -> io::Result<()> {
    let is_copied = |name: &[u8]| (name.starts_with(b"user.") && name != OPAQUE) || name == CAPABILITY;
    let (wanted, there) = (read(from, is_copied)?, read(to, is_copied)?);
    there.keys().filter(|name| !wanted.contains_key(*name)).try_for_each(|name| remove(to, name))?;
    wanted.iter().filter(|(name, value)| there.get(*name) != Some(*value)).try_for_each(|(n, v)| write(to, n, v))
}

/// Whether a directory of an upper directory is opaque.
pub(crate) fn is_opaque(path: &Path) -> io::Result<bool> {
    let mut value = [0; 2];
    match rustix::fs::lgetxattr(path, OPAQUE, &mut value[..]) {
        Ok(length) => Ok(&value[..length] == b"y"),
        Err(Errno::NODATA | Errno::NOTSUP | Errno::RANGE) => Ok(false),
        Err(error) => Err(error.into()),
    }
}

/// Marks a directory as opaque.
pub(crate) fn make_opaque(path: &Path) -> io::Result<()> {
    write(path, OPAQUE, b"y")
}

/// Takes the mark of an opaque directory away.
pub(crate) fn make_transparent(path: &Path) -> io::Result<()> {
    remove(path, OPAQUE)
}

/// Removes what overlayfs left on a file, access control lists, and marks of our own that somebody else made; with
/// `recorded`, its owner is recorded beside it and stays so.
pub(crate) fn strip(path: &Path, recorded: bool) -> io::Result<()> {
    let is_record = |name: &[u8]| recorded && name == cavrith_core::account::OWNER_RECORD.as_bytes();
    let goes = |name: &[u8]| [OVERLAY, OWN, ACCESS_LISTS].iter().any(|begin| name.starts_with(begin));
    let found = names(path)?;
    found.iter().filter(|name| goes(name) && !is_record(name)).try_for_each(|name| remove(path, name))
}

/// Keeps a directory from giving an access control list to what is made in it.
pub(crate) fn drop_default_list(path: &Path) -> io::Result<()> {
    remove(path, b"system.posix_acl_default")
}

fn remove(path: &Path, name: &[u8]) -> io::Result<()> {
    match rustix::fs::lremovexattr(path, name) {
        Ok(()) | Err(Errno::NODATA | Errno::NOTSUP) => Ok(()),
        Err(error) => Err(error.into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn capabilities_are_the_same_whoever_set_them() {
        let plain = [1, 0, 0, 2, 0, 32, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0].to_vec();
        let mut of_a_namespace = plain.clone();
        of_a_namespace[3] = 3;
        of_a_namespace.extend(100_000u32.to_le_bytes());
        assert_eq!(plain_capability(of_a_namespace), plain);
        assert_eq!(plain_capability(plain.clone()), plain);
    }
}
