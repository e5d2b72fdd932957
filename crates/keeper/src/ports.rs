//! Carrying connections and datagrams from ports outside to ports inside.
//!
//! Each port listens on the IPv4 and the IPv6 loopback outside, unless the spec names an address. Bytes of connections
//! go through a pipe in the kernel (splice(2)) and are never copied into this process.

use std::collections::BTreeMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, TcpListener, UdpSocket};
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use cavrith_core::arrangement::PortPart;
use cavrith_core::spec::Protocol;
use cavrith_sandbox::net::Connector;

use cavrith_engine::error::file_error;

use crate::KeeperError;
use crate::acceptor::{Acceptor, Outer};

/// Ports that are tried after the wanted one.
const TRIES: u16 = 100;

/// Ports that are carried, until this value is dropped. Connections that are open then go on.
#[derive(Debug)]
pub struct Forward {
    /// Numbers outside that the member has for some, by name.
    own: BTreeMap<String, u16>,
    acceptor: Acceptor,
    carriers: BTreeMap<String, Carrier>,
}

/// One port, or a row of them, that is carried.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Carried {
    /// Its name.
    pub name: String,
    /// What is carried.
    pub protocol: Protocol,
    /// The first port inside.
    pub inside: u16,
    /// The first port outside that was wanted.
    pub wanted: u16,
    /// The first port outside that it got.
    pub outside: u16,
    /// How many in a row.
    pub count: u16,
    /// The addresses outside.
    pub addresses: Vec<IpAddr>,
}

impl Carried {
    /// The first address and port, as it is typed: `127.0.0.1:8080`, `[::1]:8080`; in a row with the last one:
    /// `127.0.0.1:8000-8009`.
    pub fn shown(&self) -> String {
        let address = self.addresses.first().copied().unwrap_or(IpAddr::V4(Ipv4Addr::LOCALHOST));
        let first = std::net::SocketAddr::new(address, self.outside).to_string();
        match self.count {
            0 | 1 => first,
            count => format!("{first}-{}", self.outside.saturating_add(count - 1)),
        }
    }

    /// Where a browser finds it.
    pub fn url(&self) -> String {
        let here = self.addresses.first().is_none_or(|address| address.is_loopback() || address.is_unspecified());
        if here { format!("http://localhost:{}/", self.outside) } else { format!("http://{}/", self.shown()) }
    }
}

/// What listens outside for one entry of the spec.
#[derive(Debug)]
struct Carrier {
    part: PortPart,
    carried: Carried,
    /// The numbers of its sockets.
    sockets: Vec<u64>,
}

impl Forward {
    /// Begins to carry ports, at the numbers that they have.
    ///
    /// # Errors
    /// As [`Self::begin_at`].
    pub fn begin(ports: &[PortPart], connector: &Connector) -> Result<Self, KeeperError> {
        Self::begin_at(ports, &BTreeMap::new(), connector)
    }

    /// Begins to carry ports; those whose names are in `own` at the member's numbers outside.
    ///
    /// # Errors
    /// When a port is taken that has to be exactly that one, or none is free.
    pub fn begin_at(
        ports: &[PortPart],
        own: &BTreeMap<String, u16>,
        connector: &Connector,
    ) -> Result<Self, KeeperError> {
        let acceptor = Acceptor::begin(connector).map_err(file_error("wait at", "the ports outside"))?;
        let mut forward = Self { acceptor, own: own.clone(), carriers: BTreeMap::new() };
        for port in ports {
            forward.add(port)?;
        }
        Ok(forward)
    }

    /// What is reachable where, in the order of names.
    pub fn carried(&self) -> Vec<Carried> {
        self.carriers.values().map(|carrier| carrier.carried.clone()).collect()
    }

    /// Carries these ports instead. What stays as it is keeps its port and its connections.
    ///
    /// # Errors
    /// As [`Self::begin`]; the ports that could be carried are.
    pub fn change(&mut self, ports: &[PortPart]) -> Result<(), KeeperError> {
        let (stay, gone) =
            std::mem::take(&mut self.carriers).into_iter().partition(|(_, carrier)| ports.contains(&carrier.part));
        self.carriers = stay;
        let gone: BTreeMap<String, Carrier> = gone;
        gone.values().for_each(|carrier| self.let_go(&carrier.sockets));
        let mut outcome = Ok(());
        for port in ports {
            if !self.carriers.contains_key(&port.name)
                && let Err(error) = self.add(port)
            {
                outcome = Err(error);
            }
        }
        outcome
    }

    fn add(&mut self, port: &PortPart) -> Result<(), KeeperError> {
        // A member's own number counts on their machine; whether it is free is as it is with the team's.
        let wanted = self.own.get(&port.name).copied().unwrap_or(port.outside);
        let (outside, listeners) = listen(port, wanted)?;
        let (mut addresses, mut sockets) = (Vec::new(), Vec::new());
        for (offset, listener) in listeners {
            let inside = port.inside.saturating_add(offset);
            let address = match &listener {
                Outer::Connections(listener) => listener.local_addr(),
                Outer::Datagrams(socket) => socket.local_addr(),
            };
            if let (0, Ok(address)) = (offset, address) {
                addresses.push(address.ip());
            }
            match self.acceptor.add(listener, inside) {
                Ok(socket) => sockets.push(socket),
                Err(source) => {
                    self.let_go(&sockets);
                    let (name, bind) = (port.name.clone(), String::new());
                    return Err(KeeperError::PortRefused { name, outside, bind, source });
                }
            }
        }
        let carried = Carried {
            name: port.name.clone(),
            protocol: port.protocol,
            inside: port.inside,
            wanted,
            outside,
            count: port.count,
            addresses,
        };
        self.carriers.insert(port.name.clone(), Carrier { part: port.clone(), carried, sockets });
        Ok(())
    }

    fn let_go(&self, sockets: &[u64]) {
        sockets.iter().for_each(|socket| self.acceptor.remove(*socket));
    }
}

/// Listeners with the position in the row that each is for.
type Listeners = Vec<(u16, Outer)>;

/// Listens on the wanted row of ports or the next one that is free.
fn listen(port: &PortPart, wanted: u16) -> Result<(u16, Listeners), KeeperError> {
    let highest = u16::MAX - port.count.saturating_sub(1);
    let last = wanted.saturating_add(TRIES).min(highest);
    for outside in wanted..=last {
        match listen_on(port, outside) {
            Ok(Some(listeners)) => return Ok((outside, listeners)),
            Ok(None) if port.exact => return Err(KeeperError::PortTaken { name: port.name.clone(), outside }),
            Ok(None) => {}
            Err(source) => {
                let bind = port.bind.map_or_else(String::new, |bind| format!(" at {bind}"));
                return Err(KeeperError::PortRefused { name: port.name.clone(), outside, bind, source });
            }
        }
    }
    Err(KeeperError::NoFreePort { name: port.name.clone(), outside: wanted, last })
}

/// Listeners at every address, or `None` when a port is taken at one of them. A machine without IPv6 has only one
/// address.
fn listen_on(port: &PortPart, first: u16) -> io::Result<Option<Listeners>> {
    let addresses = match port.bind {
        Some(bind) => vec![bind],
        None => vec![IpAddr::V4(Ipv4Addr::LOCALHOST), IpAddr::V6(Ipv6Addr::LOCALHOST)],
    };
    let mut listeners = Vec::new();
    for offset in 0..port.count.max(1) {
        for (position, address) in addresses.iter().enumerate() {
            let at = (*address, first.saturating_add(offset));
            let listener = match port.protocol {
                Protocol::Tcp => TcpListener::bind(at).map(|listener| Outer::Connections(Arc::new(listener))),
                Protocol::Udp => UdpSocket::bind(at).map(|socket| Outer::Datagrams(Arc::new(socket))),
            };
            match listener {
                Ok(listener) => listeners.push((offset, listener)),
                Err(error) if error.kind() == io::ErrorKind::AddrInUse => return Ok(None),
                Err(error) if position == 0 => return Err(error),
                Err(_) => {}
            }
        }
    }
    Ok(Some(listeners))
}

impl Drop for Forward {
    fn drop(&mut self) {
        let sockets: Vec<_> = self.carriers.values().flat_map(|carrier| carrier.sockets.clone()).collect();
        self.let_go(&sockets);
    }
}
