//! Root and an ordinary user: the same fingerprints.
//!
//! Run by root, these tests make an ordinary user for themselves: in a mount namespace of their own, other files lie
//! over `/etc/passwd`, `/etc/subuid` and `/etc/subgid`. Run by an ordinary user, they use that one. They need the
//! package uidmap.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use crate::team::{PROGRAM, Team, told};

pub const USER: u32 = 4242;

/// A member who is an ordinary user, with folders of their own.
pub struct Member {
    pub dir: PathBuf,
    program: PathBuf,
}

impl Member {
    pub fn of(team: &Team, subordinate: bool) -> Self {
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
        Self { dir, program }
    }

    fn run(&self, arguments: &[&str]) -> Output {
        self.command(arguments).output().unwrap()
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
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
        command.env("CAVRITH_HOME", self.dir.join("home")).env("HOME", &self.dir);
        command
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

/// Steps that do with owners what packages' scripts do.
fn step_owners(team: &Team) {
    team.step("touch /srv/a; chown 1000:1000 /srv/a; touch /srv/b; chown 65534:33 /srv/b; chmod 4755 /srv/b; mkdir /srv/c; chown 7 /srv/c");
    team.step(
        "rm -r /srv/site; mkdir /srv/site; ln /srv/a /srv/site/a; touch /srv/c/x; su -s /bin/sh crew -c true || true",
    );
    // What lies beneath is changed, renamed, replaced, linked; rights go when the owner changes; links have owners too.
    team.step("chmod 600 /srv/a; mv /srv/b /srv/moved; rm /srv/c/x; touch /srv/c/x; chgrp 8 /srv/c/x; chmod 6755 /srv/c/x; chown :9 /srv/c/x");
    team.step("mkdir -p /srv/tree/in; ln -s ../c /srv/tree/link; mkfifo /srv/tree/pipe; echo x > /srv/tree/in/file; chown -R 5:6 /srv/tree; chown -h 11 /bin/ls");
    team.step("cp /srv/moved /srv/copy; echo more >> /srv/moved; cat /srv/a > /srv/new; cd /srv/tree; chown 12:13 in/file; echo 14 > in/other");
    // What somebody else makes is theirs, in whatever way it is made, and a directory gives its group on.
    team.step("mkdir /srv/own; chown 1000:1000 /srv/own; su -s /bin/sh crew -c 'umask 027; cd /srv/own; echo a > a; echo b >> a; mkdir -p d/e; ln -s a l; mkfifo p; cp a d/copy; mktemp -d t.XXXXXX > /dev/null; rm -r t.*; mv a b; set -C; echo once > once'");
    team.step("mkdir /srv/shared; chgrp 8 /srv/shared; chmod 2775 /srv/shared; cd /srv/shared; touch f; mkdir d; touch d/g; ln -s f l; chown 5 f");
    // What reads an owner and passes it on, and what asks who it is.
    team.step("cp -a /srv/moved /srv/b2; cp -a /srv/c /srv/c2; stat -c '%u %g' /srv/moved /srv/c > /srv/seen");
    team.step(
        "su -s /bin/sh crew -c 'id -u; id -g' > /srv/who; test \"$(cat /srv/who)\" = \"$(printf '1000\\n1000')\"",
    );
}

#[test]
fn an_ordinary_user_builds_seals_and_verifies_the_same() {
    let team = Team::locked();
    step_owners(&team);
    team.ok(&["seal"]);
    let member = Member::of(&team, true);
    let told = member.ok(&["build"]);
    assert!(told.contains("layers made"), "{told}");
    assert!(member.ok(&["verify"]).contains("the same as sealed"));
    assert!(member.ok(&["seal"]).contains("still sealed"));
}

#[test]
fn a_user_without_subordinate_ids_builds_seals_and_verifies_the_same() {
    let team = Team::locked();
    step_owners(&team);
    let path = team.project().join("cavrith.toml");
    let spec = fs::read_to_string(&path).unwrap();
    let account = "[[steps]]\nname = \"as crew\"\nat = \"build\"\naccount = \"crew\"\nrun = \"echo x > ~/own; mkdir ~/dir; ln -s own ~/dir/link; id -u > ~/id; cat /srv/a >> ~/own\"\n[[steps]]\nname = \"a note\"\nat = \"build\"\nwrite = { inside = \"/srv/tree/in/note\", content = \"x\", owner = \"crew\" }\n";
    fs::write(&path, format!("{spec}\n{account}")).unwrap();
    team.change("chmod 600 /srv/a", "chmod 644 /srv/a");
    team.ok(&["seal"]);
    if !is_root() {
        // Without root there is no way to take this user's range away.
        return;
    }
    let member = Member::of(&team, false);
    let told = member.ok(&["build"]);
    assert!(told.contains("layers made"), "{told}");
    let verdict = member.run(&["verify"]);
    assert!(verdict.status.success(), "{}", crate::team::told(&verdict));
    assert!(member.ok(&["seal"]).contains("still sealed"));
    assert!(member.ok(&["store", "check"]).contains("everything in the store is as it was made"));
    // A record that was changed is damage like an owner that was.
    let layers = member.dir.join("home/store/layers");
    let changed = fs::read_dir(layers).unwrap().map(|layer| layer.unwrap().path().join("root/srv/copy"));
    let changed = changed.into_iter().find(|path| path.exists()).unwrap();
    rustix::fs::setxattr(&changed, "user.cavrith.owner", b"3:4", rustix::fs::XattrFlags::empty()).unwrap();
    let output = member.run(&["store", "check"]);
    assert_eq!(output.status.code(), Some(1), "{}", crate::team::told(&output));
    assert!(String::from_utf8_lossy(&output.stdout).contains("its owner and group changed"));
    member.ok(&["store", "repair"]);
    member.ok(&["build"]);
    member.ok(&["verify"]);
    // What the member makes belongs to the member, on both sides.
    assert_eq!(
        member.ok(&["run", "-q", "--", "sh", "-c", "id -u; id -un; echo x > made; stat -c %U made"]),
        "1000\ncrew\ncrew\n"
    );
    assert_eq!(owner(&member.dir.join("timetable/made")), USER);
    // Nothing is left of it.
    member.ok(&["stop"]);
    let staging = fs::read_dir(member.dir.join("home/store/staging")).unwrap().count();
    assert_eq!(staging, 0);
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
        return;
    }
    let answer: serde_json::Value = serde_json::from_str(&member.ok(&["doctor", "--json"])).unwrap();
    assert_eq!(answer["ready"], true);
    let owners = answer["checks"].as_array().unwrap().iter().find(|one| one["name"] == "owners of files").unwrap();
    assert_eq!(owners["standing"], "limited");
    assert!(owners["found"].as_str().unwrap().contains("tove has no range of 65535 subordinate ids in /etc/subuid"));
    assert!(owners["remedy"].as_str().unwrap().contains("usermod --add-subuids"));
    // And where nobody may make user namespaces, nothing can be done but to say so.
    let etc = member.dir.parent().unwrap().join("etc");
    let script = "for f in passwd subuid subgid; do mount --bind \"$0/$f\" /etc/$f; done; exec unshare --user --map-root-user sh -c 'echo 0 > /proc/sys/user/max_user_namespaces; exec \"$0\" build' \"$1\"";
    let output = Command::new("unshare")
        .args([
            "--mount",
            "setpriv",
            "--reuid",
            "4242",
            "--regid",
            "4242",
            "--clear-groups",
            "--inh-caps=-all",
            "unshare",
            "--user",
            "--map-root-user",
            "--mount",
            "bash",
            "-c",
        ])
        .arg(script)
        .arg(&etc)
        .arg(&member.program)
        .current_dir(member.dir.join("timetable"))
        .env("CAVRITH_HOME", member.dir.join("home"))
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(3), "{}", told(&output));
}

#[test]
fn other_accounts_run_as_themselves_for_a_user_with_a_single_id() {
    if !is_root() {
        // Without root there is no way to take this user's range away.
        return;
    }
    let team = Team::locked();
    team.step("echo 'pilot:x:105:106::/srv:/bin/sh' >> /etc/passwd; echo 'pilot:x:106:' >> /etc/group");
    team.add("[services.watch]\nrun = [\"sh\", \"-c\", \"id -u > /srv/now; mv /srv/now /srv/watch; sleep 1000\"]\naccount = \"pilot\"\nready = { file = \"/srv/watch\" }\n");
    team.ok(&["lock"]);
    // Root has all numbers, so nothing is said to root.
    assert!(!team.fails(&["check"], 0).contains("CV0220"));
    let member = Member::of(&team, false);
    let output = member.run(&["check"]);
    let warned = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.success() && warned.contains("warning[CV0220]: on this machine"), "{warned}");
    assert!(
        warned.contains("what runs as pilot shares all files with crew") && warned.contains("--add-subuids"),
        "{warned}"
    );
    member.ok(&["start", "--wait"]);
    let inside =
        |account: &str, script: &str| member.ok(&["run", "-q", "--account", account, "--", "sh", "-c", script]);
    assert_eq!(
        inside("pilot", "cat /srv/watch; id -u; id -g; id -un; touch /tmp/a; stat -c '%u %g' /tmp/a"),
        "105\n105\n106\npilot\n105 106\n"
    );
    assert_eq!(inside("crew", "id -u; stat -c '%u %g' /tmp/a"), "1000\n1000 1000\n");
    // Root may do with any file what it likes; there is no second owner to give one to.
    let script = "id -u; touch /srv/a; chmod 000 /srv/a; cat /srv/a; chown 105:106 /srv/a; stat -c '%u %a' /srv/a; su pilot -c 'echo done'";
    assert_eq!(inside("root", script), "0\n0 0\ndone\n");
    // A set-uid bit stays inside, also in a namespace of one's own.
    assert_eq!(
        inside("root", "chmod 4755 /srv/a && stat -c %a /srv/a; cp /srv/a /code/a; chmod 4755 /code/a || echo refused"),
        "4755\nrefused\n"
    );
    // Nothing more than that: the numbers of others are nobody's to take.
    let output = member.run(&["run", "-q", "--account", "pilot", "--", "sh", "-c", "chown 0 /tmp/a"]);
    assert!(!output.status.success(), "{}", told(&output));
    let told = member.ok(&["status"]);
    assert!(told.contains("what runs as pilot shares all files with crew"), "{told}");
    member.ok(&["stop"]);
}

#[test]
fn limits_of_the_machine_are_never_raised() {
    if !is_root() {
        return;
    }
    let team = Team::locked();
    let member = Member::of(&team, true);
    let command = member.command(&["run", "-q", "--", "sh", "-c", "ulimit -Hu; ulimit -Hn"]);
    // Lower than what a build or a workspace would set for itself, and for good.
    let mut limited = Command::new("prlimit");
    limited.args(["--nproc=900:900", "--nofile=700:700"]).arg(command.get_program()).args(command.get_args());
    for (name, value) in command.get_envs() {
        limited.env(name, value.unwrap());
    }
    let output = limited.current_dir(command.get_current_dir().unwrap()).output().unwrap();
    assert!(output.status.success(), "{}", told(&output));
    assert_eq!(String::from_utf8_lossy(&output.stdout), "900\n700\n");
    member.ok(&["stop"]);
}

/// A team's project in the hands of one of the three kinds of member.
pub struct Someone {
    /// `root`, `range` or `single`.
    pub kind: &'static str,
    pub team: Team,
    member: Option<Member>,
}

impl Someone {
    /// The kinds that there can be here, one after the other, each with a project of its own.
    pub fn each(make: impl Fn() -> Team) -> impl Iterator<Item = Self> {
        let kinds = if is_root() { &["root", "range", "single"][..] } else { &["root"] };
        kinds.iter().map(move |kind| {
            let team = make();
            let member = (*kind != "root").then(|| Member::of(&team, *kind == "range"));
            Self { kind, team, member }
        })
    }

    /// A folder of theirs.
    pub fn dir(&self) -> PathBuf {
        self.member.as_ref().map_or_else(|| self.team.dir.path().to_owned(), |member| member.dir.clone())
    }

    /// Their home of Cavrith.
    pub fn home(&self) -> PathBuf {
        self.member.as_ref().map_or_else(|| self.team.home(), |member| member.dir.join("home"))
    }

    /// Their project.
    pub fn project(&self) -> PathBuf {
        self.member.as_ref().map_or_else(|| self.team.project(), |member| member.dir.join("timetable"))
    }

    /// Makes something theirs.
    pub fn give(&self, path: &Path) {
        if self.member.is_some() && is_root() {
            let status = Command::new("chown").args(["-R", &format!("{USER}:{USER}")]).arg(path).status().unwrap();
            assert!(status.success());
        }
    }

    /// Writes their configuration.
    pub fn configure(&self, text: &str) {
        let home = self.home();
        fs::create_dir_all(&home).unwrap();
        if self.member.is_some() && is_root() {
            std::os::unix::fs::chown(&home, Some(USER), Some(USER)).unwrap();
        }
        fs::write(home.join("config.toml"), text).unwrap();
    }

    /// Another program of theirs, which knows them by name.
    pub fn other(&self, program: &str) -> Command {
        let mut command = match &self.member {
            Some(member) if is_root() => {
                let etc = member.dir.parent().unwrap().join("etc");
                let script = "for f in passwd subuid subgid; do mount --bind \"$0/$f\" /etc/$f; done; exec setpriv --reuid $1 --regid $1 --clear-groups \"${@:2}\"";
                let mut command = Command::new("unshare");
                command.args(["--mount", "bash", "-ec", script]).arg(etc).arg(USER.to_string()).arg(program);
                command
            }
            _ => Command::new(program),
        };
        command.current_dir(self.dir()).env("HOME", self.dir()).env("CAVRITH_HOME", self.home());
        command
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        self.member.as_ref().map_or_else(|| self.team.command(arguments), |member| member.command(arguments))
    }

    pub fn run(&self, arguments: &[&str]) -> Output {
        self.command(arguments).output().unwrap()
    }

    pub fn ok(&self, arguments: &[&str]) -> String {
        let output = self.run(arguments);
        assert!(output.status.success(), "{}: cavrith {arguments:?}: {}", self.kind, told(&output));
        String::from_utf8(output.stdout).unwrap()
    }
}

#[test]
fn what_is_copied_in_is_written_as_the_account_and_not_as_whoever_runs_the_workspace() {
    for who in Someone::each(Team::locked) {
        let kind = who.kind;
        who.ok(&["start", "-q", "--wait"]);
        let spec = "serve.sh";
        let refused = who.run(&["copy", "in", spec, "/etc/new"]);
        // Where there is one owner, everything is theirs.
        assert!(kind == "single" || told(&refused).contains("ermission denied"), "{kind}: {}", told(&refused));
        who.ok(&["copy", "in", "--account", "root", spec, "/etc/new"]);
        who.ok(&["copy", "in", spec, "/home/crew/new"]);
        let owners = who.ok(&["run", "-q", "--", "stat", "-c", "%U", "/etc/new", "/home/crew/new"]);
        assert!(kind == "single" || owners == "root\ncrew\n", "{kind}: {owners}");
        who.ok(&["stop", "-q"]);
    }
}
