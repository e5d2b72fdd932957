//! The seal: the record of what must come out.

use serde::{Deserialize, Serialize};

use crate::digest::{
    ContentDigest, ImageFingerprint, PinsDigest, SpecDigest, TeamDigest, TreeDigest, WorkspaceFingerprint,
};
use crate::setup::Setup;
use crate::signature::Signature;

/// What must come out, kept in the lock.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Seal {
    /// Version of the rules by which the layers were made ([`crate::derive::plan::RULES`]).
    #[serde(default = "rules_without_a_number", skip_serializing_if = "is_without_a_number")]
    pub rules: u32,
    /// The image's fingerprint in words, for people who compare aloud.
    pub words: String,
    /// The image.
    pub image: ImageFingerprint,
    /// The workspace.
    pub workspace: WorkspaceFingerprint,
    /// The meaning of the spec that was sealed.
    pub spec: SpecDigest,
    /// The pins that were sealed.
    pub pins: PinsDigest,
    /// The listing that was written beside the lock ([`crate::listing`]); earlier seals have none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub listing: Option<ContentDigest>,
    /// What the workspace is besides its image.
    pub setup: Setup,
    /// Every layer, the lowest first.
    pub layers: Vec<SealedLayer>,
    /// The digest by which a machine's kernel proves the root (dm-verity), where the spec wants that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine_root: Option<String>,
    /// What the probes answered.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub probes: Vec<ProbeAnswer>,
    /// Who of the team signed it; nobody of a team that has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signature: Option<SealSignature>,
}

/// A lead's signature over a seal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SealSignature {
    /// The lead, by their name in the team.
    pub by: String,
    /// The last change of the team when it was signed.
    pub team: TeamDigest,
    /// Over [`Seal::signed_text`].
    pub signature: Signature,
}

#[derive(Serialize)]
struct SignedText<'a> {
    cavrith: &'static str,
    variant: &'a str,
    team: &'a TeamDigest,
    seal: &'a Seal,
}

/// Seals have had the number since version 3; one without it is written as it was read.
fn rules_without_a_number() -> u32 {
    2
}

fn is_without_a_number(rules: &u32) -> bool {
    *rules == rules_without_a_number()
}

impl Seal {
    /// Whether its parts fit each other: its words its image, and its workspace its image and setup.
    pub fn is_whole(&self) -> bool {
        self.words == self.image.spoken() && self.workspace == self.setup.fingerprint(&self.image)
    }

    /// What is signed of the seal of a variant: all of it, for a team as it was after one of its changes.
    pub fn signed_text(&self, variant: &str, team: &TeamDigest) -> String {
        let seal = &self.unsigned();
        let text = serde_json::to_string_pretty(&SignedText { cavrith: "seal 1", variant, team, seal });
        format!("{}\n", text.unwrap_or_else(|error| panic!("BUG: a seal cannot be written: {error}")))
    }

    /// The same without its signature.
    #[must_use]
    pub fn unsigned(&self) -> Self {
        Self { signature: None, ..self.clone() }
    }
}

/// One layer of a sealed image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SealedLayer {
    /// A name for people.
    pub name: String,
    /// Digest of its tree.
    pub tree: TreeDigest,
}

/// What the probe of a toolchain answered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ProbeAnswer {
    /// The toolchain.
    pub toolchain: String,
    /// Program and arguments.
    pub run: Vec<String>,
    /// The answer, without the last newline.
    pub answer: String,
}
