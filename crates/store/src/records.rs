//! Small records: which layer was made for a key, which image for a plan.

use std::fs;
use std::io;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use cavrith_core::digest::{ImageFingerprint, ImageKey, LayerKey, Sha256Digest, TreeDigest};
use cavrith_core::seal::{ProbeAnswer, SealedLayer};

use crate::{Store, StoreError, atomic, io_error};

/// What came of building an image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ImageRecord {
    /// Version of this format; 1.
    pub record: u32,
    /// The image.
    pub image: ImageFingerprint,
    /// The merged tree's digest.
    pub tree: TreeDigest,
    /// Its layers, the lowest first.
    pub layers: Vec<SealedLayer>,
    /// The shell of the account.
    pub shell: String,
    /// What the probes answered.
    pub probes: Vec<ProbeAnswer>,
    /// Entries and bytes of the merged tree.
    pub entries: u64,
    /// Bytes of all its files.
    pub bytes: u64,
}

/// The record in a file: JSON, and in the last line the BLAKE3 of what stands before it. Nothing when it is damaged.
pub(crate) fn parse_record(text: &str) -> Option<ImageRecord> {
    let (json, sum) = text.trim_end().rsplit_once('\n')?;
    if blake3::hash(json.as_bytes()).to_hex().as_str() != sum {
        return None;
    }
    serde_json::from_str::<ImageRecord>(json).ok().filter(|record| record.record == 1)
}

/// A layer as it was packed for other programs: an archive, compressed in one of the ways.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PackedRecord {
    /// SHA-256 of the archive.
    pub plain: Sha256Digest,
    /// SHA-256 of what it is compressed to.
    pub packed: Sha256Digest,
    /// Length of that.
    pub size: u64,
    /// Images in registries that have it, as `registry/name`, the latest last; a registry takes it from there for
    /// another image of its own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pushed: Vec<String>,
}

/// Images in registries that are remembered of a layer.
const MOST_PUSHED: usize = 8;

impl PackedRecord {
    /// The same, pushed to one more image.
    pub fn pushed_to(&self, image: &str) -> Self {
        let mut pushed: Vec<_> = self.pushed.iter().filter(|other| *other != image).cloned().collect();
        pushed.push(image.to_owned());
        let surplus = pushed.len().saturating_sub(MOST_PUSHED);
        Self { pushed: pushed.split_off(surplus), ..self.clone() }
    }
}

impl Store {
    fn packed_path(&self, layer: &TreeDigest, how: &str) -> PathBuf {
        // Beside the layer, so that it goes with it.
        self.root().join("layers").join(layer.to_string()).join(format!("packed-{how}"))
    }

    /// What a layer packs to in one of the ways, if it was packed before.
    pub fn packed(&self, layer: &TreeDigest, how: &str) -> Option<PackedRecord> {
        let text = crate::reading::text(&self.packed_path(layer, how)).ok()?;
        let (json, sum) = text.trim_end().rsplit_once('\n')?;
        let whole = blake3::hash(json.as_bytes()).to_hex().as_str() == sum;
        whole.then(|| serde_json::from_str(json).ok()).flatten()
    }

    /// Remembers what a layer packs to.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn remember_packed(&self, layer: &TreeDigest, how: &str, packed: &PackedRecord) -> Result<(), StoreError> {
        let json = serde_json::to_string(packed).unwrap_or_default();
        let text = format!("{json}\n{}\n", blake3::hash(json.as_bytes()).to_hex());
        atomic::write(&self.packed_path(layer, how), text.as_bytes())
    }

    /// The layer that was made for a key, if it is there.
    ///
    /// A record that cannot be read counts as none: the layer is then made again.
    pub fn layer_for(&self, key: &LayerKey) -> Option<TreeDigest> {
        let _no_collector = self.lock_shared().ok()?;
        let text = crate::reading::text(&self.root().join("keys").join(key.to_string())).ok()?;
        let layer = text.trim_end().parse().ok()?;
        self.has_layer(&layer).then(|| self.use_layer(&layer)).transpose().ok()??;
        Some(layer)
    }

    /// Remembers which layer was made for a key.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn remember(&self, key: &LayerKey, layer: &TreeDigest) -> Result<(), StoreError> {
        let path = self.root().join("keys").join(key.to_string());
        let text = format!("{layer}\n");
        if fs::read_to_string(&path).is_ok_and(|have| have == text) {
            return Ok(());
        }
        atomic::write(&path, text.as_bytes())
    }

    /// The image that was made for a plan, if all its layers are there.
    ///
    /// # Errors
    /// When the record is there and cannot be read.
    pub fn image_for(&self, key: &ImageKey) -> Result<Option<ImageRecord>, StoreError> {
        let _no_collector = self.lock_shared()?;
        let path = self.root().join("images").join(key.to_string());
        let text = match crate::reading::text(&path) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(io_error("read", &path)(error)),
        };
        // A damaged record is worth no more than none: the image is put together again from its layers.
        let record = parse_record(&text);
        let record = record.filter(|record| record.layers.iter().all(|layer| self.has_layer(&layer.tree)));
        for layer in record.iter().flat_map(|record| &record.layers) {
            self.use_layer(&layer.tree)?;
        }
        Ok(record)
    }

    /// How long ago an image was remembered; nothing when that is not known.
    pub fn image_age(&self, key: &ImageKey) -> Option<std::time::Duration> {
        let path = self.root().join("images").join(key.to_string());
        fs::metadata(path).ok()?.modified().ok()?.elapsed().ok()
    }

    /// Remembers which image was made for a plan.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn remember_image(&self, key: &ImageKey, record: &ImageRecord) -> Result<(), StoreError> {
        let path = self.root().join("images").join(key.to_string());
        let text = serde_json::to_string_pretty(record)
            .unwrap_or_else(|error| panic!("BUG: a record cannot be written: {error}"));
        atomic::write(&path, format!("{text}\n{}\n", blake3::hash(text.as_bytes())).as_bytes())
    }
}
