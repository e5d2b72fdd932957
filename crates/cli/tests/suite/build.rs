use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use crate::team::{Team, told};

/// Names of the layers that a build made.
fn made(answer: &serde_json::Value) -> Vec<String> {
    let work = answer["work"].as_array().unwrap().iter();
    work.filter(|layer| layer["reused"] == false).map(|layer| layer["layer"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn a_second_build_has_nothing_to_do() {
    let team = Team::locked();
    let first = team.json(&["build", "--json"]);
    assert_eq!(made(&first).len(), 9);
    let second = team.json(&["build", "--json"]);
    assert_eq!(second["work"], serde_json::json!([]));
    assert_eq!(first["image"], second["image"]);
    assert!(team.ok(&["build"]).contains("nothing to do"));
    team.assert_clean();
}

#[test]
fn a_change_rebuilds_only_what_it_touches() {
    let team = Team::locked();
    team.build();
    team.change("quill frame /srv/site\"", "quill frame /srv/site; echo more > /srv/more\"");
    assert_eq!(made(&team.json(&["build", "--json"])), ["step \"frame the site\""]);
    team.change("name = \"frame the site\"", "name = \"draw the frame\"");
    assert_eq!(made(&team.json(&["build", "--json"])), Vec::<String>::new());
}

#[test]
fn a_change_beneath_that_comes_out_the_same_reuses_what_lies_above() {
    let team = Team::locked();
    team.build();
    team.change("\"--install\", \"-s\", \"/bin\"]", "\"--install\", \"-s\", \"/bin/\"]");
    assert_eq!(made(&team.json(&["build", "--json"])), ["step \"name the applets\""]);
}

#[test]
fn what_a_later_step_wrote_is_newer_and_what_it_left_alone_keeps_its_time() {
    let team = Team::locked();
    team.step("echo 1 > /srv/in; echo 1 > /srv/out; echo 1 > /srv/rights; ln -s in /srv/link; mkdir /srv/d; echo 1 > /srv/d/f");
    // What `make` and `cargo` would see: the input was written once more.
    team.step(
        "echo 2 > /srv/in; chmod 600 /srv/rights; chown -h 7 /srv/link; ln /srv/out /srv/other; chown 1000 /srv/d",
    );
    team.step(
        "test /srv/in -nt /srv/out && ! test /srv/rights -nt /srv/out && ! test /srv/other -nt /srv/out && ! test /srv/d -nt /srv/out && ! test /srv/out -nt /srv/in",
    );
    team.build();
    // And so it is in a workspace.
    team.ok(&["run", "-q", "--", "test", "/srv/in", "-nt", "/srv/out"]);
}

#[test]
fn deleted_files_replaced_directories_and_links_are_read_back() {
    let team = Team::locked();
    team.step("mkdir -p /srv/a/b /srv/c; echo 1 > /srv/a/b/f; echo 2 > /srv/c/g; echo 3 > /srv/h; ln /srv/h /srv/i; ln -s h /srv/j; mkfifo /srv/k");
    team.step("rm -r /srv/a; mkdir /srv/a; echo new > /srv/a/only; rm /srv/c/g /srv/h; mv /srv/j /srv/l; chmod 4750 /srv/i; chown 1000:7 /srv/a");
    team.build();
    let listing =
        team.ok(&["run", "-q", "--", "sh", "-c", "cd /srv; ls -ln a c; ls -ln . | sed 1d; find . | sort; cat a/only"]);
    let names: Vec<_> = listing.lines().filter(|line| line.starts_with("./")).collect();
    assert_eq!(names, ["./a", "./a/only", "./c", "./i", "./k", "./l", "./site", "./site/frame.html"], "{listing}");
    assert!(listing.contains("-rwsr-x---    1 0        0"), "{listing}");
    assert!(listing.ends_with("new\n"), "{listing}");
}

#[test]
fn everything_in_the_store_carries_the_lock_s_epoch_and_the_number_of_its_step() {
    use std::os::unix::fs::MetadataExt as _;
    let team = Team::locked();
    team.build();
    let lock = fs::read_to_string(team.project().join("cavrith.lock")).unwrap();
    let epoch = lock.lines().find_map(|line| line.strip_prefix("epoch = ")).unwrap().parse::<i64>().unwrap();
    for (path, step) in [
        ("bin/busybox", 0),
        ("bin/ls", 1),
        ("opt/quill/2.4.1/bin/quill", 0),
        ("srv/site/frame.html", 2),
        ("etc/lantern/settings.json", 0),
    ] {
        assert_eq!(fs::symlink_metadata(team.in_store(path)).unwrap().mtime(), epoch + step, "{path}");
    }
}

#[test]
fn a_directory_is_listed_by_name_while_it_is_emptied_too() {
    let team = Team::locked();
    // Larger than one call gives out, so that what is read first is gone when the rest is asked for.
    team.step("mkdir /srv/many; cd /srv/many; seq 1 5000 | sed 's/^/a-name-of-some-length-/' | xargs touch; find . > /tmp/list; sed 1d /tmp/list | LC_ALL=C sort -c; test $(wc -l < /tmp/list) = 5001");
    team.step("cd /srv; find many -type f -name '*7' | xargs rm; ls many | wc -l > /srv/left; rm -r many; test ! -e many; mkdir many; touch many/one; rm -r many/../many");
    team.build();
    assert_eq!(fs::read_to_string(team.in_store("srv/left")).unwrap(), "4500\n");
}

#[test]
fn the_fingerprint_is_the_same_under_other_surroundings() {
    let expected = {
        let team = Team::locked();
        team.step("date -d @$SOURCE_DATE_EPOCH > /when; umask > /mask; hostname > /host; id > /who; env | sort > /env; touch /t; mkdir /d");
        team.build()
    };
    let team = Team::locked();
    team.step("date -d @$SOURCE_DATE_EPOCH > /when; umask > /mask; hostname > /host; id > /who; env | sort > /env; touch /t; mkdir /d");
    let program = crate::team::PROGRAM;
    let mut command = team.command(&[]);
    command = {
        let mut shell = std::process::Command::new("sh");
        let home = team.dir.path().join("a home, with: odd\\ letters");
        shell
            .args(["-c", "umask 077; exec \"$0\" build --json", program])
            .current_dir(command.get_current_dir().unwrap());
        shell.env("CAVRITH_HOME", home).env("TZ", "Asia/Kathmandu").env("LC_ALL", "tr_TR.UTF-8").env("SITE_PORT", "1");
        shell.env("SOURCE_DATE_EPOCH", "5");
        shell
    };
    let output = command.output().unwrap();
    let answer: serde_json::Value =
        serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{}", told(&output)));
    assert_eq!(answer["image"], expected);
}

#[test]
fn a_step_that_fails_is_told_with_its_last_lines_and_leaves_nothing() {
    let team = Team::locked();
    team.step("echo the mast is broken >&2; exit 3");
    let told = team.fails(&["build"], 5);
    assert!(told.contains("the step \"step 2\" failed with exit code 3\n    the mast is broken\n"), "{told}");
    team.assert_clean();
    // What was finished is kept.
    team.change("exit 3", "exit 0");
    assert_eq!(made(&team.json(&["build", "--json"])), ["step \"step 2\""]);
}

#[test]
fn a_program_that_is_not_there_is_named() {
    let team = Team::locked();
    team.change("\"/bin/busybox\", \"--install\"", "\"/bin/bosybux\", \"--install\"");
    let told = team.fails(&["build"], 5);
    assert!(told.contains("the step \"name the applets\" failed with exit code 127"), "{told}");
    assert!(told.contains("/bin/bosybux: there is no such program inside"), "{told}");
}

#[test]
fn a_toolchain_that_answers_another_version_is_refused() {
    let team = Team::new();
    let index = team.dir.path().join("depot/depot.toml");
    let text = fs::read_to_string(&index).unwrap();
    fs::write(&index, text.replace("answer = \"quill 2.4.1\"", "answer = \"quill 2.4.2\"")).unwrap();
    team.ok(&["lock"]);
    let told = team.fails(&["build"], 5);
    assert!(
        told.contains("quill answers \"quill 2.4.1\" to \"quill --version\", and the lock expects \"quill 2.4.2\""),
        "{told}"
    );
}

#[test]
fn a_toolchain_cannot_lie_where_the_base_has_something() {
    let team = Team::new();
    let index = team.dir.path().join("depot/depot.toml");
    let text = fs::read_to_string(&index).unwrap();
    fs::write(&index, text.replace("place = \"/opt/quill/2.4.1\"", "place = \"/usr/share\"")).unwrap();
    team.ok(&["lock"]);
    assert!(team.fails(&["build"], 1).contains("would lie at /usr/share, where the base has a directory"));
}

#[test]
fn a_step_cannot_leave_the_sandbox() {
    let team = Team::locked();
    let secret = team.dir.path().join("secret");
    fs::write(&secret, "outside").unwrap();
    let tries = format!(
        "set +e; mount -t tmpfs x /mnt && exit 11; mount -o remount,rw /proc/sys && exit 12; \
         cat {} && exit 13; unshare -r true && exit 14; chroot /proc/1/root true && exit 15; \
         echo x > /proc/sysrq-trigger && exit 16; mknod /disk b 8 0 && exit 17; ls /proc/1/fd/* && exit 18; \
         wget -T 2 http://127.0.0.1:1/ && exit 19; ip route get 1.1.1.1 && exit 20; kill -9 1; \
         test \"$(ps | grep -c .)\" -lt 12 || exit 21; hostname other && exit 22; dmesg && exit 23; exit 0",
        secret.display()
    );
    team.step(&tries);
    team.ok(&["build"]);
    assert_eq!(fs::read_to_string(secret).unwrap(), "outside");
}

#[test]
fn a_damaged_list_of_a_layer_is_noticed_and_made_again() {
    let team = Team::locked();
    let image = team.build();
    let quill = team.in_store("opt/quill/2.4.1/bin/quill");
    let layer = quill.ancestors().find(|path| path.ends_with("root")).unwrap().parent().unwrap();
    fs::write(layer.join("tree"), "nonsense").unwrap();
    team.change("quill frame /srv/site\"", "quill frame /srv/site/\"");
    assert_eq!(made(&team.json(&["build", "--json"])), ["toolchain quill 2.4.1", "step \"frame the site\""]);
    assert_eq!(team.build(), image);
}

#[test]
fn two_builds_at_once_in_one_store_agree() {
    let team = Team::locked();
    let children: Vec<_> = (0..4)
        .map(|_| team.command(&["build", "--json"]).stdout(std::process::Stdio::piped()).spawn().unwrap())
        .collect();
    let images: Vec<_> = children
        .into_iter()
        .map(|child| {
            let output = child.wait_with_output().unwrap();
            assert!(output.status.success(), "{}", told(&output));
            let answer: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
            answer["image"].as_str().unwrap().to_owned()
        })
        .collect();
    assert!(images.iter().all(|image| *image == images[0]));
    team.assert_clean();
}

#[test]
fn a_folder_that_is_no_store_is_left_alone() {
    let team = Team::locked();
    let store = team.dir.path().join("precious/store");
    fs::create_dir_all(&store).unwrap();
    fs::write(store.join("letters"), "dear harbour").unwrap();
    let output = team.command(&["build"]).env("CAVRITH_HOME", team.dir.path().join("precious")).output().unwrap();
    assert_eq!(output.status.code(), Some(3));
    assert!(told(&output).contains("is not a store of this version"), "{}", told(&output));
    assert_eq!(fs::read_dir(&store).unwrap().count(), 1);
    fs::set_permissions(&store, fs::Permissions::from_mode(0o755)).unwrap();
}

#[test]
fn without_a_home_the_remedy_is_named() {
    let team = Team::locked();
    let output = team
        .command(&["build"])
        .env_remove("CAVRITH_HOME")
        .env_remove("HOME")
        .env_remove("XDG_DATA_HOME")
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(3));
    assert!(told(&output).contains("set HOME or CAVRITH_HOME"), "{}", told(&output));
}
