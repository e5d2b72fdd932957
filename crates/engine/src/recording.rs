//! Recording what steps fetch.
//!
//! A step is run over what lies beneath it, with a network in which all that it asks for is fetched by us. What came is
//! written down in a file beside the lock, and pinned in the lock. Then the step is built as everybody builds it, from
//! its record alone, so that a record which cannot be replayed is noticed by the one who made it.

use std::collections::BTreeSet;
use std::fs;

use cavrith_core::derive::plan::Plan;
use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock::{Lock, RecordPin};
use cavrith_core::record::{DIRECTORY, Record, file_name};
use cavrith_core::spec::Spec;

use crate::build;
use crate::context::BuildContext;
use crate::error::{EngineError, LockError, RecordError, file_error};
use crate::locking;
use crate::project::{self, Project};

/// What was recorded of one step.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Recorded {
    /// What the lock pins of it.
    #[serde(flatten)]
    pub pin: RecordPin,
    /// It is what was pinned before.
    pub is_same: bool,
}

/// Records steps of a project's variant: the named ones, or all that fetch. `lock` has the pins of the variant, and
/// gets those of the records, which are in their files when it returns.
///
/// # Errors
/// When a step fails, or the record cannot be replayed.
fn record(
    context: BuildContext<'_>,
    project: &Project,
    lock: &mut Lock,
    names: &[String],
) -> Result<Vec<Recorded>, EngineError> {
    let spec = &project.spec;
    let known: Vec<_> = spec.steps.iter().filter(|step| step.recorded.is_some()).map(|step| &step.name.value).collect();
    if context.web.is_offline() {
        return Err(RecordError::Offline.into());
    }
    let mut done = Vec::new();
    for step in known.iter().copied() {
        // One that lies beneath has to have its record, too.
        let has_one = lock.records.iter().any(|pin| pin.step == *step);
        if !names.is_empty() && !names.contains(step) && has_one {
            continue;
        }
        let plan = Plan::new(spec, lock);
        let Some(position) = plan.position_of(step) else { continue };
        let record = build::record(context, project, lock, position)?;
        let pin = write(project, step, &record, &plan, position)?;
        let before = lock.records.iter().find(|known| known.step == *step);
        let is_same = before.is_some_and(|before| before.sha256 == pin.sha256);
        lock.records.retain(|known| known.step != *step);
        lock.records.push(pin.clone());
        lock.records.sort_by_key(|pin| known.iter().position(|name| **name == pin.step));
        done.push(Recorded { pin, is_same });
    }
    build::build(context, project, lock)?;
    Ok(done)
}

/// Records steps of several variants of a project, and writes the lock. `variants` are those to be recorded, each after
/// those that it takes something from.
///
/// # Errors
/// As [`record`]; what was recorded of earlier variants is in the lock then.
pub fn record_all(
    context: BuildContext<'_>,
    project: &Project,
    variants: &[Project],
    names: &[String],
) -> Result<Vec<(String, Recorded)>, EngineError> {
    let recorded = |spec: &Spec| -> Vec<String> {
        spec.steps.iter().filter(|step| step.recorded.is_some()).map(|step| step.name.value.clone()).collect()
    };
    let known: BTreeSet<_> = variants.iter().flat_map(|variant| recorded(&variant.spec)).collect();
    if let Some(name) = names.iter().find(|name| !known.contains(*name)) {
        return Err(RecordError::NoStep { name: name.clone(), known: known.into_iter().collect() }.into());
    }
    let mut done = Vec::new();
    for variant in variants {
        let own = recorded(&variant.spec);
        let wanted: Vec<_> = names.iter().filter(|name| own.contains(name)).cloned().collect();
        if own.is_empty() || (wanted.is_empty() && !names.is_empty()) {
            continue;
        }
        let before = project::read_lock(&project.dir)?.ok_or(EngineError::Lock(LockError::NoLock))?;
        let mut pins = project::pins(variant, &before)?;
        project::fits_but_for_records(variant, &pins)?;
        project::check_files(variant, &pins)?;
        let recorded = record(context, variant, &mut pins, &wanted)?;
        let mut whole = before.with_pins(&pins);
        locking::keep_seals(project, Some(&before), &mut whole);
        if whole != before {
            locking::write(&project.dir, &whole)?;
        }
        done.extend(recorded.into_iter().map(|one| (variant.spec.variant.clone(), one)));
    }
    Ok(done)
}

/// Writes a record into its file, and says what is to be pinned.
fn write(
    project: &Project,
    step: &str,
    record: &Record,
    plan: &Plan,
    position: usize,
) -> Result<RecordPin, EngineError> {
    let text = record.to_text();
    let variant = (!project.spec.is_default).then_some(project.spec.variant.as_str());
    let (dir, name) = (project.dir.join(DIRECTORY), file_name(step, variant));
    fs::create_dir_all(&dir).map_err(file_error("make", &dir))?;
    // A clone may have a link in its place.
    let dir = project.bounds.real(DIRECTORY)?;
    cavrith_store::atomic::write_unlinked(&dir.join(&name), text.as_bytes())?;
    Ok(RecordPin {
        step: step.to_owned(),
        hosts: record.hosts(),
        requests: record.answers.len() as u64,
        bytes: record.bytes(),
        record: name,
        sha256: Sha256Digest::of(text.as_bytes()),
        over: plan.key_to_record(position),
    })
}
