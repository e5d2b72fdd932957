//! Scratches that were to be removed: set aside for a while, since nothing that somebody made by hand is thrown away at
//! once.
//!
//! They lie in `backups/NAME-ID/TIME/`, and their files in `root/` in it, as they were inside. The next one that is set
//! aside removes those that are older than [`DAYS`], and the oldest while all together are larger than [`MOST_BYTES`].

use std::fs;
use std::io::ErrorKind;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use cavrith_engine::error::file_error;
use cavrith_engine::home::Home;

use crate::WorkspaceError;
use cavrith_keeper::place::Place;

/// How long a scratch is kept.
pub const DAYS: u64 = 30;
/// Bytes that all of them may have together.
pub const MOST_BYTES: u64 = 10 << 30;

/// A new, empty place for something of a workspace that is set aside.
///
/// # Errors
/// When the disk refuses.
pub fn new_place(home: &Home, place: &Place) -> Result<PathBuf, WorkspaceError> {
    let all = home.backups().join(place.dir.file_name().unwrap_or_default());
    cavrith_store::private::directory(&all)?;
    let mut name = cavrith_keeper::record::now();
    loop {
        let to = all.join(name.to_string());
        match fs::create_dir(&to) {
            Ok(()) => return Ok(to),
            Err(error) if error.kind() == ErrorKind::AlreadyExists => name += 1,
            Err(error) => return Err(file_error("make", &to)(error).into()),
        }
    }
}

/// Sets a scratch aside; `None` when nothing was changed in it. Its workspace must not run.
///
/// # Errors
/// When the disk refuses; then it is where it was.
pub fn set_aside(home: &Home, place: &Place, scratch: &Path) -> Result<Option<PathBuf>, WorkspaceError> {
    let has_left = scratch.join(cavrith_keeper::home::LEFT).exists();
    if !has_left && cavrith_keeper::place::scratch_changes(scratch, None, 0).0 == 0 {
        cavrith_store::removing::remove(scratch)?;
        return Ok(None);
    }
    let entry = place.dir.file_name().unwrap_or_default();
    let all = home.backups().join(entry);
    cavrith_store::private::directory(&all)?;
    let mut name = cavrith_keeper::record::now();
    let to = loop {
        let to = all.join(name.to_string());
        match fs::rename(scratch, &to) {
            Ok(()) => break to,
            // Another one was set aside in the same millisecond. One that is there is never empty, so nothing takes its
            // place.
            Err(error) if matches!(error.kind(), ErrorKind::DirectoryNotEmpty | ErrorKind::AlreadyExists) => name += 1,
            Err(error) => return Err(file_error("set aside", scratch)(error).into()),
        }
    };
    tidy(home, &to);
    Ok(Some(to))
}

/// Removes what is too old or too much, but not what was just set aside. What cannot be removed now is for the next
/// time.
fn tidy(home: &Home, newest: &Path) {
    let entries = |dir: &Path| fs::read_dir(dir).into_iter().flatten().flatten().map(|entry| entry.path());
    let made = |path: &PathBuf| path.file_name()?.to_str()?.parse::<u64>().ok();
    let mut all: Vec<_> =
        entries(&home.backups()).flat_map(|workspace| entries(&workspace).collect::<Vec<_>>()).collect();
    all.retain(|path| path != newest && made(path).is_some());
    all.sort_by_key(|path| std::cmp::Reverse(made(path)));
    let oldest = cavrith_keeper::record::now().saturating_sub(DAYS * 86_400_000);
    let mut bytes = size(newest);
    for path in all {
        bytes = bytes.saturating_add(size(&path));
        if bytes > MOST_BYTES || made(&path).is_some_and(|made| made < oldest) {
            let _ = cavrith_store::removing::remove(&path);
        }
    }
}

fn size(dir: &Path) -> u64 {
    let mut bytes = 0_u64;
    let mut open = vec![dir.to_owned()];
    while let Some(dir) = open.pop() {
        for entry in fs::read_dir(&dir).into_iter().flatten().flatten() {
            let Ok(meta) = entry.metadata() else { continue };
            bytes = bytes.saturating_add(meta.blocks().saturating_mul(512));
            if meta.is_dir() {
                open.push(entry.path());
            }
        }
    }
    bytes
}
