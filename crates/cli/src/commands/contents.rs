//! `cavrith contents`

use cavrith_core::contents::{self, Item, Subject};
use cavrith_core::path::RootPath;
use cavrith_engine::contents::Why;
use cavrith_engine::{build, contents as listing};
use serde_json::json;

use crate::args::{Contents, ContentsFormat, General};
use crate::build_env;
use crate::commands::{Outcome, locked_project};
use crate::failure::Failure;
use crate::screen::{Screen, styled};

/// Licences that a line shows.
const SHOWN: usize = 3;

pub fn exec(general: &General, screen: &Screen, command: &Contents) -> Outcome {
    let (project, lock) = locked_project(general)?;
    let (_, store) = build_env::store()?;
    let built = build::find(&store, &project, &lock)?;
    let image = built.as_ref().map(|built| &built.record);
    if let Some(path) = &command.why {
        let path = RootPath::from_absolute(path).map_err(|bad| Failure::Own(2, bad.to_string()))?;
        let Some(image) = image else {
            return Err(Failure::Own(3, "the image is not built here; run cavrith build".to_owned()));
        };
        return why(screen, &listing::why(&store, &project, &lock, image, &path)?, command.report.json);
    }
    let items = listing::list(&store, &project, &lock, image)?;
    let pins = lock.pins_digest().to_string();
    let subject = Subject {
        name: &project.spec.name(),
        image: image.map(|image| &image.image),
        pins: &pins,
        epoch: lock.epoch,
        version: env!("CARGO_PKG_VERSION"),
    };
    if command.report.json {
        screen.json(&json!({ "built": image.is_some(), "contents": items }));
        return Ok(0);
    }
    match command.format {
        ContentsFormat::SpdxJson => screen.json(&contents::spdx(subject, &items)),
        ContentsFormat::CyclonedxJson => screen.json(&contents::cyclonedx(subject, &items)),
        ContentsFormat::Table => table(screen, &items),
    }
    if image.is_none() && !screen.quiet {
        screen.say(format_args!(
            "{} the image is not built here, so nothing is known of licences; cavrith build makes it",
            styled(screen.err.warning, "note")
        ));
    }
    Ok(0)
}

fn why(screen: &Screen, why: &Why, as_json: bool) -> Outcome {
    if as_json {
        screen.json(why);
        return Ok(u8::from(why.kind.is_none()));
    }
    let kind = why.kind.unwrap_or("not in the image");
    screen.result(format_args!("{}  {kind}", styled(screen.out.strong, &why.path)));
    for (what, text) in [("layer", &why.layer), ("from", &why.origin), ("rule", &why.rule)] {
        if let Some(text) = text {
            screen.result(format_args!("  {} {text}", styled(screen.out.faint, format_args!("{what:6}"))));
        }
    }
    Ok(u8::from(why.kind.is_none()))
}

fn table(screen: &Screen, items: &[Item]) {
    let longest = |text: fn(&Item) -> usize| items.iter().map(text).max().unwrap_or(0);
    let kind = longest(|item| item.kind.len());
    let name = longest(|item| item.name.chars().count()).min(40);
    let version = longest(|item| item.version.chars().count()).min(30);
    for item in items {
        // Large packages declare dozens; the other forms have them all.
        let more = item.licences.len().saturating_sub(SHOWN);
        let mut licences = item.licences.iter().take(SHOWN).cloned().collect::<Vec<_>>().join("; ");
        if more > 0 {
            licences.push_str(&format!("; and {more} more"));
        }
        let digest = &item.sha256.to_string()[..12];
        // Padded first: what gives a word its looks has no width, and would be counted.
        let padded = format!("{:name$}", item.name);
        let line = format!(
            "{:kind$}  {}  {:version$}  {digest}  {}",
            item.kind,
            styled(screen.out.strong, padded),
            item.version,
            item.origin,
        );
        screen.result(if licences.is_empty() { line } else { format!("{line}  [{licences}]") });
    }
}
