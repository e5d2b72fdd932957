//! `cavrith record`

use std::path::Path;
use std::time::Instant;

use anstyle::Style;
use cavrith_core::record::Record as Recorded;
use cavrith_core::record::review::{MovedPackage, Review};
use cavrith_core::verdict::{count, size};
use cavrith_engine::{project, recording};
use cavrith_store::reading;
use serde_json::json;

use crate::args::{General, Record};
use crate::build_env::BuildEnv;
use crate::commands::{Outcome, build as building};
use crate::failure::Failure;
use crate::render::progress::{Where, seconds};
use crate::screen::{Screen, styled};

/// Hosts that are shown.
const SHOWN: usize = 4;
/// Lines of one kind that a review has.
const LINES: usize = 20;
/// Bytes that a record may have.
const LONGEST: u64 = 256 << 20;

pub fn exec(general: &General, screen: &Screen, command: &Record) -> Outcome {
    let started = Instant::now();
    if let Some([old, new]) = command.review.as_deref() {
        return review(screen, old, new, command.report.json);
    }
    let project = project::load(&project::find(general.project())?, general.variant.as_deref())?;
    let variants = if general.variant.is_some() { vec![project.clone()] } else { project.in_order() };
    let build_env = BuildEnv::open()?;
    let place = if command.report.json { Where::Nowhere } else { Where::Result };
    let recorded = building::with_progress(screen, &build_env, place, false, |context| {
        building::with_cache(context, &project, |context| {
            Ok(recording::record_all(context, &project, &variants, &command.step)?)
        })
    })?;
    if command.report.json {
        let steps = recorded.iter().map(|(variant, one)| {
            let mut value = json!(one);
            value["variant"] = json!(variant);
            value
        });
        screen.json(&json!({ "records": steps.collect::<Vec<_>>() }));
        return Ok(0);
    }
    if recorded.is_empty() && !screen.quiet {
        screen.result("no step fetches; network = \"recorded\" lets one");
    }
    for (variant, one) in &recorded {
        let pin = &one.pin;
        let mut hosts = pin.hosts.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
        if pin.hosts.len() > SHOWN {
            hosts += &format!(" and {} more", pin.hosts.len() - SHOWN);
        }
        let which = if variants.len() > 1 { format!(" of {variant}") } else { String::new() };
        let from = if hosts.is_empty() { String::new() } else { format!(" from {hosts}") };
        screen.result(format_args!(
            "{} step {:?}{which}  {}, {}{from}",
            styled(screen.out.good, if one.is_same { "the same" } else { "recorded" }),
            pin.step,
            count(pin.requests as usize, "request"),
            size(pin.bytes),
        ));
    }
    if !recorded.is_empty() && !screen.quiet {
        screen.result(format_args!(
            "{} and built from it, in {}; cavrith.records belongs into version control, beside the lock",
            styled(screen.out.good, "pinned"),
            seconds(started.elapsed().as_millis() as u64),
        ));
    }
    Ok(0)
}

fn read(path: &Path) -> Result<Recorded, Failure> {
    let unreadable = |why: String| Failure::Own(2, format!("{} cannot be read as a record: {why}", path.display()));
    let bytes = reading::bounded(path, LONGEST).map_err(|error| unreadable(error.to_string()))?;
    Recorded::parse(&String::from_utf8_lossy(&bytes)).map_err(|bad| unreadable(bad.to_string()))
}

/// Says what changed from one record to another. What nobody should do stands first.
fn review(screen: &Screen, old: &Path, new: &Path, as_json: bool) -> Outcome {
    let review = Review::new(&read(old)?, &read(new)?);
    let replaced = u8::from(!review.replaced.is_empty());
    if as_json {
        screen.json(&review);
        return Ok(replaced);
    }
    let lines = |title: &str, style: Style, all: Vec<String>| {
        for line in all.iter().take(LINES) {
            screen.result(format_args!("{} {line}", styled(style, format!("{title:<8}"))));
        }
        if all.len() > LINES {
            screen.result(format_args!("{:8} and {} more; --json has them all", "", all.len() - LINES));
        }
    };
    let Review { packages, new_hosts, gone_hosts, replaced: files, changed, added, gone, requests, bytes } = &review;
    lines(
        "replaced",
        screen.out.bad,
        files.iter().map(|url| format!("{url}: another file under the same version")).collect(),
    );
    lines("new host", screen.out.warning, new_hosts.clone());
    lines(
        "not any",
        screen.out.faint,
        gone_hosts.iter().map(|host| format!("{host}: nothing is asked there now")).collect(),
    );
    let moved = |one: &MovedPackage| match (one.from.join(", "), one.to.join(", ")) {
        (from, to) if from.is_empty() => format!("{}  {to}", one.name),
        (from, to) if to.is_empty() => format!("{}  {from} → not fetched", one.name),
        (from, to) => format!("{}  {from} → {to}", one.name),
    };
    let is_new = |one: &&MovedPackage| one.from.is_empty();
    lines("new", screen.out.good, packages.iter().filter(is_new).map(moved).collect());
    lines("moved", screen.out.good, packages.iter().filter(|one| !is_new(one)).map(moved).collect());
    lines("new", screen.out.good, added.clone());
    lines("not any", screen.out.faint, gone.clone());
    lines("changed", screen.out.warning, changed.clone());
    if review.is_empty() {
        screen.result(styled(screen.out.good, "they fetch the same"));
    } else if !screen.quiet {
        let totals = format!("{} → {} requests, {} → {}", requests.0, requests.1, size(bytes.0), size(bytes.1));
        screen.result(totals);
    }
    Ok(replaced)
}
