//! What a command can fail with, and the exit code that stands for it.

use cavrith_core::failure::FailureCode;
use cavrith_engine::EngineError;
use cavrith_sandbox::SandboxError;
use cavrith_store::StoreError;
use cavrith_workspace::WorkspaceError;

#[derive(Debug)]
pub enum Failure {
    Workspace(WorkspaceError),
    /// Something that only this crate knows: the exit code and a sentence.
    Own(u8, String),
}

impl Failure {
    /// Whether a sandbox ended under the command.
    pub fn is_of_a_lost_sandbox(&self) -> bool {
        matches!(self, Self::Workspace(WorkspaceError::Engine(EngineError::Sandbox(SandboxError::Gone))))
    }

    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::Workspace(error) => error.code(),
            Self::Own(code, _) => FailureCode::of_exit(*code),
        }
    }

    pub fn exit_code(&self) -> u8 {
        match self {
            // As a shell says it of a program that is not there, or cannot be run.
            Self::Workspace(WorkspaceError::Engine(EngineError::Sandbox(SandboxError::NotStarted {
                missing, ..
            }))) => {
                if *missing {
                    127
                } else {
                    126
                }
            }
            Self::Workspace(error) => error.exit_code(),
            Self::Own(code, _) => *code,
        }
    }
}

impl From<WorkspaceError> for Failure {
    fn from(error: WorkspaceError) -> Self {
        Self::Workspace(error)
    }
}

impl From<EngineError> for Failure {
    fn from(error: EngineError) -> Self {
        Self::Workspace(error.into())
    }
}

impl From<SandboxError> for Failure {
    fn from(error: SandboxError) -> Self {
        Self::Workspace(error.into())
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        Self::Workspace(error.into())
    }
}
