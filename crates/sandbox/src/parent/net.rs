//! The network of the inside: a loopback of its own, and a way in from outside.

use std::io;
use std::net::{Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};
use std::sync::{Arc, mpsc};
use std::time::Duration;

use rustix::net::sockopt::Timeout;
use rustix::net::{AddressFamily, SocketFlags, SocketType};
use rustix::thread::LinkNameSpaceType;

use crate::guest::outer::{Came, Outer};

/// Starts the loopback interface of this process's network namespace.
pub(crate) fn loopback_up() -> io::Result<()> {
    start_device("lo")
}

fn start_device(device: &str) -> io::Result<()> {
    let socket = rustix::net::socket(AddressFamily::UNIX, SocketType::DGRAM, None)?;
    // SAFETY: ifreq is plain data, for which all zeros are a valid value.
    let mut request: libc::ifreq = unsafe { std::mem::zeroed() };
    for (to, from) in request.ifr_name.iter_mut().zip(device.bytes()) {
        *to = from as libc::c_char;
    }
    request.ifr_ifru.ifru_flags = (libc::IFF_UP | libc::IFF_RUNNING) as libc::c_short;
    // SAFETY: SIOCSIFFLAGS reads one ifreq, which lives until the call returns.
    let done = unsafe { libc::ioctl(socket.as_fd().as_raw_fd(), libc::SIOCSIFFLAGS, &request) };
    if done < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}

/// An IPv4 address as ioctls of the network take it (ip(7): two bytes of port come first).
fn socket_address(address: Ipv4Addr) -> libc::sockaddr {
    let mut data = [0; 14];
    for (to, from) in data[2..6].iter_mut().zip(address.octets()) {
        *to = from as libc::c_char;
    }
    libc::sockaddr { sa_family: libc::AF_INET as libc::sa_family_t, sa_data: data }
}

/// Gives a network device an address and the length of its network (netdevice(7)).
fn give_address(socket: &OwnedFd, device: &str, address: Ipv4Addr, mask: Ipv4Addr) -> io::Result<()> {
    for (call, value) in [(libc::SIOCSIFADDR, address), (libc::SIOCSIFNETMASK, mask)] {
        // SAFETY: ifreq is plain data, for which all zeros are a valid value.
        let mut request: libc::ifreq = unsafe { std::mem::zeroed() };
        for (to, from) in request.ifr_name.iter_mut().zip(device.bytes()) {
            *to = from as libc::c_char;
        }
        request.ifr_ifru.ifru_addr = socket_address(value);
        // SAFETY: both calls read one ifreq, which lives until they return.
        let done = unsafe { libc::ioctl(socket.as_fd().as_raw_fd(), call, &request) };
        if done < 0 {
            return Err(io::Error::last_os_error());
        }
    }
    Ok(())
}

/// Has the loopback interface of this process's network namespace answer for every IPv4 address: an address of it makes
/// the whole network of that address local (ip-route(8), type `local`), and two of one bit each are all there is.
pub(crate) fn loopback_is_everywhere() -> io::Result<()> {
    let socket = rustix::net::socket(AddressFamily::INET, SocketType::DGRAM, None)?;
    let half = Ipv4Addr::new(128, 0, 0, 0);
    give_address(&socket, "lo:1", Ipv4Addr::new(1, 0, 0, 1), half)?;
    give_address(&socket, "lo:2", Ipv4Addr::new(128, 0, 0, 1), half)
}

/// Gives a network device an address, starts it, and has everything else go by a gateway.
///
/// # Errors
/// When there is no such device, or the kernel refuses.
pub fn bring_up(device: &str, (address, mask): (Ipv4Addr, Ipv4Addr), gateway: Ipv4Addr) -> io::Result<()> {
    let socket = rustix::net::socket(AddressFamily::INET, SocketType::DGRAM, None)?;
    give_address(&socket, device, address, mask)?;
    start_device(device)?;
    // SAFETY: rtentry is plain data, for which all zeros are a valid value.
    let mut route: libc::rtentry = unsafe { std::mem::zeroed() };
    let anywhere = socket_address(Ipv4Addr::UNSPECIFIED);
    (route.rt_dst, route.rt_genmask, route.rt_gateway) = (anywhere, anywhere, socket_address(gateway));
    route.rt_flags = libc::RTF_UP | libc::RTF_GATEWAY;
    // SAFETY: SIOCADDRT reads one rtentry, which lives until the call returns (rtnetlink's forerunner, route(8)).
    let done = unsafe { libc::ioctl(socket.as_fd().as_raw_fd(), libc::SIOCADDRT, &route) };
    if done < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}

/// How long connecting to a port inside may take.
const PATIENCE: Duration = Duration::from_secs(10);

/// Something to be done in the inside's network.
enum NetRequest {
    Socket(AddressFamily, mpsc::Sender<io::Result<OwnedFd>>),
    Listen(Ipv4Addr, u16, mpsc::Sender<io::Result<TcpListener>>),
    Datagrams(u16, mpsc::Sender<io::Result<UdpSocket>>),
    ListenDatagrams(u16, mpsc::Sender<io::Result<UdpSocket>>),
    IsListened(u16, mpsc::Sender<io::Result<bool>>),
}

/// Connects to ports inside, from outside.
///
/// A socket belongs to the network namespace it was made in, no matter who uses it. So one thread of this process steps
/// into the inside's network, and makes the connections there that the others use.
///
/// A machine has a network of its own; there the connection is made by a process inside, and carried.
#[derive(Debug, Clone)]
pub struct Connector(Way);

#[derive(Debug, Clone)]
enum Way {
    Namespace(mpsc::Sender<NetRequest>),
    Machine(Arc<Outer>),
}

/// Takes connections on a port of the inside's loopback. When it is dropped, or [`Closer::close`]d, it takes no more.
#[derive(Debug)]
pub struct Listener {
    /// The port.
    pub port: u16,
    taking: Taking,
    closer: Arc<Closer>,
}

#[derive(Debug)]
enum Taking {
    Namespace(Arc<TcpListener>),
    Machine(mpsc::Receiver<Came>),
}

/// Ends a [`Listener`], from any thread.
#[derive(Debug)]
pub enum Closer {
    /// In a namespace.
    Namespace(Arc<TcpListener>),
    /// In a machine, with the number that the listener has there.
    Machine(Arc<Outer>, u64),
}

impl Closer {
    /// Whoever waits in [`Listener::accept`] gets an error.
    pub fn close(&self) {
        match self {
            Self::Namespace(listener) => drop(rustix::net::shutdown(listener, rustix::net::Shutdown::Both)),
            Self::Machine(outer, number) => outer.unlisten(*number),
        }
    }
}

impl Listener {
    /// What ends it.
    pub fn closer(&self) -> Arc<Closer> {
        Arc::clone(&self.closer)
    }

    /// Waits for a connection, and tells who it is of, where that is known.
    ///
    /// # Errors
    /// When it was closed, or this process has too many files open.
    pub fn accept(&self) -> io::Result<(TcpStream, Option<SocketAddr>)> {
        match &self.taking {
            Taking::Namespace(listener) => listener.accept().map(|(stream, from)| (stream, Some(from))),
            Taking::Machine(coming) => coming.recv().map_err(|_| io::ErrorKind::NotConnected.into()),
        }
    }
}

impl Drop for Listener {
    fn drop(&mut self) {
        self.closer.close();
    }
}

impl Connector {
    /// Sends a thread into the network namespace.
    pub(crate) fn new(namespace: OwnedFd) -> io::Result<Self> {
        let (wishes, granting) = mpsc::channel::<NetRequest>();
        let (entered, answer) = mpsc::channel();
        std::thread::Builder::new().name("connector".to_owned()).spawn(move || {
            let moved = rustix::thread::move_into_link_name_space(namespace.as_fd(), Some(LinkNameSpaceType::Network));
            let inside = moved.is_ok();
            let _ = entered.send(moved.map_err(io::Error::from));
            // The caller may be gone; then nobody hears the answer.
            while inside && let Ok(wish) = granting.recv() {
                match wish {
                    NetRequest::Socket(family, answer) => drop(answer.send(stream_socket(family))),
                    NetRequest::Listen(address, port, answer) => drop(answer.send(TcpListener::bind((address, port)))),
                    NetRequest::Datagrams(port, answer) => drop(answer.send(datagrams_inside(port))),
                    NetRequest::IsListened(port, answer) => drop(answer.send(Ok(is_listened(port)))),
                    NetRequest::ListenDatagrams(port, answer) => {
                        drop(answer.send(UdpSocket::bind((Ipv4Addr::LOCALHOST, port))));
                    }
                }
            }
        })?;
        answer.recv().map_err(io::Error::other)??;
        Ok(Self(Way::Namespace(wishes)))
    }

    /// A way to the ports of a machine.
    pub(crate) fn to_machine(outer: Arc<Outer>) -> Self {
        Self(Way::Machine(outer))
    }

    /// A connection to a port on the inside's loopback, by IPv4 or else IPv6.
    ///
    /// # Errors
    /// When nothing inside listens on it.
    pub fn connect(&self, port: u16) -> io::Result<TcpStream> {
        self.connect_to((Ipv4Addr::LOCALHOST, port).into())
            .or_else(|error| self.connect_to((Ipv6Addr::LOCALHOST, port).into()).map_err(|_| error))
    }

    /// A connection to any address, as a program inside would have it. The socket is made inside, and connected by the
    /// one who asks: a server that is slow to take connections holds up nobody else.
    ///
    /// # Errors
    /// When nobody listens there, or the inside reaches no such machine.
    pub fn connect_to(&self, address: SocketAddr) -> io::Result<TcpStream> {
        if let Way::Machine(outer) = &self.0 {
            return outer.connect(address);
        }
        let family = if address.is_ipv4() { AddressFamily::INET } else { AddressFamily::INET6 };
        let socket = self.ask(|answer| NetRequest::Socket(family, answer))?;
        // On Linux it bounds connecting, too (socket(7)).
        rustix::net::sockopt::set_socket_timeout(&socket, Timeout::Send, Some(PATIENCE))?;
        rustix::net::connect(&socket, &address)?;
        rustix::net::sockopt::set_socket_timeout(&socket, Timeout::Send, None)?;
        Ok(socket.into())
    }

    /// A listener on a port of the inside's loopback, as a program inside would have it.
    ///
    /// # Errors
    /// When something inside listens on it already.
    pub fn listen(&self, port: u16) -> io::Result<TcpListener> {
        self.listen_at(Ipv4Addr::LOCALHOST, port)
    }

    pub(crate) fn listen_at(&self, address: Ipv4Addr, port: u16) -> io::Result<TcpListener> {
        self.ask(|answer| NetRequest::Listen(address, port, answer))
    }

    /// Takes connections on a port of the inside's loopback, in a machine, too.
    ///
    /// # Errors
    /// When something inside listens on it already.
    pub fn take(&self, port: u16) -> io::Result<Listener> {
        if let Way::Machine(outer) = &self.0 {
            let (number, port, coming) = outer.listen(Ipv4Addr::LOCALHOST, port)?;
            let closer = Arc::new(Closer::Machine(Arc::clone(outer), number));
            return Ok(Listener { port, taking: Taking::Machine(coming), closer });
        }
        let listener = Arc::new(self.listen(port)?);
        let closer = Arc::new(Closer::Namespace(Arc::clone(&listener)));
        Ok(Listener { port: listener.local_addr()?.port(), taking: Taking::Namespace(listener), closer })
    }

    /// As [`Self::listen`], on every IPv4 address of the inside.
    ///
    /// # Errors
    /// As [`Self::listen`].
    pub fn listen_everywhere(&self, port: u16) -> io::Result<TcpListener> {
        self.listen_at(Ipv4Addr::UNSPECIFIED, port)
    }

    /// A socket whose datagrams go to a port on the inside's loopback, and that takes those from there.
    ///
    /// # Errors
    /// When no socket can be had.
    pub fn datagrams(&self, port: u16) -> io::Result<UdpSocket> {
        if let Way::Machine(outer) = &self.0 {
            return outer.datagrams(port);
        }
        self.ask(|answer| NetRequest::Datagrams(port, answer))
    }

    /// A socket that takes the datagrams to a port of the inside's loopback, as a program inside would.
    ///
    /// # Errors
    /// When something inside has the port already.
    pub fn listen_datagrams(&self, port: u16) -> io::Result<UdpSocket> {
        self.ask(|answer| NetRequest::ListenDatagrams(port, answer))
    }

    /// Whether something inside takes connections on a port. Nobody notices being asked.
    pub fn is_listened(&self, port: u16) -> bool {
        if let Way::Machine(outer) = &self.0 {
            return outer.is_listened(port).unwrap_or(false);
        }
        self.ask(|answer| NetRequest::IsListened(port, answer)).unwrap_or(false)
    }

    fn ask<T>(&self, wish: impl FnOnce(mpsc::Sender<io::Result<T>>) -> NetRequest) -> io::Result<T> {
        let (answer, granted) = mpsc::channel();
        let gone = || io::Error::from(io::ErrorKind::NotConnected);
        // Nothing of a step that fetches runs in a machine.
        let Way::Namespace(wishes) = &self.0 else { return Err(io::ErrorKind::Unsupported.into()) };
        wishes.send(wish(answer)).map_err(|_| gone())?;
        granted.recv().map_err(|_| gone())?
    }
}

fn stream_socket(family: AddressFamily) -> io::Result<OwnedFd> {
    Ok(rustix::net::socket_with(family, SocketType::STREAM, SocketFlags::CLOEXEC, None)?)
}

/// As the kernel's lists of this thread's network say.
fn is_listened(port: u16) -> bool {
    ["/proc/thread-self/net/tcp", "/proc/thread-self/net/tcp6"].into_iter().any(|list| {
        let text = std::fs::read_to_string(list).unwrap_or_default();
        crate::child::measuring::local_ports(&text, crate::child::measuring::LISTENS).any(|(known, _)| known == port)
    })
}

/// By IPv4, unless only IPv6 has somebody who takes datagrams: a socket cannot tell, so the kernel's list is asked.
fn datagrams_inside(port: u16) -> io::Result<UdpSocket> {
    let taken = |list: &str| {
        let text = std::fs::read_to_string(list).unwrap_or_default();
        crate::child::measuring::local_ports(&text, crate::child::measuring::BOUND).any(|(bound, _)| bound == port)
    };
    // Of this thread, which is in the inside's network.
    let only_six = !taken("/proc/thread-self/net/udp") && taken("/proc/thread-self/net/udp6");
    let socket = if only_six {
        let socket = UdpSocket::bind((Ipv6Addr::LOCALHOST, 0))?;
        socket.connect((Ipv6Addr::LOCALHOST, port))?;
        socket
    } else {
        let socket = UdpSocket::bind((Ipv4Addr::LOCALHOST, 0))?;
        socket.connect((Ipv4Addr::LOCALHOST, port))?;
        socket
    };
    Ok(socket)
}
