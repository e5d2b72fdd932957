//! Set-uid and set-gid bits stay inside: a program that somebody makes inside, in a folder that is also outside, must
//! not have its owner's rights out there.
//!
//! In a workspace every call that gives such bits goes to a helper (see [`crate::child::notify`]). On what is only the
//! inside's, its root and its small filesystems, the helper gives them, if the caller might; on anything else, which is
//! a folder of the member's or a kept one, it refuses. Calls that make a file with such bits at once are refused by the
//! filter, as nobody needs them, and `openat2`, whose arguments no filter sees, is answered as by an older kernel.
//!
//! Capabilities of files are kept from being set by `CAP_SETFCAP`, which a workspace does not have.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io;
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::os::unix::net::UnixStream;

use rustix::fs::{AtFlags, CWD, StatxFlags};

use crate::child::notify::{self, Answer, Next};
use crate::host::own_processes;
use crate::protocol::wire;

/// Set-uid and set-gid.
const BITS: u32 = 0o6000;
/// `fchmodat2`, for which libc has no name on every machine.
const FCHMODAT2: i64 = 452;
/// What is the inside's alone.
const OWN_MOUNTS: [&str; 4] = ["/", "/tmp", "/run", "/dev/shm"];
/// Bits of a set of capabilities (capabilities(7)).
const CAP_FOWNER: u64 = 1 << 3;
const CAP_FSETID: u64 = 1 << 4;

/// Calls that change rights, and which argument has the rights.
#[cfg(target_arch = "x86_64")]
const CALLS: &[(i64, u32)] = &[(libc::SYS_chmod, 1), (libc::SYS_fchmod, 1), (libc::SYS_fchmodat, 2), (FCHMODAT2, 2)];
#[cfg(not(target_arch = "x86_64"))]
const CALLS: &[(i64, u32)] = &[(libc::SYS_fchmod, 1), (libc::SYS_fchmodat, 2), (FCHMODAT2, 2)];

/// Puts PID 1, and all that come from it, behind the guard. The mounts of the inside must be in place; to be called
/// while the process has a single thread and no filter.
pub(crate) fn begin() -> io::Result<()> {
    let own = OWN_MOUNTS.iter().map(|path| mount_of(&format!("{path}/."))).collect::<io::Result<HashSet<_>>>()?;
    let namespace = user_namespace("self")?;
    let helper = notify::start_helper(move |theirs| {
        let _ = help(theirs, own, namespace);
    })?;
    // It is not a process of anybody's inside, and is counted as none.
    let Some((process, _)) = wire::receive::<i32>(&helper)? else { return Err(io::ErrorKind::BrokenPipe.into()) };
    own_processes::add(process);
    let listener = listen()?;
    wire::send(&helper, &(), &[listener.as_fd()])
}

fn listen() -> io::Result<OwnedFd> {
    let mut program = vec![notify::LOAD_CALL];
    for (call, argument) in CALLS {
        program.extend(notify::asks_if_any(*call, *argument, BITS));
    }
    program.push(notify::step(libc::BPF_RET | libc::BPF_K, 0, 0, libc::SECCOMP_RET_ALLOW));
    notify::listen(&mut program)
}

fn help(theirs: UnixStream, own: HashSet<u64>, namespace: (u64, u64)) -> io::Result<()> {
    let [theirs] = notify::keep_only([OwnedFd::from(theirs)]);
    let theirs = UnixStream::from(theirs);
    wire::send(&theirs, &rustix::process::getpid().as_raw_nonzero().get(), &[])?;
    let Some(((), mut fds)) = wire::receive::<()>(&theirs)? else { return Ok(()) };
    let Some(listener) = fds.pop() else { return Ok(()) };
    loop {
        match notify::next(&listener)? {
            Next::Asked(asked) => {
                let done = give(&listener, &asked, &own, namespace);
                notify::answer(&listener, &asked, done.map_or_else(Answer::Failed, |()| Answer::Value(0)));
            }
            Next::Nothing => {}
            Next::Over => return Ok(()),
        }
    }
}

/// Gives rights with such bits in the caller's stead, when it is on the inside's own and the caller might.
fn give(listener: &OwnedFd, asked: &libc::seccomp_notif, own: &HashSet<u64>, namespace: (u64, u64)) -> io::Result<()> {
    let caller = asked.pid;
    let [first, second, third, fourth, ..] = asked.data.args;
    let call = i64::from(asked.data.nr);
    let (file, mode) = if call == libc::SYS_fchmod {
        (notify::descriptor(caller, first as i32)?, second)
    } else if call == libc::SYS_fchmodat {
        (notify::find(caller, first as i32, &notify::read_text(caller, second)?, true)?, third)
    } else if call == FCHMODAT2 {
        let name = notify::read_text(caller, second)?;
        let flags = fourth as i32;
        let file = if name.is_empty() && flags & libc::AT_EMPTY_PATH != 0 {
            notify::descriptor(caller, first as i32)?
        } else {
            notify::find(caller, first as i32, &name, flags & libc::AT_SYMLINK_NOFOLLOW == 0)?
        };
        (file, third)
    } else {
        (notify::find(caller, libc::AT_FDCWD, &notify::read_text(caller, first)?, true)?, second)
    };
    let refused = || io::Error::from_raw_os_error(libc::EPERM);
    // By this name the file can be changed though it is open for nothing.
    let name = format!("/proc/self/fd/{}", file.as_raw_fd());
    if !own.contains(&mount_of(&name)?) {
        return Err(refused());
    }
    let meta = file.metadata()?;
    let mut who = Caller::read(caller)?;
    if user_namespace(&caller.to_string())? != namespace {
        // What it may in a namespace of its own counts there only. Whose file it is we see by our own numbers.
        who.capabilities = 0;
    }
    if meta.uid() != who.user && who.capabilities & CAP_FOWNER == 0 {
        return Err(refused());
    }
    let mut mode = mode as u32 & 0o7777;
    if !who.groups.contains(&meta.gid()) && who.capabilities & CAP_FSETID == 0 {
        mode &= !0o2000;
    }
    if !notify::still_asks(listener, asked) {
        return Err(refused());
    }
    fs::set_permissions(&name, fs::Permissions::from_mode(mode))
}

/// Who asks, by its entry in `/proc` (proc(5)).
struct Caller {
    user: u32,
    groups: Vec<u32>,
    capabilities: u64,
}

impl Caller {
    fn read(caller: u32) -> io::Result<Self> {
        let text = fs::read_to_string(format!("/proc/{caller}/status"))?;
        let field = |name: &str| text.lines().find_map(|line| line.strip_prefix(name)).map(str::trim);
        // The fourth number is the one for files (credentials(7)).
        let fourth = |name: &str| field(name)?.split_whitespace().nth(3)?.parse::<u32>().ok();
        let numbers =
            |name: &str| field(name).unwrap_or_default().split_whitespace().filter_map(|one| one.parse().ok());
        let unknown = || io::Error::from_raw_os_error(libc::EPERM);
        let mut groups: Vec<u32> = numbers("Groups:").collect();
        groups.extend(fourth("Gid:"));
        let capabilities = field("CapEff:").and_then(|set| u64::from_str_radix(set, 16).ok());
        Ok(Self { user: fourth("Uid:").ok_or_else(unknown)?, groups, capabilities: capabilities.ok_or_else(unknown)? })
    }
}

fn mount_of(path: &str) -> io::Result<u64> {
    Ok(rustix::fs::statx(CWD, path, AtFlags::empty(), StatxFlags::MNT_ID)?.stx_mnt_id)
}

/// Device and inode of a process's user namespace.
fn user_namespace(process: &str) -> io::Result<(u64, u64)> {
    let meta = File::open(format!("/proc/{process}/ns/user"))?.metadata()?;
    Ok((meta.dev(), meta.ino()))
}
