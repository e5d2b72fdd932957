//! What the disk says of a layer without its files being read: sizes, owners, rights, and when each changed.
//!
//! A change time cannot be set (inode(7)), so whoever changes a file leaves a mark in it, unless they set the clock of
//! the machine or write to the disk itself. It is worth less than reading, and says so wherever it is used.

use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use cavrith_core::digest::{ContentDigest, TreeDigest};

use crate::{Store, StoreError, atomic, io_error};

/// How a layer looked when it was last read whole and found to be as it was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stamped {
    /// Digest of what the disk said.
    pub stamp: ContentDigest,
    /// When, in milliseconds since 1970.
    pub read_at: u64,
}

impl Store {
    fn stamped_path(&self, layer: &TreeDigest) -> PathBuf {
        // Beside the layer, so that it goes with it.
        self.root().join("layers").join(layer.to_string()).join("stamped")
    }

    /// What the disk says of a layer now.
    ///
    /// # Errors
    /// When it cannot be walked through.
    pub fn stamp(&self, layer: &TreeDigest) -> Result<ContentDigest, StoreError> {
        let root = self.layer_root(layer);
        let mut hasher = blake3::Hasher::new();
        // Its list lies beside it.
        let list = root.with_file_name("tree");
        let meta = list.symlink_metadata().map_err(io_error("look at", &list))?;
        take_in(&meta, &mut hasher);
        walk(&root, &mut Vec::new(), &mut hasher).map_err(io_error("look through", &root))?;
        Ok(ContentDigest::from_bytes(*hasher.finalize().as_bytes()))
    }

    /// How a layer looked when it was last read whole, if it was.
    pub fn stamped(&self, layer: &TreeDigest) -> Option<Stamped> {
        let text = crate::reading::text(&self.stamped_path(layer)).ok()?;
        let (json, sum) = text.trim_end().rsplit_once('\n')?;
        let whole = blake3::hash(json.as_bytes()).to_hex().as_str() == sum;
        whole.then(|| serde_json::from_str(json).ok()).flatten()
    }

    /// Remembers how a layer looked that was read whole.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn remember_stamp(&self, layer: &TreeDigest, stamped: &Stamped) -> Result<(), StoreError> {
        let json = serde_json::to_string(stamped).unwrap_or_default();
        let text = format!("{json}\n{}\n", blake3::hash(json.as_bytes()).to_hex());
        atomic::write(&self.stamped_path(layer), text.as_bytes())
    }
}

fn take_in(meta: &fs::Metadata, hasher: &mut blake3::Hasher) {
    let owner = u64::from(meta.uid()) << 32 | u64::from(meta.gid());
    for number in [u64::from(meta.mode()), owner, meta.size(), meta.ino()] {
        hasher.update(&number.to_le_bytes());
    }
    for number in [meta.mtime(), meta.mtime_nsec(), meta.ctime(), meta.ctime_nsec()] {
        hasher.update(&number.to_le_bytes());
    }
}

/// Takes in every entry beneath a directory, in the order of names.
fn walk(dir: &Path, path: &mut Vec<u8>, hasher: &mut blake3::Hasher) -> io::Result<()> {
    let mut entries: Vec<_> = fs::read_dir(dir)?.collect::<Result<_, _>>()?;
    entries.sort_by_key(fs::DirEntry::file_name);
    for entry in entries {
        let meta = entry.metadata()?;
        let length = path.len();
        path.push(b'/');
        path.extend_from_slice(entry.file_name().as_bytes());
        hasher.update(path);
        hasher.update(&[0]);
        take_in(&meta, hasher);
        if meta.is_dir() {
            walk(&entry.path(), path, hasher)?;
        }
        path.truncate(length);
    }
    Ok(())
}
