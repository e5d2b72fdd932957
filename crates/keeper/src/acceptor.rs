//! One thread that waits at all ports of a workspace outside, however many there are.

use std::collections::HashMap;
use std::io;
use std::net::{TcpListener, UdpSocket};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::thread;
use std::time::Duration;

use rustix::event::epoll::{self, CreateFlags, EventData, EventFlags};
use rustix::pipe::PipeFlags;

use cavrith_sandbox::net::Connector;

use crate::datagrams::Exchange;
use crate::splicing::{Pair, carry};

/// The number of what ends the thread; ports have those after it.
const END: u64 = 0;

/// A socket outside.
#[derive(Debug, Clone)]
pub(crate) enum Outer {
    Connections(Arc<TcpListener>),
    Datagrams(Arc<UdpSocket>),
}

impl Outer {
    fn set_nonblocking(&self) -> io::Result<()> {
        match self {
            Self::Connections(listener) => listener.set_nonblocking(true),
            Self::Datagrams(socket) => socket.set_nonblocking(true),
        }
    }
}

impl AsFd for Outer {
    fn as_fd(&self) -> BorrowedFd<'_> {
        match self {
            Self::Connections(listener) => listener.as_fd(),
            Self::Datagrams(socket) => socket.as_fd(),
        }
    }
}

/// What is done for one socket.
struct Watched {
    outer: Outer,
    inside: u16,
    /// Who sent datagrams to it.
    exchange: Exchange,
    connections: Connections,
}

/// Connections that came to one socket, and have not ended.
#[derive(Default)]
struct Connections(Mutex<Open>);

#[derive(Default)]
struct Open {
    pairs: Vec<Weak<Pair>>,
    /// The port was taken away; what comes late ends at once.
    is_over: bool,
}

impl Connections {
    fn add(&self, pair: &Arc<Pair>) {
        let mut open = self.open();
        if open.is_over {
            return pair.end();
        }
        // Those that have ended are forgotten now and then.
        if open.pairs.len() == open.pairs.capacity() {
            open.pairs.retain(|pair| pair.strong_count() > 0);
        }
        open.pairs.push(Arc::downgrade(pair));
    }

    fn end(&self) {
        let mut open = self.open();
        open.is_over = true;
        open.pairs.drain(..).filter_map(|pair| pair.upgrade()).for_each(|pair| pair.end());
    }

    fn open(&self) -> MutexGuard<'_, Open> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Waits at ports until this value is dropped.
#[derive(Debug)]
pub(crate) struct Acceptor {
    shared: Arc<Shared>,
    /// Hangs up when this value is dropped.
    _open: OwnedFd,
}

struct Shared {
    epoll: OwnedFd,
    connector: Connector,
    ports: Mutex<Ports>,
}

impl std::fmt::Debug for Shared {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Shared").finish_non_exhaustive()
    }
}

#[derive(Default)]
struct Ports {
    last: u64,
    watched: HashMap<u64, Arc<Watched>>,
}

impl Acceptor {
    /// Begins to wait, at no port yet.
    ///
    /// # Errors
    /// When the machine has no thread or descriptor for it.
    pub(crate) fn begin(connector: &Connector) -> io::Result<Self> {
        let epoll = epoll::create(CreateFlags::CLOEXEC)?;
        let (end, open) = rustix::pipe::pipe_with(PipeFlags::CLOEXEC)?;
        epoll::add(&epoll, &end, EventData::new_u64(END), EventFlags::IN)?;
        let shared = Arc::new(Shared { epoll, connector: connector.clone(), ports: Mutex::default() });
        let theirs = Arc::clone(&shared);
        thread::Builder::new().name("ports".to_owned()).spawn(move || {
            theirs.wait();
            drop(end);
        })?;
        Ok(Self { shared, _open: open })
    }

    /// Waits at one more socket, for what goes to a port inside. The number is for [`Self::remove`].
    ///
    /// # Errors
    /// When the kernel refuses.
    pub(crate) fn add(&self, outer: Outer, inside: u16) -> io::Result<u64> {
        outer.set_nonblocking()?;
        let mut ports = self.shared.ports();
        ports.last += 1;
        let number = ports.last;
        epoll::add(&self.shared.epoll, &outer, EventData::new_u64(number), EventFlags::IN)?;
        ports.watched.insert(
            number,
            Arc::new(Watched { outer, inside, exchange: Exchange::default(), connections: Connections::default() }),
        );
        Ok(number)
    }

    /// Releases a socket, and ends what came through it.
    pub(crate) fn remove(&self, number: u64) {
        if let Some(watched) = self.shared.ports().watched.remove(&number) {
            let _ = epoll::delete(&self.shared.epoll, &watched.outer);
            // The port is free at once, no matter who still holds the socket for a moment.
            let _ = rustix::net::shutdown(&watched.outer, rustix::net::Shutdown::Both);
            watched.exchange.end();
            watched.connections.end();
        }
    }
}

impl Shared {
    fn ports(&self) -> MutexGuard<'_, Ports> {
        self.ports.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn wait(&self) {
        let mut events = Vec::with_capacity(64);
        loop {
            events.clear();
            match epoll::wait(&self.epoll, rustix::buffer::spare_capacity(&mut events), None) {
                Ok(_) | Err(rustix::io::Errno::INTR) => {}
                Err(_) => return,
            }
            for event in &events {
                let number = event.data.u64();
                if number == END {
                    return;
                }
                let watched = self.ports().watched.get(&number).cloned();
                let Some(watched) = watched else { continue };
                match &watched.outer {
                    Outer::Connections(listener) => self.accept(listener, &watched),
                    Outer::Datagrams(socket) => watched.exchange.take(socket, &self.connector, watched.inside),
                }
            }
        }
    }

    /// Takes everybody who waits.
    fn accept(&self, listener: &TcpListener, watched: &Arc<Watched>) {
        loop {
            match listener.accept() {
                Ok((outer, _)) => {
                    let (connector, watched) = (self.connector.clone(), Arc::clone(watched));
                    // Nobody listens inside: the connection is closed, as it would be if nobody listened here. So it is
                    // without a thread for it.
                    let _ = thread::Builder::new().spawn(move || {
                        if outer.set_nonblocking(false).is_ok()
                            && let Ok(inner) = connector.connect(watched.inside)
                        {
                            let pair = Arc::new(Pair { outer, inner });
                            watched.connections.add(&pair);
                            drop(watched);
                            carry(&pair);
                        }
                    });
                }
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return,
                // It was shut down.
                Err(error) if error.kind() == io::ErrorKind::InvalidInput => return,
                // Too many descriptors, or a connection that was given up already; the next may fare better.
                Err(_) => {
                    thread::sleep(Duration::from_millis(20));
                    return;
                }
            }
        }
    }
}
