//! FUSE, as the kernel speaks it over `/dev/fuse`: requests and answers as bytes (`linux/fuse.h`, version 7.31).
//!
//! Numbers are in the machine's own order, which on every machine that we make is little-endian.

use std::os::unix::fs::MetadataExt as _;

/// Bytes that one request may write, and that one answer may read.
pub(crate) const MOST: usize = 128 << 10;
/// Bytes of a whole request or answer at the most.
pub(crate) const MESSAGE: usize = MOST + 4096;

pub(crate) const LOOKUP: u32 = 1;
pub(crate) const FORGET: u32 = 2;
pub(crate) const GETATTR: u32 = 3;
pub(crate) const SETATTR: u32 = 4;
pub(crate) const READLINK: u32 = 5;
pub(crate) const SYMLINK: u32 = 6;
pub(crate) const MKNOD: u32 = 8;
pub(crate) const MKDIR: u32 = 9;
pub(crate) const UNLINK: u32 = 10;
pub(crate) const RMDIR: u32 = 11;
pub(crate) const RENAME: u32 = 12;
pub(crate) const LINK: u32 = 13;
pub(crate) const OPEN: u32 = 14;
pub(crate) const READ: u32 = 15;
pub(crate) const WRITE: u32 = 16;
pub(crate) const STATFS: u32 = 17;
pub(crate) const RELEASE: u32 = 18;
pub(crate) const FSYNC: u32 = 20;
pub(crate) const FLUSH: u32 = 25;
pub(crate) const INIT: u32 = 26;
pub(crate) const OPENDIR: u32 = 27;
pub(crate) const READDIR: u32 = 28;
pub(crate) const RELEASEDIR: u32 = 29;
pub(crate) const FSYNCDIR: u32 = 30;
pub(crate) const CREATE: u32 = 35;
pub(crate) const INTERRUPT: u32 = 36;
pub(crate) const DESTROY: u32 = 38;
pub(crate) const BATCH_FORGET: u32 = 42;
pub(crate) const FALLOCATE: u32 = 43;
pub(crate) const READDIRPLUS: u32 = 44;
pub(crate) const RENAME2: u32 = 45;

/// What the kernel is told unasked: an inode, or a name in a directory, is otherwise.
const NOTIFY_INODE: i32 = 2;
const NOTIFY_ENTRY: i32 = 3;

/// What of an inode a request sets (`FATTR_*`).
pub(crate) const SET_MODE: u32 = 1;
pub(crate) const SET_SIZE: u32 = 8;
pub(crate) const SET_ATIME: u32 = 16;
pub(crate) const SET_MTIME: u32 = 32;
pub(crate) const SET_ATIME_NOW: u32 = 128;
pub(crate) const SET_MTIME_NOW: u32 = 256;

/// The kernel keeps what it has read of a file.
pub(crate) const KEEP_CACHE: u32 = 2;
/// What we want of the kernel: reading ahead, truncating as it opens, large writes, attributes with lists, names in
/// parallel, as many pages as [`MOST`] has, data that goes when a file is otherwise.
const WANTED: u32 = 1 | 1 << 3 | 1 << 5 | 1 << 12 | 1 << 13 | 1 << 14 | 1 << 18 | 1 << 22;

/// A request.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Request<'a> {
    pub operation: u32,
    pub unique: u64,
    pub node: u64,
    /// The process that asks.
    pub process: u32,
    pub rest: Bytes<'a>,
}

impl<'a> Request<'a> {
    /// From what the kernel wrote; `None` when it is no request.
    pub fn read(message: &'a [u8]) -> Option<Self> {
        let mut bytes = Bytes(message);
        let length = bytes.u32()?;
        let (operation, unique, node) = (bytes.u32()?, bytes.u64()?, bytes.u64()?);
        let (_, process, _) = (bytes.u64()?, bytes.u32()?, bytes.u32()?);
        (length as usize == message.len()).then_some(Self { operation, unique, node, process, rest: bytes })
    }
}

/// Bytes that are read from the front.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Bytes<'a>(pub &'a [u8]);

impl<'a> Bytes<'a> {
    pub fn take(&mut self, count: usize) -> Option<&'a [u8]> {
        let (first, rest) = self.0.split_at_checked(count)?;
        self.0 = rest;
        Some(first)
    }

    pub fn u32(&mut self) -> Option<u32> {
        self.take(4)?.try_into().ok().map(u32::from_le_bytes)
    }

    pub fn u64(&mut self) -> Option<u64> {
        self.take(8)?.try_into().ok().map(u64::from_le_bytes)
    }

    /// A text up to its zero byte.
    pub fn text(&mut self) -> Option<&'a [u8]> {
        let end = self.0.iter().position(|byte| *byte == 0)?;
        let text = &self.0[..end];
        self.0 = &self.0[end + 1..];
        Some(text)
    }

    /// The name of an entry: never a path, and never a directory itself or the one above it.
    pub fn name(&mut self) -> Option<&'a [u8]> {
        self.text().filter(|name| !name.is_empty() && !name.contains(&b'/') && *name != b"." && *name != b"..")
    }
}

/// Bytes of an answer.
#[derive(Debug, Default)]
pub(crate) struct Answer(pub Vec<u8>);

impl Answer {
    pub fn u16(mut self, number: u16) -> Self {
        self.0.extend_from_slice(&number.to_le_bytes());
        self
    }

    pub fn u32(mut self, number: u32) -> Self {
        self.0.extend_from_slice(&number.to_le_bytes());
        self
    }

    pub fn u64(mut self, number: u64) -> Self {
        self.0.extend_from_slice(&number.to_le_bytes());
        self
    }

    pub fn bytes(mut self, bytes: &[u8]) -> Self {
        self.0.extend_from_slice(bytes);
        self
    }

    /// `struct fuse_attr`.
    pub fn attributes(self, shown: &Shown) -> Self {
        let Shown { node, meta, owner, mode } = shown;
        let seconds = |time: i64| u64::from_le_bytes(time.to_le_bytes());
        let nanos = |nanos: i64| u32::try_from(nanos).unwrap_or(0);
        self.u64(*node)
            .u64(meta.size())
            .u64(meta.blocks())
            .u64(seconds(meta.atime()))
            .u64(seconds(meta.mtime()))
            .u64(seconds(meta.ctime()))
            .u32(nanos(meta.atime_nsec()))
            .u32(nanos(meta.mtime_nsec()))
            .u32(nanos(meta.ctime_nsec()))
            .u32(*mode)
            .u32(u32::try_from(meta.nlink()).unwrap_or(u32::MAX))
            .u32(owner.0)
            .u32(owner.1)
            .u32(0)
            .u32(4096)
            .u32(0)
    }

    /// `struct fuse_entry_out`, which holds for so many seconds.
    pub fn entry(self, shown: &Shown, valid: u64) -> Self {
        self.u64(shown.node).u64(0).u64(valid).u64(valid).u32(0).u32(0).attributes(shown)
    }

    /// The whole message that answers a request.
    pub fn to(self, unique: u64) -> Vec<u8> {
        message(0, unique, &self.0)
    }

    /// What INIT is answered.
    pub fn init(offered: u32) -> Self {
        Self::default()
            .u32(7)
            .u32(31)
            .u32(MOST as u32)
            .u32(WANTED & offered)
            .u16(64)
            .u16(48)
            .u32(MOST as u32)
            .u32(1)
            .u16((MOST / 4096) as u16)
            .u16(0)
            .bytes(&[0; 32])
    }
}

fn message(error: i32, unique: u64, rest: &[u8]) -> Vec<u8> {
    let mut whole = Vec::with_capacity(16 + rest.len());
    whole.extend_from_slice(&((16 + rest.len()) as u32).to_le_bytes());
    whole.extend_from_slice(&error.to_le_bytes());
    whole.extend_from_slice(&unique.to_le_bytes());
    whole.extend_from_slice(rest);
    whole
}

/// The message that a request failed, with an error's number.
pub(crate) fn failed(unique: u64, errno: i32) -> Vec<u8> {
    message(-errno, unique, &[])
}

/// The message that an inode is otherwise: its attributes, and what was read of it.
pub(crate) fn inode_changed(node: u64) -> Vec<u8> {
    message(NOTIFY_INODE, 0, &Answer::default().u64(node).u64(0).u64(0).0)
}

/// The message that a name in a directory is otherwise.
pub(crate) fn entry_changed(directory: u64, name: &[u8]) -> Vec<u8> {
    let rest = Answer::default().u64(directory).u32(name.len() as u32).u32(0).bytes(name).bytes(&[0]);
    message(NOTIFY_ENTRY, 0, &rest.0)
}

/// An inode, as the machine sees it.
#[derive(Debug)]
pub(crate) struct Shown {
    pub node: u64,
    pub meta: std::fs::Metadata,
    pub owner: (u32, u32),
    pub mode: u32,
}

/// A list of a directory, as far as there is room.
#[derive(Debug)]
pub(crate) struct Listing {
    bytes: Vec<u8>,
    room: usize,
}

impl Listing {
    pub fn new(room: usize) -> Self {
        Self { bytes: Vec::new(), room: room.min(MOST) }
    }

    /// Adds an entry (`struct fuse_dirent`), behind what is told of it (`struct fuse_direntplus`) when that is wanted.
    /// False when there is no more room.
    pub fn add(&mut self, about: &[u8], (inode, kind, name): (u64, u32, &[u8]), next: u64) -> bool {
        let length = (about.len() + 24 + name.len()).next_multiple_of(8);
        if self.bytes.len() + length > self.room {
            return false;
        }
        let end = self.bytes.len() + length;
        self.bytes.extend_from_slice(about);
        let entry = Answer::default().u64(inode).u64(next).u32(name.len() as u32).u32(kind).bytes(name);
        self.bytes.extend_from_slice(&entry.0);
        self.bytes.resize(end, 0);
        true
    }

    pub fn finish(self) -> Answer {
        Answer(self.bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn request(operation: u32, rest: &[u8]) -> Vec<u8> {
        let length = 40 + rest.len() as u32;
        let head = Answer::default().u32(length).u32(operation).u64(7).u64(1).u64(0).u32(12).u32(0);
        head.bytes(rest).0
    }

    #[test]
    fn a_request_is_read_and_a_cut_one_is_none() {
        let bytes = request(LOOKUP, b"tide\0");
        let mut read = Request::read(&bytes).unwrap();
        assert_eq!((read.operation, read.unique, read.node, read.process), (LOOKUP, 7, 1, 12));
        assert_eq!(read.rest.name(), Some(b"tide".as_slice()));
        (0..bytes.len()).for_each(|end| assert!(Request::read(&bytes[..end]).is_none()));
    }

    #[test]
    fn a_name_is_never_a_way_elsewhere() {
        for bad in [b"..\0".as_slice(), b".\0", b"\0", b"a/b\0", b"/etc\0", b"tide"] {
            assert_eq!(Bytes(bad).name(), None, "{bad:?}");
        }
    }

    #[test]
    fn answers_have_the_lengths_that_the_kernel_expects() {
        let meta = std::fs::metadata("/").unwrap();
        let shown = Shown { node: 1, meta, owner: (1000, 1000), mode: 0o40755 };
        assert_eq!(Answer::default().attributes(&shown).0.len(), 88);
        assert_eq!(Answer::default().entry(&shown, 1).0.len(), 128);
        assert_eq!(Answer::init(u32::MAX).0.len(), 64);
        assert_eq!(failed(3, 2), [16, 0, 0, 0, 254, 255, 255, 255, 3, 0, 0, 0, 0, 0, 0, 0]);
        assert_eq!(entry_changed(1, b"tide").len(), 16 + 16 + 5);
        assert_eq!(inode_changed(1).len(), 16 + 24);
    }

    #[test]
    fn a_list_ends_where_there_is_no_more_room() {
        let mut listing = Listing::new(64);
        assert!(listing.add(&[], (1, 8, b"tide"), 1));
        assert!(listing.add(&[], (2, 8, b"ferry"), 2));
        assert!(!listing.add(&[], (3, 8, b"pier"), 3));
        assert_eq!(listing.finish().0.len(), 64);
    }
}
