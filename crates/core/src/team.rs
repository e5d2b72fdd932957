//! Who is in a team, what each of them may sign, and who let whom in.
//!
//! The spec's `[team]` says who is in it now. That alone would let whoever can write the file write themselves into it,
//! so a change of the team counts only once somebody who was a lead before it has signed it. [`history`] is the file of
//! those signed changes; what a seal's signature is held against is its last one, never the spec.
//!
//! | role | may sign | namespace |
//! |---|---|---|
//! | lead | seals, and changes of the team | `cavrith-seal`, `cavrith-team` |
//! | member | reports | `cavrith-report` |
//! | publisher | what goes out with an image | `cavrith-image` |

pub mod history;
pub mod signers;
pub mod voucher;

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::seal::Seal;
use crate::signature::{self, BadSignature, PublicKey};
use history::Proved;

/// The namespace of a seal's signature.
pub const SEAL: &str = "cavrith-seal";
/// The namespace of the signature of a change of the team.
pub const CHANGE: &str = "cavrith-team";
/// The namespace of a member's report.
pub const REPORT: &str = "cavrith-report";
/// The namespace of what goes out with an image.
pub const IMAGE: &str = "cavrith-image";

/// What somebody may sign.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Seals, and changes of the team.
    Lead,
    /// Reports of their own workspace.
    Member,
    /// What goes out with an image.
    Publisher,
}

impl Role {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Lead, Self::Member, Self::Publisher];

    /// As it is written.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Lead => "lead",
            Self::Member => "member",
            Self::Publisher => "publisher",
        }
    }

    /// The namespaces of what it may sign.
    pub const fn namespaces(self) -> &'static [&'static str] {
        match self {
            Self::Lead => &[SEAL, CHANGE],
            Self::Member => &[REPORT],
            Self::Publisher => &[IMAGE],
        }
    }
}

/// Somebody of a team.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Person {
    /// What they may sign.
    pub roles: BTreeSet<Role>,
    /// Their public keys.
    pub keys: BTreeSet<PublicKey>,
}

/// A team, by the names of its people.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Team {
    /// Everybody.
    pub people: BTreeMap<String, Person>,
}

/// Whether a text can be a person's name: letters, digits, `-_+.@`, beginning with a letter or digit, 64 at most.
pub fn is_name(text: &str) -> bool {
    let mut letters = text.bytes();
    text.len() <= 64
        && letters.next().is_some_and(|first| first.is_ascii_alphanumeric())
        && letters.all(|letter| letter.is_ascii_alphanumeric() || b"-_+.@".contains(&letter))
}

/// What makes a team unusable.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadTeam {
    /// Nobody may seal, or change the team.
    #[error("nobody in the team is a lead, so nobody could sign a seal or a change of the team")]
    NoLead,
    /// A signature with this key would name two people.
    #[error("{first} and {second} have the same key ({key})")]
    Shared {
        /// One of them.
        first: String,
        /// The other.
        second: String,
        /// The key's fingerprint.
        key: String,
    },
    /// Somebody has no name that can be shown.
    #[error("{0:?} cannot be a person's name")]
    Name(String),
    /// Somebody could not sign anything.
    #[error("{0} has no key")]
    NoKey(String),
}

impl Team {
    /// Who has a key.
    pub fn owner(&self, key: &PublicKey) -> Option<(&str, &Person)> {
        self.people.iter().find(|(_, person)| person.keys.contains(key)).map(|(name, person)| (name.as_str(), person))
    }

    /// The keys of everybody who has a role.
    pub fn keys(&self, role: Role) -> impl Iterator<Item = &PublicKey> {
        self.people.values().filter(move |person| person.roles.contains(&role)).flat_map(|person| &person.keys)
    }

    /// Whether it can be one.
    ///
    /// # Errors
    /// When it has no lead, or a key does not belong to exactly one person.
    pub fn check(&self) -> Result<(), BadTeam> {
        let mut owners: BTreeMap<&PublicKey, &String> = BTreeMap::new();
        for (name, person) in &self.people {
            if !is_name(name) {
                return Err(BadTeam::Name(name.clone()));
            }
            if person.keys.is_empty() {
                return Err(BadTeam::NoKey(name.clone()));
            }
            for key in &person.keys {
                if let Some(first) = owners.insert(key, name) {
                    let key = key.fingerprint();
                    return Err(BadTeam::Shared { first: first.clone(), second: name.clone(), key });
                }
            }
        }
        if self.keys(Role::Lead).next().is_none() { Err(BadTeam::NoLead) } else { Ok(()) }
    }
}

/// Why a signature is not believed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// It is none of this text.
    #[error("{0}")]
    Signature(#[from] BadSignature),
    /// Nobody in the team has the key.
    #[error("it is signed with a key that nobody in the team has ({key})")]
    Stranger {
        /// The key's fingerprint.
        key: String,
    },
    /// Somebody in the team has it, and may not sign this.
    #[error("it is signed by {name}, who is no {} in this team", role.name())]
    Role {
        /// Who.
        name: String,
        /// What they would have to be.
        role: Role,
    },
    /// It names somebody else than its key.
    #[error("it says that {claimed} signed it, and the key is {name}'s")]
    Claimed {
        /// Who it says.
        claimed: String,
        /// Whose key it is.
        name: String,
    },
    /// It was made for another team, or for changes that are not there.
    #[error("it was signed for a team that this one never was")]
    OtherTeam,
    /// There is no team that could have signed.
    #[error("it is signed, and there is no cavrith.team to say who may")]
    NoTeam,
}

/// Who signed something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signer {
    /// Their name in the team.
    pub name: String,
    /// Their key.
    pub key: PublicKey,
}

/// Who signed a text, when they may.
///
/// # Errors
/// When the signature does not fit, or the team does not let its key sign this.
pub fn signer(team: &Team, role: Role, namespace: &str, text: &[u8], armoured: &str) -> Result<Signer, Refusal> {
    let key = signature::signer(armoured, namespace, text)?;
    let Some((name, person)) = team.owner(&key) else {
        return Err(Refusal::Stranger { key: key.fingerprint() });
    };
    if !person.roles.contains(&role) {
        return Err(Refusal::Role { name: name.to_owned(), role });
    }
    Ok(Signer { name: name.to_owned(), key })
}

/// Who signed the seal of a variant; nobody when it is not signed.
///
/// The signer has to be a lead of the team as it is in the same revision: somebody who left it could otherwise go on
/// sealing, and say that it was long ago.
///
/// # Errors
/// When it is signed, and the signature is not to be believed.
pub fn seal_signer(team: Option<&Proved<'_>>, variant: &str, seal: &Seal) -> Result<Option<Signer>, Refusal> {
    let Some(signature) = &seal.signature else { return Ok(None) };
    let team = team.ok_or(Refusal::NoTeam)?;
    if !team.changes.iter().any(|change| change.digest == signature.team) {
        return Err(Refusal::OtherTeam);
    }
    let text = seal.signed_text(variant, &signature.team);
    let signer = signer(team.now, Role::Lead, SEAL, text.as_bytes(), &signature.signature.armoured())?;
    if signer.name != signature.by {
        return Err(Refusal::Claimed { claimed: signature.by.clone(), name: signer.name });
    }
    Ok(Some(signer))
}
