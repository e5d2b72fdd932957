//! What can go wrong with a running workspace.

use cavrith_core::failure::FailureCode;
use cavrith_engine::EngineError;
use cavrith_sandbox::SandboxError;
use cavrith_store::StoreError;

use crate::protocol;

/// What can go wrong with a running workspace.
#[derive(Debug, thiserror::Error)]
pub enum KeeperError {
    /// A keeper has it.
    #[error("the workspace {name} is held by process {holder}, which does not answer; end that process, and try again")]
    InUse {
        /// Its name.
        name: String,
        /// Who has it.
        holder: String,
    },
    /// The keeper could not begin.
    #[error("{text}")]
    Keeper {
        /// The exit code that stands for it.
        code: u8,
        /// What it said.
        text: String,
        /// The kind of failure.
        kind: FailureCode,
    },
    /// The keeper will not do it now.
    #[error("{name}: {why}")]
    Refused {
        /// The workspace.
        name: String,
        /// The reason, in words.
        why: String,
    },
    /// The keeper is of another version.
    #[error(
        "the keeper of {name} was started by another version of Cavrith (it speaks protocol {protocol}, this one {}); end it with that version's cavrith stop, or end its process",
        protocol::PROTOCOL
    )]
    OtherProtocol {
        /// The workspace.
        name: String,
        /// What it speaks.
        protocol: u32,
    },
    /// The keeper went away.
    #[error("the workspace {name} was stopped meanwhile, or its keeper was killed; cavrith status tells more")]
    Gone {
        /// The workspace.
        name: String,
    },
    /// The keeper went away under a command that ran.
    #[error(
        "the workspace {name} ended under the command: it was stopped, or its keeper was killed; cavrith status tells more"
    )]
    EndedUnder {
        /// The workspace.
        name: String,
    },
    /// It does not run.
    #[error("the workspace {name} does not run; cavrith start starts it")]
    NotRunning {
        /// The workspace.
        name: String,
    },
    /// A kept folder is in use.
    #[error("{0}")]
    FolderInUse(String),
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
    /// A port cannot be listened on, for another reason than that it is taken.
    #[error("the port {outside}{bind} for `{name}` cannot be listened on: {source}")]
    PortRefused {
        /// The port's name.
        name: String,
        /// The port.
        outside: u16,
        /// The address, in words, when the spec names one.
        bind: String,
        /// The error that the system reported.
        source: std::io::Error,
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
    /// A flow of the engine.
    #[error(transparent)]
    Engine(#[from] EngineError),
}

impl From<SandboxError> for KeeperError {
    fn from(error: SandboxError) -> Self {
        Self::Engine(error.into())
    }
}

impl From<StoreError> for KeeperError {
    fn from(error: StoreError) -> Self {
        Self::Engine(error.into())
    }
}

impl KeeperError {
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::InUse { .. } => FailureCode::WORKSPACE_HELD,
            Self::Keeper { kind, .. } => *kind,
            Self::Refused { .. } => FailureCode::REFUSED,
            Self::OtherProtocol { .. } => FailureCode::OTHER_PROTOCOL,
            Self::Gone { .. } | Self::EndedUnder { .. } => FailureCode::WORKSPACE_ENDED,
            Self::NotRunning { .. } => FailureCode::NOT_RUNNING,
            Self::FolderInUse(_) => FailureCode::KEPT_FOLDER,
            Self::PortTaken { .. } | Self::PortRefused { .. } | Self::NoFreePort { .. } => FailureCode::PORT,
            Self::Engine(error) => error.code(),
        }
    }

    /// The exit code that stands for it.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Engine(error) => error.exit_code(),
            Self::Keeper { code, .. } => *code,
            // The machine lacks nothing; the workspace is not in a state for what was asked.
            Self::Refused { .. } | Self::NotRunning { .. } | Self::FolderInUse(_) => 2,
            Self::InUse { .. }
            | Self::OtherProtocol { .. }
            | Self::Gone { .. }
            | Self::EndedUnder { .. }
            | Self::PortTaken { .. }
            | Self::PortRefused { .. }
            | Self::NoFreePort { .. } => 3,
        }
    }
}
