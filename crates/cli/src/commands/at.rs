//! `cavrith at`

use std::path::Path;
use std::process::Stdio;

use cavrith_core::verdict::count;
use cavrith_engine::bringing;
use cavrith_engine::project::{self, Project};
use cavrith_exchange::revisions;
use cavrith_keeper::client::Client;
use cavrith_keeper::place::{Place, name_of_revision};
use cavrith_workspace::beside;
use serde_json::{Value, json};

use crate::args::{At, General};
use crate::build_env::{self, BuildEnv};
use crate::commands::own::Own;
use crate::commands::{Outcome, build};
use crate::failure::Failure;
use crate::render::progress::Where;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &At) -> Outcome {
    let home = build_env::home()?;
    let project = project::find(general.project())?;
    let commit = revisions::resolve(&project, &command.revision)?;
    let folder = beside::of_commit(&project, &commit)?;
    if command.remove {
        return remove(general, screen, command, (&project, &folder), &commit);
    }
    let dir = beside::lay_out(&project, &commit, &folder)?;
    // What the member allowed the project holds for its other revisions.
    let general = &general.allowing(beside::allowed(&project)?);
    let own = Own { dir: &dir, general, variant: general.variant.clone(), quiet: screen.quiet };
    let known = Place::all(&home).into_iter().find(|place| place.is_of(&dir));
    let ran = known.as_ref().is_some_and(|place| Client::new(place).is_some());
    let name = match &known {
        Some(place) => place.name.clone(),
        None => name_of(&project::load(&dir, general.variant.as_deref())?, &command.revision, &commit),
    };
    screen.say(format_args!(
        "{} is {} of {}, beside the present workspace",
        styled(screen.err.strong, &name),
        beside::short(&commit),
        project.display()
    ));
    let started = own.answer(&["start", "--wait", "--json", "--known", "--called", &name]);
    let started = started.map_err(|failure| match failure.exit_code() {
        // A source that could not be had: there may be more of them.
        3 | 4 => tell_what_is_gone(screen, &dir, general, command).unwrap_or(failure),
        _ => failure,
    })?;
    if command.command.is_empty() {
        tell(screen, command, &started, &commit, &dir.display().to_string());
        return Ok(if started["good"] == Value::Bool(false) { 5 } else { 0 });
    }
    let mut run = own.command(&["run"])?;
    run.arg("--").args(&command.command);
    let status = run.status().map_err(|error| Failure::Own(3, format!("cannot run this program: {error}")))?;
    if !ran {
        let mut stop = own.command(&["stop"])?;
        let _ = stop.stdout(Stdio::null()).stderr(Stdio::null()).status();
    }
    Ok(status.code().and_then(|code| u8::try_from(code).ok()).unwrap_or(255))
}

/// Says everything that can be had nowhere any more, and where it could come from.
fn tell_what_is_gone(screen: &Screen, dir: &Path, general: &General, command: &At) -> Option<Failure> {
    let project = project::load(dir, general.variant.as_deref()).ok()?;
    let lock = project::load_pins(&project).ok()?;
    let build_env = BuildEnv::open().ok()?;
    let place = Where::Nowhere;
    let gone = build::with_progress(screen, &build_env, place, false, |context| {
        Ok(bringing::bring_what_is_there(context, &project, &lock)?)
    });
    let gone = gone.ok().filter(|gone| !gone.is_empty())?;
    for one in &gone {
        let sha256 = one.sha256.to_string();
        screen.insist(format_args!(
            "    {}  {}",
            styled(screen.err.strong, &one.what),
            styled(screen.err.faint, format_args!("sha256 {}", &sha256[..16]))
        ));
    }
    screen.insist("    whoever built it has them in their store: cavrith depot fill makes a depot of them, which");
    screen.insist("    depots in your config.toml names; finished layers come from the team's [cache]");
    Some(Failure::Own(
        4,
        format!("{} of {} can be had nowhere any more", count(gone.len(), "pinned file"), command.revision),
    ))
}

/// What the workspace of a revision is called: by a tag or branch as it was typed, else by the commit.
fn name_of(project: &Project, typed: &str, commit: &str) -> String {
    let spelled = typed.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'-' | b'_' | b'/'));
    let named = spelled && !commit.starts_with(typed) && typed != "HEAD";
    name_of_revision(&project.spec.name(), if named { typed } else { commit })
}

fn tell(screen: &Screen, command: &At, started: &Value, commit: &str, dir: &str) {
    let name = started["name"].as_str().unwrap_or_default();
    if command.report.json {
        screen.json(&json!({
            "name": name,
            "commit": commit,
            "project": dir,
            "good": started["good"],
            "ports": started["status"]["ports"],
        }));
        return;
    }
    if screen.quiet {
        return;
    }
    for port in started["status"]["ports"].as_array().into_iter().flatten() {
        let (Some(port_name), Some(outside)) = (port["name"].as_str(), port["outside"].as_u64()) else { continue };
        screen.result(format_args!("{port_name} is at port {outside} of this machine"));
    }
    screen.result(format_args!("{} runs; its files are in {dir}", styled(screen.out.strong, name)));
    screen.result(format_args!("    cavrith enter --name {name}      a shell inside"));
    screen.result(format_args!("    cavrith stop --name {name}       stops it"));
    screen.result(format_args!("    cavrith at --remove {}", command.revision));
}

/// Drops the workspace of a revision as `cavrith drop` does, and removes its folder, unless somebody worked in it.
fn remove(
    general: &General,
    screen: &Screen,
    command: &At,
    (project, folder): (&Path, &Path),
    commit: &str,
) -> Outcome {
    let short = beside::short(commit);
    if !folder.exists() {
        screen.say(format_args!("there is no workspace of {short}; nothing to remove"));
        return Ok(0);
    }
    let untouched = revisions::state(folder).is_some_and(|(at, changed)| !changed && at == commit);
    if !beside::is_ours(project, folder) || !untouched || revisions::has_own_files(folder) {
        let text = format!(
            "{} has something that is not in {short}; take it out, or remove the folder by hand",
            folder.display()
        );
        return Err(Failure::Own(2, text));
    }
    let home = build_env::home()?;
    for place in beside::workspaces(&home, folder) {
        let own = Own { dir: &place.project, general, variant: None, quiet: screen.quiet };
        own.passed(&["drop", "--yes", "--name", &place.name])?;
    }
    beside::remove(folder)?;
    if command.report.json {
        screen.json(&json!({ "commit": commit, "removed": folder }));
    } else {
        screen.say(format_args!("{} is removed", folder.display()));
    }
    Ok(0)
}
