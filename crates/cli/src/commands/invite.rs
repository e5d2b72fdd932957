//! `cavrith invite`, and `cavrith visit` on the other side.

use std::io::IsTerminal as _;
use std::os::unix::process::CommandExt as _;
use std::process::Command;
use std::sync::atomic::Ordering;

use cavrith_core::arrangement::Arrangement;
use cavrith_core::visit::VisitLink;
use cavrith_engine::member::Member;
use cavrith_keeper::client::Client;
use cavrith_keeper::place::Place;
use cavrith_keeper::record::Record;
use cavrith_keeper::ssh::{Rights, USER};
use cavrith_keeper::visitors::{Invitation, Invitations, Present};
use cavrith_sandbox::programs::find_program;
use cavrith_store::private;
use cavrith_workspace::inviting::{self, Given, Wish};
use cavrith_workspace::ssh_config::Keys;
use serde_json::json;

use crate::args::{General, Invite, Visit};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::start::meant;
use crate::failure::Failure;
use crate::render::runtime::clock;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Invite) -> Outcome {
    let home = build_env::home()?;
    let place = meant(general, &home, &command.which).found()?;
    let client = || Client::new(&place);
    let Some(person) = &command.person else {
        if command.end {
            return Err(Failure::Own(2, "say whose invitation ends".to_owned()));
        }
        return list(screen, command, &place, client());
    };
    if command.look {
        if !std::io::stdin().is_terminal() || !std::io::stdout().is_terminal() {
            return Err(Failure::Own(2, "a terminal is looked at from a terminal".to_owned()));
        }
        let client = client().ok_or_else(|| Failure::Own(2, format!("{} is not running", place.name)))?;
        build_env::ATTENDING.store(true, Ordering::SeqCst);
        client.look(person)?;
        return Ok(0);
    }
    if command.end {
        let ended = inviting::end(&place, person)?;
        if let Some(client) = client() {
            client.admit()?;
        }
        if command.report.json {
            screen.json(&json!({ "name": person, "ended": ended }));
        } else if ended {
            screen.say(format_args!("{person} may not come any more; their connections have ended"));
        } else {
            screen.say(format_args!("{person} was not invited"));
        }
        return Ok(0);
    }
    let record = Record::read(&place.dir);
    let runs = record.as_ref().map(|record| &record.arrangement);
    let rights = rights(command, runs)?;
    let pages = command.pages.as_ref().map(|port| port_inside(port, runs)).transpose()?;
    let wish = Wish {
        name: person,
        key: command.key.as_deref(),
        rights,
        pages,
        lasts: command.for_,
        at: &command.at,
        reached_at: command.reached_at.as_deref(),
    };
    let (invitation, given) = inviting::invite(&place, &Keys::of(&home)?, &wish)?;
    let running = client();
    if let Some(client) = &running
        && let Err(error) = client.admit()
    {
        inviting::end(&place, person)?;
        return Err(error.into());
    }
    let secrets = record.map(|record| record.arrangement.secrets.into_keys().collect::<Vec<_>>()).unwrap_or_default();
    if command.report.json {
        let mut value = json!({ "invitation": shown_value(&invitation) });
        match &given {
            Given::Link(link) => value["link"] = link.to_string().into(),
            Given::Address(address, certificate) => {
                (value["address"], value["certificate"]) = (address.as_str().into(), certificate.as_str().into());
            }
        }
        screen.json(&value);
        return Ok(0);
    }
    screen.say(format_args!("{} {}", styled(screen.err.strong, person), words(&invitation)));
    if running.is_none() {
        screen.say(format_args!("{} is not running; they can come once it is", place.name));
    }
    if invitation.rights.shell && !secrets.is_empty() {
        let which = secrets.join(", ");
        screen.say(format_args!(
            "{} what runs inside can read its secrets, and so can {person}: {which}",
            styled(screen.err.warning, "note:")
        ));
    }
    let own = Member::find()?.config.personal.for_project(&place.project);
    let doors = [
        (own.ssh_agent, "your SSH agent"),
        (own.gpg_agent, "your GPG agent"),
        (!own.git_credentials.is_empty(), "your credentials for git"),
    ];
    let doors: Vec<_> = doors.into_iter().filter(|(open, _)| *open).map(|(_, what)| what).collect();
    if invitation.rights.shell && !doors.is_empty() {
        let which = doors.join(", ");
        screen.say(format_args!(
            "{} what runs inside can use {which}, and so can {person}",
            styled(screen.err.warning, "note:")
        ));
    }
    // As it is typed, however wide the terminal is.
    match given {
        Given::Link(link) => {
            screen.say("give them this line:");
            screen.verbatim(format_args!("cavrith visit '{link}'"));
        }
        Given::Address(address, certificate) => {
            screen.say("give them this address, and nobody else; whoever has it sees what they see:");
            screen.verbatim(&address);
            screen.say("their browser does not know this machine, and shows the SHA-256 of its certificate, which is");
            screen.verbatim(&certificate);
        }
    }
    Ok(0)
}

/// What somebody may do, as it was typed.
fn rights(command: &Invite, runs: Option<&Arrangement>) -> Result<Rights, Failure> {
    if !command.shell && !command.read_only && command.port.is_empty() && command.pages.is_none() {
        let text = "say what they may do: --shell, --read-only for looking at files, --port NAME for a port, --pages NAME for \
                    a port's pages in a browser";
        return Err(Failure::Own(2, text.to_owned()));
    }
    let ports = command.port.iter().map(|port| port_inside(port, runs)).collect::<Result<Vec<_>, _>>()?;
    Ok(Rights {
        shell: command.shell,
        files: command.shell || command.read_only,
        read_only: !command.shell,
        // Whoever runs programs inside reaches every port there anyway.
        ports: (!command.shell).then_some(ports),
        member: false,
    })
}

/// A port inside, by its name or number.
fn port_inside(text: &str, runs: Option<&Arrangement>) -> Result<u16, Failure> {
    let named = runs.and_then(|runs| runs.ports.iter().find(|port| port.name == text));
    let found = named.map(|port| port.inside).or_else(|| text.parse().ok().filter(|port| *port > 0));
    found.ok_or_else(|| Failure::Own(2, format!("there is no port {text}; cavrith status shows those there are")))
}

/// What an invitation is, in words after the person's name.
pub fn words(invitation: &Invitation) -> String {
    let rights = &invitation.rights;
    let mut may = Vec::new();
    if rights.member {
        may.push("do all that you may".to_owned());
    } else if rights.shell {
        may.push("run programs and change files".to_owned());
    } else if rights.files {
        may.push("look at files".to_owned());
    }
    may.extend(invitation.pages.as_ref().map(|pages| format!("see the pages of port {}", pages.port)));
    match &rights.ports {
        Some(ports) if !ports.is_empty() => {
            let ports = ports.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            may.push(format!("reach port {ports}"));
        }
        _ => {}
    }
    format!("may {} until {}, at {}", may.join(" and "), clock(invitation.until), invitation.address)
}

fn shown_value(invitation: &Invitation) -> serde_json::Value {
    json!({
        "name": invitation.name,
        "address": invitation.address.to_string(),
        "until": invitation.until,
        "shell": invitation.rights.shell,
        "files": invitation.rights.files,
        "read_only": invitation.rights.read_only,
        "ports": invitation.rights.ports,
        "pages": invitation.pages.as_ref().map(|pages| pages.port),
    })
}

fn list(screen: &Screen, command: &Invite, place: &Place, client: Option<Client>) -> Outcome {
    let status = client.map(|client| client.status()).transpose()?;
    let present: Vec<Present> = status.map(|status| status.visitors).unwrap_or_default();
    let invited = Invitations::read(&place.dir).invitations;
    if command.report.json {
        let invited: Vec<_> = invited.iter().map(shown_value).collect();
        screen.json(&json!({ "invited": invited, "visitors": present }));
        return Ok(0);
    }
    if invited.is_empty() {
        screen.result(format_args!("nobody is invited to {}", place.name));
    }
    for invitation in &invited {
        screen.result(format_args!("{} {}", styled(screen.out.strong, &invitation.name), words(invitation)));
        for visitor in present.iter().filter(|visitor| visitor.name == invitation.name) {
            screen.result(format_args!("  {} since {}", styled(screen.out.warning, "is there"), clock(visitor.since)));
        }
    }
    Ok(0)
}

pub fn visit(screen: &Screen, command: &Visit) -> Outcome {
    let link = VisitLink::parse(&command.link).map_err(|why| {
        Failure::Own(2, format!("the link cannot be used: {why}; take the whole line that cavrith invite showed"))
    })?;
    let program = if command.files { "sftp" } else { "ssh" };
    let program = find_program(program).ok_or_else(|| {
        Failure::Own(3, format!("there is no {program} here; install OpenSSH's client (openssh-client)"))
    })?;
    // Which key the machine has to prove is said by the link, and by nothing else.
    let dir = build_env::home()?.root().join("ssh/visits");
    private::directory(&dir)?;
    let alias = format!("cavrith-{}", link.key.fingerprint().trim_start_matches("SHA256:").replace(['/', '+'], "-"));
    let known = dir.join(&alias);
    cavrith_store::atomic::write(&known, format!("{alias} {}\n", link.key).as_bytes())?;
    let mut ssh = Command::new(program);
    let quoted = known.display().to_string().replace('%', "%%");
    for option in [
        format!("HostKeyAlias={alias}"),
        format!("UserKnownHostsFile=\"{quoted}\""),
        "StrictHostKeyChecking=yes".to_owned(),
        "GlobalKnownHostsFile=/dev/null".to_owned(),
        "PasswordAuthentication=no".to_owned(),
        // Their machine gets nothing of ours.
        "ForwardAgent=no".to_owned(),
        "ForwardX11=no".to_owned(),
        format!("Port={}", link.port),
        format!("User={USER}"),
    ] {
        ssh.arg("-o").arg(option);
    }
    if let Some(key) = &command.key {
        ssh.arg("-i").arg(key);
    }
    if let Some(port) = command.port {
        ssh.arg("-N").arg("-L").arg(format!("{port}:localhost:{port}"));
        screen.say(format_args!("port {port} of {} is at localhost:{port} here, until you press Ctrl-C", link.name));
    }
    ssh.arg("--").arg(&link.host).args(&command.command);
    let error = ssh.exec();
    Err(Failure::Own(3, format!("SSH cannot be started: {error}")))
}
