//! Starting one command inside.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read as _};
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};

use nix::sys::signal::{SaFlags, SigAction, SigHandler, SigSet, Signal, sigaction};
use nix::unistd::{ForkResult, Pid, fork};
use rustix::fs::{Mode, OFlags};
use rustix::process::{Resource, Rlimit};
use rustix::pty::OpenptFlags;
use rustix::thread::CpuSet;

use crate::child::archive;
use crate::child::clock::Clock;
use crate::child::filter;
use crate::child::owners;
use crate::child::program::{Program, Who, Why, start_sharing, why};
use crate::child::rights::{become_only, bound_capabilities, give_up_capabilities};
use crate::child::root::BUILD_PROCESSES;
use crate::child::single;
use crate::child::supervise::{self, Supervised};
use crate::protocol::job::{CommandJob, Job, PerProcessLimits, Purpose, Task};

/// What came of starting a command.
pub(crate) enum Start {
    Running { pid: Pid, terminal: Option<OwnedFd>, supervised: Option<Supervised> },
    Failed { why: String, missing: bool },
}

fn failed(doing: &str, error: impl Into<io::Error>) -> Start {
    Start::Failed { why: format!("cannot {doing}: {}", error.into()), missing: false }
}

/// Starts a command with the given standard input, output and error, replaced by a terminal of the inside where the
/// command wants one.
pub(crate) fn start(
    command: &CommandJob,
    stdio: Vec<OwnedFd>,
    job: &Job,
    clock: &mut Clock,
    others: Option<&File>,
) -> Start {
    let (outer, inner) = match command.terminal.contains(&true).then(open_terminal).transpose() {
        Ok(pair) => pair.unzip(),
        Err(error) => return failed("open a terminal", error),
    };
    let (report, writer) = match rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC) {
        Ok(pair) => pair,
        Err(error) => return failed("make a pipe", error),
    };
    let who = match Who::find(command) {
        Ok(who) => who,
        Err(why) => return Start::Failed { why: why.text, missing: why.missing },
    };
    let program = Program::new(command, &who);
    let ready = program.ready();
    let traced = clock.is_shifted();
    let in_child = || -> isize {
        let why = match prepare(command, &stdio, inner.as_ref(), job, traced, others, &who) {
            Err(why) => why,
            Ok(()) => match &command.task {
                // Its program is this one; what it writes goes to the streams that it was given.
                Some(task) => task_at_hand(task, &who.env),
                None => ready.execute(),
            },
        };
        let _ = rustix::io::write(&writer, format!("{}{}", if why.missing { 'm' } else { 'o' }, why.text).as_bytes());
        // SAFETY: _exit only ends the process, without running anything that PID 1 has registered.
        unsafe { libc::_exit(127) }
    };
    let mut supervised = None;
    // Anyone who does more than become a program, or is watched while it does, needs memory of its own.
    let apart = others.is_some() && is_apart(&who, job);
    let may_share = job.purpose != Purpose::Build && command.task.is_none() && !traced && !apart;
    let started = if command.whole {
        supervise::start(in_child, &writer).map(|(pid, whole)| {
            supervised = Some(whole);
            pid
        })
    } else if may_share {
        // SAFETY: PID 1 has a single thread; the child ends by exec or _exit, and drops nothing of ours.
        unsafe { start_sharing(in_child) }
    } else {
        // SAFETY: PID 1 has a single thread; the child may do anything a fresh process may.
        match unsafe { fork() } {
            Ok(ForkResult::Child) => {
                in_child();
                // SAFETY: as above; it has ended there.
                unsafe { libc::_exit(127) }
            }
            Ok(ForkResult::Parent { child }) => Ok(child),
            Err(error) => Err(error),
        }
    };
    let child = match started {
        Ok(child) => child,
        Err(error) => return failed("start a process", error),
    };
    drop((writer, inner, stdio));
    if traced {
        clock.adopt(child);
    }
    let mut why = String::new();
    let _ = std::fs::File::from(report).read_to_string(&mut why);
    if why.is_empty() {
        return Start::Running { pid: child, terminal: outer, supervised };
    }
    Start::Failed { why: why[1..].to_owned(), missing: why.starts_with('m') }
}

/// A terminal: its outer end and its inner one.
pub(crate) fn open_terminal() -> io::Result<(OwnedFd, OwnedFd)> {
    let outer = rustix::pty::openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC)?;
    rustix::pty::unlockpt(&outer)?;
    let inner = rustix::pty::ioctl_tiocgptpeer(&outer, OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC)?;
    Ok((outer, inner))
}

/// Tells the parent that all is well, which for a program its start does, and carries a task out.
fn task_at_hand(task: &Task, env: &BTreeMap<String, String>) -> ! {
    // SAFETY: closes descriptors from 3 on, the parent's pipe among them, which no Rust value is dropped for: this
    // process ends by _exit.
    unsafe { libc::close_range(3, libc::c_uint::MAX, 0) };
    let code = match archive::carry_out(task, env) {
        Ok(()) => 0,
        Err(error) => {
            let _ = rustix::io::write(rustix::stdio::stderr(), format!("{error}\n").as_bytes());
            1
        }
    };
    // SAFETY: _exit only ends the process, without running anything that PID 1 has registered.
    unsafe { libc::_exit(code) }
}

/// In the child: everything but the program itself.
fn prepare(
    command: &CommandJob,
    stdio: &[OwnedFd],
    terminal: Option<&OwnedFd>,
    job: &Job,
    traced: bool,
    others: Option<&File>,
    who: &Who,
) -> Result<(), Why> {
    let purpose = job.purpose;
    // A session of its own: it is not a part of anybody's terminal but the one it is given.
    rustix::process::setsid().map_err(|error| why("begin a session")(error.into()))?;
    if let Some(terminal) = terminal {
        rustix::process::ioctl_tiocsctty(terminal).map_err(|error| why("take the terminal")(error.into()))?;
        // The terminal belongs to the one who works on it, as after a login.
        let _ = rustix::fs::fchown(terminal, Some(rustix::fs::Uid::from_raw(who.user)), None);
    }
    for (number, wants_terminal) in command.terminal.into_iter().enumerate() {
        let from = if wants_terminal { terminal } else { stdio.get(number) };
        let from = from.ok_or_else(|| Why { text: "a descriptor did not arrive".to_owned(), missing: false })?;
        // The machine's device of nothing is not the inside's to change; it has one of its own.
        let own;
        let from = if is_null(from) {
            own = rustix::fs::open("/dev/null", OFlags::RDWR | OFlags::CLOEXEC, Mode::empty())
                .map_err(|error| why("open /dev/null")(error.into()))?;
            &own
        } else {
            from
        };
        // SAFETY: dup2 onto 0, 1 and 2 replaces descriptors that no Rust value in this process owns; the control socket
        // that was descriptor 0 is PID 1's business, not this child's.
        if unsafe { libc::dup2(from.as_fd().as_raw_fd(), number as i32) } < 0 {
            return Err(why("pass the standard streams")(io::Error::last_os_error()));
        }
    }
    default_signals()?;
    rustix::process::chdir(command.directory.as_str())
        .map_err(|error| why(&format!("enter {}", command.directory))(error.into()))?;
    rustix::process::umask(Mode::from_raw_mode(0o022));
    limit(Resource::Core, 0)?;
    if purpose == Purpose::Build {
        limit(Resource::Nproc, BUILD_PROCESSES.into())?;
        // Where a program lies in its memory is the same each time, and so is what it makes of that, such as hashes.
        // SAFETY: changes how this process's next program is loaded, and nothing else.
        unsafe { libc::personality(libc::ADDR_NO_RANDOMIZE as libc::c_ulong) };
    }
    limit_each(job.each)?;
    // Set-uid programs give nothing inside: the owners they would give are the wall's own business. A machine has its
    // own.
    if purpose != Purpose::Machine {
        rustix::thread::set_no_new_privs(true).map_err(|error| why("give up new privileges")(error.into()))?;
    }
    // Only what root makes in a build can have other owners that count; what is changed in a workspace is the member's.
    let recorder = match purpose {
        Purpose::Build => {
            let others = others.filter(|_| who.user == 0);
            Some(owners::Recorder::start(others).map_err(why("start to look after attributes"))?)
        }
        Purpose::Workspace | Purpose::Machine => None,
    };
    if traced {
        Clock::offer_myself().map_err(why("show another time of day"))?;
    }
    // A workspace's PID 1 is behind the filter itself.
    if purpose == Purpose::Build || traced {
        filter::apply(purpose, traced).map_err(why("filter system calls"))?;
    }
    bound_capabilities(purpose).map_err(why("give up capabilities"))?;
    if others.is_some() && is_apart(who, job) {
        single::become_another(who.user, who.group, job.only)?;
    } else if others.is_some() {
        // There is one user and one group, which we are, and no other groups.
        become_only(who.user, who.group)?;
    } else {
        become_user(who)?;
    }
    if let Some(recorder) = recorder {
        recorder.attach().map_err(why("look after attributes"))?;
    }
    if who.user != 0 {
        give_up_capabilities().map_err(why("give up capabilities"))?;
    }
    // SAFETY: marks descriptors from 3 on to be closed by the exec that follows; nothing is closed yet.
    unsafe { libc::close_range(3, libc::c_uint::MAX, libc::CLOSE_RANGE_CLOEXEC as i32) };
    Ok(())
}

/// Whether a command, where there is a single id, is of another account than the one that has it.
fn is_apart(who: &Who, job: &Job) -> bool {
    job.purpose == Purpose::Workspace && (who.user, who.group) != job.only
}

/// Whether a descriptor is the device of nothing, by its number, which is the same on every Linux.
pub(crate) fn is_null(fd: &OwnedFd) -> bool {
    rustix::fs::fstat(fd).is_ok_and(|found| {
        rustix::fs::FileType::from_raw_mode(found.st_mode) == rustix::fs::FileType::CharacterDevice
            && found.st_rdev == rustix::fs::makedev(1, 3)
    })
}

/// Rust's runtime ignores SIGPIPE and PID 1 blocks SIGCHLD; a command must find everything as usual.
fn default_signals() -> Result<(), Why> {
    let usual = SigAction::new(SigHandler::SigDfl, SaFlags::empty(), SigSet::empty());
    for signal in Signal::iterator().filter(|signal| !matches!(signal, Signal::SIGKILL | Signal::SIGSTOP)) {
        // SAFETY: the default action runs no code of ours.
        unsafe { sigaction(signal, &usual) }.map_err(|error| why("reset signals")(error.into()))?;
    }
    SigSet::empty().thread_set_mask().map_err(|error| why("reset signals")(error.into()))
}

/// Sets a limit, or leaves the lower one that there is already: only an administrator of the machine may raise it.
fn limit(resource: Resource, to: u64) -> Result<(), Why> {
    let most = rustix::process::getrlimit(resource).maximum.unwrap_or(u64::MAX);
    let to = Some(to.min(most));
    let limit = Rlimit { current: to, maximum: to };
    rustix::process::setrlimit(resource, limit).map_err(|error| why("set a limit")(error.into()))
}

/// Limits of a process of its own, where everything together cannot be limited: memory that it writes to
/// (`RLIMIT_DATA`, since address space alone is reserved generously by many runtimes), processes of its user, the
/// processors it runs on.
fn limit_each(each: PerProcessLimits) -> Result<(), Why> {
    if let Some(bytes) = each.memory {
        limit(Resource::Data, bytes)?;
    }
    if let Some(count) = each.processes {
        limit(Resource::Nproc, count.into())?;
    }
    if let Some(cpus) = each.cpus {
        bind_to_processors(cpus as usize).map_err(|error| why("bind it to processors")(error.into()))?;
    }
    Ok(())
}

/// Lets this process run on the first `count` of the processors that it may run on.
pub(crate) fn bind_to_processors(count: usize) -> rustix::io::Result<()> {
    let allowed = rustix::thread::sched_getaffinity(None)?;
    let mut some = CpuSet::new();
    (0..CpuSet::MAX_CPU).filter(|cpu| allowed.is_set(*cpu)).take(count).for_each(|cpu| some.set(cpu));
    rustix::thread::sched_setaffinity(None, &some)
}

fn become_user(who: &Who) -> Result<(), Why> {
    nix::unistd::setgroups(&who.groups).map_err(|error| why("set the groups")(error.into()))?;
    become_only(who.user, who.group)
}
