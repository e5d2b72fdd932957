//! Pushing an image to a registry, and attaching to it what belongs to it.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::sync::{Mutex, PoisonError};

use serde::Serialize;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::oci::Reference;
use cavrith_core::oci::image::{
    self, Attachment, Descriptor, EMPTY, INDEX, Index, MANIFEST, OciDigest, PackedLayer, Platform, Subject,
};
use cavrith_core::seal::SealedLayer;
use cavrith_engine::context::BuildContext;
use cavrith_engine::event::Event;
use cavrith_engine::registries;
use cavrith_sources::registry::{Pushed, Registry};
use cavrith_store::records::{ImageRecord, PackedRecord};
use cavrith_store::workers;

use crate::attaching::{Beside, attach};
use crate::error::writing;
use crate::transfer::{self, AT_ONCE, push_bytes};
use crate::{ExchangeError, layers};

/// What became of a layer.
#[derive(Debug, Clone, Serialize)]
pub struct PushedLayer {
    /// The layer, as it was packed.
    #[serde(flatten)]
    pub layer: PackedLayer,
    /// `there`, `mounted` (the registry had it of another image), or `sent`.
    pub how: &'static str,
}

/// What was pushed.
#[derive(Debug, Clone)]
pub struct PushedImage {
    /// The manifest.
    pub manifest: Descriptor,
    /// The layers, the lowest first.
    pub layers: Vec<PushedLayer>,
    /// Documents that were attached.
    pub attachments: usize,
}

/// Pushes an image under a reference, its attachments, and what `provenance` says of its manifest. With `join`, the tag
/// becomes or stays an index of images for several platforms, with this one among them.
///
/// # Errors
/// When a layer cannot be read or packed, or the registry does not take something.
pub fn push(
    context: BuildContext<'_>,
    reference: &Reference,
    record: &ImageRecord,
    subject: Subject<'_>,
    attachments: &[Attachment],
    provenance: &dyn Fn(&Descriptor) -> Result<Attachment, ExchangeError>,
    join: bool,
) -> Result<PushedImage, ExchangeError> {
    let login = transfer::login(context.supply(), reference)?;
    let registry = registries::open(context.web, context.member, reference, login.as_ref());
    let pusher = Pusher { context, registry, reference, subject };
    // The first answer tells whether we are let in; the layers then need not all ask.
    pusher.registry.has_blob(&Sha256Digest::of(EMPTY.1))?;
    let layers = pusher.layers(&record.layers)?;
    let packed: Vec<_> = layers.iter().map(|pushed| pushed.layer.clone()).collect();
    let documents = image::documents(subject, &packed);
    push_bytes(context.supply(), &pusher.registry, &documents.config)?;
    // By its digest first, which the registry proves; the tag then stands for what was proved.
    let digest = format!("sha256:{}", documents.descriptor.digest.0);
    pusher.registry.push_manifest(&digest, MANIFEST, &documents.manifest)?;
    match &reference.tag {
        Some(tag) if join => {
            let index = pusher.joined(tag, &documents.descriptor)?;
            pusher.registry.push_manifest(tag, INDEX, &index)?;
        }
        Some(tag) => drop(pusher.registry.push_manifest(tag, MANIFEST, &documents.manifest)?),
        None => {}
    }
    // Where it comes from can be said of what it is named by only.
    let provenance = provenance(&documents.descriptor)?;
    for attachment in attachments.iter().chain([&provenance]) {
        attach(context.supply(), &pusher.registry, attachment, &documents.descriptor, Beside::TakesTheirPlace)?;
    }
    Ok(PushedImage { manifest: documents.descriptor, layers, attachments: attachments.len() + 1 })
}

struct Pusher<'a> {
    context: BuildContext<'a>,
    registry: Registry<'a>,
    reference: &'a Reference,
    subject: Subject<'a>,
}

impl Pusher<'_> {
    fn layers(&self, layers: &[SealedLayer]) -> Result<Vec<PushedLayer>, ExchangeError> {
        let done: Mutex<Vec<Option<PushedLayer>>> = Mutex::new(vec![None; layers.len()]);
        workers::each(layers.len(), AT_ONCE, |number| -> Result<(), ExchangeError> {
            let pushed = self.layer(&layers[number])?;
            done.lock().unwrap_or_else(PoisonError::into_inner)[number] = Some(pushed);
            Ok(())
        })?;
        Ok(done.into_inner().unwrap_or_else(PoisonError::into_inner).into_iter().flatten().collect())
    }

    /// One layer. What it packs to is remembered, so that one that the registry has need not even be packed again.
    fn layer(&self, layer: &SealedLayer) -> Result<PushedLayer, ExchangeError> {
        let (store, how) = (self.context.store, self.subject.compression);
        let known = store.packed(&layer.tree, how.word());
        let here = format!("{}/{}", self.reference.registry, self.reference.name);
        if let Some(known) = &known
            && self.registry.has_blob(&known.packed)?
        {
            if known.pushed.last() != Some(&here) {
                store.remember_packed(&layer.tree, how.word(), &known.pushed_to(&here))?;
            }
            let layer =
                PackedLayer { name: layer.name.clone(), diff: known.plain, blob: known.packed, size: known.size };
            return Ok(PushedLayer { layer, how: "there" });
        }
        if let Some(known) = &known
            && let Some(other) = self.elsewhere(known)
            && self.registry.mount_blob(&known.packed, other)?
        {
            store.remember_packed(&layer.tree, how.word(), &known.pushed_to(&here))?;
            let layer =
                PackedLayer { name: layer.name.clone(), diff: known.plain, blob: known.packed, size: known.size };
            return Ok(PushedLayer { layer, how: "mounted" });
        }
        let place = self.context.staging.new_name();
        let packed = layers::pack(store, layer, how, &place)?;
        let record = PackedRecord { plain: packed.diff, packed: packed.blob, size: packed.size, pushed: Vec::new() };
        let file = File::open(&place).map_err(writing(&place))?;
        let name = layer.name.clone();
        let progress = |arrived: u64| {
            (self.context.observer)(Event::Sending { name: name.clone(), done: arrived, of: packed.size });
        };
        let pushed = self.registry.push_blob(&packed.blob, packed.size, &file, &progress)?;
        store.remember_packed(&layer.tree, how.word(), &record.pushed_to(&here))?;
        (self.context.observer)(Event::Sent { name: name.clone() });
        // It may be large, and others are still to be packed.
        let _ = fs::remove_file(&place);
        let how = match pushed {
            Pushed::There => "there",
            Pushed::Sent => "sent",
        };
        Ok(PushedLayer { layer: packed, how })
    }

    /// Another image of the same registry that has a layer.
    fn elsewhere<'r>(&self, known: &'r PackedRecord) -> Option<&'r str> {
        let names = known.pushed.iter().rev().filter_map(|place| place.strip_prefix(&self.reference.registry));
        names.filter_map(|rest| rest.strip_prefix('/')).find(|name| *name != self.reference.name)
    }

    /// The index of a tag with this image in it, among those for other platforms.
    fn joined(&self, tag: &str, image: &Descriptor) -> Result<Vec<u8>, ExchangeError> {
        let there = self.registry.find_manifest(tag)?;
        let mut index = Index::empty();
        if let Some(bytes) = &there {
            match serde_json::from_slice::<Index>(bytes) {
                Ok(known) if known.media_type == INDEX => index = known,
                _ => index.manifests.extend(self.listed(bytes)),
            }
        }
        index.put(Descriptor { annotations: BTreeMap::new(), ..image.clone() });
        Ok(serde_json::to_vec(&index).unwrap_or_default())
    }

    /// How an index lists an image that stood alone under its tag; nothing when it says not what it runs on.
    fn listed(&self, manifest: &[u8]) -> Option<Descriptor> {
        let value: serde_json::Value = serde_json::from_slice(manifest).ok()?;
        let config = value["config"]["digest"].as_str()?.strip_prefix("sha256:")?;
        let config: serde_json::Value = serde_json::from_slice(&self.registry.small_blob(config).ok()?).ok()?;
        let platform = Platform {
            architecture: config["architecture"].as_str()?.to_owned(),
            os: config["os"].as_str()?.to_owned(),
        };
        Some(Descriptor {
            media_type: MANIFEST.to_owned(),
            digest: OciDigest(Sha256Digest::of(manifest)),
            size: manifest.len() as u64,
            platform: Some(platform),
            artifact_type: None,
            annotations: BTreeMap::new(),
        })
    }
}
