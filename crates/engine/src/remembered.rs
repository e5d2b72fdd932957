//! Lists that are kept for a member beside their configuration: what projects may use outside, and which teams were
//! seen.
//!
//! A list is changed under a lock that every command takes for it, so that none loses what another one wrote.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

use rustix::fs::FlockOperation;
use serde::Serialize;
use serde::de::DeserializeOwned;

use cavrith_store::{atomic, reading};

use crate::error::{EngineError, ProjectError, file_error};
use crate::member;

/// One list, in TOML.
pub(crate) struct List {
    /// The file's name.
    pub name: &'static str,
    /// The first line of the file, for whoever opens it.
    pub head: &'static str,
}

impl List {
    /// Its file; nothing where there is no home to remember in.
    pub fn path(&self) -> Option<PathBuf> {
        Some(member::config_path()?.with_file_name(self.name))
    }

    /// What is remembered; nothing before the first time.
    ///
    /// # Errors
    /// When the file cannot be read as the list.
    pub fn read<T: DeserializeOwned + Default>(&self) -> Result<T, EngineError> {
        let Some(path) = self.path() else { return Ok(T::default()) };
        match reading::text(&path) {
            Ok(text) => toml::from_str(&text).map_err(|error| {
                EngineError::Project(ProjectError::Config { path, why: error.to_string().trim().to_owned() })
            }),
            Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => {
                Ok(T::default())
            }
            Err(error) => Err(file_error("read", &path)(error)),
        }
    }

    /// Changes what is remembered, when `change` says that it did. Without a home nothing is.
    ///
    /// # Errors
    /// When the list cannot be read or written, and whatever `change` says.
    pub fn change<T: DeserializeOwned + Serialize + Default>(
        &self,
        change: impl FnOnce(&mut T) -> Result<bool, EngineError>,
    ) -> Result<bool, EngineError> {
        let Some(path) = self.path() else { return change(&mut T::default()) };
        let above = path.parent().unwrap_or(&path);
        fs::create_dir_all(above).map_err(file_error("make", above))?;
        let _held = held(above)?;
        let mut all = self.read()?;
        let changed = change(&mut all)?;
        if changed {
            self.write(&path, &all)?;
        }
        Ok(changed)
    }

    fn write(&self, path: &Path, all: &impl Serialize) -> Result<(), EngineError> {
        let text = toml::to_string(all).map_err(|error| file_error("write", path)(io::Error::other(error)))?;
        Ok(atomic::write(path, format!("{}\n\n{text}", self.head).as_bytes())?)
    }
}

/// Waits for the lock of a folder's lists; it is given back with the file.
fn held(folder: &Path) -> Result<File, EngineError> {
    let open = File::open(folder).map_err(file_error("open", folder))?;
    rustix::fs::flock(&open, FlockOperation::LockExclusive)
        .map_err(|error| file_error("lock", folder)(error.into()))?;
    Ok(open)
}
