//! A child that removes a command's unfinished work, however the command ends.
//!
//! A process that is killed cannot clean up after itself. So a small child waits on a pipe whose other end the command
//! holds: when the pipe closes, for whatever reason, the child removes the directory if it is still there, and ends. It
//! is in a session of its own, so that what is typed at the command's terminal, or sent to its group, does not reach
//! it.

use std::os::fd::{AsRawFd as _, OwnedFd};
use std::path::Path;
use std::time::Duration;

use nix::sys::wait::waitpid;
use nix::unistd::{ForkResult, Pid, fork};

use crate::{SandboxError, outside};

/// The watching child; dropping this value lets it finish, and waits for it.
#[derive(Debug)]
pub struct Janitor {
    alive: Option<OwnedFd>,
    child: Pid,
}

/// Starts a child that calls `remove` on the directory once this process has ended, or the result is dropped. `remove`
/// says whether the directory is gone; it is called again for a while when it is not, since what runs in the
/// directory may just be ending. Must be called while the process has a single thread.
///
/// # Errors
/// When no process can be started.
pub fn watch(directory: &Path, remove: fn(&Path) -> bool) -> Result<Janitor, SandboxError> {
    let (waits, alive) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)
        .map_err(|error| outside("make a pipe")(error.into()))?;
    // SAFETY: the caller promises a single thread, so the child may do anything a fresh process may.
    match unsafe { fork() }.map_err(|error| outside("start a process")(error.into()))? {
        ForkResult::Parent { child } => Ok(Janitor { alive: Some(alive), child }),
        ForkResult::Child => {
            drop(alive);
            become_quiet(&waits);
            let mut byte = [0];
            while matches!(rustix::io::read(&waits, &mut byte), Err(rustix::io::Errno::INTR)) {}
            for _ in 0..100 {
                if remove(directory) {
                    break;
                }
                std::thread::sleep(Duration::from_millis(100));
            }
            // SAFETY: _exit only ends the process, without running anything that the command has registered.
            unsafe { libc::_exit(0) }
        }
    }
}

/// Releases everything that the command has open: a reader of its output must not wait for the janitor.
fn become_quiet(keep: &OwnedFd) {
    let _ = rustix::process::setsid();
    let _ = rustix::process::chdir("/");
    let keep = keep.as_raw_fd() as libc::c_uint;
    // SAFETY: closes descriptors that the parent's values own; in this child nobody uses those values again, and it
    // ends by _exit, so none of them is dropped.
    unsafe {
        libc::close_range(0, keep - 1, 0);
        libc::close_range(keep + 1, libc::c_uint::MAX, 0);
    }
    for signal in [libc::SIGINT, libc::SIGTERM, libc::SIGHUP, libc::SIGQUIT] {
        // SAFETY: ignoring a signal runs no code.
        unsafe { libc::signal(signal, libc::SIG_IGN) };
    }
}

impl Drop for Janitor {
    fn drop(&mut self) {
        drop(self.alive.take());
        let _ = waitpid(self.child, None);
    }
}
