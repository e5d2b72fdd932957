//! Documents that refer to an image in a registry, "referrers": attached to it, and found again (OCI Distribution
//! Specification 1.1, "Pushing Manifests with Subject", "Listing Referrers").

use std::thread;
use std::time::Duration;

use serde::Deserialize;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::oci::Reference;
use cavrith_core::oci::image::{Attachment, Descriptor, EMPTY, INDEX, Index, MANIFEST, OciDigest, Platform};
use cavrith_engine::supply::Supply;
use cavrith_sources::registry::Registry;

use crate::ExchangeError;
use crate::transfer::{self, push_bytes};

/// How often the list of a registry that keeps none by itself is written, when others write it at the same time.
const TRIES: u32 = 12;
/// Time before the second try; the others are spread by the document's digest, so that not all come again at once.
const PAUSE: Duration = Duration::from_millis(40);

/// Whether a document stands beside others of its kind, or in their place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Beside {
    /// The image has one of this kind.
    TakesTheirPlace,
    /// It may have many.
    Others,
}

/// Attaches a document to an image.
///
/// # Errors
/// When the registry does not take it.
pub(crate) fn attach(
    supply: Supply<'_>,
    registry: &Registry<'_>,
    attachment: &Attachment,
    image: &Descriptor,
    beside: Beside,
) -> Result<(), ExchangeError> {
    push_bytes(supply, registry, EMPTY.1)?;
    push_bytes(supply, registry, &attachment.bytes)?;
    let (manifest, listed) = attachment.manifest(image);
    let which = format!("sha256:{}", listed.digest.0);
    if registry.push_manifest(&which, MANIFEST, &manifest)? {
        return Ok(());
    }
    // Where the registry keeps no list by itself, the list is a tag ("Referrers Tag Schema"). Whoever writes it writes
    // all of it, so it is read again: somebody else may have written theirs in between.
    let tag = list_tag(image);
    for number in 0..TRIES {
        let mut index = listed_by_tag(registry, &tag)?.unwrap_or_else(Index::empty);
        if index.manifests.iter().any(|one| one.digest == listed.digest) {
            return Ok(());
        }
        match beside {
            Beside::TakesTheirPlace => index.put(listed.clone()),
            Beside::Others => index.add(listed.clone()),
        }
        registry.push_manifest(&tag, INDEX, &serde_json::to_vec(&index).unwrap_or_default())?;
        let spread = u32::from(listed.digest.0.as_bytes()[number as usize % 32]);
        thread::sleep(if number == 0 { PAUSE } else { PAUSE / 64 * spread });
    }
    let there = listed_by_tag(registry, &tag)?;
    if there.is_some_and(|index| index.manifests.iter().any(|one| one.digest == listed.digest)) {
        return Ok(());
    }
    Err(ExchangeError::Contended { tag })
}

/// The documents of one kind that refer to an image, at most so many, the lists of several pages joined.
///
/// # Errors
/// When the registry cannot be reached, or does not let us in.
pub(crate) fn referrers(
    registry: &Registry<'_>,
    image: &Descriptor,
    kind: &str,
    most: usize,
) -> Result<Vec<Descriptor>, ExchangeError> {
    let mut found = Vec::new();
    match registry.referrers(&image.digest.0, kind)? {
        Some(mut pages) => {
            while let Some(page) = pages.next_page()? {
                // A page that is none lists nothing.
                found.extend(serde_json::from_slice::<Index>(&page).map(|index| index.manifests).unwrap_or_default());
                if found.len() > most {
                    break;
                }
            }
        }
        None => found.extend(listed_by_tag(registry, &list_tag(image))?.into_iter().flat_map(|index| index.manifests)),
    }
    // Not every registry filters.
    found.retain(|one| one.artifact_type.as_deref() == Some(kind));
    found.truncate(most);
    Ok(found)
}

/// The document that a listed artifact holds, when it is no longer than `longest`.
///
/// # Errors
/// When the registry does not have it, or gives something else.
pub(crate) fn read(
    registry: &Registry<'_>,
    listed: &Descriptor,
    longest: usize,
) -> Result<Option<Vec<u8>>, ExchangeError> {
    #[derive(Deserialize)]
    struct Artifact {
        layers: Vec<Descriptor>,
    }
    let manifest = transfer::document(registry, &listed.digest.0)?;
    let layer =
        serde_json::from_slice::<Artifact>(&manifest).ok().and_then(|artifact| artifact.layers.into_iter().next());
    let Some(layer) = layer.filter(|layer| layer.size <= longest as u64) else { return Ok(None) };
    Ok(Some(registry.small_blob(&layer.digest.0.to_string())?))
}

/// The image that a reference names: of an index, the one for a platform.
///
/// # Errors
/// When the registry has none.
pub(crate) fn named(
    registry: &Registry<'_>,
    reference: &Reference,
    platform: &Platform,
) -> Result<Descriptor, ExchangeError> {
    let which = match (&reference.digest, &reference.tag) {
        (Some(digest), _) => format!("sha256:{digest}"),
        (None, Some(tag)) => tag.clone(),
        (None, None) => return Err(ExchangeError::NoTag(reference.to_string())),
    };
    let bytes = registry.find_manifest(&which)?.ok_or_else(|| ExchangeError::NotThere(reference.to_string()))?;
    let digest = Sha256Digest::of(&bytes);
    let index = serde_json::from_slice::<Index>(&bytes).ok().filter(|index| index.media_type == INDEX);
    let Some(index) = index else { return Ok(Descriptor::new(MANIFEST, digest, bytes.len() as u64)) };
    let missing = || ExchangeError::NotThere(format!("{reference} for {}/{}", platform.os, platform.architecture));
    index.manifests.into_iter().find(|one| one.platform.as_ref() == Some(platform)).ok_or_else(missing)
}

fn list_tag(image: &Descriptor) -> String {
    let OciDigest(digest) = image.digest;
    format!("sha256-{digest}")
}

fn listed_by_tag(registry: &Registry<'_>, tag: &str) -> Result<Option<Index>, ExchangeError> {
    let there = registry.find_manifest(tag)?;
    Ok(there.and_then(|bytes| serde_json::from_slice::<Index>(&bytes).ok()))
}
