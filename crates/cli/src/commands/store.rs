//! `cavrith store`

use std::time::Duration;

use cavrith_core::verdict::{count, size};
use cavrith_store::collecting::{Bounds, Damage, ItemKind, StoreItem};
use serde_json::{Value, json};

use crate::args::{Collect, Store};
use crate::build_env::{self, BuildEnv};
use crate::commands::Outcome;
use crate::render::progress::{Progress, Where};
use crate::screen::{Screen, styled};

pub fn exec(screen: &Screen, command: &Store) -> Outcome {
    match command {
        Store::List(report) => list(screen, report.json),
        Store::Check(report) => look(screen, report.json, false),
        Store::Repair(report) => look(screen, report.json, true),
        Store::Collect(collect) => self::collect(screen, collect),
    }
}

fn list(screen: &Screen, as_json: bool) -> Outcome {
    let (home, store) = build_env::store()?;
    let held = store.held()?;
    let total: u64 = held.iter().map(|one| one.bytes).sum();
    if as_json {
        let all: Vec<_> = held.iter().map(as_value).collect();
        screen.json(&json!({ "store": home.store().display().to_string(), "bytes": total, "held": all }));
        return Ok(0);
    }
    if !held.is_empty() {
        let head = format!("{:>9}  {:>8}  {:23}  {}", "size", "unused", "name", "what");
        screen.result(styled(screen.out.faint, head));
    }
    held.iter().for_each(|one| screen.result(line(screen, one)));
    screen.result(format_args!(
        "{} in {} of {}",
        styled(screen.out.strong, size(total)),
        count(held.len(), "thing"),
        home.store().display()
    ));
    Ok(0)
}

fn as_value(held: &StoreItem) -> Value {
    let (kind, id) = match &held.what {
        ItemKind::Layer(layer) => ("layer", layer.to_string()),
        ItemKind::Blob(path) => ("file", path.file_name().unwrap_or_default().to_string_lossy().into_owned()),
        ItemKind::Cache(path) => ("cache", path.file_name().unwrap_or_default().to_string_lossy().into_owned()),
    };
    json!({
        "kind": kind,
        "id": id,
        "names": held.names,
        "bytes": held.bytes,
        "unused_seconds": held.unused.as_secs(),
        "in_use": held.in_use,
        "shared": held.shared,
    })
}

fn line(screen: &Screen, held: &StoreItem) -> String {
    let id = match &held.what {
        ItemKind::Layer(layer) => layer.spoken(),
        ItemKind::Blob(path) | ItemKind::Cache(path) => {
            path.file_name().unwrap_or_default().to_string_lossy().chars().take(23).collect()
        }
    };
    let used = if held.in_use { "in use".to_owned() } else { ago(held.unused) };
    let names = if held.names.is_empty() { "of no image".to_owned() } else { held.names.join("; ") };
    let shared = held.shared.as_ref().map_or_else(String::new, |place| format!("; also in {place}"));
    format!(
        "{:>9}  {:>8}  {:23}  {names}{shared}",
        size(held.bytes),
        used,
        styled(screen.out.faint, format_args!("{id:23}"))
    )
}

/// How long ago, for people.
fn ago(time: Duration) -> String {
    match time.as_secs() {
        0..60 => "now".to_owned(),
        seconds @ 60..3600 => format!("{} min", seconds / 60),
        seconds @ 3600..86_400 => format!("{} h", seconds / 3600),
        seconds => format!("{} d", seconds / 86_400),
    }
}

/// Looks at every byte; with `mend`, takes out what is damaged.
fn look(screen: &Screen, as_json: bool, mend: bool) -> Outcome {
    let build_env = BuildEnv::open()?;
    let progress = Progress::new(screen, Where::Nowhere);
    let report = |what: &str| progress.show(cavrith_engine::event::Event::Stage { text: format!("reading {what}") });
    let (store, staging) = (&build_env.store_session.store, &build_env.store_session.staging);
    let damage = if mend { store.repair(staging, &report) } else { store.check(&report) };
    progress.finish();
    let damage = damage?;
    if as_json {
        let all: Vec<_> = damage
            .iter()
            .map(|one| json!({ "path": one.path.display().to_string(), "what": one.what, "how": one.how }))
            .collect();
        screen.json(&json!({ "whole": damage.is_empty(), "removed": mend, "damage": all }));
        return Ok(u8::from(!damage.is_empty() && !mend));
    }
    damage.iter().for_each(|one| tell_damage(screen, one));
    match (damage.len(), mend) {
        (0, _) => screen.result(styled(screen.out.good, "everything in the store is as it was made")),
        (number, true) => screen.result(format_args!(
            "{} took out what {} belong to; the next cavrith build makes it again",
            styled(screen.out.good, "mended"),
            count(number, "damaged file")
        )),
        (number, false) => screen.result(format_args!(
            "{} {}; cavrith store repair takes out what is damaged, and the next build makes it again",
            styled(screen.out.bad, "damaged"),
            count(number, "file")
        )),
    }
    Ok(u8::from(!damage.is_empty() && !mend))
}

fn tell_damage(screen: &Screen, damage: &Damage) {
    screen.result(format_args!(
        "{}  {}: {} ({})",
        styled(screen.out.bad, "damage"),
        damage.what,
        damage.how,
        damage.path.display()
    ));
}

fn collect(screen: &Screen, command: &Collect) -> Outcome {
    let build_env = BuildEnv::open()?;
    let bounds = Bounds { unused_for: command.unused_for, down_to: command.down_to };
    let gone = build_env.store_session.store.collect(&build_env.store_session.staging, bounds, command.dry_run)?;
    let total: u64 = gone.iter().map(|one| one.bytes).sum();
    if command.report.json {
        let all: Vec<_> = gone.iter().map(as_value).collect();
        screen.json(&json!({ "removed": !command.dry_run, "bytes": total, "gone": all }));
        return Ok(0);
    }
    gone.iter().for_each(|one| screen.result(line(screen, one)));
    let done = if command.dry_run { "would go" } else { "gone" };
    let word = styled(screen.out.good, done);
    screen.result(format_args!("{word} {}, {}", count(gone.len(), "thing"), size(total)));
    Ok(0)
}
