use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant, SystemTime};

use crate::team::{Team, told};

/// Makes everything in the store as if it had not been used for so long.
fn age(team: &Team, days: u64) {
    let then = SystemTime::now() - Duration::from_secs(days * 86_400);
    for layer in fs::read_dir(team.home().join("store/layers")).unwrap() {
        fs::File::open(layer.unwrap().path()).unwrap().set_modified(then).unwrap();
    }
}

#[test]
fn what_was_not_used_for_long_goes_and_what_is_used_stays() {
    let team = Team::locked();
    team.build();
    team.step("echo more > /srv/more");
    team.build();
    let all = team.json(&["store", "list", "--json"]);
    assert_eq!(all["held"].as_array().unwrap().len(), 10);
    let keys: Vec<_> = all["held"][0].as_object().unwrap().keys().cloned().collect();
    assert_eq!(keys, ["bytes", "id", "in_use", "kind", "names", "shared", "unused_seconds"]);
    assert!(team.ok(&["store", "list"]).contains("toolchain quill 2.4.1"));
    age(&team, 40);
    // A build that finds everything uses it.
    team.change("echo more > /srv/more", "echo other > /srv/more");
    team.build();
    let would = team.ok(&["store", "collect", "--dry-run"]);
    assert!(would.contains("step \"step 2\"") && would.ends_with("would go 1 thing, 5 B\n"), "{would}");
    assert_eq!(team.json(&["store", "list", "--json"])["held"].as_array().unwrap().len(), 11);
    let gone = team.json(&["store", "collect", "--json"]);
    assert_eq!((gone["removed"].as_bool(), gone["gone"].as_array().unwrap().len()), (Some(true), 1));
    assert!(team.ok(&["build"]).contains("nothing to do"));
    // Down to a size, the least recently used first; what goes is made again when it is needed.
    team.ok(&["store", "collect", "--down-to", "0 B"]);
    assert_eq!(team.json(&["store", "list", "--json"])["bytes"], 0);
    assert!(team.ok(&["build"]).contains("layers made"));
    team.ok(&["store", "check"]);
    assert!(
        team.fails(&["store", "collect", "--down-to", "much"], 2).contains("write a whole number and one of B, KiB")
    );
    team.assert_clean();
}

#[test]
fn a_workspace_that_runs_keeps_its_layers() {
    let team = Team::locked();
    team.build();
    team.ok(&["start"]);
    let gone = team.json(&["store", "collect", "--unused-for", "0 s", "--down-to", "0 B", "--json"]);
    assert_eq!(gone["gone"], serde_json::json!([]));
    assert!(team.ok(&["store", "list"]).contains("in use"));
    let keeper = team.json(&["status", "--json"])["status"]["keeper"].as_i64().unwrap();
    nix::sys::signal::kill(nix::unistd::Pid::from_raw(keeper as i32), nix::sys::signal::Signal::SIGKILL).unwrap();
    let started = Instant::now();
    while team.json(&["store", "collect", "--unused-for", "0 s", "--json"])["gone"].as_array().unwrap().is_empty() {
        assert!(started.elapsed() < Duration::from_secs(10), "the lease of a killed keeper still holds");
    }
}

#[test]
fn eight_builds_of_two_projects_and_collectors_at_once() {
    let team = Team::locked();
    let other = team.dir.path().join("other");
    crate::team::copy(&team.project(), &other.join("timetable"));
    crate::team::copy(&team.dir.path().join("depot"), &team.dir.path().join("other-depot"));
    let spec = fs::read_to_string(other.join("timetable/cavrith.toml")).unwrap();
    fs::write(
        other.join("timetable/cavrith.toml"),
        spec.replace("quill frame /srv/site", "quill frame /srv/site; sleep 0.1; date > /dev/null"),
    )
    .unwrap();
    let run = |other_project: bool, arguments: &[&str]| {
        let mut command = team.command(arguments);
        if other_project {
            command.current_dir(other.join("timetable"));
        }
        command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    };
    let (mut builds, mut collectors) = (Vec::new(), Vec::new());
    for number in 0..8 {
        let fresh: &[&str] = if number % 4 == 3 { &["build", "--json", "--fresh"] } else { &["build", "--json"] };
        builds.push((number % 2 == 1, run(number % 2 == 1, fresh)));
        collectors.push(run(false, &["store", "collect", "--unused-for", "0 s", "--down-to", "0 B"]));
    }
    let mut images = [Vec::new(), Vec::new()];
    for (other_project, child) in builds {
        let output = child.wait_with_output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
        let answer: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        images[usize::from(other_project)].push(answer["image"].as_str().unwrap().to_owned());
    }
    for child in collectors {
        let output = child.wait_with_output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
    }
    for mut same in images {
        same.dedup();
        assert_eq!(same.len(), 1);
    }
    team.build();
    team.ok(&["store", "check"]);
    team.assert_clean();
}

#[test]
fn repairing_leaves_a_damaged_layer_under_the_workspace_that_runs_on_it() {
    let team = Team::locked();
    team.ok(&["start", "-q"]);
    let file = team.in_store("opt/quill/2.4.1/bin/quill");
    let content = fs::read(&file).unwrap();
    fs::write(&file, [&content[..], b"# damaged\n"].concat()).unwrap();
    let said = team.fails(&["store", "repair"], 3);
    assert!(said.contains("is damaged, and used by a workspace"), "{said}");
    assert!(file.exists());
    team.ok(&["run", "-q", "--", "quill", "--version"]);
    team.ok(&["stop", "-q"]);
    team.ok(&["store", "repair"]);
    assert!(!file.exists());
    team.ok(&["build", "-q"]);
    team.ok(&["store", "check"]);
}

#[test]
fn what_can_be_fetched_again_goes_before_what_would_have_to_be_made() {
    let team = Team::sealed();
    let folder = team.dir.path().join("layers");
    let text = format!("[cache]\nfolder = {:?}\n", folder.to_str().unwrap());
    fs::write(team.home().join("config.toml"), text).unwrap();
    team.ok(&["build", "--publish"]);
    // A step that nobody else has, used longer ago than anything that is shared.
    team.step("echo pier > /srv/pier");
    team.ok(&["lock"]);
    team.ok(&["build"]);
    let held = team.json(&["store", "list", "--json"]);
    let layers = |held: &serde_json::Value, shared: bool| -> Vec<String> {
        let all = held["held"].as_array().or(held["gone"].as_array()).unwrap().iter();
        let all = all.filter(|one| one["kind"] == "layer" && one["shared"].is_string() == shared);
        all.map(|one| one["id"].as_str().unwrap().to_owned()).collect()
    };
    let (shared, own) = (layers(&held, true), layers(&held, false));
    assert_eq!((shared.len(), own.len()), (9, 1), "{held}");
    assert!(team.ok(&["store", "list"]).contains("; also in "));
    age(&team, 3);
    let bytes = held["bytes"].as_u64().unwrap();
    let gone = team.json(&["store", "collect", "--down-to", &format!("{} B", bytes - 1), "--dry-run", "--json"]);
    assert_eq!(layers(&gone, false), [] as [&str; 0], "{gone}");
    assert!(!layers(&gone, true).is_empty(), "{gone}");
    team.assert_clean();
}
