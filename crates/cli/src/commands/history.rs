//! `cavrith history`

use cavrith_core::path::RootPath;
use cavrith_engine::project;
use cavrith_exchange::revisions;
use cavrith_workspace::history::{self, Past, Question};
use serde_json::json;

use crate::args::{General, History};
use crate::commands::{Outcome, for_all_variants};
use crate::failure::Failure;
use crate::render;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &History) -> Outcome {
    for_all_variants(general, "history")?;
    let dir = project::find(general.project())?;
    let mut question = Question { after: command.since.as_deref(), last: command.last, ..Question::default() };
    for path in &command.paths {
        let bad = |why: String| Failure::Own(2, format!("{path}: {why}"));
        if path.starts_with('/') {
            question.inside.push(RootPath::from_absolute(path).map_err(|error| bad(error.to_string()))?);
        } else {
            let inner = RootPath::from_plain(path.trim_end_matches('/').as_bytes());
            let inner = inner.map_err(|_| {
                bad("name a file of the project, relative to it, or an absolute path in the image".to_owned())
            })?;
            question.files.push(inner.as_relative().display().to_string());
        }
    }
    let Past { mut steps, has_more } = screen.meanwhile("reading the revisions", || history::read(&dir, &question))?;
    steps.reverse();
    let is_shallow = revisions::is_shallow(&dir);
    if command.report.json {
        screen.json(&json!({ "revisions": steps, "has_more": has_more, "shallow": is_shallow }));
        return Ok(0);
    }
    for step in &steps {
        render::history::step(screen, step);
    }
    if steps.is_empty() {
        let what = if command.paths.is_empty() { "the workspace" } else { "any of that" };
        screen.result(format_args!("no revision changed {what}"));
    } else if has_more {
        screen.say("there are older ones; leave --last out to see them");
    }
    if is_shallow {
        screen.say(format_args!(
            "{} this clone has the newest revisions only; git fetch --unshallow brings the others",
            styled(screen.err.warning, "note")
        ));
    }
    Ok(0)
}
