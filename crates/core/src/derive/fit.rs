//! Whether a lock and a spec belong together, and where they do not.

use crate::account;
use crate::lock::{Lock, ToolchainPin, suites};
use crate::spec::{Action, At, Base, Provenance, Run, Spec, Suite, Text, Wanted};

/// One point in which a lock does not answer its spec.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Misfit {
    /// What it is about.
    pub what: String,
    /// What the spec says of it.
    pub spec: String,
    /// What the lock says of it.
    pub lock: String,
}

const NOTHING: &str = "nothing";

/// Every point in which `lock` does not answer `spec`; none when the two belong together.
pub fn misfits(spec: &Spec, lock: &Lock) -> Vec<Misfit> {
    let mut found = Found(Vec::new());
    base(spec, lock, &mut found);
    toolchains(spec, lock, &mut found);
    editor(spec, lock, &mut found);
    downloads(spec, lock, &mut found);
    files(spec, lock, &mut found);
    records(spec, lock, &mut found);
    for (name, source) in &spec.sources {
        let Some(pins) = lock.sources.get(name) else {
            found.push(format!("variant {name}"), "wanted", NOTHING);
            continue;
        };
        found.0.extend(
            misfits(source, pins)
                .into_iter()
                .map(|misfit| Misfit { what: format!("in the variant {name}: {}", misfit.what), ..misfit }),
        );
    }
    found.0
}

/// That a lock has nothing of a spec's variant, or of one that it takes something from.
pub fn no_variant(spec: &Spec) -> Misfit {
    Misfit { what: format!("variant {}", spec.variant), spec: "wanted".to_owned(), lock: NOTHING.to_owned() }
}

struct Found(Vec<Misfit>);

impl Found {
    fn push(&mut self, what: String, spec: impl Into<String>, lock: impl Into<String>) {
        self.0.push(Misfit { what, spec: spec.into(), lock: lock.into() });
    }
}

fn base(spec: &Spec, lock: &Lock, found: &mut Found) {
    match &spec.base {
        Base::Packages { depot, packages } => {
            for wanted in packages {
                let what = format!("package {}", wanted.value);
                match lock.packages.iter().find(|pin| pin.name == wanted.value) {
                    None => found.push(what, "wanted", NOTHING),
                    Some(pin) if pin.source.depot != depot.value => {
                        found.push(what, format!("depot {}", depot.value), format!("depot {}", pin.source.depot));
                    }
                    Some(_) => {}
                }
            }
            for pin in &lock.packages {
                if !packages.iter().any(|wanted| wanted.value == pin.name) {
                    found.push(format!("package {}", pin.name), NOTHING, pin.version.clone());
                }
            }
        }
        Base::Archive { origin, sha256, strip } => match &lock.archive {
            None => found.push("base".to_owned(), format!("archive {}", origin.at().value), NOTHING),
            Some(pin) => {
                let same = (pin.path.as_deref(), pin.url.as_deref()) == (origin.path(), origin.url());
                if !same || pin.strip != *strip {
                    let describe = |origin: &str, strip: usize| format!("archive {origin}, strip {strip}");
                    let locked = describe(pin.origin(), pin.strip);
                    found.push("base".to_owned(), describe(&origin.at().value, *strip), locked);
                }
                if let Some(sha256) = sha256
                    && sha256.value != pin.sha256
                {
                    found.push("base.archive.sha256".to_owned(), sha256.value.to_string(), pin.sha256.to_string());
                }
            }
        },
        Base::Debian(suite) => debian(spec, suite, lock, found),
        Base::Oci(image) => {
            let wants = format!("image {}, {}", image.origin.shown(), image.platform.value);
            let locked = lock.oci.as_ref().map(|pin| format!("image {}, {}", pin.origin, pin.platform));
            if locked.as_ref() != Some(&wants) {
                found.push("base".to_owned(), wants, locked.unwrap_or_else(|| NOTHING.to_owned()));
            }
        }
    }
    if let Some(archive) = lock.archive.as_ref().filter(|_| !matches!(spec.base, Base::Archive { .. })) {
        found.push("base".to_owned(), "another origin", format!("archive {}", archive.origin()));
    }
    if let Some(pin) = lock.debian.as_ref().filter(|_| !matches!(spec.base, Base::Debian(_))) {
        found.push("base".to_owned(), "another origin", format!("debian {}", pin.suite));
    }
    if let Some(pin) = lock.oci.as_ref().filter(|_| !matches!(spec.base, Base::Oci(_))) {
        found.push("base".to_owned(), "another origin", format!("image {}", pin.origin));
    }
    if !matches!(spec.base, Base::Packages { .. }) {
        for pin in &lock.packages {
            found.push(format!("package {}", pin.name), NOTHING, pin.version.clone());
        }
    }
}

fn debian(spec: &Spec, suite: &Suite, lock: &Lock, found: &mut Found) {
    let Some(pin) = &lock.debian else {
        return found.push("base".to_owned(), format!("debian {}", suite.name.value), NOTHING);
    };
    if !pin.is_of(suite) {
        let list = |list: &[At<String>]| list.iter().map(|one| one.value.as_str()).collect::<Vec<_>>().join(" ");
        let how = |recommended: bool| if recommended { ", with recommended packages" } else { "" };
        let wants = format!(
            "debian {} with {}; {}; {}{}",
            suite.name.value,
            list(&suite.extra),
            list(&suite.components),
            suite.architecture.value,
            how(suite.recommended)
        );
        let locked = format!(
            "debian {} with {}; {}; {}{}",
            pin.suite,
            pin.extra.join(" "),
            pin.components.join(" "),
            pin.architecture,
            how(pin.recommended)
        );
        found.push("base".to_owned(), wants, locked);
    }
    let (wanted, locked) =
        (spec.machine.as_ref().map(|one| &one.kernel.value), pin.machine.as_ref().map(|one| &one.kernel));
    if wanted != locked {
        let shown = |kernel: Option<&String>| kernel.cloned().unwrap_or_else(|| NOTHING.to_owned());
        found.push("machine.kernel".to_owned(), shown(wanted), shown(locked));
    }
    let wishes = suites::wishes(spec);
    for wish in wishes.iter().filter(|wish| !pin.wishes.contains(wish)) {
        found.push(format!("package {wish}"), "wanted", NOTHING);
    }
    for wish in pin.wishes.iter().filter(|wish| !wishes.contains(wish)) {
        let name = wish.split(' ').next().unwrap_or(wish);
        let locked = pin.package(name).map_or(wish.as_str(), |package| &package.version);
        found.push(format!("package {wish}"), NOTHING, locked);
    }
}

/// Whether a pin has just the parts that are wanted.
pub(crate) fn parts_answer(wanted: &Wanted, pin: &ToolchainPin) -> bool {
    let Some(parts) = &wanted.parts else { return true };
    let mut names: Vec<_> = parts.iter().map(|part| part.value.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    pin.parts.iter().map(|part| part.name.as_str()).eq(names)
}

fn toolchains(spec: &Spec, lock: &Lock, found: &mut Found) {
    for (name, wanted) in &spec.toolchains {
        let what = format!("toolchain {name}");
        let wanted = &wanted.value;
        let pins: Vec<_> = lock.toolchains.iter().filter(|pin| pin.name == *name).collect();
        let versions = std::iter::once((&wanted.version, false));
        for (version, also) in versions.chain(wanted.also.iter().map(|version| (version, true))) {
            let mut alike = pins.iter().filter(|pin| pin.also == also);
            if alike.clone().any(|pin| pin.version.answers(&version.value)) {
                continue;
            }
            let locked = alike.next().filter(|_| !also).map_or(NOTHING, |pin| pin.version.as_str());
            found.push(what.clone(), version.value.as_str(), locked);
        }
        for pin in pins {
            let answers = wanted.also.iter().any(|version| pin.version.answers(&version.value));
            if pin.also && !answers {
                found.push(what.clone(), NOTHING, pin.version.as_str());
            }
            let (wants, has) = (provenance(spec, wanted, pin), pinned_provenance(pin));
            if wants != has {
                found.push(what.clone(), wants, has);
            }
            if let Some(Run::Program(run)) = wanted.probe.as_ref().filter(|_| wanted.depot().is_none())
                && *run != pin.probe.run
            {
                found.push(format!("probe of {name}"), run.join(" "), pin.probe.run.join(" "));
            }
            if let (Provenance::Archive { sha256: Some(sha256), .. }, Some(source)) = (&wanted.from, &pin.source)
                && sha256.value != source.sha256
            {
                found.push(format!("sha256 of {what}"), sha256.value.to_string(), source.sha256.to_string());
            }
            if !parts_answer(wanted, pin) {
                let wants = wanted.parts.iter().flatten().map(|part| part.value.as_str()).collect::<Vec<_>>();
                let has = pin.parts.iter().map(|part| part.name.as_str()).collect::<Vec<_>>();
                let listed = |names: Vec<&str>| if names.is_empty() { "no parts".to_owned() } else { names.join(", ") };
                found.push(format!("parts of {name}"), listed(wants), listed(has));
            }
        }
    }
    for pin in lock.toolchains.iter().filter(|pin| !spec.toolchains.contains_key(&pin.name)) {
        found.push(format!("toolchain {}", pin.name), NOTHING, pin.version.as_str());
    }
}

/// Where a toolchain is to come from, in words; reported as where it is pinned to come from when that will do.
fn provenance(spec: &Spec, wanted: &Wanted, pin: &ToolchainPin) -> String {
    match &wanted.from {
        Provenance::Depot(Some(depot)) => format!("depot {}", depot.value),
        Provenance::Depot(None) => {
            let pinned = pin.source.as_ref().map(|source| &source.depot);
            match pinned.filter(|depot| spec.depots.contains_key(*depot)) {
                Some(depot) => format!("depot {depot}"),
                None => format!("depot {}", spec.depots.keys().cloned().collect::<Vec<_>>().join(", ")),
            }
        }
        Provenance::Base { packages, parts } => {
            let mut names: Vec<_> =
                packages.iter().chain(parts.values().flatten()).map(|one| one.value.clone()).collect();
            names.sort();
            names.dedup();
            format!("packages {}", names.join(", "))
        }
        Provenance::Archive { origin, strip, place, programs, .. } => {
            format!("archive {}, strip {strip}, at {place}, programs in {}", origin.at().value, programs.join(", "))
        }
    }
}

fn pinned_provenance(pin: &ToolchainPin) -> String {
    match &pin.source {
        None => format!("packages {}", pin.packages.join(", ")),
        Some(source) if source.depot.is_empty() => {
            format!(
                "archive {}, strip {}, at {}, programs in {}",
                source.file,
                pin.strip,
                pin.place,
                pin.path.join(", ")
            )
        }
        Some(source) => format!("depot {}", source.depot),
    }
}

fn record_of(step: &str) -> String {
    format!("record of the step {step:?}")
}

/// Steps of a spec that fetch, and of which a lock has no record.
pub fn unrecorded(spec: &Spec, lock: &Lock) -> Vec<String> {
    let recorded = spec.steps.iter().filter(|step| step.recorded.is_some()).map(|step| &step.name.value);
    recorded.filter(|name| !lock.records.iter().any(|pin| pin.step == **name)).cloned().collect()
}

fn records(spec: &Spec, lock: &Lock, found: &mut Found) {
    let is_recorded = |name: &str| spec.steps.iter().any(|step| step.recorded.is_some() && step.name.value == name);
    for step in unrecorded(spec, lock) {
        found.push(record_of(&step), "wanted", NOTHING);
    }
    for pin in lock.records.iter().filter(|pin| !is_recorded(&pin.step)) {
        found.push(record_of(&pin.step), NOTHING, pin.record.clone());
    }
}

fn downloads(spec: &Spec, lock: &Lock, found: &mut Found) {
    for download in &spec.downloads {
        let what = format!("download {}", download.name.value);
        match lock.downloads.iter().find(|pin| pin.name == download.name.value) {
            None => found.push(what, download.url.value.clone(), NOTHING),
            Some(pin) if pin.url != download.url.value => found.push(what, download.url.value.clone(), pin.url.clone()),
            Some(pin) => {
                if let Some(sha256) = download.sha256.as_ref().filter(|sha256| sha256.value != pin.sha256) {
                    found.push(format!("sha256 of {what}"), sha256.value.to_string(), pin.sha256.to_string());
                }
            }
        }
    }
    let wanted = |name: &str| spec.downloads.iter().any(|download| download.name.value == name);
    for pin in lock.downloads.iter().filter(|pin| !wanted(&pin.name)) {
        found.push(format!("download {}", pin.name), NOTHING, pin.url.clone());
    }
}

/// Which files of the project each step takes: the step's name, and the file or folder.
pub fn taken_files(spec: &Spec) -> Vec<(&str, String)> {
    let taken = spec.steps.iter().filter_map(|step| {
        let from = match &step.action {
            Action::Copy(copy) => copy.from.value.clone(),
            Action::Write(write) => match &write.text {
                Text::Template(file) => file.value.clone(),
                Text::Content(_) => return None,
            },
            Action::Run(_) if !step.files.is_empty() => step.files_shown(),
            Action::Run(_) | Action::Take(_) => return None,
        };
        Some((step.name.value.as_str(), from))
    });
    taken.collect()
}

fn files(spec: &Spec, lock: &Lock, found: &mut Found) {
    let wanted = taken_files(spec);
    for (step, from) in &wanted {
        let what = format!("files of the step {step:?}");
        match lock.files.iter().find(|pin| pin.step == *step) {
            None => found.push(what, from.clone(), NOTHING),
            Some(pin) if pin.from != *from => found.push(what, from.clone(), pin.from.clone()),
            Some(_) => {}
        }
    }
    for pin in lock.files.iter().filter(|pin| !wanted.iter().any(|(step, _)| *step == pin.step)) {
        found.push(format!("files of the step {:?}", pin.step), NOTHING, pin.from.clone());
    }
}

fn editor(spec: &Spec, lock: &Lock, found: &mut Found) {
    let none = std::collections::BTreeMap::new();
    let wanted = spec.editor.as_ref().map_or(&none, |editor| &editor.extensions);
    match (&spec.editor, &lock.editor) {
        (Some(_), None) => found.push("editor profile".to_owned(), "wanted", NOTHING),
        (None, Some(profile)) => found.push("editor profile".to_owned(), NOTHING, profile.name.clone()),
        (Some(editor), Some(profile)) => {
            if let Some(name) = &editor.profile
                && name.value != profile.name
            {
                found.push("editor profile".to_owned(), name.value.clone(), profile.name.clone());
            }
        }
        (None, None) => {}
    }
    let home = account::home(&spec.workspace.account.value);
    for (id, version) in wanted {
        let what = format!("extension {id}");
        match lock.extensions.iter().find(|pin| pin.id == *id) {
            None => found.push(what, version.value.as_str(), NOTHING),
            Some(pin) if !pin.version.answers(&version.value) => {
                found.push(what, version.value.as_str(), pin.version.as_str());
            }
            Some(pin) => {
                let place = lock.editor.as_ref().map(|profile| profile.extension_place(id, &pin.version, &home));
                if let Some(place) = place.filter(|place| *place != pin.place) {
                    found.push(format!("place of {id}"), place, pin.place.clone());
                }
            }
        }
    }
    for pin in lock.extensions.iter().filter(|pin| !wanted.contains_key(&pin.id)) {
        found.push(format!("extension {}", pin.id), NOTHING, pin.version.as_str());
    }
}
