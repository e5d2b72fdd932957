//! Relieving what a step made of what differs each time: files that nobody needs go ([`leftovers`]), and in some that
//! are needed a note of the time or the disk is made the same for everybody.

use std::fs::{self, File};
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use cavrith_core::leftovers::{self, Note};
use cavrith_core::path::RootPath;
use cavrith_core::tree::Tree;
use cavrith_recorder::git_index;
use cavrith_store::reading;

use crate::error::{EngineError, file_error};

/// Bytes that a file may have whose notes are looked for.
const LONGEST: u64 = 256 << 20;

/// Tidies what was changed over `merged`, which lies at `root`. New files will have the time stamp `time`.
///
/// # Errors
/// When the disk refuses.
pub fn tidy(root: &Path, merged: &Tree, time: u64) -> Result<(), EngineError> {
    let mut open = vec![RootPath::root()];
    while let Some(dir) = open.pop() {
        let at = root.join(dir.as_relative());
        for entry in fs::read_dir(&at).map_err(file_error("look into", &at))?.flatten() {
            let Ok(path) = dir.join(entry.file_name().as_bytes()) else { continue };
            let kind = entry.file_type();
            let is_directory = kind.as_ref().is_ok_and(fs::FileType::is_dir);
            // What was there before is not ours to remove, and a mark of a deletion says something else.
            let is_new = merged.get(&path).is_none();
            if is_new && leftovers::why(&path).is_some() {
                let at = entry.path();
                let removed = if is_directory { fs::remove_dir_all(&at) } else { fs::remove_file(&at) };
                removed.map_err(file_error("remove", &at))?;
            } else if is_directory {
                open.push(path);
            } else if let Some(note) =
                leftovers::note(&path).filter(|_| is_new && kind.is_ok_and(|kind| kind.is_file()))
            {
                // A source that lies beneath keeps its time.
                let is_new = |path: &RootPath| merged.get(path).is_none() && root.join(path.as_relative()).is_file();
                rewrite(&entry.path(), |bytes| match note {
                    Note::GitIndex => git_index::without_notes(bytes),
                    Note::Lines(pairs) => leftovers::with_lines(bytes, pairs),
                    Note::SourceTime => {
                        leftovers::source_of_compiled(&path).filter(is_new)?;
                        leftovers::with_source_time(bytes, time)
                    }
                })?;
            }
        }
    }
    Ok(())
}

/// Writes a file anew when `change` makes another one of it; in place, so that it stays whose it is.
fn rewrite(at: &Path, change: impl FnOnce(&[u8]) -> Option<Vec<u8>>) -> Result<(), EngineError> {
    let Ok(bytes) = reading::bounded(at, LONGEST) else { return Ok(()) };
    let Some(changed) = change(&bytes) else { return Ok(()) };
    let flags = rustix::fs::OFlags::NOFOLLOW.bits() as i32;
    let file = File::options().write(true).truncate(true).custom_flags(flags).open(at);
    file.and_then(|mut file| file.write_all(&changed)).map_err(file_error("write", at))
}
