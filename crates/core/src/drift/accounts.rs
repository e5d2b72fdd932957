//! Accounts and groups: the lines of passwd(5), group(5) and their neighbours.

use std::collections::{BTreeMap, BTreeSet};

use super::{Finding, Open, Side};
use crate::path::RootPath;

/// Files that say who there is.
const FILES: [&str; 6] = ["etc/passwd", "etc/group", "etc/shadow", "etc/gshadow", "etc/subuid", "etc/subgid"];

/// The bundle of what happened to accounts; see [`Finding::bundle`].
const BUNDLE: &str = "accounts";

/// Lines of a file by their first field.
fn lines(text: &str) -> BTreeMap<String, Vec<String>> {
    let fields = text.lines().map(|line| line.split(':').map(str::to_owned).collect::<Vec<_>>());
    fields.filter_map(|fields| Some((fields.first()?.clone(), fields))).collect()
}

/// What happened to accounts. What packages' scripts did is theirs.
pub(super) fn explain(open: &mut Open<'_>, owners: &super::packages::Owners) -> Vec<Finding> {
    let is_changed = |open: &Open<'_>, file: &str| {
        RootPath::from_archive(file.as_bytes()).is_ok_and(|path| open.changes.contains_key(&path))
    };
    if !FILES.iter().any(|file| is_changed(open, file)) {
        return Vec::new();
    }
    let read = |side, file: &str| lines(&open.text(side, &format!("/{file}")).unwrap_or_default());
    let both = |file: &str| (read(Side::Image, file), read(Side::Here, file));
    let ((users, users_here), (groups, groups_here)) = (both("etc/passwd"), both("etc/group"));
    let (secrets, secrets_here) = both("etc/shadow");
    let mut findings = Vec::new();
    let mut came = BTreeSet::new();
    for name in users.keys().chain(users_here.keys()).collect::<BTreeSet<_>>() {
        match (users.get(name), users_here.get(name)) {
            (None, Some(_)) if owners.is_scripted(name) => drop(came.insert(name.clone())),
            (None, Some(new)) => {
                came.insert(name.clone());
                let has_home = new.get(5).and_then(|home| RootPath::from_absolute(home).ok());
                let has_home = has_home.is_some_and(|home| open.observed.here.get(&home).is_some());
                findings.push(added(name, new, &groups_here, has_home));
            }
            (Some(_), None) => findings.push(Finding::Account {
                name: name.clone(),
                change: "removed".to_owned(),
                commands: vec![words(&["userdel", name])],
            }),
            (Some(before), Some(after)) if before != after => findings.push(changed(name, before, after)),
            _ => {}
        }
        let secret = |of: &BTreeMap<String, Vec<String>>| of.get(name).and_then(|fields| fields.get(1)).cloned();
        if users.contains_key(name) && users_here.contains_key(name) && secret(&secrets) != secret(&secrets_here) {
            // What it is says nothing to anybody, and is nobody's business.
            let change = "its password was set".to_owned();
            findings.push(Finding::Account { name: name.clone(), change, commands: Vec::new() });
        }
    }
    for (name, after) in &groups_here {
        let members = |fields: &[String]| -> BTreeSet<String> {
            let list = fields.get(3).map(String::as_str).unwrap_or_default();
            list.split(',').filter(|member| !member.is_empty()).map(str::to_owned).collect()
        };
        let Some(before) = groups.get(name) else {
            // A new account's own group comes with it.
            if !came.contains(name) && !owners.is_scripted(name) {
                let number = after.get(2).map_or("", String::as_str);
                findings.push(Finding::Account {
                    name: name.clone(),
                    change: format!("new group {number}"),
                    commands: vec![words(&["groupadd", "-g", number, name])],
                });
            }
            continue;
        };
        for member in members(after).difference(&members(before)).filter(|member| !came.contains(*member)) {
            findings.push(Finding::Account {
                name: member.clone(),
                change: format!("joined the group {name}"),
                commands: vec![words(&["usermod", "-a", "-G", name, member])],
            });
        }
    }
    for name in groups.keys().filter(|name| !groups_here.contains_key(*name) && !users.contains_key(*name)) {
        let change = "the group was removed".to_owned();
        findings.push(Finding::Account { name: name.clone(), change, commands: vec![words(&["groupdel", name])] });
    }
    // What `useradd -m` copies into a new home is no file that somebody wrote.
    let homes: Vec<_> = came.iter().filter_map(|name| users_here.get(name)?.get(5)).cloned().collect();
    for home in homes {
        let skeleton = |path: &RootPath| {
            let rest = path.to_string().strip_prefix(&format!("{home}/")).map(|rest| format!("etc/skel/{rest}"));
            let of = |tree: &crate::tree::Tree, path: &RootPath| tree.get(path).map(|entry| entry.kind.clone());
            rest.and_then(|rest| RootPath::from_archive(rest.as_bytes()).ok()).is_some_and(|from| {
                of(open.observed.here, path).is_some() && of(open.observed.here, path) == of(open.observed.image, &from)
            })
        };
        let copied: Vec<_> = open.changes.keys().filter(|path| skeleton(path)).cloned().collect();
        let own = RootPath::from_absolute(&home).ok();
        for path in copied.iter().chain(&own) {
            open.take(BUNDLE, path);
        }
    }
    let mut told: BTreeSet<String> = findings.iter().map(|finding| finding.name().to_owned()).collect();
    told.extend(came);
    for (name, after) in &groups_here {
        // A line that is another for its members only, all of which are told.
        let before = groups.get(name).map(Vec::as_slice).unwrap_or_default();
        if owners.is_scripted(name) || before.get(..3) == after.get(..3) {
            told.insert(name.clone());
        }
    }
    for file in FILES {
        for name in [file.to_owned(), format!("{file}-")] {
            let Ok(path) = RootPath::from_archive(name.as_bytes()) else { continue };
            let is_backup = name.ends_with('-');
            if is_backup || is_told(open, &format!("/{file}"), &told) {
                open.take(BUNDLE, &path);
            }
        }
    }
    findings
}

/// Whether every line in which a file differs is that of an account or group that is told, and none is there twice.
fn is_told(open: &Open<'_>, file: &str, told: &BTreeSet<String>) -> bool {
    let read = |side| open.text(side, file).unwrap_or_default();
    let (before, after) = (read(Side::Image), read(Side::Here));
    let name = |line: &str| line.split(':').next().unwrap_or_default().to_owned();
    let (old, new): (Vec<&str>, Vec<&str>) = (before.lines().collect(), after.lines().collect());
    let all: BTreeSet<String> = new.iter().map(|line| name(line)).collect();
    let differs = old.iter().filter(|line| !new.contains(line)).chain(new.iter().filter(|line| !old.contains(line)));
    all.len() == new.len() && differs.into_iter().all(|line| told.contains(&name(line)))
}

fn words(words: &[&str]) -> Vec<String> {
    words.iter().map(|word| (*word).to_owned()).collect()
}

fn added(name: &str, fields: &[String], groups: &BTreeMap<String, Vec<String>>, has_home: bool) -> Finding {
    let field = |index: usize| fields.get(index).map(String::as_str).unwrap_or_default();
    let (user, group, home, shell) = (field(2), field(3), field(5), field(6));
    let own = groups.get(name).is_some_and(|line| line.get(2).is_some_and(|number| number == group));
    let in_groups: Vec<_> = groups
        .values()
        .filter(|line| line.get(3).is_some_and(|members| members.split(',').any(|member| member == name)))
        .filter_map(|line| line.first().map(String::as_str))
        .collect();
    let mut commands = Vec::new();
    let mut add = words(&["useradd", if has_home { "-m" } else { "-M" }, "-u", user]);
    // A new group of the account's own gets the account's number, when that is free.
    if own && user == group {
        add.push("-U".to_owned());
    } else {
        if own {
            commands.push(words(&["groupadd", "-g", group, name]));
        }
        add.extend(words(&["-g", group]));
    }
    add.extend(words(&["-d", home]));
    if !shell.is_empty() {
        add.extend(words(&["-s", shell]));
    }
    if !in_groups.is_empty() {
        add.extend(["-G".to_owned(), in_groups.join(",")]);
    }
    add.push(name.to_owned());
    commands.push(add);
    Finding::Account { name: name.to_owned(), change: format!("new, number {user}, home {home}"), commands }
}

fn changed(name: &str, before: &[String], after: &[String]) -> Finding {
    const FIELDS: [(usize, &str, &str); 5] =
        [(2, "number", "-u"), (3, "group", "-g"), (4, "comment", "-c"), (5, "home", "-d"), (6, "shell", "-s")];
    let field = |fields: &[String], index: usize| fields.get(index).cloned().unwrap_or_default();
    let (mut told, mut command) = (Vec::new(), words(&["usermod"]));
    for (index, word, option) in FIELDS {
        let (was, is) = (field(before, index), field(after, index));
        if was != is {
            told.push(format!("{word} {was} → {is}"));
            command.extend([option.to_owned(), is]);
        }
    }
    command.push(name.to_owned());
    let commands = if told.is_empty() { Vec::new() } else { vec![command] };
    let change = if told.is_empty() { "its line was changed".to_owned() } else { told.join(", ") };
    Finding::Account { name: name.to_owned(), change, commands }
}
