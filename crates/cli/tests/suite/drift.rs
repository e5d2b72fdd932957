//! What was changed by hand: told, adopted, taken back.

use std::fs;
use std::path::Path;

use serde_json::Value;

use crate::owners::Member;
use crate::team::Team;

fn inside(team: &Team, account: &str, script: &str) {
    team.ok(&["run", "-q", "--account", account, "--", "sh", "-ec", script]);
}

fn drift(team: &Team) -> Value {
    team.json(&["drift", "--json"])
}

fn names(value: &Value) -> Vec<String> {
    let list = value["findings"].as_array().unwrap_or_else(|| panic!("{value}")).iter();
    let name = |finding: &Value| {
        let key = if finding["path"].is_string() { "path" } else { "name" };
        format!("{} {}", finding["kind"].as_str().unwrap(), finding[key].as_str().unwrap_or_default())
    };
    list.map(name).collect()
}

/// A package as somebody would have installed it with dpkg: its record, its list and its files.
const INSTALL: &str = r#"
printf '\nPackage: tide\nStatus: install ok installed\nVersion: 1.2-1\nArchitecture: all\nMaintainer: Brindle Ferry <crew@brindle.example>\nDescription: tides\nConffiles:\n /etc/tide.conf c589271a2097a398c9ffd6db1e31614d\n\n' >> /var/lib/dpkg/status
mkdir -p /usr/bin /usr/share/tide
echo tide > /usr/bin/tide; echo 6 > /usr/share/tide/table; echo depth=3 > /etc/tide.conf
printf '/.\n/usr\n/usr/bin\n/usr/bin/tide\n/usr/share\n/usr/share/tide\n/usr/share/tide/table\n/etc/tide.conf\n' > /var/lib/dpkg/info/tide.list
printf 'e49a8078b994afcac0ef712a1fbfe3d5  usr/bin/tide\n' > /var/lib/dpkg/info/tide.md5sums
echo x > /var/lib/dpkg/lock
"#;

#[test]
fn nothing_was_changed_in_a_fresh_workspace_and_a_workspace_that_never_ran_says_so() {
    let team = Team::locked();
    assert!(team.fails(&["drift"], 2).contains("cavrith start"), "nothing ran");
    team.ok(&["start", "-q", "--wait"]);
    let told = team.ok(&["drift"]);
    assert!(told.contains("nothing was changed by hand in timetable"), "{told}");
    inside(&team, "crew", "echo x > ~/notes; mkdir ~/.cache; echo y > ~/.cache/y; echo ls > ~/.bash_history");
    let value = drift(&team);
    assert_eq!(names(&value), [""; 0]);
    assert_eq!(value["home"][0]["path"], "/home/crew/notes");
    assert_eq!((&value["folded"]["caches"], &value["folded"]["histories"]), (&1.into(), &1.into()));
    team.assert_clean();
}

#[test]
fn each_thing_that_somebody_did_is_told_once_and_by_its_name() {
    let team = Team::locked();
    team.ok(&["start", "-q", "--wait"]);
    inside(&team, "root", INSTALL);
    let script = "echo sven:x:1001:1001::/home/sven:/bin/sh >> /etc/passwd; echo sven:x:1001: >> /etc/group
        echo 'export TIDE_STATION=7' > /etc/profile.d-x; mkdir -p /etc/profile.d; mv /etc/profile.d-x /etc/profile.d/tide.sh
        mkdir -p /opt/charts/a /opt/charts/b; for i in 1 2 3; do echo $i > /opt/charts/a/$i; done
        echo hi > /bin/hi; chmod 755 /bin/hi; rm /bin/vi; ln -s hi /bin/ho
        mkdir -p /usr/local/lib/python3.11/dist-packages/tabulate-0.9.0.dist-info
        cd /usr/local/lib/python3.11/dist-packages; echo x > tabulate.py
        printf 'Name: tabulate\\nVersion: 0.9.0\\n\\n' > tabulate-0.9.0.dist-info/METADATA
        printf 'tabulate.py,,\\ntabulate-0.9.0.dist-info/METADATA,,\\ntabulate-0.9.0.dist-info/RECORD,,\\n../../../bin/tabulate,,\\n' > tabulate-0.9.0.dist-info/RECORD
        mkdir -p /usr/local/bin; echo x > /usr/local/bin/tabulate
        mkdir -p /usr/local/lib/node_modules/tides/node_modules/moon; cd /usr/local/lib/node_modules/tides
        echo '{\"name\":\"tides\",\"version\":\"2.0.0\"}' > package.json
        echo '{\"name\":\"moon\",\"version\":\"1.0.0\"}' > node_modules/moon/package.json
        ln -s ../lib/node_modules/tides/package.json /usr/local/bin/tides
        mkdir -p /usr/local/cargo/bin; cd /usr/local/cargo; echo x > bin/soundings; echo y > bin/soundings-plot; echo z > bin/other
        printf '[v1]\n\"soundings 1.4.0 (registry+https://index.example/crates)\" = [\"soundings\", \"soundings-plot\"]\n' > .crates.toml
        echo '{}' > .crates2.json";
    inside(&team, "root", script);
    inside(&team, "crew", "printf 'alias ll=ls\\nexport PIER=\"north side\"\\n' > ~/.profile");
    let value = drift(&team);
    assert_eq!(
        names(&value),
        [
            "package tide",
            "language-package soundings",
            "language-package tides",
            "language-package tabulate",
            "account sven",
            "variable PIER",
            "variable TIDE_STATION",
            "file /bin/hi",
            "file /bin/ho",
            "removed /bin/vi",
            "folder /opt/charts",
            "file /usr/local/cargo/bin/other",
        ]
    );
    let findings = value["findings"].as_array().unwrap();
    let of = |name: &str| findings.iter().find(|one| one["name"] == name || one["path"] == name).unwrap();
    assert_eq!((&of("tide")["to"], &of("tide")["asked"]), (&"1.2-1".into(), &true.into()));
    assert_eq!(of("PIER")["value"], "north side");
    assert_eq!(of("tabulate")["install"], serde_json::json!(["pip", "install", "tabulate==0.9.0"]));
    assert_eq!(of("tides")["install"], serde_json::json!(["npm", "install", "-g", "tides@2.0.0"]));
    assert_eq!(
        of("soundings")["install"],
        serde_json::json!(["cargo", "install", "--locked", "--root", "/usr/local/cargo", "soundings@1.4.0"])
    );
    assert_eq!((&of("/opt/charts")["files"], &of("/opt/charts")["bytes"]), (&3.into(), &6.into()));
    assert_eq!(of("/bin/ho")["leads_to"], "hi");
    // A file of the package that was changed after it came, and its configuration, are somebody's own work.
    inside(&team, "root", "echo more >> /usr/bin/tide; echo depth=4 > /etc/tide.conf");
    let again = names(&drift(&team));
    assert!(
        again.contains(&"file /usr/bin/tide".to_owned()) && again.contains(&"file /etc/tide.conf".to_owned()),
        "{again:?}"
    );
    // What is asked for is told alone; what nobody did is named.
    let told = team.fails(&["drift", "files"], 1);
    assert!(
        told.contains("/opt/charts/  3 files, 6 B") && told.contains("/bin/ho  → hi") && !told.contains("sven"),
        "{told}"
    );
    assert!(team.fails(&["drift", "/opt"], 1).contains("/opt/charts"));
    let told = team.fails(&["drift", "sevn"], 2);
    assert!(told.contains("nothing that was changed by hand is called sevn"), "{told}");
    team.assert_clean();
}

#[test]
fn a_changed_text_is_told_by_its_lines_and_terminals_get_no_escapes() {
    let team = Team::locked();
    team.step("seq 1 3 > /etc/lines");
    team.ok(&["lock", "-q"]);
    team.ok(&["start", "-q", "--wait"]);
    inside(&team, "root", "printf '1\\n\\033[31mTWO\\n3\\n' > /etc/lines; chmod 600 /etc/lines");
    let told = team.fails(&["drift"], 1);
    assert!(told.contains("        -2\n        +\\u{1b}[31mTWO\n"), "{told}");
    assert!(!told.contains('\u{1b}') && told.contains("mode 0644 → 0600"), "{told}");
    assert!(told.contains("of step \"step 2\""), "{told}");
    team.assert_clean();
}

#[test]
fn nothing_that_somebody_inside_chose_reaches_the_terminal_as_an_order() {
    let team = Team::locked();
    team.ok(&["start", "-q", "--wait"]);
    let script = "e=$(printf '\\033[2J'); echo \"ev${e}il:x:1001:1001::/home/x:/bin/sh\" >> /etc/passwd; echo x > \"/bin/ev${e}il\"
        ln -s \"${e}\" /bin/lead; printf \"export TIDE='${e}'\\n\" > /etc/profile; mkdir -p \"/opt/${e}/a\"; echo 1 > \"/opt/${e}/a/1\"; echo 2 > \"/opt/${e}/a/2\"
        printf '\\nPackage: ti%sde\\nStatus: install ok installed\\nVersion: 1%s\\n\\n' \"$e\" \"$e\" >> /var/lib/dpkg/status";
    inside(&team, "root", script);
    for command in [&["drift"][..], &["drift", "files"], &["drift", "--adopt"]] {
        let output = team.run(command);
        let told = crate::team::told(&output);
        assert!(!told.contains('\u{1b}') && told.contains("il"), "{command:?}: {told}");
    }
    team.ok(&["seal", "-q"]);
    let told = team.fails(&["verify"], 1);
    assert!(!told.contains('\u{1b}') && told.contains("account ev"), "{told}");
    team.assert_clean();
}

/// What the spec of a team has, and its lock.
fn project_files(team: &Team) -> (String, String) {
    let read = |name: &str| fs::read_to_string(team.project().join(name)).unwrap();
    (read("cavrith.toml"), read("cavrith.lock"))
}

#[test]
fn what_is_adopted_is_in_the_image_and_no_drift_is_left() {
    let team = Team::locked();
    team.ok(&["start", "-q", "--wait"]);
    let script = "mkdir -p /opt/charts/a /opt/empty; for i in 1 2 3; do echo $i > /opt/charts/a/$i; done; chmod 700 /opt/charts/a/3
        ln -s a/1 /opt/charts/first; head -c 3000 /dev/zero > /usr/lib-x; mkdir -p /usr/lib; mv /usr/lib-x /usr/lib/zeros
        printf 'depth = \"3\"\\n' > /etc/tide.conf; chmod 640 /etc/tide.conf; rm /bin/vi; chmod 775 /bin/busybox; ln -s hi /bin/ho
        mkdir -p /etc/profile.d; echo 'export TIDE_STATION=7' > /etc/profile.d/tide.sh
        printf '#!/bin/sh\\necho hi\\n' > /bin/hi; chmod 755 /bin/hi; chown 1000:1000 /bin/hi
        printf 'token = \"ghp_%s\"\\n' 0123456789abcdefghijABCDEFGHIJ012345 > /etc/token";
    inside(&team, "root", script);
    // A comment and an order of the lead's own stay.
    let path = team.project().join("cavrith.toml");
    let spec = fs::read_to_string(&path).unwrap();
    fs::write(&path, format!("# Ours.\n{spec}")).unwrap();
    team.ok(&["lock", "-q"]);
    let before = project_files(&team);
    // Nobody is there to ask.
    let told = team.fails(&["drift", "--adopt"], 2);
    assert!(told.contains("+TIDE_STATION = \"7\"") && told.contains("--yes"), "{told}");
    assert_eq!(project_files(&team), before);
    let output = team.run(&["drift", "--adopt", "--yes"]);
    let told = crate::team::told(&output);
    assert!(output.status.success(), "{told}");
    assert!(told.contains("the image holds now what the workspace held"), "{told}");
    assert!(told.contains("not adopted /etc/token") && told.contains("no secret goes into an image"), "{told}");
    let (spec, _) = project_files(&team);
    assert!(spec.starts_with("# Ours.\n") && !spec.contains("ghp_"), "{spec}");
    assert!(team.project().join("adopted/opt/charts/a/3").is_file());
    assert_eq!(fs::read_link(team.project().join("adopted/opt/charts/first")).unwrap(), Path::new("a/1"));
    // It starts over the new image, where nothing is changed; and it can be sealed.
    team.ok(&["restart", "-q"]);
    assert_eq!(names(&drift(&team)), [""; 0]);
    inside(
        &team,
        "root",
        "test $(stat -c %a /etc/tide.conf) = 640; test -x /bin/hi; test ! -e /bin/vi; test $(readlink /bin/ho) = hi; test -d /opt/empty",
    );
    inside(
        &team,
        "root",
        "test $(stat -c %u /bin/hi) = 1000; test $(stat -c %a /opt/charts/a/3) = 700; test $(stat -c %s /usr/lib/zeros) = 3000",
    );
    inside(&team, "crew", "test \"$TIDE_STATION\" = 7");
    team.ok(&["seal", "-q"]);
    assert!(team.ok(&["verify"]).contains("same         scratch"));
    // A workspace that ran on over the old image goes over to one that holds everything without a question.
    inside(&team, "root", "mkdir -p /opt/berths; echo 1 > /opt/berths/1; echo 2 > /opt/berths/2");
    team.ok(&["drift", "--adopt", "--yes", "-q"]);
    let output = team.run(&["apply"]);
    assert!(output.status.success(), "{}", crate::team::told(&output));
    assert_eq!(names(&drift(&team)), [""; 0]);
    // Where only a part of it was adopted, the rest is told.
    inside(&team, "root", "mkdir -p /opt/piers; echo 1 > /opt/piers/1; echo 2 > /opt/piers/2; echo x > /opt/alone");
    team.ok(&["drift", "/opt/piers", "--adopt", "--yes", "-q"]);
    inside(&team, "root", "echo 3 > /opt/piers/2");
    let told = team.fails(&["apply"], 1);
    assert!(told.contains("new      /opt/piers/  2 files") && told.contains("new      /opt/alone"), "{told}");
    assert!(!told.contains("berths") && told.contains("cavrith drift --adopt"), "{told}");
    team.ok(&["apply", "-q", "--fresh"]);
    // Changed once more, the same step gets the new text.
    inside(&team, "root", "printf 'depth = \"4\"\\n' > /etc/tide.conf");
    team.ok(&["drift", "/etc/tide.conf", "--adopt", "--yes", "-q"]);
    let (spec, _) = project_files(&team);
    assert!(spec.matches("inside = \"/etc/tide.conf\"").count() == 1 && spec.contains("depth = \"4\""), "{spec}");
    team.assert_clean();
}

/// A virtual environment as `python3 -m venv` makes it, with two packages, the first of which comes with it.
const ENVIRONMENT: &str = "mkdir -p /opt/v/bin /opt/v/include/python3.13 /opt/v/lib/python3.13/site-packages; cd /opt/v
    ln -s lib lib64; ln -s /usr/bin/python3 bin/python3; ln -s python3 bin/python; echo x > bin/activate; echo x > bin/pip
    printf 'home = /usr/bin\ninclude-system-site-packages = false\nversion = 3.13.5\n' > pyvenv.cfg
    cd lib/python3.13/site-packages
    for one in pip-25.1.1 click-8.5.1; do
        mkdir -p $one.dist-info ${one%-*}; echo x > ${one%-*}/a.py
        printf \"Name: ${one%-*}\nVersion: ${one#*-}\n\n\" > $one.dist-info/METADATA
        printf \"${one%-*}/a.py,,\n$one.dist-info/METADATA,,\n\" > $one.dist-info/RECORD
    done";

#[test]
fn an_environment_of_a_language_is_one_thing_and_made_before_what_lies_in_it() {
    let team = Team::locked();
    // What the interpreter brings for new environments.
    team.step("mkdir -p /usr/share/python-wheels; echo x > /usr/share/python-wheels/pip-25.1.1-py3-none-any.whl");
    team.ok(&["lock", "-q"]);
    team.ok(&["start", "-q", "--wait"]);
    inside(&team, "root", ENVIRONMENT);
    inside(&team, "root", "mkdir -p /srv/x/node_modules/tides; cd /srv/x; echo {} > package.json
        echo '{\"name\":\"tides\",\"version\":\"2.0.0\"}' > node_modules/tides/package.json; mkdir -p /root/.npm; echo 1 > /root/.npm/when");
    let value = drift(&team);
    assert_eq!(
        names(&value),
        ["environment /opt/v", "language-package tides", "language-package click", "file /srv/x/package.json"]
    );
    let told = team.fails(&["drift", "--adopt"], 2);
    let made = told.find("+run = [\"python3\", \"-m\", \"venv\", \"/opt/v\"]").unwrap_or_else(|| panic!("{told}"));
    let installed =
        told.find("+run = [\"/opt/v/bin/pip\", \"install\", \"click==8.5.1\"]").unwrap_or_else(|| panic!("{told}"));
    assert!(made < installed && !told.contains("pip=="), "{told}");
    // A program that somebody laid into it is theirs, and one word means the directory with all in it.
    inside(&team, "root", "echo '#!/bin/sh' > /opt/v/bin/mine; chmod 755 /opt/v/bin/mine");
    assert!(names(&drift(&team)).contains(&"file /opt/v/bin/mine".to_owned()));
    team.ok(&["stop", "-q"]);
    team.ok(&["drift", "--undo", "/opt/v", "--yes", "-q"]);
    assert_eq!(names(&drift(&team)), ["language-package tides", "file /srv/x/package.json"]);
    team.ok(&["start", "-q", "--wait"]);
    inside(&team, "root", "test ! -e /opt/v");
    team.assert_clean();
}

#[test]
#[ignore = "it asks the mirror of the Debian archive, and indexes of packages of languages"]
fn online_packages_of_languages_are_adopted_recorded_and_leave_no_drift() {
    let team = Team::new();
    let spec = "spec = 1\n\n[workspace]\nname = \"notices\"\n\n[base]\ndebian   = \"trixie\"\npackages = [\"bash\", \"coreutils\", \"python3-pip\", \"python3-venv\", \"npm\", \"ca-certificates\"]\n";
    fs::write(team.project().join("cavrith.toml"), spec).unwrap();
    // A machine behind a company's proxy has a certificate of its own; the workspace's network is the machine's.
    fs::copy("/etc/ssl/certs/ca-certificates.crt", team.project().join("ours.crt")).unwrap();
    team.ok(&["lock", "-q"]);
    team.ok(&["start", "-q", "--wait"]);
    let script = "export PIP_CERT=/code/ours.crt NODE_EXTRA_CA_CERTS=/code/ours.crt npm_config_cafile=/code/ours.crt
        pip install -q --break-system-packages humanize==4.12.0; npm install -g is-odd@3.0.1
        python3 -m venv /opt/v; /opt/v/bin/pip install -q click==8.1.8
        mkdir -p /srv/board; cd /srv/board; npm init -y; npm install left-pad@1.3.0";
    inside(&team, "root", script);
    let output = team.run(&["drift", "--adopt", "--yes"]);
    let told = crate::team::told(&output);
    assert!(output.status.success() && told.contains("the image holds now what the workspace held"), "{told}");
    assert!(!told.contains("not adopted"), "{told}");
    team.ok(&["apply", "-q"]);
    assert_eq!(names(&drift(&team)), [""; 0]);
    inside(
        &team,
        "crew",
        "/opt/v/bin/python -c 'import click'; python3 -c 'import humanize'; cd /srv/board; node -e 'require(\"left-pad\")'",
    );
    team.ok(&["seal", "-q"]);
    assert!(team.ok(&["verify"]).contains("same         scratch"));
    team.assert_clean();
}

#[test]
fn an_adoption_that_does_not_build_leaves_the_project_as_it_was() {
    let team = Team::locked();
    team.ok(&["start", "-q", "--wait"]);
    inside(
        &team,
        "root",
        "echo sven:x:1001:1001::/home/sven:/bin/sh >> /etc/passwd; mkdir -p /opt/charts; echo 1 > /opt/charts/1; echo 2 > /opt/charts/2",
    );
    let before = project_files(&team);
    // The image has no useradd.
    let told = team.fails(&["drift", "--adopt", "--yes"], 5);
    assert!(told.contains("useradd") && told.contains("the project is as it was before"), "{told}");
    assert_eq!(project_files(&team), before);
    assert!(!team.project().join("adopted").exists());
    // A package cannot be written into a base from a depot; the rest can.
    inside(&team, "root", INSTALL);
    let output = team.run(&["drift", "tide", "/opt/charts", "--adopt", "--yes", "--json"]);
    let value: Value =
        serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{}", crate::team::told(&output)));
    assert_eq!(value["adopted"], serde_json::json!(["/opt/charts"]));
    assert_eq!(value["left"][0]["name"], "tide");
    team.assert_clean();
}

#[test]
fn files_are_laid_into_the_project_through_no_link() {
    let team = Team::locked();
    team.ok(&["start", "-q", "--wait"]);
    inside(&team, "root", "mkdir -p /opt/charts; echo 1 > /opt/charts/1; echo 2 > /opt/charts/2");
    // The project's folder is visible inside, so whoever is there can lay a link for us.
    let outside = team.dir.path().join("outside");
    fs::create_dir(&outside).unwrap();
    inside(&team, "crew", &format!("ln -s {} /code/adopted", outside.display()));
    let before = project_files(&team);
    let told = team.fails(&["drift", "--adopt", "--yes"], 2);
    assert!(told.contains("leads through a link") || told.contains("adopted"), "{told}");
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 0);
    assert_eq!(project_files(&team), before);
    team.assert_clean();
}

#[test]
fn what_is_taken_back_is_as_in_the_image_and_set_aside() {
    let team = Team::sealed();
    team.ok(&["start", "-q", "--wait"]);
    inside(&team, "root", INSTALL);
    let script = "mkdir -p /opt/charts/a; echo 1 > /opt/charts/a/1; echo 2 > /opt/charts/a/2; rm /bin/vi; chmod 700 /etc; echo x > /etc/passwd-x
        echo 'crew::1:::::' > /etc/shadow; echo x >> /opt/quill/2.4.1/bin/quill; rm -r /srv/site; mkdir /srv/site; echo new > /srv/site/new";
    inside(&team, "root", script);
    inside(&team, "crew", "echo mine > ~/notes");
    let told = team.fails(&["drift", "--undo", "--yes"], 2);
    assert!(told.contains("cavrith stop"), "{told}");
    team.ok(&["stop", "-q"]);
    // A directory that was made anew hides what the image has in it.
    let told = team.fails(&["drift", "--undo", "/srv/site", "--yes"], 2);
    assert!(told.contains("was removed and made anew"), "{told}");
    let words = ["tide", "accounts", "/opt", "/bin/vi", "/etc", "/etc/passwd-x"];
    let undone = [&["drift", "--undo", "--yes", "--json"], &words[..]].concat();
    let value = team.json(&undone);
    let backup = value["backup"].as_str().unwrap().to_owned();
    assert_eq!(fs::read_to_string(Path::new(&backup).join("root/opt/charts/a/1")).unwrap(), "1\n");
    assert_eq!(fs::read_to_string(Path::new(&backup).join("root/usr/bin/tide")).unwrap(), "tide\n");
    let left = names(&drift(&team));
    assert!(left.iter().all(|name| name.contains("/srv/site")) && !left.is_empty(), "{left:?}");
    team.ok(&["start", "-q", "--wait"]);
    inside(
        &team,
        "root",
        "test -e /bin/vi; test ! -e /opt/charts; test ! -e /usr/bin/tide; test $(stat -c %a /etc) = 755; quill --version; cat /home/crew/notes",
    );
    team.assert_clean();
}

#[test]
fn a_new_project_begins_with_a_workspace_and_its_drift() {
    let team = Team::locked();
    team.ok(&["start", "-q", "--wait"]);
    inside(
        &team,
        "root",
        "echo deep > /etc/tide.conf; mkdir -p /opt/charts; echo 1 > /opt/charts/1; echo 2 > /opt/charts/2",
    );
    let dir = team.dir.path().join("ida/other");
    fs::create_dir(&dir).unwrap();
    let at = dir.to_str().unwrap();
    let told = team.ok(&["-C", at, "init", "--from", "timetable", "--drift"]);
    assert!(
        told.contains("took /etc/tide.conf")
            && told.contains("took /opt/charts")
            && told.contains("wrote cavrith.toml"),
        "{told}"
    );
    let spec = fs::read_to_string(dir.join("cavrith.toml")).unwrap();
    assert!(spec.contains("inside = \"/etc/tide.conf\"") && dir.join("adopted/opt/charts/2").is_file(), "{spec}");
    // The workspace's own project is as it was.
    assert!(
        !team.project().join("adopted").exists()
            && !fs::read_to_string(team.project().join("cavrith.toml")).unwrap().contains("tide.conf")
    );
    fs::create_dir(team.dir.path().join("ida/third")).unwrap();
    let third = team.dir.path().join("ida/third");
    let told = team.fails(&["-C", third.to_str().unwrap(), "init", "--from", "../timetable", "--drift"], 2);
    assert!(told.contains("cavrith list"), "{told}");
    team.assert_clean();
}

#[test]
fn long_and_odd_paths_are_told_whole_adopted_and_taken_back() {
    let team = Team::locked();
    team.ok(&["start", "-q", "--wait"]);
    let long = format!("/opt/{}", ["a".repeat(100), "b".repeat(100), "c".repeat(100)].join("/"));
    let script = format!(
        "mkdir -p {long}; echo 1 > {long}/one; echo 2 > {long}/two; echo 3 > '/etc/with blank'; echo 4 > '/etc/back\\slash'; echo 5 > \"/etc/quo\\\"te\"; echo 6 > /etc/größe"
    );
    inside(&team, "root", &script);
    let found = names(&drift(&team));
    for path in ["/etc/with blank", "/etc/back\\slash", "/etc/quo\"te", "/etc/größe"] {
        assert!(found.contains(&format!("file {path}")), "{path}: {found:?}");
    }
    let output = team.run(&["drift", "--adopt", "--yes"]);
    let told = crate::team::told(&output);
    assert!(output.status.success() && told.contains("the image holds now what the workspace held"), "{told}");
    team.ok(&["restart", "-q"]);
    assert_eq!(names(&drift(&team)), [""; 0]);
    inside(
        &team,
        "root",
        &format!(
            "test $(cat {long}/two) = 2; test $(cat '/etc/back\\slash') = 4; rm -r {long}; echo 7 > '/etc/with blank'"
        ),
    );
    team.ok(&["stop", "-q"]);
    team.ok(&["drift", "--undo", "--yes", "-q"]);
    assert_eq!(names(&drift(&team)), [""; 0]);
    team.assert_clean();
}

#[test]
#[ignore = "it asks the mirror of the Debian archive"]
fn online_packages_that_somebody_installed_are_adopted() {
    let team = Team::new();
    let spec = "spec = 1\n\n[workspace]\nname = \"notices\"\n\n[base]\ndebian   = \"bookworm\"\npackages = [\n    \"apt\",    # to try things out\n    \"nano\",\n    \"nginx-light\",\n    \"passwd\",\n]\n";
    fs::write(team.project().join("cavrith.toml"), spec).unwrap();
    team.ok(&["lock", "-q"]);
    team.ok(&["start", "-q", "--wait"]);
    let script = "apt-get update -q >/dev/null; apt-get install -y -q jq >/dev/null; apt-get remove -y -q nano >/dev/null
        useradd -m sven; echo 'worker_processes 2;' >> /etc/nginx/nginx.conf; rm /etc/nginx/win-utf; chmod 600 /etc/nginx/mime.types";
    inside(&team, "root", script);
    let value = drift(&team);
    let found = names(&value);
    let needed = ["package libjq1", "package libonig5"];
    let expected = [
        "package jq",
        needed[0],
        needed[1],
        "package nano",
        "account sven",
        "file /etc/nginx/mime.types",
        "file /etc/nginx/nginx.conf",
        "removed /etc/nginx/win-utf",
    ];
    assert_eq!(found, expected);
    let config =
        value["findings"].as_array().unwrap().iter().find(|one| one["path"] == "/etc/nginx/nginx.conf").unwrap();
    assert_eq!(config["origin"], "package nginx-common");
    assert!(config["diff"].as_str().unwrap().contains("+worker_processes 2;"), "{config}");
    let output = team.run(&["drift", "--adopt", "--yes"]);
    let told = crate::team::told(&output);
    assert!(output.status.success() && told.contains("the image holds now what the workspace held"), "{told}");
    let spec = fs::read_to_string(team.project().join("cavrith.toml")).unwrap();
    assert!(
        spec.contains("    \"apt\",    # to try things out\n    \"nginx-light\",\n    \"passwd\",\n    \"jq (>= "),
        "{spec}"
    );
    team.ok(&["restart", "-q"]);
    assert_eq!(names(&drift(&team)), [""; 0]);
    inside(&team, "root", "jq --version; ! nano --version; id sven");
    team.ok(&["seal", "-q"]);
    assert!(team.ok(&["verify"]).contains("same         scratch"));
    team.assert_clean();
}

#[test]
fn an_ordinary_user_adopts_what_root_and_the_account_made_each_as_theirs() {
    for range in [true, false] {
        let team = Team::locked();
        let member = Member::of(&team, range);
        let ok = |arguments: &[&str]| {
            let output = member.command(arguments).output().unwrap();
            assert!(output.status.success(), "range {range}: {arguments:?}: {}", crate::team::told(&output));
            output
        };
        ok(&["start", "-q", "--wait"]);
        let by_root = "echo depth=3 > /etc/tide.conf; mkdir /opt/charts; echo 1 > /opt/charts/1; ln -s 1 /opt/charts/2
            mkdir -m 1777 /opt/nets";
        ok(&["run", "-q", "--account", "root", "--", "sh", "-ec", by_root]);
        ok(&["run", "-q", "--", "sh", "-ec", "echo 1 > /opt/nets/one"]);
        let said = crate::team::told(&ok(&["drift", "--adopt", "--yes"]));
        assert!(said.contains("not adopted /opt/nets: its files belong to several"), "range {range}: {said}");
        assert!(said.contains("adopted 2 changes; the image holds now"), "range {range}: {said}");
        let spec = fs::read_to_string(member.dir.join("timetable/cavrith.toml")).unwrap();
        assert!(spec.contains("/etc/tide.conf") && !spec.contains("owner"), "range {range}: {spec}");
        ok(&["restart", "-q"]);
        ok(&["stop", "-q"]);
        ok(&["store", "check"]);
    }
}
