//! Errors of a team, its signatures, and signing.

use cavrith_core::failure::FailureCode;
use cavrith_core::team::history::BadHistory;
use cavrith_core::team::{BadTeam, Refusal};

/// What can go wrong with who may sign, and with signing.
#[derive(Debug, thiserror::Error)]
pub enum TeamError {
    /// `cavrith.team` is not to be believed.
    #[error("{0}; take cavrith.team from version control again, or see cavrith explain CV0222")]
    History(#[from] BadHistory),
    /// A seal is not to be believed.
    #[error(
        "the seal{} is not to be believed: {why}; take cavrith.lock from version control again, or let a lead run cavrith seal --sign",
        of_variant(variant)
    )]
    Seal {
        /// The variant, when the project has several.
        variant: Option<String>,
        /// Why.
        why: Refusal,
    },
    /// The file of allowed signers cannot be used.
    #[error("the file of allowed signers {path} cannot be used: {why}")]
    Signers {
        /// As the spec names it.
        path: String,
        /// Why.
        why: String,
    },
    /// The team that the spec describes cannot be one.
    #[error("{0}; see cavrith explain CV0153")]
    Team(#[from] BadTeam),
    /// The spec has no team.
    #[error("the spec has no [team], so there is nobody who could sign; cavrith explain team shows how to write one")]
    None,
    /// Nobody signed the team yet.
    #[error("the team in the spec was never signed, so it counts for nothing yet; a lead runs cavrith team sign first")]
    NeverSigned,
    /// The spec's team is not the signed one.
    #[error("the team in the spec was changed, and nobody signed the change; a lead runs cavrith team sign first")]
    Changed,
    /// There is nothing to sign.
    #[error("the team is signed as it is; change [team] in the spec first")]
    Nothing,
    /// There is no seal to prove.
    #[error("the seal is not signed; a lead runs cavrith seal --sign")]
    Unsigned,
    /// No private key of somebody who may is at hand.
    #[error("none of your keys may sign this: {looked}; those who may are {may}{}", hint(named))]
    NoKey {
        /// Where was looked, in words.
        looked: String,
        /// Who may.
        may: String,
        /// A key was named.
        named: bool,
    },
    /// A key cannot be used.
    #[error("the key {key} cannot be used: {why}")]
    Key {
        /// Its file.
        key: String,
        /// Why, and what to do.
        why: String,
    },
    /// The agent does not sign.
    #[error("the SSH agent did not sign: {0}")]
    Agent(String),
}

fn of_variant(variant: &Option<String>) -> String {
    variant.as_ref().map_or_else(String::new, |name| format!(" of the variant {name}"))
}

fn hint(named: &bool) -> &'static str {
    if *named { "" } else { "; name a key with --key FILE, or add it to the SSH agent" }
}

impl TeamError {
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::History(_) | Self::Seal { .. } | Self::Signers { .. } | Self::Team(_) => FailureCode::TEAM,
            _ => FailureCode::SIGNING,
        }
    }

    /// The exit code: what came with the project and does not prove itself is as a source that does not match.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::History(_) | Self::Seal { .. } => 4,
            Self::NoKey { .. } | Self::Agent(_) => 3,
            _ => 2,
        }
    }
}
