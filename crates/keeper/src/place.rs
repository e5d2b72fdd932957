//! Where what belongs to a workspace is kept, and how it is found again.
//!
//! ```text
//! workspaces/NAME-ID/held          locked while a keeper has the workspace; holds its process id
//! workspaces/NAME-ID/door          the socket at which commands come in; see [`crate::protocol`]
//! workspaces/NAME-ID/project       the path of the project's folder
//! workspaces/NAME-ID/called        is there when it keeps its name, whatever the spec says
//! workspaces/NAME-ID/folder        which folder that is, whatever its path; see [`crate::moved`]
//! workspaces/NAME-ID/record        what runs, or ran last; see [`crate::record`]
//! workspaces/NAME-ID/logs/         what services and steps wrote; see [`crate::journal`]
//! workspaces/NAME-ID/leavings-N    what is to be removed after the keeper N, by its janitor
//! workspaces/NAME-ID/except/       what of the folders stays inside, by inside path
//! workspaces/NAME-ID/files/        files that lie over files inside: hosts, resolv.conf
//! workspaces/NAME-ID/IMAGE/        what was changed inside over that image: an overlay's upper directory and what it
//! needs; see [`crate::home`]
//! kept/NAME-ID/FOLDER/             kept folders, which survive the workspace
//! kept/NAME-ID/.home               the account's home, when the workspace was dropped
//! kept/NAME-ID/.project, .folder   as above, for when the workspace is dropped
//! backups/NAME-ID/TIME/            a scratch that was to be removed; see [`crate::backups`]
//! ```
//!
//! ID comes from the project's canonical path, and from the name where it is not the spec's own, so two projects of the
//! same name have two workspaces, and a project has as many as it has names. An upper directory means something over
//! the very layers it was made over only, so each image has its own.

use std::fs::{self, File};
use std::io::{Read as _, Seek as _, Write as _};
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rustix::fs::FlockOperation;
use serde::{Deserialize, Serialize};

use cavrith_core::account::ACCOUNT_ID;
use cavrith_core::digest::{ContentDigest, ImageFingerprint};
use cavrith_engine::error::file_error;
use cavrith_engine::home::Home;
use cavrith_engine::overlay_scratch;
use cavrith_sandbox::Identity;
use cavrith_store::owners::Ownership;
use cavrith_store::private;

use crate::KeeperError;
use crate::folder_identity;

/// In a scratch: the steps of the first start that were run over its image.
pub(crate) const FIRST_START: &str = "first-start";
/// Is there when a workspace keeps its name whatever the spec says.
const CALLED: &str = "called";

/// The directory of a workspace.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    /// What people call it.
    pub name: String,
    /// The project's folder.
    #[serde(with = "cavrith_sandbox::wire::path")]
    pub project: PathBuf,
    /// It has a name of its own, not the spec's.
    pub named: bool,
    /// It is the project's own, and called otherwise than the spec says: the present revision is beside it.
    pub called: bool,
    /// Its directory.
    #[serde(with = "cavrith_sandbox::wire::path")]
    pub dir: PathBuf,
    /// The directory of its kept folders.
    #[serde(with = "cavrith_sandbox::wire::path")]
    pub kept: PathBuf,
}

/// What tells workspaces of the same name apart: from the project's path, and from the name when it is not the spec's
/// own.
pub fn id_of(project: &Path, name: Option<&str>) -> String {
    let mut bytes = project.as_os_str().as_bytes().to_vec();
    if let Some(name) = name {
        bytes.push(0);
        bytes.extend(name.as_bytes());
    }
    ContentDigest::of(&bytes).to_string()[..8].to_owned()
}

impl Place {
    /// Of a project's workspace with a name of its own, or the spec's.
    pub fn new(home: &Home, project: &Path, spec_name: &str, own: Option<&str>) -> Self {
        let own = own.filter(|own| *own != spec_name);
        let name = own.unwrap_or(spec_name).to_owned();
        let entry = format!("{name}-{}", id_of(project, own));
        Self {
            dir: home.workspaces().join(&entry),
            kept: home.kept().join(&entry),
            name,
            project: project.to_owned(),
            named: own.is_some(),
            called: false,
        }
    }

    /// The same, called otherwise on this machine, whatever the spec says.
    #[must_use]
    pub fn with_name(self, home: &Home, name: &str) -> Self {
        let entry = format!("{name}-{}", id_of(&self.project, None));
        Self {
            dir: home.workspaces().join(&entry),
            kept: home.kept().join(&entry),
            name: name.to_owned(),
            called: true,
            ..self
        }
    }

    /// What dropping the project's own workspace left of the name that it has on this machine.
    pub fn remembered(home: &Home, project: &Path) -> Option<Self> {
        Self::dropped(home).into_iter().find(|place| place.called && place.is_of(project))
    }

    /// Every workspace of this machine's user, by name.
    pub fn all(home: &Home) -> Vec<Self> {
        Self::all_in(&home.workspaces())
    }

    /// Those whose directories lie in this one.
    pub(crate) fn all_in(workspaces: &Path) -> Vec<Self> {
        let home = Home::at(workspaces.parent().unwrap_or(workspaces));
        let entries = fs::read_dir(workspaces).into_iter().flatten().flatten();
        let mut places: Vec<_> = entries.filter_map(|entry| Self::at(&home, &entry.path())).collect();
        places.sort_by(|one, other| (&one.name, &one.project).cmp(&(&other.name, &other.project)));
        places
    }

    fn at(home: &Home, dir: &Path) -> Option<Self> {
        let entry = dir.file_name()?.to_str()?;
        let (name, id) = entry.rsplit_once('-')?;
        let project = fs::read(dir.join("project")).ok()?;
        let project = PathBuf::from(std::ffi::OsString::from_vec(project));
        let named = id_of(&project, None) != id;
        let called = dir.join(CALLED).exists();
        Some(Self { name: name.to_owned(), named, called, dir: dir.to_owned(), kept: home.kept().join(entry), project })
    }

    /// Kept folders whose workspaces were dropped, as places of those.
    pub fn dropped(home: &Home) -> Vec<Self> {
        let entries = fs::read_dir(home.kept()).into_iter().flatten().flatten();
        let place = |entry: fs::DirEntry| {
            let name = entry.file_name().into_string().ok()?;
            let dir = home.workspaces().join(&name);
            if dir.exists() || !entry.path().is_dir() {
                return None;
            }
            let project = fs::read(entry.path().join(".project")).unwrap_or_default();
            let project = PathBuf::from(std::ffi::OsString::from_vec(project));
            let (name, id) = name.rsplit_once('-')?;
            let named = id_of(&project, None) != id;
            let called = entry.path().join(format!(".{CALLED}")).exists();
            Some(Self { name: name.to_owned(), named, called, dir, kept: entry.path(), project })
        };
        let mut places: Vec<_> = entries.filter_map(place).collect();
        places.sort_by(|one, other| (&one.name, &one.project).cmp(&(&other.name, &other.project)));
        places
    }

    /// The workspace of a project under its path as it is now.
    fn own(home: &Home, project: &Path) -> Option<Self> {
        let ending = format!("-{}", id_of(project, None));
        let entries = fs::read_dir(home.workspaces()).ok()?.flatten();
        entries
            .filter(|entry| entry.file_name().as_bytes().ends_with(ending.as_bytes()))
            .find_map(|entry| Self::at(home, &entry.path()))
    }

    /// Whether a project has a workspace under its path as it is now, so that none has to be looked for elsewhere.
    pub fn has_own(home: &Home, project: &Path) -> bool {
        Self::own(home, project).is_some()
    }

    /// The workspace of a project that has the spec's name, when there is one; found without reading the spec.
    pub fn of_project(home: &Home, project: &Path) -> Option<Self> {
        let own = Self::own(home, project);
        // One that runs under an earlier path of the project keeps it until it has ended.
        own.or_else(|| Self::all(home).into_iter().find(|place| !place.named && place.is_of(project)))
    }

    /// Whether it, or what it kept, belongs to a project.
    pub fn is_of(&self, project: &Path) -> bool {
        folder_identity::is_of(&self.project, (&self.dir, &self.kept), project)
    }

    /// Makes the directory when it is not there. Like all that is needed to talk to the keeper, it belongs to the
    /// member, no matter which of the image's owners this process is.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn make(&self, identity: Identity) -> Result<(), KeeperError> {
        let dir = &self.dir;
        private::directory(dir)?;
        for name in ["logs", "files", "except"] {
            let path = dir.join(name);
            fs::DirBuilder::new().recursive(true).mode(0o755).create(&path).map_err(file_error("make", &path))?;
        }
        folder_identity::note(&self.project, dir, "")?;
        self.note_name(&dir.join(CALLED))?;
        give_to_member(dir, identity)
    }

    /// Makes the directory of its kept folders, which nobody else can enter, and records in it whose they are.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn make_kept(&self) -> Result<(), KeeperError> {
        let kept = &self.kept;
        private::directory(kept)?;
        folder_identity::note(&self.project, kept, ".")?;
        self.note_name(&kept.join(format!(".{CALLED}")))
    }

    fn note_name(&self, mark: &Path) -> Result<(), KeeperError> {
        if self.called && !mark.exists() {
            cavrith_store::atomic::write(mark, b"")?;
        }
        Ok(())
    }

    /// Locks the kept folders, as anyone who uses, restores or removes them has to; the kernel releases them
    /// with this process.
    ///
    /// # Errors
    /// When somebody else has them, or the disk refuses.
    pub fn hold_kept(&self) -> Result<File, KeeperError> {
        self.make_kept()?;
        let held = File::open(&self.kept).map_err(file_error("open", &self.kept))?;
        match rustix::fs::flock(&held, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => Ok(held),
            Err(_) => {
                let text = format!(
                    "the kept folders of {} are in use; stop it first, or wait for the other command",
                    self.name
                );
                Err(KeeperError::FolderInUse(text))
            }
        }
    }

    /// Calls a workspace otherwise: its directory, and that of its kept folders.
    ///
    /// # Errors
    /// When something is there already under the new name, or the disk refuses. A rename that was interrupted is
    /// finished by the next one.
    pub fn rename(&self, to: &Self) -> Result<(), KeeperError> {
        let pairs = [(&self.kept, &to.kept), (&self.dir, &to.dir)];
        let taken = |(from, to): &&(&PathBuf, &PathBuf)| from.is_dir() && to.exists();
        if let Some((from, to)) = pairs.iter().find(taken) {
            let why = format!(
                "{} is there already, and holds what another workspace kept; move one of them away",
                to.display()
            );
            let error = std::io::Error::new(std::io::ErrorKind::AlreadyExists, why);
            return Err(file_error("rename", from.as_path())(error).into());
        }
        for (from, to) in pairs {
            if from.is_dir() {
                fs::rename(from, to).map_err(file_error("rename", from))?;
            }
        }
        Ok(())
    }

    /// Locks the workspace; the kernel releases it with this process.
    ///
    /// # Errors
    /// [`KeeperError::InUse`] when a keeper has it.
    pub fn hold(&self) -> Result<File, KeeperError> {
        let path = self.dir.join("held");
        let options = File::options().read(true).write(true).create(true).truncate(false).open(&path);
        let mut held = options.map_err(file_error("open", &path))?;
        // Anyone who only looks whether it is held does so by locking it for a moment; a keeper holds it for longer.
        let is_free = (0..20).any(|attempt| {
            if attempt > 0 {
                std::thread::sleep(Duration::from_millis(10));
            }
            rustix::fs::flock(&held, FlockOperation::NonBlockingLockExclusive).is_ok()
        });
        if !is_free {
            let mut holder = String::new();
            let _ = held.read_to_string(&mut holder);
            return Err(KeeperError::InUse { name: self.name.clone(), holder: holder.trim().to_owned() });
        }
        held.rewind().and_then(|()| held.set_len(0)).map_err(file_error("write", &path))?;
        writeln!(held, "{}", std::process::id()).map_err(file_error("write", &path))?;
        Ok(held)
    }

    /// Whether somebody holds it.
    pub fn is_held(&self) -> bool {
        let Ok(held) = File::open(self.dir.join("held")) else { return false };
        rustix::fs::flock(&held, FlockOperation::NonBlockingLockShared).is_err()
    }

    /// The scratch over an image, made when there is none.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn scratch(&self, image: &ImageFingerprint) -> Result<PathBuf, KeeperError> {
        let overlay_scratch = self.scratch_path(image);
        if !overlay_scratch.join("merged").is_dir() {
            self.make_scratch(&overlay_scratch, |_| Ok(()))?;
        }
        Ok(overlay_scratch)
    }

    /// Makes a scratch over an image that has this upper directory, which is moved there, and in which these steps of
    /// the first start are done. There must be none yet.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn lay_scratch(
        &self,
        image: &ImageFingerprint,
        upper: &Path,
        first_start: &[String],
    ) -> Result<(), KeeperError> {
        self.make_scratch(&self.scratch_path(image), |aside| {
            let root = aside.join("root");
            fs::remove_dir(&root).and_then(|()| fs::rename(upper, &root)).map_err(file_error("lay out", &root))?;
            let bytes = serde_json::to_vec(first_start).unwrap_or_default();
            Ok(cavrith_store::atomic::write(&aside.join(FIRST_START), &bytes)?)
        })
    }

    /// Makes a scratch aside, so that an interrupted making is never taken for one.
    fn make_scratch(&self, to: &Path, fill: impl FnOnce(&Path) -> Result<(), KeeperError>) -> Result<(), KeeperError> {
        let aside = self.dir.join(".new");
        if aside.exists() {
            cavrith_store::removing::remove(&aside)?;
        }
        fs::create_dir(&aside).map_err(file_error("make", &aside))?;
        overlay_scratch::prepare(&aside, None, Ownership::Real)?;
        fill(&aside)?;
        fs::rename(&aside, to).map_err(file_error("make", to))?;
        Ok(())
    }

    /// Marks of the steps of the first start that were run over a scratch.
    pub fn first_start_done(&self, scratch: &Path) -> Vec<String> {
        let marks = fs::read(scratch.join(FIRST_START)).unwrap_or_default();
        serde_json::from_slice(&marks).unwrap_or_default()
    }

    /// Where the scratch over an image is, or would be.
    pub fn scratch_path(&self, image: &ImageFingerprint) -> PathBuf {
        self.dir.join(&image.to_string()[..16])
    }

    /// Scratches in which something was changed.
    pub fn scratches(&self) -> Vec<PathBuf> {
        let entries = fs::read_dir(&self.dir).into_iter().flatten().flatten().map(|entry| entry.path());
        let has_changes =
            |path: &PathBuf| fs::read_dir(path.join("root")).is_ok_and(|mut entries| entries.next().is_some());
        entries.filter(has_changes).collect()
    }

    /// Has the steps of the first start run again at the next one, as when what they filled is gone.
    pub fn forget_first_start(&self) {
        for entry in fs::read_dir(&self.dir).into_iter().flatten().flatten() {
            let _ = fs::remove_file(entry.path().join(FIRST_START));
        }
    }

    /// Names of the kept folders that are there, and their directories.
    pub fn kept_folders(&self) -> Vec<(String, PathBuf)> {
        let entries = fs::read_dir(&self.kept).into_iter().flatten().flatten();
        let mut folders: Vec<_> = entries
            .filter(|entry| entry.path().is_dir())
            .filter_map(|entry| Some((entry.file_name().into_string().ok()?, entry.path())))
            .filter(|(name, _)| !name.starts_with('.'))
            .collect();
        folders.sort();
        folders
    }
}

/// What the workspace of a revision is called beside the present one: at most 63 letters, digits and `-`.
pub fn name_of_revision(name: &str, revision: &str) -> String {
    // A commit by its whole digest is too long to be typed.
    let is_commit = revision.len() == 40 && revision.bytes().all(|byte| byte.is_ascii_hexdigit());
    let revision = if is_commit { &revision[..8] } else { revision };
    let plain = |letter: char| if letter.is_ascii_alphanumeric() { letter.to_ascii_lowercase() } else { '-' };
    let text: String = format!("{name}-{revision}").chars().map(plain).take(63).collect();
    text.trim_end_matches('-').to_owned()
}

/// Gives a file or directory to the member. Who stepped into a namespace of all owners is another one there.
///
/// # Errors
/// When the disk refuses.
pub fn give_to_member(path: &Path, identity: Identity) -> Result<(), KeeperError> {
    if identity == Identity::Range {
        std::os::unix::fs::lchown(path, Some(ACCOUNT_ID), Some(ACCOUNT_ID)).map_err(file_error("give away", path))?;
    }
    Ok(())
}

/// Files that were changed in a scratch, but for those in one directory (relative to the root): how many, and the first
/// few, as paths inside.
pub fn scratch_changes(scratch: &Path, but: Option<&Path>, most: usize) -> (usize, Vec<String>) {
    let root = scratch.join("root");
    let (mut count, mut some) = (0, Vec::new());
    let mut open = vec![root.clone()];
    while let Some(dir) = open.pop() {
        let mut entries: Vec<_> = fs::read_dir(&dir).into_iter().flatten().flatten().collect();
        entries.sort_by_key(fs::DirEntry::file_name);
        for entry in entries {
            let path = entry.path();
            if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                if path.strip_prefix(&root).ok() != but || but.is_none() {
                    open.push(path);
                }
                continue;
            }
            // What lies beneath the files that we mount is not a change of anybody's.
            let inside = path.strip_prefix(&root).unwrap_or(&path);
            if crate::OWN_FILES.iter().any(|own| Path::new(own.trim_start_matches('/')) == inside) {
                continue;
            }
            count += 1;
            if some.len() < most {
                // Names that somebody chose inside may hold what a terminal obeys.
                some.push(format!("/{}", cavrith_core::path::shown(inside.as_os_str().as_bytes())));
            }
        }
    }
    some.sort();
    (count, some)
}
