//! Parcels in a registry: every blob of the file, the documents by their digests, and its index under a tag. So an
//! image of a parcel can be pulled by other programs, and what an earlier push brought is not sent again.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use serde::Deserialize;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::oci::Reference;
use cavrith_core::oci::image::{Descriptor, INDEX, Index};
use cavrith_core::oci::parcel::PARCEL;
use cavrith_engine::context::BuildContext;
use cavrith_engine::event::Event;
use cavrith_engine::registries;
use cavrith_sources::registry::{Pushed, Registry};
use cavrith_store::{hashing, workers};

use super::OpenParcel;
use crate::ExchangeError;
use crate::error::writing;
use crate::layout::{Blob, Blobs};

/// Blobs that are on their way at once.
const AT_ONCE: usize = 4;
/// Bytes that a blob of somebody else's parcel may have.
const LONGEST: u64 = 64 << 30;

/// What a document names.
#[derive(Deserialize)]
struct Named {
    config: Descriptor,
    layers: Vec<Descriptor>,
}

/// Documents of an index, and all that they name.
fn named(
    index: &[u8],
    document: &dyn Fn(&Sha256Digest) -> Result<Vec<u8>, ExchangeError>,
) -> Result<Parts, ExchangeError> {
    let unreadable = |error: serde_json::Error| ExchangeError::Work(format!("a parcel's index: {error}"));
    let index: Index = serde_json::from_slice(index).map_err(unreadable)?;
    let mut parts = Parts::default();
    for listed in &index.manifests {
        let bytes = document(&listed.digest.0)?;
        let read: Named = serde_json::from_slice(&bytes).map_err(unreadable)?;
        let blobs = read.layers.into_iter().chain([read.config]);
        parts.blobs.extend(blobs.map(|blob| (blob.digest.0, blob.size)));
        parts.documents.push((listed.digest.0, listed.media_type.clone(), bytes));
    }
    parts.is_parcel = index.manifests.iter().any(|one| one.artifact_type.as_deref() == Some(PARCEL));
    Ok(parts)
}

#[derive(Default)]
struct Parts {
    /// Digest, media type, bytes.
    documents: Vec<(Sha256Digest, String, Vec<u8>)>,
    blobs: BTreeSet<(Sha256Digest, u64)>,
    is_parcel: bool,
}

/// Sends a parcel to a registry. Says how many blobs were sent, and how many were there.
///
/// # Errors
/// When the parcel is damaged, or the registry does not take it.
pub fn push(
    context: BuildContext<'_>,
    parcel: &OpenParcel,
    reference: &Reference,
) -> Result<(usize, usize), ExchangeError> {
    let login = login(context, reference)?;
    let registry = registries::open(context.web, context.member, reference, login.as_ref());
    let parts = named(&parcel.index, &|digest| parcel.document_of(digest))?;
    let blobs: Vec<_> = parts.blobs.iter().collect();
    let sent = Mutex::new(0);
    workers::each(blobs.len(), AT_ONCE, |number| -> Result<(), ExchangeError> {
        let (digest, size) = blobs[number];
        if registry.has_blob(digest)? {
            return Ok(());
        }
        let place = context.staging.new_name();
        let mut file = File::options().read(true).write(true).create_new(true).open(&place).map_err(writing(&place))?;
        io::copy(&mut parcel.blob(digest)?, &mut file).map_err(writing(&place))?;
        let name = format!("blob {}", &digest.to_string()[..12]);
        let progress = |done| (context.observer)(Event::Sending { name: name.clone(), done, of: *size });
        let pushed = registry.push_blob(digest, *size, &file, &progress)?;
        (context.observer)(Event::Sent { name: name.clone() });
        let _ = fs::remove_file(&place);
        *sent.lock().unwrap_or_else(PoisonError::into_inner) += usize::from(pushed == Pushed::Sent);
        Ok(())
    })?;
    for (digest, media_type, bytes) in &parts.documents {
        registry.push_manifest(&format!("sha256:{digest}"), media_type, bytes)?;
    }
    let by_digest = || format!("sha256:{}", Sha256Digest::of(&parcel.index));
    registry.push_manifest(&reference.tag.clone().unwrap_or_else(by_digest), INDEX, &parcel.index)?;
    let sent = sent.into_inner().unwrap_or_else(PoisonError::into_inner);
    Ok((sent, blobs.len() - sent))
}

/// Fetches a parcel from a registry into a file, and gives its length: the file that was pushed.
///
/// # Errors
/// When the registry does not have it, or gives something else; when the disk refuses.
pub fn pull(context: BuildContext<'_>, reference: &Reference, to: &Path) -> Result<u64, ExchangeError> {
    let login = login(context, reference)?;
    let registry = registries::open(context.web, context.member, reference, login.as_ref());
    let which = match (&reference.tag, &reference.digest) {
        (_, Some(digest)) => format!("sha256:{digest}"),
        (Some(tag), None) => tag.clone(),
        (None, None) => {
            let why = format!("{} names neither a tag nor a digest: add :TAG or @sha256:DIGEST", reference.name);
            return Err(ExchangeError::Work(why));
        }
    };
    let index = registry.manifest(&which)?;
    if reference.digest.is_some_and(|digest| Sha256Digest::of(&index) != digest) {
        return Err(ExchangeError::Work(format!("{}: the registry gives something else", reference.registry)));
    }
    let parts = named(&index, &|digest| {
        let bytes = registry.manifest(&format!("sha256:{digest}"))?;
        proved(&registry, digest, bytes)
    });
    let no_parcel = || ExchangeError::Work(format!("{} is an image, and no parcel", reference.name));
    let parts = parts.map_err(|error| if matches!(error, ExchangeError::Work(_)) { no_parcel() } else { error })?;
    if !parts.is_parcel {
        return Err(no_parcel());
    }
    let wanted: Vec<_> = parts.blobs.iter().collect();
    let got: Mutex<Blobs> = Mutex::default();
    workers::each(wanted.len(), AT_ONCE, |number| -> Result<(), ExchangeError> {
        let (digest, size) = wanted[number];
        let place = context.staging.new_name();
        let mut file = File::options().read(true).write(true).create_new(true).open(&place).map_err(writing(&place))?;
        let name = format!("blob {}", &digest.to_string()[..12]);
        let progress = |done, of| (context.observer)(Event::Fetching { name: name.clone(), done, of });
        let address = registry.blob_address(&digest.to_string());
        let fetched = context.web.fetch(&address, &mut file, (*size).min(LONGEST), &progress);
        (context.observer)(Event::Fetched { name: name.clone() });
        fetched?;
        let mut read = File::open(&place).map_err(writing(&place))?;
        let (length, found) = hashing::sha256(&mut read, None).map_err(writing(&place))?;
        if (length, found) != (*size, *digest) {
            return Err(other(&registry, digest));
        }
        got.lock().unwrap_or_else(PoisonError::into_inner).insert(*digest, Blob::File(place, *size));
        Ok(())
    })?;
    let mut blobs = got.into_inner().unwrap_or_else(PoisonError::into_inner);
    blobs.extend(parts.documents.into_iter().map(|(digest, _, bytes)| (digest, Blob::Bytes(bytes))));
    super::writing::write(&index, &blobs, to)
}

fn login(
    context: BuildContext<'_>,
    reference: &Reference,
) -> Result<Option<cavrith_sources::registry::Login>, ExchangeError> {
    registries::login(context.member, &reference.registry)
        .map_err(|why| ExchangeError::Login { registry: reference.registry.clone(), why })
}

fn proved(registry: &Registry<'_>, digest: &Sha256Digest, bytes: Vec<u8>) -> Result<Vec<u8>, ExchangeError> {
    if Sha256Digest::of(&bytes) == *digest { Ok(bytes) } else { Err(other(registry, digest)) }
}

fn other(registry: &Registry<'_>, digest: &Sha256Digest) -> ExchangeError {
    let url = registry.blob_address(&digest.to_string());
    cavrith_sources::SourceError::Unreachable {
        url,
        cause: cavrith_sources::Unreached::broken("the registry gives something else than its digest says"),
    }
    .into()
}
