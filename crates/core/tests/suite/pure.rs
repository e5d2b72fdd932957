//! The core stays what its first page says: no disk, clock, network, process or terminal.

use std::path::Path;

/// What a module of the core must not name, and why not.
const FORBIDDEN: [(&str, &str); 9] = [
    ("std::fs", "it would touch the disk"),
    ("std::net", "it would touch the network"),
    ("std::process", "it would touch processes"),
    ("std::env", "it would depend on its surroundings"),
    ("std::io", "it would read or write"),
    ("std::time", "it would look at the clock"),
    ("SystemTime", "it would look at the clock"),
    ("println!", "it would print"),
    ("unsafe ", "it would be unsafe"),
];

fn sources(dir: &Path, found: &mut Vec<(String, String)>) {
    for entry in std::fs::read_dir(dir).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, found);
        } else {
            found.push((path.display().to_string(), std::fs::read_to_string(&path).unwrap()));
        }
    }
}

#[test]
fn no_module_names_what_it_must_not_use() {
    let mut found = Vec::new();
    sources(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src"), &mut found);
    assert!(found.len() > 15);
    for (path, text) in found {
        let code = text.lines().filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>().join("\n");
        for (word, why) in FORBIDDEN {
            assert!(!code.contains(word), "{path} names {word}: {why}");
        }
    }
}

#[test]
fn it_depends_on_nothing_that_would_do_it_instead() {
    let manifest = include_str!("../../Cargo.toml");
    let dependencies = manifest.split("[dependencies]").nth(1).unwrap().split('[').next().unwrap();
    let names: Vec<_> =
        dependencies.lines().filter_map(|line| line.split('.').next()).filter(|name| !name.trim().is_empty()).collect();
    assert_eq!(
        names,
        [
            "base64",
            "blake3",
            "globset",
            "jiff",
            "md-5",
            "minijinja",
            "resolvo",
            "rsa",
            "serde",
            "serde_json",
            "sha2",
            "similar",
            "ssh-key",
            "strsim",
            "thiserror",
            "toml"
        ]
    );
}
