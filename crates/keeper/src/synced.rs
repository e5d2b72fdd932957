//! The synced folders of a workspace: where the copies lie, who watches over them, and when they are brought together.
//!
//! In namespaces a copy lies beside the kept folders, `.synced/FOLDER/files`, and is mounted like a live folder; in a
//! machine it lies on its disk. The base of each is outside, one for each kind of copy, so whoever changes from one to
//! the other and back goes on where they were.

use std::collections::hash_map::RandomState;
use std::fs;
use std::hash::BuildHasher as _;
use std::io;
use std::os::unix::fs::MetadataExt as _;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::thread;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use cavrith_core::arrangement::{Arrangement, FolderPart, Place as FilesPlace};
use cavrith_core::encode::{percent_decoded, percent_encoded};
use cavrith_core::path::{RootPath, shown};
use cavrith_core::synced::plan::{Conflict, Side};
use cavrith_core::synced::{Rules, What};
use cavrith_engine::error::file_error;
use cavrith_folders::base::Base;
use cavrith_folders::pair::Pair;
use cavrith_folders::watch::Watch;
use cavrith_store::private;

use crate::KeeperError;
use crate::folder_identity;
use crate::place::Place;

/// Beside the kept folders.
const DIRECTORY: &str = ".synced";
/// How long a command waits for what was changed right before it.
const MOMENT: Duration = Duration::from_secs(10);
/// How long the first copy may take.
const FIRST: Duration = Duration::from_secs(24 * 3600);
/// How long the last bringing together may take at the end of a workspace.
const LAST: Duration = Duration::from_secs(120);
/// Conflicts and troubles that are listed each.
const LISTED: usize = 50;

/// A synced folder while its workspace runs.
#[derive(Debug)]
pub(crate) struct Synced {
    inside: String,
    outside: PathBuf,
    pair: Pair,
}

/// How a synced folder stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SyncedStatus {
    /// Where it appears inside.
    pub inside: String,
    /// The folder outside.
    pub outside: String,
    /// How it stands: `in step`, `copying`, `conflicts`, `trouble`, `halted`, `gone`.
    pub state: String,
    /// Files, directories and links that both sides have alike.
    pub entries: usize,
    /// How many paths both sides changed, each in its own way.
    pub conflicts: usize,
    /// The first of them.
    pub listed: Vec<Contested>,
    /// What cannot be carried over, and why; the first of them.
    pub troubles: Vec<(String, String)>,
    /// Why nothing is carried over, when nothing is.
    pub why: Option<String>,
}

/// A path that both sides changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Contested {
    /// The path inside.
    pub path: String,
    /// What lies outside: `a file`, `a directory`, `a link`, `nothing`.
    pub outside: String,
    /// What lies inside.
    pub inside: String,
}

/// Which paths of a synced folder cross: not what stays on its side, and not the places of other folders in it.
pub(crate) fn rules(part: &FolderPart, all: &[FolderPart]) -> io::Result<Rules> {
    let FilesPlace::Synced(_, ignore) = &part.place else { return Ok(Rules::default()) };
    let within = all.iter().filter_map(|other| other.inside.strip_prefix(&part.inside)?.strip_prefix('/'));
    let except = part.except.iter().map(String::as_str).chain(within);
    let except = except.filter_map(|path| RootPath::from_archive(path.as_bytes()).ok()).collect();
    Rules::new(except, ignore).map_err(io::Error::other)
}

/// The name of a folder's copy.
pub(crate) fn name(inside: &str) -> String {
    percent_encoded(inside.trim_matches('/'), "")
}

/// A copy in a directory, made when it is not there; what tells it from all others.
pub(crate) fn copy_in(dir: &Path, owner: Option<(u32, u32)>) -> io::Result<(PathBuf, String)> {
    let (files, number) = (dir.join("files"), dir.join("number"));
    private::directory(dir).map_err(io::Error::other)?;
    if !files.is_dir() {
        // A copy that is made anew is another one.
        let random = RandomState::new().hash_one(std::process::id());
        cavrith_store::atomic::write(&number, format!("{random:016x}").as_bytes()).map_err(io::Error::other)?;
        fs::create_dir(&files)?;
        if let Some((user, group)) = owner {
            std::os::unix::fs::chown(&files, Some(user), Some(group))?;
        }
    }
    Ok((files, fs::read_to_string(number)?))
}

/// Where a folder's copy lies when it is in namespaces.
pub(crate) fn copy_of(kept: &Path, inside: &str, outside: &Path) -> io::Result<PathBuf> {
    let owner = fs::metadata(outside)?;
    private::directory(&kept.join(DIRECTORY)).map_err(io::Error::other)?;
    let dir = kept.join(DIRECTORY).join(name(inside));
    Ok(copy_in(&dir, Some((owner.uid(), owner.gid())))?.0)
}

/// Watches over a copy here, which has a number and a file for what was seen in it; the stream to whoever does.
pub(crate) fn watch(dir: PathBuf, own: (String, PathBuf), rules: Rules) -> io::Result<UnixStream> {
    let (ours, theirs) = UnixStream::pair()?;
    thread::Builder::new().name("copy".to_owned()).spawn(move || Watch::serve(&dir, own, rules, theirs))?;
    Ok(ours)
}

/// The synced folders of an arrangement.
pub(crate) fn parts(arrangement: &Arrangement) -> impl Iterator<Item = &FolderPart> {
    arrangement.folders.iter().filter(|part| matches!(part.place, FilesPlace::Synced(..)))
}

/// Watches over the copies of a workspace in namespaces.
pub(crate) fn watch_all(place: &Place, arrangement: &Arrangement) -> Result<Vec<UnixStream>, KeeperError> {
    let watched = parts(arrangement).map(|part| {
        let dir = place.kept.join(DIRECTORY).join(name(&part.inside));
        let (files, number) = copy_in(&dir, None)?;
        watch(files, (number, dir.join("seen")), rules(part, &arrangement.folders)?)
    });
    Ok(watched.collect::<io::Result<_>>().map_err(file_error("watch over", "the copy of a synced folder"))?)
}

/// Begins to bring the folders together with their copies, which somebody watches over at these streams.
pub(crate) fn begin(
    place: &Place,
    arrangement: &Arrangement,
    copies: Vec<UnixStream>,
) -> Result<Vec<Synced>, KeeperError> {
    let begun = parts(arrangement).zip(copies).map(|(part, copy)| {
        let outside = place.project.join(part.place.outside().unwrap_or_default()).canonicalize()?;
        // A filesystem that does not say when a folder was made says at least which one it is.
        let number = folder_identity::number(&outside)
            .map_or_else(|| fs::metadata(&outside).map(|meta| format!("{} {}", meta.dev(), meta.ino())), Ok)?;
        let dir = place.kept.join(DIRECTORY).join(name(&part.inside));
        private::directory(&dir).map_err(io::Error::other)?;
        let base = dir.join(if arrangement.machine.is_some() { "base-machine" } else { "base" });
        let near = watch(outside.clone(), (number, dir.join("seen-outside")), rules(part, &arrangement.folders)?)?;
        let pair = Pair::begin(near, copy, base)?;
        Ok(Synced { inside: part.inside.clone(), outside, pair })
    });
    Ok(begun.collect::<io::Result<_>>().map_err(file_error("bring together", "a synced folder"))?)
}

/// Removes the copies of a workspace that runs no more, where everything in them is outside, too.
///
/// # Errors
/// When one cannot be removed.
pub fn remove_copies(place: &Place) -> io::Result<()> {
    for entry in fs::read_dir(place.kept.join(DIRECTORY)).into_iter().flatten().flatten() {
        let dir = entry.path();
        if !dir.join("files").is_dir() {
            continue;
        }
        if Base::read(&dir.join("base")).is_some_and(|base| base.in_step) {
            // The base goes first: an interrupted removal is not taken for files that somebody removed.
            fs::remove_file(dir.join("base"))?;
            cavrith_store::removing::remove(&dir.join("files")).map_err(io::Error::other)?;
        }
    }
    Ok(())
}

/// Synced folders of a workspace that runs no more whose sides are not alike, by where they appear inside.
pub fn apart(place: &Place) -> Vec<String> {
    let dirs = fs::read_dir(place.kept.join(DIRECTORY)).into_iter().flatten().flatten();
    let is_apart = |dir: &Path| {
        let [here, in_machine] = ["base", "base-machine"].map(|base| Base::read(&dir.join(base)));
        // A copy without a base was being made when everything was killed.
        let here = dir.join("files").is_dir() && here.is_none_or(|base| !base.in_step);
        here || in_machine.is_some_and(|base| !base.in_step)
    };
    let apart = dirs.filter(|entry| is_apart(&entry.path()));
    let mut names: Vec<_> =
        apart.filter_map(|entry| percent_decoded(entry.file_name().to_str()?)).map(|name| format!("/{name}")).collect();
    names.sort();
    names
}

fn words(what: Option<&What>) -> String {
    what.map_or("nothing", What::word).to_owned()
}

impl Synced {
    /// Waits for the first copy.
    pub fn first(&self) -> Result<(), String> {
        self.pair.flush(FIRST).map_err(|why| format!("{} is not copied: {why}", self.inside))
    }

    /// Carries over what was changed up to now; what takes longer goes on.
    pub fn flush(&self) {
        let limit = if self.pair.status().begun { MOMENT } else { FIRST };
        let _ = self.pair.flush(limit);
    }

    /// Has one side count for a path inside; nothing when it does not lie in this folder.
    pub fn settle(&self, path: &str, side: Side) -> Option<Result<(), String>> {
        let rest = path.strip_prefix(self.inside.as_str())?;
        if !rest.is_empty() && !rest.starts_with('/') && self.inside != "/" {
            return None;
        }
        let path = RootPath::from_archive(rest.trim_start_matches('/').as_bytes());
        Some(path.map_err(|error| error.to_string()).and_then(|path| self.pair.settle(path, side, MOMENT)))
    }

    /// Brings both sides together a last time. What stays different is told.
    pub fn end(&self) -> Vec<String> {
        let inside = self.inside.trim_end_matches('/');
        let status = match self.pair.end(LAST) {
            Ok(status) => status,
            Err(why) => return vec![format!("{inside}: what was changed last inside may not be outside: {why}")],
        };
        let mut lines: Vec<_> =
            status.conflicts.keys().map(|path| format!("{inside}{path}: both sides changed it")).collect();
        lines.extend(status.troubles.iter().map(|(path, why)| format!("{inside}{path}: {why}")));
        lines.extend(status.halted.map(|why| format!("{inside}: {why}")));
        lines
    }

    pub fn status(&self) -> SyncedStatus {
        let status = self.pair.status();
        let path_of = |path: &RootPath| format!("{}{}", self.inside.trim_end_matches('/'), path);
        let contested = |(path, Conflict { outside, inside }): (&RootPath, &Conflict)| Contested {
            path: path_of(path),
            outside: words(outside.as_ref()),
            inside: words(inside.as_ref()),
        };
        let why = status.gone.clone().or_else(|| status.halted.clone());
        let state = match () {
            () if status.gone.is_some() => "gone",
            () if status.halted.is_some() => "halted",
            () if !status.begun || status.busy => "copying",
            () if !status.conflicts.is_empty() => "conflicts",
            () if !status.troubles.is_empty() => "trouble",
            () => "in step",
        };
        SyncedStatus {
            inside: self.inside.clone(),
            outside: shown(self.outside.as_os_str().as_encoded_bytes()),
            state: state.to_owned(),
            entries: status.entries,
            conflicts: status.conflicts.len(),
            listed: status.conflicts.iter().take(LISTED).map(contested).collect(),
            troubles: status.troubles.iter().take(LISTED).map(|(path, why)| (path_of(path), why.clone())).collect(),
            why,
        }
    }
}
