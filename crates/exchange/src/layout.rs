//! Image layouts (OCI Image Specification 1.1, "Image Layout"): a folder, or the same in a tar archive.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use cavrith_core::digest::{ContentDigest, Sha256Digest};
use cavrith_core::lock::Lock;
use cavrith_core::oci::image::{self, Compression, Descriptor, Documents, Index, LAYOUT_FILE, PackedLayer, Subject};
use cavrith_core::path::RootPath;
use cavrith_core::setup::Setup;
use cavrith_core::spec::Spec;
use cavrith_core::tree::{Entry, Kind, Meta, Tree};
use cavrith_engine::build;
use cavrith_store::records::ImageRecord;
use cavrith_store::staging::Staging;
use cavrith_store::{Store, atomic, reading};

use crate::error::writing;
use crate::parcel::encryption::starts_encrypted;
use crate::{ExchangeError, layers, tar_writer};

/// The index of a layout.
pub(crate) const INDEX_FILE: &str = "index.json";
/// Bytes that a layout's index may have.
pub(crate) const LONGEST_INDEX: u64 = 4 << 20;

/// An image that leaves this machine, with the spec and the lock that it was built from.
#[derive(Debug)]
pub struct Outgoing<'a> {
    spec: &'a Spec,
    lock: &'a Lock,
    shell: &'a str,
    setup: Setup,
    image: String,
}

impl<'a> Outgoing<'a> {
    /// As it was built here.
    pub fn new(spec: &'a Spec, lock: &'a Lock, record: &'a ImageRecord) -> Self {
        let setup = Setup::new(spec, lock, &record.shell);
        Self { spec, lock, shell: &record.shell, setup, image: record.image.to_string() }
    }

    /// What its documents are made from.
    pub fn subject(&self, compression: Compression) -> Subject<'_> {
        let Self { spec, lock, shell, setup, image } = self;
        Subject { spec, lock, setup, shell, image, here: build::architecture(), compression }
    }
}

/// An image, packed into staging.
#[derive(Debug)]
pub struct PackedImage {
    /// Its layers, the lowest first, and where each lies.
    pub layers: Vec<(PackedLayer, PathBuf)>,
    /// Its documents.
    pub documents: Documents,
}

impl PackedImage {
    /// Packs every layer of an image. `on_layer` hears the name of each before it is packed.
    ///
    /// # Errors
    /// When a layer cannot be read, or the disk refuses.
    pub fn new(
        store: &Store,
        staging: &Staging,
        record: &ImageRecord,
        subject: Subject<'_>,
        on_layer: &dyn Fn(&str),
    ) -> Result<Self, ExchangeError> {
        let mut packed = Vec::new();
        for layer in &record.layers {
            on_layer(&layer.name);
            let place = staging.new_name();
            packed.push((layers::pack(store, layer, subject.compression, &place)?, place));
        }
        let documents = image::documents(subject, &packed.iter().map(|(layer, _)| layer.clone()).collect::<Vec<_>>());
        Ok(Self { layers: packed, documents })
    }

    /// Its documents as blobs.
    fn documents(&self) -> [(Sha256Digest, &[u8]); 2] {
        let Documents { config, manifest, .. } = &self.documents;
        [config, manifest].map(|bytes| (Sha256Digest::of(bytes), bytes.as_slice()))
    }

    /// Writes it into a folder. One that is an image layout already gets it besides what it has, so that builds of
    /// several machines come together in one; an image of the same name for the same platform is replaced in the index.
    ///
    /// # Errors
    /// When there is something else, or the disk refuses.
    pub fn write_folder(&self, to: &Path) -> Result<(), ExchangeError> {
        let mut index = there(to)?;
        let blobs = to.join("blobs/sha256");
        fs::create_dir_all(&blobs).map_err(writing(&blobs))?;
        for (layer, place) in &self.layers {
            let at = blobs.join(layer.blob.to_string());
            // What is there under the name of a digest was whole when it got it.
            if !at.is_file() {
                put(place, &at)?;
            }
        }
        for (digest, bytes) in self.documents() {
            atomic::write(&blobs.join(digest.to_string()), bytes)?;
        }
        atomic::write(&to.join(LAYOUT_FILE.0), LAYOUT_FILE.1.as_bytes())?;
        // Last, so that what it names is there.
        index.put(self.documents.descriptor.clone());
        atomic::write(&to.join(INDEX_FILE), &serde_json::to_vec(&index).unwrap_or_default())?;
        Ok(())
    }

    /// Everything that it is made of, and how an index lists it.
    pub fn blobs(&self) -> (Blobs, Descriptor) {
        let layers = self.layers.iter().map(|(layer, place)| (layer.blob, Blob::File(place.clone(), layer.size)));
        let documents = self.documents().map(|(digest, bytes)| (digest, Blob::Bytes(bytes.to_vec())));
        (layers.chain(documents).collect(), self.documents.descriptor.clone())
    }

    /// Writes it as one archive.
    ///
    /// # Errors
    /// When writing fails.
    pub fn write_archive(&self, time: u64, to: &mut dyn Write, name: &Path) -> Result<(), ExchangeError> {
        let (blobs, descriptor) = self.blobs();
        let mut index = Index::empty();
        index.put(descriptor);
        write_archive(&serde_json::to_vec(&index).unwrap_or_default(), &blobs, time, to, name)
    }
}

/// Something that has a digest: small and in memory, or a file of this length.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Blob {
    /// In memory.
    Bytes(Vec<u8>),
    /// In a file.
    File(PathBuf, u64),
}

impl Blob {
    /// Its length.
    pub fn size(&self) -> u64 {
        match self {
            Self::Bytes(bytes) => bytes.len() as u64,
            Self::File(_, size) => *size,
        }
    }
}

/// Blobs by their digests.
pub type Blobs = BTreeMap<Sha256Digest, Blob>;

/// Where a blob lies in a layout.
pub(crate) fn blob_path(digest: &Sha256Digest) -> String {
    format!("blobs/sha256/{digest}")
}

/// Writes a layout with this index and these blobs as one archive; all entries get the time stamp `time`.
///
/// # Errors
/// When writing fails.
pub fn write_archive(
    index: &[u8],
    blobs: &Blobs,
    time: u64,
    to: &mut dyn Write,
    name: &Path,
) -> Result<(), ExchangeError> {
    let small = |bytes: &[u8]| Blob::Bytes(bytes.to_vec());
    let mut files: BTreeMap<String, Blob> = BTreeMap::from([
        (LAYOUT_FILE.0.to_owned(), small(LAYOUT_FILE.1.as_bytes())),
        (INDEX_FILE.to_owned(), small(index)),
    ]);
    files.extend(blobs.iter().map(|(digest, blob)| (blob_path(digest), blob.clone())));
    let mut tree = Tree::with_root();
    for (path, blob) in &files {
        let Ok(path) = RootPath::from_plain(path.as_bytes()) else { continue };
        tree.ensure_parents(&path);
        let kind = Kind::File { size: blob.size(), content: ContentDigest::from_bytes([0; 32]), links: None };
        tree.entries.insert(path, Entry { kind, meta: Meta::root(0o644) });
    }
    tree.stamp(time);
    let mut content = |path: &RootPath| -> io::Result<Box<dyn Read>> {
        match files.get(path.to_string().trim_start_matches('/')) {
            Some(Blob::Bytes(bytes)) => Ok(Box::new(io::Cursor::new(bytes.clone()))),
            Some(Blob::File(place, _)) => Ok(Box::new(File::open(place)?)),
            None => Err(io::ErrorKind::NotFound.into()),
        }
    };
    tar_writer::write(&tree, &mut content, to).and_then(|()| to.flush()).map_err(writing(name))
}

/// The index of a layout that is there, or an empty one where nothing is.
fn there(folder: &Path) -> Result<Index, ExchangeError> {
    let entries = match fs::read_dir(folder) {
        Ok(mut entries) => entries.next().is_some(),
        Err(error) if error.kind() == io::ErrorKind::NotFound => false,
        Err(_) => return Err(ExchangeError::Occupied(folder.to_owned())),
    };
    if !entries {
        return Ok(Index::empty());
    }
    if !folder.join(LAYOUT_FILE.0).is_file() {
        return Err(ExchangeError::Occupied(folder.to_owned()));
    }
    let unusable = |why: String| ExchangeError::Layout { path: folder.to_owned(), why };
    match reading::bounded(&folder.join(INDEX_FILE), LONGEST_INDEX) {
        Ok(bytes) => serde_json::from_slice(&bytes).map_err(|error| unusable(format!("its index.json: {error}"))),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Index::empty()),
        Err(error) => Err(unusable(format!("its index.json cannot be read: {error}"))),
    }
}

/// Puts a packed file in its place, whole or not at all.
fn put(from: &Path, to: &Path) -> Result<(), ExchangeError> {
    let file = atomic::NewFile::beside(to, 0o644).map_err(writing(to))?;
    io::copy(&mut File::open(from).map_err(writing(from))?, &mut file.file()).map_err(writing(to))?;
    file.put_in_place().map_err(writing(to))
}

/// Sees to it that a file that is to be written takes the place of nothing but an earlier archive: a slip of the hand
/// must not cost anybody a file.
///
/// # Errors
/// [`ExchangeError::NotAnArchive`].
pub fn replaceable(to: &Path) -> Result<(), ExchangeError> {
    let mut start = Vec::new();
    match reading::open(to) {
        Ok(file) => file.take(512).read_to_end(&mut start).map_err(writing(to))?,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        Err(_) => return Err(ExchangeError::NotAnArchive(to.to_owned())),
    };
    // tar (POSIX ustar), gzip (RFC 1952), Zstandard (RFC 8878), or one of them encrypted.
    let is_archive = start.is_empty()
        || starts_encrypted(&start)
        || start.get(257..262) == Some(b"ustar")
        || start.starts_with(&[0x1f, 0x8b])
        || start.starts_with(&[0x28, 0xb5, 0x2f, 0xfd])
        // A disk: what stands before a partition table of today (UEFI Specification 2.10, section 5.2.3).
        || start.get(450) == Some(&0xEE)
        // The same in QEMU's form.
        || start.starts_with(b"QFI\xfb");
    if is_archive { Ok(()) } else { Err(ExchangeError::NotAnArchive(to.to_owned())) }
}

/// Writes something into a file under a name, whole or not at all.
///
/// # Errors
/// When something else than an archive is there, `write` fails, or the disk refuses.
pub fn whole_file<T>(to: &Path, write: impl FnOnce(&mut File) -> Result<T, ExchangeError>) -> Result<T, ExchangeError> {
    replaceable(to)?;
    let replacement = atomic::NewFile::beside(to, 0o644).map_err(writing(to))?;
    let mut file = replacement.file().try_clone().map_err(writing(to))?;
    let outcome = write(&mut file)?;
    replacement.put_in_place().map_err(writing(to))?;
    Ok(outcome)
}

/// How something is compressed by what its name ends with, unless it is said.
pub fn compression_of(path: &Path) -> Compression {
    match path.extension().and_then(|ending| ending.to_str()) {
        Some("gz" | "tgz") => Compression::Gzip,
        Some("zst" | "tzst") => Compression::Zstd,
        _ => Compression::None,
    }
}
