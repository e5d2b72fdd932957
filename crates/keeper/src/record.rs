//! What is recorded of a workspace: what runs in it, or ran last, and how that ended.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};

use cavrith_core::arrangement::Arrangement;
use cavrith_core::digest::{ImageKey, TreeDigest};

use crate::KeeperError;
use crate::ports::Carried;

const NAME: &str = "record";

/// The file `record` of a workspace.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Record {
    /// Version of this format; 1.
    pub record: u32,
    /// The keeper's process.
    pub keeper: u32,
    /// Which run of the machine it belongs to: a process of another one cannot live any more.
    pub boot: String,
    /// Milliseconds since 1970 when it began.
    pub since: u64,
    /// What it runs.
    pub arrangement: Arrangement,
    /// Under which key the image is found.
    pub image_key: ImageKey,
    /// Its layers, the lowest first, with those that are the member's own.
    pub layers: Vec<TreeDigest>,
    /// What the member adds, in words.
    #[serde(default)]
    pub personal: Vec<String>,
    /// The files that the spec was read from, as they were.
    pub stamps: Vec<Stamp>,
    /// The step that failed last, when it has not succeeded since.
    pub failed_step: Option<FailedStep>,
    /// Ports that are carried.
    pub ports: Vec<Carried>,
    /// When it was ended in order.
    pub ended: Option<u64>,
    /// It ended though nobody had asked it to.
    #[serde(default)]
    pub fell: bool,
}

/// A step of the start that failed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FailedStep {
    /// Its name.
    pub name: String,
    /// How it ended.
    pub how: String,
    /// What it wrote last.
    pub last_lines: Vec<String>,
}

/// How a file looked, by which a change is noticed without reading it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stamp {
    #[serde(with = "cavrith_sandbox::wire::path")]
    path: PathBuf,
    bytes: u64,
    nanos: u128,
}

impl Stamp {
    /// Of a file, as it is now; of one that is not there it is empty.
    pub fn of(path: &Path) -> Self {
        let meta = fs::metadata(path).ok();
        let changed = meta.as_ref().and_then(|meta| meta.modified().ok());
        let nanos = changed.and_then(|at| at.duration_since(UNIX_EPOCH).ok()).map_or(0, |since| since.as_nanos());
        Self { path: path.to_owned(), bytes: meta.map_or(0, |meta| meta.len()), nanos }
    }
}

/// How a workspace stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// It was never started, or all of it was removed.
    New,
    /// Steps are run, and services get ready.
    Starting,
    /// It runs.
    Running,
    /// It was halted as it is.
    Frozen,
    /// It is ending.
    Stopping,
    /// It was ended in order.
    Stopped,
    /// Its keeper was killed.
    Killed,
    /// What it ran in was ended by something outside, or ended by itself.
    Fallen,
    /// The machine was started anew since.
    MachineRestarted,
}

impl Standing {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::New => "not started",
            Self::Starting => "starting",
            Self::Running => "running",
            Self::Frozen => "frozen",
            Self::Stopping => "stopping",
            Self::Stopped => "stopped",
            Self::Killed => "stopped (its keeper was killed)",
            Self::Fallen => "stopped (what it ran in was killed, or failed)",
            Self::MachineRestarted => "stopped (the machine was restarted)",
        }
    }
}

impl Record {
    /// The record of the workspace in `dir`. One that cannot be read is as good as none: everything in it is found out
    /// anew.
    pub fn read(dir: &Path) -> Option<Self> {
        let record: Self = serde_json::from_slice(&cavrith_store::reading::bytes(&dir.join(NAME)).ok()?).ok()?;
        (record.record == 1).then_some(record)
    }

    /// Writes it.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn write(&self, dir: &Path) -> Result<(), KeeperError> {
        let bytes = serde_json::to_vec(self).map_err(std::io::Error::other);
        let bytes = bytes.map_err(cavrith_engine::error::file_error("write", dir.join(NAME)))?;
        Ok(cavrith_store::atomic::write(&dir.join(NAME), &bytes)?)
    }

    /// Whether the workspace in `dir` runs, or ran last, in a machine: what was changed in it, and what it keeps, lies
    /// on the machine's disk and not beside it.
    pub fn is_in_machine(dir: &Path) -> bool {
        Self::read(dir).is_some_and(|record| record.arrangement.machine.is_some())
    }

    /// How the workspace stands when nobody answers at its door.
    pub fn standing(&self) -> Standing {
        match self.ended {
            Some(_) if self.fell => Standing::Fallen,
            Some(_) => Standing::Stopped,
            None if self.boot != boot() => Standing::MachineRestarted,
            None => Standing::Killed,
        }
    }

    /// Whether a file that the spec was read from has changed since.
    pub fn is_behind(&self) -> bool {
        self.stamps.iter().any(|stamp| Stamp::of(&stamp.path) != *stamp)
    }
}

/// What this run of the machine is called by its kernel.
pub fn boot() -> String {
    fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default().trim().to_owned()
}

/// Milliseconds since 1970.
pub fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_millis() as u64)
}
