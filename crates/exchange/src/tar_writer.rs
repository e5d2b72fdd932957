//! Tar archives of trees, the same bytes for the same tree: ustar headers, and pax records where those do not reach
//! (POSIX.1-2024, pax, "pax Header Block" and "ustar Interchange Format").
//!
//! Entries come in the order of the tree, so a directory comes before what it holds. Owners are numbers only.
//! Deletions and opaque directories of a layer are written as OCI images have them (Image Specification 1.1,
//! "Whiteouts"): a file `.wh.NAME` beside what is deleted, and `.wh..wh..opq` first in an opaque directory.

use std::collections::HashMap;
use std::io::{self, Read, Write};

use cavrith_core::path::RootPath;
use cavrith_core::tree::{Entry, Kind, LinkGroup, Meta, Tree};

/// Bytes of a block.
const BLOCK: usize = 512;
/// Bytes of a name in a ustar header, and of a link's target.
const NAME: usize = 100;
/// What the names of deletions begin with.
const WHITEOUT: &[u8] = b".wh.";
/// The mark of an opaque directory.
const OPAQUE: &[u8] = b".wh..wh..opq";
/// The largest number of seven octal digits: larger owners need a record.
const LARGEST_ID: u64 = 0o7_777_777;
/// The largest number of eleven octal digits: larger sizes and times need a record.
const LARGEST: u64 = 0o77_777_777_777;

/// A part of an archive.
#[derive(Debug)]
pub enum Piece<'a> {
    /// Headers, padding, the end: known from the tree alone.
    Known(&'a [u8]),
    /// The bytes of a file, of this length.
    Content(&'a RootPath, u64),
}

/// Gives the parts of the archive of a tree, in their order.
///
/// # Errors
/// The first one of `on_piece`.
pub fn pieces<E>(tree: &Tree, on_piece: &mut dyn FnMut(Piece<'_>) -> Result<(), E>) -> Result<(), E> {
    let mut first: HashMap<LinkGroup, &RootPath> = HashMap::new();
    for (path, entry) in &tree.entries {
        let meta = &entry.meta;
        let mut header = Header { name: path.as_bytes(), meta, kind: b'0', size: 0, link: b"", device: None };
        let directory = if path.is_root() { b"./".to_vec() } else { [path.as_bytes(), b"/"].concat() };
        match &entry.kind {
            Kind::Directory { opaque } => {
                (header.name, header.kind) = (&directory, b'5');
                on_piece(Piece::Known(&header.bytes()))?;
                if *opaque {
                    on_piece(Piece::Known(&mark(&[directory.as_slice(), OPAQUE].concat(), entry)))?;
                }
                continue;
            }
            Kind::Whiteout => {
                let (parent, name) = split(path.as_bytes());
                on_piece(Piece::Known(&mark(&[parent, WHITEOUT, name].concat(), entry)))?;
                continue;
            }
            Kind::File { size, links, .. } => {
                if let Some(target) = links.and_then(|group| first.get(&group)) {
                    (header.kind, header.link) = (b'1', target.as_bytes());
                } else {
                    first.extend(links.map(|group| (group, path)));
                    header.size = *size;
                }
            }
            Kind::Symlink { target } => (header.kind, header.link) = (b'2', target),
            Kind::Fifo => header.kind = b'6',
            Kind::CharDevice { major, minor } => (header.kind, header.device) = (b'3', Some((*major, *minor))),
            Kind::BlockDevice { major, minor } => (header.kind, header.device) = (b'4', Some((*major, *minor))),
        }
        on_piece(Piece::Known(&header.bytes()))?;
        if header.kind == b'0' {
            on_piece(Piece::Content(path, header.size))?;
            on_piece(Piece::Known(padding(header.size)))?;
        }
    }
    on_piece(Piece::Known(&[0; 2 * BLOCK]))
}

/// Writes the archive of a tree. `content` gives the bytes of a regular file.
///
/// # Errors
/// When writing fails, a file cannot be read, or has another length than the tree says.
pub fn write(
    tree: &Tree,
    content: &mut dyn FnMut(&RootPath) -> io::Result<Box<dyn Read>>,
    to: &mut dyn Write,
) -> io::Result<()> {
    pieces(tree, &mut |piece| match piece {
        Piece::Known(bytes) => to.write_all(bytes),
        Piece::Content(path, size) => copy(&mut *content(path)?, size, path, to),
    })
}

/// An empty file that means something to those who lay layers over each other.
fn mark(name: &[u8], entry: &Entry) -> Vec<u8> {
    let meta = Meta { time: entry.meta.time, ..Meta::owned(0o644, 0, 0) };
    Header { name, meta: &meta, kind: b'0', size: 0, link: b"", device: None }.bytes()
}

/// A path in its directory, with the slash, and its name there.
fn split(path: &[u8]) -> (&[u8], &[u8]) {
    let at = path.iter().rposition(|byte| *byte == b'/').map_or(0, |slash| slash + 1);
    path.split_at(at)
}

fn copy(from: &mut dyn Read, size: u64, path: &RootPath, to: &mut dyn Write) -> io::Result<()> {
    let copied = io::copy(&mut from.take(size), to)?;
    let more = from.read(&mut [0])? > 0;
    if copied != size || more {
        return Err(io::Error::other(format!(
            "{path} has another length than its layer says; see cavrith store check"
        )));
    }
    Ok(())
}

/// What fills the last block.
fn padding(size: u64) -> &'static [u8] {
    match (size % BLOCK as u64) as usize {
        0 => &[],
        rest => &[0; BLOCK][rest..],
    }
}

/// One entry's header, and the pax records before it.
#[derive(Clone, Copy)]
struct Header<'a> {
    name: &'a [u8],
    meta: &'a Meta,
    /// The type flag.
    kind: u8,
    size: u64,
    link: &'a [u8],
    device: Option<(u32, u32)>,
}

impl Header<'_> {
    /// The pax records, when there are some, and the block.
    fn bytes(&self) -> Vec<u8> {
        let records = self.records();
        let mut bytes = Vec::with_capacity(BLOCK);
        if !records.is_empty() {
            let meta = Meta { time: self.meta.time, ..Meta::owned(0o644, 0, 0) };
            let size = records.len() as u64;
            let extended = Header { name: b"pax", meta: &meta, kind: b'x', size, link: b"", device: None };
            bytes.extend(extended.block());
            bytes.extend(&records);
            bytes.extend(padding(size));
        }
        bytes.extend(self.block());
        bytes
    }

    /// What does not fit into a block.
    fn records(&self) -> Vec<u8> {
        let mut records = Vec::new();
        let mut add = |key: &[u8], value: &[u8]| {
            // A record's length counts its own digits.
            let body = key.len() + value.len() + 3;
            let mut length = body + body.to_string().len();
            if length.to_string().len() > body.to_string().len() {
                length += 1;
            }
            records.extend(format!("{length} ").as_bytes());
            records.extend(key);
            records.push(b'=');
            records.extend(value);
            records.push(b'\n');
        };
        if std::str::from_utf8(self.name).is_err() || std::str::from_utf8(self.link).is_err() {
            add(b"hdrcharset", b"BINARY");
        }
        if self.name.len() > NAME {
            add(b"path", self.name);
        }
        if self.link.len() > NAME {
            add(b"linkpath", self.link);
        }
        for (key, value, largest) in [
            (b"size".as_slice(), self.size, LARGEST),
            (b"uid", self.meta.uid.into(), LARGEST_ID),
            (b"gid", self.meta.gid.into(), LARGEST_ID),
            (b"mtime", self.meta.time, LARGEST),
        ] {
            if value > largest {
                add(key, value.to_string().as_bytes());
            }
        }
        // A hard link is another name of a file whose attributes are there already.
        if self.kind != b'1' {
            for (name, value) in &self.meta.xattrs {
                add(&[b"SCHILY.xattr.", name.as_slice()].concat(), value);
            }
        }
        records
    }

    fn block(&self) -> [u8; BLOCK] {
        let mut block = [0; BLOCK];
        let mut put = |at: usize, bytes: &[u8]| block[at..at + bytes.len()].copy_from_slice(bytes);
        put(0, &self.name[..self.name.len().min(NAME)]);
        put(100, &octal::<8>(self.meta.mode.into()));
        put(108, &octal::<8>(u64::from(self.meta.uid).min(LARGEST_ID)));
        put(116, &octal::<8>(u64::from(self.meta.gid).min(LARGEST_ID)));
        put(124, &octal::<12>(self.size.min(LARGEST)));
        put(136, &octal::<12>(self.meta.time.min(LARGEST)));
        put(148, b"        ");
        put(156, &[self.kind]);
        put(157, &self.link[..self.link.len().min(NAME)]);
        put(257, b"ustar\x0000");
        let (major, minor) = self.device.unwrap_or_default();
        put(329, &octal::<8>(major.into()));
        put(337, &octal::<8>(minor.into()));
        let sum: u64 = block.iter().map(|byte| u64::from(*byte)).sum();
        block[148..154].copy_from_slice(&octal::<7>(sum)[..6]);
        block[154..156].copy_from_slice(b"\0 ");
        block
    }
}

/// A number in octal digits, with a zero byte at the end.
fn octal<const N: usize>(number: u64) -> [u8; N] {
    let mut field = [b'0'; N];
    field[N - 1] = 0;
    let mut rest = number;
    for digit in field[..N - 1].iter_mut().rev() {
        *digit = b'0' + (rest & 7) as u8;
        rest >>= 3;
    }
    field
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_count_their_own_digits() {
        let meta = Meta::owned(0o644, 0, 0);
        for length in [88, 89, 90, 91, 92, 989, 990, 991, 992] {
            let name = vec![b'x'; length + NAME];
            let records = Header { name: &name, meta: &meta, kind: b'0', size: 0, link: b"", device: None }.records();
            let digits = records.split(|byte| *byte == b' ').next().unwrap();
            let said: usize = std::str::from_utf8(digits).unwrap().parse().unwrap();
            assert_eq!(said, records.len(), "a name of {} bytes", name.len());
        }
    }
}
