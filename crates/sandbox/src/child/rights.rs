//! What a command inside may do, and who it is.

use std::io;

use nix::unistd::{Gid, Uid};
use rustix::thread::CapabilitySet;

use crate::child::program::{Why, why};
use crate::protocol::job::Purpose;

/// What root inside keeps: what package managers and builds need within the namespaces, and no more.
const KEPT_CAPABILITIES: CapabilitySet = CapabilitySet::CHOWN
    .union(CapabilitySet::DAC_OVERRIDE)
    .union(CapabilitySet::FOWNER)
    .union(CapabilitySet::FSETID)
    .union(CapabilitySet::KILL)
    .union(CapabilitySet::SETGID)
    .union(CapabilitySet::SETUID)
    .union(CapabilitySet::SETPCAP)
    .union(CapabilitySet::NET_BIND_SERVICE)
    .union(CapabilitySet::SYS_CHROOT)
    .union(CapabilitySet::AUDIT_WRITE);

/// Keeps this process, and all that come from it, from ever having other capabilities.
pub(crate) fn bound_capabilities(purpose: Purpose) -> io::Result<()> {
    rustix::thread::clear_ambient_capability_set()?;
    let kept = match purpose {
        Purpose::Machine => return Ok(()),
        Purpose::Build => KEPT_CAPABILITIES.union(CapabilitySet::SETFCAP),
        // A file of a folder that is also outside would have them there as well.
        Purpose::Workspace => KEPT_CAPABILITIES,
    };
    for capability in CapabilitySet::all().iter().filter(|capability| !kept.contains(*capability)) {
        match rustix::thread::remove_capability_from_bounding_set(capability) {
            // A capability that this kernel does not know cannot be kept either.
            Ok(()) | Err(rustix::io::Errno::INVAL) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(())
}

/// Gives up every capability at once. A program that is started by an account other than root has none anyway; a task
/// of ours, which becomes no program, keeps them when its user number was the account's from the beginning.
pub(crate) fn give_up_capabilities() -> io::Result<()> {
    let none = CapabilitySet::empty();
    Ok(rustix::thread::set_capabilities(
        None,
        rustix::thread::CapabilitySets { effective: none, permitted: none, inheritable: none },
    )?)
}

/// Becomes a user and a group, for good.
pub(crate) fn become_only(user: u32, group: u32) -> Result<(), Why> {
    let (uid, gid) = (Uid::from_raw(user), Gid::from_raw(group));
    nix::unistd::setresgid(gid, gid, gid).map_err(|error| why("become the account")(error.into()))?;
    nix::unistd::setresuid(uid, uid, uid).map_err(|error| why("become the account")(error.into()))
}
