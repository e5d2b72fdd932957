//! The machine's end: a process beside PID 1 of the inside, which talks to the keeper.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::net::{TcpListener, TcpStream};
use std::os::fd::{AsFd as _, OwnedFd};
use std::os::unix::net::UnixStream;
use std::sync::{Arc, Mutex, OnceLock};
use std::thread;
use std::time::Duration;

use rustix::termios::Winsize;

use crate::guest::tunnel::{Cut, End, Tunnel};
use crate::guest::{FromGuest, NO_STREAM, NetAsk, ToGuest};
use crate::host::mutex::locked;
use crate::parent::net::Connector;
use crate::parent::process::SandboxProcess;
use crate::protocol::job::{Job, Order, Report};
use crate::protocol::wire;
use crate::{Identity, SandboxError, outside};

/// How long the end of a terminal's output is waited for.
const TERMINAL: Duration = Duration::from_millis(500);

/// The inside of a machine, from within it.
#[derive(Debug)]
pub struct Guest {
    tunnel: Tunnel,
    port: File,
    /// What stands, once it does.
    inside: OnceLock<Arc<Inside>>,
}

/// What stands in the machine once it has its PID 1.
#[derive(Debug)]
struct Inside {
    tunnel: Tunnel,
    orders: Mutex<UnixStream>,
    connector: Connector,
    listeners: Mutex<HashMap<u64, TcpListener>>,
    state: Mutex<State>,
}

#[derive(Debug, Default)]
struct State {
    /// The streams of each command that come from it.
    outputs: HashMap<u64, Vec<(u32, OwnedFd)>>,
    /// Outer ends of terminals, by the streams that lead to them.
    terminals: HashMap<u32, OwnedFd>,
    /// Those streams, by command.
    of_command: HashMap<u64, u32>,
}

/// A root with PID 1 in it, within the machine.
#[derive(Debug)]
pub struct Stood {
    process: SandboxProcess,
    /// What could not be done as it should be.
    pub notes: Vec<String>,
}

impl Stood {
    /// Builds the root of a machine, and has a PID 1 wait for orders in it.
    ///
    /// # Errors
    /// When the kernel of the machine refuses something.
    pub fn begin(job: Job, identity: Identity) -> Result<Self, SandboxError> {
        let (process, notes) = SandboxProcess::begin(job, identity)?;
        Ok(Self { process, notes })
    }

    /// The process that all of the inside hangs on.
    pub fn process(&self) -> u32 {
        self.process.pid()
    }

    /// Ends all of it.
    pub fn end(&self) {
        self.process.end();
    }
}

impl Guest {
    /// Takes the port.
    ///
    /// # Errors
    /// When it cannot be shared.
    pub fn new(port: File) -> io::Result<Self> {
        Ok(Self { tunnel: Tunnel::new(port.try_clone()?, End::Inner), port, inside: OnceLock::new() })
    }

    /// Says something to the crate above at the other end; 0 is what nobody asked for.
    ///
    /// # Errors
    /// When it is gone.
    pub fn say(&self, number: u64, what: serde_json::Value) -> io::Result<()> {
        self.tunnel.say(&FromGuest::Other { number, what, streams: None, messages: false })
    }

    /// Says something and nothing after it, until [`Self::go_on`]: this machine is about to be halted.
    ///
    /// # Errors
    /// When the other end is gone.
    pub fn say_last(&self, number: u64, what: serde_json::Value) -> io::Result<()> {
        self.tunnel.say_last(&FromGuest::Other { number, what, streams: None, messages: false })
    }

    /// Says again what was held back.
    pub fn go_on(&self) {
        let _ = self.tunnel.go_on(None, None::<&FromGuest>);
    }

    /// Hands a connection of the inside to the crate above at the other end.
    ///
    /// # Errors
    /// When it is gone.
    pub fn hand_over(&self, what: serde_json::Value, stream: UnixStream) -> io::Result<()> {
        self.hand(what, stream.into(), Cut::Anyhow)
    }

    /// The same for something that is read and written in whole messages.
    ///
    /// # Errors
    /// When it is gone.
    pub fn hand_over_messages(&self, what: serde_json::Value, messages: OwnedFd) -> io::Result<()> {
        self.hand(what, messages, Cut::Datagrams)
    }

    /// The same for something to which whole messages are only written.
    ///
    /// # Errors
    /// When it is gone.
    pub fn hand_over_sink(&self, what: serde_json::Value, messages: OwnedFd) -> io::Result<()> {
        let streams = [self.tunnel.number(), NO_STREAM];
        self.tunnel.receive_into(streams[0], messages, false);
        self.tunnel.say(&FromGuest::Other { number: 0, what, streams: Some(streams), messages: true })
    }

    fn hand(&self, what: serde_json::Value, stream: OwnedFd, cut: Cut) -> io::Result<()> {
        let streams = [self.tunnel.number(), self.tunnel.number()];
        self.tunnel.receive_into(streams[0], stream.try_clone()?, true);
        let messages = cut == Cut::Datagrams;
        self.tunnel.say(&FromGuest::Other { number: 0, what, streams: Some(streams), messages })?;
        self.tunnel.send_from(streams[1], stream, cut, (None, None));
        Ok(())
    }

    /// Lets the keeper give orders to what stands now.
    ///
    /// # Errors
    /// When the inside cannot be reached.
    pub fn stand(&self, stood: &Stood) -> Result<(), SandboxError> {
        let doing = "reach the inside";
        let socket = || stood.process.socket.try_clone().map_err(outside(doing));
        let (orders, reports) = (socket()?, socket()?);
        let namespace = File::open(format!("/proc/{}/ns/net", stood.process())).map_err(outside(doing))?;
        let inside = Arc::new(Inside {
            tunnel: self.tunnel.clone(),
            orders: Mutex::new(orders),
            connector: Connector::new(namespace.into()).map_err(outside(doing))?,
            listeners: Mutex::default(),
            state: Mutex::default(),
        });
        let telling = Arc::clone(&inside);
        thread::spawn(move || {
            while let Ok(Some((report, fds))) = wire::receive::<Report>(&reports) {
                telling.tell(report, fds);
            }
            let _ = telling.tunnel.say(&FromGuest::Over);
        });
        let _ = self.inside.set(inside);
        Ok(())
    }

    /// Obeys the keeper until it is gone; what is for the crate above goes to `on_other`.
    pub fn serve(&self, mut on_other: impl FnMut(u64, serde_json::Value)) {
        self.tunnel.attend(&self.port, |message| match (message, self.inside.get()) {
            (ToGuest::Other { number, what }, _) => on_other(number, what),
            (ToGuest::Order { order, streams }, Some(inside)) => drop(inside.order(&order, &streams)),
            (ToGuest::Size { stream, rows, columns }, Some(inside)) => inside.resize(stream, rows, columns),
            (ToGuest::Net { number, ask, streams }, Some(inside)) => inside.net(number, ask, streams),
            // Nobody gives orders before something stands.
            (_, None) => {}
        });
    }
}

impl State {
    fn close(&mut self, number: u64, stream: u32) {
        if let Some(outputs) = self.outputs.get_mut(&number) {
            outputs.retain(|(known, _)| *known != stream);
        }
    }
}

impl Inside {
    fn order(self: &Arc<Self>, order: &Order, streams: &[u32]) -> io::Result<()> {
        let Order::Run(number, _) = order else { return wire::send(&locked(&self.orders), order, &[]) };
        let number = *number;
        let [to, from, and] = *streams else { return Ok(()) };
        let nothing = || File::options().read(true).write(true).open("/dev/null").map(OwnedFd::from);
        let (mut outputs, mut readers) = (Vec::new(), Vec::new());
        let input = if to == NO_STREAM {
            nothing()?
        } else {
            let (reader, writer) = io::pipe()?;
            self.tunnel.receive_into(to, writer.into(), false);
            reader.into()
        };
        let mut output = |stream: u32| -> io::Result<OwnedFd> {
            if stream == NO_STREAM {
                return nothing();
            }
            let (reader, writer) = io::pipe()?;
            let reader = OwnedFd::from(reader);
            outputs.push((stream, reader.try_clone()?));
            readers.push((stream, reader));
            Ok(writer.into())
        };
        let first = output(from)?;
        let second = if and == from && and != NO_STREAM { first.try_clone()? } else { output(and)? };
        locked(&self.state).outputs.insert(number, outputs);
        for (stream, reader) in readers {
            let inside = Arc::clone(self);
            // Who writes what nobody takes any more learns that by there being no reader.
            let at_end = move || locked(&inside.state).close(number, stream);
            self.tunnel.send_from(stream, reader, Cut::Anyhow, (None, Some(Box::new(at_end))));
        }
        wire::send(&locked(&self.orders), order, &[input.as_fd(), first.as_fd(), second.as_fd()])
    }

    fn tell(self: &Arc<Self>, report: Report, fds: Vec<OwnedFd>) {
        match (&report, fds.into_iter().next()) {
            (Report::Started(number), Some(outer)) => {
                let streams = [self.tunnel.number(), self.tunnel.number()];
                let copies = (outer.try_clone(), outer.try_clone(), outer.try_clone());
                let (Ok(typed), Ok(kept), Ok(sized)) = copies else { return };
                self.tunnel.receive_into(streams[0], typed, false);
                {
                    let mut state = locked(&self.state);
                    state.terminals.insert(streams[0], sized);
                    state.of_command.insert(*number, streams[0]);
                    state.outputs.entry(*number).or_default().push((streams[1], kept));
                }
                let _ =
                    self.tunnel.say(&FromGuest::Report { report: Report::Started(*number), terminal: Some(streams) });
                let inside = Arc::clone(self);
                let number = *number;
                let at_end = move || {
                    let mut state = locked(&inside.state);
                    state.terminals.remove(&streams[0]);
                    state.close(number, streams[1]);
                };
                self.tunnel.send_from(streams[1], outer, Cut::Anyhow, (None, Some(Box::new(at_end))));
            }
            (Report::Ended(number, _) | Report::NotStarted { number, .. }, _) => {
                let (outputs, terminal) = {
                    let mut state = locked(&self.state);
                    let terminal = state.of_command.remove(number);
                    (state.outputs.remove(number).unwrap_or_default(), terminal.is_some())
                };
                let inside = Arc::clone(self);
                thread::spawn(move || {
                    for (stream, from) in &outputs {
                        inside.tunnel.caught_up(*stream, from, terminal, TERMINAL);
                    }
                    let _ = inside.tunnel.say(&FromGuest::Report { report, terminal: None });
                });
            }
            _ => drop(self.tunnel.say(&FromGuest::Report { report, terminal: None })),
        }
    }

    fn resize(&self, stream: u32, rows: u16, columns: u16) {
        if let Some(terminal) = locked(&self.state).terminals.get(&stream) {
            let size = Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
            let _ = rustix::termios::tcsetwinsize(terminal, size);
        }
    }

    fn net(self: &Arc<Self>, number: u64, ask: NetAsk, streams: [u32; 2]) {
        let inside = Arc::clone(self);
        // Beside the loop: a server that is slow to take a connection holds up nothing else.
        thread::spawn(move || {
            let outcome = inside.reach(number, ask, streams);
            let (outcome, from) = match outcome {
                Ok((told, from)) => (Ok(told), from),
                Err(error) => (Err((error.raw_os_error().unwrap_or(0), error.to_string())), None),
            };
            let _ = inside.tunnel.say(&FromGuest::Net { number, outcome });
            if let Some((from, cut)) = from {
                inside.tunnel.send_from(streams[1], from, cut, (None, None));
            }
        });
    }

    /// Does something in the network; what is to be sent back from where, once that was told.
    fn reach(
        self: &Arc<Self>,
        number: u64,
        ask: NetAsk,
        streams: [u32; 2],
    ) -> io::Result<(u16, Option<(OwnedFd, Cut)>)> {
        let both = |socket: OwnedFd, cut: Cut| -> io::Result<_> {
            self.tunnel.receive_into(streams[0], socket.try_clone()?, true);
            Ok((0, Some((socket, cut))))
        };
        match ask {
            NetAsk::Connect(to) => {
                let stream = self.connector.connect_to(to)?;
                let _ = stream.set_nodelay(true);
                both(stream.into(), Cut::Anyhow)
            }
            NetAsk::Datagrams(port) => both(self.connector.datagrams(port)?.into(), Cut::Datagrams),
            NetAsk::IsListened(port) => Ok((self.connector.is_listened(port).into(), None)),
            NetAsk::Listen(address, port) => {
                let listener = self.connector.listen_at(address, port)?;
                let bound = listener.local_addr()?.port();
                locked(&self.listeners).insert(number, listener.try_clone()?);
                let inside = Arc::clone(self);
                thread::spawn(move || {
                    while let Ok((stream, from)) = listener.accept() {
                        let _ = inside.came(number, stream, from);
                    }
                });
                Ok((bound, None))
            }
            NetAsk::Unlisten(listener) => {
                if let Some(listener) = locked(&self.listeners).remove(&listener) {
                    // Wakes the one who waits for the next connection.
                    let _ = rustix::net::shutdown(&listener, rustix::net::Shutdown::Both);
                }
                Ok((0, None))
            }
        }
    }

    fn came(&self, listener: u64, stream: TcpStream, from: std::net::SocketAddr) -> io::Result<()> {
        let streams = [self.tunnel.number(), self.tunnel.number()];
        let stream = OwnedFd::from(stream);
        self.tunnel.receive_into(streams[0], stream.try_clone()?, true);
        self.tunnel.say(&FromGuest::Came { listener, streams, from: Some(from) })?;
        self.tunnel.send_from(streams[1], stream, Cut::Anyhow, (None, None));
        Ok(())
    }
}
