//! `cavrith lock`

use std::path::Path;

use cavrith_core::history::Moved;
use cavrith_core::lock::choose::Update;
use cavrith_engine::locking::{Locked, Wishes};
use cavrith_engine::{locking, member, on_top, project};
use serde_json::json;

use crate::args::{General, Lock};
use crate::build_env::{BuildEnv, StoreSession};
use crate::commands::{Outcome, build, for_all_variants, start};
use crate::failure::Failure;
use crate::render::mistakes;
use crate::render::progress::{Progress, Where};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Lock) -> Outcome {
    if command.personal {
        return personal(general, screen, command);
    }
    for_all_variants(general, "lock")?;
    let dir = project::find(general.project())?;
    if command.outdated {
        return outdated(screen, command, &dir);
    }
    let store_session = StoreSession::open()?;
    let wishes = Wishes { trust_changed: command.trust_changed, update: update(command) };
    let progress = Progress::new(screen, Where::Nowhere);
    let observer = |event| progress.show(event);
    let locked = locking::lock(&dir, store_session.supply(&observer), &wishes);
    progress.finish();
    let locked = locked?;
    let names_step = |name: &String| locked.to_record.contains(name);
    let recording = command.record || command.update.iter().flatten().any(names_step);
    if command.report.json {
        let done = if recording && !locked.to_record.is_empty() {
            record(screen, &dir, command, &locked.to_record)?
        } else {
            0
        };
        screen.json(&json!({ "written": locked.written, "moved": locked.moved, "epoch": locked.lock.epoch, "notes": locked.notes, "to_record": locked.to_record }));
        return Ok(done);
    }
    mistakes::show(screen, &locked.findings);
    let about_records = |note: &&String| recording && note.ends_with("run cavrith record");
    for note in locked.notes.iter().filter(|note| !about_records(note)) {
        screen.say(format_args!("{} {note}", styled(screen.err.warning, "note")));
    }
    let (shown, rest) = worth_showing(&locked);
    let width = shown.iter().map(|moved| moved.what.chars().count()).max().unwrap_or(0);
    for moved in shown {
        let line = match (&moved.from, &moved.to) {
            (None, Some(to)) => format!("{:width$}  {to}", moved.what),
            (Some(from), Some(to)) => format!("{:width$}  {from} → {to}", moved.what),
            (Some(from), None) => format!("{:width$}  {from} → taken out", moved.what),
            (None, None) => continue,
        };
        if !screen.quiet {
            screen.result(line);
        }
    }
    if rest > 0 && !screen.quiet {
        screen.result(format_args!("and {rest} more packages that these need; cavrith contents lists all"));
    }
    if !screen.quiet {
        let done = if locked.written { "wrote cavrith.lock" } else { "cavrith.lock is up to date" };
        screen.result(styled(screen.out.good, done));
    }
    if recording && !locked.to_record.is_empty() {
        return record(screen, &dir, command, &locked.to_record);
    }
    Ok(0)
}

fn update(command: &Lock) -> Update {
    match command.update.as_deref() {
        None => Update::Nothing,
        Some([]) => Update::All,
        Some(names) => Update::Named(names.to_vec()),
    }
}

/// Pins what the member adds to the image, and makes it.
fn personal(general: &General, screen: &Screen, command: &Lock) -> Outcome {
    let dir = project::find(general.project())?;
    let project = project::load(&dir, general.variant.as_deref())?;
    let lock = start::lock_of(&project)?;
    let build_env = BuildEnv::open()?;
    let own = build_env.store_session.member.config.personal.for_project(&dir);
    if !on_top::is_wanted(&own) {
        let path = member::config_path().unwrap_or_default();
        let text = format!("{} adds no packages, toolchains, extensions or settings to this project", path.display());
        return Err(Failure::Own(2, text));
    }
    let built = build::ensure(screen, &build_env, &project, &lock)?;
    let made = build::with_progress(screen, &build_env, Where::Aside, false, |context| {
        Ok(on_top::make(context, (&project, &lock), &built.record, &own, &update(command))?)
    })?;
    let path = on_top::pins_path(&project).unwrap_or_default();
    if command.report.json {
        screen.json(&json!({ "file": path.display().to_string(), "personal": made.what, "notes": made.notes }));
        return Ok(0);
    }
    for note in &made.notes {
        screen.say(format_args!("{} {note}", styled(screen.err.warning, "note")));
    }
    if !screen.quiet {
        made.what.iter().for_each(|what| screen.result(what));
        screen.result(format_args!("{} {}", styled(screen.out.good, "pinned in"), path.display()));
    }
    Ok(0)
}

/// Records steps: a command of its own, since it needs more of the machine than locking does.
fn record(screen: &Screen, dir: &Path, typed: &Lock, steps: &[String]) -> Outcome {
    let program = std::env::current_exe();
    let program = program.map_err(|error| Failure::Own(3, format!("cannot find this program: {error}")))?;
    let mut command = std::process::Command::new(program);
    command.arg("-C").arg(dir).arg("record");
    // As it was decided for this command, whose streams may be somebody else's.
    let color = if screen.out.good == anstyle::Style::new() { "never" } else { "always" };
    command.args(["--color", color]);
    if screen.quiet || typed.report.json {
        command.arg("-q");
    }
    if typed.report.json {
        // The answer is the lock's.
        command.stdout(std::process::Stdio::null());
    }
    let status = command.arg("--").args(steps).status();
    let status = status.map_err(|error| Failure::Own(3, format!("cannot run this program: {error}")))?;
    Ok(status.code().and_then(|code| u8::try_from(code).ok()).unwrap_or(130))
}

/// New packages that are listed one by one; beyond that only those that were wished are.
const LISTED: usize = 20;

/// What moved, without new packages that nobody named when there are many; and how many those are.
fn worth_showing(locked: &Locked) -> (Vec<&Moved>, usize) {
    let wishes = locked.lock.debian.iter().flat_map(|debian| &debian.wishes);
    let named: Vec<_> = wishes.map(|wish| format!("package {}", wish.split(' ').next().unwrap_or(wish))).collect();
    let unnamed =
        |moved: &&Moved| moved.from.is_none() && moved.what.starts_with("package ") && !named.contains(&moved.what);
    let rest = locked.moved.iter().filter(unnamed).count();
    if rest <= LISTED {
        return (locked.moved.iter().collect(), 0);
    }
    (locked.moved.iter().filter(|moved| !unnamed(moved)).collect(), rest)
}

/// What could be newer; nothing is written.
fn outdated(screen: &Screen, command: &Lock, dir: &Path) -> Outcome {
    let store_session = StoreSession::open()?;
    let progress = Progress::new(screen, Where::Nowhere);
    let observer = |event| progress.show(event);
    let outdated = locking::outdated(dir, store_session.supply(&observer));
    progress.finish();
    let outdated = outdated?;
    if command.report.json {
        screen.json(&json!({ "outdated": outdated }));
        return Ok(0);
    }
    if outdated.is_empty() {
        screen.result(styled(screen.out.good, "every pin is the newest version"));
        return Ok(0);
    }
    let width = outdated.iter().map(|item| item.what.chars().count()).max().unwrap_or(0);
    for item in outdated {
        let within = if item.within == item.locked {
            "the newest that the spec asks for".to_owned()
        } else {
            format!("→ {} by cavrith lock --update", item.within)
        };
        let beyond =
            if item.newest == item.within { String::new() } else { format!("; {} is offered too", item.newest) };
        screen.result(format_args!(
            "{:width$}  {} {within}{beyond}",
            item.what,
            styled(screen.out.strong, &item.locked)
        ));
    }
    Ok(0)
}
