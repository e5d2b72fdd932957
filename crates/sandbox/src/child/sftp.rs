//! Files over SSH (draft-ietf-secsh-filexfer-02, version 3 of SFTP), answered inside by a process of ours that has
//! become the account: what it may see and change is what the account may. The extensions are those that OpenSSH's own
//! client asks for (its `PROTOCOL`, section 4).

mod wire;

use std::collections::HashMap;
use std::fs::{self, File, OpenOptions, ReadDir};
use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{DirBuilderExt as _, FileExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD};

use wire::{
    Answered, Message, Refusal, attributes, done, handle, one_name, put_name, put_string, real_path, space, status,
};

/// Bytes that a message may have, as OpenSSH's own server takes them.
const LONGEST: u32 = 256 << 10;
/// Bytes that are read or written at once.
const MOST_DATA: u32 = LONGEST - 1024;
/// Files and directories that are open at once.
const MOST_OPEN: usize = 200;
/// Names that are told at once.
const NAMES: usize = 100;

/// Kinds of requests (section 3).
mod kind {
    pub const INIT: u8 = 1;
    pub const OPEN: u8 = 3;
    pub const CLOSE: u8 = 4;
    pub const READ: u8 = 5;
    pub const WRITE: u8 = 6;
    pub const LSTAT: u8 = 7;
    pub const FSTAT: u8 = 8;
    pub const SETSTAT: u8 = 9;
    pub const FSETSTAT: u8 = 10;
    pub const OPENDIR: u8 = 11;
    pub const READDIR: u8 = 12;
    pub const REMOVE: u8 = 13;
    pub const MKDIR: u8 = 14;
    pub const RMDIR: u8 = 15;
    pub const REALPATH: u8 = 16;
    pub const STAT: u8 = 17;
    pub const RENAME: u8 = 18;
    pub const READLINK: u8 = 19;
    pub const SYMLINK: u8 = 20;
    pub const EXTENDED: u8 = 200;
}

const VERSION: u8 = 2;
const STATUS: u8 = 101;
const HANDLE: u8 = 102;
const DATA: u8 = 103;
const NAME: u8 = 104;
const ATTRS: u8 = 105;
const EXTENDED_REPLY: u8 = 201;

/// The version that is spoken.
const SPOKEN: u32 = 3;
/// Extensions, each with its version.
const EXTENSIONS: [(&str, &str); 8] = [
    ("posix-rename@openssh.com", "1"),
    ("statvfs@openssh.com", "2"),
    ("fstatvfs@openssh.com", "2"),
    ("hardlink@openssh.com", "1"),
    ("fsync@openssh.com", "1"),
    ("lsetstat@openssh.com", "1"),
    ("limits@openssh.com", "1"),
    ("expand-path@openssh.com", "1"),
];

/// How a file is opened (section 6.3).
const FOR_READING: u32 = 1;
const FOR_WRITING: u32 = 2;
const APPENDING: u32 = 4;
const MAKING: u32 = 8;
const EMPTYING: u32 = 16;
const ONLY_NEW: u32 = 32;

/// Something that a client has open.
enum Open {
    File(File),
    Directory(PathBuf, ReadDir),
}

/// One client.
struct Server<W: Write> {
    to: BufWriter<W>,
    open: HashMap<u32, Open>,
    next: u32,
    read_only: bool,
    home: PathBuf,
}

/// Answers a client until it ends. Nothing is written when only reading is allowed.
///
/// # Errors
/// When the streams fail, or what comes is no SFTP.
pub(crate) fn serve(from: impl Read, to: impl Write, home: &Path, read_only: bool) -> io::Result<()> {
    let mut from = BufReader::with_capacity(LONGEST as usize, from);
    let to = BufWriter::with_capacity(LONGEST as usize, to);
    let mut server = Server { to, open: HashMap::new(), next: 0, read_only, home: home.to_owned() };
    let mut message = Vec::new();
    loop {
        // Answers wait only as long as there are questions that came together with theirs.
        if from.buffer().len() < 4 {
            server.to.flush()?;
        }
        if from.fill_buf()?.is_empty() {
            return Ok(());
        }
        let mut length = [0; 4];
        from.read_exact(&mut length)?;
        let length = u32::from_be_bytes(length);
        if length == 0 || length > LONGEST {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "this is no SFTP"));
        }
        message.resize(length as usize, 0);
        if from.buffer().len() < length as usize {
            server.to.flush()?;
        }
        from.read_exact(&mut message)?;
        server.answer(&message)?;
    }
}

impl<W: Write> Server<W> {
    fn send(&mut self, kind: u8, id: Option<u32>, body: &[u8]) -> io::Result<()> {
        let length = 1 + body.len() + if id.is_some() { 4 } else { 0 };
        self.to.write_all(&(length as u32).to_be_bytes())?;
        self.to.write_all(&[kind])?;
        if let Some(id) = id {
            self.to.write_all(&id.to_be_bytes())?;
        }
        self.to.write_all(body)
    }

    fn answer(&mut self, message: &[u8]) -> io::Result<()> {
        let mut message = Message(message);
        let kind = message.take(1).ok().and_then(|kind| kind.first().copied()).unwrap_or_default();
        let Ok(id) = message.number() else { return Ok(()) };
        if kind == kind::INIT {
            let mut body = SPOKEN.to_be_bytes().to_vec();
            for (name, version) in EXTENSIONS {
                put_string(&mut body, name.as_bytes());
                put_string(&mut body, version.as_bytes());
            }
            return self.send(VERSION, None, &body);
        }
        match self.carry_out(kind, &mut message) {
            Ok((kind, body)) => self.send(kind, Some(id), &body),
            Err(refusal) => {
                let (code, why) = refusal.status();
                self.send_status(id, code, &why)
            }
        }
    }

    fn send_status(&mut self, id: u32, code: u32, why: &str) -> io::Result<()> {
        let body = status(code, why);
        self.send(STATUS, Some(id), &body)
    }

    fn carry_out(&mut self, kind: u8, message: &mut Message<'_>) -> Answered<(u8, Vec<u8>)> {
        let changes = matches!(
            kind,
            kind::WRITE
                | kind::SETSTAT
                | kind::FSETSTAT
                | kind::REMOVE
                | kind::MKDIR
                | kind::RMDIR
                | kind::RENAME
                | kind::SYMLINK
        );
        if changes && self.read_only {
            return Err(Refusal::ReadOnly);
        }
        match kind {
            kind::OPEN => self.open_file(message).map(|body| (HANDLE, body)),
            kind::CLOSE => {
                let handle = handle(message)?;
                self.open.remove(&handle).ok_or(Refusal::Bad)?;
                done()
            }
            kind::READ => self.read(message).map(|body| (DATA, body)),
            kind::WRITE => {
                let file = self.file(message)?;
                let at = message.long()?;
                file.write_all_at(message.string()?, at)?;
                done()
            }
            kind::LSTAT => attributes(&message.path()?.symlink_metadata()?),
            kind::STAT => attributes(&message.path()?.metadata()?),
            kind::FSTAT => attributes(&self.file(message)?.metadata()?),
            kind::SETSTAT => {
                let path = message.path()?;
                message.attributes()?.apply(path, AtFlags::empty())?;
                done()
            }
            kind::FSETSTAT => {
                let file = self.file(message)?;
                message.attributes()?.apply_to(file)?;
                done()
            }
            kind::OPENDIR => {
                let path = message.path()?;
                let open = Open::Directory(path.to_owned(), fs::read_dir(path)?);
                Ok((HANDLE, self.keep(open)?))
            }
            kind::READDIR => self.names(message).map(|body| (NAME, body)),
            kind::REMOVE => {
                fs::remove_file(message.path()?)?;
                done()
            }
            kind::MKDIR => {
                let path = message.path()?;
                let rights = message.attributes()?.rights.unwrap_or(0o777);
                fs::DirBuilder::new().mode(rights).create(path)?;
                done()
            }
            kind::RMDIR => {
                fs::remove_dir(message.path()?)?;
                done()
            }
            kind::REALPATH => {
                let path = real_path(message.path()?)?;
                Ok((NAME, one_name(&path)))
            }
            kind::RENAME => {
                let (from, to) = (message.path()?, message.path()?);
                // What is there already is not replaced (section 6.5).
                let (from, to) = ((CWD, from), (CWD, to));
                rustix::fs::renameat_with(from.0, from.1, to.0, to.1, rustix::fs::RenameFlags::NOREPLACE)?;
                done()
            }
            kind::READLINK => {
                let target = fs::read_link(message.path()?)?;
                Ok((NAME, one_name(&target)))
            }
            kind::SYMLINK => {
                // OpenSSH's order, which everybody has: what it leads to comes first (its `PROTOCOL`, section 4.1).
                let (target, link) = (message.path()?, message.path()?);
                std::os::unix::fs::symlink(target, link)?;
                done()
            }
            kind::EXTENDED => self.extended(message),
            _ => Err(Refusal::Unsupported),
        }
    }

    fn extended(&mut self, message: &mut Message<'_>) -> Answered<(u8, Vec<u8>)> {
        let name = message.string()?;
        let changes: [&[u8]; 3] = [b"posix-rename@openssh.com", b"hardlink@openssh.com", b"lsetstat@openssh.com"];
        if self.read_only && changes.contains(&name) {
            return Err(Refusal::ReadOnly);
        }
        match name {
            b"posix-rename@openssh.com" => {
                fs::rename(message.path()?, message.path()?)?;
                done()
            }
            b"hardlink@openssh.com" => {
                fs::hard_link(message.path()?, message.path()?)?;
                done()
            }
            b"lsetstat@openssh.com" => {
                let path = message.path()?;
                message.attributes()?.apply(path, AtFlags::SYMLINK_NOFOLLOW)?;
                done()
            }
            b"fsync@openssh.com" => {
                self.file(message)?.sync_all()?;
                done()
            }
            b"statvfs@openssh.com" => Ok((EXTENDED_REPLY, space(&rustix::fs::statvfs(message.path()?)?))),
            b"fstatvfs@openssh.com" => {
                let file = self.file(message)?;
                Ok((EXTENDED_REPLY, space(&rustix::fs::fstatvfs(file)?)))
            }
            b"limits@openssh.com" => {
                let limits = [LONGEST, MOST_DATA, MOST_DATA, MOST_OPEN as u32];
                Ok((EXTENDED_REPLY, limits.iter().flat_map(|limit| u64::from(*limit).to_be_bytes()).collect()))
            }
            b"expand-path@openssh.com" => {
                let path = message.path()?;
                let path = match path.strip_prefix("~") {
                    Ok(rest) => self.home.join(rest),
                    Err(_) => path.to_owned(),
                };
                Ok((NAME, one_name(&real_path(&path)?)))
            }
            _ => Err(Refusal::Unsupported),
        }
    }

    fn open_file(&mut self, message: &mut Message<'_>) -> Answered {
        let path = message.path()?;
        let flags = message.number()?;
        let rights = message.attributes()?.rights.unwrap_or(0o666);
        let has = |flag: u32| flags & flag != 0;
        if self.read_only && flags & !FOR_READING != 0 {
            return Err(Refusal::ReadOnly);
        }
        let mut how = OpenOptions::new();
        how.read(has(FOR_READING)).write(has(FOR_WRITING)).append(has(APPENDING)).mode(rights);
        how.truncate(has(EMPTYING)).create(has(MAKING)).create_new(has(MAKING) && has(ONLY_NEW));
        // A pipe that nobody writes to would hold up everything else.
        how.custom_flags(libc::O_NOCTTY | libc::O_NONBLOCK);
        let open = Open::File(how.open(path)?);
        self.keep(open)
    }

    fn keep(&mut self, open: Open) -> Answered {
        if self.open.len() >= MOST_OPEN {
            return Err(Refusal::Disk(io::Error::other("too many files are open")));
        }
        while self.open.contains_key(&self.next) {
            self.next = self.next.wrapping_add(1);
        }
        self.open.insert(self.next, open);
        let mut body = Vec::new();
        put_string(&mut body, &self.next.to_be_bytes());
        self.next = self.next.wrapping_add(1);
        Ok(body)
    }

    fn file(&self, message: &mut Message<'_>) -> Answered<&File> {
        match self.open.get(&handle(message)?) {
            Some(Open::File(file)) => Ok(file),
            _ => Err(Refusal::Bad),
        }
    }

    fn read(&mut self, message: &mut Message<'_>) -> Answered {
        let file = self.file(message)?;
        let (at, length) = (message.long()?, message.number()?.min(MOST_DATA));
        let mut body = vec![0; 4 + length as usize];
        let mut count = 0;
        loop {
            match file.read_at(&mut body[4 + count..], at + count as u64) {
                Ok(0) => break,
                Ok(more) => count += more,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error.into()),
            }
        }
        if count == 0 && length > 0 {
            return Err(Refusal::End);
        }
        body.truncate(4 + count);
        body[..4].copy_from_slice(&(count as u32).to_be_bytes());
        Ok(body)
    }

    fn names(&mut self, message: &mut Message<'_>) -> Answered {
        let Some(Open::Directory(path, entries)) = self.open.get_mut(&handle(message)?) else {
            return Err(Refusal::Bad);
        };
        let mut body = vec![0; 4];
        let mut count = 0_u32;
        for entry in entries.take(NAMES) {
            let entry = entry?;
            // One that was removed meanwhile is left out.
            let Ok(meta) = path.join(entry.file_name()).symlink_metadata() else { continue };
            put_name(&mut body, entry.file_name().as_bytes(), &meta);
            count += 1;
        }
        if count == 0 {
            return Err(Refusal::End);
        }
        body[..4].copy_from_slice(&count.to_be_bytes());
        Ok(body)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::wire::{RIGHTS, date};
    use super::*;

    fn request(kind: u8, id: u32, parts: &[&[u8]]) -> Vec<u8> {
        let body: Vec<u8> = [&[kind][..], &id.to_be_bytes()].concat();
        let body = parts.iter().fold(body, |body, part| [&body[..], part].concat());
        [&(body.len() as u32).to_be_bytes()[..], &body].concat()
    }

    fn text(bytes: &[u8]) -> Vec<u8> {
        let mut out = Vec::new();
        put_string(&mut out, bytes);
        out
    }

    /// The answers to requests: each its kind, and what follows the number of its request.
    fn answers(requests: &[Vec<u8>], dir: &Path, read_only: bool) -> Vec<(u8, Vec<u8>)> {
        let mut out = Vec::new();
        serve(requests.concat().as_slice(), &mut out, dir, read_only).unwrap();
        let mut rest = out.as_slice();
        let mut found = Vec::new();
        while let Some((length, more)) = rest.split_first_chunk::<4>() {
            let (one, more) = more.split_at(u32::from_be_bytes(*length) as usize);
            found.push((one[0], one[5..].to_vec()));
            rest = more;
        }
        found
    }

    #[test]
    fn a_file_is_written_read_renamed_and_listed() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("pier \u{fe}");
        let (name, other) = (text(path.as_os_str().as_bytes()), text(dir.path().join("b").as_os_str().as_bytes()));
        let new = (FOR_READING | FOR_WRITING | MAKING | ONLY_NEW).to_be_bytes();
        let zero = text(&0_u32.to_be_bytes());
        let one = text(&1_u32.to_be_bytes());
        let found = answers(
            &[
                request(kind::INIT, 3, &[]),
                request(kind::OPEN, 1, &[&name, &new, &RIGHTS.to_be_bytes(), &0o640_u32.to_be_bytes()]),
                request(kind::WRITE, 2, &[&zero, &0_u64.to_be_bytes(), &text(b"Brindle Ferry")]),
                request(kind::READ, 3, &[&zero, &8_u64.to_be_bytes(), &100_u32.to_be_bytes()]),
                request(kind::READ, 4, &[&zero, &99_u64.to_be_bytes(), &100_u32.to_be_bytes()]),
                request(kind::CLOSE, 5, &[&zero]),
                request(kind::CLOSE, 6, &[&zero]),
                request(kind::RENAME, 7, &[&name, &other]),
                request(kind::OPENDIR, 8, &[&text(dir.path().as_os_str().as_bytes())]),
                request(kind::READDIR, 9, &[&one]),
                request(kind::READDIR, 10, &[&one]),
                request(kind::STAT, 11, &[&other]),
                request(kind::REMOVE, 12, &[&other]),
                request(kind::LSTAT, 13, &[&other]),
            ],
            dir.path(),
            false,
        );
        let code = |at: usize| u32::from_be_bytes(*found[at].1.first_chunk::<4>().unwrap());
        assert_eq!(found[0].0, VERSION);
        assert_eq!((found[1].0, found[1].1.as_slice()), (HANDLE, zero.as_slice()));
        assert_eq!((found[3].0, found[3].1.as_slice()), (DATA, text(b"Ferry").as_slice()));
        assert_eq!((found[4].0, code(4)), (STATUS, 1));
        assert_eq!((code(2), code(5), code(6), code(7)), (0, 0, 5, 0));
        let listed = String::from_utf8_lossy(&found[9].1).into_owned();
        assert!(
            found[9].0 == NAME && listed.contains("-rw-r-----") && listed.ends_with("b\0\0\0\u{f}")
                || listed.contains(" b")
        );
        assert_eq!((found[10].0, code(10)), (STATUS, 1));
        assert_eq!((found[11].0, &found[11].1[4..12]), (ATTRS, &13_u64.to_be_bytes()[..]));
        assert_eq!((code(12), found[13].0, code(13)), (0, STATUS, 2));
    }

    #[test]
    fn whoever_may_only_read_changes_nothing() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("tide");
        fs::write(&path, "low").unwrap();
        let (name, other) = (text(path.as_os_str().as_bytes()), text(dir.path().join("b").as_os_str().as_bytes()));
        let none = 0_u32.to_be_bytes();
        let how = |flags: u32| flags.to_be_bytes();
        let requests = [
            request(kind::OPEN, 1, &[&name, &how(FOR_WRITING), &none]),
            request(kind::OPEN, 2, &[&name, &how(FOR_READING | EMPTYING), &none]),
            request(kind::OPEN, 3, &[&other, &how(FOR_READING | MAKING), &none]),
            request(kind::REMOVE, 4, &[&name]),
            request(kind::RENAME, 5, &[&name, &other]),
            request(kind::SYMLINK, 6, &[&name, &other]),
            request(kind::MKDIR, 7, &[&other, &none]),
            request(kind::SETSTAT, 8, &[&name, &RIGHTS.to_be_bytes(), &none]),
            request(kind::EXTENDED, 9, &[&text(b"posix-rename@openssh.com"), &name, &other]),
            request(kind::EXTENDED, 10, &[&text(b"hardlink@openssh.com"), &name, &other]),
            request(kind::OPEN, 11, &[&name, &how(FOR_READING), &none]),
        ];
        let found = answers(&requests, dir.path(), true);
        assert!(found[..10].iter().all(|(kind, body)| *kind == STATUS && body[..4] == [0, 0, 0, 3]));
        assert_eq!(found[10].0, HANDLE);
        assert_eq!(fs::read_to_string(&path).unwrap(), "low");
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 1);
    }

    #[test]
    fn dates_are_those_of_the_calendar() {
        for (seconds, wanted) in [(0, (1970, 1, 1)), (951_782_400, (2000, 2, 29)), (1_772_323_200, (2026, 3, 1))] {
            assert_eq!(date(seconds), wanted);
        }
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_fall_over(kind in 0_u8..=210, bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            // Only what changes nothing: this runs over the machine that tests it.
            let mut out = Vec::new();
            let dir = tempfile::tempdir().unwrap();
            let _ = serve(request(kind, 1, &[&bytes]).as_slice(), &mut out, dir.path(), true);
            let _ = serve(bytes.as_slice(), &mut out, dir.path(), true);
        }
    }
}
