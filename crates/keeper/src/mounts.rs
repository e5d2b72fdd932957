//! The folders of an arrangement, as a sandbox mounts them.

use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use cavrith_core::arrangement::{Arrangement, FolderPart, Place as FilesPlace};
use cavrith_core::encode::percent_encoded;
use cavrith_core::path::RootPath;
use cavrith_engine::EngineError;
use cavrith_engine::error::file_error;
use cavrith_sandbox::ground::Ground;
use cavrith_sandbox::job::FolderMount;
use cavrith_store::Store;
use cavrith_store::caches::Cache;

use crate::KeeperError;
use crate::synced;

/// Where folders that are not the member's own lie.
#[derive(Debug, Clone, Copy)]
pub struct FolderRoots<'a> {
    /// The project's folder.
    pub project: &'a Path,
    /// Directories that stay inside.
    pub except: &'a Path,
    /// Kept folders.
    pub kept: &'a Path,
}

/// All folders, an outer one before what lies in it. Kept folders and places that something is mounted on are made when
/// they are not there: what is mounted needs something to be mounted on, so a directory in a live folder is an empty
/// one outside.
///
/// # Errors
/// When a live folder is not there, or something cannot be made.
pub fn folders(parts: &[FolderPart], folder_roots: FolderRoots<'_>) -> Result<Vec<FolderMount>, EngineError> {
    let mut mounts: Vec<FolderMount> = Vec::new();
    for part in parts {
        let inside = PathBuf::from(&part.inside);
        let mount = match &part.place {
            FilesPlace::Live(outside) => {
                let outside = folder_roots.project.join(outside);
                FolderMount::new(outside.canonicalize().map_err(file_error("use the folder", &outside))?, inside)
            }
            FilesPlace::Synced(outside, _) => {
                let outside = folder_roots.project.join(outside);
                let copy = synced::copy_of(folder_roots.kept, &part.inside, &outside);
                FolderMount::new(copy.map_err(file_error("make a copy of the folder", &outside))?, inside)
            }
            FilesPlace::Kept(name, owner) => kept(&folder_roots.kept.join(name), inside, owner.clone())?,
        };
        make_in_outer(&mounts, &mount.inside)?;
        let whole = mount.inside.clone();
        let outside = mount.outside.clone();
        mounts.push(mount);
        for except in &part.except {
            let inside = whole.join(except);
            let own = folder_roots.except.join(percent_encoded(inside.to_string_lossy().trim_matches('/'), ""));
            fs::create_dir_all(&own).map_err(file_error("make", &own))?;
            if let Ok(path) = RootPath::from_archive(except.as_bytes()) {
                make_below(&outside, &path)?;
            }
            // What a step installed for the project is there at once.
            let mut mount = FolderMount::new(own, inside);
            mount.image_first = true;
            mounts.push(mount);
        }
    }
    Ok(mounts)
}

/// A kept folder, made when it is not there.
fn kept(dir: &Path, inside: PathBuf, owner: Option<String>) -> Result<FolderMount, EngineError> {
    let mut mount = FolderMount::new(dir.to_owned(), inside);
    mount.kept = true;
    if !dir.is_dir() {
        // Nobody else comes near what was made inside: a set-uid program in it would have its owner's rights outside.
        cavrith_store::private::directory(dir.parent().unwrap_or(dir))?;
        fs::create_dir(dir).map_err(file_error("make", dir))?;
        (mount.new, mount.owner) = (true, owner);
    } else if fs::read_dir(dir).is_ok_and(|mut entries| entries.next().is_none()) {
        // Made by a start that was interrupted, perhaps before it was given to anybody.
        (mount.new, mount.owner) = (true, owner);
    }
    Ok(mount)
}

/// Folders of the home that a member's workspaces share.
#[derive(Debug, Default)]
pub struct Caches {
    /// As they are mounted.
    pub mounts: Vec<FolderMount>,
    /// In use as long as this lives.
    pub held: Vec<Cache>,
    /// What cannot be shared.
    pub notes: Vec<String>,
}

/// Those of the wanted folders that can be shared: what the image has in a home is the team's, and a home that begins
/// anew each time has nothing from elsewhere.
///
/// # Errors
/// When one cannot be made.
pub fn caches(
    store: &Store,
    wanted: &[String],
    arrangement: &Arrangement,
    layers: &[PathBuf],
) -> Result<Caches, KeeperError> {
    let mut found = Caches::default();
    let account = &arrangement.setup.account;
    let home = PathBuf::from(cavrith_core::account::home(account));
    for path in wanted {
        let inside = home.join(path);
        let inner = inside.strip_prefix("/").unwrap_or(&inside);
        let in_image =
            |layer: &PathBuf| Ground::open(layer).and_then(|layer| layer.kind(inner)).is_ok_and(|kind| kind.is_some());
        let in_folder = |folder: &FolderPart| {
            let folder = Path::new(&folder.inside);
            inside.starts_with(folder) || folder.starts_with(&inside)
        };
        let why = if arrangement.fresh_home {
            "the spec wants a home that is new each time"
        } else if layers.iter().any(in_image) {
            "the image has something there"
        } else if arrangement.folders.iter().any(in_folder) {
            "a folder of the spec lies there"
        } else {
            let cache = store.shared_cache(path)?;
            let mut mount = FolderMount::new(cache.path.clone(), inside);
            (mount.kept, mount.new, mount.owner) = (true, cache.is_new, Some(account.clone()));
            found.mounts.push(mount);
            found.held.push(cache);
            continue;
        };
        found.notes.push(format!("~/{path} is not shared with your other workspaces: {why}"));
    }
    Ok(found)
}

/// Makes the place for a folder that lies in a live one.
fn make_in_outer(mounts: &[FolderMount], inside: &Path) -> Result<(), EngineError> {
    let outer = mounts.iter().filter(|outer| inside.starts_with(&outer.inside) && inside != outer.inside);
    let Some(outer) = outer.max_by_key(|outer| outer.inside.as_os_str().len()) else { return Ok(()) };
    let rest = inside.strip_prefix(&outer.inside).unwrap_or(inside);
    match RootPath::from_archive(rest.as_os_str().as_bytes()) {
        Ok(path) => make_below(&outer.outside, &path),
        Err(_) => Ok(()),
    }
}

/// Makes the directories of a path in a folder that are not there, as the folder's owner's, and follows no link.
fn make_below(folder: &Path, path: &RootPath) -> Result<(), EngineError> {
    let owner = fs::metadata(folder).map_err(file_error("look at", folder))?;
    let mut at = folder.to_owned();
    for name in path.names() {
        at.push(std::ffi::OsStr::from_bytes(name));
        match at.symlink_metadata() {
            Ok(meta) if meta.is_dir() => continue,
            Ok(_) => {
                let error = std::io::Error::new(std::io::ErrorKind::NotADirectory, "it is not a directory");
                return Err(file_error("keep inside", &at)(error));
            }
            Err(_) => {}
        }
        fs::create_dir(&at).map_err(file_error("make", &at))?;
        if owner.uid() != rustix::process::geteuid().as_raw() {
            std::os::unix::fs::lchown(&at, Some(owner.uid()), Some(owner.gid()))
                .map_err(file_error("give away", &at))?;
        }
    }
    Ok(())
}
