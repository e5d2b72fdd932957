//! Folders of other revisions of a project, beside its own one: clones whose place has the same way to everything else
//! that the spec names outside, such as a depot. The project's work tree, index and branches stay as they are.
//!
//! Each is a project of its own for all other commands, with a workspace of its own.

use std::fs;
use std::path::{Path, PathBuf};

use cavrith_core::spec::FILE_NAME;
use cavrith_engine::error::file_error;
use cavrith_engine::home::Home;
use cavrith_engine::outside::{self, Bounds};
use cavrith_engine::team;
use cavrith_exchange::{ExchangeError, joining, revisions};
use cavrith_keeper::client::Client;
use cavrith_keeper::place::Place;
use cavrith_sandbox::ids;

use crate::WorkspaceError;

/// Digits of a commit that a folder is called by.
const DIGITS: usize = 8;

/// The folder of a commit.
///
/// # Errors
/// When git fails.
pub fn of_commit(project: &Path, commit: &str) -> Result<PathBuf, WorkspaceError> {
    named(project, |name| format!("{name}-{}", short(commit)))
}

/// How the folders of a search begin; each goes on with a commit.
///
/// # Errors
/// When git fails.
pub fn of_search(project: &Path) -> Result<PathBuf, WorkspaceError> {
    named(project, |name| format!(".{name}.search-{}", std::process::id()))
}

/// The folder of a commit in a search.
pub fn in_search(search: &Path, commit: &str) -> PathBuf {
    let name = search.file_name().unwrap_or_default().to_string_lossy();
    search.with_file_name(format!("{name}-{}", short(commit)))
}

fn named(project: &Path, name: impl Fn(&str) -> String) -> Result<PathBuf, WorkspaceError> {
    let top = revisions::top(project)?;
    let own = top.file_name().unwrap_or_default().to_string_lossy().into_owned();
    Ok(top.with_file_name(name(&own)))
}

/// The digits of a commit that people read.
pub fn short(commit: &str) -> &str {
    &commit[..commit.len().min(DIGITS)]
}

/// Whether a folder is a clone of the project that was laid out here.
pub fn is_ours(project: &Path, folder: &Path) -> bool {
    let top = revisions::top(project).ok().map(|top| top.display().to_string());
    top.is_some() && joining::origin(folder) == top
}

/// Lays out a commit, unless it was before, and gives the project's folder in it.
///
/// # Errors
/// When git fails, the disk refuses, something else has the place, or the commit has no spec.
pub fn lay_out(project: &Path, commit: &str, to: &Path) -> Result<PathBuf, WorkspaceError> {
    let within = revisions::prefix(project)?;
    let inner = to.join(within.trim_end_matches('/'));
    let inner = if within.is_empty() { to.to_owned() } else { inner };
    if to.symlink_metadata().is_err() {
        let name = to.file_name().unwrap_or_default().to_string_lossy();
        let aside = to.with_file_name(format!(".{name}.{}.new", std::process::id()));
        let laid = revisions::lay_out(project, commit, to, &aside);
        if laid.is_err() {
            let _ = fs::remove_dir_all(&aside);
        }
        laid?;
    } else if !is_ours(project, to) || revisions::state(to).is_none_or(|(at, _)| at != commit) {
        return Err(ExchangeError::Elsewhere { dir: to.to_owned(), from: project.display().to_string() }.into());
    }
    if !inner.join(FILE_NAME).is_file() {
        return Err(WorkspaceError::NoSpecThere { commit: short(commit).to_owned() });
    }
    // It is believed as far as the project itself is.
    team::check_revision(project, &inner)?;
    Ok(inner)
}

/// What the member let the project use outside: the same at every revision.
///
/// # Errors
/// When the member's word cannot be read.
pub fn allowed(project: &Path) -> Result<Vec<PathBuf>, WorkspaceError> {
    Ok(Bounds::of(project)?.allowed().to_vec())
}

/// The workspaces of projects in a folder.
pub fn workspaces(home: &Home, folder: &Path) -> Vec<Place> {
    Place::all(home).into_iter().filter(|place| place.project.starts_with(folder)).collect()
}

/// Stops and removes the workspaces of a search, which nobody worked in by hand, with what they kept, and its folders.
/// For a process that does nothing else afterwards. Whether all is gone.
pub fn discard(search: &Path) -> bool {
    let Some(home) = Home::find() else { return false };
    // What was made inside may have any of the image's owners.
    let _ = ids::enter();
    let begin = format!("{}-", search.file_name().unwrap_or_default().to_string_lossy());
    let beside = search.parent().and_then(|above| fs::read_dir(above).ok()).into_iter().flatten().flatten();
    let folders = beside.filter(|entry| entry.file_name().to_string_lossy().starts_with(&begin));
    let mut gone = true;
    for folder in folders.map(|entry| entry.path()) {
        gone &= workspaces(&home, &folder).iter().all(discard_workspace);
        forget(&folder);
        gone &= cavrith_store::removing::remove(&folder).is_ok();
    }
    gone
}

fn discard_workspace(place: &Place) -> bool {
    if let Some(client) = Client::new(place) {
        let _ = client.stop(place);
    }
    let Ok(held) = place.hold() else { return false };
    let gone = [&place.dir, &place.kept].into_iter().all(|dir| cavrith_store::removing::remove(dir).is_ok());
    drop(held);
    gone
}

/// Forgets what was remembered of the projects in a folder that goes.
fn forget(folder: &Path) {
    for list in [outside::forget_in, team::forget_in] {
        let _ = list(folder);
    }
}

/// Removes a folder that was laid out, and what was remembered of it.
///
/// # Errors
/// When the disk refuses.
pub fn remove(folder: &Path) -> Result<(), WorkspaceError> {
    fs::remove_dir_all(folder).map_err(file_error("remove", folder))?;
    forget(folder);
    Ok(())
}
