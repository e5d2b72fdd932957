//! A project with everything around it: its depots, its lock, its folders and files; every mistake that they show.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};

use cavrith_core::depot;
use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock;
use cavrith_core::lock::choose::{Offer, Update, choose};
use cavrith_core::mistake::{Code, Mistake};
use cavrith_core::spec::{Origin, Spec};
use cavrith_sources::SourceError;
use cavrith_sources::web::Web;
use cavrith_store::{Store, reading};

use crate::error::{EngineError, plain};
use crate::findings::Findings;
use crate::outside::Bounds;
use crate::project::{Project, read_lock, read_spec_within};
use crate::{supply, surroundings};

/// A project with all that its files and depots say.
#[derive(Debug)]
pub struct Survey {
    /// The project, when its spec is sound.
    pub project: Option<Project>,
    /// What the depots offer.
    pub offers: BTreeMap<String, Offer>,
    /// Every mistake.
    pub findings: Findings,
}

/// Reads everything and reports every mistake: in the spec, in the depots' indexes, and between them. Indexes on the
/// web come over `web`; those seen last are in `store`.
///
/// # Errors
/// When the spec cannot be read at all.
pub fn survey(dir: &Path, web: &Web, store: Option<&Store>, update: &Update) -> Result<Survey, EngineError> {
    let bounds = Bounds::of(dir)?;
    let (gathered, parsed) = read_spec_within(dir, &bounds)?;
    let draft = parsed.draft().cloned();
    let mut findings = Findings { sources: gathered.sources, mistakes: parsed.mistakes };
    let Some(spec) = draft else {
        findings.sort();
        return Ok(Survey { project: None, offers: BTreeMap::new(), findings });
    };
    let offers = offered(dir, &spec, web, store, &mut findings);
    let previous = read_lock(dir);
    let mut every_variant = Vec::new();
    let others = parsed.drafts.values().filter(|other| other.variant != spec.variant);
    for spec in std::iter::once(&spec).chain(others) {
        let pins = previous.as_ref().ok().and_then(Option::as_ref).map(|whole| whole.of_spec(spec));
        let (lock, mut mistakes) = choose(spec, &offers, pins.as_ref().and_then(Option::as_ref), update);
        mistakes.extend(surroundings::mistakes(&bounds, dir, spec, &lock));
        mistakes.extend(pins.and_then(|pins| surroundings::behind(spec, pins.as_ref())));
        every_variant.push((spec, mistakes));
    }
    // What one variant does not use another one may.
    let unused_in_all = |mistake: &Mistake| {
        mistake.code != Code::DEPOT_UNUSED || every_variant.iter().all(|(_, mistakes)| mistakes.contains(mistake))
    };
    let mut found: Vec<Mistake> = Vec::new();
    for (spec, mistakes) in &every_variant {
        for mistake in mistakes.iter().filter(|mistake| unused_in_all(mistake)) {
            if !found.iter().any(|known| (known.code, &known.places) == (mistake.code, &mistake.places)) {
                let mut mistake = mistake.clone();
                if !spec.is_default {
                    mistake.message = format!("in the variant `{}`: {}", spec.variant, mistake.message);
                }
                found.push(mistake);
            }
        }
    }
    findings.mistakes.extend(found);
    let project = Project { dir: dir.to_owned(), spec, variants: parsed.drafts, bounds };
    findings.mistakes.extend(surroundings::team(&project, previous.as_ref().ok().and_then(Option::as_ref)));
    if let Some((text, mistake)) = surroundings::lock_mistake(dir, &previous) {
        findings.add_in(Path::new(lock::FILE_NAME), &text, mistake);
    }
    findings.mistakes.extend(surroundings::beside(dir, &project.spec, previous, &findings.sources));
    findings.sort();
    Ok(Survey { project: Some(project), offers, findings })
}

/// What the depots of a spec offer; mistakes in their indexes go to `findings`.
pub fn offered(
    dir: &Path,
    spec: &Spec,
    web: &Web,
    store: Option<&Store>,
    findings: &mut Findings,
) -> BTreeMap<String, Offer> {
    let mut offers = BTreeMap::new();
    for (name, depot) in &spec.depots {
        let origin = &depot.value.origin;
        match read_index(dir, origin, web, store) {
            Ok((text, note)) => {
                let digest = Sha256Digest::of(text.as_bytes());
                match depot::parse(&text) {
                    Ok(index) => drop(offers.insert(name.clone(), Offer { index, digest })),
                    Err(mistake) => {
                        let shown = match origin {
                            Origin::Path(path) => Path::new(&path.value).join(depot::FILE_NAME),
                            Origin::Url(url) => PathBuf::from(supply::join_url(&url.value, depot::FILE_NAME)),
                        };
                        findings.add_in(&shown, &text, *mistake);
                    }
                }
                if let Some(note) = note {
                    let message = format!("the depot `{name}`: {note}");
                    let mistake =
                        Mistake::new(Code::DEPOT_UNREACHABLE, origin.at().span.clone(), message, "try again later");
                    findings.mistakes.push(mistake.as_warning());
                }
            }
            Err((code, why, remedy)) => {
                let message = format!("the depot `{name}` cannot be read: {why}");
                findings.mistakes.push(Mistake::new(code, origin.at().span.clone(), message, remedy));
            }
        }
    }
    offers
}

type Unread = (Code, String, &'static str);

/// The index of a depot, and what is good to know of it.
fn read_index(
    dir: &Path,
    origin: &Origin,
    web: &Web,
    store: Option<&Store>,
) -> Result<(String, Option<String>), Unread> {
    match origin {
        Origin::Path(path) => {
            let index = dir.join(&path.value).join(depot::FILE_NAME);
            let remedy = "correct the path; it is relative to the spec, and the folder has to hold a depot.toml";
            let why =
                |error: io::Error| (Code::DEPOT_UNREADABLE, format!("{}: {}", index.display(), plain(&error)), remedy);
            Ok((reading::text(&index).map_err(why)?, None))
        }
        Origin::Url(url) => supply::index(web, store, &url.value).map_err(|error| {
            let code = if matches!(error, SourceError::Unreachable { .. }) {
                Code::DEPOT_UNREACHABLE
            } else {
                Code::DEPOT_UNREADABLE
            };
            (code, error.to_string(), "correct the address, or try again when it can be reached")
        }),
    }
}
