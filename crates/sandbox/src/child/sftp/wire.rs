//! Messages of SFTP: taken apart, and put together (draft-ietf-secsh-filexfer-02, sections 3, 5 and 7).

use std::ffi::OsStr;
use std::fs::{self, File, Metadata, OpenOptions};
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, Timespec, Timestamps};

use super::{ATTRS, STATUS};

/// What of a file's attributes a message has (section 5).
pub(super) const SIZE: u32 = 1;
pub(super) const OWNERS: u32 = 2;
pub(super) const RIGHTS: u32 = 4;
pub(super) const TIMES: u32 = 8;
pub(super) const MORE: u32 = 0x8000_0000;

/// Why a request was not carried out (section 7).
#[derive(Debug)]
pub(super) enum Refusal {
    /// There is no more to read.
    End,
    /// It is not as a message has to be.
    Bad,
    /// There is no such request here.
    Unsupported,
    /// Only reading is allowed.
    ReadOnly,
    Disk(io::Error),
}

impl From<io::Error> for Refusal {
    fn from(error: io::Error) -> Self {
        Self::Disk(error)
    }
}

impl From<rustix::io::Errno> for Refusal {
    fn from(error: rustix::io::Errno) -> Self {
        Self::Disk(error.into())
    }
}

impl Refusal {
    pub(super) fn status(&self) -> (u32, String) {
        match self {
            Self::End => (1, "there is no more".to_owned()),
            Self::Bad => (5, "the message is not well formed".to_owned()),
            Self::Unsupported => (8, "this is not supported".to_owned()),
            Self::ReadOnly => (3, "only reading is allowed here".to_owned()),
            Self::Disk(error) => {
                let code = match error.kind() {
                    io::ErrorKind::NotFound => 2,
                    io::ErrorKind::PermissionDenied => 3,
                    _ => 4,
                };
                (code, error.to_string())
            }
        }
    }
}

pub(super) type Answered<T = Vec<u8>> = Result<T, Refusal>;

/// A message that is read from its front.
pub(super) struct Message<'a>(pub(super) &'a [u8]);

impl<'a> Message<'a> {
    pub(super) fn take(&mut self, count: usize) -> Answered<&'a [u8]> {
        let (taken, rest) = self.0.split_at_checked(count).ok_or(Refusal::Bad)?;
        self.0 = rest;
        Ok(taken)
    }

    pub(super) fn number(&mut self) -> Answered<u32> {
        let bytes = self.take(4)?.first_chunk().ok_or(Refusal::Bad)?;
        Ok(u32::from_be_bytes(*bytes))
    }

    pub(super) fn long(&mut self) -> Answered<u64> {
        let bytes = self.take(8)?.first_chunk().ok_or(Refusal::Bad)?;
        Ok(u64::from_be_bytes(*bytes))
    }

    pub(super) fn string(&mut self) -> Answered<&'a [u8]> {
        let length = self.number()?;
        self.take(length as usize)
    }

    /// A path as the client has it; relative ones lie in the directory in which this process is.
    pub(super) fn path(&mut self) -> Answered<&'a Path> {
        let bytes = self.string()?;
        Ok(Path::new(OsStr::from_bytes(if bytes.is_empty() { b"." } else { bytes })))
    }

    pub(super) fn attributes(&mut self) -> Answered<Attributes> {
        let flags = self.number()?;
        let mut found = Attributes::default();
        if flags & SIZE != 0 {
            found.size = Some(self.long()?);
        }
        if flags & OWNERS != 0 {
            found.owners = Some((self.number()?, self.number()?));
        }
        if flags & RIGHTS != 0 {
            found.rights = Some(self.number()? & 0o7777);
        }
        if flags & TIMES != 0 {
            found.times = Some((self.number()?, self.number()?));
        }
        if flags & MORE != 0 {
            let count = self.number()?;
            for _ in 0..count {
                self.string()?;
                self.string()?;
            }
        }
        Ok(found)
    }
}

/// What a client wants a file to have.
#[derive(Debug, Default)]
pub(super) struct Attributes {
    pub(super) size: Option<u64>,
    pub(super) owners: Option<(u32, u32)>,
    pub(super) rights: Option<u32>,
    pub(super) times: Option<(u32, u32)>,
}

impl Attributes {
    fn timestamps((read, written): (u32, u32)) -> Timestamps {
        let time = |seconds: u32| Timespec { tv_sec: i64::from(seconds), tv_nsec: 0 };
        Timestamps { last_access: time(read), last_modification: time(written) }
    }

    pub(super) fn apply(&self, path: &Path, flags: AtFlags) -> Answered<()> {
        if let Some(size) = self.size {
            OpenOptions::new().write(true).open(path)?.set_len(size)?;
        }
        if let Some((user, group)) = self.owners {
            let (user, group) = (rustix::fs::Uid::from_raw(user), rustix::fs::Gid::from_raw(group));
            rustix::fs::chownat(CWD, path, Some(user), Some(group), flags)?;
        }
        // A link has no rights of its own (chmod(2)).
        if let Some(rights) = self.rights.filter(|_| flags.is_empty()) {
            fs::set_permissions(path, fs::Permissions::from_mode(rights))?;
        }
        if let Some(times) = self.times {
            rustix::fs::utimensat(CWD, path, &Self::timestamps(times), flags)?;
        }
        Ok(())
    }

    pub(super) fn apply_to(&self, file: &File) -> Answered<()> {
        if let Some(size) = self.size {
            file.set_len(size)?;
        }
        if let Some((user, group)) = self.owners {
            let (user, group) = (rustix::fs::Uid::from_raw(user), rustix::fs::Gid::from_raw(group));
            rustix::fs::fchown(file, Some(user), Some(group))?;
        }
        if let Some(rights) = self.rights {
            file.set_permissions(fs::Permissions::from_mode(rights))?;
        }
        if let Some(times) = self.times {
            rustix::fs::futimens(file, &Self::timestamps(times))?;
        }
        Ok(())
    }
}

pub(super) fn put(to: &mut Vec<u8>, number: u32) {
    to.extend(number.to_be_bytes());
}

pub(super) fn put_string(to: &mut Vec<u8>, bytes: &[u8]) {
    put(to, bytes.len() as u32);
    to.extend(bytes);
}

pub(super) fn put_attributes(to: &mut Vec<u8>, meta: &Metadata) {
    put(to, SIZE | OWNERS | RIGHTS | TIMES);
    to.extend(meta.len().to_be_bytes());
    for number in [meta.uid(), meta.gid(), meta.mode()] {
        put(to, number);
    }
    for seconds in [meta.atime(), meta.mtime()] {
        put(to, seconds.clamp(0, i64::from(u32::MAX)) as u32);
    }
}

/// A line as `ls -l` has it, which clients show (section 7).
pub(super) fn long_name(name: &[u8], meta: &Metadata) -> Vec<u8> {
    let mode = meta.mode();
    let of_kind = match mode & 0o170000 {
        0o040000 => 'd',
        0o120000 => 'l',
        0o140000 => 's',
        0o010000 => 'p',
        0o020000 => 'c',
        0o060000 => 'b',
        _ => '-',
    };
    let right = |bit: u32, letter: char| if mode & bit != 0 { letter } else { '-' };
    let rights: String =
        [6, 3, 0].iter().flat_map(|at| [right(4 << at, 'r'), right(2 << at, 'w'), right(1 << at, 'x')]).collect();
    let (year, month, day) = date(meta.mtime());
    let (links, user, group, size) = (meta.nlink(), meta.uid(), meta.gid(), meta.len());
    let text = format!("{of_kind}{rights} {links:>3} {user:<8} {group:<8} {size:>8} {year:04}-{month:02}-{day:02} ");
    [text.as_bytes(), name].concat()
}

/// The date of a time in seconds since 1970, in UTC ("days from civil" turned around, H. Hinnant, 2013).
pub(super) fn date(seconds: i64) -> (i64, i64, i64) {
    let days = seconds.div_euclid(86_400) + 719_468;
    let (era, of_era) = (days.div_euclid(146_097), days.rem_euclid(146_097));
    let year = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year + year / 4 - year / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let month = if month < 10 { month + 3 } else { month - 9 };
    (year + era * 400 + i64::from(month <= 2), month, day)
}

pub(super) fn handle(message: &mut Message<'_>) -> Answered<u32> {
    let bytes = message.string()?.try_into().map_err(|_| Refusal::Bad)?;
    Ok(u32::from_be_bytes(bytes))
}

pub(super) fn status(code: u32, why: &str) -> Vec<u8> {
    let mut body = code.to_be_bytes().to_vec();
    put_string(&mut body, why.as_bytes());
    put_string(&mut body, b"en");
    body
}

pub(super) fn done() -> Answered<(u8, Vec<u8>)> {
    Ok((STATUS, status(0, "")))
}

pub(super) fn attributes(meta: &Metadata) -> Answered<(u8, Vec<u8>)> {
    let mut body = Vec::new();
    put_attributes(&mut body, meta);
    Ok((ATTRS, body))
}

pub(super) fn put_name(body: &mut Vec<u8>, name: &[u8], meta: &Metadata) {
    put_string(body, name);
    put_string(body, &long_name(name, meta));
    put_attributes(body, meta);
}

/// A name without attributes.
pub(super) fn one_name(path: &Path) -> Vec<u8> {
    let mut body = 1_u32.to_be_bytes().to_vec();
    put_string(&mut body, path.as_os_str().as_bytes());
    put_string(&mut body, path.as_os_str().as_bytes());
    put(&mut body, 0);
    body
}

/// A path without links and dots; the last part need not be there.
pub(super) fn real_path(path: &Path) -> Answered<PathBuf> {
    match fs::canonicalize(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let (Some(parent), Some(name)) = (path.parent(), path.file_name()) else { return Err(error.into()) };
            let parent = if parent == Path::new("") { Path::new(".") } else { parent };
            Ok(fs::canonicalize(parent)?.join(name))
        }
        other => Ok(other?),
    }
}

/// How full a filesystem is, as the extension for it has it (OpenSSH's `PROTOCOL`, section 4.4).
pub(super) fn space(of: &rustix::fs::StatVfs) -> Vec<u8> {
    let flags = u64::from(of.f_flag.contains(rustix::fs::StatVfsMountFlags::RDONLY));
    let numbers = [
        of.f_bsize,
        of.f_frsize,
        of.f_blocks,
        of.f_bfree,
        of.f_bavail,
        of.f_files,
        of.f_ffree,
        of.f_favail,
        of.f_fsid,
        flags,
        of.f_namemax,
    ];
    numbers.iter().flat_map(|number| number.to_be_bytes()).collect()
}
