//! Errors of pins.

use std::path::PathBuf;

use cavrith_core::derive::fit::Misfit;
use cavrith_core::failure::FailureCode;
use cavrith_core::lock::BadLock;

/// What can go wrong with pins: making them, reading them, holding files against them.
#[derive(Debug, thiserror::Error)]
pub enum LockError {
    /// Something to update that the spec does not have.
    #[error("the spec has no {name}{}; it has {known}", meant.as_ref().map_or_else(String::new, |meant| format!(" (did you mean {meant}?)")))]
    UnknownName {
        /// The name.
        name: String,
        /// The one that was probably meant.
        meant: Option<String>,
        /// Those that there are.
        known: String,
    },
    /// A suite of the Debian archive cannot be used.
    #[error("the suite {suite} cannot be used: {why}; {remedy}")]
    Suite {
        /// The suite.
        suite: String,
        /// The reason, in words.
        why: String,
        /// What to do.
        remedy: String,
    },
    /// A pinned package can be had nowhere.
    #[error(
        "{package} can be had nowhere: {why}; mirrors drop what is superseded: take it from a depot that was filled in time (CAVRITH_DEPOTS), or move on with cavrith lock --update {package}"
    )]
    PackageGone {
        /// The package.
        package: String,
        /// Why the last place did not give it.
        why: String,
    },
    /// Something about an OCI image.
    #[error("the image {image} cannot be used: {why}")]
    Image {
        /// The reference or path.
        image: String,
        /// The reason, in words.
        why: String,
    },
    /// There is no lock yet.
    #[error("there is no cavrith.lock beside the spec; run cavrith lock")]
    NoLock,
    /// The lock is none.
    #[error("{bad}; {}", bad.remedy())]
    BadLock {
        /// What is wrong with it.
        #[from]
        bad: BadLock,
    },
    /// Lock and spec do not belong together.
    #[error("the lock does not answer the spec; run cavrith lock")]
    Misfits(Vec<Misfit>),
    /// The machine has another architecture than the lock.
    #[error("this workspace is locked for {locked}, and this machine is {here}")]
    Architecture {
        /// In the lock.
        locked: String,
        /// Of this machine.
        here: String,
    },
    /// An archive changed since it was locked.
    #[error("{} changed since it was locked: expected {expected}, found {found}; run cavrith lock --trust-changed if that is meant", path.display())]
    ArchiveChanged {
        /// The archive.
        path: PathBuf,
        /// Digest in the lock.
        expected: String,
        /// Digest of the file.
        found: String,
    },
    /// An address answers with another file than when it was locked.
    #[error(
        "{url} is not what was locked: expected {expected}, found {found}; run cavrith lock --trust-changed if that is meant"
    )]
    AddressChanged {
        /// The address.
        url: String,
        /// Digest in the lock or spec.
        expected: String,
        /// Digest of what came.
        found: String,
    },
    /// A file is not what the spec itself says.
    #[error(
        "{file} is not what the spec says: sha256 = \"{expected}\", and it has {found}; correct the spec, or bring the right file"
    )]
    NotAsWritten {
        /// The file or address.
        file: String,
        /// Digest in the spec.
        expected: String,
        /// Digest of the file.
        found: String,
    },
}

impl LockError {
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::UnknownName { .. } => FailureCode::UNKNOWN_NAME,
            Self::Suite { .. } => FailureCode::SUITE,
            Self::PackageGone { .. } => FailureCode::PACKAGE_GONE,
            Self::Image { .. } => FailureCode::IMAGE,
            Self::NoLock => FailureCode::NO_LOCK,
            Self::BadLock { .. } => FailureCode::BAD_LOCK,
            Self::Misfits(_) => FailureCode::MISFITS,
            Self::Architecture { .. } => FailureCode::ARCHITECTURE,
            Self::ArchiveChanged { .. } | Self::AddressChanged { .. } => FailureCode::CHANGED,
            Self::NotAsWritten { .. } => FailureCode::NOT_AS_WRITTEN,
        }
    }

    /// The exit code that stands for it; see [`super::EngineError::exit_code`].
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::UnknownName { .. } => 2,
            Self::NoLock | Self::BadLock { .. } | Self::Misfits(_) => 1,
            Self::Architecture { .. } => 3,
            Self::Suite { .. } | Self::PackageGone { .. } | Self::Image { .. } => 4,
            Self::ArchiveChanged { .. } | Self::AddressChanged { .. } | Self::NotAsWritten { .. } => 4,
        }
    }
}
