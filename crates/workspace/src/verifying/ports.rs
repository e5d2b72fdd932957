//! Which ports really carry.

use std::collections::BTreeMap;
use std::io::{self, Read as _, Write as _};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::time::Duration;

use cavrith_core::arrangement::{Arrangement, PortPart};
use cavrith_core::spec::Protocol;
use cavrith_sandbox::net::Connector;

use cavrith_keeper::ports::{Carried, Forward};

/// What came of measuring ports: those that carry, in the words of the arrangement, and why others could not be
/// measured.
#[derive(Debug, Default)]
pub(super) struct Ports {
    pub carried: BTreeMap<String, String>,
    pub unmeasured: Vec<String>,
}

/// Why a port is not known to carry.
enum Fault {
    /// What was sent to it did not arrive.
    Lost,
    /// This machine, not the port, is in the way.
    Machine(io::Error),
}

/// Tries every port: something listens inside, and what is sent to the port outside arrives there. Each is tried alone,
/// so that one that cannot be measured keeps no other from it.
pub(super) fn measure(arrangement: &Arrangement, connector: &Connector) -> Ports {
    let mut ports = Ports::default();
    if arrangement.ports.is_empty() {
        return ports;
    }
    if let Err(error) = own_loopback() {
        ports.unmeasured.push(format!("this machine's own loopback carries nothing ({error})"));
    }
    for part in &arrangement.ports {
        let text = arrangement.setup.ports.get(&part.name).cloned();
        // Of what was not measured nothing is said.
        let mut described = || ports.carried.extend(text.clone().map(|text| (part.name.clone(), text)));
        if !ports.unmeasured.is_empty() {
            described();
            continue;
        }
        let anywhere = PortPart { exact: false, ..part.clone() };
        let outcome = Forward::begin(std::slice::from_ref(&anywhere), connector)
            .map_err(|error| Fault::Machine(io::Error::other(error.to_string())))
            .and_then(|forward| forward.carried().iter().try_for_each(|port| arrives(connector, port)));
        match outcome {
            Ok(()) => described(),
            Err(Fault::Lost) => {}
            Err(Fault::Machine(error)) => {
                described();
                ports.unmeasured.push(format!("{}: {error}", part.name));
            }
        }
    }
    ports
}

fn arrives(connector: &Connector, port: &Carried) -> Result<(), Fault> {
    let address = port.addresses.first().copied().unwrap_or(IpAddr::V4(Ipv4Addr::LOCALHOST));
    let address = if address.is_unspecified() { IpAddr::V4(Ipv4Addr::LOCALHOST) } else { address };
    (0..port.count.max(1)).try_for_each(|offset| {
        let (inside, outside) = (port.inside + offset, SocketAddr::new(address, port.outside + offset));
        match port.protocol {
            Protocol::Tcp => carries(connector, inside, outside),
            Protocol::Udp => carries_datagrams(connector, inside, outside),
        }
    })
}

/// Whether this machine's loopback carries a connection that no port of ours has to do with.
fn own_loopback() -> io::Result<()> {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?;
    TcpStream::connect_timeout(&listener.local_addr()?, PATIENCE).map(drop)
}

/// How long something has to arrive.
const PATIENCE: Duration = Duration::from_secs(5);

/// What is sent to find out whether it arrives.
fn token(inside: u16) -> String {
    format!("cavrith {inside} {}\n", std::process::id())
}

fn carries(connector: &Connector, inside: u16, outside: SocketAddr) -> Result<(), Fault> {
    let token = token(inside);
    let listener = connector.listen(inside).map_err(Fault::Machine)?;
    let sent = TcpStream::connect_timeout(&outside, PATIENCE).and_then(|mut ours| {
        ours.write_all(token.as_bytes())?;
        ours.shutdown(std::net::Shutdown::Write)?;
        let mut theirs = accept_soon(&listener)?;
        theirs.set_read_timeout(Some(PATIENCE))?;
        let mut arrived = String::new();
        theirs.read_to_string(&mut arrived)?;
        Ok(arrived)
    });
    if sent.is_ok_and(|arrived| arrived == token) { Ok(()) } else { Err(Fault::Lost) }
}

fn carries_datagrams(connector: &Connector, inside: u16, outside: SocketAddr) -> Result<(), Fault> {
    let token = token(inside);
    let theirs = connector.listen_datagrams(inside).map_err(Fault::Machine)?;
    let ours = UdpSocket::bind((if outside.is_ipv6() { "::1" } else { "127.0.0.1" }, 0)).map_err(Fault::Machine)?;
    let mut buffer = [0; 256];
    let answered = theirs.set_read_timeout(Some(PATIENCE)).and_then(|()| {
        ours.send_to(token.as_bytes(), outside)?;
        let (length, sender) = theirs.recv_from(&mut buffer)?;
        // And the answer comes back to anyone who asked.
        theirs.send_to(&buffer[..length], sender)?;
        ours.set_read_timeout(Some(PATIENCE))?;
        ours.recv(&mut buffer)
    });
    if answered.is_ok_and(|length| buffer[..length] == *token.as_bytes()) { Ok(()) } else { Err(Fault::Lost) }
}

/// A connection that arrives within some seconds.
fn accept_soon(listener: &TcpListener) -> io::Result<TcpStream> {
    listener.set_nonblocking(true)?;
    for _ in 0..250 {
        match listener.accept() {
            Ok((stream, _)) => {
                stream.set_nonblocking(false)?;
                return Ok(stream);
            }
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => std::thread::sleep(Duration::from_millis(20)),
            Err(error) => return Err(error),
        }
    }
    Err(io::ErrorKind::TimedOut.into())
}
