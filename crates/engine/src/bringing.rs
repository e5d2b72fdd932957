//! Bringing pinned files here before they are needed, several at once.

use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock::{Lock, Source};
use cavrith_core::verdict::count;
use cavrith_store::workers;

use crate::context::BuildContext;
use crate::error::EngineError;
use crate::event::Event;
use crate::project::Project;
use crate::supply::{self, Supply};
use crate::{bodies, images};

/// Files that are fetched at once.
const FETCHES: usize = 6;

/// How a file is had.
type Get<'a> = Box<dyn Fn(Supply<'_>) -> Result<(), EngineError> + Sync + 'a>;

/// A pinned file, and how it is had.
pub(crate) struct PinnedFile<'a> {
    sha256: Sha256Digest,
    size: u64,
    get: Get<'a>,
}

impl<'a> PinnedFile<'a> {
    /// A file that `get` gets.
    pub fn new(
        sha256: Sha256Digest,
        size: u64,
        get: impl Fn(Supply<'_>) -> Result<(), EngineError> + Sync + 'a,
    ) -> Self {
        Self { sha256, size, get: Box::new(get) }
    }
}

/// Brings what is neither in the store nor in a depot of the member's; `what` is one of them in words.
///
/// # Errors
/// When one can be had nowhere.
pub(crate) fn bring(context: BuildContext<'_>, what: &str, mut wanted: Vec<PinnedFile<'_>>) -> Result<(), EngineError> {
    let supply = context.supply();
    wanted.retain(|wanted| supply.lacks(&wanted.sha256));
    if wanted.is_empty() {
        return Ok(());
    }
    let bytes = wanted.iter().map(|wanted| wanted.size).sum();
    let started = Instant::now();
    let done = Mutex::new(0_u64);
    let name = count(wanted.len(), what);
    let quiet = |_: Event| {};
    let quiet = Supply { observer: &quiet, ..supply };
    let outcome = workers::each(wanted.len(), FETCHES, |number| -> Result<(), EngineError> {
        (wanted[number].get)(quiet)?;
        let mut done = done.lock().unwrap_or_else(PoisonError::into_inner);
        *done += wanted[number].size;
        (context.observer)(Event::Fetching { name: name.clone(), done: *done, of: Some(bytes) });
        Ok(())
    });
    (context.observer)(Event::Fetched { name: name.clone() });
    outcome?;
    (context.observer)(Event::Brought { name, millis: started.elapsed().as_millis() as u64, bytes });
    Ok(())
}

/// Brings all that a project's layers are made of. Whoever took them from somebody else has nothing of it.
///
/// # Errors
/// When something can be had nowhere.
pub fn bring_all(context: BuildContext<'_>, project: &Project, lock: &Lock) -> Result<(), EngineError> {
    let origins = project.origins();
    let records = lock.records.iter().map(|pin| Ok((pin, bodies::pinned(project, pin)?)));
    let records = records.collect::<Result<Vec<_>, EngineError>>()?;
    let mut wanted = Vec::new();
    let toolchains = lock.toolchains.iter().filter_map(|pin| {
        let source = pin.source.as_ref().filter(|source| !source.depot.is_empty())?;
        Some(std::iter::once(source).chain(pin.parts.iter().map(|part| &part.source)))
    });
    let sources: Vec<&Source> = (lock.packages.iter().map(|pin| &pin.source))
        .chain(toolchains.flatten())
        .chain(lock.extensions.iter().map(|pin| &pin.source))
        .collect();
    for source in sources {
        wanted
            .push(PinnedFile::new(source.sha256, source.size, move |supply| supply.source(origins, source).map(drop)));
    }
    for (name, pin) in lock.debian.iter().flat_map(|debian| debian.packages()) {
        wanted.push(PinnedFile::new(pin.sha256, pin.size, move |supply| supply.package(origins, name, pin).map(drop)));
    }
    for (_, url, size, sha256) in supply::addresses(lock) {
        wanted.push(PinnedFile::new(sha256, size, move |supply| supply.address(origins, &url, size, sha256).map(drop)));
    }
    for pin in lock.oci.iter().flat_map(|oci| &oci.layers) {
        wanted.push(PinnedFile::new(pin.sha256, pin.size, move |supply| images::layer(supply, project, pin).map(drop)));
    }
    for (pin, record) in &records {
        let step = format!("step {:?}", pin.step);
        for (sha256, answer) in bodies::of_record(record) {
            let step = step.clone();
            wanted.push(PinnedFile::new(sha256, answer.1.size, move |supply| {
                bodies::body(supply, origins, (&step, &pin.sha256), answer).map(drop)
            }));
        }
    }
    bring(context, "pinned file", wanted)
}
