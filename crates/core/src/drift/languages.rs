//! Packages of languages, by the descriptions that their package managers leave beside what they install.

use std::collections::{BTreeMap, BTreeSet};

use super::{Finding, Open, Side, named};
use crate::contents::installed::{Description, cargo_programs};
use crate::path::RootPath;
use crate::tree::Kind;
use crate::tree::diff::What;

/// A package as it is installed in one place.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Placed {
    manager: &'static str,
    name: String,
    place: RootPath,
}

/// What package managers of languages did.
pub(super) fn explain(open: &mut Open<'_>) -> Vec<Finding> {
    let mut versions: BTreeMap<Placed, [Option<String>; 2]> = BTreeMap::new();
    let mut takes: BTreeMap<String, BTreeSet<RootPath>> = BTreeMap::new();
    let descriptions: Vec<_> = open
        .changes
        .keys()
        .filter(|path| !is_of_npm_itself(path))
        .filter_map(|path| Some((path.clone(), Description::at(path)?)))
        .collect();
    for (path, description) in descriptions {
        let nested = path.names().filter(|name| *name == b"node_modules").count() > 1;
        for (slot, side) in [(0, Side::Image), (1, Side::Here)] {
            let tree = if side == Side::Image { open.observed.image } else { open.observed.here };
            if !matches!(tree.get(&path).map(|entry| &entry.kind), Some(Kind::File { .. })) {
                continue;
            }
            let bytes = (open.observed.read)(side, &path).unwrap_or_default();
            let text = String::from_utf8_lossy(&bytes);
            for one in description.read(&path, &text) {
                let Some((place, own)) = places(&description, &path, &one.package.name, &one.package.version) else {
                    continue;
                };
                let tops = takes.entry(bundle(&place, &one.package.name)).or_default();
                tops.extend(own);
                match description {
                    Description::Python => tops.extend(recorded(open, side, &path, &place)),
                    Description::CargoPrograms => tops.extend(programs(&text, &place, &one.package.name)),
                    _ => {}
                }
                // What another package brought along is told with that one.
                if !nested {
                    let placed = Placed { manager: one.package.kind, name: one.package.name.clone(), place };
                    versions.entry(placed).or_default()[slot] = Some(one.package.version.clone());
                }
            }
        }
    }
    // The list of a directory's programs is one file for all of them: those that it says the same of are not explained.
    for (placed, _) in versions.iter().filter(|(placed, [from, to])| placed.manager == "cargo" && from == to) {
        takes.remove(&bundle(&placed.place, &placed.name));
    }
    for (bundle, tops) in &takes {
        let lies_in = |path: &RootPath| {
            let mut above = path.ancestors();
            above.push(path.clone());
            above.iter().any(|above| tops.contains(above))
        };
        open.take_if(bundle, |path, _| lies_in(path));
        links_into(open, bundle, tops);
    }
    let mut findings = environments(open);
    for (placed, [from, to]) in versions {
        if from == to {
            continue;
        }
        let environment = findings.iter().find_map(|finding| match finding {
            Finding::Environment { path, .. } => Some(path).filter(|path| lies_in(path, &placed)),
            _ => None,
        });
        if let Some(environment) = environment
            && comes_with_environment(open, &placed, to.as_deref())
        {
            // It is made, and taken back, with the environment.
            let own = open.paths.remove(&bundle(&placed.place, &placed.name)).unwrap_or_default();
            open.paths.entry(environment.clone()).or_default().extend(own);
            continue;
        }
        let install = to.as_ref().and_then(|version| install(open, &placed, version));
        findings.push(Finding::LanguagePackage {
            manager: placed.manager.to_owned(),
            name: placed.name,
            from,
            to,
            place: placed.place.to_string(),
            install,
        });
    }
    findings
}

/// Virtual environments of Python that the image does not have (PEP 405). What lies in them and is of no package is
/// taken with them.
fn environments(open: &mut Open<'_>) -> Vec<Finding> {
    let here = open.observed.here;
    let home = RootPath::from_absolute(open.observed.home).ok();
    let is_new = |path: &&RootPath| {
        path.name() == Some(b"pyvenv.cfg")
            && open.observed.image.get(path).is_none()
            && !home.as_ref().is_some_and(|home| path.lies_in(home))
    };
    let places: Vec<_> = open.changes.keys().filter(is_new).filter_map(RootPath::parent).collect();
    let mut findings = Vec::new();
    for place in places {
        let Some(config) = place.join(b"pyvenv.cfg").ok().and_then(|path| (open.observed.read)(Side::Here, &path))
        else {
            continue;
        };
        let config = String::from_utf8_lossy(&config).into_owned();
        let value = |key: &str| {
            let mut pairs = config.lines().filter_map(|line| line.split_once('='));
            pairs.find(|(name, _)| name.trim() == key).map(|(_, value)| value.trim().to_owned())
        };
        // Python's own directory, unless it is the one where every program is looked for.
        let python = match value("home") {
            Some(home) if home != "/usr/bin" && home.starts_with('/') => format!("{home}/python3"),
            _ => "python3".to_owned(),
        };
        let path = named(&place);
        let mut make = vec![python, "-m".to_owned(), "venv".to_owned()];
        if value("include-system-site-packages").as_deref() == Some("true") {
            make.push("--system-site-packages".to_owned());
        }
        let pip = place.join(b"bin").and_then(|bin| bin.join(b"pip")).ok();
        if pip.is_none_or(|pip| here.get(&pip).is_none()) {
            make.push("--without-pip".to_owned());
        }
        make.push(path.clone());
        // What python writes into one; a program that somebody laid into it is told as such.
        let own = ["pyvenv.cfg", ".gitignore", "lib64", "include", "lib", "bin", "share"].map(|name| name.as_bytes());
        let is_activation = |name: &[u8]| name.to_ascii_lowercase().starts_with(b"activate");
        let is_program = |name: &[u8]| name.starts_with(b"pip") || name.starts_with(b"python");
        let depth = place.depth();
        open.take_if(&path, |other, what| {
            let names: Vec<_> = other.names().skip(depth).collect();
            let is_own = match names.as_slice() {
                [] => true,
                [name] => own.contains(name),
                [b"bin", name] => is_activation(name) || is_program(name),
                [b"include", ..] => here.get(other).is_some_and(|entry| entry.kind.is_directory()),
                [b"lib", rest @ ..] => {
                    rest.len() <= 2 && here.get(other).is_some_and(|entry| entry.kind.is_directory())
                }
                _ => false,
            };
            *what == What::Extra && (*other == place || other.lies_in(&place)) && is_own
        });
        findings.push(Finding::Environment { path, what: "a virtual environment of Python".to_owned(), make });
    }
    findings
}

/// Whether a package is installed in a directory.
fn lies_in(environment: &str, placed: &Placed) -> bool {
    RootPath::from_absolute(environment).is_ok_and(|environment| placed.place.lies_in(&environment))
}

/// Whether making an environment puts this into it: the installer of the version that the interpreter brings along.
fn comes_with_environment(open: &Open<'_>, placed: &Placed, version: Option<&str>) -> bool {
    let (Some(version), "pypi", "pip") = (version, placed.manager, placed.name.as_str()) else { return false };
    let bundled = format!("pip-{version}-py3-none-any.whl");
    open.observed.image.under(&RootPath::root()).any(|(path, _)| path.name() == Some(bundled.as_bytes()))
}

/// What lies in npm's own folder is part of it.
fn is_of_npm_itself(path: &RootPath) -> bool {
    path.to_string().contains("/node_modules/npm/node_modules/")
}

/// What the files of a package are taken under.
fn bundle(place: &RootPath, name: &str) -> String {
    format!("{place} {name}")
}

/// Where a package is installed, and what is its own there.
fn places(description: &Description, path: &RootPath, name: &str, version: &str) -> Option<(RootPath, Vec<RootPath>)> {
    let folder = path.parent()?;
    match description {
        Description::Npm => {
            let levels = if name.starts_with('@') { 2 } else { 1 };
            let place = (0..levels).try_fold(folder.clone(), |at, _| at.parent())?;
            Some((place, vec![folder]))
        }
        Description::Python => Some((folder.parent()?, vec![folder])),
        Description::Gem => {
            let top = folder.parent()?;
            let full = format!("{name}-{version}");
            let mut own = vec![path.clone()];
            own.push(top.join(b"gems").ok()?.join(full.as_bytes()).ok()?);
            own.push(top.join(b"doc").ok()?.join(full.as_bytes()).ok()?);
            own.push(top.join(b"cache").ok()?.join(format!("{full}.gem").as_bytes()).ok()?);
            own.push(top.join(b"build_info").ok()?.join(format!("{full}.info").as_bytes()).ok()?);
            own.push(top.join(b"extensions").ok()?);
            Some((top, own))
        }
        Description::CargoPrograms => {
            let others = [b".crates2.json".as_slice(), b".package-cache"].map(|name| folder.join(name).ok());
            Some((folder, others.into_iter().flatten().chain([path.clone()]).collect()))
        }
        // These keep what they fetched; what was installed by hand shows elsewhere.
        Description::Crate | Description::Go(..) | Description::Maven(..) | Description::Composer => None,
    }
}

/// The files that a Python package says are its own (`RECORD`, binary distribution format).
fn recorded(open: &Open<'_>, side: Side, metadata: &RootPath, place: &RootPath) -> Vec<RootPath> {
    let record = metadata.parent().and_then(|folder| folder.join(b"RECORD").ok());
    let Some(text) = record.and_then(|record| (open.observed.read)(side, &record)) else { return Vec::new() };
    let text = String::from_utf8_lossy(&text).into_owned();
    let named = text.lines().filter_map(|line| {
        let name = line.strip_prefix('"').map_or_else(|| line.split(',').next(), |rest| rest.split('"').next())?;
        let mut at = place.clone();
        for part in name.split('/') {
            at = match part {
                "" | "." => at,
                ".." => at.parent()?,
                part => at.join(part.as_bytes()).ok()?,
            };
        }
        (!at.is_root()).then_some(at)
    });
    named.collect()
}

/// The programs of a package that `cargo install` put into a directory.
fn programs(text: &str, place: &RootPath, package: &str) -> Vec<RootPath> {
    let all = cargo_programs(text).into_iter().filter(|(name, ..)| name == package);
    let names = all.flat_map(|(_, _, programs)| programs);
    names.filter_map(|name| place.join(b"bin").ok()?.join(name.as_bytes()).ok()).collect()
}

/// Links to programs of these packages, and the small programs that stand for them.
fn links_into(open: &mut Open<'_>, bundle: &str, tops: &BTreeSet<RootPath>) {
    let (here, read) = (open.observed.here, open.observed.read);
    let is_gem = tops.iter().any(|top| top.parent().is_some_and(|above| above.name() == Some(b"gems")));
    let leads = |path: &RootPath| {
        let Some(entry) = here.get(path) else { return false };
        match &entry.kind {
            Kind::Symlink { .. } => {
                here.resolve(path).is_some_and(|to| tops.iter().any(|top| to == *top || to.lies_in(top)))
            }
            Kind::File { size, .. } if is_gem && *size < 4096 => {
                let text = read(Side::Here, path).unwrap_or_default();
                String::from_utf8_lossy(&text).contains("generated by RubyGems")
            }
            _ => false,
        }
    };
    open.take_if(bundle, |path, _| leads(path));
}

/// How a package would be installed where it lies.
fn install(open: &Open<'_>, placed: &Placed, version: &str) -> Option<Vec<String>> {
    let place = placed.place.to_string();
    let name = &placed.name;
    let home = format!("{}/", open.observed.home);
    if place.starts_with(&home) || place.starts_with("/root/") {
        return None;
    }
    let words = |words: &[&str]| Some(words.iter().map(|word| (*word).to_owned()).collect());
    match placed.manager {
        "pypi" => {
            let pinned = format!("{name}=={version}");
            // A virtual environment has its own.
            let above = place.split("/lib/").next().unwrap_or_default();
            let own = format!("{above}/bin/pip");
            let is_venv = RootPath::from_absolute(&format!("{above}/pyvenv.cfg"));
            if is_venv.is_ok_and(|path| open.observed.here.get(&path).is_some()) {
                return words(&[&own, "install", &pinned]);
            }
            if !place.starts_with("/usr/local/lib/python3") {
                return None;
            }
            // Debian's own pip refuses to write beside its packages without a word (PEP 668).
            let marked = |version: &str| {
                let path = format!("/usr/lib/{version}/EXTERNALLY-MANAGED");
                RootPath::from_absolute(&path).is_ok_and(|path| open.observed.here.get(&path).is_some())
            };
            let python = place.split('/').find(|part| part.starts_with("python3"))?;
            match marked(python) {
                true => words(&["pip", "install", "--break-system-packages", &pinned]),
                false => words(&["pip", "install", &pinned]),
            }
        }
        "npm" if place == "/usr/local/lib/node_modules" || place == "/usr/lib/node_modules" => {
            words(&["npm", "install", "-g", &format!("{name}@{version}")])
        }
        "cargo" => words(&["cargo", "install", "--locked", "--root", &place, &format!("{name}@{version}")]),
        "gem" if place.starts_with("/var/lib/gems/") => words(&["gem", "install", name, "-v", version]),
        _ => None,
    }
}
