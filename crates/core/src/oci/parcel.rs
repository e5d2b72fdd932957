//! The document of a parcel: an artifact (OCI Image Specification 1.1, "Guidelines for Artifact Usage") that lies in an
//! image layout beside the images, and says what else is there: the project's files, the lists of the images' layers,
//! work in progress.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::image::{Descriptor, EMPTY, MANIFEST, OciDigest};
use crate::digest::{Sha256Digest, TreeDigest};

/// The kind of artifact.
pub const PARCEL: &str = "application/vnd.cavrith.parcel.v1";
/// The project's own files, as a tar archive compressed with Zstandard.
pub const PROJECT: &str = "application/vnd.cavrith.project.v1.tar+zstd";
/// The list of a layer.
pub const LIST: &str = "application/vnd.cavrith.list.v2+zstd";
/// The project's history, as git's bundle (gitformat-bundle(5)).
pub const HISTORY: &str = "application/vnd.cavrith.history.v1";
/// Files that are not in the history, as a tar archive compressed with Zstandard.
pub const FILES: &str = "application/vnd.cavrith.files.v1.tar+zstd";
/// What else is to be known of work in progress.
pub const WORK: &str = "application/vnd.cavrith.work.v1+json";
/// A kept folder, as its backup.
pub const KEPT: &str = "application/vnd.cavrith.kept.v1.tar+zstd";

/// A file that the lock pins.
pub const SOURCE: &str = "application/vnd.cavrith.source.v1";

/// Annotation of a list: the layer's tree.
const TREE: &str = "cavrith.tree";
/// Annotation of a list: the blob with the layer's content.
const CONTENT: &str = "cavrith.content";
/// Annotation of a kept folder: its name.
const NAME: &str = "cavrith.name";

/// The document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Parcel {
    schema_version: u32,
    media_type: String,
    artifact_type: String,
    config: Descriptor,
    /// Its parts.
    pub layers: Vec<Descriptor>,
    /// More about it.
    #[serde(default)]
    pub annotations: BTreeMap<String, String>,
}

/// What is to be known of work in progress.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Work {
    /// The commit that was worked on; nothing before the first one.
    pub commit: Option<String>,
    /// The branch, unless there was none.
    pub branch: Option<String>,
    /// The project's folder in the work tree, empty for its top.
    pub within: String,
    /// Files of the commit that are gone.
    pub deleted: Vec<String>,
}

/// A layer of one of the images.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedLayer {
    /// Its tree.
    pub tree: TreeDigest,
    /// The blob of its list.
    pub list: Sha256Digest,
    /// The blob of its content.
    pub content: Sha256Digest,
}

/// The descriptor of something with a digest and a length.
pub fn part(media_type: &str, digest: Sha256Digest, size: u64) -> Descriptor {
    Descriptor {
        media_type: media_type.to_owned(),
        digest: OciDigest(digest),
        size,
        platform: None,
        artifact_type: None,
        annotations: BTreeMap::new(),
    }
}

impl Parcel {
    /// A parcel of nothing.
    pub fn empty() -> Self {
        Self {
            schema_version: 2,
            media_type: MANIFEST.to_owned(),
            artifact_type: PARCEL.to_owned(),
            config: part(EMPTY.0, Sha256Digest::of(EMPTY.1), EMPTY.1.len() as u64),
            layers: Vec::new(),
            annotations: BTreeMap::new(),
        }
    }

    /// Adds the list of a layer.
    pub fn add_list(&mut self, layer: &ListedLayer, size: u64) {
        let mut list = part(LIST, layer.list, size);
        list.annotations.insert(TREE.to_owned(), layer.tree.to_string());
        list.annotations.insert(CONTENT.to_owned(), layer.content.to_string());
        self.layers.push(list);
    }

    /// Adds a kept folder.
    pub fn add_kept(&mut self, name: &str, digest: Sha256Digest, size: u64) {
        let mut kept = part(KEPT, digest, size);
        kept.annotations.insert(NAME.to_owned(), name.to_owned());
        self.layers.push(kept);
    }

    /// The part of a kind, of which there is at most one.
    pub fn only(&self, media_type: &str) -> Option<&Descriptor> {
        self.layers.iter().find(|part| part.media_type == media_type)
    }

    /// The layers of the images. What is not written as ours are is none.
    pub fn lists(&self) -> Vec<ListedLayer> {
        let lists = self.layers.iter().filter(|part| part.media_type == LIST).filter_map(|part| {
            Some(ListedLayer {
                tree: part.annotations.get(TREE)?.parse().ok()?,
                list: part.digest.0,
                content: part.annotations.get(CONTENT)?.parse().ok()?,
            })
        });
        lists.collect()
    }

    /// The kept folders, by name.
    pub fn kept(&self) -> Vec<(&str, &Descriptor)> {
        let kept = self.layers.iter().filter(|part| part.media_type == KEPT);
        kept.filter_map(|part| Some((part.annotations.get(NAME)?.as_str(), part))).collect()
    }

    /// The files that the lock pins, as far as it has them.
    pub fn sources(&self) -> impl Iterator<Item = &Descriptor> {
        self.layers.iter().filter(|part| part.media_type == SOURCE)
    }

    /// The document's bytes, and how an index lists it.
    pub fn document(&self) -> (Vec<u8>, Descriptor) {
        let bytes = serde_json::to_vec(self).unwrap_or_default();
        let mut listed = part(MANIFEST, Sha256Digest::of(&bytes), bytes.len() as u64);
        listed.artifact_type = Some(PARCEL.to_owned());
        (bytes, listed)
    }

    /// Reads a document. An error says, in words, why it is none.
    ///
    /// # Errors
    /// When it is another kind of document.
    pub fn read(bytes: &[u8]) -> Result<Self, String> {
        let parcel: Self = serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
        if parcel.artifact_type == PARCEL { Ok(parcel) } else { Err("it is another kind of artifact".to_owned()) }
    }
}
