//! The member's word for what a project uses outside its own tree.

use std::io::{BufRead as _, IsTerminal as _};
use std::os::unix::process::CommandExt as _;
use std::process::{Command, ExitCode};

use cavrith_engine::error::ProjectError;
use cavrith_engine::{EngineError, outside, project};

use crate::args::General;
use crate::failure::Failure;
use crate::screen::{Screen, styled};

/// Remembers what was allowed on the command line.
pub fn given(general: &General, screen: &Screen) -> Result<(), Failure> {
    for path in &general.allow_outside {
        let dir = project::find(general.project())?;
        let real = outside::allow(&dir, path)?;
        screen.say(format_args!("{} may use {} from now on", dir.display(), real.display()));
    }
    Ok(())
}

/// Asks at a terminal about what a project wants from outside; true when all of it was allowed, and is remembered.
pub fn asked(screen: &Screen, failure: &Failure) -> bool {
    let Failure::Engine(EngineError::Project(ProjectError::Outside { project, uses })) = failure else {
        return false;
    };
    let can_be = uses.iter().all(|one| one.never.is_none());
    if !can_be || !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal() {
        return false;
    }
    screen.insist(format_args!("The spec of {} wants what lies outside the project:", project.display()));
    for one in uses {
        screen.insist(format_args!("    {}, in {}", one.what, styled(screen.err.strong, one.place())));
    }
    screen.insist("Programs of the project can then read it, and write to folders. May it, from now on? [y/N] ");
    let mut answer = String::new();
    // Nothing typed, for whatever reason, is no.
    let _ = std::io::stdin().lock().read_line(&mut answer);
    matches!(answer.trim().to_lowercase().as_str(), "y" | "yes")
        && uses.iter().all(|one| outside::allow(project, &one.path).is_ok())
}

/// Begins the command anew: nothing of it was done yet.
pub fn again(screen: &Screen) -> ExitCode {
    let error = Command::new("/proc/self/exe").args(std::env::args_os().skip(1)).exec();
    screen.insist(format_args!("it is allowed, but the command cannot begin anew: {error}; type it again"));
    ExitCode::from(3)
}
