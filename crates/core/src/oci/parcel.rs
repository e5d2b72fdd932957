//! The document of a parcel: an artifact (OCI Image Specification 1.1, "Guidelines for Artifact Usage") that lies in an
//! image layout beside the images, and says what else is there: the project's files, the lists of the images' layers,
//! work in progress.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::image::{Compression, Descriptor, EMPTY, MANIFEST};
use crate::digest::{ImageFingerprint, Sha256Digest, TreeDigest};

/// The kind of artifact.
pub const PARCEL: &str = "application/vnd.cavrith.parcel.v1";
/// The kind of artifact whose only part is the file of an encrypted parcel.
const ENCRYPTED_PARCEL: &str = "application/vnd.cavrith.parcel.v1.encrypted";
/// The file of an encrypted parcel.
const ENCRYPTED: &str = "application/vnd.cavrith.parcel.v1.tar.encrypted";
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

/// The list of what was changed inside a workspace by hand. Nobody sealed it.
const SCRATCH: &str = "application/vnd.cavrith.scratch.v1+zstd";
/// A file that the lock pins.
pub const SOURCE: &str = "application/vnd.cavrith.source.v1";

/// Annotation of a list: the layer's tree.
const TREE: &str = "cavrith.tree";
/// Annotation of a list: the blob with the layer's content.
const CONTENT: &str = "cavrith.content";
/// Annotation of a scratch: the image that it lies over.
const IMAGE: &str = "cavrith.image";
/// Annotation of a scratch: marks of the steps of the first start that ran over it, one a line.
const FIRST_START: &str = "cavrith.first-start";
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

/// What was changed inside a workspace by hand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedScratch {
    /// The image that it lies over.
    pub image: ImageFingerprint,
    /// It, in the form of a layer.
    pub layer: ListedLayer,
    /// Marks of the steps of the first start that ran over it.
    pub first_start: Vec<String>,
}

impl ListedLayer {
    fn annotate(&self, list: &mut Descriptor) {
        list.annotations.insert(TREE.to_owned(), self.tree.to_string());
        list.annotations.insert(CONTENT.to_owned(), self.content.to_string());
    }

    fn read(list: &Descriptor) -> Option<Self> {
        Some(Self {
            tree: list.annotations.get(TREE)?.parse().ok()?,
            list: list.digest.0,
            content: list.annotations.get(CONTENT)?.parse().ok()?,
        })
    }
}

impl Parcel {
    /// A parcel of nothing.
    pub fn empty() -> Self {
        Self {
            schema_version: 2,
            media_type: MANIFEST.to_owned(),
            artifact_type: PARCEL.to_owned(),
            config: Descriptor::of(EMPTY.0, EMPTY.1),
            layers: Vec::new(),
            annotations: BTreeMap::new(),
        }
    }

    /// Adds the list of a layer.
    pub fn add_list(&mut self, layer: &ListedLayer, size: u64) {
        let mut list = Descriptor::new(LIST, layer.list, size);
        layer.annotate(&mut list);
        self.layers.push(list);
    }

    /// Adds a scratch, with the lengths of its list and of its content.
    pub fn add_scratch(&mut self, scratch: &ListedScratch, (list_size, content_size): (u64, u64)) {
        let mut list = Descriptor::new(SCRATCH, scratch.layer.list, list_size);
        scratch.layer.annotate(&mut list);
        list.annotations.insert(IMAGE.to_owned(), scratch.image.to_string());
        list.annotations.insert(FIRST_START.to_owned(), scratch.first_start.join("\n"));
        self.layers.push(list);
        // Other programs know it as a layer.
        self.layers.push(Descriptor::new(Compression::Zstd.media_type(), scratch.layer.content, content_size));
    }

    /// The scratch. One that is not written as ours are is none.
    pub fn scratch(&self) -> Option<ListedScratch> {
        let list = self.only(SCRATCH)?;
        let marks = list.annotations.get(FIRST_START).map_or("", String::as_str);
        Some(ListedScratch {
            image: list.annotations.get(IMAGE)?.parse().ok()?,
            layer: ListedLayer::read(list)?,
            first_start: marks.lines().map(str::to_owned).collect(),
        })
    }

    /// Adds a kept folder.
    pub fn add_kept(&mut self, name: &str, digest: Sha256Digest, size: u64) {
        let mut kept = Descriptor::new(KEPT, digest, size);
        kept.annotations.insert(NAME.to_owned(), name.to_owned());
        self.layers.push(kept);
    }

    /// The part of a kind, of which there is at most one.
    pub fn only(&self, media_type: &str) -> Option<&Descriptor> {
        self.layers.iter().find(|part| part.media_type == media_type)
    }

    /// The layers of the images. What is not written as ours are is none.
    pub fn lists(&self) -> Vec<ListedLayer> {
        self.layers.iter().filter(|part| part.media_type == LIST).filter_map(ListedLayer::read).collect()
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

    /// The document of an encrypted parcel, of which nobody else sees more than the file.
    pub fn encrypted(digest: Sha256Digest, size: u64) -> Self {
        let layers = vec![Descriptor::new(ENCRYPTED, digest, size)];
        Self { artifact_type: ENCRYPTED_PARCEL.to_owned(), layers, ..Self::empty() }
    }

    /// The file of an encrypted parcel, when these bytes are the document of one.
    pub fn encrypted_file(bytes: &[u8]) -> Option<Descriptor> {
        let parcel: Self = serde_json::from_slice(bytes).ok()?;
        let file = parcel.only(ENCRYPTED).filter(|_| parcel.artifact_type == ENCRYPTED_PARCEL)?;
        Some(file.clone())
    }

    /// The document's bytes, and how an index lists it.
    pub fn document(&self) -> (Vec<u8>, Descriptor) {
        let bytes = serde_json::to_vec(self).unwrap_or_default();
        let mut listed = Descriptor::of(MANIFEST, &bytes);
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
