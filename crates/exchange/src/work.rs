//! Work in progress: the history of a project, and what is in its work tree and not in the history.
//!
//! Which files changed is found by their digests (`git hash-object --no-filters`), so that no filter of anybody's
//! configuration is run. What is staged and what is not is one.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::fs;
use std::io::Read as _;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::path::{Path, PathBuf};

use serde::Serialize;

use cavrith_core::oci::parcel::Work;
use cavrith_core::secrets;
use cavrith_store::reading;

use crate::error::writing;
use crate::{ExchangeError, git};

/// What is to be taken along.
#[derive(Debug)]
pub struct InProgress {
    /// What has to be known of it.
    pub work: Work,
    /// The top of the work tree.
    pub top: PathBuf,
    /// Files and links that are not in the history as they are, relative to the top.
    pub files: Vec<PathBuf>,
    /// The history as a bundle, in this file; nothing before the first commit.
    pub history: Option<PathBuf>,
    /// What stays here, and why.
    pub left_out: Vec<LeftOut>,
}

/// Something that is not taken along.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct LeftOut {
    /// The file, relative to the top of the work tree.
    pub path: String,
    /// Why, in words.
    pub why: String,
}

/// Looks at a project's work tree. `included` are files to take along though they look like secrets; the bundle of the
/// history goes to `bundle`.
///
/// # Errors
/// When the project is not under version control, git fails, or something in the history looks like a secret.
pub fn look(dir: &Path, included: &[PathBuf], bundle: &Path) -> Result<InProgress, ExchangeError> {
    let top = git::text(dir, ["rev-parse", "--show-toplevel"]).map_err(|_| {
        ExchangeError::Work(format!("{} is not under version control; leave --work out", dir.display()))
    })?;
    let top = fs::canonicalize(&top).map_err(writing(&top))?;
    let within = dir.strip_prefix(&top).unwrap_or(Path::new("")).to_string_lossy().into_owned();
    let commit = git::text(dir, ["rev-parse", "--verify", "--quiet", "HEAD^{commit}"]).ok();
    let branch = git::text(dir, ["symbolic-ref", "--short", "--quiet", "HEAD"]).ok();
    let in_history = if commit.is_some() { tracked(&top)? } else { BTreeMap::new() };
    let untracked = names(&git::output(&top, ["ls-files", "-z", "--others", "--exclude-standard"], b"")?);
    let (changed, deleted) = compared(&top, &in_history)?;
    // What everybody has who has the history cannot be left out of it.
    without_doubt(&top, in_history.keys(), included)?;
    let (own, left_out) = sorted_out(&top, untracked, included);
    let mut files = changed;
    files.extend(own);
    for path in included {
        // One that git ignores is not listed above.
        let inner = if path.is_absolute() { path.strip_prefix(&top).unwrap_or(path) } else { path };
        if !files.iter().any(|known| known == inner) && !in_history.contains_key(inner) && top.join(inner).is_file() {
            files.push(inner.to_owned());
        }
    }
    files.sort();
    let history = match &commit {
        Some(_) => {
            let mut arguments: Vec<OsString> = ["bundle", "create", "--quiet"].map(OsString::from).to_vec();
            arguments.extend([bundle.as_os_str().to_owned(), "HEAD".into()]);
            arguments.extend(branch.iter().map(|branch| format!("refs/heads/{branch}").into()));
            git::output(&top, arguments, b"")?;
            Some(bundle.to_owned())
        }
        None => None,
    };
    let deleted = deleted.iter().map(|path| path.to_string_lossy().into_owned()).collect();
    Ok(InProgress { work: Work { commit, branch, within, deleted }, top, files, history, left_out })
}

/// Which of some files may go along, and which stay here: those that look like secrets, unless they are `included`, and
/// what is neither a file nor a link (folders of other projects, sockets), which is nobody's work.
pub fn sorted_out(top: &Path, paths: Vec<PathBuf>, included: &[PathBuf]) -> (Vec<PathBuf>, Vec<LeftOut>) {
    let (mut files, mut left_out) = (Vec::new(), Vec::new());
    for path in paths {
        let is_file = top.join(&path).symlink_metadata().is_ok_and(|meta| meta.is_file() || meta.is_symlink());
        let why = match doubt(top, &path).filter(|_| !is_included(top, &path, included)) {
            None if is_file => {
                files.push(path);
                continue;
            }
            None => "it is neither a file nor a link".to_owned(),
            Some(why) => why,
        };
        left_out.push(LeftOut { path: path.display().to_string(), why });
    }
    (files, left_out)
}

/// Sees to it that none of some files looks like a secret, but for those that are `included`.
///
/// # Errors
/// [`ExchangeError::InDoubt`].
pub fn without_doubt<'a>(
    top: &Path,
    files: impl IntoIterator<Item = &'a PathBuf>,
    included: &[PathBuf],
) -> Result<(), ExchangeError> {
    let files = files.into_iter().filter(|path| !is_included(top, path, included));
    let in_doubt: Vec<_> =
        files.filter_map(|path| Some(format!("{}: {}", path.display(), doubt(top, path)?))).collect();
    if in_doubt.is_empty() { Ok(()) } else { Err(ExchangeError::InDoubt(in_doubt)) }
}

fn is_included(top: &Path, path: &Path, included: &[PathBuf]) -> bool {
    included.iter().any(|one| top.join(path) == *one || path == one)
}

fn names(output: &[u8]) -> Vec<PathBuf> {
    let names = output.split(|byte| *byte == 0).filter(|name| !name.is_empty());
    names.map(|name| PathBuf::from(OsString::from_vec(name.to_vec()))).collect()
}

/// Files of the last commit: the object of each, and whether it is a link.
fn tracked(top: &Path) -> Result<BTreeMap<PathBuf, (String, bool)>, ExchangeError> {
    let listed = git::output(top, ["ls-tree", "-r", "-z", "--full-tree", "HEAD"], b"")?;
    let mut tracked = BTreeMap::new();
    for entry in listed.split(|byte| *byte == 0) {
        let Some(tab) = entry.iter().position(|byte| *byte == b'\t') else { continue };
        let head = String::from_utf8_lossy(&entry[..tab]).into_owned();
        let mut words = head.split(' ');
        let (mode, kind, object) = (words.next(), words.next(), words.next());
        if let (Some(mode), Some("blob"), Some(object)) = (mode, kind, object) {
            let path = PathBuf::from(OsString::from_vec(entry[tab + 1..].to_vec()));
            tracked.insert(path, (format!("{mode} {object}"), mode == "120000"));
        }
    }
    Ok(tracked)
}

/// Which tracked files are not as they were committed, and which are gone.
fn compared(
    top: &Path,
    tracked: &BTreeMap<PathBuf, (String, bool)>,
) -> Result<(Vec<PathBuf>, Vec<PathBuf>), ExchangeError> {
    use std::os::unix::fs::PermissionsExt as _;
    let (mut changed, mut deleted, mut asked, mut input) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for (path, (_, was_link)) in tracked {
        match top.join(path).symlink_metadata() {
            Err(_) => deleted.push(path.clone()),
            Ok(meta) if meta.is_file() && !was_link && !path.as_os_str().as_bytes().contains(&b'\n') => {
                let mode = if meta.permissions().mode() & 0o100 != 0 { "100755" } else { "100644" };
                asked.push((path, mode));
                input.extend([path.as_os_str().as_bytes(), b"\n"].concat());
            }
            // Links are small; whether one changed is not worth a question.
            Ok(meta) if meta.is_file() || meta.is_symlink() => changed.push(path.clone()),
            Ok(_) => deleted.push(path.clone()),
        }
    }
    if !asked.is_empty() {
        let hashed = git::output(top, ["hash-object", "--no-filters", "--stdin-paths"], &input)?;
        let hashed = String::from_utf8_lossy(&hashed).into_owned();
        let lines: Vec<_> = hashed.lines().collect();
        if lines.len() != asked.len() {
            return Err(ExchangeError::Git("git answers for other files than it was asked about".to_owned()));
        }
        for ((path, mode), object) in asked.into_iter().zip(lines) {
            let same = tracked.get(path).is_some_and(|(was, _)| *was == format!("{mode} {object}"));
            if !same {
                changed.push(path.clone());
            }
        }
    }
    Ok((changed, deleted))
}

/// Why a file may be nobody else's, in words.
fn doubt(top: &Path, path: &Path) -> Option<String> {
    if let Some(why) = secrets::by_name(&path.to_string_lossy()) {
        return Some(why.to_owned());
    }
    let at = top.join(path);
    // A link is taken as it is, whatever it leads to.
    if !at.symlink_metadata().is_ok_and(|meta| meta.is_file()) {
        return None;
    }
    let mut start = Vec::new();
    let file = reading::open(&at).ok()?;
    std::io::Read::take(file, secrets::LOOKED_AT as u64).read_to_end(&mut start).ok()?;
    let (line, why) = secrets::in_text(&start)?;
    Some(format!("{why} (line {line})"))
}
