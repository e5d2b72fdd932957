//! Secrets that a spec names: given by each member, seen where they belong, and nowhere else.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use crate::owners::Member;
use crate::team::{Team, told};

/// What nobody may find anywhere.
const PLANTED: [&str; 3] = ["tide-planted-42", "gauge-planted-81", "second-planted-line"];

const NEEDED: &str = r#"
[secrets.tide-token]
about    = "your token of the tide service"
variable = "TIDE_TOKEN"
file     = true

[secrets.gauge-key]
about    = "the key of the gauge"
variable = "GAUGE_KEY"
services = ["site"]

[secrets.spare]
about    = "nothing much"
variable = "SPARE"
optional = true

[[steps]]
name = "use it"
at   = "start"
run  = "echo the token is $TIDE_TOKEN; test -z \"$GAUGE_KEY\""
"#;

fn team() -> Team {
    let team = Team::new();
    team.add(NEEDED);
    team.change("run   = \"./serve.sh\"", "run   = \"echo key $GAUGE_KEY; exec ./serve.sh\"");
    team.ok(&["lock"]);
    team
}

/// Files under a directory, their names or contents, in which one of the planted texts stands.
fn leaks(top: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(top).into_iter().flatten().flatten() {
        let path = entry.path();
        let meta = entry.path().symlink_metadata().unwrap();
        if meta.is_dir() {
            leaks(&path, found);
        } else if meta.is_file() {
            let content = fs::read(&path).unwrap_or_default();
            let has = |text: &&str| content.windows(text.len()).any(|part| part == text.as_bytes());
            found.extend(PLANTED.iter().any(has).then_some(path));
        }
    }
}

#[test]
fn values_are_seen_where_they_belong_and_stand_in_no_file_log_or_answer() {
    for kind in ["root", "range", "single"] {
        if kind != "root" && !nix::unistd::Uid::effective().is_root() {
            continue;
        }
        let team = team();
        let member = (kind != "root").then(|| Member::of(&team, kind == "range"));
        let (project, home) = match &member {
            None => (team.project(), team.home()),
            Some(member) => (member.dir.join("timetable"), member.dir.join("home")),
        };
        let command = |arguments: &[&str]| -> Command {
            let command = member.as_ref().map_or_else(|| team.command(arguments), |member| member.command(arguments));
            let mut command = command;
            command.env("MY_TIDE", format!("{}\n{}\n", PLANTED[0], PLANTED[2]));
            command
        };
        let run = |arguments: &[&str]| -> Output { command(arguments).output().unwrap() };
        let ok = |arguments: &[&str]| {
            let output = run(arguments);
            assert!(output.status.success(), "{kind}: {arguments:?}: {}", told(&output));
            String::from_utf8(output.stdout).unwrap()
        };
        // Nothing is known yet: the lines to add, once; nothing was started.
        let missing = run(&["start"]);
        let said = told(&missing);
        assert_eq!(missing.status.code(), Some(2), "{kind}: {said}");
        assert!(said.contains("CF0710") && said.contains("the secret gauge-key: the key of the gauge"), "{said}");
        assert_eq!(said.matches(&format!("[secrets.\"{}\"]", project.display())).count(), 1, "{said}");
        assert!(!said.contains("spare"), "{said}");
        let config = format!(
            "[secrets.\"{}\"]\ntide-token = {{ variable = \"MY_TIDE\" }}\ngauge-key = {{ command = [\"cat\", \"{}\"] }}\n",
            project.display(),
            team.dir.path().join("key").display()
        );
        fs::write(team.dir.path().join("key"), PLANTED[1]).unwrap();
        fs::create_dir_all(&home).unwrap();
        fs::write(home.join("config.toml"), config).unwrap();
        ok(&["start", "--wait"]);
        let script = "echo \"$TIDE_TOKEN/$GAUGE_KEY/$SPARE\"; cat /run/secrets/tide-token; stat -c '%a %U' /run/secrets/tide-token; ls /run/secrets; touch /run/secrets/x 2>/dev/null && echo written; grep -c ' /run ' /proc/mounts";
        let inside = ok(&["run", "-q", "--", "sh", "-c", script]);
        let value = format!("{}\n{}", PLANTED[0], PLANTED[2]);
        let expected = format!("{value}//\n{value}400 crew\ntide-token\n");
        assert!(inside.starts_with(&expected), "{kind}: {inside}");
        // Where there is one owner, everything in memory is theirs.
        assert_eq!(inside.contains("written"), kind == "single", "{kind}: {inside}");
        let logs = ok(&["logs"]);
        assert!(logs.contains("key [secret]") && logs.contains("the token is [secret]"), "{kind}: {logs}");
        assert!(ok(&["status"]).contains("it runs without the secret spare, which is optional"), "{kind}");
        // What goes out: answers, reports, parcels, images, bills; and what is on disk.
        let parcel = project.parent().unwrap().join("out.parcel");
        ok(&["stop"]);
        ok(&["start", "--wait"]);
        let mut answers = String::new();
        for arguments in
            [&["status", "--json"][..], &["logs", "--json"], &["list", "--json"], &["verify", "--json"], &["contents"]]
        {
            answers += &told(&run(arguments));
        }
        ok(&["stop"]);
        ok(&["seal", "-q"]);
        ok(&["pack", "--scratch", parcel.to_str().unwrap()]);
        assert!(!PLANTED.iter().any(|text| answers.contains(text)), "{kind}: {answers}");
        fs::remove_file(team.dir.path().join("key")).unwrap();
        let mut found = Vec::new();
        leaks(team.dir.path(), &mut found);
        assert!(found.is_empty(), "{kind}: {found:?}");
    }
}

#[test]
fn a_project_elsewhere_gets_nothing_by_asking_and_what_is_wrong_is_told() {
    let team = team();
    let other = team.dir.path().join("stranger");
    fs::create_dir_all(&other).unwrap();
    fs::create_dir_all(team.home()).unwrap();
    fs::write(
        team.home().join("config.toml"),
        format!("[secrets.\"{}\"]\ntide-token = {{ command = [\"echo\", \"x\"] }}\ngauge-key = {{ variable = \"A\", ask = true }}\n", other.display()),
    )
    .unwrap();
    let said = team.fails(&["start"], 2);
    assert!(said.contains("needs the secret tide-token") && said.contains("needs the secret gauge-key"), "{said}");
    fs::write(
        team.home().join("config.toml"),
        format!("[secrets.\"{}\"]\ntide-token = {{ command = [\"false\"] }}\ngauge-key = {{ variable = \"A\", ask = true }}\n", team.dir.path().display()),
    )
    .unwrap();
    let said = team.fails(&["start"], 2);
    assert!(said.contains("tide-token is not to be had: false (command of tide-token) failed"), "{said}");
    assert!(said.contains("gauge-key is not to be had: config.toml has to say one of"), "{said}");
    // Mistakes of the spec, each at its place.
    for (from, to, why) in [
        ("services = [\"site\"]", "services = [\"sit\"]", "write \"site\""),
        ("variable = \"SPARE\"\n", "", "the secret spare appears nowhere"),
        ("variable = \"SPARE\"", "variable = \"PATH\"", "PATH is set by Cavrith itself"),
        ("about    = \"nothing much\"\n", "", "lacks the key `about`"),
    ] {
        team.change(from, to);
        let said = team.fails(&["check"], 1);
        assert!(said.contains(why), "{said}");
        team.change(
            if to.is_empty() { "[secrets.spare]\n" } else { to },
            &if to.is_empty() { format!("[secrets.spare]\n{from}") } else { from.to_owned() },
        );
    }
    team.assert_clean();
}

#[test]
fn a_secret_of_a_step_is_that_step_s_alone() {
    for who in crate::owners::Someone::each(|| {
        let team = Team::new();
        team.add(
            "\n[secrets.pier-code]\nabout = \"the code of the pier\"\nvariable = \"PIER\"\nsteps = [\"open the pier\"]\n\n\
             [[steps]]\nname = \"open the pier\"\nat = \"start\"\nrun = \"test \\\"$PIER\\\" = low-water-9; echo code $PIER\"\n\n\
             [[steps]]\nname = \"look at it\"\nat = \"start\"\nrun = \"test -z \\\"$PIER\\\"\"\n",
        );
        team.change("run   = \"./serve.sh\"", "run   = \"test -z \\\"$PIER\\\"; exec ./serve.sh\"");
        team.ok(&["lock"]);
        team
    }) {
        let kind = who.kind;
        let project = who.project().canonicalize().unwrap();
        who.configure(&format!(
            "[secrets.\"{}\"]\npier-code = {{ command = [\"echo\", \"low-water-9\"] }}\n",
            project.display()
        ));
        who.ok(&["start", "-q", "--wait"]);
        assert_eq!(who.ok(&["run", "-q", "--", "sh", "-c", "echo ${PIER-none}"]), "none\n", "{kind}");
        let log = who.ok(&["logs", "open the pier"]);
        assert!(log.contains("code [secret]") && !log.contains("low-water-9"), "{kind}: {log}");
        who.ok(&["stop", "-q"]);
    }
    let team = Team::new();
    team.add("\n[secrets.pier-code]\nabout = \"a code\"\nvariable = \"PIER\"\nsteps = [\"open the peer\"]\n\n[[steps]]\nname = \"open the pier\"\nat = \"start\"\nrun = \"true\"\n");
    let said = team.fails(&["check"], 1);
    assert!(said.contains("there is no step of the start") && said.contains("open the pier"), "{said}");
}
