//! The team's part of a workspace, as a spec and its lock describe it.

use std::collections::BTreeMap;

use super::runtime;
use crate::account;
use crate::depot::Language;
use crate::editors;
use crate::lock::{Lock, ToolchainPin};
use crate::setup::Setup;
use crate::spec::{Folder, Network, Port, Side, Spec, Target};

/// Directories of programs that every root has, after those of the toolchains.
const SYSTEM_PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";

impl Setup {
    /// The setup that a spec and its lock describe, for an image whose account has this shell.
    pub fn new(spec: &Spec, lock: &Lock, shell: &str) -> Self {
        let account = &spec.workspace.account.value;
        let mut env = step_env(spec, lock);
        env.remove("SOURCE_DATE_EPOCH");
        env.retain(|name, _| spec.env.contains_key(name) || ONLY_IN_BUILDS.iter().all(|(only, _)| only != name));
        env.insert("HOME".to_owned(), account::home(account));
        env.insert("USER".to_owned(), account.clone());
        env.insert("LOGNAME".to_owned(), account.clone());
        env.insert("SHELL".to_owned(), shell.to_owned());
        env.insert("CAVRITH_WORKSPACE".to_owned(), spec.workspace.name.value.clone());
        let mut folders: Vec<_> = spec.folders.iter().map(shown_folder).collect();
        folders.sort();
        Self {
            account: account.clone(),
            project: spec.workspace.project.value.to_string(),
            host_name: spec.workspace.name.value.clone(),
            env,
            folders,
            ports: spec.ports.iter().map(|port| (port.name.value.clone(), shown_port(port))).collect(),
            extensions: lock.extensions.iter().map(|pin| (pin.id.clone(), pin.version.to_string())).collect(),
            settings: settings(spec, lock),
            runtime: runtime(spec),
        }
    }
}

/// `8080/tcp`, or `8000-8010/udp`.
pub fn shown_port(port: &Port) -> String {
    let (first, last) = (port.inside.value, port.last().0);
    if first == last { format!("{first}/{}", port.protocol) } else { format!("{first}-{last}/{}", port.protocol) }
}

/// What runs in a workspace, each part in one line of JSON, so that a change of any part of it shows.
fn runtime(spec: &Spec) -> BTreeMap<String, String> {
    let line =
        |value: serde_json::Result<String>| value.unwrap_or_else(|error| panic!("BUG: a part of a spec: {error}"));
    let mut runtime = BTreeMap::new();
    for (name, service) in runtime::services(spec) {
        runtime.insert(format!("service {name}"), line(serde_json::to_string(&service)));
    }
    for (number, step) in runtime::steps(spec).iter().enumerate() {
        runtime.insert(format!("start step {:03}", number + 1), line(serde_json::to_string(step)));
    }
    for (name, port) in &spec.names {
        runtime.insert(format!("name {name}"), port.value.clone());
    }
    if spec.workspace.network == Network::None {
        runtime.insert("network".to_owned(), "none".to_owned());
    }
    if spec.workspace.target == Target::Machine {
        runtime.insert("target".to_owned(), "machine".to_owned());
    }
    runtime
}

fn shown_folder(folder: &Folder) -> String {
    if let Side::Kept { name, .. } = &folder.side {
        return format!("{} kept as {}", folder.inside.value, name.value);
    }
    let mut except: Vec<_> = folder.except.iter().map(|path| crate::path::shown(path.value.as_bytes())).collect();
    except.sort();
    let mut shown = folder.inside.value.to_string();
    if let Side::Synced { ignore, .. } = &folder.side {
        shown += " synced";
        let ignore: Vec<_> = ignore.iter().map(|pattern| pattern.value.as_str()).collect();
        shown += &if ignore.is_empty() { String::new() } else { format!(" but {}", ignore.join(" ")) };
    }
    match except.as_slice() {
        [] => shown,
        except => format!("{shown} except {}", except.join(", ")),
    }
}

fn settings(spec: &Spec, lock: &Lock) -> String {
    let language = lock.editor.as_ref().map_or_else(Language::default, |profile| profile.language);
    spec.editor.as_ref().map_or_else(String::new, |editor| editors::settings_text(&editor.settings, language))
}

/// What makes programs come out the same each time, unless a spec says otherwise: TeX takes its time from
/// `SOURCE_DATE_EPOCH` only when it is told to, and what is listed from a hash table comes in the same order.
pub const ONLY_IN_BUILDS: [(&str, &str); 3] =
    [("FORCE_SOURCE_DATE", "1"), ("PERL_HASH_SEED", "0"), ("PYTHONHASHSEED", "0")];

/// The environment of a build step, which root runs.
pub fn step_env(spec: &Spec, lock: &Lock) -> BTreeMap<String, String> {
    let mut path: Vec<_> = spec.workspace.path.iter().map(|directory| directory.value.to_string()).collect();
    path.extend(lock.toolchains.iter().filter(|pin| !pin.also).flat_map(program_directories));
    path.push(SYSTEM_PATH.to_owned());
    let mut env: BTreeMap<_, _> = spec.env.iter().map(|(name, value)| (name.clone(), value.value.clone())).collect();
    let own = [
        ("PATH", path.join(":")),
        ("HOME", "/root".to_owned()),
        ("USER", "root".to_owned()),
        ("LOGNAME", "root".to_owned()),
        ("SOURCE_DATE_EPOCH", lock.epoch.to_string()),
    ];
    env.extend(own.map(|(name, value)| (name.to_owned(), value)));
    for (name, value) in [("LANG", "C.UTF-8"), ("TZ", "UTC")].into_iter().chain(ONLY_IN_BUILDS) {
        env.entry(name.to_owned()).or_insert_with(|| value.to_owned());
    }
    env
}

/// The directories of a toolchain's programs.
pub fn program_directories(pin: &ToolchainPin) -> Vec<String> {
    let absolute = |directory: &String| match directory.trim_matches('/') {
        "" | "." => pin.place.clone(),
        directory => format!("{}/{directory}", pin.place),
    };
    pin.path.iter().map(absolute).collect()
}
