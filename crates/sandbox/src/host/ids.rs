//! Who we are, and which owners we can give to files.
//!
//! An image has owners 0 to 65535. On disk, in the store, they are:
//!
//! | we are | owner `n` of the image is on disk |
//! |---|---|
//! | root | `n` |
//! | a user `U` with a range of subordinate ids from `S` | `U` for the account (1000), else `S + n`, without a gap
//! where the account is |
//! | a user `U` without one | `U`, and `n` is written beside the file; see [`crate::child::owners`] |
//!
//! The account being the user itself is what makes the member's own folders come out right on both sides without
//! anybody changing their owner. One map serves all images, since the account has the same number in all of them.

use std::ffi::CString;
use std::os::fd::OwnedFd;
use std::process::Command;

use cavrith_core::account::ACCOUNT_ID;
use nix::sys::wait::{WaitStatus, waitpid};
use nix::unistd::{ForkResult, Gid, Uid, User, fork};
use rustix::thread::CapabilitySet;

use crate::host::programs;
use crate::{SandboxError, outside};

/// Owners that an image may have.
const OWNERS: u32 = 65_536;

/// Who we are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Identity {
    /// Root, with all owners.
    Root,
    /// An ordinary user inside a user namespace that has all owners; see [`enter`].
    Range,
    /// An ordinary user inside a user namespace that has one owner only, which is root there.
    Single,
}

impl Identity {
    /// The maps of a namespace below ours, as `uid_map` takes them: every owner to itself. A line may not span two
    /// lines of our own map, so there are as many lines as ours has. `only` are the user and group that there are when
    /// there is one of each only.
    pub(crate) fn map_below(self, only: (u32, u32)) -> [String; 2] {
        let all = match self {
            Self::Single => return [only.0, only.1].map(|id| format!("{id} 0 1\n")),
            Self::Root => format!("0 0 {OWNERS}\n"),
            Self::Range => {
                let after = ACCOUNT_ID + 1;
                format!("0 0 {ACCOUNT_ID}\n{ACCOUNT_ID} {ACCOUNT_ID} 1\n{after} {after} {}\n", OWNERS - after)
            }
        };
        [all.clone(), all]
    }

    /// True when owners of files are written beside them.
    pub fn records_owners(self) -> bool {
        self == Self::Single
    }
}

/// Makes sure that this process can give files all the owners an image has: root can already, an ordinary user steps
/// into a user namespace. One who has no subordinate ids is the only owner there, and other owners are written beside
/// the files. Must be called while the process has a single thread.
///
/// # Errors
/// [`SandboxError::Lacks`] with the remedy when this machine does not let the user do it.
pub fn enter() -> Result<Identity, SandboxError> {
    if covers_all_owners() && Uid::effective().is_root() {
        return Ok(Identity::Root);
    }
    if is_in_range() {
        return Ok(Identity::Range);
    }
    match find_range() {
        // Where there is one owner only, nobody has a range, whatever a file says of root.
        Ok(ranges) if owners("/proc/self/uid_map").iter().any(|(_, count)| *count > 1) => {
            enter_range(&ranges).map(|()| Identity::Range)
        }
        _ => enter_single().map(|()| Identity::Single),
    }
}

/// Whether another program of ours, which started us, has stepped into a namespace with all owners already. Its numbers
/// are not those that the files about subordinate ids speak of, so nobody steps in twice.
fn is_in_range() -> bool {
    let is_first = owners("/proc/self/uid_map").iter().any(|(_, count)| *count == u64::from(u32::MAX));
    let needed = CapabilitySet::CHOWN | CapabilitySet::SETUID | CapabilitySet::SETGID | CapabilitySet::SYS_ADMIN;
    let may = rustix::thread::capabilities(None).is_ok_and(|sets| sets.effective.contains(needed));
    !is_first && may && covers_all_owners()
}

/// An exec by anybody but root drops all capabilities that are not in the ambient set; in our own user namespace we are
/// an ordinary user with all of them.
pub(crate) fn keep_capabilities() -> std::io::Result<()> {
    if rustix::process::geteuid().is_root() {
        return Ok(());
    }
    let mut sets = rustix::thread::capabilities(None)?;
    sets.inheritable = sets.permitted;
    rustix::thread::set_capabilities(None, sets)?;
    for capability in CapabilitySet::all().iter().filter(|capability| sets.permitted.contains(*capability)) {
        match rustix::thread::configure_capability_in_ambient_set(capability, true) {
            Ok(()) | Err(rustix::io::Errno::INVAL) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(())
}

/// Why an ordinary user has no subordinate ids to use; nothing when they have, or need none.
pub fn lacks_range() -> Option<SandboxError> {
    if Uid::effective().is_root() { None } else { find_range().err() }
}

/// The first subordinate user and group number.
type Ranges = (u32, u32);

fn find_range() -> Result<Ranges, SandboxError> {
    let uid = Uid::current();
    let name = User::from_uid(uid).ok().flatten().map_or_else(|| uid.to_string(), |user| user.name);
    let uids = range("/etc/subuid", &name, uid.as_raw())?;
    let gids = range("/etc/subgid", &name, uid.as_raw())?;
    for program in ["newuidmap", "newgidmap"] {
        if programs::find_program(program).is_none() {
            return Err(SandboxError::Lacks {
                what: format!("the program {program} is not installed"),
                remedy: "install the package uidmap".to_owned(),
            });
        }
    }
    Ok((uids, gids))
}

fn enter_range((uids, gids): &Ranges) -> Result<(), SandboxError> {
    let (uid, gid) = (Uid::current().as_raw(), Gid::current().as_raw());
    map_self(&[("newuidmap", uid, *uids), ("newgidmap", gid, *gids)])
}

/// A user namespace in which we are root, and nobody else is anybody. For one's own number nobody has to be asked
/// (user_namespaces(7)).
fn enter_single() -> Result<(), SandboxError> {
    let (uid, gid) = (Uid::current(), Gid::current());
    nix::sched::unshare(nix::sched::CloneFlags::CLONE_NEWUSER).map_err(|error| no_user_namespaces(&error))?;
    for (file, text) in
        [("setgroups", "deny".to_owned()), ("uid_map", format!("0 {uid} 1\n")), ("gid_map", format!("0 {gid} 1\n"))]
    {
        std::fs::write(format!("/proc/self/{file}"), text).map_err(outside(format!("map our own id ({file})")))?;
    }
    Ok(())
}

fn no_user_namespaces(error: &nix::errno::Errno) -> SandboxError {
    SandboxError::Lacks {
        what: format!("an ordinary user may not make a user namespace ({error})"),
        remedy: "let an administrator run: sysctl user.max_user_namespaces=15000 (and kernel.unprivileged_userns_clone=1 where that exists)".to_owned(),
    }
}

/// Whether this process's user namespace has owners 0 to 65535.
fn covers_all_owners() -> bool {
    let covers = |file: &str| {
        let mut lines = owners(file);
        lines.sort_unstable();
        let reached =
            lines.iter().try_fold(0, |reached, (first, count)| (*first <= reached).then(|| reached.max(first + count)));
        reached.is_some_and(|reached| reached >= u64::from(OWNERS))
    };
    covers("/proc/self/uid_map") && covers("/proc/self/gid_map")
}

/// The owners of a map of ids: the first of each line, and how many (user_namespaces(7)).
fn owners(file: &str) -> Vec<(u64, u64)> {
    let text = std::fs::read_to_string(file).unwrap_or_default();
    let lines = text.lines().filter_map(|line| {
        let mut numbers = line.split_whitespace().map(|number| number.parse::<u64>().ok());
        Some((numbers.next()??, numbers.nth(1)??))
    });
    lines.collect()
}

/// The first subordinate id of a range of the user that is long enough (subuid(5)).
fn range(file: &str, name: &str, uid: u32) -> Result<u32, SandboxError> {
    let text = std::fs::read_to_string(file).unwrap_or_default();
    let option = if file.ends_with("uid") { "uids" } else { "gids" };
    parse_range(&text, name, uid).ok_or_else(|| SandboxError::Lacks {
        what: format!("{name} has no range of {} subordinate ids in {file}", OWNERS - 1),
        remedy: format!("let an administrator run: usermod --add-sub{option} 100000-165535 {name} (with another range when that one is taken)"),
    })
}

fn parse_range(text: &str, name: &str, uid: u32) -> Option<u32> {
    text.lines().find_map(|line| {
        let mut fields = line.trim().split(':');
        let owner = fields.next()?;
        let (first, count): (u32, u32) = (fields.next()?.parse().ok()?, fields.next()?.parse().ok()?);
        let fits =
            (owner == name || owner == uid.to_string()) && count >= OWNERS - 1 && first.checked_add(OWNERS).is_some();
        fits.then_some(first)
    })
}

/// Unshares the user namespace and has a helper outside of it write the maps: `newuidmap` works from the parent
/// namespace only.
fn map_self(maps: &[(&str, u32, u32)]) -> Result<(), SandboxError> {
    let (ready, go) = rustix::pipe::pipe().map_err(|error| outside("make a pipe")(error.into()))?;
    let target = nix::unistd::getpid();
    // SAFETY: the caller promises a single thread, so the child may do anything a fresh process may.
    match unsafe { fork() }.map_err(|error| outside("start a helper")(error.into()))? {
        ForkResult::Child => {
            drop(go);
            let code = i32::from(!helper(&ready, target.as_raw(), maps));
            std::process::exit(code)
        }
        ForkResult::Parent { child } => {
            drop(ready);
            let unshared = nix::sched::unshare(nix::sched::CloneFlags::CLONE_NEWUSER);
            if unshared.is_ok() {
                let _ = rustix::io::write(&go, b"g");
            }
            drop(go);
            let status = waitpid(child, None);
            if let Err(error) = unshared {
                return Err(no_user_namespaces(&error));
            }
            match status {
                Ok(WaitStatus::Exited(_, 0)) => Ok(()),
                _ => Err(SandboxError::Lacks {
                    what: "newuidmap and newgidmap did not set the map of ids (their message is above)".to_owned(),
                    remedy: "check that both are installed set-uid root, and the ranges in /etc/subuid and /etc/subgid"
                        .to_owned(),
                }),
            }
        }
    }
}

fn helper(ready: &OwnedFd, target: i32, maps: &[(&str, u32, u32)]) -> bool {
    let mut byte = [0];
    if !matches!(rustix::io::read(ready, &mut byte), Ok(1)) {
        return true;
    }
    maps.iter().all(|(program, own, first)| {
        let after = ACCOUNT_ID + 1;
        let numbers = [0, *first, ACCOUNT_ID, ACCOUNT_ID, *own, 1, after, first + ACCOUNT_ID, OWNERS - after];
        let Some(program) = programs::find_program(program) else { return false };
        let mut command = Command::new(program);
        command.arg(target.to_string()).args(numbers.map(|number| number.to_string()));
        command.status().is_ok_and(|status| status.success())
    })
}

/// Writes the maps of a child that has unshared its user namespace.
pub(crate) fn map_child(identity: Identity, only: (u32, u32), child: u32) -> Result<(), SandboxError> {
    for (file, map) in ["uid_map", "gid_map"].into_iter().zip(identity.map_below(only)) {
        let path = format!("/proc/{child}/{file}");
        std::fs::write(&path, &map).map_err(outside(format!("map the ids of the sandbox ({file})")))?;
    }
    Ok(())
}

/// A text for a system call. Inner zero bytes cut it short; no caller has any.
pub(crate) fn c_text(text: impl Into<Vec<u8>>) -> CString {
    let mut bytes = text.into();
    bytes.retain(|byte| *byte != 0);
    CString::new(bytes).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_range_is_found_by_name_or_number_and_must_be_long_enough() {
        let text = "pilot:100000:65536\n4242:300000:65535\nshort:500000:1000\nbroken\nhigh:4294967000:65536\n";
        assert_eq!(parse_range(text, "pilot", 1), Some(100_000));
        assert_eq!(parse_range(text, "nobody", 4242), Some(300_000));
        assert_eq!(parse_range(text, "short", 2), None);
        assert_eq!(parse_range(text, "high", 3), None);
        assert_eq!(parse_range("", "pilot", 1), None);
    }

    #[test]
    fn the_map_below_covers_every_owner_once() {
        for identity in [Identity::Root, Identity::Range] {
            let mut next = 0;
            for line in identity.map_below((0, 0))[0].lines() {
                let numbers: Vec<u32> = line.split(' ').map(|number| number.parse().unwrap()).collect();
                assert_eq!((numbers[0], numbers[1]), (next, next));
                next += numbers[2];
            }
            assert_eq!(next, OWNERS);
        }
    }
}
