//! The lock, `cavrith.lock`: every input pinned, written by the program, reviewed by people.
//!
//! [`choose`] makes one from a spec and what the depots offer; [`crate::derive::fit`] says where lock and spec differ.

pub mod choose;
pub mod own_toolchains;
pub mod packages;
mod places;
pub mod suites;
mod variants;

pub use suites::{ArchivePackage, DebianPin};
pub use variants::VariantPins;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::depot::{EditorProfile, Probe};
use crate::digest::{ImageKey, PinsDigest, Sha256Digest, TreeDigest};
use crate::seal::Seal;
use crate::spec::MAIN;
use crate::version::Version;

/// The file's name in a project.
pub const FILE_NAME: &str = "cavrith.lock";

const HEAD: &str = "# Every input of this workspace, pinned. Written by `cavrith lock` and `cavrith seal`: review it, do not edit it.\n";

/// A whole lock.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Lock {
    /// Version of this format; 1.
    pub lock: u32,
    /// The variant whose pins stand at the top: the one that is meant when none is named.
    #[serde(default = "main_part", skip_serializing_if = "is_main_part")]
    pub variant: String,
    /// The one time stamp of every file in the image, in seconds since 1970: the newest one in the base's own files.
    pub epoch: u64,
    /// The depots that pins come from, sorted by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub depots: Vec<DepotPin>,
    /// Packages of the base, sorted by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub packages: Vec<PackagePin>,
    /// The base, when it is one archive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub archive: Option<ArchivePin>,
    /// The base, when it is an OCI image.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub oci: Option<OciPin>,
    /// The base, when it comes from the Debian archive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub debian: Option<DebianPin>,
    /// Toolchains, sorted by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub toolchains: Vec<ToolchainPin>,
    /// The editor's profile.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub editor: Option<EditorProfile>,
    /// Extensions, sorted by id.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub extensions: Vec<ExtensionPin>,
    /// Files from the web, sorted by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub downloads: Vec<DownloadPin>,
    /// Files of the project that steps take into the image, in the order of the steps.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<FilesPin>,
    /// What steps fetched, in the order of the steps.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub records: Vec<RecordPin>,
    /// What must come out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seal: Option<Seal>,
    /// What is pinned otherwise for other variants, sorted by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub variants: Vec<VariantPins>,
    /// In the pins of one variant alone: those of the variants that it takes something from.
    #[serde(skip)]
    pub sources: BTreeMap<String, Self>,
}

fn main_part() -> String {
    MAIN.to_owned()
}

fn is_main_part(variant: &str) -> bool {
    variant == MAIN
}

/// A depot, as it was when the lock was written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct DepotPin {
    /// The name under which the spec declares it.
    pub name: String,
    /// SHA-256 of its index.
    pub index: Sha256Digest,
}

/// Where a pinned file is found, and what it has to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Source {
    /// The depot's name; empty for a file that comes from none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub depot: String,
    /// The file's path in the depot; without one, its address or its path from the spec.
    pub file: String,
    /// Its length in bytes.
    pub size: u64,
    /// Its SHA-256.
    pub sha256: Sha256Digest,
}

/// A package of the base.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct PackagePin {
    /// Name.
    pub name: String,
    /// Version.
    pub version: String,
    /// Architecture; `all` for any.
    pub architecture: String,
    /// The file.
    #[serde(flatten)]
    pub source: Source,
}

/// The base as one archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ArchivePin {
    /// The archive, relative to the spec, when it lies on the disk.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Its address, when it lies on the web.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// Its length in bytes.
    pub size: u64,
    /// Its SHA-256.
    pub sha256: Sha256Digest,
    /// How many leading directories are dropped from its paths.
    #[serde(default)]
    pub strip: usize,
}

impl ArchivePin {
    /// Its path or address.
    pub fn origin(&self) -> &str {
        self.path.as_deref().or(self.url.as_deref()).unwrap_or_default()
    }
}

/// An OCI image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct OciPin {
    /// The reference or path that the spec names.
    pub origin: String,
    /// The platform.
    pub platform: String,
    /// SHA-256 of the platform's manifest.
    pub manifest: Sha256Digest,
    /// The manifest's length in bytes.
    pub size: u64,
    /// Its layers, the lowest first: SHA-256 and length of each as it is packed.
    pub layers: Vec<OciLayerPin>,
}

/// One layer of an OCI image, as it is packed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct OciLayerPin {
    /// Its SHA-256.
    pub sha256: Sha256Digest,
    /// Its length in bytes.
    pub size: u64,
}

/// A file from the web.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct DownloadPin {
    /// Name.
    pub name: String,
    /// Its address.
    pub url: String,
    /// Its length in bytes.
    pub size: u64,
    /// Its SHA-256.
    pub sha256: Sha256Digest,
}

/// Files of the project that a step takes into the image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct FilesPin {
    /// The step's name.
    pub step: String,
    /// The file or folder, relative to the spec.
    pub from: String,
    /// How many files.
    pub files: u64,
    /// Bytes in them.
    pub bytes: u64,
    /// Digest of their tree: names, contents, and whether they are programs.
    pub tree: TreeDigest,
}

/// What a step fetched.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct RecordPin {
    /// The step's name.
    pub step: String,
    /// The hosts that it asked, sorted.
    pub hosts: Vec<String>,
    /// Different requests.
    pub requests: u64,
    /// Bytes of all that came.
    pub bytes: u64,
    /// The record, in the directory of records.
    pub record: String,
    /// Its SHA-256.
    pub sha256: Sha256Digest,
    /// The step and all beneath it as they were when it was recorded: when this is another now, the step may ask for
    /// something else.
    pub over: ImageKey,
}

/// A toolchain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct ToolchainPin {
    /// Name.
    pub name: String,
    /// Version.
    pub version: Version,
    /// The archive; none when it comes with the base.
    #[serde(flatten)]
    pub source: Option<Source>,
    /// The packages of the base that it is, those of its parts too.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub packages: Vec<String>,
    /// How many leading directories are dropped from its paths.
    pub strip: usize,
    /// Where it lies inside.
    pub place: String,
    /// Directories in its place whose programs are found by name.
    pub path: Vec<String>,
    /// It lies beside another version, which is the one that is found by name.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub also: bool,
    /// What proves its version.
    pub probe: Probe,
    /// Its chosen parts, sorted by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<PartPin>,
}

/// A part of a toolchain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct PartPin {
    /// Name.
    pub name: String,
    /// The archive.
    #[serde(flatten)]
    pub source: Source,
    /// How many leading directories are dropped from its paths.
    pub strip: usize,
}

/// An extension.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct ExtensionPin {
    /// Its id.
    pub id: String,
    /// Version.
    pub version: Version,
    /// The archive.
    #[serde(flatten)]
    pub source: Source,
    /// How many leading directories are dropped from its paths.
    pub strip: usize,
    /// Where it lies inside.
    pub place: String,
}

/// A text that is not a lock.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadLock {
    /// There is nothing in it.
    #[error("cavrith.lock is empty")]
    Empty,
    /// A merge left its conflict in it.
    #[error("cavrith.lock:{line}: a merge left its conflict in the lock")]
    Conflict {
        /// Line of the first marker, from 1.
        line: usize,
    },
    /// It cannot be read.
    #[error("cavrith.lock:{line}: the lock cannot be read: {message}")]
    Unreadable {
        /// Line, from 1.
        line: usize,
        /// What the parser says.
        message: String,
    },
    /// It is not as it was written.
    #[error("the lock is not as Cavrith wrote it: it was edited, half merged, or damaged")]
    Changed,
    /// It holds something that Cavrith does not write.
    #[error("the lock holds something that Cavrith does not write")]
    Foreign,
    /// Its seal was changed.
    #[error("the seal in the lock was changed: its parts do not fit each other")]
    Seal,
    /// It is of another version.
    #[error("the lock is of version {0}, and this Cavrith reads version 1")]
    Version(u32),
}

impl BadLock {
    /// What to do about it, and what that costs.
    pub fn remedy(&self) -> &'static str {
        match self {
            Self::Conflict { .. } => {
                "take one side whole (git checkout --ours cavrith.lock, or --theirs), run cavrith lock for what the other side changed, and seal again"
            }
            Self::Version(_) => "use the Cavrith that wrote it, or a newer one",
            _ => {
                "take the file from version control again (git checkout cavrith.lock); removing it and running cavrith lock would choose every version anew, and lose the seal"
            }
        }
    }

    /// The line that is meant, from 1.
    pub fn line(&self) -> Option<usize> {
        match self {
            Self::Conflict { line } | Self::Unreadable { line, .. } => Some(*line),
            _ => None,
        }
    }
}

/// A line that proves the rest of a lock: a digest of all lines that are no comments.
fn sum_line(body: &str) -> String {
    format!("# sum {}", &blake3::hash(body.as_bytes()).to_hex()[..32])
}

impl Lock {
    /// Reads a lock.
    ///
    /// # Errors
    /// When the text is not a lock of this version.
    pub fn parse(text: &str) -> Result<Self, BadLock> {
        // Version control may have changed the ends of lines.
        let text = &text.replace("\r\n", "\n");
        if text.trim().is_empty() {
            return Err(BadLock::Empty);
        }
        if let Some((marker, _)) = crate::spec::broken::conflict_markers(text) {
            return Err(BadLock::Conflict { line: crate::mistake::line_and_column(text, marker.start).0 });
        }
        let lock: Self = toml::from_str(text).map_err(|error| BadLock::Unreadable {
            line: crate::mistake::line_and_column(text, error.span().map_or(0, |span| span.start)).0,
            message: error.message().trim().to_owned(),
        })?;
        if lock.lock != 1 {
            return Err(BadLock::Version(lock.lock));
        }
        let body: String = text.lines().filter(|line| !line.starts_with('#')).map(|line| format!("{line}\n")).collect();
        let sum = sum_line(&body);
        if !text.lines().any(|line| line == sum) {
            return Err(BadLock::Changed);
        }
        let seals = lock.seal.iter().chain(lock.variants.iter().filter_map(|pins| pins.seal.as_ref()));
        if seals.into_iter().any(|seal| !seal.is_whole()) {
            return Err(BadLock::Seal);
        }
        // A flattened table cannot refuse unknown keys, so what was read is compared with what would be written.
        if lock.body() == body { Ok(lock) } else { Err(BadLock::Foreign) }
    }

    /// The text of the file. The same lock has the same text, to the byte.
    pub fn to_text(&self) -> String {
        let body = self.body();
        format!("{HEAD}{}\n{body}", sum_line(&body))
    }

    /// What the file has but for comments.
    fn body(&self) -> String {
        toml::to_string(self).unwrap_or_else(|error| panic!("BUG: a lock cannot be written: {error}"))
    }

    /// Every file that is pinned by itself, from a depot or, for an archive of a toolchain, from an address or the
    /// project.
    pub fn sources(&self) -> impl Iterator<Item = &Source> {
        let toolchains = self.toolchains.iter();
        let toolchains = toolchains.flat_map(|pin| pin.source.iter().chain(pin.parts.iter().map(|part| &part.source)));
        let packages = self.packages.iter().map(|pin| &pin.source);
        packages.chain(toolchains).chain(self.extensions.iter().map(|pin| &pin.source))
    }

    /// Digest of all pins of one variant: of the lock's text as it would be without its seal, and of the pins of the
    /// variants that it takes something from.
    pub fn pins_digest(&self) -> PinsDigest {
        let pins = Self { seal: None, variants: Vec::new(), ..self.clone() };
        let mut hasher = blake3::Hasher::new();
        hasher.update(format!("{HEAD}{}", pins.body()).as_bytes());
        for source in self.sources.values() {
            hasher.update(source.pins_digest().as_bytes());
        }
        PinsDigest::from_bytes(*hasher.finalize().as_bytes())
    }
}
