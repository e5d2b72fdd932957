//! Variants of one project: built, sealed, verified, started beside each other; what one takes from another, and a base
//! trimmed to what it needs.

use std::fs;

use crate::archive::{Archive, Package, project};
use crate::owners::Member;
use crate::team::{Team, told};

/// A team whose release takes what the main part's step made, and has neither the step nor the editor.
fn release() -> Team {
    let team = Team::new();
    team.add(
        r#"
[[steps]]
name     = "frame the harbour"
at       = "build"
run      = "mkdir -p /build/harbour/docks && echo pier > /build/harbour/plan && ln -s plan /build/harbour/map && echo raw > /build/harbour/docks/notes.draft && echo stone > /build/harbour/docks/quay && chmod 750 /build/harbour/docks/quay"
variants = ["main"]
[[steps]]
name     = "bring the harbour"
at       = "build"
copy     = { variant = "main", from = "/build/harbour", inside = "/srv/harbour", except = ["*.draft"], owner = "crew" }
variants = ["release"]
[variants.release]
without = ["editor", "env.SITE_PORT", "folders./code", "services.site"]
[variants.release.workspace]
project = ""
[variants.release.image]
command   = ["httpd", "-f"]
arguments = ["-p", "8080"]
directory = "/srv/harbour"
account   = "root"
ports     = ["8080"]
labels    = { "example.brindle.team" = "timetable" }
signal    = "INT"
"#,
    );
    team.ok(&["lock"]);
    team
}

#[test]
fn variants_share_one_lock_and_are_sealed_and_verified_together() {
    let team = release();
    let lock = fs::read_to_string(team.project().join("cavrith.lock")).unwrap();
    assert!(lock.contains("[[variants]]\nname = \"release\"\n"), "{lock}");
    assert_eq!(lock.matches("busybox-static").count(), 2, "what variants share stands once: {lock}");
    let said = team.ok(&["seal"]);
    assert!(said.contains("main:") && said.contains("release:"), "{said}");
    let main = team.json(&["build", "--json"]);
    let release = team.json(&["build", "--variant", "release", "--json"]);
    assert_ne!(main["image"], release["image"]);
    let trees = |built: &serde_json::Value| {
        let layers = built["layers"].as_array().unwrap().iter();
        layers.map(|layer| (layer["name"].as_str().unwrap().to_owned(), layer["tree"].clone())).collect::<Vec<_>>()
    };
    let base = |layers: Vec<(String, serde_json::Value)>| layers.into_iter().find(|(name, _)| name.starts_with("base"));
    assert_eq!(base(trees(&main)), base(trees(&release)), "the same base is one layer");
    for variant in ["main", "release"] {
        let said = team.ok(&["verify", "--variant", variant]);
        assert!(said.contains("the same as sealed"), "{said}");
    }
    // A change of the main part that the release takes from takes the release's seal with it; one beside it does not.
    team.change("echo pier", "echo mole");
    let said = team.fails(&["verify", "--variant", "release"], 1);
    assert!(said.contains("the spec's meaning"), "{said}");
    team.change("echo mole", "echo pier");
    team.change("owner = \"crew\"", "owner = \"root\"");
    team.ok(&["verify"]);
    team.fails(&["verify", "--variant", "release"], 1);
    team.assert_clean();
}

#[test]
fn what_another_variant_made_comes_without_what_made_it() {
    let team = release();
    let said = team.ok(&["build", "--variant", "release"]);
    assert!(said.contains("frame the harbour"), "the main part is built for it: {said}");
    let said = team.ok(&[
        "run",
        "-q",
        "--variant",
        "release",
        "--",
        "sh",
        "-c",
        "cd /srv/harbour; find . | sort; cat map; ls -ln docks/quay | cut -c1-30; echo port $SITE_PORT",
    ]);
    assert!(
        said.starts_with(".\n./docks\n./docks/quay\n./map\n./plan\npier\n-rwxr-x---    1 1000     1000 \n"),
        "{said}"
    );
    assert!(said.ends_with("port\n"), "{said}");
    let said = team.ok(&["run", "-q", "--variant", "release", "--", "sh", "-c", "ls -d /build /code 2>/dev/null; pwd"]);
    assert_eq!(said, "/home/crew\n", "no project folder, nothing of the main part");
    // Asked for again, nothing is built, the main part neither.
    assert!(team.ok(&["build", "--variant", "release"]).contains("nothing to do"));
    // Only what it takes from changed: the copy is made again, and comes out the same.
    let before = team.json(&["build", "--variant", "release", "--json"]);
    team.change("echo raw", "echo rough").ok(&["lock"]);
    let after = team.json(&["build", "--variant", "release", "--json"]);
    assert_eq!(before["image"], after["image"]);
    // What is not there is named.
    team.change("from = \"/build/harbour\"", "from = \"/build/harbor\"").ok(&["lock"]);
    let said = team.fails(&["build", "--variant", "release"], 1);
    assert!(said.contains("/build/harbor") && said.contains("in the variant main"), "{said}");
}

#[test]
fn two_variants_run_beside_each_other() {
    let team = release();
    team.ok(&["start"]);
    team.ok(&["start", "--variant", "release"]);
    let all = team.json(&["list", "--json"]);
    let names: Vec<_> = all["workspaces"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["timetable", "timetable-release"]);
    team.ok(&["run", "--", "sh", "-c", "echo mine > ~/note"]);
    let said = team.ok(&["run", "-q", "--name", "timetable-release", "--", "sh", "-c", "ls ~; ls /srv/harbour"]);
    assert_eq!(said, "docks\nmap\nplan\n");
    // By its name or by its variant, it is held against its own variant.
    for which in [["--variant", "release"], ["--name", "timetable-release"]] {
        let status = team.json(&[&["status", "--json"][..], &which].concat());
        assert_eq!(status["pending"]["changes"], serde_json::json!([]), "{status}");
    }
    team.ok(&["stop", "--variant", "release"]);
    team.ok(&["drop", "--yes", "--variant", "release"]);
    let all = team.json(&["list", "--json"]);
    assert_eq!(all["workspaces"].as_array().unwrap().len(), 1, "{all}");
    team.stop_all();
    team.assert_clean();
}

#[test]
fn a_variant_goes_out_as_its_spec_says() {
    let team = release();
    let layout = team.home().join("../out");
    for variant in ["main", "release"] {
        team.ok(&["export", "oci", "--variant", variant, layout.to_str().unwrap()]);
    }
    let read = |digest: &str| -> serde_json::Value {
        let path = layout.join("blobs/sha256").join(digest.trim_start_matches("sha256:"));
        serde_json::from_slice(&fs::read(path).unwrap()).unwrap()
    };
    let index: serde_json::Value = serde_json::from_slice(&fs::read(layout.join("index.json")).unwrap()).unwrap();
    let manifests = index["manifests"].as_array().unwrap();
    assert_eq!(manifests.len(), 2, "{index}");
    let named = |name: &str| {
        let one = manifests.iter().find(|one| one["annotations"]["org.opencontainers.image.ref.name"] == name).unwrap();
        read(read(one["digest"].as_str().unwrap())["config"]["digest"].as_str().unwrap())
    };
    let config = &named("timetable-release")["config"];
    assert_eq!(config["Entrypoint"], serde_json::json!(["httpd", "-f"]));
    assert_eq!(config["Cmd"], serde_json::json!(["-p", "8080"]));
    assert_eq!(config["WorkingDir"], "/srv/harbour");
    assert_eq!(config["User"], "root");
    assert_eq!(config["StopSignal"], "SIGINT");
    assert_eq!(config["ExposedPorts"], serde_json::json!({ "8080/tcp": {} }));
    assert_eq!(config["Labels"]["example.brindle.team"], "timetable");
    assert!(named("timetable")["config"].get("Entrypoint").is_none());
}

#[test]
fn variants_with_other_packages_stand_in_one_lock_and_keep_their_versions() {
    let (team, mut archive) = belfry();
    team.change("keep = [\"bell\"]", "packages = [\"rope\"]");
    team.ok(&["lock"]);
    let read = || fs::read_to_string(team.project().join("cavrith.lock")).unwrap();
    let lock = read();
    assert!(lock.contains("[variants.debian]") && lock.contains("[[variants.debian.stages]]"), "{lock}");
    assert_eq!(lock.matches("rope = \"1.2 ").count(), 2, "{lock}");
    let said = team.ok(&["seal"]);
    assert!(said.contains("main:") && said.contains("release:"), "{said}");
    // The archive moves on. What is locked stays: also when another variant becomes the default one.
    archive.packages.retain(|package| package.name != "rope");
    archive.packages.push(Package::new("rope", "1.3", "").file("usr/share/rope", 0o644, "nylon\n"));
    archive.publish(&team);
    team.change("name = \"pier\"", "name = \"pier\"\nvariant = \"release\"");
    team.ok(&["lock"]);
    let lock = read();
    assert!(lock.contains("variant = \"release\"") && !lock.contains("[[variants]]"), "{lock}");
    assert_eq!(lock.matches("rope = \"1.2 ").count(), 1, "{lock}");
    assert!(!lock.contains("bell = "), "{lock}");
    let moved = team.ok(&["lock", "--update"]);
    assert!(moved.contains("rope") && moved.contains("1.3"), "{moved}");
    team.assert_clean();
}

#[test]
fn every_kind_of_member_has_the_same_variants_and_packs_the_same_parcel() {
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    let team = release();
    team.ok(&["seal"]);
    let parcel = |run: &dyn Fn(&[&str]) -> std::process::Output, at: &std::path::Path| {
        for variant in ["main", "release"] {
            let output = run(&["build", "--variant", variant, "-q"]);
            assert!(output.status.success(), "{}", told(&output));
            let output = run(&["verify", "--variant", variant]);
            assert!(output.status.success() && told(&output).contains("the same as sealed"), "{}", told(&output));
        }
        let output = run(&["pack", at.to_str().unwrap(), "--all-variants", "-q"]);
        assert!(output.status.success(), "{}", told(&output));
        fs::read(at).unwrap()
    };
    let ours = parcel(&|arguments| team.run(arguments), &team.dir.path().join("ours.parcel"));
    for range in [true, false] {
        let member = Member::of(&team, range);
        let theirs = parcel(
            &|arguments| member.command(arguments).output().unwrap(),
            &team.dir.path().join("tove/theirs.parcel"),
        );
        assert_eq!(theirs, ours, "range: {range}");
        fs::remove_dir_all(team.dir.path().join("tove")).unwrap();
        fs::remove_dir_all(team.dir.path().join("etc")).unwrap();
    }
}

#[test]
fn a_copy_from_beside_the_project_takes_the_member_s_word() {
    let team = Team::new();
    let shared = team.dir.path().join("ida/shared");
    fs::create_dir(&shared).unwrap();
    fs::write(shared.join("tides"), "low\n").unwrap();
    team.add(
        "\n[[steps]]\nname = \"tides\"\nat = \"build\"\ncopy = { from = \"../shared\", inside = \"/srv/tides\" }\n",
    );
    let said = team.fails(&["lock"], 2);
    assert!(said.contains("lies outside the project") && said.contains("--allow-outside"), "{said}");
    team.ok(&["lock", "--allow-outside", shared.to_str().unwrap()]);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/srv/tides/tides"]), "low\n");
    // A way out of what was allowed is one more thing to allow.
    team.stop_all();
    team.change("from = \"../shared\"", "from = \"../../depot\"");
    let said = team.fails(&["lock"], 2);
    assert!(said.contains("lies outside the project"), "{said}");
    team.change("from = \"../../depot\"", "from = \"../../../../../etc\"");
    let said = team.fails(&["lock"], 1);
    assert!(said.contains("no spec gets") || said.contains("the system's own"), "{said}");
}

#[test]
fn what_is_for_all_variants_takes_none() {
    let team = release();
    for command in ["lock", "seal"] {
        let said = team.fails(&[command, "--variant", "release"], 2);
        assert!(said.contains("for all variants at once"), "{said}");
    }
    for command in [&["build"][..], &["start"], &["verify"], &["contents"], &["show"], &["check"], &["run", "true"]] {
        let said = team.fails(&[&["--variant", "relaese"][..], command].concat(), 2);
        assert!(said.contains("CF0109") && said.contains("main, release"), "{command:?}: {said}");
    }
    // A lock from before the variant was declared says what to do.
    team.add("\n[variants.slim]\n");
    let said = team.fails(&["build", "--variant", "slim"], 1);
    assert!(said.contains("variant slim") && said.contains("cavrith lock"), "{said}");
    team.ok(&["build"]);
    let shown = team.ok(&["show", "--variant", "release"]);
    assert!(shown.contains("workspace.project = \"\"") && !shown.contains("editor."), "{shown}");
}

/// A team whose base has a bell that needs a rope, a lamp that nothing needs, and a shell.
fn belfry() -> (Team, Archive) {
    let team = Team::new();
    let mut archive = Archive::new(&team);
    let bell = Package::new("bell", "1.0-1", "Depends: rope (>= 1) | twine, debconf\n")
        .file("usr/bin/bell", 0o755, "rings\n")
        .file("usr/share/doc/bell/copyright", 0o644, "Ida's\n")
        .file("usr/share/doc/bell/README", 0o644, "Ring it.\n")
        .file("usr/share/man/man1/bell.1", 0o644, "ring\n")
        .file("var/lib/belfry/log/", 0o755, "")
        .script("postinst", "echo made > /var/lib/belfry/log/first; mkdir -p /etc/alternatives; ln -s /usr/bin/bell /etc/alternatives/ring; ln -s /etc/alternatives/ring /usr/bin/ring");
    archive.packages.push(bell);
    archive.packages.push(Package::new("rope", "1.2", "").file("usr/share/rope", 0o644, "hemp\n"));
    archive.packages.push(Package::new("debconf", "3", "").file("usr/bin/ask", 0o755, "ask\n"));
    archive.packages.push(Package::new("lamp", "2", "").file("usr/bin/lamp", 0o755, "light\n"));
    archive.publish(&team);
    project(&team, "\"bell\", \"lamp\"");
    team.add("\n[variants.release.base]\nkeep = [\"bell\"]\n[variants.release.workspace]\nproject = \"\"\n");
    team.ok(&["lock"]);
    (team, archive)
}

#[test]
fn a_trimmed_base_has_what_its_packages_need_and_says_why() {
    let (team, _archive) = belfry();
    let said = team.ok(&["seal"]);
    assert!(said.contains("release:"), "{said}");
    let said = team.ok(&["verify", "--variant", "release"]);
    assert!(said.contains("the same as sealed") && said.contains("2 packages"), "{said}");
    let out = team.home().join("../root.tar");
    team.ok(&["export", "root", "--variant", "release", out.to_str().unwrap()]);
    let mut archive = tar::Archive::new(fs::File::open(&out).unwrap());
    let paths: Vec<_> = archive
        .entries()
        .unwrap()
        .map(|entry| entry.unwrap().path().unwrap().to_string_lossy().trim_end_matches('/').to_owned())
        .collect();
    for there in [
        "usr/bin/bell",
        "usr/bin/ring",
        "etc/alternatives/ring",
        "usr/share/rope",
        "var/lib/belfry/log/first",
        "usr/share/doc/bell/copyright",
        "etc/passwd",
        "tmp",
        "home/crew",
        "var/lib/dpkg/status",
    ] {
        assert!(paths.iter().any(|path| path == there), "{there} stays: {paths:?}");
    }
    for gone in [
        "usr/bin/lamp",
        "usr/bin/ask",
        "usr/bin/sh",
        "usr/bin/dpkg",
        "usr/share/doc/bell/README",
        "usr/share/man/man1/bell.1",
        "var/lib/dpkg/info",
    ] {
        assert!(!paths.iter().any(|path| path == gone), "{gone} goes: {paths:?}");
    }
    let bill = team.ok(&["contents", "--variant", "release"]);
    assert!(bill.contains("bell") && bill.contains("rope") && !bill.contains("lamp"), "{bill}");
    let why = team.ok(&["contents", "--variant", "release", "--why", "/usr/bin/ring"]);
    assert!(why.contains("a link to /etc/alternatives/ring"), "{why}");
    let why = team.fails(&["contents", "--variant", "release", "--why", "/usr/bin/lamp"], 1);
    assert!(why.contains("the package lamp") && why.contains("left out"), "{why}");
    let why = team.ok(&["contents", "--why", "/usr/bin/lamp"]);
    assert!(why.contains("the package lamp"), "{why}");
    // It has no shell, and says so where one is wanted.
    let said = team.fails(&["run", "--variant", "release", "--", "sh"], 127);
    assert!(said.contains("there is no such program inside"), "{said}");
    team.stop_all();
    // A package that the base does not have.
    team.change("keep = [\"bell\"]", "keep = [\"bell\", \"gong\"]").ok(&["lock"]);
    let said = team.fails(&["build", "--variant", "release"], 1);
    assert!(said.contains("base.keep names gong"), "{said}");
    team.assert_clean();
}

#[test]
fn a_copy_leaves_out_what_git_ignores() {
    let team = Team::new();
    let site = team.project().join("site");
    fs::create_dir_all(site.join("deep/node_modules")).unwrap();
    for name in [".env", "index.html", "deep/kept.log", "deep/other.log", "deep/node_modules/big", "a.draft", "top.log"]
    {
        fs::write(site.join(name), name).unwrap();
    }
    fs::write(team.project().join(".gitignore"), "node_modules/\n.env\n*.log\n").unwrap();
    fs::write(site.join("deep/.gitignore"), "!kept.log\n").unwrap();
    team.add(
        r#"
[[steps]]
name = "bring"
at   = "build"
copy = { from = "site", inside = "/srv/site", except = ["*.draft", "!other.log"] }
[[steps]]
name = "bring all"
at   = "build"
copy = { from = "site", inside = "/srv/all", ignored = true }
"#,
    );
    team.ok(&["lock"]);
    let said = team.ok(&[
        "run",
        "-q",
        "--",
        "sh",
        "-c",
        "cd /srv/site; find . -type f | sort; cd /srv/all; find . -type f | sort",
    ]);
    assert_eq!(
        said,
        "./deep/.gitignore\n./deep/kept.log\n./deep/other.log\n./frame.html\n./index.html\n./.env\n./a.draft\n./deep/.gitignore\n./deep/kept.log\n./deep/node_modules/big\n./deep/other.log\n./index.html\n./top.log\n"
    );
    // What is ignored may change without the lock knowing of it; what is not may not.
    team.stop_all();
    fs::write(team.project().join(".gitignore"), "node_modules/\n.env\n").unwrap();
    let said = team.fails(&["build"], 1);
    assert!(said.contains("the files of the step \"bring\" changed"), "{said}");
}
