//! `cavrith link`

use cavrith_core::link::{Link as Written, Place};
use cavrith_engine::project;
use cavrith_exchange::joining;
use serde_json::json;

use crate::args::{General, Link};
use crate::commands::Outcome;
use crate::failure::Failure;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Link) -> Outcome {
    let project = project::load(&project::find(general.project())?, general.variant.as_deref())?;
    let at = command.place.as_deref().map(Place::parse).transpose();
    let at = at.map_err(|why| Failure::Own(2, format!("that is no place in the project: {why}")))?;
    if let Some(place) = at.as_ref().filter(|place| !project.dir.join(&place.file).is_file()) {
        return Err(Failure::Own(2, format!("there is no file {} in {}", place.file, project.dir.display())));
    }
    let named = command.source.clone();
    let cloned = || joining::origin(&project.dir).map(|address| without_login(&address));
    let source = named.clone().or_else(cloned).ok_or_else(|| {
        let text = "the project was not cloned from anywhere; say with --source where colleagues get it";
        Failure::Own(2, text.to_owned())
    })?;
    // A parcel or a registry's tag has no revisions.
    let revision = named.is_none().then(|| joining::revision(&project.dir)).flatten();
    let variant = general.variant.clone().filter(|_| !project.spec.is_default);
    let link = Written { source, revision, variant, at };
    if command.report.json {
        screen.json(&json!({ "link": link.to_string(), "source": link.source, "revision": link.revision }));
        return Ok(0);
    }
    screen.verbatim(&link);
    if link.revision.is_some() {
        let text = "what is not committed and pushed is not in it";
        screen.say(format_args!("{} {text}", styled(screen.err.faint, "note")));
    }
    Ok(0)
}

/// An address without the name and password that may be in it.
fn without_login(address: &str) -> String {
    let Some((scheme, rest)) = address.split_once("://") else { return address.to_owned() };
    let (authority, path) = rest.split_once('/').unwrap_or((rest, ""));
    match authority.rsplit_once('@') {
        // ssh wants a name, which is no secret.
        Some((login, host)) if scheme != "ssh" || login.contains(':') => format!("{scheme}://{host}/{path}"),
        _ => address.to_owned(),
    }
}
