//! What version control knows of a project.

use std::path::Path;

use crate::git;

/// The commit that a project's folder is at, and whether something in it was changed since; nothing outside of version
/// control.
pub fn state(dir: &Path) -> Option<(String, bool)> {
    let commit = git::text(dir, ["rev-parse", "--verify", "-q", "HEAD"]).ok()?;
    let changed = git::text(dir, ["status", "--porcelain", "--untracked-files=no", "--", "."]).ok()?;
    (!commit.is_empty()).then_some((commit, !changed.is_empty()))
}

/// When the last commit was made that changed a file, in milliseconds since 1970; nothing when that is not known.
pub fn last_change(dir: &Path, file: &str) -> Option<u64> {
    let seconds = git::text(dir, ["log", "-1", "--format=%ct", "--", file]).ok()?;
    seconds.parse::<u64>().ok().map(|seconds| seconds * 1000)
}
