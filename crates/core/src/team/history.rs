//! `cavrith.team`: every change of a team, each signed by somebody who was a lead before it.
//!
//! The first change is signed by a lead that it names itself; whoever has the project from somebody they trust trusts
//! that one. A change's text names the digest of the one before, so none can be left out, exchanged or moved.

use serde::{Deserialize, Serialize};

use super::{BadTeam, CHANGE, Person, Refusal, Role, Signer, Team, signer};
use crate::digest::TeamDigest;
use crate::signature::Signature;

/// The file's name in a project.
pub const FILE_NAME: &str = "cavrith.team";

const HEAD: &str =
    "# Who is in this team, and who let whom in. Written by `cavrith team sign`: review it, do not edit it.\n";

/// Changes that a file may have.
const MOST_CHANGES: usize = 10_000;

/// All changes of a team, the oldest first.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TeamFile {
    /// Version of this format; 1.
    pub team: u32,
    /// The changes.
    #[serde(default)]
    pub changes: Vec<Change>,
}

/// One change: the whole team afterwards.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Change {
    /// Who signed it.
    pub by: String,
    /// Their signature over [`text`].
    pub signature: Signature,
    /// The team afterwards.
    pub people: Team,
}

/// Why a history of a team is not to be believed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadHistory {
    /// It cannot be read.
    #[error("cavrith.team cannot be read, line {line}: {message}")]
    Unreadable {
        /// Line, from 1.
        line: usize,
        /// What the parser says.
        message: String,
    },
    /// It is of another version.
    #[error("cavrith.team is of version {0}, and this Cavrith reads version 1")]
    Version(u32),
    /// It has no change, or too many.
    #[error("cavrith.team has {0} changes")]
    Count(usize),
    /// A change is not to be believed.
    #[error("change {number} of the team is not to be believed: {why}")]
    Change {
        /// Which, from 1.
        number: usize,
        /// Why.
        why: Refusal,
    },
    /// A change leads to a team that cannot be one.
    #[error("change {number} of the team makes one that cannot be: {why}")]
    Team {
        /// Which, from 1.
        number: usize,
        /// Why.
        why: BadTeam,
    },
    /// It is not what was seen here before.
    #[error(
        "the team's past was exchanged: it had {known} here before, ending with {digest}, and this cavrith.team does not go on from there"
    )]
    Exchanged {
        /// Changes that were known, in words.
        known: String,
        /// Digest of the last one, in words.
        digest: String,
    },
}

/// A history that holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proved<'a> {
    /// The team after the last change.
    pub now: &'a Team,
    /// What each change was.
    pub changes: Vec<ProvedChange>,
}

/// A change that holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProvedChange {
    /// Digest of its text, and so of all before it.
    pub digest: TeamDigest,
    /// Who signed it.
    pub by: Signer,
    /// What it changed.
    pub moves: Vec<Move>,
}

/// One thing that a change did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Move {
    /// Somebody came.
    Joined {
        /// Who.
        name: String,
        /// As what.
        roles: Vec<Role>,
    },
    /// Somebody went.
    Left {
        /// Who.
        name: String,
    },
    /// Somebody's roles are others.
    Roles {
        /// Who.
        name: String,
        /// Which now.
        roles: Vec<Role>,
    },
    /// Somebody's keys are others.
    Keys {
        /// Who.
        name: String,
        /// Fingerprints of new ones.
        new: Vec<String>,
        /// Fingerprints of those that are gone.
        gone: Vec<String>,
    },
}

impl std::fmt::Display for Move {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let named = |roles: &[Role]| match roles {
            [] => "nothing".to_owned(),
            roles => roles.iter().map(|role| role.name()).collect::<Vec<_>>().join(" and "),
        };
        match self {
            Self::Joined { name, roles } => write!(f, "{name} joined as {}", named(roles)),
            Self::Left { name } => write!(f, "{name} left"),
            Self::Roles { name, roles } => write!(f, "{name} is {} now", named(roles)),
            Self::Keys { name, new, gone } => {
                let listed = |verb: &str, keys: &[String]| match keys {
                    [] => String::new(),
                    keys => format!(" {verb} {}", keys.join(", ")),
                };
                let (came, went) = (listed("has the new key", new), listed("lost the key", gone));
                write!(f, "{name}{came}{}{went}", if came.is_empty() || went.is_empty() { "" } else { " and" })
            }
        }
    }
}

#[derive(Serialize)]
struct ChangeText<'a> {
    cavrith: &'static str,
    /// Digest of the change before; empty for the first.
    before: String,
    by: &'a str,
    people: &'a Team,
}

/// What is signed of a change.
pub fn text(before: Option<&TeamDigest>, by: &str, people: &Team) -> String {
    let before = before.map(ToString::to_string).unwrap_or_default();
    let text = serde_json::to_string_pretty(&ChangeText { cavrith: "team 1", before, by, people });
    format!("{}\n", text.unwrap_or_else(|error| panic!("BUG: a team cannot be written: {error}")))
}

/// The digest of what is signed.
pub fn digest(text: &str) -> TeamDigest {
    TeamDigest::from_bytes(*blake3::hash(text.as_bytes()).as_bytes())
}

/// What leads from one team to the next.
pub fn moves(before: &Team, after: &Team) -> Vec<Move> {
    let mut moves = Vec::new();
    let roles = |person: &Person| person.roles.iter().copied().collect::<Vec<_>>();
    for (name, person) in &after.people {
        let name = name.clone();
        let Some(was) = before.people.get(&name) else {
            moves.push(Move::Joined { name, roles: roles(person) });
            continue;
        };
        if was.roles != person.roles {
            moves.push(Move::Roles { name: name.clone(), roles: roles(person) });
        }
        let missing = |from: &Person, of: &Person| -> Vec<String> {
            of.keys.difference(&from.keys).map(crate::signature::PublicKey::fingerprint).collect()
        };
        if was.keys != person.keys {
            moves.push(Move::Keys { name, new: missing(was, person), gone: missing(person, was) });
        }
    }
    let left = before.people.keys().filter(|name| !after.people.contains_key(*name));
    moves.extend(left.map(|name| Move::Left { name: name.clone() }));
    moves
}

impl Default for TeamFile {
    fn default() -> Self {
        Self { team: 1, changes: Vec::new() }
    }
}

impl TeamFile {
    /// Reads the file.
    ///
    /// # Errors
    /// When it is none.
    pub fn parse(text: &str) -> Result<Self, BadHistory> {
        let text = &text.replace("\r\n", "\n");
        let file: Self = toml::from_str(text).map_err(|error| BadHistory::Unreadable {
            line: crate::mistake::line_and_column(text, error.span().map_or(0, |span| span.start)).0,
            message: error.message().trim().to_owned(),
        })?;
        match (file.team, file.changes.len()) {
            (1, 1..=MOST_CHANGES) => Ok(file),
            (1, count) => Err(BadHistory::Count(count)),
            (version, _) => Err(BadHistory::Version(version)),
        }
    }

    /// The text of the file.
    pub fn to_text(&self) -> String {
        let body = toml::to_string(self).unwrap_or_else(|error| panic!("BUG: a team cannot be written: {error}"));
        format!("{HEAD}{body}")
    }

    /// Proves every change by the team before it.
    ///
    /// # Errors
    /// When one does not hold.
    pub fn prove(&self) -> Result<Proved<'_>, BadHistory> {
        let nobody = Team::default();
        let mut before: Option<&Team> = None;
        let mut changes: Vec<ProvedChange> = Vec::new();
        for (index, change) in self.changes.iter().enumerate() {
            let number = index + 1;
            change.people.check().map_err(|why| BadHistory::Team { number, why })?;
            let text = text(changes.last().map(|last| &last.digest), &change.by, &change.people);
            let judges = before.unwrap_or(&change.people);
            let by = signer(judges, Role::Lead, CHANGE, text.as_bytes(), &change.signature.armoured())
                .map_err(|why| BadHistory::Change { number, why })?;
            if by.name != change.by {
                let why = Refusal::Claimed { claimed: change.by.clone(), name: by.name };
                return Err(BadHistory::Change { number, why });
            }
            let moves = moves(before.unwrap_or(&nobody), &change.people);
            changes.push(ProvedChange { digest: digest(&text), by, moves });
            before = Some(&change.people);
        }
        let now = before.ok_or(BadHistory::Count(0))?;
        Ok(Proved { now, changes })
    }
}

impl Proved<'_> {
    /// Digest of the last change, and so of all.
    pub fn digest(&self) -> TeamDigest {
        self.changes.last().map_or_else(|| digest(""), |last| last.digest)
    }

    /// Whether it goes on from what was known of it: so many changes, of which the last had this digest.
    ///
    /// # Errors
    /// When it does not.
    pub fn goes_on_from(&self, count: usize, known: &TeamDigest) -> Result<(), BadHistory> {
        let there = count.checked_sub(1).and_then(|last| self.changes.get(last));
        if there.is_some_and(|change| change.digest == *known) {
            return Ok(());
        }
        let known_changes = crate::verdict::count(count, "change");
        Err(BadHistory::Exchanged { known: known_changes, digest: known.spoken() })
    }
}
