//! Writing a layer whose tree is known beforehand, as one that comes from somebody who has it.
//!
//! The tree is proved by its digest before anything is written, and every file by its digest while it is. So what
//! comes out is the layer, or nothing. Paths are those of the tree alone, in which an entry lies in directories only.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::fs::{self, File};
use std::io::Read;
use std::os::unix::fs::MetadataExt as _;
use std::path::PathBuf;

use rustix::fs::{CWD, FileType, Mode};

use cavrith_core::path::{RootPath, shown};
use cavrith_core::tree::{Entry, Kind, LinkGroup, Tree};

use crate::hashing::{self, CopyFault};
use crate::metadata::{Handle, MetadataWriter, set_time};
use crate::owners::{Owner, Ownership};
use crate::writer::{Refused, StagedLayer};
use crate::{StoreError, io_error, xattrs};

/// A layer of a known tree, under way.
#[derive(Debug)]
pub struct KnownLayer {
    dir: PathBuf,
    root: PathBuf,
    tree: Tree,
    creator: Owner,
    ownership: Ownership,
    /// Files that are not written yet.
    missing: BTreeSet<RootPath>,
}

impl KnownLayer {
    /// Begins the layer in an empty directory of staging, with everything but its files.
    ///
    /// # Errors
    /// When the tree has something that no layer of ours has, or the disk refuses.
    pub fn new(dir: PathBuf, tree: Tree, ownership: Ownership) -> Result<Self, StoreError> {
        for (path, entry) in &tree.entries {
            check(path, entry)?;
        }
        let root = dir.join("root");
        fs::create_dir(&root).map_err(io_error("make", &root))?;
        let made = fs::metadata(&root).map_err(io_error("read", &root))?;
        let mut first: HashSet<LinkGroup> = HashSet::new();
        let mut missing = BTreeSet::new();
        for (path, entry) in &tree.entries {
            let at = root.join(path.as_relative());
            match &entry.kind {
                Kind::Directory { .. } if path.is_root() => {}
                Kind::Directory { .. } => fs::create_dir(&at).map_err(io_error("make", &at))?,
                // One name of several is enough; the others are made at the end.
                Kind::File { links, .. } if links.is_none_or(|group| first.insert(group)) => {
                    missing.insert(path.clone());
                }
                _ => {}
            }
        }
        Ok(Self { dir, root, tree, creator: (made.uid(), made.gid()), ownership, missing })
    }

    /// The tree.
    pub fn tree(&self) -> &Tree {
        &self.tree
    }

    fn metadata(&self, time: u64) -> MetadataWriter {
        MetadataWriter { ownership: self.ownership, creator: self.creator, epoch: time }
    }

    /// Writes one file.
    ///
    /// # Errors
    /// When it is not the one that the tree has at that path, or the disk refuses.
    pub fn file(&mut self, path: &RootPath, content: &mut dyn Read) -> Result<(), StoreError> {
        let at = self.root.join(path.as_relative());
        let entry = self.tree.get(path).filter(|_| self.missing.contains(path));
        let Some(Entry { kind: Kind::File { size, content: expected, .. }, meta }) = entry else {
            return Err(Refused::Unexpected(path.to_string()).into());
        };
        let mut file = File::create_new(&at).map_err(io_error("make", &at))?;
        let (written, found) =
            hashing::content(&mut content.take(*size), Some(&mut file)).map_err(|fault| match fault {
                CopyFault::Read(error) => io_error("unpack", path.as_relative())(error),
                CopyFault::Write(error) => io_error("write", &at)(error),
            })?;
        if (written, &found) != (*size, expected) {
            return Err(Refused::OtherContent(path.to_string()).into());
        }
        self.metadata(meta.time).apply_metadata(&at, meta, Handle::File(&file))?;
        self.missing.remove(path);
        Ok(())
    }

    /// Completes the layer: links, pipes, marks, and the directories, the deepest first.
    ///
    /// # Errors
    /// When a file was not written, or the disk refuses.
    pub fn finish(self) -> Result<StagedLayer, StoreError> {
        if let Some(path) = self.missing.first() {
            return Err(Refused::OtherContent(path.to_string()).into());
        }
        let mut first: HashMap<LinkGroup, PathBuf> = HashMap::new();
        for (path, entry) in &self.tree.entries {
            let at = self.root.join(path.as_relative());
            let metadata = self.metadata(entry.meta.time);
            match &entry.kind {
                Kind::File { links: Some(group), .. } => match first.get(group) {
                    Some(there) => fs::hard_link(there, &at).map_err(io_error("link", &at))?,
                    None => drop(first.insert(*group, at)),
                },
                Kind::Symlink { target } => {
                    rustix::fs::symlink(target.as_slice(), &at).map_err(|error| io_error("make", &at)(error.into()))?;
                    metadata.apply_metadata(&at, &entry.meta, Handle::Link)?;
                }
                Kind::Fifo => {
                    rustix::fs::mknodat(CWD, &at, FileType::Fifo, Mode::from_raw_mode(0o600), 0)
                        .map_err(|error| io_error("make", &at)(error.into()))?;
                    metadata.apply_metadata(&at, &entry.meta, Handle::Path)?;
                }
                Kind::Whiteout => {
                    let nothing = rustix::fs::makedev(0, 0);
                    rustix::fs::mknodat(CWD, &at, FileType::CharacterDevice, Mode::empty(), nothing)
                        .or_else(|_| xattrs::make_gone(&at))
                        .map_err(io_error("mark as gone", &at))?;
                    set_time(&at, entry.meta.time)?;
                }
                Kind::Directory { opaque: true } => {
                    xattrs::make_opaque(&at).map_err(io_error("mark as opaque", &at))?;
                }
                _ => {}
            }
        }
        for (path, entry) in self.tree.entries.iter().rev().filter(|(_, entry)| entry.kind.is_directory()) {
            let at = self.root.join(path.as_relative());
            self.metadata(entry.meta.time).apply_metadata(&at, &entry.meta, Handle::Path)?;
        }
        Ok(StagedLayer::new(self.dir, self.tree))
    }
}

/// What no layer of ours has is refused, whoever says that it has.
fn check(path: &RootPath, entry: &Entry) -> Result<(), StoreError> {
    let refused = |refused: Refused| Err(refused.into());
    if let Some(id) = [entry.meta.uid, entry.meta.gid].into_iter().find(|id| *id > 65_535) {
        return refused(Refused::Owner(path.to_string(), id));
    }
    if let Some(name) = entry.meta.xattrs.keys().find(|name| !xattrs::is_kept(name)) {
        return refused(Refused::Attribute(path.to_string(), shown(name)));
    }
    match &entry.kind {
        Kind::CharDevice { .. } | Kind::BlockDevice { .. } => refused(Refused::Unexpected(path.to_string())),
        Kind::Symlink { target } if target.is_empty() || target.len() > 4095 || target.contains(&0) => {
            refused(Refused::Target(path.to_string()))
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Store;
    use cavrith_core::digest::ContentDigest;
    use cavrith_core::tree::Meta;
    use std::collections::BTreeMap;

    fn path(text: &str) -> RootPath {
        RootPath::from_plain(text.as_bytes()).unwrap()
    }

    fn sample() -> Tree {
        let own = fs::metadata("/proc/self").map(|meta| (meta.uid(), meta.gid())).unwrap();
        let meta = |mode, time| Meta { time, ..Meta::owned(mode, own.0, own.1) };
        let mut tree = Tree::with_root();
        tree.entries.get_mut(&RootPath::root()).unwrap().meta = meta(0o755, 7);
        let file = |text: &str, links| Kind::File {
            size: text.len() as u64,
            content: ContentDigest::of(text.as_bytes()),
            links,
        };
        for (at, kind, meta) in [
            ("srv", Kind::Directory { opaque: true }, meta(0o700, 9)),
            ("srv/gone", Kind::Whiteout, Meta::default()),
            ("srv/one", file("tide", Some(LinkGroup(1))), meta(0o640, 11)),
            ("srv/other", file("tide", Some(LinkGroup(1))), meta(0o640, 11)),
            ("srv/link", Kind::Symlink { target: b"one".to_vec() }, meta(0o777, 12)),
            ("srv/pipe", Kind::Fifo, meta(0o600, 13)),
        ] {
            tree.entries.insert(path(at), Entry { kind, meta });
        }
        tree
    }

    #[test]
    fn what_is_written_is_what_was_known_and_nothing_else_is_taken() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("store")).unwrap();
        let staging = store.stage("test").unwrap();
        let begin = || KnownLayer::new(staging.new_dir().unwrap(), sample(), Ownership::Real).unwrap();
        let mut layer = begin();
        layer.file(&path("srv/one"), &mut b"tide".as_slice()).unwrap();
        let (digest, _) = store.keep(layer.finish().unwrap(), false).unwrap();
        assert_eq!(digest, sample().digest());
        let measured = store.measure(&digest, &sample()).unwrap();
        assert_eq!(
            measured.tree.digest(),
            digest,
            "{:?}",
            cavrith_core::tree::diff::changes(&sample(), &measured.tree)
        );

        for (at, text) in [("srv/one", "tidy"), ("srv/one", "tid"), ("srv/new", "x"), ("srv/link", "x"), ("srv", "x")] {
            let error = begin().file(&path(at), &mut text.as_bytes()).unwrap_err();
            assert!(matches!(error, StoreError::Refused(_)), "{at}: {error}");
        }
        assert!(begin().finish().is_err());
        for (kind, meta) in [
            (Kind::CharDevice { major: 1, minor: 3 }, Meta::default()),
            (Kind::Fifo, Meta::owned(0o600, 70_000, 0)),
            (Kind::Symlink { target: Vec::new() }, Meta::default()),
            (Kind::Fifo, Meta { xattrs: BTreeMap::from([(b"trusted.x".to_vec(), vec![])]), ..Meta::default() }),
        ] {
            let mut tree = sample();
            tree.entries.insert(path("srv/zero"), Entry { kind, meta });
            assert!(KnownLayer::new(staging.new_dir().unwrap(), tree, Ownership::Real).is_err());
        }
    }
}
