use std::fs;

use crate::team::Team;

#[test]
fn what_a_team_shares_is_included_and_shown_with_its_origin() {
    let team = Team::new();
    let shared = team.dir.path().join("shared");
    fs::create_dir(&shared).unwrap();
    fs::write(
        shared.join("team.toml"),
        "[depots]\nharbour = { path = \"../depot\" }\n[env]\nSITE_PORT = \"9000\"\nTIDE = \"high\"\n[[steps]]\nname = \"greet\"\nat = \"build\"\nwrite = { inside = \"/etc/motd\", template = \"motd.in\" }\n",
    )
    .unwrap();
    fs::write(shared.join("motd.in"), "{{ env.TIDE }}\n").unwrap();
    team.allow("../../shared");
    team.change("spec = 1", "spec = 1\ninclude = [\"../../shared/team.toml\"]");
    team.change("[depots]\nharbour = { path = \"../../depot\" }\n", "");
    team.ok(&["check"]);
    let shown = team.ok(&["show"]);
    let line = |key: &str| shown.lines().find(|line| line.starts_with(key)).unwrap_or_else(|| panic!("{key}: {shown}"));
    assert!(line("env.TIDE").ends_with("# ../../shared/team.toml:5"), "{shown}");
    assert!(line("env.SITE_PORT = \"8080\"").contains("# cavrith.toml:"), "{shown}");
    let answer = team.json(&["show", "--json"]);
    assert_eq!(answer["sound"], true);
    let keys = |entry: &serde_json::Value| entry.as_object().unwrap().keys().cloned().collect::<Vec<_>>();
    assert_eq!(keys(&answer["entries"][0]), ["from", "key", "value"]);
    team.ok(&["lock"]);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/etc/motd"]), "high\n");
    // A mistake in the shared file is reported at its place there.
    fs::write(shared.join("team.toml"), "[env]\nTIDE = 3\n").unwrap();
    let told = team.fails(&["check"], 1);
    assert!(told.contains("--> ../../shared/team.toml:2:8"), "{told}");
    let answer = team.json(&["check", "--json"]);
    let tide = answer["mistakes"].as_array().unwrap().iter().find(|mistake| mistake["code"] == "CV0105").unwrap();
    assert_eq!((tide["file"].as_str(), tide["places"][0]["line"].as_u64()), (Some("../../shared/team.toml"), Some(2)));
}

#[test]
fn two_lines_of_two_files_that_conflict_are_both_shown() {
    let team = Team::new();
    fs::write(team.project().join("more.toml"), "[[ports]]\nname = \"other\"\ninside = 8080\n").unwrap();
    team.change("spec = 1", "spec = 1\ninclude = [\"more.toml\"]");
    let told = team.fails(&["check"], 1);
    assert!(told.contains("CV0111") && told.contains("more.toml:3:10") && told.contains("cavrith.toml:"), "{told}");
}

#[test]
fn two_versions_of_a_toolchain_lie_side_by_side_and_parts_are_chosen() {
    let team = Team::new();
    let depot = team.dir.path().join("depot");
    let pack = |script: &str, version: &str| {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir_all(dir.path().join("t/bin")).unwrap();
        let path = dir.path().join("t/bin").join(script);
        fs::write(&path, format!("#!/bin/sh\necho {script} {version}\n")).unwrap();
        let status = std::process::Command::new("sh")
            .args(["-c", "chmod 755 t/bin/* && tar czf t.tar.gz t"])
            .current_dir(&dir)
            .status();
        assert!(status.unwrap().success());
        let archive = team.dir.path().join(format!("{script}-{version}.tar.gz"));
        fs::copy(dir.path().join("t.tar.gz"), &archive).unwrap();
        archive.to_str().unwrap().to_owned()
    };
    let depot_path = depot.to_str().unwrap();
    for version in ["3.0.1", "3.1.0"] {
        let file = pack("quill", version);
        let told =
            team.ok(&["depot", "add", depot_path, &file, "--name", "quill", "--release", version, "--strip", "1"]);
        assert_eq!(told, format!("added toolchain quill {version}\n"));
        for part in ["quill-fmt", "quill-lens"] {
            let file = pack(part, version);
            team.ok(&[
                "depot",
                "add",
                depot_path,
                &file,
                "--name",
                "quill",
                "--release",
                version,
                "--part",
                part,
                "--strip",
                "1",
            ]);
        }
    }
    team.change(
        "quill   = \"2.4\"                    # the newest 2.4.x that the depot offers",
        "quill = { version = \"3\", also = [\"2.4\", \"3.0\"], parts = [\"quill-fmtt\"] }",
    );
    let told = team.fails(&["check"], 1);
    assert!(told.contains("CV0208") && told.contains("write \"quill-fmt\""), "{told}");
    // 2.4.1 has no parts at all.
    team.change("also = [\"2.4\", \"3.0\"], parts = [\"quill-fmtt\"]", "also = [\"3.0\"], parts = [\"quill-fmt\"]");
    team.change("run  = \"quill frame /srv/site\"", "run  = \"quill-fmt; mkdir -p /srv/site\"");
    let told = team.ok(&["lock"]);
    assert!(told.contains("toolchain quill 3.0.1 (beside)  3.0.1 with quill-fmt"), "{told}");
    assert_eq!(
        team.ok(&[
            "run",
            "-q",
            "--",
            "sh",
            "-c",
            "quill; quill-fmt; /opt/quill/3.0.1/bin/quill; ls /opt/quill/3.0.1/bin; quill-lens || true"
        ])
        .lines()
        .collect::<Vec<_>>(),
        ["quill 3.1.0", "quill-fmt 3.1.0", "quill 3.0.1", "quill", "quill-fmt"]
    );
    team.change("\"quill-fmt\"]", "]");
    assert!(team.fails(&["build"], 1).contains("parts of quill: the spec says no parts, the lock quill-fmt"));
}

#[test]
fn an_update_moves_what_is_named_and_outdated_only_tells() {
    let team = Team::locked();
    let index = team.dir.path().join("depot/depot.toml");
    let text = fs::read_to_string(&index).unwrap();
    let entry = text.split("[[toolchains]]").find(|entry| entry.contains("name = \"quill\"")).unwrap();
    let newer =
        |version: &str| format!("\n[[toolchains]]{}", entry.replace("2.4.1", version).split("[[").next().unwrap());
    fs::write(
        &index,
        format!("{text}{}{}", newer("2.4.7"), newer("2.5.0"))
            .replace("quill-2.4.7", "quill-2.4.1")
            .replace("quill-2.5.0", "quill-2.4.1"),
    )
    .unwrap();
    let lock = || fs::read_to_string(team.project().join("cavrith.lock")).unwrap();
    let before = lock();
    let told = team.ok(&["lock", "--outdated"]);
    assert_eq!(told, "toolchain quill  2.4.1 → 2.4.7 by cavrith lock --update; 2.5.0 is offered too\n");
    let answer = team.json(&["lock", "--outdated", "--json"]);
    assert_eq!(
        answer,
        serde_json::json!({ "outdated": [{ "what": "toolchain quill", "locked": "2.4.1", "within": "2.4.7", "newest": "2.5.0" }] })
    );
    team.ok(&["lock"]);
    team.ok(&["lock", "--update", "gauge"]);
    assert_eq!(lock(), before);
    let told = team.fails(&["lock", "--update", "qiull"], 2);
    assert!(told.contains("did you mean quill?"), "{told}");
    let told = team.ok(&["lock", "--update", "quill"]);
    assert!(told.contains("toolchain quill  2.4.1 → 2.4.7"), "{told}");
    assert!(team.ok(&["lock", "--update"]).contains("up to date"));
}

#[test]
fn a_first_spec_is_written_from_what_is_there_and_passes_its_check() {
    let team = Team::new();
    let project = team.dir.path().join("Web Shop");
    fs::create_dir(&project).unwrap();
    let files = [
        (
            "package.json",
            "{ \"engines\": { \"node\": \">=20.1\" }, \"scripts\": { \"start\": \"serve --port 4100\" } }",
        ),
        ("pyproject.toml", "[project]\nrequires-python = \">=3.11\"\n"),
        ("go.mod", "module brindle.example/x\n\ngo 1.22\n"),
        ("Cargo.toml", "[package]\nrust-version = \"1.80\"\n"),
        ("pom.xml", "<project><properties><java.version>21</java.version></properties></project>"),
        ("Gemfile", "ruby \"3.2.1\"\n"),
        ("composer.json", "{ \"require\": { \"php\": \"^8.2\" } }"),
        ("Makefile", "all:\n"),
        ("main.c", "int main(void) { return 0; }\n"),
    ];
    for (name, text) in files {
        fs::write(project.join(name), text).unwrap();
    }
    let run = |arguments: &[&str]| team.command(arguments).current_dir(&project).output().unwrap();
    let output = run(&["init"]);
    let told = String::from_utf8(output.stdout).unwrap();
    for seen in [
        "package.json: node 20.1",
        "pyproject.toml: python 3.11",
        "go.mod: go 1.22 or newer",
        "Cargo.toml: rust 1.80 or newer",
        "pom.xml: java 21",
        "Gemfile: ruby 3.2.1",
        "composer.json: php 8.2",
        "Makefile: c, in no particular version",
        "package.json: it is started by npm start",
        "package.json: port 4100",
    ] {
        assert!(told.contains(seen), "{seen}: {told}");
    }
    let text = fs::read_to_string(project.join("cavrith.toml")).unwrap();
    assert!(text.contains("name    = \"web-shop\"") && text.contains("inside = 4100"), "{text}");
    // The depot beside it was found, so that nothing is left but what a person may like better.
    let output = run(&["check"]);
    assert!(output.status.success(), "{}\n{text}", crate::team::told(&output));
    let output = run(&["init"]);
    assert_eq!(output.status.code(), Some(2));
    assert_eq!(fs::read_to_string(project.join("cavrith.toml")).unwrap(), text);
    // Without a depot the base is Debian's, with what the files ask for.
    let alone = tempfile::tempdir().unwrap();
    fs::write(alone.path().join("Cargo.toml"), "[package]\nrust-version = \"1.80\"\n").unwrap();
    assert!(team.command(&["init"]).current_dir(&alone).status().unwrap().success());
    let text = fs::read_to_string(alone.path().join("cavrith.toml")).unwrap();
    assert!(text.contains("debian   = \"trixie\"") && text.contains("packages = [\"rustc\", \"cargo\"]"), "{text}");
    let output = team.command(&["check"]).current_dir(&alone).output().unwrap();
    assert!(output.status.success(), "{}", crate::team::told(&output));
}

#[test]
fn an_extension_is_written_into_the_spec_and_comments_stay() {
    let team = Team::new();
    team.change("extensions = { \"brindle.quill-syntax\" = \"1.2\" }", "extensions = { }   # none yet");
    assert_eq!(
        team.ok(&["editor", "add", "brindle.quill-syntax"]),
        "added brindle.quill-syntax 1.2 to the spec; run cavrith lock\n"
    );
    let text = fs::read_to_string(team.project().join("cavrith.toml")).unwrap();
    assert!(text.contains("# none yet") && text.contains("# the newest 2.4.x"), "{text}");
    assert!(team.ok(&["lock"]).contains("extension brindle.quill-syntax  1.2.0"));
    assert!(team.ok(&["editor", "add", "brindle.quill-syntax", "1.2"]).contains("in the spec already"));
    assert!(team.fails(&["editor", "add", "brindle.quil-syntax"], 1).contains("did you mean brindle.quill-syntax?"));
}

#[test]
fn each_editor_gets_its_settings_and_launches_in_its_own_language() {
    let team = Team::new();
    team.change("settings   = { \"format.on-save\" = true, \"ruler\" = 120 }", "settings = { \"ruler\" = 120, \"number\" = true }\n[editor.launch.site]\nprogram = \"quill\"\narguments = [\"serve\"]\nbuild = \"quill draw pages\"\n");
    team.ok(&["lock"]);
    let launch = team.ok(&["run", "-q", "--", "cat", "/etc/lantern/launch.json"]);
    let launch: serde_json::Value = serde_json::from_str(&launch).unwrap();
    assert_eq!(
        launch,
        serde_json::json!({ "launch": { "site": { "program": "quill", "arguments": ["serve"], "directory": "/code", "build": "quill draw pages" } } })
    );
    team.change("[editor]\n", "[editor]\nprofile = \"vim\"\n");
    team.ok(&["lock"]);
    let told = team.ok(&[
        "run",
        "-q",
        "--",
        "sh",
        "-c",
        "cat /etc/vim/vimrc.local /etc/vim/plugin/*; ls /etc/vim/pack/team/start/brindle.quill-syntax",
    ]);
    assert!(
        told.starts_with("set number\nlet &ruler = 120\nlet g:team_launch = {'site': {'arguments': ['serve'],"),
        "{told}"
    );
    assert!(told.ends_with("package.json\nsyntax\n"), "{told}");
    team.change("profile = \"vim\"", "profile = \"emacs\"");
    team.ok(&["lock"]);
    let told = team.ok(&["run", "-q", "--", "sh", "-c", "cat /etc/emacs/site-start.d/*"]);
    assert!(
        told.starts_with(
            "(setq-default number t)\n(setq-default ruler 120)\n(setq-default team-launch (list (cons \"site\""
        ),
        "{told}"
    );
    assert!(
        team.change("profile = \"emacs\"", "profile = \"emcas\"")
            .fails(&["check"], 1)
            .contains("write profile = \"emacs\"")
    );
}

#[test]
fn an_extension_may_come_as_a_tar_archive_too() {
    let team = Team::new();
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir_all(dir.path().join("extension/themes")).unwrap();
    fs::write(dir.path().join("extension.manifest"), "beside").unwrap();
    fs::write(dir.path().join("extension/themes/dusk.json"), "{}").unwrap();
    let describe = |text: &str| {
        fs::write(dir.path().join("extension/package.json"), text).unwrap();
        let pack = ["czf", "dusk.tar.gz", "extension", "extension.manifest"];
        assert!(std::process::Command::new("tar").args(pack).current_dir(&dir).status().unwrap().success());
    };
    let (depot, file) = (team.dir.path().join("depot"), dir.path().join("dusk.tar.gz"));
    let add = ["depot", "add", depot.to_str().unwrap(), file.to_str().unwrap()];
    describe("{ \"name\": \"dusk\" }");
    assert!(team.fails(&add, 2).contains("extension/package.json in dusk.tar.gz has no version"));
    describe("{ \"name\": \"dusk\", \"publisher\": \"brindle\", \"version\": \"2.0.1\" }");
    assert_eq!(team.ok(&add), "added extension brindle.dusk 2.0.1\n");
    assert!(team.fails(&add, 2).contains("the depot has brindle.dusk 2.0.1 already"));
    assert!(team.ok(&["depot", "list", depot.to_str().unwrap()]).contains("brindle.dusk"));
    team.ok(&["editor", "add", "brindle.dusk"]);
    team.ok(&["lock"]);
    let told = team.ok(&["run", "-q", "--", "find", "/opt/lantern-extensions/brindle.dusk-2.0.1", "-type", "f"]);
    let mut names: Vec<_> = told.lines().map(|line| line.rsplit('/').next().unwrap()).collect();
    names.sort_unstable();
    assert_eq!(names, ["dusk.json", "package.json"]);
    let neither = team.project().join("sailings.csv");
    let told = team.fails(&["depot", "add", depot.to_str().unwrap(), neither.to_str().unwrap()], 4);
    assert!(told.contains("sailings.csv"), "{told}");
}
