//! `cavrith ssh-config`, and the proxy command that it has clients use.

use std::io::IsTerminal as _;
use std::os::fd::AsFd as _;
use std::sync::atomic::Ordering;

use cavrith_engine::home::Home;
use cavrith_keeper::place::Place;
use cavrith_workspace::WorkspaceError;
use cavrith_workspace::lifecycle::Meant;
use cavrith_workspace::ssh_config::{self, Keys, SUFFIX};
use serde_json::json;

use crate::args::{General, SshConfig, SshProxy, Which};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::enter;
use crate::commands::start::meant;
use crate::failure::Failure;
use crate::screen::Screen;

pub fn config(general: &General, screen: &Screen, command: &SshConfig) -> Outcome {
    let home = build_env::home()?;
    let file = command.file.clone().or_else(ssh_config::file).ok_or_else(|| {
        Failure::Own(3, "there is no HOME in the environment; name the configuration with --file".to_owned())
    })?;
    let block = if command.remove { None } else { Some(block(&home)?) };
    let changed = match command.apply || command.remove {
        true => ssh_config::apply(&file, block.as_deref())?,
        false => false,
    };
    let which = Which { name: None };
    // Outside of a project there is nothing to name.
    let here = meant(general, &home, &which).existing().ok().flatten().map(|place| format!("{}{SUFFIX}", place.name));
    let shown = file.display();
    if command.report.json {
        screen.json(&json!({ "block": block, "file": shown.to_string(), "changed": changed, "host": here }));
    } else if command.remove {
        let what = if changed { "no longer has the block" } else { "has no block of ours" };
        screen.say(format_args!("{shown} {what}"));
    } else if command.apply {
        let what = if changed { "is brought up to date" } else { "is up to date already" };
        let host = here.unwrap_or_else(|| format!("NAME{SUFFIX}"));
        screen.say(format_args!("{shown} {what}; now: ssh {host}, scp, sftp, rsync, and every editor over SSH"));
    } else {
        // As it stands in the file, however wide the terminal is.
        screen.verbatim(block.unwrap_or_default().trim_end());
        screen.say(format_args!("cavrith ssh-config --apply writes this to {shown}"));
    }
    Ok(0)
}

fn block(home: &Home) -> Result<String, Failure> {
    let keys = Keys::of(home)?;
    let program = std::env::current_exe()
        .map_err(|error| Failure::Own(3, format!("this program's own path cannot be found: {error}")))?;
    // Clients do not have the environment of this terminal.
    let own_home = std::env::var_os("CAVRITH_HOME").filter(|own| !own.is_empty()).map(|_| home.root());
    Ok(ssh_config::block(&program, own_home, &keys.dir))
}

/// The workspace that is meant by a host's name: its own name, or that of its directory where several have the same.
fn place(home: &Home, host: &str) -> Result<Place, Failure> {
    let name = host.strip_suffix(SUFFIX).unwrap_or(host);
    let all = Place::all(home);
    let of_directory = |place: &&Place| place.dir.file_name().is_some_and(|own| own == name);
    if let Some(place) = all.iter().find(of_directory) {
        return Ok(place.clone());
    }
    let mut named: Vec<_> = all.iter().filter(|place| place.name == name).cloned().collect();
    match (named.pop(), named.is_empty()) {
        (Some(place), true) => Ok(place),
        (None, _) => {
            let others = all.iter().map(|place| place.name.as_str()).collect::<Vec<_>>().join(", ");
            Err(WorkspaceError::NoWorkspace { name: name.to_owned(), others }.into())
        }
        (Some(last), false) => {
            named.push(last);
            let host = |place: &Place| {
                let own = place.dir.file_name().unwrap_or_default().to_string_lossy();
                format!("{own}{SUFFIX} for {}", place.project.display())
            };
            let hosts = named.iter().map(host).collect::<Vec<_>>().join(", ");
            Err(Failure::Own(2, format!("there are several workspaces {name}; use {hosts}")))
        }
    }
}

pub fn proxy(screen: &Screen, command: &SshProxy) -> Outcome {
    let (stdin, stdout) = (std::io::stdin(), std::io::stdout());
    if stdin.is_terminal() || stdout.is_terminal() {
        let text = "this is for SSH clients and not for people; cavrith ssh-config --apply tells them of it, and then \
                    ssh NAME.cavrith gets you in";
        return Err(Failure::Own(2, text.to_owned()));
    }
    let home = build_env::home()?;
    let keys = Keys::of(&home)?;
    let place = place(&home, &command.host)?;
    let name = place.named.then_some(place.name.as_str());
    let meant = Meant { home: &home, project: &place.project, project_typed: true, name, variant: None };
    let client = enter::running(screen, meant)?;
    // The client ends this process when it has ended.
    build_env::ATTENDING.store(true, Ordering::SeqCst);
    client.ssh(keys.host, [stdin.as_fd(), stdout.as_fd()])?;
    Ok(0)
}
