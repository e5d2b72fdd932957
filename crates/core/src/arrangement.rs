//! What runs in a workspace: everything that its keeper needs to know.
//!
//! [`crate::derive`] makes an [`Arrangement`] from a spec, its lock and an image, and compares two of them.

use core::net::IpAddr;
use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::digest::ImageFingerprint;
use crate::setup::Setup;
use crate::spec::{Limits, Moment, Network, Protocol, Ready, Restart, Secret};

/// A whole arrangement.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Arrangement {
    /// The variant that it is of.
    #[serde(default = "main_part")]
    pub variant: String,
    /// One line for people.
    pub about: String,
    /// The image that it is for.
    pub image: ImageFingerprint,
    /// The team's part.
    pub setup: Setup,
    /// The account's home is the image's own at each image.
    #[serde(default)]
    pub fresh_home: bool,
    /// Folders, an outer one before what lies in it.
    pub folders: Vec<FolderPart>,
    /// Ports.
    pub ports: Vec<PortPart>,
    /// Steps of the start, in their order.
    pub steps: Vec<StepPart>,
    /// Services by name.
    pub services: BTreeMap<String, ServicePart>,
    /// Secrets that it needs, by name; never their values.
    #[serde(default)]
    pub secrets: BTreeMap<String, Secret>,
    /// Host names, each with the port that is meant.
    pub names: BTreeMap<String, String>,
    /// What it may use of the machine.
    pub limits: Limits,
    /// Whether it reaches other machines.
    pub network: Network,
    /// The virtual machine that it runs in, when it does.
    #[serde(default)]
    pub machine: Option<MachinePart>,
}

/// A virtual machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MachinePart {
    /// The package of its kernel.
    pub kernel: String,
    /// Bytes of memory.
    pub memory: u64,
    /// Processors.
    pub cpus: u32,
    /// Each block of the root is proved when it is read.
    pub verity: bool,
    /// It is the member who wants it, and not the spec.
    pub chosen: bool,
}

/// Records from before there were variants are of the main part.
fn main_part() -> String {
    crate::spec::MAIN.to_owned()
}

/// A folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FolderPart {
    /// Where it appears.
    pub inside: String,
    /// Where its files lie.
    pub place: Place,
    /// Directories in it that never cross the wall, relative to it; sorted.
    pub except: Vec<String>,
}

/// Where the files of a folder lie.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Place {
    /// On the member's disk, relative to the project.
    Live(String),
    /// In a copy of such a folder, which is brought together with it but for what these patterns mean.
    Synced(String, Vec<String>),
    /// Beside the workspace, under a name; when it is new, it belongs to this account.
    Kept(String, Option<String>),
}

impl Place {
    /// The folder of the member's disk, relative to the project, that it is or is a copy of.
    pub fn outside(&self) -> Option<&str> {
        match self {
            Self::Live(outside) | Self::Synced(outside, _) => Some(outside),
            Self::Kept(..) => None,
        }
    }

    /// In words.
    pub fn words(&self) -> String {
        match self {
            Self::Live(outside) => format!("live from {outside}"),
            Self::Synced(outside, ignore) if ignore.is_empty() => format!("synced with {outside}"),
            Self::Synced(outside, ignore) => format!("synced with {outside} but {}", ignore.join(" ")),
            Self::Kept(name, _) => format!("kept as {name}"),
        }
    }
}

/// A port, or some in a row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PortPart {
    /// Its name.
    pub name: String,
    /// The first one inside.
    pub inside: u16,
    /// The first one outside.
    pub outside: u16,
    /// How many.
    pub count: u16,
    /// Only these outside.
    pub exact: bool,
    /// What is carried.
    pub protocol: Protocol,
    /// The address outside, when it is not the loopback.
    pub bind: Option<IpAddr>,
    /// Whether its address on the web is opened.
    pub open: bool,
}

/// A step of the start.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepPart {
    /// Its name.
    pub name: String,
    /// When it runs.
    pub moment: Moment,
    /// Program and arguments.
    pub argv: Vec<String>,
    /// A command that, when it succeeds, leaves the step out.
    pub unless: Option<Vec<String>>,
    /// A path inside that, when it is there, leaves the step out.
    pub creates: Option<String>,
    /// Services that have to be ready.
    pub after: Vec<String>,
    /// Variables of it only.
    pub env: BTreeMap<String, String>,
    /// Who carries it out; the workspace's account when left out.
    pub account: Option<String>,
    /// Seconds it may take.
    pub limit: u64,
}

impl StepPart {
    /// What the step does, as one digest: a changed step is another one.
    pub fn mark(&self) -> String {
        let line = serde_json::to_vec(self).unwrap_or_else(|error| panic!("BUG: a step: {error}"));
        blake3::hash(&line).to_hex()[..16].to_owned()
    }
}

/// A service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ServicePart {
    /// Program and arguments.
    pub argv: Vec<String>,
    /// Who it runs as; the workspace's account when left out.
    pub account: Option<String>,
    /// Where it is started; the project's folder when left out.
    pub directory: Option<String>,
    /// Variables of it only.
    pub env: BTreeMap<String, String>,
    /// Services and steps that come first.
    pub after: Vec<String>,
    /// How it is known to be ready.
    pub ready: Option<Ready>,
    /// When it is started again.
    pub restart: Restart,
    /// The signal that asks it to end.
    pub signal: String,
    /// Seconds until it is killed.
    pub grace: u64,
}

impl Arrangement {
    /// The services that one of these names waits for, each after those that it waits for itself. What is not a service
    /// is left out.
    pub fn needed_first(&self, names: &[String]) -> Vec<String> {
        let mut first = Vec::new();
        for name in names {
            self.add_needed(name, &mut first, 0);
        }
        first
    }

    fn add_needed(&self, name: &str, first: &mut Vec<String>, depth: usize) {
        let Some(service) = self.services.get(name) else { return };
        // A spec that was read has no circles; the depth is for a record that somebody changed.
        if first.iter().any(|known| known == name) || depth > self.services.len() {
            return;
        }
        for earlier in &service.after {
            self.add_needed(earlier, first, depth + 1);
        }
        if !first.iter().any(|known| known == name) {
            first.push(name.to_owned());
        }
    }

    /// All services, each after those that it waits for.
    pub fn services_in_order(&self) -> Vec<String> {
        self.needed_first(&self.services.keys().cloned().collect::<Vec<_>>())
    }

    /// Host names that stand for the workspace inside: its own, those of the spec, and the services'.
    pub fn inside_names(&self) -> Vec<String> {
        let own = std::iter::once(self.setup.host_name.clone());
        let mut names: Vec<_> = own.chain(self.names.keys().cloned()).chain(self.services.keys().cloned()).collect();
        let mut seen = std::collections::BTreeSet::new();
        names.retain(|name| name != "localhost" && seen.insert(name.clone()));
        names
    }
}
