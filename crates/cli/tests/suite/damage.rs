//! One byte that changed, in each kind of file: found, named, and healed where the source is there.

use std::fs;
use std::path::{Path, PathBuf};

use crate::server::Server;
use crate::team::Team;

/// Changes one byte in the middle of a file.
fn flip(path: &Path) {
    let mut bytes = fs::read(path).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(path, bytes).unwrap();
}

fn only(dir: PathBuf) -> PathBuf {
    let mut files = fs::read_dir(&dir).unwrap().map(|entry| entry.unwrap().path());
    files.find(|path| path.is_file()).unwrap_or_else(|| panic!("{} is empty", dir.display()))
}

#[test]
fn a_layer_s_file_and_its_list() {
    let team = Team::sealed();
    for (path, named) in [
        ("opt/quill/2.4.1/bin/quill", "layer toolchain quill 2.4.1: its content changed"),
        ("bin/busybox", "layer base busybox-static: its content changed"),
    ] {
        flip(&team.in_store(path));
        assert!(team.fails(&["verify"], 1).contains(&format!("/{path}")));
        let told = team.fails(&["store", "check"], 1);
        assert!(told.contains(named) && told.contains(path), "{told}");
        let answer = team.json(&["store", "check", "--json"]);
        assert_eq!(answer["whole"], false);
        assert!(answer["damage"][0]["path"].as_str().unwrap().ends_with(path));
        assert!(team.ok(&["store", "repair"]).contains("mended"));
        assert!(team.ok(&["build"]).contains("1 layer made"));
        team.ok(&["verify"]);
    }
    let root = team.in_store("opt/quill");
    let list = root.ancestors().find(|path| path.ends_with("root")).unwrap().with_file_name("tree");
    flip(&list);
    let told = team.fails(&["store", "check"], 1);
    assert!(told.contains("layer toolchain quill 2.4.1: it is not what its name says"), "{told}");
    assert!(team.fails(&["verify"], 1).contains("the layer's list"));
    team.ok(&["store", "repair"]);
    team.ok(&["build"]);
    team.ok(&["verify"]);
    assert_eq!(team.ok(&["store", "check"]), "everything in the store is as it was made\n");
}

#[test]
fn records_in_the_store() {
    let team = Team::locked();
    let image = team.build();
    let store = team.home().join("store");
    flip(&only(store.join("images")));
    assert!(team.fails(&["store", "check"], 1).contains("it is not a record of an image"));
    // It is put together again from its layers.
    assert_eq!(team.build(), image);
    flip(&only(store.join("keys")));
    assert!(team.fails(&["store", "check"], 1).contains("record of a layer"));
    team.ok(&["build", "--fresh"]);
    team.ok(&["store", "check"]);
    fs::write(store.join("format"), "cavrith store 9\n").unwrap();
    assert!(team.fails(&["build"], 3).contains("is not a store of this version of Cavrith"));
}

#[test]
fn a_file_from_the_web() {
    let team = Team::new();
    let server = Server::new();
    let url = server.put("/tides.csv", "high,low,high,low\n");
    let path = team.project().join("cavrith.toml");
    let spec = fs::read_to_string(&path).unwrap();
    fs::write(path, format!("{spec}\n[[downloads]]\nname = \"tides\"\nurl = \"{url}\"\ninside = \"/srv/tides.csv\"\n"))
        .unwrap();
    team.ok(&["lock"]);
    let image = team.build();
    flip(&only(team.home().join("store/blobs")));
    assert!(team.fails(&["store", "check"], 1).contains("file from the web: its bytes are not those of its digest"));
    let told = team.fails(&["build", "--fresh"], 0);
    assert!(told.contains("tides.csv in the store is damaged and is fetched again"), "{told}");
    assert_eq!(team.build(), image);
    flip(&only(team.home().join("store/blobs")));
    team.ok(&["store", "repair"]);
    team.ok(&["store", "check"]);
}

#[test]
fn a_depot_s_archive_and_its_index() {
    let team = Team::locked();
    let depot = team.dir.path().join("depot");
    flip(&depot.join("toolchains/quill-2.4.1.tar.gz"));
    let told = team.fails(&["build"], 4);
    assert!(told.contains("quill-2.4.1.tar.gz is not what the lock pins"), "{told}");
    let told = team.fails(&["depot", "check", depot.to_str().unwrap()], 1);
    assert!(told.contains("damage  toolchains/quill-2.4.1.tar.gz is another file: expected "), "{told}");
    let index = depot.join("depot.toml");
    let text = fs::read_to_string(&index).unwrap();
    for (old, new) in [("sha256 = \"", "sha256 = \"g"), ("[[packages]]", "[[packages]"), ("size = ", "size = x")] {
        fs::write(&index, text.replacen(old, new, 1)).unwrap();
        let told = team.fails(&["check"], 1);
        assert!(told.contains("CV0201") && told.contains("depot.toml:"), "{told}");
    }
}

#[test]
fn every_line_of_the_lock_and_of_its_seal() {
    let team = Team::sealed();
    let path = team.project().join("cavrith.lock");
    let text = fs::read_to_string(&path).unwrap();
    for (number, line) in text.lines().enumerate() {
        if line.is_empty() || (line.starts_with('#') && !line.starts_with("# sum")) {
            continue;
        }
        let mut bytes = line.as_bytes().to_vec();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        let Ok(changed) = String::from_utf8(bytes) else { continue };
        let lines: Vec<_> =
            text.lines().enumerate().map(|(at, line)| if at == number { changed.as_str() } else { line }).collect();
        fs::write(&path, lines.join("\n") + "\n").unwrap();
        let told = team.fails(&["build"], 1);
        assert!(told.contains("the lock "), "line {number} {changed:?}: {told}");
        // Of what follows from a broken lock nothing else is reported.
        assert!(team.fails(&["check"], 1).contains("CV0212"), "line {number}");
    }
    fs::write(&path, text.replace('\n', "\r\n")).unwrap();
    team.ok(&["build"]);
}
