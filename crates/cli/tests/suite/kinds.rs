//! Every kind of mistake that needs more than the spec's own text, in the words that people see.

use std::fs;
use std::path::Path;

use cavrith_core::explain::{self, Seen};
use cavrith_core::mistake::Code;

use crate::team::Team;

/// A team that nobody signed.
const TEAM: &str = "[team.people.ida]\nroles = [\"lead\"]\nkeys = [\"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJu+ucs/19sCqEeNbzvRIb+xWV+CFKw9Ydv77LrY2GWO ida\"]\n";

/// What brings a kind of mistake about.
fn cause(team: &Team, code: Code) {
    let project = team.project();
    let add = |text: &str| team.add(text);
    let index = team.dir.path().join("depot/depot.toml");
    let reindex = |old: &str, new: &str| {
        let text = fs::read_to_string(&index).unwrap();
        assert!(text.contains(old), "{old}");
        fs::write(&index, text.replacen(old, new, 1)).unwrap();
    };
    let template = |text: &str| {
        fs::write(project.join("motd.in"), text).unwrap();
        add(
            "[[steps]]\nname = \"greet\"\nat = \"build\"\nwrite = { inside = \"/etc/motd\", template = \"motd.in\" }\n",
        );
    };
    let git = |arguments: &[&str]| {
        // Anyone who runs the tests may have settings of their own.
        let mut command = std::process::Command::new("git");
        command.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1");
        let output = command.args(arguments).current_dir(&project).output().unwrap();
        assert!(output.status.success(), "{}", crate::team::told(&output));
    };
    let replace = |old: &str, new: &str| {
        team.change(old, new);
    };
    match code {
        // Told by locking, which asks the archive; see the tests of that.
        Code::PACKAGES_CLASH | Code::PACKAGE_AMBIGUOUS | Code::SINGLE_ID | Code::SEAL_REFUSED | Code::SEAL_UNSIGNED => {
            unreachable!()
        }
        Code::SUITE_AGE => {
            replace("depot    = \"harbour\"\npackages = [\"busybox-static\"]", "debian = \"stretch\"");
        }
        Code::FOLDER_MISSING => add("[[folders]]\noutside = \"tabels\"\ninside = \"/tables\"\n"),
        Code::INCLUDE_UNREADABLE => replace("spec = 1", "spec = 1\ninclude = [\"taem.toml\"]"),
        Code::BAD_TEMPLATE => template("one\n{{ workspace.name }\n"),
        Code::TEMPLATE_NAME => template("one\n{{ env.SITE_PROT }}\n"),
        Code::DEPOT_UNREADABLE => reindex("depot = 1", "depot = one"),
        Code::NOT_OFFERED => replace("quill   = \"2.4\"", "qiull = \"2.4\""),
        Code::VERSION_NOT_OFFERED => replace("quill   = \"2.4\"", "quill = \"3\""),
        Code::ARCHIVE_MISSING => {
            replace("depot    = \"harbour\"\npackages = [\"busybox-static\"]", "archive = { path = \"root.tar\" }");
        }
        Code::EDITOR_PROFILE => replace("[editor]", "[editor]\nprofile = \"lantren\""),
        Code::PLACES_MEET => add("[[folders]]\noutside = \".\"\ninside = \"/opt/quill\"\n"),
        Code::PART_NOT_OFFERED => {
            replace("gauge   = { version = \"0.9.3\" }", "gauge = { version = \"0.9.3\", parts = [\"lens\"] }");
        }
        Code::FILE_MISSING => {
            add("[[steps]]\nname = \"bring\"\nat = \"build\"\ncopy = { from = \"pgaes\", inside = \"/srv/pages\" }\n");
        }
        Code::BAD_SCRIPT => {
            add("[[steps]]\nname = \"bring\"\nat = \"build\"\nrun = \"if true; then echo\"\n");
        }
        Code::DEPOT_UNUSED => {
            let spare = team.dir.path().join("spare");
            team.ok(&["depot", "new", spare.to_str().unwrap()]);
            team.change("[depots]", "[depots]\nspare = { path = \"../../spare\" }");
            // An editor's profile may come from any depot.
            let path = project.join("cavrith.toml");
            let spec = fs::read_to_string(&path).unwrap();
            fs::write(path, spec.split("[editor]").next().unwrap()).unwrap();
        }
        Code::LOCK_BEHIND => {
            team.ok(&["lock"]);
            team.change("gauge   = { version = \"0.9.3\" }\n", "");
        }
        Code::LOCK_UNREADABLE => {
            team.ok(&["lock"]);
            let path = project.join("cavrith.lock");
            let text = fs::read_to_string(&path).unwrap();
            fs::write(path, format!("<<<<<<< ours\n{text}")).unwrap();
        }
        Code::NOT_TRACKED => {
            git(&["init", "-q"]);
            git(&["add", "cavrith.toml"]);
            team.ok(&["lock"]);
        }
        Code::DEPOT_FILE => fs::remove_file(team.dir.path().join("depot/toolchains/quill-2.4.1.tar.gz")).unwrap(),
        Code::DEPOT_UNREACHABLE => replace("path = \"../../depot\"", "url = \"http://127.0.0.1:9/\""),
        Code::TEAM_UNSIGNED => add(TEAM),
        Code::TEAM_HISTORY => {
            add(TEAM);
            fs::write(project.join("cavrith.team"), "team = 1\n").unwrap();
        }
        Code::BAD_SIGNERS => {
            add("[team]\nsigners = \"signers\"\n");
            fs::write(project.join("signers"), "# people\nida cert-authority ssh-ed25519 AAAA\n").unwrap();
        }
        other => panic!("nothing here brings {other} about"),
    }
}

#[test]
fn each_has_its_place_its_words_and_its_remedy() {
    let mut all = String::new();
    for one in explain::all().iter().filter(|one| one.seen == Seen::Around) {
        // Told while it is locked, or to some members only; their own tests show them.
        // Signatures take keys, which are others each time.
        let elsewhere = [
            Code::NOT_YET,
            Code::PACKAGE_NEEDS,
            Code::PACKAGES_CLASH,
            Code::PACKAGE_AMBIGUOUS,
            Code::SINGLE_ID,
            Code::SEAL_REFUSED,
            Code::SEAL_UNSIGNED,
        ];
        if elsewhere.contains(&one.code) {
            continue;
        }
        let team = Team::new();
        cause(&team, one.code);
        let output = team.run(&["check"]);
        let told = String::from_utf8(output.stderr).unwrap();
        assert!(told.contains(&format!("[{}]", one.code)), "{}: {told}", one.code);
        let dir = fs::canonicalize(team.dir.path()).unwrap();
        let told = told.replace(dir.to_str().unwrap(), "DIR").replace(team.dir.path().to_str().unwrap(), "DIR");
        all.push_str(&told.lines().map(str::trim_end).collect::<Vec<_>>().join("\n"));
        all.push_str("\n\n");
    }
    assert!(!Path::new("pgaes").exists());
    insta::assert_snapshot!("every_kind_that_only_the_disk_shows", all);
}

/// Packs a folder as a package, and adds it to the depot.
pub fn added(team: &Team, build: &Path) -> String {
    let deb = build.with_extension("deb");
    let mut command = std::process::Command::new("dpkg-deb");
    let output = command.args(["--root-owner-group", "-b"]).args([build, &deb]).output().unwrap();
    assert!(output.status.success(), "{}", crate::team::told(&output));
    let depot = team.dir.path().join("depot");
    team.ok(&["depot", "add", depot.to_str().unwrap(), deb.to_str().unwrap()])
}

#[test]
fn what_a_package_needs_is_told_when_it_is_locked() {
    let team = Team::new();
    let build = team.dir.path().join("tide");
    fs::create_dir_all(build.join("DEBIAN")).unwrap();
    fs::create_dir_all(build.join("usr/share/tide")).unwrap();
    fs::write(build.join("usr/share/tide/table"), "6\n").unwrap();
    let control = "Package: tide\nVersion: 1.0\nArchitecture: all\nMaintainer: Brindle Ferry <crew@brindle.example>\nDepends: moon (>= 2) | sun\nDescription: tides\n";
    fs::write(build.join("DEBIAN/control"), control).unwrap();
    assert_eq!(added(&team, &build), "added package tide 1.0\n");
    team.change("packages = [\"busybox-static\"]", "packages = [\"busybox-static\", \"tide\"]");
    let told = team.fails(&["lock"], 1);
    assert!(!told.contains("CV0103"), "it has no scripts: {told}");
    assert!(
        told.contains("CV0207") && told.contains("needs moon (>= 2) or sun") && told.contains("add `moon` to packages"),
        "{told}"
    );
}

#[test]
fn a_package_of_a_depot_with_scripts_is_refused_when_it_is_locked() {
    let team = Team::new();
    let build = team.dir.path().join("bell");
    fs::create_dir_all(build.join("DEBIAN")).unwrap();
    let control = "Package: bell\nVersion: 1.0\nArchitecture: all\nMaintainer: Brindle Ferry <crew@brindle.example>\nDescription: a bell\n";
    fs::write(build.join("DEBIAN/control"), control).unwrap();
    let script = build.join("DEBIAN/postinst");
    fs::write(&script, "#!/bin/sh\nexit 0\n").unwrap();
    fs::set_permissions(&script, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    assert_eq!(added(&team, &build), "added package bell 1.0\n");
    team.change("packages = [\"busybox-static\"]", "packages = [\"busybox-static\", \"bell\"]");
    let told = team.fails(&["lock"], 1);
    assert!(told.contains("CV0103") && told.contains("`bell` has scripts of its own (postinst)"), "{told}");
}
