//! Sandboxes over layers while an image is built, and the probes of its toolchains in them.

use std::fs::{self, Permissions};
use std::os::unix::fs::PermissionsExt as _;
use std::path::PathBuf;
use std::time::{Duration, SystemTime};

use cavrith_core::account::ACCOUNT_ID;
use cavrith_core::digest::TreeDigest;
use cavrith_core::lock::Lock;
use cavrith_core::path::RootPath;
use cavrith_core::seal::ProbeAnswer;
use cavrith_core::setup::{Setup, program_directories};
use cavrith_core::spec::Spec;
use cavrith_core::tree::Tree;
use cavrith_sandbox::Session;
use cavrith_sandbox::job::{CommandJob, FolderMount, Job, Purpose};
use cavrith_store::owners::{self, Ownership};
use cavrith_store::records::ImageRecord;
use cavrith_store::staging::Staging;

use crate::build::Workshop;
use crate::error::{EngineError, file_error};
use crate::event::Event;

/// How long a probe or a guard may take.
pub(crate) const LIMIT: Duration = Duration::from_secs(600);
/// Bytes of an answer that are looked at.
const LONGEST_ANSWER: usize = 64 * 1024;

/// A directory in staging as the sandbox wants it: an empty upper directory with the rights of the merged root, and
/// what overlayfs needs beside it.
///
/// # Errors
/// When the disk refuses.
pub fn bench(staging: &Staging, merged: Option<&Tree>, ownership: Ownership) -> Result<PathBuf, EngineError> {
    let bench = staging.new_dir()?;
    make_bench(&bench, merged, ownership)?;
    Ok(bench)
}

/// As [`bench()`], in a directory that is there.
///
/// # Errors
/// When the disk refuses.
pub fn make_bench(bench: &std::path::Path, merged: Option<&Tree>, ownership: Ownership) -> Result<(), EngineError> {
    for name in ["root", "work", "merged"] {
        let path = bench.join(name);
        fs::create_dir(&path).map_err(file_error("make", &path))?;
    }
    let upper = bench.join("root");
    let meta = merged.and_then(|tree| tree.get(&RootPath::root())).map(|root| root.meta.clone());
    let time = meta.as_ref().map(|meta| meta.time);
    let (mode, uid, gid) = meta.map_or((0o755, 0, 0), |meta| (meta.mode, meta.uid, meta.gid));
    match ownership {
        Ownership::Real => std::os::unix::fs::chown(&upper, Some(uid), Some(gid)),
        Ownership::Recorded => owners::write(&upper, (uid, gid)),
    }
    .map_err(file_error("change the owner of", &upper))?;
    fs::set_permissions(&upper, Permissions::from_mode(mode.into()))
        .map_err(file_error("change the rights of", &upper))?;
    // Whether somebody writes into the root itself is told by its time stamp.
    let Some(time) = time.map(|seconds| SystemTime::UNIX_EPOCH + Duration::from_secs(seconds)) else { return Ok(()) };
    let set = fs::File::open(&upper).and_then(|root| root.set_modified(time));
    set.map_err(file_error("set the time of", &upper))
}

/// Directories of layers, for a sandbox of this command.
pub(crate) fn layer_roots<'a>(
    workshop: Workshop<'_>,
    layers: impl IntoIterator<Item = &'a TreeDigest>,
) -> Result<Vec<PathBuf>, EngineError> {
    Ok(workshop.store.lower_directories(layers, &workshop.staging.dir().join("bundles"))?)
}

/// A command of the account, in a workspace with this setup.
pub fn account_command(setup: &Setup, argv: Vec<String>) -> CommandJob {
    let (user, group) = (ACCOUNT_ID, ACCOUNT_ID);
    CommandJob { argv, env: setup.env.clone(), directory: "/".to_owned(), user, group, ..CommandJob::default() }
}

/// A sandbox over a whole image, as a fresh workspace has it.
///
/// # Errors
/// When the machine refuses something that it needs.
pub fn fresh_session(
    workshop: Workshop<'_>,
    record: &ImageRecord,
    setup: &Setup,
    folders: Vec<FolderMount>,
) -> Result<Session, EngineError> {
    let layers = layer_roots(workshop, record.layers.iter().map(|layer| &layer.tree))?;
    let bench = bench(workshop.staging, None, workshop.store.ownership())?;
    let mut job = Job::new(Purpose::Workspace, layers, bench, &setup.host_name);
    (job.folders, job.oddities, job.only) = (folders, workshop.oddities, (ACCOUNT_ID, ACCOUNT_ID));
    Ok(Session::begin(job, workshop.identity)?)
}

/// Asks every toolchain for its version, and holds the answers against the lock.
pub(crate) fn probe(
    workshop: Workshop<'_>,
    spec: &Spec,
    lock: &Lock,
    record: &ImageRecord,
) -> Result<Vec<ProbeAnswer>, EngineError> {
    if lock.toolchains.is_empty() {
        return Ok(Vec::new());
    }
    (workshop.observer)(Event::Stage { text: "asking the toolchains for their versions".to_owned() });
    let setup = Setup::new(spec, lock, &record.shell);
    let session = fresh_session(workshop, record, &setup, Vec::new())?;
    let answers = ask(&session, &setup, lock)?;
    for (pin, answer) in lock.toolchains.iter().zip(&answers) {
        if !pin.probe.is_answered_by(&answer.answer) {
            return Err(EngineError::Probe {
                toolchain: pin.name.clone(),
                run: pin.probe.run.join(" "),
                expected: pin.probe.answer.clone(),
                found: answer.answer.clone(),
            });
        }
    }
    Ok(answers)
}

/// The answers of all probes of a lock, in its order. A probe that fails answers with how it failed.
///
/// # Errors
/// When the sandbox is gone.
pub fn ask(session: &Session, setup: &Setup, lock: &Lock) -> Result<Vec<ProbeAnswer>, EngineError> {
    let mut answers = Vec::new();
    for pin in &lock.toolchains {
        let mut output = Vec::new();
        let mut command = account_command(setup, pin.probe.run.clone());
        if pin.also {
            // Its programs are not found by name otherwise.
            let path = command.env.entry("PATH".to_owned()).or_default();
            *path = format!("{}:{path}", program_directories(pin).join(":"));
        }
        let ending = session.run(&command, LIMIT, &mut |bytes| {
            output.extend(bytes);
            output.truncate(LONGEST_ANSWER);
        });
        let said = String::from_utf8_lossy(&output);
        let said = said.strip_suffix('\n').unwrap_or(&said);
        let answer = match ending {
            Ok(Some(ending)) if ending.is_good() => said.to_owned(),
            Ok(Some(ending)) => format!("{said} ({ending})"),
            Ok(None) => {
                let what = format!("probe of {}", pin.name);
                return Err(EngineError::TooLong { what, limit: shown_seconds(LIMIT.as_secs()) });
            }
            Err(cavrith_sandbox::SandboxError::NotStarted { why, .. }) => why,
            Err(error) => return Err(error.into()),
        };
        answers.push(ProbeAnswer { toolchain: pin.name.clone(), run: pin.probe.run.clone(), answer });
    }
    Ok(answers)
}

/// Seconds in words.
pub(crate) fn shown_seconds(seconds: u64) -> String {
    match seconds {
        seconds if seconds.is_multiple_of(3600) => format!("{} h", seconds / 3600),
        seconds if seconds.is_multiple_of(60) => format!("{} min", seconds / 60),
        seconds => format!("{seconds} s"),
    }
}
