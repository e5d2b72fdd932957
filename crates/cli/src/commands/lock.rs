//! `cavrith lock`

use std::path::Path;

use cavrith_core::lock::choose::Update;
use cavrith_engine::locking::Wishes;
use cavrith_engine::{locking, project};
use serde_json::json;

use crate::args::{General, Lock};
use crate::bench::Shed;
use crate::commands::Outcome;
use crate::render::mistakes;
use crate::render::progress::{Progress, Where};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Lock) -> Outcome {
    let dir = project::find(&general.project)?;
    if command.outdated {
        return outdated(screen, command, &dir);
    }
    let shed = Shed::open()?;
    let update = match command.update.as_deref() {
        None => Update::Nothing,
        Some([]) => Update::All,
        Some(names) => Update::Named(names.to_vec()),
    };
    let wishes = Wishes { trust_changed: command.trust_changed, update };
    let progress = Progress::new(screen, Where::Nowhere);
    let observer = |event| progress.tell(event);
    let locked = locking::lock(&dir, shed.supply(&observer), &wishes);
    progress.finish();
    let locked = locked?;
    if command.report.json {
        screen.json(&json!({ "written": locked.written, "moved": locked.moved, "epoch": locked.lock.epoch, "notes": locked.notes }));
        return Ok(0);
    }
    mistakes::show(screen, &locked.findings);
    for note in &locked.notes {
        screen.say(format_args!("{} {note}", styled(screen.err.warning, "note")));
    }
    let width = locked.moved.iter().map(|moved| moved.what.chars().count()).max().unwrap_or(0);
    for moved in &locked.moved {
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
    if !screen.quiet {
        let done = if locked.written { "wrote cavrith.lock" } else { "cavrith.lock is as it should be" };
        screen.result(format_args!("{} {done}", styled(screen.out.good, "good")));
    }
    Ok(0)
}

/// What could be newer; nothing is written.
fn outdated(screen: &Screen, command: &Lock, dir: &Path) -> Outcome {
    let shed = Shed::open()?;
    let progress = Progress::new(screen, Where::Nowhere);
    let observer = |event| progress.tell(event);
    let outdated = locking::outdated(dir, shed.supply(&observer));
    progress.finish();
    let outdated = outdated?;
    if command.report.json {
        screen.json(&json!({ "outdated": outdated }));
        return Ok(0);
    }
    if outdated.is_empty() {
        screen.result(format_args!("{} everything locked is the newest there is", styled(screen.out.good, "good")));
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
