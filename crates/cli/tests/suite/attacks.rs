//! Attacks, from inside and by a project, for the three kinds of member: root, a user with a range of ids, a user with
//! a single one.
//!
//! What may be tried is a table; what must hold afterwards is the same for all of them, and is examined after each:
//! outside, nothing has rights that it had not, nothing that was there before has changed, and the command came back in
//! time.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::process::{Output, Stdio};
use std::time::{Duration, Instant};

use crate::owners::Member;
use crate::team::{Team, told};

/// Whose machine it is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Kind {
    Root,
    Range,
    Single,
}

/// What is done inside, by the account and by root there. `$W` is a folder of the member's, `$K` a kept one, `$X` the
/// program of attacks.
const INSIDE: &[&str] = &[
    "cp /bin/busybox $W/evil; chmod 4755 $W/evil",
    "cp /bin/busybox $W/evil; chmod 2755 $W/evil",
    "cp /bin/busybox $W/evil; chmod u+s,g+s $W/evil",
    "cp /bin/busybox /tmp/evil; chmod 6755 /tmp/evil; cp -p /tmp/evil $W/evil",
    "cp /bin/busybox /tmp/evil; chmod 6755 /tmp/evil; mv /tmp/evil $W/evil",
    "cp /bin/busybox /tmp/evil; chmod 6755 /tmp/evil; ln /tmp/evil $W/evil",
    "cp /bin/busybox /tmp/evil; chmod 6755 /tmp/evil; tar -C /tmp -cf - evil | tar -C $W -xpf -",
    "cp /bin/busybox /tmp/evil; chmod 6755 /tmp/evil; cd /tmp; echo evil | cpio -o -H newc 2>/dev/null | (cd $W; cpio -idm 2>/dev/null)",
    "install -m 6755 /bin/busybox $W/evil",
    "cp /bin/busybox $K/evil; chmod 6755 $K/evil",
    "mkdir $W/dir; chmod 6777 $W/dir; cp /bin/busybox $W/dir/evil",
    "ln -s /bin/busybox $W/link; chmod 4755 $W/link",
    "$X fchmod $W/evil",
    "$X fchmodat2 $W/evil",
    "$X born $W/evil",
    "$X born2 $W/evil",
    "$X creat $W/evil",
    "$X mknod $W/evil",
    "$X nameless $W",
    "$X race $W/evil",
    "$X capability $W/evil",
    "$X capability $K/evil",
    "$X device $W/disk",
    "$X device /tmp/disk && head -c 1 /tmp/disk && echo REACHED",
    "mknod $W/mem c 1 1 && head -c 1 $W/mem && echo REACHED",
    "$X vsock",
    "$X groups",
    "$X nested-groups",
    "$X typing",
    "$X keys",
    "$X bpf",
    "$X ring",
    "$X handle",
    "$X trace",
    "$X enter",
    "$X mount",
    "$X remount",
    "$X unmount $W",
    "$X module",
    "$X time",
    "$X second-table",
    "for node in null zero full random urandom; do chmod 0600 /dev/$node; chown 1 /dev/$node; done",
    "echo evil > /proc/sys/kernel/core_pattern && echo REACHED",
    "echo 1 > /proc/sys/net/ipv4/ip_forward && echo REACHED",
    "echo b > /proc/sysrq-trigger && echo REACHED",
    "cat /proc/kcore | head -c 1 | grep -q . && echo REACHED",
    "cat /proc/1/environ 2>/dev/null | grep -q . && echo REACHED",
    "ls /proc/1/root/ 2>/dev/null | grep -q . && echo REACHED",
    "for f in /proc/1/fd/*; do readlink $f && echo REACHED; done",
    "for p in /proc/[0-9]*; do case $(cat $p/comm) in exe|cavrith*) cat $p/maps | grep -q . && echo REACHED;; esac; done",
    "ls /run/.outside 2>/dev/null && echo REACHED",
    "kill -9 1; kill -STOP 1; kill -TERM 1",
    "dmesg 2>/dev/null | grep -q . && echo REACHED",
    "mount -t tmpfs none $W && echo REACHED",
    "umount /proc 2>/dev/null && echo REACHED",
    "umount -l $W 2>/dev/null && echo REACHED",
    "chroot /proc/1/root /bin/busybox true 2>/dev/null && echo REACHED",
    "hostname evil 2>/dev/null; true",
    "date -s 2001-01-01 >/dev/null 2>&1; test $(date +%Y) = 2001 && echo REACHED",
    "for f in /sys/fs/cgroup/*/tasks /sys/fs/cgroup/cgroup.procs; do echo $$ 2>/dev/null > $f && echo REACHED; done",
    "echo pwned > /proc/self/fd/0",
    "printf pwned >&0",
    "rm -rf $K/..; rm -rf /srv/kept; mv $K /tmp/kept",
    "mkfifo $W/pipe; ln -s /etc/shadow $W/shadow; ln -s / $W/disk; touch \"$W/$(printf 'a\\033]0;x\\007b')\"",
    "rm -f /etc/passwd; mkfifo /etc/passwd; chmod 666 /etc/passwd",
    "rm -rf /etc 2>/dev/null; ln -s /proc/1/root/etc /etc",
];

struct Ground {
    team: Team,
    kind: Kind,
    member: Option<Member>,
}

impl Ground {
    fn new(kind: Kind) -> Self {
        let team = Team::locked();
        let source = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/attack.c");
        let compiled = std::process::Command::new("cc")
            .args(["-static", "-O1", "-o", "attack", source])
            .current_dir(team.project())
            .output()
            .unwrap();
        assert!(compiled.status.success(), "{}", told(&compiled));
        team.add(
            "[[folders]]\noutside = \"ground\"\ninside = \"/ground\"\n[[folders]]\nmode = \"kept\"\nname = \"data\"\ninside = \"/srv/kept\"\n",
        );
        fs::create_dir(team.project().join("ground")).unwrap();
        team.ok(&["lock"]);
        let victim = team.dir.path().join("victim");
        fs::create_dir(&victim).unwrap();
        fs::write(victim.join("precious"), "precious").unwrap();
        fs::set_permissions(victim.join("precious"), fs::Permissions::from_mode(0o600)).unwrap();
        symlink("elsewhere", victim.join("hosts")).unwrap();
        let member = match kind {
            Kind::Root => None,
            Kind::Range | Kind::Single => Some(Member::of(&team, kind == Kind::Range)),
        };
        if let (Some(_), true) = (&member, nix::unistd::Uid::effective().is_root()) {
            let give = format!("{0}:{0}", crate::owners::USER);
            let status = std::process::Command::new("chown").args(["-R", &give]).arg(&victim).status().unwrap();
            assert!(status.success());
        }
        Self { team, kind, member }
    }

    fn project(&self) -> PathBuf {
        self.member.as_ref().map_or_else(|| self.team.project(), |member| member.dir.join("timetable"))
    }

    fn home(&self) -> PathBuf {
        self.member.as_ref().map_or_else(|| self.team.home(), |member| member.dir.join("home"))
    }

    /// Runs a command of the member's; it has to come back in time.
    fn run(&self, arguments: &[&str], input: Option<File>) -> Output {
        let mut command =
            self.member.as_ref().map_or_else(|| self.team.command(arguments), |member| member.command(arguments));
        command.stdin(input.map_or_else(Stdio::null, Stdio::from)).stdout(Stdio::piped()).stderr(Stdio::piped());
        let started = Instant::now();
        let child = command.spawn().unwrap();
        let process = rustix::process::Pid::from_raw(i32::try_from(child.id()).unwrap()).unwrap();
        let (done, ended) = std::sync::mpsc::channel::<()>();
        let guard = std::thread::spawn(move || {
            if ended.recv_timeout(Duration::from_secs(60)).is_err() {
                let _ = rustix::process::kill_process(process, rustix::process::Signal::KILL);
            }
        });
        let output = child.wait_with_output().unwrap();
        let _ = done.send(());
        guard.join().unwrap();
        assert!(started.elapsed() < Duration::from_secs(60), "{arguments:?} hangs");
        output
    }

    /// What is outside and must stay as it is: rights, owners, content by path, and the machine's own nodes.
    fn outside(&self) -> BTreeMap<PathBuf, String> {
        let mut seen = BTreeMap::new();
        let look = |path: &Path| {
            let meta = fs::symlink_metadata(path).unwrap();
            let content = if meta.is_file() { fs::read(path).unwrap_or_default() } else { Vec::new() };
            let rights = format!("{:o} {}:{} {}", meta.mode(), meta.uid(), meta.gid(), content.len());
            format!("{rights} {}", String::from_utf8_lossy(&content[..content.len().min(40)]))
        };
        for name in ["", "precious", "hosts"] {
            let path = self.team.dir.path().join("victim").join(name);
            seen.insert(path.clone(), look(&path));
        }
        for node in ["null", "zero", "full", "random", "urandom"] {
            let path = Path::new("/dev").join(node);
            seen.insert(path.clone(), look(&path));
        }
        for path in [
            "/etc/hosts",
            "/etc/passwd",
            "/proc/sys/kernel/hostname",
            "/proc/sys/kernel/core_pattern",
            "/proc/sys/net/ipv4/ip_forward",
        ] {
            seen.insert(path.into(), look(Path::new(path)));
        }
        seen
    }

    /// Programs outside that would give somebody their owner's rights, where others can come to them.
    fn programs_with_rights(&self) -> Vec<PathBuf> {
        let mut found = Vec::new();
        let mut open = vec![self.project(), self.home()];
        while let Some(dir) = open.pop() {
            // Nobody else comes past such a directory.
            let closed = fs::metadata(&dir).is_ok_and(|meta| meta.mode() & 0o011 == 0);
            if closed && dir != self.project() && dir != self.home() {
                continue;
            }
            for entry in fs::read_dir(&dir).into_iter().flatten().flatten() {
                let meta = entry.metadata().unwrap();
                if meta.is_file() && meta.mode() & 0o6000 != 0 {
                    found.push(entry.path());
                } else if meta.is_dir() {
                    open.push(entry.path());
                }
            }
        }
        // In the member's own folders they are found whatever the rights above are.
        let mut open = vec![self.project()];
        while let Some(dir) = open.pop() {
            for entry in fs::read_dir(&dir).into_iter().flatten().flatten() {
                let meta = entry.metadata().unwrap();
                let kind = meta.file_type();
                let gives = kind.is_file() && (meta.mode() & 0o6000 != 0 || has_capability(&entry.path()));
                let device = std::os::unix::fs::FileTypeExt::is_block_device(&kind)
                    || std::os::unix::fs::FileTypeExt::is_char_device(&kind);
                if gives || device {
                    found.push(entry.path());
                } else if meta.is_dir() {
                    open.push(entry.path());
                }
            }
        }
        found
    }

    fn attack(&self, script: &str, by: &str) {
        let before = self.outside();
        let name = format!("{:?}, as {by}: {script}", self.kind);
        let input = File::open(self.team.dir.path().join("victim/precious")).unwrap();
        let whole = format!("W=/ground K=/srv/kept X=/code/attack; {script}");
        let output = self.run(&["run", "-q", "--account", by, "--", "timeout", "20", "sh", "-c", &whole], Some(input));
        assert!(!String::from_utf8_lossy(&output.stdout).contains("REACHED"), "{name}: {}", told(&output));
        assert_eq!(self.outside(), before, "{name}");
        assert_eq!(self.programs_with_rights(), Vec::<PathBuf>::new(), "{name}");
        // The workspace is still one, and the commands that look at it come back.
        let status = self.run(&["status", "--json"], None);
        assert!(status.status.success(), "{name}: {}", told(&status));
        for entry in fs::read_dir(self.project().join("ground")).unwrap() {
            let path = entry.unwrap().path();
            let _ =
                if path.is_dir() && !path.is_symlink() { fs::remove_dir_all(&path) } else { fs::remove_file(&path) };
        }
    }

    fn all(&self) {
        let started = self.run(&["start", "-q"], None);
        assert!(started.status.success(), "{}", told(&started));
        assert!(INSIDE.len() > 60);
        for script in INSIDE {
            // Each with a root of its own where it breaks it.
            for by in ["crew", "root"] {
                self.attack(script, by);
            }
            if script.contains("rm ") {
                let anew = self.run(&["stop", "-q"], None);
                assert!(anew.status.success(), "{script}: {}", told(&anew));
                let dropped = self.run(&["drop", "--yes", "-q"], None);
                assert!(dropped.status.success(), "{script}: {}", told(&dropped));
                let started = self.run(&["start", "-q"], None);
                assert!(started.status.success(), "{script}: {}", told(&started));
            }
        }
        let ended = self.run(&["stop", "-q"], None);
        assert!(ended.status.success(), "{}", told(&ended));
        assert_eq!(fs::read_dir(self.home().join("store/staging")).unwrap().count(), 0);
    }
}

fn has_capability(path: &Path) -> bool {
    rustix::fs::lgetxattr(path, "security.capability", &mut [0u8; 64][..]).is_ok()
}

fn is_root() -> bool {
    nix::unistd::Uid::effective().is_root()
}

#[test]
fn nothing_inside_reaches_out_of_root_s_workspace() {
    if is_root() {
        Ground::new(Kind::Root).all();
    }
}

#[test]
fn nothing_inside_reaches_out_of_a_member_s_workspace() {
    Ground::new(Kind::Range).all();
}

#[test]
fn nothing_inside_reaches_out_of_the_workspace_of_a_member_with_a_single_id() {
    if is_root() {
        Ground::new(Kind::Single).all();
    }
}

/// What a stranger's project says, and what must not come of it.
const PROJECTS: &[(&str, &str)] = &[
    ("outside = \"/\"", "which no spec gets"),
    ("outside = \"/etc\"", "which no spec gets"),
    ("outside = \"/usr/share\"", "which no spec gets"),
    ("outside = \"/proc\"", "which no spec gets"),
    ("outside = \"/dev\"", "which no spec gets"),
    ("outside = \"/home\"", "which no spec gets"),
    ("outside = \"/root\"", "which no spec gets"),
    ("outside = \"/root/.ssh\"", "keys are kept there"),
    ("outside = \"/var/lib\"", "which no spec gets"),
    ("outside = \"../../home\"", "Cavrith keeps its own"),
    ("outside = \"../../home/store\"", "Cavrith keeps its own"),
    ("outside = \"../..\"", "Cavrith keeps its own"),
    ("outside = \"..\"", "--allow-outside"),
    ("outside = \"../../victim\"", "--allow-outside"),
    ("outside = \"led\"", "--allow-outside"),
    ("outside = \"led-up/victim\"", "Cavrith keeps its own|--allow-outside"),
];

#[test]
fn a_spec_gets_nothing_outside_without_its_member_s_word() {
    let team = Team::locked();
    let victim = team.dir.path().join("victim");
    fs::create_dir(&victim).unwrap();
    fs::write(victim.join("precious"), "precious-content").unwrap();
    let project = team.project();
    fs::create_dir_all("/root/.ssh").unwrap_or_default();
    symlink(&victim, project.join("led")).unwrap();
    symlink(team.dir.path(), project.join("led-up")).unwrap();
    symlink(victim.join("precious"), project.join("led-file")).unwrap();
    let good = fs::read_to_string(project.join("cavrith.toml")).unwrap();
    let write = |text: String| fs::write(project.join("cavrith.toml"), text).unwrap();
    for (folder, why) in PROJECTS {
        write(format!("{good}\n[[folders]]\n{folder}\ninside = \"/seen\"\n"));
        for command in [&["lock"][..], &["build"], &["start"], &["run", "--", "ls", "/seen"], &["seal"]] {
            let output = team.run(command);
            let said = told(&output);
            // Locking examines nothing that a folder holds, so there it is reported, and at the next command refused.
            let code = output.status.code().unwrap();
            assert!(code == 2 || command == ["lock"] && code < 2, "{folder} {command:?}: {said}");
            let fits = why.split('|').any(|why| said.contains(why));
            assert!(fits || !Path::new("/root/.ssh").exists(), "{folder} {command:?}: {said}");
            assert!(!said.contains("precious"), "{folder}: {said}");
        }
        let checked = team.run(&["check"]);
        assert!(told(&checked).contains("CV0134"), "{folder}: {}", told(&checked));
    }
    // Files that lead out, by a link of their own or one on the way.
    let step = |what: &str| format!("{good}\n[[steps]]\nname = \"take\"\nat = \"build\"\n{what}\n");
    for what in [
        "copy = { from = \"led/precious\", inside = \"/srv/x\" }",
        "copy = { from = \"led-up/victim\", inside = \"/srv/x\" }",
        "write = { inside = \"/srv/x\", template = \"led-file\" }",
        "write = { inside = \"/srv/x\", template = \"led/precious\" }",
    ] {
        write(step(what));
        for command in [&["lock"][..], &["build"]] {
            let said = team.fails(command, 2);
            assert!(said.contains("--allow-outside"), "{what}: {said}");
        }
        assert!(!told(&team.run(&["check"])).contains("precious-content"));
    }
    for included in ["led/precious", "led-file", "/etc/passwd", "/proc/self/environ"] {
        write(good.replacen("spec = 1", &format!("spec = 1\ninclude = [\"{included}\"]"), 1));
        let said = team.fails(&["check"], 1);
        assert!(!said.contains("precious-content") && !said.contains("root:x"), "{included}: {said}");
    }
    // What waits for somebody, or never ends, is not a file.
    let fifo = std::process::Command::new("mkfifo").arg(project.join("pipe.toml")).status().unwrap();
    assert!(fifo.success());
    for included in ["pipe.toml", "/dev/zero", "/dev/tty"] {
        write(good.replacen("spec = 1", &format!("spec = 1\ninclude = [\"{included}\"]"), 1));
        team.fails(&["check"], 1);
    }
    // The member's word is remembered, for that path and what lies in it.
    write(format!("{good}\n[[folders]]\noutside = \"../../victim\"\ninside = \"/seen\"\n"));
    team.ok(&["lock", "--allow-outside", victim.to_str().unwrap()]);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/seen/precious"]), "precious-content");
    team.stop_all();
    // For another one it has to be given again, and for some it cannot.
    write(format!("{good}\n[[folders]]\noutside = \"..\"\ninside = \"/seen\"\n"));
    team.ok(&["lock"]);
    assert!(team.fails(&["build"], 2).contains("--allow-outside"));
    assert!(team.fails(&["lock", "--allow-outside", "/"], 2).contains("no spec gets"));
}

#[test]
fn an_image_whose_links_lead_out_touches_nothing_outside() {
    let team = Team::locked();
    let victim = team.dir.path().join("victim");
    fs::create_dir(&victim).unwrap();
    for name in ["hosts", "resolv.conf", "null", "passwd"] {
        symlink("elsewhere", victim.join(name)).unwrap();
    }
    let seen =
        || fs::read_dir(&victim).unwrap().map(|entry| entry.unwrap().path()).collect::<std::collections::BTreeSet<_>>();
    let before = seen();
    let out = victim.to_str().unwrap();
    let good = fs::read_to_string(team.project().join("cavrith.toml")).unwrap();
    for place in ["etc", "dev", "run", "tmp", "proc", "sys", "home", "code"] {
        for target in
            [out.to_owned(), format!("/run/.outside{out}"), format!("/proc/1/root{out}"), "/proc/self/cwd".to_owned()]
        {
            fs::write(team.project().join("cavrith.toml"), &good).unwrap();
            team.step(&format!(
                "rm -rf /{place} 2>/dev/null || mv /{place} /{place}.old; ln -s {target} /{place} || true"
            ));
            team.ok(&["lock"]);
            // Whether it starts or not, it comes back, and nothing outside has changed.
            let output = team.run(&["run", "-q", "--", "/bin/busybox", "true"]);
            assert!(output.status.code().is_some(), "/{place} -> {target}");
            assert_eq!(seen(), before, "/{place} -> {target}: {}", told(&output));
            team.stop_all();
        }
    }
    team.assert_clean();
}
