//! Bases from a Debian archive.

use std::fs;

use crate::archive::{Archive, Package, project, stages, versions};
use crate::server::{Fault, Server};
use crate::team::Team;

/// An archive with a bell that needs a rope, and a lamp; a team whose base has the bell.
fn bell() -> (Team, Archive) {
    let team = Team::new();
    let mut archive = Archive::new(&team);
    let bell = Package::new("bell", "1.0-1", "Depends: rope (>= 1), libhemp | twine\nRecommends: clapper\n")
        .file("usr/bin/bell", 0o755, "#!/bin/sh\necho bell 1.0 rings\n")
        .file("etc/bell.conf", 0o644, "loud\n")
        .script("postinst", "echo configured > /var/lib/bell\ndate > /var/log/alternatives.log");
    archive.packages.push(bell);
    archive.packages.push(Package::new("rope", "1.2", "Provides: libhemp\n").file("usr/share/rope", 0o644, "hemp\n"));
    archive.packages.push(Package::new("lamp", "2", "").file("bin/lamp", 0o755, "#!/bin/sh\necho light\n"));
    archive.packages.push(Package::new("clapper", "1", "").file("usr/share/clapper", 0o644, "brass\n"));
    archive.publish(&team);
    project(&team, "\"bell\"");
    (team, archive)
}

#[test]
fn a_base_is_chosen_locked_built_and_comes_out_the_same_twice() {
    let (team, archive) = bell();
    team.ok(&["lock"]);
    assert_eq!(
        stages(&team),
        [vec!["base-files", "base-passwd", "busybox-static", "commands", "dpkg"], vec!["bell", "rope"]]
    );
    let lock = fs::read_to_string(team.project().join("cavrith.lock")).unwrap();
    assert!(!lock.contains("127.0.0.1"), "a lock names no mirror: {lock}");
    let image = team.build();
    let said =
        team.ok(&["run", "--", "sh", "-c", "bell; cat /var/lib/bell /etc/issue; ls -ln /etc/issue; ls /var/log"]);
    assert!(said.contains("bell 1.0 rings\nconfigured\nBrindle Ferry"), "{said}");
    assert!(said.contains(" 0        42 ") || said.contains("0 42"), "the owner that a script gave: {said}");
    assert!(!said.contains("dpkg.log"), "what tells of the time goes: {said}");
    let said = team.ok(&["seal"]);
    assert!(said.contains("came out the same twice"), "{said}");
    team.ok(&["verify"]);
    // Nothing is fetched for another build, and a new store needs nothing but what is locked.
    archive.server.requests();
    team.ok(&["build", "--fresh"]);
    assert_eq!(archive.server.requests(), Vec::<String>::new());
    assert_eq!(team.build(), image);
    team.assert_clean();
}

#[test]
fn one_more_package_leaves_the_layers_beneath_and_everyone_builds_by_the_same_stages() {
    let (team, _archive) = bell();
    team.ok(&["lock"]);
    team.build();
    project(&team, "\"bell\", \"lamp\"");
    let said = team.ok(&["lock"]);
    assert!(said.contains("package lamp"), "{said}");
    assert_eq!(stages(&team)[2], ["lamp"]);
    let report = team.json(&["build", "--json"]);
    let made: Vec<_> = report["work"].as_array().unwrap().iter().filter(|layer| layer["reused"] == false).collect();
    assert_eq!(made[0]["layer"], "base tide, lamp");
    assert!(!made.iter().any(|layer| layer["layer"].as_str().unwrap().contains("packages")), "{made:?}");
    assert_eq!(team.ok(&["run", "lamp"]), "light\n");
    // A member with an empty store makes the same stages.
    let other = team.dir.path().join("other");
    fs::create_dir(&other).unwrap();
    fs::copy(team.home().join("config.toml"), other.join("config.toml")).unwrap();
    let output = team.command(&["build", "--json"]).env("CAVRITH_HOME", &other).output().unwrap();
    let theirs: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(theirs["image"], report["image"]);
}

#[test]
fn what_is_locked_stays_until_it_is_updated() {
    let (team, mut archive) = bell();
    team.ok(&["lock"]);
    let rope = archive.packages.iter().position(|package| package.name == "rope").unwrap();
    archive.packages[rope] =
        Package::new("rope", "1.3", "Provides: libhemp\n").file("usr/share/rope", 0o644, "nylon\n");
    archive.publish(&team);
    assert!(team.ok(&["lock"]).contains("up to date"));
    let said = team.ok(&["lock", "--outdated"]);
    assert!(said.contains("package rope") && said.contains("1.3"), "{said}");
    // Another package is asked for; the mirror still has the file of the locked version, and only its index has moved
    // on.
    project(&team, "\"bell\", \"lamp\"");
    team.ok(&["lock"]);
    assert_eq!(versions(&team)["rope"], "1.2");
    let said = team.ok(&["lock", "--update", "rope"]);
    assert!(said.contains("1.2 → 1.3"), "{said}");
    assert_eq!(versions(&team)["rope"], "1.3");
    let said = team.fails(&["lock", "--update", "rop"], 2);
    assert!(said.contains("did you mean rope?"), "{said}");
}

#[test]
fn recommended_packages_come_when_they_are_asked_for() {
    let (team, _archive) = bell();
    team.change("extra = []", "extra = []\nrecommended = true");
    team.ok(&["lock"]);
    assert!(versions(&team).contains_key("clapper"));
}

#[test]
fn a_superseded_package_comes_from_a_filled_depot_or_is_named_with_what_to_do() {
    let (team, archive) = bell();
    team.ok(&["lock"]);
    let depot = team.dir.path().join("own");
    team.ok(&["depot", "fill", depot.to_str().unwrap()]);
    let image = team.build();
    archive.server.remove("/debian/pool/main/rope_1.2_amd64.deb");
    let empty = team.dir.path().join("empty");
    fs::create_dir(&empty).unwrap();
    fs::copy(team.home().join("config.toml"), empty.join("config.toml")).unwrap();
    let output = team.command(&["build"]).env("CAVRITH_HOME", &empty).output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(4), "{said}");
    assert!(said.contains("rope can be had nowhere") && said.contains("cavrith lock --update rope"), "{said}");
    // With the depot nothing else is needed, not even a network.
    let mut command = team.command(&["build", "--json"]);
    command.env("CAVRITH_HOME", &empty).env("CAVRITH_DEPOTS", &depot).env("CAVRITH_OFFLINE", "1");
    let output = command.output().unwrap();
    let report: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(report["image"].as_str().unwrap(), image);
}

#[test]
fn what_is_locked_can_be_chosen_from_anew_without_a_network_by_a_depot_or_a_parcel() {
    let (team, archive) = bell();
    project(&team, "\"bell\", \"lamp\"");
    team.ok(&["lock"]);
    team.ok(&["seal"]);
    let depot = team.dir.path().join("own");
    team.ok(&["depot", "fill", depot.to_str().unwrap()]);
    let parcel = team.dir.path().join("bell.parcel");
    team.ok(&["pack", parcel.to_str().unwrap(), "--sources"]);
    let bare = team.dir.path().join("bare.parcel");
    team.ok(&["pack", bare.to_str().unwrap()]);
    // The archive has moved on since, and cannot be reached either.
    archive.publish(&team);
    let offline = |home: &str, depots: &std::path::Path, arguments: &[&str]| {
        let home = team.dir.path().join(format!("home-{home}"));
        fs::create_dir_all(&home).unwrap();
        fs::copy(team.home().join("config.toml"), home.join("config.toml")).unwrap();
        let mut command = team.command(arguments);
        command.env("CAVRITH_HOME", &home).env("CAVRITH_DEPOTS", depots).env("CAVRITH_OFFLINE", "1");
        let output = command.current_dir(team.dir.path()).output().unwrap();
        (output.status.code(), crate::team::told(&output))
    };
    let nothing = std::path::Path::new("");
    let before = fs::read_to_string(team.project().join("cavrith.toml")).unwrap();
    let here = team.project();
    project(&team, "\"lamp\"");
    let lock_file = fs::read(here.join("cavrith.lock")).unwrap();
    let (code, said) = offline("by-depot", &depot, &["-C", here.to_str().unwrap(), "lock"]);
    assert!(code == Some(0) && said.contains("is used as it is locked"), "{said}");
    assert!(!versions(&team).contains_key("bell") && versions(&team).contains_key("lamp"));
    fs::write(here.join("cavrith.lock"), lock_file).unwrap();
    fs::write(here.join("cavrith.toml"), before).unwrap();
    // By a parcel: in the folder that was joined from it.
    for (name, parcel, good) in [("with", &parcel, true), ("without", &bare, false)] {
        let to = team.dir.path().join(name);
        let (code, said) = offline(name, nothing, &["join", parcel.to_str().unwrap(), to.to_str().unwrap()]);
        assert_eq!(code, Some(0), "{said}");
        let text = fs::read_to_string(to.join("cavrith.toml")).unwrap();
        fs::write(to.join("cavrith.toml"), text.replace("\"bell\", ", "")).unwrap();
        let (code, said) = offline(name, nothing, &["-C", to.to_str().unwrap(), "lock"]);
        assert_eq!(code == Some(0), good, "{said}");
        assert_eq!(said.contains("is used as it is locked"), good, "{said}");
        let lock = fs::read_to_string(to.join("cavrith.lock")).unwrap();
        assert_eq!(lock.contains("bell"), !good, "{lock}");
        offline(name, nothing, &["-C", to.to_str().unwrap(), "stop", "-q"]);
    }
}

#[test]
fn a_mirror_that_breaks_off_is_asked_for_the_rest() {
    let (team, archive) = bell();
    archive.server.fault("/debian/pool/main/rope_1.2_amd64.deb", Fault::BreaksOff(2));
    archive.server.fault("/debian/dists/tide/main/binary-amd64/Packages.gz", Fault::Busy(1));
    team.ok(&["lock"]);
    team.build();
    assert!(archive.server.requests().iter().any(|line| line.contains("rope") && line.contains(" from ")));
}

/// What locking says when the archive is not as it should be.
fn refused(change: impl FnOnce(&Team, &mut Archive)) -> String {
    let (team, mut archive) = bell();
    change(&team, &mut archive);
    let said = team.fails(&["lock"], 4);
    assert!(!team.project().join("cavrith.lock").exists());
    team.assert_clean();
    said
}

#[test]
fn a_changed_release_is_not_believed() {
    const RELEASE: &str = "/debian/dists/tide/InRelease";
    let release = |archive: &Archive| archive.server.get(RELEASE);
    let said = refused(|_, archive| {
        let text = release(archive).replace("Codename: tide", "Codename: ebb");
        archive.server.put(RELEASE, text);
    });
    assert!(said.contains("changed after it was signed"), "{said}");
    for garbage in ["\nSuite: tide\n", "x"] {
        let said = refused(|_, archive| drop(archive.server.put(RELEASE, format!("{}{garbage}", release(archive)))));
        assert!(said.contains("not a clear-signed text"), "{said}");
    }
    let said = refused(|_, archive| drop(archive.server.put(RELEASE, format!("Suite: tide\n{}", release(archive)))));
    assert!(said.contains("does not begin with its signed part"), "{said}");
    let said = refused(|team, archive| {
        let stranger = Archive::new(team);
        archive.server.put(RELEASE, stranger.signed("Suite: tide\n"));
    });
    assert!(said.contains("none of the keys that signed it is in the keyring"), "{said}");
    let said = refused(|_, archive| drop(archive.server.put(RELEASE, "Suite: tide\n")));
    assert!(said.contains("not a clear-signed text"), "{said}");
}

#[test]
fn an_old_or_lacking_index_is_named() {
    let said = refused(|team, archive| {
        archive.more = "Valid-Until: Sun, 12 Jul 2026 10:16:37 UTC\n".to_owned();
        archive.publish(team);
    });
    assert!(said.contains("was valid until 2026-07-12 only"), "{said}");
    let said = refused(|team, archive| {
        archive.publish_as("ebb");
        let other = archive.server.get("/debian/dists/ebb/InRelease");
        archive.publish(team);
        archive.server.put("/debian/dists/tide/InRelease", other);
    });
    assert!(said.contains("says that it is ebb"), "{said}");
    let said = refused(|team, _| {
        team.change("extra = []", "extra = []\ncomponents = [\"contrib\"]");
    });
    assert!(said.contains("no index of contrib for amd64; its components are main"), "{said}");
    let said = refused(|_, archive| {
        archive.server.put("/debian/dists/tide/main/binary-amd64/Packages.gz", "other bytes");
    });
    assert!(said.contains("is not what the lock pins") || said.contains("longer than"), "{said}");
    let said = refused(|team, _| {
        team.change("debian = \"tide\"", "debian = \"tied\"");
    });
    assert!(said.contains("404") && said.contains("is the suite's name right?"), "{said}");
}

#[test]
fn a_mirror_that_is_behind_the_lock_is_not_believed() {
    let (team, mut archive) = bell();
    team.ok(&["lock"]);
    archive.date = "Fri, 10 Jul 2026 10:16:37 UTC".to_owned();
    archive.publish(&team);
    let said = team.fails(&["lock", "--update"], 4);
    assert!(said.contains("older than what is locked (2026-07-11)"), "{said}");
}

#[test]
fn a_mirror_that_cannot_be_reached_leaves_what_was_seen_last() {
    let (team, archive) = bell();
    team.ok(&["lock"]);
    archive.server.remove("/debian/dists/tide/InRelease");
    project(&team, "\"bell\", \"lamp\"");
    let output = team.run(&["lock"]);
    let said = crate::team::told(&output);
    assert!(output.status.success() && said.contains("what was seen of the suite tide last is used"), "{said}");
}

#[test]
fn every_mirror_is_asked_before_an_old_state_is_good_enough() {
    let (team, mut archive) = bell();
    team.ok(&["lock"]);
    // The first mirror is down, and what was seen of it last lies in the store; the second one has a newer state.
    let other = Server::new();
    let first = std::mem::replace(&mut archive.server, other);
    archive.date = "Sun, 12 Jul 2026 10:16:37 UTC".to_owned();
    archive.packages.push(Package::new("gull", "1", "").file("srv/gull", 0o644, "gull\n"));
    archive.publish(&team);
    first.remove("/debian/dists/tide/InRelease");
    let config = fs::read_to_string(team.home().join("config.toml")).unwrap();
    let second = format!("\"{}/debian\"", archive.server.url);
    let both = format!("[\"{}/debian\", {second}]", first.url);
    fs::write(team.home().join("config.toml"), config.replace(&second, &both)).unwrap();
    project(&team, "\"bell\", \"gull\"");
    let output = team.run(&["lock"]);
    let said = crate::team::told(&output);
    assert!(output.status.success() && !said.contains("what was seen of the suite"), "{said}");
    assert!(crate::archive::versions(&team).contains_key("gull"));
    assert!(first.requests().iter().any(|request| request.contains("InRelease")));
}

#[test]
fn a_package_with_other_bytes_is_refused() {
    let (team, archive) = bell();
    team.ok(&["lock"]);
    let path = "/debian/pool/main/rope_1.2_amd64.deb";
    let mut bytes = archive.server.get_bytes(path);
    let last = bytes.len() - 1;
    bytes[last] ^= 1;
    archive.server.put(path, bytes);
    let said = team.fails(&["build"], 4);
    assert!(said.contains("rope_1.2_amd64.deb is not what the lock pins"), "{said}");
    team.assert_clean();
}

#[test]
fn a_configuration_file_lies_beside_its_place_until_its_package_is_configured() {
    let (team, mut archive) = bell();
    // Configured first, since the other one needs it; a script that runs whatever lies there must not see half a
    // configuration.
    let anchor = Package::new("anchor", "1", "").script("postinst", "ls /etc/parts.d > /var/lib/anchor");
    let oars = Package::new("oars", "1", "Depends: anchor\n").file("etc/parts.d/oars", 0o644, "row\n");
    archive.packages.push(anchor);
    archive.packages.push(oars);
    let last = archive.packages.len() - 1;
    archive.packages[last].scripts = vec![("conffiles", "/etc/parts.d/oars\n".to_owned())];
    archive.publish(&team);
    project(&team, "\"oars\"");
    team.ok(&["lock"]);
    team.build();
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/var/lib/anchor", "/etc/parts.d/oars"]), "oars.dpkg-new\nrow\n");
    assert_eq!(team.ok(&["run", "-q", "--", "ls", "/etc/parts.d"]), "oars\n");
    // Sums are made for a package that brings none, as dpkg does.
    let check = "cd /; md5sum -c /var/lib/dpkg/info/oars.md5sums";
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", check]), "etc/parts.d/oars: OK\n");
}

#[test]
fn a_script_that_fails_is_shown_with_its_last_lines() {
    let (team, mut archive) = bell();
    archive.packages.push(Package::new("squall", "1", "").script("postinst", "echo the mast is down\nexit 3"));
    archive.publish(&team);
    project(&team, "\"squall\"");
    team.ok(&["lock"]);
    let said = team.fails(&["build"], 5);
    assert!(
        said.contains("configuring the packages of base tide, squall failed") && said.contains("the mast is down"),
        "{said}"
    );
    team.assert_clean();
}

#[test]
fn files_of_two_packages_are_decided_by_what_they_say() {
    let (team, mut archive) = bell();
    let horn = |version, fields| Package::new("horn", version, fields).file("usr/share/rope", 0o644, "horn\n");
    archive.packages.push(horn("1", ""));
    archive.publish(&team);
    project(&team, "\"bell\", \"horn\"");
    team.ok(&["lock"]);
    let said = team.fails(&["build"], 4);
    assert!(said.contains("/usr/share/rope is in rope too"), "{said}");
    // One that replaces the other has the path, whichever is read first; over a stage beneath as well.
    let last = archive.packages.len() - 1;
    archive.packages[last] = horn("2", "Replaces: rope\n");
    archive.publish(&team);
    team.ok(&["lock", "--update"]);
    team.build();
    team.stop_all();
    assert_eq!(team.ok(&["run", "cat", "/usr/share/rope"]), "horn\n");
    project(&team, "\"bell\"");
    fs::remove_file(team.project().join("cavrith.lock")).unwrap();
    team.ok(&["lock"]);
    project(&team, "\"bell\", \"horn\"");
    team.ok(&["lock"]);
    assert_eq!(stages(&team)[2], ["horn"]);
    team.build();
    team.stop_all();
    assert_eq!(team.ok(&["run", "cat", "/usr/share/rope"]), "horn\n");
    assert!(!team.ok(&["run", "cat", "/var/lib/dpkg/info/rope.list"]).contains("/usr/share/rope"));
}

#[test]
fn a_diversion_gives_the_path_to_the_package_that_makes_it() {
    let (team, mut archive) = bell();
    let divert = "printf '/usr/share/chart\\n/usr/share/chart.old\\npilot\\n' >> /var/lib/dpkg/diversions";
    archive
        .packages
        .push(Package::new("pilot", "1", "").file("usr/share/chart", 0o644, "pilot's\n").script("preinst", divert));
    archive.packages.push(Package::new("atlas", "1", "").file("usr/share/chart", 0o644, "atlas's\n"));
    archive.packages.push(Package::new("globe", "1", "").file("usr/share/chart", 0o644, "globe's\n"));
    archive.publish(&team);
    let shown = |team: &Team| team.ok(&["run", "cat", "/usr/share/chart", "/usr/share/chart.old"]);
    project(&team, "\"atlas\", \"pilot\"");
    team.ok(&["lock"]);
    team.build();
    assert_eq!(shown(&team), "pilot's\natlas's\n");
    // And for one that comes in a later stage.
    fs::remove_file(team.project().join("cavrith.lock")).unwrap();
    project(&team, "\"pilot\"");
    team.ok(&["lock"]);
    project(&team, "\"pilot\", \"globe\"");
    team.ok(&["lock"]);
    team.build();
    team.stop_all();
    assert_eq!(shown(&team), "pilot's\nglobe's\n");
}

#[test]
fn wishes_that_cannot_be_met_are_told_at_their_place() {
    let (team, mut archive) = bell();
    archive.packages.push(Package::new("gull", "1", "Conflicts: bell\n"));
    archive.packages.push(Package::new("bow", "1", "Provides: end\n"));
    archive.packages.push(Package::new("stern", "1", "Provides: end\n"));
    archive.packages.push(Package::new("wreck", "1", "Depends: keel (>= 9)\n"));
    archive.publish(&team);
    let mut all = String::new();
    for wishes in ["\"bell\", \"gull\"", "\"bel\"", "\"end\"", "\"rope (>= 2)\"", "\"wreck\""] {
        project(&team, wishes);
        all.push_str(&team.fails(&["lock"], 1));
    }
    insta::assert_snapshot!(all);
}

#[test]
fn toolchains_from_the_base_are_pinned_by_its_packages_and_proved() {
    let (team, mut archive) = bell();
    let quill = |version, said: &str| {
        Package::new("quill", version, "").file("usr/bin/quill", 0o755, format!("#!/bin/sh\necho quill {said}\n"))
    };
    archive.packages.push(quill("1:2.4.1+dfsg-1", "2.4.1"));
    archive.packages.push(Package::new("quill-lint", "1", "").file("usr/bin/quill-lint", 0o755, "#!/bin/sh\n"));
    archive.publish(&team);
    project(&team, "");
    team.add("[toolchains.quill]\nfrom = \"base\"\nversion = \"2.4\"\npackages = [\"quill\"]\nparts = { linter = [\"quill-lint\"] }\n");
    team.ok(&["lock"]);
    assert_eq!(stages(&team)[1], ["quill", "quill-lint"]);
    team.ok(&["seal"]);
    assert!(fs::read_to_string(team.project().join("cavrith.lock")).unwrap().contains("quill 2.4.1"));
    team.change("version = \"2.4\"", "version = \"3\"");
    let said = team.fails(&["lock"], 1);
    assert!(said.contains("CV0203") && said.contains("the base has quill in version 2.4.1"), "{said}");
    // Of another suite nobody knows yet what it has: the one that was locked says nothing about it.
    let spec = fs::read_to_string(team.project().join("cavrith.toml")).unwrap();
    team.change("debian = \"tide\"", "debian = \"ebb\"");
    let said = team.fails(&["lock"], 4);
    assert!(!said.contains("the base has quill"), "{said}");
    fs::write(team.project().join("cavrith.toml"), spec).unwrap();
    // A program that answers with another version is not what was locked.
    team.change("version = \"3\"", "version = \"2.4\"");
    let place = archive.packages.iter().position(|package| package.name == "quill").unwrap();
    archive.packages[place] = quill("1:2.4.2+dfsg-1", "2.4.1");
    archive.publish(&team);
    team.ok(&["lock", "--update"]);
    let said = team.fails(&["build"], 5);
    assert!(said.contains("answers \"quill 2.4.1\"") && said.contains("2.4.2"), "{said}");
}

#[test]
fn the_bill_tells_versions_origins_digests_and_licences() {
    let (team, mut archive) = bell();
    let text = "Format: https://brindle.example/copyright-format/1.0/\n\nFiles: *\nLicense: GPL-2+ and Expat\n";
    archive.packages.push(Package::new("log", "3", "").file("usr/share/doc/log/copyright", 0o644, text));
    archive.publish(&team);
    project(&team, "\"log\"");
    team.ok(&["lock"]);
    let said = team.ok(&["contents"]);
    assert!(said.contains("debian tide pool/main/log_3_amd64.deb"), "{said}");
    team.build();
    let spdx = team.json(&["contents", "--format", "spdx-json"]);
    let package = spdx["packages"].as_array().unwrap().iter().find(|package| package["name"] == "log").unwrap();
    assert_eq!(package["licenseDeclared"], "GPL-2.0-or-later AND MIT");
    assert_eq!(package["externalRefs"][0]["referenceLocator"], "pkg:deb/debian/log@3?arch=amd64&distro=tide");
    let bill = team.json(&["contents", "--format", "cyclonedx-json"]);
    assert_eq!(bill["components"].as_array().unwrap().len(), 6);
    assert_eq!(spdx, team.json(&["contents", "--format", "spdx-json"]), "the same image, the same bill");
}
