//! What tells a folder from all others, also after it was moved: the filesystem's number, its own number in it, and
//! when it was made. So a project that is moved or renamed keeps its workspace and its kept folders, a path that leads
//! to it through a link is the same project, and a new folder that happens to get the number of a removed one is not.

use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use rustix::fs::{AtFlags, CWD, StatxFlags};

use crate::KeeperError;

/// What tells a folder from all others, as it stands in the file `folder`; `None` where the filesystem does not tell
/// when a folder was made.
pub(crate) fn number(folder: &Path) -> Option<String> {
    let wanted = StatxFlags::INO | StatxFlags::BTIME;
    let told = rustix::fs::statx(CWD, folder, AtFlags::empty(), wanted).ok()?;
    (told.stx_mask & StatxFlags::BTIME.bits() != 0).then(|| {
        let made = told.stx_btime;
        format!("{}:{} {} {}.{:09}", told.stx_dev_major, told.stx_dev_minor, told.stx_ino, made.tv_sec, made.tv_nsec)
    })
}

/// Records in a directory of a workspace which folder it belongs to.
///
/// # Errors
/// When the disk refuses.
pub fn note(project: &Path, dir: &Path, dot: &str) -> Result<(), KeeperError> {
    // Every start comes here; nothing is written, and waited for, that stands there already.
    let write = |name: &str, text: &[u8]| {
        let path = dir.join(format!("{dot}{name}"));
        let stands = cavrith_store::reading::bytes(&path).is_ok_and(|there| there == text);
        if stands { Ok(()) } else { cavrith_store::atomic::write(&path, text) }
    };
    write("project", project.as_os_str().as_bytes())?;
    if let Some(number) = number(project) {
        write("folder", number.as_bytes())?;
    }
    Ok(())
}

/// Whether a workspace that was made for the folder `known`, with these directories, belongs to a project.
pub fn is_of(known: &Path, (dir, kept): (&Path, &Path), project: &Path) -> bool {
    if known == project {
        return true;
    }
    match known.canonicalize() {
        Ok(path) => path == *project,
        // It is not there any more under the path that it had.
        Err(_) => {
            let known = fs::read_to_string(dir.join("folder")).or_else(|_| fs::read_to_string(kept.join(".folder")));
            known.is_ok_and(|known| number(project).is_some_and(|number| number == known))
        }
    }
}
