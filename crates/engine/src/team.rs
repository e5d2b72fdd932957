//! Who may sign in a project, and whether its seal is signed by one of them.
//!
//! Every command gets a lock through [`crate::project::load_lock`], which asks [`judge`]; so no command uses a seal
//! whose signature is not to be believed. What `cavrith.team` was when it was last seen here is remembered in
//! `teams.toml` beside the member's configuration: a past that was exchanged is noticed, whoever can write the project.

use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use cavrith_core::digest::TeamDigest;
use cavrith_core::lock::Lock;
use cavrith_core::team::history::{self, BadHistory, Change, Proved, TeamFile};
use cavrith_core::team::{self, Refusal, Role, Signer, Team, signers};
use cavrith_store::{atomic, reading};

use crate::error::{EngineError, TeamError, file_error, plain};
use crate::project::Project;
use crate::remembered::List;
use crate::signing::{self, KeyChoice};

/// Bytes that `cavrith.team`, or a file of allowed signers, may have.
const LONGEST: u64 = 16 << 20;

/// How a seal stands to the team.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// There is no seal.
    NoSeal,
    /// The project has no team, and this machine never saw it with one.
    NoTeam,
    /// This revision has no team, and another one that was seen here has.
    TeamGone,
    /// The project has a team, and nobody of it signed the seal.
    Unsigned,
    /// A lead signed it.
    Signed {
        /// Who.
        signer: Signer,
        /// The number of the team's last change in this revision.
        change: usize,
        /// How many changes this machine has seen.
        known: usize,
    },
}

impl Standing {
    /// Whether what the seal names may be taken from others.
    pub fn is_trusted(&self) -> bool {
        matches!(self, Self::NoTeam | Self::Signed { .. })
    }
}

const SEEN: List = List {
    name: "teams.toml",
    head: "# The teams of projects as cavrith saw them last; a past that was exchanged is noticed by it. Written by cavrith.",
};

/// Teams as this machine saw them last.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Seen {
    teams: Vec<SeenTeam>,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SeenTeam {
    project: PathBuf,
    /// The digest of each change, the oldest first.
    changes: Vec<TeamDigest>,
}

/// Reads `cavrith.team`, if there is one.
///
/// # Errors
/// When it cannot be read as one.
pub fn read(dir: &Path) -> Result<Option<TeamFile>, EngineError> {
    let path = dir.join(history::FILE_NAME);
    match reading::bounded(&path, LONGEST) {
        Ok(bytes) => {
            let file = TeamFile::parse(&String::from_utf8_lossy(&bytes)).map_err(TeamError::from)?;
            Ok(Some(file))
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(file_error("read", &path)(error)),
    }
}

/// How the seal of a project's variant stands to its team.
///
/// # Errors
/// When the seal is signed and not to be believed, or the team is not.
pub fn judge(dir: &Path, lock: &Lock) -> Result<Standing, EngineError> {
    let Some(seal) = &lock.seal else { return Ok(Standing::NoSeal) };
    let Some(file) = read(dir)? else {
        team::seal_signer(None, &lock.variant, seal).map_err(|why| refused(lock, why))?;
        let seen = SEEN.read::<Seen>()?.teams.iter().any(|seen| seen.project == *dir);
        return Ok(if seen { Standing::TeamGone } else { Standing::NoTeam });
    };
    judge_by(dir, &file.prove().map_err(TeamError::from)?, lock)
}

/// As [`judge`], by a team that was read and proved already.
///
/// # Errors
/// As [`judge`].
pub fn judge_by(dir: &Path, proved: &Proved<'_>, lock: &Lock) -> Result<Standing, EngineError> {
    let Some(seal) = &lock.seal else { return Ok(Standing::NoSeal) };
    let known = remember(dir, proved)?;
    let signer = team::seal_signer(Some(proved), &lock.variant, seal).map_err(|why| refused(lock, why))?;
    Ok(match signer {
        None => Standing::Unsigned,
        Some(signer) => Standing::Signed { signer, change: proved.changes.len(), known },
    })
}

fn refused(lock: &Lock, why: Refusal) -> EngineError {
    let variant = (lock.variant != cavrith_core::spec::MAIN).then(|| lock.variant.clone());
    EngineError::Team(TeamError::Seal { variant, why })
}

/// The team that the spec describes: those named in it, and those of its file.
///
/// # Errors
/// When the file cannot be used, or the team cannot be one.
pub fn declared(project: &Project) -> Result<Option<Team>, EngineError> {
    let Some(declared) = &project.spec.team else { return Ok(None) };
    let mut team = declared.named();
    if let Some(path) = &declared.signers {
        let bad = |why: String| EngineError::Team(TeamError::Signers { path: path.value.clone(), why });
        let real = project.bounds.real(&path.value).map_err(|error| match error {
            EngineError::File { source, .. } => bad(plain(&source)),
            other => other,
        })?;
        let bytes = reading::bounded(&real, LONGEST).map_err(|error| bad(plain(&error)))?;
        let named = signers::parse(&String::from_utf8_lossy(&bytes)).map_err(|error| bad(error.to_string()))?;
        for (name, person) in named.people {
            let known = team.people.entry(name).or_default();
            known.roles.extend(person.roles);
            known.keys.extend(person.keys);
        }
    }
    // A table that only says where reports are describes nobody.
    if team.people.is_empty() {
        return Ok(None);
    }
    team.check().map_err(TeamError::from)?;
    Ok(Some(team))
}

/// Signs the team of the spec as the next change of the project's team. Gives the whole history then.
///
/// # Errors
/// When there is nothing to sign, or nobody here who may.
pub fn sign(project: &Project, keys: KeyChoice<'_>) -> Result<TeamFile, EngineError> {
    let people = declared(project)?.ok_or(TeamError::None)?;
    let mut file = read(&project.dir)?.unwrap_or_default();
    let before = if file.changes.is_empty() {
        None
    } else {
        let proved = file.prove().map_err(TeamError::from)?;
        remember(&project.dir, &proved)?;
        if *proved.now == people {
            return Err(TeamError::Nothing.into());
        }
        Some((proved.digest(), proved.now.clone()))
    };
    let judges = before.as_ref().map_or(&people, |(_, now)| now);
    let key = signing::find(judges, Role::Lead, keys)?;
    let by = key.name.clone();
    let text = history::text(before.as_ref().map(|(digest, _)| digest), &by, &people);
    let signature = key.sign(team::CHANGE, text.as_bytes())?;
    file.changes.push(Change { by, signature, people });
    let proved = file.prove().map_err(TeamError::from)?;
    atomic::write_unlinked(&project.dir.join(history::FILE_NAME), file.to_text().as_bytes())?;
    remember(&project.dir, &proved)?;
    Ok(file)
}

/// A team that its leads have signed, and the digest of its last change.
#[derive(Debug, Clone)]
pub struct SignedTeam {
    /// The team.
    pub now: Team,
    /// Digest of its last change.
    pub digest: TeamDigest,
}

/// The team of a project that may sign now: the one of the last signed change, when the spec has the same.
///
/// # Errors
/// When there is none, or the spec has another.
pub fn signed(project: &Project) -> Result<SignedTeam, EngineError> {
    match (read(&project.dir)?, declared(project)?) {
        (Some(file), Some(declared)) => {
            let proved = file.prove().map_err(TeamError::from)?;
            remember(&project.dir, &proved)?;
            if *proved.now != declared {
                return Err(TeamError::Changed.into());
            }
            Ok(SignedTeam { now: declared, digest: proved.digest() })
        }
        (None, Some(_)) => Err(TeamError::NeverSigned.into()),
        (Some(_), None) => Err(TeamError::Changed.into()),
        (None, None) => Err(TeamError::None.into()),
    }
}

/// Holds a team's past against what was seen of it here, and remembers what is new. Gives how many changes are known.
///
/// An older revision has a shorter past, and that is not forged: a workspace of last year can be had.
///
/// # Errors
/// When neither goes on from the other.
pub(crate) fn remember(dir: &Path, proved: &Proved<'_>) -> Result<usize, EngineError> {
    let now: Vec<TeamDigest> = proved.changes.iter().map(|change| change.digest).collect();
    let known = known_changes(&SEEN.read()?, dir, proved)?;
    if known >= now.len() {
        return Ok(known);
    }
    let count = now.len();
    SEEN.change(|all: &mut Seen| {
        // Another command may have seen more meanwhile.
        if known_changes(all, dir, proved)? >= count {
            return Ok(false);
        }
        all.teams.retain(|seen| seen.project != *dir);
        all.teams.push(SeenTeam { project: dir.to_owned(), changes: now });
        Ok(true)
    })?;
    Ok(count)
}

/// How many changes of a project's team were seen.
fn known_changes(all: &Seen, dir: &Path, proved: &Proved<'_>) -> Result<usize, EngineError> {
    let Some(known) = all.teams.iter().find(|seen| seen.project == *dir) else { return Ok(0) };
    let common = known.changes.len().min(proved.changes.len());
    if let Some(last) = common.checked_sub(1).and_then(|last| known.changes.get(last)) {
        proved.goes_on_from(common, last).map_err(TeamError::from)?;
    }
    Ok(known.changes.len())
}

/// Holds the team of another revision of a project, which lies in `there`, against what was seen of the project's own.
///
/// # Errors
/// When neither goes on from the other, or that revision's team does not hold.
pub fn check_revision(project: &Path, there: &Path) -> Result<(), EngineError> {
    let Some(file) = read(there)? else { return Ok(()) };
    let proved = file.prove().map_err(TeamError::from)?;
    known_changes(&SEEN.read()?, project, &proved).map(drop)
}

/// Forgets what was seen of a project's team; false when nothing was.
///
/// # Errors
/// When the list cannot be read or written.
pub fn forget(dir: &Path) -> Result<bool, EngineError> {
    forget_where(|project| project == dir)
}

/// As [`forget`], of all projects in a folder that is gone.
///
/// # Errors
/// As [`forget`].
pub fn forget_in(folder: &Path) -> Result<bool, EngineError> {
    forget_where(|project| project.starts_with(folder))
}

fn forget_where(is_meant: impl Fn(&Path) -> bool) -> Result<bool, EngineError> {
    SEEN.change(|all: &mut Seen| {
        let before = all.teams.len();
        all.teams.retain(|seen| !is_meant(&seen.project));
        Ok(all.teams.len() != before)
    })
}

/// What `check` says of a team and of the seal's signature.
#[derive(Debug)]
pub enum Remark {
    /// `cavrith.team` is not to be believed.
    History(BadHistory),
    /// The file of allowed signers cannot be used.
    Signers(String),
    /// The team cannot be one.
    Team(team::BadTeam),
    /// The spec's team was never signed, or changed since.
    Unsigned {
        /// It was never signed.
        never: bool,
        /// What was changed, in words.
        changes: Vec<String>,
    },
    /// A seal is not to be believed.
    Seal(String),
    /// A seal is not signed.
    SealUnsigned,
}

/// Everything that is remarkable about a project's team and the seals in a whole lock.
pub fn remarks(project: &Project, whole: Option<&Lock>) -> Vec<Remark> {
    let mut remarks = Vec::new();
    let mut remark_of = |error: EngineError| match error {
        EngineError::Team(TeamError::History(bad)) => remarks.push(Remark::History(bad)),
        EngineError::Team(TeamError::Signers { path, why }) => remarks.push(Remark::Signers(format!("{path}: {why}"))),
        EngineError::Team(TeamError::Team(bad)) => remarks.push(Remark::Team(bad)),
        // What the disk refuses, other parts of the same check say.
        _ => {}
    };
    let file = read(&project.dir).map_err(&mut remark_of).unwrap_or_default();
    let declared = declared(project).map_err(&mut remark_of).unwrap_or_default();
    let proved = file.as_ref().map(|file| file.prove().map_err(|bad| EngineError::Team(bad.into())));
    let proved = proved.and_then(|proved| {
        proved.and_then(|proved| remember(&project.dir, &proved).map(|_| proved)).map_err(&mut remark_of).ok()
    });
    match (&proved, &declared) {
        (Some(proved), Some(declared)) if proved.now != declared => {
            let changes = history::moves(proved.now, declared).iter().map(ToString::to_string).collect();
            remarks.push(Remark::Unsigned { never: false, changes });
        }
        (None, Some(_)) if file.is_none() => remarks.push(Remark::Unsigned { never: true, changes: Vec::new() }),
        _ => {}
    }
    for lock in
        whole.iter().flat_map(|whole| whole.variant_names().into_iter().filter_map(|name| whole.of_variant(name)))
    {
        match judge(&project.dir, &lock) {
            Err(EngineError::Team(error @ TeamError::Seal { .. })) => remarks.push(Remark::Seal(error.to_string())),
            Ok(Standing::Unsigned) if !remarks.iter().any(|one| matches!(one, Remark::SealUnsigned)) => {
                remarks.push(Remark::SealUnsigned);
            }
            _ => {}
        }
    }
    remarks
}
