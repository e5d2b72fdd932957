//! The keeper: one process in the background for each workspace that runs.
//!
//! It holds the sandbox, supervises services, carries ports, and answers at the workspace's door. It is our own
//! executable, started under another name ([`divert`]) in a session of its own, and told its job over a socket that is
//! its standard input, so it depends on no terminal. Everything inside ends with it, however it ends; what is no
//! process of the inside (control groups, address translation) is written down in its staging, where its janitor finds
//! it.
//!
//! | module | what |
//! |---|---|
//! | [`work`] | what its threads share |
//! | [`standing`] | its state: reported, frozen, changed while it runs |
//! | [`service`] | one service: started, watched, restarted, stopped |
//! | [`opening`] | steps and services in their order, at a start and after a change |
//! | [`server`] | requests at the door, and their limits |
//! | [`event_log`] | the events of a start or a change, for those who watch |

mod event_log;
mod opening;
mod server;
mod service;
mod standing;
mod work;

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use cavrith_core::account::ACCOUNT_ID;
use cavrith_core::arrangement::{Arrangement, FolderPart, Place as FilesPlace};
use cavrith_core::derive::changes::shown_limits;
use cavrith_core::digest::{ImageKey, TreeDigest};
use cavrith_core::failure::FailureCode;
use cavrith_core::spec::{Limits, Network};
use cavrith_engine::error::file_error;
use cavrith_sandbox::groups::{self, GroupLimits, Groups};
use cavrith_sandbox::job::{FolderMount, Job, PerProcessLimits, Purpose};
use cavrith_sandbox::{Identity, Session, background, janitor, wire};
use cavrith_store::Store;
use cavrith_store::staging;

use crate::mounts::{self, FolderRoots};
use crate::network::{self, WayOut};
use crate::place::Place;
use crate::record::Stamp;
use crate::{WorkspaceError, names};

use work::Keeper;

/// The name under which our executable is started as a keeper. Nobody can type it by accident.
const NAME: &str = "cavrith: keeper";
/// In the workspace's directory, with the keeper's number after it: what its janitor has to remove. It does not lie in
/// the keeper's staging, which any other command sweeps away once the keeper is dead.
const CLEANUP: &str = "leavings-";
/// How often it is looked whether the workspace's directory is still there.
const LOOK: Duration = Duration::from_secs(2);

/// What a keeper is told.
#[derive(Debug, Serialize, Deserialize)]
pub struct KeeperJob {
    #[serde(with = "cavrith_sandbox::wire::path")]
    dir: PathBuf,
    #[serde(with = "cavrith_sandbox::wire::path")]
    kept: PathBuf,
    #[serde(with = "cavrith_sandbox::wire::path")]
    project: PathBuf,
    name: String,
    named: bool,
    #[serde(with = "cavrith_sandbox::wire::path")]
    store: PathBuf,
    identity: Identity,
    arrangement: Arrangement,
    image_key: ImageKey,
    layers: Vec<TreeDigest>,
    stamps: Vec<Stamp>,
    shell: String,
    apt_sources: Option<String>,
    plain: bool,
}

/// What comes of starting a keeper.
#[derive(Debug, Serialize, Deserialize)]
enum Launched {
    /// It is there, and answers at the door.
    Begun,
    /// Another one has the workspace.
    InUse,
    /// It could not begin.
    Failed { code: u8, kind: String, text: String },
}

/// What a keeper is to carry out.
#[derive(Debug)]
pub struct Launch<'a> {
    /// The workspace; its directory is there.
    pub place: &'a Place,
    /// The store's directory.
    pub store: PathBuf,
    /// Who we are.
    pub identity: Identity,
    /// What is to run.
    pub arrangement: Arrangement,
    /// Under which key the image is found.
    pub image_key: ImageKey,
    /// Its layers, the lowest first.
    pub layers: Vec<TreeDigest>,
    /// The files that the spec was read from.
    pub stamps: Vec<Stamp>,
    /// The shell of the account.
    pub shell: String,
    /// Where packages come from that somebody installs by hand: the text of `/etc/apt/sources.list`.
    pub apt_sources: Option<String>,
    /// Only the files are wanted: no step, service or port is begun, and nothing is written down.
    pub plain: bool,
}

/// Starts a keeper, and returns when it answers at the door. True when it is this one, and not one that was there
/// already.
///
/// # Errors
/// When the workspace cannot be begun; then no process is left.
pub fn launch(launch: Launch<'_>) -> Result<bool, WorkspaceError> {
    let Launch { place, store, identity, mut arrangement, image_key, layers, stamps, shell, apt_sources, plain } =
        launch;
    if plain {
        (arrangement.ports, arrangement.steps) = (Vec::new(), Vec::new());
        (arrangement.services, arrangement.network) = (std::collections::BTreeMap::new(), Network::None);
    }
    let job = KeeperJob {
        dir: place.dir.clone(),
        kept: place.kept.clone(),
        project: place.project.clone(),
        name: place.name.clone(),
        named: place.named,
        store,
        identity,
        arrangement,
        image_key,
        layers,
        stamps,
        shell,
        apt_sources,
        plain,
    };
    let (_, socket) = background::detach(NAME)?;
    let talk = |error| WorkspaceError::from(file_error("talk to the keeper of", &place.dir)(error));
    wire::send(&socket, &job, &[]).map_err(talk)?;
    match wire::receive::<Launched>(&socket).map_err(talk)? {
        Some((Launched::Begun, _)) => Ok(true),
        Some((Launched::InUse, _)) => Ok(false),
        Some((Launched::Failed { code, kind, text }, _)) => {
            let kind = FailureCode::find(&kind).unwrap_or_else(|| FailureCode::of_exit(code));
            Err(WorkspaceError::Keeper { code, kind, text })
        }
        None => {
            let text = "the keeper ended unexpectedly; try again".to_owned();
            Err(WorkspaceError::Keeper { code: 3, kind: FailureCode::WORKSPACE_ENDED, text })
        }
    }
}

/// Every `main` that uses this crate calls this first. In a process that was started as a keeper it does not return.
pub fn divert() {
    if std::env::args_os().next().is_some_and(|name| name == NAME) {
        let code = i32::from(run().is_err());
        std::process::exit(code)
    }
}

fn run() -> io::Result<()> {
    let socket = background::settle()?;
    let Some((job, _)) = wire::receive::<KeeperJob>(&socket)? else { return Ok(()) };
    match keep(job, &socket) {
        Ok(()) => Ok(()),
        Err(WorkspaceError::InUse { .. }) => wire::send(&socket, &Launched::InUse, &[]),
        Err(error) => {
            let failed =
                Launched::Failed { code: error.exit_code(), kind: error.code().to_string(), text: error.to_string() };
            wire::send(&socket, &failed, &[])
        }
    }
}

/// Removes what a keeper left, as its janitor; see [`janitor::watch`]. `file` is the list of it.
fn clear_away(file: &Path) -> bool {
    let cleanup = fs::read_to_string(file).unwrap_or_default();
    let (mut dirs, mut clean) = (Vec::new(), true);
    for line in cleanup.lines() {
        match line.split_once(' ') {
            Some(("group", dir)) => dirs.push(PathBuf::from(dir)),
            Some(("table", table)) => network::remove_table(table),
            Some(("staging", dir)) => clean &= staging::remove_run(Path::new(dir)),
            _ => {}
        }
    }
    clean &= groups::remove(&dirs);
    if clean {
        // It may have gone with the workspace.
        let _ = fs::remove_file(file);
    }
    clean
}

/// Removes what keepers of this workspace left whose janitors were killed with them.
fn clear_earlier(dir: &Path) {
    for entry in fs::read_dir(dir).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let Some(number) = name.strip_prefix(CLEANUP) else { continue };
        // While its keeper's number is in use, by whomever, it is left for later.
        if !Path::new("/proc").join(number).exists() {
            clear_away(&entry.path());
        }
    }
}

/// Notes what has to be removed even when the keeper is killed.
struct CleanupList {
    path: PathBuf,
}

impl CleanupList {
    fn note(&self, line: &str) {
        let file = fs::File::options().append(true).create(true).open(&self.path);
        // What cannot be noted is still removed by a keeper that ends in order.
        let _ = file.and_then(|mut file| io::Write::write_all(&mut file, format!("{line}\n").as_bytes()));
    }
}

fn keep(job: KeeperJob, socket: &UnixStream) -> Result<(), WorkspaceError> {
    let place = Place {
        name: job.name.clone(),
        project: job.project.clone(),
        named: job.named,
        dir: job.dir.clone(),
        kept: job.kept.clone(),
    };
    let held = place.hold()?;
    let mut store = Store::open(&job.store)?;
    let name = format!("{}-{}", std::process::id(), crate::record::now());
    clear_earlier(&place.dir);
    let cleanup = CleanupList { path: place.dir.join(format!("{CLEANUP}{}", std::process::id())) };
    let _janitor = janitor::watch(&cleanup.path, clear_away)?;
    cleanup.note(&format!("staging {}", store.staging_dir(&name).display()));
    let staging = store.stage(&name)?;
    store.lease(&staging);
    background::many_files();
    // What the image consists of is used from here on, and not collected.
    if store.image_for(&job.image_key)?.is_none() {
        let text = "the image was removed from the store meanwhile; try again".to_owned();
        return Err(WorkspaceError::Keeper { code: 3, kind: FailureCode::STORE, text });
    }
    let made = make(&job, &place, (&store, &staging.dir().join("bundles")), &cleanup)?;
    let (stop, stopping) = mpsc::channel();
    let keeper = Keeper::new(job, place, made, stop)?;
    let door = keeper.open_door()?;
    keeper.write_record();
    wire::send(socket, &Launched::Begun, &[]).map_err(file_error("talk to", "whoever started the keeper"))?;
    keeper.begin();
    keeper.watch_signals()?;
    loop {
        match stopping.recv_timeout(LOOK) {
            Ok(()) | Err(RecvTimeoutError::Disconnected) => break,
            // Somebody removed the workspace's directory, or put another one in its place.
            Err(RecvTimeoutError::Timeout) if !keeper.is_in_place(&held) => break,
            Err(RecvTimeoutError::Timeout) => {}
        }
    }
    keeper.end();
    drop((door, staging));
    // Threads that wait for nobody end with the process.
    Ok(())
}

/// The inside, and what is needed for it.
struct Made {
    session: Session,
    groups: Groups,
    way: WayOut,
    folders: Vec<FolderMount>,
    notes: Vec<String>,
    limits: Vec<String>,
    overlay_scratch: PathBuf,
    /// Nobody else restores or removes kept folders meanwhile.
    _kept: Option<File>,
}

fn make(
    job: &KeeperJob,
    place: &Place,
    (store, bundles): (&Store, &Path),
    cleanup: &CleanupList,
) -> Result<Made, WorkspaceError> {
    let arrangement = &job.arrangement;
    let folder_roots = FolderRoots { project: &place.project, except: &place.dir.join("except"), kept: &place.kept };
    let keeps = |part: &FolderPart| matches!(part.place, FilesPlace::Kept(..));
    let kept = match arrangement.folders.iter().any(keeps) {
        true => Some(place.hold_kept()?),
        false => None,
    };
    let folders = mounts::folders(&arrangement.folders, folder_roots)?;
    let overlay_scratch = place.scratch(&arrangement.image)?;
    let entry = place.dir.file_name().unwrap_or_default().to_string_lossy().into_owned();
    // Of its own name for each keeper: the janitor of one that was killed may just be removing that one's.
    let announce = |dir: &Path| cleanup.note(&format!("group {}", dir.display()));
    let groups = Groups::make_here(&format!("{entry}-{}", std::process::id()), &announce);
    let mut notes = Vec::new();
    if let Err(error) = groups.limit(group_limits(arrangement.limits)) {
        notes.push(format!("limits cannot be set: {error}"));
    }
    let (limits, each) = keep_limits(arrangement.limits, &groups);
    let layers = store.lower_directories(&job.layers, bundles)?;
    let mut sandbox = Job::new(Purpose::Workspace, layers, overlay_scratch.clone(), &arrangement.setup.host_name);
    (sandbox.folders, sandbox.only) = (folders.clone(), (ACCOUNT_ID, ACCOUNT_ID));
    (sandbox.groups, sandbox.each) = (groups.dirs(), each);
    sandbox.files = own_files(place, arrangement, job.apt_sources.as_deref(), job.identity.records_owners())?;
    let session = Session::begin(sandbox, job.identity)?;
    notes.extend(session.notes().iter().cloned());
    if job.identity.records_owners() {
        notes.extend(one_account_only(arrangement));
    }
    let note = |table: &str| cleanup.note(&format!("table {table}"));
    let way = network::open(arrangement.network, session.process(), job.identity, &note);
    if let Some(resolver) = way.resolver() {
        // The file lies inside already, so what is written into it is seen at once.
        let path = place.dir.join("files/resolv.conf");
        fs::write(&path, resolver).map_err(file_error("write", &path))?;
    }
    if let Some(lacks) = &way.lacks {
        notes.push(format!("the workspace reaches no other machine: {lacks}"));
    }
    Ok(Made { session, groups, way, folders, notes, limits, overlay_scratch, _kept: kept })
}

/// What a member with a single id has to know when services or steps name other accounts.
fn one_account_only(arrangement: &Arrangement) -> Option<String> {
    let own = &arrangement.setup.account;
    let services = arrangement.services.values().map(|part| &part.account);
    let steps = arrangement.steps.iter().map(|step| &step.account);
    let others: BTreeSet<_> = services.chain(steps).flatten().filter(|account| *account != own).collect();
    let names = others.into_iter().map(String::as_str).collect::<Vec<_>>().join(" and ");
    (!names.is_empty()).then(|| {
        format!(
            "you have a single user number here: what runs as {names} shares all files with {own}, and changes of an \
             owner have no effect; an administrator gives you more by usermod --add-subuids and --add-subgids; see \
             cavrith doctor"
        )
    })
}

/// Files that lie over files inside.
fn own_files(
    place: &Place,
    arrangement: &Arrangement,
    apt_sources: Option<&str>,
    single: bool,
) -> Result<Vec<FolderMount>, WorkspaceError> {
    let mut files = Vec::new();
    // Whom to ask for names is known once there is a way out.
    let mut texts = vec![(names::INSIDE, names::inside_text(arrangement)), ("/etc/resolv.conf", String::new())];
    texts.extend(apt_sources.map(|text| (crate::APT_SOURCES, text.to_owned())));
    if single && apt_sources.is_some() {
        texts.push((crate::APT_ALONE, "APT::Sandbox::User \"root\";\n".to_owned()));
    }
    for (inside, text) in texts {
        // Without a way out the image's own file says as much.
        if inside != names::INSIDE && arrangement.network == Network::None {
            continue;
        }
        let path = place.dir.join("files").join(inside.rsplit('/').next().unwrap_or_default());
        // It is mounted as it is, and everybody inside may read it, whatever the member's umask.
        let readable = fs::Permissions::from_mode(0o644);
        let written = fs::write(&path, text).and_then(|()| fs::set_permissions(&path, readable));
        written.map_err(file_error("write", &path))?;
        let mut file = FolderMount::new(path, inside.into());
        file.only_new = [crate::APT_SOURCES, crate::APT_ALONE].contains(&inside);
        files.push(file);
    }
    Ok(files)
}

/// A spec's limits, as the sandbox takes them.
fn group_limits(Limits { memory, cpus, processes }: Limits) -> GroupLimits {
    GroupLimits { memory, cpus, processes }
}

/// What of the limits is kept by groups, in words, and what has to be kept by process.
fn keep_limits(limits: Limits, groups: &Groups) -> (Vec<String>, PerProcessLimits) {
    let (mut each, mut words) = (PerProcessLimits::default(), Vec::new());
    let mut say = |what: String, together: bool, instead: &str| {
        words.push(if together { format!("{what}, all together") } else { format!("{what}, {instead}") });
    };
    if let Some(bytes) = limits.memory {
        let only = Limits { memory: limits.memory, ..Limits::default() };
        say(shown_limits(only), groups.kept.memory, "for each process: no control group can be made here");
        each.memory = (!groups.kept.memory).then_some(bytes);
    }
    if let Some(cpus) = limits.cpus {
        let only = Limits { cpus: limits.cpus, ..Limits::default() };
        say(shown_limits(only), groups.kept.cpus, "by binding it to some: no control group can be made here");
        each.cpus = (!groups.kept.cpus).then_some(cpus);
    }
    if let Some(count) = limits.processes {
        let only = Limits { processes: limits.processes, ..Limits::default() };
        say(shown_limits(only), groups.kept.processes, "for each user: no control group can be made here");
        each.processes = (!groups.kept.processes).then_some(count);
    }
    (words, each)
}
