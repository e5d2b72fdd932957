//! Connections that a client of SSH carries: to ports and sockets inside, from ports inside, and to its agent
//! (RFC 4254, section 7; OpenSSH's `PROTOCOL`, section 2.4).

use std::fs::{self, File};
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpStream, ToSocketAddrs as _};
use std::os::fd::{AsFd as _, AsRawFd as _};
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

use russh::server::{ChannelOpenHandle, Handle, Msg};
use russh::{Channel, ChannelOpenFailure};
use tokio::io::{AsyncRead, AsyncWrite, copy_bidirectional};
use tokio::task::AbortHandle;

use cavrith_sandbox::Identity;
use cavrith_sandbox::job::Task;
use cavrith_sandbox::net::{Closer, Connector};

use super::Guest;
use crate::agent;
use crate::protocol::ExecRequest;
use crate::work::Keeper;

/// Connections of a listener at once.
const AT_ONCE: usize = 32;

/// Carries both directions until both have ended.
async fn carry(channel: Channel<Msg>, mut stream: impl AsyncRead + AsyncWrite + Unpin) {
    let _ = copy_bidirectional(&mut channel.into_stream(), &mut stream).await;
}

/// Where a client wants to connect to.
enum Target {
    /// An address, seen from inside.
    Address(SocketAddr),
    /// A name of another machine.
    Name(String, u16),
}

fn target(guest: &Guest, host: &str, port: u32) -> Option<Target> {
    let port = u16::try_from(port).ok().filter(|port| *port != 0 && guest.rights.may_connect(*port))?;
    let own = guest.keeper.arrangement();
    let is_own = own.inside_names().iter().any(|name| name == host);
    // Other workspaces and machines, which the workspace may reach where its visitor may not, are the member's alone.
    let is_link = guest.rights.member && guest.keeper.personal.links.contains_key(host);
    if host.eq_ignore_ascii_case("localhost") || is_own || is_link {
        return Some(Target::Address(SocketAddr::from((Ipv4Addr::LOCALHOST, port))));
    }
    match host.trim_matches(['[', ']']).parse::<IpAddr>() {
        Ok(address) => {
            let may = guest.rights.member || address.is_loopback();
            may.then(|| Target::Address(SocketAddr::new(address, port)))
        }
        // Asked for outside, as the inside does; an address of this machine's own loopback would be another's inside.
        Err(_) => guest.rights.member.then(|| Target::Name(host.to_owned(), port)),
    }
}

fn connect_from_inside(connector: &Connector, target: Target) -> io::Result<TcpStream> {
    match target {
        Target::Address(target) if target.ip().is_loopback() => connector.connect(target.port()),
        Target::Address(target) => connector.connect_to(target),
        Target::Name(name, port) => {
            let mut why = io::Error::from(io::ErrorKind::NotFound);
            for address in (name, port).to_socket_addrs()?.filter(|address| !address.ip().is_loopback()) {
                match connector.connect_to(address) {
                    Ok(stream) => return Ok(stream),
                    Err(error) => why = error,
                }
            }
            Err(why)
        }
    }
}

/// Connects a channel to a port, as a program inside would.
pub(super) async fn connect(
    guest: Arc<Guest>,
    (host, port): (String, u32),
    channel: Channel<Msg>,
    reply: ChannelOpenHandle,
) {
    let Some(target) = target(&guest, &host, port) else {
        return reply.reject(ChannelOpenFailure::AdministrativelyProhibited).await;
    };
    let Some(place) = guest.place() else { return reply.reject(ChannelOpenFailure::ResourceShortage).await };
    // Beside the connection's loop: a server that is slow to take it holds up nothing else.
    tokio::spawn(async move {
        let connector = guest.keeper.connector.clone();
        let connected = tokio::task::spawn_blocking(move || connect_from_inside(&connector, target));
        let stream = connected.await.map_err(io::Error::other).flatten().and_then(|stream| {
            // One that is carried out of a machine has nothing to wait for.
            let _ = stream.set_nodelay(true);
            stream.set_nonblocking(true)?;
            tokio::net::TcpStream::from_std(stream)
        });
        match stream {
            Ok(stream) => {
                guest.log(&format!("connected to port {port}"));
                reply.accept().await;
                carry(channel, stream).await;
            }
            Err(_) => reply.reject(ChannelOpenFailure::ConnectFailed).await,
        }
        drop(place);
    });
}

/// Connects a channel to a Unix socket inside, as the account may.
pub(super) async fn connect_socket(guest: Arc<Guest>, path: String, channel: Channel<Msg>, reply: ChannelOpenHandle) {
    if !guest.rights.member {
        return reply.reject(ChannelOpenFailure::AdministrativelyProhibited).await;
    }
    let Some(place) = guest.place() else { return reply.reject(ChannelOpenFailure::ResourceShortage).await };
    let stream = socket(&guest, path);
    match stream {
        Ok(stream) => {
            reply.accept().await;
            tokio::spawn(async move {
                carry(channel, stream).await;
                drop(place);
            });
        }
        Err(_) => reply.reject(ChannelOpenFailure::ConnectFailed).await,
    }
}

fn socket(guest: &Guest, path: String) -> io::Result<tokio::net::UnixStream> {
    let request =
        ExecRequest { task: Some(Task::Socket(path)), account: guest.account.clone(), ..ExecRequest::default() };
    let (ours, theirs) = UnixStream::pair()?;
    let nothing = File::open("/dev/null")?;
    let command = guest.keeper.visiting(&request);
    let streams = [theirs.as_fd(), theirs.as_fd(), nothing.as_fd()];
    guest.keeper.runtime.start(&command, streams).map_err(io::Error::other)?;
    ours.set_nonblocking(true)?;
    tokio::net::UnixStream::from_std(ours)
}

/// Listens on a port of the inside's loopback, and carries what connects there to the client.
///
/// # Errors
/// When something inside listens on it already.
pub(super) fn listen(
    guest: Arc<Guest>,
    (address, port): (String, u32),
    handle: Handle,
) -> io::Result<(u32, AbortHandle)> {
    let port = u16::try_from(port).map_err(io::Error::other)?;
    let listener = guest.keeper.connector.take(port)?;
    let bound = listener.port;
    let closer = Closing(listener.closer());
    let (came, mut coming) = tokio::sync::mpsc::channel(1);
    thread::spawn(move || {
        while let Ok(one) = listener.accept() {
            if came.blocking_send(one).is_err() {
                return;
            }
        }
    });
    let listening = tokio::spawn(async move {
        let _closer = closer;
        while let Some((stream, from)) = coming.recv().await {
            let Some(place) = guest.place() else { continue };
            let (handle, address) = (handle.clone(), address.clone());
            let stream = stream.set_nonblocking(true).and_then(|()| tokio::net::TcpStream::from_std(stream));
            let Ok(stream) = stream else { continue };
            tokio::spawn(async move {
                let from = from.unwrap_or_else(|| (Ipv4Addr::LOCALHOST, 0).into());
                let (origin, number) = (from.ip().to_string(), u32::from(from.port()));
                let bound = u32::from(bound);
                if let Ok(channel) = handle.channel_open_forwarded_tcpip(address, bound, origin, number).await {
                    carry(channel, stream).await;
                }
                drop(place);
            });
        }
    });
    Ok((u32::from(bound), listening.abort_handle()))
}

/// Has a listener take no more connections when what it is for ends.
struct Closing(Arc<Closer>);

impl Drop for Closing {
    fn drop(&mut self) {
        let closer = Arc::clone(&self.0);
        // It may be a machine that is asked, and nobody waits for that.
        thread::spawn(move || closer.close());
    }
}

/// The socket inside at which a client's agent is asked; it goes with the connection.
pub(super) struct AgentSocket {
    /// Its path inside.
    pub path: String,
    name: String,
    keeper: Arc<Keeper>,
    listening: AbortHandle,
}

impl Drop for AgentSocket {
    fn drop(&mut self) {
        self.listening.abort();
        self.keeper.sockets.remove(&self.name);
    }
}

/// Lets commands of this connection ask the client's agent. They may have it sign, and change nothing of it.
///
/// # Errors
/// When there can be no socket.
pub(super) fn offer_agent(guest: &Arc<Guest>, handle: Handle) -> io::Result<()> {
    if guest.agent.get().is_some() {
        return Ok(());
    }
    let (name, listener) = guest.keeper.sockets.listen()?;
    listener.set_nonblocking(true)?;
    let listener = tokio::net::UnixListener::from_std(listener)?;
    let listening = tokio::spawn(async move {
        let open = Arc::new(tokio::sync::Semaphore::new(AT_ONCE));
        while let Ok((stream, _)) = listener.accept().await {
            let Ok(permit) = Arc::clone(&open).try_acquire_owned() else { continue };
            let handle = handle.clone();
            tokio::spawn(async move {
                let _ = answer(stream, &handle).await;
                drop(permit);
            });
        }
    });
    let (path, keeper) = (format!("{DIRECTORY}/{name}"), Arc::clone(&guest.keeper));
    let _ = guest.agent.set(AgentSocket { path, name, keeper, listening: listening.abort_handle() });
    Ok(())
}

/// One program inside that asks.
async fn answer(stream: tokio::net::UnixStream, handle: &Handle) -> io::Result<()> {
    let stream = stream.into_std()?;
    stream.set_nonblocking(false)?;
    let (near, far) = UnixStream::pair()?;
    far.set_nonblocking(true)?;
    let mut far = tokio::net::UnixStream::from_std(far)?;
    let channel = handle.channel_open_agent().await.map_err(io::Error::other)?;
    // Messages are judged one by one, by what waits for them.
    thread::spawn(move || agent::attend(stream, || near.try_clone(), || {}));
    let _ = copy_bidirectional(&mut channel.into_stream(), &mut far).await;
    Ok(())
}

/// Sockets inside that come and go.
#[derive(Debug)]
pub(crate) struct Sockets {
    /// Their directory, in the workspace's memory; opened before anything ran there. Nobody outside sees that of a
    /// machine.
    dir: Option<File>,
    identity: Identity,
    next: AtomicUsize,
}

/// Their directory inside.
const DIRECTORY: &str = "/run/ssh";

impl Sockets {
    /// Makes the directory in the workspace whose first process this is; nothing else runs there yet.
    ///
    /// # Errors
    /// When the sandbox does not let it.
    pub(crate) fn new(process: u32, identity: Identity) -> io::Result<Self> {
        let path = format!("/proc/{process}/root{DIRECTORY}");
        fs::create_dir(&path)?;
        fs::set_permissions(&path, fs::Permissions::from_mode(0o711))?;
        Ok(Self { dir: Some(File::open(&path)?), identity, next: AtomicUsize::new(0) })
    }

    /// None can be made.
    pub(crate) fn none() -> Self {
        Self { dir: None, identity: Identity::Root, next: AtomicUsize::new(0) }
    }

    /// Listens at a new one, which the account alone may ask.
    fn listen(&self) -> io::Result<(String, UnixListener)> {
        let name = format!("agent-{}", self.next.fetch_add(1, Ordering::SeqCst));
        // By the directory itself: whatever root inside has made of its path, nothing elsewhere is touched.
        let dir = self.dir.as_ref().ok_or(io::ErrorKind::Unsupported)?;
        let path = Path::new("/proc/self/fd").join(dir.as_raw_fd().to_string()).join(&name);
        Ok((name, crate::offered::listen_at(&path, self.identity)?))
    }

    fn remove(&self, name: &str) {
        if let Some(dir) = &self.dir {
            let _ = rustix::fs::unlinkat(dir, name, rustix::fs::AtFlags::empty());
        }
    }
}
