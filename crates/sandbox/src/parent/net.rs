//! The network of the inside: a loopback of its own, and a way in from outside.

use std::io;
use std::net::{Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};
use std::sync::mpsc;
use std::time::Duration;

use rustix::net::sockopt::Timeout;
use rustix::net::{AddressFamily, SocketFlags, SocketType};
use rustix::thread::LinkNameSpaceType;

/// Starts the loopback interface of this process's network namespace.
pub(crate) fn loopback_up() -> io::Result<()> {
    let socket = rustix::net::socket(AddressFamily::UNIX, SocketType::DGRAM, None)?;
    // SAFETY: ifreq is plain data, for which all zeros are a valid value.
    let mut request: libc::ifreq = unsafe { std::mem::zeroed() };
    for (to, from) in request.ifr_name.iter_mut().zip(b"lo") {
        *to = *from as libc::c_char;
    }
    request.ifr_ifru.ifru_flags = (libc::IFF_UP | libc::IFF_RUNNING) as libc::c_short;
    // SAFETY: SIOCSIFFLAGS reads one ifreq, which lives until the call returns.
    let done = unsafe { libc::ioctl(socket.as_fd().as_raw_fd(), libc::SIOCSIFFLAGS, &request) };
    if done < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}

/// Has the loopback interface of this process's network namespace answer for every IPv4 address: an address of it makes
/// the whole network of that address local (ip-route(8), type `local`), and two of one bit each are all there is.
pub(crate) fn loopback_is_everywhere() -> io::Result<()> {
    let socket = rustix::net::socket(AddressFamily::INET, SocketType::DGRAM, None)?;
    for (label, address) in [("lo:1", [1, 0, 0, 1]), ("lo:2", [128, 0, 0, 1])] {
        for (call, value) in [(libc::SIOCSIFADDR, address), (libc::SIOCSIFNETMASK, [128, 0, 0, 0])] {
            // SAFETY: ifreq is plain data, for which all zeros are a valid value.
            let mut request: libc::ifreq = unsafe { std::mem::zeroed() };
            for (to, from) in request.ifr_name.iter_mut().zip(label.bytes()) {
                *to = from as libc::c_char;
            }
            let mut data = [0; 14];
            // A sockaddr_in (ip(7)) has a port of two bytes first.
            for (to, from) in data[2..6].iter_mut().zip(value) {
                *to = from as libc::c_char;
            }
            request.ifr_ifru.ifru_addr =
                libc::sockaddr { sa_family: libc::AF_INET as libc::sa_family_t, sa_data: data };
            // SAFETY: both calls read one ifreq, which lives until they return.
            let done = unsafe { libc::ioctl(socket.as_fd().as_raw_fd(), call, &request) };
            if done < 0 {
                return Err(io::Error::last_os_error());
            }
        }
    }
    Ok(())
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
#[derive(Debug, Clone)]
pub struct Connector {
    wishes: mpsc::Sender<NetRequest>,
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
        Ok(Self { wishes })
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
        self.ask(|answer| NetRequest::Listen(Ipv4Addr::LOCALHOST, port, answer))
    }

    /// As [`Self::listen`], on every IPv4 address of the inside.
    ///
    /// # Errors
    /// As [`Self::listen`].
    pub fn listen_everywhere(&self, port: u16) -> io::Result<TcpListener> {
        self.ask(|answer| NetRequest::Listen(Ipv4Addr::UNSPECIFIED, port, answer))
    }

    /// A socket whose datagrams go to a port on the inside's loopback, and that takes those from there.
    ///
    /// # Errors
    /// When no socket can be had.
    pub fn datagrams(&self, port: u16) -> io::Result<UdpSocket> {
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
        self.ask(|answer| NetRequest::IsListened(port, answer)).unwrap_or(false)
    }

    fn ask<T>(&self, wish: impl FnOnce(mpsc::Sender<io::Result<T>>) -> NetRequest) -> io::Result<T> {
        let (answer, granted) = mpsc::channel();
        let gone = || io::Error::from(io::ErrorKind::NotConnected);
        self.wishes.send(wish(answer)).map_err(|_| gone())?;
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
