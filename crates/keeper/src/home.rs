//! The account's home, which is the member's own: it goes along when a workspace goes over to another image, and stays
//! when the workspace is dropped. What the image itself puts there (an editor's settings and extensions) stays the
//! image's: where the new one has something else than the one before, that counts, and what was changed stays behind.
//!
//! While a workspace has a scratch, its home is a part of that: the directory of the home in the upper directory, with
//! the marks of what is gone. A rename moves it to the next scratch, so nothing is ever copied, and what is interrupted
//! is either here or there.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use cavrith_core::account;
use cavrith_core::arrangement::Arrangement;
use cavrith_core::digest::ContentDigest;
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Entry, Kind, Tree};
use cavrith_engine::error::file_error;
use cavrith_sandbox::ground::{Dress, Ground, Kind as Found};
use cavrith_sandbox::{Identity, copy_overlay};
use cavrith_store::reading;
use serde::{Deserialize, Serialize};

use crate::KeeperError;
use crate::place::Place;

/// What it is called among the kept folders.
pub const NAME: &str = "home";
/// Among the kept folders: the home of a workspace that was dropped.
const KEPT: &str = ".home";
/// In a scratch: what the image has in the home.
const LISTED: &str = "home-of-image";
/// In a scratch: what was changed of an earlier image's home, and gave way to the image's.
pub const LEFT: &str = "left-behind";

/// What an image has in a home, by path from there, so that it is the same whatever the account is called.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct OfImage(BTreeMap<String, String>);

/// What an image has of an account's home, and how the directory above it is dressed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ImageHome {
    files: OfImage,
    mode: u32,
    owner: (u32, u32),
    time: u64,
}

impl ImageHome {
    /// That of an account in a whole image.
    pub fn of(tree: &Tree, account: &str) -> Self {
        let Ok(root) = RootPath::from_absolute(&account::home(account)) else { return Self::default() };
        let above = tree.get(&root.parent().unwrap_or_else(RootPath::root)).map(|entry| &entry.meta);
        let (mode, owner, time) =
            above.map_or((0o755, (0, 0), 0), |meta| (meta.mode.into(), (meta.uid, meta.gid), meta.time));
        Self { files: OfImage::of(tree, &root), mode, owner, time }
    }
}

impl OfImage {
    fn of(tree: &Tree, home: &RootPath) -> Self {
        let from_home = |path: &RootPath| {
            let path = path.as_relative().strip_prefix(home.as_relative()).ok()?;
            (!path.as_os_str().is_empty()).then(|| path.to_string_lossy().into_owned())
        };
        Self(tree.under(home).filter_map(|(path, entry)| Some((from_home(path)?, told(entry)))).collect())
    }

    /// As it was noted beside a scratch.
    fn noted(scratch: &Path) -> Self {
        let text = fs::read(scratch.join(LISTED)).unwrap_or_default();
        serde_json::from_slice(&text).unwrap_or_default()
    }
}

/// What tells an entry from another one at the same path.
fn told(entry: &Entry) -> String {
    let what = match &entry.kind {
        Kind::File { content, .. } => content.to_string(),
        Kind::Directory { .. } => "directory".to_owned(),
        other => format!("{other:?}"),
    };
    format!("{what} {:o} {}:{}", entry.meta.mode, entry.meta.uid, entry.meta.gid)
}

/// Where a home lies that is not over an image now.
pub fn kept(place: &Place) -> PathBuf {
    place.kept.join(KEPT)
}

/// The directory of a home, relative to the root.
fn inner(account: &str) -> PathBuf {
    PathBuf::from(account::home(account).trim_start_matches('/'))
}

/// The directory of a home that goes along, relative to the root; nothing when it does not.
pub fn going_along(arrangement: &Arrangement) -> Option<PathBuf> {
    (!arrangement.fresh_home).then(|| inner(&arrangement.setup.account))
}

/// Where what a member has in the home of an account lies; nothing when there is nothing.
pub fn found(place: &Place, account: &str) -> Option<PathBuf> {
    let kept = kept(place);
    if kept.is_dir() {
        return Some(kept);
    }
    holder(place, account, None).map(|(scratch, home)| scratch.join(top(&scratch)).join(home))
}

/// Where a scratch has what lies over its image: the upper directory, or the copy of everything where the machine has
/// no overlays.
fn top(scratch: &Path) -> &'static str {
    if scratch.join(copy_overlay::MARK).exists() { "merged" } else { "root" }
}

/// Takes out of a copied home what is as the image has it, so that it is what an upper directory would be. What was
/// removed of the image's own is there again in the next one.
fn without_image(root: &Path, home: &Path, of_image: &OfImage) -> std::io::Result<()> {
    let ground = Ground::open(root)?;
    for (path, told) in &of_image.0 {
        let (inner, at) = (home.join(path), root.join(home).join(path));
        // By a path without links, and what lies behind one is no longer the image's.
        let content = reading::bounded_real(&at, reading::LONGEST).map(|bytes| ContentDigest::of(&bytes).to_string());
        let link = || fs::read_link(&at).map(|target| target.into_os_string().into_encoded_bytes());
        let here = content.or_else(|_| link().map(|target| format!("{:?}", Kind::Symlink { target })));
        if here.is_ok_and(|here| told.strip_prefix(&here).is_some_and(|rest| rest.starts_with(' ')))
            && ground.kind(&inner)? == Some(Found::Other)
        {
            ground.remove_only(&inner)?;
        }
    }
    Ok(())
}

/// The scratch that holds the home, and where in it: the one that was used last, by the name that its account had then;
/// or the newest of those that have one.
fn holder(place: &Place, account: &str, but: Option<&Path>) -> Option<(PathBuf, PathBuf)> {
    let has = |scratch: &Path, home: &Path| {
        let dir = scratch.join(top(scratch)).join(home);
        but != Some(scratch) && dir.symlink_metadata().is_ok_and(|meta| meta.is_dir())
    };
    let last = crate::record::Record::read(&place.dir).map(|record| record.arrangement);
    let last = last.map(|last| (place.scratch_path(&last.image), inner(&last.setup.account)));
    if let Some((scratch, home)) = last.filter(|(scratch, home)| has(scratch, home)) {
        return Some((scratch, home));
    }
    let home = inner(account);
    let changed = |scratch: &PathBuf| {
        let meta = scratch.join(top(scratch)).join(&home).symlink_metadata().ok();
        meta.map(|meta| (meta.ctime(), meta.ctime_nsec()))
    };
    let newest = place.scratches().into_iter().filter(|scratch| has(scratch, &home)).max_by_key(changed)?;
    Some((newest, home))
}

/// Brings the home to the scratch over an image, from wherever it is. The workspace is held, and does not run. Gives
/// what was changed in files that this image has otherwise, which stays beside the scratch, and where that is.
///
/// # Errors
/// When the disk refuses.
pub fn bring(
    place: &Place,
    scratch: &Path,
    (account, identity): (&str, Identity),
    of_image: impl FnOnce() -> Result<ImageHome, KeeperError>,
) -> Result<Option<(Vec<String>, PathBuf)>, KeeperError> {
    let failed = |error| KeeperError::from(file_error("bring the home to", scratch)(error));
    let home = inner(account);
    let here = scratch.join(top(scratch)).join(&home);
    let kept = kept(place);
    let from = match kept.is_dir() {
        true => Some((place.kept.clone(), PathBuf::from(KEPT), OfImage::noted(&place.kept))),
        false => holder(place, account, Some(scratch))
            .map(|(holder, home)| (holder.join(top(&holder)), home, OfImage::noted(&holder)))
            .filter(|(root, home, _)| is_later(&root.join(home), &here)),
    };
    if from.is_none() && scratch.join(LISTED).exists() {
        return Ok(None);
    }
    let ImageHome { files: of_image, mode, owner, time } = of_image()?;
    note(&scratch.join(LISTED), &of_image)?;
    let Some((from, name, before)) = from else { return Ok(None) };
    if from.ends_with("merged") {
        without_image(&from, &name, &before).map_err(failed)?;
    }
    let (there, upper) = (Ground::open(&from).map_err(failed)?, Ground::open(&scratch.join("root")).map_err(failed)?);
    // Where there is one owner, root's files need no note of theirs.
    let owner = (!identity.records_owners()).then_some(owner);
    upper.make_way(&home, &Dress { mode, owner, modified: time }).map_err(failed)?;
    let apart = Apart::beside(scratch)?;
    // First where it is, so that an interruption leaves a home that is brought as a whole next time.
    let gave_way = settle((&there, &name), &apart.ground, &of_image, &before).map_err(failed)?;
    apart.put_away(&upper, &home).map_err(failed)?;
    if top(scratch) == "merged" {
        // The sandbox lays what is brought over the image's own home there.
        apart.put_away(&Ground::open(&scratch.join("merged")).map_err(failed)?, &home).map_err(failed)?;
    }
    there.give(&name, &upper, &home).map_err(failed)?;
    let shown =
        |path: &PathBuf| format!("/{}", cavrith_core::path::shown(home.join(path).as_os_str().as_encoded_bytes()));
    Ok((!gave_way.is_empty()).then(|| (gave_way.iter().map(shown).collect(), apart.dir.clone())))
}

/// Sets the home of a workspace that is dropped apart from its scratches. What was changed in it of the image's own
/// files stays with the scratch. True when there is a home.
///
/// # Errors
/// When the disk refuses.
pub fn keep(place: &Place, account: &str) -> Result<bool, KeeperError> {
    let Some((scratch, home)) = holder(place, account, None) else { return Ok(false) };
    let failed = |error| KeeperError::from(file_error("keep the home of", &place.dir)(error));
    let of_image = OfImage::noted(&scratch);
    let root = scratch.join(top(&scratch));
    if root.ends_with("merged") {
        without_image(&root, &home, &of_image).map_err(failed)?;
    }
    let upper = Ground::open(&root).map_err(failed)?;
    place.make_kept()?;
    let kept = Ground::open(&place.kept).map_err(failed)?;
    let apart = Apart::beside(&scratch)?;
    settle((&upper, &home), &apart.ground, &of_image, &OfImage::default()).map_err(failed)?;
    note(&place.kept.join(LISTED), &of_image)?;
    apart.put_away(&kept, Path::new(KEPT)).map_err(failed)?;
    upper.give(&home, &kept, Path::new(KEPT)).map_err(failed)?;
    Ok(true)
}

/// Where what gives way this time is moved, beside a scratch.
struct Apart {
    dir: PathBuf,
    ground: Ground,
}

impl Apart {
    fn beside(scratch: &Path) -> Result<Self, KeeperError> {
        let all = scratch.join(LEFT);
        fs::create_dir_all(&all).map_err(file_error("make", &all))?;
        let mut number = 1_u32;
        let dir = loop {
            let dir = all.join(number.to_string());
            match fs::create_dir(&dir) {
                Ok(()) => break dir,
                Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => number += 1,
                Err(error) => return Err(file_error("make", &dir)(error).into()),
            }
        };
        let ground = Ground::open(&dir).map_err(file_error("open", &dir))?;
        Ok(Self { dir, ground })
    }

    /// Moves an earlier home out of the way of a later one.
    fn put_away(&self, from: &Ground, home: &Path) -> std::io::Result<()> {
        match from.kind(home)? {
            None => Ok(()),
            Some(_) => from.give(home, &self.ground, Path::new("earlier-home")),
        }
    }
}

impl Drop for Apart {
    fn drop(&mut self) {
        // They are there for what is left behind only.
        let _ = fs::remove_dir(&self.dir);
        let _ = self.dir.parent().map(fs::remove_dir);
    }
}

fn note(at: &Path, of_image: &OfImage) -> Result<(), KeeperError> {
    let text = serde_json::to_vec(of_image).unwrap_or_default();
    Ok(cavrith_store::atomic::write(at, &text)?)
}

/// Whether a home was used later than another, or the other is not there.
fn is_later(one: &Path, other: &Path) -> bool {
    let used = |path: &Path| path.symlink_metadata().map(|meta| (meta.ctime(), meta.ctime_nsec())).ok();
    used(other).is_none_or(|other| used(one).is_some_and(|one| one > other))
}

/// Has the image's own files count where they are others than they were before, in a home that lies at a path of some
/// ground. What lies over them is moved to `apart`; the marks that they are gone are removed. Gives the paths of what
/// was moved, from the home.
fn settle(
    (ground, home): (&Ground, &Path),
    apart: &Ground,
    of_image: &OfImage,
    before: &OfImage,
) -> std::io::Result<Vec<PathBuf>> {
    let mut moved = Vec::new();
    let plain = Dress { mode: 0o700, owner: None, modified: 0 };
    for (path, _) in of_image.0.iter().filter(|(path, told)| before.0.get(*path) != Some(told)) {
        ground.show_beneath(home)?;
        let mut way: Vec<&Path> = Path::new(path).ancestors().filter(|above| !above.as_os_str().is_empty()).collect();
        way.reverse();
        for at in way {
            // What the image has above something, or at its end, is a directory when it says so.
            let is_directory =
                of_image.0.get(&*at.to_string_lossy()).is_some_and(|told| told.starts_with("directory "));
            match ground.kind(&home.join(at))? {
                None => break,
                Some(Found::Directory) if is_directory => ground.show_beneath(&home.join(at))?,
                Some(Found::Whiteout) => {
                    ground.remove_only(&home.join(at))?;
                    break;
                }
                Some(_) => {
                    apart.make_way(at, &plain)?;
                    ground.give(&home.join(at), apart, at)?;
                    moved.push(at.to_owned());
                    break;
                }
            }
        }
    }
    // What the image does not have any more is not gone from it.
    for path in before.0.keys().filter(|path| !of_image.0.contains_key(*path)) {
        if ground.kind(&home.join(path))? == Some(Found::Whiteout) {
            ground.remove_only(&home.join(path))?;
        }
    }
    Ok(moved)
}
