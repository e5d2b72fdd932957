//! Starting a keeper, and its life from the first line to the last.

use std::fs::File;
use std::io;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{self, RecvTimeoutError};
use std::thread;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use cavrith_core::arrangement::{Arrangement, FolderPart, Place as FilesPlace};
use cavrith_core::digest::{ImageKey, TreeDigest};
use cavrith_core::failure::FailureCode;
use cavrith_core::spec::Network;
use cavrith_core::tree::Tree;
use cavrith_engine::error::file_error;
use cavrith_engine::personal::Personal;
use cavrith_engine::secret_values::SecretValues;
use cavrith_sandbox::guest::hypervisor::Parts;
use cavrith_sandbox::{Identity, background, janitor, wire};
use cavrith_store::Store;

use crate::KeeperError;
use crate::cleanup::{self, CleanupList};
use crate::home::{self, ImageHome};
use crate::machine;
use crate::mounts::{self, Caches, FolderRoots};
use crate::namespaces;
use crate::offered;
use crate::place::Place;
use crate::record::Stamp;
use crate::synced;
use crate::work::Keeper;

/// The name under which our executable is started as a keeper. Nobody can type it by accident.
const NAME: &str = "cavrith: keeper";
/// How often it is checked whether the workspace's directory is still there.
const LOOK: Duration = Duration::from_secs(2);

/// What comes of starting a keeper.
#[derive(Debug, Serialize, Deserialize)]
enum Launched {
    /// It is there, and answers at the door.
    Started,
    /// Another one has the workspace.
    InUse,
    /// It could not begin.
    Failed { code: u8, kind: String, text: String },
}

/// What a keeper has to do.
#[derive(Debug, Serialize, Deserialize)]
pub struct Launch {
    /// The workspace; its directory is there.
    pub place: Place,
    /// The store's directory.
    #[serde(with = "cavrith_sandbox::wire::path")]
    pub store: PathBuf,
    /// Who we are.
    pub identity: Identity,
    /// What is to run.
    pub arrangement: Arrangement,
    /// Under which key the image is found.
    pub image_key: ImageKey,
    /// Its layers, the lowest first, with those that are the member's own.
    pub layers: Vec<TreeDigest>,
    /// The files that the spec was read from.
    pub stamps: Vec<Stamp>,
    /// The shell of the account.
    pub shell: String,
    /// Where packages come from that somebody installs by hand: the text of `/etc/apt/sources.list`.
    pub apt_sources: Option<String>,
    /// Values of its secrets.
    pub secrets: SecretValues,
    /// What its member adds.
    pub personal: Personal,
    /// The files of the machine that it runs in, when it does.
    pub machine: Option<Parts>,
    /// Only the files are wanted: no step, service or port is started, and nothing is recorded.
    pub plain: bool,
}

/// Starts a keeper, and returns when it answers at the door. True when it is this one, and not one that was there
/// already.
///
/// # Errors
/// When the workspace cannot be started; then no process is left.
pub fn launch(mut launch: Launch) -> Result<bool, KeeperError> {
    if launch.plain {
        let arrangement = &mut launch.arrangement;
        (arrangement.ports, arrangement.steps) = (Vec::new(), Vec::new());
        (arrangement.services, arrangement.network) = (std::collections::BTreeMap::new(), Network::None);
    }
    let (_, socket) = background::detach(NAME)?;
    let talk = |error| KeeperError::from(file_error("talk to the keeper of", &launch.place.dir)(error));
    wire::send(&socket, &launch, &[]).map_err(talk)?;
    match wire::receive::<Launched>(&socket).map_err(talk)? {
        Some((Launched::Started, _)) => Ok(true),
        Some((Launched::InUse, _)) => Ok(false),
        Some((Launched::Failed { code, kind, text }, _)) => {
            let kind = FailureCode::find(&kind).unwrap_or_else(|| FailureCode::of_exit(code));
            Err(KeeperError::Keeper { code, kind, text })
        }
        None => {
            let text = "the keeper ended unexpectedly; try again".to_owned();
            Err(KeeperError::Keeper { code: 3, kind: FailureCode::WORKSPACE_ENDED, text })
        }
    }
}

/// Every `main` that uses this crate calls this first. In a process that was started as a keeper it does not return.
pub fn divert() {
    if std::env::args_os().next().is_some_and(|name| name == machine::inside::NAME) {
        let code = i32::from(machine::inside::run().is_err());
        std::process::exit(code)
    }
    if std::env::args_os().next().is_some_and(|name| name == NAME) {
        let code = i32::from(run().is_err());
        std::process::exit(code)
    }
}

fn run() -> io::Result<()> {
    let socket = background::settle()?;
    let Some((job, _)) = wire::receive::<Launch>(&socket)? else { return Ok(()) };
    match keep(job, &socket) {
        Ok(()) => Ok(()),
        Err(KeeperError::InUse { .. }) => wire::send(&socket, &Launched::InUse, &[]),
        Err(error) => {
            let failed =
                Launched::Failed { code: error.exit_code(), kind: error.code().to_string(), text: error.to_string() };
            wire::send(&socket, &failed, &[])
        }
    }
}

/// Locks the kept folders when the arrangement has some, so that nobody restores or removes them meanwhile.
fn hold_kept(arrangement: &Arrangement, place: &Place) -> Result<Option<File>, KeeperError> {
    let keeps = |part: &FolderPart| matches!(part.place, FilesPlace::Kept(..) | FilesPlace::Synced(..));
    arrangement.folders.iter().any(keeps).then(|| place.hold_kept()).transpose()
}

fn keep(job: Launch, socket: &UnixStream) -> Result<(), KeeperError> {
    let place = job.place.clone();
    let held = place.hold()?;
    let mut store = Store::open(&job.store)?;
    let name = format!("{}-{}", std::process::id(), crate::record::now());
    cleanup::clear_earlier(&place.dir);
    let cleanup = CleanupList::new(&place.dir);
    let _janitor = janitor::watch(&cleanup.path, cleanup::clear_away)?;
    cleanup.note(&format!("staging {}", store.staging_dir(&name).display()));
    let staging = store.stage(&name)?;
    store.lease(&staging);
    background::many_files();
    // What the image consists of is used from here on, and not collected.
    if store.image_for(&job.image_key)?.is_none() {
        let text = "the image was removed from the store meanwhile; try again".to_owned();
        return Err(KeeperError::Keeper { code: 3, kind: FailureCode::STORE, text });
    }
    let kept = hold_kept(&job.arrangement, &place)?;
    let scratch = place.scratch(&job.arrangement.image)?;
    let image_home = || {
        let trees = job.layers.iter().map(|layer| store.layer_tree(layer));
        let tree = Tree::merged(&trees.collect::<Result<Vec<_>, _>>()?);
        Ok::<_, KeeperError>(ImageHome::of(&tree, &job.arrangement.setup.account))
    };
    let mut wanted = namespaces::Wanted {
        place: &place,
        arrangement: &job.arrangement,
        identity: job.identity,
        layers: Vec::new(),
        scratch: scratch.clone(),
        folders: Vec::new(),
        apt_sources: job.apt_sources.as_deref(),
        secrets: &job.secrets,
        personal: &job.personal,
    };
    let has_home = !job.arrangement.fresh_home && !job.plain;
    let mut caches = Caches::default();
    let mut started = if let Some(parts) = &job.machine {
        let home = has_home.then(image_home).transpose()?;
        machine::start(parts.clone(), &wanted, home, &cleanup)?
    } else {
        let roots = FolderRoots { project: &place.project, except: &place.dir.join("except"), kept: &place.kept };
        let mut folders = mounts::folders(&job.arrangement.folders, roots)?;
        let layers = store.lower_directories(&job.layers, &staging.dir().join("bundles"))?;
        caches = mounts::caches(&store, &job.personal.caches, &job.arrangement, &layers)?;
        folders.extend(std::mem::take(&mut caches.mounts));
        let mut gave_way = None;
        if has_home {
            gave_way = home::bring(&place, &scratch, (&job.arrangement.setup.account, job.identity), image_home)?;
        }
        (wanted.layers, wanted.folders) = (layers, folders);
        let mut started = namespaces::start(wanted, &cleanup)?;
        started.notes.append(&mut caches.notes);
        started.synced = synced::watch_all(&place, &job.arrangement)?;
        started.notes.extend(gave_way.map(|(files, left)| {
            format!("this image has its own {}, so what was changed there lies in {}", files.join(", "), left.display())
        }));
        started
    };
    let synced = synced::begin(&place, &job.arrangement, std::mem::take(&mut started.synced))?;
    let (stop, stopping) = mpsc::channel();
    let offered = std::mem::take(&mut started.offered);
    let keeper = Keeper::new(job, place, started, (synced, scratch), stop)?;
    for one in offered {
        let keeper = Arc::clone(&keeper);
        thread::spawn(move || offered::serve(&keeper, &one));
    }
    let door = keeper.open_door()?;
    keeper.write_record();
    wire::send(socket, &Launched::Started, &[])
        .map_err(file_error("talk to", "the command that started the keeper"))?;
    keeper.begin_links();
    keeper.begin();
    keeper.follow_runtime();
    keeper.follow_invitations();
    keeper.open_own_door();
    keeper.watch_signals()?;
    loop {
        match stopping.recv_timeout(LOOK) {
            Ok(()) | Err(RecvTimeoutError::Disconnected) => break,
            // Somebody removed the workspace's directory, or put another one in its place.
            Err(RecvTimeoutError::Timeout) if !keeper.is_in_place(&held) => break,
            Err(RecvTimeoutError::Timeout) if keeper.visitors.have_ended() => keeper.follow_invitations(),
            Err(RecvTimeoutError::Timeout) => {}
        }
    }
    keeper.end();
    drop((door, staging, kept, caches.held));
    // Threads that wait for nobody end with the process.
    Ok(())
}
