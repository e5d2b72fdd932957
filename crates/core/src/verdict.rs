//! What was measured of a workspace, compared with its seal: for each aspect, *same* or what was expected and what is
//! here.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::seal::{ProbeAnswer, Seal};
use crate::setup::Setup;
use crate::tree::diff::{Change, What};

/// The whole verdict.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Verdict {
    /// Every aspect that was measured, in a fixed order.
    pub aspects: Vec<Aspect>,
}

impl Verdict {
    /// How the whole stands: one difference makes it different; without one, what was not measured keeps it from being
    /// the same.
    pub fn standing(&self) -> Standing {
        let all = || self.aspects.iter().map(Aspect::standing);
        [Standing::Different, Standing::NotMeasured]
            .into_iter()
            .find(|standing| all().any(|one| one == *standing))
            .unwrap_or(Standing::Same)
    }
}

/// How an aspect, or a whole workspace, stands to its seal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standing {
    /// Everything was measured, and is as it was sealed.
    Same,
    /// Something is not as it was sealed.
    Different,
    /// Nothing is known to differ, and something could not be measured.
    NotMeasured,
}

impl Standing {
    /// As it is written: `same`, `different`, `not-measured`.
    pub fn name(self) -> &'static str {
        match self {
            Self::Same => "same",
            Self::Different => "different",
            Self::NotMeasured => "not-measured",
        }
    }
}

/// One aspect of a workspace.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Aspect {
    /// Its name.
    pub name: String,
    /// What was examined, in a few words: `1 204 files, 3 probes`.
    pub measured: String,
    /// Where it differs; nothing when it is the same.
    pub differences: Vec<Difference>,
    /// What of it could not be measured, and why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unmeasured: Vec<String>,
}

impl Aspect {
    /// An aspect that was measured whole.
    pub fn new(name: impl Into<String>, measured: impl Into<String>, differences: Vec<Difference>) -> Self {
        Self { name: name.into(), measured: measured.into(), differences, unmeasured: Vec::new() }
    }

    /// Its state.
    pub fn standing(&self) -> Standing {
        match (self.differences.is_empty(), self.unmeasured.is_empty()) {
            (false, _) => Standing::Different,
            (true, false) => Standing::NotMeasured,
            (true, true) => Standing::Same,
        }
    }
}

/// One difference.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Difference {
    /// What differs: a path, a variable, a port.
    pub what: String,
    /// What the seal says.
    pub expected: String,
    /// What is here.
    pub here: String,
    /// What brought it, as far as that is known: a layer's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The package that brought it, or whose script made it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub package: Option<String>,
    /// The lines of a text that differ, as a unified diff, where they are known and look like no secret.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub diff: Option<String>,
}

/// What to say for something that is not there.
pub const NOTHING: &str = "nothing";

impl Difference {
    /// A difference whose origin is not known.
    pub fn new(what: impl Into<String>, expected: impl Into<String>, here: impl Into<String>) -> Self {
        Self { what: what.into(), expected: expected.into(), here: here.into(), from: None, package: None, diff: None }
    }

    /// A difference between two trees, in words. `from` says what brought the path.
    pub fn of_change(change: &Change, from: Option<String>) -> Self {
        let mut difference = match &change.what {
            What::Missing => Self::new(change.path.to_string(), "to be there", NOTHING),
            What::Extra => Self::new(change.path.to_string(), NOTHING, "something that nobody put there"),
            What::Changed { fields } => {
                let shown = |pick: fn(&crate::tree::diff::Field) -> &str| {
                    fields
                        .iter()
                        .map(|field| format!("{} {}", field.name, short(pick(field))))
                        .collect::<Vec<_>>()
                        .join(", ")
                };
                Self::new(change.path.to_string(), shown(|field| &field.expected), shown(|field| &field.here))
            }
        };
        difference.from = from;
        difference
    }
}

/// A digest cut to what people can compare; anything else as it is.
fn short(text: &str) -> &str {
    if text.len() == 64 && text.bytes().all(|byte| byte.is_ascii_hexdigit()) { &text[..16] } else { text }
}

/// Differences between two maps, by key.
fn map_differences(expected: &BTreeMap<String, String>, here: &BTreeMap<String, String>) -> Vec<Difference> {
    let mut names: Vec<_> = expected.keys().chain(here.keys()).collect();
    names.sort();
    names.dedup();
    let differing = names.into_iter().filter(|name| expected.get(*name) != here.get(*name));
    let value =
        |map: &BTreeMap<String, String>, name: &str| map.get(name).cloned().unwrap_or_else(|| NOTHING.to_owned());
    differing.map(|name| Difference::new(name, value(expected, name), value(here, name))).collect()
}

/// What was measured in a fresh workspace.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Measured {
    /// The setup as it was found inside.
    pub setup: Setup,
    /// User number, group number and home of the account, as found inside.
    pub identity: String,
    /// What the probes answered.
    pub probes: Vec<ProbeAnswer>,
    /// What could not be measured, by the aspect's name, and why. The setup has what was described in its place.
    pub unmeasured: Vec<(&'static str, String)>,
}

/// The aspects that a fresh workspace shows, against the seal: probes, extensions, settings, environment, account,
/// folders, ports.
pub fn workspace_aspects(seal: &Seal, measured: &Measured) -> Vec<Aspect> {
    let (want, have) = (&seal.setup, &measured.setup);
    let mut aspects = vec![
        probes(&seal.probes, &measured.probes),
        aspect(
            "extensions",
            count(want.extensions.len(), "extension"),
            map_differences(&want.extensions, &have.extensions),
        ),
        aspect(
            "settings",
            "the editor's settings file".to_owned(),
            one("settings file", &want.settings, &have.settings),
        ),
        aspect("environment", count(want.env.len(), "variable"), map_differences(&want.env, &have.env)),
    ];
    let mut account = one("account", &want.account, &have.account);
    account.extend(one("identity", &crate::verdict::identity(&want.account), &measured.identity));
    account.extend(one("host name", &want.host_name, &have.host_name));
    aspects.push(aspect("account", want.account.clone(), account));
    let listed = |folders: &[String]| folders.iter().map(|folder| (folder.clone(), "a folder".to_owned())).collect();
    let mut folders = map_differences(&listed(&want.folders), &listed(&have.folders));
    folders.extend(one("project folder", &want.project, &have.project));
    aspects.push(aspect("folders", count(want.folders.len(), "folder"), folders));
    aspects.push(aspect("ports", count(want.ports.len(), "port"), map_differences(&want.ports, &have.ports)));
    // Left out where there is nothing, as of a seal that was made before there were services.
    if !(want.runtime.is_empty() && have.runtime.is_empty()) {
        let differences = map_differences(&want.runtime, &have.runtime);
        aspects.push(aspect(
            "services",
            match want.runtime.len() {
                1 => "1 service, start step or name".to_owned(),
                several => format!("{several} services, start steps and names"),
            },
            differences,
        ));
    }
    for aspect in &mut aspects {
        let unmeasured = measured.unmeasured.iter().filter(|(name, _)| *name == aspect.name);
        aspect.unmeasured.extend(unmeasured.map(|(_, why)| why.clone()));
    }
    aspects
}

/// How the account's identity is written: `1000:1000 /home/crew`.
pub fn identity(account: &str) -> String {
    let id = crate::account::ACCOUNT_ID;
    format!("{id}:{id} {}", crate::account::home(account))
}

fn probes(expected: &[ProbeAnswer], here: &[ProbeAnswer]) -> Aspect {
    let answers = |probes: &[ProbeAnswer]| {
        probes
            .iter()
            .map(|probe| (probe.toolchain.clone(), format!("{} → {}", probe.run.join(" "), probe.answer)))
            .collect()
    };
    aspect("toolchain probes", count(expected.len(), "probe"), map_differences(&answers(expected), &answers(here)))
}

fn aspect(name: &str, measured: String, differences: Vec<Difference>) -> Aspect {
    Aspect::new(name, measured, differences)
}

fn one(what: &str, expected: &str, here: &str) -> Vec<Difference> {
    if expected == here { Vec::new() } else { vec![Difference::new(what, expected, here)] }
}

/// `3 files`, `1 file`.
pub fn count(number: usize, noun: &str) -> String {
    format!("{number} {noun}{}", if number == 1 { "" } else { "s" })
}

/// Bytes for people.
pub fn size(bytes: u64) -> String {
    match bytes {
        0..1_000 => format!("{bytes} B"),
        1_000..1_000_000 => format!("{:.1} kB", bytes as f64 / 1e3),
        1_000_000..1_000_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}
