//! Writing a layer from entries that come from outside.
//!
//! The writer keeps the tree it has made so far in memory and finds its way by that alone: a path is resolved against
//! the tree, never against the disk, so no link that an archive brought is ever followed by the kernel. What is on disk
//! lies in a directory of staging that only this command writes to.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{CWD, FileType, Mode};

use cavrith_core::account::{Made, MadeFiles};
use cavrith_core::path::{RootPath, shown};
use cavrith_core::tree::{Entry, Kind, LinkGroup, Meta, Tree};

use crate::hashing::{self, CopyFault};
use crate::metadata::{Handle, MetadataWriter, set_time};
use crate::owners::{self, Owner, Ownership};
use crate::{StoreError, io_error, xattrs};

/// Something that an archive wanted and must not have.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refused {
    /// A path goes through a link.
    #[error("{0} leads through a link, {1}")]
    ThroughLink(String, String),
    /// A path goes through something that is not a directory.
    #[error("{0} lies in {1}, which is not a directory")]
    ThroughFile(String, String),
    /// Links that lead in a circle.
    #[error("{0} leads through links without an end")]
    LinkCircle(String),
    /// The same path twice.
    #[error("{0} is there twice")]
    Twice(String),
    /// A hard link to something that is not there.
    #[error("{0} is a hard link to {1}, which is not a file of the same archive")]
    HardLink(String, String),
    /// An extended attribute that must not come from outside.
    #[error("{0} has the attribute {1}, which an archive must not bring")]
    Attribute(String, String),
    /// A link without a target, or with one that is too long.
    #[error("{0} is a link with no usable target")]
    Target(String),
    /// A path that gets too long where its links lead.
    #[error("{0} gets too long where its links lead")]
    TooLong(String),
    /// Something that is not in the list of what comes, or that no layer has.
    #[error("{0} is not part of the layer that is expected")]
    Unexpected(String),
    /// A file that is not the one that is expected.
    #[error("{0} is not the file that is expected")]
    OtherContent(String),
    /// An owner that no workspace has.
    #[error("{0} belongs to number {1}, and inside there are numbers up to 65535 only")]
    Owner(String, u32),
}

/// What to do when the way to an entry leads through a link that the layer itself has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Links {
    /// Refuse the entry.
    Refuse,
    /// Follow it, inside the root: roots have `/bin` as a link to `usr/bin`.
    Follow,
    /// Follow it on the way to an entry; a directory that is named where a link is takes the link's place (OCI Image
    /// Specification 1.1, "Image Layer Filesystem Changeset").
    Replace,
}

/// A layer in staging, complete.
#[derive(Debug)]
pub struct StagedLayer {
    pub(crate) dir: PathBuf,
    pub(crate) tree: Tree,
}

impl StagedLayer {
    /// A layer whose files lie in `dir/root` and are described by `tree`.
    pub(crate) fn new(dir: PathBuf, tree: Tree) -> Self {
        Self { dir, tree }
    }

    /// What it holds.
    pub fn tree(&self) -> &Tree {
        &self.tree
    }

    /// Its directory, for what is to become no layer but an overlay's upper directory.
    ///
    /// # Errors
    /// When an owner cannot be recorded.
    pub fn into_upper(self, ownership: Ownership) -> Result<PathBuf, StoreError> {
        let root = self.dir.join("root");
        let carries = |entry: &&Entry| matches!(entry.kind, Kind::Directory { .. } | Kind::File { .. });
        if ownership == Ownership::Recorded {
            for (path, entry) in self.tree.entries.iter().filter(|(_, entry)| carries(entry)) {
                let at = root.join(path.as_relative());
                owners::write_always(&at, (entry.meta.uid, entry.meta.gid))
                    .map_err(io_error("record the owner of", &at))?;
            }
        }
        Ok(root)
    }
}

/// Writes one layer.
#[derive(Debug)]
pub struct LayerWriter {
    dir: PathBuf,
    root: PathBuf,
    tree: Tree,
    epoch: u64,
    links: Links,
    /// What the layer will lie over, when that is known: links in it lead on, and its directories keep their rights.
    beneath: Option<Arc<Tree>>,
    /// Directories that an entry named itself, as against those made because something lies in them; and which of
    /// several archives named each.
    named: BTreeMap<RootPath, usize>,
    next_group: u64,
    /// Owner of what this process creates.
    creator: Owner,
    ownership: Ownership,
}

impl LayerWriter {
    /// Begins a layer in an empty directory of staging. Every entry gets the time stamp `epoch` (seconds since 1970).
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn new(dir: PathBuf, epoch: u64, links: Links, ownership: Ownership) -> Result<Self, StoreError> {
        let root = dir.join("root");
        fs::create_dir(&root).map_err(io_error("make", &root))?;
        let made = fs::metadata(&root).map_err(io_error("read", &root))?;
        let (tree, creator) = (Tree::with_root(), (made.uid(), made.gid()));
        let (beneath, named) = (None, BTreeMap::new());
        Ok(Self { dir, root, tree, epoch, links, beneath, named, next_group: 0, creator, ownership })
    }

    /// Lets the layer be one over `beneath`.
    pub fn set_lower(&mut self, beneath: Arc<Tree>) {
        self.beneath = Some(beneath);
    }

    /// What was written so far.
    pub fn tree(&self) -> &Tree {
        &self.tree
    }

    /// The content of a file that was written, by its real path.
    ///
    /// # Errors
    /// When there is no such file, or it cannot be read.
    pub fn read(&self, path: &RootPath) -> Result<Vec<u8>, StoreError> {
        let at = self.on_disk(path);
        match self.tree.get(path).map(|entry| &entry.kind) {
            Some(Kind::File { .. }) => crate::reading::bytes(&at).map_err(io_error("read", &at)),
            _ => Err(io_error("read", &at)(io::ErrorKind::NotFound.into())),
        }
    }

    pub(crate) fn on_disk(&self, path: &RootPath) -> PathBuf {
        self.root.join(path.as_relative())
    }

    /// Where an entry really goes: the way to it resolved, directories on it made.
    pub(crate) fn place(&mut self, path: &RootPath) -> Result<RootPath, StoreError> {
        let Some(parent) = path.parent() else {
            return Ok(path.clone());
        };
        let parent = self.resolve(&parent, path)?;
        let name = path.name().unwrap_or_default();
        parent.join(name).map_err(|_| Refused::TooLong(path.to_string()).into())
    }

    /// Resolves a directory against the tree, making what is missing.
    fn resolve(&mut self, directory: &RootPath, whole: &RootPath) -> Result<RootPath, StoreError> {
        let mut done = RootPath::root();
        let mut ahead: Vec<Vec<u8>> = directory.names().rev().map(<[u8]>::to_vec).collect();
        let mut links_left = 40;
        while let Some(name) = ahead.pop() {
            if name == b".." {
                // Above the root lies the root, as inside.
                done = done.parent().unwrap_or_default();
                continue;
            }
            let next = done.join(&name).map_err(|_| Refused::TooLong(whole.to_string()))?;
            let below = self
                .beneath
                .as_ref()
                .and_then(|tree| tree.get(&next))
                .map(|entry| (entry.kind.clone(), entry.meta.clone()));
            let own = self.tree.get(&next).map(|entry| entry.kind.clone());
            match own.or_else(|| below.as_ref().map(|(kind, _)| kind.clone()).filter(|kind| !kind.is_directory())) {
                None => {
                    self.make_directory(&next, below.map_or_else(|| Meta::root(0o755), |(_, meta)| meta))?;
                    done = next;
                }
                Some(Kind::Directory { .. }) => done = next,
                Some(Kind::Symlink { target }) if self.links != Links::Refuse => {
                    links_left -= 1;
                    if links_left == 0 {
                        return Err(Refused::LinkCircle(whole.to_string()).into());
                    }
                    if target.starts_with(b"/") {
                        done = RootPath::root();
                    }
                    let names = target.split(|byte| *byte == b'/').rev().filter(|name| !matches!(*name, b"" | b"."));
                    ahead.extend(names.map(<[u8]>::to_vec));
                }
                Some(Kind::Symlink { .. }) => {
                    return Err(Refused::ThroughLink(whole.to_string(), next.to_string()).into());
                }
                Some(_) => {
                    return Err(Refused::ThroughFile(whole.to_string(), next.to_string()).into());
                }
            }
        }
        Ok(done)
    }

    pub(crate) fn check_meta(&self, path: &RootPath, meta: &Meta) -> Result<(), StoreError> {
        if let Some(id) = [meta.uid, meta.gid].into_iter().find(|id| *id > 65_535) {
            return Err(Refused::Owner(path.to_string(), id).into());
        }
        match meta.xattrs.keys().find(|name| !xattrs::is_kept(name)) {
            Some(name) => Err(Refused::Attribute(path.to_string(), shown(name)).into()),
            None => Ok(()),
        }
    }

    fn make_directory(&mut self, path: &RootPath, meta: Meta) -> Result<(), StoreError> {
        let at = self.on_disk(path);
        fs::create_dir(&at).map_err(io_error("make", &at))?;
        self.tree.entries.insert(path.clone(), Entry { kind: Kind::DIRECTORY, meta });
        Ok(())
    }

    /// A directory. Named a second time, it keeps the rights it was given first.
    ///
    /// # Errors
    /// When it is refused, or the disk refuses.
    pub fn directory(&mut self, path: &RootPath, meta: Meta) -> Result<(), StoreError> {
        self.check_meta(path, &meta)?;
        self.directory_of(path, meta, 0)
    }

    /// A directory that the archive with this number names. Of several archives the first one's rights hold, whichever
    /// comes first.
    pub(crate) fn directory_of(&mut self, path: &RootPath, meta: Meta, archive: usize) -> Result<(), StoreError> {
        let at = self.place(path)?;
        let below =
            self.beneath.as_ref().and_then(|tree| tree.get(&at)).map(|entry| (entry.kind.clone(), entry.meta.clone()));
        let own = self.tree.get(&at).map(|entry| entry.kind.clone());
        let linked = matches!(below, Some((Kind::Symlink { .. }, _)));
        match own {
            // A root's archive may name /bin as a directory where the root has it as a link to one.
            Some(Kind::Symlink { .. }) if self.links == Links::Follow => return self.resolve(&at, path).map(drop),
            None if linked && self.links == Links::Follow => return self.resolve(&at, path).map(drop),
            // What is beneath was given its rights before.
            None if self.links == Links::Follow && matches!(below, Some((Kind::Directory { .. }, _))) => {
                let (_, meta) = below.unwrap_or_else(|| unreachable!("BUG: it was just there"));
                self.named.insert(at.clone(), 0);
                return self.make_directory(&at, meta);
            }
            None => self.make_directory(&at, meta.clone())?,
            Some(Kind::Directory { .. }) => {}
            Some(_) => return Err(Refused::Twice(path.to_string()).into()),
        }
        if self.named.get(&at).is_none_or(|first| archive < *first)
            && let Some(entry) = self.tree.entries.get_mut(&at)
        {
            entry.meta = meta;
            self.named.insert(at, archive);
        }
        Ok(())
    }

    pub(crate) fn add_entry(&mut self, at: RootPath, entry: Entry) {
        self.tree.entries.insert(at, entry);
    }

    fn new_entry(&mut self, path: &RootPath, meta: &Meta) -> Result<RootPath, StoreError> {
        self.check_meta(path, meta)?;
        let at = self.place(path)?;
        if at.is_root() || self.tree.get(&at).is_some() {
            return Err(Refused::Twice(path.to_string()).into());
        }
        Ok(at)
    }

    /// A regular file with all that `content` gives. Returns how many bytes that was.
    ///
    /// # Errors
    /// When it is refused, the disk refuses, or `content` fails.
    pub fn file(&mut self, path: &RootPath, meta: Meta, content: &mut dyn Read) -> Result<u64, StoreError> {
        let at = self.new_entry(path, &meta)?;
        let on_disk = self.on_disk(&at);
        let mut file = File::create_new(&on_disk).map_err(io_error("make", &on_disk))?;
        let (size, content) = hashing::content(content, Some(&mut file)).map_err(|fault| match fault {
            CopyFault::Read(error) => io_error("unpack", path.as_relative())(error),
            CopyFault::Write(error) => io_error("write", &on_disk)(error),
        })?;
        self.apply_metadata(&on_disk, &meta, Handle::File(&file))?;
        self.tree.entries.insert(at, Entry { kind: Kind::File { size, content, links: None }, meta });
        Ok(size)
    }

    /// Removes what lies beneath at a path; nothing when nothing does. What this layer itself has there stays, and
    /// hides what lies beneath.
    ///
    /// # Errors
    /// When it is refused, or the disk refuses.
    pub fn whiteout(&mut self, path: &RootPath) -> Result<(), StoreError> {
        let at = self.place(path)?;
        match self.tree.entries.get_mut(&at).map(|entry| &mut entry.kind) {
            Some(Kind::Directory { .. }) => return self.hide_beneath(path),
            Some(_) => return Ok(()),
            None if self.beneath.as_ref().is_none_or(|beneath| beneath.get(&at).is_none()) => return Ok(()),
            None => {}
        }
        let on_disk = self.on_disk(&at);
        let nothing = rustix::fs::makedev(0, 0);
        rustix::fs::mknodat(CWD, &on_disk, FileType::CharacterDevice, Mode::empty(), nothing)
            .or_else(|_| xattrs::make_gone(&on_disk))
            .map_err(io_error("mark as gone", &on_disk))?;
        set_time(&on_disk, self.epoch)?;
        self.tree.entries.insert(at, Entry { kind: Kind::Whiteout, meta: Meta::default() });
        Ok(())
    }

    /// Makes a directory hide what lies beneath in it.
    ///
    /// # Errors
    /// When it is refused, or the disk refuses.
    pub fn hide_beneath(&mut self, path: &RootPath) -> Result<(), StoreError> {
        let at = self.resolve(path, path)?;
        if self.beneath.as_ref().is_none_or(|beneath| beneath.get(&at).is_none()) {
            return Ok(());
        }
        let on_disk = self.on_disk(&at);
        xattrs::make_opaque(&on_disk).map_err(io_error("mark as opaque", &on_disk))?;
        if let Some(entry) = self.tree.entries.get_mut(&at) {
            entry.kind = Kind::Directory { opaque: true };
        }
        Ok(())
    }

    /// A symbolic link.
    ///
    /// # Errors
    /// When it is refused, or the disk refuses.
    pub fn symlink(&mut self, path: &RootPath, mut meta: Meta, target: &[u8]) -> Result<(), StoreError> {
        meta.mode = 0o777;
        if target.is_empty() || target.len() > 4095 || target.contains(&0) {
            return Err(Refused::Target(path.to_string()).into());
        }
        let at = self.new_entry(path, &meta)?;
        let on_disk = self.on_disk(&at);
        rustix::fs::symlink(target, &on_disk).map_err(|error| io_error("make", &on_disk)(error.into()))?;
        self.apply_metadata(&on_disk, &meta, Handle::Link)?;
        self.tree.entries.insert(at, Entry { kind: Kind::Symlink { target: target.to_vec() }, meta });
        Ok(())
    }

    /// Another name of a file that is already in the layer.
    ///
    /// # Errors
    /// When it is refused, or the disk refuses.
    pub fn hard_link(&mut self, path: &RootPath, existing: &RootPath) -> Result<(), StoreError> {
        let at = self.new_entry(path, &Meta::default())?;
        let refused = || Refused::HardLink(path.to_string(), existing.to_string());
        let directory = existing.parent().ok_or_else(refused)?;
        let existing_at = self.resolve(&directory, path)?;
        let existing_at = existing_at.join(existing.name().unwrap_or_default()).map_err(|_| refused())?;
        let next = LinkGroup(self.next_group);
        let Some(entry) = self.tree.entries.get_mut(&existing_at) else {
            return Err(refused().into());
        };
        let Kind::File { links, .. } = &mut entry.kind else {
            return Err(refused().into());
        };
        if links.is_none() {
            *links = Some(next);
            self.next_group += 1;
        }
        let entry = entry.clone();
        let (from, to) = (self.on_disk(&existing_at), self.on_disk(&at));
        fs::hard_link(&from, &to).map_err(io_error("link", &to))?;
        self.tree.entries.insert(at, entry);
        Ok(())
    }

    /// A named pipe.
    ///
    /// # Errors
    /// When it is refused, or the disk refuses.
    pub fn fifo(&mut self, path: &RootPath, meta: Meta) -> Result<(), StoreError> {
        let at = self.new_entry(path, &meta)?;
        let on_disk = self.on_disk(&at);
        rustix::fs::mknodat(CWD, &on_disk, FileType::Fifo, Mode::from_raw_mode(0o600), 0)
            .map_err(|error| io_error("make", &on_disk)(error.into()))?;
        self.apply_metadata(&on_disk, &meta, Handle::Path)?;
        self.tree.entries.insert(at, Entry { kind: Kind::Fifo, meta });
        Ok(())
    }

    /// Files that Cavrith makes itself.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn made(&mut self, files: &MadeFiles) -> Result<(), StoreError> {
        for (path, made) in files {
            match made {
                Made::Directory(meta) => self.directory(path, meta.clone())?,
                Made::File(meta, bytes) => drop(self.file(path, meta.clone(), &mut bytes.as_slice())?),
            }
        }
        Ok(())
    }

    /// Gives the directories that this layer made only because something lies in them the rights that a lower tree
    /// gives them, so that laying the layer over that tree changes nothing but what it holds.
    pub fn adopt_parents(&mut self, lower: &Tree) {
        for (path, entry) in &mut self.tree.entries {
            if let Some(below) = lower.get(path)
                && entry.kind.is_directory()
                && below.kind.is_directory()
                && !self.named.contains_key(path)
            {
                entry.meta = below.meta.clone();
            }
        }
    }

    fn apply_metadata(&self, at: &Path, meta: &Meta, handle: Handle<'_>) -> Result<(), StoreError> {
        self.metadata().apply_metadata(at, meta, handle)
    }

    /// What dressing an entry takes, without the writer.
    pub(crate) fn metadata(&self) -> MetadataWriter {
        MetadataWriter { ownership: self.ownership, creator: self.creator, epoch: self.epoch }
    }

    /// Completes the directories on the disk, for a layer that is still to be worked on.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn finish_directories(&self) -> Result<(), StoreError> {
        for (path, entry) in self.tree.entries.iter().rev() {
            if entry.kind.is_directory() {
                self.apply_metadata(&self.on_disk(path), &entry.meta, Handle::Path)?;
            }
        }
        Ok(())
    }

    /// Completes the layer: directories get their rights and times last, the deepest first.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn finish(mut self) -> Result<StagedLayer, StoreError> {
        self.finish_directories()?;
        self.tree.stamp(self.epoch);
        Ok(StagedLayer::new(self.dir, self.tree))
    }
}
