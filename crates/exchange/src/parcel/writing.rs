//! Making a parcel.

use std::fs::{self, File};
use std::io::{self, Read as _, Write as _};
use std::path::{Path, PathBuf};

use cavrith_core::digest::{ContentDigest, Sha256Digest};
use cavrith_core::oci::image::{Descriptor, EMPTY, Index};
use cavrith_core::oci::parcel::{self, ListedLayer, Parcel};
use cavrith_core::path::RootPath;
use cavrith_core::seal::SealedLayer;
use cavrith_core::tree::{Entry, Kind, Meta, Tree};
use cavrith_engine::depots;
use cavrith_store::Store;
use cavrith_store::hashing;
use cavrith_store::reading;
use cavrith_store::staging::Staging;

use super::TIME;
use super::encryption::Recipients;
use crate::cache::packed_list;
use crate::error::writing;
use crate::layout::{self, Blob, Blobs, PackedImage};
use crate::work::InProgress;
use crate::{ExchangeError, tar_writer};

/// Zstandard's level for the project's files.
const LEVEL: i32 = 9;

/// A parcel in the making.
#[derive(Debug)]
pub struct NewParcel<'a> {
    store: &'a Store,
    pub(super) staging: &'a Staging,
    blobs: Blobs,
    index: Index,
    pub(super) document: Parcel,
}

impl<'a> NewParcel<'a> {
    /// A parcel of nothing; what is large is packed into `staging` first.
    pub fn new(store: &'a Store, staging: &'a Staging) -> Self {
        let blobs = Blobs::from([(Sha256Digest::of(EMPTY.1), Blob::Bytes(EMPTY.1.to_vec()))]);
        Self { store, staging, blobs, index: Index::empty(), document: Parcel::empty() }
    }

    /// Notes something about the parcel as a whole.
    pub fn annotate(&mut self, name: &str, text: impl Into<String>) {
        self.document.annotations.insert(name.to_owned(), text.into());
    }

    pub(super) fn add(&mut self, bytes: Vec<u8>) -> (Sha256Digest, u64) {
        let (digest, size) = (Sha256Digest::of(&bytes), bytes.len() as u64);
        self.blobs.insert(digest, Blob::Bytes(bytes));
        (digest, size)
    }

    /// Adds a file whose digest is known.
    pub(super) fn add_file(&mut self, digest: Sha256Digest, place: PathBuf, size: u64) {
        self.blobs.insert(digest, Blob::File(place, size));
    }

    /// Adds an image, packed with Zstandard, and the lists of its layers.
    ///
    /// # Errors
    /// When a layer's list cannot be read.
    pub fn image(&mut self, image: &PackedImage, layers: &[SealedLayer]) -> Result<(), ExchangeError> {
        let (blobs, descriptor) = image.blobs();
        self.blobs.extend(blobs);
        self.index.put(descriptor);
        for (layer, (packed, _)) in layers.iter().zip(&image.layers) {
            // Variants share layers.
            if self.document.lists().iter().any(|known| known.tree == layer.tree) {
                continue;
            }
            let (list, size) = self.add(packed_list(self.store, layer)?);
            self.document.add_list(&ListedLayer { tree: layer.tree, list, content: packed.blob }, size);
        }
        Ok(())
    }

    /// Adds files of a folder, as an archive of a kind.
    ///
    /// # Errors
    /// When one cannot be read.
    pub fn files(&mut self, kind: &str, top: &Path, files: &[PathBuf]) -> Result<(), ExchangeError> {
        let place = self.staging.new_name();
        let size = write_files(top, files, &place)?;
        self.file(kind, place, size)
    }

    /// Adds a file of a kind.
    fn file(&mut self, kind: &str, place: PathBuf, size: u64) -> Result<(), ExchangeError> {
        let digest = sha256(&place)?;
        self.blobs.insert(digest, Blob::File(place, size));
        self.document.layers.push(Descriptor::new(kind, digest, size));
        Ok(())
    }

    /// Adds work in progress.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn work(&mut self, work: &InProgress) -> Result<(), ExchangeError> {
        if let Some(history) = &work.history {
            let size = fs::metadata(history).map_err(writing(history))?.len();
            self.file(parcel::HISTORY, history.clone(), size)?;
        }
        self.files(parcel::FILES, &work.top, &work.files)?;
        let (digest, size) = self.add(serde_json::to_vec(&work.work).unwrap_or_default());
        self.document.layers.push(Descriptor::new(parcel::WORK, digest, size));
        Ok(())
    }

    /// Adds every file of a depot, as files that the lock pins.
    ///
    /// # Errors
    /// When the depot's index cannot be read.
    pub fn sources(&mut self, depot: &Path) -> Result<(), ExchangeError> {
        for file in depots::read(depot)?.files() {
            if self.blobs.insert(file.sha256, Blob::File(depot.join(&file.file), file.size)).is_none() {
                self.document.layers.push(Descriptor::new(parcel::SOURCE, file.sha256, file.size));
            }
        }
        Ok(())
    }

    /// Adds a kept folder, whose backup lies in a file.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn kept(&mut self, name: &str, backup: PathBuf) -> Result<(), ExchangeError> {
        let size = fs::metadata(&backup).map_err(writing(&backup))?.len();
        let digest = sha256(&backup)?;
        self.blobs.insert(digest, Blob::File(backup, size));
        self.document.add_kept(name, digest, size);
        Ok(())
    }

    /// Writes the parcel, whole or not at all, and gives its length. With `recipients`, only they can read it.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn write(mut self, recipients: &Recipients, to: &Path) -> Result<u64, ExchangeError> {
        let (bytes, listed) = self.document.document();
        self.add(bytes);
        self.index.put(listed);
        let index = serde_json::to_vec(&self.index).unwrap_or_default();
        write(&index, &self.blobs, recipients, to)
    }
}

/// Writes a parcel of an index and blobs.
pub(crate) fn write(index: &[u8], blobs: &Blobs, recipients: &Recipients, to: &Path) -> Result<u64, ExchangeError> {
    layout::whole_file(to, |file| {
        let mut out = io::BufWriter::with_capacity(1 << 20, &mut *file);
        recipients.encrypting(&mut out, to, |mut out| layout::write_archive(index, blobs, TIME, &mut out, to))?;
        out.flush().map_err(writing(to))?;
        drop(out);
        Ok(file.metadata().map_err(writing(to))?.len())
    })
}

fn sha256(path: &Path) -> Result<Sha256Digest, ExchangeError> {
    let mut file = File::open(path).map_err(writing(path))?;
    let (_, digest) = hashing::sha256(&mut file, None).map_err(writing(path))?;
    Ok(digest)
}

/// Writes files and links of a folder as a compressed archive: names, contents, and whether a file is a program.
fn write_files(top: &Path, files: &[PathBuf], to: &Path) -> Result<u64, ExchangeError> {
    use std::os::unix::ffi::OsStrExt as _;
    use std::os::unix::fs::PermissionsExt as _;
    let mut tree = Tree::with_root();
    for file in files {
        let at = top.join(file);
        let meta = fs::symlink_metadata(&at).map_err(writing(&at))?;
        let refused = |why: String| ExchangeError::Work(format!("{} cannot be packed: {why}", at.display()));
        let path = RootPath::from_plain(file.as_os_str().as_bytes()).map_err(|bad| refused(bad.to_string()))?;
        let kind = if meta.is_symlink() {
            let target = fs::read_link(&at).map_err(writing(&at))?;
            Kind::Symlink { target: target.as_os_str().as_bytes().to_vec() }
        } else if meta.is_file() {
            Kind::File { size: meta.len(), content: ContentDigest::from_bytes([0; 32]), links: None }
        } else {
            return Err(refused("it is neither a file nor a link".to_owned()));
        };
        let mode = if meta.permissions().mode() & 0o100 != 0 { 0o755 } else { 0o644 };
        tree.ensure_parents(&path);
        tree.entries.insert(path, Entry { kind, meta: Meta::root(mode) });
    }
    tree.stamp(TIME);
    let mut content = |path: &RootPath| -> io::Result<Box<dyn io::Read>> {
        let size = match tree.get(path).map(|entry| &entry.kind) {
            Some(Kind::File { size, .. }) => *size,
            _ => 0,
        };
        // A file that grows meanwhile is cut where it was, and one that shrinks is filled up.
        let file = reading::open_real(&top.join(path.as_relative()))?;
        Ok(Box::new(file.chain(io::repeat(0)).take(size)))
    };
    let out = File::create(to).map_err(writing(to))?;
    let mut encoder = zstd::Encoder::new(out, LEVEL).map_err(writing(to))?;
    tar_writer::write(&tree, &mut content, &mut encoder).map_err(writing(top))?;
    let out = encoder.finish().map_err(writing(to))?;
    Ok(out.metadata().map_err(writing(to))?.len())
}
