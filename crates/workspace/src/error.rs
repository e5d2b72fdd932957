//! What can go wrong with a member's workspaces.

use cavrith_core::failure::FailureCode;
use cavrith_core::spec::FILE_NAME;
use cavrith_core::verdict::Difference;
use cavrith_engine::EngineError;
use cavrith_exchange::ExchangeError;
use cavrith_keeper::KeeperError;
use cavrith_sandbox::SandboxError;
use cavrith_store::StoreError;

/// What can go wrong with a member's workspaces.
#[derive(Debug, thiserror::Error)]
pub enum WorkspaceError {
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
    /// Files could not be copied over the wall.
    #[error("cannot copy {what}: {why}")]
    Copy {
        /// What it is about, in words.
        what: String,
        /// The reason, in words.
        why: String,
    },
    /// There is no seal to measure against.
    #[error("the lock has no seal to verify against; the lead makes one with cavrith seal")]
    NoSeal,
    /// What lies in a machine that does not run, or does not say.
    #[error("what was changed in {name} lies on the disk of its machine: {why}")]
    InMachine {
        /// The workspace.
        name: String,
        /// The reason, in words.
        why: String,
    },
    /// A spec that says nothing of machines.
    #[error(
        "the spec has no [machine], so nobody knows with which kernel and how much memory; add the table, and run cavrith lock"
    )]
    NoMachine,
    /// A workspace that never ran was changed by nobody.
    #[error("the workspace {0} never ran, so nothing was changed in it; cavrith start starts it")]
    NeverRan(String),
    /// What was changed by hand cannot be taken back.
    #[error("nothing was taken back in {workspace}: {why}")]
    NotUndone {
        /// The workspace.
        workspace: String,
        /// Why, and what to do.
        why: String,
    },
    /// A revision is older than the spec.
    #[error("the revision {commit} has no {FILE_NAME} here; cavrith history shows those that have")]
    NoSpecThere {
        /// The commit.
        commit: String,
    },
    /// The files that older specs include lead on and on.
    #[error("the specs of {} include more and more files, back through its history; ask for fewer revisions", .0.display())]
    Included(std::path::PathBuf),
    /// A machine is too small, too old or another one.
    #[error("this machine does not offer what {name} needs: {}", in_words(lacking))]
    Machine {
        /// The workspace.
        name: String,
        /// What is missing, with what is here.
        lacking: Vec<Difference>,
    },
    /// Secrets are not to be had.
    #[error("{0}")]
    Secrets(String),
    /// A file of ours is no key.
    #[error("{} is no key for SSH; remove it, and it is made again", .0.display())]
    SshKey(std::path::PathBuf),
    /// A path is outside, and crosses the wall by no folder.
    #[error("{0} lies in no folder of the workspace, so nothing inside can open it")]
    Elsewhere(String),
    /// An editor is not known.
    #[error(
        "there is no editor {0} here; say in config.toml how it is started:\n\n    [editors.{0}]\n    command = [\"{0}\", \"--host\", \"{{host}}\", \"{{path}}\"]"
    )]
    NoEditor(String),
    /// Somebody cannot be let in.
    #[error("{0}")]
    Invitation(String),
    /// Our block in a configuration has no end any more.
    #[error("our block in {} has lost its end, or its beginning; remove its lines, and try again", .0.display())]
    SshConfig(std::path::PathBuf),
    /// The keeper, or talking to it.
    #[error(transparent)]
    Keeper(KeeperError),
    /// What came in a parcel.
    #[error(transparent)]
    Exchange(ExchangeError),
    /// A flow of the engine.
    #[error(transparent)]
    Engine(#[from] EngineError),
}

fn in_words(lacking: &[Difference]) -> String {
    let one = |one: &Difference| format!("{} {}, here {}", one.what, one.expected, one.here);
    lacking.iter().map(one).collect::<Vec<_>>().join("; ")
}

impl From<ExchangeError> for WorkspaceError {
    fn from(error: ExchangeError) -> Self {
        match error {
            ExchangeError::Engine(error) => Self::Engine(error),
            error => Self::Exchange(error),
        }
    }
}

impl From<KeeperError> for WorkspaceError {
    fn from(error: KeeperError) -> Self {
        match error {
            KeeperError::Engine(error) => Self::Engine(error),
            error => Self::Keeper(error),
        }
    }
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
            Self::NoWorkspace { .. } | Self::SeveralWorkspaces { .. } => FailureCode::NO_WORKSPACE,
            Self::NoFolder { .. } => FailureCode::KEPT_FOLDER,
            Self::Copy { .. } => FailureCode::COPY,
            Self::NoSeal => FailureCode::NO_SEAL,
            Self::NoMachine => FailureCode::EXPORT,
            Self::InMachine { .. } => FailureCode::NOT_RUNNING,
            Self::Machine { .. } => FailureCode::TOO_SMALL,
            Self::Secrets(_) => FailureCode::SECRET,
            Self::SshKey(_) | Self::SshConfig(_) => FailureCode::SSH,
            Self::Invitation(_) => FailureCode::INVITATION,
            Self::NoEditor(_) | Self::Elsewhere(_) => FailureCode::EDITOR,
            Self::NeverRan(_) => FailureCode::NOT_RUNNING,
            Self::NotUndone { .. } => FailureCode::USAGE,
            Self::Included(_) | Self::NoSpecThere { .. } => FailureCode::REVISION,
            Self::Keeper(error) => error.code(),
            Self::Exchange(error) => error.code(),
            Self::Engine(error) => error.code(),
        }
    }

    /// The exit code that stands for it.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::NoSeal => 1,
            Self::NoWorkspace { .. }
            | Self::NoMachine
            | Self::InMachine { .. }
            | Self::SeveralWorkspaces { .. }
            | Self::NoFolder { .. }
            | Self::NeverRan(_)
            | Self::Included(_)
            | Self::NoSpecThere { .. }
            | Self::NotUndone { .. } => 2,
            Self::Copy { .. } | Self::Machine { .. } | Self::SshKey(_) | Self::SshConfig(_) => 3,
            Self::Secrets(_) | Self::Invitation(_) | Self::NoEditor(_) | Self::Elsewhere(_) => 2,
            Self::Keeper(error) => error.exit_code(),
            Self::Exchange(error) => error.exit_code(),
            Self::Engine(error) => error.exit_code(),
        }
    }
}
