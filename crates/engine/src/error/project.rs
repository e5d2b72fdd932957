//! Errors of finding a project, and of what it may use.

use std::path::{Path, PathBuf};

use cavrith_core::failure::FailureCode;

use crate::findings::OutsideUse;

/// What can go wrong before anything is built: finding a project, and what it may use.
#[derive(Debug, thiserror::Error)]
pub enum ProjectError {
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
    /// The project has no such variant.
    #[error("there is no variant {name}; the spec has {known}")]
    NoVariant {
        /// As it was typed.
        name: String,
        /// Those that are there.
        known: String,
    },
    /// The project takes something from outside its own tree that its member has not allowed, or that nobody gets.
    #[error("{}", outside_words(project, uses))]
    Outside {
        /// The project's folder.
        project: PathBuf,
        /// What it takes.
        uses: Vec<OutsideUse>,
    },
    /// The member's configuration cannot be read.
    #[error("the configuration {} cannot be read: {why}", path.display())]
    Config {
        /// The file.
        path: PathBuf,
        /// The reason, in words.
        why: String,
    },
    /// A spec is there already.
    #[error("{} is there already; nothing was changed", path.display())]
    SpecExists {
        /// The spec.
        path: PathBuf,
    },
    /// A spec cannot be changed by a command.
    #[error("the spec cannot be changed: {why}; cavrith check tells more")]
    SpecUnchangeable {
        /// The reason, in words.
        why: String,
    },
}

impl ProjectError {
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::NoProject(_) => FailureCode::NO_PROJECT,
            Self::NoVariant { .. } => FailureCode::NO_VARIANT,
            Self::NoFolder { .. } => FailureCode::NO_FOLDER,
            Self::Outside { .. } => FailureCode::OUTSIDE,
            Self::Config { .. } => FailureCode::CONFIG,
            Self::SpecExists { .. } | Self::SpecUnchangeable { .. } => FailureCode::SPEC,
        }
    }
}

fn outside_words(project: &Path, uses: &[OutsideUse]) -> String {
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
