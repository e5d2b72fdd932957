//! Starting our own executable under deliberately odd conditions, for sealing.
//!
//! What a build must not depend on is made different for it: umask, host name, locale, time zone, number of processors,
//! and the order in which directories list their entries (by keeping its store in memory, where the order is another
//! than on any disk). The time of day and the process ids inside are the sandbox's business
//! ([`crate::protocol::job::Perturbations`]).

use std::io;
use std::os::unix::process::CommandExt as _;
use std::path::Path;
use std::process::{Child, Command, Stdio};

use nix::sched::CloneFlags;
use rustix::fs::XattrFlags;
use rustix::mount::{MountFlags, MountPropagationFlags, mount, mount_change};

use crate::host::ids::{self, c_text};
use crate::{SandboxError, outside};

/// What is different, in words, for the report.
pub const CONDITIONS: [&str; 5] =
    ["umask 077", "another host name", "locale tr_TR.UTF-8", "time zone Pacific/Kiritimati", "one processor"];

/// Starts our own executable under the first argument `name`, with pipes as standard input and output, under odd
/// conditions. `memory`: mount memory on this directory, for this child only.
///
/// # Errors
/// When the machine refuses one of the conditions.
pub fn start(name: &str, memory: Option<&Path>) -> Result<Child, SandboxError> {
    let mut command = Command::new("/proc/self/exe");
    command.arg0(name).stdin(Stdio::piped()).stdout(Stdio::piped()).current_dir("/");
    command.env("LC_ALL", "tr_TR.UTF-8").env("LANG", "tr_TR.UTF-8").env("TZ", "Pacific/Kiritimati");
    // A test that lets the disk fail means that of the store, not of what is thrown away.
    #[cfg(debug_assertions)]
    command.env_remove("CAVRITH_FAULT");
    let memory = memory.map(|path| c_text(path.as_os_str().as_encoded_bytes()));
    let prepare = move || -> io::Result<()> {
        crate::child::die_with_parent();
        ids::keep_capabilities()?;
        rustix::process::umask(rustix::fs::Mode::from_raw_mode(0o077));
        nix::sched::unshare(CloneFlags::CLONE_NEWUTS)?;
        rustix::system::sethostname(b"elsewhere")?;
        // On a machine with one processor nothing changes here.
        let _ = crate::child::command::bind_to_processors(1);
        if let Some(at) = &memory {
            nix::sched::unshare(CloneFlags::CLONE_NEWNS)?;
            mount_change("/", MountPropagationFlags::PRIVATE | MountPropagationFlags::REC)?;
            let flags = MountFlags::NODEV;
            mount("tmpfs", at.as_c_str(), "tmpfs", flags, Some(c"mode=755"))?;
            // Overlayfs needs attributes of users on it, which memory has from Linux 6.6 on.
            if rustix::fs::setxattr(at.as_c_str(), "user.cavrith", b"1", XattrFlags::empty()).is_err() {
                rustix::mount::unmount(at.as_c_str(), rustix::mount::UnmountFlags::DETACH)?;
            }
        }
        Ok(())
    };
    // SAFETY: between fork and exec the closure only makes system calls; what it allocates (the map of processors is on
    // the stack) and the texts it uses were made before.
    unsafe { command.pre_exec(prepare) };
    command.spawn().map_err(outside("start a second build under other conditions"))
}
