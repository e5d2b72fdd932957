//! The workspace as a host of SSH, seen by OpenSSH's own clients; and colleagues who are let in.

use std::fs;
use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::path::PathBuf;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

use crate::owners::Someone;
use crate::running::soon;
use crate::team::{Team, told};

/// A member with a configuration for SSH clients.
struct Host {
    who: Someone,
    config: PathBuf,
}

impl Host {
    fn each() -> impl Iterator<Item = Self> {
        Someone::each(Team::locked).map(|who| {
            who.ok(&["start", "-q", "--wait"]);
            let config = who.dir().join("ssh-config");
            who.ok(&["ssh-config", "--apply", "--file", config.to_str().unwrap()]);
            Self { who, config }
        })
    }

    /// One of OpenSSH's clients.
    fn client(&self, program: &str, arguments: &[&str]) -> Command {
        let mut command = self.who.other(program);
        command.arg("-F").arg(&self.config).args(["-o", "BatchMode=yes", "-o", "LogLevel=ERROR"]).args(arguments);
        command
    }

    fn ssh(&self, arguments: &[&str]) -> Output {
        self.client("ssh", arguments).stdin(Stdio::null()).output().unwrap()
    }

    fn with_input(&self, program: &str, arguments: &[&str], input: &str) -> Output {
        let mut child = self.client(program, arguments);
        let mut child = child.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    }

    fn inside(&self, script: &str) -> String {
        self.who.ok(&["run", "-q", "--", "sh", "-c", script])
    }
}

const HOST: &str = "timetable.cavrith";

fn text(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}

#[test]
fn commands_shells_and_terminals_end_and_tell_as_anywhere() {
    for host in Host::each() {
        let kind = host.who.kind;
        let output = host.ssh(&[HOST, "id -un; pwd; echo $SITE_PORT; echo low >&2; exit 7"]);
        assert_eq!(
            (output.status.code(), text(&output).as_str()),
            (Some(7), "crew\n/code\n8080\n"),
            "{}",
            told(&output)
        );
        assert_eq!(String::from_utf8_lossy(&output.stderr), "low\n", "{kind}");
        let big = "Brindle Ferry\n".repeat(200_000);
        let output = host.with_input("ssh", &[HOST, "cat"], &big);
        assert!(text(&output) == big, "{kind}: {} of {} bytes", output.stdout.len(), big.len());
        assert_eq!(text(&host.with_input("ssh", &[HOST], "echo $0; exit 3\n")), "/bin/sh\n", "{kind}");
        assert_eq!(text(&host.ssh(&["-tt", HOST, "test -t 0 && test -t 2 && echo $TERM"])), "xterm\r\n", "{kind}");
        assert_eq!(text(&host.ssh(&[&format!("root@{HOST}"), "id -u"])), "0\n", "{kind}");
        let nobody = host.ssh(&[&format!("harbour@{HOST}"), "id"]);
        assert!(told(&nobody).contains("there is no account harbour inside"), "{kind}: {}", told(&nobody));
        // 255 is what OpenSSH's client makes of a signal.
        assert_eq!(host.ssh(&[HOST, "kill -9 $$"]).status.code(), Some(255), "{kind}");
        // What goes on with the output open is not waited for.
        let begun = Instant::now();
        assert_eq!(text(&host.ssh(&[HOST, "sleep 77 & echo gone"])), "gone\n", "{kind}");
        assert!(begun.elapsed() < Duration::from_secs(20), "{kind}");
        // A client that is killed takes its command along.
        let mut child =
            host.client("ssh", &[HOST, "echo $$ > /tmp/pid; exec sleep 88"]).stdin(Stdio::piped()).spawn().unwrap();
        soon("the command runs", || host.inside("cat /tmp/pid 2>/dev/null || true").trim().parse::<u32>().is_ok());
        kill(&mut child);
        soon("the command ends", || host.inside("kill -0 $(cat /tmp/pid) 2>/dev/null || echo ended") == "ended\n");
        let unknown = host.ssh(&["pier.cavrith", "id"]);
        assert!(told(&unknown).contains("there is no workspace pier"), "{kind}: {}", told(&unknown));
        // One that does not run is started.
        host.who.ok(&["stop", "-q"]);
        assert_eq!(text(&host.ssh(&[HOST, "echo again"])), "again\n", "{kind}");
        host.who.ok(&["stop", "-q"]);
        assert!(host.who.run(&["ssh-proxy", "timetable"]).status.code() != Some(0), "{kind}");
    }
}

fn kill(child: &mut Child) {
    child.kill().unwrap();
    child.wait().unwrap();
}

#[test]
fn files_are_carried_by_sftp_and_scp() {
    for host in Host::each() {
        let kind = host.who.kind;
        let dir = host.who.dir();
        fs::create_dir(dir.join("piers")).unwrap();
        fs::write(dir.join("piers/north pier"), "Brindle").unwrap();
        std::os::unix::fs::symlink("north pier", dir.join("piers/first")).unwrap();
        let copied = host.client("scp", &["-r", "-q", "piers", &format!("{HOST}:/tmp/p")]).output().unwrap();
        assert!(copied.status.success(), "{kind}: {}", told(&copied));
        assert_eq!(
            host.inside("cat '/tmp/p/north pier' /tmp/p/first; stat -c %U /tmp/p/first"),
            "BrindleBrindlecrew\n"
        );
        let batch = "ls -l /tmp/p\nrename /tmp/p/first /tmp/p/second\nmkdir /tmp/p/in\nput ssh-config /tmp/p/in/c\nchmod 600 /tmp/p/in/c\n\
                     symlink c /tmp/p/in/l\nln /tmp/p/in/c /tmp/p/in/h\ndf /tmp/p\n-rm /etc/group\nget -r /tmp/p/in back\n";
        let output = host.with_input("sftp", &["-q", "-b", "-", HOST], batch);
        assert!(output.status.success(), "{kind}: {}", told(&output));
        assert!(
            text(&output).contains("-rw-r--r--") && text(&output).contains("north pier"),
            "{kind}: {}",
            text(&output)
        );
        assert_eq!(
            host.inside("stat -c '%a %h' /tmp/p/in/c; readlink /tmp/p/in/l; cat /tmp/p/second"),
            "600 2\nc\nBrindle"
        );
        // Where there is one owner, everything is theirs.
        let still = host.inside("test -f /etc/group && echo there || echo gone");
        assert_eq!(still, if kind == "single" { "gone\n" } else { "there\n" }, "{kind}");
        assert_eq!(fs::read(dir.join("back/h")).unwrap(), fs::read(&host.config).unwrap(), "{kind}");
        host.who.ok(&["stop", "-q"]);
    }
}

#[test]
fn ports_are_carried_both_ways_and_an_agent_is_asked() {
    for host in Host::each() {
        let kind = host.who.kind;
        let free = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let mut child = host.client("ssh", &["-N", "-L", &format!("{free}:localhost:8080"), HOST]).spawn().unwrap();
        let mut answer = String::new();
        soon("the site answers", || {
            let Ok(mut stream) = TcpStream::connect(("127.0.0.1", free)) else { return false };
            stream.write_all(b"GET / HTTP/1.0\r\n\r\n").unwrap();
            stream.read_to_string(&mut answer).is_ok() && !answer.is_empty()
        });
        assert!(answer.contains("<html"), "{kind}: {answer}");
        kill(&mut child);
        let outside = TcpListener::bind("127.0.0.1:0").unwrap();
        let there = outside.local_addr().unwrap();
        let serving = std::thread::spawn(move || {
            let (mut stream, _) = outside.accept().unwrap();
            stream.write_all(b"HTTP/1.0 200 OK\r\nContent-Length: 5\r\n\r\nFerry").unwrap();
            let mut heard = [0; 4];
            stream.read_exact(&mut heard).unwrap();
            heard
        });
        let output = host.ssh(&["-R", &format!("4242:{there}"), HOST, "wget -q -O - http://localhost:4242/"]);
        assert_eq!(text(&output), "Ferry", "{kind}: {}", told(&output));
        assert_eq!(&serving.join().unwrap(), b"GET ", "{kind}");
        // The port has gone with the connection.
        assert!(host.inside("wget -q -O - http://localhost:4242/ 2>&1 || true").contains("refused"), "{kind}");
        host.who.ok(&["stop", "-q"]);
    }
}

/// A visitor with a key of their own.
struct Visitor<'a> {
    of: &'a Someone,
    key: PathBuf,
    home: tempfile::TempDir,
}

impl<'a> Visitor<'a> {
    fn new(of: &'a Someone) -> Self {
        let home = tempfile::tempdir().unwrap();
        let key = home.path().join("key");
        let made = Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&key).status().unwrap();
        assert!(made.success());
        Self { of, key, home }
    }

    /// The link that they are given.
    fn invited(&self, rights: &[&str]) -> String {
        let line = fs::read_to_string(self.key.with_extension("pub")).unwrap();
        let output = self.of.ok(&[&["invite", "jonas", "--key", line.trim()][..], rights].concat());
        let link = output.trim().strip_prefix("cavrith visit '").and_then(|link| link.strip_suffix('\''));
        link.unwrap_or_else(|| panic!("{output}")).to_owned()
    }

    fn visit(&self, link: &str, arguments: &[&str]) -> Command {
        let mut command = Command::new(crate::team::PROGRAM);
        command.env("HOME", self.home.path()).env("CAVRITH_HOME", self.home.path()).env_remove("SSH_AUTH_SOCK");
        command.args(["visit", link, "--key"]).arg(&self.key).args(arguments).stdin(Stdio::null());
        command
    }

    fn run(&self, link: &str, script: &str) -> Output {
        self.visit(link, &["--", script]).output().unwrap()
    }

    /// OpenSSH itself, to be asked by hand.
    fn client(&self, link: &str) -> Command {
        let mut command = Command::new("ssh");
        let unknown = ["-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"];
        command.args(["-F", "none", "-o", "BatchMode=yes"]).args(unknown);
        command.args(["-o", "IdentitiesOnly=yes", "-o", "IdentityAgent=none", "-i"]).arg(&self.key);
        command.args(["-p", &port_of(link).to_string()]);
        command
    }

    fn ssh(&self, link: &str, arguments: &[&str]) -> Output {
        self.client(link).args(arguments).stdin(Stdio::null()).output().unwrap()
    }
}

/// The port that a link to this machine leads to.
fn port_of(link: &str) -> u16 {
    link.split("at=127.0.0.1:").nth(1).unwrap().split('&').next().unwrap().parse().unwrap()
}

#[test]
fn a_visitor_may_what_was_said_until_it_is_over_and_leaves_nothing_behind() {
    for who in Someone::each(Team::locked) {
        let kind = who.kind;
        who.ok(&["start", "-q", "--wait"]);
        let visitor = Visitor::new(&who);
        let nothing = who.run(&["invite", "jonas", "--key", "x y"]);
        assert!(told(&nothing).contains("say what they may do"), "{kind}: {}", told(&nothing));
        let link = visitor.invited(&["--shell"]);
        let output = visitor.run(&link, "id -un; echo ${EDITOR-none}; exit 4");
        assert_eq!(
            (output.status.code(), text(&output).as_str()),
            (Some(4), "crew\nnone\n"),
            "{kind}: {}",
            told(&output)
        );
        // Another key opens nothing, nor does another machine's key pass for this one.
        let stranger = Visitor::new(&who);
        let refused = stranger.run(&link, "id");
        assert_eq!((refused.status.code(), text(&refused).as_str()), (Some(255), ""), "{kind}: {}", told(&refused));
        let key = fs::read_to_string(stranger.key.with_extension("pub")).unwrap();
        let forged =
            format!("{}key=ssh-ed25519%20{}", link.split("key=").next().unwrap(), key.split(' ').nth(1).unwrap());
        let output = visitor.run(&forged, "echo let in");
        assert!(
            !told(&output).contains("let in") && told(&output).contains("verification failed"),
            "{kind}: {}",
            told(&output)
        );
        // Nothing of the member's: no other account, no port of theirs, no agent.
        assert_eq!(text(&visitor.ssh(&link, &["root@127.0.0.1", "id -un"])), "crew\n", "{kind}");
        let output =
            visitor.ssh(&link, &["-o", "ExitOnForwardFailure=yes", "-R", "4243:127.0.0.1:1", "127.0.0.1", "echo in"]);
        assert!(!text(&output).contains("in\n"), "{kind}: {}", told(&output));
        // What they leave running ends with the visit, whatever it does about that.
        visitor.run(&link, "env -i setsid nohup sleep 444 >/dev/null 2>&1 & sleep 0.2");
        let script = "trap '' HUP TERM INT; env -i setsid sleep 445 & echo up; while :; do sleep 1; done";
        let mut staying =
            visitor.visit(&link, &["--", script]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        staying.stdout.as_mut().unwrap().read_exact(&mut [0; 3]).unwrap();
        let status = who.ok(&["status"]);
        assert!(status.contains("jonas may run programs") && status.contains("is there now"), "{kind}: {status}");
        assert!(who.ok(&["run", "-q", "--", "ps"]).contains("sleep 445"), "{kind}");
        who.ok(&["invite", "jonas", "--end"]);
        let ended = staying.wait_with_output().unwrap();
        assert!(String::from_utf8_lossy(&ended.stderr).contains("the invitation is over"), "{kind}");
        soon("nothing of theirs runs", || !who.ok(&["run", "-q", "--", "ps"]).contains("sleep 44"));
        assert_eq!(visitor.run(&link, "id").status.code(), Some(255), "{kind}");
        let log = who.ok(&["logs", "visitors"]);
        assert!(
            log.contains("jonas ran id -un") && log.contains("jonas left") && log.contains("may not come any more"),
            "{kind}: {log}"
        );
        who.ok(&["stop", "-q"]);
    }
}

#[test]
fn whoever_may_look_changes_nothing_and_reaches_one_port() {
    for who in Someone::each(Team::locked) {
        let kind = who.kind;
        who.ok(&["start", "-q", "--wait"]);
        let visitor = Visitor::new(&who);
        let link = visitor.invited(&["--read-only", "--port", "site", "--for", "2 h"]);
        assert!(told(&visitor.run(&link, "id")).contains("you were let in without a shell"), "{kind}");
        let mut files = visitor
            .visit(&link, &["--files"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let batch = format!(
            "put /etc/hostname /tmp/x\nrm /code/serve.sh\nget /code/serve.sh {0}/copy\n",
            visitor.home.path().display()
        );
        files.stdin.take().unwrap().write_all(batch.as_bytes()).unwrap();
        let told_by = told(&files.wait_with_output().unwrap());
        assert_eq!(told_by.matches("Permission denied").count(), 2, "{kind}: {told_by}");
        assert!(visitor.home.path().join("copy").exists(), "{kind}");
        assert_eq!(who.ok(&["run", "-q", "--", "sh", "-c", "ls /tmp/x 2>/dev/null || ls serve.sh"]), "serve.sh\n");
        // One port, and no other machine's.
        assert!(text(&visitor.ssh(&link, &["-W", "localhost:8081", "127.0.0.1"])).is_empty(), "{kind}");
        let other = visitor.ssh(&link, &["-W", "192.0.2.1:8080", "127.0.0.1"]);
        assert!(told(&other).contains("administratively prohibited"), "{kind}: {}", told(&other));
        let mut site = visitor.client(&link);
        site.args(["-W", "localhost:8080", "127.0.0.1"]);
        let mut site = site.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        site.stdin.as_mut().unwrap().write_all(b"GET / HTTP/1.0\r\n\r\n").unwrap();
        let answer = text(&site.wait_with_output().unwrap());
        assert!(answer.contains("<html"), "{kind}: {answer}");
        // It holds over a restart; and what is over is over, whoever was there.
        who.ok(&["restart", "-q", "--wait"]);
        assert!(told(&visitor.run(&link, "id")).contains("you were let in without a shell"), "{kind}");
        let short = visitor.invited(&["--shell", "--for", "8 s"]);
        let begun = Instant::now();
        let ended = visitor.run(&short, "echo in; sleep 60");
        assert!(text(&ended) == "in\n" && ended.status.code() == Some(255), "{kind}: {}", told(&ended));
        assert!(begun.elapsed() < Duration::from_secs(40), "{kind}");
        assert!(who.ok(&["invite"]).contains("nobody is invited"), "{kind}");
        who.ok(&["stop", "-q"]);
    }
}

#[test]
fn noise_and_strangers_at_the_door_harm_nobody() {
    for who in Someone::each(Team::locked).take(1) {
        who.ok(&["start", "-q", "--wait"]);
        let visitor = Visitor::new(&who);
        let link = visitor.invited(&["--shell"]);
        let port = port_of(&link);
        let connect = || TcpStream::connect(("127.0.0.1", port)).unwrap();
        // Whoever says nothing holds a place, and not for ever; whoever talks nonsense is gone.
        let silent: Vec<_> = (0..6).map(|_| connect()).collect();
        for junk in [&b"GET / HTTP/1.1\r\n\r\n"[..], &[0; 4096], &[255; 4096], b"SSH-2.0-x\r\n\xff\xff\xff\xff\x01\x14"]
        {
            for _ in 0..25 {
                let mut stream = connect();
                let _ = stream.write_all(junk);
                let _ = stream.set_read_timeout(Some(Duration::from_secs(5)));
                let _ = stream.shutdown(std::net::Shutdown::Write);
                let _ = stream.read_to_end(&mut Vec::new());
            }
        }
        assert_eq!(text(&visitor.run(&link, "echo in")), "in\n");
        drop(silent);
        assert!(who.ok(&["status"]).contains("running"));
        who.ok(&["stop", "-q"]);
        who.team.assert_clean();
    }
}

#[test]
fn a_visitor_s_terminal_is_seen_and_typed_into_by_their_host() {
    for who in Someone::each(Team::locked).take(1) {
        who.ok(&["start", "-q", "--wait"]);
        let visitor = Visitor::new(&who);
        let link = visitor.invited(&["--shell"]);
        let none = crate::terminals::shown_in(&who.team, &["invite", "jonas", "--look"], (30, 100), "cat", &[]);
        assert!(none.0.contains("jonas has no terminal open"), "{}", none.0);
        let mut ssh = visitor.client(&link);
        ssh.args(["-tt", "127.0.0.1"]);
        let mut ssh = ssh.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        soon("they are there", || who.ok(&["status"]).contains("is there now"));
        let mut keys = ssh.stdin.take().unwrap();
        let (end, ended) = std::sync::mpsc::channel::<()>();
        let typing = std::thread::spawn(move || {
            while ended.recv_timeout(Duration::from_millis(200)).is_err() {
                keys.write_all(b"echo from-the-visitor\r").unwrap();
            }
            keys.write_all(b"exit 3\r").unwrap();
            keys
        });
        let typed = [("from-the-visitor", "echo by-$((40 + 2))-host\r"), ("by-42-host", "\u{1d}")];
        let (seen, code) =
            crate::terminals::shown_in(&who.team, &["invite", "jonas", "--look"], (30, 100), "cat", &typed);
        assert_eq!(code, Some(0), "{seen}");
        end.send(()).unwrap();
        drop(typing.join().unwrap());
        let output = ssh.wait_with_output().unwrap();
        // Both had it on their screens; the visitor's shell went on, and ended as they ended it.
        assert!(text(&output).contains("by-42-host") && output.status.code() == Some(3), "{}", told(&output));
        who.ok(&["stop", "-q"]);
    }
}
