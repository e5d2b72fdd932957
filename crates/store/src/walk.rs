//! Reading a directory on disk back into a tree: what a step changed ([`capture`]), or what a layer holds now
//! ([`measure`]).

use std::collections::{BTreeSet, HashMap};
use std::fs;
use std::io::{self, Read as _};
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use cavrith_core::digest::ContentDigest;
use cavrith_core::path::RootPath;
use cavrith_core::tree::diff::differing_fields;
use cavrith_core::tree::{Entry, Kind, LinkGroup, Meta, Tree};

use crate::dressing::set_time;
use crate::owners::{self, Owner, Owners};
use crate::writer::StagedLayer;
use crate::{StoreError, io_error, xattrs};

/// A layer as it is on disk now.
#[derive(Debug)]
pub struct Measure {
    /// What it holds.
    pub tree: Tree,
    /// Entries that no longer carry the time stamp they were given.
    pub other_times: Vec<RootPath>,
}

/// Reads every byte of a layer's files.
///
/// # Errors
/// When something cannot be read.
pub fn measure(root: &Path, epoch: u64, owners: Owners<'_>) -> Result<Measure, StoreError> {
    let mut walk = Walk::new(owners, false);
    walk.directory(root, &RootPath::root())?;
    let mut times = walk.times.iter();
    let other_times = times.by_ref().filter(|(_, time)| *time != (epoch as i64, 0)).map(|(path, _)| path.clone());
    let other_times = other_times.collect();
    let tree = walk.hash_files(root)?;
    Ok(Measure { tree, other_times })
}

/// Takes the upper directory of an overlay as a layer: `dir` is a directory of staging whose `root` is the upper
/// directory. It is normalised in place: overlayfs's own attributes go (but for the opaque marks), sockets go, every
/// entry gets the time stamp `epoch`.
///
/// # Errors
/// When something cannot be read or changed.
pub fn capture(dir: PathBuf, epoch: u64, owners: Owners<'_>) -> Result<StagedLayer, StoreError> {
    let root = dir.join("root");
    let mut walk = Walk::new(owners, true);
    walk.directory(&root, &RootPath::root())?;
    for path in walk.tree.entries.keys().rev() {
        let at = root.join(path.as_relative());
        xattrs::strip_overlay(&at).map_err(io_error("clean", &at))?;
        if let Some(entry) = walk.tree.get(path) {
            record_owner(&at, entry, owners)?;
        }
        set_time(&at, epoch)?;
    }
    let tree = walk.hash_files(&root)?;
    // Reading changed the access times, which nobody sees, but the directories' own were set above for good.
    Ok(StagedLayer::new(dir, tree))
}

/// Takes what differs between a copy of a root and what it was copied from as a layer: `dir` is a directory of staging
/// whose `merged` was a copy of `lower`. What is the same goes; what is gone becomes a deletion.
///
/// # Errors
/// When something cannot be read or changed.
pub fn capture_copy(dir: PathBuf, epoch: u64, owners: Owners<'_>, lower: &Tree) -> Result<StagedLayer, StoreError> {
    let root = dir.join("root");
    fs::rename(dir.join("merged"), &root).map_err(io_error("move", &root))?;
    let mut walk = Walk::new(owners, true);
    walk.lower = Some(lower);
    walk.directory(&root, &RootPath::root())?;
    let touched: BTreeSet<_> =
        walk.times.iter().filter(|(_, time)| *time != (epoch as i64, 0)).map(|(path, _)| path.clone()).collect();
    let mut tree = walk.hash_files(&root)?;
    // A copy has one name only, and the time stamp of its layer: what has others was changed, were it to what it was.
    // An overlay sees it the same way.
    let same = |path: &RootPath, entry: &Entry| {
        let linked = matches!(entry.kind, Kind::File { links: Some(_), .. });
        !linked
            && !touched.contains(path)
            && lower.get(path).is_some_and(|below| differing_fields(below, entry).is_empty())
    };
    let mut kept: BTreeSet<RootPath> = BTreeSet::from([RootPath::root()]);
    for (path, entry) in &tree.entries {
        if !same(path, entry) {
            kept.extend(path.ancestors());
            kept.insert(path.clone());
        }
    }
    for path in lower.entries.keys().filter(|path| !tree.entries.contains_key(*path)) {
        // With a directory goes what is in it; only the uppermost needs a mark.
        if path.parent().is_none_or(|parent| tree.get(&parent).is_some_and(|entry| entry.kind.is_directory())) {
            kept.extend(path.ancestors());
            let at = root.join(path.as_relative());
            let nothing = rustix::fs::makedev(0, 0);
            let mode = rustix::fs::Mode::empty();
            // An overlay, in which we may be ourselves, lets nobody else make its own mark.
            rustix::fs::mknodat(rustix::fs::CWD, &at, rustix::fs::FileType::CharacterDevice, mode, nothing)
                .or_else(|_| xattrs::make_gone(&at))
                .map_err(io_error("mark as gone", &at))?;
            kept.insert(path.clone());
        }
    }
    let gone: Vec<_> = tree.entries.keys().filter(|path| !kept.contains(*path)).cloned().collect();
    for path in gone.iter().rev() {
        let at = root.join(path.as_relative());
        let directory = tree.entries.remove(path).is_some_and(|entry| entry.kind.is_directory());
        if directory { fs::remove_dir(&at) } else { fs::remove_file(&at) }.map_err(io_error("remove", &at))?;
    }
    for path in kept.iter().filter(|path| !tree.entries.contains_key(*path)).cloned().collect::<Vec<_>>() {
        tree.entries.insert(path, Entry { kind: Kind::Whiteout, meta: Meta::default() });
    }
    for (path, entry) in tree.entries.iter().rev() {
        let at = root.join(path.as_relative());
        record_owner(&at, entry, owners)?;
        set_time(&at, epoch)?;
    }
    Ok(StagedLayer::new(dir, tree))
}

/// What had no record till now gets one, so that the layer tells its owners by itself.
fn record_owner(at: &Path, entry: &Entry, owners: Owners<'_>) -> Result<(), StoreError> {
    let carries = matches!(entry.kind, Kind::Directory { .. } | Kind::File { .. });
    if matches!(owners, Owners::Recorded { .. }) && carries {
        owners::write(at, (entry.meta.uid, entry.meta.gid)).map_err(io_error("record the owner of", at))?;
    }
    Ok(())
}

struct Walk<'a> {
    /// What a copy was copied from, where it is one: there, what is new is told by its not being in it.
    lower: Option<&'a Tree>,
    owners: Owners<'a>,
    tree: Tree,
    times: Vec<(RootPath, (i64, i64))>,
    /// Files whose content is still to be read; the first name of each.
    files: Vec<(RootPath, u64)>,
    /// Inodes that have several names.
    shared: HashMap<(u64, u64), LinkGroup>,
    /// It is an upper directory: what cannot be in a layer is removed, and what was copied up is told from what is new.
    upper: bool,
}

impl<'a> Walk<'a> {
    fn new(owners: Owners<'a>, upper: bool) -> Self {
        Self {
            lower: None,
            owners,
            tree: Tree::default(),
            times: Vec::new(),
            files: Vec::new(),
            shared: HashMap::new(),
            upper,
        }
    }

    /// Whose a file is.
    fn owner(&self, at: &Path, path: &RootPath, meta: &fs::Metadata) -> io::Result<Owner> {
        let Owners::Recorded { new, known } = self.owners else { return Ok((meta.uid(), meta.gid())) };
        let kind = meta.file_type();
        if !kind.is_dir() && !kind.is_file() {
            return Ok(known(path).unwrap_or(new));
        }
        if let Some(recorded) = owners::read(at)? {
            return Ok(recorded);
        }
        // The root of an upper directory was made by us, as the image's root is.
        let from_below = match self.lower {
            Some(lower) => lower.get(path).is_some(),
            None => self.upper && new != (0, 0) && xattrs::is_copied_up(at)?,
        };
        let copied = path.is_root() || from_below;
        Ok(if copied || !self.upper { (0, 0) } else { new })
    }

    fn directory(&mut self, at: &Path, path: &RootPath) -> Result<(), StoreError> {
        let meta = fs::symlink_metadata(at).map_err(io_error("read", at))?;
        let opaque = xattrs::is_opaque(at).map_err(io_error("read", at))?;
        self.add(at, path, &meta, Kind::Directory { opaque })?;
        for entry in fs::read_dir(at).map_err(io_error("list", at))? {
            let entry = entry.map_err(io_error("list", at))?;
            let below = entry.path();
            let Ok(path) = path.join(entry.file_name().as_bytes()) else {
                let long = io::Error::new(io::ErrorKind::InvalidFilename, "the path is too long for a layer");
                return Err(io_error("take", &below)(long));
            };
            self.entry(&below, &path)?;
        }
        Ok(())
    }

    fn entry(&mut self, at: &Path, path: &RootPath) -> Result<(), StoreError> {
        let meta = fs::symlink_metadata(at).map_err(io_error("read", at))?;
        let kind = meta.file_type();
        let (major, minor) = (rustix::fs::major(meta.rdev()), rustix::fs::minor(meta.rdev()));
        if kind.is_dir() {
            self.directory(at, path)
        } else if kind.is_file() && meta.len() == 0 && xattrs::is_gone(at).map_err(io_error("read", at))? {
            self.times.push((path.clone(), (meta.mtime(), meta.mtime_nsec())));
            self.tree.entries.insert(path.clone(), Entry { kind: Kind::Whiteout, meta: Meta::default() });
            Ok(())
        } else if kind.is_file() {
            let links = (meta.nlink() > 1).then(|| {
                let next = LinkGroup(self.shared.len() as u64);
                *self.shared.entry((meta.dev(), meta.ino())).or_insert(next)
            });
            self.files.push((path.clone(), meta.len()));
            let content = ContentDigest::from_bytes([0; 32]);
            self.add(at, path, &meta, Kind::File { size: meta.len(), content, links })
        } else if kind.is_symlink() {
            let target = fs::read_link(at).map_err(io_error("read", at))?;
            self.add(at, path, &meta, Kind::Symlink { target: target.as_os_str().as_bytes().to_vec() })
        } else if kind.is_fifo() {
            self.add(at, path, &meta, Kind::Fifo)
        } else if kind.is_char_device() && (major, minor) == (0, 0) {
            self.times.push((path.clone(), (meta.mtime(), meta.mtime_nsec())));
            self.tree.entries.insert(path.clone(), Entry { kind: Kind::Whiteout, meta: Meta::default() });
            Ok(())
        } else if kind.is_char_device() {
            self.add(at, path, &meta, Kind::CharDevice { major, minor })
        } else if kind.is_block_device() {
            self.add(at, path, &meta, Kind::BlockDevice { major, minor })
        } else if self.upper {
            // A socket means something only while its program listens; no archive and no other machine can hold it.
            fs::remove_file(at).map_err(io_error("remove", at))
        } else {
            Ok(())
        }
    }

    fn add(&mut self, at: &Path, path: &RootPath, meta: &fs::Metadata, kind: Kind) -> Result<(), StoreError> {
        let xattrs = xattrs::read(at).map_err(io_error("read the attributes of", at))?;
        let mode = (meta.mode() & 0o7777) as u16;
        self.times.push((path.clone(), (meta.mtime(), meta.mtime_nsec())));
        let (uid, gid) = self.owner(at, path, meta).map_err(io_error("read the owner of", at))?;
        let meta = Meta { mode, uid, gid, xattrs };
        self.tree.entries.insert(path.clone(), Entry { kind, meta });
        Ok(())
    }

    /// Reads all files, on as many threads as the machine has processors, the large ones first.
    fn hash_files(mut self, root: &Path) -> Result<Tree, StoreError> {
        self.files.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        let (files, next) = (&self.files, AtomicUsize::new(0));
        let done: Mutex<Vec<(usize, ContentDigest, u64)>> = Mutex::new(Vec::with_capacity(files.len()));
        let work = || -> Result<(), StoreError> {
            let mut buffer = vec![0; 128 * 1024];
            let mut mine = Vec::new();
            loop {
                let position = next.fetch_add(1, Ordering::Relaxed);
                let Some((path, _)) = files.get(position) else {
                    break;
                };
                let at = root.join(path.as_relative());
                let (content, size) = hash_file(&at, &mut buffer).map_err(io_error("read", &at))?;
                mine.push((position, content, size));
            }
            done.lock().unwrap_or_else(std::sync::PoisonError::into_inner).extend(mine);
            Ok(())
        };
        let threads = std::thread::available_parallelism().map_or(1, usize::from).min(files.len().max(1));
        std::thread::scope(|scope| {
            let workers: Vec<_> = (1..threads).map(|_| scope.spawn(work)).collect();
            let own = work();
            workers
                .into_iter()
                .map(|worker| worker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
                .fold(own, Result::and)
        })?;
        for (position, digest, length) in done.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner) {
            if let Some(Entry { kind: Kind::File { content, size, .. }, .. }) =
                self.tree.entries.get_mut(&self.files[position].0)
            {
                (*content, *size) = (digest, length);
            }
        }
        Ok(self.tree)
    }
}

fn hash_file(at: &Path, buffer: &mut [u8]) -> io::Result<(ContentDigest, u64)> {
    let mut file = crate::reading::open(at)?;
    let mut hasher = blake3::Hasher::new();
    let mut size = 0;
    loop {
        match file.read(buffer)? {
            0 => break,
            count => {
                hasher.update(&buffer[..count]);
                size += count as u64;
            }
        }
    }
    Ok((ContentDigest::from_bytes(*hasher.finalize().as_bytes()), size))
}
