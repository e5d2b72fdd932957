//! Workspaces in virtual machines.

use std::fs;
use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::owners::Someone;
use crate::team::{Team, told};

const SPEC: &str = "spec = 1

[workspace]
name = \"pier\"

[base]
debian   = \"bookworm\"
packages = [\"procps\"]

[machine]
memory = \"512 MiB\"
disk   = \"1 GiB\"

[[folders]]
outside = \".\"
inside  = \"/code\"
except  = [\"built\"]

[[folders]]
inside = \"/srv/tables\"
mode   = \"kept\"
name   = \"tables\"

[[ports]]
name   = \"site\"
inside = 8080

[services.site]
run   = \"\"\"exec perl -MIO::Socket::INET -e '$s = IO::Socket::INET->new(LocalAddr => \"127.0.0.1\", LocalPort => 8080, Listen => 5, ReuseAddr => 1); while ($c = $s->accept) { $l = <$c>; print $c \"HTTP/1.0 200 OK\\\\r\\\\n\\\\r\\\\ntide\"; close $c }'\"\"\"
ready = { port = 8080 }
";

#[test]
fn a_machine_needs_its_table_and_its_target_is_checked() {
    let team = Team::locked();
    team.ok(&["start", "-q"]);
    let said = team.fails(&["freeze", "--to-disk"], 2);
    assert!(said.contains("it runs in no virtual machine"), "{said}");
    assert!(team.ok(&["status"]).contains("running"));
    team.ok(&["stop", "-q"]);
    let said = team.fails(&["start", "--machine"], 2);
    assert!(said.contains("the spec has no [machine]") && said.contains("cavrith lock"), "{said}");
    let text = "spec = 1\n[workspace]\nname = \"pier\"\ntarget = \"box\"\n[base]\ndebian = \"trixie\"\npackages = []\n";
    fs::write(team.project().join("cavrith.toml"), text).unwrap();
    let said = team.fails(&["check"], 1);
    assert!(said.contains("namespaces") && said.contains("machine"), "{said}");
    fs::write(team.project().join("cavrith.toml"), text.replace("box", "machine")).unwrap();
    let said = team.fails(&["check"], 1);
    assert!(said.contains("add the table [machine]"), "{said}");
}

fn page(port: u16) -> String {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
    stream.write_all(b"GET / HTTP/1.0\r\n\r\n").unwrap();
    let mut said = String::new();
    let _ = stream.read_to_string(&mut said);
    said
}

fn status(who: &Someone) -> serde_json::Value {
    serde_json::from_str(&who.ok(&["status", "--json"])).unwrap()
}

/// The hypervisor of somebody's machine.
fn hypervisor(who: &Someone) -> u32 {
    let of = format!("{}", who.home().join("workspaces").display());
    let all = fs::read_dir("/proc").unwrap().flatten();
    let numbers = all.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    let is_it = |number: &u32| {
        let line = fs::read(format!("/proc/{number}/cmdline")).unwrap_or_default();
        let place = fs::read_link(format!("/proc/{number}/cwd")).unwrap_or_default();
        line.windows(4).any(|part| part == b"qemu") && place.starts_with(&of)
    };
    numbers.into_iter().find(is_it).unwrap()
}

fn wait_for(what: &str, is_so: impl Fn() -> bool) {
    let until = Instant::now() + Duration::from_secs(60);
    while !is_so() {
        assert!(Instant::now() < until, "not within a minute: {what}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[test]
#[ignore = "needs a mirror of the Debian archive, and QEMU"]
fn online_a_workspace_runs_in_a_machine_with_the_same_commands() {
    let make = || {
        let team = Team::new();
        fs::write(team.project().join("cavrith.toml"), SPEC).unwrap();
        team.ok(&["lock", "-q"]);
        team
    };
    for who in Someone::each(make) {
        let kind = who.kind;
        who.ok(&["start", "--machine", "--wait", "-q"]);
        let state = status(&who);
        assert_eq!(state["standing"], "running", "{kind}: {state}");
        let port = state["status"]["ports"][0]["outside"].as_u64().unwrap() as u16;
        assert!(page(port).ends_with("tide"), "{kind}");
        // Commands: whose, where, streams, codes; root is root of its kernel.
        let run = |script: &str| who.ok(&["run", "--", "sh", "-c", script]);
        assert_eq!(run("id -u; pwd; hostname; echo a; echo b >&2"), "1000\n/code\npier\na\n", "{kind}");
        assert_eq!(who.run(&["run", "--", "sh", "-c", "exit 7"]).status.code(), Some(7), "{kind}");
        let mut counting = who.command(&["run", "--", "wc", "-c"]);
        let mut counting = counting.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        counting.stdin.take().unwrap().write_all(&vec![b'x'; 1_000_000]).unwrap();
        assert_eq!(counting.wait_with_output().unwrap().stdout, b"1000000\n", "{kind}");
        let root = |script: &str| who.ok(&["run", "--account", "root", "--", "sh", "-c", script]);
        assert_eq!(root("mount -t tmpfs none /mnt && id -u && umount /mnt"), "0\n", "{kind}");
        // A live folder, both ways.
        let project = who.project();
        let owner = fs::metadata(&project).unwrap().uid();
        run("echo inside > made; chmod 4755 made; mkdir built/deep; ln -s made link");
        root("echo root > by-root");
        for name in ["made", "by-root"] {
            let meta = fs::metadata(project.join(name)).unwrap();
            assert_eq!((meta.uid(), meta.permissions().mode() & 0o6000), (owner, 0), "{kind} {name}");
        }
        assert_eq!(fs::read_link(project.join("link")).unwrap(), PathBuf::from("made"), "{kind}");
        assert!(!project.join("built/deep").exists(), "{kind}");
        fs::write(project.join("tide"), "high").unwrap();
        who.give(&project.join("tide"));
        assert_eq!(run("cat tide; stat -c %u tide"), "high1000\n", "{kind}");
        fs::write(project.join("tide"), "low water").unwrap();
        wait_for("what was written outside is read inside", || run("cat tide") == "low water");
        // Programs that watch are told.
        let watch = "require q(syscall.ph) if 0; $f = syscall(294, 0); syscall(254, $f, $ARGV[0], 0x100); open $i, q(<&=), $f; print qq(watching\\n); sysread $i, $b, 4096; print unpack(q(Z*), substr $b, 16)";
        let mut watching = who.command(&["run", "--", "perl", "-e", &format!("$| = 1; {watch}"), "/code"]);
        let mut watching = watching.stdout(Stdio::piped()).spawn().unwrap();
        let mut output = watching.stdout.take().unwrap();
        let mut first = [0; 9];
        output.read_exact(&mut first).unwrap();
        fs::write(project.join("news"), "").unwrap();
        let mut name = String::new();
        output.read_to_string(&mut name).unwrap();
        assert_eq!((name.trim(), watching.wait().unwrap().code()), ("news", Some(0)), "{kind}");
        // Frozen, thawed; changed by hand; measured within.
        who.ok(&["freeze", "-q"]);
        assert_eq!(status(&who)["standing"], "frozen", "{kind}");
        who.ok(&["thaw", "-q"]);
        // On the disk, without a hypervisor; what runs notices nothing.
        let mut counting = who.command(&["run", "--", "sh", "-c", "for i in 1 2 3 4 5 6; do echo $i; sleep 1; done"]);
        let counting = counting.stdout(Stdio::piped()).spawn().unwrap();
        let asleep = hypervisor(&who);
        who.ok(&["freeze", "--to-disk", "-q"]);
        assert!(!PathBuf::from(format!("/proc/{asleep}")).exists(), "{kind}");
        assert_eq!(status(&who)["standing"], "frozen", "{kind}");
        who.ok(&["thaw", "-q"]);
        assert_eq!(counting.wait_with_output().unwrap().stdout, b"1\n2\n3\n4\n5\n6\n", "{kind}");
        assert!(page(port).ends_with("tide"), "{kind}");
        run("echo kept > /srv/tables/row; echo mine > ~/mine");
        root("echo changed > /etc/changed");
        let drift = told(&who.run(&["drift"]));
        assert!(drift.contains("/etc/changed"), "{kind}: {drift}");
        if kind == "root" {
            who.ok(&["seal", "-q"]);
            let output = who.run(&["verify"]);
            let said = told(&output);
            assert!(said.contains("same         machine's root") && said.contains("/etc/changed"), "{said}");
            assert_eq!(output.status.code(), Some(1), "{said}");
        }
        // Killed from outside: said, and the next start goes on.
        let killed = hypervisor(&who);
        // What was written a moment ago is on the disk.
        std::thread::sleep(Duration::from_secs(2));
        assert!(Command::new("kill").args(["-9", &killed.to_string()]).status().unwrap().success());
        wait_for("it is told that the machine is gone", || who.ok(&["status"]).contains("was killed, or failed"));
        who.ok(&["start", "--machine", "--wait", "-q"]);
        assert_eq!(run("cat /srv/tables/row ~/mine /etc/changed"), "kept\nmine\nchanged\n", "{kind}");
        // Its kernel gives up.
        let output = who.run(&["run", "--account", "root", "--", "sh", "-c", "echo c > /proc/sysrq-trigger"]);
        assert!(!output.status.success(), "{kind}");
        wait_for("it is told that the kernel gave up", || who.ok(&["status"]).contains("was killed, or failed"));
        assert!(who.ok(&["logs", "workspace"]).contains("Kernel panic"), "{kind}");
        // Dropped: what was changed is set aside, what is kept stays.
        who.ok(&["start", "--machine", "--wait", "-q"]);
        who.ok(&["drop", "--yes", "-q"]);
        who.ok(&["start", "--machine", "--wait", "-q"]);
        assert_eq!(run("cat /srv/tables/row ~/mine; ls /etc/changed 2>/dev/null; true"), "kept\nmine\n", "{kind}");
        let last = hypervisor(&who);
        who.ok(&["stop", "-q"]);
        assert!(!PathBuf::from(format!("/proc/{last}")).exists(), "{kind}: nothing is left of it");
    }
}

#[test]
#[ignore = "needs a mirror of the Debian archive, and QEMU"]
fn online_a_synced_folder_of_a_machine_is_kept_like_the_one_outside() {
    let make = || {
        let team = Team::new();
        let synced = SPEC.replace("inside  = \"/code\"\n", "inside  = \"/code\"\nmode    = \"synced\"\n");
        fs::write(team.project().join("cavrith.toml"), synced).unwrap();
        for number in 0..300 {
            fs::write(team.project().join(format!("page-{number}")), format!("{number}\n")).unwrap();
        }
        team.ok(&["lock", "-q"]);
        team
    };
    for who in Someone::each(make) {
        let (kind, project) = (who.kind, who.project());
        let run = |script: &str| who.ok(&["run", "-q", "--", "sh", "-c", script]);
        who.ok(&["start", "--machine", "--wait", "-q"]);
        assert_eq!(run("cat page-* | sort -n | tail -1; stat -c %U page-7"), "299\ncrew\n", "{kind}");
        fs::write(project.join("tide"), "high\n").unwrap();
        who.give(&project.join("tide"));
        assert_eq!(run("cat tide; mv page-7 page-8; mkdir made; echo low > made/ebb; rm page-9"), "high\n", "{kind}");
        assert_eq!(fs::read_to_string(project.join("made/ebb")).unwrap(), "low\n", "{kind}");
        assert_eq!(fs::read_to_string(project.join("page-8")).unwrap(), "7\n", "{kind}");
        assert!(!project.join("page-7").exists() && !project.join("page-9").exists(), "{kind}");
        // Suspended and resumed, and changed meanwhile.
        who.ok(&["freeze", "--to-disk", "-q"]);
        fs::write(project.join("tide"), "flood\n").unwrap();
        who.ok(&["thaw", "-q"]);
        assert_eq!(run("cat tide"), "flood\n", "{kind}");
        // Killed: what was written a moment before comes out at the next start, and nothing is taken for removed.
        run("echo last > last");
        std::thread::sleep(Duration::from_secs(4));
        let killed = hypervisor(&who);
        assert!(Command::new("kill").args(["-9", &killed.to_string()]).status().unwrap().success());
        wait_for("it is told that the machine is gone", || {
            told(&who.run(&["status"])).contains("was killed, or failed")
        });
        fs::remove_file(project.join("page-10")).unwrap();
        who.ok(&["start", "--machine", "--wait", "-q"]);
        assert_eq!(run("ls | wc -l; cat last; ls page-10 2>&1 | wc -l").lines().nth(1), Some("last"), "{kind}");
        let said = who.ok(&["folder", "synced"]);
        assert!(said.contains("in step"), "{kind}: {said}");
        let outside = fs::read_dir(&project).unwrap().count();
        assert_eq!(run("ls -A | grep -vxc built").trim(), outside.to_string(), "{kind}");
        assert!(!project.join("page-10").exists() && run("ls").lines().all(|name| name != "page-10"), "{kind}");
        // The copy stays on the disk when the workspace is dropped.
        who.ok(&["drop", "--yes", "-q"]);
        fs::remove_file(project.join("page-11")).unwrap();
        who.ok(&["start", "--machine", "--wait", "-q"]);
        assert!(!project.join("page-11").exists() && run("ls").lines().all(|name| name != "page-11"), "{kind}");
        who.ok(&["drop", "--yes", "-q"]);
    }
}
