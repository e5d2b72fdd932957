//! The spec, `cavrith.toml`: what a lead writes.
//!
//! [`parse()`] reads the text and finds *every* mistake in it that needs no look at the disk; [`keys`] is the one list
//! of keys that the reader, the refusal of unknown keys and the reference in `docs/spec.md` are compared with. A
//! [`Spec`] that came out of `parse` is sound in itself: names are names, inside paths are absolute and plain, nothing
//! is twice.

mod base;
mod between;
pub(crate) mod broken;
pub mod document;
mod editor;
mod gather;
mod habits;
mod host;
mod image;
pub mod keys;
pub mod machine;
mod parse;
pub mod personal;
mod reader;
mod rules;
pub mod schema;
pub mod secret;
pub mod services;
mod steps;
pub mod team;
mod toolchains;
mod variables;
mod variants;

use core::net::IpAddr;
use std::collections::BTreeMap;
use std::ops::Range;

use crate::digest::{Sha256Digest, SpecDigest};
use crate::path::RootPath;
use crate::version::Version;

pub use gather::{Gathered, gather};
pub use host::{Host, Kernel, Machine};
pub use parse::{Parsed, parse, parse_gathered};
pub use rules::measure;
pub use secret::Secret;
pub use services::{Check, Limits, Moment, Network, Protocol, Ready, Restart, Service, StartStep};
pub use steps::{Action, Copy, Run, Step, Take, Text, Write};
pub use team::DeclaredTeam;
pub use variants::MAIN;

/// The file's name in a project.
pub const FILE_NAME: &str = "cavrith.toml";

/// A value and the bytes of the file it was written in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct At<T> {
    /// The value.
    pub value: T,
    /// Where it stands.
    pub span: Range<usize>,
}

/// A whole spec.
#[derive(Debug, Clone, PartialEq)]
pub struct Spec {
    /// Name, account and project folder.
    pub workspace: Workspace,
    /// Declared depots, by name.
    pub depots: BTreeMap<String, At<Depot>>,
    /// What everything else lies on.
    pub base: Base,
    /// Wanted toolchains, by name.
    pub toolchains: BTreeMap<String, At<Wanted>>,
    /// Environment variables of the workspace and of its steps, with what they refer to filled in.
    pub env: BTreeMap<String, At<String>>,
    /// Folders of the member's disk, the project's own among them.
    pub folders: Vec<Folder>,
    /// Ports inside that are reachable outside.
    pub ports: Vec<Port>,
    /// Files to fetch, by name.
    pub downloads: Vec<Download>,
    /// Provisioning actions that make the image, in the order in which they are run.
    pub steps: Vec<Step>,
    /// Those of a workspace's start, in their order.
    pub start_steps: Vec<StartStep>,
    /// Programs that run in the background, by name.
    pub services: BTreeMap<String, At<Service>>,
    /// Secrets that it needs, by name.
    pub secrets: BTreeMap<String, At<Secret>>,
    /// What secrets name, whether this variant has it or not.
    pub named_by_secrets: secret::NamedBySecrets,
    /// Host names that stand for the workspace, each with the port that is meant.
    pub names: BTreeMap<String, At<String>>,
    /// What a running workspace may use.
    pub limits: Limits,
    /// Where finished layers are shared: a registry and a name there. It is no part of the spec's meaning.
    pub cache: Option<At<String>>,
    /// Who is in the team, as far as the spec says it. It is no part of the spec's meaning.
    pub team: Option<DeclaredTeam>,
    /// What the team's editor is given.
    pub editor: Option<Editor>,
    /// Where a member's own counts before the team's.
    pub personal: personal::MembersChoice,
    /// How it is run as a machine of its own.
    pub machine: Option<machine::Machine>,
    /// How the image is run elsewhere.
    pub image: Image,
    /// The variant that it is.
    pub variant: String,
    /// It is the one that is meant when none is named.
    pub is_default: bool,
    /// The variants that steps take something from, by name.
    pub sources: BTreeMap<String, Spec>,
    /// Digest of the file's meaning, for this variant.
    pub digest: SpecDigest,
}

/// The table `[image]`: how the image is run where Cavrith does not run it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Image {
    /// What is run.
    pub command: Option<Run>,
    /// Arguments that whoever runs it may replace.
    pub arguments: Vec<String>,
    /// Where it is started.
    pub directory: Option<At<RootPath>>,
    /// As whom.
    pub account: Option<At<String>>,
    /// Ports that it listens on, as `8080/tcp`.
    pub ports: Option<Vec<String>>,
    /// Labels, by name.
    pub labels: BTreeMap<String, String>,
    /// The signal that asks it to end.
    pub signal: Option<String>,
}

/// The table `[workspace]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Workspace {
    /// Its name; also its host name.
    pub name: At<String>,
    /// One line for people.
    pub about: Option<String>,
    /// The ordinary user inside.
    pub account: At<String>,
    /// Where commands are run: where the project's folder appears inside, or the account's home if it does not.
    pub project: At<RootPath>,
    /// Whether it reaches other machines.
    pub network: Network,
    /// What it runs in.
    pub target: Target,
    /// Directories in which programs are looked for before all others.
    pub path: Vec<At<RootPath>>,
    /// What a member's machine must offer.
    pub host: Host,
    /// The account's home is the image's at each image, and does not go along from one to the next.
    pub fresh_home: bool,
}

/// What a workspace runs in.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Target {
    /// Namespaces of the member's kernel.
    #[default]
    Namespaces,
    /// A virtual machine, with a kernel of its own.
    Machine,
}

/// Where a file or depot lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Origin {
    /// On the disk, relative to the project.
    Path(At<String>),
    /// On the web.
    Url(At<String>),
}

impl Origin {
    /// The path or address, and where it is written.
    pub fn at(&self) -> &At<String> {
        match self {
            Self::Path(at) | Self::Url(at) => at,
        }
    }

    /// The path, if it is one.
    pub fn path(&self) -> Option<&str> {
        match self {
            Self::Path(at) => Some(&at.value),
            Self::Url(_) => None,
        }
    }

    /// The address, if it is one.
    pub fn url(&self) -> Option<&str> {
        match self {
            Self::Path(_) => None,
            Self::Url(at) => Some(&at.value),
        }
    }
}

/// One entry of `[depots]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Depot {
    /// Where it lies.
    pub origin: Origin,
}

/// The table `[base]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Base {
    /// Packages of a depot.
    Packages {
        /// The depot's name.
        depot: At<String>,
        /// The packages' names.
        packages: Vec<At<String>>,
    },
    /// An archive of a whole root.
    Archive {
        /// Where the archive lies.
        origin: Origin,
        /// Its digest, if the spec names it.
        sha256: Option<At<Sha256Digest>>,
        /// How many leading directories to drop from its paths.
        strip: usize,
    },
    /// Packages of the Debian archive.
    Debian(Suite),
    /// An OCI image.
    Oci(OciBase),
}

/// A base of the Debian archive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Suite {
    /// The suite: `bookworm`.
    pub name: At<String>,
    /// Suites beside it, by what is added to its name: `updates`, `security`.
    pub extra: Vec<At<String>>,
    /// Its components.
    pub components: Vec<At<String>>,
    /// The architecture of its packages.
    pub architecture: At<String>,
    /// Wished packages, each with a version perhaps: `git (>= 1:2.30)`.
    pub packages: Vec<At<String>>,
    /// Whether what packages recommend is taken too.
    pub recommended: bool,
    /// What packages' scripts make and the image does not have; of a directory, what is in it.
    pub left_out: Vec<At<RootPath>>,
    /// Only what these packages need stays in the image.
    pub keep: Option<At<Vec<At<String>>>>,
}

impl Suite {
    /// All suites, the main one first.
    pub fn suites(&self) -> Vec<String> {
        let extra = self.extra.iter().map(|extra| format!("{}-{}", self.name.value, extra.value));
        std::iter::once(self.name.value.clone()).chain(extra).collect()
    }
}

/// A base that is an OCI image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OciBase {
    /// Where it lies.
    pub origin: ImageOrigin,
    /// Which of its platforms: `linux/amd64`.
    pub platform: At<String>,
}

/// Where an OCI image lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ImageOrigin {
    /// An image layout on the disk, a folder or an archive of one, relative to the project. A tag may choose from
    /// several images.
    Path(At<String>, Option<At<String>>),
    /// In a registry: `registry.example/team/base:1.2`.
    Reference(At<String>),
}

impl ImageOrigin {
    /// As it is written.
    pub fn shown(&self) -> String {
        match self {
            Self::Path(path, None) | Self::Reference(path) => path.value.clone(),
            Self::Path(path, Some(tag)) => format!("{}:{}", path.value, tag.value),
        }
    }

    /// Where it is written.
    pub fn span(&self) -> Range<usize> {
        match self {
            Self::Path(at, _) | Self::Reference(at) => at.span.clone(),
        }
    }
}

/// Where a toolchain comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Provenance {
    /// From a depot; from this one, when it is named.
    Depot(Option<At<String>>),
    /// From packages of the base, and of its parts.
    Base {
        /// Packages that it is made of.
        packages: Vec<At<String>>,
        /// Further packages, by the part that they make.
        parts: BTreeMap<String, Vec<At<String>>>,
    },
    /// From one archive.
    Archive {
        /// Where the archive lies.
        origin: Origin,
        /// Its digest, if the spec names it.
        sha256: Option<At<Sha256Digest>>,
        /// How many leading directories to drop from its paths.
        strip: usize,
        /// Where it lies inside.
        place: RootPath,
        /// Directories in its place whose programs are found by name.
        programs: Vec<String>,
    },
}

/// One entry of `[toolchains]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    /// Where it comes from.
    pub from: Provenance,
    /// The command that tells its version, when the spec names it.
    pub probe: Option<Run>,
    /// What that has to answer, when the spec names it.
    pub answer: Option<String>,
    /// The version, or the beginning of one.
    pub version: At<Version>,
    /// Further versions that lie beside it.
    pub also: Vec<At<Version>>,
    /// Which of its optional parts; all when left out.
    pub parts: Option<Vec<At<String>>>,
}

/// What a folder inside is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Side {
    /// A folder of the member's disk, relative to the spec.
    Live(At<String>),
    /// A copy of such a folder, which is brought together with it.
    Synced {
        /// The folder.
        outside: At<String>,
        /// Patterns of what does not cross.
        ignore: Vec<At<String>>,
    },
    /// One that Cavrith keeps beside the workspace.
    Kept {
        /// Its name.
        name: At<String>,
        /// Who owns it when it is new.
        owner: Option<At<String>>,
    },
}

/// One entry of `[[folders]]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Folder {
    /// Where its files lie.
    pub side: Side,
    /// Where it appears.
    pub inside: At<RootPath>,
    /// Directories in it, relative to it, that never cross the wall.
    pub except: Vec<At<RootPath>>,
}

impl Folder {
    /// Its name, when it is a kept one.
    pub fn kept_name(&self) -> Option<&At<String>> {
        match &self.side {
            Side::Kept { name, .. } => Some(name),
            Side::Live(_) | Side::Synced { .. } => None,
        }
    }

    /// The folder of the member's disk that it is, or is a copy of.
    pub fn outside(&self) -> Option<&At<String>> {
        match &self.side {
            Side::Live(outside) | Side::Synced { outside, .. } => Some(outside),
            Side::Kept { .. } => None,
        }
    }
}

/// One entry of `[[ports]]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Port {
    /// A name for people.
    pub name: At<String>,
    /// The port that a program inside listens on.
    pub inside: At<u16>,
    /// The port it is reached on outside.
    pub outside: At<u16>,
    /// Refuse another outside port when this one is taken.
    pub exact: bool,
    /// How many ports in a row.
    pub count: u16,
    /// What is carried.
    pub protocol: Protocol,
    /// The address outside, when it is not the loopback.
    pub bind: Option<At<IpAddr>>,
    /// Whether its address on the web is opened.
    pub open: bool,
}

impl Port {
    /// The last of its ports inside, and the last outside.
    pub fn last(&self) -> (u16, u16) {
        let more = self.count.saturating_sub(1);
        (self.inside.value.saturating_add(more), self.outside.value.saturating_add(more))
    }
}

/// One entry of `[[downloads]]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Download {
    /// A name for people and for the lock.
    pub name: At<String>,
    /// Its address.
    pub url: At<String>,
    /// Where it lies inside.
    pub inside: At<RootPath>,
    /// Its digest, if the spec names it.
    pub sha256: Option<At<Sha256Digest>>,
    /// Whether it is an archive to unpack.
    pub unpack: bool,
    /// How many leading directories to drop from the archive's paths.
    pub strip: usize,
    /// The rights of the file.
    pub mode: u16,
}

impl Wanted {
    /// The depot it has to come from, when one is named.
    pub fn depot(&self) -> Option<&At<String>> {
        match &self.from {
            Provenance::Depot(depot) => depot.as_ref(),
            _ => None,
        }
    }
}

impl Spec {
    /// Whether only what `base.keep` needs stays of the base.
    pub fn is_trimmed(&self) -> bool {
        matches!(&self.base, Base::Debian(suite) if suite.keep.is_some())
    }

    /// The name of a workspace of this variant, and of its image: the project's, and but for the default variant its
    /// own.
    pub fn name(&self) -> String {
        let name = &self.workspace.name.value;
        if self.is_default { name.clone() } else { format!("{name}-{}", self.variant) }
    }

    /// Every package that is wished of the base's archive, with the place where: those of the base itself, and of
    /// toolchains that come from it.
    pub fn wishes(&self) -> Vec<&At<String>> {
        let own = match &self.base {
            Base::Debian(suite) => suite.packages.as_slice(),
            _ => &[],
        };
        let toolchains = self.toolchains.values().filter_map(|wanted| match &wanted.value.from {
            Provenance::Base { packages, parts } => Some(packages.iter().chain(parts.values().flatten())),
            _ => None,
        });
        own.iter().chain(toolchains.flatten()).collect()
    }
}

/// The table `[editor]`.
#[derive(Debug, Clone, PartialEq)]
pub struct Editor {
    /// Where the table stands.
    pub span: Range<usize>,
    /// Which editor profile of the depots; may be left out when they offer one only.
    pub profile: Option<At<String>>,
    /// Wanted extensions, by id.
    pub extensions: BTreeMap<String, At<Version>>,
    /// Settings, as the editor's settings file will hold them.
    pub settings: serde_json::Map<String, serde_json::Value>,
    /// How to start the project's programs, by name.
    pub launch: BTreeMap<String, Launch>,
}

/// One entry of `[editor.launch]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Launch {
    /// The program.
    pub program: String,
    /// Its arguments.
    pub arguments: Vec<String>,
    /// The command that builds it first.
    pub build: Option<String>,
    /// Where it is started; the project's folder when left out.
    pub directory: Option<RootPath>,
    /// Variables of it only.
    pub env: BTreeMap<String, String>,
    /// The debugger, as the editor calls it.
    pub debugger: Option<String>,
    /// It runs already, and a debugger attaches to it.
    pub attach: bool,
}
