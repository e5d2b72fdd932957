//! `cavrith names`

use cavrith_keeper::names;
use cavrith_workspace::lifecycle;
use serde_json::json;

use crate::args::{General, Names};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::start::meant;
use crate::commands::stop::hosts_file;
use crate::failure::Failure;
use crate::screen::Screen;

pub fn exec(general: &General, screen: &Screen, command: &Names) -> Outcome {
    let home = build_env::home()?;
    let (place, project) = meant(general, &home, &command.which).to_start()?;
    let file = hosts_file(command.file.as_deref());
    let label = lifecycle::names_label(&place);
    let wanted = if command.remove { Vec::new() } else { lifecycle::outside_names(&project.spec) };
    let mut changed = false;
    if command.apply || command.remove {
        changed = names::apply(&file, &label, &wanted).map_err(|error| {
            let remedy = "run it as an administrator, or put the lines of cavrith names there yourself";
            Failure::Own(3, format!("{} cannot be changed: {error}; {remedy}", file.display()))
        })?;
    }
    if command.report.json {
        let file = file.display().to_string();
        let names: Vec<_> = wanted.iter().map(|named| &named.name).collect();
        screen.json(&json!({ "names": names, "file": file, "changed": changed }));
    } else if !(command.apply || command.remove) {
        if wanted.is_empty() {
            screen.say("the spec has no [names]");
        }
        screen.result(names::outside_lines(&wanted).trim_end());
    } else if changed {
        screen.say(format_args!("{} is brought up to date", file.display()));
    } else {
        screen.say(format_args!("{} is up to date already", file.display()));
    }
    Ok(0)
}
