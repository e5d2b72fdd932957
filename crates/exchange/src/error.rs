//! What can go wrong while something leaves this machine or comes to it.

use std::io;
use std::path::PathBuf;

use cavrith_core::failure::FailureCode;
use cavrith_engine::EngineError;
use cavrith_sources::SourceError;
use cavrith_store::StoreError;

/// What can go wrong while something leaves this machine or comes to it.
#[derive(Debug, thiserror::Error)]
pub enum ExchangeError {
    /// The place of an export has something else.
    #[error("{} is there already, and is not an image layout; name another place, or move it away", .0.display())]
    Occupied(PathBuf),
    /// The file of an export or parcel is something else.
    #[error("{} is there already, and is not an archive that could be replaced; name another file, or move it away", .0.display())]
    NotAnArchive(PathBuf),
    /// An image layout that cannot be added to.
    #[error("the image layout {} cannot be added to: {why}", path.display())]
    Layout {
        /// The folder.
        path: PathBuf,
        /// The reason, in words.
        why: String,
    },
    /// A disk of a machine that cannot be made.
    #[error("{0}")]
    Machine(String),
    /// A registry for which there is no password.
    #[error("{registry}: {why}")]
    Login {
        /// The registry.
        registry: String,
        /// The reason, in words.
        why: String,
    },
    /// A reference that is none.
    #[error("{text:?} is not a reference to an image: {why}; write registry/name:tag")]
    Reference {
        /// As it was written.
        text: String,
        /// The reason, in words.
        why: String,
    },
    /// A registry does not have it.
    #[error("the registry has no {0}; cavrith push puts an image there")]
    NotThere(String),
    /// A reference that names no image.
    #[error("{0} names no image: write a tag behind it, as in registry/name:tag")]
    NoTag(String),
    /// Others keep writing the same list.
    #[error("the registry's list {tag} is being written by others all the time; try again")]
    Contended {
        /// The tag that the list has.
        tag: String,
    },
    /// A place for reports that is none.
    #[error("{text:?} is neither a folder that is there, nor an image in a registry (registry/name:tag){}", if *is_read { ", nor an address of git" } else { "" })]
    NoReports {
        /// As it was typed.
        text: String,
        /// It was to be read from.
        is_read: bool,
    },
    /// A project that cannot be joined from there.
    #[error("{text:?} cannot be joined: {why}")]
    Source {
        /// As it was typed.
        text: String,
        /// The reason, in words.
        why: String,
    },
    /// The folder for a project has something else.
    #[error("{} is there already, and is not a clone of {from}; name another folder behind it", dir.display())]
    Elsewhere {
        /// The folder.
        dir: PathBuf,
        /// The source.
        from: String,
    },
    /// Work in progress that cannot be taken along.
    #[error("{0}")]
    Work(String),
    /// Something in the history that looks like a secret.
    #[error("{} in the history may be nobody else's; take {} out of it, or name what may go along with --include PATH:\n    {}", if .0.len() == 1 { "a file" } else { "files" }, if .0.len() == 1 { "it" } else { "them" }, .0.join("\n    "))]
    InDoubt(Vec<String>),
    /// A file that is not a parcel, or one that is damaged.
    #[error("{} is not a parcel that can be read: {why}", path.display())]
    Parcel {
        /// The file.
        path: PathBuf,
        /// The reason, in words.
        why: String,
    },
    /// A key that cannot be used.
    #[error("{text:?} cannot be used as a key: {why}")]
    Key {
        /// The key, or the file that it should be in.
        text: String,
        /// The reason, in words.
        why: String,
    },
    /// A parcel that is for others.
    #[error("{} is encrypted, and {}; name another one with --key FILE", path.display(), tried_words(tried))]
    NoKey {
        /// The file.
        path: PathBuf,
        /// Files of keys that do not open it.
        tried: Vec<PathBuf>,
    },
    /// A folder has no history.
    #[error("{} is not under version control, so it has no history; git init begins one", .0.display())]
    NotVersioned(PathBuf),
    /// There is no such revision.
    #[error("there is no revision {0}; git log shows those there are, and git fetch brings newer ones")]
    NoRevision(String),
    /// git did not do it.
    #[error("{0}")]
    Git(String),
    /// A file whose name means a deletion in a layer of a container image.
    #[error("{layer} has {path}, and in a container image a name that begins with .wh. deletes something; rename it")]
    MarkName {
        /// The layer.
        layer: String,
        /// The file.
        path: String,
    },
    /// Writing failed.
    #[error("cannot write {}: {source}", path.display())]
    Write {
        /// What was written.
        path: PathBuf,
        /// Why it failed.
        source: io::Error,
    },
    /// A flow of the engine.
    #[error(transparent)]
    Engine(#[from] EngineError),
}

impl From<StoreError> for ExchangeError {
    fn from(error: StoreError) -> Self {
        Self::Engine(error.into())
    }
}

impl From<SourceError> for ExchangeError {
    fn from(error: SourceError) -> Self {
        Self::Engine(error.into())
    }
}

impl ExchangeError {
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::Occupied(_)
            | Self::NotAnArchive(_)
            | Self::Layout { .. }
            | Self::Machine(_)
            | Self::MarkName { .. }
            | Self::Write { .. } => FailureCode::EXPORT,
            Self::Login { .. }
            | Self::Reference { .. }
            | Self::NotThere(_)
            | Self::NoTag(_)
            | Self::Contended { .. }
            | Self::NoReports { .. } => FailureCode::REGISTRY,
            Self::Work(_) | Self::InDoubt(_) | Self::Parcel { .. } | Self::Key { .. } | Self::NoKey { .. } => {
                FailureCode::PARCEL
            }
            Self::NotVersioned(_) | Self::NoRevision(_) => FailureCode::REVISION,
            Self::Source { .. } | Self::Elsewhere { .. } | Self::Git(_) => FailureCode::JOIN,
            Self::Engine(error) => error.code(),
        }
    }

    /// The exit code that stands for it.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Occupied(_)
            | Self::NotAnArchive(_)
            | Self::Layout { .. }
            | Self::Login { .. }
            | Self::NotVersioned(_)
            | Self::NoRevision(_)
            | Self::NoTag(_)
            | Self::NoReports { .. }
            | Self::Reference { .. } => 2,
            Self::Source { .. } | Self::Elsewhere { .. } | Self::Work(_) | Self::Key { .. } => 2,
            Self::Git(_) | Self::Parcel { .. } => 4,
            Self::MarkName { .. } | Self::InDoubt(_) => 1,
            Self::Machine(_) | Self::Write { .. } | Self::NoKey { .. } | Self::NotThere(_) | Self::Contended { .. } => {
                3
            }
            Self::Engine(error) => error.exit_code(),
        }
    }

    /// True when the disk had no room left.
    pub fn is_full(&self) -> bool {
        match self {
            Self::Write { source, .. } => {
                matches!(source.kind(), io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded)
            }
            Self::Engine(error) => error.is_full(),
            _ => false,
        }
    }
}

fn tried_words(tried: &[PathBuf]) -> String {
    if tried.is_empty() {
        return "you have no key in ~/.ssh that could open it".to_owned();
    }
    let tried: Vec<_> = tried.iter().map(|path| path.display().to_string()).collect();
    format!("it is not for the key in {}", tried.join(" or "))
}

/// Adds what was being written to the error of a system call.
pub(crate) fn writing(path: impl Into<PathBuf>) -> impl FnOnce(io::Error) -> ExchangeError {
    let path = path.into();
    move |source| ExchangeError::Write { path, source }
}
