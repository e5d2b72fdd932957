//! A place for what one command has under way.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU32, Ordering};

use rustix::fs::FlockOperation;

use crate::removing::remove;
use crate::{Store, StoreError, io_error};

/// One command's directory in staging. It is removed when this value is dropped; when the command dies without dropping
/// it, no matter who notices first removes it ([`Store::sweep`]).
#[derive(Debug)]
pub struct Staging {
    dir: PathBuf,
    next: AtomicU32,
    /// Keeps `held` locked. The lock ends with the process, however it ends.
    _held: File,
}

impl Staging {
    /// The directory.
    pub fn dir(&self) -> &Path {
        &self.dir
    }

    /// A new, empty directory in it.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn new_dir(&self) -> Result<PathBuf, StoreError> {
        let path = self.dir.join(self.next.fetch_add(1, Ordering::Relaxed).to_string());
        fs::create_dir(&path).map_err(io_error("make", &path))?;
        Ok(path)
    }

    /// A name in it that nothing has yet.
    pub fn new_name(&self) -> PathBuf {
        self.dir.join(self.next.fetch_add(1, Ordering::Relaxed).to_string())
    }
}

impl Drop for Staging {
    fn drop(&mut self) {
        // What cannot be removed now is swept by the next command.
        let _ = remove(&self.dir);
    }
}

/// The name of a directory in staging before it is complete.
fn being_made(dir: &Path) -> PathBuf {
    let name = dir.file_name().unwrap_or_default().to_string_lossy();
    dir.with_file_name(format!(".{name}"))
}

/// Removes what a command that has ended left of its directory in staging, and says whether all of it is gone.
pub fn remove_run(dir: &Path) -> bool {
    let gone = |dir: &Path| remove(dir).is_ok() && !dir.exists();
    gone(&being_made(dir)) && gone(dir)
}

impl Store {
    /// Where [`Self::stage`] makes the directory of this name.
    pub fn staging_dir(&self, name: &str) -> PathBuf {
        self.root.join("staging").join(name)
    }

    /// Begins a directory in staging. `name` must be new in this store.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn stage(&self, name: &str) -> Result<Staging, StoreError> {
        let dir = self.staging_dir(name);
        // Locked before it has the name at which others look for what is dead: one that is there and not locked is dead
        // for certain.
        let aside = being_made(&dir);
        fs::create_dir(&aside).map_err(io_error("make", &aside))?;
        let held = aside.join("held");
        let file = File::create(&held).map_err(io_error("make", &held))?;
        rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive)
            .map_err(|error| io_error("lock", &held)(error.into()))?;
        fs::rename(&aside, &dir).map_err(io_error("make", &dir))?;
        Ok(Staging { dir, next: AtomicU32::new(0), _held: file })
    }

    /// Removes what dead commands left in staging, and says how many there were.
    ///
    /// # Errors
    /// When staging cannot be listed. What cannot be removed is left for the next time.
    pub fn sweep(&self) -> Result<usize, StoreError> {
        let staging = self.root.join("staging");
        let mut swept = 0;
        for entry in fs::read_dir(&staging).map_err(io_error("list", &staging))?.flatten() {
            let dir = entry.path();
            let old = || {
                let made = entry.metadata().and_then(|meta| meta.modified());
                made.is_ok_and(|made| made.elapsed().is_ok_and(|age| age.as_secs() > 60))
            };
            // One that is just being made is not locked yet; its maker may have been killed at that moment.
            let being_made = entry.file_name().to_string_lossy().starts_with('.');
            let dead = match File::open(dir.join("held")) {
                Ok(held) => {
                    (!being_made || old()) && rustix::fs::flock(&held, FlockOperation::NonBlockingLockExclusive).is_ok()
                }
                Err(_) => old(),
            };
            if dead && remove(&dir).is_ok() {
                swept += 1;
            }
        }
        Ok(swept)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_dropped_staging_leaves_nothing_and_a_living_one_is_not_swept() {
        let home = tempfile::tempdir().unwrap();
        let store = Store::open(home.path()).unwrap();
        let living = store.stage("a").unwrap();
        let dropped = store.stage("b").unwrap();
        fs::write(dropped.new_dir().unwrap().join("x"), "half").unwrap();
        let gone = dropped.dir().to_owned();
        drop(dropped);
        assert!(!gone.exists());
        assert_eq!(store.sweep().unwrap(), 0);
        assert!(living.dir().exists());
    }

    #[test]
    fn what_a_dead_command_left_is_swept() {
        let home = tempfile::tempdir().unwrap();
        let store = Store::open(home.path()).unwrap();
        let left = home.path().join("staging/dead");
        fs::create_dir(&left).unwrap();
        fs::write(left.join("held"), "").unwrap();
        fs::write(left.join("half a layer"), "x").unwrap();
        assert_eq!(store.sweep().unwrap(), 1);
        assert!(!left.exists());
    }

    #[test]
    fn what_is_just_being_made_is_not_swept_by_others_at_that_moment() {
        let home = tempfile::tempdir().unwrap();
        let store = Store::open(home.path()).unwrap();
        // As it is between two system calls of `stage`: made, and not locked yet.
        let made = home.path().join("staging/.one");
        fs::create_dir(&made).unwrap();
        fs::write(made.join("held"), "").unwrap();
        assert_eq!(store.sweep().unwrap(), 0);
        assert!(remove_run(&home.path().join("staging/one")));
        assert!(!made.exists());
        // Many begin at once, and sweep, and all of them keep what is theirs.
        std::thread::scope(|scope| {
            for number in 0..16 {
                let store = &store;
                scope.spawn(move || {
                    for round in 0..20 {
                        store.sweep().unwrap();
                        let staging = store.stage(&format!("{number}-{round}")).unwrap();
                        fs::write(staging.new_dir().unwrap().join("x"), "half").unwrap();
                    }
                });
            }
        });
        assert_eq!(fs::read_dir(home.path().join("staging")).unwrap().count(), 0);
    }

    #[test]
    fn a_directory_with_something_else_in_it_is_no_store() {
        let home = tempfile::tempdir().unwrap();
        fs::write(home.path().join("letters.txt"), "dear harbour").unwrap();
        assert!(matches!(Store::open(home.path()), Err(StoreError::Foreign(_))));
        assert!(home.path().join("letters.txt").exists());
    }
}
