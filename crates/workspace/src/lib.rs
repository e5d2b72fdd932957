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

use std::path::{Path, PathBuf};

use cavrith_core::spec::Spec;
use cavrith_engine::EngineError;
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
        let real = outside.canonicalize().map_err(cavrith_engine::error::file_error("use the folder", &outside))?;
        Ok(FolderMount::new(real, folder.inside.value.to_string().into()))
    };
    spec.folders.iter().map(mount).collect()
}
