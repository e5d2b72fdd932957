//! A cache of finished layers that a team shares: in a registry, or in a folder.
//!
//! A layer is kept under its tree digest, as two files: its list (the encoding of its tree, compressed with Zstandard)
//! and its content (the tar archive of [`crate::tar_writer`], compressed likewise, which an image in the same registry
//! shares). The list is proved by the digest, and the archive follows from the list but for the files' bytes: each
//! header has to be the expected one, and each file is proved by its own digest. So a cache is not trusted.
//!
//! | where | list | content |
//! |---|---|---|
//! | a folder | `TREE.list` | `TREE.layer` |
//! | a registry | first layer of the artifact that the tag `layer-TREE` names | second layer |
//!
//! What steps that fetch are answered is shared beside the layers: [`crate::bodies`].

use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use serde::Deserialize;

use cavrith_core::digest::TreeDigest;
use cavrith_core::oci::Reference;
use cavrith_core::oci::image::{Compression, Descriptor, EMPTY, MANIFEST, SharedBlobs};
use cavrith_core::seal::SealedLayer;
use cavrith_core::tree::{Tree, encoding};
use cavrith_engine::context::BuildContext;
use cavrith_engine::member::CacheConfig;
use cavrith_engine::registries;
use cavrith_engine::sealed::LayerSource;
use cavrith_engine::supply::Supply;
use cavrith_sources::registry::{Login, Registry};
use cavrith_store::Store;
use cavrith_store::known::KnownLayer;
use cavrith_store::writer::StagedLayer;
use cavrith_store::{atomic, private, reading};

use crate::bodies::Bodies;
use crate::error::writing;
use crate::tar_writer::{self, Piece};
use crate::{ExchangeError, layers, transfer};

/// Bytes that a layer's list may have, packed and unpacked.
pub(crate) const LONGEST_LIST: u64 = 256 << 20;
/// Bytes that an entry takes in an archive besides a file's content, at most on average; what is longer is not read.
const ENTRY: u64 = 64 << 10;
/// Zstandard's level for lists.
pub(crate) const LEVEL: i32 = 9;

/// Where layers are shared.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Place {
    /// A folder.
    Folder(PathBuf),
    /// A registry and a name there.
    Registry(String),
}

/// A cache of layers.
#[derive(Debug)]
pub struct Cache {
    pub(crate) place: Place,
    /// Bodies of records there.
    pub(crate) bodies: Bodies,
    /// Who we are there; asked for once, since a command may want somebody to touch a key.
    login: OnceLock<Result<Option<Login>, String>>,
}

impl Cache {
    /// The place that a member's configuration names, or else the spec's.
    pub fn new(member: &CacheConfig, spec: Option<&str>) -> Option<Self> {
        let place = match (member.off, &member.folder, &member.registry) {
            (true, ..) => return None,
            (_, Some(folder), _) => Place::Folder(folder.clone()),
            (_, _, Some(registry)) => Place::Registry(registry.clone()),
            _ => Place::Registry(spec?.to_owned()),
        };
        Some(Self { place, bodies: Bodies::default(), login: OnceLock::new() })
    }

    /// Whether it takes a network to get there.
    pub fn is_remote(&self) -> bool {
        matches!(self.place, Place::Registry(_))
    }

    /// The place in words.
    pub fn shown(&self) -> String {
        match &self.place {
            Place::Folder(folder) => folder.display().to_string(),
            Place::Registry(registry) => registry.clone(),
        }
    }

    /// Opens a place in a registry, as whoever we are there.
    pub(crate) fn connect<'c>(
        &'c self,
        supply: Supply<'c>,
        reference: &'c Reference,
    ) -> Result<Registry<'c>, ExchangeError> {
        let login = self.login.get_or_init(|| registries::login(supply.member, &reference.registry));
        let login = login.as_ref().map(Option::as_ref).map_err(Clone::clone);
        let login = login.map_err(|why| ExchangeError::Login { registry: reference.registry.clone(), why })?;
        Ok(registries::open(supply.web, supply.member, reference, login))
    }

    /// Puts a layer into the cache. True when it was not there yet.
    ///
    /// # Errors
    /// When the layer cannot be read, or the place does not take it.
    pub fn publish(&self, context: BuildContext<'_>, layer: &SealedLayer) -> Result<bool, ExchangeError> {
        let list = || packed_list(context.store, layer);
        let place = context.staging.new_name();
        let pack = || layers::pack(context.store, layer, Compression::Zstd, &place);
        match &self.place {
            Place::Folder(folder) => {
                let [list_at, content_at] = files(folder, &layer.tree);
                if list_at.is_file() && content_at.is_file() {
                    return Ok(false);
                }
                private_or_there(folder)?;
                pack()?;
                let content = atomic::NewFile::beside(&content_at, 0o644).map_err(writing(&content_at))?;
                let mut from = File::open(&place).map_err(writing(&place))?;
                io::copy(&mut from, &mut content.file()).map_err(writing(&content_at))?;
                content.put_in_place().map_err(writing(&content_at))?;
                // Last, since it is looked for first.
                atomic::write(&list_at, &list()?)?;
            }
            Place::Registry(registry) => {
                let tag = layer_tag(&layer.tree);
                let reference = reference(registry, &tag)?;
                let registry = self.connect(context.supply(), &reference)?;
                if registry.find_manifest(&tag)?.is_some() {
                    return Ok(false);
                }
                let packed = pack()?;
                let list = list()?;
                let artifact = SharedBlobs::layer(&list, packed.blob, packed.size);
                for bytes in [EMPTY.1, list.as_slice()] {
                    transfer::push_bytes(context.supply(), &registry, bytes)?;
                }
                let file = File::open(&place).map_err(writing(&place))?;
                registry.push_blob(&packed.blob, packed.size, &file, &|_| ())?;
                registry.push_manifest(&tag, MANIFEST, &artifact.bytes())?;
            }
        }
        let _ = fs::remove_file(&place);
        Ok(true)
    }
}

impl LayerSource for Cache {
    fn place(&self) -> Option<String> {
        Some(self.shown())
    }

    fn fetch(&self, context: BuildContext<'_>, name: &str, tree: &TreeDigest) -> Result<Option<StagedLayer>, String> {
        let dir = context.staging.new_dir().map_err(|error| error.to_string())?;
        let staged = match &self.place {
            Place::Folder(folder) => {
                let [list_at, content_at] = files(folder, tree);
                let unreadable = |path: &Path| {
                    let path = path.display().to_string();
                    move |error: io::Error| format!("{path} cannot be read: {error}")
                };
                let packed = match reading::bounded(&list_at, LONGEST_LIST) {
                    Ok(packed) => packed,
                    Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
                    Err(error) => return Err(unreadable(&list_at)(error)),
                };
                let list = read_list(&packed, tree)?;
                let content = reading::open(&content_at).map_err(unreadable(&content_at))?;
                unpack(list, dir, context, content)
            }
            Place::Registry(registry) => {
                let tag = layer_tag(tree);
                let reference = reference(registry, &tag).map_err(|error| error.to_string())?;
                let registry = self.connect(context.supply(), &reference).map_err(|error| error.to_string())?;
                let manifest = registry.find_manifest(&tag);
                let Some(manifest) = manifest.map_err(|error| error.to_string())? else { return Ok(None) };
                let Parts { layers: [list, content] } = serde_json::from_slice(&manifest)
                    .map_err(|error| format!("{} keeps something else under {reference}: {error}", self.shown()))?;
                let get = |one: &Descriptor, longest: u64| {
                    let place = context.staging.new_name();
                    let fetched =
                        transfer::fetch_unproved(context.supply(), &registry, (&one.digest.0, longest), name, &place);
                    // It is open, and needs its name no more.
                    let _ = fs::remove_file(&place);
                    fetched.map_err(|error| error.to_string())
                };
                let mut packed = Vec::new();
                let read = get(&list, LONGEST_LIST)?.read_to_end(&mut packed);
                read.map_err(|error| error.to_string())?;
                let list = read_list(&packed, tree)?;
                let longest = list.content_bytes().saturating_add(list.entries.len() as u64 * ENTRY);
                unpack(list, dir, context, get(&content, longest)?)
            }
        };
        staged.map(Some).map_err(|why| format!("{} gives another layer: {why}", self.shown()))
    }
}

fn layer_tag(tree: &TreeDigest) -> String {
    format!("layer-{tree}")
}

/// A tag in a registry.
pub(crate) fn reference(registry: &str, tag: &str) -> Result<Reference, ExchangeError> {
    let text = format!("{registry}:{tag}");
    Reference::parse(&text).map_err(|why| ExchangeError::Reference { text: registry.to_owned(), why })
}

/// What is read of a layer's manifest.
#[derive(Deserialize)]
struct Parts {
    layers: [Descriptor; 2],
}

/// A layer's list and content in a folder.
fn files(folder: &Path, tree: &TreeDigest) -> [PathBuf; 2] {
    ["list", "layer"].map(|ending| folder.join(format!("{tree}.{ending}")))
}

/// A folder that a team shares has the rights that somebody gave it; one that is not there is the member's own.
pub(crate) fn private_or_there(folder: &Path) -> Result<(), ExchangeError> {
    if !folder.is_dir() {
        private::directory(folder)?;
    }
    Ok(())
}

/// The list of a layer, packed.
pub(crate) fn packed_list(store: &Store, layer: &SealedLayer) -> Result<Vec<u8>, ExchangeError> {
    let tree = encoding::encode(&store.layer_tree(&layer.tree)?);
    zstd::bulk::compress(&tree, LEVEL).map_err(writing(format!("{}.list", layer.tree)))
}

/// Reads a list, which has to be the one of its digest.
pub(crate) fn read_list(packed: &[u8], tree: &TreeDigest) -> Result<Tree, String> {
    let mut bytes = Vec::new();
    let unpacked = zstd::Decoder::new(packed).and_then(|from| from.take(LONGEST_LIST).read_to_end(&mut bytes));
    unpacked.map_err(|error| format!("the list of a layer cannot be unpacked: {error}"))?;
    let list = encoding::decode(&bytes).map_err(|error| format!("the list of a layer: {error}"))?;
    if list.digest() == *tree { Ok(list) } else { Err("the list of a layer is not the sealed one".to_owned()) }
}

/// Unpacks the archive of a layer whose list is known.
pub(crate) fn unpack(
    list: Tree,
    dir: PathBuf,
    context: BuildContext<'_>,
    packed: impl Read,
) -> Result<StagedLayer, String> {
    let words = |error: cavrith_store::StoreError| error.to_string();
    let mut stream = zstd::Decoder::new(packed).map_err(|error| error.to_string())?;
    let mut layer = KnownLayer::new(dir, list.clone(), context.store.ownership()).map_err(words)?;
    let mut buffer = Vec::new();
    tar_writer::pieces(&list, &mut |piece| -> Result<(), String> {
        match piece {
            Piece::Known(expected) => {
                buffer.resize(expected.len(), 0);
                stream.read_exact(&mut buffer).map_err(|error| error.to_string())?;
                if buffer == expected { Ok(()) } else { Err("its archive does not follow from its list".to_owned()) }
            }
            Piece::Content(path, size) => {
                layer.file(path, &mut (&mut stream as &mut dyn Read).take(size)).map_err(words)
            }
        }
    })?;
    layer.finish().map_err(words)
}
