//! Pushing an image to a registry, and attaching to it what belongs to it.

use std::fs::{self, File};
use std::sync::{Mutex, PoisonError};

use serde::Serialize;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::oci::Reference;
use cavrith_core::oci::image::{self, Attachment, Descriptor, EMPTY, INDEX, Index, MANIFEST, PackedLayer, Subject};
use cavrith_core::seal::SealedLayer;
use cavrith_engine::context::BuildContext;
use cavrith_engine::event::Event;
use cavrith_engine::registries;
use cavrith_sources::registry::{Pushed, Registry};
use cavrith_store::records::{ImageRecord, PackedRecord};
use cavrith_store::workers;

use crate::cache::push_bytes;
use crate::error::writing;
use crate::{ExchangeError, layers};

/// Layers that are on their way at once.
const AT_ONCE: usize = 4;

/// What became of a layer.
#[derive(Debug, Clone, Serialize)]
pub struct PushedLayer {
    /// The layer, as it was packed.
    #[serde(flatten)]
    pub layer: PackedLayer,
    /// `there`, `mounted` or `sent`.
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

/// Pushes an image under a reference, and its attachments.
///
/// # Errors
/// When a layer cannot be read or packed, or the registry does not take something.
pub fn push(
    context: BuildContext<'_>,
    reference: &Reference,
    record: &ImageRecord,
    subject: Subject<'_>,
    attachments: &[Attachment],
) -> Result<PushedImage, ExchangeError> {
    let login = registries::login(context.member, &reference.registry);
    let login = login.map_err(|why| ExchangeError::Login { registry: reference.registry.clone(), why })?;
    let registry = registries::open(context.web, context.member, reference, login.as_ref());
    let pusher = Pusher { context, registry, subject };
    // The first answer tells whether we are let in; the layers then need not all ask.
    pusher.registry.has_blob(&Sha256Digest::of(EMPTY.1))?;
    let layers = pusher.layers(&record.layers)?;
    let packed: Vec<_> = layers.iter().map(|pushed| pushed.layer.clone()).collect();
    let documents = image::documents(subject, &packed);
    push_bytes(context, &pusher.registry, &documents.config)?;
    // By its digest first, which the registry proves; the tag then stands for what was proved.
    let digest = format!("sha256:{}", documents.descriptor.digest.0);
    for which in [Some(&digest), reference.tag.as_ref()].into_iter().flatten() {
        pusher.registry.push_manifest(which, MANIFEST, &documents.manifest)?;
    }
    for attachment in attachments {
        pusher.attach(attachment, &documents.descriptor)?;
    }
    Ok(PushedImage { manifest: documents.descriptor, layers, attachments: attachments.len() })
}

struct Pusher<'a> {
    context: BuildContext<'a>,
    registry: Registry<'a>,
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
        if let Some(PackedRecord { plain, packed, size }) = store.packed(&layer.tree, how.word())
            && self.registry.has_blob(&packed)?
        {
            let layer = PackedLayer { name: layer.name.clone(), diff: plain, blob: packed, size };
            return Ok(PushedLayer { layer, how: "there" });
        }
        let place = self.context.staging.new_name();
        let packed = layers::pack(store, layer, how, &place)?;
        store.remember_packed(
            &layer.tree,
            how.word(),
            &PackedRecord { plain: packed.diff, packed: packed.blob, size: packed.size },
        )?;
        let file = File::open(&place).map_err(writing(&place))?;
        let name = layer.name.clone();
        let progress = |arrived: u64| {
            (self.context.observer)(Event::Sending { name: name.clone(), done: arrived, of: packed.size });
        };
        let pushed = self.registry.push_blob(&packed.blob, packed.size, &file, &[], &progress)?;
        (self.context.observer)(Event::Sent { name: name.clone() });
        // It may be large, and others are still to be packed.
        let _ = fs::remove_file(&place);
        let how = match pushed {
            Pushed::There => "there",
            Pushed::Mounted => "mounted",
            Pushed::Sent => "sent",
        };
        Ok(PushedLayer { layer: packed, how })
    }

    /// Attaches a document. Where the registry does not list by itself what refers to an image, the list is a tag
    /// (Distribution Specification 1.1, "Referrers Tag Schema").
    fn attach(&self, attachment: &Attachment, image: &Descriptor) -> Result<(), ExchangeError> {
        push_bytes(self.context, &self.registry, EMPTY.1)?;
        push_bytes(self.context, &self.registry, &attachment.bytes)?;
        let (manifest, listed) = attachment.manifest(image);
        let which = format!("sha256:{}", listed.digest.0);
        if self.registry.push_manifest(&which, MANIFEST, &manifest)? {
            return Ok(());
        }
        let tag = format!("sha256-{}", image.digest.0);
        let there = self.registry.find_manifest(&tag)?;
        let there = there.and_then(|bytes| serde_json::from_slice::<Index>(&bytes).ok());
        let mut index = there.unwrap_or_else(Index::empty);
        index.put(listed);
        let bytes = serde_json::to_vec(&index).unwrap_or_default();
        self.registry.push_manifest(&tag, INDEX, &bytes)?;
        Ok(())
    }
}
