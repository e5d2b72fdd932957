//! Commands that end with everything they started.
//!
//! A service may start others, which may go on without it: by leaving its session, with another environment, after
//! their parents are gone. All of them still descend from it. So a process of ours stands between PID 1 and the
//! service: anyone who loses its parent beneath it becomes its child (prctl(2), `PR_SET_CHILD_SUBREAPER`), it passes
//! signals on, and when the service's own program has ended, it ends what is left before it ends itself.
//!
//! It is a copy of PID 1 with the same rights, which nobody inside may look into. Anyone who is root inside may kill
//! it; then what is left are children of PID 1, and are found by what they were started with.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::{Read as _, Write as _};
use std::os::fd::OwnedFd;

use nix::errno::Errno;
use nix::sys::signal::{SigSet, SigmaskHow, Signal, kill, killpg};
use nix::sys::wait::{WaitPidFlag, WaitStatus, waitpid};
use nix::unistd::{ForkResult, Pid, fork};

use crate::child::measuring;
use crate::host::own_processes;
use crate::protocol::job::{Ending, Serving};

/// What PID 1 sends to have all of it killed; a real-time signal, which means nothing to anybody else.
const KILL_ALL: i32 = 40;
/// Signals that are passed on.
const PASSED: [Signal; 8] = [
    Signal::SIGHUP,
    Signal::SIGINT,
    Signal::SIGQUIT,
    Signal::SIGTERM,
    Signal::SIGUSR1,
    Signal::SIGUSR2,
    Signal::SIGWINCH,
    Signal::SIGCONT,
];

/// A command that is supervised, as PID 1 has it.
#[derive(Debug)]
pub(crate) struct Supervised {
    ending: OwnedFd,
}

/// Starts a process that supervises what `child` becomes, and closes what this process gives to neither.
///
/// # Errors
/// When no process can be started.
pub(crate) fn start(child: impl FnOnce() -> isize, report: &OwnedFd) -> nix::Result<(Pid, Supervised)> {
    let (ending, theirs) =
        rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC | rustix::pipe::PipeFlags::NONBLOCK)
            .map_err(|error| Errno::from_raw(error.raw_os_error()))?;
    // SAFETY: PID 1 has a single thread; the child may do anything a fresh process may.
    match unsafe { fork() }? {
        ForkResult::Parent { child } => {
            own_processes::add(child.as_raw());
            Ok((child, Supervised { ending }))
        }
        ForkResult::Child => {
            drop(ending);
            let _ = supervise(child, report, theirs);
            // SAFETY: _exit only ends the process, without running anything of PID 1's.
            unsafe { libc::_exit(0) }
        }
    }
}

impl Supervised {
    /// Passes a signal on to it.
    pub(crate) fn signal(&self, supervisor: Pid, signal: Signal) {
        let number = if signal == Signal::SIGKILL { KILL_ALL } else { signal as i32 };
        // SAFETY: sends a signal to a child of ours that is not collected yet.
        unsafe { libc::kill(supervisor.as_raw(), number) };
    }

    /// How it ended, when its supervisor has, in the way that is given.
    pub(crate) fn ended(self, supervisor: Pid, how: Ending) -> Ending {
        own_processes::remove(supervisor.as_raw());
        let mut report = Vec::new();
        let _ = File::from(self.ending).read_to_end(&mut report);
        serde_json::from_slice(&report).unwrap_or(how)
    }
}

/// The supervisor's life.
fn supervise(child: impl FnOnce() -> isize, report: &OwnedFd, ending: OwnedFd) -> nix::Result<()> {
    rustix::process::setsid().map_err(|error| Errno::from_raw(error.raw_os_error()))?;
    rustix::process::set_child_subreaper(Some(rustix::process::Pid::INIT))
        .map_err(|error| Errno::from_raw(error.raw_os_error()))?;
    let mut awaited = SigSet::from_iter(PASSED);
    awaited.add(Signal::SIGCHLD);
    let mut raw = *awaited.as_ref();
    // SAFETY: adds a number to a set that this function owns.
    unsafe { libc::sigaddset(&raw mut raw, KILL_ALL) };
    // SAFETY: the set was made by the calls above.
    let awaited = unsafe { SigSet::from_sigset_t_unchecked(raw) };
    nix::sys::signal::pthread_sigmask(SigmaskHow::SIG_SETMASK, Some(&awaited), None)?;
    // SAFETY: this process has a single thread; the child ends by exec or `_exit`.
    let program = match unsafe { fork() }? {
        ForkResult::Child => {
            child();
            // SAFETY: as above; it has ended there.
            unsafe { libc::_exit(127) }
        }
        ForkResult::Parent { child } => child,
    };
    // What tells PID 1 that the program runs, and the streams, are the program's; anyone who reads what it writes must
    // not wait for this process.
    let _ = report;
    let [ending] = crate::child::notify::keep_only([ending]);
    let mut how = None;
    loop {
        let mut number = 0;
        // SAFETY: sigwait writes the number of a signal of the set into `number`, which lives until it returns.
        if unsafe { libc::sigwait(awaited.as_ref(), &raw mut number) } != 0 {
            continue;
        }
        match number {
            KILL_ALL => kill_children(),
            libc::SIGCHLD => {}
            // It may just have ended.
            passed => drop(Signal::try_from(passed).map(|signal| killpg(program, signal))),
        }
        loop {
            match waitpid(None, Some(WaitPidFlag::WNOHANG | WaitPidFlag::__WALL)) {
                Ok(WaitStatus::Exited(pid, code)) if pid == program => how = Some(Ending::Code(code)),
                Ok(WaitStatus::Signaled(pid, signal, _)) if pid == program => how = Some(Ending::Signal(signal as i32)),
                Ok(WaitStatus::StillAlive) | Err(_) => break,
                Ok(_) => {}
            }
        }
        let Some(how) = how else { continue };
        let left = end_children();
        let how = if how.is_good() && left > 0 { Ending::Left(left) } else { how };
        let _ = File::from(ending).write_all(&serde_json::to_vec(&how).unwrap_or_default());
        return Ok(());
    }
}

/// Kills this process's children; theirs become this process's, and are killed next.
fn kill_children() {
    let own = std::process::id() as i32;
    for (process, parent) in parents() {
        if parent == own {
            let _ = kill(Pid::from_raw(process), Signal::SIGKILL);
        }
    }
}

/// Ends all that is left, and says how many children of this process there were at first.
fn end_children() -> u32 {
    let own = std::process::id() as i32;
    let left = parents().into_iter().filter(|(_, parent)| *parent == own).count() as u32;
    loop {
        kill_children();
        // Each that ends may leave others, so one at a time.
        match waitpid(None, Some(WaitPidFlag::__WALL)) {
            Ok(_) | Err(Errno::EINTR) => {}
            Err(_) => return left,
        }
    }
}

/// The parent of each process (proc_pid_stat(5), field 4).
fn parents() -> BTreeMap<i32, i32> {
    let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
    let parent = |entry: fs::DirEntry| {
        let process = entry.file_name().to_str()?.parse().ok()?;
        Some((process, measuring::stat(process)?.get(1)?.parse().ok()?))
    };
    entries.filter_map(parent).collect()
}

/// Who takes connections on a port: this supervisor's command, or somebody else.
pub(crate) fn serving(supervisor: i32, port: u16) -> Serving {
    let inodes: BTreeSet<_> = measuring::listeners(port).collect();
    if inodes.is_empty() {
        return Serving::Nobody;
    }
    let parents = parents();
    let descends = |process: i32| {
        let above = |process: &i32| parents.get(process).copied();
        std::iter::successors(Some(process), above).take(10_000).any(|one| one == supervisor)
    };
    let has = |process: &i32| measuring::sockets(*process).iter().any(|inode| inodes.contains(inode));
    let holders: Vec<_> = parents.keys().copied().filter(has).collect();
    if holders.iter().any(|process| descends(*process)) {
        return Serving::Itself;
    }
    let name = holders.first().and_then(|process| fs::read_to_string(format!("/proc/{process}/comm")).ok());
    Serving::Other(name.unwrap_or_default().trim_end().to_owned())
}
