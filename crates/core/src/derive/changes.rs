//! What differs between what runs and what the spec says now, and what each difference takes.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::arrangement::{Arrangement, FolderPart, MachinePart, PortPart, ServicePart, StepPart};
use crate::spec::{Limits, Network, Secret};

/// What a difference takes, the least first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Effort {
    /// Nothing runs otherwise because of it.
    Nothing,
    /// It is applied while everything goes on.
    Live,
    /// A service is ended and started again.
    ServiceRestart,
    /// The workspace is ended and started again.
    WorkspaceRestart,
    /// An image has to be built, and the workspace started again over it.
    ImageBuild,
}

impl Effort {
    /// What was done, in words.
    pub fn done(self) -> &'static str {
        match self {
            Self::Nothing => "changes noted",
            Self::Live => "changes applied",
            Self::ServiceRestart => "services restarted",
            Self::WorkspaceRestart => "workspace restarted",
            Self::ImageBuild => "image built and workspace restarted",
        }
    }

    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Nothing => "nothing",
            Self::Live => "applied live",
            Self::ServiceRestart => "service restart",
            Self::WorkspaceRestart => "workspace restart",
            Self::ImageBuild => "image build",
        }
    }
}

/// One difference.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// What differs: `port site`.
    pub what: String,
    /// What runs.
    pub runs: String,
    /// What the spec says.
    pub wanted: String,
    /// What it takes.
    pub effort: Effort,
}

const NOTHING: &str = "nothing";

/// Every difference, in a fixed order. Images are compared by their fingerprints; that one has to be built first is the
/// caller's to tell.
pub fn changes(runs: &Arrangement, wanted: &Arrangement) -> Vec<Change> {
    let mut all = Vec::new();
    let mut add = |what: String, runs: String, wanted: String, effort| {
        all.push(Change { what, runs, wanted, effort });
    };
    if runs.image != wanted.image {
        add("image".to_owned(), runs.image.spoken(), wanted.image.spoken(), Effort::WorkspaceRestart);
    }
    let (have, want) = (&runs.setup, &wanted.setup);
    for (what, have, want) in [
        ("account", &have.account, &want.account),
        ("project folder", &have.project, &want.project),
        ("workspace name", &have.host_name, &want.host_name),
    ] {
        if have != want {
            add(what.to_owned(), have.clone(), want.clone(), Effort::WorkspaceRestart);
        }
    }
    if runs.about != wanted.about {
        add("about".to_owned(), runs.about.clone(), wanted.about.clone(), Effort::Nothing);
    }
    if runs.network != wanted.network {
        let shown = |network| if network == Network::Out { "out" } else { "none" }.to_owned();
        add("network".to_owned(), shown(runs.network), shown(wanted.network), Effort::WorkspaceRestart);
    }
    let target = |part: &Option<MachinePart>| match part {
        None => "namespaces".to_owned(),
        Some(MachinePart { kernel, memory, cpus, verity, .. }) => format!(
            "a machine with {kernel}, {} MiB, {}{}",
            memory >> 20,
            crate::verdict::count(*cpus as usize, "processor"),
            if *verity { ", a root that is proved" } else { "" }
        ),
    };
    let (runs_in, wanted_in) = (target(&runs.machine), target(&wanted.machine));
    if runs_in != wanted_in {
        add("target".to_owned(), runs_in, wanted_in, Effort::WorkspaceRestart);
    }
    if runs.limits != wanted.limits {
        add("limits".to_owned(), shown_limits(runs.limits), shown_limits(wanted.limits), Effort::Live);
    }
    let by_place = |folders: &[FolderPart]| {
        folders.iter().map(|folder| (folder.inside.clone(), shown_folder(folder))).collect::<BTreeMap<_, _>>()
    };
    for (inside, have, want) in differing(&by_place(&runs.folders), &by_place(&wanted.folders), Clone::clone) {
        add(format!("folder {inside}"), have, want, Effort::WorkspaceRestart);
    }
    let same_env = have.env == want.env;
    for (name, have, want) in differing(&have.env, &want.env, Clone::clone) {
        add(format!("variable {name}"), have, want, Effort::Live);
    }
    let shown = |(name, secret): (&String, &Secret)| (name.clone(), secret.places(name));
    let (have, want): (BTreeMap<_, _>, BTreeMap<_, _>) =
        (runs.secrets.iter().map(shown).collect(), wanted.secrets.iter().map(shown).collect());
    for (name, have, want) in differing(&have, &want, Clone::clone) {
        // Values are given when it starts, and never again.
        add(format!("secret {name}"), have, want, Effort::WorkspaceRestart);
    }
    let by_name =
        |ports: &[PortPart]| ports.iter().map(|port| (port.name.clone(), port.clone())).collect::<BTreeMap<_, _>>();
    for (name, have, want) in differing(&by_name(&runs.ports), &by_name(&wanted.ports), shown_port) {
        add(format!("port {name}"), have, want, Effort::Live);
    }
    for (name, have, want) in differing(&runs.names, &wanted.names, Clone::clone) {
        add(format!("name {name}"), have, want, Effort::Live);
    }
    for (name, have, want) in differing(&steps(runs), &steps(wanted), |step| shown_command(&step.argv)) {
        let effort = if want == NOTHING { Effort::Nothing } else { Effort::Live };
        add(format!("step {name}"), have, want, effort);
    }
    for (name, have, want) in differing(&runs.services, &wanted.services, shown_service) {
        let both = runs.services.contains_key(&name) && wanted.services.contains_key(&name);
        add(format!("service {name}"), have, want, if both { Effort::ServiceRestart } else { Effort::Live });
    }
    if !same_env {
        // What runs keeps the environment that it was started with.
        for (name, service) in &wanted.services {
            if runs.services.get(name) == Some(service) {
                add(
                    format!("service {name}"),
                    "the earlier variables".to_owned(),
                    "the new ones".to_owned(),
                    Effort::ServiceRestart,
                );
            }
        }
    }
    all
}

fn steps(arrangement: &Arrangement) -> BTreeMap<String, StepPart> {
    arrangement.steps.iter().map(|step| (step.name.clone(), step.clone())).collect()
}

/// What two maps have otherwise: the name, and both values in words. Words that are the same are told apart.
fn differing<T: PartialEq>(
    have: &BTreeMap<String, T>,
    want: &BTreeMap<String, T>,
    shown: impl Fn(&T) -> String,
) -> Vec<(String, String, String)> {
    let names: BTreeSet<_> = have.keys().chain(want.keys()).collect();
    let differing = names.into_iter().filter(|name| have.get(*name) != want.get(*name));
    let words = |value: Option<&T>| value.map_or_else(|| NOTHING.to_owned(), &shown);
    differing
        .map(|name| {
            let (runs, mut wanted) = (words(have.get(name)), words(want.get(name)));
            if runs == wanted {
                wanted.push_str(", with other settings");
            }
            (name.clone(), runs, wanted)
        })
        .collect()
}

fn shown_folder(folder: &FolderPart) -> String {
    let place = folder.place.words();
    if folder.except.is_empty() { place } else { format!("{place} except {}", folder.except.join(", ")) }
}

fn shown_port(port: &PortPart) -> String {
    let row = |first: u16| match port.count {
        1 => first.to_string(),
        count => format!("{first}-{}", u32::from(first) + u32::from(count) - 1),
    };
    let bind = port.bind.map_or_else(String::new, |bind| format!(" at {bind}"));
    let exact = if port.exact { ", exactly" } else { "" };
    format!("{}/{}, outside {}{bind}{exact}", row(port.inside), port.protocol, row(port.outside))
}

fn shown_command(argv: &[String]) -> String {
    let text = match argv {
        [shell, flag, text] if shell == "/bin/sh" && flag == "-ec" => text.clone(),
        argv => argv.join(" "),
    };
    crate::path::shown(text.as_bytes())
}

fn shown_service(service: &ServicePart) -> String {
    shown_command(&service.argv)
}

/// Limits in words.
pub fn shown_limits(limits: Limits) -> String {
    let parts = [
        limits.memory.map(|bytes| format!("{} MiB of memory", bytes >> 20)),
        limits.cpus.map(|cpus| crate::verdict::count(cpus as usize, "processor")),
        limits.processes.map(|count| format!("{count} processes")),
    ];
    let parts: Vec<_> = parts.into_iter().flatten().collect();
    if parts.is_empty() { "no limit".to_owned() } else { parts.join(", ") }
}
