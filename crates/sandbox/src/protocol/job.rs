//! A sandbox's job, the orders to it, and its reports.

use std::collections::BTreeMap;
use std::path::PathBuf;

use cavrith_core::digest::ContentDigest;
use serde::{Deserialize, Serialize};

/// The name under which our executable is started as a sandbox. Nobody can type it by accident.
pub(crate) const NAME: &str = "cavrith: inside";

/// How a report begins that says that there are no namespaces.
pub(crate) const NO_NAMESPACES: &str = "make namespaces";

/// A whole sandbox.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Job {
    /// Directories of the layers, the lowest first.
    #[serde(with = "crate::protocol::wire::paths")]
    pub layers: Vec<PathBuf>,
    /// A directory with the three empty directories `root` (the upper one), `work` and `merged`. What is changed inside
    /// ends up in `root`. All three lie on one filesystem.
    #[serde(with = "crate::protocol::wire::path")]
    pub overlay_scratch: PathBuf,
    /// The host name inside.
    pub host_name: String,
    /// Folders of the outside that appear inside.
    pub folders: Vec<FolderMount>,
    /// What the inside is for.
    pub purpose: Purpose,
    /// Deliberate oddities of the surroundings, for sealing.
    pub perturbations: Perturbations,
    /// User and group of the commands to come. Where there is one of each only, these are what there is inside.
    pub only: (u32, u32),
    /// Files of the outside that lie over files inside; what is not there inside is made.
    #[serde(default)]
    pub files: Vec<FolderMount>,
    /// Directories of control groups that everything inside belongs to.
    #[serde(default, with = "crate::protocol::wire::paths")]
    pub groups: Vec<PathBuf>,
    /// The inside's loopback answers for every address, so that whoever listens there has every connection.
    #[serde(default)]
    pub answers_everywhere: bool,
    /// Limits of single processes, where groups of them cannot be limited.
    #[serde(default)]
    pub each: PerProcessLimits,
    /// Owners are written beside files; set by the session.
    #[serde(default)]
    pub(crate) records_owners: bool,
}

impl Job {
    /// A sandbox for a purpose, without folders and oddities, in which root runs commands.
    pub fn new(purpose: Purpose, layers: Vec<PathBuf>, overlay_scratch: PathBuf, host_name: &str) -> Self {
        let host_name = host_name.to_owned();
        Self {
            layers,
            overlay_scratch,
            host_name,
            folders: Vec::new(),
            purpose,
            perturbations: Perturbations::default(),
            only: (0, 0),
            files: Vec::new(),
            groups: Vec::new(),
            answers_everywhere: false,
            each: PerProcessLimits::default(),
            records_owners: false,
        }
    }
}

/// Limits that a process passes on to those that it starts.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PerProcessLimits {
    /// Bytes of memory that one process may have.
    pub memory: Option<u64>,
    /// How many processors all of it may run on.
    pub cpus: Option<u32>,
    /// How many processes the account may have.
    pub processes: Option<u32>,
}

/// One folder.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct FolderMount {
    /// Where it lies outside; absolute.
    #[serde(with = "crate::protocol::wire::path")]
    pub outside: PathBuf,
    /// Where it appears; absolute.
    #[serde(with = "crate::protocol::wire::path")]
    pub inside: PathBuf,
    /// Its files keep the owners that they have on the disk.
    #[serde(default)]
    pub kept: bool,
    /// It is empty and belongs to nobody yet: it gets rights and owner of the place that it is mounted on.
    #[serde(default)]
    pub new: bool,
    /// When it is new: the account inside that it is given to instead.
    #[serde(default)]
    pub owner: Option<String>,
    /// It is a file that lies there only when the image has none.
    #[serde(default)]
    pub only_new: bool,
    /// Where the image has something at its place, that is what appears, and what is changed there is changed over the
    /// image, as everywhere.
    #[serde(default)]
    pub image_first: bool,
    /// It comes as an already made mount, in the order of those that do: one whose owner is mapped to the account.
    #[serde(default)]
    pub(crate) handed_over: bool,
}

impl FolderMount {
    /// A folder.
    pub fn new(outside: PathBuf, inside: PathBuf) -> Self {
        Self {
            outside,
            inside,
            kept: false,
            new: false,
            owner: None,
            only_new: false,
            image_first: false,
            handed_over: false,
        }
    }
}

/// What the inside is for: a build step is kept on a shorter line than a member's workspace.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Purpose {
    /// A build step, or a probe.
    Build,
    /// A member's workspace.
    Workspace,
    /// The whole of a virtual machine: root inside is the root of its kernel, which nobody else has.
    Machine,
}

/// Deliberate oddities of the surroundings: what a build must not depend on.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Perturbations {
    /// Seconds by which the time of day inside differs from the real one.
    pub clock_offset: i64,
    /// Process ids to use up before the first command.
    pub skipped_pids: u32,
}

/// One command.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
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
    /// The name of an account inside, which is looked up there: its numbers, groups and home go before `user`, `group`
    /// and `env`.
    #[serde(default)]
    pub account: Option<String>,
    /// Everything that it starts ends with it, however it goes on; see [`crate::child::supervise`].
    #[serde(default)]
    pub whole: bool,
    /// Instead of a program: something that this crate does itself, so that nothing in the image is needed for it.
    #[serde(default)]
    pub task: Option<Task>,
}

/// Something that is done inside without a program of the image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Task {
    /// Write the content of the file at this path to standard output.
    Read(String),
    /// Write the environment that a program of this command would get to standard output, each variable with a zero
    /// byte behind it.
    Environment,
    /// Write the file or directory at `path` to standard output, as a tar archive whose first name is `name`.
    Pack {
        /// The path of the entry or file.
        path: String,
        /// The name that is used.
        name: String,
    },
    /// Take such an archive from standard input. What it holds becomes `path`, or lies in it under `name` when it is a
    /// directory.
    Unpack {
        /// The path of the entry or file.
        path: String,
        /// The name that is used.
        name: String,
    },
    /// Answer a client of SFTP at standard input and output.
    Sftp {
        /// Nothing may be changed.
        read_only: bool,
    },
    /// Put the files that come as a JSON list of [`PlacedFile`] into the home; what stays as it is told by lines.
    Place,
    /// Carry between standard input and output and the Unix socket at this path.
    Socket(String),
}

/// Where it is written down which of them were put there, from the home on.
pub const PLACED: &str = ".local/state/cavrith/placed";

/// A file of a member's own, for the home.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlacedFile {
    /// Its path, relative to the home.
    pub path: String,
    /// Whether it can be run.
    pub executable: bool,
    /// What it leads to, when it is a link.
    pub link: Option<String>,
    /// Its bytes in base64 (RFC 4648, section 4).
    pub content: String,
    /// The digest of what it may take the place of, though it is not ours.
    #[serde(default)]
    pub over: Option<String>,
}

impl PlacedFile {
    /// What tells a file or link from another one.
    pub fn digest_of(link: Option<&str>, content: impl FnOnce() -> ContentDigest) -> String {
        match link {
            Some(target) => format!("link {target}"),
            None => content().to_string(),
        }
    }
}

/// How a command ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Ending {
    /// It exited with this code.
    Code(i32),
    /// This signal ended it.
    Signal(i32),
    /// It exited with 0 and left so many processes that would have gone on; they were ended, since it was a whole one.
    Left(u32),
}

/// Who takes connections on a port.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Serving {
    /// Nobody.
    Nobody,
    /// The command that was asked about, or something that it started.
    Itself,
    /// Something else, with this name.
    Other(String),
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
            Self::Left(_) => 0,
        }
    }
}

impl std::fmt::Display for Ending {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Code(code) => write!(f, "exit code {code}"),
            Self::Signal(signal) => write!(f, "signal {signal}"),
            Self::Left(_) => f.write_str("it went into the background"),
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
    /// Send a signal to everything inside but PID 1.
    SignalAll(i32),
    /// Kill everything inside that was started with this in its environment.
    KillMarked(String),
    /// Say when a path was changed last, if it is there.
    Look(u64, String),
    /// Say who takes connections on a port, as seen from the whole command with the second number.
    Serves(u64, u64, u16),
    /// Say what everything inside uses, and which ports are listened on.
    Measure(u64),
}

/// What everything inside uses, PID 1 not counted.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Usage {
    /// Processes.
    pub processes: u32,
    /// Bytes of memory; what several processes share is shared out among them.
    pub memory: u64,
    /// Milliseconds of processor time of those that run now.
    pub cpu_millis: u64,
    /// Ports that are listened on.
    pub listening: Vec<Listening>,
    /// Programs that whoever started them has left running.
    pub left: Vec<LeftRunning>,
}

/// A program that runs on after the command that started it ended, and is of no service.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct LeftRunning {
    /// The program's name.
    pub program: String,
    /// Program and arguments, as the process shows them (proc_pid_cmdline(5)).
    pub command: Vec<String>,
    /// The user's number inside.
    pub user: u32,
}

/// A port inside that a program listens on.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Listening {
    /// The port.
    pub port: u16,
    /// Datagrams, not connections.
    pub udp: bool,
    /// The program's name, as far as it is known.
    pub program: String,
    /// Program and arguments, as the process shows them (proc_pid_cmdline(5)).
    #[serde(default)]
    pub command: Vec<String>,
    /// The user's number inside.
    #[serde(default)]
    pub user: u32,
    /// The service that it was started for.
    #[serde(default)]
    pub service: Option<String>,
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
        /// The reason, in words.
        why: String,
        /// True when there is no such program.
        missing: bool,
    },
    /// The command with this number ended.
    Ended(u64, Ending),
    /// When the path of the order with this number was changed last, in milliseconds since 1970, if it is there.
    Looked(u64, Option<u64>),
    /// Who takes connections, for the order with this number.
    Served(u64, Serving),
    /// What is used, for the order with this number.
    Measured(u64, Usage),
}
