//! Bytes from outside, made into layers.
//!
//! Everything here is hostile until it is proved: a file is first copied into a place of our own and compared with its
//! size and SHA-256 ([`checked`]), and only a [`checked::Checked`] can be parsed. Parsing is bounded ([`bounds`]) in
//! bytes and entries, and what it finds goes through the store's writer, which follows no link that an archive brought.
//!
//! | module | reads | by |
//! |---|---|---|
//! | [`compression`] | gzip, xz, zstd, recognised by their first bytes | well-kept libraries |
//! | [`ar`] | the outer archive of a package | own code |
//! | [`deb`] | a package: control and data archives, dpkg's records | own code over `tarball` |
//! | [`tarball`] | tar (ustar, GNU and pax names) | the `tar` crate for headers, own code for the rest |
//! | [`zipball`] | zip | the `zip` crate |
//! | [`stage`] | many packages into one stage of a base, with dpkg's records | own code |
//! | [`signature`] | clear-signed texts and keyrings | own code over the `ring` crate |
//! | [`oci`] | OCI indexes, manifests, layers | `serde_json` for documents, `tarball` for layers |
//! | [`registry`] | OCI registries | own code over `web` |
//! | [`web`] | HTTP and HTTPS | the `ureq` crate |
//!
//! [`web`] is the only module of Cavrith that opens connections to other machines. This crate starts no process.
#![forbid(unsafe_code)]

pub mod ar;
pub mod bounds;
pub mod checked;
pub mod compression;
pub mod deb;
pub mod keystore;
pub mod oci;
pub mod registry;
pub mod signature;
pub mod stage;
pub mod tarball;
pub mod web;
pub mod zipball;

use std::path::PathBuf;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::failure::FailureCode;
use cavrith_store::StoreError;

/// What can be wrong with bytes from outside.
#[derive(Debug, thiserror::Error)]
pub enum SourceError {
    /// The file cannot be read.
    #[error("cannot read {}: {source}", path.display())]
    Unreadable {
        /// The file.
        path: PathBuf,
        /// The error that the system reported.
        source: std::io::Error,
    },
    /// An address cannot be reached, or answers with something else.
    #[error("the request to {url} failed: {cause}")]
    Unreachable {
        /// The address.
        url: String,
        /// The reason.
        cause: Unreached,
    },
    /// It is not the file that the lock pins.
    #[error("{} is not what the lock pins: expected {expected}, found {found}", path.display())]
    OtherDigest {
        /// The file.
        path: PathBuf,
        /// SHA-256 in the lock.
        expected: Sha256Digest,
        /// SHA-256 of the file.
        found: Sha256Digest,
    },
    /// It is longer or shorter than the lock says.
    #[error("{} is not what the lock pins: expected {expected} bytes, found {found}", path.display())]
    OtherSize {
        /// The file.
        path: PathBuf,
        /// Bytes in the lock.
        expected: u64,
        /// Bytes of the file.
        found: u64,
    },
    /// It is not an archive of the kind it has to be, or a damaged one.
    #[error("{name} cannot be unpacked: {why}")]
    Damaged {
        /// The archive.
        name: String,
        /// What is wrong with it.
        why: String,
    },
    /// It holds something that it must not bring.
    #[error("{name} is refused: {why}")]
    Refused {
        /// The archive.
        name: String,
        /// What it wanted.
        why: String,
    },
    /// The store could not take it.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Why something was not fetched.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unreached {
    /// The user wants nothing fetched.
    #[error("CAVRITH_OFFLINE is set, so nothing is fetched")]
    Offline,
    /// The server answered with an error (RFC 9110, section 15).
    #[error("the server answers {status}{words}{}", tried(*tries))]
    Status {
        /// Its status.
        status: u16,
        /// What the status means, after a blank; may be empty.
        words: String,
        /// How often it was asked.
        tries: u32,
    },
    /// There is more of it than there may be.
    #[error("it is longer than {0} bytes")]
    TooLong(u64),
    /// It has no digest yet, and there is more of it than the member's configuration allows.
    #[error("it is longer than {0} bytes; what has no digest yet may be longer with [web] longest-mib in config.toml")]
    TooLongUnpinned(u64),
    /// The connection failed or broke off, or what came cannot be used.
    #[error("{why}{}", tried(*tries))]
    Broken {
        /// In words.
        why: String,
        /// How often it was asked.
        tries: u32,
    },
}

impl Unreached {
    /// What cannot be used, in words.
    pub fn broken(why: impl Into<String>) -> Self {
        Self::Broken { why: why.into(), tries: 1 }
    }

    /// The server's status, if that is why.
    pub fn status(&self) -> Option<u16> {
        match self {
            Self::Status { status, .. } => Some(*status),
            _ => None,
        }
    }

    fn after(self, count: u32) -> Self {
        match self {
            Self::Status { status, words, .. } => Self::Status { status, words, tries: count },
            Self::Broken { why, .. } => Self::Broken { why, tries: count },
            other => other,
        }
    }
}

fn tried(tries: u32) -> String {
    if tries > 1 { format!("; tried {tries} times") } else { String::new() }
}

impl SourceError {
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::Unreadable { .. } => FailureCode::FILE,
            Self::Unreachable { .. } => FailureCode::UNREACHABLE,
            Self::OtherDigest { .. } | Self::OtherSize { .. } => FailureCode::OTHER_FILE,
            Self::Damaged { .. } | Self::Refused { .. } => FailureCode::ARCHIVE,
            Self::Store(error) => error.code(),
        }
    }
}

/// Makes a store's error one about an archive, where the archive is to blame.
pub(crate) fn blame(name: &str) -> impl Fn(StoreError) -> SourceError {
    let name = name.to_owned();
    move |error| match error {
        StoreError::Refused(refused) => SourceError::Refused { name: name.clone(), why: refused.to_string() },
        // The writer's reading side is the archive's content, and only that has a relative path.
        StoreError::Io { source, path, .. } if path.is_relative() => {
            SourceError::Damaged { name: name.clone(), why: format!("/{}: {source}", path.display()) }
        }
        other => SourceError::Store(other),
    }
}
