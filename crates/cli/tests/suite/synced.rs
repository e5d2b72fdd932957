//! Synced folders: by the real program, as root and as ordinary users.

use std::fs;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use crate::owners::Someone;
use crate::team::{Team, told};

/// As the project's folder stands in the spec.
const LIVE: &str = "inside  = \"/code\"\n";
const SYNCED: &str = "inside  = \"/code\"\nmode    = \"synced\"\nignore  = [\"*.o\"]\nexcept  = [\"built\"]\n";

fn team() -> Team {
    let team = Team::locked();
    team.change(LIVE, SYNCED);
    team
}

fn state(who: &Someone) -> serde_json::Value {
    let output = who.run(&["folder", "synced", "--json"]);
    let said: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    // The code says whether something is wrong.
    let fine = ["in step", "copying"].contains(&said["synced"][0]["state"].as_str().unwrap());
    assert_eq!(output.status.code(), Some(i32::from(!fine)), "{said}");
    said["synced"][0].clone()
}

fn keeper(who: &Someone) -> u64 {
    let status: serde_json::Value = serde_json::from_str(&who.ok(&["status", "--json"])).unwrap();
    status["status"]["keeper"].as_u64().unwrap()
}

fn write(who: &Someone, path: &Path, text: &str) {
    fs::write(path, text).unwrap();
    who.give(path);
}

/// Where the copy of the only workspace lies.
fn copy_of(who: &Someone) -> Option<PathBuf> {
    let all = fs::read_dir(who.home().join("kept")).ok()?;
    let mut copies = all.flatten().map(|entry| entry.path().join(".synced/code/files"));
    copies.find(|copy| copy.is_dir())
}

fn wait_for(what: &str, is_so: impl Fn() -> bool) {
    let until = Instant::now() + Duration::from_secs(20);
    while !is_so() {
        assert!(Instant::now() < until, "not in time: {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn both_sides_have_the_same_files_for_every_kind_of_member() {
    for who in Someone::each(team) {
        let (kind, project) = (who.kind, who.project());
        let run = |script: &str| who.ok(&["run", "-q", "--", "sh", "-c", script]);
        who.ok(&["start", "-q"]);
        // What was written a moment ago is there when a command begins, and when it is over.
        write(&who, &project.join("tide"), "high\n");
        assert_eq!(
            run("cat tide; echo low > ebb; chmod 750 ebb; mkdir -p d/e; ln -s ../tide d/l; echo o > a.o"),
            "high\n"
        );
        assert_eq!(fs::read_to_string(project.join("ebb")).unwrap(), "low\n", "{kind}");
        let (ebb, own) = (fs::metadata(project.join("ebb")).unwrap(), fs::metadata(&project).unwrap());
        assert_eq!((ebb.mode() & 0o7777, ebb.uid()), (0o750, own.uid()), "{kind}");
        assert_eq!(fs::read_link(project.join("d/l")).unwrap(), Path::new("../tide"), "{kind}");
        assert!(!project.join("a.o").exists() && project.join("d/e").is_dir(), "{kind}");
        // The account is whoever has the files outside, and set-uid programs do not come out.
        assert_eq!(
            run("stat -c %U tide ebb; cp /bin/sh own; chmod 4755 own 2>/dev/null || chmod 755 own"),
            "crew\ncrew\n",
            "{kind}"
        );
        assert_eq!(fs::metadata(project.join("own")).unwrap().mode() & 0o7777, 0o755, "{kind}");
        run("rm own ebb; mv tide flood; echo kept > built/mine");
        assert!(!project.join("ebb").exists() && !project.join("tide").exists(), "{kind}");
        assert_eq!(fs::read_to_string(project.join("flood")).unwrap(), "high\n", "{kind}");
        assert!(!project.join("built").exists(), "{kind}");
        assert_eq!(state(&who)["state"], "in step", "{kind}");
        // The directory that somebody is in is the same one inside.
        let mut here = who.command(&["run", "-q", "--", "pwd"]);
        let here = here.current_dir(project.join("d/e")).output().unwrap();
        assert_eq!(String::from_utf8_lossy(&here.stdout), "/code/d/e\n", "{kind}");
        // Nothing is left when all of it is outside; what does not cross is not.
        who.ok(&["drop", "--yes", "-q"]);
        assert_eq!(copy_of(&who), None, "{kind}");
        who.ok(&["start", "-q"]);
        assert_eq!(run("cat flood; ls a.o built 2>/dev/null || true"), "high\nbuilt:\n", "{kind}");
        who.ok(&["stop", "-q"]);
    }
}

#[test]
fn a_killed_keeper_loses_nothing_and_conflicts_are_shown_and_settled() {
    for who in Someone::each(team) {
        let (kind, project) = (who.kind, who.project());
        write(&who, &project.join("tide"), "high\n");
        write(&who, &project.join("moon"), "full\n");
        who.ok(&["start", "-q"]);
        let killed = keeper(&who);
        assert!(Command::new("kill").args(["-9", &killed.to_string()]).status().unwrap().success());
        wait_for("the keeper is gone", || told(&who.run(&["status"])).contains("its keeper was killed"));
        // What was not written down yet is taken for a change of both, unless it is alike.
        let copy = copy_of(&who).unwrap();
        fs::write(copy.join("tide"), "inside\n").unwrap();
        write(&who, &project.join("tide"), "outside\n");
        // Who drops it now keeps what is in the copy alone.
        let said = told(&who.run(&["drop", "--yes"]));
        assert!(said.contains("keeps     the copy of /code"), "{kind}: {said}");
        assert_eq!(fs::read_to_string(copy.join("tide")).unwrap(), "inside\n", "{kind}");
        who.ok(&["start", "-q"]);
        let found = state(&who);
        assert_eq!((&found["state"], &found["conflicts"]), (&"conflicts".into(), &1.into()), "{kind}: {found}");
        assert_eq!(found["listed"][0]["path"], "/code/tide", "{kind}");
        let said = who.ok(&["status"]);
        assert!(said.contains("both sides changed 1 path; see cavrith folder synced"), "{kind}: {said}");
        let said = told(&who.run(&["stop"]));
        assert!(said.contains("/code is not the same inside and outside"), "{kind}: {said}");
        // The copy outlives the workspace as long as it holds something of its own.
        let said = told(&who.run(&["drop", "--yes"]));
        assert!(said.contains("keeps     the copy of /code"), "{kind}: {said}");
        assert!(copy_of(&who).is_some(), "{kind}");
        who.ok(&["start", "-q"]);
        let said = told(&who.run(&["folder", "settle", "tide", "--inside", "--outside"]));
        assert!(said.contains("cannot be used with"), "{kind}: {said}");
        let said = told(&who.run(&["folder", "settle", "moon", "--inside"]));
        assert!(said.contains("both sides have not changed anything there"), "{kind}: {said}");
        let said = told(&who.run(&["folder", "settle", "/etc/passwd", "--inside"]));
        assert!(said.contains("is in no synced folder"), "{kind}: {said}");
        who.ok(&["folder", "settle", "tide", "--inside"]);
        assert_eq!(fs::read_to_string(project.join("tide")).unwrap(), "inside\n", "{kind}");
        assert_eq!(state(&who)["state"], "in step", "{kind}");
        let said = told(&who.run(&["stop"]));
        assert!(!said.contains("not the same"), "{kind}: {said}");
    }
}

#[test]
fn git_inside_believes_its_index_without_reading_the_files() {
    let team = team();
    let git = |arguments: &[&str]| {
        let mut command = Command::new("git");
        command.args(["-c", "user.name=Tove", "-c", "user.email=tove@brindle.example"]).args(arguments);
        let output = command.current_dir(team.project()).env("GIT_CONFIG_GLOBAL", "/dev/null").output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
    };
    git(&["init", "-q"]);
    git(&["add", "-A"]);
    git(&["commit", "-qm", "first"]);
    team.ok(&["start", "-q"]);
    let run = |script: &str| team.ok(&["run", "-q", "--", "sh", "-c", script]);
    assert_eq!(
        run("echo $GIT_CONFIG_COUNT $GIT_CONFIG_KEY_0 $GIT_CONFIG_VALUE_0 $GIT_CONFIG_KEY_1 $GIT_CONFIG_VALUE_1"),
        "2 core.checkStat minimal core.trustctime false\n"
    );
    // Its locks stay where they are held, and the times that the index has are the files' times.
    run("echo held > .git/index.lock");
    assert!(!team.project().join(".git/index.lock").exists());
    let time = |path: PathBuf| fs::metadata(path).map(|meta| (meta.mtime(), meta.mtime_nsec())).unwrap();
    let outside = time(team.project().join("cavrith.toml"));
    let copies = fs::read_dir(team.home().join("kept")).unwrap().flatten();
    let mut copies = copies.map(|entry| entry.path().join(".synced/code/files/cavrith.toml"));
    assert_eq!(time(copies.find(|copy| copy.exists()).unwrap()), outside);
    team.stop_all();
}

#[test]
fn a_spec_with_a_synced_folder_is_checked_and_explained() {
    let team = Team::locked();
    team.change(LIVE, &SYNCED.replace("*.o", "!keep"));
    let said = team.fails(&["check"], 1);
    assert!(said.contains("what is ignored cannot be taken back") && said.contains("gitignore(5)"), "{said}");
    let team = Team::locked();
    team.change(LIVE, &SYNCED.replace("mode    = \"synced\"\n", ""));
    let said = team.fails(&["check"], 1);
    assert!(said.contains("`ignore` means nothing for a live folder") && said.contains("\"synced\""), "{said}");
    // It is a change of how a workspace is used, not of its image.
    let team = Team::sealed();
    team.ok(&["start", "-q"]);
    let spec = team.project().join("cavrith.toml");
    fs::write(&spec, fs::read_to_string(&spec).unwrap().replace(LIVE, SYNCED)).unwrap();
    let said = told(&team.run(&["apply", "--dry-run"]));
    assert!(said.contains("synced with ."), "{said}");
    team.stop_all();
}

#[test]
fn steps_find_the_first_copy_and_a_folder_in_it_stays_apart() {
    let team = team();
    team.add("\n[[folders]]\ninside = \"/code/tables\"\nmode   = \"kept\"\nname   = \"tables\"\n");
    fs::write(team.project().join("seed"), "seed\n").unwrap();
    fs::set_permissions(team.project().join("seed"), fs::Permissions::from_mode(0o600)).unwrap();
    team.ok(&["start", "-q"]);
    assert_eq!(
        team.ok(&["run", "-q", "--", "sh", "-c", "cat seed; echo row > tables/row; cat tables/row"]),
        "seed\nrow\n"
    );
    assert!(!team.project().join("tables").exists());
    team.stop_all();
}
