//! `cavrith open`

use std::io::{BufRead as _, IsTerminal as _};
use std::process::{Command, Stdio};

use cavrith_core::editors::{OpenedPlace, opening, opening_inside};
use cavrith_engine::member::Member;
use cavrith_engine::{editors, project};
use cavrith_keeper::place::Place;
use cavrith_keeper::record::Record;
use cavrith_sandbox::programs::find_program;
use cavrith_workspace::opening::{self, IN_TERMINAL, Opener};
use cavrith_workspace::ssh_config;

use crate::args::{General, Open};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::enter;
use crate::commands::start::meant;
use crate::failure::Failure;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Open) -> Outcome {
    let home = build_env::home()?;
    let meant = meant(general, &home, &command.which);
    // Where it does not run yet, it is started before anything is said about places in it.
    drop(enter::running(screen, meant)?);
    let workspace = meant.found()?;
    let record = Record::read(&workspace.dir)
        .ok_or_else(|| Failure::Own(3, format!("there is no record of {}; start it anew", workspace.name)))?;
    let here = std::env::current_dir().unwrap_or_default();
    let place = opening::place(&workspace, &record.arrangement, command.place.as_deref(), &here)?;
    let config = Member::find()?.config;
    let locked = project::load(&workspace.project, Some(&record.arrangement.variant))
        .and_then(|project| project::load_lock(&project));
    let profile = locked.ok().and_then(|lock| lock.editor);
    match opening::opener(command.with.as_deref(), &config, profile.as_ref())? {
        Opener::Inside(program) => inside(general, screen, command, &opening_inside(&program, &place)),
        Opener::Any => {
            let mut script = String::new();
            for program in IN_TERMINAL {
                let words = opening_inside(program, &place);
                let options = words[1..words.len() - 1].join(" ");
                script += &format!("if command -v {program} > /dev/null; then exec {program} {options} \"$0\"; fi\n");
            }
            let none = "add one to base.packages, or say in config.toml which editor outside opens places";
            script += &format!("echo 'cavrith: none of {} is inside; {none}' >&2; exit 127", IN_TERMINAL.join(", "));
            inside(general, screen, command, &["sh", "-c", &script, &place.path].map(str::to_owned))
        }
        Opener::Own(words) => outside(screen, &words, &place),
        Opener::Team(name, words) => {
            consented(screen, &workspace, &name, &words)?;
            outside(screen, &words, &place)
        }
    }
}

fn inside(general: &General, screen: &Screen, command: &Open, words: &[String]) -> Outcome {
    enter::exec(general, screen, &command.which, None, words)
}

/// What a project says is never run outside before its member said so; then it is remembered, word by word.
fn consented(screen: &Screen, workspace: &Place, name: &str, words: &[String]) -> Result<(), Failure> {
    if editors::may_run(&workspace.project, words)? {
        return Ok(());
    }
    let shown = cavrith_core::path::shown(words.join(" ").as_bytes());
    if !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal() {
        let text = format!(
            "the team's profile opens {name} on this machine by: {shown}; type cavrith open at a terminal to allow \
             that, or write a command of your own for [editors.{name}] into config.toml"
        );
        return Err(Failure::Own(2, text));
    }
    screen.insist(format_args!("The team's profile opens {} on this machine by", styled(screen.err.strong, name)));
    screen.insist(format_args!("    {shown}"));
    screen.insist("May it, from now on? [y/N] ");
    let mut answer = String::new();
    let _ = std::io::stdin().lock().read_line(&mut answer);
    if !matches!(answer.trim().to_lowercase().as_str(), "y" | "yes") {
        return Err(Failure::Own(
            2,
            format!("nothing was run; cavrith open --with vim opens it inside instead of {name}"),
        ));
    }
    Ok(editors::allow(&workspace.project, words)?)
}

fn outside(screen: &Screen, words: &[String], place: &OpenedPlace) -> Outcome {
    let over_ssh = words.iter().any(|word| word.contains("{host}"));
    if over_ssh && !ssh_config::file().is_some_and(|file| ssh_config::is_applied(&file)) {
        let text = "the editor comes over SSH, and your SSH configuration does not know workspaces yet; run cavrith ssh-config --apply first";
        return Err(Failure::Own(2, text.to_owned()));
    }
    let words = opening(words, place);
    let Some((program, arguments)) = words.split_first() else { return Ok(0) };
    let Some(found) = find_program(program) else {
        let text = format!(
            "there is no program {program} here; install it, or say in config.toml which other one opens places"
        );
        return Err(Failure::Own(3, text));
    };
    let mut child = Command::new(found)
        .args(arguments)
        .stdin(Stdio::null())
        .spawn()
        .map_err(|error| Failure::Own(3, format!("{program} cannot be started: {error}")))?;
    let ended = child.wait().map_err(|error| Failure::Own(3, format!("cannot wait for {program}: {error}")))?;
    if ended.success() {
        screen.say(format_args!("opened {} with {program}", place.path));
        return Ok(0);
    }
    Err(Failure::Own(5, format!("{program} failed: {ended}")))
}
