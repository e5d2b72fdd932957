//! `cavrith logs`

use std::collections::BTreeMap;
use std::time::Duration;

use cavrith_core::mistake::nearest;
use cavrith_keeper::journal::{self, Follower, Line};
use cavrith_keeper::record::now;
use serde_json::json;

use crate::args::{General, Logs};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::start::meant;
use crate::failure::Failure;
use crate::render::runtime::clock_exact;
use crate::screen::{Screen, styled};

/// How often it is looked for more.
const LOOK: Duration = Duration::from_millis(100);

pub fn exec(general: &General, screen: &Screen, command: &Logs) -> Outcome {
    let home = build_env::home()?;
    let place = meant(general, &home, &command.which).found()?;
    let logs = place.dir.join("logs");
    let known = journal::sources(&logs);
    for source in &command.source {
        if !known.contains(source) {
            let meant = nearest(source, known.iter().map(String::as_str));
            let remedy = match meant {
                Some(meant) => format!("is {meant} meant?"),
                None if known.is_empty() => "nothing was written yet".to_owned(),
                None => format!("these have: {}", known.join(", ")),
            };
            return Err(Failure::Own(2, format!("no service and no step {source:?} has written anything; {remedy}")));
        }
    }
    let sources = if command.source.is_empty() { known } else { command.source.clone() };
    let since = command.since.map_or(0, |since| now().saturating_sub(since.as_millis() as u64));
    let mut followers: BTreeMap<String, Follower> = BTreeMap::new();
    let lines = if command.follow {
        let mut lines = Vec::new();
        for source in &sources {
            let (earlier, follower) = Follower::with_earlier(&logs, source);
            lines.extend(earlier.into_iter().filter(|line| line.at >= since));
            followers.insert(source.clone(), follower);
        }
        lines.sort_by_key(|line| line.at);
        lines
    } else {
        journal::read(&logs, &sources, since)
    };
    if command.report.json {
        screen.json(&json!({ "lines": lines }));
        return Ok(0);
    }
    let width = sources.iter().map(|source| source.chars().count()).max().unwrap_or(0);
    lines.iter().for_each(|line| show(screen, line, width));
    if !command.follow {
        return Ok(0);
    }
    // Until it is interrupted, or the workspace is dropped.
    while place.dir.is_dir() {
        std::thread::sleep(LOOK);
        if command.source.is_empty() {
            // A service that begins only now is followed, too, from its first line on.
            for source in journal::sources(&logs) {
                followers.entry(source.clone()).or_insert_with(|| Follower::new(&logs, &source));
            }
        }
        let mut news: Vec<_> = followers.values_mut().flat_map(Follower::news).collect();
        news.sort_by_key(|line| line.at);
        news.iter().for_each(|line| show(screen, line, width));
    }
    Ok(0)
}

fn show(screen: &Screen, line: &Line, width: usize) {
    let head = format!("{} {:width$}", clock_exact(line.at), line.source);
    let text = cavrith_core::path::shown(line.text.as_bytes());
    let own = text.starts_with("[cavrith]");
    let text = if own { styled(screen.out.faint, text) } else { text };
    screen.verbatim(format_args!("{} {text}", styled(screen.out.faint, head)));
}
