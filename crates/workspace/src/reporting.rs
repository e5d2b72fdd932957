//! A member's reports: made of a verdict, signed, kept here, and sent where the team looks for them. Nothing is sent
//! that nobody asked for.
//!
//! They are kept in `reports/NAME-ID/MILLIS-sent.json` of Cavrith's home; each that was sent names the one before it.

use std::fs;
use std::io::Read as _;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use cavrith_core::digest::ContentDigest;
use cavrith_core::lock::Lock;
use cavrith_core::report::{self, Joined, Machine, Report, ReportedSeal, Times};
use cavrith_core::signature::{self, PublicKey};
use cavrith_core::team::{REPORT, Role, Team};
use cavrith_core::verdict::Verdict;
use cavrith_engine::EngineError;
use cavrith_engine::error::{TeamError, file_error};
use cavrith_engine::home::Home;
use cavrith_engine::project::Project;
use cavrith_engine::signing::{self, KeyChoice};
use cavrith_exchange::revisions;
use cavrith_keeper::place::Place;
use cavrith_sandbox::ground::{Dress, Ground};
use cavrith_sandbox::{Identity, machine};
use cavrith_store::{atomic, private, reading};

use crate::WorkspaceError;

/// Reports of one project that are kept here.
const KEPT: usize = 100;
/// How the name of a report ends that was sent somewhere.
const SENT: &str = "-sent.json";
/// And of one that is only kept.
const UNSENT: &str = "-kept.json";
/// In a workspace's directory: how long joining took.
const JOINED: &str = "joined";

/// A report that was made.
#[derive(Debug, Clone)]
pub struct Made {
    /// What it says.
    pub report: Report,
    /// Whose key signed it: a name, or nothing of somebody who does not want to be named.
    pub by: Option<String>,
    /// Its text.
    pub text: String,
    /// Where it is kept.
    pub kept: PathBuf,
}

/// Who signs.
#[derive(Debug, Clone, Copy)]
pub enum Signer<'a> {
    /// A member of the team, with their key.
    Member(&'a Team, KeyChoice<'a>),
    /// Somebody who does not want to be named, with a key that is made for this one report.
    Nobody,
}

/// Makes, signs and keeps a report of a verdict.
///
/// # Errors
/// When there is no seal, no key of a member's is at hand, or the disk refuses.
pub fn make(
    home: &Home,
    (project, lock): (&Project, &Lock),
    (verdict, took): (&Verdict, u64),
    identity: Identity,
    version: &str,
    signer: Signer<'_>,
    is_sent: bool,
) -> Result<Made, WorkspaceError> {
    let seal = lock.seal.as_ref().ok_or(WorkspaceError::NoSeal)?;
    let place = Place::new(home, &project.dir, &project.spec.workspace.name.value, None);
    let dir = directory(home, &place);
    private::directory(&dir)?;
    let named = matches!(signer, Signer::Member(..));
    let key = match signer {
        Signer::Member(team, choice) => Some(signing::find(team, Role::Member, choice)?),
        Signer::Nobody => None,
    };
    let machine = Machine {
        kernel: machine::release(),
        architecture: std::env::consts::ARCH.to_owned(),
        member: match identity {
            Identity::Root => "root",
            Identity::Range => "range",
            Identity::Single => "single",
        }
        .to_owned(),
    };
    let revision = revisions::state(&project.dir).map(|(commit, changed)| report::Revision { commit, changed });
    let measured = cavrith_keeper::record::now();
    let report = Report {
        cavrith: version.to_owned(),
        workspace: project.spec.workspace.name.value.clone(),
        variant: project.spec.variant.clone(),
        by: key.as_ref().map(|key| key.name.clone()),
        seal: ReportedSeal {
            words: seal.words.clone(),
            digest: report::seal_digest(seal),
            image: seal.image,
            workspace: seal.workspace,
        },
        spec: project.spec.digest,
        lock: lock.pins_digest(),
        revision: revision.filter(|_| named),
        machine: if named { machine } else { Machine::default() },
        standing: verdict.standing().name().to_owned(),
        aspects: report::aspects(verdict),
        times: Times { measured, verify_millis: took, joined: joined(&place).filter(|_| named) },
        previous: key.as_ref().and_then(|key| last_sent(&dir, key.public())),
    };
    let (payload, signed) = report::payload(&report);
    let (signature, public) = match &key {
        Some(key) => (key.sign(REPORT, &signed)?, key.public().clone()),
        None => unnamed(&signed)?,
    };
    let text = report::envelope(&payload, &public, signature);
    let kept = dir.join(format!("{measured}{}", if is_sent { SENT } else { UNSENT }));
    if named {
        atomic::write(&kept, text.as_bytes())?;
        tidy(&dir);
    }
    Ok(Made { report, by: key.map(|key| key.name), text, kept })
}

/// A signature with a key that is forgotten afterwards.
fn unnamed(signed: &[u8]) -> Result<(signature::Signature, PublicKey), WorkspaceError> {
    let mut seed = [0; 32];
    let source = Path::new("/dev/urandom");
    let read = fs::File::open(source).and_then(|mut file| file.read_exact(&mut seed));
    read.map_err(file_error("read", source))?;
    signature::sign_once(&seed, REPORT, signed).map_err(|why| {
        EngineError::from(TeamError::Key { key: "for one report".to_owned(), why: why.to_string() }).into()
    })
}

fn directory(home: &Home, place: &Place) -> PathBuf {
    home.root().join("reports").join(place.dir.file_name().unwrap_or_default())
}

/// The reports of a directory that were kept by us, the oldest first.
fn kept(dir: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(dir).into_iter().flatten().flatten().map(|entry| entry.path());
    let made = |path: &PathBuf| path.file_name()?.to_str()?.split('-').next()?.parse::<u64>().ok();
    let mut all: Vec<_> = entries.filter_map(|path| Some((made(&path)?, path))).collect();
    all.sort();
    all.into_iter().map(|(_, path)| path).collect()
}

/// The digest of the last report that was sent with a key; the team has not seen others.
fn last_sent(dir: &Path, key: &PublicKey) -> Option<ContentDigest> {
    let sent = kept(dir).into_iter().rev().filter(|path| path.to_string_lossy().ends_with(SENT));
    let mut texts = sent.filter_map(|path| reading::bounded(&path, report::LONGEST as u64).ok());
    let own = texts.find(|text| report::open(text).is_ok_and(|(_, signer)| signer == *key))?;
    Some(ContentDigest::of(&own))
}

fn tidy(dir: &Path) {
    let all = kept(dir);
    for path in all.iter().take(all.len().saturating_sub(KEPT)) {
        let _ = fs::remove_file(path);
    }
}

/// The name of a report in a folder of a team's.
fn file_name(made: &Made) -> String {
    let who = made
        .by
        .clone()
        .unwrap_or_else(|| format!("nobody-{}", &ContentDigest::of(made.text.as_bytes()).to_string()[..8]));
    format!("{who}-{}.json", made.report.times.measured)
}

/// Puts a report into the folder of the project that the spec names for them. The project is visible inside, so no
/// link is followed.
///
/// # Errors
/// When the folder leads elsewhere, or the disk refuses.
pub fn put_into_project(project: &Project, folder: &str, made: &Made) -> Result<PathBuf, WorkspaceError> {
    let dir = &project.dir;
    let path = Path::new(folder).join(file_name(made));
    let failed = || file_error("write", dir.join(&path));
    let ground = Ground::open(dir).map_err(file_error("open", dir))?;
    let owner = fs::metadata(dir).map(|meta| (meta.uid(), meta.gid())).map_err(file_error("read", dir))?;
    let dress = |mode| Dress { mode, owner: Some(owner), modified: made.report.times.measured / 1000 };
    ground.make_way(&path, &dress(0o755)).map_err(failed())?;
    ground.file(&path, &mut made.text.as_bytes(), &dress(0o644)).map_err(failed())?;
    Ok(dir.join(path))
}

/// Puts a report into a folder that somebody typed.
///
/// # Errors
/// When it is no folder, or the disk refuses.
pub fn put_into(folder: &Path, made: &Made) -> Result<PathBuf, WorkspaceError> {
    let path = folder.join(file_name(made));
    atomic::write(&path, made.text.as_bytes())?;
    Ok(path)
}

/// How long joining took, as [`note_joined`] wrote it down.
fn joined(place: &Place) -> Option<Joined> {
    let text = reading::text(&place.dir.join(JOINED)).ok()?;
    let noted: Noted = serde_json::from_str(&text).ok()?;
    Some(noted.joined)
}

#[derive(Serialize, Deserialize)]
struct Noted {
    joined: Joined,
}

/// Writes down how long joining took, for the member's reports.
///
/// # Errors
/// When the disk refuses.
pub fn note_joined(place: &Place, joined: Joined) -> Result<(), WorkspaceError> {
    let text = serde_json::to_string(&Noted { joined }).unwrap_or_default();
    Ok(atomic::write(&place.dir.join(JOINED), text.as_bytes())?)
}
