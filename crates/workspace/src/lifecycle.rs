//! The life of a workspace as its member sees it: which one is meant, started, compared with the spec, dropped.

use std::path::{Path, PathBuf};

use cavrith_core::arrangement::Arrangement;
use cavrith_core::derive::changes::{Change, Effort, changes};
use cavrith_core::derive::fit;
use cavrith_core::derive::plan::Plan;
use cavrith_core::lock::{self, Lock};
use cavrith_core::spec::{FILE_NAME, Machine, Spec};
use cavrith_core::verdict::Difference;
use cavrith_engine::EngineError;
use cavrith_engine::context::BuildContext;
use cavrith_engine::error::ProjectError;
use cavrith_engine::home::Home;
use cavrith_engine::member::Member;
use cavrith_engine::project::{self, Project};
use cavrith_engine::project_files;
use cavrith_exchange::machine_files;
use cavrith_sandbox::guest::hypervisor;
use cavrith_sandbox::machine;
use cavrith_store::Store;
use cavrith_store::records::ImageRecord;

use crate::adding::Added;
use crate::copying::failed;
use crate::kept::{self, KeptFolder};
use crate::moved;
use crate::{WorkspaceError, backups};
use cavrith_keeper::home;
use cavrith_keeper::names::Named;
use cavrith_keeper::place::Place;
use cavrith_keeper::protocol::Followed;
use cavrith_keeper::record::{Record, Stamp};
use cavrith_keeper::synced;
use cavrith_keeper::{KeeperError, Launch};

/// Where the files of a workspace's machine are, in its directory.
const MACHINE: &str = "machine";

/// Which workspace a member means.
#[derive(Debug, Clone, Copy)]
pub struct Meant<'a> {
    /// This machine's home of Cavrith.
    pub home: &'a Home,
    /// The project's folder, or one inside it.
    pub project: &'a Path,
    /// It was typed, and not only where the member is.
    pub project_typed: bool,
    /// The workspace's name, when one was typed.
    pub name: Option<&'a str>,
    /// The variant, when one was typed.
    pub variant: Option<&'a str>,
}

impl Meant<'_> {
    /// The name of the workspace, when it is not the project's own one: as it was typed, or that of a variant other
    /// than the default one.
    fn own_name(&self) -> Result<Option<String>, WorkspaceError> {
        match (self.name, self.variant) {
            (Some(name), _) => Ok(Some(name.to_owned())),
            (None, None) => Ok(None),
            (None, Some(variant)) => {
                let spec = project::load(&project::find(self.project)?, Some(variant))?.spec;
                Ok((!spec.is_default).then(|| spec.name()))
            }
        }
    }

    /// The workspace that is there. A name is looked for in this project first, then on the whole machine.
    ///
    /// # Errors
    /// When there is no such workspace, or several.
    pub fn existing(&self) -> Result<Option<Place>, WorkspaceError> {
        self.existing_of(self.own_name()?.as_deref())
    }

    fn existing_of(&self, name: Option<&str>) -> Result<Option<Place>, WorkspaceError> {
        let project = project::find(self.project);
        // A folder that was typed and is not there is a slip, whatever else was typed.
        if matches!(project, Err(EngineError::Project(ProjectError::NoFolder { .. }))) {
            project?;
            return Ok(None);
        }
        if let Ok(project) = &project
            && (name.is_some() || !Place::has_own(self.home, project))
        {
            moved::adopt(self.home, project)?;
        }
        let Some(name) = name else { return Ok(Place::of_project(self.home, &project?)) };
        let all = Place::all(self.home);
        let mut named: Vec<_> = all.iter().filter(|place| place.name == name).cloned().collect();
        if let Ok(project) = &project
            && let Some(own) = named.iter().find(|place| place.is_of(project))
        {
            return Ok(Some(own.clone()));
        }
        if self.project_typed {
            project?;
            return Ok(None);
        }
        match named.len() {
            0 | 1 => Ok(named.pop()),
            _ => {
                let projects: Vec<_> = named.iter().map(|place| place.project.display().to_string()).collect();
                let projects = projects.join(", ");
                Err(WorkspaceError::SeveralWorkspaces { name: name.to_owned(), projects })
            }
        }
    }

    /// As [`Self::existing`]; that there is none is an error.
    ///
    /// # Errors
    /// When there is no such workspace, or several.
    pub fn found(&self) -> Result<Place, WorkspaceError> {
        let name = self.own_name()?;
        match (self.existing_of(name.as_deref())?, name) {
            (Some(place), _) => Ok(place),
            (None, Some(name)) => {
                let others: Vec<_> = Place::all(self.home).into_iter().map(|place| place.name).collect();
                Err(WorkspaceError::NoWorkspace { name, others: others.join(", ") })
            }
            (None, None) => {
                let project = project::load(&project::find(self.project)?, None)?;
                Err(KeeperError::NotRunning { name: project.spec.workspace.name.value }.into())
            }
        }
    }

    /// The workspace to start: one that is there, or a new one of this project.
    ///
    /// # Errors
    /// When there is neither, or the spec has mistakes.
    pub fn to_start(&self) -> Result<(Place, Project), WorkspaceError> {
        // A project's own workspace of that name is meant, or a new one, no matter who else has one of the name.
        let own_project = project::find(self.project).ok();
        let is_own = |place: &Place| own_project.as_ref().is_none_or(|project| place.is_of(project));
        let name = self.own_name()?;
        let existing = self.existing_of(name.as_deref())?.filter(is_own);
        let dir = match &existing {
            Some(place) => place.project.clone(),
            None => project::find(self.project)?,
        };
        let project = match (self.variant, &existing) {
            (None, Some(place)) => of_place(place)?,
            (variant, _) => project::load(&dir, variant)?,
        };
        let own = match &existing {
            Some(place) if place.named => Some(place.name.clone()),
            Some(_) => None,
            None => name,
        };
        let place = Place::new(self.home, &dir, &project.spec.workspace.name.value, own.as_deref());
        let remembered = || Place::remembered(self.home, &dir).filter(|_| own.is_none());
        match existing.or_else(remembered) {
            Some(place) if place.called => Ok((place, project)),
            // The spec renames it now; what runs keeps its name until it has ended.
            Some(earlier) if earlier.dir != place.dir && earlier.is_held() => Ok((earlier, project)),
            Some(earlier) if earlier.dir != place.dir => {
                earlier.rename(&place)?;
                Ok((place, project))
            }
            _ => Ok((place, project)),
        }
    }
}

/// The project of a workspace, of the variant that the workspace is of.
///
/// # Errors
/// When the spec has mistakes.
pub fn of_place(place: &Place) -> Result<Project, WorkspaceError> {
    let project = project::load(&place.project, None)?;
    // The project's own workspace is of the default variant, whichever that is by now.
    let recorded = Record::read(&place.dir).filter(|_| place.named).map(|record| record.arrangement.variant);
    match recorded.filter(|variant| project.variants.contains_key(variant)) {
        Some(variant) => Ok(project::load(&place.project, Some(&variant))?),
        None => Ok(project),
    }
}

/// The files that a project's spec is read from, as they are now.
pub fn stamps(dir: &Path) -> Vec<Stamp> {
    let included = project::read_spec(dir)
        .map(|(gathered, _)| gathered.sources.files().iter().map(|file| file.path.clone()).collect::<Vec<_>>())
        .unwrap_or_default();
    let mut paths: Vec<PathBuf> = included.into_iter().map(|path| dir.join(path)).collect();
    paths.extend([dir.join(FILE_NAME), dir.join(lock::FILE_NAME)]);
    paths.sort();
    paths.dedup();
    paths.iter().map(|path| Stamp::of(path)).collect()
}

/// What is to run, and over what.
#[derive(Debug)]
pub struct Wanted {
    /// The arrangement.
    pub arrangement: Arrangement,
    /// The image's record.
    pub record: ImageRecord,
    /// The plan's key for it.
    pub plan: Plan,
    /// The files that it was read from.
    pub stamps: Vec<Stamp>,
    /// Where packages come from that somebody installs by hand.
    pub apt_sources: Option<String>,
}

impl Wanted {
    /// What a project's spec and lock say, over an image that is there.
    pub fn new(project: &Project, lock: &Lock, record: &ImageRecord) -> Self {
        let arrangement = Arrangement::new(&project.spec, lock, record.image, &record.shell);
        let (plan, stamps) = (Plan::new(&project.spec, lock), stamps(&project.dir));
        // A configuration that cannot be read was reported by whatever was done before.
        let apt_sources = lock.debian.as_ref().and_then(|pin| Some(Member::find().ok()?.apt_sources(pin)));
        Self { arrangement, record: record.clone(), plan, stamps, apt_sources }
    }

    /// As a request to follow it.
    pub fn followed(&self) -> Followed {
        Followed { arrangement: self.arrangement.clone(), image_key: self.plan.image_key, stamps: self.stamps.clone() }
    }

    /// Has it run in the machine that the spec describes, by the member's choice.
    ///
    /// # Errors
    /// [`WorkspaceError::NoMachine`] when it describes none.
    pub fn choose_machine(&mut self, project: &Project) -> Result<(), WorkspaceError> {
        if self.arrangement.choose_machine(&project.spec) { Ok(()) } else { Err(WorkspaceError::NoMachine) }
    }

    /// Starts a keeper for it; false when one was there already. What a machine runs from is made first.
    ///
    /// # Errors
    /// When the workspace cannot be started.
    pub fn launch(
        self,
        context: BuildContext<'_>,
        (project, lock): (&Project, &Lock),
        place: &Place,
        (added, plain): (Added, bool),
    ) -> Result<bool, WorkspaceError> {
        let (store, identity) = (context.store, context.identity);
        place.make(identity)?;
        let Self { arrangement, record, plan, stamps, apt_sources } = self;
        let of_image = record.layers.iter().map(|layer| layer.tree);
        let layers: Vec<_> = added.beneath.into_iter().chain(of_image).chain(added.above).collect();
        let machine = match (&arrangement.machine, &project.spec.machine, &lock.debian) {
            (None, ..) => None,
            (Some(_), Some(machine), Some(pin)) => {
                let (of, image) = ((project, pin, machine), (&record.image, layers.as_slice()));
                Some(machine_files::prepare(
                    context,
                    of,
                    image,
                    (lock.epoch, lock.seal.as_ref()),
                    (&place.dir.join(MACHINE), &place.kept),
                )?)
            }
            (Some(_), ..) => return Err(WorkspaceError::NoMachine),
        };
        let launch = Launch {
            place: place.clone(),
            store: store.root().to_owned(),
            identity,
            arrangement,
            image_key: plan.image_key,
            layers,
            machine,
            stamps,
            shell: record.shell,
            apt_sources,
            secrets: added.secrets,
            personal: added.personal,
            plain,
        };
        Ok(cavrith_keeper::launch(launch)?)
    }
}

/// What differs between what runs and what the spec says now.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Pending {
    /// Each difference.
    pub changes: Vec<Change>,
    /// Why it cannot be reported, when it cannot: the spec has mistakes, or the lock does not answer it.
    pub unclear: Option<String>,
}

impl Pending {
    /// The most that a difference takes.
    pub fn effort(&self) -> Effort {
        self.changes.iter().map(|change| change.effort).max().unwrap_or(Effort::Nothing)
    }
}

/// What this machine does not offer, of what the spec asks of it. Free space counts as long as the image is not there.
pub fn machine_lacks(home: &Home, project: &Project, has_image: bool) -> Vec<Difference> {
    let host = &project.spec.workspace.host;
    if host.is_empty() {
        return Vec::new();
    }
    let resources = machine::resources(home.root());
    let found = Machine {
        memory: resources.memory,
        processors: resources.processors,
        disk: resources.disk.filter(|_| !has_image),
        release: machine::release(),
        architecture: std::env::consts::ARCH.to_owned(),
    };
    host.lacking(&found)
}

/// Refuses a machine that does not offer what the spec asks of it, before anything is built.
///
/// # Errors
/// [`WorkspaceError::Machine`], with all that is missing.
pub fn check_machine(home: &Home, project: &Project, lock: &Lock, store: &Store) -> Result<(), WorkspaceError> {
    let key = Plan::new(&project.spec, lock).image_key;
    let lacking = machine_lacks(home, project, store.image_for(&key).ok().flatten().is_some());
    if lacking.is_empty() { Ok(()) } else { Err(WorkspaceError::Machine { name: project.spec.name(), lacking }) }
}

/// Holds what runs in a workspace, or ran last, against the spec of its project. Nothing is built for it.
pub fn pending(store: &Store, place: &Place, runs: &Arrangement) -> Pending {
    let unclear = |why: String| Pending { changes: Vec::new(), unclear: Some(why) };
    let project = match of_place(place) {
        Ok(project) => project,
        Err(error) => return unclear(format!("{error}; cavrith check tells more")),
    };
    let lock = match project::load_lock(&project) {
        Ok(lock) => lock,
        Err(error) => return unclear(error.to_string()),
    };
    let misfits = fit::misfits(&project.spec, &lock);
    if !misfits.is_empty() {
        return unclear("the lock does not answer the spec; run cavrith lock".to_owned());
    }
    if let Some(files) = project_files::first_changed(&project.bounds, &project.spec, &lock.files) {
        return unclear(format!(
            "{files}: changed since they were locked; run cavrith lock, and cavrith record when something else is fetched now"
        ));
    }
    let plan = Plan::new(&project.spec, &lock);
    let built = store.image_for(&plan.image_key).ok().flatten();
    let shell = built
        .as_ref()
        .map_or_else(|| runs.setup.env.get("SHELL").cloned().unwrap_or_default(), |record| record.shell.clone());
    let image = built.as_ref().map_or(runs.image, |record| record.image);
    let mut wanted = Arrangement::new(&project.spec, &lock, image, &shell);
    wanted.choose_as(runs, &project.spec);
    let mut changes = changes(runs, &wanted);
    if built.is_none() {
        let wanted = "an image that is not built here".to_owned();
        changes.insert(
            0,
            Change { what: "image".to_owned(), runs: runs.image.spoken(), wanted, effort: Effort::ImageBuild },
        );
    }
    Pending { changes, unclear: None }
}

/// What is lost from the scratch when a workspace goes over to another image: how many files were changed, the first
/// few, and where they lie. `None`: nothing.
pub fn left_behind(place: &Place, runs: &Arrangement, most: usize) -> Option<(usize, Vec<String>, PathBuf)> {
    let scratch = place.scratch_path(&runs.image);
    let (count, some) = cavrith_keeper::place::scratch_changes(&scratch, home::going_along(runs).as_deref(), most);
    (count > 0).then(|| (count, some, scratch.join("root")))
}

/// What dropping a workspace removes.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Dropping {
    /// Files that were changed inside.
    pub changed_files: usize,
    /// Some of them.
    pub some: Vec<String>,
    /// Logs.
    pub logs: Vec<String>,
    /// Names of the kept folders, which stay.
    pub kept: Vec<String>,
    /// What the member has in the account's home, which stays, too.
    pub home: Option<KeptFolder>,
    /// It has a machine's disk, on which kept folders and the home are, and which stays.
    pub machine_disk: bool,
    /// Synced folders that are not the same inside and outside, by where they appear inside; their copies stay. What
    /// runs brings them together first.
    pub apart: Vec<String>,
    /// The project, which stays.
    pub project: String,
    /// Host names of the hosts file.
    pub names: Vec<String>,
}

/// Says what dropping a workspace would remove.
pub fn dropping(place: &Place, with_home: bool) -> Dropping {
    let (mut changed_files, mut some) = (0, Vec::new());
    let record = Record::read(&place.dir);
    let home = kept_home(place, with_home);
    let but = home.as_ref().and(record.as_ref()).and_then(|record| home::going_along(&record.arrangement));
    for scratch in place.scratches() {
        let (count, paths) = cavrith_keeper::place::scratch_changes(&scratch, but.as_deref(), 5);
        changed_files += count;
        some.extend(paths);
    }
    some.truncate(5);
    let names = record.map(|record| record.arrangement.names.into_keys().collect());
    Dropping {
        changed_files,
        some,
        logs: cavrith_keeper::journal::sources(&place.dir.join("logs")),
        kept: place.kept_folders().into_iter().map(|(name, _)| name).collect(),
        home,
        apart: if place.is_held() { Vec::new() } else { synced::apart(place) },
        machine_disk: place.dir.join(MACHINE).join(hypervisor::DATA).exists(),
        project: place.project.display().to_string(),
        names: names.unwrap_or_default(),
    }
}

/// Sets the scratch of a stopped workspace aside, but for a home that goes along.
///
/// # Errors
/// When somebody has it, or the disk refuses.
pub fn set_scratch_aside(home: &Home, place: &Place, scratch: &Path) -> Result<Option<PathBuf>, WorkspaceError> {
    let _held = place.hold()?;
    if let Some(record) = Record::read(&place.dir).filter(|record| !record.arrangement.fresh_home) {
        home::keep(place, &record.arrangement.setup.account)?;
    }
    backups::set_aside(home, place, scratch)
}

/// The home that stays when a workspace is dropped.
fn kept_home(place: &Place, with_home: bool) -> Option<KeptFolder> {
    let record = Record::read(&place.dir).filter(|record| !with_home && !record.arrangement.fresh_home)?;
    let path = home::found(place, &record.arrangement.setup.account)?;
    let measured = kept::measure(place, home::NAME, &path);
    (measured.entries > 0).then_some(measured)
}

/// Removes a workspace that does not run. Kept folders and the project stay, and so does the account's home unless it
/// is to go as well; what was changed inside is set aside, and where is returned.
///
/// # Errors
/// When a keeper holds it, or the disk refuses.
pub fn drop_workspace(home: &Home, place: &Place, with_home: bool) -> Result<Vec<PathBuf>, WorkspaceError> {
    let held = place.hold()?;
    let mut aside = Vec::new();
    if kept_home(place, with_home).is_some()
        && let Some(record) = Record::read(&place.dir)
    {
        home::keep(place, &record.arrangement.setup.account)?;
    }
    if place.dir.join(MACHINE).is_dir() {
        place.make_kept()?;
        machine_files::keep(&place.dir.join(MACHINE), &place.kept)?;
    }
    for scratch in place.scratches() {
        aside.extend(backups::set_aside(home, place, &scratch)?);
    }
    synced::remove_copies(place).map_err(failed("the copies of synced folders"))?;
    cavrith_store::removing::remove(&place.dir)?;
    drop(held);
    Ok(aside)
}

/// The label of a workspace's block in the hosts file: its name, and what tells it from others of that name.
pub fn names_label(place: &Place) -> String {
    place.dir.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// The names of a spec, as the hosts file gets them.
pub fn outside_names(spec: &Spec) -> Vec<Named> {
    let bind = |port: &str| {
        let found = spec.ports.iter().find(|one| one.name.value == port)?;
        found.bind.as_ref().map(|bind| bind.value)
    };
    spec.names.iter().map(|(name, port)| Named::new(name, bind(&port.value))).collect()
}
