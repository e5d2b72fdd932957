//! Commands of teams' editor profiles that a member lets run on their machine.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::error::EngineError;
use crate::remembered::List;

const EDITORS: List = List {
    name: "editors.toml",
    head: "# Commands of teams' editor profiles that may run on this machine. Written by cavrith when its member allowed it; a part that is taken out is asked for again.",
};

#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Allowed {
    editors: Vec<AllowedEditor>,
}

#[derive(Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct AllowedEditor {
    project: PathBuf,
    command: Vec<String>,
}

/// Whether a project's command may run here: exactly these words, for exactly this project.
///
/// # Errors
/// When the list cannot be read.
pub fn may_run(project: &Path, command: &[String]) -> Result<bool, EngineError> {
    let allowed: Allowed = EDITORS.read()?;
    Ok(allowed.editors.iter().any(|one| one.project == project && one.command == command))
}

/// Lets it run from now on, in the place of an earlier one of the project's.
///
/// # Errors
/// When the list cannot be changed.
pub fn allow(project: &Path, command: &[String]) -> Result<(), EngineError> {
    EDITORS.change(|allowed: &mut Allowed| {
        allowed.editors.retain(|one| one.project != project);
        allowed.editors.push(AllowedEditor { project: project.to_owned(), command: command.to_vec() });
        Ok(true)
    })?;
    Ok(())
}
