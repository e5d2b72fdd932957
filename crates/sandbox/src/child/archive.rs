//! Carrying files over the wall as tar archives, by a process of ours that has become the account.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Write as _};
use std::net::Shutdown;
use std::os::fd::AsFd as _;
use std::os::unix::net::UnixStream;
use std::path::{Component, Path, PathBuf};

use crate::child::{placing, sftp};
use crate::host::ground::{self, Most};
use crate::protocol::job::Task;

/// Carries a task out with this process's standard streams.
pub(crate) fn carry_out(task: &Task, env: &BTreeMap<String, String>) -> io::Result<()> {
    let stream = |fd: rustix::fd::BorrowedFd<'_>| -> io::Result<File> { Ok(fd.try_clone_to_owned()?.into()) };
    match task {
        Task::Read(path) => {
            let mut file = File::open(path).map_err(about("read", Path::new(path)))?;
            io::copy(&mut file, &mut stream(rustix::stdio::stdout())?).map(|_| ())
        }
        Task::Environment => {
            let mut to = stream(rustix::stdio::stdout())?;
            env.iter().try_for_each(|(name, value)| write!(to, "{name}={value}\0"))
        }
        Task::Pack { path, name } => pack(Path::new(path), name, stream(rustix::stdio::stdout())?),
        Task::Unpack { path, name } => {
            unpack(stream(rustix::stdio::stdin().as_fd())?, Path::new(path), name).map(|_| ())
        }
        Task::Sftp { read_only } => {
            let home = env.get("HOME").map_or("/", String::as_str);
            let (from, to) = (stream(rustix::stdio::stdin())?, stream(rustix::stdio::stdout())?);
            sftp::serve(from, to, Path::new(home), *read_only)
        }
        Task::Place => {
            let home = env.get("HOME").map_or("/", String::as_str);
            placing::place(stream(rustix::stdio::stdin())?, stream(rustix::stdio::stdout())?, Path::new(home))
        }
        Task::Socket(path) => {
            let socket = UnixStream::connect(path).map_err(about("connect to", Path::new(path)))?;
            let (mut from, mut to) = (stream(rustix::stdio::stdin())?, stream(rustix::stdio::stdout())?);
            let (mut out, mut back) = (socket.try_clone()?, socket);
            let outward = std::thread::spawn(move || {
                let _ = io::copy(&mut from, &mut out);
                let _ = out.shutdown(Shutdown::Write);
            });
            io::copy(&mut back, &mut to)?;
            drop(outward);
            Ok(())
        }
    }
}

fn about<'a>(doing: &'a str, path: &'a Path) -> impl FnOnce(io::Error) -> io::Error + 'a {
    move |error| {
        // The archive's own words only say again what was done; the reason is beneath.
        let beneath = error.get_ref().and_then(|inner| inner.source()).map(ToString::to_string);
        let why = beneath.unwrap_or_else(|| error.to_string());
        io::Error::new(error.kind(), format!("cannot {doing} {}: {why}", path.display()))
    }
}

/// Writes a file or directory to an archive in which its name is `name`. Links are kept as links.
///
/// # Errors
/// When something cannot be read, or the other side has ended.
pub fn pack(path: &Path, name: &str, to: impl io::Write) -> io::Result<()> {
    let mut archive = tar::Builder::new(to);
    archive.follow_symlinks(false);
    // What is named is meant: a link to a directory is followed, what lies in it is not.
    if fs::metadata(path).map_err(about("read", path))?.is_dir() {
        archive.append_dir_all(name, path).map_err(about("copy", path))?;
    } else {
        archive.append_path_with_name(path, name).map_err(about("copy", path))?;
    }
    archive.into_inner()?;
    Ok(())
}

/// A path beneath a directory, by a name that somebody else chose: it leads neither up nor through a link, be it one
/// that an archive itself brought or one that was there. The last part may be a link, or not be there.
///
/// # Errors
/// When it leads elsewhere.
pub fn beneath(whole: &Path, rest: &Path) -> io::Result<PathBuf> {
    let refused = |why: &str| {
        let name = cavrith_core::path::shown(rest.as_os_str().as_encoded_bytes());
        io::Error::new(io::ErrorKind::InvalidInput, format!("{name} leads {why}"))
    };
    let mut at = whole.to_owned();
    for part in rest.components().filter(|part| *part != Component::CurDir) {
        if !matches!(part, Component::Normal(_)) {
            return Err(refused("out of the folder"));
        }
        if at.symlink_metadata().is_ok_and(|meta| meta.is_symlink()) {
            return Err(refused("through a link"));
        }
        at.push(part);
    }
    Ok(at)
}

/// Bytes that are copied at most: a guard against a stream that never ends.
const MOST: Most = Most { bytes: 1 << 42, entries: 1 << 26 };

/// Takes an archive that [`pack`] wrote. What it holds becomes `path`, or lies in it under `name` when it is a
/// directory. Returns what it became.
///
/// # Errors
/// When something cannot be written, or the archive holds what is not a file, directory or link.
pub fn unpack(from: impl io::Read, path: &Path, name: &str) -> io::Result<PathBuf> {
    let whole = if path.is_dir() { path.join(name) } else { path.to_owned() };
    let (ground, own) = ground::around(&whole)?;
    // A link that is there already is replaced, not followed.
    ground.remove_link(&own)?;
    // The first name is the packing side's choice; the rest is beneath.
    let place = |inner: &Path| {
        let rest = inner.components().skip(1);
        Ok(rest.fold(own.clone(), |at, part| at.join(part)))
    };
    let count = ground::unpack(&mut tar::Archive::new(from), &ground, false, MOST, place)?;
    if count == 0 {
        return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "nothing arrived"));
    }
    Ok(whole)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;
    use tar::{Builder, EntryType, Header};

    /// Adds an entry as it is written here, whatever a careful writer would say.
    fn add(archive: &mut Builder<Vec<u8>>, name: &str, kind: EntryType, link: &str, content: &[u8]) {
        let mut header = Header::new_gnu();
        header.as_mut_bytes()[..name.len()].copy_from_slice(name.as_bytes());
        header.as_mut_bytes()[157..157 + link.len()].copy_from_slice(link.as_bytes());
        header.set_entry_type(kind);
        header.set_mode(0o4755);
        header.set_size(content.len() as u64);
        header.set_cksum();
        archive.append(&header, content).unwrap();
    }

    fn archive(entries: &[(&str, EntryType, &str, &[u8])]) -> Vec<u8> {
        let mut archive = Builder::new(Vec::new());
        entries.iter().for_each(|(name, kind, link, content)| add(&mut archive, name, *kind, link, content));
        archive.into_inner().unwrap()
    }

    #[test]
    fn what_is_packed_is_unpacked_the_same() {
        let dir = tempfile::tempdir().unwrap();
        let from = dir.path().join("piers");
        fs::create_dir_all(from.join("north/empty")).unwrap();
        fs::write(from.join("north/pier 1"), "Brindle").unwrap();
        symlink("north/pier 1", from.join("first")).unwrap();
        symlink("/nowhere", from.join("broken")).unwrap();
        let mut packed = Vec::new();
        pack(&from, "piers", &mut packed).unwrap();
        let to = dir.path().join("copy");
        assert_eq!(unpack(packed.as_slice(), &to, "piers").unwrap(), to);
        assert_eq!(fs::read_to_string(to.join("first")).unwrap(), "Brindle");
        assert_eq!(fs::read_link(to.join("broken")).unwrap(), Path::new("/nowhere"));
        assert!(to.join("north/empty").is_dir());
        // Into a directory that is there it goes under its own name; and again over what is there.
        for _ in 0..2 {
            assert_eq!(unpack(packed.as_slice(), &to, "piers").unwrap(), to.join("piers"));
        }
        let mut one = Vec::new();
        pack(&from.join("north/pier 1"), "pier 1", &mut one).unwrap();
        assert_eq!(unpack(one.as_slice(), &to.join("other"), "pier 1").unwrap(), to.join("other"));
        assert_eq!(fs::read_to_string(to.join("other")).unwrap(), "Brindle");
        assert!(unpack(&[0; 1024][..], &to.join("none"), "none").is_err());
    }

    #[test]
    fn a_hostile_archive_writes_nothing_elsewhere() {
        use EntryType::{Directory, Fifo, Link, Regular, Symlink};
        let dir = tempfile::tempdir().unwrap();
        let outside = dir.path().join("outside");
        fs::create_dir(&outside).unwrap();
        fs::write(outside.join("tide"), "low").unwrap();
        let away = outside.to_str().unwrap();
        let tide = format!("{away}/tide");
        for (number, entries) in [
            &[("x", Symlink, away, &b""[..]), ("x/tide", Regular, "", b"high")][..],
            &[("x", Directory, "", b""), ("x/in", Symlink, away, b""), ("x/in/tide", Regular, "", b"high")],
            &[("x", Directory, "", b""), ("x/in", Symlink, away, b""), ("x/in/new", Directory, "", b"")],
            &[("x", Directory, "", b""), ("x/../outside/tide", Regular, "", b"high")],
            &[("x", Directory, "", b""), ("x/own", Link, "x/../outside/tide", b"")],
            &[("x", Symlink, away, b""), ("y/own", Link, "x/tide", b"")],
            &[("x", Directory, "", b""), ("x/pipe", Fifo, "", b"")],
        ]
        .into_iter()
        .enumerate()
        {
            let to = dir.path().join(format!("to-{number}"));
            assert!(unpack(archive(entries).as_slice(), &to, "x").is_err(), "archive {number}");
            assert_eq!(fs::read_dir(&outside).unwrap().count(), 1, "archive {number}");
            assert_eq!(fs::read_to_string(outside.join("tide")).unwrap(), "low", "archive {number}");
            assert!(!to.join("own").exists() && !to.join("pipe").exists(), "archive {number}");
        }
        // Links that are there already are replaced, not followed; rights to become somebody else are not given.
        let to = dir.path().join("to");
        fs::create_dir(&to).unwrap();
        symlink(&tide, to.join("x")).unwrap();
        unpack(archive(&[("x", Regular, "", b"high")]).as_slice(), &to, "x").unwrap();
        assert_eq!(fs::read_to_string(&tide).unwrap(), "low");
        let mode = std::os::unix::fs::PermissionsExt::mode(&fs::symlink_metadata(to.join("x")).unwrap().permissions());
        assert_eq!(mode & 0o7777, 0o755);
        fs::remove_file(to.join("x")).unwrap();
        symlink(away, to.join("x")).unwrap();
        unpack(archive(&[("x", Directory, "", b""), ("x/tide", Regular, "", b"high")]).as_slice(), &to, "x").unwrap();
        assert_eq!(fs::read_to_string(&tide).unwrap(), "low");
    }
}
