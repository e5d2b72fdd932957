//! `cavrith stop`, `freeze`, `thaw` and `drop`

use std::io::{BufRead as _, IsTerminal as _};
use std::path::{Path, PathBuf};

use cavrith_core::verdict::{count, size};
use cavrith_engine::home::Home;
use cavrith_keeper::KeeperError;
use cavrith_keeper::client::Client;
use cavrith_keeper::names;
use cavrith_keeper::place::Place;
use cavrith_keeper::synced;
use cavrith_workspace::backups::DAYS;
use cavrith_workspace::lifecycle;

use serde_json::json;

use crate::args::{Drop, Freeze, General, Stop, WhichReport};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::start::meant;
use crate::failure::Failure;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Stop) -> Outcome {
    let home = build_env::home()?;
    if command.all {
        return stop_all(screen, &home, command.report.json);
    }
    let place = meant(general, &home, &command.which).found()?;
    let client = Client::new(&place);
    let ran = client.is_some();
    if let Some(client) = client {
        bring_down(screen, &client, &place)?;
    }
    match ran {
        _ if command.report.json => {
            let stopped: Vec<_> = ran.then_some(&place.name).into_iter().collect();
            screen.json(&json!({ "stopped": stopped }));
        }
        true => screen.say(format_args!("{} is stopped", styled(screen.err.strong, &place.name))),
        false => screen.say(format_args!("{} does not run", place.name)),
    }
    Ok(0)
}

/// Stops all that run, and tells of those that do not end only when all had their turn.
fn stop_all(screen: &Screen, home: &Home, as_json: bool) -> Outcome {
    let (mut stopped, mut failed) = (Vec::new(), None);
    for place in Place::all(home) {
        let Some(client) = Client::new(&place) else { continue };
        match bring_down(screen, &client, &place) {
            Ok(()) => {
                if !as_json {
                    screen.say(format_args!("{} is stopped", styled(screen.err.strong, &place.name)));
                }
                stopped.push(place.name);
            }
            Err(error) => failed = Some(error),
        }
    }
    if as_json {
        screen.json(&json!({ "stopped": stopped }));
    } else if stopped.is_empty() && failed.is_none() {
        screen.say("nothing runs");
    }
    failed.map_or(Ok(0), |error| Err(error.into()))
}

/// Stops a workspace: its services get the time that they were promised.
pub fn bring_down(screen: &Screen, client: &Client, place: &Place) -> Result<(), KeeperError> {
    screen.meanwhile(format_args!("stopping {}: its services end in order", place.name), || client.stop(place))?;
    tell_apart(screen, place, "the next start tells what");
    Ok(())
}

/// Tells which synced folders are not alike on both sides. Said even when quiet: it is somebody's work.
fn tell_apart(screen: &Screen, place: &Place, more: &str) {
    for inside in synced::apart(place) {
        let warning = styled(screen.err.warning, "note:");
        screen.insist(format_args!("{warning} {inside} is not the same inside and outside; both stay; {more}"));
    }
}

fn running(place: &Place) -> Result<Client, Failure> {
    let not = || KeeperError::NotRunning { name: place.name.clone() };
    Ok(Client::new(place).ok_or_else(not)?)
}

pub fn freeze(general: &General, screen: &Screen, command: &Freeze) -> Outcome {
    let home = build_env::home()?;
    let place = meant(general, &home, &command.which.which).found()?;
    let client = running(&place)?;
    let note = match command.to_disk {
        true => {
            screen.meanwhile(format_args!("writing the memory of {} to the disk", place.name), || client.suspend())?
        }
        false => client.freeze()?,
    };
    Ok(told(screen, &command.which, &place, note, true))
}

pub fn thaw(general: &General, screen: &Screen, command: &WhichReport) -> Outcome {
    let home = build_env::home()?;
    let place = meant(general, &home, &command.which).found()?;
    let note = running(&place)?.thaw()?;
    Ok(told(screen, command, &place, note, false))
}

fn told(screen: &Screen, command: &WhichReport, place: &Place, note: Option<String>, frozen: bool) -> u8 {
    if command.report.json {
        screen.json(&json!({ "name": place.name, "frozen": frozen, "note": note }));
        return 0;
    }
    let words = if frozen { "is frozen; cavrith thaw lets it go on" } else { "goes on" };
    screen.say(format_args!("{} {words}", styled(screen.err.strong, &place.name)));
    if let Some(note) = note {
        screen.say(format_args!("{} {note}", styled(screen.err.faint, "note:")));
    }
    0
}

pub fn drop_it(general: &General, screen: &Screen, command: &Drop) -> Outcome {
    let home = build_env::home()?;
    let meant = meant(general, &home, &command.which);
    let place = match meant.existing()? {
        Some(place) => place,
        // A name that nothing has is a slip; a project without a workspace has nothing to drop.
        None if command.which.name.is_some() => meant.found()?,
        None => {
            match command.report.json {
                true => screen.json(&json!({ "dropped": null, "set_aside": [], "kept": [], "home": false })),
                false => screen.say("there is no workspace of this project; nothing to drop"),
            }
            return Ok(0);
        }
    };
    let file = hosts_file(None);
    // What was changed inside belongs to any of the image's owners.
    cavrith_sandbox::ids::enter()?;
    let what = lifecycle::dropping(&place, command.home);
    let client = Client::new(&place);
    // Anyone who is asked has to know for what; anyone who is not may want it quiet.
    let line = |line: std::fmt::Arguments<'_>| match command.yes {
        true if command.report.json => {}
        true => screen.say(line),
        false => screen.insist(line),
    };
    if client.is_some() {
        line(format_args!("{} runs, and is stopped first", styled(screen.err.strong, &place.name)));
    }
    let some = if what.some.is_empty() { String::new() } else { format!(": {}", what.some.join(", ")) };
    let more = if what.changed_files > what.some.len() { ", …" } else { "" };
    if what.changed_files > 0 {
        let files = count(what.changed_files, "file");
        line(format_args!("sets aside {files} changed inside{some}{more}, for {DAYS} days"));
    }
    if !what.logs.is_empty() {
        line(format_args!("removes   logs of {}", what.logs.join(", ")));
    }
    if !what.names.is_empty() {
        line(format_args!("removes   its block in {}, if there is one: {}", file.display(), what.names.join(", ")));
    }
    line(format_args!("keeps     the project {}", what.project));
    let own = if place.named { format!(" --name {}", place.name) } else { String::new() };
    for name in &what.kept {
        line(format_args!("keeps     the folder {name} (cavrith folder remove {name}{own} removes it)"));
    }
    for inside in &what.apart {
        line(format_args!("keeps     the copy of {inside}, which is not the same inside and outside"));
    }
    if what.machine_disk {
        line(format_args!(
            "keeps     the machine's disk, with kept folders and the home; what was changed is set aside on it"
        ));
    }
    if let Some(kept) = &what.home {
        let held = size(kept.bytes);
        line(format_args!("keeps     the account's home with {held} (--home sets it aside as well)"));
    }
    confirm(screen, command.yes, &format!("drop {}?", place.name))?;
    if let Some(client) = client {
        bring_down(screen, &client, &place)?;
    }
    let label = lifecycle::names_label(&place);
    let removing = format!("removing the scratch of {}", place.name);
    let set_aside = screen.meanwhile(removing, || lifecycle::drop_workspace(&home, &place, command.home))?;
    for aside in set_aside.iter().filter(|_| !command.report.json) {
        tell_of_backup(screen, aside);
    }
    if let Err(error) = names::apply(&file, &label, &[]) {
        screen.insist(format_args!(
            "{} {} still has the block of {label} ({error}); an administrator may take it out with cavrith names --remove",
            styled(screen.err.warning, "note:"),
            file.display()
        ));
    }
    match command.report.json {
        true => screen.json(
            &json!({ "dropped": place.name, "set_aside": set_aside, "kept": what.kept, "home": what.home.is_some() }),
        ),
        false => screen.say(format_args!("{} is dropped", styled(screen.err.strong, &place.name))),
    }
    Ok(0)
}

/// Tells where what was changed by hand has gone, and how it comes back. Said even when quiet: it is somebody's work.
pub fn tell_of_backup(screen: &Screen, aside: &Path) {
    let root = aside.join("root");
    screen.insist(format_args!("what was changed inside is kept for {DAYS} days in {}", root.display()));
    screen.insist(format_args!("    cavrith copy in {}/FILE /FILE brings a file back", root.display()));
}

/// The hosts file that is meant.
pub fn hosts_file(typed: Option<&Path>) -> PathBuf {
    let set = std::env::var_os("CAVRITH_HOSTS").filter(|value| !value.is_empty()).map(PathBuf::from);
    typed.map(Path::to_owned).or(set).unwrap_or_else(|| PathBuf::from("/etc/hosts"))
}

/// Asks on a terminal; elsewhere `--yes` has to be written.
pub fn confirm(screen: &Screen, yes: bool, question: &str) -> Result<(), Failure> {
    if yes {
        return Ok(());
    }
    if !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal() {
        let text = format!("{question} There is nobody to ask; write --yes to go on");
        return Err(Failure::Own(2, text));
    }
    screen.insist(format_args!("{} [y/N] ", styled(screen.err.strong, question)));
    let mut answer = String::new();
    // Nothing typed, for whatever reason, is no.
    let _ = std::io::stdin().lock().read_line(&mut answer);
    if matches!(answer.trim().to_lowercase().as_str(), "y" | "yes") {
        return Ok(());
    }
    Err(Failure::Declined)
}
