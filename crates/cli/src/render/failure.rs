//! Why a command failed.

use cavrith_core::derive::fit::Misfit;
use cavrith_engine::EngineError;
use cavrith_engine::error::{BuildError, LockError, ProjectError, SealError};
use cavrith_sandbox::SandboxError;
use serde_json::{Value, json};

use crate::failure::Failure;
use crate::render::{mistakes, unlike};
use crate::screen::{Screen, in_words, styled};

/// What to do about a full disk.
const FULL: &str = "    the disk is full; make room, and run the same command again: what was finished is kept";

pub fn show(screen: &Screen, failure: &Failure) {
    let report =
        |text: &dyn std::fmt::Display| screen.insist(format_args!("{} {text}", styled(screen.err.bad, head(failure))));
    match failure {
        Failure::Engine(error) => match error {
            EngineError::Mistakes(findings) => mistakes::show(screen, findings),
            EngineError::Lock(LockError::Misfits(misfits)) => {
                report(error);
                for misfit in misfits {
                    screen.insist(format_args!(
                        "    {}: the spec says {}, the lock {}",
                        misfit.what, misfit.spec, misfit.lock
                    ));
                }
            }
            EngineError::Seal(SealError::NotReproducible(differences)) => {
                report(error);
                unlike::show(screen, differences);
            }
            EngineError::Build(BuildError::Step { last_lines, .. })
            | EngineError::Build(BuildError::Configure { last_lines, .. }) => {
                report(error);
                if last_lines.is_empty() {
                    screen.insist("    it wrote nothing");
                }
                for line in last_lines {
                    screen.insist(format_args!("    {}", cavrith_core::path::shown(line.as_bytes())));
                }
            }
            EngineError::Sandbox(SandboxError::Lacks { what, remedy }) => {
                report(&what);
                screen.insist(format_args!("    {remedy}"));
            }
            _ if error.is_full() => {
                report(error);
                screen.insist(FULL);
            }
            _ => report(error),
        },
        Failure::Exchange(error) => {
            report(error);
            if error.is_full() {
                screen.insist(FULL);
            }
        }
        Failure::Keeper(error) => report(error),
        Failure::Workspace(error) => report(error),
        Failure::Declined => screen.say("nothing was changed"),
        Failure::Own(_, text) => report(text),
    }
}

/// What a failure's line begins with.
/// The first line of a failure.
pub fn headline(screen: &Screen, failure: &Failure) -> String {
    format!("{} {}", styled(screen.err.bad, head(failure)), in_words(&sentence(failure)))
}

fn head(failure: &Failure) -> String {
    format!("failed[{}]:", failure.code())
}

/// A failure as `--json` has it: the same for every command.
pub fn as_json(failure: &Failure) -> Value {
    let engine = match failure {
        Failure::Engine(error) => Some(error),
        _ => None,
    };
    let (mut remedy, mut place, mut details) = (None, None, Vec::new());
    match engine {
        Some(
            EngineError::Sandbox(SandboxError::Lacks { remedy: what, .. })
            | EngineError::Lock(LockError::Suite { remedy: what, .. }),
        ) => {
            remedy = Some(what.clone());
        }
        Some(
            EngineError::File { path, .. }
            | EngineError::Project(ProjectError::NoFolder { path, .. })
            | EngineError::Project(ProjectError::Config { path, .. })
            | EngineError::Lock(LockError::ArchiveChanged { path, .. })
            | EngineError::Build(BuildError::NotTakeable { path, .. })
            | EngineError::Build(BuildError::Template { path, .. })
            | EngineError::Project(ProjectError::NoProject(path)),
        ) => place = Some(path.display().to_string()),
        Some(
            EngineError::Build(BuildError::Step { last_lines, .. })
            | EngineError::Build(BuildError::Configure { last_lines, .. }),
        ) => {
            details.extend(last_lines.iter().map(|line| json!(cavrith_core::path::shown(line.as_bytes()))));
        }
        Some(EngineError::Lock(LockError::Misfits(misfits))) => {
            let one = |misfit: &Misfit| json!({ "what": misfit.what, "spec": misfit.spec, "lock": misfit.lock });
            details.extend(misfits.iter().map(one));
        }
        Some(EngineError::Seal(SealError::NotReproducible(differences))) => {
            details.extend(differences.iter().filter_map(|difference| serde_json::to_value(difference).ok()));
        }
        Some(EngineError::Mistakes(findings)) => details.push(mistakes::as_json(findings)),
        _ => {}
    }
    let code = failure.code();
    json!({
        "failed": {
            "code": code.to_string(),
            "exit": failure.exit_code(),
            "title": code.explanation().title,
            "message": in_words(&sentence(failure)),
            "place": place,
            "remedy": remedy,
            "details": details,
        }
    })
}

/// A failure in one sentence.
pub fn sentence(failure: &Failure) -> String {
    match failure {
        Failure::Engine(error) => error.to_string(),
        Failure::Exchange(error) => error.to_string(),
        Failure::Keeper(error) => error.to_string(),
        Failure::Workspace(error) => error.to_string(),
        Failure::Declined => "nothing was changed".to_owned(),
        Failure::Own(_, text) => text.clone(),
    }
}
