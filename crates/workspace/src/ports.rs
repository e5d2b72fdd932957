//! Carrying connections from ports outside to ports inside.
//!
//! Each port listens on the IPv4 and the IPv6 loopback outside. Bytes go through a pipe in the kernel (splice(2)) and are never
//! copied into this process.

use std::io;
use std::net::{Ipv4Addr, Ipv6Addr, Shutdown, TcpListener, TcpStream};
use std::os::fd::AsFd as _;
use std::sync::Arc;
use std::thread;

use rustix::pipe::{PipeFlags, SpliceFlags};

use cavrith_core::spec::Port;
use cavrith_sandbox::net::Connector;

use crate::WorkspaceError;

/// Ports that are tried after the wanted one.
const TRIES: u16 = 100;
/// Bytes that are carried at once.
const CHUNK: usize = 1 << 20;

/// Ports that are carried, until this value is dropped. Connections that are open then go on.
#[derive(Debug)]
pub struct Forward {
    /// What is reachable where.
    pub ports: Vec<Carried>,
    listeners: Vec<Arc<TcpListener>>,
}

/// One port that is carried.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Carried {
    /// Its name.
    pub name: String,
    /// The port inside.
    pub inside: u16,
    /// The port outside that was wanted.
    pub wanted: u16,
    /// The port outside that it got.
    pub outside: u16,
}

impl Forward {
    /// Begins to carry ports.
    ///
    /// # Errors
    /// When a port is taken that has to be exactly that one, or none is free.
    pub fn begin(ports: &[Port], connector: &Connector) -> Result<Self, WorkspaceError> {
        let mut forward = Self { ports: Vec::new(), listeners: Vec::new() };
        for port in ports {
            let (outside, listeners) = listen(port)?;
            let inside = port.inside.value;
            for listener in listeners {
                let (ours, connector) = (Arc::new(listener), connector.clone());
                forward.listeners.push(Arc::clone(&ours));
                thread::spawn(move || accept(&ours, &connector, inside));
            }
            let carried = Carried { name: port.name.value.clone(), inside, wanted: port.outside.value, outside };
            forward.ports.push(carried);
        }
        Ok(forward)
    }
}

impl Drop for Forward {
    fn drop(&mut self) {
        for listener in &self.listeners {
            // Wakes the thread that waits in accept, which then ends.
            let _ = rustix::net::shutdown(listener.as_fd(), rustix::net::Shutdown::Both);
        }
    }
}

/// Listens on the wanted port or the next free one, on both loopbacks.
fn listen(port: &Port) -> Result<(u16, Vec<TcpListener>), WorkspaceError> {
    let wanted = port.outside.value;
    let last = wanted.saturating_add(TRIES);
    for outside in wanted..=last {
        if let Some(listeners) = listen_on(outside) {
            return Ok((outside, listeners));
        }
        if port.exact {
            return Err(WorkspaceError::PortTaken { name: port.name.value.clone(), outside });
        }
    }
    Err(WorkspaceError::NoFreePort { name: port.name.value.clone(), outside: wanted, last })
}

/// Listeners on both loopbacks, or `None` when the port is taken on one of them. A machine without IPv6 has only one.
fn listen_on(outside: u16) -> Option<Vec<TcpListener>> {
    let four = TcpListener::bind((Ipv4Addr::LOCALHOST, outside)).ok()?;
    match TcpListener::bind((Ipv6Addr::LOCALHOST, outside)) {
        Ok(six) => Some(vec![four, six]),
        Err(error) if error.kind() == io::ErrorKind::AddrInUse => None,
        Err(_) => Some(vec![four]),
    }
}

fn accept(listener: &TcpListener, connector: &Connector, inside: u16) {
    loop {
        match listener.accept() {
            Ok((outer, _)) => {
                let connector = connector.clone();
                thread::spawn(move || {
                    // Nobody listens inside: the connection is closed, as it would be if nobody listened here.
                    if let Ok(inner) = connector.connect(inside) {
                        carry(outer, inner);
                    }
                });
            }
            // The listener was shut down.
            Err(error) if error.kind() == io::ErrorKind::InvalidInput => return,
            // Too many descriptors, or a connection that was given up already; the next may fare better.
            Err(_) => thread::sleep(std::time::Duration::from_millis(20)),
        }
    }
}

/// Carries both directions until both have ended.
fn carry(outer: TcpStream, inner: TcpStream) {
    let (outer, inner) = (Arc::new(outer), Arc::new(inner));
    let back = {
        let (outer, inner) = (Arc::clone(&outer), Arc::clone(&inner));
        thread::spawn(move || one_way(&inner, &outer))
    };
    one_way(&outer, &inner);
    let _ = back.join();
}

/// Carries one direction. When it ends, or either side breaks, the other side is told.
fn one_way(from: &TcpStream, to: &TcpStream) {
    let _ = splice_all(from, to);
    let _ = to.shutdown(Shutdown::Write);
    let _ = from.shutdown(Shutdown::Read);
}

fn splice_all(from: &TcpStream, to: &TcpStream) -> io::Result<()> {
    let (out, into) = rustix::pipe::pipe_with(PipeFlags::CLOEXEC)?;
    // Best effort: a user's share of pipe memory may be used up, and the usual size does too.
    let _ = rustix::pipe::fcntl_setpipe_size(&into, CHUNK);
    loop {
        let mut left = match rustix::pipe::splice(from, None, &into, None, CHUNK, SpliceFlags::MOVE) {
            Ok(0) => return Ok(()),
            Ok(count) => count,
            Err(rustix::io::Errno::INTR) => continue,
            Err(error) => return Err(error.into()),
        };
        while left > 0 {
            match rustix::pipe::splice(&out, None, to, None, left, SpliceFlags::MOVE) {
                Ok(count) => left -= count,
                Err(rustix::io::Errno::INTR) => {}
                Err(error) => return Err(error.into()),
            }
        }
    }
}
