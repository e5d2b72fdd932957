//! What a workspace runs in, made of a virtual machine: a hypervisor, its monitor, and a process of ours within.
//!
//! The layers are the root of the machine, in a file of their own; what is written lies on a disk of the workspace's.
//! The process within ([`inside`]) furnishes the inside as [`crate::namespaces`] does here, and reports what PID 1
//! says.

mod booting;
mod folder;
mod fuse;
pub(crate) mod inside;
mod running;
mod telling;
mod watching;

use std::collections::{BTreeMap, HashMap};
use std::fs;
use std::io;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use cavrith_core::arrangement::{Arrangement, FolderPart, Place as FilesPlace};
use cavrith_core::encode::percent_encoded;
use cavrith_core::spec::Network;
use cavrith_engine::personal::Personal;
use cavrith_engine::secret_values::SecretValues;
use cavrith_sandbox::groups::{GroupLimits, Kept};
use cavrith_sandbox::guest::hypervisor::{self, Parts};
use cavrith_sandbox::guest::outer::{Outer, Said};
use cavrith_sandbox::runtime::{ReadChanges, Runtime as _};
use cavrith_sandbox::{SandboxError, locked};

use crate::KeeperError;
use crate::cleanup::CleanupList;
use crate::home::ImageHome;
use crate::mounts::{self, FolderRoots};
use crate::namespaces::{Started, Wanted};
use crate::network;
use crate::offered::Offered;
use crate::ssh::forward::Sockets;
use crate::synced;
use booting::{Booted, boot_machine};
use folder::Folder;
use running::{Machine, Runs};
use watching::Changed;

/// What both ends have to be.
const VERSION: &str = env!("CARGO_PKG_VERSION");
/// How long the process within has to furnish the inside.
const FURNISHING: Duration = Duration::from_secs(120);
/// How long it has for a small thing.
const MOMENT: Duration = Duration::from_secs(20);

/// What the keeper says to the process within.
#[derive(Debug, Serialize, Deserialize)]
enum Wish {
    Begin(Box<Begin>),
    WriteFile {
        inside: String,
        text: String,
    },
    Limit(GroupLimits),
    /// Read what was changed over the root.
    ReadChanges {
        lower: String,
        is_whole: bool,
    },
    /// Tell programs what was changed outside in the live folder with this number.
    Changed {
        folder: usize,
        changes: Vec<Changed>,
    },
    /// Say nothing more after the answer: the machine is halted then.
    Hold,
    /// Go on; the time of day is so many milliseconds since 1970.
    GoOn {
        now: u64,
    },
    End,
}

/// A folder of the inside, an outer one before what lies in it.
#[derive(Debug, Serialize, Deserialize)]
struct InsideFolder {
    /// Where it appears.
    #[serde(with = "cavrith_sandbox::wire::path")]
    inside: PathBuf,
    /// Where its files are.
    place: InsidePlace,
}

/// Where the files of a folder are.
#[derive(Debug, Serialize, Deserialize)]
enum InsidePlace {
    /// Outside.
    Live,
    /// A copy on the machine's disk, under a name, of a folder outside.
    Synced(String),
    /// On the machine's disk, under a name; what the image has there comes first.
    Except(String),
    /// On the machine's disk, under a name; when it is new, it belongs to this account.
    Kept(String, Option<String>),
}

/// What the inside is made from.
#[derive(Debug, Serialize, Deserialize)]
struct Begin {
    arrangement: Arrangement,
    apt_sources: Option<String>,
    secrets: SecretValues,
    personal: Personal,
    home: Option<ImageHome>,
    network: bool,
    folders: Vec<InsideFolder>,
    /// What was changed before is set aside, but for kept folders and the home.
    fresh: bool,
}

/// What the process within says.
#[derive(Debug, Serialize, Deserialize)]
enum Answer {
    /// It is there, of this version.
    Here { version: String },
    /// The inside stands.
    Begun { notes: Vec<String>, limits: Vec<String>, kept: Kept, gems: Vec<String> },
    /// What was changed.
    Changes(ReadChanges),
    /// It is done.
    Done,
    /// It could not be done.
    Failed(String),
    /// Somebody asks one of the member's agents; the connection comes with it.
    Caller(usize),
    /// Whoever watches over the copy of the synced folder with this number is asked by what comes with it.
    Copy(usize),
    /// A live folder will be mounted; what its kernel is told unasked goes by what comes with it. It waits for whoever
    /// is in the middle of a request, so no answer may go the same way.
    Notices(usize),
    /// A live folder is mounted; what its kernel asks comes with it. The thread that tells programs what was changed
    /// has this number.
    Folder { number: usize, teller: u32 },
}

fn ended(doing: &str, source: io::Error) -> SandboxError {
    SandboxError::Outside { doing: doing.to_owned(), source }
}

/// Starts the machine and what is in it.
pub(crate) fn start(
    mut parts: Parts,
    wanted: &Wanted<'_>,
    home: Option<ImageHome>,
    cleanup: &CleanupList,
) -> Result<Started, KeeperError> {
    let Wanted { place, arrangement, identity, apt_sources, secrets, personal, .. } = wanted;
    let roots = FolderRoots { project: &place.project, except: &place.dir.join("except"), kept: &place.kept };
    let (folders, live) = folders(&arrangement.folders, roots)?;
    if hypervisor::program().is_none() {
        let what = "a hypervisor: qemu-system-x86_64".to_owned();
        let remedy = "install the package qemu-system-x86, or start it without --machine".to_owned();
        return Err(SandboxError::Lacks { what, remedy }.into());
    }
    parts.network = arrangement.network != Network::None;
    // It was dropped since it ran last.
    let dropped = parts.dir.join(hypervisor::FRESH);
    let mut notes = Vec::new();
    if !personal.caches.is_empty() {
        notes.push("folders that your workspaces share (caches) are not shared with a machine".to_owned());
    }
    let booted = boot_machine(&mut parts, &mut notes)?;
    let Booted { child, monitor, said, outer, session, says } = booted;
    let note = |table: &str| cleanup.note(&format!("table {table}"));
    let way = network::open(arrangement.network, child.id(), *identity, &note);
    if let Some(lacks) = &way.lacks {
        notes.push(format!("the workspace reaches no other machine: {lacks}"));
    }
    let mut own = (*personal).clone();
    if let Some(git) = &mut own.git {
        // Whoever answers is outside.
        git.env.clear();
    }
    let begin = Begin {
        arrangement: (*arrangement).clone(),
        apt_sources: apt_sources.map(str::to_owned),
        secrets: (*secrets).clone(),
        personal: own,
        home,
        network: way.lacks.is_none() && parts.network,
        folders,
        fresh: dropped.exists(),
    };
    let (offered, takers) = Offered::in_machine(personal);
    let telling = Arc::clone(&outer);
    let (copy, copies) = mpsc::channel();
    thread::spawn(move || attend(&telling, &says, &live, (&takers, &copy)));
    let machine = Machine {
        session,
        outer,
        runs: Mutex::new(Runs { child, monitor, said, way: None, on_disk: false, _held: None }),
        identity: *identity,
        network: arrangement.network,
        cleanup: cleanup.clone(),
        frozen: AtomicBool::new(false),
        kept: Mutex::default(),
        parts: parts.clone(),
    };
    let begun = machine.ask::<Answer>(&Wish::Begin(Box::new(begin)), FURNISHING);
    let (more, limits, kept, gems) = match begun.map_err(|error| ended("furnish the machine", error))? {
        Answer::Begun { notes, limits, kept, gems } => (notes, limits, kept, gems),
        Answer::Failed(why) => return Err(SandboxError::Inside(why).into()),
        other => return Err(SandboxError::Inside(format!("go on: the machine said {other:?}")).into()),
    };
    let _ = fs::remove_file(&dropped);
    *locked(&machine.kept) = kept;
    notes.extend(more);
    if let Some(resolver) = way.resolver() {
        machine.write_file(crate::RESOLVER, &resolver).map_err(|error| ended("write the resolver's file", error))?;
    }
    let mut synced = BTreeMap::new();
    for _ in synced::parts(arrangement) {
        // They were handed over before the inside stood.
        let late = |error| ended("reach the copy of a synced folder", io::Error::other(error));
        synced.extend([copies.recv_timeout(MOMENT).map_err(late)?]);
    }
    let network = if parts.network { way.how.clone() } else { "none".to_owned() };
    locked(&machine.runs).way = Some(way);
    Ok(Started {
        runtime: Box::new(machine),
        notes,
        limits,
        network,
        offered,
        gems,
        sockets: Sockets::none(),
        synced: synced.into_values().collect(),
    })
}

/// The folders of an arrangement as the process within gets them, and where the live ones are here.
fn folders(parts: &[FolderPart], roots: FolderRoots<'_>) -> Result<(Vec<InsideFolder>, Vec<PathBuf>), KeeperError> {
    let (mut all, mut live) = (Vec::new(), Vec::new());
    for part in parts {
        let inside = PathBuf::from(&part.inside);
        let place = match &part.place {
            FilesPlace::Live(_) => {
                // Places for what is mounted in it are made as anywhere.
                let mounts = mounts::folders(std::slice::from_ref(part), roots)?;
                live.extend(mounts.first().map(|mount| mount.outside.clone()));
                InsidePlace::Live
            }
            FilesPlace::Synced(..) => InsidePlace::Synced(synced::name(&part.inside)),
            FilesPlace::Kept(name, owner) => InsidePlace::Kept(name.clone(), owner.clone()),
        };
        all.push(InsideFolder { inside: inside.clone(), place });
        for except in &part.except {
            let inside = inside.join(except);
            let name = percent_encoded(inside.to_string_lossy().trim_matches('/'), "");
            all.push(InsideFolder { inside, place: InsidePlace::Except(name) });
        }
    }
    Ok((all, live))
}

/// Attends to what the machine says unasked, for as long as it is there.
fn attend(
    outer: &Arc<Outer>,
    says: &mpsc::Receiver<Said>,
    live: &[PathBuf],
    (takers, copies): (&[mpsc::Sender<UnixStream>], &mpsc::Sender<(usize, UnixStream)>),
) {
    let mut notices = HashMap::new();
    while let Ok(Said { what, stream }) = says.recv() {
        match (serde_json::from_value(what), stream) {
            (Ok(Answer::Caller(number)), Some(stream)) => {
                let _ = takers.get(number).map(|taker| taker.send(stream.into()));
            }
            (Ok(Answer::Copy(number)), Some(stream)) => drop(copies.send((number, stream.into()))),
            (Ok(Answer::Notices(number)), Some(socket)) => {
                notices.insert(number, socket);
            }
            (Ok(Answer::Folder { number, teller }), Some(socket)) => {
                let (Some(path), Some(notices)) = (live.get(number).cloned(), notices.remove(&number)) else {
                    continue;
                };
                let outer = Arc::clone(outer);
                let tell = Box::new(move |changes| {
                    let wish = serde_json::to_value(Wish::Changed { folder: number, changes });
                    let _ = wish.map(|wish| outer.ask(wish, MOMENT));
                });
                thread::spawn(move || Folder::serve(&path, &socket, teller, (notices, tell)));
            }
            _ => {}
        }
    }
}
