//! Removing directories with all they hold, and nothing else.

use std::ffi::CString;
use std::io;
use std::os::fd::{AsFd, AsRawFd as _, OwnedFd};
use std::path::Path;

use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags, ResolveFlags};
use rustix::io::Errno;

use crate::{StoreError, io_error};

/// Removes a directory with all it holds; one that is not there is fine.
///
/// It goes from directory to directory by descriptors, through no link and into no mount, whatever their names: what is
/// mounted in the directory keeps its content, and the directory stays. So anyone who puts a link or a mount in its way
/// while it is at work gains nothing.
///
/// # Errors
/// When something is mounted in it, or the disk refuses.
pub fn remove(dir: &Path) -> Result<(), StoreError> {
    let parent = dir.parent().filter(|parent| *parent != Path::new("")).unwrap_or(Path::new("."));
    let attempt = || -> io::Result<()> {
        let Some(name) = dir.file_name() else { return Err(io::ErrorKind::InvalidInput.into()) };
        let name = CString::new(name.as_encoded_bytes())?;
        let parent = match rustix::fs::open(parent, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty()) {
            Err(Errno::NOENT) => return Ok(()),
            other => other?,
        };
        match remove_in(&parent, &name, true) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            other => other,
        }
    };
    attempt().map_err(io_error("remove", dir))
}

/// Removes a directory, or whatever else has the name.
fn remove_in(parent: &impl AsFd, name: &CString, directory: bool) -> io::Result<()> {
    if !directory {
        match rustix::fs::unlinkat(parent, name, AtFlags::empty()) {
            // It became one meanwhile, or its kind was not told.
            Err(Errno::ISDIR | Errno::PERM) => {}
            other => return Ok(other?),
        }
    }
    let dir = match enter(parent, name) {
        // Somebody took its rights away; it is ours all the same.
        Err(Errno::ACCESS) => {
            let path = OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            let itself = rustix::fs::openat(parent, name, path, Mode::empty())?;
            rustix::fs::chmod(format!("/proc/self/fd/{}", itself.as_raw_fd()), Mode::RWXU)?;
            enter(parent, name)?
        }
        Err(Errno::XDEV) => return Err(io::Error::new(io::ErrorKind::ResourceBusy, "something is mounted in it")),
        Err(Errno::NOTDIR | Errno::LOOP) => return Ok(rustix::fs::unlinkat(parent, name, AtFlags::empty())?),
        other => other?,
    };
    // A directory that may not be written to; it is ours all the same, and if it is not, the removals say so.
    if rustix::fs::fstat(&dir)?.st_mode & 0o300 != 0o300 {
        let _ = rustix::fs::fchmod(&dir, Mode::RWXU);
    }
    let mut entries = Vec::new();
    for entry in Dir::read_from(&dir)? {
        let entry = entry?;
        if !matches!(entry.file_name().to_bytes(), b"." | b"..") {
            entries.push((entry.file_name().to_owned(), entry.file_type() == FileType::Directory));
        }
    }
    let mut first = Ok(());
    for (name, directory) in entries {
        // What can be removed is, so that the next attempt has less to do.
        first = first.and(remove_in(&dir, &name, directory));
    }
    first?;
    Ok(rustix::fs::unlinkat(parent, name, AtFlags::REMOVEDIR)?)
}

/// Opens a directory that is not a link and no mount.
fn enter(parent: &impl AsFd, name: &CString) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let resolve = ResolveFlags::NO_XDEV | ResolveFlags::NO_SYMLINKS | ResolveFlags::BENEATH;
    rustix::fs::openat2(parent, name, flags, Mode::empty(), resolve)
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::{PermissionsExt as _, symlink};

    use super::*;

    #[test]
    fn links_are_removed_and_what_they_lead_to_stays() {
        let dir = tempfile::tempdir().unwrap();
        let (outside, gone) = (dir.path().join("outside"), dir.path().join("gone"));
        fs::create_dir(&outside).unwrap();
        fs::write(outside.join("tide"), "low").unwrap();
        fs::create_dir_all(gone.join("a/b")).unwrap();
        symlink(&outside, gone.join("a/link")).unwrap();
        fs::write(gone.join("a/b/file"), "").unwrap();
        fs::set_permissions(gone.join("a/b"), fs::Permissions::from_mode(0o000)).unwrap();
        remove(&gone).unwrap();
        assert!(!gone.exists());
        assert_eq!(fs::read_to_string(outside.join("tide")).unwrap(), "low");
        remove(&gone).unwrap();
        // A link in the place of the directory is removed itself.
        symlink(&outside, &gone).unwrap();
        remove(&gone).unwrap();
        assert!(outside.join("tide").exists() && gone.symlink_metadata().is_err());
    }
}
