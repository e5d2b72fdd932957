//! PID 1 of the inside: builds the root, runs orders, collects what ends.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::os::unix::fs::MetadataExt as _;
use std::os::unix::net::UnixStream;

use nix::sys::signal::{SigSet, Signal, kill, killpg};
use nix::sys::signalfd::{SfdFlags, SignalFd};
use nix::sys::wait::{WaitPidFlag, WaitStatus, waitpid};
use nix::unistd::{ForkResult, Pid, fork};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::process::DumpableBehavior;

use crate::child::clock::Clock;
use crate::child::command::{self, Start};
use crate::child::filter;
use crate::child::guard;
use crate::child::measuring;
use crate::child::owners;
use crate::child::root;
use crate::child::supervise::{self, Supervised};
use crate::child::volatile;
use crate::parent::net;
use crate::protocol::job::{Ending, Job, Order, Purpose, Report, Serving};
use crate::protocol::wire;

/// Runs the inside until the parent has ended. The result is the process's exit code.
pub(crate) fn run(socket: &UnixStream, job: &Job, handed_over: Vec<OwnedFd>) -> i32 {
    match serve(socket, job, handed_over) {
        Ok(()) => 0,
        Err(why) => {
            let _ = wire::send(socket, &Report::Failed(why), &[]);
            1
        }
    }
}

fn serve(socket: &UnixStream, job: &Job, handed_over: Vec<OwnedFd>) -> Result<(), String> {
    let in_words = |doing: &'static str| move |error: io::Error| format!("{doing}: {error}");
    rustix::system::sethostname(job.host_name.as_bytes()).map_err(|error| format!("set the host name: {error}"))?;
    // Links and pipes can carry no record of their owner; those go into a file that the outside reads.
    let others = if job.records_owners {
        let path = job.overlay_scratch.join(owners::OTHERS);
        let file = File::options().append(true).create(true).open(&path);
        Some(file.map_err(|error| format!("make {}: {error}", path.display()))?)
    } else {
        None
    };
    let mut notes = root::build(job, handed_over)?;
    if let Err(error) = net::loopback_up() {
        notes.push(format!("the loopback inside could not be started ({error})"));
    }
    if job.answers_everywhere {
        net::loopback_is_everywhere().map_err(in_words("have the loopback answer for every address"))?;
    }
    let mut ended = SigSet::empty();
    ended.add(Signal::SIGCHLD);
    ended.thread_block().map_err(|error| format!("listen for ended processes: {error}"))?;
    let ended = SignalFd::with_flags(&ended, SfdFlags::SFD_CLOEXEC | SfdFlags::SFD_NONBLOCK)
        .map_err(|error| format!("listen for ended processes: {error}"))?;
    match job.purpose {
        Purpose::Build => filter::prepare(job.purpose).map_err(in_words("make the filter of system calls"))?,
        Purpose::Workspace => {
            volatile::make();
            // Nothing that is refused there is needed here any more, so everything that is started inherits it, and
            // pays for it no more.
            rustix::thread::set_no_new_privs(true).map_err(|error| format!("give up new privileges: {error}"))?;
            guard::begin().map_err(in_words("guard the folders"))?;
            filter::apply(job.purpose, false).map_err(in_words("filter system calls"))?;
        }
        Purpose::Machine => {}
    }
    use_up_pids(job.perturbations.skipped_pids);
    // From here on foreign programs run, some of them under our own number: nothing of this process is for them to look
    // at.
    rustix::process::set_dumpable_behavior(DumpableBehavior::NotDumpable)
        .map_err(|error| format!("hide itself: {error}"))?;
    wire::send(socket, &Report::Ready { notes }, &[]).map_err(in_words("report"))?;
    let mut inside =
        Inside { socket, job, clock: Clock::new(job.perturbations.clock_offset), others, running: HashMap::new() };
    loop {
        let mut watched = [PollFd::new(socket, PollFlags::IN), PollFd::from_borrowed_fd(ended.as_fd(), PollFlags::IN)];
        match poll(&mut watched, None) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(format!("wait for orders: {error}")),
        }
        let ready = |watched: &PollFd<'_>| !watched.revents().is_empty();
        let (order_came, something_ended) = (ready(&watched[0]), ready(&watched[1]));
        if something_ended {
            while matches!(ended.read_signal(), Ok(Some(_))) {}
            inside.collect().map_err(in_words("report"))?;
        }
        if order_came {
            match wire::receive::<Order>(socket).map_err(in_words("take an order"))? {
                Some((order, fds)) => inside.obey(order, fds).map_err(in_words("report"))?,
                None => return Ok(()),
            }
        }
    }
}

/// Starts and collects processes that do nothing, so that process ids differ from those of another build.
fn use_up_pids(count: u32) {
    for _ in 0..count {
        // SAFETY: this process has a single thread, and the child ends at once without touching anything.
        match unsafe { fork() } {
            // SAFETY: _exit only ends the process, without running anything of the parent's.
            Ok(ForkResult::Child) => unsafe { libc::_exit(0) },
            Ok(ForkResult::Parent { child }) => drop(waitpid(child, None)),
            Err(_) => return,
        }
    }
}

/// A command that was ordered.
struct Running {
    number: u64,
    supervised: Option<Supervised>,
}

struct Inside<'a> {
    socket: &'a UnixStream,
    job: &'a Job,
    clock: Clock,
    /// Where owners are recorded that no file can carry; only where owners are recorded.
    others: Option<File>,
    /// Commands that were ordered and still run, with their numbers.
    running: HashMap<Pid, Running>,
}

impl Inside<'_> {
    fn report(&self, report: &Report, fds: &[BorrowedFd<'_>]) -> io::Result<()> {
        wire::send(self.socket, report, fds)
    }

    fn obey(&mut self, order: Order, fds: Vec<OwnedFd>) -> io::Result<()> {
        match order {
            Order::Run(number, command) => {
                match command::start(&command, fds, self.job, &mut self.clock, self.others.as_ref()) {
                    Start::Running { pid, terminal, supervised } => {
                        self.running.insert(pid, Running { number, supervised });
                        let terminal: Vec<_> = terminal.iter().map(OwnedFd::as_fd).collect();
                        self.report(&Report::Started(number), &terminal)
                    }
                    Start::Failed { why, missing } => self.report(&Report::NotStarted { number, why, missing }, &[]),
                }
            }
            Order::Signal(number, signal) => {
                let Ok(signal) = Signal::try_from(signal) else { return Ok(()) };
                for (pid, running) in self.running.iter().filter(|(_, running)| running.number == number) {
                    match &running.supervised {
                        Some(supervised) => supervised.signal(*pid, signal),
                        // The group may be gone already; its end is reported anyway.
                        None => drop(killpg(*pid, signal)),
                    }
                }
                Ok(())
            }
            Order::SignalAll(signal) => {
                if let Ok(signal) = Signal::try_from(signal) {
                    // Everything that can be signalled, which in a namespace of our own is all but ourselves (kill(2)).
                    let _ = kill(Pid::from_raw(-1), signal);
                }
                Ok(())
            }
            Order::KillMarked(mark) => {
                measuring::kill_marked(&mark);
                Ok(())
            }
            Order::Look(number, path) => {
                let there = std::path::Path::new(&path).symlink_metadata().ok();
                let changed = there.map(|meta| {
                    let millis = meta.ctime().saturating_mul(1000).saturating_add(meta.ctime_nsec() / 1_000_000);
                    u64::try_from(millis).unwrap_or(0)
                });
                self.report(&Report::Looked(number, changed), &[])
            }
            Order::Serves(number, command, port) => {
                let supervisor = self.running.iter().find(|(_, running)| running.number == command);
                let serving = supervisor.map_or(Serving::Nobody, |(pid, _)| supervise::serving(pid.as_raw(), port));
                self.report(&Report::Served(number, serving), &[])
            }
            Order::Measure(number) => {
                let was_ordered = |pid| self.running.contains_key(&Pid::from_raw(pid));
                self.report(&Report::Measured(number, measuring::measure(&was_ordered)), &[])
            }
            Order::Begin(_) | Order::HoldIds | Order::Mapped => Ok(()),
        }
    }

    /// Collects everything that ended, orphans included.
    fn collect(&mut self) -> io::Result<()> {
        loop {
            let status = match waitpid(None, Some(WaitPidFlag::WNOHANG | WaitPidFlag::__WALL)) {
                Ok(WaitStatus::StillAlive) | Err(_) => return Ok(()),
                Ok(status) => status,
            };
            let ended = match status {
                WaitStatus::Exited(pid, code) => Some((pid, Ending::Code(code))),
                WaitStatus::Signaled(pid, signal, _) => Some((pid, Ending::Signal(signal as i32))),
                other => {
                    self.clock.attend(other);
                    None
                }
            };
            if let Some((pid, ending)) = ended
                && let Some(Running { number, supervised }) = self.running.remove(&pid)
            {
                let ending = supervised.map_or(ending, |supervised| supervised.ended(pid, ending));
                self.report(&Report::Ended(number, ending), &[])?;
            }
        }
    }
}
