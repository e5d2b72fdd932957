//! Carrying files over the wall as tar archives, by a process of ours that has become the account.

use std::fs::{self, File};
use std::io;
use std::os::fd::AsFd as _;
use std::path::{Path, PathBuf};

use crate::job::Task;

/// Carries a task out with this process's standard streams.
pub(crate) fn carry_out(task: &Task) -> io::Result<()> {
    let stream = |fd: rustix::fd::BorrowedFd<'_>| -> io::Result<File> { Ok(fd.try_clone_to_owned()?.into()) };
    match task {
        Task::Pack { path, name } => pack(Path::new(path), name, stream(rustix::stdio::stdout())?),
        Task::Unpack { path, name } => {
            unpack(stream(rustix::stdio::stdin().as_fd())?, Path::new(path), name).map(|_| ())
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
/// When something cannot be read, or the other side is gone.
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

/// Takes an archive that [`pack`] wrote. What it holds becomes `path`, or lies in it under `name` when it is a directory. Returns
/// what it became.
///
/// # Errors
/// When something cannot be written, or the archive holds what is no file, directory or link.
pub fn unpack(from: impl io::Read, path: &Path, name: &str) -> io::Result<PathBuf> {
    let whole = if path.is_dir() { path.join(name) } else { path.to_owned() };
    let mut archive = tar::Archive::new(from);
    let mut count = 0;
    for entry in archive.entries()? {
        let mut entry = entry?;
        count += 1;
        let kind = entry.header().entry_type();
        let inner = entry.path()?.into_owned();
        // The first name is the packing side's choice; the rest is beneath.
        let rest: PathBuf = inner.components().skip(1).collect();
        let plain = rest.components().all(|part| matches!(part, std::path::Component::Normal(_)));
        if !plain || !(kind.is_file() || kind.is_dir() || kind.is_symlink() || kind.is_hard_link()) {
            return Err(io::Error::new(io::ErrorKind::InvalidData, format!("{} cannot be copied", inner.display())));
        }
        let target = if rest.as_os_str().is_empty() { whole.clone() } else { whole.join(&rest) };
        if kind.is_hard_link() {
            let first: PathBuf = entry.link_name()?.unwrap_or_default().components().skip(1).collect();
            fs::hard_link(whole.join(first), &target).map_err(about("write", &target))?;
            continue;
        }
        // Nothing is written through a link that is there.
        if kind.is_file() && target.symlink_metadata().is_ok_and(|meta| meta.is_symlink()) {
            fs::remove_file(&target).map_err(about("replace", &target))?;
        }
        entry.set_preserve_mtime(true);
        entry.unpack(&target).map_err(about("write", &target))?;
    }
    if count == 0 {
        return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "nothing arrived"));
    }
    Ok(whole)
}
