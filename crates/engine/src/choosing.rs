//! Which packages of the Debian archive a base has: what is locked already, and what the suites offer.

use std::collections::BTreeMap;

use cavrith_core::debian::index::{Candidate, Index};
use cavrith_core::debian::solve::{Request, Unsolved, solve};
use cavrith_core::debian::{Alternative, compare_versions, parse_alternative, parse_relations};
use cavrith_core::lock::choose::Update;
use cavrith_core::lock::suites::{self, ArchivePackage, DebianPin, MachinePin};
use cavrith_core::mistake::{Code, Mistake, nearest};
use cavrith_core::spec::machine::Machine;
use cavrith_core::spec::{At, Spec, Suite};
use cavrith_sources::deb;

use crate::error::EngineError;
use crate::project::Project;
use crate::suites::{Offered, read};
use crate::supply::Supply;

/// The base's packages, pinned; mistakes in the wishes; notes.
pub(crate) struct Chosen {
    /// The pin; nothing when the wishes cannot be met.
    pub pin: Option<DebianPin>,
    pub mistakes: Vec<Mistake>,
    pub notes: Vec<String>,
}

/// Chooses the packages of a base. What is locked and still answers stays, unless it is to be updated, and then no
/// mirror is asked at all.
pub(crate) fn choose(
    supply: Supply<'_>,
    project: &Project,
    suite: &Suite,
    before: Option<&DebianPin>,
    update: &Update,
) -> Result<Chosen, EngineError> {
    let before = before.filter(|before| before.is_of(suite));
    let wishes = suites::wishes(&project.spec);
    let moves = |name: &str| update.moves(name) || update.moves("base");
    let kernel = project.spec.machine.as_ref().map(|machine| &machine.kernel.value);
    let known_machine = before.and_then(|before| before.machine.as_ref()).filter(|pin| {
        Some(&pin.kernel) == kernel && !moves(&pin.kernel) && !pin.packages.keys().any(|name| moves(name))
    });
    if let Some(before) = before
        && before.wishes == wishes
        && known_machine.map(|pin| &pin.kernel) == kernel
        && !moves("base")
        && !before.packages().any(|(name, _)| moves(name))
    {
        return Ok(Chosen { pin: Some(before.clone()), mistakes: Vec::new(), notes: Vec::new() });
    }
    let known = before.map_or(&[][..], |before| &before.releases);
    let Offered { mut index, releases, mut notes } = read(supply, suite, known)?;
    let kept: BTreeMap<String, String> = before
        .iter()
        .flat_map(|before| before.packages())
        .filter(|(name, _)| !moves(name))
        .map(|(name, package)| (name.clone(), package.version.clone()))
        .collect();
    if let Some(before) = before {
        let gone = keep_superseded(supply, project, before, &kept, &mut index);
        notes.extend(gone);
    }
    let asked = project.spec.wishes();
    let parsed: Vec<_> = asked.iter().map(|wish| parse_alternative(&wish.value)).collect();
    let request = Request {
        index: &index,
        wishes: &parsed,
        recommended: suite.recommended,
        kept: &kept,
        architecture: &suite.architecture.value,
    };
    let chosen = match solve(request) {
        Ok(chosen) => chosen,
        Err(unsolved) => {
            let mistakes = unsolved.into_iter().map(|why| mistake(&project.spec, suite, &asked, &index, why)).collect();
            return Ok(Chosen { pin: None, mistakes, notes });
        }
    };
    let machine = match (&project.spec.machine, known_machine) {
        (None, _) => None,
        (_, Some(known)) => Some(known.clone()),
        (Some(machine), None) => match machine_pin(&index, suite, machine) {
            Ok(pin) => Some(pin),
            Err(mistake) => return Ok(Chosen { pin: None, mistakes: vec![mistake], notes }),
        },
    };
    let packages: BTreeMap<_, _> = chosen.into_iter().map(|id| pinned(&index, index.get(id), before)).collect();
    // What every root has, whatever is wished: the first stage, which projects with the same suites share.
    let core = solve(Request { wishes: &[], recommended: false, ..request }).unwrap_or_default();
    let core: std::collections::BTreeSet<_> = core.into_iter().map(|id| index.get(id).name.to_string()).collect();
    let stages = suites::stages(&packages, &|name| core.contains(name), before);
    let texts = |list: &[At<String>]| list.iter().map(|one| one.value.clone()).collect::<Vec<_>>();
    let pin = DebianPin {
        suite: suite.name.value.clone(),
        extra: texts(&suite.extra),
        components: texts(&suite.components),
        architecture: suite.architecture.value.clone(),
        recommended: suite.recommended,
        wishes,
        releases,
        stages,
        machine,
    };
    Ok(Chosen { pin: Some(pin), mistakes: Vec::new(), notes })
}

/// What a machine is started from: the newest kernel of its name, or the one that a package of this name says is it,
/// and what firmware starts it by. They are no part of the root, and what they would need there is not asked for.
fn machine_pin(index: &Index, suite: &Suite, machine: &Machine) -> Result<MachinePin, Mistake> {
    let newest = |name: &str| {
        let all = index.versions(name).iter().map(|id| index.get(*id));
        all.max_by(|one, other| compare_versions(&one.version, &other.version))
    };
    let mut packages = BTreeMap::new();
    for wish in machine.wishes() {
        let at = At { value: wish.to_owned(), span: machine.kernel.span.clone() };
        let mut found = newest(wish).ok_or_else(|| {
            let names = index.candidates().iter().map(|candidate| &*candidate.name);
            unknown_package(suite, &at, wish, nearest(wish, names))
        })?;
        // A package of kernels in general needs the one of the day.
        let needed = parse_relations(&found.depends).into_iter().flatten();
        let named = needed.map(|one| one.name).find(|name| name.starts_with("linux-image-") && *name != wish);
        if let Some(kernel) = named.and_then(|name| newest(&name)) {
            found = kernel;
        }
        let (name, package) = pinned(index, found, None);
        packages.insert(name, package);
    }
    Ok(MachinePin { kernel: machine.kernel.value.clone(), packages })
}

fn pinned(index: &Index, candidate: &Candidate, before: Option<&DebianPin>) -> (String, ArchivePackage) {
    let name = candidate.name.to_string();
    // One that was kept though no suite has it any more says of itself where it came from.
    if let Some(package) = before.and_then(|before| before.package(&name)).filter(|one| one.sha256 == candidate.sha256)
    {
        return (name, package.clone());
    }
    let package = ArchivePackage {
        version: candidate.version.to_string(),
        architecture: candidate.architecture.to_string(),
        suite: index.suites.get(candidate.suite).map_or_else(String::new, |suite| suite.0.clone()),
        size: candidate.size,
        sha256: candidate.sha256,
        file: candidate.file.to_string(),
    };
    (name, package)
}

/// Makes locked versions that no suite offers any more ones that can be chosen, as far as their files can still be had.
fn keep_superseded(
    supply: Supply<'_>,
    project: &Project,
    before: &DebianPin,
    kept: &BTreeMap<String, String>,
    index: &mut Index,
) -> Vec<String> {
    let mut notes = Vec::new();
    for (name, package) in before.packages().filter(|(name, _)| kept.contains_key(*name)) {
        if index.versions(name).iter().any(|id| index.get(*id).sha256 == package.sha256) {
            continue;
        }
        let control = supply
            .package(project.origins(), name, package)
            .and_then(|mut checked| Ok(deb::read_control_only(&mut checked)?));
        let Ok(control) = control else {
            notes.push(format!(
                "{name} {} is offered by no suite any more and can be had nowhere, so it moves",
                package.version
            ));
            continue;
        };
        let joined = |one: &str, other: &str| match (control.field(one), control.field(other)) {
            ("", text) | (text, "") => text.to_owned(),
            (one, other) => format!("{one}, {other}"),
        };
        let priority = ["required", "important", "standard", "optional"];
        let candidate = Candidate {
            name: name.as_str().into(),
            version: package.version.as_str().into(),
            architecture: package.architecture.as_str().into(),
            essential: control.field("Essential") == "yes",
            priority: priority.iter().position(|one| *one == control.field("Priority")).unwrap_or(4) as u8,
            depends: joined("Pre-Depends", "Depends").into(),
            recommends: control.field("Recommends").into(),
            conflicts: joined("Conflicts", "Breaks").into(),
            provides: control.field("Provides").into(),
            file: package.file.as_str().into(),
            size: package.size,
            sha256: package.sha256,
            suite: 0,
        };
        // It can only fail for there being too many, and an index that was read has fewer.
        let _ = index.add(candidate);
    }
    notes
}

/// That no suite has a package, and what may be meant.
pub(crate) fn unknown_package(suite: &Suite, wish: &At<String>, name: &str, meant: Option<&str>) -> Mistake {
    let remedy = match meant {
        Some(meant) => format!("write `{meant}`, or name the component or suite that has it"),
        None => "correct the name, or name the component or suite that has it".to_owned(),
    };
    let message = format!("none of {} has a package `{name}`", suite.suites().join(", "));
    Mistake::new(Code::NOT_OFFERED, wish.span.clone(), message, remedy)
}

/// Why a wish cannot be met, at its place in the spec.
fn mistake(spec: &Spec, suite: &Suite, asked: &[&At<String>], index: &Index, why: Unsolved) -> Mistake {
    let suites = suite.suites().join(", ");
    let at = |number: usize| asked[number].span.clone();
    let wish = |number: usize| -> Alternative { parse_alternative(&asked[number].value) };
    match why {
        Unsolved::Unknown(number) => {
            let name = wish(number).name;
            let names = index.candidates().iter().map(|candidate| &*candidate.name);
            unknown_package(suite, asked[number], &name, nearest(&name, names))
        }
        Unsolved::Ambiguous(number, providers) => {
            let message = format!("`{}` is not a package; several packages provide it", wish(number).name);
            let remedy = format!("name one of {}", providers.join(", "));
            Mistake::new(Code::PACKAGE_AMBIGUOUS, at(number), message, remedy)
        }
        Unsolved::NoVersion(number, versions) => {
            let wish = wish(number);
            let message = format!("none of {suites} has {wish}");
            let remedy = format!("there is {}", versions.join(", "));
            Mistake::new(Code::VERSION_NOT_OFFERED, at(number), message, remedy)
        }
        Unsolved::Clash(sentences) => {
            // The wishes that the sentences name are the places to change.
            let named = |wish: &&&At<String>| {
                let name = parse_alternative(&wish.value).name;
                sentences.iter().any(|sentence| sentence.split([' ', ',', ';']).any(|word| word == name))
            };
            let mut places = asked.iter().filter(named).map(|wish| wish.span.clone());
            let first = places.next().unwrap_or_else(|| match &spec.base {
                cavrith_core::spec::Base::Debian(suite) => suite.name.span.clone(),
                _ => 0..0,
            });
            let message = format!("the wished packages cannot all be had: {}", sentences.join("; "));
            let remedy = "leave one of them out, or ask for another version";
            let mut mistake = Mistake::new(Code::PACKAGES_CLASH, first, message, remedy).noting("this");
            for place in places.take(3) {
                mistake = mistake.against(place, "and this");
            }
            mistake
        }
    }
}

/// Everything of a base that the suites offer in another version: name, what is locked, what would be taken.
pub(crate) fn outdated(
    supply: Supply<'_>,
    project: &Project,
    suite: &Suite,
    before: &DebianPin,
) -> Result<Vec<(String, String, String)>, EngineError> {
    let fresh = choose(supply, project, suite, Some(before), &Update::All)?;
    let Some(fresh) = fresh.pin else { return Ok(Vec::new()) };
    let newer = before.files().filter_map(|(name, package)| {
        let version = &fresh.files().find(|(own, _)| *own == name)?.1.version;
        let moved = compare_versions(version, &package.version).is_ne();
        moved.then(|| (name.clone(), package.version.clone(), version.clone()))
    });
    Ok(newer.collect())
}
