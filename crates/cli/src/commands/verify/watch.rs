//! `cavrith verify --watch`: the same measuring again and again, each time by a process of its own.

use std::collections::BTreeMap;
use std::thread;
use std::time::{Duration, Instant};

use cavrith_engine::project::Project;
use serde_json::{Value, json};

use crate::args::General;
use crate::commands::Outcome;
use crate::commands::own::Own;
use crate::render::runtime::clock;
use crate::screen::{Screen, styled};

/// Of a processor's time one in so many is measured in.
const SHARE: u32 = 100;
/// How often at most, however little it costs.
const SHORTEST: Duration = Duration::from_secs(2);

/// How somebody wants to be told.
#[derive(Debug, Clone, Copy)]
pub struct Watched {
    /// Not even the first time is everything read.
    pub quick: bool,
    /// As JSON.
    pub json: bool,
}

/// Measures until it is interrupted.
pub fn exec(general: &General, screen: &Screen, watched: Watched, project: &Project) -> Outcome {
    let own = Own { dir: &project.dir, general, variant: general.variant.clone(), quiet: true };
    let mut known: Option<BTreeMap<String, Value>> = None;
    loop {
        let started = Instant::now();
        // The first time, everything, unless that is not wanted; then what changed since.
        let quick = watched.quick || known.is_some();
        let depth = if quick { "--quick" } else { "--no-report" };
        let arguments = ["verify", depth, "--json"];
        let answer = own.answer(&arguments)?;
        let mut now = aspects(&answer);
        if let Some(known) = &known {
            // What a quick look does not measure stays as it was found.
            for (name, aspect) in known {
                now.entry(name.clone()).or_insert_with(|| aspect.clone());
            }
        }
        tell(screen, watched, known.as_ref(), &now);
        // Reading everything is done once.
        let cost = if known.is_some() { started.elapsed() } else { Duration::ZERO };
        known = Some(now);
        thread::sleep((cost * (SHARE - 1)).max(SHORTEST));
    }
}

/// The aspects of an answer, by their names.
fn aspects(answer: &Value) -> BTreeMap<String, Value> {
    let all = answer["aspects"].as_array().into_iter().flatten();
    all.filter_map(|aspect| Some((aspect["name"].as_str()?.to_owned(), aspect.clone()))).collect()
}

fn tell(screen: &Screen, watched: Watched, before: Option<&BTreeMap<String, Value>>, now: &BTreeMap<String, Value>) {
    let is_news = |name: &String, aspect: &Value| {
        let was = before.and_then(|before| before.get(name));
        was.is_none_or(|was| was["standing"] != aspect["standing"] || was["differences"] != aspect["differences"])
    };
    let news: Vec<_> = now.iter().filter(|(name, aspect)| is_news(name, aspect)).map(|(_, aspect)| aspect).collect();
    let millis = cavrith_keeper::record::now();
    if watched.json {
        if !news.is_empty() {
            screen.json(&json!({ "at": millis, "aspects": news }));
        }
        return;
    }
    let at = clock(millis);
    if before.is_none() && news.iter().all(|aspect| aspect["same"] == Value::Bool(true)) {
        screen.result(format_args!("{at}  {}", styled(screen.out.good, "the same as sealed")));
        return;
    }
    for aspect in news {
        let name = aspect["name"].as_str().unwrap_or_default();
        let same = aspect["same"] == Value::Bool(true);
        if before.is_none() && same {
            continue;
        }
        let standing = aspect["standing"].as_str().unwrap_or_default();
        let style = if same { screen.out.good } else { screen.out.bad };
        screen.result(format_args!("{at}  {}  {name}", styled(style, standing)));
        for difference in aspect["differences"].as_array().into_iter().flatten() {
            let text = |key: &str| difference[key].as_str().unwrap_or_default();
            screen.result(format_args!("    {}: {}, here {}", text("what"), text("expected"), text("here")));
        }
    }
}
