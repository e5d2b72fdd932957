//! A live folder of a machine: answers what its kernel asks of `/dev/fuse`, with the files of a folder here.
//!
//! Nothing that is asked leads out of the folder: an inode is a descriptor that was opened beneath it without following
//! a link, and a name is one name. What is done is done as the folder's owner, whom the account in the machine is.

use std::collections::{HashMap, VecDeque};
use std::ffi::OsStr;
use std::fs::{File, Metadata};
use std::io;
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{FileExt as _, MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::UNIX_EPOCH;

use rustix::fs::{AtFlags, CWD, FileType, Gid, Mode, OFlags, RenameFlags, Timespec, Timestamps, Uid};
use rustix::io::Errno;
use rustix::net::{RecvFlags, SendFlags};

use cavrith_core::account::ACCOUNT_ID;
use cavrith_sandbox::locked;

use super::fuse::{self, Answer, Bytes, Listing, Request, Shown};
use super::watching::{Tell, Watching};

/// The number of the folder itself.
pub(crate) const TOP: u64 = 1;
/// Seconds for which the machine may believe what it was told of a name or an inode while the directory is watched.
const VALID: u64 = 60;
/// Whose a file is that belongs to nobody inside.
const NOBODY: u32 = 65_534;
/// Directories in directories that are followed; a path that any program takes has fewer.
const DEEPEST: usize = 2048;
/// Bits by which a program runs as somebody else.
const SET_ID: u32 = 0o6000;

/// A file or directory that the machine knows.
#[derive(Debug)]
pub(crate) struct Node {
    /// The place, which nothing else can take; closed when too many are open, and found again by name and identity.
    place: Option<Arc<OwnedFd>>,
    /// It cannot be found again: its name is gone.
    pinned: bool,
    identity: Identity,
    known: u64,
    /// Where it was found last.
    pub parent: u64,
    pub name: Vec<u8>,
    /// When it was changed from inside last (seconds and nanoseconds).
    pub own_change: (i64, i64),
}

/// What tells a file from all others, also from one that gets its number when it is gone: its filesystem, its number,
/// and when it was made.
type Identity = (u64, u64, u128);

fn identity_of(meta: &Metadata) -> Identity {
    let made = meta.created().ok().and_then(|made| made.duration_since(UNIX_EPOCH).ok());
    (meta.dev(), meta.ino(), made.map_or(0, |made| made.as_nanos()))
}

/// What both the server and the watching thread look at.
#[derive(Debug, Default)]
pub(crate) struct Nodes {
    pub all: HashMap<u64, Node>,
    by_identity: HashMap<Identity, u64>,
    last: u64,
    /// Those whose places are open, the longest first.
    open: VecDeque<u64>,
    /// How many may be.
    most: usize,
    /// Changes of names from inside, of which the kernel has yet to tell.
    pub own_names: HashMap<(u64, Vec<u8>), u32>,
    /// Names that the machine is just told of as if they came or went.
    pub told: HashMap<(u64, Vec<u8>), Told>,
}

/// What the machine is told of a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Told {
    /// It is new.
    New,
    /// It is gone, and was a directory or not.
    Gone(bool),
}

/// What a request comes to.
type Done = Result<Option<Answer>, Errno>;

enum Handle {
    File(File),
    Directory(Vec<(Vec<u8>, u32, u64)>),
}

/// A folder that is served.
pub(crate) struct Folder {
    pub nodes: Mutex<Nodes>,
    handles: Mutex<(u64, HashMap<u64, Handle>)>,
    pub watching: Watching,
    owner: (u32, u32),
    /// The thread in the machine that tells programs there what was changed here.
    teller: u32,
}

fn kind_of(meta: &Metadata) -> u32 {
    meta.mode() & 0o170_000
}

fn fail<E: Into<io::Error>>(error: E) -> Errno {
    Errno::from_io_error(&error.into()).unwrap_or(Errno::IO)
}

impl Folder {
    /// Serves a folder over a socket of messages until the machine is gone. What its kernel is told unasked goes by
    /// another one, and programs there are told by `tell`.
    ///
    /// # Errors
    /// When the folder cannot be opened.
    pub fn serve(path: &Path, socket: &OwnedFd, teller: u32, (notices, tell): (OwnedFd, Tell)) -> io::Result<()> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let top = rustix::fs::open(path, flags, Mode::empty())?;
        let meta = meta_of(&top)?;
        let folder = Arc::new(Self {
            nodes: Mutex::default(),
            handles: Mutex::default(),
            watching: Watching::new()?,
            owner: (meta.uid(), meta.gid()),
            teller,
        });
        // Each of several folders has its part, and most is left for connections.
        let limit = rustix::process::getrlimit(rustix::process::Resource::Nofile).current.unwrap_or(u64::MAX);
        folder.nodes().most = usize::try_from(limit / 8).unwrap_or(usize::MAX).clamp(64, 50_000);
        folder.nodes().enter(top, &meta, (TOP, Vec::new()));
        Watching::begin(&folder, &folder.watching, notices, tell)?;
        // As whom the files are: root of this machine is nobody special in the folder of somebody else.
        if rustix::process::geteuid().is_root() && meta.uid() != 0 {
            let (user, group) = (Uid::from_raw(meta.uid()), Gid::from_raw(meta.gid()));
            rustix::thread::set_thread_groups(&[])?;
            rustix::thread::set_thread_res_gid(group, group, group)?;
            rustix::thread::set_thread_res_uid(user, user, user)?;
        }
        let mut buffer = vec![0; fuse::MESSAGE];
        loop {
            let count = match rustix::net::recv(socket, &mut buffer[..], RecvFlags::empty()) {
                Ok((_, 0)) | Err(Errno::CONNRESET | Errno::PIPE) => return Ok(()),
                Ok((_, count)) => count,
                Err(Errno::INTR) => continue,
                Err(error) => return Err(error.into()),
            };
            let Some(request) = Request::read(&buffer[..count]) else { continue };
            let unique = request.unique;
            let message = match folder.answer(request) {
                Ok(Some(answer)) => answer.to(unique),
                Ok(None) => continue,
                Err(errno) => fuse::failed(unique, errno.raw_os_error()),
            };
            rustix::net::send(socket, &message, SendFlags::NOSIGNAL)?;
        }
    }

    pub fn nodes(&self) -> MutexGuard<'_, Nodes> {
        locked(&self.nodes)
    }

    fn answer(&self, request: Request<'_>) -> Done {
        let Request { operation, node, process, mut rest, .. } = request;
        let is_teller = process == self.teller;
        let rest = &mut rest;
        match operation {
            fuse::INIT => {
                let (Some(_), Some(_), Some(_), Some(offered)) = (rest.u32(), rest.u32(), rest.u32(), rest.u32())
                else {
                    return Err(Errno::INVAL);
                };
                Ok(Some(Answer::init(offered)))
            }
            fuse::DESTROY => Ok(Some(Answer::default())),
            fuse::INTERRUPT => Ok(None),
            fuse::FORGET => {
                self.nodes().forget(node, rest.u64().unwrap_or(0));
                Ok(None)
            }
            fuse::BATCH_FORGET => {
                let count = rest.u64().unwrap_or(0) as u32;
                let mut nodes = self.nodes();
                for _ in 0..count {
                    let (Some(node), Some(known)) = (rest.u64(), rest.u64()) else { break };
                    nodes.forget(node, known);
                }
                Ok(None)
            }
            fuse::LOOKUP => {
                let name = rest.name().ok_or(Errno::NOENT)?;
                let told = self.nodes().told.get(&(node, name.to_vec())).copied();
                match told.filter(|_| is_teller) {
                    Some(told) => self.told(node, name, told),
                    None => self.found(node, name),
                }
            }
            fuse::GETATTR => self.attributes(node),
            fuse::SETATTR if is_teller => self.attributes(node),
            fuse::SETATTR => self.set(node, rest),
            fuse::READLINK => {
                let target = rustix::fs::readlinkat(&*self.place(node)?, "", Vec::new())?;
                Ok(Some(Answer::default().bytes(target.to_bytes())))
            }
            fuse::SYMLINK | fuse::MKNOD | fuse::MKDIR | fuse::CREATE if is_teller => {
                rest.take(match operation {
                    fuse::SYMLINK => 0,
                    fuse::MKDIR => 8,
                    _ => 16,
                });
                self.found(node, rest.name().ok_or(Errno::INVAL)?)
            }
            fuse::UNLINK | fuse::RMDIR if is_teller => Ok(Some(Answer::default())),
            fuse::SYMLINK => {
                let (name, target) = (rest.name().ok_or(Errno::INVAL)?, rest.text().ok_or(Errno::INVAL)?);
                let above = self.place(node)?;
                self.own(node, name, || rustix::fs::symlinkat(target, &*above, name))?;
                self.found(node, name)
            }
            fuse::MKNOD => self.make_node(node, rest),
            fuse::MKDIR => {
                let (mode, _) = (rest.u32().ok_or(Errno::INVAL)?, rest.u32());
                let (name, above) = (rest.name().ok_or(Errno::INVAL)?, self.place(node)?);
                let mode = Mode::from_raw_mode(mode & 0o1777);
                self.own(node, name, || rustix::fs::mkdirat(&*above, name, mode))?;
                self.found(node, name)
            }
            fuse::UNLINK | fuse::RMDIR => {
                let (name, above) = (rest.name().ok_or(Errno::INVAL)?, self.place(node)?);
                let flags = if operation == fuse::RMDIR { AtFlags::REMOVEDIR } else { AtFlags::empty() };
                self.nodes().pin(&above, name);
                self.own(node, name, || rustix::fs::unlinkat(&*above, name, flags))?;
                Ok(Some(Answer::default()))
            }
            fuse::RENAME | fuse::RENAME2 => self.rename(node, rest, operation == fuse::RENAME2),
            fuse::LINK => {
                let (old, above) = (self.place(rest.u64().ok_or(Errno::INVAL)?)?, self.place(node)?);
                let name = rest.name().ok_or(Errno::INVAL)?;
                let by_descriptor = format!("/proc/self/fd/{}", old.as_raw_fd());
                let follow = AtFlags::SYMLINK_FOLLOW;
                self.own(node, name, || rustix::fs::linkat(CWD, by_descriptor.as_str(), &*above, name, follow))?;
                self.found(node, name)
            }
            fuse::OPEN => {
                let flags = OFlags::from_bits_retain(rest.u32().ok_or(Errno::INVAL)?);
                let flags = if is_teller { OFlags::RDONLY } else { flags };
                let file = self.open(node, flags)?;
                let truncated = flags.contains(OFlags::TRUNC);
                if truncated {
                    self.note_change(node, &file);
                }
                Ok(Some(self.hold(Handle::File(file))))
            }
            fuse::CREATE => self.create(node, rest),
            fuse::READ => {
                let (handle, offset) = (rest.u64().ok_or(Errno::INVAL)?, rest.u64().ok_or(Errno::INVAL)?);
                let size = (rest.u32().ok_or(Errno::INVAL)? as usize).min(fuse::MOST);
                let mut buffer = vec![0; size];
                let mut filled = 0;
                self.with_file(handle, |file| {
                    while filled < size {
                        match file.read_at(&mut buffer[filled..], offset + filled as u64) {
                            Ok(0) => break,
                            Ok(count) => filled += count,
                            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                            Err(error) => return Err(fail(error)),
                        }
                    }
                    Ok(())
                })?;
                buffer.truncate(filled);
                Ok(Some(Answer(buffer)))
            }
            fuse::WRITE => {
                let (handle, offset) = (rest.u64().ok_or(Errno::INVAL)?, rest.u64().ok_or(Errno::INVAL)?);
                let size = rest.u32().ok_or(Errno::INVAL)?;
                rest.take(20);
                let bytes = rest.take(size as usize).ok_or(Errno::INVAL)?;
                self.with_file(handle, |file| {
                    file.write_all_at(bytes, offset).map_err(fail)?;
                    self.note_change(node, file);
                    Ok(())
                })?;
                Ok(Some(Answer::default().u32(size).u32(0)))
            }
            fuse::STATFS => {
                let about = rustix::fs::fstatvfs(&*self.place(node)?)?;
                let size = |bytes: u64| u32::try_from(bytes).unwrap_or(4096);
                let answer = Answer::default().u64(about.f_blocks).u64(about.f_bfree).u64(about.f_bavail);
                let answer = answer.u64(about.f_files).u64(about.f_ffree).u32(size(about.f_bsize));
                Ok(Some(answer.u32(size(about.f_namemax)).u32(size(about.f_frsize)).u32(0).bytes(&[0; 24])))
            }
            fuse::RELEASE | fuse::RELEASEDIR => {
                let handle = rest.u64().ok_or(Errno::INVAL)?;
                locked(&self.handles).1.remove(&handle);
                Ok(Some(Answer::default()))
            }
            fuse::FLUSH => Ok(Some(Answer::default())),
            fuse::FSYNC => {
                let handle = rest.u64().ok_or(Errno::INVAL)?;
                self.with_file(handle, |file| file.sync_all().map_err(fail))?;
                Ok(Some(Answer::default()))
            }
            fuse::FSYNCDIR => Ok(Some(Answer::default())),
            fuse::OPENDIR => self.open_directory(node),
            fuse::READDIR | fuse::READDIRPLUS => self.list(node, rest, operation == fuse::READDIRPLUS),
            fuse::FALLOCATE => {
                let (Some(handle), Some(offset), Some(length)) = (rest.u64(), rest.u64(), rest.u64()) else {
                    return Err(Errno::INVAL);
                };
                let flags = rustix::fs::FallocateFlags::from_bits_retain(rest.u32().ok_or(Errno::INVAL)?);
                self.with_file(handle, |file| {
                    rustix::fs::fallocate(file, flags, offset, length)?;
                    self.note_change(node, file);
                    Ok(())
                })?;
                Ok(Some(Answer::default()))
            }
            // The kernel asks no more for what it is told once that there is not.
            _ => Err(Errno::NOSYS),
        }
    }

    fn place(&self, node: u64) -> Result<Arc<OwnedFd>, Errno> {
        self.nodes().place(node)
    }

    /// Does something to a name that the watching thread takes for ours.
    fn own<T>(&self, node: u64, name: &[u8], how: impl FnOnce() -> Result<T, Errno>) -> Result<T, Errno> {
        let is_watched = self.watching.watches(node);
        if is_watched {
            *self.nodes().own_names.entry((node, name.to_vec())).or_default() += 1;
        }
        let done = how();
        if is_watched && done.is_err() {
            self.nodes().take_own(node, name);
        }
        done
    }

    /// Remembers that a file was changed from inside.
    fn note_change(&self, node: u64, file: &File) {
        if let Ok(meta) = file.metadata()
            && let Some(node) = self.nodes().all.get_mut(&node)
        {
            node.own_change = (meta.ctime(), meta.ctime_nsec());
        }
    }

    fn shown(&self, node: u64, meta: Metadata) -> Shown {
        let account = |is_own: bool| if is_own { ACCOUNT_ID } else { NOBODY };
        // What is made has the group that its maker has here.
        let is_own_group = meta.gid() == self.owner.1 || meta.gid() == rustix::process::getegid().as_raw();
        let owner = (account(meta.uid() == self.owner.0), account(is_own_group));
        let mode = meta.mode();
        Shown { node, meta, owner, mode }
    }

    fn valid(&self, directory: u64) -> u64 {
        if self.watching.watches(directory) { VALID } else { 0 }
    }

    /// An entry of a directory, which the machine knows from now on.
    fn found(&self, directory: u64, name: &[u8]) -> Done {
        let above = self.place(directory)?;
        self.watching.watch(directory, &above);
        let (shown, valid) = self.enter(directory, &above, name)?;
        Ok(Some(Answer::default().entry(&shown, valid)))
    }

    fn enter(&self, directory: u64, above: &OwnedFd, name: &[u8]) -> Result<(Shown, u64), Errno> {
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let place = rustix::fs::openat(above, name, flags, Mode::empty())?;
        let meta = meta_of(&place)?;
        let node = self.nodes().enter(place, &meta, (directory, name.to_vec()));
        Ok((self.shown(node, meta), self.valid(directory)))
    }

    /// What the thread that tells programs finds at a name that came or went.
    fn told(&self, directory: u64, name: &[u8], told: Told) -> Done {
        let Told::Gone(is_directory) = told else { return Err(Errno::NOENT) };
        // It is removed at once; nothing but its kind counts.
        let above = self.place(directory)?;
        let meta = meta_of(&above)?;
        let mut nodes = self.nodes();
        nodes.last += 1;
        let mut shown = self.shown(nodes.last, meta);
        shown.mode = if is_directory { 0o040_755 } else { 0o100_644 };
        let parted = (directory, name.to_vec());
        nodes.all.insert(
            shown.node,
            Node {
                place: Some(above),
                pinned: true,
                identity: (0, shown.node, 0),
                known: 1,
                parent: parted.0,
                name: parted.1,
                own_change: (0, 0),
            },
        );
        Ok(Some(Answer::default().entry(&shown, 0)))
    }

    fn attributes(&self, node: u64) -> Done {
        let (place, parent) = {
            let mut nodes = self.nodes();
            (nodes.place(node)?, nodes.all.get(&node).ok_or(Errno::STALE)?.parent)
        };
        let shown = self.shown(node, meta_of(&place)?);
        Ok(Some(Answer::default().u64(self.valid(parent)).u32(0).u32(0).attributes(&shown)))
    }

    fn open(&self, node: u64, flags: OFlags) -> Result<File, Errno> {
        let place = self.place(node)?;
        // Anything but a file, such as a pipe, the machine's kernel opens by itself.
        if kind_of(&meta_of(&place)?) != 0o100_000 {
            return Err(Errno::PERM);
        }
        let access = flags & (OFlags::ACCMODE | OFlags::TRUNC);
        // Where it is written is said with each write; reading back what is there may be part of writing.
        let path = format!("/proc/self/fd/{}", place.as_raw_fd());
        let flags = access | OFlags::CLOEXEC | OFlags::NOCTTY | OFlags::NONBLOCK;
        Ok(rustix::fs::open(path.as_str(), flags, Mode::empty())?.into())
    }

    fn hold(&self, handle: Handle) -> Answer {
        let mut handles = locked(&self.handles);
        handles.0 += 1;
        let (number, keep) = (handles.0, if matches!(handle, Handle::File(_)) { fuse::KEEP_CACHE } else { 0 });
        handles.1.insert(number, handle);
        Answer::default().u64(number).u32(keep).u32(0)
    }

    fn with_file(&self, handle: u64, work: impl FnOnce(&File) -> Result<(), Errno>) -> Result<(), Errno> {
        match locked(&self.handles).1.get(&handle) {
            Some(Handle::File(file)) => work(file),
            _ => Err(Errno::BADF),
        }
    }

    fn set(&self, node: u64, rest: &mut Bytes<'_>) -> Done {
        let mut word = || rest.u64().ok_or(Errno::INVAL);
        let (valid, handle, size) = (word()? as u32, word()?, word()?);
        let (_, atime, mtime, _, atime_nanos, mtime_nanos) = {
            let (lock, atime, mtime, ctime) = (word()?, word()?, word()?, word()?);
            let nanos = word()?;
            (lock, atime, mtime, ctime, nanos & 0xffff_ffff, nanos >> 32)
        };
        let mode = (word()? >> 32) as u32;
        let place = self.place(node)?;
        let path = format!("/proc/self/fd/{}", place.as_raw_fd());
        let meta = meta_of(&place)?;
        if valid & fuse::SET_SIZE != 0 {
            let by_handle = self.with_file(handle, |file| file.set_len(size).map_err(fail));
            if by_handle.is_err() {
                self.open(node, OFlags::WRONLY)?.set_len(size).map_err(fail)?;
            }
        }
        if valid & fuse::SET_MODE != 0 {
            // Nothing here runs as somebody else because of what was done in a machine.
            let taken = if meta.is_dir() { 0o4000 } else { SET_ID };
            std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode & 0o7777 & !taken)).map_err(fail)?;
        }
        let time = |set: u32, now: u32, seconds: u64, nanos: u64| match (valid & now, valid & set) {
            (0, 0) => Timespec { tv_sec: 0, tv_nsec: rustix::fs::UTIME_OMIT },
            (0, _) => Timespec { tv_sec: i64::from_le_bytes(seconds.to_le_bytes()), tv_nsec: nanos as i64 },
            _ => Timespec { tv_sec: 0, tv_nsec: rustix::fs::UTIME_NOW },
        };
        let times = Timestamps {
            last_access: time(fuse::SET_ATIME, fuse::SET_ATIME_NOW, atime, atime_nanos),
            last_modification: time(fuse::SET_MTIME, fuse::SET_MTIME_NOW, mtime, mtime_nanos),
        };
        if valid & (fuse::SET_ATIME | fuse::SET_MTIME) != 0 {
            rustix::fs::utimensat(&*place, "", &times, AtFlags::EMPTY_PATH | AtFlags::SYMLINK_NOFOLLOW)
                .or_else(|_| rustix::fs::utimensat(CWD, path.as_str(), &times, AtFlags::empty()))?;
        }
        // The one owner that there can be here is right already, and others are the machine's business.
        if let Ok(meta) = meta_of(&place)
            && let Some(node) = self.nodes().all.get_mut(&node)
        {
            node.own_change = (meta.ctime(), meta.ctime_nsec());
        }
        self.attributes(node)
    }

    fn make_node(&self, node: u64, rest: &mut Bytes<'_>) -> Done {
        let (mode, _) = (rest.u32().ok_or(Errno::INVAL)?, rest.take(12));
        let (name, above) = (rest.name().ok_or(Errno::INVAL)?, self.place(node)?);
        let kind = FileType::from_raw_mode(mode);
        // A device would be one of this machine's.
        if !matches!(kind, FileType::RegularFile | FileType::Fifo | FileType::Socket) {
            return Err(Errno::PERM);
        }
        let mode = Mode::from_raw_mode(mode & 0o777);
        self.own(node, name, || rustix::fs::mknodat(&*above, name, kind, mode, 0))?;
        self.found(node, name)
    }

    fn create(&self, node: u64, rest: &mut Bytes<'_>) -> Done {
        let (flags, mode) = (rest.u32().ok_or(Errno::INVAL)?, rest.u32().ok_or(Errno::INVAL)?);
        rest.take(8);
        let (name, above) = (rest.name().ok_or(Errno::INVAL)?, self.place(node)?);
        let flags = OFlags::from_bits_retain(flags) & (OFlags::ACCMODE | OFlags::EXCL | OFlags::TRUNC);
        let flags = flags | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK | OFlags::NOCTTY;
        let mode = Mode::from_raw_mode(mode & 0o777);
        let exclusive = flags | OFlags::EXCL;
        // Whether it came to be is what the watching thread has to know.
        let made = self.own(node, name, || rustix::fs::openat(&*above, name, exclusive, mode));
        let file = match made {
            Err(Errno::EXIST) if !flags.contains(OFlags::EXCL) => rustix::fs::openat(&*above, name, flags, mode)?,
            other => other?,
        };
        let file = File::from(file);
        if !file.metadata().map_err(fail)?.is_file() {
            return Err(Errno::PERM);
        }
        self.watching.watch(node, &above);
        let (shown, valid) = self.enter(node, &above, name)?;
        self.note_change(shown.node, &file);
        let entry = Answer::default().entry(&shown, valid);
        let held = self.hold(Handle::File(file));
        Ok(Some(entry.bytes(&held.0)))
    }

    fn rename(&self, node: u64, rest: &mut Bytes<'_>, has_flags: bool) -> Done {
        let to = rest.u64().ok_or(Errno::INVAL)?;
        let flags = if has_flags { rest.u64().ok_or(Errno::INVAL)? as u32 } else { 0 };
        let (old, new) = (rest.name().ok_or(Errno::INVAL)?, rest.name().ok_or(Errno::INVAL)?);
        let flags = RenameFlags::from_bits_retain(flags);
        // A whiteout is a device.
        if flags.contains(RenameFlags::WHITEOUT) {
            return Err(Errno::INVAL);
        }
        let (from_place, to_place) = (self.place(node)?, self.place(to)?);
        // What is replaced loses its name.
        self.nodes().pin(&to_place, new);
        self.own(node, old, || {
            self.own(to, new, || rustix::fs::renameat_with(&*from_place, old, &*to_place, new, flags))
        })?;
        // Where things are is told by their names.
        let _ = self.enter(to, &to_place, new).map(|(shown, _)| self.nodes().forget(shown.node, 1));
        Ok(Some(Answer::default()))
    }

    fn open_directory(&self, node: u64) -> Done {
        let place = self.place(node)?;
        self.watching.watch(node, &place);
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let listed = rustix::fs::openat(&*place, ".", flags, Mode::empty())?;
        let mut entries = Vec::new();
        for entry in rustix::fs::Dir::new(listed)? {
            let entry = entry?;
            let kind = entry.file_type().as_raw_mode() >> 12;
            entries.push((entry.file_name().to_bytes().to_vec(), kind, entry.ino()));
        }
        Ok(Some(self.hold(Handle::Directory(entries))))
    }

    fn list(&self, node: u64, rest: &mut Bytes<'_>, with_attributes: bool) -> Done {
        let (handle, from) = (rest.u64().ok_or(Errno::INVAL)?, rest.u64().ok_or(Errno::INVAL)? as usize);
        let mut listing = Listing::new(rest.u32().ok_or(Errno::INVAL)? as usize);
        let above = self.place(node)?;
        let handles = locked(&self.handles);
        let Some(Handle::Directory(entries)) = handles.1.get(&handle) else { return Err(Errno::BADF) };
        for (at, (name, kind, inode)) in entries.iter().enumerate().skip(from) {
            let mut about = Vec::new();
            let mut known = None;
            if with_attributes {
                about = vec![0; 128];
                let is_own = matches!(name.as_slice(), b"." | b"..");
                if !is_own && let Ok((shown, valid)) = self.enter(node, &above, name) {
                    about = Answer::default().entry(&shown, valid).0;
                    known = Some(shown.node);
                }
            }
            if !listing.add(&about, (*inode, *kind, name), at as u64 + 1) {
                // What did not fit is not known to the machine.
                known.into_iter().for_each(|node| self.nodes().forget(node, 1));
                break;
            }
        }
        Ok(Some(listing.finish()))
    }
}

impl Nodes {
    /// Counts one more of a file or directory that the machine knows.
    fn enter(&mut self, place: OwnedFd, meta: &Metadata, (parent, name): (u64, Vec<u8>)) -> u64 {
        let identity = identity_of(meta);
        if let Some(node) = self.by_identity.get(&identity).copied()
            && let Some(known) = self.all.get_mut(&node)
        {
            known.known += 1;
            (known.parent, known.name) = (parent, name);
            if known.place.is_none() {
                known.place = Some(Arc::new(place));
                self.opened(node);
            }
            return node;
        }
        self.last += 1;
        let node = self.last;
        self.by_identity.insert(identity, node);
        let place = Some(Arc::new(place));
        let own_change = (0, 0);
        self.all.insert(node, Node { place, pinned: false, identity, known: 1, parent, name, own_change });
        self.opened(node);
        node
    }

    /// Closes those that were open longest, when there are too many.
    fn opened(&mut self, node: u64) {
        self.open.push_back(node);
        for _ in self.most..self.open.len() {
            let Some(oldest) = self.open.pop_front() else { return };
            let Some(known) = self.all.get_mut(&oldest) else { continue };
            let is_used = known.place.as_ref().is_some_and(|place| Arc::strong_count(place) > 1);
            if oldest == TOP || known.pinned || is_used {
                self.open.push_back(oldest);
            } else {
                known.place = None;
            }
        }
    }

    /// The place of what the machine knows, opened again when it was closed.
    pub fn place(&mut self, node: u64) -> Result<Arc<OwnedFd>, Errno> {
        let mut way = Vec::new();
        let mut at = node;
        let mut place = loop {
            let known = self.all.get(&at).ok_or(Errno::STALE)?;
            if let Some(place) = &known.place {
                break Arc::clone(place);
            }
            way.push(at);
            at = known.parent;
            // A directory that was moved into itself meanwhile, as far as we know.
            if way.len() > DEEPEST {
                return Err(Errno::STALE);
            }
        };
        for at in way.into_iter().rev() {
            let known = self.all.get_mut(&at).ok_or(Errno::STALE)?;
            let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            let found = rustix::fs::openat(&*place, known.name.as_slice(), flags, Mode::empty());
            let found = found.map_err(|_| Errno::STALE)?;
            // Another one has its name now.
            if identity_of(&meta_of(&found)?) != known.identity {
                return Err(Errno::STALE);
            }
            place = Arc::new(found);
            known.place = Some(Arc::clone(&place));
            self.opened(at);
        }
        Ok(place)
    }

    /// Keeps the place of what loses its name: somebody may have it open.
    fn pin(&mut self, above: &OwnedFd, name: &[u8]) {
        let Some((node, _)) = self.named(above, name) else { return };
        if self.place(node).is_ok()
            && let Some(known) = self.all.get_mut(&node)
        {
            known.pinned = true;
        }
    }

    fn forget(&mut self, node: u64, count: u64) {
        let Some(known) = self.all.get_mut(&node).filter(|_| node != TOP) else { return };
        known.known = known.known.saturating_sub(count);
        if known.known == 0 {
            let identity = known.identity;
            self.all.remove(&node);
            if self.by_identity.get(&identity) == Some(&node) {
                self.by_identity.remove(&identity);
            }
        }
    }

    /// Whether a change of a name is one of ours, of which the kernel tells now.
    pub fn take_own(&mut self, directory: u64, name: &[u8]) -> bool {
        let key = (directory, name.to_vec());
        let Some(count) = self.own_names.get_mut(&key) else { return false };
        *count -= 1;
        if *count == 0 {
            self.own_names.remove(&key);
        }
        true
    }

    /// The path of an entry from the folder on.
    pub fn path(&self, directory: u64, name: &[u8]) -> Option<PathBuf> {
        let mut names = vec![name.to_vec()];
        let mut at = directory;
        while at != TOP {
            let node = self.all.get(&at)?;
            names.push(node.name.clone());
            at = node.parent;
            if names.len() > DEEPEST {
                return None;
            }
        }
        Some(names.iter().rev().map(|name| OsStr::from_bytes(name)).collect())
    }

    /// The node that a directory has under a name, when the machine knows it.
    pub fn named(&self, place: &OwnedFd, name: &[u8]) -> Option<(u64, Metadata)> {
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let found = rustix::fs::openat(place, name, flags, Mode::empty()).ok()?;
        let meta = meta_of(&found).ok()?;
        let node = self.by_identity.get(&identity_of(&meta))?;
        Some((*node, meta))
    }
}

/// What is at a place.
fn meta_of(place: &OwnedFd) -> Result<Metadata, Errno> {
    File::from(place.as_fd().try_clone_to_owned().map_err(fail)?).metadata().map_err(fail)
}

#[cfg(test)]
mod tests;
