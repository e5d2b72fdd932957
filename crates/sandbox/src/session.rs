//! The parent's side of a sandbox.

use std::fs::File;
use std::io::{self, Read as _};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt as _;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};

use crate::ids::{Identity, map_child};
use crate::job::{CommandJob, Ending, Job, Order, Report};
use crate::net::Connector;
use crate::{SandboxError, child, folder, outside, wire};

/// A child of our own executable, on the other end of a socket.
#[derive(Debug)]
pub(crate) struct Raw {
    child: Child,
    socket: UnixStream,
}

impl Raw {
    fn start() -> Result<Self, SandboxError> {
        let (socket, theirs) = UnixStream::pair().map_err(outside("make a socket"))?;
        let mut command = Command::new("/proc/self/exe");
        command.arg0(child::NAME).env_clear().current_dir("/");
        command.stdin(OwnedFd::from(theirs)).stdout(Stdio::null()).stderr(Stdio::null());
        let child = command.spawn().map_err(outside("start the sandbox"))?;
        Ok(Self { child, socket })
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
        self.child.id()
    }

    fn order(&self, order: &Order, fds: &[BorrowedFd<'_>]) -> Result<(), SandboxError> {
        wire::send(&self.socket, order, fds).map_err(|error| match error.kind() {
            io::ErrorKind::BrokenPipe | io::ErrorKind::ConnectionReset => SandboxError::Gone,
            _ => outside("talk to the sandbox")(error),
        })
    }

    fn report(&self) -> Result<(Report, Vec<OwnedFd>), SandboxError> {
        match wire::receive(&self.socket) {
            Ok(Some(report)) => Ok(report),
            Ok(None) => Err(SandboxError::Gone),
            Err(error) => Err(outside("listen to the sandbox")(error)),
        }
    }
}

impl Drop for Raw {
    fn drop(&mut self) {
        // PID 1 inside has this process as its parent and goes with it, and everything inside goes with PID 1. Both are
        // waited for: the first by us, the second by the kernel, which ends a PID namespace before its init is collected.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn unexpected(report: Report) -> SandboxError {
    match report {
        Report::Failed(why) => SandboxError::Inside(why),
        other => SandboxError::Inside(format!("go on: it said {other:?}")),
    }
}

/// A sandbox that stands. It ends when this value is dropped, when the thread that began it ends, or when this process
/// does.
#[derive(Debug)]
pub struct Session {
    raw: Raw,
    notes: Vec<String>,
}

/// What a command's output is done with, line by line; see [`Session::run`].
pub type OnLine<'a> = &'a mut dyn FnMut(&str);

impl Session {
    /// Builds a sandbox.
    ///
    /// # Errors
    /// When the machine refuses something that it needs.
    pub fn begin(mut job: Job, identity: Identity) -> Result<Self, SandboxError> {
        let mut notes = Vec::new();
        let mut handed_over = Vec::new();
        for mount in &mut job.folders {
            match folder::mapped(&mount.outside, identity) {
                Ok(Some(mapped)) => {
                    mount.handed_over = true;
                    handed_over.push(mapped);
                }
                Ok(None) => {}
                Err(error) => notes.push(format!("{error}; its files keep the owner they have outside")),
            }
        }
        let raw = Raw::start()?;
        let fds: Vec<_> = handed_over.iter().map(AsFd::as_fd).collect();
        raw.order(&Order::Begin(Box::new(job)), &fds)?;
        match raw.report()?.0 {
            Report::Unshared => {}
            other => return Err(unexpected(other)),
        }
        map_child(identity, raw.pid())?;
        raw.order(&Order::Mapped, &[])?;
        match raw.report()?.0 {
            Report::Ready { notes: more } => notes.extend(more),
            other => return Err(unexpected(other)),
        }
        Ok(Self { raw, notes })
    }

    /// What could not be done as it should be.
    pub fn notes(&self) -> &[String] {
        &self.notes
    }

    /// A way to the ports inside.
    ///
    /// # Errors
    /// When the machine refuses it.
    pub fn connector(&self) -> Result<Connector, SandboxError> {
        let doing = "enter the sandbox's network";
        let namespace = File::open(format!("/proc/{}/ns/net", self.raw.pid())).map_err(outside(doing))?;
        Connector::new(namespace.into()).map_err(outside(doing))
    }

    /// Starts a command with these standard streams. Returns the outer end of its terminal, when it wants one.
    ///
    /// # Errors
    /// [`SandboxError::NotStarted`] when the command cannot be started inside.
    pub fn start(&self, command: &CommandJob, stdio: [BorrowedFd<'_>; 3]) -> Result<Option<OwnedFd>, SandboxError> {
        self.raw.order(&Order::Run(command.clone()), &stdio)?;
        match self.raw.report()? {
            (Report::Started, mut fds) => Ok(fds.pop()),
            (Report::NotStarted { why, missing }, _) => {
                let program = command.argv.first().cloned().unwrap_or_default();
                Err(SandboxError::NotStarted { program, why, missing })
            }
            (other, _) => Err(unexpected(other)),
        }
    }

    /// Waits for the end of the command that was started last.
    ///
    /// # Errors
    /// When the sandbox is gone.
    pub fn wait(&self) -> Result<Ending, SandboxError> {
        match self.raw.report()?.0 {
            Report::Ended(ending) => Ok(ending),
            other => Err(unexpected(other)),
        }
    }

    /// Becomes readable when [`Self::wait`] would not block.
    pub fn ended(&self) -> BorrowedFd<'_> {
        self.raw.socket.as_fd()
    }

    /// Sends a signal to the command and all in its group.
    ///
    /// # Errors
    /// When the sandbox is gone.
    pub fn signal(&self, number: i32) -> Result<(), SandboxError> {
        self.raw.order(&Order::Signal(number), &[])
    }

    /// Runs a command to its end, without input, and gives every line of its output and error to `on_line`. When it takes longer
    /// than `limit`, it and everything inside is ended, and the result is `None`.
    ///
    /// # Errors
    /// When it cannot be started, or the sandbox is gone.
    pub fn run(
        &self,
        command: &CommandJob,
        limit: Duration,
        on_line: OnLine<'_>,
    ) -> Result<Option<Ending>, SandboxError> {
        let nothing = File::open("/dev/null").map_err(outside("open /dev/null"))?;
        let (output, theirs) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)
            .map_err(|error| outside("make a pipe")(error.into()))?;
        self.start(command, [nothing.as_fd(), theirs.as_fd(), theirs.as_fd()])?;
        drop(theirs);
        let (mut output, mut lines) = (File::from(output), Lines::default());
        let begun = Instant::now();
        let mut open = true;
        let ending = loop {
            let Some(left) = limit.checked_sub(begun.elapsed()) else {
                break None;
            };
            let mut watched = vec![PollFd::new(self.ended(), PollFlags::POLLIN)];
            if open {
                watched.push(PollFd::new(output.as_fd(), PollFlags::POLLIN));
            }
            let wait = PollTimeout::try_from(left.min(Duration::from_secs(60)) + Duration::from_millis(1))
                .unwrap_or(PollTimeout::MAX);
            match poll(&mut watched, wait) {
                Ok(_) | Err(nix::errno::Errno::EINTR) => {}
                Err(error) => return Err(outside("wait for a command")(error.into())),
            }
            let ready = |watched: Option<&PollFd<'_>>| {
                watched.and_then(PollFd::revents).is_some_and(|events| !events.is_empty())
            };
            let (ended, talks) = (ready(watched.first()), ready(watched.get(1)));
            if talks {
                open = lines.take(&mut output, on_line);
            } else if ended {
                // What it wrote before its end was taken first, and what its own children may still write is not waited for.
                break Some(self.wait()?);
            }
        };
        lines.finish(on_line);
        Ok(ending)
    }
}

/// Cuts a stream into lines. What is no UTF-8 is shown by replacement characters, and endless lines are cut.
#[derive(Default)]
struct Lines {
    unfinished: Vec<u8>,
}

impl Lines {
    const LONGEST: usize = 16 * 1024;

    /// Reads once; false at the end.
    fn take(&mut self, from: &mut File, on_line: OnLine<'_>) -> bool {
        let mut buffer = [0; 16 * 1024];
        let count = match from.read(&mut buffer) {
            Ok(0) => return false,
            Ok(count) => count,
            Err(error) => return error.kind() == io::ErrorKind::Interrupted,
        };
        for byte in &buffer[..count] {
            if *byte == b'\n' || self.unfinished.len() >= Self::LONGEST {
                self.finish(on_line);
            }
            if *byte != b'\n' {
                self.unfinished.push(*byte);
            }
        }
        if buffer[..count].last() == Some(&b'\n') {
            debug_assert!(self.unfinished.is_empty());
        }
        true
    }

    fn finish(&mut self, on_line: OnLine<'_>) {
        if !self.unfinished.is_empty() {
            on_line(&String::from_utf8_lossy(&self.unfinished));
            self.unfinished.clear();
        }
    }
}
