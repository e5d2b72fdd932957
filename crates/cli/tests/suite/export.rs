use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::process::Command;

use sha2::{Digest as _, Sha256};

use crate::owners::Member;
use crate::team::Team;

fn json(path: &Path) -> serde_json::Value {
    serde_json::from_slice(&fs::read(path).unwrap()).unwrap()
}

/// Where a layout has the blob of a descriptor, whose digest and length have to be right.
fn blob(layout: &Path, descriptor: &serde_json::Value) -> PathBuf {
    let digest = descriptor["digest"].as_str().unwrap().strip_prefix("sha256:").unwrap();
    let path = layout.join("blobs/sha256").join(digest);
    let bytes = fs::read(&path).unwrap();
    assert_eq!(Sha256::digest(&bytes).iter().map(|byte| format!("{byte:02x}")).collect::<String>(), digest);
    assert_eq!(descriptor["size"], bytes.len());
    path
}

fn tar(arguments: &[&str], archive: &Path, dir: &Path) {
    let status = Command::new("tar").args(arguments).arg("-f").arg(archive).arg("-C").arg(dir).status().unwrap();
    assert!(status.success(), "{}", archive.display());
}

/// What a folder holds: kind, mode, owner, time, and content or target of everything.
fn listing(dir: &Path) -> BTreeMap<PathBuf, String> {
    let mut found = BTreeMap::new();
    let mut open = vec![dir.to_owned()];
    while let Some(at) = open.pop() {
        let meta = fs::symlink_metadata(&at).unwrap();
        let content = if meta.is_dir() {
            open.extend(fs::read_dir(&at).unwrap().map(|entry| entry.unwrap().path()));
            String::new()
        } else if meta.is_symlink() {
            fs::read_link(&at).unwrap().display().to_string()
        } else {
            format!("{} {}", meta.nlink(), blake(&at))
        };
        let says = format!("{:o} {}:{} {} {content}", meta.mode(), meta.uid(), meta.gid(), meta.mtime());
        found.insert(at.strip_prefix(dir).unwrap().to_owned(), says);
    }
    found
}

fn blake(path: &Path) -> String {
    Sha256::digest(fs::read(path).unwrap_or_default()).iter().take(8).map(|byte| format!("{byte:02x}")).collect()
}

/// Steps that take away, replace and hide what lies beneath.
fn eventful(team: &Team) {
    team.step("mkdir -p /srv/old/deep; echo 1 > /srv/old/deep/a; echo 2 > /srv/gone; ln /srv/gone /srv/other; echo 3 > /srv/becomes");
    team.step("rm -r /srv/old; mkdir -p /srv/old; echo 4 > /srv/old/new; rm /srv/gone; rm /srv/becomes; mkdir /srv/becomes; echo 5 > /srv/becomes/inner; chmod 4750 /srv/other");
}

/// Another program unpacks the layers in their order, and has what the whole archive has; and it runs.
#[test]
fn an_image_is_unpacked_in_order_by_tar_and_runs() {
    if !nix::unistd::Uid::effective().is_root() {
        // Owners of all numbers are for root only.
        return;
    }
    let team = Team::locked();
    eventful(&team);
    team.ok(&["lock"]);
    let out = team.dir.path().join("out");
    fs::create_dir(&out).unwrap();
    let layout = out.join("image");
    let answer = team.json(&["export", "oci", layout.to_str().unwrap(), "--json"]);
    assert_eq!(json(&layout.join("oci-layout")), serde_json::json!({ "imageLayoutVersion": "1.0.0" }));
    let index = json(&layout.join("index.json"));
    let entry = &index["manifests"][0];
    assert_eq!(entry["annotations"]["org.opencontainers.image.ref.name"], "timetable");
    assert_eq!(entry["platform"]["os"], "linux");
    assert_eq!(entry["digest"], answer["manifest"]);
    let manifest = json(&blob(&layout, entry));
    let config = json(&blob(&layout, &manifest["config"]));
    let layers = manifest["layers"].as_array().unwrap();
    let diffs = config["rootfs"]["diff_ids"].as_array().unwrap();
    assert_eq!(layers.len(), diffs.len());
    assert_eq!(config["history"].as_array().unwrap().len(), layers.len());
    assert_eq!(config["config"]["User"], "1000:1000");
    assert_eq!(config["config"]["ExposedPorts"], serde_json::json!({ "8080/tcp": {} }));
    assert!(config["config"]["Env"].as_array().unwrap().iter().any(|one| one == "HOME=/home/crew"));
    let root = out.join("root");
    fs::create_dir(&root).unwrap();
    for (layer, diff) in layers.iter().zip(diffs) {
        let packed = blob(&layout, layer);
        let plain = Command::new("gzip").arg("-dc").arg(&packed).output().unwrap().stdout;
        let digest: String = Sha256::digest(&plain).iter().map(|byte| format!("{byte:02x}")).collect();
        assert_eq!(*diff, format!("sha256:{digest}"));
        // What a layer deletes goes first, as whoever lays layers over each other does it.
        let names = Command::new("tar").arg("-tzf").arg(&packed).output().unwrap().stdout;
        for name in String::from_utf8(names).unwrap().lines() {
            let path = root.join(name);
            let (Some(last), Some(parent)) = (path.file_name().and_then(|name| name.to_str()), path.parent()) else {
                continue;
            };
            if last == ".wh..wh..opq" {
                fs::remove_dir_all(parent).unwrap();
                fs::create_dir(parent).unwrap();
            } else if let Some(hidden) = last.strip_prefix(".wh.") {
                let hidden = parent.join(hidden);
                let removed = if hidden.is_dir() { fs::remove_dir_all(&hidden) } else { fs::remove_file(&hidden) };
                removed.unwrap();
            }
        }
        tar(&["-xz", "--numeric-owner", "-p", "--exclude=.wh.*"], &packed, &root);
    }
    let whole = out.join("root.tar.zst");
    team.ok(&["export", "root", whole.to_str().unwrap()]);
    let at_once = out.join("at-once");
    fs::create_dir(&at_once).unwrap();
    let mut plain = out.join("root.tar");
    team.ok(&["export", "root", plain.to_str().unwrap(), "-q"]);
    assert_eq!(zstd::decode_all(fs::File::open(&whole).unwrap()).unwrap(), fs::read(&plain).unwrap());
    tar(&["-x", "--numeric-owner", "-p"], &plain, &at_once);
    let (in_order, at_once_listed) = (listing(&root), listing(&at_once));
    let differing: Vec<_> = at_once_listed.iter().filter(|(path, says)| in_order.get(*path) != Some(says)).collect();
    assert!(differing.is_empty(), "{differing:?}");
    assert_eq!(in_order.len(), at_once_listed.len());
    assert!(in_order.contains_key(Path::new("srv/becomes/inner")) && !in_order.contains_key(Path::new("srv/gone")));
    let output =
        Command::new("chroot").arg(&root).args(["/bin/sh", "-c", "cat /srv/old/new; busybox | head -1"]).output();
    assert!(String::from_utf8(output.unwrap().stdout).unwrap().starts_with("4\nBusyBox"));

    // The same to the last byte: again, as an archive, through a pipe, and with the layers compressed otherwise.
    plain = out.join("again.tar");
    team.ok(&["export", "oci", plain.to_str().unwrap()]);
    let piped = team.run(&["export", "oci", "-"]);
    assert!(piped.status.success() && piped.stdout == fs::read(&plain).unwrap());
    let unpacked = out.join("unpacked");
    fs::create_dir(&unpacked).unwrap();
    tar(&["-x"], &plain, &unpacked);
    assert_eq!(json(&unpacked.join("index.json")), index);
    team.ok(&["export", "oci", layout.to_str().unwrap(), "--compress", "zstd"]);
    let index = json(&layout.join("index.json"));
    let entries = index["manifests"].as_array().unwrap();
    assert_eq!(entries.len(), 1, "the image of the same name for the same platform is replaced");
    let manifest = json(&blob(&layout, &entries[0]));
    assert_eq!(manifest["layers"][0]["mediaType"], "application/vnd.oci.image.layer.v1.tar+zstd");
    team.assert_clean();
}

/// A member without a range of numbers writes the same bytes as root.
#[test]
fn every_kind_of_member_writes_the_same_bytes() {
    let team = Team::locked();
    eventful(&team);
    team.step("touch /srv/a; chown 105:106 /srv/a; mkfifo /srv/pipe; chown 7:8 /srv/pipe; chmod 2755 /srv/old");
    team.ok(&["lock"]);
    let by = |run: &dyn Fn(&[&str]) -> std::process::Output| {
        let output = run(&["export", "oci", "-"]);
        assert!(output.status.success(), "{}", crate::team::told(&output));
        let root = run(&["export", "root", "-"]);
        assert!(root.status.success(), "{}", crate::team::told(&root));
        (Sha256::digest(&output.stdout), Sha256::digest(&root.stdout))
    };
    let ours = by(&|arguments| team.run(arguments));
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    for range in [true, false] {
        let member = Member::of(&team, range);
        assert_eq!(by(&|arguments| member.command(arguments).output().unwrap()), ours, "range: {range}");
        fs::remove_dir_all(team.dir.path().join("tove")).unwrap();
        fs::remove_dir_all(team.dir.path().join("etc")).unwrap();
    }
}

#[test]
fn nothing_is_overwritten_and_nothing_half_written_is_left() {
    let team = Team::locked();
    let out = team.dir.path().join("letters");
    fs::create_dir(&out).unwrap();
    fs::write(out.join("dear.txt"), "dear harbour").unwrap();
    let path = out.to_str().unwrap();
    let told = team.fails(&["export", "oci", path], 2);
    assert!(told.contains("failed[CF0801]") && told.contains("is there already, and is not an image layout"), "{told}");
    assert_eq!(fs::read_dir(&out).unwrap().count(), 1);
    let told = team.fails(&["export", "root", path], 2);
    assert!(told.contains("is there already, and is not an archive that could be replaced"), "{told}");
    let told = team.fails(&["export", "root", "/no/such/place.tar"], 3);
    assert!(told.contains("o such file"), "{told}");
    // A reader that goes away, and a full disk.
    let mut child = team.command(&["export", "root", "-"]).stdout(std::process::Stdio::piped()).spawn().unwrap();
    drop(child.stdout.take());
    assert!(!child.wait().unwrap().success());
    let output = Command::new("sh")
        .args(["-c", "exec \"$0\" export root - > /dev/full"])
        .arg(crate::team::PROGRAM)
        .current_dir(team.project())
        .env("CAVRITH_HOME", team.home())
        .output()
        .unwrap();
    let told = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.code() == Some(3) && told.contains("the disk is full"), "{told}");
    // A name that would delete something in another program's hands.
    team.step("touch /srv/.wh.tide");
    team.ok(&["lock"]);
    let told = team.fails(&["export", "oci", team.dir.path().join("x").to_str().unwrap()], 1);
    assert!(told.contains("/srv/.wh.tide") && told.contains("rename it"), "{told}");
    team.assert_clean();
}
