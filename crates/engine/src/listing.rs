//! Writing and reading the listing of a sealed image.

use std::io::Read as _;
use std::path::Path;

use cavrith_core::digest::ContentDigest;
use cavrith_core::listing::{FILE_NAME, LONGEST, Listing};
use cavrith_core::seal::SealedLayer;
use cavrith_store::{Store, StoreError, atomic, reading};

use crate::error::{EngineError, file_error, plain};

/// Strong enough that a listing of thirty thousand files is about half a megabyte, and still faster than a second.
const LEVEL: i32 = 12;

/// Writes the listing of layers beside the spec, and gives its digest.
///
/// # Errors
/// When a layer's tree cannot be read, or the disk refuses.
pub fn write(dir: &Path, store: &Store, layers: &[SealedLayer]) -> Result<ContentDigest, EngineError> {
    let trees = layers.iter().map(|layer| Ok((layer.name.clone(), store.layer_tree(&layer.tree)?)));
    let listing = Listing::new(trees.collect::<Result<Vec<_>, StoreError>>()?);
    let path = dir.join(FILE_NAME);
    let packed = zstd::bulk::compress(&listing.encode(), LEVEL).map_err(file_error("compress", &path))?;
    if reading::bytes(&path).ok().as_deref() != Some(packed.as_slice()) {
        atomic::write_unlinked(&path, &packed)?;
    }
    Ok(ContentDigest::from_bytes(*blake3::hash(&packed).as_bytes()))
}

/// Reads the listing that a seal names. An error says, in words, why it cannot be used.
///
/// # Errors
/// When it is missing, is not the one that the seal names, or cannot be read.
pub fn read(dir: &Path, digest: &ContentDigest) -> Result<Listing, String> {
    let packed = reading::bytes(&dir.join(FILE_NAME)).map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => format!("{FILE_NAME} is missing; take it from version control"),
        _ => format!("{FILE_NAME} cannot be read: {}", plain(&error)),
    })?;
    if blake3::hash(&packed).as_bytes() != digest.as_bytes() {
        return Err(format!("{FILE_NAME} is not the one that was sealed; take it from version control"));
    }
    decode(&packed)
}

/// Reads a listing as it is written. An error says, in words, why it cannot be used.
///
/// # Errors
/// When it is none.
pub fn decode(packed: &[u8]) -> Result<Listing, String> {
    let mut bytes = Vec::new();
    let unpacked = zstd::Decoder::new(packed).and_then(|from| from.take(LONGEST).read_to_end(&mut bytes));
    unpacked.map_err(|error| format!("{FILE_NAME} cannot be unpacked: {}", plain(&error)))?;
    Listing::decode(&bytes).map_err(|error| format!("{FILE_NAME}: {error}"))
}
