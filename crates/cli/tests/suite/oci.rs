//! Bases that are OCI images.

use std::fs;
use std::path::Path;

use serde_json::json;

use crate::archive::{gz, sha256, tar_of};
use crate::server::Server;
use crate::team::Team;

type Files = Vec<(String, u32, Vec<u8>)>;

fn file(path: &str, mode: u32, content: impl Into<Vec<u8>>) -> (String, u32, Vec<u8>) {
    (path.to_owned(), mode, content.into())
}

/// The layers of a small image: a root with a shell, and changes over it.
fn layers(team: &Team) -> Vec<Files> {
    team.ok(&["lock"]);
    team.build();
    let busybox = fs::read(team.in_store("bin/busybox")).unwrap();
    let mut root: Files =
        ["dev/", "etc/", "proc/", "root/", "run/", "sys/", "tmp/", "usr/", "usr/bin/", "srv/", "srv/old/", "srv/kept/"]
            .map(|path| file(path, 0o755, ""))
            .into();
    root.push(file("bin", 0o777, "->usr/bin"));
    root.push(file("usr/bin/busybox", 0o755, busybox));
    for name in ["sh", "cat", "ls", "find"] {
        root.push(file(&format!("usr/bin/{name}"), 0o777, "->busybox"));
    }
    root.push(file("srv/old/one", 0o644, "one\n"));
    root.push(file("srv/old/two", 0o644, "two\n"));
    root.push(file("srv/kept/three", 0o644, "three\n"));
    root.push(file("srv/kept/four", 0o644, "four\n"));
    root.push(file("srv/place", 0o777, "->kept"));
    let changes = vec![
        // A deletion, a directory emptied before it is filled again, a file behind a link, a link that becomes a
        // directory.
        file("srv/kept/.wh.four", 0o600, ""),
        file("srv/old/.wh..wh..opq", 0o600, ""),
        file("srv/old/five", 0o644, "five\n"),
        file("bin/tell", 0o755, "#!/bin/sh\necho the tide turns\n"),
        file("srv/place/", 0o755, ""),
        file("srv/place/six", 0o644, "six\n"),
        file("srv/.wh.nothing", 0o600, ""),
    ];
    vec![root, changes]
}

/// An image as its documents and blobs: the index's text, and each blob by its digest.
pub struct Image {
    index: Vec<u8>,
    pub blobs: Vec<(String, Vec<u8>)>,
    pub manifest: String,
}

fn image(layers: Vec<Files>) -> Image {
    let mut blobs = Vec::new();
    let mut keep = |bytes: Vec<u8>| {
        let (digest, size) = (sha256(&bytes), bytes.len());
        blobs.push((digest.clone(), bytes));
        (digest, size)
    };
    let mut described = Vec::new();
    for (number, layer) in layers.into_iter().enumerate() {
        let tar = tar_of(layer);
        let (bytes, kind) = match number {
            0 => (gz(&tar), "application/vnd.oci.image.layer.v1.tar+gzip"),
            _ => (zstd::encode_all(tar.as_slice(), 1).unwrap(), "application/vnd.oci.image.layer.v1.tar+zstd"),
        };
        let (digest, size) = keep(bytes);
        described.push(json!({ "mediaType": kind, "digest": format!("sha256:{digest}"), "size": size }));
    }
    let config = json!({
        "created": "2026-05-01T10:00:00Z", "architecture": "amd64", "os": "linux",
        "config": { "Env": ["PATH=/bin", "PIER=3"] },
        "rootfs": { "type": "layers", "diff_ids": [] },
    });
    let (config, config_size) = keep(config.to_string().into_bytes());
    let manifest = json!({
        "schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json",
        "config": { "mediaType": "application/vnd.oci.image.config.v1+json", "digest": format!("sha256:{config}"), "size": config_size },
        "layers": described,
    });
    let (manifest, size) = keep(manifest.to_string().into_bytes());
    let entry = |architecture: &str| {
        json!({
            "mediaType": "application/vnd.oci.image.manifest.v1+json", "digest": format!("sha256:{manifest}"), "size": size,
            "platform": { "os": "linux", "architecture": architecture },
            "annotations": { "org.opencontainers.image.ref.name": "2.1" },
        })
    };
    let index = json!({
        "schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json", "manifests": [entry("arm64"), entry("amd64")],
    });
    Image { index: index.to_string().into_bytes(), blobs, manifest }
}

impl Image {
    fn as_files(&self) -> Files {
        let mut files = vec![
            file("oci-layout", 0o644, "{\"imageLayoutVersion\": \"1.0.0\"}"),
            file("index.json", 0o644, self.index.clone()),
        ];
        files.extend(
            self.blobs.iter().map(|(digest, bytes)| file(&format!("blobs/sha256/{digest}"), 0o644, bytes.clone())),
        );
        files
    }

    fn lay(&self, dir: &Path) {
        fs::create_dir_all(dir.join("blobs/sha256")).unwrap();
        for (path, _, bytes) in self.as_files() {
            fs::write(dir.join(path), bytes).unwrap();
        }
    }

    fn serve(&self, server: &Server) {
        server.put("/v2/team/pier/manifests/2.1", self.index.clone());
        for (digest, bytes) in &self.blobs {
            let kind = if *digest == self.manifest { "manifests" } else { "blobs" };
            server.put(&format!("/v2/team/pier/{kind}/sha256:{digest}"), bytes.clone());
        }
    }
}

pub fn spec(team: &Team, origin: &str) {
    let text = format!("spec = 1\n[workspace]\nname = \"pier\"\n[base]\noci = {origin}\n");
    fs::write(team.project().join("cavrith.toml"), text).unwrap();
    let _ = fs::remove_file(team.project().join("cavrith.lock"));
}

pub fn started() -> (Team, Image) {
    let team = Team::new();
    let image = image(layers(&team));
    (team, image)
}

pub fn look(team: &Team) -> String {
    team.ok(&[
        "run",
        "--",
        "sh",
        "-c",
        "tell; cd /srv; find . -type f | while read name; do echo $name; done; ls -l place",
    ])
}

#[test]
fn a_layout_in_a_folder_in_an_archive_and_in_a_registry_is_the_same_image() {
    let (team, image) = started();
    image.lay(&team.project().join("images/pier"));
    spec(&team, "{ path = \"images/pier\" }");
    let said = crate::team::told(&team.run(&["lock"]));
    assert!(said.contains("was trusted at first sight") && said.contains("PIER=3"), "{said}");
    let fingerprint = team.build();
    let said = look(&team);
    assert!(said.starts_with("the tide turns\n"), "{said}");
    let mut found: Vec<_> = said.lines().filter(|line| line.starts_with("./")).collect();
    found.sort_unstable();
    assert_eq!(found, ["./kept/three", "./old/five", "./place/six"]);
    team.ok(&["seal"]);
    team.ok(&["verify"]);
    // As an archive of the layout.
    fs::write(team.project().join("pier.tar"), tar_of(image.as_files())).unwrap();
    spec(&team, "{ path = \"pier.tar\", tag = \"2.1\" }");
    team.ok(&["lock"]);
    assert_eq!(team.build(), fingerprint);
    // From a registry, into a new store.
    let server = Server::new();
    image.serve(&server);
    fs::remove_dir_all(team.home()).unwrap();
    spec(&team, &format!("\"{}/team/pier:2.1\"", server.url.trim_start_matches("http://")));
    team.ok(&["lock"]);
    assert_eq!(team.build(), fingerprint);
    // The tag moves on, and the lock does not.
    self::image(layers(&team)[..1].to_vec()).serve(&server);
    let shown = crate::team::told(&team.run(&["lock", "--outdated"]));
    assert!(shown.contains("team/pier:2.1") && shown.contains("by cavrith lock --update"), "{shown}");
    server.put("/v2/team/pier/manifests/2.1", "{}");
    team.ok(&["lock"]);
    team.ok(&["build", "--fresh"]);
    let depot = team.dir.path().join("own");
    team.ok(&["depot", "fill", depot.to_str().unwrap()]);
    let mut command = team.command(&["build", "--json"]);
    command
        .env("CAVRITH_HOME", team.dir.path().join("empty"))
        .env("CAVRITH_DEPOTS", &depot)
        .env("CAVRITH_OFFLINE", "1");
    let output = command.output().unwrap();
    let report: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(report["image"].as_str().unwrap(), fingerprint);
}

#[test]
fn a_registry_is_shown_who_we_are_when_it_asks() {
    let (team, image) = started();
    let server = Server::new();
    image.serve(&server);
    let host = server.url.trim_start_matches("http://").to_owned();
    spec(&team, &format!("\"{host}/team/pier:2.1\""));
    // tove:gull
    let basic = "Basic dG92ZTpndWxs";
    server.guard("/v2/", &format!("Bearer realm=\"{}/token\",service=\"pier\"", server.url), "Bearer sesame");
    server.guard("/token", "Basic realm=\"pier\"", basic);
    server.put("/token?scope=repository:team/pier:pull&service=pier", "{\"token\": \"sesame\"}");
    let said = team.fails(&["lock"], 4);
    assert!(said.contains("no token is given to a stranger"), "{said}");
    let config = |text: &str| {
        fs::create_dir_all(team.home()).unwrap();
        fs::write(team.home().join("config.toml"), format!("[registries.\"{host}\"]\nuser = \"tove\"\n{text}\n"))
            .unwrap();
    };
    config("password = \"wrong\"");
    assert!(team.fails(&["lock"], 4).contains("no token is given to tove"));
    config("password-command = [\"false\"]");
    assert!(team.fails(&["lock"], 4).contains("(password-command) failed"));
    config("password-command = [\"echo\", \"gull\"]");
    team.ok(&["lock"]);
    // Another command has to show it again.
    team.build();
    assert!(look(&team).starts_with("the tide turns\n"));
    let lock = fs::read_to_string(team.project().join("cavrith.lock")).unwrap();
    assert!(!lock.contains("gull") && !lock.contains("sesame"), "no secret is in a lock");
    // A registry that wants name and password themselves.
    let plain = Server::new();
    image.serve(&plain);
    plain.guard("/v2/", "Basic realm=\"pier\"", basic);
    let host = plain.url.trim_start_matches("http://").to_owned();
    spec(&team, &format!("\"{host}/team/pier:2.1\""));
    let said = team.fails(&["lock"], 4);
    assert!(said.contains("wants to know who we are"), "{said}");
    fs::write(
        team.home().join("config.toml"),
        format!("[registries.\"{host}\"]\nuser = \"tove\"\npassword = \"gull\"\n"),
    )
    .unwrap();
    team.ok(&["lock"]);
}

#[test]
fn what_is_wrong_with_an_image_is_said() {
    let (team, image) = started();
    let place = team.project().join("images/pier");
    image.lay(&place);
    for (origin, says) in [
        ("{ path = \"images/pier\", tag = \"3\" }", "it has no image \"3\"; it has 2.1"),
        (
            "{ path = \"images/pier\", platform = \"linux/riscv64\" }",
            "not there for linux/riscv64; it is there for linux/arm64, linux/amd64",
        ),
        (
            "{ path = \"images/pier\", platform = \"linux/arm64\" }",
            "it is for linux/amd64, and linux/arm64 is asked for",
        ),
    ] {
        spec(&team, origin);
        let said = team.fails(&["lock"], 4);
        assert!(said.contains(says), "{said}");
    }
    spec(&team, "{ path = \"images/pier\" }");
    fs::write(place.join("index.json"), "{\"manifests\": 3}").unwrap();
    assert!(team.fails(&["lock"], 4).contains("its index cannot be read"));
    fs::write(place.join("index.json"), "no").unwrap();
    assert!(team.fails(&["lock"], 4).contains("it is no JSON"));
    image.lay(&place);
    team.ok(&["lock"]);
    let (layer, bytes) = image.blobs[1].clone();
    let mut other = bytes.clone();
    other[20] ^= 1;
    fs::write(place.join("blobs/sha256").join(&layer), other).unwrap();
    let said = team.fails(&["build"], 4);
    assert!(said.contains("is not what the lock pins"), "{said}");
    team.assert_clean();
    fs::remove_file(place.join("blobs/sha256").join(&layer)).unwrap();
    assert!(team.fails(&["build"], 4).contains("cannot read"));
}

#[test]
fn layers_that_would_lead_out_or_bring_devices_are_refused() {
    let team = Team::new();
    let root = layers(&team).remove(0);
    for (bad, says) in [
        (vec![file("out", 0o777, "->/etc"), file("out/../../passwd", 0o644, "x")], "has a .. in it"),
        (vec![file("srv/.wh...", 0o600, "")], ".."),
        (vec![file("twice", 0o644, "a"), file("twice", 0o644, "b")], "is there twice"),
    ] {
        let place = team.project().join("images/pier");
        let _ = fs::remove_dir_all(&place);
        image(vec![root.clone(), bad]).lay(&place);
        spec(&team, "{ path = \"images/pier\" }");
        team.ok(&["lock"]);
        let said = team.fails(&["build"], 4);
        assert!(said.contains(says), "{said}");
        team.assert_clean();
    }
}
