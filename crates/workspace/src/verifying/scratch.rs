//! What was changed inside a project's own workspaces since they were fresh.
//!
//! A workspace is used, so not every change makes it another one. What makes it another one is a change of what came
//! with the image, and something new where programs and their settings lie. What a member keeps in the account's home,
//! what programs write as they run, and what the spec's own steps wrote at a start, is counted apart.

use cavrith_core::account;
use cavrith_core::arrangement::Arrangement;
use cavrith_core::drift::{FileChange, Finding, Group};
use cavrith_core::lock::Lock;
use cavrith_core::path::RootPath;
use cavrith_core::seal::Seal;
use cavrith_core::secrets;
use cavrith_core::tree::Tree;
use cavrith_core::tree::diff::{Change, What};
use cavrith_core::verdict::{Aspect, Difference, NOTHING, count};
use cavrith_engine::context::BuildContext;
use cavrith_engine::home::Home;
use cavrith_engine::project::Project;

use super::image::Image;
use super::{kept, running};
use crate::drifting::{self, Scratched};
use crate::{WorkspaceError, machine};
use cavrith_keeper::place::Place;
use cavrith_keeper::record::Record;

/// Bytes of a difference of lines that goes into a verdict.
const LONGEST_DIFF: usize = 8 << 10;
/// Where programs and their settings lie.
const PROGRAMS: [&str; 9] = ["etc", "usr", "bin", "sbin", "lib", "lib32", "lib64", "opt", "boot"];

/// An aspect for each workspace of the project.
pub(super) fn aspects(
    context: BuildContext<'_>,
    home: &Home,
    (project, lock): (&Project, &Lock),
    image: &Image<'_>,
    seal: &Seal,
    quick: bool,
) -> Vec<Aspect> {
    let arrangement = Arrangement::new(&project.spec, lock, image.record.image, &image.record.shell);
    let is_of_variant = |place: &Place| match Record::read(&place.dir) {
        Some(record) => record.arrangement.variant == project.spec.variant,
        None => project.spec.is_default,
    };
    let own = Place::all(home).into_iter().filter(|place| place.is_of(&project.dir) && is_of_variant(place));
    own.flat_map(|place| {
        let name = if place.named { format!("scratch of {}", place.name) } else { "scratch".to_owned() };
        let account = account::home(&project.spec.workspace.account.value);
        let runs = running::aspect(context, &place, seal);
        let kept = kept::aspect(&place, &arrangement, quick);
        let root = if quick { None } else { machine_root(context, &place) };
        [root, Some(aspect(context, &place, image, seal, &account, name)), kept, runs].into_iter().flatten()
    })
    .collect()
}

/// The root that a machine runs on, measured within; nothing of a workspace that runs in none.
fn machine_root(context: BuildContext<'_>, place: &Place) -> Option<Aspect> {
    let record = Record::read(&place.dir).filter(|record| record.arrangement.machine.is_some())?;
    if !place.is_held() {
        return None;
    }
    let name = if place.named { format!("root of {}", place.name) } else { "machine's root".to_owned() };
    let trees = record.layers.iter().map(|layer| context.store.layer_tree(layer)).collect::<Result<Vec<_>, _>>();
    let measured = trees.map_err(WorkspaceError::from).and_then(|trees| {
        let expected = Tree::merged(&trees);
        Ok((expected.image_fingerprint(), machine::root(place, &expected)?))
    });
    Some(match measured {
        Ok((expected, here)) => {
            let differs = expected.to_string() != here;
            let difference = differs.then(|| Difference::new("the root", expected.to_string(), here));
            Aspect::new(name, "every byte of it, read within", difference.into_iter().collect())
        }
        Err(error) => Aspect { unmeasured: vec![error.to_string()], ..Aspect::new(name, NOTHING, Vec::new()) },
    })
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
    let measured = Scratched::over_image(context, place, image.record)
        .and_then(|scratched| drifting::told(context, place, &scratched));
    let drift = match measured {
        Ok(drift) => drift,
        Err(error) => {
            let unmeasured = vec![error.to_string()];
            return Aspect { unmeasured, ..Aspect::new(name, "what was changed inside", differences) };
        }
    };
    let (counted, apart): (Vec<_>, Vec<_>) = drift.findings.iter().partition(|finding| counts(finding, home));
    let in_home = drift.home.iter().map(|group| group.files).sum::<u64>();
    let apart = apart.len() as u64 + in_home + drift.folded.values().sum::<u64>();
    differences.extend(counted.iter().map(|finding| difference(finding)));
    let measured = match (counted.len(), apart) {
        (0, 0) => "nothing was changed inside".to_owned(),
        (0, apart) => format!("nothing that counts; {apart} in the home, of running programs, or new data"),
        (changed, 0) => format!("{} by hand", count(changed, "change")),
        (changed, apart) => {
            format!("{} by hand, and {apart} in the home, of running programs, or new data", count(changed, "change"))
        }
    };
    let personal = Record::read(&place.dir).map(|record| record.personal).unwrap_or_default();
    let measured = match personal.as_slice() {
        [] => measured,
        some => format!("{measured}; personal, does not count: {}", some.join(", ")),
    };
    Aspect::new(name, measured, differences)
}

/// Whether something that somebody did makes the workspace another one than was sealed.
fn counts(finding: &Finding, home: &str) -> bool {
    let in_home = |path: &str| path.strip_prefix(home).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'));
    let of_programs = |path: &str| {
        let top = path.trim_start_matches('/').split('/').next().unwrap_or_default();
        PROGRAMS.contains(&top)
    };
    match finding {
        Finding::Package { .. } | Finding::Account { .. } | Finding::Removed { .. } => true,
        Finding::LanguagePackage { place, .. } => !in_home(place),
        Finding::Environment { path, .. } => of_programs(path),
        Finding::Variable { file, .. } => !in_home(file),
        Finding::File { how: FileChange::Changed, .. } => true,
        Finding::File { path, .. } | Finding::Folder(Group { path, .. }) => of_programs(path),
        // What runs at the moment is no part of what the workspace is.
        Finding::Service { .. } => false,
    }
}

/// A change by hand, as a difference from what was sealed.
fn difference(finding: &Finding) -> Difference {
    let or_nothing = |version: &Option<String>| version.clone().unwrap_or_else(|| NOTHING.to_owned());
    match finding {
        Finding::Package { name, from, to, .. } => {
            Difference::new(format!("package {name}"), or_nothing(from), or_nothing(to))
        }
        Finding::LanguagePackage { manager, name, from, to, place, .. } => {
            Difference::new(format!("{manager} package {name} in {place}"), or_nothing(from), or_nothing(to))
        }
        Finding::Environment { path, what, .. } => Difference::new(path.clone(), NOTHING, what.clone()),
        Finding::Account { name, change, .. } => {
            Difference::new(format!("account {name}"), "as in the image", change.clone())
        }
        Finding::Variable { name, value, file } => {
            Difference::new(format!("variable {name} in {file}"), NOTHING, value.clone())
        }
        Finding::Service { port, program, .. } => Difference::new(format!("port {port}"), NOTHING, program.clone()),
        Finding::Removed { path, origin, .. } => {
            Difference { from: origin.clone(), ..Difference::new(path.clone(), "to be there", NOTHING) }
        }
        Finding::Folder(Group { path, files, .. }) => {
            let here = format!("{} that nobody put there", count(*files as usize, "file"));
            Difference::new(path.clone(), NOTHING, here)
        }
        Finding::File { path, how: FileChange::New, .. } => {
            Difference::new(path.clone(), NOTHING, "something that nobody put there")
        }
        Finding::File { path, origin, fields, diff, .. } => {
            let change = Change { path: RootPath::root(), what: What::Changed { fields: fields.clone() } };
            let diff = diff.clone().filter(|diff| is_shown(path, diff));
            Difference { what: path.clone(), diff, ..Difference::of_change(&change, origin.clone()) }
        }
    }
}

/// Whether the lines of a file may go into a report: not where they look like a secret, or are many.
fn is_shown(path: &str, diff: &str) -> bool {
    diff.len() <= LONGEST_DIFF && secrets::by_name(path).is_none() && secrets::in_text(diff.as_bytes()).is_none()
}
