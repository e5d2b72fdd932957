//! `cavrith folder`

use std::path::Path;

use cavrith_core::synced::plan::Side;
use cavrith_core::verdict::size;
use cavrith_engine::home::Home;
use cavrith_keeper::KeeperError;
use cavrith_keeper::client::Client;
use cavrith_keeper::place::Place;
use cavrith_keeper::record::Standing;
use cavrith_keeper::synced::SyncedStatus;
use cavrith_sandbox::Identity;
use cavrith_workspace::WorkspaceError;
use cavrith_workspace::kept::{self, KeptFolder};
use serde_json::json;

use crate::args::{
    Folder, FolderBackup, FolderRemove, FolderRestore, FolderSettle, FolderShow, General, Which, WhichReport,
};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::start::meant;
use crate::commands::stop::confirm;
use crate::failure::Failure;
use crate::render::runtime::synced_line;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Folder) -> Outcome {
    let home = build_env::home()?;
    // What is kept belongs to any of the image's owners.
    let identity = cavrith_sandbox::ids::enter()?;
    match command {
        Folder::List(command) => list(general, screen, &home, command),
        Folder::Show(command) => show(general, screen, &home, command),
        Folder::Backup(command) => backup(general, screen, &home, command, identity),
        Folder::Restore(command) => restore(general, screen, &home, command, identity),
        Folder::Remove(command) => remove(general, screen, &home, command),
        Folder::Synced(command) => synced(general, screen, &home, command),
        Folder::Settle(command) => settle(general, screen, &home, command),
    }
}

/// The keeper of a workspace that runs.
fn running(place: &Place) -> Result<Client, Failure> {
    Ok(Client::new(place).ok_or_else(|| KeeperError::NotRunning { name: place.name.clone() })?)
}

fn synced(general: &General, screen: &Screen, home: &Home, command: &WhichReport) -> Outcome {
    let place = place(general, home, &command.which)?;
    let folders = running(&place)?.status()?.synced;
    let code = u8::from(folders.iter().any(|folder| folder.state != "in step" && folder.state != "copying"));
    if command.report.json {
        screen.json(&json!({ "workspace": place.name, "synced": folders }));
        return Ok(code);
    }
    if folders.is_empty() {
        screen.result(format_args!("{} has no synced folder; a spec has them with mode = \"synced\"", place.name));
    }
    for folder in &folders {
        screen.result(format_args!("{}  with {}", styled(screen.out.strong, &folder.inside), folder.outside));
        screen.result(format_args!("  {}", synced_line(screen, folder)));
        for one in &folder.listed {
            screen.result(format_args!("    {}  outside {}, inside {}", one.path, one.outside, one.inside));
        }
        if folder.conflicts > folder.listed.len() {
            screen.result(format_args!("    and {} more", folder.conflicts - folder.listed.len()));
        }
        for (path, why) in &folder.troubles {
            screen.result(format_args!("    {path}  {why}"));
        }
        if folder.state == "conflicts" || folder.state == "halted" {
            let path = folder.listed.first().map_or(&folder.inside, |one| &one.path);
            screen.say(format_args!("  cavrith run -- cat {path} shows what lies inside;"));
            screen.say(format_args!("  cavrith folder settle {path} --outside (or --inside) says which side counts"));
        }
    }
    Ok(code)
}

fn settle(general: &General, screen: &Screen, home: &Home, command: &FolderSettle) -> Outcome {
    let place = place(general, home, &command.which)?;
    let side = if command.counts.outside { Side::Outside } else { Side::Inside };
    let path = inside_of(&running(&place)?.status()?.synced, &command.path);
    running(&place)?.settle(path.clone(), side)?;
    if command.report.json {
        screen.json(&json!({ "settled": path, "counts": side }));
        return Ok(0);
    }
    screen.say(format_args!("{path}: what lies {} is on both sides now", side.word()));
    Ok(0)
}

/// The path inside of a file that was named by where it is here, or inside.
fn inside_of(folders: &[SyncedStatus], typed: &Path) -> String {
    let here = std::path::absolute(typed).unwrap_or_else(|_| typed.to_owned());
    // The last name may be a link, or gone.
    let above = here.parent().and_then(|above| above.canonicalize().ok());
    let here = above.zip(here.file_name()).map_or_else(|| here.clone(), |(above, name)| above.join(name));
    let found = folders.iter().find_map(|folder| {
        let rest = here.strip_prefix(&folder.outside).ok()?;
        Some(if rest == Path::new("") {
            folder.inside.clone()
        } else {
            format!("{}/{}", folder.inside, rest.display())
        })
    });
    found.unwrap_or_else(|| typed.to_string_lossy().into_owned())
}

/// The workspace whose folders are meant; it may have been dropped.
fn place(general: &General, home: &Home, which: &Which) -> Result<Place, Failure> {
    let meant = meant(general, home, which);
    match meant.existing()? {
        Some(place) => Ok(place),
        None => Ok(meant.to_start()?.0),
    }
}

fn folder(place: &Place, name: &str) -> Result<KeptFolder, Failure> {
    let found = kept::all(place).into_iter().find(|folder| folder.name == name);
    let missing = || WorkspaceError::NoFolder { workspace: place.name.clone(), name: name.to_owned() };
    Ok(found.ok_or_else(missing)?)
}

fn list(general: &General, screen: &Screen, home: &Home, command: &WhichReport) -> Outcome {
    let places = if command.which.name.is_some() || general.project_typed() {
        vec![place(general, home, &command.which)?]
    } else {
        let mut places = Place::all(home);
        places.extend(Place::dropped(home));
        places
    };
    let folders: Vec<KeptFolder> = places.iter().flat_map(kept::all).collect();
    if command.report.json {
        screen.json(&json!({ "folders": folders }));
        return Ok(0);
    }
    if folders.is_empty() {
        screen.result("there is no kept folder; a spec has them with mode = \"kept\"");
    }
    for folder in &folders {
        screen.result(format_args!(
            "{}  of {}{}  {}, {}  {}",
            styled(screen.out.strong, &folder.name),
            folder.workspace,
            match (folder.dropped, folder.project.as_str()) {
                (false, _) => String::new(),
                (true, "") => " (dropped)".to_owned(),
                (true, project) => format!(" (dropped; its project was {project})"),
            },
            match folder.entries {
                1 => "1 entry".to_owned(),
                entries => format!("{entries} entries"),
            },
            size(folder.bytes),
            styled(screen.out.faint, folder.path.display())
        ));
    }
    Ok(0)
}

fn show(general: &General, screen: &Screen, home: &Home, command: &FolderShow) -> Outcome {
    let place = place(general, home, &command.which)?;
    let listed = kept::list(&folder(&place, &command.folder)?.path, &command.path)?;
    if command.report.json {
        screen.json(&json!({ "entries": listed }));
        return Ok(0);
    }
    for entry in &listed {
        let slash = if entry.kind == "directory" { "/" } else { "" };
        screen.result(format_args!(
            "{}  {:>11}  {:>9}  {}{slash}",
            entry.mode,
            entry.owner,
            if entry.kind == "file" { size(entry.bytes) } else { entry.kind.to_owned() },
            cavrith_core::path::shown(entry.path.as_bytes())
        ));
    }
    Ok(0)
}

fn backup(general: &General, screen: &Screen, home: &Home, command: &FolderBackup, identity: Identity) -> Outcome {
    let place = place(general, home, &command.which)?;
    let folder = folder(&place, &command.folder)?;
    if place.is_held() && !command.while_running && !is_frozen(&place) {
        let text = format!(
            "{} runs, so what is being written may be half in the backup; stop it first, or write --while-running",
            place.name
        );
        return Err(KeeperError::FolderInUse(text).into());
    }
    let bytes = kept::back_up(&folder.path, &command.file, identity)?;
    if command.report.json {
        screen.json(&json!({ "folder": command.folder, "bytes": bytes, "file": command.file }));
        return Ok(0);
    }
    screen.say(format_args!("{} of the folder {} in {}", size(bytes), command.folder, command.file.display()));
    Ok(0)
}

/// Nothing is written while it is.
fn is_frozen(place: &Place) -> bool {
    let status = Client::new(place).and_then(|client| client.status().ok());
    status.is_some_and(|status| status.standing == Standing::Frozen)
}

fn refuse_in_use(place: &Place) -> Result<(), Failure> {
    if place.is_held() {
        return Err(KeeperError::FolderInUse(format!("{} runs; stop it first", place.name)).into());
    }
    Ok(())
}

fn restore(general: &General, screen: &Screen, home: &Home, command: &FolderRestore, identity: Identity) -> Outcome {
    // A workspace that was never started gets its folders beforehand.
    let place = match meant(general, home, &command.which).existing()? {
        Some(place) => place,
        None => match place(general, home, &command.which) {
            Ok(dropped) => dropped,
            Err(missing) => meant(general, home, &command.which).to_start().map_err(|_| missing)?.0,
        },
    };
    refuse_in_use(&place)?;
    if let Ok(there) = folder(&place, &command.folder)
        && there.entries > 0
    {
        screen.insist(format_args!("the folder {} holds {} already, which go", command.folder, size(there.bytes)));
        confirm(screen, command.yes, "replace them?")?;
    }
    let entries = kept::restore(&place, &command.folder, &command.file, identity)?;
    if command.report.json {
        screen.json(&json!({ "folder": command.folder, "entries": entries }));
        return Ok(0);
    }
    screen.say(format_args!("{entries} entries restored into the folder {}", command.folder));
    Ok(0)
}

fn remove(general: &General, screen: &Screen, home: &Home, command: &FolderRemove) -> Outcome {
    let place = place(general, home, &command.which)?;
    refuse_in_use(&place)?;
    let there = folder(&place, &command.folder)?;
    screen.insist(format_args!(
        "the folder {} holds {} in {} entries",
        command.folder,
        size(there.bytes),
        there.entries
    ));
    confirm(screen, command.yes, "remove it with all that?")?;
    screen.meanwhile(format_args!("removing the folder {}", command.folder), || kept::remove(&place, &there))?;
    place.forget_first_start();
    if command.report.json {
        screen.json(&json!({ "removed": command.folder, "bytes": there.bytes, "entries": there.entries }));
        return Ok(0);
    }
    screen.say(format_args!(
        "the folder {} is removed; steps of the first start are carried out again at the next start",
        command.folder
    ));
    Ok(0)
}
