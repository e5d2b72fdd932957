//! `cavrith show`

use cavrith_core::spec::document;
use cavrith_engine::EngineError;
use cavrith_engine::error::ProjectError;
use cavrith_engine::findings::Findings;
use cavrith_engine::project;
use serde_json::json;

use crate::args::{General, Report};
use crate::commands::Outcome;
use crate::render::mistakes;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Report) -> Outcome {
    let dir = project::find(general.project())?;
    let (gathered, parsed) = project::read_spec(&dir)?;
    let findings = Findings { sources: gathered.sources.clone(), mistakes: parsed.mistakes };
    // With a variant, its own document; without, what is written.
    let table = match &general.variant {
        None => &gathered.table,
        Some(name) => parsed
            .tables
            .get(name)
            .ok_or_else(|| ProjectError::NoVariant {
                name: name.clone(),
                known: parsed.tables.keys().cloned().collect::<Vec<_>>().join(", "),
            })
            .map_err(EngineError::from)?,
    };
    let lines = document::lines(table);
    if command.json {
        let entries: Vec<_> = lines
            .iter()
            .map(|line| json!({ "key": line.key, "value": line.json, "from": gathered.sources.place(line.span.start) }))
            .collect();
        screen.json(&json!({ "sound": findings.is_sound(), "entries": entries }));
        return Ok(u8::from(!findings.is_sound()));
    }
    // A value of many lines or words does not push the origins of all others away.
    let widest = lines.iter().map(|line| line.key.chars().count() + 3 + line.value.chars().count());
    let width = widest.filter(|width| *width <= 60).max().unwrap_or(0);
    for line in &lines {
        let from = styled(screen.out.faint, format_args!("# {}", gathered.sources.place(line.span.start)));
        screen.result(format_args!("{:width$}  {from}", format!("{} = {}", line.key, line.value)));
    }
    if !findings.is_sound() {
        mistakes::show(screen, &findings);
        return Ok(1);
    }
    Ok(0)
}
