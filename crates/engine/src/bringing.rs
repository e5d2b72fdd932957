//! Bringing pinned files here before they are needed, several at once.

use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock::{Lock, RecordPin, Source};
use cavrith_core::record::Record;
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
    let records = records(project, lock)?;
    let wanted = all_pinned(project, lock, &records).into_iter().map(|(_, file)| file).collect();
    bring(context, "pinned file", wanted)
}

/// A pinned file that can be had nowhere.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Gone {
    /// What it is: `toolchain quill 2.4.1`.
    pub what: String,
    /// Its SHA-256, by which it is known wherever it lies.
    pub sha256: Sha256Digest,
    /// Why it was not found in the last place.
    pub why: String,
}

/// Brings all that can be had of what a project's layers are made of, and says what cannot.
///
/// # Errors
/// When the records of steps cannot be read.
pub fn bring_what_is_there(
    context: BuildContext<'_>,
    project: &Project,
    lock: &Lock,
) -> Result<Vec<Gone>, EngineError> {
    let records = records(project, lock)?;
    let supply = context.supply();
    let mut wanted = all_pinned(project, lock, &records);
    wanted.retain(|(_, file)| supply.lacks(&file.sha256));
    let gone = Mutex::new(Vec::new());
    workers::each(wanted.len(), FETCHES, |number| -> Result<(), EngineError> {
        let (what, file) = &wanted[number];
        if let Err(error) = (file.get)(supply) {
            let one = Gone { what: what.clone(), sha256: file.sha256, why: error.to_string() };
            gone.lock().unwrap_or_else(PoisonError::into_inner).push(one);
        }
        Ok(())
    })?;
    let mut gone = gone.into_inner().unwrap_or_else(PoisonError::into_inner);
    gone.sort_by(|a, b| a.what.cmp(&b.what));
    Ok(gone)
}

type Records<'a> = Vec<(&'a RecordPin, Record)>;

fn records<'a>(project: &Project, lock: &'a Lock) -> Result<Records<'a>, EngineError> {
    lock.records.iter().map(|pin| Ok((pin, bodies::pinned(project, pin)?))).collect()
}

/// All files that are pinned, with what they are.
fn all_pinned<'a>(project: &'a Project, lock: &'a Lock, records: &'a Records<'a>) -> Vec<(String, PinnedFile<'a>)> {
    let origins = project.origins();
    let mut wanted: Vec<(String, PinnedFile<'a>)> = Vec::new();
    let toolchains = lock.toolchains.iter().filter_map(|pin| {
        let source = pin.source.as_ref().filter(|source| !source.depot.is_empty())?;
        let parts =
            pin.parts.iter().map(move |part| (format!("{} of toolchain {}", part.name, pin.name), &part.source));
        Some(std::iter::once((format!("toolchain {} {}", pin.name, pin.version), source)).chain(parts))
    });
    let packages = lock.packages.iter().map(|pin| (format!("package {} {}", pin.name, pin.version), &pin.source));
    let extensions = lock.extensions.iter().map(|pin| (format!("extension {} {}", pin.id, pin.version), &pin.source));
    let sources: Vec<(String, &Source)> = packages.chain(toolchains.flatten()).chain(extensions).collect();
    for (what, source) in sources {
        let get = move |supply: Supply<'_>| supply.source(origins, source).map(drop);
        wanted.push((what, PinnedFile::new(source.sha256, source.size, get)));
    }
    for (name, pin) in lock.debian.iter().flat_map(|debian| debian.packages()) {
        let get = move |supply: Supply<'_>| supply.package(origins, name, pin).map(drop);
        wanted.push((format!("package {name} {}", pin.version), PinnedFile::new(pin.sha256, pin.size, get)));
    }
    for (_, url, size, sha256) in supply::addresses(lock) {
        let what = format!("download {url}");
        let get = move |supply: Supply<'_>| supply.address(origins, &url, size, sha256).map(drop);
        wanted.push((what, PinnedFile::new(sha256, size, get)));
    }
    for pin in lock.oci.iter().flat_map(|oci| &oci.layers) {
        let get = move |supply: Supply<'_>| images::layer(supply, project, pin).map(drop);
        wanted.push((format!("layer {}", &pin.sha256.to_string()[..16]), PinnedFile::new(pin.sha256, pin.size, get)));
    }
    for (pin, record) in records {
        let step = format!("step {:?}", pin.step);
        for (sha256, answer) in bodies::of_record(record) {
            let step = step.clone();
            let what = format!("an answer that {step} was given");
            let get = move |supply: Supply<'_>| bodies::body(supply, origins, (&step, &pin.sha256), answer).map(drop);
            wanted.push((what, PinnedFile::new(sha256, answer.1.size, get)));
        }
    }
    wanted
}
