//! Several archives laid into one layer at once.
//!
//! Each has a number, and what comes out depends on the numbers, never on which thread was faster. A path that two of
//! them bring is *contested*: the content that comes second is put aside, and who gets the path is
//! [decided](SharedWriter::contested) when all have been read.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Read;
use std::path::PathBuf;
use std::sync::{Mutex, MutexGuard, PoisonError};

use cavrith_core::digest::ContentDigest;
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Entry, Kind, Meta, Tree};

use crate::hashing::{self, CopyFault};
use crate::metadata::Handle;
use crate::writer::{LayerWriter, Refused};
use crate::{StoreError, io_error};

/// What takes the entries of an archive.
pub trait Sink {
    /// A directory.
    ///
    /// # Errors
    /// When it is refused, or the disk refuses.
    fn directory(&mut self, path: &RootPath, meta: Meta) -> Result<(), StoreError>;
    /// A regular file with all that `content` gives; returns how many bytes that was.
    ///
    /// # Errors
    /// When it is refused, the disk refuses, or `content` fails.
    fn file(&mut self, path: &RootPath, meta: Meta, content: &mut dyn Read) -> Result<u64, StoreError>;
    /// A symbolic link.
    ///
    /// # Errors
    /// When it is refused, or the disk refuses.
    fn symlink(&mut self, path: &RootPath, meta: Meta, target: &[u8]) -> Result<(), StoreError>;
    /// Another name of a file of the same archive.
    ///
    /// # Errors
    /// When it is refused, or the disk refuses.
    fn hard_link(&mut self, path: &RootPath, existing: &RootPath) -> Result<(), StoreError>;
    /// A named pipe.
    ///
    /// # Errors
    /// When it is refused, or the disk refuses.
    fn fifo(&mut self, path: &RootPath, meta: Meta) -> Result<(), StoreError>;
}

impl Sink for LayerWriter {
    fn directory(&mut self, path: &RootPath, meta: Meta) -> Result<(), StoreError> {
        Self::directory(self, path, meta)
    }

    fn file(&mut self, path: &RootPath, meta: Meta, content: &mut dyn Read) -> Result<u64, StoreError> {
        Self::file(self, path, meta, content)
    }

    fn symlink(&mut self, path: &RootPath, meta: Meta, target: &[u8]) -> Result<(), StoreError> {
        Self::symlink(self, path, meta, target)
    }

    fn hard_link(&mut self, path: &RootPath, existing: &RootPath) -> Result<(), StoreError> {
        Self::hard_link(self, path, existing)
    }

    fn fifo(&mut self, path: &RootPath, meta: Meta) -> Result<(), StoreError> {
        Self::fifo(self, path, meta)
    }
}

/// What one archive brings for a contested path.
#[derive(Debug)]
struct Claim {
    archive: usize,
    /// Where its content lies while it is not decided; `None` for the one that has the path.
    aside: Option<RootPath>,
}

/// One thing to be moved, or with no place to go, removed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Move {
    /// Where it is.
    pub from: RootPath,
    /// Where it goes.
    pub to: Option<RootPath>,
}

#[derive(Debug)]
struct Shared {
    writer: LayerWriter,
    /// Which archive each entry that is not a directory comes from.
    from: BTreeMap<RootPath, usize>,
    contested: BTreeMap<RootPath, Vec<Claim>>,
    next_aside: usize,
}

/// A layer that several archives are laid into at once.
#[derive(Debug)]
pub struct SharedWriter {
    shared: Mutex<Shared>,
}

/// Where contents lie that are not decided: a directory of the layer itself, so that they can be moved inside too.
/// The thread that completes the layer removes it.
pub const ASIDE: &str = ".cavrith-aside";

impl SharedWriter {
    /// Begins with what is in `writer`.
    pub fn new(writer: LayerWriter) -> Self {
        let shared = Shared { writer, from: BTreeMap::new(), contested: BTreeMap::new(), next_aside: 0 };
        Self { shared: Mutex::new(shared) }
    }

    fn lock(&self) -> MutexGuard<'_, Shared> {
        self.shared.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The place of one archive's entries.
    pub fn archive(&self, number: usize) -> ArchiveSink<'_> {
        ArchiveSink { writer: self, number }
    }

    /// Paths that several archives bring, with the archives' numbers.
    pub fn contested(&self) -> Vec<(RootPath, Vec<usize>)> {
        let shared = self.lock();
        let listed = shared.contested.iter().map(|(path, claims)| {
            let mut archives: Vec<_> = claims.iter().map(|claim| claim.archive).collect();
            archives.sort_unstable();
            (path.clone(), archives)
        });
        listed.collect()
    }

    /// Gives a contested path to one archive, and the others' contents another path, or none: what has to be moved for
    /// it.
    pub fn settle(&self, path: &RootPath, winner: usize, others: Option<&RootPath>) -> Vec<Move> {
        let mut shared = self.lock();
        let Some(claims) = shared.contested.remove(path) else { return Vec::new() };
        let mut moves = Vec::new();
        // The one that has the path makes room first.
        let (holder, waiting): (Vec<_>, Vec<_>) = claims.into_iter().partition(|claim| claim.aside.is_none());
        for claim in holder.into_iter().chain(waiting) {
            let from = claim.aside.clone().unwrap_or_else(|| path.clone());
            match (claim.archive == winner, &claim.aside) {
                (true, None) => {}
                (true, Some(_)) => moves.push(Move { from, to: Some(path.clone()) }),
                (false, _) => moves.push(Move { from, to: others.cloned() }),
            }
        }
        moves.sort_by_key(|one| one.to.as_ref() == Some(path));
        moves
    }

    /// Moving an entry.
    pub fn moving(&self, path: &RootPath, to: &RootPath) -> Move {
        Move { from: path.clone(), to: Some(to.clone()) }
    }

    /// Moves what is to be moved. Only while nobody else has worked on the layer: its directories are followed by the
    /// kernel.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn carry_out(&self, moves: &[Move]) -> Result<(), StoreError> {
        let shared = self.lock();
        for Move { from, to } in moves {
            let from = shared.writer.on_disk(from);
            match to {
                Some(to) => {
                    let to = shared.writer.on_disk(to);
                    fs::rename(&from, &to).map_err(io_error("move", &to))?;
                }
                None => fs::remove_file(&from).map_err(io_error("remove", &from))?,
            }
        }
        Ok(())
    }

    /// The content of a file that was laid.
    pub fn read(&self, path: &RootPath) -> Option<Vec<u8>> {
        let shared = self.lock();
        let place = shared.writer.tree().resolve(path)?;
        shared.writer.read(&place).ok()
    }

    /// The content of a file at a path; nothing for a link, and for anything else that is none.
    pub fn read_file(&self, path: &RootPath) -> Option<Vec<u8>> {
        let shared = self.lock();
        let place = shared.writer.tree().resolve_parent(path)?;
        let is_file = matches!(shared.writer.tree().get(&place)?.kind, Kind::File { .. });
        is_file.then(|| shared.writer.read(&place).ok()).flatten()
    }

    /// Whether something lies aside.
    pub fn has_contested(&self) -> bool {
        !self.lock().contested.is_empty()
    }

    /// Which archive an entry comes from.
    pub fn archive_of(&self, path: &RootPath) -> Option<usize> {
        self.lock().from.get(path).copied()
    }

    /// All entries that are no directories.
    pub fn paths(&self) -> Vec<RootPath> {
        self.lock().from.keys().cloned().collect()
    }

    /// What was laid so far. Files have neither length nor digest in it.
    pub fn tree(&self) -> Tree {
        self.lock().writer.tree().clone()
    }

    /// All directories.
    pub fn directories(&self) -> Vec<RootPath> {
        let shared = self.lock();
        let entries = shared.writer.tree().entries.iter();
        entries.filter(|(_, entry)| entry.kind.is_directory()).map(|(path, _)| path.clone()).collect()
    }

    /// Adds a file of our own.
    ///
    /// # Errors
    /// When it is there already, or the disk refuses.
    pub fn add_file(&self, path: &RootPath, meta: Meta, mut content: &[u8]) -> Result<(), StoreError> {
        self.lock().writer.file(path, meta, &mut content).map(drop)
    }

    /// Adds a directory of our own, unless it is there.
    ///
    /// # Errors
    /// When something else is there, or the disk refuses.
    pub fn add_directory(&self, path: &RootPath, meta: Meta) -> Result<(), StoreError> {
        self.lock().writer.directory(path, meta)
    }

    /// Whether this very link was there before any archive.
    fn has_link(&self, path: &RootPath, wanted: &[u8]) -> bool {
        let shared = self.lock();
        let kind = shared.writer.tree().get(path).map(|entry| &entry.kind);
        !shared.from.contains_key(path) && matches!(kind, Some(Kind::Symlink { target }) if target == wanted)
    }

    /// Completes the directories, when every archive is done.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn finish_directories(&self) -> Result<(), StoreError> {
        self.lock().writer.finish_directories()
    }
}

/// Takes the entries of one of several archives. The bytes of files are not digested on the way: what is laid this way
/// is worked on further, and digested when that is done.
#[derive(Debug)]
pub struct ArchiveSink<'a> {
    writer: &'a SharedWriter,
    number: usize,
}

impl ArchiveSink<'_> {
    /// Where an entry goes on the disk: to its path, or aside when that is taken.
    fn begin(&self, path: &RootPath, meta: &Meta, kind: Kind) -> Result<PathBuf, StoreError> {
        let mut shared = self.writer.lock();
        shared.writer.check_meta(path, meta)?;
        let at = shared.writer.place(path)?;
        if at.is_root() {
            return Err(Refused::Twice(path.to_string()).into());
        }
        match (shared.writer.tree().get(&at), shared.from.get(&at).copied()) {
            (None, _) => {
                let on_disk = shared.writer.on_disk(&at);
                shared.writer.add_entry(at.clone(), Entry { kind, meta: meta.clone() });
                shared.from.insert(at, self.number);
                Ok(on_disk)
            }
            (Some(_), Some(other)) if other != self.number => {
                let aside = RootPath::from_archive(format!("{ASIDE}/{}", shared.next_aside).as_bytes());
                let aside = aside.map_err(|_| Refused::TooLong(path.to_string()))?;
                shared.next_aside += 1;
                let on_disk = shared.writer.on_disk(&aside);
                let room = on_disk.parent().map_or(Ok(()), fs::create_dir_all);
                room.map_err(io_error("make", &on_disk))?;
                let claims = shared.contested.entry(at).or_default();
                if claims.is_empty() {
                    claims.push(Claim { archive: other, aside: None });
                }
                claims.push(Claim { archive: self.number, aside: Some(aside) });
                Ok(on_disk)
            }
            _ => Err(Refused::Twice(path.to_string()).into()),
        }
    }
}

impl Sink for ArchiveSink<'_> {
    fn directory(&mut self, path: &RootPath, meta: Meta) -> Result<(), StoreError> {
        let mut shared = self.writer.lock();
        shared.writer.check_meta(path, &meta)?;
        shared.writer.directory_of(path, meta, self.number + 1)
    }

    fn file(&mut self, path: &RootPath, meta: Meta, content: &mut dyn Read) -> Result<u64, StoreError> {
        let nothing = ContentDigest::from_bytes([0; 32]);
        let on_disk = self.begin(path, &meta, Kind::File { size: 0, content: nothing, links: None })?;
        let metadata = self.writer.lock().writer.metadata();
        let mut file = File::create_new(&on_disk).map_err(io_error("make", &on_disk))?;
        let size = hashing::copy(content, &mut file).map_err(|fault| match fault {
            CopyFault::Read(error) => io_error("unpack", path.as_relative())(error),
            CopyFault::Write(error) => io_error("write", &on_disk)(error),
        })?;
        metadata.apply_metadata(&on_disk, &meta, Handle::File(&file))?;
        Ok(size)
    }

    fn symlink(&mut self, path: &RootPath, mut meta: Meta, target: &[u8]) -> Result<(), StoreError> {
        meta.mode = 0o777;
        if target.is_empty() || target.len() > 4095 || target.contains(&0) {
            return Err(Refused::Target(path.to_string()).into());
        }
        if self.writer.has_link(path, target) {
            return Ok(());
        }
        let on_disk = self.begin(path, &meta, Kind::Symlink { target: target.to_vec() })?;
        let metadata = self.writer.lock().writer.metadata();
        rustix::fs::symlink(target, &on_disk).map_err(|error| io_error("make", &on_disk)(error.into()))?;
        metadata.apply_metadata(&on_disk, &meta, Handle::Link)
    }

    fn hard_link(&mut self, path: &RootPath, existing: &RootPath) -> Result<(), StoreError> {
        let mut shared = self.writer.lock();
        shared.writer.hard_link(path, existing)?;
        let at = shared.writer.place(path)?;
        shared.from.insert(at, self.number);
        Ok(())
    }

    fn fifo(&mut self, path: &RootPath, meta: Meta) -> Result<(), StoreError> {
        self.writer.lock().writer.fifo(path, meta)
    }
}
