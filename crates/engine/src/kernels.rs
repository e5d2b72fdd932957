//! Packages that are no part of a root: a machine's kernel, and what firmware starts. They are unpacked, and nothing of
//! them is run or configured; what was unpacked once is in the store, like a layer.

use std::path::PathBuf;

use cavrith_core::digest::LayerKey;
use cavrith_core::encode::Encoder;
use cavrith_core::lock::ArchivePackage;
use cavrith_sources::deb;
use cavrith_store::writer::{LayerWriter, Links};

use crate::context::BuildContext;
use crate::error::EngineError;
use crate::project::Project;

/// Version of how they are unpacked.
const RULES: u32 = 1;

/// The files of a package, in a directory of the store.
///
/// # Errors
/// When the package can be had nowhere, or is damaged.
pub fn unpacked(
    context: BuildContext<'_>,
    project: &Project,
    name: &str,
    pin: &ArchivePackage,
) -> Result<PathBuf, EngineError> {
    let mut encoder = Encoder::new("cavrith package beside a root");
    encoder.u32(RULES).fixed(pin.sha256.as_bytes());
    let key = LayerKey::from_bytes(encoder.digest());
    let store = context.store;
    // One whose list is damaged is made again.
    let known = store.layer_for(&key).filter(|known| store.layer_tree(known).is_ok());
    if let Some(known) = known {
        return Ok(store.layer_root(&known));
    }
    let mut writer = LayerWriter::new(context.staging.new_dir()?, 0, Links::Refuse, store.ownership())?;
    deb::unpack(&mut context.supply().package(project.origins(), name, pin)?, &mut writer)?;
    let (digest, _) = store.keep(writer.finish()?, false)?;
    store.remember(&key, &digest)?;
    Ok(store.layer_root(&digest))
}
