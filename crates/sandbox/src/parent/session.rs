//! The parent's side of a sandbox.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::Duration;

use crate::guest::outer::Outer;
use crate::host::groups::{GroupLimits, Kept};
use crate::host::ids::Identity;
use crate::host::mutex::locked;
use crate::parent::net::Connector;
use crate::parent::process::{Received, SandboxProcess, unexpected};
use crate::parent::runtime::{Attended, Measured, RunningCommand, Runtime, SendSignal};
use crate::protocol::job::{CommandJob, Ending, Job, Order, Report, Serving, Usage};
use crate::protocol::wire;
use crate::{SandboxError, outside};

/// A sandbox that stands. It ends when this value is dropped, when the thread that began it ends, or when this process
/// does.
#[derive(Debug)]
pub struct Session {
    orders: Orders,
    notes: Vec<String>,
    /// Files that lie over the image's: their paths inside and outside.
    files: Vec<(PathBuf, PathBuf)>,
    hangs_on: HangsOn,
}

/// What all of the inside hangs on.
#[derive(Debug)]
enum HangsOn {
    /// A process of ours, whose end is the sandbox's.
    Process(SandboxProcess),
    /// A machine, which is the caller's.
    Machine(Arc<Outer>),
}

/// The way to a sandbox for anyone who gives it orders: numbers them, and brings each report to whom it concerns.
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
    /// What is done then.
    when_gone: OnGone,
}

/// Things to be done once.
#[derive(Default)]
struct OnGone(Vec<Box<dyn FnOnce() + Send>>);

impl std::fmt::Debug for OnGone {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} to be done", self.0.len())
    }
}

impl Orders {
    /// Begins to bring reports to whom they concern.
    fn over(socket: &UnixStream) -> Result<Self, SandboxError> {
        let ours = socket.try_clone().map_err(outside("talk to the sandbox"))?;
        let orders = Self { socket: Arc::new(Mutex::new(ours)), waiting: Arc::default() };
        let (distributor, reports) = (orders.clone(), socket.try_clone().map_err(outside("listen to the sandbox"))?);
        thread::spawn(move || distributor.distribute(&reports));
        Ok(orders)
    }

    fn give(&self, order: &Order, fds: &[BorrowedFd<'_>]) -> Result<(), SandboxError> {
        wire::send(&locked(&self.socket), order, fds).map_err(|error| match error.kind() {
            io::ErrorKind::BrokenPipe | io::ErrorKind::ConnectionReset => SandboxError::Gone,
            _ => outside("talk to the sandbox")(error),
        })
    }

    /// A number for an order whose reports go to `listener`; `open` is released after the last one.
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

    /// Brings reports to whom they concern, until the sandbox has ended.
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
                // Anyone who ordered it waits no more, so nobody would attend to it.
                let _ = self.give(&Order::Signal(number, libc::SIGKILL), &[]);
            }
            if last {
                waiting.commands.remove(&number);
            }
        }
        let mut waiting = locked(&self.waiting);
        waiting.gone = true;
        waiting.commands.clear();
        let all = std::mem::take(&mut waiting.when_gone.0);
        drop(waiting);
        all.into_iter().for_each(|then| then());
    }
}

/// How long the inside has for an answer about itself.
const ANSWER: Duration = Duration::from_secs(10);

/// How long a command may take to begin: to enter its directory and load its program. A folder on a network disk that
/// hangs is the one thing that takes longer.
const BEGIN: Duration = Duration::from_secs(60);

/// A command that runs inside.
#[derive(Debug)]
struct Running {
    number: u64,
    orders: Orders,
    reports: mpsc::Receiver<Received>,
    ended: OwnedFd,
    terminal: Option<OwnedFd>,
}

impl RunningCommand for Running {
    fn terminal(&self) -> Option<&OwnedFd> {
        self.terminal.as_ref()
    }

    fn serving(&self, port: u16) -> Result<Serving, SandboxError> {
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

impl Session {
    /// Builds a sandbox.
    ///
    /// # Errors
    /// When the machine refuses something that it needs.
    pub fn begin(job: Job, identity: Identity) -> Result<Self, SandboxError> {
        let files = job.files.iter().map(|file| (file.inside.clone(), file.outside.clone())).collect();
        let (raw, notes) = SandboxProcess::begin(job, identity)?;
        let orders = Orders::over(&raw.socket)?;
        Ok(Self { orders, notes, files, hangs_on: HangsOn::Process(raw) })
    }

    /// What stands in a machine, whose PID 1 is reached by this socket.
    ///
    /// # Errors
    /// When the socket cannot be shared.
    pub fn in_machine(outer: Arc<Outer>, socket: &UnixStream) -> Result<Self, SandboxError> {
        let (orders, hangs_on) = (Orders::over(socket)?, HangsOn::Machine(outer));
        Ok(Self { orders, notes: Vec::new(), files: Vec::new(), hangs_on })
    }

    /// What could not be done as it should be.
    pub fn notes(&self) -> &[String] {
        &self.notes
    }

    /// The process id, outside, of the process that all of the inside hangs on. It is not PID 1 of the inside, but in
    /// its namespaces except that of processes.
    pub fn process(&self) -> u32 {
        match &self.hangs_on {
            HangsOn::Process(process) => process.pid(),
            HangsOn::Machine(_) => 0,
        }
    }
}

impl Runtime for Session {
    fn session(&self) -> &Session {
        self
    }

    fn start(&self, command: &CommandJob, stdio: [BorrowedFd<'_>; 3]) -> Result<Box<dyn RunningCommand>, SandboxError> {
        let (ended, open) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)
            .map_err(|error| outside("make a pipe")(error.into()))?;
        let (listener, reports) = mpsc::channel();
        let number = self.orders.number(listener, open)?;
        self.orders.give(&Order::Run(number, command.clone()), &stdio)?;
        let not_started = |why, missing| {
            let program = command.argv.first().cloned().unwrap_or_default();
            SandboxError::NotStarted { program, why, missing }
        };
        match reports.recv_timeout(BEGIN) {
            Ok((Report::Started(_), mut fds)) => {
                let (orders, terminal) = (self.orders.clone(), fds.pop());
                Ok(Box::new(Running { number, orders, reports, ended, terminal }))
            }
            Ok((Report::NotStarted { why, missing, .. }, _)) => Err(not_started(why, missing)),
            Ok((other, _)) => Err(unexpected(other)),
            Err(mpsc::RecvTimeoutError::Timeout) => {
                Err(not_started(format!("the inside did not start it within {} s", BEGIN.as_secs()), false))
            }
            Err(mpsc::RecvTimeoutError::Disconnected) => Err(SandboxError::Gone),
        }
    }

    fn connector(&self) -> Result<Connector, SandboxError> {
        if let HangsOn::Machine(outer) = &self.hangs_on {
            return Ok(Connector::to_machine(Arc::clone(outer)));
        }
        let doing = "enter the sandbox's network";
        let namespace = File::open(format!("/proc/{}/ns/net", self.process())).map_err(outside(doing))?;
        Connector::new(namespace.into()).map_err(outside(doing))
    }

    fn changed(&self, path: &str) -> Result<Option<u64>, SandboxError> {
        match self.orders.ask(|number| Order::Look(number, path.to_owned()))? {
            Report::Looked(_, changed) => Ok(changed),
            other => Err(unexpected(other)),
        }
    }

    fn signal_all(&self, signal: i32) -> Result<(), SandboxError> {
        self.orders.give(&Order::SignalAll(signal), &[])
    }

    fn kill_marked(&self, mark: &str) -> Result<(), SandboxError> {
        self.orders.give(&Order::KillMarked(mark.to_owned()), &[])
    }

    fn measure(&self) -> Measured {
        let Ok(Report::Measured(_, usage)) = self.orders.ask(Order::Measure) else { return Measured::default() };
        let Usage { processes, memory, cpu_millis, listening, left } = usage;
        Measured {
            processes: Some(processes),
            memory: Some(memory),
            cpu_millis: Some(cpu_millis),
            listening,
            left,
            ..Measured::default()
        }
    }

    fn freeze(&self, frozen: bool) -> Result<(), SandboxError> {
        self.signal_all(if frozen { libc::SIGSTOP } else { libc::SIGCONT })
    }

    fn limit(&self, limits: GroupLimits) -> io::Result<()> {
        if limits == GroupLimits::default() { Ok(()) } else { Err(io::ErrorKind::Unsupported.into()) }
    }

    fn kept(&self) -> Kept {
        Kept::default()
    }

    fn write_file(&self, inside: &str, text: &str) -> io::Result<()> {
        // The file lies inside as itself, so what is written into it is seen at once.
        let file = self.files.iter().find(|(path, _)| path == Path::new(inside));
        std::fs::write(&file.ok_or(io::ErrorKind::NotFound)?.1, text)
    }

    fn when_gone(&self, then: Box<dyn FnOnce() + Send>) {
        let mut waiting = locked(&self.orders.waiting);
        if waiting.gone {
            drop(waiting);
            then();
        } else {
            waiting.when_gone.0.push(then);
        }
    }

    fn end(&self) {
        if let HangsOn::Process(process) = &self.hangs_on {
            process.end();
        }
    }
}
