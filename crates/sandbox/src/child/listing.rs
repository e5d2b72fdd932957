//! Directories of a build, listed in the order of their names.
//!
//! The kernel lists a directory in whatever order its filesystem keeps it, which differs from machine to machine, and
//! so does what tools make of it that do not sort. In a build the call (getdents64(2)) is answered by a helper
//! ([`crate::child::notify`]) instead: from a list taken when reading begins, sorted by the bytes of the names. The
//! offset of the caller's open directory counts entries then, so that it is set back, and returned to, as usual.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::mem::MaybeUninit;
use std::os::fd::{AsFd as _, OwnedFd};
use std::os::unix::fs::FileExt as _;
use std::rc::Rc;

use rustix::fs::{Mode, OFlags, RawDir, SeekFrom};
use rustix::process::{Pid, PidfdFlags, PidfdGetfdFlags};

/// Lists that are kept for those who have started and not finished to read; more are started only by mistake.
const MOST: usize = 1024;

/// One entry, as the kernel has it.
#[derive(Debug, PartialEq, Eq)]
struct Listed {
    name: Vec<u8>,
    inode: u64,
    kind: u8,
}

/// Who reads what: a process, its descriptor, and the directory that this is open on (its device and inode). Threads
/// take turns at reading, and a descriptor that was closed before the end is soon another directory's.
type Reading = (u32, u64, u64, u64);

/// Lists that are being read.
#[derive(Debug, Default)]
pub(crate) struct Listings {
    started: HashMap<Reading, Rc<Vec<Listed>>>,
}

impl Listings {
    /// Answers a call: how many bytes were put where the caller wants them; 0 at the end.
    pub(crate) fn answer(&mut self, asked: &libc::seccomp_notif, still_asks: impl Fn() -> bool) -> io::Result<i64> {
        let caller = asked.pid;
        let [fd, to, room, ..] = asked.data.args;
        let (theirs, process) = descriptor_of(caller, fd as i32)?;
        let from = rustix::fs::seek(&theirs, SeekFrom::Current(0))?;
        let directory = rustix::fs::fstat(&theirs)?;
        let key = (process, fd, directory.st_dev, directory.st_ino);
        let list = match self.started.get(&key).filter(|_| from > 0) {
            Some(list) => Rc::clone(list),
            None => {
                let list = Rc::new(list(caller, fd as i32)?);
                if self.started.len() >= MOST {
                    self.started.clear();
                }
                self.started.insert(key, Rc::clone(&list));
                list
            }
        };
        let begin = usize::try_from(from).unwrap_or(usize::MAX).min(list.len());
        let (bytes, count) = encode(&list[begin..], begin, usize::try_from(room).unwrap_or(usize::MAX));
        if begin == list.len() {
            self.started.remove(&key);
            return Ok(0);
        }
        if count == 0 {
            return Err(io::Error::from_raw_os_error(libc::EINVAL));
        }
        if still_asks() {
            File::options().write(true).open(format!("/proc/{caller}/mem"))?.write_all_at(&bytes, to)?;
            rustix::fs::seek(&theirs, SeekFrom::Start((begin + count) as u64))?;
        }
        Ok(bytes.len() as i64)
    }
}

/// What the caller has open, with the offset that it shares with us, and the process that it is a thread of.
fn descriptor_of(caller: u32, fd: i32) -> io::Result<(OwnedFd, u32)> {
    let open = |number: u32| {
        let process = Pid::from_raw(number as i32).ok_or(rustix::io::Errno::SRCH)?;
        Ok((rustix::process::pidfd_open(process, PidfdFlags::empty())?, number))
    };
    // A thread that leads none is not a process of its own.
    let (process, number) = open(caller).or_else(|error: rustix::io::Errno| open(leader(caller).ok_or(error)?))?;
    Ok((rustix::process::pidfd_getfd(process.as_fd(), fd, PidfdGetfdFlags::empty())?, number))
}

/// The process that a thread belongs to (proc_pid_status(5)).
fn leader(thread: u32) -> Option<u32> {
    let status = std::fs::read_to_string(format!("/proc/{thread}/status")).ok()?;
    status.lines().find_map(|line| line.strip_prefix("Tgid:"))?.trim().parse().ok()
}

/// All entries, `.` and `..` first, as everybody expects them.
fn list(caller: u32, fd: i32) -> io::Result<Vec<Listed>> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let directory = rustix::fs::open(format!("/proc/{caller}/fd/{fd}"), flags, Mode::empty())?;
    let mut space = vec![MaybeUninit::uninit(); 64 << 10];
    let mut entries = RawDir::new(&directory, &mut space);
    let mut list = Vec::new();
    while let Some(entry) = entries.next() {
        let entry = entry?;
        let kind = kind_number(entry.file_type());
        list.push(Listed { name: entry.file_name().to_bytes().to_vec(), inode: entry.ino(), kind });
    }
    list.sort_by(|one, other| (!is_dots(&one.name), &one.name).cmp(&(!is_dots(&other.name), &other.name)));
    Ok(list)
}

fn is_dots(name: &[u8]) -> bool {
    matches!(name, b"." | b"..")
}

/// The number that stands for a kind of file in a listing (readdir(3)).
fn kind_number(kind: rustix::fs::FileType) -> u8 {
    use rustix::fs::FileType;
    match kind {
        FileType::Fifo => libc::DT_FIFO,
        FileType::CharacterDevice => libc::DT_CHR,
        FileType::Directory => libc::DT_DIR,
        FileType::BlockDevice => libc::DT_BLK,
        FileType::RegularFile => libc::DT_REG,
        FileType::Symlink => libc::DT_LNK,
        FileType::Socket => libc::DT_SOCK,
        FileType::Unknown => libc::DT_UNKNOWN,
    }
}

/// As many entries as there is room for, as the kernel writes them (getdents64(2), `struct linux_dirent64`), and how
/// many that are. The offset of each is the number of the one after it, counted from `first`.
fn encode(list: &[Listed], first: usize, room: usize) -> (Vec<u8>, usize) {
    let (mut bytes, mut count) = (Vec::new(), 0);
    for entry in list {
        // Inode, offset, length, kind, the name and a zero byte, in multiples of eight.
        let length = (8 + 8 + 2 + 1 + entry.name.len() + 1).next_multiple_of(8);
        if bytes.len() + length > room {
            break;
        }
        count += 1;
        let end = bytes.len() + length;
        bytes.extend(entry.inode.to_ne_bytes());
        bytes.extend(((first + count) as i64).to_ne_bytes());
        bytes.extend((length as u16).to_ne_bytes());
        bytes.push(entry.kind);
        bytes.extend(&entry.name);
        bytes.resize(end, 0);
    }
    (bytes, count)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_are_written_as_the_kernel_does_and_cut_where_the_room_ends() {
        let entry = |name: &str| Listed { name: name.into(), inode: 7, kind: libc::DT_REG };
        let list = [entry("a"), entry("a-longer-name"), entry("b")];
        let (all, count) = encode(&list, 5, 4096);
        assert_eq!((all.len(), count), (24 + 40 + 24, 3));
        assert_eq!(&all[16..21], [24, 0, libc::DT_REG, b'a', 0]);
        assert_eq!(i64::from_ne_bytes(all[8..16].try_into().unwrap()), 6);
        assert_eq!(encode(&list, 0, 63).1, 1);
        assert_eq!(encode(&list, 0, 23).1, 0);
    }

    #[test]
    fn a_directory_is_listed_in_the_order_of_its_names() {
        let dir = tempfile::tempdir().unwrap();
        for name in ["c", "a", "b", ".hidden"] {
            std::fs::write(dir.path().join(name), "").unwrap();
        }
        let open = File::open(dir.path()).unwrap();
        let found = list(std::process::id(), std::os::fd::AsRawFd::as_raw_fd(&open)).unwrap();
        let names: Vec<_> = found.iter().map(|entry| String::from_utf8_lossy(&entry.name).into_owned()).collect();
        assert_eq!(names, [".", "..", ".hidden", "a", "b", "c"]);
    }
}
