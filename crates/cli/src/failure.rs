//! What a command can fail with, and the exit code that stands for it.

use cavrith_core::failure::FailureCode;
use cavrith_engine::EngineError;
use cavrith_exchange::ExchangeError;
use cavrith_keeper::KeeperError;
use cavrith_sandbox::SandboxError;
use cavrith_store::StoreError;
use cavrith_workspace::WorkspaceError;

/// An error, from the crate that knows it best: none of these holds another one's.
#[derive(Debug)]
pub enum Failure {
    Engine(EngineError),
    Exchange(ExchangeError),
    Keeper(KeeperError),
    Workspace(WorkspaceError),
    /// Somebody was asked, and said no: nothing was changed, and nothing failed.
    Declined,
    /// Something that only this crate knows: the exit code and a sentence.
    Own(u8, String),
}

impl Failure {
    /// Whether a sandbox ended under the command.
    pub fn is_of_a_lost_sandbox(&self) -> bool {
        matches!(self, Self::Engine(EngineError::Sandbox(SandboxError::Gone)))
    }

    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::Engine(error) => error.code(),
            Self::Exchange(error) => error.code(),
            Self::Keeper(error) => error.code(),
            Self::Workspace(error) => error.code(),
            Self::Declined => FailureCode::of_exit(0),
            Self::Own(code, _) => FailureCode::of_exit(*code),
        }
    }

    pub fn exit_code(&self) -> u8 {
        match self {
            // As a shell says it of a program that is not there, or cannot be run.
            Self::Engine(EngineError::Sandbox(SandboxError::NotStarted { missing, .. })) => 126 + u8::from(*missing),
            Self::Engine(error) => error.exit_code(),
            Self::Exchange(error) => error.exit_code(),
            Self::Keeper(error) => error.exit_code(),
            Self::Workspace(error) => error.exit_code(),
            Self::Declined => 0,
            Self::Own(code, _) => *code,
        }
    }
}

impl From<WorkspaceError> for Failure {
    fn from(error: WorkspaceError) -> Self {
        match error {
            WorkspaceError::Engine(error) => Self::Engine(error),
            WorkspaceError::Keeper(error) => error.into(),
            error => Self::Workspace(error),
        }
    }
}

impl From<KeeperError> for Failure {
    fn from(error: KeeperError) -> Self {
        match error {
            KeeperError::Engine(error) => Self::Engine(error),
            error => Self::Keeper(error),
        }
    }
}

impl From<ExchangeError> for Failure {
    fn from(error: ExchangeError) -> Self {
        match error {
            ExchangeError::Engine(error) => Self::Engine(error),
            error => Self::Exchange(error),
        }
    }
}

impl From<EngineError> for Failure {
    fn from(error: EngineError) -> Self {
        Self::Engine(error)
    }
}

impl From<SandboxError> for Failure {
    fn from(error: SandboxError) -> Self {
        Self::Engine(error.into())
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        Self::Engine(error.into())
    }
}
