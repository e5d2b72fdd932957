//! What a sandbox is told, and what it answers.

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

/// A whole sandbox.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Job {
    /// Directories of the layers, the lowest first.
    #[serde(with = "crate::wire::paths")]
    pub layers: Vec<PathBuf>,
    /// A directory with the three empty directories `root` (the upper one), `work` and `merged`. What is changed inside
    /// ends up in `root`. All three lie on one filesystem.
    #[serde(with = "crate::wire::path")]
    pub bench: PathBuf,
    /// The host name inside.
    pub host_name: String,
    /// Folders of the outside that appear inside.
    pub folders: Vec<FolderMount>,
    /// What the inside is for.
    pub purpose: Purpose,
    /// Deliberate oddities of the surroundings, for sealing.
    pub oddities: Oddities,
    /// User and group of the commands to come. Where there is one of each only, these are what there is inside.
    pub only: (u32, u32),
    /// Owners are written beside files; set by the session.
    #[serde(default)]
    pub(crate) records_owners: bool,
}

impl Job {
    /// A sandbox for a purpose, without folders and oddities, in which root runs commands.
    pub fn new(purpose: Purpose, layers: Vec<PathBuf>, bench: PathBuf, host_name: &str) -> Self {
        let host_name = host_name.to_owned();
        let (folders, oddities, only) = (Vec::new(), Oddities::default(), (0, 0));
        Self { layers, bench, host_name, folders, purpose, oddities, only, records_owners: false }
    }
}

/// One folder.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct FolderMount {
    /// Where it lies outside; absolute.
    #[serde(with = "crate::wire::path")]
    pub outside: PathBuf,
    /// Where it appears; absolute.
    #[serde(with = "crate::wire::path")]
    pub inside: PathBuf,
    /// It comes as an already made mount, in the order of those that do: one whose owner is mapped to the account.
    #[serde(default)]
    pub(crate) handed_over: bool,
}

impl FolderMount {
    /// A folder.
    pub fn new(outside: PathBuf, inside: PathBuf) -> Self {
        Self { outside, inside, handed_over: false }
    }
}

/// What the inside is for: a build step is kept on a shorter line than a member's workspace.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Purpose {
    /// A build step, or a probe.
    Build,
    /// A member's workspace.
    Workspace,
}

/// Deliberate oddities of the surroundings: what a build must not depend on.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Oddities {
    /// Seconds by which the time of day inside differs from the real one.
    pub clock_offset: i64,
    /// Process ids to use up before the first command.
    pub skipped_pids: u32,
}

/// One command.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct CommandJob {
    /// Program and arguments. A program without a slash is looked for in the `PATH` of `env`.
    pub argv: Vec<String>,
    /// The whole environment.
    pub env: BTreeMap<String, String>,
    /// Working directory inside.
    pub directory: String,
    /// User number inside.
    pub user: u32,
    /// Group number inside.
    pub group: u32,
    /// Which of standard input, output and error are to be a terminal inside.
    pub terminal: [bool; 3],
}

/// How a command ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Ending {
    /// It exited with this code.
    Code(i32),
    /// This signal ended it.
    Signal(i32),
}

impl Ending {
    /// True when it exited with 0.
    pub fn is_good(self) -> bool {
        self == Self::Code(0)
    }

    /// As a shell shows it: the code, or 128 and the signal's number.
    pub fn as_code(self) -> i32 {
        match self {
            Self::Code(code) => code,
            Self::Signal(signal) => 128 + signal,
        }
    }
}

impl std::fmt::Display for Ending {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Code(code) => write!(f, "exit code {code}"),
            Self::Signal(signal) => write!(f, "signal {signal}"),
        }
    }
}

/// From the parent to the sandbox.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum Order {
    /// Unshare and say so; then, mapped, build the root. With it come the mounts that are handed over.
    Begin(Box<Job>),
    /// Only unshare a user namespace, for a map of ids.
    HoldIds,
    /// The ids are mapped.
    Mapped,
    /// Run a command under a number of the parent's choice. With it come its standard input, output and error.
    Run(u64, CommandJob),
    /// Send a signal to the group of processes of the command with this number.
    Signal(u64, i32),
}

/// From the sandbox to the parent.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum Report {
    /// The namespaces are there and want their maps.
    Unshared,
    /// The root stands.
    Ready {
        /// What could not be done as it should be.
        notes: Vec<String>,
    },
    /// Something failed; the sandbox ends.
    Failed(String),
    /// The command with this number runs. With it comes the terminal's outer end, if it has one.
    Started(u64),
    /// The command could not be started.
    NotStarted {
        /// Its number.
        number: u64,
        /// Why.
        why: String,
        /// True when there is no such program.
        missing: bool,
    },
    /// The command with this number ended.
    Ended(u64, Ending),
}
