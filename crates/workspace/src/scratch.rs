//! Where what is changed inside a workspace is kept.
//!
//! ```text
//! workspaces/NAME-ID/held          locked while a command has the workspace; holds that command's process id
//! workspaces/NAME-ID/door         the socket at which other commands come in; see [`crate::door`]
//! workspaces/NAME-ID/except/      what of the folders stays inside, by inside path
//! workspaces/NAME-ID/project      the path of the project's folder
//! workspaces/NAME-ID/IMAGE/       what was changed inside over that image: an overlay's upper directory and what it needs
//! ```
//!
//! ID comes from the project's path, so two projects of the same name have two workspaces. An upper directory means something
//! over the very layers it was made over only, so each image has its own.

use std::fs::{self, File};
use std::io::{Read as _, Seek as _, Write as _};
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};

use rustix::fs::FlockOperation;

use cavrith_core::digest::{ContentDigest, ImageFingerprint};
use cavrith_engine::error::file_error;
use cavrith_engine::home::Home;
use cavrith_engine::steps;
use cavrith_store::owners::Ownership;

use crate::WorkspaceError;

/// A workspace that this process holds.
#[derive(Debug)]
pub struct Scratch {
    /// The directory for the sandbox's overlay.
    pub bench: PathBuf,
    /// The workspace's own directory.
    pub dir: PathBuf,
    /// Scratches over other images of the same project.
    pub earlier: Vec<PathBuf>,
    _held: File,
}

/// Takes hold of the workspace of a project, and makes the scratch over an image if there is none.
///
/// # Errors
/// [`WorkspaceError::InUse`] when somebody else has it.
pub fn hold(home: &Home, name: &str, project: &Path, image: &ImageFingerprint) -> Result<Scratch, WorkspaceError> {
    let id = ContentDigest::of(project.as_os_str().as_bytes()).to_string();
    let dir = home.workspaces().join(format!("{name}-{}", &id[..8]));
    fs::DirBuilder::new().recursive(true).mode(0o700).create(&dir).map_err(file_error("make", &dir))?;
    let path = dir.join("held");
    let mut held = File::options()
        .read(true)
        .write(true)
        .create(true)
        .truncate(false)
        .open(&path)
        .map_err(file_error("open", &path))?;
    if rustix::fs::flock(&held, FlockOperation::NonBlockingLockExclusive).is_err() {
        let mut holder = String::new();
        let _ = held.read_to_string(&mut holder);
        return Err(WorkspaceError::InUse { name: name.to_owned(), holder: holder.trim().to_owned(), dir });
    }
    held.rewind().and_then(|()| held.set_len(0)).map_err(file_error("write", &path))?;
    writeln!(held, "{}", std::process::id()).map_err(file_error("write", &path))?;
    cavrith_store::atomic::write(&dir.join("project"), project.as_os_str().as_bytes())?;
    let bench = dir.join(&image.to_string()[..16]);
    if !bench.join("merged").is_dir() {
        // Made aside, so that an interrupted making is never taken for a scratch.
        let aside = dir.join(".new");
        if aside.exists() {
            cavrith_store::staging::remove(&aside)?;
        }
        fs::create_dir(&aside).map_err(file_error("make", &aside))?;
        steps::make_bench(&aside, None, Ownership::Real)?;
        fs::rename(&aside, &bench).map_err(file_error("make", &bench))?;
    }
    let others = fs::read_dir(&dir).map_err(file_error("list", &dir))?.flatten().map(|entry| entry.path());
    let earlier = others.filter(|path| path.is_dir() && *path != bench && has_changes(path)).collect();
    Ok(Scratch { bench, dir, earlier, _held: held })
}

/// Whether anything was changed inside, over the image that `bench` belongs to.
fn has_changes(bench: &Path) -> bool {
    fs::read_dir(bench.join("root")).is_ok_and(|mut entries| entries.next().is_some())
}
