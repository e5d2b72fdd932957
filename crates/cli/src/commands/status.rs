//! `cavrith status` and `cavrith list`

use cavrith_core::verdict::size;
use cavrith_keeper::client::Client;
use cavrith_keeper::place::Place;
use cavrith_keeper::protocol::{Phase, Status};
use cavrith_keeper::record::{Record, Standing};
use cavrith_workspace::lifecycle;
use serde_json::json;

use crate::args::{General, Report, WhichReport};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::start::{meant, status_value};
use crate::render::runtime::{self as render, clock};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &WhichReport) -> Outcome {
    let (home, store) = build_env::store()?;
    let meant = meant(general, &home, &command.which);
    let Some(place) = meant.existing()? else {
        // A name that nothing has is a mistake; a project whose workspace was never started is not.
        if command.which.name.is_some() {
            meant.found()?;
        }
        let (place, _) = meant.to_start()?;
        if command.report.json {
            screen.json(&json!({ "name": place.name, "project": place.project.display().to_string(), "standing": Standing::New }));
        } else {
            screen.result(format_args!("{}  {}", styled(screen.out.strong, &place.name), Standing::New.words()));
        }
        return Ok(0);
    };
    let record = Record::read(&place.dir);
    let status = Client::new(&place).map(|client| client.status()).transpose()?;
    let runs = status.as_ref().map(|status| &status.arrangement).or(record.as_ref().map(|record| &record.arrangement));
    let pending = runs.map(|runs| lifecycle::pending(&store, &place, runs));
    let standing = standing(status.as_ref(), record.as_ref());
    // Something that should run, or should have been done, and is not: a check that found something.
    let failed = status.as_ref().is_some_and(|status| {
        status.failed_step.is_some() || status.services.iter().any(|service| service.phase == Phase::Failed)
    });
    let code = u8::from(failed);
    if command.report.json {
        screen.json(&json!({
            "name": place.name,
            "project": place.project.display().to_string(),
            "standing": standing,
            "status": status.as_ref().map(status_value),
            "failed_step": record.and_then(|record| record.failed_step),
            "pending": pending,
        }));
        return Ok(code);
    }
    match &status {
        Some(status) => render::status(screen, &place, status),
        None => render::stopped(screen, &place, standing, record.as_ref()),
    }
    if let Some(pending) = &pending {
        render::pending(screen, pending, status.is_some());
    }
    Ok(code)
}

fn standing(status: Option<&Status>, record: Option<&Record>) -> Standing {
    match (status, record) {
        (Some(status), _) => status.standing,
        (None, Some(record)) => record.standing(),
        (None, None) => Standing::New,
    }
}

/// One line of the list.
struct Row {
    place: Place,
    standing: Standing,
    since: Option<u64>,
    memory: Option<u64>,
    ports: Vec<String>,
}

pub fn list(screen: &Screen, command: &Report) -> Outcome {
    let home = build_env::home()?;
    let rows: Vec<_> = Place::all(&home).into_iter().map(row).collect();
    if command.json {
        let all: Vec<_> = rows
            .iter()
            .map(|row| {
                json!({
                    "name": row.place.name,
                    "project": row.place.project.display().to_string(),
                    "standing": row.standing,
                    "since": row.since,
                    "memory": row.memory,
                    "ports": row.ports,
                })
            })
            .collect();
        screen.json(&json!({ "workspaces": all }));
        return Ok(0);
    }
    if rows.is_empty() {
        screen.result("there is no workspace on this machine; cavrith start makes one of a project");
        return Ok(0);
    }
    let width = rows.iter().map(|row| row.place.name.chars().count()).max().unwrap_or(0).max(9);
    let ports = rows.iter().map(|row| row.ports.join(" ").chars().count()).max().unwrap_or(0).max(5);
    let project = rows.iter().map(|row| row.place.project.display().to_string().chars().count()).max().unwrap_or(0);
    // On a terminal that is too narrow for a table, what is long gets lines of its own.
    let wide = screen.fits(width + ports + project + 39);
    let head = format!("{:width$}  {:8}  {:>12}  {:>9}", "workspace", "state", "since", "memory");
    let more = if wide { format!("  {:ports$}  project", "ports") } else { String::new() };
    screen.result(styled(screen.out.faint, format_args!("{head}{more}")));
    for row in &rows {
        let word = row.standing.words().split(' ').next().unwrap_or_default();
        let word = styled(render::standing_style(screen, row.standing), format_args!("{word:8}"));
        let since = row.since.map_or_else(String::new, clock);
        let memory = row.memory.map_or_else(String::new, size);
        let name = styled(screen.out.strong, format_args!("{:width$}", row.place.name));
        let line = format!("{name}  {word}  {since:>12}  {memory:>9}");
        let (carried, dir) = (row.ports.join(" "), row.place.project.display());
        if wide {
            screen.result(format_args!("{line}  {carried:ports$}  {dir}"));
            continue;
        }
        screen.result(line);
        for (what, text) in [("ports", carried), ("project", dir.to_string())] {
            if !text.is_empty() {
                screen.result(format_args!("  {} {text}", styled(screen.out.faint, format_args!("{what:8}"))));
            }
        }
    }
    Ok(0)
}

fn row(place: Place) -> Row {
    // One that does not answer is listed with what is recorded of it.
    let status = Client::new(&place).and_then(|client| client.status().ok());
    let record = Record::read(&place.dir);
    Row {
        standing: standing(status.as_ref(), record.as_ref()),
        since: status.as_ref().map(|status| status.since).or(record.and_then(|record| record.ended)),
        memory: status.as_ref().and_then(|status| status.memory),
        ports: status
            .map(|status| status.ports.iter().map(|port| format!("{}:{}", port.name, port.outside)).collect())
            .unwrap_or_default(),
        place,
    }
}
