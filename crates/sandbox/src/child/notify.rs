//! Answering system calls in the kernel's stead (seccomp_unotify(2)): the plumbing of the helpers that do.
//!
//! A helper examines what a caller means through the caller's own entry in `/proc`. Anyone who changes its arguments in
//! the meantime must gain nothing by it: so what is allowed is done by the helper, on what it examined, and never by
//! the caller once more.

use std::fs::File;
use std::io;
use std::os::fd::{AsRawFd as _, FromRawFd as _, OwnedFd};
use std::os::unix::net::UnixStream;
use std::path::Path;

use nix::sys::wait::waitpid;
use nix::unistd::{ForkResult, fork};
use rustix::event::{PollFd, PollFlags};
use rustix::fs::{CWD, Mode, OFlags};
use rustix::process::DumpableBehavior;

/// Loads the call's number, which lies at the beginning of the data (seccomp(2), struct seccomp_data).
pub(crate) const LOAD_CALL: libc::sock_filter = step(libc::BPF_LD | libc::BPF_W | libc::BPF_ABS, 0, 0, 0);

/// One instruction of a filter.
pub(crate) const fn step(code: u32, jt: u8, jf: u8, k: u32) -> libc::sock_filter {
    libc::sock_filter { code: code as u16, jt, jf, k }
}

/// Has a call asked about when any of these bits is in the lower half of an argument; otherwise the kernel carries it
/// out. Little-endian, as all machines that are supported.
pub(crate) fn asks_if_any(call: i64, argument: u32, bits: u32) -> [libc::sock_filter; 5] {
    [
        step(libc::BPF_JMP | libc::BPF_JEQ | libc::BPF_K, 0, 4, call as u32),
        // The arguments follow the number, the machine and the address (seccomp(2), struct seccomp_data).
        step(libc::BPF_LD | libc::BPF_W | libc::BPF_ABS, 0, 0, 16 + 8 * argument),
        step(libc::BPF_JMP | libc::BPF_JSET | libc::BPF_K, 0, 1, bits),
        step(libc::BPF_RET | libc::BPF_K, 0, 0, libc::SECCOMP_RET_USER_NOTIF),
        step(libc::BPF_RET | libc::BPF_K, 0, 0, libc::SECCOMP_RET_ALLOW),
    ]
}

/// Starts a helper, which is a child of PID 1 and nobody's else, and returns the socket on which it waits to be
/// told what to listen to. Must be called in a process with a single thread. The helper ends when `work` does.
pub(crate) fn start_helper(work: impl FnOnce(UnixStream)) -> io::Result<UnixStream> {
    let (ours, theirs) = UnixStream::pair()?;
    // SAFETY: this process has a single thread; the child may do anything a fresh process may.
    match unsafe { fork() }? {
        ForkResult::Parent { child } => {
            // It has ended already; the helper is its child, and now PID 1's, so that a command has no child it does
            // not know of.
            waitpid(child, None)?;
            Ok(ours)
        }
        ForkResult::Child => {
            drop(ours);
            // SAFETY: as above.
            if let Ok(ForkResult::Child) = unsafe { fork() } {
                let _ = rustix::process::setsid();
                // It can do more than those whom it serves, so it is nobody's to look into.
                let _ = rustix::process::set_dumpable_behavior(DumpableBehavior::NotDumpable);
                work(theirs);
            }
            // SAFETY: _exit only ends the process, without running anything of the parent's.
            unsafe { libc::_exit(0) }
        }
    }
}

/// Closes everything but these: anyone who reads what a command writes must not wait for a helper. The numbers from 0
/// on are theirs afterwards.
pub(crate) fn keep_only<const COUNT: usize>(kept: [OwnedFd; COUNT]) -> [OwnedFd; COUNT] {
    // Above all that is replaced, so that none of them is overwritten before it is moved.
    let high = kept.map(|fd| {
        // SAFETY: F_DUPFD gives a new descriptor that nobody owns; the old one is closed by the value that owns it.
        let moved = unsafe { libc::fcntl(fd.as_raw_fd(), libc::F_DUPFD, 64) };
        drop(fd);
        moved
    });
    for (number, fd) in high.iter().enumerate() {
        // SAFETY: descriptors below are replaced in a process in which nobody uses the values that own them again; it
        // ends by _exit, so none of them is dropped.
        unsafe { libc::dup2(*fd, number as i32) };
    }
    // SAFETY: as above.
    unsafe { libc::close_range(COUNT as u32, libc::c_uint::MAX, 0) };
    let mut number = -1;
    high.map(|_| {
        number += 1;
        // SAFETY: the descriptor was just made, and this is the only value that owns it.
        unsafe { OwnedFd::from_raw_fd(number) }
    })
}

/// Installs a filter that asks, and returns where its questions arrive.
pub(crate) fn listen(program: &mut [libc::sock_filter]) -> io::Result<OwnedFd> {
    let listener = put_on(program, libc::SECCOMP_FILTER_FLAG_NEW_LISTENER)?;
    // SAFETY: with this flag seccomp returns a descriptor that nobody else owns (seccomp(2)).
    Ok(unsafe { OwnedFd::from_raw_fd(listener as i32) })
}

/// Installs a filter that asks nobody.
pub(crate) fn install(program: &mut [libc::sock_filter]) -> io::Result<()> {
    put_on(program, 0).map(drop)
}

fn put_on(program: &mut [libc::sock_filter], flags: libc::c_ulong) -> io::Result<i64> {
    let whole = libc::sock_fprog { len: program.len() as u16, filter: program.as_mut_ptr() };
    // SAFETY: seccomp reads one sock_fprog and the instructions that it points to, which live until the call returns.
    let done = unsafe { libc::syscall(libc::SYS_seccomp, libc::SECCOMP_SET_MODE_FILTER, flags, &raw const whole) };
    if done < 0 { Err(io::Error::last_os_error()) } else { Ok(done) }
}

/// What came.
pub(crate) enum Next {
    Asked(Box<libc::seccomp_notif>),
    /// Nothing that needs an answer.
    Nothing,
    /// Nobody is left behind the filter.
    Over,
}

/// Waits for the next question.
pub(crate) fn next(listener: &OwnedFd) -> io::Result<Next> {
    let mut watched = [PollFd::new(listener, PollFlags::IN)];
    match rustix::event::poll(&mut watched, None) {
        Ok(_) | Err(rustix::io::Errno::INTR) => {}
        Err(error) => return Err(error.into()),
    }
    let came = watched[0].revents();
    if !came.contains(PollFlags::IN) {
        return Ok(if came.intersects(PollFlags::HUP | PollFlags::ERR) { Next::Over } else { Next::Nothing });
    }
    // SAFETY: seccomp_notif is plain data, for which all zeros are a valid value; the kernel wants it so.
    let mut asked: Box<libc::seccomp_notif> = Box::new(unsafe { std::mem::zeroed() });
    // SAFETY: the request writes one seccomp_notif, which lives until the call returns.
    let received = unsafe { libc::ioctl(listener.as_raw_fd(), libc::SECCOMP_IOCTL_NOTIF_RECV, &raw mut *asked) };
    if received < 0 {
        let error = io::Error::last_os_error();
        return match error.raw_os_error() {
            // The caller was ended before we looked.
            Some(libc::EINTR | libc::ENOENT) => Ok(Next::Nothing),
            _ => Err(error),
        };
    }
    Ok(Next::Asked(asked))
}

/// Whether the caller still waits: its number may be somebody else's now, so what was found through it is used
/// only when this is true afterwards.
pub(crate) fn still_asks(listener: &OwnedFd, asked: &libc::seccomp_notif) -> bool {
    // SAFETY: the request reads one number, which lives until the call returns.
    unsafe { libc::ioctl(listener.as_raw_fd(), libc::SECCOMP_IOCTL_NOTIF_ID_VALID, &raw const asked.id) == 0 }
}

/// What a caller is answered.
pub(crate) enum Answer {
    /// The call returns this.
    Value(i64),
    /// The call returns a copy of this descriptor; whether an exec closes it.
    Descriptor(OwnedFd, bool),
    /// The call fails.
    Failed(io::Error),
    /// The kernel carries it out.
    Go,
}

/// Answers a question. A caller that has ended meanwhile needs no answer.
pub(crate) fn answer(listener: &OwnedFd, asked: &libc::seccomp_notif, answer: Answer) {
    let (val, error, flags) = match answer {
        Answer::Descriptor(fd, closed) => {
            let add = libc::seccomp_notif_addfd {
                id: asked.id,
                flags: libc::SECCOMP_ADDFD_FLAG_SEND as u32,
                srcfd: fd.as_raw_fd() as u32,
                newfd: 0,
                newfd_flags: if closed { libc::O_CLOEXEC as u32 } else { 0 },
            };
            // SAFETY: the request reads one seccomp_notif_addfd, which lives until the call returns.
            let added = unsafe { libc::ioctl(listener.as_raw_fd(), libc::SECCOMP_IOCTL_NOTIF_ADDFD, &raw const add) };
            if added >= 0 {
                return;
            }
            (0, -io::Error::last_os_error().raw_os_error().unwrap_or(libc::EIO), 0)
        }
        Answer::Value(value) => (value, 0, 0),
        Answer::Failed(error) => (0, -error.raw_os_error().unwrap_or(libc::EIO), 0),
        Answer::Go => (0, 0, libc::SECCOMP_USER_NOTIF_FLAG_CONTINUE as u32),
    };
    let mut answer = libc::seccomp_notif_resp { id: asked.id, val, error, flags };
    // SAFETY: the request reads one seccomp_notif_resp, which lives until the call returns.
    unsafe { libc::ioctl(listener.as_raw_fd(), libc::SECCOMP_IOCTL_NOTIF_SEND, &raw mut answer) };
}

/// The file that a caller means, opened for nothing but to name it.
pub(crate) fn find(caller: u32, directory: i32, name: &[u8], follow: bool) -> io::Result<File> {
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

/// What a caller has open under a number.
pub(crate) fn descriptor(caller: u32, number: i32) -> io::Result<File> {
    open(CWD.as_raw_fd(), Path::new(&format!("/proc/{caller}/fd/{number}")), true)
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
pub(crate) fn read_text(caller: u32, address: u64) -> io::Result<Vec<u8>> {
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
