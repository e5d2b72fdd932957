use std::fs;
use std::process::Command;

use crate::team::Team;

/// Names of the aspects that differ.
fn differing(team: &Team) -> Vec<String> {
    let answer = team.json(&["verify", "--json"]);
    let aspects = answer["aspects"].as_array().unwrap();
    let names: Vec<_> = aspects
        .iter()
        .filter(|aspect| aspect["same"] == false)
        .map(|aspect| aspect["name"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(answer["same"], names.is_empty());
    names
}

#[test]
fn a_member_with_another_home_is_the_same() {
    let team = Team::sealed();
    let member = team.dir.path().join("tove");
    crate::team::copy(&team.project(), &member.join("timetable"));
    let run = |arguments: &[&str]| {
        let mut command = team.command(arguments);
        command.current_dir(member.join("timetable")).env("CAVRITH_HOME", member.join("home")).output().unwrap()
    };
    assert!(run(&["build"]).status.success());
    let output = run(&["verify"]);
    insta::assert_snapshot!(crate::team::told(&output), @"
    exit status: 0

    same         spec and lock      the spec's meaning, the lock's pins
    same         image              347 entries, 2.1 MB read
    same         packages           1 package
    same         toolchain probes   3 probes
    same         extensions         1 extension
    same         settings           the editor's settings file
    same         environment        9 variables
    same         account            crew
    same         folders            1 folder
    same         ports              1 port
    same         services           1 service, start step or name

    the same as sealed: nalog-vapoh-fuzuz-furuh
    no workspace of this project is there yet; a fresh one was measured
    ");
    assert!(run(&["verify", "--quiet"]).stdout.is_empty());
}

/// A member whose own machine makes another layer, whole in itself, hears which of its files differ.
#[test]
fn a_layer_that_came_out_differently_here_is_told_file_by_file() {
    let team = Team::locked();
    team.step("ulimit -n > /srv/limit; echo the same > /srv/fine");
    team.ok(&["seal"]);
    let member = team.dir.path().join("tove");
    crate::team::copy(&team.project(), &member.join("timetable"));
    let run = |arguments: &str| {
        let script = format!("ulimit -n 800; exec {} {arguments}", env!("CARGO_BIN_EXE_cavrith"));
        let mut command = Command::new("sh");
        command.args(["-c", &script]).current_dir(member.join("timetable")).env("CAVRITH_HOME", member.join("home"));
        command.output().unwrap()
    };
    assert!(run("build").status.success());
    let answer: serde_json::Value = serde_json::from_slice(&run("verify --json").stdout).unwrap();
    let image = answer["aspects"].as_array().unwrap().iter().find(|aspect| aspect["name"] == "image").unwrap().clone();
    let differences = image["differences"].as_array().unwrap();
    let told: Vec<_> = differences.iter().map(|difference| difference["what"].as_str().unwrap()).collect();
    assert_eq!(told, ["layer step \"step 2\"", "/srv/limit"], "{image}");
    assert_eq!(differences[1]["from"], "step \"step 2\"");
    assert!(differences[1]["expected"].as_str().unwrap().contains("content "), "{image}");

    // A listing that is not the sealed one is not believed, and its want is said.
    let listing = member.join("timetable/cavrith.listing");
    let good = fs::read(&listing).unwrap();
    fs::write(&listing, &good[..good.len() - 1]).unwrap();
    let told = crate::team::told(&run("verify"));
    assert!(told.contains("cavrith.listing is not the one that was sealed"), "{told}");
    fs::remove_file(&listing).unwrap();
    let told = crate::team::told(&run("verify"));
    assert!(told.contains("cavrith.listing is missing") && !told.contains("/srv/limit"), "{told}");
}

#[test]
fn every_byte_every_right_and_every_name_in_the_store_counts() {
    let team = Team::sealed();
    let quill = team.in_store("opt/quill/2.4.1/bin/quill");
    if !nix::unistd::Uid::effective().is_root() {
        // An ordinary user's store holds files of other owners, which only the program itself can change.
        team.ok(&["demo", "--spoil", quill.to_str().unwrap()]);
        assert_eq!(differing(&team), ["image"]);
        team.ok(&["build", "--fresh"]);
        assert_eq!(differing(&team), Vec::<String>::new());
        return;
    }
    let good = fs::read(&quill).unwrap();
    let root = quill.ancestors().find(|path| path.ends_with("root")).unwrap().to_owned();
    let expect = |what: &str, part: &str| {
        let answer = team.json(&["verify", "--json"]);
        let image =
            answer["aspects"].as_array().unwrap().iter().find(|aspect| aspect["name"] == "image").unwrap().clone();
        let difference = &image["differences"][0];
        assert_eq!(difference["what"], what, "{image}");
        assert_eq!(difference["from"], "toolchain quill 2.4.1", "{image}");
        assert!(format!("{} {}", difference["expected"], difference["here"]).contains(part), "{image}");
    };
    let mut flipped = good.clone();
    flipped[100] ^= 1;
    let time = fs::metadata(&quill).unwrap().modified().unwrap();
    let restore_time = || fs::File::options().write(true).open(&quill).unwrap().set_modified(time).unwrap();
    fs::write(&quill, &flipped).unwrap();
    restore_time();
    expect("/opt/quill/2.4.1/bin/quill", "content ");
    fs::write(&quill, &good).unwrap();
    expect("/opt/quill/2.4.1/bin/quill", "time 20");
    restore_time();
    assert_eq!(differing(&team), Vec::<String>::new());
    let opt = fs::File::open(root.join("opt")).unwrap();
    let before = opt.metadata().unwrap().modified().unwrap();
    fs::write(root.join("opt/planted"), "x").unwrap();
    expect("/opt/planted", "nobody put there");
    fs::remove_file(root.join("opt/planted")).unwrap();
    // That something was here shows in the directory.
    expect("/opt", "time 20");
    opt.set_modified(before).unwrap();
    let rights = |mode| fs::set_permissions(&quill, std::os::unix::fs::PermissionsExt::from_mode(mode)).unwrap();
    rights(0o777);
    expect("/opt/quill/2.4.1/bin/quill", "mode 0777");
    rights(0o755);
    fs::rename(&quill, root.join("away")).unwrap();
    expect("/away", "nobody put there");
    team.ok(&["build", "--fresh"]);
    assert_eq!(differing(&team), Vec::<String>::new());
    team.assert_clean();
}

#[test]
fn what_the_spec_says_now_is_held_against_what_was_sealed() {
    let team = Team::sealed();
    team.change("SITE_PORT = \"8080\"", "SITE_PORT = \"9090\"");
    team.ok(&["build"]);
    assert_eq!(differing(&team), ["spec and lock", "environment"]);
    team.change("ruler\" = 120", "ruler\" = 100").change("inside = 8080", "inside = 8081");
    team.ok(&["build"]);
    assert_eq!(differing(&team), ["spec and lock", "image", "settings", "environment", "ports"]);
    let told = team.fails(&["verify"], 1);
    assert!(told.contains("SITE_PORT\n        expected  8080\n        here      9090\n"), "{told}");
}

#[test]
fn accounts_folders_probes_and_extensions_are_measured() {
    let team = Team::sealed();
    team.change("account = \"crew\"", "account = \"hand\"")
        .change("inside  = \"/code\"", "inside  = \"/work\"")
        .change("project = \"/code\"", "project = \"/work\"");
    team.ok(&["build"]);
    let found = differing(&team);
    for aspect in ["account", "folders", "environment", "image"] {
        assert!(found.contains(&aspect.to_owned()), "{found:?}");
    }
    let team = Team::sealed();
    team.step(
        "echo '#!/bin/sh' > /opt/quill/2.4.1/bin/quill; echo 'echo quill 9' >> /opt/quill/2.4.1/bin/quill; rm -r /opt/lantern-extensions; rm /var/lib/dpkg/status",
    );
    // The build itself refuses a toolchain that answers something else.
    assert!(team.fails(&["build"], 5).contains("quill answers \"quill 9\""));
    team.change(
        "echo '#!/bin/sh' > /opt/quill/2.4.1/bin/quill; echo 'echo quill 9' >> /opt/quill/2.4.1/bin/quill; ",
        "",
    );
    team.ok(&["build"]);
    assert_eq!(differing(&team), ["spec and lock", "image", "packages", "extensions"]);
}

#[test]
fn a_seal_of_an_earlier_version_is_read_and_named() {
    let team = Team::sealed();
    let path = team.project().join("cavrith.lock");
    let mut lock = cavrith_core::lock::Lock::parse(&fs::read_to_string(&path).unwrap()).unwrap();
    lock.seal.as_mut().unwrap().rules = 2;
    let text = lock.to_text();
    assert!(!text.contains("rules"));
    fs::write(&path, text).unwrap();
    let said = team.fails(&["verify"], 1);
    let wanted = format!(
        "the seal\n        expected  made by the rules of version {}\n        here      made by the rules of version 2",
        cavrith_core::derive::plan::RULES
    );
    assert!(said.contains(&wanted), "{said}");
    // What changes nothing keeps it, and sealing again makes it one of this version.
    team.ok(&["lock"]);
    team.ok(&["seal"]);
    team.ok(&["verify"]);
}

#[test]
fn a_changed_lock_or_a_missing_image_is_a_difference() {
    let team = Team::sealed();
    let path = team.project().join("cavrith.lock");
    let text = fs::read_to_string(&path).unwrap();
    fs::remove_dir_all(team.home().join("store/images")).unwrap();
    fs::create_dir(team.home().join("store/images")).unwrap();
    assert_eq!(differing(&team), ["image"]);
    assert!(team.fails(&["verify"], 1).contains("not built here; run cavrith build"));
    fs::write(&path, text.replace("image = \"", "image = \"x")).unwrap();
    assert!(team.fails(&["verify"], 1).contains("the lock cannot be read"));
    // A lock or seal that was bent to fit is noticed by itself.
    for (old, new) in [
        ("epoch = 1", "epoch = 2"),
        ("SITE_PORT = \"8080\"", "SITE_PORT = \"8081\""),
        ("words = \"", "words = \"k"),
        ("site = \"8080/tcp\"", ""),
    ] {
        assert!(text.contains(old), "{old}");
        fs::write(&path, text.replace(old, new)).unwrap();
        assert!(team.fails(&["verify"], 1).contains("the lock is not as Cavrith wrote it"), "{new}");
    }
}
