//! What a command becomes, made ready before there is a process for it, and the process that becomes it.
//!
//! A process that is copied only to become another program at once pays for the copy: page tables, faults on both
//! sides, and throwing it all away. So a command of a workspace shares PID 1's memory until it is another program
//! (clone(2), `CLONE_VM` and `CLONE_VFORK`); PID 1 stands still for that long. What the child would allocate would stay
//! in PID 1 for ever, so nothing is allocated between: it is made here. The child becomes the account while it still
//! shares that memory; that nobody else of the account may look into it is since PID 1 is not dumpable (ptrace(2)).

use std::collections::BTreeMap;
use std::ffi::CString;
use std::io;
use std::path::Path;

use libc::c_char;
use nix::errno::Errno;
use nix::sched::{CloneFlags, clone};
use nix::unistd::{Gid, Pid};

use cavrith_core::account;

use crate::host::ids::c_text;
use crate::protocol::job::CommandJob;

/// Bytes that the child's stack has; it calls nothing that goes deep.
const STACK: usize = 512 << 10;

/// Why a command could not be started.
#[derive(Debug)]
pub(crate) struct Why {
    pub text: String,
    pub missing: bool,
}

/// What went wrong in words.
pub(crate) fn why(doing: &str) -> impl FnOnce(io::Error) -> Why + '_ {
    move |error| Why { text: format!("cannot {doing}: {error}"), missing: false }
}

/// Whom a command runs as.
#[derive(Debug)]
pub(crate) struct Who {
    pub user: u32,
    pub group: u32,
    pub groups: Vec<Gid>,
    pub env: BTreeMap<String, String>,
}

/// A list of accounts or groups of the inside; nothing when it cannot be read.
fn list(path: &str) -> Vec<u8> {
    crate::child::root::read_inside(Path::new(path)).unwrap_or_default()
}

impl Who {
    /// The numbers that the command names, or those that its account has in the files of the inside (passwd(5),
    /// group(5)).
    pub fn find(command: &CommandJob) -> Result<Self, Why> {
        let mut env = command.env.clone();
        let Some(name) = &command.account else {
            let groups = vec![Gid::from_raw(command.group)];
            return Ok(Self { user: command.user, group: command.group, groups, env });
        };
        let passwd = list("/etc/passwd");
        let found = account::find(&passwd, name).ok_or_else(|| Why {
            text: format!("there is no account {name} inside; the accounts are {}", account::names(&passwd).join(", ")),
            missing: false,
        })?;
        let groups = account::groups(&list("/etc/group"), name, found.group);
        let groups = groups.into_iter().map(Gid::from_raw).collect();
        for (variable, value) in [("HOME", &found.home), ("USER", name), ("LOGNAME", name)] {
            env.insert(variable.to_owned(), value.clone());
        }
        Ok(Self { user: found.user, group: found.group, groups, env })
    }
}

/// A program with its arguments and variables, as the kernel takes them.
#[derive(Debug)]
pub(crate) struct Program {
    named: CString,
    places: Vec<CString>,
    argv: Vec<CString>,
    env: Vec<CString>,
}

/// Pointers to texts, with an end, as execve(2) takes them.
fn pointers(texts: &[CString]) -> Vec<*const c_char> {
    texts.iter().map(|text| text.as_ptr()).chain([std::ptr::null()]).collect()
}

impl Program {
    pub fn new(command: &CommandJob, who: &Who) -> Self {
        let named = command.argv.first().map_or("", String::as_str);
        let path = who.env.get("PATH").map_or("", String::as_str);
        Self {
            named: c_text(named),
            places: places(named, path).into_iter().map(c_text).collect(),
            argv: command.argv.iter().map(|argument| c_text(argument.as_str())).collect(),
            env: who.env.iter().map(|(name, value)| c_text(format!("{name}={value}"))).collect(),
        }
    }

    /// What the program is made ready for; it lives as long as this value.
    pub fn ready(&self) -> Ready<'_> {
        Ready { program: self, argv: pointers(&self.argv), env: pointers(&self.env) }
    }
}

/// A program that only has to be started.
#[derive(Debug)]
pub(crate) struct Ready<'a> {
    program: &'a Program,
    argv: Vec<*const c_char>,
    env: Vec<*const c_char>,
}

impl Ready<'_> {
    /// Replaces this process by the program; returns why that failed. Nothing is allocated before it has.
    pub fn execute(&self) -> Why {
        if self.program.argv.is_empty() {
            return Why { text: "there is no command".to_owned(), missing: true };
        }
        let typed_whole = self.program.named.as_bytes().contains(&b'/');
        let mut denied = None;
        for place in &self.program.places {
            // SAFETY: all are texts that end with a zero byte, in lists that end with a null pointer, and outlive the
            // call, since they are borrowed from `program`.
            unsafe { libc::execve(place.as_ptr(), self.argv.as_ptr(), self.env.as_ptr()) };
            match Errno::last() {
                Errno::ENOENT if typed_whole && is_there(place) => {
                    return Why {
                        text: "the interpreter or loader that it needs is not there inside".to_owned(),
                        missing: false,
                    };
                }
                Errno::ENOENT | Errno::ENOTDIR => {}
                other => denied = Some(other),
            }
        }
        let named = self.program.named.to_string_lossy();
        match denied {
            Some(error) => {
                Why { text: format!("cannot be started inside: {}", io::Error::from(error)), missing: false }
            }
            None => Why { text: format!("there is no such program inside ({named})"), missing: true },
        }
    }
}

fn is_there(place: &CString) -> bool {
    std::fs::exists(std::path::Path::new(&*place.to_string_lossy())).unwrap_or(false)
}

fn places(program: &str, path: &str) -> Vec<String> {
    if program.contains('/') {
        return vec![program.to_owned()];
    }
    path.split(':')
        .filter(|directory| !directory.is_empty())
        .map(|directory| format!("{directory}/{program}"))
        .collect()
}

/// Runs `child` in a process that shares this one's memory, which stands still until the child is another program or
/// has ended.
///
/// # Safety
/// The caller has a single thread. `child` drops nothing that the caller owns, keeps no lock, and ends by exec or
/// `_exit`.
pub(crate) unsafe fn start_sharing(child: impl FnMut() -> isize) -> nix::Result<Pid> {
    let mut stack = vec![0; STACK];
    // SAFETY: the child has a stack of its own, which lives until it has left this memory: CLONE_VFORK has us wait for
    // that.
    unsafe { clone(Box::new(child), &mut stack, CloneFlags::CLONE_VM | CloneFlags::CLONE_VFORK, Some(libc::SIGCHLD)) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_program_is_looked_for_where_the_variable_says() {
        assert_eq!(places("cc", "/usr/bin::/bin"), ["/usr/bin/cc", "/bin/cc"]);
        assert_eq!(places("./cc", "/usr/bin"), ["./cc"]);
        assert!(places("cc", "").is_empty());
        assert!(list("/dev/zero").is_empty());
        assert!(list("/nowhere").is_empty());
    }

    #[test]
    fn what_no_account_names_is_told_with_those_there_are() {
        let command = CommandJob { account: Some("nobody-of-that-name".to_owned()), ..CommandJob::default() };
        let why = Who::find(&command).unwrap_err();
        assert!(why.text.contains("there is no account nobody-of-that-name inside; the accounts are") && !why.missing);
        let root = Who::find(&CommandJob { account: Some("root".to_owned()), ..CommandJob::default() }).unwrap();
        assert_eq!((root.user, root.group, root.env["HOME"].as_str()), (0, 0, "/root"));
    }
}
