//! What a project's workspace was at each revision of its version control, read without checking anything out.
//!
//! A revision counts when it changed what a workspace is made of: the spec and what it includes, the lock, the team,
//! the listing. All of it may be anybody's work: what cannot be read is told at its revision, and nothing is believed
//! that the team of that revision did not sign.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;

use serde::Serialize;

use cavrith_core::history::{self, Environment, Moved, Pins};
use cavrith_core::listing::{self, Listing};
use cavrith_core::lock::{self, Lock};
use cavrith_core::path::RootPath;
use cavrith_core::seal::Seal;
use cavrith_core::spec::document::Table;
use cavrith_core::spec::{self, Gathered};
use cavrith_core::team::history::{self as team_history, TeamFile};
use cavrith_core::{record, team};
use cavrith_engine::listing as listings;
use cavrith_exchange::revisions::{self, Revision};

use crate::WorkspaceError;

/// What every workspace is made of, besides what its spec includes.
const FILES: [&str; 4] = [spec::FILE_NAME, lock::FILE_NAME, team_history::FILE_NAME, listing::FILE_NAME];
/// Revisions whose files are read at once.
const AT_ONCE: usize = 64;
/// How often files that only an older spec includes are followed.
const MOST_ROUNDS: usize = 4;

/// What is asked of a history.
#[derive(Debug, Default)]
pub struct Question<'a> {
    /// The newest revision; the present one when left out.
    pub tip: Option<&'a str>,
    /// Revisions after this one only.
    pub after: Option<&'a str>,
    /// Files and folders of the project, relative to it.
    pub files: Vec<String>,
    /// Paths in the image.
    pub inside: Vec<RootPath>,
    /// Say of each what the workspace is, to tell which are the same.
    pub environments: bool,
    /// Only the newest ones, this many.
    pub last: Option<usize>,
}

/// A revision of the workspace.
#[derive(Debug, Clone, Serialize)]
pub struct Step {
    /// Its commit.
    pub commit: String,
    /// When it was committed, in seconds since 1970.
    pub time: i64,
    /// Who wrote it.
    pub author: String,
    /// The first line of what they said of it.
    pub subject: String,
    /// Before it there was no spec.
    pub first: bool,
    /// What moved in spec and pins.
    pub moved: Vec<Moved>,
    /// What moved of the paths that were asked for, inside the image and in the project.
    pub files: Vec<Moved>,
    /// The seals that are new in it.
    pub seals: Vec<Sealed>,
    /// What changed in the team.
    pub team: Vec<String>,
    /// What of it cannot be read, and why.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub problems: Vec<String>,
    /// What the workspace is, where that can be said.
    #[serde(skip)]
    pub environment: Option<Environment>,
    /// All files that it is made of, relative to the project: what it includes, takes into steps, and was recorded.
    #[serde(skip)]
    pub made_of: BTreeSet<String>,
}

/// A seal as it was in a revision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Sealed {
    /// The variant; empty when there is one only.
    pub variant: String,
    /// The image in words.
    pub words: String,
    /// The image.
    pub image: String,
    /// The lead who signed it.
    pub by: Option<String>,
    /// Why its signature is not to be believed.
    pub refused: Option<String>,
}

/// The history of a project's workspace, the oldest revision first.
///
/// # Errors
/// When the project is not under version control, or has no such revision.
pub fn read(dir: &Path, question: &Question<'_>) -> Result<Past, WorkspaceError> {
    let tip = revisions::resolve(dir, question.tip.unwrap_or("HEAD"))?;
    let after = question.after.map(|after| revisions::resolve(dir, after)).transpose()?;
    let mut files: BTreeSet<String> = FILES.iter().map(ToString::to_string).collect();
    for _ in 0..MOST_ROUNDS {
        let mut asked: Vec<_> = files.iter().cloned().collect();
        asked.extend(question.files.iter().cloned());
        let found = revisions::of_files(dir, &tip, after.as_deref(), &asked)?;
        let (past, included) = newest(dir, after.as_deref(), &files, question, &found)?;
        if included.is_subset(&files) {
            return Ok(past);
        }
        files.extend(included);
    }
    Err(WorkspaceError::Included(dir.to_owned()))
}

/// Whether a path of a spec leads to a file of the project, and not out of it.
fn is_own(path: &str) -> bool {
    !path.starts_with('/') && RootPath::from_plain(path.as_bytes()).is_ok()
}

/// What was read of a past.
#[derive(Debug, Default)]
pub struct Past {
    /// The revisions, the oldest first.
    pub steps: Vec<Step>,
    /// There are older ones that were not asked for.
    pub has_more: bool,
}

/// As many of the newest revisions as are asked for, without reading all before them.
fn newest(
    dir: &Path,
    after: Option<&str>,
    files: &BTreeSet<String>,
    question: &Question<'_>,
    found: &[Revision],
) -> Result<(Past, BTreeSet<String>), WorkspaceError> {
    let Some(last) = question.last else {
        let (steps, included) = follow(dir, after, files, question, found)?;
        return Ok((Past { steps, has_more: false }, included));
    };
    // Not every revision that touched a file moved something.
    let mut some = last.saturating_mul(2).saturating_add(AT_ONCE / 8);
    loop {
        let from = found.len().saturating_sub(some);
        let before = from.checked_sub(1).and_then(|at| found.get(at)).map(|one| one.commit.as_str()).or(after);
        let (mut steps, included) = follow(dir, before, files, question, &found[from..])?;
        if steps.len() > last || from == 0 {
            let has_more = steps.len() > last || from > 0;
            steps.drain(..steps.len().saturating_sub(last));
            return Ok((Past { steps, has_more }, included));
        }
        some = some.saturating_mul(4);
    }
}

/// What is known of the workspace as one revision after the other is read.
#[derive(Default)]
struct State {
    /// The files that it is made of, by path.
    blobs: BTreeMap<String, Vec<u8>>,
    gathered: Option<Gathered>,
    lock: Option<Lock>,
    pins: Pins,
    records: Pins,
    seals: BTreeMap<String, Seal>,
    team: Option<TeamFile>,
    listing: Option<Listing>,
    environment: Option<Environment>,
}

/// What was known before a revision.
struct Before {
    gathered: Option<Gathered>,
    pins: Pins,
    records: Pins,
    seals: BTreeMap<String, Seal>,
    team_changes: Option<usize>,
}

fn follow(
    dir: &Path,
    after: Option<&str>,
    files: &BTreeSet<String>,
    question: &Question<'_>,
    found: &[Revision],
) -> Result<(Vec<Step>, BTreeSet<String>), WorkspaceError> {
    let mut state = State::default();
    let mut included = BTreeSet::new();
    if let Some(after) = after {
        let named: HashMap<_, _> = files.iter().map(|file| (format!("{after}:./{file}"), file.clone())).collect();
        let names: Vec<_> = named.keys().cloned().collect();
        for (name, content) in revisions::objects(dir, &names)? {
            state.blobs.insert(named[&name].clone(), content);
        }
        state.read(&FILES.map(str::to_owned).into(), question, &mut Vec::new(), &mut included);
    }
    let mut steps = Vec::new();
    for some in found.chunks(AT_ONCE) {
        let blobs = some.iter().flat_map(|one| &one.files).filter(|(path, _)| files.contains(path));
        let names: Vec<_> = blobs.filter_map(|(_, blob)| blob.clone()).collect();
        let contents = revisions::objects(dir, &names)?;
        for revision in some {
            let step = state.step(revision, files, question, &contents, &mut included);
            steps.extend(step);
        }
    }
    Ok((steps, included))
}

impl State {
    fn step(
        &mut self,
        revision: &Revision,
        files: &BTreeSet<String>,
        question: &Question<'_>,
        contents: &HashMap<String, Vec<u8>>,
        included: &mut BTreeSet<String>,
    ) -> Option<Step> {
        let mut changed = BTreeSet::new();
        for (path, blob) in revision.files.iter().filter(|(path, _)| files.contains(path)) {
            match blob.as_ref().and_then(|blob| contents.get(blob)) {
                Some(content) => drop(self.blobs.insert(path.clone(), content.clone())),
                None => drop(self.blobs.remove(path)),
            }
            changed.insert(path.clone());
        }
        let asked = |file: &String| {
            let under =
                |asked: &String| file == asked || file.starts_with(&format!("{}/", asked.trim_end_matches('/')));
            question.files.iter().any(under)
        };
        let mut of_files: Vec<_> = revision
            .files
            .iter()
            .filter(|(file, _)| asked(file))
            .map(|(file, blob)| {
                let words = if blob.is_some() { "changed" } else { "removed" };
                Moved { what: file.clone(), from: None, to: Some(words.to_owned()) }
            })
            .collect();
        let inside = |state: &Self| -> Vec<Option<String>> {
            let seal = state.lock.as_ref().and_then(|lock| state.seals.get(&lock.variant));
            let words = |path: &RootPath| history::file_in_words(state.listing.as_ref()?, seal?, path);
            question.inside.iter().map(words).collect()
        };
        let inside_before = inside(self);
        let mut problems = Vec::new();
        let before = Before {
            gathered: self.gathered.clone(),
            pins: self.pins.clone(),
            records: self.records.clone(),
            seals: self.seals.clone(),
            team_changes: self.team.as_ref().map(|team| team.changes.len()),
        };
        self.read(&changed, question, &mut problems, included);
        // A revision between two seals says nothing of what is inside.
        if self.listing.is_some() {
            for ((path, from), to) in question.inside.iter().zip(inside_before).zip(inside(self)) {
                if from != to {
                    of_files.push(Moved { what: path.to_string(), from, to });
                }
            }
        }
        let is_asked = !question.files.is_empty() || !question.inside.is_empty();
        if is_asked && of_files.is_empty() {
            return None;
        }
        let empty = Table::default();
        let table =
            |gathered: &Option<Gathered>| gathered.as_ref().map_or_else(|| empty.clone(), |one| one.table.clone());
        let mut moved = history::of_specs(&table(&before.gathered), &table(&self.gathered));
        moved.extend(history::differing(&before.pins, &self.pins));
        moved.extend(history::differing(&before.records, &self.records));
        moved.extend(self.seals_gone(&before.seals));
        let seals = self.new_seals(&before.seals);
        let team = self.team_moves(before.team_changes, &mut problems);
        if moved.is_empty() && seals.is_empty() && team.is_empty() && problems.is_empty() && of_files.is_empty() {
            return None;
        }
        let made_of = if question.environments { self.made_of(files) } else { BTreeSet::new() };
        Some(Step {
            commit: revision.commit.clone(),
            time: revision.time,
            author: revision.author.clone(),
            subject: revision.subject.clone(),
            first: before.gathered.is_none(),
            moved,
            files: of_files,
            seals,
            team,
            problems,
            environment: self.environment.clone(),
            made_of,
        })
    }

    /// All files that the workspace is made of: with what its steps take, and what they fetched.
    fn made_of(&self, files: &BTreeSet<String>) -> BTreeSet<String> {
        let locks =
            self.lock.iter().flat_map(|lock| lock.variant_names().into_iter().filter_map(|name| lock.of_variant(name)));
        let taken = locks.flat_map(|own| own.files).map(|pin| pin.from).filter(|from| is_own(from));
        files.iter().cloned().chain(taken).chain([record::DIRECTORY.to_owned()]).collect()
    }

    /// Reads anew what changed.
    fn read(
        &mut self,
        changed: &BTreeSet<String>,
        question: &Question<'_>,
        problems: &mut Vec<String>,
        included: &mut BTreeSet<String>,
    ) {
        let text = |file: &str| self.blobs.get(file).map(|bytes| String::from_utf8_lossy(bytes).into_owned());
        let of_team = |file: &&String| file.as_str() == team_history::FILE_NAME;
        let of_lock = |file: &&String| file.as_str() == lock::FILE_NAME;
        let of_listing = |file: &&String| file.as_str() == listing::FILE_NAME;
        if changed.iter().any(|file| !of_team(&file) && !of_lock(&file) && !of_listing(&file)) {
            self.gathered = text(spec::FILE_NAME).map(|own| {
                let mut read = |named: &str| {
                    // What lies outside the project has no revision.
                    if !is_own(named) {
                        return Err("it lies outside the project".to_owned());
                    }
                    included.insert(named.to_owned());
                    text(named).ok_or_else(|| "this revision does not have it".to_owned())
                };
                spec::gather(spec::FILE_NAME, &own, &mut read)
            });
            if self.gathered.as_ref().is_some_and(|gathered| !gathered.mistakes.is_empty()) {
                problems.push(format!("{} cannot be read whole", spec::FILE_NAME));
            }
        }
        if changed.iter().any(|file| of_lock(&file)) {
            self.lock = text(lock::FILE_NAME).and_then(|own| {
                Lock::parse(&own).map_err(|error| problems.push(format!("{}: {error}", lock::FILE_NAME))).ok()
            });
            self.pins = self.lock.as_ref().map(history::pins).unwrap_or_default();
            self.records = self.lock.as_ref().map(history::records).unwrap_or_default();
            let seals = self.lock.iter().flat_map(|lock| lock.seals());
            self.seals = seals.map(|(name, seal)| (name.to_owned(), seal.clone())).collect();
        }
        if changed.iter().any(|file| of_team(&file)) {
            self.team = text(team_history::FILE_NAME).and_then(|own| {
                let parsed = TeamFile::parse(&own);
                parsed.map_err(|error| problems.push(format!("{}: {error}", team_history::FILE_NAME))).ok()
            });
        }
        if changed.iter().any(|file| of_listing(&file)) {
            self.listing = self
                .blobs
                .get(listing::FILE_NAME)
                .and_then(|packed| listings::decode(packed).map_err(|error| problems.push(error)).ok());
        }
        if !question.environments {
            return;
        }
        let spec = self.gathered.as_ref().map(spec::parse_gathered).and_then(spec::Parsed::sound);
        self.environment = spec.zip(self.lock.as_ref()).map(|(spec, lock)| Environment::new(spec.digest, lock));
    }

    /// The seals that were not there before, and who stands for them by the team of this revision.
    fn new_seals(&self, before: &BTreeMap<String, Seal>) -> Vec<Sealed> {
        let fresh: Vec<_> = self.seals.iter().filter(|(name, seal)| before.get(*name) != Some(*seal)).collect();
        if fresh.is_empty() {
            return Vec::new();
        }
        let proved = self.team.as_ref().map(TeamFile::prove);
        let several = self.lock.as_ref().is_some_and(|lock| lock.variant_names().len() > 1);
        let mut found = Vec::new();
        for (name, seal) in fresh {
            let signer = match &proved {
                Some(Err(error)) => Err(error.to_string()),
                Some(Ok(proved)) => team::seal_signer(Some(proved), name, seal).map_err(|why| why.to_string()),
                None => team::seal_signer(None, name, seal).map_err(|why| why.to_string()),
            };
            let (by, refused) = match signer {
                Ok(signer) => (signer.map(|signer| signer.name), None),
                Err(why) => (None, Some(why)),
            };
            let variant = if several { name.clone() } else { String::new() };
            found.push(Sealed { variant, words: seal.image.spoken(), image: seal.image.to_string(), by, refused });
        }
        found
    }

    /// The variants that were sealed, and are not any more.
    fn seals_gone(&self, before: &BTreeMap<String, Seal>) -> Vec<Moved> {
        let gone = before.iter().filter(|(name, _)| !self.seals.contains_key(*name));
        let several = before.len() > 1;
        gone.map(|(name, seal)| {
            let what = if several { format!("seal of {name}") } else { "seal".to_owned() };
            Moved { what, from: Some(seal.image.spoken()), to: None }
        })
        .collect()
    }

    /// What changed in the team, by its own signed history.
    fn team_moves(&self, before: Option<usize>, problems: &mut Vec<String>) -> Vec<String> {
        let Some(now) = &self.team else {
            return before.map(|_| "the team is gone".to_owned()).into_iter().collect();
        };
        let known = before.unwrap_or(0);
        if known == now.changes.len() {
            return Vec::new();
        }
        match now.prove() {
            Ok(proved) => {
                let fresh = proved.changes.iter().skip(known);
                let words = fresh
                    .flat_map(|change| change.moves.iter().map(|one| format!("{one} (signed by {})", change.by.name)));
                words.collect()
            }
            Err(error) => {
                problems.push(format!("{}: {error}", team_history::FILE_NAME));
                Vec::new()
            }
        }
    }
}
