//! What build steps ask for in the way of owners, attributes and lists of files; and recording owners where there is
//! only one to give.
//!
//! Behind a filter of system calls (seccomp_unotify(2)), what a build step asks for in the way of owners goes to a
//! helper of ours instead of the kernel: changing a file's owner writes it beside the file (the attribute
//! `user.cavrith.owner`, as the store reads it), and becoming somebody else is reported as a success that has no
//! effect. What was answered so is remembered: who examines a file sees the owner that is written beside it, and who
//! asks who they are hears who they became ([`crate::child::emulation`]), and what they make is theirs
//! ([`crate::child::making`]). So a package manager's scripts find everything as they do on a machine with all owners.
//!
//! The helper examines the file that the caller means through the caller's own entry in `/proc`. A caller that changes
//! its arguments in the meantime cheats nobody but itself: the helper can reach nothing that the caller cannot.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Write as _};
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _, PermissionsExt as _};
use std::os::unix::net::UnixStream;

use cavrith_core::account::{OWNER_RECORD, owner_record, parse_owner_record};
use rustix::fs::{AtFlags, CWD, Mode, Timespec, Timestamps, XattrFlags};

use crate::child::emulation::{ASKING_CALLS, Credentials, LOOKING_CALLS, StatRequest};
use crate::child::listing::Listings;
use crate::child::making::{MAKES, MAKING_CALLS, Making, OPENING_CALLS};
use crate::child::notify::{self, Answer, Next};
use crate::protocol::wire;

/// The file beside an upper directory in which owners stand that no file can carry: `UID GID PATH` and a zero byte, for
/// each.
pub const OTHERS: &str = "others";
/// An id that leaves the owner as it is (chown(2)).
const KEEP: u32 = u32::MAX;

/// Calls that change the owner of a file, with where their arguments are.
#[cfg(target_arch = "x86_64")]
pub(crate) const OWNER_CALLS: &[i64] = &[libc::SYS_chown, libc::SYS_lchown, libc::SYS_fchown, libc::SYS_fchownat];
#[cfg(not(target_arch = "x86_64"))]
pub(crate) const OWNER_CALLS: &[i64] = &[libc::SYS_fchown, libc::SYS_fchownat];

/// Calls by which a process becomes somebody else.
pub(crate) const USER_CALLS: &[i64] = &[
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

/// Calls that set or remove an attribute of a file, and which argument is the attribute's name. The last two are
/// `setxattrat` and `removexattrat`, for which libc has no names on every machine.
const ATTRIBUTE_CALLS: &[(i64, usize)] = &[
    (libc::SYS_setxattr, 1),
    (libc::SYS_lsetxattr, 1),
    (libc::SYS_fsetxattr, 1),
    (libc::SYS_removexattr, 1),
    (libc::SYS_lremovexattr, 1),
    (libc::SYS_fremovexattr, 1),
    (463, 3),
    (466, 3),
];

/// A helper that waits for the process to attach itself.
pub(crate) struct Recorder {
    helper: UnixStream,
    records: bool,
}

impl Recorder {
    /// Starts the helper. Owners are recorded when there is a file for those that no other file can carry; attributes
    /// are looked after in any case. Must be called in a process with a single thread, which still has its
    /// capabilities.
    pub(crate) fn start(others: Option<&File>) -> io::Result<Self> {
        let records = others.is_some();
        // Something to keep in its place.
        let others = others.map_or_else(|| File::open("/dev/null"), File::try_clone)?;
        let helper = notify::start_helper(move |theirs| {
            let _ = help(theirs, others);
        })?;
        Ok(Self { helper, records })
    }

    /// Puts this process, and all that come from it, behind the helper.
    pub(crate) fn attach(self) -> io::Result<()> {
        let listener = listen(self.records)?;
        wire::send(&self.helper, &(), &[std::os::fd::AsFd::as_fd(&listener)])
    }
}

/// Installs the filter, and returns where its questions arrive.
fn listen(records: bool) -> io::Result<OwnedFd> {
    let mut calls: Vec<_> = ATTRIBUTE_CALLS.iter().map(|(call, _)| call).collect();
    calls.push(&libc::SYS_getdents64);
    if records {
        calls.extend([OWNER_CALLS, USER_CALLS, LOOKING_CALLS, ASKING_CALLS, MAKING_CALLS].into_iter().flatten());
    }
    // Calls of other tables than the machine's own are refused by the filter that is there already.
    let mut program = vec![notify::LOAD_CALL];
    for (call, argument) in OPENING_CALLS.iter().filter(|_| records) {
        program.extend(notify::asks_if_any(*call, *argument, MAKES));
    }
    for (position, call) in calls.iter().enumerate() {
        let to_question = (calls.len() - position) as u8;
        program.push(notify::step(libc::BPF_JMP | libc::BPF_JEQ | libc::BPF_K, to_question, 0, **call as u32));
    }
    program.push(notify::step(libc::BPF_RET | libc::BPF_K, 0, 0, libc::SECCOMP_RET_ALLOW));
    program.push(notify::step(libc::BPF_RET | libc::BPF_K, 0, 0, libc::SECCOMP_RET_USER_NOTIF));
    notify::listen(&mut program)
}

/// The helper: answers until nobody is left behind the filter.
fn help(theirs: UnixStream, others: File) -> io::Result<()> {
    let [theirs, others] = notify::keep_only([OwnedFd::from(theirs), OwnedFd::from(others)]);
    let (theirs, others) = (&UnixStream::from(theirs), &File::from(others));
    let Some(((), mut fds)) = wire::receive::<()>(theirs)? else { return Ok(()) };
    let Some(listener) = fds.pop() else { return Ok(()) };
    // What it makes for others has the rights that they ask for.
    rustix::process::umask(Mode::empty());
    let (known, became, listings) = (HashMap::new(), Credentials::default(), Listings::default());
    let mut helper = Helper { listener, others, known, became, listings };
    while helper.question()? {}
    Ok(())
}

struct Helper<'a> {
    listener: OwnedFd,
    others: &'a File,
    /// Owners of links and pipes, by device and inode.
    known: HashMap<(u64, u64), (u32, u32)>,
    /// Who processes have become.
    became: Credentials,
    listings: Listings,
}

impl Helper<'_> {
    /// Takes one question and answers it; false when there will be no more.
    fn question(&mut self) -> io::Result<bool> {
        let asked = match notify::next(&self.listener)? {
            Next::Asked(asked) => asked,
            Next::Nothing => return Ok(true),
            Next::Over => return Ok(false),
        };
        let call = i64::from(asked.data.nr);
        let arguments = asked.data.args.map(|argument| argument as u32);
        let answer = if let Some((_, position)) = ATTRIBUTE_CALLS.iter().find(|(known, _)| *known == call) {
            notify::read_text(asked.pid, asked.data.args[*position])
                .map_or_else(Answer::Failed, |name| attribute(&name))
        } else if call == libc::SYS_getdents64 {
            // What is not a directory, or nowhere any more, the kernel knows to answer.
            let still_asks = || notify::still_asks(&self.listener, &asked);
            match self.listings.answer(&asked, still_asks) {
                Err(error) if error.raw_os_error() != Some(libc::EINVAL) => Answer::Go,
                answer => answer.map_or_else(Answer::Failed, Answer::Value),
            }
        } else if OWNER_CALLS.contains(&call) {
            self.own(&asked).map_or_else(Answer::Failed, |()| Answer::Value(0))
        } else if LOOKING_CALLS.contains(&call) {
            // Whatever we cannot answer the kernel can.
            if self.look(&asked).unwrap_or(false) { Answer::Value(0) } else { Answer::Go }
        } else if ASKING_CALLS.contains(&call) {
            self.became.answer(asked.pid, call).map_or(Answer::Go, |who| Answer::Value(who.into()))
        } else if USER_CALLS.contains(&call) {
            self.became.become_other(asked.pid, call, &arguments);
            Answer::Value(0)
        } else {
            self.make(&asked).unwrap_or_else(Answer::Failed)
        };
        notify::answer(&self.listener, &asked, answer);
        Ok(true)
    }

    /// Makes something whose owner is not root.
    fn make(&mut self, asked: &libc::seccomp_notif) -> io::Result<Answer> {
        let Some(making) = Making::at(asked) else { return Ok(Answer::Go) };
        let owner = self.became.who(asked.pid).unwrap_or((0, 0));
        let of = |file: &File| recorded(&format!("/proc/self/fd/{}", file.as_raw_fd()));
        let still_asks = || notify::still_asks(&self.listener, asked);
        let made = match making.carry_out(asked.pid, owner, of, still_asks) {
            Ok(Some(made)) => made,
            // What is wrong with it the kernel knows to say.
            Ok(None) => return Ok(Answer::Go),
            Err(error) => return Err(error),
        };
        let (made, (user, group)) = made;
        self.record(asked, &made.entry, user, group)?;
        Ok(made.opened.map_or(Answer::Value(0), |(fd, closed)| Answer::Descriptor(fd, closed)))
    }

    /// Changes an owner, on paper.
    fn own(&mut self, asked: &libc::seccomp_notif) -> io::Result<()> {
        let caller = asked.pid;
        let argument = asked.data.args;
        let call = i64::from(asked.data.nr);
        let (file, user, group) = if call == libc::SYS_fchown {
            (notify::descriptor(caller, argument[0] as i32)?, argument[1], argument[2])
        } else if call == libc::SYS_fchownat {
            let flags = argument[4] as i32;
            let name = notify::read_text(caller, argument[1])?;
            let follow = flags & libc::AT_SYMLINK_NOFOLLOW == 0;
            let file = if name.is_empty() && flags & libc::AT_EMPTY_PATH != 0 {
                notify::descriptor(caller, argument[0] as i32)?
            } else {
                notify::find(caller, argument[0] as i32, &name, follow)?
            };
            (file, argument[2], argument[3])
        } else {
            let follow = call != LCHOWN;
            let name = notify::read_text(caller, argument[0])?;
            (notify::find(caller, libc::AT_FDCWD, &name, follow)?, argument[1], argument[2])
        };
        self.record(asked, &file, user as u32, group as u32)
    }

    /// Answers a look at a file that has an owner written beside it, or was given one; false when the kernel's own
    /// answer is right.
    fn look(&self, asked: &libc::seccomp_notif) -> io::Result<bool> {
        let caller = asked.pid;
        let Some(look) = StatRequest::at(asked) else { return Ok(false) };
        let file = match look.name {
            Some(name) => {
                let name = notify::read_text(caller, name)?;
                if name.is_empty() {
                    notify::descriptor(caller, look.directory)?
                } else {
                    notify::find(caller, look.directory, &name, look.follow)?
                }
            }
            None => notify::descriptor(caller, look.directory)?,
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

    fn record(&mut self, asked: &libc::seccomp_notif, file: &File, user: u32, group: u32) -> io::Result<()> {
        let meta = file.metadata()?;
        let kind = meta.file_type();
        // By this name the file can be changed though it is open for nothing.
        let name = format!("/proc/self/fd/{}", file.as_raw_fd());
        if kind.is_file() || kind.is_dir() {
            let before = recorded(&name)?;
            let owner = merged(before, user, group);
            if !notify::still_asks(&self.listener, asked) {
                return Ok(());
            }
            rustix::fs::setxattr(&name, OWNER_RECORD, owner_record(owner).as_bytes(), XattrFlags::empty())?;
            return if kind.is_file() { drop_rights(&name, &meta) } else { Ok(()) };
        }
        if kind.is_symlink() || kind.is_fifo() {
            let before = self.known.get(&(meta.dev(), meta.ino())).copied().unwrap_or((0, 0));
            let owner = merged(before, user, group);
            let path = std::fs::read_link(&name)?;
            // The change itself is what brings a file of a lower layer up, where it can be found.
            let at = |tv_nsec| Timespec { tv_sec: 0, tv_nsec };
            let times =
                Timestamps { last_access: at(rustix::fs::UTIME_NOW), last_modification: at(rustix::fs::UTIME_OMIT) };
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

/// What becomes of an attribute of this name. An image has no access control lists, whose numbers mean something only
/// where all owners are; programs know filesystems without. Our own marks are nobody's to set; the record of an owner,
/// which a faithful copy of a file may bring along, is right already.
fn attribute(name: &[u8]) -> Answer {
    let refused = |error| Answer::Failed(io::Error::from_raw_os_error(error));
    match name {
        name if name == OWNER_RECORD.as_bytes() => Answer::Value(0),
        name if name.starts_with(b"user.cavrith.") => refused(libc::EPERM),
        name if name.starts_with(b"system.posix_acl_") => refused(libc::EOPNOTSUPP),
        // Anyone who changes the name while it is examined sets what the layer is cleaned of afterwards.
        _ => Answer::Go,
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

/// A real change of the owner takes these away, no matter who makes it (chown(2)).
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
