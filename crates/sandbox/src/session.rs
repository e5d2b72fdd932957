//! The parent's side of a sandbox.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read as _};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};

use crate::ids::{Identity, map_child};
use crate::job::{CommandJob, Ending, Job, Order, Report, Serving, Usage};
use crate::mutex::locked;
use crate::net::Connector;
use crate::process::{Received, SandboxProcess, unexpected};
use crate::{SandboxError, folder, outside, wire};

/// A sandbox that stands. It ends when this value is dropped, when the thread that began it ends, or when this process
/// does.
#[derive(Debug)]
pub struct Session {
    orders: Orders,
    notes: Vec<String>,
    /// Its end is the sandbox's.
    raw: SandboxProcess,
}

/// The way to a sandbox for whoever gives it orders: numbers them, and brings each report to whom it concerns.
#[derive(Debug, Clone)]
struct Orders {
    socket: Arc<Mutex<UnixStream>>,
    waiting: Arc<Mutex<Waiting>>,
}

#[derive(Debug, Default)]
struct Waiting {
    next: u64,
    /// Where the reports of each command go; the pipe's end closes when the last one has come.
    commands: HashMap<u64, (mpsc::Sender<Received>, OwnedFd)>,
    gone: bool,
}

impl Orders {
    fn give(&self, order: &Order, fds: &[BorrowedFd<'_>]) -> Result<(), SandboxError> {
        wire::send(&locked(&self.socket), order, fds).map_err(|error| match error.kind() {
            io::ErrorKind::BrokenPipe | io::ErrorKind::ConnectionReset => SandboxError::Gone,
            _ => outside("talk to the sandbox")(error),
        })
    }

    /// A number for an order whose reports go to `listener`; `open` is let go of after the last one.
    fn number(&self, listener: mpsc::Sender<Received>, open: OwnedFd) -> Result<u64, SandboxError> {
        let mut waiting = locked(&self.waiting);
        if waiting.gone {
            return Err(SandboxError::Gone);
        }
        waiting.next += 1;
        let number = waiting.next;
        waiting.commands.insert(number, (listener, open));
        Ok(number)
    }

    /// Gives an order that has one answer, and waits for that.
    fn ask(&self, order: impl FnOnce(u64) -> Order) -> Result<Report, SandboxError> {
        let (_ended, open) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)
            .map_err(|error| outside("make a pipe")(error.into()))?;
        let (listener, reports) = mpsc::channel();
        let number = self.number(listener, open)?;
        self.give(&order(number), &[])?;
        reports.recv_timeout(ANSWER).map(|(report, _)| report).map_err(|_| SandboxError::Gone)
    }

    /// Brings reports to whom they concern, until the sandbox is gone.
    fn distribute(&self, reports: &UnixStream) {
        while let Ok(Some((report, fds))) = wire::receive::<Report>(reports) {
            let (number, last) = match &report {
                Report::Started(number) => (*number, false),
                Report::NotStarted { number, .. }
                | Report::Ended(number, _)
                | Report::Looked(number, _)
                | Report::Served(number, _)
                | Report::Measured(number, _) => (*number, true),
                _ => continue,
            };
            let mut waiting = locked(&self.waiting);
            let is_started = matches!(report, Report::Started(_));
            let heard = waiting.commands.get(&number).is_some_and(|(listener, _)| listener.send((report, fds)).is_ok());
            if is_started && !heard {
                // Whoever ordered it waits no more, so nobody would attend to it.
                let _ = self.give(&Order::Signal(number, libc::SIGKILL), &[]);
            }
            if last {
                waiting.commands.remove(&number);
            }
        }
        let mut waiting = locked(&self.waiting);
        waiting.gone = true;
        waiting.commands.clear();
    }
}

/// How long the output of processes that a command left behind is taken after its end.
const LEFTOVERS: Duration = Duration::from_millis(500);

/// How long the inside has for an answer about itself.
const ANSWER: Duration = Duration::from_secs(10);

/// How long a command may take to begin: to enter its directory and load its program. A folder on a network disk that
/// hangs is the one thing that takes longer.
const BEGIN: Duration = Duration::from_secs(60);

/// A command that runs inside.
#[derive(Debug)]
pub struct Running {
    number: u64,
    orders: Orders,
    reports: mpsc::Receiver<Received>,
    ended: OwnedFd,
    /// The outer end of its terminal, when it wants one.
    pub terminal: Option<OwnedFd>,
}

impl Running {
    /// Who takes connections on a port inside, seen from this command, which has to be a whole one.
    ///
    /// # Errors
    /// When the sandbox is gone.
    pub fn serving(&self, port: u16) -> Result<Serving, SandboxError> {
        match self.orders.ask(|number| Order::Serves(number, self.number, port))? {
            Report::Served(_, serving) => Ok(serving),
            other => Err(unexpected(other)),
        }
    }
}

impl Attended for Running {
    fn ended(&self) -> BorrowedFd<'_> {
        self.ended.as_fd()
    }

    fn wait(&self) -> Result<Ending, SandboxError> {
        match self.reports.recv() {
            Ok((Report::Ended(_, ending), _)) => Ok(ending),
            Ok((other, _)) => Err(unexpected(other)),
            Err(_) => Err(SandboxError::Gone),
        }
    }

    fn signals(&self) -> SendSignal {
        let (orders, number) = (self.orders.clone(), self.number);
        Box::new(move |signal| drop(orders.give(&Order::Signal(number, signal), &[])))
    }
}

/// A command that somebody attends to, wherever it runs.
pub trait Attended {
    /// Becomes readable (or hung up) when [`Self::wait`] would not block.
    fn ended(&self) -> BorrowedFd<'_>;

    /// Waits for its end.
    ///
    /// # Errors
    /// When the sandbox is gone.
    fn wait(&self) -> Result<Ending, SandboxError>;

    /// What sends signals to it and all in its group, from any thread. When the sandbox is gone it does nothing.
    fn signals(&self) -> SendSignal;
}

/// Sends the signal with this number.
pub type SendSignal = Box<dyn Fn(i32) + Send>;

impl Session {
    /// Builds a sandbox.
    ///
    /// # Errors
    /// When the machine refuses something that it needs.
    pub fn begin(mut job: Job, identity: Identity) -> Result<Self, SandboxError> {
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
        let only = job.only;
        let raw = SandboxProcess::start()?;
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
        map_child(identity, only, raw.pid())?;
        raw.order(&Order::Mapped, &[])?;
        match raw.report()?.0 {
            Report::Ready { notes: more } => notes.extend(more),
            other => return Err(unexpected(other)),
        }
        let socket = raw.socket.try_clone().map_err(outside("talk to the sandbox"))?;
        let orders = Orders { socket: Arc::new(Mutex::new(socket)), waiting: Arc::default() };
        let (distributor, reports) =
            (orders.clone(), raw.socket.try_clone().map_err(outside("listen to the sandbox"))?);
        thread::spawn(move || distributor.distribute(&reports));
        Ok(Self { orders, notes, raw })
    }

    /// Ends everything inside, and returns when nothing is left. Who waits for a command hears that the sandbox is
    /// gone.
    pub fn end(&self) {
        self.raw.end();
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

    /// The process id, outside, of the process that all of the inside hangs on. It is not PID 1 of the inside, but in
    /// its namespaces except that of processes.
    pub fn process(&self) -> u32 {
        self.raw.pid()
    }

    /// Sends a signal to everything inside.
    ///
    /// # Errors
    /// When the sandbox is gone.
    pub fn signal_all(&self, signal: i32) -> Result<(), SandboxError> {
        self.orders.give(&Order::SignalAll(signal), &[])
    }

    /// Kills everything inside that has `mark` (`NAME=value`) in the environment that it was started with.
    ///
    /// # Errors
    /// When the sandbox is gone.
    pub fn kill_marked(&self, mark: &str) -> Result<(), SandboxError> {
        self.orders.give(&Order::KillMarked(mark.to_owned()), &[])
    }

    /// Whether a path is there inside.
    ///
    /// # Errors
    /// When the sandbox is gone.
    pub fn has(&self, path: &str) -> Result<bool, SandboxError> {
        Ok(self.changed(path)?.is_some())
    }

    /// When a path inside was changed last, in milliseconds since 1970; `None` when it is not there.
    ///
    /// # Errors
    /// When the sandbox is gone.
    pub fn changed(&self, path: &str) -> Result<Option<u64>, SandboxError> {
        match self.ask(|number| Order::Look(number, path.to_owned()))? {
            Report::Looked(_, changed) => Ok(changed),
            other => Err(unexpected(other)),
        }
    }

    /// What everything inside uses, and what is listened on.
    ///
    /// # Errors
    /// When the sandbox is gone, or does not answer for some seconds, as when it is frozen.
    pub fn measure(&self) -> Result<Usage, SandboxError> {
        match self.ask(Order::Measure)? {
            Report::Measured(_, used) => Ok(used),
            other => Err(unexpected(other)),
        }
    }

    fn ask(&self, order: impl FnOnce(u64) -> Order) -> Result<Report, SandboxError> {
        self.orders.ask(order)
    }

    /// Starts a command with these standard streams. Several may run at once.
    ///
    /// # Errors
    /// [`SandboxError::NotStarted`] when the command cannot be started inside.
    pub fn start(&self, command: &CommandJob, stdio: [BorrowedFd<'_>; 3]) -> Result<Running, SandboxError> {
        let (ended, open) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)
            .map_err(|error| outside("make a pipe")(error.into()))?;
        let (listener, reports) = mpsc::channel();
        let number = self.orders.number(listener, open)?;
        self.orders.give(&Order::Run(number, command.clone()), &stdio)?;
        match reports.recv_timeout(BEGIN) {
            Ok((Report::Started(_), mut fds)) => {
                Ok(Running { number, orders: self.orders.clone(), reports, ended, terminal: fds.pop() })
            }
            Ok((Report::NotStarted { why, missing, .. }, _)) => {
                let program = command.argv.first().cloned().unwrap_or_default();
                Err(SandboxError::NotStarted { program, why, missing })
            }
            Ok((other, _)) => Err(unexpected(other)),
            Err(mpsc::RecvTimeoutError::Timeout) => {
                let program = command.argv.first().cloned().unwrap_or_default();
                let why = format!("the inside did not begin it within {} s", BEGIN.as_secs());
                Err(SandboxError::NotStarted { program, why, missing: false })
            }
            Err(mpsc::RecvTimeoutError::Disconnected) => Err(SandboxError::Gone),
        }
    }

    /// Runs a command to its end, without input, and gives what it writes to standard output and error to `on_output`,
    /// as it comes. When it takes longer than `limit`, it and everything inside is ended, and the result is `None`.
    ///
    /// # Errors
    /// When it cannot be started, or the sandbox is gone.
    pub fn run(
        &self,
        command: &CommandJob,
        limit: Duration,
        on_output: &mut dyn FnMut(&[u8]),
    ) -> Result<Option<Ending>, SandboxError> {
        let nothing = File::open("/dev/null").map_err(outside("open /dev/null"))?;
        let (output, theirs) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)
            .map_err(|error| outside("make a pipe")(error.into()))?;
        let running = self.start(command, [nothing.as_fd(), theirs.as_fd(), theirs.as_fd()])?;
        drop(theirs);
        let mut output = Some(File::from(output));
        let mut buffer = [0; 16 * 1024];
        let mut deadline = Instant::now() + limit;
        let mut ending = None;
        loop {
            let Some(left) = deadline.checked_duration_since(Instant::now()) else { return Ok(ending) };
            let mut watched = Vec::new();
            if let Some(output) = &output {
                watched.push(PollFd::new(output.as_fd(), PollFlags::POLLIN));
            }
            if ending.is_none() {
                watched.push(PollFd::new(running.ended(), PollFlags::POLLIN));
            }
            let wait = left.min(Duration::from_secs(60)) + Duration::from_millis(1);
            match poll(&mut watched, PollTimeout::try_from(wait).unwrap_or(PollTimeout::MAX)) {
                Ok(_) | Err(nix::errno::Errno::EINTR) => {}
                Err(error) => return Err(outside("wait for a command")(error.into())),
            }
            let mut ready = watched.iter().map(|watched| watched.revents().is_some_and(|events| !events.is_empty()));
            let talks = output.is_some() && ready.next() == Some(true);
            let ended = ending.is_none() && ready.next() == Some(true);
            if ended {
                ending = Some(running.wait()?);
                // What it wrote before its end is still taken. What processes that it left behind write is not waited
                // for.
                deadline = deadline.min(Instant::now() + LEFTOVERS);
            }
            if talks && let Some(open) = &mut output {
                match open.read(&mut buffer) {
                    Ok(0) => output = None,
                    Ok(count) => on_output(&buffer[..count]),
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    Err(_) => output = None,
                }
            }
            if ending.is_some() && (output.is_none() || !talks) {
                return Ok(ending);
            }
        }
    }
}

/// Cuts a stream into lines. What is no UTF-8 is shown by replacement characters, and endless lines are cut.
#[derive(Debug, Default)]
pub struct Lines {
    unfinished: Vec<u8>,
}

impl Lines {
    const LONGEST: usize = 16 * 1024;

    /// Takes what came, and gives out the lines that are complete.
    pub fn take(&mut self, bytes: &[u8], on_line: &mut dyn FnMut(&str)) {
        for byte in bytes {
            let complete = *byte == b'\n';
            if !complete {
                self.unfinished.push(*byte);
            }
            if complete || self.unfinished.len() >= Self::LONGEST {
                on_line(&String::from_utf8_lossy(&self.unfinished));
                self.unfinished.clear();
            }
        }
    }

    /// Gives out what came after the last newline.
    pub fn finish(&mut self, on_line: &mut dyn FnMut(&str)) {
        if !self.unfinished.is_empty() {
            on_line(&String::from_utf8_lossy(&self.unfinished));
            self.unfinished.clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_cut_wherever_the_pieces_end() {
        let mut lines = Lines::default();
        let mut got = Vec::new();
        for piece in ["lo", "w\n\nhi", "gh\ntide"] {
            lines.take(piece.as_bytes(), &mut |line| got.push(line.to_owned()));
        }
        lines.finish(&mut |line| got.push(line.to_owned()));
        assert_eq!(got, ["low", "", "high", "tide"]);
        let mut count = 0;
        lines.take(&vec![b'x'; 3 * Lines::LONGEST], &mut |_| count += 1);
        assert_eq!(count, 3);
    }
}
