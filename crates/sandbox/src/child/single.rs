//! Other accounts in a workspace whose user has a single id.
//!
//! The kernel knows one user there. A command of another account gets a user namespace of its own, in which that one
//! user has the account's numbers (user_namespaces(7)): it is told that it is `postgres`, or root, and sees all files
//! as its own. Root there has its capabilities over them. Nobody has a second owner to give, so for root the calls that
//! change owners, or that become somebody else, report success and change nothing; package managers need no more.

use std::fs;
use std::io;

use nix::sched::{CloneFlags, unshare};
use rustix::process::DumpableBehavior;

use crate::child::notify::{LOAD_CALL, step};
use crate::child::owners::{OWNER_CALLS, USER_CALLS};
use crate::child::program::{Why, why};
use crate::child::rights::{become_only, bound_capabilities};
use crate::protocol::job::Purpose;

/// In a child of PID 1 that has memory of its own: becomes another account than `only`, who is all there is.
pub(crate) fn become_another(user: u32, group: u32, only: (u32, u32)) -> Result<(), Why> {
    become_only(only.0, only.1)?;
    // Its maps are its own to write only while it may be looked into; nobody inside has what PID 1 has, so nobody may.
    let dumpable =
        |how| rustix::process::set_dumpable_behavior(how).map_err(|error| why("become the account")(error.into()));
    dumpable(DumpableBehavior::Dumpable)?;
    let namespace = || -> io::Result<()> {
        unshare(CloneFlags::CLONE_NEWUSER)?;
        fs::write("/proc/self/setgroups", "deny")?;
        fs::write("/proc/self/uid_map", format!("{user} {} 1", only.0))?;
        fs::write("/proc/self/gid_map", format!("{group} {} 1", only.1))
    };
    namespace().map_err(why("become the account, which takes a user namespace within this one"))?;
    dumpable(DumpableBehavior::NotDumpable)?;
    // Anyone who makes a user namespace has every capability in it, whatever it was bound to before
    // (user_namespaces(7)).
    bound_capabilities(Purpose::Workspace).map_err(why("give up capabilities"))?;
    become_only(user, group)?;
    if user == 0 { pass_over_others().map_err(why("filter system calls")) } else { Ok(()) }
}

/// Has calls that name another user or group succeed without effect.
fn pass_over_others() -> io::Result<()> {
    let mut program = vec![LOAD_CALL];
    for call in OWNER_CALLS.iter().chain(USER_CALLS) {
        program.push(step(libc::BPF_JMP | libc::BPF_JEQ | libc::BPF_K, 0, 1, *call as u32));
        program.push(step(libc::BPF_RET | libc::BPF_K, 0, 0, libc::SECCOMP_RET_ERRNO));
    }
    program.push(step(libc::BPF_RET | libc::BPF_K, 0, 0, libc::SECCOMP_RET_ALLOW));
    crate::child::notify::install(&mut program)
}
