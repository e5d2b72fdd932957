//! The client's side of a workspace's door.

use std::fs::File;
use std::os::fd::{AsFd as _, AsRawFd as _, BorrowedFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
use signal_hook::iterator::Signals;

use cavrith_core::synced::plan::Side;
use cavrith_engine::error::file_error;
use cavrith_sandbox::job::Ending;
use cavrith_sandbox::runtime::{Attended, ReadChanges, SendSignal};
use cavrith_sandbox::{SandboxError, terminal, wire};

use crate::KeeperError;
use crate::place::Place;
use crate::protocol::{Answer, ExecRequest, Followed, Meanwhile, Opening, PROTOCOL, Request, Status, WorkspaceEvent};
use crate::streams::Streams;

/// The socket's name in a workspace's directory.
pub(crate) const DOOR: &str = "door";
/// What of the member's own environment goes inside with a terminal: what it is and which colours it has.
const TERMINAL_VARIABLES: [&str; 2] = ["TERM", "COLORTERM"];

/// A connection to the keeper of a workspace.
#[derive(Debug)]
pub struct Client {
    name: String,
    stream: UnixStream,
}

/// Connects to a socket by way of an open directory: the path of a socket may have 107 bytes only (unix(7)), and a
/// home's path more.
fn connect(dir: &Path) -> Option<UnixStream> {
    let opened = File::open(dir).ok()?;
    UnixStream::connect(Path::new("/proc/self/fd").join(opened.as_raw_fd().to_string()).join(DOOR)).ok()
}

impl Client {
    /// Goes to the door of a workspace. `None`: it does not run.
    pub fn new(place: &Place) -> Option<Self> {
        let stream = match connect(&place.dir) {
            Some(stream) => stream,
            // A keeper that is just beginning has no door yet, and one that is just ending none any more.
            None => (0..400).find_map(|_| {
                if !place.is_held() {
                    return None;
                }
                std::thread::sleep(Duration::from_millis(25));
                connect(&place.dir)
            })?,
        };
        Some(Self { name: place.name.clone(), stream })
    }

    fn ask(&self, request: Request, fds: &[BorrowedFd<'_>]) -> Result<(), KeeperError> {
        let opening = Opening { protocol: PROTOCOL, request };
        wire::send(&self.stream, &opening, fds).map_err(|error| self.broken(error))
    }

    fn broken(&self, error: std::io::Error) -> KeeperError {
        if matches!(
            error.kind(),
            std::io::ErrorKind::BrokenPipe | std::io::ErrorKind::ConnectionReset | std::io::ErrorKind::UnexpectedEof
        ) {
            return self.gone();
        }
        file_error("talk to the keeper of", &self.name)(error).into()
    }

    /// The next answer; `None` when the keeper has ended.
    fn answer(&self) -> Result<Option<(Answer, Vec<OwnedFd>)>, KeeperError> {
        match wire::receive::<Answer>(&self.stream).map_err(|error| self.broken(error))? {
            Some((Answer::OtherProtocol { protocol }, _)) => {
                Err(KeeperError::OtherProtocol { name: self.name.clone(), protocol })
            }
            Some((Answer::Refused(why), _)) => Err(KeeperError::Refused { name: self.name.clone(), why }),
            other => Ok(other),
        }
    }

    fn gone(&self) -> KeeperError {
        KeeperError::Gone { name: self.name.clone() }
    }

    /// A request that is only done or not. What there is to say about it is returned.
    fn simply(&self, request: Request) -> Result<Option<String>, KeeperError> {
        self.ask(request, &[])?;
        match self.answer()? {
            Some((Answer::Done, _)) => Ok(None),
            Some((Answer::WorkspaceEvent(WorkspaceEvent::Note(note)), _)) => Ok(Some(note)),
            _ => Err(self.gone()),
        }
    }

    /// Halts everything inside. What is worth a note is returned.
    ///
    /// # Errors
    /// When the workspace is not one that can be halted.
    pub fn freeze(&self) -> Result<Option<String>, KeeperError> {
        self.simply(Request::Freeze)
    }

    /// Halts everything inside and writes it to the disk.
    ///
    /// # Errors
    /// When it does not run, or is no machine.
    pub fn suspend(&self) -> Result<Option<String>, KeeperError> {
        self.simply(Request::Suspend)
    }

    /// Lets everything inside go on.
    ///
    /// # Errors
    /// When it is not frozen.
    pub fn thaw(&self) -> Result<Option<String>, KeeperError> {
        self.simply(Request::Thaw)
    }

    /// Has one side of a synced folder count wherever both changed something at a path inside, or below it.
    ///
    /// # Errors
    /// When nothing is in conflict there, or it does not run.
    pub fn settle(&self, path: String, side: Side) -> Result<(), KeeperError> {
        self.simply(Request::Settle { path, side }).map(drop)
    }

    /// Has the keeper speak SSH on these descriptors: what the client sends, and what it receives. It returns when that
    /// has ended.
    ///
    /// # Errors
    /// When it cannot, or the keeper ends.
    pub fn ssh(&self, host_key: String, ends: [BorrowedFd<'_>; 2]) -> Result<(), KeeperError> {
        self.ask(Request::Ssh { host_key }, &ends)?;
        match self.answer()? {
            Some((Answer::Done, _)) => Ok(()),
            _ => Err(self.gone()),
        }
    }

    /// Shows the terminal that a visitor opened last at our own, where what is typed goes there as well, until it is
    /// closed or Ctrl-] is typed.
    ///
    /// # Errors
    /// When they have none open.
    pub fn look(self, name: &str) -> Result<(), KeeperError> {
        self.ask(Request::Look { name: name.to_owned() }, &[])?;
        match self.answer()? {
            Some((Answer::Started, mut fds)) => {
                let shown = RemoteCommand { door: Arc::new(self.stream), terminal: fds.pop() };
                if let Some(outer) = &shown.terminal {
                    terminal::carry(&shown, outer)?;
                }
                Ok(())
            }
            _ => Err(self.gone()),
        }
    }

    /// A connection to a port inside, made by the keeper.
    ///
    /// # Errors
    /// When nothing listens there.
    pub fn dial(&self, port: u16) -> Result<OwnedFd, KeeperError> {
        self.ask(Request::Dial { port }, &[])?;
        match self.answer()? {
            Some((Answer::Started, mut fds)) => fds.pop().ok_or_else(|| self.gone()),
            _ => Err(self.gone()),
        }
    }

    /// Reads what was changed over a root (an encoded tree in base64), where nobody outside can; `None` where anybody
    /// can. With `is_whole` the root itself is measured, too.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn read_changes(&self, lower: String, is_whole: bool) -> Result<Option<ReadChanges>, KeeperError> {
        self.ask(Request::ReadChanges { lower, is_whole }, &[])?;
        match self.answer()? {
            Some((Answer::Changes(changes), _)) => Ok(changes),
            Some((Answer::Refused(why), _)) => Err(KeeperError::Refused { name: self.name.clone(), why }),
            _ => Err(self.gone()),
        }
    }

    /// Has the keeper let in whoever is invited now, and nobody else.
    ///
    /// # Errors
    /// When nobody can come at an address.
    pub fn admit(&self) -> Result<(), KeeperError> {
        self.simply(Request::Admit).map(|_| ())
    }

    /// Has the workspace follow a changed arrangement.
    ///
    /// # Errors
    /// When it cannot now.
    pub fn apply(&self, followed: Followed) -> Result<(), KeeperError> {
        self.simply(Request::Apply(Box::new(followed))).map(|_| ())
    }

    /// Ends the workspace in order, and returns when its keeper has ended.
    ///
    /// # Errors
    /// When it does not end.
    pub fn stop(&self, place: &Place) -> Result<(), KeeperError> {
        self.ask(Request::Stop, &[])?;
        // It answers when all is done, or has ended before it could.
        let _ = self.answer()?;
        for _ in 0..800 {
            if !place.is_held() {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(5));
        }
        Err(KeeperError::Refused { name: self.name.clone(), why: "its keeper does not end".to_owned() })
    }

    /// The state of everything.
    ///
    /// # Errors
    /// When the keeper has ended meanwhile.
    pub fn status(&self) -> Result<Status, KeeperError> {
        self.ask(Request::Status, &[])?;
        match self.answer()? {
            Some((Answer::Status(status), _)) => Ok(*status),
            _ => Err(self.gone()),
        }
    }

    /// Hears what happens until everything has come to rest; whether all went well. With `linger` it is nothing when it
    /// had not come to rest that long after everything was started.
    ///
    /// # Errors
    /// When the workspace is stopped meanwhile.
    pub fn watch(
        &self,
        whole: bool,
        linger: Option<Duration>,
        on_told: &mut dyn FnMut(&WorkspaceEvent),
    ) -> Result<Option<bool>, KeeperError> {
        let linger = linger.map(|linger| linger.as_millis() as u64);
        self.ask(Request::Watch { whole, linger }, &[])?;
        loop {
            let told = match self.answer()? {
                Some((Answer::WorkspaceEvent(told), _)) => told,
                Some((Answer::Done, _)) => return Ok(None),
                _ => return Err(self.gone()),
            };
            on_told(&told);
            if let WorkspaceEvent::Settled { good } = told {
                return Ok(Some(good));
            }
        }
    }

    /// Has a command run inside, with these standard streams.
    ///
    /// # Errors
    /// When it cannot be started.
    pub fn run(self, visit: ExecRequest, streams: [BorrowedFd<'_>; 3]) -> Result<RemoteCommand, KeeperError> {
        let program = visit.argv.first().cloned().unwrap_or_else(|| "the shell".to_owned());
        self.ask(Request::Run(Box::new(visit)), &streams)?;
        match self.answer()? {
            Some((Answer::Started, mut fds)) => Ok(RemoteCommand { door: Arc::new(self.stream), terminal: fds.pop() }),
            Some((Answer::NotStarted { why, missing }, _)) => {
                Err(SandboxError::NotStarted { program, why, missing }.into())
            }
            _ => Err(self.gone()),
        }
    }
}

/// A command of ours in a workspace.
#[derive(Debug)]
pub struct RemoteCommand {
    door: Arc<UnixStream>,
    /// The outer end of its terminal, when it wants one.
    pub terminal: Option<OwnedFd>,
}

impl Attended for RemoteCommand {
    fn ended(&self) -> BorrowedFd<'_> {
        self.door.as_fd()
    }

    fn wait(&self) -> Result<Ending, SandboxError> {
        match wire::receive::<Answer>(&self.door) {
            Ok(Some((Answer::Ended(ending), _))) => Ok(ending),
            _ => Err(SandboxError::Gone),
        }
    }

    fn signals(&self) -> SendSignal {
        let door = Arc::clone(&self.door);
        Box::new(move |signal| drop(wire::send(&door, &Meanwhile::Signal(signal), &[])))
    }
}

/// Runs a command in a workspace as if it ran here, with this process's own standard streams, and waits for it.
///
/// # Errors
/// When the command cannot be started, or the workspace ends under it.
pub fn enter(client: Client, argv: &[String], account: Option<String>) -> Result<Ending, KeeperError> {
    // From here on no signal is lost: those that come before the command runs wait.
    let signals = Signals::new([SIGHUP, SIGINT, SIGQUIT, SIGTERM]).map_err(file_error("listen for", "signals"))?;
    let terminal = terminal::own_terminals();
    let own = TERMINAL_VARIABLES.iter().filter_map(|name| Some(((*name).to_owned(), std::env::var(name).ok()?)));
    let visit = ExecRequest {
        argv: argv.to_vec(),
        env: if terminal.contains(&true) { own.collect() } else { Vec::new() },
        here: std::env::current_dir().ok(),
        account,
        terminal,
        task: None,
        guest: false,
    };
    let name = client.name.clone();
    let streams = Streams::own().map_err(file_error("pass on", "the standard streams"))?;
    let guest = client.run(visit, streams.inner())?;
    let carrying = streams.started();
    let ending = attend(&guest, signals);
    carrying.finish();
    ending.map_err(|error| match error {
        SandboxError::Gone => KeeperError::EndedUnder { name },
        error => error.into(),
    })
}

/// Passes on what is typed, shown and signalled. When the command has ended, a signal ends this process.
fn attend(guest: &RemoteCommand, mut signals: Signals) -> Result<Ending, SandboxError> {
    let (send_signal, over) = (guest.signals(), Arc::new(AtomicBool::new(false)));
    let is_over = Arc::clone(&over);
    std::thread::spawn(move || {
        for signal in signals.forever() {
            if is_over.load(Ordering::SeqCst) {
                std::process::exit(130);
            }
            send_signal(signal);
        }
    });
    let ending = match &guest.terminal {
        Some(outer) => terminal::carry(guest, outer),
        None => guest.wait(),
    };
    over.store(true, Ordering::SeqCst);
    ending
}
