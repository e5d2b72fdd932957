//! Carrying datagrams to a port inside, and the answers back to whoever sent them.

use std::collections::HashMap;
use std::io;
use std::net::{SocketAddr, UdpSocket};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

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

/// Carries datagrams that arrive at `outer` to a port inside, until the socket is shut down.
pub(crate) fn carry(outer: &Arc<UdpSocket>, connector: &Connector, inside: u16) {
    let peers = Peers::default();
    let mut buffer = vec![0; LONGEST];
    loop {
        let (length, sender) = match outer.recv_from(&mut buffer) {
            // A socket that was shut down reads as an empty datagram of nobody.
            Ok((0, sender)) if sender.port() == 0 => return,
            Ok(received) => received,
            Err(error) if error.kind() == io::ErrorKind::InvalidInput => return,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            // Of somebody who was answered and is gone, or of a kernel that is short of memory.
            Err(_) => {
                thread::sleep(Duration::from_millis(1));
                continue;
            }
        };
        let Some(inner) = peer(&peers, outer, connector, inside, sender) else { continue };
        // Nobody listens inside, or it was frozen for long: a datagram may be lost.
        let _ = inner.send(&buffer[..length]);
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
    let mut known = peers.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(peer) = known.get_mut(&sender) {
        peer.heard = Instant::now();
        return Some(Arc::clone(&peer.inner));
    }
    if known.len() >= MOST {
        let oldest = known.iter().min_by_key(|(_, peer)| peer.heard).map(|(sender, _)| *sender);
        oldest.and_then(|oldest| known.remove(&oldest));
    }
    let inner = Arc::new(connector.datagrams(inside).ok()?);
    inner.set_read_timeout(Some(Duration::from_secs(5))).ok()?;
    known.insert(sender, Peer { inner: Arc::clone(&inner), heard: Instant::now() });
    let (peers, outer, answers) = (Arc::clone(peers), Arc::clone(outer), Arc::clone(&inner));
    let carrier = thread::Builder::new().spawn(move || carry_back(&peers, &outer, &answers, sender));
    if carrier.is_err() {
        known.remove(&sender);
    }
    carrier.ok().map(|_| inner)
}

/// Carries answers back until the sender is forgotten.
fn carry_back(peers: &Peers, outer: &UdpSocket, inner: &Arc<UdpSocket>, sender: SocketAddr) {
    let mut buffer = vec![0; LONGEST];
    loop {
        match inner.recv(&mut buffer) {
            Ok(length) => {
                let _ = outer.send_to(&buffer[..length], sender);
            }
            Err(error) => {
                let waited = matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut);
                let mut peers = peers.lock().unwrap_or_else(PoisonError::into_inner);
                let known = peers.get(&sender).filter(|peer| Arc::ptr_eq(&peer.inner, inner));
                let Some(known) = known else { return };
                let refused = error.kind() == io::ErrorKind::ConnectionRefused;
                if known.heard.elapsed() > SILENCE || !(waited || refused) {
                    peers.remove(&sender);
                    return;
                }
            }
        }
    }
}
