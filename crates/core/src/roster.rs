//! The roster: all of a team's reports side by side.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use crate::digest::ContentDigest;
use crate::report::{self, Report, ReportedAspect};
use crate::signature::PublicKey;
use crate::team::{Person, Refusal, Role, Team};

/// How far a clock may be ahead of ours before a report counts as one from the future, in milliseconds.
const AHEAD: u64 = 10 * 60 * 1000;
/// How much older than the revision that its seal came with a report may be, in milliseconds: clocks differ, and what
/// is sealed today may be committed tomorrow.
const BEFORE_SEAL: u64 = 24 * 60 * 60 * 1000;

/// A file that may be a report.
#[derive(Debug, Clone)]
pub struct Candidate {
    /// Where it was found, for people.
    pub from: String,
    /// What stands in it.
    pub text: Vec<u8>,
}

/// What reports are held against.
#[derive(Debug, Clone)]
pub struct Standard<'a> {
    /// The team of this revision.
    pub team: &'a Team,
    /// The workspace's name.
    pub workspace: &'a str,
    /// The seal of each variant, by its digest: variant and words.
    pub seals: BTreeMap<ContentDigest, (String, String)>,
    /// When the revision was made that the seal came with, in milliseconds since 1970, as far as that is known.
    pub sealed: Option<u64>,
    /// Now, in milliseconds since 1970.
    pub now: u64,
    /// Reports that are older than this, in milliseconds, are stale.
    pub longest: Option<u64>,
}

/// How somebody stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// Something differs.
    Different,
    /// Something could not be measured.
    NotMeasured,
    /// The report is of an older seal, or too old.
    Stale,
    /// There is no report.
    NeverReported,
    /// As sealed.
    Same,
}

impl Standing {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Different => "different",
            Self::NotMeasured => "not measured",
            Self::Stale => "stale",
            Self::NeverReported => "never reported",
            Self::Same => "same",
        }
    }
}

/// A report that is believed.
#[derive(Debug, Clone, Serialize)]
pub struct Believed {
    /// Where it was found.
    pub from: String,
    /// Digest of the file.
    pub digest: ContentDigest,
    /// Fingerprint of the key.
    pub key: String,
    /// It is of the present seal.
    pub is_current: bool,
    /// What it says.
    pub report: Report,
}

/// One of the team.
#[derive(Debug, Clone, Serialize)]
pub struct Member {
    /// Their name.
    pub name: String,
    /// How they stand.
    pub standing: Standing,
    /// What is worth a word: the reason of a standing, or something odd about the reports.
    pub note: Option<String>,
    /// The report that counts.
    pub report: Option<Believed>,
    /// Older ones, the newest first.
    pub earlier: Vec<Believed>,
}

impl Member {
    /// An aspect of the report that counts.
    pub fn aspect(&self, name: &str) -> Option<&ReportedAspect> {
        self.report.as_ref()?.report.aspects.iter().find(|aspect| aspect.aspect.name == name)
    }
}

/// All of a team's reports side by side.
#[derive(Debug, Clone, Serialize)]
pub struct Roster {
    /// The workspace's name.
    pub workspace: String,
    /// The present seals, in words.
    pub words: Vec<String>,
    /// When it was made, in milliseconds since 1970.
    pub now: u64,
    /// Every aspect that somebody measured, in the order in which they are measured.
    pub aspects: Vec<String>,
    /// Everybody who may report, those first about whom something has to be done.
    pub members: Vec<Member>,
    /// Reports of people who do not want to be named, by how they stand. Anybody could have made them.
    pub unnamed: BTreeMap<String, u64>,
    /// Reports that nobody in the team signed, and what else was there, with the reason why it does not count.
    pub refused: Vec<(String, String)>,
    /// From the command to join to ready, in milliseconds: the middle one and the longest of all.
    pub joining: Option<Joining>,
}

/// How long joining took.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Joining {
    /// How many joined with one command.
    pub count: usize,
    /// The middle one, in milliseconds.
    pub median: u64,
    /// The longest, in milliseconds.
    pub longest: u64,
    /// Who that was.
    pub slowest: String,
    /// What took the longest part of it.
    pub because: String,
}

impl Roster {
    /// How many stand so.
    pub fn count(&self, standing: Standing) -> usize {
        self.members.iter().filter(|member| member.standing == standing).count()
    }

    /// Whether everybody is the same.
    pub fn is_good(&self) -> bool {
        self.members.iter().all(|member| member.standing == Standing::Same)
    }

    /// Lays reports side by side: each candidate with what a [`Judge`] said of it.
    pub fn new(standard: &Standard<'_>, judged: Vec<(Candidate, Judged<'_>)>) -> Self {
        let (mut refused, mut unnamed) = (Vec::new(), BTreeMap::new());
        let mut believed: BTreeMap<&str, Vec<Believed>> = BTreeMap::new();
        let mut seen = BTreeSet::new();
        for (Candidate { from, text }, judged) in judged {
            let digest = ContentDigest::of(&text);
            // The same report twice is one report.
            if !seen.insert(digest) {
                continue;
            }
            match judged.0 {
                Ok((name, key, report)) => {
                    let is_current = standard.seals.contains_key(&report.seal.digest);
                    let one = Believed { from, digest, key: key.fingerprint(), is_current, report };
                    believed.entry(name).or_default().push(one);
                }
                Err(Refused::Unnamed(standing)) => *unnamed.entry(standing).or_default() += 1,
                Err(Refused::Because(why)) => refused.push((from, why)),
            }
        }
        let reporting = standard.team.people.iter().filter(|(_, person)| person.roles.contains(&Role::Member));
        let mut members: Vec<_> = reporting
            .map(|(name, _)| member(standard, name, believed.remove(name.as_str()).unwrap_or_default()))
            .collect();
        members.sort_by(|one, other| (one.standing, &one.name).cmp(&(other.standing, &other.name)));
        let mut aspects: Vec<String> = Vec::new();
        for member in &members {
            let mut last = 0;
            for aspect in member.report.iter().flat_map(|report| &report.report.aspects) {
                match aspects.iter().position(|known| *known == aspect.aspect.name) {
                    Some(place) => last = place + 1,
                    None => {
                        aspects.insert(last, aspect.aspect.name.clone());
                        last += 1;
                    }
                }
            }
        }
        let joining = joining(&members);
        let words = standard.seals.values().map(|(_, words)| words.clone()).collect();
        Self {
            workspace: standard.workspace.to_owned(),
            words,
            now: standard.now,
            aspects,
            members,
            unnamed,
            refused,
            joining,
        }
    }
}

/// Whose each key is.
type Owners<'t> = BTreeMap<&'t PublicKey, (&'t str, &'t Person)>;

fn owners(team: &Team) -> Owners<'_> {
    let people = team.people.iter();
    people.flat_map(|(name, person)| person.keys.iter().map(move |key| (key, (name.as_str(), person)))).collect()
}

/// Why a report is nobody's in the team.
enum Refused {
    /// It is by somebody who does not want to be named, and is of the present seal.
    Unnamed(String),
    /// For a reason.
    Because(String),
}

impl From<String> for Refused {
    fn from(why: String) -> Self {
        Self::Because(why)
    }
}

/// What a judge said of a candidate.
pub struct Judged<'t>(Result<(&'t str, PublicKey, Report), Refused>);

/// Says of candidates whether they may be believed; each by itself, so several at once.
pub struct Judge<'t> {
    standard: &'t Standard<'t>,
    owners: Owners<'t>,
}

impl<'t> Judge<'t> {
    /// By a standard.
    pub fn new(standard: &'t Standard<'t>) -> Self {
        Self { standard, owners: owners(standard.team) }
    }

    /// Whose report a text is, or why it is nobody's.
    pub fn judge(&self, text: &[u8]) -> Judged<'t> {
        Judged(judge(self.standard, &self.owners, text))
    }
}

/// Whose report it is, when it may be believed.
fn judge<'t>(
    standard: &Standard<'t>,
    owners: &Owners<'t>,
    text: &[u8],
) -> Result<(&'t str, PublicKey, Report), Refused> {
    let (report, key) = report::open(text).map_err(|bad| bad.to_string())?;
    let Some((name, person)) = owners.get(&key).copied() else {
        let is_current = standard.seals.contains_key(&report.seal.digest) && report.workspace == standard.workspace;
        return Err(match report.by {
            None if is_current && report.standing == whole(&report) => Refused::Unnamed(report.standing),
            _ => Refusal::Stranger { key: key.fingerprint() }.to_string().into(),
        });
    };
    if !person.roles.contains(&Role::Member) {
        return Err(Refusal::Role { name: name.to_owned(), role: Role::Member }.to_string().into());
    }
    if let Some(claimed) = report.by.as_ref().filter(|by| *by != name) {
        let claimed = crate::path::shown(claimed.as_bytes());
        return Err(Refusal::Claimed { claimed, name: name.to_owned() }.to_string().into());
    }
    if report.workspace != standard.workspace {
        return Err(format!("it is of another workspace ({})", crate::path::shown(report.workspace.as_bytes())).into());
    }
    if report.times.measured > standard.now + AHEAD {
        return Err("it is from the future: its time is later than now".to_owned().into());
    }
    let is_current = standard.seals.contains_key(&report.seal.digest);
    if is_current && standard.sealed.is_some_and(|sealed| report.times.measured + BEFORE_SEAL < sealed) {
        return Err("it is backdated: its time is before that of the seal which it names".to_owned().into());
    }
    if !["same", "different", "not-measured"].contains(&report.standing.as_str()) || report.standing != whole(&report) {
        return Err("it contradicts itself: its aspects do not come to what it says".to_owned().into());
    }
    Ok((name, key, report))
}

/// How the whole stands, by the aspects that a report lists.
fn whole(report: &Report) -> &'static str {
    let any = |standing: &str| report.aspects.iter().any(|aspect| aspect.standing == standing);
    let honest = report.aspects.iter().all(|aspect| aspect.standing == aspect.aspect.standing().name());
    match () {
        () if !honest || report.aspects.is_empty() => "",
        () if any("different") => "different",
        () if any("not-measured") => "not-measured",
        () => "same",
    }
}

fn member(standard: &Standard<'_>, name: &str, mut reports: Vec<Believed>) -> Member {
    reports.sort_by_key(|one| std::cmp::Reverse(one.report.times.measured));
    let mut note = None;
    // Each names the one before it: one that names a later one, or one that nobody has, was not made in its turn.
    let times: BTreeMap<_, _> = reports.iter().map(|one| (one.digest, one.report.times.measured)).collect();
    for one in &reports {
        match one.report.previous.as_ref().map(|previous| times.get(previous)) {
            Some(Some(time)) if *time > one.report.times.measured => {
                note = Some("a report is backdated: it goes on from a later one".to_owned());
            }
            Some(None) => note = Some("a report is missing that another one goes on from".to_owned()),
            _ => {}
        }
    }
    let mut reports = reports.into_iter();
    let Some(report) = reports.next() else {
        return Member {
            name: name.to_owned(),
            standing: Standing::NeverReported,
            note,
            report: None,
            earlier: Vec::new(),
        };
    };
    let age = standard.now.saturating_sub(report.report.times.measured);
    let standing = match report.report.standing.as_str() {
        _ if !report.is_current => {
            note.get_or_insert_with(|| format!("of an older seal, {}", report.report.seal.words));
            Standing::Stale
        }
        _ if standard.longest.is_some_and(|longest| age > longest) => {
            note.get_or_insert_with(|| format!("{} days old", age / 86_400_000));
            Standing::Stale
        }
        "same" => Standing::Same,
        "different" => Standing::Different,
        _ => Standing::NotMeasured,
    };
    Member { name: name.to_owned(), standing, note, report: Some(report), earlier: reports.collect() }
}

fn joining(members: &[Member]) -> Option<Joining> {
    let mut all: Vec<_> = members
        .iter()
        .filter_map(|member| {
            let reports = member.report.iter().chain(&member.earlier);
            let joined = reports.filter_map(|one| one.report.times.joined.as_ref()).next_back()?;
            Some((joined.ready(), member.name.clone(), joined.slowest().to_owned()))
        })
        .collect();
    all.sort();
    let (longest, slowest, because) = all.last()?.clone();
    let median = all.get(all.len() / 2)?.0;
    Some(Joining { count: all.len(), median, longest, slowest, because })
}

/// One way in which two reports differ.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Between {
    /// What it is about.
    pub what: String,
    /// On the first one's side.
    pub one: String,
    /// On the other's.
    pub other: String,
}

/// In what two reports differ, without a seal.
pub fn compare(one: &Report, other: &Report) -> Vec<Between> {
    let mut found = Vec::new();
    let mut hold = |what: &str, one: String, other: String| {
        if one != other {
            found.push(Between { what: what.to_owned(), one, other });
        }
    };
    hold("cavrith", one.cavrith.clone(), other.cavrith.clone());
    hold("variant", one.variant.clone(), other.variant.clone());
    hold("spec", one.spec.spoken(), other.spec.spoken());
    hold("lock", one.lock.spoken(), other.lock.spoken());
    hold("seal", one.seal.words.clone(), other.seal.words.clone());
    let commit = |report: &Report| {
        let revision = report.revision.as_ref();
        revision.map_or_else(
            || "none".to_owned(),
            |at| format!("{}{}", at.commit, if at.changed { ", changed" } else { "" }),
        )
    };
    hold("revision", commit(one), commit(other));
    hold("kernel", one.machine.kernel.clone(), other.machine.kernel.clone());
    hold("architecture", one.machine.architecture.clone(), other.machine.architecture.clone());
    hold("kind of member", one.machine.member.clone(), other.machine.member.clone());
    let differing = |report: &Report| -> BTreeMap<String, String> {
        let all = report.aspects.iter().flat_map(|aspect| {
            let name = aspect.aspect.name.clone();
            aspect
                .aspect
                .differences
                .iter()
                .map(move |difference| (format!("{name}: {}", difference.what), difference.here.clone()))
        });
        all.collect()
    };
    let (here, there) = (differing(one), differing(other));
    for what in here.keys().chain(there.keys()).collect::<BTreeSet<_>>() {
        let shown = |side: &BTreeMap<String, String>| side.get(what).cloned().unwrap_or_else(|| "as sealed".to_owned());
        hold(what, shown(&here), shown(&there));
    }
    found
}
