//! The bytes of a tree: what is digested and what the store keeps as a layer's manifest.
//!
//! Layout, in the terms of [`crate::encode`]: the line `cavrith tree 2`; the number of entries; then, in the order of
//! paths, for each entry its path, its kind as one byte, mode, uid, gid, time, what its kind adds, and its extended
//! attributes. Kinds are 1 directory, 2 opaque directory, 3 file, 4 symbolic link, 5 named pipe, 6 character device, 7
//! block device, 8 whiteout. A file adds its size, its digest, and its hard-link group: 0 when it has no other name in
//! this tree, else 1 + the position in this list of the group's first entry.

use std::collections::HashMap;

use super::{Entry, Kind, LinkGroup, Meta, Tree};
use crate::digest::ContentDigest;
use crate::encode::Encoder;
use crate::path::RootPath;

const TITLE: &str = "cavrith tree 2";

/// Bytes that are no tree.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("not a list of entries that Cavrith wrote: {0}")]
pub struct BadTree(&'static str);

/// The canonical encoding.
pub fn encode(tree: &Tree) -> Vec<u8> {
    let groups = first_members(tree);
    let mut encoder = Encoder::new(TITLE);
    encoder.count(tree.entries.len());
    for (path, entry) in &tree.entries {
        encoder.bytes(path.as_bytes()).u8(kind_number(&entry.kind));
        encoder.u16(entry.meta.mode).u32(entry.meta.uid).u32(entry.meta.gid).u64(entry.meta.time);
        match &entry.kind {
            Kind::File { size, content, links } => {
                let group = links.and_then(|group| groups.get(&group)).map_or(0, |first| first + 1);
                encoder.u64(*size).fixed(content.as_bytes()).u32(group);
            }
            Kind::Symlink { target } => {
                encoder.bytes(target);
            }
            Kind::CharDevice { major, minor } | Kind::BlockDevice { major, minor } => {
                encoder.u32(*major).u32(*minor);
            }
            Kind::Directory { .. } | Kind::Fifo | Kind::Whiteout => {}
        }
        encoder.count(entry.meta.xattrs.len());
        for (name, value) in &entry.meta.xattrs {
            encoder.bytes(name).bytes(value);
        }
    }
    encoder.into_bytes()
}

/// For each group that has at least two members, the position of its first entry.
fn first_members(tree: &Tree) -> HashMap<LinkGroup, u32> {
    let mut seen: HashMap<LinkGroup, (u32, bool)> = HashMap::new();
    for (position, entry) in (0u32..).zip(tree.entries.values()) {
        if let Kind::File { links: Some(group), .. } = entry.kind {
            seen.entry(group).and_modify(|(_, several)| *several = true).or_insert((position, false));
        }
    }
    seen.into_iter().filter(|(_, (_, several))| *several).map(|(group, (first, _))| (group, first)).collect()
}

fn kind_number(kind: &Kind) -> u8 {
    match kind {
        Kind::Directory { opaque: false } => 1,
        Kind::Directory { opaque: true } => 2,
        Kind::File { .. } => 3,
        Kind::Symlink { .. } => 4,
        Kind::Fifo => 5,
        Kind::CharDevice { .. } => 6,
        Kind::BlockDevice { .. } => 7,
        Kind::Whiteout => 8,
    }
}

/// Reads an encoding back.
///
/// # Errors
/// On bytes that [`encode`] would not have written: wrong title, truncated, unsorted, without parents, with a link
/// group that points nowhere, with something after the end.
pub fn decode(bytes: &[u8]) -> Result<Tree, BadTree> {
    let mut reader = Reader::new(bytes, TITLE)?;
    let count = reader.u32()?;
    let mut tree = Tree::default();
    let mut files = HashMap::new();
    for position in 0..count {
        let path = RootPath::from_plain(reader.bytes()?).map_err(|_| BadTree("a path is not plain"))?;
        let entry = reader.entry(position, &mut files)?;
        match tree.entries.last_key_value() {
            None if !path.is_root() => return Err(BadTree("the root is missing")),
            Some((last, _)) if *last >= path => return Err(BadTree("the paths are not sorted")),
            _ => {}
        }
        let parent = path.parent().map(|parent| tree.get(&parent).is_some_and(|entry| entry.kind.is_directory()));
        if parent == Some(false) {
            return Err(BadTree("an entry lies in no directory"));
        }
        tree.entries.insert(path, entry);
    }
    if files.values().any(|file: &LinkedFile| file.names == 1) {
        return Err(BadTree("a hard link has one name only"));
    }
    reader.end()?;
    Ok(tree)
}

/// A file with several names.
struct LinkedFile {
    size: u64,
    content: ContentDigest,
    meta: Meta,
    names: usize,
}

/// Reads what an [`Encoder`] wrote.
#[derive(Debug)]
pub struct Reader<'a> {
    rest: &'a [u8],
}

impl<'a> Reader<'a> {
    /// Reads bytes that begin with the line `title`.
    ///
    /// # Errors
    /// When they do not.
    pub fn new(bytes: &'a [u8], title: &str) -> Result<Self, BadTree> {
        let mut reader = Self { rest: bytes };
        if reader.take(title.len() + 1)? != format!("{title}\n").as_bytes() {
            return Err(BadTree("it does not begin with its title"));
        }
        Ok(reader)
    }

    /// Reads bytes without a title, of [`Encoder::plain`].
    pub fn plain(bytes: &'a [u8]) -> Self {
        Self { rest: bytes }
    }

    /// An error when something is left to be read.
    ///
    /// # Errors
    /// When something is.
    pub fn end(&self) -> Result<(), BadTree> {
        if self.rest.is_empty() { Ok(()) } else { Err(BadTree("something follows its end")) }
    }

    fn take(&mut self, count: usize) -> Result<&'a [u8], BadTree> {
        let (taken, rest) = self.rest.split_at_checked(count).ok_or(BadTree("it ends too early"))?;
        self.rest = rest;
        Ok(taken)
    }

    /// Bytes of a known length.
    ///
    /// # Errors
    /// At the end.
    pub fn fixed<const N: usize>(&mut self) -> Result<[u8; N], BadTree> {
        let mut array = [0; N];
        array.copy_from_slice(self.take(N)?);
        Ok(array)
    }

    /// One byte.
    ///
    /// # Errors
    /// At the end.
    pub fn u8(&mut self) -> Result<u8, BadTree> {
        Ok(self.fixed::<1>()?[0])
    }

    /// 16 bits.
    ///
    /// # Errors
    /// At the end.
    pub fn u16(&mut self) -> Result<u16, BadTree> {
        self.fixed().map(u16::from_le_bytes)
    }

    /// 32 bits.
    ///
    /// # Errors
    /// At the end.
    pub fn u32(&mut self) -> Result<u32, BadTree> {
        self.fixed().map(u32::from_le_bytes)
    }

    /// 64 bits.
    ///
    /// # Errors
    /// At the end.
    pub fn u64(&mut self) -> Result<u64, BadTree> {
        self.fixed().map(u64::from_le_bytes)
    }

    /// Bytes with their length in front.
    ///
    /// # Errors
    /// At the end.
    pub fn bytes(&mut self) -> Result<&'a [u8], BadTree> {
        let length = self.u32()?;
        self.take(length as usize)
    }

    fn entry(&mut self, position: u32, files: &mut HashMap<u32, LinkedFile>) -> Result<Entry, BadTree> {
        let number = self.u8()?;
        let mut meta = Meta::owned(self.u16()?, self.u32()?, self.u32()?);
        meta.time = self.u64()?;
        if meta.mode > 0o7777 {
            return Err(BadTree("a mode has more than 12 bits"));
        }
        let mut kind = match number {
            1 | 2 => Kind::Directory { opaque: number == 2 },
            3 => {
                let (size, content) = (self.u64()?, ContentDigest::from_bytes(self.fixed()?));
                let group = self.u32()?;
                Kind::File { size, content, links: (group > 0).then(|| LinkGroup(u64::from(group))) }
            }
            4 => Kind::Symlink { target: self.bytes()?.to_vec() },
            5 => Kind::Fifo,
            6 => Kind::CharDevice { major: self.u32()?, minor: self.u32()? },
            7 => Kind::BlockDevice { major: self.u32()?, minor: self.u32()? },
            8 => Kind::Whiteout,
            _ => return Err(BadTree("an entry has an unknown kind")),
        };
        for _ in 0..self.u32()? {
            let (name, value) = (self.bytes()?.to_vec(), self.bytes()?.to_vec());
            if meta.xattrs.last_key_value().is_some_and(|(last, _)| *last >= name) {
                return Err(BadTree("extended attributes are not sorted"));
            }
            meta.xattrs.insert(name, value);
        }
        if let Kind::File { size, content, links: Some(group) } = &mut kind {
            let first = (group.0 - 1) as u32;
            // The first member names itself, so every later one finds it here.
            if first == position {
                files.insert(first, LinkedFile { size: *size, content: *content, meta: meta.clone(), names: 1 });
            } else {
                let same = |file: &&mut LinkedFile| (file.size, file.content, &file.meta) == (*size, *content, &meta);
                let file = files.get_mut(&first).filter(same);
                file.ok_or(BadTree("a hard link points to another file"))?.names += 1;
            }
        }
        Ok(Entry { kind, meta })
    }
}

#[cfg(test)]
mod tests {
    use super::super::testing::{any_tree, directory, file, path, tree};
    use super::*;
    use proptest::prelude::*;

    fn linked(text: &str, group: u64) -> Entry {
        let Kind::File { size, content, .. } = file(text).kind else { unreachable!() };
        Entry { kind: Kind::File { size, content, links: Some(LinkGroup(group)) }, meta: Meta::root(0o644) }
    }

    /// The vectors of `docs/fingerprint.md`.
    #[test]
    fn the_documented_test_vectors_hold() {
        let empty = Tree::with_root();
        insta::assert_snapshot!(empty.digest(), @"c47eac009de7f7e127e26332d9833585b6e898bc2f378d05203bd680b69e898e");
        insta::assert_snapshot!(empty.image_fingerprint(), @"7ac75e4ee22f75418c9a53119cc8f8219a235e2896e82a09375a20345a55a381");
        let mut xattrs = file("low tide 06:10\n");
        xattrs.meta = Meta::owned(0o4755, 1000, 1000);
        xattrs.meta.xattrs.insert(b"user.origin".to_vec(), b"harbour".to_vec());
        let mut harbour = tree([
            ("srv/tides", xattrs),
            ("srv/a", linked("one", 5)),
            ("srv/b", linked("one", 5)),
            ("srv/today", Entry { kind: Kind::Symlink { target: b"tides".to_vec() }, meta: Meta::root(0o777) }),
            ("srv/bell", Entry { kind: Kind::Fifo, meta: Meta::root(0o600) }),
        ]);
        harbour.stamp(1_700_000_000);
        for later in ["srv", "srv/tides"] {
            harbour.entries.get_mut(&path(later)).unwrap().meta.time += 1;
        }
        assert_eq!(encode(&harbour).len(), 414);
        insta::assert_snapshot!(harbour.digest(), @"ecae37c25550a38dcb50870f3e20f6f7536ac6264b6683a08da04cdc71f8ce86");
        insta::assert_snapshot!(harbour.image_fingerprint(), @"260545cd44ebc5cc732844c04f9e280ab9d02dee79659363f7bbb481310bd24a");
        insta::assert_snapshot!(harbour.image_fingerprint().spoken(), @"fimaj-hilat-higor-silas");
    }

    #[test]
    fn a_lone_member_of_a_link_group_counts_as_a_plain_file() {
        let alone = tree([("a", linked("x", 9))]);
        assert_eq!(alone.digest(), tree([("a", file("x"))]).digest());
    }

    #[test]
    fn the_numbers_of_link_groups_do_not_matter() {
        let one = tree([("a", linked("x", 1)), ("b", linked("x", 1))]);
        let two = tree([("a", linked("x", 77)), ("b", linked("x", 77))]);
        assert_eq!(one.digest(), two.digest());
        assert_ne!(one.digest(), tree([("a", file("x")), ("b", file("x"))]).digest());
    }

    #[test]
    fn a_hard_link_with_one_name_is_refused() {
        // `encode` writes no group for it, so the group is put in by hand: 1 + the position of the entry itself.
        let mut bytes = encode(&tree([("a", file("x"))]));
        let at = bytes.len() - 8;
        bytes[at..at + 4].copy_from_slice(&2u32.to_le_bytes());
        assert_eq!(decode(&bytes), Err(BadTree("a hard link has one name only")));
    }

    #[test]
    fn entries_out_of_order_or_without_parent_are_refused() {
        let mut orphan = tree([("a", directory()), ("a/b", file("x"))]);
        orphan.entries.remove(&path("a"));
        assert_eq!(decode(&encode(&orphan)), Err(BadTree("an entry lies in no directory")));
        let mut rootless = tree([("a", file("x"))]);
        rootless.entries.remove(&RootPath::root());
        assert_eq!(decode(&encode(&rootless)), Err(BadTree("the root is missing")));
    }

    proptest! {
        #[test]
        fn a_tree_survives_the_round_trip(tree in any_tree(true)) {
            let bytes = encode(&tree);
            prop_assert_eq!(encode(&decode(&bytes).unwrap()), bytes);
        }

        #[test]
        fn a_damaged_encoding_never_passes_for_the_same_tree(tree in any_tree(true), at in any::<prop::sample::Index>(), bit in 0..8) {
            let mut bytes = encode(&tree);
            let at = at.index(bytes.len());
            bytes[at] ^= 1u8 << bit;
            if let Ok(other) = decode(&bytes) {
                prop_assert_ne!(other.digest(), tree.digest());
            }
        }

        #[test]
        fn any_bytes_are_answered(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let mut framed = format!("{TITLE}\n").into_bytes();
            framed.extend(&bytes);
            let _ = decode(&framed);
            prop_assert!(decode(&bytes).is_err());
        }
    }
}
