//! `cavrith build`

use std::time::Instant;

use cavrith_core::lock::Lock;
use cavrith_core::setup::Setup;
use cavrith_core::verdict::{count, size};
use cavrith_engine::build::{self, Built};
use cavrith_engine::context::BuildContext;
use cavrith_engine::project::Project;
use cavrith_sandbox::job::Perturbations;
use serde_json::json;

use crate::args::{Build, General};
use crate::build_env::{self, BuildEnv};
use crate::commands::{Outcome, locked_project};
use crate::failure::Failure;
use crate::render::progress::{Progress, Where, seconds};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Build) -> Outcome {
    let started = Instant::now();
    let (project, lock) = locked_project(general)?;
    let built = match found(&project, &lock, command.fresh)? {
        Some(built) => built,
        None => {
            let build_env = BuildEnv::open()?;
            let place = if command.report.json { Where::Nowhere } else { Where::Result };
            with_progress(screen, &build_env, place, command.fresh, |context| {
                Ok(build::build(context, &project, &lock)?)
            })?
        }
    };
    let setup = Setup::new(&project.spec, &lock, &built.record.shell);
    let workspace = setup.fingerprint(&built.record.image);
    if command.report.json {
        screen.json(&json!({
            "image": built.record.image,
            "words": built.record.image.spoken(),
            "workspace": workspace,
            "layers": built.record.layers,
            "work": built.layers,
            "entries": built.record.entries,
            "bytes": built.record.bytes,
            "millis": started.elapsed().as_millis() as u64,
        }));
    } else if !screen.quiet {
        summary(screen, &built, started);
    }
    if let Some(seal) = lock.seal.as_ref().filter(|seal| seal.image != built.record.image) {
        let warning = styled(screen.err.warning, "warning");
        screen.insist(format_args!(
            "{warning} this is not what was sealed ({}); cavrith verify names the differences",
            seal.words
        ));
    }
    Ok(0)
}

/// The image, when it is there already: then nothing of the machine is needed.
fn found(project: &Project, lock: &Lock, fresh: bool) -> Result<Option<Built>, Failure> {
    if fresh {
        return Ok(None);
    }
    Ok(build::find(&build_env::store()?.1, project, lock)?)
}

/// The last lines of a build: what there is now, what was made and reused, how long it took.
fn summary(screen: &Screen, built: &Built, started: Instant) {
    let reused = built.layers.iter().filter(|layer| layer.reused).count();
    let made = built.layers.len() - reused;
    let how = match (made, reused) {
        (0, 0) => "nothing to do".to_owned(),
        (made, 0) => format!("{} made", count(made, "layer")),
        (0, reused) => format!("{} reused", count(reused, "layer")),
        (made, reused) => format!("{} made, {reused} reused", count(made, "layer")),
    };
    let took = seconds(started.elapsed().as_millis() as u64);
    let record = &built.record;
    screen.result(format_args!(
        "{} {}  {} entries, {}; {how}, in {took}",
        styled(screen.out.good, "image"),
        styled(screen.out.strong, record.image.spoken()),
        record.entries,
        size(record.bytes),
    ));
}

/// Does some work on a bench, and shows its progress.
pub fn with_progress<T>(
    screen: &Screen,
    build_env: &BuildEnv,
    place: Where,
    fresh: bool,
    work: impl FnOnce(BuildContext<'_>) -> Result<T, Failure>,
) -> Result<T, Failure> {
    let progress = Progress::new(screen, place);
    let observer = |event| progress.show(event);
    let perturbations = Perturbations::default();
    let outcome = work(BuildContext {
        store: &build_env.store_session.store,
        staging: &build_env.store_session.staging,
        web: &build_env.store_session.web,
        member: &build_env.store_session.member,
        blobs: &build_env.store_session.store,
        identity: build_env.identity,
        observer: &observer,
        fresh,
        perturbations,
    });
    progress.finish();
    outcome
}

/// The image of a project, built when it is not there. What is made is reported on standard error.
pub fn ensure(screen: &Screen, build_env: &BuildEnv, project: &Project, lock: &Lock) -> Result<Built, Failure> {
    with_progress(screen, build_env, Where::Aside, false, |context| Ok(build::build(context, project, lock)?))
}
