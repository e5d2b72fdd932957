//! One copy of a synced folder, on a disk: looked at, and changed where it is what was expected.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, Read, Seek as _, Write};
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use rustix::fs::{AtFlags, FileType, Gid, Mode, OFlags, RenameFlags, Stat, Timespec, Timestamps, Uid};
use rustix::io::Errno;

use cavrith_core::digest::ContentDigest;
use cavrith_core::encode::Encoder;
use cavrith_core::path::RootPath;
use cavrith_core::synced::wire::{BadFrame, Part, put_entry, take_entry};
use cavrith_core::synced::{Entry, Rules, TEMPORARY, What};
use cavrith_core::tree::encoding::Reader;
use cavrith_sandbox::ground::Ground;

use crate::is_absent;

/// A file that was changed so shortly before it was read may be changed again without another time (ticks of the
/// kernel's clock are up to 10 ms apart).
const TICK: Duration = Duration::from_millis(20);
/// Bytes that are read at a time.
const PIECE: usize = cavrith_core::synced::wire::PIECE;
/// Numbers of files on their way.
static NEXT: AtomicU64 = AtomicU64::new(0);

/// A copy.
#[derive(Debug)]
pub struct Copy {
    ground: Ground,
    /// Which paths cross.
    pub rules: Rules,
    owner: (u32, u32),
    /// Whose what we make is.
    us: (u32, u32),
}

/// What tells whether a file was changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Stamp {
    inode: u64,
    size: i64,
    modified: i64,
    changed: i64,
}

/// What was seen at a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// What it is.
    pub entry: Entry,
    stamp: Stamp,
    /// The same stamp means the same content.
    settled: bool,
}

const TITLE: &str = "cavrith seen files 1";

/// What was seen, as bytes, for the next time; what may be otherwise already is left out.
pub fn encode<'a>(seen: impl Iterator<Item = &'a Seen>) -> Vec<u8> {
    let mut encoder = Encoder::new(TITLE);
    for Seen { entry, stamp, .. } in seen.filter(|seen| seen.settled && is_file(seen)) {
        encoder.u64(stamp.inode).u64(stamp.size.cast_unsigned());
        encoder.u64(stamp.modified.cast_unsigned()).u64(stamp.changed.cast_unsigned());
        put_entry(&mut encoder, entry);
    }
    encoder.into_bytes()
}

/// What was seen an earlier time, by the numbers of the files; nothing where the bytes are not what [`encode`] made.
pub fn decode(bytes: &[u8]) -> HashMap<u64, Seen> {
    let mut all = HashMap::new();
    let Ok(mut reader) = Reader::new(bytes, TITLE) else { return all };
    let mut one = || -> Result<Seen, BadFrame> {
        let inode = reader.u64()?;
        let mut number = || Ok::<_, BadFrame>(reader.u64()?.cast_signed());
        let (size, modified, changed) = (number()?, number()?, number()?);
        let stamp = Stamp { inode, size, modified, changed };
        Ok(Seen { entry: take_entry(&mut reader)?, stamp, settled: true })
    };
    while let Ok(seen) = one() {
        all.insert(seen.stamp.inode, seen);
    }
    all
}

impl Seen {
    /// What was found, when it is a directory.
    pub fn directory(there: &Peeked) -> Option<Self> {
        // Whoever owns a directory could not bring anything into it otherwise.
        let entry = Entry { what: What::Directory, mode: there.mode | 0o700, modified: 0 };
        there.is_directory.then_some(Self { entry, stamp: there.stamp, settled: true })
    }

    /// The number of the file in its filesystem.
    pub fn inode(&self) -> u64 {
        self.stamp.inode
    }

    /// Whether the same is there still.
    pub fn is_still(&self, there: &Peeked) -> bool {
        self.settled && self.stamp == there.stamp
    }

    /// Whether it may be otherwise already.
    pub fn is_unsettled(&self) -> bool {
        !self.settled
    }
}

/// What is at a path, without its content.
#[derive(Debug, Clone, Copy)]
pub struct Peeked {
    is_directory: bool,
    mode: u16,
    stamp: Stamp,
}

impl Peeked {
    /// The number of the file in its filesystem.
    pub fn inode(&self) -> u64 {
        self.stamp.inode
    }
}

/// Where something is changed.
#[derive(Debug, Clone, Copy)]
pub struct Target<'a> {
    /// The path.
    pub path: &'a RootPath,
    /// What has to be there.
    pub expected: Option<&'a Entry>,
    /// What was seen there last, whose content need not be read again.
    pub seen: Option<&'a Seen>,
}

/// What was found where something is to be changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Made {
    /// The change is made; what is there now.
    Made(Option<Seen>),
    /// Something else was there.
    Otherwise,
    /// A directory holds something.
    Holds,
}

/// A file that was read, or is on its way to its place.
#[derive(Debug)]
pub struct Coming {
    directory: OwnedFd,
    /// Empty when it is in its place.
    temporary: String,
    file: Option<File>,
    size: u64,
    hasher: blake3::Hasher,
}

fn nanoseconds(seconds: i64, rest: u64) -> i64 {
    seconds.saturating_mul(1_000_000_000).saturating_add(rest.cast_signed())
}

#[allow(clippy::unnecessary_cast, reason = "the fields have other types on other processors")]
fn stamp_of(stat: &Stat) -> Stamp {
    Stamp {
        inode: stat.st_ino,
        size: stat.st_size,
        modified: nanoseconds(stat.st_mtime, stat.st_mtime_nsec as u64),
        changed: nanoseconds(stat.st_ctime, stat.st_ctime_nsec as u64),
    }
}

fn mode_of(stat: &Stat) -> u16 {
    (stat.st_mode & 0o777) as u16
}

fn now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |now| i64::try_from(now.as_nanos()).unwrap_or(i64::MAX))
}

impl Copy {
    /// Opens a copy. What comes into it belongs to whoever owns it.
    ///
    /// # Errors
    /// When it is no directory.
    pub fn open(dir: &Path, rules: Rules) -> io::Result<Self> {
        let found = rustix::fs::stat(dir)?;
        let us = (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw());
        // A directory may hand its group down.
        let us = if found.st_mode & 0o2000 == 0 { us } else { (u32::MAX, u32::MAX) };
        Ok(Self { ground: Ground::open(dir)?, rules, owner: (found.st_uid, found.st_gid), us })
    }

    fn above<'a>(&self, path: &'a RootPath) -> io::Result<(OwnedFd, &'a OsStr)> {
        self.ground.above(path.as_relative())
    }

    /// Opens a directory of it, or itself.
    ///
    /// # Errors
    /// When there is none.
    pub fn directory(&self, path: &RootPath) -> io::Result<OwnedFd> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        if path.is_root() {
            return Ok(rustix::fs::openat(self.ground.as_fd(), ".", flags, Mode::empty())?);
        }
        let (above, name) = self.above(path)?;
        Ok(rustix::fs::openat(above, name, flags, Mode::empty())?)
    }

    /// What is at a path, without the content of a file that was not changed since it was seen. `None` when nothing is
    /// there that crosses.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn look(&self, path: &RootPath, seen: Option<&Seen>) -> io::Result<Option<Seen>> {
        match self.above(path) {
            Ok((above, name)) => self.look_in(above.as_fd(), name, (path, seen)),
            Err(error) if is_absent(&error) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// What is at a path, without its content; nothing when nothing is there that crosses.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn peek(&self, path: &RootPath) -> io::Result<Option<Peeked>> {
        let Some((above, name)) = absent_is_none(self.above(path))? else { return Ok(None) };
        self.peek_in(&above, name.as_encoded_bytes(), path)
    }

    /// The same, with the directory that it lies in.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn peek_in(&self, above: &OwnedFd, name: &[u8], path: &RootPath) -> io::Result<Option<Peeked>> {
        let stat = absent_is_none(rustix::fs::statat(above, name, AtFlags::SYMLINK_NOFOLLOW))?;
        Ok(stat.and_then(|stat| {
            let kind = FileType::from_raw_mode(stat.st_mode);
            let is_carried = matches!(kind, FileType::Directory | FileType::RegularFile | FileType::Symlink);
            let is_directory = kind == FileType::Directory;
            let crosses = is_carried && self.rules.crosses(path, is_directory);
            crosses.then(|| Peeked { is_directory, mode: mode_of(&stat), stamp: stamp_of(&stat) })
        }))
    }

    fn look_in(
        &self,
        above: BorrowedFd<'_>,
        name: &OsStr,
        (path, seen): (&RootPath, Option<&Seen>),
    ) -> io::Result<Option<Seen>> {
        let stat = match rustix::fs::statat(above, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => stat,
            Err(Errno::NOENT | Errno::NOTDIR) => return Ok(None),
            Err(error) => return Err(error.into()),
        };
        let kind = FileType::from_raw_mode(stat.st_mode);
        if !self.rules.crosses(path, kind == FileType::Directory) {
            return Ok(None);
        }
        let stamp = stamp_of(&stat);
        let plain = |what, mode, modified| Some(Seen { entry: Entry { what, mode, modified }, stamp, settled: true });
        Ok(match kind {
            FileType::Directory => Seen::directory(&Peeked { is_directory: true, mode: mode_of(&stat), stamp }),
            FileType::Symlink => {
                let target = rustix::fs::readlinkat(above, name, Vec::new())?.into_bytes();
                plain(What::Link { target }, 0o777, stamp.modified)
            }
            FileType::RegularFile => {
                if let Some(seen) = seen.filter(|seen| seen.settled && seen.stamp == stamp && is_file(seen)) {
                    return Ok(Some(seen.clone()));
                }
                return self.read(above, name);
            }
            _ => None,
        })
    }

    /// Reads a file as it is now.
    fn read(&self, above: BorrowedFd<'_>, name: &OsStr) -> io::Result<Option<Seen>> {
        let Some((mut file, before)) = open_file(above, name)? else { return Ok(None) };
        let (mut hasher, mut size) = (blake3::Hasher::new(), 0);
        // One byte more, so that a short file is read in one call and a second one tells its end.
        let mut buffer = vec![0; usize::try_from(before.st_size).map_or(PIECE, |size| PIECE.min(size + 1))];
        let began = now();
        loop {
            match file.read(&mut buffer) {
                Ok(0) => break,
                Ok(count) => {
                    hasher.update(&buffer[..count]);
                    size += count as u64;
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        let after = rustix::fs::fstat(&file)?;
        let stamp = stamp_of(&after);
        let is_still = stamp == stamp_of(&before) && size == stamp.size.cast_unsigned();
        let settled = is_still && began.saturating_sub(stamp.changed) > TICK.as_nanos() as i64;
        let what = What::File { size, content: ContentDigest::from_bytes(*hasher.finalize().as_bytes()) };
        let entry = Entry { what, mode: mode_of(&after), modified: stamp.modified };
        Ok(Some(Seen { entry, stamp, settled }))
    }

    /// Says what is in a file, link or directory, and what that is altogether; false when nothing is there.
    ///
    /// # Errors
    /// When the disk refuses, or `say` does.
    pub fn give(&self, path: &RootPath, say: &mut dyn FnMut(Given) -> io::Result<()>) -> io::Result<bool> {
        let Some((above, name)) = absent_is_none(self.above(path))? else { return Ok(false) };
        let Some(stat) = absent_is_none(rustix::fs::statat(&above, name, AtFlags::SYMLINK_NOFOLLOW))? else {
            return Ok(false);
        };
        if FileType::from_raw_mode(stat.st_mode) != FileType::RegularFile {
            let Some(seen) = self.look_in(above.as_fd(), name, (path, None))? else { return Ok(false) };
            say(Given::Is(seen.entry))?;
            return Ok(true);
        }
        let Some((mut file, stat)) = open_file(above.as_fd(), name)? else { return Ok(false) };
        // What is written behind its end meanwhile comes the next time.
        let mut rest = stat.st_size.cast_unsigned();
        let stamp = stamp_of(&stat);
        let what = What::File { size: rest, content: ContentDigest::from_bytes([0; 32]) };
        say(Given::Is(Entry { what, mode: mode_of(&stat), modified: stamp.modified }))?;
        let (mut hasher, mut size) = (blake3::Hasher::new(), 0);
        while rest > 0 {
            let mut buffer = vec![0; PIECE.min(usize::try_from(rest).unwrap_or(PIECE))];
            let count = match file.read(&mut buffer) {
                Ok(0) => break,
                Ok(count) => count,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(_) => {
                    say(Given::Part(Part::Broken))?;
                    return Ok(true);
                }
            };
            buffer.truncate(count);
            hasher.update(&buffer);
            rest -= count as u64;
            size += count as u64;
            say(Given::Part(Part::Bytes(buffer)))?;
        }
        let digest = ContentDigest::from_bytes(*hasher.finalize().as_bytes());
        say(Given::Part(Part::End(size, digest)))?;
        Ok(true)
    }

    /// Begins a file beside its place.
    ///
    /// # Errors
    /// When its directory is not there, or the disk refuses.
    pub fn begin(&self, path: &RootPath) -> io::Result<Coming> {
        let (directory, _) = self.above(path)?;
        let temporary = temporary();
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let file = rustix::fs::openat(&directory, temporary.as_str(), flags, Mode::from_raw_mode(0o600))?;
        let hasher = blake3::Hasher::new();
        Ok(Coming { directory, temporary, file: Some(file.into()), size: 0, hasher })
    }

    /// Puts a file that came in its place.
    ///
    /// # Errors
    /// When the disk refuses; then nothing is changed.
    pub fn put_file(
        &self,
        mut coming: Coming,
        target: Target<'_>,
        wanted: &Entry,
        (size, digest): (u64, ContentDigest),
    ) -> io::Result<Made> {
        let arrived = ContentDigest::from_bytes(*coming.hasher.finalize().as_bytes());
        if (coming.size, arrived) != (size, digest) {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "its content did not arrive as it was sent"));
        }
        let Some(file) = coming.file.take() else { return Err(io::ErrorKind::InvalidInput.into()) };
        // It may end with what was left out.
        file.set_len(size)?;
        self.own(&file)?;
        rustix::fs::fchmod(&file, Mode::from_raw_mode(u32::from(wanted.mode & 0o777)))?;
        rustix::fs::futimens(&file, &times(wanted.modified))?;
        let stat = rustix::fs::fstat(&file)?;
        drop(file);
        match self.place(&coming.directory, &coming.temporary, target) {
            Ok(true) => coming.temporary.clear(),
            Ok(false) => return Ok(Made::Otherwise),
            Err(error) if is_not_empty(&error) => return Ok(Made::Holds),
            Err(error) => return Err(error),
        }
        let entry = Entry { what: What::File { size, content: digest }, ..wanted.clone() };
        // Its time of change is the one of the renaming now.
        let changed = rustix::fs::statat(&coming.directory, name_of(target.path), AtFlags::SYMLINK_NOFOLLOW);
        let stamp = changed.map_or_else(|_| stamp_of(&stat), |stat| stamp_of(&stat));
        // Somebody may have changed it in this moment, which would not be told by its length and times.
        let settled = is_same(&stamp, &stamp_of(&stat));
        Ok(Made::Made(Some(Seen { entry, stamp, settled })))
    }

    /// Makes a directory or a link where something expected is.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn put(&self, target: Target<'_>, wanted: &Entry) -> io::Result<Made> {
        let Target { path, expected, .. } = target;
        let Some((above, name)) = absent_is_none(self.above(path))? else { return Ok(Made::Otherwise) };
        let temporary = temporary();
        let stays = expected.is_some_and(|entry| entry.what.is_directory()) && wanted.what.is_directory();
        if stays {
            return self.dress(target, wanted);
        }
        match &wanted.what {
            What::Directory => {
                rustix::fs::mkdirat(&above, temporary.as_str(), Mode::from_raw_mode(0o700))?;
                let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                let made = rustix::fs::openat(&above, temporary.as_str(), flags, Mode::empty())?;
                self.own(&made)?;
                rustix::fs::fchmod(&made, Mode::from_raw_mode(u32::from(wanted.mode & 0o777) | 0o700))?;
            }
            What::Link { target } => {
                rustix::fs::symlinkat(target.as_slice(), &above, temporary.as_str())?;
                let (user, group) = self.owner;
                let owner = (Some(Uid::from_raw(user)), Some(Gid::from_raw(group)));
                let _ = rustix::fs::chownat(&above, temporary.as_str(), owner.0, owner.1, AtFlags::SYMLINK_NOFOLLOW);
                let times = times(wanted.modified);
                rustix::fs::utimensat(&above, temporary.as_str(), &times, AtFlags::SYMLINK_NOFOLLOW)?;
            }
            What::File { .. } => return Err(io::ErrorKind::InvalidInput.into()),
        }
        let placed = self.place(&above, &temporary, target);
        if !matches!(placed, Ok(true)) {
            let flags = if wanted.what.is_directory() { AtFlags::REMOVEDIR } else { AtFlags::empty() };
            let _ = rustix::fs::unlinkat(&above, temporary.as_str(), flags);
        }
        match placed {
            Ok(true) => Ok(Made::Made(self.look_in(above.as_fd(), name, (path, None))?)),
            Ok(false) => Ok(Made::Otherwise),
            Err(error) if is_not_empty(&error) => Ok(Made::Holds),
            Err(error) => Err(error),
        }
    }

    /// Removes what is expected there.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn remove(&self, target: Target<'_>) -> io::Result<Made> {
        let Some((above, name)) = absent_is_none(self.above(target.path))? else { return Ok(Made::Made(None)) };
        let Some(there) = self.expected_at(&above, name, target)? else { return Ok(Made::Otherwise) };
        if !there.entry.what.is_directory() {
            let removed = self.take_away(&above, name, &there.stamp)?;
            return Ok(if removed { Made::Made(None) } else { Made::Otherwise });
        }
        match rustix::fs::unlinkat(&above, name, AtFlags::REMOVEDIR) {
            Ok(()) => Ok(Made::Made(None)),
            Err(Errno::NOTEMPTY | Errno::EXIST) => Ok(Made::Holds),
            Err(Errno::NOENT | Errno::NOTDIR) => Ok(Made::Otherwise),
            Err(error) => Err(error.into()),
        }
    }

    /// Gives what is expected there other rights or another time.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn dress(&self, target: Target<'_>, wanted: &Entry) -> io::Result<Made> {
        let Some((above, name)) = absent_is_none(self.above(target.path))? else { return Ok(Made::Otherwise) };
        let Some(there) = self.expected_at(&above, name, target)? else { return Ok(Made::Otherwise) };
        if !matches!(there.entry.what, What::Link { .. }) {
            // By a descriptor: chmod(2) would follow a link that is there by now.
            let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
            let file = rustix::fs::openat(&above, name, flags, Mode::empty())?;
            if rustix::fs::fstat(&file)?.st_ino != there.stamp.inode {
                return Ok(Made::Otherwise);
            }
            rustix::fs::fchmod(&file, Mode::from_raw_mode(u32::from(wanted.mode & 0o777)))?;
            if !wanted.what.is_directory() {
                rustix::fs::futimens(&file, &times(wanted.modified))?;
            }
        } else {
            rustix::fs::utimensat(&above, name, &times(wanted.modified), AtFlags::SYMLINK_NOFOLLOW)?;
        }
        let stat = rustix::fs::statat(&above, name, AtFlags::SYMLINK_NOFOLLOW)?;
        let entry = Entry { what: there.entry.what, ..wanted.clone() };
        // The time that we set hides a change of its content in this moment: it is read again.
        let settled = !matches!(entry.what, What::File { .. });
        Ok(Made::Made(Some(Seen { entry, stamp: stamp_of(&stat), settled })))
    }

    /// What is there, when it is what is expected.
    fn expected_at(&self, above: &OwnedFd, name: &OsStr, target: Target<'_>) -> io::Result<Option<Seen>> {
        let there = self.look_in(above.as_fd(), name, (target.path, target.seen))?;
        // Times are not compared: to touch a file does not make another one of it.
        Ok(there.filter(|there| target.expected.is_some_and(|expected| there.entry.is_like(expected))))
    }

    /// Puts something in its place: where nothing is expected, nothing may be; what is expected is exchanged for it,
    /// looked at, and exchanged back when it is something else. True when it is there.
    fn place(&self, above: &OwnedFd, temporary: &str, target: Target<'_>) -> io::Result<bool> {
        let name = name_of(target.path);
        let come = || match rename(above, OsStr::new(temporary), name) {
            Ok(()) => Ok(true),
            // What does not cross is there, or something that came in this moment.
            Err(Errno::EXIST) => Ok(false),
            Err(error) => Err(error.into()),
        };
        if target.expected.is_none() {
            return come();
        }
        let Some(there) = self.expected_at(above, name, target)? else { return Ok(false) };
        if there.entry.what.is_directory() {
            rustix::fs::unlinkat(above, name, AtFlags::REMOVEDIR)?;
            return come();
        }
        exchange(above, temporary, name)?;
        let moved = rustix::fs::statat(above, temporary, AtFlags::SYMLINK_NOFOLLOW);
        if moved.is_ok_and(|moved| is_same(&stamp_of(&moved), &there.stamp)) {
            rustix::fs::unlinkat(above, temporary, AtFlags::empty())?;
            return Ok(true);
        }
        // Somebody wrote it in this moment: theirs goes back. When ours is gone by then, theirs has the place to
        // itself; under its temporary name it would be removed as one of ours.
        if exchange(above, temporary, name).is_err() {
            give_back(above, temporary, name)?;
        }
        Ok(false)
    }

    /// Removes a file or link if it is still the one that was looked at. True when it is gone.
    fn take_away(&self, above: &OwnedFd, name: &OsStr, stamp: &Stamp) -> io::Result<bool> {
        let temporary = temporary();
        match rename(above, name, OsStr::new(&temporary)) {
            Ok(()) => {}
            Err(Errno::NOENT) => return Ok(false),
            Err(error) => return Err(error.into()),
        }
        let moved = rustix::fs::statat(above, temporary.as_str(), AtFlags::SYMLINK_NOFOLLOW)?;
        if is_same(&stamp_of(&moved), stamp) {
            rustix::fs::unlinkat(above, temporary.as_str(), AtFlags::empty())?;
            return Ok(true);
        }
        give_back(above, &temporary, name)?;
        Ok(false)
    }

    /// Gives a file to the copy's owner, as far as we may.
    fn own(&self, file: &impl std::os::fd::AsFd) -> io::Result<()> {
        let (user, group) = self.owner;
        if self.owner == self.us {
            return Ok(());
        }
        match rustix::fs::fchown(file, Some(Uid::from_raw(user)), Some(Gid::from_raw(group))) {
            Ok(()) | Err(Errno::PERM | Errno::INVAL) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }

    /// Removes what another process left on its way, when that is not there any more.
    pub fn clear(&self, directory: &OwnedFd, name: &[u8]) {
        let Some(rest) = name.strip_prefix(TEMPORARY.as_bytes()) else { return };
        let process = rest.split(|byte| *byte == b'-').next().and_then(|text| std::str::from_utf8(text).ok());
        let Some(process) = process.and_then(|text| text.parse::<u32>().ok()) else { return };
        if process == std::process::id() || !Path::new(&format!("/proc/{process}")).exists() {
            let removed = rustix::fs::unlinkat(directory, name, AtFlags::empty());
            if removed == Err(Errno::ISDIR) {
                let _ = rustix::fs::unlinkat(directory, name, AtFlags::REMOVEDIR);
            }
        }
    }

    /// Has all of it on the disk.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn persist(&self) -> io::Result<()> {
        Ok(rustix::fs::syncfs(self.directory(&RootPath::root())?)?)
    }
}

/// What [`Copy::give`] says.
#[derive(Debug)]
pub enum Given {
    /// What it is.
    Is(Entry),
    /// A part of a file.
    Part(Part),
}

impl Coming {
    /// Takes some bytes.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn take(&mut self, bytes: &[u8]) -> io::Result<()> {
        let Some(file) = &mut self.file else { return Err(io::ErrorKind::InvalidInput.into()) };
        // What is nothing but zeros takes no room: an image of a disk is as large here as there.
        if bytes.len() == PIECE && bytes.iter().all(|byte| *byte == 0) {
            file.seek_relative(PIECE as i64)?;
        } else {
            file.write_all(bytes)?;
        }
        self.hasher.update(bytes);
        self.size += bytes.len() as u64;
        Ok(())
    }
}

impl Drop for Coming {
    fn drop(&mut self) {
        if self.temporary.is_empty() {
            return;
        }
        let _ = rustix::fs::unlinkat(&self.directory, self.temporary.as_str(), AtFlags::empty());
    }
}

fn is_file(seen: &Seen) -> bool {
    matches!(seen.entry.what, What::File { .. })
}

/// The time of change is another one after a renaming.
fn is_same(one: &Stamp, other: &Stamp) -> bool {
    (one.inode, one.size, one.modified) == (other.inode, other.size, other.modified)
}

fn is_not_empty(error: &io::Error) -> bool {
    error.raw_os_error().map(Errno::from_raw_os_error) == Some(Errno::NOTEMPTY)
}

fn name_of(path: &RootPath) -> &OsStr {
    std::os::unix::ffi::OsStrExt::from_bytes(path.name().unwrap_or_default())
}

fn temporary() -> String {
    format!("{TEMPORARY}{}-{}", std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed))
}

fn times(modified: i64) -> Timestamps {
    let modified =
        Timespec { tv_sec: modified.div_euclid(1_000_000_000), tv_nsec: modified.rem_euclid(1_000_000_000) as _ };
    Timestamps { last_access: modified, last_modification: modified }
}

fn absent_is_none<T, E: Into<io::Error>>(outcome: Result<T, E>) -> io::Result<Option<T>> {
    match outcome.map_err(Into::into) {
        Ok(value) => Ok(Some(value)),
        Err(error) if is_absent(&error) => Ok(None),
        Err(error) => Err(error),
    }
}

/// Renames, where nothing has the new name.
fn rename(above: &OwnedFd, from: &OsStr, to: &OsStr) -> Result<(), Errno> {
    match rustix::fs::renameat_with(above, from, above, to, RenameFlags::NOREPLACE) {
        // A filesystem that cannot do that: a second name does not replace anything, either.
        Err(Errno::INVAL) => match rustix::fs::linkat(above, from, above, to, AtFlags::empty()) {
            Ok(()) => rustix::fs::unlinkat(above, from, AtFlags::empty()),
            // A directory replaces nothing but an empty one.
            Err(Errno::PERM) => rustix::fs::renameat(above, from, above, to),
            Err(error) => Err(error),
        },
        outcome => outcome,
    }
}

/// Gives what was moved away its name again. When something has that by now, both stay, this one under a name
/// that crosses.
fn give_back(above: &OwnedFd, temporary: &str, name: &OsStr) -> Result<(), Errno> {
    rename(above, OsStr::new(temporary), name).or_else(|_| {
        let mut kept = name.to_owned();
        kept.push(format!(".{}", &temporary[TEMPORARY.len()..]));
        rename(above, OsStr::new(temporary), &kept)
    })
}

/// Exchanges what has two names.
fn exchange(above: &OwnedFd, one: &str, other: &OsStr) -> Result<(), Errno> {
    match rustix::fs::renameat_with(above, one, above, other, RenameFlags::EXCHANGE) {
        // In three steps, where the filesystem cannot do it in one.
        Err(Errno::INVAL) => {
            let third = temporary();
            rename(above, other, OsStr::new(&third))?;
            rename(above, OsStr::new(one), other)?;
            rename(above, OsStr::new(&third), OsStr::new(one))
        }
        outcome => outcome,
    }
}

/// Opens a regular file to be read; nothing when it is not there, or is none.
fn open_file(above: BorrowedFd<'_>, name: &OsStr) -> io::Result<Option<(File, Stat)>> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let file = match rustix::fs::openat(above, name, flags, Mode::empty()) {
        Ok(file) => file,
        Err(Errno::NOENT | Errno::LOOP | Errno::NXIO) => return Ok(None),
        Err(error) => return Err(error.into()),
    };
    let stat = rustix::fs::fstat(&file)?;
    Ok((FileType::from_raw_mode(stat.st_mode) == FileType::RegularFile).then(|| (file.into(), stat)))
}
