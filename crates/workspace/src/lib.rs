//! A workspace in use: an image, a scratch on top of it, the member's folders in it, its ports reachable outside.
//!
//! | module | what |
//! |---|---|
//! | [`scratch`] | where what is changed inside is kept, and that one command holds it at a time |
//! | [`door`] | how further commands come into a workspace that a command holds already |
//! | [`ports`] | carries connections from outside to inside |
//! | [`entering`] | runs a command inside, as if it ran here |
//! | [`verifying`] | measures the image and a fresh workspace against the seal |
#![forbid(unsafe_code)]

pub mod door;
pub mod entering;
pub mod ports;
pub mod scratch;
pub mod verifying;

use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use cavrith_core::spec::Spec;
use cavrith_engine::EngineError;
use cavrith_engine::error::file_error;
use cavrith_sandbox::SandboxError;
use cavrith_sandbox::job::FolderMount;
use cavrith_store::StoreError;

/// What can go wrong with a workspace.
#[derive(Debug, thiserror::Error)]
pub enum WorkspaceError {
    /// Somebody else has it, and does not answer at its door.
    #[error(
        "the workspace {name} is in use by process {holder}, which does not answer; try again, or end that process"
    )]
    InUse {
        /// Its name.
        name: String,
        /// Who has it.
        holder: String,
        /// The workspace's own directory.
        dir: PathBuf,
    },
    /// Somebody else has it, with another image.
    #[error(
        "the workspace {name} is in use with another image ({words}); end what runs in it, and the new one takes its place"
    )]
    OtherImage {
        /// Its name.
        name: String,
        /// The image that runs.
        words: String,
    },
    /// A port that has to be exactly this one is taken.
    #[error(
        "the port {outside} for `{name}` is taken by another program, and the spec says exact = true; end that program, or leave exact out"
    )]
    PortTaken {
        /// The port's name.
        name: String,
        /// The port.
        outside: u16,
    },
    /// No port is free.
    #[error("no port from {outside} to {last} is free for `{name}`")]
    NoFreePort {
        /// The port's name.
        name: String,
        /// The first one tried.
        outside: u16,
        /// The last one tried.
        last: u16,
    },
    /// There is no seal to measure against.
    #[error("the lock has no seal to verify against; the lead makes one with cavrith seal")]
    NoSeal,
    /// A flow of the engine.
    #[error(transparent)]
    Engine(#[from] EngineError),
}

impl From<SandboxError> for WorkspaceError {
    fn from(error: SandboxError) -> Self {
        Self::Engine(error.into())
    }
}

impl From<StoreError> for WorkspaceError {
    fn from(error: StoreError) -> Self {
        Self::Engine(error.into())
    }
}

impl WorkspaceError {
    /// The exit code that stands for it.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Engine(error) => error.exit_code(),
            Self::NoSeal => 1,
            Self::InUse { .. } | Self::OtherImage { .. } | Self::PortTaken { .. } | Self::NoFreePort { .. } => 3,
        }
    }
}

/// The folders of a spec, as a sandbox mounts them.
///
/// # Errors
/// When one is not there.
pub fn folder_mounts(dir: &Path, spec: &Spec) -> Result<Vec<FolderMount>, EngineError> {
    let mount = |folder: &cavrith_core::spec::Folder| {
        let outside = dir.join(&folder.outside.value);
        let real = outside.canonicalize().map_err(file_error("use the folder", &outside))?;
        Ok(FolderMount::new(real, folder.inside.value.to_string().into()))
    };
    spec.folders.iter().map(mount).collect()
}

/// Directories in folders that never cross the wall: inside, each is a directory of its own in `place`. What is mounted needs
/// something to be mounted on, so an empty directory is made outside where there is none.
///
/// # Errors
/// When something else is there, or it cannot be made.
pub fn except_mounts(spec: &Spec, folders: &[FolderMount], place: &Path) -> Result<Vec<FolderMount>, EngineError> {
    let mut mounts = Vec::new();
    for (folder, mounted) in spec.folders.iter().zip(folders) {
        let mut except: Vec<_> = folder.except.iter().map(|path| &path.value).collect();
        // What lies in another one is mounted after it.
        except.sort();
        for path in except {
            let inside = mounted.inside.join(path.as_relative());
            let own = place.join(inside.to_string_lossy().trim_matches('/').replace('/', "!"));
            std::fs::create_dir_all(&own).map_err(file_error("make", &own))?;
            make_below(&mounted.outside, path)?;
            mounts.push(FolderMount::new(own, inside));
        }
    }
    Ok(mounts)
}

/// Makes the directories of a path in a folder that are not there, as the folder's owner's, and follows no link.
fn make_below(folder: &Path, path: &cavrith_core::path::RootPath) -> Result<(), EngineError> {
    let owner = std::fs::metadata(folder).map_err(file_error("look at", folder))?;
    let mut at = folder.to_owned();
    for name in path.names() {
        at.push(std::ffi::OsStr::from_bytes(name));
        match at.symlink_metadata() {
            Ok(meta) if meta.is_dir() => continue,
            Ok(_) => {
                let error = std::io::Error::new(std::io::ErrorKind::NotADirectory, "it is no directory");
                return Err(file_error("keep inside", &at)(error));
            }
            Err(_) => {}
        }
        std::fs::create_dir(&at).map_err(file_error("make", &at))?;
        if owner.uid() != rustix::process::geteuid().as_raw() {
            std::os::unix::fs::lchown(&at, Some(owner.uid()), Some(owner.gid()))
                .map_err(file_error("give away", &at))?;
        }
    }
    Ok(())
}
