//! `cavrith verify`

mod watch;

use std::path::PathBuf;
use std::time::Instant;

use cavrith_core::lock::Lock;
use cavrith_core::verdict::{Standing, Verdict};
use cavrith_engine::EngineError;
use cavrith_engine::error::LockError;
use cavrith_engine::home::Home;
use cavrith_engine::project::{self, Project};
use cavrith_engine::team;
use cavrith_workspace::WorkspaceError;
use cavrith_workspace::reporting::{self, Made, Signer};
use cavrith_workspace::verifying::{self, Depth};
use serde_json::json;

use crate::args::{General, Verify};
use crate::build_env::{self, BuildEnv};
use crate::commands::{Outcome, build};
use crate::failure::Failure;
use crate::keys;
use crate::render::progress::Where;
use crate::render::verdict;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Verify) -> Outcome {
    let project = project::load(&project::find(general.project())?, general.variant.as_deref())?;
    // A lock that does not answer its spec is a difference here, and reported as one.
    let lock = project::read_lock(&project.dir)?.ok_or(EngineError::Lock(LockError::NoLock))?;
    let lock = project::pins(&project, &lock)?;
    if lock.seal.is_none() {
        return Err(WorkspaceError::NoSeal.into());
    }
    if command.watch {
        return watch::exec(general, screen, command, &project);
    }
    let depth = if command.quick { Depth::Quick } else { Depth::Full };
    let build_env = BuildEnv::open()?;
    let (home, _) = build_env::store()?;
    let place = if command.answer.json { Where::Nowhere } else { Where::Aside };
    let started = Instant::now();
    let verdict = build::with_progress(screen, &build_env, place, false, |context| {
        Ok(verifying::verify(context, &home, &project, &lock, depth)?)
    })?;
    let took = started.elapsed().as_millis() as u64;
    let made = if command.report {
        Some(report(&home, (&project, &lock), (&verdict, took), &build_env, command)?)
    } else {
        None
    };
    let words = lock.seal.as_ref().map(|seal| seal.words.clone()).unwrap_or_default();
    if command.answer.json {
        let mut value = verdict::as_json(&verdict, &words);
        if let Some(entries) = value.as_object_mut() {
            entries.insert("quick".to_owned(), command.quick.into());
        }
        if let (Some(entries), Some((made, at))) = (value.as_object_mut(), &made) {
            entries.insert("report".to_owned(), json!({ "by": made.by, "kept": made.kept, "put": at }));
        }
        screen.json(&value);
    } else {
        verdict::show(screen, &verdict, &words, depth);
        if let Some((made, at)) = &made {
            let by = made.by.as_deref().unwrap_or("nobody by name");
            let at = at.as_deref().unwrap_or(&made.kept);
            screen.say(format_args!("{} as {by}: {}", styled(screen.err.good, "reported"), at.display()));
        }
    }
    Ok(match verdict.standing() {
        Standing::Same => 0,
        Standing::Different => 1,
        Standing::NotMeasured => 3,
    })
}

/// Makes the report of a verdict, and puts it where it is wanted. Gives where that is, when it is not only kept.
fn report(
    home: &Home,
    pair: (&Project, &Lock),
    verdict: (&Verdict, u64),
    build_env: &BuildEnv,
    command: &Verify,
) -> Result<(Made, Option<PathBuf>), Failure> {
    let project = pair.0;
    let team = team::signed(project)?;
    let signer = if command.anonymous { Signer::Nobody } else { Signer::Member(&team.now, keys::choice(&command.key)) };
    let folder = project.spec.team.as_ref().and_then(|team| team.reports.as_ref());
    let is_sent = command.to.is_some() || folder.is_some();
    let version = env!("CARGO_PKG_VERSION");
    let made = reporting::make(home, pair, verdict, build_env.identity, version, signer, is_sent)?;
    let put = match (&command.to, folder) {
        (Some(dir), _) => Some(reporting::put_into(dir, &made)?),
        (None, Some(folder)) => Some(reporting::put_into_project(project, &folder.value, &made)?),
        (None, None) => None,
    };
    Ok((made, put))
}
