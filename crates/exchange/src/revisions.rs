//! What version control knows of a project.

use std::collections::{BTreeSet, HashMap};
use std::path::{Path, PathBuf};

use cavrith_core::path::shown;

use crate::{ExchangeError, git, joining};

/// Blobs that are asked for at once.
const AT_ONCE: usize = 256;

/// The commit that a project's folder is at, and whether something in it was changed since; nothing outside of version
/// control.
pub fn state(dir: &Path) -> Option<(String, bool)> {
    let commit = git::text(dir, ["rev-parse", "--verify", "-q", "HEAD"]).ok()?;
    let changed = git::text(dir, ["status", "--porcelain", "--untracked-files=no", "--", "."]).ok()?;
    (!commit.is_empty()).then_some((commit, !changed.is_empty()))
}

/// Whether a folder has files that were never committed, ignored ones among them.
pub fn has_own_files(dir: &Path) -> bool {
    git::text(dir, ["ls-files", "--others"]).is_ok_and(|files| !files.is_empty())
}

/// When the last commit was made that changed a file, in milliseconds since 1970; nothing when that is not known.
pub fn last_change(dir: &Path, file: &str) -> Option<u64> {
    let seconds = git::text(dir, ["log", "-1", "--format=%ct", "--", file]).ok()?;
    seconds.parse::<u64>().ok().map(|seconds| seconds * 1000)
}

/// One revision, and what it did to files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Revision {
    /// Its commit.
    pub commit: String,
    /// When it was committed, in seconds since 1970.
    pub time: i64,
    /// Who wrote it.
    pub author: String,
    /// The first line of what they said of it.
    pub subject: String,
    /// The files that it changed, relative to the project, with their blobs; nothing where it removed one.
    pub files: Vec<(String, Option<String>)>,
}

/// The commit that a revision names (gitrevisions(7)).
///
/// # Errors
/// When the folder is not under version control, or has no such revision.
pub fn resolve(dir: &Path, revision: &str) -> Result<String, ExchangeError> {
    let commit = format!("{revision}^{{commit}}");
    let found = git::text(dir, ["rev-parse", "--verify", "--quiet", "--end-of-options", commit.as_str()]);
    found.map_err(|_| match git::text(dir, ["rev-parse", "--git-dir"]) {
        Ok(_) => ExchangeError::NoRevision(revision.to_owned()),
        Err(_) => ExchangeError::NotVersioned(dir.to_owned()),
    })
}

/// The top folder of a project's repository.
///
/// # Errors
/// When the project is not under version control.
pub fn top(dir: &Path) -> Result<PathBuf, ExchangeError> {
    let top = git::text(dir, ["rev-parse", "--show-toplevel"]);
    top.map(PathBuf::from).map_err(|_| ExchangeError::NotVersioned(dir.to_owned()))
}

/// Whether a commit is among those before another one.
pub fn leads_to(dir: &Path, older: &str, newer: &str) -> bool {
    git::text(dir, ["merge-base", "--is-ancestor", older, newer]).is_ok()
}

/// Whether the clone knows the newest revisions only.
pub fn is_shallow(dir: &Path) -> bool {
    git::text(dir, ["rev-parse", "--is-shallow-repository"]).is_ok_and(|text| text == "true")
}

/// The revisions up to `tip` that changed one of these files or folders, the oldest first: what was merged counts as
/// one, as who follows the branch saw it. `after`: only those after it.
///
/// # Errors
/// When git fails.
pub fn of_files(dir: &Path, tip: &str, after: Option<&str>, files: &[String]) -> Result<Vec<Revision>, ExchangeError> {
    let range = after.map_or_else(|| tip.to_owned(), |after| format!("{after}..{tip}"));
    let mut arguments = vec!["--literal-pathspecs", "log", "--first-parent", "-m", "--raw", "--no-abbrev"];
    arguments.extend(["--no-renames", "--relative", "-z", "--reverse", "--format=%x01%H", "--end-of-options"]);
    arguments.extend([range.as_str(), "--"]);
    arguments.extend(files.iter().map(String::as_str));
    let said = git::output(dir, arguments, b"")?;
    let mut found: Vec<Revision> = Vec::new();
    // Each part ends with a byte 0, which no path holds: a commit; or an entry, the first one of a commit after the end
    // of a line, and its path, whatever letters that has.
    let mut words = said.split(|byte| *byte == 0);
    while let Some(word) = words.next() {
        let text = String::from_utf8_lossy(word.strip_prefix(b"\n").unwrap_or(word)).into_owned();
        if let Some(commit) = text.strip_prefix('\u{1}') {
            found.push(Revision {
                commit: commit.to_owned(),
                time: 0,
                author: String::new(),
                subject: String::new(),
                files: Vec::new(),
            });
        } else if let (Some(entry), Some(path)) = (text.strip_prefix(':'), words.next()) {
            // `old-mode new-mode old-blob new-blob letter`; git-diff(1), "Raw output format".
            let blob = entry.split(' ').nth(3).filter(|blob| blob.bytes().any(|byte| byte != b'0'));
            let path = String::from_utf8_lossy(path).into_owned();
            if let Some(last) = found.last_mut() {
                last.files.push((path, blob.map(str::to_owned)));
            }
        }
    }
    let commits: Vec<_> = found.iter().map(|one| one.commit.clone()).collect();
    let texts = objects(dir, &commits)?;
    for one in &mut found {
        let text = String::from_utf8_lossy(texts.get(&one.commit).map_or(&[][..], Vec::as_slice)).into_owned();
        let (head, message) = text.split_once("\n\n").unwrap_or((&text, ""));
        let field = |name: &str| head.lines().find_map(|line| line.strip_prefix(name));
        let author = field("author ").unwrap_or_default().split(" <").next().unwrap_or_default();
        one.author = shown(author.as_bytes());
        one.subject = shown(message.lines().next().unwrap_or_default().as_bytes());
        let committed = field("committer ").and_then(|line| line.rsplit(' ').nth(1)?.parse().ok());
        one.time = committed.unwrap_or_default();
    }
    Ok(found)
}

/// The contents of objects, by their names; what is not there is left out.
///
/// # Errors
/// When git fails.
pub fn objects(dir: &Path, names: &[String]) -> Result<HashMap<String, Vec<u8>>, ExchangeError> {
    // A name with the end of a line in it would be two, and is that of nothing.
    let names = names.iter().filter(|name| !name.contains('\n'));
    let unique: Vec<_> = BTreeSet::from_iter(names).into_iter().collect();
    let mut found = HashMap::new();
    for some in unique.chunks(AT_ONCE) {
        let asked: String = some.iter().map(|name| format!("{name}\n")).collect();
        let said = git::output(dir, ["cat-file", "--batch"], asked.as_bytes())?;
        let mut rest = said.as_slice();
        for name in some {
            // `name type size`, the content, and the end of a line; or `name missing` (git-cat-file(1), "Batch
            // output").
            let Some(end) = rest.iter().position(|byte| *byte == b'\n') else { break };
            let head = String::from_utf8_lossy(&rest[..end]).into_owned();
            rest = &rest[end + 1..];
            let Some(size) = head.split(' ').nth(2).and_then(|size| size.parse::<usize>().ok()) else { continue };
            let Some(content) = rest.get(..size) else { break };
            found.insert((*name).clone(), content.to_vec());
            rest = rest.get(size + 1..).unwrap_or_default();
        }
    }
    Ok(found)
}

/// The project's folder in its repository, relative to the top: empty, or with a slash at its end.
///
/// # Errors
/// When git fails.
pub fn prefix(dir: &Path) -> Result<String, ExchangeError> {
    git::text(dir, ["rev-parse", "--show-prefix"])
}

/// Lays out a revision of a project's repository in a folder that is not there yet, by way of `aside`, which is not
/// there either: a clone of its own, so that the project's work tree, index and branches stay as they are.
///
/// # Errors
/// When git fails, or the disk refuses.
pub fn lay_out(dir: &Path, commit: &str, to: &Path, aside: &Path) -> Result<(), ExchangeError> {
    let top = top(dir)?.display().to_string();
    joining::clone(&top, aside)?;
    git::text(aside, ["checkout", "--quiet", "--detach", commit])?;
    std::fs::rename(aside, to).map_err(crate::error::writing(to))
}

/// Fetches a repository, and lays out one commit of it in a folder that is not there yet; a commit that is not in it
/// leaves nothing.
///
/// # Errors
/// When git fails, or the disk refuses.
pub fn fetch(address: &str, commit: &str, to: &Path) -> Result<(), ExchangeError> {
    let aside = to.with_extension(std::process::id().to_string());
    let fetched = joining::clone(address, &aside)
        .and_then(|()| git::text(&aside, ["checkout", "--quiet", "--detach", commit]).map(drop))
        .and_then(|()| std::fs::rename(&aside, to).map_err(crate::error::writing(to)));
    if fetched.is_err() {
        let _ = std::fs::remove_dir_all(&aside);
    }
    fetched
}

/// Puts these files and folders of another commit into a folder that was laid out, in the place of its own; those that
/// the other commit does not have are removed.
///
/// # Errors
/// When git fails, or the disk refuses.
pub fn exchange(dir: &Path, commit: &str, files: &[String]) -> Result<(), ExchangeError> {
    let mut arguments = vec!["--literal-pathspecs", "rm", "-r", "--quiet", "--force", "--ignore-unmatch", "--"];
    arguments.extend(files.iter().map(String::as_str));
    git::text(dir, arguments)?;
    for file in files {
        let named = format!("{commit}:./{file}");
        if git::text(dir, ["cat-file", "-e", named.as_str()]).is_ok() {
            git::text(dir, ["--literal-pathspecs", "checkout", "--quiet", commit, "--", file.as_str()])?;
        }
    }
    Ok(())
}
