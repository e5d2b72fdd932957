//! What configuring packages leaves differently each time, and what no shell can make the same.

use std::fs;
use std::path::Path;

use cavrith_sources::keystore;
use cavrith_store::reading;

use crate::error::{EngineError, file_error};

/// Java's store of trusted certificates, which Debian's `ca-certificates-java` makes.
const KEYSTORE: &str = "etc/ssl/certs/java/cacerts";

/// Puts the entries of Java's store of certificates in order, all with the time `epoch`. `root` is what was configured,
/// in which nobody works any more.
///
/// # Errors
/// When the disk refuses.
pub(super) fn keystore(root: &Path, epoch: u64) -> Result<(), EngineError> {
    let mut at = root.to_owned();
    for name in KEYSTORE.split('/') {
        // No link of the root is followed.
        at.push(name);
        if at.symlink_metadata().map_or(true, |meta| meta.is_symlink()) {
            return Ok(());
        }
    }
    let Ok(bytes) = reading::bytes(&at) else { return Ok(()) };
    match keystore::normalized(&bytes, epoch) {
        // In place: owner and rights are right already.
        Some(normal) if normal != bytes => fs::write(&at, normal).map_err(file_error("write", &at)),
        _ => Ok(()),
    }
}
