//! Colleagues who are let in for a while: each by a key of theirs, at an address that the member chose, with what they
//! may do and when it ends. Who is invited is written beside the workspace, so that a restart changes nothing; who is
//! there, and what they did, is in the status and in the log of visitors.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::net::{IpAddr, SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, Weak};
use std::thread;
use std::time::Duration;

use russh::keys::PublicKey;
use serde::{Deserialize, Serialize};
use tokio::sync::watch;

use cavrith_sandbox::locked;

use crate::journal::Journal;
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
/// Connections from one address at once.
const FROM_ONE: usize = 8;
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
}

impl Invitation {
    fn is_for(&self, key: &PublicKey) -> bool {
        let is_same = |own: &String| PublicKey::from_openssh(own).is_ok_and(|own| own.key_data() == key.key_data());
        self.keys.iter().any(is_same)
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
    /// The key by which they know this machine.
    pub host_key: String,
    admitted: Mutex<Vec<Admitted>>,
    present: Mutex<Vec<(usize, Present)>>,
    next: AtomicUsize,
    log: Arc<Journal>,
    /// How many there are from each address.
    connections: Mutex<BTreeMap<IpAddr, usize>>,
    over: AtomicBool,
    listener: TcpListener,
}

/// A visit, as long as it lasts.
pub(crate) struct Visit {
    door: Arc<Door>,
    number: usize,
    name: String,
    closing: watch::Receiver<bool>,
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
        self.log("left");
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
        let number = this.next.fetch_add(1, Ordering::SeqCst);
        let name = found.invitation.name.clone();
        locked(&this.present).push((number, Present { name: name.clone(), since: now }));
        let visit = Visit { door: Arc::clone(this), number, name, closing: found.closed.subscribe() };
        visit.log("came");
        Some((found.invitation.rights.clone(), visit))
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
                let attend = || ssh::attend_port(&keeper, &door, stream);
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
        Self { dir: dir.to_owned(), log, doors: Mutex::new(BTreeMap::new()), terminals: Terminals::default() }
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
            match self.open(keeper, address, &wanted.host_key) {
                Ok(door) => {
                    door.admit(invitations);
                    doors.insert(address, door);
                }
                Err(error) => failed.push((address, error)),
            }
        }
        failed
    }

    fn open(&self, keeper: &Arc<Keeper>, address: SocketAddr, host_key: &str) -> io::Result<Arc<Door>> {
        let door = Arc::new(Door {
            host_key: host_key.to_owned(),
            admitted: Mutex::new(Vec::new()),
            present: Mutex::new(Vec::new()),
            next: AtomicUsize::new(0),
            log: Arc::clone(&self.log),
            connections: Mutex::new(BTreeMap::new()),
            over: AtomicBool::new(false),
            listener: TcpListener::bind(address)?,
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
