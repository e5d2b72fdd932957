//! `cavrith depot`

use cavrith_core::depot::{EditorProfile, Index, LaunchForm};
use cavrith_core::verdict::{count, size};
use cavrith_engine::bodies::BodySource;
use cavrith_engine::depots::{self, Described};
use cavrith_engine::supply::Supply;
use cavrith_engine::{EngineError, project};
use serde_json::json;

use crate::args::{Depot, DepotAdd, DepotDir, DepotFill, EditorPlaces, General, Report};
use crate::build_env::StoreSession;
use crate::commands::{Outcome, build, for_all_variants, locked_project};
use crate::render::progress::{Progress, Where};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Depot) -> Outcome {
    match command {
        Depot::New(new) => {
            depots::new(&new.dir, new.about.clone())?;
            done(screen, &new.report, "made", &format!("{}; add files with cavrith depot add", new.dir.display()))
        }
        Depot::Add(add) => self::add(screen, add),
        Depot::Check(dir) => check(screen, dir),
        Depot::List(dir) => list(screen, dir),
        Depot::Fill(dir) => fill(general, screen, dir),
    }
}

fn done(screen: &Screen, report: &Report, word: &str, what: &str) -> Outcome {
    if report.json {
        screen.json(&json!({ word: what }));
    } else if !screen.quiet {
        screen.result(format_args!("{} {what}", styled(screen.out.good, word)));
    }
    Ok(0)
}

fn add(screen: &Screen, command: &DepotAdd) -> Outcome {
    let described = command.name.as_ref().zip(command.release.as_ref()).map(|(name, version)| Described {
        name: name.clone(),
        version: version.clone(),
        part: command.part.clone(),
        strip: command.strip,
        place: command.place.clone(),
        path: command.path.clone(),
        probe: command.probe.clone(),
        answer: command.answer.clone(),
    });
    if let EditorPlaces {
        editor: Some(name),
        extensions: Some(extensions),
        settings: Some(settings),
        launch,
        language,
        opens,
        debug_adapter,
    } = &command.profile
    {
        let profile = EditorProfile {
            name: name.clone(),
            extensions: extensions.clone(),
            settings: settings.clone(),
            launch: launch.clone(),
            language: *language,
            launch_form: if *debug_adapter { LaunchForm::DebugAdapter } else { LaunchForm::Own },
            open: opens.clone(),
        };
        return done(screen, &command.report, "added", &depots::add_editor(&command.dir, profile)?);
    }
    let file = command.file.as_deref().unwrap_or(std::path::Path::new(""));
    let store_session = StoreSession::open()?;
    if let (Some(name), Some(about)) = (&command.template, &command.about) {
        let staging = &store_session.staging;
        return done(
            screen,
            &command.report,
            "added",
            &depots::add_template(&command.dir, file, (name, about), staging)?,
        );
    }
    let added = depots::add(&command.dir, file, described.as_ref(), &store_session.staging)?;
    done(screen, &command.report, "added", &added)
}

fn check(screen: &Screen, command: &DepotDir) -> Outcome {
    let (files, flaws) = depots::check(&command.dir)?;
    if command.report.json {
        screen.json(&json!({ "whole": flaws.is_empty(), "files": files, "flaws": flaws }));
    } else if flaws.is_empty() {
        screen.result(format_args!("{} {}", count(files, "file"), styled(screen.out.good, "as the index says")));
    } else {
        for flaw in &flaws {
            screen.result(format_args!("{}  {} {}", styled(screen.out.bad, "damage"), flaw.file, flaw.why));
        }
        let remedy = "bring them again, or take their entries out of depot.toml";
        screen.result(format_args!("{} of {files}; {remedy}", count(flaws.len(), "damaged file")));
    }
    Ok(u8::from(!flaws.is_empty()))
}

/// What a depot offers: kind, name, version, length, and parts.
fn offered(index: &Index) -> Vec<(&'static str, String, String, u64, Vec<String>)> {
    let mut all = Vec::new();
    for one in &index.packages {
        all.push(("package", one.name.clone(), one.version.clone(), one.file.size, Vec::new()));
    }
    for one in &index.toolchains {
        let parts = one.parts.iter().map(|part| part.name.clone()).collect();
        let bytes = one.file.size + one.parts.iter().map(|part| part.file.size).sum::<u64>();
        all.push(("toolchain", one.name.clone(), one.version.to_string(), bytes, parts));
    }
    for one in &index.extensions {
        all.push(("extension", one.id.clone(), one.version.to_string(), one.file.size, Vec::new()));
    }
    for one in &index.editors {
        all.push(("editor", one.name.clone(), String::new(), 0, Vec::new()));
    }
    for one in &index.templates {
        all.push(("template", one.name.clone(), String::new(), one.file.size, Vec::new()));
    }
    for one in &index.downloads {
        all.push((
            "download",
            one.name.clone(),
            one.file.sha256.to_string()[..16].to_owned(),
            one.file.size,
            Vec::new(),
        ));
    }
    all
}

fn list(screen: &Screen, command: &DepotDir) -> Outcome {
    let index = depots::read(&command.dir)?;
    let all = offered(&index);
    if command.report.json {
        let all: Vec<_> = all
            .iter()
            .map(|(kind, name, version, bytes, parts)| {
                json!({ "kind": kind, "name": name, "version": version, "bytes": bytes, "parts": parts })
            })
            .collect();
        screen.json(&json!({ "about": index.about, "offers": all }));
        return Ok(0);
    }
    let width = all.iter().map(|(_, name, ..)| name.chars().count()).max().unwrap_or(0);
    let wide = all.iter().map(|(_, _, version, ..)| version.chars().count()).max().unwrap_or(0);
    for (kind, name, version, bytes, parts) in &all {
        let bytes = if *bytes == 0 { String::new() } else { size(*bytes) };
        let parts = if parts.is_empty() { String::new() } else { format!("  with {}", parts.join(", ")) };
        let line = format!(
            "{:9}  {name:width$}  {version:wide$}  {bytes:>9}{parts}",
            styled(screen.out.faint, format_args!("{kind:9}"))
        );
        screen.result(line.trim_end());
    }
    if all.is_empty() {
        screen.result("nothing yet; add files with cavrith depot add");
    }
    Ok(0)
}

fn fill(general: &General, screen: &Screen, command: &DepotFill) -> Outcome {
    for_all_variants(general, "depot fill")?;
    let (project, _) = locked_project(general)?;
    let store_session = StoreSession::open()?;
    let progress = Progress::new(screen, Where::Nowhere);
    let observer = |event| progress.show(event);
    let variants = project.in_order().into_iter().map(|variant| {
        let lock = project::load_lock(&variant)?;
        Ok((variant, lock))
    });
    let variants = variants.collect::<Result<Vec<_>, EngineError>>()?;
    let cache = build::cache(&store_session.member, &project);
    let bodies = cache.as_ref().map(|cache| cache as &dyn BodySource);
    let supply = Supply { bodies, ..store_session.supply(&observer) };
    let filled = depots::fill(&command.dir, &variants, supply, command.fetched);
    progress.finish();
    let filled = filled?;
    if command.report.json {
        screen.json(&json!(filled));
        return Ok(0);
    }
    for note in &filled.notes {
        screen.say(format_args!("{} {note}", styled(screen.err.warning, "note")));
    }
    if screen.verbose {
        filled.brought.iter().for_each(|file| screen.say(format_args!("brought {file}")));
    }
    let there = if filled.there > 0 { format!(", {} there already", filled.there) } else { String::new() };
    let brought = count(filled.brought.len(), "file");
    done(screen, &command.report, "filled", &format!("{} with {brought}{there}", command.dir.display()))
}
