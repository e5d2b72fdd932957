//! What was changed inside a project's own workspaces since they were fresh.
//!
//! A workspace is used, so not every change makes it another one. What makes it another one is a change of what came
//! with the image, and something new where programs and their settings lie. What a member keeps in the account's home,
//! what programs write as they run, and what the spec's own steps wrote at a start, is counted apart.

use std::collections::BTreeMap;
use std::path::Path;

use cavrith_core::account;
use cavrith_core::path::RootPath;
use cavrith_core::seal::Seal;
use cavrith_core::tree::Tree;
use cavrith_core::tree::diff::{Change, What, changes};
use cavrith_core::verdict::{Aspect, Difference, count};
use cavrith_engine::context::BuildContext;
use cavrith_engine::home::Home;
use cavrith_engine::project::Project;

use super::image::Image;
use crate::scratches;
use cavrith_keeper::openings;
use cavrith_keeper::place::Place;
use cavrith_keeper::record::Record;

/// Where programs write as they run.
const STATE: [&str; 7] = ["var/log", "var/cache", "var/tmp", "var/spool", "var/mail", "tmp", "run"];
/// Where a program keeps what it manages; but for the package manager's records, which say what is installed.
const MANAGED: &str = "var/lib";
const RECORDS: &str = "var/lib/dpkg";
/// Where programs and their settings lie.
const PROGRAMS: [&str; 9] = ["etc", "usr", "bin", "sbin", "lib", "lib32", "lib64", "opt", "boot"];
/// The package manager's lists of files.
const LISTS: &str = "var/lib/dpkg/info";

/// An aspect for each workspace of the project.
pub(super) fn aspects(
    context: BuildContext<'_>,
    home: &Home,
    project: &Project,
    image: &Image<'_>,
    seal: &Seal,
) -> Vec<Aspect> {
    let is_of_variant = |place: &Place| match Record::read(&place.dir) {
        Some(record) => record.arrangement.variant == project.spec.variant,
        None => project.spec.is_default,
    };
    let own = Place::all(home).into_iter().filter(|place| place.is_of(&project.dir) && is_of_variant(place));
    own.map(|place| {
        let name = if place.named { format!("scratch of {}", place.name) } else { "scratch".to_owned() };
        let account = account::home(&project.spec.workspace.account.value);
        aspect(context, &place, image, seal, &account, name)
    })
    .collect()
}

fn aspect(
    context: BuildContext<'_>,
    place: &Place,
    image: &Image<'_>,
    seal: &Seal,
    home: &str,
    name: String,
) -> Aspect {
    let mut differences = Vec::new();
    if place.is_held()
        && let Some(record) = Record::read(&place.dir)
        && record.arrangement.image != seal.image
    {
        let here = record.arrangement.image.spoken();
        differences.push(Difference::new("the image that it runs on", seal.image.spoken(), here));
    }
    let scratch = place.scratch_path(&image.record.image);
    if !scratch.is_dir() {
        return Aspect::new(name, "nothing was changed inside", differences);
    }
    let found = match scratches::read(context, &scratch, &image.merged) {
        Ok(found) => found,
        Err(error) => {
            let unmeasured = vec![error.to_string()];
            return Aspect { unmeasured, ..Aspect::new(name, "what was changed inside", differences) };
        }
    };
    let mut shown = found.tree.clone();
    if !found.is_whole {
        shown = image.merged.clone();
        shown.overlay(&found.tree);
    }
    let openings = openings::read(&scratch);
    let by_steps = |path: &RootPath| {
        found.changed.get(path).is_some_and(|millis| openings.iter().any(|opening| opening.contains(*millis)))
    };
    let (mut apart, mut counted) = (0, Vec::new());
    for change in changes(&image.merged, &shown) {
        let Some(change) = without_time(change, &shown) else { continue };
        let own_file = cavrith_keeper::OWN_FILES.iter().any(|own| change.path.to_string() == **own);
        match () {
            () if own_file => {}
            () if by_steps(&change.path) || !counts(&change, home) => apart += 1,
            () => counted.push(change),
        }
    }
    let owners = Owned::find(image, &scratch, &shown, &counted);
    let mut by_package: Vec<_> = counted.iter().map(|change| (owners.of(&change.path), change)).collect();
    // Package by package, and what belongs to nobody last.
    by_package.sort_by(|(one, a), (other, b)| (one.is_none(), one, &a.path).cmp(&(other.is_none(), other, &b.path)));
    differences.extend(by_package.into_iter().map(|(package, change)| {
        let from = package.map(|package| format!("package {package}"));
        Difference::of_change(change, from)
    }));
    let measured = match (counted.len(), apart) {
        (0, 0) => "nothing was changed inside".to_owned(),
        (changed, 0) => format!("{} changed inside", count(changed, "file")),
        (changed, apart) => {
            format!("{} changed inside, and {apart} in the home, by steps, or as new data", count(changed, "file"))
        }
    };
    Aspect::new(name, measured, differences)
}

/// A change without what says only when something was written: every file that is written inside has a time of its own.
/// New directories are no news either; what is in them is.
fn without_time(mut change: Change, merged: &Tree) -> Option<Change> {
    match &mut change.what {
        What::Changed { fields } => {
            fields.retain(|field| field.name != "time");
            if fields.is_empty() {
                return None;
            }
        }
        What::Extra if merged.get(&change.path).is_some_and(|entry| entry.kind.is_directory()) => return None,
        What::Extra | What::Missing => {}
    }
    Some(change)
}

/// Whether a change makes the workspace another one than was sealed.
fn counts(change: &Change, home: &str) -> bool {
    let lies_in = |top: &str| RootPath::from_archive(top.as_bytes()).is_ok_and(|top| change.path.lies_in(&top));
    if lies_in(RECORDS) {
        return true;
    }
    if STATE.iter().any(|top| lies_in(top)) || lies_in(MANAGED) || lies_in(home.trim_start_matches('/')) {
        return false;
    }
    change.what != What::Extra || PROGRAMS.iter().any(|top| lies_in(top))
}

/// Which package each of some files belongs to.
struct Owned(BTreeMap<RootPath, String>);

impl Owned {
    /// By the package manager's lists, those that were changed inside first: what was installed by hand is in them.
    fn find(image: &Image<'_>, scratch: &Path, merged: &Tree, changes: &[Change]) -> Self {
        let mut owned = BTreeMap::new();
        if changes.is_empty() {
            return Self(owned);
        }
        let wanted: std::collections::BTreeSet<_> = changes.iter().map(|change| &change.path).collect();
        let Ok(lists) = RootPath::from_archive(LISTS.as_bytes()) else { return Self(owned) };
        let names: Vec<_> = merged.under(&lists).map(|(path, _)| path.clone()).collect();
        for path in names {
            let shown = path.to_string();
            let Some(package) = shown.rsplit('/').next().and_then(|name| name.strip_suffix(".list")) else { continue };
            let package = package.split(':').next().unwrap_or(package);
            let inside = cavrith_store::reading::bytes(&scratch.join("root").join(path.as_relative())).ok();
            let Some(list) = inside.or_else(|| image.read(shown.trim_start_matches('/'))) else { continue };
            for line in list.split(|byte| *byte == b'\n').filter(|line| line.len() > 2) {
                let Ok(named) = RootPath::from_archive(line) else { continue };
                // A list may name /bin/ls where /bin is a link.
                let place = if wanted.contains(&named) { Some(named) } else { merged.resolve_parent(&named) };
                if let Some(place) = place.filter(|place| wanted.contains(place)) {
                    owned.insert(place, package.to_owned());
                }
            }
        }
        Self(owned)
    }

    fn of(&self, path: &RootPath) -> Option<&String> {
        self.0.get(path)
    }
}
