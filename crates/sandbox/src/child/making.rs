//! Whose a new file is, where owners are only on paper.
//!
//! A file belongs to the one who makes it, and in a directory with the set-group-id bit to the directory's group
//! (inode(7)). A process that became somebody else on paper is root to the kernel. So calls that make something go to
//! the helper of [`crate::child::owners`]: where the owner is not root, it makes the file in the caller's stead, writes
//! its owner beside it, and gives the caller what it opened (seccomp_unotify(2), `SECCOMP_IOCTL_NOTIF_ADDFD`).

use std::fs::{self, File};
use std::io;
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::os::unix::fs::MetadataExt as _;

use rustix::fs::{AtFlags, FileType, Mode, OFlags};

use crate::child::notify;

/// Calls that always make something. Those that open are asked about only when they may make a file.
#[cfg(target_arch = "x86_64")]
pub(crate) const MAKING_CALLS: &[i64] = &[
    libc::SYS_creat,
    libc::SYS_mkdir,
    libc::SYS_mkdirat,
    libc::SYS_symlink,
    libc::SYS_symlinkat,
    libc::SYS_mknod,
    libc::SYS_mknodat,
];
#[cfg(not(target_arch = "x86_64"))]
pub(crate) const MAKING_CALLS: &[i64] = &[libc::SYS_mkdirat, libc::SYS_symlinkat, libc::SYS_mknodat];

/// Calls that open, and which argument has the flags.
#[cfg(target_arch = "x86_64")]
pub(crate) const OPENING_CALLS: &[(i64, u32)] = &[(libc::SYS_open, 1), (libc::SYS_openat, 2)];
#[cfg(not(target_arch = "x86_64"))]
pub(crate) const OPENING_CALLS: &[(i64, u32)] = &[(libc::SYS_openat, 2)];

/// Flags with which opening may make a file. `O_TMPFILE` has the bit of `O_DIRECTORY`, which alone makes nothing.
pub(crate) const MAKES: u32 = (libc::O_CREAT | (libc::O_TMPFILE & !libc::O_DIRECTORY)) as u32;

/// Something to be made: where, and what.
pub(crate) struct Making {
    directory: i32,
    name: u64,
    what: What,
}

enum What {
    File { flags: i32, mode: u32 },
    Directory { mode: u32 },
    Link { target: u64 },
    Node { mode: u32 },
}

/// What was made: the entry, and for a file that was opened its descriptor and whether an exec closes it.
pub(crate) struct Made {
    pub entry: File,
    pub opened: Option<(OwnedFd, bool)>,
}

impl Making {
    /// Takes a call apart.
    pub(crate) fn at(asked: &libc::seccomp_notif) -> Option<Self> {
        let [first, second, third, fourth, ..] = asked.data.args;
        let here = libc::AT_FDCWD;
        let file = |directory, name, flags: u64, mode: u64| Self {
            directory,
            name,
            what: What::File { flags: flags as i32, mode: mode as u32 },
        };
        let directory =
            |directory, name, mode: u64| Self { directory, name, what: What::Directory { mode: mode as u32 } };
        let link = |directory, name, target| Self { directory, name, what: What::Link { target } };
        let node = |directory, name, mode: u64| Self { directory, name, what: What::Node { mode: mode as u32 } };
        let there = first as i32;
        Some(match i64::from(asked.data.nr) {
            #[cfg(target_arch = "x86_64")]
            libc::SYS_open => file(here, first, second, third),
            #[cfg(target_arch = "x86_64")]
            libc::SYS_creat => file(here, first, (libc::O_CREAT | libc::O_WRONLY | libc::O_TRUNC) as u64, second),
            #[cfg(target_arch = "x86_64")]
            libc::SYS_mkdir => directory(here, first, second),
            #[cfg(target_arch = "x86_64")]
            libc::SYS_symlink => link(here, second, first),
            #[cfg(target_arch = "x86_64")]
            libc::SYS_mknod => node(here, first, second),
            libc::SYS_openat => file(there, second, third, fourth),
            libc::SYS_mkdirat => directory(there, second, third),
            libc::SYS_symlinkat => link(second as i32, third, first),
            libc::SYS_mknodat => node(there, second, third),
            _ => return None,
        })
    }

    /// Makes it for a caller whose new files belong to `owner`; `recorded` says whose a directory is. Nothing, when
    /// the kernel would do the same: for root's own, and for what is there already.
    pub(crate) fn carry_out(
        &self,
        caller: u32,
        owner: (u32, u32),
        recorded: impl Fn(&File) -> io::Result<(u32, u32)>,
        still_asks: impl Fn() -> bool,
    ) -> io::Result<Option<(Made, (u32, u32))>> {
        let name = notify::read_text(caller, self.name)?;
        let unnamed = matches!(self.what, What::File { flags, .. } if flags & libc::O_TMPFILE == libc::O_TMPFILE);
        let (above, last) = if unnamed { (&name[..], &b"."[..]) } else { split(&name) };
        if !unnamed && matches!(last, b"" | b"." | b"..") {
            return Ok(None);
        }
        let parent = notify::find(caller, self.directory, above, true)?;
        let meta = parent.metadata()?;
        let sets_group = meta.mode() & 0o2000 != 0;
        let owner = (owner.0, if sets_group { recorded(&parent)?.1 } else { owner.1 });
        let is_there = || rustix::fs::statat(&parent, last, AtFlags::SYMLINK_NOFOLLOW).is_ok();
        if owner == (0, 0) || (!unnamed && is_there()) || !still_asks() {
            return Ok(None);
        }
        let rights = |mode: u32| Ok::<_, io::Error>(Mode::from_raw_mode(mode & 0o7777 & !umask(caller)?));
        let mut opened = None;
        match self.what {
            What::File { flags, mode } => {
                let own = OFlags::from_bits_retain(flags as u32) | OFlags::CLOEXEC;
                let file = rustix::fs::openat(&parent, last, own, rights(mode)?)?;
                let entry = reopened(&file)?;
                opened = Some((file, flags & libc::O_CLOEXEC != 0));
                return Ok(Some((Made { entry, opened }, owner)));
            }
            What::Directory { mode } => rustix::fs::mkdirat(&parent, last, rights(mode)?)?,
            What::Link { target } => {
                rustix::fs::symlinkat(notify::read_text(caller, target)?.as_slice(), &parent, last)?;
            }
            What::Node { mode } => match FileType::from_raw_mode(mode) {
                kind @ (FileType::Fifo | FileType::RegularFile) => {
                    rustix::fs::mknodat(&parent, last, kind, rights(mode)?, 0)?;
                }
                // The kernel knows what becomes of devices and sockets.
                _ => return Ok(None),
            },
        }
        let entry =
            rustix::fs::openat(&parent, last, OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty())?;
        Ok(Some((Made { entry: entry.into(), opened }, owner)))
    }
}

/// The directory of a path, and the name in it.
fn split(name: &[u8]) -> (&[u8], &[u8]) {
    let end = name.iter().rposition(|byte| *byte != b'/').map_or(0, |last| last + 1);
    let name = &name[..end];
    match name.iter().rposition(|byte| *byte == b'/') {
        Some(0) => (b"/", &name[1..]),
        Some(at) => (&name[..at], &name[at + 1..]),
        None => (b".", name),
    }
}

/// Something that is open, opened again for nothing but to name it.
fn reopened(file: &OwnedFd) -> io::Result<File> {
    let path = format!("/proc/self/fd/{}", file.as_raw_fd());
    Ok(rustix::fs::open(path, OFlags::PATH | OFlags::CLOEXEC, Mode::empty())?.into())
}

/// Rights that a process gives to nothing that it makes (proc_pid_status(5)).
fn umask(process: u32) -> io::Result<u32> {
    let text = fs::read_to_string(format!("/proc/{process}/status"))?;
    let field = text.lines().find_map(|line| line.strip_prefix("Umask:"));
    field.and_then(|value| u32::from_str_radix(value.trim(), 8).ok()).ok_or_else(|| io::ErrorKind::InvalidData.into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_is_a_directory_and_a_name_in_it() {
        for (path, above, name) in [
            ("a", ".", "a"),
            ("/a", "/", "a"),
            ("a/b//", "a", "b"),
            ("/srv/a b/c", "/srv/a b", "c"),
            ("/", ".", ""),
            ("", ".", ""),
        ] {
            assert_eq!(split(path.as_bytes()), (above.as_bytes(), name.as_bytes()), "{path}");
        }
    }

    #[test]
    fn the_umask_of_a_process_is_read() {
        let own = rustix::process::umask(Mode::from_raw_mode(0o027));
        assert_eq!(umask(std::process::id()).unwrap(), 0o027);
        rustix::process::umask(own);
    }
}
