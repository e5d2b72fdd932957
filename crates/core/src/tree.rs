//! A root filesystem, or one layer of it, as a canonical list of entries.
//!
//! A [`Tree`] holds no file contents, only their digests; it is what fingerprints are computed from, what is merged
//! ([`merge`]) and compared ([`diff`]). Its encoding ([`encoding`]) is also the manifest that the store keeps beside
//! each layer, so a manifest proves itself: its BLAKE3 is the layer's [`TreeDigest`].

pub mod diff;
pub mod encoding;
pub mod merge;
mod resolve;

use std::collections::BTreeMap;

use crate::digest::{ContentDigest, ImageFingerprint, TreeDigest};
use crate::encode::Encoder;
use crate::path::RootPath;

/// Entries of one root or layer, sorted by path.
///
/// Invariants that [`encoding::decode`] checks on foreign bytes and that every maker keeps: the parent of each entry is
/// a directory of the same tree, and the members of one hard-link group have everything in common but the path.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Tree {
    /// What lies where. The root itself has the empty path.
    pub entries: BTreeMap<RootPath, Entry>,
}

/// One entry of a tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// What it is.
    pub kind: Kind,
    /// Whose it is and who may do what.
    pub meta: Meta,
}

/// Ownership and rights of an entry.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Meta {
    /// The 12 permission bits (set-uid, set-gid, sticky, and read, write, execute for three classes).
    pub mode: u16,
    /// Owner inside.
    pub uid: u32,
    /// Group inside.
    pub gid: u32,
    /// When its content was written, in seconds since 1970: the time stamp of the layer that brought it. A deletion has
    /// none.
    pub time: u64,
    /// Extended attributes, by name. Attributes of overlayfs itself never appear here.
    pub xattrs: BTreeMap<Vec<u8>, Vec<u8>>,
}

impl Meta {
    /// An entry of the root user with these permission bits and no extended attributes.
    pub fn root(mode: u16) -> Self {
        Self { mode, ..Self::default() }
    }

    /// An entry with these permission bits, owner and group, and no extended attributes.
    pub fn owned(mode: u16, uid: u32, gid: u32) -> Self {
        Self { mode, uid, gid, ..Self::default() }
    }
}

/// Which entries are one file. Numbers mean something within one tree only.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct LinkGroup(pub u64);

/// What an entry is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kind {
    /// A directory. An opaque one, in a layer, hides everything that lower layers have at its path.
    Directory {
        /// Hides what lies under it; only in layers.
        opaque: bool,
    },
    /// A regular file.
    File {
        /// Length in bytes.
        size: u64,
        /// Digest of its bytes.
        content: ContentDigest,
        /// Names it shares, if it has several.
        links: Option<LinkGroup>,
    },
    /// A symbolic link with its target as written.
    Symlink {
        /// The target's bytes.
        target: Vec<u8>,
    },
    /// A named pipe.
    Fifo,
    /// A character device with its numbers.
    CharDevice {
        /// Major number.
        major: u32,
        /// Minor number.
        minor: u32,
    },
    /// A block device with its numbers.
    BlockDevice {
        /// Major number.
        major: u32,
        /// Minor number.
        minor: u32,
    },
    /// A deletion: what lower layers have at this path is gone. Only in layers.
    Whiteout,
}

impl Kind {
    /// A plain directory.
    pub const DIRECTORY: Self = Self::Directory { opaque: false };

    /// A word for people.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Directory { .. } => "directory",
            Self::File { .. } => "file",
            Self::Symlink { .. } => "link",
            Self::Fifo => "named pipe",
            Self::CharDevice { .. } => "character device",
            Self::BlockDevice { .. } => "block device",
            Self::Whiteout => "deletion",
        }
    }

    /// True for directories.
    pub fn is_directory(&self) -> bool {
        matches!(self, Self::Directory { .. })
    }
}

impl Tree {
    /// A tree that has its root directory and nothing in it.
    pub fn with_root() -> Self {
        let root = Entry { kind: Kind::DIRECTORY, meta: Meta::root(0o755) };
        Self { entries: BTreeMap::from([(RootPath::root(), root)]) }
    }

    /// The entry at a path.
    pub fn get(&self, path: &RootPath) -> Option<&Entry> {
        self.entries.get(path)
    }

    /// Everything under `top`, itself first when it is there.
    pub fn under<'a>(&'a self, top: &'a RootPath) -> impl Iterator<Item = (&'a RootPath, &'a Entry)> {
        self.entries.range(top.clone()..).take_while(move |(path, _)| path.lies_in(top))
    }

    /// Adds the directories above `path` that are not there, owned by root and open to read.
    pub fn ensure_parents(&mut self, path: &RootPath) {
        for above in path.ancestors() {
            self.entries.entry(above).or_insert_with(|| Entry { kind: Kind::DIRECTORY, meta: Meta::root(0o755) });
        }
    }

    /// Bytes of all files together, each hard-link group once.
    pub fn content_bytes(&self) -> u64 {
        let mut seen = std::collections::HashSet::new();
        let sizes = self.entries.values().map(|entry| match entry.kind {
            Kind::File { size, links, .. } if links.is_none_or(|group| seen.insert(group)) => size,
            _ => 0,
        });
        sizes.sum()
    }

    /// Gives every entry this time stamp.
    pub fn stamp(&mut self, time: u64) {
        let stamped = self.entries.values_mut().filter(|entry| entry.kind != Kind::Whiteout);
        stamped.for_each(|entry| entry.meta.time = time);
    }

    /// BLAKE3 of the encoding.
    pub fn digest(&self) -> TreeDigest {
        TreeDigest::from_bytes(*blake3::hash(&encoding::encode(self)).as_bytes())
    }

    /// Identity of an image whose merged tree this is.
    pub fn image_fingerprint(&self) -> ImageFingerprint {
        let mut encoder = Encoder::new("cavrith image 2");
        encoder.fixed(self.digest().as_bytes());
        ImageFingerprint::from_bytes(encoder.digest())
    }
}

#[cfg(test)]
pub(crate) mod testing {
    //! Small trees for the tests of this module's children.

    use super::*;
    use proptest::prelude::*;

    pub(crate) fn path(text: &str) -> RootPath {
        RootPath::from_archive(text.as_bytes()).unwrap()
    }

    pub(crate) fn file(text: &str) -> Entry {
        let content = ContentDigest::of(text.as_bytes());
        Entry { kind: Kind::File { size: text.len() as u64, content, links: None }, meta: Meta::root(0o644) }
    }

    pub(crate) fn directory() -> Entry {
        Entry { kind: Kind::DIRECTORY, meta: Meta::root(0o755) }
    }

    pub(crate) fn tree<const N: usize>(entries: [(&str, Entry); N]) -> Tree {
        let mut tree = Tree::with_root();
        for (at, entry) in entries {
            tree.ensure_parents(&path(at));
            tree.entries.insert(path(at), entry);
        }
        tree
    }

    /// Trees of a few entries over few names, so that layers meet often.
    pub(crate) fn any_tree(layer: bool) -> impl Strategy<Value = Tree> {
        let kind = prop_oneof![
            3 => "[xyz]{0,2}".prop_map(|text| file(&text)),
            1 => "[xyz]{0,2}".prop_map(|text| {
                let Entry { kind: Kind::File { size, content, .. }, meta } = file(&text) else { unreachable!() };
                Entry { kind: Kind::File { size, content, links: Some(LinkGroup(size)) }, meta }
            }),
            2 => any::<bool>().prop_map(move |opaque| Entry {
                kind: Kind::Directory { opaque: opaque && layer },
                meta: Meta::owned(0o750, 7, 8),
            }),
            1 => Just(Entry { kind: Kind::Symlink { target: b"x".to_vec() }, meta: Meta::root(0o777) }),
            1 => Just(if layer {
                Entry { kind: Kind::Whiteout, meta: Meta::default() }
            } else {
                Entry { kind: Kind::Fifo, meta: Meta::root(0o600) }
            }),
        ];
        proptest::collection::vec(("[abc](/[abc]){0,2}", kind), 0..12).prop_map(|entries| {
            let mut tree = Tree::with_root();
            let mut contents = std::collections::HashMap::new();
            for (at, mut entry) in entries {
                let at = path(&at);
                // Members of one group are one file: the first one decides what it holds.
                if let Kind::File { size, content, links: Some(group) } = &mut entry.kind {
                    *content = *contents.entry(*group).or_insert(*content);
                    *size = group.0;
                }
                let blocked =
                    at.ancestors().iter().any(|above| tree.get(above).is_some_and(|entry| !entry.kind.is_directory()));
                if blocked || tree.entries.contains_key(&at) {
                    continue;
                }
                tree.ensure_parents(&at);
                tree.entries.insert(at, entry);
            }
            tree
        })
    }
}
