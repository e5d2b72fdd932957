//! `cavrith team`

use std::path::Path;

use cavrith_core::team::history::{self, ProvedChange};
use cavrith_core::team::signers;
use cavrith_engine::EngineError;
use cavrith_engine::error::{TeamError, file_error};
use cavrith_engine::project::{self, Project};
use cavrith_engine::team::{self, Standing};
use serde_json::{Value, json};

use crate::args::{General, Report, Team, TeamCommand, TeamProof, TeamSign};
use crate::commands::{Outcome, for_all_variants};
use crate::failure::Failure;
use crate::keys;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Team) -> Outcome {
    for_all_variants(general, "team")?;
    let project = project::load(&project::find(general.project())?, None)?;
    match &command.command {
        None => show(screen, &project, &command.report),
        Some(TeamCommand::Sign(command)) => sign(screen, &project, command),
        Some(TeamCommand::Proof(command)) => proof(screen, &project, command),
        Some(TeamCommand::Forget(report)) => forget(screen, &project, report),
    }
}

/// Who is in it, who let them in, and what nobody signed yet.
fn show(screen: &Screen, project: &Project, report: &Report) -> Outcome {
    let declared = team::declared(project)?;
    let Some(file) = team::read(&project.dir)? else {
        return Err(Failure::from(EngineError::from(if declared.is_some() {
            TeamError::NeverSigned
        } else {
            TeamError::None
        })));
    };
    let proved = file.prove().map_err(TeamError::from).map_err(EngineError::from)?;
    let open = declared.map(|declared| history::moves(proved.now, &declared)).unwrap_or_default();
    let lock = project::read_lock(&project.dir)?.and_then(|whole| whole.of_variant(&project.spec.variant));
    let standing = lock.map(|lock| team::judge(&project.dir, &lock)).transpose()?.unwrap_or(Standing::NoSeal);
    if report.json {
        screen.json(&json!({
            "people": proved.now,
            "changes": proved.changes.iter().map(as_json).collect::<Vec<_>>(),
            "unsigned": open,
            "seal": match &standing {
                Standing::Signed { signer, .. } => json!({ "by": signer.name, "key": signer.key.fingerprint() }),
                _ => Value::Null,
            },
        }));
        return Ok(u8::from(!open.is_empty()));
    }
    for (name, person) in &proved.now.people {
        let roles = person.roles.iter().map(|role| role.name()).collect::<Vec<_>>().join(", ");
        for (index, key) in person.keys.iter().enumerate() {
            let (name, roles) = if index == 0 { (name.as_str(), roles.as_str()) } else { ("", "") };
            let name = format!("{name:<16}");
            let key = styled(screen.out.faint, key.fingerprint());
            screen.result(format_args!("{} {roles:<24} {key}", styled(screen.out.strong, name)));
        }
    }
    screen.result("");
    for (index, change) in proved.changes.iter().enumerate() {
        let by = styled(screen.out.strong, &change.by.name);
        let moves = change.moves.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ");
        screen.result(format_args!("change {:<3} signed by {by}: {moves}", index + 1));
    }
    match &standing {
        Standing::Signed { signer, .. } => {
            screen.result(format_args!("the seal is signed by {}", styled(screen.out.strong, &signer.name)));
        }
        Standing::Unsigned => screen.result("the seal is not signed; a lead runs cavrith seal --sign"),
        Standing::NoSeal | Standing::NoTeam | Standing::TeamGone => {}
    }
    if !open.is_empty() {
        screen.result("");
        for change in &open {
            screen.result(format_args!("{} {change}", styled(screen.out.warning, "not signed")));
        }
        screen.result("this does not count until a lead runs cavrith team sign");
    }
    Ok(u8::from(!open.is_empty()))
}

fn as_json(change: &ProvedChange) -> Value {
    json!({
        "digest": change.digest,
        "by": change.by.name,
        "key": change.by.key.fingerprint(),
        "moves": change.moves,
    })
}

fn sign(screen: &Screen, project: &Project, command: &TeamSign) -> Outcome {
    let file = team::sign(project, keys::choice(&command.key))?;
    let proved = file.prove().map_err(TeamError::from).map_err(EngineError::from)?;
    let Some(last) = proved.changes.last() else { return Ok(0) };
    if command.report.json {
        screen.json(&json!({ "changes": proved.changes.len(), "signed": as_json(last) }));
    } else if !screen.quiet {
        let by = styled(screen.out.strong, &last.by.name);
        screen.result(format_args!(
            "{} change {} of the team, as {by} {}",
            styled(screen.out.good, "signed"),
            proved.changes.len(),
            styled(screen.out.faint, last.by.key.fingerprint())
        ));
        for change in &last.moves {
            screen.result(format_args!("    {change}"));
        }
        screen.result(format_args!("commit {} together with the spec", history::FILE_NAME));
    }
    Ok(0)
}

/// Everything that OpenSSH needs to check the seal without us.
fn proof(screen: &Screen, project: &Project, command: &TeamProof) -> Outcome {
    let lock = project::load_lock(project)?;
    let seal = lock.seal.as_ref().ok_or(cavrith_workspace::WorkspaceError::NoSeal)?;
    let signature = seal.signature.as_ref().ok_or(EngineError::from(TeamError::Unsigned))?;
    let file = team::read(&project.dir)?.ok_or(EngineError::from(TeamError::NeverSigned))?;
    let proved = file.prove().map_err(TeamError::from).map_err(EngineError::from)?;
    let dir = &command.dir;
    std::fs::create_dir_all(dir).map_err(file_error("make", dir))?;
    let write = |name: &str, text: String| -> Result<(), EngineError> {
        Ok(cavrith_store::atomic::write(&dir.join(name), text.as_bytes())?)
    };
    write("seal.json", seal.signed_text(&lock.variant, &signature.team))?;
    write("seal.json.sig", signature.signature.armoured())?;
    write("signers", signers::to_text(proved.now))?;
    if command.report.json {
        screen.json(&json!({ "dir": dir, "by": signature.by, "namespace": cavrith_core::team::SEAL }));
    } else if !screen.quiet {
        screen.result(format_args!(
            "{} to {}; OpenSSH checks it with",
            styled(screen.out.good, "written"),
            dir.display()
        ));
        screen.result(format_args!("    {}", command_line(dir, &signature.by)));
    }
    Ok(0)
}

fn command_line(dir: &Path, by: &str) -> String {
    let dir = dir.display();
    let namespace = cavrith_core::team::SEAL;
    format!("ssh-keygen -Y verify -f {dir}/signers -I {by} -n {namespace} -s {dir}/seal.json.sig < {dir}/seal.json")
}

fn forget(screen: &Screen, project: &Project, report: &Report) -> Outcome {
    let known = team::forget(&project.dir)?;
    if report.json {
        screen.json(&json!({ "forgotten": known }));
    } else if !screen.quiet {
        screen.result(if known { "the team is forgotten here" } else { "nothing was known of a team of this project" });
    }
    Ok(0)
}
