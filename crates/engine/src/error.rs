//! What can go wrong in a flow: a small type for each operation, and one that is any of them.

mod building;
mod depot;
mod locking;
mod project;
mod recording;
mod sealing;
mod team;

use std::path::PathBuf;

use cavrith_core::failure::FailureCode;
use cavrith_sandbox::SandboxError;
use cavrith_sources::SourceError;
use cavrith_store::StoreError;

use crate::findings::Findings;

pub use building::BuildError;
pub use depot::DepotError;
pub use locking::LockError;
pub use project::ProjectError;
pub use recording::RecordError;
pub use sealing::SealError;
pub use team::TeamError;

/// What can go wrong in a flow.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// The project itself.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The project has mistakes.
    #[error("the project has mistakes")]
    Mistakes(Box<Findings>),
    /// Pins.
    #[error(transparent)]
    Lock(#[from] LockError),
    /// Making layers.
    #[error(transparent)]
    Build(#[from] BuildError),
    /// Sealing.
    #[error(transparent)]
    Seal(#[from] SealError),
    /// What steps fetch.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// Who may sign, and signing.
    #[error(transparent)]
    Team(#[from] TeamError),
    /// Filling a depot.
    #[error(transparent)]
    Depot(#[from] DepotError),
    /// A file of the project cannot be read or written.
    #[error("cannot {doing} {}: {source}", path.display())]
    File {
        /// What was being done.
        doing: &'static str,
        /// To which file.
        path: PathBuf,
        /// Why it failed.
        source: std::io::Error,
    },
    /// Sources.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// Store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Sandbox.
    #[error(transparent)]
    Sandbox(#[from] SandboxError),
}

impl EngineError {
    /// Findings that are sound, or the error that they are not.
    ///
    /// # Errors
    /// When there is a mistake that is more than a warning.
    pub fn unless_sound(findings: Findings) -> Result<Findings, Self> {
        if findings.is_sound() { Ok(findings) } else { Err(Self::Mistakes(Box::new(findings))) }
    }

    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::Project(error) => error.code(),
            Self::Mistakes(_) => FailureCode::MISTAKES,
            Self::Lock(error) => error.code(),
            Self::Build(error) => error.code(),
            Self::Seal(error) => error.code(),
            Self::Record(error) => error.code(),
            Self::Team(error) => error.code(),
            Self::Depot(_) => FailureCode::DEPOT,
            Self::File { .. } => FailureCode::FILE,
            Self::Source(error) => error.code(),
            Self::Store(error) => error.code(),
            Self::Sandbox(error) => error.code(),
        }
    }

    /// The exit code that stands for it: 1 a check found something, 2 wrong use, 3 this machine lacks something, 4 a
    /// source could not be reached or did not match, 5 a step failed.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Project(_) | Self::Depot(_) | Self::File { .. } => 2,
            Self::Mistakes(findings) if findings.only_unreachable() => 4,
            Self::Mistakes(_) => 1,
            Self::Lock(error) => error.exit_code(),
            Self::Build(error) => error.exit_code(),
            Self::Seal(error) => error.exit_code(),
            Self::Record(error) => error.exit_code(),
            Self::Team(error) => error.exit_code(),
            Self::Store(_) | Self::Source(SourceError::Store(_)) => 3,
            Self::Source(_) => 4,
            Self::Sandbox(SandboxError::NotStarted { .. }) => 5,
            Self::Sandbox(_) => 3,
        }
    }

    /// The same with more that was noticed, when it is that a step failed: it stands below what the step said last.
    pub(crate) fn because(self, noticed: Vec<String>) -> Self {
        match self {
            Self::Build(BuildError::Step { step, ending, mut last_lines }) => {
                last_lines.extend(noticed);
                Self::Build(BuildError::Step { step, ending, last_lines })
            }
            other => other,
        }
    }

    /// True when the disk had no room left.
    pub fn is_full(&self) -> bool {
        matches!(self, Self::Store(error) | Self::Source(SourceError::Store(error)) if error.is_full())
    }
}

/// Adds what was being done, and to which file, to the error of a system call.
pub fn file_error(doing: &'static str, path: impl Into<PathBuf>) -> impl FnOnce(std::io::Error) -> EngineError {
    let path = path.into();
    move |source| EngineError::File { doing, path, source }
}

/// The error of a system call without its number.
pub(crate) fn plain(error: &std::io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or(&text).to_lowercase()
}
