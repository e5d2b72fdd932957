//! Processes of ours that go on without the command that started them, and helpers that end with the one who started
//! them.

use std::io;
use std::os::fd::{FromRawFd as _, OwnedFd};
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt as _;
use std::process::{Child, Command, Stdio};

use rustix::process::Signal;

use rustix::process::{Resource, Rlimit};

use crate::child::close_others;
use crate::host::ids;
use crate::{SandboxError, outside};

/// Starts our own executable under a name, in a session of its own, with the other end of a socket as its standard
/// input. It has none of our terminal, directory and environment but `PATH`, and goes on when we end.
///
/// # Errors
/// When no process can be started.
pub fn detach(name: &str) -> Result<(u32, UnixStream), SandboxError> {
    let (socket, theirs) = UnixStream::pair().map_err(outside("make a socket"))?;
    let mut command = Command::new("/proc/self/exe");
    command.arg0(name).env_clear().current_dir("/");
    command.envs(std::env::var_os("PATH").map(|path| ("PATH", path)));
    // A test lets the keeper's disk fail apart from that of the command that starts it.
    #[cfg(debug_assertions)]
    command.envs(std::env::var_os("CAVRITH_KEEPER_FAULT").map(|fault| ("CAVRITH_FAULT", fault)));
    command.stdin(OwnedFd::from(theirs)).stdout(Stdio::null()).stderr(Stdio::null());
    hand_on(&mut command);
    let mut child = command.spawn().map_err(outside("start a process"))?;
    let pid = child.id();
    // It belongs to init when we end; while we live, somebody has to collect it.
    std::thread::spawn(move || drop(child.wait()));
    Ok((pid, socket))
}

/// What a process that was started by [`detach`] does first: leaves the session of its parent, and takes the socket.
///
/// # Errors
/// When its standard input is none.
pub fn settle() -> io::Result<UnixStream> {
    // The leader of a group cannot leave its session; a process that was just started leads none.
    let _ = rustix::process::setsid();
    // A terminal, a pipe or a lock of whoever typed the command must not be held as long as a workspace runs.
    close_others();
    // SAFETY: descriptor 0 is the socket that `detach` passed; nothing else in this process, which has just started,
    // uses it.
    let socket = UnixStream::from(unsafe { OwnedFd::from_raw_fd(0) });
    // Descriptors 0 to 2 stay taken, so that no file of ours gets one of those numbers.
    let own = socket.try_clone()?;
    let null = std::fs::File::open("/dev/null")?;
    // SAFETY: dup2 replaces descriptor 0, which `socket` owns; it is forgotten right after, so that nothing closes it
    // twice.
    if unsafe { libc::dup2(std::os::fd::AsRawFd::as_raw_fd(&null), 0) } < 0 {
        return Err(io::Error::last_os_error());
    }
    std::mem::forget(socket);
    Ok(own)
}

/// Lets another program of ours, which a command will be, do what this process may in the namespace that it stepped
/// into; see [`ids::enter`].
pub fn hand_on(command: &mut Command) {
    // SAFETY: between fork and exec only system calls are made.
    unsafe { command.pre_exec(ids::keep_capabilities) };
}

/// Starts a helper that is killed when this thread's process ends, however it does.
///
/// # Errors
/// When it cannot be started.
pub fn helper(command: &mut Command) -> io::Result<Child> {
    // SAFETY: between fork and exec only system calls are made.
    unsafe {
        command.pre_exec(|| {
            ids::keep_capabilities()?;
            rustix::process::set_parent_process_death_signal(Some(Signal::KILL))?;
            Ok(())
        });
    }
    command.spawn()
}

/// Starts a program that is killed when this thread ends, with no more rights than it would have anyway.
///
/// # Errors
/// When it cannot be started.
pub fn companion(command: &mut Command) -> io::Result<Child> {
    // SAFETY: between fork and exec only a system call is made.
    unsafe {
        command.pre_exec(|| Ok(rustix::process::set_parent_process_death_signal(Some(Signal::KILL))?));
    }
    command.spawn()
}

/// Lets this process have as many open files as it may.
pub fn many_files() {
    let Rlimit { maximum, .. } = rustix::process::getrlimit(Resource::Nofile);
    // What is refused stays as it was; then fewer connections are carried at once.
    let _ = rustix::process::setrlimit(Resource::Nofile, Rlimit { current: maximum, maximum });
}
