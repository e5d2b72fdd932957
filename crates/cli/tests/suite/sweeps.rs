//! Many changes at once, chosen by a seed: verify names exactly those, whatever they are, for the three kinds of
//! member.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use serde_json::Value;

use crate::mutations::{Desk, Kind, copy, remove, rewrite, set};

/// Changes for each kind of member; more than 200 for all three.
const MANY: usize = 70;
/// Another one is chosen with `CAVRITH_SEED`.
const SEED: u64 = 20_261_126;

/// A generator of numbers that anybody can follow: splitmix64.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, limit: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        usize::try_from((mixed ^ (mixed >> 31)) % limit as u64).unwrap()
    }
}

/// Every file and link of the layers, with the root of its layer.
fn entries(layers: &Path) -> Vec<(PathBuf, PathBuf)> {
    fn beneath(root: &Path, dir: &Path, found: &mut Vec<(PathBuf, PathBuf)>) {
        for entry in fs::read_dir(dir).unwrap() {
            let path = entry.unwrap().path();
            let kind = path.symlink_metadata().unwrap().file_type();
            if kind.is_dir() {
                beneath(root, &path, found);
            } else if kind.is_file() || kind.is_symlink() {
                found.push((root.to_owned(), path.strip_prefix(root).unwrap().to_owned()));
            }
        }
    }
    let mut found = Vec::new();
    for layer in fs::read_dir(layers).unwrap() {
        let root = layer.unwrap().path().join("root");
        beneath(&root, &root, &mut found);
    }
    found.sort();
    found
}

/// Does something to a file or link, and gives what has to be said of it: a word of the difference.
fn change(path: &Path, numbers: &mut Numbers) -> &'static str {
    let meta = path.symlink_metadata().unwrap();
    if meta.file_type().is_symlink() {
        fs::remove_file(path).unwrap();
        return match numbers.below(4) {
            0 => {
                symlink("/nowhere/else", path).unwrap();
                "target"
            }
            1 => {
                fs::write(path, "text").unwrap();
                "kind"
            }
            2 => {
                fs::create_dir(path).unwrap();
                "kind"
            }
            _ => "to be there",
        };
    }
    match numbers.below(9) {
        0 if meta.len() > 0 => {
            let at = numbers.below(usize::try_from(meta.len()).unwrap());
            rewrite(path.to_owned(), |mut bytes| {
                bytes[at] ^= 1 << (at % 8);
                bytes
            });
            "content"
        }
        0 | 1 => {
            rewrite(path.to_owned(), |mut bytes| {
                bytes.extend(b"more");
                bytes
            });
            "size"
        }
        2 => {
            let mode = meta.permissions().mode() ^ [0o100, 0o020, 0o4000, 0o002][numbers.below(4)];
            fs::set_permissions(path, fs::Permissions::from_mode(mode & 0o7777)).unwrap();
            "mode"
        }
        3 => {
            let time = SystemTime::UNIX_EPOCH + Duration::from_secs(1 + numbers.below(900_000_000) as u64);
            File::open(path).unwrap().set_modified(time).unwrap();
            "time"
        }
        4 => {
            set(path.to_owned(), "user.somebody", b"was here");
            "attributes"
        }
        5 => {
            fs::remove_file(path).unwrap();
            symlink("/etc/passwd", path).unwrap();
            "kind"
        }
        6 => {
            fs::remove_file(path).unwrap();
            fs::create_dir(path).unwrap();
            "kind"
        }
        7 => {
            rewrite(path.to_owned(), |_| b"something else".to_vec());
            "content"
        }
        _ => {
            fs::remove_file(path).unwrap();
            "to be there"
        }
    }
}

fn sweep(kind: Kind) {
    let desk = Desk::new(kind);
    let seed = std::env::var("CAVRITH_SEED").ok().and_then(|text| text.parse().ok()).unwrap_or(SEED);
    let mut numbers = Numbers(seed ^ kind as u64);
    let layers = desk.home().join("store/layers");
    let aside = desk.team.dir.path().join("layers-aside");
    copy(&layers, &aside);
    let mut open = entries(&layers);
    // A path that two layers have is told once, and a name of a file with several is one of them.
    let mut counted: BTreeMap<PathBuf, usize> = BTreeMap::new();
    for (_, path) in &open {
        *counted.entry(path.clone()).or_default() += 1;
    }
    open.retain(|(_, path)| counted[path] == 1);
    let mut expected: BTreeMap<String, &str> = BTreeMap::new();
    for number in 0..MANY {
        let (root, path) = open.remove(numbers.below(open.len()));
        let beside = root.join(&path).with_file_name(format!("extra-{number}"));
        if numbers.below(10) == 0 {
            fs::write(&beside, "new").unwrap();
            expected.insert(format!("/{}", beside.strip_prefix(&root).unwrap().display()), "nobody put there");
        } else {
            expected.insert(format!("/{}", path.display()), change(&root.join(&path), &mut numbers));
        }
    }
    let output = desk.run(&["verify", "--json"]);
    let verdict: Value = serde_json::from_slice(&output.stdout).unwrap();
    let image = verdict["aspects"].as_array().unwrap().iter().find(|aspect| aspect["name"] == "image").unwrap();
    let differences = image["differences"].as_array().unwrap();
    let told: BTreeSet<_> = differences.iter().map(|one| one["what"].as_str().unwrap().to_owned()).collect();
    let done: BTreeSet<_> = expected.keys().cloned().collect();
    assert_eq!(told, done, "{kind:?}, with CAVRITH_SEED={seed}");
    for difference in differences {
        let (what, words) = (difference["what"].as_str().unwrap(), difference.to_string());
        assert!(words.contains(expected[what]), "{kind:?}, with CAVRITH_SEED={seed}: {} of {words}", expected[what]);
    }
    // A quick look finds the same ones.
    let quick: Value = serde_json::from_slice(&desk.run(&["verify", "--quick", "--json"]).stdout).unwrap();
    let image = quick["aspects"].as_array().unwrap().iter().find(|aspect| aspect["name"] == "image").unwrap();
    assert_eq!(image["differences"].as_array().unwrap().len(), differences.len());
    remove(&layers);
    copy(&aside, &layers);
    assert_eq!(desk.run(&["verify", "-q"]).status.code(), Some(0), "{kind:?}: put back, it is the same");
}

#[test]
fn seventy_changes_at_once_are_told_exactly_for_root() {
    sweep(Kind::Root);
}

#[test]
fn seventy_changes_at_once_are_told_exactly_for_a_member_with_a_range() {
    sweep(Kind::Range);
}

#[test]
fn seventy_changes_at_once_are_told_exactly_for_a_member_with_a_single_id() {
    sweep(Kind::Single);
}
