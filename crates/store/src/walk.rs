//! Reading a directory on disk back into a tree: what a step changed ([`capture`]), or what a layer holds now
//! ([`measure`]).

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs;
use std::io::{self};
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{FileTypeExt as _, MetadataExt as _};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use cavrith_core::digest::{ContentDigest, TreeDigest};
use cavrith_core::path::RootPath;
use cavrith_core::tree::diff::differing_fields;
use cavrith_core::tree::{Entry, Kind, LinkGroup, Meta, Tree};

use crate::hashing;
use crate::metadata::set_time;
use crate::owners::{self, Owner, Owners};
use crate::workers;
use crate::writer::StagedLayer;
use crate::{StoreError, io_error, xattrs};

/// A layer as it is on disk now.
#[derive(Debug)]
pub struct Measure {
    /// What it holds.
    pub tree: Tree,
    /// What is there and no tree can say, each with what it is.
    pub strange: Vec<(RootPath, &'static str)>,
}

impl Measure {
    /// Whether a layer is there as its tree says.
    pub fn is(&self, layer: &TreeDigest) -> bool {
        self.strange.is_empty() && self.tree.digest() == *layer
    }
}

/// Reads every byte of a layer's files.
///
/// # Errors
/// When something cannot be read.
pub fn measure(root: &Path, owners: Owners<'_>) -> Result<Measure, StoreError> {
    let mut walk = Walk::new(owners, Origin::Layer);
    walk.directory(root, &RootPath::root())?;
    let strange = std::mem::take(&mut walk.strange);
    let tree = walk.hash_files(root)?;
    Ok(Measure { tree, strange })
}

/// Where something that was worked on lies, and how it came to lie over what is beneath.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Over {
    /// `root` is the upper directory of an overlay.
    Overlay,
    /// `merged` was a copy of what is beneath.
    Copy,
}

/// Takes what was changed over `lower` as a layer: `dir` is a directory of staging. The layer holds what differs, and
/// says so in one way, however it came about: what is the same as beneath goes, what is gone becomes a deletion, also
/// in a directory that was made anew. It is normalised in place: overlayfs's attributes, our own and access control
/// lists go, sockets go. What was written gets the time stamp `time`; what still has the content and the time stamp of
/// what lies beneath keeps it.
///
/// # Errors
/// When something cannot be read or changed.
pub fn capture(
    dir: PathBuf,
    over: Over,
    time: u64,
    owners: Owners<'_>,
    lower: &Tree,
) -> Result<StagedLayer, StoreError> {
    let root = dir.join("root");
    if over == Over::Copy {
        fs::rename(dir.join("merged"), &root).map_err(io_error("move", &root))?;
    }
    let mut walk = Walk::new(owners, Origin::Worked { over, lower });
    walk.directory(&root, &RootPath::root())?;
    for path in walk.tree.entries.keys() {
        let at = root.join(path.as_relative());
        xattrs::strip(&at, matches!(owners, Owners::Recorded { .. })).map_err(io_error("clean", &at))?;
    }
    let fractions: BTreeSet<_> = walk.strange.drain(..).map(|(path, _)| path).collect();
    let mut tree = walk.hash_files(&root)?;
    let mut kept: BTreeSet<RootPath> = BTreeSet::from([RootPath::root()]);
    for (path, entry) in &tree.entries {
        // A copy has one name only: what has several was linked since.
        let linked = matches!(entry.kind, Kind::File { links: Some(_), .. });
        let same = !linked
            && !fractions.contains(path)
            && lower.get(path).is_some_and(|below| differing_fields(below, entry).is_empty());
        if !same {
            kept.extend(path.ancestors());
            kept.insert(path.clone());
        }
    }
    // What an opaque directory hides is gone, as in a copy; then the directory need not be opaque.
    let opaque = tree.entries.iter().filter(|(_, entry)| entry.kind == Kind::Directory { opaque: true });
    let opaque: Vec<_> = opaque.map(|(path, _)| path.clone()).collect();
    let is_hidden = |path: &RootPath| over == Over::Copy || opaque.iter().any(|top| path.lies_in(top));
    let mut deleted = Vec::new();
    if over == Over::Copy || !opaque.is_empty() {
        // With a directory goes what is in it; only the uppermost needs a mark.
        let goes = |path: &&RootPath| {
            let parent = path.parent();
            !tree.entries.contains_key(*path)
                && is_hidden(path)
                && parent.is_none_or(|parent| tree.get(&parent).is_some_and(|entry| entry.kind.is_directory()))
        };
        deleted.extend(lower.entries.keys().filter(goes).cloned());
    }
    for path in &deleted {
        let at = root.join(path.as_relative());
        let nothing = rustix::fs::makedev(0, 0);
        let mode = rustix::fs::Mode::empty();
        // An overlay, in which we may be ourselves, lets nobody else make its own mark.
        rustix::fs::mknodat(rustix::fs::CWD, &at, rustix::fs::FileType::CharacterDevice, mode, nothing)
            .or_else(|_| xattrs::make_gone(&at))
            .map_err(io_error("mark as gone", &at))?;
        kept.extend(path.ancestors());
        kept.insert(path.clone());
        tree.entries.insert(path.clone(), Entry { kind: Kind::Whiteout, meta: Meta::default() });
    }
    for path in &opaque {
        let at = root.join(path.as_relative());
        xattrs::make_transparent(&at).map_err(io_error("clean", &at))?;
        if let Some(entry) = tree.entries.get_mut(path) {
            entry.kind = Kind::DIRECTORY;
        }
    }
    let gone: Vec<_> = tree.entries.keys().filter(|path| !kept.contains(*path)).cloned().collect();
    for path in gone.iter().rev() {
        let at = root.join(path.as_relative());
        let directory = tree.entries.remove(path).is_some_and(|entry| entry.kind.is_directory());
        if directory { fs::remove_dir(&at) } else { fs::remove_file(&at) }.map_err(io_error("remove", &at))?;
    }
    let unwritten = |path: &RootPath, entry: &Entry| {
        !fractions.contains(path) && lower.get(path).is_some_and(|below| is_unwritten(below, entry))
    };
    let group = |entry: &Entry| match entry.kind {
        Kind::File { links, .. } => links,
        _ => None,
    };
    // Another name of a file that is beneath is not a writing of it.
    let groups: BTreeSet<_> = tree
        .entries
        .iter()
        .filter(|(path, entry)| unwritten(path, entry))
        .filter_map(|(_, entry)| group(entry))
        .collect();
    for (path, entry) in tree.entries.iter_mut().rev() {
        let at = root.join(path.as_relative());
        record_owner(&at, entry, owners)?;
        if entry.kind == Kind::Whiteout {
            set_time(&at, time)?;
            continue;
        }
        if !unwritten(path, entry) && group(entry).is_none_or(|group| !groups.contains(&group)) {
            entry.meta.time = time;
        }
        set_time(&at, entry.meta.time)?;
    }
    Ok(StagedLayer::new(dir, tree))
}

/// What a scratch holds.
#[derive(Debug)]
pub struct Scratch {
    /// It: what lies over the image, with deletions.
    pub tree: Tree,
    /// It is all that is shown, and not laid over the image.
    pub is_whole: bool,
    /// When the kernel saw each entry change last, in milliseconds since 1970.
    pub changed: BTreeMap<RootPath, u64>,
}

/// Reads what was changed over `lower`, which nobody has to have stopped changing; nothing of it is touched.
///
/// # Errors
/// When something cannot be read.
pub fn scratch(dir: &Path, over: Over, owners: Owners<'_>, lower: &Tree) -> Result<Scratch, StoreError> {
    let is_whole = over == Over::Copy;
    let root = dir.join(if is_whole { "merged" } else { "root" });
    let mut walk = Walk::new(owners, Origin::Used { over, lower });
    walk.directory(&root, &RootPath::root())?;
    let changed = std::mem::take(&mut walk.changed);
    Ok(Scratch { tree: walk.hash_files(&root)?, is_whole, changed })
}

/// Whether a directory of an upper directory hides what lies beneath it.
pub fn is_opaque(dir: &Path) -> bool {
    xattrs::is_opaque(dir).unwrap_or(false)
}

/// Whether what lies beneath has the same content, as against rights and owners, and the same time stamp.
fn is_unwritten(below: &Entry, entry: &Entry) -> bool {
    let same = match (&below.kind, &entry.kind) {
        (Kind::File { content, .. }, Kind::File { content: here, .. }) => content == here,
        (Kind::Directory { .. }, Kind::Directory { .. }) => true,
        (below, here) => below == here,
    };
    same && below.meta.time == entry.meta.time
}

/// What had no record till now gets one, so that the layer tells its owners by itself.
fn record_owner(at: &Path, entry: &Entry, owners: Owners<'_>) -> Result<(), StoreError> {
    let carries = matches!(entry.kind, Kind::Directory { .. } | Kind::File { .. });
    if matches!(owners, Owners::Recorded { .. }) && carries {
        owners::write(at, (entry.meta.uid, entry.meta.gid)).map_err(io_error("record the owner of", at))?;
    }
    Ok(())
}

/// What a directory is that is walked.
#[derive(Clone, Copy)]
enum Origin<'a> {
    /// A layer of the store.
    Layer,
    /// Something that was worked on: what cannot be in a layer is removed, and no mark of ours in it is believed.
    Worked {
        over: Over,
        /// What lies beneath: in a copy, what is new is recognised by its not being in it.
        lower: &'a Tree,
    },
    /// The same while it is in use: nothing is touched, and what vanishes meanwhile is left out.
    Used { over: Over, lower: &'a Tree },
}

impl Origin<'_> {
    fn is_layer(self) -> bool {
        matches!(self, Self::Layer)
    }
}

struct Walk<'a> {
    origin: Origin<'a>,
    owners: Owners<'a>,
    tree: Tree,
    strange: Vec<(RootPath, &'static str)>,
    changed: BTreeMap<RootPath, u64>,
    /// Files whose content is still to be read; the first name of each.
    files: Vec<(RootPath, u64)>,
    /// Inodes that have several names.
    shared: HashMap<(u64, u64), LinkGroup>,
}

impl<'a> Walk<'a> {
    fn new(owners: Owners<'a>, origin: Origin<'a>) -> Self {
        let (tree, changed) = (Tree::default(), BTreeMap::new());
        let (strange, files, shared) = (Vec::new(), Vec::new(), HashMap::new());
        Self { origin, owners, tree, strange, changed, files, shared }
    }

    /// Whose a file is.
    fn owner(&self, at: &Path, path: &RootPath, meta: &fs::Metadata) -> io::Result<Owner> {
        let Owners::Recorded { new, known } = self.owners else { return Ok((meta.uid(), meta.gid())) };
        let new = self.maker(path, new);
        let kind = meta.file_type();
        if !kind.is_dir() && !kind.is_file() {
            return Ok(known(path).unwrap_or(new));
        }
        if let Some(recorded) = owners::read(at)? {
            return Ok(recorded);
        }
        // The root of an upper directory was made by us, as the image's root is.
        let is_new = match self.origin {
            Origin::Layer => false,
            Origin::Worked { over: Over::Copy, lower } | Origin::Used { over: Over::Copy, lower } => {
                lower.get(path).is_none()
            }
            Origin::Worked { .. } | Origin::Used { .. } => new != (0, 0) && !xattrs::is_copied_up(at)?,
        };
        Ok(if is_new && !path.is_root() { new } else { (0, 0) })
    }

    /// Who made something new. A step was one account's; in a workspace that was used, root and the account look alike
    /// from outside, so it is whoever of them could have made it there where both are told apart.
    fn maker(&self, path: &RootPath, new: Owner) -> Owner {
        let Origin::Used { lower, .. } = self.origin else { return new };
        let parent = path.parent().and_then(|parent| self.tree.get(&parent).or_else(|| lower.get(&parent)));
        let could = parent.is_none_or(|Entry { meta, .. }| {
            meta.uid == new.0 || meta.mode & 0o002 != 0 || (meta.gid == new.1 && meta.mode & 0o020 != 0)
        });
        if could { new } else { (0, 0) }
    }

    fn directory(&mut self, at: &Path, path: &RootPath) -> Result<(), StoreError> {
        let meta = fs::symlink_metadata(at).map_err(io_error("read", at))?;
        let copy = Over::Copy;
        let marked = !matches!(self.origin, Origin::Worked { over, .. } | Origin::Used { over, .. } if over == copy);
        let opaque = marked && xattrs::is_opaque(at).map_err(io_error("read", at))?;
        self.add(at, path, &meta, Kind::Directory { opaque })?;
        for entry in fs::read_dir(at).map_err(io_error("list", at))? {
            let entry = entry.map_err(io_error("list", at))?;
            let below = entry.path();
            let Ok(path) = path.join(entry.file_name().as_bytes()) else {
                let long = io::Error::new(io::ErrorKind::InvalidFilename, "the path is too long for a layer");
                return Err(io_error("take", &below)(long));
            };
            match self.entry(&below, &path) {
                Err(StoreError::Io { source, .. })
                    if source.kind() == io::ErrorKind::NotFound && matches!(self.origin, Origin::Used { .. }) => {}
                outcome => outcome?,
            }
        }
        Ok(())
    }

    fn entry(&mut self, at: &Path, path: &RootPath) -> Result<(), StoreError> {
        let meta = fs::symlink_metadata(at).map_err(io_error("read", at))?;
        let kind = meta.file_type();
        let (major, minor) = (rustix::fs::major(meta.rdev()), rustix::fs::minor(meta.rdev()));
        if kind.is_dir() {
            self.directory(at, path)
        } else if kind.is_file()
            && meta.len() == 0
            && self.origin.is_layer()
            && xattrs::is_gone(at).map_err(io_error("read", at))?
        {
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
            self.tree.entries.insert(path.clone(), Entry { kind: Kind::Whiteout, meta: Meta::default() });
            Ok(())
        } else if kind.is_char_device() {
            self.add(at, path, &meta, Kind::CharDevice { major, minor })
        } else if kind.is_block_device() {
            self.add(at, path, &meta, Kind::BlockDevice { major, minor })
        } else if matches!(self.origin, Origin::Used { .. }) {
            Ok(())
        } else if self.origin.is_layer() {
            self.strange.push((path.clone(), "a socket"));
            Ok(())
        } else {
            // A socket means something only while its program listens; no archive and no other machine can hold it.
            fs::remove_file(at).map_err(io_error("remove", at))
        }
    }

    fn add(&mut self, at: &Path, path: &RootPath, meta: &fs::Metadata, kind: Kind) -> Result<(), StoreError> {
        let recorded = matches!(self.owners, Owners::Recorded { .. });
        let is_kept = |name: &[u8]| match self.origin {
            Origin::Layer => xattrs::is_shown(name, recorded),
            Origin::Worked { .. } | Origin::Used { .. } => xattrs::is_kept(name),
        };
        let mut xattrs = xattrs::read(at, is_kept).map_err(io_error("read the attributes of", at))?;
        if kind == (Kind::Directory { opaque: true }) {
            xattrs.remove(xattrs::OPAQUE);
        }
        let mode = (meta.mode() & 0o7777) as u16;
        if matches!(self.origin, Origin::Used { .. }) {
            let millis = meta.ctime().saturating_mul(1000).saturating_add(meta.ctime_nsec() / 1_000_000);
            self.changed.insert(path.clone(), u64::try_from(millis).unwrap_or(0));
        }
        // A time before 1970, which no layer has, is as good as one that never comes.
        let time = u64::try_from(meta.mtime()).unwrap_or(u64::MAX);
        if meta.mtime_nsec() != 0 {
            self.strange.push((path.clone(), "a time stamp with a fraction of a second"));
        }
        let (uid, gid) = self.owner(at, path, meta).map_err(io_error("read the owner of", at))?;
        let meta = Meta { mode, uid, gid, time, xattrs };
        self.tree.entries.insert(path.clone(), Entry { kind, meta });
        Ok(())
    }

    /// Reads all files, on as many threads as the machine has processors, the large ones first.
    fn hash_files(mut self, root: &Path) -> Result<Tree, StoreError> {
        self.files.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        let may_vanish = matches!(self.origin, Origin::Used { .. });
        let done: Mutex<Vec<(usize, ContentDigest, u64)>> = Mutex::new(Vec::with_capacity(self.files.len()));
        workers::each(self.files.len(), workers::processors(), |position| {
            let at = root.join(self.files[position].0.as_relative());
            let read = crate::reading::open(&at).and_then(|mut file| Ok(hashing::content(&mut file, None)?));
            let (size, content) = match read {
                Err(error) if error.kind() == io::ErrorKind::NotFound && may_vanish => return Ok(()),
                read => read.map_err(io_error("read", &at))?,
            };
            done.lock().unwrap_or_else(PoisonError::into_inner).push((position, content, size));
            Ok::<(), StoreError>(())
        })?;
        for (position, digest, length) in done.into_inner().unwrap_or_else(PoisonError::into_inner) {
            if let Some(Entry { kind: Kind::File { content, size, .. }, .. }) =
                self.tree.entries.get_mut(&self.files[position].0)
            {
                (*content, *size) = (digest, length);
            }
        }
        Ok(self.tree)
    }
}
