//! Errors of making layers.

use std::path::PathBuf;

use cavrith_core::account::AccountError;
use cavrith_core::failure::FailureCode;
use cavrith_sandbox::job::Ending;

/// What can go wrong while layers are made.
#[derive(Debug, thiserror::Error)]
pub enum BuildError {
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
    /// A package that a trimmed base is to keep, and does not have.
    #[error("base.keep names {name}, which is not among the base's packages; wish for it in base.packages, too")]
    KeptPackage {
        /// The package.
        name: String,
    },
    /// The account cannot be made.
    #[error(transparent)]
    Account(#[from] AccountError),
    /// Something would lie where the base has something already.
    #[error("{what} would lie at {place}, where the base has {there}; let its depot give it another place")]
    PlaceTaken {
        /// What it is about, in words.
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
        /// What it is about, in words.
        what: String,
        /// How long it may take, in words.
        limit: String,
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
    /// A toolchain is not what its lock says.
    #[error("the toolchain {toolchain} answers {found:?} to {run:?}, and the lock expects {expected:?}; {remedy}")]
    Probe {
        /// The toolchain.
        toolchain: String,
        /// What was asked.
        run: String,
        /// What the lock expects.
        expected: String,
        /// What it answered.
        found: String,
        /// What to do about it.
        remedy: &'static str,
    },
}

impl BuildError {
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::FilesChanged { .. } => FailureCode::FILES_CHANGED,
            Self::NotTakeable { .. }
            | Self::Template { .. }
            | Self::NoAccount { .. }
            | Self::BadPlace { .. }
            | Self::Account(_)
            | Self::KeptPackage { .. }
            | Self::PlaceTaken { .. } => FailureCode::STEP_AS_WRITTEN,
            Self::Step { .. } => FailureCode::STEP,
            Self::TooLong { .. } => FailureCode::TOO_LONG,
            Self::Configure { .. } => FailureCode::CONFIGURE,
            Self::Probe { .. } => FailureCode::PROBE,
        }
    }

    /// The exit code that stands for it: 5 when something ran and failed, 1 when the project has to be corrected.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Step { .. } | Self::TooLong { .. } | Self::Configure { .. } | Self::Probe { .. } => 5,
            _ => 1,
        }
    }
}
