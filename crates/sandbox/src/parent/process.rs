//! A child of our own executable on the other end of a socket: what a sandbox begins with.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt as _;
use std::process::{Child, Command, Stdio};
use std::sync::Mutex;

use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::host::ids::{Identity, map_child};
use crate::host::mutex::locked;
use crate::parent::folder;
use crate::protocol::job;
use crate::protocol::job::{Job, Order, Purpose, Report};
use crate::protocol::wire;
use crate::{SandboxError, outside};

/// How long a sandbox has for its orderly end.
const PATIENCE: Timespec = Timespec { tv_sec: 20, tv_nsec: 0 };

/// A report with its descriptors.
pub(crate) type Received = (Report, Vec<OwnedFd>);

/// A child of our own executable, on the other end of a socket.
#[derive(Debug)]
pub(crate) struct SandboxProcess {
    pid: u32,
    child: Mutex<Child>,
    pub(crate) socket: UnixStream,
}

impl SandboxProcess {
    pub(crate) fn start() -> Result<Self, SandboxError> {
        let (socket, theirs) = UnixStream::pair().map_err(outside("make a socket"))?;
        let mut command = Command::new("/proc/self/exe");
        command.arg0(job::NAME).env_clear().current_dir("/");
        command.stdin(OwnedFd::from(theirs)).stdout(Stdio::null()).stderr(Stdio::null());
        let child = command.spawn().map_err(outside("start the sandbox"))?;
        Ok(Self { pid: child.id(), child: Mutex::new(child), socket })
    }

    /// Builds a sandbox; what could not be done as it should be is told.
    ///
    /// # Errors
    /// When the machine refuses something that it needs.
    pub(crate) fn begin(mut job: Job, identity: Identity) -> Result<(Self, Vec<String>), SandboxError> {
        let mut notes = Vec::new();
        let mut handed_over = Vec::new();
        for mount in job.folders.iter_mut().filter(|mount| !mount.kept) {
            match folder::mapped(&mount.outside, identity) {
                Ok(Some(mapped)) => {
                    mount.handed_over = true;
                    handed_over.push(mapped);
                }
                Ok(None) => {}
                Err(error) => notes.push(format!("{error}; its files keep the owner they have outside")),
            }
        }
        job.records_owners = identity.records_owners();
        let (only, has_users) = (job.only, job.purpose != Purpose::Machine);
        let raw = Self::start()?;
        let fds: Vec<_> = handed_over.iter().map(AsFd::as_fd).collect();
        let groups = std::mem::take(&mut job.groups);
        for group in &groups {
            // Before it starts anything, so that everything inside belongs to the group.
            let path = group.join("cgroup.procs");
            std::fs::write(&path, raw.pid().to_string()).map_err(outside(format!("write {}", path.display())))?;
        }
        raw.order(&Order::Begin(Box::new(job)), &fds)?;
        match raw.report()?.0 {
            Report::Unshared => {}
            other => return Err(unexpected(other)),
        }
        if has_users {
            map_child(identity, only, raw.pid())?;
        }
        raw.order(&Order::Mapped, &[])?;
        match raw.report()?.0 {
            Report::Ready { notes: more } => notes.extend(more),
            other => return Err(unexpected(other)),
        }
        Ok((raw, notes))
    }

    /// A child that has unshared its user namespace, and waits without a map.
    pub(crate) fn hold_ids() -> Result<Self, SandboxError> {
        let raw = Self::start()?;
        raw.order(&Order::HoldIds, &[])?;
        match raw.report()?.0 {
            Report::Unshared => Ok(raw),
            other => Err(unexpected(other)),
        }
    }

    pub(crate) fn pid(&self) -> u32 {
        self.pid
    }

    pub(crate) fn order(&self, order: &Order, fds: &[BorrowedFd<'_>]) -> Result<(), SandboxError> {
        wire::send(&self.socket, order, fds).map_err(|error| match error.kind() {
            io::ErrorKind::BrokenPipe | io::ErrorKind::ConnectionReset => SandboxError::Gone,
            _ => outside("talk to the sandbox")(error),
        })
    }

    pub(crate) fn report(&self) -> Result<Received, SandboxError> {
        match wire::receive(&self.socket) {
            Ok(Some(report)) => Ok(report),
            Ok(None) => Err(SandboxError::Gone),
            Err(error) => Err(outside("listen to the sandbox")(error)),
        }
    }
}

impl SandboxProcess {
    /// Ends it, and waits until it has ended.
    pub(crate) fn end(&self) {
        // PID 1 ends when the socket does. The kernel ends everything inside before it lets PID 1 be collected, and the
        // child collects PID 1; so when the child has ended, nothing is left.
        let _ = self.socket.shutdown(std::net::Shutdown::Both);
        let mut child = locked(&self.child);
        let id = i32::try_from(self.pid).ok().and_then(rustix::process::Pid::from_raw);
        let running = matches!(child.try_wait(), Ok(None));
        let watched = id.filter(|_| running);
        let watched = watched.and_then(|id| rustix::process::pidfd_open(id, rustix::process::PidfdFlags::empty()).ok());
        let ended = !running
            || watched.is_some_and(|watched| {
                let mut watched = [PollFd::new(&watched, PollFlags::IN)];
                matches!(poll(&mut watched, Some(&PATIENCE)), Ok(1))
            });
        if !ended {
            // Then PID 1, whose parent it is, goes with it.
            let _ = child.kill();
        }
        let _ = child.wait();
    }
}

impl Drop for SandboxProcess {
    fn drop(&mut self) {
        self.end();
    }
}

/// What a report means that was not the one waited for.
pub(crate) fn unexpected(report: Report) -> SandboxError {
    match report {
        Report::Failed(why) if why.starts_with(job::NO_NAMESPACES) => SandboxError::Lacks {
            what: format!("it cannot {why}"),
            remedy: "let an administrator run: sysctl user.max_user_namespaces=15000".to_owned(),
        },
        Report::Failed(why) => SandboxError::Inside(why),
        other => SandboxError::Inside(format!("go on: it said {other:?}")),
    }
}
