//! Whether a lock and a spec belong together, and where they do not.

use super::Lock;
use crate::account;
use crate::spec::{Base, Spec};

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
    found.0
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
            if let Some(archive) = &lock.archive {
                found.push("base".to_owned(), "packages", format!("archive {}", archive.path));
            }
        }
        Base::Archive { path, sha256, strip } => match &lock.archive {
            None => found.push("base".to_owned(), format!("archive {}", path.value), NOTHING),
            Some(pin) => {
                if pin.path != path.value || pin.strip != *strip {
                    let describe = |path: &str, strip: usize| format!("archive {path}, strip {strip}");
                    found.push("base".to_owned(), describe(&path.value, *strip), describe(&pin.path, pin.strip));
                }
                if let Some(sha256) = sha256
                    && sha256.value != pin.sha256
                {
                    found.push("base.archive.sha256".to_owned(), sha256.value.to_string(), pin.sha256.to_string());
                }
            }
        },
    }
    if matches!(spec.base, Base::Archive { .. }) {
        for pin in &lock.packages {
            found.push(format!("package {}", pin.name), NOTHING, pin.version.clone());
        }
    }
}

fn toolchains(spec: &Spec, lock: &Lock, found: &mut Found) {
    for (name, wanted) in &spec.toolchains {
        let what = format!("toolchain {name}");
        let version = &wanted.value.version.value;
        match lock.toolchains.iter().find(|pin| pin.name == *name) {
            None => found.push(what, version.as_str(), NOTHING),
            Some(pin) if !pin.version.answers(version) => found.push(what, version.as_str(), pin.version.as_str()),
            Some(pin) => {
                let depot = wanted.value.depot.as_ref().map(|depot| &depot.value);
                if depot.is_some_and(|depot| *depot != pin.source.depot) || !spec.depots.contains_key(&pin.source.depot)
                {
                    let declared = || spec.depots.keys().cloned().collect::<Vec<_>>().join(", ");
                    let wants = depot.cloned().unwrap_or_else(declared);
                    found.push(what, format!("depot {wants}"), format!("depot {}", pin.source.depot));
                }
            }
        }
    }
    for pin in lock.toolchains.iter().filter(|pin| !spec.toolchains.contains_key(&pin.name)) {
        found.push(format!("toolchain {}", pin.name), NOTHING, pin.version.as_str());
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
