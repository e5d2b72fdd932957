//! The keeper's end of a machine: what looks like PID 1 to a [`crate::Session`], and is far away.

use std::collections::HashMap;
use std::io;
use std::net::{Ipv4Addr, SocketAddr, TcpStream, UdpSocket};
use std::os::fd::{AsFd as _, OwnedFd};
use std::os::unix::net::UnixStream;
use std::sync::{Arc, Condvar, Mutex, PoisonError, mpsc};
use std::thread;
use std::time::Duration;

use rustix::net::{AddressFamily, SocketFlags, SocketType};
use rustix::termios::OptionalActions;

use crate::child::command::{is_null, open_terminal};
use crate::guest::tunnel::{Cut, End, Tunnel};
use crate::guest::{FromGuest, NO_STREAM, NetAsk, NetOutcome, ToGuest};
use crate::host::mutex::locked;
use crate::protocol::job::{Order, Report};
use crate::protocol::wire;

/// How long the machine has for an answer. A connection may take ten seconds inside.
const ANSWER: Duration = Duration::from_secs(20);

/// Connections to a listener that wait to be taken; of more, each is refused.
const WAITING: usize = 64;

/// What the machine says of itself, or answers, beside what is said about commands and ports.
#[derive(Debug)]
pub struct Said {
    /// What it is.
    pub what: serde_json::Value,
    /// A connection that comes with it.
    pub stream: Option<OwnedFd>,
}

/// A machine's port, which may be exchanged for another one while the machine is on the disk.
#[derive(Debug)]
struct Port {
    state: Mutex<PortState>,
    changed: Condvar,
}

#[derive(Debug)]
struct PortState {
    stream: Arc<UnixStream>,
    /// Its end is not the machine's.
    exchanging: bool,
    /// How often it was exchanged.
    turn: u32,
}

impl io::Read for &Port {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            let (stream, turn) = {
                let state = locked(&self.state);
                (Arc::clone(&state.stream), state.turn)
            };
            let outcome = (&*stream).read(buffer);
            if matches!(outcome, Ok(1..)) {
                return outcome;
            }
            let mut state = locked(&self.state);
            while state.exchanging && state.turn == turn {
                state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
            }
            if state.turn == turn {
                return outcome;
            }
        }
    }
}

/// A machine, from outside.
#[derive(Debug)]
pub struct Outer {
    tunnel: Tunnel,
    port: Arc<Port>,
    /// To the session.
    reports: Mutex<UnixStream>,
    waiting: Mutex<Waiting>,
}

#[derive(Debug, Default)]
struct Waiting {
    next: u64,
    net: HashMap<u64, mpsc::Sender<NetOutcome>>,
    other: HashMap<u64, mpsc::Sender<Said>>,
    listeners: HashMap<u64, mpsc::SyncSender<Came>>,
    commands: HashMap<u64, Streams>,
    gone: bool,
}

/// A connection that came to a listener inside.
pub(crate) type Came = (TcpStream, Option<SocketAddr>);

/// The streams of a command.
#[derive(Debug, Default)]
struct Streams {
    input: Option<u32>,
    outputs: Vec<u32>,
}

impl Outer {
    /// Attends to the port of a machine. Gives the socket on which a session talks to its PID 1, and what the machine
    /// says first.
    ///
    /// # Errors
    /// When this machine refuses a socket or a thread.
    pub fn attend(port: UnixStream) -> io::Result<(Arc<Self>, UnixStream, mpsc::Receiver<Said>)> {
        let (session, ours) = UnixStream::pair()?;
        let tunnel = Tunnel::new(OwnedFd::from(port.try_clone()?).into(), End::Outer);
        let state = PortState { stream: Arc::new(port), exchanging: false, turn: 0 };
        let port = Arc::new(Port { state: Mutex::new(state), changed: Condvar::new() });
        let outer = Arc::new(Self { tunnel, port, reports: Mutex::new(ours.try_clone()?), waiting: Mutex::default() });
        let (first, says) = mpsc::channel();
        let hearing = Arc::clone(&outer);
        thread::Builder::new().name("machine".to_owned()).spawn(move || {
            let tunnel = hearing.tunnel.clone();
            tunnel.attend(&*hearing.port, |message| hearing.hear(message, &first));
            hearing.end();
        })?;
        let obeying = Arc::clone(&outer);
        thread::Builder::new().name("orders".to_owned()).spawn(move || {
            while let Ok(Some((order, fds))) = wire::receive::<Order>(&ours) {
                obeying.order(order, fds);
            }
        })?;
        Ok((outer, session, says))
    }

    /// Nothing comes from the machine any more.
    fn end(&self) {
        let mut waiting = locked(&self.waiting);
        waiting.gone = true;
        waiting.net.clear();
        waiting.other.clear();
        waiting.listeners.clear();
        let _ = locked(&self.reports).shutdown(std::net::Shutdown::Both);
    }

    /// Whether nothing comes from the machine any more.
    pub fn is_gone(&self) -> bool {
        locked(&self.waiting).gone
    }

    fn order(self: &Arc<Self>, order: Order, fds: Vec<OwnedFd>) {
        let Order::Run(number, command) = &order else {
            let _ = self.tunnel.say(&ToGuest::Order { order, streams: Vec::new() });
            return;
        };
        let (number, terminal) = (*number, command.terminal);
        let mut fds = fds.into_iter();
        let (Some(input), Some(output), Some(errors)) = (fds.next(), fds.next(), fds.next()) else { return };
        let named = |fd: &OwnedFd, is_terminal: bool| {
            if is_terminal || is_null(fd) { NO_STREAM } else { self.tunnel.number() }
        };
        let (to, from) = (named(&input, terminal[0]), named(&output, terminal[1]));
        // What goes to one place keeps its order.
        let together = from != NO_STREAM && !terminal[2] && is_same(&output, &errors);
        let and = if together { from } else { named(&errors, terminal[2]) };
        let mut streams = Streams { input: (to != NO_STREAM).then_some(to), outputs: Vec::new() };
        if from != NO_STREAM {
            self.tunnel.receive_into(from, output, false);
            streams.outputs.push(from);
        }
        if and != NO_STREAM && and != from {
            self.tunnel.receive_into(and, errors, false);
            streams.outputs.push(and);
        }
        locked(&self.waiting).commands.insert(number, streams);
        let said = self.tunnel.say(&ToGuest::Order { order, streams: vec![to, from, and] });
        if to != NO_STREAM && said.is_ok() {
            self.tunnel.send_from(to, input, Cut::Anyhow, (None, None));
        }
    }

    fn hear(self: &Arc<Self>, message: FromGuest, first: &mpsc::Sender<Said>) {
        match message {
            FromGuest::Report { report, terminal } => self.hear_report(report, terminal),
            FromGuest::Over => drop(locked(&self.reports).shutdown(std::net::Shutdown::Both)),
            FromGuest::Net { number, outcome } => {
                if let Some(asker) = locked(&self.waiting).net.remove(&number) {
                    let _ = asker.send(outcome);
                }
            }
            FromGuest::Came { listener, streams, from } => {
                let taker = locked(&self.waiting).listeners.get(&listener).cloned();
                let taken = taker.and_then(|taker| {
                    let stream = self.connection(streams, SocketType::STREAM).ok()?;
                    self.send_back(streams, &stream.1, Cut::Anyhow);
                    taker.try_send((stream.0.into(), from)).ok()
                });
                if taken.is_none() {
                    self.tunnel.refuse(streams[1]);
                }
            }
            FromGuest::Other { number, what, streams, messages } => {
                let (kind, cut) =
                    if messages { (SocketType::SEQPACKET, Cut::Datagrams) } else { (SocketType::STREAM, Cut::Anyhow) };
                let stream = streams.and_then(|streams| {
                    let (near, far) = self.connection(streams, kind).ok()?;
                    self.send_back(streams, &far, cut);
                    Some(near)
                });
                let said = Said { what, stream };
                let asker = locked(&self.waiting).other.remove(&number);
                let _ = asker.unwrap_or_else(|| first.clone()).send(said);
            }
        }
    }

    fn hear_report(self: &Arc<Self>, report: Report, terminal: Option<[u32; 2]>) {
        match (&report, terminal) {
            // One that nobody ordered, or a second one, gets none.
            (Report::Started(number), Some(streams)) if self.may_have_terminal(*number) => match self.terminal(streams)
            {
                Ok(outer) => {
                    // Nothing is typed to what has ended.
                    locked(&self.waiting).commands.entry(*number).or_default().input = Some(streams[0]);
                    self.report(&report, Some(&outer));
                }
                Err(_) => self.report(&report, None),
            },
            (Report::Ended(number, _) | Report::NotStarted { number, .. }, _) => {
                let streams = locked(&self.waiting).commands.remove(number).unwrap_or_default();
                streams.input.into_iter().for_each(|input| self.tunnel.stop(input));
                let outer = Arc::clone(self);
                // What it wrote before its end is where it belongs before that is told.
                thread::spawn(move || {
                    streams.outputs.iter().for_each(|output| outer.tunnel.passed_on(*output));
                    outer.report(&report, None);
                });
            }
            _ => self.report(&report, None),
        }
    }

    fn may_have_terminal(&self, number: u64) -> bool {
        locked(&self.waiting).commands.get(&number).is_some_and(|streams| streams.input.is_none())
    }

    fn report(&self, report: &Report, with: Option<&OwnedFd>) {
        let fds: Vec<_> = with.iter().map(|fd| fd.as_fd()).collect();
        let _ = wire::send(&locked(&self.reports), report, &fds);
    }

    /// A terminal here whose inner end leads to one in the machine; its outer end.
    fn terminal(self: &Arc<Self>, [to, from]: [u32; 2]) -> io::Result<OwnedFd> {
        let (outer, inner) = open_terminal()?;
        // The terminal in the machine is the one that edits lines.
        let mut plain = rustix::termios::tcgetattr(&inner)?;
        plain.make_raw();
        rustix::termios::tcsetattr(&inner, OptionalActions::Now, &plain)?;
        self.tunnel.receive_into(from, inner.try_clone()?, false);
        let (watched, tunnel, mut known) = (inner.try_clone()?, self.tunnel.clone(), (0, 0));
        let sizes = move || {
            let Ok(size) = rustix::termios::tcgetwinsize(&watched) else { return };
            let now = (size.ws_row, size.ws_col);
            if now != known {
                known = now;
                let _ = tunnel.say(&ToGuest::Size { stream: to, rows: now.0, columns: now.1 });
            }
        };
        let tunnel = self.tunnel.clone();
        let at_end = move || tunnel.refuse(from);
        self.tunnel.send_from(to, inner, Cut::Anyhow, (Some(Box::new(sizes)), Some(Box::new(at_end))));
        Ok(outer)
    }

    /// A pair of sockets of which the far one gets what comes in the second stream.
    fn connection(&self, streams: [u32; 2], kind: SocketType) -> io::Result<(OwnedFd, OwnedFd)> {
        let (near, far) = rustix::net::socketpair(AddressFamily::UNIX, kind, SocketFlags::CLOEXEC, None)?;
        if streams[1] != NO_STREAM {
            self.tunnel.receive_into(streams[1], far.try_clone()?, true);
        }
        Ok((near, far))
    }

    /// Has what the near end writes go out in the first stream.
    fn send_back(&self, streams: [u32; 2], far: &OwnedFd, cut: Cut) {
        if let Ok(far) = far.try_clone() {
            self.tunnel.send_from(streams[0], far, cut, (None, None));
        }
    }

    /// A number for something that is asked, by which its answer finds who waits.
    fn number(&self, enter: impl FnOnce(&mut Waiting, u64)) -> io::Result<u64> {
        let mut waiting = locked(&self.waiting);
        if waiting.gone {
            return Err(io::ErrorKind::NotConnected.into());
        }
        waiting.next += 1;
        let number = waiting.next;
        enter(&mut waiting, number);
        Ok(number)
    }

    fn net(&self, ask: NetAsk, streams: [u32; 2], keep: Option<mpsc::SyncSender<Came>>) -> io::Result<(u64, u16)> {
        let (answer, answered) = mpsc::channel();
        let number = self.number(|waiting, number| {
            waiting.net.insert(number, answer);
            waiting.listeners.extend(keep.map(|taker| (number, taker)));
        })?;
        self.tunnel.say(&ToGuest::Net { number, ask, streams })?;
        let outcome = answered.recv_timeout(ANSWER);
        let mut waiting = locked(&self.waiting);
        waiting.net.remove(&number);
        match outcome {
            Ok(Ok(told)) => Ok((number, told)),
            Ok(Err((code, text))) => {
                waiting.listeners.remove(&number);
                Err(if code == 0 { io::Error::other(text) } else { io::Error::from_raw_os_error(code) })
            }
            Err(mpsc::RecvTimeoutError::Timeout) => Err(io::ErrorKind::TimedOut.into()),
            Err(mpsc::RecvTimeoutError::Disconnected) => Err(io::ErrorKind::NotConnected.into()),
        }
    }

    fn joined(&self, ask: NetAsk, kind: SocketType, cut: Cut) -> io::Result<OwnedFd> {
        let streams = [self.tunnel.number(), self.tunnel.number()];
        let (near, far) = self.connection(streams, kind)?;
        match self.net(ask, streams, None) {
            Ok(_) => {
                self.send_back(streams, &far, cut);
                Ok(near)
            }
            Err(error) => {
                self.tunnel.forget(streams[1]);
                Err(error)
            }
        }
    }

    pub(crate) fn connect(&self, to: SocketAddr) -> io::Result<TcpStream> {
        self.joined(NetAsk::Connect(to), SocketType::STREAM, Cut::Anyhow).map(TcpStream::from)
    }

    pub(crate) fn datagrams(&self, port: u16) -> io::Result<UdpSocket> {
        self.joined(NetAsk::Datagrams(port), SocketType::SEQPACKET, Cut::Datagrams).map(UdpSocket::from)
    }

    pub(crate) fn is_listened(&self, port: u16) -> io::Result<bool> {
        self.net(NetAsk::IsListened(port), [NO_STREAM; 2], None).map(|(_, told)| told == 1)
    }

    /// Takes connections on a port inside, which is told, until the number is given back to [`Self::unlisten`].
    pub(crate) fn listen(&self, address: Ipv4Addr, port: u16) -> io::Result<(u64, u16, mpsc::Receiver<Came>)> {
        let (taker, coming) = mpsc::sync_channel(WAITING);
        let (number, bound) = self.net(NetAsk::Listen(address, port), [NO_STREAM; 2], Some(taker))?;
        Ok((number, bound, coming))
    }

    pub(crate) fn unlisten(&self, number: u64) {
        locked(&self.waiting).listeners.remove(&number);
        let _ = self.net(NetAsk::Unlisten(number), [NO_STREAM; 2], None);
    }

    /// Asks what the crate above knows of, and waits for the answer.
    ///
    /// # Errors
    /// When the machine does not answer in time.
    pub fn ask(&self, what: serde_json::Value, limit: Duration) -> io::Result<Said> {
        self.ask_by(what, limit, &|message| self.tunnel.say(message))
    }

    /// Asks the last thing before the machine is halted and its hypervisor ends; nothing more is sent. The one within
    /// answers it last, too, so nothing is on its way then.
    ///
    /// # Errors
    /// When the machine does not answer in time; then everything is as it was.
    pub fn ask_last(&self, what: serde_json::Value, limit: Duration) -> io::Result<Said> {
        locked(&self.port.state).exchanging = true;
        self.ask_by(what, limit, &|message| self.tunnel.say_last(message)).inspect_err(|_| {
            locked(&self.port.state).exchanging = false;
            let _ = self.tunnel.go_on(None, None::<&ToGuest>);
        })
    }

    /// Goes on, by another port where the machine has a hypervisor anew; the first that is said is this.
    ///
    /// # Errors
    /// When the machine does not answer in time.
    pub fn go_on(&self, port: Option<UnixStream>, what: serde_json::Value, limit: Duration) -> io::Result<Said> {
        let out = port.as_ref().map(UnixStream::try_clone).transpose()?;
        {
            let mut state = locked(&self.port.state);
            if let Some(port) = port {
                state.stream = Arc::new(port);
                state.turn += 1;
            }
            state.exchanging = false;
            self.port.changed.notify_all();
        }
        let out = std::cell::Cell::new(out.map(|out| OwnedFd::from(out).into()));
        self.ask_by(what, limit, &|message| self.tunnel.go_on(out.take(), Some(message)))
    }

    /// Nobody will go on: the machine is gone.
    pub fn give_up(&self) {
        locked(&self.port.state).exchanging = false;
        self.port.changed.notify_all();
    }

    fn ask_by(
        &self,
        what: serde_json::Value,
        limit: Duration,
        say: &dyn Fn(&ToGuest) -> io::Result<()>,
    ) -> io::Result<Said> {
        let (answer, answered) = mpsc::channel();
        let number = self.number(|waiting, number| drop(waiting.other.insert(number, answer)))?;
        say(&ToGuest::Other { number, what })?;
        let outcome = answered.recv_timeout(limit);
        locked(&self.waiting).other.remove(&number);
        outcome.map_err(|error| match error {
            mpsc::RecvTimeoutError::Timeout => io::ErrorKind::TimedOut.into(),
            mpsc::RecvTimeoutError::Disconnected => io::ErrorKind::NotConnected.into(),
        })
    }
}

/// Whether two descriptors lead to the same file, pipe or socket.
fn is_same(one: &OwnedFd, other: &OwnedFd) -> bool {
    let told = |fd: &OwnedFd| rustix::fs::fstat(fd).map(|found| (found.st_dev, found.st_ino));
    matches!((told(one), told(other)), (Ok(one), Ok(other)) if one == other)
}
