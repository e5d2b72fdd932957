//! `cavrith completions` and `cavrith manual`

use std::path::Path;

use clap::CommandFactory as _;

use crate::args::{Args, Completions, Manual};
use crate::commands::Outcome;
use crate::completing;
use crate::failure::Failure;
use crate::screen::Screen;

pub fn completions(screen: &Screen, command: &Completions) -> Outcome {
    let mut text = Vec::new();
    // What it prints asks the program each time, which knows the project's names.
    let written = completing::registration(command.shell, &mut text);
    written.map_err(|error| Failure::Own(3, format!("the completions cannot be written: {error}")))?;
    screen.verbatim(String::from_utf8_lossy(&text).trim_end());
    Ok(0)
}

/// Writes a page for the program and for each command.
pub fn manual(screen: &Screen, command: &Manual) -> Outcome {
    let cannot = |path: &Path| {
        let path = path.to_owned();
        move |error: std::io::Error| Failure::Own(3, format!("cannot write {}: {error}", path.display()))
    };
    std::fs::create_dir_all(&command.dir).map_err(cannot(&command.dir))?;
    let mut program = Args::command();
    program.build();
    let mut pages = vec![program.clone()];
    while let Some(page) = pages.pop() {
        let name = page.get_display_name().unwrap_or_else(|| page.get_name()).to_owned();
        let mut text = Vec::new();
        let path = command.dir.join(format!("{name}.1"));
        clap_mangen::Man::new(page.clone()).render(&mut text).map_err(cannot(&path))?;
        std::fs::write(&path, text).map_err(cannot(&path))?;
        pages
            .extend(page.get_subcommands().filter(|inner| !inner.is_hide_set() && inner.get_name() != "help").cloned());
        screen.say(format_args!("wrote {}", path.display()));
    }
    Ok(0)
}
