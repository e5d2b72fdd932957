//! Many streams over one, each with a window of its own, so that one whom nobody reads holds up no other.
//!
//! What travels are frames: a kind (1 byte), the number of a stream (4 bytes) and a length (4 bytes), both
//! little-endian, and so many bytes. A stream goes one way. Whoever receives it gives the sender leave for more as it
//! passes on what came; nobody may send more than that. Messages of both ends travel in between, in the order in which
//! they were sent, with the streams that they name.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read as _, Write as _};
use std::os::fd::{AsFd as _, OwnedFd};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::mpsc;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::host::mutex::locked;

/// Bytes that may be on their way in one stream.
const WINDOW: usize = 512 << 10;
/// Bytes of a frame of a stream: so many that a whole message of a file system fits, and a datagram.
const FRAME: usize = 136 << 10;
/// Streams that come at once: each has a thread.
const MOST: usize = 4096;
/// Bytes of a message.
const LONGEST: usize = 32 << 20;
/// How often it is looked at what comes with a stream, such as the size of a terminal.
const GLANCE: Timespec = Timespec { tv_sec: 0, tv_nsec: 40_000_000 };

const MESSAGE: u8 = 0;
const BYTES: u8 = 1;
const LEAVE: u8 = 2;
const END: u8 = 3;
const BROKEN: u8 = 4;

/// What is looked at while a stream is read.
pub(crate) type Beside = Box<dyn FnMut() + Send>;
/// What is done when a stream has ended.
pub(crate) type AtEnd = Box<dyn FnOnce() + Send>;

/// One end of a way that carries many streams. Copies of it are the same end.
#[derive(Clone)]
pub struct Tunnel(Arc<Inner>);

struct Inner {
    out: Mutex<Out>,
    /// Something may be sent again.
    open: Condvar,
    next: AtomicU32,
    streams: Mutex<Streams>,
}

/// Where frames are written.
struct Out {
    file: File,
    /// Nothing is sent until the other end is there again.
    held: bool,
}

#[derive(Default)]
struct Streams {
    sending: HashMap<u32, Arc<Sending>>,
    receiving: HashMap<u32, Receiving>,
    closed: bool,
}

/// A stream that we send.
#[derive(Default)]
struct Sending {
    state: Mutex<Window>,
    changed: Condvar,
    /// Hangs up when it is to stop.
    stop: Mutex<Option<OwnedFd>>,
}

#[derive(Default)]
struct Window {
    /// Bytes that may still be sent.
    left: usize,
    /// Bytes that were sent so far.
    sent: u64,
    stopped: bool,
    done: bool,
    /// Something was read and is not sent yet.
    busy: bool,
}

/// A stream that we receive.
struct Receiving {
    parts: mpsc::Sender<Option<Vec<u8>>>,
    progress: Arc<Progress>,
}

#[derive(Default)]
struct Progress {
    state: Mutex<Passed>,
    changed: Condvar,
}

#[derive(Default)]
struct Passed {
    came: u64,
    passed: u64,
    done: bool,
}

/// How the bytes of a stream are cut.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Cut {
    /// As it comes.
    Anyhow,
    /// Each piece is a datagram.
    Datagrams,
}

impl std::fmt::Debug for Tunnel {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Tunnel")
    }
}

/// One of the two ends: each gives numbers to streams that the other does not give.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum End {
    /// The keeper's.
    Outer,
    /// The machine's.
    Inner,
}

impl Tunnel {
    /// An end over something that bytes are written to.
    pub(crate) fn new(out: File, end: End) -> Self {
        let next = AtomicU32::new(if end == End::Outer { 2 } else { 1 });
        let out = Mutex::new(Out { file: out, held: false });
        Self(Arc::new(Inner { out, open: Condvar::new(), next, streams: Mutex::default() }))
    }

    /// A number for a new stream.
    pub(crate) fn number(&self) -> u32 {
        self.0.next.fetch_add(2, Ordering::SeqCst)
    }

    /// Sends a message.
    ///
    /// # Errors
    /// When the other end is gone.
    pub(crate) fn say(&self, message: &impl Serialize) -> io::Result<()> {
        self.frame(MESSAGE, 0, &serde_json::to_vec(message)?)
    }

    /// Sends a message, and nothing after it until [`Self::go_on`].
    ///
    /// # Errors
    /// When the other end is gone.
    pub(crate) fn say_last(&self, message: &impl Serialize) -> io::Result<()> {
        let whole = framed(MESSAGE, 0, &serde_json::to_vec(message)?)?;
        let mut out = locked(&self.0.out);
        out.file.write_all(&whole)?;
        out.held = true;
        Ok(())
    }

    /// Sends again, to another file where there is one; `first` comes before all that was held back.
    ///
    /// # Errors
    /// When the other end is gone.
    pub(crate) fn go_on(&self, to: Option<File>, first: Option<&impl Serialize>) -> io::Result<()> {
        let first = first.map(|first| framed(MESSAGE, 0, &serde_json::to_vec(first)?)).transpose()?;
        let mut out = locked(&self.0.out);
        if let Some(file) = to {
            out.file = file;
        }
        let said = first.map_or(Ok(()), |first| out.file.write_all(&first));
        out.held = false;
        self.0.open.notify_all();
        said
    }

    fn frame(&self, kind: u8, stream: u32, bytes: &[u8]) -> io::Result<()> {
        let whole = framed(kind, stream, bytes)?;
        let mut out = locked(&self.0.out);
        while out.held {
            out = self.0.open.wait(out).unwrap_or_else(PoisonError::into_inner);
        }
        out.file.write_all(&whole)
    }
}

fn framed(kind: u8, stream: u32, bytes: &[u8]) -> io::Result<Vec<u8>> {
    let length = u32::try_from(bytes.len()).map_err(io::Error::other)?;
    let mut whole = Vec::with_capacity(9 + bytes.len());
    whole.push(kind);
    whole.extend_from_slice(&stream.to_le_bytes());
    whole.extend_from_slice(&length.to_le_bytes());
    whole.extend_from_slice(bytes);
    Ok(whole)
}

impl Tunnel {
    /// Sends what is read from a descriptor as a stream that the other end already expects. At its end `at_end` is
    /// called.
    pub(crate) fn send_from(
        &self,
        stream: u32,
        from: OwnedFd,
        cut: Cut,
        (mut beside, at_end): (Option<Beside>, Option<AtEnd>),
    ) {
        let sending = Arc::new(Sending::default());
        let Ok((woken, stop)) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC) else { return };
        locked(&sending.state).left = WINDOW;
        *locked(&sending.stop) = Some(stop);
        {
            let mut streams = locked(&self.0.streams);
            if streams.closed {
                return;
            }
            streams.sending.insert(stream, Arc::clone(&sending));
        }
        let tunnel = self.clone();
        thread::spawn(move || {
            tunnel.pump(stream, &File::from(from), (cut, &woken), &sending, &mut beside);
            let _ = tunnel.frame(END, stream, &[]);
            locked(&tunnel.0.streams).sending.remove(&stream);
            locked(&sending.state).done = true;
            sending.changed.notify_all();
            if let Some(at_end) = at_end {
                at_end();
            }
        });
    }

    fn pump(
        &self,
        stream: u32,
        from: &File,
        (cut, woken): (Cut, &OwnedFd),
        sending: &Sending,
        beside: &mut Option<Beside>,
    ) {
        let mut buffer = vec![0; FRAME];
        loop {
            let Some(room) = sending.room(if cut == Cut::Datagrams { FRAME } else { 1 }) else { return };
            if let Some(beside) = beside {
                beside();
            }
            let mut watched = [PollFd::new(from, PollFlags::IN), PollFd::new(woken, PollFlags::IN)];
            match poll(&mut watched, beside.is_some().then_some(&GLANCE)) {
                Ok(_) | Err(rustix::io::Errno::INTR) => {}
                Err(_) => return,
            }
            let has_hung_up = watched[0].revents().contains(PollFlags::HUP);
            let [readable, stopped] = watched.map(|watched| !watched.revents().is_empty());
            if stopped {
                return;
            }
            if !readable {
                continue;
            }
            locked(&sending.state).busy = true;
            let room = room.min(buffer.len());
            let outcome = match (&*from).read(&mut buffer[..room]) {
                // A datagram may be empty; nobody is told of that one.
                Ok(0) if cut == Cut::Datagrams && !has_hung_up => None,
                Ok(0) => Some(false),
                Ok(count) => Some(self.frame(BYTES, stream, &buffer[..count]).is_ok()).inspect(|_| {
                    let mut state = locked(&sending.state);
                    state.left -= count;
                    state.sent += count as u64;
                }),
                Err(error) if matches!(error.kind(), io::ErrorKind::Interrupted | io::ErrorKind::WouldBlock) => None,
                Err(error) if cut == Cut::Datagrams && is_for_one(&error) => None,
                // The outer end of a terminal that nobody has open any more.
                Err(_) => Some(false),
            };
            locked(&sending.state).busy = false;
            sending.changed.notify_all();
            if outcome == Some(false) {
                return;
            }
        }
    }

    /// Has a stream come that is written to a descriptor, from when the other end begins to send it.
    /// When it ends and is one half of a connection, whoever reads at the other side learns of it, though the other
    /// half is open.
    pub(crate) fn receive_into(&self, stream: u32, to: OwnedFd, is_half: bool) {
        let (parts, coming) = mpsc::channel::<Option<Vec<u8>>>();
        let progress = Arc::new(Progress::default());
        {
            let mut streams = locked(&self.0.streams);
            if streams.closed {
                return;
            }
            if streams.receiving.len() >= MOST {
                drop(streams);
                return self.refuse(stream);
            }
            streams.receiving.insert(stream, Receiving { parts, progress: Arc::clone(&progress) });
        }
        let tunnel = self.clone();
        thread::spawn(move || {
            let to = File::from(to);
            let mut broken = false;
            while let Ok(Some(bytes)) = coming.recv() {
                if !broken && write_whole(&to, &bytes).is_err_and(|error| !is_for_one(&error)) {
                    broken = true;
                    let _ = tunnel.frame(BROKEN, stream, &[]);
                }
                progress.pass(bytes.len());
                let count = (bytes.len() as u32).to_le_bytes();
                let _ = tunnel.frame(LEAVE, stream, &count);
            }
            if is_half {
                let _ = rustix::net::shutdown(&to, rustix::net::Shutdown::Write);
            }
            drop(to);
            locked(&tunnel.0.streams).receiving.remove(&stream);
            locked(&progress.state).done = true;
            progress.changed.notify_all();
        });
    }

    /// Stops a stream that we send, whatever is still to come.
    pub(crate) fn stop(&self, stream: u32) {
        if let Some(sending) = locked(&self.0.streams).sending.get(&stream) {
            sending.stop();
        }
    }

    /// Tells the sender of a stream that nobody takes it any more.
    pub(crate) fn refuse(&self, stream: u32) {
        let _ = self.frame(BROKEN, stream, &[]);
    }

    /// Waits until everything that came in a stream so far was passed on, or nobody takes it any more.
    pub(crate) fn passed_on(&self, stream: u32) {
        let Some(progress) = locked(&self.0.streams).receiving.get(&stream).map(|one| Arc::clone(&one.progress)) else {
            return;
        };
        let mut state = locked(&progress.state);
        let goal = state.came;
        while !state.done && state.passed < goal {
            state = progress.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Waits until what can be read now for a stream that we send is sent, but not for ever: others may write on.
    pub(crate) fn caught_up(&self, stream: u32, from: &OwnedFd, is_terminal: bool, limit: Duration) {
        let Some(sending) = locked(&self.0.streams).sending.get(&stream).cloned() else { return };
        let waiting = rustix::io::ioctl_fionread(from).unwrap_or(0);
        let (goal, until) = (locked(&sending.state).sent + waiting, Instant::now() + limit);
        loop {
            let state = locked(&sending.state);
            let quiet = is_terminal && !state.busy && !is_readable(from);
            if state.done || state.stopped || (!is_terminal && !state.busy && state.sent >= goal) || quiet {
                return;
            }
            // What waits for whoever reads it outside is waited for; what is written on and on is not.
            if is_terminal && Instant::now() > until {
                return;
            }
            drop(sending.changed.wait_timeout(state, Duration::from_millis(2)));
        }
    }

    /// Has nothing come in a stream that was announced in vain.
    pub(crate) fn forget(&self, stream: u32) {
        if let Some(receiving) = locked(&self.0.streams).receiving.get(&stream) {
            let _ = receiving.parts.send(None);
        }
    }

    /// Takes what comes, until the other end is gone or does what it may not; then all streams end.
    pub(crate) fn attend<M: DeserializeOwned>(&self, mut from: impl io::Read, mut on_message: impl FnMut(M)) {
        let outcome: io::Result<()> = (|| {
            let mut header = [0; 9];
            loop {
                from.read_exact(&mut header)?;
                let number =
                    |at: usize| u32::from_le_bytes([header[at], header[at + 1], header[at + 2], header[at + 3]]);
                let (stream, length) = (number(1), number(5) as usize);
                let most = if header[0] == MESSAGE { LONGEST } else { FRAME };
                if length > most {
                    return Err(io::ErrorKind::InvalidData.into());
                }
                let mut bytes = vec![0; length];
                from.read_exact(&mut bytes)?;
                match header[0] {
                    MESSAGE => on_message(serde_json::from_slice(&bytes)?),
                    kind => self.take(kind, stream, bytes)?,
                }
            }
        })();
        drop(outcome);
        self.close();
    }

    fn take(&self, kind: u8, stream: u32, bytes: Vec<u8>) -> io::Result<()> {
        let streams = locked(&self.0.streams);
        match kind {
            BYTES => {
                let Some(receiving) = streams.receiving.get(&stream) else { return Ok(()) };
                if !receiving.progress.come(bytes.len()) {
                    return Err(io::ErrorKind::InvalidData.into());
                }
                let _ = receiving.parts.send(Some(bytes));
            }
            LEAVE => {
                let count = <[u8; 4]>::try_from(bytes).map_err(|_| io::Error::from(io::ErrorKind::InvalidData))?;
                if let Some(sending) = streams.sending.get(&stream) {
                    let mut state = locked(&sending.state);
                    state.left = state.left.saturating_add(u32::from_le_bytes(count) as usize).min(WINDOW);
                    sending.changed.notify_all();
                }
            }
            END => {
                if let Some(receiving) = streams.receiving.get(&stream) {
                    let _ = receiving.parts.send(None);
                }
            }
            BROKEN => {
                if let Some(sending) = streams.sending.get(&stream) {
                    sending.stop();
                }
            }
            _ => return Err(io::ErrorKind::InvalidData.into()),
        }
        Ok(())
    }

    fn close(&self) {
        // Whoever is held back finds the other end gone.
        locked(&self.0.out).held = false;
        self.0.open.notify_all();
        let mut streams = locked(&self.0.streams);
        streams.closed = true;
        streams.sending.values().for_each(|sending| sending.stop());
        // Their threads end when the last sender is gone.
        streams.receiving.clear();
    }
}

impl Sending {
    /// How many bytes may be sent, once it is at least so many; `None` when it is to stop.
    fn room(&self, least: usize) -> Option<usize> {
        let mut state = locked(&self.state);
        while !state.stopped && state.left < least {
            state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
        (!state.stopped).then_some(state.left)
    }

    fn stop(&self) {
        locked(&self.state).stopped = true;
        drop(locked(&self.stop).take());
        self.changed.notify_all();
    }
}

impl Progress {
    /// Counts what came; false when it is more than may be on its way.
    fn come(&self, count: usize) -> bool {
        let mut state = locked(&self.state);
        state.came += count as u64;
        state.came - state.passed <= WINDOW as u64
    }

    fn pass(&self, count: usize) {
        locked(&self.state).passed += count as u64;
        self.changed.notify_all();
    }
}

/// Whether an error is about one message, and nothing is known of the next: the one who asked a file system does not
/// wait any more (fuse(4)), or nobody took an earlier datagram (udp(7)).
fn is_for_one(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::ConnectionRefused)
}

fn is_readable(fd: &OwnedFd) -> bool {
    let mut watched = [PollFd::new(fd, PollFlags::IN)];
    matches!(poll(&mut watched, Some(&Timespec { tv_sec: 0, tv_nsec: 0 })), Ok(1..))
        && watched[0].revents().contains(PollFlags::IN)
}

/// Writes all of it, also to what somebody else has made not to wait.
fn write_whole(to: &File, bytes: &[u8]) -> io::Result<()> {
    let mut rest = bytes;
    while !rest.is_empty() {
        match rustix::io::write(to, rest) {
            Ok(count) => rest = &rest[count..],
            Err(rustix::io::Errno::INTR) => {}
            Err(rustix::io::Errno::AGAIN) => {
                let _ = poll(&mut [PollFd::new(&to.as_fd(), PollFlags::OUT)], None);
            }
            Err(error) => return Err(error.into()),
        }
    }
    Ok(())
}
