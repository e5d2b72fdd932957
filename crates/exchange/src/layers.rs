//! The layers of an image in the store, and the image as a whole, as archives.

use std::fs::File;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use cavrith_core::digest::TreeDigest;
use cavrith_core::oci::image::{Compression, PackedLayer};
use cavrith_core::path::RootPath;
use cavrith_core::seal::SealedLayer;
use cavrith_core::tree::{Kind, Tree};
use cavrith_store::Store;
use cavrith_store::reading;
use cavrith_store::records::ImageRecord;

use crate::ExchangeError;
use crate::error::writing;
use crate::packing::{self, Packed};
use crate::tar_writer;

/// Packs one layer into a file.
///
/// # Errors
/// When the layer cannot be read, or the file not written.
pub fn pack(
    store: &Store,
    layer: &SealedLayer,
    compression: Compression,
    to: &Path,
) -> Result<PackedLayer, ExchangeError> {
    let tree = store.layer_tree(&layer.tree)?;
    // In a layer such a name deletes something.
    if let Some((path, _)) =
        tree.entries.iter().find(|(path, _)| path.name().is_some_and(|name| name.starts_with(b".wh.")))
    {
        return Err(ExchangeError::MarkName { layer: layer.name.clone(), path: path.to_string() });
    }
    let root = store.layer_root(&layer.tree);
    let mut content = |path: &RootPath| open(&root, path);
    let mut file = File::create(to).map_err(writing(to))?;
    let packed = packing::pack(compression, &mut file, |out| tar_writer::write(&tree, &mut content, out));
    let Packed { plain, packed, packed_size, .. } = packed.map_err(writing(to))?;
    Ok(PackedLayer { name: layer.name.clone(), diff: plain, blob: packed, size: packed_size })
}

/// Writes the whole image as one archive: what somebody sees who looks at it from inside.
///
/// # Errors
/// When a layer cannot be read, or writing fails.
pub fn write_root(
    store: &Store,
    image: &ImageRecord,
    compression: Compression,
    to: &mut (dyn Write + Send),
    name: &Path,
) -> Result<Packed, ExchangeError> {
    let whole = Whole::read(store, image)?;
    let mut content = |path: &RootPath| Ok(Box::new(whole.content(path)?) as Box<dyn Read>);
    let packed = packing::pack(compression, to, |out| tar_writer::write(&whole.merged, &mut content, out));
    packed.map_err(writing(name))
}

/// A whole image, and where its files are.
pub(crate) struct Whole {
    /// All that is in it.
    pub merged: Tree,
    trees: Vec<Tree>,
    roots: Vec<PathBuf>,
}

impl Whole {
    /// Reads the lists of all layers.
    pub fn read(store: &Store, image: &ImageRecord) -> Result<Self, ExchangeError> {
        Self::of(store, image.layers.iter().map(|layer| layer.tree))
    }

    /// Reads the lists of these layers, the lowest first.
    pub fn of(store: &Store, layers: impl Iterator<Item = TreeDigest>) -> Result<Self, ExchangeError> {
        let layers: Vec<_> = layers.collect();
        let trees = layers.iter().map(|layer| store.layer_tree(layer)).collect::<Result<Vec<_>, _>>()?;
        let roots = layers.iter().map(|layer| store.layer_root(layer)).collect();
        Ok(Self { merged: Tree::merged(&trees), trees, roots })
    }

    /// A file of it.
    pub fn content(&self, path: &RootPath) -> io::Result<File> {
        // The uppermost layer that has it; what is above a file in the merged tree is the file itself.
        let has = |tree: &Tree| tree.get(path).is_some_and(|entry| matches!(entry.kind, Kind::File { .. }));
        let root = self.trees.iter().rposition(has).and_then(|layer| self.roots.get(layer));
        let root = root.ok_or_else(|| io::Error::other(format!("BUG: no layer has {path}")))?;
        reading::open(&root.join(path.as_relative()))
    }
}

fn open(root: &Path, path: &RootPath) -> io::Result<Box<dyn Read>> {
    Ok(Box::new(reading::open(&root.join(path.as_relative()))?))
}
