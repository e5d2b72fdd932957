//! Which folder a workspace belongs to: by its path, and by what stays when it is moved.
//!
//! A folder is known by the filesystem's number, its own number in it, and when it was made: so a project that is moved
//! or renamed keeps its workspace and its kept folders, a path that leads to it through a link is the same project, and
//! a new folder that happens to get the number of a removed one is not.

use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use rustix::fs::{AtFlags, CWD, StatxFlags};

use cavrith_engine::home::Home;

use crate::WorkspaceError;
use crate::place::{Place, id_of};

/// What tells a folder from all others, as it stands in the file `folder`; `None` where the filesystem does not tell
/// when a folder was made.
fn number(folder: &Path) -> Option<String> {
    let wanted = StatxFlags::INO | StatxFlags::BTIME;
    let told = rustix::fs::statx(CWD, folder, AtFlags::empty(), wanted).ok()?;
    (told.stx_mask & StatxFlags::BTIME.bits() != 0).then(|| {
        let made = told.stx_btime;
        format!("{}:{} {} {}.{:09}", told.stx_dev_major, told.stx_dev_minor, told.stx_ino, made.tv_sec, made.tv_nsec)
    })
}

/// Writes down in a directory of a workspace which folder it belongs to.
///
/// # Errors
/// When the disk refuses.
pub(crate) fn note(place: &Place, dir: &Path, dot: &str) -> Result<(), WorkspaceError> {
    // Every start comes here; nothing is written, and waited for, that stands there already.
    let write = |name: &str, text: &[u8]| {
        let path = dir.join(format!("{dot}{name}"));
        let stands = cavrith_store::reading::bytes(&path).is_ok_and(|there| there == text);
        if stands { Ok(()) } else { cavrith_store::atomic::write(&path, text) }
    };
    write("project", place.project.as_os_str().as_bytes())?;
    if let Some(number) = number(&place.project) {
        write("folder", number.as_bytes())?;
    }
    Ok(())
}

/// Whether a workspace, or what one kept, belongs to a project.
pub fn is_of(place: &Place, project: &Path) -> bool {
    if place.project == *project {
        return true;
    }
    match place.project.canonicalize() {
        Ok(path) => path == *project,
        // It is not there any more under the path that it had.
        Err(_) => {
            let known = fs::read_to_string(place.dir.join("folder"))
                .or_else(|_| fs::read_to_string(place.kept.join(".folder")));
            known.is_ok_and(|known| number(project).is_some_and(|number| number == known))
        }
    }
}

/// Brings what belongs to a project under other paths to its name now: workspaces, and what dropped ones kept. What
/// runs is left until it has ended. Where several claim the same name, the one that ran last gets it, and the others
/// stay as they are.
///
/// # Errors
/// When the disk refuses.
pub fn adopt(home: &Home, project: &Path) -> Result<(), WorkspaceError> {
    let mut all = Place::all(home);
    all.extend(Place::dropped(home));
    let mut moved: Vec<_> =
        all.into_iter().filter(|place| place.project != *project && is_of(place, project)).collect();
    let last = |place: &Place| fs::metadata(place.dir.join("record")).and_then(|meta| meta.modified()).ok();
    moved.sort_by_key(|place| std::cmp::Reverse(last(place)));
    for place in moved {
        let own = place.named.then_some(place.name.as_str());
        let entry = format!("{}-{}", place.name, id_of(project, own));
        let to = Place {
            dir: home.workspaces().join(&entry),
            kept: home.kept().join(&entry),
            project: project.to_owned(),
            ..place.clone()
        };
        if place.is_held() || to.dir.exists() || to.kept.exists() && place.kept.exists() {
            continue;
        }
        // Nobody else begins it meanwhile.
        let held = if place.dir.is_dir() { Some(place.hold()?) } else { None };
        place.rename(&to)?;
        if to.dir.is_dir() {
            note(&to, &to.dir, "")?;
        }
        if to.kept.is_dir() {
            note(&to, &to.kept, ".")?;
        }
        drop(held);
    }
    Ok(())
}
