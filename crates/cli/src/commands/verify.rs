//! `cavrith verify`

pub mod watch;

use std::time::Instant;

use cavrith_core::lock::Lock;
use cavrith_core::oci::image::Platform;
use cavrith_core::verdict::{Standing, Verdict};
use cavrith_engine::EngineError;
use cavrith_engine::error::LockError;
use cavrith_engine::home::Home;
use cavrith_engine::project::{self, Project};
use cavrith_engine::team;
use cavrith_exchange::reports::{self, ReportPlace};
use cavrith_workspace::WorkspaceError;
use cavrith_workspace::reporting::{self, Made, Signer};
use cavrith_workspace::verifying::{self, Depth};
use serde_json::json;

use self::watch::Watched;
use crate::args::{General, Verify};
use crate::build_env::{self, BuildEnv};
use crate::commands::{Outcome, build};
use crate::failure::Failure;
use crate::keys;
use crate::render::failure::sentence;
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
        return watch::exec(general, screen, Watched { quick: command.quick, json: command.answer.json }, &project);
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
    let (home, project, lock) = (&home, &project, &lock);
    let reporter = Reporter { screen, home, project, lock, verdict: (&verdict, took), build_env: &build_env, command };
    let made = reporter.reported()?;
    let words = lock.seal.as_ref().map(|seal| seal.words.clone()).unwrap_or_default();
    if command.answer.json {
        let mut value = verdict::as_json(&verdict, &words);
        if let Some(entries) = value.as_object_mut() {
            entries.insert("quick".to_owned(), command.quick.into());
        }
        if let (Some(entries), Some((made, at))) = (value.as_object_mut(), &made) {
            let put = at.first();
            entries.insert("report".to_owned(), json!({ "by": made.by, "kept": made.kept, "put": put, "places": at }));
        }
        screen.json(&value);
    } else {
        verdict::show(screen, &verdict, &words, depth);
        if let Some((made, at)) = &made {
            let by = made.by.as_deref().unwrap_or("nobody by name");
            let kept = [made.kept.display().to_string()];
            for place in if at.is_empty() { &kept[..] } else { at } {
                screen.say(format_args!("{} as {by}: {place}", styled(screen.err.good, "reported")));
            }
        }
    }
    Ok(match verdict.standing() {
        Standing::Same => 0,
        Standing::Different => 1,
        Standing::NotMeasured => 3,
    })
}

/// What is reported, and with what.
struct Reporter<'a> {
    screen: &'a Screen,
    home: &'a Home,
    project: &'a Project,
    lock: &'a Lock,
    /// What was measured, and how long that took, in milliseconds.
    verdict: (&'a Verdict, u64),
    build_env: &'a BuildEnv,
    command: &'a Verify,
}

impl Reporter<'_> {
    /// Reports, when that is wanted. What nobody asked for just now must not fail, and is told instead.
    fn reported(&self) -> Result<Option<(Made, Vec<String>)>, Failure> {
        if self.command.report {
            return self.report().map(Some);
        }
        let declared = self.project.spec.team.as_ref();
        let own = self.build_env.store_session.member.config.automatic_reports;
        let is_wanted = own.unwrap_or(declared.is_some_and(|team| team.automatic_reports));
        let has_place = declared.is_some_and(|team| team.reports.is_some() || team.registry.is_some());
        if self.command.quick || self.command.no_report || !is_wanted || !has_place {
            return Ok(None);
        }
        match self.report() {
            Ok(made) => Ok(Some(made)),
            Err(why) => {
                let note = styled(self.screen.err.warning, "note");
                self.screen.say(format_args!("{note} nothing was reported: {}", sentence(&why)));
                Ok(None)
            }
        }
    }

    /// Makes the report of a verdict, and puts it where it is wanted. Gives the places, when it is not only kept.
    fn report(&self) -> Result<(Made, Vec<String>), Failure> {
        let Self { screen, home, project, lock, build_env, command, .. } = *self;
        let team = team::signed(project)?;
        let signer =
            if command.anonymous { Signer::Nobody } else { Signer::Member(&team.now, keys::choice(&command.key)) };
        let typed = command.to.as_deref().map(|text| ReportPlace::parse(text, false)).transpose()?;
        let declared = project.spec.team.as_ref().filter(|_| typed.is_none());
        let folder = declared.and_then(|team| team.reports.as_ref());
        let mut images: Vec<_> =
            declared.and_then(|team| team.registry.as_ref()).map(|at| &at.value).into_iter().collect();
        if let Some(ReportPlace::Registry(reference)) = &typed {
            images.push(reference);
        }
        let is_sent = typed.is_some() || folder.is_some() || !images.is_empty();
        let version = env!("CARGO_PKG_VERSION");
        let made = reporting::make(home, (project, lock), self.verdict, build_env.identity, version, signer, is_sent)?;
        let mut put = Vec::new();
        if let Some(ReportPlace::Folder(dir)) = &typed {
            put.push(reporting::put_into(dir, &made)?.display().to_string());
        }
        if let Some(folder) = folder {
            put.push(reporting::put_into_project(project, &folder.value, &made)?.display().to_string());
        }
        let platform = Platform::of(lock, cavrith_engine::build::architecture());
        for reference in images {
            build::with_progress(screen, build_env, Where::Nowhere, false, |context| {
                Ok(reports::attach(context.supply(), reference, &platform, &made.text)?)
            })?;
            put.push(reference.to_string());
        }
        Ok((made, put))
    }
}
