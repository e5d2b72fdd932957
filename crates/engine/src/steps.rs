//! What runs in the sandbox while an image is built: its steps, and the probes of its toolchains.

use std::fs::{self, Permissions};
use std::os::unix::fs::PermissionsExt as _;
use std::path::PathBuf;
use std::time::Duration;

use cavrith_core::account::ACCOUNT_ID;
use cavrith_core::digest::TreeDigest;
use cavrith_core::lock::Lock;
use cavrith_core::path::RootPath;
use cavrith_core::plan::{Content, PlannedLayer};
use cavrith_core::seal::ProbeAnswer;
use cavrith_core::setup::Setup;
use cavrith_core::spec::Spec;
use cavrith_core::tree::Tree;
use cavrith_sandbox::Session;
use cavrith_sandbox::job::{CommandJob, Ending, FolderMount, Job, Purpose};
use cavrith_sandbox::session::Lines;
use cavrith_store::Store;
use cavrith_store::records::ImageRecord;
use cavrith_store::staging::Staging;
use cavrith_store::walk;
use cavrith_store::writer::StagedLayer;

use crate::build::Workshop;
use crate::error::{EngineError, file_error};
use crate::event::Event;

/// How long a step or a probe may take.
const LIMIT: Duration = Duration::from_secs(3600);
/// Bytes of an answer that are looked at.
const LONGEST_ANSWER: usize = 64 * 1024;
/// Lines that are shown of a step that failed.
const LAST_LINES: usize = 20;
/// The host name of every build.
const HOST_NAME: &str = "cavrith";

/// A directory in staging as the sandbox wants it: an empty upper directory with the rights of the merged root, and what overlayfs
/// needs beside it.
///
/// # Errors
/// When the disk refuses.
pub fn bench(staging: &Staging, merged: Option<&Tree>) -> Result<PathBuf, EngineError> {
    let bench = staging.new_dir()?;
    make_bench(&bench, merged)?;
    Ok(bench)
}

/// As [`bench()`], in a directory that is there.
///
/// # Errors
/// When the disk refuses.
pub fn make_bench(bench: &std::path::Path, merged: Option<&Tree>) -> Result<(), EngineError> {
    for name in ["root", "work", "merged"] {
        let path = bench.join(name);
        fs::create_dir(&path).map_err(file_error("make", &path))?;
    }
    let upper = bench.join("root");
    let meta = merged.and_then(|tree| tree.get(&RootPath::root())).map(|root| root.meta.clone());
    let (mode, uid, gid) = meta.map_or((0o755, 0, 0), |meta| (meta.mode, meta.uid, meta.gid));
    std::os::unix::fs::chown(&upper, Some(uid), Some(gid)).map_err(file_error("change the owner of", &upper))?;
    fs::set_permissions(&upper, Permissions::from_mode(mode.into())).map_err(file_error("change the rights of", &upper))
}

/// Directories of layers, for a sandbox.
pub fn layer_roots<'a>(store: &Store, layers: impl IntoIterator<Item = &'a TreeDigest>) -> Vec<PathBuf> {
    layers.into_iter().map(|layer| store.layer_root(layer)).collect()
}

/// Runs a step over the layers below it, and takes what it changed as a layer.
pub(crate) fn make(
    workshop: Workshop<'_>,
    planned: &PlannedLayer,
    below: &[TreeDigest],
    merged: &Tree,
    epoch: u64,
) -> Result<StagedLayer, EngineError> {
    let Content::Step { run, env } = &planned.content else { unreachable!("BUG: this layer is no step") };
    let bench = bench(workshop.staging, Some(merged))?;
    let job = Job {
        layers: layer_roots(workshop.store, below),
        bench: bench.clone(),
        host_name: HOST_NAME.to_owned(),
        folders: Vec::new(),
        purpose: Purpose::Build,
        oddities: workshop.oddities,
    };
    let session = Session::begin(job, workshop.identity)?;
    session.notes().iter().for_each(|text| (workshop.observer)(Event::Note { text: text.clone() }));
    let command =
        CommandJob { argv: run.argv(), env: env.clone(), directory: "/".to_owned(), id: 0, terminal: [false; 3] };
    let (mut lines, mut last_lines) = (Lines::default(), Vec::new());
    let mut on_line = |line: &str| {
        if last_lines.len() == LAST_LINES {
            last_lines.remove(0);
        }
        last_lines.push(line.to_owned());
        (workshop.observer)(Event::Output { layer: planned.name.clone(), line: line.to_owned() });
    };
    let ending = session.run(&command, LIMIT, &mut |bytes| lines.take(bytes, &mut on_line))?;
    lines.finish(&mut on_line);
    drop(session);
    match ending {
        None => return Err(EngineError::TooLong(planned.name.clone())),
        Some(Ending::Code(0)) => {}
        Some(ending) => {
            return Err(EngineError::Step { step: planned.name.clone(), ending, last_lines });
        }
    }
    for name in ["work", "merged"] {
        let path = bench.join(name);
        fs::remove_dir_all(&path).map_err(file_error("remove", &path))?;
    }
    Ok(walk::capture(bench, epoch)?)
}

/// A command of the account, in a workspace with this setup.
pub fn account_command(setup: &Setup, argv: Vec<String>) -> CommandJob {
    CommandJob { argv, env: setup.env.clone(), directory: "/".to_owned(), id: ACCOUNT_ID, terminal: [false; 3] }
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
    let job = Job {
        layers: layer_roots(workshop.store, record.layers.iter().map(|layer| &layer.tree)),
        bench: bench(workshop.staging, None)?,
        host_name: setup.host_name.clone(),
        folders,
        purpose: Purpose::Workspace,
        oddities: workshop.oddities,
    };
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
        if answer.answer != pin.probe.answer {
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
        let command = account_command(setup, pin.probe.run.clone());
        let ending = session.run(&command, LIMIT, &mut |bytes| {
            output.extend(bytes);
            output.truncate(LONGEST_ANSWER);
        });
        let said = String::from_utf8_lossy(&output);
        let said = said.strip_suffix('\n').unwrap_or(&said);
        let answer = match ending {
            Ok(Some(ending)) if ending.is_good() => said.to_owned(),
            Ok(Some(ending)) => format!("{said} ({ending})"),
            Ok(None) => return Err(EngineError::TooLong(format!("probe of {}", pin.name))),
            Err(cavrith_sandbox::SandboxError::NotStarted { why, .. }) => why,
            Err(error) => return Err(error.into()),
        };
        answers.push(ProbeAnswer { toolchain: pin.name.clone(), run: pin.probe.run.clone(), answer });
    }
    Ok(answers)
}
