//! Recording owners where there is only one to give.
//!
//! Behind a filter of system calls (seccomp_unotify(2)), what a build step asks for in the way of owners goes to a helper of ours instead of
//! the kernel: changing a file's owner writes it beside the file (the attribute `user.cavrith.owner`, as the store reads it), and becoming
//! somebody else is answered with yes. What was answered so is remembered: who looks at a file sees the owner that is written beside it, and who asks who
//! they are hears who they became ([`crate::looking`]). So a package manager's scripts find everything as they do on a machine with all
//! owners.
//!
//! The helper looks at the file that the caller means through the caller's own entry in `/proc`. A caller that changes its
//! arguments in the meantime cheats nobody but itself: the helper can reach nothing that the caller cannot.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Write as _};
use std::os::fd::{AsRawFd as _, FromRawFd as _, OwnedFd};
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _, PermissionsExt as _};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};

use cavrith_core::account::{OWNER_RECORD, owner_record, parse_owner_record};
use nix::sys::wait::waitpid;
use nix::unistd::{ForkResult, fork};
use rustix::event::{PollFd, PollFlags};
use rustix::fs::{AtFlags, CWD, Mode, OFlags, Timespec, Timestamps, XattrFlags};

use crate::looking::{ASKING_CALLS, Became, LOOKING_CALLS, Look};
use crate::wire;

/// The file beside an upper directory in which owners stand that no file can carry: `UID GID PATH` and a zero byte, for each.
pub const OTHERS: &str = "others";
/// An id that leaves the owner as it is (chown(2)).
const KEEP: u32 = u32::MAX;

/// Calls that change the owner of a file, with where their arguments are.
#[cfg(target_arch = "x86_64")]
const OWNER_CALLS: &[i64] = &[libc::SYS_chown, libc::SYS_lchown, libc::SYS_fchown, libc::SYS_fchownat];
#[cfg(not(target_arch = "x86_64"))]
const OWNER_CALLS: &[i64] = &[libc::SYS_fchown, libc::SYS_fchownat];

/// Calls by which a process becomes somebody else.
const USER_CALLS: &[i64] = &[
    libc::SYS_setuid,
    libc::SYS_setgid,
    libc::SYS_setreuid,
    libc::SYS_setregid,
    libc::SYS_setresuid,
    libc::SYS_setresgid,
    libc::SYS_setgroups,
    libc::SYS_setfsuid,
    libc::SYS_setfsgid,
];

#[cfg(target_arch = "x86_64")]
const LCHOWN: i64 = libc::SYS_lchown;
/// There is no such call.
#[cfg(not(target_arch = "x86_64"))]
const LCHOWN: i64 = -1;

/// A helper that waits for the process to attach itself.
pub(crate) struct Recorder {
    helper: UnixStream,
}

impl Recorder {
    /// Starts the helper. Must be called in a process with a single thread, which still has its capabilities.
    pub(crate) fn start(others: &File) -> io::Result<Self> {
        let (ours, theirs) = UnixStream::pair()?;
        // SAFETY: this process has a single thread; the child may do anything a fresh process may.
        match unsafe { fork() }? {
            ForkResult::Parent { child } => {
                // It has ended already; the helper is its child, and now PID 1's, so that the command has no child it does
                // not know of.
                waitpid(child, None)?;
                Ok(Self { helper: ours })
            }
            ForkResult::Child => {
                drop(ours);
                // SAFETY: as above.
                if let Ok(ForkResult::Child) = unsafe { fork() } {
                    let _ = rustix::process::setsid();
                    let (theirs, others) = keep_only(&theirs, others);
                    let _ = help(&theirs, &others);
                }
                // SAFETY: _exit only ends the process, without running anything of the parent's.
                unsafe { libc::_exit(0) }
            }
        }
    }

    /// Puts this process, and all that come from it, behind the helper.
    pub(crate) fn attach(self) -> io::Result<()> {
        let listener = listen()?;
        wire::send(&self.helper, &(), &[std::os::fd::AsFd::as_fd(&listener)])
    }
}

/// Closes everything but these two: whoever reads what the command writes must not wait for the helper.
fn keep_only(theirs: &UnixStream, others: &File) -> (UnixStream, File) {
    // SAFETY: descriptors 0 and 1 are replaced and all others closed in a process in which nobody uses the values that own them
    // again; it ends by _exit, so none of them is dropped.
    unsafe {
        libc::dup2(theirs.as_raw_fd(), 2);
        libc::dup2(others.as_raw_fd(), 1);
        libc::dup2(2, 0);
        libc::close_range(2, libc::c_uint::MAX, 0);
        (UnixStream::from_raw_fd(0), File::from_raw_fd(1))
    }
}

/// Installs the filter, and returns where its questions arrive.
fn listen() -> io::Result<OwnedFd> {
    let step = |code: u32, jt, jf, k| libc::sock_filter { code: code as u16, jt, jf, k };
    let calls: Vec<_> = OWNER_CALLS.iter().chain(USER_CALLS).chain(LOOKING_CALLS).chain(ASKING_CALLS).collect();
    // The call's number lies at the beginning of the data (seccomp(2), struct seccomp_data). Calls of other tables than the
    // machine's own are refused by the filter that is there already.
    let mut program = vec![step(libc::BPF_LD | libc::BPF_W | libc::BPF_ABS, 0, 0, 0)];
    for (position, call) in calls.iter().enumerate() {
        let to_question = (calls.len() - position) as u8;
        program.push(step(libc::BPF_JMP | libc::BPF_JEQ | libc::BPF_K, to_question, 0, **call as u32));
    }
    program.push(step(libc::BPF_RET | libc::BPF_K, 0, 0, libc::SECCOMP_RET_ALLOW));
    program.push(step(libc::BPF_RET | libc::BPF_K, 0, 0, libc::SECCOMP_RET_USER_NOTIF));
    let whole = libc::sock_fprog { len: program.len() as u16, filter: program.as_mut_ptr() };
    // SAFETY: seccomp reads one sock_fprog and the instructions that it points to, which live until the call returns; what it
    // returns is a descriptor that nobody else owns.
    let listener = unsafe {
        libc::syscall(
            libc::SYS_seccomp,
            libc::SECCOMP_SET_MODE_FILTER,
            libc::SECCOMP_FILTER_FLAG_NEW_LISTENER,
            &raw const whole,
        )
    };
    if listener < 0 {
        return Err(io::Error::last_os_error());
    }
    // SAFETY: see above.
    Ok(unsafe { OwnedFd::from_raw_fd(listener as i32) })
}

/// The helper: answers until nobody is left behind the filter.
fn help(theirs: &UnixStream, others: &File) -> io::Result<()> {
    let Some(((), mut fds)) = wire::receive::<()>(theirs)? else { return Ok(()) };
    let Some(listener) = fds.pop() else { return Ok(()) };
    let mut helper = Helper { listener, others, known: HashMap::new(), became: Became::default() };
    while helper.question()? {}
    Ok(())
}

struct Helper<'a> {
    listener: OwnedFd,
    others: &'a File,
    /// Owners of links and pipes, by device and inode.
    known: HashMap<(u64, u64), (u32, u32)>,
    /// Who processes have become.
    became: Became,
}

impl Helper<'_> {
    /// Takes one question and answers it; false when there will be no more.
    fn question(&mut self) -> io::Result<bool> {
        let mut watched = [PollFd::new(&self.listener, PollFlags::IN)];
        match rustix::event::poll(&mut watched, None) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(error.into()),
        }
        let came = watched[0].revents();
        if !came.contains(PollFlags::IN) {
            return Ok(!came.intersects(PollFlags::HUP | PollFlags::ERR));
        }
        // SAFETY: seccomp_notif is plain data, for which all zeros are a valid value; the kernel wants it so.
        let mut asked: libc::seccomp_notif = unsafe { std::mem::zeroed() };
        // SAFETY: the request writes one seccomp_notif, which lives until the call returns.
        let received = unsafe { libc::ioctl(self.listener.as_raw_fd(), SECCOMP_IOCTL_NOTIF_RECV, &raw mut asked) };
        if received < 0 {
            let error = io::Error::last_os_error();
            return match error.raw_os_error() {
                // The caller was ended before we looked.
                Some(libc::EINTR | libc::ENOENT) => Ok(true),
                _ => Err(error),
            };
        }
        let call = i64::from(asked.data.nr);
        let arguments = asked.data.args.map(|argument| argument as u32);
        let (mut value, mut error, mut flags) = (0, None, 0);
        if OWNER_CALLS.contains(&call) {
            error = self.own(&asked).err();
        } else if LOOKING_CALLS.contains(&call) {
            // Whatever we cannot answer the kernel can.
            if !self.look(&asked).unwrap_or(false) {
                flags = libc::SECCOMP_USER_NOTIF_FLAG_CONTINUE as u32;
            }
        } else if ASKING_CALLS.contains(&call) {
            match self.became.answer(asked.pid, call) {
                Some(who) => value = who.into(),
                None => flags = libc::SECCOMP_USER_NOTIF_FLAG_CONTINUE as u32,
            }
        } else {
            self.became.become_other(asked.pid, call, &arguments);
        }
        let mut answer = libc::seccomp_notif_resp {
            id: asked.id,
            val: value,
            error: error.map_or(0, |error| -error.raw_os_error().unwrap_or(libc::EIO)),
            flags,
        };
        // SAFETY: the request reads one seccomp_notif_resp, which lives until the call returns. A caller that is gone
        // meanwhile needs no answer.
        unsafe { libc::ioctl(self.listener.as_raw_fd(), SECCOMP_IOCTL_NOTIF_SEND, &raw mut answer) };
        Ok(true)
    }

    /// Changes an owner, on paper.
    fn own(&mut self, asked: &libc::seccomp_notif) -> io::Result<()> {
        let caller = asked.pid;
        let argument = asked.data.args;
        let call = i64::from(asked.data.nr);
        let (file, user, group) = if call == libc::SYS_fchown {
            let path = format!("/proc/{caller}/fd/{}", argument[0] as i32);
            (open(CWD.as_raw_fd(), Path::new(&path), true)?, argument[1], argument[2])
        } else if call == libc::SYS_fchownat {
            let flags = argument[4] as i32;
            let name = read_text(caller, argument[1])?;
            let follow = flags & libc::AT_SYMLINK_NOFOLLOW == 0;
            let file = if name.is_empty() && flags & libc::AT_EMPTY_PATH != 0 {
                open(CWD.as_raw_fd(), &PathBuf::from(format!("/proc/{caller}/fd/{}", argument[0] as i32)), true)?
            } else {
                self.find(caller, argument[0] as i32, &name, follow)?
            };
            (file, argument[2], argument[3])
        } else {
            let follow = call != LCHOWN;
            let name = read_text(caller, argument[0])?;
            (self.find(caller, libc::AT_FDCWD, &name, follow)?, argument[1], argument[2])
        };
        self.record(&file, user as u32, group as u32)
    }

    /// Answers a look at a file that has an owner written beside it, or was given one; false when the kernel's own answer is right.
    fn look(&self, asked: &libc::seccomp_notif) -> io::Result<bool> {
        let caller = asked.pid;
        let Some(look) = Look::at(asked) else { return Ok(false) };
        let file = match look.name {
            Some(name) => {
                let name = read_text(caller, name)?;
                if name.is_empty() {
                    open(CWD.as_raw_fd(), &PathBuf::from(format!("/proc/{caller}/fd/{}", look.directory)), true)?
                } else {
                    self.find(caller, look.directory, &name, look.follow)?
                }
            }
            None => open(CWD.as_raw_fd(), &PathBuf::from(format!("/proc/{caller}/fd/{}", look.directory)), true)?,
        };
        let meta = file.metadata()?;
        let kind = meta.file_type();
        let owner = if kind.is_file() || kind.is_dir() {
            recorded(&format!("/proc/self/fd/{}", file.as_raw_fd()))?
        } else {
            self.known.get(&(meta.dev(), meta.ino())).copied().unwrap_or((0, 0))
        };
        if owner == (0, 0) {
            return Ok(false);
        }
        look.answer(&file, caller, owner)?;
        Ok(true)
    }

    /// The file that a caller means, opened for nothing but to name it.
    fn find(&self, caller: u32, directory: i32, name: &[u8], follow: bool) -> io::Result<File> {
        use std::os::unix::ffi::OsStrExt as _;
        let name = Path::new(std::ffi::OsStr::from_bytes(name));
        if name.as_os_str().is_empty() {
            return Err(io::Error::from_raw_os_error(libc::ENOENT));
        }
        let from = if name.is_absolute() {
            format!("/proc/{caller}/root")
        } else if directory == libc::AT_FDCWD {
            format!("/proc/{caller}/cwd")
        } else {
            format!("/proc/{caller}/fd/{directory}")
        };
        let from = open(CWD.as_raw_fd(), Path::new(&from), true)?;
        let relative = name.strip_prefix("/").unwrap_or(name);
        let relative = if relative.as_os_str().is_empty() { Path::new(".") } else { relative };
        open(from.as_raw_fd(), relative, follow)
    }

    fn record(&mut self, file: &File, user: u32, group: u32) -> io::Result<()> {
        let meta = file.metadata()?;
        let kind = meta.file_type();
        // By this name the file can be changed though it is open for nothing.
        let name = format!("/proc/self/fd/{}", file.as_raw_fd());
        if kind.is_file() || kind.is_dir() {
            let before = recorded(&name)?;
            let owner = merged(before, user, group);
            rustix::fs::setxattr(&name, OWNER_RECORD, owner_record(owner).as_bytes(), XattrFlags::empty())?;
            return if kind.is_file() { drop_rights(&name, &meta) } else { Ok(()) };
        }
        if kind.is_symlink() || kind.is_fifo() {
            let before = self.known.get(&(meta.dev(), meta.ino())).copied().unwrap_or((0, 0));
            let owner = merged(before, user, group);
            let path = std::fs::read_link(&name)?;
            // The change itself is what brings a file of a lower layer up, where it can be found.
            let now = Timespec { tv_sec: 0, tv_nsec: rustix::fs::UTIME_NOW };
            let times = Timestamps { last_access: now, last_modification: now };
            rustix::fs::utimensat(CWD, &path, &times, AtFlags::SYMLINK_NOFOLLOW)?;
            self.known.insert((meta.dev(), meta.ino()), owner);
            let mut line = format!("{} {} ", owner.0, owner.1).into_bytes();
            line.extend(std::os::unix::ffi::OsStrExt::as_bytes(path.as_os_str()));
            line.push(0);
            return self.others.write_all(&line);
        }
        // Devices and sockets are no part of an image that could be told apart.
        Ok(())
    }
}

fn merged(before: (u32, u32), user: u32, group: u32) -> (u32, u32) {
    (if user == KEEP { before.0 } else { user }, if group == KEEP { before.1 } else { group })
}

fn recorded(name: &str) -> io::Result<(u32, u32)> {
    let mut value = [0; 32];
    let length = match rustix::fs::getxattr(name, OWNER_RECORD, &mut value[..]) {
        Ok(length) => length,
        Err(rustix::io::Errno::NODATA) => return Ok((0, 0)),
        Err(error) => return Err(error.into()),
    };
    Ok(parse_owner_record(&value[..length]).unwrap_or((0, 0)))
}

/// A real change of the owner takes these away, whoever makes it (chown(2)).
fn drop_rights(name: &str, meta: &std::fs::Metadata) -> io::Result<()> {
    let mode = meta.mode() & 0o7777;
    let group_runs = mode & 0o010 != 0;
    let kept = mode & !(0o4000 | if group_runs { 0o2000 } else { 0 });
    if kept != mode {
        std::fs::set_permissions(name, std::fs::Permissions::from_mode(kept))?;
    }
    match rustix::fs::removexattr(name, "security.capability") {
        Ok(()) | Err(rustix::io::Errno::NODATA | rustix::io::Errno::NOTSUP) => Ok(()),
        Err(error) => Err(error.into()),
    }
}

/// Opens a file for nothing but to name it.
fn open(from: i32, path: &Path, follow: bool) -> io::Result<File> {
    let mut flags = OFlags::PATH | OFlags::CLOEXEC;
    flags.set(OFlags::NOFOLLOW, !follow);
    // SAFETY: the descriptor is AT_FDCWD or one that the caller holds until this returns.
    let from = unsafe { std::os::fd::BorrowedFd::borrow_raw(from) };
    Ok(rustix::fs::openat(from, path, flags, Mode::empty())?.into())
}

/// A text in a caller's memory.
fn read_text(caller: u32, address: u64) -> io::Result<Vec<u8>> {
    use std::os::unix::fs::FileExt as _;
    let memory = File::open(format!("/proc/{caller}/mem"))?;
    let mut text = Vec::new();
    let mut at = address;
    while text.len() < libc::PATH_MAX as usize {
        // Never over the end of a page, behind which there may be nothing.
        let room = 4096 - (at % 4096) as usize;
        let mut piece = vec![0; room];
        let read = memory.read_at(&mut piece, at)?;
        match piece[..read].iter().position(|byte| *byte == 0) {
            Some(end) => {
                text.extend(&piece[..end]);
                return Ok(text);
            }
            None if read == 0 => return Err(io::Error::from_raw_os_error(libc::EFAULT)),
            None => text.extend(&piece[..read]),
        }
        at += read as u64;
    }
    Err(io::Error::from_raw_os_error(libc::ENAMETOOLONG))
}

/// `_IOWR('!', 0, struct seccomp_notif)` and `_IOWR('!', 1, struct seccomp_notif_resp)` (linux/seccomp.h); libc has no names for them.
const SECCOMP_IOCTL_NOTIF_RECV: libc::Ioctl = request(0, size_of::<libc::seccomp_notif>());
const SECCOMP_IOCTL_NOTIF_SEND: libc::Ioctl = request(1, size_of::<libc::seccomp_notif_resp>());

const fn request(number: u32, size: usize) -> libc::Ioctl {
    (3 << 30 | (size as u32) << 16 | (b'!' as u32) << 8 | number) as libc::Ioctl
}

/// The owners that stand in an [`OTHERS`] file, by path from the root, without a slash before it.
pub fn read_others(text: &[u8]) -> HashMap<Vec<u8>, (u32, u32)> {
    let line = |line: &[u8]| {
        let mut fields = line.splitn(3, |byte| *byte == b' ');
        let mut number = || std::str::from_utf8(fields.next()?).ok()?.parse::<u32>().ok();
        let owner = (number()?, number()?);
        Some((fields.next()?.strip_prefix(b"/")?.to_vec(), owner))
    };
    text.split(|byte| *byte == 0).filter_map(line).collect()
}
