//! What was changed in a machine: on its own disk, which nobody here reads, so a process within is asked.

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;

use cavrith_core::path::RootPath;
use cavrith_core::tree::{Tree, encoding};
use cavrith_keeper::client::Client;
use cavrith_keeper::place::Place;
use cavrith_sandbox::runtime::ReadChanges;
use cavrith_store::walk::Scratch;

use crate::WorkspaceError;

fn ask(place: &Place, lower: &Tree, is_whole: bool) -> Result<ReadChanges, WorkspaceError> {
    let unreadable = |why: String| WorkspaceError::InMachine { name: place.name.clone(), why };
    let client = Client::new(place).ok_or_else(|| unreadable("it does not run; cavrith start starts it".to_owned()))?;
    let lower = BASE64_STANDARD.encode(encoding::encode(lower));
    client.read_changes(lower, is_whole)?.ok_or_else(|| unreadable("it runs in no machine any more".to_owned()))
}

/// Reads what was changed over an image.
///
/// # Errors
/// When the machine does not run, or does not say.
pub fn read(place: &Place, image: &Tree) -> Result<Scratch, WorkspaceError> {
    let unreadable = |why: String| WorkspaceError::InMachine { name: place.name.clone(), why };
    let read = ask(place, image, false)?;
    let bytes = BASE64_STANDARD.decode(read.tree).map_err(|error| unreadable(error.to_string()))?;
    let tree = encoding::decode(&bytes).map_err(|error| unreadable(error.to_string()))?;
    let path = |bytes: &[u8]| RootPath::from_archive(bytes).ok();
    let changed = read.changed.iter().filter_map(|(bytes, millis)| Some((path(bytes)?, *millis))).collect();
    Ok(Scratch { tree, is_whole: false, changed })
}

/// The fingerprint of the root that a machine runs on, measured within.
///
/// # Errors
/// When the machine does not run, or does not say.
pub fn root(place: &Place, image: &Tree) -> Result<String, WorkspaceError> {
    let unreadable = || WorkspaceError::InMachine { name: place.name.clone(), why: "it says nothing".to_owned() };
    ask(place, image, true)?.root.ok_or_else(unreadable)
}
