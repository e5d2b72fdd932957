//! Bringing a project here from where its team keeps it.
//!
//! A source is a folder, or an address that git knows (gitrevisions(7) for what follows a `#`). It is cloned by the
//! real git, aside, and gets its name when it is whole. Nothing of a clone is run: git is told to use no hooks, no
//! submodules, and no transport that runs programs, and it takes no configuration from what it clones. In a folder that
//! was there before, git is not started at all.

use std::ffi::OsStr;
use std::fmt;
use std::fs;
use std::path::{Path, PathBuf};

use cavrith_core::oci::Reference;
use cavrith_core::path::RootPath;
use cavrith_core::spec::FILE_NAME;
use cavrith_store::reading;

use crate::error::writing;
use crate::{ExchangeError, git};

/// Where a project is joined from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Source {
    /// A folder or an address, as git takes it.
    pub address: String,
    /// The revision, when it is not the newest one.
    pub revision: Option<String>,
}

impl Source {
    /// Reads a source as it is typed.
    ///
    /// # Errors
    /// When it is neither a folder that is there nor an address.
    pub fn parse(text: &str) -> Result<Self, ExchangeError> {
        // A folder may have any letters in its name.
        let (address, revision) = match text.rsplit_once('#') {
            Some((address, revision)) if !Path::new(text).is_dir() => (address, Some(revision)),
            _ => (text, None),
        };
        let unusable = |why: &str| ExchangeError::Source { text: text.to_owned(), why: why.to_owned() };
        if revision.is_some_and(|revision| revision.is_empty() || revision.starts_with('-')) {
            return Err(unusable("no revision follows its #"));
        }
        if address.starts_with('-') || address.is_empty() {
            return Err(unusable("it is neither a folder nor an address of git"));
        }
        // ssh's short form has a host before its first colon; a path may have colons too, but not before a slash.
        let short = address.split_once(':').is_some_and(|(host, _)| !host.contains('/') && !host.is_empty());
        let is_address = address.contains("://") || short;
        if !is_address && !Path::new(address).is_dir() {
            return Err(unusable("there is no such folder, and it is not an address of git"));
        }
        let address = match is_address {
            true => address.to_owned(),
            // git runs in another folder.
            false => fs::canonicalize(address).map_err(writing(address))?.display().to_string(),
        };
        Ok(Self { address, revision: revision.map(str::to_owned) })
    }

    /// The folder's name when none is typed: the source's, and the revision's where it is not the newest.
    pub fn folder(&self) -> PathBuf {
        let trimmed = self.address.trim_end_matches('/');
        let last = trimmed.rsplit(['/', ':']).next().unwrap_or(trimmed);
        let last = last.strip_suffix(".git").unwrap_or(last);
        let plain = |text: &str| -> String {
            text.chars()
                .map(|letter| if letter.is_alphanumeric() || "._-".contains(letter) { letter } else { '-' })
                .collect()
        };
        let name = match &self.revision {
            Some(revision) => format!("{}-{}", plain(last), plain(revision)),
            None => plain(last),
        };
        let name = name.trim_start_matches(['.', '-']);
        PathBuf::from(if name.is_empty() { "project" } else { name })
    }
}

impl fmt::Display for Source {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.address)?;
        self.revision.iter().try_for_each(|revision| write!(f, "#{revision}"))
    }
}

/// The image in a registry that a text names, where nothing else could be meant by it: no file or folder that is there,
/// and no address of git, which has somebody's name before its host or a scheme.
pub fn image(text: &str) -> Option<Reference> {
    let is_git = text.contains("://") || text.split('/').next().is_some_and(|host| host.contains('@'));
    let reference = Reference::parse(text).ok()?;
    let is_whole = reference.tag.is_some() || reference.digest.is_some();
    (is_whole && !is_git && !Path::new(text).exists()).then_some(reference)
}

/// What came of bringing a project.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Brought {
    /// It was cloned.
    Cloned,
    /// It was there from an earlier try, or always.
    There,
}

/// Brings a project into a folder that is not there yet, by way of `aside`, a folder that is not there either and
/// lies on the same disk. One that is there, and came from the same source, is left as it is.
///
/// # Errors
/// When the folder has something else, git is not installed or fails, or the source has no spec.
pub fn bring(source: &Source, dir: &Path, aside: &Path) -> Result<Brought, ExchangeError> {
    if dir.symlink_metadata().is_ok() {
        return match dir.join(FILE_NAME).is_file() && origin(dir).as_deref() == Some(source.address.as_str()) {
            true => Ok(Brought::There),
            false => Err(ExchangeError::Elsewhere { dir: dir.to_owned(), from: source.to_string() }),
        };
    }
    clone(&source.address, aside)?;
    let commit = commit_of(source, aside)?;
    match &source.revision {
        Some(_) => git::text(aside, ["checkout", "--quiet", "--detach", commit.as_str()])?,
        None => git::text(aside, ["checkout", "--quiet"])?,
    };
    if !aside.join(FILE_NAME).is_file() {
        let why = format!("it has no {FILE_NAME}; cavrith init in a clone of it writes a first one");
        return Err(ExchangeError::Source { text: source.to_string(), why });
    }
    fs::rename(aside, dir).map_err(writing(dir))?;
    Ok(Brought::Cloned)
}

/// The commit of a clone that its source names.
///
/// # Errors
/// When there is none.
pub(crate) fn commit_of(source: &Source, clone: &Path) -> Result<String, ExchangeError> {
    let revision = match &source.revision {
        // A branch of the source is known by the remote's name only.
        Some(revision) => {
            let remote = format!("refs/remotes/origin/{revision}");
            let known = git::text(clone, ["rev-parse", "--verify", "--quiet", remote.as_str()]).is_ok();
            if known { remote } else { revision.clone() }
        }
        None => "HEAD".to_owned(),
    };
    let commit = format!("{revision}^{{commit}}");
    let known = git::text(clone, ["rev-parse", "--verify", "--quiet", commit.as_str()]);
    known.map_err(|_| ExchangeError::Source {
        text: source.to_string(),
        why: match &source.revision {
            Some(revision) => format!("it has no revision {revision}"),
            None => "it has no commit yet".to_owned(),
        },
    })
}

/// Clones without checking anything out.
pub(crate) fn clone(address: &str, to: &Path) -> Result<(), ExchangeError> {
    let arguments = ["clone", "--quiet", "--no-checkout", "--template=", "--", address].map(OsStr::new);
    git::text(to.parent().unwrap_or(to), arguments.into_iter().chain([to.as_os_str()])).map(drop)
}

/// The address that a clone came from, by its configuration (git-config(1)); read by our own code, since git would do
/// what a stranger's configuration says.
pub fn origin(dir: &Path) -> Option<String> {
    let text = reading::text(&dir.join(".git/config")).ok()?;
    let mut in_remote = false;
    text.lines().map(str::trim).find_map(|line| {
        if line.starts_with('[') {
            in_remote = line == "[remote \"origin\"]";
        }
        let (key, value) = line.split_once('=').filter(|_| in_remote)?;
        (key.trim() == "url").then(|| value.trim().to_owned())
    })
}

/// The revision that a folder is at, as a person compares it (gitrepository-layout(5)); read by our own code, too.
pub fn revision(dir: &Path) -> Option<String> {
    let git = dir.join(".git");
    let read = |name: &str| reading::text(&git.join(name)).ok();
    let head = read("HEAD")?;
    let commit = match head.trim().strip_prefix("ref: ").and_then(|name| RootPath::from_plain(name.as_bytes()).ok()) {
        Some(name) => read(name.as_relative().to_str()?).or_else(|| {
            let packed = read("packed-refs")?;
            let line = packed.lines().find(|line| line.split(' ').nth(1) == name.as_relative().to_str())?;
            line.split(' ').next().map(str::to_owned)
        })?,
        None => head,
    };
    let commit = commit.trim();
    let is_name = commit.len() >= 40 && commit.bytes().all(|byte| byte.is_ascii_hexdigit());
    is_name.then(|| commit[..12].to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_source_is_a_folder_or_an_address_perhaps_with_a_revision() {
        let read =
            |text: &str| Source::parse(text).map(|source| (source.folder().display().to_string(), source.revision));
        let revision = |text: &str| Some(text.to_owned());
        assert_eq!(read("https://git.example/brindle/timetable.git").unwrap(), ("timetable".to_owned(), None));
        assert_eq!(
            read("crew@git.example:brindle/timetable.git#v1.2/x").unwrap(),
            ("timetable-v1.2-x".to_owned(), revision("v1.2/x"))
        );
        assert_eq!(read("ssh://git.example/x/.git#3f2a").unwrap().1, revision("3f2a"));
        let dir = tempfile::tempdir().unwrap();
        let odd = dir.path().join("odd#name");
        fs::create_dir(&odd).unwrap();
        assert_eq!(read(odd.to_str().unwrap()).unwrap(), ("odd-name".to_owned(), None));
        for wrong in
            ["", "-u", "--upload-pack=x", "/no/such/place", "timetable", "https://git.example/x#", "https://x/y#-z"]
        {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
