//! Zip archives (APPNOTE.TXT of the format's maker), read through their central directory.

use std::io::{Read as _, Seek as _, SeekFrom};

use cavrith_core::path::shown;
use cavrith_core::tree::Meta;
use cavrith_store::writer::LayerWriter;

use crate::bounds::{self, Bounded, MAX_ENTRIES};
use crate::checked::Checked;
use crate::tarball::Laying;
use crate::{SourceError, blame};

/// Whether a file begins as zip archives do (APPNOTE.TXT, section 4.3.7; an empty one begins with its end, section
/// 4.3.16).
///
/// # Errors
/// When it cannot be read.
pub fn is_zip(checked: &mut Checked) -> std::io::Result<bool> {
    let mut first = [0; 4];
    let read = checked.open()?.take(4).read(&mut first)?;
    Ok(read == 4 && matches!(&first, b"PK\x03\x04" | b"PK\x05\x06"))
}

/// One file of a zip archive; nothing when it is not there.
///
/// # Errors
/// A damaged archive; a file longer than `longest`.
pub fn read_one(checked: &mut Checked, path: &str, longest: u64) -> Result<Option<Vec<u8>>, SourceError> {
    let name = checked.name().to_owned();
    let damaged = |why: String| SourceError::Damaged { name: name.clone(), why };
    let file = checked.open().map_err(|error| damaged(error.to_string()))?;
    let mut archive =
        zip::ZipArchive::new(std::io::BufReader::new(file)).map_err(|error| damaged(error.to_string()))?;
    let entry = match archive.by_name(path) {
        Ok(entry) => entry,
        Err(zip::result::ZipError::FileNotFound) => return Ok(None),
        Err(error) => return Err(damaged(error.to_string())),
    };
    let mut bytes = Vec::new();
    entry.take(longest + 1).read_to_end(&mut bytes).map_err(|error| damaged(format!("{path}: {error}")))?;
    if bytes.len() as u64 > longest {
        return Err(damaged(format!("{path} is longer than {longest} bytes")));
    }
    Ok(Some(bytes))
}

/// A zip archive tells of each entry twice: right before it (APPNOTE.TXT, section 4.3.7) and in the central directory
/// (section 4.3.12). Programs that read the one see another archive than those that read the other, when the two do not
/// say the same.
fn directories_agree(checked: &mut Checked) -> Result<(), SourceError> {
    let name = checked.name().to_owned();
    let damaged = |why: String| SourceError::Damaged { name: name.clone(), why };
    let refused = |why: String| SourceError::Refused { name: name.clone(), why };
    let mut central = Vec::new();
    {
        let file = checked.open().map_err(|error| damaged(error.to_string()))?;
        let archive = zip::ZipArchive::new(std::io::BufReader::new(file));
        let mut archive = archive.map_err(|error| damaged(error.to_string()))?;
        for index in 0..archive.len().min(MAX_ENTRIES) {
            let entry = archive.by_index_raw(index).map_err(|error| damaged(error.to_string()))?;
            central.push((entry.header_start(), entry.name_raw().to_vec()));
        }
    }
    let file = checked.open().map_err(|error| damaged(error.to_string()))?;
    let mut file = std::io::BufReader::new(file);
    for (start, expected) in central {
        let mut header = [0; 30];
        let mut local = Vec::new();
        let read = file.seek(SeekFrom::Start(start)).and_then(|_| file.read_exact(&mut header)).and_then(|()| {
            local = vec![0; usize::from(u16::from_le_bytes([header[26], header[27]]))];
            file.read_exact(&mut local)
        });
        read.map_err(|error| damaged(format!("{}: {error}", shown(&expected))))?;
        if local != expected {
            let why = format!("its central directory calls {} what calls itself {}", shown(&expected), shown(&local));
            return Err(refused(why));
        }
    }
    Ok(())
}

/// Lays a zip archive into a layer.
///
/// # Errors
/// A damaged archive, one that brings what it must not, and what the store says.
pub fn unpack(checked: &mut Checked, laying: &Laying, writer: &mut LayerWriter) -> Result<(), SourceError> {
    let name = checked.name().to_owned();
    let damaged = |why: String| SourceError::Damaged { name: name.clone(), why };
    let refused = |why: String| SourceError::Refused { name: name.clone(), why };
    let mut budget = bounds::unpacked(checked.size());
    directories_agree(checked)?;
    let file = checked.open().map_err(|error| damaged(error.to_string()))?;
    let mut archive =
        zip::ZipArchive::new(std::io::BufReader::new(file)).map_err(|error| damaged(error.to_string()))?;
    if archive.len() > MAX_ENTRIES {
        return Err(damaged(format!("it has more than {MAX_ENTRIES} entries")));
    }
    for index in 0..archive.len() {
        let entry = archive.by_index(index).map_err(|error| damaged(error.to_string()))?;
        let raw = entry.name_raw().to_vec();
        let Some(path) = laying.place_of(&raw).map_err(refused)? else {
            continue;
        };
        let mode = entry.unix_mode();
        // Without Unix rights (written on another system) a file is a plain file.
        let default = if entry.is_dir() { 0o755 } else { 0o644 };
        let given = Meta::root((mode.unwrap_or(default) & 0o7777) as u16);
        let kind = mode.map_or(0, |mode| mode & 0o170_000);
        let done = if entry.is_dir() {
            let meta = laying.meta(&path, given, false).map_err(refused)?;
            writer.directory(&path, meta)
        } else if kind == 0o120_000 {
            let mut target = Vec::new();
            entry.take(4097).read_to_end(&mut target).map_err(|error| damaged(format!("{path}: {error}")))?;
            writer.symlink(&path, Meta::root(0o777), &target)
        } else if matches!(kind, 0 | 0o100_000) {
            let meta = laying.meta(&path, given, true).map_err(refused)?;
            let expected = entry.size();
            let size = writer.file(&path, meta, &mut Bounded::new(entry, budget)).map_err(blame(&name))?;
            if size != expected {
                return Err(damaged(format!("{path} has {size} bytes, and the archive says {expected}")));
            }
            budget -= size;
            Ok(())
        } else {
            return Err(refused(format!("{} is neither a file, a directory nor a link", shown(&raw))));
        };
        done.map_err(blame(&name))?;
    }
    Ok(())
}
