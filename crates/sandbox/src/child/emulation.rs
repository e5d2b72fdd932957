//! What a process sees of owners that are only on paper: of files that it examines, and of itself.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::fd::AsRawFd as _;
use std::os::unix::fs::FileExt as _;

/// Calls that tell the owner of a file.
#[cfg(target_arch = "x86_64")]
pub(crate) const LOOKING_CALLS: &[i64] =
    &[libc::SYS_stat, libc::SYS_lstat, libc::SYS_fstat, libc::SYS_newfstatat, libc::SYS_statx];
#[cfg(not(target_arch = "x86_64"))]
pub(crate) const LOOKING_CALLS: &[i64] = &[libc::SYS_fstat, libc::SYS_newfstatat, libc::SYS_statx];

/// Calls by which a process asks who it is.
pub(crate) const ASKING_CALLS: &[i64] = &[libc::SYS_getuid, libc::SYS_geteuid, libc::SYS_getgid, libc::SYS_getegid];

/// One look at a file: which, and where the answer goes.
pub(crate) struct StatRequest {
    /// The directory that the name is relative to; without a name, the file itself.
    pub directory: i32,
    /// Where the name is in the caller's memory.
    pub name: Option<u64>,
    /// Whether a link as the last name is followed.
    pub follow: bool,
    /// Where the answer goes in the caller's memory.
    to: u64,
    /// The answer is a `statx`.
    extended: bool,
}

impl StatRequest {
    /// Takes a call apart (stat(2), statx(2)).
    pub(crate) fn at(asked: &libc::seccomp_notif) -> Option<Self> {
        let [first, second, third, fourth, fifth, _] = asked.data.args;
        let call = i64::from(asked.data.nr);
        let follows = |flags: u64| flags as i32 & libc::AT_SYMLINK_NOFOLLOW == 0;
        let by_name =
            |name, to, follow| Self { directory: libc::AT_FDCWD, name: Some(name), follow, to, extended: false };
        match call {
            #[cfg(target_arch = "x86_64")]
            libc::SYS_stat => Some(by_name(first, second, true)),
            #[cfg(target_arch = "x86_64")]
            libc::SYS_lstat => Some(by_name(first, second, false)),
            libc::SYS_fstat => {
                Some(Self { directory: first as i32, name: None, follow: true, to: second, extended: false })
            }
            libc::SYS_newfstatat => {
                Some(Self { directory: first as i32, follow: follows(fourth), ..by_name(second, third, true) })
            }
            libc::SYS_statx => Some(Self {
                directory: first as i32,
                follow: follows(third),
                extended: true,
                // A name may be left out here by a null pointer.
                name: Some(second).filter(|name| *name != 0),
                ..by_name(second, fifth, true)
            }),
            _ => None,
        }
    }

    /// Writes what the kernel says of the file, with this owner, where the caller wants it.
    pub(crate) fn answer(&self, file: &File, caller: u32, (user, group): (u32, u32)) -> io::Result<()> {
        let memory = File::options().write(true).open(format!("/proc/{caller}/mem"))?;
        let fd = file.as_raw_fd();
        if self.extended {
            let mask = libc::STATX_BASIC_STATS | libc::STATX_BTIME | libc::STATX_MNT_ID;
            // SAFETY: statx is plain data, for which all zeros are a valid value.
            let mut stat: libc::statx = unsafe { std::mem::zeroed() };
            // SAFETY: the call writes one statx, which lives until it returns; the empty name is a C string.
            let done = unsafe { libc::statx(fd, c"".as_ptr(), libc::AT_EMPTY_PATH, mask, &raw mut stat) };
            if done < 0 {
                return Err(io::Error::last_os_error());
            }
            (stat.stx_uid, stat.stx_gid) = (user, group);
            return memory.write_all_at(bytes_of(&stat), self.to);
        }
        // SAFETY: stat is plain data, for which all zeros are a valid value.
        let mut stat: libc::stat = unsafe { std::mem::zeroed() };
        // SAFETY: the call writes one stat, which lives until it returns.
        if unsafe { libc::fstat(fd, &raw mut stat) } < 0 {
            return Err(io::Error::last_os_error());
        }
        (stat.st_uid, stat.st_gid) = (user, group);
        memory.write_all_at(bytes_of(&stat), self.to)
    }
}

/// The bytes of a kernel structure.
fn bytes_of<T: Copy>(value: &T) -> &[u8] {
    // SAFETY: the kernel's structures were zeroed as a whole before they were filled, so that every byte is
    // initialised, padding too.
    unsafe { std::slice::from_raw_parts((&raw const *value).cast::<u8>(), size_of::<T>()) }
}

/// Who processes have become, on paper.
#[derive(Debug, Default)]
pub(crate) struct Credentials {
    /// By process, with the moment at which it began, since numbers are used again.
    who: HashMap<u32, (u64, u32, u32)>,
}

impl Credentials {
    /// A process becomes somebody else. The number that holds afterwards is the effective one (setresuid(2)).
    pub(crate) fn become_other(&mut self, process: u32, call: i64, arguments: &[u32; 6]) {
        let Some((started, _)) = begun_and_parent(process) else { return };
        let (_, mut user, mut group) = self.find(process).unwrap_or((0, 0, 0));
        let keep = u32::MAX;
        let effective = match call {
            libc::SYS_setreuid | libc::SYS_setregid | libc::SYS_setresuid | libc::SYS_setresgid => arguments[1],
            _ => arguments[0],
        };
        match call {
            libc::SYS_setgroups => return,
            libc::SYS_setuid | libc::SYS_setreuid | libc::SYS_setresuid | libc::SYS_setfsuid => {
                user = if effective == keep { user } else { effective };
            }
            _ => group = if effective == keep { group } else { effective },
        }
        if (user, group) == (0, 0) && !self.who.contains_key(&process) && self.find(process).is_none() {
            return;
        }
        self.who.insert(process, (started, user, group));
    }

    /// Whom a process became; `None` when it never became anybody else.
    pub(crate) fn who(&mut self, process: u32) -> Option<(u32, u32)> {
        if self.who.is_empty() {
            return None;
        }
        self.who.retain(|process, (started, ..)| begun_and_parent(*process).is_some_and(|(now, _)| now == *started));
        self.find(process).map(|(_, user, group)| (user, group))
    }

    /// Who a process is told that it is; `None` when it never became anybody else.
    pub(crate) fn answer(&mut self, process: u32, call: i64) -> Option<u32> {
        let (user, group) = self.who(process)?;
        Some(if matches!(call, libc::SYS_getuid | libc::SYS_geteuid) { user } else { group })
    }

    /// What holds for a process: what it became itself, or else what the nearest of its parents did that became
    /// anybody.
    fn find(&self, process: u32) -> Option<(u64, u32, u32)> {
        let mut at = process;
        for _ in 0..64 {
            if let Some(found) = self.who.get(&at) {
                return Some(*found);
            }
            let (_, parent) = begun_and_parent(at)?;
            if parent <= 1 {
                return None;
            }
            at = parent;
        }
        None
    }
}

/// When a process began, and its parent (proc_pid_stat(5), fields 22 and 4).
fn begun_and_parent(process: u32) -> Option<(u64, u32)> {
    let fields = crate::child::measuring::stat(process as i32)?;
    Some((fields.get(19)?.parse().ok()?, fields.get(1)?.parse().ok()?))
}
