//! The spec, `cavrith.toml`: what a lead writes.
//!
//! [`parse()`] reads the text and finds *every* mistake in it that needs no look at the disk; [`keys`] is the one list of
//! keys that the reader, the refusal of unknown keys and the reference in `docs/spec.md` are held against. A [`Spec`]
//! that came out of `parse` is sound in itself: names are names, inside paths are absolute and plain, nothing is twice.

pub mod keys;
mod parse;
mod reader;
mod rules;

use std::collections::BTreeMap;
use std::ops::Range;

use crate::digest::{Sha256Digest, SpecDigest};
use crate::path::RootPath;
use crate::version::Version;

pub use parse::{Parsed, parse};

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
    /// Environment variables of the workspace and of its steps.
    pub env: BTreeMap<String, At<String>>,
    /// Folders of the member's disk, the project's own among them.
    pub folders: Vec<Folder>,
    /// Ports inside that are reachable outside.
    pub ports: Vec<Port>,
    /// Provisioning actions, in their order.
    pub steps: Vec<Step>,
    /// What the team's editor is given.
    pub editor: Option<Editor>,
    /// Digest of the file's meaning.
    pub digest: SpecDigest,
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
    /// Where the project's folder appears inside.
    pub project: At<RootPath>,
}

/// One entry of `[depots]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Depot {
    /// Folder of the depot, relative to the spec.
    pub path: At<String>,
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
        /// The archive, relative to the spec.
        path: At<String>,
        /// Its digest, if the spec names it.
        sha256: Option<At<Sha256Digest>>,
        /// How many leading directories to drop from its paths.
        strip: usize,
    },
}

/// One entry of `[toolchains]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    /// The version, or the beginning of one.
    pub version: At<Version>,
    /// The depot it has to come from.
    pub depot: Option<At<String>>,
}

/// One entry of `[[folders]]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Folder {
    /// Where it lies on the member's disk, relative to the spec.
    pub outside: At<String>,
    /// Where it appears.
    pub inside: At<RootPath>,
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
}

/// One entry of `[[steps]]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// A name for people.
    pub name: At<String>,
    /// What it does.
    pub run: Run,
}

/// A command of a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Run {
    /// A text for the shell of the root, `/bin/sh -c`.
    Shell(String),
    /// A program and its arguments, without a shell.
    Program(Vec<String>),
}

impl Run {
    /// Program and arguments.
    pub fn argv(&self) -> Vec<String> {
        match self {
            Self::Shell(text) => vec!["/bin/sh".to_owned(), "-ec".to_owned(), text.clone()],
            Self::Program(argv) => argv.clone(),
        }
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
}
