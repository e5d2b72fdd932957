//! What a project's workspace was at each revision of its version control, read without checking anything out.
//!
//! A revision counts when it changed what a workspace is made of: the spec and what it includes, the lock, the team,
//! the listing. All of it may be anybody's work: what cannot be read is told at its revision, and nothing is believed
//! that the team of that revision did not sign.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::Path;

use serde::Serialize;

use cavrith_core::history::{self, Environment, Moved};
use cavrith_core::listing::{self, Listing};
use cavrith_core::lock::{self, Lock};
use cavrith_core::path::RootPath;
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
pub fn read(dir: &Path, question: &Question<'_>) -> Result<Vec<Step>, WorkspaceError> {
    let tip = revisions::resolve(dir, question.tip.unwrap_or("HEAD"))?;
    let after = question.after.map(|after| revisions::resolve(dir, after)).transpose()?;
    let mut files: BTreeSet<String> = FILES.iter().map(ToString::to_string).collect();
    for _ in 0..MOST_ROUNDS {
        let mut asked: Vec<_> = files.iter().cloned().collect();
        asked.extend(question.files.iter().cloned());
        let found = revisions::of_files(dir, &tip, after.as_deref(), &asked)?;
        let (steps, included) = follow(dir, after.as_deref(), &files, question, &found)?;
        if included.is_subset(&files) {
            return Ok(steps);
        }
        files.extend(included);
    }
    Err(WorkspaceError::Included(dir.to_owned()))
}

/// What is known of the workspace as one revision after the other is read.
#[derive(Default)]
struct State {
    /// The files that it is made of, by path.
    blobs: BTreeMap<String, Vec<u8>>,
    gathered: Option<Gathered>,
    lock: Option<Lock>,
    team: Option<TeamFile>,
    listing: Option<Listing>,
    environment: Option<Environment>,
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
        state.read(&FILES.map(str::to_owned).into(), &mut Vec::new(), &mut included);
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
        let before = Self {
            blobs: BTreeMap::new(),
            gathered: self.gathered.clone(),
            lock: self.lock.clone(),
            team: self.team.clone(),
            listing: None,
            environment: None,
        };
        let inside = |state: &Self| -> Vec<Option<String>> {
            let seal = state.lock.as_ref().and_then(|lock| lock.seal.as_ref());
            let words = |path: &RootPath| history::file_in_words(state.listing.as_ref()?, seal?, path);
            question.inside.iter().map(words).collect()
        };
        let inside_before = inside(self);
        let mut problems = Vec::new();
        self.read(&changed, &mut problems, included);
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
        let empty = Gathered::default();
        let table = |state: &Self| state.gathered.clone().unwrap_or_else(|| empty.clone()).table;
        let mut moved = history::of_specs(&table(&before), &table(self));
        moved.extend(history::of_locks(before.lock.as_ref(), self.lock.as_ref()));
        moved.extend(history::of_records(before.lock.as_ref(), self.lock.as_ref()));
        moved.extend(self.seals_gone(before.lock.as_ref()));
        let seals = self.new_seals(before.lock.as_ref());
        let team = self.team_moves(before.team.as_ref(), &mut problems);
        if moved.is_empty() && seals.is_empty() && team.is_empty() && problems.is_empty() && of_files.is_empty() {
            return None;
        }
        let taken =
            self.lock.iter().flat_map(|lock| lock.variant_names().into_iter().filter_map(|name| lock.of_variant(name)));
        let taken: Vec<String> = taken.flat_map(|own| own.files).map(|pin| pin.from).collect();
        let mut made_of = files.clone();
        made_of.extend(taken);
        made_of.insert(record::DIRECTORY.to_owned());
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

    /// Reads anew what changed.
    fn read(&mut self, changed: &BTreeSet<String>, problems: &mut Vec<String>, included: &mut BTreeSet<String>) {
        let text = |file: &str| self.blobs.get(file).map(|bytes| String::from_utf8_lossy(bytes).into_owned());
        let of_team = |file: &&String| file.as_str() == team_history::FILE_NAME;
        let of_lock = |file: &&String| file.as_str() == lock::FILE_NAME;
        let of_listing = |file: &&String| file.as_str() == listing::FILE_NAME;
        if changed.iter().any(|file| !of_team(&file) && !of_lock(&file) && !of_listing(&file)) {
            self.gathered = text(spec::FILE_NAME).map(|own| {
                let mut read = |named: &str| {
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
        let spec = self.gathered.as_ref().map(spec::parse_gathered).and_then(spec::Parsed::sound);
        self.environment = spec.zip(self.lock.as_ref()).map(|(spec, lock)| Environment::new(spec.digest, lock));
    }

    /// The seals that were not there before, and who stands for them by the team of this revision.
    fn new_seals(&self, before: Option<&Lock>) -> Vec<Sealed> {
        let Some(lock) = &self.lock else { return Vec::new() };
        let proved = self.team.as_ref().map(TeamFile::prove);
        let names = lock.variant_names();
        let mut found = Vec::new();
        for name in &names {
            let seal = |lock: &Lock| lock.of_variant(name).and_then(|own| own.seal);
            let Some(own) = seal(lock).filter(|own| before.and_then(seal).as_ref() != Some(own)) else { continue };
            let signer = match &proved {
                Some(Err(error)) => Err(error.to_string()),
                Some(Ok(proved)) => team::seal_signer(Some(proved), name, &own).map_err(|why| why.to_string()),
                None => team::seal_signer(None, name, &own).map_err(|why| why.to_string()),
            };
            let (by, refused) = match signer {
                Ok(signer) => (signer.map(|signer| signer.name), None),
                Err(why) => (None, Some(why)),
            };
            let variant = if names.len() > 1 { (*name).to_owned() } else { String::new() };
            found.push(Sealed { variant, words: own.image.spoken(), image: own.image.to_string(), by, refused });
        }
        found
    }

    /// The variants that were sealed, and are not any more.
    fn seals_gone(&self, before: Option<&Lock>) -> Vec<Moved> {
        let words = |lock: &Lock, name: &str| Some(lock.of_variant(name)?.seal?.image.spoken());
        let Some(before) = before else { return Vec::new() };
        let names = before.variant_names();
        let gone = names.iter().filter_map(|name| {
            let from = words(before, name)?;
            let stays = self.lock.as_ref().is_some_and(|lock| words(lock, name).is_some());
            let what = if names.len() > 1 { format!("seal of {name}") } else { "seal".to_owned() };
            (!stays).then_some(Moved { what, from: Some(from), to: None })
        });
        gone.collect()
    }

    /// What changed in the team, by its own signed history.
    fn team_moves(&self, before: Option<&TeamFile>, problems: &mut Vec<String>) -> Vec<String> {
        let Some(now) = &self.team else {
            return before.map(|_| "the team is gone".to_owned()).into_iter().collect();
        };
        let known = before.map_or(0, |before| before.changes.len());
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
