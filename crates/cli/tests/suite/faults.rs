//! A disk that fails at every moment: after each write, sync and rename of a command, one by one, an error, a write
//! that is cut short, or the end of the process. Afterwards the old is there or the new, never a mixture, and the same
//! command, tried again, does its work.

use std::fs;
use std::path::Path;

use crate::team::{Team, told};

/// What the disk does at the N-th call.
const WAYS: [&str; 3] = ["error", "short", "kill"];
/// Calls that no command here makes: then the count is wrong.
const MOST: u32 = 400;

/// Runs a command with each of its calls failing in turn, after `prepare`, and examines what is there with `look`. Says
/// how many calls there were.
fn at_every_call(team: &Team, command: &[&str], prepare: &dyn Fn(), look: &dyn Fn(&str)) -> u32 {
    let mut most = 0;
    for (turn, way) in WAYS.into_iter().enumerate() {
        // Errors at every call; the other ways at every third, which differ from command to command.
        let step = if turn == 0 { 1 } else { 3 };
        for number in (1 + turn as u32..=MOST).step_by(step) {
            prepare();
            let output = team.command(command).env("CAVRITH_FAULT", format!("{way}:{number}")).output().unwrap();
            let name = format!("{command:?}, {way} at call {number}");
            look(&name);
            if output.status.success() {
                // A call that is not made cannot fail.
                if turn == 0 {
                    most = number - 1;
                }
                if number > most {
                    break;
                }
            } else if way != "kill" {
                let code = output.status.code();
                assert!(matches!(code, Some(1..=5)), "{name}: {}", told(&output));
                assert!(!told(&output).contains("panicked"), "{name}: {}", told(&output));
            }
            // Whatever was left behind is nobody's hindrance.
            let again = team.run(command);
            assert!(again.status.success(), "{name}, tried again: {}", told(&again));
            look(&name);
            assert!(number + 3 < MOST, "{name} never ends");
        }
    }
    most
}

/// A process that ends between a new file's first name and its last one leaves the first; nothing else does.
fn nothing_beside(dir: &Path, name: &str) {
    let names = fs::read_dir(dir).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let left: Vec<_> = names.filter(|name| name.ends_with(".new") || name.ends_with(".part")).collect();
    if name.contains("kill") {
        left.iter().for_each(|left| fs::remove_file(dir.join(left)).unwrap());
    } else {
        assert_eq!(left, Vec::<String>::new(), "{name}");
    }
}

#[test]
fn a_lock_is_the_old_one_or_the_new_one() {
    let team = Team::locked_in_memory();
    let path = team.project().join("cavrith.lock");
    let old = fs::read_to_string(&path).unwrap();
    fs::write(team.project().join("tides"), "high\n").unwrap();
    team.add("[[steps]]\nname = \"tides\"\nat = \"build\"\ncopy = { from = \"tides\", inside = \"/srv/tides\" }\n");
    team.ok(&["lock"]);
    let new = fs::read_to_string(&path).unwrap();
    assert_ne!(old, new);
    let prepare = || fs::write(&path, &old).unwrap();
    let look = |name: &str| {
        let there = fs::read_to_string(&path).unwrap();
        assert!(there == old || there == new, "{name}: the lock is neither the old one nor the new one:\n{there}");
        nothing_beside(&team.project(), name);
    };
    let calls = at_every_call(&team, &["lock"], &prepare, &look);
    assert!(calls >= 4, "{calls}");
}

#[test]
fn a_store_holds_what_its_records_say() {
    let team = Team::locked_in_memory();
    let image = team.build();
    let store = team.home().join("store");
    let prepare = || {
        fs::remove_dir_all(&store).unwrap();
    };
    let look = |name: &str| {
        if !store.join("format").exists() {
            return;
        }
        let checked = team.run(&["store", "check"]);
        assert!(checked.status.success(), "{name}: {}", told(&checked));
    };
    let calls = at_every_call(&team, &["build", "-q"], &prepare, &look);
    assert!(calls >= 20, "{calls}");
    assert_eq!(team.build(), image);
    team.assert_clean();
}

#[test]
fn a_seal_is_there_as_a_whole_or_not_at_all() {
    let team = Team::locked_in_memory();
    team.build();
    let path = team.project().join("cavrith.lock");
    let old = fs::read_to_string(&path).unwrap();
    team.ok(&["seal"]);
    let new = fs::read_to_string(&path).unwrap();
    let prepare = || fs::write(&path, &old).unwrap();
    let look = |name: &str| {
        let there = fs::read_to_string(&path).unwrap();
        assert!(there == old || there == new, "{name}: neither sealed nor unsealed:\n{there}");
    };
    let calls = at_every_call(&team, &["seal", "-q"], &prepare, &look);
    assert!(calls >= 4, "{calls}");
    team.assert_clean();
}

/// A file of this name anywhere beneath a directory.
fn somewhere(dir: &Path, name: &str) -> bool {
    fs::read_dir(dir).into_iter().flatten().flatten().any(|entry| {
        let is_dir = entry.file_type().is_ok_and(|kind| kind.is_dir());
        entry.file_name() == name || (is_dir && somewhere(&entry.path(), name))
    })
}

/// Removes what a workspace's directories say of their project, so that it is written again.
fn forget_project(team: &Team) {
    for (place, names) in [("workspaces", ["project", "folder"]), ("kept", [".project", ".folder"])] {
        for entry in fs::read_dir(team.home().join(place)).into_iter().flatten().flatten() {
            names.iter().for_each(|name| drop(fs::remove_file(entry.path().join(name))));
        }
    }
}

#[test]
fn an_image_is_gone_over_to_and_what_was_made_by_hand_is_somewhere() {
    let team = Team::locked_in_memory();
    team.build();
    let files = ["cavrith.toml", "cavrith.lock"].map(|name| team.project().join(name));
    let before = files.each_ref().map(|path| fs::read_to_string(path).unwrap());
    team.step("echo high > /srv/tide");
    team.ok(&["lock", "-q"]);
    team.build();
    let after = files.each_ref().map(|path| fs::read_to_string(path).unwrap());
    let write = |texts: &[String; 2]| files.iter().zip(texts).for_each(|(path, text)| fs::write(path, text).unwrap());
    let prepare = || {
        team.run(&["stop", "-q"]);
        write(&before);
        team.ok(&["run", "-q", "--", "sh", "-c", "echo mine > ~/by-hand"]);
        write(&after);
    };
    let look = |name: &str| assert!(somewhere(&team.home(), "by-hand"), "{name}: what was made by hand is gone");
    // A start over a scratch that was there writes nothing through the store any more; what is left to break off is
    // examined all the same.
    at_every_call(&team, &["apply", "--fresh", "-q"], &prepare, &look);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/srv/tide"]), "high\n");
    team.ok(&["stop", "-q"]);
    team.assert_clean();
}

#[test]
fn a_keeper_whose_disk_fails_loses_nothing_and_the_next_one_begins() {
    let team = Team::locked_in_memory();
    team.add("[[folders]]\nmode = \"kept\"\nname = \"data\"\ninside = \"/srv/data\"\n");
    team.add("[[steps]]\nname = \"fill\"\nat = \"first-start\"\nrun = \"echo high > /srv/data/tide\"\n");
    team.ok(&["lock"]);
    team.ok(&["start", "-q", "--wait"]);
    let mut reached = [0; WAYS.len()];
    for (turn, way) in WAYS.into_iter().enumerate() {
        // As above: errors at every call, the other ways at some.
        let step = if turn == 0 { 1 } else { 4 };
        for number in (1 + turn..=40).step_by(step) {
            team.run(&["stop", "-q"]);
            let fault = format!("{way}:{number}");
            let output = team.command(&["start", "-q", "--wait"]).env("CAVRITH_KEEPER_FAULT", &fault).output().unwrap();
            let said = told(&output);
            assert!(!said.contains("panicked"), "{fault}: {said}");
            if output.status.success() {
                // A disk that refuses a keeper's notes does not end the workspace, and more calls come.
                reached[turn] += 1;
                if reached[turn] > 2 {
                    break;
                }
            } else {
                assert!(matches!(output.status.code(), Some(1..=5)), "{fault}: {said}");
            }
            team.run(&["stop", "-q"]);
            assert_eq!(team.ok(&["run", "-q", "--", "cat", "/srv/data/tide"]), "high\n", "{fault}");
        }
    }
    assert!(reached.iter().all(|count| *count > 2), "{reached:?}");
    team.assert_clean();
}

#[test]
fn a_workspace_starts_after_every_fault_and_what_it_kept_is_there() {
    let team = Team::locked_in_memory();
    team.add("[[folders]]\nmode = \"kept\"\nname = \"data\"\ninside = \"/srv/data\"\n");
    team.ok(&["lock"]);
    team.ok(&["run", "-q", "--", "sh", "-c", "echo high > /srv/data/tide"]);
    team.ok(&["stop", "-q"]);
    let file = team.dir.path().join("data.tar.zst");
    let name = file.to_str().unwrap().to_owned();
    team.ok(&["folder", "backup", "data", &name]);
    let whole = fs::read(&file).unwrap();
    let kept = || {
        let folders = fs::read_dir(team.home().join("kept")).unwrap();
        let found = folders.map(|folder| folder.unwrap().path().join("data/tide")).find(|path| path.exists());
        fs::read_to_string(found.unwrap()).unwrap()
    };
    let look = |name: &str| assert_eq!(kept(), "high\n", "{name}");
    let stopped = || {
        team.run(&["stop", "-q"]);
        forget_project(&team);
    };
    assert!(at_every_call(&team, &["start", "-q"], &stopped, &look) >= 2);
    stopped();
    at_every_call(&team, &["folder", "restore", "data", &name, "--yes", "-q"], &|| {}, &look);
    let backups = |name: &str| {
        assert!(!file.exists() || fs::read(&file).unwrap() == whole, "{name}: half a backup");
        nothing_beside(team.dir.path(), name);
    };
    let gone = || fs::remove_file(&file).unwrap_or_default();
    assert!(at_every_call(&team, &["folder", "backup", "data", &name, "-q"], &gone, &backups) >= 4);
    let sound = |name: &str| {
        let checked = team.run(&["store", "check"]);
        assert!(checked.status.success(), "{name}: {}", told(&checked));
    };
    at_every_call(&team, &["store", "collect", "-q"], &|| {}, &sound);
}
