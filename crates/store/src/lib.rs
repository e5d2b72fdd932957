//! The store: finished layers on disk, found again by the key of what they are made of.
//!
//! ```text
//! format               the line `cavrith store 2`
//! layers/TREE/tree     the layer's manifest: the encoding of its tree, whose BLAKE3 is TREE
//! layers/TREE/root/    the layer's files, ready to be a lower directory of overlayfs
//! layers/TREE/packed-* what the layer packs to for other programs; see [`records::PackedRecord`]
//! layers/TREE/stamped  how it looked when it was last read whole; see [`stamps`]
//! keys/KEY             the TREE of the layer that was made for a layer key
//! images/KEY           the record of the image that was made for an image key (JSON)
//! blobs/               files from the web; see [`blobs`]
//! collecting           locked while it is decided what may go; see [`leases`]
//! staging/RUN/         what one running command has under way; `held` in it is locked as long as the command lives
//! ```
//!
//! Nothing is written under its final name: a layer is made in [`staging`] and renamed into place, a record is written
//! beside its name and renamed ([`atomic`]). So whatever is visible is whole, also after a kill at any moment. Layers
//! are never changed once they are in place. What a dead command left in staging is swept by the next one.
//!
//! The way through: [`Store::open`] → [`staging::Staging`] → a [`writer::LayerWriter`] (for archives), a
//! [`known::KnownLayer`] (for what somebody else has) or [`walk::capture`] (for what a step changed) → [`Store::keep`]
//! → [`Store::remember`]. [`walk::measure`] reads a layer back, every byte of it.
//!
//! This crate knows no spec and no archive format, starts no process, and makes no mount.
#![forbid(unsafe_code)]

pub mod atomic;
pub mod blobs;
mod bundles;
pub mod caches;
pub mod collecting;
mod faults;
pub mod hashing;
pub mod known;
pub mod leases;
mod metadata;
pub mod owners;
pub mod private;
pub mod reading;
pub mod records;
pub mod removing;
pub mod shared;
pub mod staging;
pub mod stamps;
pub mod walk;
pub mod workers;
pub mod writer;
mod xattrs;

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use cavrith_core::digest::TreeDigest;
use cavrith_core::failure::FailureCode;
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Kind, Tree, encoding};
use rustix::fs::{CWD, RenameFlags};

use crate::owners::Ownership;
use crate::writer::StagedLayer;

const FORMAT: &str = "cavrith store 2\n";

/// What can go wrong in the store.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// A system call failed.
    #[error("cannot {doing} {}: {source}", path.display())]
    Io {
        /// What was being done, as a verb.
        doing: &'static str,
        /// To what.
        path: PathBuf,
        /// Why it failed.
        source: io::Error,
    },
    /// The directory holds something else.
    #[error("{} is not a store of this version of Cavrith; move it away, or set CAVRITH_HOME to another place", .0.display())]
    Foreign(PathBuf),
    /// Something damaged is in use.
    #[error("{} is damaged, and used by a workspace or a command that runs; stop it, then run cavrith store repair again", .0.display())]
    InUse(PathBuf),
    /// A layer's manifest is damaged.
    #[error("the list of the layer {layer} in the store is damaged ({why}); run cavrith store repair and build again")]
    DamagedManifest {
        /// The layer.
        layer: TreeDigest,
        /// In what way.
        why: String,
    },
    /// Something that cannot be laid into a layer.
    #[error(transparent)]
    Refused(#[from] writer::Refused),
}

impl StoreError {
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::Io { .. } => FailureCode::STORE,
            Self::Foreign(_) => FailureCode::FOREIGN_STORE,
            Self::InUse(_) => FailureCode::STORE_IN_USE,
            Self::DamagedManifest { .. } => FailureCode::DAMAGED_LIST,
            Self::Refused(_) => FailureCode::ARCHIVE,
        }
    }

    /// True when the disk had no room left.
    pub fn is_full(&self) -> bool {
        matches!(self, Self::Io { source, .. } if matches!(source.kind(), io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded))
    }
}

/// Adds what was being done, and to what, to the error of a system call.
pub(crate) fn io_error(doing: &'static str, path: impl Into<PathBuf>) -> impl FnOnce(io::Error) -> StoreError {
    let path = path.into();
    move |source| StoreError::Io { doing, path, source }
}

/// An open store.
#[derive(Debug, Clone)]
pub struct Store {
    root: PathBuf,
    lease: Option<std::sync::Arc<leases::Lease>>,
    ownership: Ownership,
}

impl Store {
    /// Opens the store in a directory, making it when there is none.
    ///
    /// # Errors
    /// When the directory cannot be made or holds something that is not a store.
    pub fn open(root: &Path) -> Result<Self, StoreError> {
        let format = root.join("format");
        match reading::text(&format) {
            Ok(text) if text == FORMAT => private::directory(root)?,
            Ok(_) => return Err(StoreError::Foreign(root.to_owned())),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                let empty = fs::read_dir(root).map_or(true, |mut entries| entries.next().is_none());
                // A store whose making was interrupted has some of the directories below, but no format yet.
                if !empty && !root.join("staging").is_dir() {
                    return Err(StoreError::Foreign(root.to_owned()));
                }
                private::directory(root)?;
                for name in ["staging", "layers", "keys", "images"] {
                    let path = root.join(name);
                    fs::create_dir_all(&path).map_err(io_error("make", &path))?;
                }
                atomic::write(&format, FORMAT.as_bytes())?;
            }
            Err(error) => return Err(io_error("read", &format)(error)),
        }
        Ok(Self { root: root.to_owned(), lease: None, ownership: Ownership::Real })
    }

    /// From now on owners of files are found, and written, like this.
    pub fn set_ownership(&mut self, ownership: Ownership) {
        self.ownership = ownership;
    }

    /// Where the owners of this store's files are.
    pub fn ownership(&self) -> Ownership {
        self.ownership
    }

    /// Reads every byte of a layer's files. `expected` is what its manifest says, which alone knows whose a link is
    /// where owners are recorded.
    ///
    /// # Errors
    /// When something cannot be read.
    pub fn measure(&self, layer: &TreeDigest, expected: &Tree) -> Result<walk::Measure, StoreError> {
        let known =
            |path: &cavrith_core::path::RootPath| expected.get(path).map(|entry| (entry.meta.uid, entry.meta.gid));
        let owners = match self.ownership {
            Ownership::Real => owners::Owners::Real,
            Ownership::Recorded => owners::Owners::Recorded { new: (0, 0), known: &known },
        };
        walk::measure(&self.layer_root(layer), owners)
    }

    /// The store's directory.
    pub fn root(&self) -> &Path {
        &self.root
    }

    fn layer_dir(&self, layer: &TreeDigest) -> PathBuf {
        self.root.join("layers").join(layer.to_string())
    }

    /// The directory that holds a layer's files.
    pub fn layer_root(&self, layer: &TreeDigest) -> PathBuf {
        self.layer_dir(layer).join("root")
    }

    /// A file of an image, from the uppermost layer that has it; nothing when the image, which `merged` describes, has
    /// no such file.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn file_of_image<'a>(
        &self,
        layers: impl DoubleEndedIterator<Item = &'a TreeDigest>,
        merged: &Tree,
        path: &RootPath,
    ) -> Result<Option<Vec<u8>>, StoreError> {
        let place = self.place_in_image(layers, merged, path);
        place.map(|place| reading::bytes(&place).map_err(io_error("read", &place))).transpose()
    }

    /// Where a regular file of an image lies in the store, in the uppermost layer that has it; nothing when there is no
    /// such file. `path` is where it really lies.
    pub fn place_in_image<'a>(
        &self,
        layers: impl DoubleEndedIterator<Item = &'a TreeDigest>,
        merged: &Tree,
        path: &RootPath,
    ) -> Option<PathBuf> {
        if !matches!(merged.get(path).map(|entry| &entry.kind), Some(Kind::File { .. })) {
            return None;
        }
        let mut places = layers.rev().map(|layer| self.layer_root(layer).join(path.as_relative()));
        places.find(|place| place.symlink_metadata().is_ok_and(|meta| meta.is_file()))
    }

    /// True when the layer is there.
    pub fn has_layer(&self, layer: &TreeDigest) -> bool {
        self.layer_root(layer).is_dir()
    }

    /// Reads a layer's manifest and proves it.
    ///
    /// # Errors
    /// When it cannot be read, or is not what its name says.
    pub fn layer_tree(&self, layer: &TreeDigest) -> Result<Tree, StoreError> {
        let path = self.layer_dir(layer).join("tree");
        let bytes = reading::bytes(&path).map_err(io_error("read", &path))?;
        let damaged = |why: String| StoreError::DamagedManifest { layer: *layer, why };
        if blake3::hash(&bytes).as_bytes() != layer.as_bytes() {
            return Err(damaged("it is not what its name says".to_owned()));
        }
        encoding::decode(&bytes).map_err(|bad| damaged(bad.to_string()))
    }

    /// Whether a layer is what its manifest says.
    fn is_as_made(&self, layer: &TreeDigest) -> bool {
        let Ok(expected) = self.layer_tree(layer) else { return false };
        self.measure(layer, &expected).is_ok_and(|measured| measured.is(layer))
    }

    /// Puts a staged layer in its place. With `replace`, one that is there already is read, and exchanged when it is
    /// not as it was made; one that is stays, since somebody may be using it. Afterwards the layer survives a crash.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn keep(&self, layer: StagedLayer, replace: bool) -> Result<(TreeDigest, Tree), StoreError> {
        let digest = layer.tree.digest();
        let manifest = layer.dir.join("tree");
        faults::before("write")
            .and_then(|()| fs::write(&manifest, encoding::encode(&layer.tree)))
            .map_err(io_error("write", &manifest))?;
        let place = self.layer_dir(&digest);
        let damaged = replace && place.exists() && !self.is_as_made(&digest);
        atomic::sync_filesystem(&layer.dir)?;
        let _no_collector = self.lock_shared()?;
        if damaged && place.exists() {
            // The old one goes with staging.
            faults::before("exchange").map_err(io_error("put in place", &place))?;
            let exchanged = rustix::fs::renameat_with(CWD, &layer.dir, CWD, &place, RenameFlags::EXCHANGE);
            if exchanged.is_err() {
                // Not every filesystem can; then there is a moment without.
                let old = layer.dir.with_extension("old");
                fs::rename(&place, &old).map_err(io_error("move", &place))?;
                fs::rename(&layer.dir, &place).map_err(io_error("put in place", &place))?;
            }
        } else {
            match faults::before("rename").and_then(|()| fs::rename(&layer.dir, &place)) {
                Ok(()) => {}
                // Somebody else made the same layer before; ours stays in staging and goes with it.
                Err(_) if self.has_layer(&digest) => {}
                Err(error) => return Err(io_error("put in place", &place)(error)),
            }
        }
        // The name is on the disk before anybody records that the layer is there.
        atomic::sync_parent(&place).map_err(io_error("sync", &place))?;
        self.use_layer(&digest)?;
        Ok((digest, layer.tree))
    }
}
