//! SSH (RFC 4251 to 4254): the workspace as any editor and any client of it knows machines.
//!
//! Whoever comes through the workspace's door is the member, as with every other command; whoever comes by a port is
//! known by a key. A connection is one thread with a loop of its own, so one that falls over ends by itself. Programs
//! are started as those of `cavrith enter` are; files are told by a process of ours inside that has become the account
//! ([`cavrith_sandbox::job::Task::Sftp`]); connections to ports are made in the inside's network.
//!
//! What comes is hostile until it is known, and bounded ever after: time to say who one is, channels at once.

mod command;
mod descriptor;
pub(crate) mod forward;

use std::collections::HashMap;
use std::io;
use std::net::TcpStream;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use russh::keys::{PrivateKey, PublicKey};
use russh::server::{Auth, ChannelOpenHandle, Config, Handler, Msg, PublicKeyOffer, Session, VerifiedPublicKey};
use russh::{Channel, ChannelId, ChannelOpenFailure, Disconnect, MethodKind, MethodSet, Pty, SshId};
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::sync::watch;
use tokio::task::AbortHandle;

use crate::secrets;
use crate::visitors::{Door, Visit};
use crate::work::Keeper;
use descriptor::{Descriptor, Pair};

/// What this server calls itself (RFC 4253, section 4.2).
const IDENTIFICATION: &str = concat!("SSH-2.0-Cavrith_", env!("CARGO_PKG_VERSION"));
/// The name of whoever does not ask for a certain account; our block in their configuration has it.
pub const USER: &str = "cavrith";
/// How long somebody has to say who they are.
const INTRODUCTION: Duration = Duration::from_secs(30);
/// Keys that somebody may try.
const TRIES: usize = 6;
/// How long a client has to take the reason for its end.
const FAREWELL: Duration = Duration::from_millis(100);
/// Channels of a connection at once.
const CHANNELS: usize = 64;
/// Ports inside that a connection may listen on at once.
const LISTENING: usize = 32;
/// How often it is asked whether a client that says nothing is still there.
const ALIVE: Duration = Duration::from_secs(30);
/// Bytes of a channel that are on their way.
const WINDOW: u32 = 4 << 20;
/// Bytes that are sent at once, as OpenSSH has it.
const PACKET: u32 = 32 << 10;

/// What a client may do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Rights {
    /// It runs programs.
    pub shell: bool,
    /// It reads files.
    pub files: bool,
    /// Nothing that it does may change a file: no programs but those that are shown to it, and files for reading.
    pub read_only: bool,
    /// Ports inside to which it may connect; all when nothing.
    pub ports: Option<Vec<u16>>,
    /// It is the member: other accounts, other addresses, listening inside, their agent.
    pub member: bool,
}

impl Rights {
    /// Those of the member.
    pub fn all() -> Self {
        Self { shell: true, files: true, read_only: false, ports: None, member: true }
    }

    fn may_connect(&self, port: u16) -> bool {
        self.ports.as_ref().is_none_or(|ports| ports.contains(&port))
    }
}

/// By which way somebody comes.
pub(crate) enum Entry {
    /// Through the workspace's door, which the member alone can open.
    Member,
    /// Through a port, where keys decide.
    Port(Arc<Door>),
}

/// A client that is being attended to.
pub(crate) struct Guest {
    keeper: Arc<Keeper>,
    rights: Rights,
    /// The account, when it is another than the workspace's.
    account: Option<String>,
    channels: AtomicUsize,
    /// Becomes true when the connection has ended.
    ended: watch::Sender<bool>,
    /// Where the client's agent is asked for inside.
    agent: std::sync::OnceLock<forward::AgentSocket>,
    /// Counted as long as it lasts, and shown; nothing for the member at the door.
    visit: Option<Visit>,
}

/// Becomes true when a client's time is over; never, when nothing.
pub(crate) type Closing = Option<watch::Receiver<bool>>;

/// A connection, before and after it is known whose it is.
struct Connection {
    keeper: Arc<Keeper>,
    entry: Entry,
    guest: Option<Arc<Guest>>,
    /// What ends it before the client does, once it is known who that is.
    known: watch::Sender<Option<Closing>>,
    listening: HashMap<(String, u32), AbortHandle>,
}

/// Speaks SSH with the member, who came through the door with both ends of a connection.
///
/// # Errors
/// When the descriptors cannot be waited for, or the host's key is none.
pub(crate) fn attend_member(keeper: &Arc<Keeper>, host_key: &str, [from, to]: [OwnedFd; 2]) -> io::Result<()> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let config = config(host_key)?;
    runtime.block_on(async {
        let stream = Pair { from: Descriptor::new(from)?, to: Descriptor::new(to)? };
        serve(keeper, Entry::Member, config, stream).await;
        Ok(())
    })
}

/// Speaks SSH with whoever came by a port.
pub(crate) fn attend_port(keeper: &Arc<Keeper>, door: &Arc<Door>, host_key: &str, stream: TcpStream) -> io::Result<()> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let config = config(host_key)?;
    stream.set_nodelay(true)?;
    stream.set_nonblocking(true)?;
    runtime.block_on(async {
        let stream = tokio::net::TcpStream::from_std(stream)?;
        serve(keeper, Entry::Port(Arc::clone(door)), config, stream).await;
        Ok(())
    })
}

fn config(host_key: &str) -> io::Result<Arc<Config>> {
    let key = PrivateKey::from_openssh(host_key).map_err(io::Error::other)?;
    Ok(Arc::new(Config {
        server_id: SshId::Standard(IDENTIFICATION.into()),
        methods: MethodSet::from(&[MethodKind::PublicKey][..]),
        auth_rejection_time: Duration::from_millis(500),
        auth_rejection_time_initial: Some(Duration::ZERO),
        keys: vec![key],
        window_size: WINDOW,
        maximum_packet_size: PACKET,
        max_auth_attempts: TRIES,
        inactivity_timeout: None,
        keepalive_interval: Some(ALIVE),
        nodelay: true,
        ..Config::default()
    }))
}

/// One connection, until it ends. How it ends is told to the client, and to nobody else.
async fn serve<S>(keeper: &Arc<Keeper>, entry: Entry, config: Arc<Config>, stream: S)
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let (known, mut is_known) = watch::channel(None);
    let connection = Connection { keeper: Arc::clone(keeper), entry, guest: None, known, listening: HashMap::new() };
    let opened = tokio::time::timeout(INTRODUCTION, russh::server::run_stream(config, stream, connection)).await;
    let Ok(Ok(session)) = opened else { return };
    let handle = session.handle();
    let ended_by_us = async {
        let known = tokio::time::timeout(INTRODUCTION, is_known.wait_for(Option::is_some)).await;
        let known = known.map(|known| known.map(|known| known.clone().flatten()));
        let why = match known {
            Ok(Ok(Some(mut closing))) => {
                // Taken back, or over: whatever the client is doing.
                let _ = closing.wait_for(|closed| *closed).await;
                "the invitation is over"
            }
            Ok(_) => std::future::pending().await,
            Err(_) => "nobody has said who they are",
        };
        let told = handle.disconnect(Disconnect::ByApplication, why.to_owned(), "en".to_owned());
        let _ = tokio::time::timeout(FAREWELL, told).await;
        tokio::time::sleep(FAREWELL).await;
    };
    tokio::select! {
        _ = session => {}
        () = ended_by_us => {}
    }
}

impl Connection {
    fn admit(&mut self, user: &str, rights: Rights, visit: Option<Visit>) {
        let own = self.keeper.arrangement().setup.account.clone();
        let other = rights.member && user != own && user != USER;
        self.guest = Some(Arc::new(Guest {
            keeper: Arc::clone(&self.keeper),
            rights,
            account: other.then(|| user.to_owned()),
            channels: AtomicUsize::new(0),
            ended: watch::channel(false).0,
            agent: std::sync::OnceLock::new(),
            visit,
        }));
    }

    fn guest(&self) -> Result<&Arc<Guest>, russh::Error> {
        self.guest.as_ref().ok_or(russh::Error::NotAuthenticated)
    }

    /// Whether a key opens this way; nothing is opened yet.
    fn opens(&self, key: &PublicKey) -> bool {
        match &self.entry {
            Entry::Member => true,
            Entry::Port(door) => door.admitted(key).is_some(),
        }
    }
}

/// A place among a connection's channels.
struct Place(Arc<Guest>);

impl Guest {
    fn place(self: &Arc<Self>) -> Option<Place> {
        let taken = self.channels.fetch_add(1, Ordering::SeqCst);
        // Given back when it is dropped.
        let place = Place(Arc::clone(self));
        (taken < CHANNELS).then_some(place)
    }

    /// Waits until the connection has ended.
    async fn gone(&self) {
        let _ = self.ended.subscribe().wait_for(|ended| *ended).await;
    }

    fn log(&self, what: &str) {
        if let Some(visit) = &self.visit {
            visit.log(&secrets::masked(what, &self.keeper.hidden));
        }
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        self.0.channels.fetch_sub(1, Ordering::SeqCst);
    }
}

impl Handler for Connection {
    type Error = russh::Error;

    async fn auth_none(&mut self, user: &str) -> Result<Auth, Self::Error> {
        match &self.entry {
            Entry::Member => {
                self.admit(user, Rights::all(), None);
                Ok(Auth::Accept)
            }
            Entry::Port(_) => Ok(Auth::reject()),
        }
    }

    async fn auth_publickey_offered(&mut self, _: &str, offer: PublicKeyOffer<'_>) -> Result<Auth, Self::Error> {
        Ok(if self.opens(offer.public_key) { Auth::Accept } else { Auth::reject() })
    }

    async fn auth_publickey(&mut self, user: &str, key: VerifiedPublicKey<'_>) -> Result<Auth, Self::Error> {
        let (rights, visit) = match &self.entry {
            // Whoever has come through the door is the member, whichever key their client insists on.
            Entry::Member => (Rights::all(), None),
            Entry::Port(door) => match Door::enter(door, key.public_key) {
                Some((rights, visit)) => (rights, Some(visit)),
                None => return Ok(Auth::reject()),
            },
        };
        self.admit(user, rights, visit);
        Ok(Auth::Accept)
    }

    async fn auth_succeeded(&mut self, _: &mut Session) -> Result<(), Self::Error> {
        let visit = self.guest()?.visit.as_ref();
        let _ = self.known.send(Some(visit.map(Visit::closing)));
        Ok(())
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: ChannelOpenHandle,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        let guest = self.guest()?;
        let Some(place) = guest.place() else {
            reply.reject(ChannelOpenFailure::ResourceShortage).await;
            return Ok(());
        };
        reply.accept().await;
        tokio::spawn(command::attend(Arc::clone(guest), place, channel, session.handle()));
        Ok(())
    }

    async fn channel_open_direct_tcpip(
        &mut self,
        channel: Channel<Msg>,
        host: &str,
        port: u32,
        _: &str,
        _: u32,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        let guest = Arc::clone(self.guest()?);
        forward::connect(guest, (host.to_owned(), port), channel, reply).await;
        Ok(())
    }

    async fn channel_open_direct_streamlocal(
        &mut self,
        channel: Channel<Msg>,
        path: &str,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), Self::Error> {
        let guest = Arc::clone(self.guest()?);
        forward::connect_socket(guest, path.to_owned(), channel, reply).await;
        Ok(())
    }

    // What is asked of a channel is answered here, in the order in which it was asked; `command` hears of it as well.

    async fn pty_request(
        &mut self,
        channel: ChannelId,
        _: &str,
        _: u32,
        _: u32,
        _: u32,
        _: u32,
        _: &[(Pty, u32)],
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        session.channel_success(channel)
    }

    async fn env_request(
        &mut self,
        channel: ChannelId,
        name: &str,
        _: &str,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        match command::PASSED_ON.contains(&name) {
            true => session.channel_success(channel),
            false => session.channel_failure(channel),
        }
    }

    async fn shell_request(&mut self, channel: ChannelId, session: &mut Session) -> Result<(), Self::Error> {
        session.channel_success(channel)
    }

    async fn exec_request(&mut self, channel: ChannelId, _: &[u8], session: &mut Session) -> Result<(), Self::Error> {
        session.channel_success(channel)
    }

    async fn subsystem_request(
        &mut self,
        channel: ChannelId,
        name: &str,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        match name == command::SFTP && self.guest()?.rights.files {
            true => session.channel_success(channel),
            false => session.channel_failure(channel),
        }
    }

    async fn window_change_request(
        &mut self,
        channel: ChannelId,
        _: u32,
        _: u32,
        _: u32,
        _: u32,
        session: &mut Session,
    ) -> Result<(), Self::Error> {
        session.channel_success(channel)
    }

    async fn agent_request(&mut self, _: ChannelId, session: &mut Session) -> Result<bool, Self::Error> {
        let guest = self.guest()?;
        Ok(guest.rights.member && forward::offer_agent(guest, session.handle()).is_ok())
    }

    async fn tcpip_forward(
        &mut self,
        address: &str,
        port: &mut u32,
        session: &mut Session,
    ) -> Result<bool, Self::Error> {
        let guest = Arc::clone(self.guest()?);
        if !guest.rights.member || self.listening.len() >= LISTENING {
            return Ok(false);
        }
        match forward::listen(guest, (address.to_owned(), *port), session.handle()) {
            Ok((bound, listening)) => {
                *port = bound;
                self.listening.insert((address.to_owned(), bound), listening);
                Ok(true)
            }
            Err(_) => Ok(false),
        }
    }

    async fn cancel_tcpip_forward(&mut self, address: &str, port: u32, _: &mut Session) -> Result<bool, Self::Error> {
        let listening = self.listening.remove(&(address.to_owned(), port));
        Ok(listening.map(|listening| listening.abort()).is_some())
    }
}

impl Drop for Connection {
    fn drop(&mut self) {
        self.listening.drain().for_each(|(_, listening)| listening.abort());
        if let Some(guest) = &self.guest {
            let _ = guest.ended.send(true);
        }
    }
}
