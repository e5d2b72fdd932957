//! What a keeper makes outside the inside, recorded so that its janitor removes it when the keeper is killed.

use std::fs;
use std::path::{Path, PathBuf};

use cavrith_sandbox::groups;
use cavrith_store::staging;

use crate::network;

/// In the workspace's directory, with the keeper's number after it: what its janitor has to remove. It does not lie in
/// the keeper's staging, which any other command sweeps away once the keeper is dead.
const NAME: &str = "leavings-";

/// Removes what a keeper left, as its janitor; see [`cavrith_sandbox::janitor::watch`]. `file` is the list of it.
pub(crate) fn clear_away(file: &Path) -> bool {
    let cleanup = fs::read_to_string(file).unwrap_or_default();
    let (mut dirs, mut clean) = (Vec::new(), true);
    for line in cleanup.lines() {
        match line.split_once(' ') {
            Some(("group", dir)) => dirs.push(PathBuf::from(dir)),
            Some(("table", table)) => network::remove_table(table),
            Some(("staging", dir)) => clean &= staging::remove_run(Path::new(dir)),
            _ => {}
        }
    }
    clean &= groups::remove(&dirs);
    if clean {
        // It may have gone with the workspace.
        let _ = fs::remove_file(file);
    }
    clean
}

/// Removes what keepers of this workspace left whose janitors were killed with them.
pub(crate) fn clear_earlier(dir: &Path) {
    for entry in fs::read_dir(dir).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let Some(number) = name.strip_prefix(NAME) else { continue };
        // While its keeper's number is in use, by whomever, it is left for later.
        if !Path::new("/proc").join(number).exists() {
            clear_away(&entry.path());
        }
    }
}

/// Notes what has to be removed even when the keeper is killed.
#[derive(Debug, Clone)]
pub(crate) struct CleanupList {
    /// The list.
    pub path: PathBuf,
}

impl CleanupList {
    /// Of the keeper that this process is.
    pub fn new(dir: &Path) -> Self {
        Self { path: dir.join(format!("{NAME}{}", std::process::id())) }
    }

    /// Adds a line, before what it names is made.
    pub fn note(&self, line: &str) {
        let file = fs::File::options().append(true).create(true).open(&self.path);
        // What cannot be noted is still removed by a keeper that ends in order.
        let _ = file.and_then(|mut file| std::io::Write::write_all(&mut file, format!("{line}\n").as_bytes()));
    }
}
