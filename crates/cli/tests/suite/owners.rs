//! Root and an ordinary user: the same fingerprints.
//!
//! Run by root, these tests make an ordinary user for themselves: in a mount namespace of their own, other files lie over
//! `/etc/passwd`, `/etc/subuid` and `/etc/subgid`. Run by an ordinary user, they use that one. They need the package uidmap.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use crate::team::{PROGRAM, Team, told};

const USER: u32 = 4242;

/// A member who is an ordinary user, with folders of their own.
struct Member {
    dir: PathBuf,
    program: PathBuf,
    subordinate: bool,
}

impl Member {
    fn of(team: &Team, subordinate: bool) -> Self {
        let dir = team.dir.path().join("tove");
        crate::team::copy(&team.project(), &dir.join("timetable"));
        // The test's own folders may be closed to others.
        let program = team.dir.path().join("cavrith");
        fs::copy(PROGRAM, &program).unwrap();
        let etc = team.dir.path().join("etc");
        fs::create_dir(&etc).unwrap();
        fs::write(
            etc.join("passwd"),
            format!("root:x:0:0::/root:/bin/sh\ntove:x:{USER}:{USER}::{}:/bin/sh\n", dir.display()),
        )
        .unwrap();
        for file in ["subuid", "subgid"] {
            fs::write(etc.join(file), if subordinate { "tove:2000000:65536\n" } else { "other:2000000:65536\n" })
                .unwrap();
        }
        if is_root() {
            fs::set_permissions(team.dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
            let status = Command::new("chown").args(["-R", &format!("{USER}:{USER}")]).arg(&dir).status().unwrap();
            assert!(status.success());
        }
        Self { dir, program, subordinate }
    }

    fn run(&self, arguments: &[&str]) -> Output {
        let mut command = if is_root() {
            let etc = self.dir.parent().unwrap().join("etc");
            let script = "for f in passwd subuid subgid; do mount --bind \"$0/$f\" /etc/$f; done; exec setpriv --reuid $1 --regid $1 --clear-groups \"$2\" \"${@:3}\"";
            let mut command = Command::new("unshare");
            command.args(["--mount", "bash", "-ec", script]).arg(etc).arg(USER.to_string()).arg(&self.program);
            command
        } else {
            Command::new(&self.program)
        };
        command.args(arguments).current_dir(self.dir.join("timetable"));
        command.env("CAVRITH_HOME", self.dir.join("home")).env("HOME", &self.dir).output().unwrap()
    }

    fn ok(&self, arguments: &[&str]) -> String {
        let output = self.run(arguments);
        assert!(output.status.success(), "cavrith {arguments:?}: {}", told(&output));
        String::from_utf8(output.stdout).unwrap()
    }
}

fn is_root() -> bool {
    nix::unistd::Uid::effective().is_root()
}

fn owner(path: &Path) -> u32 {
    std::os::unix::fs::MetadataExt::uid(&fs::metadata(path).unwrap())
}

#[test]
fn an_ordinary_user_builds_seals_and_verifies_the_same() {
    let team = Team::locked();
    team.step("touch /srv/a; chown 1000:1000 /srv/a; touch /srv/b; chown 65534:33 /srv/b; chmod 4755 /srv/b; mkdir /srv/c; chown 7 /srv/c");
    team.step(
        "rm -r /srv/site; mkdir /srv/site; ln /srv/a /srv/site/a; touch /srv/c/x; su -s /bin/sh crew -c true || true",
    );
    team.ok(&["seal"]);
    let member = Member::of(&team, true);
    let told = member.ok(&["build"]);
    assert!(told.contains("layers made"), "{told}");
    assert!(member.ok(&["verify"]).contains("the same as sealed"));
    assert!(member.ok(&["seal"]).contains("still sealed"));
}

#[test]
fn an_ordinary_user_s_folder_comes_out_right_on_both_sides() {
    let team = Team::locked();
    let member = Member::of(&team, true);
    let script = "id -u; stat -c %U . sailings.csv; echo x > made; mkdir d; touch d/e; cat sailings.csv > /dev/null; echo kept > ~/notes";
    assert_eq!(member.ok(&["run", "-q", "--", "sh", "-c", script]), "1000\ncrew\ncrew\n");
    let project = member.dir.join("timetable");
    for name in ["made", "d", "d/e"] {
        assert_eq!(owner(&project.join(name)), owner(&project), "{name}");
    }
    assert_eq!(member.ok(&["run", "-q", "--", "sh", "-c", "cat ~/notes; stat -c %U ~/notes"]), "kept\ncrew\n");
}

#[test]
fn what_an_ordinary_user_lacks_is_named_with_its_remedy() {
    let team = Team::locked();
    let member = Member::of(&team, false);
    if !is_root() {
        // Without root there is no way to take this user's range away.
        return;
    }
    assert!(!member.subordinate);
    assert!(member.run(&["check"]).status.success());
    let output = member.run(&["build"]);
    assert_eq!(output.status.code(), Some(3));
    let told = told(&output);
    assert!(told.contains("tove has no range of 65535 subordinate ids in /etc/subuid"), "{told}");
    assert!(told.contains("usermod --add-subuids"), "{told}");
}
