//! `cavrith verify`

use cavrith_core::verdict::Standing;
use cavrith_engine::EngineError;
use cavrith_engine::error::LockError;
use cavrith_engine::project;
use cavrith_workspace::{WorkspaceError, verifying};

use crate::args::{General, Report};
use crate::build_env::{self, BuildEnv};
use crate::commands::{Outcome, build};
use crate::render::progress::Where;
use crate::render::verdict;
use crate::screen::Screen;

pub fn exec(general: &General, screen: &Screen, command: &Report) -> Outcome {
    let project = project::load(&project::find(general.project())?, general.variant.as_deref())?;
    // A lock that does not answer its spec is a difference here, and reported as one.
    let lock = project::read_lock(&project.dir)?.ok_or(EngineError::Lock(LockError::NoLock))?;
    let lock = project::pins(&project, &lock)?;
    if lock.seal.is_none() {
        return Err(WorkspaceError::NoSeal.into());
    }
    let build_env = BuildEnv::open()?;
    let (home, _) = build_env::store()?;
    let place = if command.json { Where::Nowhere } else { Where::Aside };
    let verdict = build::with_progress(screen, &build_env, place, false, |context| {
        Ok(verifying::verify(context, &home, &project, &lock)?)
    })?;
    let words = lock.seal.as_ref().map(|seal| seal.words.clone()).unwrap_or_default();
    if command.json {
        screen.json(&verdict::as_json(&verdict, &words));
    } else {
        verdict::show(screen, &verdict, &words);
    }
    Ok(match verdict.standing() {
        Standing::Same => 0,
        Standing::Different => 1,
        Standing::NotMeasured => 3,
    })
}
