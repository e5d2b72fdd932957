//! Layers laid over each other by copying, where the kernel has no overlay to offer (an old kernel, a filesystem that
//! cannot be an upper directory, such as another overlay).
//!
//! It takes as long, and as much room, as all files take; what comes out is the same.

use std::fs;
use std::io;
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, FileType, Mode, Timespec, Timestamps, XattrFlags};
use rustix::io::Errno;

/// The file in a bench that says that its `merged` is a copy and not a mount.
pub const MARK: &str = "copied";
/// The mark of an opaque directory (kernel documentation, filesystems/overlayfs, with the mount option userxattr).
const OPAQUE: &str = "user.overlay.opaque";

/// The store's own mark of a deletion, on an empty file.
const GONE: &str = "user.cavrith.gone";

/// Copies layers, the lowest first, into an empty directory.
pub(crate) fn lay(layers: &[PathBuf], to: &Path) -> io::Result<()> {
    for layer in layers {
        directory(layer, to)?;
    }
    Ok(())
}

/// Lays those directories of layers that are missing in a copy, of those that another directory has.
pub(crate) fn lay_missing(layers: &[PathBuf], wanted: &Path, to: &Path) -> io::Result<()> {
    for inner in fs::read_dir(wanted).map_err(naming(wanted))? {
        let inner = inner.map_err(naming(wanted))?;
        if !inner.file_type().map_err(naming(&inner.path()))?.is_dir() {
            continue;
        }
        let target = to.join(inner.file_name());
        let layers: Vec<PathBuf> = layers.iter().map(|layer| layer.join(inner.file_name())).collect();
        if fs::symlink_metadata(&target).is_ok() {
            lay_missing(&layers, &inner.path(), &target)?;
            continue;
        }
        fs::create_dir(&target).map_err(naming(&target))?;
        // Each of these lies beneath directories that were walked down, so none was reached through a link.
        let there = layers.iter().filter(|layer| fs::symlink_metadata(layer).is_ok_and(|meta| meta.is_dir()));
        there.into_iter().try_for_each(|layer| directory(layer, &target))?;
    }
    Ok(())
}

/// Moves what lies in a directory over what lies in another one, of the same filesystem. Names of one file stay names
/// of one file.
pub(crate) fn move_over(from: &Path, to: &Path) -> io::Result<()> {
    let meta = fs::symlink_metadata(from).map_err(naming(from))?;
    for inner in fs::read_dir(from).map_err(naming(from))? {
        let inner = inner.map_err(naming(from))?;
        let (path, target) = (inner.path(), to.join(inner.file_name()));
        let there = fs::symlink_metadata(&target).ok();
        let directory = inner.file_type().map_err(naming(&path))?.is_dir();
        match there {
            Some(there) if there.is_dir() && directory => {
                move_over(&path, &target)?;
                continue;
            }
            Some(there) if there.is_dir() => fs::remove_dir_all(&target).map_err(naming(&target))?,
            Some(_) => fs::remove_file(&target).map_err(naming(&target))?,
            None => {}
        }
        let meta = fs::symlink_metadata(&path).map_err(naming(&path))?;
        if meta.file_type().is_char_device() && meta.rdev() == 0 {
            // An overlay's mark of a deletion, which is done now.
            fs::remove_file(&path).map_err(naming(&path))?;
            continue;
        }
        fs::rename(&path, &target).map_err(naming(&target))?;
    }
    apply_metadata(from, to, &meta)
}

fn naming(path: &Path) -> impl FnOnce(io::Error) -> io::Error {
    let path = path.display().to_string();
    move |error| io::Error::new(error.kind(), format!("{path}: {error}"))
}

fn directory(from: &Path, to: &Path) -> io::Result<()> {
    let meta = fs::symlink_metadata(from).map_err(naming(from))?;
    if attribute(from, OPAQUE)?.is_some_and(|value| value == b"y") {
        empty(to)?;
    }
    for inner in fs::read_dir(from).map_err(naming(from))? {
        let inner = inner.map_err(naming(from))?;
        entry(&inner.path(), &to.join(inner.file_name()))?;
    }
    apply_metadata(from, to, &meta)
}

fn entry(from: &Path, to: &Path) -> io::Result<()> {
    let meta = fs::symlink_metadata(from).map_err(naming(from))?;
    let kind = meta.file_type();
    let there = fs::symlink_metadata(to).ok();
    if kind.is_dir() {
        if there.as_ref().is_some_and(|there| !there.is_dir()) {
            fs::remove_file(to).map_err(naming(to))?;
        }
        if there.is_none_or(|there| !there.is_dir()) {
            fs::create_dir(to).map_err(naming(to))?;
        }
        return directory(from, to);
    }
    match there {
        Some(there) if there.is_dir() => fs::remove_dir_all(to).map_err(naming(to))?,
        Some(_) => fs::remove_file(to).map_err(naming(to))?,
        None => {}
    }
    let empty = kind.is_file() && meta.len() == 0;
    if (kind.is_char_device() && meta.rdev() == 0) || (empty && attribute(from, GONE)?.is_some()) {
        // A deletion.
        return Ok(());
    }
    // Names of one file become files of their own, as they do in an overlay when one of them is written.
    if kind.is_symlink() {
        std::os::unix::fs::symlink(fs::read_link(from).map_err(naming(from))?, to).map_err(naming(to))?;
    } else if kind.is_fifo() {
        rustix::fs::mknodat(CWD, to, FileType::Fifo, Mode::from_raw_mode(0o600), 0)
            .map_err(|error| naming(to)(error.into()))?;
    } else if kind.is_file() {
        fs::copy(from, to).map_err(naming(to))?;
    } else {
        // A device: the inside's devices are the sandbox's own.
        return Ok(());
    }
    apply_metadata(from, to, &meta)
}

/// Removes all that is in a directory.
pub(crate) fn empty(directory: &Path) -> io::Result<()> {
    for entry in fs::read_dir(directory).map_err(naming(directory))? {
        let path = entry.map_err(naming(directory))?.path();
        let directory = fs::symlink_metadata(&path).map_err(naming(&path))?.is_dir();
        if directory { fs::remove_dir_all(&path) } else { fs::remove_file(&path) }.map_err(naming(&path))?;
    }
    Ok(())
}

fn attribute(path: &Path, name: &str) -> io::Result<Option<Vec<u8>>> {
    let mut value = vec![0; 64 * 1024];
    match rustix::fs::lgetxattr(path, name, &mut value[..]) {
        Ok(length) => {
            value.truncate(length);
            Ok(Some(value))
        }
        Err(Errno::NODATA | Errno::NOTSUP) => Ok(None),
        Err(error) => Err(naming(path)(error.into())),
    }
}

/// Gives a copy the owner, rights, attributes and times of what it is a copy of.
fn apply_metadata(from: &Path, to: &Path, meta: &fs::Metadata) -> io::Result<()> {
    let now = fs::symlink_metadata(to).map_err(naming(to))?;
    if (now.uid(), now.gid()) != (meta.uid(), meta.gid()) {
        std::os::unix::fs::lchown(to, Some(meta.uid()), Some(meta.gid())).map_err(naming(to))?;
    }
    if !meta.is_symlink() {
        fs::set_permissions(to, fs::Permissions::from_mode(meta.mode() & 0o7777)).map_err(naming(to))?;
    }
    let mut names = vec![0; 64 * 1024];
    let length = match rustix::fs::llistxattr(from, &mut names[..]) {
        Ok(length) => length,
        Err(Errno::NOTSUP) => 0,
        Err(error) => return Err(naming(from)(error.into())),
    };
    for name in names[..length].split(|byte| *byte == 0) {
        let kept =
            (name.starts_with(b"user.") && !name.starts_with(b"user.overlay.")) || name == b"security.capability";
        if let (true, Ok(name)) = (kept, std::str::from_utf8(name))
            && let Some(value) = attribute(from, name)?
        {
            rustix::fs::lsetxattr(to, name, &value, XattrFlags::empty()).map_err(|error| naming(to)(error.into()))?;
        }
    }
    let time = |seconds, nanoseconds| Timespec { tv_sec: seconds, tv_nsec: nanoseconds as _ };
    let times = Timestamps {
        last_access: time(meta.atime(), meta.atime_nsec()),
        last_modification: time(meta.mtime(), meta.mtime_nsec()),
    };
    rustix::fs::utimensat(CWD, to, &times, AtFlags::SYMLINK_NOFOLLOW).map_err(|error| naming(to)(error.into()))
}
