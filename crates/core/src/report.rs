//! A member's report: a signed statement of what `verify` measured.
//!
//! It is an in-toto statement (in-toto attestation framework, Statement v1) in a DSSE envelope (Dead Simple Signing
//! Envelope, v1.0). The signature is one of SSHSIG, in [`team::REPORT`], over the envelope's pre-authentication
//! encoding; `docs/report.md` describes the predicate, and `docs/report.schema.json` is its JSON Schema.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};

use crate::digest::{ContentDigest, ImageFingerprint, PinsDigest, SpecDigest, WorkspaceFingerprint};
use crate::seal::Seal;
use crate::signature::{self, BadSignature, PublicKey, Signature};
use crate::team;
use crate::verdict::{Aspect, Verdict};

/// The type of a statement (in-toto, Statement v1).
const STATEMENT: &str = "https://in-toto.io/Statement/v1";
/// The type of our predicate.
pub const PREDICATE: &str = "urn:cavrith:report:1";
/// The type of an envelope's payload (in-toto, Envelope v1).
const PAYLOAD: &str = "application/vnd.in-toto+json";
/// Bytes that a report may have.
pub const LONGEST: usize = 4 << 20;
/// Differences of one aspect that a report carries; the rest is a number.
const MOST_DIFFERENCES: usize = 200;

/// A DSSE envelope.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Envelope {
    payload_type: String,
    payload: String,
    signatures: Vec<EnvelopeSignature>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct EnvelopeSignature {
    keyid: String,
    sig: Signature,
}

/// An in-toto statement with our predicate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Statement {
    #[serde(rename = "_type")]
    kind: String,
    subject: Vec<Subject>,
    #[serde(rename = "predicateType")]
    predicate_type: String,
    /// What was measured.
    pub predicate: Report,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Subject {
    name: String,
    digest: SubjectDigest,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct SubjectDigest {
    blake3: String,
}

/// What was measured, of what, where and when.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Report {
    /// Version of Cavrith.
    pub cavrith: String,
    /// The workspace's name.
    pub workspace: String,
    /// The variant.
    pub variant: String,
    /// The member's name in the team; nothing of one who does not want to be named.
    pub by: Option<String>,
    /// The seal that it was held against.
    pub seal: ReportedSeal,
    /// The spec's meaning.
    pub spec: SpecDigest,
    /// The pins.
    pub lock: PinsDigest,
    /// The revision in version control, and whether something was changed since.
    pub revision: Option<Revision>,
    /// The machine.
    pub machine: Machine,
    /// How the whole stands: `same`, `different` or `not-measured`.
    pub standing: String,
    /// Each aspect.
    pub aspects: Vec<ReportedAspect>,
    /// When, and how long it took.
    pub times: Times,
    /// Digest of the member's report before this one, of this project; nothing of the first.
    pub previous: Option<ContentDigest>,
}

/// A seal as a report names it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct ReportedSeal {
    /// In words, for people.
    pub words: String,
    /// BLAKE3 of the whole seal, with its signature.
    pub digest: ContentDigest,
    /// The image.
    pub image: ImageFingerprint,
    /// The workspace.
    pub workspace: WorkspaceFingerprint,
}

/// A revision in version control.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Revision {
    /// The commit.
    pub commit: String,
    /// Files were changed since.
    pub changed: bool,
}

/// What a report says of the machine; no name and no address.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Machine {
    /// Release of the kernel.
    pub kernel: String,
    /// Architecture.
    pub architecture: String,
    /// The kind of member: `root`, `range` (of subordinate ids) or `single`.
    pub member: String,
}

/// One aspect of a verdict.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReportedAspect {
    /// `same`, `different` or `not-measured`.
    pub standing: String,
    /// Differences beyond those that are listed.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub more: u64,
    /// The aspect.
    #[serde(flatten)]
    pub aspect: Aspect,
}

fn is_zero(number: &u64) -> bool {
    *number == 0
}

/// Times.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Times {
    /// When it was measured, in milliseconds since 1970.
    pub measured: u64,
    /// How long measuring took, in milliseconds.
    pub verify_millis: u64,
    /// How long joining took, part by part, in milliseconds; nothing where nobody joined with one command.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub joined: Option<Joined>,
}

/// How long it took from the command to join to a workspace that is ready.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Joined {
    /// Getting the project.
    pub fetch: u64,
    /// Getting or building the image.
    pub image: u64,
    /// Starting it.
    pub start: u64,
}

impl Joined {
    /// All of it.
    pub fn ready(&self) -> u64 {
        self.fetch + self.image + self.start
    }

    /// What took longest, in words.
    pub fn slowest(&self) -> &'static str {
        let parts = [("fetching", self.fetch), ("the image", self.image), ("starting", self.start)];
        parts.iter().max_by_key(|(_, millis)| *millis).map_or("", |(name, _)| name)
    }
}

/// Why something is no report that may be believed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadReport {
    /// It cannot be read.
    #[error("it is no report: {0}")]
    Unreadable(String),
    /// It is a statement of another kind.
    #[error("it is a statement of another kind ({0})")]
    OtherKind(String),
    /// It has no signature, or several.
    #[error("it has {0} signatures, and a report has one")]
    Signatures(usize),
    /// Its signature is none of it.
    #[error("{0}")]
    Signature(#[from] BadSignature),
    /// Its subjects are not what its predicate says.
    #[error("what it is about and what it says do not fit each other")]
    Subjects,
}

/// The digest by which a report names a seal: of all of it, its signature too.
pub fn seal_digest(seal: &Seal) -> ContentDigest {
    ContentDigest::of(serde_json::to_string(seal).unwrap_or_default().as_bytes())
}

/// The aspects of a verdict, as a report carries them.
pub fn aspects(verdict: &Verdict) -> Vec<ReportedAspect> {
    let one = |aspect: &Aspect| {
        let mut aspect = aspect.clone();
        let more = aspect.differences.len().saturating_sub(MOST_DIFFERENCES) as u64;
        aspect.differences.truncate(MOST_DIFFERENCES);
        ReportedAspect { standing: aspect.standing().name().to_owned(), more, aspect }
    };
    verdict.aspects.iter().map(one).collect()
}

/// The pre-authentication encoding of a payload (DSSE, Protocol, section "Signature Definition"): what is signed.
pub fn encoded(payload: &[u8]) -> Vec<u8> {
    let mut bytes = format!("DSSEv1 {} {PAYLOAD} {} ", PAYLOAD.len(), payload.len()).into_bytes();
    bytes.extend(payload);
    bytes
}

/// The payload of a report's envelope, and the bytes to be signed for it.
pub fn payload(report: &Report) -> (Vec<u8>, Vec<u8>) {
    let subject = |name: String, digest: String| Subject { name, digest: SubjectDigest { blake3: digest } };
    let statement = Statement {
        kind: STATEMENT.to_owned(),
        subject: vec![
            subject(format!("workspace {}", report.workspace), report.seal.workspace.to_string()),
            subject(format!("image {}", report.workspace), report.seal.image.to_string()),
        ],
        predicate_type: PREDICATE.to_owned(),
        predicate: report.clone(),
    };
    let payload = serde_json::to_vec(&statement).unwrap_or_default();
    let signed = encoded(&payload);
    (payload, signed)
}

/// The text of a signed statement.
pub fn envelope(payload: &[u8], key: &PublicKey, signature: Signature) -> String {
    let envelope = Envelope {
        payload_type: PAYLOAD.to_owned(),
        payload: STANDARD.encode(payload),
        signatures: vec![EnvelopeSignature { keyid: key.fingerprint(), sig: signature }],
    };
    format!("{}\n", serde_json::to_string_pretty(&envelope).unwrap_or_default())
}

/// Whether a text has the form of a report, be it one or not.
pub fn has_form(text: &[u8]) -> bool {
    text.len() <= LONGEST && serde_json::from_slice::<Envelope>(text).is_ok_and(|one| one.payload_type == PAYLOAD)
}

/// Reads a report and the key that signed it. Whether that key may is for the caller to say.
///
/// # Errors
/// When it is none, or its signature is none of it.
pub fn open(text: &[u8]) -> Result<(Report, PublicKey), BadReport> {
    let unreadable = |error: serde_json::Error| BadReport::Unreadable(error.to_string());
    if text.len() > LONGEST {
        return Err(BadReport::Unreadable("it is too long".to_owned()));
    }
    let envelope: Envelope = serde_json::from_slice(text).map_err(unreadable)?;
    if envelope.payload_type != PAYLOAD {
        return Err(BadReport::OtherKind(crate::path::shown(envelope.payload_type.as_bytes())));
    }
    let [signature] = envelope.signatures.as_slice() else {
        return Err(BadReport::Signatures(envelope.signatures.len()));
    };
    let payload = STANDARD.decode(&envelope.payload).map_err(|error| BadReport::Unreadable(error.to_string()))?;
    // Nothing of it is parsed before its signature fits.
    let key = signature::signer(&signature.sig.armoured(), team::REPORT, &encoded(&payload))?;
    let statement: Statement = serde_json::from_slice(&payload).map_err(unreadable)?;
    if statement.kind != STATEMENT || statement.predicate_type != PREDICATE {
        return Err(BadReport::OtherKind(crate::path::shown(statement.predicate_type.as_bytes())));
    }
    let report = statement.predicate;
    let wanted = [report.seal.workspace.to_string(), report.seal.image.to_string()];
    let subjects: Vec<_> = statement.subject.into_iter().map(|subject| subject.digest.blake3).collect();
    if subjects != wanted {
        return Err(BadReport::Subjects);
    }
    Ok((report, key))
}
