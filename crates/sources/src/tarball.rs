//! Tar archives: ustar and pax (POSIX.1-2024, pax), and GNU's long names.
//!
//! Headers are read by the `tar` crate; long names and pax records are read here, because their lengths come from
//! outside and have to be bounded.

use std::collections::BTreeMap;
use std::io::{self, Read};

use tar::EntryType;

use cavrith_core::path::{RootPath, shown};
use cavrith_core::tree::Meta;
use cavrith_store::shared::Sink;

use crate::bounds::MAX_ENTRIES;
use crate::{SourceError, blame};

/// Bytes that one long name or one set of pax records may have.
const MAX_RECORD: u64 = 1 << 20;
/// What an extended attribute is called in pax records.
const XATTR_PREFIX: &[u8] = b"SCHILY.xattr.";

/// What an archive may bring.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rights {
    /// Owners, all twelve mode bits and attributes, as it says: the base.
    AsGiven,
    /// Everything is root's and nobody else may write it; set-uid and set-gid programs are refused: toolchains,
    /// extensions.
    Plain,
}

/// How an archive is laid into a layer.
#[derive(Debug, Clone)]
pub struct Laying {
    /// How many leading names to drop; what has no more than that is left out.
    pub strip: usize,
    /// The directory it goes to.
    pub place: RootPath,
    /// What it may bring.
    pub rights: Rights,
}

impl Laying {
    /// Where an entry goes; `None` when it is left out.
    pub(crate) fn place_of(&self, name: &[u8]) -> Result<Option<RootPath>, String> {
        let path = RootPath::from_archive(name).map_err(|bad| bad.to_string())?;
        let Some(path) = path.strip(self.strip) else {
            return Ok(None);
        };
        self.place.join_path(&path).map(Some).map_err(|bad| bad.to_string())
    }

    /// The rights that an entry gets.
    pub(crate) fn meta(&self, path: &RootPath, given: Meta, program: bool) -> Result<Meta, String> {
        match self.rights {
            Rights::AsGiven => Ok(given),
            Rights::Plain if program && given.mode & 0o6000 != 0 => {
                Err(format!("{path} is a set-uid or set-gid program"))
            }
            // Read for everyone: an archive packed under a narrow umask serves the account too.
            Rights::Plain if program && given.mode & 0o111 == 0 => Ok(Meta::root(0o644)),
            Rights::Plain => Ok(Meta::root(0o755)),
        }
    }
}

/// One entry of an archive, its long names and pax records applied.
pub(crate) struct TarEntry<'a, R: Read> {
    pub(crate) kind: EntryType,
    pub(crate) path: Vec<u8>,
    pub(crate) link: Vec<u8>,
    pub(crate) size: u64,
    /// Seconds since 1970; 0 for what lies before.
    pub(crate) time: u64,
    pub(crate) meta: Meta,
    pub(crate) content: tar::Entry<'a, R>,
}

/// Calls `each` for every entry of a tar stream.
///
/// # Errors
/// What `each` says, and a damaged archive, under its `name`.
pub(crate) fn for_each<R: Read>(
    from: R,
    name: &str,
    mut each: impl FnMut(&mut TarEntry<'_, R>) -> Result<(), SourceError>,
) -> Result<(), SourceError> {
    let damaged = |why: String| SourceError::Damaged { name: name.to_owned(), why };
    let mut archive = tar::Archive::new(from);
    let entries = archive.entries().map_err(|error| damaged(error.to_string()))?.raw(true);
    let mut records: BTreeMap<Vec<u8>, Vec<u8>> = BTreeMap::new();
    let (mut long_path, mut long_link) = (None, None);
    for (number, entry) in entries.enumerate() {
        if number >= MAX_ENTRIES {
            return Err(damaged(format!("it has more than {MAX_ENTRIES} entries")));
        }
        let mut content = entry.map_err(|error| damaged(error.to_string()))?;
        let kind = content.header().entry_type();
        match kind {
            EntryType::GNULongName => long_path = Some(record(&mut content).map_err(damaged)?),
            EntryType::GNULongLink => long_link = Some(record(&mut content).map_err(damaged)?),
            EntryType::XHeader => records = pax(&record(&mut content).map_err(damaged)?).map_err(damaged)?,
            EntryType::XGlobalHeader => drop(record(&mut content).map_err(damaged)?),
            EntryType::GNUSparse => {
                return Err(damaged("it has sparse files, which are not read yet".to_owned()));
            }
            _ => {
                let taken = std::mem::take(&mut records);
                let entry = whole(kind, content, taken, long_path.take(), long_link.take());
                each(&mut entry.map_err(|error| damaged(error.to_string()))?)?;
            }
        }
    }
    Ok(())
}

fn record(content: &mut impl Read) -> Result<Vec<u8>, String> {
    let mut bytes = Vec::new();
    content.take(MAX_RECORD + 1).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
    if bytes.len() as u64 > MAX_RECORD {
        return Err("a name or record in it is longer than a mebibyte".to_owned());
    }
    Ok(bytes)
}

/// Pax records: `LENGTH KEY=VALUE\n`, where LENGTH counts the whole record.
fn pax(bytes: &[u8]) -> Result<BTreeMap<Vec<u8>, Vec<u8>>, String> {
    let invalid = || "a pax record in it is damaged".to_owned();
    let mut records = BTreeMap::new();
    let mut rest = bytes;
    while !rest.is_empty() {
        let space = rest.iter().position(|byte| *byte == b' ').ok_or_else(invalid)?;
        let length: usize =
            std::str::from_utf8(&rest[..space]).ok().and_then(|digits| digits.parse().ok()).ok_or_else(invalid)?;
        if length <= space + 1 || length > rest.len() || rest[length - 1] != b'\n' {
            return Err(invalid());
        }
        let pair = &rest[space + 1..length - 1];
        let equals = pair.iter().position(|byte| *byte == b'=').ok_or_else(invalid)?;
        records.insert(pair[..equals].to_vec(), pair[equals + 1..].to_vec());
        rest = &rest[length..];
    }
    Ok(records)
}

fn whole<R: Read>(
    kind: EntryType,
    content: tar::Entry<'_, R>,
    mut records: BTreeMap<Vec<u8>, Vec<u8>>,
    long_path: Option<Vec<u8>>,
    long_link: Option<Vec<u8>>,
) -> io::Result<TarEntry<'_, R>> {
    let invalid = |why: &str| io::Error::new(io::ErrorKind::InvalidData, why.to_owned());
    if records.keys().any(|key| key.starts_with(b"GNU.sparse.") || key == b"size") {
        return Err(invalid("it has sparse or over-long files, which are not read yet"));
    }
    let number =
        |value: &[u8]| std::str::from_utf8(value).ok().and_then(|digits| digits.split('.').next()?.parse::<u64>().ok());
    let header = content.header();
    let terminated = |bytes: Vec<u8>| bytes.split(|byte| *byte == 0).next().unwrap_or_default().to_vec();
    let path = records
        .remove(b"path".as_slice())
        .or(long_path.map(terminated))
        .unwrap_or_else(|| header.path_bytes().into_owned());
    let link = records.remove(b"linkpath".as_slice()).or(long_link.map(terminated));
    let link = link.or_else(|| header.link_name_bytes().map(std::borrow::Cow::into_owned)).unwrap_or_default();
    let id = |key: &[u8], given: io::Result<u64>| match records.get(key) {
        Some(value) => number(value).ok_or_else(|| invalid("a number in it is damaged")),
        None => given,
    };
    // Some writers leave the owners blank, which means nobody in particular.
    let blank = |field: &[u8]| field.iter().all(|byte| matches!(byte, 0 | b' '));
    let raw = header.as_old();
    let uid = id(b"uid", if blank(&raw.uid) { Ok(0) } else { header.uid() })?;
    let gid = id(b"gid", if blank(&raw.gid) { Ok(0) } else { header.gid() })?;
    let time = match records.get(b"mtime".as_slice()) {
        Some(value) => number(value).unwrap_or(0),
        // Times before 1970 are written as huge numbers.
        None => header.mtime().ok().filter(|time| *time < 1 << 40).unwrap_or(0),
    };
    let too_large = |_| invalid("an owner's number is too large");
    let mut meta = Meta::owned(
        (header.mode()? & 0o7777) as u16,
        u32::try_from(uid).map_err(too_large)?,
        u32::try_from(gid).map_err(too_large)?,
    );
    for (key, value) in &records {
        if let Some(name) = key.strip_prefix(XATTR_PREFIX) {
            meta.xattrs.insert(name.to_vec(), value.clone());
        }
    }
    Ok(TarEntry { kind, path, link, size: header.entry_size()?, time, meta, content })
}

/// The newest time stamp in a tar stream, in seconds since 1970.
///
/// # Errors
/// A damaged archive.
pub fn newest(from: impl Read, name: &str) -> Result<u64, SourceError> {
    let mut newest = 0;
    for_each(from, name, |entry| {
        newest = newest.max(entry.time);
        Ok(())
    })?;
    Ok(newest)
}

/// One file of a tar stream; nothing when it is not there.
///
/// # Errors
/// A damaged archive; a file longer than `longest`.
pub fn read_one(from: impl Read, name: &str, path: &str, longest: u64) -> Result<Option<Vec<u8>>, SourceError> {
    let damaged = |why: String| SourceError::Damaged { name: name.to_owned(), why };
    let mut found = None;
    for_each(from, name, |entry| {
        let same = RootPath::from_archive(&entry.path).is_ok_and(|at| at.as_bytes() == path.as_bytes());
        if found.is_none() && same && entry.kind.is_file() {
            if entry.size > longest {
                return Err(damaged(format!("{path} is longer than {longest} bytes")));
            }
            let mut bytes = Vec::new();
            entry.content.read_to_end(&mut bytes).map_err(|error| damaged(error.to_string()))?;
            found = Some(bytes);
        }
        Ok(())
    })?;
    Ok(found)
}

/// Lays a tar stream into a layer. Returns the paths it laid, in the archive's order.
///
/// # Errors
/// A damaged archive, one that brings what it must not, and what the store says.
pub fn unpack(
    from: impl Read,
    name: &str,
    laying: &Laying,
    writer: &mut impl Sink,
) -> Result<Vec<RootPath>, SourceError> {
    let refused = |why: String| SourceError::Refused { name: name.to_owned(), why };
    let mut laid = Vec::new();
    for_each(from, name, |entry| {
        let Some(path) = laying.place_of(&entry.path).map_err(refused)? else {
            return Ok(());
        };
        if lay(entry, name, path.clone(), laying, writer)? {
            laid.push(path);
        }
        Ok(())
    })?;
    Ok(laid)
}

/// Lays one entry at a path; false when it is left out.
pub(crate) fn lay<R: Read>(
    entry: &mut TarEntry<'_, R>,
    name: &str,
    path: RootPath,
    laying: &Laying,
    writer: &mut impl Sink,
) -> Result<bool, SourceError> {
    let refused = |why: String| SourceError::Refused { name: name.to_owned(), why };
    // Inside, /dev is always the sandbox's own; what an archive has there would never be seen.
    if laying.rights == Rights::AsGiven && path.names().next() == Some(b"dev") && path.depth() > 1 {
        return Ok(false);
    }
    let program = matches!(entry.kind, EntryType::Regular | EntryType::Continuous);
    let given = std::mem::take(&mut entry.meta);
    let meta = laying.meta(&path, given, program).map_err(refused)?;
    let done = match entry.kind {
        EntryType::Directory => writer.directory(&path, meta),
        EntryType::Regular | EntryType::Continuous => {
            let expected = entry.size;
            match writer.file(&path, meta, &mut entry.content) {
                Ok(size) if size != expected => {
                    let why = format!("it ends in the middle of {path}");
                    return Err(SourceError::Damaged { name: name.to_owned(), why });
                }
                other => other.map(drop),
            }
        }
        EntryType::Symlink => writer.symlink(&path, meta, &entry.link),
        EntryType::Link => match laying.place_of(&entry.link).map_err(refused)? {
            Some(existing) => writer.hard_link(&path, &existing),
            None => {
                return Err(refused(format!("{path} is a hard link to what is left out")));
            }
        },
        EntryType::Fifo if laying.rights == Rights::AsGiven => writer.fifo(&path, meta),
        EntryType::Fifo => return Err(refused(format!("{path} is a named pipe"))),
        EntryType::Char | EntryType::Block => {
            return Err(refused(format!("{path} is a device")));
        }
        other => {
            let kind = shown(&[other.as_byte()]);
            return Err(refused(format!("{path} is of a kind that is not known ({kind})")));
        }
    };
    done.map_err(blame(name))?;
    Ok(true)
}

/// Copies one file of a tar stream; false when it is not there.
///
/// # Errors
/// A damaged archive; a disk that refuses.
pub fn copy_one(from: impl Read, name: &str, path: &str, to: &mut std::fs::File) -> Result<bool, SourceError> {
    let damaged = |error: io::Error| SourceError::Damaged { name: name.to_owned(), why: error.to_string() };
    let mut found = false;
    for_each(from, name, |entry| {
        let same = RootPath::from_archive(&entry.path).is_ok_and(|at| at.as_bytes() == path.as_bytes());
        if same && !found && entry.kind.is_file() {
            found = true;
            io::copy(&mut entry.content, to).map_err(damaged)?;
        }
        Ok(())
    })?;
    Ok(found)
}
