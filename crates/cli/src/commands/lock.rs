//! `cavrith lock`

use cavrith_engine::{locking, project};
use serde_json::json;

use crate::args::{General, Lock};
use crate::bench::Shed;
use crate::commands::Outcome;
use crate::render::mistakes;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Lock) -> Outcome {
    let dir = project::find(&general.project)?;
    let shed = Shed::open()?;
    let locked = locking::lock(&dir, &shed.staging, command.trust_changed)?;
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
