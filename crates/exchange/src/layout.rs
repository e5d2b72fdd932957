//! Image layouts (OCI Image Specification 1.1, "Image Layout"): a folder, or the same in a tar archive.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use cavrith_core::digest::{ContentDigest, Sha256Digest};
use cavrith_core::oci::image::{self, Compression, Documents, Index, LAYOUT_FILE, PackedLayer, Subject};
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Entry, Kind, Meta, Tree};
use cavrith_store::records::ImageRecord;
use cavrith_store::staging::Staging;
use cavrith_store::{Store, atomic, reading};

use crate::error::writing;
use crate::{ExchangeError, layers, tar_writer};

/// The index of a layout.
const INDEX_FILE: &str = "index.json";
/// Bytes that a layout's index may have.
const LONGEST_INDEX: u64 = 4 << 20;

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

    /// Writes it as one archive.
    ///
    /// # Errors
    /// When writing fails.
    pub fn write_archive(&self, time: u64, to: &mut dyn Write, name: &Path) -> Result<(), ExchangeError> {
        let mut index = Index::empty();
        index.put(self.documents.descriptor.clone());
        let index = serde_json::to_vec(&index).unwrap_or_default();
        let mut small: BTreeMap<String, &[u8]> = BTreeMap::from([
            (LAYOUT_FILE.0.to_owned(), LAYOUT_FILE.1.as_bytes()),
            (INDEX_FILE.to_owned(), index.as_slice()),
        ]);
        small.extend(self.documents().map(|(digest, bytes)| (format!("blobs/sha256/{digest}"), bytes)));
        let mut tree = Tree::with_root();
        let mut add = |path: &str, size: u64| {
            let Ok(path) = RootPath::from_plain(path.as_bytes()) else { return };
            tree.ensure_parents(&path);
            let kind = Kind::File { size, content: ContentDigest::from_bytes([0; 32]), links: None };
            tree.entries.insert(path, Entry { kind, meta: Meta::root(0o644) });
        };
        small.iter().for_each(|(path, bytes)| add(path, bytes.len() as u64));
        let large: BTreeMap<String, &PathBuf> =
            self.layers.iter().map(|(layer, place)| (format!("blobs/sha256/{}", layer.blob), place)).collect();
        self.layers.iter().for_each(|(layer, _)| add(&format!("blobs/sha256/{}", layer.blob), layer.size));
        tree.stamp(time);
        let mut content = |path: &RootPath| -> io::Result<Box<dyn Read>> {
            let path = path.to_string();
            let name = path.trim_start_matches('/');
            match (small.get(name), large.get(name)) {
                (Some(bytes), _) => Ok(Box::new(io::Cursor::new(bytes.to_vec()))),
                (_, Some(place)) => Ok(Box::new(File::open(place)?)),
                (None, None) => Err(io::ErrorKind::NotFound.into()),
            }
        };
        tar_writer::write(&tree, &mut content, to).and_then(|()| to.flush()).map_err(writing(name))
    }
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

/// Writes something into a file under a name, whole or not at all.
///
/// # Errors
/// When `write` fails, or the disk refuses.
pub fn whole_file<T>(to: &Path, write: impl FnOnce(&mut File) -> Result<T, ExchangeError>) -> Result<T, ExchangeError> {
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
