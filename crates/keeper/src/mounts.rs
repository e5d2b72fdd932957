//! The folders of an arrangement, as a sandbox mounts them.

use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use cavrith_core::arrangement::{FolderPart, Place as FilesPlace};
use cavrith_core::encode::percent_encoded;
use cavrith_core::path::RootPath;
use cavrith_engine::EngineError;
use cavrith_engine::error::file_error;
use cavrith_sandbox::job::FolderMount;

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
