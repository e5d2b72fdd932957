//! What can go wrong in a flow.

use std::path::PathBuf;

use cavrith_core::account::AccountError;
use cavrith_core::derive::fit::Misfit;
use cavrith_core::failure::FailureCode;
use cavrith_core::lock::BadLock;
use cavrith_core::verdict::Difference;
use cavrith_sandbox::SandboxError;
use cavrith_sandbox::job::Ending;
use cavrith_sources::SourceError;
use cavrith_store::StoreError;

use crate::findings::{Findings, OutsideUse};

/// What can go wrong in a flow.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// There is no project here.
    #[error("there is no cavrith.toml in {} or in a folder above it", .0.display())]
    NoProject(PathBuf),
    /// The folder that was typed is not there.
    #[error("{} cannot be used as the project's folder: {why}; name one that is there", path.display())]
    NoFolder {
        /// As it was typed.
        path: PathBuf,
        /// Why not.
        why: String,
    },
    /// The project takes something from outside its own tree that its member has not allowed, or that nobody gets.
    #[error("{}", outside_words(project, uses))]
    Outside {
        /// The project's folder.
        project: PathBuf,
        /// What it takes.
        uses: Vec<OutsideUse>,
    },
    /// A file of the project cannot be read or written.
    #[error("cannot {doing} {}: {source}", path.display())]
    File {
        /// What was being done.
        doing: &'static str,
        /// To which file.
        path: PathBuf,
        /// Why it failed.
        source: std::io::Error,
    },
    /// The project has mistakes.
    #[error("the project has mistakes")]
    Mistakes(Box<Findings>),
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
    /// The member's configuration cannot be read.
    #[error("the configuration {} cannot be read: {why}", path.display())]
    Config {
        /// The file.
        path: PathBuf,
        /// The reason, in words.
        why: String,
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
    /// Packages could not be configured.
    #[error("configuring the packages of {stage} {why}")]
    Configure {
        /// The stage.
        stage: String,
        /// How it failed.
        why: String,
        /// Its last lines.
        last_lines: Vec<String>,
    },
    /// Something about an OCI image.
    #[error("the image {image} cannot be used: {why}")]
    Image {
        /// The reference or path.
        image: String,
        /// The reason, in words.
        why: String,
    },
    /// Something about a depot.
    #[error("{0}")]
    Depot(String),
    /// A spec that is there already, or cannot be changed.
    #[error("{0}")]
    Spec(String),
    /// There is no lock yet.
    #[error("there is no cavrith.lock beside the spec; run cavrith lock")]
    NoLock,
    /// The lock is none.
    #[error("{0}; take it from version control again, or remove it and lock anew")]
    BadLock(#[from] BadLock),
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
    /// Files of the project that a step takes are not those that were locked.
    #[error(
        "the files of the step {step:?} changed since they were locked ({from}: {expected} expected, {found} found); run cavrith lock if that is meant"
    )]
    FilesChanged {
        /// The step.
        step: String,
        /// The file or folder.
        from: String,
        /// In the lock, in words.
        expected: String,
        /// Here, in words.
        found: String,
    },
    /// Something of the project that cannot be taken into an image.
    #[error("{} cannot be taken into the image: {why}", path.display())]
    NotTakeable {
        /// The path of the entry or file.
        path: PathBuf,
        /// The reason, in words.
        why: String,
    },
    /// A template that cannot be filled in.
    #[error("the template {} cannot be filled in: {why}", path.display())]
    Template {
        /// The template.
        path: PathBuf,
        /// The reason, in words.
        why: String,
    },
    /// An account that the image does not have.
    #[error("the image has no account {name:?} when the {step} comes; its accounts are {known}")]
    NoAccount {
        /// The step.
        step: String,
        /// The account.
        name: String,
        /// Those that there are.
        known: String,
    },
    /// A place that a step cannot write to.
    #[error("the {step} cannot write to {place}: {why}")]
    BadPlace {
        /// The step.
        step: String,
        /// The place.
        place: String,
        /// The reason, in words.
        why: String,
    },
    /// The account cannot be made.
    #[error(transparent)]
    Account(#[from] AccountError),
    /// Something would lie where the base has something already.
    #[error("{what} would lie at {place}, where the base has {there}; let its depot give it another place")]
    PlaceTaken {
        /// What it is about, as people name it.
        what: String,
        /// Where it lies.
        place: String,
        /// What is there.
        there: String,
    },
    /// A step failed.
    #[error("the {step} failed with {ending}")]
    Step {
        /// The step.
        step: String,
        /// How it ended.
        ending: Ending,
        /// Its last lines.
        last_lines: Vec<String>,
    },
    /// A step or probe took too long.
    #[error("the {what} took longer than {limit} and was ended")]
    TooLong {
        /// What it is about, as people name it.
        what: String,
        /// How long it may take, in words.
        limit: String,
    },
    /// A toolchain is not what its lock says.
    #[error(
        "the toolchain {toolchain} answers {found:?} to {run:?}, and the lock expects {expected:?}; mend its depot's entry, or its archive"
    )]
    Probe {
        /// The toolchain.
        toolchain: String,
        /// What was asked.
        run: String,
        /// What the lock expects.
        expected: String,
        /// What it answered.
        found: String,
    },
    /// Building twice did not give the same.
    #[error("built twice, it does not come out the same, so it cannot be sealed")]
    NotReproducible(Vec<Difference>),
    /// The second build failed.
    #[error("the second build, under other conditions, failed: {0}")]
    SecondBuild(String),
    /// Sources.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// Store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Sandbox.
    #[error(transparent)]
    Sandbox(#[from] SandboxError),
}

impl EngineError {
    /// Findings that are sound, or the error that they are not.
    ///
    /// # Errors
    /// When there is a mistake that is more than a warning.
    pub fn unless_sound(findings: Findings) -> Result<Findings, Self> {
        if findings.is_sound() { Ok(findings) } else { Err(Self::Mistakes(Box::new(findings))) }
    }

    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::NoProject(_) => FailureCode::NO_PROJECT,
            Self::NoFolder { .. } => FailureCode::NO_FOLDER,
            Self::Outside { .. } => FailureCode::OUTSIDE,
            Self::File { .. } => FailureCode::FILE,
            Self::Mistakes(_) => FailureCode::MISTAKES,
            Self::UnknownName { .. } => FailureCode::UNKNOWN_NAME,
            Self::Config { .. } => FailureCode::CONFIG,
            Self::Suite { .. } => FailureCode::SUITE,
            Self::PackageGone { .. } => FailureCode::PACKAGE_GONE,
            Self::Configure { .. } => FailureCode::CONFIGURE,
            Self::Image { .. } => FailureCode::IMAGE,
            Self::Depot(_) => FailureCode::DEPOT,
            Self::Spec(_) => FailureCode::SPEC,
            Self::NoLock => FailureCode::NO_LOCK,
            Self::BadLock(_) => FailureCode::BAD_LOCK,
            Self::Misfits(_) => FailureCode::MISFITS,
            Self::Architecture { .. } => FailureCode::ARCHITECTURE,
            Self::ArchiveChanged { .. } | Self::AddressChanged { .. } => FailureCode::CHANGED,
            Self::NotAsWritten { .. } => FailureCode::NOT_AS_WRITTEN,
            Self::FilesChanged { .. } => FailureCode::FILES_CHANGED,
            Self::NotTakeable { .. }
            | Self::Template { .. }
            | Self::NoAccount { .. }
            | Self::BadPlace { .. }
            | Self::Account(_)
            | Self::PlaceTaken { .. } => FailureCode::STEP_AS_WRITTEN,
            Self::Step { .. } => FailureCode::STEP,
            Self::TooLong { .. } => FailureCode::TOO_LONG,
            Self::Probe { .. } => FailureCode::PROBE,
            Self::NotReproducible(_) => FailureCode::NOT_REPRODUCIBLE,
            Self::SecondBuild(_) => FailureCode::SECOND_BUILD,
            Self::Source(error) => error.code(),
            Self::Store(error) => error.code(),
            Self::Sandbox(error) => error.code(),
        }
    }

    /// The exit code that stands for it: 1 a check found something, 3 this machine lacks something, 4 a source could
    /// not be reached or did not match, 5 a step failed.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::NoProject(_)
            | Self::NoFolder { .. }
            | Self::Outside { .. }
            | Self::File { .. }
            | Self::UnknownName { .. }
            | Self::Depot(_)
            | Self::Spec(_) => 2,
            Self::Config { .. } => 2,
            Self::Suite { .. } | Self::PackageGone { .. } | Self::Image { .. } => 4,
            Self::Configure { .. } => 5,
            Self::Mistakes(findings) if findings.only_unreachable() => 4,
            Self::Mistakes(_) | Self::NoLock | Self::BadLock(_) | Self::Misfits(_) | Self::NotReproducible(_) => 1,
            Self::Account(_) | Self::PlaceTaken { .. } | Self::FilesChanged { .. } | Self::NotTakeable { .. } => 1,
            Self::Template { .. } | Self::NoAccount { .. } | Self::BadPlace { .. } => 1,
            Self::Architecture { .. } | Self::Store(_) => 3,
            Self::Source(SourceError::Store(_)) => 3,
            Self::ArchiveChanged { .. } | Self::AddressChanged { .. } | Self::NotAsWritten { .. } => 4,
            Self::Source(_) => 4,
            Self::Step { .. } | Self::TooLong { .. } | Self::Probe { .. } | Self::SecondBuild(_) => 5,
            Self::Sandbox(SandboxError::NotStarted { .. }) => 5,
            Self::Sandbox(_) => 3,
        }
    }

    /// True when the disk had no room left.
    pub fn is_full(&self) -> bool {
        matches!(self, Self::Store(error) | Self::Source(SourceError::Store(error)) if error.is_full())
    }
}

fn outside_words(project: &std::path::Path, uses: &[OutsideUse]) -> String {
    let one = |one: &OutsideUse| {
        let place = one.place();
        match &one.never {
            Some(why) => {
                format!("{} is {place}, which no spec gets: {why}; name a folder of the project's own", one.what)
            }
            None => format!(
                "{} lies outside the project, in {place}; if {} may have it, write --allow-outside {place} once",
                one.what,
                project.display()
            ),
        }
    };
    uses.iter().map(one).collect::<Vec<_>>().join("\n")
}

/// Adds what was being done, and to which file, to the error of a system call.
pub fn file_error(doing: &'static str, path: impl Into<PathBuf>) -> impl FnOnce(std::io::Error) -> EngineError {
    let path = path.into();
    move |source| EngineError::File { doing, path, source }
}

/// The error of a system call without its number.
pub(crate) fn plain(error: &std::io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or(&text).to_lowercase()
}
