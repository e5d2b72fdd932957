//! What is said at a workspace's door.
//!
//! The keeper listens at a socket in the workspace's directory, which only its user can enter. Each connection carries
//! one request: the version of this protocol and the request, then answers until the connection is closed. Messages are
//! those of [`cavrith_sandbox::wire`]; a command's standard streams, and the outer end of its terminal, travel as
//! descriptors, so the terminal is attended to by the one who sits at it.
//!
//! A keeper outlives the program it was started from, so after an update the two sides may differ; each refuses the
//! other's version with a sentence that says what to do.

use serde::{Deserialize, Serialize};
use std::path::PathBuf;

use cavrith_core::arrangement::Arrangement;
use cavrith_core::digest::{ImageFingerprint, ImageKey};
use cavrith_core::synced::plan::Side;
use cavrith_sandbox::groups::GroupLimits;
use cavrith_sandbox::job::{Ending, LeftRunning, Listening, Task};
use cavrith_sandbox::runtime::ReadChanges;

use crate::ports::Carried;
use crate::record::{FailedStep, Stamp, Standing};
use crate::synced::SyncedStatus;
use crate::visitors::{Invitation, Present};

/// Version of this protocol.
pub const PROTOCOL: u32 = 1;

/// The first message of a connection.
#[derive(Debug, Serialize, Deserialize)]
pub struct Opening<R> {
    /// Version of the protocol.
    pub protocol: u32,
    /// What is wanted.
    pub request: R,
}

/// What can be wanted of a keeper.
#[derive(Debug, Serialize, Deserialize)]
pub enum Request {
    /// Run this. With it come the three standard streams.
    Run(Box<ExecRequest>),
    /// Report the state of everything.
    Status,
    /// Tell what happens until everything has come to rest: from the beginning, or from now on.
    Watch {
        /// From the beginning of what was started last.
        whole: bool,
        /// Milliseconds to go on once all steps are done and all services started; for ever when left out.
        linger: Option<u64>,
    },
    /// Halt everything as it is.
    Freeze,
    /// Halt everything as it is, and write it to the disk.
    Suspend,
    /// Let it go on.
    Thaw,
    /// End it in order.
    Stop,
    /// Speak SSH on the two descriptors that come with it: what the client sends, and what it receives.
    Ssh {
        /// The key by which the client knows this machine, in OpenSSH's form.
        host_key: String,
    },
    /// Show the terminal that this visitor opened last; what is typed goes there as well.
    Look {
        /// Who.
        name: String,
    },
    /// Give out a connection to this port inside, for a link from another workspace of the member's.
    Dial {
        /// The port.
        port: u16,
    },
    /// Let in whoever is invited now, and nobody else.
    Admit,
    /// Read what was changed over a root, where nobody outside can.
    ReadChanges {
        /// The root, as an encoded tree in base64.
        lower: String,
        /// Measure the root itself, too.
        is_whole: bool,
    },
    /// Have one side of a synced folder count at this path inside, and below it.
    Settle {
        /// The path.
        path: String,
        /// The side.
        side: Side,
    },
    /// Follow a changed arrangement, as far as that can be done while it runs.
    Apply(Box<Followed>),
}

/// A changed arrangement to follow.
#[derive(Debug, Serialize, Deserialize)]
pub struct Followed {
    /// The arrangement.
    pub arrangement: Arrangement,
    /// Under which key its image is found.
    pub image_key: ImageKey,
    /// The files that it was read from.
    pub stamps: Vec<Stamp>,
}

/// A command that somebody wants to run inside.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct ExecRequest {
    /// Program and arguments; nothing means the account's shell.
    pub argv: Vec<String>,
    /// Variables of the member's own terminal.
    pub env: Vec<(String, String)>,
    /// The directory outside that the member is in, when they have one.
    pub here: Option<PathBuf>,
    /// The account to run as, when it is not the workspace's.
    pub account: Option<String>,
    /// Which of the streams are to be a terminal inside.
    pub terminal: [bool; 3],
    /// Instead of a program.
    pub task: Option<Task>,
    /// It is a visitor's, and gets nothing that is the member's own.
    #[serde(default)]
    pub guest: bool,
}

/// While a command runs, from the client that started it.
#[derive(Debug, Serialize, Deserialize)]
pub enum Meanwhile {
    /// Send it a signal.
    Signal(i32),
}

/// From the keeper.
#[derive(Debug, Serialize, Deserialize)]
pub enum Answer {
    /// It speaks another version.
    OtherProtocol {
        /// The version it speaks.
        protocol: u32,
    },
    /// The command runs. With it comes the terminal's outer end, if it has one.
    Started,
    /// The command could not be started.
    NotStarted {
        /// The reason, in words.
        why: String,
        /// True when there is no such program.
        missing: bool,
    },
    /// The command ended.
    Ended(Ending),
    /// The state of everything.
    Status(Box<Status>),
    /// Something happened.
    WorkspaceEvent(WorkspaceEvent),
    /// What was changed, where nobody outside can read it.
    Changes(Option<ReadChanges>),
    /// It is done.
    Done,
    /// It is not done, and why.
    Refused(String),
}

/// Something that happens while a workspace starts or follows a change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WorkspaceEvent {
    /// Something that is good to know.
    Note(String),
    /// A step begins.
    Step {
        /// Its name.
        name: String,
    },
    /// A line of a step's output.
    Output {
        /// The step.
        name: String,
        /// The line.
        line: String,
    },
    /// A step is over.
    StepOver {
        /// Its name.
        name: String,
        /// Milliseconds it took.
        millis: u64,
        /// Why it was left out, when it was.
        left_out: Option<String>,
    },
    /// A step failed; the later ones, and services that were to come, are not started.
    StepFailed(FailedStep),
    /// All steps are done, and all services started that could be.
    Opened,
    /// A service stands otherwise.
    Service(ServiceStatus),
    /// Everything has come to rest.
    Settled {
        /// Whether all went well.
        good: bool,
    },
}

/// How a service stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Phase {
    /// It waits for others.
    Waiting,
    /// It runs, and is not ready yet.
    GettingReady,
    /// It is ready.
    Ready,
    /// It ended, and will be started again after a pause.
    Pausing,
    /// It ended, or did not become ready, and is not started again.
    Failed,
    /// It ended by itself, as it may.
    Over,
    /// It was ended on purpose.
    Stopped,
}

impl Phase {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::GettingReady => "getting ready",
            Self::Ready => "ready",
            Self::Pausing => "pausing before a restart",
            Self::Failed => "failed",
            Self::Over => "over",
            Self::Stopped => "stopped",
        }
    }

    /// Whether what waits for it may begin: it is ready, or has done what it was there for.
    pub fn is_enough(self) -> bool {
        matches!(self, Self::Ready | Self::Over)
    }

    /// Whether nothing more happens to it by itself while all goes well.
    pub fn is_rest(self) -> bool {
        !matches!(self, Self::Waiting | Self::GettingReady | Self::Pausing)
    }
}

/// A service, and its state.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ServiceStatus {
    /// Its name.
    pub name: String,
    /// Its state.
    pub phase: Phase,
    /// Milliseconds since 1970 when that began.
    pub since: u64,
    /// How often it was started again.
    pub restarts: u32,
    /// More about it: what it waits for, what is in its way, how it ended; empty when there is nothing to say.
    pub detail: String,
    /// What it wrote last, when it failed or is not ready yet.
    pub last_lines: Vec<String>,
}

/// The state of everything.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Status {
    /// How the workspace stands.
    pub standing: Standing,
    /// The keeper's process.
    pub keeper: u32,
    /// Milliseconds since 1970 when it began.
    pub since: u64,
    /// The image.
    pub image: ImageFingerprint,
    /// What runs.
    pub arrangement: Arrangement,
    /// Services.
    pub services: Vec<ServiceStatus>,
    /// Ports.
    pub ports: Vec<Carried>,
    /// Ports that a program inside listens on, and that the spec does not name.
    pub undeclared: Vec<Listening>,
    /// Programs that somebody started by hand, and left running.
    #[serde(default)]
    pub left: Vec<LeftRunning>,
    /// Bytes of memory; nothing when it cannot be measured now.
    pub memory: Option<u64>,
    /// Milliseconds of processor time.
    pub cpu_millis: Option<u64>,
    /// Processes.
    pub processes: Option<u32>,
    /// Commands of members that run.
    pub guests: usize,
    /// The step that failed last.
    pub failed_step: Option<FailedStep>,
    /// How it reaches other machines.
    pub network: String,
    /// What of the limits is kept, and how.
    pub limits: Vec<String>,
    /// Limits that hold at this moment, as the kernel has them; nothing from a keeper that does not say.
    #[serde(default)]
    pub held: Option<GroupLimits>,
    /// What could not be done as it should be.
    pub notes: Vec<String>,
    /// Steps of the first start that are done, by their marks.
    pub first_done: Vec<String>,
    /// What the member adds, in words.
    #[serde(default)]
    pub personal: Vec<String>,
    /// Synced folders.
    #[serde(default)]
    pub synced: Vec<SyncedStatus>,
    /// Who is invited.
    #[serde(default)]
    pub invited: Vec<Invitation>,
    /// Visitors who are there.
    #[serde(default)]
    pub visitors: Vec<Present>,
}
