use std::fs;

use crate::team::Team;

#[test]
fn locking_twice_writes_the_same_and_says_so() {
    let team = Team::new();
    let first = team.ok(&["lock"]);
    assert!(first.contains("toolchain quill                 2.4.1"), "{first}");
    let text = fs::read(team.project().join("cavrith.lock")).unwrap();
    assert_eq!(team.ok(&["lock"]), "cavrith.lock is up to date\n");
    assert_eq!(fs::read(team.project().join("cavrith.lock")).unwrap(), text);
    team.assert_clean();
}

#[test]
fn the_lock_is_the_same_on_another_machine() {
    let (one, other) = (Team::locked(), Team::locked());
    let read = |team: &Team| fs::read_to_string(team.project().join("cavrith.lock")).unwrap();
    assert_eq!(read(&one), read(&other));
    assert!(!read(&one).contains(one.dir.path().to_str().unwrap()));
}

#[test]
fn a_lock_that_does_not_answer_its_spec_is_refused_everywhere_with_the_difference() {
    let team = Team::locked();
    team.change("gauge   = { version = \"0.9.3\" }", "").change("lantern = \"1\"", "lantern = \"2\"");
    for command in [&["build"][..], &["run", "--", "true"], &["enter"], &["seal"]] {
        let told = team.fails(command, 1);
        assert!(told.contains("toolchain lantern: the spec says 2, the lock 1.6.0"), "{told}");
        assert!(told.contains("toolchain gauge: the spec says nothing, the lock 0.9.3"), "{told}");
    }
}

#[test]
fn without_a_lock_the_next_step_is_named() {
    let told = Team::new().fails(&["build"], 1);
    assert_eq!(told, "failed[CF0202]: there is no cavrith.lock beside the spec; run cavrith lock\n");
}

#[test]
fn a_damaged_lock_is_refused() {
    let team = Team::locked();
    let path = team.project().join("cavrith.lock");
    let text = fs::read_to_string(&path).unwrap();
    fs::write(&path, text.replacen("epoch", "epohc", 1)).unwrap();
    assert!(team.fails(&["build"], 1).contains("the lock cannot be read: "));
}

#[test]
fn what_moved_is_told_from_and_to() {
    let team = Team::locked();
    let index = team.dir.path().join("depot/depot.toml");
    let text = fs::read_to_string(&index).unwrap();
    fs::write(&index, text.replace("version = \"2.4.1\"", "version = \"2.5.0\"").replace("quill 2.4.1", "quill 2.5.0"))
        .unwrap();
    // The lock still answers the spec, so nothing moves by itself.
    assert_eq!(team.ok(&["lock"]), "cavrith.lock is up to date\n");
    team.change("quill   = \"2.4\"", "quill   = \"2.5\"");
    assert!(team.ok(&["lock"]).contains("toolchain quill  2.4.1 → 2.5.0"));
}

#[test]
fn a_depot_s_file_that_changed_is_refused_with_both_digests() {
    let team = Team::new();
    let deb = team.dir.path().join("depot/packages/busybox-static_1.35.0-4+deb12u1+b1_amd64.deb");
    let mut bytes = fs::read(&deb).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&deb, bytes).unwrap();
    let told = team.fails(&["lock"], 4);
    assert!(told.contains("is not what the lock pins: expected ") && told.contains("found "), "{told}");
    assert!(!team.project().join("cavrith.lock").exists());
}

#[test]
fn an_archive_as_base_is_trusted_at_first_sight_and_then_held_to_it() {
    let team = Team::new();
    let root = team.dir.path().join("root");
    fs::create_dir_all(root.join("bin")).unwrap();
    fs::write(root.join("bin/tool"), "one").unwrap();
    let pack = || {
        let status = std::process::Command::new("tar")
            .args(["-cf", "root.tar", "--mtime=@1700000000", "-C", "root", "."])
            .current_dir(team.dir.path())
            .status();
        assert!(status.unwrap().success());
    };
    pack();
    fs::write(
        team.project().join("cavrith.toml"),
        "spec = 1\n[workspace]\nname = \"small\"\n[base]\narchive = { path = \"../../root.tar\" }\n",
    )
    .unwrap();
    team.allow("../../root.tar");
    let told = team.fails(&["lock"], 0);
    assert!(told.contains("was trusted at first sight; its digest is "), "{told}");
    assert!(fs::read_to_string(team.project().join("cavrith.lock")).unwrap().contains("epoch = 1700000000"));
    team.build();
    fs::write(root.join("bin/tool"), "two").unwrap();
    pack();
    for command in [&["lock"][..], &["build", "--fresh"]] {
        assert!(team.fails(command, 4).contains("expected "));
    }
    team.ok(&["lock", "--trust-changed"]);
    team.build();
}
