//! The one way a file gets its content, wherever it lies: in the store, in a project, in a workspace, in `/etc`.
//!
//! The content goes into a file that nobody else can have under way: without a name where the filesystem has that, else
//! under a random name that is made exclusively. It is synced, given its name by a rename, and the directory is synced.
//! After a crash at any moment the name holds either the old content or the new one. What another process left beside
//! the file is never examined.

use std::ffi::OsString;
use std::fs::{self, File};
use std::hash::{BuildHasher as _, RandomState};
use std::io::{self, Write};
use std::os::fd::AsRawFd as _;
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, Mode, OFlags};

use crate::{StoreError, faults, io_error};

/// How often a random name is tried, each of which somebody else would have to have hit on.
const TRIES: u32 = 16;

/// Writes a file whole. It keeps the rights of the file that was there, and where the name is a link, what it leads to
/// is written.
///
/// # Errors
/// When the disk refuses; the old content is then untouched.
pub fn write(path: &Path, bytes: &[u8]) -> Result<(), StoreError> {
    let attempt = || {
        let mut file = NewFile::beside(path, 0o666)?;
        file.write_all(bytes)?;
        file.put_in_place()
    };
    attempt().map_err(io_error("write", path))
}

/// As [`write()`], of a file in a folder that others can write to, as everybody inside can to a project's: a link in
/// its place is never followed, whenever it came there.
///
/// # Errors
/// As [`write()`], and when a link is in its place.
pub fn write_unlinked(path: &Path, bytes: &[u8]) -> Result<(), StoreError> {
    let attempt = || {
        if fs::symlink_metadata(path).is_ok_and(|meta| meta.is_symlink()) {
            let why = "it is a link, and none is followed in a folder that others write to; put the file itself there";
            return Err(io::Error::new(io::ErrorKind::InvalidInput, why));
        }
        // What takes its place from here on is replaced by the rename, and not written through.
        let mut file = NewFile::at(path.to_owned(), 0o666)?;
        file.write_all(bytes)?;
        file.put_in_place()
    };
    attempt().map_err(io_error("write", path))
}

/// Writes a file that must not be there yet: whatever somebody else lays in its place meanwhile stays.
///
/// # Errors
/// Of the kind [`io::ErrorKind::AlreadyExists`] when something is there, and when the disk refuses.
pub fn write_new(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut file = NewFile::at(path.to_owned(), 0o666)?;
    file.write_all(bytes)?;
    file.put_where_nothing_is()
}

/// A file that is being written, and is not there yet. One that is dropped before it is put in place leaves nothing.
#[derive(Debug)]
pub struct NewFile {
    file: File,
    /// The name that it has meanwhile, when it has one.
    aside: Option<PathBuf>,
    place: PathBuf,
}

impl NewFile {
    /// Begins the file that is to be at `path`, with these rights (less those that the process's umask takes) when
    /// there is none yet.
    ///
    /// # Errors
    /// When the directory cannot be written to, or something that is not a file is in the place.
    pub fn beside(path: &Path, mode: u32) -> io::Result<Self> {
        Self::at(real_place(path)?, mode)
    }

    fn at(place: PathBuf, mode: u32) -> io::Result<Self> {
        let before = match fs::symlink_metadata(&place) {
            Ok(meta) if meta.is_file() => Some(meta.permissions().mode() & 0o777),
            Ok(_) => return Err(io::Error::new(io::ErrorKind::InvalidInput, "something that is not a file is there")),
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            Err(error) => return Err(error),
        };
        let (file, aside) = match nameless(&place, mode) {
            Ok(file) => (file, None),
            // Not every filesystem has files without a name.
            Err(_) => {
                let (aside, file) = with_random_name(&place, |name| {
                    File::options().write(true).create_new(true).mode(mode).open(name)
                })?;
                (file, Some(aside))
            }
        };
        let new = Self { file, aside, place };
        if let Some(mode) = before {
            new.file.set_permissions(fs::Permissions::from_mode(mode))?;
        }
        Ok(new)
    }

    /// The file, to be written to.
    pub fn file(&self) -> &File {
        &self.file
    }

    /// Gives it its name in one step, unless something has that.
    fn put_where_nothing_is(self) -> io::Result<()> {
        faults::before("sync")?;
        self.file.sync_all()?;
        faults::before("link")?;
        match &self.aside {
            // The other name goes with the value.
            Some(aside) => fs::hard_link(aside, &self.place)?,
            None => {
                let by_descriptor = format!("/proc/self/fd/{}", self.file.as_raw_fd());
                rustix::fs::linkat(CWD, by_descriptor.as_str(), CWD, &self.place, AtFlags::SYMLINK_FOLLOW)?;
            }
        }
        sync_parent(&self.place)
    }

    /// Gives it its name, with everything that was written to it, in one step.
    ///
    /// # Errors
    /// When the disk refuses; what was there before is then untouched.
    pub fn put_in_place(mut self) -> io::Result<()> {
        faults::before("sync")?;
        self.file.sync_all()?;
        let aside = match self.aside.take() {
            Some(aside) => aside,
            None => {
                let by_descriptor = format!("/proc/self/fd/{}", self.file.as_raw_fd());
                faults::before("link")?;
                // Where nothing is yet, its name can be its first one.
                match rustix::fs::linkat(CWD, by_descriptor.as_str(), CWD, &self.place, AtFlags::SYMLINK_FOLLOW) {
                    Ok(()) => return sync_parent(&self.place),
                    Err(rustix::io::Errno::EXIST) => {}
                    Err(error) => return Err(error.into()),
                }
                let link = |name: &Path| {
                    Ok(rustix::fs::linkat(CWD, by_descriptor.as_str(), CWD, name, AtFlags::SYMLINK_FOLLOW)?)
                };
                with_random_name(&self.place, link)?.0
            }
        };
        self.aside = Some(aside.clone());
        faults::before("rename")?;
        fs::rename(&aside, &self.place)?;
        self.aside = None;
        sync_parent(&self.place)
    }
}

/// Brings a name to the disk, by the directory that it stands in.
pub(crate) fn sync_parent(place: &Path) -> io::Result<()> {
    let directory = File::open(parent(place))?;
    faults::before("sync the directory")?;
    // Not every filesystem syncs directories; on those that do not, a rename is as safe as it gets.
    let _ = directory.sync_all();
    Ok(())
}

impl Write for NewFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let bytes = &bytes[..faults::before_write(bytes.len())?];
        self.file.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl Drop for NewFile {
    fn drop(&mut self) {
        if let Some(aside) = &self.aside {
            let _ = fs::remove_file(aside);
        }
    }
}

/// What a name that may be a link leads to; the last part need not be there.
fn real_place(path: &Path) -> io::Result<PathBuf> {
    if !fs::symlink_metadata(path).is_ok_and(|meta| meta.is_symlink()) {
        return Ok(path.to_owned());
    }
    match path.canonicalize() {
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            Err(io::Error::new(error.kind(), "it is a link that leads nowhere"))
        }
        other => other,
    }
}

fn parent(path: &Path) -> &Path {
    path.parent().filter(|parent| *parent != Path::new("")).unwrap_or(Path::new("."))
}

/// Does something with a random name beside a file until it is one that nothing has.
fn with_random_name<T>(place: &Path, make: impl Fn(&Path) -> io::Result<T>) -> io::Result<(PathBuf, T)> {
    let name = place.file_name().unwrap_or_default();
    let mut last = io::Error::from(io::ErrorKind::AlreadyExists);
    for _ in 0..TRIES {
        let mut random = OsString::from(".");
        random.push(name);
        random.push(format!(".{:016x}.new", RandomState::new().hash_one(std::process::id())));
        let aside = place.with_file_name(random);
        match make(&aside) {
            Ok(made) => return Ok((aside, made)),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => last = error,
            Err(error) => return Err(error),
        }
    }
    Err(last)
}

fn nameless(path: &Path, mode: u32) -> io::Result<File> {
    let flags = OFlags::TMPFILE | OFlags::WRONLY | OFlags::CLOEXEC;
    Ok(rustix::fs::open(parent(path), flags, Mode::from_raw_mode(mode))?.into())
}

/// Brings everything written to the filesystem of `path` to the disk.
pub(crate) fn sync_filesystem(path: &Path) -> Result<(), StoreError> {
    let dir = File::open(path).map_err(io_error("open", path))?;
    faults::before("sync").map_err(io_error("sync", path))?;
    rustix::fs::syncfs(&dir).map_err(|error| io_error("sync", path)(error.into()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn where_others_write_no_link_is_followed_whenever_it_came() {
        let dir = tempfile::tempdir().unwrap();
        let (victim, name) = (dir.path().join("victim"), dir.path().join("name"));
        fs::write(&victim, "old").unwrap();
        std::os::unix::fs::symlink("victim", &name).unwrap();
        assert!(write_unlinked(&name, b"new").unwrap_err().to_string().contains("it is a link"));
        // One that comes between looking and writing is replaced.
        fs::remove_file(&name).unwrap();
        let mut file = NewFile::at(name.clone(), 0o666).unwrap();
        file.write_all(b"new").unwrap();
        std::os::unix::fs::symlink("victim", &name).unwrap();
        file.put_in_place().unwrap();
        assert_eq!(
            (fs::read_to_string(&victim).unwrap(), fs::read_to_string(&name).unwrap()),
            ("old".into(), "new".into())
        );
        assert!(!name.symlink_metadata().unwrap().is_symlink());
    }

    #[test]
    fn a_file_keeps_its_rights_and_a_link_leads_to_the_file_that_is_written() {
        let dir = tempfile::tempdir().unwrap();
        let (real, link) = (dir.path().join("real"), dir.path().join("link"));
        fs::write(&real, "old").unwrap();
        fs::set_permissions(&real, fs::Permissions::from_mode(0o640)).unwrap();
        std::os::unix::fs::symlink("real", &link).unwrap();
        write(&link, b"new").unwrap();
        assert_eq!(fs::read_to_string(&real).unwrap(), "new");
        assert_eq!(fs::metadata(&real).unwrap().permissions().mode() & 0o7777, 0o640);
        assert!(link.symlink_metadata().unwrap().is_symlink());
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 2);
    }

    #[test]
    fn what_is_not_put_in_place_leaves_nothing_and_no_directory_is_replaced() {
        let dir = tempfile::tempdir().unwrap();
        let mut new = NewFile::beside(&dir.path().join("backup"), 0o600).unwrap();
        new.write_all(b"half").unwrap();
        drop(new);
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 0);
        fs::create_dir(dir.path().join("there")).unwrap();
        assert!(write(&dir.path().join("there"), b"x").is_err());
        let mut private = NewFile::beside(&dir.path().join("backup"), 0o600).unwrap();
        private.write_all(b"whole").unwrap();
        private.put_in_place().unwrap();
        let mode = fs::metadata(dir.path().join("backup")).unwrap().permissions().mode();
        assert_eq!(mode & 0o7777, 0o600);
    }
}
