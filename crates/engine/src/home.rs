//! Where Cavrith keeps what it keeps on this machine.

use std::env;
use std::path::{Path, PathBuf};

/// Directories of this machine's user.
#[derive(Debug, Clone)]
pub struct Home {
    root: PathBuf,
}

impl Home {
    /// `CAVRITH_HOME`, else `cavrith` in the data directory of the XDG Base Directory Specification. `None` when the
    /// environment names neither a directory of ours nor a home.
    pub fn find() -> Option<Self> {
        let set = |name: &str| env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
        let root = match set("CAVRITH_HOME") {
            Some(own) => own,
            // The specification says to ignore paths that are not absolute.
            None => match set("XDG_DATA_HOME").filter(|path| path.is_absolute()) {
                Some(data) => data.join("cavrith"),
                None => set("HOME")?.join(".local/share/cavrith"),
            },
        };
        Some(Self::at(&root))
    }

    /// A given directory.
    pub fn at(root: &Path) -> Self {
        // Without links, as far as it is there: what is mounted from here is found without following any.
        let root = std::path::absolute(root).unwrap_or_else(|_| root.to_owned());
        let there = root.ancestors().find_map(|above| Some((above, above.canonicalize().ok()?)));
        let real = there.map(|(above, real)| match root.strip_prefix(above) {
            Ok(rest) if !rest.as_os_str().is_empty() => real.join(rest),
            _ => real,
        });
        Self { root: real.unwrap_or(root) }
    }

    /// The directory that all of it lies in.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// The store of layers.
    pub fn store(&self) -> PathBuf {
        self.root.join("store")
    }

    /// Kept folders, by workspace.
    pub fn kept(&self) -> PathBuf {
        self.root.join("kept")
    }

    /// What was made by hand in workspaces and would have been removed.
    pub fn backups(&self) -> PathBuf {
        self.root.join("backups")
    }

    /// What belongs to the workspaces of single projects.
    pub fn workspaces(&self) -> PathBuf {
        self.root.join("workspaces")
    }
}
