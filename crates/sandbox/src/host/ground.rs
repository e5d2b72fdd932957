//! A directory that a foreign archive is unpacked into: the one writer for all of them.
//!
//! Everything is found from the directory's own descriptor, name by name, following no link: so neither what the
//! archive brought, nor what was there, nor what somebody exchanges meanwhile leads anywhere else. Set-uid and set-gid
//! bits are never given. (openat2(2) does it in one call, but a workspace's filter does not let it through.)

use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, Read};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Component, Path, PathBuf};

use rustix::fs::{AtFlags, CWD, FileType, Gid, Mode, OFlags, RenameFlags, ResolveFlags, Timespec, Timestamps, Uid};
use rustix::io::Errno;

/// What an entry gets besides its content.
#[derive(Debug, Clone, Copy)]
pub struct Dress {
    /// Rights; those to become somebody else are left out.
    pub mode: u32,
    /// Owner and group; `None` for anyone who writes.
    pub owner: Option<(u32, u32)>,
    /// Seconds since 1970.
    pub modified: u64,
}

/// What an entry of an upper directory is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A directory.
    Directory,
    /// The mark that what lies beneath is gone (kernel documentation, filesystems/overlayfs).
    Whiteout,
    /// Anything else.
    Other,
}

/// A directory that is written into.
#[derive(Debug)]
pub struct Ground {
    root: OwnedFd,
}

impl AsFd for Ground {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.root.as_fd()
    }
}

impl Ground {
    /// Opens a directory.
    ///
    /// # Errors
    /// When it is none.
    pub fn open(dir: &Path) -> io::Result<Self> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        Ok(Self { root: rustix::fs::open(dir, flags, Mode::empty())? })
    }

    /// Makes a directory; one that is there is fine, unless it is a link. Its rights and owner come last, with
    /// [`Self::dress`], so that it can be filled.
    ///
    /// # Errors
    /// When the path leads elsewhere, or something else is there.
    pub fn directory(&self, path: &Path) -> io::Result<()> {
        let (above, name) = self.above(path)?;
        match rustix::fs::mkdirat(&above, name, Mode::RWXU) {
            Err(Errno::EXIST) => find(&above, name, OFlags::PATH | OFlags::DIRECTORY).map(drop),
            other => Ok(other?),
        }
    }

    /// Makes the directories that a path lies in, as far as they are not there, with these rights and this owner.
    ///
    /// # Errors
    /// As [`Self::directory`].
    pub fn make_way(&self, path: &Path, dress: &Dress) -> io::Result<()> {
        let mut above: Vec<&Path> = path.ancestors().skip(1).filter(|above| !above.as_os_str().is_empty()).collect();
        above.reverse();
        for directory in above {
            let (from, name) = self.above(directory)?;
            match rustix::fs::mkdirat(&from, name, Mode::RWXU) {
                Err(Errno::EXIST) => drop(
                    find(&from, name, OFlags::PATH | OFlags::DIRECTORY).map_err(|error| explained(directory, error))?,
                ),
                Err(error) => return Err(error.into()),
                Ok(()) => self.dress(directory, dress)?,
            }
        }
        Ok(())
    }

    /// Gives a directory that is there its rights, owner and time.
    ///
    /// # Errors
    /// When the path leads elsewhere, or is not a directory.
    pub fn dress(&self, path: &Path, dress: &Dress) -> io::Result<()> {
        let (above, name) = self.above(path)?;
        let dir = find(&above, name, OFlags::RDONLY | OFlags::DIRECTORY)?;
        put_on(&dir, dress, 0o1777)
    }

    /// Writes a file anew. What was there, if it is not a directory, is removed first and not written through.
    ///
    /// # Errors
    /// When the path leads elsewhere, or a directory is there.
    pub fn file(&self, path: &Path, content: &mut impl Read, dress: &Dress) -> io::Result<()> {
        let (above, name) = self.emptied(path)?;
        let flags = OFlags::CREATE | OFlags::EXCL | OFlags::WRONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let mut file = File::from(rustix::fs::openat(&above, name, flags, Mode::RUSR | Mode::WUSR)?);
        io::copy(content, &mut file)?;
        put_on(&file, dress, 0o777)
    }

    /// Makes a symbolic link, whatever it leads to: nothing here follows it.
    ///
    /// # Errors
    /// When the path leads elsewhere, or a directory is there.
    pub fn link(&self, path: &Path, target: &Path, dress: &Dress) -> io::Result<()> {
        let (above, name) = self.emptied(path)?;
        rustix::fs::symlinkat(target, &above, name)?;
        if let Some((user, group)) = dress.owner {
            let (user, group) = (Uid::from_raw(user), Gid::from_raw(group));
            rustix::fs::chownat(&above, name, Some(user), Some(group), AtFlags::SYMLINK_NOFOLLOW)?;
        }
        Ok(rustix::fs::utimensat(&above, name, &times(dress), AtFlags::SYMLINK_NOFOLLOW)?)
    }

    /// Removes a file or link, and the directories that it was the last in. What is not there is gone already.
    ///
    /// # Errors
    /// When the path leads elsewhere, or a directory is there.
    pub fn remove(&self, path: &Path) -> io::Result<()> {
        match self.emptied(path) {
            Ok(_) => {}
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => return Err(error),
        }
        for directory in path.ancestors().skip(1).filter(|above| !above.as_os_str().is_empty()) {
            let Ok((above, name)) = self.above(directory) else { continue };
            // One that has something else in it stays, and so do those above it.
            if let Err(Errno::NOTEMPTY | Errno::EXIST | Errno::NOTDIR) =
                rustix::fs::unlinkat(&above, name, AtFlags::REMOVEDIR)
            {
                break;
            }
        }
        Ok(())
    }

    /// Removes a file, link or mark, and nothing else.
    ///
    /// # Errors
    /// When the path leads elsewhere, or a directory is there.
    pub fn remove_only(&self, path: &Path) -> io::Result<()> {
        self.emptied(path).map(drop)
    }

    /// Removes a symbolic link, if there is one.
    ///
    /// # Errors
    /// When the path leads elsewhere, or the disk refuses.
    pub(crate) fn remove_link(&self, path: &Path) -> io::Result<()> {
        let (above, name) = self.above(path)?;
        let found = rustix::fs::statat(&above, name, AtFlags::SYMLINK_NOFOLLOW);
        if found.is_ok_and(|found| FileType::from_raw_mode(found.st_mode) == FileType::Symlink) {
            rustix::fs::unlinkat(&above, name, AtFlags::empty())?;
        }
        Ok(())
    }

    /// What is there; nothing when nothing is, or when the way there leads through a link or a file.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn kind(&self, path: &Path) -> io::Result<Option<Kind>> {
        let found =
            self.above(path).and_then(|(above, name)| Ok(rustix::fs::statat(&above, name, AtFlags::SYMLINK_NOFOLLOW)?));
        match found {
            Ok(found) if found.st_rdev == 0 && FileType::from_raw_mode(found.st_mode) == FileType::CharacterDevice => {
                Ok(Some(Kind::Whiteout))
            }
            Ok(found) if FileType::from_raw_mode(found.st_mode) == FileType::Directory => Ok(Some(Kind::Directory)),
            Ok(_) => Ok(Some(Kind::Other)),
            Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::InvalidInput) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// Moves something to another ground, on the same filesystem, where nothing is yet.
    ///
    /// # Errors
    /// When one of the paths leads elsewhere, when something is there, or the disk refuses.
    pub fn give(&self, path: &Path, to: &Self, new: &Path) -> io::Result<()> {
        let ((from, name), (into, called)) = (self.above(path)?, to.above(new)?);
        Ok(rustix::fs::renameat_with(&from, name, &into, called, RenameFlags::NOREPLACE)?)
    }

    /// Has a directory of an overlay's upper directory show again what lies beneath it.
    ///
    /// # Errors
    /// When the path leads elsewhere, or is not a directory.
    pub fn show_beneath(&self, path: &Path) -> io::Result<()> {
        let (above, name) = self.above(path)?;
        let dir = find(&above, name, OFlags::RDONLY | OFlags::DIRECTORY)?;
        match rustix::fs::fremovexattr(&dir, "user.overlay.opaque") {
            Ok(()) | Err(Errno::NODATA | Errno::NOTSUP) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }

    /// Gives a file that is there another name.
    ///
    /// # Errors
    /// When one of the paths leads elsewhere, or the first is not a file.
    pub fn hard_link(&self, path: &Path, first: &Path) -> io::Result<()> {
        let (from, first) = self.above(first)?;
        let kind = rustix::fs::statat(&from, first, AtFlags::SYMLINK_NOFOLLOW)?.st_mode;
        if FileType::from_raw_mode(kind) != FileType::RegularFile {
            return Err(refused(path, "is another name for what is not a file"));
        }
        let (above, name) = self.emptied(path)?;
        Ok(rustix::fs::linkat(&from, first, &above, name, AtFlags::empty())?)
    }

    /// The directory that an entry lies in, and its name there: whoever does something to that name does it in no other
    /// directory, whatever the path leads to by then.
    ///
    /// # Errors
    /// When the path leads elsewhere, or the directory is not there.
    pub fn above<'a>(&self, path: &'a Path) -> io::Result<(OwnedFd, &'a OsStr)> {
        if path.components().any(|part| !matches!(part, Component::Normal(_))) {
            return Err(refused(path, "leads out of the folder"));
        }
        let name = path.file_name().ok_or_else(|| refused(path, "has no name"))?;
        let way = path.parent().filter(|way| !way.as_os_str().is_empty());
        // In one call, where that is let through and known.
        if let Some(way) = way
            && let Some(above) = self.beneath(way).map_err(|error| explained(path, error))?
        {
            return Ok((above, name));
        }
        let mut above = self.root.try_clone()?;
        for part in path.parent().into_iter().flat_map(Path::components) {
            above = find(&above, part.as_os_str(), OFlags::PATH | OFlags::DIRECTORY)
                .map_err(|error| explained(path, error))?;
        }
        Ok((above, name))
    }

    /// The directory at a path, to which no link leads; nothing where the kernel cannot find it in one call.
    fn beneath(&self, path: &Path) -> io::Result<Option<OwnedFd>> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
        match rustix::fs::openat2(&self.root, path, flags, Mode::empty(), resolve) {
            Ok(found) => Ok(Some(found)),
            Err(Errno::NOSYS | Errno::PERM | Errno::AGAIN | Errno::INVAL) => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    fn emptied<'a>(&self, path: &'a Path) -> io::Result<(OwnedFd, &'a OsStr)> {
        let (above, name) = self.above(path)?;
        match rustix::fs::unlinkat(&above, name, AtFlags::empty()) {
            Ok(()) | Err(Errno::NOENT) => Ok((above, name)),
            Err(error) => Err(error.into()),
        }
    }
}

/// Opens what has a name in a directory, if it is not a link.
fn find(from: &OwnedFd, name: &OsStr, flags: OFlags) -> io::Result<OwnedFd> {
    Ok(rustix::fs::openat(from, name, flags | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty())?)
}

fn refused(path: &Path, why: &str) -> io::Error {
    let name = cavrith_core::path::shown(path.as_os_str().as_encoded_bytes());
    io::Error::new(io::ErrorKind::InvalidInput, format!("{name} {why}"))
}

fn explained(path: &Path, error: io::Error) -> io::Error {
    match error.raw_os_error().map(Errno::from_raw_os_error) {
        Some(Errno::LOOP | Errno::NOTDIR) => refused(path, "leads through a link, or through a file"),
        _ => error,
    }
}

fn times(dress: &Dress) -> Timestamps {
    let modified = Timespec { tv_sec: i64::try_from(dress.modified).unwrap_or(0), tv_nsec: 0 };
    Timestamps { last_access: modified, last_modification: modified }
}

/// The owner first, since a change of it takes rights away.
fn put_on(file: &impl AsFd, dress: &Dress, mask: u32) -> io::Result<()> {
    if let Some((user, group)) = dress.owner {
        rustix::fs::fchown(file, Some(Uid::from_raw(user)), Some(Gid::from_raw(group)))?;
    }
    rustix::fs::fchmod(file, Mode::from_raw_mode(dress.mode & mask))?;
    Ok(rustix::fs::futimens(file, &times(dress))?)
}

/// How many bytes and entries a foreign archive may have.
#[derive(Debug, Clone, Copy)]
pub struct Most {
    /// Bytes of its files.
    pub bytes: u64,
    /// Entries.
    pub entries: u64,
}

/// Unpacks a tar archive. `place` says where an entry goes by its path in the archive, or why it may not; owners are
/// those of the archive when `owners` is set. Returns how many entries there are.
///
/// # Errors
/// When it is none, leads elsewhere, holds what is not a file, directory or link, or more than `most`.
pub fn unpack(
    archive: &mut tar::Archive<impl Read>,
    ground: &Ground,
    owners: bool,
    most: Most,
    place: impl Fn(&Path) -> io::Result<PathBuf>,
) -> io::Result<u64> {
    let refused = |path: &Path, why: &str| {
        let name = cavrith_core::path::shown(path.as_os_str().as_encoded_bytes());
        io::Error::new(io::ErrorKind::InvalidData, format!("{name} {why}"))
    };
    let (mut count, mut bytes) = (0u64, 0u64);
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |now| now.as_secs());
    // Rights of directories come last: one that may not be written to could not be filled.
    let mut directories = Vec::new();
    for entry in archive.entries()? {
        let mut entry = entry?;
        let path = entry.path()?.into_owned();
        let header = entry.header();
        let kind = header.entry_type();
        let id = |number: u64| u32::try_from(number).map_err(|_| refused(&path, "has an owner without a number"));
        let owner = if owners { Some((id(header.uid()?)?, id(header.gid()?)?)) } else { None };
        // An archive whose entries are from 1970 says nothing of times.
        let modified = Some(header.mtime()?).filter(|time| *time > 0).unwrap_or(now);
        let dress = Dress { mode: header.mode()?, owner, modified };
        count += 1;
        bytes = bytes.saturating_add(entry.size());
        if bytes > most.bytes || count > most.entries {
            return Err(refused(&path, "is more than may be in it"));
        }
        let to = place(&path)?;
        // The directory itself is there.
        if to.as_os_str().is_empty() && kind.is_dir() {
            continue;
        }
        let about = |error: io::Error| io::Error::new(error.kind(), format!("cannot write {}: {error}", to.display()));
        if kind.is_dir() {
            ground.directory(&to).map_err(about)?;
            directories.push((to, dress));
        } else if kind.is_file() {
            ground.file(&to, &mut entry, &dress).map_err(about)?;
        } else if kind.is_symlink() {
            let target = entry.link_name()?.ok_or_else(|| refused(&path, "is a link to nothing"))?;
            ground.link(&to, &target, &dress).map_err(about)?;
        } else if kind.is_hard_link() {
            let first = entry.link_name()?.ok_or_else(|| refused(&path, "is a link to nothing"))?;
            ground.hard_link(&to, &place(&first)?).map_err(about)?;
        } else {
            return Err(refused(&path, "is not a file, directory or link"));
        }
    }
    for (path, dress) in directories.into_iter().rev() {
        ground.dress(&path, &dress)?;
    }
    Ok(count)
}

/// The directory that something is to lie in, opened, and its name there. A directory that is named may be reached
/// through links: it is the member's own word.
pub(crate) fn around(path: &Path) -> io::Result<(Ground, PathBuf)> {
    let name = path.file_name().ok_or_else(|| refused(path, "has no name"))?;
    let above = path.parent().filter(|above| *above != Path::new("")).unwrap_or(Path::new("."));
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let root = rustix::fs::openat(CWD, above, flags, Mode::empty());
    let root = root.map_err(|error| {
        let error = io::Error::from(error);
        io::Error::new(error.kind(), format!("cannot write {}: {error}", path.display()))
    })?;
    Ok((Ground { root }, PathBuf::from(name)))
}
