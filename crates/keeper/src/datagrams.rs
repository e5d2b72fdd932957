//! Carrying datagrams to a port inside, and the answers back to the sender.

use std::collections::HashMap;
use std::io;
use std::net::{SocketAddr, UdpSocket};
use std::sync::{Arc, Mutex, Weak};
use std::thread;
use std::time::{Duration, Instant};

use rustix::io::Errno;
use rustix::net::{RecvFlags, Shutdown};

use cavrith_sandbox::locked;
use cavrith_sandbox::net::Connector;

/// The longest datagram (RFC 768: the length is a number of 16 bits).
const LONGEST: usize = 65_536;
/// Senders that are answered at once; of more, the one that was silent longest is forgotten.
const MOST: usize = 512;
/// How long answers are carried back to a sender that is silent.
const SILENCE: Duration = Duration::from_secs(120);

/// A sender outside, and the socket inside that stands for it.
struct Peer {
    inner: Arc<UdpSocket>,
    heard: Instant,
}

type Peers = Arc<Mutex<HashMap<SocketAddr, Peer>>>;

/// Who sent datagrams to one socket, and is answered.
#[derive(Default)]
pub(crate) struct Exchange {
    peers: Peers,
}

impl Exchange {
    /// Carries the datagrams that have arrived at `outer`, which does not block, to a port inside.
    pub(crate) fn take(&self, outer: &Arc<UdpSocket>, connector: &Connector, inside: u16) {
        let mut buffer = vec![0; LONGEST];
        // Other ports have their turn, too.
        for _ in 0..MOST {
            let (length, sender) = match rustix::net::recvfrom(outer, buffer.as_mut_slice(), RecvFlags::empty()) {
                Ok((length, _, sender)) => match sender.map(SocketAddr::try_from) {
                    Some(Ok(sender)) => (length, sender),
                    // A socket that was shut down reads as an empty datagram of nobody.
                    _ => return,
                },
                // Of somebody who was answered and has ended.
                Err(Errno::INTR | Errno::CONNREFUSED) => continue,
                Err(_) => return,
            };
            let Some(inner) = peer(&self.peers, outer, connector, inside, sender) else { continue };
            // Nobody listens inside, or it was frozen for long: a datagram may be lost.
            let _ = inner.send(&buffer[..length]);
        }
    }

    /// Forgets everybody.
    pub(crate) fn end(&self) {
        for (_, peer) in locked(&self.peers).drain() {
            peer.end();
        }
    }
}

impl Peer {
    /// Wakes the thread that carries its answers, which then sees that it is forgotten.
    fn end(&self) {
        let _ = rustix::net::shutdown(&self.inner, Shutdown::Both);
    }
}

/// The socket inside that stands for a sender.
fn peer(
    peers: &Peers,
    outer: &Arc<UdpSocket>,
    connector: &Connector,
    inside: u16,
    sender: SocketAddr,
) -> Option<Arc<UdpSocket>> {
    let mut known = locked(peers);
    if let Some(peer) = known.get_mut(&sender) {
        peer.heard = Instant::now();
        return Some(Arc::clone(&peer.inner));
    }
    if known.len() >= MOST {
        let oldest = known.iter().min_by_key(|(_, peer)| peer.heard).map(|(sender, _)| *sender);
        if let Some(oldest) = oldest.and_then(|oldest| known.remove(&oldest)) {
            oldest.end();
        }
    }
    let inner = Arc::new(connector.datagrams(inside).ok()?);
    inner.set_read_timeout(Some(Duration::from_secs(5))).ok()?;
    known.insert(sender, Peer { inner: Arc::clone(&inner), heard: Instant::now() });
    // The port outside is free again as soon as nobody carries to it, no matter who may still answer.
    let (peers, outer, answers) = (Arc::clone(peers), Arc::downgrade(outer), Arc::clone(&inner));
    let carrier = thread::Builder::new().spawn(move || carry_back(&peers, &outer, &answers, sender));
    if carrier.is_err() {
        known.remove(&sender);
    }
    carrier.ok().map(|_| inner)
}

/// Carries answers back until the sender is forgotten.
fn carry_back(peers: &Peers, outer: &Weak<UdpSocket>, inner: &Arc<UdpSocket>, sender: SocketAddr) {
    let mut buffer = vec![0; LONGEST];
    loop {
        let received = inner.recv(&mut buffer);
        let mut peers = locked(peers);
        let known = peers.get(&sender).filter(|peer| Arc::ptr_eq(&peer.inner, inner));
        let (Some(known), Some(outer)) = (known, outer.upgrade()) else { return };
        match received {
            Ok(length) => {
                drop(peers);
                let _ = outer.send_to(&buffer[..length], sender);
            }
            Err(error) => {
                let waited = matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut);
                let refused = error.kind() == io::ErrorKind::ConnectionRefused;
                if known.heard.elapsed() > SILENCE || !(waited || refused) {
                    peers.remove(&sender);
                    return;
                }
            }
        }
    }
}
