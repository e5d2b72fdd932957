//! A synced folder: two copies of the same files, one of them inside, which are brought together again and again.
//!
//! What both copies had when they agreed last is the *base*. A path that one side has otherwise than the base was
//! changed there and is carried to the other side; a path that both sides changed is a conflict, and stays as it is on
//! both until they are alike or the member says which one counts. A change beats a removal. [`plan`](plan::plan) says
//! what is to be done, [`Rules`] which paths cross at all, [`wire`] how the two ends talk about it.

pub mod plan;
mod rules;
pub mod wire;

use std::collections::BTreeMap;

use crate::digest::ContentDigest;
use crate::path::RootPath;

pub use rules::{BadRule, Rules, TEMPORARY};

/// What lies where on one side, or lay there. The folder itself is not in it.
pub type Entries = BTreeMap<RootPath, Entry>;

/// One file, directory or link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// What it is.
    pub what: What,
    /// Its rights: read, write and execute for three classes. The owner may always use a directory.
    pub mode: u16,
    /// When it was written, in nanoseconds since 1970; 0 for directories, whose times nobody carries over.
    pub modified: i64,
}

/// What an entry is. Anything else (sockets, named pipes, devices) does not cross.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum What {
    /// A directory.
    Directory,
    /// A file.
    File {
        /// Its length in bytes.
        size: u64,
        /// The digest of its bytes.
        content: ContentDigest,
    },
    /// A symbolic link.
    Link {
        /// What it says, as it stands there.
        target: Vec<u8>,
    },
}

impl What {
    /// True for directories.
    pub fn is_directory(&self) -> bool {
        matches!(self, Self::Directory)
    }

    /// A word for people.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Directory => "a directory",
            Self::File { .. } => "a file",
            Self::Link { .. } => "a link",
        }
    }
}

impl Entry {
    /// Whether two are alike in what counts; times may differ.
    pub fn is_like(&self, other: &Self) -> bool {
        // Rights of a link mean nothing.
        self.what == other.what && (self.mode == other.mode || matches!(self.what, What::Link { .. }))
    }
}

/// Everything at a path and below it, in order.
pub fn subtree<'a, T>(
    entries: &'a BTreeMap<RootPath, T>,
    top: &'a RootPath,
) -> impl Iterator<Item = (&'a RootPath, &'a T)> {
    entries.range(top.clone()..).take_while(move |(path, _)| path.lies_in(top))
}

/// Takes a path out with everything below it.
pub fn remove(entries: &mut Entries, top: &RootPath) {
    let gone: Vec<_> = subtree(entries, top).map(|(path, _)| path.clone()).collect();
    gone.iter().for_each(|path| drop(entries.remove(path)));
}

/// Sets what lies at a path. Below anything but a directory there is nothing.
pub fn set(entries: &mut Entries, path: RootPath, entry: Option<Entry>) {
    if !entry.as_ref().is_some_and(|entry| entry.what.is_directory()) {
        remove(entries, &path);
    }
    if let Some(entry) = entry {
        entries.insert(path, entry);
    }
}
