//! Many layers as few directories.
//!
//! The kernel mounts at most 500 directories over each other, takes their names in one page, and looks for a name that
//! no layer has in all of them. An image of thousands of steps has thousands of layers. So runs of them are merged into
//! one directory, a *bundle*, by hard links: no content is copied, and a bundle is as quickly made as removed. Bundles
//! belong to one command or one workspace and go with it; the store knows layers only.

use std::fs::{self, Permissions};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, Timespec, Timestamps};

use cavrith_core::digest::TreeDigest;

use crate::removing::remove;
use crate::{Store, StoreError, faults, io_error, xattrs};

/// How many directories become one bundle, and how many are mounted beside bundles of a kind. Of bundles, of bundles of
/// bundles, and of layers there are then at most 192 for a quarter of a million of layers, and their names fit.
const RUN: usize = 64;

impl Store {
    /// The directories to mount over each other for these layers, the lowest first. Where layers are many, runs of them
    /// are merged in `bundles`, which is made when it is needed; what an earlier call merged there is found again.
    ///
    /// overlayfs takes no directory twice. Of one that comes again the upper one is enough, since it lays everything
    /// that the lower one lays, over all that lies between.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn lower_directories<'a>(
        &self,
        layers: impl IntoIterator<Item = &'a TreeDigest>,
        bundles: &Path,
    ) -> Result<Vec<PathBuf>, StoreError> {
        let roots = layers.into_iter().map(|layer| self.layer_root(layer)).collect();
        let mut directories = fold(roots, bundles)?;
        let mut seen = std::collections::BTreeSet::new();
        directories.reverse();
        directories.retain(|directory| seen.insert(directory.clone()));
        directories.reverse();
        Ok(directories)
    }
}

/// Few directories for many. Whole runs are merged, counted from the lowest: a layer more leaves the bundles beneath it
/// as they are.
fn fold(mut directories: Vec<PathBuf>, bundles: &Path) -> Result<Vec<PathBuf>, StoreError> {
    if directories.len() <= RUN {
        return Ok(directories);
    }
    let above = directories.split_off((directories.len() - 1) / RUN * RUN);
    let merged = directories.chunks(RUN).map(|run| bundle(run, bundles)).collect::<Result<Vec<_>, _>>()?;
    let mut few = fold(merged, bundles)?;
    few.extend(above);
    Ok(few)
}

/// The bundle of these directories.
fn bundle(directories: &[PathBuf], bundles: &Path) -> Result<PathBuf, StoreError> {
    let mut name = blake3::Hasher::new();
    for directory in directories {
        name.update(directory.as_os_str().as_encoded_bytes()).update(b"\0");
    }
    let place = bundles.join(name.finalize().to_hex().as_str());
    if place.is_dir() {
        return Ok(place);
    }
    // What an interrupted call left is made anew.
    let making = place.with_extension("making");
    remove(&making)?;
    fs::create_dir_all(&making).map_err(io_error("make", &making))?;
    directories.iter().try_for_each(|directory| lay(directory, &making))?;
    faults::before("rename").and_then(|()| fs::rename(&making, &place)).map_err(io_error("put in place", &place))?;
    Ok(place)
}

/// Lays a layer's directory over another directory.
fn lay(from: &Path, to: &Path) -> Result<(), StoreError> {
    let meta = from.symlink_metadata().map_err(io_error("read", from))?;
    if xattrs::is_opaque(from).map_err(io_error("read", from))? {
        remove(to)?;
        make_opaque(to)?;
    }
    for entry in fs::read_dir(from).map_err(io_error("list", from))? {
        let entry = entry.map_err(io_error("list", from))?;
        let (path, target) = (entry.path(), to.join(entry.file_name()));
        let there = target.symlink_metadata().ok();
        let is_there = there.is_some();
        let directory_there = there.is_some_and(|there| there.is_dir());
        if entry.file_type().map_err(io_error("read", &path))?.is_dir() {
            if is_there && !directory_there {
                // A deletion, or a file: what lay beneath stays hidden.
                fs::remove_file(&target).map_err(io_error("remove", &target))?;
                make_opaque(&target)?;
            } else if !is_there {
                fs::create_dir(&target).map_err(io_error("make", &target))?;
            }
            lay(&path, &target)?;
            continue;
        }
        if directory_there {
            remove(&target)?;
        } else if is_there {
            fs::remove_file(&target).map_err(io_error("remove", &target))?;
        }
        rustix::fs::linkat(CWD, &path, CWD, &target, AtFlags::empty())
            .map_err(|error| io_error("link", &target)(error.into()))?;
    }
    apply_metadata(from, to, &meta)
}

fn make_opaque(directory: &Path) -> Result<(), StoreError> {
    fs::create_dir(directory).map_err(io_error("make", directory))?;
    xattrs::make_opaque(directory).map_err(io_error("mark as opaque", directory))
}

/// Gives a directory what another one has: owner, rights, attributes, times. An opaque one stays so.
fn apply_metadata(from: &Path, to: &Path, meta: &fs::Metadata) -> Result<(), StoreError> {
    let now = to.symlink_metadata().map_err(io_error("read", to))?;
    if (now.uid(), now.gid()) != (meta.uid(), meta.gid()) {
        std::os::unix::fs::lchown(to, Some(meta.uid()), Some(meta.gid()))
            .map_err(io_error("change the owner of", to))?;
    }
    fs::set_permissions(to, Permissions::from_mode(meta.mode() & 0o7777))
        .map_err(io_error("change the rights of", to))?;
    xattrs::copy(from, to).map_err(io_error("set the attributes of", to))?;
    let time = |seconds, nanoseconds: i64| Timespec { tv_sec: seconds, tv_nsec: nanoseconds as _ };
    let times = Timestamps {
        last_access: time(meta.atime(), meta.atime_nsec()),
        last_modification: time(meta.mtime(), meta.mtime_nsec()),
    };
    rustix::fs::utimensat(CWD, to, &times, AtFlags::SYMLINK_NOFOLLOW)
        .map_err(|error| io_error("set the time of", to)(error.into()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;

    fn bundled(layers: &[&Path]) -> (tempfile::TempDir, PathBuf) {
        let dir = tempfile::tempdir().unwrap();
        let layers: Vec<_> = layers.iter().map(|layer| layer.to_path_buf()).collect();
        let made = bundle(&layers, &dir.path().join("bundles")).unwrap();
        (dir, made)
    }

    #[test]
    fn the_uppermost_entry_wins_and_what_it_replaces_stays_hidden() {
        let dir = tempfile::tempdir().unwrap();
        let [low, middle, high] = ["low", "middle", "high"].map(|name| dir.path().join(name));
        fs::create_dir_all(low.join("pier/old")).unwrap();
        fs::create_dir_all(low.join("quay")).unwrap();
        fs::write(low.join("quay/a"), "low").unwrap();
        fs::write(low.join("quay/b"), "low").unwrap();
        fs::write(low.join("mast"), "a file").unwrap();
        fs::create_dir_all(middle.join("quay")).unwrap();
        fs::write(middle.join("quay/b"), "middle").unwrap();
        xattrs::make_gone(&middle.join("pier")).unwrap();
        symlink("quay/a", middle.join("link")).unwrap();
        fs::create_dir_all(high.join("pier/new")).unwrap();
        fs::create_dir(high.join("mast")).unwrap();
        fs::set_permissions(high.join("pier"), Permissions::from_mode(0o710)).unwrap();
        let (_kept, made) = bundled(&[&low, &middle, &high]);
        assert_eq!(fs::read_to_string(made.join("quay/a")).unwrap(), "low");
        assert_eq!(fs::read_to_string(made.join("quay/b")).unwrap(), "middle");
        assert_eq!(fs::read_link(made.join("link")).unwrap(), Path::new("quay/a"));
        assert!(made.join("pier/new").is_dir() && !made.join("pier/old").exists());
        assert_eq!(made.join("pier").metadata().unwrap().mode() & 0o7777, 0o710);
        for replaced in ["pier", "mast"] {
            assert!(xattrs::is_opaque(&made.join(replaced)).unwrap(), "{replaced}");
        }
        assert!(!xattrs::is_opaque(&made.join("quay")).unwrap());
        // No byte is written twice.
        assert_eq!(made.join("quay/a").metadata().unwrap().ino(), low.join("quay/a").metadata().unwrap().ino());
    }

    #[test]
    fn a_deletion_stays_one_for_what_lies_beneath_the_bundle() {
        let dir = tempfile::tempdir().unwrap();
        let [low, high] = ["low", "high"].map(|name| dir.path().join(name));
        fs::create_dir_all(low.join("quay")).unwrap();
        fs::create_dir_all(&high).unwrap();
        xattrs::make_gone(&high.join("quay")).unwrap();
        let (_kept, made) = bundled(&[&low, &high]);
        assert!(xattrs::is_gone(&made.join("quay")).unwrap());
    }

    #[test]
    fn layers_of_any_number_become_few_directories_and_a_layer_more_makes_at_most_one_bundle() {
        let home = tempfile::tempdir().unwrap();
        let store = Store::open(&home.path().join("store")).unwrap();
        let layers: Vec<_> = (0..5000u32)
            .map(|number| {
                let digest = TreeDigest::from_bytes(*blake3::hash(&number.to_le_bytes()).as_bytes());
                fs::create_dir_all(store.layer_root(&digest)).unwrap();
                fs::write(store.layer_root(&digest).join(number.to_string()), "").unwrap();
                digest
            })
            .collect();
        let bundles = home.path().join("bundles");
        let few = |count: usize| store.lower_directories(&layers[..count], &bundles).unwrap();
        for count in [1, 63, 64] {
            assert_eq!(few(count), layers[..count].iter().map(|layer| store.layer_root(layer)).collect::<Vec<_>>());
        }
        assert!(!bundles.exists());
        let mut made = 0;
        for count in (65..700).chain([4999, 5000]) {
            let directories = few(count);
            assert!(directories.len() <= 3 * RUN, "{count}: {}", directories.len());
            let files: usize = directories.iter().map(|dir| fs::read_dir(dir).unwrap().count()).sum();
            assert_eq!(files, count);
            let now = fs::read_dir(&bundles).unwrap().count();
            assert!(count > 700 || now <= made + 1, "{count}: {made} bundles became {now}");
            made = now;
        }
    }

    #[test]
    fn a_layer_that_comes_again_is_mounted_once() {
        let home = tempfile::tempdir().unwrap();
        let store = Store::open(&home.path().join("store")).unwrap();
        let [a, b] = [1, 2].map(|byte| TreeDigest::from_bytes([byte; 32]));
        let directories = store.lower_directories(&[a, b, a], &home.path().join("bundles")).unwrap();
        assert_eq!(directories, [store.layer_root(&b), store.layer_root(&a)]);
    }
}
