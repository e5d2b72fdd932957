//! Mistakes that only the project's surroundings show: its folders, its files, its lock, its version control.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use cavrith_core::debian::lifetime;
use cavrith_core::derive::fit;
use cavrith_core::listing;
use cavrith_core::lock::{self, Lock};
use cavrith_core::mistake::{Code, Mistake};
use cavrith_core::path::RootPath;
use cavrith_core::record;
use cavrith_core::seal::Seal;
use cavrith_core::spec::document::Sources;
use cavrith_core::spec::{self, Action, At, Base, ImageOrigin, OciBase, Origin, Provenance, Spec, Text};
use cavrith_core::team::history;
use cavrith_core::template::{self, Names};
use cavrith_core::tracked::Tracked;

use crate::error::plain;
use crate::error::{EngineError, LockError, ProjectError};
use crate::findings::OutsideUse;
use crate::outside::{self, Bounds};
use crate::project::Project;
use crate::scripts;
use crate::suites;
use crate::team::{self, Remark};
use cavrith_sandbox::{SandboxError, ids};
use cavrith_store::reading;

/// Every mistake that they show of one variant. `lock` is what locking would choose for it now.
pub fn mistakes(bounds: &Bounds, dir: &Path, spec: &Spec, lock: &Lock) -> Vec<Mistake> {
    let mut mistakes = leading_out(bounds, spec);
    mistakes.extend(folders(dir, spec));
    mistakes.extend(archives(dir, spec));
    mistakes.extend(age(spec));
    mistakes.extend(whole_home(dir, spec));
    mistakes.extend(scripts::mistakes(spec));
    mistakes.extend(single_id(spec));
    for step in &spec.steps {
        match &step.action {
            Action::Copy(copy) => mistakes.extend(file_missing(dir, &copy.from)),
            Action::Write(write) => {
                if let Text::Template(file) = &write.text {
                    mistakes
                        .extend(file_missing(dir, file).or_else(|| broken_template(bounds, spec, lock, step, file)));
                }
            }
            Action::Run(_) => mistakes.extend(step.files.iter().filter_map(|file| file_missing(dir, file))),
            Action::Take(_) => {}
        }
    }
    mistakes.extend(depot_files(dir, spec, lock));
    mistakes
}

/// What the files beside the spec show, whatever the variant. `previous` is the lock that lies there.
pub fn beside(dir: &Path, spec: &Spec, previous: Result<Option<Lock>, EngineError>, sources: &Sources) -> Vec<Mistake> {
    let mut mistakes = Vec::new();
    let mut beside = Vec::new();
    if !matches!(previous, Ok(None)) {
        beside.push(lock::FILE_NAME);
    }
    if let Ok(Some(Lock { seal: Some(Seal { listing: Some(_), .. }), .. })) = &previous {
        beside.push(listing::FILE_NAME);
    }
    if dir.join(history::FILE_NAME).exists() {
        beside.push(history::FILE_NAME);
    }
    let records = previous.iter().flatten().flat_map(Lock::all_records);
    let records: BTreeSet<_> = records.map(|pin| format!("{}/{}", record::DIRECTORY, pin.record)).collect();
    beside.extend(records.iter().map(String::as_str));
    mistakes.extend(untracked(dir, spec, sources, &beside));
    mistakes
}

/// Why the lock beside the spec is none, as a mistake in its own text.
pub fn lock_mistake(dir: &Path, previous: &Result<Option<Lock>, EngineError>) -> Option<(String, Mistake)> {
    let Err(error) = previous else { return None };
    let text = reading::text(&dir.join(lock::FILE_NAME)).unwrap_or_default();
    let bad = match error {
        EngineError::Lock(LockError::BadLock { bad }) => bad,
        other => {
            let remedy = "let cavrith.lock be a file that you may read";
            return Some((text, Mistake::new(Code::LOCK_UNREADABLE, 0..0, other.to_string(), remedy)));
        }
    };
    let starts = std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1));
    let start = starts.into_iter().nth(bad.line().unwrap_or(1) - 1).unwrap_or(0);
    let end = text[start..].find('\n').map_or(text.len(), |length| start + length);
    let message = bad.to_string();
    let message = match message.strip_prefix("cavrith.lock:").and_then(|rest| rest.split_once(": ")) {
        Some((_, rest)) => rest.to_owned(),
        None => message,
    };
    let mistake = Mistake::new(Code::LOCK_UNREADABLE, start..end, message, bad.remedy());
    Some((text, mistake))
}

/// What the signatures beside the spec show.
pub fn team(project: &Project, previous: Option<&Lock>) -> Vec<Mistake> {
    let declared = project.spec.team.as_ref();
    let span = declared.map_or_else(|| project.spec.workspace.name.span.clone(), |team| team.span.clone());
    let mistake = |code, message: String, remedy: &str| Mistake::new(code, span.clone(), message, remedy);
    let told = |remark| match remark {
        Remark::History(bad) => {
            mistake(Code::TEAM_HISTORY, bad.to_string(), "take cavrith.team from version control again")
        }
        Remark::Signers(why) => {
            let at = declared.and_then(|team| team.signers.as_ref()).map_or_else(|| span.clone(), |at| at.span.clone());
            let message = format!("the file of allowed signers cannot be used: {why}");
            Mistake::new(Code::BAD_SIGNERS, at, message, "mend the line, or name the people in team.people")
        }
        Remark::Team(bad) => declared.map_or_else(
            || mistake(Code::BAD_TEAM, bad.to_string(), "mend the team"),
            |declared| declared.mistake(&bad),
        ),
        Remark::Unsigned { never: true, .. } => {
            let message = "nobody has signed this team yet, so it counts for nothing".to_owned();
            mistake(Code::TEAM_UNSIGNED, message, "a lead runs cavrith team sign").as_warning()
        }
        Remark::Unsigned { never: false, changes } => {
            let message = format!("the team was changed, and no lead has signed that: {}", changes.join("; "));
            mistake(Code::TEAM_UNSIGNED, message, "a lead of the team as it was runs cavrith team sign")
        }
        Remark::Seal(why) => {
            let why = why.split("; ").next().unwrap_or(&why).to_owned();
            let remedy = "take cavrith.lock from version control again, or let a lead run cavrith seal --sign";
            mistake(Code::SEAL_REFUSED, why, remedy)
        }
        Remark::SealUnsigned => {
            let message = "no lead of the team has signed the seal".to_owned();
            mistake(Code::SEAL_UNSIGNED, message, "a lead runs cavrith seal --sign").as_warning()
        }
    };
    team::remarks(project, previous).into_iter().map(told).collect()
}

/// What a spec takes from outside its own tree: an error where nobody gets it, a warning where it takes the member's
/// word.
fn leading_out(bounds: &Bounds, spec: &Spec) -> Vec<Mistake> {
    let mistake = |one: OutsideUse| {
        let place = one.place();
        match one.never {
            Some(why) => {
                let message = format!("{} is {place}, which no spec gets: {why}", one.what);
                Mistake::new(Code::LEADS_OUT, one.span, message, "name a folder or file of the project's own")
            }
            None => {
                let message =
                    format!("{} lies outside the project, in {place}; each member has to allow that", one.what);
                let remedy = format!("move it into the project, or allow it here: --allow-outside {place}");
                Mistake::new(Code::LEADS_OUT, one.span, message, remedy).as_warning()
            }
        }
    };
    bounds.missing(spec).into_iter().map(mistake).collect()
}

fn folders(dir: &Path, spec: &Spec) -> Vec<Mistake> {
    let mut mistakes = Vec::new();
    for folder in &spec.folders {
        let Some(at) = folder.outside() else { continue };
        let outside = dir.join(&at.value);
        let problem = match fs::metadata(&outside) {
            Ok(meta) if meta.is_dir() => {
                mistakes.extend(folder.except.iter().filter_map(|except| except_mistake(&outside, except)));
                continue;
            }
            Ok(_) => "is not a folder".to_owned(),
            Err(error) => format!("cannot be used: {}", plain(&error)),
        };
        let message = format!("the folder {} {problem}", at.value);
        let remedy = "make the folder, or correct the path; it is relative to the spec";
        mistakes.push(Mistake::new(Code::FOLDER_MISSING, at.span.clone(), message, remedy));
    }
    mistakes
}

/// What stays inside has to be a directory, or nothing yet.
fn except_mistake(folder: &Path, except: &At<RootPath>) -> Option<Mistake> {
    let meta = fs::symlink_metadata(folder.join(except.value.as_relative())).ok()?;
    if meta.is_dir() {
        return None;
    }
    let message =
        format!("{} is not a directory, and only directories can be kept inside", &except.value.to_string()[1..]);
    let remedy = "name the directory that it lies in";
    Some(Mistake::new(Code::FOLDER_MISSING, except.span.clone(), message, remedy))
}

/// Archives and image layouts on the disk that are not there.
fn archives(dir: &Path, spec: &Spec) -> Vec<Mistake> {
    let base = match &spec.base {
        Base::Archive { origin: Origin::Path(path), .. } => Some((path, false)),
        // A layout is a folder or an archive of one.
        Base::Oci(OciBase { origin: ImageOrigin::Path(path, _), .. }) => Some((path, true)),
        _ => None,
    };
    let toolchains = spec.toolchains.values().filter_map(|wanted| match &wanted.value.from {
        Provenance::Archive { origin: Origin::Path(path), .. } => Some((path, false)),
        _ => None,
    });
    let missing = base.into_iter().chain(toolchains).filter(|(path, folder)| {
        let at = dir.join(&path.value);
        !(at.is_file() || *folder && at.is_dir())
    });
    let mistake = |(path, _): (&At<String>, bool)| {
        let message = format!("there is no archive {}", path.value);
        let remedy = "correct the path; it is relative to the spec";
        Mistake::new(Code::ARCHIVE_MISSING, path.span.clone(), message, remedy)
    };
    missing.map(mistake).collect()
}

/// A project whose folder is its member's home: all of that would be visible inside.
fn whole_home(dir: &Path, spec: &Spec) -> Option<Mistake> {
    let home = std::env::var_os("HOME").map(PathBuf::from).and_then(|home| home.canonicalize().ok())?;
    let has_home =
        |outside: &At<String>| dir.join(&outside.value).canonicalize().is_ok_and(|outside| home.starts_with(outside));
    let is_visible = spec.folders.iter().any(|folder| folder.outside().is_some_and(has_home));
    let message = "the project's folder is your home: everything in it, keys and mail too, would be visible inside";
    let remedy = "move cavrith.toml into a folder of the project's own, or write [workspace] project = \"\"";
    is_visible.then(|| Mistake::new(Code::LEADS_OUT, spec.workspace.name.span.clone(), message, remedy).as_warning())
}

/// A suite of the Debian archive whose support has ended, or is about to.
fn age(spec: &Spec) -> Option<Mistake> {
    let Base::Debian(suite) = &spec.base else { return None };
    let message = lifetime::warning(&suite.name.value, suites::now())?;
    let remedy = "plan the move to a newer suite: change base.debian, lock, build, seal";
    Some(Mistake::new(Code::SUITE_AGE, suite.name.span.clone(), message, remedy).as_warning())
}

/// Other accounts than the workspace's own, for a member who has one user number for all of them.
fn single_id(spec: &Spec) -> Option<Mistake> {
    let services = spec.services.values().filter_map(|service| service.value.account.as_ref());
    let steps = spec.start_steps.iter().filter_map(|start| start.step.account.as_ref());
    let mut others: Vec<_> =
        services.chain(steps).filter(|account| account.value != spec.workspace.account.value).collect();
    others.sort_by_key(|account| account.span.start);
    let first = others.first()?;
    let lacks = ids::lacks_range()?;
    let names: BTreeSet<_> = others.iter().map(|account| account.value.as_str()).collect();
    let message = format!(
        "on this machine, you have a single user number: what runs as {} shares all files with {}",
        names.into_iter().collect::<Vec<_>>().join(" and "),
        spec.workspace.account.value,
    );
    let SandboxError::Lacks { remedy, .. } = lacks else { return None };
    Some(Mistake::new(Code::SINGLE_ID, first.span.clone(), message, remedy).as_warning())
}

fn file_missing(dir: &Path, file: &At<String>) -> Option<Mistake> {
    let error = fs::symlink_metadata(dir.join(&file.value)).err()?;
    let message = format!("{} cannot be taken: {}", file.value, plain(&error));
    let remedy = "correct the path; it is relative to the spec";
    Some(Mistake::new(Code::FILE_MISSING, file.span.clone(), message, remedy))
}

fn broken_template(bounds: &Bounds, spec: &Spec, lock: &Lock, step: &spec::Step, file: &At<String>) -> Option<Mistake> {
    let mistake = |code, why: String, remedy: &str| {
        let message = format!("the template {} cannot be filled in: {why}", file.value);
        Some(Mistake::new(code, file.span.clone(), message, remedy))
    };
    // One that lies outside is reported as such, and not read.
    let real = match bounds.real(&file.value) {
        Err(EngineError::Project(ProjectError::Outside { .. })) => return None,
        other => other.unwrap_or_default(),
    };
    let Ok(text) = reading::text(&real) else {
        let remedy = "name a text file";
        return mistake(Code::BAD_TEMPLATE, "it cannot be read as a text in UTF-8".to_owned(), remedy);
    };
    let env = spec.env.iter().chain(&step.env).map(|(name, at)| (name.clone(), at.value.clone())).collect();
    let bad = template::fill_in(&text, &Names::new(spec, lock, &env)).err()?;
    if bad.unknown_name {
        let remedy = "name workspace.…, env.…, ports.… or toolchains.… that the spec has";
        return mistake(Code::TEMPLATE_NAME, bad.to_string(), remedy);
    }
    mistake(Code::BAD_TEMPLATE, bad.to_string(), "mend the line; placeholders stand in {{ two braces }}")
}

/// Files of depots on the disk, as far as their names and lengths show.
fn depot_files(dir: &Path, spec: &Spec, lock: &Lock) -> Vec<Mistake> {
    let mut mistakes = Vec::new();
    for source in lock.sources() {
        let Some(depot) = spec.depots.get(&source.depot) else { continue };
        let Some(folder) = depot.value.origin.path() else { continue };
        let path = dir.join(folder).join(&source.file);
        let problem = match fs::metadata(&path) {
            Ok(meta) if meta.is_file() && meta.len() == source.size => continue,
            Ok(meta) if meta.is_file() => format!("has {} bytes, and its index says {}", meta.len(), source.size),
            Ok(_) => "is not a regular file".to_owned(),
            Err(error) => format!("cannot be read: {}", plain(&error)),
        };
        let message = format!("{} of the depot `{}` {problem}", source.file, source.depot);
        let remedy = "bring the file into the depot again, or mend its index";
        mistakes.push(Mistake::new(Code::DEPOT_FILE, depot.span.clone(), message, remedy));
    }
    mistakes
}

/// A lock that does not answer the spec is not a mistake of the spec, but good to know. Without `pins`, it has none of
/// the variant.
pub fn behind(spec: &Spec, pins: Option<&Lock>) -> Option<Mistake> {
    let misfits = pins.map_or_else(|| vec![fit::no_variant(spec)], |pins| fit::misfits(spec, pins));
    let first = misfits.first()?;
    let unrecorded = pins.map(|pins| fit::unrecorded(spec, pins)).unwrap_or_default();
    if unrecorded.len() == misfits.len() {
        let of = spec.steps.iter().find(|step| unrecorded.first() == Some(&step.name.value));
        let span = of.and_then(|step| step.recorded.clone()).unwrap_or_else(|| spec.workspace.name.span.clone());
        let message = format!("what the step {:?} fetches is not recorded yet", unrecorded[0]);
        return Some(Mistake::new(Code::LOCK_BEHIND, span, message, "run cavrith record").as_warning());
    }
    let more = if misfits.len() > 1 { format!(", and {} more", misfits.len() - 1) } else { String::new() };
    let message = format!(
        "the lock does not answer the spec: {} is {} here and {} there{more}",
        first.what, first.spec, first.lock
    );
    let mistake = Mistake::new(Code::LOCK_BEHIND, spec.workspace.name.span.clone(), message, "run cavrith lock");
    Some(mistake.as_warning())
}

/// Files that a colleague would not get with the next clone. Says nothing where there is no version control, or when
/// the spec itself is not in it (then the project has just started).
fn untracked(dir: &Path, spec: &Spec, sources: &Sources, beside: &[&str]) -> Vec<Mistake> {
    let Some((tracked, within)) = tracked(dir) else { return Vec::new() };
    let is_tracked = |path: &Path| tracked.has(within.join(path).as_os_str().as_encoded_bytes());
    let mut wanted: Vec<(PathBuf, std::ops::Range<usize>)> = Vec::new();
    for file in sources.files() {
        if !file.path.starts_with("../") && !file.path.starts_with('/') {
            wanted.push((file.path.clone().into(), file.start..file.start));
        }
    }
    wanted.extend(beside.iter().map(|file| (file.into(), spec.workspace.name.span.clone())));
    for step in &spec.steps {
        if let Action::Write(write) = &step.action
            && let Text::Template(file) = &write.text
        {
            wanted.push((file.value.clone().into(), file.span.clone()));
        }
    }
    if !is_tracked(Path::new(spec::FILE_NAME)) {
        // The rest comes along with it.
        let file = spec::FILE_NAME;
        let message = format!("{file} is not in version control yet, so nobody else gets it");
        let remedy = format!("run git add {file}; where git says that it is ignored, take it out of .gitignore first");
        return vec![Mistake::new(Code::NOT_TRACKED, 0..0, message, remedy).as_warning()];
    }
    let missing = wanted.into_iter().filter(|(path, _)| dir.join(path).is_file() && !is_tracked(path));
    let mistake = |(path, span): (PathBuf, std::ops::Range<usize>)| {
        let message = format!("{} is not tracked by version control, so nobody else gets it", path.display());
        let remedy = format!("run git add {}", path.display());
        Mistake::new(Code::NOT_TRACKED, span, message, remedy).as_warning()
    };
    missing.map(mistake).collect()
}

/// What version control tracks, and the project's folder in it. Nothing but the index is read: no program is started,
/// and no configuration of the repository obeyed. `None` when there is no repository around the project, or its index
/// cannot be read.
fn tracked(dir: &Path) -> Option<(Tracked, PathBuf)> {
    let top = outside::versioned(dir)?;
    let own = top.join(".git");
    let index = if own.is_dir() {
        own.join("index")
    } else {
        // A work tree of its own has a file there that names its place (gitrepository-layout(5)).
        let text = reading::text(&own).ok()?;
        top.join(text.strip_prefix("gitdir:")?.trim()).join("index")
    };
    let tracked = Tracked::read(&reading::bytes(&index).ok()?)?;
    Some((tracked, dir.strip_prefix(top).ok()?.to_owned()))
}
