//! Bases that are OCI images: from a layout on the disk, or from a registry.

use std::cell::OnceCell;
use std::fs::File;
use std::sync::Arc;

use cavrith_core::derive::plan::{Content, OciLayer, PlannedLayer};
use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock::{OciLayerPin, OciPin};
use cavrith_core::oci::Reference;
use cavrith_core::spec::{Base, ImageOrigin, OciBase};
use cavrith_core::tree::Tree;
use cavrith_sources::checked::{self, Checked};
use cavrith_sources::oci::{self, Blob, Document, Manifest};
use cavrith_sources::registry::{Login, Registry};
use cavrith_sources::{SourceError, compression, tarball};
use cavrith_store::writer::{LayerWriter, Links, StagedLayer};

use crate::context::BuildContext;
use crate::error::{EngineError, LockError, file_error};
use crate::layer_cache::{LayerCache, Ready};
use crate::project::Project;
use crate::registries;
use crate::supply::Supply;
use cavrith_store::reading;

/// Indexes within indexes that are followed.
const DEEPEST: usize = 4;

/// Where the parts of an image come from.
struct Source<'a> {
    supply: Supply<'a>,
    project: &'a Project,
    image: &'a OciBase,
    /// Asked for once, since a command may want somebody to touch a key.
    login: OnceCell<Option<Login>>,
}

/// What locking an image found.
pub(crate) struct Found {
    pub pin: OciPin,
    /// When it was made, when it says so.
    pub created: Option<u64>,
    pub notes: Vec<String>,
}

/// Finds an image, and pins its manifest and layers.
pub(crate) fn find(supply: Supply<'_>, project: &Project, image: &OciBase) -> Result<Found, EngineError> {
    let source = Source { supply, project, image, login: OnceCell::new() };
    let (top, tag) = source.top()?;
    let mut blob = Blob { sha256: Sha256Digest::of(&top), size: top.len() as u64 };
    let mut bytes = top;
    for depth in 0.. {
        match oci::parse(&bytes).map_err(|why| source.unusable(why))? {
            Document::Manifest(manifest) => return source.pin(blob, &manifest),
            Document::Index(_) if depth == DEEPEST => {
                return Err(source.unusable("its indexes have indexes without an end"));
            }
            Document::Index(index) => {
                // Only the first index of a layout has names.
                let tag = tag.as_deref().filter(|_| depth == 0);
                blob = oci::choose(&index, tag, &image.platform.value).map_err(|why| source.unusable(why))?;
                bytes = source.document(blob)?;
            }
        }
    }
    unreachable!("BUG: the loop returns")
}

impl Source<'_> {
    fn unusable(&self, why: impl Into<String>) -> EngineError {
        EngineError::Lock(LockError::Image { image: self.image.origin.shown(), why: why.into() })
    }

    /// The document that the image's name stands for, and the tag to choose in it.
    fn top(&self) -> Result<(Vec<u8>, Option<String>), EngineError> {
        match &self.image.origin {
            ImageOrigin::Path(path, tag) => {
                let at = self.project.bounds.real(&path.value)?;
                let bytes = if at.is_dir() {
                    reading::bytes(&at.join("index.json")).map_err(file_error("read", at.join("index.json")))?
                } else {
                    let stream = self.archive(&at)?;
                    let found = tarball::read_one(stream, &path.value, "index.json", oci::LONGEST_DOCUMENT)?;
                    found.ok_or_else(|| self.unusable("it is not an image layout: it has no index.json"))?
                };
                Ok((bytes, tag.as_ref().map(|tag| tag.value.clone())))
            }
            ImageOrigin::Reference(text) => {
                let reference = self.reference(&text.value)?;
                let login = self.login(&reference)?;
                let registry = self.registry(&reference, login.as_ref());
                let digest = reference.digest.map(|digest| format!("sha256:{digest}"));
                let which = digest.or_else(|| reference.tag.clone()).unwrap_or_default();
                let bytes = registry.manifest(&which)?;
                if let Some(expected) = reference.digest.filter(|expected| *expected != Sha256Digest::of(&bytes)) {
                    return Err(self.unusable(format!("the registry answers with another document than {expected}")));
                }
                Ok((bytes, None))
            }
        }
    }

    fn reference(&self, text: &str) -> Result<Reference, EngineError> {
        Reference::parse(text).map_err(|why| self.unusable(why))
    }

    fn registry<'r>(&'r self, reference: &'r Reference, login: Option<&'r Login>) -> Registry<'r> {
        registries::open(self.supply.web, self.supply.member, reference, login)
    }

    /// Name and password for the image's registry, from the member's configuration.
    fn login(&self, reference: &Reference) -> Result<Option<Login>, EngineError> {
        if let Some(login) = self.login.get() {
            return Ok(login.clone());
        }
        let login = registries::login(self.supply.member, &reference.registry).map_err(|why| self.unusable(why))?;
        Ok(self.login.get_or_init(|| login).clone())
    }

    fn archive(&self, at: &std::path::Path) -> Result<Box<dyn std::io::Read>, EngineError> {
        let file = reading::open(at).map_err(file_error("read", at))?;
        let size = file.metadata().map_err(file_error("read", at))?.len();
        compression::unpack(file, size).map_err(file_error("read", at))
    }

    /// A manifest, index or configuration.
    fn document(&self, blob: Blob) -> Result<Vec<u8>, EngineError> {
        if blob.size > oci::LONGEST_DOCUMENT {
            return Err(self.unusable("one of its documents is longer than any"));
        }
        let mut checked = match &self.image.origin {
            // A document is asked for where documents are; some registries have manifests there only.
            ImageOrigin::Reference(text) if self.supply.lacks(&blob.sha256) => {
                let reference = self.reference(&text.value)?;
                let login = self.login(&reference)?;
                let registry = self.registry(&reference, login.as_ref());
                if let Ok(bytes) = registry.manifest(&format!("sha256:{}", blob.sha256))
                    && Sha256Digest::of(&bytes) == blob.sha256
                {
                    return Ok(bytes);
                }
                self.blob(blob)?
            }
            _ => self.blob(blob)?,
        };
        let mut bytes = Vec::new();
        let name = checked.name().to_owned();
        let read = checked.open().and_then(|file| std::io::Read::read_to_end(file, &mut bytes));
        read.map_err(file_error("read", name))?;
        Ok(bytes)
    }

    /// A blob, proved.
    fn blob(&self, blob: Blob) -> Result<Checked, EngineError> {
        let name = format!("part {} of {}", &blob.sha256.to_string()[..12], self.image.origin.shown());
        if let Some(kept) = self.supply.kept(self.project.origins(), &blob.sha256, blob.size)? {
            return Ok(kept);
        }
        match &self.image.origin {
            ImageOrigin::Path(path, _) => {
                let at = self.project.bounds.real(&path.value)?;
                let inner = format!("blobs/sha256/{}", blob.sha256);
                if at.is_dir() {
                    return Ok(checked::check(
                        &at.join(inner),
                        blob.size,
                        blob.sha256,
                        &self.supply.staging.new_name(),
                    )?);
                }
                let copy = self.supply.staging.new_name();
                let mut file = File::create_new(&copy).map_err(file_error("make", &copy))?;
                if !tarball::copy_one(self.archive(&at)?, &path.value, &inner, &mut file)? {
                    return Err(self.unusable(format!("it has no {inner}")));
                }
                Ok(checked::check_own(&copy, &name, blob.size, blob.sha256)?)
            }
            ImageOrigin::Reference(text) => {
                let reference = self.reference(&text.value)?;
                // Who we are is shown when the registry asks, which it does for a document.
                let config = self.supply.member.config.registries.get(&reference.registry);
                let registry = self.registry(&reference, None);
                let address = registry.blob_address(&blob.sha256.to_string());
                let found = self.supply.fetched(std::slice::from_ref(&address), &name, blob.size, blob.sha256);
                match found {
                    Err(EngineError::Source(SourceError::Unreachable { cause, .. }))
                        if matches!(cause.status(), Some(401 | 403)) =>
                    {
                        let login = if config.is_some() { self.login(&reference)? } else { None };
                        let which =
                            reference.digest.map(|digest| format!("sha256:{digest}")).or_else(|| reference.tag.clone());
                        self.registry(&reference, login.as_ref()).manifest(&which.unwrap_or_default())?;
                        self.supply.fetched(&[address], &name, blob.size, blob.sha256)
                    }
                    found => found,
                }
            }
        }
    }

    fn pin(&self, manifest: Blob, image: &Manifest) -> Result<Found, EngineError> {
        let config = self.document(image.config)?;
        let platform = self.image.platform.value.clone();
        let (created, env) = oci::read_config(&config, &platform).map_err(|why| self.unusable(why))?;
        let mut notes = Vec::new();
        let own: Vec<_> = env.iter().filter(|one| !one.starts_with("PATH=")).cloned().collect();
        if !own.is_empty() {
            notes.push(format!(
                "the image wants {} in the environment of its programs; write what is needed into [env]",
                own.join(", ")
            ));
        }
        let layers = image.layers.iter().map(|layer| OciLayerPin { sha256: layer.sha256, size: layer.size }).collect();
        let origin = self.image.origin.shown();
        let pin = OciPin { origin, platform, manifest: manifest.sha256, size: manifest.size, layers };
        Ok(Found { pin, created, notes })
    }
}

/// A layer's packed bytes, for anyone who keeps them.
pub(crate) fn layer(supply: Supply<'_>, project: &Project, layer: &OciLayerPin) -> Result<Checked, EngineError> {
    let Base::Oci(image) = &project.spec.base else { unreachable!("BUG: the lock answers the spec") };
    Source { supply, project, image, login: OnceCell::new() }.blob(Blob { sha256: layer.sha256, size: layer.size })
}

/// Makes the layers of an image, each over those beneath.
pub(crate) fn make(
    cache: LayerCache<'_>,
    context: BuildContext<'_>,
    project: &Project,
    planned: &[&PlannedLayer],
    epoch: u64,
) -> Result<Vec<Ready>, EngineError> {
    let mut done: Vec<Ready> = Vec::new();
    let mut merged = Arc::new(Tree::with_root());
    for planned in planned {
        let Content::OciLayer(OciLayer { layer: pin, .. }) = &planned.content else { continue };
        let ready = cache.layer(planned, None, || -> Result<StagedLayer, EngineError> {
            let mut checked = layer(context.supply(), project, pin)?;
            let dir = context.staging.new_dir()?;
            let mut writer = LayerWriter::new(dir, epoch, Links::Replace, context.store.ownership())?;
            writer.set_lower(merged.clone());
            oci::unpack_layer(&mut checked, &mut writer)?;
            Ok(writer.finish()?)
        })?;
        let mut tree = Arc::unwrap_or_clone(merged);
        tree.overlay(&ready.tree);
        merged = Arc::new(tree);
        done.push(ready);
    }
    Ok(done)
}
