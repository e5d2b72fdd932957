//! Kept folders: looked into, backed up to one file, restored from one.
//!
//! A backup is a tar archive, compressed with zstd (RFC 8878), with the owners' numbers as the workspace has them, so
//! it can be restored on another machine and read by any program for such archives.

use std::fs;
use std::io::{self, BufReader, BufWriter};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Component, Path, PathBuf};

use rustix::fs::{CWD, RenameFlags};

use cavrith_core::account::ACCOUNT_ID;
use cavrith_engine::error::file_error;
use cavrith_sandbox::ground::{self, Ground, Most};
use cavrith_sandbox::{Identity, archive};
use cavrith_store::atomic::NewFile;
use cavrith_store::reading;

use crate::WorkspaceError;
use cavrith_keeper::home;
use cavrith_keeper::place::Place;
use cavrith_keeper::record::Record;

/// The directory in an archive that everything lies in.
const ROOT: &str = "folder";
/// What is restored at most: a guard against an archive that is made to fill a disk.
const MOST: Most = Most { bytes: 1 << 40, entries: 1 << 26 };

/// A kept folder, and what is in it.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct KeptFolder {
    /// The workspace that it belongs to.
    pub workspace: String,
    /// The project of that.
    pub project: String,
    /// The workspace was dropped; the folder waits for it to be started again.
    pub dropped: bool,
    /// Its name.
    pub name: String,
    /// Its directory.
    pub path: PathBuf,
    /// Files and directories in it.
    pub entries: u64,
    /// Bytes of its files.
    pub bytes: u64,
}

/// Measures a kept folder.
pub fn measure(place: &Place, name: &str, path: &Path) -> KeptFolder {
    let (mut entries, mut bytes) = (0, 0);
    let mut open = vec![path.to_owned()];
    while let Some(dir) = open.pop() {
        for entry in fs::read_dir(&dir).into_iter().flatten().flatten() {
            entries += 1;
            if let Ok(meta) = entry.metadata() {
                bytes += if meta.is_file() { meta.len() } else { 0 };
                if meta.is_dir() {
                    open.push(entry.path());
                }
            }
        }
    }
    KeptFolder {
        workspace: place.name.clone(),
        project: place.project.display().to_string(),
        dropped: !place.dir.exists(),
        name: name.to_owned(),
        path: path.to_owned(),
        entries,
        bytes,
    }
}

/// What a member has in the account's home, which is kept like a folder; nothing when there is nothing.
pub fn home_of(place: &Place) -> Option<KeptFolder> {
    let record = Record::read(&place.dir);
    let path = match &record {
        Some(record) if record.arrangement.fresh_home => return None,
        Some(record) => home::found(place, &record.arrangement.setup.account)?,
        None => Some(home::kept(place)).filter(|path| path.is_dir())?,
    };
    Some(measure(place, home::NAME, &path)).filter(|measured| measured.entries > 0)
}

/// All kept folders of a workspace, the account's home first.
pub fn all(place: &Place) -> Vec<KeptFolder> {
    let folders = place.kept_folders();
    // A team's own folder of that name counts.
    let home = home_of(place).filter(|home| !folders.iter().any(|(name, _)| *name == home.name));
    home.into_iter().chain(folders.into_iter().map(|(name, path)| measure(place, &name, &path))).collect()
}

/// Sets the home apart from the scratch that it is in, so that it can be restored or removed like a kept folder. The
/// workspace must not run.
///
/// # Errors
/// When somebody has it, or the disk refuses.
fn apart(place: &Place) -> Result<(), WorkspaceError> {
    if let Some(record) = Record::read(&place.dir) {
        let _held = place.hold()?;
        home::keep(place, &record.arrangement.setup.account)?;
    }
    Ok(())
}

/// Removes a kept folder, or the home, with all that is in it. The workspace must not run.
///
/// # Errors
/// When somebody has it, or the disk refuses.
pub fn remove(place: &Place, folder: &KeptFolder) -> Result<(), WorkspaceError> {
    let is_home = !place.kept_folders().iter().any(|(name, _)| *name == folder.name);
    if is_home {
        apart(place)?;
    }
    let _held = place.hold_kept()?;
    let path = if is_home { home::kept(place) } else { folder.path.clone() };
    Ok(cavrith_store::removing::remove(&path)?)
}

/// A line about something in a kept folder.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Listed {
    /// Its path in the folder.
    pub path: String,
    /// `directory`, `file`, `link`, or `other`.
    pub kind: &'static str,
    /// Its rights, in octal.
    pub mode: String,
    /// Owner and group, by number.
    pub owner: String,
    /// Its length.
    pub bytes: u64,
}

/// What lies in a directory of a kept folder, which is named relative to it.
///
/// # Errors
/// When it leads out of the folder, or is not a directory.
pub fn list(folder: &Path, inner: &Path) -> Result<Vec<Listed>, WorkspaceError> {
    let dir = within(folder, inner).map_err(file_error("look into", folder.join(inner)))?;
    let entries = fs::read_dir(&dir).map_err(file_error("look into", &dir))?;
    let mut listed: Vec<_> = entries
        .flatten()
        .filter_map(|entry| {
            let meta = entry.metadata().ok()?;
            let kind = match meta.file_type() {
                kind if kind.is_dir() => "directory",
                kind if kind.is_file() => "file",
                kind if kind.is_symlink() => "link",
                _ => "other",
            };
            let path = entry.path();
            let path = path.strip_prefix(folder).unwrap_or(&path);
            Some(Listed {
                path: path.display().to_string(),
                kind,
                mode: format!("{:04o}", meta.permissions().mode() & 0o7777),
                owner: format!("{}:{}", meta.uid(), meta.gid()),
                bytes: if meta.is_dir() { 0 } else { meta.len() },
            })
        })
        .collect();
    listed.sort_by(|one, other| one.path.cmp(&other.path));
    Ok(listed)
}

/// A directory in a folder; who works inside may have put a link there that leads out.
fn within(folder: &Path, inner: &Path) -> io::Result<PathBuf> {
    let at = archive::beneath(folder, inner)?;
    if at.symlink_metadata()?.is_symlink() {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "it is a link"));
    }
    Ok(at)
}

/// Writes all of a folder into one file, which is there as a whole or not at all. Returns its length.
///
/// # Errors
/// When something cannot be read or written.
pub fn back_up(folder: &Path, file: &Path, identity: Identity) -> Result<u64, WorkspaceError> {
    let attempt = || {
        // A database's content is nobody else's to read.
        let mut new = NewFile::beside(file, 0o600)?;
        write_archive(folder, &mut new, identity)?;
        let bytes = new.file().metadata()?.len();
        new.put_in_place().map(|()| bytes)
    };
    Ok(attempt().map_err(file_error("write the backup", file))?)
}

fn write_archive(folder: &Path, to: &mut NewFile, identity: Identity) -> io::Result<()> {
    let out = BufWriter::new(to);
    let mut archive = tar::Builder::new(zstd::Encoder::new(out, 3)?);
    // In the order of names, so that the same folder makes the same archive.
    let mut open = vec![(PathBuf::from(ROOT), folder.to_owned())];
    while let Some((name, path)) = open.pop() {
        let meta = path.symlink_metadata()?;
        let mut header = tar::Header::new_gnu();
        header.set_metadata_in_mode(&meta, tar::HeaderMode::Complete);
        if identity.records_owners() {
            // There is one owner, who is the account.
            header.set_uid(ACCOUNT_ID.into());
            header.set_gid(ACCOUNT_ID.into());
        }
        let kind = meta.file_type();
        if kind.is_dir() {
            header.set_size(0);
            archive.append_data(&mut header, &name, io::empty())?;
            let mut entries: Vec<_> = fs::read_dir(&path)?.collect::<io::Result<Vec<_>>>()?;
            entries.sort_by_key(|entry| std::cmp::Reverse(entry.file_name()));
            open.extend(entries.into_iter().map(|entry| (name.join(entry.file_name()), entry.path())));
        } else if kind.is_symlink() {
            header.set_size(0);
            archive.append_link(&mut header, &name, fs::read_link(&path)?)?;
        } else if kind.is_file() {
            // A file that grows meanwhile is cut where it was, and one that shrinks is filled up.
            let content = io::Read::chain(reading::open(&path)?, io::repeat(0));
            archive.append_data(&mut header, &name, io::Read::take(content, meta.len()))?;
        }
        // Sockets and pipes mean nothing without those who talk through them.
    }
    archive.into_inner()?.finish()?.into_inner().map_err(io::IntoInnerError::into_error)?;
    Ok(())
}

/// Puts what a backup holds in the place of a kept folder. What was there before is exchanged at once, and only when
/// all of the backup could be read. Returns how many entries there are.
///
/// # Errors
/// When the file is not a backup, or the disk refuses; then the folder is as it was.
pub fn restore(place: &Place, name: &str, file: &Path, identity: Identity) -> Result<u64, WorkspaceError> {
    let is_home = name == home::NAME && !place.kept_folders().iter().any(|(known, _)| known == name);
    if is_home {
        apart(place)?;
    }
    let _held = place.hold_kept()?;
    let folder = if is_home { home::kept(place) } else { place.kept.join(name) };
    let aside = place.kept.join(format!(".new-{name}"));
    if aside.exists() {
        cavrith_store::removing::remove(&aside)?;
    }
    fs::create_dir(&aside).map_err(file_error("make", &aside))?;
    let count = match read_archive(file, &aside, identity) {
        Ok(count) => count,
        Err(error) => {
            cavrith_store::removing::remove(&aside)?;
            return Err(file_error("restore the backup", file)(error).into());
        }
    };
    if is_home && identity.records_owners() {
        let (account, root) = ((ACCOUNT_ID, ACCOUNT_ID), aside.join(ROOT));
        cavrith_store::owners::write(&root, account).map_err(file_error("note the owner of", &root))?;
    }
    let exchanged = exchange(&aside.join(ROOT), &folder);
    // With what was there before, when there was something.
    cavrith_store::removing::remove(&aside)?;
    exchanged.map_err(file_error("exchange", &folder))?;
    Ok(count)
}

/// Exchanges two directories in one system call, so that anyone who is killed in between leaves either as a whole;
/// where nothing was, the new one is put.
fn exchange(new: &Path, folder: &Path) -> io::Result<()> {
    if !folder.exists() {
        return fs::rename(new, folder);
    }
    rustix::fs::renameat_with(CWD, new, CWD, folder, RenameFlags::EXCHANGE).map_err(|error| {
        let error = io::Error::from(error);
        let remedy = "two directories cannot be exchanged at once here; remove the folder with cavrith folder remove, then restore it";
        io::Error::new(error.kind(), format!("{error}: {remedy}"))
    })
}

fn read_archive(file: &Path, into: &Path, identity: Identity) -> io::Result<u64> {
    let not_a_backup = |why: String| io::Error::new(io::ErrorKind::InvalidData, why);
    let mut archive = tar::Archive::new(zstd::Decoder::new(BufReader::new(reading::open(file)?))?);
    let place = |path: &Path| match path.components().next() == Some(Component::Normal(ROOT.as_ref())) {
        true => Ok(path.to_owned()),
        false => Err(not_a_backup(format!("it is not a backup of a folder: it has {}", path.display()))),
    };
    let count = ground::unpack(&mut archive, &Ground::open(into)?, !identity.records_owners(), MOST, place)?;
    if !into.join(ROOT).symlink_metadata().is_ok_and(|meta| meta.is_dir()) {
        return Err(not_a_backup("it is not a backup of a folder: there is nothing in it".to_owned()));
    }
    Ok(count)
}
