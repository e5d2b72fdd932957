//! Blobs and documents on their way to a registry and from it; what comes is proved by its digest.

use std::fs::{self, File};
use std::io::Seek as _;
use std::path::Path;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::oci::Reference;
use cavrith_engine::event::Event;
use cavrith_engine::registries;
use cavrith_engine::supply::Supply;
use cavrith_sources::registry::{Login, Pushed, Registry};
use cavrith_sources::{SourceError, Unreached};
use cavrith_store::hashing;

use crate::ExchangeError;
use crate::error::writing;

/// Blobs that are on their way at once.
pub(crate) const AT_ONCE: usize = 4;

/// Who this member is at a registry.
pub(crate) fn login(supply: Supply<'_>, reference: &Reference) -> Result<Option<Login>, ExchangeError> {
    registries::login(supply.member, &reference.registry)
        .map_err(|why| ExchangeError::Login { registry: reference.registry.clone(), why })
}

/// Pushes something small.
pub(crate) fn push_bytes(supply: Supply<'_>, registry: &Registry<'_>, bytes: &[u8]) -> Result<(), ExchangeError> {
    let place = supply.staging.new_name();
    fs::write(&place, bytes).map_err(writing(&place))?;
    let file = File::open(&place).map_err(writing(&place))?;
    registry.push_blob(&Sha256Digest::of(bytes), bytes.len() as u64, &file, &|_| ())?;
    Ok(())
}

/// Pushes a file that has this digest and length.
pub(crate) fn push_file(
    supply: Supply<'_>,
    registry: &Registry<'_>,
    (digest, size): (&Sha256Digest, u64),
    file: &File,
) -> Result<Pushed, ExchangeError> {
    let name = name_of(digest);
    let progress = |done| (supply.observer)(Event::Sending { name: name.clone(), done, of: size });
    let pushed = registry.push_blob(digest, size, file, &progress);
    (supply.observer)(Event::Sent { name: name.clone() });
    Ok(pushed?)
}

/// Fetches a blob of this length at most into a new file, which then stands at its beginning. It is not proved.
pub(crate) fn fetch_unproved(
    supply: Supply<'_>,
    registry: &Registry<'_>,
    (digest, longest): (&Sha256Digest, u64),
    name: &str,
    place: &Path,
) -> Result<File, ExchangeError> {
    let mut file = File::options().read(true).write(true).create_new(true).open(place).map_err(writing(place))?;
    let progress = |done, of| (supply.observer)(Event::Fetching { name: name.to_owned(), done, of });
    let fetched = supply.web.fetch(&registry.blob_address(&digest.to_string()), &mut file, longest, &progress);
    (supply.observer)(Event::Fetched { name: name.to_owned() });
    fetched?;
    file.rewind().map_err(writing(place))?;
    Ok(file)
}

/// Fetches a blob that has to have this digest and length into a new file.
pub(crate) fn fetch(
    supply: Supply<'_>,
    registry: &Registry<'_>,
    (digest, size): (&Sha256Digest, u64),
    place: &Path,
) -> Result<File, ExchangeError> {
    let mut file = fetch_unproved(supply, registry, (digest, size), &name_of(digest), place)?;
    let found = hashing::sha256(&mut file, None).map_err(writing(place))?;
    if found != (size, *digest) {
        return Err(other(registry, digest));
    }
    file.rewind().map_err(writing(place))?;
    Ok(file)
}

/// A document, by its digest.
pub(crate) fn document(registry: &Registry<'_>, digest: &Sha256Digest) -> Result<Vec<u8>, ExchangeError> {
    let bytes = registry.manifest(&format!("sha256:{digest}"))?;
    if Sha256Digest::of(&bytes) == *digest { Ok(bytes) } else { Err(other(registry, digest)) }
}

fn other(registry: &Registry<'_>, digest: &Sha256Digest) -> ExchangeError {
    let cause = Unreached::broken("the registry gives something else than its digest says");
    SourceError::Unreachable { url: registry.blob_address(&digest.to_string()), cause }.into()
}

fn name_of(digest: &Sha256Digest) -> String {
    format!("blob {}", &digest.to_string()[..12])
}
