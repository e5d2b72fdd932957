//! The listing, `cavrith.listing`: every entry of every layer of a sealed image, beside the lock.
//!
//! The seal holds one digest for each layer, which says that a member's layer came out differently but not where. The
//! listing says where. It proves nothing by itself: the seal holds its digest, and the layers' digests decide. So the
//! digests of files in it are cut to eight bytes, enough to tell two files apart that nobody made alike on purpose,
//! and small enough for a file that is committed.
//!
//! Layout, in the terms of [`crate::encode`]: the line `cavrith listing 1`; the number of layers; for each its name and
//! the encoding of its tree ([`crate::tree::encoding`]) in which each file's digest is followed by zeros after its
//! eighth byte. What is on the disk is this, compressed with Zstandard (RFC 8878).

use crate::digest::ContentDigest;
use crate::encode::Encoder;
use crate::tree::encoding::{self, BadTree, Reader};
use crate::tree::{Kind, Tree};

/// Its name, beside the spec.
pub const FILE_NAME: &str = "cavrith.listing";
/// Bytes that a listing may have, before it is compressed.
pub const LONGEST: u64 = 512 << 20;

const TITLE: &str = "cavrith listing 1";
/// Bytes of a file's digest that are kept.
const KEPT: usize = 8;

/// The trees of a sealed image's layers, with files' digests cut short.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listing {
    layers: Vec<(String, Tree)>,
}

impl Listing {
    /// The listing of layers, each with its name, the lowest first.
    pub fn new(layers: impl IntoIterator<Item = (String, Tree)>) -> Self {
        Self { layers: layers.into_iter().map(|(name, tree)| (name, shortened(tree))).collect() }
    }

    /// The tree of the layer of that name; compare it with a [`shortened`] one only.
    pub fn layer(&self, name: &str) -> Option<&Tree> {
        self.layers.iter().find(|(other, _)| other == name).map(|(_, tree)| tree)
    }

    /// The encoding, not yet compressed.
    pub fn encode(&self) -> Vec<u8> {
        let mut encoder = Encoder::new(TITLE);
        encoder.count(self.layers.len());
        for (name, tree) in &self.layers {
            encoder.bytes(name).bytes(encoding::encode(tree));
        }
        encoder.into_bytes()
    }

    /// Reads an encoding.
    ///
    /// # Errors
    /// On bytes that [`Self::encode`] would not have written.
    pub fn decode(bytes: &[u8]) -> Result<Self, BadTree> {
        let mut reader = Reader::new(bytes, TITLE)?;
        let count = reader.u32()?;
        let mut layers = Vec::new();
        for _ in 0..count {
            let name = String::from_utf8_lossy(reader.bytes()?).into_owned();
            layers.push((name, encoding::decode(reader.bytes()?)?));
        }
        reader.end()?;
        Ok(Self { layers })
    }
}

/// The tree with each file's digest cut as in a listing.
pub fn shortened(mut tree: Tree) -> Tree {
    for entry in tree.entries.values_mut() {
        if let Kind::File { content, .. } = &mut entry.kind {
            let mut cut = [0; 32];
            cut[..KEPT].copy_from_slice(&content.as_bytes()[..KEPT]);
            *content = ContentDigest::from_bytes(cut);
        }
    }
    tree
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::path::RootPath;
    use crate::tree::diff::changes;
    use crate::tree::{Entry, Meta};

    fn tree(content: u8) -> Tree {
        let mut tree = Tree::with_root();
        let path = RootPath::from_plain(b"etc/motd").unwrap();
        tree.ensure_parents(&path);
        let kind = Kind::File { size: 3, content: ContentDigest::from_bytes([content; 32]), links: None };
        tree.entries.insert(path, Entry { kind, meta: Meta::owned(0o644, 0, 0) });
        tree
    }

    #[test]
    fn it_is_read_back_and_tells_which_file_differs() {
        let listing = Listing::new([("base".to_owned(), tree(7)), ("step 1".to_owned(), Tree::with_root())]);
        let read = Listing::decode(&listing.encode()).unwrap();
        assert_eq!(read, listing);
        assert_eq!(changes(read.layer("base").unwrap(), &shortened(tree(7))), []);
        let found = changes(read.layer("base").unwrap(), &shortened(tree(8)));
        assert_eq!(found.len(), 1);
        assert_eq!(found[0].path.to_string(), "/etc/motd");
        assert_eq!(read.layer("another"), None);
    }

    #[test]
    fn broken_bytes_are_refused() {
        let whole = Listing::new([("base".to_owned(), tree(7))]).encode();
        for end in 0..whole.len() {
            assert!(Listing::decode(&whole[..end]).is_err(), "cut at {end}");
        }
        assert!(Listing::decode(&[whole.as_slice(), b"x"].concat()).is_err());
    }
}
