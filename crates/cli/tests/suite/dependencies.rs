//! What the program is made of besides our own code: under which licences, and nothing twice without a reason. Held
//! without a network, by what cargo knows.

use std::collections::{BTreeMap, BTreeSet};
use std::process::Command;

use serde_json::Value;

/// Licences of crates that are linked into the program, each of which lets it be passed on as it is.
const LICENCES: [&str; 12] = [
    "0BSD",
    "Apache-2.0",
    "Apache-2.0 WITH LLVM-exception",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "CC0-1.0",
    "CDLA-Permissive-2.0",
    "ISC",
    "MIT",
    "Unicode-3.0",
    "Unlicense",
    "Zlib",
];

/// Crates that come in two versions, and who brings the older one.
const TWICE: [(&str, &str); 18] = [
    ("base64", "age"),
    ("block-buffer", "age's digests"),
    ("const-oid", "age's keys of RSA"),
    ("constant_time_eq", "blake3 and zip"),
    ("cpufeatures", "age's ciphers"),
    ("crypto-common", "age's digests"),
    ("digest", "age"),
    ("getrandom", "ring, age, resolvo's hasher and the tests' libraries"),
    ("hashbrown", "resolvo's graphs"),
    ("rand_core", "age"),
    ("rustc-hash", "age's messages"),
    ("self_cell", "age's messages"),
    ("sha2", "age"),
    ("syn", "derive macros that have not moved yet"),
    ("synstructure", "what rcgen could read certificates with, which is not compiled"),
    ("thiserror", "age's messages"),
    ("thiserror-impl", "age's messages"),
    ("toml", "age's messages"),
];

fn metadata() -> Value {
    let mut command = Command::new(env!("CARGO"));
    command.args(["metadata", "--offline", "--locked", "--format-version", "1", "--filter-platform"]);
    command.arg(format!("{}-unknown-linux-gnu", std::env::consts::ARCH));
    let output =
        command.arg("--manifest-path").arg(concat!(env!("CARGO_MANIFEST_DIR"), "/Cargo.toml")).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

/// Packages that end up in the program, or make it: all that it depends on but for its tests.
fn used(metadata: &Value) -> Vec<&Value> {
    let nodes: BTreeMap<_, _> = metadata["resolve"]["nodes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|node| (node["id"].as_str().unwrap(), node))
        .collect();
    let packages = metadata["packages"].as_array().unwrap();
    let mut open: Vec<&str> = packages
        .iter()
        .filter(|package| package["name"] == "cavrith")
        .map(|package| package["id"].as_str().unwrap())
        .collect();
    let mut seen = BTreeSet::new();
    while let Some(id) = open.pop() {
        if !seen.insert(id) {
            continue;
        }
        for dependency in nodes[id]["deps"].as_array().unwrap() {
            let kinds = dependency["dep_kinds"].as_array().unwrap();
            if kinds.iter().any(|kind| kind["kind"] != "dev") {
                open.push(dependency["pkg"].as_str().unwrap());
            }
        }
    }
    packages.iter().filter(|package| seen.contains(package["id"].as_str().unwrap())).collect()
}

#[test]
fn every_licence_is_one_that_we_know() {
    let metadata = metadata();
    let used = used(&metadata);
    assert!(used.len() > 100, "{}", used.len());
    for package in used {
        let licence = package["license"].as_str().unwrap_or_default().replace('/', " OR ").replace(['(', ')'], "");
        // Of those that one may choose from, one has to be known; of those that hold together, all.
        let known = licence.split(" OR ").any(|one| one.split(" AND ").all(|part| LICENCES.contains(&part.trim())));
        assert!(known, "{} is under {licence:?}", package["name"]);
    }
}

/// The crates of one project for cryptography, which `russh` has a generation later than `age` and our own `ssh-key`.
/// What faces a network is to be the newest.
const CIPHERS: [&str; 46] = [
    "aead",
    "aes",
    "aes-gcm",
    "base16ct",
    "bcrypt-pbkdf",
    "block-padding",
    "blowfish",
    "cbc",
    "chacha20",
    "cipher",
    "crypto-bigint",
    "ctr",
    "curve25519-dalek",
    "der",
    "ecdsa",
    "ed25519",
    "ed25519-dalek",
    "elliptic-curve",
    "ff",
    "generic-array",
    "ghash",
    "group",
    "hkdf",
    "hmac",
    "inout",
    "num-bigint",
    "p256",
    "p384",
    "p521",
    "pbkdf2",
    "pem-rfc7468",
    "pkcs8",
    "poly1305",
    "polyval",
    "primeorder",
    "rand",
    "rfc6979",
    "salsa20",
    "scrypt",
    "sec1",
    "signature",
    "spki",
    "ssh-cipher",
    "ssh-encoding",
    "ssh-key",
    "universal-hash",
];

#[test]
fn no_crate_comes_in_two_versions_without_a_reason() {
    let metadata = metadata();
    let mut versions = BTreeMap::<&str, BTreeSet<&str>>::new();
    for package in used(&metadata) {
        versions.entry(package["name"].as_str().unwrap()).or_default().insert(package["version"].as_str().unwrap());
    }
    let twice: BTreeSet<_> =
        versions.iter().filter(|(_, versions)| versions.len() > 1).map(|(name, _)| *name).collect();
    let excused: BTreeSet<_> = TWICE.iter().map(|(name, _)| *name).chain(CIPHERS).collect();
    assert_eq!(twice, excused, "{versions:?}");
}

#[test]
fn each_direct_dependency_is_told_of() {
    let metadata = metadata();
    let page = include_str!("../../../../docs/dependencies.md");
    for package in metadata["packages"].as_array().unwrap() {
        if !package["name"].as_str().unwrap().starts_with("cavrith") {
            continue;
        }
        for dependency in package["dependencies"].as_array().unwrap() {
            let name = dependency["name"].as_str().unwrap();
            assert!(name.starts_with("cavrith") || page.contains(name), "docs/dependencies.md does not name {name}");
        }
    }
}
