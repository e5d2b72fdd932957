//! Taking back what was changed by hand: what the image has is there again, and what was changed is set aside.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

use cavrith_core::drift::{Drift, Finding};
use cavrith_core::path::RootPath;
use cavrith_core::tree::Kind;
use cavrith_engine::context::BuildContext;
use cavrith_engine::error::file_error;
use cavrith_engine::home::Home;
use cavrith_keeper::place::Place;
use cavrith_store::owners::{self, Ownership};
use cavrith_store::walk;

use super::Scratched;
use crate::{WorkspaceError, backups};

/// What goes back with the packages: the package manager's own records, and caches of what is installed.
const WITH_PACKAGES: [&str; 6] = [
    "var/lib/dpkg",
    "var/lib/apt/extended_states",
    "etc/ld.so.cache",
    "var/cache/ldconfig",
    "var/lib/ucf",
    "var/lib/pam",
];

/// What was taken back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Undone {
    /// Names of the findings.
    pub names: Vec<String>,
    /// Where what was changed lies now; nothing when there was no more to it than deletions.
    pub backup: Option<PathBuf>,
}

/// Takes the findings that are `meant` back. The workspace must not run.
///
/// # Errors
/// When it runs, only a part of what belongs together is meant, the scratch is a copy of the whole root, or the disk
/// refuses.
pub fn undo(
    context: BuildContext<'_>,
    home: &Home,
    place: &Place,
    (drift, scratched): (&Drift, &Scratched),
    meant: impl Fn(&Finding) -> bool,
) -> Result<Undone, WorkspaceError> {
    let refused = |why: String| WorkspaceError::NotUndone { workspace: place.name.clone(), why };
    if scratched.is_inside() {
        let why = "it lies on the disk of a machine; cavrith drop sets all of it aside, or change it back within";
        return Err(refused(why.to_owned()));
    }
    let Some(top) = scratched.top().filter(|_| !scratched.is_copy()) else {
        return Err(refused("its scratch is a copy of the whole image; cavrith drop sets all of it aside".to_owned()));
    };
    let (mut bundles, mut names) = (BTreeSet::new(), Vec::new());
    for finding in drift.findings.iter().filter(|finding| meant(finding)) {
        if matches!(finding, Finding::Service { .. }) {
            continue;
        }
        bundles.insert(finding.bundle());
        names.push(finding.name().to_owned());
    }
    let apart = drift.findings.iter().find(|finding| bundles.contains(&finding.bundle()) && !meant(finding));
    if let Some(other) = apart {
        let why = format!(
            "{} are in the same files as {}; take them back together, or change them inside",
            names.join(", "),
            other.name()
        );
        return Err(refused(why));
    }
    let mut paths: BTreeSet<RootPath> =
        bundles.iter().filter_map(|bundle| drift.paths.get(bundle)).flatten().cloned().collect();
    if bundles.contains("packages") {
        for name in WITH_PACKAGES {
            let Ok(path) = RootPath::from_archive(name.as_bytes()) else { continue };
            paths.extend(below(&top, &path)?);
        }
    }
    // The kernel marks every new directory; only one in the place of another hides anything.
    let hides =
        |above: &RootPath| scratched.image.get(above).is_some() && walk::is_opaque(&top.join(above.as_relative()));
    let opaque = |path: &RootPath| path.ancestors().into_iter().find(&hides);
    if let Some((path, above)) = paths.iter().find_map(|path| Some((path, opaque(path)?))) {
        let why = format!(
            "{above} was removed and made anew, so {path} cannot be taken back without the rest of it; cavrith drop sets all aside"
        );
        return Err(refused(why));
    }
    let held = place.hold()?;
    // It may have run again since it was read, while somebody thought about it.
    if Scratched::read(context, place)?.here != scratched.here {
        return Err(refused("it was changed meanwhile; type it again".to_owned()));
    }
    let aside = backups::new_place(home, place)?;
    let mut moved = false;
    // What lies deepest goes first, so that a directory is empty when its turn comes.
    for path in paths.iter().rev() {
        moved |= take_back(scratched, &top, &aside.join("root"), path, context.store.ownership())?;
    }
    drop(held);
    let backup = if moved {
        Some(aside)
    } else {
        fs::remove_dir(&aside).map_err(file_error("remove", &aside))?;
        None
    };
    Ok(Undone { names, backup })
}

/// What lies in the scratch at a path and beneath it.
fn below(top: &Path, path: &RootPath) -> Result<Vec<RootPath>, WorkspaceError> {
    let mut found = Vec::new();
    let mut open = vec![path.clone()];
    while let Some(path) = open.pop() {
        let at = top.join(path.as_relative());
        let Ok(meta) = fs::symlink_metadata(&at) else { continue };
        if meta.is_dir() {
            for entry in fs::read_dir(&at).map_err(file_error("list", &at))?.flatten() {
                open.extend(path.join(entry.file_name().as_encoded_bytes()).ok());
            }
        } else {
            found.push(path);
        }
    }
    Ok(found)
}

/// Takes one path back. True when something of it is set aside now.
fn take_back(
    scratched: &Scratched,
    top: &Path,
    aside: &Path,
    path: &RootPath,
    ownership: Ownership,
) -> Result<bool, WorkspaceError> {
    let at = top.join(path.as_relative());
    let Ok(meta) = fs::symlink_metadata(&at) else { return Ok(false) };
    let kind = meta.file_type();
    if kind.is_char_device() && meta.rdev() == 0 {
        fs::remove_file(&at).map_err(file_error("remove", &at))?;
        return Ok(false);
    }
    if meta.is_dir() {
        // One of the image stays, with the rights that it has there; a new one goes when nothing else is in it.
        match scratched.image.get(path) {
            Some(entry) if matches!(entry.kind, Kind::Directory { .. }) => {
                let rights = fs::Permissions::from_mode(u32::from(entry.meta.mode));
                match ownership {
                    Ownership::Real => {
                        std::os::unix::fs::chown(&at, Some(entry.meta.uid), Some(entry.meta.gid))
                            .map_err(file_error("change", &at))?;
                    }
                    Ownership::Recorded => {
                        owners::write(&at, (entry.meta.uid, entry.meta.gid)).map_err(file_error("change", &at))?;
                    }
                }
                fs::set_permissions(&at, rights).map_err(file_error("change", &at))?;
            }
            _ if fs::remove_dir(&at).is_ok() => remove_empty_above(scratched, top, path),
            _ => {}
        }
        return Ok(false);
    }
    let to = aside.join(path.as_relative());
    if let Some(above) = to.parent() {
        fs::create_dir_all(above).map_err(file_error("make", above))?;
    }
    fs::rename(&at, &to).map_err(file_error("set aside", &at))?;
    remove_empty_above(scratched, top, path);
    Ok(true)
}

/// Removes the new directories above a path that are empty now.
fn remove_empty_above(scratched: &Scratched, top: &Path, path: &RootPath) {
    for above in path.ancestors().into_iter().rev() {
        if scratched.image.get(&above).is_some() || fs::remove_dir(top.join(above.as_relative())).is_err() {
            break;
        }
    }
}
