//! The workspace that runs, the machine beneath it, and measuring without reading everything.

use std::fs;
use std::io::{BufRead as _, BufReader};
use std::os::unix::fs::MetadataExt as _;
use std::process::Stdio;

use serde_json::{Value, json};

use crate::team::Team;

fn aspect<'a>(answer: &'a Value, name: &str) -> &'a Value {
    let all = answer["aspects"].as_array().unwrap();
    all.iter().find(|aspect| aspect["name"] == name).unwrap_or_else(|| panic!("no {name}: {answer}"))
}

fn what(aspect: &Value) -> Vec<&str> {
    aspect["differences"].as_array().unwrap().iter().map(|one| one["what"].as_str().unwrap()).collect()
}

#[test]
fn a_machine_that_is_too_small_is_told_before_anything_is_built() {
    let team = Team::new();
    team.add("[workspace.host]\nmemory = \"900000 GiB\"\nkernel = \"99.0\"\nprocessors = 1\n");
    team.ok(&["lock"]);
    let told = team.fails(&["start"], 3);
    assert!(
        told.contains(
            "failed[CF0605]: this machine does not offer what timetable needs: memory at least 900000 GiB, here "
        ),
        "{told}"
    );
    assert!(told.contains("; kernel Linux 99.0 or newer, here Linux ") && !told.contains("processors"), "{told}");
    assert!(!told.contains("made "), "nothing is built: {told}");
    assert!(!team.home().join("workspaces").exists() || team.json(&["list", "--json"])["workspaces"] == json!([]));
    // Whoever knows better says so; it is a difference all the same.
    team.ok(&["start", "--anyway", "--wait"]);
    team.ok(&["seal"]);
    let verdict = team.json(&["verify", "--json"]);
    assert_eq!(what(aspect(&verdict, "this machine")), ["memory", "kernel"]);
    team.change(
        "memory = \"900000 GiB\"\nkernel = \"99.0\"",
        "memory = \"16 MiB\"\ndisk = \"16 MiB\"\nkernel = \"3.2\"",
    );
    team.ok(&["lock"]);
    team.ok(&["seal"]);
    team.ok(&["start"]);
    assert_eq!(aspect(&team.json(&["verify", "--json"]), "this machine")["same"], true);
}

#[test]
fn what_runs_is_held_against_the_spec() {
    let team = Team::new();
    team.add("[limits]\nprocesses = 300\nmemory = \"2 GiB\"\n\n[services.beacon]\nrun = \"test ! -e /tmp/dark && exec sleep 100000\"\nrestart = \"never\"\n");
    team.ok(&["lock"]);
    team.ok(&["seal"]);
    team.ok(&["start", "--wait"]);
    let verdict = team.json(&["verify", "--json"]);
    assert_eq!(aspect(&verdict, "running")["same"], true, "{verdict}");
    assert_eq!(verdict["same"], true);
    // A service that ended is told, and a spec that went on.
    team.ok(&["run", "--", "touch", "/tmp/dark"]);
    team.ok(&["run", "--account", "root", "--", "sh", "-c", "kill $(pidof sleep)"]);
    let patience = std::time::Instant::now() + std::time::Duration::from_secs(30);
    loop {
        let verdict = team.json(&["verify", "--json", "--quick"]);
        if what(aspect(&verdict, "running")) == ["service beacon"] {
            break;
        }
        assert!(std::time::Instant::now() < patience, "{verdict}");
    }
    let spec = team.project().join("cavrith.toml");
    let text = fs::read_to_string(&spec).unwrap();
    fs::write(&spec, text.replace("SITE_PORT = \"8080\"", "SITE_PORT = \"8080\"\nSEASON = \"winter\"")).unwrap();
    team.ok(&["lock"]);
    team.ok(&["build"]);
    let told = team.fails(&["verify"], 1);
    assert!(told.contains("variable SEASON"), "{told}");
}

#[test]
fn a_quick_look_reads_nothing_that_looks_as_it_did_and_everything_that_does_not() {
    let team = Team::sealed();
    // Nobody read it yet, so it is read.
    assert!(
        aspect(&team.json(&["verify", "--quick", "--json"]), "image")["measured"].as_str().unwrap().contains(" read")
    );
    let quick = team.json(&["verify", "--quick", "--json"]);
    assert_eq!((&quick["same"], &quick["quick"]), (&json!(true), &json!(true)));
    let measured = aspect(&quick, "image")["measured"].as_str().unwrap();
    assert!(measured.contains("only sizes and times, which are as they were since "), "{measured}");
    assert!(team.ok(&["verify", "--quick"]).contains("as far as sizes and times tell"));
    assert!(!quick["aspects"].as_array().unwrap().iter().any(|aspect| aspect["name"] == "toolchain probes"));
    // A byte is changed, and the time that programs see is put back.
    let layers = fs::read_dir(team.home().join("store/layers")).unwrap().map(|entry| entry.unwrap().path());
    let file = layers.map(|layer| layer.join("root/opt/quill/2.4.1/bin/quill")).find(|file| file.exists()).unwrap();
    let before = fs::metadata(&file).unwrap();
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, text.replacen('e', "a", 1)).unwrap();
    let times = fs::FileTimes::new().set_modified(before.modified().unwrap());
    fs::File::options().write(true).open(&file).unwrap().set_times(times).unwrap();
    assert_eq!(
        (fs::metadata(&file).unwrap().mtime(), fs::metadata(&file).unwrap().len()),
        (before.mtime(), before.len())
    );
    let quick = team.json(&["verify", "--quick", "--json"]);
    assert_eq!(what(aspect(&quick, "image")), ["/opt/quill/2.4.1/bin/quill"], "{quick}");
    // What is not as it was made is never remembered.
    assert_eq!(team.json(&["verify", "--quick", "--json"])["same"], false);
    assert!(team.fails(&["verify", "--quick", "--report"], 2).contains("cannot be used with"));
}

#[test]
fn a_watch_tells_what_becomes_another_and_what_becomes_the_same_again() {
    let team = Team::sealed();
    team.ok(&["start", "--wait"]);
    let mut child = team.command(&["verify", "--watch", "--quick"]).stdout(Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines().map(Result::unwrap);
    let first = lines.next().unwrap();
    assert!(first.ends_with("the same as sealed"), "{first}");
    team.ok(&["run", "--account", "root", "--", "sh", "-c", "echo x > /etc/hosts.deny"]);
    let told = lines.next().unwrap();
    assert!(told.ends_with("different  scratch"), "{told}");
    assert!(lines.next().unwrap().contains("/etc/hosts.deny"));
    team.ok(&["run", "--account", "root", "--", "rm", "/etc/hosts.deny"]);
    let told = lines.next().unwrap();
    assert!(told.ends_with("same  scratch"), "{told}");
    child.kill().unwrap();
    child.wait().unwrap();
}

#[test]
fn what_is_a_member_s_own_is_told_and_never_counts_and_a_kept_folder_that_is_gone_does() {
    let team = Team::new();
    team.add("[[folders]]\nmode = \"kept\"\nname = \"tides\"\ninside = \"/srv/tides\"\n");
    team.ok(&["lock"]);
    team.ok(&["seal"]);
    team.ok(&["start", "--wait"]);
    // A program that was left running after the command that started it; one whose command still runs is no such.
    team.ok(&["run", "--", "sh", "-c", "echo 7 > /srv/tides/skerry; sleep 4242 >/dev/null 2>&1 &"]);
    let mut guest = team.command(&["run", "--", "sleep", "4343"]).spawn().unwrap();
    let patience = std::time::Instant::now() + std::time::Duration::from_secs(30);
    while !team.ok(&["run", "--", "ps"]).contains("4343") {
        assert!(std::time::Instant::now() < patience);
    }
    let status = team.json(&["status", "--json"]);
    let left = status["status"]["left"].as_array().unwrap();
    assert_eq!(left.iter().map(|one| &one["command"]).collect::<Vec<_>>(), [&json!(["sleep", "4242"])], "{status}");
    assert!(team.ok(&["status"]).contains("by hand   1 program left running: sleep"));
    let verdict = team.json(&["verify", "--json"]);
    assert_eq!(verdict["same"], true, "{verdict}");
    assert!(aspect(&verdict, "running")["measured"].as_str().unwrap().contains("sleep by hand"), "{verdict}");
    assert_eq!(aspect(&verdict, "kept folders")["measured"], "tides: 1 entry, 2 B");
    guest.kill().unwrap();
    guest.wait().unwrap();
    team.ok(&["stop"]);
    let kept = fs::read_dir(team.home().join("kept")).unwrap().next().unwrap().unwrap().path().join("tides");
    fs::rename(&kept, kept.with_file_name("moved")).unwrap();
    let verdict = team.json(&["verify", "--json"]);
    let told = aspect(&verdict, "kept folders");
    assert_eq!((what(told), &told["differences"][0]["here"]), (vec!["kept folder tides"], &json!("gone")));
    assert_eq!(told["measured"], "your own: 1 folder that the spec names no more");
    fs::write(&kept, "").unwrap();
    let verdict = team.json(&["verify", "--json", "--quick"]);
    assert_eq!(aspect(&verdict, "kept folders")["differences"][0]["here"], "something else is in its place");
}

#[test]
fn a_start_may_stay_and_watch() {
    let team = Team::locked();
    let told = team.fails(&["start", "--watch"], 1);
    assert!(told.contains("cavrith seal") && team.ok(&["status"]).contains("not started"), "{told}");
    team.ok(&["seal"]);
    let mut child = team.command(&["start", "--watch", "--wait"]).stdout(Stdio::piped()).spawn().unwrap();
    let lines = BufReader::new(child.stdout.take().unwrap()).lines().map(Result::unwrap);
    let mut lines = lines.skip_while(|line| !line.contains("timetable runs, started in"));
    assert!(lines.next().is_some());
    let first = lines.next().unwrap();
    assert!(first.ends_with("the same as sealed"), "{first}");
    team.ok(&["run", "--account", "root", "--", "sh", "-c", "echo x > /etc/hosts.deny"]);
    let told = lines.next().unwrap();
    assert!(told.ends_with("different  scratch"), "{told}");
    // Whoever stops watching does not stop the workspace.
    child.kill().unwrap();
    child.wait().unwrap();
    team.ok(&["run", "--", "true"]);
    team.ok(&["stop"]);
}
