//! What holds for the source itself: which crate may use which, how wide a comment is, what a message may show, and
//! that every command has a help text of its own.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::team::PROGRAM;

/// Crates of ours, the lowest first: each may use those before it.
const FLOORS: [&[&str]; 9] = [
    &["cavrith-core"],
    &["cavrith-store", "cavrith-disk"],
    &["cavrith-sources", "cavrith-sandbox"],
    &["cavrith-recorder", "cavrith-folders"],
    &["cavrith-engine"],
    &["cavrith-exchange"],
    &["cavrith-keeper"],
    &["cavrith-workspace"],
    &["cavrith"],
];

/// Values that are texts, which a message may quote as Rust does: with what a terminal obeys escaped.
const QUOTED: [&str; 17] = [
    "0", "expected", "found", "line", "meant", "name", "new", "only", "other", "package", "registry", "run", "scheme",
    "source", "step", "text", "word",
];

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

fn sources(dir: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(dir).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found.extend(sources(&path));
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            found.push(path);
        }
    }
    found
}

#[test]
fn no_crate_depends_upwards() {
    let floor = |name: &str| FLOORS.iter().position(|floor| floor.contains(&name));
    let mut seen = 0;
    for entry in fs::read_dir(crates()).unwrap() {
        let manifest = fs::read_to_string(entry.unwrap().path().join("Cargo.toml")).unwrap();
        let manifest: toml::Table = manifest.parse().unwrap();
        let name = manifest["package"]["name"].as_str().unwrap();
        let own = floor(name).unwrap_or_else(|| panic!("{name} has no floor"));
        let Some(dependencies) = manifest.get("dependencies").and_then(toml::Value::as_table) else { continue };
        for used in dependencies.keys().filter_map(|used| floor(used)) {
            seen += 1;
            assert!(used < own, "{name} uses a crate of floor {used}");
        }
    }
    assert!(seen > 10, "{seen}");
}

#[test]
fn comments_are_at_most_120_columns_wide() {
    let mut wide = Vec::new();
    for path in sources(&crates()) {
        for (number, line) in fs::read_to_string(&path).unwrap().lines().enumerate() {
            if line.trim_start().starts_with("//") && line.chars().count() > 120 {
                wide.push(format!("{}:{}", path.display(), number + 1));
            }
        }
    }
    assert!(wide.is_empty(), "{wide:#?}");
}

#[test]
fn messages_show_no_debug_form_but_of_texts() {
    let mut bad = Vec::new();
    for path in sources(&crates()).iter().filter(|path| path.components().any(|part| part.as_os_str() == "src")) {
        let text = fs::read_to_string(path).unwrap();
        let code = text.split("#[cfg(test)]").next().unwrap();
        for (number, line) in code.lines().enumerate() {
            for piece in line.split('{').skip(1) {
                let Some(end) = piece.find(":?}") else { continue };
                let name = &piece[..end];
                let is_name = name.chars().all(|letter| letter.is_ascii_alphanumeric() || letter == '_');
                if is_name && !name.is_empty() && !QUOTED.contains(&name) {
                    bad.push(format!("{}:{}: {name}", path.display(), number + 1));
                }
            }
        }
    }
    assert!(bad.is_empty(), "{bad:#?}");
}

fn help(arguments: &[&str]) -> String {
    let output = Command::new(PROGRAM).args(arguments).arg("--help").output().unwrap();
    assert!(output.status.success(), "{arguments:?}");
    String::from_utf8(output.stdout).unwrap()
}

/// The commands that a help text lists, each with what it says of it.
fn listed(help: &str) -> BTreeMap<String, String> {
    let lines = help.lines().skip_while(|line| *line != "Commands:").skip(1).take_while(|line| line.starts_with("  "));
    let parts = lines.filter_map(|line| line.trim_start().split_once(' '));
    parts.map(|(name, about)| (name.to_owned(), about.trim().to_owned())).filter(|(name, _)| name != "help").collect()
}

#[test]
fn every_command_has_a_help_text_of_its_own() {
    let mut seen: BTreeMap<String, String> = BTreeMap::new();
    let mut open: Vec<Vec<String>> = vec![Vec::new()];
    while let Some(command) = open.pop() {
        let words: Vec<_> = command.iter().map(String::as_str).collect();
        let text = help(&words);
        let first = text.lines().next().unwrap().to_owned();
        if let Some(other) = seen.insert(first.clone(), words.join(" ")) {
            panic!("`{}` and `{other}` both say: {first}", words.join(" "));
        }
        for (name, about) in listed(&text) {
            let inner: Vec<_> = command.iter().cloned().chain([name]).collect();
            let words: Vec<_> = inner.iter().map(String::as_str).collect();
            let own = help(&words);
            assert_eq!(own.lines().next().unwrap().trim_end_matches('.'), about.trim_end_matches('.'), "{inner:?}");
            open.push(inner);
        }
    }
    assert!(seen.len() > 35, "{}", seen.len());
}
