//! Colleagues who are let in for a while: each by a key of theirs, at an address that the member chose, with what they
//! may do and when it ends. Who is invited is written beside the workspace, so that a restart changes nothing; who is
//! there, and what they did, is in the status and in the log of visitors.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, Weak};
use std::thread;
use std::time::Duration;

use russh::keys::PublicKey;
use serde::{Deserialize, Serialize};
use tokio::sync::watch;

use cavrith_engine::personal::OwnDoor;
use cavrith_recorder::own_certificate::OwnCertificate;
use cavrith_sandbox::locked;
use tokio_rustls::rustls::ServerConfig;

use crate::journal::Journal;
use crate::pages;
use crate::record::now;
use crate::shared_terminal::Terminals;
use crate::ssh::{self, Rights};
use crate::work::Keeper;

/// The file beside the workspace.
const FILE: &str = "invitations";
/// The source of the log.
pub const LOG: &str = "visitors";
/// Connections at an address at once, whoever they are from.
const CONNECTIONS: usize = 32;
/// Connections from one address at once; a browser opens six.
const FROM_ONE: usize = 8;
/// Ports that are tried when a member's own is taken.
const NEXT_PORTS: u16 = 20;
/// How long somebody whom no connection can be given is left to wait.
const FULL_PAUSE: Duration = Duration::from_millis(100);

/// An invitation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Invitation {
    /// Whom it is for.
    pub name: String,
    /// Their public keys, in OpenSSH's form.
    pub keys: Vec<String>,
    /// Where they come.
    pub address: SocketAddr,
    /// What they may do.
    pub rights: Rights,
    /// Milliseconds since 1970 when it ends.
    pub until: u64,
    /// They come with a browser, and have no key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pages: Option<Pages>,
}

/// What somebody sees with a browser.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Pages {
    /// The port inside.
    pub port: u16,
    /// Their token, as it is written down.
    pub token: String,
}

impl Invitation {
    fn is_for(&self, key: &PublicKey) -> bool {
        let is_same = |own: &String| PublicKey::from_openssh(own).is_ok_and(|own| own.key_data() == key.key_data());
        self.keys.iter().any(is_same)
    }

    fn has_token(&self, token: &str, now: u64) -> bool {
        !self.is_over(now) && self.pages.as_ref().is_some_and(|pages| pages.token == token)
    }

    /// Whether its time is over.
    pub fn is_over(&self, now: u64) -> bool {
        now >= self.until
    }
}

/// All invitations of a workspace, with the key by which visitors know this machine.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Invitations {
    /// Version of this form.
    pub version: u32,
    /// The host's key, in OpenSSH's form.
    pub host_key: String,
    /// The certificate by which browsers know it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<OwnCertificate>,
    /// Invitations.
    pub invitations: Vec<Invitation>,
}

impl Invitations {
    /// Those of a workspace that are not over.
    pub fn read(dir: &Path) -> Self {
        let bytes = fs::read(dir.join(FILE)).unwrap_or_default();
        let mut found: Self = serde_json::from_slice(&bytes).unwrap_or_default();
        let now = now();
        found.invitations.retain(|invitation| !invitation.is_over(now));
        found
    }

    /// Writes them, for nobody else to read.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn write(&self, dir: &Path) -> Result<(), cavrith_store::StoreError> {
        let bytes = serde_json::to_vec_pretty(self).unwrap_or_default();
        cavrith_store::atomic::write(&dir.join(FILE), &bytes)
    }
}

/// A visitor who is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Present {
    /// Who.
    pub name: String,
    /// Milliseconds since 1970 when they came.
    pub since: u64,
}

/// Doors, and who has come through them.
pub(crate) struct Visitors {
    dir: PathBuf,
    log: Arc<Journal>,
    doors: Mutex<BTreeMap<SocketAddr, Arc<Door>>>,
    /// Where the member comes themselves, when they want a port for that.
    own: Mutex<Option<SocketAddr>>,
    /// Terminals that they have open.
    pub terminals: Terminals,
}

/// Somebody who is let in at a door.
struct Admitted {
    invitation: Invitation,
    closed: watch::Sender<bool>,
}

/// An address at which visitors come.
pub(crate) struct Door {
    /// How this machine is known there.
    known: KnownBy,
    admitted: Mutex<Vec<Admitted>>,
    present: Mutex<Vec<(usize, Present)>>,
    next: AtomicUsize,
    log: Arc<Journal>,
    /// How many there are from each address.
    connections: Mutex<BTreeMap<IpAddr, usize>>,
    over: AtomicBool,
    listener: TcpListener,
}

/// By what visitors know that they are at the right machine, and so how they come.
#[derive(Clone)]
enum KnownBy {
    /// A key of SSH.
    Key(String),
    /// A certificate, with a browser.
    Certificate(Arc<ServerConfig>),
}

/// A visit, as long as it lasts.
pub(crate) struct Visit {
    door: Arc<Door>,
    number: usize,
    name: String,
    closing: watch::Receiver<bool>,
    /// It is one request of many, which says itself what it is.
    is_brief: bool,
}

impl Visit {
    /// Whose it is.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// What ends it.
    pub fn closing(&self) -> watch::Receiver<bool> {
        self.closing.clone()
    }

    /// Writes down what the visitor did.
    pub fn log(&self, what: &str) {
        let what: String = what.chars().map(|c| if c.is_control() { ' ' } else { c }).take(500).collect();
        self.door.log.line(&format!("{} {what}", self.name));
    }
}

impl Drop for Visit {
    fn drop(&mut self) {
        if !self.is_brief {
            self.log("left");
        }
        locked(&self.door.present).retain(|(number, _)| *number != self.number);
    }
}

/// A place among the connections at a door.
struct Place {
    door: Arc<Door>,
    from: IpAddr,
}

impl Place {
    fn among(door: &Arc<Door>, from: IpAddr) -> Option<Self> {
        let mut connections = locked(&door.connections);
        let (all, own) = (connections.values().sum::<usize>(), connections.get(&from).copied().unwrap_or_default());
        if all >= CONNECTIONS || own >= FROM_ONE {
            return None;
        }
        *connections.entry(from).or_default() += 1;
        Some(Self { door: Arc::clone(door), from })
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut connections = locked(&self.door.connections);
        if let Some(own) = connections.get_mut(&self.from) {
            *own -= 1;
            if *own == 0 {
                connections.remove(&self.from);
            }
        }
    }
}

impl Door {
    /// The rights that a key has here now.
    pub fn admitted(&self, key: &PublicKey) -> Option<Rights> {
        let now = now();
        let admitted = locked(&self.admitted);
        let found = admitted.iter().find(|one| !one.invitation.is_over(now) && one.invitation.is_for(key));
        found.map(|one| one.invitation.rights.clone())
    }

    /// Lets somebody in, whose key has been proved.
    pub fn enter(this: &Arc<Self>, key: &PublicKey) -> Option<(Rights, Visit)> {
        let now = now();
        let admitted = locked(&this.admitted);
        let found = admitted.iter().find(|one| !one.invitation.is_over(now) && one.invitation.is_for(key))?;
        let visit = Self::visit(this, found, false);
        visit.log("came");
        Some((found.invitation.rights.clone(), visit))
    }

    /// Whether a token, as it is written down, is that of somebody who may come.
    pub fn knows(&self, token: &str) -> bool {
        let now = now();
        locked(&self.admitted).iter().any(|one| one.invitation.has_token(token, now))
    }

    /// Lets one request of a browser in, by its token as it is written down; with the port inside.
    pub fn enter_by(this: &Arc<Self>, token: &str) -> Option<(u16, Visit)> {
        let now = now();
        let admitted = locked(&this.admitted);
        let found = admitted.iter().find(|one| one.invitation.has_token(token, now))?;
        let port = found.invitation.pages.as_ref()?.port;
        Some((port, Self::visit(this, found, true)))
    }

    fn visit(this: &Arc<Self>, found: &Admitted, is_brief: bool) -> Visit {
        let number = this.next.fetch_add(1, Ordering::SeqCst);
        let name = found.invitation.name.clone();
        locked(&this.present).push((number, Present { name: name.clone(), since: now() }));
        Visit { door: Arc::clone(this), number, name, closing: found.closed.subscribe(), is_brief }
    }

    /// Takes whoever comes, until the door is closed.
    fn attend(self: &Arc<Self>, keeper: &Weak<Keeper>) {
        loop {
            let accepted = self.listener.accept();
            if self.over.load(Ordering::SeqCst) {
                return;
            }
            let Some(keeper) = keeper.upgrade() else { return };
            let Ok((stream, from)) = accepted else {
                thread::sleep(FULL_PAUSE);
                continue;
            };
            // Whoever opens more than anybody needs takes no place of others.
            let Some(place) = Place::among(self, from.ip()) else { continue };
            let door = Arc::clone(self);
            let _ = thread::Builder::new().name("visitor".to_owned()).spawn(move || {
                let attend = || match door.known.clone() {
                    KnownBy::Key(key) => ssh::attend_port(&keeper, &door, &key, stream),
                    KnownBy::Certificate(config) => pages::attend_port(&keeper, &door, stream, config),
                };
                let _ = std::panic::catch_unwind(std::panic::AssertUnwindSafe(attend));
                drop(place);
            });
        }
    }

    /// Ends it, and everybody who came through it.
    fn close(&self) {
        self.over.store(true, Ordering::SeqCst);
        self.admit(Vec::new());
        let _ = rustix::net::shutdown(&self.listener, rustix::net::Shutdown::Both);
    }

    /// Has exactly these come in; those who may not any more go.
    fn admit(&self, invitations: Vec<Invitation>) {
        let mut admitted = locked(&self.admitted);
        let mut before = std::mem::take(&mut *admitted);
        for invitation in invitations {
            let same = before.iter().position(|one| one.invitation == invitation);
            admitted.push(same.map(|at| before.swap_remove(at)).unwrap_or_else(|| {
                self.log.line(&format!("{} is invited", invitation.name));
                Admitted { invitation, closed: watch::channel(false).0 }
            }));
        }
        for gone in before {
            if !admitted.iter().any(|one| one.invitation.name == gone.invitation.name) {
                self.log.line(&format!("{} may not come any more", gone.invitation.name));
            }
            let _ = gone.closed.send(true);
        }
    }
}

impl Visitors {
    pub fn new(dir: &Path) -> Self {
        let log = Arc::new(Journal::new(&dir.join("logs"), LOG));
        Self {
            dir: dir.to_owned(),
            log,
            doors: Mutex::new(BTreeMap::new()),
            own: Mutex::new(None),
            terminals: Terminals::default(),
        }
    }

    /// Brings the doors to what is written beside the workspace. Addresses at which nobody can listen, each with the
    /// reason, are returned.
    pub fn follow(&self, keeper: &Arc<Keeper>) -> Vec<(SocketAddr, io::Error)> {
        let wanted = Invitations::read(&self.dir);
        let mut by_address: BTreeMap<SocketAddr, Vec<Invitation>> = BTreeMap::new();
        for invitation in wanted.invitations {
            by_address.entry(invitation.address).or_default().push(invitation);
        }
        let mut doors = locked(&self.doors);
        doors.retain(|address, door| {
            let stays = by_address.contains_key(address);
            if !stays {
                door.close();
            }
            stays
        });
        let mut failed = Vec::new();
        for (address, invitations) in by_address {
            if let Some(door) = doors.get(&address) {
                door.admit(invitations);
                continue;
            }
            let pages = invitations.iter().any(|invitation| invitation.pages.is_some());
            let known = match &wanted.certificate {
                Some(certificate) if pages => certificate.config().map(KnownBy::Certificate).map_err(io::Error::other),
                _ => Ok(KnownBy::Key(wanted.host_key.clone())),
            };
            match known.and_then(|known| self.open(keeper, TcpListener::bind(address)?, known)) {
                Ok(door) => {
                    door.admit(invitations);
                    doors.insert(address, door);
                }
                Err(error) => failed.push((address, error)),
            }
        }
        failed
    }

    /// Opens a port of the loopback at which the member comes by their own key, with all that they may do anyway: the
    /// one that they want, or one of the next when that is taken.
    ///
    /// # Errors
    /// When none of them is free.
    pub fn open_own(&self, keeper: &Arc<Keeper>, own: &OwnDoor) -> io::Result<()> {
        let mut ports = own.port..own.port.saturating_add(NEXT_PORTS);
        let listener = ports.find_map(|port| TcpListener::bind((Ipv4Addr::LOCALHOST, port)).ok());
        let listener = listener.ok_or(io::ErrorKind::AddrInUse)?;
        let address = listener.local_addr()?;
        let door = self.open(keeper, listener, KnownBy::Key(own.host_key.clone()))?;
        let invitation = Invitation {
            name: "you".to_owned(),
            keys: vec![own.key.clone()],
            address,
            rights: Rights::all(),
            until: u64::MAX,
            pages: None,
        };
        locked(&door.admitted).push(Admitted { invitation, closed: watch::channel(false).0 });
        *locked(&self.own) = Some(address);
        Ok(())
    }

    /// Where the member comes themselves.
    pub fn own_address(&self) -> Option<SocketAddr> {
        *locked(&self.own)
    }

    fn open(&self, keeper: &Arc<Keeper>, listener: TcpListener, known: KnownBy) -> io::Result<Arc<Door>> {
        let door = Arc::new(Door {
            known,
            admitted: Mutex::new(Vec::new()),
            present: Mutex::new(Vec::new()),
            next: AtomicUsize::new(0),
            log: Arc::clone(&self.log),
            connections: Mutex::new(BTreeMap::new()),
            over: AtomicBool::new(false),
            listener,
        });
        let (attending, keeper) = (Arc::clone(&door), Arc::downgrade(keeper));
        thread::Builder::new().name("visitors".to_owned()).spawn(move || attending.attend(&keeper))?;
        Ok(door)
    }

    /// Whether something that is written beside the workspace is over, or was changed; asked every now and then.
    pub fn have_ended(&self) -> bool {
        let now = now();
        let doors = locked(&self.doors);
        doors.values().any(|door| locked(&door.admitted).iter().any(|one| one.invitation.is_over(now)))
    }

    /// Who is invited, and who is there.
    pub fn status(&self) -> (Vec<Invitation>, Vec<Present>) {
        let doors = locked(&self.doors);
        let mut invited = Vec::new();
        let mut present = Vec::new();
        for door in doors.values() {
            invited.extend(locked(&door.admitted).iter().map(|one| one.invitation.clone()));
            present.extend(locked(&door.present).iter().map(|(_, present)| present.clone()));
        }
        (invited, present)
    }
}
