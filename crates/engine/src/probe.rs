//! Sandboxes over layers while an image is built, and the probes of its toolchains in them.

use std::time::Duration;

use cavrith_core::account::ACCOUNT_ID;
use cavrith_core::derive::setup::program_directories;
use cavrith_core::lock::Lock;
use cavrith_core::seal::ProbeAnswer;
use cavrith_core::setup::Setup;
use cavrith_core::spec::Spec;
use cavrith_sandbox::job::{CommandJob, FolderMount, Job, Purpose};
use cavrith_sandbox::{Runtime, Session};
use cavrith_store::records::ImageRecord;

use crate::context::BuildContext;
use crate::error::{BuildError, EngineError};
use crate::event::Event;
use crate::overlay_scratch::{self, layer_roots};

/// How long a probe or a guard may take.
pub(crate) const LIMIT: Duration = Duration::from_secs(600);
/// Bytes of an answer that are examined.
const LONGEST_ANSWER: usize = 64 * 1024;

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
    context: BuildContext<'_>,
    record: &ImageRecord,
    setup: &Setup,
    folders: Vec<FolderMount>,
) -> Result<Session, EngineError> {
    let layers = layer_roots(context, record.layers.iter().map(|layer| &layer.tree))?;
    let overlay_scratch = overlay_scratch::new(context.staging, None, context.store.ownership())?;
    let mut job = Job::new(Purpose::Workspace, layers, overlay_scratch, &setup.host_name);
    (job.folders, job.perturbations, job.only) = (folders, context.perturbations, (ACCOUNT_ID, ACCOUNT_ID));
    Ok(Session::begin(job, context.identity)?)
}

/// Asks every toolchain for its version, and holds the answers against the lock.
pub(crate) fn probe(
    context: BuildContext<'_>,
    spec: &Spec,
    lock: &Lock,
    record: &ImageRecord,
) -> Result<Vec<ProbeAnswer>, EngineError> {
    if lock.toolchains.is_empty() {
        return Ok(Vec::new());
    }
    (context.observer)(Event::Stage { text: "asking the toolchains for their versions".to_owned() });
    let setup = Setup::new(spec, lock, &record.shell);
    let session = fresh_session(context, record, &setup, Vec::new())?;
    let answers = ask(&session, &setup, lock)?;
    for (pin, answer) in lock.toolchains.iter().zip(&answers) {
        if !pin.probe.is_answered_by(&answer.answer) {
            return Err(EngineError::Build(BuildError::Probe {
                toolchain: pin.name.clone(),
                run: pin.probe.run.join(" "),
                expected: pin.probe.answer.clone(),
                found: answer.answer.clone(),
                remedy: match &pin.source {
                    Some(_) => "mend its depot's entry, or its archive",
                    None if spec.is_trimmed() => {
                        "name its packages in base.keep, or leave it out of this variant: without = [\"toolchains.NAME\"]"
                    }
                    None => "say with probe and answer how it tells its version",
                },
            }));
        }
    }
    Ok(answers)
}

/// The answers of all probes of a lock, in its order. A probe that fails answers with how it failed.
///
/// # Errors
/// When the sandbox has ended.
pub fn ask(runtime: &dyn Runtime, setup: &Setup, lock: &Lock) -> Result<Vec<ProbeAnswer>, EngineError> {
    let mut answers = Vec::new();
    for pin in &lock.toolchains {
        let mut output = Vec::new();
        let mut command = account_command(setup, pin.probe.run.clone());
        if pin.also {
            // Its programs are not found by name otherwise.
            let path = command.env.entry("PATH".to_owned()).or_default();
            *path = format!("{}:{path}", program_directories(pin).join(":"));
        }
        let ending = runtime.run(&command, LIMIT, &mut |bytes| {
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
                return Err(EngineError::Build(BuildError::TooLong { what, limit: shown_seconds(LIMIT.as_secs()) }));
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
