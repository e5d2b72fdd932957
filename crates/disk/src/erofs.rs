//! EROFS, the kernel's read-only file system, without compression (kernel documentation, filesystems/erofs, and
//! `fs/erofs/erofs_fs.h`).
//!
//! The superblock is at byte 1024. From block 1 on come inodes in the order of the tree, the root's first, each
//! followed by its extended attributes and, when all of it fits into a block, by its content. Behind them is the
//! content of larger directories, then of larger files, each from a block of its own on.
//!
//! The same tree gives the same bytes: inodes and content lie in the order of the paths, and what identifies the file
//! system is given.

use std::collections::{BTreeMap, HashMap};

use cavrith_core::path::{RootPath, shown};
use cavrith_core::tree::{Entry, Kind, LinkGroup, Meta, Tree};

use crate::piece::{OnPiece, Piece, padding};

/// Bytes of a block.
pub const BLOCK: u64 = 4096;
/// Where the superblock begins.
const SUPERBLOCK: u64 = 1024;
/// `EROFS_SUPER_MAGIC_V1`.
const MAGIC: u32 = 0xE0F5_E1E2;
/// There is a checksum in the superblock, and each inode has a time of its own.
const COMPATIBLE: u32 = 0b11;
/// Bytes of an extended inode.
const INODE: u64 = 64;
/// Inodes begin at multiples of this, and are numbered by it.
const SLOT: u64 = 32;
/// Bytes before the entries of extended attributes.
const XATTR_HEADER: usize = 12;
/// Bytes of an entry of a directory, without its name.
const DIRENT: usize = 12;

/// Why a tree cannot be such a file system.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refused {
    /// An extended attribute has a name or a length that the file system has no room for.
    #[error("{path}: its extended attribute {name} cannot be in an EROFS file system")]
    Xattr {
        /// The entry.
        path: String,
        /// The attribute.
        name: String,
    },
    /// A name is longer than the kernel takes.
    #[error("{0}: its name has more than 255 bytes")]
    Name(String),
    /// A deletion, which only a layer has.
    #[error("{0}: it is a deletion, and no part of a whole root")]
    Deletion(String),
    /// It is larger than the format's numbers reach.
    #[error("the root has more than 16 TiB")]
    TooLarge,
}

/// What the content of an inode is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Held {
    /// There is none, or the inode says it.
    Nothing,
    /// It follows the inode.
    Inline,
    /// It begins at a block of its own, counted from the first one for content.
    Blocks(u64),
}

struct Inode<'a> {
    path: &'a RootPath,
    entry: &'a Entry,
    /// Where it lies, in slots from the beginning of the disk's first block on.
    number: u64,
    /// Encoded attributes.
    xattrs: Vec<u8>,
    size: u64,
    held: Held,
    links: u32,
}

/// A file system to be written.
pub struct Erofs<'a> {
    inodes: Vec<Inode<'a>>,
    /// The inode of each path, by its position.
    of_path: HashMap<&'a RootPath, usize>,
    /// Names in each directory, with the path of what has the name.
    children: BTreeMap<&'a RootPath, Vec<(&'a [u8], &'a RootPath)>>,
    uuid: [u8; 16],
    epoch: u64,
    /// Blocks before those for content.
    meta_blocks: u64,
    blocks: u64,
}

impl std::fmt::Debug for Erofs<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Erofs({} inodes, {} blocks)", self.inodes.len(), self.blocks)
    }
}

impl<'a> Erofs<'a> {
    /// Lays out a whole root.
    ///
    /// # Errors
    /// When something in it has no place in the format.
    pub fn new(tree: &'a Tree, uuid: [u8; 16], epoch: u64) -> Result<Self, Refused> {
        let mut children: BTreeMap<&RootPath, Vec<(&[u8], &RootPath)>> = BTreeMap::new();
        let parents: HashMap<RootPath, &RootPath> = tree
            .entries
            .iter()
            .filter(|(_, entry)| entry.kind.is_directory())
            .map(|(path, _)| (path.clone(), path))
            .collect();
        for (path, entry) in &tree.entries {
            if entry.kind.is_directory() {
                children.entry(path).or_default();
            }
            let Some(parent) = path.parent().and_then(|parent| parents.get(&parent).copied()) else { continue };
            let name = path.as_bytes().rsplit(|byte| *byte == b'/').next().unwrap_or_default();
            if name.len() > 255 {
                return Err(Refused::Name(shown(path.as_bytes())));
            }
            children.entry(parent).or_default().push((name, path));
        }
        let mut laid = Self {
            inodes: Vec::with_capacity(tree.entries.len()),
            of_path: HashMap::with_capacity(tree.entries.len()),
            children,
            uuid,
            epoch,
            meta_blocks: 0,
            blocks: 0,
        };
        laid.place(tree)?;
        Ok(laid)
    }

    /// Gives each inode its number, and its content a place.
    fn place(&mut self, tree: &'a Tree) -> Result<(), Refused> {
        let (mut at, mut block) = (BLOCK, 0_u64);
        let mut first: HashMap<LinkGroup, usize> = HashMap::new();
        let mut content: Vec<usize> = Vec::new();
        for (path, entry) in &tree.entries {
            if let Kind::File { links: Some(group), .. } = &entry.kind {
                if let Some(known) = first.get(group) {
                    self.inodes[*known].links += 1;
                    self.of_path.insert(path, *known);
                    continue;
                }
                first.insert(*group, self.inodes.len());
            }
            let xattrs = encoded_xattrs(path, &entry.meta)?;
            let (size, links) = match &entry.kind {
                Kind::Directory { .. } => {
                    let names = self.names(path);
                    let inner = self.children[path].iter();
                    let below = inner.filter(|(_, path)| tree.get(path).is_some_and(|one| one.kind.is_directory()));
                    (directory_size(&names), 2 + below.count() as u32)
                }
                Kind::File { size, .. } => (*size, 1),
                Kind::Symlink { target } => (target.len() as u64, 1),
                Kind::Fifo | Kind::CharDevice { .. } | Kind::BlockDevice { .. } => (0, 1),
                Kind::Whiteout => return Err(Refused::Deletion(shown(path.as_bytes()))),
            };
            let head = INODE + xattrs.len() as u64;
            // What follows an inode must lie in one block with its end.
            let is_inline = size > 0 && head + size <= BLOCK;
            let whole = if is_inline { head + size } else { head };
            if is_inline && at % BLOCK + whole > BLOCK {
                at = at.next_multiple_of(BLOCK);
            }
            let held = match size {
                0 => Held::Nothing,
                _ if is_inline => Held::Inline,
                _ => {
                    content.push(self.inodes.len());
                    Held::Blocks(0)
                }
            };
            self.of_path.insert(path, self.inodes.len());
            self.inodes.push(Inode { path, entry, number: at / SLOT, xattrs, size, held, links });
            at = (at + whole).next_multiple_of(SLOT);
        }
        self.meta_blocks = at.div_ceil(BLOCK);
        // Directories first: whoever walks the tree reads these together.
        content.sort_by_key(|index| !self.inodes[*index].entry.kind.is_directory());
        for index in content {
            self.inodes[index].held = Held::Blocks(block);
            block += self.inodes[index].size.div_ceil(BLOCK);
        }
        self.blocks = self.meta_blocks + block;
        if self.blocks > u64::from(u32::MAX) { Err(Refused::TooLarge) } else { Ok(()) }
    }

    /// Bytes of the whole.
    pub fn size(&self) -> u64 {
        self.blocks * BLOCK
    }

    /// Gives all pieces, in the order of their bytes.
    ///
    /// # Errors
    /// The first one of `on_piece`.
    pub fn pieces<E>(&self, on_piece: OnPiece<'_, E>) -> Result<(), E> {
        on_piece(Piece::Zeros(SUPERBLOCK))?;
        on_piece(Piece::Known(&self.superblock()))?;
        let mut at = BLOCK;
        for inode in &self.inodes {
            let begins = inode.number * SLOT;
            if begins > at {
                on_piece(Piece::Zeros(begins - at))?;
            }
            let mut head = self.encoded(inode);
            head.extend_from_slice(&inode.xattrs);
            at = begins + head.len() as u64;
            on_piece(Piece::Known(&head))?;
            if inode.held == Held::Inline {
                self.content(inode, on_piece)?;
                at += inode.size;
            }
        }
        on_piece(Piece::Zeros(self.meta_blocks * BLOCK - at))?;
        let mut large: Vec<_> = self.inodes.iter().filter(|inode| matches!(inode.held, Held::Blocks(_))).collect();
        large.sort_by_key(|inode| match inode.held {
            Held::Blocks(block) => block,
            _ => 0,
        });
        for inode in large {
            self.content(inode, on_piece)?;
            on_piece(Piece::Zeros(padding(inode.size, BLOCK)))?;
        }
        Ok(())
    }

    fn content<E>(&self, inode: &Inode<'_>, on_piece: OnPiece<'_, E>) -> Result<(), E> {
        match &inode.entry.kind {
            Kind::Directory { .. } => on_piece(Piece::Known(&self.directory(inode.path))),
            Kind::Symlink { target } => on_piece(Piece::Known(target)),
            _ => on_piece(Piece::Content(inode.path, inode.size)),
        }
    }

    /// The names in a directory, sorted as the kernel looks for them, with the paths that they lead to.
    fn names(&self, path: &'a RootPath) -> Vec<(&'a [u8], &'a RootPath)> {
        let mut names = self.children[path].clone();
        let above = path.parent().and_then(|parent| self.children.get_key_value(&parent).map(|(known, _)| *known));
        names.extend([(b".".as_slice(), path), (b"..".as_slice(), above.unwrap_or(path))]);
        names.sort_unstable_by_key(|(name, _)| *name);
        names
    }

    /// The content of a directory: blocks of entries, each followed by its names.
    fn directory(&self, path: &RootPath) -> Vec<u8> {
        let Some((path, _)) = self.children.get_key_value(path) else { return Vec::new() };
        let names = self.names(path);
        let mut bytes = Vec::new();
        let blocks = directory_blocks(&names);
        let last = blocks.len() - 1;
        for (number, range) in blocks.into_iter().enumerate() {
            let (begins, names) = (bytes.len(), &names[range]);
            let mut name_at = DIRENT * names.len();
            for (name, leads_to) in names {
                let inode = &self.inodes[self.of_path[leads_to]];
                bytes.extend_from_slice(&inode.number.to_le_bytes());
                bytes.extend_from_slice(&(name_at as u16).to_le_bytes());
                bytes.extend_from_slice(&[file_type(&inode.entry.kind), 0]);
                name_at += name.len();
            }
            names.iter().for_each(|(name, _)| bytes.extend_from_slice(name));
            if number < last {
                bytes.resize(begins + BLOCK as usize, 0);
            }
        }
        bytes
    }

    /// An extended inode (`struct erofs_inode_extended`).
    fn encoded(&self, inode: &Inode<'_>) -> Vec<u8> {
        let Meta { mode, uid, gid, time, .. } = &inode.entry.meta;
        let layout: u16 = if inode.held == Held::Inline { 2 } else { 0 };
        let count = match inode.xattrs.len() {
            0 => 0,
            length => ((length - XATTR_HEADER) / 4 + 1) as u16,
        };
        let (kind, own) = match &inode.entry.kind {
            Kind::Directory { .. } => (0o040_000, None),
            Kind::File { .. } => (0o100_000, None),
            Kind::Symlink { .. } => (0o120_000, None),
            Kind::Fifo => (0o010_000, None),
            Kind::CharDevice { major, minor } => (0o020_000, Some(device(*major, *minor))),
            Kind::BlockDevice { major, minor } => (0o060_000, Some(device(*major, *minor))),
            // Refused when it was laid out.
            Kind::Whiteout => (0, None),
        };
        let block = match inode.held {
            Held::Blocks(block) => (self.meta_blocks + block) as u32,
            Held::Nothing | Held::Inline => 0,
        };
        let mut bytes = Vec::with_capacity(INODE as usize);
        bytes.extend_from_slice(&(1 | layout << 1).to_le_bytes());
        bytes.extend_from_slice(&count.to_le_bytes());
        bytes.extend_from_slice(&(kind | mode).to_le_bytes());
        bytes.extend_from_slice(&[0; 2]);
        bytes.extend_from_slice(&inode.size.to_le_bytes());
        bytes.extend_from_slice(&own.unwrap_or(block).to_le_bytes());
        // Its number for people is one that 32-bit programs can hold.
        bytes.extend_from_slice(&(inode.number as u32).to_le_bytes());
        bytes.extend_from_slice(&uid.to_le_bytes());
        bytes.extend_from_slice(&gid.to_le_bytes());
        bytes.extend_from_slice(&time.to_le_bytes());
        bytes.extend_from_slice(&0_u32.to_le_bytes());
        bytes.extend_from_slice(&inode.links.to_le_bytes());
        bytes.resize(INODE as usize, 0);
        bytes
    }

    /// The superblock (`struct erofs_super_block`) and the rest of its block.
    fn superblock(&self) -> Vec<u8> {
        let mut bytes = vec![0; (BLOCK - SUPERBLOCK) as usize];
        let mut put = |at: usize, field: &[u8]| bytes[at..at + field.len()].copy_from_slice(field);
        put(0, &MAGIC.to_le_bytes());
        put(8, &COMPATIBLE.to_le_bytes());
        put(12, &[12]);
        let root = self.inodes.first().map_or(0, |inode| inode.number);
        put(14, &(root as u16).to_le_bytes());
        put(16, &(self.inodes.len() as u64).to_le_bytes());
        put(24, &self.epoch.to_le_bytes());
        put(36, &(self.blocks as u32).to_le_bytes());
        put(48, &self.uuid);
        let sum = crc32c(&bytes);
        bytes[4..8].copy_from_slice(&sum.to_le_bytes());
        bytes
    }
}

/// CRC-32C (RFC 3720, section 12.1) as the kernel's function gives it: without the inversion at the end.
fn crc32c(bytes: &[u8]) -> u32 {
    bytes.iter().fold(u32::MAX, |sum, byte| {
        (0..8).fold(sum ^ u32::from(*byte), |sum, _| (sum >> 1) ^ (0x82F6_3B78 & (sum & 1).wrapping_neg()))
    })
}

/// A device's numbers in one, as the kernel encodes them (`new_encode_dev`).
fn device(major: u32, minor: u32) -> u32 {
    (minor & 0xFF) | (major << 8) | ((minor & !0xFF) << 12)
}

fn file_type(kind: &Kind) -> u8 {
    match kind {
        Kind::File { .. } => 1,
        Kind::Directory { .. } => 2,
        Kind::CharDevice { .. } => 3,
        Kind::BlockDevice { .. } => 4,
        Kind::Fifo => 5,
        Kind::Symlink { .. } => 7,
        Kind::Whiteout => 0,
    }
}

/// Which names go into which block of a directory.
fn directory_blocks(names: &[(&[u8], &RootPath)]) -> Vec<std::ops::Range<usize>> {
    let (mut blocks, mut begin, mut used) = (Vec::new(), 0, 0);
    for (number, (name, _)) in names.iter().enumerate() {
        let more = DIRENT + name.len();
        if used + more > BLOCK as usize {
            blocks.push(begin..number);
            (begin, used) = (number, 0);
        }
        used += more;
    }
    blocks.push(begin..names.len());
    blocks
}

fn directory_size(names: &[(&[u8], &RootPath)]) -> u64 {
    let blocks = directory_blocks(names);
    let last = blocks
        .last()
        .map_or(0, |range| names[range.clone()].iter().map(|(name, _)| (DIRENT + name.len()) as u64).sum());
    (blocks.len() as u64 - 1) * BLOCK + last
}

/// The extended attributes of an inode, as they follow it (`struct erofs_xattr_ibody_header`, `erofs_xattr_entry`).
fn encoded_xattrs(path: &RootPath, meta: &Meta) -> Result<Vec<u8>, Refused> {
    if meta.xattrs.is_empty() {
        return Ok(Vec::new());
    }
    let mut bytes = vec![0; XATTR_HEADER];
    for (name, value) in &meta.xattrs {
        let refused = || Refused::Xattr { path: shown(path.as_bytes()), name: shown(name) };
        let (index, rest) = prefix(name).ok_or_else(refused)?;
        let length = u8::try_from(rest.len()).map_err(|_| refused())?;
        let size = u16::try_from(value.len()).map_err(|_| refused())?;
        bytes.extend_from_slice(&[length, index]);
        bytes.extend_from_slice(&size.to_le_bytes());
        bytes.extend_from_slice(rest);
        bytes.extend_from_slice(value);
        bytes.resize(bytes.len().next_multiple_of(4), 0);
    }
    if bytes.len() / 4 > usize::from(u16::MAX) {
        return Err(Refused::Xattr { path: shown(path.as_bytes()), name: "…".to_owned() });
    }
    Ok(bytes)
}

/// The number of an attribute's prefix, and the rest of its name.
fn prefix(name: &[u8]) -> Option<(u8, &[u8])> {
    let whole: [(&[u8], u8); 2] = [(b"system.posix_acl_access", 2), (b"system.posix_acl_default", 3)];
    if let Some((_, index)) = whole.iter().find(|(known, _)| *known == name) {
        return Some((*index, b""));
    }
    let prefixes: [(&[u8], u8); 3] = [(b"user.", 1), (b"trusted.", 4), (b"security.", 6)];
    prefixes.iter().find_map(|(prefix, index)| Some((*index, name.strip_prefix(*prefix)?)))
}
