//! What people write who are used to other files: keys by other names, keys in other tables, values in other shapes.
//! For each, what it is here.

use crate::debian::lifetime;

use super::document::{self, Node, Value};
use super::keys;

/// Keys of a table by names that are usual elsewhere, and what to write instead. `{table}` is a table's path as in
/// [`keys::KEYS`]; what begins with `=` is a whole remedy.
const NAMES: &[(&str, &[&str], &str)] = &[
    ("", &["environment", "variables", "vars"], "[env]"),
    ("", &["mounts", "volumes", "shares", "binds"], "[[folders]]"),
    (
        "",
        &["packages", "apt", "from", "image-base", "os", "distribution"],
        "=put it into [base]: debian = \"trixie\", packages = [\"git\"]",
    ),
    ("", &["name", "title", "hostname"], "=put it into [workspace]: name = \"…\""),
    ("", &["user", "account"], "=put it into [workspace]: account = \"…\""),
    ("", &["tools", "languages", "runtimes", "sdks"], "[toolchains]"),
    (
        "",
        &["tasks", "scripts", "commands", "provision", "provisioning", "setup", "build", "install", "hooks", "run"],
        "[[steps]]",
    ),
    ("", &["forward", "forwards", "expose", "port"], "[[ports]]"),
    ("", &["processes", "daemons", "service", "programs"], "[services.NAME]"),
    ("", &["resources", "quota", "memory", "cpus"], "[limits]"),
    ("", &["extensions", "plugins", "settings", "editors"], "[editor]"),
    ("", &["version", "schema", "format"], "spec = 1"),
    ("workspace", &["user", "username", "login"], "account"),
    ("workspace", &["description", "summary", "comment"], "about"),
    ("workspace", &["hostname", "host-name", "title", "id"], "name"),
    ("workspace", &["directory", "dir", "workdir", "working-directory", "root", "folder", "mount"], "project"),
    ("workspace", &["internet", "net"], "network"),
    ("workspace", &["paths", "search-path"], "path"),
    ("base", &["image", "from", "container"], "oci"),
    ("base", &["suite", "release", "codename", "distribution", "distro", "os", "version"], "debian"),
    ("base", &["install", "package", "apt", "apt-packages", "pkgs"], "packages"),
    ("base", &["arch", "platform"], "architecture"),
    ("base", &["recommends", "install-recommends"], "recommended"),
    ("base", &["tarball", "tar", "rootfs"], "archive"),
    ("toolchains.*", &["tag", "release", "channel"], "version"),
    ("toolchains.*", &["components", "extras", "features"], "parts"),
    ("toolchains.*", &["source", "provider", "origin"], "from"),
    ("toolchains.*", &["sha", "checksum", "hash", "digest"], "sha256"),
    ("toolchains.*", &["package", "apt"], "packages"),
    ("toolchains.*", &["check", "test"], "probe"),
    ("folders[]", &["host", "source", "src", "from", "local", "outer"], "outside"),
    (
        "folders[]",
        &["guest", "target", "to", "dest", "destination", "dst", "container", "path", "mount", "at"],
        "inside",
    ),
    ("folders[]", &["exclude", "excludes", "without"], "except"),
    ("folders[]", &["type", "kind"], "mode"),
    ("folders[]", &["user", "account", "uid"], "owner"),
    (
        "folders[]",
        &["readonly", "read-only", "ro"],
        "=leave it out; a live folder is as writable as it is outside, and mode = \"kept\" is one of the workspace's own",
    ),
    ("ports[]", &["guest", "container", "target", "to", "internal", "port", "dest", "destination"], "inside"),
    ("ports[]", &["host", "from", "external", "public", "source", "local"], "outside"),
    ("ports[]", &["label", "service", "id"], "name"),
    ("ports[]", &["address", "listen", "ip", "interface"], "bind"),
    ("ports[]", &["type", "proto"], "protocol"),
    ("ports[]", &["strict", "required", "fixed"], "exact"),
    ("ports[]", &["browser", "url", "open-browser"], "open"),
    ("ports[]", &["range", "number"], "count"),
    ("downloads[]", &["source", "src", "from", "uri", "href", "address"], "url"),
    ("downloads[]", &["to", "dest", "destination", "target", "path", "output"], "inside"),
    ("downloads[]", &["sha", "checksum", "hash", "digest", "integrity"], "sha256"),
    ("downloads[]", &["extract", "archive", "untar"], "unpack"),
    ("downloads[]", &["permissions", "chmod"], "mode"),
    ("steps[]", &["command", "cmd", "script", "shell", "exec", "commands"], "run"),
    ("steps[]", &["when", "stage", "phase", "moment", "on", "type"], "at"),
    ("steps[]", &["environment", "vars", "variables"], "env"),
    ("steps[]", &["user", "as", "runas", "run-as"], "account"),
    ("steps[]", &["timeout", "time-limit", "max-time"], "limit"),
    ("steps[]", &["depends", "needs", "requires", "require"], "after"),
    ("steps[]", &["if", "condition"], "unless"),
    ("steps[]", &["inputs", "sources"], "files"),
    ("steps[]", &["cache"], "caches"),
    ("steps[]", &["title", "id", "description"], "name"),
    (
        "steps[]",
        &["cwd", "workdir", "directory", "dir", "chdir", "working-directory"],
        "=write it into the command: run = \"cd /srv/site && …\"",
    ),
    ("steps[]", &["args", "arguments", "argv"], "=write them into run, as a list: run = [\"program\", \"argument\"]"),
    (
        "steps[]",
        &["sudo", "privileged", "root"],
        "=leave it out: a build step runs as root, and a start step does with account = \"root\"",
    ),
    (
        "steps[]",
        &["packages", "apt", "install"],
        "=name Debian's packages in base.packages, and what else has to be installed in run",
    ),
    ("steps[].write", &["to", "dest", "destination", "path", "target", "file"], "inside"),
    ("steps[].write", &["text", "contents", "body", "data"], "content"),
    ("steps[].write", &["source", "src"], "template"),
    ("steps[].write", &["permissions", "chmod"], "mode"),
    ("steps[].write", &["user", "account"], "owner"),
    ("steps[].copy", &["source", "src", "host", "outside"], "from"),
    ("steps[].copy", &["to", "dest", "destination", "path", "target"], "inside"),
    ("steps[].copy", &["exclude", "ignore"], "except"),
    ("steps[].copy", &["user", "account", "chown"], "owner"),
    ("services.*", &["command", "cmd", "exec", "script", "entrypoint", "program", "start"], "run"),
    ("services.*", &["environment", "vars", "variables"], "env"),
    ("services.*", &["user", "as", "runas", "run-as"], "account"),
    ("services.*", &["cwd", "workdir", "dir", "working-directory", "chdir"], "directory"),
    ("services.*", &["depends", "needs", "requires"], "after"),
    ("services.*", &["health", "check", "probe", "readiness", "wait"], "ready"),
    ("services.*", &["respawn"], "restart"),
    ("services.*", &["kill", "shutdown", "stop-signal"], "stop"),
    (
        "services.*",
        &["args", "arguments", "argv"],
        "=write them into run, as a list: run = [\"program\", \"argument\"]",
    ),
    (
        "services.*",
        &["timeout"],
        "=write ready = { …, limit = \"30 s\" } for the start, and stop = { grace = \"10 s\" } for the end",
    ),
    (
        "services.*",
        &["port", "ports", "expose"],
        "=write [[ports]] for the outside, and ready = { port = 8080 } to wait until it listens",
    ),
    (
        "services.*",
        &["image"],
        "=leave it out: a service is a program of the workspace's own image; name its package in base.packages",
    ),
    ("services.*", &["volumes", "mounts"], "=write [[folders]] with mode = \"kept\""),
    ("services.*", &["name"], "=leave it out; the name stands in [services.NAME]"),
    ("services.*.ready", &["tcp", "listen"], "port"),
    ("services.*.ready", &["cmd", "exec", "run", "test"], "command"),
    ("services.*.ready", &["interval", "period"], "every"),
    ("services.*.ready", &["timeout"], "limit"),
    (
        "services.*.ready",
        &["http", "url"],
        "=write command = \"…\" with a program of the image that asks it, or port = 8080",
    ),
    ("services.*.stop", &["timeout", "wait"], "grace"),
    ("limits", &["cpu", "processors", "cores"], "cpus"),
    ("limits", &["ram", "mem"], "memory"),
    ("limits", &["pids", "threads", "tasks"], "processes"),
    ("workspace.host", &["ram", "mem"], "memory"),
    ("workspace.host", &["cpu", "cpus", "cores"], "processors"),
    ("workspace.host", &["arch", "architecture"], "architectures"),
    ("workspace.host", &["space", "storage"], "disk"),
    ("editor", &["plugins", "addons"], "extensions"),
    ("editor", &["config", "preferences", "options"], "settings"),
    ("editor", &["name", "type", "editor"], "profile"),
    ("cache", &["url", "image", "repository"], "registry"),
    ("image", &["cmd", "run"], "command"),
    ("image", &["entrypoint", "exec"], "command"),
    ("image", &["args", "argv"], "arguments"),
    ("image", &["workdir", "cwd", "working-directory"], "directory"),
    ("image", &["user"], "account"),
    ("image", &["expose"], "ports"),
    ("image", &["stop-signal"], "signal"),
];

/// What a key of another habit is here.
pub(super) struct Habit {
    /// What to write.
    pub(super) remedy: String,
    /// The key of the same table that it is, when it is one.
    pub(super) key: Option<&'static str>,
}

/// What a key of another habit is here, with the whole line where its value fits.
pub(super) fn name(table: &str, written: &str, node: &Node) -> Option<Habit> {
    let plain = written.to_lowercase().replace('_', "-");
    let of_table = NAMES.iter().filter(|(path, ..)| *path == table);
    let habit = of_table.filter(|(_, names, _)| names.contains(&plain.as_str())).map(|(.., meant)| *meant).next();
    // Our own keys with other signs between their words are among the known ones.
    let meant = habit.or_else(|| keys::children(table).map(|(name, _)| name).find(|known| **known == plain))?;
    if let Some(whole) = meant.strip_prefix('=') {
        return Some(Habit { remedy: whole.to_owned(), key: None });
    }
    let Some((name, key)) = keys::children(table).find(|(name, _)| *name == meant) else {
        return Some(Habit { remedy: format!("write {meant}"), key: None });
    };
    let fits = match (key.shape, &node.value) {
        (keys::Shape::Text, Value::Text(text)) => key.values.is_empty() || key.values.contains(&text.as_str()),
        (keys::Shape::TextOrTexts | keys::Shape::TextOrTable, Value::Text(_))
        | (keys::Shape::Number, Value::Integer(_))
        | (keys::Shape::Flag, Value::Flag(_)) => true,
        (keys::Shape::Texts | keys::Shape::TextOrTexts, Value::List(items)) => texts(items).count() == items.len(),
        _ => false,
    };
    let remedy = match fits {
        true => format!("write {name} = {}", document::shown(&node.value)),
        false if matches!(node.value, Value::Table(_)) => format!("write `{name}`"),
        false => shape(key.path, name, node).unwrap_or_else(|| format!("write `{name}`")),
    };
    Some(Habit { remedy, key: Some(name) })
}

/// The table that a key belongs into which stands in another one: a known one of that name, when there is one only, or
/// the top.
pub(super) fn belongs(table: &str, written: &str) -> Option<&'static str> {
    if keys::children("").any(|(name, _)| name == written) {
        return Some("");
    }
    let parents = keys::KEYS.iter().filter_map(|key| {
        let (parent, name) = key.path.rsplit_once('.')?;
        (name == written && parent != table && !parent.contains(['*', '['])).then_some(parent)
    });
    let parents: Vec<_> = parents.collect();
    match parents.as_slice() {
        [one] => Some(one),
        _ => None,
    }
}

fn text(value: &str) -> String {
    toml::Value::String(value.to_owned()).to_string()
}

/// The right lines for a value in another shape, made from what was written. `path` is the key's, as in
/// [`keys::KEYS`], `name` the last part of it as it is written.
pub(super) fn shape(path: &str, name: &str, node: &Node) -> Option<String> {
    let line = |value: String| Some(format!("write {name} = {value}"));
    let values = keys::find(path).map_or(&[][..], |key| key.values);
    let block = |lines: Vec<String>| Some(format!("write\n    {}", lines.join("\n    ")));
    if let (Some(key), Value::Table(table)) = (keys::find(path), &node.value)
        && key.shape == keys::Shape::Tables
        && table.entries.iter().any(|entry| keys::find(&format!("{path}[].{}", entry.name)).is_some())
    {
        return Some(format!("write [[{name}]] with two brackets"));
    }
    match (path, &node.value) {
        ("limits.memory" | "workspace.host.memory" | "workspace.host.disk", Value::Integer(number)) => {
            // Who writes so many means bytes.
            let mebibytes = if *number >= 1 << 20 { number >> 20 } else { *number };
            line(match mebibytes {
                whole if whole >= 1024 && whole % 1024 == 0 => text(&format!("{} GiB", whole >> 10)),
                other => text(&format!("{other} MiB")),
            })
        }
        (
            "steps[].limit" | "services.*.ready.limit" | "services.*.ready.every" | "services.*.stop.grace",
            Value::Integer(number),
        ) => line(text(&format!("{number} s"))),
        ("services.*.restart", Value::Flag(flag)) => line(text(if *flag { "always" } else { "never" })),
        ("steps[].network", Value::Flag(flag)) => line(text(if *flag { "recorded" } else { "none" })),
        ("workspace.network", Value::Flag(flag)) => line(text(if *flag { "out" } else { "none" })),
        ("services.*.ready", Value::Integer(port)) => line(format!("{{ port = {port} }}")),
        ("services.*.ready", Value::Text(asked)) => match asked.parse::<u16>() {
            Ok(port) => line(format!("{{ port = {port} }}")),
            Err(_) if asked.starts_with('/') => line(format!("{{ file = {} }}", text(asked))),
            Err(_) => line(format!("{{ command = {} }}", text(asked))),
        },
        ("services.*.stop", Value::Text(signal)) => line(format!("{{ signal = {} }}", text(signal))),
        ("steps[].copy", Value::Text(from)) => line(format!("{{ from = {}, inside = \"/srv/…\" }}", text(from))),
        ("steps[].write", Value::Text(inside)) => line(format!("{{ inside = {}, content = \"…\" }}", text(inside))),
        ("editor.extensions", Value::List(items)) => {
            let entries = texts(items).map(|id| {
                let (id, version) = id.split_once('@').unwrap_or((id, "1"));
                format!("{} = {}", text(id), text(version))
            });
            line(format!(
                "{{ {} }}: each with its version, or the beginning of one",
                entries.collect::<Vec<_>>().join(", ")
            ))
        }
        ("toolchains", Value::List(items)) => {
            let entries = texts(items).map(|one| {
                let (name, version) = one.split_once(['@', '=', ':', ' ']).unwrap_or((one, "…"));
                format!("{name} = {}", text(version.trim_matches(['=', ' '])))
            });
            block(std::iter::once("[toolchains]".to_owned()).chain(entries).collect())
        }
        ("env", Value::List(items)) => {
            let pairs = texts(items).filter_map(|pair| pair.split_once('='));
            let pairs = pairs.map(|(name, value)| format!("{name} = {}", text(value)));
            block(std::iter::once("[env]".to_owned()).chain(pairs).collect())
        }
        ("ports", _) => block(ports(&node.value)?),
        ("folders", Value::List(items)) => {
            let first = texts(items).next()?;
            let (outside, inside) = first.split_once(':').unwrap_or((first, "/srv/…"));
            block(vec![
                "[[folders]]".to_owned(),
                format!("outside = {}", text(outside)),
                format!("inside  = {}", text(inside)),
            ])
        }
        ("folders", Value::Table(table)) => {
            let first = table.entries.first()?;
            let Value::Text(inside) = &first.node.value else { return None };
            block(vec![
                "[[folders]]".to_owned(),
                format!("outside = {}", text(&first.name)),
                format!("inside  = {}", text(inside)),
            ])
        }
        ("services", Value::List(items)) => {
            let name = items.iter().find_map(|item| named(&item.value)).unwrap_or("NAME");
            Some(format!("write [services.{name}], and leave its name out below"))
        }
        ("steps", Value::Table(table)) => {
            let first = table.entries.first()?;
            Some(format!("write [[steps]], and below it name = {}", text(&first.name)))
        }
        ("steps", Value::List(items)) => {
            let first = texts(items).next()?;
            block(vec![
                "[[steps]]".to_owned(),
                "name = \"…\"".to_owned(),
                "at   = \"build\"".to_owned(),
                format!("run  = {}", text(first)),
            ])
        }
        ("downloads", Value::Table(table)) => {
            let first = table.entries.first()?;
            Some(format!("write [[downloads]], and below it name = {}", text(&first.name)))
        }
        (_, Value::Text(words)) if keys::find(path).is_some_and(|key| key.shape == keys::Shape::Texts) => {
            let parts = words.split([',', ' ']).filter(|part| !part.is_empty());
            line(format!("[{}]", parts.map(text).collect::<Vec<_>>().join(", ")))
        }
        ("ports[].inside" | "ports[].outside", Value::Text(asked)) => port_number(name, asked),
        (_, Value::Text(digits)) if keys::find(path).is_some_and(|key| key.shape == keys::Shape::Number) => {
            line(digits.trim().parse::<i64>().ok()?.to_string())
        }
        (_, Value::Text(word)) if keys::find(path).is_some_and(|key| key.shape == keys::Shape::Flag) => {
            let is_yes = ["true", "yes", "on", "1"].contains(&word.trim().to_lowercase().as_str());
            line(is_yes.to_string())
        }
        (_, Value::Integer(number)) if keys::find(path).is_some_and(|key| key.shape == keys::Shape::Flag) => {
            line((*number != 0).to_string())
        }
        (_, Value::Float(number)) if keys::find(path).is_some_and(|key| key.shape == keys::Shape::Number) => {
            line(format!("{}", number.ceil()))
        }
        ("base.debian", Value::Integer(number)) => {
            line(text(lifetime::meant(&number.to_string()).unwrap_or(&number.to_string())))
        }
        // Of what can be a few things only, all are named.
        (_, Value::Flag(_) | Value::Integer(_) | Value::Float(_)) if !values.is_empty() => {
            Some(format!("write one of {}", values.join(", ")))
        }
        (_, Value::Integer(number)) => line(text(&number.to_string())),
        (_, Value::Float(number)) => line(text(&toml::Value::Float(*number).to_string())),
        (_, Value::Flag(flag)) => line(text(&flag.to_string())),
        _ => None,
    }
}

/// What is written for a port that stands in a text: a range, an address, or a number with something around it.
fn port_number(name: &str, asked: &str) -> Option<String> {
    let numbers: Vec<u16> =
        asked.split(|letter: char| !letter.is_ascii_digit()).filter_map(|number| number.parse().ok()).collect();
    match numbers.as_slice() {
        [first, last] if asked.contains('-') && first < last => {
            Some(format!("write {name} = {first} and count = {}", u32::from(last - first) + 1))
        }
        [.., last] => Some(format!("write {name} = {last}")),
        [] => None,
    }
}

fn texts(items: &[Node]) -> impl Iterator<Item = &str> {
    items.iter().filter_map(|item| match &item.value {
        Value::Text(text) => Some(text.as_str()),
        _ => None,
    })
}

fn named(value: &Value) -> Option<&str> {
    let Value::Table(table) = value else { return None };
    match &table.get("name")?.node.value {
        Value::Text(name) => Some(name),
        _ => None,
    }
}

/// The entry of `[[ports]]` for what is usual elsewhere: `"8080:80"`, `80`, `web = 8080`.
fn ports(value: &Value) -> Option<Vec<String>> {
    let (name, written) = match value {
        Value::List(items) => (None, items.iter().find(|item| !matches!(item.value, Value::Table(_)))?.value.clone()),
        Value::Table(table) => {
            let first = table.entries.first()?;
            (Some(first.name.clone()), first.node.value.clone())
        }
        other => (None, other.clone()),
    };
    let (outside, inside, udp) = match written {
        Value::Integer(port) => (None, port.to_string(), false),
        Value::Text(text) => {
            let (text, kind) = text.split_once('/').map_or((text.as_str(), ""), |(text, kind)| (text, kind));
            let numbers: Vec<_> = text.split(':').collect();
            let inside = (*numbers.last()?).to_owned();
            let outside = numbers.len().checked_sub(2).map(|at| numbers[at].to_owned());
            (outside, inside, kind == "udp")
        }
        _ => return None,
    };
    inside.parse::<u16>().ok()?;
    let name = name.unwrap_or_else(|| format!("port-{inside}"));
    let mut lines = vec!["[[ports]]".to_owned(), format!("name    = {}", text(&name)), format!("inside  = {inside}")];
    lines.extend(outside.filter(|outside| *outside != inside).map(|outside| format!("outside = {outside}")));
    if udp {
        lines.push("protocol = \"udp\"".to_owned());
    }
    Some(lines)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_habit_is_of_a_table_that_there_is_and_no_key_of_it() {
        for (table, written, meant) in NAMES {
            let known: Vec<_> = keys::children(table).map(|(name, _)| name).collect();
            assert!(!known.is_empty(), "{table}");
            for written in *written {
                assert!(!known.contains(written), "{table}: {written} is a key of ours");
            }
            if !meant.starts_with(['=', '[']) && !meant.contains(' ') {
                assert!(known.contains(meant), "{table}: {meant} is no key");
            }
        }
    }
}
