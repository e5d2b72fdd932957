//! A workspace in use: an image, a scratch on top of it, the member's folders in it, services, ports reachable outside,
//! and a keeper that holds all of it together.
//!
//! The way through, from `cavrith start` on: the command finds the workspace's [`place`], makes the arrangement that
//! spec, lock and image describe, and [`keeper::launch`] starts the keeper, which answers at the door from then on.
//! Every other command is a [`client`] of it, and speaks the [`protocol`]. What is written down of it is its
//! [`mod@record`].
//!
//! | module | what |
//! |---|---|
//! | [`place`] | where what belongs to a workspace is kept |
//! | [`mod@record`] | what runs, or ran last |
//! | [`keeper`] | the process in the background |
//! | [`protocol`], [`client`] | what is said at the door, and by whom |
//! | [`runtime`] | starting, following a changed spec, dropping |
//! | [`mounts`] | folders, as a sandbox mounts them |
//! | [`ports`] | carries connections and datagrams from outside to inside |
//! | [`network`] | the way to other machines |
//! | [`names`] | host names inside and outside |
//! | [`journal`] | what services and steps write |
//! | [`moved`] | which folder a workspace belongs to, whatever its path |
//! | [`backups`] | scratches that were to be removed |
//! | [`kept`] | kept folders: looked into, backed up, restored |
//! | [`streams`] | standard streams on their way inside |
//! | [`copying`] | files in and out |
//! | [`verifying`] | measures the image and a fresh workspace against the seal |
#![forbid(unsafe_code)]

mod acceptor;
pub mod backups;
pub mod client;
pub mod copying;
mod datagrams;
mod folder_identity;
pub mod journal;
pub mod keeper;
pub mod kept;
pub mod mounts;
pub mod moved;
pub mod names;
pub mod network;
mod openings;
pub mod place;
pub mod ports;
pub mod protocol;
pub mod record;
pub mod runtime;
mod splicing;
pub mod streams;
pub mod verifying;

use cavrith_core::failure::FailureCode;
use cavrith_engine::EngineError;
use cavrith_sandbox::SandboxError;
use cavrith_store::StoreError;

/// Files inside that one of ours lies over; they are made in the scratch where the image has none.
pub(crate) const OWN_FILES: [&str; 4] = [names::INSIDE, "/etc/resolv.conf", APT_SOURCES, APT_ALONE];
/// Where packages come from that somebody installs by hand.
pub(crate) const APT_SOURCES: &str = "/etc/apt/sources.list";
/// What tells apt that there is no other account to fetch as; only where its user has a single id.
pub(crate) const APT_ALONE: &str = "/etc/apt/apt.conf.d/90single-user";

/// What can go wrong with a workspace.
#[derive(Debug, thiserror::Error)]
pub enum WorkspaceError {
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
    /// There is no workspace of a name.
    #[error("there is no workspace {name}{}", if others.is_empty() { "; cavrith list shows those there are".to_owned() } else { format!("; the workspaces here are {others}") })]
    NoWorkspace {
        /// The name.
        name: String,
        /// Names that there are.
        others: String,
    },
    /// A name is that of several workspaces.
    #[error("there are several workspaces {name}: {projects}; name the project's folder with --project")]
    SeveralWorkspaces {
        /// The name.
        name: String,
        /// Their projects.
        projects: String,
    },
    /// There is no kept folder of a name.
    #[error("the workspace {workspace} has no kept folder {name}; cavrith folder list shows those there are")]
    NoFolder {
        /// The workspace.
        workspace: String,
        /// The name.
        name: String,
    },
    /// A kept folder is in use.
    #[error("{0}")]
    FolderInUse(String),
    /// Files could not be copied over the wall.
    #[error("cannot copy {what}: {why}")]
    Copy {
        /// What it is about, as people name it.
        what: String,
        /// The reason, in words.
        why: String,
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
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::InUse { .. } => FailureCode::WORKSPACE_HELD,
            Self::Keeper { kind, .. } => *kind,
            Self::Refused { .. } => FailureCode::REFUSED,
            Self::OtherProtocol { .. } => FailureCode::OTHER_PROTOCOL,
            Self::Gone { .. } | Self::EndedUnder { .. } => FailureCode::WORKSPACE_ENDED,
            Self::NotRunning { .. } => FailureCode::NOT_RUNNING,
            Self::NoWorkspace { .. } | Self::SeveralWorkspaces { .. } => FailureCode::NO_WORKSPACE,
            Self::NoFolder { .. } | Self::FolderInUse(_) => FailureCode::KEPT_FOLDER,
            Self::Copy { .. } => FailureCode::COPY,
            Self::PortTaken { .. } | Self::PortRefused { .. } | Self::NoFreePort { .. } => FailureCode::PORT,
            Self::NoSeal => FailureCode::NO_SEAL,
            Self::Engine(error) => error.code(),
        }
    }

    /// The exit code that stands for it.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Engine(error) => error.exit_code(),
            Self::Keeper { code, .. } => *code,
            Self::NoSeal => 1,
            Self::NoWorkspace { .. } | Self::SeveralWorkspaces { .. } | Self::NoFolder { .. } => 2,
            // The machine lacks nothing; the workspace is not in a state for what was asked.
            Self::Refused { .. } | Self::NotRunning { .. } | Self::FolderInUse(_) => 2,
            Self::InUse { .. }
            | Self::OtherProtocol { .. }
            | Self::Gone { .. }
            | Self::EndedUnder { .. }
            | Self::Copy { .. }
            | Self::PortTaken { .. }
            | Self::PortRefused { .. }
            | Self::NoFreePort { .. } => 3,
        }
    }
}
