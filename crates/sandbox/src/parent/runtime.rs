//! The seam between a workspace and what it runs in.
//!
//! Anyone who supervises, enters or measures a workspace does it by these traits, and so knows neither processes nor
//! namespaces. [`crate::Session`] is the namespaces of a single run; a keeper adds control groups and a way to other
//! machines to it. A virtual machine is another implementer.

use std::fmt;
use std::fs::File;
use std::io::{self, Read as _};
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};

use serde::{Deserialize, Serialize};

use crate::host::groups::{GroupLimits, Kept};
use crate::parent::net::Connector;
use crate::parent::session::Session;
use crate::protocol::job::{CommandJob, Ending, LeftRunning, Listening, Serving};
use crate::{SandboxError, outside};

/// What a workspace runs in. It is shared by threads.
pub trait Runtime: fmt::Debug + Send + Sync {
    /// Who gives orders to its PID 1, wherever that is.
    fn session(&self) -> &Session;

    /// Starts a command with these standard streams. Several may run at once.
    ///
    /// # Errors
    /// [`SandboxError::NotStarted`] when the command cannot be started inside.
    fn start(&self, command: &CommandJob, stdio: [BorrowedFd<'_>; 3]) -> Result<Box<dyn RunningCommand>, SandboxError> {
        self.session().start(command, stdio)
    }

    /// A way to the ports inside.
    ///
    /// # Errors
    /// When the machine refuses it.
    fn connector(&self) -> Result<Connector, SandboxError> {
        self.session().connector()
    }

    /// When a path inside was changed last, in milliseconds since 1970; `None` when it is not there.
    ///
    /// # Errors
    /// When the inside has ended.
    fn changed(&self, path: &str) -> Result<Option<u64>, SandboxError> {
        self.session().changed(path)
    }

    /// Sends a signal to everything inside.
    ///
    /// # Errors
    /// When the inside has ended.
    fn signal_all(&self, signal: i32) -> Result<(), SandboxError> {
        self.session().signal_all(signal)
    }

    /// Kills everything inside that has `mark` (`NAME=value`) in the environment that it was started with.
    ///
    /// # Errors
    /// When the inside has ended.
    fn kill_marked(&self, mark: &str) -> Result<(), SandboxError> {
        self.session().kill_marked(mark)
    }

    /// What everything inside uses, and what is listened on, as far as that is known now: what is frozen does
    /// not answer.
    fn measure(&self) -> Measured;

    /// Halts everything inside, or lets it go on.
    ///
    /// # Errors
    /// When it cannot; then nothing has changed.
    fn freeze(&self, frozen: bool) -> Result<(), SandboxError>;

    /// Halts everything inside and writes it to the disk, so that it takes neither memory nor a process;
    /// [`Self::freeze`] with false lets it go on from there.
    ///
    /// # Errors
    /// When it cannot; then nothing has changed.
    fn suspend(&self) -> Result<(), SandboxError> {
        let source = io::Error::other("it runs in no virtual machine; cavrith start --machine starts it in one");
        Err(SandboxError::Outside { doing: "write it to the disk".to_owned(), source })
    }

    /// Limits what everything inside may use together.
    ///
    /// # Errors
    /// When the machine refuses.
    fn limit(&self, limits: GroupLimits) -> io::Result<()>;

    /// Which limits hold for everything inside together, and whether all of it is frozen at once. The others are for
    /// each process.
    fn kept(&self) -> Kept;

    /// Writes a file that lies over one of the image's, by its path inside.
    ///
    /// # Errors
    /// When there is no such file, or the disk refuses.
    fn write_file(&self, inside: &str, text: &str) -> io::Result<()>;

    /// Has something done once when everything inside has ended, whoever ended it; at once when it has already.
    fn when_gone(&self, then: Box<dyn FnOnce() + Send>) {
        self.session().when_gone(then);
    }

    /// What was changed over the root `lower` (an encoded tree in base64), where that lies on no disk of this machine;
    /// with `is_whole` the root itself is measured, too. `None` where the outside can read all of it by itself.
    fn read_changes(&self, lower: &str, is_whole: bool) -> Option<io::Result<ReadChanges>> {
        let _ = (lower, is_whole);
        None
    }

    /// What it said last, when it ended by itself and said something.
    fn last_words(&self) -> Option<String> {
        None
    }

    /// Ends everything inside, and returns when nothing is left. Waiting for a command then fails with
    /// [`SandboxError::Gone`].
    fn end(&self);

    /// Runs a command to its end, without input, and gives what it writes to standard output and error to `on_output`,
    /// as it comes. When it takes longer than `limit` it is left, and the result is `None`.
    ///
    /// # Errors
    /// When it cannot be started, or the inside has ended.
    fn run(
        &self,
        command: &CommandJob,
        limit: Duration,
        on_output: &mut dyn FnMut(&[u8]),
    ) -> Result<Option<Ending>, SandboxError> {
        let nothing = File::open("/dev/null").map_err(outside("open /dev/null"))?;
        let (output, theirs) = io::pipe().map_err(outside("make a pipe"))?;
        let running = self.start(command, [nothing.as_fd(), theirs.as_fd(), theirs.as_fd()])?;
        drop(theirs);
        collect(running.as_ref(), output, limit, on_output)
    }
}

/// How long the output of processes that a command left behind is taken after its end.
const LEFTOVERS: Duration = Duration::from_millis(500);

/// Takes a command's output until it has ended.
fn collect(
    running: &dyn RunningCommand,
    output: io::PipeReader,
    limit: Duration,
    on_output: &mut dyn FnMut(&[u8]),
) -> Result<Option<Ending>, SandboxError> {
    let mut output = Some(output);
    let mut buffer = [0; 16 * 1024];
    let mut deadline = Instant::now() + limit;
    let mut ending = None;
    loop {
        let Some(left) = deadline.checked_duration_since(Instant::now()) else { return Ok(ending) };
        let mut watched = Vec::new();
        if let Some(output) = &output {
            watched.push(PollFd::new(output, PollFlags::IN));
        }
        if ending.is_none() {
            watched.push(PollFd::from_borrowed_fd(running.ended(), PollFlags::IN));
        }
        let wait = left.min(Duration::from_secs(60)) + Duration::from_millis(1);
        match poll(&mut watched, Timespec::try_from(wait).ok().as_ref()) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(outside("wait for a command")(error.into())),
        }
        let mut ready = watched.iter().map(|watched| !watched.revents().is_empty());
        let writes = output.is_some() && ready.next() == Some(true);
        let ended = ending.is_none() && ready.next() == Some(true);
        if ended {
            ending = Some(running.wait()?);
            // What it wrote before its end is still taken. What processes that it left behind write is not waited
            // for.
            deadline = deadline.min(Instant::now() + LEFTOVERS);
        }
        if writes && let Some(open) = &mut output {
            match open.read(&mut buffer) {
                Ok(0) => output = None,
                Ok(count) => on_output(&buffer[..count]),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(_) => output = None,
            }
        }
        if ending.is_some() && (output.is_none() || !writes) {
            return Ok(ending);
        }
    }
}

/// What everything inside uses; what could not be measured is left out.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Measured {
    /// Processes.
    pub processes: Option<u32>,
    /// Bytes of memory.
    pub memory: Option<u64>,
    /// Milliseconds of processor time.
    pub cpu_millis: Option<u64>,
    /// Ports that are listened on.
    pub listening: Vec<Listening>,
    /// Programs that whoever started them has left running.
    pub left: Vec<LeftRunning>,
    /// Limits that hold for everything inside together, as the kernel has them.
    pub held: GroupLimits,
}

/// What was changed inside, as a process within read it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReadChanges {
    /// The fingerprint of the root beneath, when it was measured.
    pub root: Option<String>,
    /// An encoded tree in base64 (RFC 4648, section 4).
    pub tree: String,
    /// When each path was changed, in milliseconds since 1970.
    pub changed: Vec<(Vec<u8>, u64)>,
}

/// A command that somebody waits for, wherever it runs.
pub trait Attended {
    /// Becomes readable (or hung up) when [`Self::wait`] would not block.
    fn ended(&self) -> BorrowedFd<'_>;

    /// Waits for its end.
    ///
    /// # Errors
    /// When the inside has ended.
    fn wait(&self) -> Result<Ending, SandboxError>;

    /// What sends signals to it and all in its group, from any thread. When the inside has ended it does nothing.
    fn signals(&self) -> SendSignal;
}

/// Sends the signal with this number.
pub type SendSignal = Box<dyn Fn(i32) + Send>;

/// A command that runs inside.
pub trait RunningCommand: Attended + fmt::Debug + Send {
    /// The outer end of its terminal, when it wants one.
    fn terminal(&self) -> Option<&OwnedFd>;

    /// Who takes connections on a port inside, seen from this command, which has to be a whole one.
    ///
    /// # Errors
    /// When the inside has ended.
    fn serving(&self, port: u16) -> Result<Serving, SandboxError>;
}
