//! A workspace is what its spec says, in what people run into first.

use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::process::Command;

use crate::running::started;
use crate::team::{PROGRAM, Team, told};

#[test]
fn a_folder_more_is_no_other_image() {
    let team = Team::locked();
    let image = team.build();
    team.add("[[folders]]\nmode = \"kept\"\nname = \"ledger\"\ninside = \"/srv/deep/ledger\"\n");
    team.ok(&["lock", "-q"]);
    assert_eq!(team.build(), image);
    // Its place is made when the workspace starts, and is the account's.
    assert_eq!(
        team.ok(&["run", "-q", "--", "sh", "-c", "echo x > /srv/deep/ledger/x; stat -c %U /srv/deep/ledger"]),
        "crew\n"
    );
}

#[test]
fn run_is_filled_as_packages_expect() {
    let team = Team::locked();
    team.step(
        "mkdir -p /usr/lib/tmpfiles.d /usr/lib/systemd/system; echo 'd /run/tide 2775 crew crew - -' > /usr/lib/tmpfiles.d/tide.conf; printf '[Service]\\nUser=crew\\nRuntimeDirectory=bell\\n' > /usr/lib/systemd/system/bell.service",
    );
    team.ok(&["lock", "-q"]);
    let shown = team.ok(&["run", "-q", "--", "stat", "-c", "%n %a %U", "/run/tide", "/run/bell", "/run/lock"]);
    assert_eq!(shown, "/run/tide 2775 crew\n/run/bell 755 crew\n/run/lock 1777 root\n");
}

#[test]
fn the_member_s_umask_stays_outside() {
    let team = started("");
    let script = format!("umask 077; exec {PROGRAM} start -q");
    let mut start = Command::new("sh");
    start.args(["-c", &script]).current_dir(team.project()).env("CAVRITH_HOME", team.home());
    assert!(start.output().unwrap().status.success());
    assert_eq!(team.ok(&["run", "-q", "--", "stat", "-c", "%a", "/etc/hosts", "/etc/resolv.conf"]), "644\n644\n");
}

#[test]
fn the_login_shell_is_the_image_s_and_the_path_the_spec_s() {
    let team = Team::locked();
    team.step("sed -i 's|^\\(crew:.*\\):/bin/sh$|\\1:/bin/ash|' /etc/passwd; mkdir -p /opt/harbour/bin; printf '#!/bin/sh\\necho harbour\\n' > /opt/harbour/bin/harbour; chmod 755 /opt/harbour/bin/harbour");
    team.change("name    = \"timetable\"", "name    = \"timetable\"\npath    = [\"/opt/harbour/bin\"]");
    team.ok(&["lock", "-q"]);
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", "echo $SHELL; harbour"]), "/bin/ash\nharbour\n");
}

#[test]
fn root_inside_writes_into_a_live_folder_and_no_account_outside_gets_its_files() {
    let team = started("");
    let script = "echo by-root > /code/by-root; cp -a /code/sailings.csv /code/copied; mkdir /code/dir; touch /code/dir/x; chown crew /code/dir/x";
    team.ok(&["run", "-q", "--account", "root", "--", "sh", "-c", script]);
    let owner = |name: &str| fs::metadata(team.project().join(name)).unwrap().uid();
    let own = owner("sailings.csv");
    assert_eq!((owner("copied"), owner("dir/x")), (own, own));
    if nix::unistd::Uid::effective().is_root() {
        assert_eq!(owner("by-root"), 0x7000_0000);
    }
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/code/by-root"]), "by-root\n");
}

#[test]
fn the_account_may_be_one_that_the_base_has() {
    let team = Team::new();
    let root = tempfile::tempdir().unwrap();
    fs::create_dir_all(root.path().join("r/etc")).unwrap();
    fs::write(root.path().join("r/etc/passwd"), "root:x:0:0::/root:/bin/sh\npilot:x:1000:1000::/home/pilot:/bin/sh\n")
        .unwrap();
    fs::write(root.path().join("r/etc/group"), "root:x:0:\npilot:x:1000:\n").unwrap();
    let packed = team.project().join("root.tgz");
    let tar = Command::new("tar").args(["czf", packed.to_str().unwrap(), "-C", "r", "."]).current_dir(&root).status();
    assert!(tar.unwrap().success());
    let spec = |account: &str| {
        format!(
            "spec = 1\n[workspace]\nname = \"small\"\naccount = \"{account}\"\n[base]\narchive = {{ path = \"root.tgz\" }}\n"
        )
    };
    let write = |account: &str| fs::write(team.project().join("cavrith.toml"), spec(account)).unwrap();
    write("crew");
    team.ok(&["lock", "-q"]);
    let said = team.fails(&["build"], 1);
    assert!(said.contains("write workspace.account = \"pilot\" to work as that one"), "{said}");
    write("pilot");
    team.ok(&["lock", "-q"]);
    team.build();
}

#[test]
fn a_digest_in_the_spec_holds_whatever_is_trusted() {
    let team = Team::locked();
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir_all(dir.path().join("tool-1.0/bin")).unwrap();
    fs::write(dir.path().join("tool-1.0/bin/tool"), "#!/bin/sh\necho tool 1.0\n").unwrap();
    let packed = team.project().join("tool.tar.gz");
    let tar = Command::new("tar")
        .args(["czf", packed.to_str().unwrap(), "--mode=755", "tool-1.0"])
        .current_dir(&dir)
        .status();
    assert!(tar.unwrap().success());
    let digest = crate::archive::sha256(&fs::read(&packed).unwrap());
    team.add(&format!(
        "[toolchains.tool]\nversion = \"1.0\"\nfrom = \"archive\"\npath = \"tool.tar.gz\"\nstrip = 1\nsha256 = \"{digest}\"\n"
    ));
    team.ok(&["lock", "-q"]);
    team.build();
    // A spec that says otherwise is not answered by the lock, and the archive is not what the spec says.
    team.change(&digest, &"0".repeat(64));
    for command in [&["build"][..], &["seal"]] {
        let said = team.fails(command, 1);
        assert!(said.contains("sha256 of toolchain tool"), "{said}");
    }
    let locked = fs::read_to_string(team.project().join("cavrith.lock")).unwrap();
    for command in [&["lock"][..], &["lock", "--trust-changed"]] {
        let said = team.fails(command, 4);
        assert!(said.contains("tool.tar.gz is not what the spec says") && !said.contains("--trust-changed"), "{said}");
    }
    assert_eq!(fs::read_to_string(team.project().join("cavrith.lock")).unwrap(), locked);
}

#[test]
fn several_workspaces_are_stopped_at_once_and_a_name_means_this_project_s() {
    let team = started("");
    let other = team.dir.path().join("other");
    crate::team::copy(&team.project(), &other.join("timetable"));
    crate::team::copy(&team.dir.path().join("depot"), &team.dir.path().join("other-depot"));
    team.ok(&["start", "-q", "--name", "tide"]);
    let mut elsewhere = team.command(&["start", "-q", "--name", "tide"]);
    let output = elsewhere.current_dir(other.join("timetable")).output().unwrap();
    assert!(output.status.success(), "{}", told(&output));
    let listed = team.json(&["list", "--json"]);
    assert_eq!(listed["workspaces"].as_array().unwrap().len(), 2, "{listed}");
    let said = team.run(&["stop", "--all"]);
    assert!(said.status.success() && told(&said).matches("is stopped").count() == 2, "{}", told(&said));
    assert!(told(&team.run(&["stop", "--all"])).contains("nothing runs"));
    // What has ended or halted already is not a lack of the machine.
    team.ok(&["drop", "--yes", "--name", "tide"]);
    assert_eq!(team.run(&["drop", "--yes"]).status.code(), Some(0));
    assert_eq!(team.run(&["status", "--name", "nobody"]).status.code(), Some(2));
}

#[test]
fn two_ports_may_share_a_number_at_addresses_of_their_own() {
    let team = Team::locked();
    team.add("[[ports]]\nname = \"one\"\ninside = 8131\nbind = \"127.0.0.1\"\n[[ports]]\nname = \"two\"\ninside = 8131\nbind = \"127.0.0.2\"\n");
    assert!(team.run(&["check"]).status.success(), "{}", told(&team.run(&["check"])));
    team.change("bind = \"127.0.0.2\"", "bind = \"127.0.0.1\"");
    assert!(told(&team.run(&["check"])).contains("two ports have the"));
}
