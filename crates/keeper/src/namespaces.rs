//! What a workspace runs in, made of namespaces: a sandbox over the image, control groups around it, and a way to other
//! machines.

use std::collections::BTreeSet;
use std::io;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};

use cavrith_core::arrangement::Arrangement;
use cavrith_core::derive::changes::shown_limits;
use cavrith_core::spec::Limits;
use cavrith_engine::error::file_error;
use cavrith_engine::personal::Personal;
use cavrith_engine::secret_values::SecretValues;
use cavrith_sandbox::groups::{self, GroupLimits, Groups, Kept};
use cavrith_sandbox::job::{FolderMount, PerProcessLimits, Purpose};
use cavrith_sandbox::runtime::{Measured, Runtime};
use cavrith_sandbox::{Identity, SandboxError, Session, locked};

use crate::cleanup::CleanupList;
use crate::furniture::{self, Furnished, Furniture};
use crate::network::{self, WayOut};
use crate::offered::Offered;
use crate::place::Place;
use crate::ssh::forward::Sockets;
use crate::{KeeperError, RESOLVER};

/// What a workspace's namespaces are made from.
pub(crate) struct Wanted<'a> {
    pub place: &'a Place,
    pub arrangement: &'a Arrangement,
    pub identity: Identity,
    /// Lower directories, the lowest first.
    pub layers: Vec<PathBuf>,
    /// What holds the upper directory.
    pub scratch: PathBuf,
    pub folders: Vec<FolderMount>,
    /// The text of `/etc/apt/sources.list`.
    pub apt_sources: Option<&'a str>,
    /// Values of its secrets.
    pub secrets: &'a SecretValues,
    pub personal: &'a Personal,
}

/// What a workspace runs in, and what has to be said about it.
pub(crate) struct Started {
    pub runtime: Box<dyn Runtime>,
    /// What could not be done as it should be.
    pub notes: Vec<String>,
    /// Limits that hold, in words.
    pub limits: Vec<String>,
    /// The way to other machines, in words.
    pub network: String,
    /// Where the member's agents are asked for inside.
    pub offered: Vec<Offered>,
    /// Versions of Ruby's libraries in the image.
    pub gems: Vec<String>,
    /// Where agents of SSH clients will be asked for.
    pub sockets: Sockets,
    /// To whoever watches over the copies of synced folders, in their order.
    pub synced: Vec<UnixStream>,
}

/// Makes groups, namespaces and the way to other machines. What the kernel does not remove with the last process is
/// noted in `cleanup` before it is made.
pub(crate) fn start(wanted: Wanted<'_>, cleanup: &CleanupList) -> Result<Started, KeeperError> {
    let Wanted { place, arrangement, identity, layers, scratch, folders, apt_sources, secrets, personal } = wanted;
    let entry = place.dir.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let announce = |dir: &Path| cleanup.note(&format!("group {}", dir.display()));
    // Of its own name for each keeper: the janitor of one that was killed may just be removing that one's.
    let groups = Groups::make_here(&format!("{entry}-{}", std::process::id()), &announce);
    let mut notes = Vec::new();
    if let Err(error) = groups.limit(group_limits(arrangement.limits)) {
        notes.push(format!("limits cannot be set: {error}"));
    }
    let (limits, each) = keep_limits(arrangement.limits, groups.kept);
    let gems = furniture::versions_of_gems(&layers);
    let furniture = Furniture { place, arrangement, identity, apt_sources, secrets, personal };
    let mut job = furniture.job(Purpose::Workspace, layers, scratch)?;
    (job.folders, job.groups, job.each) = (folders, groups.dirs(), each);
    let session = Session::begin(job, identity)?;
    notes.extend(session.notes().iter().cloned());
    let Furnished { notes: more, offered, sockets } = furniture.lay(session.process())?;
    notes.extend(more);
    if identity.records_owners() {
        notes.extend(one_account_only(arrangement));
    }
    let note = |table: &str| cleanup.note(&format!("table {table}"));
    let way = network::open(arrangement.network, session.process(), identity, &note);
    if let Some(resolver) = way.resolver() {
        session.write_file(RESOLVER, &resolver).map_err(file_error("write", RESOLVER))?;
    }
    if let Some(lacks) = &way.lacks {
        notes.push(format!("the workspace reaches no other machine: {lacks}"));
    }
    let network = way.how.clone();
    let runtime = Namespaces { session, groups, way: Mutex::new(Some(way)), frozen: AtomicBool::new(false) };
    Ok(Started { runtime: Box::new(runtime), notes, limits, network, offered, gems, sockets, synced: Vec::new() })
}

/// A sandbox with control groups and a way to other machines.
#[derive(Debug)]
struct Namespaces {
    session: Session,
    groups: Groups,
    way: Mutex<Option<WayOut>>,
    frozen: AtomicBool,
}

impl Runtime for Namespaces {
    fn session(&self) -> &Session {
        &self.session
    }

    fn measure(&self) -> Measured {
        // What is frozen does not answer; the kernel still knows of its groups.
        let frozen = self.frozen.load(Ordering::SeqCst);
        let measured = if frozen { Measured::default() } else { self.session.measure() };
        Measured {
            memory: self.groups.memory().or(measured.memory),
            cpu_millis: self.groups.cpu_millis().or(measured.cpu_millis),
            held: self.groups.held(),
            ..measured
        }
    }

    fn freeze(&self, frozen: bool) -> Result<(), SandboxError> {
        if self.groups.kept.freezing {
            let doing = if frozen { "freeze the control group" } else { "thaw the control group" };
            let outside = |source| SandboxError::Outside { doing: doing.to_owned(), source };
            self.groups.freeze(frozen).map_err(outside)?;
        } else {
            self.session.freeze(frozen)?;
        }
        self.frozen.store(frozen, Ordering::SeqCst);
        Ok(())
    }

    fn limit(&self, limits: GroupLimits) -> io::Result<()> {
        self.groups.limit(limits)
    }

    fn kept(&self) -> Kept {
        self.groups.kept
    }

    fn write_file(&self, inside: &str, text: &str) -> io::Result<()> {
        self.session.write_file(inside, text)
    }

    fn end(&self) {
        drop(locked(&self.way).take());
        self.session.end();
        groups::remove(&self.groups.dirs());
    }
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

/// A spec's limits, as the sandbox takes them.
pub(crate) fn group_limits(Limits { memory, cpus, processes }: Limits) -> GroupLimits {
    GroupLimits { memory, cpus, processes }
}

/// What of the limits is kept by groups, in words, and what has to be kept by process.
pub(crate) fn keep_limits(limits: Limits, kept: Kept) -> (Vec<String>, PerProcessLimits) {
    let (mut each, mut words) = (PerProcessLimits::default(), Vec::new());
    let mut say = |what: String, together: bool, instead: &str| {
        words.push(if together { format!("{what}, all together") } else { format!("{what}, {instead}") });
    };
    if let Some(bytes) = limits.memory {
        let only = Limits { memory: limits.memory, ..Limits::default() };
        say(shown_limits(only), kept.memory, "for each process: no control group can be made here");
        each.memory = (!kept.memory).then_some(bytes);
    }
    if let Some(cpus) = limits.cpus {
        let only = Limits { cpus: limits.cpus, ..Limits::default() };
        say(shown_limits(only), kept.cpus, "by binding it to some: no control group can be made here");
        each.cpus = (!kept.cpus).then_some(cpus);
    }
    if let Some(count) = limits.processes {
        let only = Limits { processes: limits.processes, ..Limits::default() };
        say(shown_limits(only), kept.processes, "for each user: no control group can be made here");
        each.processes = (!kept.processes).then_some(count);
    }
    (words, each)
}
