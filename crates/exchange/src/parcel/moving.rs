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
use cavrith_core::oci::image::{Descriptor, EMPTY, INDEX, Index, MANIFEST};
use cavrith_core::oci::parcel::{PARCEL, Parcel};
use cavrith_engine::context::BuildContext;
use cavrith_engine::registries;
use cavrith_sources::registry::{Pushed, Registry};
use cavrith_store::{hashing, reading, workers};

use super::OpenParcel;
use super::encryption::Recipients;
use crate::ExchangeError;
use crate::error::writing;
use crate::layout::{self, Blob, Blobs};
use crate::transfer::{self, AT_ONCE};

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
    let login = transfer::login(context.supply(), reference)?;
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
        let pushed = transfer::push_file(context.supply(), &registry, (digest, *size), &file)?;
        let _ = fs::remove_file(&place);
        *sent.lock().unwrap_or_else(PoisonError::into_inner) += usize::from(pushed == Pushed::Sent);
        Ok(())
    })?;
    for (digest, media_type, bytes) in &parts.documents {
        registry.push_manifest(&format!("sha256:{digest}"), media_type, bytes)?;
    }
    publish(&registry, reference, INDEX, &parcel.index)?;
    let sent = sent.into_inner().unwrap_or_else(PoisonError::into_inner);
    Ok((sent, blobs.len() - sent))
}

/// As [`push`], of an encrypted parcel, in which nobody can look: the file as it is.
///
/// # Errors
/// When the file cannot be read, or the registry does not take it.
pub fn push_encrypted(
    context: BuildContext<'_>,
    path: &Path,
    reference: &Reference,
) -> Result<(usize, usize), ExchangeError> {
    let login = transfer::login(context.supply(), reference)?;
    let registry = registries::open(context.web, context.member, reference, login.as_ref());
    let unreadable = |error: io::Error| ExchangeError::Parcel { path: path.to_owned(), why: error.to_string() };
    let mut file = reading::open(path).map_err(unreadable)?;
    let (size, digest) = hashing::sha256(&mut file, None).map_err(unreadable)?;
    transfer::push_bytes(context.supply(), &registry, EMPTY.1)?;
    let pushed = transfer::push_file(context.supply(), &registry, (&digest, size), &file)?;
    let (document, _) = Parcel::encrypted(digest, size).document();
    publish(&registry, reference, MANIFEST, &document)?;
    let sent = usize::from(pushed == Pushed::Sent);
    Ok((sent, 1 - sent))
}

/// Puts the document that all else hangs on into the registry: by its digest first, which the registry proves; the tag
/// then stands for what was proved.
fn publish(
    registry: &Registry<'_>,
    reference: &Reference,
    media_type: &str,
    bytes: &[u8],
) -> Result<(), ExchangeError> {
    registry.push_manifest(&format!("sha256:{}", Sha256Digest::of(bytes)), media_type, bytes)?;
    if let Some(tag) = &reference.tag {
        registry.push_manifest(tag, media_type, bytes)?;
    }
    Ok(())
}

/// Fetches a parcel from a registry into a file, and gives its length: the file that was pushed.
///
/// # Errors
/// When the registry does not have it, or gives something else; when the disk refuses.
pub fn pull(context: BuildContext<'_>, reference: &Reference, to: &Path) -> Result<u64, ExchangeError> {
    let login = transfer::login(context.supply(), reference)?;
    let registry = registries::open(context.web, context.member, reference, login.as_ref());
    let index = match (&reference.digest, &reference.tag) {
        (Some(digest), _) => transfer::document(&registry, digest)?,
        (None, tag) => registry.manifest(tag.as_deref().unwrap_or_default())?,
    };
    if let Some(listed) = Parcel::encrypted_file(&index) {
        let (place, longest) = (context.staging.new_name(), listed.size.min(LONGEST));
        let mut file = transfer::fetch(context.supply(), &registry, (&listed.digest.0, longest), &place)?;
        return layout::whole_file(to, |out| io::copy(&mut file, out).map_err(writing(to)));
    }
    let parts = named(&index, &|digest| transfer::document(&registry, digest));
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
        transfer::fetch(context.supply(), &registry, (digest, (*size).min(LONGEST)), &place)?;
        got.lock().unwrap_or_else(PoisonError::into_inner).insert(*digest, Blob::File(place, *size));
        Ok(())
    })?;
    let mut blobs = got.into_inner().unwrap_or_else(PoisonError::into_inner);
    blobs.extend(parts.documents.into_iter().map(|(digest, _, bytes)| (digest, Blob::Bytes(bytes))));
    super::writing::write(&index, &blobs, &Recipients::default(), to)
}
